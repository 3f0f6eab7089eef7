//! The roster: what have I, and is it well.

use super::{GroupBy, Roster, RosterLine, SortBy};
use crate::tui::app::App;
use crate::tui::app::entry::Entry;
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::closeup;
use crate::tui::widgets::list::{Column, List, Said, column, table};
use lattice_core::FrameRate;
use lattice_core::clock::off_text;
use lattice_core::meter::{Fig, Figures, Span as PastSpan};
use lattice_engine::FeedKey;
use lattice_engine::jobs::ago;
use lattice_store::site::CertificateTrust;
use lattice_store::{Camera, Role};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};
use std::collections::HashSet;

const COLUMNS: [Column; 15] = [
    column("state", Constraint::Length(12), 0),
    column("name", Constraint::Min(16), 0),
    column("group", Constraint::Length(12), 216),
    column("address", Constraint::Length(15), 60),
    column("streams", Constraint::Length(7), 70),
    column("declared → arrived", Constraint::Length(22), 100),
    column("10 minutes", Constraint::Length(TREND as u16), 128),
    column("p95 ms", Constraint::Length(6), 136),
    column("loss %", Constraint::Length(6), 146),
    column("dropouts", Constraint::Length(8), 166),
    column("by", Constraint::Length(4), 152),
    column("clock", Constraint::Length(16), 110),
    column("last seen", Constraint::Length(11), 84),
    column("maker and model", Constraint::Length(18), 196),
    column("firmware", Constraint::Length(9), 176),
];
/// Cells of the trend of ten minutes.
const TREND: usize = 12;
/// Lines of details below the table, where the terminal is high enough.
const DETAILS: u16 = 8;
/// The same in a small one.
const FEW_DETAILS: u16 = 6;

/// What a click on a column's title sorts by.
pub fn sorts_by(title: &str) -> Option<SortBy> {
    Some(match title {
        "state" => SortBy::Verdict,
        "name" => SortBy::Name,
        "address" => SortBy::Address,
        "declared → arrived" => SortBy::Rate,
        "clock" => SortBy::Clock,
        "last seen" => SortBy::Seen,
        "maker and model" => SortBy::Maker,
        "firmware" => SortBy::Firmware,
        _ => return None,
    })
}

/// Where the selected camera's picture stands.
pub fn picture(app: &App, roster: &Roster, area: Rect) -> Option<Rect> {
    let lines = roster.lines(app);
    let camera = lines.get(roster.row(&lines)).and_then(RosterLine::entry).is_some();
    (camera && closeup::has_room(area)).then(|| closeup::places(closeup::foot(area), app.cell_aspect).picture)
}

