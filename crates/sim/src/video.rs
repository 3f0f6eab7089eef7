//! A stream's encoder: it runs only while somebody plays, once for all viewers.

use crate::camera::{CameraSpec, Faults, Pictures, StreamSpec, unix_micros};
use crate::head::Head;
use crate::scene::{Scene, View};
use lattice_core::video::{NalKind, annex_b, packetize};
use openh264::OpenH264API;
use openh264::encoder::{
    BitRate, Complexity, Encoder, EncoderConfig, FrameRate, IntraFramePeriod, RateControlMode, UsageType, VuiConfig,
};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::broadcast;

/// Largest RTP payload: fits an Ethernet frame with every header.
const PAYLOAD: usize = 1400;

/// A coded frame for all viewers.
#[derive(Debug)]
pub(crate) struct CodedFrame {
    pub number: u32,
    /// Microseconds UTC.
    pub captured: i64,
    /// On the stream's own RTP clock, from its start.
    pub ticks: u32,
    pub keyframe: bool,
    /// It was made while the camera stalls: never sent.
    pub stalled: bool,
    pub payloads: Arc<Vec<Vec<u8>>>,
    /// The same in Annex B.
    pub bytes: Arc<Vec<u8>>,
}

/// A clip that many cameras replay: encoded once.
pub(crate) struct Clip {
    pub frames: Vec<ClipFrame>,
}

pub(crate) struct ClipFrame {
    pub keyframe: bool,
    pub payloads: Arc<Vec<Vec<u8>>>,
    pub bytes: Arc<Vec<u8>>,
}

/// How long a clip is, about.
const CLIP: Duration = Duration::from_secs(8);

impl Clip {
    /// The clip of a view in these settings; encoded when it is asked for first.
    pub fn of(view: View, spec: &StreamSpec) -> Result<Arc<Self>, openh264::Error> {
        type Kept = Vec<((View, StreamSpec), Arc<Clip>)>;
        static CLIPS: Mutex<Kept> = Mutex::new(Vec::new());
        let clips = || CLIPS.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, clip)) = clips().iter().find(|((have, settings), _)| *have == view && settings == spec) {
            return Ok(clip.clone());
        }
        let clip = Arc::new(Self::encode(view, spec)?);
        clips().push(((view, *spec), clip.clone()));
        Ok(clip)
    }

    fn encode(view: View, spec: &StreamSpec) -> Result<Self, openh264::Error> {
        // No clock stands in them: they are shown again and again.
        let mut coded = Coded::new(view, "", spec)?;
        let begin = unix_micros();
        let mut frames = Vec::new();
        // Whole keyframe intervals, so that the end runs on into the begin.
        let interval = VideoStream::interval(spec);
        let count = interval * ((CLIP.as_secs_f64() * spec.fps) as u32).div_ceil(interval).max(1);
        for number in 0..count {
            let bytes = coded.unit(begin + (f64::from(number) * 1e6 / spec.fps) as i64, number)?;
            let nals: Vec<&[u8]> = annex_b(bytes).collect();
            let keyframe = is_keyframe(&nals);
            frames.push(ClipFrame { keyframe, payloads: Arc::new(packetize(&nals, PAYLOAD)), bytes: Arc::new(bytes.to_vec()) });
        }
        Ok(Self { frames })
    }
}

/// A view, coded picture by picture, at whatever moments are asked for.
pub struct Coded {
    scene: Scene,
    encoder: Encoder,
    bytes: Vec<u8>,
}

impl Coded {
    /// A view with a name before the clock in its pictures; without a name there is no clock.
    ///
    /// # Errors
    ///
    /// The encoder could not be made.
    pub fn new(view: View, name: &str, spec: &StreamSpec) -> Result<Self, openh264::Error> {
        let scene = Scene::new(view, name, spec.width, spec.height, None);
        Ok(Self { scene, encoder: VideoStream::encoder(spec)?, bytes: Vec::new() })
    }

