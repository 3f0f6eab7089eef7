//! What devices say of themselves while the wall runs: clock, maker, firmware, serial number.

use super::{Errands, JobNews, Outcome, exposure_of, take_in};
use crate::device::{Line, Urgency};
use crate::kept::trust_of;
use lattice_core::clock::{Told, off_text};
use lattice_core::find::Exposure;
use lattice_core::onvif::DeviceInformation;
use lattice_core::target::Target;
use lattice_core::{Credentials, SourceUrl, Wall};
use lattice_net::{DeviceError, Trust, clock, describe};
use lattice_store::Camera;
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;

/// Devices that are asked at the same time.
const AT_ONCE: usize = 8;
/// Everything that is asked of one: its clock takes up to a question a second.
const WITHIN: Duration = Duration::from_secs(30);
/// A description of one stream.
const DESCRIBE_WITHIN: Duration = Duration::from_secs(3);
/// How often all are asked.
pub const EVERY: Duration = Duration::from_secs(300);

/// A device, with the sign-in that it is asked with.
type Asked = (String, u16, Option<String>);

/// What was asked and said before.
#[derive(Default)]
pub(crate) struct Survey {
    /// Sign-ins that were refused: never tried again by itself, so that no account gets locked.
    refused: HashSet<Asked>,
    /// Serial numbers that were complained of, by camera.
    strangers: HashSet<(String, String)>,
    /// Cameras whose clocks were warned of, until they are right again.
    clocks: HashSet<String>,
}

/// What a device said of itself.
pub(crate) struct Surveyed {
    asked: Asked,
    /// The cameras behind it, by name.
    pub names: Vec<String>,
    information: Option<DeviceInformation>,
    /// Its clock.
    pub clock: Option<Told>,
    /// Why it lies open, if it does.
    pub exposed: Option<Exposure>,
    refused: bool,
    /// Its lasting name.
    endpoint: Option<String>,
    /// It answers.
    there: bool,
}

#[cfg(test)]
impl Surveyed {
    /// What a device behind these cameras said.
    pub fn of(host: &str, names: &[&str], information: Option<DeviceInformation>, clock: Option<Told>) -> Self {
        let names = names.iter().map(|name| (*name).to_owned()).collect();
        Self {
            asked: (host.to_owned(), 80, None),
            names,
            information,
            clock,
            exposed: None,
            refused: false,
            endpoint: None,
            there: false,
        }
    }
}

/// What is known of a device before it is asked.
struct Subject {
    asked: Asked,
    names: Vec<String>,
    /// A stream of it, without a sign-in.
    stream: Option<SourceUrl>,
    credentials: Option<Credentials>,
    trust: Trust,
}

async fn ask(line: &mut Line, subject: Subject, may_sign: bool) -> Surveyed {
    let device = line.device();
    let Subject { asked, names, stream, credentials, trust } = subject;
    let mut surveyed =
        Surveyed { asked, names, information: None, clock: None, exposed: None, refused: false, endpoint: None, there: false };
    if device.greet().await.is_err_and(|error| !matches!(error, DeviceError::SignInNeeded)) {
        return surveyed;
    }
    match device.information(may_sign).await {
        Ok(information) => surveyed.information = Some(information),
        Err(error) => surveyed.refused = may_sign && error.is_sign_in(),
    }
    // Asked without a sign-in, so no account is tried.
    let first_use = device.users(false).await.is_ok_and(|users| users.is_empty());
    let open = match stream {
        Some(stream) => describe(&stream, None, trust, DESCRIBE_WITHIN).await.is_open(),
        None => false,
    };
    let found = if first_use { Some(Exposure::FirstUse) } else { open.then_some(Exposure::NoPassword) };
    surveyed.exposed = exposure_of(credentials.as_ref(), found);
    surveyed.endpoint = device.endpoint().await;
    surveyed.there = true;
    surveyed
}

