//! The sound of a stand-in: what is heard, how it is coded, and its packets.

use crate::camera::Trouble;
use crate::fault::SoundFault;
use crate::pacer::Pacer;
use crate::video::CodedFrame;
use lattice_core::sound::{Aac, Coding};
use std::f64::consts::TAU;
use std::sync::{Arc, LazyLock};
use std::time::Duration;
use tokio::time::Instant;

/// What is heard. Levels are in dBFS, where a sine wave of full scale has 0.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Heard {
    /// A sine wave of so many Hz at this level; in AAC it is [`AAC_TONE`] whatever is said here.
    Tone(f64, f64),
    /// Syllables and pauses of a voice, at this level at its loudest.
    Speech(f64),
    /// Nothing at all.
    Silence,
}

/// The tone of stand-ins that send AAC: Hz, and dBFS.
pub const AAC_TONE: (f64, f64) = (1000.0, -20.0);

/// A camera's sound.
#[derive(Debug, Clone, PartialEq)]
pub struct SoundSpec {
    /// What is heard.
    pub heard: Heard,
    /// How it is coded.
    pub coding: Coding,
    /// Sampling rate in Hz.
    pub rate_hz: u32,
    /// Sampling rate that the description says.
    pub described_hz: u32,
    /// Channels; the second one is half as loud.
    pub channels: u8,
    /// How much later than its pictures it is sent.
    pub late: Duration,
    /// It is described, and refused when it is asked for.
    pub refused: bool,
}

impl SoundSpec {
    /// Sound of one channel at this rate, sent with its pictures.
    #[must_use]
    pub const fn new(heard: Heard, coding: Coding, rate_hz: u32) -> Self {
        Self { heard, coding, rate_hz, described_hz: rate_hz, channels: 1, late: Duration::ZERO, refused: false }
    }

    /// [`AAC_TONE`] in AAC.
    #[must_use]
    pub fn aac() -> Self {
        let aac = Aac { config: vec![0x14, 0x08], size_length: 13, index_length: 3, index_delta_length: 3 };
        Self::new(Heard::Tone(AAC_TONE.0, AAC_TONE.1), Coding::Aac(aac), 16_000)
    }

    /// Its payload type in RTP.
    #[must_use]
    pub const fn payload_type(&self) -> u8 {
        match self.coding {
            Coding::Pcmu => 0,
            Coding::Pcma => 8,
            _ => 97,
        }
    }

    /// Its section of a description, up to its control line.
    pub(crate) fn description(&self, profile: &str) -> String {
        let (format, hz, channels) = (self.payload_type(), self.described_hz, self.channels);
        let (name, fmtp) = match &self.coding {
            Coding::Pcmu => ("PCMU", String::new()),
            Coding::Pcma => ("PCMA", String::new()),
            Coding::Aac(aac) => {
                let config = aac.config.iter().fold(String::new(), |hex, byte| format!("{hex}{byte:02x}"));
                let lengths = (aac.size_length, aac.index_length, aac.index_delta_length);
                let fmtp = format!(
                    "a=fmtp:{format} streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength={};indexlength={};indexdeltalength={};config={config}\r\n",
                    lengths.0, lengths.1, lengths.2
                );
                ("MPEG4-GENERIC", fmtp)
            }
            Coding::L16 | Coding::Other(_) => ("L16", String::new()),
        };
        format!("m=audio 0 {profile} {format}\r\na=rtpmap:{format} {name}/{hz}/{channels}\r\n{fmtp}")
    }

    /// What a description says of it, for packets that are not encrypted.
    #[must_use]
    pub fn sdp(&self) -> String {
        self.description("RTP/AVP")
    }

    /// Samples of each channel in a packet: 20 ms, of AAC one unit.
    #[must_use]
    pub fn samples_in_packet(&self) -> u64 {
        if matches!(self.coding, Coding::Aac(_)) { 1024 } else { u64::from(self.rate_hz) / 50 }
    }

