//! A time back, read out of the record, on paper or as tables; and what is on the screen as a file.

use crate::places;
use anyhow::bail;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Unit, ZonedDateTimeRound};
use lattice_core::ledger::Entry;
use lattice_core::shift::{Gap, Own, Shift, StreamPast};
use lattice_core::{Wall, Whose};
use lattice_report::{Page, Pair, Photo, Report, Table, csv, json, pages, pdf, svg};
use lattice_store::{KeptPicture, RecordFile, Tier};
use std::collections::HashMap;
use std::path::Path;

/// What a file is written as, by its ending.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Pages.
    Pdf,
    /// The same pages one under the other.
    Svg,
    /// One table.
    Csv,
    /// Everything.
    Json,
}

impl Form {
    /// By the ending of a file's name.
    ///
    /// # Errors
    /// When it is none of the four.
    pub fn of(path: &Path) -> anyhow::Result<Self> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_ascii_lowercase()).unwrap_or_default();
        Ok(match ending.as_str() {
            "pdf" => Self::Pdf,
            "svg" => Self::Svg,
            "csv" => Self::Csv,
            "json" => Self::Json,
            _ => bail!("{}: the name must end in .pdf, .svg, .csv or .json", path.display()),
        })
    }
}

/// A moment as the core has it.
fn wall(at: Timestamp) -> Wall {
    Wall::from_unix_micros(at.as_microsecond())
}

/// The full hours between two moments, by the reader's clock.
fn hours(from: Wall, to: Wall, zone: &TimeZone) -> Vec<Wall> {
    let first = Timestamp::from_microsecond(from.as_unix_micros()).ok().map(|at| at.to_zoned_datetime(zone.clone()));
    let rounded =
        first.and_then(|first| first.round(ZonedDateTimeRound::new().smallest(Unit::Hour).mode(jiff::RoundMode::Ceil)).ok());
    let mut hours = Vec::new();
    let Some(mut at) = rounded.map(|at| wall(at.timestamp())) else { return hours };
    while at < to && hours.len() < 100_000 {
        hours.push(at);
        at = at.offset(3_600_000_000);
    }
    hours
}

/// What the record holds of a time.
pub struct Gathered {
    /// How everything stood.
    pub shift: Shift,
    /// The ledger of the time.
    pub entries: Vec<Entry>,
    /// What was shown before and after the longest dropouts.
    pub pictures: Vec<Pair>,
}

/// Of so many of the longest dropouts the pictures before and after are looked for.
const PICTURED: usize = 10;

/// Reads a time out of a record; `groups` are those of the cameras.
///
/// # Errors
/// When the record cannot be read.
pub fn gather(
    record: &RecordFile,
    groups: &HashMap<String, String>,
    (from, to, now): (Wall, Wall, Wall),
    zone: &TimeZone,
) -> anyhow::Result<Gathered> {
    let seconds_ago = now.micros_since(from) / 1_000_000;
    let span = to.micros_since(from) / 1_000_000;
    // As fine as it is kept, and no finer than can be told apart.
    let tier = Tier::for_age(seconds_ago).max(if span > 2 * 86_400 { Tier::Minute } else { Tier::Second });
    let mut streams = Vec::new();
    for name in record.streams()? {
        let readings = record.readings(&name, tier, from, to)?;
        let group = groups.get(&name.camera).cloned();
        if !readings.is_empty() {
            streams.push(StreamPast { camera: name.camera, stream: name.stream, group, readings });
        }
    }
    let gaps = record.missing(from, to)?.into_iter().map(|missing| Gap {
        camera: missing.of.camera,
        stream: missing.of.stream,
        start: missing.start,
        end: missing.end.unwrap_or(now),
        goes_on: missing.end.is_none(),
        kind: missing.kind,
        cause: missing.cause,
    });
    let gaps: Vec<Gap> = gaps.collect();
    let entries = record.entries(from, to)?;
    let by_machine = |entry: &&Entry| entry.cause.is_some_and(|cause| cause.whose() == Whose::Machine);
    let own = entries.iter().filter(by_machine).map(|entry| Own {
        cameras: entry.cameras.clone(),
        start: entry.start,
        end: entry.end.unwrap_or(now),
    });
    let own: Vec<Own> = own.collect();
    let shift = Shift::new(from, to, &streams, gaps, &own, &hours(from, to, zone));
    let photo = |kept: KeptPicture| Photo::new(kept.at, kept.jpeg);
    let pair = |gap: &Gap| {
        let before = record.picture_before(&gap.camera, gap.start)?.and_then(photo);
        let after = if gap.goes_on { None } else { record.picture_after(&gap.camera, gap.end)?.and_then(photo) };
        anyhow::Ok(Pair { camera: gap.camera.clone(), start: gap.start, before, after })
    };
    let pictures = shift.longest(PICTURED).into_iter().map(pair).collect::<Result<_, _>>()?;
    Ok(Gathered { shift, entries, pictures })
}

