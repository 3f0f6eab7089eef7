//! The report of a shift, page by page.

use crate::page::{Book, MARGIN, Page, WIDTH};
use crate::photo::{Pair, Photo};
use crate::svg::{Anchor, Drawing, Fill};
use crate::text::{fitting, moment, percent, round_step, time_step};
use jiff::tz::TimeZone;
use lattice_core::event::EventKind;
use lattice_core::ledger::Entry;
use lattice_core::shift::{Gap, Shift, Standing};
use lattice_core::{Cause, Wall, length_text};
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::time::Duration;

/// What a report is made of.
#[derive(Debug)]
pub struct Report<'a> {
    /// The site's name.
    pub site: &'a str,
    /// From here
    pub from: Wall,
    /// to before here.
    pub to: Wall,
    /// When it was made.
    pub made_at: Wall,
    /// Who made it.
    pub by: &'a str,
    /// The reader's clock.
    pub zone: TimeZone,
    /// How everything stood.
    pub shift: &'a Shift,
    /// The ledger of the time, oldest first.
    pub entries: &'a [Entry],
    /// What cameras showed before and after their longest dropouts, where that was kept.
    pub pictures: &'a [Pair],
}

/// Height of a row of a table or a chart.
const ROW: f64 = 12.0;
const SMALL: f64 = 7.0;
/// Width of the names beside a chart.
const NAMES: f64 = 110.0;

impl Report<'_> {
    fn at(&self, at: Wall) -> String {
        // With the day where the time is longer than one.
        let format = if self.to.micros_since(self.from) > 86_400_000_000 { "%d %b %H:%M:%S" } else { "%H:%M:%S" };
        moment(at, &self.zone, format)
    }

    fn title(&self) -> String {
        let day = |at| moment(at, &self.zone, "%Y-%m-%d");
        let time = |at| moment(at, &self.zone, "%H:%M");
        let end = if day(self.from) == day(self.to) { time(self.to) } else { format!("{} {}", day(self.to), time(self.to)) };
        format!("Shift report: {}, {} {} to {end}", self.site, day(self.from), time(self.from))
    }
}

/// The pages of a report, and its title.
#[must_use]
pub fn pages(report: &Report<'_>) -> (Vec<Page>, String) {
    let title = report.title();
    let foot = format!(
        "made {} by {} with Amber Lattice; times {}",
        moment(report.made_at, &report.zone, "%Y-%m-%d %H:%M:%S"),
        report.by,
        moment(report.from, &report.zone, "%Z (UTC%:z)")
    );
    let mut book = Book::new(&title, &foot);
    summary(&mut book, report);
    wrong(&mut book, report);
    if report.shift.cameras.is_empty() {
        book.paragraph("Nothing was measured in this time: no record of a figure lies between its beginning and its end.", 9.0);
        return (book.finish(), title);
    }
    cameras(&mut book, "Cameras, most trouble first", &report.shift.cameras);
    if !report.shift.groups.is_empty() {
        cameras(&mut book, "Groups", &report.shift.groups);
    }
    let troubled: Vec<Standing> =
        report.shift.cameras.iter().filter(|camera| camera.dropouts > 0 || !camera.missing.is_zero()).cloned().collect();
    losses(&mut book, &troubled);
    let calm = report.shift.cameras.len() - troubled.len();
    if calm > 0 && !troubled.is_empty() {
        let cameras = if calm == 1 { "1 camera".to_owned() } else { format!("{calm} cameras") };
        book.paragraph(&format!("{cameras} without a dropout: 100 %."), 7.0);
    }
    lanes(&mut book, report);
    hours(&mut book, report);
    latency(&mut book, &report.shift.cameras);
    longest(&mut book, report);
    before_and_after(&mut book, report);
    noted(&mut book, report);
    definitions(&mut book);
    (book.finish(), title)
}

