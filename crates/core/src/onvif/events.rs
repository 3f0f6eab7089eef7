//! What a device reports (ONVIF Core Specification §9, "Event handling"), taken from pull points (§9.1), which are subscriptions of
//! WS-BaseNotification 1.3 that are asked for news.
//!
//! Not done: notifications that the device sends by itself, filters by content, Seek.

use super::soap::{created_of, rfc3339};
use super::xml::{Element, escape};
use crate::Wall;
use crate::text::plain;
use std::fmt::Write as _;
use std::time::Duration;

/// The namespace of the event service.
pub const EVENT_NAMESPACE: &str = "http://www.onvif.org/ver10/events/wsdl";
/// Most notifications read of one answer.
pub const MOST_NOTIFICATIONS: usize = 1000;
/// Longest of a device's words that is kept.
const MOST_LETTERS: usize = 120;
/// Most items kept of a notification.
const MOST_ITEMS: usize = 16;
/// Most header elements that a subscription wants back.
const MOST_PARAMETERS: usize = 8;

/// What a report is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ReportKind {
    /// Something moves in the picture.
    Motion,
    /// Something crossed a line, or entered a field.
    Crossing,
    /// The camera is covered, turned, or its picture changed as a whole.
    Tampering,
    /// A recorder's or encoder's input has no signal.
    SignalLoss,
    /// A digital input.
    Input,
    /// Storage failed, or is full.
    Storage,
    /// The device heard something.
    Heard,
    /// Anything else.
    Other,
}

impl ReportKind {
    /// All of them.
    pub const ALL: [Self; 8] =
        [Self::Motion, Self::Crossing, Self::Tampering, Self::SignalLoss, Self::Input, Self::Storage, Self::Heard, Self::Other];

    /// The word on the screen and for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Motion => "motion",
            Self::Crossing => "crossing",
            Self::Tampering => "tampering",
            Self::SignalLoss => "signal-loss",
            Self::Input => "digital-input",
            Self::Storage => "storage-failure",
            Self::Heard => "heard",
            Self::Other => "other",
        }
    }

    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// By a topic without prefixes: the first that it holds.
    fn of(topic: &str) -> Self {
        const TOPICS: [(&str, ReportKind); 21] = [
            ("SignalLoss", ReportKind::SignalLoss),
            ("VideoLoss", ReportKind::SignalLoss),
            ("StorageFailure", ReportKind::Storage),
            ("HardwareFailure/Storage", ReportKind::Storage),
            ("Storage", ReportKind::Storage),
            ("DigitalInput", ReportKind::Input),
            ("Trigger/Relay", ReportKind::Input),
            ("Tamper", ReportKind::Tampering),
            ("GlobalSceneChange", ReportKind::Tampering),
            ("ImageTooDark", ReportKind::Tampering),
            ("ImageTooBright", ReportKind::Tampering),
            ("ImageTooBlurry", ReportKind::Tampering),
            ("LineDetector", ReportKind::Crossing),
            ("LineCrossing", ReportKind::Crossing),
            ("FieldDetector", ReportKind::Crossing),
            ("LoiteringDetector", ReportKind::Crossing),
            ("AudioAnalytics", ReportKind::Heard),
            ("AudioSource", ReportKind::Heard),
            ("DetectedSound", ReportKind::Heard),
            ("Motion", ReportKind::Motion),
            ("motion", ReportKind::Motion),
        ];
        TOPICS.into_iter().find(|(part, _)| topic.contains(part)).map_or(Self::Other, |(_, kind)| kind)
    }
}

/// What a property is told for (ONVIF Core §9.4.2).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operation {
    /// As it was when the subscription began.
    Initialized,
    /// It changed, or it is a moment and no property.
    Changed,
    /// It is no more.
    Deleted,
}

/// One notification.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Report {
    /// What it is about.
    pub kind: ReportKind,
    /// Its topic, without prefixes.
    pub topic: String,
    /// When it happened, by the device's clock; `None` where it does not say.
    pub at: Option<Wall>,
    /// What it is told for.
    pub operation: Operation,
    /// Whether what is reported is there; `None` for a moment, which has no end.
    pub active: Option<bool>,
    /// Which part of the device it is of, in its own words; empty where it does not say.
    pub source: String,
    /// What it says besides: names and values.
    pub data: Vec<(String, String)>,
}

