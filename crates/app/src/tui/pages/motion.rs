//! Our own motion: areas and lines drawn in a camera's picture, what moves in it, what was seen.

mod view;

use crate::tui::app::App;
use crate::tui::app::sights::lies_in;
use crate::tui::fronts::help;
use crate::tui::fronts::line::TypedLine;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::motion::{LONGEST_NAME, MOST_CORNERS, MOST_SHAPES, Outline, Place, Shape, Way as Over};
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

/// Steps of the pen, in shares of the picture.
const STEP: f64 = 0.02;
const FINE: f64 = 0.004;
/// Steps of the least size.
const LEAST: f64 = 0.02;

/// What is said where a shape is needed.
const NOTHING: &str = "nothing is drawn yet: space puts a corner";

/// The page.
#[derive(Debug)]
pub struct MotionPage {
    /// The stream that is shown.
    key: Option<FeedKey>,
    /// Its camera.
    name: String,
    /// What was watched when the page was opened.
    before: Vec<Shape>,
    /// Where the next corner would come.
    pen: Place,
    /// Corners that are no shape yet.
    corners: Vec<Place>,
    /// The selected shape.
    chosen: usize,
}

impl Default for MotionPage {
    fn default() -> Self {
        Self { key: None, name: String::new(), before: Vec::new(), pen: (0.5, 0.5), corners: Vec::new(), chosen: 0 }
    }
}

impl Keyed for MotionPage {
    const NAME: &'static str = "Motion";
    const KEYS: &'static [Key<Self>] = &[
        moves("shift-left", "the pen a little to the left", |page: &mut Self, _| page.shift(-FINE, 0.0)),
        moves("shift-right", "a little to the right", |page: &mut Self, _| page.shift(FINE, 0.0)),
        moves("shift-up", "a little up", |page: &mut Self, _| page.shift(0.0, -FINE)),
        moves("shift-down", "a little down", |page: &mut Self, _| page.shift(0.0, FINE)),
        key("left h", "the pen to the left", |page: &mut Self, _| page.shift(-STEP, 0.0)).hint("pen"),
        key("right l", "to the right", |page: &mut Self, _| page.shift(STEP, 0.0)),
        key("up k", "up", |page: &mut Self, _| page.shift(0.0, -STEP)),
        key("down j", "down", |page: &mut Self, _| page.shift(0.0, STEP)),
        key("space", "put a corner where the pen is; a click puts one too", Self::put).hint("corner"),
        key("backspace", "take the last corner back", |page: &mut Self, _| {
            page.corners.pop();
        }),
        key("a", "an area of these corners", |page: &mut Self, app| page.make(app, Outline::Area)).hint("area"),
        key("n", "a line through these points", |page: &mut Self, app| {
            page.make(app, |places| Outline::Line(places, Over::Both));
        })
        .hint("line"),
        key("tab", "select the next area or line", |page: &mut Self, app| {
            page.chosen = (page.chosen + 1) % page.shapes(app).len().max(1);
        })
        .hint("next"),
        key("t", "which way over the selected line counts", Self::turn).hint("way"),
        key("+ =", "only what is larger counts for it", |page: &mut Self, app| page.least(app, LEAST)),
        key("-", "smaller things too", |page: &mut Self, app| page.least(app, -LEAST)),
        key("r", "give it another name", Self::rename).hint("name"),
        key("x", "take it out", Self::take_out).hint("take out"),
        key("o", "the trace of what moves on its tiles too, or not", Self::trace).hint("trace"),
        key("u", "all as it was when this page was opened", |page: &mut Self, app| page.keep(app, page.before.clone())),
        help::everything(),
        help::key(),
        back("esc q #", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way(WALL, "#", "motion: areas and lines that are watched in its picture", Self::begin).of_site()];
}

impl Page for MotionPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, body, painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        self.key.map(|key| Watched::whole(key, 0, view::picture(body, self.shapes(app).len()))).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        // What is drawn over it would have to be cut out of pictures of pixels.
        None
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        if let Mouse::Press(at) = mouse
            && let Some(place) = self.place_at(app, at)
        {
            self.pen = place;
            self.put(app);
        }
    }

    fn left(&mut self, app: &mut App) {
        if !self.corners.is_empty() {
            app.say(Tone::Text, "corners that were no area and no line are gone".into());
        }
        *self = Self::default();
    }
}

impl MotionPage {
    fn begin(&mut self, app: &mut App) {
        let Some(key) = app.stream_meant() else {
            return app.say(Tone::Text, "no camera is selected".into());
        };
        let name = app.cameras.name(key.camera).to_owned();
        if app.site.camera(&name).is_none() {
            return app.say(Tone::Text, format!("{name} is not in the site: what is drawn could not be kept"));
        }
        *self = Self { key: Some(key), name, ..Self::default() };
        self.before = self.shapes(app).to_vec();
        app.open(Self::NAME);
    }

