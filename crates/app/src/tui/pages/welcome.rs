//! The three ways in, while there is no camera.

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::page::{Key, Keyed, Page, WELCOME, common, key};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::inner;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The page.
#[derive(Debug, Default)]
pub struct Welcome;

impl Keyed for Welcome {
    const NAME: &'static str = WELCOME;
    const KEYS: &'static [Key<Self>] = &[
        key("d", "the demo: a made-up port with cameras to find", |_, app| app.quit_to_demo()).hint("demo"),
        help::everything(),
        help::key(),
        common("q ctrl-c", "leave", Some("quit"), |_, app| app.quit()),
    ];
}

impl Page for Welcome {
    fn draw(&self, _: &App, theme: Theme, body: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let area = inner(body);
        let line = |key: &'static str, what: &'static str| {
            Line::from(vec![
                Span::styled(format!("  {key:<6}"), theme.tone(Tone::Here)),
                Span::styled(what, theme.tone(Tone::Text)),
            ])
        };
        let lines = vec![
            Line::styled("No camera yet. Three ways in:", theme.tone(Tone::Bright)),
            Line::default(),
            line("f", "find the cameras on this network"),
            line("paste", "an address or a list of them, anywhere; or type one with  a"),
            line("d", "the demo: a made-up port with cameras to find"),
            Line::default(),
            Line::styled("A camera's address alone is enough: it is asked for its streams.", theme.tone(Tone::Calm)),
        ];
        let height = lines.len() as u16;
        let place = Rect { y: area.y + area.height.saturating_sub(height) / 3, ..area };
        Paragraph::new(lines).wrap(Wrap { trim: false }).render(place.intersection(area), buf);
        Vec::new()
    }

    /// A camera came in another way: by the site file, say.
    fn goes_on(&mut self, app: &mut App) {
        if app.cameras_there().next().is_some() {
            app.show_wall();
        }
    }
}
