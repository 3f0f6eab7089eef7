//! Decoding in processes of their own: the same pictures as here, and what happens when one is gone.
//!
//! This file is such a process too: started with the word `decoder`, it decodes. So it has a `main` of its own.
#![allow(clippy::unwrap_used, missing_docs)]

#[cfg(target_os = "linux")]
#[path = "parts/fixtures.rs"]
mod fixtures;

#[cfg(not(target_os = "linux"))]
fn main() {}

#[cfg(target_os = "linux")]
fn main() -> std::process::ExitCode {
    on_linux::main()
}

#[cfg(target_os = "linux")]
mod on_linux {
    use super::fixtures::{SMALL, fixture, h265_units, parameters, unit, units};
    use lattice_core::Mono;
    use lattice_core::receiver::Unit;
    use lattice_core::video::{Parameters, VideoCodec};
    use lattice_media::{Ending, Lane, LaneEvent, Pool, Program, Wanted, confinement, decoder_main};
    use nix::sys::signal::{Signal, kill};
    use nix::unistd::Pid;
    use std::collections::BTreeMap;
    use std::process::ExitCode;
    use std::sync::mpsc::{Receiver, channel};
    use std::sync::{Arc, LazyLock, Mutex};
    use std::time::{Duration, Instant};

    pub fn main() -> ExitCode {
        let word = std::env::args().nth(1).unwrap_or_default();
        if word == "decoder" {
            return decoder_main();
        }
        let tests: &[(&str, fn())] = &[
            ("the_same_pictures_come_out_as_in_this_process", the_same_pictures_come_out_as_in_this_process),
            ("the_last_picture_is_had_apart_also_here", the_last_picture_is_had_apart_also_here),
            ("a_decoder_can_open_nothing", a_decoder_can_open_nothing),
            ("one_that_is_killed_costs_no_unit", one_that_is_killed_costs_no_unit),
            (
                "one_that_crashes_or_hangs_is_replaced_and_its_stream_waits",
                one_that_crashes_or_hangs_is_replaced_and_its_stream_waits,
            ),
            (
                "what_cannot_be_started_is_said_and_not_tried_all_the_time",
                what_cannot_be_started_is_said_and_not_tried_all_the_time,
            ),
            ("memory_and_processes_come_back", memory_and_processes_come_back),
        ];
        for (name, test) in tests.iter().filter(|(name, _)| word.starts_with('-') || name.contains(&word)) {
            println!("test {name} ...");
            test();
            println!("test {name} ... ok");
        }
        ExitCode::SUCCESS
    }

    fn program() -> Program {
        Program::itself(&["decoder"])
    }

    fn now() -> Mono {
        static BEGUN: LazyLock<Instant> = LazyLock::new(Instant::now);
        Mono::from_millis(1_000) + BEGUN.elapsed()
    }

    fn lane(pool: &Pool) -> (Lane, Receiver<LaneEvent>) {
        let (sender, receiver) = channel();
        (pool.lane(Box::new(move |event| drop(sender.send(event)))), receiver)
    }

    fn next(events: &Receiver<LaneEvent>) -> LaneEvent {
        events.recv_timeout(Duration::from_secs(60)).expect("a report within a minute")
    }

    /// Pushes one unit and waits until it is done; what was said of it.
    fn push(lane: &Lane, events: &Receiver<LaneEvent>, unit: &Unit, parameters: &Parameters) -> Vec<LaneEvent> {
        let number = unit.unit.number;
        lane.push(unit.clone(), Some(parameters));
        let mut said = Vec::new();
        loop {
            let event = next(events);
            let done = match &event {
                LaneEvent::Picture(_, picture) => picture.number == number,
                LaneEvent::Failed { .. } => true,
                LaneEvent::Refused { number: of } => *of == number,
                _ => false,
            };
            said.push(event);
            if done {
                return said;
            }
        }
    }

    /// A kilobyte or two of what a picture is, to compare it by.
    type Looks = BTreeMap<u64, (usize, usize, Vec<u8>)>;

