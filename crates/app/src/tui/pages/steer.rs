//! Steering a camera: its picture large, its head under the operator's hand.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::fronts::line::TypedLine;
use crate::tui::fronts::picker::{Line, Picker};
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::Mono;
use lattice_core::onvif::Axes;
use lattice_core::steer::Pace;
use lattice_engine::{Command, FeedKey, Hand, HeadState, News};
use lattice_net::HeadOrder;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use std::collections::BTreeMap;
use std::time::Duration;

/// Whoever touches nothing for so long does not steer any more.
const IDLES: Duration = Duration::from_secs(60);
/// A patrol stays so long at a preset, where nothing else is said,
const STAYS: Duration = Duration::from_secs(10);
/// and no longer than this.
const LONGEST: f64 = 3600.0;
/// A press that moves no further than this, in cells, is a click.
const CLICK: u16 = 1;

/// The page.
#[derive(Debug, Default)]
pub struct SteerPage {
    /// The stream that is shown while its camera is steered.
    pub key: Option<FeedKey>,
    /// The camera.
    name: String,
    /// How its head stands, as far as it was told.
    pub head: Option<HeadState>,
    /// The selected preset.
    preset: usize,
    /// How long a patrol stays, by the tokens of presets; for none it is passed over.
    stays: BTreeMap<String, Duration>,
    /// When something was done last.
    used: Option<Mono>,
    /// Where the button went down, and where it is now; true once it steers.
    drag: Option<(Position, Position, bool)>,
    /// Keys go on holding after the mouse button: not before it is let go.
    frames: bool,
}

/// Where the picture lies on the screen.
#[cfg(test)]
pub fn shown(app: &App) -> Rect {
    let key = app.peek::<SteerPage>().and_then(|page| page.key);
    view::shown(app, key, view::picture(app.body()))
}

const fn across(pan: f64, tilt: f64) -> Axes<f64> {
    Axes { pan, tilt, zoom: 0.0 }
}

const fn nearer(zoom: f64) -> Axes<f64> {
    Axes { pan: 0.0, tilt: 0.0, zoom }
}

impl Keyed for SteerPage {
    const NAME: &'static str = "Steer";
    const KEYS: &'static [Key<Self>] = &[
        moves("shift-left", "left, fast", |page: &mut Self, app| page.press(app, across(-1.0, 0.0), Pace::Fast)),
        moves("shift-right", "right, fast", |page: &mut Self, app| page.press(app, across(1.0, 0.0), Pace::Fast)),
        moves("shift-up", "up, fast", |page: &mut Self, app| page.press(app, across(0.0, 1.0), Pace::Fast)),
        moves("shift-down", "down, fast", |page: &mut Self, app| page.press(app, across(0.0, -1.0), Pace::Fast)),
        moves("ctrl-left", "left, slowly", |page: &mut Self, app| page.press(app, across(-1.0, 0.0), Pace::Slow)),
        moves("ctrl-right", "right, slowly", |page: &mut Self, app| page.press(app, across(1.0, 0.0), Pace::Slow)),
        moves("ctrl-up", "up, slowly", |page: &mut Self, app| page.press(app, across(0.0, 1.0), Pace::Slow)),
        moves("ctrl-down", "down, slowly", |page: &mut Self, app| page.press(app, across(0.0, -1.0), Pace::Slow)),
        key("left h", "pan to the left while it is held, faster and faster", |page: &mut Self, app| {
            page.press(app, across(-1.0, 0.0), Pace::Usual);
        })
        .hint("pan"),
        key("right l", "pan to the right", |page: &mut Self, app| page.press(app, across(1.0, 0.0), Pace::Usual)),
        key("up k", "tilt up", |page: &mut Self, app| page.press(app, across(0.0, 1.0), Pace::Usual)).hint("tilt"),
        key("down j", "tilt down", |page: &mut Self, app| page.press(app, across(0.0, -1.0), Pace::Usual)),
        key("+ =", "zoom in while it is held", |page: &mut Self, app| page.press(app, nearer(1.0), Pace::Usual)).hint("zoom"),
        key("-", "zoom out", |page: &mut Self, app| page.press(app, nearer(-1.0), Pace::Usual)),
        key("[", "focus nearer while it is held", |page: &mut Self, app| page.focus(app, -1.0)),
        key("]", "focus further", |page: &mut Self, app| page.focus(app, 1.0)),
        key("space", "stop", |page: &mut Self, app| page.hand(app, Hand::Release)).hint("stop"),
        moves("tab pgdn", "the next preset", |page: &mut Self, app| page.select(app, 1)),
        moves("shift-tab pgup", "the preset before", |page: &mut Self, app| page.select(app, -1)),
        key("enter", "go to the selected preset", Self::go).hint("go"),
        key("w", "keep where it looks as a new preset", Self::keep).hint("keep"),
        key("e", "give the selected preset another name; the head goes there first", Self::rename),
        key("del backspace", "take the selected preset out", Self::forget),
        key("0", "go home", |page: &mut Self, app| page.hand(app, Hand::Do(HeadOrder::Home))).hint("home"),
        key("O", "make where it looks its home", |page: &mut Self, app| page.hand(app, Hand::Do(HeadOrder::SetHome))),
        key("t", "go round the presets, or end that; it waits while somebody steers", Self::patrol),
        key("T", "how long the patrol stays at the selected preset; 0 leaves it out", Self::dwell),
        key("o", "its outputs: wiper, lamp, whatever it has", Self::outputs),
        help::everything(),
        help::key(),
        back("esc q H", "leave the head", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "H", "steer the selected camera: pan, tilt, zoom, focus, presets", Self::begin).hint("steer").of_site(),
        way("Stream", "H", "steer its camera", Self::begin).of_site(),
    ];
}

