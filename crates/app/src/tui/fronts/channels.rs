//! Which channels of a recorder are taken in.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, common, key, leave, moves};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{Column, List, Said, column, form, table};
use lattice_core::Cause;
use lattice_core::target::Newcomer;
use lattice_engine::FeedKey;
use lattice_engine::jobs::{Errand, Intake};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::Widget as _;
use std::collections::BTreeSet;

/// Puts the channels of the next recorder in front, where nothing else stands there.
pub fn show_next(app: &mut App) {
    if !app.newcomers.choosing.is_empty() && !app.pages.has_front() {
        let (newcomer, intake) = app.newcomers.choosing.remove(0);
        app.put_in_front(ChannelChoice::new(newcomer, &intake));
    }
}

impl Keyed for ChannelChoice {
    const NAME: &'static str = "Channels of a recorder";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next channel", |choice: &mut Self, _| choice.select(1)),
        moves("up k", "the channel before", |choice: &mut Self, _| choice.select(-1)),
        key("space", "tick it", |choice: &mut Self, _| choice.tick()).hint("tick"),
        key("A", "tick all, or none", |choice: &mut Self, _| choice.tick_all()).hint("tick all"),
        key("enter", "take the recorder in with what is ticked", Self::take).hint("take in"),
        common("esc", "take nothing of it in", Some("not now"), Self::take_nothing),
        leave(),
    ];
}

/// A channel that a recorder offers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Channel {
    /// Its number, from 1.
    pub number: u32,
    /// Its name on the recorder.
    pub name: Option<String>,
    /// What its streams are called, the largest first.
    pub streams: Vec<&'static str>,
    /// Why its first stream cannot be had; `None` where it can.
    pub trouble: Option<Cause>,
}

/// A recorder whose channels are to be chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChannelChoice {
    /// The recorder.
    pub newcomer: Newcomer,
    /// What it offers.
    pub channels: Vec<Channel>,
    /// Those that are wanted, by number.
    pub ticked: BTreeSet<u32>,
    /// The selected row.
    pub row: usize,
}

impl ChannelChoice {
    /// All that answer are ticked to begin with.
    pub fn new(newcomer: Newcomer, intake: &Intake) -> Self {
        let trouble = |number| intake.channel_troubles.iter().find(|(channel, _)| *channel == number).map(|(_, cause)| *cause);
        let channels: Vec<Channel> = intake
            .cameras
            .iter()
            .filter_map(|camera| {
                let number = camera.channel?;
                let streams = camera.streams.iter().map(|stream| stream.role.word()).collect();
                Some(Channel { number, name: camera.device_name.clone(), streams, trouble: trouble(number) })
            })
            .collect();
        let ticked = channels.iter().filter(|channel| channel.trouble.is_none()).map(|channel| channel.number).collect();
        Self { newcomer, channels, ticked, row: 0 }
    }

    /// Moves the selection.
    pub fn select(&mut self, rows: i32) {
        self.row = self.row.saturating_add_signed(rows as isize).min(self.channels.len().saturating_sub(1));
    }

    /// Ticks or unticks the selected channel, and goes to the next.
    pub fn tick(&mut self) {
        let Some(number) = self.channels.get(self.row).map(|channel| channel.number) else { return };
        if !self.ticked.remove(&number) {
            self.ticked.insert(number);
        }
        self.select(1);
    }

    /// Ticks all, or none where all are.
    pub fn tick_all(&mut self) {
        let all: BTreeSet<u32> = self.channels.iter().map(|channel| channel.number).collect();
        self.ticked = if self.ticked == all { BTreeSet::new() } else { all };
    }

    /// What is to be done with it.
    fn taken(&self) -> Errand {
        Errand::Channels(self.newcomer.clone(), self.ticked.clone())
    }

    fn take_nothing(&mut self, app: &mut App) {
        self.ticked.clear();
        app.back();
        app.order(self.taken());
    }

    fn take(&mut self, app: &mut App) {
        if self.ticked.is_empty() {
            app.say(Tone::Text, "tick a channel, or leave with esc".into());
            return;
        }
        app.back();
        app.order(self.taken());
    }
}

const COLUMNS: [Column; 5] = [
    column("", Constraint::Length(1), 0),
    column("channel", Constraint::Length(7), 0),
    column("name", Constraint::Min(14), 0),
    column("streams", Constraint::Length(14), 56),
    column("state", Constraint::Length(26), 0),
];

impl Page for ChannelChoice {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let choice = self;
        let height = (choice.channels.len() as u16).saturating_add(7).min(app.area.height);
        let inner = form(app, theme, 92, height, buf);
        let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
        let (ticked, all) = (choice.ticked.len(), choice.channels.len());
        let title = format!("{} is a recorder with {all} channels, {ticked} ticked", choice.newcomer.target);
        Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
        let area = Rect { y: inner.y + 2, height: inner.height.saturating_sub(2), ..inner };
        let list = List { area, columns: COLUMNS.to_vec(), rows: all, selected: choice.row };
        table(theme, &list, choice.channels.iter().map(|channel| line(choice, channel)).collect(), buf);
        Vec::new()
    }
}

fn line(choice: &ChannelChoice, channel: &Channel) -> Vec<Said> {
    let tick = if choice.ticked.contains(&channel.number) { "■" } else { "□" };
    let state = channel.trouble.map_or_else(|| ("answers".into(), Tone::Calm), |cause| (cause.to_string(), Tone::Bright));
    let calm = |text: String| (text, Tone::Calm);
    vec![
        (tick.to_owned(), Tone::Here),
        calm(channel.number.to_string()),
        calm(channel.name.clone().unwrap_or_else(|| "–".into())),
        calm(channel.streams.join(" ")),
        state,
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::target::understand;
    use lattice_store::Camera;

    #[test]
    fn channels_that_answer_are_ticked_and_keys_tick_others() {
        let channel = |n: u32| Camera { device_name: Some(format!("Berth {n}")), channel: Some(n), ..Camera::default() };
        let cameras = [Camera::default()].into_iter().chain((1..=4).map(channel)).collect();
        let intake = Intake { cameras, channel_troubles: vec![(2, Cause::NoSuchStream)], ..Intake::default() };
        let newcomer = Newcomer::from(understand("192.0.2.40").unwrap().target);
        let mut choice = ChannelChoice::new(newcomer.clone(), &intake);
        assert_eq!(choice.ticked, BTreeSet::from([1, 3, 4]), "one that does not answer is not ticked");
        assert_eq!(choice.channels[1].trouble, Some(Cause::NoSuchStream));
        choice.select(2);
        choice.tick();
        assert_eq!((&choice.ticked, choice.row), (&BTreeSet::from([1, 4]), 3));
        assert_eq!(choice.taken(), Errand::Channels(newcomer, BTreeSet::from([1, 4])));
        choice.tick_all();
        choice.tick_all();
        assert!(choice.ticked.is_empty());
    }
}
