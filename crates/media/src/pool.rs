//! The workers: each has the decoders of some lanes, here or in a process of its own, and serves them by turns.

use crate::bench::{Benches, CANVASES, Canvas, Out, Painted, Said, Work};
use crate::lane::{Ending, Lane, LaneEvent, Recall, Shared, Sink, Turnful};
use crate::picture::TilePicture;
use crate::pixels::Pixels;
#[cfg(target_os = "linux")]
use crate::process::{Process, Program, Task};
use crate::wanted::Print;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::adjust::{Adjust, Setting};
use lattice_core::view::View;
use lattice_core::{Mono, flash};
use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

/// A lane that waited longer than this goes to a worker that has nothing to do, at its next keyframe.
const LONG: Duration = Duration::from_millis(50);

/// What a worker is to do.
pub(crate) enum Turn {
    /// Serve a lane that has something to do.
    Serve(Arc<Shared>, Instant),
    /// Decode what a lane received, apart from what is shown of it.
    Recall(Box<Recall>),
    /// A lane is gone.
    Gone(u64),
}

impl Turn {
    /// A lane's turn, from now on.
    pub fn serve(lane: Arc<Shared>) -> Self {
        Self::Serve(lane, Instant::now())
    }
}

/// The queue of each worker, with how many wait in it. Unbounded, but a lane stands in one queue, once.
pub(crate) struct Queues(Vec<(Sender<Turn>, AtomicUsize)>);

impl Queues {
    /// Puts a turn to the end of a worker's queue.
    pub fn send(&self, worker: usize, turn: Turn) {
        let Some((sender, waiting)) = self.0.get(worker) else { return };
        waiting.fetch_add(1, Ordering::Relaxed);
        // The workers are gone when the program ends.
        let _ = sender.send(turn);
    }

    /// A worker took a turn out of its queue.
    fn taken(&self, worker: usize) {
        if let Some((_, waiting)) = self.0.get(worker) {
            waiting.fetch_sub(1, Ordering::Relaxed);
        }
    }

    /// A worker, other than this one, with nothing to do.
    fn idle(&self, but: usize) -> Option<usize> {
        (0..self.0.len()).find(|worker| *worker != but && self.0[*worker].1.load(Ordering::Relaxed) == 0)
    }
}

/// The workers.
pub struct Pool {
    queues: Arc<Queues>,
    /// Of each worker, how many lanes it was given.
    given: Vec<AtomicUsize>,
    lanes: AtomicU64,
    now: fn() -> Mono,
    processes: Arc<Vec<AtomicUsize>>,
}

impl Pool {
    /// Starts `threads` workers (one at least), which decode in this process; `now` reads the clock that reports are stamped
    /// with.
    #[must_use]
    pub fn new(threads: usize, now: fn() -> Mono) -> Self {
        Self::of(threads, now, |_| Decoders::Inside(Benches::default()))
    }

    /// The same, with a process of its own for each worker: started from this program when there is first something to decode,
    /// and again whenever it is gone ([`crate::decoder_main`]).
    #[cfg(target_os = "linux")]
    #[must_use]
    pub fn outside(threads: usize, now: fn() -> Mono, program: &Program) -> Self {
        Self::of(threads, now, |_| Decoders::Outside(Box::new(Process::new(program.clone()))))
    }

    fn of(threads: usize, now: fn() -> Mono, decoders: impl Fn(usize) -> Decoders) -> Self {
        let threads = threads.max(1);
        let (queues, receivers): (Vec<_>, Vec<_>) =
            (0..threads).map(|_| unbounded::<Turn>()).map(|(sender, receiver)| ((sender, AtomicUsize::new(0)), receiver)).unzip();
        let queues = Arc::new(Queues(queues));
        let processes: Arc<Vec<AtomicUsize>> = Arc::new((0..threads).map(|_| AtomicUsize::new(0)).collect());
        for (number, receiver) in receivers.into_iter().enumerate() {
            let worker = Worker {
                number,
                decoders: decoders(number),
                served: HashMap::new(),
                queues: Arc::downgrade(&queues),
                process: processes.clone(),
            };
            let _ = std::thread::Builder::new().name(format!("decode-{number}")).spawn(move || worker.run(&receiver));
        }
        Self { queues, given: (0..threads).map(|_| AtomicUsize::new(0)).collect(), lanes: AtomicU64::new(0), now, processes }
    }

    /// A lane for one stream, not watched yet.
    #[must_use]
    pub fn lane(&self, sink: Sink) -> Lane {
        let fewest = (0..self.given.len()).min_by_key(|worker| self.given[*worker].load(Ordering::Relaxed)).unwrap_or(0);
        self.given[fewest].fetch_add(1, Ordering::Relaxed);
        let id = self.lanes.fetch_add(1, Ordering::Relaxed);
        Lane::new(id, fewest, self.queues.clone(), sink, self.now)
    }