    /// The sample of the first channel at a moment, of full scale 1.
    fn sample(&self, n: u64, fault: Option<SoundFault>) -> f64 {
        let t = n as f64 / f64::from(self.rate_hz);
        let peak = |db: f64| 10_f64.powf(db / 20.0);
        let usual = match self.heard {
            Heard::Tone(hz, db) => peak(db) * (TAU * hz * t).sin(),
            Heard::Speech(db) => {
                // Phrases of two seconds with a pause, five syllables a second, the harmonics of a voice.
                let (phrase, syllable) = (t % 2.8, (std::f64::consts::PI * 5.0 * t).sin().powi(2));
                let pitch = 130.0 + 20.0 * (TAU * 0.7 * t).sin();
                let voice: f64 = (1..=8).map(|k| (TAU * pitch * f64::from(k) * t).sin() / f64::from(k)).sum();
                let room = 0.001 * (TAU * 50.0 * t).sin();
                if phrase < 2.0 { room + peak(db) * syllable * voice / 1.9 } else { room }
            }
            Heard::Silence => 0.0,
        };
        match fault {
            None => usual,
            Some(SoundFault::Hush) => 0.0,
            Some(SoundFault::Shout) => usual + 0.5 * (TAU * 400.0 * t).sin(),
            Some(SoundFault::Clip) => (usual * 30.0 + 2.0 * (TAU * 200.0 * t).sin()).clamp(-1.0, 1.0),
        }
    }

    /// The payload of the packet of this number.
    fn payload(&self, number: u64, fault: Option<SoundFault>) -> Vec<u8> {
        if matches!(self.coding, Coding::Aac(_)) {
            let units = match fault {
                None => &AAC,
                Some(SoundFault::Hush) => &AAC_SILENT,
                Some(SoundFault::Shout | SoundFault::Clip) => &AAC_LOUD,
            };
            let unit = units[(number % units.len() as u64) as usize];
            let mut payload = 16_u16.to_be_bytes().to_vec();
            payload.extend(((unit.len() as u16) << 3).to_be_bytes());
            payload.extend_from_slice(unit);
            return payload;
        }
        let (first, count) = (number * self.samples_in_packet(), self.samples_in_packet());
        let mut payload = Vec::new();
        for n in first..first + count {
            let sample = self.sample(n, fault);
            for channel in 0..self.channels {
                let value = (sample / f64::from(1_u8 << channel.min(7)) * 32_767.0).round() as i16;
                match self.coding {
                    Coding::Pcmu => payload.push(nearest(&MU_LAW, value)),
                    Coding::Pcma => payload.push(nearest(&A_LAW, value)),
                    _ => payload.extend(value.to_be_bytes()),
                }
            }
        }
        payload
    }
}

/// The payload of a packet of it, by its number.
#[must_use]
pub fn sound_payload(spec: &SoundSpec, number: u64) -> Vec<u8> {
    spec.payload(number, None)
}

/// Codes of a law by their values, in order.
type Law = Vec<(i16, u8)>;

static MU_LAW: LazyLock<Law> = LazyLock::new(|| law(&Coding::Pcmu));
static A_LAW: LazyLock<Law> = LazyLock::new(|| law(&Coding::Pcma));

fn law(coding: &Coding) -> Law {
    let mut samples = Vec::new();
    coding.samples(&(0..=255).collect::<Vec<u8>>(), &mut samples);
    let mut all: Law = samples.iter().zip(0..=255).map(|(sample, code)| ((sample * 32_768.0) as i16, code)).collect();
    all.sort_unstable();
    all
}

fn nearest(law: &Law, value: i16) -> u8 {
    let above = law.partition_point(|(have, _)| *have < value).min(law.len() - 1);
    let below = above.saturating_sub(1);
    let off = |at: usize| (i32::from(law[at].0) - i32::from(value)).abs();
    law[if off(below) < off(above) { below } else { above }].1
}

