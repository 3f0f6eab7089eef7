//! The steps of the desk: what its keys do.

use super::{App, Effect};
use crate::desk::{CertificateForm, Page, SignInFor, Typing};
use crate::device_page::DevicePage;
use crate::keymap::{Context, DeskStep, TypingKind};
use crate::theme::Tone;
use crate::view::sorts_by;
use lattice_core::target::{Newcomer, Row, names_file};
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, Role, Secret};
use lattice_engine::jobs::Errand;
use lattice_store::site::CertificateTrust;
use tui_input::Input;

impl App {
    /// Where `esc` leads from a page of the desk.
    pub(super) fn step_back(&mut self) {
        self.page = match self.page {
            Page::Find | Page::Add | Page::Check | Page::Device | Page::Listen if !self.desk.site.cameras.is_empty() => {
                Page::Roster
            }
            _ if self.cameras_there().next().is_none() => Page::Welcome,
            _ => Page::Wall,
        };
        self.same_tiles_since = self.now;
    }

    pub(super) fn at_desk(&mut self, step: DeskStep) -> Vec<Effect> {
        if !self.desk.available {
            self.say(Tone::Text, "these cameras belong to no site: start `amber-lattice wall` to keep some".into());
            return Vec::new();
        }
        if step == DeskStep::Lighter {
            return self.show_lighter();
        }
        let errand = self.desk_step(step);
        errand.map(Effect::from).into_iter().collect()
    }

    /// Keys of the list of a recorder's channels.
    fn channel_step(&mut self, step: DeskStep) -> Option<Errand> {
        let choice = self.desk.choosing.first_mut()?;
        match step {
            DeskStep::Row(rows) => choice.select(rows),
            DeskStep::Tick => choice.tick(),
            DeskStep::TickAll => choice.tick_all(),
            DeskStep::Take if choice.ticked.is_empty() => {
                self.say(Tone::Text, "tick a channel, or leave with esc".into());
            }
            DeskStep::Take => return Some(self.desk.choosing.remove(0).taken()),
            DeskStep::Cancel => {
                choice.ticked.clear();
                return Some(self.desk.choosing.remove(0).taken());
            }
            _ => {}
        }
        None
    }

    /// Checks of these cameras, of all for none, on their page.
    fn begin_check(&mut self, names: Vec<String>) -> Errand {
        self.page = Page::Check;
        self.desk.checks.clear();
        self.desk.check_row = 0;
        Errand::Check(names)
    }

