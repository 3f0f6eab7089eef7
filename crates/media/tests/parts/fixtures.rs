//! Access units of the fixture streams.

use lattice_core::Mono;
use lattice_core::receiver::Unit;
use lattice_core::video::{AccessUnit, ColourMatrix, NalKind, Parameters, VideoCodec, annex_b, h265_kind};
use lattice_media::{Lane, LaneEvent, Pool, Wanted};
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, channel};

pub fn fixture(name: &str) -> Vec<u8> {
    std::fs::read(PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../fixtures/streams").join(name)).unwrap()
}

pub fn unit((n, data): (usize, Vec<u8>), keyframe: bool) -> Unit {
    Unit {
        due: None,
        displayable: true,
        unit: AccessUnit {
            number: n as u64,
            timestamp: n as i64,
            keyframe,
            recovery: None,
            bipredictive: false,
            damaged: false,
            gap_before: false,
            first_arrival: Mono::ZERO,
            last_arrival: Mono::ZERO,
            finished: Mono::ZERO,
            packets: 1,
            bytes: data.len(),
            data: Some(data.into()),
        },
    }
}

pub fn units(name: &str) -> Vec<Unit> {
    let bytes = fixture(name);
    let mut grouped: Vec<Vec<u8>> = Vec::new();
    for nal in annex_b(&bytes) {
        if NalKind::of(nal[0]) == NalKind::Delimiter {
            grouped.push(Vec::new());
        }
        let last = grouped.last_mut().unwrap();
        last.extend([0, 0, 0, 1]);
        last.extend_from_slice(nal);
    }
    let is_key = |data: &[u8]| annex_b(data).any(|nal| NalKind::of(nal[0]) == NalKind::Idr);
    grouped
        .into_iter()
        .enumerate()
        .map(|(n, data)| {
            let key = is_key(&data);
            unit((n, data), key)
        })
        .collect()
}

pub fn parameters(codec: VideoCodec, (width, height): (u32, u32)) -> Parameters {
    let matrix = ColourMatrix::Unspecified;
    Parameters {
        codec,
        width,
        height,
        coded: (width, height),
        declared: None,
        full_range: false,
        matrix,
        profile: "",
        reorder: None,
        unusual: None,
    }
}

pub const SMALL: Wanted = Wanted {
    width: 80,
    height: 45,
    pixel_aspect: 1.0,
    step: (1, 1),
    aspect: lattice_core::lattice::Aspect::Fit,
    enlarge: true,
    keyframes_only: false,
};

#[allow(dead_code, reason = "not every test file needs it")]
pub fn lane(pool: &Pool) -> (Lane, Receiver<LaneEvent>) {
    let (sender, receiver) = channel();
    let lane = pool.lane(Box::new(move |event| drop(sender.send(event))));
    (lane, receiver)
}

pub fn h265_units(name: &str, take: usize) -> Vec<Unit> {
    let bytes = fixture(name);
    let (mut grouped, mut has_slice): (Vec<Vec<u8>>, bool) = (vec![Vec::new()], false);
    for nal in annex_b(&bytes) {
        let first_slice = h265_kind(nal[0]).is_slice() && nal[2] & 0x80 != 0;
        if has_slice && (first_slice || !h265_kind(nal[0]).is_slice()) {
            grouped.push(Vec::new());
            has_slice = false;
        }
        has_slice |= first_slice;
        let last = grouped.last_mut().unwrap();
        last.extend([0, 0, 0, 1]);
        last.extend_from_slice(nal);
    }
    let is_key = |data: &[u8]| annex_b(data).any(|nal| h265_kind(nal[0]) == NalKind::Idr);
    grouped
        .into_iter()
        .take(take)
        .enumerate()
        .map(|(n, data)| {
            let key = is_key(&data);
            unit((n, data), key)
        })
        .collect()
}