impl Errands {
    /// Asks the devices of these cameras, or of all; news follow.
    pub fn survey(&mut self, names: Option<&[String]>) {
        self.ask_later(names);
        let mut devices: BTreeMap<Asked, Vec<String>> = BTreeMap::new();
        for camera in self.kept.file.site().cameras.iter().filter(|camera| !camera.disabled) {
            if let (Some(host), Some(port)) = (&camera.address, camera.service_port) {
                devices.entry((host.clone(), port, camera.sign_in.clone())).or_default().push(camera.name.clone());
            }
        }
        devices.retain(|_, cameras| names.is_none_or(|names| cameras.iter().any(|name| names.contains(name))));
        let limit = Arc::new(Semaphore::new(AT_ONCE));
        for (asked, cameras) in devices {
            let Some((device, key, signed)) = cameras.first().and_then(|name| self.device(name).ok()) else { continue };
            let may_sign = signed && !self.survey.refused.contains(&asked);
            let camera = cameras.first().and_then(|name| self.kept.file.site().camera(name)).cloned().unwrap_or_default();
            let stream = cameras.iter().filter_map(|name| self.kept.file.site().camera(name)).find_map(first_stream);
            let credentials = self.kept.credentials(&camera).ok().flatten();
            let subject = Subject { asked, names: cameras, stream, credentials, trust: trust_of(&camera) };
            let (news, limit, queues) = (self.news.clone(), limit.clone(), self.queues.clone());
            self.runtime.spawn(async move {
                let _permit = limit.acquire().await;
                let (tell, told) = tokio::sync::oneshot::channel();
                // One that is busy is asked at the next survey.
                let _ = queues.ask(&key, device, Urgency::Usual, move |line| {
                    Box::pin(async move { drop(tell.send((ask(line, subject, may_sign).await, line.device().clone()))) })
                });
                let surveyed = tokio::time::timeout(WITHIN, async {
                    let (surveyed, device) = told.await.ok()?;
                    // Reading the clock takes seconds, mostly of waiting: nothing waits for it.
                    let offset = if surveyed.there { device.clock_offset().await.ok().flatten() } else { None };
                    Some(Surveyed { clock: offset.map(|offset| Told { offset, at: clock::pair().wall }), ..surveyed })
                });
                if let Ok(Some(surveyed)) = surveyed.await {
                    let _ = news.send(JobNews::Surveyed(surveyed));
                }
            });
        }
    }

    /// Asks again for the streams of cameras that could not be reached when they were added.
    fn ask_later(&self, names: Option<&[String]>) {
        for camera in &self.kept.file.site().cameras {
            let Some(host) = camera.address.clone() else { continue };
            let recorder = self.kept.file.site().cameras.iter().any(|one| one.recorder.as_ref() == Some(&camera.name));
            let wanted = names.is_none_or(|names| names.contains(&camera.name));
            let refused = self.survey.refused.contains(&later(camera, &host));
            if !camera.streams.is_empty() || camera.disabled || recorder || refused || !wanted {
                continue;
            }
            let Ok(credentials) = self.kept.credentials(camera) else { continue };
            let target = Target::Device { host, port: camera.service_port, credentials, encrypted: camera.is_encrypted() };
            let (news, patterns, name, trust) = (self.news.clone(), self.patterns.clone(), camera.name.clone(), trust_of(camera));
            self.runtime.spawn(async move {
                if let Ok(asked) = tokio::time::timeout(WITHIN, take_in(&target, &patterns, trust)).await {
                    let _ = news.send(JobNews::Later(name, asked));
                }
            });
        }
    }

    /// Such a camera is not asked again by itself: its sign-in was refused, or it is no single camera.
    pub(crate) fn refuse_later(&mut self, camera: &Camera) {
        if let Some(host) = &camera.address {
            self.survey.refused.insert(later(camera, host));
        }
    }

    /// Cameras have another sign-in: what was refused before may be tried once more.
    pub fn forget_refusals(&mut self, names: &[String]) {
        let site = self.kept.file.site();
        let hosts: Vec<&str> = names.iter().filter_map(|name| site.camera(name)?.address.as_deref()).collect();
        self.survey.refused.retain(|(host, ..)| !hosts.contains(&host.as_str()));
    }

