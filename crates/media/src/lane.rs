//! One decoder per stream, served by a few workers; the newest picture wins.

use crate::fallback::FallbackDecoder;
use crate::glance::{glance, light};
use crate::h264::{Decoded, H264Decoder};
use crate::h265::H265Decoder;
use crate::jpeg;
use crate::order::OwnPicture;
use crate::picture::{ColourDescription, Condition, TilePicture};
use crate::scale::Scaler;
use bytes::Bytes;
use crossbeam_channel::{Sender, unbounded};
use lattice_core::lattice::Aspect;
use lattice_core::receiver::Unit;
use lattice_core::sight::Glance;
use lattice_core::video::{Parameters, VideoCodec};
use lattice_core::{Mono, flash};
use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

/// What a tile can show: the most pixels of its painter's grid, and how wide one is against its height.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Wanted {
    /// Most pixels across.
    pub width: usize,
    /// Most pixels down.
    pub height: usize,
    /// Width of a grid pixel over its height.
    pub pixel_aspect: f64,
    /// Sizes are rounded to a multiple of this many pixels across and down.
    pub step: (usize, usize),
    /// How the picture stands in it.
    pub aspect: Aspect,
    /// A picture with fewer pixels is made as large; else it stays as it is, for whoever scales it later.
    pub enlarge: bool,
    /// Only keyframes are decoded.
    pub keyframes_only: bool,
}

impl Wanted {
    /// The size that a whole picture is scaled to: with its aspect inside of this one or, to be cut, around it, or just
    /// this one.
    #[must_use]
    pub fn scaled(&self, picture: (usize, usize)) -> (usize, usize) {
        let (width, height) = self.scaled_to_room(picture);
        if !self.enlarge && width > picture.0 && height > picture.1 { picture } else { (width, height) }
    }

    fn scaled_to_room(&self, picture: (usize, usize)) -> (usize, usize) {
        match self.aspect {
            Aspect::Fit => self.fit(picture),
            Aspect::Stretch => (self.width.max(1), self.height.max(1)),
            Aspect::Fill => {
                let (w, h) = (self.width.max(1) as f64, self.height.max(1) as f64);
                let aspect = picture.0.max(1) as f64 / picture.1.max(1) as f64 / self.pixel_aspect;
                let (w, h) = if w / h > aspect { (w, w / aspect) } else { (h * aspect, h) };
                // Much wider than high, or the other way round: not more than the picture has.
                (
                    w.ceil().min(picture.0.max(self.width) as f64) as usize,
                    h.ceil().min(picture.1.max(self.height) as f64) as usize,
                )
            }
        }
    }

    /// The largest size with the picture's aspect that fits.
    #[must_use]
    pub fn fit(&self, picture: (usize, usize)) -> (usize, usize) {
        let (w, h) = (self.width as f64, self.height as f64);
        let aspect = picture.0.max(1) as f64 / picture.1.max(1) as f64 / self.pixel_aspect;
        let (w, h) = if w / h > aspect { (h * aspect, h) } else { (w, w / aspect) };
        let round = |side: f64, step: usize, most: usize| {
            let steps = (side / step as f64).round().max(1.0) as usize;
            (steps * step).min(most.max(1))
        };
        (round(w, self.step.0, self.width), round(h, self.step.1, self.height))
    }
}

/// What is done with pictures after a loss, until the next clean point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum DamageChoice {
    /// The last clean picture stays for a while ([`Lane::hold_for`]); where damage lasts longer, pictures are shown as the
    /// decoder conceals them, marked as damaged: one that stands still for seconds tells less.
    #[default]
    Hold,
    /// They are shown as the decoder conceals them, marked as damaged.
    Show,
}

/// What a lane reports.
#[derive(Debug, Clone)]
pub enum LaneEvent {
    /// The picture of this access unit came out of the decoder.
    Decoded {
        /// Number of the access unit.
        number: u64,
        /// When it was decoded, and scaled if it was wanted.
        at: Mono,
        /// Parts of it, or of what it depends on, are missing.
        damaged: bool,
    },
    /// The newest picture for the tile.
    Picture(Arc<TilePicture>),
    /// The picture that was asked for to be kept: all of it, or scaled down to what was said.
    Still(Arc<TilePicture>),
    /// The decoder refused a whole unit.
    Refused {
        /// Number of the access unit.
        number: u64,
    },
    /// The decoder made up parts of a picture whose unit arrived whole.
    Concealed {
        /// Number of the access unit.
        number: u64,
    },
    /// Units were discarded because the decoder was behind.
    Skipped {
        /// How many.
        count: u64,
    },
    /// A clean picture was looked at; one a second at most.
    Glance(Arc<Glance>),
    /// How bright the places of a clean picture are; of every one, while it was asked for.
    Light {
        /// Number of the access unit.
        number: u64,
        /// When it was decoded, and scaled if it was wanted.
        at: Mono,
        /// The places.
        cells: Box<[u8; flash::CELLS]>,
    },
}

