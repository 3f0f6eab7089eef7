//! The streams of a camera.

/// Which of a camera's streams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Role {
    /// The largest.
    Main,
    /// The light one.
    Sub,
    /// One more.
    Third,
}

impl Role {
    /// Every role, the largest first.
    pub const ALL: [Self; 3] = [Self::Main, Self::Sub, Self::Third];

    /// Its word in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Sub => "sub",
            Self::Third => "third",
        }
    }

    /// Its letter on a plate.
    #[must_use]
    pub const fn letter(self) -> char {
        match self {
            Self::Main => 'M',
            Self::Sub => 'S',
            Self::Third => 'T',
        }
    }

    /// The role with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.word() == word)
    }
}
