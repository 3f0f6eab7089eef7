//! RTCP (RFC 3550 §6): sender reports and BYE in, receiver reports with SDES out.
//!
//! Not done: APP, extended reports (skipped); SDES of the sender (skipped).

mod reporter;

pub use reporter::Reporter;

use crate::NtpTime;
use crate::rtp::Ssrc;
use crate::wire::{Reader, Truncated};

const SENDER_REPORT: u8 = 200;
const RECEIVER_REPORT: u8 = 201;
const SOURCE_DESCRIPTION: u8 = 202;
const BYE: u8 = 203;
/// Payload-specific feedback (RFC 4585 §6.1), and its formats.
const PAYLOAD_FEEDBACK: u8 = 206;
const PICTURE_LOSS: u8 = 1;
const FULL_INTRA_REQUEST: u8 = 4;

/// A sender report's sender part (§6.4.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SenderReport {
    /// Who sends.
    pub ssrc: Ssrc,
    /// The sender's wall clock when it sent the report.
    pub ntp: NtpTime,
    /// The same moment on the RTP clock.
    pub rtp_timestamp: u32,
    /// Packets sent so far.
    pub packets: u32,
    /// Payload bytes sent so far.
    pub octets: u32,
}

/// A reception report block (§6.4.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ReportBlock {
    /// The source reported on.
    pub ssrc: Ssrc,
    /// Share lost since the last report, in 1/256.
    pub fraction_lost: u8,
    /// Packets lost so far; 24 bits signed on the wire.
    pub cumulative_lost: i32,
    /// Cycles and highest sequence number received.
    pub extended_highest: u32,
    /// Interarrival jitter in RTP ticks.
    pub jitter: u32,
    /// Middle bits of the last sender report's NTP time; 0 when none came.
    pub last_sender_report: u32,
    /// Since that report, in 1/65536 s.
    pub delay_since: u32,
}

/// One packet of a compound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RtcpPacket {
    /// A sender report and its blocks.
    SenderReport(SenderReport, Vec<ReportBlock>),
    /// A receiver report: who reports, and its blocks.
    ReceiverReport(Ssrc, Vec<ReportBlock>),
    /// These sources leave.
    Bye(Vec<Ssrc>),
    /// A keyframe of this source is asked for, by a picture loss indication or a full intra request.
    KeyframeRequest(Ssrc),
    /// A type that is not read here.
    Other(u8),
}

/// Why a compound is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RtcpError {
    /// Shorter than its header says.
    #[error("cut short")]
    Truncated,
    /// Not version 2.
    #[error("version {0}, not 2")]
    Version(u8),
}

impl From<Truncated> for RtcpError {
    fn from(_: Truncated) -> Self {
        Self::Truncated
    }
}

/// Reads the packets of a compound (§6.1). A compound that begins with something other than a report is accepted (RFC 5506); a
/// packet of it that is not understood is left out, as its length says where the next one begins.
///
/// # Errors
/// [`RtcpError`] where the compound holds nothing that is understood.
pub fn parse(bytes: &[u8]) -> Result<Vec<RtcpPacket>, RtcpError> {
    let mut reader = Reader::new(bytes);
    let (mut packets, mut wrong) = (Vec::new(), None);
    while !reader.rest().is_empty() {
        match parse_next(&mut reader) {
            Ok(Ok(packet)) => packets.push(packet),
            Ok(Err(error)) => wrong = Some(error),
            Err(error) => {
                wrong = Some(error);
                break; // where the next one begins is not known
            }
        }
    }
    match wrong {
        Some(error) if packets.is_empty() => Err(error),
        _ => Ok(packets),
    }
}

/// The next packet, or what is wrong with it; an error where its length is not known either.
fn parse_next(reader: &mut Reader<'_>) -> Result<Result<RtcpPacket, RtcpError>, RtcpError> {
    let first = reader.u8()?;
    if first >> 6 != 2 {
        return Err(RtcpError::Version(first >> 6));
    }
    let kind = reader.u8()?;
    let words = reader.u16()?;
    let body = Reader::new(reader.take(usize::from(words) * 4)?);
    Ok(parse_one(first & 0x1f, kind, body))
}

