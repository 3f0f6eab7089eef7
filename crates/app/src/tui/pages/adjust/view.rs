//! How adjusting is drawn: the picture, the settings with their values, and how its levels are spread.

use super::AdjustPage;
use crate::tui::app::App;
use crate::tui::app::sights::lies_in;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::{plate, tile};
use lattice_core::adjust::{Setting, Tones, presets};
use lattice_core::lattice::Aspect;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// Columns beside the picture.
const BESIDE: u16 = 36;
/// Columns of a setting's name,
const NAME: u16 = 18;
/// and of its value.
const VALUE: u16 = 5;
/// Rows of each histogram.
const HISTOGRAM: u16 = 5;
/// Rows under the picture: its plate, and what is done to it.
const BELOW: u16 = 2;
/// From this share of the pixels on it is said that levels are clipped.
const CLIPPED: f32 = 0.01;
const LEVELS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// Where the picture stands: beside the settings where there is room for both, else above them.
pub fn picture(body: Rect) -> Rect {
    if body.width >= 80 {
        Rect { width: body.width - BESIDE, height: body.height.saturating_sub(BELOW), ..body }
    } else {
        Rect { height: body.height.saturating_sub(BELOW + Setting::ALL.len() as u16 + 1), ..body }
    }
}

fn settings(body: Rect) -> Rect {
    let rows = Setting::ALL.len() as u16;
    if body.width >= 80 {
        Rect { x: body.right() - BESIDE + 2, y: body.y + 1, width: BESIDE - 3, height: rows.min(body.height.saturating_sub(1)) }
    } else {
        Rect { y: body.bottom().saturating_sub(rows), height: rows.min(body.height), ..body }
    }
}

/// The setting whose row this is.
pub fn setting_at(body: Rect, at: Position) -> Option<usize> {
    let place = settings(body);
    let row = usize::from(at.y.saturating_sub(place.y));
    (place.contains(at) && row < Setting::ALL.len()).then_some(row)
}

/// Where the bar of a setting stands.
fn bar(place: Rect) -> Rect {
    Rect { x: place.x + NAME, width: place.width.saturating_sub(NAME + VALUE), ..place }
}

/// The value that a setting has at a column of its bar.
pub fn value_at(body: Rect, setting: Setting, at: Position) -> Option<i16> {
    let bar = bar(settings(body));
    if bar.width < 2 || at.x < bar.x || at.x >= bar.right() {
        return None;
    }
    let (least, most) = setting.range();
    let share = f64::from(at.x - bar.x) / f64::from(bar.width - 1);
    Some((f64::from(least) + share * f64::from(most - least)).round() as i16)
}

/// Draws the page; whether the picture is on the screen.
pub fn draw(
    app: &App,
    page: &AdjustPage,
    theme: Theme,
    key: FeedKey,
    body: Rect,
    painter: &mut TilePainter,
    buf: &mut Buffer,
) -> bool {
    let place = picture(body);
    let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
    if page.split && drawn {
        let source = app.pictures.get(&key).map_or((16, 9), |picture| picture.source);
        let lies = lies_in(place, source, app.cell_aspect);
        let top = Rect { height: 1.min(lies.height), ..lies };
        tile::sign(theme, Tone::Calm, " as it comes ", Rect { x: lies.x + 1, ..top }, buf);
        let right = Rect { x: lies.x + lies.width / 2 + 1, width: lies.width / 2, ..top };
        tile::sign(theme, Tone::Here, " adjusted ", right, buf);
    }
    let name = app.stream_name(key);
    let below = Rect { y: place.bottom(), height: 1, ..place };
    plate::draw(app, theme, plate::Subject { key, name: &name, tile: None, selected: true }, below, buf);
    let line = Rect { y: below.y + 1, ..below };
    let (told, tone) = if page.adjust.is_off() {
        ("shown as it comes".to_owned(), Tone::Faint)
    } else {
        (format!("adjusted here, not at the camera: {}", page.adjust), Tone::Bright)
    };
    Line::styled(plate::cut(&told, usize::from(line.width)), theme.tone(tone)).render(line, buf);
    let place = settings(body);
    for (row, setting) in (0..).zip(Setting::ALL).take(usize::from(place.height)) {
        draw_setting(page, theme, setting, Rect { y: place.y + row, height: 1, ..place }, buf);
    }
    if body.width >= 80 {
        let under = Rect { y: place.bottom() + 1, height: body.bottom().saturating_sub(place.bottom() + 1), ..place };
        draw_under(app, page, theme, under, buf);
    }
    drawn
}

