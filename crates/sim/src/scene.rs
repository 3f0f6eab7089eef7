//! Views of the port, each moving by the clock alone: the same time draws the same picture. What the operator's screen
//! shows is the one thing from outside.

use crate::block_code;
use crate::canvas::{Canvas, Colour};
use crate::fault::PictureFault;
use crate::light::Light;

/// What a camera looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// A slipway; the ferry crosses behind it.
    Slipway,
    /// Lock gates that open and close for a boat.
    LockGate,
    /// Lanes of cars before the ramp, at dusk.
    CarLane,
    /// The fuel quay at night, in rain.
    FuelQuay,
    /// The operator's desk with the screen on it.
    Desk,
}

const SKY: Colour = Colour::rgb(150, 176, 196);
const SEA: Colour = Colour::rgb(46, 82, 96);
const CONCRETE: Colour = Colour::rgb(128, 124, 116);
const WET: Colour = Colour::rgb(92, 90, 86);
const HULL: Colour = Colour::rgb(24, 46, 78);
const WHITE: Colour = Colour::rgb(226, 224, 214);
const RUST: Colour = Colour::rgb(150, 74, 40);
const AMBER: Colour = Colour::rgb(240, 170, 60);
const DARK: Colour = Colour::rgb(18, 22, 28);
const TIMBER: Colour = Colour::rgb(84, 62, 44);
const GREEN: Colour = Colour::rgb(60, 110, 72);

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
}

impl Scene {
    /// Prepares what does not move.
    #[must_use]
    pub fn new(view: View, name: &str, width: usize, height: usize, screen: Option<Light>) -> Self {
        let mut background = Canvas::new(width, height);
        match view {
            View::Slipway => slipway(&mut background),
            View::LockGate => lock(&mut background),
            View::CarLane => lanes(&mut background),
            View::FuelQuay => fuel_quay(&mut background),
            View::Desk => desk(&mut background),
        }
        let canvas = background.clone();
        Self { view, name: name.to_owned(), background, canvas, drawn: false, screen }
    }

    /// Draws the picture of a moment (microseconds since the Unix epoch) with its frame number.
    pub fn draw(&mut self, unix_micros: i64, number: u32) -> &Canvas {
        let c = &mut self.canvas;
        c.copy_from(&self.background);
        let t = (unix_micros.rem_euclid(3_600_000_000)) as f32 / 1e6;
        match self.view {
            View::Slipway => {
                c.ripple(330.0, 640.0, t / 9.0, 9.0);
                ferry(c, (t / 50.0).fract() * 2200.0 - 600.0, 250.0, 1.0);
                slipway_front(c);
                people(c, t, 700.0, 5, WHITE);
            }
            View::LockGate => {
                c.ripple(420.0, 900.0, t / 7.0, 8.0);
                boat(c, t);
                gates(c, t);
                people(c, t, 380.0, 3, AMBER);
            }
            View::CarLane => {
                cars(c, t);
                barrier(c, t);
                people(c, t, 760.0, 4, AMBER);
            }
            View::FuelQuay => {
                c.ripple(360.0, 620.0, t / 11.0, 5.0);
                ferry(c, 1700.0 - (t / 70.0).fract() * 2300.0, 300.0, 0.6);
                quay_front(c);
                people(c, t, 690.0, 2, AMBER);
                rain(c, number);
            }
            View::Desk => {
                let lit = self.screen.as_ref().is_some_and(|screen| screen.in_picture(unix_micros));
                screen_on_desk(c, lit, t);
            }
        }
        stamp_clock(c, &self.name, unix_micros);
        block_code::stamp(c, number);
        &self.canvas
    }

