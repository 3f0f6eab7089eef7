//! Passwords, apart from the site file: in the keyring of the session where there is one, else in a file that only its
//! owner can read. What the file holds goes before what the keyring holds.

use crate::atomic;
use crate::keyring::{Keyring, KeyringError};
use lattice_core::Secret;
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Read as _};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

/// Why passwords cannot be read or kept.
#[derive(Debug, thiserror::Error)]
pub enum SecretError {
    /// Others can read the file.
    #[error("{path} holds passwords and others can read it (mode {mode:03o}): run  chmod 600 {path}  and start again", path = .path.display())]
    Readable {
        /// The file.
        path: PathBuf,
        /// Its permissions.
        mode: u32,
    },
    /// It belongs to somebody else.
    #[error("{} holds passwords and belongs to another user: make it your own, or move it away", .path.display())]
    NotOurs {
        /// The file.
        path: PathBuf,
    },
    /// It cannot be understood. What it says is not shown.
    #[error("{} is not understood (line {line}): it is left as it is; mend it or move it away", .path.display())]
    Malformed {
        /// The file.
        path: PathBuf,
        /// Where reading stopped.
        line: usize,
    },
    /// The keyring cannot be asked.
    #[error(transparent)]
    Keyring(#[from] KeyringError),
    /// The system refused.
    #[error("{} cannot be {attempted}", .path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What was attempted.
        attempted: &'static str,
        /// The system's reason.
        #[source]
        source: io::Error,
    },
}

#[derive(Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Content {
    /// Password by the name of its sign-in.
    #[serde(default)]
    password: BTreeMap<String, String>,
    /// Key of an encrypted stream by the stream's address.
    #[serde(default)]
    key: BTreeMap<String, String>,
    /// What belongs into a stream's address, by the address as it is shown.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    query: BTreeMap<String, String>,
}

