//! What a search of the network finds: ranges to ask, devices as they become known, what changed since
//! the last search.

mod exposure;
mod firmware;
mod paths;
mod range;

pub use exposure::{Exposure, Strength, is_well_known, strength};
pub use firmware::{FirmwareFault, firmware_faults};
pub use paths::{MAX_PATH_TRIES, PathPattern, PathPatternError, common_paths};
pub use range::{AddressRange, MANY_ADDRESSES, RangeError};

use crate::onvif::{Match, scope_value};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// What a device is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum DeviceKind {
    /// One camera.
    Camera,
    /// One address with several channels.
    Recorder,
    /// It answers, but not what it is.
    #[default]
    Unknown,
}

impl DeviceKind {
    /// The stable word for machines, also on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Camera => "camera",
            Self::Recorder => "recorder",
            Self::Unknown => "unknown",
        }
    }
}

/// Whether a device that was found in a search was there in the last one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Change {
    /// It was not there before.
    New,
    /// It was there before and is now.
    #[default]
    Same,
    /// It was there before and has not answered yet.
    Awaited,
    /// It was there before and did not answer this time.
    Gone,
}

/// A device as far as it is known; `None` is unknown.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct FoundDevice {
    /// Port of its streams.
    pub rtsp_port: Option<u16>,
    /// Port of its device service.
    pub service_port: Option<u16>,
    /// What it is.
    pub kind: DeviceKind,
    /// It answered a probe.
    pub by_discovery: bool,
    /// A scan found an open port.
    pub by_scan: bool,
    /// Its own name.
    pub name: Option<String>,
    /// Its maker.
    pub maker: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// Version of its firmware.
    pub firmware: Option<String>,
    /// Its lasting name in discovery.
    pub endpoint: Option<String>,
    /// How many video sources it has.
    pub channels: Option<u32>,
    /// It wants a sign-in that it has not got.
    pub locked: Option<bool>,
    /// The sign-in given was refused.
    pub refused: bool,
    /// Why it lies open.
    pub exposed: Option<Exposure>,
    /// It announces itself at this address, which is not the one that it answers from: as a rule a device
    /// whose own address is on another subnet.
    pub announces: Option<String>,
    /// Whether it is new since the last search.
    pub change: Change,
}

/// What tells that a device is one that was seen before: what it, or the network, says of it without any sign-in. None of it
/// proves anything: whoever is there is shown to the operator, who says whether it is the device.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Identity {
    /// Its serial number.
    pub serial: Option<String>,
    /// Its lasting name in discovery.
    pub endpoint: Option<String>,
    /// Its network card.
    pub hardware: Option<String>,
}

impl Identity {
    /// Whether there is anything to know it by.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.serial.is_none() && self.endpoint.is_none() && self.hardware.is_none()
    }

    /// By what another one is the same, in words; `None` where nothing says so, or a serial number says that it is not.
    #[must_use]
    pub fn same_as(&self, other: &Self) -> Option<String> {
        let both = |mine: &Option<String>, theirs: &Option<String>| mine.clone().zip(theirs.clone());
        if let Some((mine, theirs)) = both(&self.serial, &other.serial) {
            return (mine == theirs).then(|| format!("serial number {mine}"));
        }
        let bare = |endpoint: &str| {
            let lower = endpoint.trim().to_ascii_lowercase();
            lower.trim_start_matches("urn:").trim_start_matches("uuid:").to_owned()
        };
        if let Some((mine, theirs)) = both(&self.endpoint, &other.endpoint)
            && bare(&mine) == bare(&theirs)
        {
            return Some(format!("its lasting name {}", bare(&mine)));
        }
        both(&self.hardware, &other.hardware)
            .filter(|(mine, theirs)| mine.eq_ignore_ascii_case(theirs))
            .map(|(mine, _)| format!("network card {mine}"))
    }
}

