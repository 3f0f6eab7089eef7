//! Decoding in processes of our own, which have no network, no files and no secrets: what a stranger's bits do to a decoder, they
//! do to it alone.
//!
//! Each worker of a [`crate::Pool`] has one, started from the program that is told ([`Program`]) and confined before the first
//! unit (`confine.rs`). Units go over in shared memory, and pictures come back in it: they are scaled where the screen reads them.
//! One that ends, hangs or is killed is replaced, and the streams that it served go on from the units since their last keyframe.

mod confine;
mod inner;
mod region;
mod words;

pub use inner::decoder_main;
pub(crate) use region::Region;
pub use words::Confinement;

use crate::bench::{CANVASES, Canvas, Looks, Said};
use crate::lane::{Ending, Job};
use crate::wanted::Print;
use inner::system_clock;
use lattice_core::Mono;
use nix::sys::socket::{AddressFamily, SockFlag, SockType, setsockopt, socketpair, sockopt};
use nix::sys::time::TimeVal;
use std::collections::HashMap;
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::process::ExitStatusExt as _;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use words::{Answer, Order, receive, send};

/// A program whose process calls [`decoder_main`], as this very program does with these arguments.
#[derive(Debug, Clone)]
pub struct Program {
    /// The file.
    pub path: PathBuf,
    /// What is said to it.
    pub arguments: Vec<String>,
}

impl Program {
    /// The file that this program was started from, also when another one lies at its path by now.
    #[must_use]
    pub fn itself(arguments: &[&str]) -> Self {
        let arguments = arguments.iter().map(|argument| (*argument).to_owned()).collect();
        Self { path: PathBuf::from("/proc/self/exe"), arguments }
    }
}

/// Tries what confinement holds on this machine, by starting one process and asking it.
///
/// # Errors
/// When it cannot be started or does not answer within ten seconds.
pub fn confinement(program: &Program) -> io::Result<Confinement> {
    Running::start(program).map(|running| running.holds.clone())
}

/// How often is looked whether a process that does not answer is still at work.
const LOOK: Duration = Duration::from_millis(100);
/// So many looks in a row at which it neither ran nor wanted to, or had used all that it may: it will not answer. One look alone
/// may come after the whole machine stood still, which counts as processor time in a virtual one.
const LOOKS: u32 = 3;
/// Processor time for a unit, at least: a usual picture takes a hundredth of it.
const LEAST_TIME: Duration = Duration::from_millis(500);
/// For the first units of a stream, of which nothing is known.
const FIRST_TIME: Duration = Duration::from_secs(3);
/// As much as the longest unit so far, times this.
const TIMES_THE_LONGEST: u32 = 8;
/// Units after which a stream's longest is known.
const KNOWN_AFTER: u32 = 50;
/// A process must be ready within this.
const READY_WITHIN: Duration = Duration::from_secs(10);
/// After one could not be started, the next try.
const TRY_AGAIN: Duration = Duration::from_secs(1);
/// Memory that no picture was put into for so long is given back.
const KEEP_REGIONS: Duration = Duration::from_secs(10);
/// Smallest memory for a picture, and for units.
const LEAST_REGION: usize = 64 << 10;
/// Most memory for one picture: 40 megapixels in red, green and blue.
const MOST_REGION: usize = 128 << 20;

/// What the parent knows of a stream that the process serves.
#[derive(Debug, Default)]
struct Served {
    /// Bytes that its pictures needed so far, where that was more than the tile's size says.
    room: [usize; CANVASES],
    units: u32,
    longest: Duration,
}

/// Units of one stream that are decoded together.
pub(crate) struct Task<'a> {
    pub lane: u64,
    pub units: &'a [Job],
    pub prints: &'a [Print],
    pub looks: Looks,
    pub now: fn() -> Mono,
}

/// One process, started when it is needed, and again when it is gone.
pub(crate) struct Process {
    program: Program,
    running: Option<Running>,
    served: HashMap<u64, Served>,
    forgotten: Vec<u64>,
    not_before: Option<Instant>,
}

/// What one process is.
struct Running {
    child: Child,
    socket: OwnedFd,
    holds: Confinement,
    units: Option<Region>,
    regions: Vec<(u32, Arc<Region>, Instant)>,
    next: u32,
    buffer: Vec<u8>,
}

impl Process {
    /// None yet.
    pub fn new(program: Program) -> Self {
        Self { program, running: None, served: HashMap::new(), forgotten: Vec::new(), not_before: None }
    }

    /// Decodes units; what is said of each goes to `say`, a picture with its pixels.
    ///
    /// # Errors
    /// How the process ended, and on which of the units. All of its streams begin anew then.
    pub fn decode(&mut self, task: &Task<'_>, say: &mut dyn FnMut(Said, Option<Arc<Region>>)) -> Result<(), (usize, Ending)> {
        if self.running.is_none() {
            if self.not_before.is_some_and(|at| Instant::now() < at) {
                return Err((0, Ending::NotStarted));
            }
            match Running::start(&self.program) {
                Ok(running) => self.running = Some(running),
                Err(error) => {
                    tracing::error!(%error, "a decoder could not be started");
                    self.not_before = Some(Instant::now() + TRY_AGAIN);
                    return Err((0, Ending::NotStarted));
                }
            }
        }
        let Some(running) = &mut self.running else { return Err((0, Ending::NotStarted)) };
        let served = self.served.entry(task.lane).or_default();
        let result = running.decode(task, served, &mut self.forgotten, say);
        if let Err((_, ending)) = result
            && ending != Ending::Panicked
        {
            self.running = None;
            self.served.clear();
            self.forgotten.clear();
        }
        result
    }

