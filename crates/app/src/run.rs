//! The loop: wait, update, draw.

mod desk;

use crate::app::{App, CameraDef, Effect, FeedKey, Site, StreamDef};
use crate::cli::{CornerOptions, OpenOptions, WallOptions};
use crate::demo::StandIn;
use crate::desk::Page;
use crate::engine::{Bell, Engine};
use crate::errands::{DeskNews, Errands};
use crate::keep::Keeper;
use crate::kept::Kept;
use crate::outward::Outward;
use crate::stills::{FULL, ON_A_SHEET, Stills};
use crate::theme::{Theme, Tone};
use crate::view;
use crossbeam_channel::{Receiver, bounded, select, unbounded};
use lattice_core::lattice::Aspect;
use lattice_core::ledger::Ledger;
use lattice_core::meter::FlashStep;
use lattice_core::{Mono, Role};
use lattice_media::TilePicture;
use lattice_net::{Origin, clock};
use lattice_report::Report;
use lattice_store::Screens;
use lattice_term::ColourDepth;
use lattice_term::InPixels;
use lattice_term::{Ability, CellPainter, TilePainter};
use lattice_term::{Answer, Input, Screen, Tmux, cell_aspect, read_input};
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::layout::Rect;
use std::collections::{BTreeSet, HashMap};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// What a wall begins with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Begin {
    /// The screen that was named, or the first lattice, or all cameras.
    Usual,
    /// This camera or lattice of the site, without header and footer where that is said.
    Named(String, bool),
    /// These cameras of the site, in a small window.
    Corner(Vec<String>),
}

/// A wall of any sources, or of something of the site.
pub fn open(options: &OpenOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    if let [name] = options.sources.as_slice()
        && let Ok(kept) = Kept::open(named)
        && (kept.file.site().lattice(name).is_some() || kept.file.site().camera(name).is_some())
    {
        return of_site(kept, &options.wall, &Begin::Named(name.clone(), options.full));
    }
    let transport = options.wall.transport.into();
    let camera = |text: &String| -> anyhow::Result<CameraDef> {
        let origin = crate::cli::origin(text).map_err(|error| anyhow::anyhow!("{}: {error}", shown(text)))?;
        Ok(CameraDef {
            name: camera_name(&origin),
            streams: vec![StreamDef { role: Role::Main, origin, key: None }],
            transport,
            trust: lattice_net::Trust::Verify,
            viewers: None,
            link: None,
        })
    };
    let mut cameras: Vec<CameraDef> = options.sources.iter().map(camera).collect::<anyhow::Result<_>>()?;
    // Each its own name, also where a source is given twice.
    for index in 1..cameras.len() {
        let (before, rest) = cameras.split_at_mut(index);
        let same = before.iter().filter(|other| other.name == rest[0].name).count();
        if same > 0 {
            rest[0].name = format!("{} ({})", rest[0].name, same + 1);
        }
    }
    let begin = if options.full { Begin::Named(String::new(), true) } else { Begin::Usual };
    wall(Site { name: "Sources".into(), cameras, prefer: Role::Main }, &options.wall, None, None, &begin)
}

/// What was typed for a source, without a password that may stand in it.
fn shown(text: &str) -> String {
    lattice_core::target::understand(text).map_or_else(|_| "this source".into(), |reading| reading.target.to_string())
}

/// The wall of a site.
pub fn site(options: &WallOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    of_site(Kept::open(named)?, options, &Begin::Usual)
}

/// A few cameras in a small window.
pub fn corner(options: &CornerOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    let kept = Kept::open(named)?;
    if let Some(missing) = options.names.iter().find(|name| kept.file.site().camera(name).is_none()) {
        anyhow::bail!("the site has no camera {missing:?}: `amber-lattice roster` lists them");
    }
    of_site(kept, &options.wall, &Begin::Corner(options.names.clone()))
}

fn of_site(kept: Kept, options: &WallOptions, begin: &Begin) -> anyhow::Result<ExitCode> {
    if let Some(name) = options.screen.as_deref().filter(|name| kept.file.site().screen(name).is_none()) {
        let names: Vec<&str> = kept.file.site().screens.iter().map(|screen| screen.name.as_str()).collect();
        let has = if names.is_empty() { "none; name one by [[screen]] in the site file".into() } else { names.join(", ") };
        anyhow::bail!("the site has no screen {name:?}: it has {has}");
    }
    let name = kept.file.site().name.clone().unwrap_or_else(|| "Amber Lattice".into());
    wall(Site { name, cameras: Vec::new(), prefer: Role::Sub }, options, None, Some((kept, false)), begin)
}

