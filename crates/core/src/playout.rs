//! When a unit goes on to the decoder: at once, after a receive buffer that evens out its arrival, or at one delay after
//! capture, so that one event appears at the same moment in several streams.

use crate::clock::CaptureClock;
use crate::{ClockPair, Mono, Wall};
use std::collections::VecDeque;
use std::net::IpAddr;
use std::time::Duration;

/// The longest receive buffer.
pub const LONGEST: Duration = Duration::from_secs(5);
/// What the spread of arrivals is read from.
const WINDOW: Duration = Duration::from_secs(60);
/// Arrivals remembered at most: a minute at 60 frames/s.
const MAX_ARRIVALS: usize = 3600;
/// Fewer arrivals than this have no 99th percentile.
const LEAST_ARRIVALS: usize = 50;
/// Buffers are proposed in steps of this.
const STEP: Duration = Duration::from_millis(10);
/// An alignment comes down only when it has been this much too long for [`HELD`]: each change is a jump in all pictures.
const SLACK: Duration = Duration::from_millis(40);
const HELD: Duration = Duration::from_secs(10);

/// When a stream's units go on to the decoder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Playout {
    /// As soon as they are complete.
    #[default]
    AtOnce,
    /// This long after the least time that any unit of the last minute took.
    Buffered(Duration),
    /// This long after they were captured; buffered like this where the capture time is not known.
    Aligned {
        /// From capture.
        delay: Duration,
        /// Without a capture time.
        buffer: Duration,
    },
}

/// How unevenly units arrive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ArrivalSpread {
    /// 99 of 100 units of the last minute took at most this much longer than the quickest one; `None` below 50 units.
    pub p99: Option<Duration>,
    /// From capture to arrival of the quickest one; `None` without a clock basis.
    pub least_path: Option<Duration>,
}

/// Where a device is, as far as its address tells: what to begin with depends on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// On this network.
    Local,
    /// Across the internet.
    Internet,
}

impl Place {
    /// By host name or address: private, link-local and loopback addresses, and names without a dot or under `.local`
    /// (RFC 6762), are local.
    #[must_use]
    pub fn of(host: &str) -> Self {
        let bare = host.trim_start_matches('[').trim_end_matches(']');
        let local = match bare.parse::<IpAddr>() {
            Ok(IpAddr::V4(ip)) => ip.is_private() || ip.is_loopback() || ip.is_link_local() || ip.is_multicast(),
            Ok(IpAddr::V6(ip)) => ip.is_loopback() || ip.is_unique_local() || ip.is_unicast_link_local() || ip.is_multicast(),
            Err(_) => match bare.trim_end_matches('.').rsplit_once('.') {
                None => true,
                Some((_, last)) => last.eq_ignore_ascii_case("local"),
            },
        };
        if local { Self::Local } else { Self::Internet }
    }

    /// The receive buffer to begin with.
    #[must_use]
    pub const fn buffer(self) -> Duration {
        match self {
            Self::Local => Duration::from_millis(300),
            Self::Internet => Duration::from_millis(1500),
        }
    }

    /// In a word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Local => "local",
            Self::Internet => "internet",
        }
    }
}

impl ArrivalSpread {
    /// The least buffer that this stream needs: its 99th percentile and a step, in steps of 10 ms.
    #[must_use]
    pub fn proposal(&self) -> Option<Duration> {
        let steps = self.p99?.as_micros().div_ceil(STEP.as_micros()) as u32 + 1;
        Some((STEP * steps).min(LONGEST))
    }
}

/// Follows how unevenly units arrive.
#[derive(Debug, Clone, Default)]
pub struct ArrivalMeter {
    arrivals: VecDeque<(Mono, i64)>,
}

impl ArrivalMeter {
    /// A unit's last packet arrived.
    pub fn on_unit(&mut self, arrival: Mono, timestamp: i64) {
        while self.arrivals.len() >= MAX_ARRIVALS || self.arrivals.front().is_some_and(|(at, _)| arrival.since(*at) > WINDOW) {
            self.arrivals.pop_front();
        }
        self.arrivals.push_back((arrival, timestamp));
    }

    /// A new sequence of timestamps begins.
    pub fn restart(&mut self) {
        self.arrivals.clear();
    }

    /// What they show; `captured` gives the capture time of a timestamp, where it is known.
    pub fn read(&self, clock: &CaptureClock, pair: ClockPair, captured: impl Fn(i64) -> Option<Wall>) -> Option<ArrivalSpread> {
        let delay = |(arrival, timestamp): &(Mono, i64)| clock.raw_delay(*arrival, *timestamp);
        let quickest = self.arrivals.iter().min_by_key(|arrival| delay(arrival))?;
        let least = delay(quickest);
        let least_path = captured(quickest.1)
            .map(|captured| Duration::from_micros(pair.wall_at(quickest.0).micros_since(captured).max(0) as u64));
        let mut delays: Vec<i64> = self.arrivals.iter().map(|arrival| delay(arrival) - least).collect();
        let p99 = (delays.len() >= LEAST_ARRIVALS).then(|| {
            let rank = (delays.len() * 99).div_ceil(100) - 1;
            Duration::from_micros(*delays.select_nth_unstable(rank).1 as u64)
        });
        Some(ArrivalSpread { p99, least_path })
    }
}

