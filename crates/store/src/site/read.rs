//! From text to a [`Site`], with line and column for everything that is not understood.

use super::lattices::{self, RawLattice, RawScreen, RawTour};
use super::looks::{self, RawAdjust, RawLens, RawPreset};
use super::rules;
use super::shapes::{self, RawShape};
use super::{Camera, CertificateTrust, PasswordSource, Role, SignIn, Site, SiteError, Stream, ThresholdsFor, stream_target};
use lattice_core::playout::LONGEST;
use lattice_core::sight::Finding;
use lattice_core::target::{PushKind, Target, understand_description};
use lattice_core::thresholds::Override;
use lattice_core::{BitsPerSecond, TransportChoice};
use serde::Deserialize;
use std::path::Path;
use std::time::Duration;
use toml::Spanned;

pub(super) type Text = Spanned<String>;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawSite {
    name: Option<String>,
    passwords: Option<Text>,
    clock_limit: Option<Spanned<f64>>,
    #[serde(default)]
    scan_ports: Vec<Spanned<u16>>,
    #[serde(default, rename = "sign-in")]
    sign_ins: Vec<RawSignIn>,
    #[serde(default, rename = "camera")]
    cameras: Vec<RawCamera>,
    link: Option<Spanned<f64>>,
    decoding: Option<Spanned<f64>>,
    largest_picture: Option<Spanned<u64>>,
    hold_after_loss: Option<Spanned<f64>>,
    sound: Option<bool>,
    #[serde(default, rename = "rule")]
    rules: Vec<rules::RawRule>,
    #[serde(default)]
    thresholds: Vec<RawThresholds>,
    #[serde(default, rename = "preset")]
    presets: Vec<RawPreset>,
    #[serde(default, rename = "lattice")]
    lattices: Vec<RawLattice>,
    #[serde(default, rename = "tour")]
    tours: Vec<RawTour>,
    #[serde(default, rename = "screen")]
    screens: Vec<RawScreen>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawSignIn {
    name: Text,
    user: String,
    password: Option<Text>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawCamera {
    name: Text,
    group: Option<String>,
    address: Option<String>,
    service_port: Option<u16>,
    sign_in: Option<Text>,
    recorder: Option<String>,
    channel: Option<u32>,
    enabled: Option<bool>,
    transport: Option<Text>,
    trust: Option<Text>,
    encrypted: Option<bool>,
    password_readable: Option<bool>,
    sound: Option<bool>,
    viewers: Option<Spanned<u32>>,
    link: Option<Spanned<f64>>,
    device_name: Option<String>,
    maker: Option<String>,
    model: Option<String>,
    firmware: Option<String>,
    serial: Option<String>,
    adjust: Option<RawAdjust>,
    lens: Option<Spanned<RawLens>>,
    watch: Option<Spanned<Vec<Spanned<RawShape>>>>,
    #[serde(default, rename = "stream")]
    streams: Vec<RawStream>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawThresholds {
    camera: Option<Text>,
    group: Option<Text>,
    loss: Option<Spanned<f64>>,
    sent_below: Option<Spanned<f64>>,
    arrived_below: Option<Spanned<f64>>,
    shown_below: Option<Spanned<f64>>,
    late: Option<Spanned<u64>>,
    strained_after: Option<Spanned<f64>>,
    steady_after: Option<Spanned<f64>>,
    silent_below: Option<Spanned<f64>>,
    silent_after: Option<Spanned<f64>>,
    loud_by: Option<Spanned<f64>>,
    off: Option<Vec<Text>>,
}

/// Thresholds for a camera, a group, or for all. One of a name that is not there is no mistake: cameras come and go.
fn thresholds(raw: RawThresholds) -> Result<ThresholdsFor, Complaint> {
    if let (Some(_), Some(group)) = (&raw.camera, &raw.group) {
        return Err(at(group, "thresholds are for a camera or for a group: make two of them"));
    }
    let percent = |share: Option<&Spanned<f64>>| match share {
        None => Ok(None),
        Some(share) if (0.0..=100.0).contains(share.get_ref()) => Ok(Some(*share.get_ref() / 100.0)),
        Some(share) => Err(at(share, "this is 0 to 100 percent")),
    };
    let seconds = |span: Option<&Spanned<f64>>| match span {
        None => Ok(None),
        Some(span) if (0.0..=600.0).contains(span.get_ref()) => Ok(Some(Duration::from_secs_f64(*span.get_ref()))),
        Some(span) => Err(at(span, "this is 0 to 600 seconds")),
    };
    let late = match &raw.late {
        None => None,
        Some(late) if (50..=60_000).contains(late.get_ref()) => Some(Duration::from_millis(*late.get_ref())),
        Some(late) => return Err(at(late, "late is 50 to 60000 ms")),
    };
    let decibels = |level: Option<&Spanned<f64>>, least: f64, most: f64| match level {
        None => Ok(None),
        Some(level) if (least..=most).contains(level.get_ref()) => Ok(Some(*level.get_ref() as f32)),
        Some(level) => Err(at(level, format!("this is {least} to {most} dB"))),
    };
    let finding = |word: &Text| {
        let all: Vec<&str> = Finding::ALL.iter().map(|finding| finding.word()).collect();
        Finding::from_word(word.get_ref()).ok_or_else(|| at(word, format!("off takes {}", all.join(", "))))
    };
    let off = raw.off.map(|words| words.iter().map(finding).collect::<Result<Vec<_>, _>>()).transpose()?;
    Ok(ThresholdsFor {
        set: Override {
            loss: percent(raw.loss.as_ref())?,
            slowed: percent(raw.sent_below.as_ref())?,
            arrived: percent(raw.arrived_below.as_ref())?,
            shown: percent(raw.shown_below.as_ref())?,
            late,
            strain_after: seconds(raw.strained_after.as_ref())?,
            steady_after: seconds(raw.steady_after.as_ref())?,
            silent_below: decibels(raw.silent_below.as_ref(), -110.0, 0.0)?,
            silent_after: seconds(raw.silent_after.as_ref())?,
            loud_by: decibels(raw.loud_by.as_ref(), 3.0, 100.0)?,
            off,
        },
        camera: raw.camera.map(Spanned::into_inner),
        group: raw.group.map(Spanned::into_inner),
    })
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawStream {
    role: Text,
    url: Text,
    sdp: Option<Text>,
    interval: Option<Spanned<f64>>,
    buffer: Option<Spanned<u64>>,
}

/// Where something stands, and what is wrong with it.
pub(super) struct Complaint(usize, String);

/// Reads a site; the path is for the message.
pub fn read(path: &Path, text: &str) -> Result<Site, SiteError> {
    let raw: RawSite = toml::from_str(text).map_err(|error| parser_complaint(path, text, &error))?;
    build(raw).map_err(|complaint| complain(path, text, &complaint))
}

/// What the parser did not understand.
pub(super) fn parser_complaint(path: &Path, text: &str, error: &toml::de::Error) -> SiteError {
    let at = error.span().map_or(0, |span| span.start);
    complain(path, text, &Complaint(at, error.message().trim().to_owned()))
}

pub(super) fn complain(path: &Path, text: &str, Complaint(at, what): &Complaint) -> SiteError {
    let before = text.get(..*at).unwrap_or(text);
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or("").chars().count() + 1;
    // What is quoted may be a password that somebody put in the wrong place: the parser's words hold no values.
    SiteError::Content { path: path.to_owned(), line, column, what: what.lines().collect::<Vec<_>>().join("; ") }
}

pub(super) fn at<T>(spanned: &Spanned<T>, what: impl Into<String>) -> Complaint {
    Complaint(spanned.span().start, what.into())
}

fn build(raw: RawSite) -> Result<Site, Complaint> {
    let passwords_in_file = match raw.passwords.as_ref().map(|text| (text.get_ref().as_str(), text)) {
        None | Some(("keyring", _)) => false,
        Some(("file", _)) => true,
        Some((_, text)) => return Err(at(text, "passwords is keyring (where there is one) or file")),
    };
    let clock_limit = match &raw.clock_limit {
        None => None,
        Some(seconds) if (0.01..=86_400.0).contains(seconds.get_ref()) => Some(Duration::from_secs_f64(*seconds.get_ref())),
        Some(seconds) => return Err(at(seconds, "the clock-limit is 0.01 to 86400 seconds")),
    };
    if let Some(zero) = raw.scan_ports.iter().find(|port| *port.get_ref() == 0) {
        return Err(at(zero, "a port is 1 to 65535"));
    }
    let scan_ports = raw.scan_ports.into_iter().map(Spanned::into_inner).collect();
    let mut site = Site { name: raw.name, passwords_in_file, scan_ports, clock_limit, ..Site::default() };
    for raw in raw.sign_ins {
        let sign_in = sign_in(&raw)?;
        if site.sign_in(&sign_in.name).is_some() {
            return Err(at(&raw.name, "another sign-in has this name already: give each its own"));
        }
        site.sign_ins.push(sign_in);
    }
    for raw in raw.cameras {
        if site.camera(raw.name.get_ref()).is_some() {
            return Err(at(&raw.name, "another camera has this name already: give each its own"));
        }
        let camera = camera(&site, raw)?;
        site.cameras.push(camera);
    }
    site.rules = raw.rules.into_iter().map(rules::rule).collect::<Result<_, _>>()?;
    for raw in raw.thresholds {
        let thresholds = thresholds(raw)?;
        site.thresholds.push(thresholds);
    }
    site.sound = raw.sound;
    site.link = megabits(raw.link.as_ref())?;
    site.hold_after_loss = match &raw.hold_after_loss {
        None => None,
        Some(seconds) if (0.0..=60.0).contains(seconds.get_ref()) => Some(Duration::from_secs_f64(*seconds.get_ref())),
        Some(seconds) => return Err(at(seconds, "hold-after-loss is 0 to 60 seconds")),
    };
    site.largest_picture = match &raw.largest_picture {
        None => None,
        Some(most) if (1..=268).contains(most.get_ref()) => Some(*most.get_ref()),
        Some(most) => return Err(at(most, "largest-picture is 1 to 268 megapixels")),
    };
    site.decoding = match &raw.decoding {
        None => None,
        Some(most) if (1.0..=1e6).contains(most.get_ref()) => Some(*most.get_ref()),
        Some(most) => return Err(at(most, "decoding is 1 to 1000000 megapixels a second")),
    };
    for raw in raw.presets {
        let preset = looks::preset(&raw)?;
        if site.presets.iter().any(|other| other.name == preset.name) {
            return Err(looks::taken(&raw));
        }
        site.presets.push(preset);
    }
    for raw in raw.lattices {
        if site.lattice(raw.name.get_ref()).is_some() {
            return Err(at(&raw.name, "another lattice has this name already: give each its own"));
        }
        site.lattices.push(lattices::lattice(raw)?);
    }
    for raw in raw.tours {
        let tour = lattices::tour(&site, raw)?;
        site.tours.push(tour);
    }
    for raw in raw.screens {
        let screen = lattices::screen(&site, raw)?;
        site.screens.push(screen);
    }
    Ok(site)
}

/// A link in Mbit/s.
fn megabits(raw: Option<&Spanned<f64>>) -> Result<Option<BitsPerSecond>, Complaint> {
    match raw {
        None => Ok(None),
        Some(link) if (0.01..=1e6).contains(link.get_ref()) => Ok(Some(BitsPerSecond(link.get_ref() * 1e6))),
        Some(link) => Err(at(link, "a link is 0.01 to 1000000 Mbit/s")),
    }
}

fn sign_in(raw: &RawSignIn) -> Result<SignIn, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a sign-in needs a name"));
    }
    let password = match &raw.password {
        None => PasswordSource::Kept,
        Some(text) => match text.get_ref().strip_prefix("env:") {
            Some(name) if !name.is_empty() => PasswordSource::Environment(name.to_owned()),
            _ => {
                let what = "a password does not stand in this file: write env:NAME for a variable of the environment, or leave it out and let the program keep it";
                return Err(at(text, what));
            }
        },
    };
    Ok(SignIn { name: raw.name.get_ref().clone(), user: raw.user.clone(), password })
}

/// A listening port with the session description of what comes.
fn described(target: Target, sdp: &Text) -> Result<Target, String> {
    let understood = understand_description(sdp.get_ref()).map_err(|error| error.to_string())?;
    match (target, understood) {
        (Target::Listen { kind: PushKind::Rtp, address, port, .. }, Target::Listen { description, key: None, .. }) => {
            Ok(Target::Listen { kind: PushKind::Rtp, address, port, description, key: None })
        }
        (Target::Listen { kind: PushKind::Rtp, .. }, _) => {
            Err("a key stands in the description (a=crypto): take that line out, keys are kept apart from this file".into())
        }
        _ => Err("sdp belongs to a stream that is listened for, at an address like rtp://:5004".into()),
    }
}

fn trust(text: &Spanned<String>) -> Result<CertificateTrust, Complaint> {
    match text.get_ref().as_str() {
        "verify" => Ok(CertificateTrust::Verify),
        "off" => Ok(CertificateTrust::Off),
        other => {
            let hex = other.strip_prefix("sha256:").filter(|hex| hex.len() == 64 && hex.bytes().all(|b| b.is_ascii_hexdigit()));
            let hex =
                hex.ok_or_else(|| at(text, "trust is verify, off, or sha256: and the 64 digits of a certificate's fingerprint"))?;
            Ok(CertificateTrust::Pinned(hex.to_ascii_lowercase()))
        }
    }
}

fn camera(site: &Site, raw: RawCamera) -> Result<Camera, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a camera needs a name"));
    }
    if let Some(name) = raw.sign_in.as_ref().filter(|name| site.sign_in(name.get_ref()).is_none()) {
        return Err(at(name, format!("there is no [[sign-in]] with the name {:?}", name.get_ref())));
    }
    let transport = match &raw.transport {
        None => TransportChoice::Auto,
        Some(text) => match text.get_ref().as_str() {
            "auto" => TransportChoice::Auto,
            "udp" => TransportChoice::Udp,
            "tcp" => TransportChoice::Tcp,
            _ => return Err(at(text, "the transport is auto, udp or tcp")),
        },
    };
    let trust = raw.trust.as_ref().map_or(Ok(CertificateTrust::Verify), trust)?;
    if let Some(none) = raw.viewers.as_ref().filter(|most| *most.get_ref() == 0) {
        return Err(at(none, "viewers is 1 or more: switch a camera off with enabled = false"));
    }
    let link = megabits(raw.link.as_ref())?;
    let mut streams: Vec<Stream> = Vec::new();
    for raw in raw.streams {
        let role =
            Role::from_word(raw.role.get_ref()).ok_or_else(|| at(&raw.role, "the role of a stream is main, sub or third"))?;
        if streams.iter().any(|stream| stream.role == role) {
            return Err(at(&raw.role, format!("this camera has a {} stream already", role.word())));
        }
        let mut target = stream_target(raw.url.get_ref()).map_err(|what| at(&raw.url, what))?;
        if let Some(sdp) = &raw.sdp {
            target = described(target, sdp).map_err(|what| at(sdp, what))?;
        }
        let interval = match &raw.interval {
            None => None,
            Some(seconds) if (0.2..=86_400.0).contains(seconds.get_ref()) => Some(Duration::from_secs_f64(*seconds.get_ref())),
            Some(seconds) => return Err(at(seconds, "the interval of a still is 0.2 to 86400 seconds")),
        };
        let buffer = match &raw.buffer {
            None => None,
            Some(millis) if *millis.get_ref() <= LONGEST.as_millis() as u64 => Some(Duration::from_millis(*millis.get_ref())),
            Some(millis) => return Err(at(millis, "a receive buffer is 0 to 5000 milliseconds")),
        };
        streams.push(Stream { role, target, interval, buffer });
    }
    streams.sort_by_key(|stream| stream.role);
    Ok(Camera {
        name: raw.name.into_inner(),
        group: raw.group.filter(|group| !group.trim().is_empty()),
        address: raw.address,
        service_port: raw.service_port,
        sign_in: raw.sign_in.map(Spanned::into_inner),
        recorder: raw.recorder,
        channel: raw.channel,
        disabled: raw.enabled == Some(false),
        transport,
        trust,
        encrypted: raw.encrypted == Some(true),
        password_readable: raw.password_readable == Some(true),
        sound: raw.sound,
        viewers: raw.viewers.map(Spanned::into_inner),
        link,
        device_name: raw.device_name,
        maker: raw.maker,
        model: raw.model,
        firmware: raw.firmware,
        serial: raw.serial,
        adjust: looks::adjust(raw.adjust)?,
        lens: looks::lens(raw.lens.as_ref())?,
        watch: shapes::shapes(raw.watch)?,
        streams,
    })
}
