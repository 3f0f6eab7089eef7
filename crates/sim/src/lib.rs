//! The stand-in port of Tarnhithe: cameras for demonstration and tests.
//!
//! Each camera is an RTSP server on an address of its own, with a main and a sub stream encoded
//! live from a scene that is drawn here. Every picture carries a clock and, in a corner, its frame
//! number as a code of dark and light blocks, so that a test can prove which frame is on a screen.
//! Faults come on order. What was sent is logged, to be held against what was measured.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod block_code;
mod camera;
mod canvas;
mod device;
mod discovery;
mod fault;
mod head;
mod light;
mod log;
mod pacer;
mod port;
mod pusher;
mod scene;
mod server;
mod sound;
pub mod trial;
mod video;

pub use block_code::{read as read_block_code, stamp as stamp_block_code};
pub use camera::{Camera, CameraSpec, Encryption, Pictures, Role, SignIn, StreamSpec};
pub use canvas::Canvas;
pub use device::{DeviceSpec, ReportFault};
pub use fault::{Fault, FaultParseError, SoundFault};
pub use head::{Aim, HeadFault};
pub use light::Light;
pub use log::{Event, Log, Record};
pub use port::{
    DESK_BEFORE_STAMP, FLEET_RATE, MAX_FLEET, Port, PortError, all_around, control_desk, fleet, steerable, tarnhithe, whole_port,
};
pub use scene::{MAST, Mover, PLATFORM, Scene, View};
pub use sound::{AAC_TONE, Heard, SoundSpec, sound_payload};
pub use video::Coded;