/// Where a lane's reports go; called from a worker, so it must not block.
pub type Sink = Box<dyn Fn(LaneEvent) + Send + Sync>;

/// Units kept for a lane: 20 s at 30 frames/s, more than any sensible keyframe interval. Beyond
/// that, or the bytes, the lane waits for the next keyframe.
const MAX_UNITS: usize = 600;
const MAX_BYTES: usize = 24 << 20;
/// Units that a lane decodes before others have their turn.
const AT_A_TURN: usize = 4;
/// The last clean picture is held this long after a loss, where nothing else is said.
const HOLD: Duration = Duration::from_secs(1);
/// Pictures are looked at this often.
const GLANCE_EVERY: Duration = Duration::from_secs(1);
/// A watched lane with more units than this waiting, and a keyframe among them, skips to it.
const BEHIND: usize = 12;

#[derive(Debug)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
struct Job {
    number: u64,
    data: Bytes,
    clean_point: bool,
    /// Access units until pictures are right, for a clean point.
    recovery: u64,
    displayable: bool,
    colour: ColourDescription,
    new_parameters: bool,
    bipredictive: bool,
    keyframe: bool,
    /// By how many pictures display order may differ from coding order.
    reorder: Option<u8>,
    form: Form,
}

/// Which decoder a stream needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Form {
    codec: VideoCodec,
    /// Beyond progressive 8-bit 4:2:0: not for the usual decoder.
    unusual: bool,
}

#[derive(Default)]
struct Inbox {
    jobs: VecDeque<Job>,
    bytes: usize,
    needs_clean_point: bool,
    wanted: Option<Wanted>,
    choice: DamageChoice,
    /// How long a clean picture is held, where it is not [`HOLD`].
    hold: Option<Duration>,
    /// The brightness of every picture is wanted.
    light: bool,
    /// The next clean picture is wanted, within this size.
    still: Option<(usize, usize)>,
    last_parameters: Option<(Form, u32, u32)>,
    closed: bool,
}

#[derive(Default)]
struct Bench {
    decoder: Option<AnyDecoder>,
    scaler: Scaler,
    /// Units decoded of late whose pictures may still be to come: number, displayable, colour.
    recent: VecDeque<(u64, bool, ColourDescription)>,
    order: Order,
    trust: Trust,
    /// Decoding began at a recovery point, and no keyframe has come since: the codec calls every picture of such a stream made
    /// up, also when nothing of it is. Its arrival tells then what is whole.
    no_keyframe: bool,
    /// When a picture was looked at last.
    glanced: Option<Mono>,
    /// Since when pictures are damaged.
    damaged_since: Option<Mono>,
}

/// The decoder of a stream, by its codec.
enum AnyDecoder {
    H264(H264Decoder),
    H265(Box<H265Decoder>),
    /// H.264 that the usual decoder does not take.
    Fallback(Box<FallbackDecoder>),
    /// Each picture stands by itself: nothing is kept.
    Jpeg,
}

impl AnyDecoder {
    fn new(form: Form) -> Option<Self> {
        Some(match form.codec {
            VideoCodec::H264 if form.unusual => Self::Fallback(Box::default()),
            VideoCodec::H264 => {
                Self::H264(H264Decoder::new().inspect_err(|error| tracing::error!(%error, "no decoder could be made")).ok()?)
            }
            VideoCodec::H265 => Self::H265(Box::default()),
            VideoCodec::Jpeg => Self::Jpeg,
        })
    }
}

/// Whether what the codec makes of whole units can be believed. A codec that had to make up parts of a
/// picture missed something that arrival could not tell (frames that were never sent, say), and what
/// follows is built upon it.
#[derive(Default, Clone, Copy)]
enum Trust {
    /// Nothing was made up.
    #[default]
    Full,
    /// Something was: not to be believed before the next clean point.
    Lost,
    /// A clean point came: to be believed from this access unit on.
    From(u64),
}

