//! The figures of a stream, once: word, unit, form and definition of each, and where it is read off.
//!
//! Help, charts, JSON, `OpenMetrics` and history are made from these rows. A new figure is a row here, and the meter that
//! measures it.

use super::{Figures, Latency, Spread};
use crate::FrameRate;
use std::time::Duration;

/// A figure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[allow(missing_docs, reason = "each is defined by its row")]
pub enum Fig {
    Declared,
    Sent,
    Arrived,
    Shown,
    Bitrate,
    BitrateTen,
    BitrateKey,
    BitrateOne,
    BitrateBoth,
    Latency,
    LatencyP95,
    Path,
    Buffer,
    Decode,
    Draw,
    Jitter,
    Loss,
    Keyframe,
    KeyframeInterval,
    Width,
    Height,
    PacketsReceived,
    PacketsLost,
    UnitsReceived,
    UnitsDamaged,
    Dropouts,
    DropoutSeconds,
    DropoutRunning,
    DropoutsHour,
    ClockOffset,
    ClockError,
    LatencyError,
    KeyframesAsked,
    KeyframesObeyed,
    SoundRms,
    SoundPeak,
    SoundOffset,
    SoundLoss,
    SoundJitter,
}

/// How a figure goes out as `OpenMetrics`.
#[derive(Debug, Clone, Copy)]
pub struct Metric {
    /// Its name behind `amber_lattice_stream_`.
    pub name: &'static str,
    /// It only grows.
    pub counter: bool,
    /// Its base unit there; empty for a plain count.
    pub unit: &'static str,
    /// Its value there is that here times this.
    pub factor: f64,
}

/// A row.
#[derive(Debug, Clone, Copy)]
pub struct Figure {
    /// Which.
    pub fig: Fig,
    /// Its word in JSON and over charts.
    pub word: &'static str,
    /// Its unit; empty for a plain count.
    pub unit: &'static str,
    /// Digits behind the point.
    pub digits: usize,
    /// What it is.
    pub definition: &'static str,
    /// Its value in its unit; `None` is unknown.
    pub value: fn(&Figures) -> Option<f64>,
    /// Its code in the history: never given to another one; `None` where no history of it is kept.
    pub code: Option<u8>,
    /// How it goes out.
    pub metric: Option<Metric>,
}

impl Figure {
    /// A value as it is written, without its unit; a dash where it is unknown.
    #[must_use]
    pub fn written(&self, value: Option<f64>) -> String {
        value.map_or_else(|| "–".to_owned(), |value| format!("{value:.*}", self.digits))
    }

    /// A stream's value as it is written, without its unit; a dash where it is unknown.
    #[must_use]
    pub fn of(&self, figures: &Figures) -> String {
        self.written((self.value)(figures))
    }
}

impl Fig {
    /// Its row.
    #[must_use]
    pub const fn row(self) -> &'static Figure {
        &FIGURES[self as usize]
    }
}

const fn row(
    fig: Fig,
    (word, unit, digits): (&'static str, &'static str, usize),
    definition: &'static str,
    value: fn(&Figures) -> Option<f64>,
) -> Figure {
    Figure { fig, word, unit, digits, definition, value, code: None, metric: None }
}

impl Figure {
    const fn kept(self, code: u8) -> Self {
        Self { code: Some(code), ..self }
    }

    const fn gauge(self, name: &'static str, unit: &'static str, factor: f64) -> Self {
        Self { metric: Some(Metric { name, counter: false, unit, factor }), ..self }
    }

    const fn counter(self, name: &'static str, unit: &'static str) -> Self {
        Self { metric: Some(Metric { name, counter: true, unit, factor: 1.0 }), ..self }
    }
}

fn millis(span: Duration) -> f64 {
    span.as_secs_f64() * 1e3
}

fn of_latency(figures: &Figures, part: fn(&Latency) -> Option<Spread>) -> Option<f64> {
    figures.latency.as_ref().and_then(part).map(|spread| millis(spread.p50))
}

fn of_kind(figures: &Figures, kind: usize) -> Option<f64> {
    figures.bitrate_by_kind.map(|all| all[kind].kilo())
}

const HOUR: Duration = Duration::from_secs(3600);
const PER_SECOND: &str = "frames_per_second";

