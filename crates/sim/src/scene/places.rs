//! What stands in the pictures.

use super::things::lorry;
use crate::canvas::{Canvas, Colour};

pub const SKY: Colour = Colour::rgb(150, 176, 196);
pub const SEA: Colour = Colour::rgb(46, 82, 96);
pub const CONCRETE: Colour = Colour::rgb(128, 124, 116);
pub const WET: Colour = Colour::rgb(92, 90, 86);
pub const HULL: Colour = Colour::rgb(24, 46, 78);
pub const WHITE: Colour = Colour::rgb(226, 224, 214);
pub const RUST: Colour = Colour::rgb(150, 74, 40);
pub const AMBER: Colour = Colour::rgb(240, 170, 60);
pub const DARK: Colour = Colour::rgb(18, 22, 28);
pub const TIMBER: Colour = Colour::rgb(84, 62, 44);
pub const GREEN: Colour = Colour::rgb(60, 110, 72);
pub const STEEL: Colour = Colour::rgb(128, 130, 132);
pub const SKIN: Colour = Colour::rgb(196, 150, 120);
/// Sky above, sky below and water, at night.
pub const NIGHT: (Colour, Colour, Colour) = (Colour::rgb(8, 12, 22), Colour::rgb(24, 34, 48), Colour::rgb(14, 28, 36));
/// The same at dawn.
pub const DAWN: (Colour, Colour, Colour) = (Colour::rgb(120, 140, 176), Colour::rgb(244, 190, 150), Colour::rgb(96, 104, 120));

pub fn desk(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(44, 46, 52));
    c.rect(60.0, 60.0, 240.0, 330.0, Colour::rgb(22, 30, 44)); // the window, at night
    c.rect(180.0, 60.0, 8.0, 330.0, TIMBER);
    c.trapezoid(680.0, (140.0, 1460.0), 900.0, (-100.0, 1700.0), TIMBER);
    c.rect(1460.0, 520.0, 70.0, 90.0, RUST); // a mug
    c.rect(390.0, 120.0, 920.0, 540.0, DARK); // the screen's frame
    c.rect(790.0, 660.0, 120.0, 60.0, DARK);
}

pub fn sky(c: &mut Canvas, top: Colour, bottom: Colour, horizon: f32) {
    let mix = |a: u8, b: u8, n: i32| (i32::from(a) + (i32::from(b) - i32::from(a)) * n / 24) as u8;
    for n in 0..24 {
        let colour = Colour { y: mix(top.y, bottom.y, n), u: mix(top.u, bottom.u, n), v: mix(top.v, bottom.v, n) };
        c.rect(0.0, horizon * n as f32 / 24.0, 1600.0, horizon / 24.0 + 2.0, colour);
    }
}

pub fn slipway(c: &mut Canvas) {
    sky(c, Colour::rgb(96, 132, 168), Colour::rgb(206, 206, 196), 330.0);
    c.trapezoid(270.0, (900.0, 1100.0), 330.0, (700.0, 1600.0), Colour::rgb(86, 98, 92));
    c.rect(0.0, 330.0, 1600.0, 570.0, SEA);
    c.rect(1390.0, 120.0, 26.0, 212.0, WHITE); // breakwater light
    c.rect(1380.0, 100.0, 46.0, 26.0, RUST);
}

pub fn slipway_front(c: &mut Canvas) {
    c.trapezoid(600.0, (250.0, 1250.0), 900.0, (-200.0, 1700.0), CONCRETE);
    c.trapezoid(600.0, (250.0, 1250.0), 680.0, (140.0, 1360.0), WET);
    for n in 0..6 {
        let y = 700.0 + n as f32 * 34.0;
        c.rect(60.0, y, 1480.0, 5.0, WET);
    }
}

pub fn lock(c: &mut Canvas) {
    sky(c, Colour::rgb(140, 150, 160), SKY, 260.0);
    c.rect(0.0, 260.0, 1600.0, 640.0, GREEN);
    c.rect(0.0, 360.0, 1600.0, 540.0, CONCRETE);
    c.trapezoid(420.0, (520.0, 1080.0), 900.0, (260.0, 1340.0), SEA);
    c.rect(1180.0, 200.0, 220.0, 170.0, RUST); // ice house
    c.trapezoid(150.0, (1250.0, 1330.0), 200.0, (1160.0, 1420.0), TIMBER);
}

