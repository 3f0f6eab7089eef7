//! A stretch of time looked back upon: how available cameras were, how often and for how long they were not, and why.

use crate::event::EventKind;
use crate::meter::{Fig, Sample};
use crate::{Cause, Verdict, Wall, Whose};
use std::collections::BTreeMap;
use std::time::Duration;

/// A time without new pictures, within the shift.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gap {
    /// The camera.
    pub camera: String,
    /// The stream: main, sub, third.
    pub stream: String,
    /// When it began.
    pub start: Wall,
    /// When it ended, by the end of the shift at most.
    pub end: Wall,
    /// It went on at the end of the shift.
    pub goes_on: bool,
    /// What it was.
    pub kind: EventKind,
    /// Why.
    pub cause: Option<Cause>,
}

impl Gap {
    /// How long it was.
    #[must_use]
    pub fn length(&self) -> Duration {
        between(self.start, self.end)
    }
}

/// What is known of one stream over the shift.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct StreamPast {
    /// The camera.
    pub camera: String,
    /// The stream.
    pub stream: String,
    /// The camera's group.
    pub group: Option<String>,
    /// Readings: when, of how many seconds, and what they were.
    pub readings: Vec<(Wall, u16, Sample)>,
}

/// A time in which this machine, not the camera, was what fell short.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Own {
    /// The cameras that it was told of.
    pub cameras: Vec<String>,
    /// When it began.
    pub start: Wall,
    /// When it ended.
    pub end: Wall,
}

/// After a stream was opened its latency is that of the beginning for so long, and tells nothing of the camera.
const BEGINNING: Duration = Duration::from_secs(15);
/// A stream that was not measured for longer than this was opened anew.
const PAUSE: Duration = Duration::from_secs(90);

/// How something stood over a time.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Standing {
    /// The camera, the group.
    pub name: String,
    /// The group of a camera.
    pub group: Option<String>,
    /// Time in which streams of it were measured and meant to be there; two streams count twice.
    pub measured: Duration,
    /// Of that, without new pictures.
    pub missing: Duration,
    /// Of that, by this machine's own fault.
    pub missing_own: Duration,
    /// How often pictures went missing.
    pub dropouts: u64,
    /// The longest of them.
    pub longest: Duration,
    /// Half of the readings had a median latency of at most this, in ms. Readings of the first seconds after a stream was opened,
    /// and of times in which this machine was too slow, do not count.
    pub latency_p50: Option<f32>,
    /// Nineteen of twenty readings had a 95th percentile of the latency of at most this, in ms.
    pub latency_p95: Option<f32>,
    /// How far its clock was ahead of ours at most (behind where negative), and how far that may be off, both in ms.
    pub clock: Option<(f32, f32)>,
    /// The cause that took most time.
    pub main_cause: Option<Cause>,
}

impl Standing {
    /// Share of the measured time without dropout; `None` where nothing was measured.
    #[must_use]
    pub fn availability(&self) -> Option<f64> {
        let measured = self.measured.as_secs_f64();
        (measured > 0.0).then(|| (1.0 - self.missing.as_secs_f64() / measured).clamp(0.0, 1.0))
    }

    /// Mean time between dropouts: measured time with pictures, by their number; `None` without a dropout.
    #[must_use]
    pub fn between_dropouts(&self) -> Option<Duration> {
        let count = u32::try_from(self.dropouts).ok().filter(|count| *count > 0)?;
        Some(self.measured.saturating_sub(self.missing) / count)
    }

    /// Mean time to return: the mean length of a dropout; `None` without one.
    #[must_use]
    pub fn to_return(&self) -> Option<Duration> {
        let count = u32::try_from(self.dropouts).ok().filter(|count| *count > 0)?;
        Some(self.missing / count)
    }
}

