use std::fmt;

/// A value that never shows itself: `Debug` and `Display` print `***`.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret<T>(T);

impl<T> Secret<T> {
    /// Hides a value.
    pub const fn new(value: T) -> Self {
        Self(value)
    }

    /// The value, for the one place that must send it.
    pub const fn reveal(&self) -> &T {
        &self.0
    }
}

impl<T> fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

impl<T> fmt::Display for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_prints_as_stars() {
        let secret = Secret::new("lantern");
        assert_eq!(format!("{secret} {secret:?}"), "*** ***");
    }
}
