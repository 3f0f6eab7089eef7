//! From a name to a connection, each step with its own answer.

use lattice_core::Cause;
use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::time::timeout;

const RESOLVE_WITHIN: Duration = Duration::from_secs(5);
const CONNECT_WITHIN: Duration = Duration::from_secs(4);
/// Addresses of one name that are tried.
const MAX_ADDRESSES: usize = 4;

/// Connects to a host, or to the address that it has been resolved to; else the cause and one sentence.
pub async fn connect_to(host: &str, port: u16, address: Option<SocketAddr>) -> Result<TcpStream, (Cause, String)> {
    let addresses: Vec<IpAddr> = match address {
        Some(address) => vec![address.ip()],
        None => crate::reach::resolve(host, RESOLVE_WITHIN).await.map_err(|text| (Cause::Unresolved, text))?,
    };
    let mut last = (Cause::Unresolved, format!("the name {host} does not resolve"));
    for address in addresses.into_iter().take(MAX_ADDRESSES).map(|ip| SocketAddr::new(ip, port)) {
        match timeout(CONNECT_WITHIN, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                let _ = stream.set_nodelay(true);
                return Ok(stream);
            }
            Ok(Err(error)) if error.kind() == ErrorKind::ConnectionRefused => {
                last = (Cause::PortClosed, format!("{address} refuses connections"));
            }
            Ok(Err(error)) => last = (Cause::Unreachable, format!("{address} cannot be reached: {}", plain(&error))),
            Err(_) => last = (Cause::Unreachable, format!("{address} did not answer within 4 s")),
        }
    }
    Err(last)
}

/// An error of the system in its own words, without its number.
pub(crate) fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or("").to_lowercase()
}
