//! The roster's lines: which cameras, in which order, under which headings.

use super::{App, Effect, FeedKey};
use crate::desk::Typing;
use crate::keymap::DeskStep;
use crate::view::port_of;
use lattice_core::clock::Told;
use lattice_core::find::Exposure;
use lattice_core::meter::Figures;
use lattice_core::{ClockOffset, Role, SourceUrl, Verdict};
use lattice_engine::jobs::Errand;
use lattice_net::Origin;
use lattice_store::Camera;
use std::cmp::Ordering;
use std::collections::HashMap;

/// What the roster is sorted by: a column of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SortBy {
    /// The order of the site file, recorders before their channels.
    #[default]
    File,
    /// What is worst first.
    Verdict,
    /// By name.
    Name,
    /// By address, as numbers where it is some.
    Address,
    /// By the share of the declared rate that arrives, least first.
    Rate,
    /// By how far the device's clock is off, most first.
    Clock,
    /// By when it was last seen, longest ago first.
    Seen,
    /// By maker and model.
    Maker,
    /// By firmware.
    Firmware,
}

impl SortBy {
    /// Every one, in the order of the columns.
    pub const ALL: [Self; 9] =
        [Self::File, Self::Verdict, Self::Name, Self::Address, Self::Rate, Self::Clock, Self::Seen, Self::Maker, Self::Firmware];

    /// Its word after "sorted by".
    pub const fn word(self) -> &'static str {
        match self {
            Self::File => "the site file",
            Self::Verdict => "verdict",
            Self::Name => "name",
            Self::Address => "address",
            Self::Rate => "share of frames that arrive",
            Self::Clock => "clock",
            Self::Seen => "last seen",
            Self::Maker => "maker",
            Self::Firmware => "firmware",
        }
    }

    /// The next one.
    pub fn next(self) -> Self {
        let at = Self::ALL.iter().position(|one| *one == self).unwrap_or(0);
        Self::ALL[(at + 1) % Self::ALL.len()]
    }
}

/// What the roster is grouped by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum GroupBy {
    /// By the operator's groups.
    #[default]
    Group,
    /// By the recorder that they hang under.
    Recorder,
    /// By maker.
    Maker,
    /// By verdict.
    Verdict,
    /// Not at all.
    Nothing,
}

impl GroupBy {
    /// Its word after "by".
    pub const fn word(self) -> &'static str {
        match self {
            Self::Group => "group",
            Self::Recorder => "recorder",
            Self::Maker => "maker",
            Self::Verdict => "verdict",
            Self::Nothing => "nothing",
        }
    }

    /// The next one.
    pub const fn next(self) -> Self {
        match self {
            Self::Group => Self::Recorder,
            Self::Recorder => Self::Maker,
            Self::Maker => Self::Verdict,
            Self::Verdict => Self::Nothing,
            Self::Nothing => Self::Group,
        }
    }
}

/// How the roster is laid out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RosterOrder {
    /// Sorted by this, within each group.
    pub sort: SortBy,
    /// The other way round.
    pub reversed: bool,
    /// Under headings.
    pub group: GroupBy,
}

impl RosterOrder {
    /// The next column, the other way round, or under other headings.
    pub fn step(&mut self, step: DeskStep) {
        match step {
            DeskStep::Sort => (self.sort, self.reversed) = (self.sort.next(), false),
            DeskStep::Reverse => self.reversed = !self.reversed,
            DeskStep::GroupBy => self.group = self.group.next(),
            _ => {}
        }
    }
}

/// A camera of the roster with what is known of it now.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    /// The camera.
    pub camera: &'a Camera,
    /// The stream of it that is open, with its figures.
    pub open: Option<(Role, &'a Figures)>,
    /// What its device told of its clock.
    pub clock: Option<Told>,
    /// Why its device lies open, if it is known to.
    pub exposed: Option<Exposure>,
    /// When something was last received from it, seconds UTC; never as far as is known for `None`.
    pub seen: Option<i64>,
}

