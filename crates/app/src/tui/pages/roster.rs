//! The roster: which cameras, in which order, under which headings, and what its keys do.

mod view;

use crate::tui::app::entry::Entry;
use crate::tui::app::{App, Dragged};
use crate::tui::fronts::line::TypedLine;
use crate::tui::fronts::{channels, help, sign_in};
use crate::tui::page::{
    Key, Keyed, Mouse, Page, ROSTER, Share, WALL, WELCOME, Watched, Way, back, elsewhere, key, leave, moves, way,
};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::closeup;
use crate::tui::widgets::list::inner;
use lattice_core::names::natural;
use lattice_core::target::{Target, understand};
use lattice_core::{TransportChoice, Verdict};
use lattice_engine::jobs::Errand;
use lattice_engine::{FeedKey, News};
use lattice_store::Camera;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::cmp::Ordering;
use std::time::Duration;

/// What the roster is sorted by: a column of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SortBy {
    /// The order of the site file, recorders before their channels.
    #[default]
    File,
    /// What is worst first.
    Verdict,
    /// By name.
    Name,
    /// By address, as numbers where it is some.
    Address,
    /// By the share of the declared rate that arrives, least first.
    Rate,
    /// By how far the device's clock is off, most first.
    Clock,
    /// By when it was last seen, longest ago first.
    Seen,
    /// By maker and model.
    Maker,
    /// By firmware.
    Firmware,
}

impl SortBy {
    /// Every one, in the order of the columns.
    pub const ALL: [Self; 9] =
        [Self::File, Self::Verdict, Self::Name, Self::Address, Self::Rate, Self::Clock, Self::Seen, Self::Maker, Self::Firmware];

    /// Its word after "sorted by".
    pub const fn word(self) -> &'static str {
        match self {
            Self::File => "the site file",
            Self::Verdict => "verdict",
            Self::Name => "name",
            Self::Address => "address",
            Self::Rate => "share of frames that arrive",
            Self::Clock => "clock",
            Self::Seen => "last seen",
            Self::Maker => "maker",
            Self::Firmware => "firmware",
        }
    }

    /// The next one.
    pub fn next(self) -> Self {
        let at = Self::ALL.iter().position(|one| *one == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

/// What the roster is grouped by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum GroupBy {
    /// By the operator's groups.
    #[default]
    Group,
    /// By the recorder that they hang under.
    Recorder,
    /// By maker.
    Maker,
    /// By verdict.
    Verdict,
    /// Not at all.
    Nothing,
}

impl GroupBy {
    /// Its word after "by".
    pub const fn word(self) -> &'static str {
        match self {
            Self::Group => "group",
            Self::Recorder => "recorder",
            Self::Maker => "maker",
            Self::Verdict => "verdict",
            Self::Nothing => "nothing",
        }
    }

    /// The next one.
    pub const fn next(self) -> Self {
        match self {
            Self::Group => Self::Recorder,
            Self::Recorder => Self::Maker,
            Self::Maker => Self::Verdict,
            Self::Verdict => Self::Nothing,
            Self::Nothing => Self::Group,
        }
    }
}

/// How the roster is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RosterOrder {
    /// Sorted by this, within each group.
    pub sort: SortBy,
    /// The other way round.
    pub reversed: bool,
    /// Under headings.
    pub group: GroupBy,
}

