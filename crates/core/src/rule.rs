//! What is done when a camera reports something.

use crate::onvif::ReportKind;
use std::time::Duration;

/// A rule of the site.
#[derive(Debug, Clone, PartialEq, Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent choices")]
pub struct Rule {
    /// Only for this camera.
    pub camera: Option<String>,
    /// Only for cameras of this group.
    pub group: Option<String>,
    /// Only for these kinds; for all of them where there is none.
    pub kinds: Vec<ReportKind>,
    /// Only at these hours.
    pub hours: Option<Hours>,
    /// It is an entry of the ledger.
    pub ledger: bool,
    /// That entry is an alarm until somebody acknowledges it.
    pub alarm: bool,
    /// The tile says it.
    pub mark: bool,
    /// A still is kept.
    pub still: bool,
    /// The camera gets this place of the wall, from 0,
    pub tile: Option<usize>,
    /// for so long.
    pub seconds: Duration,
    /// The terminal's bell is rung.
    pub bell: bool,
    /// The desktop shows a notification, where the terminal can make it.
    pub notify: bool,
    /// This program is run, with these arguments.
    pub run: Vec<String>,
    /// JSON is sent to this address.
    pub post: Option<String>,
    /// It does so again for the same camera after this time at the earliest.
    pub rest: Duration,
}

/// Hours of a day, in minutes from midnight; from later to earlier goes over midnight.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hours {
    /// From this minute on,
    pub from: u16,
    /// up to this one.
    pub to: u16,
}

impl Hours {
    /// Reads `22:00-06:30`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let minute = |text: &str| {
            let (hours, minutes) = text.trim().split_once(':')?;
            let (hours, minutes): (u16, u16) = (hours.parse().ok()?, minutes.parse().ok()?);
            (hours < 24 && minutes < 60 || (hours, minutes) == (24, 0)).then_some(hours * 60 + minutes)
        };
        let (from, to) = text.split_once('-')?;
        let (from, to) = (minute(from)?, minute(to)?);
        (from != to).then_some(Self { from, to })
    }

    /// Whether a minute of the day is among them.
    #[must_use]
    pub const fn has(self, minute: u16) -> bool {
        if self.from < self.to { minute >= self.from && minute < self.to } else { minute >= self.from || minute < self.to }
    }
}

impl std::fmt::Display for Hours {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:02}:{:02}-{:02}:{:02}", self.from / 60, self.from % 60, self.to / 60, self.to % 60)
    }
}

impl Rule {
    /// Whether it is about this camera.
    #[must_use]
    pub fn is_about(&self, camera: &str, group: Option<&str>) -> bool {
        self.camera.as_deref().is_none_or(|own| own == camera) && self.group.as_deref().is_none_or(|own| group == Some(own))
    }

    /// Whether it is for this kind, at this minute of the day.
    #[must_use]
    pub fn is_for(&self, kind: ReportKind, minute: u16) -> bool {
        (self.kinds.is_empty() || self.kinds.contains(&kind)) && self.hours.is_none_or(|hours| hours.has(minute))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hours_go_over_midnight_and_slips_are_refused() {
        let night = Hours::parse("22:00 - 06:30").unwrap();
        assert_eq!([0, 389, 390, 720, 1320].map(|minute| night.has(minute)), [true, true, false, false, true]);
        assert_eq!(night.to_string(), "22:00-06:30");
        let day = Hours::parse("06:30-24:00").unwrap();
        assert_eq!([389, 390, 1439].map(|minute| day.has(minute)), [false, true, true]);
        for bad in ["", "22:00", "25:00-06:00", "22:60-06:00", "6-7", "06:00-06:00"] {
            assert_eq!(Hours::parse(bad), None, "{bad}");
        }
    }

    #[test]
    fn a_rule_is_for_its_cameras_kinds_and_hours() {
        let rule = Rule {
            group: Some("Gates".into()),
            kinds: vec![ReportKind::Motion],
            hours: Hours::parse("22:00-06:00"),
            ..Rule::default()
        };
        assert!(rule.is_about("Gate 1", Some("Gates")) && !rule.is_about("Gate 1", None));
        assert!(
            rule.is_for(ReportKind::Motion, 0) && !rule.is_for(ReportKind::Motion, 720) && !rule.is_for(ReportKind::Input, 0)
        );
        assert!(Rule::default().is_about("any", None) && Rule::default().is_for(ReportKind::Other, 5));
    }
}
