//! The geometry of cameras that see all around: which place of their picture lies in which direction.
//!
//! The world has x to the right, y up and z ahead of the camera as it was mounted. Angles are in degrees: *pan* to the right from
//! ahead, *tilt* up from the horizon, *roll* clockwise. Places in pictures are in pixels, the middle of the first pixel at 0.5.

use serde::{Deserialize, Serialize};

/// How the camera's picture is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub enum Projection {
    /// Pan runs evenly across the picture through 360 degrees, tilt evenly down it through 180.
    #[default]
    Equirectangular,
    /// One circle, in which the distance from its middle grows evenly with the angle to the lens's axis.
    Fisheye,
    /// Two such circles beside each other: ahead in the left half, behind in the right one.
    DualFisheye,
}

/// How the camera hangs or stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub enum Mount {
    /// Under a ceiling, looking down; a picture of all around stands on its head.
    Ceiling,
    /// On a wall, looking ahead.
    #[default]
    Wall,
    /// On a desk, looking up; a picture of all around stands upright.
    Desk,
}

macro_rules! words {
    ($name:ident, $($one:ident => $word:literal),+) => {
        impl $name {
            /// Every one.
            pub const ALL: &'static [Self] = &[$(Self::$one),+];

            /// Its word in files and on screen.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self { $(Self::$one => $word),+ }
            }

            /// The one with this word.
            #[must_use]
            pub fn from_word(word: &str) -> Option<Self> {
                Self::ALL.iter().copied().find(|one| one.word() == word)
            }
        }
    };
}

words!(Projection, Equirectangular => "equirectangular", Fisheye => "fisheye", DualFisheye => "dual-fisheye");
words!(Mount, Ceiling => "ceiling", Wall => "wall", Desk => "desk");

/// A camera's lens, as it is told in the site.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Lens {
    /// How its picture is made.
    pub projection: Projection,
    /// How it hangs.
    pub mount: Mount,
    /// Middle of the circle (of the left one) in ten-thousandths of the picture's width and height.
    pub centre: (u16, u16),
    /// Radius of the circle in ten-thousandths of the picture's height.
    pub radius: u16,
    /// Degrees that the circle shows from edge to edge.
    pub field: u16,
}

impl Default for Lens {
    fn default() -> Self {
        Self::new(Projection::default(), Mount::default())
    }
}

/// What is wrong with a lens.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LensError {
    /// The circle's middle lies outside of the picture.
    #[error("the circle's middle lies in the picture: 0 to 1 of its width and height")]
    Centre,
    /// The circle is no circle that can be unrolled.
    #[error("the circle's radius is 0.05 to 2 of the picture's height")]
    Radius,
    /// No lens sees that.
    #[error("a lens shows 60 to 300 degrees from edge to edge")]
    Field,
}

impl Lens {
    /// A lens whose circles touch the edges of the picture, as most do: one of 180 degrees, two of 190.
    #[must_use]
    pub const fn new(projection: Projection, mount: Mount) -> Self {
        match projection {
            Projection::DualFisheye => Self { projection, mount, centre: (2_500, 5_000), radius: 5_000, field: 190 },
            _ => Self { projection, mount, centre: (5_000, 5_000), radius: 5_000, field: 180 },
        }
    }

    /// Whether it can be.
    ///
    /// # Errors
    /// What cannot be, in a sentence that says what can.
    pub const fn check(&self) -> Result<(), LensError> {
        if self.centre.0 > 10_000 || self.centre.1 > 10_000 {
            return Err(LensError::Centre);
        }
        if self.radius < 500 || self.radius > 20_000 {
            return Err(LensError::Radius);
        }
        if self.field < 60 || self.field > 300 {
            return Err(LensError::Field);
        }
        Ok(())
    }

