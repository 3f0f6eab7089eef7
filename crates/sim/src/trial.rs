//! A stream with faults in made-up time: the stand-in's own packets, numbered, dropped and delayed as it does, go straight
//! into the receiver and the meter, with a clock that is counted and not read. A seed gives the same faults each time, and a
//! minute takes a tenth of a second, so that thousands of them can be held against what was ordered.
//!
//! Pictures are not coded and decoded again for it: what is looked at is the scene as the camera's sensor has it.

use crate::camera::{Role, StreamSpec, Trouble};
use crate::canvas::Canvas;
use crate::device::Imaging;
use crate::fault::{Fault, PictureFault};
use crate::pacer::Pacer;
use crate::scene::{Scene, View};
use crate::video::{Clip, CodedFrame};
use lattice_core::backoff::Backoff;
use lattice_core::event::{Confidence, Event, EventKind};
use lattice_core::meter::{Figures, Meter};
use lattice_core::receiver::{Receiver, Unit};
use lattice_core::rtp::Ssrc;
use lattice_core::sdp::{Description, Video};
use lattice_core::sight::{CELLS, COLUMNS, Glance, ROWS};
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, ClockPair, Mono, NtpTime, Transport, Wall, rtcp};
use rand::rngs::SmallRng;
use rand::{RngExt as _, SeedableRng as _};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

/// What goes wrong.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Ordered {
    /// Something of the camera or the path.
    Fault(Fault),
    /// The decoder gives two pictures of five.
    SlowMachine {
        /// How long.
        lasting: Duration,
    },
    /// The terminal takes two pictures of five.
    SlowTerminal {
        /// How long.
        lasting: Duration,
    },
    /// The stream does something odd that is no trouble, or is told as what it is.
    Odd {
        /// What.
        what: Oddity,
        /// How long.
        lasting: Duration,
    },
}

/// What streams and paths do besides faults.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Oddity {
    /// Timestamps go on 100 s ahead, and back again at the end.
    Leap,
    /// The camera's clock is five hours ahead.
    WrongClock,
    /// The camera begins anew in mid-stream: another source, sequence and timestamps.
    Restart,
    /// The path holds packets for up to 240 ms and lets them go at once.
    Bursts,
    /// Two frames of three are predicted from both sides: timestamps go back and forth.
    Reordered,
}

impl Oddity {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Leap, Self::WrongClock, Self::Restart, Self::Bursts, Self::Reordered];

    const fn word(self) -> &'static str {
        match self {
            Self::Leap => "leap",
            Self::WrongClock => "wrong-clock",
            Self::Restart => "restart",
            Self::Bursts => "bursts",
            Self::Reordered => "b-frames",
        }
    }
}

/// How far timestamps leap.
const LEAP: Duration = Duration::from_secs(100);
/// How wrong a wrong clock is, in microseconds.
const WRONG_CLOCK: i64 = 5 * 3_600_000_000;
/// How long bursts are held.
const HELD: Duration = Duration::from_millis(240);

impl Ordered {
    fn lasting(&self) -> Duration {
        match self {
            Self::Fault(fault) => fault.lasting(),
            Self::SlowMachine { lasting } | Self::SlowTerminal { lasting } | Self::Odd { lasting, .. } => *lasting,
        }
    }

