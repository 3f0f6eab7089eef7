//! The faults that the selected stand-in camera of the demo can have.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::panel;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _};

/// The key, what is shown and what is ordered.
pub const FAULTS: [(char, &str, &str); 14] = [
    ('1', "cut the session for 4 s", "cut 4"),
    ('2', "stall: send nothing for 3 s", "stall 3"),
    ('3', "drop 5 % of packets for 15 s", "loss 5 15"),
    ('4', "delay by 120 to 200 ms for 20 s", "delay 120 80 20"),
    ('5', "slow to 40 % of the frame rate for 20 s", "slow 40 20"),
    ('6', "freeze the picture for 30 s", "freeze 30"),
    ('7', "cover the lens for 20 s", "cover 20"),
    ('8', "night mode for 40 s", "night 40"),
    ('9', "a link of 250 kbit/s for 20 s", "throttle 250 20"),
    ('m', "its device reports motion for 10 s", "motion 10"),
    ('t', "its device reports tampering for 10 s", "tampering 10"),
    ('i', "a digital input of its device for 10 s", "digital-input 10"),
    ('s', "a shout into its microphone for 5 s", "shout 5"),
    ('h', "no sound for 40 s", "hush 40"),
];

/// The list.
#[derive(Debug)]
pub struct Faults;

impl Keyed for Faults {
    const NAME: &'static str = "Faults";
    const KEYS: &'static [Key<Self>] = &[
        key("1", "", |_, app| order(app, 0)),
        key("2", "", |_, app| order(app, 1)),
        key("3", "", |_, app| order(app, 2)),
        key("4", "", |_, app| order(app, 3)),
        key("5", "", |_, app| order(app, 4)),
        key("6", "", |_, app| order(app, 5)),
        key("7", "", |_, app| order(app, 6)),
        key("8", "", |_, app| order(app, 7)),
        key("9", "", |_, app| order(app, 8)),
        key("m", "", |_, app| order(app, 9)),
        key("t", "", |_, app| order(app, 10)),
        key("i", "", |_, app| order(app, 11)),
        key("s", "", |_, app| order(app, 12)),
        key("h", "", |_, app| order(app, 13)),
        back("esc f q", "back to the wall", None),
        leave(),
    ];
}

fn order(app: &mut App, number: usize) {
    app.back();
    if let Some(((_, text, order), tile)) = FAULTS.get(number).zip(app.selected_tile().copied()) {
        let name = app.name(&tile).to_owned();
        app.say(Tone::Text, format!("ordered for {name}: {text}"));
        app.order_fault(name, order);
    }
}

impl Page for Faults {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let name = app.selected_tile().map_or("", |tile| app.name(tile));
        let mut lines = vec![Line::styled(format!("Order a fault from {name}"), theme.tone(Tone::Bright)), Line::default()];
        for (letter, text, _) in FAULTS {
            lines.push(Line::from(vec![
                Span::styled(format!("{letter}  "), theme.tone(Tone::Here)),
                Span::styled(text, theme.tone(Tone::Text)),
            ]));
        }
        lines.extend([Line::default(), Line::styled("esc back", theme.tone(Tone::Faint))]);
        let inner = panel(theme, app.area, 50, lines.len() as u16 + 2, buf);
        Paragraph::new(lines).render(inner, buf);
        Vec::new()
    }
}
