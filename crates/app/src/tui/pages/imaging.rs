//! The camera's own imaging settings, by its device: what is set here changes the picture for everybody.

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::{plate, tile};
use lattice_core::lattice::Aspect;
use lattice_core::onvif::{ImagingChoice, ImagingItem, ImagingSettings, ImagingValue};
use lattice_engine::jobs::{DeviceNews, Errand};
use lattice_engine::{FeedKey, News};
use lattice_net::Imaging;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// Columns beside the picture,
const BESIDE: u16 = 44;
/// where the page has so many.
const FROM_COLUMNS: u16 = 80;
/// Columns of an item's name,
const NAME: u16 = 20;
/// and of what it is set to.
const VALUE: usize = 7;
/// A key changes a number by this share of its range, and with shift by a fifth of that.
const STEP: f64 = 0.05;
const FINE: f64 = 0.01;

/// What is known of the camera's imaging.
#[derive(Debug, Default)]
enum Told {
    #[default]
    Asking,
    None(String),
    Here(Box<Imaging>),
}

/// The page.
#[derive(Debug, Default)]
pub struct ImagingPage {
    key: Option<FeedKey>,
    name: String,
    told: Told,
    /// As it was when the page was opened.
    before: ImagingSettings,
    /// What is to be set, where that is another than now.
    wanted: ImagingSettings,
    row: usize,
}

impl Keyed for ImagingPage {
    const NAME: &'static str = "Imaging";
    const KEYS: &'static [Key<Self>] = &[
        moves("shift-left", "the selected value down a little", |page: &mut Self, app| page.change(app, -FINE)),
        moves("shift-right", "up a little", |page: &mut Self, app| page.change(app, FINE)),
        moves("down j", "the next setting", |page: &mut Self, _| page.select(1)),
        moves("up k", "the setting before", |page: &mut Self, _| page.select(-1)),
        key("right l +", "the selected value up, or the next choice", |page: &mut Self, app| page.change(app, STEP)).hint("more"),
        key("left h -", "down, or the choice before", |page: &mut Self, app| page.change(app, -STEP)).hint("less"),
        key("enter w", "set the camera to this", Self::apply).hint("set"),
        key("u", "leave what was changed and not set", |page: &mut Self, _| page.wanted.clear()).hint("leave"),
        key("b", "set the camera back to what it was when this page was opened", Self::set_back).hint("set back"),
        key("R", "ask the camera again", Self::ask),
        help::everything(),
        help::key(),
        back("esc q %", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "%", "the camera's own imaging: exposure, white balance, IR-cut, for everybody", Self::begin).of_site(),
        way("Adjust", "i", "the camera's own imaging settings, for everybody", Self::begin).of_site(),
        way("Device", "%", "its imaging settings", Self::begin).of_site(),
    ];
}

