//! Steering by what a hand holds: which orders go to a camera, and when they stop. Time is passed in.
//!
//! Terminals tell of a key that is held by telling it again and again; few tell that it was let go. So a move ends when nothing was
//! told for a while: after the first press as long as this terminal takes to begin repeating (learned from it), after each repeat a
//! quarter of a second. The order itself ends by the device's own time-out, and is given anew while the key is held: if this program, the
//! link or the terminal dies, nothing runs on.

mod moved;
mod patrol;

pub use moved::{MovedBy, Movement};
pub use patrol::{Patrol, Stop as PatrolStop};

use crate::Mono;
use crate::onvif::Axes;
use std::time::Duration;

/// After a repeat, a move goes on for so long.
const AFTER_REPEAT: Duration = Duration::from_millis(250);
/// After a repeat, a camera stops by itself after so long whatever happens here.
pub const ENDS_BY: Duration = Duration::from_millis(290);
/// An order that would make a move last no longer than this is not worth it.
const WORTH: Duration = Duration::from_millis(20);
/// After the first press of a terminal of which nothing is known.
const FIRST_WAIT: Duration = Duration::from_millis(700);
/// What is learned lies between these.
const LEARNED: (Duration, Duration) = (Duration::from_millis(250), Duration::from_millis(1300));
/// Gaps longer than this between a press and the next are two presses.
const LONGEST_GAP: Duration = Duration::from_millis(1100);
/// A mouse that stands still is believed for so long.
const MOUSE_WAIT: Duration = Duration::from_millis(1500);
/// A speed is told anew no more often.
const CHANGES: Duration = Duration::from_millis(100);
/// From the first speed to the full one.
const RAMP: Duration = Duration::from_millis(1200);
/// The speed with which a key begins, as a share of the full one.
const BEGINS: f64 = 0.35;
/// The slow speed.
const SLOW: f64 = 0.15;

/// How fast.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Pace {
    /// It begins slowly and becomes faster while it is held.
    #[default]
    Usual,
    /// Slow, all the time.
    Slow,
    /// As fast as it goes, at once.
    Fast,
}

/// What is to be told to the camera.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Order {
    /// Move at these speeds, as shares from -1 to 1 of the fastest.
    Move(Axes<f64>),
    /// Stop.
    Stop,
}

/// What is held.
#[derive(Debug, Clone, Copy)]
struct Held {
    way: Axes<f64>,
    pace: Pace,
    since: Mono,
    /// When it was last told.
    told: Mono,
    repeats: u32,
    until: Mono,
    /// The last order: when, and the share of the full speed in it; and when its time-out ends it.
    sent: (Mono, f64),
    ends: Mono,
    by_mouse: bool,
}

impl Held {
    fn speed(&self, now: Mono) -> f64 {
        match self.pace {
            _ if self.by_mouse => 1.0,
            Pace::Slow => SLOW,
            Pace::Fast => 1.0,
            Pace::Usual => (BEGINS + (1.0 - BEGINS) * now.since(self.since).as_secs_f64() / RAMP.as_secs_f64()).min(1.0),
        }
    }
}

/// The hand on one camera.
#[derive(Debug, Clone)]
pub struct Steer {
    held: Option<Held>,
    /// How long this terminal takes to begin repeating, with some room.
    first_wait: Duration,
    /// The longest time-out that goes with an order, and the shortest that the device takes.
    timeout: Duration,
    least: Duration,
}

impl Steer {
    /// A hand; `timeout` is that of the device's own, which goes with an order at most, `least` the shortest that it takes.
    #[must_use]
    pub const fn new(timeout: Duration, least: Duration) -> Self {
        Self { held: None, first_wait: FIRST_WAIT, timeout, least }
    }

    /// How long a press without repeats lasts.
    #[must_use]
    pub const fn first_wait(&self) -> Duration {
        self.first_wait
    }

    /// What was learned of this terminal before.
    pub fn learned(&mut self, first_wait: Duration) {
        self.first_wait = first_wait.clamp(LEARNED.0, LEARNED.1);
    }

    /// Whether it moves now, by what was ordered.
    #[must_use]
    pub const fn moves(&self) -> bool {
        self.held.is_some()
    }

    /// A key was pressed, or told again because it is held.
    pub fn press(&mut self, now: Mono, way: Axes<f64>, pace: Pace) -> Option<Order> {
        match &mut self.held {
            Some(held) if held.way == way && held.pace == pace && !held.by_mouse => {
                let gap = now.since(held.told);
                if held.repeats == 0 && gap <= LONGEST_GAP {
                    self.first_wait = gap.mul_f64(1.3).clamp(LEARNED.0, LEARNED.1);
                }
                held.repeats += 1;
                held.told = now;
                held.until = now + AFTER_REPEAT;
                self.anew(now)
            }
            _ => {
                let until = now + self.first_wait;
                let held =
                    Held { way, pace, since: now, told: now, repeats: 0, until, sent: (now, 0.0), ends: now, by_mouse: false };
                self.held = Some(held);
                self.send(now)
            }
        }
    }

