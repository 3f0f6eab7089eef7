//! What a camera's lens is, where it sees all around: how its picture is made, how it hangs, and where its circle lies, fitted by eye.

use crate::tui::app::App;
use crate::tui::app::sights::lies_in;
use crate::tui::fronts::help;
use crate::tui::page::{Key, KeyText, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::tile;
use lattice_core::lattice::Aspect;
use lattice_core::lens::{Lens, Mount, Projection};
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// Rows beside the picture, under it.
const BELOW: u16 = 5;
/// In ten-thousandths of the picture: a step, and a fine one.
const STEP: i32 = 50;
const FINE: i32 = 5;
/// Rings and spokes of the grid.
const RINGS: u32 = 3;
const SPOKES: u32 = 8;

/// The page.
#[derive(Debug, Default)]
pub struct LensPage {
    /// The stream that is shown.
    key: Option<FeedKey>,
    /// Its camera.
    name: String,
    /// As it is fitted now; `None` where the camera sees no more than its picture shows.
    lens: Option<Lens>,
}

impl Keyed for LensPage {
    const NAME: &'static str = "Lens";
    const KEYS: &'static [Key<Self>] = &[
        moves("shift-left", "the circle a little to the left", |page: &mut Self, _| page.shift(-FINE, 0)),
        moves("shift-right", "a little to the right", |page: &mut Self, _| page.shift(FINE, 0)),
        moves("shift-up", "a little up", |page: &mut Self, _| page.shift(0, -FINE)),
        moves("shift-down", "a little down", |page: &mut Self, _| page.shift(0, FINE)),
        key("left h", "the circle to the left", |page: &mut Self, _| page.shift(-STEP, 0)).hint("circle"),
        key("right l", "to the right", |page: &mut Self, _| page.shift(STEP, 0)),
        key("up k", "up", |page: &mut Self, _| page.shift(0, -STEP)),
        key("down j", "down", |page: &mut Self, _| page.shift(0, STEP)),
        key("+ =", "the circle larger", |page: &mut Self, _| page.grow(STEP)).hint("larger"),
        key("-", "smaller", |page: &mut Self, _| page.grow(-STEP)).hint("smaller"),
        key("]", "it shows more degrees from edge to edge", |page: &mut Self, _| page.widen(1)),
        key("[", "fewer degrees", |page: &mut Self, _| page.widen(-1)),
        key("p", "how its picture is made: all around, one circle, two circles", |page: &mut Self, _| page.next_projection())
            .hint("picture"),
        key("m", "how it hangs: wall, desk, ceiling", |page: &mut Self, _| page.next_mount()).hint("mount"),
        key("x", "it sees no more than its picture shows", |page: &mut Self, _| page.lens = None),
        key("u", "as it was kept", |page: &mut Self, app| page.lens = page.kept(app)),
        key("enter w", "keep it", Self::keep).hint("keep"),
        help::everything(),
        help::key(),
        back("esc q ;", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way(WALL, ";", "its lens, where a camera sees all around: picture, mount, circle", Self::begin).of_site()];
}

impl Page for LensPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (Some(key), Some(painter)) = (self.key, painters.first_mut()) else { return Vec::new() };
        let place = picture(body);
        let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
        if let Some(source) = app.pictures.get(&key).map(|picture| picture.source).filter(|_| drawn) {
            let lies = lies_in(place, source, app.cell_aspect);
            self.grid(theme, source, lies, buf);
        }
        self.told(theme, Rect { y: place.bottom(), height: body.bottom().saturating_sub(place.bottom()), ..body }, buf);
        drawn.then_some(key).into_iter().collect()
    }

    fn watched(&self, _: &App, body: Rect) -> Vec<Watched> {
        self.key.map(|key| Watched::whole(key, 0, picture(body))).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        // The grid is drawn over it, which pictures of pixels would have to be cut for.
        None
    }

    fn hint(&self, _: &App, key: &KeyText) -> Option<&'static str> {
        // A picture of all around has no circle to move.
        let of_circle = ["left h", "+ =", "-"].contains(&key.keys);
        key.hint.filter(|_| self.has_circle() || !of_circle)
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.grow(-STEP * by),
            Mouse::Press(at) | Mouse::Drag(at) => self.put_at(app, at),
            Mouse::Release(_) => {}
        }
    }

    fn left(&mut self, app: &mut App) {
        if self.key.is_some() && self.lens != self.kept(app) {
            app.say(Tone::Text, format!("the lens of {} stays as it was: it was not kept", self.name));
        }
        *self = Self::default();
    }
}

