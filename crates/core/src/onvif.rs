//! The parts of ONVIF's services that getting a camera in needs: messages out, answers in, no I/O.
//!
//! Written against the ONVIF Core Specification (device service, `ver10/device/wsdl`), the Media
//! services (`ver10/media/wsdl`, `ver20/media/wsdl`), WS-Discovery of April 2005 and the WS-Security
//! username token profile 1.0. Elements are found by their local names, since devices choose their own
//! prefixes and not all declare the namespaces they use.
//!
//! Not done: `WS-Addressing` replies, attachments.

mod device;
mod discovery;
mod events;
mod imaging;
mod media;
mod ptz;
mod soap;
mod xml;

pub use device::*;
pub use discovery::{MAX_DATAGRAM, Match, emit_match, probe, probe_matches, scope_text, scope_value};
pub use events::*;
pub use imaging::*;
pub use media::{
    Encoder, EncoderLimits, MediaVersion, Profile, Range, by_size, encoder_change, get_encoder_limits, get_profiles,
    get_snapshot_uri, get_stream_uri, set_synchronization_point,
};
pub use ptz::*;
pub use soap::{Fault, Security, answer, date_time, envelope, envelope_with};
pub use xml::{Element, XmlError, escape};
