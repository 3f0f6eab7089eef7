//! What becomes of those that are taken in: asked, refused, taken.

use lattice_core::target::{Newcomer, Target};
use lattice_engine::News;
use lattice_engine::jobs::{Intake, Taken};
use std::net::IpAddr;

/// Cameras on their way in.
#[derive(Debug, Default)]
pub struct Newcomers {
    /// Targets that are being asked.
    pub asking: Vec<String>,
    /// What became of the last ones.
    pub taken: Vec<Taken>,
    /// Targets that were refused for want of a sign-in.
    pub locked: Vec<Newcomer>,
    /// Recorders whose channels are to be chosen.
    pub choosing: Vec<(Newcomer, Intake)>,
}

impl Newcomers {
    /// The engine tells something.
    pub fn on_news(&mut self, news: &News) {
        match news {
            News::Asking(targets) => {
                self.asking.clone_from(targets);
                self.taken.clear();
                self.locked.clear();
            }
            News::Taken(taken) => self.taken.push(taken.clone()),
            News::Asked(newcomer, locked) => {
                let shown = newcomer.target.to_string();
                self.asking.retain(|asking| *asking != shown);
                if *locked {
                    self.locked.push(newcomer.clone());
                }
            }
            News::Choose(newcomer, intake) => self.choosing.push((newcomer.clone(), (**intake).clone())),
            _ => {}
        }
    }

    /// Whether all of them were taken in.
    pub fn are_done(&self) -> bool {
        self.asking.is_empty() && self.locked.is_empty() && self.taken.iter().all(|taken| taken.result.is_ok())
    }
}

/// The address of a device that is to be taken in.
pub fn address_of(newcomer: &Newcomer) -> Option<IpAddr> {
    match &newcomer.target {
        Target::Device { host, .. } => host.parse().ok(),
        _ => None,
    }
}