impl Entry<'_> {
    fn verdict(&self) -> Option<Verdict> {
        self.open.map(|(_, figures)| figures.verdict)
    }

    /// How bad it is: the lower the worse.
    fn badness(&self) -> u8 {
        match self.verdict() {
            _ if self.camera.disabled => 8,
            Some(Verdict::Lost) => 0,
            Some(Verdict::Locked) => 1,
            Some(Verdict::Stalled) => 2,
            Some(Verdict::Strained) => 3,
            Some(Verdict::Waiting) => 4,
            Some(Verdict::Steady) => 5,
            Some(Verdict::Resting) => 6,
            None => 7,
        }
    }

    fn share(&self) -> Option<f64> {
        let figures = self.open?.1;
        Some(figures.arrived? / figures.declared?.per_second())
    }

    /// What its device told of its clock, or what its reports show where that is beyond what a path explains.
    pub fn clock_off(&self) -> Option<ClockOffset> {
        self.clock.map(|told| told.offset)
    }

    fn compare(&self, other: &Self, by: SortBy) -> Ordering {
        let missing_last = |a: bool, b: bool| b.cmp(&a); // those of which it is known come first
        let texts = |a: [&Option<String>; 2], b: [&Option<String>; 2]| {
            missing_last(a[0].is_some(), b[0].is_some()).then_with(|| natural(&joined(a), &joined(b)))
        };
        match by {
            SortBy::File => Ordering::Equal,
            SortBy::Verdict => self.badness().cmp(&other.badness()),
            SortBy::Name => natural(&self.camera.name, &other.camera.name),
            SortBy::Address => texts([&self.camera.address, &None], [&other.camera.address, &None]),
            SortBy::Rate => missing_last(self.share().is_some(), other.share().is_some())
                .then_with(|| self.share().unwrap_or(0.0).total_cmp(&other.share().unwrap_or(0.0))),
            SortBy::Clock => {
                let off = |entry: &Self| entry.clock_off().map(|offset| offset.micros.unsigned_abs());
                missing_last(off(self).is_some(), off(other).is_some()).then_with(|| off(other).cmp(&off(self)))
            }
            SortBy::Seen => self.seen.cmp(&other.seen),
            SortBy::Maker => texts([&self.camera.maker, &self.camera.model], [&other.camera.maker, &other.camera.model]),
            SortBy::Firmware => texts([&self.camera.firmware, &None], [&other.camera.firmware, &None]),
        }
    }

    /// The heading that it stands under.
    fn heading(&self, by: GroupBy) -> Option<String> {
        let camera = self.camera;
        match by {
            GroupBy::Group => Some(camera.group.clone().unwrap_or_else(|| "in no group".into())),
            GroupBy::Recorder => Some(camera.recorder.clone().unwrap_or_else(|| "under no recorder".into())),
            GroupBy::Maker => Some(camera.maker.clone().unwrap_or_else(|| "maker not known".into())),
            GroupBy::Verdict => Some(match self.verdict() {
                _ if camera.disabled => "off".into(),
                Some(verdict) => verdict.to_string(),
                None => "not open".into(),
            }),
            GroupBy::Nothing => None,
        }
    }

    /// Under which of the headings' ranks it stands: those without come last, verdicts by badness.
    fn rank(&self, by: GroupBy) -> (bool, u8) {
        let camera = self.camera;
        match by {
            GroupBy::Group => (camera.group.is_none(), 0),
            GroupBy::Recorder => (camera.recorder.is_none(), 0),
            GroupBy::Maker => (camera.maker.is_none(), 0),
            GroupBy::Verdict => (false, self.badness()),
            GroupBy::Nothing => (false, 0),
        }
    }
}

fn joined(texts: [&Option<String>; 2]) -> String {
    texts.into_iter().flatten().map(String::as_str).collect::<Vec<_>>().join(" ")
}

