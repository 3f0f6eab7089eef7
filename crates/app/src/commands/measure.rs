//! `measure`: the same work without a screen.

use crate::cli::MeasureOptions;
use jiff::Timestamp;
use lattice_core::check::{advice_of, phrase_of};
use lattice_core::event::Event;
use lattice_core::meter::{Dropout, FIGURES, Figure, Figures, Spread};
use lattice_core::rtp::SequenceCounts;
use lattice_core::sight::{Finding, Sight};
use lattice_core::sound::SoundReading;
use lattice_core::srtp::MasterKey;
use lattice_core::ts::Check;
use lattice_core::{FrameRate, Mono, TransportChoice};
use lattice_engine::{Decode, Feed, Pictures, SMALL_TILE, pool, wait_until_closed};
use lattice_net::{Origin, Runtime, SourceConfig, clock};
use serde::Serialize;
use std::io::{IsTerminal as _, Write as _};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use unicode_width::UnicodeWidthStr as _;

#[derive(Serialize)]
struct Report {
    streams: Vec<StreamReport>,
}

#[derive(Serialize)]
struct StreamReport {
    url: String,
    verdict: &'static str,
    cause: Option<&'static str>,
    #[serde(skip)]
    seen: Option<lattice_core::rtsp::FailureKind>,
    detail: Option<String>,
    transport: Option<&'static str>,
    codec: Option<String>,
    still_every_s: Option<f64>,
    audio: Vec<String>,
    sound: SoundReport,
    profile: Option<&'static str>,
    width: Option<u32>,
    height: Option<u32>,
    fps: Rates,
    bitrate_kbps: Option<u64>,
    keyframe_interval_s: Option<f64>,
    latency_ms: Option<LatencyReport>,
    jitter_ms: Option<f64>,
    packets: Packets,
    frames: Frames,
    first_picture_ms: Option<u64>,
    dropouts: Vec<DropoutReport>,
    events: Vec<EventReport>,
    picture: Option<PictureReport>,
    clock_drift_ppm: Option<DriftReport>,
    tr_101_290: Option<std::collections::BTreeMap<&'static str, u64>>,
    figures: std::collections::BTreeMap<String, Option<f64>>,
}

/// Every figure of the table, by its word and unit.
fn all_figures(figures: &Figures) -> std::collections::BTreeMap<String, Option<f64>> {
    let key = |row: &Figure| format!("{} {}", row.word, row.unit.replace('/', "_per_").replace('%', "percent"));
    let key = |row: &Figure| key(row).trim().replace([' ', '-'], "_").replace("__", "_");
    FIGURES.iter().map(|row| (key(row), (row.value)(figures).map(|value| rounded(value, 3)))).collect()
}

/// What the decoded pictures tell; brightness, contrast, change and colour in 255ths of the way from black to white.
#[derive(Serialize)]
struct PictureReport {
    finding: Option<&'static str>,
    brightness: f64,
    contrast: f64,
    change: Option<f64>,
    usual_change: Option<f64>,
    likeness: Option<f64>,
    detail: Option<f64>,
    colour: f64,
    night_mode: bool,
}

/// The sound beside the pictures; levels in dBFS of AES17, where a sine wave of full scale has an RMS of 0.
#[derive(Serialize)]
struct SoundReport {
    state: &'static str,
    detail: Option<String>,
    coding: Option<String>,
    rate_hz: Option<u32>,
    channels: Option<u8>,
    rms_dbfs: Option<f64>,
    peak_dbfs: Option<f64>,
    channel_levels: Vec<ChannelLevel>,
    clipped_samples: u32,
    packets: Packets,
    jitter_ms: Option<f64>,
    bitrate_kbps: Option<f64>,
    offset_ms: Option<f64>,
}

#[derive(Serialize)]
struct ChannelLevel {
    rms_dbfs: f64,
    peak_dbfs: f64,
}

impl SoundReport {
    fn new(sound: &SoundReading) -> Self {
        let db = |db: f32| rounded(f64::from(db), 2);
        Self {
            state: sound.state.word(),
            detail: sound.state.text().map(str::to_owned).or_else(|| sound.remark.clone()),
            coding: sound.coding.clone(),
            rate_hz: sound.rate_hz,
            channels: sound.channels,
            rms_dbfs: sound.level().map(|level| db(level.rms)),
            peak_dbfs: sound.level().map(|level| db(level.peak)),
            channel_levels: sound
                .levels
                .iter()
                .map(|level| ChannelLevel { rms_dbfs: db(level.rms), peak_dbfs: db(level.peak) })
                .collect(),
            clipped_samples: sound.clipped,
            packets: packets(sound.packets),
            jitter_ms: sound.jitter.map(millis),
            bitrate_kbps: sound.bitrate.map(|bitrate| rounded(bitrate.kilo(), 1)),
            offset_ms: sound.offset_micros.map(|micros| rounded(micros as f64 / 1e3, 1)),
        }
    }
}

