//! The wall's state and what changes it. No handles here: what is to be done outside comes out as
//! [`Effect`]s.

use crate::desk::{Desk, Errand, Page, SignInFor, Typing};
use crate::device_page::DevicePage;
use crate::keymap::{Action, Context, DeskStep, TypingKind, action};
use crate::theme::Tone;
use crate::view::regions;
use lattice_core::meter::{Dropout, Figures};
use lattice_core::{Cause, Mono, TransportChoice, Verdict};
use lattice_media::{DamageChoice, TilePicture};
use lattice_net::{Origin, Trust};
use ratatui::crossterm::event::{KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler as _;

/// Which of a camera's streams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum StreamRole {
    /// The large one.
    Main,
    /// The light one.
    Sub,
    /// One more.
    Third,
}

impl StreamRole {
    /// Every role, the largest first.
    const ALL: [Self; 3] = [Self::Main, Self::Sub, Self::Third];

    /// The letter on a plate.
    pub const fn letter(self) -> char {
        match self {
            Self::Main => 'M',
            Self::Sub => 'S',
            Self::Third => 'T',
        }
    }

    /// The word in a sentence.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Sub => "sub",
            Self::Third => "third",
        }
    }
}

/// A stream of a camera.
#[derive(Debug, Clone)]
pub struct StreamDef {
    /// Which.
    pub role: StreamRole,
    /// Where.
    pub origin: Origin,
}

/// A camera.
#[derive(Debug, Clone)]
pub struct CameraDef {
    /// Its name on plates.
    pub name: String,
    /// Its streams; none for a camera that was taken away, whose place stays empty.
    pub streams: Vec<StreamDef>,
    /// How its packets are asked for; `Auto` leaves it to the wall.
    pub transport: TransportChoice,
    /// How its certificate is judged.
    pub trust: Trust,
}

/// What the wall shows.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its cameras, a tile each.
    pub cameras: Vec<CameraDef>,
    /// The stream that tiles begin with, where a camera has it.
    pub prefer: StreamRole,
}

impl Site {
    /// Where a stream comes from.
    pub fn origin(&self, key: FeedKey) -> Option<&Origin> {
        let camera = self.cameras.get(key.camera)?;
        camera.streams.iter().find(|stream| stream.role == key.role).map(|stream| &stream.origin)
    }
}

/// One stream of one camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FeedKey {
    /// Index of the camera.
    pub camera: usize,
    /// Which of its streams.
    pub role: StreamRole,
}

/// A place on the wall.
#[derive(Debug, Clone, Copy)]
pub struct Tile {
    /// Index of the camera.
    pub camera: usize,
    /// The stream shown.
    pub role: StreamRole,
    /// The stream that is to be shown as soon as it has a picture.
    pub switching: Option<StreamRole>,
}

impl Tile {
    /// The stream shown.
    pub const fn key(&self) -> FeedKey {
        FeedKey { camera: self.camera, role: self.role }
    }

    /// The stream that is waited for.
    pub fn next_key(&self) -> Option<FeedKey> {
        self.switching.map(|role| FeedKey { camera: self.camera, role })
    }
}

/// What stands in front of the wall.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overlay {
    /// Nothing.
    None,
    /// The help, scrolled down by this many lines.
    Help(u16),
    /// The list of faults.
    Faults,
}

/// A line of news at the foot.
#[derive(Debug, Clone)]
pub struct Notice {
    /// What happened.
    pub text: String,
    /// How loud.
    pub tone: Tone,
    /// When.
    pub at: Mono,
}

/// Faults of the demo: what is shown and what is ordered.
pub const FAULTS: [(&str, &str); 5] = [
    ("cut the session for 4 s", "cut 4"),
    ("stall: send nothing for 3 s", "stall 3"),
    ("drop 5 % of packets for 15 s", "loss 5 15"),
    ("delay by 120 to 200 ms for 20 s", "delay 120 80 20"),
    ("slow to 40 % of the frame rate for 20 s", "slow 40 20"),
];

