//! The wall's state and what changes it. No handles here: what is to be done outside comes out as
//! [`Effect`]s.

mod aids;
mod cameras;
pub mod entry;
pub mod hearing;
mod mouse;
mod painting;
mod placing;
pub mod regions;
#[cfg(test)]
mod rig;
pub mod sights;
mod stack;
mod tour;
mod trouble;

use super::aids::Aids;
use super::guide::Guide;
use super::lattices::Lattices;
use super::newcomers::Newcomers;
use super::own::Own;
use super::page::{AnyPage, Pages, Section};
use super::painting::Painting;
use super::theme::{Colours, Tone};
use super::tour::RunningTour;
use lattice_core::adjust::Toned;
use lattice_core::find::FirmwareFault;
use lattice_core::ledger::Ledger;
use lattice_core::meter::{Dropout, Figures};
use lattice_core::thresholds::Thresholds;
use lattice_core::view::View;
use lattice_core::{Mono, Role, Wall};
/// A camera in a place of the page that is shown.
pub use lattice_engine::Seat as Tile;
use lattice_engine::jobs::Errand;
use lattice_engine::{
    Beginning, CameraId, Cameras, Command, Drawing, FeedKey, Hearing, Known, News, Planned, RecordState, SharedHistory, Snapshot,
    StreamFacts, ViewerId,
};
use lattice_media::{DamageChoice, TilePicture};
use lattice_net::Origin;
use lattice_store::Site;
use ratatui::layout::{Position, Rect};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

/// What the mouse took hold of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Dragged {
    /// A tile, by its number through all pages.
    Tile(usize),
    /// A camera out of a list.
    Camera(String),
    /// What is seen of the picture at this place; the mouse was here last.
    View(usize, Position),
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

