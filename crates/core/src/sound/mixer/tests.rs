use super::*;
use crate::ClockRate;
use crate::sound::{Level, LevelMeter};
use proptest::prelude::*;

const HZ: f64 = 1000.0;

fn at(micros: i64) -> Mono {
    Mono::from_millis(10_000).offset(micros)
}

/// A tone of 1 kHz at -12 dBFS, of a camera whose sample `n` is captured at `n / rate`.
fn tone(rate: u32, n: i64) -> f32 {
    (0.251_19 * (std::f64::consts::TAU * HZ * n as f64 / f64::from(rate)).sin()) as f32
}

/// A camera's sound, in packets of 20 ms.
struct Camera {
    rate: u32,
    /// Of a clock that is off by so many parts in a million.
    ppm: f64,
    /// From capture to arrival, and from capture to its picture on the screen, in microseconds.
    path: i64,
    picture: Option<i64>,
}

impl Camera {
    fn packet(&self, number: i64, voice: &Voice, sample: impl Fn(i64) -> f32) {
        let length = i64::from(self.rate) / 50;
        let timestamp = number * length;
        let captured = (timestamp as f64 / f64::from(self.rate) * 1e6 / (1.0 + self.ppm / 1e6)) as i64;
        let arrival = at(captured + 20_000 + self.path);
        let due = self.picture.map(|picture| at(captured + picture));
        let samples: Vec<f32> = (0..length).map(|n| sample(timestamp + n)).collect();
        let rate = ClockRate::new(self.rate).unwrap();
        voice.push(&Heard { arrival, due, timestamp, rate, channels: 1, samples: &samples });
    }

    fn arrives(&self, number: i64) -> i64 {
        (number as f64 * 20_000.0 / (1.0 + self.ppm / 1e6)) as i64 + 20_000 + self.path
    }
}

/// What a loudspeaker of 48 kHz that asks every 10 ms, 15 ms ahead, gets from 0 to `seconds`.
fn hear(camera: &Camera, seconds: i64, lost: impl Fn(i64) -> bool, sample: impl Fn(i64) -> f32) -> (Vec<f32>, Voice) {
    let mixer = Mixer::default();
    let voice = mixer.voice();
    let (mut all, mut next) = (Vec::new(), 0);
    for now in (0..seconds * 1_000_000).step_by(10_000) {
        while camera.arrives(next) <= now {
            if !lost(next) {
                camera.packet(next, &voice, &sample);
            }
            next += 1;
        }
        let mut out = [0.0; 480];
        mixer.fill(at(now + 15_000), 48_000, 1, &mut out);
        all.extend(out);
    }
    (all, voice)
}

/// How much after a camera's second begins something is heard in it, in milliseconds.
fn onset(heard: &[f32], second: usize) -> f64 {
    let from = second * 48_000;
    let first = heard[from..].iter().position(|sample| sample.abs() > 0.1).unwrap();
    // The loudspeaker asks 15 ms ahead.
    first as f64 / 48.0 + 15.0
}

#[test]
fn a_tone_is_heard_as_loud_as_it_is_and_without_a_crack() {
    for rate in [8000, 16_000, 44_100, 48_000] {
        let camera = Camera { rate, ppm: 0.0, path: 5000, picture: Some(250_000) };
        let (heard, voice) = hear(&camera, 4, |_| false, |n| tone(rate, n));
        assert_eq!(voice.aligned(), Aligned::WithPicture, "{rate}");
        let mut meter = LevelMeter::new(1, 48_000, 1.0);
        meter.on_samples(Mono::ZERO, &heard[96_000..]);
        let Level { rms, peak } = meter.read(Mono::ZERO)[0];
        assert!((rms + 12.0).abs() < 0.1 && (peak + 12.0).abs() < 0.1, "{rate}: {rms} {peak}");
        // A sine of 1 kHz changes by no more than this from one sample to the next.
        let most = heard[48_000..].windows(2).map(|pair| (pair[1] - pair[0]).abs()).fold(0.0, f32::max);
        assert!(most < 0.251_19 * 0.1309 * 1.05, "{rate}: {most}");
    }
}

#[test]
fn each_sample_is_heard_when_its_picture_is_seen() {
    // A click of 100 ms at the beginning of each second, of cameras whose pictures take so long.
    for (picture, ppm) in [(180_000, 0.0), (900_000, 0.0), (400_000, 300.0), (400_000, -300.0)] {
        let camera = Camera { rate: 8000, ppm, path: 5000, picture: Some(picture) };
        let seconds = 30;
        let (heard, voice) = hear(&camera, seconds, |_| false, |n| if n % 8000 < 800 { tone(8000, n + 2) } else { 0.0 });
        assert_eq!(voice.aligned(), Aligned::WithPicture);
        for second in 3..seconds as usize - 1 {
            // The camera's second begins where its clock says so.
            let begins = second as f64 * 1000.0 / (1.0 + ppm / 1e6) - second as f64 * 1000.0;
            let late = onset(&heard, second) - begins;
            assert!((late - picture as f64 / 1e3).abs() < 2.0, "{picture} {ppm}: {second}: {late}");
        }
    }
}

