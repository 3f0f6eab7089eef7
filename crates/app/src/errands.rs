//! The work behind the desk: a runtime of its own for searches, questions and checks, and the site file.

use crate::add::{put, unreached};
use crate::app::{CameraDef, StreamDef, StreamRole};
use crate::check::{Checker, Subject, check};
use crate::desk::{Errand, Taken};
use crate::device_page::DeviceFacts;
use crate::intake::{Intake, Trouble, exposure_of, take_in};
use crate::kept::{Kept, path_patterns, trust_of};
use crossbeam_channel::Sender;
use lattice_core::check::Ladder;
use lattice_core::find::{AddressRange, MANY_ADDRESSES, PathPattern};
use lattice_core::onvif::{AddressPlan, UserLevel};
use lattice_core::target::Target;
use lattice_core::{Cause, ClockOffset, Credentials};
use lattice_net::find::{FindConfig, FindProgress, Found, Search, probe_addresses, proposed_ranges};
use lattice_net::reach::interfaces;
use lattice_net::{Device, DeviceError, ListenConfig, Origin};
use lattice_store::{Camera, PasswordSource, Role, Sighting, SiteError};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// Targets that are asked at the same time.
const AT_ONCE: usize = 12;
/// Everything that is asked of one.
const INTAKE_WITHIN: Duration = Duration::from_secs(15);

/// News from the work.
pub enum DeskNews {
    /// A device answered.
    Found(Found),
    /// How far the search is.
    Searching(FindProgress),
    /// A target was asked.
    Asked(Target, Result<Intake, Trouble>),
    /// A check went on, or ended.
    Checked(Subject, Ladder, bool),
    /// A camera's device was asked.
    Device(String, Result<DeviceFacts, String>),
    /// A camera's device's clock was read.
    Clock(String, Result<ClockOffset, String>),
    /// An order to a camera's device is done, or why not.
    Ordered(String, Result<String, String>),
    /// Cameras' devices took a password.
    PasswordSet(Vec<String>, Credentials, Vec<String>),
}

/// What came of news or an errand, for the wall.
#[derive(Default)]
pub struct Outcome {
    /// Cameras to put on the wall.
    pub added: Vec<CameraDef>,
    /// Cameras to take from the wall, by name.
    pub removed: Vec<String>,
    /// Cameras whose streams are to be opened anew, as they are now.
    pub renewed: Vec<CameraDef>,
    /// Cameras that have another name now: from, to.
    pub renamed: Vec<(String, String)>,
    /// What to say.
    pub say: Option<String>,
}

/// Everything that a device says of itself.
async fn device_facts(device: &mut Device, signed: bool) -> Result<DeviceFacts, String> {
    let text = |error: DeviceError| error.to_string();
    device.greet().await.map_err(text)?;
    let information = device.information(signed).await.map_err(text)?;
    let mut streams = Vec::new();
    for offered in device.streams(signed).await.map_err(text)? {
        let limits = device.encoder_limits(&offered.profile).await.unwrap_or_default();
        streams.push((offered, limits));
    }
    let users = device.users(signed).await.map_err(text);
    let network = device.network().await.map_err(text);
    Ok(DeviceFacts { information, streams, users, network })
}

/// The site, its passwords, and the runtime.
pub struct Errands {
    /// The site and its passwords.
    pub kept: Kept,
    runtime: tokio::runtime::Runtime,
    news: Sender<DeskNews>,
    patterns: Arc<Vec<PathPattern>>,
    checker: Option<Arc<Checker>>,
    search: Option<JoinHandle<()>>,
    /// Searches stay on loopback: the demo.
    loopback_only: bool,
    removed: Vec<Camera>,
}

impl Errands {
    /// Ready to work; news go to `news`.
    pub fn new(kept: Kept, news: Sender<DeskNews>, loopback_only: bool) -> anyhow::Result<Self> {
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(1).thread_name("errands").enable_all().build()?;
        let patterns = Arc::new(path_patterns()?);
        Ok(Self { kept, runtime, news, patterns, checker: None, search: None, loopback_only, removed: Vec::new() })
    }

    /// The ranges that a search begins with.
    pub fn proposed(&self) -> String {
        if self.loopback_only {
            return "127.77.0.0/24".into();
        }
        proposed_ranges(&interfaces(), MANY_ADDRESSES).iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
    }

