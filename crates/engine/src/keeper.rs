//! Keeps the record of a site on disk, its ledger and its history, on a thread of its own: whoever measures never waits for
//! a disk.
//!
//! One program keeps the record of a site. Others that run beside it show what it keeps, leave orders for it in the record,
//! and the first of them that sees it gone goes on keeping.

use crate::around::Around;
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, TrySendError, bounded, unbounded};
use lattice_core::Wall;
use lattice_core::ledger::Entry;
use lattice_core::meter::{Sample, Span};
use lattice_store::{KeptPicture, Missing, Ordered, Reading, RecordError, RecordFile, StreamName, Tier};
use std::collections::{BTreeMap, HashMap};
use std::fs::{File, OpenOptions};
use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Entries that are read at the start.
const READ: usize = 1000;
/// Changes are gathered for so long before they are written.
const GATHERS: Duration = Duration::from_millis(500);
/// How often it is looked for orders of others, for what another program wrote, and whether that one is gone.
const LOOKS: Duration = Duration::from_secs(1);
/// Longest name of whoever keeps the record.
const NAME: u64 = 200;
/// Spans of the charts, and the readings that they are made of.
const SPANS: [(Span, Tier); 3] = [(Span::TenMinutes, Tier::Second), (Span::Hour, Tier::TenSeconds), (Span::Day, Tier::Minute)];

/// The readings of a stream for each span, oldest first.
pub type Past = Vec<(Span, Vec<(Wall, Sample)>)>;

/// Orders that may wait for the thread that writes; what comes when it hangs on its disk is gathered, the newest of each entry.
const WAITING: usize = 256;
/// Readings that are gathered at most: of 32 streams, an hour.
const GATHERED: usize = 12_000;

/// So long a program that ends waits for a disk that hangs.
const LAST_ORDERS: Duration = Duration::from_secs(3);

/// What waits for room.
#[derive(Default)]
struct Backlog {
    entries: BTreeMap<u64, Entry>,
    removed: Vec<u64>,
    readings: Vec<Reading>,
    missing: Vec<Missing>,
    lost: usize,
}

enum Order {
    Entries(Vec<Entry>, Vec<u64>),
    History(Vec<Reading>, Vec<Missing>),
    Pictures(Vec<KeptPicture>),
    Ask(Question),
    Elsewhere(Ordered),
}

/// What is asked of the record when all that was ordered before is in it; the answer is told to whoever looks at the news.
pub type Question = Box<dyn FnOnce(&RecordFile) -> anyhow::Result<KeeperNews> + Send>;

/// What the keeper tells.
#[derive(Debug)]
pub enum KeeperNews {
    /// What was answered, or what goes wrong.
    Said(Result<String, String>),
    /// What the record has around an entry.
    Around(Arc<Around>),
    /// Another program keeps the record, and these are its newest entries.
    Elsewhere(Vec<Entry>),
    /// This program keeps the record from now on; these are its newest entries as they were left, and when that
    /// was.
    Keeps(Vec<Entry>, Option<Wall>),
    /// Who does not keep it ordered something.
    Ordered(Ordered),
}

