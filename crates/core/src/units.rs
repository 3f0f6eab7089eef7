//! Small types that carry a unit.

use std::time::Duration;

/// Ticks of a stream's RTP clock (RFC 3550 §5.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct Ticks(pub i64);

/// The rate of an RTP clock in Hz; never zero.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClockRate(u32);

impl ClockRate {
    /// 90 kHz, the clock of every video payload format here.
    pub const VIDEO: Self = Self(90_000);

    /// A rate in Hz; `None` for zero.
    #[must_use]
    pub const fn new(hz: u32) -> Option<Self> {
        if hz == 0 { None } else { Some(Self(hz)) }
    }

    /// The rate in Hz.
    #[must_use]
    pub const fn hz(self) -> u32 {
        self.0
    }

    /// Signed microseconds of a number of ticks.
    #[must_use]
    pub const fn micros(self, ticks: Ticks) -> i64 {
        match ticks.0.checked_mul(1_000_000) {
            Some(product) => product / self.0 as i64,
            None => (ticks.0 as i128 * 1_000_000 / self.0 as i128) as i64,
        }
    }

    /// Ticks in a signed number of microseconds.
    #[must_use]
    pub const fn ticks(self, micros: i64) -> Ticks {
        Ticks((micros as i128 * self.0 as i128 / 1_000_000) as i64)
    }
}

/// A length of time in a few characters, the same everywhere: `3.0 s`, `48.2 s`, `1 min 40 s`, `2 h 13 min`.
#[must_use]
pub fn length_text(span: Duration) -> String {
    let seconds = (span.as_secs_f64()).round() as u64;
    match span.as_millis() {
        0..99_950 => format!("{:.1} s", span.as_secs_f64()),
        99_950..7_199_500 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        _ => format!("{} h {:02} min", seconds / 3600, seconds / 60 % 60),
    }
}

/// Payload bits per second.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct BitsPerSecond(pub f64);

impl BitsPerSecond {
    /// In kbit/s.
    #[must_use]
    pub fn kilo(self) -> f64 {
        self.0 / 1000.0
    }
}

/// Pictures per second, 0.01 to 1000: from one picture in a hundred seconds to more than any camera makes.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct FrameRate(f64);

impl FrameRate {
    /// A rate that a camera could mean; `None` for anything else, and for what is not a number.
    #[must_use]
    pub fn new(per_second: f64) -> Option<Self> {
        (0.01..=1000.0).contains(&per_second).then_some(Self(per_second))
    }

    /// Pictures per second.
    #[must_use]
    pub const fn per_second(self) -> f64 {
        self.0
    }

    /// The time from one picture to the next.
    #[must_use]
    pub fn period(self) -> Duration {
        Duration::from_secs_f64(1.0 / self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_that_no_camera_could_mean_are_none() {
        for (rate, believed) in [
            (25.0, true),
            (0.01, true),
            (1000.0, true),
            (1e-20, false),
            (0.0, false),
            (-1.0, false),
            (1e9, false),
            (f64::NAN, false),
        ] {
            assert_eq!(FrameRate::new(rate).is_some(), believed, "{rate}");
        }
        assert_eq!(FrameRate::new(0.01).unwrap().period(), Duration::from_secs(100));
    }
}