/// Texts in the order in which people count: "Lane 2" before "Lane 10", 127.0.0.9 before 127.0.0.10.
fn natural(a: &str, b: &str) -> Ordering {
    let parts = |text: &str| {
        let mut parts: Vec<(u64, String)> = Vec::new();
        for c in text.to_lowercase().chars() {
            match (c.to_digit(10), parts.last_mut()) {
                (Some(digit), Some((number, text))) if text.is_empty() => {
                    *number = number.saturating_mul(10).saturating_add(u64::from(digit));
                }
                (Some(digit), _) => parts.push((u64::from(digit), String::new())),
                (None, Some((_, text))) if !text.is_empty() => text.push(c),
                (None, _) => parts.push((0, c.to_string())),
            }
        }
        parts
    };
    parts(a).cmp(&parts(b))
}

/// A line of the roster.
#[derive(Debug, Clone)]
pub enum RosterLine<'a> {
    /// A heading, and how many cameras stand under it.
    Heading(String, usize),
    /// A camera.
    Camera(Box<Entry<'a>>),
}

impl<'a> RosterLine<'a> {
    /// The camera of the line.
    pub fn entry(&self) -> Option<&Entry<'a>> {
        match self {
            Self::Heading(..) => None,
            Self::Camera(entry) => Some(entry),
        }
    }
}

impl App {
    /// For each camera by its name, the stream that tells how it is.
    fn telling_by_name(&self) -> HashMap<&str, FeedKey> {
        self.cameras.iter().filter_map(|(id, def)| Some((def.name.as_str(), self.telling(id)?))).collect()
    }

    /// A camera of the site with what is known of it now.
    fn entry<'a>(&'a self, telling: &HashMap<&str, FeedKey>, camera: &'a Camera) -> Entry<'a> {
        let key = telling.get(camera.name.as_str());
        let open = key.and_then(|key| Some((key.role, self.figures.get(key)?.as_ref())));
        Entry {
            camera,
            open,
            clock: self.known.clocks.get(&camera.name).copied(),
            exposed: self.known.exposed.get(&camera.name).copied(),
            seen: self.known.seen.get(&camera.name).copied(),
        }
    }

