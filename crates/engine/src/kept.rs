//! The site with the passwords that belong to it.

use crate::camera::{CameraDef, StreamDef};
use crate::places;
use anyhow::Context as _;
use lattice_core::find::{FirmwareFault, PathPattern, common_paths, firmware_faults};
use lattice_core::srtp::MasterKey;
use lattice_core::target::Target;
use lattice_core::{Credentials, Secret};
use lattice_net::{Device, Fingerprint, ListenConfig, Origin, Trust};
use lattice_store::site::CertificateTrust;
use lattice_store::{Camera, Keyring, PasswordSource, SecretError, Secrets, Sightings, SignIn, SiteFile, Stream, Strengths};
use std::path::Path;
use std::time::Duration;

/// The site file and its passwords.
pub struct Kept {
    /// The site.
    pub file: SiteFile,
    /// The passwords.
    pub secrets: Secrets,
    /// How strongly devices have asked for them.
    pub strengths: Strengths,
}

impl Kept {
    /// Opens the site that was named, or the usual one.
    ///
    /// # Errors
    /// When the site or its passwords cannot be read.
    pub fn open(named: Option<&Path>) -> anyhow::Result<Self> {
        Self::with_keyring(named, Keyring::of_session)
    }

    /// The same for who must not wait for the owner of the keyring: passwords may come later.
    ///
    /// # Errors
    /// When the site or its passwords cannot be read.
    pub fn open_at_once(named: Option<&Path>) -> anyhow::Result<Self> {
        Self::with_keyring(named, Keyring::of_session_at_once)
    }

    fn with_keyring(named: Option<&Path>, keyring: impl FnOnce() -> Option<Keyring>) -> anyhow::Result<Self> {
        let mut kept = Self::at(&places::site(named)?, &places::secrets(named)?, &places::state()?.join("sign-ins.json"))?;
        if !kept.file.site().passwords_in_file {
            kept.secrets = kept.secrets.with_keyring(keyring());
        }
        Ok(kept)
    }

    /// Opens a site, its passwords, and what was learned of their use, where they are, without any keyring.
    ///
    /// # Errors
    /// When the site or its passwords cannot be read.
    pub fn at(site: &Path, secrets: &Path, strengths: &Path) -> anyhow::Result<Self> {
        Ok(Self { file: SiteFile::open(site)?, secrets: Secrets::open(secrets)?, strengths: Strengths::open(strengths) })
    }

    /// The sign-in of a camera.
    ///
    /// # Errors
    /// A sentence, when it is nowhere to be had.
    pub fn credentials(&self, camera: &Camera) -> Result<Option<Credentials>, String> {
        let Some(name) = &camera.sign_in else { return Ok(None) };
        let Some(sign_in) = self.file.site().sign_in(name) else { return Ok(None) };
        let password = match &sign_in.password {
            PasswordSource::Environment(variable) => password_from(variable)?,
            PasswordSource::Kept => self
                .secrets
                .password(name)
                .map_err(|error| error.to_string())?
                .ok_or_else(|| format!("no password is kept for the sign-in {name:?}: sign in again"))?,
        };
        let policy = self.strengths.policy(name).allowing_readable(camera.password_readable);
        Ok(Some(Credentials::new(&sign_in.user, password).under(policy)))
    }

    /// The device behind a camera, as it is reached, with its sign-in.
    ///
    /// # Errors
    /// A sentence: it has none that is known, or its password is nowhere to be had.
    pub fn device(&self, camera: &Camera) -> Result<Device, String> {
        let name = &camera.name;
        let pushed = camera.streams.iter().any(|stream| matches!(stream.target, Target::Listen { .. }));
        let host = camera.address.clone().ok_or_else(|| {
            if pushed {
                format!("{name} has no device: it is a pushed stream")
            } else {
                format!("the device of {name} is not known: its address and service-port are not in the site; add it by its address alone")
            }
        })?;
        let port = camera
            .service_port
            .ok_or_else(|| format!("the device service of {name} is not known: add it by its address alone"))?;
        let device = Device::new(&host, port, self.credentials(camera)?, None).trusting(trust_of(camera));
        Ok(if camera.is_encrypted() { device.encrypted() } else { device })
    }

    /// A stream's target with what is kept apart of its address.
    #[must_use]
    pub fn target_of(&self, stream: &Stream) -> Target {
        match &stream.target {
            Target::Url(url) if url.lacks_hidden() => {
                let kept = self.secrets.query(&stream.target.to_string()).ok().flatten();
                Target::Url(url.clone().with_hidden(kept.as_ref()))
            }
            other => other.clone(),
        }
    }

