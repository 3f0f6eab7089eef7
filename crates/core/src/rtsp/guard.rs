//! Bounds for what a server sends beside the media that was asked for: who floods the connection, or begins a message and never
//! ends it, is left.

use crate::Mono;
use std::time::Duration;

/// Most bytes in [`WINDOW`] that nobody asked for. Sound beside the video has some 100 kB.
const MOST: usize = 8 << 20;
const WINDOW: Duration = Duration::from_secs(5);
/// A message that was begun is whole by then.
const WHOLE_WITHIN: Duration = Duration::from_secs(10);

/// Watches one connection.
#[derive(Debug, Default)]
pub struct ControlGuard {
    window: Option<Mono>,
    bytes: usize,
    unfinished: Option<Mono>,
}

impl ControlGuard {
    /// Input was taken apart: `unasked` bytes of it were neither media nor needed; `frames` whole ones were found; `rest` bytes
    /// of one that is not whole are left.
    pub fn on_input(&mut self, now: Mono, unasked: usize, frames: usize, rest: usize) {
        if self.window.is_none_or(|since| now.since(since) >= WINDOW) {
            (self.window, self.bytes) = (Some(now), 0);
        }
        self.bytes += unasked;
        if rest == 0 {
            self.unfinished = None;
        } else if frames > 0 || self.unfinished.is_none() {
            self.unfinished = Some(now);
        }
    }

    /// What the connection is to be left for.
    #[must_use]
    pub fn complaint(&self, now: Mono) -> Option<&'static str> {
        if self.bytes > MOST {
            return Some("the camera floods the control connection");
        }
        let late = self.unfinished.is_some_and(|since| now.since(since) >= WHOLE_WITHIN);
        late.then_some("the camera began a message and did not end it in 10 s")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn floods_and_messages_without_an_end_are_complained_of_and_nothing_else() {
        let at = Mono::from_millis;
        let mut guard = ControlGuard::default();
        for n in 0..1000 {
            guard.on_input(at(40 * n), 160, 3, 7); // sound beside the video, and half a packet
            assert_eq!(guard.complaint(at(40 * n)), None);
        }
        let mut guard = ControlGuard::default();
        guard.on_input(at(0), MOST / 2, 100, 0);
        guard.on_input(at(4_000), MOST / 2 + 1, 100, 0);
        assert!(guard.complaint(at(4_000)).unwrap().contains("floods"));
        let mut guard = ControlGuard::default();
        for second in 0..10 {
            guard.on_input(at(1000 * second), 0, 0, 1 + second as usize);
            assert_eq!(guard.complaint(at(1000 * second)), None);
        }
        assert!(guard.complaint(at(10_000)).unwrap().contains("did not end"));
    }
}