/// Where the table stands.
pub fn list(roster: &Roster, lines: &[RosterLine<'_>], area: Rect) -> List {
    let all = area;
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let details = match area.height {
        _ if closeup::has_room(all) => closeup::ROWS + 1,
        30.. => DETAILS,
        16.. => FEW_DETAILS,
        _ => 0,
    };
    let mut columns = COLUMNS.to_vec();
    if roster.order.group == GroupBy::Group {
        columns[2].from = u16::MAX; // the headings say it
    }
    List { area: Rect { height: area.height - details, ..area }, columns, rows: lines.len(), selected: roster.row(lines) }
}

fn title(app: &App, roster: &Roster, lines: &[RosterLine<'_>]) -> String {
    let count = lines.iter().filter(|line| line.entry().is_some()).count();
    let all = app.site.cameras.len();
    let order = roster.order;
    let filter = &roster.filter;
    let cameras = if count == all { format!("{all} cameras") } else { format!("{count} of {all} cameras, filter {filter:?}") };
    let sorted = match (order.sort, order.reversed) {
        (SortBy::File, false) => String::new(),
        (sort, reversed) => format!(", sorted by {}{}", sort.word(), if reversed { ", reversed" } else { "" }),
    };
    let has_headings = lines.iter().any(|line| line.entry().is_none());
    let grouped = if has_headings { format!(", by {}", order.group.word()) } else { String::new() };
    format!("Roster: {cameras}{grouped}{sorted}")
}

/// Draws the table and, where there is room, what is known of the selected camera.
pub fn draw(app: &App, roster: &Roster, theme: Theme, area: Rect, buf: &mut Buffer) {
    let lines = roster.lines(app);
    let list = list(roster, &lines, area);
    let count = lines.iter().filter(|line| line.entry().is_some()).count();
    Line::styled(title(app, roster, &lines), theme.tone(Tone::Bright)).render(Rect { height: 1, ..area }, buf);
    if app.site.cameras.is_empty() {
        let text = "No camera yet: f finds those on this network, a adds one by its address.";
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(list.area, buf);
        return;
    }
    if count == 0 {
        let text = "No camera passes the filter:  /  changes it.";
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(list.area, buf);
        return;
    }
    let recorders: HashSet<&str> = app.site.cameras.iter().filter_map(|camera| camera.recorder.as_deref()).collect();
    table(theme, &list, lines.iter().map(|line| row(app, &recorders, line)).collect(), buf);
    let mut details = Rect { y: list.area.bottom() + 1, height: area.bottom().saturating_sub(list.area.bottom() + 1), ..area };
    if let Some(key) = roster.near(app).filter(|_| closeup::has_room(area)) {
        let places = closeup::places(closeup::foot(area), app.cell_aspect);
        closeup::past(app, theme, key, places.past, buf);
        details = places.text;
    }
    if let Some(entry) = lines.get(list.selected).and_then(RosterLine::entry).filter(|_| details.height > 0) {
        Paragraph::new(about(app, theme, entry)).wrap(Wrap { trim: false }).render(details, buf);
    }
}

fn row(app: &App, recorders: &HashSet<&str>, line: &RosterLine<'_>) -> Vec<Said> {
    let entry = match line {
        RosterLine::Heading(heading, count) => {
            return vec![(count.to_string(), Tone::Faint), (heading.clone(), Tone::Faint)];
        }
        RosterLine::Camera(entry) => entry,
    };
    let camera = entry.camera;
    let is_recorder = recorders.contains(camera.name.as_str());
    let state = match entry.open {
        _ if camera.disabled => ("off".to_owned(), Tone::Faint),
        Some((_, figures)) => (format!("{} {}", sign(figures.verdict), figures.verdict), Theme::verdict(figures.verdict)),
        None if is_recorder => ("recorder".to_owned(), Tone::Faint),
        None => ("not open".to_owned(), Tone::Faint),
    };
    let name = if camera.recorder.is_some() { format!("└ {}", camera.name) } else { camera.name.clone() };
    let dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "–".into());
    let streams: Vec<String> = camera.streams.iter().map(|stream| stream.role.letter().to_string()).collect();
    let rates = entry.open.map_or_else(String::new, |(_, figures)| {
        let rate = |rate: Option<f64>| rate.map_or_else(|| "–".to_owned(), |rate| format!("{rate:.1}"));
        let size = figures.size.map_or_else(String::new, |(width, height)| format!("{width}×{height} "));
        format!("{size}{} → {}", rate(figures.declared.map(lattice_core::FrameRate::per_second)), rate(figures.arrived))
    });
    let calm = |text: String| (text, Tone::Calm);
    vec![
        state,
        if entry.exposed.is_some() { (format!("{name} !"), Tone::Bright) } else { calm(name) },
        calm(dash(&camera.group)),
        calm(dash(&camera.address)),
        calm(if streams.is_empty() { "–".into() } else { streams.join(" ") }),
        calm(rates),
        entry.open.map_or_else(|| calm(String::new()), |(role, figures)| trend(app, &camera.name, role, figures)),
        calm(figure(entry, |figures| figures.latency.map(|latency| format!("{:.0}", latency.total.p95.as_secs_f64() * 1e3)))),
        loss_said(app, entry),
        calm(figure(entry, |figures| Some(figures.dropout_totals.0.to_string()))),
        calm(entry.open.and_then(|(_, figures)| figures.transport).map_or_else(|| "–".into(), |by| by.word().to_owned())),
        clock_said(app, entry),
        calm(entry.seen.map_or_else(|| "–".into(), |at| ago(at, app.utc))),
        calm(dash(&made(camera))),
        match app.firmware_fault(camera) {
            Some(_) => (format!("{} !", dash(&camera.firmware)), Tone::Bright),
            None => calm(dash(&camera.firmware)),
        },
    ]
}

/// Maker and model, as far as they are known.
fn made(camera: &Camera) -> Option<String> {
    let made = [camera.maker.as_deref(), camera.model.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    (!made.is_empty()).then_some(made)
}

fn figure(entry: &Entry<'_>, of: impl Fn(&Figures) -> Option<String>) -> String {
    entry.open.map_or_else(String::new, |(_, figures)| of(figures).unwrap_or_else(|| "–".into()))
}

/// Loss in the last 10 s, bright where it strains the stream.
fn loss_said(app: &App, entry: &Entry<'_>) -> Said {
    let Some((role, figures)) = entry.open else { return (String::new(), Tone::Calm) };
    let Some(share) = figures.recent_loss else { return ("–".into(), Tone::Calm) };
    let limit = app.site.thresholds_of(&entry.camera.name, role).loss;
    (format!("{:.2}", share * 100.0), if share >= limit { Tone::Bright } else { Tone::Calm })
}

/// What was missing of the declared rate over ten minutes, a cell for fifty seconds: a line along the foot where nothing was, a gap
/// where nothing was measured.
fn trend(app: &App, camera: &str, role: Role, figures: &Figures) -> Said {
    // Never a full cell: rows stay apart.
    const BARS: [&str; 9] = ["▁", "▂", "▂", "▃", "▄", "▅", "▆", "▇", "▇"];
    let key = app.camera_index(camera).map(|camera| FeedKey::new(camera, role));
    let past = key.and_then(|key| app.history.get(&key));
    let (Some(declared), Some(past)) = (figures.declared.map(FrameRate::per_second), past) else {
        return (String::new(), Tone::Calm);
    };
    let span = PastSpan::TenMinutes;
    let cell = span.duration().as_secs_f64() / TREND as f64;
    let mut least: [Option<f64>; TREND] = [None; TREND];
    for (age, sample) in past.over(app.now, span) {
        let index = TREND - 1 - ((age / cell) as usize).min(TREND - 1);
        let share = sample.get(Fig::Arrived).map(|arrived| f64::from(arrived) / declared);
        least[index] = least[index].map_or(share, |one| Some(share.map_or(one, |two| one.min(two))));
    }
    let strain = key.map(|key| app.thresholds(key)).unwrap_or_default().arrived;
    let short = least.iter().flatten().any(|share| *share < strain);
    let bar = |share: Option<f64>| share.map_or(" ", |share| BARS[((1.0 - share.clamp(0.0, 1.0)) * 8.0).round() as usize]);
    (least.into_iter().map(bar).collect(), if short { Tone::Bright } else { Tone::Faint })
}

/// How far the device's clock is off, as it told; else what its reports show, where that is beyond any path.
fn clock_said(app: &App, entry: &Entry<'_>) -> Said {
    if let Some(offset) = entry.clock_off() {
        let beyond = u128::from(offset.micros.unsigned_abs()) > app.site.clock_limit().as_micros();
        let tone = if beyond { Tone::Bright } else { Tone::Calm };
        return (off_text(offset.micros), tone);
    }
    let shown = entry.open.and_then(|(_, figures)| figures.wrong_clock());
    shown.map_or(("–".into(), Tone::Calm), |clock| (off_text(-clock.micros), Tone::Bright))
}

/// What is known of one camera.
fn about<'a>(app: &App, theme: Theme, entry: &Entry<'_>) -> Vec<Line<'a>> {
    let camera: &Camera = entry.camera;
    let pair = |label: &str, text: String, tone: Tone| {
        let label = if label.is_empty() { String::new() } else { format!("{label} ") };
        vec![Span::styled(label, theme.tone(Tone::Faint)), Span::styled(format!("{text}   "), theme.tone(tone))]
    };
    let mut first = pair("", camera.name.clone(), Tone::Bright);
    first.extend(made(camera).into_iter().flat_map(|made| pair("", made, Tone::Calm)));
    let known = [
        ("device", &camera.device_name),
        ("serial", &camera.serial),
        ("firmware", &camera.firmware),
        ("recorder", &camera.recorder),
    ];
    first.extend(known.into_iter().filter_map(|(label, text)| Some(pair(label, text.clone()?, Tone::Calm))).flatten());
    first.extend(camera.sign_in.iter().flat_map(|name| {
        let user = app.site.sign_in(name).map_or_else(|| name.clone(), |sign_in| sign_in.user.clone());
        pair("signs in as", user, Tone::Calm)
    }));
    if camera.password_readable {
        first.extend(pair("password", "may travel readable".into(), Tone::Bright));
    }
    match &camera.trust {
        CertificateTrust::Verify => {}
        CertificateTrust::Pinned(_) => first.extend(pair("certificate", "pinned".into(), Tone::Calm)),
        CertificateTrust::Off => first.extend(pair("certificate", "not verified".into(), Tone::Bright)),
    }
    let mut lines = vec![Line::from(first)];
    if let Some(fault) = app.firmware_fault(camera) {
        lines.push(Line::styled(format!("its firmware is known for a fault: {fault}"), theme.tone(Tone::Bright)));
    }
    if let Some(exposed) = entry.exposed {
        lines.push(Line::styled(format!("exposed: {}", exposed.reason()), theme.tone(Tone::Bright)));
    }
    for stream in camera.streams.iter().filter(|stream| stream.role != Role::Third) {
        lines.push(Line::from(pair(stream.role.word(), stream.target.to_string(), Tone::Calm)));
    }
    if let Some((_, figures)) = entry.open {
        let mut last =
            figures.transport.map(|transport| pair("transport", transport.word().to_owned(), Tone::Calm)).unwrap_or_default();
        let (loss, tone) = loss_said(app, entry);
        last.extend(pair("loss", format!("{loss} %"), tone));
        last.extend(figures.wrong_clock().into_iter().flat_map(|clock| pair("clock", clock.text(), Tone::Bright)));
        last.extend(figures.text.clone().into_iter().flat_map(|text| pair("", text, Theme::verdict(figures.verdict))));
        lines.push(Line::from(last));
    }
    lines
}
