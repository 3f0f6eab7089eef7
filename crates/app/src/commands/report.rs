//! `report`: a shift on paper or as tables, from the record of the site; and what is on the screen as a file.

use crate::cli::{ReportOptions, TableArg};
use anyhow::bail;
use jiff::civil::{Date, DateTime, Time};
use jiff::{Span, Timestamp, ZonedDateTime};
use lattice_core::Wall;
use lattice_engine::jobs::{Form, gather, groups, operator, write};
use lattice_engine::kept::Kept;
use lattice_engine::places;
use lattice_report::{Report, Table};
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

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
    let (record, aside) = lattice_engine::keeper::look_into(&path)?;
    if let Some(aside) = aside {
        eprintln!("amber-lattice: the record was damaged: it is set aside as {}", aside.display());
    }
    let groups = groups(kept.file.site());
    let zone = now.time_zone().clone();
    let (from, to, now) = (wall(from), wall(to).min(wall(now.timestamp())), wall(now.timestamp()));
    let gathered = gather(&record, &groups, (from, to, now), &zone)?;
    let name = kept.file.site().name.clone().unwrap_or_else(|| "this site".into());
    let by = operator(options.operator.as_deref());
    let report = Report {
        site: &name,
        from,
        to,
        made_at: now,
        by: &by,
        zone,
        shift: &gathered.shift,
        entries: &gathered.entries,
        pictures: &gathered.pictures,
    };
    write(&options.out, &report, options.table.into())?;
    if gathered.shift.cameras.is_empty() {
        eprintln!("nothing was measured in this time");
        return Ok(ExitCode::from(1));
    }
    writeln!(std::io::stdout(), "{}", options.out.display())?;
    Ok(ExitCode::SUCCESS)
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
    }
}