/// What is to be done outside.
#[derive(Debug, PartialEq)]
pub enum Effect {
    /// Something for the engine.
    Tell(Command),
    /// Order a fault from the stand-in camera of this name.
    Fault(String, &'static str),
    /// Ring the terminal's bell.
    Bell,
    /// Show a notification on the desktop: title and text.
    Notify(String, String),
    /// Leave.
    Quit,
    /// What the engine would open.
    #[cfg(test)]
    Open(FeedKey),
    /// What the engine would close.
    #[cfg(test)]
    Close(FeedKey),
}

/// How long a line of news stays.
const NOTICE_STAYS: Duration = Duration::from_secs(12);
/// How long news that come by themselves wait behind an answer to the operator.
const ANSWER_STAYS: Duration = Duration::from_secs(4);

/// A time of day here, in a format of `strftime`.
pub fn local_time(at: Wall, format: &str) -> String {
    let at = jiff::Timestamp::from_microsecond(at.as_unix_micros()).unwrap_or_default();
    at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime(format).to_string()
}

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
    /// The streams of the tiles by their cameras.
    tile_keys: HashMap<CameraId, FeedKey>,
    /// What stands in each place, as the engine has it.
    seats: Vec<Tile>,
    /// The newest plan, and what it is made from.
    pub plan: Arc<Planned>,
    /// What is known of streams, for planning.
    pub facts: Arc<HashMap<FeedKey, StreamFacts>>,
    /// What is to be done outside, at the end of the step.
    effects: Vec<Effect>,
    /// Whether the cameras are stand-ins that take faults.
    pub demo: bool,
    /// All pages, and those that are on the screen.
    pub pages: Pages,
    /// There is a site to put cameras into.
    pub available: bool,
    /// The site.
    pub site: Arc<Site>,
    /// Cameras on their way in.
    pub newcomers: Newcomers,
    /// Firmware with known faults.
    pub firmware_faults: Vec<FirmwareFault>,
    /// Addresses of this machine that a sender can be given.
    pub own_addresses: Arc<Vec<String>>,
    /// All entries of the ledger.
    pub ledger: Arc<Ledger>,
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
    /// Who stands on the trouble wall.
    trouble: trouble::Trouble,
    /// When the operator did something last.
    worked: Option<Mono>,
    /// Places that cameras in trouble took while the tour runs.
    pub fronted: BTreeMap<usize, CameraId>,
    /// Places that rules gave to cameras that report something, and until when.
    pub called: BTreeMap<usize, (CameraId, Mono)>,
    /// Cameras in trouble that the operator sent away from the front.
    given_back: BTreeSet<CameraId>,
    /// The screen of the site that this is.
    pub screen: Option<String>,
    /// What other screens show, by their names; those that do not run are missing.
    pub other_screens: BTreeMap<String, String>,
    /// Receive buffers that were set here, of streams that belong to no site.
    pub buffers: Arc<HashMap<FeedKey, Duration>>,
    /// What helps the eyes.
    pub aids: Aids,
    /// How pictures are painted.
    pub painting: Painting,
    /// What the figures were.
    pub history: Arc<HashMap<FeedKey, SharedHistory>>,
    /// What is known of devices.
    pub known: Arc<Known>,
    /// What is heard.
    pub hearing: Arc<Hearing>,
    /// How the record stands.
    pub record: RecordState,
    /// There is neither header nor footer: a small window, or pictures only.
    pub bare: bool,
    /// The selected tile fills the wall.
    pub enlarged: bool,
    /// The newest figures.
    pub figures: Arc<HashMap<FeedKey, Arc<Figures>>>,
    /// The newest pictures.
    pub pictures: HashMap<FeedKey, Arc<TilePicture>>,
    /// Those of places that show another part of a picture, or another view into it.
    pub views: HashMap<(FeedKey, usize), Arc<TilePicture>>,
    /// What adjusting did to the newest picture of the stream that the page is about, while that is asked for.
    pub tones: Option<Arc<Toned>>,
    /// How much moves at each place of streams that are watched for motion.
    pub activity: HashMap<FeedKey, Arc<[u8]>>,
    /// Cameras on whose tiles the trace of what moves is shown, by name.
    pub traced: BTreeSet<String>,
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
    /// The operator's own colours.
    pub colours: [Option<&'static Colours>; 2],
    /// Which key to press next, in the demo.
    pub guide: Option<Guide>,
    /// Since when the same tiles are on the screen: pictures of others are not kept fresh.
    pub same_tiles_since: Mono,
    clicked: Option<(usize, Mono)>,
    /// What the mouse took hold of.
    pub dragged: Option<Dragged>,
    /// The tile that is being held on one stream after the other, and on which it was first.
    first_held: Option<(usize, Role)>,
    /// Leaving was asked for while something is not saved: by this key, by the one before.
    is_warned: bool,
    /// The operator left for the demo.
    pub wants_demo: bool,
    /// Something that must be seen before it goes: any key takes it away.
    pub unseen: Option<String>,
    was_warned: bool,
    dropouts_seen: HashMap<FeedKey, u64>,
    /// The engine that tests hold it against.
    #[cfg(test)]
    pub rig: rig::Rig,
}

impl App {
    /// A screen with these pages, and no camera yet.
    pub fn new(
        name: String,
        demo: bool,
        area: Rect,
        cell_aspect: f64,
        (pages, fronts): (Vec<Box<dyn AnyPage>>, Vec<Section>),
    ) -> Self {
        Self {
            pages: Pages::new(pages, fronts),
            available: false,
            site: Arc::default(),
            newcomers: Newcomers::default(),
            firmware_faults: Vec::new(),
            own_addresses: Arc::default(),
            ledger: Arc::default(),
            name,
            cameras: Arc::default(),
            viewer: ViewerId(0),
            open: Arc::default(),
            tile_keys: HashMap::new(),
            seats: Vec::new(),
            plan: Arc::default(),
            facts: Arc::default(),
            effects: Vec::new(),
            demo,
            lattices: Lattices::default(),
            tiles: Vec::new(),
            selected: 0,
            lifted: None,
            tour: None,
            trouble: trouble::Trouble::default(),
            colours: [None; 2],
            guide: None,
            worked: None,
            fronted: BTreeMap::new(),
            called: BTreeMap::new(),
            given_back: BTreeSet::new(),
            screen: None,
            other_screens: BTreeMap::new(),
            buffers: Arc::default(),
            aids: Aids::default(),
            painting: Painting::default(),
            history: Arc::default(),
            known: Arc::default(),
            hearing: Arc::default(),
            record: RecordState::default(),
            bare: false,
            enlarged: false,
            figures: Arc::default(),
            pictures: HashMap::new(),
            views: HashMap::new(),
            tones: None,
            activity: HashMap::new(),
            traced: BTreeSet::new(),
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
            is_warned: false,
            wants_demo: false,
            unseen: None,
            was_warned: false,
            dropouts_seen: HashMap::new(),
            #[cfg(test)]
            rig: rig::Rig::default(),
        }
    }