    /// The access unit of a moment (microseconds since the Unix epoch), H.264 in Annex B's byte stream.
    ///
    /// # Errors
    ///
    /// The encoder failed.
    pub fn unit(&mut self, unix_micros: i64, number: u32) -> Result<&[u8], openh264::Error> {
        let picture = self.scene.draw(unix_micros, number);
        self.bytes.clear();
        self.encoder.encode(&picture)?.write_vec(&mut self.bytes);
        Ok(&self.bytes)
    }
}

impl std::fmt::Debug for Coded {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Coded").field("scene", &self.scene).finish_non_exhaustive()
    }
}

fn is_keyframe(nals: &[&[u8]]) -> bool {
    nals.iter().any(|nal| nal.first().is_some_and(|header| NalKind::of(*header) == NalKind::Idr))
}

/// One stream that may be subscribed to.
pub(crate) struct VideoStream {
    spec: Mutex<StreamSpec>,
    camera: CameraSpec,
    faults: Arc<Faults>,
    head: Option<Arc<Mutex<Head>>>,
    sender: broadcast::Sender<Arc<CodedFrame>>,
    running: Mutex<bool>,
    want_keyframe: AtomicBool,
    next_number: AtomicU32,
    started: (Instant, i64),
}

impl VideoStream {
    /// A stream of a camera, which nobody watches yet.
    pub fn new(spec: StreamSpec, camera: CameraSpec, faults: Arc<Faults>, head: Option<Arc<Mutex<Head>>>) -> Self {
        Self {
            spec: Mutex::new(spec),
            camera,
            faults,
            head,
            // A viewer that is this many frames behind loses the oldest, which is logged.
            sender: broadcast::Sender::new(64),
            running: Mutex::new(false),
            want_keyframe: AtomicBool::new(false),
            next_number: AtomicU32::new(0),
            started: (Instant::now(), unix_micros()),
        }
    }

    /// What it sends.
    pub fn spec(&self) -> StreamSpec {
        *self.spec.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Other settings from the next frame on.
    pub fn change(&self, spec: StreamSpec) {
        *self.spec.lock().unwrap_or_else(PoisonError::into_inner) = spec;
    }

    /// Whether somebody watches it.
    pub fn is_running(&self) -> bool {
        *self.running.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A new viewer's frames; starts the encoder if it is the first.
    pub fn subscribe(self: &Arc<Self>) -> broadcast::Receiver<Arc<CodedFrame>> {
        let receiver = self.sender.subscribe();
        if self.camera.keyframe_on_join {
            self.want_keyframe.store(true, Ordering::Relaxed);
        }
        let mut running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
        if !*running && self.camera.pictures == Pictures::Clip {
            *running = true;
            drop(tokio::spawn(self.clone().replay()));
        } else if !*running {
            let stream = self.clone();
            let name = format!("{} {}", self.camera.name, self.spec().role.word());
            *running = std::thread::Builder::new().name(name).spawn(move || stream.run()).is_ok();
        }
        receiver
    }

    /// The next frame is a keyframe.
    pub fn begin_anew(&self) {
        self.want_keyframe.store(true, Ordering::Relaxed);
    }

    /// The RTP tick of a wall clock moment, for sender reports.
    pub fn ticks_at(&self, unix_micros: i64) -> u32 {
        (i128::from(unix_micros - self.started.1) * 90_000 / 1_000_000) as u32
    }

    fn run(&self) {
        while self.is_watched() {
            if self.relays() {
                self.relay();
            } else if let Err(error) = self.encode() {
                tracing::error!(camera = self.camera.name, %error, "the stand-in's encoder failed");
                *self.running.lock().unwrap_or_else(PoisonError::into_inner) = false;
                return;
            }
        }
    }

    /// Whether somebody watches; where nobody does, it does not run from then on.
    fn is_watched(&self) -> bool {
        let mut running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
        *running = self.sender.receiver_count() > 0;
        *running
    }

    /// Whether it takes its pictures from the encoder that it shares with others.
    fn relays(&self) -> bool {
        self.camera.pictures == Pictures::Shared && !self.faults.now().is_in_pictures()
    }

    /// The encoder of all cameras with this view and these settings.
    fn shared(&self) -> Arc<Self> {
        type Known = Vec<((View, StreamSpec), Arc<VideoStream>)>;
        static KNOWN: Mutex<Known> = Mutex::new(Vec::new());
        let key = (self.camera.view, self.spec());
        let mut known = KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, stream)) = known.iter().find(|(have, _)| *have == key) {
            return stream.clone();
        }
        let camera = CameraSpec {
            name: "Tarnhithe".into(),
            pictures: Pictures::Own,
            keyframe_on_join: true,
            channel_names: Vec::new(),
            ..self.camera.clone()
        };
        let stream = Arc::new(Self::new(key.1, camera, Arc::new(Faults::new()), None));
        known.push((key, stream.clone()));
        stream
    }