/// What is to be done outside.
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// A camera is there, or is another one now, at this place of the site.
    Define(usize),
    /// Work for the desk.
    Errand(Errand),
    /// Open a stream.
    Open(FeedKey),
    /// Close a stream.
    Close(FeedKey),
    /// Try a stream again now.
    Retry(FeedKey),
    /// Treat damaged pictures so.
    Damage(DamageChoice),
    /// Order a fault from a stand-in camera.
    Fault(usize, &'static str),
    /// Leave.
    Quit,
}

/// How long a line of news stays.
const NOTICE_STAYS: Duration = Duration::from_secs(12);
/// Two clicks within this time are one double click.
const DOUBLE_CLICK: Duration = Duration::from_millis(400);

/// All state of the wall.
pub struct App {
    /// What is shown.
    pub site: Site,
    /// Whether the cameras are stand-ins that take faults.
    pub demo: bool,
    /// What fills the screen.
    pub page: Page,
    /// Getting cameras in.
    pub desk: Desk,
    /// The tiles.
    pub tiles: Vec<Tile>,
    /// Index of the selected tile.
    pub selected: usize,
    /// The selected tile fills the wall.
    pub enlarged: bool,
    /// What stands in front.
    pub overlay: Overlay,
    /// The newest figures.
    pub figures: HashMap<FeedKey, Arc<Figures>>,
    /// The newest pictures.
    pub pictures: HashMap<FeedKey, Arc<TilePicture>>,
    /// The newest line of news.
    pub notice: Option<Notice>,
    /// What is done with damaged pictures.
    pub damage: DamageChoice,
    /// The terminal.
    pub area: Rect,
    /// Width of a cell over its height.
    pub cell_aspect: f64,
    /// Now.
    pub now: Mono,
    /// The time of day.
    pub clock: String,
    /// Since when the same tiles are on the screen: pictures of others are not kept fresh.
    pub same_tiles_since: Mono,
    clicked: Option<(usize, Mono)>,
    dropouts_seen: HashMap<FeedKey, u64>,
}

impl App {
    /// A wall with a tile for each camera, and what must be opened for it.
    pub fn new(site: Site, demo: bool, area: Rect, cell_aspect: f64) -> (Self, Vec<Effect>) {
        let tiles: Vec<Tile> = site
            .cameras
            .iter()
            .enumerate()
            .filter_map(|(camera, def)| {
                let preferred = def.streams.iter().find(|stream| stream.role == site.prefer);
                let role = preferred.or(def.streams.first())?.role;
                Some(Tile { camera, role, switching: None })
            })
            .collect();
        let effects = tiles.iter().map(|tile| Effect::Open(tile.key())).collect();
        let app = Self {
            page: if site.cameras.is_empty() { Page::Welcome } else { Page::Wall },
            desk: Desk::default(),
            site,
            demo,
            tiles,
            selected: 0,
            enlarged: false,
            overlay: Overlay::None,
            figures: HashMap::new(),
            pictures: HashMap::new(),
            notice: None,
            damage: DamageChoice::default(),
            area,
            cell_aspect,
            now: Mono::ZERO,
            clock: String::new(),
            same_tiles_since: Mono::ZERO,
            clicked: None,
            dropouts_seen: HashMap::new(),
        };
        (app, effects)
    }

    /// Where keys apply now.
    pub fn context(&self) -> Context {
        match self.overlay {
            Overlay::None if self.desk.device.as_ref().is_some_and(|device| device.password.is_some()) => Context::Password,
            Overlay::None if self.desk.sign_in.is_some() => Context::SignIn,
            Overlay::None if self.desk.typing.is_some() => Context::Typing,
            Overlay::None => match self.page {
                Page::Wall => Context::Wall,
                Page::Welcome => Context::Welcome,
                Page::Roster => Context::Roster,
                Page::Find => Context::Find,
                Page::Add => Context::Add,
                Page::Check => Context::Check,
                Page::Device => Context::Device,
            },
            Overlay::Help(_) => Context::Help,
            Overlay::Faults => Context::Faults,
        }
    }

    /// The selected tile.
    pub fn selected_tile(&self) -> Option<&Tile> {
        self.tiles.get(self.selected)
    }

    /// Name of a tile's camera.
    pub fn name(&self, tile: &Tile) -> &str {
        self.site.cameras.get(tile.camera).map_or("", |camera| camera.name.as_str())
    }

