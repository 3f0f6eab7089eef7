//! Views of the port, each moving by the clock alone: the same time draws the same picture. What the operator's screen
//! shows is the one thing from outside.

mod around;
mod movers;
mod places;
mod things;

use crate::block_code;
use crate::canvas::{Canvas, Colour, UNITS};
use crate::device::Imaging;
use crate::fault::PictureFault;
use crate::head::{Aim, WIDEST};
use crate::light::Light;
use around::World;
pub use around::{MAST, PLATFORM};
pub use movers::Mover;
use places::{AMBER, DARK, DAWN, NIGHT, WHITE};

/// What a camera looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// A slipway by day; the ferry crosses behind it.
    Slipway,
    /// Lock gates that open and close for a boat.
    LockGate,
    /// Lanes of cars before the ramp, at dusk.
    CarLane,
    /// The fuel quay at night, in rain.
    FuelQuay,
    /// The breakwater with its light, under clouds, with surf.
    Breakwater,
    /// Hulls on trestles and a gantry, at noon.
    Boatyard,
    /// A basin with a pontoon, from above.
    Pontoon,
    /// Inside: the hall where tickets are sold.
    TicketHall,
    /// Inside: a cold store with a fork lift.
    ColdStore,
    /// Inside: the bridge for those on foot.
    Gangway,
    /// Lorries that wait, in the fog of the morning.
    LorryPark,
    /// The whole port from a mast.
    MastHead,
    /// The slipway in snow.
    SlipwaySnow,
    /// The lock in fog.
    LockFog,
    /// The lanes at night, in rain.
    LaneNight,
    /// The fuel quay at dawn.
    QuayDawn,
    /// The operator's desk with the screen on it.
    Desk,
    /// What a head on the mast sees, wherever it looks: the slipway straight on, the lanes to the right, the fuel quay to the left, the
    /// lock behind.
    AllRound,
    /// All around the mast at once, each direction in its place.
    Around,
    /// The same seen from under the mast's platform, through a lens that shows a circle.
    AroundBelow,
}

impl View {
    /// Those of the port, without the desk.
    pub const PORT: [Self; 16] = [
        Self::Slipway,
        Self::LockGate,
        Self::CarLane,
        Self::FuelQuay,
        Self::Breakwater,
        Self::Boatyard,
        Self::LorryPark,
        Self::TicketHall,
        Self::Pontoon,
        Self::MastHead,
        Self::Gangway,
        Self::ColdStore,
        Self::SlipwaySnow,
        Self::LockFog,
        Self::LaneNight,
        Self::QuayDawn,
    ];
}

/// Draws one view at one size.
#[derive(Debug)]
pub struct Scene {
    view: View,
    name: String,
    background: Canvas,
    canvas: Canvas,
    /// Something was drawn that can freeze.
    drawn: bool,
    /// The screen on the desk.
    screen: Option<Light>,
    /// Where a head looks.
    aim: Aim,
    /// What a camera of all around sees.
    world: Option<World>,
}

impl Scene {
    /// Prepares what does not move. The name stands in the pictures before the clock; without a name there is no clock.
    #[must_use]
    pub fn new(view: View, name: &str, width: usize, height: usize, screen: Option<Light>) -> Self {
        let mut background = Canvas::new(width, height);
        still(view, &mut background);
        let canvas = background.clone();
        let size = canvas.size();
        let world = match view {
            View::Around => Some(World::new(&MAST, size)),
            View::AroundBelow => Some(World::new(&PLATFORM, size)),
            _ => None,
        };
        Self { view, name: name.to_owned(), background, canvas, drawn: false, screen, aim: Aim::HOME, world }
    }

    /// A head looks there from now on.
    pub(crate) const fn look(&mut self, aim: Aim) {
        self.aim = aim;
    }

    /// Draws the picture of a moment (microseconds since the Unix epoch) with its frame number.
    pub fn draw(&mut self, unix_micros: i64, number: u32) -> &Canvas {
        self.canvas.copy_from(&self.background);
        self.movement(unix_micros);
        self.weather(number);
        if !self.name.is_empty() {
            stamp_clock(&mut self.canvas, &self.name, unix_micros);
        }
        block_code::stamp(&mut self.canvas, number);
        &self.canvas
    }

