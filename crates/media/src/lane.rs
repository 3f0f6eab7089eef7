//! The decoding end of one stream: what waits, what is wanted of it, what it reports.

use crate::bench::{Form, Head, Looks};
use crate::picture::{ColourDescription, TilePicture};
use crate::pool::{Queues, Turn};
use crate::wanted::{MOST_PRINTS, Print, Wanted, keyframes_only};
use bytes::Bytes;
use lattice_core::adjust::Toned;
use lattice_core::lattice::Aspect;
use lattice_core::receiver::Unit;
use lattice_core::sight::Glance;
use lattice_core::video::{Parameters, VideoCodec};
use lattice_core::{Mono, flash};
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// What is done with pictures after a loss, until the next clean point.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
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
    /// The newest picture for the tiles that asked for this print.
    Picture(u64, Arc<TilePicture>),
    /// How the levels of a picture are spread, before and after it was adjusted; of every one, while it was asked for.
    Tones(Arc<Toned>),
    /// The picture that was asked for to be kept: all of it, or scaled down to what was said.
    Still(Arc<TilePicture>),
    /// The last picture of what was received, as [`Lane::recall`] asked; it was ready when its unit had arrived.
    Recalled(Arc<TilePicture>),
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
    /// The levels of the places of a clean picture, for [`lattice_core::motion`]; so often as that looks, while it was asked for.
    Levels {
        /// When it was decoded.
        at: Mono,
        /// The places.
        cells: Vec<u8>,
    },
    /// The decoder ended while it worked on this stream. It begins anew: from the units since the last keyframe, or at the next
    /// one where this stream's own unit is to blame.
    Failed {
        /// When that was noticed.
        at: Mono,
        /// How it ended.
        ending: Ending,
        /// How many other streams it served.
        others: usize,
        /// It waits for the next keyframe: this stream's own unit is to blame, as far as can be told.
        waits: bool,
    },
}

/// Why a decoder is gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// It panicked on a unit.
    Panicked,
    /// It ended by this signal of its own making: a fault in it.
    Fault(i32),
    /// Somebody else ended it, by this signal.
    Killed(i32),
    /// It left by itself.
    Left,
    /// It did not come to an end with a unit, and was ended.
    Hung,
    /// What it said is no answer.
    Nonsense,
    /// It could not be started.
    NotStarted,
}

impl std::fmt::Display for Ending {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Panicked => f.write_str("it met a fault in its own code"),
            Self::Fault(signal) => write!(f, "it crashed with signal {signal}"),
            Self::Killed(signal) => write!(f, "it was ended by signal {signal}"),
            Self::Left => f.write_str("it ended by itself"),
            Self::Hung => f.write_str("it hung and was ended"),
            Self::Nonsense => f.write_str("it answered nonsense and was ended"),
            Self::NotStarted => f.write_str("it could not be started"),
        }
    }
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
/// A watched lane with more units than this waiting, and a keyframe among them, skips to it.
const BEHIND: usize = 12;
/// A lane whose units end decoders rests so long after the second time within [`FORGIVEN_AFTER`], and twice as long each time.
const FIRST_REST: Duration = Duration::from_secs(2);
/// It rests no longer than this.
const LONGEST_REST: Duration = Duration::from_secs(60);
/// A decoder's end so long ago counts no more.
const FORGIVEN_AFTER: Duration = Duration::from_secs(120);

/// A unit that waits.
pub(crate) type Job = (Head, Bytes);

#[derive(Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent properties, not one state")]
struct Inbox {
    jobs: VecDeque<Job>,
    bytes: usize,
    needs_clean_point: bool,
    /// What is made of each picture; nothing is decoded where that is nothing.
    prints: Vec<Print>,
    choice: DamageChoice,
    /// How long a clean picture is held, where it is not [`HOLD`].
    hold: Option<Duration>,
    /// The brightness of every picture is wanted.
    light: bool,
    /// How the levels of every picture are spread is wanted.
    tones: bool,
    /// The levels of its places are wanted.
    levels: bool,
    /// The next clean picture is wanted, within this size.
    still: Option<(usize, usize)>,
    last_parameters: Option<(Form, u32, u32)>,
    closed: bool,
    past: Past,
    /// What was received is being decoded apart.
    recalling: bool,
    failures: Failures,
}

/// What a decoder was given since the last keyframe: another one begins with it where the first is gone.
#[derive(Default)]
struct Past {
    jobs: VecDeque<Job>,
    bytes: usize,
    /// It begins with a keyframe.
    whole: bool,
}

