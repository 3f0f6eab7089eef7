//! The bench: two to four streams side by side, on common axes, and aligned.

use super::{App, Effect, FeedKey, Pick, PickKind, Picker};
use crate::desk::Page;
use crate::theme::Tone;
use lattice_core::meter::{Figures, Span};
use lattice_core::playout::{Alignment, LONGEST, Member, Playout};
use lattice_core::{FrameRate, Role, Transport};
use lattice_engine::{Buffer, Command};
use lattice_net::Origin;
use std::sync::Arc;
use std::time::Duration;

/// Streams that stand side by side at most.
pub const MOST: usize = 4;
/// What one key press changes a buffer by.
const BUFFER_STEP: i64 = 20;
/// After a buffer changed, pictures of before are no sign of trouble for so long beyond it.
const SETTLES: Duration = Duration::from_millis(500);

/// A step on the bench.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BenchStep {
    /// Put the streams of the selected camera on it.
    Open,
    /// Select another stream.
    Select(i32),
    /// Add a stream.
    Add,
    /// Take the selected one off.
    Remove,
    /// Show the selected camera's other stream in its place.
    SwitchStream,
    /// The selected stream by UDP and by TCP beside each other.
    BothTransports,
    /// Align all, or not.
    Align,
    /// More receive buffer, or less, by steps.
    Buffer(i32),
    /// Take the buffer that was measured to be enough.
    TakeProposal,
    /// The default of its place again.
    DefaultBuffer,
    /// Look back on another span.
    Span,
    /// Show other charts first, where there is no room for all.
    Charts(i32),
}

/// Streams side by side.
#[derive(Debug, Default)]
pub struct Bench {
    /// The streams, at most four.
    pub streams: Vec<FeedKey>,
    /// The selected one.
    pub selected: usize,
    /// They are to be aligned.
    pub aligned: bool,
    /// From capture to the decoder, for all of them; `None` while none has a clock.
    pub delay: Option<Duration>,
    alignment: Alignment,
    /// What the charts look back on.
    pub span: Span,
    /// The chart that is shown first.
    pub first_chart: usize,
}

/// How far aligned streams are apart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Apart {
    /// Between the earliest and the latest of them, by the medians from capture to screen.
    pub offset: Duration,
    /// How far that may be off, by the bounds of their clocks.
    pub error: Duration,
    /// The shortest frame period among them.
    pub frame: Option<Duration>,
    /// Streams that have no clock and stand apart from it.
    pub without_clock: usize,
}

impl Bench {
    /// The letter of a stream in the charts.
    pub fn letter(index: usize) -> char {
        (b'a' + index as u8) as char
    }
}

impl App {
    /// The receive buffer of a stream.
    pub fn buffer(&self, key: FeedKey) -> Buffer {
        let figures = self.figures.get(&key).map(Arc::as_ref);
        lattice_engine::buffer(&self.desk.site, &self.cameras, &self.buffers, figures, key)
    }

    /// When units of a stream go on to the decoder, where that is for this screen to say: on the bench.
    pub fn playout(&self, key: FeedKey) -> Option<Playout> {
        if self.page != Page::Bench || !self.bench.streams.contains(&key) {
            return None;
        }
        let buffer = self.buffer(key).length;
        Some(match self.bench.delay.filter(|_| self.bench.aligned) {
            Some(delay) => Playout::Aligned { delay, buffer },
            // A buffer of nothing still measures how unevenly units arrive.
            None => Playout::Buffered(buffer),
        })
    }

    /// A name for a stream: camera, stream, and transport where it was chosen here.
    pub fn stream_name(&self, key: FeedKey) -> String {
        self.cameras.stream_name(key)
    }

    /// Keeps the delay of an aligned bench up to what its streams need.
    pub(super) fn align(&mut self) {
        if self.page != Page::Bench || !self.bench.aligned {
            return;
        }
        let member = |key: &FeedKey| Member {
            least_path: self.figures.get(key).and_then(|figures| figures.arrival?.least_path),
            buffer: self.buffer(*key).length,
        };
        let members: Vec<Member> = self.bench.streams.iter().map(member).collect();
        let delay = self.bench.alignment.update(self.now, &members);
        if delay != self.bench.delay {
            self.bench.delay = delay;
            self.buffers_changed();
        }
    }