/// The keeper of the record.
pub struct Keeper {
    /// The ledger as it was kept before, oldest first.
    pub kept: Vec<Entry>,
    /// When it was kept last.
    pub seen: Option<Wall>,
    /// The figures of before, by stream.
    pub past: HashMap<StreamName, Past>,
    /// Something to be said at the start.
    pub remark: Option<String>,
    /// Who keeps the record, where that is another program; what went wrong where nobody does.
    pub not_kept: Option<String>,
    orders: Option<Sender<Order>>,
    /// What the thread had no room for: it hangs on its disk.
    backlog: Mutex<Backlog>,
    /// What it tells.
    pub news: Receiver<KeeperNews>,
    size: Arc<AtomicU64>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Keeper {
    /// For the record in this file; `who` this program is to others. Where it cannot be kept, that is said, and the ledger
    /// is there all the same.
    #[must_use]
    pub fn start(path: &Path, now: Wall, who: &str) -> Self {
        let (tell, news) = unbounded();
        if let Some(folder) = path.parent() {
            let _ = std::fs::create_dir_all(folder); // what is wrong with it is told below
        }
        let lock = Lock::new(path, who);
        let held = lock.take();
        let (mut file, aside) = match open(path, held.is_some()) {
            Ok(opened) => opened,
            Err(error) => {
                let not_kept = Some(format!("ledger and history are not kept: {error}"));
                let (kept, past) = (Vec::new(), HashMap::new());
                return Self {
                    kept,
                    seen: None,
                    past,
                    remark: None,
                    not_kept,
                    orders: None,
                    backlog: Mutex::default(),
                    news,
                    size: Arc::default(),
                    thread: None,
                };
            }
        };
        let past = read_past(&file, now).inspect_err(|error| tracing::warn!(%error, "the history")).unwrap_or_default();
        if held.is_some()
            && let Err(error) = file.end_missing()
        {
            tracing::warn!(%error, "the history");
        }
        let kept = file.newest(READ).unwrap_or_default();
        let seen = file.last_reading().unwrap_or_default();
        let not_kept = held.is_none().then(|| lock.kept_by());
        let (sender, orders) = bounded::<Order>(WAITING);
        let size = Arc::new(AtomicU64::new(file.size().unwrap_or_default()));
        let shared = size.clone();
        let work = move || {
            let held = match held {
                Some(held) => held,
                None => match follow(&mut file, &lock, &orders, &tell, &shared) {
                    Some(held) => held,
                    None => return,
                },
            };
            write(file, &orders, &tell, &shared);
            drop(held);
        };
        let thread = std::thread::Builder::new().name("record".into()).spawn(work).ok();
        let remark =
            aside.map(|aside| format!("the record was damaged: it is set aside as {}, and a new one begun", aside.display()));
        Self { kept, seen, past, remark, not_kept, orders: Some(sender), backlog: Mutex::default(), news, size, thread }
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

    /// Keeps pictures.
    pub fn keep_pictures(&self, pictures: Vec<KeptPicture>) {
        if !pictures.is_empty() {
            self.order(Order::Pictures(pictures));
        }
    }

    /// Asks something of the record; its answer is among the news.
    pub fn ask(&self, question: Question) {
        self.order(Order::Ask(question));
    }

    /// Leaves an order for the program that keeps the record.
    pub fn leave(&self, ordered: Ordered) {
        self.order(Order::Elsewhere(ordered));
    }

    /// Passes an order on, after what waited for room. Whoever measures never waits.
    fn order(&self, order: Order) {
        let Some(sender) = &self.orders else { return };
        let mut backlog = self.backlog.lock().unwrap_or_else(PoisonError::into_inner);
        backlog.pass(sender);
        if backlog.waits() {
            return backlog.gather(order); // nothing overtakes what waits
        }
        match sender.try_send(order) {
            Err(TrySendError::Full(order)) => backlog.gather(order),
            Ok(()) | Err(TrySendError::Disconnected(_)) => {}
        }
    }

    /// How large the record is on disk, in bytes; 0 where nothing is kept.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.size.load(Ordering::Relaxed)
    }
}

impl Backlog {
    /// Whether something waits.
    fn waits(&self) -> bool {
        !(self.entries.is_empty() && self.removed.is_empty() && self.readings.is_empty() && self.missing.is_empty())
    }

    /// The last orders: there is room for them, or there will be soon.
    fn pass_all(mut self, sender: &Sender<Order>) {
        let entries =
            Order::Entries(std::mem::take(&mut self.entries).into_values().collect(), std::mem::take(&mut self.removed));
        let history = Order::History(std::mem::take(&mut self.readings), std::mem::take(&mut self.missing));
        for order in [entries, history] {
            if sender.send_timeout(order, LAST_ORDERS).is_err() {
                return tracing::warn!("the disk of the record hangs: what was measured last is not in it");
            }
        }
    }