fn short(text: &str) -> String {
    plain(text).trim().chars().take(MOST_LETTERS).collect()
}

/// Names and values of the simple items of a part.
fn items(part: Option<&Element>) -> Vec<(String, String)> {
    let item = |item: &Element| Some((short(item.attribute("Name")?), short(item.attribute("Value").unwrap_or(""))));
    part.into_iter().flat_map(|part| part.all("SimpleItem")).take(MOST_ITEMS).filter_map(item).collect()
}

fn truth(word: &str) -> Option<bool> {
    match word.trim().to_ascii_lowercase().as_str() {
        "true" | "1" | "on" | "active" => Some(true),
        "false" | "0" | "off" | "inactive" => Some(false),
        _ => None,
    }
}

impl Report {
    fn read(holder: &Element) -> Option<Self> {
        let topic = holder.text_at(&["Topic"])?;
        let topic: Vec<&str> = topic.split('/').map(|step| step.rsplit(':').next().unwrap_or("").trim()).collect();
        let topic = short(&topic.join("/"));
        let message = holder.at(&["Message", "Message"]).or_else(|| holder.child("Message"))?;
        let operation = match message.attribute("PropertyOperation") {
            Some("Initialized") => Operation::Initialized,
            Some("Deleted") => Operation::Deleted,
            _ => Operation::Changed,
        };
        let data = items(message.child("Data"));
        // Names of states differ from device to device; what is true or false is one. A crossing is a moment, whatever it says.
        let is_moment = topic.contains("LineDetector") || topic.contains("LineCrossing");
        let active = data.iter().find_map(|(_, value)| truth(value)).filter(|_| !is_moment);
        let source = items(message.child("Source")).into_iter().map(|(_, value)| value).collect::<Vec<_>>().join(" ");
        Some(Self {
            kind: ReportKind::of(&topic),
            topic,
            at: message.attribute("UtcTime").and_then(created_of),
            operation,
            active: if operation == Operation::Deleted { active.map(|_| false) } else { active },
            source,
            data,
        })
    }

    /// The notifications of `PullMessagesResponse`, in order.
    #[must_use]
    pub fn read_all(answer: &Element) -> Vec<Self> {
        answer.all("NotificationMessage").take(MOST_NOTIFICATIONS).filter_map(Self::read).collect()
    }
}

/// A pull point that a device made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PullPoint {
    /// Where it is asked, as the device says it.
    pub address: String,
    /// What it wants back in the head of every question: elements with their namespace and text.
    pub parameters: Vec<(String, String, String)>,
    /// How long it lasts.
    pub lasts: Option<Duration>,
}

impl PullPoint {
    /// Reads `CreatePullPointSubscriptionResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Option<Self> {
        let reference = answer.child("SubscriptionReference")?;
        let address = reference.text_at(&["Address"])?.to_owned();
        let wanted = reference.child("ReferenceParameters").into_iter().flat_map(|all| &all.children).take(MOST_PARAMETERS);
        let parameters = wanted.map(|element| (element.name.clone(), element.namespace.clone(), element.text.clone())).collect();
        Some(Self { address, parameters, lasts: lasts(answer) })
    }

    /// What stands in the head of a question to it (WS-Addressing 1.0 §3.2).
    #[must_use]
    pub fn head(&self, action: &str) -> String {
        let mut head = addressing(&self.address, action);
        for (name, namespace, text) in &self.parameters {
            let _ = write!(
                head,
                "<p:{name} xmlns:p=\"{}\" a:IsReferenceParameter=\"true\" xmlns:a=\"{WSA}\">{}</p:{name}>",
                escape(namespace),
                escape(text)
            );
        }
        head
    }
}

/// How long a subscription lasts, by the times in the answer.
#[must_use]
pub fn lasts(answer: &Element) -> Option<Duration> {
    let at = |name: &str| answer.text_at(&[name]).and_then(created_of);
    let micros = at("TerminationTime")?.micros_since(at("CurrentTime")?);
    u64::try_from(micros).ok().map(Duration::from_micros)
}

const WSA: &str = "http://www.w3.org/2005/08/addressing";
const WSNT: &str = "http://docs.oasis-open.org/wsn/b-2";

/// To whom and what for, as some devices want it.
#[must_use]
pub fn addressing(to: &str, action: &str) -> String {
    format!("<a:Action xmlns:a=\"{WSA}\">{action}</a:Action><a:To xmlns:a=\"{WSA}\">{}</a:To>", escape(to))
}

