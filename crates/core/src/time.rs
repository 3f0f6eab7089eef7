//! The three clocks, kept apart by type.
//!
//! [`Mono`] is this machine's monotonic time, [`Wall`] its UTC, [`NtpTime`] what a camera claims.
//! Only a [`ClockPair`], taken at one moment, converts between the first two.

use serde::{Deserialize, Serialize};
use std::ops::{Add, Sub};
use std::time::Duration;

/// Monotonic time of this machine: microseconds since an arbitrary start.
///
/// ```
/// use lattice_core::Mono;
/// use std::time::Duration;
/// let later = Mono::from_millis(40) + Duration::from_millis(2);
/// assert_eq!(later.since(Mono::from_millis(40)), Duration::from_millis(2));
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Mono(u64);

impl Mono {
    /// The arbitrary start.
    pub const ZERO: Self = Self(0);

    /// A moment `micros` microseconds after the start.
    #[must_use]
    pub const fn from_micros(micros: u64) -> Self {
        Self(micros)
    }

    /// A moment `millis` milliseconds after the start.
    #[must_use]
    pub const fn from_millis(millis: u64) -> Self {
        Self(millis * 1000)
    }

    /// Microseconds since the start.
    #[must_use]
    pub const fn as_micros(self) -> u64 {
        self.0
    }

    /// The span since `earlier`; zero when `earlier` is in fact later.
    #[must_use]
    pub const fn since(self, earlier: Self) -> Duration {
        Duration::from_micros(self.0.saturating_sub(earlier.0))
    }

    /// Signed microseconds since `other`.
    #[must_use]
    pub const fn micros_since(self, other: Self) -> i64 {
        self.0.wrapping_sub(other.0) as i64
    }

    /// This moment moved back by `span`, not before the start.
    #[must_use]
    pub const fn back(self, span: Duration) -> Self {
        Self(self.0.saturating_sub(span.as_micros() as u64))
    }

    /// This moment moved by signed microseconds, not before the start.
    #[must_use]
    pub const fn offset(self, micros: i64) -> Self {
        Self(self.0.saturating_add_signed(micros))
    }
}

impl Add<Duration> for Mono {
    type Output = Self;
    fn add(self, span: Duration) -> Self {
        Self(self.0.saturating_add(span.as_micros() as u64))
    }
}

impl Sub<Mono> for Mono {
    type Output = Duration;
    fn sub(self, earlier: Mono) -> Duration {
        self.since(earlier)
    }
}

/// UTC of this machine: microseconds since 1970-01-01T00:00:00Z.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Wall(i64);

impl Wall {
    /// A moment given as microseconds since the Unix epoch.
    #[must_use]
    pub const fn from_unix_micros(micros: i64) -> Self {
        Self(micros)
    }

    /// Microseconds since the Unix epoch.
    #[must_use]
    pub const fn as_unix_micros(self) -> i64 {
        self.0
    }

    /// Signed microseconds since `other`.
    #[must_use]
    pub const fn micros_since(self, other: Self) -> i64 {
        self.0 - other.0
    }

    /// This moment moved by signed microseconds.
    #[must_use]
    pub const fn offset(self, micros: i64) -> Self {
        Self(self.0.saturating_add(micros))
    }
}

/// A moment in NTP's 64-bit format (RFC 5905 §6): seconds since 1900 and a binary fraction.
///
/// It is what a camera *claims* in a sender report (RFC 3550 §6.4.1); nothing says it is right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct NtpTime(pub u64);

/// Seconds from 1900-01-01 (NTP era 0) to 1970-01-01.
const NTP_UNIX_SECONDS: i64 = 2_208_988_800;

impl NtpTime {
    /// The NTP form of a moment of our own wall clock.
    #[must_use]
    pub const fn from_wall(wall: Wall) -> Self {
        let micros = wall.0 + NTP_UNIX_SECONDS * 1_000_000;
        let seconds = micros.div_euclid(1_000_000) as u64;
        let rest = micros.rem_euclid(1_000_000) as u64;
        Self((seconds << 32) | ((rest << 32) / 1_000_000))
    }

    /// The claimed moment on the scale of our wall clock (era 0 only: until 2036 exact,
    /// afterwards a camera that wraps reads as 136 years off and counts as a wrong clock).
    #[must_use]
    pub const fn to_wall(self) -> Wall {
        let seconds = (self.0 >> 32) as i64 - NTP_UNIX_SECONDS;
        let micros = ((self.0 & 0xffff_ffff) * 1_000_000 + (1 << 31)) >> 32;
        Wall(seconds * 1_000_000 + micros as i64)
    }

    /// The middle 32 bits, as reports quote it (RFC 3550 §6.4.1, LSR).
    #[must_use]
    pub const fn middle(self) -> u32 {
        (self.0 >> 16) as u32
    }
}

/// The same moment on this machine's two clocks; converts one into the other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClockPair {
    /// The moment, monotonic.
    pub mono: Mono,
    /// The moment, UTC.
    pub wall: Wall,
}

impl ClockPair {
    /// The UTC of a monotonic moment.
    #[must_use]
    pub const fn wall_at(&self, mono: Mono) -> Wall {
        self.wall.offset(mono.micros_since(self.mono))
    }

    /// The monotonic moment of a UTC.
    #[must_use]
    pub const fn mono_at(&self, wall: Wall) -> Mono {
        self.mono.offset(wall.micros_since(self.wall))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ntp_and_wall_agree_to_a_microsecond() {
        for micros in [0, 1, 999_999, 1_000_000, 1_795_500_000_123_457] {
            let wall = Wall::from_unix_micros(micros);
            let back = NtpTime::from_wall(wall).to_wall();
            assert!((back.micros_since(wall)).abs() <= 1, "{micros}: {back:?}");
        }
    }

    #[test]
    fn a_clock_pair_converts_both_ways() {
        let pair = ClockPair { mono: Mono::from_millis(500), wall: Wall::from_unix_micros(9_000_000) };
        let wall = pair.wall_at(Mono::from_millis(250));
        assert_eq!(wall, Wall::from_unix_micros(8_750_000));
        assert_eq!(pair.mono_at(wall), Mono::from_millis(250));
    }
}