    /// A stream is served here no more.
    pub fn forget(&mut self, lane: u64) {
        if self.served.remove(&lane).is_some() {
            self.forgotten.push(lane);
        }
    }

    /// Its number, while it runs.
    pub fn id(&self) -> Option<u32> {
        self.running.as_ref().map(|running| running.child.id())
    }
}

impl Running {
    fn start(program: &Program) -> io::Result<Self> {
        let kind = SockType::SeqPacket;
        let (ours, theirs) = socketpair(AddressFamily::Unix, kind, None, SockFlag::SOCK_CLOEXEC)?;
        // Nothing of what this program knows goes with it: no environment, no file, nothing to write to.
        let child = Command::new(&program.path)
            .args(&program.arguments)
            .env_clear()
            .current_dir("/")
            .stdin(theirs)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let mut running = Self {
            child,
            socket: ours,
            holds: Confinement { no_files: false, no_network: false, few_calls: false, landlock: false, memory: None },
            units: None,
            regions: Vec::new(),
            next: 1,
            buffer: Vec::new(),
        };
        running.wait_at_most(READY_WITHIN)?;
        let ready = receive::<Answer>(&running.socket, &mut running.buffer)?;
        let Some((Answer::Ready(holds), _)) = ready else { return Err(io::ErrorKind::InvalidData.into()) };
        running.wait_at_most(LOOK)?;
        tracing::debug!(process = running.child.id(), ?holds, "a decoder was started");
        running.holds = holds;
        Ok(running)
    }

    fn wait_at_most(&self, span: Duration) -> io::Result<()> {
        let span = TimeVal::new(span.as_secs() as i64, i64::from(span.subsec_micros()));
        Ok(setsockopt(&self.socket, sockopt::ReceiveTimeout, &span)?)
    }

    fn decode(
        &mut self,
        task: &Task<'_>,
        served: &mut Served,
        forgotten: &mut Vec<u64>,
        say: &mut dyn FnMut(Said, Option<Arc<Region>>),
    ) -> Result<(), (usize, Ending)> {
        let Some((order, files, pictures)) = self.order(task, served, forgotten) else {
            return Err((0, Ending::NotStarted));
        };
        if send(&self.socket, &order, &files).is_err() {
            return Err((0, self.ending()));
        }
        drop(files);
        for index in 0..task.units.len() {
            let begun = self.processor_time();
            let answer = self.answer(begun, served.allowed());
            let said = match answer {
                Ok(Answer::Unit(said)) => said,
                Ok(Answer::Panicked) => return Err((index, Ending::Panicked)),
                Ok(Answer::Ready(_)) => return Err((index, Ending::Nonsense)),
                Err(ending) => return Err((index, ending)),
            };
            served.took(self.processor_time().saturating_sub(begun));
            for one in said {
                let region = match &one {
                    Said::Short(which, bytes) => {
                        served.room[which.place()] = (*bytes).min(MOST_REGION);
                        continue;
                    }
                    Said::Picture(which, painted) => {
                        let region = pictures.get(which.place()).cloned().flatten();
                        let fits = region.as_ref().zip(painted.bytes()).is_some_and(|(region, bytes)| bytes <= region.len());
                        if !fits {
                            return Err((index, Ending::Nonsense));
                        }
                        region
                    }
                    _ => None,
                };
                say(one, region);
            }
        }
        Ok(())
    }

    /// What is sent for a task, with the memory that it needs; `None` where the system gives none.
    #[allow(clippy::type_complexity, reason = "the three parts of one message, used once")]
    fn order(
        &mut self,
        task: &Task<'_>,
        served: &Served,
        forgotten: &mut Vec<u64>,
    ) -> Option<(Order, Vec<OwnedFd>, Vec<Option<Arc<Region>>>)> {
        let (mut regions, mut files) = (Vec::new(), Vec::new());
        let bytes: usize = task.units.iter().map(|(_, data)| data.len()).sum();
        if self.units.as_ref().is_none_or(|units| units.len() < bytes) {
            let size = bytes.max(1 << 20).next_power_of_two();
            let (region, file) = Region::new(size).ok()?;
            (self.units, regions, files) = (Some(region), vec![(0, size)], vec![file]);
        }
        let memory = self.units.as_mut()?;
        let (mut at, mut units) = (0, Vec::with_capacity(task.units.len()));
        for (head, data) in task.units {
            memory.put(at, data);
            units.push((*head, at, data.len()));
            at += data.len();
        }
        let gone = self.give_back();
        let mut pictures = vec![None];
        let mut canvases = Vec::new();
        for (n, print) in (0u8..).zip(task.prints) {
            let bytes = (print.wanted.width * print.wanted.height * 3).max(served.room[Canvas::Print(n).place()]);
            let (number, region) = self.room(bytes, &mut regions, &mut files)?;
            canvases.push(number);
            pictures.push(Some(region));
        }
        let mut still = None;
        if let Some((width, height)) = task.looks.still {
            let most = width.saturating_mul(height).saturating_mul(3).min(1 << 20);
            let (number, region) = self.room(most.max(served.room[Canvas::Still.place()]), &mut regions, &mut files)?;
            (still, pictures[Canvas::Still.place()]) = (Some(number), Some(region));
        }
        let order = Order {
            lane: task.lane,
            prints: task.prints.to_vec(),
            looks: task.looks,
            units,
            canvases,
            still,
            clocks: ((task.now)(), system_clock()),
            regions,
            gone,
            forgotten: std::mem::take(forgotten),
        };
        Some((order, files, pictures))
    }

