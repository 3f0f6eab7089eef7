//! Real sockets against the stand-in cameras: each fault, both transports, sign-in, coming back.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::event::{Confidence, Event as Happened, EventKind};
use lattice_core::flash::Pattern;
use lattice_core::meter::{DropoutKind, Figures, FlashStep, LatencyBasis};
use lattice_core::playout::Playout;
use lattice_core::rtsp::DigestAlgorithm;
use lattice_core::srtp::MasterKey;
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, SourceUrl, Transport, TransportChoice, Verdict};
use lattice_media::{LaneEvent, Pool, Wanted};
use lattice_net::{Command, Device, Fingerprint, Runtime, Source, SourceConfig, Station, Trust, clock};
use lattice_sim::{
    Camera, CameraSpec, DESK_BEFORE_STAMP, Encryption, Event, Fault, Log, Port, Record, Role, SignIn, control_desk,
    read_block_code, tarnhithe,
};
use std::io::{Read as _, Write as _};
use std::sync::{Arc, Condvar, Mutex};
use std::time::{Duration, Instant};

/// Rigs that run at once: each draws and encodes in real time, and a starved one is late by itself.
static FREE_PLACES: (Mutex<usize>, Condvar) = (Mutex::new(2), Condvar::new());

/// One of the places that rigs run in, until it is dropped.
struct Place;

impl Place {
    fn take() -> Self {
        let mut free = FREE_PLACES.1.wait_while(FREE_PLACES.0.lock().unwrap(), |free| *free == 0).unwrap();
        *free -= 1;
        Self
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        *FREE_PLACES.0.lock().unwrap() += 1;
        FREE_PLACES.1.notify_one();
    }
}

/// One camera of the port with small, cheap streams, on a runtime of its own.
struct Rig {
    port: Port,
    camera: Camera,
    log: Log,
    runtime: Runtime,
    _sim: tokio::runtime::Runtime,
    _place: Place,
}

fn rig(change: impl FnOnce(&mut CameraSpec)) -> Rig {
    let place = Place::take();
    let sim = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let mut spec = tarnhithe(0).remove(0);
    for stream in &mut spec.streams {
        (stream.width, stream.height, stream.fps) = (320, 180, 25.0);
        stream.keyframe_interval = Duration::from_millis(400);
    }
    change(&mut spec);
    let log = Log::in_memory();
    let port = sim.block_on(Port::start(vec![spec], log.clone())).unwrap();
    let camera = port.cameras()[0].clone();
    Rig { port, camera, log, runtime: Runtime::start().unwrap(), _sim: sim, _place: place }
}

impl Rig {
    fn open_url(&self, url: &str, transport: TransportChoice) -> Source {
        let config = SourceConfig { decodes: false, ..SourceConfig::new(url.parse().unwrap(), transport) };
        Source::open(self.runtime.handle(), config, None)
    }

    fn open(&self, transport: TransportChoice) -> Source {
        self.open_url(&self.camera.url(Role::Sub), transport)
    }

    /// The rate of the frames that the stand-in captured and sent in the 5 s before a moment.
    fn sent(&self, at: lattice_core::Mono) -> Option<f64> {
        let until = clock::pair().wall_at(at).as_unix_micros();
        let times: Vec<i64> = self
            .records(|_| true)
            .iter()
            .filter_map(|r| if let Event::Frame { captured, .. } = r.event { Some(captured) } else { None })
            .filter(|captured| (until - 5_000_000..until).contains(captured))
            .collect();
        let span = times.last()? - times.first()?;
        (span > 0).then(|| (times.len() - 1) as f64 * 1e6 / span as f64)
    }

    fn records(&self, keep: impl Fn(&Record) -> bool) -> Vec<Record> {
        self.log.records().into_iter().filter(keep).collect()
    }
}

/// The event of this kind and cause.
#[track_caller]
fn told(figures: &Figures, kind: EventKind, cause: Cause) -> Happened {
    let is = |event: &&Happened| event.kind == kind && event.cause == Some(cause);
    figures.events.iter().find(is).cloned().unwrap_or_else(|| panic!("no {} by {cause}: {:?}", kind.word(), figures.events))
}

