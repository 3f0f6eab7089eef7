//! Which stream each tile shows: all visible tiles planned together, under budgets.
//!
//! A camera that stands in several tiles is received once, so it is planned once: its automatic tiles show the same
//! stream. What a stream is worth is how finely the tiles can show it: a tile of few pixels gains nothing by a heavy
//! stream, and then the lightest that is as good is chosen. Three budgets bound it: link (in all, and to each host),
//! decoding, viewers of a device. What the operator holds is kept as long as it fits.
//!
//! [`plan`] is the decision for one moment; [`Planner`] adds time: it eases at once, and climbs only into room that has
//! been free for a while.

mod choose;
mod planner;

pub use planner::{CLIMB_AFTER, HEADROOM, Planner};

use crate::{BitsPerSecond, Role};
use choose::choose;
use std::collections::BTreeMap;

/// A stream that could be shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Candidate {
    /// Which of the camera's.
    pub role: Role,
    /// Size in pixels.
    pub size: (u32, u32),
    /// Frames a second.
    pub rate: f64,
    /// What it takes of the link.
    pub bitrate: BitsPerSecond,
}

impl Candidate {
    /// Pixels of a picture.
    #[must_use]
    pub fn pixels(&self) -> f64 {
        f64::from(self.size.0) * f64::from(self.size.1)
    }

    /// Megapixels a second to decode.
    #[must_use]
    pub fn decoding(&self) -> f64 {
        self.pixels() * self.rate / 1e6
    }
}

/// A tile that shows a camera.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shown {
    /// Pixels that the tile's picture can really show.
    pub pixels: u32,
    /// How much it matters: 1 for a tile like others, more for one that is enlarged or selected.
    pub weight: f64,
    /// The stream that the operator holds it on.
    pub hold: Option<Role>,
}

/// A camera that is visible.
#[derive(Debug, Clone, PartialEq)]
pub struct Subject {
    /// Its streams; none that is not known to work.
    pub candidates: Vec<Candidate>,
    /// The tiles that show it.
    pub tiles: Vec<Shown>,
    /// Its host: index into [`Budgets::hosts`].
    pub host: usize,
}

/// What there is.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Budgets {
    /// The link in all; `None` where it is not known to be bounded.
    pub link: Option<BitsPerSecond>,
    /// Megapixels a second that this machine decodes.
    pub decoding: Option<f64>,
    /// Each host's own link, and the viewers that it takes.
    pub hosts: Vec<HostBudget>,
}

/// What one host gives.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct HostBudget {
    /// The link to it.
    pub link: Option<BitsPerSecond>,
    /// Viewers that it takes at a time: a stream of it is one.
    pub viewers: Option<u32>,
}

/// What is used.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Load {
    /// Bits a second in all.
    pub link: f64,
    /// Megapixels a second.
    pub decoding: f64,
    /// Bits a second and streams, by host.
    pub hosts: Vec<(f64, u32)>,
}

/// Which budget is short.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Short {
    /// The link in all.
    Link,
    /// The link to the host.
    HostLink,
    /// Decoding.
    Decoding,
    /// Viewers of the device.
    Viewers,
}

impl Short {
    /// What is said of it, in 24 letters at most.
    #[must_use]
    pub const fn phrase(self) -> &'static str {
        match self {
            Self::Link => "link budget used up",
            Self::HostLink => "host's link used up",
            Self::Decoding => "decoding budget used up",
            Self::Viewers => "viewer limit reached",
        }
    }
}

/// Why a tile shows what it shows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Reason {
    /// The operator holds it.
    Held,
    /// The operator holds another, for which there is no room.
    HoldImpossible(Role, Short),
    /// It is the only one.
    Only,
    /// The tile can show this share (0 to 1) of the pixels of the next heavier one: it would look the same.
    Enough(Role, f64),
    /// The next heavier one would look better, but this budget is short.
    NoRoom(Role, Short),
    /// The next heavier one would look better and has room; it is taken when the room has been there for a while.
    Waits(Role),
    /// Nothing better is there.
    Best,
    /// There is no room even for the lightest.
    Nothing(Short),
}

/// What a tile shows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Choice {
    /// The stream; `None` where there is no room for any.
    pub role: Option<Role>,
    /// Why.
    pub reason: Reason,
}

/// A whole plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// For each subject, each of its tiles.
    pub choices: Vec<Vec<Choice>>,
    /// What it takes.
    pub load: Load,
    /// What it is worth.
    pub value: f64,
}

/// What a stream is worth to a tile: the side of the tile's picture, once for any picture and once more for how finely
/// it is resolved.
fn worth(tile: &Shown, candidate: &Candidate) -> f64 {
    let pixels = f64::from(tile.pixels.max(1));
    let fine = (candidate.pixels() / pixels).sqrt().min(1.0);
    tile.weight * pixels.sqrt() * (1.0 + fine)
}