impl FoundDevice {
    /// Takes what an answer to a probe says. Only an address that the answer came from is trusted.
    pub fn on_match(&mut self, from: IpAddr, answer: &Match) {
        self.by_discovery = true;
        self.endpoint = Some(answer.endpoint.clone()).filter(|endpoint| !endpoint.is_empty()).or(self.endpoint.take());
        self.name = self.name.take().or_else(|| scope_value(&answer.scopes, "name"));
        self.model = self.model.take().or_else(|| scope_value(&answer.scopes, "hardware"));
        self.maker = self
            .maker
            .take()
            .or_else(|| scope_value(&answer.scopes, "manufacturer").or_else(|| scope_value(&answer.scopes, "mfr")));
        let says = |word: &str| {
            let word = word.to_ascii_lowercase();
            answer.types.iter().chain(&answer.scopes).any(|text| text.to_ascii_lowercase().contains(&word))
        };
        if says("type/recorder")
            || says("NetworkVideoStorage")
            || says("type/NetworkVideoRecorder")
            || says("Network_Video_Recorder")
        {
            self.kind = DeviceKind::Recorder;
        } else if self.kind == DeviceKind::Unknown && (says("NetworkVideoTransmitter") || says("type/video_encoder")) {
            self.kind = DeviceKind::Camera;
        }
        let urls: Vec<crate::SourceUrl> = answer.addresses.iter().filter_map(|address| address.parse().ok()).collect();
        let is_from = |url: &crate::SourceUrl| url.host().parse::<IpAddr>().is_ok_and(|host| host == from);
        match urls.iter().find(|url| is_from(url)) {
            Some(url) => {
                self.service_port = self.service_port.or(Some(url.port()));
                self.announces = None;
            }
            None => self.announces = urls.first().map(|url| url.host().chars().take(80).collect()),
        }
    }

    /// Joins what another question found of the same address; what is known stays.
    pub fn merge(&mut self, other: Self) {
        let keep = |mine: &mut Option<String>, theirs: Option<String>| *mine = theirs.or_else(|| mine.take());
        self.rtsp_port = other.rtsp_port.or(self.rtsp_port);
        self.service_port = other.service_port.or(self.service_port);
        if other.kind == DeviceKind::Recorder || self.kind == DeviceKind::Unknown {
            self.kind = other.kind;
        }
        self.by_discovery |= other.by_discovery;
        self.by_scan |= other.by_scan;
        keep(&mut self.name, other.name);
        keep(&mut self.maker, other.maker);
        keep(&mut self.model, other.model);
        keep(&mut self.serial, other.serial);
        keep(&mut self.firmware, other.firmware);
        keep(&mut self.endpoint, other.endpoint);
        keep(&mut self.announces, other.announces);
        self.channels = other.channels.or(self.channels);
        self.locked = other.locked.or(self.locked);
        self.refused |= other.refused;
        self.exposed = other.exposed.or(self.exposed);
    }
}

/// Most devices kept of a search: a flood of answers is no reason to grow without end.
pub const MAX_FOUND: usize = 4096;

/// The devices of all searches so far, by address.
#[derive(Debug, Clone, Default)]
pub struct Findings {
    devices: BTreeMap<IpAddr, FoundDevice>,
    /// Answers for which there was no room.
    left_out: u64,
    searched: bool,
}

impl Findings {
    /// A search begins: what was found before is kept. Those that it `asks` are awaited; nothing is said of the others.
    pub fn begin(&mut self, asks: impl Fn(IpAddr, &FoundDevice) -> bool) {
        self.searched = !self.devices.is_empty() || self.searched;
        for (address, device) in &mut self.devices {
            device.change = if asks(*address, device) { Change::Awaited } else { Change::Same };
        }
    }

    /// A search is over: what it asked and did not hear of is gone.
    pub fn end(&mut self) {
        for device in self.devices.values_mut().filter(|device| device.change == Change::Awaited) {
            device.change = Change::Gone;
        }
    }

