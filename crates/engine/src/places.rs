//! Where files are: the XDG folders of the person who runs the program.

use etcetera::{BaseStrategy as _, choose_base_strategy};
use sha2::{Digest as _, Sha256};
use std::fmt::Write as _;
use std::fs::File;
use std::hash::{Hash as _, Hasher as _};
use std::io::Write as _;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

const NAME: &str = "amber-lattice";

/// The person who runs the program has no home folder.
#[derive(Debug, thiserror::Error)]
#[error("no home folder: set HOME")]
pub struct NoHome;

fn base() -> Result<etcetera::base_strategy::Xdg, NoHome> {
    choose_base_strategy().map_err(|_| NoHome)
}

/// The folder of the site file and of what the person may extend.
///
/// # Errors
/// [`NoHome`], as for all of these.
pub fn configuration() -> Result<PathBuf, NoHome> {
    Ok(base()?.config_dir().join(NAME))
}

/// The folder of the program's state: logs, what was last seen.
///
/// # Errors
/// [`NoHome`].
pub fn state() -> Result<PathBuf, NoHome> {
    let strategy = base()?;
    Ok(strategy.state_dir().unwrap_or_else(|| strategy.data_dir()).join(NAME))
}

fn data() -> Result<PathBuf, NoHome> {
    Ok(base()?.data_dir().join(NAME))
}

/// The folder in which the screens of a site tell what they show.
///
/// # Errors
/// [`NoHome`].
pub fn screens() -> Result<PathBuf, NoHome> {
    Ok(state()?.join("screens"))
}

/// The folder of the person's desktop entries.
///
/// # Errors
/// [`NoHome`].
pub fn desktop_entries() -> Result<PathBuf, NoHome> {
    Ok(base()?.data_dir().join("applications"))
}

/// The site file: the one that was named, or the usual one.
///
/// # Errors
/// [`NoHome`].
pub fn site(named: Option<&Path>) -> Result<PathBuf, NoHome> {
    named.map_or_else(|| Ok(configuration()?.join("site.toml")), |path| Ok(path.to_owned()))
}

/// The file of passwords that belongs to a site file: never beside it, so that it is not copied along.
///
/// # Errors
/// [`NoHome`].
pub fn secrets(named_site: Option<&Path>) -> Result<PathBuf, NoHome> {
    let folder = data()?;
    Ok(named_site.map_or_else(|| folder.join("sign-ins.toml"), |site| own_file(&folder, "sign-ins", site, "toml")))
}

/// The folder of pictures that were kept.
///
/// # Errors
/// [`NoHome`].
pub fn stills() -> Result<PathBuf, NoHome> {
    Ok(data()?.join("stills"))
}

/// The ledger of the site in this file.
///
/// # Errors
/// [`NoHome`].
pub fn ledger(site_file: &Path) -> Result<PathBuf, NoHome> {
    let folder = data()?;
    let usual = site(None).is_ok_and(|usual| usual == site_file);
    Ok(if usual { folder.join("ledger.db") } else { own_file(&folder, "ledger", site_file, "db") })
}

/// A file that belongs to a site file, named by where that is. One that an earlier version named is taken over.
fn own_file(folder: &Path, kind: &str, site: &Path, ending: &str) -> PathBuf {
    let whole = std::path::absolute(site).unwrap_or_else(|_| site.to_owned());
    let path = folder.join(format!("{kind}-{}.{ending}", name_of(&whole)));
    let before = folder.join(format!("{kind}-{}.{ending}", earlier_name_of(&whole)));
    if !path.exists() && before.exists() {
        for companion in ["", "-wal", "-shm"] {
            let file = |path: &Path| PathBuf::from(format!("{}{companion}", path.display()));
            if let Err(error) = std::fs::rename(file(&before), file(&path))
                && companion.is_empty()
            {
                tracing::warn!(%error, file = %before.display(), "a file of an earlier version could not be taken over");
                return before;
            }
        }
    }
    path
}

/// A name for a path: the first half of its SHA-256.
fn name_of(whole: &Path) -> String {
    let digest = Sha256::digest(whole.as_os_str().as_bytes());
    digest.iter().take(16).fold(String::new(), |mut name, byte| {
        let _ = write!(name, "{byte:02x}");
        name
    })
}

/// The name that earlier versions gave, by a hash that may change with the compiler.
fn earlier_name_of(whole: &Path) -> String {
    let mut hash = std::hash::DefaultHasher::new();
    whole.hash(&mut hash);
    format!("{:016x}", hash.finish())
}

/// A path as somebody typed it, with `~/` for the home folder.
#[must_use]
pub fn typed_path(text: &str) -> PathBuf {
    let text = text.trim();
    match (text.strip_prefix("~/"), etcetera::home_dir()) {
        (Some(rest), Ok(home)) => home.join(rest),
        _ => PathBuf::from(text),
    }
}

/// Writes a file that is not there yet.
///
/// # Errors
/// When it is there, or cannot be written.
pub fn write_new(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    File::create_new(path)?.write_all(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_named_by_sha_256_and_one_of_an_earlier_version_is_taken_over() {
        let folder = tempfile::tempdir().unwrap();
        let site = Path::new("/srv/port/site.toml");
        let before = folder.path().join(format!("ledger-{}.db", earlier_name_of(site)));
        std::fs::write(&before, "kept").unwrap();
        std::fs::write(format!("{}-wal", before.display()), "its end").unwrap();
        let path = own_file(folder.path(), "ledger", site, "db");
        assert!(path.ends_with("ledger-2bc7b3be8cf8c347f397f162afe42dc2.db"), "{}", path.display());
        assert_eq!((std::fs::read_to_string(&path).unwrap().as_str(), before.exists()), ("kept", false));
        assert_eq!(std::fs::read_to_string(format!("{}-wal", path.display())).unwrap(), "its end");
        // Where both are there, the newer name holds.
        std::fs::write(&before, "old").unwrap();
        assert_eq!(own_file(folder.path(), "ledger", site, "db"), path);
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "kept");
    }
}