#[track_caller]
fn wait(source: &Source, what: &str, seconds: u64, done: impl Fn(&Figures) -> bool) -> Arc<Figures> {
    // A starved machine takes longer, and makes the stand-in slow for a while.
    let deadline = Instant::now() + Duration::from_secs(seconds.max(60));
    loop {
        let figures = source.figures();
        if done(&figures) {
            return figures;
        }
        assert!(Instant::now() < deadline, "{what}: not in time: {figures:?}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn steady(figures: &Figures) -> bool {
    figures.verdict == Verdict::Steady && figures.frames.received >= 50
}

#[test]
fn both_transports_measure_what_the_stand_in_logged() {
    for (choice, transport) in
        [(TransportChoice::Udp, Transport::Udp), (TransportChoice::Tcp, Transport::Tcp), (TransportChoice::Auto, Transport::Udp)]
    {
        let rig = rig(|_| {});
        let source = rig.open(choice);
        let on_the_clock = |f: &Figures| f.latency.is_some_and(|l| l.basis == LatencyBasis::Clock);
        // A starved machine makes the stand-in skip frames: its log is the truth, not its settings.
        let figures = wait(&source, "steady on the clock, at the logged rate", 30, |f| {
            steady(f)
                && on_the_clock(f)
                && f.sent.zip(rig.sent(f.at)).is_some_and(|(got, truth)| (got / truth - 1.0).abs() < 0.01)
        });
        assert_eq!(figures.transport, Some(transport));
        assert_eq!((figures.size, figures.codec.as_deref()), (Some((320, 180)), Some("H264")));
        assert_eq!((figures.packets.lost, figures.frames.damaged), (0, 0));
        assert_eq!(figures.keyframe_frames, Some(10));
        // Captured to arrived: drawing, encoding and sending here. The error bound must cover the truth.
        let latency = figures.latency.unwrap();
        assert!(
            latency.total.p50 < Duration::from_millis(250) && latency.error.unwrap() < Duration::from_millis(100),
            "{latency:?}"
        );
        source.close();
        wait_closed(&source);
        let end = Instant::now() + Duration::from_secs(5);
        while rig.records(|r| r.event == Event::End).is_empty() || rig.camera.is_encoding(Role::Sub) {
            assert!(Instant::now() < end, "TEARDOWN ends the session, and with it the encoder");
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

/// A picture as it reached the tile: the number in its block code, and when it was ready.
type Seen = (u32, lattice_core::Mono);

#[test]
fn the_frame_on_screen_is_the_frame_that_was_sent_and_its_latency_the_true_one() {
    let rig = rig(|_| {});
    let (sender, seen) = std::sync::mpsc::channel::<Seen>();
    let stations = Arc::new(std::sync::OnceLock::<tokio::sync::mpsc::Sender<Station>>::new());
    let reports = stations.clone();
    let pool = Pool::new(1, clock::now);
    let lane = pool.lane(Box::new(move |event| match event {
        LaneEvent::Picture(_, picture) => {
            let luma = |x: usize, y: usize| picture.rgb[(y * picture.width + x) * 3 + 1];
            let number =
                read_block_code(luma, picture.width, picture.height, picture.source).expect("the code is readable in a tile");
            let _ = sender.send((number, picture.ready));
        }
        LaneEvent::Decoded { number, at, damaged } => {
            if let Some(stations) = reports.get() {
                let _ = stations.try_send(Station::Decoded { number, at, damaged });
            }
        }
        LaneEvent::Glance(_) => {}
        other => panic!("{other:?}"),
    }));
    lane.want(Some(Wanted {
        width: 160,
        height: 90,
        pixel_aspect: 1.0,
        step: (1, 1),
        aspect: lattice_core::lattice::Aspect::Fit,
        enlarge: true,
        keyframes_only: false,
    }));
    let sink = Box::new(move |unit, parameters: Option<&lattice_core::video::Parameters>| {
        lane.push(unit, parameters);
    });
    let config = SourceConfig::new(rig.camera.url(Role::Sub).parse().unwrap(), TransportChoice::Udp);
    let source = Source::open(rig.runtime.handle(), config, Some(sink));
    stations.set(source.stations()).unwrap();
    let figures = wait(&source, "ten seconds decoded", 40, |f| {
        f.frames.decoded > 240 && f.latency.is_some_and(|l| l.basis == LatencyBasis::Clock)
    });
    let captured = |number: u32| {
        let record = rig.records(|r| matches!(r.event, Event::Frame { number: n, .. } if n == number));
        let Event::Frame { captured, .. } = record.first().expect("the frame was sent").event else { panic!("a frame") };
        captured
    };
    let pair = clock::pair();
    let seen: Vec<Seen> = seen.try_iter().collect();
    assert!(seen.windows(2).all(|pair| pair[0].0 < pair[1].0), "in order");
    let recent = &seen[seen.len().saturating_sub(230)..];
    let mut truth: Vec<i64> =
        recent.iter().map(|(number, ready)| pair.wall_at(*ready).as_unix_micros() - captured(*number)).collect();
    truth.sort_unstable();
    let (median, p50) = (truth[truth.len() / 2], figures.latency.unwrap().total.p50.as_micros() as i64);
    assert!((median - p50).abs() < 15_000, "true median {median} us, measured {p50} us");
}

#[test]
fn flashes_tell_what_a_camera_takes_before_it_stamps_its_pictures() {
    let rig = rig(|spec| {
        let desk = control_desk(0);
        (spec.view, spec.screen) = (desk.view, desk.screen);
    });
    let stations = Arc::new(std::sync::OnceLock::<tokio::sync::mpsc::Sender<Station>>::new());
    let reports = stations.clone();
    let pool = Pool::new(1, clock::now);
    let tell = move |station| {
        if let Some(stations) = reports.get() {
            let _ = stations.try_send(station);
        }
    };
    let lane = pool.lane(Box::new(move |event| match event {
        LaneEvent::Decoded { number, at, damaged } => tell(Station::Decoded { number, at, damaged }),
        LaneEvent::Light { number, at, cells } => tell(Station::Light { number, at, cells }),
        _ => {}
    }));
    let aspect = lattice_core::lattice::Aspect::Fit;
    lane.want(Some(Wanted {
        width: 160,
        height: 90,
        pixel_aspect: 1.0,
        step: (1, 1),
        aspect,
        enlarge: true,
        keyframes_only: false,
    }));
    lane.tell_light(true);
    let sink = Box::new(move |unit, parameters: Option<&lattice_core::video::Parameters>| lane.push(unit, parameters));
    let config = SourceConfig::new(rig.camera.url(Role::Sub).parse().unwrap(), TransportChoice::Udp);
    let source = Source::open(rig.runtime.handle(), config, Some(sink));
    stations.set(source.stations()).unwrap();
    wait(&source, "on its clock", 30, |f| f.frames.decoded > 50 && f.latency.is_some_and(|l| l.basis == LatencyBasis::Clock));
    let flash = |step| source.stations().blocking_send(Station::Flash(step)).unwrap();
    // A starved machine skips pictures, and a flash with them: as its page says then, the probe is done again.
    let all_seen = |f: &Figures| {
        f.flash
            .as_ref()
            .is_some_and(|flash| flash.flashes.len() == 10 && flash.flashes.iter().all(|one| one.seen_after.is_some()))
    };
    let deadline = Instant::now() + Duration::from_secs(180);
    for seed in 5.. {
        let pattern = Pattern::new(seed, Duration::from_millis(40));
        flash(FlashStep::Begin);
        let (began, mut since) = (clock::now(), Duration::ZERO);
        while let Some(next) = pattern.next(since) {
            std::thread::sleep((began + next).since(clock::now()));
            let lit = pattern.lit(next);
            rig.port.light(lit);
            flash(FlashStep::Light { at: clock::now(), lit });
            since = next;
        }
        let end = Instant::now() + lattice_core::flash::LONGEST + Duration::from_secs(2);
        while !all_seen(&source.figures()) && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(20));
        }
        if all_seen(&source.figures()) {
            break;
        }
        assert!(Instant::now() < deadline, "no probe saw all its flashes: {:?}", source.figures().flash);
    }
    flash(FlashStep::End);
    let figures = wait(&source, "on flashes", 10, |f| f.latency.is_some_and(|l| l.basis == LatencyBasis::Flash));
    let reading = figures.flash.clone().unwrap();
    // The stand-in's log is not needed for this one: it takes so long by itself, on whatever machine.
    let (before_stamp, error) = reading.before_stamp.unwrap();
    let off = (before_stamp - DESK_BEFORE_STAMP.as_micros() as i64).unsigned_abs();
    assert!(Duration::from_micros(off) <= error + Duration::from_millis(2) && off <= 25_000, "{before_stamp} \u{b1}{error:?}");
    let whole = figures.latency.unwrap();
    assert!(whole.total.p50 + Duration::from_millis(25) > DESK_BEFORE_STAMP, "{whole:?}");
    // Forgotten, it is on the clock again.
    flash(FlashStep::Forget);
    wait(&source, "back on its clock", 10, |f| f.latency.is_some_and(|l| l.basis == LatencyBasis::Clock) && f.flash.is_none());
}

#[track_caller]
fn wait_closed(source: &Source) {
    let deadline = Instant::now() + Duration::from_secs(3);
    while !source.is_closed() {
        assert!(Instant::now() < deadline, "the task ends");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn loss_is_counted_to_the_packet() {
    let rig = rig(|_| {});
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady", 20, steady);
    rig.camera.inject(Fault::Loss { share: 0.1, lasting: Duration::from_millis(1500) });
    wait(&source, "strained or stalled by loss", 10, |f| f.cause == Some(Cause::PacketLoss));
    std::thread::sleep(Duration::from_millis(1600));
    wait(&source, "clean again", 20, |f| f.dropout_now.is_none() && f.recent_loss.is_some_and(|loss| loss > 0.0));
    // Losses at the very end show only with the packet behind them.
    std::thread::sleep(Duration::from_millis(800));
    let counted = source.figures().packets.lost;
    let dropped: u32 =
        rig.records(|_| true).iter().map(|r| if let Event::Frame { dropped, .. } = r.event { dropped } else { 0 }).sum();
    assert!(dropped > 0);
    let lossy = source.figures();
    let by_loss = |event: &&Happened| event.cause == Some(Cause::PacketLoss) && event.confidence == Confidence::High;
    let event = lossy.events.iter().find(by_loss).unwrap();
    assert!(event.evidence.contains("missing in the sequence"), "{event:?}");
    assert_eq!(counted, u64::from(dropped));
}

#[test]
fn a_keyframe_is_asked_for_where_the_camera_offers_it_and_ends_the_wait() {
    for choice in [TransportChoice::Udp, TransportChoice::Tcp] {
        let rig = rig(|spec| {
            (spec.feedback, spec.keyframe_on_join) = (true, false);
            for stream in &mut spec.streams {
                stream.keyframe_interval = Duration::from_secs(60);
            }
        });
        // Somebody watches already: whoever joins comes into the middle.
        let before = rig.open(TransportChoice::Tcp);
        wait(&before, "pictures", 20, |f| f.frames.received >= 30);
        let source = rig.open(choice);
        let obeyed = |n: u64| move |f: &Figures| f.keyframes_asked.is_some_and(|asked| asked.obeyed >= n);
        wait(&source, "a first picture, as it was asked for", 20, |f| obeyed(1)(f) && f.milestones.first_picture.is_some());
        if choice == TransportChoice::Udp {
            let lost = source.figures().packets.lost;
            rig.camera.inject(Fault::Loss { share: 0.5, lasting: Duration::from_millis(300) });
            wait(&source, "a loss", 10, |f| f.packets.lost > lost);
            // On a busy machine the answer takes long: it came all the same.
            let figures = wait(&source, "pictures again, a minute before the next keyframe", 20, |f| {
                let asked = f.keyframes_asked.map_or(0, |told| told.asked);
                asked >= 2 && f.dropout_now.is_none() && f.verdict != Verdict::Stalled
            });
            assert!(figures.dropouts.iter().all(|dropout| dropout.length < Duration::from_secs(15)), "{:?}", figures.dropouts);
        }
    }
}

/// A measurement, not a test: `cargo test -p lattice-net --test standin -- --ignored --nocapture how_soon`.
#[test]
#[ignore = "a minute of measuring"]
fn how_soon_a_keyframe_comes_after_joining_and_after_a_loss() {
    let rig = rig(|spec| {
        (spec.feedback, spec.keyframe_on_join) = (true, false);
        for stream in &mut spec.streams {
            stream.keyframe_interval = Duration::from_secs(10);
        }
    });
    let before = rig.open(TransportChoice::Tcp);
    wait(&before, "pictures", 20, |f| f.frames.received >= 30);
    let told = |what: &str, mut spans: Vec<Duration>| {
        spans.sort_unstable();
        let of = |share: f64| spans[((spans.len() - 1) as f64 * share) as usize].as_millis();
        println!("{what}: {} times, median {} ms, 95 % {} ms, longest {} ms", spans.len(), of(0.5), of(0.95), of(1.0));
    };
    let joins = (0..20).map(|_| {
        let source = rig.open(TransportChoice::Udp);
        let figures = wait(&source, "a first picture", 20, |f| f.milestones.first_picture.is_some());
        source.close();
        wait_closed(&source);
        figures.milestones.first_picture.unwrap().since(figures.milestones.playing.unwrap())
    });
    told("from the answer to PLAY to the first picture", joins.collect());
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady", 20, steady);
    for _ in 0..20 {
        rig.camera.inject(Fault::Loss { share: 0.5, lasting: Duration::from_millis(80) });
        // Requests are two seconds apart.
        std::thread::sleep(Duration::from_millis(2_700));
    }
    let figures = wait(&source, "pictures", 20, |f| f.dropout_now.is_none());
    println!("{} packets lost, asked {:?}", figures.packets.lost, figures.keyframes_asked);
    if figures.dropouts.is_empty() {
        println!("no dropout came of it");
        return;
    }
    told("dropouts by loss", figures.dropouts.iter().map(|dropout| dropout.length).collect());
}

#[test]
fn a_keyframe_is_asked_for_by_the_device_service_too() {
    let rig = rig(|spec| {
        for stream in &mut spec.streams {
            stream.keyframe_interval = Duration::from_secs(60);
        }
    });
    let source = rig.open(TransportChoice::Tcp);
    let figures = wait(&source, "pictures", 20, |f| f.frames.received >= 30);
    assert!(figures.keyframes_asked.is_none(), "RTCP is not offered");
    let keyframes = || rig.records(|r| matches!(r.event, Event::Frame { keyframe: true, .. })).len();
    let before = keyframes();
    let at = rig.camera.service_address();
    let asking = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    asking.block_on(async {
        let mut device = Device::new(&at.ip().to_string(), at.port(), None, None);
        device.greet().await.unwrap();
        let streams = device.streams(false).await.unwrap();
        let sub = streams.iter().find(|offered| offered.url.as_ref().is_some_and(|url| url.path() == "/sub")).unwrap();
        source.stations().send(Station::KeyframeAsked(clock::now())).await.unwrap();
        device.synchronize(&sub.profile.token).await.unwrap();
        assert!(device.synchronize("none of its own").await.is_err());
    });
    wait(&source, "it came, and obedience is told", 10, |f| f.keyframes_asked.is_some_and(|told| told.obeyed == 1));
    assert!(keyframes() > before);
}

#[test]
fn packets_that_somebody_else_sends_are_counted_and_left_out() {
    let rig = rig(|_| {});
    let before = own_udp_ports();
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady", 20, steady);
    // From another address of this machine, to every port that this source may have.
    let forger = std::net::UdpSocket::bind("127.0.0.9:0").unwrap();
    let ports: Vec<u16> = own_udp_ports().into_iter().filter(|port| !before.contains(port)).collect();
    let mut packet = vec![0x80, 0x60, 0, 1, 0, 0, 0, 1, 0, 0, 0, 99, 0x65, 0x88, 1, 2];
    for n in 0..50u16 {
        packet[2..4].copy_from_slice(&n.to_be_bytes());
        for port in &ports {
            let _ = forger.send_to(&packet, ("127.0.0.1", *port));
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    let figures = wait(&source, "what was forged is counted", 10, |f| f.dropped.other_sender > 0);
    assert_eq!((figures.dropped.stranger, figures.packets.restarts), (0, 0));
    assert!(figures.text.as_ref().is_some_and(|text| text.contains("127.0.0.9")), "{:?}", figures.text);
    let more = figures.frames.received;
    wait(&source, "the stream goes on", 10, |f| f.frames.received > more + 10);
}

/// UDP ports of this process, by the kernel's table.
fn own_udp_ports() -> Vec<u16> {
    let inodes: Vec<String> = std::fs::read_dir("/proc/self/fd")
        .unwrap()
        .flatten()
        .filter_map(|fd| {
            Some(std::fs::read_link(fd.path()).ok()?.to_str()?.strip_prefix("socket:[")?.trim_end_matches(']').to_owned())
        })
        .collect();
    let table = std::fs::read_to_string("/proc/self/net/udp").unwrap();
    let ours = table.lines().skip(1).filter_map(|line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let port = u16::from_str_radix(fields.get(1)?.split(':').next_back()?, 16).ok()?;
        inodes.iter().any(|inode| Some(&inode.as_str()) == fields.get(9)).then_some(port)
    });
    ours.collect()
}

#[test]
fn a_panic_in_one_source_ends_its_session_only_and_it_begins_anew() {
    let rig = rig(|_| {});
    let other = rig.open(TransportChoice::Tcp);
    wait(&other, "the other one", 20, steady);
    let (left, before) = (Arc::new(Mutex::new(1)), other.figures());
    let config = SourceConfig::new(rig.camera.url(Role::Sub).parse().unwrap(), TransportChoice::Tcp);
    let sink = move |_, _: Option<&lattice_core::video::Parameters>| {
        let mut left = left.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if *left > 0 {
            *left -= 1;
            panic!("ordered by the test");
        }
    };
    let source = Source::open(rig.runtime.handle(), config, Some(Box::new(sink)));
    let failed = |f: &Figures| matches!(f.session, SessionState::Failed { cause: Cause::ProgramFailed, .. });
    wait(&source, "its failure is told", 20, failed);
    wait(&source, "it is back by itself", 30, |f| f.frames.received > 10);
    // Nobody else was touched: a busy machine may make the stand-in stutter, but nothing is lost and no session begins anew.
    let after = wait(&other, "the other one goes on", 20, |f| f.frames.received > before.frames.received + 10);
    assert_eq!((&after.session, after.milestones.playing), (&SessionState::Playing, before.milestones.playing));
    assert_eq!((after.packets.lost, after.frames.damaged), (before.packets.lost, before.frames.damaged));
}

#[test]
fn a_stall_is_a_freeze_of_its_length() {
    let rig = rig(|_| {});
    let source = rig.open(TransportChoice::Tcp);
    wait(&source, "steady", 20, steady);
    rig.camera.inject(Fault::Stall { lasting: Duration::from_millis(1500) });
    wait(&source, "stalled in silence", 5, |f| f.verdict == Verdict::Stalled && f.cause == Some(Cause::Silence));
    // A busy machine adds short ones of its own before and after: they are the stand-in's, too.
    let frozen =
        |f: &Figures| f.dropouts.iter().find(|d| d.kind == DropoutKind::Freeze && d.cause == Some(Cause::Silence)).copied();
    let figures = wait(&source, "over", 10, |f| frozen(f).is_some());
    let dropout = frozen(&figures).unwrap();
    // As long as the log says: between the last frame sent before those that were not, and the first one after.
    let log = rig.records(|r| matches!(r.event, Event::Frame { .. } | Event::FrameNotSent { .. }));
    let unsent = |r: &Record| matches!(r.event, Event::FrameNotSent { .. });
    let (first, last) = (log.iter().position(unsent).unwrap(), log.iter().rposition(unsent).unwrap());
    let gap = Duration::from_micros((log[last + 1].at - log[first - 1].at) as u64);
    assert!((dropout.length + Duration::from_millis(40)).abs_diff(gap) <= Duration::from_millis(100), "{dropout:?}, {gap:?}");
    // The stand-in sent nothing, and went on without a gap in the numbers: that is known, not guessed.
    let event = told(&figures, EventKind::Freeze, Cause::Silence);
    assert_eq!((event.start, event.length(figures.at)), (dropout.start, dropout.length));
    assert!(event.confidence == Confidence::High && event.evidence.contains("the camera sent nothing"), "{event:?}");
    // Where the stand-in held its rate, so many frames are missed as it left out; a starved one made fewer before, too.
    let (missed, told) = (dropout.length.as_secs_f64() * 25.0, dropout.frames_missed.unwrap() as f64);
    let left_out = log[first..=last].iter().filter(|record| unsent(record)).count() as f64;
    let held = (left_out - missed).abs() <= 1.0 && figures.sent.is_some_and(|sent| sent > 24.0);
    assert!(told >= 1.0 && told <= missed + 1.0 && (!held || told >= missed - 1.0), "{dropout:?}, {left_out} left out");
}

#[test]
fn a_cut_is_an_outage_and_the_stream_comes_back_by_itself() {
    let rig = rig(|_| {});
    let source = rig.open(TransportChoice::Auto);
    let other = rig.open_url(&rig.camera.url(Role::Main), TransportChoice::Tcp);
    wait(&source, "steady", 20, steady);
    rig.camera.inject(Fault::Cut { lasting: Duration::from_millis(300) });
    let lost = wait(&source, "lost", 5, |f| f.verdict == Verdict::Lost && f.cause.is_some());
    assert!(lost.next_try.is_some() && lost.text.is_some());
    let cut_off =
        |f: &Figures| f.dropouts.iter().any(|d| d.kind == DropoutKind::Outage && d.cause == Some(Cause::ClosedByCamera));
    let back = wait(&source, "back", 30, |f| cut_off(f) && f.verdict == Verdict::Steady);
    assert_eq!(back.packets.lost, 0, "a new session is no loss");
    assert_eq!(told(&back, EventKind::Outage, Cause::ClosedByCamera).confidence, Confidence::High);
    wait(&other, "the other too", 30, |f| cut_off(f) && f.verdict == Verdict::Steady);
}

#[test]
fn a_slowed_camera_is_accused_and_a_delayed_path_shows_in_latency() {
    let rig = rig(|_| {});
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady on the clock", 20, |f| steady(f) && f.latency.is_some_and(|l| l.basis == LatencyBasis::Clock));
    let before = source.figures().latency.unwrap().path.p50;
    rig.camera.inject(Fault::Delay {
        base: Duration::from_millis(300),
        jitter: Duration::ZERO,
        lasting: Duration::from_secs(30),
    });
    let late = wait(&source, "late", 20, |f| f.latency.is_some_and(|l| l.path.p50 > Duration::from_millis(250)));
    let added = late.latency.unwrap().path.p50.saturating_sub(before);
    assert!(added.as_millis().abs_diff(300) < 60, "{added:?}");
    rig.camera.inject(Fault::Slow { share: 0.4, lasting: Duration::from_secs(30) });
    let slowed = wait(&source, "slowed", 25, |f| f.verdict == Verdict::Strained && f.cause == Some(Cause::CameraSlowed));
    assert!(slowed.sent.unwrap() < 22.0);
    let event = told(&slowed, EventKind::Strained, Cause::CameraSlowed);
    assert!(event.end.is_none() && event.evidence.contains("of 25.0/s declared"), "{event:?}");
    wait(&source, "measured", 25, |f| f.sent.zip(rig.sent(f.at)).is_some_and(|(got, truth)| (got - truth).abs() < 0.3));
}

#[test]
fn streams_of_unlike_paths_are_aligned_to_the_slowest() {
    // The only test with two at a time.
    let (near, far) = (rig(|_| {}), rig(|spec| spec.streams[1].fps = 10.0));
    // A quick path, and one that is 250 ms longer and uneven.
    let released = || {
        let (sender, receiver) = std::sync::mpsc::channel::<i64>();
        let sink: lattice_net::UnitSink = Box::new(move |unit: lattice_core::receiver::Unit, _: Option<&_>| {
            let _ = sender.send(unit.unit.timestamp);
        });
        (sink, receiver)
    };
    let open = |rig: &Rig, sink| {
        let url = rig.camera.url(Role::Sub).parse().unwrap();
        let config = SourceConfig { decodes: false, ..SourceConfig::new(url, TransportChoice::Udp) };
        Source::open(rig.runtime.handle(), config, Some(sink))
    };
    far.camera.inject(Fault::Delay {
        base: Duration::from_millis(250),
        jitter: Duration::from_millis(30),
        lasting: Duration::from_secs(120),
    });
    let ((quick_sink, quick_units), (slow_sink, slow_units)) = (released(), released());
    let (quick, slow) = (open(&near, quick_sink), open(&far, slow_sink));
    for source in [&quick, &slow] {
        assert!(source.stations().try_send(Station::Playout(Playout::Buffered(Duration::from_millis(100)))).is_ok());
        // Held for the buffer, less what each was late by.
        let held = Duration::from_millis(30)..Duration::from_millis(110);
        wait(source, "buffered", 30, |f| {
            let on_clock = f.latency.filter(|latency| latency.basis == LatencyBasis::Clock);
            on_clock.is_some_and(|latency| held.contains(&latency.buffer.p50))
                && f.arrival.is_some_and(|arrival| arrival.p99.is_some() && arrival.least_path.is_some())
        });
    }
    let delay = Duration::from_millis(600);
    for source in [&quick, &slow] {
        let aligned = Playout::Aligned { delay, buffer: Duration::from_millis(100) };
        assert!(source.stations().try_send(Station::Playout(aligned)).is_ok());
    }
    // Longer than the window of ten seconds: everything in it is aligned by then.
    let total = |f: &Figures| f.latency.map(|latency| latency.path.p50 + latency.buffer.p50);
    for source in [&quick, &slow] {
        wait(source, "aligned", 30, |f| total(f).is_some_and(|total| total.abs_diff(delay) < Duration::from_millis(20)));
    }
    // The order of units is kept.
    for units in [quick_units, slow_units] {
        let came: Vec<i64> = units.try_iter().collect();
        assert!(came.len() > 100 && came.is_sorted(), "{}", came.len());
    }
    // Without a buffer what waits goes on, and the next at once.
    assert!(quick.stations().try_send(Station::Playout(Playout::AtOnce)).is_ok());
    wait(&quick, "at once", 60, |f| f.latency.is_some_and(|latency| latency.buffer.p50 < Duration::from_millis(30)));
    assert_eq!(quick.figures().arrival, None);
}

#[test]
fn jitter_over_udp_is_put_in_order_without_loss() {
    let rig = rig(|spec| spec.streams[1].kbps = 1500);
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady", 20, steady);
    rig.camera.inject(Fault::Delay { base: Duration::ZERO, jitter: Duration::from_millis(30), lasting: Duration::from_secs(20) });
    let figures =
        wait(&source, "reordered", 20, |f| f.packets.reordered > 20 && f.jitter.is_some_and(|j| j > Duration::from_millis(3)));
    // A starved machine sends some packets later than they are waited for.
    let (damaged, received) = (figures.frames.damaged, figures.frames.received);
    assert!(figures.packets.lost == 0 && damaged * 20 <= received, "{damaged} of {received}");
}

#[test]
fn sign_in_works_for_every_scheme_and_a_refusal_locks_without_retrying() {
    for digest in [None, Some(DigestAlgorithm::Md5), Some(DigestAlgorithm::Sha256)] {
        let credentials = tarnhithe(0)[3].sign_in.as_ref().unwrap().credentials.clone();
        let rig = rig(|spec| spec.sign_in = Some(SignIn { credentials, digest }));
        let url: SourceUrl = rig.camera.url(Role::Sub).parse().unwrap();
        if digest.is_none() {
            // The password itself travels only where that is allowed.
            let figures = wait(&rig.open(TransportChoice::Tcp), "locked", 20, |f| f.verdict == Verdict::Locked);
            assert!(figures.text.as_ref().is_some_and(|text| text.contains("readable")), "{:?}", figures.text);
        }
        let config = SourceConfig { decodes: false, ..SourceConfig::new(url.allowing_readable(true), TransportChoice::Tcp) };
        wait(&Source::open(rig.runtime.handle(), config, None), "signed in", 20, steady);
    }
    let credentials = tarnhithe(0)[3].sign_in.as_ref().unwrap().credentials.clone();
    let rig = rig(|spec| spec.sign_in = Some(SignIn { credentials, digest: Some(DigestAlgorithm::Md5) }));
    let address = rig.camera.address();
    for url in [format!("rtsp://{address}/sub"), format!("rtsp://harbour:wrong@{address}/sub")] {
        let source = rig.open_url(&url, TransportChoice::Tcp);
        let figures = wait(&source, "locked", 10, |f| f.verdict == Verdict::Locked);
        assert_eq!((figures.cause, figures.next_try), (Some(Cause::SignIn), None));
        assert!(source.order(Command::Retry));
        wait(&source, "locked again", 10, |f| f.verdict == Verdict::Locked);
        source.close();
        wait_closed(&source);
    }
}

#[test]
fn the_session_is_kept_alive_past_its_time_out() {
    let rig = rig(|spec| spec.session_timeout = Duration::from_secs(2));
    let source = rig.open(TransportChoice::Udp);
    wait(&source, "steady", 20, steady);
    std::thread::sleep(Duration::from_secs(5));
    let figures = source.figures();
    // A busy machine slows the stand-in down: the session is what must live.
    let alive = matches!(figures.verdict, Verdict::Steady | Verdict::Strained) && figures.session == SessionState::Playing;
    let ended = figures.dropouts.iter().any(|dropout| dropout.kind == DropoutKind::Outage);
    assert!(!ended && alive, "{figures:?}");
}

#[test]
fn udp_refused_or_silent_becomes_tcp_under_auto() {
    let rig = rig(|spec| spec.udp = false);
    let figures = wait(&rig.open(TransportChoice::Auto), "refused", 20, steady);
    assert_eq!(figures.transport, Some(Transport::Tcp));
    let figures = wait(&rig.open(TransportChoice::Udp), "not offered", 10, |f| f.verdict == Verdict::Lost);
    assert!(figures.text.as_ref().unwrap().contains("461"));
}

#[test]
fn what_is_wrong_is_named() {
    let rig = rig(|spec| spec.max_viewers = Some(1));
    let address = rig.camera.address();
    // A server that answers anything with nonsense, and one that says nothing.
    let nonsense = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let nonsense_address = nonsense.local_addr().unwrap();
    std::thread::spawn(move || {
        for mut stream in nonsense.incoming().take(3).flatten() {
            let _ = stream.read(&mut [0; 256]);
            let _ = stream.write_all(b"220 smtp ready\r\n");
        }
    });
    let mute = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let closed = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let first = rig.open(TransportChoice::Tcp);
    wait(&first, "the one viewer", 20, steady);
    for (url, cause) in [
        (format!("rtsp://{closed}/x"), Cause::PortClosed),
        (format!("rtsp://{nonsense_address}/x"), Cause::NotRtsp),
        (format!("rtsp://{}/x", mute.local_addr().unwrap()), Cause::Silence),
        (format!("rtsp://{address}/attic"), Cause::NoSuchStream),
        (format!("rtsp://{address}/main"), Cause::ViewerLimit),
        ("rtsp://no..such..host/x".to_owned(), Cause::Unresolved),
    ] {
        let source = rig.open_url(&url, TransportChoice::Auto);
        // While it tries there is no next try.
        let told = |f: &Figures| f.verdict == Verdict::Lost && f.cause.is_some() && f.next_try.is_some() && f.text.is_some();
        assert_eq!(wait(&source, &url, 15, told).cause, Some(cause), "{url}");
    }
}

const KEY: &str = "WVNfX19zZW1jdGwgKCkgewkyMjA7fQp9CnVubGVz";

#[test]
fn encrypted_streams_open_with_the_key_of_the_description_or_the_operator_and_say_so_without() {
    for transport in [TransportChoice::Udp, TransportChoice::Tcp] {
        let rig = rig(|spec| spec.encryption = Some(Encryption { key: KEY.into(), described: true }));
        let source = rig.open(transport);
        let figures = wait(&source, "a picture by the described key", 15, |figures| figures.first_picture.is_some());
        assert_eq!((figures.dropped.not_authentic, figures.packets.lost), (0, 0));
        wait(&source, "sender reports", 15, |figures| {
            figures.latency.is_some_and(|latency| latency.basis == LatencyBasis::Clock)
        });
        source.close();
    }
    let rig = rig(|spec| spec.encryption = Some(Encryption { key: KEY.into(), described: false }));
    let open = |key: Option<&str>| {
        let url = rig.camera.url(Role::Sub).parse().unwrap();
        let key = key.map(|key| MasterKey::entered(key).unwrap());
        let config = SourceConfig { decodes: false, key, ..SourceConfig::new(url, TransportChoice::Udp) };
        Source::open(rig.runtime.handle(), config, None)
    };
    let given = open(Some(KEY));
    wait(&given, "a picture by the entered key", 15, |figures| figures.first_picture.is_some());
    let none = open(None);
    let figures =
        wait(&none, "the key is asked for", 15, |figures| figures.cause == Some(Cause::KeyNeeded) && figures.arrived.is_some());
    assert!(figures.text.as_ref().unwrap().contains("no key is known"), "{figures:?}");
    assert!(figures.first_picture.is_none() && figures.packets.received > 0, "measured all the same");
    let wrong = open(Some(&"17".repeat(30)));
    let figures = wait(&wrong, "the key is wrong", 15, |figures| figures.cause == Some(Cause::KeyNeeded));
    assert!(figures.text.as_ref().unwrap().contains("the key is wrong"), "{figures:?}");
}

/// Puts TLS with a certificate of its own before a camera; gives its port and the certificate's fingerprint.
fn behind_tls(runtime: &tokio::runtime::Runtime, camera: std::net::SocketAddr) -> (u16, Fingerprint) {
    use tokio_rustls::rustls::ServerConfig;
    use tokio_rustls::rustls::pki_types::PrivateKeyDer;
    let made = rcgen::generate_simple_self_signed(vec!["camera.invalid".to_owned()]).unwrap();
    let certificate = made.cert.der().clone();
    let fingerprint = Fingerprint(sha2::Digest::finalize(<sha2::Sha256 as sha2::Digest>::new_with_prefix(&certificate)).into());
    let key = PrivateKeyDer::try_from(made.signing_key.serialize_der()).unwrap();
    let provider = Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![certificate], key)
        .unwrap();
    let acceptor = tokio_rustls::TlsAcceptor::from(Arc::new(config));
    let listener = runtime.block_on(tokio::net::TcpListener::bind("127.77.6.1:0")).unwrap();
    let port = listener.local_addr().unwrap().port();
    runtime.spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                let Ok(mut outside) = acceptor.accept(stream).await else { return };
                let Ok(mut inside) = tokio::net::TcpStream::connect(camera).await else { return };
                let _ = tokio::io::copy_bidirectional(&mut outside, &mut inside).await;
            });
        }
    });
    (port, fingerprint)
}