    /// Sends on what the shared encoder makes, from a keyframe on, while it may and somebody plays.
    fn relay(&self) {
        let shared = self.shared();
        let mut frames = shared.subscribe();
        let mut begun = false;
        while self.is_watched() && self.relays() {
            if self.want_keyframe.swap(false, Ordering::Relaxed) {
                shared.begin_anew();
            }
            let frame = match frames.blocking_recv() {
                Ok(frame) => frame,
                Err(broadcast::error::RecvError::Lagged(_)) => {
                    shared.begin_anew();
                    begun = false;
                    continue;
                }
                Err(broadcast::error::RecvError::Closed) => return,
            };
            // What is not sent cannot be built upon.
            let stalled = self.faults.now().stalled;
            if stalled && begun {
                begun = false;
            }
            begun |= frame.keyframe && !stalled;
            if !begun && !stalled {
                shared.begin_anew();
                continue;
            }
            self.next_number.store(frame.number + 1, Ordering::Relaxed);
            let (payloads, bytes) = (frame.payloads.clone(), frame.bytes.clone());
            let (number, captured, keyframe) = (frame.number, frame.captured, frame.keyframe);
            let frame = CodedFrame { number, captured, ticks: self.ticks_at(captured), keyframe, stalled, payloads, bytes };
            let _ = self.sender.send(Arc::new(frame));
        }
    }

    /// Sends the frames of a clip as if they were captured now, while somebody plays.
    async fn replay(self: Arc<Self>) {
        let spec = self.spec();
        let view = self.camera.view;
        let clip = match tokio::task::spawn_blocking(move || Clip::of(view, &spec)).await {
            Ok(Ok(clip)) => clip,
            other => {
                tracing::error!(camera = self.camera.name, failed = ?other.map(Result::err), "no clip to replay");
                *self.running.lock().unwrap_or_else(PoisonError::into_inner) = false;
                return;
            }
        };
        let period = Duration::from_secs_f64(1.0 / spec.fps);
        // Each camera has a phase of its own, and begins with a keyframe.
        let mut due = self.started.0.elapsed() + period.mul_f64(self.camera.seed as f64 * 0.618 % 1.0);
        let (mut at, mut was_stalled) = (0, false);
        loop {
            if !self.is_watched() {
                return;
            }
            let late = self.started.0.elapsed().saturating_sub(due);
            let skipped = (late.as_secs_f64() / period.as_secs_f64()) as u32;
            due += period.div_f64(self.faults.now().pace) * (1 + skipped);
            tokio::time::sleep(due.saturating_sub(self.started.0.elapsed())).await;
            let stalled = self.faults.now().stalled;
            // What was not sent cannot be built upon: on to the next keyframe.
            let resumes = std::mem::replace(&mut was_stalled, stalled) && !stalled;
            if skipped > 0 || resumes || self.want_keyframe.swap(false, Ordering::Relaxed) {
                let rest = clip.frames.iter().cycle().skip(at).take(clip.frames.len());
                at += rest.enumerate().find(|(_, frame)| frame.keyframe).map_or(0, |(index, _)| index);
            }
            let Some(frame) = clip.frames.get(at % clip.frames.len().max(1)) else { return };
            at = (at + 1) % clip.frames.len();
            let captured = self.started.1 + due.as_micros() as i64;
            let number = self.next_number.fetch_add(1, Ordering::Relaxed) & 0xff_ffff;
            let (payloads, bytes) = (frame.payloads.clone(), frame.bytes.clone());
            let ticks = self.ticks_at(captured);
            let frame = CodedFrame { number, captured, ticks, keyframe: frame.keyframe, stalled, payloads, bytes };
            let _ = self.sender.send(Arc::new(frame));
        }
    }

