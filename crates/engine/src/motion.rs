//! Our own motion on areas and lines of cameras: who is watched, by which of its streams, and what came of it.

use crate::camera::{CameraId, Cameras, FeedKey};
use crate::feeds::Feeds;
use crate::planning::Planning;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::Mono;
use lattice_core::motion::{CELLS, Noticed, Shape, Stage, Watcher, Way, What};
use lattice_core::onvif::{Operation, Report, ReportKind};
use lattice_store::Site;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

/// What own motion is called where devices have topics of theirs.
pub const TOPIC: &str = "seen in its pictures";
/// A place that moves always, among the levels of activity.
pub const ALWAYS: u8 = 255;

/// How watching a camera goes.
#[derive(Debug, Clone, PartialEq)]
pub struct MotionState {
    /// How far it has come; `None` where nothing is left to decode its stream with.
    pub stage: Option<Stage>,
    /// By which stream.
    pub by: Option<FeedKey>,
    /// Each shape, in the order of the site.
    pub shapes: Vec<ShapeState>,
}

/// How watching one shape goes.
#[derive(Debug, Clone, PartialEq)]
pub struct ShapeState {
    /// Its name.
    pub name: String,
    /// The share of it that moves always, and is not looked at.
    pub blind: f64,
    /// How often something was seen since it is watched.
    pub seen: u32,
    /// When last.
    pub last: Option<Mono>,
}

type Told = (CameraId, Vec<Noticed>);

/// Where the levels of a stream's pictures go.
#[derive(Debug, Clone)]
pub(crate) struct MotionTap {
    camera: CameraId,
    watcher: Arc<Mutex<Watcher>>,
    told: Sender<Told>,
}

impl MotionTap {
    /// Takes a picture; gives how much moved at each place, 0 to 254, and [`ALWAYS`].
    pub fn see(&self, at: Mono, levels: &[u8]) -> Arc<[u8]> {
        let mut watcher = self.watcher.lock().unwrap_or_else(PoisonError::into_inner);
        let noticed = watcher.see(at, levels);
        let level = |cell: usize| if watcher.always(cell) { ALWAYS } else { (watcher.trace()[cell] * 254.0) as u8 };
        let activity = (0..CELLS).map(level).collect();
        drop(watcher);
        if !noticed.is_empty() {
            let _ = self.told.send((self.camera, noticed));
        }
        activity
    }
}

#[derive(Debug)]
struct Watched {
    watcher: Arc<Mutex<Watcher>>,
    by: Option<FeedKey>,
    seen: Vec<(u32, Option<Mono>)>,
}

/// All cameras that are watched.
#[derive(Debug)]
pub(crate) struct Motions {
    all: BTreeMap<CameraId, Watched>,
    told: (Sender<Told>, Receiver<Told>),
}

impl Default for Motions {
    fn default() -> Self {
        Self { all: BTreeMap::new(), told: unbounded() }
    }
}

impl Motions {
    /// Watches what the site says; gives the cameras that are watched for something else now, and those that are not watched any more.
    pub fn follow(&mut self, cameras: &Cameras, site: &Site) -> (Vec<CameraId>, Vec<CameraId>) {
        let shapes = |camera: CameraId| -> Option<&Vec<Shape>> {
            let kept = site.camera(cameras.name(camera))?;
            (!kept.disabled && !kept.watch.is_empty()).then_some(&kept.watch)
        };
        let gone: Vec<CameraId> = self.all.keys().copied().filter(|camera| shapes(*camera).is_none()).collect();
        self.all.retain(|camera, _| shapes(*camera).is_some());
        let mut changed = Vec::new();
        for (camera, _) in cameras.iter() {
            let Some(shapes) = shapes(camera) else { continue };
            let watched = self.all.entry(camera).or_insert_with(|| Watched {
                watcher: Arc::new(Mutex::new(Watcher::new(shapes.clone()))),
                by: None,
                seen: vec![(0, None); shapes.len()],
            });
            let mut watcher = watched.watcher.lock().unwrap_or_else(PoisonError::into_inner);
            if watcher.shapes() != shapes {
                watcher.watch(shapes.clone());
                watched.seen = vec![(0, None); shapes.len()];
                changed.push(camera);
            }
        }
        (changed, gone)
    }