    /// Everything that a lane makes of a stream, all of it waiting at once and then one by one.
    fn made(pool: &Pool, units: &[Unit], parameters: &Parameters, wanted: Wanted) -> (Looks, Vec<u64>, u64) {
        let (lane, events) = lane(pool);
        let (mut looks, mut decoded, mut refused) = (Looks::new(), Vec::new(), 0);
        lane.want(Some(wanted));
        lane.still((64, 64));
        for unit in units {
            lane.push(unit.clone(), Some(parameters));
            // Pictures that wait for display order come later or not at all.
            let mut patience = Duration::from_millis(700);
            while let Ok(event) = events.recv_timeout(patience) {
                match event {
                    LaneEvent::Picture(_, picture) => {
                        let key = picture.number;
                        looks.insert(key, (picture.width, picture.height, picture.rgb.to_vec()));
                        patience = Duration::from_millis(if key == unit.unit.number { 1 } else { 40 });
                    }
                    LaneEvent::Still(picture) => {
                        looks.insert(1_000_000 + picture.number, (picture.width, picture.height, picture.rgb.to_vec()));
                    }
                    LaneEvent::Decoded { number, .. } => decoded.push(number),
                    LaneEvent::Refused { .. } => {
                        refused += 1;
                        patience = Duration::from_millis(1);
                    }
                    LaneEvent::Glance(glance) => {
                        looks.insert(2_000_000, (glance.cells.len(), 0, glance.cells.iter().map(|level| *level as u8).collect()));
                    }
                    other => panic!("{other:?}"),
                }
            }
        }
        (looks, decoded, refused)
    }

    fn the_same_pictures_come_out_as_in_this_process() {
        let (inside, outside) = (Pool::new(1, || Mono::ZERO), Pool::outside(1, || Mono::ZERO, &program()));
        let unusual = Parameters { unusual: Some("High 4:2:2"), ..parameters(VideoCodec::H264, (320, 192)) };
        let at_once = |codec, size| Parameters { reorder: Some(0), ..parameters(codec, size) };
        let jpeg = fixture("mjpeg_320x180_6frames.mjpeg");
        let end = (2..jpeg.len() - 2).find(|at| jpeg[*at..].starts_with(&[0xff, 0xd8, 0xff])).unwrap();
        let jpegs = vec![
            unit((0, jpeg[..end].to_vec()), true),
            unit((1, vec![0xff, 0xd8, 0xff, 1, 2, 3, 4]), true),
            unit((2, jpeg[..end].to_vec()), true),
        ];
        // Larger than the tile says at first: such a picture needs more room than was given, and comes with the next.
        let cut = Wanted { aspect: lattice_core::lattice::Aspect::Fill, width: 8, height: 200, ..SMALL };
        for (name, units, parameters, wanted) in [
            ("H.264", units("h264_cbaseline_640x360_25.h264"), at_once(VideoCodec::H264, (640, 360)), SMALL),
            ("slices", units("h264_main_slices4_640x360_25.h264"), at_once(VideoCodec::H264, (640, 360)), SMALL),
            ("H.265", h265_units("h265_main_640x360_25.h265", 20), at_once(VideoCodec::H265, (640, 360)), SMALL),
            ("4:2:2", units("h264_high422_10bit_320x192_25.h264"), unusual, SMALL),
            ("JPEG", jpegs, at_once(VideoCodec::Jpeg, (320, 180)), SMALL),
            ("cut", units("h264_cbaseline_640x360_25.h264"), at_once(VideoCodec::H264, (640, 360)), cut),
        ] {
            let units = &units[..units.len().min(30)];
            let (mut here, decoded_here, refused_here) = made(&inside, units, &parameters, wanted);
            let (there, decoded_there, refused_there) = made(&outside, units, &parameters, wanted);
            if name == "cut" {
                here.remove(&0);
            }
            assert_eq!(here.keys().collect::<Vec<_>>(), there.keys().collect::<Vec<_>>(), "{name}");
            assert!(here == there, "{name}: a picture differs");
            assert_eq!((decoded_here, refused_here), (decoded_there, refused_there), "{name}");
            assert!(here.len() >= units.len().min(12) - 1, "{name}: {}", here.len());
        }
    }

    fn the_last_picture_is_had_apart_also_here() {
        let parameters = parameters(VideoCodec::H264, (640, 360));
        let units = units("h264_main_640x360_25.h264");
        let recalled = |pool: &Pool| {
            let (lane, events) = lane(pool);
            for unit in units.iter().take(30) {
                lane.push(unit.clone(), Some(&parameters));
            }
            lane.recall((160, 90));
            let LaneEvent::Recalled(picture) = next(&events) else { panic!("nothing else is told") };
            (picture.number, picture.width, picture.height, picture.rgb.to_vec())
        };
        let here = recalled(&Pool::new(1, now));
        assert_eq!((here.0, here.1, here.2), (29, 160, 90));
        assert!(here == recalled(&Pool::outside(1, now, &program())), "another picture");
    }

