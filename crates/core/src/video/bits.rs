//! Reading bit fields of an H.264 parameter set (ISO/IEC 14496-10 §7.2, §9.1).

use crate::wire::Truncated;

/// Removes emulation prevention bytes (§7.4.1): 00 00 03 becomes 00 00.
pub fn unescape(nal: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(nal.len());
    let mut zeros = 0;
    for byte in nal {
        if zeros >= 2 && *byte == 3 {
            zeros = 0;
            continue;
        }
        zeros = if *byte == 0 { zeros + 1 } else { 0 };
        out.push(*byte);
    }
    out
}

/// A cursor over bits, most significant first.
pub struct Bits<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Bits<'a> {
    /// Bits from the first of these bytes on.
    pub const fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0 }
    }

    /// The next bit.
    pub fn bit(&mut self) -> Result<bool, Truncated> {
        let byte = self.bytes.get(self.at / 8).ok_or(Truncated)?;
        let bit = byte >> (7 - self.at % 8) & 1;
        self.at += 1;
        Ok(bit == 1)
    }

    /// `u(n)`, n at most 32.
    pub fn u(&mut self, n: u32) -> Result<u32, Truncated> {
        (0..n).try_fold(0u32, |value, _| Ok(value << 1 | u32::from(self.bit()?)))
    }

    /// `ue(v)`; codes longer than 32 bits are no parameter of any stream.
    pub fn ue(&mut self) -> Result<u32, Truncated> {
        let mut zeros = 0;
        while !self.bit()? {
            zeros += 1;
            if zeros > 31 {
                return Err(Truncated);
            }
        }
        let rest = self.u(zeros)?;
        Ok(((1u64 << zeros) - 1 + u64::from(rest)) as u32)
    }

    /// `se(v)`.
    pub fn se(&mut self) -> Result<i32, Truncated> {
        let code = i64::from(self.ue()?);
        let magnitude = (code + 1) / 2;
        Ok(if code % 2 == 0 { -magnitude } else { magnitude } as i32)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn exp_golomb_codes_follow_the_table() {
        // 1 010 011 00100 00101 (§9.1 table 9-2), padded.
        let mut bits = Bits::new(&[0b1010_0110, 0b0100_0010, 0b1000_0000]);
        let got: Vec<u32> = (0..5).map(|_| bits.ue().unwrap()).collect();
        assert_eq!(got, [0, 1, 2, 3, 4]);
        let mut bits = Bits::new(&[0b0100_1100, 0b1000_0101, 0]);
        let got: Vec<i32> = (0..4).map(|_| bits.se().unwrap()).collect();
        assert_eq!(got, [1, -1, 2, -2]);
        assert_eq!(Bits::new(&[0; 8]).ue(), Err(Truncated));
    }

    #[test]
    fn emulation_prevention_is_taken_out() {
        assert_eq!(unescape(&[0, 0, 3, 1, 0, 0, 3, 0, 0, 3]), [0, 0, 1, 0, 0, 0, 0]);
    }
}