const fn packets(counts: SequenceCounts) -> Packets {
    let SequenceCounts { received, lost, reordered, duplicate, .. } = counts;
    Packets { received, lost, reordered, duplicate }
}

#[derive(Serialize)]
struct DriftReport {
    value: f64,
    error: f64,
}

impl PictureReport {
    fn new(sight: &Sight) -> Self {
        let number = |value: f32| rounded(f64::from(value), 2);
        Self {
            finding: sight.finding.map(Finding::word),
            brightness: number(sight.brightness),
            contrast: number(sight.contrast),
            change: sight.change.map(number),
            usual_change: sight.usual_change.map(number),
            likeness: sight.likeness.map(number),
            detail: sight.detail.map(number),
            colour: number(sight.colour),
            night_mode: sight.night,
        }
    }
}

#[derive(Serialize)]
struct EventReport {
    at: String,
    kind: &'static str,
    length_ms: Option<u64>,
    cause: Option<&'static str>,
    evidence: String,
    confidence: &'static str,
    running: bool,
}

#[derive(Serialize)]
struct Rates {
    declared: Option<f64>,
    sent: Option<f64>,
    arrived: Option<f64>,
}

#[derive(Serialize)]
struct LatencyReport {
    basis: &'static str,
    p50: f64,
    p95: f64,
    error: Option<f64>,
}

#[derive(Serialize)]
struct Packets {
    received: u64,
    lost: u64,
    reordered: u64,
    duplicate: u64,
}

#[derive(Serialize)]
struct Frames {
    received: u64,
    damaged: u64,
    decoded: Option<u64>,
}

#[derive(Serialize)]
struct DropoutReport {
    start: String,
    length_ms: u64,
    kind: &'static str,
    frames_missed: Option<u64>,
    cause: Option<&'static str>,
    running: bool,
}

fn rounded(value: f64, digits: i32) -> f64 {
    let scale = 10f64.powi(digits);
    (value * scale).round() / scale
}

fn millis(span: Duration) -> f64 {
    rounded(span.as_secs_f64() * 1e3, 1)
}

impl StreamReport {
    fn new(url: &str, figures: &Figures, decodes: bool) -> Self {
        let rate = |rate: Option<f64>| rate.map(|rate| rounded(rate, 2));
        let running = figures.dropout_now.iter().map(|dropout| (dropout, true));
        let dropouts = figures.dropouts.iter().map(|dropout| (dropout, false)).chain(running);
        Self {
            url: url.to_owned(),
            verdict: figures.verdict.word(),
            cause: figures.cause.map(lattice_core::Cause::word),
            seen: figures.seen,
            detail: figures.text.clone(),
            transport: figures.transport.map(lattice_core::Transport::word),
            codec: figures.codec.clone(),
            still_every_s: figures.still.map(|every| rounded(every.as_secs_f64(), 3)),
            audio: figures.audio.clone(),
            sound: SoundReport::new(&figures.sound),
            profile: figures.profile,
            width: figures.size.map(|(width, _)| width),
            height: figures.size.map(|(_, height)| height),
            fps: Rates {
                declared: rate(figures.declared.map(FrameRate::per_second)),
                sent: rate(figures.sent),
                arrived: rate(figures.arrived),
            },
            bitrate_kbps: figures.bitrate_10s.map(|bitrate| bitrate.kilo().round() as u64),
            keyframe_interval_s: figures.keyframe_interval.map(|span| rounded(span.as_secs_f64(), 3)),
            latency_ms: figures.latency.map(|latency| {
                let Spread { p50, p95 } = latency.total;
                LatencyReport {
                    basis: latency.basis.word(),
                    p50: millis(p50),
                    p95: millis(p95),
                    error: latency.error.map(millis),
                }
            }),
            jitter_ms: figures.jitter.map(millis),
            packets: packets(figures.packets),
            frames: Frames {
                received: figures.frames.received,
                damaged: figures.frames.damaged,
                decoded: decodes.then_some(figures.frames.decoded),
            },
            first_picture_ms: figures.first_picture.map(|span| span.as_millis() as u64),
            dropouts: dropouts.map(|(dropout, running)| dropout_report(dropout, running)).collect(),
            events: figures.events.iter().map(|event| event_report(event, figures.at)).collect(),
            picture: figures.sight.as_ref().map(PictureReport::new),
            clock_drift_ppm: figures
                .clock_drift
                .map(|drift| DriftReport { value: rounded(drift.per_million, 2), error: rounded(drift.error, 2) }),
            tr_101_290: figures
                .transport_stream
                .map(|ts| Check::ALL.into_iter().map(|check| (check.word(), ts.checks.of(check))).collect()),
            figures: all_figures(figures),
        }
    }
}

