//! What devices report themselves: a pull point at each device that a rule of the site is about.

use crate::jobs::{Errands, JobNews};
use crate::kept::trust_of;
use crossbeam_channel::Sender;
use lattice_core::Mono;
use lattice_core::event::{Event, EventKind};
use lattice_core::onvif::{Report, ReportKind};
use lattice_core::reported::ReportLog;
use lattice_core::rule::Rule;
use lattice_net::{ReportNews, follow_reports};
use lattice_store::{Camera, Site};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use tokio::sync::mpsc;
use tokio::task::AbortHandle;

/// Answers of a device that wait to be taken in.
const WAITING: usize = 16;

/// What is known of what a camera reports.
struct Listener {
    /// By what it is asked: where that changes it is asked anew.
    asked: String,
    /// Ends with this; our own motion needs none.
    task: Option<AbortHandle>,
    log: ReportLog,
    /// Events that are for the ledger, and for the tile.
    entered: BTreeSet<u64>,
    marked: BTreeSet<u64>,
    /// Those that are alarms.
    alarms: BTreeSet<u64>,
    /// Why nothing is heard of it.
    lost: Option<String>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}

/// What a report came to.
pub(crate) struct Begun {
    /// The report.
    pub report: Report,
    /// The rules that are to act on it, by their numbers.
    pub rules: Vec<usize>,
}

/// What reports of a device are called where streams are main and sub.
pub(crate) const DEVICE: &str = "device";
/// The same of what is seen in pictures.
pub(crate) const PICTURES: &str = "pictures";

/// All devices that are listened to, and all cameras in whose pictures something is watched.
#[derive(Default)]
pub(crate) struct Reporting {
    listeners: BTreeMap<String, Listener>,
    /// What is seen in pictures.
    seen: BTreeMap<String, Listener>,
    /// When a rule acted for a camera last.
    acted: HashMap<(usize, String), Mono>,
}

/// Whether a camera's own device is to be listened to. Channels of a recorder have none: what it reports names its own inputs.
fn is_wanted(site: &Site, camera: &Camera) -> bool {
    let about = |rule: &Rule| rule.is_about(&camera.name, camera.group.as_deref());
    !camera.disabled && camera.recorder.is_none() && camera.service_port.is_some() && site.rules.iter().any(about)
}

impl Reporting {
    /// Listens to the devices that the site's rules are about, and to no others; gives the cameras that are not listened to any more.
    pub fn follow(&mut self, errands: &Errands, site: &Site) -> Vec<String> {
        let wanted: BTreeMap<&str, &Camera> =
            site.cameras.iter().filter(|camera| is_wanted(site, camera)).map(|camera| (camera.name.as_str(), camera)).collect();
        let gone: Vec<String> = self.listeners.keys().filter(|name| !wanted.contains_key(name.as_str())).cloned().collect();
        self.listeners.retain(|name, _| wanted.contains_key(name.as_str()));
        for (name, camera) in wanted {
            let asked = format!("{:?} {:?} {:?} {:?}", camera.address, camera.service_port, camera.sign_in, trust_of(camera));
            if self.listeners.get(name).is_some_and(|listener| listener.asked == asked) {
                continue;
            }
            let Ok(device) = errands.kept.device(camera) else { continue };
            let (sender, receiver) = mpsc::channel(WAITING);
            errands.runtime.handle().spawn(follow_reports(device, sender));
            let forward = forward(name.to_owned(), receiver, errands.news.clone());
            let task = errands.runtime.handle().spawn(forward).abort_handle();
            self.listeners.insert(name.to_owned(), Listener::new(asked, Some(task)));
        }
        gone
    }

    /// News of a camera's device: what begins by them, and what is to be said.
    pub fn on_news(&mut self, now: (Mono, u16), site: &Site, name: &str, news: ReportNews) -> (Vec<Begun>, Option<String>) {
        let (mono, _) = now;
        let Some(listener) = self.listeners.get_mut(name) else { return (Vec::new(), None) };
        let said = match news {
            ReportNews::Subscribed => listener.lost.take().map(|_| format!("{name}: what its device reports is heard again")),
            ReportNews::Lost(why) => {
                listener.log.end(mono);
                let before = listener.lost.replace(why.clone());
                before.is_none().then(|| format!("{name}: what its device reports is not heard: {why}; tried again by itself"))
            }
            ReportNews::Never(why) => {
                listener.log.end(mono);
                listener.lost = Some(why.clone());
                Some(format!("{name}: what its device reports cannot be heard: {why}"))
            }
            ReportNews::Reports(reports) => {
                let mut begun = Vec::new();
                for report in reports {
                    let Some(kind) = listener.log.observe(mono, &report) else { continue };
                    let rules = acting(&mut self.acted, site, (name, kind), now, listener, false);
                    begun.push(Begun { report, rules });
                }
                return (begun, None);
            }
        };
        (Vec::new(), said)
    }

