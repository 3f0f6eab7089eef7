//! Pictures and text on terminals: what a terminal can, its answers, painting in cells and in pixels, and what of the screen
//! must be written.
//!
//! A [`TilePainter`] paints one tile into a buffer of cells; a [`Display`] holds what is on the terminal beside what should be
//! and writes the difference, text first and pictures as fast as they are taken. [`Screen`] takes the terminal and gives it
//! back. Not here: what is shown, and why.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod ability;
mod answers;
mod beside;
mod cells;
mod colours;
mod display;
mod image;
pub mod kitty;
mod line;
mod painter;
mod screen;
mod sixel;
pub mod tmux;

pub use ability::{Ability, Paint, PixelWay};
pub use answers::{Answer, Sieve};
pub use beside::Beside;
pub use cells::{CellPainter, QUADRANTS_FROM};
pub use colours::{ColourDepth, reduce, rgb_of};
pub use display::{Display, InPixels, Shown};
pub use image::Image;
pub use line::to_stdin;
pub use painter::{Freshness, Look, Painted, Pixels, TilePainter};
pub use screen::{Asking, Before, Input, Screen, ScreenError, area, cell_aspect, questions, read_input, tell_releases};
pub use tmux::Tmux;
