//! Adjusting how a camera's pictures are shown. It changes what is seen here, and nothing at the camera.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::fronts::line::TypedLine;
use crate::tui::fronts::picker::{Line, Picker};
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use lattice_core::adjust::{Adjust, Preset, Setting, presets};
use lattice_engine::jobs::Errand;
use lattice_engine::{Command, FeedKey};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// A value changes by so much at a key,
const STEP: i16 = 5;
/// and by so much with shift.
const FINE: i16 = 1;
/// The split goes through the middle.
const MIDDLE: u8 = 50;

/// The page.
#[derive(Debug, Default)]
pub struct AdjustPage {
    /// The stream that is shown.
    pub key: Option<FeedKey>,
    /// Its camera.
    name: String,
    /// As it is shown now.
    adjust: Adjust,
    /// The selected setting.
    selected: usize,
    /// The left half is shown as it comes.
    split: bool,
}

impl Keyed for AdjustPage {
    const NAME: &'static str = "Adjust";
    const KEYS: &'static [Key<Self>] = &[
        moves("shift-left", "the selected value down by one", |page: &mut Self, app| page.change(app, -FINE)),
        moves("shift-right", "up by one", |page: &mut Self, app| page.change(app, FINE)),
        moves("down j", "the next setting", |page: &mut Self, _| page.select(1)),
        moves("up k", "the setting before", |page: &mut Self, _| page.select(-1)),
        key("right l +", "the selected value up, or on", |page: &mut Self, app| page.change(app, STEP)).hint("more"),
        key("left h -", "down, or off", |page: &mut Self, app| page.change(app, -STEP)).hint("less"),
        key("del backspace", "the selected value as it comes", |page: &mut Self, app| page.reset(app)),
        key("0", "everything as it comes", |page: &mut Self, app| page.show(app, Adjust::OFF)),
        key("space b", "before and after: the left half as it comes, or all adjusted", Self::split).hint("before/after"),
        key("p", "take a preset: read a label, night, fog, and those of your own", |_, app| Self::choose(app)).hint("preset"),
        key("enter w", "keep it for this camera", Self::keep).hint("keep"),
        key("W", "keep it as a preset of your own, with a name", Self::name_it),
        key("X", "take a preset of your own out", |_, app| Self::take_out(app)),
        key("u", "as it was kept", |page: &mut Self, app| page.show(app, page.kept(app))),
        help::everything(),
        help::key(),
        back("esc q Y", "back; what was not kept is shown as before", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "Y", "adjust how it is shown: brightness, contrast, noise, haze, presets", Self::begin)
            .hint("adjust")
            .of_site(),
        way("Stream", "Y", "adjust how it is shown", Self::begin).of_site(),
        way("Steer", "Y", "adjust how it is shown", Self::begin).of_site(),
    ];
}

impl Page for AdjustPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (Some(key), Some(painter)) = (self.key, painters.first_mut()) else { return Vec::new() };
        view::draw(app, self, theme, key, body, painter, buf).then_some(key).into_iter().collect()
    }

    fn watched(&self, _: &App, body: Rect) -> Vec<Watched> {
        self.key.map(|key| Watched::whole(key, 0, view::picture(body))).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Alone)
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.change(app, -STEP * by as i16),
            Mouse::Press(at) => {
                if let Some(row) = view::setting_at(app.body(), at) {
                    self.selected = row;
                    if Setting::ALL[row].is_switch() {
                        let on = self.adjust.get(Setting::ALL[row]);
                        self.change(app, if on > 0 { -STEP } else { STEP });
                    } else if let Some(value) = view::value_at(app.body(), Setting::ALL[row], at) {
                        let adjust = self.adjust.with(Setting::ALL[row], value);
                        self.show(app, adjust);
                    }
                }
            }
            Mouse::Drag(at) => {
                let setting = Setting::ALL[self.selected];
                if let Some(value) = view::value_at(app.body(), setting, at).filter(|_| !setting.is_switch()) {
                    let adjust = self.adjust.with(setting, value);
                    self.show(app, adjust);
                }
            }
            Mouse::Release(_) => {}
        }
    }

    fn left(&mut self, app: &mut App) {
        if let Some(key) = self.key {
            if self.adjust != self.kept(app) {
                app.say(Tone::Text, format!("{} is shown as before: what was changed was not kept", self.name));
            }
            app.tell(Command::Adjust(key.camera, None));
            app.tell(Command::Tones(key.camera, false));
        }
        *self = Self::default();
    }
}