    /// Streams that must be decoded, with the tile each is for.
    pub fn visible(&self) -> Vec<(FeedKey, usize)> {
        let shown = |index: &usize| self.page == Page::Wall && (!self.enlarged || *index == self.selected);
        let tiles = self.tiles.iter().enumerate().filter(|(index, _)| shown(index));
        tiles
            .flat_map(|(index, tile)| [Some(tile.key()), tile.next_key()].into_iter().flatten().map(move |key| (key, index)))
            .collect()
    }

    /// A key was pressed.
    pub fn on_key(&mut self, event: KeyEvent) -> Vec<Effect> {
        if event.kind == KeyEventKind::Release {
            return Vec::new();
        }
        let context = self.context();
        if let Some(action) = action(context, event) {
            return self.act(action);
        }
        if context.is_text()
            && let Some(input) = self.desk.text(self.page)
        {
            let _ = input.handle_event(&ratatui::crossterm::event::Event::Key(event));
            self.desk.row = 0;
        }
        Vec::new()
    }

    /// Text was pasted.
    pub fn on_paste(&mut self, text: &str) -> Vec<Effect> {
        match self.context() {
            Context::Wall | Context::Welcome | Context::Roster | Context::Find if self.desk.available => {
                // Wherever it is pasted: it is taken for addresses, and shown as understood before anything happens.
                self.page = Page::Add;
                self.desk.input = Input::new(text.trim().to_owned());
            }
            Context::Add | Context::SignIn | Context::Typing | Context::Password => {
                if let Some(input) = self.desk.text(self.page) {
                    let cursor = input.cursor();
                    let mut value: Vec<char> = input.value().chars().collect();
                    let at = cursor.min(value.len());
                    value.splice(at..at, text.trim_end_matches(['\r', '\n']).chars());
                    let end = at + text.trim_end_matches(['\r', '\n']).chars().count();
                    *input = Input::new(value.into_iter().collect()).with_cursor(end);
                }
            }
            _ => {}
        }
        Vec::new()
    }

