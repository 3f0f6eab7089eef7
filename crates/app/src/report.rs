//! `report`: a shift on paper or as tables, from the record of the site; and what is on the screen as a file.

use crate::cli::{ReportOptions, TableArg};
use crate::kept::Kept;
use crate::places;
use anyhow::{Context as _, bail};
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Unit, ZonedDateTime, ZonedDateTimeRound};
use lattice_core::Wall;
use lattice_core::ledger::Entry;
use lattice_core::shift::{Gap, Shift, StreamPast};
use lattice_report::{Page, Report, Table, csv, json, pages, pdf, svg};
use lattice_store::{RecordFile, Tier};
use std::collections::HashMap;
use std::fs::File;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

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

impl From<TableArg> for Table {
    fn from(table: TableArg) -> Self {
        match table {
            TableArg::Cameras => Self::Cameras,
            TableArg::Groups => Self::Groups,
            TableArg::Hours => Self::Hours,
            TableArg::Dropouts => Self::Dropouts,
            TableArg::Ledger => Self::Ledger,
        }
    }
}

/// A moment as people write it: `now`, `-8h`, `06:00`, `2026-11-25`, `2026-11-25 06:00`, RFC 3339. A time of day is the
/// last such time before now.
pub fn moment(text: &str, now: &ZonedDateTime) -> anyhow::Result<Timestamp> {
    let text = text.trim();
    let error = || {
        anyhow::anyhow!("{text:?} is not a moment: write it like now, -8h, -2d, 06:00, 2026-11-25 06:00 or 2026-11-25T06:00:00Z")
    };
    if text == "now" {
        return Ok(now.timestamp());
    }
    if let Some(ago) = text.strip_prefix('-') {
        let span: Span = ago.parse().map_err(|_| error())?;
        return Ok(now.checked_sub(span).map_err(|_| error())?.timestamp());
    }
    if let Ok(at) = text.parse::<Timestamp>() {
        return Ok(at);
    }
    let zoned = |at: DateTime| at.to_zoned_datetime(now.time_zone().clone()).map(|at| at.timestamp()).map_err(|_| error());
    if text.contains('-') {
        let at = text.parse::<DateTime>().or_else(|_| text.parse::<Date>().map(Date::to_datetime_midnight));
        return at.map_err(|_| error()).and_then(zoned);
    }
    let time: Time = text.parse().map_err(|_| error())?;
    let today = zoned(now.date().to_datetime(time))?;
    if today <= now.timestamp() { Ok(today) } else { zoned(now.date().yesterday().map_err(|_| error())?.to_datetime(time)) }
}

trait MidnightOf {
    fn to_datetime_midnight(self) -> DateTime;
}

impl MidnightOf for Date {
    fn to_datetime_midnight(self) -> DateTime {
        self.to_datetime(Time::midnight())
    }
}

/// A moment as the core has it.
pub fn wall(at: Timestamp) -> Wall {
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
}

/// Reads a time out of a record; `groups` are those of the cameras.
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
    Ok(Gathered { shift: Shift::new(from, to, &streams, gaps, &hours(from, to, zone)), entries })
}

/// A file that was not there before, with this in it.
fn write_new(path: &Path, bytes: &[u8]) -> anyhow::Result<()> {
    let mut file = File::create_new(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => anyhow::anyhow!("{} is there already: choose another name", path.display()),
        _ => anyhow::anyhow!("{} cannot be written: {error}", path.display()),
    })?;
    file.write_all(bytes).with_context(|| format!("{} cannot be written", path.display()))
}

/// Writes a report in the form that the file's name asks for.
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
pub fn write_pages(path: &Path, pages: &[Page], title: &str) -> anyhow::Result<()> {
    match Form::of(path)? {
        Form::Pdf => write_new(path, &pdf(pages, title)?),
        _ => write_new(path, svg(pages).as_bytes()),
    }
}

/// Makes the report of a command line.
pub fn run(options: &ReportOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let now = ZonedDateTime::now();
    let (from, to) = (moment(&options.from, &now)?, moment(&options.to, &now)?);
    if from >= to {
        bail!("--from {} is not before --to {}", options.from, options.to);
    }
    Form::of(&options.out)?;
    let kept = Kept::open(site)?;
    let path = places::ledger(kept.file.path())?;
    if !path.exists() {
        bail!("there is no record of this site yet ({}): the wall makes one while it runs", path.display());
    }
    let (record, _) = RecordFile::open(&path)?;
    let groups = groups(kept.file.site());
    let zone = now.time_zone().clone();
    let (from, to, now) = (wall(from), wall(to).min(wall(now.timestamp())), wall(now.timestamp()));
    let gathered = gather(&record, &groups, (from, to, now), &zone)?;
    let name = kept.file.site().name.clone().unwrap_or_else(|| "this site".into());
    let by = operator();
    let report =
        Report { site: &name, from, to, made_at: now, by: &by, zone, shift: &gathered.shift, entries: &gathered.entries };
    write(&options.out, &report, options.table.into())?;
    if gathered.shift.cameras.is_empty() {
        eprintln!("nothing was measured in this time");
        return Ok(ExitCode::from(1));
    }
    writeln!(std::io::stdout(), "{}", options.out.display())?;
    Ok(ExitCode::SUCCESS)
}

/// The group of each camera that is in one.
pub fn groups(site: &lattice_store::Site) -> HashMap<String, String> {
    site.cameras.iter().filter_map(|camera| Some((camera.name.clone(), camera.group.clone()?))).collect()
}

/// Who sits here.
pub fn operator() -> String {
    std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "operator".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_understood_or_explained() {
        let now: ZonedDateTime = "2026-11-25T19:30:00+00:00[UTC]".parse().unwrap();
        for (text, wanted) in [
            ("now", "2026-11-25T19:30:00Z"),
            ("-8h", "2026-11-25T11:30:00Z"),
            ("-2d", "2026-11-23T19:30:00Z"),
            ("06:00", "2026-11-25T06:00:00Z"),
            ("22:00", "2026-11-24T22:00:00Z"),
            ("2026-11-20", "2026-11-20T00:00:00Z"),
            ("2026-11-20 06:30", "2026-11-20T06:30:00Z"),
            ("2026-11-20T06:30:00+02:00", "2026-11-20T04:30:00Z"),
        ] {
            assert_eq!(moment(text, &now).unwrap().to_string(), wanted, "{text}");
        }
        for text in ["", "yesterday", "-8", "25:00", "2026-13-01", "-99999999999y"] {
            assert!(moment(text, &now).unwrap_err().to_string().contains("write it like"), "{text}");
        }
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