impl Past {
    fn take(&mut self, jobs: &[Job]) {
        for (head, data) in jobs {
            if head.keyframe && head.clean_point {
                *self = Self { whole: true, ..Self::default() };
            }
            if !self.whole {
                continue;
            }
            self.bytes += data.len();
            self.jobs.push_back((Head { again: true, new_parameters: false, ..*head }, data.clone()));
            if self.jobs.len() > MAX_UNITS || self.bytes > MAX_BYTES {
                *self = Self::default();
            }
        }
    }
}

/// How often units of this lane ended a decoder of late.
#[derive(Default)]
struct Failures {
    count: u32,
    last: Option<Mono>,
    /// Nothing is decoded before.
    until: Option<Mono>,
}

impl Failures {
    fn one_more(&mut self, now: Mono, to_blame: bool) {
        if self.last.is_some_and(|last| now.since(last) > FORGIVEN_AFTER) {
            self.count = 0;
        }
        self.last = Some(now);
        self.count = self.count.saturating_add(1);
        let doubled = FIRST_REST.saturating_mul(1 << self.count.saturating_sub(2).min(5));
        self.until = (to_blame && self.count > 1).then(|| now + doubled.min(LONGEST_REST));
    }

    fn rests(&self, now: Mono) -> bool {
        self.until.is_some_and(|until| now < until)
    }
}

/// What workers and the lane's owner share.
pub(crate) struct Shared {
    pub id: u64,
    inbox: Mutex<Inbox>,
    /// It stands in a queue, or is served.
    scheduled: AtomicBool,
    pub sink: Sink,
    pub now: fn() -> Mono,
    /// The worker that has its decoder.
    pub home: AtomicUsize,
    pub queues: Arc<Queues>,
}

/// A poisoned lock means that a worker panicked; the lane goes on with what it has.
fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What a lane received, to be decoded apart from what is shown of it.
pub(crate) struct Recall {
    pub lane: Arc<Shared>,
    /// From a keyframe on; nothing is told but of the last.
    pub jobs: VecDeque<Job>,
    pub most: (usize, usize),
}

impl Recall {
    /// What its decoder is called: no lane's own has the highest bit.
    pub fn id(&self) -> u64 {
        self.lane.id | 1 << 63
    }

    /// Some of the units: the last stands alone, its picture does not wait for display order and is the one that is wanted.
    pub fn take(&mut self) -> Turnful {
        let many = (self.jobs.len() - 1).clamp(1, AT_A_TURN).min(self.jobs.len());
        let jobs: Vec<Job> = self.jobs.drain(..many).collect();
        let (width, height) = self.most;
        let last = self.jobs.is_empty();
        let aspect = Aspect::Fit;
        let wanted = Wanted { width, height, pixel_aspect: 1.0, step: (1, 1), aspect, enlarge: false, keyframes_only: last };
        let still = last.then_some(self.most);
        let looks = Looks { choice: DamageChoice::Hold, hold: HOLD, light: false, tones: false, levels: false, still };
        Turnful { jobs, prints: vec![Print::whole(wanted)], looks }
    }
}

/// What a worker does for a lane in one turn.
pub(crate) struct Turnful {
    pub jobs: Vec<Job>,
    pub prints: Vec<Print>,
    pub looks: Looks,
}

impl Shared {
    /// Some of what waits; `None` when there is nothing to do, and the lane stands in no queue any more.
    pub fn take(&self) -> Option<Turnful> {
        let mut inbox = lock(&self.inbox);
        // Under the lock: what is pushed from now on schedules it again.
        let idle = || {
            self.scheduled.store(false, Ordering::Release);
            None
        };
        if inbox.prints.is_empty() || inbox.closed {
            return idle();
        }
        // What follows a keyframe is kept, so that it can go on from there when all is wanted.
        let many = match inbox.jobs.front() {
            Some((first, _)) if keyframes_only(&inbox.prints) => usize::from(first.keyframe),
            _ => inbox.jobs.len().min(AT_A_TURN),
        };
        let jobs: Vec<Job> = inbox.jobs.drain(..many).collect();
        if jobs.is_empty() {
            return idle();
        }
        inbox.bytes = inbox.bytes.saturating_sub(jobs.iter().map(|(_, data)| data.len()).sum());
        inbox.past.take(&jobs);
        let Inbox { choice, hold, light, tones, levels, still, .. } = *inbox;
        let looks = Looks { choice, hold: hold.unwrap_or(HOLD), light, tones, levels, still };
        Some(Turnful { jobs, prints: inbox.prints.clone(), looks })
    }

    /// Whether what waits begins with a keyframe: another decoder can go on as well.
    pub fn begins_with_keyframe(&self) -> bool {
        lock(&self.inbox).jobs.front().is_some_and(|(head, _)| head.keyframe && head.clean_point)
    }

    /// What was received since the last keyframe is decoded apart, or cannot be.
    pub fn recalled(&self, picture: Option<Arc<TilePicture>>) {
        lock(&self.inbox).recalling = false;
        if let Some(picture) = picture {
            (self.sink)(LaneEvent::Recalled(picture));
        }
    }

