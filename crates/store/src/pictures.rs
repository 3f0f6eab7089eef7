//! Small pictures in the record of a site: what a camera showed last before something happened, and first after it.

use crate::history::StreamName;
use crate::record::{RecordError, RecordFile};
use lattice_core::Wall;
use rusqlite::{OptionalExtension as _, Row, params};
use std::time::Duration;

/// Pictures that are kept of all cameras, and of one; the oldest go first.
const KEPT: usize = 2000;
const KEPT_OF_ONE: usize = 60;
/// One further away from what happened says nothing of it.
const NEAR: Duration = Duration::from_secs(60);
/// Times of pictures and of what happened agree to so many microseconds.
const EXACT: i64 = 100_000;
/// Longest that is kept, in bytes: four times what a picture of this size needs.
const LARGEST: usize = 40_000;

/// A picture that is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptPicture {
    /// Of which stream.
    pub of: StreamName,
    /// When it was received, by our clock.
    pub at: Wall,
    /// A JPEG.
    pub jpeg: Vec<u8>,
}

impl RecordFile {
    /// Keeps pictures; the oldest go where there are too many, and one that is no small picture is not kept.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn keep_pictures(&mut self, pictures: &[KeptPicture]) -> Result<(), RecordError> {
        let Self { connection, history, .. } = self;
        let mut write = || {
            let transaction = connection.transaction()?;
            for picture in pictures.iter().filter(|picture| picture.jpeg.len() <= LARGEST) {
                let series = history.series(&transaction, &picture.of)?;
                let at = picture.at.as_unix_micros();
                transaction
                    .prepare_cached("INSERT OR REPLACE INTO picture (series, at, jpeg) VALUES (?1, ?2, ?3)")?
                    .execute(params![series, at, picture.jpeg])?;
                let oldest_of_one = "DELETE FROM picture WHERE series = ?1 AND at <= (
                    SELECT at FROM picture WHERE series = ?1 ORDER BY at DESC LIMIT 1 OFFSET ?2)";
                transaction.prepare_cached(oldest_of_one)?.execute(params![series, KEPT_OF_ONE as i64])?;
            }
            let oldest = "DELETE FROM picture WHERE at <= (SELECT at FROM picture ORDER BY at DESC LIMIT 1 OFFSET ?1)";
            transaction.prepare_cached(oldest)?.execute([KEPT as i64])?;
            transaction.commit()
        };
        let written = write();
        if written.is_err() {
            self.history.forget_series();
        }
        written.map_err(|source| self.error(source))
    }

    /// The last picture of a camera that was received before a moment, by no more than a minute.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn picture_before(&self, camera: &str, at: Wall) -> Result<Option<KeptPicture>, RecordError> {
        let (from, to) = (at.offset(-(NEAR.as_micros() as i64)), at.offset(EXACT));
        self.picture(camera, from, to, "DESC")
    }

    /// The first picture of a camera that was received from a moment on, within a minute.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn picture_after(&self, camera: &str, at: Wall) -> Result<Option<KeptPicture>, RecordError> {
        self.picture(camera, at.offset(-EXACT), at.offset(NEAR.as_micros() as i64), "ASC")
    }

    fn picture(&self, camera: &str, from: Wall, to: Wall, order: &str) -> Result<Option<KeptPicture>, RecordError> {
        let find = format!(
            "SELECT camera, stream, at, jpeg FROM picture JOIN series ON series.id = series
             WHERE camera = ?1 AND at >= ?2 AND at <= ?3 ORDER BY at {order} LIMIT 1"
        );
        let row = |row: &Row<'_>| {
            let of = StreamName { camera: row.get(0)?, stream: row.get(1)? };
            Ok(KeptPicture { of, at: Wall::from_unix_micros(row.get(2)?), jpeg: row.get(3)? })
        };
        let read = || {
            let mut statement = self.connection.prepare_cached(&find)?;
            statement.query_row(params![camera, from.as_unix_micros(), to.as_unix_micros()], row).optional()
        };
        read().map_err(|source| self.error(source))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BEGIN: i64 = 1_795_500_000_000_000;

    fn at(second: i64) -> Wall {
        Wall::from_unix_micros(BEGIN + second * 1_000_000)
    }

    fn picture(camera: &str, second: i64) -> KeptPicture {
        let of = StreamName { camera: camera.into(), stream: "main".into() };
        KeptPicture { of, at: at(second), jpeg: second.to_le_bytes().to_vec() }
    }

    #[test]
    fn the_pictures_around_what_happened_are_found_and_those_far_from_it_are_not() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        let (mut file, _) = RecordFile::open(&path).unwrap();
        file.keep_pictures(&[picture("Mast", 10), picture("Mast", 12), picture("Gate", 13), picture("Mast", 30)]).unwrap();
        drop(file);
        let (file, _) = RecordFile::open(&path).unwrap();
        assert_eq!(file.picture_before("Mast", at(13)).unwrap(), Some(picture("Mast", 12)));
        assert_eq!(file.picture_before("Mast", at(12)).unwrap(), Some(picture("Mast", 12)));
        assert_eq!(file.picture_after("Mast", at(13)).unwrap(), Some(picture("Mast", 30)));
        assert_eq!(file.picture_after("Gate", at(13)).unwrap(), Some(picture("Gate", 13)));
        assert_eq!(file.picture_before("Mast", at(100)).unwrap(), None, "70 s before is another story");
        assert_eq!(file.picture_after("Mast", at(31)).unwrap(), None);
        assert_eq!(file.picture_before("Slipway", at(13)).unwrap(), None);
    }

    #[test]
    fn no_more_are_kept_than_there_is_room_for_and_one_camera_takes_nothing_from_others() {
        let folder = tempfile::tempdir().unwrap();
        let (mut file, _) = RecordFile::open(&folder.path().join("ledger.db")).unwrap();
        file.keep_pictures(&[picture("Gate", 0)]).unwrap();
        let many: Vec<_> = (1..=200).map(|second| picture("Mast", second)).collect();
        many.chunks(40).for_each(|some| file.keep_pictures(some).unwrap());
        let count = |file: &RecordFile| file.connection.query_row("SELECT count(*) FROM picture", [], |row| row.get::<_, i64>(0));
        assert_eq!(count(&file).unwrap(), KEPT_OF_ONE as i64 + 1);
        assert!(file.picture_after("Gate", at(0)).unwrap().is_some());
        let others: Vec<_> = (0..KEPT as i64).map(|n| picture(&format!("camera {n}"), 1000 + n)).collect();
        file.keep_pictures(&others).unwrap();
        assert_eq!(count(&file).unwrap(), KEPT as i64, "the oldest of all went");
        assert_eq!(file.picture_after("Gate", at(0)).unwrap(), None);
        let large = KeptPicture { jpeg: vec![0; LARGEST + 1], ..picture("Gate", 9000) };
        file.keep_pictures(&[large]).unwrap();
        assert_eq!(file.picture_after("Gate", at(9000)).unwrap(), None);
    }
}
