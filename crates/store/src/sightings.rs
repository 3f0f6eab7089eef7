//! What was last seen of each target, so that a change is noticed: another address behind a name, another device at
//! an address. A file of the program's own, which may be lost without harm.

use crate::atomic;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Most targets remembered.
const MAX_TARGETS: usize = 5_000;

/// What was seen of a target.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Sighting {
    /// Addresses that its name had.
    pub addresses: Vec<String>,
    /// The network card that answered.
    pub hardware: Option<String>,
    /// The device's serial number.
    pub serial: Option<String>,
    /// The device's lasting name in discovery (its endpoint reference), which it tells without a sign-in.
    pub endpoint: Option<String>,
    /// When, seconds UTC.
    pub at: i64,
}

/// All sightings.
#[derive(Debug)]
pub struct Sightings {
    path: PathBuf,
    seen: BTreeMap<String, Sighting>,
}

impl Sightings {
    /// Reads them; a file that is missing or not understood counts as empty.
    #[must_use]
    pub fn open(path: &Path) -> Self {
        let seen = std::fs::read(path).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default();
        Self { path: path.to_owned(), seen }
    }

    /// What was seen of a target last.
    #[must_use]
    pub fn of(&self, target: &str) -> Option<&Sighting> {
        self.seen.get(target)
    }

    /// Every other target at which a device with this serial number was seen.
    pub fn with_serial<'a>(&'a self, serial: &'a str) -> impl Iterator<Item = &'a str> {
        self.seen.iter().filter(move |(_, seen)| seen.serial.as_deref() == Some(serial)).map(|(target, _)| target.as_str())
    }

    /// Remembers what was seen; what is unknown now stays as it was.
    pub fn note(&mut self, target: &str, seen: Sighting) {
        let before = self.seen.remove(target).unwrap_or_default();
        let merged = Sighting {
            addresses: if seen.addresses.is_empty() { before.addresses } else { seen.addresses },
            hardware: seen.hardware.or(before.hardware),
            serial: seen.serial.or(before.serial),
            endpoint: seen.endpoint.or(before.endpoint),
            at: seen.at,
        };
        if self.seen.len() >= MAX_TARGETS
            && let Some(oldest) = self.seen.iter().min_by_key(|(_, seen)| seen.at).map(|(target, _)| target.clone())
        {
            self.seen.remove(&oldest);
        }
        self.seen.insert(target.to_owned(), merged);
    }

    /// Writes them.
    ///
    /// # Errors
    /// The system's.
    pub fn save(&self) -> std::io::Result<()> {
        let text = serde_json::to_vec_pretty(&self.seen).map_err(std::io::Error::other)?;
        atomic::replace(&self.path, &text, 0o600)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_unknown_now_stays_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("seen.json");
        let mut sightings = Sightings::open(&path);
        let first = Sighting { addresses: vec!["192.0.2.1".into()], serial: Some("TH-1".into()), at: 1, ..Sighting::default() };
        sightings.note("gate", first);
        sightings.note("gate", Sighting { hardware: Some("02:00:00:00:00:01".into()), at: 2, ..Sighting::default() });
        sightings.save().unwrap();
        let again = Sightings::open(&path);
        let gate = again.of("gate").unwrap();
        assert_eq!((gate.serial.as_deref(), gate.addresses.len(), gate.at), (Some("TH-1"), 1, 2));
        assert_eq!(again.with_serial("TH-1").collect::<Vec<_>>(), ["gate"]);
        std::fs::write(&path, "not json").unwrap();
        assert_eq!(Sightings::open(&path).of("gate"), None);
    }
}
