//! A stand-in's event service: pull points, and what is reported by order.

use super::{fault, signed_in};
use crate::camera::{Shared, unix_micros};
use lattice_core::Wall;
use lattice_core::onvif::{EVENT_NAMESPACE, Element, Operation, Report, ReportKind, emit_report};
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::Notify;
use tokio::time::Instant;

/// The questions that are answered here.
pub(super) const QUESTIONS: [&str; 4] = ["CreatePullPointSubscription", "PullMessages", "Renew", "Unsubscribe"];
/// Most pull points at a time.
const MOST_POINTS: usize = 8;
/// Most reports that wait at one; the oldest are forgotten.
const MOST_WAITING: usize = 5000;

/// How the event service misbehaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum ReportFault {
    /// Not at all.
    #[default]
    None,
    /// It refuses every subscription.
    Refuses,
    /// It never answers who asks for news.
    Silent,
    /// It tells everything three times.
    Repeats,
    /// It forgets its pull points.
    Forgets,
}

#[derive(Debug)]
struct Point {
    waiting: VecDeque<String>,
    until: Instant,
}

#[derive(Debug, Default)]
struct Inner {
    fault: ReportFault,
    next: u64,
    points: BTreeMap<u64, Point>,
    /// What is there now: topic and source.
    active: BTreeMap<String, Report>,
}

/// What a device has to report.
#[derive(Debug, Default)]
pub(crate) struct Reports {
    inner: Mutex<Inner>,
    news: Notify,
}

/// Topic, name of the state, source of a kind.
const fn topic(kind: ReportKind) -> (&'static str, &'static str, &'static str) {
    match kind {
        ReportKind::Motion => ("RuleEngine/CellMotionDetector/Motion", "IsMotion", "VideoSource_1"),
        ReportKind::Crossing => ("RuleEngine/LineDetector/Crossed", "ObjectId", "VideoSource_1"),
        ReportKind::Tampering => ("RuleEngine/TamperDetector/Tamper", "IsTamper", "VideoSource_1"),
        ReportKind::SignalLoss => ("VideoSource/SignalLoss", "State", "VideoSource_1"),
        ReportKind::Input => ("Device/Trigger/DigitalInput", "LogicalState", "Input_1"),
        ReportKind::Storage => ("Device/HardwareFailure/StorageFailure", "Failed", "Disk_1"),
        ReportKind::Heard => ("AudioAnalytics/Audio/DetectedSound", "IsSoundDetected", "AudioSource_1"),
        ReportKind::Other => ("UserAlarm/Button", "State", "Panel"),
    }
}

