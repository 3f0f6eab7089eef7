//! Ports that senders push to: what they can be given, and what comes.

use crate::tui::app::App;
use crate::tui::app::entry::Entry;
use crate::tui::fronts::line::TypedLine;
use crate::tui::fronts::{help, sign_in};
use crate::tui::page::{Key, Keyed, Mouse, Page, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::list::{Column, List, Said, column, inner, table};
use lattice_core::target::Target;
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_store::Camera;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The page.
#[derive(Debug, Default)]
pub struct Listen {
    /// The selected port.
    row: usize,
}

impl Keyed for Listen {
    const NAME: &'static str = "Listening ports";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next port", |page: &mut Self, app| page.select(app, 1)),
        moves("up k", "the port before", |page: &mut Self, app| page.select(app, -1)),
        key("enter", "show it on the wall, enlarged", |page: &mut Self, app| page.with(app, |app, name| app.show_camera(&name)))
            .hint("show"),
        key("e", "give it another name", |page: &mut Self, app| {
            page.with(app, |app, name| app.put_in_front(TypedLine::rename(name)));
        })
        .hint("rename"),
        key("o", "switch it off or on", |page: &mut Self, app| page.with(app, |app, name| app.order(Errand::Toggle(name))))
            .hint("off/on"),
        key("x", "listen on it no longer", |page: &mut Self, app| page.with(app, |app, name| app.order(Errand::Remove(name))))
            .hint("remove"),
        key("u", "bring the last one back", |_, app| app.order(Errand::Undo)),
        key("s", "enter the key of an encrypted stream", |page: &mut Self, app| page.with(app, sign_in::of_camera)),
        help::everything(),
        help::key(),
        back("esc q", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way("Roster", "l", "ports that senders push to", |_, app| app.open(Self::NAME)).of_site()];
}

impl Page for Listen {
    fn draw(&self, app: &App, theme: Theme, body: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        draw(app, self, theme, inner(body), buf);
        Vec::new()
    }

    fn camera(&self, app: &App) -> Option<String> {
        listeners(app).get(self.row).map(|entry| entry.camera.name.clone())
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Press(at) => {
                let Some(row) = list(app, self, inner(app.body())).row_at(at) else { return };
                self.row = row;
                if app.is_double_click(row) {
                    self.with(app, |app, name| app.show_camera(&name));
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

/// The cameras that are listened for.
fn listeners(app: &App) -> Vec<Entry<'_>> {
    let telling = app.telling_by_name();
    let cameras = app.site.cameras.iter().filter(|camera| port_of(camera).is_some());
    cameras.map(|camera| app.entry(&telling, camera)).collect()
}

impl Listen {
    fn select(&mut self, app: &App, rows: i32) {
        self.row = self.row.saturating_add_signed(rows as isize).min(listeners(app).len().saturating_sub(1));
    }

    /// Does something with the selected camera.
    fn with(&self, app: &mut App, act: impl FnOnce(&mut App, String)) {
        if let Some(name) = self.camera(app) {
            act(app, name);
        }
    }
}

const COLUMNS: [Column; 6] = [
    column("state", Constraint::Length(12), 0),
    column("name", Constraint::Min(16), 0),
    column("listens on", Constraint::Length(24), 0),
    column("sender", Constraint::Length(21), 84),
    column("receives", Constraint::Length(26), 110),
    column("packets", Constraint::Length(16), 132),
];
/// Lines above the table: the title and the addresses.
const ABOVE: u16 = 4;
/// Lines below it: what is to be known of the selected port.
const BELOW: u16 = 4;

/// The port that a camera's stream is listened for on.
fn port_of(camera: &Camera) -> Option<u16> {
    camera.streams.iter().find_map(|stream| match &stream.target {
        Target::Listen { port, .. } => Some(*port),
        Target::Device { .. } | Target::Url(_) => None,
    })
}

/// Where the table stands.
fn list(app: &App, page: &Listen, area: Rect) -> List {
    let place = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE + BELOW), ..area };
    List { area: place, columns: COLUMNS.to_vec(), rows: listeners(app).len(), selected: page.row }
}

/// Draws the page.
fn draw(app: &App, page: &Listen, theme: Theme, area: Rect, buf: &mut Buffer) {
    let list = list(app, page, area);
    let row = |n: u16| Rect { y: area.y + n, height: u16::from(n < area.height), ..area };
    let listeners = listeners(app);
    let title = match listeners.len() {
        0 => "No port is listened on".to_owned(),
        1 => "Listening on one port".to_owned(),
        n => format!("Listening on {n} ports"),
    };
    Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
    let own = &app.own_addresses;
    let give = if own.is_empty() {
        "a sender on this machine can be given 127.0.0.1; this machine has no other address".to_owned()
    } else {
        format!("a sender can be given {} with the port", own.join(" or "))
    };
    Line::styled(give, theme.tone(Tone::Text)).render(row(2), buf);
    if listeners.is_empty() {
        let text = "a  adds one: udp://:5000 for MPEG-TS, rtp://:5004 for RTP; or paste the session description (SDP) of an RTP stream. It is kept, so that an event can be set up the day before.";
        let place = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE), ..area };
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(place, buf);
        return;
    }
    table(theme, &list, listeners.iter().map(line).collect(), buf);
    if let Some(entry) = listeners.get(page.row) {
        let below = Rect { y: list.area.bottom() + 1, height: BELOW - 1, ..area }.intersection(area);
        Paragraph::new(about(theme, entry, own)).wrap(Wrap { trim: true }).render(below, buf);
    }
}

