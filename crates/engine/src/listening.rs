//! Listening: the sound of some cameras, through the loudspeaker of this machine.
//!
//! What is heard of a camera is the sound of its stream that a screen shows, else of another one that is received; where that
//! changes, its voice goes on with the other.

use crate::camera::{CameraId, FeedKey};
use crate::feeds::Feeds;
use lattice_core::meter::Figures;
use lattice_core::sound::{Aligned, Mixer, OpenSpeaker, Speaker, Voice};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// No more cameras than this are heard.
pub const MOST_HEARD: usize = 8;
/// The volume, in dB.
pub const VOLUME: std::ops::RangeInclusive<i8> = -48..=12;

/// What an operator wants to hear.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Listen {
    /// This camera, or not any more.
    Toggle(CameraId),
    /// This camera alone, or all that are listened to again.
    Solo(CameraId),
    /// Nothing, or what is listened to again.
    Mute,
    /// So many decibels more.
    Volume(i8),
}

/// How a camera is heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct HeardOf {
    /// The stream whose sound that is, also while nothing comes of it: it is to stay open. `None` before the first.
    pub stream: Option<FeedKey>,
    /// How it lies to the picture.
    pub aligned: Aligned,
}

/// What is heard.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Hearing {
    /// Whether this program can be heard at all.
    pub possible: bool,
    /// The loudspeaker, while it plays.
    pub speaker: Option<String>,
    /// The cameras that are listened to.
    pub cameras: BTreeMap<CameraId, HeardOf>,
    /// The one of them that is heard alone.
    pub solo: Option<CameraId>,
    /// None of them is heard.
    pub muted: bool,
    /// The volume in dB; 0 is as it is sent.
    pub volume: i8,
}

impl Hearing {
    /// Whether a camera is heard now.
    #[must_use]
    pub fn is_heard(&self, camera: CameraId) -> bool {
        !self.muted && self.speaker.is_some() && self.cameras.contains_key(&camera) && self.solo.is_none_or(|solo| solo == camera)
    }

    fn gain(&self, camera: CameraId) -> f32 {
        if self.is_heard(camera) { 10_f32.powf(f32::from(self.volume) / 20.0) } else { 0.0 }
    }
}

/// Listens.
#[derive(Default)]
pub(crate) struct Listening {
    open: Option<OpenSpeaker>,
    speaker: Option<Box<dyn Speaker>>,
    mixer: Mixer,
    voices: HashMap<CameraId, (Voice, Option<FeedKey>)>,
    hearing: Arc<Hearing>,
}

impl Listening {
    pub fn new(open: Option<OpenSpeaker>) -> Self {
        let hearing = Arc::new(Hearing { possible: open.is_some(), ..Hearing::default() });
        Self { open, hearing, ..Self::default() }
    }

    /// What is heard.
    pub const fn hearing(&self) -> &Arc<Hearing> {
        &self.hearing
    }

    /// Does what the operator wants; a sentence where that is not possible.
    pub fn listen(&mut self, order: Listen) -> Result<(), String> {
        let Some(open) = self.open else {
            return Err("this program was built without listening: build it with --features sound".into());
        };
        let hearing = Arc::make_mut(&mut self.hearing);
        let comes = matches!(order, Listen::Toggle(camera) | Listen::Solo(camera) if !hearing.cameras.contains_key(&camera));
        if comes && hearing.cameras.len() >= MOST_HEARD {
            return Err(format!("{MOST_HEARD} cameras are listened to already: leave one of them first"));
        }
        match order {
            Listen::Toggle(camera) => {
                if hearing.cameras.remove(&camera).is_none() {
                    hearing.cameras.insert(camera, HeardOf::default());
                    hearing.muted = false;
                }
            }
            Listen::Solo(camera) if hearing.solo == Some(camera) => hearing.solo = None,
            Listen::Solo(camera) => {
                hearing.cameras.entry(camera).or_default();
                (hearing.solo, hearing.muted) = (Some(camera), false);
            }
            Listen::Mute => hearing.muted = !hearing.muted,
            Listen::Volume(by) => hearing.volume = hearing.volume.saturating_add(by).clamp(*VOLUME.start(), *VOLUME.end()),
        }
        hearing.solo = hearing.solo.filter(|solo| hearing.cameras.contains_key(solo));
        if hearing.cameras.is_empty() {
            (self.speaker, hearing.speaker) = (None, None);
        } else if self.speaker.is_none() {
            match open(self.mixer.clone(), lattice_net::clock::now) {
                Ok(speaker) => (hearing.speaker, self.speaker) = (Some(speaker.name()), Some(speaker)),
                Err(why) => {
                    (hearing.cameras, hearing.solo) = (BTreeMap::new(), None);
                    return Err(format!("nothing can be heard: {why}"));
                }
            }
        }
        Ok(())
    }