/// What a secret belongs to.
#[derive(Debug, Clone, Copy)]
enum Of<'a> {
    SignIn(&'a str),
    Stream(&'a str),
    Query(&'a str),
}

/// The passwords and keys of a site.
pub struct Secrets {
    path: PathBuf,
    content: Content,
    keyring: Option<Keyring>,
    /// What the keyring said already, by the name there: it is asked once a run.
    asked: RefCell<BTreeMap<String, Option<Secret<String>>>>,
}

impl Secrets {
    /// Keeps what is new in a keyring, too, and looks for what the file does not hold there.
    #[must_use]
    pub fn with_keyring(self, keyring: Option<Keyring>) -> Self {
        Self { keyring, ..self }
    }

    /// Whether the keyring was asked for something and has not answered yet: the same may be asked again.
    #[must_use]
    pub fn is_asking(&self) -> bool {
        self.keyring.as_ref().is_some_and(Keyring::is_asking)
    }

    /// Where new secrets are kept, in words.
    #[must_use]
    pub fn place(&self) -> String {
        match self.keyring {
            Some(_) => "the keyring of this session".to_owned(),
            None => self.path.display().to_string(),
        }
    }

    /// Reads the file; one that is not there is empty.
    ///
    /// # Errors
    /// [`SecretError`]; a file that others can read is refused, as its passwords may be known.
    pub fn open(path: &Path) -> Result<Self, SecretError> {
        let io = |source| SecretError::Io { path: path.to_owned(), attempted: "read", source };
        let mut file = match fs::File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Ok(Self::new(path, Content::default()));
            }
            Err(error) => return Err(io(error)),
        };
        // Asked of the open file, so that no other can be put in its place meanwhile.
        let metadata = file.metadata().map_err(io)?;
        if metadata.uid() != rustix::process::geteuid().as_raw() {
            return Err(SecretError::NotOurs { path: path.to_owned() });
        }
        if metadata.mode() & 0o077 != 0 {
            return Err(SecretError::Readable { path: path.to_owned(), mode: metadata.mode() & 0o777 });
        }
        let mut text = String::new();
        file.read_to_string(&mut text).map_err(io)?;
        let content = toml::from_str(&text).map_err(|error: toml::de::Error| {
            let line = error.span().map_or(1, |span| text.get(..span.start).unwrap_or("").matches('\n').count() + 1);
            SecretError::Malformed { path: path.to_owned(), line }
        })?;
        Ok(Self::new(path, content))
    }

    fn new(path: &Path, content: Content) -> Self {
        Self { path: path.to_owned(), content, keyring: None, asked: RefCell::default() }
    }

    /// The password kept under a sign-in's name; `None` when none is.
    ///
    /// # Errors
    /// [`SecretError::Keyring`].
    pub fn password(&self, sign_in: &str) -> Result<Option<Secret<String>>, SecretError> {
        self.get(Of::SignIn(sign_in))
    }

    /// The key kept for a stream, by the stream's address; `None` when none is.
    ///
    /// # Errors
    /// [`SecretError::Keyring`].
    pub fn key(&self, stream: &str) -> Result<Option<Secret<String>>, SecretError> {
        self.get(Of::Stream(stream))
    }

    /// Keeps a password; `None` forgets it.
    ///
    /// # Errors
    /// [`SecretError::Io`]; what was kept before stays.
    pub fn keep_password(&mut self, sign_in: &str, password: Option<&Secret<String>>) -> Result<(), SecretError> {
        self.keep(Of::SignIn(sign_in), password)
    }

    /// Keeps the key of an encrypted stream; `None` forgets it.
    ///
    /// # Errors
    /// [`SecretError::Io`]; what was kept before stays.
    pub fn keep_key(&mut self, stream: &str, key: Option<&Secret<String>>) -> Result<(), SecretError> {
        self.keep(Of::Stream(stream), key)
    }

    /// What belongs into a stream's address and is not shown, by the address as it is shown; `None` when none is kept.
    ///
    /// # Errors
    /// [`SecretError::Keyring`].
    pub fn query(&self, stream: &str) -> Result<Option<Secret<String>>, SecretError> {
        self.get(Of::Query(stream))
    }

    /// Keeps what belongs into a stream's address; `None` forgets it.
    ///
    /// # Errors
    /// [`SecretError::Io`]; what was kept before stays.
    pub fn keep_query(&mut self, stream: &str, secrets: Option<&Secret<String>>) -> Result<(), SecretError> {
        self.keep(Of::Query(stream), secrets)
    }

    /// Its name in the keyring: two sites may have sign-ins of one name.
    fn entry(&self, of: Of<'_>) -> String {
        let (kind, name) = match of {
            Of::SignIn(name) => ("sign-in", name),
            Of::Stream(name) => ("key", name),
            Of::Query(name) => ("address", name),
        };
        format!("{kind} {name} of {}", self.path.display())
    }

    const fn table(&mut self, of: Of<'_>) -> &mut BTreeMap<String, String> {
        match of {
            Of::SignIn(_) => &mut self.content.password,
            Of::Stream(_) => &mut self.content.key,
            Of::Query(_) => &mut self.content.query,
        }
    }

    fn get(&self, of: Of<'_>) -> Result<Option<Secret<String>>, SecretError> {
        let in_file = match of {
            Of::SignIn(name) => self.content.password.get(name),
            Of::Stream(name) => self.content.key.get(name),
            Of::Query(name) => self.content.query.get(name),
        };
        let (None, Some(keyring)) = (in_file, &self.keyring) else { return Ok(in_file.cloned().map(Secret::new)) };
        let entry = self.entry(of);
        if let Some(said) = self.asked.borrow().get(&entry) {
            return Ok(said.clone());
        }
        let said = keyring.get(&entry)?;
        self.asked.borrow_mut().insert(entry, said.clone());
        Ok(said)
    }

    fn keep(&mut self, of: Of<'_>, secret: Option<&Secret<String>>) -> Result<(), SecretError> {
        let (Of::SignIn(name) | Of::Stream(name) | Of::Query(name)) = of;
        let entry = self.entry(of);
        let in_keyring = match &self.keyring {
            Some(keyring) => keyring.set(&entry, secret).inspect_err(|error| tracing::warn!("{error}")).is_ok(),
            None => false,
        };
        self.asked.borrow_mut().remove(&entry);
        // One that the keyring has taken must not stand in the file as it was: the file goes before.
        let in_file = secret.filter(|_| !in_keyring).map(|secret| secret.reveal().clone());
        let before = self.table(of).get(name).cloned();
        if before == in_file {
            return Ok(());
        }
        self.put(of, in_file);
        self.save().inspect_err(|_| self.put(of, before))
    }

    fn put(&mut self, of: Of<'_>, secret: Option<String>) {
        let (Of::SignIn(name) | Of::Stream(name) | Of::Query(name)) = of;
        match secret {
            Some(secret) => self.table(of).insert(name.to_owned(), secret),
            None => self.table(of).remove(name),
        };
    }

    fn save(&self) -> Result<(), SecretError> {
        let io = |source| SecretError::Io { path: self.path.clone(), attempted: "written", source };
        let text = toml::to_string(&self.content).map_err(|error| io(io::Error::other(error)))?;
        let text =
            format!("# Passwords of amber-lattice. Only you may read this file; the program refuses it otherwise.\n{text}");
        atomic::replace(&self.path, text.as_bytes(), 0o600).map_err(io)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    fn secret(text: &str) -> Secret<String> {
        Secret::new(text.to_owned())
    }

    #[test]
    fn passwords_are_kept_for_their_owner_only() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/sign-ins.toml");
        let mut secrets = Secrets::open(&path).unwrap();
        secrets.keep_password("port \"one\"", Some(&secret("ebb\\and=flow"))).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        let again = Secrets::open(&path).unwrap();
        assert_eq!(again.password("port \"one\"").unwrap(), Some(secret("ebb\\and=flow")));
        secrets.keep_password("port \"one\"", None).unwrap();
        assert_eq!(Secrets::open(&path).unwrap().password("port \"one\"").unwrap(), None);
    }

    #[test]
    fn a_file_that_others_can_read_is_refused_with_what_to_do() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sign-ins.toml");
        Secrets::open(&path).unwrap().keep_password("port", Some(&secret("pw"))).unwrap();
        for mode in [0o640, 0o604, 0o644] {
            fs::set_permissions(&path, fs::Permissions::from_mode(mode)).unwrap();
            let error = Secrets::open(&path).err().unwrap().to_string();
            assert!(error.contains("chmod 600") && error.contains(&format!("{mode:03o}")), "{error}");
        }
    }

    #[test]
    fn a_broken_file_is_told_by_line_and_not_shown() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sign-ins.toml");
        atomic::replace(&path, b"[password]\nport = \"hidden\"\nport = oops\n", 0o600).unwrap();
        let error = Secrets::open(&path).err().unwrap().to_string();
        assert!(error.contains("line 3") && !error.contains("hidden") && !error.contains("oops"), "{error}");
    }
}
