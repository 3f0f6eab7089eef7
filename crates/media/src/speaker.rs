//! The loudspeaker of this machine, through its sound system.

use cpal::traits::{DeviceTrait, HostTrait, StreamTrait};
use cpal::{ErrorKind, FromSample, OutputCallbackInfo, SampleFormat, SizedSample, Stream, SupportedStreamConfig};
use lattice_core::Mono;
use lattice_core::sound::{Mixer, Speaker};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

type Fault = Arc<Mutex<Option<String>>>;

/// Some sound systems fail until they know their own delay: what lasts no longer than this is no fault.
const PASSES_WITHIN: Duration = Duration::from_secs(3);
/// After such a failure it is tried again.
const TRIED_AGAIN: Duration = Duration::from_millis(5);

struct Open {
    name: String,
    fault: Fault,
    /// It plays as long as it is kept.
    _stream: Stream,
}

impl Speaker for Open {
    fn name(&self) -> String {
        self.name.clone()
    }

    fn fault(&mut self) -> Option<String> {
        self.fault.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

/// Opens the sound system's default output, which asks `mixer` for what is heard at moments of `clock`.
///
/// # Errors
/// A clause for people: there is no output, or it cannot be used.
pub fn open(mixer: Mixer, clock: fn() -> Mono) -> Result<Box<dyn Speaker>, String> {
    let device = cpal::default_host().default_output_device().ok_or("this machine has no sound output")?;
    let config = device.default_output_config().map_err(|error| error.to_string())?;
    let name = device.description().map_or_else(|_| "the default output".to_owned(), |about| about.name().to_owned());
    let fault = Fault::default();
    let play = Play { mixer, clock, fault: fault.clone() };
    let stream = match config.sample_format() {
        SampleFormat::F32 => play.build::<f32>(&device, &config),
        SampleFormat::I16 => play.build::<i16>(&device, &config),
        SampleFormat::I32 => play.build::<i32>(&device, &config),
        SampleFormat::U8 => play.build::<u8>(&device, &config),
        other => return Err(format!("{name} takes samples of the kind {other} only")),
    };
    let stream = stream.map_err(|error| format!("{name} cannot be used: {error}"))?;
    stream.play().map_err(|error| format!("{name} does not play: {error}"))?;
    Ok(Box::new(Open { name: lattice_core::text::plain(&name), fault, _stream: stream }))
}

struct Play {
    mixer: Mixer,
    clock: fn() -> Mono,
    fault: Fault,
}

impl Play {
    fn build<T: SizedSample + FromSample<f32>>(
        self,
        device: &cpal::Device,
        config: &SupportedStreamConfig,
    ) -> Result<Stream, cpal::Error> {
        let Self { mixer, clock, fault } = self;
        let (rate, channels) = (config.sample_rate(), usize::from(config.channels()));
        let asked = Arc::new(AtomicU64::new(clock().as_micros()));
        let (mut samples, asks) = (Vec::new(), asked.clone());
        let fill = move |out: &mut [T], info: &OutputCallbackInfo| {
            let (stamp, now) = (info.timestamp(), clock());
            asks.store(now.as_micros(), Ordering::Relaxed);
            let ahead = stamp.playback.saturating_duration_since(stamp.callback);
            samples.resize(out.len(), 0.0_f32);
            mixer.fill(now + ahead, rate, channels, &mut samples);
            for (place, sample) in out.iter_mut().zip(&samples) {
                *place = T::from_sample(*sample);
            }
        };
        let failed = move |error: cpal::Error| {
            let silent = Duration::from_micros(clock().as_micros().saturating_sub(asked.load(Ordering::Relaxed)));
            match error.kind() {
                // It plays on.
                ErrorKind::Xrun | ErrorKind::DeviceChanged | ErrorKind::RealtimeDenied => tracing::debug!(%error, "sound output"),
                ErrorKind::BackendError | ErrorKind::DeviceBusy | ErrorKind::Other if silent < PASSES_WITHIN => {
                    std::thread::sleep(TRIED_AGAIN);
                }
                _ => *fault.lock().unwrap_or_else(PoisonError::into_inner) = Some(error.to_string()),
            }
        };
        device.build_output_stream(config.config(), fill, failed, None)
    }
}
