//! Lists that filter as one types: cameras for a tile, groups, lattices, everything.

use super::{App, Effect, FeedKey};
use crate::app::LedgerStep;
use crate::app::lattices::ALL;
use crate::desk::Page;
use crate::keymap::{Action, Context, DeskStep, KEYMAP};
use crate::theme::Tone;
use lattice_core::lattice::Lattice;
use lattice_engine::Command;
use lattice_engine::jobs::Errand;
use lattice_store::Order;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};
use tui_input::Input;

/// What is picked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PickKind {
    /// A camera for the selected tile.
    Camera,
    /// A group whose cameras fill the empty tiles.
    Group,
    /// A lattice to show.
    Lattice,
    /// Anything: actions, cameras, lattices.
    Palette,
    /// Another name for the lattice.
    Rename,
    /// A name for a copy of the lattice.
    Duplicate,
    /// A file that the lattice is written to.
    Export,
    /// A file that lattices are read from.
    Import,
    /// A tour to begin.
    Tour,
    /// A screen that something is sent to.
    Screen,
    /// A stream for the bench.
    Bench,
    /// Words that entries of the ledger must hold.
    LedgerFilter,
    /// A note to an entry of the ledger.
    Note,
    /// A file that a report is written to.
    Report,
}

impl PickKind {
    /// It is a line of text, not a list.
    pub const fn is_line(self) -> bool {
        matches!(
            self,
            Self::Rename | Self::Duplicate | Self::Export | Self::Import | Self::LedgerFilter | Self::Note | Self::Report
        )
    }

    /// Its title.
    pub const fn title(self) -> &'static str {
        match self {
            Self::Camera => "Put a camera here",
            Self::Group => "Fill the empty tiles",
            Self::Lattice => "Lattices",
            Self::Palette => "Everything",
            Self::Rename => "Another name for this lattice",
            Self::Duplicate => "Name of the new lattice",
            Self::Export => "Write this lattice to a new file",
            Self::Import => "Read lattices from a file",
            Self::Tour => "Tours",
            Self::LedgerFilter => "Only entries with these words; >5 longer than 5 s",
            Self::Note => "Note to this entry",
            Self::Report => "Report to a new file: .pdf .svg .csv .json",
            Self::Bench => "Add a stream to the bench",
            Self::Screen => "Send to a screen (each opens its own connections)",
        }
    }
}

/// A list in front of the wall.
#[derive(Debug, Clone)]
pub struct Picker {
    /// What is picked.
    pub kind: PickKind,
    /// What was typed.
    pub input: Input,
    /// The selected line.
    pub row: usize,
}

impl Picker {
    /// A list with nothing typed.
    pub fn new(kind: PickKind) -> Self {
        Self { kind, input: Input::default(), row: 0 }
    }
}

/// What a line does.
#[derive(Debug, Clone, PartialEq)]
pub enum Pick {
    /// Put this camera into the selected tile.
    Put(String),
    /// Fill the empty tiles with this group, with every camera for `None`.
    Fill(Option<String>),
    /// Show this lattice.
    Lattice(String),
    /// Show this camera, enlarged.
    Camera(String),
    /// Begin this tour.
    Tour(String),
    /// Send what is shown to this screen.
    Screen(String),
    /// Put this stream on the bench.
    Bench(FeedKey),
    /// Do this.
    Do(Action),
    /// Go to another page by the first, and do the second there.
    There(Action, Action),
}

/// A line of the list.
#[derive(Debug, Clone)]
pub struct Line {
    /// What it says.
    pub label: String,
    /// What it says besides.
    pub detail: String,
    /// Its key.
    pub key: String,
    /// What it does.
    pub pick: Pick,
}