impl Page for SteerPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (Some(key), Some(painter)) = (self.key, painters.first_mut()) else { return Vec::new() };
        view::draw(app, self, theme, key, body, painter, buf).then_some(key).into_iter().collect()
    }

    fn watched(&self, _: &App, body: Rect) -> Vec<Watched> {
        let area = view::picture(body);
        self.key.map(|key| Watched::whole(key, 0, area)).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Alone)
    }

    fn on_news(&mut self, app: &mut App, news: &News) {
        if let News::Head(name, state) = news
            && *name == self.name
        {
            if let Some(who) = &state.taken_by {
                return Self::ask_whether_to_take_over(app, who);
            }
            if let Some(why) = &state.refused {
                app.say(Tone::Bright, format!("{name}: {why}"));
            }
            self.preset = self.preset.min(state.presets.len().saturating_sub(1));
            self.head = Some((**state).clone());
        }
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        let place = view::shown(app, self.key, view::picture(app.body()));
        match mouse {
            Mouse::Wheel(by, _) => self.press(app, nearer(-f64::from(by.signum())), Pace::Usual),
            Mouse::Press(at) if place.contains(at) => self.drag = Some((at, at, false)),
            Mouse::Press(at) => {
                if let Some(row) = view::preset_at(self, app.body(), at) {
                    self.preset = row;
                    if app.is_double_click(row) {
                        self.go(app);
                    }
                }
            }
            Mouse::Drag(at) => self.dragged(app, place, at),
            Mouse::Release(at) => self.dropped(app, place, at),
        }
    }

    fn wants_releases(&self) -> bool {
        true
    }

    fn released(&mut self, app: &mut App) {
        if self.drag.is_none() {
            self.hand(app, Hand::Release);
        }
    }

    fn goes_on(&mut self, app: &mut App) {
        if self.used.is_some_and(|used| app.now.since(used) > IDLES) {
            app.say(Tone::Text, format!("{} is not steered any more: nothing was touched for a minute", self.name));
            app.back();
        }
    }

    fn due(&self, _: Mono) -> Option<Mono> {
        self.used.map(|used| used + IDLES)
    }

    fn left(&mut self, app: &mut App) {
        if !self.name.is_empty() {
            app.tell(Command::Steer(self.name.clone(), Hand::End));
        }
        *self = Self::default();
    }
}

impl SteerPage {
    /// The camera that is selected is steered from now on.
    fn begin(&mut self, app: &mut App) {
        let Some((key, name)) =
            app.page().and_then(|page| page.stream(app)).map(|key| (key, app.cameras.name(key.camera).to_owned()))
        else {
            app.say(Tone::Text, "no camera is selected".into());
            return;
        };
        *self = Self { key: Some(key), name: name.clone(), used: Some(app.now), ..Self::default() };
        app.open(Self::NAME);
        app.tell(Command::Steer(name, Hand::Begin));
    }

    /// Somebody has the head on another screen of the site.
    fn ask_whether_to_take_over(app: &mut App, who: &str) {
        let (leave, take) = (format!("leave it to {who}"), format!("take it over from {who}"));
        app.put_in_front(Picker::list("Somebody else steers it", move |_| {
            let yes = Line::new(&take, String::new(), "", |app| {
                app.on_page(|page: &mut Self, app| page.hand(app, Hand::TakeOver));
            });
            vec![Line::new(&leave, String::new(), "", App::back), yes]
        }));
    }

