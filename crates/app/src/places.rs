//! Where files are: the XDG folders of the person who runs the program.

use anyhow::Context as _;
use etcetera::{BaseStrategy as _, choose_base_strategy};
use std::fs::File;
use std::hash::{Hash as _, Hasher as _};
use std::io::Write as _;
use std::path::{Path, PathBuf};

const NAME: &str = "amber-lattice";

/// The folder of the site file and of what the person may extend.
pub fn configuration() -> anyhow::Result<PathBuf> {
    Ok(choose_base_strategy().context("no home folder")?.config_dir().join(NAME))
}

/// The folder of the program's state: logs, what was last seen.
pub fn state() -> anyhow::Result<PathBuf> {
    let strategy = choose_base_strategy().context("no home folder")?;
    Ok(strategy.state_dir().unwrap_or_else(|| strategy.data_dir()).join(NAME))
}

/// The folder in which the screens of a site tell what they show.
pub fn screens() -> anyhow::Result<PathBuf> {
    Ok(state()?.join("screens"))
}

/// The folder of the person's desktop entries.
pub fn desktop_entries() -> anyhow::Result<PathBuf> {
    Ok(choose_base_strategy().context("no home folder")?.data_dir().join("applications"))
}

/// The site file: the one that was named, or the usual one.
pub fn site(named: Option<&Path>) -> anyhow::Result<PathBuf> {
    named.map_or_else(|| Ok(configuration()?.join("site.toml")), |path| Ok(path.to_owned()))
}

/// The file of passwords that belongs to a site file: never beside it, so that it is not copied along.
pub fn secrets(named_site: Option<&Path>) -> anyhow::Result<PathBuf> {
    let folder = choose_base_strategy().context("no home folder")?.data_dir().join(NAME);
    let Some(site) = named_site else { return Ok(folder.join("sign-ins.toml")) };
    Ok(folder.join(format!("sign-ins-{}.toml", name_of(site))))
}

/// The folder of pictures that were kept.
pub fn stills() -> anyhow::Result<PathBuf> {
    Ok(choose_base_strategy().context("no home folder")?.data_dir().join(NAME).join("stills"))
}

/// The ledger of the site in this file.
pub fn ledger(site_file: &Path) -> anyhow::Result<PathBuf> {
    let folder = choose_base_strategy().context("no home folder")?.data_dir().join(NAME);
    let usual = site(None).is_ok_and(|usual| usual == site_file);
    Ok(folder.join(if usual { "ledger.db".to_owned() } else { format!("ledger-{}.db", name_of(site_file)) }))
}

/// A name for what belongs to a site file, by where that is.
fn name_of(site: &Path) -> String {
    let whole = std::path::absolute(site).unwrap_or_else(|_| site.to_owned());
    let mut hash = std::hash::DefaultHasher::new();
    whole.hash(&mut hash);
    format!("{:016x}", hash.finish())
}

/// A path as somebody typed it, with `~/` for the home folder.
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
pub fn write_new(path: &Path, text: &str) -> std::io::Result<()> {
    File::create_new(path)?.write_all(text.as_bytes())
}
