//! From packets of sound to what a loudspeaker is given, each sample when its picture is on the screen.
//!
//! A [`Voice`] takes the samples of one stream as they arrive; a [`Mixer`] is asked for what is heard at a moment. A voice knows when
//! each of its samples is due, and plays a little faster or slower until it is there, so that neither the clock of the camera nor
//! that of the loudspeaker has to be right. Samples between samples are found by a windowed sinc.

use super::Heard;
use crate::Mono;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A voice holds no more than this.
const LONGEST: f64 = 6.0;
/// A gap of more than this between two packets is no loss: the voice begins anew.
const LARGEST_GAP: f64 = 1.0;
/// A packet is heard no sooner than so long after it arrived: what the next ones vary by.
const LEAST_WAIT: Duration = Duration::from_millis(60);
/// Where packets come too late for that, it becomes longer by how late they are and so much, up to so long,
const WAIT_STEP: Duration = Duration::from_millis(20);
const MOST_WAIT: Duration = Duration::from_millis(400);
/// and shorter again by a step when so many packets in a row came in time.
const IN_TIME: u32 = 1500;
/// When samples are due follows the packets by this share of each,
const FOLLOWS: f64 = 0.02;
/// or at once, after so many packets in a row that are off by so many microseconds.
const FAR: f64 = 250_000.0;
const FAR_PACKETS: u32 = 25;
/// A voice that is off by more than so many seconds leaps; by less it plays faster or slower, so that it would be there in
/// so many seconds, and by this share at most, which nobody hears.
const LEAP: f64 = 0.08;
const SOON: f64 = 2.0;
const MOST_SPEED: f64 = 0.005;
/// A voice becomes louder or softer over so many seconds.
const FADE: f32 = 0.01;

/// A left and a right sample.
type Frame = [f32; 2];

/// How a voice is heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Aligned {
    /// Nothing came yet.
    #[default]
    Nothing,
    /// When its picture is on the screen.
    WithPicture,
    /// So much after its picture: it comes later than the picture does.
    After(Duration),
    /// As it comes: how it lies to the picture is not known.
    AsItComes,
}

/// The sound of one stream on its way to the loudspeaker; cheap to clone.
#[derive(Debug, Clone, Default)]
pub struct Voice(Arc<Mutex<Line>>);

#[derive(Debug)]
struct Line {
    rate: f64,
    frames: VecDeque<Frame>,
    /// The timestamp of the first.
    first: i64,
    /// From the time of a timestamp to when it is due, in microseconds.
    offset: Option<f64>,
    far: u32,
    /// The timestamp that is heard next.
    at: Option<f64>,
    wait: Duration,
    in_time: u32,
    aligned: Aligned,
    gain: f32,
    wanted: f32,
}

impl Default for Line {
    fn default() -> Self {
        let (frames, wait, aligned) = (VecDeque::new(), LEAST_WAIT, Aligned::Nothing);
        Self { rate: 0.0, frames, first: 0, offset: None, far: 0, at: None, wait, in_time: 0, aligned, gain: 0.0, wanted: 1.0 }
    }
}

impl Voice {
    /// Samples arrived.
    pub fn push(&self, heard: &Heard<'_>) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(heard);
    }

    /// How loud it is from now on: a factor, 1 for as it is.
    pub fn set_gain(&self, gain: f32) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).wanted = gain.max(0.0);
    }

    /// Whether both are the same voice.
    #[must_use]
    pub fn is(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }

    /// How it lies to its picture.
    #[must_use]
    pub fn aligned(&self) -> Aligned {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).aligned
    }
}

