//! Putting packets back in order with a bounded wait and a bounded store.

use super::ExtSeq;
use crate::Mono;
use std::collections::BTreeMap;
use std::time::Duration;

/// Most packets held for order: two 4K keyframes' worth (about 200 packets each) with room.
/// When full, the oldest gap is given up at once.
pub const MAX_HELD: usize = 512;

/// What to do with a packet that came in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Offer {
    /// It is the next in order: use it now, without a copy, then poll.
    Pass,
    /// An earlier one is missing: hand an owned copy to [`Reorder::hold`], then poll.
    Hold,
    /// Its place was given up already.
    TooLate,
}

/// What [`Reorder::poll`] gives, in order.
#[derive(Debug, PartialEq, Eq)]
pub enum Ready<T> {
    /// A packet that waited for an earlier one.
    Packet(T),
    /// This many numbers are given up as lost.
    Gap(u64),
}

/// A reordering store; packets in order pass by it without a copy.
///
/// ```
/// use lattice_core::rtp::{ExtSeq, Offer, Ready, Reorder};
/// use lattice_core::Mono;
/// use std::time::Duration;
/// let (mut reorder, now, wait) = (Reorder::default(), Mono::ZERO, Duration::from_millis(50));
/// assert_eq!(reorder.offer(ExtSeq(7)), Offer::Pass);
/// assert_eq!(reorder.offer(ExtSeq(9)), Offer::Hold);
/// reorder.hold(now, ExtSeq(9), "nine");
/// assert_eq!(reorder.poll(now, wait), None);
/// assert_eq!(reorder.awaited(), 1); // eight may still come
/// assert_eq!(reorder.poll(now + wait, wait), Some(Ready::Gap(1)));
/// assert_eq!(reorder.poll(now + wait, wait), Some(Ready::Packet("nine")));
/// ```
#[derive(Debug)]
pub struct Reorder<T> {
    next: Option<u64>,
    held: BTreeMap<u64, (Mono, T)>,
}

impl<T> Default for Reorder<T> {
    fn default() -> Self {
        Self { next: None, held: BTreeMap::new() }
    }
}

impl<T> Reorder<T> {
    /// Asks what to do with a packet of this number. The first number asked about is the first in order.
    pub fn offer(&mut self, ext: ExtSeq) -> Offer {
        let next = *self.next.get_or_insert(ext.0);
        match ext.0.cmp(&next) {
            std::cmp::Ordering::Less => Offer::TooLate,
            std::cmp::Ordering::Equal => {
                self.next = Some(next + 1);
                Offer::Pass
            }
            std::cmp::Ordering::Greater => Offer::Hold,
        }
    }

    /// Keeps a packet that arrived at `arrived` until its turn.
    pub fn hold(&mut self, arrived: Mono, ext: ExtSeq, packet: T) {
        self.held.insert(ext.0, (arrived, packet));
    }

    /// The next packet or gap; a gap once its first successor has waited for `wait` (zero for a
    /// transport that keeps order) or the store is full. Call until `None`.
    pub fn poll(&mut self, now: Mono, wait: Duration) -> Option<Ready<T>> {
        let entry = self.held.first_entry()?;
        let (first, next) = (*entry.key(), self.next.unwrap_or(*entry.key()));
        if first == next {
            let (_, packet) = entry.remove();
            self.next = Some(next + 1);
            return Some(Ready::Packet(packet));
        }
        let arrived = entry.get().0;
        if now.since(arrived) < wait && self.held.len() <= MAX_HELD {
            return None;
        }
        self.next = Some(first);
        Some(Ready::Gap(first.saturating_sub(next)))
    }

    /// Numbers that are missing below what is held, and may still come.
    #[must_use]
    pub fn awaited(&self) -> u64 {
        let span = self.held.keys().next_back().zip(self.next).map_or(0, |(last, next)| (last + 1).saturating_sub(next));
        span.saturating_sub(self.held.len() as u64)
    }

    /// Forgets all (a new sequence begins).
    pub fn restart(&mut self) {
        self.next = None;
        self.held.clear();
    }

    /// When the next [`Reorder::poll`] may give something by waiting alone.
    #[must_use]
    pub fn deadline(&self, wait: Duration) -> Option<Mono> {
        self.held.values().next().map(|(arrived, _)| *arrived + wait)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn run(order: &[u64]) -> (Vec<u64>, u64) {
        let wait = Duration::from_millis(50);
        let mut reorder = Reorder::default();
        let (mut out, mut lost) = (Vec::new(), 0);
        reorder.offer(ExtSeq(0));
        let mut take = |ready: Option<Ready<u64>>, out: &mut Vec<u64>| match ready {
            Some(Ready::Packet(n)) => {
                out.push(n);
                true
            }
            Some(Ready::Gap(n)) => {
                lost += n;
                true
            }
            None => false,
        };
        for n in order {
            match reorder.offer(ExtSeq(*n)) {
                Offer::Pass => out.push(*n),
                Offer::Hold => reorder.hold(Mono::ZERO, ExtSeq(*n), *n),
                Offer::TooLate => {}
            }
            while take(reorder.poll(Mono::ZERO, wait), &mut out) {}
        }
        while take(reorder.poll(Mono::from_millis(50), wait), &mut out) {}
        (out, lost)
    }

    proptest! {
        #[test]
        fn any_order_comes_out_sorted_and_whole(order in Just((1u64..200).collect::<Vec<_>>()).prop_shuffle()) {
            let (out, lost) = run(&order);
            prop_assert_eq!(out, (1..200).collect::<Vec<_>>());
            prop_assert_eq!(lost, 0);
        }

        #[test]
        fn what_is_missing_is_given_up_exactly(order in proptest::sample::subsequence((1u64..200).collect::<Vec<_>>(), 1..199).prop_shuffle()) {
            let highest = order.iter().max().copied().unwrap_or(0);
            let (out, lost) = run(&order);
            prop_assert_eq!(out.len() as u64 + lost, highest);
            prop_assert!(out.is_sorted());
        }
    }

    #[test]
    fn a_full_store_gives_up_its_oldest_gap() {
        let mut reorder = Reorder::default();
        reorder.offer(ExtSeq(0));
        for n in 2..(MAX_HELD as u64 + 3) {
            reorder.hold(Mono::ZERO, ExtSeq(n), n);
        }
        assert_eq!(reorder.poll(Mono::ZERO, Duration::from_secs(60)), Some(Ready::Gap(1)));
    }
}
