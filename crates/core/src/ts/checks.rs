//! The checks of ETSI TR 101 290 that a receiver can make: those of priority 1, and of priority 2 the ones on errors,
//! tables, PCR and PTS (§5.2.1 and §5.2.2).
//!
//! Times are the stream's own, by its clock reference, and by arrival: something is too late only where it is by both, so
//! that a path that holds packets up is not taken for a fault of the sender. Not made: the accuracy of the PCR
//! (±500 ns), which a network hides, and what is told of conditional access.

use crate::Mono;
use std::time::Duration;

/// A check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Check {
    /// 1.1: two or more beginnings of packets in a row are not where they should be.
    SyncLoss,
    /// 1.2: a packet does not begin with 0x47.
    SyncByte,
    /// 1.3: no PAT within 0.5 s, another table in its place, or it is scrambled.
    Pat,
    /// 1.4: packets are missing, out of order, or more than twice there.
    Continuity,
    /// 1.5: no PMT within 0.5 s, or it is scrambled.
    Pmt,
    /// 1.6: the video that the tables name has not come for 5 s.
    Pid,
    /// 2.1: packets are marked as damaged.
    Transport,
    /// 2.2: a table's checksum is wrong.
    Crc,
    /// 2.3a: more than 100 ms from one PCR to the next.
    PcrRepetition,
    /// 2.3b: the PCR jumps by more than 100 ms, and nothing announced it.
    PcrDiscontinuity,
    /// 2.5: more than 700 ms from one PTS to the next.
    Pts,
}

impl Check {
    /// All of them, priority 1 first.
    pub const ALL: [Self; 11] = [
        Self::SyncLoss,
        Self::SyncByte,
        Self::Pat,
        Self::Continuity,
        Self::Pmt,
        Self::Pid,
        Self::Transport,
        Self::Crc,
        Self::PcrRepetition,
        Self::PcrDiscontinuity,
        Self::Pts,
    ];

    /// The name in the report.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::SyncLoss => "TS_sync_loss",
            Self::SyncByte => "Sync_byte_error",
            Self::Pat => "PAT_error_2",
            Self::Continuity => "Continuity_count_error",
            Self::Pmt => "PMT_error_2",
            Self::Pid => "PID_error",
            Self::Transport => "Transport_error",
            Self::Crc => "CRC_error",
            Self::PcrRepetition => "PCR_repetition_error",
            Self::PcrDiscontinuity => "PCR_discontinuity_indicator_error",
            Self::Pts => "PTS_error",
        }
    }

    /// Its priority: without 1 nothing can be decoded, 2 is to be watched.
    #[must_use]
    pub const fn priority(self) -> u8 {
        match self {
            Self::SyncLoss | Self::SyncByte | Self::Pat | Self::Continuity | Self::Pmt | Self::Pid => 1,
            _ => 2,
        }
    }

    const fn index(self) -> usize {
        self as usize
    }
}

/// How often each check failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct CheckCounts([u64; Check::ALL.len()]);

impl CheckCounts {
    /// Of one check.
    #[must_use]
    pub const fn of(&self, check: Check) -> u64 {
        self.0[check.index()]
    }

    /// Of all checks of a priority.
    #[must_use]
    pub fn of_priority(&self, priority: u8) -> u64 {
        Check::ALL.iter().filter(|check| check.priority() == priority).map(|check| self.of(*check)).sum()
    }

    pub(super) const fn add(&mut self, check: Check, times: u64) {
        self.0[check.index()] += times;
    }
}

const TABLE_EVERY: Duration = Duration::from_millis(500);
const PCR_EVERY: Duration = Duration::from_millis(100);
const PTS_EVERY: Duration = Duration::from_millis(700);
const PID_EVERY: Duration = Duration::from_secs(5);
/// PCR ticks a second.
const PCR_RATE: u64 = 27_000_000;
/// The PCR wraps after 2^33 ticks of 90 kHz.
const PCR_WRAP: u64 = (1 << 33) * 300;

/// When something was there last, by arrival and by the stream's clock.
#[derive(Debug, Clone, Copy)]
struct Seen {
    arrival: Mono,
    clock: Option<u64>,
}

fn ticks(from: u64, to: u64) -> Duration {
    let ticks = (to % PCR_WRAP + PCR_WRAP - from % PCR_WRAP) % PCR_WRAP;
    Duration::from_nanos((u128::from(ticks) * 1_000_000_000 / u128::from(PCR_RATE)) as u64)
}

