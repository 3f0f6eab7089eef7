//! Sign-in: Basic and Digest (RFC 2617, RFC 7616) as RTSP uses them.
//!
//! Done: MD5 and SHA-256, their `-sess` forms, with and without `qop=auth`. Not done: `auth-int`,
//! SHA-512-256, user hashes.

use crate::{Credentials, SignInStrength};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use md5::{Digest as _, Md5};
use sha2::Sha256;
use std::fmt::Write as _;

/// The hash of a Digest challenge.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum DigestAlgorithm {
    /// MD5, also where the challenge names none.
    Md5,
    /// SHA-256.
    Sha256,
}

/// Scheme of a challenge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChallengeScheme {
    /// The password itself, encoded.
    Basic,
    /// A hash over password and nonce.
    Digest {
        /// Which hash.
        algorithm: DigestAlgorithm,
        /// The `-sess` form: nonce and client nonce go into the first hash.
        session: bool,
        /// The server's nonce.
        nonce: String,
        /// To be sent back as it came.
        opaque: Option<String>,
        /// The server offers `qop=auth`.
        qop_auth: bool,
        /// The last nonce was merely too old; the password is not in doubt.
        stale: bool,
    },
}

/// Why a sign-in that was given is not sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Withheld {
    /// No challenge that can be answered here.
    #[error("the camera wants a kind of sign-in that is not known here")]
    Unknown,
    /// Basic without TLS, and the operator has not allowed it.
    #[error("the camera wants the password readable on the network (Basic without TLS): it was not sent")]
    Readable,
    /// A weaker answer than was asked for before.
    #[error("the camera asks for a weaker sign-in than before ({} instead of {}): the password was not sent", .offered.word(), .before.word())]
    Weaker {
        /// The strongest so far.
        before: SignInStrength,
        /// The strongest that is offered now.
        offered: SignInStrength,
    },
}

/// One challenge that can be answered here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Challenge {
    /// What the sign-in is for.
    pub realm: String,
    /// How to answer.
    pub scheme: ChallengeScheme,
}

impl Challenge {
    /// Reads one `WWW-Authenticate` value; `None` for a scheme or algorithm not done here.
    #[must_use]
    pub fn parse(value: &str) -> Option<Self> {
        let (scheme, rest) = value.trim().split_once(' ').unwrap_or((value.trim(), ""));
        let parameters = parameters(rest);
        let get = |name: &str| parameters.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| value.clone());
        let realm = get("realm").unwrap_or_default();
        if scheme.eq_ignore_ascii_case("basic") {
            return Some(Self { realm, scheme: ChallengeScheme::Basic });
        }
        if !scheme.eq_ignore_ascii_case("digest") {
            return None;
        }
        let name = get("algorithm").unwrap_or_else(|| "MD5".to_owned()).to_ascii_uppercase();
        let session = name.ends_with("-SESS");
        let algorithm = match name.trim_end_matches("-SESS") {
            "MD5" => DigestAlgorithm::Md5,
            "SHA-256" => DigestAlgorithm::Sha256,
            _ => return None,
        };
        let offers = get("qop");
        let qop_auth = offers.as_ref().is_some_and(|qop| qop.split(',').any(|word| word.trim().eq_ignore_ascii_case("auth")));
        if offers.is_some() && !qop_auth {
            return None; // auth-int alone
        }
        let stale = get("stale").is_some_and(|word| word.eq_ignore_ascii_case("true"));
        let scheme = ChallengeScheme::Digest { algorithm, session, nonce: get("nonce")?, opaque: get("opaque"), qop_auth, stale };
        Some(Self { realm, scheme })
    }

    /// The strongest of several: SHA-256, then MD5, then Basic.
    pub fn strongest<'a>(values: impl Iterator<Item = &'a str>) -> Option<Self> {
        values.flat_map(challenges).filter_map(Self::parse).max_by_key(Self::strength)
    }

    /// How well its answer hides the password.
    #[must_use]
    pub const fn strength(&self) -> SignInStrength {
        match self.scheme {
            ChallengeScheme::Basic => SignInStrength::Readable,
            ChallengeScheme::Digest { algorithm: DigestAlgorithm::Md5, .. } => SignInStrength::Md5,
            ChallengeScheme::Digest { algorithm: DigestAlgorithm::Sha256, .. } => SignInStrength::Sha256,
        }
    }

    /// The challenge to answer with these credentials: the strongest that is offered, and never one that is weaker than their
    /// policy allows for this host. `encrypted` says that the connection is (TLS). What is offered is learned.
    ///
    /// # Errors
    /// [`Withheld`]: none may be answered. Nothing of the password has been used.
    pub fn choose<'a>(
        values: impl Iterator<Item = &'a str>,
        credentials: &Credentials,
        host: &str,
        encrypted: bool,
    ) -> Result<Self, Withheld> {
        let challenge = Self::strongest(values).ok_or(Withheld::Unknown)?;
        let (offered, policy) = (challenge.strength(), &credentials.policy);
        let before = policy.least(host);
        if offered < before {
            return Err(Withheld::Weaker { before, offered });
        }
        if offered == SignInStrength::Readable && !encrypted && !policy.allows_readable() {
            return Err(Withheld::Readable);
        }
        policy.learn(host, offered);
        Ok(challenge)
    }

    /// Whether the server says that only the nonce was too old.
    #[must_use]
    pub const fn is_stale(&self) -> bool {
        matches!(self.scheme, ChallengeScheme::Digest { stale: true, .. })
    }
}