    /// Lets the streams that are received now be heard; what is to be said.
    pub fn follow(&mut self, feeds: &mut Feeds, figures: &HashMap<FeedKey, Arc<Figures>>) -> Option<String> {
        if self.hearing.cameras.is_empty() && self.voices.is_empty() {
            return None;
        }
        let said = self.speaker.as_mut().and_then(|speaker| speaker.fault());
        if said.is_some() {
            self.speaker = None;
            let hearing = Arc::make_mut(&mut self.hearing);
            (hearing.speaker, hearing.cameras, hearing.solo) = (None, BTreeMap::new(), None);
        }
        let cameras = self.hearing.cameras.clone();
        self.voices.retain(|camera, (voice, _)| {
            let stays = cameras.contains_key(camera);
            if !stays {
                self.mixer.remove(voice);
            }
            stays
        });
        let mut told = cameras;
        for (camera, told) in &mut told {
            let received = |key: &FeedKey| figures.get(key).is_some_and(|figures| figures.sound.state.is_received());
            let seen = |key: &FeedKey| figures.get(key).and_then(|figures| figures.latency).is_some_and(|all| all.draw.is_some());
            let of_camera: Vec<FeedKey> = feeds.open_of(*camera).filter(received).collect();
            let (voice, key) = self.voices.entry(*camera).or_insert_with(|| (self.mixer.voice(), None));
            let stays = key.filter(|key| of_camera.contains(key) && (seen(key) || !of_camera.iter().any(seen)));
            let next = stays.or_else(|| of_camera.iter().copied().find(seen)).or_else(|| of_camera.first().copied());
            // While its session is away it is waited for.
            *key = next.or(*key);
            voice.set_gain(self.hearing.gain(*camera));
            *told = HeardOf { stream: *key, aligned: if next.is_some() { voice.aligned() } else { Aligned::Nothing } };
        }
        let voices = &self.voices;
        feeds.hear(|key| voices.get(&key.camera).filter(|(_, heard)| *heard == Some(key)).map(|(voice, _)| voice));
        if told != self.hearing.cameras {
            Arc::make_mut(&mut self.hearing).cameras = told;
        }
        said.map(|why| format!("nothing is heard any more: {why}"))
    }

    /// A camera is gone.
    pub fn forget(&mut self, camera: CameraId) {
        let hearing = Arc::make_mut(&mut self.hearing);
        hearing.cameras.remove(&camera);
        hearing.solo = hearing.solo.filter(|solo| *solo != camera);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bell, CameraDef, Command, Config, Demand, Engine, News, SMALL_TILE, Shown, StreamDef, Viewer};
    use lattice_core::sound::{Coding, LevelMeter};
    use lattice_core::view::View;
    use lattice_core::{Mono, Role, SourceUrl, TransportChoice};
    use lattice_net::{Origin, Trust, clock};
    use lattice_sim::{Fault, Log, Port, SoundSpec, tarnhithe};
    use std::sync::Mutex;
    use std::sync::atomic::{AtomicBool, Ordering};
    use std::time::{Duration, Instant};

    /// What the loudspeaker was given of late: 48 kHz, one channel.
    static GIVEN: Mutex<Vec<f32>> = Mutex::new(Vec::new());
    static OPEN: AtomicBool = AtomicBool::new(false);
    static BREAKS: AtomicBool = AtomicBool::new(false);

