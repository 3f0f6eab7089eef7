//! A camera's streams: as the wall opens them, and what the operator changes of them.

use super::{DeviceNews, Errands, Intake, JobNews, Outcome, Trouble, take_in};
use crate::camera::CameraDef;
use crate::feeds::{Feed, Pictures};
use crate::kept::trust_of;
use lattice_core::srtp::MasterKey;
use lattice_core::target::Target;
use lattice_core::{Secret, SourceUrl, TransportChoice, Verdict};
use lattice_net::{Origin, SourceConfig};
use lattice_store::site::CertificateTrust;
use lattice_store::{Camera, Role, Stream};
use std::sync::Arc;
use std::time::Duration;

/// Longest that a stream is waited for, and how long it is measured then.
const PROBE_WITHIN: Duration = Duration::from_secs(8);
const PROBE_FOR: Duration = Duration::from_millis(2_500);
/// Everything that is asked of a device for its live streams.
const LIVE_WITHIN: Duration = Duration::from_secs(15);

/// A stream received for a moment, without decoding it.
async fn measure(
    runtime: &tokio::runtime::Handle,
    url: SourceUrl,
    camera: &CameraDef,
) -> Result<Arc<lattice_core::meter::Figures>, String> {
    let key = camera.streams.iter().find_map(|stream| stream.key.clone());
    let origin = Origin::Url(url);
    let config = SourceConfig { trust: camera.trust, key, ..SourceConfig::from_origin(origin, camera.transport) };
    let feed = Feed::open(runtime, None, config, Pictures::default());
    let began = tokio::time::Instant::now();
    let mut first = None;
    loop {
        tokio::time::sleep(Duration::from_millis(100)).await;
        let figures = feed.figures();
        if figures.packets.received > 0 {
            first.get_or_insert_with(tokio::time::Instant::now);
        }
        let failed = matches!(figures.verdict, Verdict::Lost | Verdict::Locked);
        let enough = first.is_some_and(|first| first.elapsed() >= PROBE_FOR) || began.elapsed() >= PROBE_WITHIN;
        if failed || (enough && first.is_none()) {
            feed.close();
            let cause = figures.cause.map(|cause| cause.to_string());
            return Err(figures.text.clone().or(cause).unwrap_or_else(|| "no packet came in 8 s".into()));
        }
        if enough {
            feed.close();
            return Ok(figures);
        }
    }
}

/// A camera whose device is at another address now.
fn moved(camera: &Camera, from: &str, to: &str) -> Camera {
    let stream = |stream: &Stream| {
        let target = match &stream.target {
            Target::Url(url) if url.host() == from => Target::Url(url.clone().with_host(to)),
            other => other.clone(),
        };
        Stream { target, ..stream.clone() }
    };
    Camera { address: Some(to.to_owned()), streams: camera.streams.iter().map(stream).collect(), ..camera.clone() }
}

impl Errands {
    fn renewed(&self, name: &str, say: String) -> Outcome {
        let renewed = self.kept.file.site().camera(name).and_then(|camera| self.definition(camera));
        Outcome { renewed: renewed.into_iter().collect(), say: Some(say), ..Outcome::default() }
    }

    /// Keeps the key of a camera's encrypted streams.
    pub(super) fn keep_key(&mut self, name: &str, key: &Secret<String>) -> Result<Outcome, String> {
        MasterKey::entered(key.reveal()).map_err(|error| format!("this is no key: {error}"))?;
        for stream in self.camera(name)?.streams {
            let kept = self.kept.secrets.keep_key(&stream.target.to_string(), Some(key));
            kept.map_err(|error| format!("the key was not kept: {error}"))?;
        }
        Ok(self.renewed(name, format!("{name} is opened with the key")))
    }

    /// Judges a camera's certificate so from now on.
    pub(super) fn trust(&mut self, name: &str, trust: CertificateTrust) -> Result<Outcome, String> {
        let say = match &trust {
            CertificateTrust::Verify => format!("the certificate of {name} is verified"),
            CertificateTrust::Pinned(_) => format!("{name} is opened when it shows this certificate, and no other"),
            CertificateTrust::Off => {
                format!("the certificate of {name} is not verified any more: anyone could answer in its place")
            }
        };
        let camera = Camera { trust, ..self.camera(name)? };
        self.change(|editor| editor.put_camera(&camera))?;
        Ok(self.renewed(name, say))
    }

    /// Asks the device of a camera that shows stills for its streams.
    pub(super) fn look_for_live(&self, name: &str) -> Result<(), String> {
        let camera = self.camera(name)?;
        let host = camera.address.clone().ok_or_else(|| format!("{name} has no device that could be asked for a stream"))?;
        let credentials = self.kept.credentials(&camera)?;
        let target = Target::Device { host, port: camera.service_port, credentials, encrypted: camera.is_encrypted() };
        let (news, patterns, name, trust) = (self.news.clone(), self.patterns.clone(), name.to_owned(), trust_of(&camera));
        self.runtime.spawn(async move {
            let asked = tokio::time::timeout(LIVE_WITHIN, take_in(&target, &patterns, trust)).await;
            let late = || Trouble { cause: lattice_core::Cause::Silence, text: format!("{target} did not answer in 15 s") };
            let _ = news.send(JobNews::Live(name, asked.unwrap_or_else(|_| Err(late()))));
        });
        Ok(())
    }

