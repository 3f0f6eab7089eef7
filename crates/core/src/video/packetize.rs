//! The sending side: Annex B access units into RTP payloads (RFC 6184 §5.6 to §5.8).

use super::h264::{FU_A, NalKind, STAP_A};

/// The NAL units of Annex B bytes (ISO/IEC 14496-10 annex B), without start codes.
pub fn annex_b(bytes: &[u8]) -> impl Iterator<Item = &[u8]> {
    let mut rest = skip_to_nal(bytes);
    std::iter::from_fn(move || {
        let nal = rest?;
        let end = nal.windows(3).position(|w| w == [0, 0, 1]).unwrap_or(nal.len());
        let (nal, tail) = nal.split_at_checked(end)?;
        rest = skip_to_nal(tail);
        // The zero of a four-byte start code, and trailing zeros (§B.1), belong to no NAL unit.
        let length = nal.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
        nal.get(..length)
    })
    .filter(|nal| !nal.is_empty())
}

fn skip_to_nal(bytes: &[u8]) -> Option<&[u8]> {
    let at = bytes.windows(3).position(|w| w == [0, 0, 1])?;
    bytes.get(at + 3..)
}

/// The payloads of one access unit, each at most `limit` bytes (40 at least): parameter sets and
/// other small leading units together in a STAP-A, slices whole or in FU-A fragments.
#[must_use]
pub fn packetize(nals: &[&[u8]], limit: usize) -> Vec<Vec<u8>> {
    let limit = limit.max(40);
    let mut out = Vec::new();
    let small = nals.iter().take_while(|nal| nal.first().is_some_and(|header| !NalKind::of(*header).is_slice())).count();
    let (leading, slices) = nals.split_at(small);
    let together = 1 + leading.iter().map(|nal| nal.len() + 2).sum::<usize>();
    if leading.len() > 1 && together <= limit {
        let reference = leading.iter().filter_map(|nal| nal.first()).map(|header| header & 0x60).max().unwrap_or(0);
        let mut payload = vec![reference | STAP_A];
        for nal in leading {
            payload.extend((nal.len() as u16).to_be_bytes());
            payload.extend_from_slice(nal);
        }
        out.push(payload);
    } else {
        for nal in leading {
            fragment(nal, limit, &mut out);
        }
    }
    for nal in slices {
        fragment(nal, limit, &mut out);
    }
    out
}

fn fragment(nal: &[u8], limit: usize, out: &mut Vec<Vec<u8>>) {
    if nal.len() <= limit {
        out.push(nal.to_vec());
        return;
    }
    let Some((header, body)) = nal.split_first() else { return };
    let pieces = body.chunks(limit - 2);
    let last = pieces.len() - 1;
    for (index, piece) in pieces.enumerate() {
        let start = u8::from(index == 0) << 7;
        let end = u8::from(index == last) << 6;
        let mut payload = Vec::with_capacity(piece.len() + 2);
        payload.extend([header & 0xe0 | FU_A, start | end | header & 0x1f]);
        payload.extend_from_slice(piece);
        out.push(payload);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Mono;
    use crate::sdp::Codec;
    use crate::video::{Assembler, Ordered};
    use proptest::prelude::*;

    #[test]
    fn start_codes_of_both_lengths_are_found() {
        let bytes = [0, 0, 0, 1, 0x67, 1, 0, 0, 1, 0x68, 2, 0, 0, 0, 0, 1, 0x65, 3, 0];
        assert_eq!(annex_b(&bytes).collect::<Vec<_>>(), [&[0x67, 1][..], &[0x68, 2], &[0x65, 3]]);
    }

    proptest! {
        #[test]
        fn what_is_packetized_is_reassembled(body in proptest::collection::vec(1u8.., 1..4000), limit in 40usize..1500, sets: bool) {
            let slice = [&[0x65, 0x80][..], &body].concat();
            let sps: &[u8] = &[0x67, 0x42, 0, 0x1e, 0xda, 0x05, 0x06, 0x64]; // 320x192
            let pps: &[u8] = &[0x68, 1];
            let nals: Vec<&[u8]> = if sets { vec![sps, pps, &slice] } else { vec![&slice] };
            let payloads = packetize(&nals, limit);
            let mut assembler = Assembler::new(&Codec::H264, &[]);
            let mut units = Vec::new();
            for (n, payload) in payloads.iter().enumerate() {
                prop_assert!(payload.len() <= limit);
                let marker = n + 1 == payloads.len();
                units.extend(assembler.push(Mono::ZERO, Ordered { payload, timestamp: 0, marker, arrival: Mono::ZERO, gap_before: false }));
            }
            prop_assert_eq!(units.len(), 1);
            let data = units[0].data.clone().unwrap_or_default();
            prop_assert_eq!(annex_b(&data).collect::<Vec<_>>(), nals);
        }
    }
}
