//! Takers of a stream's access units, before any receive buffer.
//!
//! Each taker has a queue of its own with a bound. Who is slow loses its own units, counted, and nobody else's; the task that
//! receives never waits.

use lattice_core::receiver::Unit;
use lattice_core::video::Parameters;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::mpsc;
use tokio::sync::mpsc::error::TrySendError;

/// An access unit as it came; its bytes are shared, not copied.
#[derive(Debug, Clone)]
pub struct Tapped {
    /// The unit.
    pub unit: Unit,
    /// The parameters in force; `None` before any came.
    pub parameters: Option<Parameters>,
}

/// One taker's end.
#[derive(Debug)]
pub struct Tap {
    units: mpsc::Receiver<Tapped>,
    lost: Arc<AtomicU64>,
}

impl Tap {
    /// The next unit; `None` when the stream was closed.
    ///
    /// # Cancel safety
    /// Nothing is lost when it is dropped.
    pub async fn next(&mut self) -> Option<Tapped> {
        self.units.recv().await
    }

    /// The next unit, if one is there.
    pub fn try_next(&mut self) -> Option<Tapped> {
        self.units.try_recv().ok()
    }

    /// Units that were lost since it was opened, because this taker was too slow.
    #[must_use]
    pub fn lost(&self) -> u64 {
        self.lost.load(Ordering::Relaxed)
    }
}

struct Taker {
    units: mpsc::Sender<Tapped>,
    lost: Arc<AtomicU64>,
}

/// All takers of one stream.
#[derive(Clone, Default)]
pub(crate) struct Taps(Arc<Mutex<Vec<Taker>>>);

impl Taps {
    fn lock(&self) -> MutexGuard<'_, Vec<Taker>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// One more taker, whose queue holds so many units.
    pub fn open(&self, units: usize) -> Tap {
        let (sender, receiver) = mpsc::channel(units.max(1));
        let lost = Arc::new(AtomicU64::new(0));
        self.lock().push(Taker { units: sender, lost: lost.clone() });
        Tap { units: receiver, lost }
    }

    /// A unit for all of them.
    pub fn give(&self, unit: &Unit, parameters: Option<&Parameters>) {
        let mut takers = self.lock();
        if takers.is_empty() {
            return;
        }
        let tapped = Tapped { unit: unit.clone(), parameters: parameters.copied() };
        takers.retain(|taker| match taker.units.try_send(tapped.clone()) {
            Ok(()) => true,
            Err(TrySendError::Full(_)) => {
                taker.lost.fetch_add(1, Ordering::Relaxed);
                true
            }
            Err(TrySendError::Closed(_)) => false,
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::Mono;
    use lattice_core::video::AccessUnit;

    fn unit(number: u64) -> Unit {
        let at = Mono::ZERO;
        let unit = AccessUnit {
            number,
            timestamp: 0,
            keyframe: number == 0,
            recovery: None,
            bipredictive: false,
            damaged: false,
            gap_before: false,
            first_arrival: at,
            last_arrival: at,
            finished: at,
            packets: 1,
            bytes: 64,
            data: Some(vec![number as u8; 64].into()),
        };
        Unit { unit, displayable: true, due: None }
    }

    #[test]
    fn a_slow_taker_loses_its_own_units_and_one_that_left_is_forgotten() {
        let taps = Taps::default();
        let (mut quick, mut slow, gone) = (taps.open(100), taps.open(3), taps.open(1));
        drop(gone);
        for number in 0..10 {
            taps.give(&unit(number), None);
        }
        assert_eq!(taps.lock().len(), 2);
        let numbers = |tap: &mut Tap| std::iter::from_fn(|| tap.try_next()).map(|one| one.unit.unit.number).collect::<Vec<_>>();
        assert_eq!((numbers(&mut quick), quick.lost()), ((0..10).collect(), 0));
        assert_eq!((numbers(&mut slow), slow.lost()), (vec![0, 1, 2], 7));
        taps.give(&unit(10), None);
        let (a, b) = (quick.try_next().unwrap(), slow.try_next().unwrap());
        assert_eq!(a.unit.unit.data.unwrap().as_ptr(), b.unit.unit.data.unwrap().as_ptr(), "shared, not copied");
    }
}