    /// Where a direction of the world lies in a picture of this size; `None` where the camera does not see it. The direction may
    /// have any length but none.
    #[must_use]
    pub fn place(&self, direction: [f64; 3], size: (usize, usize)) -> Option<(f64, f64)> {
        let [x, y, z] = self.mounted(direction);
        let (width, height) = (size.0 as f64, size.1 as f64);
        if self.projection == Projection::Equirectangular {
            let turn = x.atan2(z) / std::f64::consts::TAU;
            let rise = y.atan2(x.hypot(z)) / std::f64::consts::PI;
            return Some(((turn + 0.5) * width, (0.5 - rise) * height));
        }
        let behind = self.projection == Projection::DualFisheye && z < 0.0;
        // Seen from behind, left and right change sides.
        let (x, z) = if behind { (-x, -z) } else { (x, z) };
        let across = x.hypot(y);
        let angle = across.atan2(z);
        let share = angle / (f64::from(self.field) / 2.0).to_radians();
        if share > 1.0 {
            return None;
        }
        let radius = f64::from(self.radius) / 10_000.0 * height * share;
        let (right, up) = if across > 0.0 { (x / across, y / across) } else { (0.0, 0.0) };
        let shift = if behind { width / 2.0 } else { 0.0 };
        let centre = (f64::from(self.centre.0) / 10_000.0 * width + shift, f64::from(self.centre.1) / 10_000.0 * height);
        let (left, top) = (centre.0 + right * radius, centre.1 - up * radius);
        ((0.0..=width).contains(&left) && (0.0..=height).contains(&top)).then_some((left, top))
    }

    /// The direction of the world that lies at a place of a picture of this size; `None` outside of what the lens shows.
    #[must_use]
    pub fn direction(&self, (left, top): (f64, f64), size: (usize, usize)) -> Option<[f64; 3]> {
        let (width, height) = (size.0.max(1) as f64, size.1.max(1) as f64);
        if self.projection == Projection::Equirectangular {
            let (turn, rise) = ((left / width - 0.5) * std::f64::consts::TAU, (0.5 - top / height) * std::f64::consts::PI);
            return Some(self.of_world([rise.cos() * turn.sin(), rise.sin(), rise.cos() * turn.cos()]));
        }
        let behind = self.projection == Projection::DualFisheye && left >= width / 2.0;
        let shift = if behind { width / 2.0 } else { 0.0 };
        let centre = (f64::from(self.centre.0) / 10_000.0 * width + shift, f64::from(self.centre.1) / 10_000.0 * height);
        let (right, up) = (left - centre.0, centre.1 - top);
        let share = right.hypot(up) / (f64::from(self.radius) / 10_000.0 * height);
        if share > 1.0 {
            return None;
        }
        let angle = share * (f64::from(self.field) / 2.0).to_radians();
        let far = right.hypot(up).max(f64::MIN_POSITIVE);
        let (x, y, z) = (angle.sin() * right / far, angle.sin() * up / far, angle.cos());
        Some(self.of_world(if behind { [-x, y, -z] } else { [x, y, z] }))
    }

    /// A direction of the world, as the camera has it.
    const fn mounted(&self, [x, y, z]: [f64; 3]) -> [f64; 3] {
        match (self.projection, self.mount) {
            // On its head: turned about the axis ahead.
            (Projection::Equirectangular | Projection::DualFisheye, Mount::Ceiling) => [-x, -y, z],
            (Projection::Equirectangular | Projection::DualFisheye, _) | (Projection::Fisheye, Mount::Wall) => [x, y, z],
            // The upper edge of the picture lies ahead.
            (Projection::Fisheye, Mount::Ceiling) => [x, z, -y],
            (Projection::Fisheye, Mount::Desk) => [-x, z, y],
        }
    }

    const fn of_world(&self, [x, y, z]: [f64; 3]) -> [f64; 3] {
        match (self.projection, self.mount) {
            (Projection::Equirectangular | Projection::DualFisheye, Mount::Ceiling) => [-x, -y, z],
            (Projection::Equirectangular | Projection::DualFisheye, _) | (Projection::Fisheye, Mount::Wall) => [x, y, z],
            (Projection::Fisheye, Mount::Ceiling) => [x, -z, y],
            (Projection::Fisheye, Mount::Desk) => [-x, z, y],
        }
    }

