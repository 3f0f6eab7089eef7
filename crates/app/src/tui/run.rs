//! The loop of a screen: wait, update, draw. It waits for nothing but the terminal; what takes time is the engine's.

use crate::cli::WallOptions;
use crate::commands::demo::StandIn;
use crate::logging::QuietStderr;
use crate::tui::app::regions::regions;
use crate::tui::app::{App, Effect, Tile};
use crate::tui::page::{Change, Page, Watched};
use crate::tui::theme::{Theme, Tone};
use crate::tui::view;
use anyhow::Context as _;
use crossbeam_channel::{Receiver, Sender, bounded, select, unbounded};
use lattice_core::Mono;
use lattice_core::meter::FlashStep;
use lattice_engine::{Bell, Command, Demand, Engine, FeedKey, Output, Shown, Snapshot, Viewer, print_of};
use lattice_media::TilePicture;
use lattice_net::clock;
use lattice_term::{Ability, Answer, CellPainter, ColourDepth, InPixels, Input, Paint, Screen, TilePainter, Tmux};
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::layout::Rect;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// A terminal that was taken, before anything is on it.
pub struct Entered {
    // The order matters: the terminal is given back before standard error is.
    screen: Screen,
    _quiet: Option<QuietStderr>,
    input: (Sender<Input>, Receiver<Input>),
    depth: ColourDepth,
    aspect: f64,
    area: Rect,
    paint: Paint,
    redraws: Option<u32>,
}

/// Takes the terminal.
pub fn enter(options: &WallOptions) -> anyhow::Result<Entered> {
    let quiet = crate::logging::quiet_stderr();
    if let Some(front) = crate::front::of_this_process() {
        lattice_term::kitty::name_after(front.as_raw_nonzero().get().unsigned_abs());
    }
    let input = unbounded();
    let screen = Screen::enter(options.output_limit.map(|mbit| mbit * 1e6 / 8.0), &input.0)?;
    Ok(Entered {
        screen,
        _quiet: quiet,
        input,
        depth: ColourDepth::from_environment(|name| std::env::var(name).ok()),
        aspect: lattice_term::cell_aspect(),
        area: lattice_term::area().context("the terminal is gone")?,
        paint: options.paint.into(),
        redraws: options.redraws,
    })
}

impl Entered {
    /// Its size in cells.
    pub const fn area(&self) -> Rect {
        self.area
    }

    /// Width of a cell over its height.
    pub const fn aspect(&self) -> f64 {
        self.aspect
    }

    /// Shows the engine's streams until the operator leaves; gives whether it is for the demo. The engine ends when the
    /// terminal has been given back.
    pub fn run(self, mut app: App, engine: Engine, standin: Option<StandIn>) -> anyhow::Result<bool> {
        let Self { screen, _quiet, input: (sender, input), depth, aspect, paint, redraws, .. } = self;
        app.painting.arg = paint;
        app.painting.ability = Ability::of_environment(|name| std::env::var(name).ok());
        app.painting.mono = depth == ColourDepth::Mono;
        let front = crate::front::of_this_process();
        let (ring, bell) = bounded(1);
        let ring = Bell::new(ring);
        let viewer = engine.viewer(ring.clone());
        app.viewer = viewer.id();
        let own = app.colours;
        let mut shown = Show {
            bell: ring,
            app,
            viewer,
            screen,
            painters: Vec::new(),
            new_painter: Box::new(move |tile| TilePainter::new(CellPainter::new(paint, depth, aspect), tile)),
            standin,
            theme: Theme { own, ..Theme::new(depth) },
            reported: HashMap::new(),
            outputs: Arc::default(),
            unfinished: HashMap::new(),
            laid: None,
            drawn: HashMap::new(),
            page_since: (Mono::ZERO, None),
            front,
            hidden: false,
            continued: false,
            quit: false,
        };
        shown.screen.ask(&shown.app.painting.ability.questions());
        if shown.app.painting.ability.tmux.is_some() {
            let sender = sender.clone();
            Tmux::watch(move |tmux| sender.send(Input::Tmux(tmux)).is_ok())?;
        }
        lattice_term::read_input(sender)?;
        let result = shown.run(&input, &bell, redraws);
        let Show { app, viewer, screen, standin, .. } = shown;
        drop(screen);
        drop(viewer);
        drop(engine);
        drop(standin);
        result.map(|()| app.wants_demo)
    }
}

