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
    let TsCounts { packets, lost, noise, scrambled, damaged_tables, .. } = demux.counts();
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

/// A packet and when it comes, in ms.
type Timed = (u64, Vec<u8>);

/// The packets of the fixture at the pace of its own clock.
fn paced() -> Vec<Timed> {
    let (mut demux, mut begin, mut at) = (Demux::default(), None, 0);
    let packets = fixture();
    let paced = packets.chunks(188).map(|packet| {
        demux.push(Mono::ZERO, packet, &mut |_| {});
        if let Some(clock) = demux.clock() {
            at = (clock - *begin.get_or_insert(clock)) / 27_000;
        }
        (at, packet.to_vec())
    });
    paced.collect()
}

/// The checks that fail when these packets come.
fn checked(packets: &[Timed]) -> Vec<Check> {
    let mut demux = Demux::default();
    for (at, packet) in packets {
        demux.push(Mono::from_millis(*at), packet, &mut |_| {});
    }
    let counts = demux.counts().checks;
    Check::ALL.into_iter().filter(|check| counts.of(*check) > 0).collect()
}

#[test]
fn each_check_of_tr_101_290_fails_by_its_fault_and_by_no_other() {
    let packets = paced();
    let pid = |packet: &[u8]| u16::from_be_bytes([packet[1] & 0x1f, packet[2]]);
    let nth = |wanted: u16, n: usize| (0..packets.len()).filter(|at| pid(&packets[*at].1) == wanted).nth(n).unwrap();
    let later = |from: usize, by: u64| {
        packets.iter().enumerate().map(move |(n, (at, packet))| (at + if n < from { 0 } else { by }, packet.clone()))
    };
    assert_eq!(checked(&packets), []);
    // Held up on the way for a second: no fault of the sender.
    assert_eq!(checked(&later(500, 900).collect::<Vec<_>>()), []);
    let with = |at: usize, change: &dyn Fn(&mut Vec<u8>)| {
        let mut packets = packets.clone();
        change(&mut packets[at].1);
        packets
    };
    // Behind an adaptation field that fills the packet.
    let payload = |packet: &[u8]| 5 + usize::from(packet[4]);
    let without = |wanted: u16| packets.iter().filter(|(_, packet)| pid(packet) != wanted).cloned().collect::<Vec<_>>();
    let mut lost = packets.clone();
    lost.remove(nth(65, 400));
    let table = |packet: &mut Vec<u8>| {
        let at = payload(packet) + 8;
        packet[at] ^= 1;
    };
    let other = |packet: &mut Vec<u8>| {
        let at = payload(packet) + 1;
        packet[at] = 0x42;
    };
    for (name, packets, wanted) in [
        ("lost", lost, vec![Check::Continuity]),
        ("marked", with(nth(65, 400), &|packet| packet[1] |= 0x80), vec![Check::Transport]),
        ("table", with(nth(0, 3), &table), vec![Check::Crc]),
        ("other table", with(nth(0, 3), &other), vec![Check::Pat, Check::Crc]),
        ("scrambled map", with(nth(32, 3), &|packet| packet[3] |= 0x80), vec![Check::Pmt]),
        ("sync", with(nth(65, 400), &|packet| packet[0] = 0), vec![Check::SyncByte, Check::Continuity]),
        ("no PAT", without(0), vec![Check::Pat]),
    ] {
        assert_eq!(checked(&packets), wanted, "{name}");
    }
    // A second is missing: by the clock a jump; where time went by meanwhile, a PCR and a PTS that came late.
    let (from, to) = (nth(65, 300), nth(65, 703));
    let gap = packets[to].0 - packets[from].0;
    assert!(gap > 1_000, "{gap}");
    let cut = |by: u64| {
        let kept = packets.iter().enumerate().filter(|(n, _)| !(from..to).contains(n));
        kept.map(|(n, (at, packet))| (if n < from { *at } else { at - by }, packet.clone())).collect::<Vec<_>>()
    };
    assert_eq!(checked(&cut(gap)), [Check::Continuity, Check::PcrDiscontinuity]);
    let late = checked(&cut(0));
    assert!(
        late.contains(&Check::PcrRepetition) && late.contains(&Check::Pts) && !late.contains(&Check::PcrDiscontinuity),
        "{late:?}"
    );
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
