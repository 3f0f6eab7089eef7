//! Keys and what they do: one table, from which help and footer are printed.

mod context;
mod steps;

pub use context::Context;
pub use steps::{DeskStep, WallStep};

use crate::app::{BenchStep, EditStep, LedgerStep, ProbeStep, StreamStep};
use lattice_store::Role;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// What is typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TypingKind {
    /// The filter of the roster.
    Filter,
    /// Another name.
    Rename,
    /// Another group.
    Group,
    /// Ranges to scan.
    Ranges,
}

/// What a key does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Select the tile in this direction: columns, rows.
    Move(i32, i32),
    /// Select the next tile, or with -1 the one before.
    Step(i32),
    /// Enlarge the selected tile, or return to the wall.
    Enlarge,
    /// Back to the wall.
    Back,
    /// Switch between main and sub.
    SwitchStream,
    /// Try a lost or locked stream again now.
    Retry,
    /// Hold the last clean picture after a loss, or show damaged ones.
    DamageChoice,
    /// Choose a fault for the selected stand-in camera.
    Faults,
    /// Order the fault with this number.
    Order(usize),
    /// A step of getting cameras in.
    Desk(DeskStep),
    /// A step of the wall.
    Wall(WallStep),
    /// A step of changing the layout by hand.
    Edit(EditStep),
    /// A step on the bench.
    Bench(BenchStep),
    /// A step in the ledger.
    Ledger(LedgerStep),
    /// Write the charts on the screen to a file.
    WriteCharts,
    /// A step on the page of a stream.
    Stream(StreamStep),
    /// A step of the flash probe.
    Flash(ProbeStep),
    /// Move the selected line of a list.
    PickRow(i32),
    /// Take what is selected in front of the wall.
    Take,
    /// Show the help.
    Help,
    /// Scroll the help.
    Scroll(i32),
    /// Leave.
    Quit,
}

/// A row of the table.
#[derive(Debug)]
pub struct Binding {
    /// Where.
    pub context: Context,
    /// Keys as they are shown, separated by spaces; also parsed from this.
    pub keys: &'static str,
    /// What.
    pub action: Action,
    /// In the help.
    pub help: &'static str,
    /// In the footer, where it is important enough.
    pub hint: Option<&'static str>,
}

const fn row(context: Context, keys: &'static str, action: Action, help: &'static str, hint: Option<&'static str>) -> Binding {
    Binding { context, keys, action, help, hint }
}

