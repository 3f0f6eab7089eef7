//! The line of figures under a picture. As it gets narrow it shortens and sheds fields in a fixed order; verdict and name stay
//! to the last, and the four figures of the job stand from 38 cells on.

use crate::tui::app::{App, Tile};
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::sound;
use lattice_core::check::phrase_of;
use lattice_core::meter::{Dropout, Figures, Spread};
use lattice_core::plan::{Reason, Short};
use lattice_core::view::View;
use lattice_core::{Cause, Mono, Verdict};
use lattice_engine::{FeedKey, short_words};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::time::Duration;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

/// A field of a plate, in the forms that it can take, the longest first.
struct Field {
    forms: Vec<String>,
    tone: Tone,
    rank: Rank,
}

/// What a field is to the operator, the first the dearest: those at the end are shortened and left out first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Rank {
    /// The sign of the verdict.
    Sign,
    /// The name: it stays, as much of it as there is room for.
    Name,
    /// What is wrong, or is being done.
    Trouble,
    /// Frame rate, latency, dropouts, resolution: the four figures of the job; then the cause and the next try.
    Figure(u8),
    /// The letter of the stream.
    Stream,
    /// Whether it has sound, and how loud that is.
    Sound,
    /// What is worth knowing beside.
    Beside(u8),
}

fn field(rank: Rank, tone: Tone, text: impl Into<String>) -> Field {
    Field { forms: vec![text.into()], tone, rank }
}

fn forms<const N: usize>(rank: Rank, tone: Tone, forms: [String; N]) -> Field {
    Field { forms: Vec::from(forms), tone, rank }
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
    let (fields, wide) = fit(fields(app, subject, area.width), usize::from(area.width));
    let mut spans = Vec::new();
    for (n, (text, tone)) in fields.into_iter().enumerate() {
        let gap = match n {
            0 => "",
            1 => " ",
            _ if wide => "  ",
            _ => " ",
        };
        spans.push(Span::raw(gap));
        spans.push(Span::styled(text, theme.tone(tone)));
    }
    Line::from(spans).render(area, buf);
}

/// From this width on the four figures stand, and the name is cut for them,
const FIGURES_FROM: usize = 38;
/// to no less than this.
const SHORTEST_NAME: usize = 6;
/// A plate below this width says one rate where the two agree.
const BOTH_RATES_FROM: u16 = 80;
/// The rank of the cause: it goes once the name is as short as it may be,
const CAUSE: u8 = 4;
/// and that of the next try: it goes before the name is cut.
const NEXT: u8 = 5;

/// What stands on a plate of this width, and whether two cells stand between its fields: what is dear stays longest. First goes
/// what is beside the point, then figures take shorter forms, then the gaps do, then the name, and only then figures go.
fn fit(mut fields: Vec<Field>, width: usize) -> (Vec<(String, Tone)>, bool) {
    let mut wide = true;
    let is_name = |field: &Field| field.rank == Rank::Name;
    let is_cause = |field: &Field| field.rank == Rank::Figure(CAUSE);
    let whole = fields.iter().find(|field| is_name(field)).map(|field| field.forms[0].clone()).unwrap_or_default();
    let taken = |fields: &[Field], wide: bool| {
        let gaps = fields.len().saturating_sub(1) + if wide { fields.len().saturating_sub(2) } else { 0 };
        gaps + fields.iter().map(|field| field.forms[0].width()).sum::<usize>()
    };
    let name_to = |fields: &mut [Field], room: usize| {
        if let Some(name) = fields.iter_mut().find(|field| is_name(field)) {
            name.forms[0] = cut_name(&whole, room);
        }
    };
    while taken(&fields, wide) > width {
        let over = taken(&fields, wide) - width;
        let last = |may: &dyn Fn(&Field) -> bool| (0..fields.len()).filter(|n| may(&fields[*n])).max_by_key(|n| fields[*n].rank);
        let name = fields.iter().find(|field| is_name(field)).map_or(0, |field| field.forms[0].width());
        if let Some(n) = last(&|field| matches!(field.rank, Rank::Beside(_))) {
            fields.remove(n);
        } else if let Some(n) = last(&|field| field.forms.len() > 1) {
            fields[n].forms.remove(0);
        } else if wide {
            wide = false;
        } else if let Some(n) = last(&|field| matches!(field.rank, Rank::Figure(NEXT..))) {
            fields.remove(n);
        } else if let Some(n) = last(&|field| field.rank == Rank::Stream).filter(|_| fields.iter().any(is_cause)) {
            fields.remove(n); // the resolution tells it too, and nothing else tells the cause
        } else if width >= FIGURES_FROM && name > SHORTEST_NAME {
            name_to(&mut fields, SHORTEST_NAME.max(name.saturating_sub(over)));
        } else if let Some(n) = last(&is_cause) {
            fields.remove(n);
        } else if let Some(n) = last(&|field| !matches!(field.rank, Rank::Sign | Rank::Name)) {
            fields.remove(n);
        } else {
            name_to(&mut fields, name.saturating_sub(over));
            break;
        }
    }
    // What is free once something went is the name's.
    let free = width.saturating_sub(taken(&fields, wide));
    let name = fields.iter().find(|field| is_name(field)).map_or(0, |field| field.forms[0].width());
    if name < whole.width() {
        name_to(&mut fields, name + free);
    }
    (fields.into_iter().map(|field| (field.forms.into_iter().next().unwrap_or_default(), field.tone)).collect(), wide)
}

