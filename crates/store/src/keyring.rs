//! The keyring of the person's session: the Secret Service of a desktop, or what the system has in its place.
//!
//! It may ask its owner to unlock it, and it may hang: every question has an end. A command waits for its owner for a while, and
//! after a question that was not answered asks no other. A wall does not wait ([`Keyring::of_session_at_once`]): what was asked
//! stays asked, and the answer is there when the same is asked again.

use keyring_core::Entry;
use lattice_core::Secret;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError, mpsc};
use std::time::Duration;

/// Under this name our entries stand in the keyring.
const SERVICE: &str = "amber-lattice";
/// So long may its owner take to unlock it.
const PATIENCE: Duration = Duration::from_secs(20);
/// So long a wall waits.
const AT_ONCE: Duration = Duration::from_millis(300);

/// Why the keyring did not do what it was asked.
#[derive(Debug, thiserror::Error)]
pub enum KeyringError {
    /// It gave no answer.
    #[error("the keyring of this session does not answer: unlock it and start again")]
    Silent,
    /// It has not answered yet.
    #[error("the keyring of this session waits for its owner: unlock it")]
    Asking,
    /// It refused. What it says holds no secret.
    #[error("the keyring of this session refused: {0}")]
    Refused(String),
}

type Answer<T> = mpsc::Receiver<keyring_core::Result<T>>;

/// The keyring of this session.
#[derive(Debug)]
pub struct Keyring {
    silent: AtomicBool,
    patience: Duration,
    /// What was asked and has not been answered, by name; only where nobody waits.
    asked: Mutex<BTreeMap<String, Answer<Option<Secret<String>>>>>,
}

impl Keyring {
    /// The keyring, where the session has one: on systems with D-Bus, when there is a session bus with one on it.
    #[must_use]
    pub fn of_session() -> Option<Self> {
        Self::with_patience(PATIENCE)
    }

    /// The same for who must not wait: what is not answered at once is [`KeyringError::Asking`].
    #[must_use]
    pub fn of_session_at_once() -> Option<Self> {
        Self::with_patience(AT_ONCE)
    }

    fn with_patience(patience: Duration) -> Option<Self> {
        let this = Self { silent: AtomicBool::new(false), patience, asked: Mutex::default() };
        if cfg!(all(unix, not(target_os = "macos"))) && !has_session_bus() {
            return None;
        }
        let there = wait(&Self::begin(|| Ok(has_store())).ok()?, patience.max(Duration::from_secs(1)));
        // One that takes long is there, and is asked later.
        matches!(there, None | Some(Ok(true))).then_some(this)
    }

    /// Whether something was asked that has not been answered.
    #[must_use]
    pub fn is_asking(&self) -> bool {
        !self.asked.lock().unwrap_or_else(PoisonError::into_inner).is_empty()
    }

    /// A secret that is kept under this name; `None` when none is.
    ///
    /// # Errors
    /// [`KeyringError`].
    pub fn get(&self, name: &str) -> Result<Option<Secret<String>>, KeyringError> {
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        let before = asked.remove(name);
        let (answer, patience) = match before {
            Some(before) => (before, Duration::ZERO),
            None if self.silent.load(Ordering::Relaxed) => return Err(KeyringError::Silent),
            None => {
                let entry = name.to_owned();
                let question = move || {
                    if !has_store() {
                        return Ok(None);
                    }
                    match Entry::new(SERVICE, &entry)?.get_password() {
                        Ok(password) => Ok(Some(Secret::new(password))),
                        Err(keyring_core::Error::NoEntry) => Ok(None),
                        Err(error) => Err(error),
                    }
                };
                // While one question waits for the owner, the others are asked without waiting.
                (Self::begin(question)?, if asked.is_empty() { self.patience } else { Duration::ZERO })
            }
        };
        match wait(&answer, patience) {
            Some(answered) => answered.map_err(|error| KeyringError::Refused(error.to_string())),
            None if self.patience == AT_ONCE => {
                asked.insert(name.to_owned(), answer);
                Err(KeyringError::Asking)
            }
            None => {
                self.silent.store(true, Ordering::Relaxed);
                Err(KeyringError::Silent)
            }
        }
    }

    /// Keeps a secret; `None` forgets it.
    ///
    /// # Errors
    /// [`KeyringError`].
    pub fn set(&self, name: &str, secret: Option<&Secret<String>>) -> Result<(), KeyringError> {
        let (name, secret) = (name.to_owned(), secret.map(|secret| secret.reveal().clone()));
        self.ask(move || {
            let entry = Entry::new(SERVICE, &name)?;
            match secret {
                Some(secret) => entry.set_password(&secret),
                None => match entry.delete_credential() {
                    Err(keyring_core::Error::NoEntry) => Ok(()),
                    other => other,
                },
            }
        })
    }

    fn ask<T: Send + 'static>(
        &self,
        question: impl FnOnce() -> keyring_core::Result<T> + Send + 'static,
    ) -> Result<T, KeyringError> {
        if self.silent.load(Ordering::Relaxed) || self.is_asking() {
            return Err(KeyringError::Silent);
        }
        if let Some(answer) = wait(&Self::begin(question)?, self.patience) {
            return answer.map_err(|error| KeyringError::Refused(error.to_string()));
        }
        self.silent.store(self.patience != AT_ONCE, Ordering::Relaxed);
        Err(KeyringError::Silent)
    }

    /// Asks on a thread of its own, which is left behind when it never comes back: nothing of ours is waited for by it.
    fn begin<T: Send + 'static>(
        question: impl FnOnce() -> keyring_core::Result<T> + Send + 'static,
    ) -> Result<Answer<T>, KeyringError> {
        let (sender, answer) = mpsc::channel();
        let asked = std::thread::Builder::new().name("keyring".into()).spawn(move || drop(sender.send(question())));
        asked.map(|_| answer).map_err(|_| KeyringError::Silent)
    }
}

/// The answer, where it comes in time.
fn wait<T>(answer: &Answer<T>, patience: Duration) -> Option<keyring_core::Result<T>> {
    let nobody = || Err(keyring_core::Error::NoEntry);
    match answer.recv_timeout(patience) {
        Ok(answer) => Some(answer),
        Err(mpsc::RecvTimeoutError::Timeout) => None,
        Err(mpsc::RecvTimeoutError::Disconnected) => Some(nobody()),
    }
}

/// Whether the system's keyring is there; found out once.
fn has_store() -> bool {
    static THERE: OnceLock<bool> = OnceLock::new();
    *THERE.get_or_init(|| {
        #[cfg(target_os = "macos")]
        let store = apple_native_keyring_store::keychain::Store::new();
        #[cfg(not(target_os = "macos"))]
        let store = dbus_secret_service_keyring_store::Store::new();
        match store {
            Ok(store) => {
                keyring_core::set_default_store(store);
                true
            }
            Err(error) => {
                tracing::info!(%error, "there is no keyring");
                false
            }
        }
    })
}

/// Whether there is a session bus to ask; `disabled:` says that there is none to be used.
fn has_session_bus() -> bool {
    match std::env::var_os("DBUS_SESSION_BUS_ADDRESS") {
        Some(address) => !address.is_empty() && !address.to_string_lossy().starts_with("disabled:"),
        None => std::env::var_os("XDG_RUNTIME_DIR").is_some_and(|folder| Path::new(&folder).join("bus").exists()),
    }
}
