//! Tables in sections (§2.4.4): put together from packets, and believed only with their checksum.

/// Longest section: 12 bits of length.
const MAX_SECTION: usize = 4096;

/// The section that one PID is in the middle of.
#[derive(Debug, Default)]
pub struct Sections {
    bytes: Vec<u8>,
    open: bool,
}

impl Sections {
    /// Takes a packet's payload. Gives a section when one is complete and whole: its bytes behind the length, without the
    /// checksum. One that is broken is counted.
    pub fn push(&mut self, starts: bool, payload: &[u8], damaged: &mut u64) -> Option<Vec<u8>> {
        if starts {
            let (pointer, rest) = payload.split_first()?;
            self.bytes.clear();
            self.bytes.extend_from_slice(rest.get(usize::from(*pointer)..)?);
            self.open = true;
        } else if self.open && self.bytes.len() < MAX_SECTION {
            self.bytes.extend_from_slice(payload);
        }
        if !self.open {
            return None;
        }
        let &[_, high, low, ..] = self.bytes.as_slice() else { return None };
        let length = usize::from(u16::from_be_bytes([high & 0x0f, low]));
        let whole = self.bytes.get(..3 + length)?;
        let sound = length >= 9 && crc(whole) == 0;
        let section = whole.get(3..(3 + length).saturating_sub(4)).map(<[u8]>::to_vec);
        self.open = false;
        if !sound {
            *damaged += 1;
            return None;
        }
        section
    }
}

/// The checksum of annex A; over a section with its own checksum it is zero.
fn crc(bytes: &[u8]) -> u32 {
    bytes.iter().fold(u32::MAX, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte) << 24, |crc, _| if crc & 0x8000_0000 == 0 { crc << 1 } else { crc << 1 ^ 0x04c1_1db7 })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A program association table with one program at PID 0x100.
    const PAT: [u8; 16] = [0x00, 0xb0, 0x0d, 0x00, 0x01, 0xc1, 0x00, 0x00, 0x00, 0x01, 0xe1, 0x00, 0xb6, 0x0d, 0x45, 0x38];

    #[test]
    fn a_section_is_believed_with_its_checksum_only() {
        let mut table = PAT.to_vec();
        let right = crc(&table[..12]);
        table[12..].copy_from_slice(&right.to_be_bytes());
        let payload = [&[0u8][..], &table].concat();
        let mut damaged = 0;
        let section = Sections::default().push(true, &payload, &mut damaged).unwrap();
        assert_eq!(section, table[3..12]);
        // In two parts, and with a bit flipped.
        let mut sections = Sections::default();
        assert_eq!(sections.push(true, &payload[..9], &mut damaged), None);
        assert!(sections.push(false, &payload[9..], &mut damaged).is_some());
        let mut flipped = payload.clone();
        flipped[11] ^= 1;
        assert_eq!((Sections::default().push(true, &flipped, &mut damaged), damaged), (None, 1));
    }
}