/// Every key.
pub const KEYMAP: &[Binding] = &[
    row(Context::Wall, "left h", Action::Move(-1, 0), "select the tile to the left", None),
    row(Context::Wall, "right l", Action::Move(1, 0), "select the tile to the right", None),
    row(Context::Wall, "up k", Action::Move(0, -1), "select the tile above", None),
    row(Context::Wall, "down j", Action::Move(0, 1), "select the tile below", None),
    row(Context::Wall, "tab", Action::Step(1), "select the next tile, also while one is enlarged", None),
    row(Context::Wall, "backtab", Action::Step(-1), "select the tile before", None),
    row(Context::Wall, "enter", Action::Enlarge, "enlarge the selected tile, or return; also a double click", Some("enlarge")),
    row(Context::Wall, "esc", Action::Back, "return to the wall", None),
    row(
        Context::Wall,
        "m",
        Action::SwitchStream,
        "hold the tile on its other stream; on round to automatic again; a still: live instead",
        Some("main/sub"),
    ),
    row(Context::Wall, "M", Action::Wall(WallStep::HoldAll), "hold every tile on sub, on main, or on none", None),
    row(
        Context::Wall,
        "o",
        Action::Wall(WallStep::Plan),
        "the plan: each tile's stream with its reason, and the budgets",
        Some("plan"),
    ),
    row(
        Context::Wall,
        "/",
        Action::Wall(WallStep::Palette),
        "everything by a few letters: actions, cameras, lattices",
        Some("all"),
    ),
    row(
        Context::Wall,
        "B",
        Action::Bench(BenchStep::Open),
        "the bench: main and sub of this camera side by side; add others there",
        Some("bench"),
    ),
    row(
        Context::Wall,
        "G",
        Action::Ledger(LedgerStep::Open),
        "the ledger: what happened, why, and what needs a hand",
        Some("ledger"),
    ),
    row(
        Context::Wall,
        "J",
        Action::Stream(StreamStep::Open),
        "its stream: all figures, charts over a minute to a day, events",
        Some("stream"),
    ),
    row(
        Context::Wall,
        "P",
        Action::Flash(ProbeStep::Open),
        "the flash probe: its latency from glass to glass, by flashes of this screen",
        None,
    ),
    row(Context::Wall, "v", Action::Wall(WallStep::Layouts), "choose a layout", Some("layout")),
    row(Context::Wall, "V", Action::Wall(WallStep::Edit), "change the layout by hand: split, join, move borders", None),
    row(Context::Wall, "p", Action::Wall(WallStep::Put), "put a camera into the selected tile", Some("put")),
    row(Context::Wall, "n", Action::Wall(WallStep::NextCamera(1)), "the next camera into the selected tile", None),
    row(Context::Wall, "N", Action::Wall(WallStep::NextCamera(-1)), "the camera before into the selected tile", None),
    row(
        Context::Wall,
        "x",
        Action::Wall(WallStep::Swap),
        "lift the selected tile; on another one: swap the two; also by mouse",
        None,
    ),
    row(Context::Wall, "del backspace", Action::Wall(WallStep::Clear), "empty the selected tile", None),
    row(Context::Wall, "g", Action::Wall(WallStep::Fill), "fill the empty tiles with a group", None),
    row(Context::Wall, "z", Action::Wall(WallStep::Aspect), "fit, fill or stretch the picture in its tile", None),
    row(Context::Wall, "b", Action::Wall(WallStep::Mark), "mark the tile to remember it, or not any more", None),
    row(Context::Wall, "u", Action::Wall(WallStep::Undo), "undo the last change of a lattice", None),
    row(Context::Wall, "U ctrl-r", Action::Wall(WallStep::Redo), "do again what was undone", None),
    row(Context::Wall, "]", Action::Wall(WallStep::Page(1)), "the next page", None),
    row(Context::Wall, "[", Action::Wall(WallStep::Page(-1)), "the page before", None),
    row(Context::Wall, "0", Action::Wall(WallStep::Lattice(0)), "all cameras", None),
    row(Context::Wall, "1", Action::Wall(WallStep::Lattice(1)), "the first lattice; 2 to 9: the others", None),
    row(Context::Wall, "2", Action::Wall(WallStep::Lattice(2)), "", None),
    row(Context::Wall, "3", Action::Wall(WallStep::Lattice(3)), "", None),
    row(Context::Wall, "4", Action::Wall(WallStep::Lattice(4)), "", None),
    row(Context::Wall, "5", Action::Wall(WallStep::Lattice(5)), "", None),
    row(Context::Wall, "6", Action::Wall(WallStep::Lattice(6)), "", None),
    row(Context::Wall, "7", Action::Wall(WallStep::Lattice(7)), "", None),
    row(Context::Wall, "8", Action::Wall(WallStep::Lattice(8)), "", None),
    row(Context::Wall, "9", Action::Wall(WallStep::Lattice(9)), "", None),
    row(Context::Wall, "t", Action::Wall(WallStep::Tour), "begin a tour; hold it, let it run on; esc ends it", None),
    row(Context::Wall, "y", Action::Wall(WallStep::GiveBack), "give back the tiles that cameras in trouble took in a tour", None),
    row(Context::Wall, "e", Action::Wall(WallStep::Send), "send the lattice, or the enlarged camera, to another screen", None),
    row(Context::Wall, "L", Action::Wall(WallStep::Lattices), "the lattices: choose one", None),
    row(Context::Wall, "w", Action::Wall(WallStep::Save), "save the lattices", None),
    row(Context::Wall, "W", Action::Wall(WallStep::Duplicate), "make another lattice of this one", None),
    row(Context::Wall, "E", Action::Wall(WallStep::Rename), "give the lattice another name", None),
    row(Context::Wall, "X", Action::Wall(WallStep::Remove), "take the lattice out", None),
    row(Context::Wall, "D", Action::Wall(WallStep::Export), "write the lattice to a file of its own", None),
    row(Context::Wall, "F", Action::Wall(WallStep::Import), "read lattices from a file", None),
    row(Context::Wall, "-", Action::Wall(WallStep::Brightness(-1)), "the whole interface darker, for a dark room", None),
    row(Context::Wall, "+ =", Action::Wall(WallStep::Brightness(1)), "brighter again", None),
    row(Context::Wall, "T", Action::Wall(WallStep::Light), "a light ground for a bright room, or a dark one", None),
    row(Context::Wall, ",", Action::Wall(WallStep::Names), "the names large for a moment", None),
    row(
        Context::Wall,
        "Z",
        Action::Wall(WallStep::Paint),
        "paint pictures another way: kitty graphics, sixel, inline images, quadrants, half blocks",
        None,
    ),
    row(
        Context::Wall,
        "K",
        Action::Wall(WallStep::Still),
        "keep a still of the selected tile, at full size, with its figures",
        None,
    ),
    row(Context::Wall, "C", Action::Wall(WallStep::Sheet), "keep a contact sheet of the wall", None),
    row(Context::Wall, "S", Action::Wall(WallStep::Care), "burn-in care: all of it moves by a cell now and then, or stays", None),
    row(Context::Wall, ".", Action::Wall(WallStep::Numbers), "the numbers of the tiles: type one and enter to go there", None),
    row(Context::Wall, "r", Action::Retry, "try a lost or locked stream again now", Some("retry")),
    row(Context::Wall, "d", Action::DamageChoice, "after a loss: hold the last clean picture, or show damaged ones marked", None),
    row(Context::Wall, "f", Action::Faults, "order a fault from the selected stand-in camera (demo)", Some("fault")),
    row(Context::Wall, "c", Action::Desk(DeskStep::Roster), "the roster: all cameras, find and add some", Some("cameras")),
    row(Context::Wall, "a", Action::Desk(DeskStep::Add), "add a camera by its address; or paste one anywhere", None),
    row(
        Context::Wall,
        "s",
        Action::Desk(DeskStep::SignIn),
        "sign in to it, enter its key, or judge its certificate",
        Some("sign in"),
    ),
    row(Context::Wall, "i", Action::Desk(DeskStep::Check), "reach check of the selected camera", None),
    row(Context::Wall, "?", Action::Help, "this help", Some("help")),
    row(Context::Wall, "q ctrl-c", Action::Quit, "leave", Some("quit")),
    row(Context::Welcome, "f", Action::Desk(DeskStep::Find), "find cameras on the network", Some("find")),
    row(Context::Welcome, "a", Action::Desk(DeskStep::Add), "add one by its address", Some("add")),
    row(Context::Welcome, "c", Action::Desk(DeskStep::Roster), "the roster", None),
    row(Context::Welcome, "?", Action::Help, "this help", Some("help")),
    row(Context::Welcome, "q ctrl-c", Action::Quit, "leave", Some("quit")),
    row(Context::Roster, "down j", Action::Desk(DeskStep::Row(1)), "the next camera", None),
    row(Context::Roster, "up k", Action::Desk(DeskStep::Row(-1)), "the camera before", None),
    row(Context::Roster, "pgdn", Action::Desk(DeskStep::Row(15)), "a page down", None),
    row(Context::Roster, "pgup", Action::Desk(DeskStep::Row(-15)), "a page up", None),
    row(Context::Roster, "enter", Action::Desk(DeskStep::Show), "show it on the wall, enlarged", Some("show")),
    row(Context::Roster, "/", Action::Desk(DeskStep::Type(TypingKind::Filter)), "filter as you type", Some("filter")),
    row(Context::Roster, "f", Action::Desk(DeskStep::Find), "find cameras on the network", Some("find")),
    row(Context::Roster, "a", Action::Desk(DeskStep::Add), "add one by its address", Some("add")),
    row(Context::Roster, "l", Action::Desk(DeskStep::Listen), "ports that senders push to", None),
    row(Context::Roster, "s", Action::Desk(DeskStep::SignIn), "sign in to it, or to its group", Some("sign in")),
    row(Context::Roster, "i", Action::Desk(DeskStep::Check), "reach check of it", Some("check")),
    row(
        Context::Roster,
        "d",
        Action::Desk(DeskStep::Device),
        "its device: streams, encoders, clock, accounts, address",
        Some("device"),
    ),
    row(Context::Roster, "I", Action::Desk(DeskStep::CheckAll), "reach check of all cameras", None),
    row(Context::Roster, "e", Action::Desk(DeskStep::Type(TypingKind::Rename)), "give it another name", Some("rename")),
    row(Context::Roster, "g", Action::Desk(DeskStep::Type(TypingKind::Group)), "put it into a group", None),
    row(Context::Roster, "B", Action::Bench(BenchStep::Open), "the bench: its main and sub side by side", None),
    row(Context::Roster, "o", Action::Desk(DeskStep::Toggle), "switch it off or on", None),
    row(Context::Roster, "x", Action::Desk(DeskStep::Remove), "take it out of the site", Some("remove")),
    row(Context::Roster, "u", Action::Desk(DeskStep::Undo), "bring the last one back", None),
    row(Context::Roster, "t", Action::Desk(DeskStep::Sort), "sort by the next column; also a click on its title", Some("sort")),
    row(Context::Roster, "T", Action::Desk(DeskStep::Reverse), "sort the other way round", None),
    row(
        Context::Roster,
        "v",
        Action::Desk(DeskStep::GroupBy),
        "group by group, recorder, maker, verdict, or nothing",
        Some("group by"),
    ),
    row(Context::Roster, "?", Action::Help, "this help", Some("help")),
    row(Context::Roster, "esc q c", Action::Back, "back to the wall", Some("wall")),
    row(Context::Roster, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Find, "down j", Action::Desk(DeskStep::Row(1)), "the next device", None),
    row(Context::Find, "up k", Action::Desk(DeskStep::Row(-1)), "the device before", None),
    row(Context::Find, "pgdn", Action::Desk(DeskStep::Row(15)), "a page down", None),
    row(Context::Find, "pgup", Action::Desk(DeskStep::Row(-15)), "a page up", None),
    row(Context::Find, "space", Action::Desk(DeskStep::Tick), "tick it", Some("tick")),
    row(Context::Find, "A", Action::Desk(DeskStep::TickAll), "tick all that are not in the site, or none", Some("tick all")),
    row(Context::Find, "enter", Action::Desk(DeskStep::Take), "take in what is ticked, or the selected one", Some("take in")),
    row(Context::Find, "s", Action::Desk(DeskStep::SignIn), "sign in to those that were refused", None),
    row(Context::Find, "n", Action::Desk(DeskStep::Type(TypingKind::Ranges)), "other ranges to scan", Some("ranges")),
    row(
        Context::Find,
        "r",
        Action::Desk(DeskStep::SearchAgain),
        "search again: what is new and what has gone is marked",
        Some("again"),
    ),
    row(Context::Find, "z", Action::Desk(DeskStep::EndSearch), "end the search", None),
    row(Context::Find, "?", Action::Help, "this help", Some("help")),
    row(Context::Find, "esc q", Action::Back, "back", Some("back")),
    row(Context::Find, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Add, "enter", Action::Desk(DeskStep::Take), "take in what is understood", Some("take in")),
    row(Context::Add, "ctrl-s", Action::Desk(DeskStep::SignIn), "sign in to those that were refused", Some("sign in")),
    row(Context::Add, "esc", Action::Back, "back", Some("back")),
    row(Context::Add, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Check, "down j", Action::Desk(DeskStep::Row(1)), "the next check", None),
    row(Context::Check, "up k", Action::Desk(DeskStep::Row(-1)), "the check before", None),
    row(Context::Check, "i", Action::Desk(DeskStep::Check), "check again", Some("again")),
    row(
        Context::Check,
        "m",
        Action::Desk(DeskStep::Lighter),
        "too heavy: show its sub stream on the wall instead",
        Some("sub stream"),
    ),
    row(
        Context::Check,
        "n",
        Action::Desk(DeskStep::Readdress),
        "take the address at which a device was found that has moved",
        None,
    ),
    row(Context::Check, "s", Action::Desk(DeskStep::SignIn), "sign in", Some("sign in")),
    row(Context::Check, "?", Action::Help, "this help", Some("help")),
    row(Context::Check, "esc q", Action::Back, "back", Some("back")),
    row(Context::Check, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Device, "down j", Action::Desk(DeskStep::Row(1)), "the next stream", None),
    row(Context::Device, "up k", Action::Desk(DeskStep::Row(-1)), "the stream before", None),
    row(Context::Device, "right l tab", Action::Desk(DeskStep::Setting(1)), "the next setting", Some("setting")),
    row(Context::Device, "left h backtab", Action::Desk(DeskStep::Setting(-1)), "the setting before", None),
    row(Context::Device, "+ =", Action::Desk(DeskStep::Step(true)), "more of it", Some("more")),
    row(Context::Device, "-", Action::Desk(DeskStep::Step(false)), "less of it", Some("less")),
    row(Context::Device, "enter", Action::Desk(DeskStep::Apply), "set the encoder so", Some("set")),
    row(Context::Device, "b", Action::Desk(DeskStep::Back), "set it back as it was before", Some("set back")),
    row(
        Context::Device,
        "1",
        Action::Desk(DeskStep::Assign(Role::Main)),
        "make the selected stream the camera's main",
        Some("main"),
    ),
    row(Context::Device, "2", Action::Desk(DeskStep::Assign(Role::Sub)), "make it its sub", Some("sub")),
    row(Context::Device, "3", Action::Desk(DeskStep::Assign(Role::Third)), "make it its third", Some("third")),
    row(Context::Device, "t", Action::Desk(DeskStep::SetClock), "set its clock to this machine's", Some("set clock")),
    row(Context::Device, "p", Action::Desk(DeskStep::Password), "its first password, or another one", Some("password")),
    row(Context::Device, "y", Action::Desk(DeskStep::Dhcp), "switch between DHCP and a fixed address", None),
    row(Context::Device, "s", Action::Desk(DeskStep::SignIn), "sign in", None),
    row(Context::Device, "r", Action::Desk(DeskStep::Device), "ask it again", None),
    row(Context::Device, "?", Action::Help, "this help", Some("help")),
    row(Context::Device, "esc q", Action::Back, "back", Some("back")),
    row(Context::Device, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Password, "enter", Action::Desk(DeskStep::Done), "to the next field; at the last, set it", Some("set")),
    row(Context::Password, "tab", Action::Desk(DeskStep::NextField), "to the next field", Some("next field")),
    row(
        Context::Password,
        "ctrl-g",
        Action::Desk(DeskStep::WholeGroup),
        "on the whole group, or this one only",
        Some("whole group"),
    ),
    row(Context::Password, "esc", Action::Desk(DeskStep::Cancel), "not now", Some("cancel")),
    row(Context::Password, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Channels, "down j", Action::Desk(DeskStep::Row(1)), "the next channel", None),
    row(Context::Channels, "up k", Action::Desk(DeskStep::Row(-1)), "the channel before", None),
    row(Context::Channels, "space", Action::Desk(DeskStep::Tick), "tick it", Some("tick")),
    row(Context::Channels, "A", Action::Desk(DeskStep::TickAll), "tick all, or none", Some("tick all")),
    row(Context::Channels, "enter", Action::Desk(DeskStep::Take), "take the recorder in with what is ticked", Some("take in")),
    row(Context::Channels, "esc", Action::Desk(DeskStep::Cancel), "take nothing of it in", Some("not now")),
    row(Context::Channels, "ctrl-c", Action::Quit, "leave", None),
    row(
        Context::Certificate,
        "p",
        Action::Desk(DeskStep::Pin),
        "trust this certificate, and no other from this camera",
        Some("pin it"),
    ),
    row(
        Context::Certificate,
        "o",
        Action::Desk(DeskStep::TrustAny),
        "do not verify the certificate of this camera",
        Some("do not verify"),
    ),
    row(Context::Certificate, "esc", Action::Desk(DeskStep::Cancel), "not now", Some("cancel")),
    row(Context::Certificate, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Listen, "down j", Action::Desk(DeskStep::Row(1)), "the next port", None),
    row(Context::Listen, "up k", Action::Desk(DeskStep::Row(-1)), "the port before", None),
    row(Context::Listen, "enter", Action::Desk(DeskStep::Show), "show it on the wall, enlarged", Some("show")),
    row(Context::Listen, "a", Action::Desk(DeskStep::AddListener), "listen on one more port", Some("add")),
    row(Context::Listen, "e", Action::Desk(DeskStep::Type(TypingKind::Rename)), "give it another name", Some("rename")),
    row(Context::Listen, "o", Action::Desk(DeskStep::Toggle), "switch it off or on", Some("off/on")),
    row(Context::Listen, "x", Action::Desk(DeskStep::Remove), "listen on it no longer", Some("remove")),
    row(Context::Listen, "u", Action::Desk(DeskStep::Undo), "bring the last one back", None),
    row(Context::Listen, "s", Action::Desk(DeskStep::SignIn), "enter the key of an encrypted stream", None),
    row(Context::Listen, "?", Action::Help, "this help", Some("help")),
    row(Context::Listen, "esc q", Action::Back, "back", Some("back")),
    row(Context::Listen, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Typing, "enter", Action::Desk(DeskStep::Done), "done", Some("done")),
    row(Context::Typing, "esc", Action::Desk(DeskStep::Cancel), "leave it as it was", Some("cancel")),
    row(Context::Typing, "ctrl-c", Action::Quit, "leave", None),
    row(Context::SignIn, "enter", Action::Desk(DeskStep::Done), "sign in", Some("sign in")),
    row(Context::SignIn, "tab backtab", Action::Desk(DeskStep::NextField), "to the other field", Some("other field")),
    row(
        Context::SignIn,
        "ctrl-g",
        Action::Desk(DeskStep::WholeGroup),
        "for the whole group, or this one only",
        Some("whole group"),
    ),
    row(Context::SignIn, "esc", Action::Desk(DeskStep::Cancel), "not now", Some("cancel")),
    row(Context::SignIn, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Pick, "down", Action::PickRow(1), "the next line", None),
    row(Context::Pick, "up", Action::PickRow(-1), "the line before", None),
    row(Context::Pick, "pgdn", Action::PickRow(10), "further down", None),
    row(Context::Pick, "pgup", Action::PickRow(-10), "further up", None),
    row(Context::Pick, "enter", Action::Take, "take it", Some("take")),
    row(Context::Pick, "esc", Action::Back, "back", Some("back")),
    row(Context::Pick, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Layouts, "left h", Action::Move(-1, 0), "the layout before", None),
    row(Context::Layouts, "right l tab", Action::Move(1, 0), "the next layout", None),
    row(Context::Layouts, "up k", Action::Move(0, -1), "the layout above", None),
    row(Context::Layouts, "down j", Action::Move(0, 1), "the layout below", None),
    row(Context::Layouts, "enter", Action::Take, "take it; cameras keep their order", Some("take")),
    row(Context::Layouts, "esc v q", Action::Back, "back", Some("back")),
    row(Context::Layouts, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Plan, "down j", Action::Scroll(1), "further down", None),
    row(Context::Plan, "up k", Action::Scroll(-1), "further up", None),
    row(Context::Plan, "pgdn space", Action::Scroll(10), "a page down", None),
    row(Context::Plan, "pgup", Action::Scroll(-10), "a page up", None),
    row(Context::Plan, "esc o q", Action::Back, "back", Some("back")),
    row(Context::Plan, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Numbers, "enter", Action::Take, "go to the tile with the number typed", Some("go there")),
    row(Context::Numbers, "esc . q", Action::Back, "back", Some("back")),
    row(Context::Numbers, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Edit, "left h", Action::Move(-1, 0), "select the place to the left", None),
    row(Context::Edit, "right l", Action::Move(1, 0), "select the place to the right", None),
    row(Context::Edit, "up k", Action::Move(0, -1), "select the place above", None),
    row(Context::Edit, "down j", Action::Move(0, 1), "select the place below", None),
    row(Context::Edit, "s", Action::Edit(EditStep::Split(true)), "split it side by side", Some("split")),
    row(Context::Edit, "S", Action::Edit(EditStep::Split(false)), "split it one above the other", Some("split across")),
    row(Context::Edit, "space", Action::Edit(EditStep::Tick), "tick it, to be joined", Some("tick")),
    row(Context::Edit, "enter", Action::Edit(EditStep::Join), "join what is ticked with the selected place", Some("join")),
    row(Context::Edit, "> +", Action::Edit(EditStep::Wider(1)), "wider; borders also by mouse", Some("wider")),
    row(Context::Edit, "< -", Action::Edit(EditStep::Wider(-1)), "narrower", Some("narrower")),
    row(Context::Edit, "}", Action::Edit(EditStep::Taller(1)), "taller", Some("taller")),
    row(Context::Edit, "{", Action::Edit(EditStep::Taller(-1)), "lower", Some("lower")),
    row(Context::Edit, "u", Action::Wall(WallStep::Undo), "undo", Some("undo")),
    row(Context::Edit, "U ctrl-r", Action::Wall(WallStep::Redo), "do again what was undone", None),
    row(Context::Edit, "w", Action::Wall(WallStep::Save), "save the lattices", None),
    row(Context::Edit, "esc V q", Action::Back, "done", Some("done")),
    row(Context::Edit, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Bench, "right l tab", Action::Bench(BenchStep::Select(1)), "select the next stream", None),
    row(Context::Bench, "left h backtab", Action::Bench(BenchStep::Select(-1)), "select the stream before", None),
    row(Context::Bench, "a", Action::Bench(BenchStep::Add), "add a stream, four at most", Some("add")),
    row(Context::Bench, "x", Action::Bench(BenchStep::Remove), "take the selected stream off", Some("remove")),
    row(Context::Bench, "m", Action::Bench(BenchStep::SwitchStream), "the camera's other stream in its place", Some("main/sub")),
    row(Context::Bench, "t", Action::Bench(BenchStep::BothTransports), "the selected stream by UDP and by TCP", Some("UDP/TCP")),
    row(
        Context::Bench,
        "A",
        Action::Bench(BenchStep::Align),
        "align: delay all to the slowest, so that one event appears at once; or not",
        Some("align"),
    ),
    row(Context::Bench, "+ =", Action::Bench(BenchStep::Buffer(1)), "20 ms more receive buffer", Some("buffer")),
    row(Context::Bench, "-", Action::Bench(BenchStep::Buffer(-1)), "20 ms less", None),
    row(
        Context::Bench,
        "p",
        Action::Bench(BenchStep::TakeProposal),
        "the buffer that was measured to be enough",
        Some("proposed"),
    ),
    row(Context::Bench, "P", Action::Bench(BenchStep::DefaultBuffer), "the default buffer of its place again", None),
    row(Context::Bench, "s", Action::Bench(BenchStep::Span), "look back on 1 minute, 10 minutes, 1 hour, 1 day", Some("span")),
    row(
        Context::Bench,
        "down j",
        Action::Bench(BenchStep::Charts(1)),
        "the next chart first, where there is no room for all",
        None,
    ),
    row(Context::Bench, "up k", Action::Bench(BenchStep::Charts(-1)), "the chart before", None),
    row(Context::Bench, "w", Action::WriteCharts, "write the charts to an SVG file", Some("write")),
    row(Context::Bench, "?", Action::Help, "this help", Some("help")),
    row(Context::Bench, "esc q B", Action::Back, "back to the wall", Some("back")),
    row(Context::Bench, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Ledger, "down j", Action::Ledger(LedgerStep::Row(1)), "the next entry", None),
    row(Context::Ledger, "up k", Action::Ledger(LedgerStep::Row(-1)), "the entry before", None),
    row(Context::Ledger, "pgdn", Action::Ledger(LedgerStep::Row(15)), "a page down", None),
    row(Context::Ledger, "pgup", Action::Ledger(LedgerStep::Row(-15)), "a page up", None),
    row(Context::Ledger, "a", Action::Ledger(LedgerStep::Acknowledge), "take note of it, or not any more", Some("take note")),
    row(Context::Ledger, "z", Action::Ledger(LedgerStep::Shelve), "it asks for nobody for an hour, or again", Some("shelve")),
    row(Context::Ledger, "n", Action::Ledger(LedgerStep::Note), "write a note to it", Some("note")),
    row(
        Context::Ledger,
        "/",
        Action::Ledger(LedgerStep::Filter),
        "only entries with these words: camera, group, kind, cause; >5 longer than 5 s",
        Some("filter"),
    ),
    row(Context::Ledger, "o", Action::Ledger(LedgerStep::Only), "all, only what goes on, only what needs a hand", Some("only")),
    row(Context::Ledger, "v", Action::Ledger(LedgerStep::Lanes), "all cameras as lanes over time, or the entries", Some("lanes")),
    row(Context::Ledger, "W", Action::WriteCharts, "write the lanes to an SVG file", None),
    row(Context::Ledger, "s", Action::Ledger(LedgerStep::Span), "the lanes over 10 minutes, 1, 8, 24 hours", Some("span")),
    row(Context::Ledger, "enter", Action::Ledger(LedgerStep::Show), "show its camera on the wall, enlarged", Some("show")),
    row(
        Context::Ledger,
        "w",
        Action::Ledger(LedgerStep::Report),
        "write a report of the time of the lanes: PDF, SVG, CSV or JSON",
        Some("report"),
    ),
    row(Context::Ledger, "?", Action::Help, "this help", Some("help")),
    row(Context::Ledger, "esc q G", Action::Back, "back to the wall", Some("back")),
    row(Context::Ledger, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Stream, "left h", Action::Stream(StreamStep::Cursor(2)), "read all charts further back", Some("read")),
    row(Context::Stream, "right l", Action::Stream(StreamStep::Cursor(-2)), "nearer to now", None),
    row(
        Context::Stream,
        "down j",
        Action::Stream(StreamStep::Charts(1)),
        "the next chart first, where there is no room for all",
        None,
    ),
    row(Context::Stream, "up k", Action::Stream(StreamStep::Charts(-1)), "the chart before", None),
    row(Context::Stream, "m", Action::Stream(StreamStep::SwitchStream), "the camera's other stream", Some("main/sub")),
    row(Context::Stream, "b", Action::Stream(StreamStep::Beside), "the camera's other stream beside it", Some("beside")),
    row(Context::Stream, "s", Action::Stream(StreamStep::Span), "look back on 1 minute, 10 minutes, 1 hour, 1 day", Some("span")),
    row(
        Context::Stream,
        "f",
        Action::Flash(ProbeStep::Open),
        "measure its latency from glass to glass, by flashes of this screen",
        Some("flash"),
    ),
    row(Context::Stream, "w", Action::WriteCharts, "write the charts to an SVG file", Some("write")),
    row(Context::Stream, "?", Action::Help, "this help", Some("help")),
    row(Context::Stream, "esc q J", Action::Back, "back to the wall", Some("back")),
    row(Context::Stream, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Flash, "enter", Action::Flash(ProbeStep::Start), "ten flashes: the latency is measured", Some("begin")),
    row(Context::Flash, "w", Action::WriteCharts, "write what was measured to an SVG file", Some("write")),
    row(Context::Flash, "x", Action::Flash(ProbeStep::Forget), "forget what was measured: back to its clock", Some("forget")),
    row(Context::Flash, "?", Action::Help, "this help", Some("help")),
    row(Context::Flash, "esc q", Action::Back, "break off, back to the stream", Some("back")),
    row(Context::Flash, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Faults, "1", Action::Order(0), "", None),
    row(Context::Faults, "2", Action::Order(1), "", None),
    row(Context::Faults, "3", Action::Order(2), "", None),
    row(Context::Faults, "4", Action::Order(3), "", None),
    row(Context::Faults, "5", Action::Order(4), "", None),
    row(Context::Faults, "6", Action::Order(5), "", None),
    row(Context::Faults, "7", Action::Order(6), "", None),
    row(Context::Faults, "8", Action::Order(7), "", None),
    row(Context::Faults, "9", Action::Order(8), "", None),
    row(Context::Faults, "esc f q", Action::Back, "back to the wall", None),
    row(Context::Faults, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Help, "down j", Action::Scroll(1), "further down", None),
    row(Context::Help, "up k", Action::Scroll(-1), "further up", None),
    row(Context::Help, "pgdn space", Action::Scroll(10), "a page down", None),
    row(Context::Help, "pgup", Action::Scroll(-10), "a page up", None),
    row(Context::Help, "esc ? q", Action::Back, "back to the wall", None),
    row(Context::Help, "ctrl-c", Action::Quit, "leave", None),
];