    fn desk_step(&mut self, step: DeskStep) -> Option<Errand> {
        if self.context() == Context::Channels {
            return self.channel_step(step);
        }
        match step {
            DeskStep::Roster => self.page = Page::Roster,
            DeskStep::Listen => self.page = Page::Listen,
            DeskStep::AddListener => {
                self.page = Page::Add;
                self.desk.taken.clear();
                self.desk.input = Input::new("udp://:".into());
            }
            DeskStep::Add => {
                self.page = Page::Add;
                self.desk.taken.clear();
            }
            DeskStep::Find => {
                self.page = Page::Find;
                if self.desk.progress.is_none() {
                    return Some(Errand::Search(self.desk.ranges.clone()));
                }
            }
            DeskStep::SearchAgain => return Some(Errand::Search(self.desk.ranges.clone())),
            DeskStep::EndSearch => return Some(Errand::EndSearch),
            DeskStep::Row(rows) => self.move_row(rows),
            DeskStep::Tick => {
                self.desk.tick();
                self.move_row(1);
            }
            DeskStep::TickAll => self.desk.tick_all(),
            DeskStep::Take => return self.take(),
            DeskStep::Show => self.show_selected(),
            DeskStep::SignIn => self.open_sign_in(),
            DeskStep::Type(what) => self.begin_typing(what),
            DeskStep::Done => return self.end_typing(),
            DeskStep::Cancel | DeskStep::NextField | DeskStep::WholeGroup => self.form_step(step),
            DeskStep::Check => return self.desk_camera().map(|name| self.begin_check(vec![name])),
            DeskStep::CheckAll => return Some(self.begin_check(Vec::new())),
            DeskStep::Toggle => return self.desk_camera().map(Errand::Toggle),
            DeskStep::Remove => return self.desk_camera().map(Errand::Remove),
            DeskStep::Lighter => {}
            DeskStep::Readdress => return self.readdress(),
            DeskStep::Pin | DeskStep::TrustAny => {
                let form = self.desk.certificate.take()?;
                let trust =
                    if step == DeskStep::Pin { CertificateTrust::Pinned(form.fingerprint) } else { CertificateTrust::Off };
                return Some(Errand::Trust(form.camera, trust));
            }
            DeskStep::Undo => return Some(Errand::Undo),
            DeskStep::Sort | DeskStep::Reverse | DeskStep::GroupBy => self.desk.order.step(step),
            DeskStep::Device => {
                let name = match &self.desk.device {
                    Some(device) if self.page == Page::Device => device.camera.clone(),
                    _ => self.desk_camera()?,
                };
                self.page = Page::Device;
                self.desk.device = Some(DevicePage::new(name.clone()));
                return Some(Errand::AskDevice(name));
            }
            DeskStep::Setting(_)
            | DeskStep::Step(_)
            | DeskStep::Apply
            | DeskStep::Back
            | DeskStep::SetClock
            | DeskStep::Password
            | DeskStep::Assign(_)
            | DeskStep::Dhcp => {
                return self.device_step(step);
            }
        }
        None
    }

    /// Keys of the forms in front of a page.
    fn form_step(&mut self, step: DeskStep) {
        match step {
            DeskStep::Cancel => {
                (self.desk.typing, self.desk.sign_in, self.desk.certificate) = (None, None, None);
                if let Some(device) = &mut self.desk.device {
                    device.password = None;
                }
            }
            DeskStep::NextField => {
                if let Some(form) = self.desk.device.as_mut().and_then(|device| device.password.as_mut()) {
                    form.at = (form.at + 1) % 3;
                }
                if let Some(form) = &mut self.desk.sign_in {
                    form.on_password = !form.on_password;
                }
            }
            DeskStep::WholeGroup => {
                if let Some(form) = self.desk.device.as_mut().and_then(|device| device.password.as_mut()) {
                    form.whole_group = !form.whole_group;
                }
                if let Some(form) = &mut self.desk.sign_in {
                    form.whole_group = !form.whole_group;
                }
            }
            _ => {}
        }
    }

    fn device_step(&mut self, step: DeskStep) -> Option<Errand> {
        if step == DeskStep::Password {
            self.desk.ask_password();
            return None;
        }
        let page = self.desk.device.as_mut()?;
        let name = page.camera.clone();
        match step {
            DeskStep::Setting(steps) => page.select_setting(steps),
            DeskStep::Step(up) => page.step(up),
            DeskStep::Apply => {
                let (wanted, before) = (page.wanted.take()?, page.encoder()?.clone());
                page.before.push(before);
                return Some(Errand::SetEncoder(name, Box::new(wanted)));
            }
            DeskStep::Back => {
                let before = page.before.pop();
                if before.is_none() {
                    self.say(Tone::Text, "nothing was changed here that could be set back".into());
                }
                return before.map(|before| Errand::SetEncoder(name, Box::new(before)));
            }
            DeskStep::Assign(role) => {
                let Some(url) = page.selected().and_then(|(offered, _)| offered.url.clone()) else {
                    self.say(Tone::Text, "the device names no address for this stream".into());
                    return None;
                };
                return Some(Errand::Assign(name, url, role));
            }
            DeskStep::SetClock => return Some(Errand::SetClock(name)),
            DeskStep::Dhcp => {
                let facts = page.facts.as_ref()?.as_ref().ok()?;
                let dhcp = facts.network.as_ref().ok()?.first()?.dhcp?;
                return Some(Errand::SwitchDhcp(name, !dhcp));
            }
            _ => {}
        }
        None
    }

