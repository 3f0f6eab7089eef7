//! H.264 by the bundled `openh264`, through a thin wrapper over its C interface.
//!
//! The wrapper exists because concealed pictures must be kept and marked: the codec's usual Rust
//! interface gives an error instead of the picture. Pictures come in display order, carrying the
//! number of their access unit; with B-frames a picture or two late. Decoder threads stay at zero
//! (the codec's own threading is not safe); parallelism is one decoder per stream.

use crate::picture::Planes;
use openh264_sys2 as sys;
use openh264_sys2::API as _;
use std::ptr::null_mut;

/// The codec accepted nothing of a unit; its bit set of reasons.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the codec refused the unit with state {0:#x}")]
pub struct RefusedUnit(pub i32);

/// A picture that came out, borrowed from the codec until its next call.
#[derive(Debug)]
pub struct Decoded<'a> {
    /// Number given with the access unit that this picture was coded in.
    pub number: u64,
    /// The picture.
    pub planes: Planes<'a>,
    /// The codec filled in parts of it.
    pub concealed: bool,
}

/// A decoder of one stream.
pub struct H264Decoder {
    raw: *mut *const sys::ISVCDecoderVtbl,
    size: (i32, i32),
}

// SAFETY: the codec keeps all state behind the pointer and uses no thread-local data; access is
// through `&mut self`, so from one thread at a time.
unsafe impl Send for H264Decoder {}

impl std::fmt::Debug for H264Decoder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("H264Decoder").field("size", &self.size).finish_non_exhaustive()
    }
}

/// Whether the codec was built with its assembly routines (nasm present at build time), asked of
/// the linked code itself: without them its processor detection finds nothing.
#[must_use]
pub fn has_assembly() -> bool {
    unsafe extern "C" {
        #[link_name = "WelsCPUFeatureDetect"]
        fn detect(processors: *mut std::os::raw::c_int) -> u32;
    }
    let mut processors = 0;
    // SAFETY: a function of the linked codec (codec/common/inc/cpu.h) that only writes its argument.
    unsafe { detect(&raw mut processors) != 0 }
}

impl H264Decoder {
    /// A decoder, quiet and with concealment.
    ///
    /// # Errors
    /// [`RefusedUnit`] with the codec's code when it cannot be set up (memory).
    pub fn new() -> Result<Self, RefusedUnit> {
        let api = sys::DynamicAPI::from_source();
        let mut raw: *mut *const sys::ISVCDecoderVtbl = null_mut();
        // SAFETY: the codec writes a valid object or reports failure.
        let state = unsafe { api.WelsCreateDecoder(&raw mut raw) };
        if state != 0 || raw.is_null() {
            return Err(RefusedUnit(state as i32));
        }
        let decoder = Self { raw, size: (0, 0) };
        // SAFETY: all-zero is a valid value of this plain C structure.
        let mut parameters: sys::SDecodingParam = unsafe { std::mem::zeroed() };
        parameters.uiTargetDqLayer = u8::MAX;
        parameters.eEcActiveIdc = sys::ERROR_CON_SLICE_COPY;
        parameters.sVideoProperty.eVideoBsType = sys::VIDEO_BITSTREAM_AVC;
        let mut level = sys::WELS_LOG_QUIET;
        // SAFETY: the object was just created; the table's functions belong to it.
        let state = unsafe {
            let table = &**decoder.raw;
            if let Some(set) = table.SetOption {
                set(decoder.raw, sys::DECODER_OPTION_TRACE_LEVEL, (&raw mut level).cast());
            }
            table.Initialize.map_or(-1, |initialize| initialize(decoder.raw, &raw const parameters))
        };
        if state == 0 { Ok(decoder) } else { Err(RefusedUnit(state as i32)) }
    }