    /// A still was made as asked.
    pub fn still_given(&self) {
        lock(&self.inbox).still = None;
    }

    /// Its decoder is gone: it goes on from the last keyframe, where that is kept. Of what the decoder was given the last so many
    /// were not done.
    pub fn begin_again(&self, undone: usize) {
        lock(&self.inbox).begin_again(undone);
    }

    /// A decoder ended while it worked on this lane. It begins again, with so many units undone; or, where its own units are to
    /// blame, at the next keyframe, and after a rest where that happens again and again.
    pub fn on_failed(&self, undone: Option<usize>) {
        let now = (self.now)();
        let mut inbox = lock(&self.inbox);
        inbox.failures.one_more(now, undone.is_none());
        match undone {
            Some(undone) => inbox.begin_again(undone),
            None => inbox.begin_later(now),
        }
    }

    /// Whether its units ended a decoder not long ago.
    pub fn failed_of_late(&self) -> bool {
        let now = (self.now)();
        lock(&self.inbox).failures.last.is_some_and(|last| now.since(last) <= FORGIVEN_AFTER)
    }

    /// Puts it into its worker's queue, where it does not stand in one.
    pub fn schedule(self: &Arc<Self>) {
        if !self.scheduled.swap(true, Ordering::AcqRel) {
            self.queues.send(self.home.load(Ordering::Acquire), Turn::serve(self.clone()));
        }
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        self.queues.send(self.home.load(Ordering::Acquire), Turn::Gone(self.id));
    }
}

/// The decoding end of one stream; cheap to clone.
#[derive(Clone)]
pub struct Lane {
    shared: Arc<Shared>,
}

impl Lane {
    /// A lane that this worker serves.
    pub(crate) fn new(id: u64, home: usize, queues: Arc<Queues>, sink: Sink, now: fn() -> Mono) -> Self {
        let inbox = Mutex::new(Inbox { needs_clean_point: true, ..Inbox::default() });
        let (scheduled, home) = (AtomicBool::new(false), AtomicUsize::new(home));
        Self { shared: Arc::new(Shared { id, inbox, scheduled, sink, now, home, queues }) }
    }

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
        if inbox.failures.until.is_some() {
            if inbox.failures.rests((self.shared.now)()) {
                inbox.needs_clean_point = true;
                return;
            }
            inbox.failures.until = None;
        }
        if inbox.needs_clean_point && !clean_point {
            return;
        }
        inbox.needs_clean_point = false;
        let watched = !keyframes_only(&inbox.prints);
        let wakes = watched || (!inbox.prints.is_empty() && unit.unit.keyframe && clean_point);
        let before = inbox.last_parameters;
        let new_parameters = now_in_force.is_some() && before.is_some() && now_in_force != before;
        inbox.last_parameters = now_in_force.or(before);
        let usual = Form { codec: VideoCodec::H264, unusual: false };
        let form = inbox.last_parameters.map_or(usual, |(form, ..)| form);
        let restart = clean_point && unit.unit.keyframe && (!watched || inbox.jobs.len() > BEHIND);
        let mut skipped = 0;
        if restart {
            // Nothing before a keyframe is needed to show what follows it.
            skipped = if watched { inbox.jobs.iter().filter(|(head, _)| !head.again).count() } else { 0 };
            inbox.jobs.clear();
            inbox.bytes = 0;
        }
        inbox.bytes += data.len();
        let head = Head {
            number: unit.unit.number,
            received: unit.unit.last_arrival,
            clean_point,
            recovery: if unit.unit.keyframe { 0 } else { u64::from(unit.unit.recovery.unwrap_or(0)) },
            displayable: unit.displayable,
            colour,
            new_parameters,
            bipredictive: unit.unit.bipredictive,
            keyframe: unit.unit.keyframe,
            reorder: parameters.and_then(|parameters| parameters.reorder),
            form,
            again: false,
        };
        inbox.jobs.push_back((head, data));
        if (inbox.jobs.len() > MAX_UNITS || inbox.bytes > MAX_BYTES) && inbox.waits_too_long() {
            skipped += inbox.jobs.iter().filter(|(head, _)| !head.again).count();
            inbox.jobs.clear();
            inbox.bytes = 0;
            inbox.needs_clean_point = true;
        }
        drop(inbox);
        if skipped > 0 && watched {
            (self.shared.sink)(LaneEvent::Skipped { count: skipped as u64 });
        }
        if wakes {
            self.shared.schedule();
        }
    }

    /// What the tile can show from now on; `None` when nobody looks.
    pub fn want(&self, wanted: Option<Wanted>) {
        self.want_prints(wanted.into_iter().map(Print::whole).collect());
    }

    /// What is made of each picture from now on: at most [`MOST_PRINTS`], the first of them; nothing when nobody looks.
    pub fn want_prints(&self, mut prints: Vec<Print>) {
        prints.truncate(MOST_PRINTS);
        let mut inbox = lock(&self.shared.inbox);
        let more = !prints.is_empty() && (inbox.prints.is_empty() || (keyframes_only(&inbox.prints) && !keyframes_only(&prints)));
        let woken = more && !inbox.jobs.is_empty();
        if more {
            // What was kept to build upon nobody waited for: only the newest tells how long a picture takes.
            let kept = inbox.jobs.len().saturating_sub(1);
            inbox.jobs.iter_mut().take(kept).for_each(|(head, _)| head.again = true);
        }
        inbox.prints = prints;
        drop(inbox);
        if woken {
            self.shared.schedule();
        }
    }

    /// Gives the next clean picture as a [`LaneEvent::Still`], scaled down with its aspect where it is larger than `most`.
    /// Only a watched lane decodes any.
    pub fn still(&self, most: (usize, usize)) {
        lock(&self.shared.inbox).still = Some(most);
    }

    /// Gives the last clean picture of what was received so far as a [`LaneEvent::Recalled`], within this size, also of a lane that
    /// is not watched or whose stream has broken off. It is decoded apart, from the last keyframe on: what is shown goes on.
    /// Nothing comes where nothing whole was received.
    pub fn recall(&self, most: (usize, usize)) {
        let mut inbox = lock(&self.shared.inbox);
        let jobs = inbox.since_keyframe();
        if jobs.is_empty() || inbox.recalling {
            return;
        }
        inbox.recalling = true;
        drop(inbox);
        let home = self.shared.home.load(Ordering::Acquire);
        self.shared.queues.send(home, Turn::Recall(Box::new(Recall { lane: self.shared.clone(), jobs, most })));
    }

    /// Whether to tell how bright each picture is.
    pub fn tell_light(&self, wanted: bool) {
        lock(&self.shared.inbox).light = wanted;
    }

    /// Whether to tell how the levels of each picture are spread.
    pub fn tell_tones(&self, wanted: bool) {
        lock(&self.shared.inbox).tones = wanted;
    }

    /// Whether to tell the levels of the places of pictures, for motion.
    pub fn tell_levels(&self, wanted: bool) {
        lock(&self.shared.inbox).levels = wanted;
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
}

