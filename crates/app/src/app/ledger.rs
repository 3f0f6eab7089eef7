//! The ledger on the screen: what is shown of it, and what its keys do.

use super::{App, PickKind, Picker};
use crate::theme::Tone;
use lattice_core::ledger::{Entry, Ledger};
use lattice_engine::Command;
use lattice_store::EntryOrder;
use std::sync::Arc;
use std::time::Duration;
use tui_input::Input;

/// Times that the lanes look back on.
pub const LANE_SPANS: [(Duration, &str); 4] = [
    (Duration::from_secs(600), "10 minutes"),
    (Duration::from_secs(3600), "1 hour"),
    (Duration::from_secs(8 * 3600), "8 hours"),
    (Duration::from_secs(24 * 3600), "24 hours"),
];

/// A step in the ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LedgerStep {
    /// Open it.
    Open,
    /// Another entry.
    Row(i32),
    /// Take note of the selected entry, or not any more.
    Acknowledge,
    /// It asks for nobody for an hour, or again.
    Shelve,
    /// Write something to it.
    Note,
    /// Show only what holds these words.
    Filter,
    /// All entries; those that go on; those that need a hand.
    Only,
    /// All cameras as lanes over time, or the entries.
    Lanes,
    /// The lanes look back on another time.
    Span,
    /// Write a report to a file.
    Report,
    /// Show the camera of the selected entry on the wall, enlarged.
    Show,
}

/// Which entries are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Only {
    /// All.
    #[default]
    All,
    /// Those that go on.
    Running,
    /// Those that need a hand.
    Alarms,
}

/// The ledger and how it is looked at.
#[derive(Debug, Default)]
pub struct LedgerPage {
    /// All entries.
    pub ledger: Arc<Ledger>,
    /// The selected entry; the newest where it is not among those shown.
    pub chosen: Option<u64>,
    /// Words that entries must hold.
    pub filter: String,
    /// Which are shown.
    pub only: Only,
    /// As lanes over time.
    pub lanes: bool,
    /// Index of the time that the lanes look back on.
    pub span: usize,
}

impl App {
    /// The time of day as it stands in names of files.
    pub fn file_time(&self) -> String {
        let at = jiff::Timestamp::from_microsecond(self.utc.as_unix_micros()).unwrap_or_default();
        at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%Y%m%d-%H%M%S").to_string()
    }

    /// The entries that are shown, newest first.
    pub fn ledger_rows(&self) -> Vec<&Entry> {
        let words: Vec<String> = self.log.filter.split_whitespace().map(str::to_lowercase).collect();
        let wanted = |entry: &&Entry| match self.log.only {
            Only::All => true,
            Only::Running => entry.end.is_none(),
            Only::Alarms => entry.needs_a_hand(self.utc),
        };
        let entries = self.log.ledger.entries().iter().filter(wanted);
        let mut rows: Vec<&Entry> = entries.filter(|entry| words.iter().all(|word| self.holds(entry, word))).collect();
        rows.sort_by_key(|entry| std::cmp::Reverse((entry.start, entry.id)));
        rows
    }

    /// Whether an entry holds a word: in its cameras, groups, kind, cause or note; `>5` and `<5` compare its length in seconds.
    fn holds(&self, entry: &Entry, word: &str) -> bool {
        let length = entry.length(self.utc).as_secs_f64();
        let seconds = |rest: &str| rest.trim_end_matches('s').parse::<f64>().ok();
        if let Some(least) = word.strip_prefix('>').and_then(seconds) {
            return length > least;
        }
        if let Some(most) = word.strip_prefix('<').and_then(seconds) {
            return length < most;
        }
        let groups = entry.cameras.iter().filter_map(|name| self.desk.site.camera(name)?.group.as_deref());
        let cause = entry.cause.map_or_else(String::new, |cause| format!("{} {cause}", cause.word()));
        let shared = entry.shared.as_ref().map_or_else(String::new, ToString::to_string);
        let own = [entry.kind.word(), &cause, &shared, &entry.note];
        let mut texts = own.into_iter().chain(entry.cameras.iter().map(String::as_str)).chain(groups);
        texts.any(|text| text.to_lowercase().contains(word))
    }

    /// Where the selected entry stands among those shown.
    pub fn ledger_row(&self, rows: &[&Entry]) -> usize {
        rows.iter().position(|entry| Some(entry.id) == self.log.chosen).unwrap_or(0)
    }

    pub(super) fn ledger_step(&mut self, step: LedgerStep) {
        let rows = self.ledger_rows();
        let row = self.ledger_row(&rows);
        let chosen = rows.get(row).map(|entry| entry.id);
        match step {
            LedgerStep::Open => self.page = crate::desk::Page::Ledger,
            LedgerStep::Row(by) => {
                let to = row.saturating_add_signed(by as isize).min(rows.len().saturating_sub(1));
                self.log.chosen = rows.get(to).map(|entry| entry.id);
            }
            LedgerStep::Only => {
                self.log.only = match self.log.only {
                    Only::All => Only::Running,
                    Only::Running => Only::Alarms,
                    Only::Alarms => Only::All,
                };
            }
            LedgerStep::Lanes => self.log.lanes = !self.log.lanes,
            LedgerStep::Span => self.log.span = (self.log.span + 1) % LANE_SPANS.len(),
            LedgerStep::Report => {
                let name = format!("report-{}.pdf", self.file_time());
                self.picker = Some(Picker { input: Input::new(name), ..Picker::new(PickKind::Report) });
            }
            LedgerStep::Filter => {
                self.picker = Some(Picker { input: Input::new(self.log.filter.clone()), ..Picker::new(PickKind::LedgerFilter) });
            }
            LedgerStep::Acknowledge | LedgerStep::Shelve | LedgerStep::Note | LedgerStep::Show => match chosen {
                Some(id) => self.on_entry(id, step),
                None => self.say(Tone::Text, "no entry is selected".into()),
            },
        }
    }

    fn on_entry(&mut self, id: u64, step: LedgerStep) {
        self.log.chosen = Some(id);
        let Some(entry) = self.log.ledger.entries().iter().find(|entry| entry.id == id) else { return };
        match step {
            LedgerStep::Acknowledge => self.tell(Command::Entry(id, EntryOrder::Acknowledge)),
            LedgerStep::Shelve => self.tell(Command::Entry(id, EntryOrder::Shelve)),
            LedgerStep::Note => {
                let input = Input::new(entry.note.clone());
                self.picker = Some(Picker { input, ..Picker::new(PickKind::Note) });
            }
            _ => {
                let camera = entry.cameras.first().cloned().unwrap_or_default();
                self.show_camera(&camera);
            }
        }
    }

    /// What was typed for the ledger is done.
    pub(super) fn ledger_typed(&mut self, kind: PickKind, text: &str) {
        match (kind, self.log.chosen) {
            (PickKind::LedgerFilter, _) => text.trim().clone_into(&mut self.log.filter),
            (PickKind::Note, Some(id)) => {
                self.tell(Command::Entry(id, EntryOrder::Note(text.trim().to_owned())));
            }
            _ => {}
        }
    }
}