    fn hand(&mut self, app: &mut App, hand: Hand) {
        self.used = Some(app.now);
        if let Some(why) = self.head.as_ref().and_then(|head| head.refused.clone()) {
            app.say(Tone::Bright, format!("{}: {why}", self.name));
            return;
        }
        app.tell(Command::Steer(self.name.clone(), hand));
    }

    /// Whether it can move in this way, as far as its device says; it is said where it cannot.
    fn press(&mut self, app: &mut App, way: Axes<f64>, pace: Pace) {
        if let Some(node) = self.head.as_ref().and_then(|head| head.node.as_ref()) {
            let cannot = [
                (way.pan != 0.0 && node.speed.pan.is_none(), "pan"),
                (way.tilt != 0.0 && node.speed.tilt.is_none(), "tilt"),
                (way.zoom != 0.0 && node.speed.zoom.is_none(), "zoom"),
            ];
            if let Some((_, what)) = cannot.iter().find(|(cannot, _)| *cannot) {
                app.say(Tone::Text, format!("{} does not {what}, by what its device says", self.name));
                return;
            }
        }
        self.hand(app, Hand::Press(way, pace));
    }

    fn focus(&mut self, app: &mut App, way: f64) {
        if self.head.as_ref().is_some_and(|head| head.node.is_some() && !head.focuses) {
            app.say(
                Tone::Text,
                format!("the focus of {} cannot be moved from here: its device has no imaging service", self.name),
            );
        } else {
            self.hand(app, Hand::Focus(way));
        }
    }

    fn select(&mut self, app: &App, by: i32) {
        self.used = Some(app.now);
        let count = self.head.as_ref().map_or(0, |head| head.presets.len());
        self.preset = self.preset.saturating_add_signed(by as isize).min(count.saturating_sub(1));
    }

    /// The token and name of the selected preset; said where there is none.
    fn selected(&self, app: &mut App) -> Option<(String, String)> {
        let preset = self.head.as_ref().and_then(|head| head.presets.get(self.preset));
        if preset.is_none() {
            app.say(Tone::Text, format!("{} has no preset: w keeps where it looks as one", self.name));
        }
        preset.map(|preset| (preset.token.clone(), preset.name.clone()))
    }

    fn go(&mut self, app: &mut App) {
        if let Some((token, _)) = self.selected(app) {
            self.hand(app, Hand::Do(HeadOrder::GoTo(token)));
        }
    }

    fn keep(&mut self, app: &mut App) {
        let node = self.head.as_ref().and_then(|head| head.node.as_ref());
        let full = node.zip(self.head.as_ref()).is_some_and(|(node, head)| node.presets as usize <= head.presets.len());
        if full {
            app.say(Tone::Text, format!("{} keeps no more presets: del takes one out", self.name));
            return;
        }
        app.put_in_front(Picker::line("Name of the new preset", String::new(), |app, text| {
            let name = text.trim().to_owned();
            if !name.is_empty() {
                app.on_page(|page: &mut Self, app| page.hand(app, Hand::Do(HeadOrder::Keep(name, None))));
            }
        }));
    }

    fn rename(&mut self, app: &mut App) {
        let Some((token, name)) = self.selected(app) else { return };
        app.put_in_front(Picker::line("Another name for this preset", name, move |app, text| {
            let (token, name) = (token.clone(), text.trim().to_owned());
            if !name.is_empty() {
                app.on_page(|page: &mut Self, app| page.hand(app, Hand::Rename(token, name)));
            }
        }));
    }

    fn forget(&mut self, app: &mut App) {
        let Some((token, name)) = self.selected(app) else { return };
        let question = format!("take {name} out of the presets of {}", self.name);
        app.put_in_front(Picker::list("Take it out?", move |_| {
            let token = token.clone();
            let yes = Line::new(&question, String::new(), "", move |app| {
                let token = token.clone();
                app.on_page(|page: &mut Self, app| page.hand(app, Hand::Do(HeadOrder::Forget(token))));
            });
            vec![Line::new("leave it as it is", String::new(), "", |_| ()), yes]
        }));
    }

