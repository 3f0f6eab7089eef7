//! SRTP and SRTCP (RFC 3711), with keys as session descriptions carry them (RFC 4568 §6).
//!
//! Done: AES in counter mode with 128 and 256 bits (RFC 6188), HMAC-SHA1 tags of 80 and 32 bits, master key
//! identifiers that are passed over. Not done: f8 mode, key derivation rates, re-keying within a session.

mod protection;

pub use protection::Protection;

use crate::Secret;
use aes::cipher::{KeyIvInit as _, StreamCipher as _};
use base64::Engine as _;
use base64::alphabet::STANDARD as ALPHABET;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use hmac::{Hmac, KeyInit as _, Mac as _};
use sha1::Sha1;
use std::collections::BTreeMap;

/// Length of the master salt.
const SALT: usize = 14;
/// SSRCs of one session that are kept apart.
const MAX_SOURCES: usize = 16;

/// How packets are protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Suite {
    /// Bytes of the master key: 16 or 32.
    pub key: usize,
    /// Bytes of a packet's tag: 10 or 4.
    pub tag: usize,
}

impl Suite {
    /// The suite with this name (RFC 4568 §6.2, RFC 6188 §4).
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        match name.to_ascii_uppercase().as_str() {
            "AES_CM_128_HMAC_SHA1_80" => Some(Self { key: 16, tag: 10 }),
            "AES_CM_128_HMAC_SHA1_32" => Some(Self { key: 16, tag: 4 }),
            "AES_256_CM_HMAC_SHA1_80" => Some(Self { key: 32, tag: 10 }),
            "AES_256_CM_HMAC_SHA1_32" => Some(Self { key: 32, tag: 4 }),
            _ => None,
        }
    }
}

/// A master key with its salt; it never shows itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MasterKey {
    /// How packets are protected.
    pub suite: Suite,
    /// Bytes of a master key identifier before the tag of each packet.
    pub identifier: usize,
    bytes: Secret<Vec<u8>>,
}

/// Why a key cannot be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum KeyError {
    /// Not Base64 or hexadecimal.
    #[error("the key is neither Base64 nor hexadecimal")]
    Encoding,
    /// Of a length that no suite has.
    #[error("the key has {0} bytes: master key and salt together have 30, or 46 for AES-256")]
    Length(usize),
}

impl MasterKey {
    /// Reads the value of an `a=crypto` line: `1 AES_CM_128_HMAC_SHA1_80 inline:...`; `None` for a suite or a form that is
    /// not done here.
    #[must_use]
    pub fn from_description(value: &str) -> Option<Self> {
        let mut words = value.split_whitespace();
        let suite = Suite::from_name(words.nth(1)?)?;
        let parameters = words.next()?.split(';').next()?.strip_prefix("inline:")?;
        let mut parts = parameters.split('|');
        let bytes = decode(parts.next()?)?;
        // Of the parts behind it one is a lifetime; an identifier is written `value:length`.
        let identifier = parts.find_map(|part| part.split_once(':')?.1.parse::<usize>().ok()).unwrap_or(0);
        (bytes.len() == suite.key + SALT && identifier <= 128).then(|| Self { suite, identifier, bytes: Secret::new(bytes) })
    }

    /// Reads a key that a person entered: master key and salt in Base64 or hexadecimal, for tags of 80 bits.
    ///
    /// # Errors
    /// [`KeyError`].
    pub fn entered(text: &str) -> Result<Self, KeyError> {
        let text = text.trim().trim_start_matches("inline:");
        let plain: String = text.chars().filter(|c| !matches!(c, ' ' | ':' | '-')).collect();
        let hexadecimal = plain.len().is_multiple_of(2) && !plain.is_empty() && plain.bytes().all(|b| b.is_ascii_hexdigit());
        let from_hex = || {
            (0..plain.len()).step_by(2).filter_map(|at| u8::from_str_radix(plain.get(at..at + 2)?, 16).ok()).collect::<Vec<u8>>()
        };
        let bytes =
            if hexadecimal { from_hex() } else { decode(text.split('|').next().unwrap_or("")).ok_or(KeyError::Encoding)? };
        let key = match bytes.len() {
            30 => 16,
            46 => 32,
            other => return Err(KeyError::Length(other)),
        };
        Ok(Self { suite: Suite { key, tag: 10 }, identifier: 0, bytes: Secret::new(bytes) })
    }

    fn key(&self) -> &[u8] {
        self.bytes.reveal().get(..self.suite.key).unwrap_or_default()
    }

