//! The numbers of the tiles: one is typed to go there.

use crate::tui::app::App;
use crate::tui::app::regions::regions;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::tile;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tui_input::Input;

/// Digits that are typed at most.
const DIGITS: usize = 4;

/// What was typed.
#[derive(Debug, Default)]
pub struct Numbers {
    typed: Input,
}

impl Keyed for Numbers {
    const NAME: &'static str = "Tile numbers";
    const KEYS: &'static [Key<Self>] = &[
        key("enter", "go to the tile with the number typed", Self::go).hint("go there"),
        back("esc . q", "back", Some("back")),
        leave(),
    ];
}

impl Numbers {
    fn go(&mut self, app: &mut App) {
        app.back();
        let typed = self.typed.value();
        let number = typed.parse::<usize>().ok().and_then(|number| number.checked_sub(1));
        let (places, pages) = (app.lattices.shown().places(), app.lattices.shown().pages());
        match number.filter(|number| *number < places * pages) {
            Some(number) => {
                app.lattices.turn(number / places);
                (app.selected, app.same_tiles_since) = (number % places, app.now);
            }
            None if typed.is_empty() => {}
            None => app.say(Tone::Text, format!("there is no tile {typed} in this lattice")),
        }
    }
}

impl Page for Numbers {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        for region in &regions(app).tiles {
            let text = (app.tile_number(region.tile) + 1).to_string();
            let typed = self.typed.value();
            let tone = if !typed.is_empty() && text.starts_with(typed) { Tone::Here } else { Tone::Bright };
            let name = app.placed(region.tile).map_or("empty", |placed| placed.camera.as_str());
            tile::message(theme, tone, &[text, name.to_owned()], region.picture, buf);
        }
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.typed)
    }

    fn typed(&mut self, _: &mut App) {
        self.typed = Input::new(self.typed.value().chars().filter(char::is_ascii_digit).take(DIGITS).collect());
    }
}