/// A moment by RFC 3339, to the millisecond.
fn moment(at: Mono) -> String {
    let wall = clock::pair().wall_at(at);
    Timestamp::from_microsecond(wall.as_unix_micros() / 1000 * 1000).map_or_else(|_| String::new(), |at| at.to_string())
}

fn event_report(event: &Event, now: Mono) -> EventReport {
    let is_change = event.kind.is_change();
    EventReport {
        at: moment(event.start),
        kind: event.kind.word(),
        length_ms: (!is_change).then(|| event.length(now).as_millis() as u64),
        cause: event.cause.map(lattice_core::Cause::word),
        evidence: event.evidence.clone(),
        confidence: event.confidence.word(),
        running: event.end.is_none(),
    }
}

fn dropout_report(dropout: &Dropout, running: bool) -> DropoutReport {
    DropoutReport {
        start: moment(dropout.start),
        length_ms: dropout.length.as_millis() as u64,
        kind: dropout.kind.word(),
        frames_missed: dropout.frames_missed,
        cause: dropout.cause.map(lattice_core::Cause::word),
        running,
    }
}

/// A source to measure, and what it is called in the report.
pub struct Subject {
    /// Its name.
    pub name: String,
    /// Where it comes from.
    pub origin: Origin,
}

/// How to measure.
#[derive(Debug, Clone)]
pub struct How {
    /// How long.
    pub span: Duration,
    /// One JSON object rather than a table.
    pub json: bool,
    /// With decoding.
    pub decode: Option<Decode>,
    /// How packets are asked for.
    pub transport: TransportChoice,
    /// The key of encrypted streams.
    pub key: Option<MasterKey>,
    /// Whether their sound is asked for.
    pub sound: bool,
}

/// Measures the sources of a command line.
pub fn run(options: &MeasureOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("measure");
    let subjects = options
        .urls
        .iter()
        .map(|origin| Subject { name: origin.to_string(), origin: origin.clone().allowing_readable(options.password_readable) })
        .collect();
    let key = lattice_engine::kept::key_from(options.key_env.as_deref())?;
    let how = How {
        span: options.span,
        json: options.json,
        decode: (!options.no_decode).then(|| options.decode.into()),
        transport: options.transport.into(),
        key,
        sound: !options.no_sound,
    };
    measure(subjects, &how)
}