    struct Loud;

    impl Speaker for Loud {
        fn name(&self) -> String {
            "test output".into()
        }

        fn fault(&mut self) -> Option<String> {
            BREAKS.swap(false, Ordering::AcqRel).then(|| "it was unplugged".into())
        }
    }

    impl Drop for Loud {
        fn drop(&mut self) {
            OPEN.store(false, Ordering::Release);
        }
    }

    #[allow(clippy::unnecessary_wraps)] // as the loudspeakers that can fail
    fn open(mixer: Mixer, clock: fn() -> Mono) -> Result<Box<dyn Speaker>, String> {
        OPEN.store(true, Ordering::Release);
        std::thread::spawn(move || {
            let mut at = clock();
            while OPEN.load(Ordering::Acquire) {
                let mut out = [0.0; 960];
                mixer.fill(at + Duration::from_millis(30), 48_000, 1, &mut out);
                let mut given = GIVEN.lock().unwrap();
                given.extend(out);
                let surplus = given.len().saturating_sub(48_000);
                given.drain(..surplus);
                drop(given);
                at = at + Duration::from_millis(20);
                std::thread::sleep(at.since(clock()));
            }
        });
        Ok(Box::new(Loud))
    }

    struct Rig {
        engine: Engine,
        viewer: Viewer,
        keys: Vec<FeedKey>,
        cameras: (tokio::runtime::Runtime, Port),
    }

    /// Two cameras on a screen: one with a tone of -20 dBFS, one without sound.
    fn rig(speaker: Option<OpenSpeaker>) -> Rig {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let mut specs: Vec<_> = tarnhithe(0).into_iter().take(2).collect();
        for stream in specs.iter_mut().flat_map(|spec| &mut spec.streams) {
            (stream.width, stream.height, stream.fps) = (160, 90, 12.5);
        }
        specs[0].sound = Some(SoundSpec::new(lattice_sim::Heard::Tone(1000.0, -20.0), Coding::Pcmu, 8000));
        specs[1].sound = None;
        let port = runtime.block_on(Port::start(specs, Log::default())).unwrap();
        let def = |(n, camera): (usize, &lattice_sim::Camera)| {
            let url: SourceUrl = camera.url(lattice_sim::Role::Sub).parse().unwrap();
            let stream = StreamDef { role: Role::Sub, origin: Origin::Url(url), key: None };
            CameraDef {
                name: format!("camera {n}"),
                streams: vec![stream],
                transport: TransportChoice::Udp,
                trust: Trust::Verify,
                viewers: None,
                link: None,
                sound: true,
            }
        };
        let cameras = port.cameras().iter().enumerate().map(def).collect();
        let engine = Engine::start(Config { cameras, speaker, ..Config::default() }).unwrap();
        let mut viewer = engine.viewer(Bell::new(crossbeam_channel::bounded(1).0));
        let ids: Vec<CameraId> = engine.snapshot().cameras.iter().map(|(id, _)| id).collect();
        let keys: Vec<FeedKey> = ids.iter().map(|camera| FeedKey { camera: *camera, role: Role::Sub, by: None }).collect();
        let shown = |(place, key): (usize, &FeedKey)| {
            let view = View::default();
            Shown { key: *key, place, wanted: SMALL_TILE, view, playout: None }
        };
        viewer.look(Demand { open: keys.clone(), shown: keys.iter().enumerate().map(shown).collect(), ..Demand::default() });
        Rig { engine, viewer, keys, cameras: (runtime, port) }
    }

    impl Rig {
        #[track_caller]
        fn until(&self, what: &str, done: impl Fn(&Hearing) -> bool) {
            let deadline = Instant::now() + Duration::from_secs(60);
            let mut drawn = None;
            loop {
                let snapshot = self.engine.snapshot();
                // The screen draws what there is.
                let output = snapshot.outputs.get(&self.keys[0]);
                if let Some((output, picture)) = output.and_then(|output| Some((output, output.newest()?)))
                    && drawn.replace(picture.number) != Some(picture.number)
                {
                    output.drawn(picture.number, clock::now());
                }
                if done(&snapshot.hearing) {
                    return;
                }
                assert!(Instant::now() < deadline, "{what}: {:?}", snapshot.hearing);
                std::thread::sleep(Duration::from_millis(10));
            }
        }