    /// Its name.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Fault(fault) => fault.word(),
            Self::SlowMachine { .. } => "machine",
            Self::SlowTerminal { .. } => "terminal",
            Self::Odd { what, .. } => what.word(),
        }
    }

    /// The causes that would be right for it.
    #[must_use]
    pub fn right(&self, transport: Transport) -> &'static [Cause] {
        let udp = transport == Transport::Udp;
        match self {
            Self::Fault(fault) => match fault {
                Fault::Cut { .. } => &[Cause::ClosedByCamera],
                Fault::Stall { .. } => &[Cause::Silence],
                Fault::Loss { .. } => &[Cause::PacketLoss],
                // What is overtaken for longer than order is waited for is lost to whoever watches.
                Fault::Delay { .. } if udp => &[Cause::Late, Cause::PacketLoss],
                Fault::Delay { .. } => &[Cause::Late],
                Fault::Slow { .. } => &[Cause::CameraSlowed],
                Fault::Throttle { .. } if udp => &[Cause::PacketLoss, Cause::Late, Cause::TooHeavy],
                Fault::Throttle { .. } => &[Cause::TooHeavy, Cause::Late],
                Fault::Picture { how, .. } => match how {
                    PictureFault::Freeze => &[Cause::FrozenPicture],
                    PictureFault::Dark | PictureFault::Cover => &[Cause::DarkPicture],
                    PictureFault::Glare => &[Cause::WashedOut],
                    PictureFault::Blur => &[Cause::OutOfFocus],
                    PictureFault::Night => &[Cause::CameraSlowed],
                },
                Fault::Sound { .. }
                | Fault::Report { .. }
                | Fault::Flood { .. }
                | Fault::Size { .. }
                | Fault::Push { .. }
                | Fault::Move { .. } => &[],
            },
            Self::SlowMachine { .. } => &[Cause::MachineSlow],
            Self::SlowTerminal { .. } => &[Cause::TerminalSlow],
            Self::Odd { what: Oddity::WrongClock, .. } => &[Cause::ClockWrong],
            Self::Odd { .. } => &[],
        }
    }

    /// The change that it is told as, where it is no trouble.
    #[must_use]
    pub const fn change(&self) -> Option<EventKind> {
        match self {
            Self::Fault(Fault::Size { .. }) => Some(EventKind::SizeChanged),
            Self::Fault(Fault::Picture { how: PictureFault::Night, .. }) => Some(EventKind::NightMode),
            Self::Odd { what: Oddity::Leap, .. } => Some(EventKind::TimestampsLeap),
            _ => None,
        }
    }

    /// One of each, each for so long.
    #[must_use]
    pub fn all(lasting: Duration) -> Vec<Self> {
        let ms = Duration::from_millis;
        let faults = [
            Fault::Cut { lasting },
            Fault::Stall { lasting },
            Fault::Loss { share: 0.03, lasting },
            Fault::Delay { base: ms(1_600), jitter: ms(200), lasting },
            Fault::Slow { share: 0.4, lasting },
            Fault::Throttle { bits: 150e3, lasting },
            Fault::Size { width: 320, height: 180, lasting },
        ];
        let pictures = PictureFault::ALL.into_iter().map(|how| Fault::Picture { how, lasting });
        let mut all: Vec<Self> = faults.into_iter().chain(pictures).map(Self::Fault).collect();
        all.extend([Self::SlowMachine { lasting }, Self::SlowTerminal { lasting }]);
        all.extend(Oddity::ALL.map(|what| Self::Odd { what, lasting }));
        all
    }
}

/// What was really sent and when it came, to be held against the figures.
#[derive(Debug, Clone, Default)]
pub struct Truth {
    /// Packets that were dropped on the way.
    pub dropped: u64,
    /// Packets that came.
    pub came: u64,
    /// When each whole frame had come, and how long after its capture.
    pub frames: Vec<(Mono, Duration)>,
    /// Media time of the frames, in order, in seconds.
    pub captured: Vec<f64>,
}

/// What a trial gave.
#[derive(Debug, Clone)]
pub struct Outcome {
    /// The figures at the end, with all events.
    pub figures: Figures,
    /// Figures twice a second.
    pub readings: Vec<Figures>,
    /// What was really so.
    pub truth: Truth,
    /// When the first fault began.
    pub began: Mono,
    /// When the last fault ended.
    pub ended: Mono,
}

/// Faults begin after this time: what is usual is known by then.
const WARM: Duration = Duration::from_secs(30);
/// It goes on for so long after the last fault.
const AFTER: Duration = Duration::from_secs(14);
const PAIR: ClockPair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
/// From the camera's sensor to its network card.
const ENCODES: Duration = Duration::from_millis(8);

fn spec(width: usize, height: usize) -> StreamSpec {
    StreamSpec {
        role: Role::Sub,
        width,
        height,
        fps: 12.5,
        kbps: 400,
        keyframe_interval: Duration::from_secs(2),
        channel: 0,
        switched_off: false,
    }
}