fn summary(book: &mut Book, report: &Report<'_>) {
    let all = &report.shift.all;
    let noted = report.entries.iter().filter(|entry| entry.acknowledged.is_some()).count();
    let goes_on = report.shift.gaps.iter().filter(|gap| gap.goes_on).count();
    let ms = |ms: Option<f32>| ms.map_or_else(|| "–".into(), |ms| format!("{ms:.0} ms"));
    let unknown = || "–".to_owned();
    let cells: [(&str, String); 8] = [
        ("cameras", report.shift.cameras.len().to_string()),
        ("availability", percent(all.availability(), all.measured)),
        ("dropouts", if goes_on > 0 { format!("{}, {goes_on} still on", all.dropouts) } else { all.dropouts.to_string() }),
        ("longest", if all.longest.is_zero() { unknown() } else { length_text(all.longest) }),
        ("mean time between", all.between_dropouts().map_or_else(unknown, length_text)),
        ("mean time to return", all.to_return().map_or_else(unknown, length_text)),
        ("latency p95", ms(all.latency_p95)),
        ("ledger, acknowledged", format!("{} entries, {noted}", report.entries.len())),
    ];
    let width = WIDTH / 4.0;
    for (n, (name, value)) in cells.iter().enumerate() {
        let (x, y) = (MARGIN + (n % 4) as f64 * width, book.y + (n / 4) as f64 * 34.0);
        book.drawing.rect((x, y), (width - 4.0, 30.0), Fill::Empty);
        book.drawing.text((x + 5.0, y + 10.0), SMALL, Anchor::Start, false, name);
        book.drawing.text((x + 5.0, y + 24.0), 10.0, Anchor::Start, true, &fitting(value, width - 14.0, 10.0));
    }
    book.y += 72.0;
}

/// Rows of what was wrong: what else there was is in the ledger.
const WRONG: usize = 8;

/// What was wrong, for how long, where it lay and what was done: entries of the ledger that are alike taken together.
fn wrong(book: &mut Book, report: &Report<'_>) {
    let mut alike: BTreeMap<(EventKind, Option<Cause>, &[String]), Wrong<'_>> = BTreeMap::new();
    let meant = |entry: &&Entry| entry.kind.is_dropout() || entry.kind == EventKind::Strained || entry.kind == EventKind::Locked;
    for entry in report.entries.iter().filter(meant) {
        let one = alike.entry((entry.kind, entry.cause, &entry.cameras)).or_insert_with(|| Wrong::of(entry));
        one.times += 1;
        one.length += entry.length(report.to);
        one.goes_on |= entry.end.is_none();
        one.last = entry;
    }
    if alike.is_empty() {
        book.heading("Nothing was wrong in this time", 0.0);
        return;
    }
    let mut all: Vec<Wrong<'_>> = alike.into_values().collect();
    // Pictures that were missing come before pictures that were poor, the longest first.
    all.sort_by_key(|one| (one.last.kind == EventKind::Strained, Reverse(one.length)));
    book.heading("What was wrong, for how long, where it lay, what was done", 3.0 * ROW);
    let columns = [
        ("what", 50.0, false),
        ("where", 90.0, false),
        ("times", 34.0, true),
        ("in all", 58.0, true),
        ("cause", 112.0, false),
        ("lay in", 72.0, false),
        ("what was done", 99.0, false),
    ];
    let rows: Vec<Vec<String>> = all.iter().take(WRONG).map(Wrong::cells).collect();
    table(book, &columns, &rows);
    if all.len() > WRONG {
        book.paragraph(&format!("{} more are in the ledger.", all.len() - WRONG), 7.0);
    }
}

/// Entries that are alike.
struct Wrong<'a> {
    times: u32,
    length: Duration,
    goes_on: bool,
    last: &'a Entry,
}

impl<'a> Wrong<'a> {
    const fn of(entry: &'a Entry) -> Self {
        Self { times: 0, length: Duration::ZERO, goes_on: false, last: entry }
    }

    fn cells(&self) -> Vec<String> {
        let goes_on = if self.goes_on { " …" } else { "" };
        let entry = self.last;
        vec![
            entry.kind.word().to_owned(),
            entry.subject(),
            self.times.to_string(),
            format!("{}{goes_on}", length_text(self.length)),
            entry.cause.map_or_else(|| "not known".to_owned(), |cause| cause.to_string()),
            entry.cause.map_or_else(|| "not known".to_owned(), |cause| cause.whose().words().to_owned()),
            done(entry),
        ]
    }
}

/// What was done about an entry: by somebody, else by the program.
fn done(entry: &Entry) -> String {
    if !entry.note.is_empty() {
        return entry.note.clone();
    }
    if let Some(one) = &entry.acknowledged {
        return format!("acknowledged by {}", one.by);
    }
    match (entry.done.last(), entry.end) {
        (Some(last), _) => last.clone(),
        (None, Some(_)) => "came back by itself".into(),
        (None, None) => "tried again by itself".into(),
    }
}