/// A source without a name is called by its host and path.
fn camera_name(origin: &Origin) -> String {
    let (Origin::Url(url) | Origin::Pictures { url, .. }) = origin else { return origin.to_string() };
    let port = if url.port() == url.scheme().default_port() { String::new() } else { format!(":{}", url.port()) };
    format!("{}{port}{}", url.host(), url.path().split('?').next().unwrap_or(""))
}

/// Runs a wall until the operator leaves. `desk` is the site that cameras are kept in, and whether searches stay on
/// loopback; its cameras come onto the wall beside those of `site`.
pub fn wall(
    mut site: Site,
    options: &WallOptions,
    standin: Option<StandIn>,
    desk: Option<(Kept, bool)>,
    begin: &Begin,
) -> anyhow::Result<ExitCode> {
    let (news_sender, news) = unbounded();
    // The sender stays here too: a channel without one would ring without end.
    let errands = desk.map(|(kept, loopback_only)| Errands::new(kept, news_sender.clone(), loopback_only)).transpose()?;
    if let Some(errands) = &errands {
        let wanted = |camera: &CameraDef| !matches!(begin, Begin::Corner(names) if !names.contains(&camera.name));
        site.cameras.extend(errands.definitions().into_iter().filter(wanted));
    }
    let (bell_sender, bell) = bounded(1);
    let ring = Bell::new(bell_sender);
    let engine = Engine::new(site.clone(), options.transport.into(), ring.clone())?;
    let outward = Outward::start(options, &engine)?;
    let (sender, input) = unbounded();
    let quiet = crate::logging::quiet_stderr();
    let screen = Screen::enter(options.output_limit.map(|mbit| mbit * 1e6 / 8.0), &sender)?;
    let depth = ColourDepth::from_environment(|name| std::env::var(name).ok());
    let aspect = cell_aspect();
    let area = lattice_term::area()?;
    let (mut app, mut effects) = App::new(site, standin.is_some(), area, aspect);
    match &errands {
        Some(errands) => begin_with(&mut app, errands, options, begin)?,
        None => app.page = Page::Wall,
    }
    app.aids.light = options.light;
    app.aids.brightness = options.brightness;
    app.aids.care = options.burn_in_care;
    // The demo's site is gone with it, and so is its record.
    let record = errands.as_ref().map(|errands| match &standin {
        Some(_) => Ok(errands.kept.file.path().with_file_name("ledger.db")),
        None => crate::places::ledger(errands.kept.file.path()),
    });
    let keeper = record.transpose()?.map(|path| Keeper::start(&path, clock::pair().wall));
    app.log.operator = crate::report::operator();
    let mut keeper = keeper;
    if let Some(keeper) = &mut keeper {
        app.past = std::mem::take(&mut keeper.past);
        app.log.ledger = Ledger::from_kept(keeper.kept.clone());
        app.log.not_kept.clone_from(&keeper.remark);
    }
    app.screen.clone_from(&options.screen);
    let screens = errands.as_ref().map(|errands| anyhow::Ok(Screens::new(&crate::places::screens()?, errands.kept.file.path())));
    let screens = screens.transpose()?;
    app.bare = matches!(begin, Begin::Corner(_) | Begin::Named(_, true));
    effects.extend(app.settle());
    app.painting.arg = options.paint.into();
    app.painting.ability = Ability::of_environment(|name| std::env::var(name).ok());
    app.painting.mono = depth == ColourDepth::Mono;
    let paint = options.paint.into();
    let mut wall = Wall {
        bell: ring,
        app,
        engine,
        screen,
        painters: Vec::new(),
        new_painter: Box::new(move |tile| TilePainter::new(CellPainter::new(paint, depth, aspect), tile)),
        errands,
        looked_at_file: Instant::now(),
        surveyed: None,
        kept_seen: Instant::now(),
        screens,
        looked_at_screens: Instant::now(),
        decoding: lattice_media::measure_decoding(),
        standin,
        keeper,
        outward,
        stills: Stills::new(options.still, options.stills_in.as_deref()),
        kept_history: Instant::now(),
        theme: Theme::new(depth),
        reported: HashMap::new(),
        unfinished: HashMap::new(),
        page_since: (Mono::ZERO, None),
        quit: false,
    };
    wall.carry_out(effects);
    wall.screen.ask(&wall.app.painting.ability.questions());
    if wall.app.painting.ability.tmux.is_some() {
        let sender = sender.clone();
        Tmux::watch(move |tmux| sender.send(Input::Tmux(tmux)).is_ok())?;
    }
    read_input(sender)?;
    let result = wall.run(&input, &bell, &news, options.redraws);
    drop(news_sender);
    let Wall { mut app, engine, errands, screen, standin, screens, keeper, .. } = wall;
    if let Some(keeper) = &keeper {
        let (readings, missing) = std::mem::take(&mut app.unkept);
        keeper.keep_history(readings, missing);
    }
    if let Some(errands) = &errands {
        errands.keep_seen(&app.desk.seen);
    }
    if let (Some(screens), Some(name)) = (&screens, &app.screen) {
        screens.leave(name);
    }
    drop(keeper);
    drop(screen);
    drop(quiet);
    engine.shut_down();
    drop(standin);
    result.map(|()| ExitCode::SUCCESS)
}