    /// A camera as the wall opens it; `None` for one that is off or has no stream.
    #[must_use]
    pub fn definition(&self, camera: &Camera) -> Option<CameraDef> {
        if camera.disabled || camera.streams.is_empty() {
            return None;
        }
        let credentials = self.credentials(camera).unwrap_or_default();
        let origin = |stream: &Stream| match self.target_of(stream) {
            Target::Url(url) if url.scheme().is_rtsp() => Some(Origin::Url(url.with_credentials(credentials.clone()))),
            Target::Url(url) => {
                let every = stream.interval.unwrap_or(Duration::from_secs(5));
                Some(Origin::Pictures { url: url.with_credentials(credentials.clone()), every })
            }
            Target::Listen { address, port, description, .. } => {
                Some(Origin::Listen(ListenConfig { address, port, description }))
            }
            Target::Device { .. } => None,
        };
        let streams = camera
            .streams
            .iter()
            .filter_map(|stream| Some(StreamDef { role: stream.role, origin: origin(stream)?, key: self.key_of(stream) }))
            .collect();
        Some(CameraDef {
            name: camera.name.clone(),
            streams,
            transport: camera.transport,
            trust: trust_of(camera),
            viewers: camera.viewers,
            link: camera.link,
            sound: self.file.site().hears(camera),
        })
    }

    /// Keeps what does not belong into the site file of the streams' addresses of a camera.
    ///
    /// # Errors
    /// [`SecretError`].
    pub fn keep_hidden(&mut self, camera: &Camera) -> Result<(), SecretError> {
        for stream in &camera.streams {
            if let Target::Url(url) = &stream.target
                && let Some(hidden) = url.hidden()
            {
                self.secrets.keep_query(&stream.target.to_string(), Some(&hidden))?;
            }
        }
        Ok(())
    }

    /// The key of an encrypted stream, where one is kept.
    #[must_use]
    pub fn key_of(&self, stream: &Stream) -> Option<MasterKey> {
        let key = self.secrets.key(&stream.target.to_string()).ok()??;
        MasterKey::entered(key.reveal()).ok()
    }

    /// Keeps a sign-in: the one with this user and password that is kept already, or a new one. Gives its name.
    ///
    /// # Errors
    /// When the password or the site file cannot be written.
    pub fn keep_sign_in(&mut self, given: &Credentials, source: &PasswordSource) -> anyhow::Result<String> {
        let same = self.file.site().sign_ins.iter().find(|sign_in| {
            sign_in.user == given.user
                && sign_in.password == *source
                && (*source != PasswordSource::Kept
                    || self.secrets.password(&sign_in.name).ok().flatten().as_ref() == Some(&given.password))
        });
        if let Some(same) = same {
            return Ok(same.name.clone());
        }
        let taken = |name: &str| self.file.site().sign_in(name).is_some();
        let base = if given.user.trim().is_empty() { "sign-in" } else { given.user.trim() };
        let name = if taken(base) {
            (2..=self.file.site().sign_ins.len() + 2).map(|n| format!("{base} {n}")).find(|name| !taken(name)).unwrap_or_default()
        } else {
            base.to_owned()
        };
        if *source == PasswordSource::Kept {
            self.secrets.keep_password(&name, Some(&given.password)).context("the password was not kept")?;
        }
        let sign_in = SignIn { name: name.clone(), user: given.user.clone(), password: source.clone() };
        self.file.change(|editor| editor.put_sign_in(&sign_in))?;
        Ok(name)
    }
}

/// A password out of the environment.
///
/// # Errors
/// When the variable is not set.
pub fn password_from(variable: &str) -> Result<Secret<String>, String> {
    std::env::var(variable)
        .map(Secret::new)
        .map_err(|_| format!("the variable {variable} is not set: it should hold the password"))
}

/// The key of encrypted streams out of the environment.
///
/// # Errors
/// When the variable is not set, or holds no key.
pub fn key_from(variable: Option<&str>) -> anyhow::Result<Option<MasterKey>> {
    let Some(variable) = variable else { return Ok(None) };
    let text = std::env::var(variable).with_context(|| format!("the variable {variable} is not set: it should hold the key"))?;
    Ok(Some(MasterKey::entered(&text).with_context(|| format!("the variable {variable} holds no key"))?))
}

/// How a camera's certificate is judged, as the network layer takes it.
#[must_use]
pub fn trust_of(camera: &Camera) -> Trust {
    match &camera.trust {
        CertificateTrust::Verify => Trust::Verify,
        CertificateTrust::Off => Trust::Off,
        CertificateTrust::Pinned(hex) => hex.parse::<Fingerprint>().map_or(Trust::Verify, Trust::Pinned),
    }
}

/// The paths to try on a device that cannot be asked: the person's own first.
///
/// # Errors
/// When a line of the person's own list is none.
pub fn path_patterns() -> anyhow::Result<Vec<PathPattern>> {
    let path = places::configuration()?.join("paths.txt");
    let own = std::fs::read_to_string(&path).unwrap_or_default();
    common_paths(&own).map_err(|(line, error)| anyhow::anyhow!("{}, line {line}: {error}", path.display()))
}

/// Firmware with known faults: the person's own list first.
///
/// # Errors
/// When a line of the person's own list is none.
pub fn known_firmware_faults() -> anyhow::Result<Vec<FirmwareFault>> {
    let path = places::configuration()?.join("firmware.txt");
    let own = std::fs::read_to_string(&path).unwrap_or_default();
    let wrong = |line| anyhow::anyhow!("{}, line {line}: it is written  maker | model | version | what is wrong", path.display());
    firmware_faults(&own).map_err(wrong)
}

/// What was last seen of each target.
///
/// # Errors
/// When there is no home folder.
pub fn sightings() -> anyhow::Result<Sightings> {
    Ok(Sightings::open(&places::state()?.join("seen.json")))
}
