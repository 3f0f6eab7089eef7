//! The wall's state and what changes it. No handles here: what is to be done outside comes out as
//! [`Effect`]s.

use crate::keymap::{Action, Context, action};
use crate::theme::Tone;
use crate::view::regions;
use lattice_core::meter::{Dropout, Figures};
use lattice_core::{Cause, Mono, Verdict};
use lattice_media::{DamageChoice, TilePicture};
use lattice_net::Origin;
use ratatui::crossterm::event::{KeyEvent, KeyEventKind, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

/// Which of a camera's streams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum StreamRole {
    /// The large one.
    Main,
    /// The light one.
    Sub,
}

impl StreamRole {
    /// The letter on a plate.
    pub const fn letter(self) -> char {
        match self {
            Self::Main => 'M',
            Self::Sub => 'S',
        }
    }

    /// The word in a sentence.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Sub => "sub",
        }
    }
}

/// A stream of a camera.
#[derive(Debug, Clone)]
pub struct StreamDef {
    /// Which.
    pub role: StreamRole,
    /// Where.
    pub origin: Origin,
}

/// A camera.
#[derive(Debug, Clone)]
pub struct CameraDef {
    /// Its name on plates.
    pub name: String,
    /// Its streams.
    pub streams: Vec<StreamDef>,
}

/// What the wall shows.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its cameras, a tile each.
    pub cameras: Vec<CameraDef>,
    /// The stream that tiles begin with, where a camera has it.
    pub prefer: StreamRole,
}

impl Site {
    /// Where a stream comes from.
    pub fn origin(&self, key: FeedKey) -> Option<&Origin> {
        let camera = self.cameras.get(key.camera)?;
        camera.streams.iter().find(|stream| stream.role == key.role).map(|stream| &stream.origin)
    }
}

/// One stream of one camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FeedKey {
    /// Index of the camera.
    pub camera: usize,
    /// Which of its streams.
    pub role: StreamRole,
}

/// A place on the wall.
#[derive(Debug, Clone, Copy)]
pub struct Tile {
    /// Index of the camera.
    pub camera: usize,
    /// The stream shown.
    pub role: StreamRole,
    /// The stream that is to be shown as soon as it has a picture.
    pub switching: Option<StreamRole>,
}

impl Tile {
    /// The stream shown.
    pub const fn key(&self) -> FeedKey {
        FeedKey { camera: self.camera, role: self.role }
    }

    /// The stream that is waited for.
    pub fn next_key(&self) -> Option<FeedKey> {
        self.switching.map(|role| FeedKey { camera: self.camera, role })
    }
}

/// What stands in front of the wall.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Overlay {
    /// Nothing.
    None,
    /// The help, scrolled down by this many lines.
    Help(u16),
    /// The list of faults.
    Faults,
}

/// A line of news at the foot.
#[derive(Debug, Clone)]
pub struct Notice {
    /// What happened.
    pub text: String,
    /// How loud.
    pub tone: Tone,
    /// When.
    pub at: Mono,
}

/// Faults of the demo: what is shown and what is ordered.
pub const FAULTS: [(&str, &str); 5] = [
    ("cut the session for 4 s", "cut 4"),
    ("stall: send nothing for 3 s", "stall 3"),
    ("drop 5 % of packets for 15 s", "loss 5 15"),
    ("delay by 120 to 200 ms for 20 s", "delay 120 80 20"),
    ("slow to 40 % of the frame rate for 20 s", "slow 40 20"),
];

/// What is to be done outside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Effect {
    /// Open a stream.
    Open(FeedKey),
    /// Close a stream.
    Close(FeedKey),
    /// Try a stream again now.
    Retry(FeedKey),
    /// Treat damaged pictures so.
    Damage(DamageChoice),
    /// Order a fault from a stand-in camera.
    Fault(usize, &'static str),
    /// Leave.
    Quit,
}