    /// The mouse did something.
    pub fn on_mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        if self.overlay != Overlay::None
            || self.page != Page::Wall
            || self.desk.sign_in.is_some()
            || event.kind != MouseEventKind::Down(MouseButton::Left)
        {
            return Vec::new();
        }
        let at = Position::new(event.column, event.row);
        let regions = regions(self);
        let Some(hit) = regions.tiles.iter().find(|tile| tile.whole.contains(at)) else { return Vec::new() };
        let double = self.clicked.is_some_and(|(tile, when)| tile == hit.tile && self.now.since(when) < DOUBLE_CLICK);
        self.selected = hit.tile;
        self.clicked = if double { None } else { Some((hit.tile, self.now)) };
        if double { self.act(Action::Enlarge) } else { Vec::new() }
    }

    /// Does what a key means.
    pub fn act(&mut self, action: Action) -> Vec<Effect> {
        let before = (self.enlarged, self.selected);
        let effects = self.carry(action);
        if before.0 != self.enlarged || (self.enlarged && before.1 != self.selected) {
            self.same_tiles_since = self.now;
        }
        effects
    }

    fn carry(&mut self, action: Action) -> Vec<Effect> {
        match action {
            Action::Move(columns, rows) => self.move_selection(columns, rows),
            Action::Step(step) => {
                let count = self.tiles.len().max(1) as i32;
                self.selected = (self.selected as i32 + step).rem_euclid(count) as usize;
            }
            Action::Enlarge => self.enlarged = !self.enlarged,
            Action::Desk(step) => return self.at_desk(step),
            Action::Back if self.overlay == Overlay::None && self.page != Page::Wall => self.step_back(),
            Action::Back => {
                if self.overlay == Overlay::None {
                    self.enlarged = false;
                }
                self.overlay = Overlay::None;
            }
            Action::SwitchStream => return self.switch_stream(),
            Action::Retry => {
                let keys = self.selected_tile().map(|tile| (tile.key(), tile.next_key()));
                return keys.into_iter().flat_map(|(key, next)| [Some(key), next]).flatten().map(Effect::Retry).collect();
            }
            Action::DamageChoice => return self.change_damage_choice(),
            Action::Faults if self.demo => self.overlay = Overlay::Faults,
            Action::Faults => self.say(Tone::Text, "faults can be ordered from the stand-in cameras of the demo only".into()),
            Action::Order(number) => {
                self.overlay = Overlay::None;
                let order = FAULTS.get(number).zip(self.selected_tile().copied());
                if let Some(((text, order), tile)) = order {
                    self.say(Tone::Text, format!("ordered for {}: {text}", self.name(&tile)));
                    return vec![Effect::Fault(tile.camera, order)];
                }
            }
            Action::Help => self.overlay = Overlay::Help(0),
            Action::Scroll(lines) => {
                if let Overlay::Help(at) = &mut self.overlay {
                    *at = at.saturating_add_signed(lines as i16);
                }
            }
            Action::Quit => return vec![Effect::Quit],
        }
        Vec::new()
    }

    /// Tells something at the foot.
    pub fn say(&mut self, tone: Tone, text: String) {
        self.notice = Some(Notice { text, tone, at: self.now });
    }

    fn change_damage_choice(&mut self) -> Vec<Effect> {
        let (choice, text) = match self.damage {
            DamageChoice::Hold => (DamageChoice::Show, "damaged pictures are shown, marked as damaged"),
            DamageChoice::Show => (DamageChoice::Hold, "after a loss the last clean picture is held until the next clean point"),
        };
        self.damage = choice;
        self.say(Tone::Text, text.into());
        vec![Effect::Damage(choice)]
    }

    fn move_selection(&mut self, columns: i32, rows: i32) {
        let grid = regions::grid(self);
        let (column, row) = ((self.selected % grid.0) as i32 + columns, (self.selected / grid.0) as i32 + rows);
        if column < 0 || row < 0 || column >= grid.0 as i32 {
            return;
        }
        let target = row as usize * grid.0 + column as usize;
        if target < self.tiles.len() {
            self.selected = target;
        }
    }

    fn switch_stream(&mut self) -> Vec<Effect> {
        let Some(tile) = self.tiles.get(self.selected).copied() else { return Vec::new() };
        if let Some(key) = tile.next_key() {
            // Again: stay with the stream that is there.
            self.tiles[self.selected].switching = None;
            self.pictures.remove(&key);
            return vec![Effect::Close(key)];
        }
        let at = StreamRole::ALL.iter().position(|role| *role == tile.role).unwrap_or(0);
        let mut others = (1..3).filter_map(|step| StreamRole::ALL.get((at + step) % 3));
        let there = |role: &&StreamRole| self.site.origin(FeedKey { camera: tile.camera, role: **role }).is_some();
        let Some(role) = others.find(there).copied() else {
            let text = format!("{} has no other stream here: only its {} is known", self.name(&tile), tile.role.word());
            self.say(Tone::Text, text);
            return Vec::new();
        };
        let key = FeedKey { camera: tile.camera, role };
        self.tiles[self.selected].switching = Some(role);
        self.pictures.remove(&key);
        vec![Effect::Open(key)]
    }

    /// Newest figures and pictures came in.
    pub fn on_news(
        &mut self,
        figures: HashMap<FeedKey, Arc<Figures>>,
        pictures: HashMap<FeedKey, Arc<TilePicture>>,
    ) -> Vec<Effect> {
        self.figures = figures;
        self.pictures = pictures;
        self.tell_dropouts();
        let mut effects = Vec::new();
        for index in 0..self.tiles.len() {
            effects.extend(self.finish_switch(index));
        }
        effects
    }

    /// A switch ends with the new stream's first picture, or with its failure.
    fn finish_switch(&mut self, index: usize) -> Option<Effect> {
        let tile = *self.tiles.get(index)?;
        let next = tile.next_key()?;
        if self.pictures.contains_key(&next) {
            self.tiles[index] = Tile { role: next.role, switching: None, ..tile };
            self.pictures.remove(&tile.key());
            return Some(Effect::Close(tile.key()));
        }
        let figures = self.figures.get(&next)?;
        let failed = matches!(figures.verdict, Verdict::Lost | Verdict::Locked)
            || (figures.verdict == Verdict::Stalled && figures.cause == Some(Cause::UnknownCodec));
        if !failed {
            return None;
        }
        let why = figures.text.clone().or(figures.cause.map(|cause| cause.to_string())).unwrap_or_default();
        let text = format!("{}: staying on {}, {} failed: {why}", self.name(&tile), tile.role.word(), next.role.word());
        self.tiles[index].switching = None;
        self.say(Tone::Alarm, text);
        Some(Effect::Close(next))
    }

    fn tell_dropouts(&mut self) {
        let mut news = None;
        for tile in &self.tiles {
            let key = tile.key();
            let Some(figures) = self.figures.get(&key) else { continue };
            let count = figures.dropout_totals.0;
            let seen = self.dropouts_seen.insert(key, count);
            if let Some(dropout) = figures.dropouts.last().filter(|_| seen.is_some_and(|seen| count > seen)) {
                news = Some((self.name(tile).to_owned(), *dropout));
            }
        }
        if let Some((name, dropout)) = news {
            self.say(Tone::Bright, format!("{} {name}: {}; back by itself", self.clock, describe(&dropout)));
        }
    }

    /// What to say at the foot: the newest news, or the trouble that lasts.
    pub fn foot_line(&self) -> Option<(String, Tone)> {
        if let Some(notice) = self.notice.as_ref().filter(|notice| self.now.since(notice.at) < NOTICE_STAYS) {
            return Some((notice.text.clone(), notice.tone));
        }
        let running = self.tiles.iter().find_map(|tile| {
            let figures = self.figures.get(&tile.key())?;
            Some((self.name(tile), figures.dropout_now?))
        });
        running.map(|(name, dropout)| (format!("{name}: {}", describe(&dropout)), Tone::Alarm))
    }
}

