//! Which streams are to be asked for a keyframe by their device: those that wait for one and take no request by RTCP.

use crate::camera::FeedKey;
use lattice_core::Mono;
use lattice_core::meter::Figures;
use lattice_core::verdict::SessionState;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

/// One request in this time for a stream at most.
const EVERY: Duration = Duration::from_secs(2);

/// When each was asked last.
#[derive(Debug, Default)]
pub(crate) struct Keyframes(HashMap<FeedKey, Mono>);

impl Keyframes {
    /// Those that are to be asked now.
    pub fn due(&mut self, now: Mono, figures: &HashMap<FeedKey, Arc<Figures>>) -> Vec<FeedKey> {
        self.0.retain(|key, at| figures.contains_key(key) && now.since(*at) < EVERY);
        let waits = |figures: &Figures| figures.wants_keyframe && figures.session == SessionState::Playing;
        let due: Vec<FeedKey> =
            figures.iter().filter(|(key, figures)| waits(figures) && !self.0.contains_key(key)).map(|(key, _)| *key).collect();
        self.0.extend(due.iter().map(|key| (*key, now)));
        due
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::CameraId;
    use lattice_store::Role;

    #[test]
    fn a_stream_that_waits_is_asked_for_every_two_seconds_while_it_waits() {
        let key = FeedKey::new(CameraId(1), Role::Sub);
        let waiting = Figures { wants_keyframe: true, session: SessionState::Playing, ..Figures::default() };
        let all = |figures: Figures| HashMap::from([(key, Arc::new(figures))]);
        let mut keyframes = Keyframes::default();
        let at = Mono::from_millis;
        assert_eq!(keyframes.due(at(0), &all(Figures { wants_keyframe: false, ..waiting.clone() })), []);
        assert_eq!(keyframes.due(at(100), &all(waiting.clone())), [key]);
        assert_eq!(keyframes.due(at(1_900), &all(waiting.clone())), []);
        assert_eq!(keyframes.due(at(2_200), &all(waiting.clone())), [key]);
        assert_eq!(keyframes.due(at(9_000), &all(Figures { session: SessionState::Connecting, ..waiting })), []);
    }
}
