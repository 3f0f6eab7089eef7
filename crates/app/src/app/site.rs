//! What the wall shows: cameras, their streams, tiles.

use lattice_core::plan::Short;
use lattice_core::srtp::MasterKey;
use lattice_core::{BitsPerSecond, Role, Transport, TransportChoice};
use lattice_net::{Origin, Trust};

/// A stream of a camera.
#[derive(Debug, Clone)]
pub struct StreamDef {
    /// Which.
    pub role: Role,
    /// Where.
    pub origin: Origin,
    /// The key of an encrypted stream, where its description brings none.
    pub key: Option<MasterKey>,
}

/// A camera.
#[derive(Debug, Clone)]
pub struct CameraDef {
    /// Its name on plates.
    pub name: String,
    /// Its streams; none for a camera that was taken away, whose place stays empty.
    pub streams: Vec<StreamDef>,
    /// How its packets are asked for; `Auto` leaves it to the wall.
    pub transport: TransportChoice,
    /// How its certificate is judged.
    pub trust: Trust,
    /// Viewers that its device takes at a time, where that is known.
    pub viewers: Option<u32>,
    /// The link to its device, where that is known.
    pub link: Option<BitsPerSecond>,
}

/// What the wall shows.
#[derive(Debug, Clone)]
pub struct Site {
    /// Its name.
    pub name: String,
    /// Its cameras, a tile each.
    pub cameras: Vec<CameraDef>,
    /// The stream that tiles begin with, where a camera has it.
    pub prefer: Role,
}

impl Site {
    /// A stream.
    pub fn stream(&self, key: FeedKey) -> Option<&StreamDef> {
        let camera = self.cameras.get(key.camera)?;
        camera.streams.iter().find(|stream| stream.role == key.role)
    }

    /// Where a stream comes from.
    pub fn origin(&self, key: FeedKey) -> Option<&Origin> {
        self.stream(key).map(|stream| &stream.origin)
    }
}

/// One stream of one camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FeedKey {
    /// Index of the camera.
    pub camera: usize,
    /// Which of its streams.
    pub role: Role,
    /// Received like this whatever the site says: on the bench.
    pub by: Option<Transport>,
}

impl FeedKey {
    /// A stream, received as the site says.
    pub const fn new(camera: usize, role: Role) -> Self {
        Self { camera, role, by: None }
    }

    /// A number that no other stream has.
    pub const fn number(self) -> u64 {
        let by = match self.by {
            None => 0,
            Some(Transport::Udp) => 1,
            Some(Transport::Tcp) => 2,
            Some(_) => 3,
        };
        (self.camera as u64) << 8 | (self.role as u64) << 4 | by
    }
}

/// A camera in a place of the page that is shown.
#[derive(Debug, Clone, Copy)]
pub struct Tile {
    /// The place.
    pub place: usize,
    /// Index of the camera.
    pub camera: usize,
    /// The stream shown.
    pub role: Role,
    /// The stream that is to be shown as soon as it has a picture.
    pub switching: Option<Role>,
    /// It is not received: this budget is short.
    pub short: Option<Short>,
}

impl Tile {
    /// The stream shown.
    pub const fn key(&self) -> FeedKey {
        FeedKey::new(self.camera, self.role)
    }

    /// The stream that is waited for.
    pub fn next_key(&self) -> Option<FeedKey> {
        self.switching.map(|role| FeedKey::new(self.camera, role))
    }
}
