//! Bytes from the network, spoiled in every way: no panic, bounded memory, and an answer each time.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::meter::Meter;
use lattice_core::receiver::Receiver;
use lattice_core::rtp::Ssrc;
use lattice_core::rtsp::{Action, Client, ClientConfig, Frame, Framer};
use lattice_core::sdp::Description;
use lattice_core::{ClockPair, Mono, Transport, TransportChoice, Wall};
use proptest::prelude::*;
use std::path::PathBuf;

/// The server's side of a captured session over TCP, as one stream of bytes.
fn captured() -> Vec<u8> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fixtures/streams/rtsp_tcp_h264_cbaseline_640x360_15.pcap");
    let bytes = std::fs::read(path).unwrap();
    let word = |at: usize| u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()) as usize;
    let link = if word(20) == 1 { 14 } else { 0 };
    let (mut at, mut out, mut server) = (24, Vec::new(), None);
    while at + 16 <= bytes.len() {
        let ip = &bytes[at + 16 + link..at + 16 + word(at + 8)];
        at += 16 + word(at + 8);
        let (header, total) = (usize::from(ip[0] & 15) * 4, usize::from(u16::from_be_bytes([ip[2], ip[3]])));
        let tcp = &ip[header..total.min(ip.len())];
        let (port, payload) = (u16::from_be_bytes([tcp[0], tcp[1]]), &tcp[usize::from(tcp[12] >> 4) * 4..]);
        if payload.starts_with(b"RTSP/1.0 200") {
            server.get_or_insert(port);
        }
        if Some(port) == server {
            out.extend_from_slice(payload);
        }
    }
    out
}

fn config() -> ClientConfig {
    ClientConfig {
        url: "rtsp://u:p@cam/x".parse().unwrap(),
        transport: TransportChoice::Tcp,
        udp_ports: None,
        sound: true,
        sound_ports: Some((5002, 5003)),
        agent: "test".into(),
        client_nonce: "c".into(),
    }
}

/// Runs bytes through framing, session and receiver; gives the access units and whether it ended.
fn run(bytes: &[u8]) -> (usize, bool) {
    let pair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
    let mut receiver = Receiver::new(Meter::new(Mono::ZERO, pair, false), Ssrc(1), true);
    let (mut client, mut framer) = (Client::new(Mono::ZERO, config()), Framer::default());
    let (mut units, mut used, mut now) = (0, 0, Mono::ZERO);
    loop {
        now = now + std::time::Duration::from_millis(1);
        match framer.next(&bytes[used..]) {
            Ok(Some((frame, n))) => {
                used += n;
                match frame {
                    Frame::Message(message) => client.on_message(now, message),
                    Frame::Packet { channel, data } if channel % 2 == 0 => receiver.on_rtp(now, now, data, &mut |_| units += 1),
                    Frame::Packet { data, .. } => receiver.on_rtcp(now, data),
                    Frame::Filler => {}
                }
            }
            Ok(None) => client.on_closed(),
            Err(error) => client.on_garbage(&error.to_string()),
        }
        while let Some(action) = client.poll() {
            if let Action::Playing(playing) = action {
                receiver.begin(now, &playing.video, playing.transport);
            }
        }
        receiver.meter().read(now);
        if client.is_ended() || used >= bytes.len() {
            return (units, client.is_ended());
        }
    }
}

#[test]
fn the_capture_itself_is_received() {
    let (units, _) = run(&captured());
    assert!(units >= 60, "{units}");
}

#[test]
fn a_session_cut_at_any_length_ends_in_an_answer() {
    let bytes = captured();
    for length in (0..3000).chain((3000..bytes.len()).step_by(997)) {
        run(&bytes[..length]);
    }
}

#[test]
fn access_units_of_any_size_stay_within_bounds() {
    let video = Description::parse("m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000").video().unwrap();
    let pair = ClockPair { mono: Mono::ZERO, wall: Wall::default() };
    let mut receiver = Receiver::new(Meter::new(Mono::ZERO, pair, false), Ssrc(1), true);
    receiver.begin(Mono::ZERO, &video, Transport::Tcp);
    let mut largest = 0;
    // One frame that never ends, 20 MB of it.
    for seq in 0..16_000u16 {
        let mut packet = vec![0x80, 96];
        packet.extend(seq.to_be_bytes());
        packet.extend([0, 0, 0, 0, 0, 0, 0, 7, 0x7c, if seq == 0 { 0x85 } else { 5 }]);
        packet.extend([0x88; 1300]);
        receiver.on_rtp(Mono::ZERO, Mono::ZERO, &packet, &mut |_| {});
    }
    let last = [0x80, 0xe0, 0x3e, 0x80, 0, 0, 0, 0, 0, 0, 0, 7, 0x7c, 0x45, 1];
    receiver.on_rtp(Mono::ZERO, Mono::ZERO, &last, &mut |unit| {
        largest = unit.unit.data.as_ref().map_or(0, bytes::Bytes::len);
        assert!(unit.unit.damaged);
    });
    assert!(largest > 0 && largest <= lattice_core::video::MAX_ACCESS_UNIT);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    #[test]
    fn flipped_bytes_never_panic(flips in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..60), early: bool) {
        let mut bytes = captured();
        let range = if early { 2500 } else { bytes.len() };
        for (index, value) in flips {
            let at = index.index(range);
            bytes[at] = value;
        }
        run(&bytes);
    }
}