/// A shift.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Shift {
    /// All streams together.
    pub all: Standing,
    /// Each camera, the one with most trouble first.
    pub cameras: Vec<Standing>,
    /// Each group, likewise; cameras without one are left out.
    pub groups: Vec<Standing>,
    /// Each hour from its beginning, all streams together.
    pub hours: Vec<(Wall, Standing)>,
    /// Every time without new pictures, in order.
    pub gaps: Vec<Gap>,
}

fn between(from: Wall, to: Wall) -> Duration {
    Duration::from_micros(to.micros_since(from).max(0) as u64)
}

/// What a standing is gathered from.
#[derive(Default)]
struct Gathered {
    seconds: f64,
    missing: Duration,
    missing_own: Duration,
    dropouts: u64,
    longest: Duration,
    p50: Vec<f32>,
    p95: Vec<f32>,
    clock: Option<(f32, f32)>,
    causes: BTreeMap<Cause, Duration>,
}

impl Gathered {
    /// Takes a reading; `theirs`: its latency tells of camera and path, not of this machine.
    fn reading(&mut self, count: u16, sample: &Sample, theirs: bool) {
        if sample.verdict == Some(Verdict::Resting) {
            return;
        }
        self.seconds += f64::from(count);
        if theirs {
            self.p50.extend(sample.get(Fig::Latency));
            self.p95.extend(sample.get(Fig::LatencyP95));
        }
        let clock = sample.get(Fig::ClockOffset).zip(sample.get(Fig::ClockError));
        self.clock = self.clock.into_iter().chain(clock).max_by(|one, other| one.0.abs().total_cmp(&other.0.abs()));
    }

    /// A gap as far as it lies in a time; it is counted where it begins.
    fn gap(&mut self, gap: &Gap, from: Wall, to: Wall) {
        let length = between(gap.start.max(from), gap.end.min(to));
        if gap.start >= to || gap.end < from {
            return;
        }
        self.missing += length;
        self.longest = self.longest.max(gap.length());
        self.dropouts += u64::from(gap.start >= from);
        if let Some(cause) = gap.cause {
            *self.causes.entry(cause).or_default() += length;
            if cause.whose() == Whose::Machine {
                self.missing_own += length;
            }
        }
    }

    fn standing(mut self, name: String, group: Option<String>) -> Standing {
        let measured = Duration::from_secs_f64(self.seconds);
        Standing {
            name,
            group,
            measured,
            missing: self.missing.min(measured),
            missing_own: self.missing_own.min(measured),
            dropouts: self.dropouts,
            longest: self.longest,
            latency_p50: percentile(&mut self.p50, 0.5),
            latency_p95: percentile(&mut self.p95, 0.95),
            clock: self.clock,
            main_cause: self.causes.into_iter().max_by_key(|(_, time)| *time).map(|(cause, _)| cause),
        }
    }
}

/// Nearest rank.
fn percentile(values: &mut [f32], share: f64) -> Option<f32> {
    let rank = ((values.len() as f64 * share).ceil() as usize).saturating_sub(1);
    (!values.is_empty()).then(|| *values.select_nth_unstable_by(rank, f32::total_cmp).1)
}