    /// Does what the desk wants; `Err` with a sentence when it cannot be done.
    pub fn carry_out(&mut self, errand: Errand) -> Result<Outcome, String> {
        match errand {
            Errand::Search(ranges) => self.search(&ranges).map(|()| Outcome::default()),
            Errand::EndSearch => {
                if let Some(search) = self.search.take() {
                    search.abort();
                }
                Ok(Outcome::default())
            }
            Errand::Take(targets) => {
                self.take(targets);
                Ok(Outcome::default())
            }
            Errand::SignIn(names, credentials) => self.sign_in(&names, &credentials),
            Errand::Check(names) => self.check(&names).map(|()| Outcome::default()),
            Errand::Rename(from, to) => {
                self.change(|editor| editor.rename_camera(&from, to.trim()))?;
                Ok(Outcome { renamed: vec![(from, to.trim().to_owned())], ..Outcome::default() })
            }
            Errand::Regroup(name, group) => {
                let group = Some(group.trim().to_owned()).filter(|group| !group.is_empty());
                let camera = Camera { group, ..self.camera(&name)? };
                self.change(|editor| editor.put_camera(&camera))?;
                Ok(Outcome::default())
            }
            Errand::Toggle(name) => {
                let camera = self.camera(&name)?;
                let camera = Camera { disabled: !camera.disabled, ..camera };
                self.change(|editor| editor.put_camera(&camera))?;
                Ok(if camera.disabled {
                    Outcome {
                        removed: vec![name.clone()],
                        say: Some(format!("{name} is switched off: it is not opened")),
                        ..Outcome::default()
                    }
                } else {
                    Outcome { added: self.definition(&camera).into_iter().collect(), ..Outcome::default() }
                })
            }
            Errand::Remove(name) => {
                let camera = self.camera(&name)?;
                self.change(|editor| editor.remove_camera(&name))?;
                self.removed.push(camera);
                Ok(Outcome {
                    removed: vec![name.clone()],
                    say: Some(format!("{name} was removed; u brings it back")),
                    ..Outcome::default()
                })
            }
            Errand::AskDevice(name) => self.ask_device(&name).map(|()| Outcome::default()),
            Errand::SetClock(name) => {
                let order = |device: Device| async move { device.set_clock().await };
                self.order(&name, "its clock is set to this machine's", order).map(|()| Outcome::default())
            }
            Errand::SetEncoder(name, encoder) => {
                let order = |device: Device| async move { device.set_encoder(&encoder).await };
                self.order(&name, "its encoder is set; b sets it back", order).map(|()| Outcome::default())
            }
            Errand::SwitchDhcp(name, dhcp) => {
                let order = move |device: Device| async move {
                    let Some(interface) = device.network().await?.into_iter().next() else { return Ok(()) };
                    let fixed = interface.address.map(|(address, bits)| AddressPlan::Fixed(address, bits));
                    let plan = if dhcp { Some(AddressPlan::Dhcp) } else { fixed };
                    match plan {
                        Some(plan) => device.set_address(&interface.token, plan).await,
                        None => Ok(()),
                    }
                };
                let done = if dhcp {
                    "it takes its address by DHCP from now on"
                } else {
                    "it keeps the address that it has from now on"
                };
                self.order(&name, done, order).map(|()| Outcome::default())
            }
            Errand::SetPassword(names, account, first) => {
                self.set_passwords(&names, &account, first).map(|()| Outcome::default())
            }
            Errand::Undo => {
                let camera = self.removed.pop().ok_or("there is nothing to bring back")?;
                self.change(|editor| editor.put_camera(&camera))?;
                let say = Some(format!("{} is back", camera.name));
                Ok(Outcome { added: self.definition(&camera).into_iter().collect(), say, ..Outcome::default() })
            }
        }
    }

    /// The device of a camera, as it is reached.
    fn device(&self, name: &str) -> Result<(Device, bool), String> {
        let camera = self.camera(name)?;
        let host = camera.address.clone().ok_or_else(|| format!("{name} has no device: it is a pushed stream"))?;
        let port = camera
            .service_port
            .ok_or_else(|| format!("the device service of {name} is not known: add it by its address alone"))?;
        let credentials = self.kept.credentials(&camera)?;
        let signed = credentials.is_some();
        Ok((Device::new(&host, port, credentials, None).trusting(trust_of(&camera)), signed))
    }

