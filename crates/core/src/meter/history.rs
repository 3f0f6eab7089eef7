//! What a stream's figures were: by the second for ten minutes, coarser for an hour and a day.

use super::Figures;
use crate::{Mono, Verdict};
use std::collections::VecDeque;
use std::time::Duration;

/// A time that is looked back on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Span {
    /// One minute, a point a second.
    #[default]
    Minute,
    /// Ten minutes, a point a second.
    TenMinutes,
    /// An hour, a point every 6 s.
    Hour,
    /// A day, a point every 144 s.
    Day,
}

impl Span {
    /// All, the shortest first.
    pub const ALL: [Self; 4] = [Self::Minute, Self::TenMinutes, Self::Hour, Self::Day];

    /// How long it is.
    #[must_use]
    pub const fn duration(self) -> Duration {
        match self {
            Self::Minute => Duration::from_secs(60),
            Self::TenMinutes => Duration::from_secs(600),
            Self::Hour => Duration::from_secs(3600),
            Self::Day => Duration::from_secs(86_400),
        }
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Minute => "1 minute",
            Self::TenMinutes => "10 minutes",
            Self::Hour => "1 hour",
            Self::Day => "1 day",
        }
    }

    const fn tier(self) -> usize {
        match self {
            Self::Minute | Self::TenMinutes => 0,
            Self::Hour => 1,
            Self::Day => 2,
        }
    }
}

/// What is kept of a moment; `None` is unknown.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Sample {
    /// The worst verdict in it.
    pub verdict: Option<Verdict>,
    /// Sent rate, frames/s.
    pub sent: Option<f32>,
    /// Arrived rate, frames/s.
    pub arrived: Option<f32>,
    /// Shown rate, frames/s.
    pub shown: Option<f32>,
    /// Payload bitrate over 1 s, bits/s.
    pub bitrate: Option<f32>,
    /// Median latency, ms.
    pub latency: Option<f32>,
    /// 95th percentile of it, ms.
    pub latency_p95: Option<f32>,
    /// Medians of its parts, ms: path, buffer, decode, draw.
    pub parts: [Option<f32>; 4],
    /// Of the bitrate: keyframes, predicted from one side, from both; bits/s.
    pub by_kind: [Option<f32>; 3],
    /// Keyframes began in so many of the seconds, as a share.
    pub keyframe: Option<f32>,
    /// Interarrival jitter, ms.
    pub jitter: Option<f32>,
    /// Share of packets lost in the last 10 s, percent.
    pub loss: Option<f32>,
}

impl Sample {
    /// What these figures leave.
    #[must_use]
    pub fn of(figures: &Figures) -> Self {
        let ms = |span: Duration| span.as_secs_f32() * 1e3;
        let latency = figures.latency;
        Self {
            verdict: Some(figures.verdict),
            sent: figures.sent.map(|rate| rate as f32),
            arrived: figures.arrived.map(|rate| rate as f32),
            shown: figures.shown.map(|rate| rate as f32),
            bitrate: figures.bitrate_1s.map(|bits| bits.0 as f32),
            latency: latency.map(|latency| ms(latency.total.p50)),
            latency_p95: latency.map(|latency| ms(latency.total.p95)),
            parts: [
                latency.map(|latency| ms(latency.path.p50)),
                latency.map(|latency| ms(latency.buffer.p50)),
                latency.and_then(|latency| latency.decode).map(|part| ms(part.p50)),
                latency.and_then(|latency| latency.draw).map(|part| ms(part.p50)),
            ],
            by_kind: std::array::from_fn(|kind| figures.bitrate_by_kind.map(|all| all[kind].0 as f32)),
            keyframe: figures.keyframe_at.map(|at| f32::from(u8::from(figures.at.since(at) < Duration::from_secs(1)))),
            jitter: figures.jitter.map(ms),
            loss: figures.recent_loss.map(|share| share as f32 * 100.0),
        }
    }