impl Shift {
    /// Looks back from `to` to `from`. `own` are the times in which this machine fell short; `hours` are the beginnings of the
    /// hours within, by the clock of whoever reads it.
    #[must_use]
    pub fn new(from: Wall, to: Wall, streams: &[StreamPast], mut gaps: Vec<Gap>, own: &[Own], hours: &[Wall]) -> Self {
        gaps.retain(|gap| gap.start < to && gap.end >= from);
        for gap in &mut gaps {
            gap.goes_on |= gap.end > to;
            (gap.start, gap.end) = (gap.start.max(from), gap.end.min(to).max(gap.start));
        }
        gaps.sort_by_key(|gap| (gap.start, gap.end));
        let groups: BTreeMap<&str, &str> =
            streams.iter().filter_map(|stream| Some((stream.camera.as_str(), stream.group.as_deref()?))).collect();
        let mut all = Gathered::default();
        let mut by_camera: BTreeMap<&str, Gathered> = BTreeMap::new();
        let mut by_group: BTreeMap<&str, Gathered> = BTreeMap::new();
        let starts: Vec<Wall> = if hours.first() == Some(&from) { hours.to_vec() } else { [&[from], hours].concat() };
        let mut by_hour: Vec<(Wall, Wall, Gathered)> = starts
            .iter()
            .enumerate()
            .map(|(n, start)| (*start, starts.get(n + 1).copied().unwrap_or(to), Gathered::default()))
            .collect();
        for stream in streams {
            let camera = by_camera.entry(&stream.camera).or_default();
            let own: Vec<&Own> = own.iter().filter(|own| own.cameras.contains(&stream.camera)).collect();
            let (mut opened, mut before) = (None::<Wall>, None::<Wall>);
            for (at, count, sample) in &stream.readings {
                if before.is_none_or(|before| between(before, *at) > PAUSE) {
                    opened = Some(*at);
                }
                before = Some(at.offset(i64::from(*count) * 1_000_000));
                if !(from..to).contains(at) {
                    continue;
                }
                // Readings of the record are of a minute, and those of the last minutes of seconds.
                let begins = opened.is_some_and(|opened| between(opened, *at) < BEGINNING);
                let theirs = !begins && !own.iter().any(|own| own.start <= before.unwrap_or(*at) && own.end >= *at);
                camera.reading(*count, sample, theirs);
                all.reading(*count, sample, theirs);
                if let Some(group) = groups.get(stream.camera.as_str()) {
                    by_group.entry(group).or_default().reading(*count, sample, theirs);
                }
                let hour = by_hour.partition_point(|(start, ..)| start <= at).saturating_sub(1);
                if let Some((_, _, gathered)) = by_hour.get_mut(hour) {
                    gathered.reading(*count, sample, theirs);
                }
            }
        }
        for gap in &gaps {
            let mut into = vec![by_camera.entry(&gap.camera).or_default(), &mut all];
            into.extend(groups.get(gap.camera.as_str()).map(|group| by_group.entry(group).or_default()));
            for gathered in into {
                gathered.gap(gap, from, to);
            }
            for (start, end, gathered) in &mut by_hour {
                gathered.gap(gap, *start, *end);
            }
        }
        let ranked = |gathered: BTreeMap<&str, Gathered>, grouped: bool| {
            let group = |name: &str| if grouped { groups.get(name).map(|group| (*group).to_owned()) } else { None };
            let mut standings: Vec<Standing> =
                gathered.into_iter().map(|(name, gathered)| gathered.standing(name.to_owned(), group(name))).collect();
            let worse = |a: &Standing, b: &Standing| (b.missing, b.dropouts).cmp(&(a.missing, a.dropouts));
            standings.sort_by(|a, b| worse(a, b).then_with(|| crate::names::natural(&a.name, &b.name)));
            standings
        };
        Self {
            all: all.standing("all cameras".into(), None),
            cameras: ranked(by_camera, true),
            groups: ranked(by_group, false),
            hours: by_hour.into_iter().map(|(start, _, gathered)| (start, gathered.standing(String::new(), None))).collect(),
            gaps,
        }
    }

    /// The longest gaps, the longest first.
    #[must_use]
    pub fn longest(&self, most: usize) -> Vec<&Gap> {
        let mut gaps: Vec<&Gap> = self.gaps.iter().collect();
        gaps.sort_by_key(|gap| std::cmp::Reverse(gap.length()));
        gaps.truncate(most);
        gaps
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: i64) -> Wall {
        Wall::from_unix_micros((1_795_500_000 + second) * 1_000_000)
    }