    /// A device said what it is: what is new of it goes into the site.
    pub fn on_surveyed(&mut self, surveyed: &Surveyed) -> Outcome {
        if surveyed.refused {
            self.survey.refused.insert(surveyed.asked.clone());
        }
        Self::keep_identity(surveyed);
        let mut outcome = Outcome { say: self.judge_clock(surveyed), ..Outcome::default() };
        let Some(said) = &surveyed.information else { return outcome };
        let mut changed = Vec::new();
        for camera in surveyed.names.iter().filter_map(|name| self.kept.file.site().camera(name)) {
            if camera.recorder.is_some() {
                continue; // the recorder answers, not the camera behind it
            }
            match learn(camera, said) {
                Learnt::Nothing => {}
                Learnt::Stranger(serial) => {
                    if self.survey.strangers.insert((camera.name.clone(), serial.clone())) {
                        outcome.say = Some(format!(
                            "{}: another device answers at {} (serial {serial}, it was {}): its address moved, or two devices share it; check it with i",
                            camera.name,
                            surveyed.asked.0,
                            camera.serial.as_deref().unwrap_or("not known"),
                        ));
                    }
                }
                Learnt::More(camera, say) => {
                    outcome.say = say.or(outcome.say);
                    changed.push(*camera);
                }
            }
        }
        if !changed.is_empty() {
            // Where the file was edited meanwhile it is read again first; the next survey tells the same.
            let _ = self.change(|editor| changed.iter().try_for_each(|camera| editor.put_camera(camera)));
        }
        outcome
    }

    /// A warning where a clock is off by more than the site allows: once, until it is right again.
    fn judge_clock(&mut self, surveyed: &Surveyed) -> Option<String> {
        let name = surveyed.names.first()?;
        let off = surveyed.clock?.offset.micros;
        if u128::from(off.unsigned_abs()) <= self.kept.file.site().clock_limit().as_micros() {
            self.survey.clocks.remove(name);
            return None;
        }
        let new = self.survey.clocks.insert(name.clone());
        new.then(|| format!("{name}: its clock is {}; t on its device page (c, then d) sets it", off_text(off)))
    }

    /// Remembers what a device is found by when its address changes.
    fn keep_identity(surveyed: &Surveyed) {
        let Ok(mut sightings) = crate::kept::sightings() else { return };
        let (host, endpoint) = (&surveyed.asked.0, &surveyed.endpoint);
        if endpoint.is_none() || sightings.of(host).is_some_and(|seen| seen.endpoint == *endpoint) {
            return;
        }
        let at = clock::pair().wall.as_unix_micros() / 1_000_000;
        sightings.note(host, lattice_store::Sighting { endpoint: endpoint.clone(), at, ..lattice_store::Sighting::default() });
        if let Err(error) = sightings.save() {
            tracing::warn!("what was last seen cannot be kept: {error}");
        }
    }

    /// Remembers when cameras were seen last, and how strongly they asked for their sign-ins, for the next start.
    pub fn keep_seen(&self, seen: &BTreeMap<String, i64>) {
        if let Err(error) = self.kept.strengths.save() {
            tracing::warn!("what was learned of sign-ins cannot be kept: {error}");
        }
        let Ok(mut sightings) = crate::kept::sightings() else { return };
        for (name, at) in seen {
            if let Some(key) = self.kept.file.site().camera(name).and_then(seen_key) {
                sightings.note(&key, lattice_store::Sighting { at: *at, ..lattice_store::Sighting::default() });
            }
        }
        if let Err(error) = sightings.save() {
            tracing::warn!("what was last seen cannot be kept: {error}");
        }
    }

    /// When cameras were seen last, as far as is remembered.
    pub fn seen(&self) -> BTreeMap<String, i64> {
        let Ok(sightings) = crate::kept::sightings() else { return BTreeMap::new() };
        let at = |camera: &Camera| Some((camera.name.clone(), last_seen(camera, &sightings)?));
        self.kept.file.site().cameras.iter().filter_map(at).collect()
    }
}

