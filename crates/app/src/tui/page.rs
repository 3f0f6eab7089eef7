//! What a page is. A page owns all of itself: its state, its keys and what they do, how it is drawn and clicked, which
//! streams it watches. What stands in front of a page (a list, a form, the help) is made in the same way. Pages know the
//! [`App`] and nothing of each other: they are asked for by name.

use super::app::App;
use super::theme::Theme;
use lattice_core::Mono;
use lattice_core::lattice::Aspect;
use lattice_core::playout::Playout;
use lattice_core::view::View;
use lattice_engine::{Beginning, FeedKey, News};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use std::any::Any;
use tui_input::Input;

/// The name of the page that all others stand on.
pub const WALL: &str = "Wall";
/// The name of the page of all cameras, to which one comes when the first is there.
pub const ROSTER: &str = "Roster";
/// The name of the page that is there while the site has no camera.
pub const WELCOME: &str = "No camera yet";

/// A stream that is on the screen.
#[derive(Debug, Clone, Copy)]
pub struct Watched {
    /// The stream.
    pub key: FeedKey,
    /// Its painter: the place of the page.
    pub painter: usize,
    /// Where its picture stands.
    pub area: Rect,
    /// How.
    pub aspect: Aspect,
    /// What of it is shown.
    pub view: View,
}

impl Watched {
    /// All of a picture, with its aspect.
    pub const fn whole(key: FeedKey, painter: usize, area: Rect) -> Self {
        Self { key, painter, area, aspect: Aspect::Fit, view: View::WHOLE }
    }
}

/// What changed of a stream since the screen was drawn last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Change {
    /// It has a new picture.
    Picture,
    /// It has other figures, and perhaps a new picture.
    Figures,
}

/// How much of the screen a picture has, which says whether it is painted in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Share {
    /// It is the large one.
    Alone,
    /// One of a few.
    Few,
    /// One of very many.
    Many,
}

/// What the mouse does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mouse {
    /// The left button was pressed here.
    Press(Position),
    /// The mouse moves with the button down, and is here.
    Drag(Position),
    /// The button was let go here.
    Release(Position),
    /// The wheel: down is 1, up is -1; over this.
    Wheel(i32, Position),
}

/// What a page does; what it does not need is left out.
#[allow(unused_variables, reason = "what is left out takes no notice")]
pub trait Page: Any {
    /// Draws it into the part of the screen between header and footer; gives the streams whose picture is on the screen.
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey>;

    /// Draws only what shows these streams, over what was drawn last; gives where that was. `None` where all must be drawn.
    fn draw_changed(
        &self,
        app: &App,
        theme: Theme,
        changed: &[(FeedKey, Change)],
        painters: &mut [TilePainter],
        buf: &mut Buffer,
    ) -> Option<Vec<Rect>> {
        None
    }

    /// The streams that must be decoded, with where each is shown.
    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        Vec::new()
    }

    /// Painters that it needs at least, also for pictures that are no stream's.
    fn painters(&self) -> usize {
        0
    }

    /// The one stream that all of the page is about, where it is about one: it is kept open, and keys of other pages are about it.
    fn about(&self) -> Option<FeedKey> {
        None
    }

    /// Streams that are to be open besides those of the wall.
    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.about().into_iter().collect()
    }

    /// When units of a stream go on to the decoder, where that is for this page to say.
    fn playout(&self, app: &App, key: FeedKey) -> Option<Playout> {
        None
    }

    /// How much of the screen the picture in a place has; `None` where pictures are never painted in pixels.
    fn share(&self, app: &App, place: usize) -> Option<Share> {
        None
    }

    /// The camera that keys of other pages are about.
    fn camera(&self, app: &App) -> Option<String> {
        let of_stream = self.about().map(|key| app.camera_name(key.camera).to_owned());
        of_stream.or_else(|| app.selected_tile().map(|tile| app.name(tile).to_owned()))
    }

    /// The stream that keys of other pages are about.
    fn stream(&self, app: &App) -> Option<FeedKey> {
        self.about().or_else(|| app.selected_tile().map(lattice_engine::Seat::key))
    }

    /// The text that is typed into it: letters go there before they are keys.
    fn text(&mut self) -> Option<&mut Input> {
        None
    }

    /// What was typed changed.
    fn typed(&mut self, app: &mut App) {}

    /// It is a line of text that the page below makes room for.
    fn is_line(&self) -> bool {
        false
    }

    /// Something was pasted where no text is typed; true for the page that takes it.
    fn takes_paste(&mut self, app: &mut App, text: &str) -> bool {
        false
    }

    /// The mouse did something.
    fn mouse(&mut self, app: &mut App, mouse: Mouse) {}

    /// What the footer says of a key.
    fn hint(&self, app: &App, key: &KeyText) -> Option<&'static str> {
        key.hint
    }

    /// What the engine knows when the screen begins.
    fn on_beginning(&mut self, app: &mut App, beginning: &Beginning) {}

    /// The engine tells something; every page hears it, shown or not.
    fn on_news(&mut self, app: &mut App, news: &News) {}

    /// The newest figures came, while this page is shown.
    fn on_snapshot(&mut self, app: &mut App) {}

    /// Whether it wants to know when a key is let go.
    fn wants_releases(&self) -> bool {
        false
    }

    /// A key was let go; few terminals tell that.
    fn released(&mut self, app: &mut App) {}

    /// Time goes on, while this page is shown.
    fn goes_on(&mut self, app: &mut App) {}

    /// When it changes by itself next.
    fn due(&self, now: Mono) -> Option<Mono> {
        None
    }

    /// It stands on the terminal since then.
    fn shown(&mut self, app: &mut App, at: Mono) {}

    /// Another page was gone to from it.
    fn left(&mut self, app: &mut App) {}
}

