//! What can be learnt of a host before a stream is asked for: its addresses, the way to it, whether it
//! answers, whether a port is open.

use crate::clock;
use nix::ifaddrs::getifaddrs;
use nix::net::if_::InterfaceFlags;
use std::io::ErrorKind;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::time::timeout;

/// One of this machine's own addresses.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Interface {
    /// Name of the interface.
    pub name: String,
    /// The address.
    pub address: IpAddr,
    /// Leading bits that name the network.
    pub prefix: u8,
    /// It leads to this machine itself.
    pub loopback: bool,
    /// It takes multicast.
    pub multicast: bool,
}

impl Interface {
    /// Whether an address is on this interface's network.
    #[must_use]
    pub fn contains(&self, other: IpAddr) -> bool {
        match (self.address, other) {
            (IpAddr::V4(ours), IpAddr::V4(theirs)) => {
                same_bits(u32::from(ours).into(), u32::from(theirs).into(), 32, self.prefix)
            }
            (IpAddr::V6(ours), IpAddr::V6(theirs)) => same_bits(u128::from(ours), u128::from(theirs), 128, self.prefix),
            _ => false,
        }
    }
}

fn same_bits(a: u128, b: u128, width: u32, prefix: u8) -> bool {
    let shift = width.saturating_sub(u32::from(prefix));
    shift >= width || (a >> shift) == (b >> shift)
}

/// The addresses of this machine's interfaces that are up.
#[must_use]
pub fn interfaces() -> Vec<Interface> {
    let Ok(all) = getifaddrs() else { return Vec::new() };
    all.filter(|entry| entry.flags.contains(InterfaceFlags::IFF_UP))
        .filter_map(|entry| {
            let (address, mask) = (entry.address?, entry.netmask?);
            let (address, prefix) = if let (Some(address), Some(mask)) = (address.as_sockaddr_in(), mask.as_sockaddr_in()) {
                (IpAddr::V4(address.ip()), u32::from(mask.ip()).count_ones())
            } else {
                let (address, mask) = (address.as_sockaddr_in6()?, mask.as_sockaddr_in6()?);
                (IpAddr::V6(address.ip()), u128::from(mask.ip()).count_ones())
            };
            let loopback = entry.flags.contains(InterfaceFlags::IFF_LOOPBACK);
            let multicast = loopback || entry.flags.contains(InterfaceFlags::IFF_MULTICAST);
            Some(Interface { name: entry.interface_name, address, prefix: prefix as u8, loopback, multicast })
        })
        .collect()
}

/// Addresses of one name that are looked at.
const MAX_ADDRESSES: usize = 8;

/// The addresses of a host.
///
/// # Errors
/// One sentence when there are none, or none within `within`.
pub async fn resolve(host: &str, within: Duration) -> Result<Vec<IpAddr>, String> {
    if let Ok(address) = host.parse() {
        return Ok(vec![address]);
    }
    let found = match timeout(within, tokio::net::lookup_host((host, 0))).await {
        Err(_) => return Err(format!("the name {host} does not resolve within {} s", within.as_secs())),
        Ok(Err(_)) => return Err(format!("the name {host} does not resolve")),
        Ok(Ok(found)) => found,
    };
    let mut addresses: Vec<IpAddr> = Vec::new();
    for address in found.map(|address| address.ip()) {
        if !addresses.contains(&address) && addresses.len() < MAX_ADDRESSES {
            addresses.push(address);
        }
    }
    if addresses.is_empty() { Err(format!("the name {host} has no address")) } else { Ok(addresses) }
}

/// The way from this machine to an address.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Route {
    /// The address that packets leave from.
    pub from: IpAddr,
    /// The interface with that address.
    pub interface: Option<String>,
    /// The destination is on that interface's own network.
    pub same_subnet: bool,
    /// The destination is this machine.
    pub this_machine: bool,
}

/// Asks the system for the way to an address. Nothing is sent.
///
/// # Errors
/// One sentence when there is none.
pub fn route(to: IpAddr) -> Result<Route, String> {
    let any: IpAddr = if to.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { std::net::Ipv6Addr::UNSPECIFIED.into() };
    let no_way = |error: std::io::Error| format!("this machine has no way to {to}: {}", crate::connect::plain(&error));
    let socket = std::net::UdpSocket::bind((any, 0)).map_err(no_way)?;
    socket.connect((to, 9)).map_err(no_way)?;
    let from = socket.local_addr().map_err(no_way)?.ip();
    let all = interfaces();
    let ours = all.iter().find(|interface| interface.address == from);
    let this_machine = to.is_loopback() || all.iter().any(|interface| interface.address == to);
    let same_subnet = this_machine || all.iter().any(|interface| !interface.loopback && interface.contains(to));
    let name =
        ours.or_else(|| all.iter().find(|interface| interface.loopback && this_machine)).map(|interface| interface.name.clone());
    Ok(Route { from, interface: name, same_subnet, this_machine })
}

/// What became of a try to connect.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Knock {
    /// The port is open.
    Open(Duration),
    /// The host refuses the port: it is there.
    Refused(Duration),
    /// Nothing came back.
    Silent(Duration),
    /// The system says that the host cannot be reached, in its words.
    Unreachable(Duration, String),
}

