use std::fmt;

use zeroize::Zeroize;

/// A value that never shows itself: `Debug` and `Display` print `***`.
///
/// Its memory is overwritten when it is dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret<T: Zeroize>(T);

impl<T: Zeroize> Secret<T> {
    /// Hides a value.
    pub const fn new(value: T) -> Self {
        Self(value)
    }

    /// The value, for the one place that must send it.
    pub const fn reveal(&self) -> &T {
        &self.0
    }
}

impl From<String> for Secret<String> {
    fn from(text: String) -> Self {
        Self(text)
    }
}

impl From<&str> for Secret<String> {
    fn from(text: &str) -> Self {
        Self(text.to_owned())
    }
}

impl<T: Zeroize> Drop for Secret<T> {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl<T: Zeroize> fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

impl<T: Zeroize> fmt::Display for Secret<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("***")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_prints_as_stars() {
        let secret = Secret::new("lantern".to_owned());
        assert_eq!(format!("{secret} {secret:?}"), "*** ***");
    }

    #[test]
    fn a_dropped_secret_is_overwritten() {
        use std::sync::atomic::{AtomicBool, Ordering};

        static OVERWRITTEN: AtomicBool = AtomicBool::new(false);
        struct Told;
        impl Zeroize for Told {
            fn zeroize(&mut self) {
                OVERWRITTEN.store(true, Ordering::Relaxed);
            }
        }
        drop(Secret::new(Told));
        assert!(OVERWRITTEN.load(Ordering::Relaxed));
    }
}