    fn patrol(&mut self, app: &mut App) {
        let Some(head) = &self.head else { return };
        let stops = head.presets.iter().map(|preset| (preset.token.clone(), self.stays(&preset.token)));
        let stops: Vec<(String, Duration)> = stops.filter(|(_, stays)| !stays.is_zero()).collect();
        if head.patrol.is_some() {
            self.hand(app, Hand::Patrol(Vec::new()));
        } else if stops.len() < 2 {
            app.say(Tone::Text, format!("a patrol needs two presets that it stays at, {} has {}", self.name, stops.len()));
        } else {
            self.hand(app, Hand::Patrol(stops));
        }
    }

    /// How long a patrol stays at a preset.
    fn stays(&self, token: &str) -> Duration {
        self.stays.get(token).copied().unwrap_or(STAYS)
    }

    fn dwell(&mut self, app: &mut App) {
        let Some(preset) = self.head.as_ref().and_then(|head| head.presets.get(self.preset)).cloned() else { return };
        let seconds = |text: &str| {
            let text = text.trim().trim_end_matches('s').trim();
            text.parse().ok().filter(|seconds: &f64| (0.0..=LONGEST).contains(seconds)).map(Duration::from_secs_f64)
        };
        let now = self.stays(&preset.token).as_secs_f64().to_string();
        let line = TypedLine::new(format!("seconds at {}", preset.name), now, move |app, text| {
            let Some(stays) = seconds(text) else { return };
            app.on_page(|page: &mut Self, app| {
                page.stays.insert(preset.token.clone(), stays);
                // A patrol that runs goes on by it.
                if page.head.as_ref().is_some_and(|head| head.patrol.is_some()) {
                    page.hand(app, Hand::Patrol(Vec::new()));
                    page.patrol_anew(app);
                }
            });
        });
        let check = move |text: &str| seconds(text).map(drop).ok_or_else(|| format!("seconds are 0 to {LONGEST}, like 15"));
        app.put_in_front(line.checked(check));
    }

    /// Begins the patrol as it is set now.
    fn patrol_anew(&mut self, app: &mut App) {
        if let Some(head) = &mut self.head {
            head.patrol = None;
        }
        self.patrol(app);
    }

    fn outputs(&mut self, app: &mut App) {
        let words = self.head.as_ref().and_then(|head| head.node.as_ref()).map(|node| node.auxiliary.clone()).unwrap_or_default();
        if words.is_empty() {
            app.say(Tone::Text, format!("{} names no output", self.name));
            return;
        }
        app.put_in_front(Picker::list("Outputs", move |_| {
            let line = |word: &String| {
                let order = word.clone();
                Line::new(&view::output_text(word), String::new(), "", move |app| {
                    let order = order.clone();
                    app.on_page(|page: &mut Self, app| page.hand(app, Hand::Do(HeadOrder::Switch(order))));
                })
            };
            words.iter().map(line).collect()
        }));
    }

    /// The button is down and the mouse moves: away from the middle is direction and speed.
    fn dragged(&mut self, app: &mut App, place: Rect, at: Position) {
        let Some((from, now, steers)) = &mut self.drag else { return };
        *now = at;
        let far = from.x.abs_diff(at.x) > CLICK || from.y.abs_diff(at.y) > CLICK;
        let from_middle = view::from_middle(place, *from);
        // From near the middle it steers; from elsewhere it draws a frame.
        let grips = from_middle.0.abs() < 0.25 && from_middle.1.abs() < 0.25;
        if !(far || *steers) {
            return;
        }
        if grips {
            *steers = true;
            let (x, y) = view::from_middle(place, at);
            self.hand(app, Hand::Drag(across(x.clamp(-1.0, 1.0), y.clamp(-1.0, 1.0))));
        } else {
            self.frames = true;
        }
    }

    /// The button was let go: a click centres, a frame is filled.
    fn dropped(&mut self, app: &mut App, place: Rect, at: Position) {
        let Some((from, _, steers)) = self.drag.take() else { return };
        let framed = std::mem::take(&mut self.frames);
        if steers {
            return self.hand(app, Hand::Release);
        }
        let (a, b) = (view::from_middle(place, from), view::from_middle(place, at));
        let look = if framed {
            let (wide, high) = ((a.0 - b.0).abs() / 2.0, (a.1 - b.1).abs() / 2.0);
            let zoom = 1.0 / wide.max(high).clamp(0.02, 1.0);
            HeadOrder::Look { x: f64::midpoint(a.0, b.0), y: f64::midpoint(a.1, b.1), zoom }
        } else {
            HeadOrder::Look { x: b.0, y: b.1, zoom: 1.0 }
        };
        self.hand(app, Hand::Do(look));
    }
}
