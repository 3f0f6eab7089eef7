//! Pictures that are kept: of one camera at full size, or of the whole wall.

use crate::camera::{Cameras, FeedKey};
use crate::command::SheetPlace;
use crate::places;
use crate::watch::Moment;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::adjust::Adjust;
use lattice_core::meter::{Figures, LatencyBasis};
use lattice_core::{FrameRate, Mono, Wall};
use lattice_media::TilePicture;
use lattice_media::burst::{Rgb, merge};
use lattice_report::{Raster, captioned, contact_sheet};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What stills are written as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum StillForm {
    /// PNG, without loss.
    #[default]
    Png,
    /// JPEG, smaller.
    Jpeg,
}

/// How pictures are kept.
#[derive(Debug, Clone, Default)]
pub struct StillOptions {
    /// What a still is written as; sheets are PNG.
    pub form: StillForm,
    /// The folder; the usual one for `None`.
    pub folder: Option<PathBuf>,
}

/// What the figures are that stand under a picture.
pub(crate) struct Facts<'a> {
    /// The cameras.
    pub cameras: &'a Cameras,
    /// Their figures.
    pub figures: &'a HashMap<FeedKey, Arc<Figures>>,
    /// Now.
    pub now: Moment,
}

/// Pictures of a contact sheet.
pub const ON_A_SHEET: (usize, usize) = (480, 270);
/// JPEG quality of a still, in percent.
const QUALITY: u8 = 92;
/// What has not come for so long is not waited for.
const WAITS: Duration = Duration::from_secs(2);

/// What was asked for.
enum Asked {
    One(FeedKey),
    /// The streams of a screen in their order, with what stood under each.
    Sheet(Vec<(Option<FeedKey>, Vec<String>)>, Vec<String>),
}

/// Pictures are gathered for so long,
const GATHERS: Duration = Duration::from_secs(2);
/// and of fast streams no more than this.
const MOST_GATHERED: usize = 50;

/// Pictures that are gathered to be averaged.
pub(crate) struct Burst {
    key: FeedKey,
    begun: Mono,
    pictures: Vec<Arc<TilePicture>>,
}

impl Burst {
    /// Nothing came yet.
    pub const fn begin(key: FeedKey, now: Mono) -> Self {
        Self { key, begun: now, pictures: Vec::new() }
    }

    /// The stream that they are of.
    pub const fn key(&self) -> FeedKey {
        self.key
    }

    /// Pictures came; whether another one is to be asked for.
    pub fn take(&mut self, now: Mono, came: Vec<Arc<TilePicture>>) -> bool {
        let any = !came.is_empty();
        self.pictures.extend(came);
        any && !self.is_over(now)
    }

    /// Whether there are enough.
    pub fn is_over(&self, now: Mono) -> bool {
        now.since(self.begun) >= GATHERS || self.pictures.len() >= MOST_GATHERED
    }
}

/// Where a picture was kept, or why not.
type Done = Result<PathBuf, String>;

/// Gathers pictures, and lets them be written on a thread of their own.
pub(crate) struct Stills {
    options: StillOptions,
    asked: Option<(Asked, Instant)>,
    came: HashMap<FeedKey, Arc<TilePicture>>,
    done: (Sender<Done>, Receiver<Done>),
}

impl Stills {
    /// Nothing asked yet.
    pub fn new(options: StillOptions) -> Self {
        Self { options, asked: None, came: HashMap::new(), done: unbounded() }
    }

    /// One camera's picture was asked for.
    pub fn ask_one(&mut self, key: FeedKey) {
        self.came.clear();
        self.asked = Some((Asked::One(key), Instant::now()));
    }

    /// The pictures of a screen were asked for, to stand under this title; gives the streams that they come from.
    pub fn ask_sheet(&mut self, title: String, places: Vec<SheetPlace>, facts: &Facts<'_>) -> Vec<FeedKey> {
        self.came.clear();
        let of = |place: &SheetPlace| match place {
            SheetPlace::Stream(key) => Some(*key),
            SheetPlace::Empty(_) => None,
        };
        let keys = places.iter().filter_map(of).collect();
        let place = |place| match place {
            SheetPlace::Stream(key) => (Some(key), lines(facts, key, None)),
            SheetPlace::Empty(text) => (None, vec![text]),
        };
        let title = vec![title, format!("{}, by this machine's clock", moment(facts.now.utc))];
        self.asked = Some((Asked::Sheet(places.into_iter().map(place).collect(), title), Instant::now()));
        keys
    }