fn picture(body: Rect) -> Rect {
    Rect { height: body.height.saturating_sub(BELOW), ..body }
}

impl LensPage {
    fn begin(&mut self, app: &mut App) {
        let Some(key) = app.stream_meant() else {
            return app.say(Tone::Text, "no camera is selected".into());
        };
        let name = app.cameras.name(key.camera).to_owned();
        if app.site.camera(&name).is_none() {
            return app.say(Tone::Text, format!("{name} is not in the site: its lens could not be kept"));
        }
        *self = Self { key: Some(key), name, lens: None };
        self.lens = self.kept(app);
        app.open(Self::NAME);
    }

    fn kept(&self, app: &App) -> Option<Lens> {
        app.site.camera(&self.name)?.lens
    }

    fn keep(&mut self, app: &mut App) {
        app.order(Errand::Lens(self.name.clone(), self.lens));
        let told = match self.lens {
            Some(_) => "kept: on the wall Q shows views into it, R four at once",
            None => "kept: it shows no more than its picture",
        };
        app.say(Tone::Text, format!("{}: {told}", self.name));
    }

    /// Changes the lens, as far as it stays one.
    fn change(&mut self, change: impl FnOnce(Lens) -> Lens) {
        let lens = change(self.lens.unwrap_or_default());
        if lens.check().is_ok() {
            self.lens = Some(lens);
        }
    }

    fn has_circle(&self) -> bool {
        self.lens.is_some_and(|lens| lens.projection != Projection::Equirectangular)
    }

    fn shift(&mut self, right: i32, down: i32) {
        if self.has_circle() {
            let moved = |from: u16, by: i32| (i32::from(from) + by).clamp(0, 10_000) as u16;
            self.change(|lens| Lens { centre: (moved(lens.centre.0, right), moved(lens.centre.1, down)), ..lens });
        }
    }

    fn grow(&mut self, by: i32) {
        if self.has_circle() {
            self.change(|lens| Lens { radius: (i32::from(lens.radius) + by).clamp(500, 20_000) as u16, ..lens });
        }
    }

    fn widen(&mut self, by: i16) {
        if self.has_circle() {
            self.change(|lens| Lens { field: (lens.field as i16 + by).clamp(60, 300) as u16, ..lens });
        }
    }

    fn next_projection(&mut self) {
        let all = Projection::ALL;
        let next = match self.lens {
            None => all[0],
            Some(lens) => all[(all.iter().position(|one| *one == lens.projection).unwrap_or(0) + 1) % all.len()],
        };
        let mount = self.lens.map_or(Mount::default(), |lens| lens.mount);
        self.lens = Some(Lens::new(next, mount));
    }

    fn next_mount(&mut self) {
        self.change(|lens| {
            let at = Mount::ALL.iter().position(|one| *one == lens.mount).unwrap_or(0);
            Lens { mount: Mount::ALL[(at + 1) % Mount::ALL.len()], ..lens }
        });
    }

    /// The middle of the circle goes to the pointer.
    fn put_at(&mut self, app: &App, at: Position) {
        let Some(source) = self.key.and_then(|key| Some(app.pictures.get(&key)?.source)).filter(|_| self.has_circle()) else {
            return;
        };
        let lies = lies_in(picture(app.body()), source, app.cell_aspect);
        if lies.contains(at) {
            let share = |at: u16, from: u16, side: u16| (f64::from(at - from) + 0.5) / f64::from(side.max(1)) * 10_000.0;
            let centre = (share(at.x, lies.x, lies.width) as u16, share(at.y, lies.y, lies.height) as u16);
            self.change(|lens| Lens { centre, ..lens });
        }
    }

