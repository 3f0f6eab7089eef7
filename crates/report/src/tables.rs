//! The same as tables for other programs.

use crate::shift::Report;
use crate::text::moment;
use lattice_core::Cause;
use lattice_core::ledger::{Entry, Part};
use lattice_core::shift::{Gap, Standing};
use serde_json::{Value, json as value};

/// A table of a report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Table {
    /// A row a camera.
    #[default]
    Cameras,
    /// A row a group.
    Groups,
    /// A row an hour.
    Hours,
    /// A row a time without new pictures.
    Dropouts,
    /// A row a ledger entry.
    Ledger,
}

const STANDING: [&str; 12] = [
    "measured_s",
    "missing_s",
    "availability",
    "dropouts",
    "longest_s",
    "mean_between_dropouts_s",
    "mean_to_return_s",
    "latency_p50_ms",
    "latency_p95_ms",
    "clock_offset_ms",
    "clock_error_ms",
    "missing_by_this_machine_s",
];

fn seconds(span: std::time::Duration) -> Value {
    value!((span.as_secs_f64() * 1e3).round() / 1e3)
}

fn number(number: Option<f32>) -> Value {
    number.map_or(Value::Null, |number| value!((f64::from(number) * 10.0).round() / 10.0))
}

fn standing(of: &Standing) -> [Value; 12] {
    [
        seconds(of.measured),
        seconds(of.missing),
        of.availability().map_or(Value::Null, |share| value!((share * 1e6).floor() / 1e6)),
        value!(of.dropouts),
        seconds(of.longest),
        of.between_dropouts().map_or(Value::Null, seconds),
        of.to_return().map_or(Value::Null, seconds),
        number(of.latency_p50),
        number(of.latency_p95),
        number(of.clock.map(|(offset, _)| offset)),
        number(of.clock.map(|(_, error)| error)),
        seconds(of.missing_own),
    ]
}

impl Report<'_> {
    /// By RFC 3339, in UTC.
    fn utc(at: lattice_core::Wall) -> Value {
        value!(moment(at, &jiff::tz::TimeZone::UTC, "%Y-%m-%dT%H:%M:%S%.3fZ"))
    }

    fn gap(gap: &Gap) -> Vec<(&'static str, Value)> {
        vec![
            ("camera", value!(gap.camera)),
            ("stream", value!(gap.stream)),
            ("start", Self::utc(gap.start)),
            ("end", Self::utc(gap.end)),
            ("length_s", seconds(gap.length())),
            ("goes_on", value!(gap.goes_on)),
            ("kind", value!(gap.kind.word())),
            ("cause", value!(gap.cause.map(Cause::word))),
        ]
    }

    /// A stretch of an entry: `Mast freeze 2026-11-26T06:00:00.000Z/2026-11-26T06:00:03.000Z` (ISO 8601 interval).
    fn part(part: &Part) -> String {
        let utc = |at| moment(at, &jiff::tz::TimeZone::UTC, "%Y-%m-%dT%H:%M:%S%.3fZ");
        format!("{} {} {}/{}", part.camera, part.kind.word(), utc(part.start), part.end.map_or_else(|| "..".into(), utc))
    }

    fn entry(entry: &Entry) -> Vec<(&'static str, Value)> {
        let acknowledged = entry.acknowledged.as_ref();
        vec![
            ("start", Self::utc(entry.start)),
            ("end", entry.end.map_or(Value::Null, Self::utc)),
            ("kind", value!(entry.kind.word())),
            ("cameras", value!(entry.cameras.join("; "))),
            ("shared", value!(entry.shared.as_ref().map(ToString::to_string))),
            ("times", value!(entry.times)),
            ("down_s", entry.end.map_or(Value::Null, |end| seconds(entry.parts.missing(end)))),
            ("parts", value!(entry.parts.told.iter().map(Self::part).collect::<Vec<_>>().join("; "))),
            ("cause", value!(entry.cause.map(Cause::word))),
            ("confidence", value!(entry.confidence.word())),
            ("evidence", value!(entry.evidence)),
            ("done", value!(entry.done.join("; "))),
            ("acknowledged_by", value!(acknowledged.map(|one| one.by.clone()))),
            ("acknowledged_at", acknowledged.map_or(Value::Null, |one| Self::utc(one.at))),
            ("note", value!(entry.note)),
        ]
    }

    fn rows(&self, table: Table) -> Vec<Vec<(&'static str, Value)>> {
        let of = |one: &Standing| STANDING.into_iter().zip(standing(one)).collect::<Vec<_>>();
        let named = |one: &Standing, word: &'static str| [vec![(word, value!(one.name))], of(one)].concat();
        let cause = |one: &Standing| ("main_cause", value!(one.main_cause.map(Cause::word)));
        match table {
            Table::Cameras => {
                let row = |one: &Standing| {
                    let mut row = named(one, "camera");
                    row.insert(1, ("group", value!(one.group)));
                    row.push(cause(one));
                    row
                };
                self.shift.cameras.iter().map(row).collect()
            }
            Table::Groups => self.shift.groups.iter().map(|one| [named(one, "group"), vec![cause(one)]].concat()).collect(),
            Table::Hours => {
                let row = |(start, one): &(lattice_core::Wall, Standing)| [vec![("from", Self::utc(*start))], of(one)].concat();
                self.shift.hours.iter().map(row).collect()
            }
            Table::Dropouts => self.shift.gaps.iter().map(Self::gap).collect(),
            Table::Ledger => self.entries.iter().map(Self::entry).collect(),
        }
    }

    /// The names of a table's columns, also where it has no row.
    fn columns(table: Table) -> Vec<&'static str> {
        let wall = lattice_core::Wall::from_unix_micros(0);
        match table {
            Table::Cameras => [&["camera", "group"][..], &STANDING, &["main_cause"]].concat(),
            Table::Groups => [&["group"][..], &STANDING, &["main_cause"]].concat(),
            Table::Hours => [&["from"][..], &STANDING].concat(),
            Table::Dropouts => {
                let kind = lattice_core::event::EventKind::Freeze;
                let (camera, stream) = (String::new(), String::new());
                let gap = Gap { camera, stream, start: wall, end: wall, goes_on: false, kind, cause: None };
                Self::gap(&gap).into_iter().map(|(name, _)| name).collect()
            }
            Table::Ledger => vec![
                "start",
                "end",
                "kind",
                "cameras",
                "shared",
                "times",
                "down_s",
                "parts",
                "cause",
                "confidence",
                "evidence",
                "done",
                "acknowledged_by",
                "acknowledged_at",
                "note",
            ],
        }
    }
}

