//! The fixed header (RFC 3550 §5.1).

use crate::wire::{Reader, Truncated};

/// Synchronisation source identifier.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Ssrc(pub u32);

/// Payload type, 0 to 127.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct PayloadType(pub u8);

/// Sequence number as it stands on the wire, wrapping at 65536.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seq16(pub u16);

/// Why bytes are not an RTP packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RtpError {
    /// Shorter than its header says.
    #[error("cut short")]
    Truncated,
    /// Not version 2.
    #[error("version {0}, not 2")]
    Version(u8),
    /// The padding count is zero or larger than the payload.
    #[error("impossible padding")]
    Padding,
}

impl From<Truncated> for RtpError {
    fn from(_: Truncated) -> Self {
        Self::Truncated
    }
}

/// One RTP packet; borrows its payload.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RtpPacket<'a> {
    /// The marker bit; for video, the last packet of an access unit.
    pub marker: bool,
    /// What the payload is, by the session description.
    pub payload_type: PayloadType,
    /// Position in the packet sequence.
    pub seq: Seq16,
    /// RTP timestamp, wrapping at 2^32.
    pub timestamp: u32,
    /// Who sends.
    pub ssrc: Ssrc,
    /// Payload without padding.
    pub payload: &'a [u8],
}

impl<'a> RtpPacket<'a> {
    /// Reads a packet.
    ///
    /// # Errors
    /// [`RtpError`], with the reason, so that it can be counted.
    pub fn parse(bytes: &'a [u8]) -> Result<Self, RtpError> {
        let mut reader = Reader::new(bytes);
        let first = reader.u8()?;
        if first >> 6 != 2 {
            return Err(RtpError::Version(first >> 6));
        }
        let second = reader.u8()?;
        let seq = Seq16(reader.u16()?);
        let timestamp = reader.u32()?;
        let ssrc = Ssrc(reader.u32()?);
        reader.take(usize::from(first & 0x0f) * 4)?;
        if first & 0x10 != 0 {
            reader.take(2)?;
            let words = reader.u16()?;
            reader.take(usize::from(words) * 4)?;
        }
        let mut payload = reader.rest();
        if first & 0x20 != 0 {
            let count = usize::from(*payload.last().ok_or(RtpError::Padding)?);
            let keep = payload.len().checked_sub(count).filter(|_| count > 0).ok_or(RtpError::Padding)?;
            payload = payload.get(..keep).ok_or(RtpError::Padding)?;
        }
        Ok(Self { marker: second & 0x80 != 0, payload_type: PayloadType(second & 0x7f), seq, timestamp, ssrc, payload })
    }

    /// Appends the packet's bytes: version 2, no padding, no extension, no CSRC.
    pub fn emit(&self, out: &mut Vec<u8>) {
        out.push(0x80);
        out.push(u8::from(self.marker) << 7 | (self.payload_type.0 & 0x7f));
        out.extend_from_slice(&self.seq.0.to_be_bytes());
        out.extend_from_slice(&self.timestamp.to_be_bytes());
        out.extend_from_slice(&self.ssrc.0.to_be_bytes());
        out.extend_from_slice(self.payload);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn extension_csrc_and_padding_are_taken_off() {
        let mut bytes = vec![0xb1, 0xe0, 0, 7, 0, 0, 0, 9, 1, 2, 3, 4];
        bytes.extend([0, 0, 0, 1]); // one CSRC
        bytes.extend([0xbe, 0xde, 0, 1, 9, 9, 9, 9]); // an extension of one word
        bytes.extend([5, 6, 0, 2]); // payload, padding of two
        let packet = RtpPacket::parse(&bytes).unwrap();
        assert_eq!((packet.payload, packet.marker, packet.payload_type.0), (&[5, 6][..], true, 96));
    }

    #[test]
    fn refusals_say_why() {
        assert_eq!(RtpPacket::parse(&[]), Err(RtpError::Truncated));
        assert_eq!(RtpPacket::parse(&[0x40; 20]), Err(RtpError::Version(1)));
        let mut padded = vec![0xa0; 12];
        padded.push(0);
        assert_eq!(RtpPacket::parse(&padded), Err(RtpError::Padding));
    }

    proptest! {
        #[test]
        fn parse_undoes_emit(marker: bool, pt in 0u8..128, seq: u16, timestamp: u32, ssrc: u32, payload: Vec<u8>) {
            let packet = RtpPacket { marker, payload_type: PayloadType(pt), seq: Seq16(seq), timestamp, ssrc: Ssrc(ssrc), payload: &payload };
            let mut bytes = Vec::new();
            packet.emit(&mut bytes);
            prop_assert_eq!(RtpPacket::parse(&bytes), Ok(packet));
        }

        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let _ = RtpPacket::parse(&bytes);
        }
    }
}