impl Trust {
    /// Takes the next unit that goes to the codec.
    const fn on_unit(&mut self, job: &Job) {
        if job.clean_point && matches!(self, Self::Lost) {
            *self = Self::From(job.number + job.recovery);
        }
    }

    /// Takes a picture that comes out; whether it can be believed.
    const fn on_picture(&mut self, number: u64, concealed: bool) -> bool {
        match *self {
            _ if concealed => *self = Self::Lost,
            Self::From(first) if number >= first => *self = Self::Full,
            _ => {}
        }
        matches!(self, Self::Full)
    }
}

/// Whether pictures may have to wait for display order. Most cameras send no B-frames but do not
/// say so; the codec then holds each picture back for one or two frames in vain.
#[derive(Default)]
enum Order {
    /// No unit yet.
    #[default]
    Unknown,
    /// Units without a B-frame so far.
    Straight(u32),
    /// A B-frame came.
    Reordered,
}

/// Units without a B-frame after which there will be none: more than any distance between anchors.
const STRAIGHT_AFTER: u32 = 16;

impl Order {
    /// Takes the next unit; whether pictures need not wait.
    const fn on_unit(&mut self, bipredictive: bool, told: Option<u8>) -> bool {
        *self = match *self {
            _ if bipredictive => Self::Reordered,
            Self::Reordered => Self::Reordered,
            Self::Unknown => Self::Straight(1),
            Self::Straight(n) => Self::Straight(n.saturating_add(1)),
        };
        // Some say that they reorder nothing, and do.
        matches!(self, Self::Straight(n) if *n >= STRAIGHT_AFTER || matches!(told, Some(0)))
    }
}

struct Shared {
    inbox: Mutex<Inbox>,
    bench: Mutex<Bench>,
    scheduled: AtomicBool,
    sink: Sink,
    now: fn() -> Mono,
}

/// A poisoned lock means that a worker panicked; the lane goes on with what it has.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A lane that has work, with the way back into the queue.
struct Turn {
    lane: Arc<Shared>,
    queue: Sender<Turn>,
}

/// The workers.
pub struct Pool {
    sender: Option<Sender<Turn>>,
    workers: Vec<JoinHandle<()>>,
    now: fn() -> Mono,
}

impl Pool {
    /// Starts `threads` workers (one at least); `now` reads the clock that reports are stamped with.
    #[must_use]
    pub fn new(threads: usize, now: fn() -> Mono) -> Self {
        // Unbounded, but a lane stands in it at most once.
        let (sender, receiver) = unbounded::<Turn>();
        let work = move || {
            let receiver = receiver.clone();
            move || receiver.iter().for_each(serve)
        };
        let workers = (0..threads.max(1))
            .filter_map(|n| std::thread::Builder::new().name(format!("decode-{n}")).spawn(work()).ok())
            .collect();
        Self { sender: Some(sender), workers, now }
    }

    /// A lane for one stream, not watched yet.
    #[must_use]
    pub fn lane(&self, sink: Sink) -> Lane {
        let inbox = Mutex::new(Inbox { needs_clean_point: true, ..Inbox::default() });
        let shared = Shared { inbox, bench: Mutex::default(), scheduled: AtomicBool::new(false), sink, now: self.now };
        Lane { shared: Arc::new(shared), sender: self.sender.clone() }
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        self.sender = None;
        // Workers end when the last lane is gone too; a lane that outlives the pool must not block it.
        self.workers.clear();
    }
}

/// The decoding end of one stream; cheap to clone.
#[derive(Clone)]
pub struct Lane {
    shared: Arc<Shared>,
    sender: Option<Sender<Turn>>,
}

