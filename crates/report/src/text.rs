//! Figures and times as a reader wants them.

use jiff::tz::TimeZone;
use lattice_core::Wall;
use std::time::Duration;

/// A moment by the reader's clock.
pub fn moment(at: Wall, zone: &TimeZone, format: &str) -> String {
    jiff::Timestamp::from_microsecond(at.as_unix_micros())
        .map_or_else(|_| String::new(), |at| at.to_zoned_datetime(zone.clone()).strftime(format).to_string())
}

/// A length in a few characters.
pub fn length(span: Duration) -> String {
    let seconds = span.as_secs();
    match seconds {
        0..10 => format!("{:.1} s", span.as_secs_f64()),
        10..120 => format!("{seconds} s"),
        120..7200 => format!("{} min {:02} s", seconds / 60, seconds % 60),
        _ => format!("{} h {:02} min", seconds / 3600, seconds / 60 % 60),
    }
}

/// A share with as many digits as tell good from perfect; never rounded up to 100 %.
pub fn percent(share: Option<f64>) -> String {
    match share {
        None => "–".into(),
        Some(1.0) => "100 %".into(),
        Some(share) => format!("{:.3} %", (share * 1e5).floor() / 1e3),
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
        assert_eq!(percent(Some(0.999_996)), "99.999 %");
        assert_eq!([percent(Some(1.0)), percent(None), percent(Some(0.5))], ["100 %", "–", "50.000 %"]);
        let lengths = [1_500, 90_000, 3_599_000, 8_000_000].map(|ms| length(Duration::from_millis(ms)));
        assert_eq!(lengths, ["1.5 s", "90 s", "59 min 59 s", "2 h 13 min"]);
        assert_eq!(fitting("Slipway north", 40.0, 8.0), "Slipway…");
        assert_eq!((round_step(100.0, 5.0), round_step(0.3, 4.0), time_step(8.0 * 3600.0, 8.0)), (20.0, 0.1, 3600.0));
    }
}
