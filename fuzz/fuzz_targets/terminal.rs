//! What comes from a terminal: answers, keys and pastes, in pieces.
#![no_main]

use lattice_term::Sieve;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|pieces: Vec<&[u8]>| {
    let (mut sieve, mut input, mut bytes) = (Sieve::default(), Vec::new(), 0);
    for piece in pieces {
        bytes += piece.len();
        let _ = sieve.take(piece, &mut input);
    }
    sieve.give_up(&mut input);
    assert!(input.len() <= bytes, "nothing is made up");
});
