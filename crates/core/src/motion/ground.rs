//! What a picture looks like when nothing happens in it: for each place the level that is usual, how far it usually is from that, and
//! how restless it is; learned all the time.

use super::CELLS;

/// A place differs where it is off by so many levels at least.
const LEAST: f32 = 7.0;
/// By so many times what it usually is off.
const TIMES_OFF: f32 = 3.2;
/// By so many times what it changes from picture to picture, as it is usual.
const TIMES_RESTLESS: f32 = 6.0;
/// What is usual is made of pictures that are so many seconds apart,
const SAMPLED_EVERY: f32 = 0.5;
/// and follows by so many levels a second later on: what stands still for some minutes belongs to the ground.
const FOLLOWS: f32 = 0.4;
/// The share of the time in which a place is less off than what is usual.
const QUANTILE: f32 = 0.6;
/// Restlessness is averaged over so many seconds.
const RESTLESS_OVER: f32 = 15.0;
/// The last three pictures are looked at together where they came within so many seconds: what is there in one of them only, like rain, is
/// nothing.
const TOGETHER: f32 = 0.26;
/// The whole picture may be brighter or darker than usual by so many levels; more is no exposure that follows the light.
const MOST_SHIFT: f32 = 40.0;
/// A lamp is brighter than what lies behind it by so many levels, and by so many times.
const LAMP: f32 = 30.0;
const LAMP_TIMES: f32 = 1.0;
/// A place that begins to differ this often, in times a second, moves always, like surf: what goes by is rarer.
const ALWAYS_FROM: f32 = 1.0 / 4.5;
/// Below this it does not any more.
const NOT_ANY_MORE: f32 = 1.0 / 7.0;
/// How often is measured over so many seconds.
const OFTEN_OVER: f32 = 30.0;
/// It begins to differ when it did not for so many seconds.
const BEGINS_AFTER: f32 = 0.5;

/// One place of the picture.
#[derive(Debug, Clone, Copy, Default)]
struct Cell {
    usual: f32,
    off: f32,
    restless: f32,
    last: f32,
    /// Seconds since it differed.
    same_for: f32,
    /// How often it begins to, in times a second.
    often: f32,
    always: bool,
}

impl Cell {
    fn differs(&self, by: f32) -> bool {
        by.abs() > LEAST.max(self.off * TIMES_OFF + 2.0).max(self.restless * TIMES_RESTLESS)
    }

    /// Whether it begins to differ, after so many seconds.
    fn begins(&mut self, differs: bool, after: f32) -> bool {
        let begins = differs && self.same_for >= BEGINS_AFTER;
        self.same_for = if differs { 0.0 } else { self.same_for + after };
        begins
    }
}

/// What differs in a picture: by how many levels each place does, 0 where it does not; and which of them are lamps, which are much
/// brighter than what lies behind them.
#[derive(Debug, Clone)]
pub(super) struct Differing {
    pub by: Box<[f32; CELLS]>,
    pub lamps: Box<[bool; CELLS]>,
}

impl Default for Differing {
    fn default() -> Self {
        Self { by: Box::new([0.0; CELLS]), lamps: Box::new([false; CELLS]) }
    }
}

/// What all places usually are.
#[derive(Debug, Clone)]
pub(super) struct Ground {
    cells: Vec<Cell>,
    /// The last pictures, and how long ago each was.
    recent: Vec<(f32, Vec<u8>)>,
    /// Pictures to learn from, one every half a second.
    samples: Vec<Vec<u8>>,
    since_sample: f32,
}

impl Default for Ground {
    fn default() -> Self {
        Self { cells: vec![Cell::default(); CELLS], recent: Vec::new(), samples: Vec::new(), since_sample: SAMPLED_EVERY }
    }
}

impl Ground {
    /// Takes the levels of a picture that came so many seconds after the one before, to learn from it.
    pub fn learn(&mut self, after: f32, levels: &[u8]) {
        let now = self.settled(after, levels);
        let keep = if self.samples.is_empty() { 0.0 } else { (after / RESTLESS_OVER).min(1.0) };
        for (cell, level) in self.cells.iter_mut().zip(&now) {
            cell.restless += ((level - cell.last).abs() - cell.restless) * keep;
            cell.last = *level;
        }
        self.since_sample += after;
        if self.since_sample >= SAMPLED_EVERY {
            self.since_sample = 0.0;
            self.samples.push(now.iter().map(|level| level.round() as u8).collect());
        }
    }

