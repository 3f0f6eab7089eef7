//! What a decoded picture tells of its camera: whether it moves, how bright and how sharp it is, whether it looks as it
//! usually does.
//!
//! A [`Glance`] is taken of about one picture a second. Each finding has one figure and one threshold, and must hold for a
//! while; what is usual is the camera's own: learned while nothing is found, by day and in night mode apart.

use crate::Mono;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

/// Cells of a glance across,
pub const COLUMNS: usize = 48;
/// and down.
pub const ROWS: usize = 27;
/// All of them.
pub const CELLS: usize = COLUMNS * ROWS;

/// One picture in a few numbers. A level is a 255th of the way from black to white.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Glance {
    /// When it was decoded.
    pub at: Mono,
    /// Mean brightness of each cell, in levels, rows from the top.
    pub cells: Vec<f32>,
    /// Fine detail: the mean difference of neighbours in a row of pixels, in levels.
    pub detail: f32,
    /// Colour: the mean distance from grey, in levels of both colour differences together.
    pub colour: f32,
}

/// What is found in a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Finding {
    /// Pictures come and do not change, beyond sensor noise.
    Frozen,
    /// Hardly any light in it.
    Dark,
    /// Nothing but light in it.
    WashedOut,
    /// It has little of its usual look: covered, turned, or moved.
    Covered,
    /// The usual look, without its fine detail.
    OutOfFocus,
}

impl Finding {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Frozen, Self::Dark, Self::WashedOut, Self::Covered, Self::OutOfFocus];

    /// The word in the site file and for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Frozen => "frozen",
            Self::Dark => "dark",
            Self::WashedOut => "washed-out",
            Self::Covered => "covered",
            Self::OutOfFocus => "out-of-focus",
        }
    }

    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|finding| finding.word() == word)
    }

    /// So long it must hold.
    const fn holds(self) -> Duration {
        match self {
            // Its figure looks back by itself.
            Self::Frozen => Duration::ZERO,
            Self::Dark | Self::WashedOut | Self::Covered => Duration::from_secs(4),
            Self::OutOfFocus => Duration::from_secs(8),
        }
    }
}

/// The greatest change in the last 10 s below which a picture that usually changes is frozen, in levels.
pub const FROZEN_BELOW: f32 = 2.5;
/// The same for one of which nothing is known: only a picture that does not change at all.
pub const FROZEN_UNKNOWN_BELOW: f32 = 0.05;
/// A camera that usually changes by less than so many times the threshold is not judged.
const USUALLY_MOVES: f32 = 3.0;
/// Nineteen of twenty cells below this are a dark picture, in levels.
pub const DARK_BELOW: f32 = 24.0;
/// Nineteen of twenty cells above this are a washed-out one, in levels.
pub const WASHED_OUT_ABOVE: f32 = 200.0;
/// Likeness to the usual look below which it is another.
pub const LIKENESS_BELOW: f32 = 0.4;
/// Detail below this share of the usual is out of focus.
pub const DETAIL_BELOW: f32 = 0.45;
/// Contrast below this is an even surface, in levels.
const EVEN: f32 = 6.0;
/// Colour below this, and below a quarter of what it is by day, is night mode; levels.
const GREY_BELOW: f32 = 3.0;

/// Frozen looks back so far.
const LOOKS_BACK: Duration = Duration::from_secs(10);
/// A figure of a picture that nobody decoded for so long is unknown.
const STALE: Duration = Duration::from_secs(5);
/// Glances until a look is known.
const KNOWN_AFTER: u32 = 15;
/// Glances over which the usual is averaged.
const MEMORY: f32 = 300.0;
/// A look that is there for so many glances is the usual one from then on.
const NEW_LOOK_AFTER: u32 = 600;
/// Glances in a row that change the mode.
const MODE_AFTER: u32 = 4;

