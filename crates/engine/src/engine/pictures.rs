//! Pictures that are kept: those that an operator asks for, and the last and the first around whatever happens.

use super::machine::Machine;
use crate::around::{Around, SIZE, jpeg};
use crate::camera::FeedKey;
use crate::command::{Loudness, SheetPlace};
use crate::jobs::{Burst, Facts, ON_A_SHEET};
use crate::keeper::KeeperNews;
use lattice_store::{KeptPicture, StreamName};
use std::sync::Arc;

/// A still is as large as its stream.
const FULL: (usize, usize) = (16_384, 16_384);

impl Machine {
    /// The operator wants one camera's picture kept.
    pub(super) fn keep_still(&mut self, key: FeedKey) {
        self.stills.ask_one(key);
        self.feeds.ask_still(key, FULL);
    }

    /// The operator wants one camera's pictures of the next 2 s averaged.
    pub(super) fn keep_burst(&mut self, key: FeedKey) {
        if self.burst.is_some() {
            return self.say(Loudness::Text, "pictures are being gathered for another one: a moment");
        }
        self.burst = Some(Burst::begin(key, self.now.mono));
        self.feeds.ask_still(key, FULL);
    }

    /// The operator wants the pictures of a screen kept.
    pub(super) fn keep_sheet(&mut self, title: String, places: Vec<SheetPlace>) {
        let facts = Facts { cameras: &self.cameras, figures: &self.figures, now: self.now };
        for key in self.stills.ask_sheet(title, places, &facts) {
            self.feeds.ask_still(key, ON_A_SHEET);
        }
    }

    /// Pictures that the operator asked for came.
    pub(super) fn take_stills(&mut self) {
        let facts = Facts { cameras: &self.cameras, figures: &self.figures, now: self.now };
        let came = self.feeds.stills();
        if let Some(burst) = &mut self.burst {
            let key = burst.key();
            let own: Vec<_> = came.iter().filter(|(of, _)| *of == key).map(|(_, picture)| picture.clone()).collect();
            if burst.take(self.now.mono, own) {
                self.feeds.ask_still(key, FULL);
            }
            if let Some(burst) = self.burst.take_if(|burst| burst.is_over(facts.now.mono)) {
                self.stills.write_burst(&facts, burst);
            }
        }
        match self.stills.take(&facts, came) {
            Some(Ok(text)) => self.say(Loudness::Text, text),
            Some(Err(text)) => self.say(Loudness::Alarm, text),
            None => {}
        }
    }

    /// Where something began or ended, the last picture goes into the record.
    pub(super) fn keep_last_pictures(&mut self) {
        let Some(keeper) = self.keeper.as_ref().filter(|_| !self.watch.is_elsewhere()) else { return };
        for key in self.recalls.due(self.now.mono, &self.figures) {
            self.feeds.recall(key, SIZE);
        }
        let mut kept = Vec::new();
        for (key, picture) in self.feeds.recalled() {
            self.recalls.came(key);
            let of = StreamName { camera: self.cameras.name(key.camera).to_owned(), stream: key.role.word().to_owned() };
            let at = self.now.wall(picture.ready);
            kept.extend(jpeg(&picture).map(|jpeg| KeptPicture { of, at, jpeg }));
        }
        keeper.keep_pictures(kept);
    }

    /// Somebody looks at an entry: what the record has around it.
    pub(super) fn look_around_entry(&mut self, id: u64) {
        let entry = self.watch.ledger().entries().iter().find(|entry| entry.id == id).cloned();
        let (Some(entry), now) = (entry, self.now.utc) else { return };
        let (readings, missing) = self.watch.take_unkept();
        let Some(keeper) = &self.keeper else { return };
        keeper.keep_history(readings, missing);
        let look_up = move |record: &_| Ok(KeeperNews::Around(Arc::new(Around::look_up(record, &entry, now)?)));
        keeper.ask(Box::new(look_up));
    }
}
