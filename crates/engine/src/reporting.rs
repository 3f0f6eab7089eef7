//! What devices report themselves: a pull point at each device that a rule of the site is about.

use crate::jobs::{Errands, JobNews};
use crate::kept::trust_of;
use crossbeam_channel::Sender;
use lattice_core::Mono;
use lattice_core::event::Event;
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
    /// Ends with this.
    task: AbortHandle,
    log: ReportLog,
    /// Events that are for the ledger, and for the tile.
    entered: BTreeSet<u64>,
    marked: BTreeSet<u64>,
    /// Why nothing is heard of it.
    lost: Option<String>,
}

impl Drop for Listener {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// What a report came to.
pub(crate) struct Begun {
    /// The report.
    pub report: Report,
    /// The rules that are to act on it, by their numbers.
    pub rules: Vec<usize>,
}

/// All devices that are listened to.
#[derive(Default)]
pub(crate) struct Reporting {
    listeners: BTreeMap<String, Listener>,
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
            let listener = Listener {
                asked,
                task,
                log: ReportLog::default(),
                entered: BTreeSet::new(),
                marked: BTreeSet::new(),
                lost: None,
            };
            self.listeners.insert(name.to_owned(), listener);
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
                    let rules = acting(&mut self.acted, site, name, kind, now, listener);
                    begun.push(Begun { report, rules });
                }
                return (begun, None);
            }
        };
        (Vec::new(), said)
    }

    /// Time went on: the events of cameras of which any changed, for the ledger.
    pub fn tick(&mut self, now: Mono) -> Vec<(String, Vec<Event>)> {
        let changed = self.listeners.iter_mut().filter_map(|(name, listener)| {
            let ended = listener.log.tick(now);
            let has = !listener.entered.is_empty() || ended;
            has.then(|| (name.clone(), listener.for_ledger()))
        });
        changed.collect()
    }

    /// What is there now of each camera whose tile is to say so, and since when.
    pub fn marks(&self) -> BTreeMap<String, Vec<(ReportKind, Mono)>> {
        let marked = self.listeners.iter().filter(|(_, listener)| !listener.marked.is_empty());
        let all = marked.map(|(name, listener)| (name.clone(), listener.log.there().collect::<Vec<_>>()));
        all.filter(|(_, there)| !there.is_empty()).collect()
    }
}

impl Listener {
    /// Events for the ledger; those that have ended are given once more, and then no more.
    fn for_ledger(&mut self) -> Vec<Event> {
        let events = self.log.events();
        let given: Vec<Event> = events.iter().filter(|event| self.entered.contains(&event.number)).cloned().collect();
        let goes_on = |number: &u64| events.iter().any(|event| event.number == *number && event.end.is_none());
        self.entered.retain(goes_on);
        self.marked.retain(goes_on);
        given
    }
}

/// The rules that act on what began, and what of it is for the ledger and the tile.
fn acting(
    acted: &mut HashMap<(usize, String), Mono>,
    site: &Site,
    name: &str,
    kind: ReportKind,
    (now, minute): (Mono, u16),
    listener: &mut Listener,
) -> Vec<usize> {
    let group = site.camera(name).and_then(|camera| camera.group.as_deref());
    let Some(number) = listener.log.events().last().map(|event| event.number) else { return Vec::new() };
    let mut rules = Vec::new();
    for (index, rule) in site.rules.iter().enumerate() {
        if !rule.is_about(name, group) || !rule.is_for(kind, minute) {
            continue;
        }
        if rule.ledger {
            listener.entered.insert(number);
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
