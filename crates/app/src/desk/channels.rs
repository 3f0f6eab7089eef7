//! Which channels of a recorder are taken in.

use lattice_core::Cause;
use lattice_core::target::Newcomer;
use lattice_engine::jobs::{Errand, Intake};
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
        assert_eq!(choice.clone().taken(), Errand::Channels(newcomer, BTreeSet::from([1, 4])));
        choice.tick_all();
        choice.tick_all();
        assert!(choice.ticked.is_empty());
    }
}
