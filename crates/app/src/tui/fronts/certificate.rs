//! A certificate that is not trusted, for the operator to judge.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::form;
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_store::site::CertificateTrust;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::Line;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// The form.
#[derive(Debug)]
pub struct Certificate {
    /// The camera's name.
    pub camera: String,
    /// SHA-256 of it, in hexadecimal.
    pub fingerprint: String,
    /// Why it is not trusted.
    pub why: String,
}

impl Certificate {
    fn trust(&self, app: &mut App, trust: CertificateTrust) {
        app.back();
        app.order(Errand::Trust(self.camera.clone(), trust));
    }

    fn pin(&mut self, app: &mut App) {
        self.trust(app, CertificateTrust::Pinned(self.fingerprint.clone()));
    }
}

impl Keyed for Certificate {
    const NAME: &'static str = "Certificate";
    const KEYS: &'static [Key<Self>] = &[
        key("p", "trust this certificate, and no other from this camera", Self::pin).hint("pin it"),
        key("o", "do not verify the certificate of this camera", |form: &mut Self, app| form.trust(app, CertificateTrust::Off))
            .hint("do not verify"),
        back("esc", "not now", Some("cancel")),
        leave(),
    ];
}

impl Page for Certificate {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let inner = form(app, theme, 76, 14, buf);
        let lines = vec![
            Line::styled(format!("The certificate of {}", self.camera), theme.tone(Tone::Bright)),
            Line::default(),
            Line::styled(self.why.clone(), theme.tone(Tone::Text)),
            Line::default(),
            Line::styled(
                "Cameras often show certificates that no authority has signed. Compare the digits with those on the camera's own page, then pin it: from then on only this one is taken.",
                theme.tone(Tone::Calm),
            ),
            Line::styled("Without verifying, anyone on the way could answer in its place.", theme.tone(Tone::Faint)),
        ];
        Paragraph::new(lines).wrap(Wrap { trim: true }).render(inner, buf);
        Vec::new()
    }
}
