//! Logs go to a file, never to the screen.

use lattice_engine::places;
use tracing_appender::non_blocking::WorkerGuard;
use tracing_appender::rolling::{RollingFileAppender, Rotation};

/// Starts logging to a file a day, a week of them; the guard writes the rest out when dropped. A
/// folder that cannot be written is no reason not to run.
pub fn start(name: &str) -> Option<WorkerGuard> {
    let folder = places::state().ok()?;
    std::fs::create_dir_all(&folder).ok()?;
    let appender = RollingFileAppender::builder()
        .rotation(Rotation::DAILY)
        .filename_prefix(name)
        .filename_suffix("log")
        .max_log_files(7)
        .build(&folder)
        .ok()?;
    let (writer, guard) = tracing_appender::non_blocking(appender);
    let level = if std::env::var_os("AMBER_LATTICE_DEBUG").is_some() { tracing::Level::DEBUG } else { tracing::Level::INFO };
    tracing_subscriber::fmt().with_writer(writer).with_ansi(false).with_max_level(level).try_init().ok()?;
    tracing::info!(version = env!("CARGO_PKG_VERSION"), codec_assembly = lattice_media::has_assembly(), "start");
    Some(guard)
}

/// Standard error as it was, until this is dropped.
pub struct QuietStderr(rustix::fd::OwnedFd);

impl Drop for QuietStderr {
    fn drop(&mut self) {
        let _ = rustix::stdio::dup2_stderr(&self.0);
    }
}

/// Codecs print to standard error, which would stand in the pictures: it goes to a file until what this gives is dropped.
pub fn quiet_stderr() -> Option<QuietStderr> {
    let kept = rustix::io::dup(rustix::stdio::stderr()).ok()?;
    let path = places::state().ok()?.join("stderr.log");
    let file = std::fs::File::create(path).or_else(|_| std::fs::OpenOptions::new().write(true).open("/dev/null")).ok()?;
    rustix::stdio::dup2_stderr(&file).ok()?;
    Some(QuietStderr(kept))
}