    /// Pictures came; what is to be said of what was asked before.
    pub fn take(&mut self, facts: &Facts<'_>, came: Vec<(FeedKey, Arc<TilePicture>)>) -> Option<Result<String, String>> {
        self.came.extend(came);
        let late = self.asked.as_ref().is_some_and(|(_, since)| since.elapsed() > WAITS);
        match self.asked.take() {
            Some((Asked::One(key), since)) => match self.came.remove(&key) {
                Some(picture) => self.write_one(facts, key, &picture),
                None if late => {
                    return Some(Err(format!("{}: no clean picture came within 2 s", facts.cameras.stream_name(key))));
                }
                None => self.asked = Some((Asked::One(key), since)),
            },
            Some((Asked::Sheet(places, title), since)) => {
                let all = places.iter().filter_map(|(key, _)| *key).all(|key| self.came.contains_key(&key));
                if all || late {
                    self.write_sheet(places, title, facts.now.utc);
                } else {
                    self.asked = Some((Asked::Sheet(places, title), since));
                }
            }
            None => {}
        }
        let done = self.done.1.try_recv().ok()?;
        Some(done.map(|path| format!("kept: {}", path.display())))
    }

    fn write_one(&self, facts: &Facts<'_>, key: FeedKey, picture: &TilePicture) {
        let lines = lines(facts, key, Some(picture));
        let at = facts.now.wall(picture.ready);
        let name = facts.cameras.stream_name(key);
        let raster = Raster::new(picture.width, picture.height, picture.rgb.to_vec());
        self.write(at, &name, self.options.form, move || Ok(captioned(&raster?, &lines)?));
    }

    /// Averages what was gathered, and writes it.
    pub fn write_burst(&self, facts: &Facts<'_>, burst: Burst) {
        let name = facts.cameras.stream_name(burst.key);
        let Some(last) = burst.pictures.last().cloned() else {
            let _ = self.done.0.send(Err(format!("{name}: no clean picture came within 2 s")));
            return;
        };
        let mut lines = lines(facts, burst.key, Some(&last));
        let at = facts.now.wall(last.ready);
        let span = last.ready.since(burst.pictures[0].ready).as_secs_f64();
        self.write(at, &format!("{name}-averaged"), StillForm::Png, move || {
            let of = |picture: &Arc<TilePicture>| (picture.width, picture.height, picture.rgb.to_vec());
            let pictures: Vec<_> = burst.pictures.iter().map(of).collect();
            let size = (last.width, last.height);
            let alike = pictures.iter().filter(|(width, height, _)| (*width, *height) == size);
            let alike: Vec<Rgb<'_>> = alike.map(|(width, height, bytes)| Rgb { width: *width, height: *height, bytes }).collect();
            let merged = merge(&alike).context("the pictures are too small to be averaged")?;
            lines.push(format!(
                "averaged from {} of {} pictures of {span:.1} s, aligned, edges made clearer",
                merged.used,
                pictures.len()
            ));
            Ok(captioned(&Raster::new(size.0, size.1, merged.bytes)?, &lines)?)
        });
    }

    fn write_sheet(&mut self, places: Vec<(Option<FeedKey>, Vec<String>)>, title: Vec<String>, at: Wall) {
        let mut came = std::mem::take(&mut self.came);
        let raster = |key: FeedKey, came: &mut HashMap<FeedKey, Arc<TilePicture>>| {
            let picture = came.remove(&key)?;
            Raster::new(picture.width, picture.height, picture.rgb.to_vec()).ok()
        };
        let missing = |mut lines: Vec<String>| {
            lines.push("no picture".into());
            lines
        };
        let places: Vec<_> = places
            .into_iter()
            .map(|(key, mut lines)| {
                let adjust = key.and_then(|key| came.get(&key)).and_then(|picture| adjusted(&picture.adjust));
                lines.extend(adjust);
                (key, lines)
            })
            .collect::<Vec<_>>()
            .into_iter()
            .map(|(key, lines)| match (key, key.and_then(|key| raster(key, &mut came))) {
                (Some(_), None) => (None, missing(lines)),
                (_, raster) => (raster, lines),
            })
            .collect();
        self.write(at, "wall", StillForm::Png, move || Ok(contact_sheet(&places, ON_A_SHEET, &title)?));
    }