    /// All around, as far as it is in the picture: four places beside each other, each a quarter of the circle.
    fn all_round(&mut self, t: f32) {
        let (aim, c) = (self.aim, &mut self.canvas);
        let (per_degree, zoom) = (UNITS.0 / WIDEST as f32, aim.zoom as f32);
        let middle = UNITS.0 / 2.0 + aim.pan as f32 * per_degree;
        let down = UNITS.1 / 2.0 - aim.tilt as f32 * per_degree;
        c.look_at_all();
        c.rect(0.0, 0.0, UNITS.0, UNITS.1, DARK);
        let half = UNITS.0 / 2.0 / zoom;
        let (first, last) = (((middle - half) / UNITS.0).floor() as i32, ((middle + half) / UNITS.0).floor() as i32);
        for quarter in first..=last {
            c.look((middle - quarter as f32 * UNITS.0, down), zoom);
            c.rect(0.0, -600.0, UNITS.0, 602.0, AROUND[quarter.rem_euclid(4) as usize].1);
            let view = AROUND[quarter.rem_euclid(4) as usize].0;
            still(view, c);
            moving(view, c, t, false);
        }
        c.look_at_all();
    }

    /// What moves, and what stands before it.
    fn movement(&mut self, unix_micros: i64) {
        let t = (unix_micros.rem_euclid(3_600_000_000)) as f32 / 1e6;
        if self.view == View::AllRound {
            return self.all_round(t);
        }
        if let Some(world) = &mut self.world {
            return world.draw(t, &mut self.canvas);
        }
        let lit = self.screen.as_ref().is_some_and(|screen| screen.in_picture(unix_micros));
        moving(self.view, &mut self.canvas, t, lit);
    }

    /// Rain, snow, fog and night, over all that was drawn.
    fn weather(&mut self, number: u32) {
        let c = &mut self.canvas;
        match self.view {
            View::FuelQuay => things::falling(c, number, 120, (2.0, 22.0), Colour::rgb(90, 100, 110)),
            View::LaneNight => {
                c.each_luma(|value| if value > 160 { value } else { 16 + (value - 16) / 3 });
                c.each_chroma(|value| (128 + (i32::from(value) - 128) / 2) as u8);
                things::falling(c, number, 90, (2.0, 26.0), Colour::rgb(80, 88, 96));
            }
            View::LockFog | View::LorryPark => {
                c.each_luma(|value| 84 + (u16::from(value) * 9 / 20) as u8);
                c.each_chroma(|value| (128 + (i32::from(value) - 128) / 3) as u8);
            }
            View::SlipwaySnow => {
                c.each_luma(|value| 70 + (value / 2).max(24));
                c.each_chroma(|value| (128 + (i32::from(value) - 128) / 3) as u8);
                things::falling(c, number, 160, (7.0, 7.0), WHITE);
            }
            _ => {}
        }
    }

    /// The same through a lens or sensor in trouble; a frozen one gives what was drawn before.
    pub(crate) fn draw_in_trouble(
        &mut self,
        unix_micros: i64,
        number: u32,
        how: Option<PictureFault>,
        imaging: &Imaging,
    ) -> &Canvas {
        if how == Some(PictureFault::Freeze) && self.drawn {
            return &self.canvas;
        }
        self.drawn = true;
        self.draw(unix_micros, number);
        let c = &mut self.canvas;
        imaging.expose(c);
        match how {
            None | Some(PictureFault::Freeze) => {}
            Some(PictureFault::Dark) => {
                c.each_luma(|value| 16 + (value.saturating_sub(16)) / 24);
                c.each_chroma(|value| (128 + (i32::from(value) - 128) / 24) as u8);
            }
            Some(PictureFault::Glare) => {
                c.each_luma(|value| 235 - (235 - value.min(235)) / 16);
                c.each_chroma(|value| (128 + (i32::from(value) - 128) / 16) as u8);
            }
            Some(PictureFault::Cover) => {
                c.each_luma(|value| 110 + value / 64);
                c.each_chroma(|_| 132);
            }
            Some(PictureFault::Blur) => {
                let side = c.size().0 / 40;
                c.blur(side);
                c.blur(side);
            }
            Some(PictureFault::Night) => c.each_chroma(|_| 128),
        }
        c
    }
}

/// What lies around the mast: straight on, to the right, behind, to the left; each with its sky.
const AROUND: [(View, Colour); 4] = [
    (View::Slipway, Colour::rgb(96, 132, 168)),
    (View::CarLane, Colour::rgb(40, 44, 70)),
    (View::LockGate, Colour::rgb(140, 150, 160)),
    (View::FuelQuay, Colour::rgb(8, 12, 22)),
];