    /// Chooses by which stream each camera is watched: the lightest of those that are decoded anyway, else the lightest that is received,
    /// as far as there is room to decode it. Gives those that are chosen.
    pub fn choose(&mut self, feeds: &Feeds, planning: &Planning, is_decoded: impl Fn(FeedKey) -> bool) -> BTreeSet<FeedKey> {
        let mut left = planning.decoding_left();
        for (camera, watched) in &mut self.all {
            let lightest = |decoded: bool| {
                let open = feeds.open_of(*camera).filter(|key| !decoded || is_decoded(*key));
                open.min_by(|a, b| planning.decoding_of(*a).total_cmp(&planning.decoding_of(*b)))
            };
            watched.by = lightest(true).or_else(|| {
                // Of keyframes alone nothing can be seen.
                let key = lightest(false).filter(|key| !planning.keyframes_only(*key))?;
                let cost = planning.decoding_of(key);
                (cost <= left).then(|| {
                    left -= cost;
                    key
                })
            });
        }
        self.all.values().filter_map(|watched| watched.by).collect()
    }

    /// Where the levels of a stream go; `None` where no camera is watched by it.
    pub fn tap(&self, key: FeedKey) -> Option<MotionTap> {
        let watched = self.all.get(&key.camera).filter(|watched| watched.by == Some(key))?;
        Some(MotionTap { camera: key.camera, watcher: watched.watcher.clone(), told: self.told.0.clone() })
    }

    /// What was noticed since this was asked last, as reports.
    pub fn take(&mut self, now: Mono) -> Vec<(CameraId, Report)> {
        let mut reports = Vec::new();
        let ended = self
            .all
            .iter()
            .map(|(camera, watched)| (*camera, watched.watcher.lock().unwrap_or_else(PoisonError::into_inner).tick(now)));
        let ended: Vec<Told> = ended.filter(|(_, noticed)| !noticed.is_empty()).collect();
        for (camera, noticed) in self.told.1.try_iter().chain(ended) {
            let Some(watched) = self.all.get_mut(&camera) else { continue };
            let watcher = watched.watcher.lock().unwrap_or_else(PoisonError::into_inner);
            for one in noticed {
                let (Some(shape), Some(seen)) = (watcher.shapes().get(one.shape), watched.seen.get_mut(one.shape)) else {
                    continue;
                };
                if one.what != What::Ends {
                    *seen = (seen.0.saturating_add(1), Some(now));
                }
                reports.push((camera, report(shape, one.what)));
            }
        }
        reports
    }

    /// How watching goes, of each camera by its name.
    pub fn states(&self, now: Mono, cameras: &Cameras) -> BTreeMap<String, MotionState> {
        let state =
            |watched: &Watched| {
                let watcher = watched.watcher.lock().unwrap_or_else(PoisonError::into_inner);
                let shapes = watcher.shapes().iter().enumerate().zip(&watched.seen).map(|((n, shape), (seen, last))| {
                    ShapeState { name: shape.name.clone(), blind: watcher.blind(n), seen: *seen, last: *last }
                });
                MotionState { stage: watched.by.map(|_| watcher.stage(now)), by: watched.by, shapes: shapes.collect() }
            };
        self.all.iter().map(|(camera, watched)| (cameras.name(*camera).to_owned(), state(watched))).collect()
    }
}

/// As a device would report it.
fn report(shape: &Shape, what: What) -> Report {
    let (kind, active, source) = match what {
        What::Begins => (ReportKind::Motion, Some(true), shape.name.clone()),
        What::Ends => (ReportKind::Motion, Some(false), shape.name.clone()),
        What::Crossed(way) => {
            let way = match way {
                Way::ToTheLeft => ", to the left",
                _ => ", to the right",
            };
            (ReportKind::Crossing, None, format!("{}{way}", shape.name))
        }
    };
    Report { kind, topic: TOPIC.into(), at: None, operation: Operation::Changed, active, source, data: Vec::new() }
}