    fn write(&self, at: Wall, name: &str, form: StillForm, make: impl FnOnce() -> anyhow::Result<Raster> + Send + 'static) {
        let (done, folder) = (self.done.0.clone(), self.options.folder.clone());
        let name = file_name(at, name, form);
        let write = move || -> anyhow::Result<PathBuf> {
            let folder = folder.map_or_else(places::stills, Ok)?;
            std::fs::create_dir_all(&folder).with_context(|| format!("{} cannot be made", folder.display()))?;
            let raster = make()?;
            let bytes = if form == StillForm::Png { raster.png()? } else { raster.jpeg(QUALITY)? };
            let path = std::path::absolute(folder.join(name))?;
            places::write_new(&path, &bytes).with_context(|| format!("{} cannot be written", path.display()))?;
            Ok(path)
        };
        let spawned = std::thread::Builder::new().name("stills".into()).spawn(move || {
            let _ = done.send(write().map_err(|error| format!("{error:#}")));
        });
        if let Err(error) = spawned {
            let _ = self.done.0.send(Err(format!("the picture was not kept: {error}")));
        }
    }
}

fn moment(at: Wall) -> String {
    let at = jiff::Timestamp::from_microsecond(at.as_unix_micros()).unwrap_or_default();
    at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S%.3f %Z").to_string()
}

/// A name that sorts by time: in UTC, to the millisecond.
fn file_name(at: Wall, name: &str, form: StillForm) -> String {
    let at = jiff::Timestamp::from_microsecond(at.as_unix_micros()).unwrap_or_default();
    let name: String = name.chars().map(|letter| if letter.is_alphanumeric() { letter } else { '-' }).collect();
    let ending = if form == StillForm::Png { "png" } else { "jpg" };
    format!("{}-{name}.{ending}", at.to_zoned_datetime(jiff::tz::TimeZone::UTC).strftime("%Y%m%dT%H%M%S%.3fZ"))
}

/// What was done to a picture, where that is something.
#[must_use]
pub fn adjusted(adjust: &Adjust) -> Option<String> {
    (!adjust.is_off()).then(|| format!("adjusted for the screen, not by the camera: {adjust}"))
}

/// What stands under a picture: camera, time and its basis, size, figures.
fn lines(facts: &Facts<'_>, key: FeedKey, picture: Option<&TilePicture>) -> Vec<String> {
    let figures = facts.figures.get(&key);
    let mut lines = vec![facts.cameras.stream_name(key)];
    if let Some(picture) = picture {
        let seen = facts.now.wall(picture.ready);
        let latency = figures.and_then(|figures| figures.latency);
        let captured = match latency.filter(|latency| latency.basis.is_whole()) {
            Some(latency) => {
                // From capture to where this picture was ready: without the drawing.
                let before = latency.path.p50 + latency.buffer.p50 + latency.decode.map_or(Duration::ZERO, |decode| decode.p50);
                let by = if latency.basis == LatencyBasis::Flash { "as flashes told" } else { "by the camera's clock" };
                let error = latency.error.map_or_else(String::new, |error| format!(" ±{}", error.as_millis().max(1)));
                format!("captured some {}{error} ms before, {by}", before.as_millis())
            }
            None => "when it was captured is not known".into(),
        };
        lines.extend([format!("decoded {}, by this machine's clock", moment(seen)), captured]);
    }
    lines.extend(picture.and_then(|picture| adjusted(&picture.adjust)));
    let Some(figures) = figures else { return lines };
    let rate = |rate: Option<f64>| rate.map_or_else(|| "–".into(), |rate| format!("{rate:.1}"));
    let size = figures.size.map_or_else(|| "–".into(), |(width, height)| format!("{width}×{height}"));
    let declared = figures.declared.map(FrameRate::per_second);
    let codec = figures.codec.clone().unwrap_or_default();
    let verdict = figures.verdict;
    let lost = figures.packets.lost;
    let rates = format!("{} of {} frames/s", rate(figures.sent), rate(declared));
    lines.push(format!("{size} {codec}, {rates}, {lost} packets lost, {verdict}"));
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_sort_by_time_and_are_names() {
        let at = Wall::from_unix_micros(1_795_500_000_123_456);
        let name = file_name(at, "Slipway north/../main", StillForm::Jpeg);
        assert_eq!(name, "20261124T060000.123Z-Slipway-north----main.jpg");
        assert!(file_name(at.offset(1_000_000), "a", StillForm::Png) > name);
    }
}