    /// The cameras that are listened for.
    pub fn listeners(&self) -> Vec<Entry<'_>> {
        let telling = self.telling_by_name();
        let cameras = self.desk.site.cameras.iter().filter(|camera| port_of(camera).is_some());
        cameras.map(|camera| self.entry(&telling, camera)).collect()
    }

    /// The figures of a stream that is open, by its request URI.
    pub fn measured(&self, uri: &str) -> Option<&Figures> {
        let is = |key: &FeedKey| matches!(self.cameras.origin(*key), Some(Origin::Url(open)) if open.request_uri() == uri);
        self.figures.iter().find(|(key, _)| is(key)).map(|(_, figures)| figures.as_ref())
    }

    /// The streams of the device that is looked at which are neither open nor measured yet: to be measured for a
    /// moment, each once.
    pub fn take_unprobed(&mut self) -> Vec<SourceUrl> {
        let page = self.desk.device.as_ref();
        let facts = page.and_then(|page| page.facts.as_ref()?.as_ref().ok());
        let urls = facts.into_iter().flat_map(|facts| facts.streams.iter().filter_map(|(offered, _)| offered.url.clone()));
        let asked = |uri: &String| page.is_some_and(|page| page.asked.contains(uri));
        let new = |url: &SourceUrl| {
            let uri = url.request_uri();
            url.scheme().is_rtsp() && !asked(&uri) && self.measured(&uri).is_none()
        };
        let urls: Vec<SourceUrl> = urls.filter(new).collect();
        if let Some(page) = &mut self.desk.device {
            page.asked.extend(urls.iter().map(SourceUrl::request_uri));
        }
        urls
    }

    /// Measures the streams of the device that is looked at as far as nothing is known of them.
    pub(super) fn probe(&mut self) -> Option<Effect> {
        let urls = self.take_unprobed();
        let page = self.desk.device.as_ref().filter(|_| !urls.is_empty())?;
        Some(Errand::Probe(page.camera.clone(), urls).into())
    }

    /// The cameras that pass the filter, in their order, under their headings.
    pub fn roster(&self) -> Vec<RosterLine<'_>> {
        let filter = match &self.desk.typing {
            Some((Typing::Filter, input)) => input.value(),
            _ => self.desk.filter.value(),
        };
        let order = self.desk.order;
        let telling = self.telling_by_name();
        let cameras = self.desk.site.cameras.iter().filter(|camera| passes(camera, filter));
        let mut entries: Vec<Entry<'_>> = cameras.map(|camera| self.entry(&telling, camera)).collect();
        entries.sort_by(|a, b| {
            let heading = |entry: &Entry<'_>| entry.heading(order.group).unwrap_or_default();
            let by_heading = a.rank(order.group).cmp(&b.rank(order.group)).then_with(|| natural(&heading(a), &heading(b)));
            let by_column = a.compare(b, order.sort);
            by_heading.then(if order.reversed { by_column.reverse() } else { by_column })
        });
        if entries.iter().all(|entry| entry.rank(order.group).0) {
            // No heading says anything: none of them is in a group.
            return entries.into_iter().map(|entry| RosterLine::Camera(Box::new(entry))).collect();
        }
        let mut lines = Vec::with_capacity(entries.len());
        for chunk in entries.chunk_by(|a, b| a.heading(order.group) == b.heading(order.group)) {
            let heading = chunk.first().and_then(|entry| entry.heading(order.group));
            lines.extend(heading.map(|heading| RosterLine::Heading(heading, chunk.len())));
            lines.extend(chunk.iter().map(|entry| RosterLine::Camera(Box::new(*entry))));
        }
        lines
    }

    /// The selected line of the roster: that of the chosen camera, or the first camera.
    pub fn roster_row(&self, lines: &[RosterLine<'_>]) -> usize {
        let chosen = self.desk.chosen.as_deref();
        let is = |line: &RosterLine<'_>| line.entry().is_some_and(|entry| Some(entry.camera.name.as_str()) == chosen);
        lines.iter().position(is).or_else(|| lines.iter().position(|line| line.entry().is_some())).unwrap_or(0)
    }

    /// The selected camera of the roster.
    pub fn roster_selected(&self) -> Option<&Camera> {
        let lines = self.roster();
        let name = lines.get(self.roster_row(&lines))?.entry()?.camera.name.clone();
        self.desk.site.camera(&name)
    }

    /// Selects the camera so many cameras further down.
    pub fn roster_move(&mut self, rows: i32) {
        let lines = self.roster();
        let row = self.roster_row(&lines);
        let cameras: Vec<&str> = lines.iter().filter_map(|line| Some(line.entry()?.camera.name.as_str())).collect();
        let before = lines.iter().take(row).filter(|line| line.entry().is_some()).count();
        let to = before.saturating_add_signed(rows as isize).min(cameras.len().saturating_sub(1));
        self.desk.chosen = cameras.get(to).map(|name| (*name).to_owned());
    }
}

