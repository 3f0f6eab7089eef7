//! Keeps the ledger on disk, on a thread of its own: whoever measures never waits for a disk.

use crate::places;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::ledger::Entry;
use lattice_store::LedgerFile;
use std::fs::File;
use std::path::Path;
use std::time::Duration;

/// Entries that are read at the start.
const READ: usize = 1000;

/// Changes are gathered for so long before they are written.
const GATHERS: Duration = Duration::from_millis(500);

/// The keeper of the ledger.
pub struct Keeper {
    /// What was kept before, oldest first.
    pub kept: Vec<Entry>,
    /// Something to be said at the start.
    pub remark: Option<String>,
    entries: Option<Sender<Vec<Entry>>>,
    /// What goes wrong later.
    pub troubles: Receiver<String>,
    thread: Option<std::thread::JoinHandle<()>>,
    /// One program keeps the ledger of a site.
    _lock: Option<File>,
}

impl Keeper {
    /// For the ledger of a site. Where it cannot be kept, it is said, and the ledger is there all the same.
    pub fn start(site: &Path) -> Self {
        let (trouble, troubles) = unbounded();
        let nothing = |kept: Vec<Entry>, remark: String| Self {
            kept,
            remark: Some(remark),
            entries: None,
            troubles: troubles.clone(),
            thread: None,
            _lock: None,
        };
        let path = match places::ledger(site) {
            Ok(path) => path,
            Err(error) => return nothing(Vec::new(), format!("the ledger is not kept: {error:#}")),
        };
        let (mut file, aside) = match LedgerFile::open(&path) {
            Ok(opened) => opened,
            Err(error) => return nothing(Vec::new(), format!("the ledger is not kept: {error}")),
        };
        let kept = file.newest(READ).unwrap_or_default();
        let lock = File::create(path.with_extension("lock")).ok().filter(|lock| lock.try_lock().is_ok());
        if lock.is_none() {
            return nothing(kept, "another program keeps the ledger of this site".into());
        }
        let (sender, entries) = unbounded::<Vec<Entry>>();
        let work = move || {
            let mut waiting: Vec<Entry> = Vec::new();
            while let Ok(changed) = entries.recv() {
                // What changes twice a second is written once.
                std::thread::sleep(GATHERS);
                for entry in std::iter::once(changed).chain(entries.try_iter()).flatten() {
                    waiting.retain(|before| before.id != entry.id);
                    waiting.push(entry);
                }
                match file.keep(&waiting) {
                    Ok(()) => waiting.clear(),
                    // A full disk, say: it is tried again with what comes next, as long as that stays little.
                    Err(error) => {
                        tracing::warn!(%error, "the ledger");
                        let _ = trouble.send(format!("the ledger could not be written, and will be tried again: {error}"));
                        waiting.drain(..waiting.len().saturating_sub(READ));
                    }
                }
            }
        };
        let thread = std::thread::Builder::new().name("ledger".into()).spawn(work).ok();
        let remark =
            aside.map(|aside| format!("the ledger was damaged: it is set aside as {}, and a new one begun", aside.display()));
        Self { kept, remark, entries: Some(sender), troubles, thread, _lock: lock }
    }

    /// Keeps these entries as they are now.
    pub fn keep(&self, entries: Vec<Entry>) {
        if let Some(sender) = self.entries.as_ref().filter(|_| !entries.is_empty()) {
            let _ = sender.send(entries);
        }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.entries = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