    /// The camera that keys of the desk are about: of the roster's row, or of the wall's tile.
    fn desk_camera(&self) -> Option<String> {
        match self.page {
            Page::Wall => self.selected_tile().map(|tile| self.name(tile).to_owned()),
            Page::Device => self.desk.device.as_ref().map(|device| device.camera.clone()),
            Page::Check if !self.desk.checks.is_empty() => {
                self.desk.checks.get(self.desk.check_row).map(|checked| checked.shown.clone())
            }
            Page::Listen => self.listeners().get(self.desk.listen_row).map(|entry| entry.camera.name.clone()),
            _ => self.roster_selected().map(|camera| camera.name.clone()),
        }
    }

    fn move_row(&mut self, rows: i32) {
        if let (Page::Device, Some(device)) = (self.page, &mut self.desk.device) {
            return device.select(rows);
        }
        match self.page {
            Page::Find => self.desk.find_row(self.desk.found_row().saturating_add_signed(rows as isize)),
            Page::Check => {
                let last = self.desk.checks.len().saturating_sub(1);
                self.desk.check_row = self.desk.check_row.saturating_add_signed(rows as isize).min(last);
            }
            Page::Listen => {
                let last = self.listeners().len().saturating_sub(1);
                self.desk.listen_row = self.desk.listen_row.saturating_add_signed(rows as isize).min(last);
            }
            _ => self.roster_move(rows),
        }
    }

    /// Selects a row of the page's table; false for a heading.
    pub(super) fn select_row(&mut self, row: usize) -> bool {
        match self.page {
            Page::Find => self.desk.find_row(row),
            Page::Check => self.desk.check_row = row,
            Page::Listen => self.desk.listen_row = row,
            Page::Ledger => self.log.chosen = self.ledger_rows().get(row).map(|entry| entry.id),
            Page::Device => {
                if let Some(device) = &mut self.desk.device {
                    device.select(row as i32 - device.stream as i32);
                }
            }
            _ => {
                let lines = self.roster();
                let Some(name) = lines.get(row).and_then(|line| Some(line.entry()?.camera.name.clone())) else { return false };
                self.desk.chosen = Some(name);
            }
        }
        true
    }

    /// Sorts the roster by the column with this title, or turns its order round.
    pub(super) fn sort_by_title(&mut self, title: &str) {
        let Some(sort) = sorts_by(title).filter(|_| self.page == Page::Roster) else { return };
        let order = &mut self.desk.order;
        (order.sort, order.reversed) = (sort, order.sort == sort && !order.reversed);
    }

    fn take(&mut self) -> Option<Errand> {
        if self.page == Page::Add && names_file(self.desk.input.value()) {
            return Some(Errand::ReadList(self.desk.input.value().trim().to_owned()));
        }
        let targets: Vec<Newcomer> = match self.page {
            Page::Add => self.desk.readings().into_iter().filter_map(Row::newcomer).collect(),
            _ => self.desk.targets(),
        };
        if targets.is_empty() {
            let text = if self.page == Page::Add {
                "nothing here can be added yet"
            } else {
                "tick a device that is not in the site yet"
            };
            self.say(Tone::Text, text.into());
            return None;
        }
        if self.page == Page::Find && self.desk.wants_sign_in(&targets) {
            self.desk.ask_sign_in(SignInFor::Targets(targets));
            return None;
        }
        Some(Errand::Take(targets))
    }

    /// The selected camera of the roster on the wall, enlarged.
    fn show_selected(&mut self) {
        let Some(name) = self.desk_camera() else { return };
        self.show_camera(&name);
    }

