//! Memory that two processes see.

use memmap2::{MmapOptions, MmapRaw};
use rustix::fs::{MemfdFlags, SealFlags, fcntl_add_seals, fstat, ftruncate, memfd_create};
use std::io;
use std::os::fd::{AsFd, OwnedFd};

/// A stretch of memory without a name, shared with one decoder process. Its size is sealed: whoever has it cannot take pages away
/// under the other's feet.
#[derive(Debug)]
pub(crate) struct Region(MmapRaw);

impl Region {
    /// So many bytes of zeros, and what gives them to another process.
    ///
    /// # Errors
    /// When the system has no memory or no descriptor left.
    pub fn new(bytes: usize) -> io::Result<(Self, OwnedFd)> {
        let file = memfd_create("amber-lattice", MemfdFlags::CLOEXEC | MemfdFlags::ALLOW_SEALING)?;
        ftruncate(&file, bytes as u64)?;
        fcntl_add_seals(&file, SealFlags::SHRINK | SealFlags::GROW | SealFlags::SEAL)?;
        let map = MmapOptions::new().len(bytes).map_raw(&file)?;
        Ok((Self(map), file))
    }

    /// The same memory in the other process.
    ///
    /// # Errors
    /// When there are fewer bytes than that, or the system has no room for them.
    pub fn open(file: &impl AsFd, bytes: usize) -> io::Result<Self> {
        if u64::try_from(fstat(file)?.st_size).unwrap_or(0) < bytes as u64 {
            return Err(io::Error::from(io::ErrorKind::UnexpectedEof));
        }
        Ok(Self(MmapOptions::new().len(bytes).map_raw(&file.as_fd())?))
    }

    /// How many bytes it has.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Its first bytes; fewer where it has not so many.
    pub fn bytes(&self, count: usize) -> &[u8] {
        // SAFETY: the mapping lives as long as `self`, and its size is sealed. Any bytes are valid; a process that goes on writing
        // what it was to hand over changes what is seen in the picture, and nothing else depends on them.
        unsafe { std::slice::from_raw_parts(self.0.as_ptr(), count.min(self.len())) }
    }

    /// Puts bytes there; false where they do not fit.
    pub fn put(&mut self, at: usize, bytes: &[u8]) -> bool {
        if at.checked_add(bytes.len()).is_none_or(|end| end > self.len()) {
            return false;
        }
        // SAFETY: the range lies within the mapping, which nobody else in this process writes (`&mut self`).
        unsafe { std::ptr::copy_nonoverlapping(bytes.as_ptr(), self.0.as_mut_ptr().add(at), bytes.len()) };
        true
    }

    /// Its first bytes, to be written; `None` where it has not so many.
    pub fn bytes_mut(&mut self, count: usize) -> Option<&mut [u8]> {
        if count > self.len() {
            return None;
        }
        // SAFETY: within the mapping, and nobody else in this process has it (`&mut self`). The other process reads it once it is
        // told that it is done.
        Some(unsafe { std::slice::from_raw_parts_mut(self.0.as_mut_ptr(), count) })
    }
}