impl Entry<'_> {
    fn verdict(&self) -> Option<Verdict> {
        self.open.map(|(_, figures)| figures.verdict)
    }

    /// How bad it is: the lower the worse.
    fn badness(&self) -> u8 {
        match self.verdict() {
            _ if self.camera.disabled => 8,
            Some(Verdict::Lost) => 0,
            Some(Verdict::Locked) => 1,
            Some(Verdict::Stalled) => 2,
            Some(Verdict::Strained) => 3,
            Some(Verdict::Waiting) => 4,
            Some(Verdict::Steady) => 5,
            Some(Verdict::Resting) => 6,
            None => 7,
        }
    }

    fn share(&self) -> Option<f64> {
        let figures = self.open?.1;
        Some(figures.arrived? / figures.declared?.per_second())
    }

    fn compare(&self, other: &Self, by: SortBy) -> Ordering {
        let missing_last = |a: bool, b: bool| b.cmp(&a); // those of which it is known come first
        let texts = |a: [&Option<String>; 2], b: [&Option<String>; 2]| {
            missing_last(a[0].is_some(), b[0].is_some()).then_with(|| natural(&joined(a), &joined(b)))
        };
        match by {
            SortBy::File => Ordering::Equal,
            SortBy::Verdict => self.badness().cmp(&other.badness()),
            SortBy::Name => natural(&self.camera.name, &other.camera.name),
            SortBy::Address => texts([&self.camera.address, &None], [&other.camera.address, &None]),
            SortBy::Rate => missing_last(self.share().is_some(), other.share().is_some())
                .then_with(|| self.share().unwrap_or(0.0).total_cmp(&other.share().unwrap_or(0.0))),
            SortBy::Clock => {
                let off = |entry: &Self| entry.clock_off().map(|offset| offset.micros.unsigned_abs());
                missing_last(off(self).is_some(), off(other).is_some()).then_with(|| off(other).cmp(&off(self)))
            }
            SortBy::Seen => self.seen.cmp(&other.seen),
            SortBy::Maker => texts([&self.camera.maker, &self.camera.model], [&other.camera.maker, &other.camera.model]),
            SortBy::Firmware => texts([&self.camera.firmware, &None], [&other.camera.firmware, &None]),
        }
    }

    /// The heading that it stands under.
    fn heading(&self, by: GroupBy) -> Option<String> {
        let camera = self.camera;
        match by {
            GroupBy::Group => Some(camera.group.clone().unwrap_or_else(|| "in no group".into())),
            GroupBy::Recorder => Some(camera.recorder.clone().unwrap_or_else(|| "under no recorder".into())),
            GroupBy::Maker => Some(camera.maker.clone().unwrap_or_else(|| "maker not known".into())),
            GroupBy::Verdict => Some(match self.verdict() {
                _ if camera.disabled => "off".into(),
                Some(verdict) => verdict.to_string(),
                None => "not open".into(),
            }),
            GroupBy::Nothing => None,
        }
    }

    /// Under which of the headings' ranks it stands: those without come last, verdicts by badness.
    fn rank(&self, by: GroupBy) -> (bool, u8) {
        let camera = self.camera;
        match by {
            GroupBy::Group => (camera.group.is_none(), 0),
            GroupBy::Recorder => (camera.recorder.is_none(), 0),
            GroupBy::Maker => (camera.maker.is_none(), 0),
            GroupBy::Verdict => (false, self.badness()),
            GroupBy::Nothing => (false, 0),
        }
    }
}

fn joined(texts: [&Option<String>; 2]) -> String {
    texts.into_iter().flatten().map(String::as_str).collect::<Vec<_>>().join(" ")
}

/// A line of the roster.
#[derive(Debug, Clone)]
pub enum RosterLine<'a> {
    /// A heading, and how many cameras stand under it.
    Heading(String, usize),
    /// A camera.
    Camera(Box<Entry<'a>>),
}

impl<'a> RosterLine<'a> {
    /// The camera of the line.
    pub fn entry(&self) -> Option<&Entry<'a>> {
        match self {
            Self::Heading(..) => None,
            Self::Camera(entry) => Some(entry),
        }
    }
}

/// The roster.
#[derive(Debug, Default)]
pub struct Roster {
    /// The selected camera, by name; the first where it is not among those shown.
    pub chosen: Option<String>,
    /// How it is laid out.
    pub order: RosterOrder,
    /// Words that cameras must have.
    pub filter: String,
}

