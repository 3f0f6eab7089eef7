//! The ledger on disk: `SQLite`, every entry for ever.

use lattice_core::event::{Confidence, EventKind};
use lattice_core::ledger::{Acknowledged, Entry, Shared};
use lattice_core::{Cause, Wall};
use rusqlite::{Connection, ErrorCode, Row, params};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The newest schema that is known here.
const VERSION: i64 = 1;

/// What can go wrong with it.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// A newer program wrote it.
    #[error("{path} was written by a newer version (schema {found}, this one knows {VERSION}): nothing is kept in it")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its schema.
        found: i64,
    },
    /// Something else.
    #[error("{path} cannot be used: {source}")]
    Sqlite {
        /// The file.
        path: PathBuf,
        /// What `SQLite` says.
        source: rusqlite::Error,
    },
    /// Its folder cannot be made, or it cannot be set aside.
    #[error("{path}: {source}")]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system says.
        source: std::io::Error,
    },
}

/// The ledger on disk.
pub struct LedgerFile {
    connection: Connection,
    path: PathBuf,
}

impl LedgerFile {
    /// Opens it, or makes one. A file that is damaged is set aside under another name, which is given as well.
    ///
    /// # Errors
    /// [`LedgerError::Newer`], or when there is no way to have one.
    pub fn open(path: &Path) -> Result<(Self, Option<PathBuf>), LedgerError> {
        let io = |source| LedgerError::Io { path: path.to_owned(), source };
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(io)?;
        }
        match Self::try_open(path) {
            Err(LedgerError::Sqlite { source, .. }) if is_damaged(&source) => {
                let aside = free_name(path);
                std::fs::rename(path, &aside).map_err(io)?;
                for companion in ["-wal", "-shm"] {
                    let _ = std::fs::remove_file(format!("{}{companion}", path.display()));
                }
                Ok((Self::try_open(path)?, Some(aside)))
            }
            opened => Ok((opened?, None)),
        }
    }

    fn try_open(path: &Path) -> Result<Self, LedgerError> {
        let sqlite = |source| LedgerError::Sqlite { path: path.to_owned(), source };
        let connection = Connection::open(path).map_err(sqlite)?;
        connection.busy_timeout(Duration::from_secs(2)).map_err(sqlite)?;
        let found: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(sqlite)?;
        if found > VERSION {
            return Err(LedgerError::Newer { path: path.to_owned(), found });
        }
        connection.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(())).map_err(sqlite)?;
        if found < 1 {
            connection
                .execute_batch(
                    "BEGIN IMMEDIATE;
                     CREATE TABLE IF NOT EXISTS entry (
                         id INTEGER PRIMARY KEY, start INTEGER NOT NULL, end INTEGER, kind TEXT NOT NULL, cause TEXT,
                         evidence TEXT NOT NULL, confidence TEXT NOT NULL, cameras TEXT NOT NULL, shared TEXT,
                         times INTEGER NOT NULL, done TEXT NOT NULL, acknowledged_by TEXT, acknowledged_at INTEGER,
                         shelved_until INTEGER, note TEXT NOT NULL) STRICT;
                     CREATE INDEX IF NOT EXISTS entry_start ON entry (start);
                     PRAGMA user_version = 1;
                     COMMIT;",
                )
                .map_err(sqlite)?;
        }
        // A file that is damaged further in is found now, not in the middle of a shift.
        let check: String = connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)).map_err(sqlite)?;
        if check != "ok" {
            let damaged = rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_CORRUPT);
            return Err(sqlite(rusqlite::Error::SqliteFailure(damaged, Some(check))));
        }
        Ok(Self { connection, path: path.to_owned() })
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The newest entries, oldest first.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn newest(&self, most: usize) -> Result<Vec<Entry>, LedgerError> {
        let read = || {
            let mut statement = self.connection.prepare("SELECT * FROM entry ORDER BY id DESC LIMIT ?1")?;
            let rows = statement.query_map([most as i64], entry)?;
            let mut entries = rows.collect::<Result<Vec<_>, _>>()?;
            entries.reverse();
            Ok(entries)
        };
        read().map_err(|source| LedgerError::Sqlite { path: self.path.clone(), source })
    }

    /// Keeps entries, in one transaction; those that are there are replaced.
    ///
    /// # Errors
    /// When it cannot be written: nothing of it is kept then.
    pub fn keep(&mut self, entries: &[Entry]) -> Result<(), LedgerError> {
        let mut write = || {
            let transaction = self.connection.transaction()?;
            for entry in entries {
                let shared = entry.shared.as_ref().map(shared_word);
                let json = |texts: &[String]| serde_json::to_string(texts).unwrap_or_default();
                transaction.execute(
                    "INSERT OR REPLACE INTO entry VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15)",
                    params![
                        entry.id as i64,
                        entry.start.as_unix_micros(),
                        entry.end.map(Wall::as_unix_micros),
                        entry.kind.word(),
                        entry.cause.map(Cause::word),
                        entry.evidence,
                        entry.confidence.word(),
                        json(&entry.cameras),
                        shared,
                        entry.times,
                        json(&entry.done),
                        entry.acknowledged.as_ref().map(|acknowledged| &acknowledged.by),
                        entry.acknowledged.as_ref().map(|acknowledged| acknowledged.at.as_unix_micros()),
                        entry.shelved_until.map(Wall::as_unix_micros),
                        entry.note,
                    ],
                )?;
            }
            transaction.commit()
        };
        write().map_err(|source| LedgerError::Sqlite { path: self.path.clone(), source })
    }
}

