//! What is kept between one run and the next: the site file, passwords apart from it, and what was last seen of
//! each device.
#![forbid(unsafe_code)]
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod atomic;
mod history;
mod keyring;
mod ledger;
mod pictures;
mod record;
mod screens;
mod secrets;
mod sightings;
pub mod site;
mod strengths;

pub use history::{Missing, Reading, StreamName, Tier};
pub use keyring::{Keyring, KeyringError};
pub use ledger::{EntryOrder, Ordered};
pub use pictures::KeptPicture;
pub use record::{RecordError, RecordFile};
pub use screens::{LETS_GO_AFTER, Order, SILENT_AFTER, Screens, Showing, Steering};
pub use secrets::{SecretError, Secrets};
pub use sightings::{Sighting, Sightings};
pub use site::{Camera, Group, PasswordSource, Role, SignIn, Site, SiteError, SiteFile, Stream};
pub use site::{export_lattice, import_lattices};
pub use strengths::Strengths;
