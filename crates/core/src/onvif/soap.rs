//! SOAP 1.2 envelopes, with the username token of WS-Security.

use super::xml::{Element, escape};
use crate::{Credentials, Wall};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use sha1::{Digest as _, Sha1};

/// What proves a sign-in in one message: made anew for each.
pub struct Security<'a> {
    /// Who signs in.
    pub credentials: &'a Credentials,
    /// Unpredictable.
    pub nonce: [u8; 16],
    /// Now, by the *device's* clock: it refuses tokens that seem old.
    pub created: Wall,
}

impl Security<'_> {
    /// The header (username token profile 1.0 §3.1): Base64 of SHA-1 over nonce, time and password.
    fn emit(&self) -> String {
        let created = rfc3339(self.created);
        let mut hash = Sha1::new();
        hash.update(self.nonce);
        hash.update(created.as_bytes());
        hash.update(self.credentials.password.reveal().as_bytes());
        let (digest, nonce) = (STANDARD.encode(hash.finalize()), STANDARD.encode(self.nonce));
        let user = escape(&self.credentials.user);
        let security = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss";
        format!(
            "<w:Security s:mustUnderstand=\"1\" xmlns:w=\"{security}-wssecurity-secext-1.0.xsd\" \
             xmlns:u=\"{security}-wssecurity-utility-1.0.xsd\"><w:UsernameToken><w:Username>{user}</w:Username>\
             <w:Password Type=\"{security}-username-token-profile-1.0#PasswordDigest\">{digest}</w:Password>\
             <w:Nonce EncodingType=\"{security}-soap-message-security-1.0#Base64Binary\">{nonce}</w:Nonce>\
             <u:Created>{created}</u:Created></w:UsernameToken></w:Security>"
        )
    }
}

/// A whole message around a body.
#[must_use]
pub fn envelope(body: &str, security: Option<&Security<'_>>) -> String {
    envelope_with("", body, security)
}

/// The same with more in its head.
#[must_use]
pub fn envelope_with(head: &str, body: &str, security: Option<&Security<'_>>) -> String {
    let header = format!("{head}{}", security.map(Security::emit).unwrap_or_default());
    let header = if header.is_empty() { header } else { format!("<s:Header>{header}</s:Header>") };
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\" \
         xmlns:tds=\"http://www.onvif.org/ver10/device/wsdl\" xmlns:trt=\"http://www.onvif.org/ver10/media/wsdl\" \
         xmlns:tr2=\"http://www.onvif.org/ver20/media/wsdl\" \
         xmlns:tptz=\"http://www.onvif.org/ver20/ptz/wsdl\" xmlns:timg=\"http://www.onvif.org/ver20/imaging/wsdl\" xmlns:tt=\"http://www.onvif.org/ver10/schema\">{header}\
         <s:Body>{body}</s:Body></s:Envelope>"
    )
}

/// What a device says instead of an answer (SOAP 1.2 part 1 §5.4).
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", .reason)]
pub struct Fault {
    /// Code and subcodes, without prefixes, outermost first.
    pub codes: Vec<String>,
    /// The device's own words, at most 200 characters, without control characters.
    pub reason: String,
}

impl Fault {
    /// The sign-in is missing, refused, or has not the right.
    #[must_use]
    pub fn is_not_authorized(&self) -> bool {
        let says = |text: &str| text.to_ascii_lowercase().replace([' ', '-', '_'], "").contains("notauthor");
        self.codes.iter().any(|code| says(code) || code == "FailedAuthentication") || says(&self.reason)
    }

    /// The device does not do this.
    #[must_use]
    pub fn is_not_supported(&self) -> bool {
        let known = ["ActionNotSupported", "OptionalActionNotImplemented"];
        self.codes.iter().any(|code| known.contains(&code.as_str()))
    }
}

/// Takes the answer out of its envelope; `None` when it is no SOAP at all.
#[must_use]
pub fn answer(document: &Element) -> Option<Result<&Element, Fault>> {
    let body = document.child("Body").filter(|_| document.name == "Envelope")?;
    let Some(fault) = body.child("Fault") else { return body.children.first().map(Ok) };
    let mut codes = Vec::new();
    let mut code = fault.child("Code");
    while let Some(now) = code.filter(|_| codes.len() < 8) {
        let value = now.text_at(&["Value"]).unwrap_or("");
        codes.push(value.rsplit(':').next().unwrap_or("").to_owned());
        code = now.child("Subcode");
    }
    codes.extend(fault.text_at(&["faultcode"]).map(|code| code.rsplit(':').next().unwrap_or("").to_owned()));
    let reason = fault.text_at(&["Reason", "Text"]).or_else(|| fault.text_at(&["faultstring"])).unwrap_or("");
    let reason: String = reason.chars().filter(|c| !c.is_control()).take(200).collect();
    let reason = if reason.is_empty() { codes.last().cloned().unwrap_or_else(|| "refused".into()) } else { reason };
    Some(Err(Fault { codes, reason }))
}

/// A moment as `xs:dateTime` has it, in UTC.
#[must_use]
pub fn date_time(at: Wall) -> String {
    rfc3339(at)
}

/// `2026-11-25T02:03:04.005Z`.
pub(super) fn rfc3339(at: Wall) -> String {
    let micros = at.as_unix_micros();
    let (days, in_day) = (micros.div_euclid(86_400_000_000), micros.rem_euclid(86_400_000_000));
    let (year, month, day) = civil(days);
    let millis = in_day / 1000;
    let (hour, minute, second) = (millis / 3_600_000, millis / 60_000 % 60, millis / 1000 % 60);
    format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}.{:03}Z", millis % 1000)
}

