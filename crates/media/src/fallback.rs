//! H.264 that the usual decoder does not take, by `rust_h264`: interlaced streams, 10 bits, 4:2:2. It takes a
//! multiple of the time (docs/PERFORMANCE.md), and is one picture late: the codec gives a picture when the next begins.

use crate::order::{DisplayOrder, OwnPicture};
use rust_h264::decoder::{ChromaFormat, Decoder, Frame};
use rust_h264::nal::{NalUnitType, parse_annex_b};
use std::panic::{AssertUnwindSafe, catch_unwind};

/// The codec made nothing of a unit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the codec refused the unit: {0}")]
pub struct RefusedByFallback(pub String);

/// A decoder of one stream.
#[derive(Default)]
pub struct FallbackDecoder {
    codec: Option<Box<Decoder>>,
    order: DisplayOrder,
}

impl FallbackDecoder {
    /// Decodes the Annex B bytes of one access unit; gives the pictures that are ready, in display order. Two fields
    /// that come as units of their own give one picture, with the number of the first.
    ///
    /// # Errors
    /// [`RefusedByFallback`] when the codec says why no picture can come of it; the stream may go on.
    pub fn decode(
        &mut self,
        number: u64,
        keyframe: bool,
        reorder: Option<u8>,
        unit: &[u8],
    ) -> Result<Vec<OwnPicture>, RefusedByFallback> {
        self.order.reorders(reorder);
        let codec = self.codec.get_or_insert_with(|| Box::new(Decoder::new()));
        let decoded = catch_unwind(AssertUnwindSafe(|| {
            let (mut frames, mut refusal, mut slices) = (Vec::new(), None, 0);
            for nal in &parse_annex_b(unit) {
                let is_slice = matches!(nal.nal_unit_type, NalUnitType::Slice | NalUnitType::SliceIdr);
                match codec.decode_nal(nal) {
                    Ok(frame) => {
                        frames.extend(frame);
                        slices += usize::from(is_slice);
                    }
                    Err(error) => refusal = Some(format!("{error:?}")),
                }
            }
            (frames, refusal.filter(|_| slices == 0))
        }));
        let Ok((frames, refusal)) = decoded else {
            // A bug of the codec: it begins anew at the next keyframe.
            *self = Self::default();
            return Err(RefusedByFallback("the codec failed".into()));
        };
        // What comes now was begun by the units before this one.
        let first = self.order.pending.front().copied().unwrap_or(number);
        if !frames.is_empty() {
            self.order.pending.clear();
        }
        let pictures = frames.into_iter().filter_map(|frame| convert(frame, first));
        let mut ready = self.order.on_pictures(pictures);
        if keyframe {
            ready.extend(self.order.begin_anew());
        }
        match refusal {
            // A picture that comes out with the refusal is rather shown.
            Some(refusal) if ready.is_empty() => Err(RefusedByFallback(refusal)),
            Some(_) => Ok(ready),
            None => {
                self.order.on_unit(number);
                Ok(ready)
            }
        }
    }
}

fn convert(frame: Frame, number: u64) -> Option<OwnPicture> {
    let (width, height) = (frame.width as usize, frame.height as usize);
    let (bits, order, full_height) = (frame.bit_depth, frame.pic_order_cnt, frame.chroma_format == ChromaFormat::Yuv422);
    let eight = |plane: Vec<u8>| {
        if bits == 8 {
            return plane;
        }
        let shift = u32::from(bits.saturating_sub(8));
        plane.chunks_exact(2).map(|pair| (u16::from_le_bytes([pair[0], pair[1]]) >> shift).min(255) as u8).collect()
    };
    let chroma = |plane: Vec<u8>| {
        let plane = eight(plane);
        if !full_height {
            return plane;
        }
        plane.chunks(width.div_ceil(2).max(1)).step_by(2).flatten().copied().collect()
    };
    let planes = [eight(frame.y), chroma(frame.u), chroma(frame.v)];
    OwnPicture { number, width, height, planes, order }.whole()
}
