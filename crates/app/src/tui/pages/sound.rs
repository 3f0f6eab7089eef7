//! Sound: how loud each stream is that has some, and all about the selected one.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::page::{Key, KeyText, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::Theme;
use crate::tui::widgets::list::inner;
use lattice_core::meter::Span;
use lattice_core::sound::SoundState;
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// The hints of keys that take a build that can be heard.
const LISTENING: [&str; 4] = ["listen", "alone", "mute", "softer"];

/// The page.
#[derive(Debug, Default)]
pub struct SoundPage {
    /// The selected stream; the first where it is not there.
    chosen: Option<FeedKey>,
    /// What the chart looks back on.
    span: Span,
}

impl Keyed for SoundPage {
    const NAME: &'static str = "Sound";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next stream", |page: &mut Self, app| page.select(app, 1)),
        moves("up k", "the stream before", |page: &mut Self, app| page.select(app, -1)),
        moves("pgdn", "a page down", |page: &mut Self, app| page.select(app, 10)),
        moves("pgup", "a page up", |page: &mut Self, app| page.select(app, -10)),
        key("o", "receive the sound of this camera, or do not; kept in the site", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                app.order(Errand::Sound(name));
            }
        })
        .hint("off/on"),
        key("l \"", "listen to it, or not any more", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                app.listen_to(&name);
            }
        })
        .hint("listen"),
        key("a", "listen to it alone, or to all again that are listened to", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                app.listen_alone(&name);
            }
        })
        .hint("alone"),
        key("m", "hear nothing, or again", |_, app| app.mute()).hint("mute"),
        key("+ =", "louder by 3 dB", |_, app| app.change_volume(3)),
        key("-", "softer by 3 dB", |_, app| app.change_volume(-3)).hint("softer"),
        key("s", "look back on 1 minute, 10 minutes, 1 hour, 1 day", |page: &mut Self, _| page.span = page.span.next())
            .hint("span"),
        key("enter", "show it on the wall, enlarged", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                app.show_camera(&name);
            }
        })
        .hint("show"),
        key("w", "write the chart to an SVG file", |page: &mut Self, app| {
            let charts = page.stream(app).map(|key| view::on_paper(app, key, page.span));
            app.write(charts);
        })
        .hint("write"),
        help::everything(),
        help::key(),
        back("esc q '", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "'", "sound: how loud each camera is, its loss, its offset to the picture", Self::begin),
        way("Stream", "'", "its sound", Self::begin),
    ];
}

impl Page for SoundPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, inner(body), painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let place = view::places(app, inner(body), rows(app).len()).picture;
        self.stream(app).filter(|_| !place.is_empty()).map(|key| Watched::whole(key, 0, place)).into_iter().collect()
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.stream(app).into_iter().collect()
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Alone)
    }

    fn hint(&self, app: &App, key: &KeyText) -> Option<&'static str> {
        // What a build cannot do is not offered; who tries it is told.
        key.hint.filter(|hint| app.hearing.possible || !LISTENING.contains(hint))
    }

    fn stream(&self, app: &App) -> Option<FeedKey> {
        let rows = rows(app);
        rows.get(self.row(&rows)).copied()
    }

    fn camera(&self, app: &App) -> Option<String> {
        let key = self.stream(app)?;
        app.cameras.get(key.camera).map(|camera| camera.name.clone())
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Press(at) => {
                let rows = rows(app);
                let Some(row) = view::list(app, self, &rows, inner(app.body())).row_at(at) else { return };
                self.chosen = rows.get(row).copied();
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

/// The streams that have sound, by name.
fn rows(app: &App) -> Vec<FeedKey> {
    let has = |state: &SoundState| !matches!(state, SoundState::Unknown | SoundState::None);
    let with = app.figures.iter().filter(|(_, figures)| has(&figures.sound.state));
    let mut rows: Vec<(String, FeedKey)> = with.map(|(key, _)| (app.stream_name(*key), *key)).collect();
    rows.sort();
    rows.into_iter().map(|(_, key)| key).collect()
}

impl SoundPage {
    fn begin(&mut self, app: &mut App) {
        if let Some(key) = app.stream_meant() {
            let of_camera = |row: &&FeedKey| row.camera == key.camera;
            let rows = rows(app);
            self.chosen = rows.iter().find(|row| **row == key).or_else(|| rows.iter().find(of_camera)).copied();
        }
        app.open(Self::NAME);
    }

    fn row(&self, rows: &[FeedKey]) -> usize {
        self.chosen.and_then(|chosen| rows.iter().position(|row| *row == chosen)).unwrap_or(0)
    }

    fn select(&mut self, app: &App, by: i32) {
        let rows = rows(app);
        let row = self.row(&rows).saturating_add_signed(by as isize).min(rows.len().saturating_sub(1));
        self.chosen = rows.get(row).copied();
    }
}