/// The challenges of one field: several may stand in it, with commas between (RFC 9110 §11.6.1).
fn challenges(value: &str) -> impl Iterator<Item = &str> {
    let mut starts = vec![0];
    let (mut quoted, mut escaped) = (false, false);
    for (at, c) in value.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            ',' if !quoted => {
                let rest = value.get(at + 1..).unwrap_or_default();
                let word = rest.trim_start().split([' ', ',']).next().unwrap_or_default();
                // A scheme is a word without an equals sign.
                if ["basic", "digest", "bearer", "negotiate"].iter().any(|scheme| word.eq_ignore_ascii_case(scheme)) {
                    starts.push(at + 1);
                }
            }
            _ => {}
        }
    }
    let ends = starts.clone().into_iter().skip(1).map(|end| end - 1).chain([value.len()]);
    starts.into_iter().zip(ends).filter_map(|(start, end)| value.get(start..end)).map(str::trim)
}

/// The parameters of a challenge or an answer: `key=value, key="quoted, value"`, with escapes inside quotes.
#[must_use]
pub fn parameters(text: &str) -> Vec<(String, String)> {
    let mut out = Vec::new();
    let mut chars = text.chars().peekable();
    loop {
        let key: String = std::iter::from_fn(|| chars.next_if(|c| *c != '=')).collect();
        if chars.next().is_none() {
            return out;
        }
        let mut value = String::new();
        while chars.next_if(|c| *c == ' ').is_some() {}
        if chars.next_if_eq(&'"').is_some() {
            while let Some(c) = chars.next() {
                match c {
                    '"' => break,
                    '\\' => value.extend(chars.next()),
                    c => value.push(c),
                }
            }
            while chars.next_if(|c| *c != ',').is_some() {}
        } else {
            value.extend(std::iter::from_fn(|| chars.next_if(|c| *c != ',')));
        }
        chars.next();
        out.push((key.trim_matches([' ', ',']).to_owned(), value.trim_end().to_owned()));
    }
}

fn hash(algorithm: DigestAlgorithm, text: &str) -> String {
    let bytes: Vec<u8> = match algorithm {
        DigestAlgorithm::Md5 => Md5::digest(text).to_vec(),
        DigestAlgorithm::Sha256 => Sha256::digest(text).to_vec(),
    };
    bytes.iter().fold(String::with_capacity(64), |mut out, byte| {
        let _ = write!(out, "{byte:02x}");
        out
    })
}