fn is_damaged(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
}

/// A name beside it that is free.
fn free_name(path: &Path) -> PathBuf {
    let name = |n: u32| path.with_extension(if n == 0 { "damaged".into() } else { format!("damaged-{n}") });
    (0..10_000).map(name).find(|name| !name.exists()).unwrap_or_else(|| name(0))
}

fn shared_word(shared: &Shared) -> String {
    match shared {
        Shared::Recorder(name) => format!("recorder {name}"),
        Shared::Host(name) => format!("host {name}"),
        Shared::Group(name) => format!("group {name}"),
        Shared::Machine => "machine".into(),
    }
}

fn shared_of(text: &str) -> Option<Shared> {
    match text.split_once(' ') {
        Some(("recorder", name)) => Some(Shared::Recorder(name.into())),
        Some(("host", name)) => Some(Shared::Host(name.into())),
        Some(("group", name)) => Some(Shared::Group(name.into())),
        _ => (text == "machine").then_some(Shared::Machine),
    }
}

fn entry(row: &Row<'_>) -> rusqlite::Result<Entry> {
    let wall = |micros: Option<i64>| micros.map(Wall::from_unix_micros);
    let texts = |text: String| serde_json::from_str(&text).unwrap_or_default();
    let text = |name: &str| row.get::<_, String>(name);
    let (by, at): (Option<String>, Option<i64>) = (row.get("acknowledged_by")?, row.get("acknowledged_at")?);
    Ok(Entry {
        id: row.get::<_, i64>("id")? as u64,
        cameras: texts(text("cameras")?),
        shared: row.get::<_, Option<String>>("shared")?.as_deref().and_then(shared_of),
        kind: EventKind::from_word(&text("kind")?).unwrap_or(EventKind::Strained),
        start: Wall::from_unix_micros(row.get("start")?),
        end: wall(row.get("end")?),
        times: row.get("times")?,
        cause: row.get::<_, Option<String>>("cause")?.as_deref().and_then(Cause::from_word),
        evidence: text("evidence")?,
        confidence: Confidence::from_word(&text("confidence")?).unwrap_or(Confidence::Guess),
        done: texts(text("done")?),
        acknowledged: by.zip(wall(at)).map(|(by, at)| Acknowledged { by, at }),
        shelved_until: wall(row.get("shelved_until")?),
        note: text("note")?,
        down_since: None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sample(id: u64) -> Entry {
        let at = |seconds: i64| Wall::from_unix_micros(1_795_500_000_000_000 + seconds * 1_000_000);
        Entry {
            id,
            cameras: vec!["Quay 1".into(), "Quay \"2\"".into()],
            shared: Some(Shared::Recorder("Quay recorder".into())),
            kind: EventKind::Outage,
            start: at(id as i64),
            end: id.is_multiple_of(2).then(|| at(id as i64 + 4)),
            times: 3,
            cause: Some(Cause::Unreachable),
            evidence: "no route".into(),
            confidence: Confidence::High,
            done: vec!["eased to sub".into()],
            acknowledged: Some(Acknowledged { by: "kim".into(), at: at(9) }),
            shelved_until: Some(at(99)),
            note: "power works on the quay".into(),
            down_since: None,
        }
    }

    #[test]
    fn entries_are_kept_and_replaced_and_come_back_in_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/ledger.db");
        let (mut file, aside) = LedgerFile::open(&path).unwrap();
        assert_eq!(aside, None);
        let all: Vec<Entry> = (0..50).map(sample).collect();
        file.keep(&all).unwrap();
        let changed = Entry { note: "done".into(), end: Some(Wall::from_unix_micros(1)), ..sample(49) };
        file.keep(std::slice::from_ref(&changed)).unwrap();
        // A second program reads while this one has it open; nothing was closed properly.
        let (again, _) = LedgerFile::open(&path).unwrap();
        let newest = again.newest(10).unwrap();
        assert_eq!((newest.len(), &newest[0], &newest[9]), (10, &all[40], &changed));
        let plain = Entry { shared: None, cause: None, acknowledged: None, shelved_until: None, end: None, ..sample(50) };
        file.keep(std::slice::from_ref(&plain)).unwrap();
        assert_eq!(again.newest(1).unwrap(), [plain]);
    }

    #[test]
    fn a_damaged_file_is_set_aside_and_a_newer_one_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        std::fs::write(&path, "this is no database, though it is long enough to be taken for the head of one".repeat(20))
            .unwrap();
        let (mut file, aside) = LedgerFile::open(&path).unwrap();
        assert_eq!(aside, Some(folder.path().join("ledger.damaged")));
        file.keep(&[sample(1)]).unwrap();
        drop(file);
        // Damaged in the middle.
        let mut bytes = std::fs::read(&path).unwrap();
        let end = bytes.len();
        bytes[end / 3..].fill(0x5a);
        std::fs::write(&path, bytes).unwrap();
        let (file, aside) = LedgerFile::open(&path).unwrap();
        assert_eq!((aside, file.newest(9).unwrap().len()), (Some(folder.path().join("ledger.damaged-1")), 0));
        drop(file);
        Connection::open(&path).unwrap().execute_batch("PRAGMA user_version = 7").unwrap();
        let error = LedgerFile::open(&path).err().unwrap();
        assert!(matches!(error, LedgerError::Newer { found: 7, .. }), "{error}");
        assert!(error.to_string().contains("newer version"));
    }
}