/// The figures of the newest picture, each as the definitions of this module say.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Sight {
    /// The greatest change from one glance to the next in the last 10 s: the mean over the hundredth of the cells that
    /// change most, in levels. `None` before there are ten seconds to look back on.
    pub change: Option<f32>,
    /// What that usually is.
    pub usual_change: Option<f32>,
    /// Mean brightness, in levels.
    pub brightness: f32,
    /// Nineteen of twenty cells are at most this bright, in levels.
    pub bright_p95: f32,
    /// Nineteen of twenty cells are at least this bright, in levels.
    pub bright_p5: f32,
    /// Standard deviation of the cells, in levels.
    pub contrast: f32,
    /// Correlation of the cells with the usual look, -1 to 1; `None` while that is not known.
    pub likeness: Option<f32>,
    /// Fine detail as share of the usual; `None` while that is not known.
    pub detail: Option<f32>,
    /// Mean distance from grey, in levels.
    pub colour: f32,
    /// The camera shows grey pictures and showed coloured ones before.
    pub night: bool,
    /// What has been found.
    pub finding: Option<Finding>,
}

impl Sight {
    /// A finding's figure beside its threshold.
    #[must_use]
    pub fn told(&self, finding: Finding) -> String {
        match finding {
            Finding::Frozen => {
                let change = self.change.unwrap_or_default();
                let usual = self.usual_change.map_or_else(String::new, |usual| format!(", usually {usual:.1}"));
                format!("the picture changes by {change:.1} of 255 levels in 10 s{usual}, while packets flow: frozen")
            }
            Finding::Dark => {
                format!("19 of 20 parts of the picture are darker than {:.0} of 255 levels (limit {DARK_BELOW})", self.bright_p95)
            }
            Finding::WashedOut => format!(
                "19 of 20 parts of the picture are brighter than {:.0} of 255 levels (limit {WASHED_OUT_ABOVE})",
                self.bright_p5
            ),
            Finding::Covered if self.contrast < EVEN => {
                format!(
                    "an even surface, contrast {:.1} of 255 levels (limit {EVEN:.0}), unlike its usual look: covered",
                    self.contrast
                )
            }
            Finding::Covered => {
                let likeness = self.likeness.unwrap_or_default();
                format!("likeness to its usual look {likeness:.2} (limit {LIKENESS_BELOW}): covered, turned or moved")
            }
            Finding::OutOfFocus => {
                let detail = self.detail.unwrap_or_default() * 100.0;
                format!("{detail:.0} % of its usual fine detail (limit {:.0} %), the view is the usual one", DETAIL_BELOW * 100.0)
            }
        }
    }
}

/// What a camera usually shows, in one mode.
#[derive(Debug, Clone, Default)]
struct Usual {
    glances: u32,
    /// Cells without their mean.
    look: Vec<f32>,
    detail: f32,
    change: f32,
    contrast: f32,
}

impl Usual {
    const fn is_known(&self) -> bool {
        self.glances >= KNOWN_AFTER
    }

    fn learn(&mut self, glance: &Glance, mean: f32, contrast: f32, change: Option<f32>) {
        self.glances = self.glances.saturating_add(1);
        let share = 1.0 / (self.glances as f32).min(MEMORY);
        let towards = |have: &mut f32, new: f32| *have += (new - *have) * share;
        self.look.resize(glance.cells.len(), 0.0);
        for (have, cell) in self.look.iter_mut().zip(&glance.cells) {
            towards(have, cell - mean);
        }
        towards(&mut self.detail, glance.detail);
        towards(&mut self.contrast, contrast);
        if let Some(change) = change {
            towards(&mut self.change, change);
        }
    }
}

/// Follows the pictures of one stream.
#[derive(Debug, Clone, Default)]
pub struct SightMeter {
    before: Option<Arc<Glance>>,
    changes: VecDeque<(Mono, f32)>,
    /// By day, and in night mode.
    usual: [Usual; 2],
    night: bool,
    /// Colour by day.
    colour: f32,
    other_mode: u32,
    details: VecDeque<f32>,
    /// What the newest glance shows, and since when.
    pending: Option<(Finding, Mono)>,
    other_look: u32,
    figures: Option<(Mono, Sight)>,
}

impl SightMeter {
    /// Another source of pictures, size or codec: nothing is known of it.
    pub fn restart(&mut self) {
        *self = Self::default();
    }