    /// The mean of this, of `count` samples, and one more. What is unknown in one does not count.
    #[must_use]
    pub fn with(self, count: f32, other: Self) -> Self {
        let verdict = self.verdict.map_or(other.verdict, |one| Some(other.verdict.map_or(one, |two| one.worse(two))));
        let mut fields = self.fields();
        for (field, other) in fields.iter_mut().zip(other.fields()) {
            *field = match (*field, other) {
                (Some(a), Some(b)) => Some(a + (b - a) / (count + 1.0)),
                (a, b) => a.or(b),
            };
        }
        Self::from_fields(verdict, fields)
    }

    /// All numbers in a fixed order: the one of the declaration.
    #[must_use]
    pub const fn fields(&self) -> [Option<f32>; FIELDS] {
        let [path, buffer, decode, draw] = self.parts;
        let [key, one, both] = self.by_kind;
        [
            self.sent,
            self.arrived,
            self.shown,
            self.bitrate,
            self.latency,
            self.latency_p95,
            path,
            buffer,
            decode,
            draw,
            key,
            one,
            both,
            self.keyframe,
            self.jitter,
            self.loss,
        ]
    }

    /// From its numbers.
    #[must_use]
    pub const fn from_fields(verdict: Option<Verdict>, fields: [Option<f32>; FIELDS]) -> Self {
        let [
            sent,
            arrived,
            shown,
            bitrate,
            latency,
            latency_p95,
            path,
            buffer,
            decode,
            draw,
            key,
            one,
            both,
            keyframe,
            jitter,
            loss,
        ] = fields;
        Self {
            verdict,
            sent,
            arrived,
            shown,
            bitrate,
            latency,
            latency_p95,
            parts: [path, buffer, decode, draw],
            by_kind: [key, one, both],
            keyframe,
            jitter,
            loss,
        }
    }
}

/// Numbers of a sample.
pub const FIELDS: usize = 16;

/// Samples a tier keeps.
const KEPT: usize = 600;
/// Seconds between the samples of each tier.
const STEPS: [u64; 3] = [1, 6, 144];

#[derive(Debug, Clone, Copy)]
struct Kept {
    /// Steps since the clock's zero; below it for what was kept before.
    index: i64,
    sample: Sample,
    count: f32,
}

/// The past of one stream's figures.
#[derive(Debug, Clone, Default)]
pub struct History {
    tiers: [VecDeque<Kept>; STEPS.len()],
}

impl History {
    /// Takes what the figures are now. Several within a step are averaged.
    pub fn push(&mut self, now: Mono, sample: Sample) {
        for (tier, step) in self.tiers.iter_mut().zip(STEPS) {
            let index = (now.as_micros() / (step * 1_000_000)) as i64;
            match tier.back_mut() {
                Some(last) if last.index == index => {
                    *last = Kept { sample: last.sample.with(last.count, sample), count: last.count + 1.0, ..*last };
                }
                _ => {
                    if tier.len() == KEPT {
                        tier.pop_front();
                    }
                    tier.push_back(Kept { index, sample, count: 1.0 });
                }
            }
        }
    }

    /// Takes what was kept of a span before this run, by its age in seconds, oldest first; what is newer than that stays.
    pub fn restore(&mut self, now: Mono, span: Span, kept: impl Iterator<Item = (f64, Sample)>) {
        let tier = &mut self.tiers[span.tier()];
        let step = STEPS[span.tier()] as f64;
        let first = tier.front().map_or(i64::MAX, |first| first.index);
        let mut before: VecDeque<Kept> = VecDeque::new();
        for (age, sample) in kept {
            let index = ((now.as_micros() as f64 / 1e6 - age) / step).floor() as i64;
            match before.back_mut() {
                Some(last) if last.index == index => {
                    *last = Kept { sample: last.sample.with(last.count, sample), count: last.count + 1.0, ..*last };
                }
                _ if index < first => before.push_back(Kept { index, sample, count: 1.0 }),
                _ => {}
            }
        }
        before.append(tier);
        *tier = before;
        while tier.len() > KEPT {
            tier.pop_front();
        }
    }