    /// Where one looks first: down into the room, ahead, or up.
    #[must_use]
    pub const fn first_look(&self) -> Gaze {
        let tilt = match (self.projection, self.mount) {
            (Projection::Fisheye, Mount::Ceiling) => -4_500,
            (Projection::Fisheye, Mount::Desk) => 4_500,
            _ => 0,
        };
        Gaze { pan: 0, tilt, roll: 0, across: 9_000 }
    }
}

/// Where a virtual view looks, in hundredths of a degree.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Gaze {
    /// To the right from ahead: -180 to 180 degrees.
    pub pan: i32,
    /// Up from the horizon: -90 to 90 degrees.
    pub tilt: i32,
    /// Clockwise: -180 to 180 degrees.
    pub roll: i32,
    /// What is seen from the left edge to the right one: 10 to 140 degrees.
    pub across: i32,
}

impl Gaze {
    /// Looking there, in degrees; angles that go round do so, others end at what can be.
    #[must_use]
    pub fn degrees(pan: f64, tilt: f64, roll: f64, across: f64) -> Self {
        let number = |value: f64, usual: f64| if value.is_finite() { value } else { usual };
        let hundredths = |value: f64| (value * 100.0).round() as i32;
        let round = |value: f64| hundredths((number(value, 0.0) + 180.0).rem_euclid(360.0) - 180.0);
        Self {
            pan: round(pan),
            tilt: hundredths(number(tilt, 0.0).clamp(-90.0, 90.0)),
            roll: round(roll),
            across: hundredths(number(across, 90.0).clamp(10.0, 140.0)),
        }
    }

    /// Pan, tilt, roll and what is seen across, in degrees.
    #[must_use]
    pub fn in_degrees(self) -> [f64; 4] {
        [self.pan, self.tilt, self.roll, self.across].map(|value| f64::from(value) / 100.0)
    }

    /// Turned to the right and up by these degrees.
    #[must_use]
    pub fn turned(self, right: f64, up: f64) -> Self {
        let [pan, tilt, roll, across] = self.in_degrees();
        Self::degrees(pan + right, tilt + up, roll, across)
    }

    /// Seeing so many times as much.
    #[must_use]
    pub fn wider(self, factor: f64) -> Self {
        let [pan, tilt, roll, across] = self.in_degrees();
        Self::degrees(pan, tilt, roll, across * factor)
    }

    /// Rolled clockwise by these degrees.
    #[must_use]
    pub fn rolled(self, by: f64) -> Self {
        let [pan, tilt, roll, across] = self.in_degrees();
        Self::degrees(pan, tilt, roll + by, across)
    }

    /// What turns directions of the view into directions of the world.
    #[must_use]
    pub fn turn(self) -> [[f64; 3]; 3] {
        let [pan, tilt, roll, _] = self.in_degrees().map(f64::to_radians);
        let ((sp, cp), (st, ct), (sr, cr)) = (pan.sin_cos(), tilt.sin_cos(), roll.sin_cos());
        // Roll about the axis ahead first, then tilt about the one to the right, then pan about the one up.
        [
            [cp * cr + sp * -st * -sr, cp * sr + sp * -st * cr, sp * ct],
            [ct * -sr, ct * cr, st],
            [-sp * cr + cp * -st * -sr, -sp * sr + cp * -st * cr, cp * ct],
        ]
    }

    /// The direction of the world that is seen at a place of a view of this size: what is straight in the world is straight there.
    #[must_use]
    pub fn ray(self, at: (f64, f64), size: (f64, f64)) -> [f64; 3] {
        self.rays(size)(at)
    }

    /// The same for many places.
    pub fn rays(self, (width, height): (f64, f64)) -> impl Fn((f64, f64)) -> [f64; 3] {
        let (reach, turn) = ((f64::from(self.across) / 200.0).to_radians().tan(), self.turn());
        move |(left, top)| {
            let (x, y) = ((left / width * 2.0 - 1.0) * reach, (height / 2.0 - top) / (width / 2.0) * reach);
            apply(turn, [x, y, 1.0])
        }
    }

