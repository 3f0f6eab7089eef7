//! The record of a site on disk: its ledger and the history of its figures, in one `SQLite` file.

use rusqlite::{Connection, ErrorCode, OpenFlags};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The newest schema that is known here.
const VERSION: i64 = 5;

/// A larger file is not read through when it is opened, in bytes.
const CHECKED: u64 = 32 << 20;

/// From each schema to the next.
const MIGRATIONS: [&str; VERSION as usize] = [
    "CREATE TABLE IF NOT EXISTS entry (
         id INTEGER PRIMARY KEY, start INTEGER NOT NULL, end INTEGER, kind TEXT NOT NULL, cause TEXT,
         evidence TEXT NOT NULL, confidence TEXT NOT NULL, cameras TEXT NOT NULL, shared TEXT,
         times INTEGER NOT NULL, done TEXT NOT NULL, acknowledged_by TEXT, acknowledged_at INTEGER,
         shelved_until INTEGER, note TEXT NOT NULL) STRICT;
     CREATE INDEX IF NOT EXISTS entry_start ON entry (start);",
    "CREATE TABLE series (id INTEGER PRIMARY KEY, camera TEXT NOT NULL, stream TEXT NOT NULL, UNIQUE (camera, stream)) STRICT;
     CREATE TABLE chunk (series INTEGER NOT NULL, tier INTEGER NOT NULL, start INTEGER NOT NULL, slots BLOB NOT NULL) STRICT;
     CREATE UNIQUE INDEX chunk_place ON chunk (series, tier, start);
     CREATE INDEX chunk_age ON chunk (tier, start);
     CREATE TABLE missing (series INTEGER NOT NULL, start INTEGER NOT NULL, end INTEGER, kind TEXT NOT NULL, cause TEXT) STRICT;
     CREATE UNIQUE INDEX missing_place ON missing (series, start);
     CREATE INDEX missing_start ON missing (start);",
    "CREATE TABLE entry_order (id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, kind TEXT NOT NULL, note TEXT NOT NULL,
         by TEXT NOT NULL, at INTEGER NOT NULL) STRICT;",
    "ALTER TABLE entry ADD COLUMN parts TEXT NOT NULL DEFAULT '';",
    "CREATE TABLE picture (series INTEGER NOT NULL, at INTEGER NOT NULL, jpeg BLOB NOT NULL) STRICT;
     CREATE UNIQUE INDEX picture_place ON picture (series, at);
     CREATE INDEX picture_at ON picture (at);",
];