impl Page for ImagingPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let list = list(body);
        self.draw_list(theme, list, buf);
        let (Some(key), Some(painter)) = (self.key, painters.first_mut()) else { return Vec::new() };
        let place = picture(body);
        if place.is_empty() {
            return Vec::new();
        }
        let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
        let name = app.stream_name(key);
        let below = Rect { y: place.bottom(), height: 1, ..place };
        plate::draw(app, theme, plate::Subject { key, name: &name, tile: None, selected: true }, below, buf);
        drawn.then_some(key).into_iter().collect()
    }

    fn watched(&self, _: &App, body: Rect) -> Vec<Watched> {
        let place = picture(body);
        self.key.filter(|_| !place.is_empty()).map(|key| Watched::whole(key, 0, place)).into_iter().collect()
    }

    fn about(&self) -> Option<FeedKey> {
        self.key
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Alone)
    }

    fn camera(&self, _: &App) -> Option<String> {
        Some(self.name.clone()).filter(|name| !name.is_empty())
    }

    fn on_news(&mut self, _: &mut App, news: &News) {
        let News::Device(name, DeviceNews::Imaging(told)) = news else { return };
        if *name != self.name {
            return;
        }
        let none = "it has no imaging service, or names no settings";
        self.told = match told {
            Ok(Some(imaging)) if !imaging.settings.is_empty() => Told::Here(imaging.clone()),
            Ok(_) => Told::None(none.into()),
            Err(why) => Told::None(why.clone()),
        };
        if let Told::Here(imaging) = &self.told {
            if self.before.is_empty() {
                self.before.clone_from(&imaging.settings);
            }
            let settings = &imaging.settings;
            self.wanted.retain(|item, value| settings.get(item) != Some(value));
        }
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.change(app, -STEP * f64::from(by)),
            Mouse::Press(at) => {
                let list = list(app.body());
                let row = usize::from(at.y.saturating_sub(list.y + HEAD));
                if list.contains(Position::new(at.x, at.y)) && row < self.items().len() {
                    self.row = row;
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }

    fn left(&mut self, app: &mut App) {
        if !self.wanted.is_empty() {
            app.say(Tone::Text, format!("{}: what was changed was not set", self.name));
        }
        *self = Self::default();
    }
}

/// Rows above the first item.
const HEAD: u16 = 3;

fn picture(body: Rect) -> Rect {
    if body.width < FROM_COLUMNS {
        return Rect::default();
    }
    Rect { width: body.width - BESIDE, height: body.height.saturating_sub(1), ..body }
}

fn list(body: Rect) -> Rect {
    if body.width < FROM_COLUMNS {
        return body;
    }
    Rect { x: body.right() - BESIDE + 2, width: BESIDE - 2, ..body }
}

impl ImagingPage {
    fn begin(&mut self, app: &mut App) {
        let key = app.stream_meant();
        let Some(name) = app.camera_meant() else { return app.say(Tone::Text, "no camera is selected".into()) };
        *self = Self { key, name, ..Self::default() };
        app.open(Self::NAME);
        self.ask(app);
    }

    fn ask(&mut self, app: &mut App) {
        self.told = Told::Asking;
        app.order(Errand::AskImaging(self.name.clone()));
    }

    fn here(&self) -> Option<&Imaging> {
        match &self.told {
            Told::Here(imaging) => Some(imaging),
            Told::Asking | Told::None(_) => None,
        }
    }

    fn items(&self) -> Vec<ImagingItem> {
        self.here().map(|imaging| imaging.settings.keys().copied().collect()).unwrap_or_default()
    }

    fn select(&mut self, step: i32) {
        let count = self.items().len().max(1) as i32;
        self.row = (self.row as i32 + step).rem_euclid(count) as usize;
    }

    /// Changes what is wanted of the selected item, within what the camera takes.
    fn change(&mut self, app: &mut App, share: f64) {
        let Some((imaging, item)) = self.here().zip(self.items().get(self.row).copied()) else { return };
        let now = self.wanted.get(&item).or_else(|| imaging.settings.get(&item)).cloned();
        let next = match (imaging.options.get(&item), now) {
            (Some(ImagingChoice::Range(scale)), Some(ImagingValue::Number(number))) => {
                let step = (scale.most - scale.least) * share;
                // Scales of whole numbers stay so.
                let whole = scale.least.fract() == 0.0 && scale.most.fract() == 0.0 && scale.most - scale.least >= 10.0;
                let next = number + if whole { step.abs().max(1.0).round() * share.signum() } else { step };
                Some(ImagingValue::Number(scale.clamp(next)))
            }
            (Some(ImagingChoice::Words(words)), Some(ImagingValue::Word(word))) => {
                let at = words.iter().position(|one| *one == word).unwrap_or(0) as i32;
                let next = (at + share.signum() as i32).rem_euclid(words.len() as i32) as usize;
                words.get(next).cloned().map(ImagingValue::Word)
            }
            _ => None,
        };
        let Some(next) = next else {
            return app.say(Tone::Text, format!("{} does not say what {} can be set to", self.name, item.name()));
        };
        if imaging.settings.get(&item) == Some(&next) {
            self.wanted.remove(&item);
        } else {
            self.wanted.insert(item, next);
        }
    }

    fn apply(&mut self, app: &mut App) {
        let Some(imaging) = self.here().cloned() else { return };
        if self.wanted.is_empty() {
            return app.say(Tone::Text, "nothing is changed: left and right change the selected value".into());
        }
        app.order(Errand::SetImaging(self.name.clone(), Box::new(imaging), self.wanted.clone()));
    }

    fn set_back(&mut self, app: &mut App) {
        let Some(imaging) = self.here().cloned() else { return };
        self.wanted.clear();
        if imaging.settings == self.before {
            return app.say(Tone::Text, "it is set as it was when this page was opened".into());
        }
        app.order(Errand::SetImaging(self.name.clone(), Box::new(imaging), self.before.clone()));
    }

    fn draw_list(&self, theme: Theme, area: Rect, buf: &mut Buffer) {
        let row = |n: u16| Rect { y: area.y + n, height: 1, ..area }.intersection(area);
        Line::styled(format!("{}: its own imaging", self.name), theme.tone(Tone::Here)).render(row(0), buf);
        Line::styled("what is set here is seen by everybody", theme.tone(Tone::Bright)).render(row(1), buf);
        let text = |text: &str, buf: &mut Buffer| {
            let place = Rect { y: area.y + HEAD, height: area.height.saturating_sub(HEAD), ..area };
            Paragraph::new(text.to_owned()).style(theme.tone(Tone::Calm)).wrap(Wrap { trim: true }).render(place, buf);
        };
        let imaging = match &self.told {
            Told::Asking => return text("asking the camera ...", buf),
            Told::None(why) => return text(why, buf),
            Told::Here(imaging) => imaging,
        };
        let said = |item: &ImagingItem, now: &ImagingValue| match self.wanted.get(item) {
            Some(wanted) => now.to_string().len() + wanted.to_string().len() + 3,
            None => now.to_string().len(),
        };
        let values = imaging.settings.iter().map(|(item, now)| said(item, now)).max().unwrap_or(0).max(VALUE);
        for (n, (item, now)) in (0u16..).zip(&imaging.settings) {
            let here = usize::from(n) == self.row;
            let wanted = self.wanted.get(item);
            let tone = if here { Tone::Here } else { Tone::Calm };
            let sign = if here { "▸ " } else { "  " };
            let name = format!("{}{}", item.name(), item.unit());
            let mut spans = vec![Span::styled(format!("{sign}{name:<width$}", width = usize::from(NAME - 2)), theme.tone(tone))];
            let now_tone = if wanted.is_some() { Tone::Faint } else { tone };
            match wanted {
                None => spans.push(Span::styled(now.to_string(), theme.tone(now_tone))),
                Some(wanted) => spans.extend([
                    Span::styled(now.to_string(), theme.tone(now_tone)),
                    Span::styled(format!(" → {wanted}"), theme.tone(Tone::Bright)),
                ]),
            }
            spans.push(Span::raw(" ".repeat(values - said(item, now))));
            let limits = match imaging.options.get(item) {
                Some(ImagingChoice::Range(scale)) => {
                    format!("  {} to {}", ImagingValue::Number(scale.least), ImagingValue::Number(scale.most))
                }
                Some(ImagingChoice::Words(words)) => format!("  {}", words.join(", ").to_lowercase()),
                None => String::new(),
            };
            spans.push(Span::styled(limits, theme.tone(Tone::Faint)));
            Line::from(spans).render(row(HEAD + n), buf);
        }
        let under = HEAD + imaging.settings.len() as u16 + 1;
        let told = match self.wanted.len() {
            0 if imaging.settings == self.before => "as it was when this page was opened".to_owned(),
            0 => "b sets it back to what it was when this page was opened".to_owned(),
            1 => "1 value changed, not set yet: enter sets it".to_owned(),
            count => format!("{count} values changed, not set yet: enter sets them"),
        };
        let tone = if self.wanted.is_empty() { Tone::Faint } else { Tone::Bright };
        let place = Rect { y: area.y + under, height: 2, ..area }.intersection(area);
        Paragraph::new(told).style(theme.tone(tone)).wrap(Wrap { trim: true }).render(place, buf);
    }
}
