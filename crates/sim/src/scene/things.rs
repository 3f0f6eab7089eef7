//! What moves in the pictures.

use super::places::{AMBER, DARK, GREEN, HULL, RUST, SKIN, STEEL, TIMBER, WHITE};
use crate::canvas::{Canvas, Colour};

/// The screen with six tiles on it, or all light; the desk before it catches some.
pub fn screen_on_desk(c: &mut Canvas, lit: bool, t: f32) {
    if lit {
        c.rect(410.0, 140.0, 880.0, 500.0, Colour::rgb(250, 246, 232));
        c.trapezoid(700.0, (460.0, 1240.0), 860.0, (340.0, 1360.0), Colour::rgb(150, 130, 104));
        return;
    }
    c.rect(410.0, 140.0, 880.0, 500.0, Colour::rgb(20, 16, 12));
    for n in 0..6u8 {
        let (x, y) = (430.0 + f32::from(n % 3) * 290.0, 160.0 + f32::from(n / 3) * 240.0);
        c.rect(x, y, 260.0, 170.0, Colour::rgb(44, 52, 56));
        c.rect(x + (t / 9.0 + f32::from(n) * 0.3).fract() * 220.0, y + 100.0, 40.0, 16.0, STEEL);
        c.rect(x, y + 182.0, 150.0, 8.0, AMBER);
    }
}

pub fn gates(c: &mut Canvas, t: f32) {
    let open = ((t / 12.0).sin() * 1.4).clamp(-1.0, 1.0) * 0.5 + 0.5;
    let width = 290.0 * (1.0 - 0.8 * open);
    for (left, right) in [(500.0, 500.0 + width), (1100.0 - width, 1100.0)] {
        c.trapezoid(440.0, (left, right), 600.0, (left - 12.0, right + 12.0), TIMBER);
        c.rect(left, 436.0, right - left, 10.0, AMBER);
    }
}

pub fn boat(c: &mut Canvas, t: f32) {
    let y = 460.0 + (t / 24.0).fract() * 420.0;
    let size = 0.5 + (y - 460.0) / 500.0;
    let (w, x) = (180.0 * size, 800.0 - 90.0 * size + (t / 3.0).sin() * 10.0);
    c.trapezoid(y, (x, x + w), y + 60.0 * size, (x + 20.0 * size, x + w - 20.0 * size), RUST);
    c.rect(x + w * 0.3, y - 50.0 * size, w * 0.3, 50.0 * size, WHITE);
}

/// The upper left corner of a car's lower half, and its size against the nearest.
pub fn car_at(t: f32, lane: u8, n: u8) -> (f32, f32, f32) {
    let speed = 22.0 + f32::from(lane) * 5.0;
    let along = ((t / speed) + f32::from(n) / 3.0 + f32::from(lane) * 0.17).fract();
    let depth = along * along;
    let y = 300.0 + depth * 560.0;
    let size = 0.15 + depth * 0.85;
    let lane_x = |edge: f32| {
        let top = 626.0 + edge * 90.0;
        top + (edge * 400.0 + 13.0 - top) * (y - 290.0) / 610.0
    };
    (f32::midpoint(lane_x(f32::from(lane)), lane_x(f32::from(lane) + 1.0)) - 120.0 * size, y, size)
}

pub fn cars(c: &mut Canvas, t: f32) {
    for lane in 0..4u8 {
        for n in 0..3u8 {
            let (x, y, size) = car_at(t, lane, n);
            let body = [RUST, HULL, GREEN, WHITE][usize::from((lane + n) % 4)];
            c.trapezoid(y - 70.0 * size, (x + 40.0 * size, x + 200.0 * size), y, (x + 10.0 * size, x + 230.0 * size), body);
            c.rect(x, y, 240.0 * size, 70.0 * size, body);
            c.rect(x + 14.0 * size, y + 20.0 * size, 34.0 * size, 20.0 * size, AMBER);
            c.rect(x + 192.0 * size, y + 20.0 * size, 34.0 * size, 20.0 * size, AMBER);
        }
    }
}

