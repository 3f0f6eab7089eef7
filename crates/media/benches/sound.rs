//! What measuring sound costs: packets of many tracks into levels, beside the bare sum over the same samples.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::rtp::{PayloadType, RtpPacket, Seq16, Ssrc};
use lattice_core::sound::{Lag, Track};
use lattice_core::{ClockPair, Mono, Wall, sdp::Description};
use lattice_sim::SoundSpec;
use lattice_sim::{Heard, sound_payload};
use std::hint::black_box;
use std::time::Instant;

const TRACKS: usize = 64;
const SECONDS: u64 = 10;

/// The packets of so many seconds, each with the time at which it comes.
fn packets(spec: &SoundSpec) -> Vec<(Mono, Vec<u8>)> {
    let samples = spec.samples_in_packet();
    let count = SECONDS * u64::from(spec.rate_hz) / samples;
    let packet = |n: u64| {
        let mut bytes = Vec::new();
        let payload = sound_payload(spec, n);
        RtpPacket {
            marker: true,
            payload_type: PayloadType(spec.payload_type()),
            seq: Seq16(n as u16),
            timestamp: (n * samples) as u32,
            ssrc: Ssrc(7),
            payload: &payload,
        }
        .emit(&mut bytes);
        (Mono::from_micros(n * samples * 1_000_000 / u64::from(spec.rate_hz)), bytes)
    };
    (0..count).map(packet).collect()
}

fn main() {
    let l16 = SoundSpec { channels: 2, ..SoundSpec::new(Heard::Speech(-12.0), lattice_core::sound::Coding::L16, 48_000) };
    let speech = SoundSpec::new(Heard::Speech(-12.0), lattice_core::sound::Coding::Pcmu, 8000);
    for (name, spec) in [("G.711, 8 kHz", speech), ("L16, 48 kHz, 2 channels", l16), ("AAC-LC, 16 kHz", SoundSpec::aac())] {
        let packets = packets(&spec);
        let text = format!("m=video 0 RTP/AVP 96\r\n{}a=control:a\r\n", spec.sdp());
        let sound = Description::parse(&text).sound().unwrap();
        let mut rows: Vec<(f64, f64)> = (0..9)
            .map(|_| {
                let mut tracks: Vec<Track> = (0..TRACKS)
                    .map(|_| Track::new(Mono::ZERO, sound.clone(), None, Some(lattice_media::sound_decoder)))
                    .collect();
                let begun = Instant::now();
                for (at, bytes) in &packets {
                    let pair = ClockPair { mono: *at, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
                    for track in &mut tracks {
                        track.on_rtp(pair, *at, black_box(bytes));
                    }
                    // Figures are read twice a second.
                    if at.as_micros() % 500_000 < 20_000 {
                        for track in &mut tracks {
                            black_box(track.read(*at, &Lag::default()));
                        }
                    }
                }
                let ours = begun.elapsed().as_secs_f64();
                let begun = Instant::now();
                for (_, bytes) in &packets {
                    for _ in 0..TRACKS {
                        black_box(black_box(bytes).iter().map(|byte| u64::from(*byte) * u64::from(*byte)).sum::<u64>());
                    }
                }
                (ours, begun.elapsed().as_secs_f64())
            })
            .collect();
        rows.sort_by(|a, b| a.0.total_cmp(&b.0));
        let (ours, bare) = rows[rows.len() / 2];
        let share = |seconds: f64| seconds / SECONDS as f64 * 100.0;
        println!("{name}: {TRACKS} tracks take {:.2} % of a core; the squares of their bytes {:.2} %", share(ours), share(bare));
    }
}
