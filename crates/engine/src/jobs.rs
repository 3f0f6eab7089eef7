//! The work on the site and its devices: searches, questions, orders and checks on a runtime of their own, and the site file.

mod add;
mod check;
mod devices;
mod intake;
mod keyframes;
mod report;
mod stills;
mod streams;
mod survey;

pub use add::{put, read_list, unreached};
pub use check::{Checker, Subject, check, remembered, sighting_key};
pub use devices::{DeviceFacts, DeviceNews, DevicePart};
pub use intake::{Asked, Intake, Trouble, exposure_of, find_service, take_in};
pub use report::{Form, Gathered, gather, groups, operator, write, write_pages};
pub(crate) use stills::{Burst, Facts, ON_A_SHEET, Stills};
pub use stills::{StillForm, StillOptions, adjusted};
pub(crate) use survey::{EVERY as SURVEY_EVERY, Surveyed};
pub use survey::{ago, last_seen};

use crate::camera::CameraDef;
use crate::device::Queues;
use crate::feeds::Decode;
use crate::kept::{Kept, path_patterns};
use crate::places::{typed_path, write_new};
use crate::steering::HeadState;
use crossbeam_channel::Sender;
use lattice_core::adjust::{Adjust, Preset, presets};
use lattice_core::check::Ladder;
use lattice_core::find::{AddressRange, MANY_ADDRESSES, PathPattern};
use lattice_core::lattice::Lattice;
use lattice_core::lens::Lens;
use lattice_core::motion::Shape;
use lattice_core::onvif::{Encoder, ImagingSettings};
use lattice_core::target::Newcomer;
use lattice_core::{Cause, Credentials, Secret, SourceUrl, TransportChoice};
use lattice_net::find::{FindConfig, FindProgress, Found, Search, probe_addresses, proposed_ranges};
use lattice_net::reach::interfaces;
use lattice_net::{Background, Imaging, ReportNews, Trust};
use lattice_store::site::CertificateTrust;
use lattice_store::{Camera, KeyringError, PasswordSource, Role, Sighting, SiteError, export_lattice, import_lattices};
use std::collections::BTreeSet;
use std::sync::{Arc, PoisonError};
use std::time::Duration;
use survey::Survey;
use tokio::sync::Semaphore;
use tokio::task::JoinHandle;

/// Targets that are asked at the same time.
const AT_ONCE: usize = 12;
/// Everything that is asked of one.
const INTAKE_WITHIN: Duration = Duration::from_secs(15);