/// What a key press means here.
pub fn action(context: Context, event: KeyEvent) -> Option<Action> {
    let matches = |binding: &&Binding| binding.context == context && binding.keys.split(' ').any(|key| is_key(key, event));
    KEYMAP.iter().find(matches).map(|binding| binding.action)
}

fn is_key(name: &str, event: KeyEvent) -> bool {
    let control = event.modifiers.contains(KeyModifiers::CONTROL);
    if let Some(letter) = name.strip_prefix("ctrl-") {
        return control && event.code == KeyCode::Char(letter.chars().next().unwrap_or(' '));
    }
    if control || event.modifiers.contains(KeyModifiers::ALT) {
        return false;
    }
    let code = match name {
        "left" => KeyCode::Left,
        "right" => KeyCode::Right,
        "up" => KeyCode::Up,
        "down" => KeyCode::Down,
        "tab" => KeyCode::Tab,
        "backtab" => KeyCode::BackTab,
        "enter" => KeyCode::Enter,
        "esc" => KeyCode::Esc,
        "pgdn" => KeyCode::PageDown,
        "pgup" => KeyCode::PageUp,
        "space" => KeyCode::Char(' '),
        "del" => KeyCode::Delete,
        "backspace" => KeyCode::Backspace,
        letter => KeyCode::Char(letter.chars().next().unwrap_or(' ')),
    };
    event.code == code
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_context_binds_a_key_twice() {
        let mut seen = std::collections::BTreeSet::new();
        for binding in KEYMAP {
            for key in binding.keys.split(' ') {
                assert!(seen.insert((format!("{:?}", binding.context), key)), "{key} in {:?}", binding.context);
            }
        }
    }

    #[test]
    fn keys_are_found_by_context() {
        let press = |code| KeyEvent::new(code, KeyModifiers::NONE);
        assert_eq!(action(Context::Wall, press(KeyCode::Char('m'))), Some(Action::SwitchStream));
        assert_eq!(action(Context::Wall, press(KeyCode::Char('?'))), Some(Action::Help));
        assert_eq!(action(Context::Help, press(KeyCode::Char('m'))), None);
        let quit = KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL);
        for context in [Context::Wall, Context::Faults, Context::Help] {
            assert_eq!(action(context, quit), Some(Action::Quit));
        }
    }
}
