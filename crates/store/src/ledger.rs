//! The ledger in the record of a site: every entry for ever.

use crate::record::{RecordError, RecordFile};
use lattice_core::event::{Confidence, EventKind};
use lattice_core::ledger::{Acknowledged, Entry, Part, Parts, Shared};
use lattice_core::{Cause, Wall};
use rusqlite::{Row, params};

/// What becomes of an entry, as somebody orders it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EntryOrder {
    /// It is acknowledged, or not any more.
    Acknowledge,
    /// It is shelved for an hour, or unshelved.
    Shelve,
    /// This is written to it.
    Note(String),
}

/// An order of a program that does not keep the record, for the one that does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ordered {
    /// The entry.
    pub entry: u64,
    /// What becomes of it.
    pub order: EntryOrder,
    /// Who ordered it.
    pub by: String,
    /// When.
    pub at: Wall,
}

impl RecordFile {
    /// Leaves an order for the program that keeps this record.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn leave_order(&self, ordered: &Ordered) -> Result<(), RecordError> {
        let (kind, note) = match &ordered.order {
            EntryOrder::Acknowledge => ("acknowledge", ""),
            EntryOrder::Shelve => ("shelve", ""),
            EntryOrder::Note(note) => ("note", note.as_str()),
        };
        let left = self.connection.execute(
            "INSERT INTO entry_order (entry, kind, note, by, at) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![ordered.entry as i64, kind, note, ordered.by, ordered.at.as_unix_micros()],
        );
        left.map(drop).map_err(|source| self.error(source))
    }

    /// Takes the orders that were left, oldest first.
    ///
    /// # Errors
    /// When they cannot be read or taken away: they are there the next time then.
    pub fn take_orders(&mut self) -> Result<Vec<Ordered>, RecordError> {
        let take = |connection: &mut rusqlite::Connection| {
            let any: bool = connection.query_row("SELECT EXISTS (SELECT 1 FROM entry_order)", [], |row| row.get(0))?;
            if !any {
                return Ok(Vec::new());
            }
            let transaction = connection.transaction()?;
            let orders = {
                let mut statement = transaction.prepare("DELETE FROM entry_order RETURNING id, entry, kind, note, by, at")?;
                let rows = statement.query_map([], |row| {
                    let order = match row.get::<_, String>("kind")?.as_str() {
                        "acknowledge" => Some(EntryOrder::Acknowledge),
                        "shelve" => Some(EntryOrder::Shelve),
                        "note" => Some(EntryOrder::Note(row.get("note")?)),
                        _ => None, // of a newer program
                    };
                    let (by, at) = (row.get("by")?, Wall::from_unix_micros(row.get("at")?));
                    let entry = row.get::<_, i64>("entry")? as u64;
                    Ok((row.get::<_, i64>("id")?, order.map(|order| Ordered { entry, order, by, at })))
                })?;
                let mut all = rows.collect::<Result<Vec<_>, _>>()?;
                all.sort_by_key(|(id, _)| *id);
                all.into_iter().filter_map(|(_, order)| order).collect()
            };
            transaction.commit()?;
            Ok(orders)
        };
        take(&mut self.connection).map_err(|source| self.error(source))
    }

    /// The newest entries, oldest first.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn newest(&self, most: usize) -> Result<Vec<Entry>, RecordError> {
        let read = || {
            let mut statement = self.connection.prepare("SELECT * FROM entry ORDER BY id DESC LIMIT ?1")?;
            let rows = statement.query_map([most as i64], entry)?;
            let mut entries = rows.collect::<Result<Vec<_>, _>>()?;
            entries.reverse();
            Ok(entries)
        };
        read().map_err(|source| self.error(source))
    }

    /// Entries that ran or began in a time, oldest first.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn entries(&self, from: Wall, to: Wall) -> Result<Vec<Entry>, RecordError> {
        let read = || {
            let mut statement =
                self.connection.prepare("SELECT * FROM entry WHERE start < ?2 AND (end IS NULL OR end >= ?1) ORDER BY id")?;
            let rows = statement.query_map([from.as_unix_micros(), to.as_unix_micros()], entry)?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        read().map_err(|source| self.error(source))
    }

    /// Takes entries away that went into another one.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn remove(&mut self, ids: &[u64]) -> Result<(), RecordError> {
        for id in ids {
            let gone = self.connection.execute("DELETE FROM entry WHERE id = ?1", [*id as i64]);
            gone.map_err(|source| self.error(source))?;
        }
        Ok(())
    }

    /// Keeps entries, in one transaction; those that are there are replaced.
    ///
    /// # Errors
    /// When it cannot be written: nothing of it is kept then.
    pub fn keep(&mut self, entries: &[Entry]) -> Result<(), RecordError> {
        let write = |connection: &mut rusqlite::Connection| {
            let transaction = connection.transaction()?;
            for entry in entries {
                let shared = entry.shared.as_ref().map(shared_word);
                let json = |texts: &[String]| serde_json::to_string(texts).unwrap_or_default();
                transaction.execute(
                    "INSERT OR REPLACE INTO entry VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16)",
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
                        parts_text(&entry.parts),
                    ],
                )?;
            }
            transaction.commit()
        };
        write(&mut self.connection).map_err(|source| self.error(source))
    }
}

