//! How strongly each device has asked for its sign-in so far, so that it is never answered with less. A file of the program's
//! own in the folder of its state.

use crate::atomic;
use lattice_core::{SignInPolicy, SignInStrength};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

type Known = BTreeMap<String, BTreeMap<String, SignInStrength>>;

/// What was learned, by sign-in and host. Policies that are given out go on learning.
#[derive(Debug)]
pub struct Strengths {
    path: PathBuf,
    given: Mutex<BTreeMap<String, SignInPolicy>>,
}

impl Strengths {
    /// Those of a file; one that is missing or not understood counts as empty.
    #[must_use]
    pub fn open(path: &Path) -> Self {
        let policy = |hosts: BTreeMap<String, SignInStrength>| {
            let policy = SignInPolicy::default();
            for (host, strength) in hosts {
                policy.learn(&host, strength);
            }
            policy
        };
        let given = read(path).into_iter().map(|(sign_in, hosts)| (sign_in, policy(hosts))).collect();
        Self { path: path.to_owned(), given: Mutex::new(given) }
    }

    /// The policy of a sign-in. All that is given for it shares what is learned.
    #[must_use]
    pub fn policy(&self, sign_in: &str) -> SignInPolicy {
        self.given.lock().unwrap_or_else(PoisonError::into_inner).entry(sign_in.to_owned()).or_default().clone()
    }

    /// The operator gave the sign-in of this host anew: it begins anew.
    ///
    /// # Errors
    /// The system's.
    pub fn forget(&self, sign_in: &str, host: &str) -> std::io::Result<()> {
        self.policy(sign_in).forget(host);
        let mut kept = read(&self.path);
        let gone = kept.get_mut(sign_in).and_then(|hosts| hosts.remove(host));
        if gone.is_some() { self.write(&kept) } else { Ok(()) }
    }

    /// Writes what is new.
    ///
    /// # Errors
    /// The system's.
    pub fn save(&self) -> std::io::Result<()> {
        let before = read(&self.path);
        let mut kept = before.clone();
        for (sign_in, policy) in &*self.given.lock().unwrap_or_else(PoisonError::into_inner) {
            for (host, least) in policy.learned().into_iter().filter(|(_, least)| *least > SignInStrength::Readable) {
                let known = kept.entry(sign_in.clone()).or_default().entry(host).or_default();
                *known = least.max(*known);
            }
        }
        if kept == before { Ok(()) } else { self.write(&kept) }
    }

    fn write(&self, kept: &Known) -> std::io::Result<()> {
        let words = |hosts: &BTreeMap<String, SignInStrength>| -> BTreeMap<String, &str> {
            hosts.iter().map(|(host, strength)| (host.clone(), strength.word())).collect()
        };
        let words: BTreeMap<&str, _> = kept.iter().map(|(sign_in, hosts)| (sign_in.as_str(), words(hosts))).collect();
        let text = serde_json::to_vec_pretty(&words).map_err(std::io::Error::other)?;
        atomic::replace(&self.path, &text, 0o600)
    }
}

fn read(path: &Path) -> Known {
    let words: BTreeMap<String, BTreeMap<String, String>> =
        std::fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
    let strengths = |hosts: BTreeMap<String, String>| {
        hosts.into_iter().filter_map(|(host, word)| Some((host, SignInStrength::from_word(&word)?))).collect()
    };
    words.into_iter().map(|(sign_in, hosts)| (sign_in, strengths(hosts))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_learned_outlives_the_program_until_the_sign_in_is_given_anew() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sign-ins.json");
        let strengths = Strengths::open(&path);
        let policy = strengths.policy("harbour");
        strengths.save().unwrap();
        assert!(!path.exists(), "nothing was learned");
        policy.learn("192.0.2.1", SignInStrength::Md5);
        strengths.save().unwrap();
        let again = Strengths::open(&path);
        assert_eq!(again.policy("harbour").least("192.0.2.1"), SignInStrength::Md5);
        assert_eq!(again.policy("harbour").least("192.0.2.2"), SignInStrength::Readable);
        // Another program knew more meanwhile, and it is not lost.
        policy.learn("192.0.2.1", SignInStrength::Sha256);
        strengths.save().unwrap();
        again.save().unwrap();
        assert_eq!(Strengths::open(&path).policy("harbour").least("192.0.2.1"), SignInStrength::Sha256);
        strengths.forget("harbour", "192.0.2.1").unwrap();
        assert_eq!(Strengths::open(&path).policy("harbour").least("192.0.2.1"), SignInStrength::Readable);
        assert_eq!(strengths.policy("harbour").least("192.0.2.1"), SignInStrength::Readable);
    }
}
