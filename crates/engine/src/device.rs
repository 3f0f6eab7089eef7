//! One queue a device: all that is asked of it goes through here, one after the other, on one connection.
//!
//! What is urgent goes before what waits, and never before what is being done. A queue ends by itself when nothing was asked
//! for a while.

use lattice_net::{Device, DeviceError};
use std::collections::{HashMap, VecDeque};
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::mpsc;

/// Requests that wait for a device at most; one that answers nothing must not gather more.
const WAITING: usize = 64;
/// A queue that nobody used for so long ends, and its connection with it.
const IDLE: Duration = Duration::from_secs(30);
/// The device's time is asked again after this: what is signed must carry it.
const GREETED_FOR: Duration = Duration::from_secs(60);

/// Which goes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Urgency {
    /// Before all that waits: somebody steers, or stops.
    Urgent,
    /// In its turn.
    Usual,
}

/// Whom a queue is for: host, port, the name of the sign-in.
pub type DeviceKey = (String, u16, Option<String>);

/// What a request comes to.
pub type Doing<'a> = Pin<Box<dyn Future<Output = ()> + Send + 'a>>;

/// The device of a queue, greeted when it was last needed.
#[derive(Debug)]
pub struct Line {
    device: Device,
    greeted: Option<Instant>,
}

impl Line {
    /// The device, after a greeting where the last one is old: without it what is signed may carry the wrong time.
    ///
    /// # Errors
    /// [`DeviceError`]: it does not answer, or is none.
    pub async fn greeted(&mut self) -> Result<&mut Device, DeviceError> {
        if self.greeted.is_none_or(|at| at.elapsed() >= GREETED_FOR) {
            match self.device.greet().await {
                Ok(_) | Err(DeviceError::SignInNeeded) => self.greeted = Some(Instant::now()),
                Err(error) => return Err(error),
            }
        }
        Ok(&mut self.device)
    }

    /// The device as it is, greeted or not.
    pub const fn device(&mut self) -> &mut Device {
        &mut self.device
    }
}

struct Request {
    urgency: Urgency,
    work: Box<dyn for<'a> FnOnce(&'a mut Line) -> Doing<'a> + Send>,
}

/// Too much is waiting for this device already.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("the device is busy: {WAITING} requests wait for it already")]
pub struct Busy;

/// The queues of all devices that were asked lately.
#[derive(Clone)]
pub struct Queues {
    runtime: Handle,
    open: Arc<Mutex<HashMap<DeviceKey, mpsc::Sender<Request>>>>,
}

impl Queues {
    /// No queue yet; their work is done on this runtime.
    #[must_use]
    pub fn new(runtime: Handle) -> Self {
        Self { runtime, open: Arc::default() }
    }

    /// Asks something of a device, in order. `device` says how it is reached where it was not asked lately.
    ///
    /// # Errors
    /// [`Busy`].
    pub fn ask(
        &self,
        key: &DeviceKey,
        device: Device,
        urgency: Urgency,
        work: impl for<'a> FnOnce(&'a mut Line) -> Doing<'a> + Send + 'static,
    ) -> Result<(), Busy> {
        let mut request = Request { urgency, work: Box::new(work) };
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(queue) = open.get(key) {
            match queue.try_send(request) {
                Ok(()) => return Ok(()),
                Err(mpsc::error::TrySendError::Full(_)) => return Err(Busy),
                Err(mpsc::error::TrySendError::Closed(back)) => request = back,
            }
        }
        open.retain(|_, queue| !queue.is_closed());
        let (sender, requests) = mpsc::channel(WAITING);
        let sent = sender.try_send(request).map_err(|_| Busy);
        open.insert(key.clone(), sender);
        self.runtime.spawn(serve(Line { device, greeted: None }, requests));
        sent
    }

    /// The device is reached in another way from now on: with another sign-in, another certificate. What waits is done as it
    /// was asked.
    pub fn forget(&self, hosts: &[&str]) {
        self.open.lock().unwrap_or_else(PoisonError::into_inner).retain(|(host, ..), _| !hosts.contains(&host.as_str()));
    }
}

async fn serve(mut line: Line, mut requests: mpsc::Receiver<Request>) {
    let mut waiting: VecDeque<Request> = VecDeque::new();
    loop {
        while let Ok(request) = requests.try_recv() {
            enqueue(&mut waiting, request);
        }
        match waiting.pop_front() {
            Some(request) => (request.work)(&mut line).await,
            None => match tokio::time::timeout(IDLE, requests.recv()).await {
                Ok(Some(request)) => enqueue(&mut waiting, request),
                Ok(None) => return,
                Err(_) => {
                    requests.close();
                    // What came in the last moment is still done.
                    while let Some(request) = requests.recv().await {
                        (request.work)(&mut line).await;
                    }
                    return;
                }
            },
        }
    }
}

/// In its turn: what is urgent behind what is urgent already, and before the rest.
fn enqueue(waiting: &mut VecDeque<Request>, request: Request) {
    let at = match request.urgency {
        Urgency::Usual => waiting.len(),
        Urgency::Urgent => waiting.iter().take_while(|one| one.urgency == Urgency::Urgent).count(),
    };
    waiting.insert(at, request);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_keep_their_order_and_an_urgent_one_goes_before_what_waits() {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let queues = Queues::new(runtime.handle().clone());
        let key: DeviceKey = ("192.0.2.1".into(), 80, None);
        let device = || Device::new("192.0.2.1", 80, None, None);
        let (told, heard) = std::sync::mpsc::channel();
        let (go, gate) = tokio::sync::oneshot::channel::<()>();
        let begun = told.clone();
        queues
            .ask(&key, device(), Urgency::Usual, move |_| {
                Box::pin(async move {
                    let _ = begun.send("first");
                    let _ = gate.await;
                })
            })
            .unwrap();
        assert_eq!(heard.recv().unwrap(), "first");
        let say = |urgency, what: &'static str| {
            let told = told.clone();
            queues.ask(&key, device(), urgency, move |_| Box::pin(async move { assert!(told.send(what).is_ok()) }))
        };
        say(Urgency::Usual, "second").unwrap();
        say(Urgency::Usual, "third").unwrap();
        say(Urgency::Urgent, "stop").unwrap();
        say(Urgency::Urgent, "go on").unwrap();
        go.send(()).unwrap();
        let order: Vec<&str> = (0..4).map(|_| heard.recv().unwrap()).collect();
        assert_eq!(order, ["stop", "go on", "second", "third"]);
        // A device that answers nothing gathers no more than its bound.
        let (_hold, forever) = tokio::sync::oneshot::channel::<()>();
        let begun = told.clone();
        queues
            .ask(&key, device(), Urgency::Usual, move |_| {
                Box::pin(async move {
                    assert!(begun.send("silent").is_ok());
                    drop(forever.await);
                })
            })
            .unwrap();
        assert_eq!(heard.recv().unwrap(), "silent");
        let taken = (0..2 * WAITING).filter(|_| say(Urgency::Usual, "x").is_ok()).count();
        assert_eq!(taken, WAITING);
        assert_eq!(say(Urgency::Usual, "x"), Err(Busy));
        runtime.shutdown_background();
    }
}