    /// The mouse is held so far from the middle.
    pub fn drag(&mut self, now: Mono, way: Axes<f64>) -> Option<Order> {
        let until = now + MOUSE_WAIT;
        match &mut self.held {
            Some(held) if held.by_mouse => {
                let turned = [held.way.pan - way.pan, held.way.tilt - way.tilt].iter().any(|by| by.abs() > 0.05);
                (held.until, held.told) = (until, now);
                if turned && now.since(held.sent.0) >= CHANGES {
                    held.way = way;
                    return self.send(now);
                }
                None
            }
            _ => {
                let pace = Pace::Usual;
                self.held = Some(Held {
                    way,
                    pace,
                    since: now,
                    told: now,
                    repeats: 0,
                    until,
                    sent: (now, 0.0),
                    ends: now,
                    by_mouse: true,
                });
                self.send(now)
            }
        }
    }

    /// It was let go, or the operator wants it to stop.
    pub fn release(&mut self) -> Option<Order> {
        self.held.take().map(|_| Order::Stop)
    }

    /// The time-out that goes with an order now: after a repeat it ends when [`ENDS_BY`] has passed since the key was told of last, even
    /// if nothing more is heard from here. Before the first repeat nobody knows yet whether the key is held.
    #[must_use]
    pub fn lasts(&self, now: Mono) -> Duration {
        match &self.held {
            Some(held) if held.repeats > 0 && !held.by_mouse => {
                ENDS_BY.saturating_sub(now.since(held.told)).min(self.timeout).max(self.least)
            }
            _ => self.timeout,
        }
    }

    /// When [`Self::tick`] has something to do next.
    #[must_use]
    pub fn due(&self) -> Option<Mono> {
        let held = self.held.as_ref()?;
        let ramps = held.pace == Pace::Usual && !held.by_mouse && held.sent.1 < 1.0;
        let faster = if ramps { held.sent.0 + CHANGES } else { held.until };
        // What was told since the last order makes it last longer; otherwise there is nothing to say anew.
        let half = held.sent.0 + self.timeout / 2;
        let again = if self.extends(half) { half } else { held.until };
        Some(again.min(faster).min(held.until))
    }

    /// Time goes on.
    pub fn tick(&mut self, now: Mono) -> Option<Order> {
        if self.held.as_ref().is_some_and(|held| now >= held.until) {
            return self.release();
        }
        self.anew(now)
    }

    /// The order again, where its time-out comes near or the speed has changed.
    fn anew(&mut self, now: Mono) -> Option<Order> {
        let held = self.held.as_ref()?;
        let age = now.since(held.sent.0);
        let faster = (held.speed(now) - held.sent.1).abs() >= 0.1 && age >= CHANGES;
        // Late after the last repeat, the shortest time-out of the device would make it last too long.
        let too_long = held.ends + WORTH < now + self.lasts(now) && !self.extends(now);
        let again = held.ends.since(now) <= self.timeout / 2 && self.extends(now);
        ((faster && !too_long) || again).then(|| self.send(now)).flatten()
    }

    /// Whether an order at this moment would make the move last longer, and no longer than it may.
    fn extends(&self, at: Mono) -> bool {
        let Some(held) = &self.held else { return false };
        let free = held.repeats == 0 || held.by_mouse;
        let may = held.told + ENDS_BY.max(self.least);
        let ends = at + self.lasts(at);
        ends > held.ends + WORTH && (free || ends <= may)
    }