/// Access units of a file: a whole number of its waves in each, so that they can be sent round and round.
///
/// ADTS (ISO/IEC 14496-3 §1.A.3): the length stands in 13 bits, the head has 7 bytes.
fn units(mut bytes: &'static [u8]) -> Vec<&'static [u8]> {
    let mut units = Vec::new();
    while let [_, _, _, a, b, c, _, ..] = *bytes {
        let length = usize::from(a & 3) << 11 | usize::from(b) << 3 | usize::from(c) >> 5;
        let (unit, rest) = bytes.split_at(length.clamp(7, bytes.len()));
        units.push(&unit[7..]);
        bytes = rest;
    }
    // The sound has not begun in the first ones, and ends in the last.
    units.truncate(units.len() - 4);
    units.split_off(4)
}

/// [`AAC_TONE`], the same shouted, and nothing.
static AAC: LazyLock<Vec<&'static [u8]>> = LazyLock::new(|| units(include_bytes!("../assets/tone.adts")));
static AAC_LOUD: LazyLock<Vec<&'static [u8]>> = LazyLock::new(|| units(include_bytes!("../assets/loud.adts")));
static AAC_SILENT: LazyLock<Vec<&'static [u8]>> = LazyLock::new(|| units(include_bytes!("../assets/silence.adts")));

/// The packets of a viewer's sound.
pub struct SoundPacer {
    pub spec: SoundSpec,
    pub pacer: Pacer,
    /// The number of the next packet; `None` while it does not play.
    next: Option<u64>,
}

impl SoundPacer {
    pub fn new(spec: SoundSpec, seed: u64, keeps_order: bool) -> Self {
        let mut pacer = Pacer::new(seed, keeps_order);
        pacer.payload_type = spec.payload_type();
        Self { spec, pacer, next: None }
    }

    /// It plays from now on.
    pub fn play(&mut self, unix_micros: i64) {
        self.next = Some(self.ticks_at(unix_micros) / self.spec.samples_in_packet() + 1);
    }

    /// Samples captured by a moment.
    pub fn ticks_at(&self, unix_micros: i64) -> u64 {
        (i128::from(unix_micros) * i128::from(self.spec.rate_hz) / 1_000_000) as u64
    }

    /// When the next packet is complete.
    pub fn due(&self, now: Instant, unix_micros: i64) -> Option<Instant> {
        let samples = (self.next? + 1) * self.spec.samples_in_packet();
        let micros = (u128::from(samples) * 1_000_000).div_ceil(u128::from(self.spec.rate_hz)) as i64 - unix_micros;
        Some(now + Duration::from_micros(micros.max(0) as u64))
    }

    /// Queues what was captured; how many packets were left out on order.
    pub fn push(&mut self, now: Instant, unix_micros: i64, trouble: &Trouble) -> u32 {
        let mut left_out = 0;
        while let Some(number) = self.next.filter(|_| self.due(now, unix_micros).is_some_and(|due| due <= now)) {
            self.next = Some(number + 1);
            if trouble.stalled {
                continue;
            }
            let ticks = (number * self.spec.samples_in_packet()) as u32;
            let payload = self.spec.payload(number, trouble.sound);
            let frame = CodedFrame {
                number: number as u32,
                captured: unix_micros,
                ticks,
                keyframe: false,
                stalled: false,
                payloads: Arc::new(vec![payload]),
                bytes: Arc::default(),
            };
            left_out += self.pacer.push(now + self.spec.late, &frame, trouble).1;
        }
        left_out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::sound::LevelMeter;
    use lattice_core::{Mono, sdp::Description};

    fn level(spec: &SoundSpec, fault: Option<SoundFault>) -> (f32, u32) {
        let mut meter = LevelMeter::new(spec.channels, spec.rate_hz, spec.coding.largest());
        for number in 0..60 {
            let mut samples = Vec::new();
            spec.coding.samples(&spec.payload(number, fault), &mut samples);
            meter.on_samples(Mono::ZERO, &samples);
        }
        (meter.read(Mono::ZERO)[0].rms, meter.clipped(Mono::ZERO))
    }

    #[test]
    fn tones_have_their_level_in_every_coding_and_are_described() {
        for coding in [Coding::Pcmu, Coding::Pcma, Coding::L16] {
            let spec = SoundSpec::new(Heard::Tone(1000.0, -20.0), coding.clone(), 8000);
            let (rms, clipped) = level(&spec, None);
            assert!((rms + 20.0).abs() < 0.1 && clipped == 0, "{coding}: {rms}");
            let said = Description::parse(&spec.description("RTP/AVP")).sound().unwrap();
            assert_eq!((said.coding, said.clock_rate.hz(), said.channels), (coding, 8000, 1));
            assert!(level(&spec, Some(SoundFault::Clip)).1 > 1000);
            assert!(level(&spec, Some(SoundFault::Hush)).0 < -69.0 && level(&spec, Some(SoundFault::Shout)).0 > -8.0);
        }
        let said = Description::parse(&SoundSpec::aac().description("RTP/AVP")).sound().unwrap();
        assert_eq!((&said.coding, said.clock_rate.hz()), (&SoundSpec::aac().coding, 16_000));
        assert!(AAC.len() > 20 && AAC.iter().all(|unit| unit.len() > 20));
        assert!(!AAC_SILENT.is_empty() && AAC_LOUD.len() > 4);
    }
}
