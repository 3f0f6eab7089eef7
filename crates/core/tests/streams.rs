//! The fixture streams, packetised and received: what comes out must be what `TRUTH.json` says.
#![allow(clippy::unwrap_used, clippy::case_sensitive_file_extension_comparisons, missing_docs)]

use lattice_core::meter::Meter;
use lattice_core::receiver::{Receiver, Unit};
use lattice_core::rtp::{PayloadType, RtpPacket, Seq16, Ssrc};
use lattice_core::rtsp::{Frame, Framer, Message};
use lattice_core::sdp::{Description, Video};
use lattice_core::video::{NalKind, annex_b, packetize};
use lattice_core::{ClockPair, Mono, Transport, Wall};
use serde_json::Value;
use std::path::PathBuf;

fn fixture(name: &str) -> Vec<u8> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fixtures/streams").join(name);
    std::fs::read(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

fn truth() -> Vec<Value> {
    let all: Value = serde_json::from_slice(&fixture("TRUTH.json")).unwrap();
    all["files"].as_array().unwrap().clone()
}

fn receiver() -> Receiver {
    let pair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
    Receiver::new(Meter::new(Mono::ZERO, pair, false), Ssrc(1), true)
}

fn h264() -> Video {
    Description::parse("m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000").video().unwrap()
}

/// NAL units grouped into access units: a new one begins at a delimiter.
fn access_units(bytes: &[u8]) -> Vec<Vec<&[u8]>> {
    let mut units: Vec<Vec<&[u8]>> = Vec::new();
    for nal in annex_b(bytes) {
        if NalKind::of(nal[0]) == NalKind::Delimiter || units.is_empty() {
            units.push(Vec::new());
        }
        units.last_mut().unwrap().push(nal);
    }
    units
}

#[test]
fn every_h264_stream_comes_out_as_the_truth_says() {
    let files: Vec<Value> = truth().into_iter().filter(|file| file["file"].as_str().unwrap().ends_with(".h264")).collect();
    assert_eq!(files.len(), 6);
    for file in files {
        let name = file["file"].as_str().unwrap();
        let bytes = fixture(name);
        let fps = file["fps"].as_f64().unwrap();
        let (mut receiver, mut units, mut seq) = (receiver(), Vec::<Unit>::new(), 65_500u16);
        receiver.begin(Mono::ZERO, &h264(), Transport::Udp);
        for (n, unit) in access_units(&bytes).iter().enumerate() {
            let payloads = packetize(unit, 1200);
            for (part, payload) in payloads.iter().enumerate() {
                let packet = RtpPacket {
                    marker: part + 1 == payloads.len(),
                    payload_type: PayloadType(96),
                    seq: Seq16(seq),
                    timestamp: (n as f64 * 90_000.0 / fps) as u32,
                    ssrc: Ssrc(5),
                    payload,
                };
                seq = seq.wrapping_add(1);
                let mut out = Vec::new();
                packet.emit(&mut out);
                let at = Mono::from_micros((n as f64 * 1e6 / fps) as u64 + part as u64);
                receiver.on_rtp(at, at, &out, &mut |unit| units.push(unit));
            }
        }
        let frames = file["frames"].as_u64().unwrap();
        assert_eq!(units.len() as u64, frames, "{name}");
        assert!(units.iter().all(|unit| !unit.unit.damaged && unit.displayable), "{name}");
        let keyframes: Vec<u64> = units.iter().filter(|unit| unit.unit.keyframe).map(|unit| unit.unit.number).collect();
        let expected: Vec<u64> = file["keyframes_at"].as_array().unwrap().iter().map(|n| n.as_u64().unwrap()).collect();
        assert_eq!(keyframes, expected, "{name}");
        let figures = receiver.meter().read(Mono::from_micros((frames as f64 * 1e6 / fps) as u64));
        assert!((figures.sent.unwrap() - fps).abs() < fps * 0.01, "{name}: {:?}", figures.sent);
        assert_eq!(figures.packets.lost, 0, "{name}");
        if let (Some(width), Some(height)) = (file["width"].as_u64(), file["height"].as_u64()) {
            assert_eq!(figures.size, Some((width as u32, height as u32)), "{name}");
        }
        let profile = file["profile"].as_str().unwrap().replace('-', " ");
        assert!(figures.profile.unwrap().eq_ignore_ascii_case(&profile), "{name}: {:?}", figures.profile);
    }
}

/// TCP and UDP payloads of a little-endian pcap of Ethernet or raw IP frames, with their times.
fn pcap(bytes: &[u8]) -> Vec<(Mono, bool, u16, u16, Vec<u8>)> {
    let word = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap());
    let link = word(20);
    let (mut at, mut out) = (24, Vec::new());
    let first = u64::from(word(24)) * 1_000_000;
    while at + 16 <= bytes.len() {
        let time = Mono::from_micros(u64::from(word(at)) * 1_000_000 + u64::from(word(at + 4)) - first);
        let length = word(at + 8) as usize;
        let frame = &bytes[at + 16..at + 16 + length];
        at += 16 + length;
        let ip = match link {
            1 => &frame[14..],
            113 => &frame[16..],
            276 => &frame[20..],
            _ => frame,
        };
        let header = usize::from(ip[0] & 15) * 4;
        let total = usize::from(u16::from_be_bytes([ip[2], ip[3]]));
        let body = &ip[header..total.min(ip.len())];
        let port = |at: usize| u16::from_be_bytes([body[at], body[at + 1]]);
        let skip = if ip[9] == 6 { usize::from(body[12] >> 4) * 4 } else { 8 };
        out.push((time, ip[9] == 6, port(0), port(2), body[skip..].to_vec()));
    }
    out
}