fn parse_one(count: u8, kind: u8, mut body: Reader<'_>) -> Result<RtcpPacket, RtcpError> {
    Ok(match kind {
        SENDER_REPORT => {
            let report = SenderReport {
                ssrc: Ssrc(body.u32()?),
                ntp: NtpTime(body.u64()?),
                rtp_timestamp: body.u32()?,
                packets: body.u32()?,
                octets: body.u32()?,
            };
            RtcpPacket::SenderReport(report, parse_blocks(count, body)?)
        }
        RECEIVER_REPORT => {
            let ssrc = Ssrc(body.u32()?);
            RtcpPacket::ReceiverReport(ssrc, parse_blocks(count, body)?)
        }
        BYE => {
            let sources = (0..count).map(|_| body.u32().map(Ssrc)).collect::<Result<_, _>>()?;
            RtcpPacket::Bye(sources)
        }
        PAYLOAD_FEEDBACK if count == PICTURE_LOSS => {
            body.u32()?;
            RtcpPacket::KeyframeRequest(Ssrc(body.u32()?))
        }
        PAYLOAD_FEEDBACK if count == FULL_INTRA_REQUEST => {
            body.u64()?;
            RtcpPacket::KeyframeRequest(Ssrc(body.u32()?))
        }
        other => RtcpPacket::Other(other),
    })
}

fn parse_blocks(count: u8, mut body: Reader<'_>) -> Result<Vec<ReportBlock>, RtcpError> {
    (0..count).map(|_| parse_block(&mut body).map_err(RtcpError::from)).collect()
}

fn parse_block(body: &mut Reader<'_>) -> Result<ReportBlock, Truncated> {
    let ssrc = Ssrc(body.u32()?);
    let lost = body.u32()?;
    Ok(ReportBlock {
        ssrc,
        fraction_lost: (lost >> 24) as u8,
        cumulative_lost: ((lost << 8) as i32) >> 8,
        extended_highest: body.u32()?,
        jitter: body.u32()?,
        last_sender_report: body.u32()?,
        delay_since: body.u32()?,
    })
}

/// Appends a sender report without blocks, as a sender of one stream does.
pub fn emit_sender_report(report: &SenderReport, out: &mut Vec<u8>) {
    out.extend([0x80, SENDER_REPORT, 0, 6]);
    out.extend(report.ssrc.0.to_be_bytes());
    out.extend(report.ntp.0.to_be_bytes());
    for word in [report.rtp_timestamp, report.packets, report.octets] {
        out.extend(word.to_be_bytes());
    }
}

/// Appends a receiver report with its blocks (31 at most, the rest is left out).
pub fn emit_receiver_report(from: Ssrc, blocks: &[ReportBlock], out: &mut Vec<u8>) {
    let blocks = blocks.get(..blocks.len().min(31)).unwrap_or_default();
    out.extend([0x80 | blocks.len() as u8, RECEIVER_REPORT]);
    out.extend((1 + 6 * blocks.len() as u16).to_be_bytes());
    out.extend(from.0.to_be_bytes());
    for block in blocks {
        out.extend(block.ssrc.0.to_be_bytes());
        let lost = block.cumulative_lost.clamp(-0x80_0000, 0x7f_ffff) as u32 & 0xff_ffff;
        out.extend((u32::from(block.fraction_lost) << 24 | lost).to_be_bytes());
        for word in [block.extended_highest, block.jitter, block.last_sender_report, block.delay_since] {
            out.extend(word.to_be_bytes());
        }
    }
}

/// Appends a source description with a canonical name (§6.5.1), which every compound must carry.
pub fn emit_canonical_name(from: Ssrc, name: &str, out: &mut Vec<u8>) {
    let name = name.as_bytes().get(..name.len().min(255)).unwrap_or_default();
    let text = 2 + name.len();
    let padded = (text + 1).next_multiple_of(4); // at least one zero ends the items
    out.extend([0x81, SOURCE_DESCRIPTION]);
    out.extend((1 + padded as u16 / 4).to_be_bytes());
    out.extend(from.0.to_be_bytes());
    out.extend([1, name.len() as u8]);
    out.extend(name);
    out.extend(std::iter::repeat_n(0, padded - text));
}