/// Every figure, in the order of [`Fig`].
pub const FIGURES: [Figure; 39] = [
    row(Fig::Declared, ("declared", "/s", 1), "Frame rate that the description and the parameter sets say", |f| {
        f.declared.map(FrameRate::per_second)
    })
    .gauge("declared_frames_per_second", PER_SECOND, 1.0),
    row(Fig::Sent, ("sent", "/s", 1), "Frames that the camera made, by its own timestamps over 5 s", |f| f.sent).kept(1).gauge(
        "sent_frames_per_second",
        PER_SECOND,
        1.0,
    ),
    row(Fig::Arrived, ("arrived", "/s", 1), "Access units completed, over 5 s of arrival time", |f| f.arrived).kept(2).gauge(
        "arrived_frames_per_second",
        PER_SECOND,
        1.0,
    ),
    row(Fig::Shown, ("shown", "/s", 1), "Pictures of the stream really drawn, over 5 s", |f| f.shown).kept(3).gauge(
        "shown_frames_per_second",
        PER_SECOND,
        1.0,
    ),
    row(Fig::Bitrate, ("bitrate", "kbit/s", 0), "Payload, over 1 s", |f| f.bitrate_1s.map(crate::BitsPerSecond::kilo)).kept(4),
    row(Fig::BitrateTen, ("bitrate of 10 s", "kbit/s", 0), "Payload bitrate over 10 s", |f| {
        f.bitrate_10s.map(crate::BitsPerSecond::kilo)
    })
    .gauge("payload_bits_per_second", "bits_per_second", 1e3),
    row(Fig::BitrateKey, ("bitrate of keyframes", "kbit/s", 0), "Of the bitrate, what keyframes take", |f| of_kind(f, 0))
        .kept(11),
    row(Fig::BitrateOne, ("bitrate of predicted", "kbit/s", 0), "Of the bitrate, what predicted frames take", |f| of_kind(f, 1))
        .kept(12),
    row(
        Fig::BitrateBoth,
        ("bitrate of bi-predicted", "kbit/s", 0),
        "Of the bitrate, what frames predicted from both sides take",
        |f| of_kind(f, 2),
    )
    .kept(13),
    row(Fig::Latency, ("latency", "ms", 0), "Capture to drawn, median of 10 s", |f| of_latency(f, |one| Some(one.total))).kept(5),
    row(Fig::LatencyP95, ("latency p95", "ms", 0), "19 frames of 20 were at most this late, of 10 s", |f| {
        f.latency.map(|latency| millis(latency.total.p95))
    })
    .kept(6),
    row(Fig::Path, ("path", "ms", 0), "Capture to arrival, median of 10 s", |f| of_latency(f, |one| Some(one.path))).kept(7),
    row(Fig::Buffer, ("buffer", "ms", 0), "Held on purpose, median of 10 s", |f| of_latency(f, |one| Some(one.buffer))).kept(8),
    row(Fig::Decode, ("decode", "ms", 0), "Decoded and scaled, median of 10 s", |f| of_latency(f, |one| one.decode)).kept(9),
    row(Fig::Draw, ("draw", "ms", 0), "Written to the terminal, median of 10 s", |f| of_latency(f, |one| one.draw)).kept(10),
    row(
        Fig::Jitter,
        ("jitter", "ms", 1),
        "Interarrival jitter (RFC 3550) of the first packet of each frame, in the order of sending",
        |f| f.jitter.map(millis),
    )
    .kept(15)
    .gauge("jitter_seconds", "seconds", 1e-3),
    row(Fig::Loss, ("loss", "%", 2), "Share of packets lost in 10 s", |f| f.recent_loss.map(|share| share * 100.0))
        .kept(16)
        .gauge("loss_ratio", "ratio", 0.01),
    row(Fig::Keyframe, ("keyframe", "", 0), "A keyframe began in this second", |f| {
        f.keyframe_at.map(|at| f64::from(u8::from(f.at.since(at) < Duration::from_secs(1))))
    })
    .kept(14),
    row(Fig::KeyframeInterval, ("keyframe interval", "s", 1), "Last keyframe interval in media time", |f| {
        f.keyframe_interval.map(|span| span.as_secs_f64())
    })
    .gauge("keyframe_interval_seconds", "seconds", 1.0),
    row(Fig::Width, ("width", "px", 0), "Cropped width of the picture", |f| f.size.map(|(width, _)| f64::from(width))).gauge(
        "width_pixels",
        "pixels",
        1.0,
    ),
    row(Fig::Height, ("height", "px", 0), "Cropped height of the picture", |f| f.size.map(|(_, height)| f64::from(height)))
        .gauge("height_pixels", "pixels", 1.0),
    row(Fig::PacketsReceived, ("packets received", "", 0), "Packets received", |f| Some(f.packets.received as f64))
        .counter("packets_received", ""),
    row(Fig::PacketsLost, ("packets lost", "", 0), "Packets expected and not received", |f| Some(f.packets.lost as f64))
        .counter("packets_lost", ""),
    row(Fig::UnitsReceived, ("units received", "", 0), "Access units of which anything arrived", |f| {
        Some(f.frames.received as f64)
    })
    .counter("units_received", ""),
    row(Fig::UnitsDamaged, ("units damaged", "", 0), "Access units with a part missing", |f| Some(f.frames.damaged as f64))
        .counter("units_damaged", ""),
    row(Fig::Dropouts, ("dropouts", "", 0), "Times without a new picture that have ended", |f| Some(f.dropout_totals.0 as f64))
        .counter("dropouts", ""),
    row(Fig::DropoutSeconds, ("dropout seconds", "s", 1), "The length of ended dropouts together", |f| {
        Some(f.dropout_totals.1.as_secs_f64())
    })
    .counter("dropout_seconds", "seconds"),
    row(Fig::DropoutRunning, ("dropout that runs", "s", 1), "Length of the dropout that runs", |f| {
        Some(f.dropout_now.map_or(0.0, |dropout| dropout.length.as_secs_f64()))
    })
    .gauge("dropout_running_seconds", "seconds", 1.0),
    row(
        Fig::DropoutsHour,
        ("dropouts in the last hour", "", 0),
        "Dropouts that ended in the last hour; 500 where more did",
        |f| {
            let lately =
                f.dropouts.iter().rev().take_while(|dropout| f.at.since(dropout.start).saturating_sub(dropout.length) <= HOUR);
            Some(lately.count() as f64)
        },
    )
    .gauge("dropouts_in_last_hour", "", 1.0),
    row(
        Fig::ClockOffset,
        ("clock offset", "ms", 1),
        "How far the camera's clock is ahead of ours; behind where it is negative",
        |f| f.clock.map(|clock| -(clock.micros as f64) / 1e3),
    )
    .gauge("clock_offset_seconds", "seconds", 1e-3)
    .kept(17),
    row(Fig::ClockError, ("clock error", "ms", 1), "How far the clock offset may be off at most", |f| {
        f.clock.map(|clock| millis(clock.error))
    })
    .gauge("clock_error_seconds", "seconds", 1e-3)
    .kept(18),
    row(Fig::LatencyError, ("latency error", "ms", 1), "How far latency and path may be off by the clock or the flashes", |f| {
        f.latency.and_then(|latency| latency.error).map(millis)
    })
    .gauge("latency_error_seconds", "seconds", 1e-3),
    row(
        Fig::KeyframesAsked,
        ("keyframes asked", "", 0),
        "Keyframes that were asked for by RTCP (PLI, FIR) or by the device service",
        |f| f.keyframes_asked.map(|told| told.asked as f64),
    )
    .counter("keyframes_asked", ""),
    row(Fig::KeyframesObeyed, ("keyframes obeyed", "", 0), "Requests after which a keyframe came within a second", |f| {
        f.keyframes_asked.map(|told| told.obeyed as f64)
    })
    .counter("keyframes_obeyed", ""),
    row(
        Fig::SoundRms,
        ("sound level", "dBFS", 1),
        "RMS of the loudest channel over 1 s; a sine wave of full scale has 0 (AES17)",
        |f| f.sound.level().map(|level| f64::from(level.rms)),
    )
    .kept(19)
    .gauge("sound_level_dbfs", "", 1.0),
    row(Fig::SoundPeak, ("sound peak", "dBFS", 1), "Largest sample of 1 s, of the loudest channel", |f| {
        f.sound.level().map(|level| f64::from(level.peak))
    })
    .kept(20)
    .gauge("sound_peak_dbfs", "", 1.0),
    row(
        Fig::SoundOffset,
        ("sound offset", "ms", 0),
        "How much later than its picture the sound of a moment arrives, by sender reports; earlier where it is negative",
        |f| f.sound.offset_micros.map(|micros| micros as f64 / 1e3),
    )
    .kept(21)
    .gauge("sound_offset_seconds", "seconds", 1e-3),
    row(Fig::SoundLoss, ("sound loss", "%", 2), "Packets of the sound lost on the path, over 10 s", |f| {
        f.sound.recent_loss.map(|share| share * 100.0)
    })
    .gauge("sound_recent_loss_ratio", "ratio", 1e-2),
    row(Fig::SoundJitter, ("sound jitter", "ms", 1), "Interarrival jitter of the sound (RFC 3550)", |f| {
        f.sound.jitter.map(millis)
    })
    .gauge("sound_jitter_seconds", "seconds", 1e-3),
];

