//! `check`: the reach check of one or many targets.

use crate::cli::CheckOptions;
use lattice_core::check::Ladder;
use lattice_core::names::{Meant, meant};
use lattice_core::target::understand;
use lattice_core::{Cause, TransportChoice};
use lattice_engine::jobs::{Checker, Subject, check, remembered, sighting_key};
use lattice_engine::kept::{Kept, key_from, sightings};
use lattice_net::Trust;
use lattice_store::{Sighting, Sightings};
use serde::Serialize;
use std::io::{IsTerminal as _, Write as _};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

/// Targets that are checked at the same time.
const AT_ONCE: usize = 16;
#[derive(Serialize)]
struct Report {
    targets: Vec<TargetReport>,
}

#[derive(Serialize)]
struct TargetReport {
    target: String,
    ok: bool,
    steps: Vec<StepReport>,
    cause: Option<&'static str>,
    advice: Option<String>,
}

#[derive(Serialize)]
struct StepReport {
    step: &'static str,
    state: &'static str,
    ms: Option<f64>,
    saw: String,
}

fn millis(span: Duration) -> f64 {
    (span.as_secs_f64() * 1e4).round() / 10.0
}

fn target_report(shown: &str, ladder: &Ladder) -> TargetReport {
    let steps = ladder.steps().iter().map(|step| StepReport {
        step: step.step.word(),
        state: step.state.word(),
        ms: step.took.map(millis),
        saw: step.saw.clone(),
    });
    TargetReport {
        target: shown.to_owned(),
        ok: !ladder.failed(),
        steps: steps.collect(),
        cause: ladder.cause().map(Cause::word),
        advice: ladder.advice().map(str::to_owned),
    }
}

/// The subjects of the command line: names of the site's cameras, and addresses in any form.
fn subjects(options: &CheckOptions, kept: &Kept, sightings: &Sightings) -> anyhow::Result<Vec<Subject>> {
    let given = super::add::sign_in(&options.sign_in)?.map(|(credentials, _)| credentials);
    let key = key_from(options.key_env.as_deref())?;
    let mut out: Vec<Subject> = Vec::new();
    let own_transport = options.transport != crate::cli::TransportArg::Auto;
    let names: Vec<&str> =
        if options.all { kept.file.site().cameras.iter().map(|camera| camera.name.as_str()).collect() } else { Vec::new() };
    for text in names.into_iter().chain(options.targets.iter().map(String::as_str)) {
        let site = kept.file.site();
        let is_address = text.contains([':', '/', '.']);
        let camera = match meant(text, site.cameras.iter().map(|camera| camera.name.as_str())) {
            Meant::One(name) => site.camera(name),
            Meant::Several(names) => anyhow::bail!("{text:?} may be {}: write more of it", names.join(", ")),
            Meant::Nothing if !is_address && !site.cameras.is_empty() => {
                anyhow::bail!("no camera {text:?} in the site, and no address: `amber-lattice roster` lists the cameras")
            }
            Meant::Nothing => None,
        };
        if let Some(camera) = camera {
            let of = |stream, shown| Subject::of_camera(kept, sightings, camera, stream, shown).map_err(anyhow::Error::msg);
            let subjects: Vec<Option<Subject>> = if camera.streams.is_empty() {
                vec![of(None, camera.name.clone())?]
            } else {
                let shown = |stream: &lattice_store::Stream| format!("{} ({})", camera.name, stream.role.word());
                camera.streams.iter().map(|stream| of(Some(stream), shown(stream))).collect::<anyhow::Result<_>>()?
            };
            out.extend(subjects.into_iter().flatten().map(|subject| {
                let target = match &given {
                    Some(given) => subject.target.clone().with_credentials(Some(given.clone())),
                    None => subject.target.clone(),
                };
                let transport = if own_transport { options.transport.into() } else { subject.transport };
                Subject { target, transport, key: key.clone().or(subject.key.clone()), ..subject }
            }));
            continue;
        }
        let reading = understand(text).map_err(|error| anyhow::anyhow!("{error}"))?;
        for slip in &reading.slips {
            eprintln!("{slip}");
        }
        let target = match &given {
            Some(given) => reading.target.with_credentials(Some(given.clone())),
            None => reading.target.allowing_readable(options.sign_in.password_readable),
        };
        let seen = remembered(kept, sightings, &target);
        let (shown, transport): (String, TransportChoice) = (target.to_string(), options.transport.into());
        out.push(Subject { shown, target, transport, trust: Trust::Verify, key: key.clone(), seen });
    }
    anyhow::ensure!(!out.is_empty(), "the site has no camera to check");
    Ok(out)
}