    /// Passes on what there is room for.
    fn pass(&mut self, sender: &Sender<Order>) {
        if sender.is_full() {
            return;
        }
        if !self.entries.is_empty() || !self.removed.is_empty() {
            let entries = std::mem::take(&mut self.entries).into_values().collect();
            let _ = sender.try_send(Order::Entries(entries, std::mem::take(&mut self.removed)));
        }
        let nothing = self.readings.is_empty() && self.missing.is_empty();
        if !nothing && !sender.is_full() {
            let _ = sender.try_send(Order::History(std::mem::take(&mut self.readings), std::mem::take(&mut self.missing)));
            if std::mem::take(&mut self.lost) > 0 {
                tracing::warn!("the disk of the record was too slow: readings are missing in the history");
            }
        }
    }

    fn gather(&mut self, order: Order) {
        match order {
            Order::Entries(entries, gone) => {
                self.entries.retain(|id, _| !gone.contains(id));
                self.removed.extend(gone);
                self.entries.extend(entries.into_iter().map(|entry| (entry.id, entry)));
                while self.entries.len() > READ * 4 {
                    self.entries.pop_first();
                }
            }
            Order::History(readings, missing) => {
                self.readings.extend(readings);
                self.missing.extend(missing);
                let over = self.readings.len().saturating_sub(GATHERED);
                self.readings.drain(..over);
                self.lost += over;
                self.missing.drain(..self.missing.len().saturating_sub(READ));
            }
            // Nobody waits for these: who asked is told by nothing coming.
            Order::Ask(_) | Order::Elsewhere(_) | Order::Pictures(_) => {
                tracing::warn!("the record is busy: an order was not taken");
            }
        }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        let backlog = std::mem::take(&mut *self.backlog.lock().unwrap_or_else(PoisonError::into_inner));
        if let Some(sender) = self.orders.take().filter(|_| backlog.waits()) {
            backlog.pass_all(&sender);
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Opens a record. Only who keeps it may set it aside where it is damaged, or change its schema.
fn open(path: &Path, keeps: bool) -> Result<(RecordFile, Option<PathBuf>), RecordError> {
    if keeps { RecordFile::open(path) } else { RecordFile::beside(path).map(|file| (file, None)) }
}

/// Opens the record of a site to look into it, beside the program that keeps it if there is one; else as if this program kept it
/// for the moment. Gives what was set aside, too.
///
/// # Errors
/// When there is no way to read it.
pub fn look_into(path: &Path) -> anyhow::Result<(RecordFile, Option<PathBuf>)> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    let held = Lock::new(path, "a look into it").take();
    open(path, held.is_some()).map_err(|error| {
        let kept = error.is_damage().then(|| anyhow::anyhow!("the program that keeps it sets it aside when it meets the damage"));
        kept.map_or_else(|| error.into(), |kept| kept.context("the record is damaged"))
    })
}

/// The lock of a record: who holds it keeps the record, and says who that is.
struct Lock {
    path: PathBuf,
    who: String,
}

impl Lock {
    fn new(record: &Path, who: &str) -> Self {
        Self { path: record.with_extension("lock"), who: format!("{who}, process {}", std::process::id()) }
    }

    /// Takes it, unless another program has it.
    fn take(&self) -> Option<File> {
        let mut file = OpenOptions::new().create(true).read(true).write(true).truncate(false).open(&self.path).ok()?;
        file.try_lock().ok()?;
        let told = file.set_len(0).and_then(|()| file.write_all(self.who.as_bytes()));
        if let Err(error) = told {
            tracing::warn!(%error, "who keeps the record");
        }
        Some(file)
    }

    /// Who has it, in a sentence.
    fn kept_by(&self) -> String {
        let mut name = String::new();
        let read = File::open(&self.path).and_then(|file| file.take(NAME).read_to_string(&mut name));
        let name: String = name.chars().filter(|c| !c.is_control()).collect();
        match read {
            Ok(1..) => format!("the record is kept by another program ({name})"),
            _ => "the record is kept by another program".into(),
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

/// Shows what another program keeps, until that one is gone; gives the lock then, and nothing where this program ends before.
fn follow(
    file: &mut RecordFile,
    lock: &Lock,
    orders: &Receiver<Order>,
    tell: &Sender<KeeperNews>,
    size: &AtomicU64,
) -> Option<File> {
    let mut seen = file.data_version().ok();
    loop {
        match orders.recv_timeout(LOOKS) {
            Ok(Order::Ask(question)) => {
                let _ = tell.send(question(file).unwrap_or_else(|error| KeeperNews::Said(Err(format!("{error:#}")))));
            }
            Ok(Order::Elsewhere(ordered)) => {
                if let Err(error) = file.leave_order(&ordered) {
                    let _ = tell.send(KeeperNews::Said(Err(format!("the order was not left: {error}"))));
                }
            }
            Ok(Order::Entries(..) | Order::History(..) | Order::Pictures(_)) => {} // the other one measures them itself
            Err(RecvTimeoutError::Disconnected) => return None,
            Err(RecvTimeoutError::Timeout) => {}
        }
        if let Some(held) = lock.take() {
            if let Err(error) = file.end_missing() {
                tracing::warn!(%error, "the history");
            }
            let _ = tell.send(KeeperNews::Keeps(file.newest(READ).unwrap_or_default(), file.last_reading().unwrap_or_default()));
            return Some(held);
        }
        let now = file.data_version().ok();
        if now != seen {
            seen = now;
            if let Ok(entries) = file.newest(READ) {
                let _ = tell.send(KeeperNews::Elsewhere(entries));
            }
            size.store(file.size().unwrap_or_default(), Ordering::Relaxed);
        }
    }
}

/// What was ordered and is not written yet.
#[derive(Default)]
struct Unwritten {
    entries: Vec<Entry>,
    removed: Vec<u64>,
    readings: Vec<Reading>,
    missing: Vec<Missing>,
    pictures: Vec<KeptPicture>,
    questions: Vec<Question>,
}

impl Unwritten {
    fn take(&mut self, order: Order, tell: &Sender<KeeperNews>) {
        match order {
            Order::Entries(entries, gone) => {
                self.entries.retain(|before| !gone.contains(&before.id));
                self.removed.extend(gone);
                for entry in entries {
                    self.entries.retain(|before| before.id != entry.id);
                    self.entries.push(entry);
                }
            }
            Order::Ask(question) => self.questions.push(question),
            Order::Pictures(more) => self.pictures.extend(more),
            // Ordered just before this program began to keep the record.
            Order::Elsewhere(ordered) => drop(tell.send(KeeperNews::Ordered(ordered))),
            Order::History(more, gone) => {
                self.readings.extend(more);
                self.missing.extend(gone);
            }
        }
    }

    /// What could be written waits no more.
    fn write(&mut self, file: &mut RecordFile) -> Result<(), RecordError> {
        let latest = self.readings.iter().map(|reading| reading.at).max();
        file.keep(&self.entries)?;
        self.entries.clear();
        file.remove(&self.removed)?;
        self.removed.clear();
        let kept = file.keep_history(&self.readings, &self.missing);
        // Readings that could not be written are in the record's memory.
        self.readings.clear();
        kept?;
        self.missing.clear();
        if !self.pictures.is_empty() {
            file.keep_pictures(&std::mem::take(&mut self.pictures))?;
        }
        latest.map_or(Ok(()), |now| file.prune(now))
    }

    /// A full disk, say: it is tried again with what comes next, as long as that stays little.
    fn stay_little(&mut self) {
        self.entries.drain(..self.entries.len().saturating_sub(READ));
        self.readings.drain(..self.readings.len().saturating_sub(READ * 64));
        self.missing.drain(..self.missing.len().saturating_sub(READ));
        self.pictures.clear();
    }
}

/// Writes what is ordered until nobody orders any more.
fn write(mut file: RecordFile, orders: &Receiver<Order>, tell: &Sender<KeeperNews>, size: &AtomicU64) {
    let (mut unwritten, mut failing) = (Unwritten::default(), false);
    loop {
        let first = match orders.recv_timeout(LOOKS) {
            Ok(first) => Some(first),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => return,
        };
        match file.take_orders() {
            Ok(ordered) => ordered.into_iter().for_each(|one| drop(tell.send(KeeperNews::Ordered(one)))),
            Err(error) => tracing::debug!(%error, "orders of others"),
        }
        let Some(first) = first else { continue };
        // What changes twice a second is written once.
        std::thread::sleep(GATHERS);
        for order in std::iter::once(first).chain(orders.try_iter()) {
            unwritten.take(order, tell);
        }
        match unwritten.write(&mut file) {
            Ok(()) => {
                if std::mem::take(&mut failing) {
                    let _ = tell.send(KeeperNews::Said(Ok("ledger and history are written again".into())));
                }
                size.store(file.size().unwrap_or_default(), Ordering::Relaxed);
            }
            Err(error) if error.is_damage() => match file.begin_anew() {
                Ok((new, aside)) => {
                    file = new;
                    let aside = aside.display();
                    let said = format!("the record is damaged: it is set aside as {aside}, and a new one begun");
                    let _ = tell.send(KeeperNews::Said(Err(said)));
                }
                Err(error) => {
                    let _ = tell.send(KeeperNews::Said(Err(format!("ledger and history are not kept any more: {error}"))));
                    return;
                }
            },
            Err(error) => {
                tracing::warn!(%error, "the record");
                if !std::mem::replace(&mut failing, true) {
                    let said = "ledger and history could not be written, and will be tried again";
                    let _ = tell.send(KeeperNews::Said(Err(format!("{said}; measuring goes on: {error}"))));
                }
                unwritten.stay_little();
            }
        }
        for question in unwritten.questions.drain(..) {
            let _ = tell.send(question(&file).unwrap_or_else(|error| KeeperNews::Said(Err(format!("{error:#}")))));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_store::EntryOrder;
    use std::time::Instant;

    const NOW: Wall = Wall::from_unix_micros(1_795_500_000_000_000);

    /// News that fit, within ten seconds.
    fn awaited<T>(keeper: &Keeper, fits: impl Fn(KeeperNews) -> Option<T>) -> T {
        let deadline = Instant::now() + Duration::from_secs(10);
        loop {
            let news = keeper.news.recv_deadline(deadline).expect("the news come");
            if let Some(fits) = fits(news) {
                return fits;
            }
        }
    }

    #[test]
    fn what_a_hanging_disk_has_no_room_for_is_gathered_and_nothing_overtakes_it() {
        let mut ledger = lattice_core::ledger::Ledger::default();
        ledger.on_done(NOW, "Mast", None, "reconnected".into());
        let one = ledger.take_changed().remove(0);
        let entry = |note: &str| Entry { note: note.into(), ..one.clone() };
        let (sender, orders) = bounded::<Order>(1);
        let keeper = Keeper {
            kept: Vec::new(),
            seen: None,
            past: HashMap::new(),
            remark: None,
            not_kept: None,
            orders: Some(sender),
            backlog: Mutex::default(),
            news: unbounded().1,
            size: Arc::default(),
            thread: None,
        };
        let notes = |order: Order| match order {
            Order::Entries(entries, _) => entries.into_iter().map(|entry| entry.note).collect::<Vec<_>>(),
            _ => panic!("entries"),
        };
        for note in ["first", "second", "third"] {
            keeper.keep(vec![entry(note)], Vec::new());
        }
        assert_eq!(notes(orders.try_recv().unwrap()), ["first"]);
        // There is room again: what waited goes first, the newest of each entry.
        keeper.keep(vec![entry("fourth")], Vec::new());
        assert_eq!(notes(orders.try_recv().unwrap()), ["third"]);
        // The program ends, and what waits is still passed on.
        let passed = std::thread::spawn(move || [orders.recv(), orders.recv()].into_iter().flatten().next());
        drop(keeper);
        assert_eq!(passed.join().unwrap().map(notes).unwrap(), ["fourth"]);
    }

    #[test]
    fn who_looks_into_a_record_that_another_keeps_sets_nothing_aside() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        std::fs::write(&path, "no database at all".repeat(100)).unwrap();
        let held = Lock::new(&path, "wall").take();
        assert!(held.is_some());
        let why = format!("{:#}", look_into(&path).err().unwrap());
        assert!(why.contains("damaged") && why.contains("keeps it"), "{why}");
        let beside = Keeper::start(&path, NOW, "second wall");
        assert!(beside.not_kept.is_some() && !folder.path().join("ledger.damaged").exists());
        drop((held, beside));
        // Nobody keeps it: whoever comes does for the moment.
        let (_, aside) = look_into(&path).unwrap();
        assert_eq!(aside, Some(folder.path().join("ledger.damaged")));
    }

    #[test]
    fn what_is_ordered_is_there_after_a_restart_and_the_second_program_goes_on_keeping() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.db");
        let of = StreamName { camera: "Mast".into(), stream: "sub".into() };
        let reading = |second: i64| {
            let sample = Sample::default().with_value(lattice_core::meter::Fig::Sent, 12.5);
            Reading { of: of.clone(), at: NOW.offset(-second * 1_000_000), sample }
        };
        let keeper = Keeper::start(&path, NOW, "the first");
        assert!(keeper.not_kept.is_none());
        keeper.keep_history((1..=300).rev().map(reading).collect(), Vec::new());
        let second = Keeper::start(&path, NOW, "the second");
        let told = format!("the record is kept by another program (the first, process {})", std::process::id());
        assert_eq!(second.not_kept.as_deref(), Some(told.as_str()));
        // It shows what the first writes, and what it orders reaches the first.
        let mut ledger = lattice_core::ledger::Ledger::default();
        ledger.on_done(NOW, "Mast", None, "reconnected".into());
        keeper.keep(ledger.take_changed(), Vec::new());
        let shown = awaited(&second, |news| match news {
            KeeperNews::Elsewhere(entries) => entries.first().cloned(),
            _ => None,
        });
        assert_eq!(shown.done, ["reconnected"]);
        let order = Ordered { entry: shown.id, order: EntryOrder::Note("a gull".into()), by: "watch".into(), at: NOW };
        second.leave(order.clone());
        let reached = awaited(&keeper, |news| match news {
            KeeperNews::Ordered(ordered) => Some(ordered),
            _ => None,
        });
        assert_eq!(reached, order);
        drop(keeper);
        let left = awaited(&second, |news| match news {
            KeeperNews::Keeps(entries, _) => Some(entries),
            _ => None,
        });
        assert_eq!(left.len(), 1);
        second.keep(Vec::new(), vec![shown.id]);
        drop(second);
        let again = Keeper::start(&path, NOW, "the third");
        let past = &again.past[&of];
        assert_eq!(past.iter().map(|(_, readings)| readings.len()).collect::<Vec<_>>(), [300, 30, 5]);
        assert!(again.kept.is_empty() && again.not_kept.is_none() && again.size() > 0);
    }

    #[test]
    fn where_nothing_can_be_kept_it_is_said() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a file");
        std::fs::write(&file, "").unwrap();
        let keeper = Keeper::start(&file.join("ledger.db"), NOW, "x");
        assert!(keeper.not_kept.as_ref().is_some_and(|told| told.contains("are not kept")), "{:?}", keeper.not_kept);
        keeper.keep_history(Vec::new(), Vec::new());
        assert_eq!(keeper.size(), 0);
    }
}