        fn listen(&self, order: Listen) {
            assert!(self.viewer.order(Command::Listen(order)));
        }

        #[track_caller]
        fn says(&self, part: &str) {
            let deadline = Instant::now() + Duration::from_secs(20);
            while let Ok(news) = self.viewer.news.recv_deadline(deadline) {
                if matches!(&news, News::Say(_, text) if text.contains(part)) {
                    return;
                }
            }
            panic!("not said: {part}");
        }
    }

    /// How loud the last half second was.
    fn rms() -> f32 {
        let given = GIVEN.lock().unwrap();
        let mut meter = LevelMeter::new(1, 48_000, 1.0);
        meter.on_samples(Mono::ZERO, &given[given.len().saturating_sub(24_000)..]);
        meter.read(Mono::ZERO).first().map_or(-200.0, |level| level.rms)
    }

    #[test]
    fn a_camera_is_heard_with_its_picture_as_loud_as_it_is_until_it_is_not_wanted() {
        let rig = rig(Some(open));
        let (one, other) = (rig.keys[0].camera, rig.keys[1].camera);
        rig.until("nothing is heard unasked", |hearing| hearing.possible && hearing.cameras.is_empty());
        rig.listen(Listen::Toggle(one));
        rig.until("its tone", |hearing| hearing.is_heard(one) && (rms() + 20.0).abs() < 0.3);
        let lies = |hearing: &Hearing| hearing.cameras[&one].aligned;
        rig.until("its sender's clock says when", |hearing| matches!(lies(hearing), Aligned::WithPicture | Aligned::After(_)));
        rig.listen(Listen::Volume(-6));
        rig.until("softer", |_| (rms() + 26.0).abs() < 0.3);
        rig.listen(Listen::Mute);
        rig.until("nothing while muted", |hearing| hearing.muted && rms() < -90.0);
        rig.listen(Listen::Mute);
        rig.until("again", |_| (rms() + 26.0).abs() < 0.3);
        rig.listen(Listen::Toggle(other));
        rig.says("camera 1: it has no sound");
        // Its session goes, for longer than its sound is known, and comes back.
        rig.cameras.1.cameras()[0].inject(Fault::Cut { lasting: Duration::from_secs(5) });
        rig.until("nothing comes", |hearing| lies(hearing) == Aligned::Nothing && rms() < -90.0);
        rig.until("its stream is waited for", |hearing| hearing.cameras[&one].stream == Some(rig.keys[0]));
        rig.until("it is back", |_| (rms() + 26.0).abs() < 0.3);
        BREAKS.store(true, Ordering::Release);
        rig.says("nothing is heard any more: it was unplugged");
        rig.until("its end", |hearing| hearing.cameras.is_empty() && hearing.speaker.is_none());
        rig.listen(Listen::Solo(one));
        rig.until("anew", |hearing| hearing.solo == Some(one) && (rms() + 26.0).abs() < 0.3);
        rig.listen(Listen::Toggle(one));
        rig.until("the loudspeaker is let go", |hearing| hearing.speaker.is_none() && !OPEN.load(Ordering::Acquire));
    }

    #[test]
    fn a_program_that_cannot_be_heard_says_so() {
        let rig = rig(None);
        rig.until("there is a stream", |_| rig.engine.snapshot().figures.len() == 2);
        rig.listen(Listen::Toggle(rig.keys[0].camera));
        rig.says("--features sound");
        let mut none = Listening::new(Some(|_, _| Err("this machine has no sound output".into())));
        assert_eq!(
            none.listen(Listen::Toggle(rig.keys[0].camera)).unwrap_err(),
            "nothing can be heard: this machine has no sound output"
        );
        assert!(none.hearing().cameras.is_empty());
    }
}
