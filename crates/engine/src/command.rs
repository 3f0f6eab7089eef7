//! What the engine is told, and what it tells.

use crate::around::Around;
use crate::camera::{CameraId, FeedKey};
use crate::jobs::{DeviceNews, Errand, Intake, Taken};
use crate::listening::Listen;
use crate::steering::{Hand, HeadState};
use lattice_core::adjust::Adjust;
use lattice_core::check::Ladder;
use lattice_core::lattice::Lattice;
use lattice_core::meter::FlashStep;
use lattice_core::target::Newcomer;
use lattice_media::DamageChoice;
use lattice_net::find::{FindProgress, Found};
use lattice_report::Page;
use lattice_store::{EntryOrder, Order};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

/// How loud something is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Loudness {
    /// It is worth knowing.
    Text,
    /// It wants the eye.
    Bright,
    /// Something failed.
    Alarm,
}

/// Pages that are drawn where they are written, not where they were asked for.
pub struct Drawing(pub Box<dyn FnOnce() -> Vec<Page> + Send>);

impl std::fmt::Debug for Drawing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Drawing")
    }
}

impl PartialEq for Drawing {
    fn eq(&self, _: &Self) -> bool {
        false
    }
}

/// A place of a contact sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SheetPlace {
    /// This stream's picture.
    Stream(FeedKey),
    /// No picture: what stands there instead.
    Empty(String),
}

/// What the engine is told.
#[derive(Debug, PartialEq)]
pub enum Command {
    /// Try a stream again now.
    Retry(FeedKey),
    /// What was not chosen of this camera because it failed or was too heavy may be tried again.
    Unbar(CameraId),
    /// The planner need not wait before it takes more for this camera: the operator wants it now.
    PlanAnew(CameraId),
    /// Treat damaged pictures so, everywhere.
    Damage(DamageChoice),
    /// A step of the flash probe of a stream.
    Flash(FeedKey, FlashStep),
    /// Another receive buffer for a stream, or that of its place; kept where its camera is in the site.
    Buffer(FeedKey, Option<Duration>),
    /// Something becomes of a ledger entry.
    Entry(u64, EntryOrder),
    /// Look up what lies around a ledger entry: [`News::Around`].
    Around(u64),
    /// Keep the picture of a stream.
    Still(FeedKey),
    /// Keep a still of this stream that its pictures of the next 2 s are averaged into.
    Burst(FeedKey),
    /// Keep the pictures of a screen on one sheet, with this title.
    Sheet(String, Vec<SheetPlace>),
    /// Write a report of this time back to a file, named as it was typed.
    Report(String, Duration),
    /// Write charts with this title into the folder that the program was started in.
    Charts(String, Drawing),
    /// Look what other screens show.
    AskScreens,
    /// Send something to another screen.
    Send(String, Order),
    /// Work on the site and its devices.
    Errand(Errand),
    /// Show a camera's pictures adjusted so, from this many hundredths of their width on, without keeping it; as the site has it
    /// for `None`.
    Adjust(CameraId, Option<(Adjust, u8)>),
    /// Whether to tell how the levels of a camera's pictures are spread.
    Tones(CameraId, bool),
    /// Listen to cameras, or do not.
    Listen(Listen),
    /// Somebody's hand does something on the head of a camera, by its name.
    Steer(String, Hand),
}

/// What the engine tells a screen, besides its state.
#[derive(Debug, Clone)]
pub enum News {
    /// Something to be said to the operator.
    Say(Loudness, String),
    /// A search begins.
    SearchBegins,
    /// A device answered.
    Found(Found),
    /// How far the search is.
    Searching(FindProgress),
    /// These are being asked, to be taken in.
    Asking(Vec<String>),
    /// What became of one who was to be taken in.
    Taken(Taken),
    /// One who was to be taken in was asked; whether a sign-in would help.
    Asked(Newcomer, bool),
    /// A recorder whose channels are to be chosen.
    Choose(Newcomer, Box<Intake>),
    /// A check of this camera went on, or ended.
    Checked(String, Ladder, bool),
    /// A device was asked.
    Device(String, DeviceNews),
    /// A camera came.
    Added(String),
    /// A camera has another name: from, to.
    Renamed(String, String),
    /// The lattices are in the site file as they were given.
    LatticesSaved,
    /// Lattices that were read from a file.
    Imported(Vec<Lattice>),
    /// The text of a list that was read.
    List(String),
    /// What lies around an entry of the ledger.
    Around(Arc<Around>),
    /// How the head of a camera stands that somebody steers.
    Head(String, Box<HeadState>),
    /// The terminal's bell is to be rung.
    Bell,
    /// This camera is to get a place, from 0, for so long.
    Front(String, usize, Duration),
    /// The desktop is to show a notification: title and text.
    Notify(String, String),
    /// Something was sent to this screen.
    Order(Order),
    /// What the screens show that run, by their names.
    Screens(BTreeMap<String, String>),
}
