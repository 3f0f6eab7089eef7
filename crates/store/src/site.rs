//! The site file: everything configured, in one TOML file that people may edit too.
//!
//! [`SiteFile`] keeps the document as it was written (comments, order, blank lines) beside what it means
//! ([`Site`]); each change is made to both. The schema is in `docs/SITE.md`.

mod document;
mod lattices;
mod looks;
mod read;
mod rules;
mod shapes;

pub use document::{Editor, SiteFile};
pub use lattices::{DWELL, MAX_TILES, Screen, Stop, Tour, export_lattice, free_lattice_name, import_lattices};

pub use lattice_core::Role;
use lattice_core::adjust::{Adjust, Preset};
use lattice_core::lattice::Lattice;
use lattice_core::lens::Lens;
use lattice_core::motion::Shape;
use lattice_core::rule::Rule;
use lattice_core::target::{Target, understand};
use lattice_core::thresholds::{Override, Thresholds};
use lattice_core::{BitsPerSecond, SourceUrl, TransportChoice};
use std::path::PathBuf;
use std::time::Duration;

/// Why a site file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum SiteError {
    /// It says something that is not understood. It is left as it is.
    #[error("{}, line {line}, column {column}: {what}", .path.display())]
    Content {
        /// The file.
        path: PathBuf,
        /// From 1.
        line: usize,
        /// From 1, in characters.
        column: usize,
        /// What is wrong and what to do.
        what: String,
    },
    /// It was changed by somebody else since it was read.
    #[error("{} was changed elsewhere meanwhile: it is read again, and nothing of it was overwritten", .path.display())]
    ChangedElsewhere {
        /// The file.
        path: PathBuf,
    },
    /// A change that cannot be made.
    #[error("{0}")]
    Refused(String),
    /// The system refused.
    #[error("{} cannot be {attempted}", .path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What was attempted.
        attempted: &'static str,
        /// The system's reason.
        #[source]
        source: std::io::Error,
    },
}

/// Where a sign-in's password is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum PasswordSource {
    /// Kept by the program, apart from the site file.
    #[default]
    Kept,
    /// In this variable of the environment.
    Environment(String),
}

/// A sign-in that cameras share.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignIn {
    /// What it is called.
    pub name: String,
    /// The account's name on the devices.
    pub user: String,
    /// Where the password is.
    pub password: PasswordSource,
}

/// How a device's certificate is judged.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum CertificateTrust {
    /// By the authorities that this machine trusts.
    #[default]
    Verify,
    /// It must have this SHA-256, in hexadecimal.
    Pinned(String),
    /// Not at all.
    Off,
}

/// A stream of a camera.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stream {
    /// Which.
    pub role: Role,
    /// Where: an address without a sign-in, or a port to listen on.
    pub target: Target,
    /// For stills: how often one is fetched.
    pub interval: Option<Duration>,
    /// Its receive buffer; what its place needs for `None`.
    pub buffer: Option<Duration>,
}

/// A camera, or a channel of a recorder, or a pushed stream.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Camera {
    /// Its name, which no other has.
    pub name: String,
    /// The group it belongs to.
    pub group: Option<String>,
    /// Host name or address of its device.
    pub address: Option<String>,
    /// Port of its device service.
    pub service_port: Option<u16>,
    /// Name of its sign-in.
    pub sign_in: Option<String>,
    /// Name of the recorder that it hangs under.
    pub recorder: Option<String>,
    /// Its channel there, from 1.
    pub channel: Option<u32>,
    /// It is not opened while this is set.
    pub disabled: bool,
    /// How its streams are received.
    pub transport: TransportChoice,
    /// How its certificate is judged.
    pub trust: CertificateTrust,
    /// It is asked through TLS alone.
    pub encrypted: bool,
    /// Its password may travel readable (Basic without TLS) where it asks for that.
    pub password_readable: bool,
    /// Whether its sound is received, where it has some; as the site says for `None`.
    pub sound: Option<bool>,
    /// Viewers that its device takes at a time; not limited as far as is known for `None`.
    pub viewers: Option<u32>,
    /// The link to its device.
    pub link: Option<BitsPerSecond>,
    /// The name that the device has given itself.
    pub device_name: Option<String>,
    /// Its maker.
    pub maker: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Version of its firmware.
    pub firmware: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What is done to its pictures before they are shown.
    pub adjust: Adjust,
    /// Its lens, where it sees all around.
    pub lens: Option<Lens>,
    /// Areas and lines in its pictures that are watched for motion.
    pub watch: Vec<Shape>,
    /// Its streams, the largest first.
    pub streams: Vec<Stream>,
}

