//! The screen: header, the page that is shown, what stands in front of it, footer.
//!
//! ```text
//!  site                     2 steady  1 strained  1 lost                    14:02:31   header
//!  ▛▀▀        ▀▀▜                                                                      picture
//!  ▙▄▄        ▄▄▟
//!  • Slipway north  S 640×360  12.5/12.5  41 ms c  0 lost                              plate
//!  no dropouts                                     ▇▇▇▇▇▇▇▇▇▇▇▇▇                       pulse
//!  14:01:12 Car lane 2: no picture for 3.2 s ...        enter enlarge  ? help          footer
//! ```

use super::app::App;
use super::app::regions::regions;
use super::page::{Change, Watched};
use super::theme::{Theme, Tone};
use super::widgets::frame;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The least terminal that a wall fits in.
pub const LEAST: (u16, u16) = (60, 16);

/// The least without header and footer.
pub const LEAST_BARE: (u16, u16) = (24, 8);

/// The streams that must be decoded, with where each is shown; also those that a tile changes to.
pub fn watched(app: &App) -> Vec<Watched> {
    app.page().map(|page| page.watched(app, app.body())).unwrap_or_default()
}

/// Draws everything; gives the streams whose picture is on the screen.
pub fn draw(app: &App, theme: Theme, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
    let drawn = draw_page(app, theme, painters, buf);
    make_harmless(buf, buf.area);
    drawn
}

/// Draws what shows these streams over what was drawn last; gives where that was. `None` where all must be drawn.
pub fn draw_changed(
    app: &App,
    theme: Theme,
    changed: &[(FeedKey, Change)],
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Option<Vec<Rect>> {
    let page = app.page().filter(|_| needs(app).is_none() && app.unseen.is_none())?;
    let parts = page.draw_changed(app, theme, changed, painters, buf)?;
    for part in &parts {
        make_harmless(buf, *part);
    }
    Some(parts)
}

/// Whatever devices, files and people wrote: nothing of it steers the terminal, or turns the order of its letters.
fn make_harmless(buf: &mut Buffer, area: Rect) {
    let steers =
        |c: char| c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    let area = area.intersection(buf.area);
    if area.is_empty() {
        return;
    }
    for y in area.top()..area.bottom() {
        let at = buf.index_of(area.x, y);
        let cells = &mut buf.content[at..at + usize::from(area.width)];
        for cell in cells.iter_mut().filter(|cell| cell.symbol().chars().any(steers)) {
            let plain: String = cell.symbol().chars().filter(|c| !steers(*c)).collect();
            cell.set_symbol(if plain.is_empty() { " " } else { &plain });
        }
    }
}

fn draw_page(app: &App, theme: Theme, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
    buf.set_style(buf.area, theme.ground());
    if let Some(least) = needs(app) {
        too_small(app.area, least, theme, buf);
        return Vec::new();
    }
    let regions = regions(app);
    frame::header(app, theme, regions.header, buf);
    frame::footer(app, theme, regions.footer, buf);
    let drawn = app.page().map(|page| page.draw(app, theme, app.body(), painters, buf)).unwrap_or_default();
    for front in app.fronts() {
        front.draw(app, theme, regions.body, painters, buf);
    }
    if let Some(text) = &app.unseen {
        let lines = [text.clone(), "any key takes this away".to_owned()];
        super::widgets::tile::message(theme, Tone::Alarm, &lines, regions.body, buf);
    }
    drawn
}

/// The least size, where the terminal is smaller.
fn needs(app: &App) -> Option<(u16, u16)> {
    let least = if app.bare && app.is_on_wall() { LEAST_BARE } else { LEAST };
    (app.area.width < least.0 || app.area.height < least.1).then_some(least)
}

fn too_small(area: Rect, (width, height): (u16, u16), theme: Theme, buf: &mut Buffer) {
    let lines = vec![
        Line::from(format!("This terminal has {} × {} cells.", area.width, area.height)),
        Line::from(format!("The wall needs {width} × {height}: make it larger. Measuring goes on. q leaves.")),
    ];
    Paragraph::new(lines).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
}