    /// A picture was looked at.
    pub fn on_glance(&mut self, glance: Arc<Glance>) {
        if glance.cells.is_empty() || self.before.as_ref().is_some_and(|before| before.cells.len() != glance.cells.len()) {
            self.restart();
        }
        if glance.cells.is_empty() {
            return;
        }
        let at = glance.at;
        // After a pause the last picture says nothing of whether this one stands still.
        if self.before.as_ref().is_some_and(|before| at.since(before.at) > STALE) {
            (self.before, self.pending) = (None, None);
            self.changes.clear();
        }
        let change = self.before.as_ref().map(|before| change(&before.cells, &glance.cells));
        if let Some(change) = change {
            self.changes.push_back((at, change));
        }
        while self.changes.front().is_some_and(|(first, _)| at.since(*first) > LOOKS_BACK) {
            self.changes.pop_front();
        }
        let count = glance.cells.len() as f32;
        let mean = glance.cells.iter().sum::<f32>() / count;
        let contrast = (glance.cells.iter().map(|cell| (cell - mean) * (cell - mean)).sum::<f32>() / count).sqrt();
        let mut sorted = glance.cells.clone();
        let (bright_p95, bright_p5) = (percentile(&mut sorted, 0.95), percentile(&mut sorted, 0.05));
        // A black, white or even picture has no colour in any mode.
        if contrast >= EVEN && bright_p95 >= DARK_BELOW && bright_p5 <= WASHED_OUT_ABOVE {
            self.learn_mode(&glance);
        }
        if self.details.len() == 5 {
            self.details.pop_front();
        }
        self.details.push_back(glance.detail);
        let usual = &self.usual[usize::from(self.night)];
        let known = usual.is_known();
        let full = self.changes.front().is_some_and(|(first, _)| at.since(*first) + Duration::from_millis(1500) > LOOKS_BACK);
        let mut sight = Sight {
            change: full.then(|| self.changes.iter().map(|(_, change)| *change).fold(0.0, f32::max)),
            usual_change: known.then_some(usual.change),
            brightness: mean,
            bright_p95,
            bright_p5,
            contrast,
            likeness: (known && usual.contrast >= EVEN).then(|| likeness(&usual.look, &glance.cells, mean)),
            detail: (known && usual.detail > 0.0).then(|| median(&self.details) / usual.detail),
            colour: glance.colour,
            night: self.night,
            finding: None,
        };
        let seen = find(&sight, usual);
        match (seen, &mut self.pending) {
            (Some(seen), Some((pending, _))) if seen == *pending => {}
            (seen, pending) => *pending = seen.map(|seen| (seen, at)),
        }
        sight.finding = self.pending.and_then(|(finding, since)| (at.since(since) >= finding.holds()).then_some(finding));
        self.learn(&glance, &sight, change);
        self.figures = Some((at, sight));
        self.before = Some(glance);
    }

    fn learn(&mut self, glance: &Glance, sight: &Sight, change: Option<f32>) {
        let usual = &mut self.usual[usize::from(self.night)];
        if self.pending.is_none() {
            usual.learn(glance, sight.brightness, sight.contrast, change);
            self.other_look = 0;
            return;
        }
        // Turned to another view for good: that is the usual one then.
        let looks = matches!(sight.finding, Some(Finding::Covered | Finding::OutOfFocus));
        self.other_look = if looks { self.other_look + 1 } else { 0 };
        if self.other_look >= NEW_LOOK_AFTER {
            *usual = Usual::default();
            (self.pending, self.other_look) = (None, 0);
        }
    }

    fn learn_mode(&mut self, glance: &Glance) {
        let grey = glance.colour < GREY_BELOW && glance.colour < self.colour / 4.0;
        let coloured = glance.colour > self.colour / 2.0;
        let other = if self.night { coloured } else { grey };
        self.other_mode = if other { self.other_mode + 1 } else { 0 };
        if self.other_mode >= MODE_AFTER {
            (self.night, self.other_mode) = (!self.night, 0);
            self.details.clear();
        }
        if !self.night && !grey {
            let share = if self.colour == 0.0 { 1.0 } else { 0.05 };
            self.colour += (glance.colour - self.colour) * share;
        }
    }