    /// The device was asked: its streams come before the still, which is kept as the third.
    pub fn on_live(&mut self, name: &str, result: Result<Intake, Trouble>) -> Result<Outcome, String> {
        let camera = self.camera(name)?;
        let intake = result.map_err(|trouble| format!("{name} stays a still: {}", trouble.text))?;
        let live = |camera: &Camera| {
            let is_live = |stream: &&Stream| matches!(&stream.target, Target::Url(url) if url.scheme().is_rtsp());
            camera.streams.iter().filter(is_live).take(2).cloned().collect::<Vec<_>>()
        };
        let with_streams: Vec<&Camera> = intake.cameras.iter().filter(|camera| !live(camera).is_empty()).collect();
        let [found] = with_streams.as_slice() else {
            return Err(match with_streams.len() {
                0 => format!("{name} stays a still: its device offers no stream"),
                n => format!("{name} stays a still: its address is that of a recorder with {n} channels; add it by its address"),
            });
        };
        let mut streams = live(found);
        streams.extend(camera.streams.iter().take(1).map(|still| Stream { role: Role::Third, ..still.clone() }));
        let changed = Camera {
            streams,
            service_port: found.service_port.or(camera.service_port),
            device_name: camera.device_name.clone().or_else(|| found.device_name.clone()),
            maker: found.maker.clone(),
            model: found.model.clone(),
            firmware: found.firmware.clone(),
            serial: found.serial.clone(),
            ..camera
        };
        self.change(|editor| editor.put_camera(&changed))?;
        Ok(self.renewed(name, format!("{name} is live; its still is kept as its third stream")))
    }

    /// A device answers elsewhere now: its camera, or all that hangs under it, goes along.
    pub(super) fn readdress(&mut self, name: &str, to: &str) -> Result<Outcome, String> {
        let camera = self.camera(name)?;
        let before = camera.address.clone().ok_or_else(|| format!("{name} has no address that could change"))?;
        let site = self.kept.file.site();
        let old: Vec<Camera> = site.cameras.iter().filter(|one| one.address.as_ref() == Some(&before)).cloned().collect();
        let changed: Vec<Camera> = old.iter().map(|one| moved(one, &before, to)).collect();
        for (camera, old) in changed.iter().zip(&old) {
            self.carry_over(old, camera)?;
        }
        self.change(|editor| changed.iter().try_for_each(|camera| editor.put_camera(camera)))?;
        let renewed = changed.iter().filter_map(|camera| self.definition(camera)).collect();
        let names: Vec<String> = changed.iter().map(|camera| camera.name.clone()).collect();
        self.survey(Some(&names));
        Ok(Outcome { renewed, say: Some(format!("{}: at {to} now, it was {before}", names.join(", "))), ..Outcome::default() })
    }

    /// What is kept apart of streams stays theirs when their addresses change: keys, and secrets of the addresses.
    fn carry_over(&mut self, old: &Camera, new: &Camera) -> Result<(), String> {
        let secrets = &mut self.kept.secrets;
        for (old, new) in old.streams.iter().zip(&new.streams).filter(|(old, new)| old.target != new.target) {
            let (old, new) = (old.target.to_string(), new.target.to_string());
            let carried = (|| {
                if let Some(key) = secrets.key(&old)? {
                    secrets.keep_key(&new, Some(&key))?;
                }
                if let Some(query) = secrets.query(&old)? {
                    secrets.keep_query(&new, Some(&query))?;
                }
                Ok(())
            })();
            carried.map_err(|error: lattice_store::SecretError| error.to_string())?;
        }
        Ok(())
    }

    /// How the packets of a camera are asked for from now on.
    pub(super) fn set_transport(&mut self, name: &str, transport: TransportChoice) -> Result<Outcome, String> {
        let camera = Camera { transport, ..self.camera(name)? };
        self.change(|editor| editor.put_camera(&camera))?;
        let word = match transport {
            TransportChoice::Auto => "UDP first, TCP where nothing comes",
            TransportChoice::Udp => "UDP only",
            TransportChoice::Tcp => "TCP only",
        };
        let say = Some(format!("{name}: {word}"));
        Ok(Outcome { renewed: self.definition(&camera).into_iter().collect(), say, ..Outcome::default() })
    }

    /// How often the stills of a camera are fetched from now on.
    pub(super) fn set_interval(&mut self, name: &str, every: Duration) -> Result<Outcome, String> {
        let mut camera = self.camera(name)?;
        let stills = camera.streams.iter_mut().filter(|stream| stream.interval.is_some());
        let count = stills.map(|stream| stream.interval = Some(every)).count();
        if count == 0 {
            return Err(format!("{name} shows no stills: its pictures come by themselves"));
        }
        self.change(|editor| editor.put_camera(&camera))?;
        let say = Some(format!("{name}: a still every {} s", every.as_secs_f64()));
        Ok(Outcome { renewed: self.definition(&camera).into_iter().collect(), say, ..Outcome::default() })
    }