fn shared_word(shared: &Shared) -> String {
    match shared {
        Shared::Recorder(name) => format!("recorder {name}"),
        Shared::Host(name) => format!("host {name}"),
        Shared::Group(name) => format!("group {name}"),
        Shared::Machine => "machine".into(),
        Shared::Most => "most".into(),
    }
}

fn shared_of(text: &str) -> Option<Shared> {
    match text.split_once(' ') {
        Some(("recorder", name)) => Some(Shared::Recorder(name.into())),
        Some(("host", name)) => Some(Shared::Host(name.into())),
        Some(("group", name)) => Some(Shared::Group(name.into())),
        _ if text == "most" => Some(Shared::Most),
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
        parts: parts_of(&text("parts")?),
        down_since: None,
    })
}

/// Parts as they are kept: camera, kind, beginning and end of each, and what is only counted.
#[derive(Default, serde::Serialize, serde::Deserialize)]
struct KeptParts {
    told: Vec<(String, String, i64, Option<i64>)>,
    #[serde(default)]
    before: u32,
    #[serde(default)]
    missing_before_us: u64,
    #[serde(default)]
    until: Option<i64>,
}

fn parts_text(parts: &Parts) -> String {
    let one = |part: &Part| {
        (part.camera.clone(), part.kind.word().to_owned(), part.start.as_unix_micros(), part.end.map(Wall::as_unix_micros))
    };
    let kept = KeptParts {
        told: parts.told.iter().map(one).collect(),
        before: parts.before,
        missing_before_us: parts.missing_before.as_micros() as u64,
        until: parts.until.map(Wall::as_unix_micros),
    };
    serde_json::to_string(&kept).unwrap_or_default()
}

/// Entries of an earlier version have none.
fn parts_of(text: &str) -> Parts {
    let kept: KeptParts = serde_json::from_str(text).unwrap_or_default();
    let one = |(camera, kind, start, end): (String, String, i64, Option<i64>)| {
        let kind = EventKind::from_word(&kind)?;
        Some(Part { camera, kind, start: Wall::from_unix_micros(start), end: end.map(Wall::from_unix_micros) })
    };
    let missing_before = std::time::Duration::from_micros(kept.missing_before_us);
    let until = kept.until.map(Wall::from_unix_micros);
    Parts { told: kept.told.into_iter().filter_map(one).collect(), before: kept.before, missing_before, until }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rusqlite::Connection;

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
            parts: Parts {
                told: vec![Part { camera: "Quay 1".into(), kind: EventKind::Outage, start: at(id as i64), end: None }],
                before: 2,
                missing_before: std::time::Duration::from_millis(1500),
                until: Some(at(2)),
            },
            down_since: None,
        }
    }

    #[test]
    fn entries_are_kept_and_replaced_and_come_back_in_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/ledger.db");
        let (mut file, aside) = RecordFile::open(&path).unwrap();
        assert_eq!(aside, None);
        let all: Vec<Entry> = (0..50).map(sample).collect();
        file.keep(&all).unwrap();
        let changed = Entry { note: "done".into(), end: Some(Wall::from_unix_micros(1)), ..sample(49) };
        file.keep(std::slice::from_ref(&changed)).unwrap();
        // A second program reads while this one has it open; nothing was closed properly.
        let (again, _) = RecordFile::open(&path).unwrap();
        let newest = again.newest(10).unwrap();
        assert_eq!((newest.len(), &newest[0], &newest[9]), (10, &all[40], &changed));
        let plain = Entry { shared: None, cause: None, acknowledged: None, shelved_until: None, end: None, ..sample(50) };
        file.keep(std::slice::from_ref(&plain)).unwrap();
        assert_eq!(again.newest(1).unwrap(), [plain]);
        file.remove(&[50, 7]).unwrap();
        assert_eq!((again.newest(1).unwrap()[0].id, again.newest(99).unwrap().len()), (49, 49));
    }

    #[test]
    fn a_damaged_file_is_set_aside_and_a_newer_one_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        std::fs::write(&path, "this is no database, though it is long enough to be taken for the head of one".repeat(20))
            .unwrap();
        let (mut file, aside) = RecordFile::open(&path).unwrap();
        assert_eq!(aside, Some(folder.path().join("ledger.damaged")));
        file.keep(&[sample(1)]).unwrap();
        drop(file);
        // Damaged in the middle.
        let mut bytes = std::fs::read(&path).unwrap();
        let end = bytes.len();
        bytes[end / 3..].fill(0x5a);
        std::fs::write(&path, bytes).unwrap();
        let (file, aside) = RecordFile::open(&path).unwrap();
        assert_eq!((aside, file.newest(9).unwrap().len()), (Some(folder.path().join("ledger.damaged-1")), 0));
        drop(file);
        Connection::open(&path).unwrap().execute_batch("PRAGMA user_version = 7").unwrap();
        let error = RecordFile::open(&path).err().unwrap();
        assert!(matches!(error, RecordError::Newer { found: 7, .. }), "{error}");
        assert!(error.to_string().contains("newer version"));
    }
}
