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
    /// Takes a packet's payload; `table` is the table id that is looked for. Gives the sections that are complete, whole and in
    /// force: their bytes behind the length, without the checksum. What is broken is counted.
    pub fn push(&mut self, table: u8, starts: bool, payload: &[u8], damaged: &mut u64) -> Vec<Vec<u8>> {
        let mut out = Vec::new();
        if starts {
            let Some((pointer, rest)) = payload.split_first() else { return out };
            // What stands before the place that the pointer names is the end of the section before (§2.4.4.1).
            let (tail, begin) = rest.split_at(usize::from(*pointer).min(rest.len()));
            self.go_on(table, tail, damaged, &mut out);
            self.bytes.clear();
            self.open = true;
            self.go_on(table, begin, damaged, &mut out);
        } else {
            self.go_on(table, payload, damaged, &mut out);
        }
        out
    }

    fn go_on(&mut self, table: u8, payload: &[u8], damaged: &mut u64, out: &mut Vec<Vec<u8>>) {
        if !self.open {
            return;
        }
        self.bytes.extend_from_slice(payload);
        // Several may follow one another; 0xff fills the rest of a packet.
        while let &[id, high, low, ..] = self.bytes.as_slice() {
            if id == 0xff {
                break;
            }
            let length = usize::from(u16::from_be_bytes([high & 0x0f, low]));
            let Some(whole) = self.bytes.get(..3 + length) else {
                self.open = self.bytes.len() < 3 + MAX_SECTION;
                return;
            };
            let sound = length >= 9 && crc(whole) == 0;
            *damaged += u64::from(!sound);
            // Bit 0 of the sixth byte: the table is the one in force, not the next one.
            let current = whole.get(5).is_some_and(|flags| flags & 1 != 0);
            if sound && id == table && current {
                out.extend(whole.get(3..3 + length - 4).map(<[u8]>::to_vec));
            }
            self.bytes.drain(..3 + length);
        }
        self.open = self.bytes.first().is_some_and(|id| *id != 0xff);
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

    /// The same with its checksum.
    fn table(change: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
        let mut table = PAT.to_vec();
        change(&mut table);
        let right = crc(&table[..12]);
        table[12..].copy_from_slice(&right.to_be_bytes());
        table
    }

    #[test]
    fn a_section_is_believed_with_its_checksum_only() {
        let table = table(|_| {});
        let payload = [&[0u8][..], &table].concat();
        let mut damaged = 0;
        assert_eq!(Sections::default().push(0, true, &payload, &mut damaged), [table[3..12].to_vec()]);
        // In two parts, and with a bit flipped.
        let mut sections = Sections::default();
        assert!(sections.push(0, true, &payload[..9], &mut damaged).is_empty());
        assert_eq!(sections.push(0, false, &payload[9..], &mut damaged).len(), 1);
        let mut flipped = payload.clone();
        flipped[11] ^= 1;
        assert_eq!((Sections::default().push(0, true, &flipped, &mut damaged), damaged), (vec![], 1));
    }

    #[test]
    fn only_the_table_that_is_meant_and_in_force_is_taken() {
        let mut damaged = 0;
        let other = table(|table| table[0] = 0x42);
        let next = table(|table| table[5] = 0xc0);
        for wrong in [other, next] {
            let payload = [&[0u8][..], &wrong].concat();
            assert_eq!(Sections::default().push(0, true, &payload, &mut damaged), Vec::<Vec<u8>>::new());
        }
        assert_eq!(damaged, 0);
    }

    #[test]
    fn the_end_before_the_pointer_belongs_to_the_section_before() {
        let table = table(|_| {});
        let mut damaged = 0;
        let mut sections = Sections::default();
        assert!(sections.push(0, true, &[&[0][..], &table[..10]].concat(), &mut damaged).is_empty());
        let second = [&[6][..], &table[10..], &table, &[0xff; 20]].concat();
        assert_eq!(sections.push(0, true, &second, &mut damaged), [table[3..12].to_vec(), table[3..12].to_vec()]);
        assert_eq!(damaged, 0);
    }
}