impl Seen {
    /// Longer ago than this, by both clocks.
    fn is_over(&self, now: Self, limit: Duration) -> bool {
        let by_clock = self.clock.zip(now.clock).is_none_or(|(before, now)| ticks(before, now) > limit);
        now.arrival.since(self.arrival) > limit && by_clock
    }
}

/// Watches a transport stream by the packets that come.
#[derive(Debug, Default)]
pub(super) struct Checks {
    pub counts: CheckCounts,
    clock: Option<u64>,
    pat: Option<Seen>,
    pmt: Option<Seen>,
    pcr: Option<Seen>,
    pts: Option<Seen>,
    video: Option<Seen>,
    /// Bytes since the last packet.
    out_of_sync: usize,
}

impl Checks {
    const fn at(&self, arrival: Mono) -> Seen {
        Seen { arrival, clock: self.clock }
    }

    /// Bytes that belong to no packet came where one should begin.
    pub const fn on_noise(&mut self, bytes: usize) {
        let before = self.out_of_sync.div_ceil(super::PACKET);
        self.out_of_sync += bytes;
        let now = self.out_of_sync.div_ceil(super::PACKET);
        self.counts.add(Check::SyncByte, (now - before) as u64);
        if before < 2 && now >= 2 {
            self.counts.add(Check::SyncLoss, 1);
        }
    }

    /// A packet came where it should.
    pub fn on_packet(&mut self, arrival: Mono, damaged: bool) {
        self.out_of_sync = 0;
        if damaged {
            self.counts.add(Check::Transport, 1);
        }
        let now = self.at(arrival);
        // What does not come at all is counted once each time its limit is over.
        for (check, seen, limit) in [
            (Check::Pat, &mut self.pat, TABLE_EVERY),
            (Check::Pmt, &mut self.pmt, TABLE_EVERY),
            (Check::Pid, &mut self.video, PID_EVERY),
            (Check::Pts, &mut self.pts, PTS_EVERY),
        ] {
            if seen.is_some_and(|before| before.is_over(now, limit)) {
                self.counts.add(check, 1);
                *seen = Some(now);
            } else if check == Check::Pat && seen.is_none() {
                *seen = Some(now);
            }
        }
    }

    /// A packet of the PAT came; `right` when it is one and can be read.
    pub const fn on_pat(&mut self, arrival: Mono, right: bool) {
        if right {
            self.pat = Some(self.at(arrival));
        } else {
            self.counts.add(Check::Pat, 1);
        }
    }

    /// The PMT came.
    pub const fn on_pmt(&mut self, arrival: Mono, scrambled: bool) {
        if scrambled {
            self.counts.add(Check::Pmt, 1);
        } else {
            self.pmt = Some(self.at(arrival));
        }
    }

    /// The tables name a video: it is to come from now on.
    pub fn on_video_named(&mut self, arrival: Mono) {
        let now = self.at(arrival);
        self.video.get_or_insert(now);
    }

    /// A packet of the video came; packets that are missing before it, and whether it has a presentation time.
    pub const fn on_video(&mut self, arrival: Mono, missing: u8, timed: bool) {
        self.video = Some(self.at(arrival));
        if missing > 0 {
            self.counts.add(Check::Continuity, 1);
        }
        if timed {
            self.pts = Some(self.at(arrival));
        }
    }

    /// A clock reference came; whether a jump of it was announced.
    pub fn on_pcr(&mut self, arrival: Mono, clock: u64, announced: bool) {
        let before = self.pcr.replace(Seen { arrival, clock: Some(clock) });
        self.clock = Some(clock);
        if announced {
            // Times by the clock of before mean nothing any more.
            for seen in [&mut self.pat, &mut self.pmt, &mut self.video, &mut self.pts].into_iter().flatten() {
                *seen = Seen { arrival, clock: Some(clock) };
            }
            return;
        }
        let Some(Seen { arrival: earlier, clock: Some(last) }) = before else { return };
        let (forward, backward) = (ticks(last, clock), ticks(clock, last));
        let waited = arrival.since(earlier);
        if forward > PCR_EVERY && backward > PCR_EVERY {
            // Late, where so much time went by; else it jumped.
            let check = if waited > PCR_EVERY && forward < waited * 2 + PCR_EVERY {
                Check::PcrRepetition
            } else {
                Check::PcrDiscontinuity
            };
            self.counts.add(check, 1);
        }
        if forward > PCR_EVERY && forward > waited * 2 + Duration::from_secs(1) {
            for seen in [&mut self.pat, &mut self.pmt, &mut self.video, &mut self.pts].into_iter().flatten() {
                *seen = Seen { arrival, clock: Some(clock) };
            }
        }
    }
}
