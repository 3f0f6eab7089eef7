//! Where the program reads time.

use lattice_core::{ClockPair, Mono, Wall};
use std::sync::OnceLock;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

static START: OnceLock<Instant> = OnceLock::new();
/// The clock starts here, so that a little before the first reading is still after zero.
const HEAD_START: Duration = Duration::from_secs(120);

/// Monotonic time now.
pub fn now() -> Mono {
    Mono::ZERO + HEAD_START + START.get_or_init(Instant::now).elapsed()
}

/// UTC now.
pub fn wall() -> Wall {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    Wall::from_unix_micros(since.as_micros() as i64)
}

/// Both clocks at one moment: of a few readings the one that was interrupted least.
pub fn pair() -> ClockPair {
    let read = || {
        let before = now();
        let wall = wall();
        let after = now();
        (after.since(before), ClockPair { mono: before + after.since(before) / 2, wall })
    };
    let best = (0..3).map(|_| read()).min_by_key(|(took, _)| *took);
    best.map_or_else(|| ClockPair { mono: now(), wall: wall() }, |(_, pair)| pair)
}

/// The moment of a monotonic deadline for the runtime's timer.
pub(crate) fn instant(at: Mono) -> tokio::time::Instant {
    tokio::time::Instant::now() + at.since(now())
}
