//! How loud sound is.

use crate::Mono;
use std::collections::VecDeque;
use std::time::Duration;

/// Peak and RMS of a second.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Level {
    /// The largest sample, in dBFS.
    pub peak: f32,
    /// Root mean square, in dBFS: a sine wave of full scale has 0 (AES17-2015 §3.12), a square wave 3.01.
    pub rms: f32,
}

/// What is lower is shown as this: digital silence has no level in dB.
pub const FLOOR: f32 = -120.0;

impl Level {
    /// From the largest sample and the mean of squares, of full scale 1.
    fn of(peak: f32, mean_square: f64) -> Self {
        let peak = 20.0 * peak.log10();
        let rms = (10.0 * (2.0 * mean_square).log10()) as f32;
        Self { peak: peak.max(FLOOR), rms: rms.max(FLOOR) }
    }

    /// The louder of two, each part for itself.
    #[must_use]
    pub const fn louder(self, other: Self) -> Self {
        Self { peak: self.peak.max(other.peak), rms: self.rms.max(other.rms) }
    }
}

/// Most channels that are told apart.
pub const CHANNELS: usize = 8;
/// Samples are gathered over this time,
const BLOCK: Duration = Duration::from_millis(100);
/// and levels are read over so many blocks.
const BLOCKS: usize = 10;
/// A level is of the sound that came last; older than this it is of the past.
const STALE: Duration = Duration::from_millis(1500);
/// So many samples at the largest value one after the other are clipped.
const RUN: u32 = 3;

#[derive(Debug, Clone, Copy, Default)]
struct Sums {
    peak: f32,
    squares: f64,
    /// Samples at the largest value, in runs.
    clipped: u32,
}

#[derive(Debug, Clone, Default)]
struct Block {
    /// Samples of each channel.
    count: usize,
    channels: [Sums; CHANNELS],
}

/// Levels of one track, each channel for itself.
#[derive(Debug, Clone)]
pub struct LevelMeter {
    channels: usize,
    block_samples: usize,
    largest: f32,
    blocks: VecDeque<Block>,
    now: Block,
    runs: [u32; CHANNELS],
    fed: Option<Mono>,
}

impl LevelMeter {
    /// Of so many channels at this sampling rate; `largest` is the sample beyond which the coding cannot go.
    #[must_use]
    pub fn new(channels: u8, rate_hz: u32, largest: f32) -> Self {
        Self {
            channels: usize::from(channels).clamp(1, CHANNELS),
            block_samples: (f64::from(rate_hz) * BLOCK.as_secs_f64()).max(1.0) as usize,
            largest,
            blocks: VecDeque::with_capacity(BLOCKS),
            now: Block::default(),
            runs: [0; CHANNELS],
            fed: None,
        }
    }

    /// Samples that came, interleaved by channel.
    pub fn on_samples(&mut self, at: Mono, mut samples: &[f32]) {
        self.fed = Some(at);
        while samples.len() >= self.channels {
            let room = self.block_samples - self.now.count;
            let frames = room.min(samples.len() / self.channels);
            let (here, rest) = samples.split_at(frames * self.channels);
            self.add(here);
            self.now.count += frames;
            if self.now.count >= self.block_samples {
                if self.blocks.len() == BLOCKS {
                    self.blocks.pop_front();
                }
                self.blocks.push_back(std::mem::take(&mut self.now));
            }
            samples = rest;
        }
    }

    fn add(&mut self, samples: &[f32]) {
        for (channel, (sums, run)) in self.now.channels.iter_mut().zip(&mut self.runs).take(self.channels).enumerate() {
            let (mut peak, mut squares) = (sums.peak, 0.0_f32);
            for sample in samples.iter().skip(channel).step_by(self.channels) {
                // What a decoder makes of nonsense may be no number.
                let size = if sample.is_finite() { sample.abs() } else { 0.0 };
                peak = peak.max(size);
                squares += size * size;
                *run = if size >= self.largest { *run + 1 } else { 0 };
                if *run >= RUN {
                    sums.clipped += if *run == RUN { RUN } else { 1 };
                }
            }
            sums.peak = peak;
            sums.squares += f64::from(squares);
        }
    }

