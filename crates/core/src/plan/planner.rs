//! Plans over time.

use super::{Budgets, Candidate, HostBudget, Ledger, Plan, Reason, SLACK, Subject, plan, reason};
use crate::{BitsPerSecond, Mono, Role};
use std::collections::BTreeMap;
use std::time::Duration;

/// Free room that a climb needs beyond what it takes, as a share of each budget.
pub const HEADROOM: f64 = 0.2;
/// How long the room must have been there.
pub const CLIMB_AFTER: Duration = Duration::from_secs(10);

/// Plans over time: what does not fit eases at once, what could climb waits until the room for it has been there for
/// [`CLIMB_AFTER`].
///
/// Cameras are known by `K`, so that tiles may come and go between two plans.
#[derive(Debug, Clone)]
pub struct Planner<K> {
    now: BTreeMap<K, Option<Role>>,
    /// A climb that would be made, and since when.
    wish: Option<(BTreeMap<K, Option<Role>>, Mono)>,
}

impl<K> Default for Planner<K> {
    fn default() -> Self {
        Self { now: BTreeMap::new(), wish: None }
    }
}

impl<K: Ord + Clone> Planner<K> {
    /// The plan for now. `keys` names the subjects, in the same order.
    pub fn plan(&mut self, now: Mono, keys: &[K], subjects: &[Subject], budgets: &Budgets) -> Plan {
        let automatic = |plan: &Plan| -> BTreeMap<K, Option<Role>> {
            let free = |(index, key): (usize, &K)| {
                let subject = subjects.get(index)?;
                let choices = plan.choices.get(index)?;
                let mut pairs = subject.tiles.iter().zip(choices);
                let (_, choice) = pairs.find(|(_, choice)| choice.reason != Reason::Held)?;
                Some((key.clone(), choice.role))
            };
            keys.iter().enumerate().filter_map(free).collect()
        };
        // What is shown may stay or ease; what is new has no past.
        let stay: Vec<Subject> = subjects.iter().zip(keys).map(|(subject, key)| self.no_heavier(subject, key)).collect();
        let eased = plan(&stay, budgets);
        let wanted = plan(subjects, &with_headroom(budgets));
        let wish = automatic(&wanted);
        if wanted.value <= eased.value * (1.0 + SLACK) || wish == automatic(&eased) {
            self.wish = None;
        } else {
            let since = self.wish.take().filter(|(before, _)| *before == wish).map_or(now, |(_, since)| since);
            if now.since(since) >= CLIMB_AFTER {
                self.now = wish;
                return wanted;
            }
            self.wish = Some((wish, since));
        }
        self.now = automatic(&eased);
        with_reasons(eased, subjects, budgets)
    }

    /// A subject has no past any more: the next plan gives it what fits at once.
    pub fn forget(&mut self, key: &K) {
        self.now.remove(key);
        self.wish = None;
    }

    /// When a wish may come true; `None` while there is none.
    #[must_use]
    pub fn deadline(&self) -> Option<Mono> {
        self.wish.as_ref().map(|(_, since)| *since + CLIMB_AFTER)
    }

    /// A subject without the streams that are larger than the one its automatic tiles show, but for those that are held.
    fn no_heavier(&self, subject: &Subject, key: &K) -> Subject {
        let Some(Some(role)) = self.now.get(key) else { return subject.clone() };
        let Some(most) = subject.candidates.iter().find(|candidate| candidate.role == *role).map(Candidate::pixels) else {
            return subject.clone();
        };
        let held = |candidate: &Candidate| subject.tiles.iter().any(|tile| tile.hold == Some(candidate.role));
        let candidates = subject.candidates.iter().filter(|one| one.pixels() <= most || held(one)).copied().collect();
        Subject { candidates, ..subject.clone() }
    }
}

fn with_headroom(budgets: &Budgets) -> Budgets {
    let less = |bits: BitsPerSecond| BitsPerSecond(bits.0 * (1.0 - HEADROOM));
    Budgets {
        link: budgets.link.map(less),
        decoding: budgets.decoding.map(|most| most * (1.0 - HEADROOM)),
        // A viewer is there or not: there is no part of one to keep free.
        hosts: budgets.hosts.iter().map(|host| HostBudget { link: host.link.map(less), ..*host }).collect(),
    }
}

/// The reasons of a plan that was made among fewer streams, seen among all of them.
fn with_reasons(mut plan: Plan, subjects: &[Subject], budgets: &Budgets) -> Plan {
    let ledger = Ledger { budgets, load: plan.load.clone() };
    for (subject, choices) in subjects.iter().zip(&mut plan.choices) {
        for (tile, choice) in subject.tiles.iter().zip(choices) {
            let shown = subject.candidates.iter().find(|candidate| Some(candidate.role) == choice.role);
            if !matches!(choice.reason, Reason::Held | Reason::HoldImpossible(..)) {
                choice.reason = reason(subject, tile, shown, &ledger);
            }
        }
    }
    plan
}
