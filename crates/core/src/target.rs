//! What people type or paste to name a source, understood and with its slips named.
//!
//! [`understand`] takes one address in any of the forms that occur; [`understand_list`] takes what is
//! pasted from a spreadsheet, a playlist (M3U) or a CSV file. A slip that has one sensible meaning is
//! mended and named in [`Reading::slips`]; one that has none is refused with a sentence.

mod list;
mod slip;

pub use list::{Listing, Newcomer, Row, names_file, understand_list, understand_listing};
pub(crate) use slip::sign_in_end;
pub use slip::{Refusal, Slip};

use crate::sdp::Description;
use crate::{Credentials, Scheme, Secret, SourceUrl};
use percent_encoding::percent_decode_str;
use std::net::{IpAddr, Ipv6Addr};

/// What a pushed stream is carried in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PushKind {
    /// MPEG-TS in UDP datagrams.
    Udp,
    /// RTP (MPEG-TS, or what a session description says).
    Rtp,
}

/// What was meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A device whose streams are to be asked for.
    Device {
        /// Host name or address, without brackets.
        host: String,
        /// A port, where one was given.
        port: Option<u16>,
        /// A sign-in, where one was given.
        credentials: Option<Credentials>,
        /// It was given as `https://` or `rtsps://`: it is asked through TLS alone.
        encrypted: bool,
    },
    /// A stream or a still.
    Url(SourceUrl),
    /// A port to listen on for a sender that pushes.
    Listen {
        /// What comes.
        kind: PushKind,
        /// The local address or multicast group; `None` for all addresses.
        address: Option<IpAddr>,
        /// The port.
        port: u16,
        /// The session description (SDP) of an RTP stream whose payload is not MPEG-TS; without keys.
        description: Option<String>,
        /// The key of an encrypted stream, as its description gave it.
        key: Option<Secret<String>>,
    },
}

impl Target {
    /// What will be tried, in words.
    #[must_use]
    pub fn intent(&self) -> String {
        match self {
            Self::Device { host, port: None, .. } => format!("ask the device {host} for its streams, then try common paths"),
            Self::Device { host, port: Some(port), .. } => {
                format!("ask the device {host} for its streams, then try common paths on port {port}")
            }
            Self::Url(url) if url.scheme().is_rtsp() => format!("open the stream {url}"),
            Self::Url(url) => format!("fetch pictures from {url}"),
            Self::Listen { kind, address, port, description, .. } => {
                let what = match (kind, description) {
                    (PushKind::Udp, _) => "MPEG-TS over UDP",
                    (PushKind::Rtp, None) => "RTP",
                    (PushKind::Rtp, Some(_)) => "RTP as its session description says",
                };
                let on = address.map_or_else(|| "every address of this machine".to_owned(), |address| address.to_string());
                format!("listen on port {port} of {on} for {what}")
            }
        }
    }

    /// The same with another sign-in; listening needs none, and without one forgets its key, too.
    #[must_use]
    pub fn with_credentials(self, given: Option<Credentials>) -> Self {
        match self {
            Self::Device { host, port, encrypted, .. } => Self::Device { host, port, credentials: given, encrypted },
            Self::Url(url) => Self::Url(url.with_credentials(given)),
            Self::Listen { kind, address, port, description, key } => {
                Self::Listen { kind, address, port, description, key: key.filter(|_| given.is_some()) }
            }
        }
    }

    /// The same with the operator's choice whether its password may travel readable.
    #[must_use]
    pub fn allowing_readable(self, allowed: bool) -> Self {
        let given = self.credentials().cloned().map(|given| {
            let policy = given.policy.clone().allowing_readable(allowed);
            given.under(policy)
        });
        if given.is_some() { self.with_credentials(given) } else { self }
    }

    /// The sign-in that was typed with it.
    #[must_use]
    pub const fn credentials(&self) -> Option<&Credentials> {
        match self {
            Self::Device { credentials, .. } => credentials.as_ref(),
            Self::Url(url) => url.credentials(),
            Self::Listen { .. } => None,
        }
    }
}

impl std::fmt::Display for Target {
    /// As it can be shown: without a password.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Device { host, port, .. } => {
                let host = if host.contains(':') { format!("[{host}]") } else { host.clone() };
                f.write_str(&host)?;
                port.map_or(Ok(()), |port| write!(f, ":{port}"))
            }
            Self::Url(url) => url.fmt(f),
            Self::Listen { kind, address, port, .. } => {
                let scheme = if *kind == PushKind::Udp { "udp" } else { "rtp" };
                let address = address.map_or_else(String::new, |address| match address {
                    IpAddr::V4(v4) => v4.to_string(),
                    IpAddr::V6(v6) => format!("[{v6}]"),
                });
                write!(f, "{scheme}://{address}:{port}")
            }
        }
    }
}

/// What was understood of one line.
///
/// ```
/// use lattice_core::target::{Slip, Target, understand};
/// let reading = understand("“rtsp://harbour:s@lt&192.0.2.7\\main”")?;
/// assert!(reading.slips.contains(&Slip::Quotes) && reading.slips.contains(&Slip::Backslash));
/// assert_eq!(reading.target.to_string(), "rtsp://harbour@192.0.2.7/main");
/// # Ok::<(), lattice_core::target::Refusal>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// What was meant.
    pub target: Target,
    /// What was wrong with it and has been mended, in the order found.
    pub slips: Vec<Slip>,
}