/// Under this a camera without streams is known among what was refused.
fn later(camera: &Camera, host: &str) -> Asked {
    (host.to_owned(), camera.service_port.unwrap_or(0), camera.sign_in.clone())
}

fn first_stream(camera: &Camera) -> Option<SourceUrl> {
    camera.streams.iter().find_map(|stream| match &stream.target {
        Target::Url(url) if url.scheme().is_rtsp() => Some(url.clone()),
        _ => None,
    })
}

/// When something was last received from a camera, seconds UTC, as far as is remembered.
#[must_use]
pub fn last_seen(camera: &Camera, sightings: &lattice_store::Sightings) -> Option<i64> {
    Some(sightings.of(&seen_key(camera)?)?.at).filter(|at| *at > 0)
}

/// A camera is remembered by its first stream, which stays when it is renamed.
fn seen_key(camera: &Camera) -> Option<String> {
    camera.streams.first().map(|stream| stream.target.to_string())
}

enum Learnt {
    Nothing,
    /// Another device, with this serial number.
    Stranger(String),
    /// The camera with what is new of it, and what to say.
    More(Box<Camera>, Option<String>),
}

fn learn(camera: &Camera, said: &DeviceInformation) -> Learnt {
    if let (Some(old), Some(new)) = (&camera.serial, &said.serial)
        && old != new
    {
        return Learnt::Stranger(new.clone());
    }
    let newer = |new: &Option<String>, old: &Option<String>| new.clone().or_else(|| old.clone());
    let now = Camera {
        maker: newer(&said.maker, &camera.maker),
        model: newer(&said.model, &camera.model),
        firmware: newer(&said.firmware, &camera.firmware),
        serial: newer(&said.serial, &camera.serial),
        ..camera.clone()
    };
    if now == *camera {
        return Learnt::Nothing;
    }
    let say = match (&camera.firmware, &now.firmware) {
        (Some(old), Some(new)) if old != new => Some(format!("{}: its firmware is {new} now, it was {old}", camera.name)),
        _ => None,
    };
    Learnt::More(Box::new(now), say)
}

/// How long ago something was, in words; `now` for what is not over.
#[must_use]
pub fn ago(at: i64, now: Wall) -> String {
    let seconds = now.as_unix_micros() / 1_000_000 - at;
    match seconds {
        ..=5 => "now".into(),
        6..=119 => format!("{seconds} s ago"),
        120..=7_199 => format!("{} min ago", seconds / 60),
        7_200..=172_799 => format!("{} h ago", seconds / 3_600),
        _ => format!("{} d ago", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_device_says_fills_gaps_and_a_stranger_is_told_apart() {
        let text = |text: &str| Some(text.to_owned());
        let said = DeviceInformation { maker: text("Corvane"), model: text("C-2"), firmware: text("2.1"), serial: text("TH-1") };
        let bare = Camera { name: "Gate".into(), ..Camera::default() };
        let Learnt::More(camera, None) = learn(&bare, &said) else { panic!("it is all new") };
        assert_eq!((camera.maker.as_deref(), camera.serial.as_deref()), (Some("Corvane"), Some("TH-1")));
        assert!(matches!(learn(&camera, &said), Learnt::Nothing));
        let updated = DeviceInformation { firmware: text("2.2"), ..said.clone() };
        let Learnt::More(_, Some(say)) = learn(&camera, &updated) else { panic!("a newer firmware is told") };
        assert!(say.contains("2.2 now, it was 2.1"));
        let other = DeviceInformation { serial: text("TH-9"), ..said };
        assert!(matches!(learn(&camera, &other), Learnt::Stranger(serial) if serial == "TH-9"));
    }

    #[test]
    fn ages_are_told_in_the_unit_that_fits() {
        let now = Wall::from_unix_micros(1_795_500_000_000_000);
        let at = |seconds: i64| ago(1_795_500_000 - seconds, now);
        assert_eq!(
            [at(-3), at(2), at(90), at(600), at(8_000), at(300_000)].join(", "),
            "now, now, 90 s ago, 10 min ago, 2 h ago, 3 d ago"
        );
    }
}