    /// The figures of the newest picture; `None` while none was looked at of late.
    #[must_use]
    pub fn read(&self, now: Mono) -> Option<Sight> {
        self.figures.filter(|(at, _)| now.since(*at) <= STALE).map(|(_, sight)| sight)
    }
}

/// The first that applies, without its time of holding.
fn find(sight: &Sight, usual: &Usual) -> Option<Finding> {
    let limit = if usual.is_known() { FROZEN_BELOW } else { FROZEN_UNKNOWN_BELOW };
    let moves = !usual.is_known() || usual.change >= FROZEN_BELOW * USUALLY_MOVES;
    let other_look = match sight.likeness {
        // An even surface is like nothing.
        Some(_) if sight.contrast < EVEN => true,
        likeness => likeness.is_some_and(|likeness| likeness < LIKENESS_BELOW),
    };
    let blurred = sight.detail.is_some_and(|detail| detail < DETAIL_BELOW) && sight.contrast > usual.contrast * 0.5;
    [
        (sight.bright_p95 < DARK_BELOW, Finding::Dark),
        (sight.bright_p5 > WASHED_OUT_ABOVE, Finding::WashedOut),
        (other_look, Finding::Covered),
        (moves && sight.change.is_some_and(|change| change < limit), Finding::Frozen),
        (blurred, Finding::OutOfFocus),
    ]
    .into_iter()
    .find_map(|(applies, finding)| applies.then_some(finding))
}

/// The mean over the hundredth of the cells that change most.
fn change(before: &[f32], now: &[f32]) -> f32 {
    let mut changes: Vec<f32> = before.iter().zip(now).map(|(before, now)| (now - before).abs()).collect();
    let most = (changes.len() / 100).max(1).min(changes.len());
    if changes.is_empty() {
        return 0.0;
    }
    let at = changes.len() - most;
    let (_, least, above) = changes.select_nth_unstable_by(at, f32::total_cmp);
    (*least + above.iter().sum::<f32>()) / most as f32
}

fn percentile(values: &mut [f32], share: f32) -> f32 {
    let at = ((values.len() as f32 * share) as usize).min(values.len().saturating_sub(1));
    if values.is_empty() { 0.0 } else { *values.select_nth_unstable_by(at, f32::total_cmp).1 }
}

fn median(values: &VecDeque<f32>) -> f32 {
    percentile(&mut values.iter().copied().collect::<Vec<_>>(), 0.5)
}

