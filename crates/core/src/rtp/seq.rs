//! Sequence numbers: extension past 16 bits, loss, order, duplicates (RFC 3550 appendix A.1, A.3).

use super::Seq16;

/// A sequence number extended past its wrap.
///
/// Starts at 65536 plus the first number seen, so that what came before the first has room below.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ExtSeq(pub u64);

/// What a packet's sequence number says about its arrival.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arrival {
    /// The first packet of the sequence, or the first after a restart of it.
    First(ExtSeq),
    /// The number after the highest so far.
    InOrder(ExtSeq),
    /// Numbers were left out: this many are missing so far.
    Ahead(ExtSeq, u64),
    /// A missing number arrived after a higher one.
    Late(ExtSeq),
    /// This number has been here.
    Duplicate,
    /// Older than the first packet, or than what is remembered: of no use.
    TooOld,
    /// A jump that is no loss; believed only when the next packet follows it (§A.1 `bad_seq`).
    Jump,
}

/// Totals of a packet sequence; they never go down except `lost`, when a late packet comes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SequenceCounts {
    /// Packets received, each sequence number once.
    pub received: u64,
    /// Expected minus received (§A.3), duplicates not counted as received.
    pub lost: u64,
    /// Packets that came after one with a higher number.
    pub reordered: u64,
    /// Repeated packets.
    pub duplicate: u64,
    /// Times the sequence began anew (new SSRC or a jump).
    pub restarts: u64,
}

/// How far a number may run ahead and still be loss, where nothing is known of time (§A.1 `MAX_DROPOUT`).
const MAX_DROPOUT: u16 = 3000;
/// How far it may by one packet's word.
const MAX_SUDDEN: u16 = 256;
/// Farther than [`MAX_SUDDEN`] it is loss when a second packet says so, too, and there was time for it: up to just under half the
/// number space, beyond which ahead and behind cannot be told apart.
const MAX_PLAUSIBLE_DROPOUT: u16 = 32_000;

/// What time says of a packet, against the one before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Passage {
    /// Nothing is known.
    #[default]
    Unknown,
    /// Timestamp and arrival advanced together, by a time in which this many packets come at most.
    For(u64),
}
/// How far back a late packet is told from a duplicate; more than a reordering network needs.
const WINDOW: u64 = 1024;

/// Follows one packet sequence.
#[derive(Debug, Clone)]
pub struct SequenceTracker {
    span: Option<Span>,
    /// Next number after a jump that would confirm a restart.
    suspect: Option<u16>,
    /// Expected and received of sequences that have ended.
    closed_expected: u64,
    counts: SequenceCounts,
}

#[derive(Debug, Clone)]
struct Span {
    first: u64,
    highest: u64,
    received: u64,
    /// One bit for each of the last `WINDOW` numbers, by number modulo `WINDOW`.
    seen: [u64; WINDOW as usize / 64],
}

impl Span {
    fn new(seq: Seq16) -> Self {
        let first = 0x1_0000 + u64::from(seq.0);
        let mut span = Self { first, highest: first, received: 1, seen: [0; WINDOW as usize / 64] };
        span.mark(first);
        span
    }

    fn slot(ext: u64) -> (usize, u64) {
        let bit = ext % WINDOW;
        ((bit / 64) as usize, 1 << (bit % 64))
    }

    fn mark(&mut self, ext: u64) {
        let (word, bit) = Self::slot(ext);
        if let Some(word) = self.seen.get_mut(word) {
            *word |= bit;
        }
    }

    fn clear(&mut self, ext: u64) {
        let (word, bit) = Self::slot(ext);
        if let Some(word) = self.seen.get_mut(word) {
            *word &= !bit;
        }
    }

    fn is_marked(&self, ext: u64) -> bool {
        let (word, bit) = Self::slot(ext);
        self.seen.get(word).is_some_and(|word| word & bit != 0)
    }

    const fn expected(&self) -> u64 {
        self.highest - self.first + 1
    }
}

impl Default for SequenceTracker {
    fn default() -> Self {
        Self::new()
    }
}

impl SequenceTracker {
    /// A tracker that has seen nothing.
    #[must_use]
    pub const fn new() -> Self {
        Self {
            span: None,
            suspect: None,
            closed_expected: 0,
            counts: SequenceCounts { received: 0, lost: 0, reordered: 0, duplicate: 0, restarts: 0 },
        }
    }

