//! The history in the record of a site: readings of every stream in four tiers, and every time without new pictures.
//!
//! Sixty slots of a tier make a chunk, which is one row (`layout.rs`). A coarser tier holds means, and the worst verdict.

mod layout;

use crate::record::{RecordError, RecordFile};
use lattice_core::event::EventKind;
use lattice_core::meter::Sample;
use lattice_core::{Cause, Wall};
use layout::{SLOTS, Slot, decode, encode};
use rusqlite::{Connection, OptionalExtension as _, params};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Seconds in an hour, in a day.
const HOUR: i64 = 3_600;
const DAY: i64 = 24 * HOUR;
/// Chunks that wait to be written, at most: where the disk is full, the oldest go first.
const WAITING: usize = 4096;
/// A record that is larger loses the oldest of its finest readings before their time.
const LARGEST: u64 = 4 << 30;

/// How fine readings are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Tier {
    /// One a second, kept for a day.
    Second,
    /// One in ten seconds, kept for a week.
    TenSeconds,
    /// One a minute, kept for 90 days.
    Minute,
    /// One in a quarter of an hour, kept for two years.
    Quarter,
}

impl Tier {
    /// The finest first.
    pub const ALL: [Self; 4] = [Self::Second, Self::TenSeconds, Self::Minute, Self::Quarter];

    /// Seconds from one reading to the next.
    #[must_use]
    pub const fn step(self) -> i64 {
        match self {
            Self::Second => 1,
            Self::TenSeconds => 10,
            Self::Minute => 60,
            Self::Quarter => 900,
        }
    }

    /// Seconds for which it is kept.
    #[must_use]
    pub const fn kept(self) -> i64 {
        match self {
            Self::Second => DAY,
            Self::TenSeconds => 7 * DAY,
            Self::Minute => 90 * DAY,
            Self::Quarter => 730 * DAY,
        }
    }

    /// The finest that is still whole for what begins so long ago.
    #[must_use]
    pub fn for_age(seconds: i64) -> Self {
        Self::ALL.into_iter().find(|tier| seconds <= tier.kept()).unwrap_or(Self::Quarter)
    }

    const fn chunk(self) -> i64 {
        self.step() * SLOTS as i64
    }
}

/// A stream by its camera's name and the word of its role.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct StreamName {
    /// The camera.
    pub camera: String,
    /// `main`, `sub`, `third`.
    pub stream: String,
}

/// What a stream's figures were at a moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// Whose.
    pub of: StreamName,
    /// When.
    pub at: Wall,
    /// The figures.
    pub sample: Sample,
}

/// A time without new pictures.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Missing {
    /// Of which stream.
    pub of: StreamName,
    /// From here,
    pub start: Wall,
    /// to here; `None` while it goes on.
    pub end: Option<Wall>,
    /// What it was.
    pub kind: EventKind,
    /// Why.
    pub cause: Option<Cause>,
}

type Slots = Vec<Slot>;
/// Series, tier, first second.
type Place = (i64, usize, i64);

/// What is being gathered.
#[derive(Debug, Default)]
pub(crate) struct Open {
    series: HashMap<StreamName, i64>,
    chunks: BTreeMap<Place, Slots>,
    /// Those that differ from what is on disk.
    changed: BTreeSet<Place>,
    pruned: i64,
}

impl Open {
    /// The number of a stream in the record.
    pub fn series(&mut self, connection: &Connection, of: &StreamName) -> rusqlite::Result<i64> {
        if let Some(id) = self.series.get(of) {
            return Ok(*id);
        }
        connection.execute("INSERT OR IGNORE INTO series (camera, stream) VALUES (?1, ?2)", params![of.camera, of.stream])?;
        let find = "SELECT id FROM series WHERE camera = ?1 AND stream = ?2";
        let id = connection.query_row(find, params![of.camera, of.stream], |row| row.get(0))?;
        self.series.insert(of.clone(), id);
        Ok(id)
    }

