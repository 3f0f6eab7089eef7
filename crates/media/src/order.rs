//! Pictures of their own planes, and the order in which they are shown.

use crate::picture::Planes;
use std::collections::VecDeque;

/// Pictures held back for display order at most.
const MAX_REORDER: usize = 8;
/// Units whose picture may still be to come.
const MAX_PENDING: usize = 64;

/// A picture with the number of its access unit; 8 bits, 4:2:0.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OwnPicture {
    /// Number of its access unit.
    pub number: u64,
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Luma, blue and red difference, without padding.
    pub planes: [Vec<u8>; 3],
    /// Its picture order count: a lower one is shown first, between two keyframes.
    pub order: i32,
}

impl OwnPicture {
    /// The picture, if its planes are as large as they must be.
    pub fn whole(self) -> Option<Self> {
        let chroma = self.width.div_ceil(2) * self.height.div_ceil(2);
        let [y, u, v] = &self.planes;
        let fits = y.len() >= self.width * self.height && u.len().min(v.len()) >= chroma;
        (fits && self.width > 0 && self.height > 0).then_some(self)
    }

    /// Its planes.
    pub fn planes(&self) -> Planes<'_> {
        let [y, u, v] = &self.planes;
        let (width, height) = (self.width, self.height);
        Planes { width, height, y, u, v, stride: width, chroma_stride: width.div_ceil(2) }
    }
}

/// Puts pictures that come in decoding order into display order (ISO/IEC 23008-2 §C.5.2): by as many pictures as the stream
/// says that it reorders, else as many as it is seen to, which for most cameras is none.
#[derive(Debug, Default)]
pub struct DisplayOrder {
    /// Numbers of units whose picture has not come.
    pub pending: VecDeque<u64>,
    held: Vec<OwnPicture>,
    /// The order of the last picture that was given, since the last keyframe.
    last: Option<i32>,
    /// Pictures that come before others of lower order: found out by looking.
    reorder: usize,
    /// The stream says so.
    told: Option<usize>,
}

impl DisplayOrder {
    /// The stream says by how many pictures it reorders.
    pub fn reorders(&mut self, told: Option<u8>) {
        self.told = told.map(usize::from);
    }

    /// A unit goes to the codec.
    pub fn on_unit(&mut self, number: u64) {
        self.pending.push_back(number);
        if self.pending.len() > MAX_PENDING {
            self.pending.pop_front();
        }
    }

    /// A keyframe begins: orders begin anew, and what was held comes before.
    pub fn begin_anew(&mut self) -> Vec<OwnPicture> {
        self.held.sort_by_key(|picture| picture.order);
        self.last = None;
        std::mem::take(&mut self.held)
    }

    /// Pictures came out of the codec; gives those whose turn it is.
    pub fn on_pictures(&mut self, pictures: impl IntoIterator<Item = OwnPicture>) -> Vec<OwnPicture> {
        self.held.extend(pictures);
        // One of lower order than one that was given already: more must be held back.
        if self.last.is_some_and(|last| self.held.iter().any(|picture| picture.order < last)) {
            self.reorder = (self.reorder + 1).min(MAX_REORDER);
            // The same picture again is no further proof.
            self.last = None;
        }
        let mut ready = Vec::new();
        while self.held.len() > self.told.unwrap_or(0).max(self.reorder) {
            let Some(first) = (0..self.held.len()).min_by_key(|index| self.held.get(*index).map(|picture| picture.order)) else {
                break;
            };
            let picture = self.held.swap_remove(first);
            self.last = Some(self.last.map_or(picture.order, |last| last.max(picture.order)));
            ready.push(picture);
        }
        ready
    }
}
