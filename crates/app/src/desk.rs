//! Getting cameras in: the state of roster, search, adding, sign-in and reach check. No handles here: what is to be
//! done outside comes out as [`Errand`]s.

mod channels;

pub use channels::{Channel, ChannelChoice};

use crate::app::RosterOrder;
use crate::device_page::{DevicePage, PasswordForm};
use crate::keymap::Context;
use lattice_core::check::Ladder;
use lattice_core::find::{Change, Findings, FirmwareFault, FoundDevice};
use lattice_core::target::{Newcomer, Row, Target, understand_list};
use lattice_core::{Credentials, Secret};
use lattice_engine::jobs::{DeviceFacts, Errand, Taken};
use lattice_net::find::FindProgress;
use lattice_store::{Camera, Site};
use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;
use tui_input::Input;

/// What fills the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Page {
    /// The wall.
    #[default]
    Wall,
    /// The three ways in, while there is no camera.
    Welcome,
    /// All cameras in a table.
    Roster,
    /// The search of the network.
    Find,
    /// One input that takes whatever there is.
    Add,
    /// Reach checks.
    Check,
    /// One device.
    Device,
    /// Ports that senders push to.
    Listen,
    /// Streams side by side.
    Bench,
    /// What happened.
    Ledger,
    /// One stream on the whole screen.
    Stream,
    /// The flash probe of a stream.
    Flash,
}

impl Page {
    /// Where its keys stand in the table.
    pub const fn context(self) -> Context {
        match self {
            Self::Wall => Context::Wall,
            Self::Welcome => Context::Welcome,
            Self::Roster => Context::Roster,
            Self::Find => Context::Find,
            Self::Add => Context::Add,
            Self::Check => Context::Check,
            Self::Device => Context::Device,
            Self::Listen => Context::Listen,
            Self::Bench => Context::Bench,
            Self::Ledger => Context::Ledger,
            Self::Stream => Context::Stream,
            Self::Flash => Context::Flash,
        }
    }
}

/// Which camera a sign-in is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignInFor {
    /// Cameras of the site, by name.
    Cameras(Vec<String>),
    /// Targets that are waiting to be taken in.
    Targets(Vec<Newcomer>),
}

/// The form for a sign-in.
#[derive(Debug, Clone)]
pub struct SignInForm {
    /// For what.
    pub for_what: SignInFor,
    /// The account.
    pub user: Input,
    /// Its password; never drawn.
    pub password: Input,
    /// The password is being typed.
    pub on_password: bool,
    /// Give it to the whole group.
    pub whole_group: bool,
}

/// What one line of text is typed for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Typing {
    /// The filter of the roster.
    Filter,
    /// Another name for a camera.
    Rename(String),
    /// Another group for a camera.
    Group(String),
    /// The ranges to scan.
    Ranges,
    /// The key of a camera's encrypted streams; never drawn.
    Key(String),
}

/// A certificate that is not trusted, for the operator to judge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateForm {
    /// The camera's name.
    pub camera: String,
    /// SHA-256 of it, in hexadecimal.
    pub fingerprint: String,
    /// Why it is not trusted.
    pub why: String,
}

/// A reach check on the screen.
#[derive(Debug, Clone)]
pub struct Checked {
    /// What is checked.
    pub shown: String,
    /// How far it is.
    pub ladder: Ladder,
    /// It is over.
    pub done: bool,
}

/// All state of getting cameras in.
#[derive(Debug, Default)]
pub struct Desk {
    /// There is a site to put cameras into.
    pub available: bool,
    /// The site.
    pub site: Arc<Site>,
    /// The selected camera of the roster, by name; the first where it is not among those shown.
    pub chosen: Option<String>,
    /// How the roster is laid out.
    pub order: RosterOrder,
    /// The filter.
    pub filter: Input,
    /// What is being typed, with its text.
    pub typing: Option<(Typing, Input)>,
    /// The devices found.
    pub findings: Findings,
    /// Those to be taken in.
    pub ticked: BTreeSet<IpAddr>,
    /// The selected device; the first where it is not there.
    pub found_at: Option<IpAddr>,
    /// How far the search is; `None` before the first.
    pub progress: Option<FindProgress>,
    /// The ranges to scan, as typed.
    pub ranges: String,
    /// The line of the page for adding.
    pub input: Input,
    /// Targets that are being asked.
    pub asking: Vec<String>,
    /// What became of the last ones.
    pub taken: Vec<Taken>,
    /// Targets that were refused for want of a sign-in.
    pub locked: Vec<Newcomer>,
    /// Recorders whose channels are to be chosen; the first is on the screen.
    pub choosing: Vec<ChannelChoice>,
    /// The form for a sign-in.
    pub sign_in: Option<SignInForm>,
    /// A certificate to be judged.
    pub certificate: Option<CertificateForm>,
    /// Reach checks.
    pub checks: Vec<Checked>,
    /// The selected check.
    pub check_row: usize,
    /// The selected listening port.
    pub listen_row: usize,
    /// Addresses of this machine that a sender can be given.
    pub own_addresses: Arc<Vec<String>>,
    /// Firmware with known faults.
    pub faults: Vec<FirmwareFault>,
    /// The device that is looked at.
    pub device: Option<DevicePage>,
}