pub fn lanes(c: &mut Canvas) {
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

pub fn fuel_quay(c: &mut Canvas, (top, bottom, water): (Colour, Colour, Colour)) {
    sky(c, top, bottom, 360.0);
    c.rect(0.0, 360.0, 1600.0, 540.0, water);
    c.trapezoid(320.0, (0.0, 500.0), 362.0, (0.0, 760.0), DARK);
}

pub fn quay_front(c: &mut Canvas) {
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

/// The breakwater with its light, under clouds.
pub fn breakwater(c: &mut Canvas) {
    sky(c, Colour::rgb(112, 118, 126), Colour::rgb(176, 178, 178), 400.0);
    c.rect(0.0, 400.0, 1600.0, 500.0, Colour::rgb(62, 80, 88));
}

/// Its stones and the tower: they stand before the waves.
pub fn tower(c: &mut Canvas) {
    c.trapezoid(520.0, (1020.0, 1400.0), 640.0, (60.0, 1600.0), WET);
    c.trapezoid(620.0, (0.0, 1600.0), 900.0, (0.0, 1600.0), Colour::rgb(84, 82, 78));
    for n in 0..9 {
        c.rect(n as f32 * 190.0, 690.0 + (n % 3) as f32 * 60.0, 120.0, 40.0, WET);
    }
    c.trapezoid(170.0, (1178.0, 1252.0), 540.0, (1150.0, 1280.0), WHITE);
    c.trapezoid(250.0, (1172.0, 1258.0), 310.0, (1167.0, 1263.0), RUST);
    c.trapezoid(390.0, (1161.0, 1269.0), 450.0, (1157.0, 1273.0), RUST);
    c.rect(1180.0, 120.0, 70.0, 56.0, STEEL);
    c.trapezoid(96.0, (1200.0, 1230.0), 122.0, (1172.0, 1258.0), RUST);
}

/// Hulls on trestles, at noon.
pub fn boatyard(c: &mut Canvas) {
    sky(c, Colour::rgb(92, 150, 210), Colour::rgb(196, 220, 236), 360.0);
    c.rect(0.0, 360.0, 1600.0, 540.0, Colour::rgb(168, 160, 142));
    c.rect(980.0, 210.0, 560.0, 210.0, Colour::rgb(134, 88, 70)); // the shed
    c.trapezoid(140.0, (1040.0, 1480.0), 212.0, (950.0, 1570.0), DARK);
    c.rect(1160.0, 280.0, 200.0, 140.0, DARK);
    for (n, colour) in [HULL, WHITE, GREEN].into_iter().enumerate() {
        let x = 60.0 + n as f32 * 480.0;
        c.rect(x + 180.0, 260.0, 10.0, 300.0, TIMBER);
        c.trapezoid(560.0, (x, x + 400.0), 690.0, (x + 70.0, x + 340.0), colour);
        c.rect(x + 120.0, 516.0, 130.0, 46.0, WHITE);
        c.rect(x + 90.0, 690.0, 14.0, 90.0, TIMBER);
        c.rect(x + 300.0, 690.0, 14.0, 90.0, TIMBER);
    }
}

/// A basin with a pontoon, from above.
pub fn basin(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(58, 110, 118));
    c.rect(0.0, 0.0, 1600.0, 150.0, CONCRETE);
    c.rect(0.0, 146.0, 1600.0, 16.0, WET);
    for n in 0..7 {
        c.rect(60.0 + n as f32 * 230.0, 40.0, 120.0, 70.0, [WHITE, RUST, HULL][n % 3]);
    }
}

/// The pontoon and its fingers, over the water.
pub fn pontoon(c: &mut Canvas) {
    c.trapezoid(150.0, (770.0, 830.0), 900.0, (680.0, 920.0), Colour::rgb(176, 150, 112));
    for n in 0..4 {
        let y = 360.0 + n as f32 * 152.0;
        c.rect(330.0 - n as f32 * 70.0, y, 940.0 + n as f32 * 140.0, 12.0 + n as f32 * 3.0, Colour::rgb(156, 132, 98));
    }
}

/// The hall where tickets are sold.
pub fn hall(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(206, 200, 184));
    c.rect(0.0, 520.0, 1600.0, 380.0, Colour::rgb(150, 138, 120));
    for n in 0..8 {
        c.rect(0.0, 560.0 + n as f32 * n as f32 * 7.0, 1600.0, 4.0, Colour::rgb(132, 120, 104));
    }
    c.rect(490.0, 70.0, 660.0, 170.0, DARK);
    for n in 0..5 {
        let x = 180.0 + n as f32 * 260.0;
        c.rect(x, 290.0, 200.0, 130.0, Colour::rgb(250, 226, 170));
        c.rect(x + 70.0, 330.0, 60.0, 90.0, HULL);
        c.rect(x - 20.0, 420.0, 240.0, 110.0, TIMBER);
    }
    c.rect(0.0, 60.0, 120.0, 470.0, Colour::rgb(168, 204, 226)); // the door, daylight behind it
}