impl App {
    /// The lines of the list that is open, the best first.
    pub fn picks(&self) -> Vec<Line> {
        let Some(picker) = &self.picker else { return Vec::new() };
        let all = match picker.kind {
            PickKind::Camera => self.camera_lines(&Pick::Put),
            PickKind::Group => self.group_lines(),
            PickKind::Lattice => self.lattice_lines(),
            PickKind::Tour => self.tour_lines(),
            PickKind::Screen => self.screen_lines(),
            PickKind::Bench => self.bench_lines(),
            PickKind::Palette => {
                let actions = KEYMAP.iter().filter(|binding| {
                    let here = binding.context == Context::Wall && !binding.help.is_empty();
                    let desk = matches!(binding.action, Action::Desk(_));
                    here && (self.demo || binding.action != Action::Faults) && (self.desk.available || !desk)
                });
                let line = |binding: &crate::keymap::Binding| Line {
                    label: binding.help.to_owned(),
                    detail: String::new(),
                    key: binding.keys.replace(' ', ", "),
                    pick: Pick::Do(binding.action),
                };
                actions
                    .map(line)
                    .chain(self.lines_elsewhere())
                    .chain(self.camera_lines(&Pick::Camera))
                    .chain(self.lattice_lines())
                    .chain(self.tour_lines())
                    .collect()
            }
            PickKind::Rename
            | PickKind::Duplicate
            | PickKind::Export
            | PickKind::Import
            | PickKind::LedgerFilter
            | PickKind::Note
            | PickKind::Report => Vec::new(),
        };
        matching(all, picker.input.value())
    }

    /// What keys do on other pages, with the key that leads there before them.
    fn lines_elsewhere(&self) -> Vec<Line> {
        let of_site = |action: &Action| matches!(action, Action::Desk(_));
        let there = Context::all().into_iter().filter_map(|context| {
            let (key, page) = context.way()?;
            (self.desk.available || !of_site(&page)).then_some((context, key, page))
        });
        let moves = |action: Action| {
            let rows = matches!(action, Action::Desk(DeskStep::Row(_)) | Action::Ledger(LedgerStep::Row(_)));
            rows || matches!(action, Action::Back | Action::Help | Action::Quit)
        };
        there
            .flat_map(|(context, key, page)| {
                let own = KEYMAP.iter().filter(move |binding| binding.context == context && !moves(binding.action));
                own.filter(move |binding| binding.action != page).map(move |binding| Line {
                    label: format!("{}: {}", context.title(), binding.help),
                    detail: String::new(),
                    key: format!("{key}, then {}", binding.keys.replace(' ', ", ")),
                    pick: Pick::There(page, binding.action),
                })
            })
            .collect()
    }

    fn camera_lines(&self, pick: &dyn Fn(String) -> Pick) -> Vec<Line> {
        let lattice = self.lattices.shown();
        let line = |name: &str| {
            let group = self.desk.site.camera(name).and_then(|camera| camera.group.clone()).unwrap_or_default();
            let tile = lattice.find(name).map(|tile| format!("in tile {}", tile + 1)).unwrap_or_default();
            let detail = [group, tile].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(", ");
            Line { label: name.to_owned(), detail, key: String::new(), pick: pick(name.to_owned()) }
        };
        // Those that stand nowhere yet are most likely meant.
        let mut lines: Vec<Line> = self.cameras_there().map(line).collect();
        lines.sort_by_key(|line| lattice.find(&line.label).is_some());
        lines
    }

    fn group_lines(&self) -> Vec<Line> {
        let missing = |names: &mut dyn Iterator<Item = &str>| {
            let lattice = self.lattices.shown();
            let names: Vec<&str> = names.collect();
            let new = names.iter().filter(|name| lattice.find(name).is_none()).count();
            format!("{} cameras, {new} not in this lattice yet", names.len())
        };
        let mut lines = vec![Line {
            label: ALL.into(),
            detail: missing(&mut self.cameras_there()),
            key: String::new(),
            pick: Pick::Fill(None),
        }];
        lines.extend(self.desk.site.groups().into_iter().map(|group| Line {
            detail: missing(&mut self.cameras_of(Some(&group)).into_iter()),
            label: group.clone(),
            key: String::new(),
            pick: Pick::Fill(Some(group)),
        }));
        lines
    }

