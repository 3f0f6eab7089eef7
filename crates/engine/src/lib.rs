//! The program without a face: it receives, measures, judges, plans and records camera streams, for any number of screens or
//! for none.
//!
//! [`Engine`] runs on a thread of its own. [`Command`]s go in; [`News`] and a [`Snapshot`] that any number of readers look at
//! come out. What a screen wants to see it says by its [`Demand`]; which streams are opened for that is planned here. Nothing
//! in here knows terminals, keys or command lines, and nothing waits for whoever looks.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod around;
mod buffer;
mod camera;
mod command;
mod demand;
mod device;
mod engine;
mod feeds;
mod idle;
pub mod jobs;
pub mod keeper;
pub mod kept;
mod keyframes;
mod listening;
mod motion;
mod outward;
pub mod places;
mod planning;
mod reporting;
mod returns;
mod snapshot;
mod steering;
mod watch;

pub use around::Around;
pub use buffer::{Buffer, buffer, own_buffer};
pub use camera::{CameraDef, CameraId, Cameras, FeedKey, Seat, StreamDef, host_of};
pub use command::{Command, Drawing, Loudness, News, SheetPlace};
pub use demand::{Ask, Demand, Shown, ViewerId, print_of};
pub use device::{Busy, DeviceKey, Doing, Line, Queues, Urgency};
pub use engine::{Beginning, Config, Engine, Viewer};
pub use feeds::{Bell, Decode, Feed, Output, Pictures, SMALL_TILE, pool, wait_until_closed};
pub use keeper::{Keeper, KeeperNews, Past, Question};
pub use listening::{HeardOf, Hearing, Listen, MOST_HEARD, VOLUME};
pub use motion::{ALWAYS, MotionState, ShapeState};
pub use outward::{OutwardOptions, Telling};
pub use planning::{Move, Planned, Planning, StreamFacts, reason, short_words, stream_facts};
pub use snapshot::{Known, RecordState, Snapshot};
pub use steering::{Hand, HeadState};
pub use watch::{Moment, SharedHistory, Watch};