/// A text of so many cells, with a sign where something is missing of it.
pub fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let mut out = String::new();
    for letter in text.chars() {
        if out.width() + letter.width().unwrap_or(0) + 1 > width {
            break;
        }
        out.push(letter);
    }
    format!("{}…", out.trim_end())
}

/// A name of so many cells. Many names differ by their last word only, as "Car lane 4": a short one stays.
pub fn cut_name(name: &str, width: usize) -> String {
    let end = name.rsplit(' ').next().filter(|end| name.width() > width && end.len() < 4 && end.len() + 4 < width);
    match end {
        Some(end) => format!("{}{end}", cut(name, width - end.width())),
        None => cut(name, width),
    }
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
    let mut out = vec![field(Rank::Sign, tone, sign(verdict))];
    let still = figures.and_then(|figures| figures.still);
    out.extend(still.map(|_| field(Rank::Trouble, Tone::Bright, "still")));
    out.push(field(Rank::Name, name_tone, name));
    out.extend(still.map(|every| field(Rank::Trouble, Tone::Bright, still_age(app, key, every, width))));
    out.extend(tile.into_iter().flat_map(|tile| stream(app, tile)));
    out.extend(tile.and_then(|tile| seen(app, tile)));
    let own_trouble = matches!(verdict, Verdict::Lost | Verdict::Locked | Verdict::Stalled);
    if tile.is_some_and(|tile| tile.keyframes) && !own_trouble {
        out.push(field(Rank::Beside(0), Tone::Bright, "keyframes only"));
    } else if let Some(short) = tile.and_then(|tile| tile.short).filter(|_| !own_trouble) {
        // Figures of what is received come before it: the tile says it too.
        let received = short == Short::Decoding;
        out.push(field(if received { Rank::Beside(0) } else { Rank::Trouble }, Tone::Bright, short_words(short)));
        if !received {
            return out;
        }
    }
    out.extend(reported(app, key));
    let Some(figures) = figures else { return out };
    out.extend(heard(figures, app.hearing.cameras.get(&key.camera).is_some_and(|heard| heard.stream == Some(key))));
    out.extend(trouble(figures, app.now).into_iter().map(|(rank, forms)| Field { forms, tone, rank }));
    // A stream of a codec not known here gives no picture, but figures all the same.
    let drawn = tile.is_none_or(|tile| tile.short.is_none());
    let measures = matches!(verdict, Verdict::Steady | Verdict::Strained) || figures.cause == Some(Cause::UnknownCodec);
    if measures {
        out.extend(measured(figures, drawn, app.now, width));
    } else if let Some((width, height)) = figures.size {
        out.push(field(Rank::Beside(1), Tone::Faint, format!("{width}×{height}")));
    }
    if verdict == Verdict::Steady {
        out.push(field(Rank::Beside(2), Tone::Faint, verdict.to_string()));
    }
    // How much of it is really seen, where it is looked at closely.
    let close = tile.filter(|tile| app.enlarged && tile.place == app.selected);
    if let Some(painted) = close.and_then(|tile| app.painting.painted.get(tile.place).copied().flatten()) {
        let ((width, height), by) = (painted.pixels, painted.by);
        out.push(field(Rank::Beside(1), Tone::Faint, format!("{width}×{height} of it by {by}")));
    }
    if measures && drawn {
        out.extend(details(figures).into_iter().zip(3..).map(|(text, rank)| field(Rank::Beside(rank), Tone::Faint, text)));
    }
    out
}