    fn ask_device(&self, name: &str) -> Result<(), String> {
        let (mut device, signed) = self.device(name)?;
        let (news, name) = (self.news.clone(), name.to_owned());
        self.runtime.spawn(async move {
            let facts = device_facts(&mut device, signed).await;
            let reached = facts.is_ok();
            let _ = news.send(DeskNews::Device(name.clone(), facts));
            if reached {
                let clock = match device.clock_offset().await {
                    Ok(Some(offset)) => Ok(offset),
                    Ok(None) => Err("it does not tell its time".to_owned()),
                    Err(error) => Err(error.to_string()),
                };
                let _ = news.send(DeskNews::Clock(name, clock));
            }
        });
        Ok(())
    }

    /// Gives a device an order; what came of it follows as news.
    fn order<F>(&self, name: &str, done: &str, order: impl FnOnce(Device) -> F + Send + 'static) -> Result<(), String>
    where
        F: Future<Output = Result<(), DeviceError>> + Send,
    {
        let (mut device, _) = self.device(name)?;
        let (news, name, done) = (self.news.clone(), name.to_owned(), done.to_owned());
        self.runtime.spawn(async move {
            let greeted = device.greet().await;
            let result = match greeted {
                Ok(_) | Err(DeviceError::SignInNeeded) => order(device).await,
                Err(error) => Err(error),
            };
            let _ = news.send(DeskNews::Ordered(name, result.map(|()| done).map_err(|error| error.to_string())));
        });
        Ok(())
    }

    fn set_passwords(&self, names: &[String], account: &Credentials, first: bool) -> Result<(), String> {
        let devices: Vec<(String, Device)> =
            names.iter().map(|name| Ok((name.clone(), self.device(name)?.0))).collect::<Result<_, String>>()?;
        let (news, account) = (self.news.clone(), account.clone());
        self.runtime.spawn(async move {
            let (mut done, mut failed) = (Vec::new(), Vec::new());
            for (name, mut device) in devices {
                let _ = device.greet().await; // what the clock does not say the order itself will
                let result = if first {
                    device.create_first_user(&account).await
                } else {
                    // An account keeps the rights that it has.
                    let users = device.users(true).await.unwrap_or_default();
                    let level =
                        users.iter().find(|user| user.name == account.user).map_or(UserLevel::Administrator, |user| user.level);
                    device.set_password(&account, level).await
                };
                match result {
                    Ok(()) => done.push(name),
                    Err(error) => failed.push(format!("{name}: {error}")),
                }
            }
            let _ = news.send(DeskNews::PasswordSet(done, account, failed));
        });
        Ok(())
    }

    /// Cameras' devices took a password: it is kept, and their streams begin anew with it.
    pub fn on_password_set(&mut self, names: &[String], account: &Credentials, failed: &[String]) -> Result<Outcome, String> {
        let mut outcome = if names.is_empty() { Outcome::default() } else { self.sign_in(names, account)? };
        let done = if names.is_empty() { String::new() } else { format!("the password was set on {}", names.join(", ")) };
        let not = if failed.is_empty() { String::new() } else { format!(" not set on {}", failed.join("; ")) };
        outcome.say = Some(format!("{done}{not}").trim().to_owned());
        Ok(outcome)
    }

    fn camera(&self, name: &str) -> Result<Camera, String> {
        self.kept.file.site().camera(name).cloned().ok_or_else(|| format!("{name} is no longer in the site"))
    }

    fn change(
        &mut self,
        changes: impl FnOnce(&mut lattice_store::site::Editor<'_>) -> Result<(), SiteError>,
    ) -> Result<(), String> {
        self.kept.file.change(changes).map_err(|error| error.to_string())
    }

    fn search(&mut self, ranges: &str) -> Result<(), String> {
        let words = ranges.split([',', ';', ' ']).filter(|word| !word.trim().is_empty());
        let ranges: Vec<AddressRange> =
            words.map(str::parse).collect::<Result<_, _>>().map_err(|error: lattice_core::find::RangeError| error.to_string())?;
        let count: u64 = ranges.iter().map(AddressRange::len).sum();
        if count > MANY_ADDRESSES {
            return Err(format!(
                "these ranges hold {count} addresses, more than {MANY_ADDRESSES}: narrow them, or use `amber-lattice find --large`"
            ));
        }
        if self.loopback_only && !ranges.iter().all(AddressRange::is_loopback) {
            return Err("the demo stays on this machine: its cameras are in 127.77.0.0/24".into());
        }
        if let Some(search) = self.search.take() {
            search.abort();
        }
        let probe_from =
            if self.loopback_only { vec![std::net::Ipv4Addr::LOCALHOST] } else { probe_addresses(&interfaces(), &ranges) };
        let (config, news, handle) = (FindConfig::new(ranges, probe_from), self.news.clone(), self.runtime.handle().clone());
        self.search = Some(self.runtime.spawn(async move {
            let mut search = Search::begin(&handle, config);
            let mut tick = tokio::time::interval(Duration::from_millis(200));
            loop {
                tokio::select! {
                    found = search.news.recv() => match found {
                        Some(found) => drop(news.send(DeskNews::Found(found))),
                        None => break,
                    },
                    _ = tick.tick() => drop(news.send(DeskNews::Searching(search.progress()))),
                }
            }
            let _ = news.send(DeskNews::Searching(search.progress()));
        }));
        Ok(())
    }

    fn take(&self, targets: Vec<Target>) {
        let limit = Arc::new(Semaphore::new(AT_ONCE));
        for target in targets {
            let (news, patterns, limit) = (self.news.clone(), self.patterns.clone(), limit.clone());
            self.runtime.spawn(async move {
                let _permit = limit.acquire().await;
                let asked = tokio::time::timeout(INTAKE_WITHIN, take_in(&target, &patterns)).await;
                let late = || {
                    Err(Trouble {
                        cause: Cause::Silence,
                        text: format!("{target} did not answer in {} s", INTAKE_WITHIN.as_secs()),
                    })
                };
                let result = asked.unwrap_or_else(|_| late());
                let _ = news.send(DeskNews::Asked(target, result));
            });
        }
    }

    /// A target was asked: what it is goes into the site.
    pub fn on_asked(&mut self, target: &Target, result: Result<Intake, Trouble>) -> (Taken, Outcome) {
        let shown = target.to_string();
        let (intake, note) = match result {
            Ok(intake) => {
                let exposed =
                    exposure_of(target.credentials(), intake.exposed).map(|exposed| format!("exposed: {}", exposed.reason()));
                let note = intake.notes.first().cloned().or(exposed);
                (intake, note)
            }
            Err(trouble) if trouble.cause == Cause::SignIn => {
                return (Taken { shown, result: Err(trouble.text), note: None, locked: true }, Outcome::default());
            }
            // It may be switched on tomorrow: it is kept as it was typed.
            Err(trouble) => (unreached(target, &trouble.text), Some(trouble.text)),
        };
        match put(&mut self.kept, intake, target, &PasswordSource::Kept, None, None) {
            Ok(names) => {
                let cameras: Vec<Camera> = names.iter().filter_map(|name| self.kept.file.site().camera(name).cloned()).collect();
                let added = cameras.iter().filter_map(|camera| self.definition(camera)).collect();
                (Taken { shown, result: Ok(names), note, locked: false }, Outcome { added, ..Outcome::default() })
            }
            Err(error) => (Taken { shown, result: Err(format!("{error:#}")), note: None, locked: false }, Outcome::default()),
        }
    }

    fn sign_in(&mut self, names: &[String], credentials: &Credentials) -> Result<Outcome, String> {
        let sign_in = self.kept.keep_sign_in(credentials, &PasswordSource::Kept).map_err(|error| format!("{error:#}"))?;
        let mut cameras = Vec::new();
        for name in names {
            cameras.push(Camera { sign_in: Some(sign_in.clone()), ..self.camera(name)? });
        }
        self.change(|editor| cameras.iter().try_for_each(|camera| editor.put_camera(camera)))?;
        let renewed = cameras.iter().filter_map(|camera| self.definition(camera)).collect();
        let say = Some(format!("signing in to {} as {}", names.join(", "), credentials.user));
        Ok(Outcome { renewed, say, ..Outcome::default() })
    }

    fn check(&mut self, names: &[String]) -> Result<(), String> {
        let checker = match &self.checker {
            Some(checker) => checker.clone(),
            None => Arc::new(Checker::new().map_err(|error| format!("{error:#}"))?),
        };
        self.checker = Some(checker.clone());
        let site = self.kept.file.site();
        let chosen = |camera: &&Camera| if names.is_empty() { !camera.disabled } else { names.contains(&camera.name) };
        let limit = Arc::new(Semaphore::new(AT_ONCE));
        for camera in site.cameras.iter().filter(chosen) {
            let credentials = self.kept.credentials(camera)?;
            // Many at once are checked by their lightest streams: a check must not be what fills the link.
            let stream = if names.len() == 1 { camera.streams.first() } else { camera.streams.last() };
            let target = match (stream, &camera.address) {
                (Some(stream), _) => stream.target.clone(),
                (None, Some(host)) => Target::Device { host: host.clone(), port: None, credentials: None },
                (None, None) => continue,
            };
            let subject = Subject {
                shown: camera.name.clone(),
                target: target.with_credentials(credentials),
                transport: camera.transport,
                trust: trust_of(camera),
                key: None,
                seen: camera.serial.clone().map(|serial| Sighting { serial: Some(serial), ..Sighting::default() }),
            };
            let (checker, news, limit) = (checker.clone(), self.news.clone(), limit.clone());
            let _ = news.send(DeskNews::Checked(subject.clone(), Ladder::default(), false));
            self.runtime.spawn(async move {
                let _permit = limit.acquire().await;
                let step = |ladder: &Ladder| drop(news.send(DeskNews::Checked(subject.clone(), ladder.clone(), false)));
                let (ladder, _) = check(&checker, &subject, step).await;
                let _ = news.send(DeskNews::Checked(subject, ladder, true));
            });
        }
        Ok(())
    }

    /// Reads the site file again if it was changed elsewhere; what follows from that for the wall.
    pub fn reload(&mut self) -> Result<Option<Outcome>, String> {
        let before = self.kept.file.site().clone();
        if !self.kept.file.reload().map_err(|error| error.to_string())? {
            return Ok(None);
        }
        let now = self.kept.file.site();
        let mut outcome =
            Outcome { say: Some("the site file was changed elsewhere and is read again".into()), ..Outcome::default() };
        for camera in &before.cameras {
            let after = now.camera(&camera.name);
            if after.is_none_or(|after| after.disabled) {
                outcome.removed.push(camera.name.clone());
            }
        }
        for camera in &now.cameras {
            let old = before.camera(&camera.name);
            let same_sign_in = camera.sign_in.as_deref().and_then(|name| now.sign_in(name))
                == camera.sign_in.as_deref().and_then(|name| before.sign_in(name));
            let unchanged = same_sign_in
                && old.is_some_and(|old| {
                    (&old.streams, &old.sign_in, old.transport, &old.trust, old.disabled)
                        == (&camera.streams, &camera.sign_in, camera.transport, &camera.trust, camera.disabled)
                });
            if !unchanged {
                outcome.renewed.extend(self.definition(camera));
            }
        }
        Ok(Some(outcome))
    }

    /// A camera as the wall opens it; `None` for one that is off or has no stream.
    pub fn definition(&self, camera: &Camera) -> Option<CameraDef> {
        if camera.disabled || camera.streams.is_empty() {
            return None;
        }
        let credentials = self.kept.credentials(camera).unwrap_or_default();
        let role = |role: Role| match role {
            Role::Main => StreamRole::Main,
            Role::Sub => StreamRole::Sub,
            Role::Third => StreamRole::Third,
        };
        let origin = |stream: &lattice_store::Stream| match stream.target.clone() {
            Target::Url(url) if url.scheme().is_rtsp() => Some(Origin::Url(url.with_credentials(credentials.clone()))),
            Target::Url(url) => {
                let every = stream.interval.unwrap_or(Duration::from_secs(5));
                Some(Origin::Pictures { url: url.with_credentials(credentials.clone()), every })
            }
            Target::Listen { address, port, .. } => Some(Origin::Listen(ListenConfig { address, port, description: None })),
            Target::Device { .. } => None,
        };
        let streams = camera
            .streams
            .iter()
            .filter_map(|stream| Some(StreamDef { role: role(stream.role), origin: origin(stream)? }))
            .collect();
        Some(CameraDef { name: camera.name.clone(), streams, transport: camera.transport, trust: trust_of(camera) })
    }

    /// All cameras of the site, as the wall opens them.
    pub fn definitions(&self) -> Vec<CameraDef> {
        self.kept.file.site().cameras.iter().filter_map(|camera| self.definition(camera)).collect()
    }
}