/// Work on the site and its devices.
#[derive(Debug, Clone, PartialEq)]
pub enum Errand {
    /// Search the network: these ranges as typed, or what is proposed.
    Search(String),
    /// End the search.
    EndSearch,
    /// Take these in, with the sign-in that each has.
    Take(Vec<Newcomer>),
    /// Read a list from this file.
    ReadList(String),
    /// Take in a recorder with these channels; not at all for none.
    Channels(Newcomer, BTreeSet<u32>),
    /// Keep a sign-in for cameras of the site.
    SignIn(Vec<String>, Credentials),
    /// Check cameras of the site, by name; all for an empty list.
    Check(Vec<String>),
    /// Give a camera, and what hangs under it, another address.
    Readdress(String, String),
    /// Give a camera another name.
    Rename(String, String),
    /// Ask for a camera's packets in this way.
    Transport(String, TransportChoice),
    /// Fetch the stills of a camera this often.
    Interval(String, Duration),
    /// Put a camera into a group; none for an empty name.
    Regroup(String, String),
    /// Switch a camera off or on.
    Toggle(String),
    /// Receive a camera's sound, or do not.
    Sound(String),
    /// Take a camera out of the site.
    Remove(String),
    /// Undo the last removal.
    Undo,
    /// Keep the receive buffer of a camera's stream; that of its place for `None`.
    Buffer(String, Role, Option<Duration>),
    /// Keep these adjustments of a camera's pictures.
    Adjust(String, Adjust),
    /// Keep these adjustments under a name; take the preset of this name out for none.
    Preset(String, Option<Adjust>),
    /// Keep what is known of a camera's lens; `None` where it sees no more than its picture shows.
    Lens(String, Option<Lens>),
    /// Keep the areas and lines of a camera that are watched.
    Watch(String, Vec<Shape>),
    /// Write a lattice to a file of its own.
    ExportLattice(Box<Lattice>, String),
    /// Take the lattices of a file in.
    ImportLattices(String),
    /// Keep these lattices, and no others, in the site file.
    SaveLattices(Vec<Lattice>),
    /// Ask the device of a camera what it is and offers.
    AskDevice(String),
    /// Set the clock of a camera's device to this machine's.
    SetClock(String),
    /// Tell a camera's device the name that the camera has here.
    TellName(String),
    /// Switch a camera's device between DHCP and the address that it has.
    SwitchDhcp(String, bool),
    /// Set an encoder of a camera's device.
    SetEncoder(String, Box<Encoder>),
    /// Ask what the imaging of a camera's device is set to.
    AskImaging(String),
    /// Set the imaging of a camera's device, which is as told now, to this.
    SetImaging(String, Box<Imaging>, ImagingSettings),
    /// Keep the key of a camera's encrypted streams.
    Key(String, Secret<String>),
    /// Judge a camera's certificate so.
    Trust(String, CertificateTrust),
    /// Ask the device of a camera that shows stills for its streams.
    Live(String),
    /// Make a stream of a camera's device its main, sub or third.
    Assign(String, SourceUrl, Role),
    /// Measure streams of a camera for a moment.
    Probe(String, Vec<SourceUrl>),
    /// Give the devices of cameras this password: their first, or another.
    SetPassword(Vec<String>, Credentials, bool),
}

/// What a target that was to be taken in came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Taken {
    /// The target, as shown.
    pub shown: String,
    /// The names it got, or why it was not taken in.
    pub result: Result<Vec<String>, String>,
    /// What should be known of it all the same.
    pub note: Option<String>,
    /// A sign-in would help.
    pub locked: bool,
}

/// News from the work.
pub(crate) enum JobNews {
    /// A device answered.
    Found(Found),
    /// How far the search is.
    Searching(FindProgress),
    /// A target was asked.
    Asked(Newcomer, Result<Intake, Trouble>),
    /// A check went on, or ended with what was seen of its target.
    Checked(String, Ladder, Option<Box<(String, Sighting)>>),
    /// A camera's device told something, or was told.
    Device(String, DeviceNews),
    /// How the head of a camera stands that somebody steers.
    Head(String, Box<HeadState>),
    /// What a camera's device reports.
    Reported(String, ReportNews),
    /// A device said what it is.
    Surveyed(Surveyed),
    /// A camera that was added while it could not be reached was asked again.
    Later(String, Result<Intake, Trouble>),
    /// The device of a camera that shows stills was asked for its streams.
    Live(String, Result<Intake, Trouble>),
    /// An order to a camera's device is done, or why not.
    Ordered(String, Result<String, String>),
    /// Cameras' devices took a password.
    PasswordSet(Vec<String>, Credentials, Vec<String>),
    /// A list was read, or why not.
    List(Result<String, String>),
    /// A file was written, or why not.
    Written(Result<String, String>),
}

/// What came of news or an errand.
#[derive(Default)]
pub(crate) struct Outcome {
    /// Cameras that come.
    pub added: Vec<CameraDef>,
    /// Cameras that leave, by name.
    pub removed: Vec<String>,
    /// Cameras whose streams are to be opened anew, as they are now.
    pub renewed: Vec<CameraDef>,
    /// Cameras that have another name now: from, to.
    pub renamed: Vec<(String, String)>,
    /// The lattices are in the site file as they were given.
    pub lattices_saved: bool,
    /// Lattices that were read from a file.
    pub imported: Vec<Lattice>,
    /// What to say.
    pub say: Option<String>,
    /// What became of somebody who was to be taken in.
    pub taken: Option<Taken>,
    /// A recorder whose channels are to be chosen first.
    pub choose: Option<(Newcomer, Box<Intake>)>,
}

