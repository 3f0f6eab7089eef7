//! The bench: two to four streams side by side, on common axes, and aligned.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::fronts::picker::{Line, Picker};
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::meter::{Figures, Span};
use lattice_core::playout::{Alignment, LONGEST, Member, Playout};
use lattice_core::{FrameRate, Role, Transport};
use lattice_engine::{Command, FeedKey};
use lattice_net::Origin;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Duration;

/// Streams that stand side by side at most.
pub const MOST: usize = 4;
/// What one key press changes a buffer by.
const BUFFER_STEP: i64 = 20;
/// After a buffer changed, pictures of before are no sign of trouble for so long beyond it.
const SETTLES: Duration = Duration::from_millis(500);

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
    /// The scales have what the lines need, and no zero.
    pub fitted: bool,
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

impl Keyed for Bench {
    const NAME: &'static str = "Bench";
    const KEYS: &'static [Key<Self>] = &[
        key("right l tab", "select the next stream", |bench: &mut Self, _| bench.select(1)),
        key("left h shift-tab", "select the stream before", |bench: &mut Self, _| bench.select(-1)),
        key("a", "add a stream, four at most", |_, app| app.put_in_front(Picker::list("Add a stream to the bench", lines)))
            .hint("add"),
        key("x", "take the selected stream off", |bench: &mut Self, app| bench.remove(app)).hint("remove"),
        key("m", "the camera's other stream in its place", Self::switch_stream).hint("main/sub"),
        key("t", "the selected stream by UDP and by TCP", Self::both_transports).hint("UDP/TCP"),
        key("A", "align: delay all to the slowest, so that one event appears at once; or not", Self::change_alignment)
            .hint("align"),
        key("+ =", "20 ms more receive buffer", |bench: &mut Self, app| bench.change_buffer(app, 1)).hint("buffer"),
        key("-", "20 ms less", |bench: &mut Self, app| bench.change_buffer(app, -1)),
        key("p", "the buffer that was measured to be enough", Self::take_proposal).hint("proposed"),
        key("P", "the default buffer of its place again", |bench: &mut Self, app| {
            if let Some(key) = bench.chosen(app) {
                bench.set_buffer(app, key, None);
            }
        }),
        key("s", "look back on 1 minute, 10 minutes, 1 hour, 1 day", |bench: &mut Self, _| bench.span = bench.span.next())
            .hint("span"),
        key("0", "scales from zero, or fitted to the lines", |bench: &mut Self, _| bench.fitted = !bench.fitted).hint("scale"),
        moves("down j", "the next chart first, where there is no room for all", |bench: &mut Self, _| bench.turn_charts(1)),
        moves("up k", "the chart before", |bench: &mut Self, _| bench.turn_charts(-1)),
        key("w", "write the charts to an SVG file", |bench: &mut Self, app| {
            let charts = (!bench.streams.is_empty()).then(|| view::charts_on_paper(app, bench));
            app.write(charts);
        })
        .hint("write"),
        help::everything(),
        help::key(),
        back("esc q B", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "B", "the bench: main and sub of this camera side by side; add others there", Self::begin).hint("bench"),
        way("Roster", "B", "the bench: its main and sub side by side", Self::begin),
    ];
}