#[test]
fn rtsp_through_tls_is_verified_pinned_or_trusted_by_choice() {
    let rig = rig(|_| {});
    let proxy = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let (port, fingerprint) = behind_tls(&proxy, rig.camera.address());
    let open = |trust: Trust| {
        let url = format!("rtsps://127.77.6.1:{port}/sub").parse().unwrap();
        let config = SourceConfig { decodes: false, trust, ..SourceConfig::new(url, TransportChoice::Auto) };
        Source::open(rig.runtime.handle(), config, None)
    };
    let verified = open(Trust::Verify);
    let figures = wait(&verified, "nobody vouches for it", 15, |figures| figures.verdict == Verdict::Locked);
    let text = figures.text.as_ref().unwrap();
    assert!(text.contains("is not trusted") && text.contains(&fingerprint.to_string()), "{text}");
    let pinned = open(Trust::Pinned(fingerprint));
    let figures = wait(&pinned, "a picture through TLS", 15, |figures| figures.first_picture.is_some());
    assert_eq!(figures.transport, Some(Transport::Tcp));
    let off = open(Trust::Off);
    wait(&off, "a picture by explicit choice", 15, |figures| figures.first_picture.is_some());
    let other = open(Trust::Pinned(Fingerprint([7; 32])));
    let figures = wait(&other, "another certificate", 15, |figures| figures.verdict == Verdict::Locked);
    assert!(figures.text.as_ref().unwrap().contains("another one than the certificate that was pinned"), "{figures:?}");
    // A plain RTSP port is no TLS.
    let url = format!("rtsps://{}/sub", rig.camera.address()).parse().unwrap();
    let plain = Source::open(rig.runtime.handle(), SourceConfig::new(url, TransportChoice::Auto), None);
    wait(&plain, "no TLS there", 15, |figures| figures.cause == Some(Cause::NotRtsp));
}
