//! The clocks of all cameras against this machine's, the worst first.

use crate::tui::app::App;
use crate::tui::app::entry::Entry;
use crate::tui::fronts::help;
use crate::tui::page::{Key, Keyed, Mouse, Page, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{Column, List, Said, column, inner, table};
use lattice_core::ClockOffset;
use lattice_core::clock::off_text;
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The page.
#[derive(Debug, Default)]
pub struct Clocks {
    /// The selected camera; the first where it is not there.
    chosen: Option<String>,
}

impl Keyed for Clocks {
    const NAME: &'static str = "Clocks";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next camera", |page: &mut Self, app| page.select(app, 1)),
        moves("up k", "the camera before", |page: &mut Self, app| page.select(app, -1)),
        moves("pgdn", "a page down", |page: &mut Self, app| page.select(app, 15)),
        moves("pgup", "a page up", |page: &mut Self, app| page.select(app, -15)),
        key("t", "set the clock of its device to this machine's", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                app.order(Errand::SetClock(name));
            }
        })
        .hint("set clock"),
        key("enter", "show it on the wall, enlarged", Self::show).hint("show"),
        help::everything(),
        help::key(),
        back("esc q C", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way("Roster", "C", "the clocks of all cameras, the worst first", |_, app| app.open(Self::NAME)).of_site()];
}

impl Page for Clocks {
    fn draw(&self, app: &App, theme: Theme, body: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        self.draw_in(app, theme, inner(body), buf);
        Vec::new()
    }

    fn camera(&self, app: &App) -> Option<String> {
        let rows = rows(app);
        rows.get(self.row(&rows)).map(|row| row.entry.camera.name.clone())
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Press(at) => {
                let rows = rows(app);
                let Some(row) = self.list(&rows, inner(app.body())).row_at(at) else { return };
                self.chosen = rows.get(row).map(|row| row.entry.camera.name.clone());
                if app.is_double_click(row) {
                    self.show(app);
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

/// How a clock is known.
#[derive(Clone, Copy)]
enum From {
    /// The device was asked.
    Device,
    /// Sender reports of its stream.
    Reports,
}

struct Row<'a> {
    entry: Entry<'a>,
    clock: Option<(ClockOffset, From)>,
}

impl Row<'_> {
    /// Beyond the site's limit, even if it is as near as it may be.
    fn is_off(&self, app: &App) -> bool {
        let near = |clock: ClockOffset| clock.micros.unsigned_abs().saturating_sub(clock.error.as_micros() as u64);
        self.clock.is_some_and(|(clock, _)| u128::from(near(clock)) > app.site.clock_limit().as_micros())
    }

    fn cells(&self, app: &App) -> Vec<Said> {
        let tone = if self.is_off(app) { Tone::Bright } else { Tone::Calm };
        let dash = || "–".to_owned();
        let drift = self.entry.open.and_then(|(_, figures)| figures.clock_drift);
        let drift = drift.map_or_else(dash, |drift| format!("{:+.0} ±{:.0}", drift.per_million, drift.error.max(1.0)));
        let off = self.clock.map_or_else(|| "not known".to_owned(), |(clock, _)| off_text(clock.micros));
        let error = self.clock.map_or_else(dash, |(clock, _)| span(clock.error.as_micros()));
        let from = match self.clock {
            Some((_, From::Device)) => "its device",
            Some((_, From::Reports)) => "sender reports",
            None => "–",
        };
        let group = self.entry.camera.group.clone().unwrap_or_default();
        let name = (self.entry.camera.name.clone(), tone);
        vec![name, (off, tone), (error, tone), (drift, Tone::Calm), (from.into(), Tone::Calm), (group, Tone::Calm)]
    }
}

/// A span of time without a direction.
fn span(micros: u128) -> String {
    if micros < 1_000_000 { format!("{} ms", micros.div_ceil(1000)) } else { format!("{:.1} s", micros as f64 / 1e6) }
}

const COLUMNS: [Column; 6] = [
    column("camera", Constraint::Min(16), 0),
    column("clock", Constraint::Length(18), 0),
    column("within", Constraint::Length(8), 50),
    column("drift ppm", Constraint::Length(12), 66),
    column("known from", Constraint::Length(14), 84),
    column("group", Constraint::Length(14), 104),
];
/// Lines above the table.
const ABOVE: u16 = 2;
/// Lines below it.
const BELOW: u16 = 4;

/// All cameras that are asked for something, the furthest off first, those of which nothing is known last.
fn rows(app: &App) -> Vec<Row<'_>> {
    let telling = app.telling_by_name();
    let mut rows: Vec<Row<'_>> = app
        .site
        .cameras
        .iter()
        .filter(|camera| !camera.disabled)
        .map(|camera| {
            let entry = app.entry(&telling, camera);
            let told = entry.clock.map(|told| (told.by(app.utc), From::Device));
            let shown = entry.open.and_then(|(_, figures)| figures.clock);
            let shown = shown.map(|clock| (ClockOffset { micros: -clock.micros, error: clock.error }, From::Reports));
            Row { entry, clock: told.or(shown) }
        })
        .collect();
    rows.sort_by_key(|row| std::cmp::Reverse((row.is_off(app), row.clock.map(|(clock, _)| clock.micros.unsigned_abs()))));
    rows
}

impl Clocks {
    fn row(&self, rows: &[Row<'_>]) -> usize {
        rows.iter().position(|row| Some(&row.entry.camera.name) == self.chosen.as_ref()).unwrap_or(0)
    }

    fn select(&mut self, app: &App, by: i32) {
        let rows = rows(app);
        let next = self.row(&rows).saturating_add_signed(by as isize).min(rows.len().saturating_sub(1));
        self.chosen = rows.get(next).map(|row| row.entry.camera.name.clone());
    }

    fn show(&mut self, app: &mut App) {
        if let Some(name) = self.camera(app) {
            app.show_camera(&name);
        }
    }

    fn list(&self, rows: &[Row<'_>], area: Rect) -> List {
        let place = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE + BELOW), ..area };
        List { area: place, columns: COLUMNS.to_vec(), rows: rows.len(), selected: self.row(rows) }
    }