/// The site of the desk, and what of it is shown first.
fn begin_with(app: &mut App, errands: &Errands, options: &WallOptions, begin: &Begin) -> anyhow::Result<()> {
    app.desk.available = true;
    app.desk.faults = crate::kept::known_firmware_faults()?;
    app.desk.ranges = errands.proposed();
    app.desk.site = errands.kept.file.site().clone();
    app.desk.seen = errands.seen();
    app.desk.own_addresses = desk::own_addresses();
    app.on_site();
    let first = app.desk.site.lattices.first().map(|lattice| lattice.name.clone());
    let screen = options.screen.as_deref().and_then(|name| app.desk.site.screen(name)).cloned();
    match (begin, screen) {
        (Begin::Named(name, _), _) if app.desk.site.lattice(name).is_some() => app.show_lattice(Some(name)),
        (Begin::Named(name, _), _) => app.show_camera(name),
        (Begin::Corner(_), _) => {}
        (Begin::Usual, None) => app.show_lattice(first.as_deref()),
        (Begin::Usual, Some(screen)) => match screen.shows.as_deref() {
            Some(name) if app.desk.site.tour(name).is_some() => app.begin_tour(name),
            shows => app.show_lattice(shows),
        },
    }
    app.page = if app.site.cameras.is_empty() { Page::Welcome } else { Page::Wall };
    Ok(())
}

struct Wall {
    app: App,
    engine: Engine,
    bell: Bell,
    screen: Screen,
    painters: Vec<TilePainter>,
    new_painter: Box<dyn Fn(u32) -> TilePainter>,
    errands: Option<Errands>,
    looked_at_file: Instant,
    surveyed: Option<Instant>,
    kept_seen: Instant,
    /// The screens of this site.
    screens: Option<Screens>,
    looked_at_screens: Instant,
    /// Megapixels a second that this machine decodes, as soon as it was measured.
    decoding: Receiver<f64>,
    standin: Option<StandIn>,
    /// Keeps the ledger.
    keeper: Option<Keeper>,
    kept_history: Instant,
    outward: Outward,
    /// Pictures that are to be kept.
    stills: Stills,
    theme: Theme,
    reported: HashMap<FeedKey, u64>,
    /// Pictures of which a part is still to be written: they stay until they are whole.
    unfinished: HashMap<FeedKey, (Rect, Arc<TilePicture>)>,
    /// Since when the same tiles are shown, and when that began, while a picture is still missing.
    page_since: (Mono, Option<Instant>),
    quit: bool,
}

/// Ctrl-Z: the shell is wanted.
fn is_suspend(key: KeyEvent) -> bool {
    key.code == KeyCode::Char('z') && key.modifiers == KeyModifiers::CONTROL && key.kind == KeyEventKind::Press
}

/// Readings go to the record in batches.
const KEEP_EVERY: Duration = Duration::from_secs(10);

/// Asks for the size of a cell and of the window in pixels.
const CELL_SIZE: &str = "\x1b[16t\x1b[14t";

/// Redraws a second at most. What is on the way to a terminal in pixels is little, and pictures wait less for their turn;
/// cells are many bytes, and go better together.
const REDRAWS_IN_PIXELS: u32 = 50;
const REDRAWS_IN_CELLS: u32 = 40;

/// Without pictures the screen is drawn this often: seconds run, the next try comes nearer.
const IDLE_REDRAW: Duration = Duration::from_millis(500);