    /// Something was learnt of the device at an address; false when there is no room for it.
    pub fn learn(&mut self, at: IpAddr, learnt: FoundDevice) -> bool {
        if self.devices.len() >= MAX_FOUND && !self.devices.contains_key(&at) {
            self.left_out += 1;
            return false;
        }
        let fresh = if self.searched { Change::New } else { Change::Same };
        let device = self.devices.entry(at).or_insert_with(|| FoundDevice { change: fresh, ..FoundDevice::default() });
        if matches!(device.change, Change::Gone | Change::Awaited) {
            device.change = Change::Same;
        }
        // An address that another device has taken over is another device.
        let other = |a: &Option<String>, b: &Option<String>| a.is_some() && b.is_some() && a != b;
        if other(&device.serial, &learnt.serial) {
            *device = FoundDevice { change: Change::New, ..learnt };
        } else {
            device.merge(learnt);
        }
        true
    }

    /// The devices by address.
    pub fn devices(&self) -> impl Iterator<Item = (IpAddr, &FoundDevice)> {
        self.devices.iter().map(|(address, device)| (*address, device))
    }

    /// What is known of an address.
    #[must_use]
    pub fn get(&self, at: IpAddr) -> Option<&FoundDevice> {
        self.devices.get(&at)
    }

    /// How many answered in the newest search.
    #[must_use]
    pub fn present(&self) -> usize {
        self.devices.values().filter(|device| !matches!(device.change, Change::Gone | Change::Awaited)).count()
    }

    /// Answers for which there was no room.
    #[must_use]
    pub const fn left_out(&self) -> u64 {
        self.left_out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(last: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, last])
    }

    #[test]
    fn searching_again_marks_what_is_new_and_what_has_gone() {
        let mut findings = Findings::default();
        findings.begin(|_, _| true);
        let serial = |serial: &str| FoundDevice { serial: Some(serial.into()), ..FoundDevice::default() };
        for n in [1, 2] {
            findings.learn(at(n), serial(&format!("s{n}")));
        }
        assert!(findings.devices().all(|(_, device)| device.change == Change::Same), "a first search has nothing new");
        findings.begin(|_, _| true);
        findings.learn(at(2), FoundDevice { by_scan: true, ..FoundDevice::default() });
        findings.learn(at(3), serial("s3"));
        let seen = |findings: &Findings| findings.devices().map(|(_, device)| device.change).collect::<Vec<_>>();
        assert_eq!(seen(&findings), [Change::Awaited, Change::Same, Change::New]);
        findings.end();
        assert_eq!(seen(&findings), [Change::Gone, Change::Same, Change::New]);
        let mut narrower = findings.clone();
        narrower.begin(|address, _| address == at(3));
        narrower.end();
        assert_eq!(seen(&narrower), [Change::Same, Change::Same, Change::Gone], "of who is not asked nothing is said");
        assert_eq!(findings.get(at(2)).unwrap().serial.as_deref(), Some("s2"), "what was known stays");
        findings.begin(|_, _| true);
        findings.learn(at(3), serial("another"));
        assert_eq!(findings.get(at(3)).unwrap().change, Change::New, "another device at the same address");
        assert_eq!(findings.present(), 1);
    }

    #[test]
    fn only_the_address_that_answered_is_trusted() {
        let answer = |addresses: &[&str]| Match {
            types: vec!["NetworkVideoTransmitter".into()],
            scopes: vec!["onvif://www.onvif.org/name/Mast".into()],
            addresses: addresses.iter().map(|text| (*text).to_owned()).collect(),
            ..Match::default()
        };
        let mut device = FoundDevice::default();
        device.on_match(at(7), &answer(&["http://[fe80::1]/x", "http://192.0.2.7:8000/onvif/device_service"]));
        assert_eq!((device.service_port, device.announces.as_deref(), device.kind), (Some(8000), None, DeviceKind::Camera));
        let mut stranger = FoundDevice::default();
        stranger.on_match(at(8), &answer(&["http://198.51.100.4/onvif/device_service"]));
        assert_eq!((stranger.service_port, stranger.announces.as_deref()), (None, Some("198.51.100.4")));
    }

    #[test]
    fn a_flood_of_answers_is_bounded() {
        let mut findings = Findings::default();
        findings.begin(|_, _| true);
        for n in 0..10_000u32 {
            findings.learn(IpAddr::from(n.to_be_bytes()), FoundDevice::default());
        }
        assert_eq!((findings.devices().count(), findings.left_out()), (MAX_FOUND, 10_000 - MAX_FOUND as u64));
    }
}