/// How long a line of news stays.
const NOTICE_STAYS: Duration = Duration::from_secs(12);
/// Two clicks within this time are one double click.
const DOUBLE_CLICK: Duration = Duration::from_millis(400);

/// All state of the wall.
pub struct App {
    /// What is shown.
    pub site: Site,
    /// Whether the cameras are stand-ins that take faults.
    pub demo: bool,
    /// The tiles.
    pub tiles: Vec<Tile>,
    /// Index of the selected tile.
    pub selected: usize,
    /// The selected tile fills the wall.
    pub enlarged: bool,
    /// What stands in front.
    pub overlay: Overlay,
    /// The newest figures.
    pub figures: HashMap<FeedKey, Arc<Figures>>,
    /// The newest pictures.
    pub pictures: HashMap<FeedKey, Arc<TilePicture>>,
    /// The newest line of news.
    pub notice: Option<Notice>,
    /// What is done with damaged pictures.
    pub damage: DamageChoice,
    /// The terminal.
    pub area: Rect,
    /// Width of a cell over its height.
    pub cell_aspect: f64,
    /// Now.
    pub now: Mono,
    /// The time of day.
    pub clock: String,
    /// Since when the same tiles are on the screen: pictures of others are not kept fresh.
    pub same_tiles_since: Mono,
    clicked: Option<(usize, Mono)>,
    dropouts_seen: HashMap<FeedKey, u64>,
}

impl App {
    /// A wall with a tile for each camera, and what must be opened for it.
    pub fn new(site: Site, demo: bool, area: Rect, cell_aspect: f64) -> (Self, Vec<Effect>) {
        let tiles: Vec<Tile> = site
            .cameras
            .iter()
            .enumerate()
            .filter_map(|(camera, def)| {
                let preferred = def.streams.iter().find(|stream| stream.role == site.prefer);
                let role = preferred.or(def.streams.first())?.role;
                Some(Tile { camera, role, switching: None })
            })
            .collect();
        let effects = tiles.iter().map(|tile| Effect::Open(tile.key())).collect();
        let app = Self {
            site,
            demo,
            tiles,
            selected: 0,
            enlarged: false,
            overlay: Overlay::None,
            figures: HashMap::new(),
            pictures: HashMap::new(),
            notice: None,
            damage: DamageChoice::default(),
            area,
            cell_aspect,
            now: Mono::ZERO,
            clock: String::new(),
            same_tiles_since: Mono::ZERO,
            clicked: None,
            dropouts_seen: HashMap::new(),
        };
        (app, effects)
    }

    /// Where keys apply now.
    pub const fn context(&self) -> Context {
        match self.overlay {
            Overlay::None => Context::Wall,
            Overlay::Help(_) => Context::Help,
            Overlay::Faults => Context::Faults,
        }
    }

    /// The selected tile.
    pub fn selected_tile(&self) -> Option<&Tile> {
        self.tiles.get(self.selected)
    }

    /// Name of a tile's camera.
    pub fn name(&self, tile: &Tile) -> &str {
        self.site.cameras.get(tile.camera).map_or("", |camera| camera.name.as_str())
    }

    /// Streams that must be decoded, with the tile each is for.
    pub fn visible(&self) -> Vec<(FeedKey, usize)> {
        let shown = |index: &usize| !self.enlarged || *index == self.selected;
        let tiles = self.tiles.iter().enumerate().filter(|(index, _)| shown(index));
        tiles
            .flat_map(|(index, tile)| [Some(tile.key()), tile.next_key()].into_iter().flatten().map(move |key| (key, index)))
            .collect()
    }

    /// A key was pressed.
    pub fn on_key(&mut self, event: KeyEvent) -> Vec<Effect> {
        if event.kind == KeyEventKind::Release {
            return Vec::new();
        }
        action(self.context(), event).map_or_else(Vec::new, |action| self.act(action))
    }

