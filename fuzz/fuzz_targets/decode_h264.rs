//! The usual H.264 decoder.
#![no_main]

#[path = "../parts/units.rs"]
mod units;

use lattice_media::H264Decoder;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: &[u8]| {
    let Ok(mut decoder) = H264Decoder::new() else { return };
    for (number, unit) in units::units(input, &[0, 0, 0, 1, 9]).into_iter().enumerate() {
        let _ = decoder.decode(number as u64, unit).map(|picture| picture.map(|picture| picture.planes.width));
    }
});
