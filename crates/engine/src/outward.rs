//! What goes out to other systems while the wall runs: figures as `OpenMetrics` text, ledger entries as lines of JSON.

use crate::camera::{Cameras, FeedKey};
use anyhow::Context as _;
use crossbeam_channel::{Sender, bounded};
use lattice_core::Cause;
use lattice_core::event::EventKind;
use lattice_core::ledger::Entry;
use lattice_core::meter::Figures;
use lattice_core::metrics::{Measured, text};
use lattice_store::Site;
use std::collections::{BTreeMap, HashMap};
use std::fs::OpenOptions;
use std::io::Write as _;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;

/// What goes out.
#[derive(Debug, Clone, Default)]
pub struct OutwardOptions {
    /// The figures as `OpenMetrics` text are served here.
    pub metrics: Option<SocketAddr>,
    /// Every entry of the ledger is appended to this file as it begins, changes and ends, a JSON object a line.
    pub ledger_lines: Option<PathBuf>,
}

/// The text is made anew this often.
const EVERY: Duration = Duration::from_secs(1);
/// Lines that wait for a reader of a pipe; how many were left out stands in the first line behind them.
const LINES: usize = 4000;
/// So many of the newest entries are remembered, to tell what is new of them.
const REMEMBERED: usize = 4000;

/// What of an entry is worth another line.
type Told = (EventKind, Option<Cause>, bool, bool, usize);

/// Which entries were told, and how they were then.
#[derive(Debug, Default)]
pub struct Telling(BTreeMap<u64, Told>);

impl Telling {
    /// Whether an entry is new, or differs in what matters from what was told of it.
    pub fn is_news(&mut self, entry: &Entry) -> bool {
        let now: Told = (entry.kind, entry.cause, entry.end.is_some(), entry.acknowledged.is_some(), entry.cameras.len());
        let news = self.0.insert(entry.id, now) != Some(now);
        while self.0.len() > REMEMBERED {
            self.0.pop_first();
        }
        news
    }
}

/// Where figures and entries go.
pub(crate) struct Outward {
    texts: Option<watch::Sender<Arc<str>>>,
    made: Option<Instant>,
    lines: Option<Sender<String>>,
    /// Lines that nobody fetched in time, since the last that was written.
    left_out: usize,
    telling: Telling,
    /// Serves the figures: whoever asks for them takes nothing from the thread that receives.
    _runtime: Option<tokio::runtime::Runtime>,
}

impl Outward {
    /// As the options say.
    ///
    /// # Errors
    /// When the address or the file cannot be used.
    pub fn start(options: &OutwardOptions) -> anyhow::Result<Self> {
        let (texts, runtime) = match options.metrics {
            None => (None, None),
            Some(address) => {
                let runtime = tokio::runtime::Builder::new_multi_thread()
                    .worker_threads(1)
                    .thread_name("metrics")
                    .enable_all()
                    .build()
                    .context("no thread for metrics")?;
                let (sender, receiver) = watch::channel(Arc::from(text(&[], 0)));
                lattice_net::serve_text(runtime.handle(), address, lattice_core::metrics::CONTENT_TYPE, receiver)
                    .with_context(|| format!("metrics cannot be served at {address}, choose another address or port"))?;
                (Some(sender), Some(runtime))
            }
        };
        let lines = options.ledger_lines.as_deref().map(writer).transpose()?;
        Ok(Self { texts, made: None, lines, left_out: 0, telling: Telling::default(), _runtime: runtime })
    }

    /// Figures as they are now, and how many alarms there are.
    pub fn figures(
        &mut self,
        cameras: &Cameras,
        site: &Site,
        figures: &HashMap<FeedKey, Arc<Figures>>,
        alarms: impl FnOnce() -> usize,
    ) {
        let Some(texts) = self.texts.as_ref().filter(|_| self.made.is_none_or(|made| made.elapsed() >= EVERY)) else { return };
        self.made = Some(Instant::now());
        let mut streams: Vec<Measured<'_>> = figures
            .iter()
            .filter(|(key, _)| key.by.is_none())
            .map(|(key, figures)| {
                let camera = cameras.name(key.camera);
                let group = site.camera(camera).and_then(|camera| camera.group.as_deref());
                Measured { camera, stream: key.role.word(), group, figures }
            })
            .collect();
        streams.sort_by_key(|one| (one.camera, one.stream));
        texts.send_replace(Arc::from(text(&streams, alarms())));
    }

    /// Entries that changed.
    pub fn entries(&mut self, entries: &[Entry]) {
        let Some(lines) = &self.lines else { return };
        for entry in entries {
            if !self.telling.is_news(entry) {
                continue;
            }
            if self.left_out > 0 && lines.try_send(format!("{{\"left_out\":{}}}", self.left_out)).is_ok() {
                self.left_out = 0;
            }
            self.left_out += usize::from(lines.try_send(lattice_report::entry_line(entry)).is_err());
        }
    }
}

/// A file that lines are appended to, on a thread of its own: a pipe that nobody reads keeps nobody waiting.
fn writer(path: &Path) -> anyhow::Result<Sender<String>> {
    use std::os::unix::fs::FileTypeExt as _;
    let (path, (sender, lines)) = (path.to_owned(), bounded::<String>(LINES));
    let open = |path: &Path| OpenOptions::new().create(true).append(true).open(path);
    // Opening a pipe waits for a reader: that is the thread's business.
    let pipe = std::fs::metadata(&path).is_ok_and(|about| about.file_type().is_fifo());
    let told = |error: std::io::Error| anyhow::anyhow!("ledger entries cannot be written to {}: {error}", path.display());
    let file = if pipe { None } else { Some(open(&path).map_err(told)?) };
    let write = move || {
        let Some(mut file) = file.or_else(|| open(&path).ok()) else { return };
        for line in lines {
            if let Err(error) = writeln!(file, "{line}") {
                tracing::warn!(%error, "ledger lines");
            }
        }
    };
    std::thread::Builder::new().name("ledger lines".into()).spawn(write)?;
    Ok(sender)
}
