use super::*;
use proptest::prelude::*;
use std::collections::BTreeSet;

const SCREEN: Screen = Screen { width: 160, height: 48, cell_aspect: 0.5, gutter: 2, below: 2 };

#[test]
fn grids_fit_their_terminal() {
    for (count, width, height, want) in [
        (4, 160, 48, (2, 2)),
        (1, 160, 48, (1, 1)),
        (2, 160, 40, (2, 1)),
        (2, 80, 60, (1, 2)),
        (9, 160, 48, (3, 3)),
        (3, 300, 30, (3, 1)),
        (0, 80, 24, (1, 1)),
        // Full, though pictures in 10 × 7 would be larger; seven in a row would be far smaller than 3 × 3 with two holes.
        (64, 160, 48, (8, 8)),
        (7, 160, 48, (3, 3)),
    ] {
        assert_eq!(even_grid(count, width, height, 0.5, 2), want, "{count} in {width}x{height}");
    }
}

#[test]
fn every_preset_is_a_layout_with_the_places_that_its_name_says() {
    for preset in Preset::ALL {
        let places = preset.by_hand().unwrap();
        let named: usize = preset.word().split('+').map(|part| part.parse().unwrap_or(1)).sum();
        assert_eq!(places.as_slice().len(), named, "{}", preset.word());
        assert_eq!(Preset::from_word(preset.word()), Some(preset));
        let first = places.as_slice()[0];
        assert!(places.as_slice().iter().all(|place| place.area() <= first.area()), "the large one comes first");
    }
    let counts: BTreeSet<usize> = Preset::ALL.iter().map(|preset| preset.places().len()).collect();
    assert!([4, 6, 8, 9, 10, 13, 16].iter().all(|count| counts.contains(count)), "{counts:?}");
}

#[test]
fn what_is_no_layout_is_told_by_what_is_wrong() {
    let whole = Place::new(0, 0, 12, 12);
    let error = |places: Vec<Place>| Places::new(places).unwrap_err().to_string();
    assert!(error(vec![]).contains("at least one"));
    assert!(error(vec![Place::new(0, 0, 6, 12), Place::new(5, 0, 7, 12)]).contains("places 1 and 2 overlap"));
    assert!(error(vec![Place::new(0, 0, 6, 12), Place::new(6, 0, 7, 12)]).contains("place 2 leaves the grid"));
    assert!(error(vec![Place::new(0, 0, 6, 12), Place::new(6, 0, 0, 12)]).contains("place 2 leaves the grid"));
    assert!(error(vec![Place::new(250, 0, 250, 1)]).contains("place 1 leaves the grid"));
    assert!(error(vec![Place::new(0, 0, 6, 12), Place::new(6, 1, 6, 11)]).contains("nothing stands at unit 6, 0"));
    assert!(error(vec![whole; 257]).contains("at most 256"));
}

#[test]
fn places_are_split_joined_and_their_borders_moved() {
    let one = Places::new(vec![Place::new(0, 0, 12, 12)]).unwrap();
    let two = one.split(0, true).unwrap();
    assert_eq!(two.as_slice(), [Place::new(0, 0, 6, 12), Place::new(6, 0, 6, 12)]);
    let three = two.split(1, false).unwrap();
    // The border between the left place and both others moves as one.
    let moved = three.drag(0, Edge::Right, 3).unwrap();
    assert_eq!(moved.as_slice(), [Place::new(0, 0, 9, 12), Place::new(9, 0, 3, 6), Place::new(9, 6, 3, 6)]);
    assert_eq!(moved.drag(1, Edge::Left, -3).unwrap(), three);
    assert_eq!(three.drag(0, Edge::Right, 6), Err(LayoutError::Border));
    assert_eq!(three.drag(0, Edge::Left, 1), Err(LayoutError::Border), "the edge of the screen stays");
    // The border between the two on the right does not reach the left one.
    let lower = three.drag(1, Edge::Bottom, 2).unwrap();
    assert_eq!(lower.as_slice()[0], three.as_slice()[0]);
    assert_eq!(three.join(&BTreeSet::from([1, 2])).unwrap(), two);
    assert_eq!(three.join(&BTreeSet::from([0, 1])), Err(LayoutError::NoRectangle));
    assert_eq!(three.join(&BTreeSet::from([1])), Err(LayoutError::NoRectangle));
    let thin = Places::new((0..12).map(|n| Place::new(n, 0, 1, 12)).collect()).unwrap();
    assert_eq!(thin.split(3, true), Err(LayoutError::TooSmall(1, "wide")));
}