impl Desk {
    /// What is known to be wrong with a camera's firmware.
    pub fn firmware_fault(&self, camera: &Camera) -> Option<&str> {
        let applies =
            |fault: &&FirmwareFault| fault.applies(camera.maker.as_deref(), camera.model.as_deref(), camera.firmware.as_deref());
        self.faults.iter().find(applies).map(|fault| fault.what.as_str())
    }

    /// The devices of the table: those that answered, by address, then those that have gone.
    pub fn found(&self) -> Vec<(IpAddr, &FoundDevice)> {
        let mut all: Vec<_> = self.findings.devices().collect();
        all.sort_by_key(|(address, device)| (device.change == Change::Gone, *address));
        all
    }

    /// The row of the selected device.
    pub fn found_row(&self) -> usize {
        self.found().iter().position(|(address, _)| Some(*address) == self.found_at).unwrap_or(0)
    }

    /// Selects the device in this row, or the last.
    pub fn find_row(&mut self, row: usize) {
        let found = self.found();
        self.found_at = found.get(row.min(found.len().saturating_sub(1))).map(|(address, _)| *address);
    }

    /// Whether a device is in the site already.
    pub fn is_known(&self, address: IpAddr) -> bool {
        self.site.knows_address(&address.to_string())
    }

    /// What was typed or pasted to be added, as understood.
    pub fn readings(&self) -> Vec<Row> {
        understand_list(self.input.value())
    }

    /// Ticks or unticks the selected device.
    pub fn tick(&mut self) {
        let Some(address) = self.found().get(self.found_row()).map(|(address, _)| *address) else { return };
        if !self.ticked.remove(&address) {
            self.ticked.insert(address);
        }
    }

    /// Ticks every device that is not in the site, or unticks all.
    pub fn tick_all(&mut self) {
        let fresh = |(address, device): &(IpAddr, &FoundDevice)| device.change != Change::Gone && !self.is_known(*address);
        let all: BTreeSet<IpAddr> = self.found().iter().filter(|one| fresh(one)).map(|(address, _)| *address).collect();
        self.ticked = if self.ticked == all { BTreeSet::new() } else { all };
    }

    /// The targets of the ticked devices, or of the selected one.
    pub fn targets(&self) -> Vec<Newcomer> {
        let chosen: Vec<IpAddr> = if self.ticked.is_empty() {
            self.found().get(self.found_row()).map(|(address, _)| *address).into_iter().collect()
        } else {
            self.ticked.iter().copied().collect()
        };
        let target = |address: IpAddr| {
            let device = self.findings.get(address);
            let port = device.and_then(|device| device.service_port.or(device.rtsp_port));
            Newcomer::from(Target::Device { host: address.to_string(), port, credentials: None })
        };
        chosen.into_iter().filter(|address| !self.is_known(*address)).map(target).collect()
    }

    /// Whether any of the chosen devices is known to want a sign-in.
    pub fn wants_sign_in(&self, targets: &[Newcomer]) -> bool {
        targets.iter().any(|newcomer| match &newcomer.target {
            Target::Device { host, .. } => {
                host.parse().ok().and_then(|address| self.findings.get(address)).is_some_and(|device| device.locked == Some(true))
            }
            _ => false,
        })
    }

    /// Opens the form for a sign-in.
    pub fn ask_sign_in(&mut self, for_what: SignInFor) {
        let known = match &for_what {
            SignInFor::Cameras(names) => {
                names.first().and_then(|name| self.site.camera(name)).and_then(|camera| camera.sign_in.clone())
            }
            SignInFor::Targets(_) => None,
        };
        let user =
            known.and_then(|name| self.site.sign_in(&name)).or(self.site.sign_ins.last()).map(|sign_in| sign_in.user.clone());
        let on_password = user.is_some();
        self.sign_in = Some(SignInForm {
            for_what,
            user: Input::new(user.unwrap_or_default()),
            password: Input::default(),
            on_password,
            whole_group: false,
        });
    }

