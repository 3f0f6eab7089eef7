//! The line of figures under a picture. As it gets narrow it sheds fields in a fixed order; verdict
//! and name stay to the last.

use crate::tui::app::{App, Tile};
use crate::tui::theme::{Theme, Tone, sign};
use lattice_core::check::phrase_of;
use lattice_core::meter::{Figures, Spread};
use lattice_core::plan::{Reason, Short};
use lattice_core::{Cause, Mono, Verdict};
use lattice_engine::{FeedKey, short_words};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::time::Duration;
use unicode_width::UnicodeWidthStr as _;

/// A field; the highest number is shed first.
struct Field {
    text: String,
    tone: Tone,
    shed: u8,
}

const fn field(shed: u8, tone: Tone, text: String) -> Field {
    Field { text, tone, shed }
}

/// What a plate stands under.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    /// The stream.
    pub key: FeedKey,
    /// What it is called.
    pub name: &'a str,
    /// The tile, on the wall.
    pub tile: Option<&'a Tile>,
    /// It is the selected one.
    pub selected: bool,
}

/// Draws a plate.
pub fn draw(app: &App, theme: Theme, subject: Subject<'_>, area: Rect, buf: &mut Buffer) {
    let fields = shed(fields(app, subject, area.width), area.width);
    let mut spans = Vec::new();
    for (n, field) in fields.into_iter().enumerate() {
        let gap = match n {
            0 => "",
            1 => " ",
            _ => "  ",
        };
        spans.push(Span::raw(gap));
        spans.push(Span::styled(field.text, theme.tone(field.tone)));
    }
    Line::from(spans).render(area, buf);
}

fn shed(mut fields: Vec<Field>, width: u16) -> Vec<Field> {
    let total = |fields: &[Field]| fields.iter().map(|field| field.text.width() + 2).sum::<usize>().saturating_sub(3);
    while total(&fields) > usize::from(width) {
        let Some(first_to_go) = (0..fields.len()).filter(|n| fields[*n].shed > 0).max_by_key(|n| fields[*n].shed) else { break };
        fields.remove(first_to_go);
    }
    fields
}

fn fields(app: &App, Subject { key, name, tile, selected }: Subject<'_>, width: u16) -> Vec<Field> {
    let figures = app.figures.get(&key);
    let verdict = figures.map_or(Verdict::Waiting, |figures| figures.verdict);
    let tone = Theme::verdict(verdict);
    let name_tone = match (selected, verdict) {
        (true, _) => Tone::Here,
        (false, Verdict::Steady) => Tone::Calm,
        (false, _) => tone,
    };
    let mut out = vec![field(0, tone, sign(verdict).into())];
    let still = figures.and_then(|figures| figures.still);
    out.extend(still.map(|_| field(0, Tone::Bright, "still".into())));
    out.push(field(0, name_tone, name.into()));
    out.extend(still.map(|every| field(1, Tone::Bright, still_age(app, key, every, width))));
    out.extend(tile.into_iter().flat_map(|tile| stream(app, tile)));
    let own_trouble = matches!(verdict, Verdict::Lost | Verdict::Locked | Verdict::Stalled);
    if tile.is_some_and(|tile| tile.keyframes) && !own_trouble {
        out.push(field(8, Tone::Bright, "keyframes only".into()));
    } else if let Some(short) = tile.and_then(|tile| tile.short).filter(|_| !own_trouble) {
        // Figures of what is received come before it: the tile says it too.
        let received = short == Short::Decoding;
        out.push(field(if received { 8 } else { 2 }, Tone::Bright, short_words(short)));
        if !received {
            return out;
        }
    }
    let Some(figures) = figures else { return out };
    out.extend(trouble(figures, app.now).into_iter().map(|(shed, text)| field(shed, tone, text)));
    // A stream of a codec not known here gives no picture, but figures all the same.
    let drawn = tile.is_none_or(|tile| tile.short.is_none());
    let measures = matches!(verdict, Verdict::Steady | Verdict::Strained) || figures.cause == Some(Cause::UnknownCodec);
    if measures {
        out.extend(measured(figures, drawn));
    } else if let Some((width, height)) = figures.size {
        out.push(field(8, Tone::Faint, format!("{width}×{height}")));
    }
    if verdict == Verdict::Steady {
        out.push(field(9, Tone::Faint, verdict.to_string()));
    }
    // How much of it is really seen, where it is looked at closely.
    let close = tile.filter(|tile| app.enlarged && tile.place == app.selected);
    if let Some(painted) = close.and_then(|tile| app.painting.painted.get(tile.place).copied().flatten()) {
        let ((width, height), by) = (painted.pixels, painted.by);
        out.push(field(8, Tone::Faint, format!("{width}×{height} of it by {by}")));
    }
    if measures && drawn {
        out.extend(details(figures).into_iter().zip(10..).map(|(text, shed)| field(shed, Tone::Faint, text)));
    }
    out
}

