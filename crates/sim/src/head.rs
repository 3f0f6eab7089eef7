//! A pan and tilt head: it moves with speed and inertia between its limits, keeps presets, and misbehaves on order.

use std::f64::consts::LN_2;
use std::time::{Duration, Instant};

/// Degrees of a picture's width without zoom.
pub const WIDEST: f64 = 90.0;
/// Degrees to the left and right.
pub const PAN: (f64, f64) = (-170.0, 170.0);
/// Degrees down and up.
pub const TILT: (f64, f64) = (-20.0, 20.0);
/// How many times nearer it can look.
pub const ZOOM: (f64, f64) = (1.0, 10.0);
/// Degrees a second at full speed, without zoom.
const FASTEST: f64 = 60.0;
/// Doublings of the zoom in a second at full speed.
const ZOOMS: f64 = 1.2;
/// After so long it has half of the speed that was ordered.
const INERTIA: Duration = Duration::from_millis(60);
/// Most presets.
pub const PRESETS: usize = 32;

/// How it misbehaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum HeadFault {
    /// Not at all.
    #[default]
    None,
    /// It refuses all orders.
    Refuses,
    /// It goes on, whatever it is told: no stop and no time-out.
    NeverStops,
    /// It answers after five seconds.
    Slow,
    /// It tells of limits that are wider than they are.
    Lies,
}

/// Where it looks: degrees to the right, degrees up, times nearer.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Aim {
    /// Degrees to the right of the middle.
    pub pan: f64,
    /// Degrees above the middle.
    pub tilt: f64,
    /// Times nearer.
    pub zoom: f64,
}

impl Aim {
    /// Straight on, without zoom.
    pub const HOME: Self = Self { pan: 0.0, tilt: 0.0, zoom: 1.0 };

    fn within(self) -> Self {
        Self { pan: self.pan.clamp(PAN.0, PAN.1), tilt: self.tilt.clamp(TILT.0, TILT.1), zoom: self.zoom.clamp(ZOOM.0, ZOOM.1) }
    }
}

/// What it is doing.
#[derive(Debug, Clone, Copy)]
enum Doing {
    Resting,
    /// At these shares of its fastest, until then.
    Moving([f64; 3], Instant),
    /// To a place, as fast as it goes.
    Going(Aim),
}

/// The head.
#[derive(Debug)]
pub struct Head {
    aim: Aim,
    /// Shares of its fastest at which it moves now.
    speed: [f64; 3],
    doing: Doing,
    at: Instant,
    home: Aim,
    presets: Vec<(u32, String, Aim)>,
    next: u32,
    /// Outputs that are switched on.
    pub outputs: Vec<String>,
    /// How it misbehaves.
    pub fault: HeadFault,
}

impl Head {
    /// A head that rests at its home.
    #[must_use]
    pub fn new(now: Instant) -> Self {
        Self {
            aim: Aim::HOME,
            speed: [0.0; 3],
            doing: Doing::Resting,
            at: now,
            home: Aim::HOME,
            presets: Vec::new(),
            next: 1,
            outputs: Vec::new(),
            fault: HeadFault::None,
        }
    }

    /// Where it looks.
    pub fn aim(&mut self, now: Instant) -> Aim {
        // In small steps, so that its way does not hang on how often it is asked.
        while let Some(rest) = now.checked_duration_since(self.at).filter(|rest| !rest.is_zero()) {
            let step = rest.min(Duration::from_millis(5));
            self.at += step;
            self.step(step.as_secs_f64());
        }
        self.aim
    }