fn line(entry: &Entry<'_>) -> Vec<Said> {
    let calm = |text: String| (text, Tone::Calm);
    let camera = entry.camera;
    let state = match entry.open {
        _ if camera.disabled => ("off".to_owned(), Tone::Faint),
        Some((_, figures)) => (format!("{} {}", sign(figures.verdict), figures.verdict), Theme::verdict(figures.verdict)),
        None => ("not open".to_owned(), Tone::Faint),
    };
    let on = camera.streams.first().map_or_else(String::new, |stream| stream.target.to_string());
    let figures = entry.open.map(|(_, figures)| figures);
    let sender = figures.and_then(|figures| figures.sender).map_or_else(|| "–".into(), |sender| sender.to_string());
    let receives = figures.map_or_else(String::new, |figures| {
        let size = figures.size.map_or_else(String::new, |(width, height)| format!(" {width}×{height}"));
        let rate = figures.arrived.map_or_else(String::new, |rate| format!(" {rate:.1} /s"));
        let sound = if figures.audio.is_empty() { "" } else { " +sound" };
        figures.codec.as_ref().map_or_else(|| "nothing yet".into(), |codec| format!("{codec}{size}{rate}{sound}"))
    });
    let packets = figures.map_or_else(String::new, |figures| {
        let lost = if figures.packets.lost > 0 { format!(", {} lost", figures.packets.lost) } else { String::new() };
        format!("{}{lost}", figures.packets.received)
    });
    vec![state, calm(camera.name.clone()), calm(on), calm(sender), calm(receives), calm(packets)]
}

fn about<'a>(theme: Theme, entry: &Entry<'_>, own: &[String]) -> Vec<Line<'a>> {
    let mut lines = Vec::new();
    if let Some((_, figures)) = entry.open {
        lines.extend(figures.text.clone().map(|text| Line::styled(text, theme.tone(Theme::verdict(figures.verdict)))));
    }
    if let Some(port) = port_of(entry.camera) {
        let own = if own.is_empty() { vec!["127.0.0.1".to_owned()] } else { own.to_vec() };
        let whole: Vec<String> = own.iter().map(|address| format!("{address}:{port}")).collect();
        lines.push(Line::styled(
            format!("the sender of {} sends to {}", entry.camera.name, whole.join(" or ")),
            theme.tone(Tone::Calm),
        ));
    }
    lines
}
