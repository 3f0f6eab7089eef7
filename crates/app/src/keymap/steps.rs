//! Steps that keys stand for: getting cameras in, and the wall.

use super::TypingKind;
use lattice_store::Role;

/// A step of getting cameras in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DeskStep {
    /// Go to the roster.
    Roster,
    /// Go to the line for adding.
    Add,
    /// Go to the listening ports.
    Listen,
    /// Go to the line for adding, with the begin of a listening port in it.
    AddListener,
    /// Go to the search.
    Find,
    /// Search again.
    SearchAgain,
    /// End the search.
    EndSearch,
    /// Move the selection.
    Row(i32),
    /// Tick or untick.
    Tick,
    /// Tick all that are new here, or none.
    TickAll,
    /// Take in what is ticked or typed.
    Take,
    /// Show the selected camera on the wall.
    Show,
    /// Open the form for a sign-in.
    SignIn,
    /// Begin to type.
    Type(TypingKind),
    /// What was typed is done.
    Done,
    /// What was typed is forgotten.
    Cancel,
    /// To the other field.
    NextField,
    /// The sign-in is for the whole group, or not.
    WholeGroup,
    /// Check the selected camera.
    Check,
    /// Check all cameras.
    CheckAll,
    /// Switch the selected camera off or on.
    Toggle,
    /// Take the selected camera out.
    Remove,
    /// Bring the last one back.
    Undo,
    /// Sort the roster by the next column.
    Sort,
    /// Sort it the other way round.
    Reverse,
    /// Group it by something else.
    GroupBy,
    /// Look at the selected camera's device.
    Device,
    /// Select another setting.
    Setting(i32),
    /// Move the selected setting up or down.
    Step(bool),
    /// Set the encoder as it is shown.
    Apply,
    /// Set the encoder back as it was before the last change.
    Back,
    /// Set the device's clock.
    SetClock,
    /// Set the device's password.
    Password,
    /// Switch between DHCP and a fixed address.
    Dhcp,
    /// Make the selected stream the camera's main, sub or third.
    Assign(Role),
    /// Show the lighter stream of the checked camera.
    Lighter,
    /// Give the checked camera the address at which its device was found.
    Readdress,
    /// Trust this certificate, and no other.
    Pin,
    /// Trust whatever certificate is shown.
    TrustAny,
}

/// A step of the wall.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WallStep {
    /// Turn pages.
    Page(i32),
    /// Show the lattice with this quick key; 0 for all cameras.
    Lattice(usize),
    /// Choose a layout.
    Layouts,
    /// Change the layout by hand.
    Edit,
    /// Put a camera into the selected tile.
    Put,
    /// Empty the selected tile.
    Clear,
    /// Lift the selected tile, or swap the lifted one with it.
    Swap,
    /// Fill the empty tiles with a group.
    Fill,
    /// The next camera into the selected tile, or with -1 the one before.
    NextCamera(i32),
    /// Undo the last change of a lattice.
    Undo,
    /// Do again what was undone.
    Redo,
    /// Save all lattices.
    Save,
    /// Give the lattice another name.
    Rename,
    /// Make another lattice of it.
    Duplicate,
    /// Take the lattice out.
    Remove,
    /// List the lattices.
    Lattices,
    /// Write the lattice to a file.
    Export,
    /// Read lattices from a file.
    Import,
    /// The whole interface brighter or darker, by steps.
    Brightness(i32),
    /// A light ground, or a dark one.
    Light,
    /// Names large for a moment.
    Names,
    /// Fixed text moves slowly by a cell, or stays.
    Care,
    /// Paint pictures another way.
    Paint,
    /// Keep the selected tile's picture.
    Still,
    /// Keep a contact sheet of the wall.
    Sheet,
    /// How the picture stands in its tile.
    Aspect,
    /// Mark the selected tile.
    Mark,
    /// Hold every tile on sub, on main, on none.
    HoldAll,
    /// Show what the planner decided.
    Plan,
    /// Everything, by typing.
    Palette,
    /// Show the numbers of the tiles.
    Numbers,
    /// Begin a tour, hold it, let it run on.
    Tour,
    /// Give back the tiles that cameras in trouble took.
    GiveBack,
    /// Send what is shown to another screen.
    Send,
}
