//! What is known of one device: what it is and offers, its clock, accounts, address, and the settings of its encoders.

use lattice_core::meter::Figures;
use lattice_core::onvif::{Encoder, EncoderLimits};
use lattice_core::{ClockOffset, FrameRate, SourceUrl};
use lattice_engine::jobs::{DeviceFacts, DeviceNews};
use lattice_net::Offered;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// A setting of an encoder that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Setting {
    /// Width and height.
    Size,
    /// Frames a second.
    Rate,
    /// kbit/s.
    Bitrate,
    /// Frames from one keyframe to the next.
    KeyframeInterval,
}

impl Setting {
    /// Every one, in the order of the table.
    pub const ALL: [Self; 4] = [Self::Size, Self::Rate, Self::Bitrate, Self::KeyframeInterval];

    /// Its name.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Size => "resolution",
            Self::Rate => "frame rate",
            Self::Bitrate => "bitrate",
            Self::KeyframeInterval => "GOP (keyframe interval)",
        }
    }

    /// Its value in an encoder, with its unit.
    pub fn value(self, encoder: &Encoder) -> String {
        let dash = || "–".to_owned();
        match self {
            Self::Size => encoder.size.map_or_else(dash, |(width, height)| format!("{width}×{height}")),
            Self::Rate => encoder.rate.map_or_else(dash, |rate| format!("{} /s", rate.per_second())),
            Self::Bitrate => encoder.kbps.map_or_else(dash, |kbps| format!("{kbps} kbit/s")),
            Self::KeyframeInterval => encoder.keyframe_interval.map_or_else(dash, |frames| format!("{frames} frames")),
        }
    }

    /// What it can be, as the device says; empty where it does not.
    pub fn limits(self, limits: &EncoderLimits) -> String {
        let range = |range: Option<lattice_core::onvif::Range>| {
            range.map_or(String::new(), |range| format!("{} to {}", range.least, range.most))
        };
        match self {
            Self::Size => {
                let sizes: Vec<String> = limits.sizes.iter().map(|(width, height)| format!("{width}×{height}")).collect();
                sizes.join("  ")
            }
            Self::Rate => range(limits.rate),
            Self::Bitrate => range(limits.kbps),
            Self::KeyframeInterval => range(limits.keyframe_interval),
        }
    }

    /// The encoder with this setting one step up or down, within the limits.
    fn stepped(self, encoder: &Encoder, limits: &EncoderLimits, up: bool) -> Encoder {
        let mut out = encoder.clone();
        // A step is a tenth or so, on round numbers.
        let step = |value: f64, range: Option<lattice_core::onvif::Range>| {
            let unit = 10f64.powf(value.max(1.0).log10().floor()) / 10.0;
            let unit = unit.max(1.0) * if value >= 5.0 * 10f64.powf(value.max(1.0).log10().floor()) { 5.0 } else { 1.0 };
            let next = if up { (value / unit).floor() * unit + unit } else { (value / unit).ceil() * unit - unit };
            let range = range.unwrap_or(lattice_core::onvif::Range { least: 1.0, most: f64::from(u16::MAX) });
            next.clamp(range.least.max(1.0), range.most)
        };
        match self {
            Self::Size => {
                let mut sizes = limits.sizes.clone();
                sizes.sort_by_key(|(width, height)| u64::from(*width) * u64::from(*height));
                let at = sizes.iter().position(|size| Some(*size) == encoder.size);
                let next = match (at, up) {
                    (Some(at), true) => at + 1,
                    (Some(at), false) => at.saturating_sub(1),
                    (None, _) => 0,
                };
                out.size = sizes.get(next).copied().or(encoder.size);
            }
            Self::Rate => out.rate = encoder.rate.and_then(|rate| FrameRate::new(step(rate.per_second(), limits.rate))),
            Self::Bitrate => out.kbps = encoder.kbps.map(|kbps| step(f64::from(kbps), limits.kbps).round() as u32),
            Self::KeyframeInterval => {
                out.keyframe_interval =
                    encoder.keyframe_interval.map(|frames| step(f64::from(frames), limits.keyframe_interval).round() as u32);
            }
        }
        out
    }
}

/// The page of one device.
#[derive(Debug, Clone)]
pub struct DevicePage {
    /// The camera's name in the site.
    pub camera: String,
    /// What it said; `None` while it is asked.
    pub facts: Option<Result<DeviceFacts, String>>,
    /// Its clock, once it is known.
    pub clock: Option<Result<ClockOffset, String>>,
    /// Its streams measured for a moment, by their request URI.
    pub probed: HashMap<String, Result<Arc<Figures>, String>>,
    /// Those that were ordered to be measured.
    pub asked: HashSet<String>,
    /// The selected stream.
    pub stream: usize,
    /// The selected setting.
    pub setting: usize,
    /// The encoder as it shall be, while that differs.
    pub wanted: Option<Encoder>,
    /// Encoders as they were before they were changed, the newest last.
    pub before: Vec<Encoder>,
}

impl DevicePage {
    /// A page whose device is being asked.
    pub fn new(camera: String) -> Self {
        Self {
            camera,
            facts: None,
            clock: None,
            probed: HashMap::new(),
            asked: HashSet::new(),
            stream: 0,
            setting: 0,
            wanted: None,
            before: Vec::new(),
        }
    }