    fn salt(&self) -> [u8; SALT] {
        let salt = self.bytes.reveal().get(self.suite.key..).unwrap_or_default();
        salt.try_into().unwrap_or([0; SALT])
    }

    /// A session key (§4.3.1) of this label and length.
    fn derive(&self, label: u8, length: usize) -> Vec<u8> {
        let mut x = [0; 16];
        for (to, from) in x.iter_mut().zip(self.salt()) {
            *to = from;
        }
        if let Some(byte) = x.get_mut(7) {
            *byte ^= label;
        }
        let mut out = vec![0; length];
        keystream(self.key(), &x, &mut out);
        out
    }
}

fn decode(text: &str) -> Option<Vec<u8>> {
    let config = GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent);
    GeneralPurpose::new(&ALPHABET, config).decode(text.trim()).ok()
}

/// Joins bytes with the key stream that begins at this counter block (§4.1.1).
fn keystream(key: &[u8], counter: &[u8; 16], bytes: &mut [u8]) {
    if let Ok(mut cipher) = ctr::Ctr128BE::<aes::Aes128>::new_from_slices(key, counter) {
        cipher.apply_keystream(bytes);
    } else if let Ok(mut cipher) = ctr::Ctr128BE::<aes::Aes256>::new_from_slices(key, counter) {
        cipher.apply_keystream(bytes);
    }
}

/// Session keys of one of the two protocols.
struct Keys {
    cipher: Vec<u8>,
    salt: Vec<u8>,
    authentication: Vec<u8>,
}

impl Keys {
    fn new(master: &MasterKey, first_label: u8) -> Self {
        Self {
            cipher: master.derive(first_label, master.suite.key),
            authentication: master.derive(first_label + 1, 20),
            salt: master.derive(first_label + 2, SALT),
        }
    }

    fn apply(&self, ssrc: u32, index: u64, bytes: &mut [u8]) {
        let mut counter = [0; 16];
        for (to, from) in counter.iter_mut().zip(&self.salt) {
            *to = *from;
        }
        let (ssrc, index) = (ssrc.to_be_bytes(), index.to_be_bytes());
        let places = counter.iter_mut().skip(4);
        for (to, from) in places.zip(ssrc.iter().chain(index.iter().skip(2))) {
            *to ^= from;
        }
        keystream(&self.cipher, &counter, bytes);
    }

    fn tag(&self, parts: &[&[u8]]) -> [u8; 20] {
        let Ok(mut mac) = Hmac::<Sha1>::new_from_slice(&self.authentication) else { return [0; 20] };
        for part in parts {
            mac.update(part);
        }
        mac.finalize().into_bytes().into()
    }
}

impl std::fmt::Debug for Keys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("***")
    }
}

/// Where a source's numbers are (§3.3.1): how often they have wrapped, and the highest.
#[derive(Debug, Clone, Copy)]
struct Position {
    rollover: u32,
    highest: u16,
}

/// Takes the protection off packets, or puts it on.
#[derive(Debug)]
pub struct Srtp {
    rtp: Keys,
    rtcp: Keys,
    suite: Suite,
    identifier: usize,
    sources: BTreeMap<u32, Position>,
    sent_rtcp: u32,
}

/// A packet whose tag does not fit: of another key, or changed on its way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the packet's tag does not fit the key")]
pub struct NotAuthentic;

impl Srtp {
    /// Session keys out of a master key.
    #[must_use]
    pub fn new(master: &MasterKey) -> Self {
        Self {
            rtp: Keys::new(master, 0),
            rtcp: Keys::new(master, 3),
            suite: master.suite,
            identifier: master.identifier,
            sources: BTreeMap::new(),
            sent_rtcp: 0,
        }
    }

    /// The RTP packet under its protection.
    ///
    /// # Errors
    /// [`NotAuthentic`], also for what is too short to be one.
    pub fn unprotect(&mut self, packet: &[u8]) -> Result<Vec<u8>, NotAuthentic> {
        let (ssrc, sequence, header) = rtp_header(packet).ok_or(NotAuthentic)?;
        let end = packet.len().checked_sub(self.suite.tag + self.identifier).filter(|end| *end >= header).ok_or(NotAuthentic)?;
        let (body, tail) = packet.split_at_checked(end).ok_or(NotAuthentic)?;
        let tag = tail.get(self.identifier..).ok_or(NotAuthentic)?;
        let rollover = self.estimate(ssrc, sequence);
        let want = self.rtp.tag(&[body, &rollover.to_be_bytes()]);
        if !same(tag, want.get(..self.suite.tag).unwrap_or_default()) {
            return Err(NotAuthentic);
        }
        self.note(ssrc, sequence, rollover);
        let mut out = body.to_vec();
        let index = u64::from(rollover) << 16 | u64::from(sequence);
        self.rtp.apply(ssrc, index, out.get_mut(header..).unwrap_or_default());
        Ok(out)
    }