    fn cameras_of(&self, group: Option<&str>) -> Vec<&str> {
        let of_group = |name: &&str| {
            group.is_none_or(|group| self.desk.site.camera(name).is_some_and(|camera| camera.group.as_deref() == Some(group)))
        };
        self.cameras_there().filter(of_group).collect()
    }

    fn lattice_lines(&self) -> Vec<Line> {
        let line = |(index, lattice): (usize, &Lattice)| {
            let changed = if self.lattices.is_changed(lattice) { ", not saved" } else { "" };
            let pages = if lattice.pages() > 1 { format!(", {} pages", lattice.pages()) } else { String::new() };
            Line {
                label: lattice.name.clone(),
                detail: format!("lattice, {}{pages}{changed}", lattice.layout().word()),
                key: if index < 9 { (index + 1).to_string() } else { String::new() },
                pick: Pick::Lattice(lattice.name.clone()),
            }
        };
        let all = Line { label: ALL.into(), detail: "lattice".into(), key: "0".into(), pick: Pick::Lattice(ALL.into()) };
        self.lattices.own().iter().enumerate().map(line).chain([all]).collect()
    }

    fn screen_lines(&self) -> Vec<Line> {
        let line = |screen: &lattice_store::site::Screen| {
            let shows = self.other_screens.get(&screen.name);
            Line {
                label: screen.name.clone(),
                detail: shows.map_or_else(|| "does not run on this machine".into(), |what| format!("shows {what}")),
                key: String::new(),
                pick: Pick::Screen(screen.name.clone()),
            }
        };
        self.desk.site.screens.iter().map(line).collect()
    }

    /// What is shown, in words, for other screens.
    pub fn showing(&self) -> String {
        if self.enlarged
            && let Some(tile) = self.selected_tile()
        {
            return format!("{}, enlarged", self.name(tile));
        }
        let lattice = self.lattices.shown();
        let page = if lattice.pages() > 1 { format!(" {}/{}", self.lattices.page() + 1, lattice.pages()) } else { String::new() };
        format!("{}{page}", lattice.name)
    }

    fn send(&mut self, screen: String) -> Vec<Effect> {
        if self.screen.as_deref() == Some(screen.as_str()) {
            self.say(Tone::Text, format!("{screen} is this screen"));
            return Vec::new();
        }
        let enlarged = self.selected_tile().filter(|_| self.enlarged).map(|tile| self.name(tile).to_owned());
        let order = enlarged.map_or_else(|| Order::Lattice(self.lattices.shown().name.clone()), Order::Camera);
        if matches!(&order, Order::Lattice(_)) && self.lattices.is_changed(self.lattices.shown()) {
            self.say(Tone::Alarm, "this lattice is not saved: w saves it, so that the other screen finds it".into());
            return Vec::new();
        }
        vec![Effect::Tell(Command::Send(screen, order))]
    }

    /// Something was sent to this screen.
    pub fn take_order(&mut self, order: Order) {
        self.end_tour();
        match order {
            Order::Lattice(name) if self.desk.site.tour(&name).is_some() => self.begin_tour(&name),
            Order::Lattice(name) => self.show_lattice(Some(&name)),
            Order::Camera(name) => self.show_camera(&name),
        }
        self.seat();
        let what = self.showing();
        self.say(Tone::Here, format!("sent from another screen: {what}"));
    }

    fn tour_lines(&self) -> Vec<Line> {
        let line = |tour: lattice_store::site::Tour| Line {
            detail: format!("tour of {} stops", tour.stops.len()),
            label: tour.name.clone(),
            key: String::new(),
            pick: Pick::Tour(tour.name),
        };
        self.tours().into_iter().map(line).collect()
    }

    /// The selected line moves.
    pub(super) fn pick_row(&mut self, rows: i32) {
        let last = self.picks().len().saturating_sub(1);
        if let Some(picker) = &mut self.picker {
            picker.row = picker.row.min(last).saturating_add_signed(rows as isize).min(last);
        }
    }

