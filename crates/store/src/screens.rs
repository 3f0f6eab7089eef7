//! What each screen of a site shows, and what one screen sends to another: small files in the folder of the program's
//! state, so that it works without any network. They may be lost without harm.

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use std::io::Write as _;
use std::path::{Path, PathBuf};

/// What a screen shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Showing {
    /// In words.
    pub what: String,
    /// When it said so, seconds UTC.
    pub at: i64,
}

/// What a screen is to show.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// A lattice or a tour.
    Lattice(String),
    /// A camera, enlarged.
    Camera(String),
}

/// Who steers a camera.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Steering {
    /// The operator.
    pub who: String,
    /// The program's process.
    pub process: u32,
    /// When it said so, seconds UTC.
    pub at: i64,
}

/// Who has not told for so long, in seconds, that he steers, does not.
pub const LETS_GO_AFTER: i64 = 5;
/// A screen that has not told for so long, in seconds, is not there.
pub const SILENT_AFTER: i64 = 15;
/// Largest file that is read.
const MAX_BYTES: u64 = 64 << 10;

/// The screens of one site on this machine.
#[derive(Debug, Clone)]
pub struct Screens {
    folder: PathBuf,
    site: PathBuf,
}

impl Screens {
    /// The screens of a site; `folder` is where their files are.
    #[must_use]
    pub fn new(folder: &Path, site: &Path) -> Self {
        let site = std::path::absolute(site).unwrap_or_else(|_| site.to_owned());
        Self { folder: folder.to_owned(), site }
    }

    fn path(&self, screen: &str, what: &str) -> PathBuf {
        let mut hash = Sha256::new();
        hash.update(self.site.as_os_str().as_encoded_bytes());
        hash.update([0]);
        hash.update(screen);
        let name = hash.finalize().iter().take(16).fold(String::new(), |name, byte| format!("{name}{byte:02x}"));
        self.folder.join(format!("{name}-{what}.json"))
    }

    /// A screen tells what it shows.
    ///
    /// # Errors
    /// The system's.
    pub fn tell(&self, screen: &str, showing: &Showing) -> std::io::Result<()> {
        self.write(&self.path(screen, "shows"), showing)
    }

    /// A screen ends.
    pub fn leave(&self, screen: &str) {
        let _ = std::fs::remove_file(self.path(screen, "shows"));
    }

    /// What a screen shows; `None` for one that does not run.
    #[must_use]
    pub fn showing(&self, screen: &str, now: i64) -> Option<Showing> {
        let showing: Showing = read(&self.path(screen, "shows"))?;
        ((now - showing.at).abs() <= SILENT_AFTER).then_some(showing)
    }

    /// Sends something to a screen.
    ///
    /// # Errors
    /// The system's.
    pub fn send(&self, screen: &str, order: &Order) -> std::io::Result<()> {
        self.write(&self.path(screen, "order"), order)
    }

    /// Takes what was sent to a screen, once.
    #[must_use]
    pub fn take(&self, screen: &str) -> Option<Order> {
        let path = self.path(screen, "order");
        let order = read(&path);
        if path.exists() {
            let _ = std::fs::remove_file(&path);
        }
        order
    }

    /// Who steers a camera, as far as it was told.
    #[must_use]
    pub fn steers(&self, camera: &str, now: i64) -> Option<Steering> {
        let steering: Steering = read(&self.path(camera, "steers"))?;
        ((now - steering.at).abs() <= LETS_GO_AFTER).then_some(steering)
    }

    /// Somebody steers a camera, whoever did before.
    ///
    /// # Errors
    /// The system's.
    pub fn tell_steering(&self, camera: &str, steering: &Steering) -> std::io::Result<()> {
        self.write(&self.path(camera, "steers"), steering)
    }

    /// Somebody lets go of a camera.
    pub fn let_go(&self, camera: &str) {
        let _ = std::fs::remove_file(self.path(camera, "steers"));
    }

    fn write(&self, path: &Path, value: &impl Serialize) -> std::io::Result<()> {
        std::fs::create_dir_all(&self.folder)?;
        // Whole or not at all for whoever reads it; it need not survive a power cut.
        let mut file = tempfile::Builder::new().prefix(".screen-").tempfile_in(&self.folder)?;
        file.write_all(&serde_json::to_vec(value)?)?;
        file.persist(path).map(drop).map_err(|error| error.error)
    }
}

/// A file that is missing, too large or not understood counts as none.
fn read<T: for<'a> Deserialize<'a>>(path: &Path) -> Option<T> {
    let size = std::fs::metadata(path).ok()?.len();
    (size <= MAX_BYTES).then(|| serde_json::from_slice(&std::fs::read(path).ok()?).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn screens_tell_what_they_show_and_take_what_is_sent_once() {
        let folder = tempfile::tempdir().unwrap();
        let screens = Screens::new(&folder.path().join("screens"), Path::new("/x/site.toml"));
        let other_site = Screens::new(&folder.path().join("screens"), Path::new("/y/site.toml"));
        assert_eq!((screens.showing("desk", 100), screens.take("desk")), (None, None));
        let showing = Showing { what: "harbour six".into(), at: 100 };
        screens.tell("desk", &showing).unwrap();
        assert_eq!(screens.showing("desk", 110), Some(showing));
        assert_eq!((screens.showing("desk", 120), other_site.showing("desk", 110)), (None, None), "silent; another site's");
        screens.send("desk", &Order::Camera("Slipway north".into())).unwrap();
        assert_eq!((other_site.take("desk"), screens.take("wall")), (None, None));
        assert_eq!(screens.take("desk"), Some(Order::Camera("Slipway north".into())));
        assert_eq!(screens.take("desk"), None);
        std::fs::write(screens.path("desk", "order"), b"{ nonsense").unwrap();
        assert_eq!(screens.take("desk"), None);
        assert!(!screens.path("desk", "order").exists(), "nonsense is taken away");
        let kim = Steering { who: "kim".into(), process: 7, at: 100 };
        screens.tell_steering("Mast", &kim).unwrap();
        assert_eq!((screens.steers("Mast", 104), screens.steers("Mast", 110)), (Some(kim.clone()), None));
        assert_eq!((screens.steers("Quay", 104), other_site.steers("Mast", 104)), (None, None));
        screens.tell_steering("Mast", &Steering { who: "ola".into(), process: 8, ..kim }).unwrap();
        assert_eq!(screens.steers("Mast", 104).unwrap().process, 8, "taken over");
        screens.let_go("Mast");
        assert_eq!(screens.steers("Mast", 104), None);
        screens.leave("desk");
        assert_eq!(screens.showing("desk", 110), None);
    }
}