/// Understands one address as typed.
///
/// # Errors
/// [`Refusal`] with what to change, where no sensible meaning is left.
pub fn understand(text: &str) -> Result<Reading, Refusal> {
    let mut slips = Vec::new();
    let text = slip::clean(text, &mut slips);
    if text.is_empty() {
        return Err(Refusal::Empty);
    }
    let (scheme, rest) = slip::scheme(&text, &mut slips)?;
    let target = match scheme.as_deref() {
        Some("udp") => listen(PushKind::Udp, rest)?,
        Some("rtp") => listen(PushKind::Rtp, rest)?,
        Some(word) => {
            let scheme = Scheme::from_word(word).ok_or_else(|| Refusal::Scheme { scheme: word.to_owned() })?;
            address(Some(scheme), rest, &mut slips)?
        }
        None => address(None, rest, &mut slips)?,
    };
    Ok(Reading { target, slips })
}

fn listen(kind: PushKind, rest: &str) -> Result<Target, Refusal> {
    // `udp://@:5000` and `udp://@239.0.0.1:5000` are how the trade writes "listen".
    let rest = rest.trim_start_matches('@').split(['/', '?', '#']).next().unwrap_or("");
    let (host, port) = slip::split_port(rest)?;
    let port = port.ok_or(Refusal::NoPort)?;
    let address = match host {
        "" | "*" => None,
        host => Some(host.parse::<IpAddr>().map_err(|_| Refusal::ListenAddress { host: host.to_owned() })?),
    };
    Ok(Target::Listen { kind, address: address.filter(|address| !address.is_unspecified()), port, description: None, key: None })
}

/// The listening port that a session description (RFC 4566) names. A key in it (RFC 4568) is kept apart from it.
///
/// # Errors
/// [`Refusal::Description`] when it describes no video on a port.
pub fn understand_description(text: &str) -> Result<Target, Refusal> {
    let video = Description::parse(text).video().ok_or(Refusal::Description)?;
    let lines = || text.lines().map(str::trim);
    let port = lines().find_map(|line| line.strip_prefix("m=video ")?.split([' ', '/']).next()?.parse::<u16>().ok());
    let port = port.filter(|port| *port > 0).ok_or(Refusal::Description)?;
    // A group is joined; any other address there is the sender's business.
    let group = lines()
        .filter_map(|line| line.strip_prefix("c=IN IP4 ").or_else(|| line.strip_prefix("c=IN IP6 ")))
        .find_map(|address| address.split('/').next()?.trim().parse::<IpAddr>().ok())
        .filter(IpAddr::is_multicast);
    let key = video.crypto.first().map(|crypto| {
        Secret::new(crypto.reveal().split_whitespace().find(|word| word.starts_with("inline:")).unwrap_or_default().to_owned())
    });
    let kept: Vec<&str> = text.lines().filter(|line| !line.trim_start().starts_with("a=crypto")).collect();
    let description = Some(kept.join("\n") + "\n");
    Ok(Target::Listen { kind: PushKind::Rtp, address: group, port, description, key })
}

fn address(scheme: Option<Scheme>, rest: &str, slips: &mut Vec<Slip>) -> Result<Target, Refusal> {
    let (sign_in, host_and_path) = slip::split_sign_in(rest, slips);
    let end = host_and_path.find(['/', '?', '#']).unwrap_or(host_and_path.len());
    let (host_port, path) = host_and_path.split_at(end);
    let (host, port) = if is_bare_ipv6(host_port) {
        slips.push(Slip::BareIpv6);
        (host_port, None)
    } else {
        slip::split_port(host_port)?
    };
    if host.is_empty() {
        return Err(Refusal::NoHost);
    }
    slip::check_host(host)?;
    let credentials = sign_in.map(|(user, password)| Credentials::new(user, password));
    let is_http = scheme.is_some_and(|scheme| !scheme.is_rtsp());
    if is_http && slip::is_web_page(path) {
        slips.push(Slip::WebPage);
        // The web port says nothing about where the streams are.
        let port = port.filter(|port| !matches!(port, 80 | 443));
        return Ok(Target::Device { host: host.to_owned(), port, credentials, encrypted: scheme == Some(Scheme::Https) });
    }
    let path = path.split('#').next().unwrap_or("");
    if path.trim_end_matches('/').is_empty() {
        if scheme == Some(Scheme::Rtsps) {
            // A device found by asking would be asked in the clear: what was typed is tried as it is.
            return Ok(Target::Url(SourceUrl::new(Scheme::Rtsps, host, port, path).with_credentials(credentials)));
        }
        return Ok(Target::Device { host: host.to_owned(), port, credentials, encrypted: scheme == Some(Scheme::Https) });
    }
    if scheme.is_none() {
        slips.push(Slip::NoScheme);
    }
    let url = SourceUrl::new(scheme.unwrap_or(Scheme::Rtsp), host, port, path);
    Ok(Target::Url(url.with_credentials(credentials)))
}

fn is_bare_ipv6(text: &str) -> bool {
    text.matches(':').count() >= 2 && text.parse::<Ipv6Addr>().is_ok()
}

pub(crate) fn decoded(text: &str) -> String {
    percent_decode_str(text).decode_utf8_lossy().into_owned()
}

#[cfg(test)]
mod tests;
