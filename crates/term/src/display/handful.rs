//! How many pictures a terminal takes at once.

use std::time::Duration;

/// More pictures at once may make a terminal this much later with them, and with whatever comes behind.
const HANDFUL: Duration = Duration::from_millis(50);
/// Most at once.
const MOST: usize = 64;
/// The last handfuls count most: each counts this much less than the one after it.
const KEEPS: f64 = 0.8;
/// A terminal that is quick with what it gets is given one picture more in so many handfuls, to see what that costs.
const TRIES_EVERY: u32 = 8;
/// Below this variance of the number of pictures nothing is known of what one more costs.
const TOLD_APART: f64 = 0.05;

/// What a terminal takes for a handful: a time that it takes in any case (drawing its window, say), and a time for each
/// picture. Both by least squares over the last handfuls, so that a terminal that takes long for whatever it gets is given
/// more at once, and one that takes long for each picture is not.
#[derive(Debug, Default)]
pub struct Handful {
    /// Sums over handfuls: of weights, pictures, milliseconds, pictures squared, pictures times milliseconds.
    weight: f64,
    pictures: f64,
    time: f64,
    squares: f64,
    products: f64,
    done: u32,
}

impl Handful {
    /// The terminal has done this many pictures in this time.
    pub fn on_done(&mut self, pictures: usize, took: Duration) {
        let (pictures, time) = (pictures.max(1) as f64, took.as_secs_f64() * 1e3);
        let add = |sum: &mut f64, value: f64| *sum = *sum * KEEPS + value;
        add(&mut self.weight, 1.0);
        add(&mut self.pictures, pictures);
        add(&mut self.time, time);
        add(&mut self.squares, pictures * pictures);
        add(&mut self.products, pictures * time);
        self.done = self.done.wrapping_add(1);
    }

    /// How many pictures the next one holds.
    pub fn room(&self) -> usize {
        if self.weight == 0.0 {
            return 1;
        }
        let (pictures, time) = (self.pictures / self.weight, self.time / self.weight);
        let variance = self.squares / self.weight - pictures * pictures;
        let each =
            if variance > TOLD_APART { (self.products / self.weight - pictures * time) / variance } else { time / pictures };
        let limit = HANDFUL.as_secs_f64() * 1e3;
        let room = ((limit / each.max(0.1)) as usize).clamp(1, MOST);
        let tries = time <= 2.0 * limit && self.done.is_multiple_of(TRIES_EVERY);
        room + usize::from(tries)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Pictures in each of the last ten of 200 handfuls for a terminal that takes `fixed` ms and `each` ms a picture, where
    /// nine wait.
    fn settles(handful: &mut Handful, fixed: u64, each: u64) -> Vec<usize> {
        let mut counts = Vec::new();
        for _ in 0..200 {
            let count = handful.room().min(9);
            handful.on_done(count, Duration::from_millis(fixed + each * count as u64));
            counts.push(count);
        }
        counts.split_off(190)
    }

    #[test]
    fn a_terminal_that_takes_long_for_anything_gets_more_and_one_that_takes_long_for_each_does_not() {
        let least = |counts: &[usize]| *counts.iter().min().unwrap();
        let most = |counts: &[usize]| *counts.iter().max().unwrap();
        for (fixed, each, expected) in
            [(0, 1, 9..=9), (45, 2, 6..=9), (80, 1, 6..=9), (0, 20, 1..=3), (0, 200, 1..=1), (5, 60, 1..=2)]
        {
            let counts = settles(&mut Handful::default(), fixed, each);
            assert!(expected.contains(&least(&counts)) && expected.contains(&most(&counts)), "{fixed} {each}: {counts:?}");
        }
        // It becomes slow, and quick again.
        let mut handful = Handful::default();
        settles(&mut handful, 10, 1);
        assert_eq!(most(&settles(&mut handful, 10, 300)), 1);
        assert!(least(&settles(&mut handful, 10, 1)) >= 6);
    }
}
