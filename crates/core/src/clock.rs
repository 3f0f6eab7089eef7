//! From RTP timestamps to capture times, by sender reports (RFC 3550 §6.4.1).
//!
//! A sender report pairs the camera's wall clock with its RTP clock. What the camera's clock reads
//! on ours is estimated from the reports' own transit: the least time from the NTP time in a report
//! to its arrival. If that least transit is one that a path could have (not before it was sent, and
//! under [`PLAUSIBLE_TRANSIT`]), the clocks are taken to agree, and the transit bounds the error.
//! Otherwise the camera's clock disagrees with ours, and by how much is not known to better than that: the transit of the
//! reports is the offset and the path in one, so no latency can be told from it, only how far the clock is off.
//!
//! Where the device itself has told its time ([`Told`]), that goes before the guess, as long as the reports agree with
//! it: some devices stamp their reports by another clock than the one that they tell.

use crate::{ClockOffset, ClockRate, Mono, NtpTime, Ticks, Wall};
use std::collections::VecDeque;
use std::time::Duration;

/// Longest transit that is taken for a slow path rather than a wrong clock.
pub const PLAUSIBLE_TRANSIT: Duration = Duration::from_secs(2);
/// How far a report may seem to arrive before it was sent (clock reading, kernel stamps).
const EARLY_MICROS: i64 = 5_000;
/// Reports remembered; at one in 5 s, the last two minutes.
const REMEMBERED: usize = 24;
/// A change of transit beyond this is a clock that was set.
const STEP_MICROS: i64 = 1_000_000;

/// How far two clocks may part in a second: 100 µs allow for any quartz.
pub(crate) const DRIFT_PER_MILLION: u32 = 100;

/// What a device told of its clock, and when.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Told {
    /// How far it was ahead of ours.
    pub offset: ClockOffset,
    /// When it was read.
    pub at: Wall,
}

impl Told {
    /// The same after our own clock was set to be later by so many microseconds.
    #[must_use]
    pub const fn after_own_step(self, micros: i64) -> Self {
        let offset = ClockOffset { micros: self.offset.micros - micros, ..self.offset };
        Self { offset, at: self.at.offset(micros) }
    }

    /// What is known of it at this time: the bound grows by what clocks may drift.
    #[must_use]
    pub fn by(self, now: Wall) -> ClockOffset {
        let age = Duration::from_micros(now.micros_since(self.at).unsigned_abs());
        ClockOffset { error: self.offset.error + age * DRIFT_PER_MILLION / 1_000_000, ..self.offset }
    }
}

/// The camera's clock against ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Offset {
    /// What must be added to the camera's wall clock to get ours, in microseconds.
    pub micros: i64,
    /// How far that may be off.
    pub error: Duration,
    /// The camera's clock is beyond what a path could explain.
    pub clock_wrong: bool,
    /// It tells when pictures were captured; otherwise it tells only how far the clock is off.
    pub times_pictures: bool,
}

impl Offset {
    /// How far the camera's clock is off, with its bound: `5 h 0 min ahead ±2 s`.
    #[must_use]
    pub fn text(&self) -> String {
        let bound = match self.error.as_millis() {
            millis @ 2_000.. => format!("{} s", millis.div_ceil(1000)),
            millis => format!("{} ms", millis.max(1)),
        };
        format!("{} ±{bound}", off_text(-self.micros))
    }
}

