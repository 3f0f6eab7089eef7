//! From a name to a connection, each step with its own answer.

use lattice_core::Cause;
use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::{sleep, timeout};

const RESOLVE_WITHIN: Duration = Duration::from_secs(5);
const CONNECT_WITHIN: Duration = Duration::from_secs(4);
/// A host that has not answered is asked again beside: after a restart of it, or of a link, the first question was lost.
const ASK_AGAIN: Duration = Duration::from_secs(1);
/// While a port is shut it is knocked at this often.
const KNOCK_EVERY: Duration = Duration::from_secs(1);
/// A name is looked up at each knock: those are fewer.
const KNOCK_NAMED_EVERY: Duration = Duration::from_secs(5);
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
        match timeout(CONNECT_WITHIN, connect_again(address)).await {
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

/// Connects, with another try each second beside those that have no answer yet; the first to be answered counts.
async fn connect_again(address: SocketAddr) -> std::io::Result<TcpStream> {
    let mut tries = JoinSet::new();
    loop {
        tries.spawn(TcpStream::connect(address));
        match timeout(ASK_AGAIN, tries.join_next()).await {
            Ok(Some(Ok(answer))) => return answer,
            Ok(_) => return Err(ErrorKind::Interrupted.into()),
            Err(_) => {}
        }
    }
}

/// Ends when a port takes connections again that took none; never where none is given.
pub(crate) async fn opened(door: Option<(String, u16)>) {
    let Some((host, port)) = door else { return std::future::pending().await };
    let every = if host.parse::<IpAddr>().is_ok() { KNOCK_EVERY } else { KNOCK_NAMED_EVERY };
    loop {
        sleep(every).await;
        if let Ok(Ok(_)) = timeout(every, TcpStream::connect((host.as_str(), port))).await {
            return;
        }
    }
}

/// An error of the system in its own words, without its number.
pub(crate) fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or("").to_lowercase()
}
