//! When a picture begins to move after an order: by how bright its places are, from picture to picture.

use crate::Mono;
use crate::flash::CELLS;
use std::time::Duration;

/// Pictures that are looked at before an order, to know how restless the scene is by itself.
const BEFORE: usize = 12;
/// A picture has moved where its places changed by so many times what they did before, at their most,
const TIMES: f64 = 2.5;
/// and by so many levels on the mean at least.
const LEAST: f64 = 0.8;
/// A picture that has not moved by then will not.
const WITHIN: Duration = Duration::from_secs(3);

/// What became of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MovedBy {
    /// It is waited for since then.
    Waiting(Mono),
    /// The picture had moved so long after the order.
    After(Duration),
    /// It did not, within three seconds.
    Not,
}

/// Watches whether the picture follows the orders.
#[derive(Debug, Clone, Default)]
pub struct Movement {
    last: Option<Box<[u8; CELLS]>>,
    /// How much the places of the last pictures changed from one to the next, on the mean, in levels.
    changes: Vec<f64>,
    state: Option<MovedBy>,
}

impl Movement {
    /// An order to move went out, after a time of rest.
    pub const fn ordered(&mut self, at: Mono) {
        self.state = Some(MovedBy::Waiting(at));
    }

    /// What became of the last order.
    #[must_use]
    pub const fn state(&self) -> Option<MovedBy> {
        self.state
    }

    /// The next picture, which was decoded at this time; its places as the flash probe has them. Gives the delay when it is the first
    /// one that moved.
    pub fn see(&mut self, at: Mono, cells: &[u8; CELLS]) -> Option<Duration> {
        let change = self.last.as_ref().map(|last| difference(last, cells));
        self.last = Some(Box::new(*cells));
        let change = change?;
        let MovedBy::Waiting(since) = self.state.unwrap_or(MovedBy::Not) else {
            self.changes.push(change);
            if self.changes.len() > BEFORE {
                self.changes.remove(0);
            }
            return None;
        };
        let usual = self.changes.iter().copied().fold(0.0, f64::max);
        if change > (usual * TIMES).max(LEAST) && at > since {
            let delay = at.since(since);
            self.state = Some(MovedBy::After(delay));
            return Some(delay);
        }
        if at.since(since) > WITHIN {
            self.state = Some(MovedBy::Not);
        }
        None
    }
}

/// How much places differ on the mean, in levels; a change of all of them alike (the exposure) does not count.
fn difference(one: &[u8; CELLS], other: &[u8; CELLS]) -> f64 {
    let by = || one.iter().zip(other).map(|(a, b)| f64::from(*b) - f64::from(*a));
    let mean = by().sum::<f64>() / CELLS as f64;
    by().map(|by| (by - mean).abs()).sum::<f64>() / CELLS as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A scene of slanted bars, shifted by so many pixels, with noise.
    fn scene(shift: usize, noise: usize) -> [u8; CELLS] {
        std::array::from_fn(|n| {
            let (x, y) = (n % 16 * 40 + shift, n / 16 * 40);
            (60 + (x + y) / 9 % 90 + (n * 7919 + noise * 104_729) % 3) as u8
        })
    }

    #[test]
    fn the_first_picture_that_moved_tells_the_delay_and_one_that_stands_still_tells_none() {
        let at = |ms: u64| Mono::from_millis(1000 + ms);
        let mut movement = Movement::default();
        (0..20).for_each(|n| assert_eq!(movement.see(at(n * 40), &scene(0, n as usize)), None));
        movement.ordered(at(800));
        for n in 20..25 {
            assert_eq!(movement.see(at(n * 40), &scene(0, n as usize)), None, "it stands still for 200 ms");
        }
        let delay = (25..40).find_map(|n| movement.see(at(n * 40), &scene((n as usize - 24) * 12, n as usize)));
        assert_eq!(delay, Some(Duration::from_millis(200)));
        assert_eq!(movement.state(), Some(MovedBy::After(Duration::from_millis(200))));
        // Brighter is not moved; and what does not follow is said.
        let mut still = Movement::default();
        (0..20).for_each(|n| assert_eq!(still.see(at(n * 40), &scene(0, n as usize)), None));
        still.ordered(at(800));
        for n in 20..110 {
            let brighter = scene(0, n as usize).map(|level| level + 20);
            assert_eq!(still.see(at(n * 40), &brighter), None);
        }
        assert_eq!(still.state(), Some(MovedBy::Not));
    }
}
