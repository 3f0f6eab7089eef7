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

mod desk;
mod frame;
mod overlay;
mod plate;
mod pulse;
pub mod regions;
mod tile;

pub use regions::regions;

use crate::app::{App, Overlay};
use crate::desk::Page;
use crate::paint::CellPainter;
use crate::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The least terminal that a wall fits in.
pub const LEAST: (u16, u16) = (60, 16);

/// Draws everything; gives the tiles whose picture is on the screen.
pub fn draw(app: &App, theme: Theme, painters: &mut [CellPainter], buf: &mut Buffer) -> Vec<usize> {
    let area = app.area;
    buf.set_style(area, theme.ground());
    if area.width < LEAST.0 || area.height < LEAST.1 {
        too_small(area, theme, buf);
        return Vec::new();
    }
    let regions = regions(app);
    if app.page != Page::Wall {
        frame::header(app, theme, regions.header, buf);
        desk::draw(app, theme, regions.body, buf);
        frame::footer(app, theme, regions.footer, buf);
        in_front(app, theme, buf);
        return Vec::new();
    }
    frame::header(app, theme, regions.header, buf);
    frame::footer(app, theme, regions.footer, buf);
    if regions.tiles.is_empty() {
        desk::empty_wall(theme, regions.body, buf);
    }
    let mut drawn = Vec::new();
    for region in &regions.tiles {
        if let Some(painter) = painters.get_mut(region.tile)
            && tile::draw(app, theme, region, painter, buf)
        {
            drawn.push(region.tile);
        }
    }
    in_front(app, theme, buf);
    drawn
}

fn in_front(app: &App, theme: Theme, buf: &mut Buffer) {
    if let Some(form) = &app.desk.sign_in {
        desk::sign_in(app, form, theme, buf);
    }
    if let Some(page) = &app.desk.device
        && let Some(form) = &page.password
    {
        desk::password(app, page, form, theme, buf);
    }
    match app.overlay {
        Overlay::None => {}
        Overlay::Help(scroll) => overlay::help(app, theme, scroll, buf),
        Overlay::Faults => overlay::faults(app, theme, buf),
    }
}

fn too_small(area: Rect, theme: Theme, buf: &mut Buffer) {
    let (width, height) = LEAST;
    let lines = vec![
        Line::from(format!("This terminal has {} × {} cells.", area.width, area.height)),
        Line::from(format!("The wall needs {width} × {height}: make it larger. Measuring goes on. q leaves.")),
    ];
    Paragraph::new(lines).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
}