impl Line {
    fn push(&mut self, heard: &Heard<'_>) {
        let (rate, channels) = (f64::from(heard.rate.hz()), usize::from(heard.channels.max(1)));
        let end = self.first + self.frames.len() as i64;
        let off = (heard.timestamp - end) as f64 / rate;
        if self.rate.to_bits() != rate.to_bits() || !(-LONGEST..LARGEST_GAP).contains(&off) {
            (self.rate, self.first, self.offset, self.at) = (rate, heard.timestamp, None, None);
            self.frames.clear();
        }
        self.note_due(heard);
        for (n, samples) in heard.samples.chunks_exact(channels).enumerate() {
            let frame = [samples[0], samples[usize::from(channels > 1)]];
            let Ok(place) = usize::try_from(heard.timestamp + n as i64 - self.first) else { continue };
            // What was lost is silence until it comes after all.
            if place >= self.frames.len() {
                self.frames.resize(place, [0.0; 2]);
                self.frames.push_back(frame);
            } else {
                self.frames[place] = frame;
            }
        }
        self.forget(self.frames.len().saturating_sub((LONGEST * rate) as usize));
    }

    fn forget(&mut self, frames: usize) {
        self.frames.drain(..frames.min(self.frames.len()));
        self.first += frames as i64;
    }

    /// When a packet is due, and with it the others.
    fn note_due(&mut self, heard: &Heard<'_>) {
        self.in_time += 1;
        let late = self.at.map_or(0.0, |at| (at - heard.timestamp as f64) / self.rate);
        if late > 0.0 {
            let wait = (self.wait + Duration::from_secs_f64(late.min(LARGEST_GAP)) + WAIT_STEP).min(MOST_WAIT);
            // What is heard waits at once, so that the next ones are not late as well.
            self.offset = self.offset.map(|offset| offset + wait.saturating_sub(self.wait).as_micros() as f64);
            (self.wait, self.in_time, self.at) = (wait, 0, None);
        } else if self.in_time >= IN_TIME {
            (self.wait, self.in_time) = (self.wait.saturating_sub(WAIT_STEP).max(LEAST_WAIT), 0);
        }
        let soonest = heard.arrival + self.wait;
        let due = heard.due.map_or(soonest, |due| due.max(soonest));
        self.aligned = match heard.due {
            None => Aligned::AsItComes,
            Some(wanted) if wanted >= soonest => Aligned::WithPicture,
            Some(wanted) => Aligned::After(soonest.since(wanted)),
        };
        let estimate = due.as_micros() as f64 - heard.timestamp as f64 / self.rate * 1e6;
        let offset = *self.offset.get_or_insert(estimate);
        self.far = if (estimate - offset).abs() > FAR { self.far + 1 } else { 0 };
        if self.far > FAR_PACKETS {
            (self.offset, self.far) = (Some(estimate), 0);
        } else {
            self.offset = Some(offset + (estimate - offset) * FOLLOWS);
        }
    }

    /// Adds what is heard from this moment on.
    fn add(&mut self, at: Mono, rate: u32, out: &mut [Frame]) {
        let Some(offset) = self.offset else { return };
        let due = (at.as_micros() as f64 - offset) / 1e6 * self.rate;
        let mut place = self.at.unwrap_or(due);
        let mut off = (due - place) / self.rate;
        if off.abs() > LEAP {
            (place, off, self.gain) = (due, 0.0, 0.0);
        }
        let speed = 1.0 + (off / SOON).clamp(-MOST_SPEED, MOST_SPEED);
        let (step, fade) = (self.rate / f64::from(rate) * speed, 1.0 / (FADE * rate as f32));
        for frame in out {
            self.gain += (self.wanted - self.gain).clamp(-fade, fade);
            let [left, right] = self.between(place);
            *frame = [frame[0] + left * self.gain, frame[1] + right * self.gain];
            place += step;
        }
        self.at = Some(place);
        let kept = place as i64 - sinc::REACH as i64;
        self.forget(usize::try_from(kept - self.first).unwrap_or(0).min(self.frames.len()));
    }

