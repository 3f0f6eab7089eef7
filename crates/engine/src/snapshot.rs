//! The state of the engine at a moment, for any number of readers. Most of it is shared with the moment before.

use crate::buffer::{Buffer, buffer};
use crate::camera::{CameraId, Cameras, FeedKey, Seat};
use crate::demand::ViewerId;
use crate::feeds::Output;
use crate::listening::Hearing;
use crate::motion::MotionState;
use crate::planning::{Planned, StreamFacts};
use crate::watch::{Moment, SharedHistory};
use lattice_core::clock::Told;
use lattice_core::find::Exposure;
use lattice_core::ledger::Ledger;
use lattice_core::meter::Figures;
use lattice_core::onvif::ReportKind;
use lattice_core::{Mono, Role, Wall};
use lattice_store::Site;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

/// What is known of devices, by the names of their cameras.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Known {
    /// What they told of their clocks.
    pub clocks: BTreeMap<String, Told>,
    /// Why they lie open.
    pub exposed: BTreeMap<String, Exposure>,
    /// When something was last received from them, seconds UTC.
    pub seen: BTreeMap<String, i64>,
    /// What cameras report themselves that is there now, and since when, where a rule wants their tiles to say so.
    pub reports: BTreeMap<String, Vec<(ReportKind, Mono)>>,
    /// How watching the areas and lines of cameras goes.
    pub motion: BTreeMap<String, MotionState>,
}

/// How the record stands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RecordState {
    /// How large it is on disk, in bytes; 0 where nothing is kept.
    pub size: u64,
    /// Why this program does not keep it: another one does, or it cannot be kept.
    pub not_kept: Option<String>,
}

/// The state.
#[derive(Debug, Clone)]
pub struct Snapshot {
    /// When.
    pub now: Moment,
    /// The cameras that can be opened.
    pub cameras: Arc<Cameras>,
    /// The site as its file has it; empty where there is none.
    pub site: Arc<Site>,
    /// Streams that are to be open.
    pub open: Arc<BTreeSet<FeedKey>>,
    /// Where the pictures of open streams are had.
    pub outputs: Arc<BTreeMap<FeedKey, Output>>,
    /// Their newest figures.
    pub figures: Arc<HashMap<FeedKey, Arc<Figures>>>,
    /// What their figures were.
    pub histories: Arc<HashMap<FeedKey, SharedHistory>>,
    /// What stands in the places of each screen, in their order.
    pub seats: Arc<BTreeMap<ViewerId, Vec<Seat>>>,
    /// The newest plan.
    pub plan: Arc<Planned>,
    /// What is known of streams, for planning.
    pub facts: Arc<HashMap<FeedKey, StreamFacts>>,
    /// Receive buffers that were set here, of streams that belong to no site.
    pub buffers: Arc<HashMap<FeedKey, Duration>>,
    /// What happened.
    pub ledger: Arc<Ledger>,
    /// What is known of devices.
    pub known: Arc<Known>,
    /// What is heard.
    pub hearing: Arc<Hearing>,
    /// How the record stands.
    pub record: RecordState,
    /// The addresses of this machine that a sender can be given.
    pub own_addresses: Arc<Vec<String>>,
}

impl Snapshot {
    /// The stream that a camera begins with.
    #[must_use]
    pub fn first_role(&self, camera: CameraId) -> Option<Role> {
        self.cameras.first_role(camera, |key| self.open.contains(&key))
    }

    /// Whether a wall is laid out the same by both: pictures and figures of its tiles may differ.
    #[must_use]
    pub fn looks_like(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.cameras, &other.cameras)
            && Arc::ptr_eq(&self.ledger, &other.ledger)
            && self.seats == other.seats
            && self.outputs.keys().eq(other.outputs.keys())
    }

    /// The receive buffer of a stream.
    #[must_use]
    pub fn buffer(&self, key: FeedKey) -> Buffer {
        buffer(&self.site, &self.cameras, &self.buffers, self.figures.get(&key).map(Arc::as_ref), key)
    }
}

impl Default for Snapshot {
    fn default() -> Self {
        Self {
            now: Moment { mono: Mono::ZERO, utc: Wall::from_unix_micros(0) },
            cameras: Arc::default(),
            site: Arc::default(),
            open: Arc::default(),
            outputs: Arc::default(),
            figures: Arc::default(),
            histories: Arc::default(),
            seats: Arc::default(),
            plan: Arc::default(),
            facts: Arc::default(),
            buffers: Arc::default(),
            ledger: Arc::default(),
            known: Arc::default(),
            hearing: Arc::default(),
            record: RecordState::default(),
            own_addresses: Arc::default(),
        }
    }
}