#[test]
fn what_suits_a_screen_is_proposed_first() {
    let best = |count| proposals(count, &SCREEN, 16.0 / 9.0);
    assert_eq!(best(4)[0], Layout::Even(4));
    assert!(best(6).contains(&Layout::Preset(Preset::One5)));
    let suits = Layout::Even(4).suits(&SCREEN, 16.0 / 9.0);
    assert_eq!((suits.largest, suits.smallest), ((78, 22), (78, 22)));
    assert!((suits.unused - (1.0 - 4.0 * 78.0 * 22.0 / (160.0 * 48.0))).abs() < 1e-9);
    // A wide terminal is better used by a row.
    let wide = Screen { width: 300, height: 30, ..SCREEN };
    assert!(Layout::Even(3).suits(&wide, 16.0 / 9.0).unused < Layout::Preset(Preset::One3).suits(&wide, 16.0 / 9.0).unused);
}

/// Layouts as a person makes them: some steps of splitting, joining and dragging, whatever each comes to.
fn made_by_hand() -> impl Strategy<Value = Places> {
    let step = (0usize..16, 0usize..16, 0u8..6, -4i8..5);
    proptest::collection::vec(step, 0..24).prop_map(|steps| {
        let mut places = Places::new(vec![Place::new(0, 0, UNITS, UNITS)]).unwrap();
        for (one, two, what, by) in steps {
            let count = places.as_slice().len();
            let (one, two) = (one % count, two % count);
            let next = match what {
                0 | 1 => places.split(one, what == 0),
                2 => places.join(&BTreeSet::from([one, two])),
                3 => places.drag(one, Edge::Left, by),
                4 => places.drag(one, Edge::Bottom, by),
                _ => places.drag(one, Edge::Right, by),
            };
            places = next.unwrap_or(places);
        }
        places
    })
}

proptest! {
    #[test]
    fn places_never_overlap_and_cover_the_screen_but_its_gutters(
        places in made_by_hand(), width in 1u16..500, height in 1u16..200, gutter in 0u16..3, even in 1usize..65,
    ) {
        let screen = Screen { width, height, gutter, ..SCREEN };
        for layout in [Layout::Hand(places.clone()), Layout::Even(even), Layout::Preset(Preset::One12)] {
            let divided = layout.divide(&screen);
            prop_assert_eq!(divided.len(), layout.count());
            for (index, place) in divided.iter().enumerate() {
                prop_assert!(place.x + place.width <= width && place.y + place.height <= height);
                for other in divided.iter().take(index) {
                    let apart = place.x >= other.x + other.width || other.x >= place.x + place.width
                        || place.y >= other.y + other.height || other.y >= place.y + place.height;
                    prop_assert!(apart || place.width == 0 || other.width == 0 || place.height == 0 || other.height == 0);
                }
            }
            // The mouse: a cell belongs to the place that it is drawn in, and to that alone.
            for (x, y) in [(0, 0), (width / 2, height / 2), (width - 1, height - 1)] {
                prop_assert!(divided.iter().filter(|place| place.contains(x, y)).count() <= 1);
            }
        }
        // Without gutters a layout made by hand covers every cell.
        let bare = Screen { gutter: 0, ..screen };
        let cells: u32 = Layout::Hand(places).divide(&bare).iter().map(|place| u32::from(place.width) * u32::from(place.height)).sum();
        prop_assert_eq!(cells, u32::from(width) * u32::from(height));
    }

    #[test]
    fn a_border_that_moves_can_be_moved_back(places in made_by_hand(), index in 0usize..16, by in -6i8..7) {
        let index = index % places.as_slice().len();
        if let Ok(moved) = places.drag(index, Edge::Right, by) {
            prop_assert_eq!(moved.as_slice().len(), places.as_slice().len());
            prop_assert_eq!(moved.as_slice()[index].right(), (places.as_slice()[index].right() as i8 + by) as u8);
        }
    }
}