    /// Memory for a picture of so many bytes that nobody reads any more; new memory where there is none.
    fn room(&mut self, bytes: usize, new: &mut Vec<(u32, usize)>, files: &mut Vec<OwnedFd>) -> Option<(u32, Arc<Region>)> {
        let size = bytes.clamp(LEAST_REGION, MOST_REGION).next_power_of_two();
        let free = self.regions.iter_mut().find(|(_, region, _)| region.len() == size && Arc::strong_count(region) == 1);
        if let Some((number, region, used)) = free {
            *used = Instant::now();
            return Some((*number, region.clone()));
        }
        let (region, file) = Region::new(size).ok()?;
        let (number, region) = (self.next, Arc::new(region));
        self.next += 1;
        new.push((number, size));
        files.push(file);
        self.regions.push((number, region.clone(), Instant::now()));
        Some((number, region))
    }

    /// Gives memory back that was not used for a while; its numbers.
    fn give_back(&mut self) -> Vec<u32> {
        let stays =
            |(_, region, used): &(u32, Arc<Region>, Instant)| used.elapsed() < KEEP_REGIONS || Arc::strong_count(region) > 1;
        let gone = self.regions.iter().filter(|it| !stays(it)).map(|(number, ..)| *number).collect();
        self.regions.retain(stays);
        gone
    }

    /// The next answer; how it ended where none will come.
    fn answer(&mut self, begun: Duration, allowed: Duration) -> Result<Answer, Ending> {
        let (mut idle, mut over) = (0, 0);
        loop {
            match receive::<Answer>(&self.socket, &mut self.buffer) {
                Ok(Some((answer, _))) => return Ok(answer),
                Ok(None) => return Err(self.ending()),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => {
                    idle = if self.rests() { idle + 1 } else { 0 };
                    over = if self.processor_time().saturating_sub(begun) > allowed { over + 1 } else { 0 };
                    if idle.max(over) >= LOOKS {
                        return Err(Ending::Hung);
                    }
                }
                Err(error) if error.kind() == io::ErrorKind::InvalidData => return Err(Ending::Nonsense),
                Err(_) => return Err(self.ending()),
            }
        }
    }

    /// How long it has had a core.
    fn processor_time(&self) -> Duration {
        let id = nix::unistd::Pid::from_raw(self.child.id().cast_signed());
        nix::time::clock_getcpuclockid(id).and_then(nix::time::ClockId::now).map(Duration::from).unwrap_or_default()
    }

    /// Whether it neither runs nor waits for a core or the disk: it sleeps, or was stopped.
    fn rests(&self) -> bool {
        let state = std::fs::read_to_string(format!("/proc/{}/stat", self.child.id())).unwrap_or_default();
        let state = state.rsplit_once(')').and_then(|(_, rest)| rest.trim_start().chars().next());
        matches!(state, Some('S' | 'T' | 't'))
    }

    /// How it ended, after its side of the socket was closed.
    fn ending(&mut self) -> Ending {
        let deadline = Instant::now() + LOOK;
        while Instant::now() < deadline {
            match self.child.try_wait() {
                Ok(Some(status)) => {
                    return match status.signal() {
                        Some(signal @ (libc::SIGKILL | libc::SIGTERM | libc::SIGINT | libc::SIGHUP)) => Ending::Killed(signal),
                        Some(libc::SIGXCPU) => Ending::Hung,
                        Some(signal) => Ending::Fault(signal),
                        None => Ending::Left,
                    };
                }
                Ok(None) => std::thread::sleep(Duration::from_millis(1)),
                Err(_) => break,
            }
        }
        Ending::Hung
    }
}

impl Served {
    /// Processor time that its next unit may take.
    fn allowed(&self) -> Duration {
        let least = if self.units < KNOWN_AFTER { FIRST_TIME } else { LEAST_TIME };
        least.max(self.longest * TIMES_THE_LONGEST)
    }

    fn took(&mut self, time: Duration) {
        self.units = self.units.saturating_add(1);
        self.longest = self.longest.max(time);
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        // A decoder has nothing to put away.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