    /// The numbers of the processes that decode now; none where decoding is done in this process.
    #[must_use]
    pub fn processes(&self) -> Vec<u32> {
        let numbers = self.processes.iter().map(|number| number.load(Ordering::Relaxed));
        numbers.filter(|number| *number > 0).filter_map(|number| u32::try_from(number).ok()).collect()
    }
}

/// Where a worker's decoders are.
enum Decoders {
    Inside(Benches),
    #[cfg(target_os = "linux")]
    Outside(Box<Process>),
}

struct Worker {
    number: usize,
    decoders: Decoders,
    /// The lanes that have a decoder here.
    served: HashMap<u64, Weak<Shared>>,
    queues: Weak<Queues>,
    /// The process of each worker, for whoever asks.
    process: Arc<Vec<AtomicUsize>>,
}

impl Worker {
    /// Serves until the pool and all its lanes are gone.
    fn run(mut self, turns: &Receiver<Turn>) {
        for turn in turns {
            if let Some(queues) = self.queues.upgrade() {
                queues.taken(self.number);
            }
            match turn {
                Turn::Gone(lane) => self.forget(lane),
                Turn::Serve(lane, since) => self.serve(&lane, since),
                Turn::Recall(recall) => self.recall(recall),
            }
        }
    }

    fn forget(&mut self, lane: u64) {
        self.served.remove(&lane);
        match &mut self.decoders {
            Decoders::Inside(benches) => benches.forget(lane),
            #[cfg(target_os = "linux")]
            Decoders::Outside(process) => process.forget(lane),
        }
    }

    /// Decodes some of what waits in a lane; of several pictures only the newest is scaled. A lane with more goes to the end of
    /// the queue, so that one that needs more than there is takes nothing from others. It stays scheduled all the while: no
    /// second worker ever has it.
    fn serve(&mut self, lane: &Arc<Shared>, since: Instant) {
        if since.elapsed() > LONG
            && lane.begins_with_keyframe()
            && let Some(idle) = lane.queues.idle(self.number)
        {
            self.forget(lane.id);
            lane.home.store(idle, Ordering::Release);
            return lane.queues.send(idle, Turn::serve(lane.clone()));
        }
        let Some(turnful) = lane.take() else { return };
        self.served.insert(lane.id, Arc::downgrade(lane));
        let ended = self.decode(lane.id, lane.now, &turnful, &mut |said, pixels| report(lane, &turnful.prints, said, pixels));
        if let Err((index, ending)) = ended {
            self.on_end(lane, turnful.jobs.len() - index, ending);
        }
        lane.queues.send(self.number, Turn::serve(lane.clone()));
    }

    /// Decodes some of what a lane received, by a decoder of its own, and tells of the last picture; others have their turn between.
    fn recall(&mut self, mut recall: Box<Recall>) {
        let turnful = recall.take();
        let (mut picture, lane) = (None, recall.lane.clone());
        let received = turnful.jobs.last().map(|(head, _)| head.received);
        let ended = self.decode(recall.id(), lane.now, &turnful, &mut |said, pixels| {
            if let (Said::Picture(Canvas::Still, painted), Some(ready)) = (said, received) {
                let painted = Painted { ready, ..painted };
                picture = picture.take().or_else(|| Some(painted.with(pixels(painted)?, None)));
            }
        });
        if ended.is_ok() && !recall.jobs.is_empty() {
            return lane.queues.send(self.number, Turn::Recall(recall));
        }
        self.forget(recall.id());
        lane.recalled(picture);
        if let Err((_, ending)) = ended {
            self.on_end(&lane, 0, ending);
        }
    }

    /// Decodes units, here or in the worker's own process.
    fn decode(&mut self, id: u64, now: fn() -> Mono, turnful: &Turnful, say: &mut Say<'_>) -> Result<(), (usize, Ending)> {
        let Turnful { jobs, prints, looks } = turnful;
        match &mut self.decoders {
            Decoders::Inside(benches) => {
                let mut looks = *looks;
                let mut here = Here { say, now, canvases: Default::default() };
                for (index, (head, data)) in jobs.iter().enumerate() {
                    let work = Work { head, data, prints, newest: index + 1 == jobs.len() };
                    benches.decode(id, &work, &mut looks, &mut here).map_err(|_| (index, Ending::Panicked))?;
                }
                Ok(())
            }
            #[cfg(target_os = "linux")]
            Decoders::Outside(process) => {
                let task = Task { lane: id, units: jobs, prints, looks: *looks, now };
                let ended = process.decode(&task, &mut |said, region| {
                    say(said, &mut |painted| Some(Pixels::shared(region.clone()?, painted.bytes()?)));
                });
                self.process[self.number].store(process.id().unwrap_or(0) as usize, Ordering::Relaxed);
                ended
            }
        }
    }