/// How far a clock is off, in words: `7 min 3 s ahead`, `120 ms behind`, `under 1 ms`.
#[must_use]
pub fn off_text(micros: i64) -> String {
    if micros.abs() < 1_000 {
        return "under 1 ms".into();
    }
    let way = if micros >= 0 { "ahead" } else { "behind" };
    let exact = micros.unsigned_abs() / 1000;
    // Beyond ten seconds whole ones are told: the nearest.
    let millis = if exact >= 10_000 { (exact + 500) / 1000 * 1000 } else { exact };
    let (seconds, minutes, hours) = (millis / 1000, millis / 60_000, millis / 3_600_000);
    let span = match (hours, minutes, seconds) {
        (48.., ..) => format!("{} days", hours / 24),
        (1.., ..) => format!("{hours} h {} min", minutes % 60),
        (0, 1.., _) => format!("{minutes} min {} s", seconds % 60),
        (0, 0, 10..) => format!("{seconds} s"),
        (0, 0, 1..) => format!("{:.1} s", millis as f64 / 1000.0),
        _ => format!("{millis} ms"),
    };
    format!("{span} {way}")
}

/// How fast the camera's clock runs away from ours.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Drift {
    /// Parts in a million; positive when it is too fast.
    pub per_million: f64,
    /// How far that may be off: twice the standard error of the slope.
    pub error: f64,
}

/// Least transits are gathered over this time,
const DRIFT_STEP: i64 = 15_000_000;
/// and remembered for an hour.
const DRIFT_STEPS: usize = 240;
/// A slope of fewer points says nothing.
const DRIFT_FROM: usize = 6;

/// The line of least squares through points; its slope and the standard error of that.
fn slope(points: &[(f64, f64)]) -> Option<(f64, f64, f64)> {
    let count = points.len() as f64;
    let (x, y) = points.iter().fold((0.0, 0.0), |(x, y), point| (x + point.0 / count, y + point.1 / count));
    let (sxx, sxy) = points
        .iter()
        .fold((0.0, 0.0), |(sxx, sxy), point| (sxx + (point.0 - x) * (point.0 - x), sxy + (point.0 - x) * (point.1 - y)));
    if sxx <= 0.0 || count < 3.0 {
        return None;
    }
    let slope = sxy / sxx;
    let rest: f64 = points.iter().map(|point| (point.1 - y - slope * (point.0 - x)).powi(2)).sum();
    Some((slope, (rest / (count - 2.0) / sxx).sqrt(), y - slope * x))
}

/// Follows the sender reports of one SSRC.
#[derive(Debug, Clone)]
pub struct CaptureClock {
    rate: ClockRate,
    reference: Option<(i64, Wall)>,
    transits: VecDeque<i64>,
    /// By how many microseconds this machine's own clock was set since the first report.
    own_steps: i64,
    /// When the camera's clock was seen to be set last.
    stepped_at: Option<Wall>,
    /// Least transit of each step of time, for the drift: when, and how long.
    least_transits: VecDeque<(i64, i64)>,
    /// For a stream without reports: the least of arrival minus media time, by the second.
    least_by_second: VecDeque<(u64, i64)>,
}

impl CaptureClock {
    /// No report seen yet.
    #[must_use]
    pub const fn new(rate: ClockRate) -> Self {
        Self {
            rate,
            reference: None,
            transits: VecDeque::new(),
            own_steps: 0,
            stepped_at: None,
            least_transits: VecDeque::new(),
            least_by_second: VecDeque::new(),
        }
    }

    /// A report came at `arrival`; `timestamp` is its RTP timestamp on the stream's unwrapped scale.
    /// An NTP time of zero says that the sender has no clock, and is passed over.
    pub fn on_sender_report(&mut self, arrival: Wall, ntp: NtpTime, timestamp: i64) {
        if ntp.0 == 0 {
            return;
        }
        let claimed = ntp.to_wall();
        let transit = arrival.micros_since(claimed);
        if self.transits.back().is_some_and(|last| (last - transit).abs() > STEP_MICROS) {
            self.transits.clear();
            self.least_transits.clear();
            self.stepped_at = Some(arrival);
        }
        if self.transits.len() == REMEMBERED {
            self.transits.pop_front();
        }
        self.transits.push_back(transit);
        let at = arrival.as_unix_micros();
        match self.least_transits.back_mut() {
            Some((begin, least)) if at - *begin < DRIFT_STEP => *least = transit.min(*least),
            _ => self.least_transits.push_back((at, transit)),
        }
        while self.least_transits.len() > DRIFT_STEPS {
            self.least_transits.pop_front();
        }
        self.reference = Some((timestamp, claimed));
    }