    /// When something was taken last.
    #[must_use]
    pub fn is_due(&self, now: Mono) -> bool {
        self.tiers[0].back().is_none_or(|last| last.index != (now.as_micros() / (STEPS[0] * 1_000_000)) as i64)
    }

    /// The samples of a span up to now, oldest first, each with its age in seconds.
    pub fn over(&self, now: Mono, span: Span) -> impl DoubleEndedIterator<Item = (f64, Sample)> {
        let tier = span.tier();
        let step = STEPS[tier] as f64;
        let seconds = now.as_micros() as f64 / 1e6;
        let age = move |kept: &Kept| (seconds - (kept.index as f64 + 0.5) * step).max(0.0);
        let longest = span.duration().as_secs_f64();
        self.tiers[tier].iter().map(move |kept| (age(kept), kept.sample)).filter(move |(age, _)| *age <= longest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rate(sent: f32) -> Sample {
        Sample { sent: Some(sent), ..Sample::default() }
    }

    #[test]
    fn each_span_has_its_points_and_no_more() {
        let mut history = History::default();
        for second in 0..90_000u64 {
            assert!(history.is_due(Mono::from_millis(second * 1000)));
            history.push(Mono::from_millis(second * 1000), rate(if second % 2 == 0 { 10.0 } else { 20.0 }));
        }
        let now = Mono::from_millis(90_000_000);
        let count = |span| history.over(now, span).count();
        assert_eq!(Span::ALL.map(count), [60, 600, 600, 600]);
        assert!(history.over(now, Span::Hour).all(|(_, sample)| (sample.sent.unwrap() - 15.0).abs() < 1e-3), "means");
        let ages: Vec<f64> = history.over(now, Span::Minute).map(|(age, _)| age).collect();
        assert!(ages.windows(2).all(|pair| (pair[0] - pair[1] - 1.0).abs() < 1e-6) && ages[59] < 1.0, "{ages:?}");
    }

    #[test]
    fn what_was_kept_comes_before_what_is_new() {
        let mut history = History::default();
        history.push(Mono::from_millis(2_000), rate(30.0));
        let kept = (1..=300).rev().map(|age| (f64::from(age) * 10.0, rate(10.0)));
        history.restore(Mono::from_millis(3_000), Span::Hour, kept);
        let seen: Vec<f64> = history.over(Mono::from_millis(3_000), Span::Hour).map(|(age, _)| age).collect();
        assert_eq!(seen.len(), 301);
        assert!(seen.windows(2).all(|pair| pair[0] > pair[1]), "{seen:?}");
        assert!((seen[0] - 3_000.0).abs() <= 6.0, "{}", seen[0]);
        assert_eq!(history.over(Mono::from_millis(3_000), Span::Minute).count(), 1);
        // All numbers go through the array and back.
        let fields = std::array::from_fn(|n| Some(n as f32));
        let sample = Sample::from_fields(Some(Verdict::Lost), fields);
        assert_eq!((sample.fields(), sample.sent, sample.loss), (fields, Some(0.0), Some(15.0)));
    }

    #[test]
    fn what_was_not_measured_is_a_gap_and_no_zero() {
        let mut history = History::default();
        history.push(Mono::from_millis(1000), rate(10.0));
        history.push(Mono::from_millis(1500), Sample::default());
        history.push(Mono::from_millis(9000), rate(12.0));
        let seen: Vec<_> = history.over(Mono::from_millis(9500), Span::Minute).map(|(age, s)| (age as u32, s.sent)).collect();
        assert_eq!(seen, [(8, Some(10.0)), (0, Some(12.0))]);
    }
}