    /// The selected stream with its limits.
    pub fn selected(&self) -> Option<&(Offered, EncoderLimits)> {
        self.facts.as_ref()?.as_ref().ok()?.streams.get(self.stream)
    }

    /// The selected encoder as the device has it.
    pub fn encoder(&self) -> Option<&Encoder> {
        self.selected()?.0.profile.encoder.as_ref()
    }

    /// The device tells something; false where it is to be asked anew.
    pub fn on_news(&mut self, news: &DeviceNews) -> bool {
        match news {
            DeviceNews::Facts(facts) => self.facts = Some(facts.clone().map(|facts| *facts)),
            DeviceNews::Part(part) => match &mut self.facts {
                Some(Ok(facts)) => facts.take(part.clone()),
                // It did not answer before, and does now.
                _ => return false,
            },
            DeviceNews::Clock(read) => self.clock = Some(read.clone()),
            DeviceNews::Imaging(_) => {}
            DeviceNews::Probed(uri, measured) => drop(self.probed.insert(uri.clone(), measured.clone())),
        }
        true
    }

    /// The streams which are neither open nor measured yet: to be measured for a moment, each once.
    pub fn take_unprobed(&mut self, is_open: impl Fn(&str) -> bool) -> Vec<SourceUrl> {
        let facts = self.facts.as_ref().and_then(|facts| facts.as_ref().ok());
        let urls = facts.into_iter().flat_map(|facts| facts.streams.iter().filter_map(|(offered, _)| offered.url.clone()));
        let new = |url: &SourceUrl| {
            let uri = url.request_uri();
            url.scheme().is_rtsp() && !self.asked.contains(&uri) && !is_open(&uri)
        };
        let urls: Vec<SourceUrl> = urls.filter(new).collect();
        self.asked.extend(urls.iter().map(SourceUrl::request_uri));
        urls
    }

    /// Selects another stream.
    pub fn select(&mut self, rows: i32) {
        let count = self.facts.as_ref().and_then(|facts| facts.as_ref().ok()).map_or(0, |facts| facts.streams.len());
        self.stream = self.stream.saturating_add_signed(rows as isize).min(count.saturating_sub(1));
        self.wanted = None;
    }

    /// Selects another setting.
    pub const fn select_setting(&mut self, steps: i32) {
        self.setting = (self.setting as i32 + steps).rem_euclid(Setting::ALL.len() as i32) as usize;
    }

    /// Moves the selected setting one step.
    pub fn step(&mut self, up: bool) {
        let Some((offered, limits)) = self.selected().cloned() else { return };
        let Some(encoder) = self.wanted.clone().or(offered.profile.encoder) else { return };
        let setting = Setting::ALL.get(self.setting).copied().unwrap_or(Setting::Bitrate);
        self.wanted = Some(setting.stepped(&encoder, &limits, up)).filter(|wanted| Some(wanted) != self.encoder());
    }

    /// What the camera's streams take of the link together, kbit/s, as declared: now, and as wanted.
    pub fn load(&self) -> Option<(u32, u32)> {
        let facts = self.facts.as_ref()?.as_ref().ok()?;
        let each: Vec<u32> =
            facts.streams.iter().map(|(offered, _)| offered.profile.encoder.as_ref()?.kbps).collect::<Option<_>>()?;
        let now: u32 = each.iter().sum();
        let change = self.wanted.as_ref().and_then(|wanted| Some((each.get(self.stream)?, wanted.kbps?)));
        Some((now, change.map_or(now, |(old, new)| now - old + new)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::onvif::{DeviceInformation, Profile, Range};

    fn page() -> DevicePage {
        let mut encoder = Encoder::default();
        (encoder.size, encoder.kbps, encoder.rate, encoder.keyframe_interval) =
            (Some((640, 360)), Some(400), FrameRate::new(12.5), Some(25));
        let limits = EncoderLimits {
            sizes: vec![(640, 360), (320, 180)],
            kbps: Some(Range { least: 64.0, most: 420.0 }),
            ..EncoderLimits::default()
        };
        let offered = |encoder: &Encoder| Offered {
            profile: Profile { encoder: Some(encoder.clone()), ..Profile::default() },
            url: None,
            still: None,
            named_host: None,
        };
        let mut main = encoder.clone();
        main.kbps = Some(2000);
        let facts = DeviceFacts {
            information: DeviceInformation::default(),
            streams: vec![(offered(&main), limits.clone()), (offered(&encoder), limits)],
            users: Ok(Vec::new()),
            network: Ok(Vec::new()),
        };
        DevicePage { facts: Some(Ok(facts)), stream: 1, ..DevicePage::new("c".into()) }
    }

    #[test]
    fn settings_move_within_the_devices_limits_and_the_load_follows() {
        let mut page = page();
        assert_eq!(page.load(), Some((2400, 2400)));
        page.setting = 2;
        for _ in 0..4 {
            page.step(true);
        }
        assert_eq!((page.wanted.as_ref().unwrap().kbps, page.load()), (Some(420), Some((2400, 2420))));
        page.step(false);
        page.step(false);
        assert_eq!(page.wanted.as_ref().and_then(|wanted| wanted.kbps), None, "as it was is no change");
        page.setting = 0;
        page.step(false);
        assert_eq!(page.wanted.as_ref().unwrap().size, Some((320, 180)));
        page.select(-1);
        assert!(page.wanted.is_none() && page.stream == 0);
    }
}