    /// What the camera's clock said at a timestamp; `None` without sender reports.
    #[must_use]
    pub fn claimed(&self, timestamp: i64) -> Option<Wall> {
        let (reference, claimed) = self.reference?;
        Some(claimed.offset(self.rate.micros(Ticks(timestamp - reference))))
    }

    /// The least time from a report's claim to its arrival of the last reports, in microseconds.
    #[must_use]
    pub fn least_transit(&self) -> Option<i64> {
        self.transits.iter().copied().min()
    }

    /// Media time of a timestamp in microseconds, on a scale of the stream's own.
    #[must_use]
    pub const fn media_micros(&self, timestamp: i64) -> i64 {
        self.rate.micros(Ticks(timestamp))
    }

    /// This machine's own clock was set: by so many microseconds it is later now. What arrived before is put on the new time.
    pub fn on_own_step(&mut self, micros: i64) {
        for transit in &mut self.transits {
            *transit += micros;
        }
        self.own_steps += if self.transits.is_empty() { 0 } else { micros };
        // A line through what lies on both sides of it would be no drift.
        self.least_transits.clear();
    }

    /// How fast the camera's clock runs away, from the least transits of the last hour; reports that were held up far
    /// beyond the line are left out. `None` before a minute and a half of reports.
    #[must_use]
    pub fn drift(&self) -> Option<Drift> {
        let first = self.least_transits.front()?.0;
        let points: Vec<(f64, f64)> =
            self.least_transits.iter().map(|(at, transit)| ((at - first) as f64 / 1e6, *transit as f64)).collect();
        let (rough, _, at_zero) = slope(&points)?;
        let off = |point: &(f64, f64)| (point.1 - at_zero - rough * point.0).abs();
        let mut offs: Vec<f64> = points.iter().map(off).collect();
        offs.sort_by(f64::total_cmp);
        let limit = (offs[offs.len() / 2] * 3.0).max(100.0);
        let kept: Vec<(f64, f64)> = points.iter().copied().filter(|point| off(point) <= limit).collect();
        if kept.len() < DRIFT_FROM {
            return None;
        }
        let (slope, error, _) = slope(&kept)?;
        // A clock that is too fast makes transits shorter.
        Some(Drift { per_million: -slope, error: error * 2.0 })
    }

    /// A unit with this timestamp arrived; feeds the relative basis.
    pub fn on_unit(&mut self, arrival: Mono, timestamp: i64) {
        let delay = self.raw_delay(arrival, timestamp);
        let second = arrival.as_micros() / 1_000_000;
        match self.least_by_second.back_mut() {
            Some((last, least)) if *last == second => *least = (*least).min(delay),
            _ => self.least_by_second.push_back((second, delay)),
        }
        while self.least_by_second.front().is_some_and(|(first, _)| first + 60 < second) {
            self.least_by_second.pop_front();
        }
    }

    /// Arrival minus media time, in microseconds; only differences mean anything.
    pub(crate) const fn raw_delay(&self, arrival: Mono, timestamp: i64) -> i64 {
        arrival.as_micros() as i64 - self.media_micros(timestamp)
    }

    /// How much earlier an arrival is, in microseconds, than the quickest of the last minute would have been; `None` before any.
    pub(crate) fn ahead_of_least(&self, arrival: Mono, timestamp: i64) -> Option<i64> {
        let least = self.least_by_second.iter().map(|(_, least)| *least).min()?;
        Some(least - self.raw_delay(arrival, timestamp))
    }

    /// Delay of an arrival above the least of the last minute; `None` before any.
    #[must_use]
    pub fn relative_delay(&self, arrival: Mono, timestamp: i64) -> Option<Duration> {
        let least = self.least_by_second.iter().map(|(_, least)| *least).min()?;
        Some(Duration::from_micros((self.raw_delay(arrival, timestamp) - least).max(0) as u64))
    }

