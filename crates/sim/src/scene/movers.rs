//! Where in a view something goes from one place to another, at any moment: what own motion is held against.

use super::{View, things};

/// Something that goes somewhere: a number that stays, and the box around it in units of a picture of 1600 by 900.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Mover {
    /// The same from moment to moment.
    pub id: u32,
    /// Left.
    pub x: f32,
    /// Top.
    pub y: f32,
    /// Width.
    pub width: f32,
    /// Height.
    pub height: f32,
}

impl View {
    /// People, cars and boats that go by in a view at a moment, in seconds of the hour. What sways, is far off, or flies is not among them.
    #[must_use]
    pub fn movers(self, t: f32) -> Vec<Mover> {
        let people = |y: f32, count: u8| -> Vec<Mover> {
            let one = |n: u8| {
                let (x, y) = things::person_at(t, y, n);
                Mover { id: u32::from(n), x, y: y - 20.0, width: 22.0, height: 92.0 }
            };
            (0..count).map(one).collect()
        };
        let cars = || {
            let one = |lane: u8, n: u8| {
                let (x, y, size) = things::car_at(t, lane, n);
                let id = 100 + u32::from(lane) * 3 + u32::from(n);
                Mover { id, x: x + 10.0 * size, y: y - 70.0 * size, width: 230.0 * size, height: 140.0 * size }
            };
            (0..4).flat_map(move |lane| (0..3).map(move |n| one(lane, n)))
        };
        match self {
            Self::Slipway | Self::SlipwaySnow => people(700.0, 5),
            Self::LockGate | Self::LockFog => people(380.0, 3),
            Self::CarLane | Self::LaneNight => people(760.0, 4).into_iter().chain(cars()).collect(),
            Self::FuelQuay | Self::QuayDawn => people(690.0, 2),
            Self::Boatyard => people(760.0, 3),
            Self::Pontoon => {
                let boat = Mover { id: 50, x: things::boat_at(t), y: 236.0, width: 170.0, height: 34.0 };
                people(196.0, 2).into_iter().chain([boat]).collect()
            }
            Self::Gangway => {
                let one = |n: u8| {
                    let ((x, feet), size) = things::walker_at(t, (330.0, 860.0), n);
                    Mover { id: u32::from(n), x: x - size * 0.25, y: feet - size * 1.75, width: size * 0.5, height: size * 1.8 }
                };
                (0..6).map(one).collect()
            }
            _ => Vec::new(),
        }
    }
}
