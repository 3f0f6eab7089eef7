//! What was taken in, put into the site.

use crate::jobs::Intake;
use crate::kept::Kept;
use anyhow::Context as _;
use lattice_core::target::{Newcomer, Target};
use lattice_store::{Camera, PasswordSource, Role, Stream};

/// Longest list read from a file.
const MAX_LIST: u64 = 4 << 20;

/// The text of a list, or of a session description, that a person named by its path.
///
/// # Errors
/// When it cannot be read, or is longer than any list.
pub fn read_list(path: &str) -> anyhow::Result<String> {
    let path = crate::places::typed_path(path);
    let cannot = || format!("{} cannot be read", path.display());
    let metadata = std::fs::metadata(&path).with_context(cannot)?;
    anyhow::ensure!(metadata.is_file(), "{} is no file", path.display());
    anyhow::ensure!(
        metadata.len() <= MAX_LIST,
        "{} is longer than any list of cameras: {} MiB",
        path.display(),
        metadata.len() >> 20
    );
    let bytes = std::fs::read(&path).with_context(cannot)?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

/// A target that could not be asked is added as it was typed: it may be switched on tomorrow.
#[must_use]
pub fn unreached(target: &Target, why: &str) -> Intake {
    let camera = match target {
        Target::Device { host, encrypted, .. } => {
            Camera { address: Some(host.clone()), encrypted: *encrypted, ..Camera::default() }
        }
        Target::Url(url) => {
            let stream = Stream { role: Role::Main, target: target.clone().with_credentials(None), interval: None, buffer: None };
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

/// Puts what was taken in into the site; gives the names.
///
/// # Errors
/// When its password or the site file cannot be kept.
pub fn put(kept: &mut Kept, intake: Intake, newcomer: &Newcomer, source: &PasswordSource) -> anyhow::Result<Vec<String>> {
    let Newcomer { target, name, group, .. } = newcomer;
    let sign_in = match target.credentials() {
        Some(credentials) => Some(kept.keep_sign_in(credentials, source)?),
        None => None,
    };
    if let Target::Listen { key: Some(key), .. } = target {
        kept.secrets.keep_key(&target.to_string(), Some(key))?;
    }
    let recorder = intake.cameras.len() > 1;
    let mut site = kept.file.site().clone();
    let mut added: Vec<Camera> = Vec::new();
    for camera in intake.cameras {
        let own = camera.device_name.clone().or_else(|| camera.model.clone()).unwrap_or_else(|| target_name(target));
        let wanted = match (name, added.first()) {
            (Some(name), None) => name.clone(),
            (Some(_), Some(first)) if camera.device_name.is_none() => format!("{} {}", first.name, camera.channel.unwrap_or(1)),
            _ => own,
        };
        let head = added.first().map(|first| first.name.clone()).filter(|_| recorder);
        let camera = Camera {
            name: site.free_name(&wanted),
            group: group.clone(),
            sign_in: sign_in.clone(),
            password_readable: target.credentials().is_some_and(|given| given.policy.allows_readable()),
            recorder: head,
            ..camera
        };
        site.cameras.push(camera.clone());
        added.push(camera);
    }
    for camera in &added {
        kept.keep_hidden(camera)?;
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