/// The site, its passwords, and the runtime.
pub(crate) struct Errands {
    /// The site and its passwords.
    pub kept: Kept,
    pub(crate) runtime: Background,
    pub(crate) queues: Queues,
    pub(crate) news: Sender<JobNews>,
    pub(crate) patterns: Arc<Vec<PathPattern>>,
    checker: Option<Arc<Checker>>,
    search: Option<JoinHandle<()>>,
    /// Searches stay on loopback: the demo.
    loopback_only: bool,
    /// Where checks decode.
    decode: Decode,
    removed: Vec<(Camera, Vec<String>)>,
    /// Recorders that were asked, until their channels are chosen.
    recorders: Vec<(Newcomer, Intake)>,
    /// Many addresses that were asked about: the same again scans them.
    asked_large: Option<String>,
    pub(crate) survey: Survey,
    /// Cameras whose passwords the keyring has not given yet.
    waiting: BTreeSet<String>,
    /// What devices call their streams, as far as they were asked for keyframes.
    tokens: keyframes::Tokens,
}

impl Errands {
    /// Ready to work; news go to `news`.
    pub fn new(kept: Kept, news: Sender<JobNews>, loopback_only: bool, decode: Decode) -> anyhow::Result<Self> {
        let runtime =
            tokio::runtime::Builder::new_multi_thread().worker_threads(1).thread_name("errands").enable_all().build()?;
        let runtime = Background::new(runtime);
        let patterns = Arc::new(path_patterns()?);
        let queues = Queues::new(runtime.handle().clone());
        Ok(Self {
            kept,
            runtime,
            queues,
            news,
            patterns,
            checker: None,
            search: None,
            loopback_only,
            decode,
            removed: Vec::new(),
            waiting: BTreeSet::new(),
            tokens: keyframes::Tokens::default(),
            recorders: Vec::new(),
            asked_large: None,
            survey: Survey::default(),
        })
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
            Errand::Channels(newcomer, channels) => Ok(self.take_channels(&newcomer, &channels)),
            Errand::Readdress(name, to) => self.readdress(&name, &to),
            Errand::ReadList(path) => {
                let news = self.news.clone();
                self.runtime.spawn_blocking(move || {
                    let _ = news.send(JobNews::List(read_list(&path).map_err(|error| format!("{error:#}"))));
                });
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
            Errand::Transport(name, transport) => self.set_transport(&name, transport),
            Errand::Interval(name, every) => self.set_interval(&name, every),
            Errand::Toggle(name) => self.toggle(&name),
            Errand::Sound(name) => self.toggle_sound(&name),
            Errand::Remove(name) => self.remove(name),
            Errand::Buffer(name, role, buffer) => {
                let mut camera = self.camera(&name)?;
                camera.streams.iter_mut().filter(|stream| stream.role == role).for_each(|stream| stream.buffer = buffer);
                self.change(|editor| editor.put_camera(&camera))?;
                Ok(Outcome::default())
            }
            Errand::Adjust(name, adjust) => self.keep_adjust(&name, adjust),
            Errand::Lens(name, lens) => self.keep_lens(&name, lens),
            Errand::Watch(name, shapes) => self.keep_watch(&name, shapes),
            Errand::Preset(name, adjust) => self.keep_preset(name.trim(), adjust),
            Errand::ExportLattice(lattice, path) => {
                let path = typed_path(&path);
                write_new(&path, export_lattice(&lattice).as_bytes()).map_err(|error| format!("{}: {error}", path.display()))?;
                Ok(Outcome { say: Some(format!("{} is in {}", lattice.name, path.display())), ..Outcome::default() })
            }
            Errand::ImportLattices(path) => {
                let imported = import_lattices(&typed_path(&path)).map_err(|error| error.to_string())?;
                Ok(Outcome { imported, ..Outcome::default() })
            }
            Errand::SaveLattices(lattices) => self.save_lattices(&lattices),
            Errand::AskDevice(name) => self.ask_device(&name).map(|()| Outcome::default()),
            Errand::SetClock(name) => self.set_clock(&name).map(|()| Outcome::default()),
            Errand::TellName(name) => self.tell_name(&name).map(|()| Outcome::default()),
            Errand::SetEncoder(name, encoder) => self.set_encoder(&name, encoder).map(|()| Outcome::default()),
            Errand::AskImaging(name) => self.ask_imaging(&name).map(|()| Outcome::default()),
            Errand::SetImaging(name, now, wanted) => self.set_imaging(&name, now, wanted).map(|()| Outcome::default()),
            Errand::SwitchDhcp(name, dhcp) => self.switch_dhcp(&name, dhcp).map(|()| Outcome::default()),
            Errand::SetPassword(names, account, first) => {
                self.set_passwords(&names, &account, first).map(|()| Outcome::default())
            }
            Errand::Key(name, key) => self.keep_key(&name, &key),
            Errand::Trust(name, trust) => self.trust(&name, trust),
            Errand::Live(name) => self.look_for_live(&name).map(|()| Outcome::default()),
            Errand::Assign(name, url, role) => self.assign(&name, &url, role),
            Errand::Probe(name, urls) => self.probe(&name, urls).map(|()| Outcome::default()),
            Errand::Undo => self.bring_back(),
        }
    }