    /// The engine's first state, and what is known since it began.
    pub fn begin(&mut self, snapshot: &Snapshot, beginning: &Beginning) {
        self.firmware_faults.clone_from(&beginning.faults);
        self.begin_pages(beginning);
        self.on_snapshot(snapshot);
        // What is not kept, or was set aside, stands there until somebody has seen it.
        let not_kept = snapshot.record.not_kept.clone().filter(|why| why.starts_with("ledger and history are not kept"));
        self.unseen = beginning.remark.clone().or(not_kept);
    }

    /// The operator's own keys and colours; what is wrong in them stands there until somebody has seen it.
    pub fn take_own(&mut self, mut own: Own) {
        own.rekey(&mut self.pages.tables);
        self.colours = own.colours;
        if !own.wrong.is_empty() {
            let more = if own.wrong.len() > 1 { format!(" (and {} more)", own.wrong.len() - 1) } else { String::new() };
            self.unseen.get_or_insert(format!("{}{more}; the usual is taken for it", own.wrong[0]));
        }
    }

    /// The line at the foot of what is put on paper.
    pub fn foot_on_paper(&self) -> String {
        format!("{}, made with Amber Lattice at {}", self.name, self.clock)
    }

    /// The time of day as it stands in names of files.
    pub fn file_time(&self) -> String {
        local_time(self.utc, "%Y%m%d-%H%M%S")
    }

    /// Tells the engine something, at the end of the step.
    pub fn tell(&mut self, command: Command) {
        self.effects.push(Effect::Tell(command));
    }

    /// Orders work on the site or its devices, at the end of the step.
    pub fn order(&mut self, errand: Errand) {
        self.tell(Command::Errand(errand));
    }

    /// Orders a fault from the stand-in camera of this name.
    pub fn order_fault(&mut self, camera: String, order: &'static str) {
        self.effects.push(Effect::Fault(camera, order));
    }

