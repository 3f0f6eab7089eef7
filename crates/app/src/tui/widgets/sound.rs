//! How loud a stream's sound is, in cells.

use crate::tui::theme::{Theme, Tone};
use lattice_core::sound::{Level, SoundReading, SoundState};
use ratatui::text::Span;

/// The scale of meters begins at so many dBFS, and ends at 0.
pub const LEAST: f32 = -60.0;
/// From this peak on there is little room left, in dBFS.
const NEAR_FULL: f32 = -6.0;

const HEIGHTS: [&str; 8] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// The sign of sound that is not received, or whose level is not known.
pub const NOTE: &str = "♪";
/// The sign of sound that is heard here.
pub const HEARD: &str = "♫";

/// Where a level stands on the scale, from 0 to 1.
fn share(db: f32) -> f32 {
    ((db - LEAST) / -LEAST).clamp(0.0, 1.0)
}

/// A level as one cell.
pub fn cell(level: Level) -> &'static str {
    HEIGHTS[(share(level.rms) * 7.0).round() as usize]
}

/// The tone of a level: what is clipped is in alarm, what is near it bright.
pub fn tone(sound: &SoundReading) -> Tone {
    let noticed = sound.noticed;
    match sound.level() {
        _ if noticed.clipping.is_some() => Tone::Alarm,
        _ if noticed.loud.is_some() || noticed.silent.is_some() => Tone::Bright,
        Some(level) if level.peak > NEAR_FULL => Tone::Bright,
        Some(_) => Tone::Calm,
        None => Tone::Faint,
    }
}

/// A level as a bar of so many cells: RMS up to where it stands, a stroke at the peak.
pub fn bar(level: Option<Level>, width: usize) -> String {
    let Some(level) = level else { return "·".repeat(width) };
    let at = |db: f32| (share(db) * width as f32).round() as usize;
    let (rms, peak) = (at(level.rms), at(level.peak).max(1) - 1);
    (0..width)
        .map(|n| {
            if n == peak && level.peak > LEAST {
                '┃'
            } else if n < rms {
                '━'
            } else {
                '·'
            }
        })
        .collect()
}

/// The scale under a bar of so many cells: its numbers where they fit.
pub fn scale(width: usize) -> String {
    let mut line = vec![' '; width];
    let step = if width >= 40 { 10 } else { 20 };
    for db in (0..=60).step_by(step).map(|db: i32| -db) {
        let text = db.to_string();
        let end = ((share(db as f32) * width as f32).round() as usize).max(text.len());
        let free = |line: &[char]| line.get(end - text.len()..end).is_some_and(|place| place.iter().all(|cell| *cell == ' '));
        if free(&line) {
            line.splice(end - text.len()..end, text.chars());
        }
    }
    line.into_iter().collect()
}

/// A level in figures, its peak behind it.
pub fn figures(level: Option<Level>) -> String {
    level.map_or_else(
        || "–".to_owned(),
        |level| match level.rms {
            ..-100.0 => "digital silence".to_owned(),
            rms => format!("{rms:.1} dBFS, peak {:.1}", level.peak),
        },
    )
}

/// The forms of the sound on a plate, the longest first; `None` for a stream that has none, as far as is known.
pub fn forms(sound: &SoundReading, heard: bool) -> Option<Vec<String>> {
    let (note, level) = (if heard { HEARD } else { NOTE }, sound.level());
    Some(match (&sound.state, level) {
        (SoundState::Unknown | SoundState::None, _) => return None,
        (SoundState::On, Some(level)) => {
            let silent = sound.noticed.silent.is_some();
            let db = if silent { "silent".to_owned() } else { format!("{:.0} dB", level.rms.max(-99.0)) };
            let least = if heard { HEARD } else { cell(level) };
            vec![format!("{note} {} {db}", bar(Some(level), 8)), format!("{note}{} {db}", cell(level)), least.to_owned()]
        }
        (SoundState::Off, _) => vec![format!("{NOTE} off"), NOTE.to_owned()],
        (SoundState::Refused(_), _) => vec![format!("{NOTE} refused"), NOTE.to_owned()],
        (SoundState::On | SoundState::Unread(_), _) => vec![format!("{NOTE} no level"), NOTE.to_owned()],
    })
}

/// What is noticed, in words; empty where nothing is.
pub fn noticed(sound: &SoundReading) -> String {
    let noticed = sound.noticed;
    let clipping = noticed.clipping.map(|_| "clipped".to_owned());
    let loud = noticed.loud.map(|(_, by)| format!("{by:.0} dB louder than usual"));
    let silent = noticed.silent.map(|_| "silent".to_owned());
    [clipping, loud, silent].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// A bar with its tone.
pub fn span(theme: Theme, sound: &SoundReading, level: Option<Level>, width: usize) -> Span<'static> {
    Span::styled(bar(level, width), theme.tone(tone(sound)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bar_stands_where_its_level_does_and_its_scale_under_it() {
        let level = |rms: f32, peak: f32| Some(Level { peak, rms });
        assert_eq!(bar(level(-30.0, -12.0), 20), "━━━━━━━━━━·····┃····");
        assert_eq!(bar(level(-120.0, -120.0), 6), "······");
        assert_eq!(bar(level(0.0, 0.0), 4), "━━━┃");
        assert_eq!(bar(None, 3), "···");
        assert_eq!(scale(60), "-60    -50       -40       -30       -20       -10         0");
        assert_eq!(scale(20), "-60 -40   -20      0");
        assert_eq!(cell(Level { peak: -3.0, rms: -60.0 }), "▁");
    }

    #[test]
    fn whether_there_is_sound_and_whether_it_is_on_is_said_in_one_cell() {
        let shortest = |state: SoundState, levels: Vec<Level>| {
            forms(&SoundReading { state, levels, ..SoundReading::default() }, false).map(|forms| forms.last().unwrap().clone())
        };
        assert_eq!(shortest(SoundState::None, Vec::new()), None);
        assert_eq!(shortest(SoundState::Off, Vec::new()).as_deref(), Some("♪"));
        assert_eq!(shortest(SoundState::On, vec![Level { peak: 0.0, rms: -2.0 }]).as_deref(), Some("█"));
    }
}