struct Show {
    app: App,
    viewer: Viewer,
    bell: Bell,
    screen: Screen,
    painters: Vec<TilePainter>,
    new_painter: Box<dyn Fn(u32) -> TilePainter>,
    standin: Option<StandIn>,
    theme: Theme,
    reported: HashMap<FeedKey, u64>,
    /// Where pictures are had, and where it is told that one was drawn.
    outputs: Arc<BTreeMap<FeedKey, Output>>,
    /// Pictures of which a part is still to be written: they stay until they are whole.
    unfinished: HashMap<FeedKey, (Rect, Arc<TilePicture>)>,
    /// What was laid out last; `None` where something happened since.
    laid: Option<Laid>,
    /// The number of each stream's picture that was drawn last.
    drawn: HashMap<FeedKey, u64>,
    /// Since when the same tiles are shown, and when that began, while a picture is still missing.
    page_since: (Mono, Option<Instant>),
    /// The process that the shell waits for.
    front: Option<rustix::process::Pid>,
    /// The shell has the terminal.
    hidden: bool,
    /// The front was told to go on since it was stopped.
    continued: bool,
    quit: bool,
}

/// The screen as it was laid out, on which pictures are drawn until the layout is due.
struct Laid {
    at: Instant,
    snapshot: Arc<Snapshot>,
    area: Rect,
    watched: Vec<Watched>,
    places: Vec<Rect>,
    /// Streams whose picture stands on it.
    drawn: BTreeSet<FeedKey>,
}

/// Figures are set twice a second and seconds run: the screen is laid out so often, and at once when something happens.
const LAID_OUT_EVERY: Duration = Duration::from_millis(500);

/// Ctrl-Z: the shell is wanted.
fn is_suspend(key: KeyEvent) -> bool {
    key.code == KeyCode::Char('z') && key.modifiers == KeyModifiers::CONTROL && key.kind == KeyEventKind::Press
}

/// Asks for the size of a cell and of the window in pixels.
const CELL_SIZE: &str = "\x1b[16t\x1b[14t";

/// Redraws a second at most. What is on the way to a terminal in pixels is little, and pictures wait less for their turn;
/// cells are many bytes, and go better together.
const REDRAWS_IN_PIXELS: u32 = 50;
const REDRAWS_IN_CELLS: u32 = 40;

/// Without pictures the screen is drawn this often: seconds run, the next try comes nearer.
const IDLE_REDRAW: Duration = Duration::from_millis(500);

/// While the shell has the terminal, it is looked this often whether it gave it back.
const HIDDEN_LOOKS: Duration = Duration::from_millis(250);