    /// Decodes the Annex B bytes of one access unit, and gives the next picture in display order if
    /// one is ready.
    ///
    /// # Errors
    /// [`RefusedUnit`] when no picture came and the codec says why; the stream may go on.
    pub fn decode(&mut self, number: u64, unit: &[u8]) -> Result<Option<Decoded<'_>>, RefusedUnit> {
        let Ok(length) = i32::try_from(unit.len()) else { return Err(RefusedUnit(sys::dsInvalidArgument)) };
        self.call(|raw, planes, info| {
            info.uiInBsTimeStamp = number;
            // SAFETY: `raw` is a live decoder, the input outlives the call, the outputs are ours.
            unsafe {
                (**raw)
                    .DecodeFrameNoDelay
                    .map_or(sys::dsInvalidArgument, |decode| decode(raw, unit.as_ptr(), length, planes, info))
            }
        })
    }

    /// The next picture that is held back for display order; `None` when there are no more. To be
    /// called until `None` before a stream ends or its parameter sets change.
    ///
    /// # Errors
    /// [`RefusedUnit`], as [`H264Decoder::decode`].
    pub fn flush(&mut self) -> Result<Option<Decoded<'_>>, RefusedUnit> {
        self.call(|raw, planes, info| {
            // SAFETY: as in `decode`.
            unsafe { (**raw).FlushFrame.map_or(sys::dsInvalidArgument, |flush| flush(raw, planes, info)) }
        })
    }

    fn call(
        &mut self,
        run: impl FnOnce(*mut *const sys::ISVCDecoderVtbl, *mut *mut u8, &mut sys::SBufferInfo) -> i32,
    ) -> Result<Option<Decoded<'_>>, RefusedUnit> {
        let mut planes: [*mut u8; 3] = [null_mut(); 3];
        // SAFETY: all-zero is a valid value of this plain C structure.
        let mut info: sys::SBufferInfo = unsafe { std::mem::zeroed() };
        let state = run(self.raw, planes.as_mut_ptr(), &mut info);
        let refusal = state & !sys::dsDataErrorConcealed & !sys::dsFramePending;
        if info.iBufferStatus != 1 || planes.iter().any(|plane| plane.is_null()) {
            return if refusal == 0 { Ok(None) } else { Err(RefusedUnit(state)) };
        }
        // SAFETY: with status 1 the codec has filled this member.
        let buffer = unsafe { info.UsrData.sSystemBuffer };
        self.size = (buffer.iWidth, buffer.iHeight);
        let size = |n: i32| usize::try_from(n).unwrap_or(0);
        let (width, height) = (size(buffer.iWidth), size(buffer.iHeight));
        let (stride, chroma_stride) = (size(buffer.iStride[0]), size(buffer.iStride[1]));
        if width == 0 || height == 0 || stride < width || chroma_stride < width.div_ceil(2) {
            return Err(RefusedUnit(state));
        }
        // SAFETY: the codec guarantees `rows` rows of each plane until its next call, which needs
        // `&mut self` and so ends this borrow. The last row is taken to the picture's width only.
        let plane = |pointer: *mut u8, stride: usize, width: usize, rows: usize| unsafe {
            std::slice::from_raw_parts(pointer, stride * (rows - 1) + width)
        };
        let [y, u, v] = planes;
        let chroma = (width.div_ceil(2), height.div_ceil(2));
        Ok(Some(Decoded {
            number: info.uiOutYuvTimeStamp,
            planes: Planes {
                width,
                height,
                y: plane(y, stride, width, height),
                u: plane(u, chroma_stride, chroma.0, chroma.1),
                v: plane(v, chroma_stride, chroma.0, chroma.1),
                stride,
                chroma_stride,
            },
            concealed: state != sys::dsErrorFree,
        }))
    }
}

impl Drop for H264Decoder {
    fn drop(&mut self) {
        // SAFETY: created in `new`, destroyed once, not used afterwards.
        unsafe {
            if let Some(uninitialize) = (**self.raw).Uninitialize {
                uninitialize(self.raw);
            }
            sys::DynamicAPI::from_source().WelsDestroyDecoder(self.raw);
        }
    }
}
