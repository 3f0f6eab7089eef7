//! The terminal and the loop: wait, update, draw. Nothing else knows the terminal.

use crate::app::{App, CameraDef, Effect, FeedKey, Site, StreamDef, StreamRole};
use crate::cli::{OpenOptions, WallOptions};
use crate::demo::StandIn;
use crate::engine::{Bell, Engine};
use crate::paint::{CellPainter, Painter as _};
use crate::theme::{ColourDepth, Theme};
use crate::view;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use lattice_net::{Origin, clock};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{self, DisableMouseCapture, EnableMouseCapture, Event};
use ratatui::crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode, window_size};
use ratatui::crossterm::{cursor, execute};
use std::collections::HashMap;
use std::io::{self, IsTerminal as _, Stdout, Write};
use std::process::ExitCode;
use std::sync::Once;
use std::time::{Duration, Instant};

/// A wall of any sources.
pub fn open(options: &OpenOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    let cameras = options
        .urls
        .iter()
        .map(|origin| CameraDef {
            name: camera_name(origin),
            streams: vec![StreamDef { role: StreamRole::Main, origin: origin.clone() }],
        })
        .collect();
    wall(Site { name: "Sources".into(), cameras, prefer: StreamRole::Main }, &options.wall, None)
}

/// A source without a name is called by its host and path.
fn camera_name(origin: &Origin) -> String {
    let (Origin::Url(url) | Origin::Pictures { url, .. }) = origin else { return origin.to_string() };
    let port = if url.port() == url.scheme().default_port() { String::new() } else { format!(":{}", url.port()) };
    format!("{}{port}{}", url.host(), url.path().split('?').next().unwrap_or(""))
}

/// Collects a whole screen and writes it at once, wrapped as one update (mode 2026).
struct ScreenWriter {
    out: Stdout,
    pending: Vec<u8>,
}

const BEGIN_UPDATE: &[u8] = b"\x1b[?2026h";
const END_UPDATE: &[u8] = b"\x1b[?2026l";

impl Write for ScreenWriter {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.pending.is_empty() {
            self.pending.extend_from_slice(BEGIN_UPDATE);
        }
        self.pending.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if !self.pending.is_empty() {
            self.pending.extend_from_slice(END_UPDATE);
            self.out.write_all(&self.pending)?;
            self.pending.clear();
        }
        self.out.flush()
    }
}

/// The terminal in the wall's mode; restored when dropped, and on a panic of this thread.
struct Screen {
    terminal: Terminal<CrosstermBackend<ScreenWriter>>,
    stderr: Option<rustix::fd::OwnedFd>,
}

static HOOK: Once = Once::new();

fn restore() {
    let _ = disable_raw_mode();
    let _ = execute!(io::stdout(), DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
}

impl Screen {
    fn enter() -> anyhow::Result<Self> {
        anyhow::ensure!(
            io::stdout().is_terminal() && io::stdin().is_terminal(),
            "the wall needs a terminal; for scripts there is `amber-lattice measure`"
        );
        HOOK.call_once(|| {
            let main = std::thread::current().id();
            let before = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |info| {
                tracing::error!("{info}");
                // A worker's panic is told to the log; the wall goes on without it.
                if std::thread::current().id() == main {
                    restore();
                    before(info);
                }
            }));
        });
        let stderr = crate::logging::quiet_stderr();
        enable_raw_mode().context("the terminal cannot be set up")?;
        execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, cursor::Hide)?;
        let writer = ScreenWriter { out: io::stdout(), pending: Vec::with_capacity(1 << 20) };
        Ok(Self { terminal: Terminal::new(CrosstermBackend::new(writer))?, stderr })
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        restore();
        if let Some(stderr) = self.stderr.take() {
            let _ = rustix::stdio::dup2_stderr(&stderr);
        }
    }
}

enum Input {
    Event(Event),
    Signal,
}

fn read_input(sender: Sender<Input>) -> anyhow::Result<()> {
    let mut signals = signal_hook::iterator::Signals::new([
        signal_hook::consts::SIGTERM,
        signal_hook::consts::SIGHUP,
        signal_hook::consts::SIGINT,
    ])?;
    let on_signal = sender.clone();
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        if signals.forever().next().is_some() {
            let _ = on_signal.send(Input::Signal);
        }
    })?;
    std::thread::Builder::new().name("input".into()).spawn(move || {
        while let Ok(event) = event::read() {
            if sender.send(Input::Event(event)).is_err() {
                return;
            }
        }
        let _ = sender.send(Input::Signal); // the terminal is gone
    })?;
    Ok(())
}

/// Width of a cell over its height, where the terminal says; half otherwise.
fn cell_aspect() -> f64 {
    let aspect = window_size()
        .ok()
        .filter(|size| size.width > 0 && size.height > 0 && size.columns > 0 && size.rows > 0)
        .map(|size| (f64::from(size.width) / f64::from(size.columns)) / (f64::from(size.height) / f64::from(size.rows)));
    aspect.filter(|aspect| (0.3..0.8).contains(aspect)).unwrap_or(0.5)
}