    fn send(&mut self, now: Mono) -> Option<Order> {
        let lasts = self.lasts(now);
        let held = self.held.as_mut()?;
        let speed = held.speed(now);
        (held.sent, held.ends) = ((now, speed), now + lasts);
        Some(Order::Move(held.way.map(|way| (way * speed).clamp(-1.0, 1.0))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const TIMEOUT: Duration = Duration::from_millis(300);
    const LEAST: Duration = Duration::from_millis(100);
    const RIGHT: Axes<f64> = Axes { pan: 1.0, tilt: 0.0, zoom: 0.0 };

    fn at(ms: u64) -> Mono {
        Mono::from_millis(1000 + ms)
    }

    /// A camera that moves by what it is told, and stops by its own time-out.
    #[derive(Default)]
    struct Head {
        until: Option<Mono>,
        speed: f64,
        orders: usize,
    }

    impl Head {
        fn take(&mut self, now: Mono, order: Option<Order>, lasts: Duration) {
            match order {
                Some(Order::Move(axes)) => {
                    (self.until, self.speed, self.orders) = (Some(now + lasts), axes.pan, self.orders + 1);
                }
                Some(Order::Stop) => self.until = None,
                None => {}
            }
        }

        fn moves(&self, now: Mono) -> bool {
            self.until.is_some_and(|until| now < until)
        }
    }

    #[test]
    fn a_key_that_is_held_moves_all_the_while_and_faster_and_faster() {
        let (mut steer, mut head) = (Steer::new(TIMEOUT, LEAST), Head::default());
        let mut speeds = Vec::new();
        for ms in (0..2400).step_by(10) {
            // Pressed at 0, repeated every 33 ms from 500 on.
            let order =
                if ms == 0 || (ms >= 500 && (ms - 500) % 30 == 0) { steer.press(at(ms), RIGHT, Pace::Usual) } else { None };
            head.take(at(ms), order, steer.lasts(at(ms)));
            let order = steer.tick(at(ms));
            head.take(at(ms), order, steer.lasts(at(ms)));
            assert!(head.moves(at(ms)), "at {ms} ms");
            speeds.push(head.speed);
        }
        assert!(speeds[0] < 0.4 && speeds[239] == 1.0 && speeds.windows(2).all(|two| two[0] <= two[1]));
        assert!(head.orders <= 24, "{} orders in 2.4 s", head.orders);
        assert_eq!(steer.first_wait(), Duration::from_millis(650), "learned: 500 ms and some room");
        let last = at(2390);
        let mut now = last;
        while head.moves(now) {
            now = now + Duration::from_millis(5);
            let order = steer.tick(now);
            head.take(now, order, steer.lasts(now));
        }
        assert!(now.since(last) <= Duration::from_millis(260), "{:?}", now.since(last));
    }

    #[test]
    fn releases_other_ways_and_paces_act_at_once() {
        let mut steer = Steer::new(TIMEOUT, LEAST);
        assert_eq!(steer.press(at(0), RIGHT, Pace::Fast), Some(Order::Move(RIGHT)));
        let left = Axes { pan: -1.0, ..Axes::default() };
        let slowly = steer.press(at(20), left, Pace::Slow);
        assert_eq!(slowly, Some(Order::Move(Axes { pan: -SLOW, ..left.map(|_| 0.0) })));
        assert_eq!(steer.release(), Some(Order::Stop));
        assert_eq!((steer.release(), steer.tick(at(30)), steer.due()), (None, None, None));
        // Two taps far apart are no repeat.
        steer.press(at(5_000), RIGHT, Pace::Slow);
        let before = steer.first_wait();
        assert_eq!(steer.tick(at(5_000) + before), Some(Order::Stop));
        steer.press(at(8_000), RIGHT, Pace::Slow);
        assert_eq!(steer.first_wait(), before);
    }

    #[test]
    fn the_mouse_gives_direction_and_speed_and_is_not_believed_for_ever() {
        let mut steer = Steer::new(TIMEOUT, LEAST);
        let way = |pan: f64| Axes { pan, tilt: 0.25, zoom: 0.0 };
        assert_eq!(steer.drag(at(0), way(0.5)), Some(Order::Move(way(0.5))));
        assert_eq!(steer.drag(at(50), way(0.7)), None, "not so often");
        assert_eq!(steer.drag(at(120), way(0.9)), Some(Order::Move(way(0.9))));
        let mut now = at(120);
        let stopped = loop {
            now = now + Duration::from_millis(10);
            if steer.tick(now) == Some(Order::Stop) {
                break now;
            }
        };
        assert_eq!(stopped.since(at(120)), MOUSE_WAIT);
    }

    proptest! {
        /// Whatever a hand does: a camera stands still within 300 ms of the last repeat, and of a single press within what was learned,
        /// also where this program dies at any moment after it.
        #[test]
        fn nothing_runs_on(gaps in prop::collection::vec((1u64..900, 0u8..4, any::<bool>()), 1..60), dies in proptest::option::of(0u32..40)) {
            let (mut steer, mut head) = (Steer::new(TIMEOUT, LEAST), Head::default());
            let (mut now, mut last, mut repeated, mut way) = (at(0), at(0), false, 9u8);
            for (gap, to, moves_on) in gaps {
                for _ in 0..gap / 10 {
                    now = now + Duration::from_millis(10);
                    let order = steer.tick(now);
                    head.take(now, order, steer.lasts(now));
                    if steer.moves() {
                        prop_assert!(head.moves(now), "what is held moves");
                    }
                }
                let to = if moves_on { way } else { to };
                repeated = to == way && steer.moves();
                way = to;
                let axes = Axes { pan: f64::from(i8::try_from(to).unwrap() - 1), tilt: 0.5, zoom: 0.0 };
                let order = steer.press(now, axes, Pace::Usual);
                head.take(now, order, steer.lasts(now));
                last = now;
            }
            // Who dies after a single press, of which nobody knows yet whether the key is held, leaves the camera its time-out.
            let single = dies.map_or(steer.first_wait(), |steps| TIMEOUT + Duration::from_millis(10) * steps);
            let allowed = if repeated { Duration::from_millis(300) } else { single.max(steer.first_wait()) };
            for step in 0..200 {
                now = now + Duration::from_millis(10);
                if dies.is_none_or(|dies| step < dies) {
                    let order = steer.tick(now);
                    head.take(now, order, steer.lasts(now));
                }
                prop_assert!(!head.moves(now) || now.since(last) <= allowed, "{:?} after the last press", now.since(last));
            }
        }
    }
}
