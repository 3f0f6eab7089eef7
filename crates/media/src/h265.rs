//! H.265 by `rust_h265`.
//!
//! The codec gives pictures in decoding order, each as soon as its access unit is ended by a delimiter.

use crate::order::{DisplayOrder, OwnPicture};
use rust_h265::{Decoder, Frame, PixelData, parse_annex_b, parse_nal};
use std::panic::{AssertUnwindSafe, catch_unwind};

/// An access unit delimiter: the picture before it is complete.
const DELIMITER: [u8; 3] = [0x46, 0x01, 0x50];

/// The codec accepted nothing of a unit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the codec refused the unit: {0}")]
pub struct RefusedH265(pub String);

/// A decoder of one stream.
pub struct H265Decoder {
    codec: Decoder,
    order: DisplayOrder,
}

impl Default for H265Decoder {
    fn default() -> Self {
        Self { codec: Decoder::new(), order: DisplayOrder::default() }
    }
}

impl H265Decoder {
    /// Decodes the Annex B bytes of one access unit; gives the pictures that are ready, in display order, which differs from
    /// that of coding by `reorder` pictures at most.
    ///
    /// # Errors
    /// [`RefusedH265`] when no picture came of it and the codec says why; the stream may go on.
    pub fn decode(
        &mut self,
        number: u64,
        keyframe: bool,
        reorder: Option<u8>,
        unit: &[u8],
    ) -> Result<Vec<OwnPicture>, RefusedH265> {
        self.order.reorders(reorder);
        self.order.on_unit(number);
        let codec = &mut self.codec;
        let decoded = catch_unwind(AssertUnwindSafe(|| {
            let (mut frames, mut refusal) = (Vec::new(), None);
            for nal in parse_annex_b(unit).iter().chain(parse_nal(&DELIMITER).iter()) {
                match codec.decode_nal(nal) {
                    Ok(frame) => frames.extend(frame),
                    Err(error) => refusal = Some(format!("{error:?}")),
                }
            }
            (frames, refusal)
        }));
        let Ok((frames, refusal)) = decoded else {
            // A bug of the codec: it begins anew at the next keyframe.
            *self = Self::default();
            return Err(RefusedH265("the codec failed".into()));
        };
        if frames.is_empty() {
            self.order.pending.retain(|pending| *pending != number);
            return refusal.map_or_else(|| Ok(Vec::new()), |refusal| Err(RefusedH265(refusal)));
        }
        let mut ready = if keyframe { self.order.begin_anew() } else { Vec::new() };
        let mut pictures = Vec::new();
        for frame in frames {
            let number = self.order.pending.pop_front().unwrap_or(number);
            pictures.extend(convert(&frame, number));
        }
        ready.extend(self.order.on_pictures(pictures));
        Ok(ready)
    }
}

fn convert(frame: &Frame, number: u64) -> Option<OwnPicture> {
    let (width, height) = (frame.width as usize, frame.height as usize);
    let shift = frame.bit_depth.saturating_sub(8);
    let full = frame.chroma_format_idc == 3;
    let chroma = |plane: &PixelData| {
        let bytes = eight_bits(plane, shift);
        if full { thin(&bytes, width, height) } else { bytes }
    };
    let planes = [eight_bits(&frame.y, shift), chroma(&frame.u), chroma(&frame.v)];
    OwnPicture { number, width, height, planes, order: frame.pic_order_cnt }.whole()
}

fn eight_bits(plane: &PixelData, shift: u8) -> Vec<u8> {
    match plane {
        PixelData::U8(bytes) => bytes.clone(),
        PixelData::U16(words) => words.iter().map(|word| (word >> shift) as u8).collect(),
    }
}

/// Every second sample of every second row: chroma of 4:4:4 for a tile of 4:2:0.
fn thin(bytes: &[u8], width: usize, height: usize) -> Vec<u8> {
    (0..height).step_by(2).flat_map(|row| bytes.iter().skip(row * width).take(width).step_by(2).copied()).collect()
}