    /// What was written last is not on disk: streams may have other numbers.
    pub fn forget_series(&mut self) {
        self.series.clear();
    }
}

fn load(connection: &Connection, (series, tier, start): Place) -> rusqlite::Result<Slots> {
    let find = "SELECT slots FROM chunk WHERE series = ?1 AND tier = ?2 AND start = ?3";
    let blob: Option<Vec<u8>> = connection.query_row(find, params![series, tier as i64, start], |row| row.get(0)).optional()?;
    Ok(blob.and_then(|blob| decode(&blob)).unwrap_or_else(|| vec![None; SLOTS]))
}

impl RecordFile {
    /// Takes readings and times without pictures, and writes them in one transaction. Where that fails, they stay in memory
    /// until the next time, as far as there is room.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_history(&mut self, readings: &[Reading], missing: &[Missing]) -> Result<(), RecordError> {
        let now = readings.iter().map(|reading| seconds(reading.at)).max();
        let mut write = || {
            let Self { connection, history, .. } = self;
            for reading in readings {
                let at = seconds(reading.at);
                let id = history.series(connection, &reading.of)?;
                for (index, tier) in Tier::ALL.into_iter().enumerate() {
                    let place = (id, index, at - at.rem_euclid(tier.chunk()));
                    let slots = match history.chunks.entry(place) {
                        std::collections::btree_map::Entry::Occupied(have) => have.into_mut(),
                        std::collections::btree_map::Entry::Vacant(free) => free.insert(load(connection, place)?),
                    };
                    let slot = &mut slots[(at.rem_euclid(tier.chunk()) / tier.step()) as usize];
                    *slot = Some(match *slot {
                        None => (1, reading.sample),
                        Some((count, sample)) => (count.saturating_add(1), sample.with(f32::from(count), reading.sample)),
                    });
                    history.changed.insert(place);
                }
            }
            let transaction = connection.transaction()?;
            for (series, tier, start) in &history.changed {
                let Some(slots) = history.chunks.get(&(*series, *tier, *start)) else { continue };
                transaction
                    .prepare_cached("INSERT OR REPLACE INTO chunk (series, tier, start, slots) VALUES (?1, ?2, ?3, ?4)")?
                    .execute(params![series, *tier as i64, start, encode(slots)])?;
            }
            for one in missing {
                let id = history.series(&transaction, &one.of)?;
                transaction
                    .prepare_cached(
                        "INSERT OR REPLACE INTO missing (series, start, end, kind, cause) VALUES (?1, ?2, ?3, ?4, ?5)",
                    )?
                    .execute(params![
                        id,
                        one.start.as_unix_micros(),
                        one.end.map(Wall::as_unix_micros),
                        one.kind.word(),
                        one.cause.map(Cause::word)
                    ])?;
            }
            transaction.commit()
        };
        let written = write();
        if written.is_ok() {
            self.history.changed.clear();
        } else {
            self.history.forget_series();
        }
        self.forget(now);
        written.map_err(|source| self.error(source))
    }

    /// Chunks that are over are not needed any more, once they are on disk.
    fn forget(&mut self, now: Option<i64>) {
        let Open { chunks, changed, .. } = &mut self.history;
        let is_over = |(_, tier, start): &Place| now.is_some_and(|now| start + Tier::ALL[*tier].chunk() + 120 < now);
        chunks.retain(|place, _| changed.contains(place) || !is_over(place));
        while chunks.len() > WAITING {
            let Some(oldest) = chunks.keys().min_by_key(|(_, _, start)| *start).copied() else { return };
            chunks.remove(&oldest);
            changed.remove(&oldest);
        }
    }

    /// Takes away what is older than its tier is kept; at most once an hour. The ledger stays for ever.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn prune(&mut self, now: Wall) -> Result<(), RecordError> {
        let now = seconds(now);
        if now - self.history.pruned < HOUR {
            return Ok(());
        }
        let prune = || {
            for (index, tier) in Tier::ALL.into_iter().enumerate() {
                let limit = now - tier.kept() - tier.chunk();
                self.connection.execute("DELETE FROM chunk WHERE tier = ?1 AND start < ?2", params![index as i64, limit])?;
            }
            let limit = (now - Tier::Quarter.kept()) * 1_000_000;
            self.connection.execute("DELETE FROM missing WHERE start < ?1", [limit])?;
            Ok(())
        };
        prune().map_err(|source| self.error(source))?;
        self.history.pruned = now;
        if self.size()? > LARGEST {
            let oldest = "DELETE FROM chunk WHERE rowid IN (SELECT rowid FROM chunk WHERE tier <= 1 ORDER BY start LIMIT
                          (SELECT count(*) / 10 FROM chunk WHERE tier <= 1))";
            self.connection.execute(oldest, []).map_err(|source| self.error(source))?;
        }
        Ok(())
    }

    /// The streams that there are readings of.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn streams(&self) -> Result<Vec<StreamName>, RecordError> {
        let read = || {
            let mut statement = self.connection.prepare("SELECT camera, stream FROM series ORDER BY camera, stream")?;
            let rows = statement.query_map([], |row| Ok(StreamName { camera: row.get(0)?, stream: row.get(1)? }))?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        read().map_err(|source| self.error(source))
    }

    /// Readings of a stream from one moment to before another, oldest first, with the seconds that each is made of.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn readings(&self, of: &StreamName, tier: Tier, from: Wall, to: Wall) -> Result<Vec<(Wall, u16, Sample)>, RecordError> {
        let (from, to, index) = (seconds(from), seconds(to), Tier::ALL.iter().position(|one| *one == tier).unwrap_or(0));
        let read = || {
            let mut statement = self.connection.prepare_cached(
                "SELECT start, slots FROM chunk WHERE series = (SELECT id FROM series WHERE camera = ?1 AND stream = ?2)
                 AND tier = ?3 AND start > ?4 AND start < ?5 ORDER BY start",
            )?;
            let begin = from - tier.chunk();
            let rows = statement.query_map(params![of.camera, of.stream, index as i64, begin, to], |row| {
                Ok((row.get::<_, i64>(0)?, row.get::<_, Vec<u8>>(1)?))
            })?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        let chunks = read().map_err(|source| self.error(source))?;
        // What cannot be read is as if it was never measured.
        let slots = chunks.into_iter().flat_map(|(start, blob)| {
            let slots = decode(&blob).unwrap_or_default();
            slots.into_iter().enumerate().map(move |(n, slot)| (start + n as i64 * tier.step(), slot))
        });
        let wall = |at: i64| Wall::from_unix_micros(at * 1_000_000);
        Ok(slots
            .filter(|(at, _)| (from..to).contains(at))
            .filter_map(|(at, slot)| slot.map(|(count, sample)| (wall(at), count, sample)))
            .collect())
    }

    /// Times without new pictures that ran or began in a time, oldest first.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn missing(&self, from: Wall, to: Wall) -> Result<Vec<Missing>, RecordError> {
        let read = || {
            let mut statement = self.connection.prepare(
                "SELECT camera, stream, start, end, kind, cause FROM missing JOIN series ON series.id = series
                 WHERE start < ?2 AND (end IS NULL OR end >= ?1) ORDER BY start",
            )?;
            let wall = Wall::from_unix_micros;
            let rows = statement.query_map([from.as_unix_micros(), to.as_unix_micros()], |row| {
                Ok(Missing {
                    of: StreamName { camera: row.get(0)?, stream: row.get(1)? },
                    start: wall(row.get(2)?),
                    end: row.get::<_, Option<i64>>(3)?.map(wall),
                    kind: EventKind::from_word(&row.get::<_, String>(4)?).unwrap_or(EventKind::Freeze),
                    cause: row.get::<_, Option<String>>(5)?.as_deref().and_then(Cause::from_word),
                })
            })?;
            rows.collect::<Result<Vec<_>, _>>()
        };
        read().map_err(|source| self.error(source))
    }

    /// When something was read last, as far as it is kept.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn last_reading(&self) -> Result<Option<Wall>, RecordError> {
        let newest = "SELECT slots, start FROM chunk WHERE tier = 0 ORDER BY start DESC LIMIT 64";
        let read = || {
            let mut statement = self.connection.prepare(newest)?;
            let rows = statement.query_map([], |row| Ok((row.get::<_, Vec<u8>>(0)?, row.get::<_, i64>(1)?)))?;
            let last = |(slots, start): (Vec<u8>, i64)| {
                let used = decode(&slots)?.iter().rposition(Option::is_some)?;
                Some(start + used as i64 + 1)
            };
            Ok(rows.collect::<Result<Vec<_>, _>>()?.into_iter().filter_map(last).max())
        };
        read().map(|seconds| seconds.map(|at| Wall::from_unix_micros(at * 1_000_000))).map_err(|source| self.error(source))
    }

    /// Times without pictures that ran when the program ended, cut off at `end`: what happened since is unknown.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn end_missing(&mut self) -> Result<(), RecordError> {
        // Nothing is known from the last reading on.
        let seen = self.last_reading()?.map(Wall::as_unix_micros);
        let end = "UPDATE missing SET end = max(start, coalesce(?1, start)) WHERE end IS NULL";
        self.connection.execute(end, [seen]).map(drop).map_err(|source| self.error(source))
    }
}