/// What must be there for a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// Nothing.
    Nothing,
    /// A site whose file can be changed.
    Site,
    /// The stand-in cameras of the demo.
    Demo,
    /// The first steps that the demo leads through.
    Guide,
}

/// What kind of key it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// It does something.
    Does,
    /// It moves a selection.
    Moves,
    /// None: here stand the keys that lead to other pages.
    Elsewhere,
    /// Help, back, leave: last in every list, and kept in the footer to the last.
    Common,
}

/// What is told of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyText {
    /// Keys as they are shown, separated by spaces; also parsed from this.
    pub keys: &'static str,
    /// In the help.
    pub help: &'static str,
    /// In the footer, where it is important enough.
    pub hint: Option<&'static str>,
    /// What must be there for it.
    pub needs: Needs,
    /// What kind of key it is.
    pub kind: Kind,
}

/// A key, as it is found on the page that is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// The page's own, by its number.
    Own(usize),
    /// One that leads to another page: that page and the number of the way.
    Way(usize, usize),
}

/// A key of a page, and what it does.
pub struct Key<P: 'static> {
    /// What is told of it.
    pub text: KeyText,
    /// What it does.
    pub act: fn(&mut P, &mut App),
}

/// A key of another page that leads to this one.
pub struct Way<P: 'static> {
    /// The page on which it is pressed.
    pub from: &'static str,
    /// The key, and what it does: with [`App::open`] it comes onto the screen.
    pub key: Key<P>,
}

/// A key.
pub const fn key<P>(keys: &'static str, help: &'static str, act: fn(&mut P, &mut App)) -> Key<P> {
    Key { text: KeyText { keys, help, hint: None, needs: Needs::Nothing, kind: Kind::Does }, act }
}

/// A key that moves a selection.
pub const fn moves<P>(keys: &'static str, help: &'static str, act: fn(&mut P, &mut App)) -> Key<P> {
    let Key { text, act } = key(keys, help, act);
    Key { text: KeyText { kind: Kind::Moves, ..text }, act }
}

/// A key of every page: help, back, leave.
pub const fn common<P>(keys: &'static str, help: &'static str, hint: Option<&'static str>, act: fn(&mut P, &mut App)) -> Key<P> {
    let Key { text, act } = key(keys, help, act);
    Key { text: KeyText { kind: Kind::Common, hint, ..text }, act }
}

/// Here stand the keys that lead to other pages; where no page says so, they stand behind its own.
pub const fn elsewhere<P>() -> Key<P> {
    let Key { text, act } = key("", "", |_, _| ());
    Key { text: KeyText { kind: Kind::Elsewhere, ..text }, act }
}

/// The key that leads back to the page below.
pub const fn back<P>(keys: &'static str, help: &'static str, hint: Option<&'static str>) -> Key<P> {
    common(keys, help, hint, |_, app| app.back())
}

/// The key that leaves the program, on every page.
pub const fn leave<P>() -> Key<P> {
    common("ctrl-c", "leave", None, |_, app| app.quit())
}

/// A key of another page that leads to this one.
pub const fn way<P>(from: &'static str, keys: &'static str, help: &'static str, act: fn(&mut P, &mut App)) -> Way<P> {
    Way { from, key: key(keys, help, act) }
}

impl<P> Key<P> {
    /// With what the footer says.
    pub const fn hint(self, hint: &'static str) -> Self {
        Self { text: KeyText { hint: Some(hint), ..self.text }, act: self.act }
    }

