//! Receive buffers of streams: what the operator or the site says, or what is usual for where the device is.

use crate::camera::{Cameras, FeedKey};
use lattice_core::meter::Figures;
use lattice_core::playout::Place;
use lattice_net::Origin;
use lattice_store::Site;
use std::collections::HashMap;
use std::time::Duration;

/// A receive buffer and where it comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Buffer {
    /// How long.
    pub length: Duration,
    /// Set by the operator, or in the site; else by its place.
    pub own: bool,
    /// Where the device is.
    pub place: Place,
}

/// The receive buffer that was set for a stream: in the site, or here for one that belongs to none.
#[must_use]
pub fn own_buffer(site: &Site, cameras: &Cameras, buffers: &HashMap<FeedKey, Duration>, key: FeedKey) -> Option<Duration> {
    match site.camera(cameras.name(key.camera)).and_then(|camera| camera.stream(key.role)) {
        Some(kept) => kept.buffer,
        None => buffers.get(&FeedKey { by: None, ..key }).copied(),
    }
}

/// The receive buffer of a stream.
#[must_use]
pub fn buffer(
    site: &Site,
    cameras: &Cameras,
    buffers: &HashMap<FeedKey, Duration>,
    figures: Option<&Figures>,
    key: FeedKey,
) -> Buffer {
    let host = match cameras.origin(key) {
        Some(Origin::Url(url) | Origin::Pictures { url, .. }) => url.host().to_owned(),
        // Whoever pushes is known by the address that packets come from.
        Some(Origin::Listen(_)) | None => {
            figures.and_then(|figures| figures.sender).map_or_else(|| "localhost".into(), |from| from.ip().to_string())
        }
    };
    let place = Place::of(&host);
    match own_buffer(site, cameras, buffers, key) {
        Some(length) => Buffer { length, own: true, place },
        None => Buffer { length: place.buffer(), own: false, place },
    }
}
