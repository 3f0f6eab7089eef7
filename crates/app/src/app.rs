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
mod site;
mod steps;
mod stream;
mod streams;
mod tour;

pub use aids::Aids;
pub use bench::{Bench, BenchStep, MOST as BENCH_MOST};
pub use flash::{FlashPage, Phase, ProbeStep};
pub use ledger::{LANE_SPANS, LedgerPage, LedgerStep, Only};
pub use painting::Painting;
pub use picker::{Pick, PickKind, Picker};
pub use placing::EditStep;
pub use roster::{Entry, GroupBy, RosterLine, RosterOrder, SortBy};
pub use site::{CameraDef, FeedKey, Site, StreamDef, Tile};
pub use stream::{StreamPage, StreamStep};
pub use streams::{reason, short_words};

use streams::host_of;

use crate::desk::{Desk, Errand, Page};
use crate::keep::Past;
use crate::keymap::{Action, Context, DeskStep, WallStep, action};
use crate::theme::Tone;
use crate::view::{desk_list, regions};
use lattice_core::meter::{Dropout, Figures, FlashStep, History, Sample};
use lattice_core::{Cause, Mono, Role, Verdict, Wall};
use lattice_media::{DamageChoice, TilePicture};
use lattice_net::Origin;
use lattice_store::Order;
use lattice_store::{Missing, Reading, StreamName};
use lattices::Lattices;
use mouse::Dragged;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;
use streams::Streams;
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

