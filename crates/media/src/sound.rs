//! Decoding of coded sound, for its level.

use lattice_core::sound::{Coding, Decode, Sound};
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use symphonia_codec_aac::AacDecoder;
use symphonia_core::codecs::audio::well_known::CODEC_ID_AAC;
use symphonia_core::codecs::audio::{AudioCodecParameters, AudioDecoder as _, AudioDecoderOptions};
use symphonia_core::packet::Packet;
use symphonia_core::units::{Duration, Timestamp};

/// The decoder of a sound; `None` for codings that need none, or that there is none for (AAC other than AAC-LC).
///
/// The decoder has no unsafe code, and its panics become errors: it runs where packets are received.
#[must_use]
pub fn sound_decoder(sound: &Sound) -> Option<Box<dyn Decode>> {
    let Coding::Aac(aac) = &sound.coding else { return None };
    let mut parameters = AudioCodecParameters::new();
    parameters.for_codec(CODEC_ID_AAC).with_extra_data(aac.config.clone().into_boxed_slice());
    let decoder = begin(&parameters)?;
    Some(Box::new(Aac { parameters, decoder, channels: usize::from(sound.channels), samples: Vec::new() }))
}

fn begin(parameters: &AudioCodecParameters) -> Option<AacDecoder> {
    catch_unwind(|| AacDecoder::try_new(parameters, &AudioDecoderOptions::default())).ok()?.ok()
}

struct Aac {
    parameters: AudioCodecParameters,
    decoder: AacDecoder,
    channels: usize,
    samples: Vec<f32>,
}

impl fmt::Debug for Aac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Aac").field("channels", &self.channels).finish_non_exhaustive()
    }
}

impl Decode for Aac {
    fn decode(&mut self, unit: &[u8], out: &mut Vec<f32>) -> Result<(), String> {
        let Self { parameters, decoder, channels, samples } = self;
        let packet = Packet::new(0, Timestamp::new(0), Duration::new(0), unit);
        let decoded = catch_unwind(AssertUnwindSafe(|| {
            let buffer = decoder.decode(&packet).map_err(|error| error.to_string())?;
            if buffer.num_planes() != *channels {
                return Err("it has another number of channels than described".to_owned());
            }
            buffer.copy_to_vec_interleaved(samples);
            Ok(())
        }));
        let decoded = decoded.unwrap_or_else(|_| Err("its decoder failed on it".into()));
        match decoded {
            Ok(()) => out.extend_from_slice(samples),
            // What it took from a damaged unit stays in it, and a reset does not help.
            Err(_) => *decoder = begin(parameters).ok_or("its decoder does not begin anew")?,
        }
        decoded
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::sound::{Aac as Config, LevelMeter};
    use lattice_core::{ClockRate, Mono};

    /// A tone of 1 kHz with a peak of -20 dBFS.
    const TONE: &[u8] = include_bytes!("../../sim/assets/tone.adts");

    fn sound(config: &[u8], channels: u8) -> Sound {
        let config = config.to_vec();
        let aac = Config { config, size_length: 13, index_length: 3, index_delta_length: 3 };
        let clock_rate = ClockRate::new(16_000).unwrap();
        Sound {
            payload_type: 97,
            coding: Coding::Aac(aac),
            clock_rate,
            channels,
            control: None,
            secure: false,
            early_feedback: false,
            crypto: Vec::new(),
        }
    }

    /// The access units of an ADTS file (ISO/IEC 14496-3 §1.A.3).
    fn units(mut bytes: &[u8]) -> Vec<&[u8]> {
        let mut units = Vec::new();
        while let [_, _, _, a, b, c, _, ..] = *bytes {
            let length = usize::from(a & 3) << 11 | usize::from(b) << 3 | usize::from(c) >> 5;
            let (unit, rest) = bytes.split_at(length);
            units.push(&unit[7..]);
            bytes = rest;
        }
        units
    }

    #[test]
    fn a_tone_in_aac_has_its_level() {
        let mut decoder = sound_decoder(&sound(&[0x14, 0x08], 1)).unwrap();
        let (mut samples, mut meter) = (Vec::new(), LevelMeter::new(1, 16_000, 1.0));
        for unit in units(TONE) {
            decoder.decode(unit, &mut samples).unwrap();
        }
        meter.on_samples(Mono::ZERO, &samples[4096..samples.len() - 4096]);
        let level = meter.read(Mono::ZERO)[0];
        assert!((level.rms + 20.0).abs() < 0.1, "{level:?}");
    }

    #[test]
    fn what_is_no_aac_is_refused_without_a_panic() {
        let mut decoder = sound_decoder(&sound(&[0x14, 0x08], 1)).unwrap();
        let mut samples = Vec::new();
        let mut state = 1_u32;
        for n in 0..5000 {
            let unit: Vec<u8> = (0..n % 300)
                .map(|_| {
                    state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                    (state >> 24) as u8
                })
                .collect();
            let _ = decoder.decode(&unit, &mut samples);
            samples.clear();
        }
        for unit in units(TONE) {
            decoder.decode(unit, &mut samples).unwrap();
        }
        // HE-AAC, six channels, nothing, nonsense.
        for config in [&[0x2b, 0x11, 0x88][..], &[0x14, 0x30], &[], &[0xff; 20]] {
            assert!(sound_decoder(&sound(config, 1)).is_none(), "{config:?}");
        }
    }
}