/// A column of a table: its head, its width, whether it stands to the right.
type Column = (&'static str, f64, bool);

fn row(drawing: &mut Drawing, y: f64, columns: &[Column], cells: &[String], bold: bool) {
    let (mut x, mut after_right) = (MARGIN, false);
    for ((_, width, right), cell) in columns.iter().zip(cells) {
        let text = fitting(cell, width - 6.0, 7.5);
        if *right {
            drawing.text((x + width - 4.0, y), 7.5, Anchor::End, bold, &text);
        } else {
            // Away from the figures before it.
            drawing.text((if after_right { x + 5.0 } else { x }, y), 7.5, Anchor::Start, bold, &text);
        }
        after_right = *right;
        x += width;
    }
}

fn table(book: &mut Book, columns: &[Column], rows: &[Vec<String>]) {
    let head = |book: &mut Book| {
        let names: Vec<String> = columns.iter().map(|(name, ..)| (*name).to_owned()).collect();
        book.y += ROW;
        row(&mut book.drawing, book.y - 3.0, columns, &names, true);
        book.drawing.line((MARGIN, book.y), (MARGIN + WIDTH, book.y), 0.5);
    };
    head(book);
    for cells in rows {
        if book.left() < ROW {
            book.need(3.0 * ROW);
            head(book);
        }
        book.y += ROW;
        row(&mut book.drawing, book.y - 3.0, columns, cells, false);
    }
    book.y += 4.0;
}

fn cameras(book: &mut Book, heading: &str, standings: &[Standing]) {
    book.heading(heading, 3.0 * ROW);
    let columns = [
        ("name", 72.0, false),
        ("available", 46.0, true),
        ("dropouts", 45.0, true),
        ("missing", 55.0, true),
        ("longest", 55.0, true),
        ("between", 55.0, true),
        ("p50/p95 ms", 54.0, true),
        ("clock ms", 49.0, true),
        ("main cause", 84.0, false),
    ];
    let span = |span: Option<Duration>| span.map_or_else(|| "–".to_owned(), length_text);
    let ms = |ms: Option<f32>| ms.map_or_else(|| "–".into(), |ms| format!("{ms:.0}"));
    let rows: Vec<Vec<String>> = standings
        .iter()
        .map(|one| {
            vec![
                one.name.clone(),
                percent(one.availability(), one.measured),
                one.dropouts.to_string(),
                span(Some(one.missing).filter(|missing| !missing.is_zero())),
                span(Some(one.longest).filter(|longest| !longest.is_zero())),
                span(one.between_dropouts()),
                format!("{}/{}", ms(one.latency_p50), ms(one.latency_p95)),
                one.clock.map_or_else(
                    || "–".into(),
                    |(offset, error)| match offset.round() {
                        0.0 => format!("0 ±{error:.0}"),
                        offset => format!("{offset:+.0} ±{error:.0}"),
                    },
                ),
                one.main_cause.map_or_else(String::new, |cause| cause.to_string()),
            ]
        })
        .collect();
    table(book, &columns, &rows);
}

/// Draws rows with a name each below a heading, as many on a page as fit; `axis` is drawn under each part.
fn by_rows<T>(
    book: &mut Book,
    heading: &str,
    foot: f64,
    all: &[T],
    name: impl Fn(&T) -> String,
    mut draw: impl FnMut(&mut Drawing, f64, &T),
    axis: impl Fn(&mut Drawing, f64, f64),
) {
    let mut rest = all;
    let mut heading = heading.to_owned();
    while !rest.is_empty() {
        let few = rest.len().min(6) as f64;
        book.heading(&heading, few * ROW + foot);
        let count = (((book.left() - foot) / ROW) as usize).clamp(1, rest.len());
        let (part, after) = rest.split_at(count);
        let top = book.y;
        axis(&mut book.drawing, top, top + count as f64 * ROW);
        for one in part {
            book.drawing.text((MARGIN, book.y + 8.5), 7.5, Anchor::Start, false, &fitting(&name(one), NAMES - 6.0, 7.5));
            draw(&mut book.drawing, book.y, one);
            book.y += ROW;
        }
        book.y += foot;
        rest = after;
        if !heading.ends_with("continued") {
            heading.push_str(", continued");
        }
    }
}

/// Where charts begin, and how wide they are.
const CHART: (f64, f64) = (MARGIN + NAMES, WIDTH - NAMES);

fn losses(book: &mut Book, standings: &[Standing]) {
    let missing = |one: &Standing| one.availability().map_or(0.0, |share| 1.0 - share);
    // From zero, as far as the worst needs: small losses can be read beside each other.
    let most = standings.iter().map(missing).fold(0.0, f64::max).max(0.0001);
    let step = round_step(most, 4.0);
    let top_of_axis = (most / step).ceil() * step;
    let x = |share: f64| CHART.0 + (share / top_of_axis).clamp(0.0, 1.0) * (CHART.1 - 60.0);
    by_rows(
        book,
        "Time without new pictures, in percent of the measured time (the axis begins at 0)",
        24.0,
        standings,
        |one| one.name.clone(),
        |drawing, y, one| {
            let Some(share) = one.availability() else { return };
            let own = one.missing_own.as_secs_f64() / one.measured.as_secs_f64().max(1.0);
            drawing.rect((CHART.0, y + 2.0), ((x(1.0 - share) - CHART.0).max(0.8), ROW - 4.0), Fill::Dark);
            drawing.rect((CHART.0, y + 2.0), (x(own) - CHART.0, ROW - 4.0), Fill::Light);
            let text = format!("{}, {} available", length_text(one.missing), percent(Some(share), one.measured));
            drawing.text((x(1.0 - share) + 3.0, y + 8.5), 6.5, Anchor::Start, false, &text);
        },
        |drawing, top, bottom| {
            let digits = (-(step * 100.0).log10()).ceil().max(0.0) as usize;
            for n in 0..=(top_of_axis / step).round() as u32 {
                let share = f64::from(n) * step;
                drawing.grid((x(share), top), (x(share), bottom));
                drawing.text((x(share), bottom + 9.0), 6.5, Anchor::Middle, false, &format!("{:.digits$} %", share * 100.0));
            }
        },
    );
    if standings.iter().any(|one| !one.missing_own.is_zero()) {
        book.paragraph("Light part of a bar: what this machine itself fell short of.", 7.0);
    }
}

/// How a kind of gap is drawn: fill, and its share of the row's height.
const fn look(kind: EventKind) -> (Fill, f64, &'static str) {
    match kind {
        EventKind::Outage | EventKind::NoPicture => (Fill::Solid, 1.0, "outage: no session"),
        EventKind::Locked => (Fill::Crossed, 1.0, "locked: sign-in"),
        EventKind::Freeze => (Fill::Dark, 0.8, "freeze: session without pictures"),
        EventKind::Frozen => (Fill::Hatched, 0.8, "frozen at the source"),
        _ => (Fill::Light, 0.6, "stutter or strain"),
    }
}

/// What happened to one camera, over time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane {
    /// The camera.
    pub name: String,
    /// From when to when, and what.
    pub bars: Vec<(Wall, Wall, EventKind)>,
}