    fn keep_adjust(&mut self, name: &str, adjust: Adjust) -> Result<Outcome, String> {
        let camera = Camera { adjust, ..self.camera(name)? };
        self.change(|editor| editor.put_camera(&camera))?;
        Ok(Outcome { say: Some(format!("{name} is shown {adjust}")), ..Outcome::default() })
    }

    fn keep_lens(&mut self, name: &str, lens: Option<Lens>) -> Result<Outcome, String> {
        lens.map_or(Ok(()), |lens| lens.check()).map_err(|error| error.to_string())?;
        let camera = Camera { lens, ..self.camera(name)? };
        self.change(|editor| editor.put_camera(&camera))?;
        Ok(Outcome::default())
    }

    fn keep_watch(&mut self, name: &str, watch: Vec<Shape>) -> Result<Outcome, String> {
        for shape in &watch {
            shape.check().map_err(|error| format!("{}: {error}", shape.name))?;
        }
        let camera = Camera { watch, ..self.camera(name)? };
        self.change(|editor| editor.put_camera(&camera))?;
        Ok(Outcome::default())
    }

    fn keep_preset(&mut self, name: &str, adjust: Option<Adjust>) -> Result<Outcome, String> {
        if name.is_empty() || presets().iter().any(|preset| preset.name == name) {
            return Err("a preset of your own needs a name that none of the usual ones has".into());
        }
        let say = if let Some(adjust) = adjust {
            self.change(|editor| editor.put_preset(&Preset { name: name.into(), adjust }))?;
            format!("kept as {name}: {adjust}")
        } else {
            self.change(|editor| editor.remove_preset(name))?;
            format!("{name} is taken out")
        };
        Ok(Outcome { say: Some(say), ..Outcome::default() })
    }

    fn remove(&mut self, name: String) -> Result<Outcome, String> {
        let camera = self.camera(&name)?;
        let order = self.kept.file.site().cameras.iter().map(|camera| camera.name.clone()).collect();
        self.change(|editor| editor.remove_camera(&name))?;
        self.removed.push((camera, order));
        let say = Some(format!("{name} was removed; u brings it back"));
        Ok(Outcome { removed: vec![name], say, ..Outcome::default() })
    }