fn glance(canvas: &Canvas, at: Mono) -> Glance {
    let ((width, height), luma) = (canvas.size(), canvas.luma());
    let level = |value: f32| (value - 16.0) * 255.0 / 219.0;
    let cell = |n: usize| {
        let (column, row) = (n % COLUMNS, n / COLUMNS);
        let (xs, ys) = (column * width / COLUMNS..(column + 1) * width / COLUMNS, row * height / ROWS..(row + 1) * height / ROWS);
        let count = (xs.len() * ys.len()).max(1);
        let sum: u32 = ys.map(|y| luma[y * width..][xs.clone()].iter().map(|value| u32::from(*value)).sum::<u32>()).sum();
        level(sum as f32 / count as f32)
    };
    let steps = |row: &[u8]| row.windows(2).map(|pair| u64::from(pair[0].abs_diff(pair[1]))).sum::<u64>();
    let detail = luma.chunks(width).map(steps).sum::<u64>() as f32 / luma.len().max(1) as f32 * 255.0 / 219.0;
    let (u, v) = canvas.chroma();
    let grey = |plane: &[u8]| plane.iter().map(|value| f32::from(value.abs_diff(128))).sum::<f32>() / plane.len().max(1) as f32;
    Glance { at, cells: (0..CELLS).map(cell).collect(), detail, colour: (grey(u) + grey(v)) * 255.0 / 219.0 }
}

/// A stream under way.
#[allow(clippy::struct_excessive_bools, reason = "independent facts, not one state")]
struct Run {
    begin: Instant,
    now: Mono,
    faults: Vec<(Ordered, Mono)>,
    transport: Transport,
    random: SmallRng,
    receiver: Receiver,
    video: Video,
    pacer: Pacer,
    /// The usual clip, and the one of another size.
    clips: [Arc<Clip>; 2],
    scene: Scene,
    next_frame: usize,
    number: u32,
    frame_due: Mono,
    was_small: bool,
    restarted: bool,
    /// Which of three frames comes next, where two of them are predicted from both sides.
    in_three: u8,
    await_keyframe: bool,
    report_due: Mono,
    read_due: Mono,
    glance_due: Mono,
    playing: bool,
    retry_at: Option<Mono>,
    backoff: Backoff,
    last_arrival: Mono,
    units: u64,
    truth: Truth,
    /// Timestamps of frames on their way, with their capture times and packets that are still to come.
    on_the_way: Vec<(u32, Mono, u32)>,
    readings: Vec<Figures>,
}

/// Runs a stream with these faults, each from so long after the first one's beginning.
///
/// # Errors
/// When the encoder fails.
pub fn run(faults: &[(Ordered, Duration)], transport: Transport, seed: u64) -> Result<Outcome, openh264::Error> {
    let faults: Vec<(Ordered, Mono)> = faults.iter().map(|(fault, after)| (*fault, Mono::ZERO + WARM + *after)).collect();
    let ended = faults.iter().map(|(fault, from)| *from + fault.lasting()).max().unwrap_or(Mono::ZERO + WARM);
    let views = [View::Slipway, View::LockGate, View::CarLane];
    let view = views[(seed % 3) as usize];
    let clips = [Clip::of(view, &spec(640, 360))?, Clip::of(view, &spec(320, 180))?];
    let video = Description::parse("m=video 0 RTP/AVP 96\nb=AS:400\na=rtpmap:96 H264/90000\na=framerate:12.5").video();
    let Some(video) = video else { return Err(openh264::Error::msg("the description of a trial")) };
    let mut meter = Meter::new(Mono::ZERO, PAIR, true);
    meter.on_visible(Mono::ZERO, true);
    let mut run = Run {
        begin: Instant::now(),
        now: Mono::ZERO,
        faults: faults.clone(),
        transport,
        random: SmallRng::seed_from_u64(seed),
        receiver: Receiver::new(meter, Ssrc(1), true),
        video,
        pacer: Pacer::new(seed, transport == Transport::Tcp),
        clips,
        scene: Scene::new(view, "trial", 320, 180, None),
        next_frame: (seed % 50) as usize,
        number: 0,
        frame_due: Mono::ZERO,
        was_small: false,
        restarted: false,
        in_three: 0,
        await_keyframe: true,
        report_due: Mono::from_millis(500),
        read_due: Mono::from_millis(500),
        glance_due: Mono::ZERO,
        playing: false,
        retry_at: Some(Mono::ZERO),
        backoff: Backoff::default(),
        last_arrival: Mono::ZERO,
        units: 0,
        truth: Truth::default(),
        on_the_way: Vec::new(),
        readings: Vec::new(),
    };
    let end = ended + AFTER;
    while run.now < end {
        run.step();
    }
    let figures = run.receiver.meter().read(run.now);
    let began = faults.iter().map(|(_, from)| *from).min().unwrap_or(Mono::ZERO);
    Ok(Outcome { figures, readings: run.readings, truth: run.truth, began, ended })
}

