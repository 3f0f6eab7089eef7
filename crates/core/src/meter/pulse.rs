use crate::{FrameRate, Mono};
use std::collections::VecDeque;

/// One second of the pulse.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub enum PulseCell {
    /// Before the stream was watched, or no rate to compare with.
    #[default]
    Unknown,
    /// Share of the expected frames that arrived displayable, 0 to 1; zero is a gap.
    Share(f32),
}

/// The last minute, a cell a second: the share of expected frames that arrived fit to show.
#[derive(Debug, Clone, Default)]
pub struct Pulse {
    /// Second since the clock's start, and frames in it.
    seconds: VecDeque<(u64, u32)>,
}

impl Pulse {
    /// Cells in a pulse.
    pub const CELLS: usize = 60;

    fn second(at: Mono) -> u64 {
        at.as_micros() / 1_000_000
    }

    /// The stream is watched from now on, whether frames come or not.
    pub fn begin(&mut self, now: Mono) {
        self.advance(Self::second(now));
    }

    /// A displayable frame arrived.
    pub fn on_frame(&mut self, at: Mono) {
        self.advance(Self::second(at));
        if let Some((_, count)) = self.seconds.back_mut() {
            *count += 1;
        }
    }

    fn advance(&mut self, second: u64) {
        let from = self.seconds.back().map_or(second, |(last, _)| last + 1);
        for new in from.max(second.saturating_sub(Self::CELLS as u64 + 1))..=second {
            self.seconds.push_back((new, 0));
        }
        while self.seconds.len() > Self::CELLS + 1 {
            self.seconds.pop_front();
        }
    }

    /// The last whole seconds, oldest first, always [`Pulse::CELLS`] of them; the running second is
    /// left out, since it would always look short.
    #[must_use]
    pub fn cells(&self, now: Mono, expected: Option<FrameRate>) -> Vec<PulseCell> {
        let current = Self::second(now);
        let first_known = self.seconds.front().map(|(second, _)| *second);
        (0..Self::CELLS as u64)
            .map(|cell| {
                let second = (current + cell).checked_sub(Self::CELLS as u64)?;
                // The first second is cut by the start and would look short too.
                first_known.filter(|first| second > *first)?;
                let count = self.seconds.iter().find(|(at, _)| *at == second).map_or(0, |(_, count)| *count);
                expected.map(|rate| PulseCell::Share((f64::from(count) / rate.per_second()).min(1.0) as f32))
            })
            .map(Option::unwrap_or_default)
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gap_is_a_gap_and_the_time_before_is_unknown() {
        let mut pulse = Pulse::default();
        for n in (0..100u64).filter(|n| !(50..75).contains(n)) {
            pulse.on_frame(Mono::from_millis(100_000 + 40 * n));
        }
        let cells = pulse.cells(Mono::from_millis(104_000), FrameRate::new(25.0));
        assert_eq!(cells.len(), Pulse::CELLS);
        assert_eq!(cells[57..], [PulseCell::Share(1.0), PulseCell::Share(0.0), PulseCell::Share(1.0)]);
        assert_eq!(cells[56], PulseCell::Unknown);
        assert!(pulse.cells(Mono::from_millis(104_000), None).iter().all(|cell| *cell == PulseCell::Unknown));
    }
}