impl Keyed for Roster {
    const NAME: &'static str = ROSTER;
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next camera", |roster: &mut Self, app| roster.select(app, 1)),
        moves("up k", "the camera before", |roster: &mut Self, app| roster.select(app, -1)),
        moves("pgdn", "a page down", |roster: &mut Self, app| roster.select(app, 15)),
        moves("pgup", "a page up", |roster: &mut Self, app| roster.select(app, -15)),
        key("enter", "show it on the wall, enlarged", Self::show).hint("show"),
        key("/", "filter as you type", Self::type_filter).hint("filter"),
        elsewhere(),
        key("s", "sign in to it, or to its group", |roster: &mut Self, app| {
            if let Some(name) = roster.name(app) {
                sign_in::of_camera(app, name);
            }
        })
        .hint("sign in"),
        key("e", "give it another name", Self::rename).hint("rename"),
        key("g", "put it into a group", Self::regroup),
        key("n", "give it another address; what hangs under it moves with it", Self::readdress).hint("address"),
        key("m", "ask for its packets by UDP, by TCP, or by what works", Self::change_transport),
        key("w", "how often its stills are fetched", Self::change_interval),
        key("o", "switch it off or on", |roster: &mut Self, app| roster.order(app, Errand::Toggle)),
        key("x", "take it out of the site", Self::remove).hint("remove"),
        key("u", "bring the last one back", |_, app| app.order(Errand::Undo)),
        key("t", "sort by the next column; also a click on its title", |roster: &mut Self, _| {
            (roster.order.sort, roster.order.reversed) = (roster.order.sort.next(), false);
        })
        .hint("sort"),
        key("T", "sort the other way round", |roster: &mut Self, _| roster.order.reversed = !roster.order.reversed),
        key("v", "group by group, recorder, maker, verdict, or nothing", |roster: &mut Self, _| {
            roster.order.group = roster.order.group.next();
        })
        .hint("group by"),
        help::everything(),
        help::key(),
        back("esc q c", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "c", "the roster: all cameras, find and add some", |_, app| app.open(Self::NAME)).hint("cameras").of_site(),
        way(WELCOME, "c", "the roster", |_, app| app.open(Self::NAME)).of_site(),
    ];
}

impl Page for Roster {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, inner(body), buf);
        let near = self.near(app).zip(view::picture(app, self, inner(body))).zip(painters.first_mut());
        let Some(((key, place), painter)) = near else { return Vec::new() };
        if closeup::picture(app, theme, key, place, painter, buf) { vec![key] } else { Vec::new() }
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let near = self.near(app).zip(view::picture(app, self, inner(body)));
        near.map(|(key, area)| Watched::whole(key, 0, area)).into_iter().collect()
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.near(app).into_iter().collect()
    }

    fn camera(&self, app: &App) -> Option<String> {
        self.name(app)
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Drag(_) => app.drag_to_the_wall(),
            Mouse::Release(_) => app.dragged = None,
            Mouse::Press(at) => {
                let lines = self.lines(app);
                let list = view::list(self, &lines, inner(app.body()));
                if let Some(title) = list.title_at(at) {
                    return self.sort_by_title(title);
                }
                let Some(row) = list.row_at(at) else { return };
                let Some(name) = lines.get(row).and_then(|line| Some(line.entry()?.camera.name.clone())) else { return };
                self.chosen = Some(name.clone());
                app.dragged = Some(Dragged::Camera(name));
                if app.is_double_click(row) {
                    self.show(app);
                }
            }
        }
    }

    /// The selected camera stays the selected one.
    fn on_news(&mut self, _: &mut App, news: &News) {
        if let News::Renamed(from, to) = news
            && self.chosen.as_ref() == Some(from)
        {
            self.chosen = Some(to.clone());
        }
    }

    fn goes_on(&mut self, app: &mut App) {
        channels::show_next(app);
    }
}

/// What the line for an interval takes.
fn seconds(text: &str) -> Result<Duration, String> {
    let number = text.trim().trim_end_matches('s').trim().parse::<f64>().ok();
    let number = number.filter(|number| (0.2..=86_400.0).contains(number));
    number.map(Duration::from_secs_f64).ok_or_else(|| "give seconds, from 0.2 to 86400".to_owned())
}