/// What the camera reports itself, the newest of it.
fn reported(app: &App, key: FeedKey) -> Option<Field> {
    let there = app.known.reports.get(app.cameras.name(key.camera))?;
    let (kind, since) = there.iter().max_by_key(|(_, since)| *since)?;
    let word = kind.word().replace('-', " ");
    let others = if there.len() > 1 { format!(" +{}", there.len() - 1) } else { String::new() };
    let long = format!("{word}{others} {}", short_span(app.now.since(*since)));
    Some(forms(Rank::Trouble, Tone::Here, [long, format!("{word}{others}")]))
}

/// Whether it has sound, and how loud that is.
fn heard(figures: &Figures, here: bool) -> Option<Field> {
    Some(Field { forms: sound::forms(&figures.sound, here)?, tone: sound::tone(&figures.sound), rank: Rank::Sound })
}

/// What of the picture is seen, where that is not all of it: how many times larger, and pixels of the source for each that is shown.
fn seen(app: &App, tile: &Tile) -> Option<Field> {
    let scale = app.source_pixels_a_shown_one(tile.place);
    let scale = scale.map_or(String::new(), |scale| format!(" {scale:.1} px/px"));
    let text = match app.view(tile.place) {
        View::Flat(zoom) if zoom.is_whole() => return None,
        View::Flat(zoom) => [format!("×{:.1}{scale}", zoom.times()), format!("×{:.1}", zoom.times())],
        View::Window(_, gaze) => {
            let [pan, tilt, _, across] = gaze.in_degrees();
            [format!("{pan:+.0}° {tilt:+.0}° of {across:.0}°{scale}"), format!("{pan:+.0}°")]
        }
        View::Strip(_, gaze) => [format!("all around, {:+.0}°", gaze.in_degrees()[0]), "360°".to_owned()],
    };
    Some(forms(Rank::Trouble, Tone::Here, text))
}