/// What does not move.
fn still(view: View, c: &mut Canvas) {
    match view {
        View::Slipway | View::SlipwaySnow => places::slipway(c),
        View::LockGate | View::LockFog => places::lock(c),
        View::CarLane | View::LaneNight => places::lanes(c),
        View::FuelQuay => places::fuel_quay(c, NIGHT),
        View::QuayDawn => places::fuel_quay(c, DAWN),
        View::Breakwater => places::breakwater(c),
        View::Boatyard => places::boatyard(c),
        View::Pontoon => places::basin(c),
        View::TicketHall => places::hall(c),
        View::ColdStore => places::store(c),
        View::Gangway => places::gangway(c),
        View::LorryPark => places::lorry_park(c),
        View::MastHead => places::from_the_mast(c),
        View::Desk => places::desk(c),
        View::AllRound | View::Around | View::AroundBelow => {}
    }
}

/// What moves, and what stands before it; `lit` is the screen on the desk.
fn moving(view: View, c: &mut Canvas, t: f32, lit: bool) {
    match view {
        View::Slipway | View::SlipwaySnow => {
            c.ripple(330.0, 640.0, t / 9.0, 9.0);
            things::ferry(c, (t / 50.0).fract() * 2200.0 - 600.0, 250.0, 1.0);
            places::slipway_front(c);
            things::people(c, t, 700.0, 5, WHITE);
        }
        View::LockGate | View::LockFog => {
            c.ripple(420.0, 900.0, t / 7.0, 8.0);
            things::boat(c, t);
            things::gates(c, t);
            things::people(c, t, 380.0, 3, AMBER);
        }
        View::CarLane | View::LaneNight => {
            things::cars(c, t);
            things::barrier(c, t);
            things::people(c, t, 760.0, 4, AMBER);
        }
        View::FuelQuay | View::QuayDawn => {
            c.ripple(360.0, 620.0, t / 11.0, 5.0);
            things::ferry(c, 1700.0 - (t / 70.0).fract() * 2300.0, 300.0, 0.6);
            places::quay_front(c);
            things::people(c, t, 690.0, 2, AMBER);
        }
        View::Breakwater => {
            c.ripple(400.0, 640.0, t / 5.0, 14.0);
            things::lamp(c, t);
            places::tower(c);
            things::surf(c, t);
            things::gulls(c, t);
        }
        View::Boatyard => {
            things::gantry(c, t);
            things::people(c, t, 760.0, 3, AMBER);
        }
        View::Pontoon => {
            c.ripple(162.0, 900.0, t / 12.0, 7.0);
            things::moored(c, t);
            places::pontoon(c);
            things::people(c, t, 196.0, 2, WHITE);
        }
        View::TicketHall => {
            things::board(c, t);
            things::queue(c, t);
        }
        View::ColdStore => things::fork_lift(c, t),
        View::Gangway => things::corridor(c, t, (330.0, 860.0), 6),
        View::LorryPark => things::lorry_under_way(c, t),
        View::MastHead => {
            c.ripple(224.0, 420.0, t / 20.0, 5.0);
            things::far_traffic(c, t);
        }
        View::Desk => things::screen_on_desk(c, lit, t),
        View::AllRound | View::Around | View::AroundBelow => {}
    }
}

fn stamp_clock(c: &mut Canvas, name: &str, unix_micros: i64) {
    let tenths = unix_micros.rem_euclid(86_400_000_000) / 100_000;
    let seconds = tenths / 10;
    let text = format!("{name}  {:02}:{:02}:{:02}.{} UTC", seconds / 3600, seconds / 60 % 60, seconds % 60, tenths % 10);
    let (across, down) = c.text_size(20.0, &text);
    c.rect(16.0, 20.0 - down * 0.25, across + 16.0, down * 1.5, DARK);
    c.text(24.0, 20.0, 20.0, &text, WHITE);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn views_differ_move_and_repeat_exactly() {
        let picture = |view, at: i64| Scene::new(view, "x", 320, 180, None).draw(at, 7).luma().to_vec();
        for (index, view) in View::PORT.into_iter().enumerate() {
            assert_eq!(picture(view, 5_000_000), picture(view, 5_000_000));
            assert_ne!(picture(view, 5_000_000), picture(view, 7_000_000), "{view:?}");
            for other in View::PORT.into_iter().skip(index + 1) {
                let (one, two) = (picture(view, 0), picture(other, 0));
                let apart: u64 = one.iter().zip(&two).map(|(a, b)| u64::from(a.abs_diff(*b))).sum();
                assert!(apart / one.len() as u64 > 8, "{view:?} looks like {other:?}");
            }
        }
    }
}
