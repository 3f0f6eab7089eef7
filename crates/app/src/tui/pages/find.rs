//! The search of the network.

use crate::tui::app::App;
use crate::tui::fronts::line::TypedLine;
use crate::tui::fronts::{channels, help, sign_in};
use crate::tui::newcomers::address_of;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WELCOME, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::closeup;
use crate::tui::widgets::list::{Column, List, Said, column, inner, table};
use crate::tui::widgets::outcomes::outcomes;
use lattice_core::find::{AddressRange, Change, Exposure, Findings, FoundDevice, RangeError};
use lattice_core::target::{Newcomer, Target};
use lattice_engine::jobs::Errand;
use lattice_engine::{Beginning, FeedKey, News};
use lattice_net::find::FindProgress;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::{LineGauge, Paragraph, Widget as _, Wrap};
use std::collections::BTreeSet;
use std::net::IpAddr;

/// The search.
#[derive(Debug, Default)]
pub struct Find {
    /// The devices found.
    pub findings: Findings,
    /// Those to be taken in.
    pub ticked: BTreeSet<IpAddr>,
    /// The selected device; the first where it is not there.
    pub found_at: Option<IpAddr>,
    /// How far the search is; `None` before the first.
    pub progress: Option<FindProgress>,
    /// The ranges to scan, as typed.
    pub ranges: String,
    /// Those of the search that the table shows.
    searched: String,
}

impl Keyed for Find {
    const NAME: &'static str = "Search";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next device", |page: &mut Self, _| page.select(1)),
        moves("up k", "the device before", |page: &mut Self, _| page.select(-1)),
        moves("pgdn", "a page down", |page: &mut Self, _| page.select(15)),
        moves("pgup", "a page up", |page: &mut Self, _| page.select(-15)),
        key("space", "tick it", |page: &mut Self, _| {
            page.tick();
            page.select(1);
        })
        .hint("tick"),
        key("A", "tick all that are not in the site, or none", |page: &mut Self, app| page.tick_all(app)).hint("tick all"),
        key("enter", "take in what is ticked, or the selected one", Self::take).hint("take in"),
        key("s", "sign in to those that were refused", |_, app| sign_in::of_refused(app)),
        key("n", "other ranges to scan", Self::type_ranges).hint("ranges"),
        key("r", "search again: what is new and what has gone is marked", |page: &mut Self, app| page.search(app)).hint("again"),
        key("z", "end the search", |_, app| app.order(Errand::EndSearch)),
        help::everything(),
        help::key(),
        back("esc q", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WELCOME, "f", "find cameras on the network", Self::begin).hint("find").of_site(),
        way("Roster", "f", "find cameras on the network", Self::begin).hint("find").of_site(),
    ];
}