    fn a_decoder_can_open_nothing() {
        let holds = confinement(&program()).unwrap();
        assert!(holds.memory.is_some(), "{holds:?}");
        // Every kernel of the last ten years has seccomp, on the processors that we build for.
        if cfg!(any(target_arch = "x86_64", target_arch = "aarch64", target_arch = "riscv64")) {
            assert!(holds.few_calls && holds.no_files && holds.no_network, "{holds:?}");
        }
    }

    /// A pool with one process that serves some lanes, each with this many units done.
    fn served(lanes: usize, units: &[Unit], parameters: &Parameters) -> (Pool, Vec<(Lane, Receiver<LaneEvent>)>) {
        let pool = Pool::outside(1, now, &program());
        let lanes: Vec<_> = (0..lanes).map(|_| lane(&pool)).collect();
        for (lane, events) in &lanes {
            lane.want(Some(SMALL));
            for unit in units {
                assert!(!push(lane, events, unit, parameters).iter().any(|event| matches!(event, LaneEvent::Failed { .. })));
            }
        }
        (pool, lanes)
    }

    fn process(pool: &Pool) -> Pid {
        Pid::from_raw(pool.processes()[0].cast_signed())
    }

    fn one_that_is_killed_costs_no_unit() {
        let all = units("h264_cbaseline_640x360_25.h264");
        let parameters = Parameters { reorder: Some(0), ..parameters(VideoCodec::H264, (640, 360)) };
        let (pool, lanes) = served(4, &all[..20], &parameters);
        let first = process(&pool);
        kill(first, Signal::SIGKILL).unwrap();
        // The lane that finds it dead says so; the unit itself comes out all the same, and so does every later one.
        let mut failed = 0;
        for unit in &all[20..40] {
            for (lane, events) in &lanes {
                lane.push(unit.clone(), Some(&parameters));
                let mut picture = false;
                while !picture {
                    match next(events) {
                        LaneEvent::Failed { ending, others, .. } => {
                            assert_eq!((ending, others), (Ending::Killed(9), 3));
                            failed += 1;
                        }
                        LaneEvent::Picture(_, shown) => {
                            assert_eq!(shown.number, unit.unit.number, "nothing is shown twice");
                            picture = true;
                        }
                        LaneEvent::Decoded { number, damaged, .. } => {
                            assert_eq!((number, damaged), (unit.unit.number, false), "nothing is told twice");
                        }
                        LaneEvent::Glance(_) => {}
                        other => panic!("{other:?}"),
                    }
                }
            }
        }
        assert_eq!(failed, 1);
        assert_ne!(process(&pool), first);
    }

    fn one_that_crashes_or_hangs_is_replaced_and_its_stream_waits() {
        let all = units("h264_cbaseline_640x360_25.h264");
        assert!(all[50].unit.keyframe && !all[30].unit.keyframe);
        let parameters = Parameters { reorder: Some(0), ..parameters(VideoCodec::H264, (640, 360)) };
        for (signal, want) in [(Signal::SIGABRT, Ending::Fault(6)), (Signal::SIGSTOP, Ending::Hung)] {
            let (pool, lanes) = served(3, &all[..30], &parameters);
            kill(process(&pool), signal).unwrap();
            let (lane, events) = &lanes[0];
            let said = push(lane, events, &all[30], &parameters);
            let Some(LaneEvent::Failed { ending, others: 2, .. }) = said.last() else { panic!("{said:?}") };
            assert_eq!(*ending, want);
            // The others go on where they were.
            for (lane, events) in &lanes[1..] {
                let said = push(lane, events, &all[30], &parameters);
                assert!(matches!(said.last(), Some(LaneEvent::Picture(..))), "{said:?}");
            }
            // It does at its next keyframe, and tells of nothing before.
            for unit in &all[31..50] {
                lane.push(unit.clone(), Some(&parameters));
            }
            let said = push(lane, events, &all[50], &parameters);
            let told = |event: &LaneEvent| match event {
                LaneEvent::Decoded { number, .. } => *number == 50,
                LaneEvent::Picture(_, picture) => picture.number == 50,
                LaneEvent::Glance(_) => true,
                _ => false,
            };
            assert!(said.iter().all(told), "{said:?}");
            // A second time within two minutes: it rests for a while.
            kill(process(&pool), signal).unwrap();
            push(lane, events, &all[51], &parameters);
            let (begun, rests) = (Instant::now(), Duration::from_millis(1_900));
            let mut keyframe = all[50].clone();
            while !matches!(events.try_recv(), Ok(LaneEvent::Decoded { .. })) {
                keyframe.unit.number += 1;
                lane.push(keyframe.clone(), Some(&parameters));
                std::thread::sleep(Duration::from_millis(20));
                assert!(begun.elapsed() < Duration::from_secs(60), "it never comes back");
            }
            assert!(begun.elapsed() > rests, "{:?}", begun.elapsed());
        }
    }

