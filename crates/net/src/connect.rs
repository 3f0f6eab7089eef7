//! From a name to a connection, each step with its own answer.

use crate::outcome::Outcome;
use lattice_core::{Cause, SourceUrl};
use std::io::ErrorKind;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::time::timeout;

const RESOLVE_WITHIN: Duration = Duration::from_secs(5);
const CONNECT_WITHIN: Duration = Duration::from_secs(4);
/// Addresses of one name that are tried.
const MAX_ADDRESSES: usize = 4;

/// Connects to the host of a URL.
pub async fn connect(url: &SourceUrl) -> Result<TcpStream, Outcome> {
    let (host, port) = (url.host(), url.port());
    let unresolved = |why: &str| Outcome::Failed(Cause::Unresolved, format!("the name {host} does not resolve{why}"));
    let addresses: Vec<SocketAddr> = match timeout(RESOLVE_WITHIN, tokio::net::lookup_host((host, port))).await {
        Err(_) => return Err(unresolved(" within 5 s")),
        Ok(Err(_)) => return Err(unresolved("")),
        Ok(Ok(found)) => found.take(MAX_ADDRESSES).collect(),
    };
    let mut last = unresolved("");
    for address in addresses {
        match timeout(CONNECT_WITHIN, TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                let _ = stream.set_nodelay(true);
                return Ok(stream);
            }
            Ok(Err(error)) if error.kind() == ErrorKind::ConnectionRefused => {
                last = Outcome::Failed(Cause::PortClosed, format!("{address} refuses connections"));
            }
            Ok(Err(error)) => {
                last = Outcome::Failed(Cause::Unreachable, format!("{address} cannot be reached: {}", plain(&error)));
            }
            Err(_) => last = Outcome::Failed(Cause::Unreachable, format!("{address} did not answer within 4 s")),
        }
    }
    Err(last)
}

fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or("").to_lowercase()
}
