//! H.265 by `rust_h265`.
//!
//! The codec gives pictures in decoding order, each as soon as its access unit is ended by a delimiter; display
//! order is restored here, by as many pictures as the stream says that it reorders, which for most cameras is none.

use crate::picture::Planes;
use rust_h265::{Decoder, Frame, PixelData, parse_annex_b, parse_nal};
use std::collections::VecDeque;
use std::panic::{AssertUnwindSafe, catch_unwind};

/// An access unit delimiter: the picture before it is complete.
const DELIMITER: [u8; 3] = [0x46, 0x01, 0x50];
/// Pictures held back for display order at most.
const MAX_REORDER: usize = 8;

/// The codec accepted nothing of a unit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the codec refused the unit: {0}")]
pub struct RefusedH265(pub String);

/// A picture with the number of its access unit; 8 bits, 4:2:0.
pub struct Picture265 {
    /// Number of its access unit.
    pub number: u64,
    width: usize,
    height: usize,
    y: Vec<u8>,
    u: Vec<u8>,
    v: Vec<u8>,
    order: i32,
}

impl Picture265 {
    /// Its planes.
    pub fn planes(&self) -> Planes<'_> {
        let Self { width, height, y, u, v, .. } = self;
        Planes { width: *width, height: *height, y, u, v, stride: *width, chroma_stride: width.div_ceil(2) }
    }
}

/// A decoder of one stream.
pub struct H265Decoder {
    codec: Decoder,
    /// Numbers of units whose picture has not come.
    pending: VecDeque<u64>,
    held: Vec<Picture265>,
    /// The order of the last picture that was given, since the last IDR.
    last_order: Option<i32>,
    /// Pictures that come before others of lower order: found out by looking.
    reorder: usize,
}

impl Default for H265Decoder {
    fn default() -> Self {
        Self { codec: Decoder::new(), pending: VecDeque::new(), held: Vec::new(), last_order: None, reorder: 0 }
    }
}

impl H265Decoder {
    /// Decodes the Annex B bytes of one access unit; gives the pictures that are ready, in display order.
    ///
    /// # Errors
    /// [`RefusedH265`] when no picture came of it and the codec says why; the stream may go on.
    pub fn decode(&mut self, number: u64, keyframe: bool, unit: &[u8]) -> Result<Vec<Picture265>, RefusedH265> {
        self.pending.push_back(number);
        if self.pending.len() > 64 {
            self.pending.pop_front();
        }
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
            self.pending.retain(|pending| *pending != number);
            return refusal.map_or_else(|| Ok(Vec::new()), |refusal| Err(RefusedH265(refusal)));
        }
        let mut ready = Vec::new();
        if keyframe {
            // Orders begin anew; what was held comes before.
            self.held.sort_by_key(|picture| picture.order);
            ready.append(&mut self.held);
            self.last_order = None;
        }
        for frame in frames {
            let number = self.pending.pop_front().unwrap_or(number);
            if let Some(picture) = convert(&frame, number) {
                self.held.push(picture);
            }
        }
        self.note_order();
        while self.held.len() > self.reorder {
            let Some(first) = (0..self.held.len()).min_by_key(|index| self.held.get(*index).map(|picture| picture.order)) else {
                break;
            };
            let picture = self.held.swap_remove(first);
            self.last_order = Some(self.last_order.map_or(picture.order, |last| last.max(picture.order)));
            ready.push(picture);
        }
        Ok(ready)
    }

    /// A picture of lower order than one that was given already: more must be held back.
    fn note_order(&mut self) {
        let Some(last) = self.last_order else { return };
        if self.held.iter().any(|picture| picture.order < last) {
            self.reorder = (self.reorder + 1).min(MAX_REORDER);
        }
    }
}

fn convert(frame: &Frame, number: u64) -> Option<Picture265> {
    let (width, height) = (frame.width as usize, frame.height as usize);
    let (chroma_width, chroma_height) = (width.div_ceil(2), height.div_ceil(2));
    let shift = frame.bit_depth.saturating_sub(8);
    let full = frame.chroma_format_idc == 3;
    let chroma = |plane: &PixelData| {
        let bytes = eight_bits(plane, shift);
        if full { thin(&bytes, width, height) } else { bytes }
    };
    let (y, u, v) = (eight_bits(&frame.y, shift), chroma(&frame.u), chroma(&frame.v));
    let whole = y.len() >= width * height && u.len().min(v.len()) >= chroma_width * chroma_height && width > 0 && height > 0;
    whole.then_some(Picture265 { number, width, height, y, u, v, order: frame.pic_order_cnt })
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