/// Tries to connect, and closes at once.
pub async fn knock(to: SocketAddr, within: Duration) -> Knock {
    let began = clock::now();
    let answer = timeout(within, TcpStream::connect(to)).await;
    let took = clock::now().since(began);
    match answer {
        Ok(Ok(_)) => Knock::Open(took),
        Ok(Err(error)) if error.kind() == ErrorKind::ConnectionRefused => Knock::Refused(took),
        Ok(Err(error)) if error.kind() == ErrorKind::ConnectionReset => Knock::Refused(took),
        Ok(Err(error)) if error.kind() == ErrorKind::TimedOut => Knock::Silent(took),
        Ok(Err(error)) => Knock::Unreachable(took, crate::connect::plain(&error)),
        Err(_) => Knock::Silent(took),
    }
}

/// A network card's address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct HardwareAddress(pub [u8; 6]);

impl std::fmt::Display for HardwareAddress {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

impl std::str::FromStr for HardwareAddress {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        let bytes: Vec<u8> =
            text.split(':').map(|part| u8::from_str_radix(part, 16)).collect::<Result<_, _>>().map_err(|_| ())?;
        bytes.try_into().map(Self).map_err(|_| ())
    }
}

/// The network cards that this machine has heard of, by IPv4 address: those that answered it lately.
#[must_use]
pub fn neighbours() -> Vec<(IpAddr, HardwareAddress)> {
    let Ok(table) = std::fs::read_to_string("/proc/net/arp") else { return Vec::new() };
    let entry = |line: &str| {
        let mut words = line.split_whitespace();
        let address: IpAddr = words.next()?.parse().ok()?;
        let (flags, hardware) = (words.nth(1)?, words.next()?);
        // Bit 2 says that the entry is complete.
        let complete = u32::from_str_radix(flags.trim_start_matches("0x"), 16).is_ok_and(|flags| flags & 2 != 0);
        let hardware: HardwareAddress = hardware.parse().ok()?;
        (complete && hardware.0 != [0; 6]).then_some((address, hardware))
    };
    table.lines().skip(1).filter_map(entry).collect()
}

/// The card that answers for an address on this machine's own networks, if it is known.
#[must_use]
pub fn neighbour(of: IpAddr) -> Option<HardwareAddress> {
    neighbours().into_iter().find(|(address, _)| *address == of).map(|(_, hardware)| hardware)
}

/// Asks an IPv4 host for an echo (RFC 792), where the system lets a program without privileges do so.
/// `None` where it does not, or nothing came back.
pub async fn echo(to: IpAddr, within: Duration) -> Option<Duration> {
    let IpAddr::V4(address) = to else { return None };
    let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::DGRAM, Some(socket2::Protocol::ICMPV4)).ok()?;
    socket.set_nonblocking(true).ok()?;
    let socket = tokio::net::UdpSocket::from_std(socket.into()).ok()?;
    // Type 8, code 0; the kernel fills in identifier and checksum.
    let request = [8, 0, 0, 0, 0, 0, 0, 1, b'a', b'l'];
    let began = clock::now();
    socket.send_to(&request, SocketAddr::from((address, 0))).await.ok()?;
    let mut buffer = [0; 256];
    let answered = async {
        loop {
            let (_, from) = socket.recv_from(&mut buffer).await.ok()?;
            if from.ip() == to && buffer.first() == Some(&0) {
                return Some(clock::now().since(began));
            }
        }
    };
    timeout(within, answered).await.ok().flatten()
}

/// Whether what listens on a port answers a web request: to tell a web page's port from a stream's.
pub async fn is_web_server(to: SocketAddr) -> bool {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let asked = async {
        let mut stream = TcpStream::connect(to).await.ok()?;
        stream.write_all(b"HEAD / HTTP/1.0\r\n\r\n").await.ok()?;
        let mut head = [0; 5];
        stream.read_exact(&mut head).await.ok()?;
        Some(&head == b"HTTP/")
    };
    timeout(Duration::from_secs(2), asked).await.ok().flatten().unwrap_or(false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loopback_is_this_machine() {
        let route = route("127.77.0.11".parse().unwrap()).unwrap();
        assert!(route.this_machine && route.same_subnet);
        assert!(interfaces().iter().any(|interface| interface.loopback && interface.contains("127.5.5.5".parse().unwrap())));
    }

    #[test]
    fn networks_are_told_apart_by_their_prefix() {
        let on = |address: &str, prefix| Interface {
            name: "x".into(),
            address: address.parse().unwrap(),
            prefix,
            loopback: false,
            multicast: true,
        };
        let contains = |interface: &Interface, other: &str| interface.contains(other.parse().unwrap());
        assert!(contains(&on("192.0.2.1", 24), "192.0.2.254") && !contains(&on("192.0.2.1", 24), "192.0.3.1"));
        assert!(contains(&on("192.0.2.1", 0), "8.8.8.8") && contains(&on("2001:db8::1", 64), "2001:db8::ffff"));
    }

    #[tokio::test(flavor = "current_thread")]
    async fn ports_are_open_or_refused() {
        let listener = std::net::TcpListener::bind("127.77.9.1:0").unwrap();
        let to = listener.local_addr().unwrap();
        assert!(matches!(knock(to, Duration::from_secs(2)).await, Knock::Open(_)));
        drop(listener);
        assert!(matches!(knock(to, Duration::from_secs(2)).await, Knock::Refused(_)));
        assert!(resolve("no-such-name.invalid", Duration::from_secs(5)).await.is_err());
    }
}
