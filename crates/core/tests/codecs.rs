//! H.265 and JPEG packetised as RFC 7798 and RFC 2435 say, and put together again.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::sdp::Codec;
use lattice_core::video::{AccessUnit, Assembler, Ordered, VideoCodec, annex_b, h265_kind, jpeg_file_size};
use lattice_core::{FrameRate, Mono};
use std::path::PathBuf;

fn fixture(name: &str) -> Vec<u8> {
    std::fs::read(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fixtures/streams").join(name)).unwrap()
}

/// Pushes a unit's packets, one of them lost; `gap_before` says that the one before the first was.
fn push(assembler: &mut Assembler, timestamp: i64, payloads: &[Vec<u8>], lose: Option<usize>) -> Vec<AccessUnit> {
    push_after(assembler, timestamp, payloads, lose, false)
}

fn push_after(
    assembler: &mut Assembler,
    timestamp: i64,
    payloads: &[Vec<u8>],
    lose: Option<usize>,
    mut gap_before: bool,
) -> Vec<AccessUnit> {
    let mut out = Vec::new();
    for (n, payload) in payloads.iter().enumerate() {
        if lose == Some(n) {
            gap_before = true;
            continue;
        }
        let marker = n + 1 == payloads.len();
        let packet = Ordered { payload, timestamp, marker, arrival: Mono::ZERO, gap_before: std::mem::take(&mut gap_before) };
        out.extend(assembler.push(Mono::ZERO, packet));
    }
    out
}

/// Single NAL units, and fragments of those that are large.
fn h265_payloads(nals: &[&[u8]]) -> Vec<Vec<u8>> {
    let mut out = Vec::new();
    for nal in nals {
        if nal.len() <= 1200 {
            out.push(nal.to_vec());
            continue;
        }
        let (kind, body) = (nal[0] >> 1 & 0x3f, &nal[2..]);
        let parts: Vec<&[u8]> = body.chunks(1000).collect();
        for (n, part) in parts.iter().enumerate() {
            let flags = if n == 0 {
                0x80
            } else if n + 1 == parts.len() {
                0x40
            } else {
                0
            };
            let mut payload = vec![nal[0] & 0x81 | 49 << 1, nal[1], flags | kind];
            payload.extend_from_slice(part);
            out.push(payload);
        }
    }
    out
}

#[test]
fn h265_comes_out_as_it_went_in() {
    let bytes = fixture("h265_main_640x360_25.h265");
    let mut units: Vec<Vec<&[u8]>> = vec![Vec::new()];
    for nal in annex_b(&bytes) {
        let slice = h265_kind(nal[0]).is_slice();
        if units.last().unwrap().last().is_some_and(|last: &&[u8]| h265_kind(last[0]).is_slice()) {
            units.push(Vec::new());
        }
        units.last_mut().unwrap().push(nal);
        assert!(!slice || nal[2] & 0x80 != 0, "one slice a picture in this stream");
    }
    let mut assembler = Assembler::new(&Codec::H265, &[]);
    let mut got = Vec::new();
    for (n, nals) in units.iter().enumerate() {
        got.extend(push(&mut assembler, n as i64 * 3600, &h265_payloads(nals), None));
    }
    assert_eq!(got.len(), 100);
    assert!(got.iter().all(|unit| !unit.damaged));
    let keyframes: Vec<u64> = got.iter().filter(|unit| unit.keyframe).map(|unit| unit.number).collect();
    assert_eq!(keyframes, [0, 50]);
    for (unit, nals) in got.iter().zip(&units) {
        let data = unit.data.as_ref().unwrap();
        assert!(annex_b(data).eq(nals.iter().map(|nal| &nal[..=nal.iter().rposition(|b| *b != 0).unwrap()])));
    }
    let parameters = assembler.parameters().unwrap();
    assert_eq!((parameters.codec, parameters.width, parameters.height), (VideoCodec::H265, 640, 360));
    assert_eq!((parameters.profile, parameters.declared, parameters.unusual), ("Main", FrameRate::new(25.0), None));

    // Parameter sets of the description go before a keyframe that brings none; a lost fragment damages its unit.
    let sets: Vec<Vec<u8>> = annex_b(&bytes).take(3).map(<[u8]>::to_vec).collect();
    let mut assembler = Assembler::new(&Codec::H265, &sets);
    let key: Vec<&[u8]> = units[50].iter().copied().filter(|nal| h265_kind(nal[0]).is_slice()).collect();
    let unit = push(&mut assembler, 0, &h265_payloads(&key), None).remove(0);
    assert_eq!(annex_b(unit.data.as_ref().unwrap()).count(), 3 + key.len());
    let lost = push(&mut assembler, 3600, &h265_payloads(&key), Some(1));
    assert!(lost[0].damaged);
}

#[test]
fn jpeg_is_rebuilt_from_its_fragments() {
    let bytes = fixture("mjpeg_320x180_6frames.mjpeg");
    let end = bytes.windows(2).position(|pair| pair == [0xff, 0xd9]).unwrap() + 2;
    let file = &bytes[..end];
    assert_eq!(jpeg_file_size(file), Some((320, 180)));
    let find = |marker: u8| file.windows(2).position(|pair| pair == [0xff, marker]).unwrap();
    let table = &file[find(0xdb) + 5..find(0xdb) + 5 + 64];
    let scan_header = find(0xda);
    let length = usize::from(u16::from_be_bytes([file[scan_header + 2], file[scan_header + 3]]));
    let scan = &file[scan_header + 2 + length..];
    let mut payloads = Vec::new();
    for (n, part) in scan.chunks(1000).enumerate() {
        let offset = (n * 1000) as u32;
        let mut payload = vec![0];
        payload.extend(&offset.to_be_bytes()[1..]);
        payload.extend([1, 255, 40, 23]);
        if n == 0 {
            payload.extend([0, 0, 0, 128]);
            payload.extend_from_slice(table);
            payload.extend_from_slice(table);
        }
        payload.extend_from_slice(part);
        payloads.push(payload);
    }
    let mut assembler = Assembler::new(&Codec::Jpeg, &[]);
    assembler.described_size(Some((320, 180)));
    let unit = push(&mut assembler, 0, &payloads, None).remove(0);
    let data = unit.data.unwrap();
    assert!(unit.keyframe && !unit.damaged && data.ends_with(scan));
    assert_eq!(jpeg_file_size(&data), Some((320, 180)));
    assert_eq!(assembler.parameters().map(|p| (p.codec, p.width, p.height)), Some((VideoCodec::Jpeg, 320, 180)));
    for lost in [0, 2, payloads.len() - 1] {
        let units = push(&mut assembler, 9000 * (lost as i64 + 1), &payloads, Some(lost));
        let after = lost + 1 == payloads.len();
        let last = push_after(&mut assembler, 9_000_000 + lost as i64, &payloads, None, after);
        assert!(units.iter().chain(&last).next().unwrap().damaged, "packet {lost} is missing");
    }
}