/// Whether a camera passes a filter: each word must occur in one of its texts.
fn passes(camera: &Camera, filter: &str) -> bool {
    let texts = [
        Some(camera.name.as_str()),
        camera.group.as_deref(),
        camera.address.as_deref(),
        camera.maker.as_deref(),
        camera.model.as_deref(),
        camera.firmware.as_deref(),
        camera.recorder.as_deref(),
    ];
    let all = texts.into_iter().flatten().collect::<Vec<_>>().join(" ").to_lowercase();
    filter.to_lowercase().split_whitespace().all(|word| all.contains(word))
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::Wall;
    use ratatui::layout::Rect;
    use std::sync::Arc;
    use std::time::Duration;
    use tui_input::Input;

    fn camera(name: &str, group: Option<&str>, address: &str) -> Camera {
        Camera { name: name.into(), group: group.map(str::to_owned), address: Some(address.into()), ..Camera::default() }
    }

    fn app() -> App {
        let mut app = App::new("Port".into(), false, Rect::new(0, 0, 160, 50), 0.5);
        Arc::make_mut(&mut app.desk.site).cameras = vec![
            camera("Loose", None, "192.0.2.30"),
            camera("Gate 10", Some("Lock"), "192.0.2.9"),
            camera("Fuel quay", Some("Quay"), "192.0.2.100"),
            camera("Gate 2", Some("Lock"), "192.0.2.10"),
        ];
        app
    }

    fn told(app: &App) -> Vec<String> {
        let line = |line: RosterLine<'_>| match line {
            RosterLine::Heading(heading, count) => format!("{heading} {count}"),
            RosterLine::Camera(entry) => entry.camera.name.clone(),
        };
        app.roster().into_iter().map(line).collect()
    }

    #[test]
    fn the_roster_is_grouped_sorted_and_filtered() {
        let mut app = app();
        assert_eq!(told(&app), ["Lock 2", "Gate 10", "Gate 2", "Quay 1", "Fuel quay", "in no group 1", "Loose"]);
        app.desk.order.sort = SortBy::Name;
        assert_eq!(told(&app)[..3], ["Lock 2", "Gate 2", "Gate 10"], "as people count");
        app.desk.filter = Input::new("lock 10".into());
        assert_eq!(told(&app), ["Lock 2", "Gate 2", "Gate 10"], "10 is in both addresses or names");
        app.desk.filter = Input::new("GATE 2.9".into());
        assert_eq!(told(&app), ["Lock 1", "Gate 10"]);
        app.desk.filter = Input::default();
        app.desk.order = RosterOrder { sort: SortBy::Address, reversed: false, group: GroupBy::Nothing };
        assert_eq!(told(&app), ["Gate 10", "Gate 2", "Loose", "Fuel quay"]);
        app.desk.order.reversed = true;
        assert_eq!(told(&app)[0], "Fuel quay");
    }

    #[test]
    fn every_order_names_every_camera_once_and_keeps_the_chosen_one() {
        let mut app = app();
        let offset = |micros| Told { offset: ClockOffset { micros, error: Duration::ZERO }, at: Wall::from_unix_micros(0) };
        Arc::make_mut(&mut app.known).clocks.insert("Gate 2".into(), offset(-420_000_000));
        Arc::make_mut(&mut app.known).clocks.insert("Loose".into(), offset(5_000));
        Arc::make_mut(&mut app.known).seen.insert("Fuel quay".into(), 1_795_500_000);
        app.desk.chosen = Some("Gate 2".into());
        for sort in SortBy::ALL {
            for group in [GroupBy::Group, GroupBy::Recorder, GroupBy::Maker, GroupBy::Verdict, GroupBy::Nothing] {
                app.desk.order = RosterOrder { sort, reversed: false, group };
                let mut names: Vec<String> =
                    app.roster().iter().filter_map(|line| Some(line.entry()?.camera.name.clone())).collect();
                names.sort();
                assert_eq!(names, ["Fuel quay", "Gate 10", "Gate 2", "Loose"], "{sort:?} {group:?}");
                assert_eq!(app.roster_selected().unwrap().name, "Gate 2");
            }
        }
        app.desk.order = RosterOrder { sort: SortBy::Clock, reversed: false, group: GroupBy::Nothing };
        assert_eq!(told(&app)[..2], ["Gate 2", "Loose"], "the clock that is off most comes first");
        app.desk.order.sort = SortBy::Seen;
        assert_eq!(told(&app)[3], "Fuel quay", "never seen is longest ago");
        app.roster_move(-100);
        assert_eq!(app.roster_selected().unwrap().name, told(&app)[0]);
    }
}