    /// A decoder is gone: all that it served begins anew, and the lane whose unit it was is told.
    fn on_end(&mut self, lane: &Arc<Shared>, undone: usize, ending: Ending) {
        // A panic is caught where it happens, and takes no other stream's decoder with it.
        let gone: Vec<(u64, Weak<Shared>)> = if ending == Ending::Panicked { Vec::new() } else { self.served.drain().collect() };
        let others: Vec<Arc<Shared>> =
            gone.into_iter().filter(|(id, _)| *id != lane.id).filter_map(|(_, lane)| lane.upgrade()).collect();
        tracing::warn!(%ending, others = others.len(), "a decoder ended");
        // One that was killed while it worked on this stream has others to blame, unless that happens again and again.
        let by_chance = matches!(ending, Ending::Killed(_)) && !lane.failed_of_late();
        lane.on_failed(if by_chance { Some(undone) } else { None });
        let at = (lane.now)();
        (lane.sink)(LaneEvent::Failed { at, ending, others: others.len(), waits: !by_chance });
        for other in others {
            other.begin_again(0);
            other.schedule();
        }
    }
}

/// Where it goes what is said of a unit; a picture's pixels are asked for where it is wanted.
type Say<'a> = dyn FnMut(Said, &mut dyn FnMut(Painted) -> Option<Pixels>) + 'a;

impl Painted {
    /// With its pixels, of this print.
    fn with(self, rgb: Pixels, print: Option<&Print>) -> Arc<TilePicture> {
        let Self { number, width, height, source, condition, ready } = self;
        let (view, adjust) = print.map_or((View::WHOLE, Adjust::OFF), |print| (print.view, print.adjust));
        Arc::new(TilePicture { number, width, height, rgb, source, condition, ready, view, adjust })
    }
}

/// What is said of a unit, as the lane reports it.
fn report(lane: &Shared, prints: &[Print], said: Said, pixels: &mut dyn FnMut(Painted) -> Option<Pixels>) {
    let event = match said {
        Said::Decoded { number, at, damaged } => LaneEvent::Decoded { number, at, damaged },
        Said::Refused { number } => LaneEvent::Refused { number },
        Said::Concealed { number } => LaneEvent::Concealed { number },
        Said::Glance(glance) => LaneEvent::Glance(Arc::new(glance)),
        Said::Tones(tones) => LaneEvent::Tones(Arc::from(tones)),
        Said::Light { number, at, cells } => {
            let Ok(cells) = <Box<[u8; flash::CELLS]>>::try_from(cells.into_boxed_slice()) else { return };
            LaneEvent::Light { number, at, cells }
        }
        Said::Levels { at, cells } => LaneEvent::Levels { at, cells },
        Said::Picture(which, painted) => {
            let Some(rgb) = pixels(painted) else { return };
            match which {
                Canvas::Print(place) => {
                    let Some(print) = prints.get(usize::from(place)) else { return };
                    LaneEvent::Picture(print.id, painted.with(rgb, Some(print)))
                }
                Canvas::Still => {
                    lane.still_given();
                    let adjust = prints.first().map_or(Adjust::OFF, |print| print.adjust).with(Setting::Denoise, 0);
                    let print = prints.first().map(|print| Print { view: View::WHOLE, adjust, ..*print });
                    LaneEvent::Still(painted.with(rgb, print.as_ref()))
                }
            }
        }
        Said::Short(..) => return,
    };
    (lane.sink)(event);
}

/// Pictures in memory of this process.
struct Here<'a, 'b> {
    say: &'a mut Say<'b>,
    now: fn() -> Mono,
    canvases: [Vec<u8>; CANVASES],
}

impl Out for Here<'_, '_> {
    fn canvas(&mut self, which: Canvas, bytes: usize) -> Option<&mut [u8]> {
        let canvas = &mut self.canvases[which.place()];
        canvas.clear();
        canvas.resize(bytes, 0);
        Some(canvas)
    }

    fn say(&mut self, said: Said) {
        let which = match said {
            Said::Picture(which, _) => which,
            _ => Canvas::Still,
        };
        let canvas = &mut self.canvases[which.place()];
        (self.say)(said, &mut |_| Some(std::mem::take(canvas).into()));
    }

    fn now(&self) -> Mono {
        (self.now)()
    }
}
