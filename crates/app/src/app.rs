//! The wall's state and what changes it. No handles here: what is to be done outside comes out as
//! [`Effect`]s.

mod aids;
mod bench;
mod cameras;
mod flash;
pub mod lattices;
mod ledger;
mod mouse;
mod painting;
pub mod picker;
mod placing;
mod roster;
mod steps;
mod stream;
mod tour;

pub use aids::Aids;
pub use bench::{Bench, BenchStep, MOST as BENCH_MOST};
pub use flash::{FlashPage, Phase, ProbeStep};
/// A camera in a place of the page that is shown.
pub use lattice_engine::Seat as Tile;
pub use lattice_engine::{FeedKey, reason, short_words};
pub use ledger::{LANE_SPANS, LedgerPage, LedgerStep, Only};
pub use painting::Painting;
pub use picker::{Pick, PickKind, Picker};
pub use placing::EditStep;
pub use roster::{Entry, GroupBy, RosterLine, RosterOrder, SortBy};
pub use stream::{StreamPage, StreamStep};

use crate::desk::{Desk, Page};
use crate::keymap::{Action, Context, action};
use crate::theme::Tone;
use crate::view::regions;
use lattice_core::meter::{Dropout, Figures};
use lattice_core::thresholds::Thresholds;
use lattice_core::{Mono, Role, Wall};
use lattice_engine::jobs::Errand;
use lattice_engine::{
    Beginning, CameraId, Cameras, Command, Known, Planned, RecordState, SharedHistory, Snapshot, StreamFacts, ViewerId,
};
use lattice_media::{DamageChoice, TilePicture};
use lattice_net::Origin;
use lattices::Lattices;
use mouse::Dragged;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyEventKind};
use ratatui::layout::Rect;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;
use tour::RunningTour;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler as _;

/// What stands in front of the wall.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Overlay {
    /// Nothing.
    None,
    /// The help, scrolled down by this many lines.
    Help(u16),
    /// The list of faults.
    Faults,
    /// The layouts, with the selected one.
    Layouts(usize),
    /// What the planner decided, scrolled down by this many lines.
    Plan(u16),
    /// The numbers of the tiles, and what was typed of one.
    Numbers(String),
    /// The layout is changed by hand: the places that are ticked to be joined.
    Edit(BTreeSet<usize>),
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
    /// Whether it came by itself, not as the answer to what the operator did.
    pub by_itself: bool,
}

/// Faults of the demo: what is shown and what is ordered.
pub const FAULTS: [(&str, &str); 9] = [
    ("cut the session for 4 s", "cut 4"),
    ("stall: send nothing for 3 s", "stall 3"),
    ("drop 5 % of packets for 15 s", "loss 5 15"),
    ("delay by 120 to 200 ms for 20 s", "delay 120 80 20"),
    ("slow to 40 % of the frame rate for 20 s", "slow 40 20"),
    ("freeze the picture for 30 s", "freeze 30"),
    ("cover the lens for 20 s", "cover 20"),
    ("night mode for 40 s", "night 40"),
    ("a link of 250 kbit/s for 20 s", "throttle 250 20"),
];

