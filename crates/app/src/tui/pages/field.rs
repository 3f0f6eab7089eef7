//! The field: all cameras at a glance, a cell or two for each, or a lane of the last hour; for walls that no tiles can show.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::fronts::line::TypedLine;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::closeup;
use lattice_core::Verdict;
use lattice_core::lattice::Lattice;
use lattice_core::names::natural;
use lattice_core::sift::Sift;
use lattice_engine::{CameraId, FeedKey};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::cell::Cell;
use std::collections::{BTreeSet, HashMap};

/// How the cameras stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Order {
    /// By their groups, and in each by their names.
    #[default]
    Group,
    /// The worst first.
    Worst,
    /// By their names.
    Name,
}

impl Order {
    const fn next(self) -> Self {
        match self {
            Self::Group => Self::Worst,
            Self::Worst => Self::Name,
            Self::Name => Self::Group,
        }
    }

    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Group => "by group",
            Self::Worst => "worst first",
            Self::Name => "by name",
        }
    }
}

/// The field and how it is looked at.
#[derive(Debug, Default)]
pub struct Field {
    /// The selected camera; the first where it is not among those shown.
    chosen: Option<CameraId>,
    /// What was typed to filter, and what was understood of it.
    filter: String,
    sift: Sift,
    order: Order,
    /// Each camera as a lane of the last hour.
    lanes: bool,
    /// Those that become a lattice.
    ticked: BTreeSet<CameraId>,
    /// The first row that was drawn: rows stay where they are while the selected one is in sight.
    top: Cell<usize>,
}

/// One camera of the field.
#[derive(Debug, Clone, Copy)]
pub struct Item<'a> {
    /// Which.
    pub id: CameraId,
    /// Its name.
    pub name: &'a str,
    /// Its group; none is empty.
    pub group: &'a str,
    /// The stream that tells of it, while one is open.
    pub key: Option<FeedKey>,
    /// How it is.
    pub verdict: Verdict,
    /// An entry of it asks for somebody.
    pub alarm: bool,
}

impl Keyed for Field {
    const NAME: &'static str = "Field";
    const KEYS: &'static [Key<Self>] = &[
        moves("right l", "the next camera", |page: &mut Self, app| page.step(app, 1)),
        moves("left h", "the camera before", |page: &mut Self, app| page.step(app, -1)),
        moves("down j", "the row below", |page: &mut Self, app| page.row(app, 1)),
        moves("up k", "the row above", |page: &mut Self, app| page.row(app, -1)),
        moves("pgdn", "ten rows down", |page: &mut Self, app| page.row(app, 10)),
        moves("pgup", "ten rows up", |page: &mut Self, app| page.row(app, -10)),
        key("enter", "show it on the wall, enlarged", Self::show).hint("show"),
        key("/", "only some: words as lost, lane, h265; or > 200 ms, < 10 fps, > 1 %, > 2 dropouts", Self::type_filter)
            .hint("filter"),
        key("o", "by group, the worst first, by name", |page: &mut Self, _| page.order = page.order.next()).hint("order"),
        key("v", "a lane of the last hour for each, or cells", |page: &mut Self, _| page.lanes = !page.lanes).hint("lanes"),
        key("space", "tick it for a lattice, or not any more", Self::tick).hint("tick"),
        key("*", "tick all that are shown, or none", Self::tick_all),
        key("w", "make a lattice of those that are ticked", Self::make_lattice).hint("lattice"),
        help::everything(),
        help::key(),
        back("esc q A", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way(WALL, "A", "the field: all cameras at a glance; filter hundreds of them", Self::begin).hint("field")];
}