    fn step(&mut self, seconds: f64) {
        let wanted = match self.doing {
            Doing::Moving(_, until) if self.at >= until && self.fault != HeadFault::NeverStops => {
                self.doing = Doing::Resting;
                [0.0; 3]
            }
            Doing::Moving(speed, _) => speed,
            Doing::Resting => [0.0; 3],
            Doing::Going(to) => {
                let near = |by: f64, slope: f64| (by / slope).clamp(-1.0, 1.0);
                let zoom = near((to.zoom / self.aim.zoom).log2(), 0.2);
                let there = (to.pan - self.aim.pan).abs() < 0.02 && (to.tilt - self.aim.tilt).abs() < 0.02 && zoom.abs() < 0.01;
                if there {
                    (self.aim, self.speed, self.doing) = (to, [0.0; 3], Doing::Resting);
                    return;
                }
                [near(to.pan - self.aim.pan, 6.0), near(to.tilt - self.aim.tilt, 6.0), zoom]
            }
        };
        let share = 1.0 - (-LN_2 * seconds / INERTIA.as_secs_f64()).exp();
        for (speed, wanted) in self.speed.iter_mut().zip(wanted) {
            *speed += (wanted - *speed) * share;
            if wanted == 0.0 && speed.abs() < 0.01 {
                *speed = 0.0;
            }
        }
        // Where it looks nearer it turns more slowly, or the picture would fly. On its way to a place it does not.
        let turning = if matches!(self.doing, Doing::Going(_)) { FASTEST } else { FASTEST / self.aim.zoom };
        let [pan, tilt, zoom] = self.speed;
        self.aim = Aim {
            pan: self.aim.pan + pan * turning * seconds,
            tilt: self.aim.tilt + tilt * turning * seconds,
            zoom: self.aim.zoom * (zoom * ZOOMS * seconds).exp2(),
        }
        .within();
    }

    /// Whether it moves.
    #[must_use]
    pub fn moves(&self) -> bool {
        !matches!(self.doing, Doing::Resting) || self.speed.iter().any(|speed| *speed != 0.0)
    }

    /// Whether it is told to move, or on its way to a place.
    #[must_use]
    pub const fn is_told_to_move(&self) -> bool {
        !matches!(self.doing, Doing::Resting)
    }

    /// Moves at these shares of its fastest, for so long at most.
    pub fn go(&mut self, now: Instant, speed: [f64; 3], timeout: Duration) {
        self.aim(now);
        self.doing = Doing::Moving(speed.map(|speed| speed.clamp(-1.0, 1.0)), now + timeout);
    }

    /// Stops.
    pub fn stop(&mut self, now: Instant) {
        self.aim(now);
        if self.fault != HeadFault::NeverStops {
            self.doing = Doing::Resting;
        }
    }

    /// Goes to a place.
    pub fn go_to(&mut self, now: Instant, aim: Aim) {
        self.aim(now);
        self.doing = Doing::Going(aim.within());
    }

    /// Goes by so much of what is in the picture: 1 is half of its width, or of its height.
    pub fn go_by_view(&mut self, now: Instant, (x, y): (f64, f64), zoom: f64) {
        let aim = self.aim(now);
        let half = WIDEST / aim.zoom / 2.0;
        self.go_to(now, Aim { pan: aim.pan + x * half, tilt: aim.tilt + y * half * 9.0 / 16.0, zoom: aim.zoom * zoom.exp2() });
    }

    /// Goes home.
    pub fn go_home(&mut self, now: Instant) {
        self.go_to(now, self.home);
    }

    /// Its home is here from now on.
    pub fn set_home(&mut self, now: Instant) {
        self.home = self.aim(now);
    }

    /// Its presets: number and name.
    pub fn presets(&self) -> impl Iterator<Item = (u32, &str)> {
        self.presets.iter().map(|(number, name, _)| (*number, name.as_str()))
    }

    /// Keeps where it looks under a name, in a preset that is there or a new one; its number. `None` where there is no room or none
    /// such.
    pub fn keep(&mut self, now: Instant, name: &str, number: Option<u32>) -> Option<u32> {
        let aim = self.aim(now);
        match number {
            Some(number) => {
                let preset = self.presets.iter_mut().find(|(have, ..)| *have == number)?;
                (preset.1, preset.2) = (name.to_owned(), aim);
                Some(number)
            }
            None if self.presets.len() >= PRESETS => None,
            None => {
                self.presets.push((self.next, name.to_owned(), aim));
                self.next += 1;
                Some(self.next - 1)
            }
        }
    }