    /// The form is done: what is to be done with it.
    pub fn give_sign_in(&mut self) -> Option<Errand> {
        let form = self.sign_in.take()?;
        let credentials =
            Credentials { user: form.user.value().trim().to_owned(), password: Secret::new(form.password.value().to_owned()) };
        Some(match form.for_what {
            SignInFor::Targets(targets) => {
                self.locked.clear();
                Errand::Take(targets.into_iter().map(|target| target.with_credentials(Some(credentials.clone()))).collect())
            }
            SignInFor::Cameras(names) => {
                let group = names.first().and_then(|name| self.site.camera(name)).and_then(|camera| camera.group.clone());
                let all = |group: &String| {
                    let members = self.site.cameras.iter().filter(|camera| camera.group.as_ref() == Some(group));
                    members.map(|camera| camera.name.clone()).collect::<Vec<_>>()
                };
                let names = group.as_ref().filter(|_| form.whole_group).map_or(names, all);
                Errand::SignIn(names, credentials)
            }
        })
    }

    /// The text that is typed now.
    pub fn text(&mut self, page: Page) -> Option<&mut Input> {
        if let Some(form) = self.device.as_mut().and_then(|device| device.password.as_mut()) {
            return form.fields.get_mut(form.at);
        }
        if let Some(form) = &mut self.sign_in {
            return Some(if form.on_password { &mut form.password } else { &mut form.user });
        }
        if let Some((_, input)) = &mut self.typing {
            return Some(input);
        }
        (page == Page::Add).then_some(&mut self.input)
    }

    /// Opens the form for the password of the device that is looked at.
    pub fn ask_password(&mut self) {
        let sign_in = self.device.as_ref().and_then(|page| self.site.camera(&page.camera)?.sign_in.clone());
        let user = sign_in.and_then(|name| self.site.sign_in(&name)).map(|sign_in| sign_in.user.clone());
        let Some(page) = &mut self.device else { return };
        let no_account = |facts: &DeviceFacts| facts.users.as_ref().is_ok_and(Vec::is_empty);
        let first = match &page.facts {
            Some(Ok(facts)) => no_account(facts),
            // One that wants a sign-in for everything may still have no account: it says so when it is tried.
            _ => user.is_none(),
        };
        let at = usize::from(user.is_some());
        let fields = [Input::new(user.unwrap_or_default()), Input::default(), Input::default()];
        page.password = Some(PasswordForm { first, fields, at, whole_group: false });
    }

    /// The password form is done: to the next field, or what is to be done.
    pub fn give_password(&mut self) -> Result<Option<Errand>, String> {
        let Some(page) = &mut self.device else { return Ok(None) };
        let Some(form) = &mut page.password else { return Ok(None) };
        if form.at < 2 {
            form.at += 1;
            return Ok(None);
        }
        if let Some(objection) = form.objection() {
            return Err(objection);
        }
        let (account, first, whole_group) = (form.account(), form.first, form.whole_group);
        page.password = None;
        let camera = page.camera.clone();
        let group = self.site.camera(&camera).and_then(|camera| camera.group.clone()).filter(|_| whole_group);
        let names = match group {
            Some(group) => {
                self.site.cameras.iter().filter(|one| one.group.as_ref() == Some(&group)).map(|one| one.name.clone()).collect()
            }
            None => vec![camera],
        };
        Ok(Some(Errand::SetPassword(names, account, first)))
    }

    /// A check begins, or one goes on.
    pub fn on_check(&mut self, shown: &str, ladder: Ladder, done: bool) {
        match self.checks.iter_mut().find(|checked| checked.shown == shown) {
            Some(checked) => (checked.ladder, checked.done) = (ladder, done),
            None => self.checks.push(Checked { shown: shown.to_owned(), ladder, done }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_ticked_is_taken_but_not_what_is_here_already() {
        let mut desk = Desk::default();
        Arc::make_mut(&mut desk.site).cameras =
            vec![Camera { address: Some("192.0.2.2".into()), name: "Here".into(), ..Camera::default() }];
        for n in 1..=3u8 {
            desk.findings.learn(
                IpAddr::from([192, 0, 2, n]),
                FoundDevice { locked: Some(n == 3), service_port: Some(8000), ..FoundDevice::default() },
            );
        }
        desk.tick_all();
        let targets = desk.targets();
        assert_eq!(targets.iter().map(|one| one.target.to_string()).collect::<Vec<_>>(), ["192.0.2.1:8000", "192.0.2.3:8000"]);
        assert!(desk.wants_sign_in(&targets) && !desk.wants_sign_in(&targets[..1]));
        desk.ask_sign_in(SignInFor::Targets(targets));
        desk.text(Page::Find).unwrap().clone_from(&Input::new("harbour".into()));
        desk.sign_in.as_mut().unwrap().on_password = true;
        desk.text(Page::Find).unwrap().clone_from(&Input::new("pw".into()));
        let Some(Errand::Take(signed)) = desk.give_sign_in() else { panic!("nothing is taken") };
        assert!(signed.iter().all(|one| one.target.credentials().unwrap().user == "harbour"));
        assert!(!format!("{signed:?}").contains("pw\""), "a password does not show");
    }
}