    /// What lies at a time between samples.
    fn between(&self, place: f64) -> Frame {
        let (whole, weights) = (place.floor(), sinc::weights(place - place.floor()));
        let first = whole as i64 - self.first - (sinc::REACH as i64 - 1);
        let mut sum = [0.0; 2];
        for (n, weight) in weights.iter().enumerate() {
            let frame = usize::try_from(first + n as i64).ok().and_then(|place| self.frames.get(place));
            if let Some([left, right]) = frame {
                sum = [sum[0] + left * weight, sum[1] + right * weight];
            }
        }
        sum
    }
}

/// All voices together; cheap to clone.
#[derive(Debug, Clone, Default)]
pub struct Mixer(Arc<Mutex<(Vec<Voice>, Vec<Frame>)>>);

impl Mixer {
    /// One more voice.
    #[must_use]
    pub fn voice(&self) -> Voice {
        let voice = Voice::default();
        self.0.lock().unwrap_or_else(PoisonError::into_inner).0.push(voice.clone());
        voice
    }

    /// This voice is heard no more.
    pub fn remove(&self, voice: &Voice) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).0.retain(|one| !one.is(voice));
    }

    /// What is heard from a moment on, interleaved by channel, full scale at ±1: mono for one channel, left and right for more.
    pub fn fill(&self, at: Mono, rate: u32, channels: usize, out: &mut [f32]) {
        let (voices, frames) = &mut *self.0.lock().unwrap_or_else(PoisonError::into_inner);
        frames.clear();
        frames.resize(out.len() / channels.max(1), [0.0; 2]);
        for voice in voices {
            voice.0.lock().unwrap_or_else(PoisonError::into_inner).add(at, rate, frames);
        }
        for (places, [left, right]) in out.chunks_exact_mut(channels.max(1)).zip(frames) {
            places.fill(0.0);
            match places {
                [one] => *one = f32::midpoint(*left, *right).clamp(-1.0, 1.0),
                [first, second, ..] => (*first, *second) = (left.clamp(-1.0, 1.0), right.clamp(-1.0, 1.0)),
                [] => {}
            }
        }
    }
}

/// What a loudspeaker tells.
pub trait Speaker: Send {
    /// Its name, as the system has it.
    fn name(&self) -> String;

    /// Why it plays no more, once; `None` while it plays.
    fn fault(&mut self) -> Option<String>;
}

/// Opens the loudspeaker of this machine, and lets it ask the mixer for what is heard at moments of a clock; fails with a clause for
/// people.
pub type OpenSpeaker = fn(Mixer, fn() -> Mono) -> Result<Box<dyn Speaker>, String>;

/// Weights of the samples around a time between two of them.
mod sinc {
    use std::sync::LazyLock;

    /// Samples on each side.
    pub const REACH: usize = 8;
    const STEPS: usize = 256;
    type Weights = [f32; 2 * REACH];

    static TABLE: LazyLock<Vec<Weights>> = LazyLock::new(|| {
        let weight = |x: f64| {
            let sinc = if x.abs() < 1e-9 { 1.0 } else { (std::f64::consts::PI * x).sin() / (std::f64::consts::PI * x) };
            // A Hann window over all of them.
            sinc * (std::f64::consts::FRAC_PI_2 * x / REACH as f64).cos().powi(2)
        };
        let at = |step: usize| {
            let part = step as f64 / STEPS as f64;
            let weights: [f64; 2 * REACH] = std::array::from_fn(|n| weight(n as f64 - (REACH as f64 - 1.0) - part));
            let sum: f64 = weights.iter().sum();
            weights.map(|weight| (weight / sum) as f32)
        };
        (0..=STEPS).map(at).collect()
    });

    /// Those of the samples from `REACH - 1` before to `REACH` after, `part` of the way from one to the next.
    pub fn weights(part: f64) -> &'static Weights {
        &TABLE[(part * STEPS as f64).round() as usize % (STEPS + 1)]
    }
}

#[cfg(test)]
mod tests;
