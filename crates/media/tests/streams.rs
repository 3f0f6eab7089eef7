//! The fixture streams through a lane: every picture comes out, in order, in the right size.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "parts/fixtures.rs"]
mod fixtures;

use fixtures::{SMALL, fixture, h265_units, lane, parameters, unit, units};
use lattice_core::Mono;
use lattice_core::receiver::Unit;
use lattice_core::video::{NalKind, Parameters, VideoCodec, annex_b};
use lattice_media::{Condition, DamageChoice, FallbackDecoder, H264Decoder, Lane, LaneEvent, Pool, has_assembly};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

fn wait_for(events: &Receiver<LaneEvent>, mut done: impl FnMut(&LaneEvent) -> bool) {
    let deadline = Instant::now() + Duration::from_secs(20);
    while let Ok(event) = events.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
        if done(&event) {
            return;
        }
    }
    panic!("not within 20 s");
}

#[test]
fn a_stream_without_keyframes_is_shown_once_it_has_recovered() {
    let mut all = units("h264_main_intrarefresh_320x180_25.h264");
    let begins: Vec<usize> = (0..all.len()).filter(|n| recovery_of(all[*n].unit.data.as_ref().unwrap()).is_some()).collect();
    // From the second recovery point on, as whoever joins late, with the parameter sets of the description.
    let (start, period) = (begins[1], begins[1] - begins[0]);
    let sets: Vec<u8> = annex_b(all[0].unit.data.as_ref().unwrap())
        .filter(|nal| matches!(NalKind::of(nal[0]), NalKind::Sps | NalKind::Pps))
        .flat_map(|nal| [&[0, 0, 0, 1], nal].concat())
        .collect();
    let pool = Pool::new(1, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    lane.want(Some(SMALL));
    let parameters = parameters(VideoCodec::H264, (320, 180));
    let last = all.len() as u64 - 1;
    for mut unit in all.drain(start..) {
        let n = unit.unit.number as usize;
        unit.unit.keyframe = false;
        unit.unit.recovery = begins.contains(&n).then_some(period as u32);
        unit.displayable = n >= start + period;
        if n == start {
            unit.unit.data = Some([&sets[..], unit.unit.data.as_ref().unwrap()].concat().into());
        }
        lane.push(unit, Some(&parameters));
    }
    let (mut clean, mut made_up) = (0, 0);
    wait_for(&events, |event| {
        match event {
            LaneEvent::Decoded { number, damaged: false, .. } => {
                assert!(*number as usize >= start + period);
                clean += 1;
            }
            LaneEvent::Concealed { .. } => made_up += 1,
            _ => {}
        }
        matches!(event, LaneEvent::Decoded { number, .. } if *number == last)
    });
    assert!(clean as u64 + 2 >= last - (start + period) as u64 && made_up == 0, "{clean} clean, {made_up} made up");
}

/// Whether a unit has a recovery point.
fn recovery_of(data: &[u8]) -> Option<()> {
    annex_b(data).any(|nal| NalKind::of(nal[0]) == NalKind::Sei && nal.get(1) == Some(&6)).then_some(())
}

#[test]
fn every_picture_of_every_stream_comes_out_in_order() {
    for (name, sizes, frames) in [
        ("h264_cbaseline_640x360_25.h264", vec![(640, 360)], 100),
        ("h264_main_640x360_25.h264", vec![(640, 360)], 100),
        ("h264_high_b2_640x360_30.h264", vec![(640, 360)], 120),
        ("h264_main_slices4_640x360_25.h264", vec![(640, 360)], 100),
        ("h264_main_intrarefresh_320x180_25.h264", vec![(320, 180)], 100),
    ] {
        let mut decoder = H264Decoder::new().unwrap();
        let mut numbers = Vec::new();
        for unit in units(name) {
            if let Some(decoded) = decoder.decode(unit.unit.number, unit.unit.data.as_ref().unwrap()).unwrap() {
                assert!(sizes.contains(&(decoded.planes.width, decoded.planes.height)), "{name}");
                assert!(!decoded.concealed, "{name}");
                numbers.push(decoded.number);
            }
        }
        while let Some(decoded) = decoder.flush().unwrap() {
            numbers.push(decoded.number);
        }
        assert_eq!(numbers.len(), frames, "{name}");
        // Each picture once; display order differs from coding order where there are B-frames.
        let mut sorted = numbers.clone();
        sorted.sort_unstable();
        sorted.dedup();
        assert_eq!(sorted.len(), frames, "{name}");
    }
}

#[test]
fn a_size_change_is_followed() {
    let pool = Pool::new(1, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    lane.want(Some(SMALL));
    let mut seen = Vec::new();
    for (n, unit) in units("h264_main_sizechange_320x180_640x360_25.h264").into_iter().enumerate() {
        let size = |n: u64| if (50..100).contains(&n) { (640, 360) } else { (320, 180) };
        lane.push(unit, Some(&parameters(VideoCodec::H264, size(n as u64))));
        // One unit at a time, so that most pictures are the newest; the first of a size come a little late.
        while let Ok(event) = events.recv_timeout(Duration::from_millis(100)) {
            let LaneEvent::Picture(_, picture) = event else { continue };
            let (width, height) = size(picture.number);
            assert_eq!(picture.source, (width as usize, height as usize), "{}", picture.number);
            assert_eq!((picture.width, picture.height, picture.condition), (80, 45, Condition::Clean));
            seen.push(picture.number);
            break;
        }
    }
    assert!(seen.is_sorted());
    for range in [0..50, 50..100, 100..150] {
        assert!(seen.iter().filter(|number| range.contains(*number)).count() > 40, "{range:?}: {seen:?}");
    }
}

#[test]
fn an_unwatched_lane_decodes_nothing_and_catches_up_at_once() {
    let pool = Pool::new(2, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    for unit in units("h264_main_640x360_25.h264").into_iter().take(90) {
        lane.push(unit, Some(&parameters(VideoCodec::H264, (640, 360))));
    }
    assert!(events.recv_timeout(Duration::from_millis(50)).is_err(), "nothing is decoded while nobody looks");
    lane.want(Some(SMALL));
    let mut decoded = Vec::new();
    wait_for(&events, |event| match event {
        LaneEvent::Decoded { number, .. } => {
            decoded.push(*number);
            false
        }
        LaneEvent::Picture(_, picture) => picture.number == 89,
        LaneEvent::Glance(_) => false,
        other => panic!("{other:?}"),
    });
    // From the last keyframe on, at 50; nobody waited for those before the newest, so they do not count as late.
    assert_eq!(decoded, [89]);
}

#[test]
fn the_last_whole_picture_can_be_had_whether_anybody_looks_or_not() {
    let h264 = (units("h264_main_640x360_25.h264"), parameters(VideoCodec::H264, (640, 360)));
    let h265 = (h265_units("h265_main_640x360_25.h265", 60), parameters(VideoCodec::H265, (640, 360)));
    let size = lattice_media::Wanted { width: 160, height: 90, enlarge: false, ..SMALL };
    for (name, (mut units, parameters)) in [("H.264", h264), ("H.265", h265)] {
        units.truncate(40);
        for (n, unit) in units.iter_mut().enumerate() {
            unit.unit.last_arrival = Mono::from_millis(n as u64 * 40);
            unit.displayable = n < 37;
        }
        let pool = Pool::new(1, || Mono::ZERO);
        let (unwatched, events) = lane(&pool);
        unwatched.recall((160, 90));
        for unit in &units {
            unwatched.push(unit.clone(), Some(&parameters));
        }
        unwatched.recall((160, 90));
        unwatched.recall((160, 90));
        let next = || events.recv_timeout(Duration::from_secs(60)).unwrap();
        let LaneEvent::Recalled(recalled) = next() else { panic!("{name}: nothing else is told") };
        assert_eq!((recalled.number, recalled.width, recalled.height), (36, 160, 90), "{name}: the last whole one");
        assert_eq!(recalled.ready, Mono::from_millis(36 * 40), "{name}: when it arrived");
        assert!(events.recv_timeout(Duration::from_millis(50)).is_err(), "{name}: once, and nothing counts as decoded");
        // It is what a tile shows, and what was decoded for a tile is recalled in the same way.
        let (watched, shown) = lane(&pool);
        watched.want(Some(size));
        watched.on_damage(DamageChoice::Hold);
        let (mut tile, mut again) = (None, None);
        for unit in units.iter().take(37) {
            watched.push(unit.clone(), Some(&parameters));
        }
        wait_for(&shown, |event| match event {
            LaneEvent::Picture(_, picture) => {
                tile = Some(picture.clone());
                picture.number >= 34
            }
            _ => false,
        });
        watched.recall((160, 90));
        wait_for(&shown, |event| match event {
            LaneEvent::Recalled(picture) => again.replace(picture.clone()).is_none(),
            _ => false,
        });
        assert_eq!(again, Some(recalled.clone()), "{name}");
        if let Some(tile) = tile.filter(|tile| tile.number == 36) {
            assert_eq!(tile.rgb, recalled.rgb, "{name}");
        }
    }
}

#[test]
fn after_a_loss_pictures_are_held_or_shown_marked_by_choice() {
    for (choice, expect_damaged) in [(DamageChoice::Hold, false), (DamageChoice::Show, true)] {
        let pool = Pool::new(1, || Mono::ZERO);
        let (lane, events) = lane(&pool);
        lane.on_damage(choice);
        lane.want(Some(SMALL));
        let mut damaged = 0;
        for (n, mut unit) in units("h264_cbaseline_640x360_25.h264").into_iter().enumerate() {
            if n == 30 {
                continue;
            }
            unit.displayable = !(31..50).contains(&n);
            let displayable = unit.displayable;
            lane.push(unit, Some(&parameters(VideoCodec::H264, (640, 360))));
            wait_for(&events, |event| match event {
                LaneEvent::Picture(_, picture) => {
                    damaged += u64::from(picture.condition == Condition::Damaged);
                    true
                }
                LaneEvent::Decoded { damaged, .. } => *damaged && choice == DamageChoice::Hold,
                _ => !displayable,
            });
        }
        assert_eq!(damaged > 0, expect_damaged, "{choice:?}: {damaged}");
    }
}

#[test]
fn a_picture_is_held_no_longer_than_a_second_after_a_loss() {
    static NOW: AtomicU64 = AtomicU64::new(0);
    let pool = Pool::new(1, || Mono::from_millis(NOW.load(Ordering::Relaxed)));
    let (lane, events) = lane(&pool);
    lane.want(Some(SMALL));
    let mut shown = Vec::new();
    for (n, mut unit) in units("h264_cbaseline_640x360_25.h264").into_iter().enumerate().take(60) {
        unit.displayable = !(31..50).contains(&n);
        // Ten pictures are damaged at one moment, nine a second later.
        NOW.store(if n < 41 { 10 } else { 1_010 }, Ordering::Relaxed);
        let number = unit.unit.number;
        lane.push(unit, Some(&parameters(VideoCodec::H264, (640, 360))));
        wait_for(&events, |event| match event {
            LaneEvent::Picture(_, picture) => {
                shown.push((picture.number, picture.condition));
                picture.number == number
            }
            LaneEvent::Decoded { damaged, number: which, .. } => *damaged && *which == number && n < 41,
            _ => false,
        });
    }
    let marked: Vec<u64> = shown.iter().filter(|(_, condition)| *condition == Condition::Damaged).map(|(n, _)| *n).collect();
    assert_eq!(marked, (41..50).collect::<Vec<_>>(), "{shown:?}");
}

#[test]
fn a_lane_that_is_behind_takes_no_turn_from_others() {
    let pool = Pool::new(1, || Mono::ZERO);
    let (order, decoded) = channel();
    let lanes: Vec<Lane> = (0..16)
        .map(|index| {
            let order = order.clone();
            let order = std::sync::Mutex::new(order);
            pool.lane(Box::new(move |event| {
                if let LaneEvent::Decoded { .. } = event {
                    let _ = order.lock().unwrap().send(index);
                }
            }))
        })
        .collect();
    let all: Vec<_> = units("h264_cbaseline_640x360_25.h264").into_iter().take(25).collect();
    // Each picture comes out at once.
    let at_once = Parameters { reorder: Some(0), ..parameters(VideoCodec::H264, (640, 360)) };
    let push = |lane: &Lane, unit| lane.push(unit, Some(&at_once));
    // A second waits in one lane, one picture in each of the others.
    for unit in &all {
        push(&lanes[0], unit.clone());
    }
    for lane in &lanes[1..] {
        push(lane, all[0].clone());
    }
    for lane in &lanes {
        lane.want(Some(SMALL));
    }
    // Of each the newest is told: the first lane's comes after 24 others of it.
    let mut seen: Vec<usize> = Vec::new();
    while seen.len() < 16 {
        let next = decoded.recv_timeout(Duration::from_secs(60));
        seen.push(next.unwrap_or_else(|_| panic!("no more after {seen:?}")));
    }
    assert_eq!(seen.last(), Some(&0), "the first lane kept the others waiting: {seen:?}");
}

#[test]
fn a_frame_that_was_never_sent_is_noticed_and_what_builds_on_it_is_held() {
    let pool = Pool::new(1, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    lane.want(Some(SMALL));
    let (mut shown, mut concealed) = (Vec::new(), Vec::new());
    for unit in units("h264_cbaseline_640x360_25.h264").into_iter().filter(|unit| unit.unit.number != 30) {
        assert!(unit.displayable, "arrival tells nothing");
        let number = unit.unit.number;
        lane.push(unit, Some(&parameters(VideoCodec::H264, (640, 360))));
        wait_for(&events, |event| match event {
            LaneEvent::Picture(_, picture) => {
                shown.push(picture.number);
                true
            }
            LaneEvent::Concealed { number } => {
                concealed.push(*number);
                false
            }
            LaneEvent::Decoded { damaged, .. } => *damaged,
            _ => false,
        });
        assert!(number < 100);
    }
    assert_eq!(concealed.first(), Some(&31), "{concealed:?}");
    assert!(!shown.iter().any(|number| (31..50).contains(number)) && shown.contains(&29) && shown.contains(&50), "{shown:?}");
}

/// The bytes of a unit; of some, with damage of one of four kinds.
fn spoilt(unit: &Unit, seed: usize) -> Vec<u8> {
    let mut data = unit.unit.data.clone().unwrap().to_vec();
    if unit.unit.number % 7 == 3 && unit.unit.number < 50 {
        let at = (seed * 7919 + unit.unit.number as usize * 31) % data.len();
        match seed % 4 {
            0 => data.truncate(at),
            1 => data[at] ^= 0x55,
            2 => data[at..].fill(0),
            _ => drop(data.drain(at..(at + 40).min(data.len()))),
        }
    }
    data
}

#[test]
fn damaged_units_do_not_stop_the_other_decoder_either() {
    for name in ["h264_high_interlaced_320x192_25.h264", "h264_high422_10bit_320x192_25.h264"] {
        let originals = units(name);
        for seed in 0..24usize {
            let mut decoder = FallbackDecoder::default();
            for unit in &originals {
                let _ = decoder.decode(unit.unit.number, unit.unit.keyframe, None, &spoilt(unit, seed));
            }
            // From a keyframe on all is well again; what is held for display order comes with the next one.
            let again: Vec<u64> = originals
                .iter()
                .take(12)
                .flat_map(|unit| {
                    let number = 1000 + unit.unit.number;
                    decoder.decode(number, unit.unit.keyframe, None, unit.unit.data.as_ref().unwrap()).unwrap_or_default()
                })
                .map(|picture| picture.number)
                .collect();
            assert!(again.contains(&1000), "{name}, seed {seed}: {again:?}");
        }
    }
}

#[test]
fn damaged_units_neither_crash_nor_stop_the_decoder() {
    let originals = units("h264_main_slices4_640x360_25.h264");
    for seed in 0..40usize {
        let mut decoder = H264Decoder::new().unwrap();
        for unit in &originals {
            let _ = decoder.decode(unit.unit.number, &spoilt(unit, seed));
        }
        let last = decoder.decode(1000, originals[50].unit.data.as_ref().unwrap());
        assert!(matches!(last, Ok(Some(_))), "seed {seed}: a keyframe is decoded again");
    }
}

#[test]
fn the_program_knows_whether_the_codec_has_assembly() {
    // Both answers are legal; the call must link and agree with itself.
    assert_eq!(has_assembly(), has_assembly());
}

/// Everything a lane makes of these units, one at a time so that each picture is the newest.
fn pictures(units: Vec<Unit>, parameters: &Parameters) -> (Vec<u64>, usize) {
    let size = (parameters.width, parameters.height);
    let pool = Pool::new(1, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    lane.want(Some(SMALL));
    let (mut numbers, mut refused) = (Vec::new(), 0);
    // Whether the lane is done with a unit.
    let mut take = |event| match event {
        LaneEvent::Picture(_, picture) => {
            let picture: Arc<lattice_media::TilePicture> = picture;
            assert_eq!(picture.source, (size.0 as usize, size.1 as usize));
            assert!(picture.rgb.iter().any(|level| *level > 60), "not black");
            numbers.push(picture.number);
            true
        }
        LaneEvent::Refused { .. } => {
            refused += 1;
            true
        }
        _ => false,
    };
    for unit in units {
        lane.push(unit, Some(parameters));
        // A picture that is held back for display order does not come at all: seldom, so the wait is long.
        while let Ok(event) = events.recv_timeout(Duration::from_secs(2)) {
            if take(event) {
                break;
            }
        }
    }
    while let Ok(event) = events.recv_timeout(Duration::from_millis(500)) {
        take(event);
    }
    (numbers, refused)
}

#[test]
fn h265_comes_out_whole_and_in_display_order() {
    let straight = h265_units("h265_main_640x360_25.h265", 60);
    assert_eq!(straight.len(), 60);
    let (numbers, refused) = pictures(straight, &parameters(VideoCodec::H265, (640, 360)));
    assert_eq!((numbers, refused), ((0..60).collect::<Vec<u64>>(), 0), "each at once, without B-frames");
    // With B-frames the order settles within the first few pictures; none is refused.
    let (numbers, refused) = pictures(h265_units("h265_main_b3_640x360_25.h265", 48), &parameters(VideoCodec::H265, (640, 360)));
    assert_eq!(refused, 0);
    assert!(numbers.len() >= 40, "{numbers:?}");
    assert!(!numbers.is_sorted(), "display order is not coding order");
}

#[test]
fn jpeg_pictures_stand_each_by_itself_and_a_cut_one_is_refused() {
    let bytes = fixture("mjpeg_320x180_6frames.mjpeg");
    let starts: Vec<usize> = (0..bytes.len() - 2).filter(|at| bytes[*at..].starts_with(&[0xff, 0xd8, 0xff])).collect();
    let ends = starts.iter().skip(1).copied().chain([bytes.len()]);
    let frames: Vec<Vec<u8>> = starts.iter().zip(ends).map(|(from, to)| bytes[*from..to].to_vec()).collect();
    let units = frames.iter().cloned().enumerate().map(|frame| unit(frame, true)).collect();
    assert_eq!(pictures(units, &parameters(VideoCodec::Jpeg, (320, 180))), ((0..6).collect(), 0));
    let noise = vec![
        unit((0, vec![0xff, 0xd8, 0xff, 1, 2, 3, 4]), true),
        unit((1, Vec::new()), true),
        unit((2, frames[0].clone()), true),
    ];
    assert_eq!(pictures(noise, &parameters(VideoCodec::Jpeg, (320, 180))), (vec![2], 2));
}

#[test]
fn what_the_usual_decoder_does_not_take_comes_by_the_other() {
    let unusual = |what| Parameters { unusual: Some(what), ..parameters(VideoCodec::H264, (320, 192)) };
    // One picture late, so the last does not come; those that are held for display order settle within the first ones.
    let interlaced = units("h264_high_interlaced_320x192_25.h264").into_iter().take(14).collect();
    let (numbers, refused) = pictures(interlaced, &unusual("interlaced"));
    assert_eq!(refused, 0);
    assert!(numbers.len() >= 8 && !numbers.is_sorted(), "{numbers:?}");
    let (numbers, refused) = pictures(units("h264_high422_10bit_320x192_25.h264"), &unusual("High 4:2:2"));
    assert_eq!((numbers, refused), ((0..11).collect::<Vec<u64>>(), 0));
    // The usual decoder does refuse both.
    for name in ["h264_high_interlaced_320x192_25.h264", "h264_high422_10bit_320x192_25.h264"] {
        let mut decoder = H264Decoder::new().unwrap();
        assert!(
            units(name).iter().any(|unit| decoder.decode(unit.unit.number, unit.unit.data.as_ref().unwrap()).is_err()),
            "{name}"
        );
    }
}

/// Of one decoded picture: all of it, a part drawn larger, a view into it and one that is adjusted, here and in a process of its own.
#[test]
fn several_prints_are_made_of_each_picture_which_is_decoded_once() {
    use lattice_core::adjust::{Adjust, Setting};
    use lattice_core::lens::{Gaze, Lens};
    use lattice_core::view::{View, Zoom};
    use lattice_media::Print;
    let pool = Pool::new(1, || Mono::ZERO);
    let (lane, events) = lane(&pool);
    let view = View::Flat(Zoom::new(4.0, 0.25, 0.25));
    let around = View::Window(Lens::default(), Gaze::degrees(0.0, 0.0, 0.0, 90.0));
    let whole = Print::whole(SMALL);
    let dark = Adjust::OFF.with(Setting::Brightness, -100);
    lane.want_prints(vec![
        whole,
        Print { id: 7, view, ..whole },
        Print { id: 8, view: around, ..whole },
        Print { id: 9, adjust: dark, split: 50, ..whole },
    ]);
    lane.tell_tones(true);
    let parameters = parameters(VideoCodec::H264, (640, 360));
    let mut decoded = std::collections::BTreeMap::new();
    let (mut prints, mut tones) = (std::collections::BTreeMap::new(), 0);
    for unit in units("h264_cbaseline_640x360_25.h264").into_iter().take(40) {
        lane.push(unit, Some(&parameters));
        while let Ok(event) = events.recv_timeout(Duration::from_millis(60)) {
            match event {
                LaneEvent::Decoded { number, .. } => *decoded.entry(number).or_insert(0) += 1,
                LaneEvent::Picture(print, picture) => drop(prints.insert((picture.number, print), picture)),
                LaneEvent::Tones(toned) => {
                    tones += 1;
                    assert!((toned.before.shares.iter().sum::<f32>() - 1.0).abs() < 0.01);
                }
                _ => {}
            }
        }
    }
    assert!(decoded.len() > 30 && decoded.values().all(|times| *times == 1), "each is decoded once: {decoded:?}");
    assert!(tones > 20);
    let newest = *decoded.keys().next_back().unwrap();
    let of = |print: u64| prints.get(&(newest, print)).unwrap_or_else(|| panic!("no print {print} of {newest}"));
    let (all, part, window, adjusted) = (of(Print::WHOLE), of(7), of(8), of(9));
    assert_eq!((part.view, window.view, adjusted.adjust), (view, around, dark));
    assert_eq!((all.source, part.source), ((640, 360), (160, 90)), "a quarter across and down");
    // The part is what the whole shows there, only finer.
    let level =
        |picture: &lattice_media::TilePicture, x: usize, y: usize| i32::from(picture.rgb[(y * picture.width + x) * 3 + 1]);
    let (mut apart, mut count) = (0, 0);
    for y in 0..all.height / 4 {
        for x in 0..all.width / 4 {
            let (left, top) = (all.width / 8 + x, all.height / 8 + y);
            let own = (0..16).map(|n| level(part, x * 4 + n % 4, y * 4 + n / 4)).sum::<i32>() / 16;
            apart += (own - level(all, left, top)).abs();
            count += 1;
        }
    }
    assert!(apart / count < 12, "{apart} of {count}");
    // One side of the split stays, the other is dark.
    let (left, right) = (level(adjusted, 3, 20), level(adjusted, adjusted.width - 3, 20));
    assert_eq!((left, right), (level(all, 3, 20), 0));
    assert!(window.rgb.iter().any(|level| *level > 0) && window.width == SMALL.width);
    // No more than what there is room for.
    lane.want_prints((0..20).map(|id| Print { id, ..whole }).collect());
    lane.want(None);
}