    /// An RTP packet with its protection; for stand-ins and tests.
    ///
    /// # Errors
    /// [`NotAuthentic`] for what is no RTP packet.
    pub fn protect(&mut self, packet: &[u8]) -> Result<Vec<u8>, NotAuthentic> {
        let (ssrc, sequence, header) = rtp_header(packet).ok_or(NotAuthentic)?;
        let rollover = self.estimate(ssrc, sequence);
        self.note(ssrc, sequence, rollover);
        let mut out = packet.to_vec();
        let index = u64::from(rollover) << 16 | u64::from(sequence);
        self.rtp.apply(ssrc, index, out.get_mut(header..).unwrap_or_default());
        let tag = self.rtp.tag(&[&out, &rollover.to_be_bytes()]);
        out.extend(std::iter::repeat_n(0, self.identifier));
        out.extend(tag.iter().take(self.suite.tag));
        Ok(out)
    }

    /// The RTCP compound under its protection (§3.4); its tag has 80 bits in every suite.
    ///
    /// # Errors
    /// [`NotAuthentic`].
    pub fn unprotect_rtcp(&self, packet: &[u8]) -> Result<Vec<u8>, NotAuthentic> {
        const TAG: usize = 10;
        let end = packet.len().checked_sub(TAG + self.identifier + 4).filter(|end| *end >= 8).ok_or(NotAuthentic)?;
        let signed = packet.get(..end + 4).ok_or(NotAuthentic)?;
        let tag = packet.get(packet.len() - TAG..).ok_or(NotAuthentic)?;
        if !same(tag, self.rtcp.tag(&[signed]).get(..TAG).unwrap_or_default()) {
            return Err(NotAuthentic);
        }
        let number = |at: usize| packet.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_be_bytes);
        let (ssrc, word) = (number(4), number(end));
        let mut out = packet.get(..end).unwrap_or_default().to_vec();
        if word & 0x8000_0000 != 0 {
            self.rtcp.apply(ssrc, u64::from(word & 0x7fff_ffff), out.get_mut(8..).unwrap_or_default());
        }
        Ok(out)
    }

    /// An RTCP compound with its protection.
    pub fn protect_rtcp(&mut self, packet: &[u8]) -> Vec<u8> {
        self.sent_rtcp = (self.sent_rtcp + 1) & 0x7fff_ffff;
        let ssrc = packet.get(4..8).and_then(|bytes| bytes.try_into().ok()).map_or(0, u32::from_be_bytes);
        let mut out = packet.to_vec();
        self.rtcp.apply(ssrc, u64::from(self.sent_rtcp), out.get_mut(8..).unwrap_or_default());
        out.extend((self.sent_rtcp | 0x8000_0000).to_be_bytes());
        let tag = self.rtcp.tag(&[&out]);
        out.extend(std::iter::repeat_n(0, self.identifier));
        out.extend(tag.iter().take(10));
        out
    }

    /// How often the numbers have wrapped at this one (appendix A).
    fn estimate(&self, ssrc: u32, sequence: u16) -> u32 {
        let Some(Position { rollover, highest }) = self.sources.get(&ssrc).copied() else { return 0 };
        let (new, old) = (i32::from(sequence), i32::from(highest));
        if old < 0x8000 {
            if new - old > 0x8000 { rollover.wrapping_sub(1) } else { rollover }
        } else if old - 0x8000 > new {
            rollover.wrapping_add(1)
        } else {
            rollover
        }
    }

    fn note(&mut self, ssrc: u32, sequence: u16, rollover: u32) {
        if self.sources.len() >= MAX_SOURCES && !self.sources.contains_key(&ssrc) {
            self.sources.clear();
        }
        let position = self.sources.entry(ssrc).or_insert(Position { rollover, highest: sequence });
        let ahead = (rollover, sequence) > (position.rollover, position.highest) && rollover != position.rollover.wrapping_sub(1);
        if ahead {
            *position = Position { rollover, highest: sequence };
        }
    }
}

/// SSRC, sequence number and length of the header, with its sources and extension.
fn rtp_header(packet: &[u8]) -> Option<(u32, u16, usize)> {
    let first = *packet.first().filter(|first| **first >> 6 == 2)?;
    let number = |at: usize| packet.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).map(u16::from_be_bytes);
    let ssrc = u32::from_be_bytes(packet.get(8..12)?.try_into().ok()?);
    let mut length = 12 + 4 * usize::from(first & 0x0f);
    if first & 0x10 != 0 {
        length += 4 + 4 * usize::from(number(length + 2)?);
    }
    (packet.len() >= length).then_some((ssrc, number(2)?, length))
}

