//! Pictures that are kept: of one camera at full size, or of the whole wall.

use crate::app::{App, FeedKey};
use crate::cli::StillForm;
use crate::places;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::meter::LatencyBasis;
use lattice_core::{FrameRate, Wall};
use lattice_media::TilePicture;
use lattice_report::{Raster, captioned, contact_sheet};
use std::collections::HashMap;
use std::fs::File;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A still is as large as its stream.
pub const FULL: (usize, usize) = (16_384, 16_384);
/// Pictures of a contact sheet.
pub const ON_A_SHEET: (usize, usize) = (480, 270);
/// What has not come for so long is not waited for.
const WAITS: Duration = Duration::from_secs(2);

/// What was asked for.
enum Asked {
    One(FeedKey),
    /// The streams of the wall in their order, with what stood under each.
    Wall(Vec<(Option<FeedKey>, Vec<String>)>, Vec<String>),
}

/// Where a picture was kept, or why not.
type Done = Result<PathBuf, String>;

/// Gathers pictures, and lets them be written on a thread of their own.
pub struct Stills {
    form: StillForm,
    folder: Option<PathBuf>,
    asked: Option<(Asked, Instant)>,
    came: HashMap<FeedKey, Arc<TilePicture>>,
    done: (Sender<Done>, Receiver<Done>),
}

impl Stills {
    /// Nothing asked yet; they go into this folder, or the usual one.
    pub fn new(form: StillForm, folder: Option<&Path>) -> Self {
        let folder = folder.map(Path::to_owned);
        Self { form, folder, asked: None, came: HashMap::new(), done: unbounded() }
    }

    /// One camera's picture was asked for.
    pub fn ask_one(&mut self, key: FeedKey) {
        self.came.clear();
        self.asked = Some((Asked::One(key), Instant::now()));
    }

    /// The pictures of the wall were asked for.
    pub fn ask_wall(&mut self, app: &App) {
        self.came.clear();
        let places = app.lattices.shown().places();
        let place = |place: usize| match app.tile_at(place) {
            Some(tile) => (Some(tile.key()), lines(app, tile.key(), None)),
            None => (None, vec![app.placed(place).map_or_else(|| "empty".into(), |placed| placed.camera.clone())]),
        };
        let title = format!("{}, {}", app.site.name, app.lattices.shown().name);
        let title = vec![title, format!("{}, by this machine's clock", moment(app.utc))];
        self.asked = Some((Asked::Wall((0..places).map(place).collect(), title), Instant::now()));
    }

    /// Pictures came; what is to be said of what was asked before.
    pub fn take(&mut self, app: &App, came: Vec<(FeedKey, Arc<TilePicture>)>) -> Option<Result<String, String>> {
        self.came.extend(came);
        let late = self.asked.as_ref().is_some_and(|(_, since)| since.elapsed() > WAITS);
        match self.asked.take() {
            Some((Asked::One(key), since)) => match self.came.remove(&key) {
                Some(picture) => self.write_one(app, key, &picture),
                None if late => return Some(Err(format!("{}: no clean picture came within 2 s", app.stream_name(key)))),
                None => self.asked = Some((Asked::One(key), since)),
            },
            Some((Asked::Wall(places, title), since)) => {
                let all = places.iter().filter_map(|(key, _)| *key).all(|key| self.came.contains_key(&key));
                if all || late {
                    self.write_wall(places, title, app.utc);
                } else {
                    self.asked = Some((Asked::Wall(places, title), since));
                }
            }
            None => {}
        }
        let done = self.done.1.try_recv().ok()?;
        Some(done.map(|path| format!("kept: {}", path.display())))
    }

    fn write_one(&self, app: &App, key: FeedKey, picture: &TilePicture) {
        let lines = lines(app, key, Some(picture));
        let at = app.utc.offset(picture.ready.micros_since(app.now));
        let name = app.stream_name(key);
        let raster = Raster::new(picture.width, picture.height, picture.rgb.clone());
        self.write(at, &name, self.form, move || Ok(captioned(&raster?, &lines)?));
    }

    fn write_wall(&mut self, places: Vec<(Option<FeedKey>, Vec<String>)>, title: Vec<String>, at: Wall) {
        let mut came = std::mem::take(&mut self.came);
        let raster = |key: FeedKey, came: &mut HashMap<FeedKey, Arc<TilePicture>>| {
            let picture = came.remove(&key)?;
            Raster::new(picture.width, picture.height, picture.rgb.clone()).ok()
        };
        let missing = |mut lines: Vec<String>| {
            lines.push("no picture".into());
            lines
        };
        let places: Vec<_> = places
            .into_iter()
            .map(|(key, lines)| match (key, key.and_then(|key| raster(key, &mut came))) {
                (Some(_), None) => (None, missing(lines)),
                (_, raster) => (raster, lines),
            })
            .collect();
        self.write(at, "wall", StillForm::Png, move || Ok(contact_sheet(&places, ON_A_SHEET, &title)?));
    }

    fn write(&self, at: Wall, name: &str, form: StillForm, make: impl FnOnce() -> anyhow::Result<Raster> + Send + 'static) {
        let (done, folder) = (self.done.0.clone(), self.folder.clone());
        let name = file_name(at, name, form);
        let write = move || -> anyhow::Result<PathBuf> {
            let folder = folder.map_or_else(places::stills, Ok)?;
            std::fs::create_dir_all(&folder).with_context(|| format!("{} cannot be made", folder.display()))?;
            let raster = make()?;
            let bytes = if form == StillForm::Png { raster.png()? } else { raster.jpeg()? };
            let path = std::path::absolute(folder.join(name))?;
            let mut file = File::create_new(&path).with_context(|| format!("{} cannot be written", path.display()))?;
            file.write_all(&bytes).with_context(|| format!("{} cannot be written", path.display()))?;
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

/// What stands under a picture: camera, time and its basis, size, figures.
fn lines(app: &App, key: FeedKey, picture: Option<&TilePicture>) -> Vec<String> {
    let figures = app.figures.get(&key);
    let mut lines = vec![app.stream_name(key)];
    if let Some(picture) = picture {
        let seen = app.utc.offset(picture.ready.micros_since(app.now));
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