/// Cameras as lanes over time, for a file of their own.
#[must_use]
pub fn lanes_page(title: &str, foot: &str, span: (Wall, Wall), zone: &TimeZone, lanes: &[Lane]) -> Vec<Page> {
    let mut book = Book::new(title, foot);
    draw_lanes(&mut book, "What happened, camera by camera", span, zone, lanes);
    if lanes.is_empty() {
        book.paragraph("Nothing happened to any camera in this time.", 9.0);
    }
    book.finish()
}

fn lanes(book: &mut Book, report: &Report<'_>) {
    let strains: Vec<&Entry> =
        report.entries.iter().filter(|entry| !entry.kind.is_dropout() && entry.kind == EventKind::Strained).collect();
    let lane = |name: &String| {
        let strained = strains.iter().filter(|entry| entry.cameras.contains(name));
        let strained = strained.map(|entry| (entry.start, entry.end.unwrap_or(report.to).min(report.to), EventKind::Strained));
        let missing = report.shift.gaps.iter().filter(|gap| gap.camera == *name).map(|gap| (gap.start, gap.end, gap.kind));
        Lane { name: name.clone(), bars: strained.chain(missing).collect() }
    };
    let lanes: Vec<Lane> = report.shift.cameras.iter().map(|camera| lane(&camera.name)).collect();
    let lanes: Vec<Lane> = lanes.into_iter().filter(|lane| !lane.bars.is_empty()).collect();
    draw_lanes(book, "When pictures were missing, camera by camera", (report.from, report.to), &report.zone, &lanes);
}

