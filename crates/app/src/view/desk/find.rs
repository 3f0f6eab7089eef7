//! The search of the network.

use super::{Column, List, Said, below_typing, column, table, typing_line};
use crate::app::App;
use crate::theme::{Theme, Tone};
use lattice_core::find::{Change, FoundDevice};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{LineGauge, Paragraph, Widget as _, Wrap};
use std::net::IpAddr;

const COLUMNS: [Column; 7] = [
    column("", Constraint::Length(1), 0),
    column("address", Constraint::Length(16), 0),
    column("kind", Constraint::Length(9), 90),
    column("name", Constraint::Fill(2), 0),
    column("maker and model", Constraint::Length(24), 112),
    column("by", Constraint::Length(14), 130),
    column("state", Constraint::Fill(3), 0),
];

/// Draws progress, devices, and what became of those that were taken in.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let area = typing_line(app, theme, area, buf);
    let desk = &app.desk;
    let found = desk.found();
    let row = |n: u16| Rect { y: area.y + n, height: u16::from(n < area.height), ..area };
    Line::styled(heading(app, found.len()), theme.tone(Tone::Bright)).render(row(0), buf);
    if let Some(progress) = desk.progress.filter(|progress| !progress.done && progress.total > 0) {
        LineGauge::default()
            .ratio(progress.share().clamp(0.0, 1.0))
            .label(format!("{:3.0} %", progress.share() * 100.0))
            .filled_style(theme.tone(Tone::Here))
            .unfilled_style(theme.tone(Tone::Faint))
            .render(row(1), buf);
    } else {
        let ranges = if desk.ranges.is_empty() {
            "discovery only: n names ranges to scan".to_owned()
        } else {
            format!("ranges {}", desk.ranges)
        };
        Line::styled(ranges, theme.tone(Tone::Faint)).render(row(1), buf);
    }
    let outcomes = outcomes(app, theme);
    let below = below(outcomes.len(), area);
    let list = list_below(app, area, below);
    if found.is_empty() {
        let text = if desk.progress.is_some_and(|progress| progress.done) {
            "Nothing answered. Is this machine on the cameras' network? n names other ranges, r searches again; a camera that discovery misses is often found by a scan."
        } else {
            "Asking the network..."
        };
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(list.area, buf);
    } else {
        let rows = found.iter().map(|(address, device)| device_row(app, *address, device)).collect();
        table(theme, &list, rows, buf);
    }
    let place = Rect { y: area.bottom().saturating_sub(below), height: below, ..area };
    Paragraph::new(outcomes).wrap(Wrap { trim: true }).render(place, buf);
}

/// Lines that outcomes take of the area.
fn below(outcomes: usize, area: Rect) -> u16 {
    (outcomes as u16).min(area.height / 3)
}

fn list_below(app: &App, area: Rect, below: u16) -> List {
    let place = Rect { y: area.y + 3, height: area.height.saturating_sub(4 + below), ..area };
    List { area: place, columns: COLUMNS.to_vec(), rows: app.desk.found().len(), selected: app.desk.found_row() }
}

/// Where the table stands.
pub fn list(app: &App, area: Rect) -> List {
    let area = below_typing(app, area);
    let desk = &app.desk;
    let outcomes = usize::from(!desk.asking.is_empty()) + usize::from(!desk.locked.is_empty()) + desk.taken.len();
    list_below(app, area, below(outcomes, area))
}

fn heading(app: &App, found: usize) -> String {
    let ticked = app.desk.ticked.len();
    let ticked = if ticked == 0 { String::new() } else { format!(", {ticked} ticked") };
    let Some(progress) = app.desk.progress else { return "Search".into() };
    let took = progress.took.as_secs_f64();
    if progress.done {
        return format!("Search: {found} devices in {took:.1} s{ticked}");
    }
    let left = progress.left().map_or(String::new(), |left| format!(", {:.0} s left", left.as_secs_f64().ceil()));
    format!("Searching: {found} devices so far{left}{ticked}")
}

fn device_row(app: &App, address: IpAddr, device: &FoundDevice) -> Vec<Said> {
    let known = app.desk.is_known(address);
    let tick = if app.desk.ticked.contains(&address) {
        "■"
    } else if known {
        " "
    } else {
        "□"
    };
    let mut words: Vec<String> = Vec::new();
    let mut tone = Tone::Calm;
    if device.change == Change::Gone {
        words.push("gone".into());
        tone = Tone::Faint;
    }
    words.extend((device.change == Change::New).then(|| "new".to_owned()));
    words.extend(known.then(|| "in the roster".to_owned()));
    if device.refused {
        words.push("sign-in refused".into());
    } else if device.locked == Some(true) {
        words.push("wants a sign-in".into());
    }
    if let Some(exposed) = device.exposed {
        words.push(format!("exposed: {}", exposed.word().replace('-', " ")));
        tone = if device.change == Change::Gone { Tone::Faint } else { Tone::Bright };
    }
    if let Some(other) = &device.announces {
        words.push(format!("announces {other}"));
        tone = Tone::Bright;
    }
    let base = if known || device.change == Change::Gone { Tone::Faint } else { Tone::Calm };
    let by = [(device.by_discovery, "discovery"), (device.by_scan, "scan")];
    let by = by.iter().filter_map(|(by, word)| by.then_some(*word)).collect::<Vec<_>>().join("+");
    let made = [device.maker.as_deref(), device.model.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let channels =
        device.channels.filter(|channels| *channels > 1).map_or(String::new(), |channels| format!(" ({channels} channels)"));
    vec![
        (tick.to_owned(), Tone::Here),
        (address.to_string(), base),
        (device.kind.word().to_owned(), base),
        (format!("{}{channels}", device.name.as_deref().unwrap_or("–")), base),
        (made, base),
        (by, Tone::Faint),
        (words.join(", "), tone),
    ]
}

/// What became of the targets that were taken in, and which are still asked.
pub fn outcomes<'a>(app: &App, theme: Theme) -> Vec<Line<'a>> {
    let desk = &app.desk;
    let mut lines = Vec::new();
    if !desk.asking.is_empty() {
        lines.push(Line::styled(format!("asking {} …", desk.asking.join(", ")), theme.tone(Tone::Waiting)));
    }
    if !desk.locked.is_empty() {
        let text = format!("{} want another sign-in: s gives one; none is tried again by itself", desk.locked.len());
        lines.push(Line::styled(text, theme.tone(Tone::Alarm)));
    }
    for taken in desk.taken.iter().rev() {
        lines.push(match &taken.result {
            Ok(names) => Line::from(vec![
                Span::styled(format!("{} ", taken.shown), theme.tone(Tone::Faint)),
                Span::styled(format!("is in the roster as {}", names.join(", ")), theme.tone(Tone::Calm)),
                Span::styled(taken.note.as_ref().map_or(String::new(), |note| format!("; {note}")), theme.tone(Tone::Bright)),
            ]),
            Err(why) => Line::from(vec![
                Span::styled(format!("{} ", taken.shown), theme.tone(Tone::Text)),
                Span::styled(why.clone(), theme.tone(Tone::Alarm)),
            ]),
        });
    }
    lines
}
