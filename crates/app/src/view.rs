//! What is drawn where. Views take the state and an area and write cells; only painters keep
//! something (what they have on the screen), and are passed apart.
//!
//! ```text
//!  site                     2 steady  1 strained  1 lost                    14:02:31   header
//!  ▛▀▀        ▀▀▜                                                                      picture
//!  ▙▄▄        ▄▄▟
//!  • Slipway north  S 640×360  12.5/12.5  41 ms c  0 lost                              plate
//!  no dropouts                                     ▇▇▇▇▇▇▇▇▇▇▇▇▇                       pulse
//!  14:01:12 Car lane 2: no picture for 3.2 s ...        enter enlarge  ? help          footer
//! ```

mod bench;
mod chart;
mod desk;
mod flash;
mod frame;
mod layouts;
mod overlay;
mod picker;
mod plan;
mod plate;
mod pulse;
pub mod regions;
mod stream;
mod tile;

pub use bench::{CHARTS, panes};
pub use desk::{port_of, sorts_by};
use lattice_engine::Drawing;
pub use layouts::layout_at;
pub use picker::pick_row_at;
pub use regions::regions;
pub use stream::STREAM_CHARTS;

use crate::app::{App, FeedKey, Overlay};
use crate::desk::{Page, Typing};
use crate::keymap::Context;
use crate::theme::{Theme, Tone};
use lattice_core::lattice::Aspect;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The least terminal that a wall fits in.
pub const LEAST: (u16, u16) = (60, 16);

/// The least without header and footer.
pub const LEAST_BARE: (u16, u16) = (24, 8);

/// A stream that is on the screen.
#[derive(Debug, Clone, Copy)]
pub struct Watched {
    /// The stream.
    pub key: FeedKey,
    /// Its painter: the place of the page, or on the bench.
    pub painter: usize,
    /// Where its picture stands.
    pub area: Rect,
    /// How.
    pub aspect: Aspect,
}

/// The streams that must be decoded, with where each is shown; also those that a tile changes to.
pub fn watched(app: &App) -> Vec<Watched> {
    let regions = regions(app);
    match app.page {
        Page::Wall => regions
            .tiles
            .iter()
            .filter_map(|region| Some((region, app.tile_at(region.tile).filter(|tile| tile.short.is_none())?)))
            .flat_map(|(region, tile)| {
                let aspect = app.placed(region.tile).map(|placed| placed.aspect).unwrap_or_default();
                let keys = [Some(tile.key()), tile.next_key()].into_iter().flatten();
                keys.map(move |key| Watched { key, painter: region.tile, area: region.picture, aspect })
            })
            .collect(),
        Page::Stream => app
            .looked_at()
            .into_iter()
            .zip(stream::pictures(app, regions.body))
            .enumerate()
            .map(|(painter, (key, area))| Watched { key, painter, area, aspect: Aspect::Fit })
            .collect(),
        Page::Flash => app
            .flash
            .key
            .map(|key| Watched { key, painter: 0, area: flash::picture(app, regions.body), aspect: Aspect::Fit })
            .into_iter()
            .collect(),
        Page::Bench => bench::panes(app, regions.body)
            .into_iter()
            .enumerate()
            .map(|(painter, (key, area, _))| Watched { key, painter, area, aspect: Aspect::Fit })
            .collect(),
        _ => Vec::new(),
    }
}

/// Draws everything; gives the streams whose picture is on the screen.
pub fn draw(app: &App, theme: Theme, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
    let drawn = page(app, theme, painters, buf);
    make_harmless(buf);
    drawn
}

/// Whatever devices, files and people wrote: nothing of it steers the terminal, or turns the order of its letters.
fn make_harmless(buf: &mut Buffer) {
    let steers =
        |c: char| c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    for cell in buf.content.iter_mut().filter(|cell| cell.symbol().chars().any(steers)) {
        let plain: String = cell.symbol().chars().filter(|c| !steers(*c)).collect();
        cell.set_symbol(if plain.is_empty() { " " } else { &plain });
    }
}