    /// The selected line is taken.
    pub(super) fn pick_taken(&mut self) -> Vec<Effect> {
        let line = self.picks().into_iter().nth(self.picker.as_ref().map_or(0, |picker| picker.row));
        let Some(picker) = self.picker.take() else { return Vec::new() };
        match picker.kind {
            PickKind::Rename => {
                if let Err(told) = self.lattices.rename(picker.input.value()) {
                    self.say(Tone::Alarm, told);
                }
                return Vec::new();
            }
            PickKind::LedgerFilter | PickKind::Note => {
                self.ledger_typed(picker.kind, picker.input.value());
                return Vec::new();
            }
            PickKind::Report => {
                let span = super::ledger::LANE_SPANS[self.log.span % super::ledger::LANE_SPANS.len()].0;
                return vec![Effect::Tell(Command::Report(picker.input.value().to_owned(), span))];
            }
            PickKind::Export | PickKind::Import if picker.input.value().trim().is_empty() => return Vec::new(),
            PickKind::Export => {
                let lattice = Box::new(self.lattices.shown().clone());
                return vec![Errand::ExportLattice(lattice, picker.input.value().to_owned()).into()];
            }
            PickKind::Import => {
                return vec![Errand::ImportLattices(picker.input.value().to_owned()).into()];
            }
            PickKind::Duplicate => {
                let name = self.lattices.free_name(picker.input.value().trim());
                if name.is_empty() {
                    return Vec::new();
                }
                let copy = self.lattices.shown().called(name);
                self.lattices.add(copy);
                return Vec::new();
            }
            _ => {}
        }
        let Some(line) = line else {
            self.say(Tone::Text, format!("nothing is called {:?}", picker.input.value()));
            return Vec::new();
        };
        match line.pick {
            Pick::Put(camera) => {
                let tile = self.tile_number(self.selected);
                self.put_camera(tile, &camera);
            }
            Pick::Fill(group) => {
                let names: Vec<String> = self.cameras_of(group.as_deref()).into_iter().map(str::to_owned).collect();
                let first = self.tile_number(0);
                let count = self.lattices.edit(|lattice| lattice.fill(first, names.iter().map(String::as_str)));
                let pages = self.lattices.shown().pages();
                let where_to = if pages > 1 { format!(", on {pages} pages: [ and ] turn them") } else { String::new() };
                self.say(Tone::Text, format!("{count} cameras put in{where_to}"));
            }
            Pick::Lattice(name) => self.show_lattice(Some(&name)),
            Pick::Camera(name) => self.show_camera(&name),
            Pick::Tour(name) => self.begin_tour(&name),
            Pick::Screen(name) => return self.send(name),
            Pick::Bench(key) => self.put_on_bench(key),
            Pick::Do(action) => return self.act(action),
            Pick::There(page, action) => {
                let mut effects = self.act(page);
                effects.extend(self.act(action));
                return effects;
            }
        }
        Vec::new()
    }

    /// Shows a camera enlarged: in the lattice that is shown, or else among all cameras.
    pub fn show_camera(&mut self, name: &str) {
        let tile = self.lattices.shown().find(name);
        let tile = tile.or_else(|| {
            self.lattices.show(None);
            self.lattices.shown().find(name)
        });
        let Some(tile) = tile else {
            self.say(Tone::Text, format!("{name} cannot be shown: it is switched off, or its streams are not known"));
            return;
        };
        let places = self.lattices.shown().places();
        self.lattices.turn(tile / places);
        (self.selected, self.enlarged, self.page) = (tile % places, true, Page::Wall);
        self.same_tiles_since = self.now;
    }
}

/// The lines that match what was typed, the best first; all of them while nothing was.
fn matching(lines: Vec<Line>, typed: &str) -> Vec<Line> {
    if typed.trim().is_empty() {
        return lines;
    }
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = Matcher::new(Config::DEFAULT);
    let mut buffer = Vec::new();
    let mut found: Vec<(u32, Line)> = lines
        .into_iter()
        .filter_map(|line| Some((pattern.score(Utf32Str::new(&line.label, &mut buffer), &mut matcher)?, line)))
        .collect();
    found.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    found.into_iter().map(|(_, line)| line).collect()
}
