//! The other H.264 decoder.
#![no_main]

#[path = "../parts/units.rs"]
mod units;

use lattice_media::FallbackDecoder;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|input: &[u8]| {
    let mut decoder = FallbackDecoder::default();
    for (number, unit) in units::units(input, &[0, 0, 0, 1, 9]).into_iter().enumerate() {
        let _ = decoder.decode(number as u64, number == 0, None, unit).map(|pictures| pictures.len()).map_err(|error| error.to_string());
    }
});
