use super::capture::CaptureTimes;
use super::figures::{Latency, Spread};
use crate::clock::CaptureClock;
use crate::{ClockPair, Mono};
use std::collections::VecDeque;
use std::time::Duration;

const WINDOW: Duration = Duration::from_secs(10);
/// Most frames followed: 10 s at 200 frames/s.
const MAX_FRAMES: usize = 2000;

#[derive(Debug, Clone, Copy)]
struct Followed {
    number: u64,
    timestamp: i64,
    arrival: Mono,
    finished: Mono,
    decoded: Option<Mono>,
    drawn: Option<Mono>,
}

/// Follows frames from capture to screen.
#[derive(Debug, Clone, Default)]
pub struct LatencyMeter {
    frames: VecDeque<Followed>,
}

impl LatencyMeter {
    /// A frame's last packet arrived at `arrival`, and we let it go on at `finished`.
    pub fn on_unit(&mut self, number: u64, timestamp: i64, arrival: Mono, finished: Mono) {
        while self.frames.len() >= MAX_FRAMES || self.frames.front().is_some_and(|frame| finished.since(frame.finished) > WINDOW)
        {
            self.frames.pop_front();
        }
        self.frames.push_back(Followed { number, timestamp, arrival, finished, decoded: None, drawn: None });
    }

    fn find(&mut self, number: u64) -> Option<&mut Followed> {
        let first = self.frames.front()?.number;
        self.frames.get_mut(number.checked_sub(first)? as usize).filter(|frame| frame.number == number)
    }

    /// It went on to the decoder after its receive buffer.
    pub fn on_released(&mut self, number: u64, at: Mono) {
        if let Some(frame) = self.find(number) {
            frame.finished = at;
        }
    }

    /// Its picture was ready for the painter.
    pub fn on_decoded(&mut self, number: u64, at: Mono) {
        if let Some(frame) = self.find(number) {
            frame.decoded.get_or_insert(at);
        }
    }

    /// Its picture was written to the terminal.
    pub fn on_drawn(&mut self, number: u64, at: Mono) {
        if let Some(frame) = self.find(number) {
            frame.drawn.get_or_insert(at);
        }
    }

    /// A new sequence of timestamps: older frames cannot be placed on the new clock.
    pub fn restart(&mut self) {
        self.frames.clear();
    }

    /// A frame's timestamp and arrival, while it is followed.
    pub(super) fn of(&mut self, number: u64) -> Option<(i64, Mono)> {
        self.find(number).map(|frame| (frame.timestamp, frame.arrival))
    }

    /// The first and the last arrival of frames of the last 10 s that took longer than this from capture.
    pub(super) fn late(
        &self,
        now: Mono,
        clock: &CaptureClock,
        pair: ClockPair,
        times: CaptureTimes,
        limit: Duration,
    ) -> Option<(Mono, Mono)> {
        let recent = self.frames.iter().filter(|frame| now.since(frame.finished) <= WINDOW);
        let late = |frame: &&Followed| times.path(clock, pair, frame.arrival, frame.timestamp).is_some_and(|path| path > limit);
        let mut arrivals = recent.filter(late).map(|frame| frame.arrival);
        let first = arrivals.next()?;
        Some((first, arrivals.next_back().unwrap_or(first)))
    }

    /// Latency over the last 10 s; `None` before a frame is complete.
    pub(super) fn read(&self, now: Mono, clock: &CaptureClock, pair: ClockPair, times: CaptureTimes) -> Option<Latency> {
        let recent = || self.frames.iter().filter(|frame| now.since(frame.finished) <= WINDOW);
        let any_drawn = recent().any(|frame| frame.drawn.is_some());
        let any_decoded = recent().any(|frame| frame.decoded.is_some());
        // Only frames that went all the way are compared: of those skipped for a newer one nothing
        // reached the screen.
        let went_all_the_way =
            |frame: &&Followed| if any_drawn { frame.drawn.is_some() } else { !any_decoded || frame.decoded.is_some() };
        let frames: Vec<&Followed> = recent().filter(went_all_the_way).collect();
        let path_of = |frame: &&Followed| times.path(clock, pair, frame.arrival, frame.timestamp).map(micros);
        let paths: Vec<u64> = frames.iter().map(path_of).collect::<Option<_>>()?;
        let after = |frame: &Followed| micros(frame.drawn.or(frame.decoded).unwrap_or(frame.finished).since(frame.arrival));
        let part = |of: fn(&Followed) -> Option<Duration>| spread(frames.iter().filter_map(|frame| of(frame)).map(micros));
        Some(Latency {
            basis: times.basis(),
            error: times.error(),
            total: spread(frames.iter().zip(&paths).map(|(frame, path)| path + after(frame)))?,
            buffer: part(|frame| Some(frame.finished.since(frame.arrival)))?,
            decode: part(|frame| Some(frame.decoded?.since(frame.finished))),
            draw: part(|frame| Some(frame.drawn?.since(frame.decoded?))),
            path: spread(paths.into_iter())?,
        })
    }
}

