//! Ranges of IPv4 addresses as people write them.

use std::fmt;
use std::net::Ipv4Addr;
use std::str::FromStr;

/// A search of more addresses than this asks first.
pub const MANY_ADDRESSES: u64 = 4096;

/// From a first to a last address, both included.
///
/// ```
/// use lattice_core::find::AddressRange;
/// let range: AddressRange = "192.0.2.0/24".parse()?;
/// assert_eq!((range.len(), range.to_string().as_str()), (254, "192.0.2.1-192.0.2.254"));
/// let range: AddressRange = "192.0.2.10–20".parse()?;
/// assert_eq!(range.len(), 11);
/// # Ok::<(), lattice_core::find::RangeError>(())
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AddressRange {
    first: u32,
    last: u32,
}

/// Why a range cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a range of addresses: {why}; write it like 192.0.2.0/24 or 192.0.2.10-192.0.2.40")]
pub struct RangeError {
    text: String,
    why: &'static str,
}

impl AddressRange {
    /// A network by an address of it and its leading bits, without the network's own and its broadcast address
    /// where it has them.
    #[must_use]
    pub fn network(address: Ipv4Addr, prefix: u8) -> Self {
        let mask = u32::MAX.checked_shl(32 - u32::from(prefix.min(32))).unwrap_or(0);
        let mask = if prefix >= 32 { u32::MAX } else { mask };
        let (first, last) = (u32::from(address) & mask, u32::from(address) | !mask);
        if prefix >= 31 { Self { first, last } } else { Self { first: first + 1, last: last - 1 } }
    }

    /// How many addresses.
    #[must_use]
    #[allow(clippy::len_without_is_empty, reason = "a range has one address at least")]
    pub const fn len(&self) -> u64 {
        (self.last - self.first) as u64 + 1
    }

    /// Every address in order.
    pub fn addresses(&self) -> impl Iterator<Item = Ipv4Addr> + use<> {
        (self.first..=self.last).map(Ipv4Addr::from)
    }

    /// Whether every address is on this machine itself.
    #[must_use]
    pub fn is_loopback(&self) -> bool {
        Ipv4Addr::from(self.first).is_loopback() && Ipv4Addr::from(self.last).is_loopback()
    }

    /// The first address.
    #[must_use]
    pub fn first(&self) -> Ipv4Addr {
        Ipv4Addr::from(self.first)
    }

    /// Whether an address is within.
    #[must_use]
    pub fn contains(&self, address: Ipv4Addr) -> bool {
        (self.first..=self.last).contains(&u32::from(address))
    }
}

impl FromStr for AddressRange {
    type Err = RangeError;

    fn from_str(text: &str) -> Result<Self, RangeError> {
        let error = |why| RangeError { text: text.trim().to_owned(), why };
        let address =
            |text: &str| text.trim().parse::<Ipv4Addr>().map_err(|_| error("an address has four numbers from 0 to 255"));
        if let Some((network, prefix)) = text.split_once('/') {
            let prefix: u8 =
                prefix.trim().parse().ok().filter(|prefix| *prefix <= 32).ok_or_else(|| error("the bits after / are 0 to 32"))?;
            return Ok(Self::network(address(network)?, prefix));
        }
        let Some((first, last)) = text.split_once(['-', '–', '—']) else {
            let one = u32::from(address(text)?);
            return Ok(Self { first: one, last: one });
        };
        let first = address(first)?;
        let last = match last.trim().parse::<u8>() {
            // The last number alone: the rest is that of the first address.
            Ok(number) => {
                let [a, b, c, _] = first.octets();
                Ipv4Addr::new(a, b, c, number)
            }
            Err(_) => address(last)?,
        };
        if last < first {
            return Err(error("the last address comes before the first"));
        }
        Ok(Self { first: first.into(), last: last.into() })
    }
}

impl fmt::Display for AddressRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (first, last) = (Ipv4Addr::from(self.first), Ipv4Addr::from(self.last));
        if first == last { write!(f, "{first}") } else { write!(f, "{first}-{last}") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_they_are_written() {
        for (text, first, count) in [
            ("127.77.0.0/24", "127.77.0.1", 254),
            ("127.77.0.9/32", "127.77.0.9", 1),
            ("127.77.0.9", "127.77.0.9", 1),
            ("127.77.0.8/31", "127.77.0.8", 2),
            ("10.0.0.0/8", "10.0.0.1", 16_777_214),
            ("0.0.0.0/0", "0.0.0.1", 4_294_967_294),
            ("192.0.2.250 - 192.0.3.5", "192.0.2.250", 12),
            ("192.0.2.10-20", "192.0.2.10", 11),
        ] {
            let range: AddressRange = text.parse().unwrap();
            assert_eq!((range.first().to_string().as_str(), range.len()), (first, count), "{text}");
        }
    }

    #[test]
    fn what_is_no_range_is_refused_with_a_sentence() {
        for (text, want) in [
            ("192.0.2.0/33", "0 to 32"),
            ("192.0.2/24", "four numbers"),
            ("192.0.2.9-192.0.2.1", "before the first"),
            ("harbour", "four numbers"),
            ("", "four numbers"),
        ] {
            let error = text.parse::<AddressRange>().unwrap_err().to_string();
            assert!(error.contains(want) && error.contains("write it like"), "{text}: {error}");
        }
    }
}