impl Inbox {
    /// What was received since the last keyframe, up to the last whole picture.
    fn since_keyframe(&self) -> VecDeque<Job> {
        let own = self.jobs.iter().rposition(|(head, _)| head.keyframe && head.clean_point);
        let (past, own) = match own {
            Some(keyframe) => (None, keyframe),
            None => (Some(&self.past.jobs), 0),
        };
        let mut jobs: VecDeque<Job> = past.into_iter().flatten().chain(self.jobs.iter().skip(own)).cloned().collect();
        jobs.truncate(jobs.iter().rposition(|(head, _)| head.displayable).map_or(0, |last| last + 1));
        for (head, _) in &mut jobs {
            (head.again, head.new_parameters) = (true, false);
        }
        if let Some((last, _)) = jobs.back_mut() {
            last.again = false;
        }
        jobs
    }

    fn begin_again(&mut self, undone: usize) {
        let mut past = std::mem::take(&mut self.past);
        if self.jobs.front().is_some_and(|(head, _)| head.keyframe && head.clean_point) {
            return;
        }
        if !past.whole {
            self.jobs.clear();
            self.bytes = 0;
            self.needs_clean_point = true;
            return;
        }
        past.jobs.iter_mut().rev().take(undone).for_each(|(head, _)| head.again = false);
        self.bytes += past.bytes;
        past.jobs.into_iter().rev().for_each(|job| self.jobs.push_front(job));
    }

    fn begin_later(&mut self, now: Mono) {
        self.past = Past::default();
        let keyframe = self.jobs.iter().position(|(head, _)| head.keyframe && head.clean_point);
        let next = keyframe.filter(|_| !self.failures.rests(now));
        let gone = next.unwrap_or(self.jobs.len());
        let bytes: usize = self.jobs.drain(..gone).map(|(_, data)| data.len()).sum();
        self.bytes = self.bytes.saturating_sub(bytes);
        self.needs_clean_point = next.is_none();
    }

    /// More units wait than are worth waiting for. Those that another decoder has done already are no more than as many again.
    fn waits_too_long(&self) -> bool {
        let new = self.jobs.iter().rev().take_while(|(head, _)| !head.again);
        let (count, bytes) = new.fold((0, 0), |(count, bytes), (_, data)| (count + 1, bytes + data.len()));
        count > MAX_UNITS || bytes > MAX_BYTES
    }
}