    /// Where a direction of the world is seen in a view of this size; `None` behind it.
    #[must_use]
    pub fn seen(self, direction: [f64; 3], (width, height): (f64, f64)) -> Option<(f64, f64)> {
        let turn = self.turn();
        let back = |column: usize| (0..3).map(|row| turn[row][column] * direction[row]).sum::<f64>();
        let [x, y, z] = [back(0), back(1), back(2)];
        if z <= 0.0 {
            return None;
        }
        let reach = (f64::from(self.across) / 200.0).to_radians().tan();
        Some(((x / z / reach + 1.0) * width / 2.0, height / 2.0 - y / z / reach * width / 2.0))
    }

    /// The direction that is seen at a place of a strip all around of this size: pan runs evenly across it through 360 degrees
    /// with this gaze in the middle, tilt as evenly.
    #[must_use]
    pub fn strip_ray(self, (left, top): (f64, f64), (width, height): (f64, f64)) -> [f64; 3] {
        let [pan, tilt, ..] = self.in_degrees();
        let turn = (pan + (left / width - 0.5) * 360.0).to_radians();
        let rise = (tilt + (height / 2.0 - top) / width * 360.0).clamp(-90.0, 90.0).to_radians();
        [rise.cos() * turn.sin(), rise.sin(), rise.cos() * turn.cos()]
    }
}

