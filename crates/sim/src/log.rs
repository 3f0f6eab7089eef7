//! What the stand-ins really did, to be held against what was measured.

use serde::{Deserialize, Serialize};
use std::io::Write;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A frame was captured and its packets were handed to a viewer.
    Frame {
        /// Frame number, as in the picture's block code.
        number: u32,
        /// Capture, microseconds UTC.
        captured: i64,
        /// Packets sent.
        packets: u32,
        /// Packets of it dropped on order.
        dropped: u32,
        /// An IDR picture.
        keyframe: bool,
    },
    /// A frame was captured but not sent to a viewer (stall, or the viewer was too slow).
    FrameNotSent {
        /// Frame number.
        number: u32,
    },
    /// The head was told to move or to stop.
    Head {
        /// `move` or `stop`.
        order: String,
        /// The share of its fastest to the right, and up.
        way: [f64; 2],
        /// When the order ends by its own time-out, microseconds UTC.
        until: i64,
    },
    /// Packets of a viewer's sound were dropped on order.
    SoundDropped {
        /// How many.
        packets: u32,
    },
    /// A viewer began to play.
    Play {
        /// `udp` or `tcp`.
        transport: String,
    },
    /// A viewer's session ended.
    End,
    /// A fault began.
    Fault {
        /// Its word.
        kind: String,
        /// How long it lasts, in milliseconds.
        lasting_ms: u64,
    },
}

/// An event with its place and time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Record {
    /// Microseconds UTC.
    pub at: i64,
    /// Name of the camera.
    pub camera: String,
    /// `main` or `sub`; empty for the whole camera.
    pub stream: String,
    /// Number of the viewer's session; 0 for all.
    pub viewer: u64,
    /// What happened.
    #[serde(flatten)]
    pub event: Event,
}

#[derive(Default)]
struct Inner {
    records: Vec<Record>,
    keep: bool,
    file: Option<std::io::BufWriter<std::fs::File>>,
}

/// A log that may be kept in memory, written to a file as JSON lines, or neither.
#[derive(Clone, Default)]
pub struct Log(Arc<Mutex<Inner>>);

impl Log {
    /// Records are kept in memory.
    #[must_use]
    pub fn in_memory() -> Self {
        Self(Arc::new(Mutex::new(Inner { keep: true, ..Inner::default() })))
    }

    /// Records go to a file, one JSON object a line.
    ///
    /// # Errors
    /// When the file cannot be made.
    pub fn to_file(path: &Path) -> std::io::Result<Self> {
        let file = Some(std::io::BufWriter::new(std::fs::File::create(path)?));
        Ok(Self(Arc::new(Mutex::new(Inner { file, ..Inner::default() }))))
    }

    pub(crate) fn write(&self, record: Record) {
        let mut inner = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(file) = &mut inner.file {
            let line = serde_json::to_string(&record).unwrap_or_default();
            if writeln!(file, "{line}").and_then(|()| file.flush()).is_err() {
                inner.file = None;
            }
        }
        if inner.keep {
            inner.records.push(record);
        }
    }

    /// What is kept in memory so far.
    #[must_use]
    pub fn records(&self) -> Vec<Record> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).records.clone()
    }
}