/// Appends a picture loss indication (RFC 4585 §6.3.1): a keyframe is wanted.
pub fn emit_picture_loss(from: Ssrc, media: Ssrc, out: &mut Vec<u8>) {
    out.extend([0x80 | PICTURE_LOSS, PAYLOAD_FEEDBACK, 0, 2]);
    out.extend(from.0.to_be_bytes());
    out.extend(media.0.to_be_bytes());
}

/// Appends a full intra request (RFC 5104 §4.3.1); `sequence` is another one for each new request.
pub fn emit_full_intra_request(from: Ssrc, media: Ssrc, sequence: u8, out: &mut Vec<u8>) {
    out.extend([0x80 | FULL_INTRA_REQUEST, PAYLOAD_FEEDBACK, 0, 4]);
    out.extend(from.0.to_be_bytes());
    out.extend([0; 4]); // the source stands in the entry
    out.extend(media.0.to_be_bytes());
    out.extend([sequence, 0, 0, 0]);
}

/// Appends a BYE for one source.
pub fn emit_bye(from: Ssrc, out: &mut Vec<u8>) {
    out.extend([0x81, BYE, 0, 1]);
    out.extend(from.0.to_be_bytes());
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_sender_report_round_trips() {
        let report = SenderReport { ssrc: Ssrc(7), ntp: NtpTime(0x1234_5678_9abc_def0), rtp_timestamp: 5, packets: 6, octets: 7 };
        let mut bytes = Vec::new();
        emit_sender_report(&report, &mut bytes);
        emit_canonical_name(Ssrc(7), "mast", &mut bytes);
        emit_bye(Ssrc(7), &mut bytes);
        let got = parse(&bytes).unwrap();
        assert_eq!(got, [RtcpPacket::SenderReport(report, vec![]), RtcpPacket::Other(202), RtcpPacket::Bye(vec![Ssrc(7)])]);
    }

    #[test]
    fn keyframe_requests_are_written_as_the_standards_draw_them() {
        let mut bytes = Vec::new();
        emit_picture_loss(Ssrc(1), Ssrc(2), &mut bytes);
        assert_eq!(bytes, [0x81, 206, 0, 2, 0, 0, 0, 1, 0, 0, 0, 2]);
        emit_full_intra_request(Ssrc(1), Ssrc(2), 9, &mut bytes);
        assert_eq!(bytes[12..], [0x84, 206, 0, 4, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 2, 9, 0, 0, 0]);
        assert_eq!(parse(&bytes), Ok(vec![RtcpPacket::KeyframeRequest(Ssrc(2)); 2]));
    }

    #[test]
    fn one_that_is_broken_takes_no_other_with_it() {
        let report = SenderReport { ssrc: Ssrc(7), ntp: NtpTime(1), rtp_timestamp: 5, packets: 6, octets: 7 };
        let mut bytes = vec![0x81, RECEIVER_REPORT, 0, 1, 0, 0, 0, 9]; // it announces a block that is not there
        emit_sender_report(&report, &mut bytes);
        bytes.extend([0x80, SENDER_REPORT, 0, 200]); // and the rest is cut off
        assert_eq!(parse(&bytes), Ok(vec![RtcpPacket::SenderReport(report, vec![])]));
        assert_eq!(parse(&bytes[..8]), Err(RtcpError::Truncated));
    }

    #[test]
    fn negative_loss_is_carried_in_24_bits() {
        let block = ReportBlock {
            ssrc: Ssrc(1),
            fraction_lost: 0,
            cumulative_lost: -3,
            extended_highest: 1,
            jitter: 2,
            last_sender_report: 3,
            delay_since: 4,
        };
        let mut bytes = Vec::new();
        emit_receiver_report(Ssrc(2), &[block], &mut bytes);
        assert_eq!(parse(&bytes).unwrap(), [RtcpPacket::ReceiverReport(Ssrc(2), vec![block])]);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let _ = parse(&bytes);
        }

        #[test]
        fn canonical_names_of_any_length_stay_aligned(name in ".{0,300}") {
            let mut bytes = Vec::new();
            emit_canonical_name(Ssrc(1), &name, &mut bytes);
            prop_assert_eq!(parse(&bytes), Ok(vec![RtcpPacket::Other(202)]));
        }
    }
}
