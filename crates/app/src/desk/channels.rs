//! Which channels of a recorder are taken in.

use super::Errand;
use crate::intake::Intake;
use lattice_core::Cause;
use lattice_core::target::Newcomer;
use std::collections::BTreeSet;

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
    pub fn taken(self) -> Errand {
        Errand::Channels(self.newcomer, self.ticked)
    }
}