    fn buffers_changed(&mut self) {
        let longest = self.bench.streams.iter().map(|key| self.buffer(*key).length).max().unwrap_or_default();
        // Nothing new is shown until the new buffer has filled.
        self.same_tiles_since = self.now + longest.max(self.bench.delay.unwrap_or_default()) + SETTLES;
    }

    /// How far the aligned streams are apart on the screen; `None` before two of them were drawn.
    pub fn apart(&self) -> Option<Apart> {
        if !self.bench.aligned {
            return None;
        }
        let figures: Vec<_> = self.bench.streams.iter().filter_map(|key| self.figures.get(key)).collect();
        let on_clock = figures.iter().filter_map(|figures| {
            let latency = figures.latency.filter(|latency| latency.basis.is_whole() && latency.draw.is_some())?;
            Some((latency.total.p50, latency.error.unwrap_or_default()))
        });
        let on_clock: Vec<(Duration, Duration)> = on_clock.collect();
        let earliest = on_clock.iter().min().filter(|_| on_clock.len() > 1)?;
        let latest = on_clock.iter().max()?;
        let rate = |figures: &&std::sync::Arc<Figures>| figures.declared.map(FrameRate::per_second).or(figures.sent);
        let fastest = figures.iter().filter_map(rate).filter(|rate| *rate > 0.0).max_by(f64::total_cmp);
        Some(Apart {
            offset: latest.0.saturating_sub(earliest.0),
            error: earliest.1 + latest.1,
            frame: fastest.map(|rate| Duration::from_secs_f64(1.0 / rate)),
            without_clock: self.bench.streams.len() - on_clock.len(),
        })
    }

    pub(super) fn bench_step(&mut self, step: BenchStep) -> Vec<Effect> {
        let selected = self.bench.streams.get(self.bench.selected).copied();
        match (step, selected) {
            (BenchStep::Open, _) => self.open_bench(),
            (BenchStep::Select(by), _) => {
                let count = self.bench.streams.len().max(1) as i32;
                self.bench.selected = (self.bench.selected as i32 + by).rem_euclid(count) as usize;
            }
            (BenchStep::Add, _) => self.picker = Some(Picker::new(PickKind::Bench)),
            (BenchStep::Align, _) => {
                self.bench.aligned = !self.bench.aligned;
                (self.bench.alignment, self.bench.delay) = (Alignment::default(), None);
                self.align();
                self.buffers_changed();
            }
            (BenchStep::Span, _) => {
                let at = Span::ALL.iter().position(|span| *span == self.bench.span).unwrap_or(0);
                self.bench.span = Span::ALL[(at + 1) % Span::ALL.len()];
            }
            (BenchStep::Charts(by), _) => {
                let count = crate::view::CHARTS as i32;
                self.bench.first_chart = (self.bench.first_chart as i32 + by).rem_euclid(count) as usize;
            }
            (_, None) => self.say(Tone::Text, "the bench is empty: a adds a stream".into()),
            (BenchStep::Remove, Some(_)) => {
                self.bench.streams.remove(self.bench.selected);
                self.bench.selected = self.bench.selected.min(self.bench.streams.len().saturating_sub(1));
            }
            (BenchStep::SwitchStream, Some(key)) => self.switch_on_bench(key),
            (BenchStep::BothTransports, Some(key)) => self.both_transports(key),
            (BenchStep::Buffer(steps), Some(key)) => {
                let now = self.buffer(key).length.as_millis() as i64;
                let next = (now + i64::from(steps) * BUFFER_STEP).clamp(0, LONGEST.as_millis() as i64);
                return self.set_buffer(key, Some(Duration::from_millis(next as u64)));
            }
            (BenchStep::TakeProposal, Some(key)) => {
                let proposal = self.figures.get(&key).and_then(|figures| figures.arrival?.proposal());
                match proposal {
                    Some(proposal) => return self.set_buffer(key, Some(proposal)),
                    None => self.say(Tone::Text, "a buffer is proposed when 50 frames have arrived".into()),
                }
            }
            (BenchStep::DefaultBuffer, Some(key)) => return self.set_buffer(key, None),
        }
        Vec::new()
    }

