//! The flash probe's page: the camera is pointed at this screen, which turns light and dark.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::page::{Key, Keyed, Page, WALL, Watched, Way, back, key, leave, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::flash::{FLASHES, LONGEST, Pattern};
use lattice_core::meter::FlashStep;
use lattice_core::{FrameRate, Mono};
use lattice_engine::{Command, FeedKey};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Duration;

/// How far a probe is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Phase {
    /// The camera is being pointed at the screen.
    #[default]
    Aiming,
    /// Flashes run, since then.
    Flashing(Pattern, Mono),
    /// They are over; pictures with the last ones may still come until then.
    Gathering(Mono),
    /// It is over.
    Done,
}

/// The page.
#[derive(Debug, Default)]
pub struct FlashPage {
    /// The stream whose latency is measured.
    pub key: Option<FeedKey>,
    /// How far it is.
    pub phase: Phase,
    /// What the terminal was made last.
    shown_lit: bool,
}

/// A stream whose rate is not known is taken for one of this rate.
const UNKNOWN_PERIOD: Duration = Duration::from_millis(200);
/// After the last flash its light is awaited for a time that a slow camera and path may take.
const GATHERS: Duration = Duration::from_secs(2);

impl FlashPage {
    /// Whether the screen is to be light now.
    pub fn lit(&self, now: Mono) -> bool {
        matches!(&self.phase, Phase::Flashing(pattern, began) if pattern.lit(now.since(*began)))
    }

    /// Flashes begun, and how long it still takes.
    pub fn progress(&self, now: Mono) -> Option<(usize, Duration)> {
        match &self.phase {
            Phase::Flashing(pattern, began) => {
                let since = now.since(*began);
                Some((pattern.begun(since), pattern.length().saturating_sub(since)))
            }
            Phase::Gathering(_) => Some((FLASHES, Duration::ZERO)),
            Phase::Aiming | Phase::Done => None,
        }
    }
}

impl Keyed for FlashPage {
    const NAME: &'static str = "Flash probe";
    const KEYS: &'static [Key<Self>] = &[
        key("enter", "ten flashes: the latency is measured", Self::start).hint("begin"),
        key("w", "write what was measured to an SVG file", |page: &mut Self, app| {
            let charts = view::on_paper(app, page);
            app.write(charts);
        })
        .hint("write"),
        key("x", "forget what was measured: back to its clock", Self::forget).hint("forget"),
        help::everything(),
        help::key(),
        back("esc q", "break off, back to the stream", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "P", "the flash probe: its latency from glass to glass, by flashes of this screen", Self::begin),
        way("Stream", "f", "measure its latency from glass to glass, by flashes of this screen", Self::begin).hint("flash"),
    ];
}

impl Page for FlashPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (Some(key), Some(painter)) = (self.key, painters.first_mut()) else { return Vec::new() };
        view::draw(app, self, theme, key, body, painter, buf).then_some(key).into_iter().collect()
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let area = view::picture(app, body);
        self.key.map(|key| Watched::whole(key, 0, area)).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn goes_on(&mut self, app: &mut App) {
        match &self.phase {
            Phase::Flashing(pattern, began) if app.now.since(*began) >= pattern.length() => {
                self.phase = Phase::Gathering(app.now + GATHERS);
            }
            // A path of seconds is waited for.
            Phase::Gathering(until) if app.now >= *until => {
                let reading = self.key.and_then(|key| app.figures.get(&key)?.flash.clone());
                let late = reading.is_some_and(|reading| reading.share.is_none());
                if late && app.now.since(*until) < LONGEST {
                    return;
                }
                self.phase = Phase::Done;
                self.tell(app, FlashStep::End);
            }
            _ => {}
        }
    }

    fn due(&self, now: Mono) -> Option<Mono> {
        match &self.phase {
            Phase::Flashing(pattern, began) => Some(*began + pattern.next(now.since(*began)).unwrap_or(pattern.length())),
            Phase::Gathering(until) => Some(*until),
            Phase::Aiming | Phase::Done => None,
        }
    }

    /// The terminal was made light or dark.
    fn shown(&mut self, app: &mut App, at: Mono) {
        let lit = self.lit(app.now);
        if std::mem::replace(&mut self.shown_lit, lit) != lit {
            self.tell(app, FlashStep::Light { at, lit });
        }
    }

    /// Whoever leaves while flashes run breaks the probe off.
    fn left(&mut self, app: &mut App) {
        if !matches!(self.phase, Phase::Aiming | Phase::Done) {
            self.tell(app, FlashStep::Forget);
            app.say(Tone::Text, "the flash probe was broken off".into());
        }
        *self = Self::default();
    }
}

impl FlashPage {
    fn tell(&self, app: &mut App, step: FlashStep) {
        if let Some(key) = self.key {
            app.tell(Command::Flash(key, step));
        }
    }

    fn begin(&mut self, app: &mut App) {
        let Some(key) = app.stream_meant() else {
            app.say(Tone::Text, "this tile is empty: p puts a camera here".into());
            return;
        };
        let known = app.figures.get(&key).is_some_and(|figures| figures.flash.is_some());
        let phase = if known { Phase::Done } else { Phase::Aiming };
        *self = Self { key: Some(key), phase, shown_lit: false };
        app.open(Self::NAME);
    }

    fn start(&mut self, app: &mut App) {
        let Some(key) = self.key.filter(|_| !matches!(self.phase, Phase::Flashing(..))) else { return };
        if !app.pictures.contains_key(&key) {
            app.say(Tone::Alarm, "there is no picture yet that the light could be seen in".into());
            return;
        }
        let period = app.figures.get(&key).and_then(|figures| {
            let declared = figures.declared.map(FrameRate::per_second);
            // The slower of what it declares and does: the flashes must be seen.
            [declared, figures.arrived].into_iter().flatten().filter(|rate| *rate > 0.1).reduce(f64::min)
        });
        let period = period.map_or(UNKNOWN_PERIOD, |rate| Duration::from_secs_f64(1.0 / rate));
        self.phase = Phase::Flashing(Pattern::new(app.utc.as_unix_micros().unsigned_abs(), period), app.now);
        self.tell(app, FlashStep::Begin);
    }

    fn forget(&mut self, app: &mut App) {
        self.phase = Phase::Aiming;
        self.tell(app, FlashStep::Forget);
    }
}