/// A cold store: shelves to both sides, lights above.
pub fn store(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(188, 200, 204));
    c.trapezoid(420.0, (640.0, 960.0), 900.0, (120.0, 1480.0), Colour::rgb(120, 128, 132));
    c.rect(640.0, 220.0, 320.0, 200.0, Colour::rgb(96, 110, 118));
    c.rect(700.0, 240.0, 200.0, 180.0, Colour::rgb(210, 216, 214));
    for n in 0..4 {
        let near = 1.0 + n as f32;
        let (inner, top, bottom) = (640.0 - near * 130.0, 220.0 - near * 52.0, 420.0 + near * 100.0);
        for (x, mirrored) in [(inner, false), (1600.0 - inner - 110.0, true)] {
            c.rect(x, top, 110.0, bottom - top, Colour::rgb(70, 92, 120));
            for shelf in 0..3 {
                let y = top + (bottom - top) * (0.08 + shelf as f32 * 0.32);
                let box_colour = if (n + shelf) % 2 == usize::from(mirrored) { TIMBER } else { Colour::rgb(206, 186, 150) };
                c.rect(x + 8.0, y, 94.0, (bottom - top) * 0.22, box_colour);
            }
        }
        c.rect(760.0 - near * 24.0, 190.0 - near * 46.0, 80.0 + near * 48.0, 8.0 + near * 4.0, Colour::rgb(250, 254, 255));
    }
}

/// The bridge for those on foot: windows to both sides.
pub fn gangway(c: &mut Canvas) {
    c.rect(0.0, 0.0, 1600.0, 900.0, Colour::rgb(176, 172, 160));
    c.trapezoid(330.0, (640.0, 960.0), 900.0, (60.0, 1540.0), Colour::rgb(86, 96, 110));
    c.trapezoid(0.0, (200.0, 1400.0), 210.0, (640.0, 960.0), Colour::rgb(226, 224, 214));
    c.rect(660.0, 210.0, 280.0, 130.0, Colour::rgb(214, 232, 240));
    for n in 0..5 {
        let near = n as f32;
        let (x, w, top, h) =
            (560.0 - near * near * 34.0 - near * 10.0, 40.0 + near * 26.0, 220.0 - near * 30.0, 90.0 + near * 66.0);
        for x in [x, 1600.0 - x - w] {
            c.rect(x, top, w, h, Colour::rgb(150, 196, 218));
            c.rect(x, top + h * 0.6, w, h * 0.4, SEA);
        }
    }
    for n in 0..6 {
        c.rect(640.0 - n as f32 * 96.0, 350.0 + (n * n) as f32 * 16.0, 320.0 + n as f32 * 192.0, 5.0, AMBER);
    }
}

/// Rows of lorries that wait.
pub fn lorry_park(c: &mut Canvas) {
    sky(c, Colour::rgb(150, 152, 156), Colour::rgb(198, 196, 190), 300.0);
    c.rect(0.0, 300.0, 1600.0, 600.0, Colour::rgb(104, 106, 108));
    for row in 0..2 {
        for n in 0..5 {
            let size = 0.7 + row as f32 * 0.25;
            lorry(
                c,
                20.0 + n as f32 * 320.0,
                330.0 + row as f32 * 120.0,
                size,
                [GREEN, WHITE, HULL, RUST, CONCRETE][(n + row * 2) % 5],
            );
        }
    }
    for n in 0..8 {
        c.trapezoid(
            620.0,
            (n as f32 * 220.0, n as f32 * 220.0 + 8.0),
            900.0,
            (n as f32 * 240.0 - 60.0, n as f32 * 240.0 - 46.0),
            WHITE,
        );
    }
}

/// The port from the head of a mast.
pub fn from_the_mast(c: &mut Canvas) {
    sky(c, Colour::rgb(120, 170, 214), Colour::rgb(214, 226, 226), 220.0);
    c.rect(0.0, 220.0, 1600.0, 340.0, Colour::rgb(52, 102, 128));
    c.trapezoid(196.0, (900.0, 1600.0), 224.0, (700.0, 1600.0), Colour::rgb(96, 120, 104));
    c.trapezoid(420.0, (380.0, 1600.0), 560.0, (0.0, 1600.0), CONCRETE);
    c.rect(0.0, 560.0, 1600.0, 340.0, Colour::rgb(124, 140, 104));
    c.rect(0.0, 604.0, 1600.0, 46.0, Colour::rgb(80, 82, 84));
    c.trapezoid(640.0, (750.0, 800.0), 900.0, (960.0, 1060.0), Colour::rgb(80, 82, 84));
    for n in 0..6 {
        let (x, y) = (60.0 + n as f32 * 250.0, 680.0 + (n % 2) as f32 * 90.0);
        c.rect(x, y, 150.0, 90.0, [RUST, WHITE, TIMBER][n % 3]);
        c.rect(x, y, 150.0, 22.0, DARK);
    }
    c.rect(560.0, 380.0, 20.0, 120.0, AMBER); // a crane
    c.rect(470.0, 372.0, 240.0, 14.0, AMBER);
}