fn draw_lanes(book: &mut Book, heading: &str, (from, to): (Wall, Wall), zone: &TimeZone, lanes: &[Lane]) {
    let seconds = (to.micros_since(from) as f64 / 1e6).max(1.0);
    let x = |at: Wall| CHART.0 + (at.micros_since(from) as f64 / 1e6 / seconds).clamp(0.0, 1.0) * CHART.1;
    let step = time_step(seconds, 8.0);
    let bar = |drawing: &mut Drawing, y: f64, (from, to, kind): (Wall, Wall, EventKind)| {
        let (fill, share, _) = look(kind);
        let height = (ROW - 3.0) * share;
        let width = (x(to) - x(from)).max(0.8);
        drawing.rect((x(from), y + 1.5 + (ROW - 3.0 - height) / 2.0), (width, height), fill);
    };
    by_rows(
        book,
        heading,
        38.0,
        lanes,
        |lane| lane.name.clone(),
        |drawing, y, lane| lane.bars.iter().for_each(|one| bar(drawing, y, *one)),
        |drawing, top, bottom| {
            let begin = (from.as_unix_micros() as f64 / 1e6 / step).ceil() as i64;
            drawing.line((CHART.0, bottom), (CHART.0 + CHART.1, bottom), 0.5);
            for n in begin.. {
                let at = Wall::from_unix_micros((n as f64 * step * 1e6) as i64);
                if at > to {
                    break;
                }
                drawing.grid((x(at), top), (x(at), bottom));
                let format = if seconds > 2.0 * 86_400.0 { "%d %b" } else { "%H:%M" };
                drawing.text((x(at), bottom + 9.0), 6.5, Anchor::Middle, false, &moment(at, zone, format));
            }
            let mut legend = CHART.0 - NAMES;
            for kind in [EventKind::Outage, EventKind::Locked, EventKind::Freeze, EventKind::Frozen, EventKind::Strained] {
                let (fill, _, words) = look(kind);
                drawing.rect((legend, bottom + 17.0), (9.0, 6.0), fill);
                drawing.text((legend + 12.0, bottom + 22.5), 6.5, Anchor::Start, false, words);
                legend += 22.0 + words.chars().count() as f64 * 3.8;
            }
        },
    );
}

fn hours(book: &mut Book, report: &Report<'_>) {
    let hours = &report.shift.hours;
    if hours.len() > 168 {
        return;
    }
    let height = 70.0;
    book.heading("By the hour, all cameras together: dropouts (bars) and latency p95 in ms (line)", height + 26.0);
    let (top, bottom) = (book.y, book.y + height);
    let most = hours.iter().map(|(_, hour)| hour.dropouts).max().unwrap_or(0).max(1) as f64;
    let slowest = hours.iter().filter_map(|(_, hour)| hour.latency_p95).fold(1.0f32, f32::max);
    let slowest = round_step(f64::from(slowest), 1.0);
    let width = CHART.1 / hours.len() as f64;
    let y = |share: f64| bottom - share * height;
    let step = round_step(most, 3.0).max(1.0);
    let mut mark = 0.0;
    while mark <= most {
        book.drawing.grid((CHART.0, y(mark / most)), (CHART.0 + CHART.1, y(mark / most)));
        book.drawing.text((CHART.0 - 4.0, y(mark / most) + 2.0), 6.5, Anchor::End, false, &format!("{mark:.0}"));
        mark += step;
    }
    book.drawing.text((MARGIN, top + 6.0), 6.5, Anchor::Start, false, "dropouts, to the left;");
    book.drawing.text((MARGIN, top + 15.0), 6.5, Anchor::Start, false, &format!("line: {slowest:.0} ms at the top"));
    let mut line: Vec<(f64, f64)> = Vec::new();
    let every = hours.len().div_ceil(12);
    for (n, (start, hour)) in hours.iter().enumerate() {
        let x = CHART.0 + n as f64 * width;
        let share = hour.dropouts as f64 / most;
        book.drawing.rect((x + width * 0.15, y(share)), (width * 0.7, bottom - y(share)), Fill::Light);
        if let Some(p95) = hour.latency_p95 {
            line.push((x + width / 2.0, y(f64::from(p95) / slowest)));
        }
        if n % every == 0 {
            let text = moment(*start, &report.zone, "%H:%M");
            book.drawing.text((x + width / 2.0, bottom + 9.0), 6.5, Anchor::Middle, false, &text);
        }
    }
    book.drawing.polyline(&line, 1.0, "");
    for point in &line {
        book.drawing.rect((point.0 - 1.2, point.1 - 1.2), (2.4, 2.4), Fill::Solid);
    }
    book.drawing.line((CHART.0, bottom), (CHART.0 + CHART.1, bottom), 0.5);
    book.y = bottom + 18.0;
}