    /// Draws, encodes and sends while somebody plays; one that shares an encoder only while that will not do.
    fn encode(&self) -> Result<(), openh264::Error> {
        let mut spec = self.spec();
        let screen = || self.camera.screen.clone();
        let scene = |spec: &StreamSpec| Scene::new(self.camera.view, self.name(spec), spec.width, spec.height, screen());
        let (mut drawn, mut encoder) = (scene(&spec), Self::encoder(&spec)?);
        let mut due = self.started.0.elapsed();
        self.want_keyframe.store(true, Ordering::Relaxed);
        let (mut bytes, mut was_stalled) = (Vec::new(), false);
        loop {
            if !self.is_watched() || self.relays() {
                return Ok(());
            }
            let trouble = self.faults.now();
            let mut wanted = self.spec();
            (wanted.width, wanted.height) = trouble.size.unwrap_or((wanted.width, wanted.height));
            if wanted != spec {
                spec = wanted;
                (drawn, encoder) = (scene(&spec), Self::encoder(&spec)?);
            }
            let period = Duration::from_secs_f64(1.0 / (spec.fps * trouble.pace));
            let late = self.started.0.elapsed().saturating_sub(due);
            // A starved machine makes fewer frames, it does not make them late.
            due += period * (1 + (late.as_secs_f64() / period.as_secs_f64()) as u32);
            std::thread::sleep(due.saturating_sub(self.started.0.elapsed()));
            let captured = self.started.1 + due.as_micros() as i64;
            let number = self.next_number.fetch_add(1, Ordering::Relaxed) & 0xff_ffff;
            let stalled = self.faults.now().stalled;
            // What was never sent cannot be built upon: after a stall a keyframe comes first.
            let resumes = std::mem::replace(&mut was_stalled, stalled) && !stalled;
            if self.want_keyframe.swap(false, Ordering::Relaxed) || resumes {
                encoder.force_intra_frame();
            }
            if let Some(head) = &self.head {
                drawn.look(head.lock().unwrap_or_else(PoisonError::into_inner).aim(Instant::now()));
            }
            let imaging = self.faults.imaging().clone();
            let picture = drawn.draw_in_trouble(captured, number, trouble.picture, &imaging);
            bytes.clear();
            encoder.encode(&picture)?.write_vec(&mut bytes);
            let nals: Vec<&[u8]> = annex_b(&bytes).collect();
            if nals.is_empty() {
                continue;
            }
            let keyframe = is_keyframe(&nals);
            let (ticks, payloads) = (self.ticks_at(captured), Arc::new(packetize(&nals, PAYLOAD)));
            let frame = CodedFrame { number, captured, ticks, keyframe, stalled, payloads, bytes: Arc::new(bytes.clone()) };
            let _ = self.sender.send(Arc::new(frame));
        }
    }

    /// The name that stands in the picture.
    fn name(&self, spec: &StreamSpec) -> &str {
        let channel = spec.channel.checked_sub(1).and_then(|index| self.camera.channel_names.get(index as usize));
        channel.unwrap_or(&self.camera.name)
    }

    /// Frames from one keyframe to the next.
    fn interval(spec: &StreamSpec) -> u32 {
        (spec.keyframe_interval.as_secs_f64() * spec.fps).round().max(1.0) as u32
    }

    fn encoder(spec: &StreamSpec) -> Result<Encoder, openh264::Error> {
        let interval = Self::interval(spec);
        let config = EncoderConfig::new()
            .usage_type(UsageType::CameraVideoRealTime)
            .rate_control_mode(RateControlMode::Bitrate)
            .bitrate(BitRate::from_bps(spec.kbps * 1000))
            .max_frame_rate(FrameRate::from_hz(spec.fps as f32))
            .intra_frame_period(IntraFramePeriod::from_num_frames(interval))
            .skip_frames(false)
            .complexity(Complexity::Low)
            .scene_change_detect(false)
            .adaptive_quantization(false)
            .background_detection(false)
            .num_threads(1)
            .vui(VuiConfig::bt709());
        Encoder::with_api_config(OpenH264API::from_source(), config)
    }
}