fn page(app: &App, theme: Theme, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
    let area = app.area;
    buf.set_style(buf.area, theme.ground());
    let least = if app.bare && app.page == Page::Wall { LEAST_BARE } else { LEAST };
    if area.width < least.0 || area.height < least.1 {
        too_small(area, least, theme, buf);
        return Vec::new();
    }
    let regions = regions(app);
    if app.page != Page::Wall {
        frame::header(app, theme, regions.header, buf);
        let drawn = match (app.page, app.flash.key, painters.first_mut()) {
            (Page::Bench, ..) => bench::draw(app, theme, regions.body, painters, buf),
            (Page::Stream, ..) => stream::draw(app, theme, regions.body, painters, buf),
            (Page::Flash, Some(key), Some(painter)) => {
                flash::draw(app, theme, key, regions.body, painter, buf).then_some(key).into_iter().collect()
            }
            _ => {
                desk::draw(app, theme, regions.body, buf);
                Vec::new()
            }
        };
        frame::footer(app, theme, regions.footer, buf);
        in_front(app, theme, buf);
        return drawn;
    }
    frame::header(app, theme, regions.header, buf);
    frame::footer(app, theme, regions.footer, buf);
    if app.cameras_there().next().is_none() && app.tiles.is_empty() {
        desk::empty_wall(theme, regions.body, buf);
        in_front(app, theme, buf);
        return Vec::new();
    }
    let mut drawn = Vec::new();
    for region in &regions.tiles {
        match (app.tile_at(region.tile), painters.get_mut(region.tile)) {
            (None, _) => tile::empty(app, theme, region, buf),
            (Some(tile), Some(painter)) => drawn.extend(tile::draw(app, theme, region, painter, buf).then(|| tile.key())),
            (Some(_), None) => {}
        }
        tile::signs(app, theme, region, buf);
    }
    in_front(app, theme, buf);
    drawn
}

/// The table of the page that is open, for what the mouse points at.
pub fn desk_list(app: &App) -> Option<desk::List> {
    desk::list(app, regions(app).body)
}

fn in_front(app: &App, theme: Theme, buf: &mut Buffer) {
    if let Some(form) = &app.desk.sign_in {
        desk::sign_in(app, form, theme, buf);
    }
    if app.context() == Context::Channels
        && let Some(choice) = app.desk.choosing.first()
    {
        desk::channels(app, choice, theme, buf);
    }
    if let Some((Typing::Key(camera), input)) = &app.desk.typing {
        desk::key(app, camera, input, theme, buf);
    }
    if let Some(judged) = &app.desk.certificate {
        desk::certificate(app, judged, theme, buf);
    }
    if let Some(page) = &app.desk.device
        && let Some(form) = &page.password
    {
        desk::password(app, page, form, theme, buf);
    }
    match app.overlay {
        Overlay::None | Overlay::Numbers(_) | Overlay::Edit(_) => {}
        Overlay::Help(scroll) => overlay::help(app, theme, scroll, buf),
        Overlay::Faults => overlay::faults(app, theme, buf),
        Overlay::Layouts(selected) => layouts::draw(app, theme, selected, buf),
        Overlay::Plan(scroll) => plan::draw(app, theme, scroll, buf),
    }
    picker::draw(app, theme, buf);
}

fn too_small(area: Rect, (width, height): (u16, u16), theme: Theme, buf: &mut Buffer) {
    let lines = vec![
        Line::from(format!("This terminal has {} × {} cells.", area.width, area.height)),
        Line::from(format!("The wall needs {width} × {height}: make it larger. Measuring goes on. q leaves.")),
    ];
    Paragraph::new(lines).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
}

/// The charts of the page that is open, for paper: title, pages; `None` while there are none.
pub fn on_paper(app: &App) -> Option<(String, Drawing)> {
    match app.page {
        Page::Bench => (!app.bench.streams.is_empty()).then(|| bench::charts_on_paper(app)),
        Page::Ledger => Some(desk::lanes_on_paper(app)),
        Page::Flash => flash::on_paper(app),
        _ => Some(stream::charts_on_paper(app, app.stream_page.key?)),
    }
}