    /// Keeps a place that it need not look at.
    #[must_use]
    pub fn with_preset(mut self, name: &str, aim: Aim) -> Self {
        self.presets.push((self.next, name.to_owned(), aim.within()));
        self.next += 1;
        self
    }

    /// Goes to a preset; false where there is none such.
    pub fn go_to_preset(&mut self, now: Instant, number: u32) -> bool {
        let Some((.., aim)) = self.presets.iter().find(|(have, ..)| *have == number).cloned() else { return false };
        self.go_to(now, aim);
        true
    }

    /// Takes a preset away; false where there is none such.
    pub fn forget(&mut self, number: u32) -> bool {
        let before = self.presets.len();
        self.presets.retain(|(have, ..)| *have != number);
        self.presets.len() < before
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_moves_with_inertia_between_its_limits_and_stops_by_itself() {
        let begin = Instant::now();
        let at = |ms: u64| begin + Duration::from_millis(ms);
        let mut head = Head::new(begin);
        head.go(at(0), [1.0, 0.0, 0.0], Duration::from_millis(300));
        let early = head.aim(at(60)).pan;
        assert!(early > 0.3 && early < 2.0, "it needs a moment: {early}");
        let late = head.aim(at(300)).pan;
        assert!((11.0..15.0).contains(&late), "{late}");
        let rested = head.aim(at(1_000)).pan;
        assert!(rested - late < 6.0 && !head.moves(), "its time-out: {rested}");
        head.go(at(1_000), [1.0, -1.0, 0.0], Duration::from_secs(60));
        assert_eq!((head.aim(at(9_000)).pan, head.aim(at(9_000)).tilt), (PAN.1, TILT.0));
        head.stop(at(9_000));
        assert!(head.aim(at(10_000)) == head.aim(at(12_000)) && !head.moves());
        head.fault = HeadFault::NeverStops;
        head.go(at(12_000), [-1.0, 0.0, 0.0], Duration::from_millis(300));
        head.stop(at(12_100));
        assert!(head.aim(at(13_000)).pan < 130.0 && head.moves());
    }

    #[test]
    fn places_are_kept_and_gone_to() {
        let begin = Instant::now();
        let at = |ms: u64| begin + Duration::from_millis(ms);
        let mut head = Head::new(begin).with_preset("gate", Aim { pan: 60.0, tilt: -10.0, zoom: 4.0 });
        assert!(head.go_to_preset(at(0), 1) && !head.go_to_preset(at(0), 9));
        assert_eq!(head.aim(at(6_000)), Aim { pan: 60.0, tilt: -10.0, zoom: 4.0 });
        assert_eq!(head.keep(at(6_000), "lane", None), Some(2));
        assert_eq!(head.keep(at(6_000), "gate again", Some(1)), Some(1));
        assert_eq!(head.keep(at(6_000), "x", Some(7)), None);
        assert_eq!(head.presets().collect::<Vec<_>>(), [(1, "gate again"), (2, "lane")]);
        head.go_home(at(6_000));
        assert_eq!(head.aim(at(20_000)), Aim::HOME);
        // Half a picture to the right and a quarter up; twice as near.
        head.go_by_view(at(20_000), (1.0, 0.5), 1.0);
        let aim = head.aim(at(30_000));
        assert!((aim.pan - 45.0).abs() < 0.1 && (aim.tilt - 12.656).abs() < 0.1 && (aim.zoom - 2.0).abs() < 0.05, "{aim:?}");
        assert!(head.forget(2) && !head.forget(2));
        (0..PRESETS).for_each(|n| assert!(head.keep(at(30_000), &n.to_string(), None).is_some() || n == PRESETS - 1));
        assert_eq!((head.presets().count(), head.keep(at(30_000), "too many", None)), (PRESETS, None));
    }
}