    fn open_sign_in(&mut self) {
        if matches!(self.page, Page::Find | Page::Add) && !self.desk.locked.is_empty() {
            let targets = self.desk.locked.clone();
            return self.desk.ask_sign_in(SignInFor::Targets(targets));
        }
        let Some(name) = self.desk_camera() else { return };
        let camera = self.cameras.id(&name);
        let figures = camera.and_then(|camera| self.figures.get(&self.telling(camera)?)).cloned();
        match figures.as_ref().map(|figures| (figures.cause, &figures.session)) {
            // What is missing is not always a sign-in.
            Some((Some(Cause::KeyNeeded), _)) => self.desk.typing = Some((Typing::Key(name), Input::default())),
            Some((_, SessionState::Locked { text, certificate: Some(fingerprint) })) => {
                let (fingerprint, why) = (fingerprint.clone(), text.clone());
                self.desk.certificate = Some(CertificateForm { camera: name, fingerprint, why });
            }
            _ => self.desk.ask_sign_in(SignInFor::Cameras(vec![name])),
        }
    }

    /// The checked camera moves to where its device was found.
    fn readdress(&mut self) -> Option<Errand> {
        let checked = self.desk.checks.get(self.desk.check_row)?;
        let Some(to) = checked.ladder.moved_to() else {
            self.say(Tone::Text, "the check found no other address of this device".into());
            return None;
        };
        Some(Errand::Readdress(checked.shown.clone(), to.to_owned()))
    }

    /// The lighter stream of the checked camera comes onto its tile.
    fn show_lighter(&mut self) -> Vec<Effect> {
        let Some(name) = self.desk_camera() else { return Vec::new() };
        let camera = self.desk.site.camera(&name);
        let lighter =
            [Role::Sub, Role::Third].into_iter().find(|role| camera.is_some_and(|camera| camera.stream(*role).is_some()));
        let Some(role) = lighter else {
            self.say(Tone::Text, format!("{name} has no lighter stream that is known: d in the roster asks its device"));
            return Vec::new();
        };
        self.show_camera(&name);
        self.enlarged = false;
        let tile = self.tile_number(self.selected);
        self.lattices.adjust(|lattice| {
            if let Some(placed) = lattice.at_mut(tile) {
                placed.hold = Some(role);
            }
        });
        self.seat();
        Vec::new()
    }

    fn begin_typing(&mut self, what: TypingKind) {
        let camera = self.desk_camera().and_then(|name| self.desk.site.camera(&name));
        let camera = camera.map(|camera| (camera.name.clone(), camera.group.clone().unwrap_or_default()));
        self.desk.typing = match (what, camera) {
            (TypingKind::Filter, _) => Some((Typing::Filter, self.desk.filter.clone())),
            (TypingKind::Ranges, _) => Some((Typing::Ranges, Input::new(self.desk.ranges.clone()))),
            (TypingKind::Rename, Some((name, _))) => Some((Typing::Rename(name.clone()), Input::new(name))),
            (TypingKind::Group, Some((name, group))) => Some((Typing::Group(name), Input::new(group))),
            (TypingKind::Rename | TypingKind::Group, None) => None,
        };
    }

    fn end_typing(&mut self) -> Option<Errand> {
        if self.desk.device.as_ref().is_some_and(|device| device.password.is_some()) {
            return match self.desk.give_password() {
                Ok(errand) => errand,
                Err(objection) => {
                    self.say(Tone::Alarm, objection);
                    None
                }
            };
        }
        if let Some(form) = &mut self.desk.sign_in {
            if !form.on_password {
                form.on_password = true;
                return None;
            }
            return self.desk.give_sign_in();
        }
        let (what, input) = self.desk.typing.take()?;
        match what {
            Typing::Filter => self.desk.filter = input,
            Typing::Ranges => {
                self.desk.ranges = input.value().to_owned();
                return Some(Errand::Search(self.desk.ranges.clone()));
            }
            Typing::Rename(name) if !input.value().trim().is_empty() => {
                return Some(Errand::Rename(name, input.value().to_owned()));
            }
            Typing::Rename(_) => {}
            Typing::Group(name) => return Some(Errand::Regroup(name, input.value().to_owned())),
            Typing::Key(name) => return Some(Errand::Key(name, Secret::new(input.value().trim().to_owned()))),
        }
        None
    }
}
