//! The flash probe of a stream: gathers, reads now and then, and keeps what it found.

use super::capture::{CaptureTimes, FlashClock};
use crate::clock::{CaptureClock, Offset};
use crate::flash::{CELLS, FlashProbe, FlashReading, LONGEST};
use crate::{ClockPair, Mono, Wall};
use std::sync::Arc;
use std::time::Duration;

/// The pictures are searched this often.
const READ_EVERY: Duration = Duration::from_secs(1);

/// A step of a flash probe.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FlashStep {
    /// It begins, anew where one was.
    Begin,
    /// The screen turned light or dark: written to the terminal at this time.
    Light {
        /// When.
        at: Mono,
        /// To light.
        lit: bool,
    },
    /// No more flashes; what was found is used from now on.
    End,
    /// It was broken off, or what it found is not wanted any more.
    Forget,
}

#[derive(Debug, Clone, Default)]
pub(super) struct FlashMeter {
    probe: Option<FlashProbe>,
    read_at: Option<Mono>,
    reading: Option<Arc<FlashReading>>,
    clock: Option<FlashClock>,
    ended: Option<Mono>,
}

impl FlashMeter {
    /// Takes a step at a time.
    pub fn step(&mut self, now: Mono, step: FlashStep, clock: &CaptureClock, pair: ClockPair, offset: Option<Offset>) {
        match (step, &mut self.probe) {
            (FlashStep::Begin, _) => *self = Self { probe: Some(FlashProbe::default()), ..Self::default() },
            (FlashStep::Forget, _) => *self = Self { ended: self.probe.as_ref().map(|_| now).or(self.ended), ..Self::default() },
            (FlashStep::Light { at, lit }, Some(probe)) => probe.on_light(at, lit),
            (FlashStep::End, Some(probe)) => {
                probe.end();
                let mut reading = probe.read();
                self.clock = reading.captured.map(|captured| FlashClock::new(captured, clock, pair));
                reading.before_stamp = self.clock.zip(offset).and_then(|(found, offset)| found.before_stamp(offset));
                (self.reading, self.probe, self.ended) = (Some(Arc::new(reading)), None, Some(now));
            }
            (_, None) => {}
        }
    }

    /// Whether pictures are wanted.
    pub const fn runs(&self) -> bool {
        self.probe.is_some()
    }

    /// A picture of this time may show the flashes.
    pub fn disturbs(&self, at: Mono) -> bool {
        self.runs() || self.ended.is_some_and(|ended| at.since(ended) < LONGEST)
    }

    /// A picture of this media time came out of the decoder, with the brightness of its places.
    pub fn on_picture(&mut self, number: u64, media: i64, arrival: Mono, decoded: Mono, cells: Box<[u8; CELLS]>) {
        if let Some(probe) = &mut self.probe {
            probe.on_picture(number, media, arrival, decoded, cells);
        }
    }

    /// It was written to the terminal.
    pub fn on_drawn(&mut self, number: u64, at: Mono) {
        if let Some(probe) = &mut self.probe {
            probe.on_drawn(number, at);
        }
    }

    /// This machine's clock was set.
    pub fn on_own_step(&mut self, micros: i64) {
        self.clock = self.clock.map(|clock| clock.after_own_step(micros));
    }

    /// Timestamps begin anew: pictures before and after cannot be put on one scale.
    pub fn on_restart(&mut self) {
        if self.probe.is_some() {
            self.probe = Some(FlashProbe::default());
        }
        self.clock = self.clock.filter(FlashClock::survives_restart);
    }

    /// How the probe goes, or went; searched anew once a second.
    pub fn read(&mut self, now: Mono) -> Option<Arc<FlashReading>> {
        if let Some(probe) = self.probe.as_ref().filter(|_| self.read_at.is_none_or(|at| now.since(at) >= READ_EVERY)) {
            self.read_at = Some(now);
            self.reading = Some(Arc::new(probe.read()));
        }
        self.reading.clone()
    }

    /// Where capture times come from.
    pub fn times(&self, clock: &CaptureClock, offset: Option<Offset>, now: Wall) -> CaptureTimes {
        CaptureTimes::best(self.clock, clock, offset, now)
    }
}
