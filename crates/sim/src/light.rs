//! The light of the operator's screen, as a camera before it sees it.

use crate::camera::unix_micros;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Changes remembered.
const CHANGES: usize = 256;

/// A screen that turns light and dark; the camera stamps its pictures a known time after it took them.
#[derive(Debug, Clone)]
pub struct Light {
    /// When it changed, in microseconds UTC, and to what.
    changes: Arc<Mutex<Vec<(i64, bool)>>>,
    before_stamp: Duration,
}

impl Light {
    /// A dark screen, before a camera that takes this long from light to stamp.
    #[must_use]
    pub fn new(before_stamp: Duration) -> Self {
        Self { changes: Arc::default(), before_stamp }
    }

    /// It turns light or dark now.
    pub fn set(&self, lit: bool) {
        let mut changes = self.changes.lock().unwrap_or_else(PoisonError::into_inner);
        if changes.len() == CHANGES {
            changes.remove(0);
        }
        changes.push((unix_micros(), lit));
    }

    /// Whether it is light in a picture that is stamped with this time.
    #[must_use]
    pub fn in_picture(&self, stamped: i64) -> bool {
        let taken = stamped - self.before_stamp.as_micros() as i64;
        let changes = self.changes.lock().unwrap_or_else(PoisonError::into_inner);
        changes.iter().rev().find(|(at, _)| *at <= taken).is_some_and(|(_, lit)| *lit)
    }
}
