//! WS-Discovery over UDP (IPv4): probes out, answers in.
//!
//! Not done: IPv6 multicast, discovery proxies, Hello and Bye.

use crate::clock;
use lattice_core::Mono;
use lattice_core::onvif::{MAX_DATAGRAM, Match, probe, probe_matches};
use socket2::{Domain, Protocol, Socket, Type};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::time::Duration;
use tokio::net::UdpSocket;
use tokio::sync::mpsc;

/// Where probes are heard (WS-Discovery §2.4).
pub const GROUP: SocketAddr = SocketAddr::new(IpAddr::V4(Ipv4Addr::new(239, 255, 255, 250)), 3702);
/// A probe is sent this often in all: the network may lose one.
const PROBES: u32 = 3;
const BETWEEN: Duration = Duration::from_millis(350);
/// Answers in flight to whoever listens; more than that at once are read later, from the socket.
const IN_FLIGHT: usize = 256;

/// Hosts that are asked one by one share at most so many sockets.
const HOST_SOCKETS: usize = 32;

/// A device that answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Heard {
    /// Where the answer came from.
    pub from: SocketAddr,
    /// What it says.
    pub answer: Match,
    /// When it came.
    pub at: Mono,
}

/// Sends probes from these addresses of this machine, each through its own interface, and to these hosts one by
/// one; answers come until `window` has passed. Multicast never takes the default route by itself.
///
/// # Errors
/// The system's, when not one of the sockets could be made.
pub fn discover(from: &[Ipv4Addr], hosts: &[Ipv4Addr], window: Duration) -> io::Result<mpsc::Receiver<Heard>> {
    let (sender, receiver) = mpsc::channel(IN_FLIGHT);
    let mut last = None;
    let mut sockets = 0;
    for address in from {
        match multicast_socket(*address) {
            Ok(socket) => {
                tokio::spawn(ask(socket, vec![GROUP], window, sender.clone()));
                sockets += 1;
            }
            Err(error) => last = Some(error),
        }
    }
    // A host that floods its socket does not drown what others answer on theirs.
    for hosts in hosts.chunks(hosts.len().div_ceil(HOST_SOCKETS).max(1)) {
        let to = hosts.iter().map(|host| SocketAddr::new(IpAddr::V4(*host), GROUP.port())).collect();
        match unicast_socket() {
            Ok(socket) => {
                tokio::spawn(ask(socket, to, window, sender.clone()));
                sockets += 1;
            }
            Err(error) => last = Some(error),
        }
    }
    match last {
        Some(error) if sockets == 0 => Err(error),
        _ => Ok(receiver),
    }
}

fn multicast_socket(from: Ipv4Addr) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.set_multicast_if_v4(&from)?;
    socket.set_multicast_loop_v4(true)?;
    socket.set_multicast_ttl_v4(1)?;
    let _ = socket.set_recv_buffer_size(1 << 20);
    socket.bind(&SocketAddr::from((from, 0)).into())?;
    UdpSocket::from_std(socket.into())
}

fn unicast_socket() -> io::Result<UdpSocket> {
    let socket = std::net::UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0))?;
    socket.set_nonblocking(true)?;
    UdpSocket::from_std(socket)
}

async fn ask(socket: UdpSocket, to: Vec<SocketAddr>, window: Duration, sender: mpsc::Sender<Heard>) {
    let question = probe(rand::random());
    let end = tokio::time::Instant::now() + window;
    let mut next = tokio::time::Instant::now();
    let mut sent = 0;
    let mut buffer = vec![0; MAX_DATAGRAM];
    loop {
        tokio::select! {
            () = tokio::time::sleep_until(end) => return,
            () = tokio::time::sleep_until(next), if sent < PROBES => {
                for to in &to {
                    let _ = socket.send_to(question.as_bytes(), to).await; // the next one may get through
                }
                sent += 1;
                next += BETWEEN;
            }
            received = socket.recv_from(&mut buffer) => {
                // An error here is an ICMP answer to one of the probes: that host does not listen.
                let Ok((length, from)) = received else { continue };
                let at = clock::now();
                for answer in probe_matches(buffer.get(..length).unwrap_or_default()) {
                    if sender.send(Heard { from, answer, at }).await.is_err() {
                        return;
                    }
                }
            }
        }
    }
}