    /// Writes charts to a file, where there are some.
    pub fn write(&mut self, charts: Option<(String, Drawing)>) {
        match charts {
            Some((title, drawing)) => self.tell(Command::Charts(title, drawing)),
            None => self.say(Tone::Text, "there is no chart here yet".into()),
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

    /// `esc` on the wall.
    pub fn back_on_the_wall(&mut self) {
        if !self.enlarged && self.lifted.is_none() {
            self.end_tour();
            self.lattices.leave_trouble();
        }
        if self.lifted.is_some() {
            self.unsay();
        }
        if self.enlarged && self.lifted.is_none() && matches!(self.view(self.selected), View::Flat(zoom) if !zoom.is_whole()) {
            return self.whole_view();
        }
        (self.enlarged, self.lifted) = (false, None);
    }

    /// The selected tile fills the wall, or does not any more; false where it is empty.
    pub fn enlarge(&mut self) -> bool {
        if self.selected_tile().is_some() {
            self.enlarged = !self.enlarged;
            return true;
        }
        self.placed(self.selected).is_some()
    }

    /// The selected camera is tried again, whatever barred it; also the stream that it is about to change to.
    pub fn retry(&mut self) {
        let Some((camera, key, next)) = self.selected_tile().map(|tile| (tile.camera, tile.key(), tile.next_key())) else {
            return;
        };
        self.tell(Command::Unbar(camera));
        [Some(key), next].into_iter().flatten().for_each(|key| self.tell(Command::Retry(key)));
    }

    /// From where on the figures of a stream are a strain, at its rate.
    pub fn thresholds(&self, key: FeedKey) -> Thresholds {
        let declared = self.figures.get(&key).and_then(|figures| figures.declared);
        self.site.thresholds_of(self.camera_name(key.camera), key.role).at_rate(declared)
    }

    /// Tells something at the foot.
    pub fn say(&mut self, tone: Tone, text: String) {
        self.notice = Some(Notice { text, tone, at: self.now, by_itself: false });
    }

    /// What was said is over.
    pub fn unsay(&mut self) {
        self.notice = None;
    }

    /// After a loss: the last clean picture is held, or damaged ones are shown.
    pub fn change_damage_choice(&mut self) {
        let (choice, text) = match self.damage {
            DamageChoice::Hold => (DamageChoice::Show, "damaged pictures are shown, marked as damaged"),
            DamageChoice::Show => (
                DamageChoice::Hold,
                "after a loss the last clean picture is held for a second; then pictures are shown as they come, marked as damaged",
            ),
        };
        self.damage = choice;
        self.say(Tone::Text, text.into());
        self.tell(Command::Damage(choice));
    }

    /// Selects the nearest place in this direction.
    pub fn move_selection(&mut self, columns: i32, rows: i32) {
        let places = regions::places(self);
        if let Some(next) = regions::beside(&places, self.selected, columns, rows) {
            self.selected = next;
        }
    }

    /// Selects the next place, on to the next page behind the last one; while one is enlarged, the next camera.
    pub fn step_selection(&mut self, step: i32) {
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
    fn only_stream(&mut self, tile: &Tile) {
        let name = self.name(tile).to_owned();
        if self.available && matches!(self.cameras.origin(tile.key()), Some(Origin::Pictures { .. })) {
            self.say(Tone::Text, format!("asking the device of {name} for a live stream ..."));
            return self.order(Errand::Live(name));
        }
        self.say(Tone::Text, format!("{name} has no other stream here: only its {} is known", tile.role.word()));
    }

    /// The engine's newest state.
    pub fn on_snapshot(&mut self, snapshot: &Snapshot) {
        if !Arc::ptr_eq(&self.site, &snapshot.site) {
            self.site = snapshot.site.clone();
            self.lattices.on_saved(&self.site.lattices);
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
        self.hearing = snapshot.hearing.clone();
        self.record = snapshot.record.clone();
        self.ledger = snapshot.ledger.clone();
        self.own_addresses = snapshot.own_addresses.clone();
        self.seats = snapshot.seats.get(&self.viewer).cloned().unwrap_or_default();
        self.follow_trouble();
        self.seat();
        self.show_page_snapshot();
        self.tell_dropouts();
    }

    /// News that concern the screen and no page.
    fn take_news(&mut self, news: &News) {
        self.newcomers.on_news(news);
        match news {
            News::Say(loudness, text) => self.say((*loudness).into(), text.clone()),
            News::Added(name) => self.camera_added(name),
            News::Renamed(from, to) => self.lattices.rename_camera(from, to),
            News::LatticesSaved => self.lattices.are_saved(),
            News::Imported(lattices) => self.take_lattices(lattices.clone()),
            News::Order(order) => self.take_order(order.clone()),
            News::Screens(shows) => self.other_screens.clone_from(shows),
            News::Bell => self.effects.push(Effect::Bell),
            News::Front(camera, place, span) => self.call(camera, *place, *span),
            News::Notify(title, text) => self.effects.push(Effect::Notify(title.clone(), text.clone())),
            _ => {}
        }
    }

    /// The site's cameras of a group, by name.
    pub fn cameras_of_group(&self, group: &str) -> Vec<String> {
        let members = self.site.cameras.iter().filter(|camera| camera.group.as_deref() == Some(group));
        members.map(|camera| camera.name.clone()).collect()
    }

    /// What is known to be wrong with a camera's firmware.
    pub fn firmware_fault(&self, camera: &lattice_store::Camera) -> Option<&str> {
        let applies =
            |fault: &&FirmwareFault| fault.applies(camera.maker.as_deref(), camera.model.as_deref(), camera.firmware.as_deref());
        self.firmware_faults.iter().find(applies).map(|fault| fault.what.as_str())
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

    /// What to say at the foot: the newest news, the next step of the guide, or the trouble that lasts.
    pub fn foot_line(&self) -> Option<(String, Tone)> {
        if let Some(notice) = self.notice.as_ref().filter(|notice| self.now.since(notice.at) < NOTICE_STAYS) {
            return Some((notice.text.clone(), notice.tone));
        }
        let running = self.tiles.iter().find_map(|tile| {
            let figures = self.figures.get(&tile.key())?;
            Some((self.name(tile), figures.dropout_now?))
        });
        let running = running.map(|(name, dropout)| (format!("{name}: {}", describe(&dropout)), Tone::Alarm));
        // Trouble stands on the tiles too: where somebody is led, the next step comes first.
        self.guide.and_then(Guide::line).map(|line| (line, Tone::Bright)).or(running)
    }
}

/// "no picture for 3.2 s, no packets come".
fn describe(dropout: &Dropout) -> String {
    let cause = dropout.cause.map_or(String::new(), |cause| format!(", {cause}"));
    format!("no picture for {:.1} s{cause}", dropout.length.as_secs_f64())
}