impl App {
    /// A camera comes onto the wall; it takes its stream that fits a tile.
    pub fn add_camera(&mut self, def: CameraDef) -> Vec<Effect> {
        let camera = self.site.cameras.len();
        let prefer = if self.site.cameras.is_empty() { StreamRole::Sub } else { self.site.prefer };
        let preferred = def.streams.iter().find(|stream| stream.role == prefer).or(def.streams.first());
        let Some(role) = preferred.map(|stream| stream.role) else { return Vec::new() };
        self.site.cameras.push(def);
        let tile = Tile { camera, role, switching: None };
        self.tiles.push(tile);
        self.same_tiles_since = self.now;
        vec![Effect::Define(camera), Effect::Open(tile.key())]
    }

    /// A camera leaves the wall.
    pub fn remove_camera(&mut self, name: &str) -> Vec<Effect> {
        let Some(camera) = self.site.cameras.iter().position(|def| def.name == name && !def.streams.is_empty()) else {
            return Vec::new();
        };
        let keys: Vec<FeedKey> = StreamRole::ALL.iter().map(|role| FeedKey { camera, role: *role }).collect();
        self.tiles.retain(|tile| tile.camera != camera);
        self.selected = self.selected.min(self.tiles.len().saturating_sub(1));
        self.enlarged &= !self.tiles.is_empty();
        if let Some(def) = self.site.cameras.get_mut(camera) {
            def.streams.clear(); // its place stays, since others are known by theirs
        }
        keys.into_iter().map(Effect::Close).chain([Effect::Define(camera)]).collect()
    }

    /// A camera is asked in another way now: its open streams begin anew.
    pub fn renew_camera(&mut self, def: CameraDef) -> Vec<Effect> {
        let Some(camera) = self.site.cameras.iter().position(|have| have.name == def.name) else { return self.add_camera(def) };
        if !self.tiles.iter().any(|tile| tile.camera == camera) {
            return self.add_camera(def);
        }
        if let Some(have) = self.site.cameras.get_mut(camera) {
            *have = def;
        }
        let open: Vec<FeedKey> = self
            .tiles
            .iter()
            .filter(|tile| tile.camera == camera)
            .flat_map(|tile| [Some(tile.key()), tile.next_key()])
            .flatten()
            .collect();
        let close = open.iter().copied().map(Effect::Close);
        close.chain([Effect::Define(camera)]).chain(open.iter().copied().map(Effect::Open)).collect()
    }

    /// A camera has another name now.
    pub fn rename_camera(&mut self, from: &str, to: &str) {
        for def in self.site.cameras.iter_mut().filter(|def| def.name == from) {
            to.clone_into(&mut def.name);
        }
    }

