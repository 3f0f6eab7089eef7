use super::*;
use crate::video::{NalKind, annex_b};
use proptest::prelude::*;
use std::path::PathBuf;

fn fixture() -> Vec<u8> {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fixtures/streams/ts_h264_main_aac_640x360_25.ts");
    std::fs::read(path).unwrap()
}

fn run(datagrams: &[&[u8]]) -> (Vec<VideoUnit>, Demux) {
    let (mut demux, mut units) = (Demux::default(), Vec::new());
    for (n, bytes) in datagrams.iter().enumerate() {
        demux.push(Mono::from_millis(n as u64), bytes, &mut |unit| units.push(unit));
    }
    (units, demux)
}

#[test]
fn a_stream_comes_out_as_the_truth_says() {
    let bytes = fixture();
    let datagrams: Vec<&[u8]> = bytes.chunks(7 * 188).collect();
    let (units, demux) = run(&datagrams);
    assert_eq!((units.len(), demux.codec(), demux.audio()), (100, Some(&Codec::H264), &["AAC"][..]));
    let TsCounts { packets, lost, noise, scrambled, damaged_tables } = demux.counts();
    assert_eq!((packets, lost, noise, scrambled, damaged_tables), (1072, 0, 0, 0, 0));
    assert!(units.iter().all(|unit| !unit.damaged && !unit.gap_before));
    assert!(units.windows(2).all(|pair| pair[1].timestamp - pair[0].timestamp == 3600));
    let keyframes: Vec<usize> =
        (0..units.len()).filter(|n| annex_b(&units[*n].bytes).any(|nal| NalKind::of(nal[0]) == NalKind::Idr)).collect();
    assert_eq!(keyframes, [0, 50]);
    assert!(demux.clock().is_some() && Demux::recognises(datagrams[0]));
}

#[test]
fn the_same_comes_out_however_the_bytes_are_cut() {
    let bytes = fixture();
    let whole = run(&[&bytes]).0.len();
    for size in [1316, 188, 1000, 77] {
        let chunks: Vec<&[u8]> = bytes.chunks(size).collect();
        let (units, demux) = run(&chunks);
        assert_eq!((units.len(), demux.counts().lost, demux.counts().noise), (whole, 0, 0), "{size}");
    }
    // With 16 bytes of parity behind each packet.
    let with_parity: Vec<u8> =
        bytes.chunks(188).flat_map(|packet| packet.iter().copied().chain((0u8..16).map(|n| n * 5))).collect();
    let chunks: Vec<&[u8]> = with_parity.chunks(204 * 6).collect();
    assert_eq!(run(&chunks).0.len(), whole);
    // Joined in mid-stream, behind noise.
    let late = [&[0u8; 500][..], &bytes[188 * 600..]].concat();
    let (units, demux) = run(&[&late]);
    assert!(units.len() > 40 && demux.counts().noise == 500);
}

#[test]
fn what_is_missing_is_counted_and_damages_its_unit() {
    let bytes = fixture();
    let packets: Vec<&[u8]> = bytes.chunks(188).collect();
    let video = |packet: &[u8]| u16::from_be_bytes([packet[1] & 0x1f, packet[2]]) == 65;
    let at = packets.iter().enumerate().filter(|(_, packet)| video(packet)).map(|(n, _)| n).nth(400).unwrap();
    let mut short = packets.clone();
    short.remove(at);
    let (units, demux) = run(&short);
    assert_eq!((demux.counts().lost, units.iter().filter(|unit| unit.damaged).count()), (1, 1));
    // The same packet twice is allowed, and no loss.
    let mut twice = packets.clone();
    twice.insert(at, packets[at]);
    let (units, demux) = run(&twice);
    assert_eq!((demux.counts().lost, units.iter().filter(|unit| unit.damaged).count()), (0, 0));
    // Marked as damaged on its way; scrambled.
    let mut marked = packets[at].to_vec();
    marked[1] |= 0x80;
    let mut damaged = packets.clone();
    damaged[at] = &marked;
    let starts = packets[at][1] & 0x40 != 0;
    assert_eq!(run(&damaged).0.iter().filter(|unit| unit.damaged).count(), usize::from(!starts));
    let mut scrambled: Vec<Vec<u8>> = packets.iter().map(|packet| packet.to_vec()).collect();
    for packet in scrambled.iter_mut().filter(|packet| video(packet)) {
        packet[3] |= 0x80;
    }
    let views: Vec<&[u8]> = scrambled.iter().map(Vec::as_slice).collect();
    let (units, demux) = run(&views);
    assert_eq!((units.len(), demux.counts().scrambled), (0, 1072));
}

proptest! {
    #[test]
    fn noise_is_bounded_and_never_panics(chunks in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..400), 0..30)) {
        let views: Vec<&[u8]> = chunks.iter().map(Vec::as_slice).collect();
        let (_, demux) = run(&views);
        prop_assert!(demux.rest.len() < 204);
    }

    #[test]
    fn flipped_bytes_never_panic(flips in proptest::collection::vec((0usize..250_000, any::<u8>()), 1..60)) {
        let mut bytes = fixture();
        for (at, value) in flips {
            bytes[at] = value;
        }
        let chunks: Vec<&[u8]> = bytes.chunks(1316).collect();
        let _ = run(&chunks);
    }
}