impl Wall {
    fn run(
        &mut self,
        input: &Receiver<Input>,
        bell: &Receiver<()>,
        news: &Receiver<DeskNews>,
        redraws: Option<u32>,
    ) -> anyhow::Result<()> {
        let mut last = Instant::now();
        let mut due = last;
        while !self.quit {
            let usual = if self.app.painting.way().is_some() { REDRAWS_IN_PIXELS } else { REDRAWS_IN_CELLS };
            let least_between = Duration::from_secs_f64(1.0 / f64::from(redraws.unwrap_or(usual)));
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
                    // What the terminal did not take yet goes on at once.
                    due = self.screen.display.goes_on_at().map_or(last + IDLE_REDRAW, |at| at.max(last));
                    // Light comes and goes when it is meant to.
                    let flash = self.app.flash.due(self.app.now).map(|at| Instant::now() + at.since(clock::now()));
                    due = flash.map_or(due, |at| due.min(at.max(last + least_between)));
                }
            }
        }
        Ok(())
    }

    fn on_input(&mut self, input: &Input) {
        self.app.now = clock::now();
        let effects = match input {
            Input::Signal => vec![Effect::Quit],
            Input::Event(Event::Key(key)) if is_suspend(*key) => {
                self.screen.suspend();
                self.screen.ask(&self.app.painting.ability.questions()); // it may be another terminal
                Vec::new()
            }
            Input::Event(Event::Key(key)) => self.app.on_key(*key),
            Input::Event(Event::Mouse(mouse)) => self.app.on_mouse(*mouse),
            Input::Event(Event::Paste(text)) => self.app.on_paste(text),
            Input::Event(Event::Resize(..)) => {
                self.screen.ask(CELL_SIZE); // with another font, say
                Vec::new()
            }
            Input::Event(_) => Vec::new(),
            Input::Answer(answer) => self.on_answer(answer.clone()),
            Input::Tmux(tmux) => {
                self.app.painting.ability.on_tmux(tmux.clone());
                self.screen.ask(&self.app.painting.ability.questions());
                self.app.settle()
            }
        };
        self.carry_out(effects);
    }

    /// The terminal answered: it has done the last pictures, or something is known of it.
    fn on_answer(&mut self, answer: Answer) -> Vec<Effect> {
        if answer == Answer::Done {
            self.screen.display.on_done();
            return Vec::new();
        }
        let before = self.app.painting.way();
        let known = self.app.painting.ability.take(answer);
        if self.app.painting.way() != before {
            tracing::info!(ability = ?self.app.painting.ability, "pictures: {}", self.app.painting.told());
        }
        if known { self.app.settle() } else { Vec::new() }
    }

    /// How each tile is painted now.
    fn choose_painting(&mut self) {
        self.theme.solid = self.app.painting.way().is_some();
        for (place, painter) in self.painters.iter_mut().enumerate() {
            painter.pixels = self.app.pixels_at(place);
            painter.brightness = self.app.aids.brightness;
            painter.set_cells(self.app.painting.arg);
        }
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
                Effect::Report(path, span) => self.report(&path, span),
                Effect::Charts(title, pages) => self.write_charts(&title, &pages),
                Effect::Open(key) => self.engine.open(key),
                Effect::Close(key) => {
                    self.engine.close(key);
                    self.reported.remove(&key);
                }
                Effect::AskScreens => self.ask_screens(),
                Effect::Send(screen, order) => self.send_to(&screen, &order),
                Effect::Retry(key) => self.engine.retry(key),
                Effect::Still(key) => {
                    self.stills.ask_one(key);
                    self.engine.ask_still(key, FULL);
                }
                Effect::Sheet => {
                    self.stills.ask_wall(&self.app);
                    for tile in &self.app.tiles {
                        self.engine.ask_still(tile.key(), ON_A_SHEET);
                    }
                }
                Effect::Flash(key, step) => {
                    if let (FlashStep::Light { lit, .. }, Some(standin)) = (step, &mut self.standin) {
                        standin.light(lit);
                    }
                    self.engine.flash(key, step);
                }
                Effect::Damage(choice) => self.engine.on_damage(choice),
                Effect::Fault(camera, order) => {
                    let name = self.app.camera_name(camera).to_owned();
                    if !self.standin.as_mut().is_some_and(|standin| standin.order(&name, order)) {
                        self.app.say(Tone::Alarm, format!("{name} is no stand-in camera: it takes no faults"));
                    }
                }
                Effect::Quit => self.quit = true,
            }
        }
    }

    fn take_news(&mut self) {
        self.look_at_file();
        self.look_at_screens();
        if let Ok(measured) = self.decoding.try_recv() {
            tracing::info!("this machine decodes {measured:.0} megapixels a second");
            self.app.streams.machine = Some(measured);
            self.app.on_site();
        }
        while self.painters.len() < self.app.lattices.shown().places().max(crate::app::BENCH_MOST) {
            self.painters.push((self.new_painter)(self.painters.len() as u32));
        }
        self.bell.answered();
        self.app.now = clock::now();
        self.app.utc = clock::pair().wall;
        self.app.clock = jiff::ZonedDateTime::now().strftime("%H:%M:%S").to_string();
        let keys = self.engine.keys();
        let figures = keys.iter().filter_map(|key| Some((*key, self.engine.figures(*key)?))).collect();
        let pictures = keys.iter().filter_map(|key| Some((*key, self.engine.picture(*key)?))).collect();
        let effects = self.app.on_news(figures, pictures);
        match self.stills.take(&self.app, self.engine.stills()) {
            Some(Ok(news)) => self.app.say(Tone::Text, news),
            Some(Err(trouble)) => self.app.say(Tone::Alarm, trouble),
            None => {}
        }
        self.outward.figures(&self.app);
        let (changed, removed) = (self.app.log.ledger.take_changed(), self.app.log.ledger.take_removed());
        self.outward.entries(&changed);
        if let Some(keeper) = &self.keeper {
            keeper.keep(changed, removed);
            if self.kept_history.elapsed() >= KEEP_EVERY {
                let (readings, missing) = std::mem::take(&mut self.app.unkept);
                keeper.keep_history(readings, missing);
                self.kept_history = Instant::now();
            }
            self.app.record_size = keeper.size();
            match keeper.news.try_recv() {
                Ok(Ok(news)) => self.app.say(Tone::Text, news),
                Ok(Err(trouble)) => self.app.say(Tone::Alarm, trouble),
                Err(_) => {}
            }
        }
        self.carry_out(effects);
    }

    /// Lets the record's keeper write a report, once it has all readings.
    fn report(&mut self, path: &str, span: Duration) {
        let Some(keeper) = &self.keeper else {
            self.app.say(Tone::Text, "there is no record to report from: it belongs to a site".into());
            return;
        };
        let (readings, missing) = std::mem::take(&mut self.app.unkept);
        keeper.keep_history(readings, missing);
        let (path, now) = (crate::places::typed_path(path), self.app.utc);
        let site = self.app.site.name.clone();
        let groups = crate::report::groups(&self.app.desk.site);
        let by = self.app.log.operator.clone();
        keeper.ask(Box::new(move |record| {
            let (zone, from) = (jiff::tz::TimeZone::system(), now.offset(-(span.as_micros() as i64)));
            let gathered = crate::report::gather(record, &groups, (from, now, now), &zone)?;
            let (shift, entries) = (&gathered.shift, gathered.entries.as_slice());
            let report = Report { site: &site, from, to: now, made_at: now, by: &by, zone, shift, entries };
            crate::report::write(&path, &report, lattice_report::Table::default())?;
            Ok(format!("the report is written: {}", std::path::absolute(&path)?.display()))
        }));
    }

    /// Writes charts into the folder that the program was started in.
    fn write_charts(&mut self, title: &str, pages: &[lattice_report::Page]) {
        let subject: String =
            title.split(':').next().unwrap_or("charts").chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        let path = std::path::PathBuf::from(format!("{subject}-{}.svg", self.app.file_time()));
        match crate::report::write_pages(&path, pages, title).and_then(|()| Ok(std::path::absolute(&path)?)) {
            Ok(path) => self.app.say(Tone::Text, format!("the charts are written: {}", path.display())),
            Err(error) => self.app.say(Tone::Alarm, format!("{error:#}")),
        }
    }

    /// Tells every decoder what its tiles can show: the largest of them.
    fn tell_wanted(&mut self) {
        let regions = view::regions(&self.app);
        let watched = view::watched(&self.app);
        // What the tour shows next has its pictures when it turns.
        let ahead = self.app.decoded_ahead();
        let some = regions.tiles.first().map(|region| region.picture).unwrap_or_default();
        for key in self.engine.keys() {
            let shown = watched.iter().filter(|watched| watched.key == key);
            let shown = shown.map(|watched| (watched.painter, watched.area, watched.aspect));
            let shown = shown.chain(ahead.contains(&key).then_some((0, some, Aspect::Fit)));
            let wanted = shown.filter_map(|(place, area, aspect)| Some(self.painters.get(place)?.wanted(area, aspect)));
            let wanted = wanted.filter(|wanted| wanted.width > 0 && wanted.height > 0);
            self.engine.playout(key, self.app.playout(key));
            let thresholds = self.app.desk.site.thresholds_of(self.app.camera_name(key.camera), key.role);
            self.engine.thresholds(key, thresholds);
            self.engine.want(key, wanted.max_by_key(|wanted| wanted.width * wanted.height));
        }
    }

    fn draw(&mut self) -> anyhow::Result<()> {
        self.take_news();
        let whole_screen = lattice_term::area()?;
        self.app.area = self.app.aids.area(whole_screen, self.app.now);
        self.choose_painting();
        self.tell_wanted();
        let watched = view::watched(&self.app);
        let mut places: Vec<Rect> = watched.iter().map(|watched| watched.area).collect();
        places.dedup(); // a tile that changes to another stream has two
        self.unfinished.retain(|key, (area, _)| watched.iter().any(|one| one.key == *key && one.area == *area));
        let held = self.unfinished.iter().map(|(key, (_, picture))| (*key, picture.clone()));
        self.app.pictures.extend(held);
        self.app.unfinished = self.unfinished.keys().copied().collect();
        let Self { app, theme, painters, screen, .. } = self;
        let buf = screen.display.blank(whole_screen)?;
        let theme = Theme { light: app.aids.light, brightness: app.aids.brightness, ..*theme };
        let drawn = view::draw(app, theme, painters, buf);
        theme.dim(buf);
        let images: Vec<_> = painters.iter_mut().filter_map(TilePainter::take_image).collect();
        app.painting.painted = painters.iter().map(TilePainter::painted).collect();
        let first = (app.page == Page::Wall).then_some(app.selected as u32);
        let pixels = InPixels { images, first };
        let shown = screen.display.show(&places, theme.ground_colour(), &pixels)?;
        let waiting: BTreeSet<u64> =
            pixels.images.iter().zip(&shown.sent).filter(|(_, sent)| !**sent).map(|(image, _)| image.stream).collect();
        let whole = shown.whole;
        if let Some(failed) = shown.failed {
            app.painting.ability.failed = Some(failed.way);
            let told = app.painting.told();
            app.say(Tone::Alarm, format!("{} failed ({}): {told}", failed.way.words(), failed.why));
        }
        let light = self.app.light_shown(self.app.flash.lit(self.app.now), clock::now());
        self.carry_out(light.into_iter().collect());
        let mut complete = BTreeSet::new();
        for key in drawn {
            let Some(picture) = self.app.pictures.get(&key) else { continue };
            if waiting.contains(&key.number()) {
                continue; // the terminal has not done the last ones: the newest goes out when it has
            }
            let left = places.iter().zip(&whole).filter(|(_, whole)| !**whole).map(|(area, _)| *area);
            let left = left.into_iter().find(|area| watched.iter().any(|one| one.key == key && one.area == *area));
            if let Some(area) = left {
                self.unfinished.insert(key, (area, picture.clone()));
                continue;
            }
            self.unfinished.remove(&key);
            // One that was made before the tiles changed is there at once, and says nothing.
            if picture.ready >= self.app.same_tiles_since {
                complete.insert(key);
            }
            if self.reported.insert(key, picture.number) != Some(picture.number) {
                self.engine.drawn(key, picture.number);
            }
        }
        self.time_page(&complete);
        Ok(())
    }

    /// Tells the log how long it took until every tile of a page had its picture on the terminal.
    fn time_page(&mut self, complete: &BTreeSet<FeedKey>) {
        if self.page_since.0 != self.app.same_tiles_since {
            self.page_since = (self.app.same_tiles_since, Some(Instant::now()));
        }
        let Some(began) = self.page_since.1.filter(|_| self.app.page == Page::Wall) else { return };
        let tiles = || self.app.tiles.iter().filter(|tile| tile.short.is_none());
        if !self.app.enlarged && tiles().all(|tile| complete.contains(&tile.key())) {
            self.page_since.1 = None;
            tracing::info!(tiles = tiles().count(), millis = began.elapsed().as_millis() as u64, "every tile has its picture");
        }
    }
}