/// What is to be done outside.
#[derive(Debug, PartialEq)]
pub enum Effect {
    /// Something for the engine.
    Tell(Command),
    /// Order a fault from the stand-in camera of this name.
    Fault(String, &'static str),
    /// Leave.
    Quit,
    /// What the engine would open.
    #[cfg(test)]
    Open(FeedKey),
    /// What the engine would close.
    #[cfg(test)]
    Close(FeedKey),
}

impl From<Errand> for Effect {
    fn from(errand: Errand) -> Self {
        Self::Tell(Command::Errand(errand))
    }
}

/// How long a line of news stays.
const NOTICE_STAYS: Duration = Duration::from_secs(12);
/// How long news that come by themselves wait behind an answer to the operator.
const ANSWER_STAYS: Duration = Duration::from_secs(4);

/// All state of the wall.
#[allow(clippy::struct_excessive_bools, reason = "independent properties, not one state")]
pub struct App {
    /// The name of what is shown.
    pub name: String,
    /// The cameras.
    pub cameras: Arc<Cameras>,
    /// Which screen of the engine this is.
    pub viewer: ViewerId,
    /// Streams that are open.
    pub open: Arc<BTreeSet<FeedKey>>,
    /// What stands in each place, as the engine has it.
    seats: Vec<Tile>,
    /// The newest plan, and what it is made from.
    pub plan: Arc<Planned>,
    /// What is known of streams, for planning.
    pub facts: Arc<HashMap<FeedKey, StreamFacts>>,
    /// Commands that wait for the end of the step.
    orders: Vec<Command>,
    /// Whether the cameras are stand-ins that take faults.
    pub demo: bool,
    /// What fills the screen.
    pub page: Page,
    /// Getting cameras in.
    pub desk: Desk,
    /// The lattices.
    pub lattices: Lattices,
    /// The tiles of the page that is shown, but for empty ones.
    pub tiles: Vec<Tile>,
    /// The selected place of the page.
    pub selected: usize,
    /// The tile that was lifted to be swapped, by its number through all pages.
    pub lifted: Option<usize>,
    /// The tour that runs.
    tour: Option<RunningTour>,
    /// When the operator did something last.
    worked: Option<Mono>,
    /// Places that cameras in trouble took while the tour runs.
    pub fronted: BTreeMap<usize, CameraId>,
    /// Cameras in trouble that the operator sent away from the front.
    given_back: BTreeSet<CameraId>,
    /// A list in front of the wall.
    pub picker: Option<Picker>,
    /// The screen of the site that this is.
    pub screen: Option<String>,
    /// What other screens show, by their names; those that do not run are missing.
    pub other_screens: BTreeMap<String, String>,
    /// Streams side by side.
    pub bench: Bench,
    /// Receive buffers that were set here, of streams that belong to no site.
    pub buffers: Arc<HashMap<FeedKey, Duration>>,
    /// One stream on the whole screen.
    pub stream_page: StreamPage,
    /// The flash probe.
    pub flash: FlashPage,
    /// What happened.
    pub log: LedgerPage,
    /// What helps the eyes.
    pub aids: Aids,
    /// How pictures are painted.
    pub painting: Painting,
    /// What the figures were.
    pub history: Arc<HashMap<FeedKey, SharedHistory>>,
    /// What is known of devices.
    pub known: Arc<Known>,
    /// How the record stands.
    pub record: RecordState,
    /// There is neither header nor footer: a small window, or pictures only.
    pub bare: bool,
    /// The selected tile fills the wall.
    pub enlarged: bool,
    /// What stands in front.
    pub overlay: Overlay,
    /// The newest figures.
    pub figures: Arc<HashMap<FeedKey, Arc<Figures>>>,
    /// The newest pictures.
    pub pictures: HashMap<FeedKey, Arc<TilePicture>>,
    /// Streams of whose pictures the terminal has not taken the whole yet.
    pub unfinished: BTreeSet<FeedKey>,
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
    /// Now, on this machine's UTC.
    pub utc: Wall,
    /// Since when the same tiles are on the screen: pictures of others are not kept fresh.
    pub same_tiles_since: Mono,
    clicked: Option<(usize, Mono)>,
    /// What the mouse took hold of.
    dragged: Option<Dragged>,
    /// The tile that is being held on one stream after the other, and on which it was first.
    first_held: Option<(usize, Role)>,
    /// Leaving was asked for while something is not saved.
    warned: bool,
    dropouts_seen: HashMap<FeedKey, u64>,
    /// The engine that tests hold it against.
    #[cfg(test)]
    pub rig: tests::rig::Rig,
}

impl App {
    /// A wall without cameras yet.
    pub fn new(name: String, demo: bool, area: Rect, cell_aspect: f64) -> Self {
        Self {
            page: Page::Wall,
            desk: Desk::default(),
            name,
            cameras: Arc::default(),
            viewer: ViewerId(0),
            open: Arc::default(),
            seats: Vec::new(),
            plan: Arc::default(),
            facts: Arc::default(),
            orders: Vec::new(),
            demo,
            lattices: Lattices::default(),
            tiles: Vec::new(),
            selected: 0,
            lifted: None,
            tour: None,
            worked: None,
            fronted: BTreeMap::new(),
            given_back: BTreeSet::new(),
            picker: None,
            screen: None,
            other_screens: BTreeMap::new(),
            bench: Bench::default(),
            buffers: Arc::default(),
            stream_page: StreamPage::default(),
            flash: FlashPage::default(),
            log: LedgerPage::default(),
            aids: Aids::default(),
            painting: Painting::default(),
            history: Arc::default(),
            known: Arc::default(),
            record: RecordState::default(),
            bare: false,
            enlarged: false,
            overlay: Overlay::None,
            figures: Arc::default(),
            pictures: HashMap::new(),
            unfinished: BTreeSet::new(),
            notice: None,
            damage: DamageChoice::default(),
            area,
            cell_aspect,
            now: Mono::ZERO,
            clock: String::new(),
            utc: Wall::from_unix_micros(0),
            same_tiles_since: Mono::ZERO,
            clicked: None,
            dragged: None,
            first_held: None,
            warned: false,
            dropouts_seen: HashMap::new(),
            #[cfg(test)]
            rig: tests::rig::Rig::default(),
        }
    }