/// What can go wrong with it.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// A newer program wrote it.
    #[error("{path} was written by a newer version (schema {found}, this one knows {VERSION}): nothing is kept in it")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its schema.
        found: i64,
    },
    /// An older program keeps it at this moment.
    #[error("{path} is kept by an older version (schema {found}, this one has {VERSION}): end that program first")]
    Older {
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

/// The record on disk.
pub struct RecordFile {
    pub(crate) connection: Connection,
    path: PathBuf,
    pub(crate) history: crate::history::Open,
}

impl RecordFile {
    /// Opens it, or makes one. A file that is damaged is set aside under another name, which is given as well.
    ///
    /// # Errors
    /// [`RecordError::Newer`], or when there is no way to have one.
    pub fn open(path: &Path) -> Result<(Self, Option<PathBuf>), RecordError> {
        let io = |source| RecordError::Io { path: path.to_owned(), source };
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(io)?;
        }
        match Self::try_open(path) {
            Err(RecordError::Sqlite { source, .. }) if is_damaged(&source) => {
                let aside = set_aside(path)?;
                Ok((Self::try_open(path)?, Some(aside)))
            }
            opened => Ok((opened?, None)),
        }
    }

    /// Opens it beside the program that keeps it: nothing is set aside, and no schema changed under it.
    ///
    /// # Errors
    /// When it is not there, damaged, or of another version.
    pub fn beside(path: &Path) -> Result<Self, RecordError> {
        let sqlite = |source| RecordError::Sqlite { path: path.to_owned(), source };
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(path, flags).map_err(sqlite)?;
        connection.busy_timeout(Duration::from_secs(2)).map_err(sqlite)?;
        let found = connection.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0)).map_err(sqlite)?;
        match found {
            VERSION => Ok(Self { connection, path: path.to_owned(), history: crate::history::Open::default() }),
            newer if newer > VERSION => Err(RecordError::Newer { path: path.to_owned(), found }),
            _ => Err(RecordError::Older { path: path.to_owned(), found }),
        }
    }

    fn try_open(path: &Path) -> Result<Self, RecordError> {
        let sqlite = |source| RecordError::Sqlite { path: path.to_owned(), source };
        let connection = Connection::open(path).map_err(sqlite)?;
        connection.busy_timeout(Duration::from_secs(2)).map_err(sqlite)?;
        let version = || connection.query_row("PRAGMA user_version", [], |row| row.get::<_, i64>(0)).map_err(sqlite);
        let found = version()?;
        if found > VERSION {
            return Err(RecordError::Newer { path: path.to_owned(), found });
        }
        connection.query_row("PRAGMA journal_mode = WAL", [], |_| Ok(())).map_err(sqlite)?;
        // What was written last may be lost with the power; the file stays whole.
        connection.execute_batch("PRAGMA synchronous = NORMAL").map_err(sqlite)?;
        for (from, migration) in (0..).zip(MIGRATIONS) {
            // Each in a transaction of its own, and only if nobody else has done it meanwhile.
            connection.execute_batch("BEGIN IMMEDIATE").map_err(sqlite)?;
            if version()? == from {
                connection.execute_batch(&format!("{migration} PRAGMA user_version = {};", from + 1)).map_err(sqlite)?;
            }
            connection.execute_batch("COMMIT").map_err(sqlite)?;
        }
        let file = Self { connection, path: path.to_owned(), history: crate::history::Open::default() };
        // A file that is damaged further in is found now, not in the middle of a shift. In a large one that takes too long:
        // there the damage is found by whoever meets it.
        if file.size()? > CHECKED {
            return Ok(file);
        }
        let check: String = file.connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0)).map_err(sqlite)?;
        if check != "ok" {
            let damaged = rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_CORRUPT);
            return Err(sqlite(rusqlite::Error::SqliteFailure(damaged, Some(check))));
        }
        Ok(file)
    }

    /// Sets a file aside that proved to be damaged, and begins a new one; gives the other's new name.
    ///
    /// # Errors
    /// When there is no way to have one.
    pub fn begin_anew(self) -> Result<(Self, PathBuf), RecordError> {
        let path = self.path.clone();
        drop(self);
        let aside = set_aside(&path)?;
        Ok((Self::try_open(&path)?, aside))
    }

    /// A number that is another one whenever another program wrote into the file.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn data_version(&self) -> Result<i64, RecordError> {
        self.connection.query_row("PRAGMA data_version", [], |row| row.get(0)).map_err(|source| self.error(source))
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How large it is, in bytes.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn size(&self) -> Result<u64, RecordError> {
        let pragma = |name: &str| self.connection.query_row(&format!("PRAGMA {name}"), [], |row| row.get::<_, i64>(0));
        let used = || Ok((pragma("page_count")? - pragma("freelist_count")?) * pragma("page_size")?);
        used().map(|bytes| bytes as u64).map_err(|source| self.error(source))
    }

    pub(crate) fn error(&self, source: rusqlite::Error) -> RecordError {
        RecordError::Sqlite { path: self.path.clone(), source }
    }
}

fn is_damaged(error: &rusqlite::Error) -> bool {
    matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase))
}

impl RecordError {
    /// The file is damaged.
    #[must_use]
    pub fn is_damage(&self) -> bool {
        matches!(self, Self::Sqlite { source, .. } if is_damaged(source))
    }
}

/// Gives a damaged file another name.
fn set_aside(path: &Path) -> Result<PathBuf, RecordError> {
    let aside = free_name(path);
    std::fs::rename(path, &aside).map_err(|source| RecordError::Io { path: path.to_owned(), source })?;
    for companion in ["-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{companion}", path.display()));
    }
    Ok(aside)
}

/// A name beside it that is free.
fn free_name(path: &Path) -> PathBuf {
    let name = |n: u32| path.with_extension(if n == 0 { "damaged".into() } else { format!("damaged-{n}") });
    (0..10_000).map(name).find(|name| !name.exists()).unwrap_or_else(|| name(0))
}