/// One table as CSV (RFC 4180), with a head. What a spreadsheet would take for a formula is kept from it by an apostrophe.
#[must_use]
pub fn csv(report: &Report<'_>, table: Table) -> String {
    let cell = |value: &Value| match value {
        Value::Null => String::new(),
        Value::String(text) if text.starts_with(['=', '+', '-', '@', '\t']) => format!("'{text}"),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let mut out = csv::Writer::from_writer(Vec::new());
    // Into memory: there is nothing that could fail.
    let _ = out.write_record(Report::columns(table));
    for row in report.rows(table) {
        let _ = out.write_record(row.iter().map(|(_, value)| cell(value)));
    }
    out.into_inner().ok().and_then(|bytes| String::from_utf8(bytes).ok()).unwrap_or_default()
}

/// A ledger entry as one line of JSON, with its number.
#[must_use]
pub fn entry_line(entry: &Entry) -> String {
    let fields = Report::entry(entry).into_iter().map(|(name, value)| (name.to_owned(), value));
    let whole: serde_json::Map<String, Value> = std::iter::once(("id".to_owned(), value!(entry.id))).chain(fields).collect();
    Value::Object(whole).to_string()
}

/// Everything as one JSON object.
#[must_use]
pub fn json(report: &Report<'_>) -> String {
    let table = |table: Table| {
        let rows = report.rows(table).into_iter();
        Value::Array(
            rows.map(|row| Value::Object(row.into_iter().map(|(name, value)| (name.to_owned(), value)).collect())).collect(),
        )
    };
    let all: serde_json::Map<String, Value> =
        STANDING.into_iter().zip(standing(&report.shift.all)).map(|(name, value)| (name.to_owned(), value)).collect();
    let whole = value!({
        "site": report.site,
        "from": Report::utc(report.from),
        "to": Report::utc(report.to),
        "made_at": Report::utc(report.made_at),
        "all": all,
        "cameras": table(Table::Cameras),
        "groups": table(Table::Groups),
        "hours": table(Table::Hours),
        "dropouts": table(Table::Dropouts),
        "ledger": table(Table::Ledger),
    });
    serde_json::to_string_pretty(&whole).unwrap_or_default() + "\n"
}