    /// Takes a packet's number. `passage` is what time says: a gap for which there was no time is no loss, but numbers that
    /// began anew.
    pub fn on_packet(&mut self, seq: Seq16, passage: Passage) -> Arrival {
        let Some(span) = &mut self.span else {
            return self.begin(seq);
        };
        let ahead = seq.0.wrapping_sub(span.highest as u16);
        if ahead == 0 {
            self.counts.duplicate += 1;
            return Arrival::Duplicate;
        }
        let confirmed = self.suspect == Some(seq.0);
        let there_was_time = match passage {
            Passage::Unknown => true,
            Passage::For(most) => u64::from(ahead) <= most,
        };
        let limit = match passage {
            Passage::Unknown => MAX_DROPOUT,
            Passage::For(_) if confirmed && there_was_time => MAX_PLAUSIBLE_DROPOUT,
            Passage::For(_) => MAX_SUDDEN,
        };
        if ahead <= limit {
            self.suspect = None;
            let ext = span.highest + u64::from(ahead);
            let clear_from = span.highest + 1;
            for missing in clear_from.max(ext.saturating_sub(WINDOW - 1))..ext {
                span.clear(missing);
            }
            span.mark(ext);
            span.highest = ext;
            span.received += 1;
            self.counts.received += 1;
            return match ahead {
                1 => Arrival::InOrder(ExtSeq(ext)),
                n => Arrival::Ahead(ExtSeq(ext), u64::from(n) - 1),
            };
        }
        let back = u64::from(0u16.wrapping_sub(ahead));
        if back < WINDOW {
            return self.behind(back);
        }
        if confirmed {
            self.restart();
            return self.begin(seq);
        }
        self.suspect = Some(seq.0.wrapping_add(1));
        Arrival::Jump
    }

    fn behind(&mut self, back: u64) -> Arrival {
        let Some(span) = &mut self.span else { return Arrival::TooOld };
        let ext = span.highest.saturating_sub(back);
        if ext < span.first {
            self.counts.reordered += 1;
            return Arrival::TooOld;
        }
        if span.is_marked(ext) {
            self.counts.duplicate += 1;
            return Arrival::Duplicate;
        }
        span.mark(ext);
        span.received += 1;
        self.counts.received += 1;
        self.counts.reordered += 1;
        Arrival::Late(ExtSeq(ext))
    }

    fn begin(&mut self, seq: Seq16) -> Arrival {
        let span = Span::new(seq);
        let first = ExtSeq(span.first);
        self.span = Some(span);
        self.suspect = None;
        self.counts.received += 1;
        Arrival::First(first)
    }

    /// The packet before the first one of this sequence was received too (it looked like a stray until
    /// the first one confirmed it). `None` without a sequence.
    pub fn begin_one_earlier(&mut self) -> Option<ExtSeq> {
        let span = self.span.as_mut()?;
        span.first -= 1;
        span.received += 1;
        let first = span.first;
        span.mark(first);
        self.counts.received += 1;
        Some(ExtSeq(first))
    }

    /// The packet before the highest one was received too (it looked like a stray until that one confirmed it). `None` without
    /// a sequence.
    pub fn take_one_earlier(&mut self) -> Option<ExtSeq> {
        let span = self.span.as_mut()?;
        let ext = span.highest.checked_sub(1).filter(|ext| *ext >= span.first && !span.is_marked(*ext))?;
        span.mark(ext);
        span.received += 1;
        self.counts.received += 1;
        Some(ExtSeq(ext))
    }

    /// The sequence ended (new SSRC, new session): the next packet is a first one. Totals stay.
    pub fn restart(&mut self) {
        if let Some(span) = self.span.take() {
            self.closed_expected += span.expected();
            self.counts.restarts += 1;
        }
        self.suspect = None;
    }

    /// Totals so far.
    #[must_use]
    pub fn counts(&self) -> SequenceCounts {
        let expected = self.expected();
        SequenceCounts { lost: expected.saturating_sub(self.counts.received), ..self.counts }
    }

    /// Packets expected so far (§A.3), over all sequences.
    #[must_use]
    pub fn expected(&self) -> u64 {
        self.closed_expected + self.span.as_ref().map_or(0, Span::expected)
    }

    /// The highest number so far, in the form of a receiver report (§6.4.1): cycles and number.
    #[must_use]
    pub fn extended_highest(&self) -> u32 {
        self.span.as_ref().map_or(0, |span| span.highest.wrapping_sub(0x1_0000) as u32)
    }
}

/// Extends 32-bit RTP timestamps past their wrap; they may go back and forth (B-frames).
#[derive(Debug, Clone, Default)]
pub struct TimestampUnwrapper {
    last: Option<i64>,
}