fn apply(turn: [[f64; 3]; 3], [x, y, z]: [f64; 3]) -> [f64; 3] {
    turn.map(|[a, b, c]| a * x + b * y + c * z)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SIZE: (usize, usize) = (1920, 960);

    fn lenses() -> impl Iterator<Item = Lens> {
        let all = |projection: &'static Projection| Mount::ALL.iter().map(|mount| Lens::new(*projection, *mount));
        Projection::ALL.iter().flat_map(all)
    }

    fn angle(a: [f64; 3], b: [f64; 3]) -> f64 {
        let dot: f64 = a.iter().zip(b).map(|(a, b)| a * b).sum();
        let length = |v: [f64; 3]| v.iter().map(|v| v * v).sum::<f64>().sqrt();
        (dot / length(a) / length(b)).clamp(-1.0, 1.0).acos().to_degrees()
    }

    proptest! {
        #[test]
        fn a_place_and_its_direction_are_each_others_way_back(left in 0.0..1920.0f64, top in 1.0..959.0f64) {
            for lens in lenses() {
                let Some(direction) = lens.direction((left, top), SIZE) else { continue };
                // What both circles show is taken from the nearer one.
                let Some(place) = lens.place(direction, SIZE) else { continue };
                let again = lens.direction(place, SIZE).unwrap();
                prop_assert!(angle(direction, again) < 1e-4, "{lens:?}: {direction:?} {again:?}");
                if lens.projection != Projection::DualFisheye {
                    prop_assert!((place.0 - left).abs() < 1e-6 && (place.1 - top).abs() < 1e-6, "{lens:?}: {place:?}");
                }
            }
        }

        #[test]
        fn a_gaze_and_its_rays_are_each_others_way_back(
            pan in -180.0..180.0f64, tilt in -90.0..90.0f64, roll in -180.0..180.0f64, across in 10.0..140.0f64,
            at in (0.0..640.0f64, 0.0..360.0f64)
        ) {
            let gaze = Gaze::degrees(pan, tilt, roll, across);
            let place = gaze.seen(gaze.ray(at, (640.0, 360.0)), (640.0, 360.0)).unwrap();
            prop_assert!((place.0 - at.0).abs() < 1e-6 && (place.1 - at.1).abs() < 1e-6, "{place:?} {at:?}");
            prop_assert!(angle(gaze.ray((320.0, 180.0), (640.0, 360.0)), gaze.strip_ray((320.0, 180.0), (640.0, 360.0))) < 0.01);
        }
    }

    #[test]
    fn angles_go_where_their_names_say() {
        let at = |pan, tilt, roll| Gaze::degrees(pan, tilt, roll, 90.0).ray((320.0, 180.0), (640.0, 360.0));
        let near = |a: [f64; 3], b: [f64; 3]| angle(a, b) < 1e-6;
        assert!(near(at(0.0, 0.0, 0.0), [0.0, 0.0, 1.0]), "ahead");
        assert!(near(at(90.0, 0.0, 0.0), [1.0, 0.0, 0.0]), "to the right");
        assert!(near(at(0.0, 90.0, 0.0), [0.0, 1.0, 0.0]), "up");
        let edge = Gaze::degrees(0.0, 0.0, 0.0, 90.0).ray((640.0, 180.0), (640.0, 360.0));
        assert!(near(edge, [1.0, 0.0, 1.0]), "the right edge of 90 degrees lies at 45: {edge:?}");
        let rolled = Gaze::degrees(0.0, 0.0, 90.0, 90.0).seen([0.0, 0.3, 1.0], (640.0, 360.0)).unwrap();
        assert!(rolled.0 < 320.0 && (rolled.1 - 180.0).abs() < 1e-6, "rolled clockwise, what was above lies left: {rolled:?}");
        let round = Gaze::degrees(170.0, 80.0, 0.0, 90.0).turned(20.0, 20.0);
        assert_eq!((round.pan, round.tilt), (-17_000, 9_000), "pan goes round, tilt ends");
        assert_eq!(Gaze::degrees(f64::NAN, f64::INFINITY, 0.0, 1e9).in_degrees(), [0.0, 0.0, 0.0, 140.0]);
    }

    #[test]
    fn each_mount_has_its_middle_where_it_looks() {
        let middle = |projection, mount, at| Lens::new(projection, mount).direction(at, SIZE).unwrap();
        let near = |a: [f64; 3], b: [f64; 3]| angle(a, b) < 1e-4;
        let centre = (960.0, 480.0);
        assert!(near(middle(Projection::Fisheye, Mount::Ceiling, centre), [0.0, -1.0, 0.0]));
        assert!(near(middle(Projection::Fisheye, Mount::Wall, centre), [0.0, 0.0, 1.0]));
        assert!(near(middle(Projection::Fisheye, Mount::Desk, centre), [0.0, 1.0, 0.0]));
        let upper = (960.0, 240.0);
        assert!(near(middle(Projection::Fisheye, Mount::Ceiling, upper), [0.0, -1.0, 1.0]), "ahead is up in the picture");
        assert!(near(middle(Projection::Equirectangular, Mount::Desk, (1440.0, 480.0)), [1.0, 0.0, 0.0]));
        assert!(near(middle(Projection::Equirectangular, Mount::Ceiling, (1440.0, 480.0)), [-1.0, 0.0, 0.0]));
        assert!(near(middle(Projection::DualFisheye, Mount::Desk, (480.0, 480.0)), [0.0, 0.0, 1.0]));
        assert!(near(middle(Projection::DualFisheye, Mount::Desk, (1440.0, 480.0)), [0.0, 0.0, -1.0]));
        // To the right of what is behind lies the left side.
        let right_of_behind = middle(Projection::DualFisheye, Mount::Desk, (1540.0, 480.0));
        assert!(right_of_behind[0] < 0.0 && right_of_behind[2] < 0.0, "{right_of_behind:?}");
    }

    #[test]
    fn a_lens_that_cannot_be_is_refused_with_what_can() {
        let lens = Lens::new(Projection::Fisheye, Mount::Wall);
        assert_eq!(lens.check(), Ok(()));
        assert_eq!(Lens { radius: 0, ..lens }.check(), Err(LensError::Radius));
        assert_eq!(Lens { centre: (20_000, 0), ..lens }.check(), Err(LensError::Centre));
        assert_eq!(Lens { field: 720, ..lens }.check(), Err(LensError::Field));
        assert_eq!(lens.place([0.0, 0.0, -1.0], SIZE), None, "what lies behind it is not seen");
    }
}