impl Roster {
    /// The stream of the selected camera that is open.
    fn near(&self, app: &App) -> Option<FeedKey> {
        let lines = self.lines(app);
        let entry = lines.get(self.row(&lines))?.entry()?;
        app.telling(app.camera_index(&entry.camera.name)?)
    }

    fn remove(&mut self, app: &mut App) {
        let rows: Vec<String> = self.lines(app).iter().filter_map(|line| Some(line.entry()?.camera.name.clone())).collect();
        let Some(at) = self.name(app).and_then(|name| rows.iter().position(|row| *row == name)) else { return };
        self.order(app, Errand::Remove);
        // The next one is the selected one then.
        self.chosen = rows.get(at + 1).or_else(|| rows.get(at.checked_sub(1)?)).cloned();
    }

    fn readdress(&mut self, app: &mut App) {
        let Some(name) = self.name(app) else { return };
        let Some(address) = app.site.camera(&name).and_then(|camera| camera.address.clone()) else {
            return app.say(Tone::Text, format!("{name} has no address: it is pushed to a port of this machine"));
        };
        let line = TypedLine::new(format!("new address of {name}"), address, move |app, text| {
            app.order(Errand::Readdress(name.clone(), text.trim().to_owned()));
        });
        app.put_in_front(line.checked(|text| match understand(text).map(|reading| reading.target) {
            Ok(Target::Device { port: None, credentials: None, encrypted: false, .. }) => Ok(()),
            Ok(_) => Err("give the host name or address alone: its streams keep their ports and paths".to_owned()),
            Err(refusal) => Err(refusal.to_string()),
        }));
    }

    fn change_transport(&mut self, app: &mut App) {
        let Some(camera) = self.name(app).and_then(|name| app.site.camera(&name)) else { return };
        let next = match camera.transport {
            TransportChoice::Auto => TransportChoice::Tcp,
            TransportChoice::Tcp => TransportChoice::Udp,
            TransportChoice::Udp => TransportChoice::Auto,
        };
        let name = camera.name.clone();
        app.order(Errand::Transport(name, next));
    }

    fn change_interval(&mut self, app: &mut App) {
        let Some(camera) = self.name(app).and_then(|name| app.site.camera(&name)) else { return };
        let name = camera.name.clone();
        let Some(every) = camera.streams.iter().find_map(|stream| stream.interval) else {
            return app.say(Tone::Text, format!("{name} shows no stills: its pictures come by themselves"));
        };
        let line = TypedLine::new(
            format!("{name}: a still every so many seconds"),
            every.as_secs_f64().to_string(),
            move |app, text| {
                if let Ok(every) = seconds(text) {
                    app.order(Errand::Interval(name.clone(), every));
                }
            },
        );
        app.put_in_front(line.checked(|text| seconds(text).map(drop)));
    }