impl Reports {
    fn inner(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// It misbehaves so from now on.
    pub fn misbehave(&self, fault: ReportFault) {
        let mut inner = self.inner();
        inner.fault = fault;
        if fault == ReportFault::Forgets {
            inner.points.clear();
        }
        drop(inner);
        self.news.notify_waiters();
    }

    /// Something is there from now on, or is no more.
    pub fn tell(&self, kind: ReportKind, active: bool) {
        let (name, state, source) = topic(kind);
        let is_moment = kind == ReportKind::Crossing;
        if is_moment && !active {
            return;
        }
        let value = if is_moment { "17".to_owned() } else { active.to_string() };
        let report = Report {
            kind,
            topic: name.to_owned(),
            at: Some(Wall::from_unix_micros(unix_micros())),
            operation: Operation::Changed,
            active: (!is_moment).then_some(active),
            source: source.to_owned(),
            data: vec![(state.to_owned(), value)],
        };
        let mut inner = self.inner();
        let times = if inner.fault == ReportFault::Repeats { 3 } else { 1 };
        let text = emit_report(&report);
        for point in inner.points.values_mut() {
            for _ in 0..times {
                if point.waiting.len() == MOST_WAITING {
                    point.waiting.pop_front();
                }
                point.waiting.push_back(text.clone());
            }
        }
        if active && !is_moment {
            inner.active.insert(name.to_owned(), report);
        } else {
            inner.active.remove(name);
        }
        drop(inner);
        self.news.notify_waiters();
    }

    fn create(&self, base: &str) -> Result<String, String> {
        let mut inner = self.inner();
        let now = Instant::now();
        inner.points.retain(|_, point| point.until > now);
        if inner.fault == ReportFault::Refuses || inner.points.len() >= MOST_POINTS {
            return Err(fault("MaxPullPoints", "no more pull points"));
        }
        inner.next += 1;
        let id = inner.next;
        // What is there is told first.
        let there =
            inner.active.values().map(|report| emit_report(&Report { operation: Operation::Initialized, ..report.clone() }));
        let waiting = there.collect();
        inner.points.insert(id, Point { waiting, until: now + LASTS });
        let (from, to) = span(LASTS);
        Ok(format!(
            "<e:CreatePullPointSubscriptionResponse xmlns:e=\"{EVENT_NAMESPACE}\" xmlns:n=\"http://docs.oasis-open.org/wsn/b-2\" \
             xmlns:a=\"http://www.w3.org/2005/08/addressing\"><e:SubscriptionReference><a:Address>{base}/onvif/events/pull</a:Address>\
             <a:ReferenceParameters><p:Point xmlns:p=\"urn:tarnhithe:points\">{id}</p:Point></a:ReferenceParameters></e:SubscriptionReference>\
             <n:CurrentTime>{from}</n:CurrentTime><n:TerminationTime>{to}</n:TerminationTime></e:CreatePullPointSubscriptionResponse>"
        ))
    }

    /// What waits at a pull point; `None` where there is no such.
    fn take(&self, id: u64, most: usize) -> Option<Vec<String>> {
        let mut inner = self.inner();
        let point = inner.points.get_mut(&id).filter(|point| point.until > Instant::now())?;
        let count = point.waiting.len().min(most);
        Some(point.waiting.drain(..count).collect())
    }
}

/// A pull point lasts so long without being renewed.
const LASTS: Duration = Duration::from_secs(20);

/// Now, and so much later, as `xs:dateTime` has them.
fn span(lasts: Duration) -> (String, String) {
    let now = unix_micros();
    let at = |micros: i64| lattice_core::onvif::date_time(Wall::from_unix_micros(micros));
    (at(now), at(now + lasts.as_micros() as i64))
}

fn number(document: &Element) -> Option<u64> {
    document.child("Header")?.text_at(&["Point"])?.parse().ok()
}

/// Answers a question to the event service.
pub(super) async fn reply(camera: &Shared, document: &Element, question: &Element) -> Result<String, String> {
    if !signed_in(camera, document) {
        return Err(fault("NotAuthorized", "Sender not authorized"));
    }
    let reports = &camera.reports;
    let unknown = || fault("ResourceUnknownFault", "no such pull point");
    match question.name.as_str() {
        "CreatePullPointSubscription" => reports.create(&camera.service_base()),
        "PullMessages" => {
            let id = number(document).ok_or_else(unknown)?;
            let seconds =
                question.text_at(&["Timeout"]).and_then(|text| text.strip_prefix("PT")?.strip_suffix('S')?.parse().ok());
            let until = Instant::now() + Duration::from_secs(seconds.unwrap_or(1).min(60));
            let most = question.text_at(&["MessageLimit"]).and_then(|text| text.parse().ok()).unwrap_or(100);
            let messages = loop {
                let news = reports.news.notified();
                let silent = reports.inner().fault == ReportFault::Silent;
                if silent {
                    tokio::time::sleep(Duration::from_secs(60)).await;
                }
                let messages = reports.take(id, most).ok_or_else(unknown)?;
                if !messages.is_empty() || Instant::now() >= until {
                    break messages;
                }
                let _ = tokio::time::timeout_at(until, news).await;
            };
            let (from, to) = span(LASTS);
            Ok(format!(
                "<e:PullMessagesResponse xmlns:e=\"{EVENT_NAMESPACE}\"><e:CurrentTime>{from}</e:CurrentTime>\
                 <e:TerminationTime>{to}</e:TerminationTime>{}</e:PullMessagesResponse>",
                messages.concat()
            ))
        }
        "Renew" => {
            let id = number(document).ok_or_else(unknown)?;
            reports.inner().points.get_mut(&id).ok_or_else(unknown)?.until = Instant::now() + LASTS;
            let (from, to) = span(LASTS);
            Ok(format!(
                "<n:RenewResponse xmlns:n=\"http://docs.oasis-open.org/wsn/b-2\"><n:TerminationTime>{to}</n:TerminationTime><n:CurrentTime>{from}</n:CurrentTime></n:RenewResponse>"
            ))
        }
        _ => {
            let id = number(document).ok_or_else(unknown)?;
            reports.inner().points.remove(&id).ok_or_else(unknown)?;
            Ok("<n:UnsubscribeResponse xmlns:n=\"http://docs.oasis-open.org/wsn/b-2\"/>".into())
        }
    }
}
