//! Cameras and their streams as they are opened, each known by a number that stays.

use lattice_core::plan::Short;
use lattice_core::srtp::MasterKey;
use lattice_core::{BitsPerSecond, Role, Transport, TransportChoice};
use lattice_net::{Origin, Trust};
use std::collections::BTreeMap;

/// A camera, for as long as the program runs: it keeps its number when it is renamed, switched off or asked in another way,
/// and no other camera gets it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CameraId(pub u32);

/// A stream of a camera.
#[derive(Debug, Clone, PartialEq)]
pub struct StreamDef {
    /// Which.
    pub role: Role,
    /// Where.
    pub origin: Origin,
    /// The key of an encrypted stream, where its description brings none.
    pub key: Option<MasterKey>,
}

/// A camera.
#[derive(Debug, Clone, PartialEq)]
pub struct CameraDef {
    /// Its name on plates.
    pub name: String,
    /// Its streams, at least one.
    pub streams: Vec<StreamDef>,
    /// How its packets are asked for; `Auto` leaves it to the command line.
    pub transport: TransportChoice,
    /// How its certificate is judged.
    pub trust: Trust,
    /// Viewers that its device takes at a time, where that is known.
    pub viewers: Option<u32>,
    /// The link to its device, where that is known.
    pub link: Option<BitsPerSecond>,
    /// Whether its sound is received, where it has some.
    pub sound: bool,
}

impl CameraDef {
    /// The host that its first stream comes from; `None` for one that is pushed.
    #[must_use]
    pub fn host(&self) -> Option<&str> {
        host_of(&self.streams.first()?.origin)
    }
}

/// The host that is asked for a stream; `None` for one that is pushed.
#[must_use]
pub fn host_of(origin: &Origin) -> Option<&str> {
    match origin {
        Origin::Url(url) | Origin::Pictures { url, .. } => Some(url.host()),
        Origin::Listen(_) => None,
    }
}

/// The cameras that can be opened, in the order in which they came.
#[derive(Debug, Clone)]
pub struct Cameras {
    list: BTreeMap<CameraId, CameraDef>,
    /// Numbers that were given, by name: a camera that comes back has its own again.
    given: BTreeMap<String, CameraId>,
    next: u32,
    /// The stream that tiles begin with, where a camera has it.
    pub prefer: Role,
}

impl Default for Cameras {
    fn default() -> Self {
        Self::new(Role::Sub)
    }
}

impl Cameras {
    /// None yet.
    #[must_use]
    pub const fn new(prefer: Role) -> Self {
        Self { list: BTreeMap::new(), given: BTreeMap::new(), next: 0, prefer }
    }

    /// A camera comes, or is another one now under its name; gives its number.
    pub fn put(&mut self, def: CameraDef) -> CameraId {
        let id = self.given.get(&def.name).copied().unwrap_or_else(|| {
            self.next += 1;
            CameraId(self.next - 1)
        });
        self.given.insert(def.name.clone(), id);
        self.list.insert(id, def);
        id
    }

    /// A camera leaves; gives its number where it was there.
    pub fn remove(&mut self, name: &str) -> Option<CameraId> {
        let id = self.id(name)?;
        self.list.remove(&id);
        Some(id)
    }

    /// A camera has another name now.
    pub fn rename(&mut self, from: &str, to: &str) {
        if let Some(id) = self.given.remove(from) {
            self.given.insert(to.to_owned(), id);
            if let Some(def) = self.list.get_mut(&id) {
                to.clone_into(&mut def.name);
            }
        }
    }

    /// A camera.
    #[must_use]
    pub fn get(&self, id: CameraId) -> Option<&CameraDef> {
        self.list.get(&id)
    }

    /// A camera, to be changed.
    pub fn get_mut(&mut self, id: CameraId) -> Option<&mut CameraDef> {
        self.list.get_mut(&id)
    }

    /// The number of a camera that is there, by its name.
    #[must_use]
    pub fn id(&self, name: &str) -> Option<CameraId> {
        self.given.get(name).copied().filter(|id| self.list.contains_key(id))
    }

    /// The name of a camera; empty for one that is not there.
    #[must_use]
    pub fn name(&self, id: CameraId) -> &str {
        self.get(id).map_or("", |def| def.name.as_str())
    }

    /// All that are there.
    pub fn iter(&self) -> impl Iterator<Item = (CameraId, &CameraDef)> {
        self.list.iter().map(|(id, def)| (*id, def))
    }