/// The action of a question.
pub const CREATE_ACTION: &str = "http://www.onvif.org/ver10/events/wsdl/EventPortType/CreatePullPointSubscriptionRequest";
/// The action of asking for news.
pub const PULL_ACTION: &str = "http://www.onvif.org/ver10/events/wsdl/PullPointSubscription/PullMessagesRequest";
/// The action of making it last.
pub const RENEW_ACTION: &str = "http://docs.oasis-open.org/wsn/bw-2/SubscriptionManager/RenewRequest";
/// The action of ending it.
pub const UNSUBSCRIBE_ACTION: &str = "http://docs.oasis-open.org/wsn/bw-2/SubscriptionManager/UnsubscribeRequest";

fn seconds(span: Duration) -> String {
    format!("PT{}S", span.as_secs().max(1))
}

/// Makes a pull point of all topics that lasts so long.
#[must_use]
pub fn create_pull_point(lasts: Duration) -> String {
    format!(
        "<e:CreatePullPointSubscription xmlns:e=\"{EVENT_NAMESPACE}\"><e:InitialTerminationTime>{}</e:InitialTerminationTime>\
         </e:CreatePullPointSubscription>",
        seconds(lasts)
    )
}

/// Asks for news; the device may wait so long for some.
#[must_use]
pub fn pull_messages(wait: Duration) -> String {
    format!(
        "<e:PullMessages xmlns:e=\"{EVENT_NAMESPACE}\"><e:Timeout>{}</e:Timeout><e:MessageLimit>{MOST_NOTIFICATIONS}</e:MessageLimit>\
         </e:PullMessages>",
        seconds(wait)
    )
}

/// Makes a subscription last so long from now.
#[must_use]
pub fn renew(lasts: Duration) -> String {
    format!("<n:Renew xmlns:n=\"{WSNT}\"><n:TerminationTime>{}</n:TerminationTime></n:Renew>", seconds(lasts))
}

/// Ends a subscription.
#[must_use]
pub fn unsubscribe() -> String {
    format!("<n:Unsubscribe xmlns:n=\"{WSNT}\"/>")
}