impl Page for Field {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let near = self.near(app).zip(painters.first_mut());
        let places = view::places(app, body);
        view::draw(app, self, theme, &places, buf);
        let Some(((key, painter), near)) = near.zip(places.near) else { return Vec::new() };
        if closeup::picture(app, theme, key, near.picture, painter, buf) { vec![key] } else { Vec::new() }
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let near = self.near(app).zip(view::places(app, body).near);
        near.map(|(key, near)| Watched::whole(key, 0, near.picture)).into_iter().collect()
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.near(app).into_iter().collect()
    }

    fn stream(&self, app: &App) -> Option<FeedKey> {
        self.near(app)
    }

    fn camera(&self, app: &App) -> Option<String> {
        self.selected(app).map(|id| app.cameras.name(id).to_owned())
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.row(app, by),
            Mouse::Press(at) => {
                let places = view::places(app, app.body());
                let items = self.items(app);
                let Some(index) = view::item_at(self, &items, places.cells, at) else { return };
                self.chosen = Some(items[index].id);
                if app.is_double_click(index) {
                    self.show(app);
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

impl Field {
    fn begin(&mut self, app: &mut App) {
        // Once, so that the selected one need not be looked for among all.
        self.chosen = self.selected(app);
        app.open(Self::NAME);
    }

    /// The cameras that are shown, in their order.
    fn items<'a>(&self, app: &'a App) -> Vec<Item<'a>> {
        let site: HashMap<&str, &lattice_store::Camera> =
            app.site.cameras.iter().map(|camera| (camera.name.as_str(), camera)).collect();
        let alarms: BTreeSet<&str> =
            app.ledger.alarms(app.utc).flat_map(|entry| entry.cameras.iter().map(String::as_str)).collect();
        let mut items: Vec<Item<'a>> = Vec::new();
        for (id, def) in app.cameras.iter() {
            let name = def.name.as_str();
            let kept = site.get(name).copied();
            let key = app.telling(id);
            let figures = key.and_then(|key| app.figures.get(&key));
            let verdict = match key {
                Some(_) => figures.map_or(Verdict::Waiting, |figures| figures.verdict),
                None => Verdict::Resting,
            };
            if !self.sift.is_empty() {
                let figures = figures.map(|figures| &**figures);
                let told = told(name, alarms.contains(name), kept, key, figures);
                if !self.sift.holds(&told, verdict, figures) {
                    continue;
                }
            }
            let group = kept.and_then(|camera| camera.group.as_deref()).unwrap_or("");
            items.push(Item { id, name, group, key, verdict, alarm: alarms.contains(name) });
        }
        match self.order {
            // Those without a group come last.
            Order::Group => items.sort_by(|a, b| {
                (a.group.is_empty(), a.group).cmp(&(b.group.is_empty(), b.group)).then_with(|| natural(a.name, b.name))
            }),
            Order::Worst => items.sort_by(|a, b| badness(a).cmp(&badness(b)).then_with(|| natural(a.name, b.name))),
            Order::Name => items.sort_by(|a, b| natural(a.name, b.name)),
        }
        items
    }

    /// The selected camera, where there is any.
    fn selected(&self, app: &App) -> Option<CameraId> {
        let is_there = |id: &CameraId| app.cameras.get(*id).is_some();
        self.chosen.filter(|id| is_there(id)).or_else(|| self.items(app).first().map(|item| item.id))
    }

    fn near(&self, app: &App) -> Option<FeedKey> {
        app.telling(self.selected(app)?)
    }

    fn step(&mut self, app: &App, by: i32) {
        let items = self.items(app);
        let at = self.place(&items) as i32;
        let next = (at + by).clamp(0, (items.len() as i32 - 1).max(0));
        self.chosen = items.get(next as usize).map(|item| item.id);
    }

    /// Where the selected one stands among those shown.
    fn place(&self, items: &[Item<'_>]) -> usize {
        items.iter().position(|item| Some(item.id) == self.chosen).unwrap_or(0)
    }

    fn row(&mut self, app: &App, by: i32) {
        let items = self.items(app);
        let cells = view::places(app, app.body()).cells;
        let next = view::row_beside(self, &items, cells, by);
        self.chosen = next.and_then(|index| items.get(index)).map(|item| item.id);
    }

    fn show(&mut self, app: &mut App) {
        if let Some(name) = self.camera(app) {
            app.show_camera(&name);
        }
    }

    fn tick(&mut self, app: &mut App) {
        let Some(id) = self.selected(app) else { return };
        if !self.ticked.remove(&id) {
            self.ticked.insert(id);
        }
        self.step(app, 1);
    }

    fn tick_all(&mut self, app: &mut App) {
        let shown: BTreeSet<CameraId> = self.items(app).iter().map(|item| item.id).collect();
        let all = shown.is_subset(&self.ticked);
        self.ticked = if all { BTreeSet::new() } else { shown };
    }

    fn make_lattice(&mut self, app: &mut App) {
        let names: Vec<String> =
            self.items(app).iter().filter(|item| self.ticked.contains(&item.id)).map(|item| item.name.to_owned()).collect();
        if names.is_empty() {
            return app.say(Tone::Text, "nothing is ticked: space ticks a camera, * all that are shown".into());
        }
        let wanted = if self.filter.trim().is_empty() { "lattice" } else { self.filter.trim() };
        let name = app.lattices.free_name(wanted);
        app.say(Tone::Text, format!("lattice {name} has {} cameras; w saves it", names.len()));
        app.lattices.add(Lattice::even(name, names));
        self.ticked.clear();
        app.selected = 0;
        app.show_wall();
    }

    fn type_filter(&mut self, app: &mut App) {
        let line = TypedLine::live("only cameras with", self.filter.clone(), |app, text| {
            app.on_page(|page: &mut Self, _| page.filter_by(text));
        });
        app.put_in_front(line.checked(|text| Sift::parse(text).map(drop).map_err(|error| error.to_string())));
    }

    /// Only those of which this holds; a text that is not whole yet changes nothing.
    fn filter_by(&mut self, text: &str) {
        text.clone_into(&mut self.filter);
        if let Ok(sift) = Sift::parse(text) {
            (self.sift, self.chosen) = (sift, None);
        }
    }
}

/// Whose trouble comes first: alarms, then by verdict.
fn badness(item: &Item<'_>) -> (bool, usize) {
    (!item.alarm, Verdict::WORST_FIRST.iter().position(|verdict| *verdict == item.verdict).unwrap_or(0))
}

/// All that is told of a camera, for words to be found in.
fn told(
    name: &str,
    alarm: bool,
    kept: Option<&lattice_store::Camera>,
    key: Option<FeedKey>,
    figures: Option<&lattice_core::meter::Figures>,
) -> String {
    let mut all = vec![name.to_owned()];
    all.extend(alarm.then(|| "alarm".to_owned()));
    let known = kept.into_iter().flat_map(|camera| {
        [&camera.group, &camera.address, &camera.maker, &camera.model, &camera.recorder].into_iter().flatten().cloned()
    });
    all.extend(known);
    all.extend(key.map(|key| key.role.word().to_owned()));
    if let Some(figures) = figures {
        all.extend(figures.codec.clone());
        all.extend(figures.cause.map(|cause| format!("{} {cause}", cause.word())));
        all.extend(figures.transport.map(|transport| transport.word().to_owned()));
        all.extend(figures.size.map(|(width, height)| format!("{width}x{height} {height}p")));
    }
    all.join(" ").to_lowercase()
}