    /// The engine's first state, and what is known since it began.
    pub fn begin(&mut self, snapshot: &Snapshot, beginning: &Beginning) {
        self.desk.faults.clone_from(&beginning.faults);
        self.desk.ranges.clone_from(&beginning.ranges);
        self.on_snapshot(snapshot);
        if let Some(remark) = &beginning.remark {
            self.say(Tone::Alarm, remark.clone());
        }
    }

    /// The line at the foot of what is put on paper.
    pub fn foot_on_paper(&self) -> String {
        format!("{}, made with Amber Lattice at {}", self.name, self.clock)
    }

    /// Tells the engine something, at the end of the step.
    fn tell(&mut self, command: Command) {
        self.orders.push(command);
    }

    /// What a step comes to, with what it told the engine first.
    fn with_orders(&mut self, effects: Vec<Effect>) -> Vec<Effect> {
        let orders = std::mem::take(&mut self.orders);
        orders.into_iter().map(Effect::Tell).chain(effects).collect()
    }

    /// Where keys apply now.
    pub fn context(&self) -> Context {
        if self.picker.is_some() {
            return Context::Pick;
        }
        match self.overlay {
            Overlay::None if self.desk.device.as_ref().is_some_and(|device| device.password.is_some()) => Context::Password,
            Overlay::None if self.desk.sign_in.is_some() => Context::SignIn,
            Overlay::None if !self.desk.choosing.is_empty() && self.page != Page::Wall => Context::Channels,
            Overlay::None if self.desk.certificate.is_some() => Context::Certificate,
            Overlay::None if self.desk.typing.is_some() => Context::Typing,
            Overlay::None => self.page.context(),
            Overlay::Help(_) => Context::Help,
            Overlay::Faults => Context::Faults,
            Overlay::Layouts(_) => Context::Layouts,
            Overlay::Plan(_) => Context::Plan,
            Overlay::Numbers(_) => Context::Numbers,
            Overlay::Edit(_) => Context::Edit,
        }
    }

    /// The selected tile.
    pub fn selected_tile(&self) -> Option<&Tile> {
        self.tile_at(self.selected)
    }

    /// The tile at a place.
    pub fn tile_at(&self, place: usize) -> Option<&Tile> {
        self.tiles.iter().find(|tile| tile.place == place)
    }

    /// Name of a tile's camera.
    pub fn name(&self, tile: &Tile) -> &str {
        self.camera_name(tile.camera)
    }