    /// Something was seen in a camera's pictures: what begins by it.
    pub fn on_seen(&mut self, now: (Mono, u16), site: &Site, name: &str, report: Report) -> Option<Begun> {
        let listener = self.seen.entry(name.to_owned()).or_insert_with(|| Listener::new(String::new(), None));
        let kind = listener.log.observe(now.0, &report)?;
        let rules = acting(&mut self.acted, site, (name, kind), now, listener, true);
        Some(Begun { report, rules })
    }

    /// Something else is watched in a camera's pictures: what was there is over, as far as anybody knows.
    pub fn end_seen(&mut self, now: Mono, name: &str) {
        if let Some(listener) = self.seen.get_mut(name) {
            listener.log.end(now);
        }
    }

    /// Nothing is watched in a camera's pictures any more.
    pub fn forget_seen(&mut self, name: &str) {
        self.seen.remove(name);
    }

    /// Time went on: the events of cameras of which any changed, for the ledger, each with what its stream is called.
    pub fn tick(&mut self, now: Mono) -> Vec<(String, &'static str, Vec<Event>)> {
        let devices = self.listeners.iter_mut().map(|one| (one, DEVICE));
        let all = devices.chain(self.seen.iter_mut().map(|one| (one, PICTURES)));
        let changed = all.filter_map(|((name, listener), stream)| {
            let ended = listener.log.tick(now);
            let has = !listener.entered.is_empty() || ended;
            has.then(|| (name.clone(), stream, listener.for_ledger()))
        });
        changed.collect()
    }

    /// What is there now of each camera whose tile is to say so, and since when.
    pub fn marks(&self) -> BTreeMap<String, Vec<(ReportKind, Mono)>> {
        let mut marks: BTreeMap<String, Vec<(ReportKind, Mono)>> = BTreeMap::new();
        for (name, listener) in self.listeners.iter().chain(&self.seen).filter(|(_, listener)| !listener.marked.is_empty()) {
            marks.entry(name.clone()).or_default().extend(listener.log.there());
        }
        marks.retain(|_, there| !there.is_empty());
        marks
    }
}

impl Listener {
    fn new(asked: String, task: Option<AbortHandle>) -> Self {
        let none = BTreeSet::new;
        Self { asked, task, log: ReportLog::default(), entered: none(), marked: none(), alarms: none(), lost: None }
    }

    /// Events for the ledger; those that have ended are given once more, and then no more.
    fn for_ledger(&mut self) -> Vec<Event> {
        let events = self.log.events();
        let entered = events.iter().filter(|event| self.entered.contains(&event.number));
        let kind = |event: &Event| if self.alarms.contains(&event.number) { EventKind::ReportedAlarm } else { event.kind };
        let given: Vec<Event> = entered.map(|event| Event { kind: kind(event), ..event.clone() }).collect();
        let goes_on = |number: &u64| events.iter().any(|event| event.number == *number && event.end.is_none());
        self.entered.retain(goes_on);
        self.marked.retain(goes_on);
        self.alarms.retain(goes_on);
        given
    }
}

/// The rules that act on what began, and what of it is for the ledger and the tile; both where no rule is about it and it is `drawn`:
/// who draws an area wants to know.
fn acting(
    acted: &mut HashMap<(usize, String), Mono>,
    site: &Site,
    (name, kind): (&str, ReportKind),
    (now, minute): (Mono, u16),
    listener: &mut Listener,
    drawn: bool,
) -> Vec<usize> {
    let group = site.camera(name).and_then(|camera| camera.group.as_deref());
    let Some(number) = listener.log.events().last().map(|event| event.number) else { return Vec::new() };
    let about = |rule: &Rule| rule.is_about(name, group) && (rule.kinds.is_empty() || rule.kinds.contains(&kind));
    if drawn && !site.rules.iter().any(about) {
        listener.entered.insert(number);
        listener.marked.insert(number);
    }
    let mut rules = Vec::new();
    for (index, rule) in site.rules.iter().enumerate() {
        if !rule.is_about(name, group) || !rule.is_for(kind, minute) {
            continue;
        }
        if rule.ledger || rule.alarm {
            listener.entered.insert(number);
        }
        if rule.alarm {
            listener.alarms.insert(number);
        }
        if rule.mark {
            listener.marked.insert(number);
        }
        let key = (index, name.to_owned());
        if acted.get(&key).is_none_or(|last| now.since(*last) >= rule.rest) {
            acted.insert(key, now);
            rules.push(index);
        }
    }
    rules
}

async fn forward(name: String, mut news: mpsc::Receiver<ReportNews>, jobs: Sender<JobNews>) {
    while let Some(news) = news.recv().await {
        if jobs.send(JobNews::Reported(name.clone(), news)).is_err() {
            return;
        }
    }
}
