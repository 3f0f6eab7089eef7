//! What lies around an entry of the ledger: the picture that stood last before it, the first after it, and its minute by the
//! second.
//!
//! Whenever something begins or ends at a camera, the last picture that was received is decoded, whether anybody looks or not,
//! and goes into the record as a small JPEG with the time of its arrival. An entry finds those that are near to it.

use crate::camera::FeedKey;
use lattice_core::event::Event;
use lattice_core::ledger::Entry;
use lattice_core::meter::{Figures, Sample};
use lattice_core::{Mono, Wall};
use lattice_media::TilePicture;
use lattice_report::Raster;
use lattice_store::{KeptPicture, Missing, RecordError, RecordFile, StreamName, Tier};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

/// Largest size of a kept picture.
pub(crate) const SIZE: (usize, usize) = (160, 90);
/// JPEG quality: a picture of this size has 4 to 8 KB.
const QUALITY: u8 = 80;
/// Of one camera no more often, where troubles come and go.
const APART: Duration = Duration::from_secs(5);
/// Pictures that are asked for at once: where many cameras fail together, decoders have other work.
const AT_ONCE: usize = 8;
/// What has not come for so long will not.
const WAITS: Duration = Duration::from_secs(5);
/// The minute around an entry begins so long before it,
const BEFORE: Duration = Duration::from_secs(20);
/// and is as long as one.
const MINUTE: Duration = Duration::from_secs(60);
/// Cameras of an entry that are looked through for one with pictures.
const CAMERAS: usize = 16;

/// What lies around an entry.
#[derive(Debug, Clone, PartialEq)]
pub struct Around {
    /// The entry's number.
    pub entry: u64,
    /// The stream that all is of; the first of the entry's cameras that has a picture.
    pub of: StreamName,
    /// The last picture before it.
    pub before: Option<KeptPicture>,
    /// The first picture after it; `None` while it goes on.
    pub after: Option<KeptPicture>,
    /// When the minute begins.
    pub from: Wall,
    /// Seconds of a step of the minute: 1, or more for what is older than a day.
    pub step: u32,
    /// The figures in it, oldest first; what is missing was not measured.
    pub samples: Vec<(Wall, Sample)>,
    /// Times without new pictures in it.
    pub missing: Vec<Missing>,
}

impl Around {
    /// How long the minute is.
    pub const SPAN: Duration = MINUTE;

    /// Looks it up in the record.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn look_up(record: &RecordFile, entry: &Entry, now: Wall) -> Result<Self, RecordError> {
        let (mut before, mut after) = (None, None);
        for camera in entry.cameras.iter().take(CAMERAS) {
            before = record.picture_before(camera, entry.start)?;
            let end = entry.end.or_else(|| entry.kind.is_change().then_some(entry.start));
            after = end.map(|end| record.picture_after(camera, end)).transpose()?.flatten();
            if before.is_some() || after.is_some() {
                break;
            }
        }
        let from = entry.start.offset(-(BEFORE.as_micros() as i64));
        let to = from.offset(MINUTE.as_micros() as i64);
        let pictured = before.as_ref().or(after.as_ref()).map(|picture| picture.of.clone());
        let camera = pictured.as_ref().map(|of| &of.camera).or(entry.cameras.first()).cloned().unwrap_or_default();
        let missing: Vec<Missing> = record.missing(from, to)?.into_iter().filter(|one| one.of.camera == camera).collect();
        let first = missing.iter().find(|one| one.end.is_none_or(|end| end >= entry.start)).map(|one| one.of.clone());
        let of = first.or(pictured).or_else(|| record.streams().ok()?.into_iter().find(|of| of.camera == camera));
        let of = of.unwrap_or(StreamName { camera, stream: String::new() });
        let tier = Tier::for_age(now.micros_since(from) / 1_000_000);
        let readings = record.readings(&of, tier, from, to)?;
        let samples = readings.into_iter().map(|(at, _, sample)| (at, sample)).collect();
        let missing = missing.into_iter().filter(|one| one.of == of).collect();
        Ok(Self { entry: entry.id, of, before, after, from, step: tier.step() as u32, samples, missing })
    }
}

/// A small JPEG of a picture.
pub(crate) fn jpeg(picture: &TilePicture) -> Option<Vec<u8>> {
    Raster::new(picture.width, picture.height, picture.rgb.to_vec()).ok()?.jpeg(QUALITY).ok()
}

/// What was last known of a stream's events: the number of the newest, whether it had ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Known {
    number: u64,
    ended: bool,
}

impl Known {
    fn of(events: &[Event]) -> Option<Self> {
        events.last().map(|event| Self { number: event.number, ended: event.end.is_some() })
    }
}

/// Whose last picture is wanted, because something began or ended there.
#[derive(Debug, Default)]
pub(crate) struct Recalls {
    known: HashMap<FeedKey, (Arc<[Event]>, Option<Known>)>,
    asked: HashMap<FeedKey, Mono>,
    outstanding: HashMap<FeedKey, Mono>,
}