/// Measures, prints, and answers with the exit status.
#[allow(clippy::needless_pass_by_value, reason = "its sources are measured and gone")]
pub fn measure(subjects: Vec<Subject>, how: &How) -> anyhow::Result<ExitCode> {
    let runtime = Runtime::start()?;
    let pool = how.decode.as_ref().map(pool);
    let feeds: Vec<Feed> = subjects
        .iter()
        .map(|subject| {
            let config = SourceConfig {
                key: how.key.clone(),
                sound: how.sound,
                ..SourceConfig::from_origin(subject.origin.clone(), how.transport)
            };
            let mut feed = Feed::open(runtime.handle(), pool.as_ref(), config, Pictures::default());
            if how.decode.is_some() {
                feed.want(Some(SMALL_TILE));
            }
            feed
        })
        .collect();
    watch(&feeds, how);
    feeds.iter().for_each(Feed::close);
    wait_until_closed(&feeds, Duration::from_millis(700));
    let figures: Vec<Arc<Figures>> = feeds.iter().map(Feed::figures).collect();
    let report = Report {
        streams: subjects
            .iter()
            .zip(&figures)
            .map(|(subject, figures)| StreamReport::new(&subject.name, figures, how.decode.is_some()))
            .collect(),
    };
    let mut out = std::io::stdout().lock();
    if how.json {
        writeln!(out, "{}", serde_json::to_string(&report)?)?;
    } else {
        write!(out, "{}", table(&report))?;
    }
    let all_gave_one = figures.iter().all(|figures| figures.first_picture.is_some());
    Ok(if all_gave_one { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// Waits, with a line of progress on standard error where a person is looking. Ends on a signal
/// too: what was measured by then is printed.
fn watch(feeds: &[Feed], how: &How) {
    let started = Instant::now();
    let stop = Arc::new(AtomicBool::new(false));
    let signals = [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM];
    if let Ok(mut signals) = signal_hook::iterator::Signals::new(signals) {
        let (stop, waiting) = (stop.clone(), std::thread::current());
        std::thread::spawn(move || {
            signals.forever().next();
            stop.store(true, Ordering::Relaxed);
            waiting.unpark();
        });
    }
    let progress = !how.json && std::io::stderr().is_terminal();
    let plain = !how.json && !progress;
    let mut said = 0;
    while started.elapsed() < how.span && !stop.load(Ordering::Relaxed) {
        let rest = how.span.saturating_sub(started.elapsed());
        std::thread::park_timeout(if how.json { rest } else { rest.min(Duration::from_secs(1)) });
        if how.json {
            continue;
        }
        let with_picture = feeds.iter().filter(|feed| feed.figures().first_picture.is_some()).count();
        let line = format!(
            "measuring {} of {} s, {with_picture} of {} with a picture",
            started.elapsed().as_secs(),
            how.span.as_secs_f64().ceil(),
            feeds.len()
        );
        if progress {
            eprint!("\r{line} ");
        } else if plain && started.elapsed().as_secs() / 5 > said {
            said = started.elapsed().as_secs() / 5;
            eprintln!("{line}");
        }
    }
    if progress {
        eprintln!();
    }
}

/// Rows of cells as text in columns.
pub fn aligned(rows: &[Vec<String>]) -> String {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |column: usize| rows.iter().filter_map(|row| row.get(column)).map(|cell| cell.width()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..columns).map(widest).collect();
    let line = |row: &Vec<String>| {
        let pad = |(cell, width): (&String, &usize)| format!("{cell}{}", " ".repeat(width.saturating_sub(cell.width())));
        row.iter().zip(&widths).map(pad).collect::<Vec<_>>().join("  ").trim_end().to_owned() + "\n"
    };
    rows.iter().map(line).collect()
}

fn table(report: &Report) -> String {
    use std::fmt::Write as _;
    let header = [
        "verdict",
        "transport",
        "codec",
        "size",
        "declared",
        "sent",
        "arrived",
        "kbit/s",
        "latency ms",
        "sound",
        "lost",
        "dropouts",
        "url",
    ];
    let text = |value: Option<String>| value.unwrap_or_else(|| "-".into());
    let rate = |value: Option<f64>| text(value.map(|value| format!("{value:.1}")));
    let mut rows: Vec<Vec<String>> = vec![header.iter().map(ToString::to_string).collect()];
    for stream in &report.streams {
        let latency = stream.latency_ms.as_ref().map(|l| format!("{:.0}/{:.0} {}", l.p50, l.p95, l.basis));
        rows.push(vec![
            stream.verdict.into(),
            text(stream.transport.map(str::to_owned)),
            text(stream.codec.clone()),
            text(stream.width.zip(stream.height).map(|(w, h)| format!("{w}x{h}"))),
            rate(stream.fps.declared),
            rate(stream.fps.sent),
            rate(stream.fps.arrived),
            text(stream.bitrate_kbps.map(|kbps| kbps.to_string())),
            text(latency),
            stream.sound.rms_dbfs.map_or_else(|| stream.sound.state.to_owned(), |rms| format!("{rms:.1} dBFS")),
            stream.packets.lost.to_string(),
            stream.dropouts.len().to_string(),
            stream.url.clone(),
        ]);
    }
    let mut out = aligned(&rows);
    for stream in &report.streams {
        if let Some(cause) = lattice_core::Cause::ALL.iter().find(|cause| Some(cause.word()) == stream.cause) {
            let detail = stream.detail.as_deref().map_or(String::new(), |detail| format!(" ({detail})"));
            let (phrase, advice) = (phrase_of(*cause, stream.seen), advice_of(*cause, stream.seen));
            let _ = writeln!(out, "{}: {phrase}{detail}. {advice}", stream.url);
        }
    }
    out
}
