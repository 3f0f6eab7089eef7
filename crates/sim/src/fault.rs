//! Faults on order.

use lattice_core::onvif::ReportKind;
use std::net::{IpAddr, SocketAddr};
use std::str::FromStr;
use std::time::Duration;

/// What goes wrong, and for how long.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Fault {
    /// Sessions are cut, and new connections closed at once.
    Cut {
        /// How long.
        lasting: Duration,
    },
    /// Sessions stay, no packet is sent; the frames are never sent later.
    Stall {
        /// How long.
        lasting: Duration,
    },
    /// Media packets are dropped at random.
    Loss {
        /// Share dropped, 0 to 1.
        share: f64,
        /// How long.
        lasting: Duration,
    },
    /// Media packets are sent late.
    Delay {
        /// Each by this much,
        base: Duration,
        /// and at random up to this much more, so that over UDP they change places.
        jitter: Duration,
        /// How long.
        lasting: Duration,
    },
    /// The camera makes fewer frames.
    Slow {
        /// Share of the usual rate, above 0 to 1.
        share: f64,
        /// How long.
        lasting: Duration,
    },
    /// The picture itself goes wrong, or changes.
    Picture {
        /// How.
        how: PictureFault,
        /// How long.
        lasting: Duration,
    },
    /// The link to each viewer carries no more than this: packets queue, and over UDP those that would wait longer than
    /// half a second are dropped.
    Throttle {
        /// Bits a second.
        bits: f64,
        /// How long.
        lasting: Duration,
    },
    /// The camera sends another picture size.
    Size {
        /// Pixels across.
        width: usize,
        /// Pixels down.
        height: usize,
        /// How long.
        lasting: Duration,
    },
    /// The sound goes wrong, or is other than usual.
    Sound {
        /// How.
        how: SoundFault,
        /// How long.
        lasting: Duration,
    },
    /// The device reports something, and after this time that it is over.
    Report {
        /// What.
        kind: ReportKind,
        /// How long.
        lasting: Duration,
    },
    /// The device reports motion and its end again and again.
    Flood {
        /// Reports a second.
        rate: f64,
        /// How long.
        lasting: Duration,
    },
    /// The camera pushes its sub stream as MPEG-TS.
    Push {
        /// Where.
        to: SocketAddr,
        /// In RTP rather than bare.
        rtp: bool,
        /// How long.
        lasting: Duration,
    },
    /// The device is at another address from now on.
    Move {
        /// Where.
        to: IpAddr,
    },
}

/// What is wrong with the sound, or other than usual.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SoundFault {
    /// Nothing is heard.
    Hush,
    /// Somebody shouts into the microphone.
    Shout,
    /// It is so loud that it is cut off at full scale.
    Clip,
}

impl SoundFault {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Hush, Self::Shout, Self::Clip];

    /// Its one-word name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Hush => "hush",
            Self::Shout => "shout",
            Self::Clip => "clip",
        }
    }
}

/// What is wrong with a picture, or other than usual.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PictureFault {
    /// The same picture is sent again and again.
    Freeze,
    /// No light.
    Dark,
    /// A lamp into the lens.
    Glare,
    /// Something even and bright before the lens.
    Cover,
    /// Out of focus.
    Blur,
    /// Night mode: no colour, and half the frames.
    Night,
}

impl PictureFault {
    /// All of them.
    pub const ALL: [Self; 6] = [Self::Freeze, Self::Dark, Self::Glare, Self::Cover, Self::Blur, Self::Night];

    /// Its one-word name.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Freeze => "freeze",
            Self::Dark => "dark",
            Self::Glare => "glare",
            Self::Cover => "cover",
            Self::Blur => "blur",
            Self::Night => "night",
        }
    }
}

impl Fault {
    /// How long it lasts.
    #[must_use]
    pub const fn lasting(&self) -> Duration {
        match self {
            Self::Cut { lasting }
            | Self::Stall { lasting }
            | Self::Loss { lasting, .. }
            | Self::Delay { lasting, .. }
            | Self::Slow { lasting, .. }
            | Self::Picture { lasting, .. }
            | Self::Throttle { lasting, .. }
            | Self::Sound { lasting, .. }
            | Self::Report { lasting, .. }
            | Self::Flood { lasting, .. }
            | Self::Size { lasting, .. }
            | Self::Push { lasting, .. } => *lasting,
            Self::Move { .. } => Duration::ZERO,
        }
    }

    /// Its one-word name.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Cut { .. } => "cut",
            Self::Stall { .. } => "stall",
            Self::Loss { .. } => "loss",
            Self::Delay { .. } => "delay",
            Self::Slow { .. } => "slow",
            Self::Picture { how, .. } => how.word(),
            Self::Sound { how, .. } => how.word(),
            Self::Report { kind, .. } => kind.word(),
            Self::Flood { .. } => "flood",
            Self::Throttle { .. } => "throttle",
            Self::Size { .. } => "size",
            Self::Move { .. } => "move",
            Self::Push { .. } => "push",
        }
    }
}

