//! The sound of stand-in cameras: level, loss and offset against what they sent.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::event::EventKind;
use lattice_core::meter::{Fig, Figures};
use lattice_core::sound::{Coding, Limits, SoundReading, SoundState};
use lattice_core::thresholds::Thresholds;
use lattice_core::{Cause, TransportChoice};
use lattice_net::{Runtime, Source, SourceConfig, Station};
use lattice_sim::{AAC_TONE, Camera, Event, Fault, Heard, Log, Port, Record, Role, SoundFault, SoundSpec, tarnhithe};
use std::sync::Arc;
use std::time::{Duration, Instant};

struct Rig {
    _port: Port,
    camera: Camera,
    log: Log,
    runtime: Runtime,
    _sim: tokio::runtime::Runtime,
}

/// One camera with this sound.
fn rig(sound: SoundSpec) -> Rig {
    let sim = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let mut spec = tarnhithe(0).remove(0);
    for stream in &mut spec.streams {
        (stream.width, stream.height, stream.fps) = (160, 90, 12.5);
    }
    spec.sound = Some(sound);
    let log = Log::in_memory();
    let port = sim.block_on(Port::start(vec![spec], log.clone())).unwrap();
    let camera = port.cameras()[0].clone();
    Rig { _port: port, camera, log, runtime: Runtime::start().unwrap(), _sim: sim }
}

impl Rig {
    fn open(&self, transport: TransportChoice) -> Source {
        let config = SourceConfig {
            decodes: false,
            sound_decoder: Some(lattice_media::sound_decoder),
            ..SourceConfig::new(self.camera.url(Role::Sub).parse().unwrap(), transport)
        };
        Source::open(self.runtime.handle(), config, None)
    }

    fn sum(&self, of: impl Fn(&Record) -> Option<u32>) -> u64 {
        self.log.records().iter().filter_map(of).map(u64::from).sum()
    }
}

#[track_caller]
fn wait(source: &Source, what: &str, done: impl Fn(&Figures) -> bool) -> Arc<Figures> {
    let deadline = Instant::now() + Duration::from_secs(60);
    loop {
        let figures = source.figures();
        if done(&figures) {
            return figures;
        }
        assert!(Instant::now() < deadline, "{what}: {:?}", figures.sound);
        std::thread::sleep(Duration::from_millis(20));
    }
}

const TONE: Heard = Heard::Tone(1000.0, -20.0);

fn near(sound: &SoundReading, db: f64) -> bool {
    sound.level().is_some_and(|level| (f64::from(level.rms) - db).abs() < 0.1)
}

#[test]
fn tones_have_their_level_in_each_coding_over_both_transports() {
    let l16 = SoundSpec { channels: 2, ..SoundSpec::new(TONE, Coding::L16, 48_000) };
    let codings = [SoundSpec::new(TONE, Coding::Pcmu, 8000), SoundSpec::new(TONE, Coding::Pcma, 8000), l16, SoundSpec::aac()];
    for spec in codings {
        let rig = rig(spec.clone());
        for transport in [TransportChoice::Udp, TransportChoice::Tcp] {
            let source = rig.open(transport);
            let figures = wait(&source, "the tone's level", |f| near(&f.sound, AAC_TONE.1));
            let sound = &figures.sound;
            assert_eq!((&sound.state, sound.channels, sound.clipped), (&SoundState::On, Some(spec.channels), 0), "{sound:?}");
            assert_eq!(sound.coding.as_deref(), Some(&*spec.coding.to_string()));
            if spec == SoundSpec::aac() && transport == TransportChoice::Tcp {
                rig.camera.inject(Fault::Sound { how: SoundFault::Hush, lasting: Duration::from_secs(60) });
                wait(&source, "its silence", |f| f.sound.level().is_some_and(|level| level.rms < -65.0));
            }
            if spec.channels == 2 {
                // The second channel is half as loud.
                assert!((sound.levels[0].rms - sound.levels[1].rms - 6.02).abs() < 0.1, "{sound:?}");
            }
        }
    }
}