    /// Makes of what was learned what is usual: the median of each place, and of how far it was from that.
    pub fn settle(&mut self) {
        let samples = std::mem::take(&mut self.samples);
        self.since_sample = SAMPLED_EVERY;
        let mut column: Vec<f32> = Vec::with_capacity(samples.len());
        let middle = |column: &mut Vec<f32>, share: f32| {
            column.sort_by(f32::total_cmp);
            column.get((column.len() as f32 * share) as usize).copied().unwrap_or_default()
        };
        for (n, cell) in self.cells.iter_mut().enumerate() {
            column.clear();
            column.extend(samples.iter().map(|levels| f32::from(levels[n])));
            cell.usual = middle(&mut column, 0.5);
            for level in &mut column {
                *level = (*level - cell.usual).abs();
            }
            cell.off = middle(&mut column, QUANTILE);
            (cell.often, cell.same_for) = (0.0, 0.0);
        }
        let long = samples.len() as f32 * SAMPLED_EVERY;
        for levels in &samples {
            let now: Vec<f32> = levels.iter().map(|level| f32::from(*level)).collect();
            let shift = self.shift(&now);
            for (cell, level) in self.cells.iter_mut().zip(&now) {
                let is = cell.differs(level - cell.usual - shift);
                if cell.begins(is, SAMPLED_EVERY) {
                    cell.often += 1.0 / long;
                }
            }
        }
        for cell in &mut self.cells {
            cell.always = cell.often >= if cell.always { NOT_ANY_MORE } else { ALWAYS_FROM };
        }
    }

    /// Takes the levels of a picture that came so many seconds after the one before, and tells what differs. The share of
    /// the picture that does is returned, places that move always among them.
    pub fn see(&mut self, after: f32, levels: &[u8], Differing { by: differs, lamps }: &mut Differing) -> f32 {
        let now = self.settled(after, levels);
        let shift = self.shift(&now);
        let fade = (-after / OFTEN_OVER).exp();
        let rate = FOLLOWS * after;
        let keep = (after / RESTLESS_OVER).min(1.0);
        let mut count = 0;
        let into = differs.iter_mut().zip(lamps.iter_mut());
        for ((cell, level), (differs, lamp)) in self.cells.iter_mut().zip(&now).zip(into) {
            let by = level - cell.usual - shift;
            let is = cell.differs(by);
            count += usize::from(is);
            cell.often = cell.often * fade + if cell.begins(is, after) { 1.0 / OFTEN_OVER } else { 0.0 };
            cell.always = cell.often >= if cell.always { NOT_ANY_MORE } else { ALWAYS_FROM };
            *differs = if is && !cell.always { by.abs() } else { 0.0 };
            *lamp = *differs > 0.0 && by > LAMP.max(cell.usual * LAMP_TIMES);
            cell.usual += by.clamp(-rate, rate);
            let grows = if by.abs() > cell.off { QUANTILE } else { QUANTILE - 1.0 };
            cell.off = (cell.off + grows * 2.0 * rate).max(0.0);
            cell.restless += ((level - cell.last).abs() - cell.restless) * keep;
            cell.last = *level;
        }
        count as f32 / CELLS as f32
    }

    /// What was usual is not any more: it is learned anew. What moves always stays known.
    pub fn forget(&mut self) {
        self.samples.clear();
        self.recent.clear();
        self.since_sample = SAMPLED_EVERY;
    }

    /// Whether this place moves always.
    pub fn always(&self, cell: usize) -> bool {
        self.cells.get(cell).is_some_and(|cell| cell.always)
    }

    /// The level of each place in the middle one of the last three pictures; of two, where they come slowly, the one that is more usual.
    fn settled(&mut self, after: f32, levels: &[u8]) -> Vec<f32> {
        for (age, _) in &mut self.recent {
            *age += after;
        }
        self.recent.push((0.0, levels.to_vec()));
        self.recent.retain(|(age, _)| *age < TOGETHER);
        let first = self.recent.len().saturating_sub(3);
        match &self.recent[first..] {
            [(_, a), (_, b), (_, c)] => {
                let middle = |((a, b), c): ((&u8, &u8), &u8)| f32::from(*a.min(b).max(a.max(b).min(c)));
                a.iter().zip(b).zip(c).map(middle).collect()
            }
            [(_, a), (_, b)] => {
                let off = |level: &u8, cell: &Cell| (f32::from(*level) - cell.usual).abs();
                let usual = |((a, b), cell): ((&u8, &u8), &Cell)| f32::from(if off(a, cell) < off(b, cell) { *a } else { *b });
                a.iter().zip(b).zip(&self.cells).map(usual).collect()
            }
            _ => levels.iter().map(|level| f32::from(*level)).collect(),
        }
    }

    /// By how much the whole picture is brighter than usual: the median over places, so that what is in it does not count.
    fn shift(&self, now: &[f32]) -> f32 {
        let mut counts = [0u32; 511];
        for (cell, level) in self.cells.iter().zip(now) {
            counts[((level - cell.usual).round().clamp(-255.0, 255.0) + 255.0) as usize] += 1;
        }
        let mut seen = 0;
        let middle = counts.iter().position(|count| {
            seen += *count;
            seen * 2 >= CELLS as u32
        });
        middle.map_or(0.0, |middle| (middle as f32 - 255.0).clamp(-MOST_SHIFT, MOST_SHIFT))
    }
}