    /// The level of each channel over the last second of sound; empty before the first 100 ms, and when none came lately.
    #[must_use]
    pub fn read(&self, now: Mono) -> Vec<Level> {
        if self.blocks.is_empty() || self.fed.is_none_or(|at| now.since(at) > STALE) {
            return Vec::new();
        }
        let count: usize = self.blocks.iter().map(|block| block.count).sum();
        let of = |channel: usize| {
            let sums = self.blocks.iter().map(|block| block.channels[channel]);
            let peak = sums.clone().fold(0.0, |peak: f32, sums| peak.max(sums.peak));
            Level::of(peak, sums.map(|sums| sums.squares).sum::<f64>() / count as f64)
        };
        (0..self.channels).map(of).collect()
    }

    /// Samples of the last second that were clipped, of all channels.
    #[must_use]
    pub fn clipped(&self, now: Mono) -> u32 {
        if self.fed.is_none_or(|at| now.since(at) > STALE) {
            return 0;
        }
        self.blocks.iter().flat_map(|block| block.channels.iter()).map(|sums| sums.clipped).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::f64::consts::TAU;

    fn at(millis: u64) -> Mono {
        Mono::from_millis(millis)
    }

    fn tone(rate: u32, hz: f64, peak: f64, seconds: f64) -> Vec<f32> {
        let count = (f64::from(rate) * seconds) as usize;
        (0..count).map(|n| (peak * (TAU * hz * n as f64 / f64::from(rate)).sin()) as f32).collect()
    }

    #[test]
    fn a_tone_has_its_level_at_every_rate_and_size() {
        for rate in [8000, 16_000, 44_100, 48_000] {
            for db in [0.0, -3.0, -20.0, -40.0, -60.0] {
                for hz in [440.0, 997.0, 1250.0] {
                    let mut meter = LevelMeter::new(1, rate, 2.0);
                    meter.on_samples(at(0), &tone(rate, hz, 10_f64.powf(db / 20.0), 1.2));
                    let [level] = meter.read(at(100))[..] else { panic!("one channel") };
                    let off = (f64::from(level.rms) - db).abs().max((f64::from(level.peak) - db).abs());
                    assert!(off < 0.1, "{rate} Hz, {hz} Hz, {db} dB: {level:?}");
                }
            }
        }
    }

    #[test]
    fn channels_are_apart_silence_has_the_floor_and_the_past_is_not_told() {
        let mut meter = LevelMeter::new(2, 8000, 1.0);
        assert!(meter.read(at(0)).is_empty(), "nothing yet");
        let samples: Vec<f32> = tone(8000, 1000.0, 0.1, 1.0).into_iter().flat_map(|sample| [sample, 0.0]).collect();
        for (n, piece) in samples.chunks(320).enumerate() {
            meter.on_samples(at(n as u64 * 20), piece);
        }
        let levels = meter.read(at(1000));
        assert!((levels[0].rms + 20.0).abs() < 0.1 && levels[1] == Level { peak: FLOOR, rms: FLOOR }, "{levels:?}");
        assert!(meter.read(at(4000)).is_empty());
        assert_eq!(Level { peak: -3.0, rms: -20.0 }.louder(Level { peak: -6.0, rms: -9.0 }), Level { peak: -3.0, rms: -9.0 });
        // No number is no sound.
        meter.on_samples(at(4100), &vec![f32::NAN; 2000]);
        assert!(meter.read(at(4100))[0].rms.is_finite());
    }

    #[test]
    fn samples_that_stay_at_the_end_are_clipped_and_a_single_one_is_not() {
        let mut meter = LevelMeter::new(1, 8000, 1.0);
        meter.on_samples(at(0), &tone(8000, 1000.0, 1.0, 0.4));
        assert_eq!(meter.clipped(at(0)), 0, "it touches full scale");
        let loud: Vec<f32> = tone(8000, 100.0, 2.0, 0.4).into_iter().map(|sample| sample.clamp(-1.0, 1.0)).collect();
        let flat = loud.iter().filter(|sample| sample.abs() >= 1.0).count() as u32;
        meter.on_samples(at(400), &loud);
        assert_eq!(meter.clipped(at(400)), flat);
        assert_eq!(meter.clipped(at(9000)), 0);
    }
}
