use crate::{ClockRate, Ticks};
use std::time::Duration;

/// Distance between keyframes: frames and media time, last and longest.
#[derive(Debug, Clone, Copy, Default)]
pub struct KeyframeMeter {
    last_at: Option<(u64, i64)>,
    /// Frames from the last keyframe but one to the last.
    pub last_frames: Option<u64>,
    /// The same in media time.
    pub last: Option<Duration>,
    /// The longest so far.
    pub longest: Option<Duration>,
}

impl KeyframeMeter {
    /// A keyframe with this unit number and timestamp.
    pub fn on_keyframe(&mut self, rate: ClockRate, number: u64, timestamp: i64) {
        if let Some((last_number, last_timestamp)) = self.last_at {
            let span = Duration::from_micros(rate.micros(Ticks(timestamp - last_timestamp)).max(0) as u64);
            self.last_frames = Some(number - last_number);
            self.last = Some(span);
            self.longest = self.longest.max(Some(span));
        }
        self.last_at = Some((number, timestamp));
    }

    /// A new sequence: the next distance is unknown.
    pub const fn restart(&mut self) {
        self.last_at = None;
    }
}