impl TimestampUnwrapper {
    /// The timestamp on an unwrapped scale that begins at the first one seen.
    pub fn unwrap(&mut self, timestamp: u32) -> i64 {
        let extended = match self.last {
            None => i64::from(timestamp),
            Some(last) => last + i64::from(timestamp.wrapping_sub(last as u32) as i32),
        };
        self.last = Some(extended);
        extended
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run(numbers: &[u16]) -> SequenceCounts {
        let mut tracker = SequenceTracker::new();
        for n in numbers {
            tracker.on_packet(Seq16(*n), Passage::Unknown);
        }
        tracker.counts()
    }

    #[test]
    fn loss_order_and_duplicates_are_counted_apart() {
        for (numbers, received, lost, reordered, duplicate) in [
            (&[5, 6, 7][..], 3, 0, 0, 0),
            (&[5, 7, 8], 3, 1, 0, 0),
            (&[5, 7, 6, 8], 4, 0, 1, 0),
            (&[5, 6, 6, 5, 7], 3, 0, 0, 2),
            (&[65534, 65535, 0, 2, 1], 5, 0, 1, 0),
            (&[65535, 2], 2, 2, 0, 0),
            (&[10, 9, 11], 2, 0, 1, 0), // before the first: of no use, but said
        ] {
            let counts = run(numbers);
            let got = (counts.received, counts.lost, counts.reordered, counts.duplicate);
            assert_eq!(got, (received, lost, reordered, duplicate), "{numbers:?}");
        }
    }

    #[test]
    fn a_jump_is_a_restart_only_when_confirmed_and_never_loss() {
        let mut tracker = SequenceTracker::new();
        tracker.on_packet(Seq16(100), Passage::Unknown);
        assert_eq!(tracker.on_packet(Seq16(40_000), Passage::Unknown), Arrival::Jump);
        assert!(matches!(tracker.on_packet(Seq16(40_001), Passage::Unknown), Arrival::First(_)));
        assert_eq!(tracker.counts().lost, 0);
        assert_eq!(tracker.counts().restarts, 1);
    }

    #[test]
    fn a_large_gap_is_loss_when_time_went_on_and_a_second_packet_says_so() {
        let mut tracker = SequenceTracker::new();
        tracker.on_packet(Seq16(100), Passage::Unknown);
        assert_eq!(tracker.on_packet(Seq16(10_100), Passage::For(12_000)), Arrival::Jump);
        assert_eq!(tracker.counts().lost, 0, "one packet invents nothing");
        assert!(matches!(tracker.on_packet(Seq16(10_101), Passage::For(12_000)), Arrival::Ahead(_, 10_000)));
        assert_eq!(tracker.counts().lost, 10_000);
        assert!(tracker.take_one_earlier().is_some() && tracker.take_one_earlier().is_none());
        assert_eq!(tracker.counts().lost, 9_999, "the first one had come");
    }

    #[test]
    fn numbers_that_begin_anew_while_the_clock_goes_on_are_a_restart() {
        for begins in [700, 2_000, 20_000, 50_000] {
            let mut tracker = SequenceTracker::new();
            for n in 0..100 {
                tracker.on_packet(Seq16(n), Passage::For(40));
            }
            assert_eq!(tracker.on_packet(Seq16(begins), Passage::For(40)), Arrival::Jump, "{begins}");
            assert!(matches!(tracker.on_packet(Seq16(begins + 1), Passage::For(40)), Arrival::First(_)));
            assert_eq!((tracker.counts().lost, tracker.counts().restarts), (0, 1), "{begins}");
        }
    }

    #[test]
    fn timestamps_unwrap_in_both_directions() {
        let mut unwrapper = TimestampUnwrapper::default();
        let start = unwrapper.unwrap(u32::MAX - 10);
        assert_eq!(unwrapper.unwrap(20) - start, 31);
        assert_eq!(unwrapper.unwrap(u32::MAX - 10), start);
    }

    proptest! {
        #[test]
        fn a_shuffled_sequence_without_loss_loses_nothing(start: u16, swaps in proptest::collection::vec((1usize..400, 1usize..30), 0..60)) {
            let mut numbers: Vec<u16> = (0..400u16).map(|n| start.wrapping_add(n)).collect();
            for (at, by) in swaps {
                let to = (at + by).min(399);
                numbers.swap(at, to);
            }
            let counts = run(&numbers);
            prop_assert_eq!((counts.received, counts.lost, counts.duplicate), (400, 0, 0));
        }

        #[test]
        fn received_plus_lost_is_expected(numbers in proptest::collection::vec(any::<u16>(), 1..300)) {
            let mut tracker = SequenceTracker::new();
            for n in &numbers {
                tracker.on_packet(Seq16(*n), Passage::Unknown);
            }
            let counts = tracker.counts();
            prop_assert_eq!(counts.received + counts.lost, tracker.expected());
        }
    }
}