impl AdjustPage {
    /// The camera that is selected is adjusted from now on.
    fn begin(&mut self, app: &mut App) {
        let Some(key) = app.stream_meant() else {
            return app.say(Tone::Text, "no camera is selected".into());
        };
        let name = app.cameras.name(key.camera).to_owned();
        if app.site.camera(&name).is_none() {
            return app.say(Tone::Text, format!("{name} is not in the site: what is adjusted could not be kept"));
        }
        *self = Self { key: Some(key), name, ..Self::default() };
        self.adjust = self.kept(app);
        app.tell(Command::Tones(key.camera, true));
        app.open(Self::NAME);
    }

    /// As the site has it.
    fn kept(&self, app: &App) -> Adjust {
        app.site.camera(&self.name).map(|camera| camera.adjust).unwrap_or_default()
    }

    fn show(&mut self, app: &mut App, adjust: Adjust) {
        self.adjust = adjust;
        if let Some(key) = self.key {
            let split = if self.split { MIDDLE } else { 0 };
            app.tell(Command::Adjust(key.camera, Some((adjust, split))));
        }
    }

    fn select(&mut self, step: i32) {
        self.selected = (self.selected as i32 + step).rem_euclid(Setting::ALL.len() as i32) as usize;
    }

    fn change(&mut self, app: &mut App, by: i16) {
        let setting = Setting::ALL[self.selected];
        let now = self.adjust.get(setting);
        let (least, most) = setting.range();
        let wanted = if setting.is_switch() { i16::from(by > 0) } else { (now + by).clamp(least, most) };
        if wanted == now {
            let end = if by > 0 { "more" } else { "less" };
            return app.say(Tone::Text, format!("{} goes no further: there is no {end} of it", setting.name()));
        }
        self.show(app, self.adjust.with(setting, wanted));
    }

    fn reset(&mut self, app: &mut App) {
        self.show(app, self.adjust.with(Setting::ALL[self.selected], 0));
    }

    fn split(&mut self, app: &mut App) {
        self.split = !self.split;
        self.show(app, self.adjust);
    }

    fn keep(&mut self, app: &mut App) {
        app.order(Errand::Adjust(self.name.clone(), self.adjust));
    }

    fn all_presets(app: &App) -> Vec<Preset> {
        presets().into_iter().chain(app.site.presets.iter().cloned()).collect()
    }

    fn choose(app: &mut App) {
        app.put_in_front(Picker::list("Presets", |app| {
            let line = |preset: Preset| {
                let Preset { name, adjust } = preset;
                let said = format!("{name}: enter keeps it for this camera");
                Line::new(&name, adjust.to_string(), "", move |app| {
                    app.on_page(|page: &mut Self, app| page.show(app, adjust));
                    app.say(Tone::Text, said.clone());
                })
            };
            Self::all_presets(app).into_iter().map(line).collect()
        }));
    }

    fn name_it(&mut self, app: &mut App) {
        let adjust = self.adjust;
        if adjust.is_off() {
            return app.say(Tone::Text, "nothing is adjusted: there is nothing to keep".into());
        }
        app.put_in_front(TypedLine::new("name of the preset".into(), String::new(), move |app, text| {
            app.order(Errand::Preset(text.to_owned(), Some(adjust)));
        }));
    }

    fn take_out(app: &mut App) {
        if app.site.presets.is_empty() {
            return app.say(Tone::Text, "there is no preset of your own: W keeps one".into());
        }
        app.put_in_front(Picker::list("Take out", |app| {
            let line = |preset: &Preset| {
                let name = preset.name.clone();
                Line::new(&preset.name, preset.adjust.to_string(), "", move |app| app.order(Errand::Preset(name.clone(), None)))
            };
            app.site.presets.iter().map(line).collect()
        }));
    }
}
