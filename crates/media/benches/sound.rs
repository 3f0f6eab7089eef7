//! What measuring sound costs: packets of many tracks into levels, beside the bare sum over the same samples.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::rtp::{PayloadType, RtpPacket, Seq16, Ssrc};
use lattice_core::sound::{Heard as Samples, Lag, Mixer, Track};
use lattice_core::{ClockPair, ClockRate, Mono, Wall, sdp::Description};
use lattice_sim::SoundSpec;
use lattice_sim::{Heard, sound_payload};
use std::hint::black_box;
use std::time::{Duration, Instant};

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
    heard();
}

/// What it takes to hear one of 8 kHz by a loudspeaker of 48 kHz that asks every 20 ms, beside repeating each sample.
fn heard() {
    let rate = ClockRate::new(8000).unwrap();
    let samples: Vec<f32> = (0..160).map(|n| (n as f32 * 0.7).sin()).collect();
    let mut rows: Vec<(f64, f64)> = (0..9)
        .map(|_| {
            let mixer = Mixer::default();
            let voice = mixer.voice();
            let mut out = vec![0.0; 960 * 2];
            let begun = Instant::now();
            for n in 0..SECONDS * 50 {
                let arrival = Mono::from_micros(1_000_000 + n * 20_000);
                let due = Some(arrival + Duration::from_millis(100));
                voice.push(&Samples { arrival, due, timestamp: n as i64 * 160, rate, channels: 1, samples: &samples });
                mixer.fill(arrival, 48_000, 2, black_box(&mut out));
            }
            let ours = begun.elapsed().as_secs_f64();
            let begun = Instant::now();
            for _ in 0..SECONDS * 50 {
                for (places, n) in out.chunks_exact_mut(2).zip(0..) {
                    places.fill(black_box(&samples)[n / 6]);
                }
                black_box(&mut out);
            }
            (ours, begun.elapsed().as_secs_f64())
        })
        .collect();
    rows.sort_by(|a, b| a.0.total_cmp(&b.0));
    let (ours, bare) = rows[rows.len() / 2];
    let share = |seconds: f64| seconds / SECONDS as f64 * 100.0;
    println!("one that is heard takes {:.3} % of a core; repeating its samples {:.3} %", share(ours), share(bare));
}
