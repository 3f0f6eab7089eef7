//! Keeps the record of a site on disk, its ledger and its history, on a thread of its own: whoever measures never waits for
//! a disk.

use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::Wall;
use lattice_core::ledger::Entry;
use lattice_core::meter::{Sample, Span};
use lattice_store::{Missing, Reading, RecordError, RecordFile, StreamName, Tier};
use std::collections::HashMap;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

/// Entries that are read at the start.
const READ: usize = 1000;
/// Changes are gathered for so long before they are written.
const GATHERS: Duration = Duration::from_millis(500);
/// Spans of the charts, and the readings that they are made of.
const SPANS: [(Span, Tier); 3] = [(Span::TenMinutes, Tier::Second), (Span::Hour, Tier::TenSeconds), (Span::Day, Tier::Minute)];

/// The readings of a stream for each span, oldest first.
pub type Past = Vec<(Span, Vec<(Wall, Sample)>)>;

enum Order {
    Entries(Vec<Entry>, Vec<u64>),
    History(Vec<Reading>, Vec<Missing>),
    Ask(Question),
}

/// What is asked of the record when all that was ordered before is in it; the answer is told to whoever looks at the news.
pub type Question = Box<dyn FnOnce(&RecordFile) -> anyhow::Result<String> + Send>;

/// The keeper of the record.
pub struct Keeper {
    /// The ledger as it was kept before, oldest first.
    pub kept: Vec<Entry>,
    /// The figures of before, by stream.
    pub past: HashMap<StreamName, Past>,
    /// Something to be said at the start.
    pub remark: Option<String>,
    orders: Option<Sender<Order>>,
    /// What goes wrong later, and what was answered.
    pub news: Receiver<Result<String, String>>,
    size: Arc<AtomicU64>,
    thread: Option<std::thread::JoinHandle<()>>,
    /// One program keeps the record of a site.
    _lock: Option<File>,
}

impl Keeper {
    /// For the record in this file. Where it cannot be kept, it is said, and the ledger is there all the same.
    pub fn start(path: &Path, now: Wall) -> Self {
        let (tell, news) = unbounded();
        let nothing = |kept: Vec<Entry>, remark: String| Self {
            kept,
            past: HashMap::new(),
            remark: Some(remark),
            orders: None,
            news: news.clone(),
            size: Arc::default(),
            thread: None,
            _lock: None,
        };
        let (mut file, aside) = match RecordFile::open(path) {
            Ok(opened) => opened,
            Err(error) => return nothing(Vec::new(), format!("ledger and history are not kept: {error}")),
        };
        let kept = file.newest(READ).unwrap_or_default();
        let past = read_past(&file, now).inspect_err(|error| tracing::warn!(%error, "the history")).unwrap_or_default();
        let lock = File::create(path.with_extension("lock")).ok().filter(|lock| lock.try_lock().is_ok());
        if lock.is_none() {
            let mut only_read = nothing(kept, "another program keeps the ledger of this site".into());
            only_read.past = past;
            return only_read;
        }
        if let Err(error) = file.end_missing() {
            tracing::warn!(%error, "the history");
        }
        let (sender, orders) = unbounded::<Order>();
        let size = Arc::new(AtomicU64::new(file.size().unwrap_or_default()));
        let shared = size.clone();
        let work = move || write(file, &orders, &tell, &shared);
        let thread = std::thread::Builder::new().name("record".into()).spawn(work).ok();
        let remark =
            aside.map(|aside| format!("the record was damaged: it is set aside as {}, and a new one begun", aside.display()));
        Self { kept, past, remark, orders: Some(sender), news, size, thread, _lock: lock }
    }

    /// Keeps these entries as they are now; those with these numbers are gone.
    pub fn keep(&self, entries: Vec<Entry>, removed: Vec<u64>) {
        if !entries.is_empty() || !removed.is_empty() {
            self.order(Order::Entries(entries, removed));
        }
    }

    /// Keeps readings and times without pictures.
    pub fn keep_history(&self, readings: Vec<Reading>, missing: Vec<Missing>) {
        if !readings.is_empty() || !missing.is_empty() {
            self.order(Order::History(readings, missing));
        }
    }

    /// Asks something of the record; its answer is among the news.
    pub fn ask(&self, question: Question) {
        self.order(Order::Ask(question));
    }

    fn order(&self, order: Order) {
        if let Some(sender) = &self.orders {
            let _ = sender.send(order);
        }
    }