/// A file that was not there before, with this in it.
fn write_new(path: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    places::write_new(path, bytes).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => anyhow::anyhow!("{} is there already: choose another name", path.display()),
        _ => anyhow::anyhow!("{} cannot be written: {error}", path.display()),
    })
}

/// Writes a report in the form that the file's name asks for.
///
/// # Errors
/// When the file is there already or cannot be written.
pub fn write(path: &Path, report: &Report<'_>, table: Table) -> anyhow::Result<()> {
    let bytes = match Form::of(path)? {
        Form::Csv => csv(report, table).into_bytes(),
        Form::Json => json(report).into_bytes(),
        Form::Svg => svg(&pages(report).0).into_bytes(),
        Form::Pdf => {
            let (pages, title) = pages(report);
            pdf(&pages, &title)?
        }
    };
    write_new(path, &bytes)
}

/// Writes pages as SVG or PDF.
///
/// # Errors
/// When the file is there already or cannot be written.
pub fn write_pages(path: &Path, pages: &[Page], title: &str) -> anyhow::Result<()> {
    match Form::of(path)? {
        Form::Pdf => write_new(path, &pdf(pages, title)?),
        _ => write_new(path, svg(pages).as_bytes()),
    }
}

/// The group of each camera that is in one.
#[must_use]
pub fn groups(site: &lattice_store::Site) -> HashMap<String, String> {
    site.cameras.iter().filter_map(|camera| Some((camera.name.clone(), camera.group.clone()?))).collect()
}

/// Who sits here: as it was said, else the account that this program runs under, by the system.
#[must_use]
pub fn operator(said: Option<&str>) -> String {
    let said = said.map(str::trim).filter(|said| !said.is_empty()).map(str::to_owned);
    let account = || nix::unistd::User::from_uid(nix::unistd::getuid()).ok().flatten().map(|user| user.name);
    said.or_else(account).unwrap_or_else(|| format!("account {}", nix::unistd::getuid()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn full_hours_are_those_of_the_readers_clock() {
        let zone: TimeZone = TimeZone::fixed(jiff::tz::offset(1));
        let from = wall("2026-11-25T05:30:00Z".parse().unwrap());
        let found = hours(from, from.offset(3 * 3_600_000_000), &zone);
        assert_eq!((found.len(), found[0]), (3, wall("2026-11-25T06:00:00Z".parse().unwrap())));
    }

    #[test]
    fn a_file_is_never_written_over_and_its_name_says_its_form() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("charts.svg");
        write_pages(&path, &[], "nothing").unwrap();
        assert!(write_pages(&path, &[], "nothing").unwrap_err().to_string().contains("choose another name"));
        assert!(write_pages(&folder.path().join("x.doc"), &[], "").unwrap_err().to_string().contains(".pdf, .svg"));
    }
}
