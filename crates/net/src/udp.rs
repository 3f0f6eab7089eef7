//! A pair of UDP sockets for RTP and RTCP (RFC 3550 §11), read many datagrams at a time with the
//! kernel's arrival times.
//!
//! The receiving thread naps between readings, which is what makes receiving cheap; the kernel's
//! stamps keep that nap out of jitter and latency.

use lattice_core::{ClockPair, Mono, Wall};
use nix::sys::socket::{ControlMessageOwned, MsgFlags, MultiHeaders, SockaddrStorage, recvmmsg, setsockopt, sockopt};
use nix::sys::time::TimeSpec;
use std::cell::RefCell;
use std::io::{self, IoSliceMut};
use std::net::{IpAddr, SocketAddr};
use std::os::fd::AsRawFd as _;
use tokio::io::Interest;
use tokio::net::UdpSocket;

/// Datagrams read by one call.
const BATCH: usize = 32;
/// Calls in a row for one source: 512 datagrams are more than any camera sends in a nap of the thread.
const BATCHES: usize = 16;
/// Room for the largest datagram; the buffers are one set per thread, not per socket.
const DATAGRAM: usize = 65_536;
/// Asked of the kernel: half a second of 64 Mbit/s.
const SOCKET_BUFFER: usize = 4 << 20;

thread_local! {
    static BUFFERS: RefCell<Vec<Vec<u8>>> = RefCell::new(vec![vec![0; DATAGRAM]; BATCH]);
}

/// RTP on an even port, RTCP on the next.
pub struct UdpPair {
    rtp: UdpSocket,
    rtcp: UdpSocket,
    kernel_drops: u32,
    /// When the sockets were empty last: nothing that is read later came before.
    emptied: (Mono, Mono),
}

impl UdpPair {
    /// Binds a pair on this address.
    ///
    /// # Errors
    /// The system's, when no even port with a free neighbour was found.
    pub fn bind(ip: IpAddr) -> io::Result<Self> {
        let mut last = io::Error::other("no even port with a free neighbour");
        for _ in 0..50 {
            let rtp = std::net::UdpSocket::bind((ip, 0))?;
            let port = rtp.local_addr()?.port();
            if port % 2 == 1 || port == u16::MAX {
                continue;
            }
            match std::net::UdpSocket::bind((ip, port + 1)) {
                Ok(rtcp) => {
                    return Ok(Self {
                        rtp: prepare(rtp)?,
                        rtcp: prepare(rtcp)?,
                        kernel_drops: 0,
                        emptied: (Mono::ZERO, Mono::ZERO),
                    });
                }
                Err(error) => last = error,
            }
        }
        Err(last)
    }

    /// The two ports.
    ///
    /// # Errors
    /// The system's, which would mean that the sockets are gone.
    pub fn ports(&self) -> io::Result<(u16, u16)> {
        Ok((self.rtp.local_addr()?.port(), self.rtcp.local_addr()?.port()))
    }

    /// The address it is bound to.
    ///
    /// # Errors
    /// The system's, which would mean that the sockets are gone.
    pub fn ip(&self) -> io::Result<IpAddr> {
        Ok(self.rtp.local_addr()?.ip())
    }

    /// Waits until either has something. Cancel safe: nothing is read.
    pub async fn readable(&self) {
        tokio::select! {
            _ = self.rtp.readable() => {}
            _ = self.rtcp.readable() => {}
        }
    }

    /// Reads RTP that is there, giving each datagram with its arrival and sender; and what the kernel dropped. Of very many
    /// only some are read at a time: other sources have their turn, and the rest is there when this one is asked again.
    pub fn read_rtp(&mut self, pair: ClockPair, mut take: impl FnMut(Mono, Option<SocketAddr>, &[u8])) -> u64 {
        let mut drops = self.kernel_drops;
        read_some(&self.rtp, pair, &mut self.emptied.0, &mut drops, &mut take);
        let lost = drops.wrapping_sub(self.kernel_drops);
        self.kernel_drops = drops;
        u64::from(lost)
    }

    /// Reads RTCP that is there, in the same way.
    pub fn read_rtcp(&mut self, pair: ClockPair, mut take: impl FnMut(Mono, Option<SocketAddr>, &[u8])) {
        read_some(&self.rtcp, pair, &mut self.emptied.1, &mut 0, &mut take);
    }

    /// Sends an RTCP compound; one that does not go out is no harm.
    pub fn send_rtcp(&self, bytes: &[u8], to: SocketAddr) {
        let _ = self.rtcp.try_send_to(bytes, to);
    }
}

fn prepare(socket: std::net::UdpSocket) -> io::Result<UdpSocket> {
    socket.set_nonblocking(true)?;
    // A larger buffer than the limit needs privilege; take what is given.
    if setsockopt(&socket, sockopt::RcvBufForce, &SOCKET_BUFFER).is_err() {
        let _ = socket2::SockRef::from(&socket).set_recv_buffer_size(SOCKET_BUFFER);
    }
    setsockopt(&socket, sockopt::ReceiveTimestampns, &true)?;
    setsockopt(&socket, sockopt::RxqOvfl, &1)?;
    UdpSocket::from_std(socket)
}

