//! Where a key applies: the pages, and what stands in front of them.

use super::{Action, DeskStep, KEYMAP};
use crate::app::{BenchStep, LedgerStep, ProbeStep, StreamStep};

/// Where a key applies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Context {
    /// The wall, with or without a tile enlarged.
    Wall,
    /// The list of faults.
    Faults,
    /// The help.
    Help,
    /// The three ways in.
    Welcome,
    /// The roster.
    Roster,
    /// The search.
    Find,
    /// The line for adding.
    Add,
    /// Reach checks.
    Check,
    /// A line of text.
    Typing,
    /// The form for a sign-in.
    SignIn,
    /// One device.
    Device,
    /// The form for a device's password.
    Password,
    /// A certificate to be judged.
    Certificate,
    /// Ports that senders push to.
    Listen,
    /// The channels of a recorder.
    Channels,
    /// A list that filters as one types.
    Pick,
    /// The layouts.
    Layouts,
    /// What the planner decided.
    Plan,
    /// The numbers of the tiles.
    Numbers,
    /// The layout is changed by hand.
    Edit,
    /// Streams side by side.
    Bench,
    /// What happened.
    Ledger,
    /// One stream on the whole screen.
    Stream,
    /// The flash probe of a stream.
    Flash,
}

impl Context {
    /// Keys that are letters are text here.
    pub const fn is_text(self) -> bool {
        matches!(self, Self::Add | Self::Typing | Self::SignIn | Self::Password | Self::Pick)
    }

    /// Every one that has keys, in the order of the table.
    pub fn all() -> Vec<Self> {
        let mut all = Vec::new();
        for binding in KEYMAP {
            if !all.contains(&binding.context) {
                all.push(binding.context);
            }
        }
        all
    }

    /// The keys that lead there from the wall, and the action that does; `None` for what stands in front of a page.
    pub const fn way(self) -> Option<(&'static str, Action)> {
        Some(match self {
            Self::Roster => ("c", Action::Desk(DeskStep::Roster)),
            Self::Find => ("c, f", Action::Desk(DeskStep::Find)),
            Self::Add => ("a", Action::Desk(DeskStep::Add)),
            Self::Check => ("i", Action::Desk(DeskStep::Check)),
            Self::Device => ("c, d", Action::Desk(DeskStep::Device)),
            Self::Listen => ("c, l", Action::Desk(DeskStep::Listen)),
            Self::Bench => ("B", Action::Bench(BenchStep::Open)),
            Self::Ledger => ("G", Action::Ledger(LedgerStep::Open)),
            Self::Stream => ("J", Action::Stream(StreamStep::Open)),
            Self::Flash => ("P", Action::Flash(ProbeStep::Open)),
            Self::Wall
            | Self::Welcome
            | Self::Faults
            | Self::Help
            | Self::Typing
            | Self::SignIn
            | Self::Password
            | Self::Certificate
            | Self::Channels
            | Self::Pick
            | Self::Layouts
            | Self::Plan
            | Self::Numbers
            | Self::Edit => return None,
        })
    }

    /// Its title in the help.
    pub const fn title(self) -> &'static str {
        match self {
            Self::Wall => "Wall",
            Self::Faults => "Faults",
            Self::Help => "Help",
            Self::Welcome => "No camera yet",
            Self::Roster => "Roster",
            Self::Find => "Search",
            Self::Add => "Adding",
            Self::Check => "Reach check",
            Self::Typing => "Line of text",
            Self::SignIn => "Sign-in",
            Self::Device => "Device",
            Self::Password => "Password of a device",
            Self::Certificate => "Certificate",
            Self::Listen => "Listening ports",
            Self::Channels => "Channels of a recorder",
            Self::Pick => "List",
            Self::Layouts => "Layouts",
            Self::Plan => "Plan",
            Self::Numbers => "Tile numbers",
            Self::Edit => "Layout by hand",
            Self::Bench => "Bench",
            Self::Ledger => "Ledger",
            Self::Stream => "Stream",
            Self::Flash => "Flash probe",
        }
    }
}
