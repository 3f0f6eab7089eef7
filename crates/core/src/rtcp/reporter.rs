//! What we report of a source that we receive (RFC 3550 §6.4.2).

use super::{ReportBlock, emit_canonical_name, emit_receiver_report};
use crate::rtp::{SequenceTracker, Ssrc};
use crate::{Mono, NtpTime};
use std::time::Duration;

/// Receiver reports are sent this often (RFC 3550 §6.2 least interval).
const REPORT_EVERY: Duration = Duration::from_secs(5);

/// Keeps what a reception report needs beside the counts.
#[derive(Debug, Clone)]
pub struct Reporter {
    next: Mono,
    /// What was expected and received before the SSRC that is followed: reports are of it alone.
    base: (u64, u64),
    reported: (u64, u64),
    last_sender_report: Option<(u32, Mono)>,
}

impl Reporter {
    /// From this moment on; the first report is due 5 s later.
    #[must_use]
    pub fn new(now: Mono, sequence: &SequenceTracker) -> Self {
        let base = (sequence.expected(), sequence.counts().received);
        Self { next: now + REPORT_EVERY, base, reported: base, last_sender_report: None }
    }

    /// Another SSRC is followed from now on.
    pub fn restart(&mut self, sequence: &SequenceTracker) {
        self.base = (sequence.expected(), sequence.counts().received);
        self.reported = self.base;
        self.last_sender_report = None;
    }

    /// A sender report came.
    pub const fn on_sender_report(&mut self, ntp: NtpTime, arrival: Mono) {
        self.last_sender_report = Some((ntp.middle(), arrival));
    }

    /// Whether a report is due.
    #[must_use]
    pub fn is_due(&self, now: Mono) -> bool {
        now >= self.next
    }

    /// A compound with a receiver report, and when the next one is due.
    pub fn compound(&mut self, now: Mono, ours: Ssrc, of: Option<Ssrc>, sequence: &SequenceTracker, jitter: u32) -> Vec<u8> {
        self.next = now + REPORT_EVERY;
        let mut out = Vec::with_capacity(64);
        let blocks: Vec<ReportBlock> = of.map(|ssrc| self.block(ssrc, now, sequence, jitter)).into_iter().collect();
        emit_receiver_report(ours, &blocks, &mut out);
        emit_canonical_name(ours, "viewer", &mut out);
        out
    }

    fn block(&mut self, ssrc: Ssrc, now: Mono, sequence: &SequenceTracker, jitter: u32) -> ReportBlock {
        let (expected, received) = (sequence.expected(), sequence.counts().received);
        let (old_expected, old_received) = std::mem::replace(&mut self.reported, (expected, received));
        let (interval, got) = (expected.saturating_sub(old_expected), received.saturating_sub(old_received));
        let fraction = interval.saturating_sub(got) * 256 / interval.max(1);
        let (last_sender_report, since) =
            self.last_sender_report.map_or((0, Duration::ZERO), |(middle, at)| (middle, now.since(at)));
        ReportBlock {
            ssrc,
            fraction_lost: fraction.min(255) as u8,
            cumulative_lost: expected
                .saturating_sub(self.base.0)
                .saturating_sub(received.saturating_sub(self.base.1))
                .min(0x7f_ffff) as i32,
            extended_highest: sequence.extended_highest(),
            jitter,
            last_sender_report,
            delay_since: (since.as_secs_f64() * 65_536.0) as u32,
        }
    }
}
