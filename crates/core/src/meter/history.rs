//! What a stream's figures were: by the second for ten minutes, coarser for an hour and a day.

use super::Figures;
use super::table::{FIELDS, Fig, KEPT, Kept as KeptFigure, place};
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

    /// How much time a sample of it stands for.
    #[must_use]
    pub const fn step(self) -> Duration {
        Duration::from_secs(STEPS[self.tier()])
    }

    /// The next longer one; after the longest the shortest.
    #[must_use]
    pub fn next(self) -> Self {
        let at = Self::ALL.iter().position(|span| *span == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }

    const fn tier(self) -> usize {
        match self {
            Self::Minute | Self::TenMinutes => 0,
            Self::Hour => 1,
            Self::Day => 2,
        }
    }
}

/// What is kept of a moment.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Sample {
    /// The worst verdict in it; `None` is unknown.
    pub verdict: Option<Verdict>,
    /// The figures of [`KEPT`], each in the unit of its row; `None` is unknown.
    pub values: [Option<f32>; FIELDS],
}

impl Sample {
    /// What these figures leave.
    #[must_use]
    pub fn of(figures: &Figures) -> Self {
        let value = |kept: KeptFigure| (kept.fig.row().value)(figures).map(|value| value as f32);
        Self { verdict: Some(figures.verdict), values: KEPT.map(value) }
    }

    /// A figure; `None` is unknown, or not kept.
    #[must_use]
    pub fn get(&self, fig: Fig) -> Option<f32> {
        self.values[place(fig)?]
    }

    /// The same with this figure; one that is not kept changes nothing.
    #[must_use]
    pub fn with_value(mut self, fig: Fig, value: f32) -> Self {
        if let Some(place) = place(fig) {
            self.values[place] = Some(value);
        }
        self
    }

    /// The mean of this, of `count` samples, and one more. What is unknown in one does not count.
    #[must_use]
    pub fn with(self, count: f32, other: Self) -> Self {
        let verdict = self.verdict.map_or(other.verdict, |one| Some(other.verdict.map_or(one, |two| one.worse(two))));
        let mut values = self.values;
        for (value, other) in values.iter_mut().zip(other.values) {
            *value = match (*value, other) {
                (Some(a), Some(b)) => Some(a + (b - a) / (count + 1.0)),
                (a, b) => a.or(b),
            };
        }
        Self { verdict, values }
    }
}

/// Samples that a tier keeps.
const SAMPLES: usize = 600;
/// Seconds between the samples of each tier.
const STEPS: [u64; 3] = [1, 6, 144];

/// A sample as it is kept: half as large as it is handed out.
#[derive(Debug, Clone, Copy)]
struct Kept {
    /// Steps since the clock's zero; below it for what was kept before.
    index: i64,
    count: f32,
    verdict: Option<Verdict>,
    /// What is unknown is no number.
    values: [f32; FIELDS],
}

impl Kept {
    fn new(index: i64, count: f32, sample: Sample) -> Self {
        Self { index, count, verdict: sample.verdict, values: sample.values.map(|value| value.unwrap_or(f32::NAN)) }
    }

    fn sample(&self) -> Sample {
        Sample { verdict: self.verdict, values: self.values.map(|value| (!value.is_nan()).then_some(value)) }
    }

    /// The mean of this and one more.
    fn add(&mut self, sample: Sample) {
        *self = Self::new(self.index, self.count + 1.0, self.sample().with(self.count, sample));
    }
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
                    last.add(sample);
                }
                _ => {
                    if tier.len() == SAMPLES {
                        tier.pop_front();
                    }
                    if tier.capacity() < SAMPLES {
                        // All that it will ever take, and used once: what a wall takes does not grow with the days that it runs.
                        let kept = tier.len();
                        tier.reserve_exact(SAMPLES - kept);
                        tier.resize(SAMPLES, Kept::new(0, 0.0, Sample::default()));
                        tier.truncate(kept);
                    }
                    tier.push_back(Kept::new(index, 1.0, sample));
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
                    last.add(sample);
                }
                _ if index < first => before.push_back(Kept::new(index, 1.0, sample)),
                _ => {}
            }
        }
        before.append(tier);
        *tier = before;
        while tier.len() > SAMPLES {
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
        self.tiers[tier].iter().map(move |kept| (age(kept), kept.sample())).filter(move |(age, _)| *age <= longest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rate(sent: f32) -> Sample {
        Sample::default().with_value(Fig::Sent, sent)
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
        assert!(history.over(now, Span::Hour).all(|(_, sample)| (sample.get(Fig::Sent).unwrap() - 15.0).abs() < 1e-3), "means");
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
    }

    #[test]
    fn what_was_not_measured_is_a_gap_and_no_zero() {
        let mut history = History::default();
        history.push(Mono::from_millis(1000), rate(10.0));
        history.push(Mono::from_millis(1500), Sample::default());
        history.push(Mono::from_millis(9000), rate(12.0));
        let seen: Vec<_> =
            history.over(Mono::from_millis(9500), Span::Minute).map(|(age, s)| (age as u32, s.get(Fig::Sent))).collect();
        assert_eq!(seen, [(8, Some(10.0)), (0, Some(12.0))]);
    }
}
