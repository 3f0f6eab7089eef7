use crate::Mono;
use std::time::Duration;

/// What does not come again for so long is over.
const QUIET: Duration = Duration::from_secs(10);

/// From the first to the last time that something happened, as long as it came again within ten seconds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Spell(Option<(Mono, Mono)>);

impl Spell {
    /// It happened from one moment to another.
    pub fn on(&mut self, from: Mono, to: Mono) {
        self.0 = match self.0 {
            Some((first, last)) if from.since(last) < QUIET => Some((first.min(from), last.max(to))),
            _ => Some((from, to)),
        };
    }

    /// The first and the last time; `None` where it never happened.
    pub const fn span(self) -> Option<(Mono, Mono)> {
        self.0
    }
}
