//! Tours: lattices and pages shown one after the other.

use lattice_core::Mono;
use lattice_store::site::Tour;
use std::time::Duration;

/// A tour that runs.
#[derive(Debug, Clone)]
pub struct RunningTour {
    /// The tour.
    pub tour: Tour,
    /// The stop, from 0.
    pub at: usize,
    /// Since when it is shown.
    pub since: Mono,
    /// Held by key.
    pub held: bool,
}

/// How a tour stands, for the header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TourState {
    /// Its name.
    pub name: String,
    /// The stop, from 1, and how many there are.
    pub stop: (usize, usize),
    /// Until the next; `None` while it is held.
    pub left: Option<Duration>,
}
