//! One stream on the whole screen.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::Role;
use lattice_core::meter::Span;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// What is looked at.
#[derive(Debug, Default)]
pub struct StreamPage {
    /// The stream.
    pub key: Option<FeedKey>,
    /// Its camera's other stream stands beside it.
    pub beside: bool,
    /// What the charts look back on.
    pub span: Span,
    /// The chart that is shown first.
    pub first_chart: usize,
    /// The scales have what the lines need, and no zero.
    pub fitted: bool,
    /// Where all charts are read, in percents of the span before now; at the newest for `None`.
    pub cursor: Option<u8>,
}

impl Keyed for StreamPage {
    const NAME: &'static str = "Stream";
    const KEYS: &'static [Key<Self>] = &[
        key("left h", "read all charts further back", |page: &mut Self, _| page.read_at(2)).hint("read"),
        key("right l", "nearer to now", |page: &mut Self, _| page.read_at(-2)),
        moves("down j", "the next chart first, where there is no room for all", |page: &mut Self, _| page.turn_charts(1)),
        moves("up k", "the chart before", |page: &mut Self, _| page.turn_charts(-1)),
        key("m", "the camera's other stream", Self::switch_stream).hint("main/sub"),
        key("b", "the camera's other stream beside it", Self::put_beside).hint("beside"),
        key("s", "look back on 1 minute, 10 minutes, 1 hour, 1 day", |page: &mut Self, _| page.span = page.span.next())
            .hint("span"),
        key("0", "scales from zero, or fitted to the lines", |page: &mut Self, _| page.fitted = !page.fitted).hint("scale"),
        key("w", "write the charts to an SVG file", |page: &mut Self, app| {
            let charts = page.key.map(|key| view::charts_on_paper(app, page, key));
            app.write(charts);
        })
        .hint("write"),
        help::everything(),
        help::key(),
        back("esc q J", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way(WALL, "J", "its stream: all figures, charts over a minute to a day, events", Self::begin).hint("stream")];
}

impl Page for StreamPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, body, painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let pictures = self.looked_at(app).into_iter().zip(view::pictures(app, self, body)).enumerate();
        pictures.map(|(painter, (key, area))| Watched::whole(key, painter, area)).collect()
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.looked_at(app)
    }

    fn share(&self, _: &App, place: usize) -> Option<Share> {
        Some(if place == 0 { Share::Alone } else { Share::Few })
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn mouse(&mut self, _: &mut App, mouse: Mouse) {
        if let Mouse::Wheel(by, _) = mouse {
            self.read_at(2 * by);
        }
    }
}

/// The stream of the same camera that comes after this one, in a round.
fn other_stream(app: &App, key: FeedKey) -> Option<FeedKey> {
    let streams = &app.cameras.get(key.camera)?.streams;
    let roles: Vec<Role> = streams.iter().map(|stream| stream.role).collect();
    let at = roles.iter().position(|role| *role == key.role)?;
    let role = roles.get((at + 1) % roles.len()).filter(|role| **role != key.role)?;
    Some(FeedKey { role: *role, ..key })
}

impl StreamPage {
    fn begin(&mut self, app: &mut App) {
        match app.stream_meant() {
            Some(key) => {
                self.key = Some(key);
                app.open(Self::NAME);
            }
            None => app.say(Tone::Text, "this tile is empty: p puts a camera here".into()),
        }
    }

    /// The stream that is looked at, and the one beside it.
    pub fn looked_at(&self, app: &App) -> Vec<FeedKey> {
        let beside = self.key.filter(|_| self.beside).and_then(|key| other_stream(app, key));
        self.key.into_iter().chain(beside).collect()
    }

    fn switch_stream(&mut self, app: &mut App) {
        let Some(key) = self.key else { return };
        match other_stream(app, key) {
            Some(other) => {
                self.key = Some(other);
                app.same_tiles_since = app.now;
            }
            None => app.say(Tone::Text, "this camera has one stream".into()),
        }
    }

    fn put_beside(&mut self, app: &mut App) {
        let other = self.key.and_then(|key| other_stream(app, key));
        self.beside = !self.beside && other.is_some();
        if other.is_none() {
            app.say(Tone::Text, "this camera has one stream: nothing stands beside it".into());
        }
        app.same_tiles_since = app.now;
    }

    fn turn_charts(&mut self, by: i32) {
        self.first_chart = (self.first_chart as i32 + by).rem_euclid(view::STREAM_CHARTS as i32) as usize;
    }

    /// Reads all charts at another moment, by percents of the span; further back with a positive one.
    fn read_at(&mut self, by: i32) {
        let next = (self.cursor.map_or(0, i32::from) + by).clamp(0, 100);
        self.cursor = (next > 0).then_some(next as u8);
    }
}