fn latency(book: &mut Book, standings: &[Standing]) {
    let known: Vec<&Standing> = standings.iter().filter(|one| one.latency_p95.is_some()).collect();
    let most = known.iter().filter_map(|one| one.latency_p95).fold(1.0f32, f32::max);
    let step = round_step(f64::from(most), 5.0);
    let top_of_axis = (f64::from(most) / step).ceil() * step;
    let x = |ms: f64| CHART.0 + (ms / top_of_axis).clamp(0.0, 1.0) * (CHART.1 - 50.0);
    by_rows(
        book,
        "Latency in ms: from the median (line) to the 95th percentile (end of the box)",
        24.0,
        &known,
        |one| one.name.clone(),
        |drawing, y, one| {
            let (p50, p95) = (f64::from(one.latency_p50.unwrap_or(0.0)), f64::from(one.latency_p95.unwrap_or(0.0)));
            drawing.rect((x(p50), y + 2.5), (x(p95) - x(p50), ROW - 5.0), Fill::Light);
            drawing.line((x(p50), y + 1.5), (x(p50), y + ROW - 1.5), 1.4);
            drawing.text((x(p95) + 3.0, y + 8.5), 6.5, Anchor::Start, false, &format!("{p50:.0} / {p95:.0}"));
        },
        |drawing, top, bottom| {
            let mut mark = 0.0;
            while mark <= top_of_axis + step / 2.0 {
                drawing.grid((x(mark), top), (x(mark), bottom));
                drawing.text((x(mark), bottom + 9.0), 6.5, Anchor::Middle, false, &format!("{mark:.0}"));
                mark += step;
            }
        },
    );
}

/// The ledger's entry that a gap is a part of.
fn entry_of<'a>(report: &'a Report<'_>, gap: &Gap) -> Option<&'a Entry> {
    let near = |entry: &&Entry| {
        entry.cameras.contains(&gap.camera)
            && entry.start <= gap.start.offset(2_000_000)
            && entry.end.is_none_or(|end| end >= gap.start)
            && entry.kind.is_dropout()
    };
    report.entries.iter().rev().find(near)
}

fn longest(book: &mut Book, report: &Report<'_>) {
    let gaps = report.shift.longest(10);
    if gaps.is_empty() {
        book.heading("No dropout in this time", 0.0);
        return;
    }
    book.heading("The longest dropouts", 3.0 * ROW);
    let columns = [
        ("begin", 66.0, false),
        ("camera", 92.0, false),
        ("kind", 46.0, false),
        ("length", 58.0, true),
        ("cause", 88.0, false),
        ("evidence", 165.0, false),
    ];
    let rows: Vec<Vec<String>> = gaps
        .iter()
        .map(|gap| {
            let goes_on = if gap.goes_on { " …" } else { "" };
            vec![
                report.at(gap.start),
                format!("{} {}", gap.camera, gap.stream),
                gap.kind.word().to_owned(),
                format!("{}{goes_on}", length_text(gap.length())),
                gap.cause.map_or_else(|| "unknown".to_owned(), |cause| cause.to_string()),
                entry_of(report, gap).map_or_else(String::new, |entry| entry.evidence.clone()),
            ]
        })
        .collect();
    table(book, &columns, &rows);
}

/// Width of a picture, and of one beside another with its room.
const PHOTO: (f64, f64) = (118.0, 126.0);
/// Height of a pair: two lines and the pictures.
const PAIR: f64 = 96.0;

