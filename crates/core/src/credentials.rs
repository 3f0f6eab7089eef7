//! A user and a password, and how strongly they may be answered with.

use crate::Secret;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

/// How well an answer to a sign-in hides the password.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum SignInStrength {
    /// Basic: the password itself (RFC 7617).
    #[default]
    Readable,
    /// Digest with MD5 (RFC 7616).
    Md5,
    /// Digest with SHA-256 (RFC 7616).
    Sha256,
}

impl SignInStrength {
    /// All, the weakest first.
    pub const ALL: [Self; 3] = [Self::Readable, Self::Md5, Self::Sha256];

    /// As it is called in a sentence and in files.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Readable => "Basic",
            Self::Md5 => "Digest MD5",
            Self::Sha256 => "Digest SHA-256",
        }
    }

    /// The one with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|strength| strength.word() == word)
    }
}

/// What a sign-in is never answered below, for each host by itself. Clones share what is learned.
#[derive(Debug, Clone, Default)]
pub struct SignInPolicy {
    readable_allowed: bool,
    least: Arc<Mutex<BTreeMap<String, SignInStrength>>>,
}

impl SignInPolicy {
    /// The same, with the operator's choice whether the password may travel readable (Basic without TLS).
    #[must_use]
    pub fn allowing_readable(mut self, allowed: bool) -> Self {
        self.readable_allowed = allowed;
        self
    }

    /// Whether the operator allowed Basic without TLS.
    #[must_use]
    pub const fn allows_readable(&self) -> bool {
        self.readable_allowed
    }

    /// The strongest that a host asked for so far: nothing weaker is answered.
    #[must_use]
    pub fn least(&self, host: &str) -> SignInStrength {
        self.map().get(host).copied().unwrap_or_default()
    }

    /// A host asked for this strength. It is never lowered again by itself.
    pub fn learn(&self, host: &str, strength: SignInStrength) {
        let mut map = self.map();
        let known = map.entry(host.to_owned()).or_default();
        *known = strength.max(*known);
    }

    /// The operator gave the sign-in of a host anew: it begins anew.
    pub fn forget(&self, host: &str) {
        self.map().remove(host);
    }

    /// All that is known, by host.
    #[must_use]
    pub fn learned(&self) -> Vec<(String, SignInStrength)> {
        self.map().iter().map(|(host, strength)| (host.clone(), *strength)).collect()
    }

    fn map(&self) -> MutexGuard<'_, BTreeMap<String, SignInStrength>> {
        self.least.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// User and password for a source.
#[derive(Debug, Clone)]
pub struct Credentials {
    /// The account's name.
    pub user: String,
    /// Its password; may be empty.
    pub password: Secret<String>,
    /// How strongly it is answered with.
    pub policy: SignInPolicy,
}

impl Credentials {
    /// A sign-in of which nothing is known yet: Basic without TLS is not allowed.
    #[must_use]
    pub fn new(user: impl Into<String>, password: impl Into<Secret<String>>) -> Self {
        Self { user: user.into(), password: password.into(), policy: SignInPolicy::default() }
    }

    /// With another policy.
    #[must_use]
    pub fn under(mut self, policy: SignInPolicy) -> Self {
        self.policy = policy;
        self
    }
}

/// The same user and password; what is known of their use does not matter.
impl PartialEq for Credentials {
    fn eq(&self, other: &Self) -> bool {
        self.user == other.user && self.password == other.password
    }
}

impl Eq for Credentials {}
