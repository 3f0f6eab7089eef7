//! The stack of pages: which is on the screen, what stands in front of it, and where keys, the mouse and what is typed go.

use crate::tui::app::regions::regions;
use crate::tui::app::{App, Effect};
use crate::tui::keys;
use crate::tui::page::{AnyPage, Found, KeyText, Keyed, Kind, Mouse, Needs, Page, ROSTER, Slot, Table, WALL, WELCOME};
use crate::tui::theme::Tone;
use crate::tui::widgets::frame;
use lattice_core::Mono;
use lattice_engine::{Beginning, Command, FeedKey, News};
use ratatui::crossterm::event::{Event, KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Position;
use std::time::Duration;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler as _;

/// Two clicks within this time are one double click.
const DOUBLE_CLICK: Duration = Duration::from_millis(400);

impl App {
    /// The topmost page; none while it acts.
    pub fn page(&self) -> Option<&dyn AnyPage> {
        self.pages.all.get(self.pages.top_page())?.as_deref()
    }

    /// The name of the topmost page.
    pub fn page_name(&self) -> &'static str {
        self.pages.tables.get(self.pages.top_page()).map_or(WALL, |table| table.name)
    }

    /// Whether the wall is the topmost page.
    pub fn is_on_wall(&self) -> bool {
        self.page_name() == WALL
    }

    /// What stands in front of the topmost page, from the lowest up; what acts is missing.
    pub fn fronts(&self) -> impl Iterator<Item = &dyn AnyPage> {
        self.pages.stack.iter().filter_map(|slot| if let Slot::Front(front) = slot { front.as_deref() } else { None })
    }

    /// A page, by what it is; none while it acts.
    pub fn peek<P: Keyed>(&self) -> Option<&P> {
        self.pages.all.iter().flatten().find_map(|page| page.as_any().downcast_ref())
    }

    /// A page, for what was picked or typed in front of it.
    pub fn on_page<P: Keyed, T: Default>(&mut self, act: impl FnOnce(&mut P, &mut Self) -> T) -> T {
        let Some(number) = self.pages.number(P::NAME) else { return T::default() };
        self.with_page(number, |page, app| page.as_any_mut().downcast_mut().map(|page| act(page, app)))
            .flatten()
            .unwrap_or_default()
    }

    fn with_page<T>(&mut self, number: usize, act: impl FnOnce(&mut dyn AnyPage, &mut Self) -> T) -> Option<T> {
        let mut page = self.pages.all.get_mut(number)?.take()?;
        let done = act(page.as_mut(), self);
        if let Some(place) = self.pages.all.get_mut(number) {
            *place = Some(page);
        }
        Some(done)
    }

    /// What keys go to acts.
    fn with_top<T>(&mut self, act: impl FnOnce(&mut dyn AnyPage, &mut Self) -> T) -> Option<T> {
        let at = self.pages.stack.len().checked_sub(1)?;
        match self.pages.stack.get_mut(at)? {
            Slot::Page(number) => {
                let number = *number;
                self.with_page(number, act)
            }
            Slot::Front(front) => {
                let mut front = front.take()?;
                let done = act(front.as_mut(), self);
                // It has not closed itself.
                if let Some(Slot::Front(empty @ None)) = self.pages.stack.get_mut(at) {
                    *empty = Some(front);
                }
                Some(done)
            }
        }
    }

    /// Goes to a page: it stands on the one that is shown, or is gone back to where it stands below.
    pub fn open(&mut self, name: &'static str) {
        let Some(number) = self.pages.number(name) else { return };
        let below = self.pages.stack.iter().position(|slot| matches!(slot, Slot::Page(other) if *other == number));
        if let Some(at) = below {
            self.shorten(at + 1);
        } else {
            self.close_fronts();
            self.pages.stack.push(Slot::Page(number));
        }
        self.same_tiles_since = self.now;
    }

    /// Goes back to the wall.
    pub fn show_wall(&mut self) {
        self.open(WALL);
    }

    /// Something stands in front from now on.
    pub fn put_in_front(&mut self, front: impl Keyed) {
        self.pages.stack.push(Slot::Front(Some(Box::new(front))));
    }

    /// What stands in front goes.
    pub fn close_fronts(&mut self) {
        while self.pages.has_front() {
            self.pages.stack.pop();
        }
    }

    /// What is topmost goes: back to what is below it.
    pub fn back(&mut self) {
        if self.pages.has_front() {
            self.pages.stack.pop();
            return;
        }
        let from = self.page_name();
        self.shorten(self.pages.stack.len().saturating_sub(1).max(1));
        // The first page is the wall, as soon as there is a camera for it.
        let there = self.cameras_there().next().is_some();
        match self.page_name() {
            WELCOME if !self.site.cameras.is_empty() => {
                self.show_wall();
                if from != ROSTER {
                    self.open(ROSTER);
                }
            }
            WALL if !there => self.open(WELCOME),
            _ => {}
        }
        self.same_tiles_since = self.now;
    }

    fn shorten(&mut self, to: usize) {
        while self.pages.stack.len() > to {
            if let Some(Slot::Page(number)) = self.pages.stack.pop() {
                self.pages.left.push(number);
            }
        }
    }

    /// Leaves the program; where something is not saved, at the second time.
    pub fn quit(&mut self) {
        if self.available && self.lattices.has_changes() && !self.was_warned {
            self.is_warned = true;
            self.say(Tone::Alarm, "lattices have changes that are not saved: w saves them, q again leaves without".into());
            return;
        }
        self.effects.push(Effect::Quit);
    }

    /// Leaves for the demo.
    pub fn quit_to_demo(&mut self) {
        self.wants_demo = true;
        self.effects.push(Effect::Quit);
    }

    /// The camera that a key is about which leads to another page.
    pub fn camera_meant(&self) -> Option<String> {
        self.page()?.camera(self)
    }

    /// The stream that a key is about which leads to another page.
    pub fn stream_meant(&self) -> Option<FeedKey> {
        self.page()?.stream(self)
    }

    /// The keys that can be pressed on a page: its own, and those that lead elsewhere in their place.
    pub fn keys_of(&self, table: &Table) -> Vec<(Found, KeyText)> {
        let own = table.keys.iter().enumerate().map(|(number, key)| (Found::Own(number), *key));
        let ways = self.pages.tables.iter().enumerate().flat_map(|(page, other)| {
            let from = other.ways.iter().enumerate().filter(|(_, (from, _))| *from == table.name);
            from.map(move |(number, (_, key))| (Found::Way(page, number), *key))
        });
        let mut keys: Vec<(Found, KeyText)> = own.collect();
        let behind = keys.iter().position(|(_, key)| key.kind == Kind::Common).unwrap_or(keys.len());
        let place = keys.iter().position(|(_, key)| key.kind == Kind::Elsewhere);
        keys.splice(place.map_or(behind..behind, |place| place..place + 1), ways);
        keys
    }

    /// The keys that apply now.
    pub fn keys_here(&self) -> Vec<(Found, KeyText)> {
        match self.pages.stack.last() {
            Some(Slot::Page(number)) => self.pages.tables.get(*number).map(|table| self.keys_of(table)).unwrap_or_default(),
            Some(Slot::Front(Some(front))) => {
                front.keys().into_iter().enumerate().map(|(number, key)| (Found::Own(number), key)).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Whether what a key needs is there.
    pub fn is_there(&self, needs: Needs) -> bool {
        match needs {
            Needs::Nothing => true,
            Needs::Site => self.available,
            Needs::Demo => self.demo,
            Needs::Guide => self.guide.is_some_and(|guide| guide.line().is_some()),
        }
    }

    /// Does what a key does.
    pub fn press(&mut self, found: Found, key: KeyText) {
        if !self.is_there(key.needs) {
            let text = match key.needs {
                Needs::Guide => return,
                Needs::Demo => "faults can be ordered from the stand-in cameras of the demo only",
                _ => "these cameras belong to no site: start `amber-lattice wall` to keep some",
            };
            self.say(Tone::Text, text.into());
            return;
        }
        match found {
            Found::Own(number) => drop(self.with_top(|top, app| top.press(number, app))),
            Found::Way(page, number) => drop(self.with_page(page, |page, app| page.come(number, app))),
        }
    }

    /// The list of everything, which is the wall's, in front of any page.
    pub fn open_everything(&mut self) {
        let Some(wall) = self.pages.number(WALL) else { return };
        // By the usual keys: the operator may have another one for it.
        let keys = self.pages.all.get(wall).and_then(Option::as_ref).map(|page| page.keys()).unwrap_or_default();
        if let Some(number) = keys.iter().position(|key| key.keys.split(' ').any(|name| name == "/")) {
            self.with_page(wall, |page, app| page.press(number, app));
        }
    }

    /// Goes to a page by the ways that lead there from the wall, then presses one of its keys.
    pub fn press_there(&mut self, ways: &[(Found, KeyText)], key: (Found, KeyText)) {
        for (found, text) in ways.iter().chain([&key]) {
            self.press(*found, *text);
        }
    }

    /// The keys that lead from the wall to a page, one after the other.
    pub fn ways_to(&self, name: &str) -> Option<Vec<(Found, KeyText)>> {
        let mut trails: Vec<(&'static str, Vec<(Found, KeyText)>)> = vec![(WALL, Vec::new())];
        let mut at = 0;
        while let Some((here, trail)) = trails.get(at).cloned() {
            if here == name {
                return Some(trail);
            }
            let table = self.pages.tables.iter().find(|table| table.name == here)?;
            for (found, key) in self.keys_of(table) {
                let Found::Way(page, _) = found else { continue };
                let Some(to) = self.pages.tables.get(page).map(|table| table.name) else { continue };
                if trails.iter().all(|(known, _)| *known != to) {
                    trails.push((to, trail.iter().copied().chain([(found, key)]).collect()));
                }
            }
            at += 1;
        }
        None
    }

    /// A key was pressed.
    pub fn on_key(&mut self, event: KeyEvent) -> Vec<Effect> {
        if event.kind == KeyEventKind::Release {
            return self.step(|app| {
                app.with_top(Page::released);
            });
        }
        if self.unseen.take().is_some() {
            return Vec::new();
        }
        self.was_warned = std::mem::take(&mut self.is_warned);
        self.step(|app| {
            app.works();
            // An arrow with shift is another key where the page has one of it, and the arrow elsewhere.
            let here = app.keys_here();
            let shifted = here.iter().find(|(_, key)| keys::is_with_shift(key.keys, event));
            if let Some((found, key)) = shifted.or_else(|| here.iter().find(|(_, key)| keys::is_one_of(key.keys, event))) {
                return app.press(*found, *key);
            }
            app.with_top(|top, app| {
                if let Some(input) = top.text() {
                    let _ = input.handle_event(&Event::Key(event));
                    top.typed(app);
                }
            });
        })
    }

    /// Text was pasted: into what is typed, or for the page that takes it.
    pub fn on_paste(&mut self, text: &str) -> Vec<Effect> {
        self.step(|app| {
            let typed = app.with_top(|top, app| {
                let Some(input) = top.text() else { return false };
                insert(input, text.trim_end_matches(['\r', '\n']));
                top.typed(app);
                true
            });
            if typed == Some(true) || app.pages.has_front() || !app.available {
                return;
            }
            for number in 0..app.pages.all.len() {
                if app.with_page(number, |page, app| page.takes_paste(app, text)) == Some(true) {
                    return;
                }
            }
        })
    }

    /// The mouse did something.
    pub fn on_mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        let at = Position::new(event.column, event.row);
        let mouse = match event.kind {
            MouseEventKind::Down(MouseButton::Left) => Mouse::Press(at),
            MouseEventKind::Up(MouseButton::Left) => Mouse::Release(at),
            MouseEventKind::Drag(MouseButton::Left) => Mouse::Drag(at),
            MouseEventKind::ScrollDown => Mouse::Wheel(1, at),
            MouseEventKind::ScrollUp => Mouse::Wheel(-1, at),
            _ => return Vec::new(),
        };
        self.step(|app| {
            app.works();
            if let Mouse::Press(at) = mouse
                && let Some(hint) = frame::hint_at(app, regions(app).footer, at)
            {
                let told = |key: &KeyText| app.is_there(key.needs) && key.keys.split(' ').next() == Some(hint);
                if let Some((found, key)) = app.keys_here().into_iter().find(|(_, key)| told(key)) {
                    app.press(found, key);
                }
                return;
            }
            app.with_top(|top, app| top.mouse(app, mouse));
        })
    }

    /// Whether a click on this tile or row follows one that was just made.
    pub fn is_double_click(&mut self, on: usize) -> bool {
        let double = self.clicked.is_some_and(|(last, when)| last == on && self.now.since(when) < DOUBLE_CLICK);
        self.clicked = if double { None } else { Some((on, self.now)) };
        double
    }

    /// The operator does something; what is to be done outside.
    fn step(&mut self, act: impl FnOnce(&mut Self)) -> Vec<Effect> {
        let before = (self.enlarged, self.selected);
        act(self);
        if before.0 != self.enlarged || (self.enlarged && before.1 != self.selected) {
            self.same_tiles_since = self.now;
            if let Some(camera) = self.selected_tile().map(|tile| tile.camera).filter(|_| self.enlarged) {
                self.tell(Command::PlanAnew(camera));
            }
        }
        self.guide = self.guide.map(|guide| guide.after(self));
        self.seat();
        self.take_effects()
    }

    /// What is to be done outside. Pages that were left know it first.
    fn take_effects(&mut self) -> Vec<Effect> {
        for number in std::mem::take(&mut self.pages.left) {
            if !self.pages.stack.iter().any(|slot| matches!(slot, Slot::Page(other) if *other == number)) {
                self.with_page(number, Page::left);
            }
        }
        std::mem::take(&mut self.effects)
    }

    /// What is known when the screen begins.
    pub(super) fn begin_pages(&mut self, beginning: &Beginning) {
        for number in 0..self.pages.all.len() {
            self.with_page(number, |page, app| page.on_beginning(app, beginning));
        }
    }

    /// The engine tells something.
    pub fn on_news(&mut self, news: &News) -> Vec<Effect> {
        self.take_news(news);
        for number in 0..self.pages.all.len() {
            self.with_page(number, |page, app| page.on_news(app, news));
        }
        self.take_effects()
    }

    /// The topmost page looks at the newest figures.
    pub(super) fn show_page_snapshot(&mut self) {
        self.with_page(self.pages.top_page(), Page::on_snapshot);
    }

    /// Time goes on: tours turn, pages go on; what is to be done outside.
    pub fn goes_on(&mut self) -> Vec<Effect> {
        if self.tour_goes_on() | self.calls_end() {
            self.seat();
        }
        self.with_page(self.pages.top_page(), Page::goes_on);
        self.take_effects()
    }

    /// The page stands on the terminal since then.
    pub fn shown(&mut self, at: Mono) -> Vec<Effect> {
        self.with_page(self.pages.top_page(), |page, app| page.shown(app, at));
        self.take_effects()
    }
}

/// Puts text where the cursor stands.
fn insert(input: &mut Input, text: &str) {
    let mut value: Vec<char> = input.value().chars().collect();
    let at = input.cursor().min(value.len());
    value.splice(at..at, text.chars());
    *input = Input::new(value.into_iter().collect()).with_cursor(at + text.chars().count());
}