    fn draw_in(&self, app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
        let rows = rows(app);
        let limit = span(app.site.clock_limit().as_micros());
        let off = rows.iter().filter(|row| row.is_off(app)).count();
        let unknown = rows.iter().filter(|row| row.clock.is_none()).count();
        let (title, tone) = match off {
            0 => (format!("Clocks: none of {} is known to be off by more than {limit}", rows.len()), Tone::Text),
            off => (format!("Clocks: {off} of {} off by more than {limit}", rows.len()), Tone::Bright),
        };
        let title = if unknown > 0 { format!("{title}; {unknown} not known") } else { title };
        Line::styled(title, theme.tone(tone)).render(Rect { height: area.height.min(1), ..area }, buf);
        let list = self.list(&rows, area);
        table(theme, &list, rows.iter().map(|row| row.cells(app)).collect(), buf);
        let Some(row) = rows.get(list.selected) else { return };
        let name = &row.entry.camera.name;
        let text = match row.clock {
            None => format!(
                "{name}: no device service is known and its stream sends no reports with a time: latency can only be told \
                 above the least of the last minute, or by flashes"
            ),
            Some((_, From::Device)) => format!("{name}: its device told its time; capture times are corrected by it"),
            Some((clock, From::Reports)) => format!(
                "{name}: by the reports in its stream alone, so a wrong clock cannot be told from a slow path by less than {}",
                span(clock.error.as_micros())
            ),
        };
        let below = Rect { y: list.area.bottom() + 1, height: BELOW - 1, ..area }.intersection(area);
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(below, buf);
    }
}
