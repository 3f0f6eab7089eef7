//! The trouble wall: every camera that is in alarm or in trouble now, the worst largest. It follows what happens, and one key
//! leads back.

use crate::tui::app::App;
use crate::tui::lattices::TROUBLE;
use crate::tui::theme::Tone;
use lattice_core::lattice::Lattice;
use lattice_core::layout::{Layout, Preset};
use lattice_core::{Mono, Verdict};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// A camera that is well again stays for so long: who just looked at it sees that it came back.
const STAYS: Duration = Duration::from_secs(10);
/// Tiles change their places no more often than this.
const EVERY: Duration = Duration::from_secs(2);
/// Most cameras on it, the worst of all; the rest is in the ledger.
const MOST: usize = 64;

/// Who stands on it.
#[derive(Debug, Default)]
pub struct Trouble {
    /// Each camera that is or was in trouble just now: how bad, and since when it is well.
    known: BTreeMap<String, (u8, Option<Mono>)>,
    arranged: Option<Mono>,
}

/// A layout for so many cameras, the first of them larger than the others.
fn layout(count: usize) -> Layout {
    match count {
        0..=2 => Layout::even(count),
        3 | 4 => Layout::Preset(Preset::One3),
        5 | 6 => Layout::Preset(Preset::One5),
        7 | 8 => Layout::Preset(Preset::One7),
        9..=16 => Layout::Preset(Preset::One15),
        more => Layout::even(more),
    }
}

impl App {
    /// Shows all that is in trouble, or what was shown before.
    pub fn toggle_trouble(&mut self) {
        (self.enlarged, self.lifted) = (false, None);
        if self.lattices.leave_trouble() {
            return self.show_wall();
        }
        self.end_tour();
        self.trouble = Trouble::default();
        self.lattices.show_trouble(Lattice::new(TROUBLE, Layout::even(1)));
        self.selected = 0;
        self.follow_trouble();
        self.show_wall();
        if self.trouble.known.is_empty() {
            self.say(Tone::Text, "no camera is in trouble now; ! leads back".into());
        }
    }

    /// Whether the trouble wall is shown.
    pub fn is_on_trouble(&self) -> bool {
        self.lattices.shown().name == TROUBLE
    }

    /// How bad each camera is that is not well: in alarm, lost, locked, stalled, strained.
    fn in_trouble(&self) -> BTreeMap<String, u8> {
        let alarms = self.ledger.alarms(self.utc).flat_map(|entry| entry.cameras.iter().cloned()).collect::<BTreeSet<_>>();
        let badness = |(id, name): (lattice_engine::CameraId, &str)| {
            let verdict = self.telling(id).and_then(|key| self.figures.get(&key)).map(|figures| figures.verdict);
            let rank = match verdict {
                Some(Verdict::Lost) => 0,
                Some(Verdict::Stalled) => 1,
                Some(Verdict::Locked) => 2,
                Some(Verdict::Strained) => 3,
                _ => 4,
            };
            // Of those in alarm each goes before all others.
            let alarm = alarms.contains(name);
            (alarm || rank < 4).then(|| (name.to_owned(), if alarm { rank } else { 10 + rank }))
        };
        self.cameras.iter().filter_map(|(id, def)| badness((id, def.name.as_str()))).collect()
    }

    /// Puts onto the trouble wall who came, and takes off who has been well for a while.
    pub fn follow_trouble(&mut self) {
        if !self.is_on_trouble() {
            return;
        }
        let now = self.now;
        let trouble = self.in_trouble();
        for (name, (bad, well)) in &mut self.trouble.known {
            match trouble.get(name) {
                Some(worse) => (*bad, *well) = (*worse, None),
                None => {
                    well.get_or_insert(now);
                }
            }
        }
        self.trouble.known.retain(|_, (_, well)| well.is_none_or(|since| now.since(since) < STAYS));
        for (name, bad) in trouble {
            self.trouble.known.entry(name).or_insert((bad, None));
        }
        if self.enlarged || self.trouble.arranged.is_some_and(|before| now.since(before) < EVERY) {
            return; // what is looked at does not go away
        }
        let mut names: Vec<(u8, String)> = self.trouble.known.iter().map(|(name, (bad, _))| (*bad, name.clone())).collect();
        let shown = self.lattices.shown();
        // Of those that are as bad, who stands first stays first.
        names.sort_by_key(|(bad, name)| (*bad, shown.find(name).unwrap_or(usize::MAX)));
        let names: Vec<String> = names.into_iter().take(MOST).map(|(_, name)| name).collect();
        if names != shown.cameras() {
            self.trouble.arranged = Some(now);
            let mut lattice = Lattice::new(TROUBLE, layout(names.len()));
            lattice.fill(0, names.iter().map(String::as_str));
            self.lattices.show_trouble(lattice);
            self.same_tiles_since = now;
        }
    }
}