impl Lane {
    /// Takes the next access unit of the stream, with the parameters in force.
    pub fn push(&self, unit: Unit, parameters: Option<&Parameters>) {
        let colour = parameters.map_or_else(ColourDescription::default, |parameters| ColourDescription {
            full_range: parameters.full_range,
            matrix: parameters.matrix,
        });
        let form = |parameters: &Parameters| Form { codec: parameters.codec, unusual: parameters.unusual.is_some() };
        let now_in_force = parameters.map(|parameters| (form(parameters), parameters.width, parameters.height));
        let Some(data) = unit.unit.data else { return };
        let mut inbox = lock(&self.shared.inbox);
        let clean_point = (unit.unit.keyframe || unit.unit.recovery.is_some()) && !unit.unit.damaged;
        if inbox.needs_clean_point && !clean_point {
            return;
        }
        inbox.needs_clean_point = false;
        let watched = inbox.wanted.is_some_and(|wanted| !wanted.keyframes_only);
        let wakes = watched || (inbox.wanted.is_some() && unit.unit.keyframe && clean_point);
        let before = inbox.last_parameters;
        let new_parameters = now_in_force.is_some() && before.is_some() && now_in_force != before;
        inbox.last_parameters = now_in_force.or(before);
        let usual = Form { codec: VideoCodec::H264, unusual: false };
        let form = inbox.last_parameters.map_or(usual, |(form, ..)| form);
        let restart = clean_point && unit.unit.keyframe && (!watched || inbox.jobs.len() > BEHIND);
        let mut skipped = 0;
        if restart {
            // Nothing before a keyframe is needed to show what follows it.
            skipped = if watched { inbox.jobs.len() } else { 0 };
            inbox.jobs.clear();
            inbox.bytes = 0;
        }
        inbox.bytes += data.len();
        inbox.jobs.push_back(Job {
            number: unit.unit.number,
            data,
            clean_point,
            recovery: if unit.unit.keyframe { 0 } else { u64::from(unit.unit.recovery.unwrap_or(0)) },
            displayable: unit.displayable,
            colour,
            new_parameters,
            bipredictive: unit.unit.bipredictive,
            keyframe: unit.unit.keyframe,
            reorder: parameters.and_then(|parameters| parameters.reorder),
            form,
        });
        if inbox.jobs.len() > MAX_UNITS || inbox.bytes > MAX_BYTES {
            skipped += inbox.jobs.len();
            inbox.jobs.clear();
            inbox.bytes = 0;
            inbox.needs_clean_point = true;
        }
        drop(inbox);
        if skipped > 0 && watched {
            (self.shared.sink)(LaneEvent::Skipped { count: skipped as u64 });
        }
        if wakes {
            self.schedule();
        }
    }

    /// What the tile can show from now on; `None` when nobody looks.
    pub fn want(&self, wanted: Option<Wanted>) {
        let mut inbox = lock(&self.shared.inbox);
        let only = |wanted: Option<Wanted>| wanted.is_none_or(|wanted| wanted.keyframes_only);
        let more = wanted.is_some() && (inbox.wanted.is_none() || (only(inbox.wanted) && !only(wanted)));
        let woken = more && !inbox.jobs.is_empty();
        inbox.wanted = wanted;
        drop(inbox);
        if woken {
            self.schedule();
        }
    }

    /// Gives the next clean picture as a [`LaneEvent::Still`], scaled down with its aspect where it is larger than `most`.
    /// Only a watched lane decodes any.
    pub fn still(&self, most: (usize, usize)) {
        lock(&self.shared.inbox).still = Some(most);
    }

    /// Whether to tell how bright each picture is.
    pub fn tell_light(&self, wanted: bool) {
        lock(&self.shared.inbox).light = wanted;
    }

    /// What to do with damaged pictures.
    pub fn on_damage(&self, choice: DamageChoice) {
        lock(&self.shared.inbox).choice = choice;
    }

    /// How long the last clean picture is held after a loss.
    pub fn hold_for(&self, span: Duration) {
        lock(&self.shared.inbox).hold = Some(span);
    }

    /// The stream broke off: the next unit that can be used is a clean point.
    pub fn restart(&self) {
        let mut inbox = lock(&self.shared.inbox);
        inbox.jobs.clear();
        inbox.bytes = 0;
        inbox.needs_clean_point = true;
    }

    /// Nothing more is decoded or reported.
    pub fn close(&self) {
        let mut inbox = lock(&self.shared.inbox);
        *inbox = Inbox { closed: true, needs_clean_point: true, ..Inbox::default() };
    }

    fn schedule(&self) {
        if !self.shared.scheduled.swap(true, Ordering::AcqRel)
            && let Some(sender) = &self.sender
        {
            let _ = sender.send(Turn { lane: self.shared.clone(), queue: sender.clone() });
        }
    }
}

