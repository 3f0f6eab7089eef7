//! `ledger`: the entries of the site's ledger on standard output, for people and for other systems.

use crate::cli::LedgerOptions;
use crate::commands::report::{moment, wall};
use anyhow::bail;
use jiff::{Timestamp, ZonedDateTime};
use lattice_core::ledger::Entry;
use lattice_core::{Wall, event::EventKind};
use lattice_engine::Telling;
use lattice_engine::kept::Kept;
use lattice_engine::places;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

/// The record is looked at this often for what is new.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Entries that may still change: the newest.
const MAY_CHANGE: usize = 1000;

/// Prints the entries of a time, and with `--follow` those that come.
pub fn run(options: &LedgerOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let now = ZonedDateTime::now();
    let (from, to) = (wall(moment(&options.from, &now)?), wall(moment(&options.to, &now)?));
    if from >= to {
        bail!("--from {} is not before --to {}", options.from, options.to);
    }
    let kept = Kept::open(site)?;
    let path = places::ledger(kept.file.path())?;
    if !options.follow && !path.exists() {
        bail!("there is no record of this site yet ({}): the wall makes one while it runs", path.display());
    }
    let (record, aside) = lattice_engine::keeper::look_into(&path)?;
    if let Some(aside) = aside {
        eprintln!("amber-lattice: the record was damaged: it is set aside as {}", aside.display());
    }
    let (mut out, mut telling) = (std::io::stdout().lock(), Telling::default());
    let mut entries = record.entries(from, to)?;
    loop {
        for entry in entries.iter().filter(|entry| telling.is_news(entry)) {
            let line = if options.json { lattice_report::entry_line(entry) } else { line(entry, &now) };
            if writeln!(out, "{line}").and_then(|()| out.flush()).is_err() {
                return Ok(ExitCode::SUCCESS); // nobody reads any more
            }
        }
        if !options.follow {
            return Ok(ExitCode::SUCCESS);
        }
        std::thread::sleep(LOOK_EVERY);
        entries = record.newest(MAY_CHANGE)?;
        entries.retain(|entry| entry.end.is_none_or(|end| end >= from));
    }
}

/// An entry for people.
fn line(entry: &Entry, now: &ZonedDateTime) -> String {
    let at = |wall: Wall| {
        Timestamp::from_microsecond(wall.as_unix_micros()).unwrap_or_default().to_zoned_datetime(now.time_zone().clone())
    };
    let length = match entry.end {
        _ if entry.kind.is_change() => String::new(),
        Some(end) => entry.length_text(end),
        None => "goes on".into(),
    };
    let cause = entry.cause.map_or_else(String::new, |cause| format!("  {cause} ({})", entry.confidence.word()));
    let evidence = if entry.evidence.is_empty() { String::new() } else { format!(": {}", entry.evidence) };
    let noted = entry.acknowledged.as_ref().map_or_else(String::new, |noted| format!("  acknowledged by {}", noted.by));
    let when = at(entry.start).strftime("%Y-%m-%d %H:%M:%S").to_string();
    let kind: EventKind = entry.kind;
    format!("{when}  {:<10} {:<28} {length:>10}{cause}{evidence}{noted}", kind.word(), entry.subject())
}
