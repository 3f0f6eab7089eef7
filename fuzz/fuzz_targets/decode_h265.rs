//! The H.265 decoder.
#![no_main]

#[path = "../parts/units.rs"]
mod units;

use lattice_media::H265Decoder;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: &[u8]| {
    let mut decoder = H265Decoder::default();
    for (number, unit) in units::units(input, &[0, 0, 0, 1, 0x46]).into_iter().enumerate() {
        let _ = decoder.decode(number as u64, number == 0, None, unit).map(|pictures| pictures.len()).map_err(|error| error.to_string());
    }
});
