//! The terminal and the loop: wait, update, draw. Nothing else knows the terminal.

use crate::app::{App, CameraDef, Effect, FeedKey, Site, StreamDef, StreamRole};
use crate::cli::{OpenOptions, WallOptions};
use crate::demo::StandIn;
use crate::desk::{Errand, Page};
use crate::engine::{Bell, Engine};
use crate::errands::{DeskNews, Errands, Outcome};
use crate::kept::Kept;
use crate::paint::{CellPainter, Painter as _};
use crate::theme::{ColourDepth, Theme, Tone};
use crate::view;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use lattice_core::target::Target;
use lattice_net::{Origin, clock};
use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture, Event,
};
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
    let transport = options.wall.transport.into();
    let cameras = options
        .urls
        .iter()
        .map(|origin| CameraDef {
            name: camera_name(origin),
            streams: vec![StreamDef { role: StreamRole::Main, origin: origin.clone() }],
            transport,
            trust: lattice_net::Trust::Verify,
        })
        .collect();
    wall(Site { name: "Sources".into(), cameras, prefer: StreamRole::Main }, &options.wall, None, None)
}

/// The wall of a site.
pub fn site(options: &WallOptions, named: Option<&std::path::Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    let kept = Kept::open(named)?;
    let name = kept.file.site().name.clone().unwrap_or_else(|| "Amber Lattice".into());
    wall(Site { name, cameras: Vec::new(), prefer: StreamRole::Sub }, options, None, Some((kept, false)))
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
    let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
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
        execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, EnableBracketedPaste, cursor::Hide)?;
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

/// Runs a wall until the operator leaves. `desk` is the site that cameras are kept in, and whether searches stay on
/// loopback; its cameras come onto the wall beside those of `site`.
pub fn wall(
    mut site: Site,
    options: &WallOptions,
    standin: Option<StandIn>,
    desk: Option<(Kept, bool)>,
) -> anyhow::Result<ExitCode> {
    let (news_sender, news) = unbounded();
    // The sender stays here too: a channel without one would ring without end.
    let errands = desk.map(|(kept, loopback_only)| Errands::new(kept, news_sender.clone(), loopback_only)).transpose()?;
    if let Some(errands) = &errands {
        site.cameras.extend(errands.definitions());
    }
    let (bell_sender, bell) = bounded(1);
    let ring = Bell::new(bell_sender);
    let engine = Engine::new(site.clone(), options.transport.into(), ring.clone())?;
    let screen = Screen::enter()?;
    let depth = ColourDepth::from_environment(|name| std::env::var(name).ok());
    let aspect = cell_aspect();
    let area = screen.terminal.size().map(|size| ratatui::layout::Rect::new(0, 0, size.width, size.height))?;
    let (mut app, effects) = App::new(site, standin.is_some(), area, aspect);
    if let Some(errands) = &errands {
        app.desk.available = true;
        app.desk.faults = crate::kept::known_firmware_faults()?;
        app.desk.ranges = errands.proposed();
        app.desk.site = errands.kept.file.site().clone();
    } else {
        app.page = Page::Wall;
    }
    let paint = options.paint;
    let mut wall = Wall {
        bell: ring,
        app,
        engine,
        screen,
        painters: Vec::new(),
        new_painter: Box::new(move || CellPainter::new(paint, depth, aspect)),
        errands,
        looked_at_file: Instant::now(),
        standin,
        theme: Theme { depth },
        reported: HashMap::new(),
        quit: false,
    };
    wall.carry_out(effects);
    let (sender, input) = unbounded();
    read_input(sender)?;
    let result = wall.run(&input, &bell, &news, Duration::from_secs_f64(1.0 / f64::from(options.redraws)));
    drop(news_sender);
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
    new_painter: Box<dyn Fn() -> CellPainter>,
    errands: Option<Errands>,
    looked_at_file: Instant,
    standin: Option<StandIn>,
    theme: Theme,
    reported: HashMap<FeedKey, u64>,
    quit: bool,
}

/// How often the site file is looked at for changes made elsewhere.
const LOOK_AT_FILE: Duration = Duration::from_secs(2);
/// Without pictures the screen is drawn this often: seconds run, the next try comes nearer.
const IDLE_REDRAW: Duration = Duration::from_millis(500);

impl Wall {
    fn run(
        &mut self,
        input: &Receiver<Input>,
        bell: &Receiver<()>,
        news: &Receiver<DeskNews>,
        least_between: Duration,
    ) -> anyhow::Result<()> {
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
                recv(news) -> message => {
                    let mut message = message.ok();
                    while let Some(one) = message {
                        self.on_desk_news(one);
                        message = news.try_recv().ok();
                    }
                    due = due.min((last + least_between).max(Instant::now()));
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
            Input::Event(Event::Paste(text)) => self.app.on_paste(text),
            Input::Event(_) => Vec::new(), // a resize is seen when drawing
        };
        self.carry_out(effects);
    }

