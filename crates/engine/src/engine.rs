//! The engine: a thread of its own. Commands go in, news and snapshots come out; it needs no screen.

mod desk;
mod machine;
mod papers;
mod pictures;
mod reported;

use crate::camera::{CameraDef, FeedKey};
use crate::command::{Command, News};
use crate::demand::{Demand, ViewerId};
use crate::feeds::{Bell, Decode};
use crate::jobs::StillOptions;
use crate::kept::Kept;
use crate::outward::OutwardOptions;
use crate::snapshot::Snapshot;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, TrySendError, bounded, unbounded};
use lattice_core::find::FirmwareFault;
use lattice_core::sound::OpenSpeaker;
use lattice_core::{Role, TransportChoice};
use lattice_net::Tap;
use machine::Machine;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use tokio::sync::watch;

/// Commands that wait for the engine at most; it takes each within milliseconds.
const COMMANDS: usize = 4096;

/// What an engine begins with.
pub struct Config {
    /// Cameras that belong to no site.
    pub cameras: Vec<CameraDef>,
    /// The stream that tiles begin with, where a camera has it.
    pub prefer: Role,
    /// The site.
    pub site: Option<Kept>,
    /// Only these cameras of the site are opened.
    pub only: Option<Vec<String>>,
    /// Searches stay on loopback: the demo.
    pub loopback_only: bool,
    /// How packets are asked for where the site does not say.
    pub transport: TransportChoice,
    /// Where pictures are decoded.
    pub decode: Decode,
    /// Where the record is kept; nowhere for `None`.
    pub record: Option<PathBuf>,
    /// What this program is to others that look at the same record: `wall`, `serve`.
    pub who: String,
    /// Who acknowledges here.
    pub operator: String,
    /// What goes out to other systems.
    pub outward: OutwardOptions,
    /// How pictures are kept.
    pub stills: StillOptions,
    /// What opens the loudspeaker; `None` where this program cannot be heard.
    pub speaker: Option<OpenSpeaker>,
}

impl Default for Config {
    fn default() -> Self {
        Self {
            cameras: Vec::new(),
            prefer: Role::Sub,
            site: None,
            only: None,
            loopback_only: false,
            transport: TransportChoice::Auto,
            decode: Decode::default(),
            record: None,
            who: "wall".into(),
            operator: crate::jobs::operator(None),
            outward: OutwardOptions::default(),
            stills: StillOptions::default(),
            speaker: None,
        }
    }
}

/// What is known once, when an engine began.
#[derive(Debug, Clone, Default)]
pub struct Beginning {
    /// The ranges that a search begins with.
    pub ranges: String,
    /// Firmware with known faults.
    pub faults: Vec<FirmwareFault>,
    /// Something to be said at the start.
    pub remark: Option<String>,
}

/// What goes to the engine's thread.
enum Told {
    Command(Command),
    Look(ViewerId, Box<Demand>),
    Join(ViewerId, Bell, Sender<News>),
    Leave(ViewerId),
    Tap(FeedKey, usize, Sender<Option<Tap>>),
    End,
}

/// An engine that runs; it ends politely when this is dropped: the record is written out, cameras are taken leave of.
pub struct Engine {
    told: Sender<Told>,
    snapshots: watch::Receiver<Arc<Snapshot>>,
    next_viewer: AtomicU32,
    thread: Option<std::thread::JoinHandle<()>>,
    beginning: Beginning,
}

impl Engine {
    /// Begins to receive and to measure.
    ///
    /// # Errors
    /// When the site's files, the address for metrics or the system's threads are not to be had.
    pub fn start(config: Config) -> anyhow::Result<Self> {
        let (told, commands) = bounded(COMMANDS);
        let (publish, snapshots) = watch::channel(Arc::new(Snapshot::default()));
        let (mut machine, beginning) = Machine::new(config, publish)?;
        machine.begin();
        let run = move || machine.run(&commands);
        let thread = std::thread::Builder::new().name("engine".into()).spawn(run).context("no thread for the engine")?;
        Ok(Self { told, snapshots, next_viewer: AtomicU32::new(0), thread: Some(thread), beginning })
    }

    /// What is known since it began.
    #[must_use]
    pub const fn beginning(&self) -> &Beginning {
        &self.beginning
    }

    /// The newest state.
    #[must_use]
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.snapshots.borrow().clone()
    }

    /// One more taker of an open stream's access units, as they come, before any receive buffer; it holds so many of them.
    /// `None` where the stream is not open. Waits for the engine.
    #[must_use]
    pub fn tap(&self, key: FeedKey, units: usize) -> Option<Tap> {
        let (answer, tap) = bounded(1);
        self.told.send(Told::Tap(key, units, answer)).ok()?;
        tap.recv().ok()?
    }

    /// A screen that looks at it from now on; `bell` rings when there is something new to see.
    #[must_use]
    pub fn viewer(&self, bell: Bell) -> Viewer {
        let id = ViewerId(self.next_viewer.fetch_add(1, Ordering::Relaxed));
        let (sender, news) = unbounded();
        let _ = self.told.send(Told::Join(id, bell, sender));
        Viewer { id, told: self.told.clone(), snapshots: self.snapshots.clone(), news, last: None }
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        let _ = self.told.send(Told::End);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A screen's end of the engine.
pub struct Viewer {
    id: ViewerId,
    told: Sender<Told>,
    snapshots: watch::Receiver<Arc<Snapshot>>,
    /// What it tells this screen.
    pub news: Receiver<News>,
    last: Option<Demand>,
}

impl Viewer {
    /// Which screen this is.
    #[must_use]
    pub const fn id(&self) -> ViewerId {
        self.id
    }

    /// The newest state.
    #[must_use]
    pub fn snapshot(&self) -> Arc<Snapshot> {
        self.snapshots.borrow().clone()
    }

    /// Gives a command; false where the engine is so busy that it was not taken.
    #[must_use]
    pub fn order(&self, command: Command) -> bool {
        !matches!(self.told.try_send(Told::Command(command)), Err(TrySendError::Full(_)))
    }

    /// This is wanted from now on; what did not change is not told again.
    pub fn look(&mut self, demand: Demand) {
        if self.last.as_ref() != Some(&demand) && self.told.try_send(Told::Look(self.id, Box::new(demand.clone()))).is_ok() {
            self.last = Some(demand);
        }
    }
}

impl Drop for Viewer {
    fn drop(&mut self) {
        let _ = self.told.try_send(Told::Leave(self.id));
    }
}
