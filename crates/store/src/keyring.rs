//! The keyring of the person's session: the Secret Service of a desktop, or what the system has in its place.
//!
//! It may ask its owner to unlock it, and it may hang: every question has an end, and after one that was not answered
//! no other is asked.

use keyring_core::Entry;
use lattice_core::Secret;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{OnceLock, mpsc};
use std::time::Duration;

/// Under this name our entries stand in the keyring.
const SERVICE: &str = "amber-lattice";
/// So long may its owner take to unlock it.
const PATIENCE: Duration = Duration::from_secs(20);

/// Why the keyring did not do what it was asked.
#[derive(Debug, thiserror::Error)]
pub enum KeyringError {
    /// It gave no answer.
    #[error("the keyring of this session does not answer: unlock it and start again")]
    Silent,
    /// It refused. What it says holds no secret.
    #[error("the keyring of this session refused: {0}")]
    Refused(String),
}

/// The keyring of this session.
#[derive(Debug)]
pub struct Keyring {
    silent: AtomicBool,
}

impl Keyring {
    /// The keyring, where the session has one: on systems with D-Bus, when there is a session bus with one on it.
    #[must_use]
    pub fn of_session() -> Option<Self> {
        let this = Self { silent: AtomicBool::new(false) };
        if cfg!(all(unix, not(target_os = "macos"))) && !has_session_bus() {
            return None;
        }
        let there = this.ask(|| Ok(has_store()));
        matches!(there, Ok(true)).then_some(this)
    }

    /// A secret that is kept under this name; `None` when none is.
    ///
    /// # Errors
    /// [`KeyringError`].
    pub fn get(&self, name: &str) -> Result<Option<Secret<String>>, KeyringError> {
        let name = name.to_owned();
        self.ask(move || match Entry::new(SERVICE, &name)?.get_password() {
            Ok(password) => Ok(Some(Secret::new(password))),
            Err(keyring_core::Error::NoEntry) => Ok(None),
            Err(error) => Err(error),
        })
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
        if self.silent.load(Ordering::Relaxed) {
            return Err(KeyringError::Silent);
        }
        let (sender, answer) = mpsc::channel();
        // Left behind when it never comes back: nothing of ours is waited for by it.
        let asked = std::thread::Builder::new().name("keyring".into()).spawn(move || drop(sender.send(question())));
        if let Ok(Ok(answer)) = asked.map(|_| answer.recv_timeout(PATIENCE)) {
            return answer.map_err(|error| KeyringError::Refused(error.to_string()));
        }
        self.silent.store(true, Ordering::Relaxed);
        Err(KeyringError::Silent)
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