/// A figure that a history is kept of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kept {
    /// Which.
    pub fig: Fig,
    /// Its code in rows of the record.
    pub code: u8,
}

/// How many figures a history is kept of.
pub const FIELDS: usize = {
    let (mut count, mut at) = (0, 0);
    while at < FIGURES.len() {
        count += FIGURES[at].code.is_some() as usize;
        at += 1;
    }
    count
};

/// The figures that a history is kept of, in the order of [`Sample::values`](super::Sample::values).
pub const KEPT: [Kept; FIELDS] = {
    let mut kept = [Kept { fig: Fig::Sent, code: 0 }; FIELDS];
    let (mut count, mut at) = (0, 0);
    while at < FIGURES.len() {
        if let Some(code) = FIGURES[at].code {
            kept[count] = Kept { fig: FIGURES[at].fig, code };
            count += 1;
        }
        at += 1;
    }
    kept
};

/// Where a figure stands among the values of a sample; `None` where no history of it is kept.
#[must_use]
pub const fn place(fig: Fig) -> Option<usize> {
    let mut at = 0;
    while at < FIELDS {
        if KEPT[at].fig as usize == fig as usize {
            return Some(at);
        }
        at += 1;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Mono;
    use crate::meter::{Dropout, DropoutKind};
    use std::collections::BTreeSet;

    #[test]
    fn every_figure_has_its_row_its_own_word_and_its_own_code() {
        for (at, row) in FIGURES.iter().enumerate() {
            assert_eq!(row.fig as usize, at, "{}", row.word);
            assert!(!row.definition.is_empty() && !row.definition.ends_with('.'), "{}", row.word);
        }
        let words: BTreeSet<&str> = FIGURES.iter().map(|row| row.word).collect();
        let codes: BTreeSet<u8> = FIGURES.iter().filter_map(|row| row.code).collect();
        let metrics: BTreeSet<&str> = FIGURES.iter().filter_map(|row| Some(row.metric?.name)).collect();
        assert_eq!((words.len(), codes.len()), (FIGURES.len(), FIELDS));
        assert_eq!(metrics.len(), FIGURES.iter().filter(|row| row.metric.is_some()).count());
    }

    #[test]
    fn a_figure_is_read_in_its_unit_and_unknown_stays_unknown() {
        let figures = Figures {
            recent_loss: Some(0.0125),
            jitter: Some(Duration::from_micros(2_340)),
            bitrate_1s: Some(crate::BitsPerSecond(512_000.0)),
            ..Figures::default()
        };
        let written = |fig: Fig| fig.row().written((fig.row().value)(&figures));
        assert_eq!([Fig::Loss, Fig::Jitter, Fig::Bitrate, Fig::Sent].map(written), ["1.25", "2.3", "512", "–"]);
    }

    #[test]
    fn dropouts_of_the_last_hour_are_those_that_ended_in_it() {
        let ended = |seconds: u64| Dropout {
            start: Mono::from_micros((seconds - 2) * 1_000_000),
            length: Duration::from_secs(2),
            kind: DropoutKind::Freeze,
            frames_missed: None,
            cause: None,
            packets_lost: 0,
            media: None,
        };
        let dropouts = [100, 399, 400, 2000, 3990].map(ended).to_vec();
        let figures = Figures { at: Mono::from_micros(4_000_000_000), dropouts, ..Figures::default() };
        assert_eq!((Fig::DropoutsHour.row().value)(&figures), Some(3.0));
    }
}