/// The use of budgets while a plan is made.
#[derive(Clone)]
struct Ledger<'a> {
    budgets: &'a Budgets,
    load: Load,
}

/// Rounding of sums must not refuse what fits exactly.
const SLACK: f64 = 1e-9;

impl<'a> Ledger<'a> {
    fn new(budgets: &'a Budgets, hosts: usize) -> Self {
        let hosts = hosts.max(budgets.hosts.len());
        Self { budgets, load: Load { hosts: vec![(0.0, 0); hosts], ..Load::default() } }
    }

    /// Which budget is short for one more stream; `None` when it fits.
    fn short(&self, host: usize, candidate: &Candidate) -> Option<Short> {
        let bits = candidate.bitrate.0;
        let over = |used: f64, more: f64, budget: f64| used + more > budget * (1.0 + SLACK);
        let own = self.budgets.hosts.get(host).copied().unwrap_or_default();
        let (own_bits, viewers) = self.load.hosts.get(host).copied().unwrap_or_default();
        if own.viewers.is_some_and(|most| viewers >= most) {
            return Some(Short::Viewers);
        }
        if own.link.is_some_and(|link| over(own_bits, bits, link.0)) {
            return Some(Short::HostLink);
        }
        if self.budgets.link.is_some_and(|link| over(self.load.link, bits, link.0)) {
            return Some(Short::Link);
        }
        let decoding = candidate.decoding();
        self.budgets.decoding.filter(|most| over(self.load.decoding, decoding, *most)).map(|_| Short::Decoding)
    }

    /// Takes a stream in, or with -1 out.
    fn add(&mut self, host: usize, candidate: &Candidate, times: i32) {
        let bits = candidate.bitrate.0 * f64::from(times);
        self.load.link += bits;
        self.load.decoding += candidate.decoding() * f64::from(times);
        if let Some((link, viewers)) = self.load.hosts.get_mut(host) {
            *link += bits;
            *viewers = viewers.saturating_add_signed(times);
        }
    }

    /// How much of the budgets a stream takes, in shares of each.
    fn share(&self, host: usize, candidate: &Candidate) -> f64 {
        let bits = candidate.bitrate.0;
        let own = self.budgets.hosts.get(host).copied().unwrap_or_default();
        let of = |budget: Option<f64>, more: f64| budget.map_or(0.0, |budget| more / budget.max(1e-9));
        of(self.budgets.link.map(|link| link.0), bits)
            + of(own.link.map(|link| link.0), bits)
            + of(self.budgets.decoding, candidate.decoding())
            + of(own.viewers.map(f64::from), 1.0)
    }
}

/// One way for the automatic tiles of a subject.
#[derive(Clone, Copy)]
struct Way<'a> {
    candidate: &'a Candidate,
    value: f64,
    /// It is received anyway, for a hold beside it.
    open: bool,
}

/// The automatic part of a subject: its tiles without a hold, or with one that is impossible.
struct Group<'a> {
    subject: usize,
    host: usize,
    /// By worth, the least first; none takes as much of everything as one of more worth.
    ways: Vec<Way<'a>>,
}

impl Group<'_> {
    fn most(&self) -> f64 {
        self.ways.last().map_or(0.0, |way| way.value)
    }
}

/// Decides for one moment.
#[must_use]
pub fn plan(subjects: &[Subject], budgets: &Budgets) -> Plan {
    let hosts = subjects.iter().map(|subject| subject.host + 1).max().unwrap_or(0);
    let mut ledger = Ledger::new(budgets, hosts);
    let refused = take_holds(subjects, &mut ledger);
    let groups: Vec<Group<'_>> =
        subjects.iter().enumerate().filter_map(|(index, subject)| group(index, subject, &refused)).collect();
    let chosen = choose(&groups, &mut ledger);
    explain(subjects, &refused, &groups, &chosen, &ledger)
}

type Refused = BTreeMap<(usize, Role), Short>;

/// Takes what is held, the weightiest first; gives the holds that do not fit.
fn take_holds(subjects: &[Subject], ledger: &mut Ledger<'_>) -> Refused {
    let mut holds: Vec<(usize, usize, &Candidate, f64)> = Vec::new();
    for (index, subject) in subjects.iter().enumerate() {
        for candidate in &subject.candidates {
            let held = subject.tiles.iter().filter(|tile| tile.hold == Some(candidate.role));
            let weight: f64 = held.map(|tile| tile.weight * f64::from(tile.pixels.max(1)).sqrt()).sum();
            if weight > 0.0 {
                holds.push((index, subject.host, candidate, weight));
            }
        }
    }
    holds.sort_by(|a, b| b.3.total_cmp(&a.3));
    let mut refused = Refused::new();
    for (index, host, candidate, _) in holds {
        match ledger.short(host, candidate) {
            None => ledger.add(host, candidate, 1),
            Some(short) => drop(refused.insert((index, candidate.role), short)),
        }
    }
    refused
}