impl Recalls {
    /// The streams whose last picture is to be kept now.
    pub fn due(&mut self, now: Mono, figures: &HashMap<FeedKey, Arc<Figures>>) -> Vec<FeedKey> {
        self.known.retain(|key, _| figures.contains_key(key));
        self.asked.retain(|_, at| now.since(*at) < APART);
        self.outstanding.retain(|_, at| now.since(*at) < WAITS);
        let mut due = Vec::new();
        // A stream that stands on the bench a second time is no second stream.
        for (key, figures) in figures.iter().filter(|(key, _)| key.by.is_none()) {
            let before = self.known.get(key);
            if before.is_some_and(|(seen, _)| Arc::ptr_eq(seen, &figures.events)) {
                continue;
            }
            let is = Known::of(&figures.events);
            let was = before.and_then(|(_, known)| *known);
            self.known.insert(*key, (figures.events.clone(), is));
            let ends = was.zip(is).is_some_and(|(was, is)| was.number == is.number && !was.ended && is.ended);
            // What ends has its picture after it, also soon after that before it.
            let wanted = is != was && is.is_some() && (ends || !self.asked.contains_key(key));
            if wanted && self.outstanding.len() < AT_ONCE {
                self.asked.insert(*key, now);
                self.outstanding.insert(*key, now);
                due.push(*key);
            }
        }
        due
    }

    /// A picture came.
    pub fn came(&mut self, key: FeedKey) {
        self.outstanding.remove(&key);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::{CameraDef, Cameras};
    use lattice_core::Role;
    use lattice_core::event::{Confidence, EventKind};
    use lattice_core::ledger::{Ledger, Subject};
    use lattice_core::meter::Fig;
    use lattice_store::Reading;

    const NOW: Wall = Wall::from_unix_micros(1_795_500_000_000_000);

    fn event(number: u64, end: Option<u64>) -> Event {
        Event {
            number,
            kind: EventKind::Freeze,
            start: Mono::from_millis(number * 10_000),
            end: end.map(Mono::from_millis),
            cause: None,
            evidence: String::new(),
            confidence: Confidence::High,
        }
    }

    #[test]
    fn pictures_are_asked_for_where_something_begins_or_ends_and_not_too_often() {
        let mut cameras = Cameras::new(Role::Main);
        let def = |n: u32| CameraDef {
            name: format!("Quay {n}"),
            streams: Vec::new(),
            transport: lattice_core::TransportChoice::Auto,
            trust: lattice_net::Trust::Verify,
            viewers: None,
            link: None,
            sound: true,
        };
        let keys: Vec<FeedKey> = (0..20).map(|n| FeedKey::new(cameras.put(def(n)), Role::Main)).collect();
        let mut recalls = Recalls::default();
        let mut figures: HashMap<FeedKey, Arc<Figures>> = keys.iter().map(|key| (*key, Arc::default())).collect();
        let mut happens = |recalls: &mut Recalls, at: u64, which: &[FeedKey], events: &[Event]| {
            for key in which {
                figures.insert(*key, Arc::new(Figures { events: events.into(), ..Figures::default() }));
            }
            recalls.due(Mono::from_millis(at), &figures)
        };
        let one = &keys[..1];
        assert!(happens(&mut recalls, 0, &[], &[]).is_empty());
        assert_eq!(happens(&mut recalls, 10_000, one, &[event(1, None)]), one, "it begins");
        assert!(happens(&mut recalls, 10_100, &[], &[]).is_empty(), "it goes on");
        recalls.came(keys[0]);
        assert_eq!(happens(&mut recalls, 12_000, one, &[event(1, Some(11_900))]), one, "it ends, soon after");
        recalls.came(keys[0]);
        assert!(happens(&mut recalls, 13_000, one, &[event(2, None)]).is_empty(), "one that comes and goes");
        assert_eq!(happens(&mut recalls, 20_000, one, &[event(3, Some(19_900))]), one);
        recalls.came(keys[0]);
        // All at once: some of them, for decoders have other work.
        assert_eq!(happens(&mut recalls, 40_000, &keys, &[event(4, None)]).len(), AT_ONCE);
    }

    #[test]
    fn what_lies_around_an_entry_is_that_of_its_camera_and_its_minute() {
        let folder = tempfile::tempdir().unwrap();
        let (mut record, _) = RecordFile::open(&folder.path().join("ledger.db")).unwrap();
        let second = |n: i64| NOW.offset(n * 1_000_000);
        let of = StreamName { camera: "Mast".into(), stream: "sub".into() };
        let reading =
            |n: i64| Reading { of: of.clone(), at: second(n), sample: Sample::default().with_value(Fig::Arrived, 12.0) };
        record.keep_history(&(0..100).map(reading).collect::<Vec<_>>(), &[]).unwrap();
        let picture = |camera: &str, n: i64| KeptPicture {
            of: StreamName { camera: camera.into(), ..of.clone() },
            at: second(n),
            jpeg: vec![n as u8],
        };
        record.keep_pictures(&[picture("Mast", 29), picture("Mast", 42), picture("Gate", 30), picture("Gate", 41)]).unwrap();
        let mut ledger = Ledger::default();
        let subject = Subject { camera: "Mast".into(), stream: "sub", group: None, recorder: None, host: None };
        let happened = Event { start: Mono::from_millis(30_000), ..event(1, Some(42_000)) };
        ledger.observe(&subject, &[happened], |at| NOW.offset(at.as_micros() as i64));
        let entry = &ledger.entries()[0];
        let around = Around::look_up(&record, entry, second(100)).unwrap();
        assert_eq!((around.entry, &around.of, around.step), (entry.id, &of, 1));
        assert_eq!((around.before, around.after), (Some(picture("Mast", 29)), Some(picture("Mast", 42))));
        assert_eq!((around.from, around.samples.len()), (second(10), 60));
        let goes_on = Entry { end: None, ..entry.clone() };
        assert_eq!(Around::look_up(&record, &goes_on, second(100)).unwrap().after, None);
        let long_ago = Around::look_up(&record, entry, second(3 * 86_400)).unwrap();
        assert_eq!((long_ago.step, long_ago.samples.len()), (10, 6), "as fine as it is kept");
    }
}
