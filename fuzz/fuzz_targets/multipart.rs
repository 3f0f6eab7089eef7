//! Pictures in one HTTP answer, in pieces.
#![no_main]

use lattice_core::multipart::Parts;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: (&str, Vec<&[u8]>)| {
    let (boundary, pieces) = input;
    let Some(mut parts) = Parts::new(&format!("multipart/x-mixed-replace; boundary={boundary}")) else { return };
    for piece in pieces {
        parts.push(piece);
        loop {
            match parts.next() {
                Ok(Some(_)) => {}
                Ok(None) => break,
                Err(_) => return,
            }
        }
    }
});