/// Reads what is there, at most [`BATCHES`].
fn read_some(
    socket: &UdpSocket,
    pair: ClockPair,
    emptied: &mut Mono,
    drops: &mut u32,
    take: &mut impl FnMut(Mono, Option<SocketAddr>, &[u8]),
) {
    for _ in 0..BATCHES {
        if !read_batch(socket, (pair, *emptied), drops, take) {
            *emptied = pair.mono;
            return;
        }
    }
}

/// Whether more may wait. A batch that is not full has emptied the socket, and the runtime is told so
/// without another call; what comes after it is a new event.
fn read_batch(
    socket: &UdpSocket,
    (pair, emptied): (ClockPair, Mono),
    drops: &mut u32,
    take: &mut impl FnMut(Mono, Option<SocketAddr>, &[u8]),
) -> bool {
    let mut read = |buffers: &mut Vec<Vec<u8>>| {
        let control = nix::cmsg_space!(TimeSpec, u32);
        let mut headers = MultiHeaders::<SockaddrStorage>::preallocate(BATCH, Some(control));
        let mut slices: Vec<[IoSliceMut<'_>; 1]> = buffers.iter_mut().map(|buffer| [IoSliceMut::new(buffer)]).collect();
        let received = recvmmsg(socket.as_raw_fd(), &mut headers, slices.iter_mut(), MsgFlags::MSG_DONTWAIT, None)?;
        let mut count = 0;
        for message in received {
            count += 1;
            let mut arrival = pair.mono;
            for control in message.cmsgs().into_iter().flatten() {
                match control {
                    ControlMessageOwned::ScmTimestampns(at) => arrival = arrived(pair, emptied, at),
                    ControlMessageOwned::RxqOvfl(total) => *drops = total,
                    _ => {}
                }
            }
            let from = message.address.as_ref().and_then(sender);
            if let Some(bytes) = message.iovs().next() {
                take(arrival, from, bytes);
            }
        }
        Ok(count)
    };
    let attempt = || {
        let count =
            BUFFERS.with_borrow_mut(|buffers| read(buffers).map_err(|error: nix::errno::Errno| io::Error::from(error)))?;
        if count < BATCH { Err(io::ErrorKind::WouldBlock.into()) } else { Ok(()) }
    };
    socket.try_io(Interest::READABLE, attempt).is_ok()
}

fn sender(address: &SockaddrStorage) -> Option<SocketAddr> {
    let v4 = address.as_sockaddr_in().map(|v4| SocketAddr::from((v4.ip(), v4.port())));
    v4.or_else(|| address.as_sockaddr_in6().map(|v6| SocketAddr::from((v6.ip(), v6.port()))))
}

/// One port that somebody pushes to.
pub(crate) struct UdpPort {
    socket: UdpSocket,
    kernel_drops: u32,
    emptied: Mono,
}

impl UdpPort {
    /// Takes a bound socket over.
    pub fn new(socket: std::net::UdpSocket) -> io::Result<Self> {
        Ok(Self { socket: prepare(socket)?, kernel_drops: 0, emptied: Mono::ZERO })
    }

    /// Waits until there is something. Cancel safe: nothing is read.
    pub async fn readable(&self) {
        let _ = self.socket.readable().await;
    }

    /// Reads what is there, giving each datagram with its arrival and sender; and how many the kernel dropped.
    pub fn read(&mut self, pair: ClockPair, mut take: impl FnMut(Mono, Option<SocketAddr>, &[u8])) -> u64 {
        let mut drops = self.kernel_drops;
        read_some(&self.socket, pair, &mut self.emptied, &mut drops, &mut take);
        let lost = drops.wrapping_sub(self.kernel_drops);
        self.kernel_drops = drops;
        u64::from(lost)
    }
}

/// The kernel stamps by the wall clock, `pair` was read just now, and the socket was empty at `emptied`. Where the wall clock was
/// set meanwhile, a stamp lies outside of the two: the nearer one is taken, and no step of it gets into jitter.
fn arrived(pair: ClockPair, emptied: Mono, at: TimeSpec) -> Mono {
    let wall = Wall::from_unix_micros(at.tv_sec() * 1_000_000 + at.tv_nsec() / 1000);
    pair.mono_at(wall).max(emptied).min(pair.mono)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_of_the_wall_clock_moves_no_arrival_out_of_its_reading() {
        let at = Mono::from_millis;
        let pair = ClockPair { mono: at(5_000), wall: Wall::from_unix_micros(1_795_500_000_000_000) };
        let stamp =
            |micros: i64| TimeSpec::new(1_795_500_000 + micros.div_euclid(1_000_000), micros.rem_euclid(1_000_000) * 1000);
        for (what, micros, arrival) in [
            ("as it should", -3_000, at(4_997)),
            ("set forward by an hour after it came", -3_600_000_000, at(4_990)),
            ("set back by an hour after it came", 3_600_000_000, at(5_000)),
        ] {
            assert_eq!(arrived(pair, at(4_990), stamp(micros)), arrival, "{what}");
        }
    }
}
