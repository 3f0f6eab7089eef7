//! The usual H.264 decoder.
#![no_main]

use lattice_media::H264Decoder;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|units: Vec<&[u8]>| {
    let Ok(mut decoder) = H264Decoder::new() else { return };
    for (number, unit) in units.iter().take(32).enumerate() {
        let _ = decoder.decode(number as u64, unit).map(|picture| picture.map(|picture| picture.planes.width));
    }
});
