//! Files that are either the old one or the new one, whatever happens in between.

use std::fs::{self, File, TryLockError};
use std::io::{self, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::time::{Duration, Instant};

/// Replaces a file, or makes it, with these permissions. A file that is a link is replaced where it points to.
///
/// # Errors
/// The system's; the old file is untouched then.
pub fn replace(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or_else(|| Path::new("."));
    fs::create_dir_all(folder)?;
    let mut file =
        tempfile::Builder::new().prefix(".amber-lattice-").permissions(fs::Permissions::from_mode(mode)).tempfile_in(folder)?;
    file.write_all(bytes)?;
    file.as_file().sync_all()?;
    file.persist(&path).map_err(|error| error.error)?;
    // The name itself must survive a power cut too; a file system that cannot say is no reason to fail.
    let _ = File::open(folder).and_then(|folder| folder.sync_all());
    Ok(())
}

/// How long another program may take to write.
const WAITS: Duration = Duration::from_secs(2);

/// Nobody else who asks writes to this file's folder meanwhile. A file system without locks, or somebody who never
/// finishes, is no reason not to write: what was read is compared before it is replaced.
pub fn alone(path: &Path) -> Option<File> {
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or_else(|| Path::new("."));
    fs::create_dir_all(folder).ok()?;
    let folder = File::open(folder).ok()?;
    let deadline = Instant::now() + WAITS;
    loop {
        match folder.try_lock() {
            Ok(()) => return Some(folder),
            Err(TryLockError::WouldBlock) if Instant::now() < deadline => std::thread::sleep(Duration::from_millis(5)),
            Err(_) => return None,
        }
    }
}
