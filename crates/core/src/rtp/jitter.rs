use crate::{ClockRate, Mono, Ticks};
use std::time::Duration;

/// Interarrival jitter (RFC 3550 §6.4.1): |difference of transit times|, smoothed with gain 1/16.
///
/// All packets of one access unit carry one timestamp but leave one after the other; as usual for
/// video, the first packet of each timestamp is compared, so that a large keyframe is not jitter.
#[derive(Debug, Clone)]
pub struct Jitter {
    rate: ClockRate,
    last: Option<(i64, Mono)>,
    smoothed: Option<f64>,
}

impl Jitter {
    /// No packet seen yet, for a stream with this RTP clock.
    #[must_use]
    pub const fn new(rate: ClockRate) -> Self {
        Self { rate, last: None, smoothed: None }
    }

    /// Takes an arrival with its unwrapped RTP timestamp.
    pub fn on_packet(&mut self, timestamp: i64, arrival: Mono) {
        if let Some((last_timestamp, last_arrival)) = self.last {
            if timestamp == last_timestamp {
                return;
            }
            let sent = self.rate.micros(Ticks(timestamp - last_timestamp));
            let transit_change = (arrival.micros_since(last_arrival) - sent).unsigned_abs() as f64;
            let previous = self.smoothed.unwrap_or(0.0);
            self.smoothed = Some(previous + (transit_change - previous) / 16.0);
        }
        self.last = Some((timestamp, arrival));
    }

    /// Forgets the last packet (new SSRC), keeps the smoothed value.
    pub const fn restart(&mut self) {
        self.last = None;
    }

    /// The smoothed value; `None` until two packets with different RTP timestamps have arrived.
    #[must_use]
    pub fn value(&self) -> Option<Duration> {
        self.smoothed.map(|micros| Duration::from_secs_f64(micros / 1e6))
    }

    /// The same in ticks of the RTP clock, as a receiver report carries it.
    #[must_use]
    pub fn ticks(&self) -> u32 {
        self.rate.ticks(self.smoothed.unwrap_or(0.0) as i64).0 as u32
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steady_arrival_has_no_jitter_and_a_late_one_counts_a_sixteenth() {
        let mut jitter = Jitter::new(ClockRate::VIDEO);
        assert_eq!(jitter.value(), None);
        for n in 0..10u64 {
            jitter.on_packet(3600 * n as i64, Mono::from_millis(40 * n));
        }
        assert_eq!(jitter.value(), Some(Duration::ZERO));
        jitter.on_packet(36_000, Mono::from_millis(400 + 16));
        assert_eq!(jitter.value(), Some(Duration::from_millis(1)));
    }
}