pub fn barrier(c: &mut Canvas, t: f32) {
    let lift = ((t / 6.0).sin() * 2.0).clamp(0.0, 1.0) * 240.0;
    c.rect(1330.0, 420.0, 40.0, 180.0, AMBER);
    c.trapezoid(430.0 - lift, (600.0 + lift, 1350.0), 452.0, (600.0 + lift * 2.0, 1350.0), WHITE);
}

pub fn ferry(c: &mut Canvas, x: f32, y: f32, size: f32) {
    let at = |dx: f32| x + dx * size;
    c.trapezoid(y + 90.0 * size, (at(0.0), at(560.0)), y + 170.0 * size, (at(50.0), at(520.0)), HULL);
    c.rect(at(30.0), y + 80.0 * size, 500.0 * size, 14.0 * size, RUST);
    c.rect(at(70.0), y + 30.0 * size, 400.0 * size, 52.0 * size, WHITE);
    c.rect(at(140.0), y - 10.0 * size, 200.0 * size, 40.0 * size, WHITE);
    c.rect(at(230.0), y - 60.0 * size, 50.0 * size, 50.0 * size, AMBER);
    for n in 0..11 {
        c.rect(at(90.0 + n as f32 * 34.0), y + 44.0 * size, 20.0 * size, 16.0 * size, HULL);
    }
    if size > 0.9 {
        c.text(at(150.0), y + 112.0 * size, 34.0 * size, "TARN ROSE", WHITE);
    }
}

/// One person, seen from the front: feet at (x, y), twice as high as `size`.
pub fn walker(c: &mut Canvas, (x, y): (f32, f32), size: f32, step: f32, coat: Colour) {
    c.rect(x - size * 0.25, y - size * 1.3, size * 0.5, size, coat);
    c.rect(x - size * 0.17, y - size * 1.75, size * 0.34, size * 0.4, SKIN);
    c.rect(x - size * 0.2, y - size * 0.35 + step * size * 0.06, size * 0.16, size * 0.4, DARK);
    c.rect(x + size * 0.05, y - size * 0.35 - step * size * 0.06, size * 0.16, size * 0.4, DARK);
}

/// The feet of one of them, and their size.
pub fn walker_at(t: f32, (far, near): (f32, f32), n: u8) -> ((f32, f32), f32) {
    let along = (t / (16.0 + f32::from(n) * 3.0) + f32::from(n) * 0.29).fract();
    let depth = along * along;
    let aside = (f32::from(n % 3) - 1.0) * (40.0 + depth * 260.0);
    ((800.0 + aside, far + (near - far) * depth), 34.0 + depth * 220.0)
}

/// People who come towards the camera along a corridor from `far` to `near` (heights of their feet).
pub fn corridor(c: &mut Canvas, t: f32, (far, near): (f32, f32), count: u8) {
    for n in 0..count {
        let (feet, size) = walker_at(t, (far, near), n);
        let coat = [AMBER, HULL, RUST, WHITE][usize::from(n % 4)];
        walker(c, feet, size, (t * 6.0 + f32::from(n)).sin(), coat);
    }
}

/// Gulls over the water.
pub fn gulls(c: &mut Canvas, t: f32) {
    for n in 0..5u8 {
        let n = f32::from(n);
        let x = ((t / (18.0 + n * 4.0) + n * 0.21).fract()) * 1800.0 - 100.0;
        let y = 120.0 + n * 30.0 + (t * 0.9 + n * 2.0).sin() * 26.0;
        let wing = (t * 7.0 + n).sin() * 9.0;
        c.rect(x, y - wing, 16.0, 5.0, WHITE);
        c.rect(x + 14.0, y, 12.0, 6.0, WHITE);
        c.rect(x + 24.0, y - wing, 16.0, 5.0, WHITE);
    }
}

/// The lamp of the light: two seconds of five.
pub fn lamp(c: &mut Canvas, t: f32) {
    if t % 5.0 < 2.0 {
        c.trapezoid(132.0, (0.0, 1190.0), 168.0, (0.0, 1190.0), Colour::rgb(214, 206, 170));
        c.rect(1186.0, 126.0, 58.0, 46.0, Colour::rgb(255, 244, 190));
    }
}