    /// The cameras that pass the filter, in their order, under their headings.
    pub fn lines<'a>(&self, app: &'a App) -> Vec<RosterLine<'a>> {
        let (filter, order) = (self.filter.as_str(), self.order);
        let telling = app.telling_by_name();
        let cameras = app.site.cameras.iter().filter(|camera| passes(camera, filter));
        let mut entries: Vec<Entry<'a>> = cameras.map(|camera| app.entry(&telling, camera)).collect();
        entries.sort_by(|a, b| {
            let heading = |entry: &Entry<'_>| entry.heading(order.group).unwrap_or_default();
            let by_heading = a.rank(order.group).cmp(&b.rank(order.group)).then_with(|| natural(&heading(a), &heading(b)));
            let by_column = a.compare(b, order.sort);
            by_heading.then(if order.reversed { by_column.reverse() } else { by_column })
        });
        if entries.iter().all(|entry| entry.rank(order.group).0) {
            // No heading says anything: none of them is in a group.
            return entries.into_iter().map(|entry| RosterLine::Camera(Box::new(entry))).collect();
        }
        let mut lines = Vec::with_capacity(entries.len());
        for chunk in entries.chunk_by(|a, b| a.heading(order.group) == b.heading(order.group)) {
            let heading = chunk.first().and_then(|entry| entry.heading(order.group));
            lines.extend(heading.map(|heading| RosterLine::Heading(heading, chunk.len())));
            lines.extend(chunk.iter().map(|entry| RosterLine::Camera(Box::new(*entry))));
        }
        lines
    }

    /// The selected line of the roster: that of the chosen camera, or the first camera.
    pub fn row(&self, lines: &[RosterLine<'_>]) -> usize {
        let chosen = self.chosen.as_deref();
        let is = |line: &RosterLine<'_>| line.entry().is_some_and(|entry| Some(entry.camera.name.as_str()) == chosen);
        lines.iter().position(is).or_else(|| lines.iter().position(|line| line.entry().is_some())).unwrap_or(0)
    }

    /// The selected camera of the roster.
    pub fn selected<'a>(&self, app: &'a App) -> Option<&'a Camera> {
        let lines = self.lines(app);
        Some(lines.get(self.row(&lines))?.entry()?.camera)
    }

    /// Selects the camera so many cameras further down.
    pub fn select(&mut self, app: &App, rows: i32) {
        let lines = self.lines(app);
        let row = self.row(&lines);
        let cameras: Vec<&str> = lines.iter().filter_map(|line| Some(line.entry()?.camera.name.as_str())).collect();
        let before = lines.iter().take(row).filter(|line| line.entry().is_some()).count();
        let to = before.saturating_add_signed(rows as isize).min(cameras.len().saturating_sub(1));
        self.chosen = cameras.get(to).map(|name| (*name).to_owned());
    }

    fn name(&self, app: &App) -> Option<String> {
        self.selected(app).map(|camera| camera.name.clone())
    }

    /// The selected camera on the wall, enlarged.
    fn show(&mut self, app: &mut App) {
        if let Some(name) = self.name(app) {
            app.show_camera(&name);
        }
    }

    fn order(&self, app: &mut App, errand: fn(String) -> Errand) {
        if let Some(name) = self.name(app) {
            app.order(errand(name));
        }
    }

    /// Sorts by the column with this title, or turns its order round.
    fn sort_by_title(&mut self, title: &str) {
        let Some(sort) = view::sorts_by(title) else { return };
        let order = &mut self.order;
        (order.sort, order.reversed) = (sort, order.sort == sort && !order.reversed);
    }

    fn type_filter(&mut self, app: &mut App) {
        app.put_in_front(TypedLine::live("filter", self.filter.clone(), |app, text| {
            app.on_page(|roster: &mut Self, _| text.clone_into(&mut roster.filter));
        }));
    }

    fn rename(&mut self, app: &mut App) {
        if let Some(name) = self.name(app) {
            app.put_in_front(TypedLine::rename(name));
        }
    }

    fn regroup(&mut self, app: &mut App) {
        let Some(camera) = self.selected(app) else { return };
        let (name, group) = (camera.name.clone(), camera.group.clone().unwrap_or_default());
        app.put_in_front(TypedLine::new(format!("group of {name}"), group, move |app, text| {
            app.order(Errand::Regroup(name.clone(), text.to_owned()));
        }));
    }
}