fn seconds(at: Wall) -> i64 {
    at.as_unix_micros().div_euclid(1_000_000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::Verdict;
    use lattice_core::meter::Fig;

    const BEGIN: i64 = 1_795_500_000;

    fn at(second: i64) -> Wall {
        Wall::from_unix_micros((BEGIN + second) * 1_000_000)
    }

    fn name(camera: &str) -> StreamName {
        StreamName { camera: camera.into(), stream: "sub".into() }
    }

    fn reading(camera: &str, second: i64) -> Reading {
        let verdict = if second % 600 == 7 { Verdict::Stalled } else { Verdict::Steady };
        let sample = Sample { verdict: Some(verdict), ..Sample::default() }
            .with_value(Fig::Sent, 12.5)
            .with_value(Fig::Bitrate, 20e3)
            .with_value(Fig::Latency, (second % 100) as f32);
        Reading { of: name(camera), at: at(second), sample }
    }

    #[test]
    fn readings_come_back_by_tier_also_after_a_restart_in_the_middle_of_a_chunk() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        for hour in 0..2i64 {
            // Opened anew each time, and never closed properly.
            let (mut file, _) = RecordFile::open(&path).unwrap();
            for batch in 0..180 {
                let from = hour * 3600 + batch * 20;
                let readings: Vec<Reading> = (from..from + 20).map(|second| reading("Mast", second)).collect();
                file.keep_history(&readings, &[]).unwrap();
            }
            assert!(file.history.chunks.len() < 20, "{}", file.history.chunks.len());
            std::mem::forget(file);
        }
        let (file, _) = RecordFile::open(&path).unwrap();
        let read = |tier, from, to| file.readings(&name("Mast"), tier, at(from), at(to)).unwrap();
        let seconds = read(Tier::Second, 0, 7200);
        assert_eq!((seconds.len(), seconds[0].0, seconds[7199].0), (7200, at(0), at(7199)));
        assert_eq!((seconds[42].1, seconds[42].2.get(Fig::Latency), seconds[42].2.get(Fig::Sent)), (1, Some(42.0), Some(12.5)));
        assert!((seconds[42].2.get(Fig::Bitrate).unwrap() - 20e3).abs() < 20.0 && seconds[42].2.get(Fig::Jitter).is_none());
        assert_eq!(read(Tier::Second, 100, 160).len(), 60);
        let minutes = read(Tier::Minute, 0, 7200);
        assert_eq!(minutes.iter().map(|(_, count, _)| u32::from(*count)).sum::<u32>(), 7200);
        let stalled = minutes.iter().filter(|(_, _, sample)| sample.verdict == Some(Verdict::Stalled)).count();
        assert_eq!(stalled, 12, "the worst of each minute");
        assert_eq!(file.streams().unwrap(), [name("Mast")]);
        assert_eq!(file.readings(&name("Gate"), Tier::Second, at(0), at(99)).unwrap(), []);
    }

    #[test]
    fn what_is_too_old_goes_and_what_is_coarser_stays() {
        let folder = tempfile::tempdir().unwrap();
        let (mut file, _) = RecordFile::open(&folder.path().join("ledger.db")).unwrap();
        file.keep_history(&[reading("Mast", 0)], &[]).unwrap();
        file.prune(at(3 * DAY)).unwrap();
        let left =
            |file: &RecordFile| Tier::ALL.map(|tier| file.readings(&name("Mast"), tier, at(-HOUR), at(HOUR)).unwrap().len());
        assert_eq!(left(&file), [0, 1, 1, 1]);
        file.prune(at(3 * DAY + 60)).unwrap();
        file.prune(at(100 * DAY)).unwrap();
        assert_eq!(left(&file), [0, 0, 0, 1]);
        file.prune(at(800 * DAY)).unwrap();
        assert_eq!(left(&file), [0; 4]);
        assert!(file.size().unwrap() > 0);
        assert_eq!([HOUR, 2 * DAY, 60 * DAY, 9999 * DAY].map(Tier::for_age), Tier::ALL);
    }

    #[test]
    fn times_without_pictures_are_kept_followed_and_ended() {
        let folder = tempfile::tempdir().unwrap();
        let (mut file, _) = RecordFile::open(&folder.path().join("ledger.db")).unwrap();
        let missing = |second, end: Option<i64>| Missing {
            of: name("Mast"),
            start: at(second),
            end: end.map(at),
            kind: EventKind::Outage,
            cause: Some(Cause::PortClosed),
        };
        file.keep_history(&[reading("Mast", 9)], &[missing(10, None), missing(50, Some(60))]).unwrap();
        file.keep_history(&[], &[missing(10, Some(20))]).unwrap();
        assert_eq!(file.missing(at(0), at(40)).unwrap(), [missing(10, Some(20))]);
        assert_eq!(file.missing(at(15), at(55)).unwrap().len(), 2);
        file.keep_history(&[], &[missing(90, None)]).unwrap();
        file.end_missing().unwrap();
        assert!(file.missing(at(80), at(99)).unwrap()[0].end.is_some());
    }

    #[test]
    fn a_record_of_before_the_history_is_brought_up_to_date_and_nonsense_in_it_is_passed_over() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        let (file, _) = RecordFile::open(&path).unwrap();
        drop(file);
        let old = Connection::open(&path).unwrap();
        old.execute_batch(
            "ALTER TABLE entry DROP COLUMN parts; DROP TABLE chunk; DROP TABLE series; DROP TABLE missing; DROP TABLE entry_order; DROP TABLE picture; PRAGMA user_version = 1",
        )
        .unwrap();
        drop(old);
        let (mut file, aside) = RecordFile::open(&path).unwrap();
        assert_eq!(aside, None);
        file.keep_history(&[reading("Mast", 9)], &[]).unwrap();
        file.connection.execute("UPDATE chunk SET slots = x'00010203' WHERE tier = 0", []).unwrap();
        assert_eq!(file.readings(&name("Mast"), Tier::Second, at(0), at(99)).unwrap(), []);
        assert_eq!(file.readings(&name("Mast"), Tier::Minute, at(-99), at(99)).unwrap().len(), 1);
    }
}