/// Whether a tile's hold is kept.
fn is_kept(index: usize, subject: &Subject, tile: &Shown, refused: &Refused) -> bool {
    tile.hold.is_some_and(|role| {
        subject.candidates.iter().any(|candidate| candidate.role == role) && !refused.contains_key(&(index, role))
    })
}

fn group<'a>(index: usize, subject: &'a Subject, refused: &Refused) -> Option<Group<'a>> {
    let (held, free): (Vec<&Shown>, Vec<&Shown>) = subject.tiles.iter().partition(|tile| is_kept(index, subject, tile, refused));
    if free.is_empty() {
        return None;
    }
    let way = |candidate: &'a Candidate| Way {
        candidate,
        value: free.iter().map(|tile| worth(tile, candidate)).sum(),
        open: held.iter().any(|tile| tile.hold == Some(candidate.role)),
    };
    let possible = subject.candidates.iter().filter(|candidate| !refused.contains_key(&(index, candidate.role)));
    let mut ways: Vec<Way<'a>> = possible.map(way).collect();
    let cost = |way: &Way<'_>| if way.open { (0.0, 0.0) } else { (way.candidate.bitrate.0, way.candidate.decoding()) };
    ways.sort_by(|a, b| {
        let by_cost = cost(b).0.total_cmp(&cost(a).0).then(cost(b).1.total_cmp(&cost(a).1));
        a.value.total_cmp(&b.value).then(by_cost)
    });
    // One that is not worth more than another that takes no more of anything is no way.
    let beaten = |index: usize, way: &Way<'_>| {
        ways.iter().enumerate().any(|(other, one)| {
            let no_more = cost(one).0 <= cost(way).0 && cost(one).1 <= cost(way).1;
            other > index && no_more && one.value >= way.value
                || other < index && no_more && one.value * (1.0 + SLACK) >= way.value
        })
    };
    let ways = ways.iter().enumerate().filter(|(index, way)| !beaten(*index, way)).map(|(_, way)| *way).collect();
    Some(Group { subject: index, host: subject.host, ways })
}

/// Every tile's choice with its reason.
fn explain(subjects: &[Subject], refused: &Refused, groups: &[Group<'_>], chosen: &[Option<usize>], ledger: &Ledger<'_>) -> Plan {
    let mut value = 0.0;
    let mut choices = Vec::with_capacity(subjects.len());
    for (index, subject) in subjects.iter().enumerate() {
        let own = groups.iter().zip(chosen).find(|(group, _)| group.subject == index);
        let automatic = own.map(|(group, at)| (group, at.and_then(|at| group.ways.get(at))));
        let tiles = subject.tiles.iter().map(|tile| {
            if is_kept(index, subject, tile, refused) {
                return Choice { role: tile.hold, reason: Reason::Held };
            }
            let way = automatic.and_then(|(_, way)| way);
            let reason = match (tile.hold.and_then(|role| Some((role, *refused.get(&(index, role))?))), way) {
                (Some((role, short)), _) => Reason::HoldImpossible(role, short),
                (None, way) => reason(subject, tile, way.map(|way| way.candidate), ledger),
            };
            Choice { role: way.map(|way| way.candidate.role), reason }
        });
        let tiles: Vec<Choice> = tiles.collect();
        for (tile, choice) in subject.tiles.iter().zip(&tiles) {
            let candidate = subject.candidates.iter().find(|candidate| Some(candidate.role) == choice.role);
            value += candidate.map_or(0.0, |candidate| worth(tile, candidate));
        }
        choices.push(tiles);
    }
    Plan { choices, load: ledger.load.clone(), value }
}

fn reason(subject: &Subject, tile: &Shown, candidate: Option<&Candidate>, ledger: &Ledger<'_>) -> Reason {
    let mut by_size: Vec<&Candidate> = subject.candidates.iter().collect();
    by_size.sort_by(|a, b| a.pixels().total_cmp(&b.pixels()));
    let Some(candidate) = candidate else {
        let lightest = by_size.first().and_then(|lightest| ledger.short(subject.host, lightest));
        return Reason::Nothing(lightest.unwrap_or(Short::Link));
    };
    let Some(heavier) = by_size.into_iter().find(|other| other.pixels() > candidate.pixels()) else {
        return if subject.candidates.len() == 1 { Reason::Only } else { Reason::Best };
    };
    if worth(tile, heavier) <= worth(tile, candidate) * (1.0 + SLACK) {
        return Reason::Enough(heavier.role, f64::from(tile.pixels) / heavier.pixels());
    }
    let mut without = ledger.clone();
    without.add(subject.host, candidate, -1);
    without.short(subject.host, heavier).map_or(Reason::Waits(heavier.role), |short| Reason::NoRoom(heavier.role, short))
}

#[cfg(test)]
mod tests;
