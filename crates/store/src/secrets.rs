//! Passwords, apart from the site file, in a file that only its owner can read.

use crate::atomic;
use lattice_core::Secret;
use serde::{Deserialize, Serialize};
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
}

/// The passwords of a site.
pub struct Secrets {
    path: PathBuf,
    content: Content,
}

impl Secrets {
    /// Reads the file; one that is not there is empty.
    ///
    /// # Errors
    /// [`SecretError`]; a file that others can read is refused, as its passwords may be known.
    pub fn open(path: &Path) -> Result<Self, SecretError> {
        let io = |source| SecretError::Io { path: path.to_owned(), attempted: "read", source };
        let mut file = match fs::File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Ok(Self { path: path.to_owned(), content: Content::default() });
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
        Ok(Self { path: path.to_owned(), content })
    }

    /// The password kept under a sign-in's name.
    #[must_use]
    pub fn password(&self, sign_in: &str) -> Option<Secret<String>> {
        self.content.password.get(sign_in).cloned().map(Secret::new)
    }

    /// The key kept for a stream.
    #[must_use]
    pub fn key(&self, stream: &str) -> Option<Secret<String>> {
        self.content.key.get(stream).cloned().map(Secret::new)
    }

    /// Keeps a password; `None` forgets it.
    ///
    /// # Errors
    /// [`SecretError::Io`]; what was kept before stays.
    pub fn keep_password(&mut self, sign_in: &str, password: Option<&Secret<String>>) -> Result<(), SecretError> {
        let before = match password {
            Some(password) => self.content.password.insert(sign_in.to_owned(), password.reveal().clone()),
            None => self.content.password.remove(sign_in),
        };
        self.save().inspect_err(|_| {
            match before {
                Some(before) => self.content.password.insert(sign_in.to_owned(), before),
                None => self.content.password.remove(sign_in),
            };
        })
    }

    /// Keeps the key of an encrypted stream; `None` forgets it.
    ///
    /// # Errors
    /// [`SecretError::Io`].
    pub fn keep_key(&mut self, stream: &str, key: Option<&Secret<String>>) -> Result<(), SecretError> {
        match key {
            Some(key) => self.content.key.insert(stream.to_owned(), key.reveal().clone()),
            None => self.content.key.remove(stream),
        };
        self.save()
    }

    fn save(&mut self) -> Result<(), SecretError> {
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
        assert_eq!(again.password("port \"one\""), Some(secret("ebb\\and=flow")));
        secrets.keep_password("port \"one\"", None).unwrap();
        assert_eq!(Secrets::open(&path).unwrap().password("port \"one\""), None);
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