impl Page for Find {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let area = inner(body);
        let above = self.above(area);
        draw(app, self, theme, above, buf);
        let near = closeup::divide(app, area, self.near(app)).1;
        if near.is_none() && above != area {
            let text = "no camera of this site: enter takes it in, and its picture stands here";
            Line::styled(text, theme.tone(Tone::Faint)).render(Rect { height: 1, ..closeup::foot(area) }, buf);
        }
        closeup::draw(app, theme, near, painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        closeup::watched(app, inner(body), self.near(app))
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.near(app).into_iter().collect()
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(by),
            Mouse::Press(at) => {
                let Some(row) = list(app, self, self.above(inner(app.body()))).row_at(at) else { return };
                self.go_to(row);
                if app.is_double_click(row) {
                    self.tick();
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }

    fn on_beginning(&mut self, _: &mut App, beginning: &Beginning) {
        self.ranges.clone_from(&beginning.ranges);
    }

    fn on_news(&mut self, _: &mut App, news: &News) {
        match news {
            News::SearchBegins => {
                let ranges: Vec<AddressRange> = ranges_of(&self.ranges).unwrap_or_default();
                let scanned = |address| matches!(address, IpAddr::V4(v4) if ranges.iter().any(|range| range.contains(v4)));
                self.findings.begin(|address, device| device.by_discovery || scanned(address));
                self.ticked.clear();
                self.searched.clone_from(&self.ranges);
            }
            News::Found(found) => drop(self.findings.learn(found.address, found.learnt.clone())),
            News::Searching(progress) => {
                self.progress = Some(*progress);
                if progress.done {
                    self.findings.end();
                }
            }
            News::Asked(newcomer, false) => {
                if let Some(address) = address_of(newcomer) {
                    self.ticked.remove(&address);
                }
            }
            _ => {}
        }
    }

    fn goes_on(&mut self, app: &mut App) {
        channels::show_next(app);
    }
}

/// The ranges that a text names; none for an empty one.
fn ranges_of(text: &str) -> Result<Vec<AddressRange>, String> {
    let words = text.split([',', ';', ' ']).filter(|word| !word.trim().is_empty());
    words.map(|word| word.parse().map_err(|error: RangeError| error.to_string())).collect()
}

/// Whether a device is in the site already.
fn is_known(app: &App, address: IpAddr) -> bool {
    app.site.knows_address(&address.to_string())
}

impl Find {
    fn begin(&mut self, app: &mut App) {
        app.open(Self::NAME);
        if self.progress.is_some() {
            return;
        }
        // Nothing beyond this machine is knocked at before the operator has seen where.
        if ranges_of(&self.ranges).is_ok_and(|ranges| ranges.iter().all(AddressRange::is_loopback)) {
            self.search(app);
        } else {
            self.type_ranges(app);
        }
    }

    fn search(&self, app: &mut App) {
        app.order(Errand::Search(self.ranges.clone()));
    }

    fn type_ranges(&mut self, app: &mut App) {
        let search = |app: &mut App, text: &str| {
            app.on_page(|page: &mut Self, app| {
                text.clone_into(&mut page.ranges);
                page.search(app);
            });
        };
        let line = TypedLine::new("ranges to scan (empty: discovery only)".into(), self.ranges.clone(), search);
        app.put_in_front(line.checked(|text| ranges_of(text).map(drop)));
    }

    /// The devices of the table: those that answered, by address, then those that have gone.
    pub fn found(&self) -> Vec<(IpAddr, &FoundDevice)> {
        let mut all: Vec<_> = self.findings.devices().collect();
        all.sort_by_key(|(address, device)| (device.change == Change::Gone, *address));
        all
    }

    /// The row of the selected device.
    fn row(&self) -> usize {
        self.found().iter().position(|(address, _)| Some(*address) == self.found_at).unwrap_or(0)
    }

    /// The stream of the selected device, where it is a camera of the site.
    fn near(&self, app: &App) -> Option<FeedKey> {
        let address = self.found().get(self.row())?.0.to_string();
        let camera = app.site.camera_at(&address)?;
        app.telling(app.camera_index(&camera.name)?)
    }

    /// What is left above the selected camera from near: as much for a device that is no camera of the site.
    fn above(&self, area: Rect) -> Rect {
        let foot = if closeup::has_room(area) && !self.found().is_empty() { closeup::ROWS + 1 } else { 0 };
        Rect { height: area.height - foot, ..area }
    }

    /// Selects the device in this row, or the last.
    fn go_to(&mut self, row: usize) {
        let found = self.found();
        self.found_at = found.get(row.min(found.len().saturating_sub(1))).map(|(address, _)| *address);
    }

    fn select(&mut self, rows: i32) {
        self.go_to(self.row().saturating_add_signed(rows as isize));
    }

    /// Ticks or unticks the selected device.
    fn tick(&mut self) {
        let Some(address) = self.found().get(self.row()).map(|(address, _)| *address) else { return };
        if !self.ticked.remove(&address) {
            self.ticked.insert(address);
        }
    }

    /// Ticks every device that is not in the site, or unticks all.
    pub fn tick_all(&mut self, app: &App) {
        let fresh = |(address, device): &(IpAddr, &FoundDevice)| device.change != Change::Gone && !is_known(app, *address);
        let all: BTreeSet<IpAddr> = self.found().iter().filter(|one| fresh(one)).map(|(address, _)| *address).collect();
        self.ticked = if self.ticked == all { BTreeSet::new() } else { all };
    }

    /// The targets of the ticked devices, or of the selected one.
    pub fn targets(&self, app: &App) -> Vec<Newcomer> {
        let chosen: Vec<IpAddr> = if self.ticked.is_empty() {
            self.found().get(self.row()).map(|(address, _)| *address).into_iter().collect()
        } else {
            self.ticked.iter().copied().collect()
        };
        let target = |address: IpAddr| {
            let device = self.findings.get(address);
            let port = device.and_then(|device| device.service_port.or(device.rtsp_port));
            let name = device.and_then(|device| device.name.clone());
            Newcomer {
                name,
                ..Newcomer::from(Target::Device { host: address.to_string(), port, credentials: None, encrypted: false })
            }
        };
        chosen.into_iter().filter(|address| !is_known(app, *address)).map(target).collect()
    }

    /// Whether any of the chosen devices is known to want a sign-in.
    pub fn wants_sign_in(&self, targets: &[Newcomer]) -> bool {
        let device = |newcomer| address_of(newcomer).and_then(|address| self.findings.get(address));
        targets.iter().any(|newcomer| {
            device(newcomer).is_some_and(|device| {
                // One without an account has nothing to sign in to.
                device.locked == Some(true) && device.exposed != Some(Exposure::FirstUse)
            })
        })
    }

    fn take(&mut self, app: &mut App) {
        let targets = self.targets(app);
        if targets.is_empty() {
            app.say(Tone::Text, "tick a device that is not in the site yet".into());
        } else if self.wants_sign_in(&targets) {
            sign_in::open(app, sign_in::For::Targets(targets));
        } else {
            app.order(Errand::Take(targets));
        }
    }
}

const COLUMNS: [Column; 7] = [
    column("", Constraint::Length(1), 0),
    column("address", Constraint::Length(16), 0),
    column("kind", Constraint::Length(9), 90),
    column("name", Constraint::Length(28), 0),
    column("maker and model", Constraint::Length(24), 112),
    column("by", Constraint::Length(14), 130),
    column("state", Constraint::Fill(1), 0),
];

/// Draws progress, devices, and what became of those that were taken in.
fn draw(app: &App, page: &Find, theme: Theme, area: Rect, buf: &mut Buffer) {
    let found = page.found();
    let row = |n: u16| Rect { y: area.y + n, height: u16::from(n < area.height), ..area };
    Line::styled(heading(page, found.len()), theme.tone(Tone::Bright)).render(row(0), buf);
    if let Some(progress) = page.progress.filter(|progress| !progress.done && progress.total > 0) {
        LineGauge::default()
            .ratio(progress.share().clamp(0.0, 1.0))
            .label(format!("{:3.0} %", progress.share() * 100.0))
            .filled_style(theme.tone(Tone::Here))
            .unfilled_style(theme.tone(Tone::Faint))
            .render(row(1), buf);
    } else {
        let ranges = match (page.progress, page.searched.as_str()) {
            (None, _) => "nothing was searched yet: n names ranges to scan".to_owned(),
            (Some(_), "") => "discovery only: n names ranges to scan".to_owned(),
            (Some(_), ranges) => format!("ranges {ranges}"),
        };
        Line::styled(ranges, theme.tone(Tone::Faint)).render(row(1), buf);
    }
    let outcomes = outcomes(&app.newcomers, theme, "s");
    let below = below(outcomes.len(), area);
    let list = list_below(page, area, below);
    if found.is_empty() {
        let text = if page.progress.is_some_and(|progress| progress.done) {
            "Nothing answered. Is this machine on the cameras' network? n names other ranges, r searches again; a camera that discovery misses is often found by a scan."
        } else {
            "Asking the network..."
        };
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(list.area, buf);
    } else {
        let rows: Vec<Vec<Said>> = found.iter().map(|(address, device)| device_row(app, page, *address, device)).collect();
        table(theme, &list.fitting(&rows), rows, buf);
    }
    let place = Rect { y: area.bottom().saturating_sub(below), height: below, ..area };
    Paragraph::new(outcomes).wrap(Wrap { trim: true }).render(place, buf);
}

/// Lines that outcomes take of the area.
fn below(outcomes: usize, area: Rect) -> u16 {
    (outcomes as u16).min(area.height / 3)
}

fn list_below(page: &Find, area: Rect, below: u16) -> List {
    let place = Rect { y: area.y + 3, height: area.height.saturating_sub(4 + below), ..area };
    List { area: place, columns: COLUMNS.to_vec(), rows: page.found().len(), selected: page.row() }
}

/// Where the table stands.
fn list(app: &App, page: &Find, area: Rect) -> List {
    let newcomers = &app.newcomers;
    let outcomes = usize::from(!newcomers.asking.is_empty()) + usize::from(!newcomers.locked.is_empty()) + newcomers.taken.len();
    list_below(page, area, below(outcomes, area))
}

fn heading(page: &Find, found: usize) -> String {
    let ticked = page.ticked.len();
    let ticked = if ticked == 0 { String::new() } else { format!(", {ticked} ticked") };
    let Some(progress) = page.progress else { return "Search".into() };
    let took = progress.took.as_secs_f64();
    if progress.done {
        return format!("Search: {found} devices in {took:.1} s{ticked}");
    }
    let left = progress.left().map_or(String::new(), |left| format!(", {:.0} s left", left.as_secs_f64().ceil()));
    format!("Searching: {found} devices so far{left}{ticked}")
}

/// Whether a camera of the site at this address has a sign-in.
fn has_sign_in(app: &App, address: IpAddr) -> bool {
    let address = address.to_string();
    app.site.cameras.iter().any(|camera| camera.address.as_ref() == Some(&address) && camera.sign_in.is_some())
}

fn device_row(app: &App, page: &Find, address: IpAddr, device: &FoundDevice) -> Vec<Said> {
    let known = is_known(app, address);
    let tick = if page.ticked.contains(&address) {
        "■"
    } else if known {
        " "
    } else {
        "□"
    };
    let mut words: Vec<String> = Vec::new();
    let mut tone = Tone::Calm;
    if device.change == Change::Gone {
        words.push("gone".into());
        tone = Tone::Faint;
    }
    words.extend((device.change == Change::New).then(|| "new".to_owned()));
    words.extend(known.then(|| "in the roster".to_owned()));
    if device.refused {
        words.push("sign-in refused".into());
    } else if device.locked == Some(true) && !has_sign_in(app, address) {
        words.push("wants a sign-in".into());
    }
    if let Some(exposed) = device.exposed {
        words.push(format!("exposed: {}", exposed.word().replace('-', " ")));
        tone = if device.change == Change::Gone { Tone::Faint } else { Tone::Bright };
    }
    if let Some(other) = &device.announces {
        words.push(format!("announces {other}"));
        tone = Tone::Bright;
    }
    let base = if known || device.change == Change::Gone { Tone::Faint } else { Tone::Calm };
    let by = [(device.by_discovery, "discovery"), (device.by_scan, "scan")];
    let by = by.iter().filter_map(|(by, word)| by.then_some(*word)).collect::<Vec<_>>().join("+");
    let made = [device.maker.as_deref(), device.model.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let channels =
        device.channels.filter(|channels| *channels > 1).map_or(String::new(), |channels| format!(" ({channels} channels)"));
    vec![
        (tick.to_owned(), Tone::Here),
        (address.to_string(), base),
        (device.kind.word().to_owned(), base),
        (format!("{}{channels}", device.name.as_deref().unwrap_or("–")), base),
        (made, base),
        (by, Tone::Faint),
        (words.join(", "), tone),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_store::Camera;
    use std::sync::Arc;

    #[test]
    fn what_is_ticked_is_taken_but_not_what_is_here_already() {
        let mut app = App::new("Port".into(), false, Rect::new(0, 0, 160, 50), 0.5, crate::tui::pages::all());
        Arc::make_mut(&mut app.site).cameras =
            vec![Camera { address: Some("192.0.2.2".into()), name: "Here".into(), ..Camera::default() }];
        let mut page = Find::default();
        for n in 1..=3u8 {
            let device = FoundDevice { locked: Some(n == 3), service_port: Some(8000), ..FoundDevice::default() };
            page.findings.learn(IpAddr::from([192, 0, 2, n]), device);
        }
        page.tick_all(&app);
        let targets = page.targets(&app);
        assert_eq!(targets.iter().map(|one| one.target.to_string()).collect::<Vec<_>>(), ["192.0.2.1:8000", "192.0.2.3:8000"]);
        assert!(page.wants_sign_in(&targets) && !page.wants_sign_in(&targets[..1]));
    }
}