impl Show {
    fn run(&mut self, input: &Receiver<Input>, bell: &Receiver<()>, redraws: Option<u32>) -> anyhow::Result<()> {
        let mut last = Instant::now();
        let mut due = last;
        let news = self.viewer.news.clone();
        while !self.quit {
            if let Some(standin) = &mut self.standin {
                standin.go_on();
            }
            let usual = if self.app.painting.way().is_some() { REDRAWS_IN_PIXELS } else { REDRAWS_IN_CELLS };
            let least_between = Duration::from_secs_f64(1.0 / f64::from(redraws.unwrap_or(usual)));
            let wait = due.saturating_duration_since(Instant::now());
            select! {
                recv(input) -> message => {
                    self.laid = None;
                    self.on_input(&message.unwrap_or(Input::Signal));
                    while let Ok(message) = input.try_recv() {
                        self.on_input(&message);
                    }
                    if !self.hidden {
                        self.look();
                    }
                    due = Instant::now(); // a key acts at once
                }
                recv(news) -> message => {
                    self.laid = None;
                    self.take_state();
                    let mut message = message.ok();
                    while let Some(one) = message {
                        let effects = self.app.on_news(&one);
                        self.carry_out(effects);
                        message = news.try_recv().ok();
                    }
                    if !self.hidden {
                        self.look();
                    }
                    due = due.min((last + least_between).max(Instant::now()));
                }
                recv(bell) -> _ => due = due.min((last + least_between).max(Instant::now())),
                default(wait) => {
                    if self.hidden {
                        self.stay_hidden();
                    }
                    if self.hidden {
                        due = Instant::now() + HIDDEN_LOOKS;
                        continue;
                    }
                    if !self.draw_changed()? {
                        self.draw()?;
                    }
                    last = Instant::now();
                    // What the terminal did not take yet goes on at once.
                    due = self.screen.display.goes_on_at().map_or(last + IDLE_REDRAW, |at| at.max(last));
                    // Light comes and goes when it is meant to.
                    let flash = self.app.page().and_then(|page| page.due(self.app.now)).map(|at| Instant::now() + at.since(clock::now()));
                    due = flash.map_or(due, |at| due.min(at.max(last + least_between)));
                }
            }
        }
        Ok(())
    }

