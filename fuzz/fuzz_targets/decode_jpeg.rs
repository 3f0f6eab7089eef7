//! The JPEG decoder.
#![no_main]

use lattice_media::decode_jpeg;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|file: &[u8]| {
    let _ = decode_jpeg(file).map(|picture| picture.planes().width);
});