/// Compares without telling by its time where the first difference is.
fn same(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a.iter().zip(b).fold(0, |difference, (a, b)| difference | (a ^ b)) == 0
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn hex(text: &str) -> Vec<u8> {
        (0..text.len()).step_by(2).map(|at| u8::from_str_radix(&text[at..at + 2], 16).unwrap()).collect()
    }

    #[test]
    fn the_vectors_of_the_standard_come_out() {
        // RFC 3711 B.2: AES-CM key stream; B.3: key derivation.
        let mut stream = vec![0; 32];
        keystream(
            &hex("2B7E151628AED2A6ABF7158809CF4F3C"),
            &hex("F0F1F2F3F4F5F6F7F8F9FAFBFCFD0000").try_into().unwrap(),
            &mut stream,
        );
        assert_eq!(stream, hex("E03EAD0935C95E80E166B16DD92B4EB4D23513162B02D0F72A43A2FE4A5F97AB"));
        let master = MasterKey::entered("E1F97A0D3E018BE0D64FA32C06DE41390EC675AD498AFEEBB6960B3AABE6").unwrap();
        assert_eq!(master.derive(0, 16), hex("C61E7A93744F39EE10734AFE3FF7A087"));
        assert_eq!(master.derive(2, 14), hex("30CBBC08863D8C85D49DB34A9AE1"));
        assert_eq!(master.derive(1, 20), hex("CEBE321F6FF7716B6FD4AB49AF256A156D38BAA4"));
    }

    fn packet(sequence: u16, body: &[u8]) -> Vec<u8> {
        let mut out = vec![0x80, 96];
        out.extend(sequence.to_be_bytes());
        out.extend([0, 0, 0, 7, 0, 0, 0, 9]);
        out.extend_from_slice(body);
        out
    }

    #[test]
    fn packets_come_through_wraps_and_other_keys_do_not() {
        let line = "1 AES_CM_128_HMAC_SHA1_32 inline:WVNfX19zZW1jdGwgKCkgewkyMjA7fQp9CnVubGVz|2^20|1:4";
        let master = MasterKey::from_description(line).unwrap();
        assert_eq!((master.suite, master.identifier), (Suite { key: 16, tag: 4 }, 4));
        assert!(!format!("{master:?}").contains("89"), "a key does not show");
        let (mut sender, mut receiver) = (Srtp::new(&master), Srtp::new(&master));
        for n in 0..140_000u32 {
            let plain = packet((n + 65_000) as u16, &n.to_be_bytes());
            let wire = sender.protect(&plain).unwrap();
            assert_eq!(wire.len(), plain.len() + 8);
            if n % 997 != 0 {
                assert_eq!(receiver.unprotect(&wire), Ok(plain), "{n}");
            }
        }
        let other = MasterKey::entered(&"ab".repeat(30)).unwrap();
        let wire = sender.protect(&packet(1, b"x")).unwrap();
        assert_eq!(Srtp::new(&other).unprotect(&wire), Err(NotAuthentic));
        let report = [0x80, 200, 0, 1, 0, 0, 0, 9, 1, 2, 3, 4];
        let wire = sender.protect_rtcp(&report);
        assert_eq!(receiver.unprotect_rtcp(&wire).as_deref(), Ok(&report[..]));
        assert_eq!(Srtp::new(&other).unprotect_rtcp(&wire), Err(NotAuthentic));
    }

    #[test]
    fn keys_are_read_or_refused_with_a_sentence() {
        assert_eq!(MasterKey::entered("inline:WVNfX19zZW1jdGwgKCkgewkyMjA7fQp9CnVubGVz|2^20").unwrap().suite.key, 16);
        assert_eq!(MasterKey::entered("not a key!"), Err(KeyError::Encoding));
        assert_eq!(MasterKey::entered("abcd"), Err(KeyError::Length(2)));
        for bad in ["", "1 F8_128_HMAC_SHA1_80 inline:WVNf", "1 AES_CM_128_HMAC_SHA1_80 inline:WVNf", "1 AES_CM_128_HMAC_SHA1_80"]
        {
            assert_eq!(MasterKey::from_description(bad), None, "{bad}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let mut srtp = Srtp::new(&MasterKey::entered(&"01".repeat(30)).unwrap());
            let _ = srtp.unprotect(&bytes);
            let _ = srtp.unprotect_rtcp(&bytes);
        }
    }
}