/// Correlation of cells, less their mean, with a look.
fn likeness(look: &[f32], cells: &[f32], mean: f32) -> f32 {
    let (mut both, mut own, mut usual) = (0.0, 0.0, 0.0);
    for (look, cell) in look.iter().zip(cells) {
        let cell = cell - mean;
        both += look * cell;
        own += cell * cell;
        usual += look * look;
    }
    let size = (own * usual).sqrt();
    if size > 0.0 { both / size } else { 0.0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A view with a bright upper half, something that moves, and noise; all by the second.
    fn view(second: u64) -> Glance {
        let noise = |n: usize| ((n as u64 * 2_654_435_761 + second * 40_503) % 7) as f32 / 10.0;
        let cell = |n: usize| {
            let (x, y) = (n % COLUMNS, n / COLUMNS);
            let moving = (second as usize * 3) % COLUMNS;
            let ship = if (12..16).contains(&y) && (x + COLUMNS - moving) % COLUMNS < 6 { 60.0 } else { 0.0 };
            60.0 + if y < ROWS / 2 { 100.0 } else { 0.0 } + (x % 5) as f32 * 4.0 + ship + noise(n)
        };
        Glance { at: Mono::from_millis(second * 1000), cells: (0..CELLS).map(cell).collect(), detail: 4.0, colour: 20.0 }
    }

    /// Sixty seconds of the usual view, then what is given; the findings second by second.
    fn after_a_minute(seconds: u64, then: impl Fn(u64) -> Glance) -> (SightMeter, Vec<Option<Finding>>) {
        let mut meter = SightMeter::default();
        let mut found = Vec::new();
        for second in 0..60 + seconds {
            let glance = if second < 60 { view(second) } else { then(second) };
            let at = glance.at;
            meter.on_glance(Arc::new(glance));
            let finding = meter.read(at).unwrap().finding;
            if second < 60 {
                assert_eq!(finding, None, "{second}: {:?}", meter.figures);
            } else {
                found.push(finding);
            }
        }
        (meter, found)
    }

    type Case<'a> = (Finding, &'a dyn Fn(u64) -> Glance, u64);

    #[test]
    fn each_finding_is_found_after_its_time_and_nothing_else_is() {
        let even = |second: u64, level: f32| Glance { cells: vec![level; CELLS], detail: 0.1, ..view(second) };
        let still = |second: u64| Glance { at: view(second).at, ..view(60) };
        let turned = |second: u64| {
            let mut glance = view(second);
            glance.cells.reverse();
            glance
        };
        let blurred = |second: u64| Glance { detail: 1.5, ..view(second) };
        let cases: [Case<'_>; 6] = [
            (Finding::Dark, &|second| even(second, 9.0), 4),
            (Finding::WashedOut, &|second| even(second, 240.0), 4),
            (Finding::Covered, &|second| even(second, 100.0), 4),
            (Finding::Covered, &turned, 4),
            (Finding::OutOfFocus, &blurred, 10),
            (Finding::Frozen, &still, 11),
        ];
        for (finding, glance, after) in cases {
            let (meter, found) = after_a_minute(16, glance);
            let first = found.iter().position(Option::is_some);
            assert!(first.is_some_and(|first| first as u64 <= after + 1 && first >= 3), "{finding:?}: {found:?}");
            assert!(found.iter().flatten().all(|found| *found == finding), "{finding:?}: {found:?}");
            let told = meter.read(Mono::from_millis(75_000)).unwrap().told(finding);
            assert!(told.len() > 20 && told.chars().any(|c| c.is_ascii_digit()), "{told}");
        }
        assert!(after_a_minute(300, view).1.iter().all(Option::is_none));
    }

    #[test]
    fn a_still_scene_is_not_called_frozen_where_it_always_is_one() {
        let mut meter = SightMeter::default();
        for second in 0..200 {
            // Nothing but noise.
            let noise = |n: usize| ((n as u64 * 7 + second * 13) % 5) as f32 / 5.0;
            let cells = (0..CELLS).map(|n| 100.0 + (n % 40) as f32 + noise(n)).collect();
            meter.on_glance(Arc::new(Glance { cells, ..view(second) }));
            assert_eq!(meter.read(Mono::from_millis(second * 1000)).unwrap().finding, None, "{second}");
        }
        // From the first picture on not one level: that is no scene.
        let mut meter = SightMeter::default();
        for second in 0..14 {
            meter.on_glance(Arc::new(Glance { at: view(second).at, ..view(0) }));
        }
        assert_eq!(meter.read(Mono::from_millis(13_000)).unwrap().finding, Some(Finding::Frozen));
    }

    #[test]
    fn night_mode_is_a_mode_with_a_look_of_its_own_and_a_new_view_becomes_the_usual_one() {
        let night = |second: u64| {
            let mut glance = Glance { colour: 0.4, ..view(second) };
            glance.cells.iter_mut().for_each(|cell| *cell = 200.0 - *cell / 2.0);
            glance
        };
        let (mut meter, found) = after_a_minute(30, night);
        assert!(found.iter().skip(8).all(Option::is_none), "{found:?}");
        assert!(meter.read(Mono::from_millis(89_000)).unwrap().night);
        for second in 90..100 {
            meter.on_glance(Arc::new(view(second)));
        }
        let sight = meter.read(Mono::from_millis(99_000)).unwrap();
        assert!(!sight.night && sight.finding.is_none() && sight.likeness.unwrap() > 0.9, "the look of before: {sight:?}");
        // Turned for good.
        let turned = |second: u64| {
            let mut glance = view(second);
            glance.cells.reverse();
            glance
        };
        let (meter, found) = after_a_minute(900, turned);
        assert_eq!((found[30], found[899]), (Some(Finding::Covered), None));
        assert_eq!(meter.read(Mono::from_millis(2_000_000)), None, "nobody looked");
    }
}
