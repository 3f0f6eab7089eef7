//! The roster: what have I, and is it well.

use super::{Column, Said, column, table, typing_line};
use crate::app::{App, StreamRole};
use crate::theme::{Theme, Tone, sign};
use lattice_core::clock::off_text;
use lattice_core::meter::Figures;
use lattice_store::{Camera, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

const COLUMNS: [Column; 8] = [
    column("state", Constraint::Length(12), 0),
    column("name", Constraint::Min(16), 0),
    column("group", Constraint::Length(12), 74),
    column("address", Constraint::Length(18), 60),
    column("streams", Constraint::Length(18), 96),
    column("declared → arrived", Constraint::Length(24), 128),
    column("maker and model", Constraint::Length(22), 150),
    column("firmware", Constraint::Length(10), 110),
];

/// Draws the table and, where there is room, what is known of the selected camera.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let area = typing_line(app, theme, area, buf);
    let rows = app.desk.rows();
    let (count, all) = (rows.len(), app.desk.site.cameras.len());
    let filter = app.desk.filter.value();
    let title = if count == all {
        format!("Roster: {all} cameras")
    } else {
        format!("Roster: {count} of {all} cameras, filter {filter:?}")
    };
    Line::styled(title, theme.tone(Tone::Bright)).render(Rect { height: 1, ..area }, buf);
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    if all == 0 {
        let text = "No camera yet: f finds those on this network, a adds one by its address.";
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
        return;
    }
    let details = if area.height >= 16 { 6 } else { 0 };
    let list = Rect { height: area.height - details, ..area };
    let body = rows.iter().map(|camera| row(app, camera)).collect();
    table(theme, &COLUMNS, body, app.desk.row, list, buf);
    if let (Some(camera), true) = (rows.get(app.desk.row), details > 0) {
        let place = Rect { y: list.bottom() + 1, height: details - 1, ..area };
        Paragraph::new(about(app, theme, camera)).wrap(Wrap { trim: false }).render(place, buf);
    }
}

/// The figures of a camera's stream that is open.
fn figures<'a>(app: &'a App, camera: &Camera) -> Option<(StreamRole, &'a Figures)> {
    let tile = app.tiles.iter().find(|tile| app.name(tile) == camera.name)?;
    app.figures.get(&tile.key()).map(|figures| (tile.role, figures.as_ref()))
}

fn row(app: &App, camera: &Camera) -> Vec<Said> {
    let open = figures(app, camera);
    let is_recorder = app.desk.site.cameras.iter().any(|other| other.recorder.as_deref() == Some(camera.name.as_str()));
    let state = match open {
        _ if camera.disabled => ("off".to_owned(), Tone::Faint),
        Some((_, figures)) => (format!("{} {}", sign(figures.verdict), figures.verdict), Theme::verdict(figures.verdict)),
        None if is_recorder => ("recorder".to_owned(), Tone::Faint),
        None => ("not open".to_owned(), Tone::Faint),
    };
    let name = if camera.recorder.is_some() { format!("└ {}", camera.name) } else { camera.name.clone() };
    let dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "–".into());
    let streams: Vec<&str> = camera.streams.iter().map(|stream| stream.role.word()).collect();
    let rates = open.map_or_else(String::new, |(_, figures)| {
        let rate = |rate: Option<f64>| rate.map_or_else(|| "–".to_owned(), |rate| format!("{rate:.1}"));
        let size = figures.size.map_or_else(String::new, |(width, height)| format!("{width}×{height} "));
        format!("{size}{} → {}", rate(figures.declared.map(lattice_core::FrameRate::per_second)), rate(figures.arrived))
    });
    let made = [camera.maker.as_deref(), camera.model.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let calm = |text: String| (text, Tone::Calm);
    vec![
        state,
        calm(name),
        calm(dash(&camera.group)),
        calm(dash(&camera.address)),
        calm(if streams.is_empty() { "–".into() } else { streams.join(" ") }),
        calm(rates),
        calm(if made.is_empty() { "–".into() } else { made }),
        match app.desk.firmware_fault(camera) {
            Some(_) => (format!("{} !", dash(&camera.firmware)), Tone::Bright),
            None => calm(dash(&camera.firmware)),
        },
    ]
}

/// What is known of one camera.
fn about<'a>(app: &App, theme: Theme, camera: &Camera) -> Vec<Line<'a>> {
    let pair = |label: &str, text: String, tone: Tone| {
        let label = if label.is_empty() { String::new() } else { format!("{label} ") };
        vec![Span::styled(label, theme.tone(Tone::Faint)), Span::styled(format!("{text}   "), theme.tone(tone))]
    };
    let mut first = pair("", camera.name.clone(), Tone::Bright);
    let known = [
        ("device", &camera.device_name),
        ("serial", &camera.serial),
        ("firmware", &camera.firmware),
        ("recorder", &camera.recorder),
    ];
    first.extend(known.into_iter().filter_map(|(label, text)| Some(pair(label, text.clone()?, Tone::Calm))).flatten());
    first.extend(camera.sign_in.iter().flat_map(|name| {
        let user = app.desk.site.sign_in(name).map_or_else(|| name.clone(), |sign_in| sign_in.user.clone());
        pair("signs in as", user, Tone::Calm)
    }));
    let mut lines = vec![Line::from(first)];
    if let Some(fault) = app.desk.firmware_fault(camera) {
        lines.push(Line::styled(format!("its firmware is known for a fault: {fault}"), theme.tone(Tone::Bright)));
    }
    for stream in camera.streams.iter().filter(|stream| stream.role != Role::Third) {
        lines.push(Line::from(pair(stream.role.word(), stream.target.to_string(), Tone::Calm)));
    }
    if let Some((_, figures)) = figures(app, camera) {
        let mut last =
            figures.transport.map(|transport| pair("transport", transport.word().to_owned(), Tone::Calm)).unwrap_or_default();
        last.extend(figures.clock_off_micros.into_iter().flat_map(|off| pair("clock", off_text(off), Tone::Bright)));
        last.extend(figures.text.clone().into_iter().flat_map(|text| pair("", text, Theme::verdict(figures.verdict))));
        lines.push(Line::from(last));
    }
    lines
}