/// Waves that break on the stones.
pub fn surf(c: &mut Canvas, t: f32) {
    for n in 0..14u8 {
        let n = f32::from(n);
        let rise = (t * 1.7 + n * 0.8).sin().max(0.0);
        c.rect(90.0 + n * 106.0, 600.0 + n * 9.0 - rise * 46.0, 84.0, 8.0 + rise * 40.0, WHITE);
    }
}

/// A gantry on wheels with a load on its hook.
pub fn gantry(c: &mut Canvas, t: f32) {
    let x = 500.0 + (t / 17.0).sin() * 420.0;
    let load = 520.0 + (t / 5.0).sin() * 60.0;
    c.rect(x, 180.0, 30.0, 560.0, AMBER);
    c.rect(x + 400.0, 180.0, 30.0, 560.0, AMBER);
    c.rect(x - 20.0, 160.0, 470.0, 34.0, AMBER);
    c.rect(x + 210.0, 190.0, 6.0, load - 190.0, DARK);
    c.trapezoid(load, (x + 110.0, x + 330.0), load + 80.0, (x + 140.0, x + 300.0), HULL);
}

/// The stern of the boat that is under way.
pub fn boat_at(t: f32) -> f32 {
    (t / 30.0).fract() * 2000.0 - 300.0
}

/// Boats at the fingers of the pontoon, and one under way.
pub fn moored(c: &mut Canvas, t: f32) {
    for n in 0..4u8 {
        let (row, up) = (f32::from(n), (t * 1.1 + f32::from(n)).sin() * 5.0);
        let (y, size) = (300.0 + row * 150.0 + up, 0.7 + row * 0.2);
        for (x, colour) in [(430.0 - row * 60.0, WHITE), (960.0 + row * 60.0, RUST)] {
            let width = 200.0 * size;
            c.trapezoid(y, (x, x + width), y + 54.0 * size, (x + 26.0, x + width - 26.0), colour);
            c.rect(x + width * 0.4, y - 34.0 * size, width * 0.3, 34.0 * size, HULL);
            c.rect(x + width * 0.55, y - 150.0 * size, 6.0, 120.0 * size, STEEL);
        }
    }
    let x = boat_at(t);
    c.trapezoid(236.0, (x, x + 170.0), 270.0, (x + 20.0, x + 150.0), AMBER);
    c.rect(x - 120.0, 268.0, 110.0, 4.0, WHITE);
}

/// The board over the counters: the next departures.
pub fn board(c: &mut Canvas, t: f32) {
    let minutes = (t / 60.0) as u32;
    for (row, (name, after)) in [("TARN ROSE", 4u32), ("NORTH BANK", 19), ("EIDER", 33)].into_iter().enumerate() {
        let at = minutes + after;
        let due = format!("{name:<11} +{:02} MIN", at % 60);
        c.text(520.0, 96.0 + row as f32 * 44.0, 32.0, &due, AMBER);
    }
}

/// People in a line before the counters; each moves up when the first is served.
pub fn queue(c: &mut Canvas, t: f32) {
    let moved = (t / 8.0).fract().min(0.2) * 5.0;
    for n in 0..7u8 {
        let place = f32::from(n) + 1.0 - moved;
        let coat = [RUST, HULL, GREEN, AMBER][usize::from((u32::from(n) + (t / 8.0) as u32) as u8 % 4)];
        walker(c, (640.0 + place * 95.0, 560.0 + place * 38.0), 92.0 + place * 9.0, (t * 5.0).sin() * moved.fract(), coat);
    }
}

/// A fork lift that goes to the back of a store and returns.
pub fn fork_lift(c: &mut Canvas, t: f32) {
    let depth = ((t / 11.0).sin() * 0.5 + 0.5).powi(2);
    let (y, size) = (430.0 + depth * 360.0, 0.25 + depth * 0.9);
    let x = 800.0 - 110.0 * size;
    c.rect(x, y - 150.0 * size, 220.0 * size, 150.0 * size, AMBER);
    c.rect(x + 30.0 * size, y - 270.0 * size, 160.0 * size, 120.0 * size, DARK);
    c.rect(x - 16.0 * size, y - 320.0 * size, 16.0 * size, 330.0 * size, STEEL);
    c.rect(x + 220.0 * size, y - 320.0 * size, 16.0 * size, 330.0 * size, STEEL);
    c.rect(x + 16.0 * size, y - 6.0 * size, 54.0 * size, 34.0 * size, DARK);
    c.rect(x + 150.0 * size, y - 6.0 * size, 54.0 * size, 34.0 * size, DARK);
    c.rect(x + 20.0 * size, y - 400.0 * size, 180.0 * size, 120.0 * size, TIMBER);
}

