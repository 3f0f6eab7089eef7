//! Receiving and measuring beside a bare receive loop of the same packets, on loopback sockets.
//!
//! Each sample sends a second of a 2 Mbit/s stream in frames and times the receiving side alone.
#![allow(clippy::unwrap_used, missing_docs)]

use criterion::{Criterion, Throughput, criterion_group};
use lattice_core::meter::Meter;
use lattice_core::receiver::Receiver;
use lattice_core::rtp::{PayloadType, RtpPacket, Seq16, Ssrc};
use lattice_core::rtsp::{Frame, Framer};
use lattice_core::sdp::{Description, Video};
use lattice_core::{Mono, Transport};
use lattice_net::{UdpPair, clock};
use std::hint::black_box;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

type TakeDatagram = Box<dyn FnMut(Mono, &[u8])>;
type TakeStream = Box<dyn FnMut(&mut TcpStream, usize)>;

const FRAMES: usize = 25;
const PACKETS_A_FRAME: usize = 8;
const PAYLOAD: usize = 1250; // 25 × 8 × 1250 bytes: 2 Mbit/s

fn video() -> Video {
    Description::parse("m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\na=framerate:25").video().unwrap()
}

fn receiver(transport: Transport) -> Receiver {
    let mut receiver = Receiver::new(Meter::new(clock::now(), clock::pair(), false), Ssrc(1), false);
    receiver.begin(clock::now(), &video(), transport);
    receiver
}

/// The packets of frame `n`: a slice in FU-A fragments.
fn frame(n: usize) -> Vec<Vec<u8>> {
    (0..PACKETS_A_FRAME)
        .map(|part| {
            let mut payload = vec![0x5a; PAYLOAD];
            let flags = match part {
                0 => 0x80,
                part if part + 1 == PACKETS_A_FRAME => 0x40,
                _ => 0,
            };
            payload[..3].copy_from_slice(&[0x7c, flags | if n.is_multiple_of(50) { 5 } else { 1 }, 0x88]);
            let packet = RtpPacket {
                marker: part + 1 == PACKETS_A_FRAME,
                payload_type: PayloadType(96),
                seq: Seq16((n * PACKETS_A_FRAME + part) as u16),
                timestamp: (n * 3600) as u32,
                ssrc: Ssrc(7),
                payload: &payload,
            };
            let mut bytes = Vec::new();
            packet.emit(&mut bytes);
            bytes
        })
        .collect()
}

/// One way of receiving: sends a second of stream, times its reading.
type Way = Box<dyn FnMut() -> Duration>;

fn udp_way(mut take: TakeDatagram) -> Way {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let guard = runtime.enter();
    let mut pair = UdpPair::bind([127, 0, 0, 1].into()).unwrap();
    drop(guard);
    let target = ("127.0.0.1", pair.ports().unwrap().0);
    let sender = UdpSocket::bind("127.0.0.1:0").unwrap();
    let mut n = 0;
    Box::new(move || {
        (0..FRAMES).fold(Duration::ZERO, |total, _| {
            for packet in frame(n) {
                sender.send_to(&packet, target).unwrap();
            }
            n += 1;
            runtime.block_on(pair.readable());
            let started = Instant::now();
            pair.read_rtp(clock::pair(), |arrival, _, bytes| take(arrival, bytes));
            total + started.elapsed()
        })
    })
}

fn tcp_way(mut take: TakeStream) -> Way {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let mut sender = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
    let mut socket = listener.accept().unwrap().0;
    let mut n = 0;
    Box::new(move || {
        (0..FRAMES).fold(Duration::ZERO, |total, _| {
            let mut bytes = Vec::new();
            for packet in frame(n) {
                bytes.extend([b'$', 0]);
                bytes.extend((packet.len() as u16).to_be_bytes());
                bytes.extend(packet);
            }
            n += 1;
            sender.write_all(&bytes).unwrap();
            let started = Instant::now();
            take(&mut socket, bytes.len());
            total + started.elapsed()
        })
    })
}

fn udp_bare() -> Way {
    udp_way(Box::new(|_, bytes| {
        black_box(bytes);
    }))
}

fn udp_ours() -> Way {
    let mut receiver = receiver(Transport::Udp);
    udp_way(Box::new(move |arrival, bytes| {
        receiver.on_rtp(arrival, arrival, bytes, &mut |unit| {
            black_box(unit);
        });
    }))
}

fn tcp_bare() -> Way {
    let mut buffer = vec![0; 65_536];
    tcp_way(Box::new(move |socket, length| {
        let mut got = 0;
        while got < length {
            got += socket.read(black_box(&mut buffer)).unwrap();
        }
    }))
}

fn tcp_ours() -> Way {
    let (mut receiver, mut framer, mut buffer) = (receiver(Transport::Tcp), Framer::default(), vec![0; 65_536]);
    tcp_way(Box::new(move |socket, length| {
        let (mut got, mut used) = (0, 0);
        while got < length {
            got += socket.read(&mut buffer[got..]).unwrap();
            let now = clock::now();
            while let Ok(Some((frame, n))) = framer.next(&buffer[used..got]) {
                if let Frame::Packet { data, .. } = frame {
                    receiver.on_rtp(now, now, data, &mut |unit| {
                        black_box(unit);
                    });
                }
                used += n;
            }
        }
    }))
}

fn receive(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("receive 2 Mbit/s");
    group.throughput(Throughput::Elements((FRAMES * PACKETS_A_FRAME) as u64));
    for (name, mut way) in [
        ("UDP, bare: recvmmsg and look at the bytes", udp_bare()),
        ("UDP, ours: reorder, assemble, measure", udp_ours()),
        ("TCP, bare: read", tcp_bare()),
        ("TCP, ours: framing, assemble, measure", tcp_ours()),
    ] {
        group.bench_function(name, |bencher| bencher.iter_custom(|samples| (0..samples).map(|_| way()).sum()));
    }
    group.finish();
}

/// The two ways by turns, so that a machine that slows down slows both; the ratio of each pair.
fn ratio() {
    for (name, mut bare, mut ours) in [("UDP", udp_bare(), udp_ours()), ("TCP", tcp_bare(), tcp_ours())] {
        let mut ratios: Vec<f64> = (0..1001).map(|_| 1.0 / bare().as_secs_f64() * ours().as_secs_f64()).collect();
        ratios.sort_by(f64::total_cmp);
        let [low, median, high] = [250, 500, 750].map(|rank| ratios[rank]);
        println!("{name}: receiving and measuring over bare receiving: median {median:.2}, quartiles {low:.2} and {high:.2}");
    }
}

criterion_group!(benches, receive);

/// `cargo bench -p lattice-net -- ratio` gives the ratios alone, all else the criterion group.
fn main() {
    if std::env::args().any(|arg| arg == "ratio") {
        return ratio();
    }
    benches();
    Criterion::default().configure_from_args().final_summary();
}