impl Run {
    fn active(&self) -> impl Iterator<Item = &Ordered> {
        self.faults.iter().filter(|(fault, from)| self.now >= *from && self.now < *from + fault.lasting()).map(|(fault, _)| fault)
    }

    fn trouble(&self) -> Trouble {
        Trouble::of(self.active().filter_map(|one| match one {
            Ordered::Fault(fault) => Some(fault),
            _ => None,
        }))
    }

    fn is_odd(&self, what: Oddity) -> bool {
        self.active().any(|one| matches!(one, Ordered::Odd { what: now, .. } if *now == what))
    }

    fn instant(&self, at: Mono) -> Instant {
        self.begin + at.since(Mono::ZERO)
    }

    /// Rounded up to what our clock can tell, so that what is due then is due.
    fn mono(&self, at: Instant) -> Mono {
        Mono::ZERO + at.saturating_duration_since(self.begin) + Duration::from_micros(1)
    }

    /// On to the next thing that happens.
    fn step(&mut self) {
        let packet = if self.playing { self.pacer.due().map(|due| self.mono(due)) } else { None };
        // Only what is over is given up.
        let deadline = self.receiver.deadline().map(|at| at + Duration::from_micros(1));
        let cut =
            self.faults.iter().find_map(|(fault, from)| matches!(fault, Ordered::Fault(Fault::Cut { .. })).then_some(*from));
        let cut = cut.filter(|from| self.playing && *from >= self.now);
        let due = [Some(self.frame_due), packet, deadline, Some(self.report_due), Some(self.read_due), self.retry_at, cut];
        let next = due.into_iter().flatten().min().unwrap_or(self.now);
        self.now = self.now.max(next);
        let trouble = self.trouble();
        if self.playing && trouble.cut {
            self.lose();
        }
        if self.retry_at.is_some_and(|at| at <= self.now) {
            self.retry(trouble.cut);
        }
        if self.is_odd(Oddity::Restart) && !self.restarted {
            self.restarted = true;
            self.pacer = Pacer::new(self.random.random(), self.transport == Transport::Tcp);
            self.await_keyframe = true;
        }
        if self.frame_due <= self.now {
            self.frame(&trouble);
        }
        while let Some(bytes) = self.playing.then(|| self.pacer.pop(self.instant(self.now))).flatten() {
            self.arrive(&bytes, &trouble);
        }
        if self.report_due <= self.now {
            self.report(&trouble);
        }
        let mut units = Vec::new();
        self.receiver.tick(self.now, &mut |unit| units.push(unit));
        self.show(units);
        if self.read_due <= self.now {
            self.read_due = self.now + Duration::from_millis(500);
            let figures = self.receiver.meter().read(self.now);
            self.readings.push(figures);
        }
    }

    fn lose(&mut self) {
        self.playing = false;
        self.receiver.end();
        let next = self.now + self.backoff.next(self.random.random());
        self.retry_at = Some(next);
        let (cause, text) = (Cause::ClosedByCamera, "the device closed the session".to_owned());
        self.receiver.meter().on_session(self.now, SessionState::Failed { cause, text, next_try: Some(next) });
        self.on_the_way.clear();
    }

    fn retry(&mut self, closed: bool) {
        self.receiver.meter().begin_try(self.now);
        self.receiver.meter().on_session(self.now, SessionState::Connecting);
        if closed {
            return self.lose();
        }
        self.retry_at = None;
        self.playing = true;
        self.await_keyframe = true;
        self.pacer = Pacer::new(self.random.random(), self.transport == Transport::Tcp);
        let video = self.video.clone();
        self.receiver.begin(self.now, &video, self.transport);
    }

