//! The H.265 decoder.
#![no_main]

use lattice_media::H265Decoder;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|units: Vec<&[u8]>| {
    let mut decoder = H265Decoder::default();
    for (number, unit) in units.iter().take(32).enumerate() {
        let _ = decoder.decode(number as u64, number == 0, None, unit).map(|pictures| pictures.len()).map_err(|error| error.to_string());
    }
});