    fn past(camera: &str, group: Option<&str>, seconds: i64) -> StreamPast {
        let reading = |second: i64| {
            let verdict = Some(if second < 100 { Verdict::Resting } else { Verdict::Steady });
            let sample = Sample { verdict, ..Sample::default() }
                .with_value(Fig::Latency, (second % 10) as f32)
                .with_value(Fig::LatencyP95, if camera == "Mast" && (100..180).contains(&second) { 900.0 } else { 50.0 })
                .with_value(Fig::ClockOffset, if second == 700 { -4800.0 } else { 3.0 })
                .with_value(Fig::ClockError, 12.0);
            (at(second), 1, sample)
        };
        let readings = (0..seconds).map(reading).collect();
        StreamPast { camera: camera.into(), stream: "sub".into(), group: group.map(str::to_owned), readings }
    }

    fn gap(camera: &str, start: i64, end: i64, cause: Cause) -> Gap {
        let kind = EventKind::Outage;
        Gap {
            camera: camera.into(),
            stream: "sub".into(),
            start: at(start),
            end: at(end),
            goes_on: false,
            kind,
            cause: Some(cause),
        }
    }

    #[test]
    fn availability_and_means_are_of_what_was_measured_and_planned() {
        let streams = [past("Mast", Some("Hill"), 1100), past("Gate", Some("Hill"), 1100), past("Lane", None, 600)];
        let gaps = vec![
            gap("Mast", -50, 10, Cause::Silence),
            gap("Mast", 200, 250, Cause::PortClosed),
            gap("Mast", 400, 430, Cause::Silence),
            gap("Gate", 1050, 5000, Cause::Silence),
            gap("Mast", 9000, 9100, Cause::Silence),
        ];
        let own = [Own { cameras: vec!["Mast".into()], start: at(100), end: at(180) }];
        let shift = Shift::new(at(0), at(1100), &streams, gaps, &own, &[at(600)]);
        let names: Vec<&str> = shift.cameras.iter().map(|camera| camera.name.as_str()).collect();
        assert_eq!(names, ["Mast", "Gate", "Lane"], "most trouble first");
        let mast = &shift.cameras[0];
        // A hundred seconds of rest are not planned; what began before counts as time, and not as one that began here.
        assert_eq!((mast.measured.as_secs(), mast.missing.as_secs(), mast.dropouts), (1000, 90, 3));
        assert!((mast.availability().unwrap() - 0.91).abs() < 1e-9);
        assert_eq!((mast.between_dropouts().unwrap().as_secs(), mast.to_return().unwrap().as_secs()), (303, 30));
        assert_eq!((mast.main_cause, mast.longest.as_secs()), (Some(Cause::PortClosed), 50));
        assert_eq!((mast.latency_p50, mast.latency_p95), (Some(5.0), Some(50.0)), "not of the time when this machine was slow");
        assert_eq!(mast.missing_own.as_secs(), 0);
        assert_eq!((mast.clock, shift.cameras[2].clock), (Some((-4800.0, 12.0)), Some((3.0, 12.0))));
        let gate = &shift.cameras[1];
        assert_eq!((gate.missing.as_secs(), shift.gaps.last().unwrap().goes_on), (50, true));
        assert_eq!((shift.cameras[2].availability(), shift.cameras[2].between_dropouts()), (Some(1.0), None));
        assert_eq!((shift.groups.len(), shift.groups[0].measured.as_secs()), (1, 2000));
        let hours: Vec<u64> = shift.hours.iter().map(|(_, hour)| hour.missing.as_secs()).collect();
        assert_eq!(hours, [90, 50]);
        assert_eq!(shift.hours.iter().map(|(_, hour)| hour.measured).sum::<Duration>(), shift.all.measured);
        assert_eq!(shift.longest(2).iter().map(|gap| gap.length().as_secs()).collect::<Vec<_>>(), [50, 50]);
        let empty = Shift::new(at(0), at(10), &[], Vec::new(), &[], &[]);
        assert_eq!((empty.all.availability(), empty.cameras.len()), (None, 0));
    }
}