    fn frame(&mut self, trouble: &Trouble) {
        let period = Duration::from_secs_f64(1.0 / (12.5 * trouble.pace));
        self.frame_due = self.now + period;
        let small = trouble.size.is_some();
        let frames = &self.clips[usize::from(small)].frames;
        let restart = std::mem::replace(&mut self.was_small, small) != small;
        if restart || (self.await_keyframe && !trouble.stalled) {
            // A viewer that joins, a camera that resumes or changes: a keyframe comes first.
            let ahead =
                frames.iter().cycle().skip(self.next_frame % frames.len()).take(frames.len()).position(|frame| frame.keyframe);
            self.next_frame += ahead.unwrap_or(0);
        }
        let frame = &frames[self.next_frame % frames.len()];
        self.next_frame += 1;
        self.number += 1;
        let stopped = trouble.stalled || !self.playing || self.pacer.is_choked(self.instant(self.now));
        if stopped {
            self.await_keyframe = true;
            return;
        }
        if self.await_keyframe && !frame.keyframe {
            return;
        }
        self.await_keyframe = false;
        let (keyframe, payloads, bytes) = (frame.keyframe, frame.payloads.clone(), frame.bytes.clone());
        let ticks = self.ticks_of_frame(keyframe);
        let coded = CodedFrame {
            number: self.number,
            captured: PAIR.wall_at(self.now).as_unix_micros(),
            ticks,
            keyframe,
            stalled: false,
            payloads,
            bytes,
        };
        let sent_at = self.instant(self.now + ENCODES);
        let (sent, dropped) = self.pacer.push(sent_at, &coded, trouble);
        self.truth.dropped += u64::from(dropped);
        self.truth.captured.push(self.now.as_micros() as f64 / 1e6);
        self.on_the_way.push((self.pacer.timestamp(ticks), self.now, if dropped == 0 { sent } else { u32::MAX }));
    }

    /// The timestamp of the frame that is sent now.
    fn ticks_of_frame(&mut self, keyframe: bool) -> u32 {
        let ticks = |at: Mono| (at.as_micros() * 9 / 100) as u32;
        let leap = if self.is_odd(Oddity::Leap) { (LEAP.as_micros() * 9 / 100) as u32 } else { 0 };
        if !self.is_odd(Oddity::Reordered) || keyframe {
            self.in_three = 0;
            return ticks(self.now).wrapping_add(leap);
        }
        // An anchor, which is shown after the two that are sent behind it.
        let period = Duration::from_millis(80);
        let shown = match self.in_three {
            0 => self.now + period * 2,
            _ => self.now.back(period),
        };
        self.in_three = (self.in_three + 1) % 3;
        ticks(shown).wrapping_add(leap)
    }