/// A notification as a device emits it; for stand-ins.
#[must_use]
pub fn emit_report(report: &Report) -> String {
    let operation = match report.operation {
        Operation::Initialized => " PropertyOperation=\"Initialized\"",
        Operation::Changed if report.active.is_some() => " PropertyOperation=\"Changed\"",
        Operation::Changed => "",
        Operation::Deleted => " PropertyOperation=\"Deleted\"",
    };
    let at = report.at.map_or_else(String::new, |at| format!(" UtcTime=\"{}\"", rfc3339(at)));
    let data = report.data.iter().fold(String::new(), |mut out, (name, value)| {
        let _ = write!(out, "<tt:SimpleItem Name=\"{}\" Value=\"{}\"/>", escape(name), escape(value));
        out
    });
    format!(
        "<n:NotificationMessage xmlns:n=\"{WSNT}\"><n:Topic Dialect=\"http://www.onvif.org/ver10/tev/topicExpression/ConcreteSet\">tns1:{}</n:Topic>\
         <n:Message><tt:Message{at}{operation}><tt:Source><tt:SimpleItem Name=\"Source\" Value=\"{}\"/></tt:Source>\
         <tt:Data>{data}</tt:Data></tt:Message></n:Message></n:NotificationMessage>",
        escape(&report.topic),
        escape(&report.source)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn report(topic: &str, active: Option<bool>) -> Report {
        let data = active.map(|active| ("State".to_owned(), active.to_string())).into_iter().collect();
        let at = Some(Wall::from_unix_micros(1_795_500_000_123_000));
        Report {
            kind: ReportKind::of(topic),
            topic: topic.into(),
            at,
            operation: Operation::Changed,
            active,
            source: "in1".into(),
            data,
        }
    }

    #[test]
    fn reports_go_out_and_come_in() {
        let all = [
            (report("VideoSource/MotionAlarm", Some(true)), ReportKind::Motion),
            (report("RuleEngine/CellMotionDetector/Motion", Some(false)), ReportKind::Motion),
            (report("RuleEngine/LineDetector/Crossed", None), ReportKind::Crossing),
            (report("RuleEngine/TamperDetector/Tamper", Some(true)), ReportKind::Tampering),
            (report("VideoSource/SignalLoss", Some(true)), ReportKind::SignalLoss),
            (report("Device/Trigger/DigitalInput", Some(true)), ReportKind::Input),
            (report("Device/HardwareFailure/StorageFailure", Some(true)), ReportKind::Storage),
            (report("UserAlarm/Own", None), ReportKind::Other),
        ];
        let text: String = all.iter().map(|(report, _)| emit_report(report)).collect();
        let answer = Element::parse(format!("<r xmlns:tt='t'>{text}</r>").as_bytes()).unwrap();
        let read = Report::read_all(&answer);
        assert_eq!(read, all.iter().map(|(report, _)| report.clone()).collect::<Vec<_>>());
        assert!(read.iter().zip(&all).all(|(report, (_, kind))| report.kind == *kind));
        for kind in ReportKind::ALL {
            assert_eq!(ReportKind::from_word(kind.word()), Some(kind));
        }
    }

    #[test]
    fn a_pull_point_keeps_what_it_wants_back() {
        let text = "<s:Envelope xmlns:s='s' xmlns:d='urn:of-the-device'><r><SubscriptionReference><Address> http://192.0.2.9/sub?Id=7 </Address>\
                    <ReferenceParameters><d:Id s:x='1'>a&amp;7</d:Id><o:Own xmlns:o='urn:o'>2</o:Own></ReferenceParameters></SubscriptionReference>\
                    <CurrentTime>2026-11-25T02:00:00Z</CurrentTime><TerminationTime>2026-11-25T02:01:00.500Z</TerminationTime></r></s:Envelope>";
        let document = Element::parse(text.as_bytes()).unwrap();
        let point = PullPoint::read(&document.children[0]).unwrap();
        assert_eq!((point.address.as_str(), point.lasts), ("http://192.0.2.9/sub?Id=7", Some(Duration::from_millis(60_500))));
        let head = point.head(PULL_ACTION);
        let head = Element::parse(format!("<h>{head}</h>").as_bytes()).unwrap();
        assert_eq!((head.text_at(&["Id"]), head.text_at(&["To"])), (Some("a&7"), Some("http://192.0.2.9/sub?Id=7")));
        assert!(point.head(RENEW_ACTION).contains("xmlns:p=\"urn:of-the-device\"") && point.head(RENEW_ACTION).contains("urn:o"));
        assert_eq!(PullPoint::read(&Element::default()), None);
    }

    #[test]
    fn states_and_moments_are_told_apart_whatever_they_are_called() {
        let of = |data: &str, attributes: &str| {
            let text = format!(
                "<r><NotificationMessage><Topic>a:RuleEngine/b:Own/Motion</Topic><Message><Message {attributes}><Data>{data}</Data></Message></Message></NotificationMessage></r>"
            );
            Report::read_all(&Element::parse(text.as_bytes()).unwrap()).remove(0)
        };
        let item = |name: &str, value: &str| format!("<SimpleItem Name='{name}' Value='{value}'/>");
        assert_eq!(of(&item("IsMotion", "1"), "").active, Some(true));
        assert_eq!(of(&(item("Level", "high") + &item("logicalState", "Inactive")), "").active, Some(false));
        assert_eq!(of("", "").active, None);
        let deleted = of(&item("State", "true"), "PropertyOperation='Deleted'");
        assert_eq!((deleted.active, deleted.operation, deleted.at), (Some(false), Operation::Deleted, None));
        assert_eq!(
            of(&item("State", "true"), "PropertyOperation='Initialized' UtcTime='2026-11-25T02:00:00.5Z'").operation,
            Operation::Initialized
        );
    }

    proptest! {
        #[test]
        fn whatever_a_device_says_steers_no_terminal(topic in "\\PC{0,40}\\x1b?", value in "\\PC{0,200}") {
            let text = format!("<r><NotificationMessage><Topic>{}</Topic><Message><Message><Source><SimpleItem Name='a' Value='{}'/></Source></Message></Message></NotificationMessage></r>", escape(&topic), escape(&value));
            if let Ok(answer) = Element::parse(text.as_bytes()) {
                for report in Report::read_all(&answer) {
                    prop_assert!(!report.topic.chars().chain(report.source.chars()).any(char::is_control));
                    prop_assert!(report.topic.chars().count() <= MOST_LETTERS);
                }
            }
        }
    }
}
