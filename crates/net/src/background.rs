//! A runtime whose end nobody waits for.

use std::ops::Deref;
use tokio::runtime::Runtime;

/// Work that may hang on somebody else, on a name server say: when this is dropped it is left behind, and its owner ends at once.
#[derive(Debug)]
pub struct Background(Option<Runtime>);

impl Background {
    /// Over a runtime.
    #[must_use]
    pub const fn new(runtime: Runtime) -> Self {
        Self(Some(runtime))
    }
}

impl Deref for Background {
    type Target = Runtime;

    fn deref(&self) -> &Runtime {
        self.0.as_ref().expect("it is there until it is dropped")
    }
}

impl Drop for Background {
    fn drop(&mut self) {
        if let Some(runtime) = self.0.take() {
            runtime.shutdown_background();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::{Duration, Instant};

    #[test]
    fn nobody_waits_for_what_hangs() {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).build().unwrap();
        let (hang, hung) = std::sync::mpsc::channel::<()>();
        let background = Background::new(runtime);
        background.spawn_blocking(move || hung.recv());
        let begun = Instant::now();
        drop(background);
        assert!(begun.elapsed() < Duration::from_secs(20), "it ended while the other one hangs");
        drop(hang);
    }
}