    /// How large the record is on disk, in bytes; 0 where nothing is kept.
    pub fn size(&self) -> u64 {
        self.size.load(Ordering::Relaxed)
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.orders = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

fn read_past(file: &RecordFile, now: Wall) -> Result<HashMap<StreamName, Past>, RecordError> {
    let of = |name: StreamName| {
        let read = |(span, tier): (Span, Tier)| {
            let from = now.offset(-(span.duration().as_micros() as i64));
            let readings = file.readings(&name, tier, from, now)?;
            Ok((span, readings.into_iter().map(|(at, _, sample)| (at, sample)).collect()))
        };
        let past = SPANS.into_iter().map(read).collect::<Result<Past, RecordError>>()?;
        Ok((name.clone(), past))
    };
    file.streams()?.into_iter().map(of).collect()
}

/// Writes what is ordered until nobody orders any more.
fn write(mut file: RecordFile, orders: &Receiver<Order>, tell: &Sender<Result<String, String>>, size: &AtomicU64) {
    let (mut waiting, mut readings, mut missing): (Vec<Entry>, Vec<Reading>, Vec<Missing>) = Default::default();
    let (mut failing, mut removed) = (false, Vec::new());
    let mut questions: Vec<Question> = Vec::new();
    while let Ok(first) = orders.recv() {
        // What changes twice a second is written once.
        std::thread::sleep(GATHERS);
        for order in std::iter::once(first).chain(orders.try_iter()) {
            match order {
                Order::Entries(entries, gone) => {
                    waiting.retain(|before| !gone.contains(&before.id));
                    removed.extend(gone);
                    for entry in entries {
                        waiting.retain(|before| before.id != entry.id);
                        waiting.push(entry);
                    }
                }
                Order::Ask(question) => questions.push(question),
                Order::History(more, gone) => {
                    readings.extend(more);
                    missing.extend(gone);
                }
            }
        }
        let latest = readings.iter().map(|reading| reading.at).max();
        let written = file.keep(&waiting).and_then(|()| {
            waiting.clear();
            file.remove(&removed)?;
            removed.clear();
            let kept = file.keep_history(&readings, &missing);
            // Readings that could not be written are in the record's memory.
            readings.clear();
            kept
        });
        let written = written.and_then(|()| {
            missing.clear();
            latest.map_or(Ok(()), |now| file.prune(now))
        });
        match written {
            Ok(()) => {
                if std::mem::take(&mut failing) {
                    let _ = tell.send(Ok("ledger and history are written again".into()));
                }
                size.store(file.size().unwrap_or_default(), Ordering::Relaxed);
            }
            Err(error) if error.is_damage() => match file.begin_anew() {
                Ok((new, aside)) => {
                    file = new;
                    let aside = aside.display();
                    let _ = tell.send(Err(format!("the record is damaged: it is set aside as {aside}, and a new one begun")));
                }
                Err(error) => {
                    let _ = tell.send(Err(format!("ledger and history are not kept any more: {error}")));
                    return;
                }
            },
            // A full disk, say: it is tried again with what comes next, as long as that stays little.
            Err(error) => {
                tracing::warn!(%error, "the record");
                if !std::mem::replace(&mut failing, true) {
                    let said = "ledger and history could not be written, and will be tried again";
                    let _ = tell.send(Err(format!("{said}; measuring goes on: {error}")));
                }
                waiting.drain(..waiting.len().saturating_sub(READ));
                readings.drain(..readings.len().saturating_sub(READ * 64));
                missing.drain(..missing.len().saturating_sub(READ));
            }
        }
        for question in questions.drain(..) {
            let _ = tell.send(question(&file).map_err(|error| format!("{error:#}")));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Wall = Wall::from_unix_micros(1_795_500_000_000_000);

    #[test]
    fn what_is_ordered_is_there_after_a_restart_and_one_program_keeps_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        let of = StreamName { camera: "Mast".into(), stream: "sub".into() };
        let reading = |second: i64| {
            let sample = Sample { sent: Some(12.5), ..Sample::default() };
            Reading { of: of.clone(), at: NOW.offset(-second * 1_000_000), sample }
        };
        let keeper = Keeper::start(&path, NOW);
        keeper.keep_history((1..=300).rev().map(reading).collect(), Vec::new());
        let second = Keeper::start(&path, NOW);
        assert_eq!(second.remark.as_deref(), Some("another program keeps the ledger of this site"));
        drop(second);
        drop(keeper);
        let again = Keeper::start(&path, NOW);
        let past = &again.past[&of];
        assert_eq!(past.iter().map(|(_, readings)| readings.len()).collect::<Vec<_>>(), [300, 30, 5]);
        assert!(again.remark.is_none() && again.size() > 0);
    }

    #[test]
    fn where_nothing_can_be_kept_it_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a file");
        std::fs::write(&file, "").unwrap();
        let keeper = Keeper::start(&file.join("ledger.db"), NOW);
        assert!(keeper.remark.as_ref().is_some_and(|remark| remark.contains("are not kept")), "{:?}", keeper.remark);
        keeper.keep_history(Vec::new(), Vec::new());
        assert_eq!(keeper.size(), 0);
    }
}