/// The pictures around the longest dropouts, two pairs in a row.
fn before_and_after(book: &mut Book, report: &Report<'_>) {
    let gaps = report.shift.longest(10);
    let of = |pair: &&Pair| gaps.iter().any(|gap| gap.camera == pair.camera && gap.start == pair.start);
    let pairs: Vec<&Pair> =
        report.pictures.iter().filter(of).filter(|pair| pair.before.is_some() || pair.after.is_some()).collect();
    if pairs.is_empty() {
        return;
    }
    book.heading("What they showed before and after", PAIR);
    for two in pairs.chunks(2) {
        book.need(PAIR);
        for (n, pair) in two.iter().enumerate() {
            let x = MARGIN + n as f64 * (WIDTH / 2.0 + 4.0);
            let title = format!("{}, {}", pair.camera, report.at(pair.start));
            book.drawing.text((x, book.y + 8.0), 7.5, Anchor::Start, true, &fitting(&title, PHOTO.1 * 2.0, 7.5));
            for (which, (word, photo)) in [("before", &pair.before), ("after", &pair.after)].into_iter().enumerate() {
                let x = x + which as f64 * PHOTO.1;
                photograph(&mut book.drawing, report, (x, book.y + 12.0), word, photo.as_ref());
            }
        }
        book.y += PAIR;
    }
}

/// One picture in its place, with its time below it.
fn photograph(drawing: &mut Drawing, report: &Report<'_>, (x, y): (f64, f64), word: &str, photo: Option<&Photo>) {
    let room = (PHOTO.0, PHOTO.0 * 9.0 / 16.0);
    let caption = if let Some(photo) = photo {
        let (width, height) = (f64::from(photo.size.0), f64::from(photo.size.1));
        let scale = (room.0 / width).min(room.1 / height);
        let size = (width * scale, height * scale);
        drawing.picture((x + (room.0 - size.0) / 2.0, y + (room.1 - size.1) / 2.0), size, photo);
        format!("{word}, {}", report.at(photo.at))
    } else {
        drawing.rect((x, y), room, Fill::Empty);
        format!("no picture of {word} it is kept")
    };
    drawing.text((x, y + room.1 + 8.0), 6.5, Anchor::Start, false, &caption);
}

fn noted(book: &mut Book, report: &Report<'_>) {
    let noted: Vec<&Entry> =
        report.entries.iter().filter(|entry| entry.acknowledged.is_some() || !entry.note.is_empty()).collect();
    if noted.is_empty() {
        book.heading("Nobody acknowledged an entry in this time", 0.0);
        return;
    }
    book.heading("Acknowledged", 3.0 * ROW);
    let columns = [
        ("begin", 66.0, false),
        ("what", 120.0, false),
        ("cause", 90.0, false),
        ("by", 60.0, false),
        ("at", 66.0, false),
        ("note", 113.0, false),
    ];
    let rows: Vec<Vec<String>> = noted
        .iter()
        .map(|entry| {
            let (by, at) = entry.acknowledged.as_ref().map_or_else(Default::default, |one| (one.by.clone(), report.at(one.at)));
            vec![
                report.at(entry.start),
                format!("{} {}", entry.kind.word(), entry.subject()),
                entry.cause.map_or_else(String::new, |cause| cause.to_string()),
                by,
                at,
                entry.note.clone(),
            ]
        })
        .collect();
    table(book, &columns, &rows);
}

fn definitions(book: &mut Book) {
    book.heading("What the figures mean", 40.0);
    for text in [
        "Dropout: a time in which no new picture that can be shown came for longer than three declared frame periods and 400 ms; \
         stutter below 1 s, freeze from 1 s while the session lives, outage while it does not; also a picture frozen at the \
         source, and a stream that is locked or never gave a picture. It is counted where it begins, and its length within \
         this time.",
        "Availability: share of the time in which streams were measured and meant to be there, without dropout. Two streams of \
         a camera that were measured at once count twice. Mean time between dropouts: measured time with pictures by their \
         number; mean time to return: their mean length.",
        "Latency: capture to the furthest station that pictures reached. Of each reading the median and the 95th percentile of \
         10 s are taken; the median of the medians and the 95th percentile of the 95th percentiles stand here. The first 15 s of \
         a stream, and times in which this machine was too slow, do not count.",
        "Clock: how far the camera's clock was ahead of this machine's at most (behind where it is negative), and how far that \
         may be off.",
    ] {
        book.paragraph(text, 7.0);
    }
}