#[test]
fn it_is_measured_for_loss_and_for_its_offset_to_the_picture() {
    let late = Duration::from_millis(180);
    let rig = rig(SoundSpec { late, ..SoundSpec::new(TONE, Coding::Pcmu, 8000) });
    let source = rig.open(TransportChoice::Udp);
    rig.camera.inject(Fault::Loss { share: 0.1, lasting: Duration::from_secs(4) });
    wait(&source, "loss", |f| f.sound.recent_loss.is_some_and(|share| share > 0.03));
    std::thread::sleep(Duration::from_secs(4));
    // A packet is 20 ms of sound: its first moment is that old when it leaves. A picture waits as long as the latest ones did.
    let truth = || {
        let records = rig.log.records();
        let waited = records.iter().rev().filter_map(|record| match record.event {
            Event::Frame { captured, .. } => Some(record.at - captured),
            _ => None,
        });
        let mut waited: Vec<i64> = waited.take(25).collect();
        waited.sort_unstable();
        20.0 + late.as_secs_f64() * 1e3 - waited[waited.len() / 2] as f64 / 1e3
    };
    let offset = |f: &Figures| (Fig::SoundOffset.row().value)(f);
    wait(&source, "the offset", |f| offset(f).is_some_and(|told| (told - truth()).abs() < 10.0));
    let dropped = || rig.sum(|record| if let Event::SoundDropped { packets } = record.event { Some(packets) } else { None });
    // Whatever was dropped since it was opened, to the packet.
    let figures = wait(&source, "what was dropped", |f| f.sound.packets.lost == dropped());
    assert!(figures.sound.packets.lost > 5 && figures.sound.jitter.is_some());
    // It is told beyond the end, for whoever reads the figures then.
    source.close();
    let deadline = Instant::now() + Duration::from_secs(20);
    while !source.is_closed() {
        assert!(Instant::now() < deadline, "it does not end");
        std::thread::sleep(Duration::from_millis(20));
    }
    let last = &source.figures().sound;
    assert_eq!((&last.state, near(last, -20.0)), (&SoundState::On, true), "{last:?}");
}

#[test]
fn silence_a_shout_and_clipping_are_events() {
    let rig = rig(SoundSpec::new(Heard::Tone(500.0, -40.0), Coding::L16, 8000));
    let source = rig.open(TransportChoice::Tcp);
    let limits = Limits { silent_after: Duration::from_secs(2), ..Limits::default() };
    source.stations().try_send(Station::Thresholds(Thresholds { sound: limits, ..Thresholds::default() })).unwrap();
    let lasting = Duration::from_secs(5);
    wait(&source, "sound", |f| near(&f.sound, -40.0));
    // What is usual is learned first.
    std::thread::sleep(Duration::from_secs(11));
    let orders = [
        (SoundFault::Hush, EventKind::SoundSilent, Cause::SoundSilent),
        (SoundFault::Shout, EventKind::SoundLoud, Cause::SoundLoud),
        (SoundFault::Clip, EventKind::SoundClipped, Cause::SoundClipped),
    ];
    for (how, kind, cause) in orders {
        rig.camera.inject(Fault::Sound { how, lasting });
        let ended = |f: &Figures| f.events.iter().any(|e| e.kind == kind && e.cause == Some(cause) && e.end.is_some());
        wait(&source, kind.word(), ended);
    }
}

#[test]
fn sound_that_is_refused_or_whose_clock_lies_is_said_and_pictures_come() {
    let pictures = |f: &Figures| f.frames.received > 20;
    let refused = rig(SoundSpec { refused: true, ..SoundSpec::new(TONE, Coding::Pcmu, 8000) });
    let figures = wait(&refused.open(TransportChoice::Udp), "pictures", pictures);
    assert!(figures.sound.state.text().unwrap().contains("461"), "{:?}", figures.sound);
    let lies = rig(SoundSpec { described_hz: 48_000, ..SoundSpec::new(TONE, Coding::L16, 16_000) });
    let figures = wait(&lies.open(TransportChoice::Tcp), "the lie", |f| f.sound.remark.is_some() && pictures(f));
    assert!(
        figures.sound.remark.as_ref().unwrap().contains("16000 Hz where its description says 48000 Hz"),
        "{:?}",
        figures.sound
    );
    assert_eq!((figures.sound.jitter, figures.sound.offset_micros), (None, None));
}