    /// The mouse did something.
    pub fn on_mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        if self.overlay != Overlay::None || event.kind != MouseEventKind::Down(MouseButton::Left) {
            return Vec::new();
        }
        let at = Position::new(event.column, event.row);
        let regions = regions(self);
        let Some(hit) = regions.tiles.iter().find(|tile| tile.whole.contains(at)) else { return Vec::new() };
        let double = self.clicked.is_some_and(|(tile, when)| tile == hit.tile && self.now.since(when) < DOUBLE_CLICK);
        self.selected = hit.tile;
        self.clicked = if double { None } else { Some((hit.tile, self.now)) };
        if double { self.act(Action::Enlarge) } else { Vec::new() }
    }

    /// Does what a key means.
    pub fn act(&mut self, action: Action) -> Vec<Effect> {
        let before = (self.enlarged, self.selected);
        let effects = self.carry(action);
        if before.0 != self.enlarged || (self.enlarged && before.1 != self.selected) {
            self.same_tiles_since = self.now;
        }
        effects
    }

    fn carry(&mut self, action: Action) -> Vec<Effect> {
        match action {
            Action::Move(columns, rows) => self.move_selection(columns, rows),
            Action::Step(step) => {
                let count = self.tiles.len().max(1) as i32;
                self.selected = (self.selected as i32 + step).rem_euclid(count) as usize;
            }
            Action::Enlarge => self.enlarged = !self.enlarged,
            Action::Back => {
                if self.overlay == Overlay::None {
                    self.enlarged = false;
                }
                self.overlay = Overlay::None;
            }
            Action::SwitchStream => return self.switch_stream(),
            Action::Retry => {
                let keys = self.selected_tile().map(|tile| (tile.key(), tile.next_key()));
                return keys.into_iter().flat_map(|(key, next)| [Some(key), next]).flatten().map(Effect::Retry).collect();
            }
            Action::DamageChoice => return self.change_damage_choice(),
            Action::Faults if self.demo => self.overlay = Overlay::Faults,
            Action::Faults => self.say(Tone::Text, "faults can be ordered from the stand-in cameras of the demo only".into()),
            Action::Order(number) => {
                self.overlay = Overlay::None;
                let order = FAULTS.get(number).zip(self.selected_tile().copied());
                if let Some(((text, order), tile)) = order {
                    self.say(Tone::Text, format!("ordered for {}: {text}", self.name(&tile)));
                    return vec![Effect::Fault(tile.camera, order)];
                }
            }
            Action::Help => self.overlay = Overlay::Help(0),
            Action::Scroll(lines) => {
                if let Overlay::Help(at) = &mut self.overlay {
                    *at = at.saturating_add_signed(lines as i16);
                }
            }
            Action::Quit => return vec![Effect::Quit],
        }
        Vec::new()
    }

    fn say(&mut self, tone: Tone, text: String) {
        self.notice = Some(Notice { text, tone, at: self.now });
    }

    fn change_damage_choice(&mut self) -> Vec<Effect> {
        let (choice, text) = match self.damage {
            DamageChoice::Hold => (DamageChoice::Show, "damaged pictures are shown, marked as damaged"),
            DamageChoice::Show => (DamageChoice::Hold, "after a loss the last clean picture is held until the next clean point"),
        };
        self.damage = choice;
        self.say(Tone::Text, text.into());
        vec![Effect::Damage(choice)]
    }

    fn move_selection(&mut self, columns: i32, rows: i32) {
        let grid = regions::grid(self);
        let (column, row) = ((self.selected % grid.0) as i32 + columns, (self.selected / grid.0) as i32 + rows);
        if column < 0 || row < 0 || column >= grid.0 as i32 {
            return;
        }
        let target = row as usize * grid.0 + column as usize;
        if target < self.tiles.len() {
            self.selected = target;
        }
    }

    fn switch_stream(&mut self) -> Vec<Effect> {
        let Some(tile) = self.tiles.get(self.selected).copied() else { return Vec::new() };
        if let Some(key) = tile.next_key() {
            // Again: stay with the stream that is there.
            self.tiles[self.selected].switching = None;
            self.pictures.remove(&key);
            return vec![Effect::Close(key)];
        }
        let role = match tile.role {
            StreamRole::Main => StreamRole::Sub,
            StreamRole::Sub => StreamRole::Main,
        };
        let key = FeedKey { camera: tile.camera, role };
        if self.site.origin(key).is_none() {
            let text = format!("{} has no {} stream here: only its {} is known", self.name(&tile), role.word(), tile.role.word());
            self.say(Tone::Text, text);
            return Vec::new();
        }
        self.tiles[self.selected].switching = Some(role);
        self.pictures.remove(&key);
        vec![Effect::Open(key)]
    }

    /// Newest figures and pictures came in.
    pub fn on_news(
        &mut self,
        figures: HashMap<FeedKey, Arc<Figures>>,
        pictures: HashMap<FeedKey, Arc<TilePicture>>,
    ) -> Vec<Effect> {
        self.figures = figures;
        self.pictures = pictures;
        self.tell_dropouts();
        let mut effects = Vec::new();
        for index in 0..self.tiles.len() {
            effects.extend(self.finish_switch(index));
        }
        effects
    }

    /// A switch ends with the new stream's first picture, or with its failure.
    fn finish_switch(&mut self, index: usize) -> Option<Effect> {
        let tile = *self.tiles.get(index)?;
        let next = tile.next_key()?;
        if self.pictures.contains_key(&next) {
            self.tiles[index] = Tile { role: next.role, switching: None, ..tile };
            self.pictures.remove(&tile.key());
            return Some(Effect::Close(tile.key()));
        }
        let figures = self.figures.get(&next)?;
        let failed = matches!(figures.verdict, Verdict::Lost | Verdict::Locked)
            || (figures.verdict == Verdict::Stalled && figures.cause == Some(Cause::UnknownCodec));
        if !failed {
            return None;
        }
        let why = figures.text.clone().or(figures.cause.map(|cause| cause.to_string())).unwrap_or_default();
        let text = format!("{}: staying on {}, {} failed: {why}", self.name(&tile), tile.role.word(), next.role.word());
        self.tiles[index].switching = None;
        self.say(Tone::Alarm, text);
        Some(Effect::Close(next))
    }

    fn tell_dropouts(&mut self) {
        let mut news = None;
        for tile in &self.tiles {
            let key = tile.key();
            let Some(figures) = self.figures.get(&key) else { continue };
            let count = figures.dropout_totals.0;
            let seen = self.dropouts_seen.insert(key, count);
            if let Some(dropout) = figures.dropouts.last().filter(|_| seen.is_some_and(|seen| count > seen)) {
                news = Some((self.name(tile).to_owned(), *dropout));
            }
        }
        if let Some((name, dropout)) = news {
            self.say(Tone::Bright, format!("{} {name}: {}; back by itself", self.clock, describe(&dropout)));
        }
    }

    /// What to say at the foot: the newest news, or the trouble that lasts.
    pub fn foot_line(&self) -> Option<(String, Tone)> {
        if let Some(notice) = self.notice.as_ref().filter(|notice| self.now.since(notice.at) < NOTICE_STAYS) {
            return Some((notice.text.clone(), notice.tone));
        }
        let running = self.tiles.iter().find_map(|tile| {
            let figures = self.figures.get(&tile.key())?;
            Some((self.name(tile), figures.dropout_now?))
        });
        running.map(|(name, dropout)| (format!("{name}: {}", describe(&dropout)), Tone::Alarm))
    }
}

/// "no picture for 3.2 s, silence on the path".
fn describe(dropout: &Dropout) -> String {
    let cause = dropout.cause.map_or(String::new(), |cause| format!(", {cause}"));
    format!("no picture for {:.1} s{cause}", dropout.length.as_secs_f64())
}

#[cfg(test)]
mod tests;
