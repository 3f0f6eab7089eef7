//! Receiving and measuring beside a bare receive loop of the same packets, on loopback sockets.
//!
//! Each sample sends a second of a 2 Mbit/s stream in frames and times the receiving side alone.
#![allow(clippy::unwrap_used, missing_docs)]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
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

fn udp(criterion: &mut Criterion) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let _guard = runtime.enter();
    let mut group = criterion.benchmark_group("receive 2 Mbit/s over UDP");
    group.throughput(Throughput::Elements((FRAMES * PACKETS_A_FRAME) as u64));
    let mut run = |name: &str, mut take: TakeDatagram| {
        let mut pair = UdpPair::bind([127, 0, 0, 1].into()).unwrap();
        let target = ("127.0.0.1", pair.ports().unwrap().0);
        let sender = UdpSocket::bind("127.0.0.1:0").unwrap();
        let mut n = 0;
        group.bench_function(name, |bencher| {
            bencher.iter_custom(|samples| {
                let mut total = Duration::ZERO;
                for _ in 0..samples * FRAMES as u64 {
                    for packet in frame(n) {
                        sender.send_to(&packet, target).unwrap();
                    }
                    n += 1;
                    runtime.block_on(pair.readable());
                    let started = Instant::now();
                    pair.read_rtp(clock::pair(), &mut take);
                    total += started.elapsed();
                }
                total
            });
        });
    };
    run(
        "bare: recvmmsg and look at the bytes",
        Box::new(|_, bytes| {
            black_box(bytes);
        }),
    );
    let mut receiver = receiver(Transport::Udp);
    run(
        "ours: reorder, assemble, measure",
        Box::new(move |arrival, bytes| {
            receiver.on_rtp(arrival, arrival, bytes, &mut |unit| {
                black_box(unit);
            });
        }),
    );
    group.finish();
}

fn tcp(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("receive 2 Mbit/s over TCP");
    group.throughput(Throughput::Elements((FRAMES * PACKETS_A_FRAME) as u64));
    let mut run = |name: &str, mut take: TakeStream| {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let mut sender = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let mut socket = listener.accept().unwrap().0;
        let mut n = 0;
        group.bench_function(name, |bencher| {
            bencher.iter_custom(|samples| {
                let mut total = Duration::ZERO;
                for _ in 0..samples * FRAMES as u64 {
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
                    total += started.elapsed();
                }
                total
            });
        });
    };
    let mut buffer = vec![0; 65_536];
    run(
        "bare: read",
        Box::new(move |socket, length| {
            let mut got = 0;
            while got < length {
                got += socket.read(black_box(&mut buffer)).unwrap();
            }
        }),
    );
    let (mut receiver, mut framer, mut buffer) = (receiver(Transport::Tcp), Framer::default(), vec![0; 65_536]);
    run(
        "ours: framing, assemble, measure",
        Box::new(move |socket, length| {
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
        }),
    );
    group.finish();
}

criterion_group!(benches, udp, tcp);
criterion_main!(benches);