    /// The shapes as the site has them.
    fn shapes<'a>(&self, app: &'a App) -> &'a [Shape] {
        app.site.camera(&self.name).map_or(&[], |camera| &camera.watch)
    }

    fn keep(&self, app: &mut App, shapes: Vec<Shape>) {
        app.order(Errand::Watch(self.name.clone(), shapes));
    }

    fn shift(&mut self, right: f64, down: f64) {
        self.pen = ((self.pen.0 + right).clamp(0.0, 1.0), (self.pen.1 + down).clamp(0.0, 1.0));
    }

    fn put(&mut self, app: &mut App) {
        if self.corners.len() == MOST_CORNERS {
            return app.say(Tone::Text, format!("up to {MOST_CORNERS} corners: a makes an area of them, n a line"));
        }
        if self.corners.last() != Some(&self.pen) {
            self.corners.push(self.pen);
        }
    }

    fn make(&mut self, app: &mut App, outline: impl FnOnce(Vec<Place>) -> Outline) {
        let mut shapes = self.shapes(app).to_vec();
        if shapes.len() == MOST_SHAPES {
            return app.say(Tone::Text, format!("a camera has up to {MOST_SHAPES} areas and lines: take one out with x"));
        }
        let outline = outline(self.corners.clone());
        let word = if matches!(outline, Outline::Area(_)) { "area" } else { "line" };
        let free = |name: &String| shapes.iter().all(|shape| shape.name != *name);
        let name = (1..=MOST_SHAPES + 1).map(|n| format!("{word} {n}")).find(free).unwrap_or_default();
        let shape = Shape { name, outline, least: 0.0 };
        if let Err(error) = shape.check() {
            return app.say(Tone::Text, error.to_string());
        }
        app.unsay();
        self.corners.clear();
        self.chosen = shapes.len();
        shapes.push(shape);
        self.keep(app, shapes);
    }

    /// Changes the selected shape.
    fn change(&mut self, app: &mut App, change: impl FnOnce(&mut Shape)) {
        let mut shapes = self.shapes(app).to_vec();
        match shapes.get_mut(self.chosen) {
            Some(shape) => change(shape),
            None => {
                return app.say(Tone::Text, NOTHING.into());
            }
        }
        self.keep(app, shapes);
    }

    fn turn(&mut self, app: &mut App) {
        let is_line = |shape: &Shape| matches!(shape.outline, Outline::Line(..));
        if self.shapes(app).get(self.chosen).is_some_and(|shape| !is_line(shape)) {
            return app.say(Tone::Text, "an area has no way: it sees what moves in it".into());
        }
        self.change(app, |shape| {
            if let Outline::Line(_, way) = &mut shape.outline {
                let at = Over::ALL.iter().position(|one| one == way).unwrap_or(0);
                *way = Over::ALL[(at + 1) % Over::ALL.len()];
            }
        });
    }

    fn least(&mut self, app: &mut App, by: f64) {
        self.change(app, |shape| shape.least = (((shape.least + by) / LEAST).round() * LEAST).clamp(0.0, 0.5));
    }

    fn take_out(&mut self, app: &mut App) {
        let mut shapes = self.shapes(app).to_vec();
        if shapes.is_empty() {
            app.say(Tone::Text, NOTHING.into());
        } else if self.chosen < shapes.len() {
            let gone = shapes.remove(self.chosen);
            self.chosen = self.chosen.min(shapes.len().saturating_sub(1));
            self.keep(app, shapes);
            app.say(Tone::Text, format!("{} was taken out; u brings all back", gone.name));
        }
    }

    fn rename(&mut self, app: &mut App) {
        let shapes = self.shapes(app).to_vec();
        let Some(shape) = shapes.get(self.chosen) else { return app.say(Tone::Text, NOTHING.into()) };
        let (camera, chosen, old) = (self.name.clone(), self.chosen, shape.name.clone());
        let taken: Vec<String> = shapes.iter().map(|shape| shape.name.clone()).filter(|name| *name != old).collect();
        let line = TypedLine::new(format!("new name of {old}"), old, move |app, text| {
            let mut shapes = shapes.clone();
            text.trim().clone_into(&mut shapes[chosen].name);
            app.order(Errand::Watch(camera.clone(), shapes));
        });
        app.put_in_front(line.checked(move |text| {
            let text = text.trim();
            if text.is_empty() || text.chars().count() > LONGEST_NAME {
                return Err(format!("a name has 1 to {LONGEST_NAME} characters"));
            }
            if taken.iter().any(|name| name == text) { Err(format!("there is a {text} already")) } else { Ok(()) }
        }));
    }

    fn trace(&mut self, app: &mut App) {
        if !app.traced.remove(&self.name) {
            app.traced.insert(self.name.clone());
        }
        let on = app.traced.contains(&self.name);
        app.say(Tone::Text, format!("{}: the trace of what moves is {} its tiles", self.name, if on { "on" } else { "not on" }));
    }

    fn place_at(&self, app: &App, at: Position) -> Option<Place> {
        let source = app.pictures.get(&self.key?)?.source;
        let lies = lies_in(view::picture(app.body(), self.shapes(app).len()), source, app.cell_aspect);
        let share = |at: u16, from: u16, side: u16| (f64::from(at - from) + 0.5) / f64::from(side.max(1));
        lies.contains(at).then(|| (share(at.x, lies.x, lies.width), share(at.y, lies.y, lies.height)))
    }
}
