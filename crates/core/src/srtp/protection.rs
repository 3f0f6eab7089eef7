//! How the packets of a stream are protected, and both ways through that.

use super::{MasterKey, NotAuthentic, Srtp};
use crate::Secret;
use std::borrow::Cow;

/// How packets are protected.
#[derive(Debug)]
pub enum Protection {
    /// Not at all.
    None,
    /// By a key that is known.
    Srtp(Box<Srtp>),
    /// By a key that is not known.
    Unknown,
}

impl Protection {
    /// By the key that the operator gave, or else the one that the description brings. What was given as encrypted is read only so,
    /// whatever the description says: who answers may be another.
    #[must_use]
    pub fn agreed(given: Option<&MasterKey>, secure: bool, crypto: &[Secret<String>]) -> Self {
        let described = || crypto.iter().find_map(|line| MasterKey::from_description(line.reveal()));
        match given.cloned().or_else(|| described().filter(|_| secure)) {
            Some(key) => Self::Srtp(Box::new(Srtp::new(&key))),
            None if secure => Self::Unknown,
            None => Self::None,
        }
    }

    /// Whether packets cannot be read, for want of a key.
    #[must_use]
    pub const fn is_unknown(&self) -> bool {
        matches!(self, Self::Unknown)
    }

    /// An RTP packet as it is read; under an unknown key only its head can be.
    ///
    /// # Errors
    /// [`NotAuthentic`].
    pub fn open<'a>(&mut self, packet: &'a [u8]) -> Result<Cow<'a, [u8]>, NotAuthentic> {
        match self {
            Self::Srtp(srtp) => srtp.unprotect(packet).map(Cow::Owned),
            Self::None | Self::Unknown => Ok(Cow::Borrowed(packet)),
        }
    }

    /// An RTCP compound as it is read; `None` under an unknown key.
    ///
    /// # Errors
    /// [`NotAuthentic`].
    pub fn open_rtcp<'a>(&self, compound: &'a [u8]) -> Result<Option<Cow<'a, [u8]>>, NotAuthentic> {
        match self {
            Self::Srtp(srtp) => srtp.unprotect_rtcp(compound).map(|plain| Some(Cow::Owned(plain))),
            Self::None => Ok(Some(Cow::Borrowed(compound))),
            Self::Unknown => Ok(None),
        }
    }

    /// An RTCP compound as it is sent.
    #[must_use]
    pub fn close_rtcp(&mut self, compound: Vec<u8>) -> Vec<u8> {
        match self {
            Self::Srtp(srtp) => srtp.protect_rtcp(&compound),
            Self::None | Self::Unknown => compound,
        }
    }
}