/// Decodes some of what waits in a lane; of several pictures only the newest is scaled. A lane with more goes to the end of the
/// queue, so that one that needs more than there is takes nothing from others. It stays scheduled all the while: no second worker
/// ever has it.
fn serve(turn: Turn) {
    let lane = &turn.lane;
    let mut bench = lock(&lane.bench);
    let mut inbox = lock(&lane.inbox);
    let (Some(wanted), false) = (inbox.wanted, inbox.closed) else { return lane.scheduled.store(false, Ordering::Release) };
    // What follows a keyframe is kept, so that it can go on from there when all is wanted.
    let many = match inbox.jobs.front() {
        Some(first) if wanted.keyframes_only => usize::from(first.keyframe),
        _ => inbox.jobs.len().min(AT_A_TURN),
    };
    let jobs: Vec<Job> = inbox.jobs.drain(..many).collect();
    inbox.bytes = inbox.bytes.saturating_sub(jobs.iter().map(|job| job.data.len()).sum());
    let looks = Looks { choice: inbox.choice, hold: inbox.hold.unwrap_or(HOLD), light: inbox.light };
    if jobs.is_empty() {
        // Under the lock of the inbox: what is pushed from now on schedules it again.
        return lane.scheduled.store(false, Ordering::Release);
    }
    drop(inbox);
    let last = jobs.len() - 1;
    for (index, job) in jobs.into_iter().enumerate() {
        decode_one(lane, &mut bench, &job, wanted, looks, index == last);
    }
    drop(bench);
    let Turn { lane, queue } = turn;
    let _ = queue.clone().send(Turn { lane, queue });
}

/// What is done with pictures beside scaling them.
#[derive(Debug, Clone, Copy)]
struct Looks {
    choice: DamageChoice,
    hold: Duration,
    light: bool,
}

fn decode_one(lane: &Shared, bench: &mut Bench, job: &Job, wanted: Wanted, looks: Looks, newest: bool) {
    let Bench { decoder, scaler, recent, order, trust, no_keyframe, glanced, damaged_since } = bench;
    if job.new_parameters {
        // Pictures held back belong to the old size; a fresh decoder shows the new one at once.
        *decoder = None;
    }
    if decoder.is_none() {
        if !job.clean_point {
            return;
        }
        *decoder = AnyDecoder::new(job.form);
        recent.clear();
        *order = Order::default();
        *trust = Trust::default();
        *no_keyframe = true;
    }
    *no_keyframe &= !job.keyframe;
    let Some(codec) = decoder.as_mut() else { return };
    if recent.len() >= 64 {
        recent.pop_front();
    }
    recent.push_back((job.number, job.displayable, job.colour));
    let at_once = order.on_unit(job.bipredictive, job.reorder) || wanted.keyframes_only;
    let reorder = if wanted.keyframes_only { Some(0) } else { job.reorder };
    trust.on_unit(job);
    let mut painter = Painter { lane, recent, trust, no_keyframe: *no_keyframe, glanced, damaged_since, wanted, looks, newest };
    let refused = match codec {
        AnyDecoder::H264(codec) => decode_h264(codec, job, at_once, &mut painter, scaler),
        AnyDecoder::H265(codec) => painter.take(scaler, job, codec.decode(job.number, job.keyframe, reorder, &job.data)),
        AnyDecoder::Fallback(codec) => painter.take(scaler, job, codec.decode(job.number, job.keyframe, reorder, &job.data)),
        AnyDecoder::Jpeg => match jpeg::decode(&job.data) {
            Some(picture) => {
                painter.report(scaler, &Decoded { number: job.number, planes: picture.planes(), concealed: false });
                false
            }
            None => true,
        },
    };
    // Of a unit that is damaged anyway its arrival has told.
    if refused && job.displayable {
        (lane.sink)(LaneEvent::Refused { number: job.number });
    }
}

/// Whether the codec refused the unit.
fn decode_h264(codec: &mut H264Decoder, job: &Job, at_once: bool, painter: &mut Painter<'_>, scaler: &mut Scaler) -> bool {
    let (mut refused, mut came) = (false, false);
    match codec.decode(job.number, &job.data) {
        Ok(Some(decoded)) => {
            came = decoded.number == job.number;
            painter.report(scaler, &decoded);
        }
        Ok(None) => {}
        Err(_) => refused = true,
    }
    while at_once
        && !came
        && let Ok(Some(decoded)) = codec.flush()
    {
        painter.report(scaler, &decoded);
    }
    refused
}

/// What is needed to make a tile's picture of a decoded one.
struct Painter<'a> {
    lane: &'a Shared,
    recent: &'a VecDeque<(u64, bool, ColourDescription)>,
    trust: &'a mut Trust,
    no_keyframe: bool,
    glanced: &'a mut Option<Mono>,
    damaged_since: &'a mut Option<Mono>,
    wanted: Wanted,
    looks: Looks,
    newest: bool,
}