/// Checks, prints, and answers with the exit status.
pub fn run(options: &CheckOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("check");
    let kept = Kept::open(site)?;
    let mut sightings = sightings()?;
    let subjects = subjects(options, &kept, &sightings)?;
    let checker = Arc::new(Checker::new(&options.decode.into())?);
    let _stderr = options.json.then(crate::logging::quiet_stderr);
    let live = !options.json && std::io::stdout().is_terminal() && subjects.len() == 1;
    let handle = checker.handle().clone();
    let (done, results) = std::sync::mpsc::channel();
    let (steps, live_steps) = tokio::sync::watch::channel(Ladder::default());
    let steps = Arc::new(steps);
    let limit = Arc::new(tokio::sync::Semaphore::new(AT_ONCE));
    for (index, subject) in subjects.iter().cloned().enumerate() {
        let (checker, done, limit, steps) = (checker.clone(), done.clone(), limit.clone(), steps.clone());
        handle.spawn(async move {
            let _permit = limit.acquire().await;
            let checked = check(&checker, &subject, |ladder| drop(steps.send_replace(ladder.clone()))).await;
            let _ = done.send((index, checked));
        });
    }
    drop(done);
    let mut printed = 0;
    let mut ladders: Vec<Option<(Ladder, Sighting)>> = vec![None; subjects.len()];
    loop {
        match results.recv_timeout(Duration::from_millis(100)) {
            Ok((index, checked)) => {
                if let Some(slot) = ladders.get_mut(index) {
                    *slot = Some(checked);
                }
            }
            Err(std::sync::mpsc::RecvTimeoutError::Disconnected) => break,
            Err(std::sync::mpsc::RecvTimeoutError::Timeout) => {}
        }
        if live {
            for step in live_steps.borrow().steps().iter().skip(printed) {
                writeln!(std::io::stdout(), "{}", step_line(step))?;
                printed += 1;
            }
        }
    }
    let mut out = std::io::stdout().lock();
    let mut report = Report { targets: Vec::new() };
    for (subject, checked) in subjects.iter().zip(ladders) {
        let Some((ladder, sighting)) = checked else { continue };
        sightings.note(&sighting_key(&subject.target), sighting);
        if !options.json {
            print_ladder(&mut out, subject, &ladder, if live { printed } else { 0 }, subjects.len() > 1)?;
        }
        report.targets.push(target_report(&subject.shown, &ladder));
    }
    if options.json {
        writeln!(out, "{}", serde_json::to_string(&report)?)?;
    } else if report.targets.len() > 1 {
        writeln!(out, "{}", roll_up(&report))?;
    }
    if let Err(error) = kept.strengths.save() {
        tracing::warn!(%error, "what was learned of sign-ins could not be kept");
    }
    if let Err(error) = sightings.save() {
        tracing::warn!(%error, "what was seen could not be kept");
    }
    Ok(if report.targets.iter().all(|target| target.ok) { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// One line about many targets: how many are reached, and which are not, and why.
fn roll_up(report: &Report) -> String {
    let failed: Vec<String> = report
        .targets
        .iter()
        .filter(|target| !target.ok)
        .map(|target| format!("{} ({})", target.target, target.cause.unwrap_or("unknown")))
        .collect();
    let reached = report.targets.len() - failed.len();
    let rest = if failed.is_empty() { String::new() } else { format!("; not reached: {}", failed.join(", ")) };
    format!("{reached} of {} reached{rest}", report.targets.len())
}

fn step_line(step: &lattice_core::check::StepReport) -> String {
    let took = step.took.map_or_else(|| "-".to_owned(), |took| format!("{:.1} ms", millis(took)));
    format!("  {:<8}{:<14}{took:>11}  {}", step.state.word(), step.step.word(), step.saw).trim_end().to_owned()
}

fn print_ladder(
    out: &mut impl std::io::Write,
    subject: &Subject,
    ladder: &Ladder,
    printed: usize,
    name: bool,
) -> std::io::Result<()> {
    if name || printed == 0 {
        writeln!(out, "{}", subject.shown)?;
    }
    for step in ladder.steps().iter().skip(printed) {
        writeln!(out, "{}", step_line(step))?;
    }
    match (ladder.cause(), ladder.advice()) {
        (Some(cause), Some(advice)) => {
            writeln!(out, "{}: {advice}", if ladder.failed() { cause.to_string() } else { format!("note, {cause}") })
        }
        _ => writeln!(out, "reached"),
    }
}
