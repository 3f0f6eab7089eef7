//! The slips that people make, mended where one meaning is left.

use super::decoded;
use std::net::IpAddr;

/// A slip that was mended, with the sentence that names it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Slip {
    /// Quotation marks or brackets around or within.
    #[error("typographic or other quotation marks were taken away")]
    Quotes,
    /// Characters that cannot be seen.
    #[error("characters that cannot be seen (from a web page or a document) were taken away")]
    Invisible,
    /// `\` for `/`.
    #[error("a backslash stood where a slash belongs")]
    Backslash,
    /// `rtsp:/host` or `rtsp:host`.
    #[error("a slash was missing: it is written {scheme}://")]
    MissingSlash {
        /// The scheme.
        scheme: String,
    },
    /// A scheme with its letters in the wrong order.
    #[error("{typed:?} was read as {meant}://")]
    SchemeTypo {
        /// As typed.
        typed: String,
        /// As meant.
        meant: &'static str,
    },
    /// No scheme at all before a path.
    #[error("no scheme stood before it: rtsp:// is taken")]
    NoScheme,
    /// `&` or a space between password and host.
    #[error("{found} stood between the password and the host, where @ belongs")]
    At {
        /// What stood there, named.
        found: &'static str,
    },
    /// Characters in the password that would end it.
    #[error("the password contains {what}: it was percent-encoded for you ({} in an address)", .encoded)]
    Password {
        /// The characters, named.
        what: String,
        /// What they become.
        encoded: String,
    },
    /// An IPv6 address without brackets.
    #[error("an IPv6 address stands in brackets before a port or path: [ADDRESS]")]
    BareIpv6,
    /// The address of a web page.
    #[error("this is the address of a web page, not of a stream: the device itself is asked for its streams")]
    WebPage,
    /// A comma or full stop at the end.
    #[error("{mark:?} at the end was taken away")]
    Trailing {
        /// The mark.
        mark: char,
    },
}

/// An address that has no sensible meaning.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// Nothing was typed.
    #[error("nothing was typed: give an address like 192.0.2.10 or rtsp://192.0.2.10/stream")]
    Empty,
    /// A scheme that is not known.
    #[error("{scheme}:// is not known here: use rtsp://, rtsps://, http://, https://, or udp:// and rtp:// to listen")]
    Scheme {
        /// As typed.
        scheme: String,
    },
    /// No host.
    #[error("no host stands in it: write the camera's name or address after //")]
    NoHost,
    /// A host that cannot be one.
    #[error("{} is not a host: {why}", shown(.host))]
    Host {
        /// As typed.
        host: String,
        /// What is wrong.
        why: &'static str,
    },
    /// A port that cannot be one.
    #[error("what stands behind the colon is no port from 1 to 65535; after a user's name comes a password, then @ and the host")]
    Port,
    /// Listening without a port.
    #[error("no port to listen on: write it like udp://:5000")]
    NoPort,
    /// A session description that is of no use.
    #[error("the session description describes no video on a port: it needs a line like  m=video 5004 RTP/AVP 96")]
    Description,
    /// Listening on a name.
    #[error("{} cannot be listened on: give an address of this machine, a multicast group, or none, like udp://:5000", shown(.host))]
    ListenAddress {
        /// As typed.
        host: String,
    },
}

/// What was typed as a host, where it cannot be a part of a password.
fn shown(host: &str) -> String {
    let plain = host.chars().all(|c| c.is_alphanumeric() || matches!(c, '.' | '-' | '_')) && !host.is_empty();
    if plain { format!("{host:?}") } else { "what stands where the host belongs".to_owned() }
}

const QUOTES: &[char] = &['"', '\'', '`', '´', '“', '”', '„', '‟', '‘', '’', '‚', '‛', '«', '»', '‹', '›', '<', '>', '「', '」'];

fn is_invisible(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202f}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{ad}')
}

/// Takes away what cannot belong to an address.
pub(super) fn clean(text: &str, slips: &mut Vec<Slip>) -> String {
    let no_break = text.replace(['\u{a0}', '\u{2007}', '\u{202f}'], " ");
    let visible: String = no_break.trim().chars().filter(|c| !is_invisible(*c)).collect();
    if visible.chars().count() != no_break.trim().chars().count() {
        slips.push(Slip::Invisible);
    }
    let mut rest = visible.trim();
    // A straight quote may belong to a password; around the whole address it never does.
    while let Some(inner) = rest.strip_prefix(QUOTES).or_else(|| rest.strip_suffix(QUOTES)) {
        push_once(slips, Slip::Quotes);
        rest = inner.trim();
    }
    if let Some(mark) = rest.chars().last().filter(|c| matches!(c, ',' | ';' | '.'))
        && rest.chars().count() > 1
    {
        slips.push(Slip::Trailing { mark });
        rest = rest.trim_end_matches(mark);
    }
    while let Some(inner) = rest.strip_prefix(QUOTES).or_else(|| rest.strip_suffix(QUOTES)) {
        push_once(slips, Slip::Quotes);
        rest = inner.trim();
    }
    // Typographic quotes are put in by word processors, also in mid-text; no one types them.
    let plain: String = rest.chars().filter(|c| c.is_ascii() || !QUOTES.contains(c)).collect();
    if plain.len() != rest.len() {
        push_once(slips, Slip::Quotes);
    }
    if !plain.contains('\\') {
        return plain;
    }
    slips.push(Slip::Backslash);
    plain.replace('\\', "/")
}