#[test]
fn captures_of_other_servers_are_received_whole() {
    for file in truth().into_iter().filter(|file| file["file"].as_str().unwrap().ends_with(".pcap")) {
        let name = file["file"].as_str().unwrap();
        let (mut receiver, mut framer, mut buffer, mut units) = (receiver(), Framer::default(), Vec::new(), Vec::<Unit>::new());
        let mut server_port = None;
        let mut last = Mono::ZERO;
        for (at, tcp, from, _, payload) in pcap(&fixture(name)) {
            last = at;
            if tcp && server_port.is_none() && payload.starts_with(b"RTSP/") {
                server_port = Some(from);
            }
            if tcp && Some(from) == server_port {
                buffer.extend_from_slice(&payload);
                let mut used = 0;
                while let Ok(Some((frame, n))) = framer.next(&buffer[used..]) {
                    match frame {
                        Frame::Message(Message::Response(response)) => {
                            if let Some(video) = Description::parse(&String::from_utf8_lossy(&response.body)).video() {
                                let transport = if name.contains("tcp") { Transport::Tcp } else { Transport::Udp };
                                receiver.begin(at, &video, transport);
                            }
                        }
                        Frame::Packet { channel: 0, data } => receiver.on_rtp(at, at, data, &mut |unit| units.push(unit)),
                        Frame::Packet { channel: 1, data } => receiver.on_rtcp(at, data),
                        _ => {}
                    }
                    used += n;
                }
                buffer.drain(..used);
            } else if !tcp && payload.len() > 12 {
                if (192..224).contains(&payload[1]) && payload[1] != 224 && (200..=204).contains(&payload[1]) {
                    receiver.on_rtcp(at, &payload);
                } else {
                    receiver.on_rtp(at, at, &payload, &mut |unit| units.push(unit));
                }
            }
        }
        receiver.tick(last + std::time::Duration::from_secs(1), &mut |unit| units.push(unit));
        let figures = receiver.meter().read(last);
        let packets = file["rtp_packets"].as_u64().or_else(|| file["packets"].as_u64()).unwrap_or_else(|| panic!("{file}"));
        assert_eq!((figures.packets.received, figures.packets.lost), (packets, 0), "{name}");
        let width = file["width"].as_u64().unwrap_or(640) as u32;
        assert_eq!(figures.size.map(|(width, _)| width), Some(width), "{name}");
        assert!((figures.sent.unwrap() - 15.0).abs() < 0.15, "{name}: {:?}", figures.sent);
        assert_eq!(figures.frames.damaged, 0, "{name}");
        assert!(units.iter().filter(|unit| unit.displayable).count() > units.len() / 2, "{name}");
    }
}