    fn on_input(&mut self, input: &Input) {
        self.app.now = clock::now();
        // What the operator does shows at once; answers of the terminal tell nothing of the streams.
        if !matches!(input, Input::Answer(_)) {
            self.painters.iter_mut().for_each(|painter| painter.beside.forget());
        }
        let effects = match input {
            Input::Signal => vec![Effect::Quit],
            Input::Event(Event::Key(key)) if is_suspend(*key) => {
                self.continued = false;
                self.hidden = !self.screen.suspend(self.front);
                self.shown_again();
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
            Input::Continued => {
                self.continued = true;
                self.come_back();
                Vec::new()
            }
            Input::Answer(answer) => {
                self.on_answer(answer.clone());
                Vec::new()
            }
            Input::Tmux(tmux) => {
                self.app.painting.ability.on_tmux(tmux.clone());
                self.screen.ask(&self.app.painting.ability.questions());
                Vec::new()
            }
        };
        self.carry_out(effects);
    }

    /// The terminal is had again, and it may be another one.
    fn shown_again(&mut self) {
        if !self.hidden {
            self.screen.ask(&self.app.painting.ability.questions());
        }
    }

    /// Takes the terminal again where the shell has given it back.
    fn come_back(&mut self) {
        // A front that was told to stop may not have stopped yet: only one that was told to go on is looked at.
        if self.hidden && self.continued && !self.front.is_some_and(crate::front::is_stopped) && self.screen.resume() {
            self.hidden = false;
            self.shown_again();
        }
    }

    /// While the shell has the terminal nothing is drawn, and nothing decoded.
    fn stay_hidden(&mut self) {
        self.come_back();
        if self.hidden {
            self.bell.answered();
            self.take_state();
            let demand = Demand { asks: self.app.asks(), open: self.app.wanted_open(), ..Demand::default() };
            self.viewer.look(demand);
        }
    }

    /// The terminal answered: it has done the last pictures, or something is known of it.
    fn on_answer(&mut self, answer: Answer) {
        if answer == Answer::Done {
            self.screen.display.on_done();
            return;
        }
        let before = self.app.painting.way();
        self.app.painting.ability.take(answer);
        if self.app.painting.way() != before {
            tracing::info!(ability = ?self.app.painting.ability, "pictures: {}", self.app.painting.told());
        }
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
                Effect::Tell(command) => {
                    if let (Command::Flash(_, FlashStep::Light { lit, .. }), Some(standin)) = (&command, &self.standin) {
                        standin.light(*lit);
                    }
                    if !self.viewer.order(command) {
                        self.app.say(Tone::Alarm, "the engine is busy: that was not done, try it again".into());
                    }
                }
                Effect::Fault(camera, order) => {
                    if !self.standin.as_ref().is_some_and(|standin| standin.order(&camera, order)) {
                        self.app.say(Tone::Alarm, format!("{camera} is no stand-in camera: it takes no faults"));
                    }
                }
                Effect::Bell => drop(self.screen.display.ring()),
                Effect::Notify(title, text) => {
                    if let Some(sequence) = self.app.painting.ability.notification(&title, &text) {
                        let _ = self.screen.display.notify(&sequence);
                    }
                }
                Effect::Quit => self.quit = true,
                #[cfg(test)]
                Effect::Open(_) | Effect::Close(_) => {}
            }
        }
    }

    /// The newest state and the newest pictures.
    fn take_state(&mut self) {
        self.app.now = clock::now();
        self.app.clock = jiff::ZonedDateTime::now().strftime("%H:%M:%S").to_string();
        let snapshot = self.viewer.snapshot();
        self.app.utc = snapshot.now.wall(self.app.now);
        self.app.pictures = snapshot.outputs.iter().filter_map(|(key, output)| Some((*key, output.newest()?))).collect();
        self.reported.retain(|key, _| snapshot.outputs.contains_key(key));
        self.drawn.retain(|key, _| snapshot.outputs.contains_key(key));
        self.app.on_snapshot(&snapshot);
        self.outputs = snapshot.outputs.clone();
    }

    /// Tells the engine what this screen wants; gives the streams that are on it.
    fn look(&mut self) -> Vec<Watched> {
        let watched = view::watched(&self.app);
        let painters = watched.iter().map(|watched| watched.painter + 1).max().unwrap_or(1);
        let of_page = self.app.page().map_or(0, Page::painters);
        while self.painters.len() < painters.max(of_page).max(self.app.lattices.shown().places()) {
            self.painters.push((self.new_painter)(self.painters.len() as u32));
        }
        self.choose_painting();
        let mut shown: BTreeMap<(FeedKey, u64), Shown> = BTreeMap::new();
        // What the tour shows next has its pictures when it turns.
        let some = regions(&self.app).tiles.first().map(|region| region.picture).unwrap_or_default();
        let ahead = self.app.decoded_ahead().into_iter().map(|key| Watched::whole(key, 0, some));
        for Watched { key, painter: place, area, aspect, view } in watched.iter().copied().chain(ahead) {
            let Some(painter) = self.painters.get(place) else { continue };
            let wanted = painter.wanted(area, aspect);
            // All places that show the whole picture share the largest.
            let print = print_of(self.app.viewer, place, &view);
            let one = || Shown { key, place, wanted, view, playout: self.app.playout(key) };
            let largest = shown.entry((key, print)).or_insert_with(one);
            if wanted.width * wanted.height > largest.wanted.width * largest.wanted.height {
                largest.wanted = wanted;
            }
        }
        let shown = shown.into_values().collect();
        let screen = self.app.screen.clone().map(|name| (name, self.app.showing()));
        self.viewer.look(Demand { asks: self.app.asks(), open: self.app.wanted_open(), shown, screen });
        watched
    }

    /// Draws new pictures and figures where nothing else can have changed since the screen was laid out; false where it must
    /// be laid out.
    fn draw_changed(&mut self) -> anyhow::Result<bool> {
        let Some(mut laid) = self.laid.take().filter(|laid| laid.at.elapsed() < LAID_OUT_EVERY) else { return Ok(false) };
        let is_text = self.app.painting.way().is_none() && self.app.aids.brightness == 100 && !self.app.pages.has_front();
        let snapshot = self.viewer.snapshot();
        if !is_text || !snapshot.looks_like(&laid.snapshot) || lattice_term::area()? != laid.area {
            return Ok(false);
        }
        self.bell.answered();
        self.app.now = clock::now();
        self.outputs.clone_from(&snapshot.outputs);
        self.take_pictures(&laid.watched);
        let before = std::mem::replace(&mut self.app.figures, snapshot.figures.clone());
        let figured = |key: &FeedKey| self.app.figures.get(key).map(Arc::as_ptr) != before.get(key).map(Arc::as_ptr);
        let number = |key: &FeedKey| self.app.pictures.get(key).map(|picture| picture.number);
        let is_new = |key: &FeedKey| number(key).is_some() && number(key) != self.drawn.get(key).copied();
        let keys = || self.app.tiles.iter().map(Tile::key);
        let new: BTreeSet<FeedKey> = keys().filter(is_new).collect();
        let changed: Vec<(FeedKey, Change)> = keys()
            .filter_map(|key| match (figured(&key), new.contains(&key)) {
                (true, _) => Some((key, Change::Figures)),
                (false, true) => Some((key, Change::Picture)),
                (false, false) => None,
            })
            .collect();
        let theme = Theme { light: self.app.aids.light, brightness: self.app.aids.brightness, ..self.theme };
        let Self { app, painters, screen, .. } = self;
        let Some(buf) = screen.display.again(laid.area) else { return Ok(false) };
        let Some(parts) = view::draw_changed(app, theme, &changed, painters, buf) else { return Ok(false) };
        let shown = screen.display.show_again(&parts, &laid.places, theme.ground_colour())?;
        let left: Vec<Rect> = laid.places.iter().zip(&shown.whole).filter(|(_, whole)| !**whole).map(|(area, _)| *area).collect();
        laid.drawn.extend(new);
        self.report(&laid.drawn, &laid.watched, &left, &BTreeSet::new());
        self.laid = Some(laid);
        Ok(true)
    }

    /// The newest pictures; those of which a part is still to be written stay until they are whole.
    fn take_pictures(&mut self, watched: &[Watched]) {
        self.app.pictures = self.outputs.iter().filter_map(|(key, output)| Some((*key, output.newest()?))).collect();
        self.unfinished.retain(|key, (area, _)| watched.iter().any(|one| one.key == *key && one.area == *area));
        let held = self.unfinished.iter().map(|(key, (_, picture))| (*key, picture.clone()));
        self.app.pictures.extend(held);
        let (viewer, before) = (self.app.viewer, std::mem::take(&mut self.app.views));
        let views = watched.iter().filter(|one| !one.view.is_whole()).filter_map(|one| {
            let of = (one.key, one.painter);
            let held = before.get(&of).filter(|_| self.unfinished.contains_key(&one.key)).cloned();
            let newest = || self.outputs.get(&one.key)?.print(print_of(viewer, one.painter, &one.view));
            Some((of, held.or_else(newest)?))
        });
        self.app.views = views.collect();
        let of_page = self.app.page().and_then(|page| page.stream(&self.app));
        self.app.tones = of_page.and_then(|key| self.outputs.get(&key)?.tones());
        let moving = self.app.known.motion.values().filter_map(|state| state.by);
        self.app.activity = moving.filter_map(|key| Some((key, self.outputs.get(&key)?.activity()?))).collect();
        self.app.unfinished = self.unfinished.keys().copied().collect();
    }

    fn draw(&mut self) -> anyhow::Result<()> {
        self.bell.answered();
        self.take_state();
        let effects = self.app.goes_on();
        self.carry_out(effects);
        let whole_screen = lattice_term::area()?;
        self.app.area = self.app.aids.area(whole_screen, self.app.now);
        let watched = self.look();
        let mut places: Vec<Rect> = watched.iter().map(|watched| watched.area).collect();
        places.dedup(); // a tile that changes to another stream has two
        self.take_pictures(&watched);
        let Self { app, theme, painters, screen, .. } = self;
        let buf = screen.display.blank(whole_screen)?;
        let theme = Theme { light: app.aids.light, brightness: app.aids.brightness, ..*theme };
        let drawn = view::draw(app, theme, painters, buf);
        theme.dim(buf);
        let images: Vec<_> = painters.iter_mut().filter_map(TilePainter::take_image).collect();
        app.painting.painted = painters.iter().map(TilePainter::painted).collect();
        let first = app.is_on_wall().then_some(app.selected as u32);
        let pixels = InPixels { images, first };
        let shown = screen.display.show(&places, theme.ground_colour(), &pixels)?;
        let waiting: BTreeSet<u64> =
            pixels.images.iter().zip(&shown.sent).filter(|(_, sent)| !**sent).map(|(image, _)| image.stream).collect();
        if let Some(failed) = shown.failed {
            app.painting.ability.failed = Some(failed.way);
            let told = app.painting.told();
            app.say(Tone::Alarm, format!("{} failed ({}): {told}", failed.way.words(), failed.why));
        }
        let releases = self.app.painting.ability.releases && !self.app.pages.has_front();
        lattice_term::tell_releases(releases && self.app.page().is_some_and(Page::wants_releases));
        let effects = self.app.shown(clock::now());
        self.carry_out(effects);
        let left: Vec<Rect> = places.iter().zip(&shown.whole).filter(|(_, whole)| !**whole).map(|(area, _)| *area).collect();
        let drawn: BTreeSet<FeedKey> = drawn.into_iter().collect();
        self.report(&drawn, &watched, &left, &waiting);
        let laid = Laid { at: Instant::now(), snapshot: self.viewer.snapshot(), area: whole_screen, watched, places, drawn };
        self.laid = Some(laid);
        Ok(())
    }

    /// Tells each stream which of its pictures is on the terminal now. `left` are places of which a part is still to be
    /// written, `waiting` streams whose picture was not sent yet.
    fn report(&mut self, drawn: &BTreeSet<FeedKey>, watched: &[Watched], left: &[Rect], waiting: &BTreeSet<u64>) {
        let mut complete = BTreeSet::new();
        for key in drawn {
            let Some(picture) = self.app.pictures.get(key) else { continue };
            self.drawn.insert(*key, picture.number);
            if waiting.contains(&key.number()) {
                continue; // the terminal has not done the last ones: the newest goes out when it has
            }
            let left = left.iter().find(|area| watched.iter().any(|one| one.key == *key && one.area == **area));
            if let Some(area) = left {
                self.unfinished.insert(*key, (*area, picture.clone()));
                continue;
            }
            self.unfinished.remove(key);
            // One that was made before the tiles changed is there at once, and says nothing.
            if picture.ready >= self.app.same_tiles_since {
                complete.insert(*key);
            }
            if self.reported.insert(*key, picture.number) != Some(picture.number)
                && let Some(output) = self.outputs.get(key)
            {
                output.drawn(picture.number, clock::now());
            }
        }
        self.time_page(&complete);
    }

    /// Tells the log how long it took until every tile of a page had its picture on the terminal.
    fn time_page(&mut self, complete: &BTreeSet<FeedKey>) {
        if self.page_since.0 != self.app.same_tiles_since {
            self.page_since = (self.app.same_tiles_since, Some(Instant::now()));
        }
        let Some(began) = self.page_since.1.filter(|_| self.app.is_on_wall()) else { return };
        let tiles = || self.app.tiles.iter().filter(|tile| tile.is_shown());
        if !self.app.enlarged && tiles().all(|tile| complete.contains(&tile.key())) {
            self.page_since.1 = None;
            tracing::info!(tiles = tiles().count(), millis = began.elapsed().as_millis() as u64, "every tile has its picture");
        }
    }
}
