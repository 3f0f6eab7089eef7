//! What a description says of sound, and how its samples are read.

use crate::{ClockRate, Secret};
use std::fmt;

/// How sound is coded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Coding {
    /// G.711 µ-law (RFC 3551 §4.5.14), 8 bits a sample.
    Pcmu,
    /// G.711 A-law.
    Pcma,
    /// 16 bits a sample, big endian (RFC 3551 §4.5.11).
    L16,
    /// AAC in access units (RFC 3640).
    Aac(Aac),
    /// Another, by its encoding name in upper case: its packets are counted, its level is not known.
    Other(String),
}

/// How AAC access units stand in packets (RFC 3640 §4.1), and what they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aac {
    /// `AudioSpecificConfig` (ISO/IEC 14496-3 §1.6.2.1).
    pub config: Vec<u8>,
    /// Bits of an access unit's size in its header.
    pub size_length: u8,
    /// Bits of its index, for the first one of a packet,
    pub index_length: u8,
    /// and for the others.
    pub index_delta_length: u8,
}

impl Aac {
    /// The audio object type of the configuration: 2 is AAC-LC, 5 and 29 are HE-AAC.
    #[must_use]
    pub fn object_type(&self) -> Option<u8> {
        self.config.first().map(|first| first >> 3)
    }

    /// Channels that the configuration says; `None` where it does not say it in its first two bytes.
    #[must_use]
    pub fn channels(&self) -> Option<u8> {
        let [first, second, ..] = self.config[..] else { return None };
        let own_rate = (first & 7) << 1 | second >> 7 == 15;
        Some(second >> 3 & 15).filter(|channels| (1..=7).contains(channels) && !own_rate)
    }
}

/// A sound track that can be asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sound {
    /// Payload type in RTP.
    pub payload_type: u8,
    /// Its coding.
    pub coding: Coding,
    /// RTP clock; of all codings here it is the sampling rate too.
    pub clock_rate: ClockRate,
    /// Channels, at least 1.
    pub channels: u8,
    /// `a=control` of its section.
    pub control: Option<String>,
    /// The profile is a secure one: packets are SRTP.
    pub secure: bool,
    /// The profile lets feedback go out at once.
    pub early_feedback: bool,
    /// Values of `a=crypto` (RFC 4568), in order. They hold keys.
    pub crypto: Vec<Secret<String>>,
}

impl fmt::Display for Coding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Pcmu => "G.711 µ-law",
            Self::Pcma => "G.711 A-law",
            Self::L16 => "L16",
            Self::Aac(aac) if matches!(aac.object_type(), Some(5 | 29)) => "HE-AAC",
            Self::Aac(_) => "AAC",
            Self::Other(name) => name,
        })
    }
}

impl Coding {
    /// The largest sample that it can say, of full scale; samples that stay there are clipped.
    #[must_use]
    pub const fn largest(&self) -> f32 {
        match self {
            Self::Pcmu => 32_124.0 / 32_768.0,
            Self::Pcma => 32_256.0 / 32_768.0,
            // One step below: the two ends of the numbers are not equally far.
            Self::L16 | Self::Aac(_) | Self::Other(_) => 32_767.0 / 32_768.0,
        }
    }

    /// Whether its samples can be read here, without a decoder.
    #[must_use]
    pub const fn is_plain(&self) -> bool {
        matches!(self, Self::Pcmu | Self::Pcma | Self::L16)
    }

    /// The samples of a packet of a plain coding, interleaved by channel, into `out`.
    pub fn samples(&self, payload: &[u8], out: &mut Vec<f32>) {
        match self {
            Self::Pcmu => out.extend(payload.iter().map(|byte| f32::from(MU_LAW[usize::from(*byte)]) / 32_768.0)),
            Self::Pcma => out.extend(payload.iter().map(|byte| f32::from(A_LAW[usize::from(*byte)]) / 32_768.0)),
            Self::L16 => {
                out.extend(payload.as_chunks::<2>().0.iter().map(|pair| f32::from(i16::from_be_bytes(*pair)) / 32_768.0));
            }
            Self::Aac(_) | Self::Other(_) => {}
        }
    }
}

const MU_LAW: [i16; 256] = {
    let (mut table, mut code) = ([0; 256], 0);
    while code < 256 {
        let plain = !(code as u8);
        let magnitude = ((((plain & 0x0f) as i16) << 3) + 0x84) << ((plain >> 4) & 7);
        table[code] = if plain & 0x80 == 0 { magnitude - 0x84 } else { 0x84 - magnitude };
        code += 1;
    }
    table
};

const A_LAW: [i16; 256] = {
    let (mut table, mut code) = ([0; 256], 0);
    while code < 256 {
        let plain = code as u8 ^ 0x55;
        let (mantissa, segment) = (((plain & 0x0f) as i16) << 4, (plain >> 4) & 7);
        let magnitude = match segment {
            0 => mantissa + 8,
            segment => (mantissa + 0x108) << (segment - 1),
        };
        table[code] = if plain & 0x80 == 0 { -magnitude } else { magnitude };
        code += 1;
    }
    table
};

#[cfg(test)]
mod tests {
    use super::*;

    fn samples(coding: &Coding, payload: &[u8]) -> Vec<i32> {
        let mut out = Vec::new();
        coding.samples(payload, &mut out);
        out.iter().map(|sample| (sample * 32_768.0) as i32).collect()
    }

    #[test]
    fn samples_are_those_of_the_standards() {
        // G.711 tables 1a and 2a: the ends, the middle, and one of each side; ×4 and ×8 are their 16-bit forms.
        assert_eq!(
            samples(&Coding::Pcmu, &[0x80, 0x00, 0xff, 0x7f, 0xfe, 0x8f, 0x0f]),
            [32_124, -32_124, 0, 0, 8, 16_764, -16_764]
        );
        assert_eq!(samples(&Coding::Pcma, &[0xaa, 0x2a, 0xd5, 0x55, 0xd4, 0xa5]), [32_256, -32_256, 8, -8, 24, 16_896]);
        assert_eq!(samples(&Coding::L16, &[0x7f, 0xff, 0x80, 0x00, 0x00, 0x01, 0xff]), [32_767, -32_768, 1]);
        assert!(samples(&Coding::Other("OPUS".into()), &[1, 2]).is_empty());
    }
}
