//! `serve`: the engine without a terminal. It receives, measures, judges and keeps the record of the site, until it is told
//! to end.

use crate::cli::ServeOptions;
use lattice_engine::kept::Kept;
use lattice_engine::{Config, Engine, OutwardOptions, places};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

/// Runs until SIGTERM, SIGINT or SIGHUP.
///
/// # Errors
/// When the site cannot be read or has no camera, or what is to be served or written cannot be.
pub fn run(options: &ServeOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("serve");
    let mut signals = signal_hook::iterator::Signals::new([SIGTERM, SIGINT, SIGHUP])?;
    let kept = Kept::open_at_once(site)?;
    let file = kept.file.path().to_owned();
    let cameras = kept.file.site().cameras.iter().filter(|camera| !camera.disabled).count();
    anyhow::ensure!(
        cameras > 0,
        "{} has no camera to receive: add one with `amber-lattice add`, or name another site with --site",
        file.display()
    );
    let _quiet = crate::logging::quiet_stderr();
    let engine = Engine::start(Config {
        record: Some(places::ledger(&file)?),
        site: Some(kept),
        transport: options.transport.into(),
        decode: options.decode.into(),
        who: "serve".into(),
        outward: OutwardOptions { metrics: options.metrics, ledger_lines: options.ledger_lines.clone() },
        ..Config::default()
    })?;
    let mut out = std::io::stdout();
    let mut say = |text: String| writeln!(out, "{text}").and_then(|()| out.flush());
    let count = if cameras == 1 { "1 camera".to_owned() } else { format!("{cameras} cameras") };
    // Whoever started it may not read it.
    let _ = say(format!("serving {count} of {}", file.display()));
    if let Some(remark) = &engine.beginning().remark {
        let _ = say(remark.clone());
    }
    if let Some(why) = &engine.snapshot().record.not_kept {
        let _ = say(why.clone());
    }
    let signal = signals.forever().next();
    tracing::info!(signal, "told to end");
    drop(engine);
    let _ = say("ended".into());
    Ok(ExitCode::SUCCESS)
}
