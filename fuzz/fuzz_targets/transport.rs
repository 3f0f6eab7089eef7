//! A transport stream whose tables may change, in pieces.
#![no_main]

use lattice_core::Mono;
use lattice_core::ts::Demux;
use libfuzzer_sys::fuzz_target;
use std::time::Duration;

fuzz_target!(|pieces: Vec<(u8, &[u8])>| {
    let (mut demux, mut now, mut units) = (Demux::default(), Mono::from_millis(1), 0usize);
    let mut bytes = 0;
    for (wait, piece) in pieces {
        now = now + Duration::from_millis(u64::from(wait));
        bytes += piece.len();
        // Where it would be noise, it is made packets: the fuzzer finds what is in them.
        let mut packets = Vec::with_capacity(piece.len() + 188);
        for chunk in piece.chunks(187) {
            packets.push(0x47);
            packets.extend_from_slice(chunk);
            packets.resize(packets.len().next_multiple_of(188), 0xff);
        }
        demux.push(now, if wait & 1 == 0 { piece } else { &packets }, &mut |_| units += 1);
        let _ = (demux.codec(), demux.audio(), demux.counts());
    }
    assert!(units <= bytes + 1);
});