/// Whether a camera passes a filter: each word must occur in one of its texts.
fn passes(camera: &Camera, filter: &str) -> bool {
    let texts = [
        Some(camera.name.as_str()),
        camera.group.as_deref(),
        camera.address.as_deref(),
        camera.maker.as_deref(),
        camera.model.as_deref(),
        camera.firmware.as_deref(),
        camera.recorder.as_deref(),
    ];
    let all = texts.into_iter().flatten().collect::<Vec<_>>().join(" ").to_lowercase();
    filter.to_lowercase().split_whitespace().all(|word| all.contains(word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::ClockOffset;
    use lattice_core::Wall;
    use lattice_core::clock::Told;
    use ratatui::layout::Rect;
    use std::sync::Arc;
    use std::time::Duration;

    fn camera(name: &str, group: Option<&str>, address: &str) -> Camera {
        Camera { name: name.into(), group: group.map(str::to_owned), address: Some(address.into()), ..Camera::default() }
    }

    fn app() -> App {
        let mut app = App::new("Port".into(), false, Rect::new(0, 0, 160, 50), 0.5, crate::tui::pages::all());
        Arc::make_mut(&mut app.site).cameras = vec![
            camera("Loose", None, "192.0.2.30"),
            camera("Gate 10", Some("Lock"), "192.0.2.9"),
            camera("Fuel quay", Some("Quay"), "192.0.2.100"),
            camera("Gate 2", Some("Lock"), "192.0.2.10"),
        ];
        app
    }

    fn told(roster: &Roster, app: &App) -> Vec<String> {
        let line = |line: RosterLine<'_>| match line {
            RosterLine::Heading(heading, count) => format!("{heading} {count}"),
            RosterLine::Camera(entry) => entry.camera.name.clone(),
        };
        roster.lines(app).into_iter().map(line).collect()
    }

    #[test]
    fn the_roster_is_grouped_sorted_and_filtered() {
        let app = app();
        let mut roster = Roster::default();
        assert_eq!(told(&roster, &app), ["Lock 2", "Gate 10", "Gate 2", "Quay 1", "Fuel quay", "in no group 1", "Loose"]);
        roster.order.sort = SortBy::Name;
        assert_eq!(told(&roster, &app)[..3], ["Lock 2", "Gate 2", "Gate 10"], "as people count");
        roster.filter = "lock 10".into();
        assert_eq!(told(&roster, &app), ["Lock 2", "Gate 2", "Gate 10"], "10 is in both addresses or names");
        roster.filter = "GATE 2.9".into();
        assert_eq!(told(&roster, &app), ["Lock 1", "Gate 10"]);
        roster.filter.clear();
        roster.order = RosterOrder { sort: SortBy::Address, reversed: false, group: GroupBy::Nothing };
        assert_eq!(told(&roster, &app), ["Gate 10", "Gate 2", "Loose", "Fuel quay"]);
        roster.order.reversed = true;
        assert_eq!(told(&roster, &app)[0], "Fuel quay");
    }

    #[test]
    fn every_order_names_every_camera_once_and_keeps_the_chosen_one() {
        let mut app = app();
        let mut roster = Roster::default();
        let offset = |micros| Told { offset: ClockOffset { micros, error: Duration::ZERO }, at: Wall::from_unix_micros(0) };
        Arc::make_mut(&mut app.known).clocks.insert("Gate 2".into(), offset(-420_000_000));
        Arc::make_mut(&mut app.known).clocks.insert("Loose".into(), offset(5_000));
        Arc::make_mut(&mut app.known).seen.insert("Fuel quay".into(), 1_795_500_000);
        roster.chosen = Some("Gate 2".into());
        for sort in SortBy::ALL {
            for group in [GroupBy::Group, GroupBy::Recorder, GroupBy::Maker, GroupBy::Verdict, GroupBy::Nothing] {
                roster.order = RosterOrder { sort, reversed: false, group };
                let mut names: Vec<String> =
                    roster.lines(&app).iter().filter_map(|line| Some(line.entry()?.camera.name.clone())).collect();
                names.sort();
                assert_eq!(names, ["Fuel quay", "Gate 10", "Gate 2", "Loose"], "{sort:?} {group:?}");
                assert_eq!(roster.selected(&app).unwrap().name, "Gate 2");
            }
        }
        roster.order = RosterOrder { sort: SortBy::Clock, reversed: false, group: GroupBy::Nothing };
        assert_eq!(told(&roster, &app)[..2], ["Gate 2", "Loose"], "the clock that is off most comes first");
        roster.order.sort = SortBy::Seen;
        assert_eq!(told(&roster, &app)[3], "Fuel quay", "never seen is longest ago");
        roster.select(&app, -100);
        assert_eq!(roster.selected(&app).unwrap().name, told(&roster, &app)[0]);
    }
}