/// The stream by its letter, in brackets where the operator holds it; what it changes to; a hold that is impossible.
fn stream(app: &App, tile: &Tile) -> Vec<Field> {
    let hold = app.hold(tile.place);
    let shown = tile.role.letter();
    let letter = if hold == Some(tile.role) { format!("[{shown}]") } else { shown.to_string() };
    let mut out = match tile.switching {
        Some(role) => vec![field(1, Tone::Here, format!("{letter}→{} switching", role.letter()))],
        None => vec![field(1, Tone::Calm, letter)],
    };
    let choice = app.plan.choice(app.viewer, tile.place).map(|choice| choice.reason);
    if let Some(Reason::HoldImpossible(role, short)) = choice {
        out.push(field(2, Tone::Bright, format!("[{}] held, {} is short", role.letter(), short.word())));
    } else if let Some(role) = hold.filter(|role| *role != tile.role && tile.switching != Some(*role)) {
        out.push(field(2, Tone::Bright, format!("[{}] held, not to be had now", role.letter())));
    }
    out
}

/// How old a still is, and how often the next one comes, so that it never passes for live; where there
/// is little room, as is / should be, like the frame rate.
fn still_age(app: &App, key: FeedKey, every: Duration, width: u16) -> String {
    let every = every.as_secs_f64();
    let picture = app.pictures.get(&key);
    let Some(age) = picture.map(|picture| app.now.since(picture.ready).as_secs_f64().floor()) else {
        return format!("every {every} s");
    };
    if width < 60 { format!("{age}/{every} s old") } else { format!("{age} s old, every {every} s") }
}

/// What a wide plate, as of an enlarged tile, says besides; the first stay longest.
fn details(figures: &Figures) -> Vec<String> {
    let mut out = Vec::new();
    if let Some(latency) = figures.latency {
        let error = latency.error.map_or(String::new(), |error| format!(" ±{}", error.as_millis().max(1)));
        out.push(format!("p95 {} ms{error}", latency.total.p95.as_millis()));
    }
    out.extend(figures.shown.map(|shown| format!("shown {shown:.1}")));
    out.extend(figures.bitrate_10s.map(|bitrate| format!("{:.0} kbit/s", bitrate.kilo())));
    out.extend(figures.latency.map(|latency| {
        let ms = |spread: Option<Spread>| spread.map_or_else(|| "–".into(), |spread| spread.p50.as_millis().to_string());
        let (path, buffer) = (ms(Some(latency.path)), ms(Some(latency.buffer)));
        format!("path {path} buffer {buffer} decode {} draw {} ms", ms(latency.decode), ms(latency.draw))
    }));
    out.extend(figures.jitter.map(|jitter| format!("jitter {:.1} ms", jitter.as_secs_f64() * 1e3)));
    out.extend(figures.transport.map(|transport| transport.word().to_owned()));
    out
}

fn measured(figures: &Figures, drawn: bool) -> Vec<Field> {
    let mut out = Vec::new();
    if let Some((width, height)) = figures.size {
        out.push(field(7, Tone::Calm, format!("{width}×{height}")));
    }
    let rate = |rate: Option<f64>| rate.map_or_else(|| "–".to_owned(), |rate| format!("{rate:.1}"));
    let declared = figures.declared.map(lattice_core::FrameRate::per_second);
    out.push(field(4, Tone::Calm, format!("{:>4}/{:<4}", rate(figures.sent), rate(declared))));
    // To the screen there is none of what is not drawn.
    let latency = figures.latency.filter(|_| drawn).map(|latency| {
        let basis = if latency.basis.is_whole() { ' ' } else { '+' };
        format!("{basis}{:>3} ms {}", latency.total.p50.as_millis(), latency.basis.letter())
    });
    out.push(field(5, Tone::Calm, latency.unwrap_or_else(|| " – ms".into())));
    let lost = figures.packets.lost;
    let recent = figures.recent_loss.unwrap_or(0.0);
    let lost_tone = if recent > 0.0 { Tone::Bright } else { Tone::Calm };
    let text = if recent > 0.0 { format!("{lost} lost ({:.1} %)", recent * 100.0) } else { format!("{lost} lost") };
    out.push(field(6, lost_tone, text));
    out
}

/// What is wrong and since when, why, and what comes next, each with its place in shedding.
fn trouble(figures: &Figures, now: Mono) -> Vec<(u8, String)> {
    if figures.verdict == Verdict::Steady {
        return Vec::new();
    }
    let since = figures.dropout_now.map(|dropout| dropout.length + now.since(figures.at));
    let since = since.map_or(String::new(), |since| format!(" {:.0} s", since.as_secs_f64().floor()));
    let mut out = vec![(2, format!("{}{since}", figures.verdict))];
    out.extend(figures.cause.map(|cause| (3, phrase_of(cause, figures.seen).to_owned())));
    // What this machine makes of it, where that is what falls short.
    let ours = matches!(figures.cause, Some(Cause::TerminalSlow | Cause::MachineSlow));
    out.extend(figures.shown.filter(|_| ours).map(|shown| (4, format!("shown {shown:.1}/s"))));
    out.extend(figures.next_try.map(|next| (5, format!("next try in {:.0} s", next.since(now).as_secs_f64().ceil()))));
    out
}
