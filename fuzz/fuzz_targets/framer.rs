//! The bytes of a control connection, as the socket loop uses the framer: memory and work stay bounded.
#![no_main]

use lattice_core::rtsp::{Frame, Framer, MAX_MESSAGE};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|pieces: Vec<&[u8]>| {
    let (mut framer, mut input) = (Framer::default(), Vec::new());
    for piece in pieces {
        input.extend_from_slice(piece);
        let (mut used, mut turns) = (0, 0usize);
        loop {
            match framer.next(&input[used..]) {
                Ok(Some((frame, n))) => {
                    assert!(n > 0 && used + n <= input.len());
                    used += n;
                    turns += 1;
                    if let Frame::Packet { data, .. } = frame {
                        assert!(data.len() <= 65_535);
                    }
                }
                Ok(None) => break,
                Err(_) => return,
            }
            assert!(turns <= input.len() + 1, "each turn uses something up");
        }
        input.drain(..used);
        assert!(input.len() <= 2 * MAX_MESSAGE + piece.len() + 4, "what is kept is bounded: {}", input.len());
    }
});