    /// A camera that was added while it could not be reached answers now, or still does not.
    pub fn on_later(&mut self, name: &str, result: Result<Intake, Trouble>) -> Outcome {
        let Ok(camera) = self.camera(name) else { return Outcome::default() };
        let intake = match result {
            Ok(intake) if camera.streams.is_empty() && intake.cameras.iter().any(|one| !one.streams.is_empty()) => intake,
            Err(trouble) if trouble.cause == lattice_core::Cause::SignIn => {
                self.refuse_later(&camera);
                return Outcome { say: Some(format!("{name} answers now: {}; s signs in", trouble.text)), ..Outcome::default() };
            }
            Ok(_) | Err(_) => return Outcome::default(), // asked again at the next survey
        };
        let mut found = intake.cameras;
        let [device] = found.as_mut_slice() else {
            let text = format!(
                "{name} is a recorder with {} channels and answers now: remove it (x) and add its address to choose among them",
                found.len().saturating_sub(1)
            );
            self.refuse_later(&camera);
            return Outcome { say: Some(text), ..Outcome::default() };
        };
        let changed = Camera {
            name: camera.name.clone(),
            group: camera.group.clone(),
            sign_in: camera.sign_in.clone(),
            transport: camera.transport,
            trust: camera.trust.clone(),
            disabled: camera.disabled,
            ..std::mem::take(device)
        };
        match self.change(|editor| editor.put_camera(&changed)) {
            Ok(()) => {
                self.survey(Some(&[name.to_owned()]));
                let added = self.definition(&changed).into_iter().collect();
                Outcome { added, say: Some(format!("{name} answers now")), ..Outcome::default() }
            }
            Err(text) => Outcome { say: Some(text), ..Outcome::default() },
        }
    }

    /// Makes a stream that the device offers the main, sub or third of a camera; what was that takes its place.
    pub(super) fn assign(&mut self, name: &str, url: &SourceUrl, role: Role) -> Result<Outcome, String> {
        let camera = self.camera(name)?;
        if self.kept.file.site().cameras.iter().any(|other| other.recorder.as_deref() == Some(name)) {
            return Err(format!("{name} is a recorder: choose the streams of its channels"));
        }
        let target = Target::Url(url.clone()).with_credentials(None);
        let same = |stream: &Stream| stream.target.to_string() == target.to_string();
        let before = camera.streams.iter().find(|stream| same(stream)).map(|stream| stream.role);
        let mut streams: Vec<Stream> = Vec::new();
        for stream in &camera.streams {
            match (same(stream), stream.role == role, before) {
                (true, ..) => {}
                (_, true, Some(before)) => streams.push(Stream { role: before, ..stream.clone() }),
                (_, true, None) => {}
                _ => streams.push(stream.clone()),
            }
        }
        streams.push(Stream { role, target, interval: None, buffer: None });
        streams.sort_by_key(|stream| stream.role);
        let changed = Camera { streams, ..camera };
        self.kept.keep_hidden(&changed).map_err(|error| error.to_string())?;
        self.change(|editor| editor.put_camera(&changed))?;
        Ok(self.renewed(name, format!("{name}: this is its {} stream now", role.word())))
    }

    /// Measures streams of a camera, one after the other, so that no viewer limit is met and no link filled.
    pub(super) fn probe(&self, name: &str, urls: Vec<SourceUrl>) -> Result<(), String> {
        let camera = self.camera(name)?;
        let credentials = self.kept.credentials(&camera)?;
        let definition = self.definition(&camera).unwrap_or_else(|| CameraDef {
            name: name.to_owned(),
            streams: Vec::new(),
            transport: TransportChoice::Auto,
            trust: trust_of(&camera),
            viewers: camera.viewers,
            link: camera.link,
            sound: true,
        });
        let (news, handle, name) = (self.news.clone(), self.runtime.handle().clone(), name.to_owned());
        self.runtime.spawn(async move {
            for url in urls {
                let uri = url.request_uri();
                let measured = measure(&handle, url.with_credentials(credentials.clone()), &definition).await;
                if news.send(JobNews::Device(name.clone(), DeviceNews::Probed(uri, measured))).is_err() {
                    return;
                }
            }
        });
        Ok(())
    }

    /// A camera as the wall opens it; `None` for one that is off or has no stream.
    pub fn definition(&self, camera: &Camera) -> Option<CameraDef> {
        self.kept.definition(camera)
    }

    /// All cameras of the site, as the wall opens them.
    pub fn definitions(&self) -> Vec<CameraDef> {
        self.kept.file.site().cameras.iter().filter_map(|camera| self.definition(camera)).collect()
    }
}