impl Camera {
    /// Whether it is asked through TLS alone: it was given so, or one of its streams was.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        let by_tls = |stream: &Stream| matches!(&stream.target, Target::Url(url) if url.scheme().is_tls());
        self.encrypted || self.streams.iter().any(by_tls)
    }

    /// The stream of a role.
    #[must_use]
    pub fn stream(&self, role: Role) -> Option<&Stream> {
        self.streams.iter().find(|stream| stream.role == role)
    }
}

/// A device's clock that is off by more is warned of, unless the site says otherwise.
pub const CLOCK_LIMIT: Duration = Duration::from_secs(2);

/// A group, by its name; it exists as long as a camera is in it.
pub type Group = String;

/// Thresholds that are set for a camera, a group, or the whole site.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct ThresholdsFor {
    /// Only for this camera.
    pub camera: Option<String>,
    /// Only for this group.
    pub group: Option<String>,
    /// What is set.
    pub set: Override,
}

/// Everything configured.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Site {
    /// The site's name.
    pub name: Option<String>,
    /// Passwords are kept in the file also where there is a keyring: for a machine that starts by itself.
    pub passwords_in_file: bool,
    /// From where on figures are a strain, where it is not the usual.
    pub thresholds: Vec<ThresholdsFor>,
    /// Ports that a scan knocks on; the usual ones for none.
    pub scan_ports: Vec<u16>,
    /// A device's clock that is off by more is warned of; [`CLOCK_LIMIT`] where it is not set.
    pub clock_limit: Option<Duration>,
    /// Sign-ins.
    pub sign_ins: Vec<SignIn>,
    /// Cameras in the order of the file.
    pub cameras: Vec<Camera>,
    /// What all streams together may take of the link; not limited for `None`.
    pub link: Option<BitsPerSecond>,
    /// Megapixels a second that may be decoded; what this machine was measured to decode for `None`.
    pub decoding: Option<f64>,
    /// How long the last clean picture is held after a loss; a second for `None`.
    pub hold_after_loss: Option<Duration>,
    /// Most megapixels of a picture that is decoded; the usual bound for `None`.
    pub largest_picture: Option<u64>,
    /// Whether sound is received where cameras do not say it themselves; it is for `None`.
    pub sound: Option<bool>,
    /// What is done when cameras report something.
    pub rules: Vec<Rule>,
    /// Presets of adjustments of its own.
    pub presets: Vec<Preset>,
    /// Saved lattices, in the order of their quick keys.
    pub lattices: Vec<Lattice>,
    /// Tours.
    pub tours: Vec<Tour>,
    /// Screens.
    pub screens: Vec<Screen>,
}

impl Site {
    /// The thresholds of a camera's stream: the usual ones of its role, then what is set for the site, its group, itself.
    #[must_use]
    pub fn thresholds_of(&self, camera: &str, role: Role) -> Thresholds {
        let mut thresholds = Thresholds::of_role(role);
        if self.thresholds.is_empty() {
            return thresholds;
        }
        let group = self.camera(camera).and_then(|camera| camera.group.as_deref());
        let site = |one: &&ThresholdsFor| one.camera.is_none() && one.group.is_none();
        let groups = |one: &&ThresholdsFor| one.camera.is_none() && one.group.is_some() && one.group.as_deref() == group;
        let own = |one: &&ThresholdsFor| one.camera.as_deref() == Some(camera);
        let sets = self.thresholds.iter().filter(site).chain(self.thresholds.iter().filter(groups));
        for one in sets.chain(self.thresholds.iter().filter(own)) {
            thresholds = one.set.on(thresholds);
        }
        thresholds
    }