/// Readings that wait to be kept, at most.
const UNKEPT: usize = 20_000;

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
#[derive(Debug, Clone, PartialEq)]
pub enum Effect {
    /// A camera is there, or is another one now, at this place of the site.
    Define(usize),
    /// Work for the desk.
    Errand(Errand),
    /// Write a report of this time back to a file.
    Report(String, Duration),
    /// Write charts to a file: title, pages.
    Charts(String, Vec<lattice_report::Page>),
    /// Open a stream.
    Open(FeedKey),
    /// Close a stream.
    Close(FeedKey),
    /// Try a stream again now.
    Retry(FeedKey),
    /// Look what other screens show.
    AskScreens,
    /// Send something to another screen.
    Send(String, Order),
    /// A step of the flash probe of a stream.
    Flash(FeedKey, FlashStep),
    /// Keep the picture of a stream.
    Still(FeedKey),
    /// Keep the pictures of the wall.
    Sheet,
    /// Treat damaged pictures so.
    Damage(DamageChoice),
    /// Order a fault from a stand-in camera.
    Fault(usize, &'static str),
    /// Leave.
    Quit,
}

/// How long a line of news stays.
const NOTICE_STAYS: Duration = Duration::from_secs(12);
/// How long news that come by themselves wait behind an answer to the operator.
const ANSWER_STAYS: Duration = Duration::from_secs(4);
/// Two clicks within this time are one double click.
const DOUBLE_CLICK: Duration = Duration::from_millis(400);

/// All state of the wall.
#[allow(clippy::struct_excessive_bools, reason = "independent properties, not one state")]
pub struct App {
    /// What is shown.
    pub site: Site,
    /// Whether the cameras are stand-ins that take faults.
    pub demo: bool,
    /// What fills the screen.
    pub page: Page,
    /// Getting cameras in.
    pub desk: Desk,
    /// The lattices.
    pub lattices: Lattices,
    /// Which streams are open, and the plan for them.
    pub streams: Streams,
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
    pub fronted: BTreeMap<usize, usize>,
    /// Cameras in trouble that the operator sent away from the front.
    given_back: BTreeSet<usize>,
    /// A list in front of the wall.
    pub picker: Option<Picker>,
    /// The screen of the site that this is.
    pub screen: Option<String>,
    /// What other screens show, by their names; those that do not run are missing.
    pub other_screens: BTreeMap<String, String>,
    /// Streams side by side.
    pub bench: Bench,
    /// Receive buffers that were set here, of streams that belong to no site.
    pub buffers: HashMap<FeedKey, Duration>,
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
    pub history: HashMap<FeedKey, History>,
    /// What the figures were before this run.
    pub past: HashMap<StreamName, Past>,
    /// Readings and times without pictures that are to be kept.
    pub unkept: (Vec<Reading>, Vec<Missing>),
    /// How large the record on disk is, in bytes; 0 where nothing is kept.
    pub record_size: u64,
    /// There is neither header nor footer: a small window, or pictures only.
    pub bare: bool,
    /// The selected tile fills the wall.
    pub enlarged: bool,
    /// What stands in front.
    pub overlay: Overlay,
    /// The newest figures.
    pub figures: HashMap<FeedKey, Arc<Figures>>,
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
}

impl App {
    /// A wall with a tile for each camera, and what must be opened for it.
    pub fn new(site: Site, demo: bool, area: Rect, cell_aspect: f64) -> (Self, Vec<Effect>) {
        let mut lattices = Lattices::default();
        lattices.set_cameras(site.cameras.iter().filter(|camera| !camera.streams.is_empty()).map(|camera| camera.name.clone()));
        let mut app = Self {
            page: if site.cameras.is_empty() { Page::Welcome } else { Page::Wall },
            desk: Desk::default(),
            site,
            demo,
            lattices,
            streams: Streams::default(),
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
            buffers: HashMap::new(),
            stream_page: StreamPage::default(),
            flash: FlashPage::default(),
            log: LedgerPage::default(),
            aids: Aids::default(),
            painting: Painting::default(),
            history: HashMap::new(),
            past: HashMap::new(),
            unkept: Default::default(),
            record_size: 0,
            bare: false,
            enlarged: false,
            overlay: Overlay::None,
            figures: HashMap::new(),
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
        };
        let effects = app.settle();
        (app, effects)
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
    pub fn camera_name(&self, camera: usize) -> &str {
        self.site.cameras.get(camera).map_or("", |camera| camera.name.as_str())
    }

    /// A key was pressed.
    pub fn on_key(&mut self, event: KeyEvent) -> Vec<Effect> {
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

    /// The mouse did something.
    pub fn on_mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        let at = Position::new(event.column, event.row);
        if !matches!(event.kind, MouseEventKind::Moved) {
            self.works();
        }
        match event.kind {
            MouseEventKind::Up(MouseButton::Left) => return self.drop_at(at),
            MouseEventKind::Drag(MouseButton::Left) => {
                self.drag_off_the_roster();
                return Vec::new();
            }
            _ => {}
        }
        let wheel = match event.kind {
            MouseEventKind::ScrollDown => 1,
            MouseEventKind::ScrollUp => -1,
            MouseEventKind::Down(MouseButton::Left) => 0,
            _ => return Vec::new(),
        };
        match (self.context(), wheel) {
            (Context::Help, 1 | -1) => self.act(Action::Scroll(3 * wheel)),
            (Context::Roster | Context::Find | Context::Check | Context::Device | Context::Listen, 1 | -1) => {
                self.act(Action::Desk(DeskStep::Row(wheel)))
            }
            (Context::Roster | Context::Find | Context::Check | Context::Device | Context::Listen, _) => self.click_list(at),
            (Context::Bench, 0) => {
                let panes = crate::view::panes(self, regions(self).body);
                let clicked = panes.iter().position(|(_, picture, below)| picture.contains(at) || below.contains(at));
                self.bench.selected = clicked.unwrap_or(self.bench.selected);
                Vec::new()
            }
            (Context::Ledger, 1 | -1) => self.act(Action::Ledger(LedgerStep::Row(wheel))),
            (Context::Ledger, _) => self.click_list(at),
            (Context::Stream, 1 | -1) => self.act(Action::Stream(StreamStep::Cursor(2 * wheel))),
            (Context::Bench, _) => self.act(Action::Bench(BenchStep::Charts(wheel))),
            (Context::Wall | Context::Edit, 0) => self.click_tile(at),
            (Context::Pick, 0) => self.click_pick(at),
            (Context::Pick, _) => {
                self.pick_row(wheel);
                Vec::new()
            }
            (Context::Layouts, 0) => self.click_layout(at),
            (Context::Wall, _) => self.act(Action::Wall(WallStep::Page(wheel))),
            _ => Vec::new(),
        }
    }

    /// Whether a click on this tile or row follows one that was just made.
    pub(super) fn is_double_click(&mut self, on: usize) -> bool {
        let double = self.clicked.is_some_and(|(last, when)| last == on && self.now.since(when) < DOUBLE_CLICK);
        self.clicked = if double { None } else { Some((on, self.now)) };
        double
    }

    /// A row is selected by a click, a double click does what is meant for it; a column's title sorts.
    fn click_list(&mut self, at: Position) -> Vec<Effect> {
        let Some(list) = desk_list(self) else { return Vec::new() };
        if let Some(title) = list.title_at(at) {
            self.sort_by_title(title);
            return Vec::new();
        }
        let Some(row) = list.row_at(at) else { return Vec::new() };
        if !self.select_row(row) {
            return Vec::new();
        }
        if self.page == Page::Roster {
            self.dragged = self.roster_selected().map(|camera| Dragged::Camera(camera.name.clone()));
        }
        match (self.is_double_click(row), self.page) {
            (true, Page::Ledger) => self.act(Action::Ledger(LedgerStep::Show)),
            (true, Page::Roster | Page::Listen) => self.act(Action::Desk(DeskStep::Show)),
            (true, Page::Find) => {
                self.desk.tick();
                Vec::new()
            }
            _ => Vec::new(),
        }
    }

    /// Does what a key means.
    pub fn act(&mut self, action: Action) -> Vec<Effect> {
        let before = (self.enlarged, self.selected);
        let mut effects = self.carry(action);
        self.warned &= matches!(action, Action::Quit);
        if before.0 != self.enlarged || (self.enlarged && before.1 != self.selected) {
            self.same_tiles_since = self.now;
            if let Some(camera) = self.selected_tile().map(|tile| tile.camera).filter(|_| self.enlarged) {
                self.plan_anew(camera);
            }
        }
        effects.extend(self.settle());
        effects
    }

    fn carry(&mut self, action: Action) -> Vec<Effect> {
        match action {
            Action::Move(columns, rows) => match &mut self.overlay {
                Overlay::Layouts(at) => {
                    let last = i32::from(regions::layout_columns(self.area)) * rows + columns;
                    *at = at.saturating_add_signed(last as isize);
                    let count = self.layouts().len();
                    if let Overlay::Layouts(at) = &mut self.overlay {
                        *at = (*at).min(count.saturating_sub(1));
                    }
                }
                _ => self.move_selection(columns, rows),
            },
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
                return charts.map(|(title, pages)| Effect::Charts(title, pages)).into_iter().collect();
            }
            Action::Ledger(step) => self.ledger_step(step),
            Action::Stream(step) => self.stream_step(step),
            Action::Flash(step) => return self.probe_step(step),
            Action::PickRow(rows) => self.pick_row(rows),
            Action::Take => return self.take_overlay(),
            Action::Back if self.picker.is_some() => self.picker = None,
            Action::Back if self.overlay == Overlay::None && self.page == Page::Flash => return self.leave_flash(),
            Action::Back if self.overlay == Overlay::None && self.page != Page::Wall => self.step_back(),
            Action::Back => {
                if self.overlay == Overlay::None && !self.enlarged && self.lifted.is_none() {
                    self.end_tour();
                }
                if self.overlay == Overlay::None {
                    (self.enlarged, self.lifted) = (false, None);
                }
                self.overlay = Overlay::None;
            }
            Action::SwitchStream => return self.next_hold(),
            Action::Retry => {
                let keys = self.selected_tile().map(|tile| (tile.camera, tile.key(), tile.next_key()));
                if let Some((camera, ..)) = keys {
                    self.unbar(camera);
                }
                return keys.into_iter().flat_map(|(_, key, next)| [Some(key), next]).flatten().map(Effect::Retry).collect();
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
        vec![Effect::Damage(choice)]
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
        if self.desk.available && matches!(self.site.origin(tile.key()), Some(Origin::Pictures { .. })) {
            self.say(Tone::Text, format!("asking the device of {name} for a live stream ..."));
            return vec![Effect::Errand(Errand::Live(name))];
        }
        self.say(Tone::Text, format!("{name} has no other stream here: only its {} is known", tile.role.word()));
        Vec::new()
    }

    /// Newest figures and pictures came in.
    pub fn on_news(
        &mut self,
        figures: HashMap<FeedKey, Arc<Figures>>,
        pictures: HashMap<FeedKey, Arc<TilePicture>>,
    ) -> Vec<Effect> {
        self.figures = figures;
        self.pictures = pictures;
        self.remember();
        self.enter_events();
        self.align();
        self.tell_dropouts();
        // Every one of them, not only the first.
        let ended = (0..self.tiles.len()).filter(|index| self.finish_switch(*index)).count();
        let turned = self.tour_goes_on();
        let mut effects = self.flash_goes_on();
        effects.extend(if ended > 0 || turned { self.settle() } else { self.plan_now_and_then() });
        effects
    }

    /// A switch ends with the new stream's first picture, or with its failure; whether it did.
    fn finish_switch(&mut self, index: usize) -> bool {
        let Some(tile) = self.tiles.get(index).copied() else { return false };
        let Some((next, figures)) = tile.next_key().and_then(|next| Some((next, self.figures.get(&next)?))) else { return false };
        if self.pictures.contains_key(&next) && (!self.is_on_trial(next) || self.trial_is_passed(figures)) {
            self.tiles[index] = Tile { role: next.role, switching: None, ..tile };
            return true;
        }
        let failed = matches!(figures.verdict, Verdict::Lost | Verdict::Locked)
            || (figures.verdict == Verdict::Stalled && figures.cause == Some(Cause::UnknownCodec));
        if !failed {
            return false;
        }
        let why = figures.text.clone().or(figures.cause.map(|cause| cause.to_string())).unwrap_or_default();
        let text = format!("{}: staying on {}, {} failed: {why}", self.name(&tile), tile.role.word(), next.role.word());
        self.tiles[index].switching = None;
        self.bar_failed(next);
        self.say(Tone::Alarm, text);
        true
    }

    /// Keeps what the figures were, once a second.
    fn remember(&mut self) {
        for (key, figures) in &self.figures {
            let of = StreamName {
                camera: self.site.cameras.get(key.camera).map_or_else(String::new, |camera| camera.name.clone()),
                stream: key.role.word().to_owned(),
            };
            let history = self.history.entry(*key).or_insert_with(|| {
                let mut history = History::default();
                for (span, readings) in self.past.remove(&of).unwrap_or_default() {
                    let age = |at: Wall| self.utc.micros_since(at) as f64 / 1e6;
                    history.restore(self.now, span, readings.into_iter().map(|(at, sample)| (age(at), sample)));
                }
                history
            });
            if history.is_due(self.now) {
                let sample = Sample::of(figures);
                history.push(self.now, sample);
                // A stream that stands on the bench a second time is no second stream.
                if key.by.is_none() && self.unkept.0.len() < UNKEPT {
                    self.unkept.0.push(Reading { of, at: self.utc, sample });
                }
            }
        }
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