    /// Their names.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.list.values().map(|def| def.name.as_str())
    }

    /// There is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// A stream.
    #[must_use]
    pub fn stream(&self, key: FeedKey) -> Option<&StreamDef> {
        self.get(key.camera)?.streams.iter().find(|stream| stream.role == key.role)
    }

    /// Where a stream comes from.
    #[must_use]
    pub fn origin(&self, key: FeedKey) -> Option<&Origin> {
        self.stream(key).map(|stream| &stream.origin)
    }

    /// The stream that a camera begins with: one that is open, else the one preferred, else its first.
    pub fn first_role(&self, camera: CameraId, is_open: impl Fn(FeedKey) -> bool) -> Option<Role> {
        let def = self.get(camera)?;
        let roles = || def.streams.iter().map(|stream| stream.role);
        let mut open: Vec<Role> = roles().filter(|role| is_open(FeedKey::new(camera, *role))).collect();
        open.sort_unstable();
        open.first().copied().or_else(|| roles().find(|role| *role == self.prefer)).or_else(|| roles().next())
    }

    /// A name for a stream: camera, stream, and transport where it was chosen on the bench.
    #[must_use]
    pub fn stream_name(&self, key: FeedKey) -> String {
        let by = key.by.map_or(String::new(), |by| format!(" by {}", by.word().to_uppercase()));
        format!("{} {}{by}", self.name(key.camera), key.role.word())
    }
}

/// One stream of one camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FeedKey {
    /// Whose.
    pub camera: CameraId,
    /// Which of its streams.
    pub role: Role,
    /// Received like this whatever the site says: on the bench.
    pub by: Option<Transport>,
}

impl FeedKey {
    /// A stream, received as the site says.
    #[must_use]
    pub const fn new(camera: CameraId, role: Role) -> Self {
        Self { camera, role, by: None }
    }

    /// A number that no other stream has.
    #[must_use]
    pub const fn number(self) -> u64 {
        let by = match self.by {
            None => 0,
            Some(Transport::Udp) => 1,
            Some(Transport::Tcp) => 2,
            Some(_) => 3,
        };
        (self.camera.0 as u64) << 8 | (self.role as u64) << 4 | by
    }
}

/// A camera in a place of a screen, and which of its streams stands there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Seat {
    /// The place.
    pub place: usize,
    /// The camera.
    pub camera: CameraId,
    /// The stream shown.
    pub role: Role,
    /// The stream that is to be shown as soon as it has a picture.
    pub switching: Option<Role>,
    /// It is not received, or not decoded: this budget is short.
    pub short: Option<Short>,
    /// Of what decoding is short for, keyframes are shown all the same.
    pub keyframes: bool,
}

impl Seat {
    /// The stream shown.
    #[must_use]
    pub const fn key(&self) -> FeedKey {
        FeedKey::new(self.camera, self.role)
    }

    /// Its pictures are shown, all of them or keyframes.
    #[must_use]
    pub const fn is_shown(&self) -> bool {
        self.short.is_none() || self.keyframes
    }

    /// The stream that is waited for.
    #[must_use]
    pub fn next_key(&self) -> Option<FeedKey> {
        self.switching.map(|role| FeedKey::new(self.camera, role))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn def(name: &str) -> CameraDef {
        let origin = Origin::Url("rtsp://192.0.2.1/main".parse().unwrap());
        CameraDef {
            name: name.into(),
            streams: vec![StreamDef { role: Role::Main, origin, key: None }],
            transport: TransportChoice::Auto,
            trust: Trust::Verify,
            viewers: None,
            link: None,
            sound: true,
        }
    }

    #[test]
    fn a_camera_keeps_its_number_and_nobody_else_gets_it() {
        let mut cameras = Cameras::default();
        let (mast, quay) = (cameras.put(def("Mast")), cameras.put(def("Quay")));
        assert_eq!(cameras.remove("Mast"), Some(mast));
        assert_eq!((cameras.id("Mast"), cameras.name(mast)), (None, ""));
        let ice = cameras.put(def("Ice house"));
        assert!(ice != mast && ice != quay);
        assert_eq!(cameras.put(def("Mast")), mast, "switched on again");
        cameras.rename("Quay", "Fuel quay");
        assert_eq!((cameras.id("Fuel quay"), cameras.id("Quay")), (Some(quay), None));
        assert_eq!(cameras.put(def("Fuel quay")), quay, "asked in another way");
        assert_eq!(cameras.names().collect::<Vec<_>>(), ["Mast", "Fuel quay", "Ice house"]);
    }
}