/// A lorry that backs into its place, and drives off.
pub fn lorry_under_way(c: &mut Canvas, t: f32) {
    let x = 1500.0 - ((t / 40.0).fract() * 2.0 - 1.0).abs() * 1100.0;
    lorry(c, x, 610.0, 1.25, RUST);
    c.rect(x + 470.0, 690.0, 16.0, 18.0, if t % 1.0 < 0.5 { AMBER } else { DARK });
}

/// A lorry from the side; (x, y) is the upper left of its box.
pub fn lorry(c: &mut Canvas, x: f32, y: f32, size: f32, colour: Colour) {
    c.rect(x, y, 300.0 * size, 110.0 * size, colour);
    c.rect(x + 306.0 * size, y + 24.0 * size, 70.0 * size, 86.0 * size, WHITE);
    c.rect(x + 340.0 * size, y + 36.0 * size, 34.0 * size, 30.0 * size, DARK);
    for wheel in [30.0, 80.0, 230.0, 320.0] {
        c.rect(x + wheel * size, y + 104.0 * size, 34.0 * size, 28.0 * size, DARK);
    }
}

/// Small traffic on the roads of the port, seen from high up.
pub fn far_traffic(c: &mut Canvas, t: f32) {
    for n in 0..16u8 {
        let along = (t / (24.0 + f32::from(n % 3) * 6.0) + f32::from(n) * 0.131).fract();
        let colour = [WHITE, RUST, AMBER, HULL][usize::from(n % 4)];
        if n % 2 == 0 {
            c.rect(along * 1600.0, 612.0 + f32::from(n % 4) * 8.0, 22.0, 10.0, colour);
        } else {
            c.rect(760.0 + along * 240.0, 640.0 + along * 250.0, 16.0, 14.0, colour);
        }
    }
    let x = (t / 80.0).fract() * 1900.0 - 200.0;
    c.trapezoid(330.0, (x - 260.0, x), 340.0, (x - 320.0, x), Colour::rgb(120, 150, 160));
    ferry(c, x, 290.0, 0.28);
}

/// The upper left corner of the coat of one of those who go by.
pub fn person_at(t: f32, y: f32, n: u8) -> (f32, f32) {
    let pace = 40.0 + f32::from(n) * 9.0;
    let along = (t / pace + f32::from(n) * 0.23).fract() * 1900.0 - 100.0;
    (if n.is_multiple_of(2) { along } else { 1600.0 - along }, y + f32::from(n) * 22.0)
}

pub fn people(c: &mut Canvas, t: f32, y: f32, count: u8, coat: Colour) {
    for n in 0..count {
        let ((x, y), step) = (person_at(t, y, n), (t * 6.0 + f32::from(n)).sin() * 5.0);
        c.rect(x, y, 22.0, 44.0, coat);
        c.dot(x + 3.0, y - 20.0, 16.0, SKIN);
        c.rect(x + 2.0 + step, y + 44.0, 7.0, 28.0, DARK);
        c.rect(x + 13.0 - step, y + 44.0, 7.0, 28.0, DARK);
    }
}

/// What falls from the sky: `count` streaks or flakes of this size, anew in each picture.
pub fn falling(c: &mut Canvas, number: u32, count: u32, (width, height): (f32, f32), colour: Colour) {
    let mut state = number.wrapping_mul(2_654_435_761) | 1;
    for _ in 0..count {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        let (x, y) = ((state & 0xffff) as f32 / 41.0, (state >> 16) as f32 / 73.0);
        c.rect(x, y, width, height, colour);
    }
}
