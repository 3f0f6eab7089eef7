//! Reading bytes that strangers sent.
//!
//! Every read is checked; nothing here panics or indexes.

/// Fewer bytes were there than the format needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("cut short")]
pub struct Truncated;

/// A cursor over bytes, most significant first.
///
/// ```
/// use lattice_core::wire::{Reader, Truncated};
/// let mut reader = Reader::new(&[1, 2, 3]);
/// assert_eq!(reader.u16(), Ok(0x0102));
/// assert_eq!(reader.u16(), Err(Truncated));
/// ```
#[derive(Debug, Clone, Copy)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// A cursor at the first byte.
    #[must_use]
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// What has not been read yet.
    #[must_use]
    pub const fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// Takes `n` bytes.
    ///
    /// # Errors
    /// [`Truncated`] when fewer are left; then nothing is taken.
    pub fn take(&mut self, n: usize) -> Result<&'a [u8], Truncated> {
        let (head, tail) = self.rest.split_at_checked(n).ok_or(Truncated)?;
        self.rest = tail;
        Ok(head)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Truncated> {
        let (head, tail) = self.rest.split_first_chunk::<N>().ok_or(Truncated)?;
        self.rest = tail;
        Ok(*head)
    }

    /// One byte.
    ///
    /// # Errors
    /// [`Truncated`] at the end.
    pub fn u8(&mut self) -> Result<u8, Truncated> {
        self.array::<1>().map(|[b]| b)
    }

    /// Two bytes.
    ///
    /// # Errors
    /// [`Truncated`] when fewer are left.
    pub fn u16(&mut self) -> Result<u16, Truncated> {
        self.array().map(u16::from_be_bytes)
    }

    /// Four bytes.
    ///
    /// # Errors
    /// [`Truncated`] when fewer are left.
    pub fn u32(&mut self) -> Result<u32, Truncated> {
        self.array().map(u32::from_be_bytes)
    }

    /// Eight bytes.
    ///
    /// # Errors
    /// [`Truncated`] when fewer are left.
    pub fn u64(&mut self) -> Result<u64, Truncated> {
        self.array().map(u64::from_be_bytes)
    }
}