fn push_once(slips: &mut Vec<Slip>, slip: Slip) {
    if !slips.contains(&slip) {
        slips.push(slip);
    }
}

/// Words that stand before `://`, with how they are mistyped.
const SCHEMES: &[(&str, &[&str])] = &[
    ("rtsp", &["rstp", "rtps", "rtsp2", "rtso", "rtp_sp", "trsp", "rtspu", "rtspt"]),
    ("rtsps", &["rtpss", "rstps"]),
    ("http", &["htpp", "htp", "hhtp", "ttp", "htttp"]),
    ("https", &["htpps", "htps", "hhtps"]),
    ("udp", &["upd"]),
    ("rtp", &["rpt"]),
];

/// Splits the scheme off, mending its slips; the scheme comes in lower case.
pub(super) fn scheme<'a>(text: &'a str, slips: &mut Vec<Slip>) -> Result<(Option<String>, &'a str), Refusal> {
    let end = text.find(|c: char| !c.is_ascii_alphanumeric()).unwrap_or(text.len());
    let (word, after) = text.split_at(end);
    let word = word.to_ascii_lowercase();
    let known = SCHEMES.iter().find_map(|(meant, typos)| {
        if *meant == word { Some((*meant, false)) } else { typos.contains(&word.as_str()).then_some((*meant, true)) }
    });
    if let Some(rest) = after.strip_prefix("://") {
        let (meant, typo) = known.ok_or(Refusal::Scheme { scheme: word.clone() })?;
        if typo {
            slips.push(Slip::SchemeTypo { typed: format!("{word}://"), meant });
        }
        let rest_without = rest.trim_start_matches('/');
        return Ok((Some(meant.to_owned()), if rest_without.is_empty() { rest } else { rest_without }));
    }
    let Some((meant, typo)) = known else { return Ok((None, text.trim_start_matches('/'))) };
    // `rtsp:/host`, `rtsp//host`, `rtsp;//host`, `rtsp:host` (but not `rtsp:554`, a host of that name).
    let slashes = after.trim_start_matches([':', ';', '.', ',', ' ']);
    let rest = slashes.trim_start_matches('/');
    let separated = after.len() != slashes.len();
    let had_slash = slashes.len() != rest.len();
    let port_only = after.starts_with(':') && rest.split(['/', '?']).next().is_some_and(|port| port.parse::<u32>().is_ok());
    if rest.is_empty() || !(had_slash || separated) || (port_only && !had_slash) || (after.starts_with('.') && !had_slash) {
        return Ok((None, text));
    }
    if typo {
        slips.push(Slip::SchemeTypo { typed: word, meant });
    }
    slips.push(Slip::MissingSlash { scheme: meant.to_owned() });
    Ok((Some(meant.to_owned()), rest))
}

/// Splits `user:password@` off, in whatever state it is; both come decoded.
pub(super) fn split_sign_in<'a>(rest: &'a str, slips: &mut Vec<Slip>) -> (Option<(String, String)>, &'a str) {
    let authority_end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
    let (authority, _) = rest.split_at(authority_end);
    let after = |at: usize| rest.get(at + 1..).unwrap_or("");
    let by_at = likeliest(rest);
    // `&` or a space where @ belongs: a likelier host must stand behind it than behind any @.
    for (mark, found) in [('&', "an &"), (' ', "a space")] {
        if let Some(at) = authority.rfind(mark)
            && let Some((sign_in, _)) = authority.split_at_checked(at)
            && sign_in.contains(':')
            && likelihood(after(at)) > by_at.map_or(0, |(likely, _)| likely)
        {
            slips.push(Slip::At { found });
            return (Some(user_and_password(sign_in.trim_end(), slips)), after(at).trim_start());
        }
    }
    match by_at.map(|(_, at)| at).or_else(|| authority.rfind('@')) {
        Some(at) => (Some(user_and_password(rest.get(..at).unwrap_or(""), slips)), after(at)),
        None => (None, rest),
    }
}

/// Where `user:password@` ends, if there is one: at the @ behind which the likeliest host stands. Passwords may hold any of
/// `@/?#:`, and so may paths.
pub(crate) fn sign_in_end(rest: &str) -> Option<usize> {
    // Where no host can be made out, the last one of the authority is meant.
    likeliest(rest).map(|(_, at)| at).or_else(|| rest.split(['/', '?', '#']).next().unwrap_or("").rfind('@'))
}

/// The @ behind which the likeliest host stands, with how likely that is.
fn likeliest(rest: &str) -> Option<(u8, usize)> {
    let authority = rest.split(['/', '?', '#']).next().unwrap_or("");
    let after_colon = authority.split_once(':').map(|(_, after)| after.split('@').next().unwrap_or(""));
    // `user:secret/x@host` has a colon behind which no port stands.
    let may_go_on = after_colon.is_some_and(|text| text.parse::<u16>().is_err()) || authority.contains('@');
    let places = rest.match_indices('@').map(|(at, _)| at).filter(|at| may_go_on || *at < authority.len());
    places.map(|at| (likelihood(rest.get(at + 1..).unwrap_or("")), at)).filter(|(likely, _)| *likely > 0).max()
}