impl Page for Bench {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, body, painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let panes = view::panes(app, self, body).into_iter().enumerate();
        panes.map(|(painter, (key, area, _))| Watched::whole(key, painter, area)).collect()
    }

    fn keeps_open(&self, _: &App) -> Vec<FeedKey> {
        self.streams.clone()
    }

    fn playout(&self, app: &App, key: FeedKey) -> Option<Playout> {
        if !self.streams.contains(&key) {
            return None;
        }
        let buffer = app.buffer(key).length;
        Some(match self.delay.filter(|_| self.aligned) {
            Some(delay) => Playout::Aligned { delay, buffer },
            // A buffer of nothing still measures how unevenly units arrive.
            None => Playout::Buffered(buffer),
        })
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn stream(&self, _: &App) -> Option<FeedKey> {
        self.streams.get(self.selected).copied()
    }

    fn camera(&self, app: &App) -> Option<String> {
        self.stream(app).map(|key| app.camera_name(key.camera).to_owned())
    }

    fn on_snapshot(&mut self, app: &mut App) {
        self.align(app);
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Press(at) => {
                let panes = view::panes(app, self, app.body());
                let clicked = panes.iter().position(|(_, picture, below)| picture.contains(at) || below.contains(at));
                self.selected = clicked.unwrap_or(self.selected);
            }
            Mouse::Wheel(by, _) => self.turn_charts(by),
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

impl Bench {
    fn begin(&mut self, app: &mut App) {
        let camera = app.camera_meant().and_then(|name| app.cameras.id(&name));
        *self = Self { span: self.span, aligned: self.aligned, fitted: self.fitted, ..Self::default() };
        if let Some((camera, def)) = camera.and_then(|camera| Some((camera, app.cameras.get(camera)?))) {
            self.streams = def.streams.iter().map(|stream| FeedKey::new(camera, stream.role)).take(2).collect();
        }
        app.open(Self::NAME);
        self.buffers_changed(app);
        if self.streams.len() == 1 {
            app.say(Tone::Text, "this camera has one stream: a adds another camera's, t its other transport".into());
        }
    }

    /// The selected stream; said where there is none.
    fn chosen(&self, app: &mut App) -> Option<FeedKey> {
        let chosen = self.streams.get(self.selected).copied();
        if chosen.is_none() {
            app.say(Tone::Text, "the bench is empty: a adds a stream".into());
        }
        chosen
    }

    fn select(&mut self, by: i32) {
        self.selected = (self.selected as i32 + by).rem_euclid(self.streams.len().max(1) as i32) as usize;
    }

    fn turn_charts(&mut self, by: i32) {
        self.first_chart = (self.first_chart as i32 + by).rem_euclid(view::CHARTS as i32) as usize;
    }

    fn remove(&mut self, app: &mut App) {
        if self.chosen(app).is_some() {
            self.streams.remove(self.selected);
            self.selected = self.selected.min(self.streams.len().saturating_sub(1));
        }
    }

    fn change_alignment(&mut self, app: &mut App) {
        self.aligned = !self.aligned;
        (self.alignment, self.delay) = (Alignment::default(), None);
        self.align(app);
        self.buffers_changed(app);
    }

    /// Keeps the delay of an aligned bench up to what its streams need.
    fn align(&mut self, app: &mut App) {
        if !self.aligned {
            return;
        }
        let member = |key: &FeedKey| Member {
            least_path: app.figures.get(key).and_then(|figures| figures.arrival?.least_path),
            buffer: app.buffer(*key).length,
        };
        let members: Vec<Member> = self.streams.iter().map(member).collect();
        let delay = self.alignment.update(app.now, &members);
        if delay != self.delay {
            self.delay = delay;
            self.buffers_changed(app);
        }
    }

    fn buffers_changed(&self, app: &mut App) {
        let longest = self.streams.iter().map(|key| app.buffer(*key).length).max().unwrap_or_default();
        // Nothing new is shown until the new buffer has filled.
        app.same_tiles_since = app.now + longest.max(self.delay.unwrap_or_default()) + SETTLES;
    }

    /// How far the aligned streams are apart on the screen; `None` before two of them were drawn.
    pub fn apart(&self, app: &App) -> Option<Apart> {
        if !self.aligned {
            return None;
        }
        let figures: Vec<_> = self.streams.iter().filter_map(|key| app.figures.get(key)).collect();
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
            without_clock: self.streams.len() - on_clock.len(),
        })
    }

    fn change_buffer(&mut self, app: &mut App, steps: i32) {
        let Some(key) = self.chosen(app) else { return };
        let now = app.buffer(key).length.as_millis() as i64;
        let next = (now + i64::from(steps) * BUFFER_STEP).clamp(0, LONGEST.as_millis() as i64);
        self.set_buffer(app, key, Some(Duration::from_millis(next as u64)));
    }

    fn take_proposal(&mut self, app: &mut App) {
        let Some(key) = self.chosen(app) else { return };
        match app.figures.get(&key).and_then(|figures| figures.arrival?.proposal()) {
            Some(proposal) => self.set_buffer(app, key, Some(proposal)),
            None => app.say(Tone::Text, "a buffer is proposed when 50 frames have arrived".into()),
        }
    }

    /// Puts a stream on the bench.
    fn put(&mut self, app: &mut App, key: FeedKey) {
        if self.streams.contains(&key) {
            app.say(Tone::Text, format!("{} is on the bench already", app.stream_name(key)));
        } else if self.streams.len() == MOST {
            app.say(Tone::Text, "the bench takes four streams: x takes one off".into());
        } else {
            self.streams.push(key);
            self.selected = self.streams.len() - 1;
            self.buffers_changed(app);
        }
    }

    fn switch_stream(&mut self, app: &mut App) {
        let Some(key) = self.chosen(app) else { return };
        let Some(def) = app.cameras.get(key.camera) else { return };
        let roles: Vec<Role> = def.streams.iter().map(|stream| stream.role).collect();
        let at = roles.iter().position(|role| *role == key.role).unwrap_or(0);
        let others = (1..roles.len()).map(|n| FeedKey { role: roles[(at + n) % roles.len()], ..key });
        match others.into_iter().find(|other| !self.streams.contains(other)) {
            Some(other) => self.streams[self.selected] = other,
            None => app.say(Tone::Text, "its other streams are on the bench already, or it has none".into()),
        }
    }

    fn both_transports(&mut self, app: &mut App) {
        let Some(key) = self.chosen(app) else { return };
        if !matches!(app.cameras.origin(key), Some(Origin::Url(_))) {
            app.say(Tone::Text, "only a stream that is asked for by RTSP comes by UDP and by TCP".into());
            return;
        }
        let by = |by| FeedKey { by: Some(by), ..key };
        let (udp, tcp) = (by(Transport::Udp), by(Transport::Tcp));
        let other = if key.by == Some(Transport::Tcp) { udp } else { tcp };
        if self.streams.contains(&other) {
            app.say(Tone::Text, "both are on the bench".into());
        } else if self.streams.len() == MOST {
            app.say(Tone::Text, "the bench takes four streams: x takes one off".into());
        } else {
            if key.by.is_none() {
                self.streams[self.selected] = udp;
            }
            self.streams.insert(self.selected + 1, other);
            self.buffers_changed(app);
        }
    }

    /// Another receive buffer for a stream, or that of its place; kept in the site.
    fn set_buffer(&self, app: &mut App, key: FeedKey, buffer: Option<Duration>) {
        self.buffers_changed(app);
        app.tell(Command::Buffer(FeedKey { by: None, ..key }, buffer));
    }
}

/// Every stream that can stand on the bench.
fn lines(app: &App) -> Vec<Line> {
    let streams = app.cameras.iter().flat_map(|(camera, def)| {
        def.streams.iter().flat_map(move |stream| {
            let key = FeedKey::new(camera, stream.role);
            let ways: &[Option<Transport>] = match stream.origin {
                Origin::Url(_) => &[None, Some(Transport::Udp), Some(Transport::Tcp)],
                Origin::Listen(_) | Origin::Pictures { .. } => &[None],
            };
            ways.iter().map(move |by| FeedKey { by: *by, ..key })
        })
    });
    let line = |key: FeedKey| {
        let is_there = app.peek::<Bench>().is_some_and(|bench| bench.streams.contains(&key));
        let detail = if is_there { "on the bench" } else { "" };
        Line::new(&app.stream_name(key), detail.into(), "", move |app| app.on_page(|bench: &mut Bench, app| bench.put(app, key)))
    };
    streams.map(line).collect()
}