/// The stream by its letter, in brackets where the operator holds it; what it changes to; a hold that is impossible.
fn stream(app: &App, tile: &Tile) -> Vec<Field> {
    let hold = app.hold(tile.place);
    let shown = tile.role.letter();
    let letter = if hold == Some(tile.role) { format!("[{shown}]") } else { shown.to_string() };
    let mut out = match tile.switching {
        Some(role) => {
            let arrow = format!("{letter}→{}", role.letter());
            vec![forms(Rank::Trouble, Tone::Here, [format!("{arrow} switching"), arrow])]
        }
        None => vec![field(Rank::Stream, Tone::Calm, letter)],
    };
    let choice = app.plan.choice(app.viewer, tile.place).map(|choice| choice.reason);
    if let Some(Reason::HoldImpossible(role, short)) = choice {
        out.push(field(Rank::Trouble, Tone::Bright, format!("[{}] held, {}", role.letter(), short.phrase())));
    } else if let Some(role) = hold.filter(|role| *role != tile.role && tile.switching != Some(*role)) {
        out.push(field(Rank::Trouble, Tone::Bright, format!("[{}] held, not to be had now", role.letter())));
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

/// Resolution, frame rate, latency, loss where there is some, dropouts.
fn measured(figures: &Figures, drawn: bool, now: Mono, width: u16) -> Vec<Field> {
    let mut out = Vec::new();
    if let Some((width, height)) = figures.size {
        out.push(forms(Rank::Figure(3), Tone::Calm, [format!("{width}×{height}"), format!("{height}p")]));
    }
    out.push(rates(figures, width));
    // To the screen there is none of what is not drawn.
    out.push(match figures.latency.filter(|_| drawn) {
        Some(latency) => {
            let basis = if latency.basis.is_whole() { "" } else { "+" };
            let ms = latency.total.p50.as_millis();
            let short = if ms < 1000 { format!("{basis}{ms} ms") } else { format!("{basis}{:.1} s", ms as f64 / 1e3) };
            let long = format!("{:>4} ms {}", format!("{basis}{ms}"), latency.basis.letter());
            forms(Rank::Figure(1), Tone::Calm, [long, short])
        }
        None => forms(Rank::Figure(1), Tone::Calm, ["   – ms  ".into(), "– ms".into()]),
    });
    let (lost, recent) = (figures.packets.lost, figures.recent_loss.unwrap_or(0.0));
    if recent > 0.0 {
        out.push(field(Rank::Beside(0), Tone::Bright, format!("{:.1} % lost", recent * 100.0)));
    } else if lost > 0 {
        out.push(field(Rank::Beside(1), Tone::Calm, format!("{lost} lost")));
    }
    out.extend(dropouts(figures, now));
    out
}

/// Sent and declared frame rate; one of them where both say the same.
fn rates(figures: &Figures, width: u16) -> Field {
    let declared = figures.declared.map(lattice_core::FrameRate::per_second);
    let text = |rate: Option<f64>, none: &str| rate.map_or_else(|| none.to_owned(), |rate| format!("{rate:.1}"));
    let (sent, said) = (text(figures.sent, "…"), text(declared, "–"));
    let both = format!("{sent:>4}/{said:<4}");
    if declared.is_none() || sent == said {
        let one = format!("{sent:>4}");
        return if width < BOTH_RATES_FROM {
            forms(Rank::Figure(0), Tone::Calm, [one, sent])
        } else {
            forms(Rank::Figure(0), Tone::Calm, [both, sent])
        };
    }
    let whole = said.strip_suffix(".0").unwrap_or(&said);
    let (short, shorter) = (format!("{sent}/{said}"), format!("{sent}/{whole}"));
    forms(Rank::Figure(0), Tone::Calm, [both, short, shorter])
}

/// Dropouts of the last hour, or of the time since it was opened, and how long ago the last one ended; the one that runs counts.
fn dropouts(figures: &Figures, now: Mono) -> Option<Field> {
    let watched = now.since(figures.milestones.first_packet?);
    let span = watched.min(HOUR);
    let ended = |dropout: &Dropout| now.since(dropout.start).saturating_sub(dropout.length);
    let lately = figures.dropouts.iter().rev().take_while(|dropout| ended(dropout) <= HOUR).count();
    let count = lately + usize::from(figures.dropout_now.is_some());
    let (long, short) = match span.as_secs() {
        3600.. => ("in 1 h".to_owned(), "in 1 h".to_owned()),
        60.. => (format!("in {} min", span.as_secs() / 60), format!("in {}m", span.as_secs() / 60)),
        // A number that counts seconds would be the only thing that moves on a quiet wall.
        _ => ("so far".to_owned(), "in <1m".to_owned()),
    };
    let tone = if count > 0 { Tone::Bright } else { Tone::Calm };
    let words = match count {
        0 => "no dropouts".to_owned(),
        1 => "1 dropout".to_owned(),
        count => format!("{count} dropouts"),
    };
    let since = figures.dropouts.last().filter(|_| figures.dropout_now.is_none() && lately > 0).map(ended);
    let since = since.map_or_else(String::new, |since| format!(", last {} ago", short_span(since)));
    let tiny = format!("{count} {short}");
    let brief = if span.as_secs() < 60 { tiny.clone() } else { format!("{count} {long}{since}") };
    Some(forms(Rank::Figure(2), tone, [format!("{words} {long}{since}"), brief, tiny]))
}

/// A span in its largest unit, whole.
pub fn short_span(span: Duration) -> String {
    match span.as_secs() {
        3600.. => format!("{} h", span.as_secs() / 3600),
        60.. => format!("{} min", span.as_secs() / 60),
        seconds => format!("{seconds} s"),
    }
}

const HOUR: Duration = Duration::from_secs(3600);

/// What is wrong and since when, why, and what comes next, each with its place in shedding and its forms.
fn trouble(figures: &Figures, now: Mono) -> Vec<(Rank, Vec<String>)> {
    if figures.verdict == Verdict::Steady {
        return Vec::new();
    }
    let since = figures.dropout_now.map(|dropout| dropout.length + now.since(figures.at));
    let since = since.map_or(String::new(), |since| format!(" {:.0} s", since.as_secs_f64().floor()));
    // Of a stream that has figures they come before the word, which its sign says as well.
    let rank = if figures.verdict == Verdict::Strained { Rank::Beside(0) } else { Rank::Trouble };
    let mut out = vec![(rank, vec![format!("{}{since}", figures.verdict)])];
    if let Some(cause) = figures.cause {
        let phrase = phrase_of(cause, figures.seen).to_owned();
        // What this machine makes of it, where that is what falls short.
        let ours = match cause {
            Cause::TerminalSlow => Some("terminal slow"),
            Cause::MachineSlow => Some("machine slow"),
            _ => None,
        };
        let shown = ours
            .zip(figures.shown)
            .map(|(short, shown)| vec![format!("{phrase}  shown {shown:.1}/s"), format!("{short}, shown {shown:.1}/s")]);
        // Its one or two words, where a sentence has no room.
        let word = cause.word().trim_end_matches("-picture").replace('-', " ");
        let short = (word.len() < phrase.len()).then_some(word);
        out.push((Rank::Figure(CAUSE), shown.unwrap_or_else(|| [Some(phrase), short].into_iter().flatten().collect())));
    }
    out.extend(
        figures
            .next_try
            .map(|next| (Rank::Figure(NEXT), vec![format!("next try in {:.0} s", next.since(now).as_secs_f64().ceil())])),
    );
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::sound::{SoundReading, SoundState};

    fn line(fields: Vec<Field>, width: usize) -> String {
        let (fields, wide) = fit(fields, width);
        let gap = if wide { "  " } else { " " };
        let mut out = String::new();
        for (n, (text, _)) in fields.iter().enumerate() {
            out += ["", " "].get(n).copied().unwrap_or(gap);
            out += text;
        }
        out
    }

    fn plate(figures: &Figures, name: &str, width: u16) -> Vec<Field> {
        let mut out =
            vec![field(Rank::Sign, Tone::Calm, "•"), field(Rank::Name, Tone::Calm, name), field(Rank::Stream, Tone::Calm, "S")];
        out.extend(heard(figures, false));
        out.extend(trouble(figures, figures.at).into_iter().map(|(rank, forms)| Field { forms, tone: Tone::Calm, rank }));
        out.extend(measured(figures, true, figures.at, width));
        out.push(field(Rank::Beside(2), Tone::Faint, "steady"));
        out.extend(details(figures).into_iter().zip(3..).map(|(text, rank)| field(Rank::Beside(rank), Tone::Faint, text)));
        out
    }

    fn figures(sent: f64, millis: u64, dropouts: usize, verdict: Verdict) -> Figures {
        let spread = Spread { p50: Duration::from_millis(millis), p95: Duration::from_millis(millis + 20) };
        let at = Mono::from_millis(9_000_000);
        let dropout = Dropout {
            start: Mono::from_millis(8_700_000),
            length: Duration::from_secs(2),
            kind: lattice_core::meter::DropoutKind::Freeze,
            frames_missed: None,
            cause: None,
            packets_lost: 0,
            media: None,
        };
        Figures {
            at,
            verdict,
            cause: (verdict == Verdict::Strained).then_some(Cause::Late),
            size: Some((1920, 1080)),
            declared: lattice_core::FrameRate::new(25.0),
            sent: Some(sent),
            latency: Some(lattice_core::meter::Latency {
                basis: lattice_core::meter::LatencyBasis::Clock,
                error: None,
                total: spread,
                path: spread,
                buffer: spread,
                decode: None,
                draw: None,
            }),
            milestones: lattice_core::meter::Milestones { first_packet: Some(Mono::ZERO), ..Default::default() },
            dropouts: vec![dropout; dropouts],
            ..Figures::default()
        }
    }

    #[test]
    fn the_four_figures_stand_from_38_cells_on_and_nothing_is_wider_than_its_plate() {
        for (sent, millis, dropouts, verdict) in [
            (25.0, 41, 0, Verdict::Steady),
            (25.0, 1_340, 12, Verdict::Strained),
            (8.1, 230, 3, Verdict::Strained),
            (25.0, 999, 140, Verdict::Steady),
        ] {
            let figures = figures(sent, millis, dropouts, verdict);
            for name in ["Gate", "Lock gate upper", "Ticket hall, counter 3, left"] {
                let mut most = 0;
                for width in 8..=160 {
                    let text = line(plate(&figures, name, width as u16), width);
                    assert!(text.width() <= width, "{width}: {text:?}");
                    assert!(text.starts_with("• "), "{text:?}");
                    let start: String = name.chars().take(4).collect();
                    assert!(width < 10 || text.contains(&start), "{width}: {text:?}");
                    let rate = format!("{sent:.1}");
                    let latency = if millis < 1000 { format!("{millis} ms") } else { "1.3 s".into() };
                    let shown = [rate.as_str(), &latency, &format!("{dropouts} in 1 h"), "1080p"];
                    let long = [&rate, &format!("{millis} ms"), "in 1 h", "1920×1080"];
                    let has =
                        shown.iter().zip(long).filter(|(short, long)| text.contains(**short) || text.contains(*long)).count();
                    assert!(width < 38 || has == 4, "{width}: {text:?} has {has} of {shown:?}");
                    assert!(has >= most, "{width}: {text:?} has fewer figures than a narrower one");
                    most = has;
                }
            }
        }
        let text = line(plate(&figures(25.0, 41, 2, Verdict::Steady), "Lock gate upper", 38), 38);
        assert_eq!(text, "• Lock ga… S 1080p 25.0 41 ms 2 in 1 h");
        let dark = Figures { cause: Some(Cause::DarkPicture), ..figures(25.0, 32, 0, Verdict::Strained) };
        assert_eq!(line(plate(&dark, "Lock house", 40), 40), "• Lock h… dark 1080p 25.0 32 ms 0 in 1 h");
        assert_eq!(
            line(plate(&figures(25.0, 41, 2, Verdict::Steady), "Car lane 4", 38), 38),
            "• Car la…4 S 1080p 25.0 41 ms 2 in 1 h"
        );
        // A level in one cell has room beside all of them, and an own word where there is more.
        let level = lattice_core::sound::Level { peak: -9.0, rms: -23.0 };
        let sound = SoundReading { state: SoundState::On, levels: vec![level], ..SoundReading::default() };
        let heard = Figures { sound, ..figures(25.0, 41, 2, Verdict::Steady) };
        assert_eq!(line(plate(&heard, "Lock gate upper", 38), 38), "• Lock… S ▅ 1080p 25.0 41 ms 2 in 1 h");
        let text = line(plate(&heard, "Lock gate upper", 110), 110);
        assert!(text.starts_with("• Lock gate upper  S  ♪ ━━━━━·┃· -23 dB  1920×1080"), "{text}");
        let text = line(plate(&figures(8.1, 41, 0, Verdict::Steady), "Lock gate upper", 80), 80);
        assert_eq!(text, "• Lock gate upper  S  1920×1080   8.1/25.0    41 ms c  no dropouts in 1 h");
    }
}