/// Why a fault could not be understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "not a fault: {0:?}; say cut SECONDS, stall SECONDS, loss PERCENT SECONDS, delay MS JITTER_MS SECONDS, slow PERCENT SECONDS, throttle KBIT_S SECONDS, size WIDTH HEIGHT SECONDS, freeze|dark|glare|cover|blur|night SECONDS, hush|shout|clip SECONDS, motion|crossing|tampering|signal-loss|digital-input|storage-failure|heard|other SECONDS, flood PER_SECOND SECONDS, move ADDRESS, push ADDRESS:PORT SECONDS or push-rtp ADDRESS:PORT SECONDS"
)]
/// Why an order is no fault.
pub struct FaultParseError(pub String);

impl FromStr for Fault {
    type Err = FaultParseError;

    fn from_str(text: &str) -> Result<Self, FaultParseError> {
        let error = || FaultParseError(text.to_owned());
        let mut words = text.split_whitespace();
        let kind = words.next().ok_or_else(error)?;
        if kind == "move" {
            let to: IpAddr = words.next().and_then(|word| word.parse().ok()).ok_or_else(error)?;
            return if to.is_loopback() { Ok(Self::Move { to }) } else { Err(error()) };
        }
        if kind == "push" || kind == "push-rtp" {
            let to: SocketAddr = words.next().and_then(|word| word.parse().ok()).ok_or_else(error)?;
            let seconds: f64 = words.next().and_then(|word| word.parse().ok()).ok_or_else(error)?;
            // A stand-in sends to this machine only.
            let sane = to.ip().is_loopback() && (0.0..=86_400.0).contains(&seconds);
            let push =
                Self::Push { to, rtp: kind == "push-rtp", lasting: Duration::from_secs_f64(if sane { seconds } else { 0.0 }) };
            return if sane { Ok(push) } else { Err(error()) };
        }
        let numbers: Vec<f64> = words.map(|word| word.parse().map_err(|_| error())).collect::<Result<_, _>>()?;
        let sane = numbers.iter().all(|n: &f64| n.is_finite() && (0.0..=86_400_000.0).contains(n));
        let seconds = Duration::from_secs_f64;
        match (kind, numbers.as_slice()) {
            _ if !sane => Err(error()),
            ("cut", [s]) => Ok(Self::Cut { lasting: seconds(*s) }),
            ("stall", [s]) => Ok(Self::Stall { lasting: seconds(*s) }),
            ("loss", [share, s]) if *share <= 100.0 => Ok(Self::Loss { share: share / 100.0, lasting: seconds(*s) }),
            ("delay", [ms, jitter, s]) => {
                Ok(Self::Delay { base: seconds(ms / 1e3), jitter: seconds(jitter / 1e3), lasting: seconds(*s) })
            }
            ("slow", [share, s]) if *share > 0.0 && *share <= 100.0 => {
                Ok(Self::Slow { share: share / 100.0, lasting: seconds(*s) })
            }
            ("flood", [rate, s]) if (0.1..=2000.0).contains(rate) => Ok(Self::Flood { rate: *rate, lasting: seconds(*s) }),
            ("throttle", [kbits, s]) if *kbits >= 1.0 => Ok(Self::Throttle { bits: kbits * 1e3, lasting: seconds(*s) }),
            ("size", [width, height, s]) if (64.0..=4096.0).contains(width) && (64.0..=4096.0).contains(height) => {
                Ok(Self::Size { width: *width as usize & !1, height: *height as usize & !1, lasting: seconds(*s) })
            }
            (word, [s]) => {
                let lasting = seconds(*s);
                if let Some(how) = SoundFault::ALL.into_iter().find(|how| how.word() == word) {
                    return Ok(Self::Sound { how, lasting });
                }
                if let Some(kind) = ReportKind::from_word(word) {
                    return Ok(Self::Report { kind, lasting });
                }
                let how = PictureFault::ALL.into_iter().find(|how| how.word() == word).ok_or_else(error)?;
                Ok(Self::Picture { how, lasting })
            }
            _ => Err(error()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_are_understood_or_explained() {
        assert_eq!("cut 2.5".parse(), Ok(Fault::Cut { lasting: Duration::from_millis(2500) }));
        let how = PictureFault::Freeze;
        assert_eq!("freeze 4".parse(), Ok(Fault::Picture { how, lasting: Duration::from_secs(4) }));
        assert_eq!("size 321 180 4".parse(), Ok(Fault::Size { width: 320, height: 180, lasting: Duration::from_secs(4) }));
        assert_eq!("loss 3 10".parse(), Ok(Fault::Loss { share: 0.03, lasting: Duration::from_secs(10) }));
        for bad in [
            "",
            "cut",
            "cut x",
            "cut -1",
            "loss 200 1",
            "slow 0 1",
            "melt 1",
            "size 1 1 4",
            "throttle 0 4",
            "stall NaN",
            "move",
            "move 192.0.2.1",
            "push 192.0.2.1:5000 3",
        ] {
            assert!(bad.parse::<Fault>().unwrap_err().to_string().contains("say cut SECONDS"), "{bad}");
        }
    }
}