    /// The camera that was removed last stands where it stood.
    fn bring_back(&mut self) -> Result<Outcome, String> {
        let (camera, order) = self.removed.pop().ok_or("there is nothing to bring back")?;
        let order: Vec<&str> = order.iter().map(String::as_str).collect();
        self.change(|editor| editor.put_camera(&camera).and_then(|()| editor.order_cameras(&order)))?;
        let say = Some(format!("{} is back", camera.name));
        Ok(Outcome { added: self.definition(&camera).into_iter().collect(), say, ..Outcome::default() })
    }

    fn toggle(&mut self, name: &str) -> Result<Outcome, String> {
        let camera = self.camera(name)?;
        let camera = Camera { disabled: !camera.disabled, ..camera };
        self.change(|editor| editor.put_camera(&camera))?;
        if camera.disabled {
            let say = Some(format!("{name} is switched off: it is not opened"));
            return Ok(Outcome { removed: vec![name.to_owned()], say, ..Outcome::default() });
        }
        Ok(Outcome { added: self.definition(&camera).into_iter().collect(), ..Outcome::default() })
    }

    fn toggle_sound(&mut self, name: &str) -> Result<Outcome, String> {
        let camera = self.camera(name)?;
        let sound = !self.kept.file.site().hears(&camera);
        let camera = Camera { sound: Some(sound), ..camera };
        self.change(|editor| editor.put_camera(&camera))?;
        let say = Some(format!("the sound of {name} is {}", if sound { "received" } else { "off" }));
        Ok(Outcome { renewed: self.definition(&camera).into_iter().collect(), say, ..Outcome::default() })
    }

    fn camera(&self, name: &str) -> Result<Camera, String> {
        self.kept.file.site().camera(name).cloned().ok_or_else(|| format!("{name} is no longer in the site"))
    }

