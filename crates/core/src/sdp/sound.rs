//! The sound of a description.

use super::{Description, Media};
use crate::sound::{Aac, Coding, Sound};
use crate::{ClockRate, Secret};

/// Most bytes of a decoder's configuration: it has two to seven.
const LONGEST_CONFIG: usize = 64;

impl Description {
    /// The first sound track, in its most preferred format whose level can be read here, or failing that in its first.
    #[must_use]
    pub fn sound(&self) -> Option<Sound> {
        self.media.iter().filter(|media| media.kind.eq_ignore_ascii_case("audio")).find_map(Media::sound)
    }
}

impl Media {
    fn sound(&self) -> Option<Sound> {
        let offered = || self.formats.iter().filter_map(|format| Some((*format, self.sound_coding(*format)?)));
        let known = offered().find(|(_, (coding, ..))| !matches!(coding, Coding::Other(_)));
        let (payload_type, (coding, clock_rate, channels)) = known.or_else(|| offered().next())?;
        Some(Sound {
            payload_type,
            coding,
            clock_rate,
            channels,
            control: self.control.clone(),
            secure: self.secure,
            early_feedback: self.early_feedback,
            crypto: self.crypto.iter().cloned().map(Secret::new).collect(),
        })
    }

    fn sound_coding(&self, format: u8) -> Option<(Coding, ClockRate, u8)> {
        let (name, rate, channels) = match self.rtpmaps.get(&format) {
            Some((name, rate)) => (name.to_ascii_uppercase(), *rate, self.channels.get(&format).copied().unwrap_or(1)),
            // Static types (RFC 3551 §6).
            None => match format {
                0 => ("PCMU".into(), 8000, 1),
                8 => ("PCMA".into(), 8000, 1),
                9 => ("G722".into(), 8000, 1),
                10 => ("L16".into(), 44_100, 2),
                11 => ("L16".into(), 44_100, 1),
                14 => ("MPA".into(), 90_000, 1),
                _ => return None,
            },
        };
        let fmtp = self.fmtps.get(&format).map(String::as_str);
        let coding = match name.as_str() {
            "PCMU" => Coding::Pcmu,
            "PCMA" => Coding::Pcma,
            "L16" => Coding::L16,
            "MPEG4-GENERIC" => fmtp.and_then(aac).map_or_else(|| Coding::Other("MPEG4-GENERIC".into()), Coding::Aac),
            other => Coding::Other(other.chars().take(20).collect()),
        };
        // Descriptions of AAC leave the channels out, or know them less well than its configuration.
        let channels = if let Coding::Aac(aac) = &coding { aac.channels().unwrap_or(channels) } else { channels };
        // Without a rate that could be, that of telephones.
        let rate = ClockRate::new(rate).or_else(|| ClockRate::new(8000))?;
        Some((coding, rate, channels.max(1)))
    }
}

/// The parameters of RFC 3640 §4.1, for modes that carry AAC.
fn aac(fmtp: &str) -> Option<Aac> {
    let of = |wanted: &str| {
        fmtp.split(';').find_map(|part| {
            let (key, value) = part.split_once('=')?;
            key.trim().eq_ignore_ascii_case(wanted).then(|| value.trim())
        })
    };
    let bits = |wanted: &str| of(wanted).and_then(|value| value.parse().ok()).filter(|bits| *bits <= 32).unwrap_or(0);
    if of("mode").is_some_and(|mode| !mode.to_ascii_uppercase().starts_with("AAC-")) {
        return None;
    }
    let hex = of("config").filter(|hex| hex.is_ascii() && hex.len() >= 4 && hex.len() <= LONGEST_CONFIG * 2)?;
    let config = hex.as_bytes().chunks_exact(2).map(|pair| {
        let pair = std::str::from_utf8(pair).ok()?;
        u8::from_str_radix(pair, 16).ok()
    });
    Some(Aac {
        config: config.collect::<Option<_>>()?,
        size_length: bits("sizeLength"),
        index_length: bits("indexLength"),
        index_delta_length: bits("indexDeltaLength"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(lines: &str) -> Option<(String, u32, u8)> {
        let sound = Description::parse(&format!("m=video 0 RTP/AVP 96\na=control:a\nm=audio {lines}")).sound()?;
        Some((sound.coding.to_string(), sound.clock_rate.hz(), sound.channels))
    }

    #[test]
    fn codings_are_named_by_what_is_said_and_by_their_static_types() {
        for (lines, want) in [
            ("0 RTP/AVP 0", ("G.711 µ-law", 8000, 1)),
            ("0 RTP/AVP 8\na=rtpmap:8 PCMA/16000/2", ("G.711 A-law", 16_000, 2)),
            ("0 RTP/AVP 10", ("L16", 44_100, 2)),
            ("0 RTP/AVP 97\na=rtpmap:97 L16/48000", ("L16", 48_000, 1)),
            ("0 RTP/AVP 97\na=rtpmap:97 opus/48000/2", ("OPUS", 48_000, 2)),
            ("0 RTP/AVP 97 0\na=rtpmap:97 G726-32/8000", ("G.711 µ-law", 8000, 1)),
            ("0 RTP/AVP 97\na=rtpmap:97 mpeg4-generic/16000\na=fmtp:97 mode=AAC-hbr;config=1410", ("AAC", 16_000, 2)),
            ("0 RTP/AVP 97\na=rtpmap:97 mpeg4-generic/48000/2\na=fmtp:97 mode=AAC-hbr; config=2b11", ("HE-AAC", 48_000, 2)),
            ("0 RTP/AVP 97\na=rtpmap:97 mpeg4-generic/16000\na=fmtp:97 mode=CELP-vbr;config=1408", ("MPEG4-GENERIC", 16_000, 1)),
            ("0 RTP/AVP 97\na=rtpmap:97 mpeg4-generic/16000\na=fmtp:97 mode=AAC-hbr;config=14zz", ("MPEG4-GENERIC", 16_000, 1)),
            ("0 RTP/AVP 97\na=rtpmap:97 L16/0", ("L16", 8000, 1)),
        ] {
            assert_eq!(of(lines), Some((want.0.to_owned(), want.1, want.2)), "{lines}");
        }
        assert_eq!((of("0 RTP/AVP 99"), Description::parse("m=video 0 RTP/AVP 96").sound()), (None, None));
    }

    #[test]
    fn how_access_units_stand_in_packets_is_read() {
        let text = "m=audio 0 RTP/AVP 97\na=rtpmap:97 MPEG4-GENERIC/16000\n\
                    a=fmtp:97 streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength=13;indexlength=3;IndexDeltaLength=3;config=1408";
        let Some(Sound { coding: Coding::Aac(aac), .. }) = Description::parse(text).sound() else { panic!("AAC") };
        assert_eq!(aac, Aac { config: vec![0x14, 0x08], size_length: 13, index_length: 3, index_delta_length: 3 });
        assert_eq!(aac.object_type(), Some(2));
    }
}
