//! The search for the best choice: several tries, exchanges, and for few groups a look through all combinations.

use super::{Group, Ledger, SLACK, Way};

/// Groups up to which exchanges between two are tried, and combinations are looked through.
const FEW: usize = 24;
/// How many combinations at most: about two milliseconds.
const MAX_LOOKS: u32 = 60_000;

/// By what the steps up are ordered.
#[derive(Clone, Copy)]
enum By {
    /// What is gained for the share of the budgets.
    Gain,
    /// What takes the least share.
    Share,
    /// What is gained at all.
    Worth,
}

/// For each group, which of its ways: the best of several tries, made better by exchanges, and for few groups by a search.
pub(super) fn choose(groups: &[Group<'_>], ledger: &mut Ledger<'_>) -> Vec<Option<usize>> {
    let base = ledger.clone();
    let mut chosen = vec![None; groups.len()];
    let mut best = 0.0;
    for by in [By::Gain, By::Share, By::Worth] {
        let mut now = base.clone();
        let mut tried = greedy(groups, &mut now, by);
        if groups.len() <= FEW {
            exchange(groups, &mut now, &mut tried);
        }
        let worth = value(groups, &tried);
        if worth > best {
            (best, chosen) = (worth, tried);
        }
    }
    let most: f64 = groups.iter().map(Group::most).sum();
    if groups.len() <= FEW && best < most * (1.0 - SLACK) {
        let mut search = Search { groups, best, chosen, now: vec![None; groups.len()], looks: 0 };
        search.descend(0, 0.0, most, &mut base.clone());
        chosen = search.chosen;
    }
    *ledger = base;
    for (group, at) in groups.iter().zip(&chosen) {
        take(ledger, group, *at, 1);
    }
    chosen
}

fn value(groups: &[Group<'_>], chosen: &[Option<usize>]) -> f64 {
    groups.iter().zip(chosen).filter_map(|(group, at)| Some(group.ways.get((*at)?)?.value)).sum()
}

/// Takes a way of a group into the ledger, or with -1 out of it.
fn take(ledger: &mut Ledger<'_>, group: &Group<'_>, at: Option<usize>, times: i32) {
    if let Some(way) = at.and_then(|at| group.ways.get(at)).filter(|way| !way.open) {
        ledger.add(group.host, way.candidate, times);
    }
}

/// Whether a way fits.
fn fits(ledger: &Ledger<'_>, group: &Group<'_>, at: usize) -> bool {
    group.ways.get(at).is_some_and(|way| way.open || ledger.short(group.host, way.candidate).is_none())
}

/// Steps up, in an order: first one for every group, then from it to more worth.
fn greedy(groups: &[Group<'_>], ledger: &mut Ledger<'_>, by: By) -> Vec<Option<usize>> {
    let mut steps: Vec<(bool, f64, usize, usize)> = Vec::new();
    let order = |gain: f64, share: f64| match by {
        By::Gain => gain / share.max(1e-9),
        By::Share => -share,
        By::Worth => gain,
    };
    for (index, group) in groups.iter().enumerate() {
        let share = |way: &Way<'_>| if way.open { 0.0 } else { ledger.share(group.host, way.candidate) };
        for (at, way) in group.ways.iter().enumerate() {
            steps.push((false, order(way.value, share(way)), index, at));
        }
        for (at, pair) in group.ways.windows(2).enumerate() {
            if let [less, more] = pair {
                steps.push((true, order(more.value - less.value, share(more) - share(less)), index, at + 1));
            }
        }
    }
    steps.sort_by(|a, b| a.0.cmp(&b.0).then(b.1.total_cmp(&a.1)));
    let mut chosen = vec![None; groups.len()];
    for (up, _, index, at) in steps {
        let (Some(group), Some(now)) = (groups.get(index), chosen.get_mut(index)) else { continue };
        if now.is_some_and(|now| !up || now >= at) {
            continue;
        }
        take(ledger, group, *now, -1);
        if fits(ledger, group, at) {
            *now = Some(at);
        }
        take(ledger, group, *now, 1);
    }
    chosen
}

/// One group steps down, or goes without, so that another can step up, while that is worth more.
fn exchange(groups: &[Group<'_>], ledger: &mut Ledger<'_>, chosen: &mut [Option<usize>]) {
    let worth = |group: &Group<'_>, at: Option<usize>| at.and_then(|at| group.ways.get(at)).map_or(0.0, |way| way.value);
    for _ in 0..groups.len() * 2 {
        let mut best: Option<(f64, usize, Option<usize>, usize, usize)> = None;
        for (up, group) in groups.iter().enumerate() {
            let now = chosen.get(up).copied().flatten();
            for at in now.map_or(0, |now| now + 1)..group.ways.len() {
                let gain = worth(group, Some(at)) - worth(group, now);
                take(ledger, group, now, -1);
                for (down, other) in groups.iter().enumerate().filter(|(down, _)| *down != up) {
                    let Some(from) = chosen.get(down).copied().flatten() else { continue };
                    for to in [None].into_iter().chain((0..from).map(Some)) {
                        let net = gain - worth(other, Some(from)) + worth(other, to);
                        if net <= best.map_or(SLACK, |best| best.0) {
                            continue;
                        }
                        take(ledger, other, Some(from), -1);
                        if to.is_none_or(|to| fits(ledger, other, to)) {
                            take(ledger, other, to, 1);
                            if fits(ledger, group, at) {
                                best = Some((net, down, to, up, at));
                            }
                            take(ledger, other, to, -1);
                        }
                        take(ledger, other, Some(from), 1);
                    }
                }
                take(ledger, group, now, 1);
            }
        }
        let Some((_, down, to, up, at)) = best else { return };
        for (index, to) in [(down, to), (up, Some(at))] {
            if let (Some(group), Some(now)) = (groups.get(index), chosen.get_mut(index)) {
                take(ledger, group, *now, -1);
                *now = to;
                take(ledger, group, *now, 1);
            }
        }
    }
}

/// Combinations, as far as they can still be better than the best so far.
struct Search<'a> {
    groups: &'a [Group<'a>],
    best: f64,
    chosen: Vec<Option<usize>>,
    now: Vec<Option<usize>>,
    looks: u32,
}

impl Search<'_> {
    fn descend(&mut self, index: usize, value: f64, rest: f64, ledger: &mut Ledger<'_>) {
        self.looks += 1;
        if self.looks > MAX_LOOKS || value + rest <= self.best * (1.0 + SLACK) {
            return;
        }
        let groups = self.groups;
        let Some(group) = groups.get(index) else {
            self.best = value;
            self.chosen.clone_from(&self.now);
            return;
        };
        for at in (0..group.ways.len()).rev().map(Some).chain([None]) {
            if at.is_some_and(|at| !fits(ledger, group, at)) {
                continue;
            }
            take(ledger, group, at, 1);
            if let Some(now) = self.now.get_mut(index) {
                *now = at;
            }
            let own = at.and_then(|at| group.ways.get(at)).map_or(0.0, |way| way.value);
            self.descend(index + 1, value + own, rest - group.most(), ledger);
            take(ledger, group, at, -1);
        }
        if let Some(now) = self.now.get_mut(index) {
            *now = None;
        }
    }
}