    /// The camera's offset; `None` without sender reports. `round_trip` is the least time an RTSP
    /// request took to be answered, `told` what the device said of its clock.
    #[must_use]
    pub fn offset(&self, now: Wall, round_trip: Option<Duration>, told: Option<Told>) -> Option<Offset> {
        let least = self.least_transit()?;
        let longest = PLAUSIBLE_TRANSIT.as_micros() as i64;
        let still_holds = |told: &Told| self.stepped_at.is_none_or(|stepped| stepped < told.at);
        if let Some(told) = told.filter(still_holds).map(|told| told.by(now)) {
            let early = EARLY_MICROS + told.error.as_micros() as i64;
            if (-early..=longest).contains(&(least + told.micros)) {
                // No report arrives before it was sent: within the bound, that is known better.
                let micros = least.min(-told.micros);
                let clock_wrong = told.micros.abs() > longest;
                return Some(Offset { micros, error: told.error, clock_wrong, times_pictures: true });
            }
        }
        let half_trip = round_trip.unwrap_or(Duration::from_millis(100)) / 2;
        // Where this machine's clock was set, the camera's may agree with what it was before.
        let agrees = [0, self.own_steps].into_iter().find(|steps| (-EARLY_MICROS..=longest).contains(&(least - steps)));
        Some(match agrees {
            Some(micros) => {
                let error = Duration::from_micros((least - micros).unsigned_abs()).max(half_trip);
                Offset { micros, error, clock_wrong: micros.abs() > longest, times_pictures: true }
            }
            None => Offset {
                micros: least - half_trip.as_micros() as i64,
                error: PLAUSIBLE_TRANSIT.max(half_trip),
                clock_wrong: least.abs() > longest,
                times_pictures: false,
            },
        })
    }