    /// The same through a lens or sensor in trouble; a frozen one gives what was drawn before.
    pub(crate) fn draw_in_trouble(&mut self, unix_micros: i64, number: u32, how: Option<PictureFault>) -> &Canvas {
        if how == Some(PictureFault::Freeze) && self.drawn {
            return &self.canvas;
        }
        self.drawn = true;
        self.draw(unix_micros, number);
        let c = &mut self.canvas;
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

fn desk(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(44, 46, 52));
    c.rect(60.0, 60.0, 240.0, 330.0, Colour::rgb(22, 30, 44)); // the window, at night
    c.rect(180.0, 60.0, 8.0, 330.0, TIMBER);
    c.trapezoid(680.0, (140.0, 1460.0), 900.0, (-100.0, 1700.0), TIMBER);
    c.rect(1460.0, 520.0, 70.0, 90.0, RUST); // a mug
    c.rect(390.0, 120.0, 920.0, 540.0, DARK); // the screen's frame
    c.rect(790.0, 660.0, 120.0, 60.0, DARK);
}

/// The screen with six tiles on it, or all light; the desk before it catches some.
fn screen_on_desk(c: &mut Canvas, lit: bool, t: f32) {
    if lit {
        c.rect(410.0, 140.0, 880.0, 500.0, Colour::rgb(250, 246, 232));
        c.trapezoid(700.0, (460.0, 1240.0), 860.0, (340.0, 1360.0), Colour::rgb(150, 130, 104));
        return;
    }
    c.rect(410.0, 140.0, 880.0, 500.0, Colour::rgb(20, 16, 12));
    for n in 0..6u8 {
        let (x, y) = (430.0 + f32::from(n % 3) * 290.0, 160.0 + f32::from(n / 3) * 240.0);
        c.rect(x, y, 260.0, 170.0, Colour::rgb(44, 52, 56));
        c.rect(x + (t / 9.0 + f32::from(n) * 0.3).fract() * 220.0, y + 100.0, 40.0, 16.0, CONCRETE);
        c.rect(x, y + 182.0, 150.0, 8.0, AMBER);
    }
}

fn sky(c: &mut Canvas, top: Colour, bottom: Colour, horizon: f32) {
    let mix = |a: u8, b: u8, n: i32| (i32::from(a) + (i32::from(b) - i32::from(a)) * n / 24) as u8;
    for n in 0..24 {
        let colour = Colour { y: mix(top.y, bottom.y, n), u: mix(top.u, bottom.u, n), v: mix(top.v, bottom.v, n) };
        c.rect(0.0, horizon * n as f32 / 24.0, 1600.0, horizon / 24.0 + 2.0, colour);
    }
}

fn slipway(c: &mut Canvas) {
    sky(c, Colour::rgb(96, 132, 168), Colour::rgb(206, 206, 196), 330.0);
    c.trapezoid(270.0, (900.0, 1100.0), 330.0, (700.0, 1600.0), Colour::rgb(86, 98, 92));
    c.rect(0.0, 330.0, 1600.0, 570.0, SEA);
    c.rect(1390.0, 120.0, 26.0, 212.0, WHITE); // breakwater light
    c.rect(1380.0, 100.0, 46.0, 26.0, RUST);
}

fn slipway_front(c: &mut Canvas) {
    c.trapezoid(600.0, (250.0, 1250.0), 900.0, (-200.0, 1700.0), CONCRETE);
    c.trapezoid(600.0, (250.0, 1250.0), 680.0, (140.0, 1360.0), WET);
    for n in 0..6 {
        let y = 700.0 + n as f32 * 34.0;
        c.rect(60.0, y, 1480.0, 5.0, WET);
    }
}

fn lock(c: &mut Canvas) {
    sky(c, Colour::rgb(140, 150, 160), SKY, 260.0);
    c.rect(0.0, 260.0, 1600.0, 640.0, GREEN);
    c.rect(0.0, 360.0, 1600.0, 540.0, CONCRETE);
    c.trapezoid(420.0, (520.0, 1080.0), 900.0, (260.0, 1340.0), SEA);
    c.rect(1180.0, 200.0, 220.0, 170.0, RUST); // ice house
    c.trapezoid(150.0, (1250.0, 1330.0), 200.0, (1160.0, 1420.0), TIMBER);
}

fn gates(c: &mut Canvas, t: f32) {
    let open = ((t / 12.0).sin() * 1.4).clamp(-1.0, 1.0) * 0.5 + 0.5;
    let width = 290.0 * (1.0 - 0.8 * open);
    for (left, right) in [(500.0, 500.0 + width), (1100.0 - width, 1100.0)] {
        c.trapezoid(440.0, (left, right), 600.0, (left - 12.0, right + 12.0), TIMBER);
        c.rect(left, 436.0, right - left, 10.0, AMBER);
    }
}

fn boat(c: &mut Canvas, t: f32) {
    let y = 460.0 + (t / 24.0).fract() * 420.0;
    let size = 0.5 + (y - 460.0) / 500.0;
    let (w, x) = (180.0 * size, 800.0 - 90.0 * size + (t / 3.0).sin() * 10.0);
    c.trapezoid(y, (x, x + w), y + 60.0 * size, (x + 20.0 * size, x + w - 20.0 * size), RUST);
    c.rect(x + w * 0.3, y - 50.0 * size, w * 0.3, 50.0 * size, WHITE);
}

fn lanes(c: &mut Canvas) {
    sky(c, Colour::rgb(40, 44, 70), Colour::rgb(190, 120, 80), 280.0);
    c.rect(0.0, 280.0, 1600.0, 620.0, Colour::rgb(58, 60, 64));
    for n in 0..5 {
        let top = 620.0 + n as f32 * 90.0;
        let bottom = n as f32 * 400.0;
        c.trapezoid(290.0, (top, top + 6.0), 900.0, (bottom, bottom + 26.0), WHITE);
    }
    c.rect(0.0, 200.0, 420.0, 140.0, CONCRETE); // ticket hall
    for n in 0..6 {
        c.rect(20.0 + n as f32 * 66.0, 230.0, 40.0, 50.0, AMBER);
    }
}

fn cars(c: &mut Canvas, t: f32) {
    for lane in 0..4u8 {
        for n in 0..3u8 {
            let speed = 22.0 + f32::from(lane) * 5.0;
            let along = ((t / speed) + f32::from(n) / 3.0 + f32::from(lane) * 0.17).fract();
            let depth = along * along;
            let y = 300.0 + depth * 560.0;
            let size = 0.15 + depth * 0.85;
            let lane_x = |edge: f32| {
                let top = 626.0 + edge * 90.0;
                top + (edge * 400.0 + 13.0 - top) * (y - 290.0) / 610.0
            };
            let x = f32::midpoint(lane_x(f32::from(lane)), lane_x(f32::from(lane) + 1.0)) - 120.0 * size;
            let body = [RUST, HULL, GREEN, WHITE][usize::from((lane + n) % 4)];
            c.trapezoid(y - 70.0 * size, (x + 40.0 * size, x + 200.0 * size), y, (x + 10.0 * size, x + 230.0 * size), body);
            c.rect(x, y, 240.0 * size, 70.0 * size, body);
            c.rect(x + 14.0 * size, y + 20.0 * size, 34.0 * size, 20.0 * size, AMBER);
            c.rect(x + 192.0 * size, y + 20.0 * size, 34.0 * size, 20.0 * size, AMBER);
        }
    }
}

fn barrier(c: &mut Canvas, t: f32) {
    let lift = ((t / 6.0).sin() * 2.0).clamp(0.0, 1.0) * 240.0;
    c.rect(1330.0, 420.0, 40.0, 180.0, AMBER);
    c.trapezoid(430.0 - lift, (600.0 + lift, 1350.0), 452.0, (600.0 + lift * 2.0, 1350.0), WHITE);
}

fn fuel_quay(c: &mut Canvas) {
    sky(c, Colour::rgb(8, 12, 22), Colour::rgb(24, 34, 48), 360.0);
    c.rect(0.0, 360.0, 1600.0, 540.0, Colour::rgb(14, 28, 36));
    c.trapezoid(320.0, (0.0, 500.0), 362.0, (0.0, 760.0), DARK);
}

fn quay_front(c: &mut Canvas) {
    c.rect(0.0, 620.0, 1600.0, 280.0, Colour::rgb(52, 52, 54));
    c.rect(0.0, 612.0, 1600.0, 12.0, AMBER);
    for (x, w) in [(120.0, 240.0), (420.0, 200.0)] {
        c.rect(x, 400.0, w, 300.0, Colour::rgb(110, 112, 110));
        c.rect(x, 392.0, w, 16.0, WHITE);
        c.rect(x + w * 0.8, 400.0, w * 0.2, 300.0, Colour::rgb(70, 72, 72));
    }
    for x in [80.0, 700.0, 1320.0] {
        c.rect(x, 330.0, 12.0, 300.0, DARK);
        c.rect(x - 30.0, 316.0, 72.0, 18.0, Colour::rgb(255, 220, 150));
    }
}

fn ferry(c: &mut Canvas, x: f32, y: f32, size: f32) {
    let at = |dx: f32| x + dx * size;
    c.trapezoid(y + 90.0 * size, (at(0.0), at(560.0)), y + 170.0 * size, (at(50.0), at(520.0)), HULL);
    c.rect(at(30.0), y + 80.0 * size, 500.0 * size, 14.0 * size, RUST);
    c.rect(at(70.0), y + 30.0 * size, 400.0 * size, 52.0 * size, WHITE);
    c.rect(at(140.0), y - 10.0 * size, 200.0 * size, 40.0 * size, WHITE);
    c.rect(at(230.0), y - 60.0 * size, 50.0 * size, 50.0 * size, AMBER);
    for n in 0..11 {
        c.rect(at(90.0 + n as f32 * 34.0), y + 44.0 * size, 20.0 * size, 16.0 * size, HULL);
    }
    c.text(at(150.0), y + 112.0 * size, 34.0 * size, "TARN ROSE", WHITE);
}

fn people(c: &mut Canvas, t: f32, y: f32, count: u8, coat: Colour) {
    for n in 0..count {
        let pace = 40.0 + f32::from(n) * 9.0;
        let x = ((t / pace + f32::from(n) * 0.23).fract() * 1900.0 - 100.0) * if n % 2 == 0 { 1.0 } else { -1.0 }
            + if n % 2 == 0 { 0.0 } else { 1600.0 };
        let (y, step) = (y + f32::from(n) * 22.0, (t * 6.0 + f32::from(n)).sin() * 5.0);
        c.rect(x, y, 22.0, 44.0, coat);
        c.dot(x + 3.0, y - 20.0, 16.0, Colour::rgb(196, 150, 120));
        c.rect(x + 2.0 + step, y + 44.0, 7.0, 28.0, DARK);
        c.rect(x + 13.0 - step, y + 44.0, 7.0, 28.0, DARK);
    }
}

fn rain(c: &mut Canvas, number: u32) {
    let mut state = number.wrapping_mul(2_654_435_761) | 1;
    for _ in 0..120 {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        let (x, y) = ((state & 0xffff) as f32 / 41.0, (state >> 16) as f32 / 73.0);
        c.rect(x, y, 2.0, 22.0, Colour::rgb(90, 100, 110));
    }
}

fn stamp_clock(c: &mut Canvas, name: &str, unix_micros: i64) {
    let tenths = unix_micros.rem_euclid(86_400_000_000) / 100_000;
    let seconds = tenths / 10;
    let text = format!("{name}  {:02}:{:02}:{:02}.{} UTC", seconds / 3600, seconds / 60 % 60, seconds % 60, tenths % 10);
    c.rect(16.0, 14.0, text.chars().count() as f32 * 20.2 + 12.0, 32.0, DARK);
    c.text(24.0, 20.0, 20.0, &text, WHITE);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn views_differ_move_and_repeat_exactly() {
        let picture = |view, at: i64| Scene::new(view, "x", 320, 180, None).draw(at, 7).luma().to_vec();
        let all = [View::Slipway, View::LockGate, View::CarLane, View::FuelQuay];
        for view in all {
            assert_eq!(picture(view, 5_000_000), picture(view, 5_000_000));
            assert_ne!(picture(view, 5_000_000), picture(view, 6_000_000));
        }
        assert_ne!(picture(all[0], 0), picture(all[1], 0));
    }
}
