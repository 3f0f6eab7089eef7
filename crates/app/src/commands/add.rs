//! `add`: a camera into the site file.

use crate::cli::{AddOptions, SignInOptions};
use lattice_core::find::PathPattern;
use lattice_core::target::{Newcomer, Target, names_file, understand, understand_listing};
use lattice_core::{Cause, Credentials, SignInPolicy};
use lattice_engine::jobs::{exposure_of, put, read_list, take_in, unreached};
use lattice_engine::kept::{Kept, password_from, path_patterns};
use lattice_net::{Background, Trust};
use lattice_store::{Camera, PasswordSource, Site};
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

/// Everything that is asked of a device before it is added.
const INTAKE_WITHIN: Duration = Duration::from_secs(15);

/// The sign-in of a command and where its password comes from.
pub fn sign_in(options: &SignInOptions) -> anyhow::Result<Option<(Credentials, PasswordSource)>> {
    let (Some(user), Some(variable)) = (&options.sign_in, &options.password_env) else { return Ok(None) };
    let password = password_from(variable).map_err(anyhow::Error::msg)?;
    let policy = SignInPolicy::default().allowing_readable(options.password_readable);
    Ok(Some((Credentials::new(user, password).under(policy), PasswordSource::Environment(variable.clone()))))
}

/// Who is to be added: by address, by a session description, or by a list in a file.
fn newcomers(options: &AddOptions) -> anyhow::Result<Vec<Newcomer>> {
    let (name, group, as_typed) = (options.name.clone(), options.group.clone(), options.anyway);
    let own = |target| Newcomer { target, name: name.clone(), group: group.clone(), as_typed };
    if let Some(path) = &options.sdp {
        return Ok(vec![own(super::listen::described(path)?)]);
    }
    let text = options.target.as_deref().unwrap_or_default();
    if !names_file(text) {
        let reading = understand(text)?;
        reading.slips.iter().for_each(|slip| eprintln!("{slip}"));
        return Ok(vec![own(reading.target)]);
    }
    let listing = understand_listing(&read_list(text)?);
    if let Some(columns) = &listing.columns {
        eprintln!("columns read as: {columns}");
    }
    let rows = listing.rows;
    anyhow::ensure!(!rows.is_empty(), "{text} names no camera");
    anyhow::ensure!(
        options.name.is_none() || rows.len() == 1,
        "one name cannot be given to {} cameras: leave --name out",
        rows.len()
    );
    let mut all = Vec::new();
    for row in rows {
        match &row.reading {
            Ok(reading) => reading.slips.iter().for_each(|slip| eprintln!("line {}: {slip}", row.line)),
            Err(refusal) => eprintln!("line {}: {refusal}", row.line),
        }
        all.extend(row.newcomer().map(|one| Newcomer {
            name: options.name.clone().or(one.name),
            group: options.group.clone().or(one.group),
            as_typed,
            ..one
        }));
    }
    anyhow::ensure!(!all.is_empty(), "nothing in {text} is understood");
    Ok(all)
}

/// Adds, and says what came of it.
pub fn run(options: &AddOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("add");
    let mut kept = Kept::open(site)?;
    let given = sign_in(&options.sign_in)?;
    let newcomers = newcomers(options)?;
    let runtime = Background::new(tokio::runtime::Builder::new_current_thread().enable_all().build()?);
    let patterns = path_patterns()?;
    let (mut all, before) = (true, kept.file.site().cameras.len());
    for newcomer in newcomers {
        let (newcomer, source) = if let Some((credentials, from)) = &given {
            (newcomer.with_credentials(Some(credentials.clone())), from.clone())
        } else {
            let target = newcomer.target.clone().allowing_readable(options.sign_in.password_readable);
            (Newcomer { target, ..newcomer }, PasswordSource::Kept)
        };
        all &= add_one(&mut kept, &runtime, &patterns, &newcomer, &source, &options.channels)?;
    }
    if kept.file.site().cameras.len() > before {
        // What was added is added, also where nobody reads on.
        let _ = writeln!(std::io::stdout(), "in {}", kept.file.path().display());
    }
    Ok(if all { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// Adds one; false when it was not added, which has been said.
fn add_one(
    kept: &mut Kept,
    runtime: &tokio::runtime::Runtime,
    patterns: &[PathPattern],
    newcomer: &Newcomer,
    source: &PasswordSource,
    channels: &[u32],
) -> anyhow::Result<bool> {
    let target = &newcomer.target;
    eprintln!("{}", target.intent());
    let mut again = None;
    let mut newcomer = newcomer.clone();
    if let Some(camera) = already(kept.file.site(), target) {
        // One that was added while nothing was known of it is asked once more.
        let Some(unknown) = kept.file.site().camera(&camera).filter(|camera| camera.streams.is_empty()).cloned() else {
            eprintln!("amber-lattice: {camera:?} has this address already; nothing was added");
            return Ok(false);
        };
        newcomer.name = newcomer.name.or(Some(unknown.name));
        newcomer.group = newcomer.group.or(unknown.group);
        again = Some(camera);
    }
    let taken = runtime.block_on(async { tokio::time::timeout(INTAKE_WITHIN, take_in(target, patterns, Trust::Verify)).await });
    let mut intake = match taken {
        Ok(Ok(intake)) => intake,
        Ok(Err(trouble)) if newcomer.as_typed || trouble.may_pass() => unreached(target, &trouble.text),
        Ok(Err(trouble)) => {
            let then = match (trouble.cause, target.credentials()) {
                (Cause::SignIn, Some(_)) => "It is not tried again by itself, so that no account gets locked.",
                (Cause::SignIn, None) => "Give --sign-in and --password-env.",
                _ => "--anyway adds it all the same.",
            };
            eprintln!("amber-lattice: {}; nothing was added. {then}", trouble.text);
            return Ok(false);
        }
        Err(_) => unreached(target, "it did not answer in 15 s"),
    };
    for note in &intake.notes {
        eprintln!("{note}");
    }
    if let Some(exposed) = exposure_of(target.credentials(), intake.exposed) {
        eprintln!("exposed: {}", exposed.reason());
    }
    if !channels.is_empty() {
        intake.keep_channels(|channel| channels.contains(&channel));
        anyhow::ensure!(intake.cameras.len() > 1, "it has none of these channels; nothing was added");
    }
    if let Some(again) = again {
        kept.file.change(|editor| editor.remove_camera(&again))?;
    }
    for name in put(kept, intake, &newcomer, source)? {
        let streams = kept.file.site().camera(&name).map_or(0, |camera| camera.streams.len());
        let _ = writeln!(std::io::stdout(), "added {name:?} with {streams} stream{}", if streams == 1 { "" } else { "s" });
    }
    Ok(true)
}

/// The camera that has this very stream or address already.
fn already(site: &Site, target: &Target) -> Option<String> {
    let bare = target.clone().with_credentials(None).to_string();
    let same = |camera: &&Camera| match target {
        // A channel that was added by itself does not stand in the way of its recorder.
        Target::Device { host, .. } => camera.address.as_deref() == Some(host.as_str()) && camera.channel.is_none(),
        _ => camera.streams.iter().any(|stream| stream.target.to_string() == bare),
    };
    site.cameras.iter().find(same).map(|camera| camera.name.clone())
}
