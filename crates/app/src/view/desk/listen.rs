//! Ports that senders push to: what they can be given, and what comes.

use super::{Column, List, Said, below_typing, column, table, typing_line};
use crate::app::{App, Entry};
use crate::theme::{Theme, Tone, sign};
use lattice_core::target::Target;
use lattice_store::Camera;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

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
pub fn port_of(camera: &Camera) -> Option<u16> {
    camera.streams.iter().find_map(|stream| match &stream.target {
        Target::Listen { port, .. } => Some(*port),
        Target::Device { .. } | Target::Url(_) => None,
    })
}

/// Where the table stands.
pub fn list(app: &App, area: Rect) -> List {
    let area = below_typing(app, area);
    let place = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE + BELOW), ..area };
    List { area: place, columns: COLUMNS.to_vec(), rows: app.listeners().len(), selected: app.desk.listen_row }
}

/// Draws the page.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let list = list(app, area);
    let area = typing_line(app, theme, area, buf);
    let row = |n: u16| Rect { y: area.y + n, height: u16::from(n < area.height), ..area };
    let listeners = app.listeners();
    let title = match listeners.len() {
        0 => "No port is listened on".to_owned(),
        1 => "Listening on one port".to_owned(),
        n => format!("Listening on {n} ports"),
    };
    Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
    let own = &app.desk.own_addresses;
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
    if let Some(entry) = listeners.get(app.desk.listen_row) {
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
