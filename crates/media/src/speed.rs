//! How much this machine decodes, measured.

use crate::H264Decoder;
use crossbeam_channel::{Receiver, bounded};
use lattice_core::video::{NalKind, annex_b};
use nix::time::ClockId;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// Two seconds of a 640 × 360 stream, Constrained Baseline.
const CLIP: &[u8] = include_bytes!("../../../fixtures/streams/h264_cbaseline_640x360_25.h264");
const CLIP_PIXELS: f64 = 640.0 * 360.0;
/// Pictures of a stretch, which has a keyframe as the stream has one.
const STRETCH: u32 = 25;
/// How long is decoded, in time of a core.
const FOR: Duration = Duration::from_millis(80);

/// Decodes a short stream on a thread of its own, on one core; the channel gives the megapixels a second that all cores
/// would decode together.
#[must_use]
pub fn measure_decoding() -> Receiver<f64> {
    let (sender, receiver) = bounded(1);
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    let work = move || {
        if let Some(one) = one_core() {
            let _ = sender.send(one * cores as f64);
        }
    };
    let _ = std::thread::Builder::new().name("calibrate".into()).spawn(work);
    receiver
}

/// Megapixels a second on one core.
fn one_core() -> Option<f64> {
    let mut units: Vec<Vec<u8>> = Vec::new();
    for nal in annex_b(CLIP) {
        if nal.first().is_some_and(|first| NalKind::of(*first) == NalKind::Delimiter) {
            units.push(Vec::new());
        }
        let unit = units.last_mut()?;
        unit.extend([0, 0, 0, 1]);
        unit.extend_from_slice(nal);
    }
    let mut decoder = H264Decoder::new().ok()?;
    let rate = |pictures: u32, took: Duration| f64::from(pictures) * CLIP_PIXELS / 1e6 / took.as_secs_f64().max(1e-9);
    let (begin, mut pictures) = (core_time(), 0u32);
    let (mut stretch, mut best) = ((begin, 0u32), None::<f64>);
    for (number, unit) in (0..).zip(units.iter().cycle()) {
        if core_time().saturating_sub(begin) >= FOR {
            break;
        }
        pictures += u32::from(matches!(decoder.decode(number, unit), Ok(Some(_))));
        // The best stretch counts: in the others somebody else used the same core.
        if pictures - stretch.1 == STRETCH {
            let own = rate(STRETCH, core_time().saturating_sub(stretch.0));
            best = Some(best.map_or(own, |best| best.max(own)));
            stretch = (core_time(), pictures);
        }
    }
    best.or_else(|| (pictures > 0).then(|| rate(pictures, core_time().saturating_sub(begin))))
}

/// The time that this thread has had a core: a machine that is busy at the start decodes no less afterwards.
fn core_time() -> Duration {
    static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);
    ClockId::CLOCK_THREAD_CPUTIME_ID.now().map_or_else(|_| BEGUN.elapsed(), Duration::from)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn this_machine_decodes_something() {
        let measured = measure_decoding().recv_timeout(Duration::from_secs(20)).unwrap();
        // A figure that says nothing of the machine would be the same for an empty clip.
        assert!(measured > 1.0 && measured < 1e6, "{measured} MP/s");
        // Its core is taken by others for most of the time: it is no other machine.
        let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
        let done = std::sync::atomic::AtomicBool::new(false);
        let busy = std::thread::scope(|scope| {
            for _ in 0..16 * cores {
                scope.spawn(|| {
                    while !done.load(std::sync::atomic::Ordering::Relaxed) {
                        std::hint::spin_loop();
                    }
                });
            }
            let busy = measure_decoding().recv_timeout(Duration::from_secs(60));
            done.store(true, std::sync::atomic::Ordering::Relaxed);
            busy.unwrap()
        });
        assert!(busy > measured / 6.0, "{busy} MP/s beside others, {measured} MP/s alone");
    }
}
