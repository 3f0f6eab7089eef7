use super::*;
use crate::layout::Preset;
use proptest::prelude::*;

const SCREEN: Screen = Screen { width: 160, height: 48, cell_aspect: 0.5, gutter: 2, below: 2 };

fn names(lattice: &Lattice) -> Vec<&str> {
    lattice.tiles().iter().map(|tile| tile.as_ref().map_or("-", |placed| placed.camera.as_str())).collect()
}

fn six() -> Lattice {
    let mut lattice = Lattice::new("six", Layout::Preset(Preset::One5));
    assert_eq!(lattice.fill(0, ["a", "b", "c", "a", "d"]), 4, "each camera once");
    lattice
}

#[test]
fn cameras_are_put_swapped_moved_cleared_and_filled_in() {
    let mut lattice = six();
    lattice.swap(0, 2);
    assert_eq!(names(&lattice), ["c", "b", "a", "d"]);
    lattice.swap(1, 5); // into an empty one: it moves
    assert_eq!(names(&lattice), ["c", "-", "a", "d", "-", "b"]);
    assert_eq!(lattice.put(1, Placed::new("c")), None, "one camera may stand in several tiles");
    assert_eq!(lattice.cameras(), ["c", "a", "d", "b"]);
    assert_eq!(lattice.clear(5).unwrap().camera, "b");
    assert_eq!(names(&lattice), ["c", "c", "a", "d"]);
    assert_eq!(lattice.fill(0, ["e", "f", "g", "h"]), 4, "two fit, two come onto a second page");
    assert_eq!((lattice.pages(), lattice.empty_on(0), lattice.empty_on(1)), (2, None, Some(8)));
    assert_eq!(lattice.page(1).map(|(tile, placed)| (tile, placed.camera.as_str())).collect::<Vec<_>>(), [(6, "g"), (7, "h")]);
    lattice.at_mut(6).unwrap().hold = Some(Role::Main);
    lattice.rename_camera("g", "north");
    lattice.forget("c");
    assert_eq!((lattice.find("north"), lattice.find("c")), (Some(6), None));
    assert_eq!(lattice.at(6).unwrap().hold, Some(Role::Main), "a hold stays with its tile");
}

#[test]
fn another_layout_loses_nobody() {
    let mut lattice = six();
    lattice.swap(3, 5);
    lattice.set_layout(Layout::even(9));
    assert_eq!(names(&lattice), ["a", "b", "c", "-", "-", "d"], "there is room: everybody stays");
    lattice.set_layout(Layout::even(4));
    assert_eq!(names(&lattice), ["a", "b", "c", "d"], "closed up, so that one page is enough");
    lattice.set_layout(Layout::even(2));
    assert_eq!((names(&lattice), lattice.pages()), (vec!["a", "b", "c", "d"], 2));
    lattice.split(0, true, &SCREEN).unwrap();
    assert_eq!((names(&lattice), lattice.pages()), (vec!["a", "b", "-", "c", "d"], 2), "each page has the new place");
    lattice.join(&BTreeSet::from([0, 2]), &SCREEN).unwrap();
    assert_eq!(names(&lattice), ["a", "b", "c", "d"]);
    let refused = lattice.join(&BTreeSet::from([0]), &SCREEN).unwrap_err().to_string();
    assert!(refused.contains("one rectangle") && lattice.layout().count() == 2, "{refused}");
    lattice.join(&BTreeSet::from([0, 1]), &SCREEN).unwrap();
    assert_eq!((names(&lattice), lattice.pages()), (vec!["a", "c", "b", "d"], 4));
}

#[test]
fn even_grids_are_changed_by_hand_as_they_stand() {
    for count in 1..=64 {
        let layout = Layout::even(count);
        let places = layout.by_hand(&SCREEN).unwrap();
        assert_eq!(places.as_slice().len(), count);
    }
    let wide = Screen { width: 500, height: 20, ..SCREEN };
    let told = Layout::even(30).by_hand(&wide).unwrap_err().to_string();
    assert!(told.contains("too fine"), "{told}");
    let mut lattice = Lattice::even("all", ["a", "b", "c", "d"].map(str::to_owned));
    lattice.drag(0, Edge::Right, 2, &SCREEN).unwrap();
    let Layout::Hand(places) = lattice.layout() else { panic!() };
    assert_eq!(places.as_slice()[0].width, 8);
}

#[test]
fn everything_can_be_undone_and_done_again() {
    let (mut history, mut now) = (History::default(), six());
    let states: Vec<Lattice> = (0..4)
        .map(|step| {
            history.record(now.clone());
            now.swap(step, 5 - step);
            now.clone()
        })
        .collect();
    for state in states.iter().rev() {
        assert_eq!(&now, state);
        now = history.undo(now.clone()).unwrap();
    }
    assert_eq!((names(&now), history.undo(now.clone())), (names(&six()), None));
    now = history.redo(now.clone()).unwrap();
    assert_eq!(now, states[0]);
    history.record(now.clone());
    assert_eq!(history.redo(now), None, "a change ends what could be done again");
}

proptest! {
    /// Whatever is done, every camera that was put in is still there, and no other.
    #[test]
    fn nobody_is_lost(steps in proptest::collection::vec((0u8..5, 0usize..20, 0usize..20), 1..40)) {
        let mut lattice = six();
        for (what, one, other) in steps {
            match what {
                0 => lattice.swap(one, other),
                1 => lattice.set_layout(Layout::even(1 + one)),
                2 => drop(lattice.split(one, other % 2 == 0, &SCREEN)),
                3 => drop(lattice.join(&BTreeSet::from([one, other]), &SCREEN)),
                _ => lattice.set_layout(Layout::Preset(Preset::ALL[one % Preset::ALL.len()])),
            }
            let mut cameras = lattice.cameras();
            cameras.sort_unstable();
            prop_assert_eq!(cameras, ["a", "b", "c", "d"]);
            prop_assert!(lattice.tiles().last().is_none_or(Option::is_some));
            let on_pages: usize = (0..lattice.pages()).map(|page| lattice.page(page).count()).sum();
            prop_assert_eq!(on_pages, 4);
        }
    }
}
