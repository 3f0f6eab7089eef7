//! `add`: a camera into the site file.

use crate::cli::{AddOptions, SignInOptions};
use crate::intake::{Intake, exposure_of, take_in};
use crate::kept::{Kept, password_from, path_patterns};
use lattice_core::target::{Target, understand};
use lattice_core::{Cause, Credentials};
use lattice_store::{Camera, PasswordSource, Role, Site, Stream};
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;

/// Everything that is asked of a device before it is added.
const INTAKE_WITHIN: Duration = Duration::from_secs(15);

/// The sign-in of a command and where its password comes from.
pub fn sign_in(options: &SignInOptions) -> anyhow::Result<Option<(Credentials, PasswordSource)>> {
    let (Some(user), Some(variable)) = (&options.sign_in, &options.password_env) else { return Ok(None) };
    let password = password_from(variable).map_err(anyhow::Error::msg)?;
    Ok(Some((Credentials { user: user.clone(), password }, PasswordSource::Environment(variable.clone()))))
}

/// Adds, and says what came of it.
pub fn run(options: &AddOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("add");
    let mut kept = Kept::open(site)?;
    let reading = understand(&options.target)?;
    for slip in &reading.slips {
        eprintln!("{slip}");
    }
    let given = sign_in(&options.sign_in)?;
    let (mut target, mut source) = (reading.target, PasswordSource::Kept);
    if let Some((credentials, from)) = given {
        (target, source) = (target.with_credentials(Some(credentials)), from);
    }
    eprintln!("{}", target.intent());
    if let Some(camera) = already(kept.file.site(), &target) {
        eprintln!("amber-lattice: {camera:?} has this address already; nothing was added");
        return Ok(ExitCode::from(1));
    }
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let patterns = path_patterns()?;
    let taken = runtime.block_on(async { tokio::time::timeout(INTAKE_WITHIN, take_in(&target, &patterns)).await });
    let intake = match taken {
        Ok(Ok(intake)) => intake,
        Ok(Err(trouble)) if trouble.cause == Cause::SignIn && target.credentials().is_some() => {
            eprintln!(
                "amber-lattice: {}; nothing was added. It is not tried again by itself, so that no account gets locked.",
                trouble.text
            );
            return Ok(ExitCode::from(1));
        }
        Ok(Err(trouble)) => unreached(&target, &trouble.text),
        Err(_) => unreached(&target, "it did not answer in 15 s"),
    };
    for note in &intake.notes {
        eprintln!("{note}");
    }
    if let Some(exposed) = exposure_of(target.credentials(), intake.exposed) {
        eprintln!("exposed: {}", exposed.reason());
    }
    let names = put(&mut kept, intake, &target, &source, options.name.as_deref(), options.group.as_deref())?;
    for name in &names {
        let camera = kept.file.site().camera(name);
        let streams = camera.map_or(0, |camera| camera.streams.len());
        println!("added {name:?} with {streams} stream{}", if streams == 1 { "" } else { "s" });
    }
    println!("in {}", kept.file.path().display());
    Ok(ExitCode::SUCCESS)
}

/// A target that could not be asked is added as it was typed: it may be switched on tomorrow.
pub fn unreached(target: &Target, why: &str) -> Intake {
    let camera = match target {
        Target::Device { host, .. } => Camera { address: Some(host.clone()), ..Camera::default() },
        Target::Url(url) => {
            let stream = Stream { role: Role::Main, target: target.clone().with_credentials(None), interval: None };
            Camera { address: Some(url.host().to_owned()), streams: vec![stream], ..Camera::default() }
        }
        Target::Listen { .. } => Camera::default(),
    };
    Intake {
        cameras: vec![camera],
        notes: vec![format!("{why}: it is added as it was typed, and its streams are asked for later")],
        ..Intake::default()
    }
}

/// The camera that has this very stream or address already.
fn already(site: &Site, target: &Target) -> Option<String> {
    let bare = target.clone().with_credentials(None).to_string();
    let same = |camera: &&Camera| match target {
        Target::Device { host, .. } => camera.address.as_deref() == Some(host.as_str()),
        _ => camera.streams.iter().any(|stream| stream.target.to_string() == bare),
    };
    site.cameras.iter().find(same).map(|camera| camera.name.clone())
}

/// Puts what was taken in into the site; gives the names.
pub fn put(
    kept: &mut Kept,
    intake: Intake,
    target: &Target,
    source: &PasswordSource,
    name: Option<&str>,
    group: Option<&str>,
) -> anyhow::Result<Vec<String>> {
    let sign_in = match target.credentials() {
        Some(credentials) => Some(kept.keep_sign_in(credentials, source)?),
        None => None,
    };
    let recorder = intake.cameras.len() > 1;
    let mut site = kept.file.site().clone();
    let mut added: Vec<Camera> = Vec::new();
    for camera in intake.cameras {
        let own = camera.device_name.clone().or_else(|| camera.model.clone()).unwrap_or_else(|| target_name(target));
        let wanted = match (name, added.first()) {
            (Some(name), None) => name.to_owned(),
            (Some(_), Some(first)) if camera.device_name.is_none() => format!("{} {}", first.name, camera.channel.unwrap_or(1)),
            _ => own,
        };
        let head = added.first().map(|first| first.name.clone()).filter(|_| recorder);
        let camera = Camera {
            name: site.free_name(&wanted),
            group: group.map(str::to_owned),
            sign_in: sign_in.clone(),
            recorder: head,
            ..camera
        };
        site.cameras.push(camera.clone());
        added.push(camera);
    }
    kept.file.change(|editor| added.iter().try_for_each(|camera| editor.put_camera(camera)))?;
    Ok(added.into_iter().map(|camera| camera.name).collect())
}

fn target_name(target: &Target) -> String {
    match target {
        Target::Device { host, .. } => host.clone(),
        Target::Url(url) => format!("{}{}", url.host(), url.path().split('?').next().unwrap_or("")),
        Target::Listen { port, .. } => format!("Port {port}"),
    }
}
