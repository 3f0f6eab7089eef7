//! The bytes of a picture: our own, or in memory that a decoder process wrote.

use std::ops::Deref;
#[cfg(target_os = "linux")]
use {crate::process::Region, std::sync::Arc};

/// Red, green, blue, a byte each. Cheap to clone where they lie in shared memory, which stays as long as they do.
#[derive(Clone)]
pub struct Pixels(Kept);

#[derive(Clone)]
enum Kept {
    Own(Vec<u8>),
    #[cfg(target_os = "linux")]
    Shared(Arc<Region>, usize),
}

impl Pixels {
    /// The first bytes of a region.
    #[cfg(target_os = "linux")]
    pub(crate) const fn shared(region: Arc<Region>, bytes: usize) -> Self {
        Self(Kept::Shared(region, bytes))
    }
}

impl From<Vec<u8>> for Pixels {
    fn from(bytes: Vec<u8>) -> Self {
        Self(Kept::Own(bytes))
    }
}

impl FromIterator<u8> for Pixels {
    fn from_iter<I: IntoIterator<Item = u8>>(bytes: I) -> Self {
        bytes.into_iter().collect::<Vec<u8>>().into()
    }
}

impl Deref for Pixels {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        match &self.0 {
            Kept::Own(bytes) => bytes,
            #[cfg(target_os = "linux")]
            Kept::Shared(region, bytes) => region.bytes(*bytes),
        }
    }
}

impl PartialEq for Pixels {
    fn eq(&self, other: &Self) -> bool {
        **self == **other
    }
}

impl Eq for Pixels {}

impl std::fmt::Debug for Pixels {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} bytes", self.len())
    }
}
