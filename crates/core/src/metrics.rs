//! Figures for other systems as `OpenMetrics` text (version 1.0): what a site's own monitoring reads.

use crate::Verdict;
use crate::meter::{FIGURES, Figures};
use std::fmt::Write as _;
use std::time::Duration;

/// The type of the text, for HTTP.
pub const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// A stream and its figures.
#[derive(Debug, Clone, Copy)]
pub struct Measured<'a> {
    /// The camera's name.
    pub camera: &'a str,
    /// The stream: main, sub, third.
    pub stream: &'a str,
    /// The camera's group.
    pub group: Option<&'a str>,
    /// Its figures.
    pub figures: &'a Figures,
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

fn labels(of: &Measured<'_>) -> String {
    let group = of.group.map_or_else(String::new, |group| format!(",group=\"{}\"", escaped(group)));
    format!("camera=\"{}\",stream=\"{}\"{group}", escaped(of.camera), escaped(of.stream))
}

fn head(out: &mut String, name: &str, kind: &str, unit: &str, help: &str) {
    let _ = writeln!(out, "# TYPE {name} {kind}");
    if !unit.is_empty() {
        let _ = writeln!(out, "# UNIT {name} {unit}");
    }
    let _ = writeln!(out, "# HELP {name} {help}");
}

/// The text for these streams; `alarms` is the number of ledger entries that are alarms.
#[must_use]
pub fn text(streams: &[Measured<'_>], alarms: usize) -> String {
    let mut out = String::new();
    for (row, metric) in FIGURES.iter().filter_map(|row| Some((row, row.metric?))) {
        let name = format!("amber_lattice_stream_{}", metric.name);
        let (kind, suffix) = if metric.counter { ("counter", "_total") } else { ("gauge", "") };
        head(&mut out, &name, kind, metric.unit, row.definition);
        for stream in streams {
            // What is unknown is left out: a zero would be believed.
            if let Some(value) = (row.value)(stream.figures).map(|value| value * metric.factor).filter(|value| value.is_finite())
            {
                let _ = writeln!(out, "{name}{suffix}{{{}}} {value}", labels(stream));
            }
        }
    }
    let name = "amber_lattice_stream_latency_seconds";
    head(&mut out, name, "gauge", "seconds", "Capture to the furthest station that pictures reach, by its basis, of 10 s");
    for stream in streams {
        let Some(latency) = stream.figures.latency else { continue };
        for (quantile, value) in [("0.5", latency.total.p50), ("0.95", latency.total.p95)] {
            let basis = latency.basis.word();
            let value = Duration::as_secs_f64(&value);
            let _ = writeln!(out, "{name}{{{},basis=\"{basis}\",quantile=\"{quantile}\"}} {value}", labels(stream));
        }
    }
    let name = "amber_lattice_stream_latency_part_seconds";
    head(&mut out, name, "gauge", "seconds", "Parts of the latency: path, buffer, decode, draw, of 10 s");
    for stream in streams {
        let Some(latency) = stream.figures.latency else { continue };
        let parts =
            [("path", Some(latency.path)), ("buffer", Some(latency.buffer)), ("decode", latency.decode), ("draw", latency.draw)];
        for (part, spread) in parts.into_iter().filter_map(|(part, spread)| Some((part, spread?))) {
            for (quantile, value) in [("0.5", spread.p50), ("0.95", spread.p95)] {
                let value = value.as_secs_f64();
                let _ = writeln!(out, "{name}{{{},part=\"{part}\",quantile=\"{quantile}\"}} {value}", labels(stream));
            }
        }
    }
    let name = "amber_lattice_stream_verdict";
    head(&mut out, name, "stateset", "", "State of the stream");
    for stream in streams {
        for verdict in Verdict::WORST_FIRST {
            let is = u8::from(stream.figures.verdict == verdict);
            let _ = writeln!(out, "{name}{{{},{name}=\"{verdict}\"}} {is}", labels(stream));
        }
    }
    let name = "amber_lattice_stream_cause";
    head(&mut out, name, "gauge", "", "Why it is not steady: 1 for the primary cause");
    for stream in streams {
        if let Some(cause) = stream.figures.cause {
            let _ = writeln!(out, "{name}{{{},cause=\"{}\"}} 1", labels(stream), cause.word());
        }
    }
    head(&mut out, "amber_lattice_alarms", "gauge", "", "Ledger entries in alarm");
    let _ = writeln!(out, "amber_lattice_alarms {alarms}");
    out.push_str("# EOF\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Cause, FrameRate};

    #[test]
    fn the_text_is_well_formed_and_what_is_unknown_is_left_out() {
        let mut lossy = Figures { verdict: Verdict::Strained, cause: Some(Cause::PacketLoss), ..Figures::default() };
        lossy.declared = FrameRate::new(12.5);
        lossy.sent = Some(f64::NAN);
        lossy.packets.lost = 7;
        let nothing = Figures::default();
        let streams = [
            Measured { camera: "Quay \"2\"\\", stream: "sub", group: Some("Quays"), figures: &lossy },
            Measured { camera: "Mast", stream: "main", group: None, figures: &nothing },
        ];
        let text = text(&streams, 3);
        assert!(text.ends_with("amber_lattice_alarms 3\n# EOF\n"));
        let quay = "camera=\"Quay \\\"2\\\"\\\\\",stream=\"sub\",group=\"Quays\"";
        for line in [
            format!("amber_lattice_stream_declared_frames_per_second{{{quay}}} 12.5"),
            format!("amber_lattice_stream_packets_lost_total{{{quay}}} 7"),
            format!("amber_lattice_stream_verdict{{{quay},amber_lattice_stream_verdict=\"strained\"}} 1"),
            format!("amber_lattice_stream_cause{{{quay},cause=\"packet-loss\"}} 1"),
        ] {
            assert!(text.lines().any(|have| have == line), "{line}:\n{text}");
        }
        assert!(!text.contains("NaN") && !text.contains("sent_frames_per_second{"), "{text}");
        // Each family begins with its type, and once.
        let types: Vec<&str> = text.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.split(' ').next()).collect();
        let distinct: std::collections::BTreeSet<&&str> = types.iter().collect();
        assert_eq!(types.len(), distinct.len());
        for line in text.lines().filter(|line| !line.starts_with('#')) {
            let name = line.split(['{', ' ']).next().unwrap();
            let family = name.strip_suffix("_total").unwrap_or(name);
            assert!(types.contains(&family), "{line}");
        }
    }
}