    fn arrive(&mut self, bytes: &[u8], _trouble: &Trouble) {
        // A path of one to two milliseconds, in order.
        let travel = Duration::from_micros(1_000 + u64::from(self.random.random::<u16>() % 1_000));
        let mut arrival = (self.now + travel).max(self.last_arrival);
        if self.is_odd(Oddity::Bursts) {
            let held = HELD.as_micros() as u64;
            arrival = Mono::from_micros(arrival.as_micros().div_ceil(held) * held);
        }
        self.last_arrival = arrival;
        self.truth.came += 1;
        let timestamp = bytes.get(4..8).map_or(0, |bytes| u32::from_be_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]));
        if let Some(at) = self.on_the_way.iter().position(|(of, ..)| *of == timestamp) {
            let left = &mut self.on_the_way[at].2;
            *left = if *left == u32::MAX { u32::MAX } else { *left - 1 };
            if *left == 0 {
                let (_, captured, _) = self.on_the_way.remove(at);
                self.truth.frames.push((arrival, arrival.since(captured)));
            }
        }
        let mut units = Vec::new();
        self.receiver.on_rtp(arrival, arrival, bytes, &mut |unit| units.push(unit));
        self.show(units);
    }

    fn report(&mut self, trouble: &Trouble) {
        self.report_due = self.now + Duration::from_secs(1);
        if !self.playing || trouble.stalled || self.pacer.packets == 0 {
            return;
        }
        let leap = if self.is_odd(Oddity::Leap) { LEAP } else { Duration::ZERO };
        let ticks = ((self.now + leap).as_micros() * 9 / 100) as u32;
        let report = rtcp::SenderReport {
            ssrc: self.pacer.ssrc,
            ntp: NtpTime::from_wall(PAIR.wall_at(self.now).offset(if self.is_odd(Oddity::WrongClock) { WRONG_CLOCK } else { 0 })),
            rtp_timestamp: self.pacer.timestamp(ticks),
            packets: self.pacer.packets,
            octets: self.pacer.octets,
        };
        let mut bytes = Vec::new();
        rtcp::emit_sender_report(&report, &mut bytes);
        rtcp::emit_canonical_name(self.pacer.ssrc, "trial", &mut bytes);
        self.receiver.on_rtcp(self.now + Duration::from_micros(1_200), &bytes);
    }

    /// Units reach the decoder and the screen.
    fn show(&mut self, units: Vec<Unit>) {
        let slow_machine = self.active().any(|one| matches!(one, Ordered::SlowMachine { .. }));
        let slow_terminal = self.active().any(|one| matches!(one, Ordered::SlowTerminal { .. }));
        let trouble = self.trouble();
        for unit in units.into_iter().filter(|unit| unit.displayable) {
            self.units += 1;
            let few = |slow: bool| slow && self.units % 5 >= 2;
            let (number, at) = (unit.unit.number, unit.unit.finished);
            if few(slow_machine) {
                continue;
            }
            let meter = self.receiver.meter();
            meter.on_decoded(number, at + Duration::from_millis(3), false);
            if !few(slow_terminal) {
                meter.on_drawn(number, at + Duration::from_millis(12));
            }
            if at >= self.glance_due {
                self.glance_due = at + Duration::from_secs(1);
                let captured = PAIR.wall_at(at).as_unix_micros();
                let canvas = self.scene.draw_in_trouble(captured, self.number, trouble.picture, &Imaging::default());
                let seen = glance(canvas, at);
                self.receiver.meter().on_glance(Arc::new(seen));
            }
        }
    }
}

/// How a trial was judged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Judged {
    /// The cause that took most time of the trial; `None` where nothing was told.
    pub named: Option<Cause>,
    /// It is one that explains what was ordered.
    pub right: bool,
    /// Causes that were named with high confidence and explain nothing that was ordered.
    pub wrongly_sure: Vec<Cause>,
    /// Changes that were ordered and not told.
    pub missed_changes: Vec<EventKind>,
}

/// Holds what was told against what was ordered.
#[must_use]
pub fn judge(outcome: &Outcome, ordered: &[Ordered], transport: Transport) -> Judged {
    let right: Vec<Cause> = ordered.iter().flat_map(|one| one.right(transport)).copied().collect();
    let events: Vec<&Event> = outcome.figures.events.iter().filter(|event| event.start >= outcome.began).collect();
    let mut by_cause: Vec<(Cause, Duration)> = Vec::new();
    for event in &events {
        let Some(cause) = event.cause else { continue };
        let length = event.length(outcome.figures.at);
        match by_cause.iter_mut().find(|(have, _)| *have == cause) {
            Some((_, sum)) => *sum += length,
            None => by_cause.push((cause, length)),
        }
    }
    let named = by_cause.iter().max_by_key(|(_, length)| *length).map(|(cause, _)| *cause);
    let told = |kind: EventKind| events.iter().any(|event| event.kind == kind);
    let missed_changes: Vec<EventKind> = ordered.iter().filter_map(Ordered::change).filter(|kind| !told(*kind)).collect();
    let sure = events.iter().filter(|event| event.confidence == Confidence::High).filter_map(|event| event.cause);
    let mut wrongly_sure: Vec<Cause> = sure.filter(|cause| !right.contains(cause)).collect();
    wrongly_sure.dedup();
    let explained = if right.is_empty() { named.is_none() } else { named.is_some_and(|cause| right.contains(&cause)) };
    Judged { named, right: explained && wrongly_sure.is_empty(), wrongly_sure, missed_changes }
}