/// One stream of a group that is aligned.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Member {
    /// From capture to arrival at the quickest; `None` without a clock basis: it cannot be aligned.
    pub least_path: Option<Duration>,
    /// Its receive buffer.
    pub buffer: Duration,
}

/// The delay from capture at which a group is shown: that of the slowest.
#[derive(Debug, Clone, Copy, Default)]
pub struct Alignment {
    delay: Option<Duration>,
    too_long_since: Option<Mono>,
}

impl Alignment {
    /// The delay for these members now: it grows at once, and shrinks when it has been too long for a while. `None` while
    /// none has a clock.
    pub fn update(&mut self, now: Mono, members: &[Member]) -> Option<Duration> {
        let slowest = members.iter().filter_map(|member| Some(member.least_path? + member.buffer)).max()?;
        let slowest = STEP * slowest.as_micros().div_ceil(STEP.as_micros()) as u32;
        match self.delay {
            Some(delay) if slowest <= delay && slowest + SLACK > delay => self.too_long_since = None,
            Some(delay) if slowest < delay => {
                let since = *self.too_long_since.get_or_insert(now);
                if now.since(since) >= HELD {
                    (self.delay, self.too_long_since) = (Some(slowest), None);
                }
            }
            _ => (self.delay, self.too_long_since) = (Some(slowest), None),
        }
        self.delay
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{ClockRate, NtpTime};

    fn ms(millis: u64) -> Duration {
        Duration::from_millis(millis)
    }

    #[test]
    fn a_place_is_known_by_the_address() {
        for local in
            ["127.77.0.1", "10.4.0.9", "192.168.1.2", "169.254.3.3", "[fd00::7]", "fe80::1", "gate", "gate.local", "239.1.1.1"]
        {
            assert_eq!(Place::of(local), Place::Local, "{local}");
        }
        for far in ["198.51.100.4", "2001:db8::1", "cam.example.org"] {
            assert_eq!(Place::of(far), Place::Internet, "{far}");
        }
        assert_eq!((Place::Local.buffer(), Place::Internet.buffer()), (ms(300), ms(1500)));
    }

    #[test]
    fn the_spread_is_the_99th_percentile_above_the_quickest() {
        let pair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        clock.on_sender_report(pair.wall.offset(30_000), NtpTime::from_wall(pair.wall), 0);
        let mut meter = ArrivalMeter::default();
        for n in 0..200u64 {
            // Captured at 40 n; on the way 20 ms, every tenth 30 ms more, one of them a second more.
            let late = if n == 77 {
                1000
            } else if n % 10 == 0 {
                30
            } else {
                0
            };
            meter.on_unit(Mono::from_millis(40 * n + 20 + late), 3600 * n as i64);
        }
        let offset = clock.offset(pair.wall, None, None).unwrap();
        let spread = meter.read(&clock, pair, |timestamp| clock.captured(timestamp, offset)).unwrap();
        assert_eq!((spread.p99, spread.least_path), (Some(ms(30)), Some(ms(20))));
        assert_eq!(spread.proposal(), Some(ms(40)));
        let few = ArrivalMeter { arrivals: meter.arrivals.iter().take(49).copied().collect() };
        assert_eq!(few.read(&clock, pair, |_| None), Some(ArrivalSpread { p99: None, least_path: None }));
        assert_eq!(ArrivalSpread { p99: Some(ms(8000)), least_path: None }.proposal(), Some(LONGEST));
    }

    #[test]
    fn a_group_waits_for_its_slowest_and_does_not_jump_about() {
        let member = |path, buffer| Member { least_path: Some(ms(path)), buffer: ms(buffer) };
        let blind = Member { least_path: None, buffer: ms(4000) };
        let mut alignment = Alignment::default();
        assert_eq!(alignment.update(Mono::ZERO, &[blind]), None);
        assert_eq!(alignment.update(Mono::ZERO, &[member(12, 300), member(205, 300), blind]), Some(ms(510)));
        // A little less, and a lot less for a while: it stays.
        assert_eq!(alignment.update(Mono::from_millis(500), &[member(12, 300), member(180, 300)]), Some(ms(510)));
        assert_eq!(alignment.update(Mono::from_millis(1000), &[member(12, 300), member(20, 300)]), Some(ms(510)));
        assert_eq!(alignment.update(Mono::from_millis(10_900), &[member(12, 300)]), Some(ms(510)));
        assert_eq!(alignment.update(Mono::from_millis(11_000), &[member(12, 300)]), Some(ms(320)));
        // More: at once.
        assert_eq!(alignment.update(Mono::from_millis(11_500), &[member(12, 300), member(100, 900)]), Some(ms(1000)));
    }
}