const fn micros(span: Duration) -> u64 {
    span.as_micros() as u64
}

/// Nearest-rank percentiles of microseconds. Half a sort each: this is done twice a second for every stream.
fn spread(values: impl Iterator<Item = u64>) -> Option<Spread> {
    let mut values: Vec<u64> = values.collect();
    let rank = |share: f64| ((values.len() as f64 * share).ceil() as usize).saturating_sub(1);
    let (at_half, at_most) = (rank(0.5), rank(0.95));
    let (below, p95, _) = (!values.is_empty()).then(|| values.select_nth_unstable(at_most))?;
    let p95 = *p95;
    let p50 = if at_half < below.len() { *below.select_nth_unstable(at_half).1 } else { p95 };
    Some(Spread { p50: Duration::from_micros(p50), p95: Duration::from_micros(p95) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::meter::LatencyBasis;
    use crate::{ClockRate, NtpTime, Wall};

    const PAIR: ClockPair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };

    #[test]
    fn the_parts_add_up_on_the_clock_basis() {
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        // At 1 s the camera's clock and RTP clock read 1 s and 90000.
        clock.on_sender_report(PAIR.wall.offset(1_001_000), NtpTime::from_wall(PAIR.wall.offset(1_000_000)), 90_000);
        let mut meter = LatencyMeter::default();
        for n in 0..100u64 {
            let captured = 1000 + 40 * n;
            let late = if n % 10 == 9 { 50 } else { 0 };
            let arrival = Mono::from_millis(captured + 30 + late);
            meter.on_unit(n, 90_000 + 3600 * n as i64, arrival, arrival + Duration::from_millis(2));
            meter.on_decoded(n, arrival + Duration::from_millis(5));
            if n % 2 == 1 {
                meter.on_drawn(n, arrival + Duration::from_millis(15));
            }
        }
        let offset = clock.offset(PAIR.wall, Some(Duration::from_millis(1)), None);
        let times = CaptureTimes::best(None, &clock, offset, PAIR.wall);
        let latency = meter.read(Mono::from_millis(5000), &clock, PAIR, times).unwrap();
        let ms = |spread: Spread| (spread.p50.as_millis(), spread.p95.as_millis());
        assert_eq!(latency.basis, LatencyBasis::Clock);
        assert_eq!(ms(latency.path), (30, 80));
        assert_eq!((ms(latency.buffer), ms(latency.decode.unwrap()), ms(latency.draw.unwrap())), ((2, 2), (3, 3), (10, 10)));
        assert_eq!(ms(latency.total), (45, 95));
    }

    #[test]
    fn without_reports_the_basis_is_relative() {
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        let mut meter = LatencyMeter::default();
        for n in 0..20u64 {
            let arrival = Mono::from_millis(500 + 40 * n + if n == 10 { 25 } else { 0 });
            clock.on_unit(arrival, 3600 * n as i64);
            meter.on_unit(n, 3600 * n as i64, arrival, arrival);
        }
        let times = CaptureTimes::best(None, &clock, clock.offset(PAIR.wall, None, None), PAIR.wall);
        let latency = meter.read(Mono::from_millis(2000), &clock, PAIR, times).unwrap();
        assert_eq!((latency.basis, latency.error, latency.total.p50), (LatencyBasis::Relative, None, Duration::ZERO));
        assert_eq!(latency.total.p95, Duration::ZERO, "19 of 20 are at the least");
    }
}