    /// The edge of the circle, rings and spokes in it: where the picture's edge should lie.
    fn grid(&self, theme: Theme, source: (usize, usize), lies: Rect, buf: &mut Buffer) {
        let Some(lens) = self.lens.filter(|_| lies.width > 4 && lies.height > 2) else { return };
        let (edge, faint) =
            (theme.tone(Tone::Here).patch(tile::on_ground(theme)), theme.tone(Tone::Faint).patch(tile::on_ground(theme)));
        let mut dot = |x: f64, y: f64, text: &str, style| {
            if (0.0..1.0).contains(&x) && (0.0..1.0).contains(&y) {
                let (x, y) = ((x * f64::from(lies.width)) as u16, (y * f64::from(lies.height)) as u16);
                buf.set_string(lies.x + x, lies.y + y, text, style);
            }
        };
        if lens.projection == Projection::Equirectangular {
            // A dot in every second cell across, in every one down.
            for x in (0..lies.width).step_by(2) {
                dot((f64::from(x) + 0.5) / f64::from(lies.width), 0.5, "·", edge);
            }
            for y in 0..lies.height {
                for x in [0.25, 0.5, 0.75] {
                    dot(x, (f64::from(y) + 0.5) / f64::from(lies.height), "·", faint);
                }
            }
            return;
        }
        let share = |part: u16| f64::from(part) / 10_000.0;
        let radius = share(lens.radius);
        let wide = source.1.max(1) as f64 / source.0.max(1) as f64;
        let circles = if lens.projection == Projection::DualFisheye { 2 } else { 1 };
        for circle in 0..circles {
            let (x, y) = (share(lens.centre.0) + f64::from(circle) * 0.5, share(lens.centre.1));
            for n in 0..180 {
                let (sin, cos) = f64::from(n * 2).to_radians().sin_cos();
                for ring in 1..RINGS {
                    let part = radius * f64::from(ring) / f64::from(RINGS);
                    dot(x + cos * part * wide, y + sin * part, "·", faint);
                }
                dot(x + cos * radius * wide, y + sin * radius, "•", edge);
            }
            for spoke in 0..SPOKES {
                let (sin, cos) = f64::from(spoke * 360 / SPOKES).to_radians().sin_cos();
                for n in 1..12 {
                    let part = radius * f64::from(n) / 12.0;
                    dot(x + cos * part * wide, y + sin * part, "·", faint);
                }
            }
            dot(x, y, "┼", edge);
        }
    }

    fn told(&self, theme: Theme, area: Rect, buf: &mut Buffer) {
        let row = |n: u16| Rect { y: area.y + n, height: 1, ..area }.intersection(area);
        let field = |name: &'static str, value: String| {
            [
                Span::styled(format!("{name} "), theme.tone(Tone::Faint)),
                Span::styled(format!("{value}   "), theme.tone(Tone::Bright)),
            ]
        };
        Line::styled(self.name.clone(), theme.tone(Tone::Here)).render(row(0), buf);
        let Some(lens) = self.lens else {
            let text = "It shows no more than its picture. p says that it sees all around, and how its picture is made.";
            return Paragraph::new(text)
                .style(theme.tone(Tone::Calm))
                .wrap(Wrap { trim: true })
                .render(Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area }, buf);
        };
        let percent = |part: u16| format!("{:.1} %", f64::from(part) / 100.0);
        let mut first: Vec<Span<'_>> = Vec::new();
        first.extend(field("picture", lens.projection.word().into()));
        first.extend(field("mount", lens.mount.word().into()));
        Line::from(first).render(row(1), buf);
        if self.has_circle() {
            let mut second: Vec<Span<'_>> = Vec::new();
            second.extend(field(
                "middle",
                format!("{} of the width, {} of the height", percent(lens.centre.0), percent(lens.centre.1)),
            ));
            second.extend(field("radius", format!("{} of the height", percent(lens.radius))));
            second.extend(field("shows", format!("{}°", lens.field)));
            Line::from(second).render(row(2), buf);
        }
        let hint = if self.has_circle() {
            "Bring the bright ring onto the edge of the picture's circle: arrows or the mouse move it, + and - change its size."
        } else {
            "The line across is the horizon, the upright ones are left, ahead and right."
        };
        Line::styled(hint, theme.tone(Tone::Faint)).render(row(3), buf);
    }
}