    /// When the frame with this timestamp was captured, on our wall clock.
    #[must_use]
    pub fn captured(&self, timestamp: i64, offset: Offset) -> Option<Wall> {
        Some(self.claimed(timestamp)?.offset(offset.micros))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOON: i64 = 1_795_500_000_000_000;
    const LATER: Wall = Wall::from_unix_micros(NOON + 20_000_000);

    fn told(micros: i64, error_millis: u64, at: i64) -> Told {
        let error = Duration::from_millis(error_millis);
        Told { offset: ClockOffset { micros, error }, at: Wall::from_unix_micros(at) }
    }

    #[test]
    fn a_device_that_told_its_time_is_believed_where_its_reports_agree() {
        // Slow by 800 ms: without being told it looks like a path of 802 ms.
        let mut clock = with_camera_ahead_by(-800_000);
        let guess = clock.offset(LATER, None, None).unwrap();
        assert_eq!((guess.micros, guess.clock_wrong), (0, false));
        let known = clock.offset(LATER, None, Some(told(-799_000, 3, NOON))).unwrap();
        assert!((known.micros - 800_000).abs() <= 3_000 && !known.clock_wrong, "{known:?}");
        // The bound grows by 100 µs a second.
        assert_eq!(known.error, Duration::from_millis(5));
        // Reports by another clock than the one that is told, and one that was set since.
        assert_eq!(clock.offset(LATER, None, Some(told(7_200_000_000, 3, NOON))), Some(guess));
        let sent = NOON + 15_000_000;
        clock.on_sender_report(Wall::from_unix_micros(sent), NtpTime::from_wall(Wall::from_unix_micros(sent + 500_000)), 0);
        assert_ne!(clock.offset(LATER, None, Some(told(-799_000, 3, NOON))).unwrap().error, Duration::from_millis(5));
        // Minutes off, and told so: corrected, and called wrong.
        let clock = with_camera_ahead_by(420_000_000);
        let known = clock.offset(LATER, None, Some(told(420_001_000, 3, NOON))).unwrap();
        assert!(known.clock_wrong && (known.micros + 420_000_000).abs() <= 2_000, "{known:?}");
    }

    fn with_camera_ahead_by(micros: i64) -> CaptureClock {
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        for (n, transit) in [9_000, 2_000, 5_000].into_iter().enumerate() {
            let sent = NOON + n as i64 * 5_000_000;
            let ntp = NtpTime::from_wall(Wall::from_unix_micros(sent + micros));
            clock.on_sender_report(Wall::from_unix_micros(sent + transit), ntp, n as i64 * 450_000);
        }
        clock
    }

    #[test]
    fn clocks_that_agree_give_capture_time_as_it_is() {
        let clock = with_camera_ahead_by(0);
        let offset = clock.offset(LATER, Some(Duration::from_millis(1)), None).unwrap();
        assert_eq!((offset.micros, offset.clock_wrong), (0, false));
        assert!(offset.error >= Duration::from_millis(1) && offset.error <= Duration::from_millis(3));
        // 40 ms of media after the last report.
        let captured = clock.captured(900_000 + 3_600, offset).unwrap();
        assert!((captured.as_unix_micros() - (NOON + 10_040_000)).abs() <= 2);
    }

    #[test]
    fn a_clock_that_disagrees_times_no_picture() {
        for (wrong, is_wrong) in [(-7_200_000_000, true), (3_600_000_000, true), (900_000, false), (-2_100_000, true)] {
            let clock = with_camera_ahead_by(wrong);
            let offset = clock.offset(LATER, Some(Duration::from_millis(2)), None).unwrap();
            assert_eq!((offset.clock_wrong, offset.times_pictures), (is_wrong, false), "{offset:?}");
            assert!((offset.micros + wrong).unsigned_abs() <= offset.error.as_micros() as u64, "{offset:?}");
        }
        assert_eq!(with_camera_ahead_by(18_000_000_000).offset(LATER, None, None).unwrap().text(), "5 h 0 min ahead ±2 s");
    }

    #[test]
    fn without_reports_delay_is_relative_to_the_least_of_the_last_minute() {
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        for n in 0..100u64 {
            let late = if n == 50 { 30 } else { 0 };
            clock.on_unit(Mono::from_millis(1000 + 40 * n + late), 3600 * n as i64);
        }
        assert_eq!(clock.offset(LATER, None, None), None);
        assert_eq!(clock.relative_delay(Mono::from_millis(1000 + 4_000 + 25), 360_000), Some(Duration::from_millis(25)));
    }

    #[test]
    fn a_clock_that_runs_away_is_measured_and_a_steady_one_is_not() {
        for (per_million, jitter) in [(0.0, 0), (40.0, 400), (-85.0, 2_000)] {
            let mut clock = CaptureClock::new(ClockRate::VIDEO);
            assert_eq!(clock.drift(), None);
            for n in 0..240i64 {
                let sent = NOON + n * 5_000_000;
                let ahead = (n as f64 * 5.0 * per_million) as i64;
                // One in eleven is held up by a second and more.
                let late = if n % 11 == 5 { 900_000 } else { 3_000 + n * 7_919 % (jitter + 1) };
                let ntp = NtpTime::from_wall(Wall::from_unix_micros(sent + ahead));
                clock.on_sender_report(Wall::from_unix_micros(sent + late), ntp, n * 450_000);
            }
            let drift = clock.drift().unwrap();
            assert!((drift.per_million - per_million).abs() <= drift.error.max(0.5), "{per_million}: {drift:?}");
            assert!(drift.error < 3.0, "{drift:?}");
        }
    }

    #[test]
    fn a_report_without_a_clock_is_passed_over() {
        let mut clock = CaptureClock::new(ClockRate::VIDEO);
        clock.on_sender_report(Wall::from_unix_micros(NOON), NtpTime(0), 0);
        assert_eq!(clock.offset(LATER, None, None), None);
    }
}