/// How likely a host stands at the beginning of this: 0 for not.
fn likelihood(after: &str) -> u8 {
    let after = after.trim_start();
    if !looks_like_host(after) {
        return 0;
    }
    let end = after.find(['/', '?', '#']).unwrap_or(after.len());
    let (host, path) = after.split_at(end);
    let (bare, port) = host_and_port(host);
    let kind = if bare.parse::<IpAddr>().is_ok() {
        5
    } else if bare.contains('.') {
        3
    } else {
        1
    };
    kind + u8::from(path.starts_with('/') || port.is_some())
}

fn user_and_password(sign_in: &str, slips: &mut Vec<Slip>) -> (String, String) {
    let (user, password) = sign_in.split_once(':').unwrap_or((sign_in, ""));
    let mut found: Vec<char> = password.chars().filter(|c| "@:/?#& ".contains(*c)).collect();
    found.dedup();
    if !found.is_empty() {
        let name = |c: &char| if *c == ' ' { "a space".to_owned() } else { c.to_string() };
        let encoded: Vec<String> = found.iter().map(|c| format!("%{:02X}", u32::from(*c))).collect();
        let what = found.iter().map(name).collect::<Vec<_>>().join(" ");
        slips.push(Slip::Password { what, encoded: encoded.join(" ") });
    }
    (decoded(user), decoded(password))
}

fn looks_like_host(text: &str) -> bool {
    let host = text.trim_start().split(['/', '?', '#']).next().unwrap_or("");
    let (host, port) = host_and_port(host);
    port.is_none_or(|port| port.parse::<u16>().is_ok())
        && !host.is_empty()
        && check_host(host).is_ok()
        && !host.contains(['@', '&', ' '])
}

/// Host without its brackets, and what stands behind its colon.
fn host_and_port(text: &str) -> (&str, Option<&str>) {
    match text.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
        Some((host, after)) => (host, (!after.is_empty()).then(|| after.strip_prefix(':').unwrap_or("none"))),
        None => text.rsplit_once(':').map_or((text, None), |(host, port)| (host, Some(port))),
    }
}

/// `host:port`, `[v6]:port`, or a host alone.
pub(super) fn split_port(text: &str) -> Result<(&str, Option<u16>), Refusal> {
    let text = text.trim();
    let (host, port) = if let Some(rest) = text.strip_prefix('[') {
        let (host, after) = rest.split_once(']').ok_or(Refusal::NoHost)?;
        (host, after.strip_prefix(':'))
    } else {
        text.split_once(':').map_or((text, None), |(host, port)| (host, Some(port)))
    };
    let port = port.filter(|port| !port.is_empty());
    let parsed = port.map(|port| port.trim().parse::<u16>().ok().filter(|port| *port != 0).ok_or(Refusal::Port));
    Ok((host, parsed.transpose()?))
}

/// Whether a host can be one.
pub(super) fn check_host(host: &str) -> Result<(), Refusal> {
    let refuse = |why| Err(Refusal::Host { host: host.to_owned(), why });
    if host.parse::<IpAddr>().is_ok() {
        return Ok(());
    }
    if host.contains(':') {
        return refuse("an IPv6 address has up to eight groups of hexadecimal digits, with :: once");
    }
    if host.bytes().all(|b| b.is_ascii_digit() || b == b'.') {
        let parts: Vec<&str> = host.split('.').collect();
        return match parts.as_slice() {
            [_, _, _, _] if parts.iter().any(|part| part.parse::<u32>().is_ok_and(|n| n > 255)) => {
                refuse("each of the four numbers of an address is at most 255")
            }
            [_, _, _, _] => refuse("one of its four numbers is missing or begins with a zero"),
            _ => refuse("an address has four numbers, like 192.0.2.10"),
        };
    }
    if host.len() > 253 || host.split('.').any(|label| label.is_empty() || label.len() > 63) {
        return refuse("a part between two dots is empty or too long");
    }
    if host
        .chars()
        .any(|c| c.is_ascii() && !c.is_ascii_alphanumeric() && !matches!(c, '-' | '_' | '.' | '%') || c.is_whitespace())
    {
        return refuse("a name has letters, digits, hyphens and dots only");
    }
    Ok(())
}

/// Whether the path of an `http://` address is that of a page for people, not of a picture.
pub(super) fn is_web_page(path: &str) -> bool {
    let bare = path.split(['?', '#']).next().unwrap_or("").to_ascii_lowercase();
    let last = bare.rsplit('/').next().unwrap_or("");
    let page = [".html", ".htm", ".shtml", ".xhtml", ".asp", ".aspx", ".php", ".jsp", ".js", ".css"];
    path.contains('#')
        || (bare.trim_end_matches('/').is_empty() && !path.contains('?'))
        || page.iter().any(|end| last.ends_with(end))
}