    /// Only where there is a site, or stand-in cameras.
    pub const fn needs(self, needs: Needs) -> Self {
        Self { text: KeyText { needs, ..self.text }, act: self.act }
    }
}

impl<P> Way<P> {
    /// With what the footer says.
    pub const fn hint(self, hint: &'static str) -> Self {
        Self { from: self.from, key: self.key.hint(hint) }
    }

    /// Only where there is a site.
    pub const fn of_site(self) -> Self {
        Self { from: self.from, key: self.key.needs(Needs::Site) }
    }
}

/// A page with its name and its keys.
pub trait Keyed: Page + Sized {
    /// How it is asked for, and its title in the help.
    const NAME: &'static str;
    /// Its keys.
    const KEYS: &'static [Key<Self>];
    /// Keys of other pages that lead to it.
    const WAYS: &'static [Way<Self>] = &[];
}

/// A page among others.
pub trait AnyPage: Page {
    /// How it is asked for.
    fn name(&self) -> &'static str;
    /// Its keys.
    fn keys(&self) -> Vec<KeyText>;
    /// The pages from which keys lead here, with those keys.
    fn ways(&self) -> Vec<(&'static str, KeyText)>;
    /// One of its keys was pressed, by its number.
    fn press(&mut self, number: usize, app: &mut App);
    /// A key that leads here was pressed, by its number.
    fn come(&mut self, number: usize, app: &mut App);
    /// The page itself.
    fn as_any(&self) -> &dyn Any;
    /// The page itself, to be changed.
    fn as_any_mut(&mut self) -> &mut dyn Any;
}

impl<P: Keyed> AnyPage for P {
    fn name(&self) -> &'static str {
        P::NAME
    }

    fn keys(&self) -> Vec<KeyText> {
        P::KEYS.iter().map(|key| key.text).collect()
    }

    fn ways(&self) -> Vec<(&'static str, KeyText)> {
        P::WAYS.iter().map(|way| (way.from, way.key.text)).collect()
    }

    fn press(&mut self, number: usize, app: &mut App) {
        if let Some(key) = P::KEYS.get(number) {
            (key.act)(self, app);
        }
    }

    fn come(&mut self, number: usize, app: &mut App) {
        if let Some(way) = P::WAYS.get(number) {
            (way.key.act)(self, app);
        }
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn as_any_mut(&mut self) -> &mut dyn Any {
        self
    }
}

/// What stands in front of pages, as a section of the help: title, keys.
pub type Section = (&'static str, Vec<KeyText>);

/// The section of what stands in front of pages.
pub fn section<P: Keyed>() -> Section {
    (P::NAME, P::KEYS.iter().map(|key| key.text).collect())
}

/// A place of the stack.
pub enum Slot {
    /// A page, by its number.
    Page(usize),
    /// Something in front; empty while it acts.
    Front(Option<Box<dyn AnyPage>>),
}

/// What is told of a page's keys.
#[derive(Debug)]
pub struct Table {
    /// The page.
    pub name: &'static str,
    /// Its own keys.
    pub keys: Vec<KeyText>,
    /// Keys of other pages that lead to it, with those pages.
    pub ways: Vec<(&'static str, KeyText)>,
}

/// All pages, and those that are on the screen.
#[derive(Default)]
pub struct Pages {
    /// All, in the order of the help. One is missing while it acts.
    pub all: Vec<Option<Box<dyn AnyPage>>>,
    /// What is told of their keys.
    pub tables: Vec<Table>,
    /// The keys of what stands in front of pages, for the help.
    pub fronts: Vec<Section>,
    /// From the wall up: pages, and what stands in front of the topmost.
    pub stack: Vec<Slot>,
    /// Pages that were left and do not know it yet.
    pub left: Vec<usize>,
}

impl Pages {
    /// These pages, with the first on the screen.
    pub fn new(all: Vec<Box<dyn AnyPage>>, fronts: Vec<Section>) -> Self {
        let tables = all.iter().map(|page| Table { name: page.name(), keys: page.keys(), ways: page.ways() }).collect();
        Self { all: all.into_iter().map(Some).collect(), tables, fronts, stack: vec![Slot::Page(0)], left: Vec::new() }
    }

    /// The number of a page.
    pub fn number(&self, name: &str) -> Option<usize> {
        self.tables.iter().position(|table| table.name == name)
    }

    /// The topmost page.
    pub fn top_page(&self) -> usize {
        let page = |slot: &Slot| if let Slot::Page(number) = slot { Some(*number) } else { None };
        self.stack.iter().rev().find_map(page).unwrap_or(0)
    }

    /// Whether something stands in front of the topmost page.
    pub fn has_front(&self) -> bool {
        matches!(self.stack.last(), Some(Slot::Front(_)))
    }
}