/// Runs a wall until the operator leaves.
pub fn wall(site: Site, options: &WallOptions, standin: Option<StandIn>) -> anyhow::Result<ExitCode> {
    let (bell_sender, bell) = bounded(1);
    let ring = Bell::new(bell_sender);
    let engine = Engine::new(site.clone(), options.transport.into(), ring.clone())?;
    let screen = Screen::enter()?;
    let depth = ColourDepth::from_environment(|name| std::env::var(name).ok());
    let aspect = cell_aspect();
    let area = screen.terminal.size().map(|size| ratatui::layout::Rect::new(0, 0, size.width, size.height))?;
    let (app, effects) = App::new(site, standin.is_some(), area, aspect);
    let painters = app.tiles.iter().map(|_| CellPainter::new(options.paint, depth, aspect)).collect();
    let mut wall = Wall {
        bell: ring,
        app,
        engine,
        screen,
        painters,
        standin,
        theme: Theme { depth },
        reported: HashMap::new(),
        quit: false,
    };
    wall.carry_out(effects);
    let (sender, input) = unbounded();
    read_input(sender)?;
    let result = wall.run(&input, &bell, Duration::from_secs_f64(1.0 / f64::from(options.redraws)));
    let Wall { engine, screen, standin, .. } = wall;
    drop(screen);
    engine.shut_down();
    drop(standin);
    result.map(|()| ExitCode::SUCCESS)
}

struct Wall {
    app: App,
    engine: Engine,
    bell: Bell,
    screen: Screen,
    painters: Vec<CellPainter>,
    standin: Option<StandIn>,
    theme: Theme,
    reported: HashMap<FeedKey, u64>,
    quit: bool,
}

/// Without pictures the screen is drawn this often: seconds run, the next try comes nearer.
const IDLE_REDRAW: Duration = Duration::from_millis(500);

impl Wall {
    fn run(&mut self, input: &Receiver<Input>, bell: &Receiver<()>, least_between: Duration) -> anyhow::Result<()> {
        let mut last = Instant::now();
        let mut due = last;
        while !self.quit {
            let wait = due.saturating_duration_since(Instant::now());
            select! {
                recv(input) -> message => {
                    self.on_input(&message.unwrap_or(Input::Signal));
                    while let Ok(message) = input.try_recv() {
                        self.on_input(&message);
                    }
                    due = Instant::now(); // a key acts at once
                }
                recv(bell) -> _ => due = due.min((last + least_between).max(Instant::now())),
                default(wait) => {
                    self.draw()?;
                    last = Instant::now();
                    due = last + IDLE_REDRAW;
                }
            }
        }
        Ok(())
    }

    fn on_input(&mut self, input: &Input) {
        self.app.now = clock::now();
        let effects = match input {
            Input::Signal => vec![Effect::Quit],
            Input::Event(Event::Key(key)) => self.app.on_key(*key),
            Input::Event(Event::Mouse(mouse)) => self.app.on_mouse(*mouse),
            Input::Event(_) => Vec::new(), // a resize is seen when drawing
        };
        self.carry_out(effects);
    }

    fn carry_out(&mut self, effects: Vec<Effect>) {
        for effect in effects {
            match effect {
                Effect::Open(key) => self.engine.open(key),
                Effect::Close(key) => {
                    self.engine.close(key);
                    self.reported.remove(&key);
                }
                Effect::Retry(key) => self.engine.retry(key),
                Effect::Damage(choice) => self.engine.on_damage(choice),
                Effect::Fault(camera, order) => {
                    if !self.standin.as_mut().is_some_and(|standin| standin.order(camera, order)) {
                        tracing::warn!(camera, order, "the stand-in cameras took no order");
                    }
                }
                Effect::Quit => self.quit = true,
            }
        }
    }

    fn take_news(&mut self) {
        self.bell.answered();
        self.app.now = clock::now();
        self.app.clock = jiff::ZonedDateTime::now().strftime("%H:%M:%S").to_string();
        let keys = self.engine.keys();
        let figures = keys.iter().filter_map(|key| Some((*key, self.engine.figures(*key)?))).collect();
        let pictures = keys.iter().filter_map(|key| Some((*key, self.engine.picture(*key)?))).collect();
        let effects = self.app.on_news(figures, pictures);
        self.carry_out(effects);
    }

    /// Tells every decoder what its tile can show.
    fn tell_wanted(&mut self) {
        let regions = view::regions(&self.app);
        let visible = self.app.visible();
        for key in self.engine.keys() {
            let tile = visible.iter().find(|(visible, _)| *visible == key).map(|(_, tile)| *tile);
            let region = tile.and_then(|tile| regions.tiles.iter().find(|region| region.tile == tile));
            let wanted = region.and_then(|region| Some(self.painters.get(region.tile)?.wanted(region.picture)));
            self.engine.want(key, wanted.filter(|wanted| wanted.width > 0 && wanted.height > 0));
        }
    }

    fn draw(&mut self) -> anyhow::Result<()> {
        self.take_news();
        let size = self.screen.terminal.size()?;
        self.app.area = ratatui::layout::Rect::new(0, 0, size.width, size.height);
        self.tell_wanted();
        let Self { app, theme, painters, screen, .. } = self;
        let mut drawn = Vec::new();
        screen.terminal.draw(|frame| {
            app.area = frame.area();
            drawn = view::draw(app, *theme, painters, frame.buffer_mut());
        })?;
        for key in drawn.iter().filter_map(|tile| self.app.tiles.get(*tile)).map(crate::app::Tile::key) {
            let Some(number) = self.app.pictures.get(&key).map(|picture| picture.number) else { continue };
            if self.reported.insert(key, number) != Some(number) {
                self.engine.drawn(key, number);
            }
        }
        Ok(())
    }
}
