//! One device: what it is and offers beside what is measured, its encoders, clock, accounts, address.

mod password;
mod state;
mod view;

use crate::tui::app::App;
use crate::tui::fronts::{help, sign_in};
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::closeup;
use crate::tui::widgets::list::inner;
use lattice_core::Role;
use lattice_core::meter::Figures;
use lattice_engine::jobs::Errand;
use lattice_engine::{FeedKey, News};
use lattice_net::Origin;
use lattice_term::TilePainter;
use password::PasswordForm;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
pub use state::DevicePage;

/// The page.
#[derive(Debug, Default)]
pub struct Device {
    /// The device that is looked at.
    pub shown: Option<DevicePage>,
}

/// The section of the help for the form for a password.
pub fn password_section() -> crate::tui::page::Section {
    crate::tui::page::section::<PasswordForm>()
}

impl Keyed for Device {
    const NAME: &'static str = "Device";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next stream", |page: &mut Self, _| page.with(|shown| shown.select(1))),
        moves("up k", "the stream before", |page: &mut Self, _| page.with(|shown| shown.select(-1))),
        key("right l tab", "the next setting", |page: &mut Self, _| page.with(|shown| shown.select_setting(1))).hint("setting"),
        key("left h shift-tab", "the setting before", |page: &mut Self, _| page.with(|shown| shown.select_setting(-1))),
        key("+ =", "raise the setting", |page: &mut Self, _| page.with(|shown| shown.step(true))).hint("raise"),
        key("-", "lower the setting", |page: &mut Self, _| page.with(|shown| shown.step(false))).hint("lower"),
        key("enter", "apply the encoder settings", Self::apply).hint("apply"),
        key("b", "revert to the settings before", Self::set_back).hint("revert"),
        key("1", "make the selected stream the camera's main", |page: &mut Self, app| page.assign(app, Role::Main)).hint("main"),
        key("2", "make it its sub", |page: &mut Self, app| page.assign(app, Role::Sub)).hint("sub"),
        key("3", "make it its third", |page: &mut Self, app| page.assign(app, Role::Third)).hint("third"),
        key("t", "set its clock to this machine's", |page: &mut Self, app| page.order(app, Errand::SetClock)).hint("set clock"),
        key("n", "tell it the name that the camera has here: searches find it by that", |page: &mut Self, app| {
            page.order(app, Errand::TellName);
        }),
        key("p", "its first password, or another one", |page: &mut Self, app| {
            if let Some(shown) = &page.shown {
                password::open(app, shown);
            }
        })
        .hint("password"),
        key("y", "switch between DHCP and a fixed address", Self::switch_dhcp),
        key("s", "sign in", |page: &mut Self, app| {
            if let Some(name) = page.camera(app) {
                sign_in::of_camera(app, name);
            }
        }),
        key("r", "ask it again", Self::ask_again),
        help::everything(),
        help::key(),
        back("esc q", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way("Roster", "d", "its device: streams, encoders, clock, accounts, address", Self::begin).hint("device").of_site()];
}

impl Page for Device {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (area, near) = closeup::divide(app, inner(body), self.near(app));
        if let Some(shown) = &self.shown {
            view::draw(app, shown, theme, area, buf);
        }
        closeup::draw(app, theme, near, painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        closeup::watched(app, inner(body), self.near(app))
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.near(app).into_iter().collect()
    }

    fn camera(&self, _: &App) -> Option<String> {
        self.shown.as_ref().map(|shown| shown.camera.clone())
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.with(|shown| shown.select(by)),
            Mouse::Press(at) => self.with(|shown| {
                let row = view::list(shown, inner(app.body())).and_then(|list| list.row_at(at));
                shown.select(row.map_or(0, |row| row as i32 - shown.stream as i32));
            }),
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }

    fn on_news(&mut self, app: &mut App, news: &News) {
        let News::Device(name, news) = news else { return };
        if let Some(shown) = self.shown.as_mut().filter(|shown| shown.camera == *name)
            && !shown.on_news(news)
        {
            app.order(Errand::AskDevice(name.clone()));
        }
    }

    /// Its streams are measured, as far as nothing is known of them.
    fn goes_on(&mut self, app: &mut App) {
        let Some(shown) = &mut self.shown else { return };
        let urls = shown.take_unprobed(|uri| measured(app, uri).is_some());
        if !urls.is_empty() {
            app.order(Errand::Probe(shown.camera.clone(), urls));
        }
    }
}

/// The figures of a stream that is open, by its request URI.
fn measured<'a>(app: &'a App, uri: &str) -> Option<&'a Figures> {
    let is = |key: &FeedKey| matches!(app.cameras.origin(*key), Some(Origin::Url(open)) if open.request_uri() == uri);
    app.figures.iter().find(|(key, _)| is(key)).map(|(_, figures)| figures.as_ref())
}

impl Device {
    /// The stream of the camera, where one is open.
    fn near(&self, app: &App) -> Option<FeedKey> {
        app.telling(app.camera_index(&self.shown.as_ref()?.camera)?)
    }

    fn begin(&mut self, app: &mut App) {
        if let Some(name) = app.camera_meant() {
            app.open(Self::NAME);
            self.ask(app, name);
        }
    }

    fn ask(&mut self, app: &mut App, name: String) {
        self.shown = Some(DevicePage::new(name.clone()));
        app.order(Errand::AskDevice(name));
    }

    fn ask_again(&mut self, app: &mut App) {
        if let Some(name) = self.camera(app) {
            self.ask(app, name);
        }
    }

    fn with(&mut self, act: impl FnOnce(&mut DevicePage)) {
        if let Some(shown) = &mut self.shown {
            act(shown);
        }
    }

    fn order(&self, app: &mut App, errand: impl FnOnce(String) -> Errand) {
        if let Some(name) = self.camera(app) {
            app.order(errand(name));
        }
    }

    fn apply(&mut self, app: &mut App) {
        let Some(shown) = &mut self.shown else { return };
        let (Some(before), Some(wanted)) = (shown.encoder().cloned(), shown.wanted.take()) else { return };
        shown.before.push(before);
        self.order(app, |name| Errand::SetEncoder(name, Box::new(wanted)));
    }

    fn set_back(&mut self, app: &mut App) {
        match self.shown.as_mut().and_then(|shown| shown.before.pop()) {
            Some(before) => self.order(app, |name| Errand::SetEncoder(name, Box::new(before))),
            None => app.say(Tone::Text, "nothing was applied here that could be reverted".into()),
        }
    }

    fn assign(&self, app: &mut App, role: Role) {
        let url = self.shown.as_ref().and_then(|shown| shown.selected()?.0.url.clone());
        match url {
            Some(url) => self.order(app, |name| Errand::Assign(name, url, role)),
            None => app.say(Tone::Text, "the device names no address for this stream".into()),
        }
    }

    fn switch_dhcp(&mut self, app: &mut App) {
        let facts = self.shown.as_ref().and_then(|shown| shown.facts.as_ref()?.as_ref().ok());
        let dhcp = facts.and_then(|facts| facts.network.as_ref().ok()?.first()?.dhcp);
        if let Some(dhcp) = dhcp {
            self.order(app, |name| Errand::SwitchDhcp(name, !dhcp));
        }
    }
}