    /// Puts the streams of the selected camera on the bench: main against sub.
    fn open_bench(&mut self) {
        let camera = match self.page {
            Page::Roster => self.roster_selected().and_then(|camera| self.camera_index(&camera.name)),
            _ => self.selected_tile().map(|tile| tile.camera),
        };
        self.bench = Bench { span: self.bench.span, aligned: self.bench.aligned, ..Bench::default() };
        if let Some((camera, def)) = camera.and_then(|camera| Some((camera, self.cameras.get(camera)?))) {
            self.bench.streams = def.streams.iter().map(|stream| FeedKey::new(camera, stream.role)).take(2).collect();
        }
        self.page = Page::Bench;
        self.buffers_changed();
        if self.bench.streams.len() == 1 {
            self.say(Tone::Text, "this camera has one stream: a adds another camera's, t its other transport".into());
        }
    }

    /// Puts a stream on the bench.
    pub(super) fn put_on_bench(&mut self, key: FeedKey) {
        if self.bench.streams.contains(&key) {
            self.say(Tone::Text, format!("{} is on the bench already", self.stream_name(key)));
        } else if self.bench.streams.len() == MOST {
            self.say(Tone::Text, "the bench takes four streams: x takes one off".into());
        } else {
            self.bench.streams.push(key);
            self.bench.selected = self.bench.streams.len() - 1;
            self.buffers_changed();
        }
    }

    fn switch_on_bench(&mut self, key: FeedKey) {
        let Some(def) = self.cameras.get(key.camera) else { return };
        let roles: Vec<Role> = def.streams.iter().map(|stream| stream.role).collect();
        let at = roles.iter().position(|role| *role == key.role).unwrap_or(0);
        let others = (1..roles.len()).map(|n| FeedKey { role: roles[(at + n) % roles.len()], ..key });
        match others.into_iter().find(|other| !self.bench.streams.contains(other)) {
            Some(other) => self.bench.streams[self.bench.selected] = other,
            None => self.say(Tone::Text, "its other streams are on the bench already, or it has none".into()),
        }
    }

    fn both_transports(&mut self, key: FeedKey) {
        if !matches!(self.cameras.origin(key), Some(Origin::Url(_))) {
            self.say(Tone::Text, "only a stream that is asked for by RTSP comes by UDP and by TCP".into());
            return;
        }
        let by = |by| FeedKey { by: Some(by), ..key };
        let (udp, tcp) = (by(Transport::Udp), by(Transport::Tcp));
        let other = if key.by == Some(Transport::Tcp) { udp } else { tcp };
        if self.bench.streams.contains(&other) {
            self.say(Tone::Text, "both are on the bench".into());
        } else if self.bench.streams.len() == MOST {
            self.say(Tone::Text, "the bench takes four streams: x takes one off".into());
        } else {
            if key.by.is_none() {
                self.bench.streams[self.bench.selected] = udp;
            }
            self.bench.streams.insert(self.bench.selected + 1, other);
            self.buffers_changed();
        }
    }

    /// Another receive buffer for a stream, or that of its place; kept in the site.
    fn set_buffer(&mut self, key: FeedKey, buffer: Option<Duration>) -> Vec<Effect> {
        let key = FeedKey { by: None, ..key };
        self.buffers_changed();
        vec![Effect::Tell(Command::Buffer(key, buffer))]
    }

    /// Every stream that can stand on the bench.
    pub(super) fn bench_lines(&self) -> Vec<super::picker::Line> {
        let lines = self.cameras.iter().flat_map(|(camera, def)| {
            def.streams.iter().flat_map(move |stream| {
                let key = FeedKey::new(camera, stream.role);
                let ways: &[Option<Transport>] = match stream.origin {
                    Origin::Url(_) => &[None, Some(Transport::Udp), Some(Transport::Tcp)],
                    Origin::Listen(_) | Origin::Pictures { .. } => &[None],
                };
                ways.iter().map(move |by| FeedKey { by: *by, ..key })
            })
        });
        let line = |key: FeedKey| super::picker::Line {
            label: self.stream_name(key),
            detail: if self.bench.streams.contains(&key) { "on the bench".into() } else { String::new() },
            key: String::new(),
            pick: Pick::Bench(key),
        };
        lines.map(line).collect()
    }
}