/// A moment as `xs:dateTime` has it, with a zone or in UTC, with or without parts of a second.
pub(super) fn created_of(text: &str) -> Option<Wall> {
    let text = text.trim();
    let number = |from: usize, to: usize| text.get(from..to).and_then(|part| part.parse::<i64>().ok());
    let (year, month, day) = (number(0, 4)?, number(5, 7)?, number(8, 10)?);
    let (hour, minute, second) = (number(11, 13)?, number(14, 16)?, number(17, 19)?);
    let sane = (1..=12).contains(&month) && (1..=31).contains(&day) && hour < 25 && minute < 60 && second < 62;
    let rest = text.get(19..)?;
    let fraction =
        rest.strip_prefix('.').map_or("", |rest| &rest[..rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len())]);
    let micros: String = fraction.chars().chain("000000".chars()).take(6).collect();
    let zone = rest.trim_start_matches(|c: char| c == '.' || c.is_ascii_digit());
    let minutes = match zone.split_at_checked(1) {
        Some((sign @ ("+" | "-"), zone)) => {
            let (hours, minutes) = zone.split_once(':')?;
            let minutes = hours.parse::<i64>().ok()?.checked_mul(60)?.checked_add(minutes.parse().ok()?)?;
            if sign == "+" { minutes } else { -minutes }
        }
        _ => 0,
    };
    let days = days_from_civil(year, month, day);
    let seconds = days * 86_400 + hour * 3600 + minute * 60 + second - minutes.clamp(-1440, 1440) * 60;
    sane.then(|| Wall::from_unix_micros(seconds * 1_000_000 + micros.parse::<i64>().unwrap_or(0)))
}

/// Year, month and day of a day counted from 1970-01-01 (proleptic Gregorian, by eras of 400 years).
pub(super) const fn civil(days: i64) -> (i64, i64, i64) {
    let shifted = days + 719_468; // from 0000-03-01
    let era = shifted.div_euclid(146_097);
    let of_era = shifted.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    (year_of_era + era * 400 + (month <= 2) as i64, month, day)
}

/// The day counted from 1970-01-01; the inverse of [`civil`].
pub(super) const fn days_from_civil(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year.rem_euclid(400);
    let shifted = if month > 2 { month - 3 } else { month + 9 };
    let of_year = (153 * shifted + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_are_read_in_every_form() {
        for (text, micros) in [
            ("2010-09-16T07:50:45Z", 1_284_623_445_000_000),
            ("2010-09-16T07:50:45.25Z", 1_284_623_445_250_000),
            ("2010-09-16T09:50:45.123456789+02:00", 1_284_623_445_123_456),
            (" 2010-09-16T02:20:45-05:30 ", 1_284_623_445_000_000),
            ("2010-09-16T07:50:45", 1_284_623_445_000_000),
        ] {
            assert_eq!(created_of(text).map(Wall::as_unix_micros), Some(micros), "{text}");
        }
        for bad in ["", "now", "2010-13-16T07:50:45Z", "2010-09-16", "2010-09-16T07:50:45+0a:00", "2010-09-16T07:50:4é"] {
            assert_eq!(created_of(bad), None, "{bad}");
        }
    }

    #[test]
    fn the_token_of_the_specification_is_made() {
        // The worked example of the ONVIF application programmer's guide, §6.1.1.3.
        let credentials = Credentials::new("user", "userpassword");
        let nonce = STANDARD.decode("LKqI6G/AikKCQrN0zqZFlg==").unwrap().try_into().unwrap();
        let mut hash = Sha1::new();
        hash.update(nonce);
        hash.update(b"2010-09-16T07:50:45Z");
        hash.update(b"userpassword");
        assert_eq!(STANDARD.encode(hash.finalize()), "tuOSpGlFlIXsozq4HFNeeGeFLEI=");
        let text = envelope(
            "<tds:GetUsers/>",
            Some(&Security { credentials: &credentials, nonce, created: Wall::from_unix_micros(1_284_623_445_000_000) }),
        );
        let token = Element::parse(text.as_bytes()).unwrap();
        let token = token.find("UsernameToken").unwrap().clone();
        assert_eq!((token.text_at(&["Username"]), token.text_at(&["Created"])), (Some("user"), Some("2010-09-16T07:50:45.000Z")));
        assert!(!text.contains("userpassword"));
    }

    #[test]
    fn faults_are_told_from_answers() {
        let fault = "<e:Envelope><e:Body><e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>ter:NotAuthorized</e:Value>\
                     </e:Subcode></e:Code><e:Reason><e:Text>no \u{7} way</e:Text></e:Reason></e:Fault></e:Body></e:Envelope>";
        let root = Element::parse(fault.as_bytes()).unwrap();
        let fault = answer(&root).unwrap().unwrap_err();
        assert!(fault.is_not_authorized() && !fault.is_not_supported());
        assert_eq!(fault.reason, "no  way");
        assert_eq!(answer(&Element::parse(b"<html><Body/></html>").unwrap()), None);
    }

    #[test]
    fn days_and_dates_are_inverse() {
        for days in [-719_468, -1, 0, 59, 11_016, 20_417, 2_932_896] {
            let (year, month, day) = civil(days);
            assert_eq!(days_from_civil(year, month, day), days);
        }
        assert_eq!(civil(20_417), (2025, 11, 25));
    }
}
