//! The receive buffer: units wait here until they are due.

use crate::clock;
use crate::source::{Station, UnitSink};
use crate::taps::Taps;
use bytes::Bytes;
use lattice_core::Mono;
use lattice_core::receiver::Unit;
use lattice_core::video::Parameters;
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::runtime::Handle;
use tokio::sync::{Notify, mpsc};
use tokio::task::JoinHandle;

/// Units and bytes held at most, as in a decoder's inbox; beyond that the oldest go on before they are due.
const MAX_UNITS: usize = 600;
const MAX_BYTES: usize = 24 << 20;

struct Held {
    due: Mono,
    unit: Unit,
    parameters: Option<Parameters>,
}

impl Held {
    fn bytes(&self) -> usize {
        self.unit.unit.data.as_ref().map_or(0, Bytes::len)
    }
}

struct Inner {
    sink: UnitSink,
    held: VecDeque<Held>,
    bytes: usize,
}

struct Shared {
    inner: Mutex<Inner>,
    changed: Notify,
    stations: mpsc::Sender<Station>,
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Gives on what is due by then, and what is beyond the bounds; the time when the next one is.
    fn release(&self, until: Mono) -> Option<Mono> {
        let mut inner = self.lock();
        loop {
            let full = inner.held.len() > MAX_UNITS || inner.bytes > MAX_BYTES;
            let due = inner.held.front().map(|held| held.due);
            if !full && due.is_none_or(|due| due > until) {
                return due;
            }
            let held = inner.held.pop_front()?;
            inner.bytes -= held.bytes();
            let number = held.unit.unit.number;
            (inner.sink)(held.unit, held.parameters.as_ref());
            let _ = self.stations.try_send(Station::Released { number, at: clock::now() });
        }
    }
}

/// The way from a receiver to whoever wants its units. Units keep their order.
pub struct Outlet {
    shared: Arc<Shared>,
    taps: Taps,
    task: JoinHandle<()>,
}

impl Outlet {
    pub(crate) fn new(runtime: &Handle, sink: UnitSink, taps: Taps, stations: mpsc::Sender<Station>) -> Self {
        let inner = Mutex::new(Inner { sink, held: VecDeque::new(), bytes: 0 });
        let shared = Arc::new(Shared { inner, changed: Notify::new(), stations });
        let task = runtime.spawn(keep_releasing(shared.clone()));
        Self { shared, taps, task }
    }

    pub(crate) fn give(&self, unit: Unit, parameters: Option<&Parameters>) {
        self.taps.give(&unit, parameters);
        let mut inner = self.shared.lock();
        let Some(due) = unit.due.filter(|due| *due > clock::now()).or(inner.held.back().map(|held| held.due)) else {
            (inner.sink)(unit, parameters);
            return;
        };
        let held = Held { due, unit, parameters: parameters.copied() };
        let first = inner.held.is_empty();
        inner.bytes += held.bytes();
        inner.held.push_back(held);
        let full = inner.held.len() > MAX_UNITS || inner.bytes > MAX_BYTES;
        drop(inner);
        if first || full {
            self.shared.changed.notify_one();
        }
    }

    /// The buffer is another one now: what waits for the old one goes on.
    pub(crate) fn release_all(&self) {
        self.shared.release(Mono::from_micros(u64::MAX));
    }
}

impl Drop for Outlet {
    fn drop(&mut self) {
        self.task.abort();
    }
}

async fn keep_releasing(shared: Arc<Shared>) {
    loop {
        match shared.release(clock::now()) {
            Some(due) => tokio::select! {
                () = tokio::time::sleep_until(clock::instant(due)) => {}
                () = shared.changed.notified() => {}
            },
            None => shared.changed.notified().await,
        }
    }
}