    /// Whether a camera's sound is received, where it has some.
    #[must_use]
    pub fn hears(&self, camera: &Camera) -> bool {
        camera.sound.or(self.sound).unwrap_or(true)
    }

    /// By how much a device's clock may be off without a warning.
    #[must_use]
    pub fn clock_limit(&self) -> Duration {
        self.clock_limit.unwrap_or(CLOCK_LIMIT)
    }

    /// A camera by its name.
    #[must_use]
    pub fn camera(&self, name: &str) -> Option<&Camera> {
        self.cameras.iter().find(|camera| camera.name == name)
    }

    /// A sign-in by its name.
    #[must_use]
    pub fn sign_in(&self, name: &str) -> Option<&SignIn> {
        self.sign_ins.iter().find(|sign_in| sign_in.name == name)
    }

    /// A lattice by its name.
    #[must_use]
    pub fn lattice(&self, name: &str) -> Option<&Lattice> {
        self.lattices.iter().find(|lattice| lattice.name == name)
    }

    /// A tour by its name.
    #[must_use]
    pub fn tour(&self, name: &str) -> Option<&Tour> {
        self.tours.iter().find(|tour| tour.name == name)
    }

    /// A screen by its name.
    #[must_use]
    pub fn screen(&self, name: &str) -> Option<&Screen> {
        self.screens.iter().find(|screen| screen.name == name)
    }

    /// Its groups, in the order in which they first occur.
    #[must_use]
    pub fn groups(&self) -> Vec<Group> {
        let mut groups: Vec<Group> = Vec::new();
        for group in self.cameras.iter().filter_map(|camera| camera.group.as_ref()) {
            if !groups.contains(group) {
                groups.push(group.clone());
            }
        }
        groups
    }

    /// A name like this one that no camera has yet: with a number behind it where it is taken.
    #[must_use]
    pub fn free_name(&self, wanted: &str) -> String {
        let wanted = wanted.trim();
        let wanted = if wanted.is_empty() { "Camera" } else { wanted };
        if self.camera(wanted).is_none() {
            return wanted.to_owned();
        }
        (2..=self.cameras.len() + 2).map(|n| format!("{wanted} {n}")).find(|name| self.camera(name).is_none()).unwrap_or_default()
    }

    /// Whether a camera with this address is here.
    #[must_use]
    pub fn knows_address(&self, address: &str) -> bool {
        self.camera_at(address).is_some()
    }

    /// The first camera whose device or streams have this address.
    #[must_use]
    pub fn camera_at(&self, address: &str) -> Option<&Camera> {
        let of_stream = |stream: &Stream| matches!(&stream.target, Target::Url(url) if url.host() == address);
        self.cameras.iter().find(|camera| camera.address.as_deref() == Some(address) || camera.streams.iter().any(of_stream))
    }
}

/// Reads a stream's address as it stands in the file: exactly, and without a password.
fn stream_target(text: &str) -> Result<Target, String> {
    let scheme = text.split_once("://").map(|(scheme, _)| scheme.to_ascii_lowercase());
    if matches!(scheme.as_deref(), Some("udp" | "rtp")) {
        return understand(text).map(|reading| reading.target).map_err(|error| error.to_string());
    }
    let url: SourceUrl = text.parse().map_err(|error: lattice_core::SourceUrlError| error.to_string())?;
    if url.credentials().is_some() {
        return Err(
            "a user or password stands in the address: name a [[sign-in]] instead, its password is kept apart from this file"
                .into(),
        );
    }
    if url.hidden().is_some() {
        return Err(
            "a password stands in the address: write *** in its place and add the camera by  amber-lattice add, which keeps it apart from this file"
                .into(),
        );
    }
    Ok(Target::Url(url))
}