fn draw_setting(page: &AdjustPage, theme: Theme, setting: Setting, place: Rect, buf: &mut Buffer) {
    let here = Setting::ALL[page.selected] == setting;
    let value = page.adjust.get(setting);
    let sign = if here { "▸ " } else { "  " };
    let tone = match (here, value != 0) {
        (true, _) => Tone::Here,
        (false, true) => Tone::Bright,
        (false, false) => Tone::Calm,
    };
    Line::styled(format!("{sign}{}", setting.name()), theme.tone(tone)).render(Rect { width: NAME, ..place }, buf);
    let bar = bar(place);
    let (least, most) = setting.range();
    let text = match (setting.is_switch(), least < 0) {
        (true, _) => if value != 0 { "on" } else { "off" }.to_owned(),
        (false, true) => format!("{value:+}"),
        (false, false) => value.to_string(),
    };
    if !setting.is_switch() && bar.width > 2 {
        let share = |value: i16| f64::from(value - least) / f64::from(most - least) * f64::from(bar.width - 1);
        let (zero, now) = (share(0).round() as u16, share(value).round() as u16);
        let cells = (0..bar.width).map(|x| match x {
            _ if x == now => Span::styled("●", theme.tone(tone)),
            _ if x > zero.min(now) && x < zero.max(now) => Span::styled("━", theme.tone(tone)),
            _ if x == zero => Span::styled("┼", theme.tone(Tone::Faint)),
            _ => Span::styled("─", theme.tone(Tone::Faint)),
        });
        cells.collect::<Line<'_>>().render(bar, buf);
    }
    Line::styled(format!("{text:>4}"), theme.tone(tone)).render(Rect { x: bar.right(), width: VALUE, ..place }, buf);
}

/// What the selected setting does, how the levels are spread, what it costs, and the presets.
fn draw_under(app: &App, page: &AdjustPage, theme: Theme, area: Rect, buf: &mut Buffer) {
    let mut row = area.y;
    let mut next = |rows: u16| {
        let place = Rect { y: row, height: rows, ..area }.intersection(area);
        row += rows;
        place
    };
    let setting = Setting::ALL[page.selected];
    Paragraph::new(setting.told()).style(theme.tone(Tone::Faint)).wrap(Wrap { trim: true }).render(next(2), buf);
    next(1);
    if let Some(toned) = &app.tones {
        let both = if page.adjust.is_off() {
            vec![("levels", &toned.before)]
        } else {
            vec![("levels before", &toned.before), ("and now", &toned.after)]
        };
        for (title, tones) in both {
            Line::styled(format!("{title}: {}", clipped(tones)), theme.tone(clipped_tone(tones))).render(next(1), buf);
            histogram(theme, tones, next(HISTOGRAM), buf);
        }
        if !page.adjust.is_off() {
            let micros = toned.took.as_secs_f64() * 1e3;
            Line::styled(format!("takes {micros:.2} ms a picture"), theme.tone(Tone::Calm)).render(next(1), buf);
        }
        next(1);
    }
    let own = app.site.presets.iter().map(|preset| preset.name.clone());
    let names: Vec<String> = presets().into_iter().map(|preset| preset.name).chain(own).collect();
    let text = format!("presets (p): {}", names.join(", "));
    let left = next(area.height);
    // What cannot be read to its end is no list: the key stays.
    let fits = textwrap::wrap(&text, usize::from(left.width.max(1))).len() <= usize::from(left.height);
    let text = if fits { text } else { format!("presets (p): {}", names.len()) };
    Paragraph::new(text).style(theme.tone(Tone::Faint)).wrap(Wrap { trim: true }).render(left, buf);
}

fn clipped_tone(tones: &Tones) -> Tone {
    if tones.black.max(tones.white) >= CLIPPED { Tone::Bright } else { Tone::Calm }
}

/// What of the picture is clipped, in words.
fn clipped(tones: &Tones) -> String {
    let part = |share: f32, what: &str| (share >= CLIPPED).then(|| format!("{:.0} % {what}", share * 100.0));
    let parts: Vec<String> =
        [part(tones.black, "clipped black"), part(tones.white, "clipped white")].into_iter().flatten().collect();
    if parts.is_empty() { "nothing clipped".into() } else { parts.join(", ") }
}

/// Columns from black to white, as high as their share of the pixels: by its root, so that small shares are seen beside large ones.
fn histogram(theme: Theme, tones: &Tones, area: Rect, buf: &mut Buffer) {
    if area.width == 0 || area.height == 0 || tones.shares.is_empty() {
        return;
    }
    let columns = usize::from(area.width).min(tones.shares.len());
    let shares: Vec<f32> = (0..columns)
        .map(|column| {
            let (from, to) = (column * tones.shares.len() / columns, (column + 1) * tones.shares.len() / columns);
            tones.shares[from..to.max(from + 1)].iter().sum::<f32>().sqrt()
        })
        .collect();
    let most = shares.iter().copied().fold(f32::MIN_POSITIVE, f32::max);
    for (x, share) in (0u16..).zip(&shares) {
        let eighths = (share / most * f32::from(area.height * 8)).round() as u16;
        let end = x == 0 || usize::from(x) + 1 == columns;
        let tone = if end && clipped_tone(tones) == Tone::Bright { Tone::Bright } else { Tone::Calm };
        for row in 0..area.height {
            let here = eighths.saturating_sub(row * 8).min(8);
            buf.set_string(area.x + x, area.bottom() - 1 - row, LEVELS[usize::from(here)], theme.tone(tone));
        }
    }
}
