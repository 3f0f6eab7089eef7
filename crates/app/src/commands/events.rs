//! `events`: what a camera's device reports, for scripts.

use clap::Args;
use jiff::Timestamp;
use lattice_core::onvif::Report;
use lattice_engine::kept::Kept;
use lattice_net::{ReportNews, clock, follow_reports};
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;
use tokio::sync::mpsc;

/// What is there already is told within this time of the beginning.
const FIRST_NEWS: Duration = Duration::from_millis(1500);
/// A device that does not answer by then does not.
const WITHIN: Duration = Duration::from_secs(15);

/// The options.
#[derive(Debug, Args)]
pub struct EventsOptions {
    /// The camera, by its name or a beginning that no other has
    pub camera: String,
    /// Go on, and print what is reported when it comes, until interrupted
    #[arg(long)]
    pub follow: bool,
    /// End after this time, like 30s
    #[arg(long = "for", value_name = "TIME", value_parser = crate::cli::span)]
    pub span: Option<Duration>,
    /// Print one JSON object a line
    #[arg(long)]
    pub json: bool,
}

#[derive(Serialize)]
struct Line<'a> {
    camera: &'a str,
    /// When it came, by this machine's clock.
    at: String,
    /// When it happened, by the device's clock.
    device_time: Option<String>,
    kind: &'static str,
    active: Option<bool>,
    /// It was so when it was asked first.
    from_before: bool,
    topic: &'a str,
    source: &'a str,
    data: BTreeMap<&'a str, &'a str>,
}

fn moment(micros: i64) -> String {
    Timestamp::from_microsecond(micros / 1000 * 1000).map_or_else(|_| String::new(), |at| at.to_string())
}

fn print(camera: &str, report: &Report, json: bool) -> std::io::Result<()> {
    let line = Line {
        camera,
        at: moment(clock::wall().as_unix_micros()),
        device_time: report.at.map(|at| moment(at.as_unix_micros())),
        kind: report.kind.word(),
        active: report.active,
        from_before: report.operation == lattice_core::onvif::Operation::Initialized,
        topic: &report.topic,
        source: &report.source,
        data: report.data.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect(),
    };
    let mut out = std::io::stdout().lock();
    if json {
        return writeln!(out, "{}", serde_json::to_string(&line).unwrap_or_default());
    }
    let state = match report.active {
        Some(true) => "begins",
        Some(false) => "ends",
        None => "",
    };
    let before = if line.from_before { " (since before)" } else { "" };
    writeln!(out, "{}  {:<16} {state:<7} {}  {}{before}", line.at, line.kind, report.topic, report.source)
}

/// Asks, and prints what comes.
pub fn run(options: &EventsOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("events");
    let kept = Kept::open(site)?;
    let camera = super::camera_named(&kept, &options.camera)?;
    let name = camera.name.clone();
    let device = kept.device(camera).map_err(anyhow::Error::msg)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(async {
        let (sender, mut news) = mpsc::channel(16);
        let task = tokio::spawn(follow_reports(device, sender));
        let code = take(&name, &mut news, options).await;
        drop(news);
        // It takes leave of the device.
        let _ = tokio::time::timeout(Duration::from_secs(2), task).await;
        code
    })
}

async fn take(name: &str, news: &mut mpsc::Receiver<ReportNews>, options: &EventsOptions) -> anyhow::Result<ExitCode> {
    let mut interrupted = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::interrupt())?;
    let mut ended = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())?;
    let begun = tokio::time::Instant::now();
    let mut until =
        if options.follow { options.span.map(|span| begun + span) } else { Some(begun + options.span.unwrap_or(WITHIN)) };
    let (mut heard, mut told, mut lost) = (false, false, None);
    loop {
        let next = async {
            match until {
                Some(until) => tokio::time::timeout_at(until, news.recv()).await.ok(),
                None => Some(news.recv().await),
            }
        };
        let one = tokio::select! {
            one = next => one,
            _ = interrupted.recv() => break,
            _ = ended.recv() => break,
        };
        match one {
            None | Some(None) => break,
            Some(Some(ReportNews::Subscribed)) => {
                heard = true;
                if options.follow && !options.json {
                    eprintln!("{name}: listening to what its device reports");
                }
                if !options.follow && options.span.is_none() {
                    until = Some(tokio::time::Instant::now() + FIRST_NEWS);
                }
            }
            Some(Some(ReportNews::Reports(reports))) => {
                told = true;
                for report in &reports {
                    // Whoever read along has gone.
                    if print(name, report, options.json).is_err() {
                        return Ok(ExitCode::SUCCESS);
                    }
                }
            }
            Some(Some(ReportNews::Lost(why))) => {
                // Said once, not at every try.
                if lost.as_ref() != Some(&why) {
                    eprintln!("{name}: {why}; tried again");
                }
                lost = Some(why);
            }
            Some(Some(ReportNews::Never(why))) => anyhow::bail!("{name}: {why}"),
        }
    }
    if heard && !told && !options.json {
        eprintln!("{name}: its device reported nothing");
    }
    Ok(if heard { ExitCode::SUCCESS } else { ExitCode::from(1) })
}
