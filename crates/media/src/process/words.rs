//! What a process that decodes and the one that started it say to each other: one message a datagram, and memory that is shared.

use crate::bench::{Head, Looks, Said};
use crate::wanted::{MOST_PRINTS, Print};
use lattice_core::Mono;
use nix::sys::socket::{ControlMessage, ControlMessageOwned, MsgFlags, recvmsg, sendmsg};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::io::{self, IoSlice, IoSliceMut};
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::time::Duration;

/// Longest message. A glance has 1,300 cells of 4 bytes; of anything else there is much less.
const LONGEST: usize = 64 << 10;
/// Memory handed over with one order: for units, each print, a still.
pub(crate) const REGIONS_AN_ORDER: usize = 2 + MOST_PRINTS;

/// What holds in a process that decodes; each was tried by it, not only asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[allow(clippy::struct_excessive_bools, reason = "each holds or not, by itself")]
pub struct Confinement {
    /// It can open no file.
    pub no_files: bool,
    /// It can open no socket.
    pub no_network: bool,
    /// The kernel lets it make only the calls that decoding needs (seccomp).
    pub few_calls: bool,
    /// The kernel's rules for files and ports hold as well (Landlock).
    pub landlock: bool,
    /// Bytes of address space that it may have; `None` where it may have any.
    pub memory: Option<u64>,
}

/// Units to be decoded, of one stream.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct Order {
    pub lane: u64,
    pub prints: Vec<Print>,
    pub looks: Looks,
    /// Where each unit's bytes lie in the memory for units.
    pub units: Vec<(Head, usize, usize)>,
    /// The memory for each print, and for a still.
    pub canvases: Vec<u32>,
    pub still: Option<u32>,
    /// The asker's clock, and the system's at that moment: what is said is stamped by the asker's.
    pub clocks: (Mono, Duration),
    /// Memory that comes with this order, by number and size; number 0 holds units.
    pub regions: Vec<(u32, usize)>,
    /// Memory that is used no more.
    pub gone: Vec<u32>,
    /// Streams that are served no more.
    pub forgotten: Vec<u64>,
}

/// What comes of one unit.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum Answer {
    /// It is ready, and this is what holds it.
    Ready(Confinement),
    /// A unit is done.
    Unit(Vec<Said>),
    /// The decoder of this unit panicked.
    Panicked,
}

/// Sends one message.
///
/// # Errors
/// When the other side is gone, or the message is too long.
pub(crate) fn send(socket: &OwnedFd, message: &impl Serialize, files: &[OwnedFd]) -> io::Result<()> {
    let bytes = postcard::to_allocvec(message).map_err(io::Error::other)?;
    let files: Vec<i32> = files.iter().map(AsRawFd::as_raw_fd).collect();
    let rights = [ControlMessage::ScmRights(&files)];
    let control: &[ControlMessage<'_>] = if files.is_empty() { &[] } else { &rights };
    loop {
        match sendmsg::<()>(socket.as_raw_fd(), &[IoSlice::new(&bytes)], control, MsgFlags::MSG_NOSIGNAL, None) {
            Err(nix::errno::Errno::EINTR) => {}
            Err(error) => return Err(error.into()),
            Ok(_) => return Ok(()),
        }
    }
}

/// Takes the next message, into a buffer that is kept; `None` when the other side is gone.
///
/// # Errors
/// [`io::ErrorKind::WouldBlock`] when the socket's time is up; [`io::ErrorKind::InvalidData`] when it is no message.
pub(crate) fn receive<T: DeserializeOwned>(socket: &OwnedFd, buffer: &mut Vec<u8>) -> io::Result<Option<(T, Vec<OwnedFd>)>> {
    buffer.resize(LONGEST, 0);
    let mut control = nix::cmsg_space!([i32; REGIONS_AN_ORDER]);
    let (count, files) = {
        let mut parts = [IoSliceMut::new(buffer)];
        let got = recvmsg::<()>(socket.as_raw_fd(), &mut parts, Some(&mut control), MsgFlags::MSG_CMSG_CLOEXEC)?;
        let mut files = Vec::new();
        for message in got.cmsgs()? {
            if let ControlMessageOwned::ScmRights(numbers) = message {
                // SAFETY: the kernel just opened these for us, and nobody else has their numbers.
                files.extend(numbers.into_iter().map(|number| unsafe { OwnedFd::from_raw_fd(number) }));
            }
        }
        (got.bytes, files)
    };
    if count == 0 {
        return Ok(None);
    }
    let message = postcard::from_bytes(buffer.get(..count).unwrap_or_default())
        .map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
    Ok(Some((message, files)))
}