    /// Name of a camera.
    pub fn camera_name(&self, camera: CameraId) -> &str {
        self.cameras.name(camera)
    }

    /// A key was pressed.
    pub fn on_key(&mut self, event: KeyEvent) -> Vec<Effect> {
        let effects = self.key(event);
        self.with_orders(effects)
    }

    fn key(&mut self, event: KeyEvent) -> Vec<Effect> {
        if event.kind == KeyEventKind::Release {
            return Vec::new();
        }
        self.works();
        let context = self.context();
        if let Some(action) = action(context, event) {
            return self.act(action);
        }
        if let (Overlay::Numbers(typed), KeyCode::Char(digit @ '0'..='9')) = (&mut self.overlay, event.code)
            && typed.len() < 4
        {
            typed.push(digit);
        }
        if let Some(picker) = &mut self.picker {
            let _ = picker.input.handle_event(&ratatui::crossterm::event::Event::Key(event));
            picker.row = 0;
        } else if context.is_text()
            && let Some(input) = self.desk.text(self.page)
        {
            let _ = input.handle_event(&ratatui::crossterm::event::Event::Key(event));
        }
        Vec::new()
    }

    /// Text was pasted.
    pub fn on_paste(&mut self, text: &str) -> Vec<Effect> {
        match self.context() {
            Context::Wall | Context::Welcome | Context::Roster | Context::Find | Context::Listen if self.desk.available => {
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

    /// Does what a key means.
    pub fn act(&mut self, action: Action) -> Vec<Effect> {
        let before = (self.enlarged, self.selected);
        let effects = self.carry(action);
        self.warned &= matches!(action, Action::Quit);
        if before.0 != self.enlarged || (self.enlarged && before.1 != self.selected) {
            self.same_tiles_since = self.now;
            if let Some(camera) = self.selected_tile().map(|tile| tile.camera).filter(|_| self.enlarged) {
                self.tell(Command::PlanAnew(camera));
            }
        }
        self.seat();
        effects
    }

    fn carry(&mut self, action: Action) -> Vec<Effect> {
        match action {
            Action::Move(columns, rows) => {
                let count = self.layouts().len();
                match &mut self.overlay {
                    Overlay::Layouts(at) => {
                        let step = i32::from(regions::layout_columns(self.area)) * rows + columns;
                        *at = at.saturating_add_signed(step as isize).min(count.saturating_sub(1));
                    }
                    _ => self.move_selection(columns, rows),
                }
            }
            Action::Step(step) => self.step_selection(step),
            Action::Enlarge => {
                if self.selected_tile().is_some() {
                    self.enlarged = !self.enlarged;
                } else if self.placed(self.selected).is_none() {
                    self.picker = Some(Picker::new(PickKind::Camera));
                }
            }
            Action::Desk(step) => return self.at_desk(step),
            Action::Wall(step) => return self.wall_step(step),
            Action::Edit(step) => self.edit_layout(step),
            Action::Bench(step) => return self.bench_step(step),
            Action::WriteCharts => {
                let charts = crate::view::on_paper(self);
                if charts.is_none() {
                    self.say(Tone::Text, "there is no chart here yet".into());
                }
                return charts.map(|(title, drawing)| Effect::Tell(Command::Charts(title, drawing))).into_iter().collect();
            }
            Action::Ledger(step) => self.ledger_step(step),
            Action::Stream(step) => self.stream_step(step),
            Action::Flash(step) => return self.probe_step(step),
            Action::PickRow(rows) => self.pick_row(rows),
            Action::Take => return self.take_overlay(),
            Action::Back if self.picker.is_some() => self.picker = None,
            Action::Back if self.overlay == Overlay::None && self.page == Page::Flash => return self.leave_flash(),
            Action::Back if self.overlay == Overlay::None && self.page != Page::Wall => self.step_back(),
            Action::Back => self.back_on_the_wall(),
            Action::SwitchStream => return self.next_hold(),
            Action::Retry => return self.retry(),
            Action::DamageChoice => return self.change_damage_choice(),
            Action::Faults if self.demo => self.overlay = Overlay::Faults,
            Action::Faults => self.say(Tone::Text, "faults can be ordered from the stand-in cameras of the demo only".into()),
            Action::Order(number) => {
                self.overlay = Overlay::None;
                let order = FAULTS.get(number).zip(self.selected_tile().copied());
                if let Some(((text, order), tile)) = order {
                    self.say(Tone::Text, format!("ordered for {}: {text}", self.name(&tile)));
                    return vec![Effect::Fault(self.name(&tile).to_owned(), order)];
                }
            }
            Action::Help => self.overlay = Overlay::Help(0),
            Action::Scroll(lines) => {
                if let Overlay::Help(at) | Overlay::Plan(at) = &mut self.overlay {
                    *at = at.saturating_add_signed(lines as i16);
                }
            }
            Action::Quit if self.desk.available && self.lattices.has_changes() && !self.warned => {
                self.warned = true;
                self.say(Tone::Alarm, "lattices have changes that are not saved: w saves them, q again leaves without".into());
            }
            Action::Quit => return vec![Effect::Quit],
        }
        Vec::new()
    }

    fn back_on_the_wall(&mut self) {
        if self.overlay == Overlay::None {
            if !self.enlarged && self.lifted.is_none() {
                self.end_tour();
            }
            (self.enlarged, self.lifted) = (false, None);
        }
        self.overlay = Overlay::None;
    }

    /// The selected camera is tried again, whatever barred it; also the stream that it is about to change to.
    fn retry(&mut self) -> Vec<Effect> {
        let Some((camera, key, next)) = self.selected_tile().map(|tile| (tile.camera, tile.key(), tile.next_key())) else {
            return Vec::new();
        };
        self.tell(Command::Unbar(camera));
        [Some(key), next].into_iter().flatten().map(|key| Effect::Tell(Command::Retry(key))).collect()
    }

    /// What is selected in front of the wall is taken.
    fn take_overlay(&mut self) -> Vec<Effect> {
        if self.picker.is_some() {
            return self.pick_taken();
        }
        match std::mem::replace(&mut self.overlay, Overlay::None) {
            Overlay::Layouts(at) => {
                if let Some(layout) = self.layouts().into_iter().nth(at) {
                    self.take_layout(layout);
                }
            }
            Overlay::Numbers(typed) => {
                let number = typed.parse::<usize>().ok().and_then(|number| number.checked_sub(1));
                let (places, pages) = (self.lattices.shown().places(), self.lattices.shown().pages());
                match number.filter(|number| *number < places * pages) {
                    Some(number) => {
                        self.lattices.turn(number / places);
                        (self.selected, self.same_tiles_since) = (number % places, self.now);
                    }
                    None if typed.is_empty() => {}
                    None => self.say(Tone::Text, format!("there is no tile {typed} in this lattice")),
                }
            }
            _ => {}
        }
        Vec::new()
    }

    /// From where on the figures of a stream are a strain, at its rate.
    pub fn thresholds(&self, key: FeedKey) -> Thresholds {
        let declared = self.figures.get(&key).and_then(|figures| figures.declared);
        self.desk.site.thresholds_of(self.camera_name(key.camera), key.role).at_rate(declared)
    }

    /// Tells something at the foot.
    pub fn say(&mut self, tone: Tone, text: String) {
        self.notice = Some(Notice { text, tone, at: self.now, by_itself: false });
    }

    fn change_damage_choice(&mut self) -> Vec<Effect> {
        let (choice, text) = match self.damage {
            DamageChoice::Hold => (DamageChoice::Show, "damaged pictures are shown, marked as damaged"),
            DamageChoice::Show => (DamageChoice::Hold, "after a loss the last clean picture is held until the next clean point"),
        };
        self.damage = choice;
        self.say(Tone::Text, text.into());
        vec![Effect::Tell(Command::Damage(choice))]
    }

    /// The nearest place in this direction.
    fn move_selection(&mut self, columns: i32, rows: i32) {
        let places = regions::places(self);
        if let Some(next) = regions::beside(&places, self.selected, columns, rows) {
            self.selected = next;
        }
    }

    /// The next place, on to the next page behind the last one; while one is enlarged, the next camera.
    fn step_selection(&mut self, step: i32) {
        let lattice = self.lattices.shown();
        let count = (lattice.places() * lattice.pages()) as i32;
        let here = self.tile_number(self.selected) as i32;
        let mut at = here;
        for _ in 0..count {
            at = (at + step).rem_euclid(count.max(1));
            if !self.enlarged || lattice.at(at as usize).is_some() {
                break;
            }
        }
        let (places, before) = (lattice.places(), self.lattices.page());
        self.lattices.turn(at as usize / places);
        self.selected = at as usize % places;
        if self.lattices.page() != before {
            self.same_tiles_since = self.now;
        }
    }

    /// The only stream of a camera: where that shows stills, its device is asked for a live one.
    fn only_stream(&mut self, tile: &Tile) -> Vec<Effect> {
        let name = self.name(tile).to_owned();
        if self.desk.available && matches!(self.cameras.origin(tile.key()), Some(Origin::Pictures { .. })) {
            self.say(Tone::Text, format!("asking the device of {name} for a live stream ..."));
            return vec![Errand::Live(name).into()];
        }
        self.say(Tone::Text, format!("{name} has no other stream here: only its {} is known", tile.role.word()));
        Vec::new()
    }

    /// The engine's newest state.
    pub fn on_snapshot(&mut self, snapshot: &Snapshot) {
        if !Arc::ptr_eq(&self.desk.site, &snapshot.site) {
            self.desk.site = snapshot.site.clone();
            self.lattices.on_saved(&self.desk.site.lattices);
        }
        if !Arc::ptr_eq(&self.cameras, &snapshot.cameras) {
            self.cameras = snapshot.cameras.clone();
            self.lattices.set_cameras(self.cameras.names().map(str::to_owned));
        }
        self.open = snapshot.open.clone();
        self.figures = snapshot.figures.clone();
        self.history = snapshot.histories.clone();
        self.plan = snapshot.plan.clone();
        self.facts = snapshot.facts.clone();
        self.buffers = snapshot.buffers.clone();
        self.known = snapshot.known.clone();
        self.record = snapshot.record.clone();
        self.log.ledger = snapshot.ledger.clone();
        self.desk.own_addresses = snapshot.own_addresses.clone();
        self.seats = snapshot.seats.get(&self.viewer).cloned().unwrap_or_default();
        self.seat();
        self.align();
        self.tell_dropouts();
    }

    /// Time goes on: tours turn, the flash probe goes on; what is to be done outside.
    pub fn goes_on(&mut self) -> Vec<Effect> {
        if self.tour_goes_on() {
            self.seat();
        }
        let mut effects = self.flash_goes_on();
        if self.page == Page::Device {
            effects.extend(self.probe());
        }
        self.with_orders(effects)
    }

    fn tell_dropouts(&mut self) {
        if self.notice.as_ref().is_some_and(|notice| !notice.by_itself && self.now.since(notice.at) < ANSWER_STAYS) {
            return; // told when the answer has been read
        }
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
            let text = format!("{} {name}: {}; back by itself", self.clock, describe(&dropout));
            self.notice = Some(Notice { text, tone: Tone::Bright, at: self.now, by_itself: true });
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

/// "no picture for 3.2 s, no packets come".
fn describe(dropout: &Dropout) -> String {
    let cause = dropout.cause.map_or(String::new(), |cause| format!(", {cause}"));
    format!("no picture for {:.1} s{cause}", dropout.length.as_secs_f64())
}

#[cfg(test)]
mod tests;
