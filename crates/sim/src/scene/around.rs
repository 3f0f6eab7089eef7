//! What cameras on the mast see that see all around: four places beside each other, each a quarter of the circle, under one sky. The
//! same world for every lens.

use super::{AROUND, moving, still};
use crate::canvas::{Canvas, Colour};
use lattice_core::lens::{Lens, Mount, Projection};

/// The lens of the camera of all around on the mast.
pub const MAST: Lens = Lens::new(Projection::Equirectangular, Mount::Desk);
/// The lens of the one under the mast's platform, which looks down. A little of its circle's right edge is cut off, as it often is.
pub const PLATFORM: Lens =
    Lens { centre: (5_050, 4_980), radius: 4_900, field: 190, ..Lens::new(Projection::Fisheye, Mount::Ceiling) };

/// Size of each quarter, before it is bent.
const QUARTER: (usize, usize) = (320, 180);
/// Degrees that a quarter reaches above the horizon, and below it.
const ABOVE: f64 = 24.0;
const BELOW: f64 = 46.0;
/// It lies in no quarter: the sky, the ground, outside of the circle.
const SKY: u32 = u32::MAX;
const GROUND: u32 = u32::MAX - 1;
const OUTSIDE: u32 = u32::MAX - 2;

/// A world that is bent by a lens.
#[derive(Debug)]
pub(super) struct World {
    quarters: [(Canvas, Canvas); 4],
    luma: Vec<u32>,
    chroma: Vec<u32>,
}

impl World {
    pub fn new(lens: &Lens, size: (usize, usize)) -> Self {
        let quarters = AROUND.map(|(view, _)| {
            let mut background = Canvas::new(QUARTER.0, QUARTER.1);
            still(view, &mut background);
            (background.clone(), background)
        });
        let map = |(across, down): (usize, usize), (width, height): (usize, usize)| -> Vec<u32> {
            let whole = (across as f64, down as f64);
            let place = |n: usize| {
                let at = ((n % across) as f64 + 0.5, (n / across) as f64 + 0.5);
                let scaled = (at.0 / whole.0 * size.0 as f64, at.1 / whole.1 * size.1 as f64);
                let Some([x, y, z]) = lens.direction(scaled, size) else { return OUTSIDE };
                let (turn, rise) = (x.atan2(z).to_degrees() + 45.0, y.atan2(x.hypot(z)).to_degrees());
                if rise >= ABOVE {
                    return SKY;
                }
                if rise <= -BELOW {
                    return GROUND;
                }
                let turn = turn.rem_euclid(360.0);
                let (quarter, along) = ((turn / 90.0) as usize % 4, turn % 90.0 / 90.0);
                let column = ((along * width as f64) as usize).min(width - 1);
                let row = (((ABOVE - rise) / (ABOVE + BELOW) * height as f64) as usize).min(height - 1);
                (quarter * width * height + row * width + column) as u32
            };
            (0..across * down).map(place).collect()
        };
        let half = (QUARTER.0 / 2, QUARTER.1 / 2);
        Self { quarters, luma: map(size, QUARTER), chroma: map((size.0 / 2, size.1 / 2), half) }
    }

    /// Draws the world of a moment.
    pub fn draw(&mut self, t: f32, canvas: &mut Canvas) {
        for ((background, quarter), (view, _)) in self.quarters.iter_mut().zip(AROUND) {
            quarter.copy_from(background);
            moving(view, quarter, t, false);
        }
        let (sky, ground, none) = (Colour::rgb(96, 120, 148), Colour::rgb(52, 50, 46), Colour::rgb(0, 0, 0));
        let bend = |map: &[u32], planes: [&[u8]; 4], [sky, ground, none]: [u8; 3], out: &mut [u8]| {
            let each = planes[0].len();
            for (out, at) in out.iter_mut().zip(map) {
                *out = match *at {
                    SKY => sky,
                    GROUND => ground,
                    OUTSIDE => none,
                    at => planes[at as usize / each][at as usize % each],
                };
            }
        };
        let [a, b, c, d] = &self.quarters;
        let (y, u, v) = canvas.planes_mut();
        let luma = [a, b, c, d].map(|(_, quarter)| quarter.luma());
        bend(&self.luma, luma, [sky.y, ground.y, none.y], y);
        bend(&self.chroma, [a, b, c, d].map(|(_, quarter)| quarter.chroma().0), [sky.u, ground.u, none.u], u);
        bend(&self.chroma, [a, b, c, d].map(|(_, quarter)| quarter.chroma().1), [sky.v, ground.v, none.v], v);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::lens::Gaze;

    #[test]
    fn both_lenses_show_the_same_world() {
        let picture = |lens: &Lens, size: (usize, usize)| {
            let mut canvas = Canvas::new(size.0, size.1);
            World::new(lens, size).draw(12.0, &mut canvas);
            canvas
        };
        let (mast, platform) = (picture(&MAST, (1600, 800)), picture(&PLATFORM, (960, 960)));
        // The same directions have the same light, as near as their pixels lie.
        let gaze = Gaze::degrees(20.0, -30.0, 0.0, 80.0);
        let (mut apart, mut count) = (0u64, 0u64);
        for n in 0..64 * 36 {
            let ray = gaze.ray((f64::from(n % 64) + 0.5, f64::from(n / 64) + 0.5), (64.0, 36.0));
            let level = |lens: &Lens, canvas: &Canvas| {
                let (x, y) = lens.place(ray, canvas.size()).unwrap();
                canvas.luma()[y as usize * canvas.size().0 + x as usize]
            };
            apart += u64::from(level(&MAST, &mast).abs_diff(level(&PLATFORM, &platform)));
            count += 1;
        }
        assert!(apart / count < 10, "{apart} of {count}");
    }
}