/// The `response` of a Digest answer without `qop`, as a server computes it to compare.
#[must_use]
pub fn digest_response(
    algorithm: DigestAlgorithm,
    credentials: &Credentials,
    realm: &str,
    nonce: &str,
    method: &str,
    uri: &str,
) -> String {
    let first = hash(algorithm, &format!("{}:{realm}:{}", credentials.user, credentials.password.reveal()));
    let second = hash(algorithm, &format!("{method}:{uri}"));
    hash(algorithm, &format!("{first}:{nonce}:{second}"))
}

/// The `Authorization` value for a request. `count` is how often this nonce was used, from 1;
/// `client_nonce` any unpredictable text.
#[must_use]
pub fn authorization(
    challenge: &Challenge,
    credentials: &Credentials,
    method: &str,
    uri: &str,
    count: u32,
    client_nonce: &str,
) -> String {
    let password = credentials.password.reveal();
    let user = &credentials.user;
    let ChallengeScheme::Digest { algorithm, session, nonce, opaque, qop_auth, .. } = &challenge.scheme else {
        return format!("Basic {}", STANDARD.encode(format!("{user}:{password}")));
    };
    let realm = &challenge.realm;
    let mut first = hash(*algorithm, &format!("{user}:{realm}:{password}"));
    if *session {
        first = hash(*algorithm, &format!("{first}:{nonce}:{client_nonce}"));
    }
    let second = hash(*algorithm, &format!("{method}:{uri}"));
    let quote = |text: &str| text.replace('\\', "\\\\").replace('"', "\\\"");
    let mut out =
        format!("Digest username=\"{}\", realm=\"{}\", nonce=\"{}\", uri=\"{uri}\"", quote(user), quote(realm), quote(nonce));
    let response = if *qop_auth {
        let _ = write!(out, ", qop=auth, nc={count:08x}, cnonce=\"{client_nonce}\"");
        hash(*algorithm, &format!("{first}:{nonce}:{count:08x}:{client_nonce}:auth:{second}"))
    } else {
        if *session {
            let _ = write!(out, ", cnonce=\"{client_nonce}\"");
        }
        hash(*algorithm, &format!("{first}:{nonce}:{second}"))
    };
    let _ = write!(out, ", response=\"{response}\"");
    let name = match algorithm {
        DigestAlgorithm::Md5 => "MD5",
        DigestAlgorithm::Sha256 => "SHA-256",
    };
    let _ = write!(out, ", algorithm={name}{}", if *session { "-sess" } else { "" });
    if let Some(opaque) = opaque {
        let _ = write!(out, ", opaque=\"{}\"", quote(opaque));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn mufasa(password: &str) -> Credentials {
        Credentials::new("Mufasa", password)
    }

    /// The examples of RFC 2617 §3.5 and RFC 7616 §3.9.1.
    #[test]
    fn the_standards_own_examples_come_out() {
        let old = Challenge::parse(
            r#"Digest realm="testrealm@host.com", qop="auth,auth-int", nonce="dcd98b7102dd2f0e8b11d0f600bfb0c093", opaque="5ccc069c403ebaf9f0171e9517f40e41""#,
        )
        .unwrap();
        let answer = authorization(&old, &mufasa("Circle Of Life"), "GET", "/dir/index.html", 1, "0a4f113b");
        assert!(answer.contains(r#"response="6629fae49393a05397450978507c4ef1""#), "{answer}");
        for (algorithm, want) in [
            ("MD5", "8ca523f5e9506fed4657c9700eebdbec"),
            ("SHA-256", "753927fa0e85d155564e2e272a28d1802ca10daf4496794697cf8db5856cb6c1"),
        ] {
            let challenge = Challenge::parse(&format!(
                r#"Digest realm="http-auth@example.org", qop="auth, auth-int", algorithm={algorithm}, nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS""#
            ))
            .unwrap();
            let answer = authorization(
                &challenge,
                &mufasa("Circle of Life"),
                "GET",
                "/dir/index.html",
                1,
                "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpXusqGemxURZJ",
            );
            assert!(answer.contains(&format!("response=\"{want}\"")), "{answer}");
        }
    }

    #[test]
    fn the_strongest_challenge_is_answered() {
        let offers =
            [r#"Basic realm="x""#, r#"Digest realm="x", nonce="n""#, r#"Digest realm="x", nonce="n", algorithm=SHA-256"#];
        let strongest = |n: usize| Challenge::strongest(offers.into_iter().take(n)).unwrap().scheme;
        assert_eq!(strongest(1), ChallengeScheme::Basic);
        assert!(matches!(strongest(2), ChallengeScheme::Digest { algorithm: DigestAlgorithm::Md5, qop_auth: false, .. }));
        assert!(matches!(strongest(3), ChallengeScheme::Digest { algorithm: DigestAlgorithm::Sha256, .. }));
        assert_eq!(Challenge::strongest(["Digest realm=\"x\", algorithm=ROT13, nonce=\"n\""].into_iter()), None);
    }

    #[test]
    fn a_sign_in_is_never_answered_more_weakly_than_before_nor_readable_unless_that_is_allowed() {
        let (basic, md5) = (r#"Basic realm="x""#, r#"Digest realm="x", nonce="n", qop="auth,auth-int""#);
        let sha = r#"Digest realm="x", nonce="n", algorithm=SHA-256"#;
        let choose = |offers: &[&str], credentials: &Credentials, tls| {
            Challenge::choose(offers.iter().copied(), credentials, "cam", tls).map(|challenge| challenge.strength())
        };
        let fresh = mufasa("p");
        assert_eq!(choose(&[basic], &fresh, false), Err(Withheld::Readable));
        assert_eq!(choose(&[basic], &fresh, true), Ok(SignInStrength::Readable));
        assert_eq!(choose(&[basic, md5], &fresh, false), Ok(SignInStrength::Md5));
        for tls in [false, true] {
            let weaker = Withheld::Weaker { before: SignInStrength::Md5, offered: SignInStrength::Readable };
            assert_eq!(choose(&[basic], &fresh.clone(), tls), Err(weaker));
        }
        // Several in one field, in either order.
        let together = format!("{basic}, {sha}, {md5}");
        assert_eq!(choose(&[&together], &fresh, false), Ok(SignInStrength::Sha256));
        assert!(matches!(choose(&[md5], &fresh, false), Err(Withheld::Weaker { .. })));
        // Another host is another matter, and one's own choice is one's own.
        assert!(Challenge::choose([md5].into_iter(), &fresh, "other", false).is_ok());
        let allowed = mufasa("p").under(crate::SignInPolicy::default().allowing_readable(true));
        assert_eq!(choose(&[basic], &allowed, false), Ok(SignInStrength::Readable));
        allowed.policy.learn("cam", SignInStrength::Md5);
        assert!(choose(&[basic], &allowed, false).is_err(), "what was stronger once stays so");
    }

    #[test]
    fn without_qop_both_sides_agree() {
        let challenge = Challenge::parse(r#"Digest realm="port", nonce="abc""#).unwrap();
        let answer = authorization(&challenge, &mufasa("p"), "DESCRIBE", "rtsp://cam/x", 1, "c");
        let want = digest_response(DigestAlgorithm::Md5, &mufasa("p"), "port", "abc", "DESCRIBE", "rtsp://cam/x");
        assert!(answer.contains(&want));
    }

    proptest! {
        #[test]
        fn any_challenge_is_answered(text in "\\PC{0,200}") {
            let _ = Challenge::parse(&text);
            let _ = Challenge::parse(&format!("Digest {text}"));
        }
    }
}
