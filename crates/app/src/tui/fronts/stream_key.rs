//! The key of a camera's encrypted streams is typed. It is never drawn.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{form, typed};
use lattice_core::Secret;
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::Widget as _;
use tui_input::Input;

/// The form.
pub struct StreamKey {
    camera: String,
    input: Input,
}

impl StreamKey {
    /// An empty form for a camera of the site.
    pub fn new(camera: String) -> Self {
        Self { camera, input: Input::default() }
    }

    fn end(&mut self, app: &mut App) {
        app.back();
        app.order(Errand::Key(self.camera.clone(), Secret::new(self.input.value().trim().to_owned())));
    }
}

impl Keyed for StreamKey {
    const NAME: &'static str = "Key of a stream";
    const KEYS: &'static [Key<Self>] =
        &[key("enter", "keep it", Self::end).hint("done"), back("esc", "leave it as it was", Some("cancel")), leave()];
}

impl Page for StreamKey {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let inner = form(app, theme, 72, 9, buf);
        let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
        Line::styled(format!("Key of the encrypted streams of {}", self.camera), theme.tone(Tone::Bright)).render(row(0), buf);
        typed(theme, "key", &"•".repeat(self.input.value().chars().count()), self.input.cursor(), row(2), buf);
        let notes = [
            "Master key and salt, as the sender has them: 30 bytes in Base64 (40 signs) or",
            "hexadecimal (60 digits); 46 bytes for AES-256.",
            "Kept apart from the site file, for you alone to read.",
        ];
        for (n, note) in (4..).zip(notes) {
            Line::styled(note, theme.tone(Tone::Faint)).render(row(n), buf);
        }
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.input)
    }
}