    fn carry_out(&mut self, effects: Vec<Effect>) {
        for effect in effects {
            match effect {
                Effect::Define(index) => {
                    if let Some(camera) = self.app.site.cameras.get(index) {
                        self.engine.define(index, camera.clone());
                    }
                }
                Effect::Errand(errand) => self.run_errand(errand),
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

    fn run_errand(&mut self, errand: Errand) {
        let Some(errands) = &mut self.errands else { return };
        match &errand {
            Errand::Take(targets) => {
                let shown = targets.iter().map(ToString::to_string);
                self.app.desk.asking = shown.collect();
                self.app.desk.taken.clear();
                self.app.desk.locked.clear();
            }
            Errand::Search(_) => {
                self.app.desk.findings.begin();
                self.app.desk.ticked.clear();
            }
            _ => {}
        }
        match errands.carry_out(errand) {
            Ok(outcome) => self.on_outcome(outcome),
            Err(text) => self.app.say(Tone::Alarm, text),
        }
    }

    fn on_outcome(&mut self, outcome: Outcome) {
        if let Some(errands) = &self.errands {
            self.app.desk.site = errands.kept.file.site().clone();
        }
        let mut effects = Vec::new();
        for (from, to) in outcome.renamed {
            self.app.rename_camera(&from, &to);
        }
        for name in outcome.removed {
            effects.extend(self.app.remove_camera(&name));
        }
        for camera in outcome.renewed {
            effects.extend(self.app.renew_camera(camera));
        }
        for camera in outcome.added {
            effects.extend(self.app.add_camera(camera));
        }
        if let Some(text) = outcome.say {
            self.app.say(Tone::Text, text);
        }
        self.carry_out(effects);
    }

    fn on_desk_news(&mut self, news: DeskNews) {
        self.app.now = clock::now();
        match news {
            DeskNews::Found(found) => drop(self.app.desk.findings.learn(found.address, found.learnt)),
            DeskNews::Searching(progress) => self.app.desk.progress = Some(progress),
            DeskNews::Checked(subject, ladder, done) => self.app.desk.on_check(&subject, ladder, done),
            DeskNews::Device(name, facts) => {
                if let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) {
                    page.facts = Some(facts);
                }
            }
            DeskNews::Clock(name, clock) => {
                if let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) {
                    page.clock = Some(clock);
                }
            }
            DeskNews::Ordered(name, result) => {
                let (tone, text) = match &result {
                    Ok(done) => (Tone::Text, format!("{name}: {done}")),
                    Err(why) => (Tone::Alarm, format!("{name}: {why}")),
                };
                self.app.say(tone, text);
                self.run_errand(Errand::AskDevice(name)); // as it is now
            }
            DeskNews::PasswordSet(done, account, failed) => {
                let Some(errands) = &mut self.errands else { return };
                match errands.on_password_set(&done, &account, &failed) {
                    Ok(outcome) => self.on_outcome(outcome),
                    Err(text) => self.app.say(Tone::Alarm, text),
                }
                if let Some(name) = self.app.desk.device.as_ref().map(|page| page.camera.clone()) {
                    self.run_errand(Errand::AskDevice(name));
                }
            }
            DeskNews::Asked(target, result) => {
                let Some(errands) = &mut self.errands else { return };
                let (taken, outcome) = errands.on_asked(&target, result);
                self.app.desk.asking.retain(|shown| *shown != taken.shown);
                if taken.locked {
                    self.app.desk.locked.push(target.with_credentials(None));
                } else if let Target::Device { host, .. } = &target
                    && let Ok(address) = host.parse()
                {
                    self.app.desk.ticked.remove(&address);
                }
                self.app.desk.taken.push(taken);
                self.on_outcome(outcome);
            }
        }
    }

    /// The site file may be edited elsewhere while the wall runs: only what changed is touched.
    fn look_at_file(&mut self) {
        if self.looked_at_file.elapsed() < LOOK_AT_FILE {
            return;
        }
        self.looked_at_file = Instant::now();
        let Some(errands) = &mut self.errands else { return };
        match errands.reload() {
            Ok(None) => {}
            Ok(Some(outcome)) => self.on_outcome(outcome),
            Err(text) => {
                if self.app.notice.as_ref().is_none_or(|notice| notice.text != text) {
                    self.app.say(Tone::Alarm, text);
                }
            }
        }
    }

    fn take_news(&mut self) {
        self.look_at_file();
        while self.painters.len() < self.app.tiles.len() {
            self.painters.push((self.new_painter)());
        }
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