    fn what_cannot_be_started_is_said_and_not_tried_all_the_time() {
        let nothing = Program { path: "/nowhere/at-all".into(), arguments: Vec::new() };
        assert!(confinement(&nothing).is_err());
        let pool = Pool::outside(1, now, &nothing);
        let failures = Arc::new(Mutex::new(0));
        let count = failures.clone();
        let lane = pool.lane(Box::new(move |event| {
            assert!(matches!(event, LaneEvent::Failed { ending: Ending::NotStarted, .. }), "{event:?}");
            *count.lock().unwrap() += 1;
        }));
        lane.want(Some(SMALL));
        let units = units("h264_cbaseline_640x360_25.h264");
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_millis(2_500) {
            lane.push(units[0].clone(), Some(&parameters(VideoCodec::H264, (640, 360))));
            std::thread::sleep(Duration::from_millis(5));
        }
        let failures = *failures.lock().unwrap();
        assert!((1..=4).contains(&failures), "{failures} in 2.5 s");
    }

    /// Mappings of this process that another one shares, and its children.
    fn held() -> (usize, usize) {
        let maps = std::fs::read_to_string("/proc/self/maps").unwrap();
        let own = std::process::id();
        let children = std::fs::read_to_string(format!("/proc/{own}/task/{own}/children")).unwrap_or_default();
        let of_threads = std::fs::read_dir("/proc/self/task").unwrap().flatten();
        let children = of_threads
            .map(|task| std::fs::read_to_string(task.path().join("children")).unwrap_or_default())
            .chain([children])
            .flat_map(|line| line.split_whitespace().map(str::to_owned).collect::<Vec<_>>())
            .collect::<std::collections::BTreeSet<_>>();
        (maps.lines().filter(|line| line.contains("memfd:amber-lattice")).count(), children.len())
    }

    fn memory_and_processes_come_back() {
        let all = units("h264_cbaseline_640x360_25.h264");
        let parameters = Parameters { reorder: Some(0), ..parameters(VideoCodec::H264, (640, 360)) };
        let before = held();
        let (pool, mut lanes) = served(2, &all[..10], &parameters);
        let mut kept = Vec::new();
        for (n, unit) in all[10..50].iter().enumerate() {
            // Each picture of another size, and some of them held for ever.
            lanes[0].0.want(Some(Wanted { width: 40 * (n + 1), height: 30 * (n + 1), ..SMALL }));
            for event in push(&lanes[0].0, &lanes[0].1, unit, &parameters) {
                if let LaneEvent::Picture(_, picture) = event
                    && n % 4 == 0
                {
                    kept.push((picture.clone(), picture.rgb.to_vec()));
                }
            }
        }
        let (maps, children) = held();
        assert!(maps > before.0 && maps - before.0 < 40 && children == before.1 + 1, "{maps} {children}, before {before:?}");
        // Pictures outlive everything.
        lanes.clear();
        drop(pool);
        let deadline = Instant::now() + Duration::from_secs(30);
        while held().1 > before.1 {
            assert!(Instant::now() < deadline, "a process stays");
            std::thread::sleep(Duration::from_millis(10));
        }
        assert!(kept.iter().all(|(picture, was)| *picture.rgb == **was), "nobody writes into a picture that is read");
        drop(kept);
        assert_eq!(held(), before);
    }
}