    pub(crate) fn change(
        &mut self,
        changes: impl FnOnce(&mut lattice_store::site::Editor<'_>) -> Result<(), SiteError>,
    ) -> Result<(), String> {
        self.kept.file.change(changes).map_err(|error| match error {
            SiteError::Refused(why) => why,
            other => format!("{other}; this was not saved"),
        })
    }

    /// The site file has these lattices then; what is the same already is not touched.
    fn save_lattices(&mut self, lattices: &[Lattice]) -> Result<Outcome, String> {
        let before = self.kept.file.site().lattices.clone();
        let gone = before.iter().filter(|old| !lattices.iter().any(|new| new.name == old.name));
        let gone: Vec<String> = gone.map(|old| old.name.clone()).collect();
        let changed: Vec<&Lattice> = lattices.iter().filter(|new| !before.contains(new)).collect();
        let names: Vec<&str> = lattices.iter().map(|lattice| lattice.name.as_str()).collect();
        self.change(|editor| {
            // What was renamed keeps its remarks, and tours and screens follow it.
            let renamed = |old: &String| {
                let old = before.iter().find(|lattice| lattice.name == *old)?;
                let new = changed.iter().find(|new| new.tiles() == old.tiles() && new.layout() == old.layout())?;
                before.iter().all(|one| one.name != new.name).then_some(new.name.as_str())
            };
            for old in &gone {
                match renamed(old) {
                    Some(new) => editor.rename_lattice(old, new)?,
                    None => editor.remove_lattice(old)?,
                }
            }
            for lattice in &changed {
                editor.put_lattice(lattice)?;
            }
            editor.order_lattices(&names)
        })?;
        let say = Some(format!("lattices saved in {}", self.kept.file.path().display()));
        Ok(Outcome { say, lattices_saved: true, ..Outcome::default() })
    }

    fn search(&mut self, ranges: &str) -> Result<(), String> {
        let words = ranges.split([',', ';', ' ']).filter(|word| !word.trim().is_empty());
        let ranges: Vec<AddressRange> =
            words.map(str::parse).collect::<Result<_, _>>().map_err(|error: lattice_core::find::RangeError| error.to_string())?;
        let count: u64 = ranges.iter().map(AddressRange::len).sum();
        let text: Vec<String> = ranges.iter().map(ToString::to_string).collect();
        let text = text.join(", ");
        if count > MANY_ADDRESSES && self.asked_large.as_ref() != Some(&text) {
            self.asked_large = Some(text);
            return Err(format!(
                "these ranges hold {count} addresses, more than {MANY_ADDRESSES}: narrow them with n, or r scans them all the same"
            ));
        }
        self.asked_large = None;
        if self.loopback_only && !ranges.iter().all(AddressRange::is_loopback) {
            return Err("the demo stays on this machine: its cameras are in 127.77.0.0/24".into());
        }
        if let Some(search) = self.search.take() {
            search.abort();
        }
        let probe_from =
            if self.loopback_only { vec![std::net::Ipv4Addr::LOCALHOST] } else { probe_addresses(&interfaces(), &ranges) };
        let mut config = FindConfig::new(ranges, probe_from);
        config.use_ports(&self.kept.file.site().scan_ports);
        config.paths.clone_from(&self.patterns);
        let (news, handle) = (self.news.clone(), self.runtime.handle().clone());
        self.search = Some(self.runtime.spawn(async move {
            let mut search = Search::begin(&handle, config);
            let mut tick = tokio::time::interval(Duration::from_millis(200));
            loop {
                tokio::select! {
                    found = search.news.recv() => match found {
                        Some(found) => drop(news.send(JobNews::Found(found))),
                        None => break,
                    },
                    _ = tick.tick() => drop(news.send(JobNews::Searching(search.progress()))),
                }
            }
            let _ = news.send(JobNews::Searching(search.progress()));
        }));
        Ok(())
    }

    fn take(&self, targets: Vec<Newcomer>) {
        let limit = Arc::new(Semaphore::new(AT_ONCE));
        let mut asked = Vec::new();
        for newcomer in targets {
            let (patterns, limit) = (self.patterns.clone(), limit.clone());
            asked.push(self.runtime.spawn(async move {
                let _permit = limit.acquire().await;
                let asked = tokio::time::timeout(INTAKE_WITHIN, take_in(&newcomer.target, &patterns, Trust::Verify)).await;
                let late = || {
                    Err(Trouble {
                        cause: Cause::Silence,
                        text: format!("{} did not answer in {} s", newcomer.target, INTAKE_WITHIN.as_secs()),
                    })
                };
                let result = asked.unwrap_or_else(|_| late());
                (newcomer, result)
            }));
        }
        // All at once, and told in their order: the roster has them as they were pasted.
        let news = self.news.clone();
        self.runtime.spawn(async move {
            for one in asked {
                if let Ok((newcomer, result)) = one.await {
                    let _ = news.send(JobNews::Asked(newcomer, result));
                }
            }
        });
    }

    /// A target was asked: what it is goes into the site; of a recorder, its channels are chosen first.
    pub fn on_asked(&mut self, newcomer: &Newcomer, result: Result<Intake, Trouble>) -> Outcome {
        let target = &newcomer.target;
        match result {
            Ok(intake) if intake.is_recorder() => {
                let choose = Some((newcomer.clone(), Box::new(intake.clone())));
                self.recorders.push((newcomer.clone(), intake));
                Outcome { choose, ..Outcome::default() }
            }
            Ok(intake) => {
                let exposed =
                    exposure_of(target.credentials(), intake.exposed).map(|exposed| format!("exposed: {}", exposed.reason()));
                let note = intake.notes.first().cloned().or(exposed);
                self.take_one(newcomer, intake, note)
            }
            Err(trouble) if trouble.cause == Cause::SignIn => {
                let taken = Taken { shown: target.to_string(), result: Err(trouble.text), note: None, locked: true };
                Outcome { taken: Some(taken), ..Outcome::default() }
            }
            Err(trouble) if !trouble.may_pass() && !newcomer.as_typed => {
                let why = format!("{}; it was not added: enter again adds it all the same", trouble.text);
                let taken = Taken { shown: target.to_string(), result: Err(why), note: None, locked: false };
                Outcome { taken: Some(taken), ..Outcome::default() }
            }
            // It may be switched on tomorrow: it is kept as it was typed, and asked again.
            Err(trouble) => self.take_one(newcomer, unreached(target, &trouble.text), Some(trouble.text)),
        }
    }

    /// The channels of a recorder were chosen.
    fn take_channels(&mut self, newcomer: &Newcomer, channels: &BTreeSet<u32>) -> Outcome {
        let Some(at) = self.recorders.iter().position(|(one, _)| one == newcomer) else { return Outcome::default() };
        let (newcomer, mut intake) = self.recorders.remove(at);
        if channels.is_empty() {
            return Outcome { say: Some(format!("nothing of {} was taken in", newcomer.target)), ..Outcome::default() };
        }
        intake.keep_channels(|channel| channels.contains(&channel));
        let note =
            exposure_of(newcomer.target.credentials(), intake.exposed).map(|exposed| format!("exposed: {}", exposed.reason()));
        self.take_one(&newcomer, intake, note)
    }

    fn take_one(&mut self, newcomer: &Newcomer, intake: Intake, note: Option<String>) -> Outcome {
        let shown = newcomer.target.to_string();
        match put(&mut self.kept, intake, newcomer, &PasswordSource::Kept) {
            Ok(names) => {
                let cameras: Vec<Camera> = names.iter().filter_map(|name| self.kept.file.site().camera(name).cloned()).collect();
                let added = cameras.iter().filter_map(|camera| self.definition(camera)).collect();
                self.survey(Some(&names));
                let taken = Some(Taken { shown, result: Ok(names), note, locked: false });
                Outcome { added, taken, ..Outcome::default() }
            }
            Err(error) => {
                let taken = Some(Taken { shown, result: Err(format!("{error:#}")), note: None, locked: false });
                Outcome { taken, ..Outcome::default() }
            }
        }
    }

    fn sign_in(&mut self, names: &[String], credentials: &Credentials) -> Result<Outcome, String> {
        let sign_in = self.kept.keep_sign_in(credentials, &PasswordSource::Kept).map_err(|error| format!("{error:#}"))?;
        let mut cameras = Vec::new();
        let mut replaced = BTreeSet::new();
        for name in names {
            let camera = self.camera(name)?;
            replaced.extend(camera.sign_in.clone().filter(|old| *old != sign_in));
            // What was learned begins anew: somebody looked at it.
            let forgotten = self.kept.strengths.forget(&sign_in, camera.address.as_deref().unwrap_or_default());
            forgotten.map_err(|error| format!("what was learned of the sign-in cannot be changed: {error}"))?;
            let password_readable = credentials.policy.allows_readable();
            cameras.push(Camera { sign_in: Some(sign_in.clone()), password_readable, ..camera });
        }
        self.change(|editor| cameras.iter().try_for_each(|camera| editor.put_camera(camera)))?;
        self.forget_unused(replaced)?;
        let renewed = cameras.iter().filter_map(|camera| self.definition(camera)).collect();
        self.forget_refusals(names);
        self.tokens.lock().unwrap_or_else(PoisonError::into_inner).retain(|(camera, _), _| !names.contains(camera));
        self.survey(Some(names));
        let say = Some(format!("signing in to {} as {}", names.join(", "), credentials.user));
        Ok(Outcome { renewed, say, ..Outcome::default() })
    }

    /// A sign-in that no camera has any more, refused and typed anew as a rule, is not kept for the next one.
    fn forget_unused(&mut self, names: BTreeSet<String>) -> Result<(), String> {
        for name in names {
            let site = self.kept.file.site();
            let cameras = site.cameras.iter().chain(self.removed.iter().map(|(camera, _)| camera));
            let of_ours = site.sign_in(&name).is_some_and(|old| old.password == PasswordSource::Kept);
            if of_ours && cameras.clone().all(|camera| camera.sign_in.as_ref() != Some(&name)) {
                self.change(|editor| editor.remove_sign_in(&name))?;
                self.kept.secrets.keep_password(&name, None).map_err(|error| error.to_string())?;
            }
        }
        Ok(())
    }

    fn check(&mut self, names: &[String]) -> Result<(), String> {
        let checker = match &self.checker {
            Some(checker) => checker.clone(),
            None => Arc::new(Checker::new(&self.decode).map_err(|error| format!("{error:#}"))?),
        };
        self.checker = Some(checker.clone());
        let site = self.kept.file.site();
        let chosen = |camera: &&Camera| if names.is_empty() { !camera.disabled } else { names.contains(&camera.name) };
        let limit = Arc::new(Semaphore::new(AT_ONCE));
        let sightings = crate::kept::sightings().map_err(|error| format!("{error:#}"))?;
        for camera in site.cameras.iter().filter(chosen) {
            // Many at once are checked by their lightest streams: a check must not be what fills the link.
            let stream = if names.len() == 1 { camera.streams.first() } else { camera.streams.last() };
            let Some(subject) = Subject::of_camera(&self.kept, &sightings, camera, stream, camera.name.clone())? else {
                continue;
            };
            let (checker, news, limit) = (checker.clone(), self.news.clone(), limit.clone());
            let _ = news.send(JobNews::Checked(subject.shown.clone(), Ladder::default(), None));
            self.runtime.spawn(async move {
                let _permit = limit.acquire().await;
                let step = |ladder: &Ladder| drop(news.send(JobNews::Checked(subject.shown.clone(), ladder.clone(), None)));
                let (ladder, seen) = check(&checker, &subject, step).await;
                let seen = Box::new((sighting_key(&subject.target), seen));
                let _ = news.send(JobNews::Checked(subject.shown, ladder, Some(seen)));
            });
        }
        Ok(())
    }

    /// The keyring has answered meanwhile: cameras that waited for their passwords are opened with them.
    pub fn unlocked(&mut self) -> Option<Outcome> {
        if !self.kept.secrets.is_asking() && self.waiting.is_empty() {
            return None;
        }
        let begun = self.waiting.is_empty();
        let cameras = &self.kept.file.site().cameras;
        let asking = KeyringError::Asking.to_string();
        let waits = |camera: &&Camera| !camera.disabled && self.kept.credentials(camera).is_err_and(|error| error == asking);
        let waiting: BTreeSet<String> = cameras.iter().filter(waits).map(|camera| camera.name.clone()).collect();
        let came = self.waiting.difference(&waiting).filter_map(|name| self.kept.file.site().camera(name));
        let renewed: Vec<CameraDef> = came.filter_map(|camera| self.definition(camera)).collect();
        let say = match waiting.len() {
            0 if !renewed.is_empty() => Some("the keyring is unlocked: cameras are signed in to".to_owned()),
            n if n > 0 && begun => {
                let who = if n == 1 {
                    "1 camera waits for its password".to_owned()
                } else {
                    format!("{n} cameras wait for their passwords")
                };
                Some(format!("the keyring of this session waits for its owner: {who}; unlock it"))
            }
            _ => None,
        };
        self.waiting = waiting;
        (say.is_some() || !renewed.is_empty()).then(|| Outcome { renewed, say, ..Outcome::default() })
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
                && before.sound == now.sound
                && old.is_some_and(|old| {
                    let opened = |camera: &Camera| {
                        let Camera { streams, sign_in, transport, trust, disabled, encrypted, password_readable, sound, .. } =
                            camera.clone();
                        (streams, sign_in, transport, trust, (disabled, encrypted, password_readable, sound))
                    };
                    opened(old) == opened(camera)
                });
            if !unchanged {
                outcome.renewed.extend(self.definition(camera));
            }
        }
        Ok(Some(outcome))
    }
}

#[cfg(test)]
mod tests;
