//! Layouts that are there: one or two large places with the rest around, and a strip.

use super::places::{LayoutError, Place, Places};

/// A layout with a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Preset {
    /// One large place on the left, three beside it.
    One3,
    /// One large place, five around its lower right corner.
    One5,
    /// One large place, seven around its lower right corner.
    One7,
    /// One large place, four around its lower right corner, four small ones in that corner.
    One8,
    /// Two large places above, eight below.
    Two8,
    /// One large place in the middle, twelve around it.
    One12,
    /// One large place, fifteen around its lower right corner.
    One15,
    /// A wide strip for a panorama, four below.
    Strip4,
}

const fn place(x: u8, y: u8, width: u8, height: u8) -> Place {
    Place::new(x, y, width, height)
}

/// A large place in the upper left corner, with small ones along the right and the lower edge.
fn corner(large: u8, small: u8) -> Vec<Place> {
    let mut places = vec![place(0, 0, large, large)];
    let count = large / small;
    places.extend((0..count).map(|n| place(large, n * small, small, small)));
    places.extend((0..=count).map(|n| place(n * small, large, small, small)));
    places
}

impl Preset {
    /// Every one, by its number of places.
    pub const ALL: [Self; 8] =
        [Self::One3, Self::Strip4, Self::One5, Self::One7, Self::One8, Self::Two8, Self::One12, Self::One15];

    /// Its word in files.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::One3 => "1+3",
            Self::Strip4 => "strip+4",
            Self::One5 => "1+5",
            Self::One7 => "1+7",
            Self::One8 => "1+8",
            Self::Two8 => "2+8",
            Self::One12 => "1+12",
            Self::One15 => "1+15",
        }
    }

    /// The preset with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|preset| preset.word() == word)
    }

    /// Its places, the large ones first.
    #[must_use]
    pub fn places(self) -> Vec<Place> {
        let grid = |x: u8, y: u8, columns: u8, rows: u8, width: u8, height: u8| {
            (0..rows)
                .flat_map(move |row| (0..columns).map(move |column| place(x + column * width, y + row * height, width, height)))
        };
        match self {
            Self::One3 => [place(0, 0, 9, 12)].into_iter().chain(grid(9, 0, 1, 3, 3, 4)).collect(),
            Self::Strip4 => [place(0, 0, 12, 6)].into_iter().chain(grid(0, 6, 4, 1, 3, 6)).collect(),
            Self::One5 => corner(8, 4),
            Self::One7 => corner(9, 3),
            Self::One8 => {
                let around = [place(0, 0, 8, 8), place(8, 0, 4, 4), place(8, 4, 4, 4), place(0, 8, 4, 4), place(4, 8, 4, 4)];
                around.into_iter().chain(grid(8, 8, 2, 2, 2, 2)).collect()
            }
            Self::Two8 => grid(0, 0, 2, 1, 6, 6).chain(grid(0, 6, 4, 2, 3, 3)).collect(),
            Self::One12 => {
                let mut places = vec![place(3, 3, 6, 6)];
                places.extend(grid(0, 0, 4, 1, 3, 3));
                places.extend([place(0, 3, 3, 3), place(9, 3, 3, 3), place(0, 6, 3, 3), place(9, 6, 3, 3)]);
                places.extend(grid(0, 9, 4, 1, 3, 3));
                places
            }
            Self::One15 => {
                let mut places = vec![place(0, 0, 6, 6)];
                places.extend(grid(6, 0, 3, 3, 2, 2));
                places.extend(grid(0, 6, 3, 2, 4, 3));
                places
            }
        }
    }

    /// Its places as a layout that can be changed by hand.
    ///
    /// # Errors
    /// None that is known: a test proves each preset to be a layout.
    pub fn by_hand(self) -> Result<Places, LayoutError> {
        Places::new(self.places())
    }
}
