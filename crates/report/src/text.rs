//! Figures and times as a reader wants them.

use jiff::tz::TimeZone;
use lattice_core::Wall;
use std::time::Duration;

/// A moment by the reader's clock.
pub fn moment(at: Wall, zone: &TimeZone, format: &str) -> String {
    jiff::Timestamp::from_microsecond(at.as_unix_micros())
        .map_or_else(|_| String::new(), |at| at.to_zoned_datetime(zone.clone()).strftime(format).to_string())
}

/// Times without a picture are known to about this, in seconds.
const KNOWN_TO: f64 = 0.1;

/// A share of a measured time with as many digits as that time has, three at most; never rounded up to 100 %.
pub fn percent(share: Option<f64>, measured: Duration) -> String {
    let digits = (-(KNOWN_TO * 100.0 / measured.as_secs_f64().max(1.0)).log10()).floor().clamp(0.0, 3.0);
    let step = 10f64.powf(digits);
    match share {
        None => "–".into(),
        Some(1.0) => "100 %".into(),
        Some(share) => format!("{:.*} %", digits as usize, (share * 100.0 * step).floor() / step),
    }
}

/// What fits into a width at a font size; cut off with an ellipsis.
pub fn fitting(text: &str, width: f64, size: f64) -> String {
    // Mean width of a letter of the font, by its size.
    let most = (width / (size * 0.58)).floor().max(1.0) as usize;
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let cut: String = text.chars().take(most.saturating_sub(1)).collect();
    format!("{}…", cut.trim_end())
}

/// A round step for an axis with about `count` marks.
pub fn round_step(range: f64, count: f64) -> f64 {
    let rough = (range / count).max(1e-9);
    let decade = 10f64.powf(rough.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|step| step * decade).find(|step| *step >= rough).unwrap_or(rough)
}

/// A round step in seconds for an axis of time.
pub fn time_step(seconds: f64, count: f64) -> f64 {
    let steps = [60.0, 300.0, 600.0, 900.0, 1800.0, 3600.0, 7200.0, 10_800.0, 21_600.0, 43_200.0, 86_400.0];
    let rough = seconds / count;
    steps.into_iter().find(|step| *step >= rough).unwrap_or_else(|| (rough / 86_400.0).ceil() * 86_400.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_are_short_and_never_better_than_they_are() {
        let (shift, short) = (Duration::from_secs(8 * 3600), Duration::from_secs(120));
        assert_eq!(percent(Some(0.999_996), shift), "99.999 %");
        assert_eq!([percent(Some(1.0), shift), percent(None, shift), percent(Some(0.5), shift)], ["100 %", "–", "50.000 %"]);
        assert_eq!([percent(Some(0.9876), short), percent(Some(0.9999), short)], ["98.7 %", "99.9 %"]);
        assert_eq!(fitting("Slipway north", 40.0, 8.0), "Slipway…");
        assert_eq!((round_step(100.0, 5.0), round_step(0.3, 4.0), time_step(8.0 * 3600.0, 8.0)), (20.0, 0.1, 3600.0));
    }
}