impl Painter<'_> {
    /// What a decoder made of a unit; true where it refused it.
    fn take<E: std::fmt::Display>(&mut self, scaler: &mut Scaler, job: &Job, decoded: Result<Vec<OwnPicture>, E>) -> bool {
        match decoded {
            Ok(pictures) => {
                for picture in &pictures {
                    self.report(scaler, &Decoded { number: picture.number, planes: picture.planes(), concealed: false });
                }
                false
            }
            Err(error) => {
                tracing::debug!(%error, number = job.number, "refused");
                true
            }
        }
    }

    fn report(&mut self, scaler: &mut Scaler, decoded: &Decoded<'_>) {
        let known = self.recent.iter().find(|(number, ..)| *number == decoded.number);
        let (displayable, colour) =
            known.map_or((false, ColourDescription::default()), |(_, displayable, colour)| (*displayable, *colour));
        // Of a unit that is damaged anyway its arrival has told.
        let concealed = decoded.concealed && displayable && !self.no_keyframe;
        let damaged = !self.trust.on_picture(decoded.number, concealed) || !displayable;
        if concealed {
            (self.lane.sink)(LaneEvent::Concealed { number: decoded.number });
        }
        let now = (self.lane.now)();
        if damaged {
            self.damaged_since.get_or_insert(now);
        } else {
            *self.damaged_since = None;
        }
        let held_long = self.damaged_since.is_some_and(|since| now.since(since) >= self.looks.hold);
        let shown = self.newest && (!damaged || held_long || self.looks.choice == DamageChoice::Show);
        let picture = shown.then(|| {
            let source = (decoded.planes.width, decoded.planes.height);
            let (width, height) = self.wanted.scaled(source);
            let mut rgb = Vec::new();
            scaler.scale(&decoded.planes, colour, width, height, &mut rgb);
            let condition = if damaged { Condition::Damaged } else { Condition::Clean };
            TilePicture { number: decoded.number, width, height, rgb, source, condition, ready: (self.lane.now)() }
        });
        let at = picture.as_ref().map_or_else(self.lane.now, |picture| picture.ready);
        (self.lane.sink)(LaneEvent::Decoded { number: decoded.number, at, damaged });
        let still = if damaged { None } else { lock(&self.lane.inbox).still.take() };
        if let Some((width, height)) = still {
            let source = (decoded.planes.width, decoded.planes.height);
            let aspect = Aspect::Fit;
            let room = Wanted { width, height, pixel_aspect: 1.0, step: (1, 1), aspect, enlarge: false, keyframes_only: false };
            let (width, height) = room.scaled(source);
            let (mut rgb, condition) = (Vec::new(), Condition::Clean);
            Scaler::default().scale(&decoded.planes, colour, width, height, &mut rgb);
            let picture = TilePicture { number: decoded.number, width, height, rgb, source, condition, ready: at };
            (self.lane.sink)(LaneEvent::Still(Arc::new(picture)));
        }
        if self.looks.light
            && !damaged
            && let Some(cells) = light(&decoded.planes)
        {
            (self.lane.sink)(LaneEvent::Light { number: decoded.number, at, cells });
        }
        if !damaged && self.glanced.is_none_or(|before| at.since(before) >= GLANCE_EVERY) {
            *self.glanced = Some(at);
            if let Some(glance) = glance(&decoded.planes, colour, at) {
                (self.lane.sink)(LaneEvent::Glance(Arc::new(glance)));
            }
        }
        if let Some(picture) = picture.filter(|picture| !picture.rgb.is_empty()) {
            (self.lane.sink)(LaneEvent::Picture(Arc::new(picture)));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_keep_their_aspect_in_any_tile() {
        let quadrants = Wanted {
            width: 158,
            height: 44,
            pixel_aspect: 0.5,
            step: (2, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(quadrants.fit((640, 360)), (156, 44));
        let halves = Wanted {
            width: 40,
            height: 60,
            pixel_aspect: 1.0,
            step: (1, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(halves.fit((1280, 720)), (40, 22));
        let tiny = Wanted {
            width: 1,
            height: 2,
            pixel_aspect: 1.0,
            step: (1, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(tiny.fit((640, 360)), (1, 2));
    }
}