    /// Where `esc` leads from a page of the desk.
    fn step_back(&mut self) {
        self.page = match self.page {
            Page::Find | Page::Add | Page::Check | Page::Device if !self.desk.site.cameras.is_empty() => Page::Roster,
            _ if self.tiles.is_empty() => Page::Welcome,
            _ => Page::Wall,
        };
        self.same_tiles_since = self.now;
    }

    fn at_desk(&mut self, step: DeskStep) -> Vec<Effect> {
        if !self.desk.available {
            self.say(Tone::Text, "these cameras belong to no site: start `amber-lattice wall` to keep some".into());
            return Vec::new();
        }
        let errand = self.desk_step(step);
        errand.map(Effect::Errand).into_iter().collect()
    }

    fn desk_step(&mut self, step: DeskStep) -> Option<Errand> {
        match step {
            DeskStep::Roster => self.page = Page::Roster,
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
            DeskStep::Cancel => {
                (self.desk.typing, self.desk.sign_in) = (None, None);
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
            DeskStep::Check => {
                let name = self.desk_camera()?;
                self.page = Page::Check;
                self.desk.checks.clear();
                self.desk.check_row = 0;
                return Some(Errand::Check(vec![name]));
            }
            DeskStep::CheckAll => {
                self.page = Page::Check;
                self.desk.checks.clear();
                self.desk.check_row = 0;
                return Some(Errand::Check(Vec::new()));
            }
            DeskStep::Toggle => return self.desk.selected().map(|camera| Errand::Toggle(camera.name.clone())),
            DeskStep::Remove => return self.desk.selected().map(|camera| Errand::Remove(camera.name.clone())),
            DeskStep::Undo => return Some(Errand::Undo),
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
            | DeskStep::Dhcp => {
                return self.device_step(step);
            }
        }
        None
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
            _ => self.desk.selected().map(|camera| camera.name.clone()),
        }
    }

    fn move_row(&mut self, rows: i32) {
        if let (Page::Device, Some(device)) = (self.page, &mut self.desk.device) {
            return device.select(rows);
        }
        let (row, count) = match self.page {
            Page::Find => (&mut self.desk.found_row, self.desk.findings.devices().count()),
            Page::Check => (&mut self.desk.check_row, self.desk.checks.len()),
            _ => {
                let count = self.desk.rows().len();
                (&mut self.desk.row, count)
            }
        };
        *row = row.saturating_add_signed(rows as isize).min(count.saturating_sub(1));
    }

    fn take(&mut self) -> Option<Errand> {
        let targets = match self.page {
            Page::Add => self.desk.readings().into_iter().filter_map(|row| Some(row.reading.ok()?.target)).collect(),
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
        let Some(name) = self.desk.selected().map(|camera| camera.name.clone()) else { return };
        let tile = self.tiles.iter().position(|tile| self.name(tile) == name);
        match tile {
            Some(tile) => {
                (self.selected, self.enlarged, self.page) = (tile, true, Page::Wall);
                self.same_tiles_since = self.now;
            }
            None => self.say(Tone::Text, format!("{name} is not on the wall: it is switched off, or its streams are not known")),
        }
    }

    fn open_sign_in(&mut self) {
        if matches!(self.page, Page::Find | Page::Add) && !self.desk.locked.is_empty() {
            let targets = self.desk.locked.clone();
            return self.desk.ask_sign_in(SignInFor::Targets(targets));
        }
        if let Some(name) = self.desk_camera() {
            self.desk.ask_sign_in(SignInFor::Cameras(vec![name]));
        }
    }

    fn begin_typing(&mut self, what: TypingKind) {
        let camera = self.desk.selected().map(|camera| (camera.name.clone(), camera.group.clone().unwrap_or_default()));
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
        }
        None
    }
}

/// "no picture for 3.2 s, silence on the path".
fn describe(dropout: &Dropout) -> String {
    let cause = dropout.cause.map_or(String::new(), |cause| format!(", {cause}"));
    format!("no picture for {:.1} s{cause}", dropout.length.as_secs_f64())
}

#[cfg(test)]
mod tests;