#[test]
fn sound_that_comes_later_than_its_picture_is_heard_soon_and_says_so() {
    let camera = Camera { rate: 8000, ppm: 0.0, path: 150_000, picture: Some(100_000) };
    let (heard, voice) = hear(&camera, 10, |_| false, |n| if n % 8000 < 800 { tone(8000, n + 2) } else { 0.0 });
    // 20 ms of a packet, 150 ms of the path, 60 ms of waiting: 130 ms after the picture.
    assert_eq!(voice.aligned(), Aligned::After(Duration::from_millis(130)));
    assert!((onset(&heard, 8) - 230.0).abs() < 2.0, "{}", onset(&heard, 8));
    let camera = Camera { picture: None, ..camera };
    let (heard, voice) = hear(&camera, 10, |_| false, |n| if n % 8000 < 800 { tone(8000, n + 2) } else { 0.0 });
    assert_eq!(voice.aligned(), Aligned::AsItComes);
    assert!((onset(&heard, 8) - 230.0).abs() < 2.0, "{}", onset(&heard, 8));
}

#[test]
fn packets_that_come_unevenly_are_waited_for_and_no_longer_than_needed() {
    let (mixer, rate) = (Mixer::default(), ClockRate::new(8000).unwrap());
    let voice = mixer.voice();
    // For a while every third packet comes 150 ms later, then none.
    let late = |number: i64| if number < 1500 && number % 3 == 0 { 150_000 } else { 0 };
    let mut packets: Vec<(i64, i64)> = (0..20_000).map(|number| (20_000 * (number + 1) + late(number), number)).collect();
    packets.sort_unstable();
    let mut next = packets.into_iter().peekable();
    let mut gaps = [0; 400];
    let wait = || voice.0.lock().unwrap().wait;
    let mut longest = Duration::ZERO;
    for now in (0..400_000_000).step_by(10_000) {
        while let Some((arrives, number)) = next.next_if(|(arrives, _)| *arrives <= now) {
            let samples = [0.25; 160];
            let arrival = at(arrives);
            voice.push(&Heard { arrival, due: None, timestamp: number * 160, rate, channels: 1, samples: &samples });
        }
        let mut out = [0.0; 480];
        mixer.fill(at(now), 48_000, 1, &mut out);
        gaps[(now / 1_000_000) as usize] += out.iter().filter(|sample| sample.abs() < 0.05).count();
        longest = longest.max(wait());
    }
    assert!((150..=260).contains(&longest.as_millis()), "{longest:?}");
    assert!(gaps[0] > 1000 && gaps[2..40].iter().sum::<usize>() == 0, "{:?}", &gaps[..40]);
    assert!(wait() <= LEAST_WAIT + 4 * WAIT_STEP && gaps[40..].iter().sum::<usize>() == 0, "{:?}", wait());
}

#[test]
fn what_is_lost_is_silent_and_moves_nothing() {
    let camera = Camera { rate: 8000, ppm: 0.0, path: 5000, picture: Some(200_000) };
    let (heard, _) = hear(&camera, 10, |packet| packet % 50 == 25, |n| tone(8000, n));
    let (whole, _) = hear(&camera, 10, |_| false, |n| tone(8000, n));
    let (mut same, mut silent) = (0, 0);
    for (one, other) in heard[96_000..].iter().zip(&whole[96_000..]) {
        same += usize::from((one - other).abs() < 0.02);
        silent += usize::from(one.abs() < 1e-6 && other.abs() > 0.02);
    }
    assert!(same > 384_000 * 97 / 100 && (4000..8000).contains(&silent), "{same} {silent}");
}

#[test]
fn two_are_heard_together_and_one_is_muted() {
    let mixer = Mixer::default();
    let (one, other) = (mixer.voice(), mixer.voice());
    let camera = Camera { rate: 8000, ppm: 0.0, path: 5000, picture: Some(100_000) };
    for number in 0..50 {
        camera.packet(number, &one, |_| 0.25);
        camera.packet(number, &other, |_| 0.5);
    }
    let heard = |from: i64| {
        let mut out = vec![0.0; 2 * 4800];
        mixer.fill(at(from), 48_000, 2, &mut out);
        out[out.len() - 2]
    };
    assert!((heard(200_000) - 0.75).abs() < 0.01);
    other.set_gain(0.0);
    assert!((heard(300_000) - 0.25).abs() < 0.01);
    one.set_gain(8.0);
    assert!((heard(400_000) - 1.0).abs() < f32::EPSILON, "no louder than full scale");
    mixer.remove(&one);
    assert!(heard(500_000).abs() < 1e-6);
}

proptest! {
    /// Whatever packets come, and whenever, nothing panics, nothing grows, and what is heard stays within full scale.
    #[test]
    fn nonsense_is_heard_within_bounds(
        packets in prop::collection::vec((any::<i32>(), 0_i64..5_000_000, any::<Option<i32>>(), 0_u8..9, 1_u32..200_000, 0_usize..2000), 1..60),
    ) {
        let mixer = Mixer::default();
        let voice = mixer.voice();
        let mut last = 0;
        for (timestamp, arrival, due, channels, rate, length) in packets {
            let timestamp = if timestamp % 3 == 0 { i64::from(timestamp) << 20 } else { last + i64::from(timestamp % 4000) };
            last = timestamp;
            let samples = vec![7.0; length];
            let (arrival, due) = (at(arrival), due.map(|due| at(i64::from(due))));
            voice.push(&Heard { arrival, due, timestamp, rate: ClockRate::new(rate).unwrap(), channels, samples: &samples });
            prop_assert!(voice.0.lock().unwrap().frames.len() <= (LONGEST * f64::from(rate)) as usize + 1);
            let mut out = [0.0; 301];
            mixer.fill(arrival, 44_100, 2, &mut out);
            prop_assert!(out.iter().all(|sample| sample.abs() <= 1.0));
        }
    }
}
