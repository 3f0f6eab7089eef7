//! The form for a sign-in: for a camera of the site, its group, or devices that are to be taken in.

use super::certificate::Certificate;
use super::stream_key::StreamKey;
use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{form, typed};
use lattice_core::target::Newcomer;
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, Credentials, Secret, SignInPolicy};
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use tui_input::Input;

/// What a sign-in is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum For {
    /// A camera of the site, by name.
    Camera(String),
    /// Targets that are waiting to be taken in.
    Targets(Vec<Newcomer>),
}

/// The form.
#[derive(Debug)]
pub struct SignIn {
    for_what: For,
    user: Input,
    /// Never drawn.
    password: Input,
    on_password: bool,
    whole_group: bool,
    /// The password may travel readable where the camera asks for that.
    readable: bool,
}

/// Puts the form in front, with the account that is known.
pub fn open(app: &mut App, for_what: For) {
    let camera = match &for_what {
        For::Camera(name) => app.site.camera(name),
        For::Targets(_) => None,
    };
    let readable = camera.is_some_and(|camera| camera.password_readable);
    let known = camera.and_then(|camera| camera.sign_in.clone());
    let known = known.and_then(|name| app.site.sign_in(&name));
    let user = known.or(app.site.sign_ins.last()).map(|sign_in| sign_in.user.clone());
    let on_password = user.is_some();
    let user = Input::new(user.unwrap_or_default());
    app.put_in_front(SignIn { for_what, user, password: Input::default(), on_password, whole_group: false, readable });
}

/// Asks for what is missing of a camera: a sign-in, the key of its streams, or a judgement of its certificate.
pub fn of_camera(app: &mut App, name: String) {
    let camera = app.cameras.id(&name);
    let figures = camera.and_then(|camera| app.figures.get(&app.telling(camera)?)).cloned();
    match figures.as_ref().map(|figures| (figures.cause, &figures.session)) {
        // What is missing is not always a sign-in.
        Some((Some(Cause::KeyNeeded), _)) => app.put_in_front(StreamKey::new(name)),
        Some((_, SessionState::Locked { text, certificate: Some(fingerprint) })) => {
            app.put_in_front(Certificate { camera: name, fingerprint: fingerprint.clone(), why: text.clone() });
        }
        _ => open(app, For::Camera(name)),
    }
}

/// Asks for the sign-in of those that were refused when they were to be taken in.
pub fn of_refused(app: &mut App) {
    if app.newcomers.locked.is_empty() {
        app.say(Tone::Text, "none of those that were taken in was refused: there is nothing to sign in to".into());
        return;
    }
    let targets = app.newcomers.locked.clone();
    open(app, For::Targets(targets));
}

impl Keyed for SignIn {
    const NAME: &'static str = "Sign-in";
    const KEYS: &'static [Key<Self>] = &[
        key("enter", "sign in", Self::end).hint("sign in"),
        key("tab shift-tab", "to the other field", |form: &mut Self, _| form.on_password = !form.on_password).hint("other field"),
        key("ctrl-g", "for the whole group, or this one only", |form: &mut Self, _| form.whole_group = !form.whole_group)
            .hint("whole group"),
        key("ctrl-o", "let the password travel readable, or not", |form: &mut Self, _| form.readable = !form.readable),
        back("esc", "not now", Some("cancel")),
        leave(),
    ];
}

impl SignIn {
    /// The group of the camera.
    fn group(&self, app: &App) -> Option<String> {
        match &self.for_what {
            For::Camera(name) => app.site.camera(name)?.group.clone(),
            For::Targets(_) => None,
        }
    }

    /// To the password, then it is done.
    fn end(&mut self, app: &mut App) {
        if !self.on_password {
            self.on_password = true;
            return;
        }
        app.back();
        let password = Secret::new(self.password.value().to_owned());
        let policy = SignInPolicy::default().allowing_readable(self.readable);
        let credentials = Credentials::new(self.user.value().trim(), password).under(policy);
        match &self.for_what {
            For::Targets(targets) => {
                app.newcomers.locked.clear();
                let signed = targets.iter().map(|target| target.clone().with_credentials(Some(credentials.clone())));
                app.order(Errand::Take(signed.collect()));
            }
            For::Camera(name) => {
                let names = match self.group(app).filter(|_| self.whole_group) {
                    Some(group) => app.cameras_of_group(&group),
                    None => vec![name.clone()],
                };
                app.order(Errand::SignIn(names, credentials));
            }
        }
    }
}

impl Page for SignIn {
    /// A password is drawn as dots, however long it is.
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let what = match &self.for_what {
            For::Camera(name) => format!("Sign in to {name}"),
            For::Targets(targets) => match targets.as_slice() {
                [one] => format!("Sign in to {}", one.target),
                several => format!("Sign in to {} devices, each asked once", several.len()),
            },
        };
        let group = self.group(app);
        let inner = form(app, theme, 64, if group.is_some() { 11 } else { 10 }, buf);
        let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
        Line::styled(what, theme.tone(Tone::Bright)).render(row(0), buf);
        let dots = "•".repeat(self.password.value().chars().count());
        for (n, label, text, cursor, here) in [
            (2, "user    ", self.user.value(), self.user.cursor(), !self.on_password),
            (3, "password", dots.as_str(), self.password.cursor(), self.on_password),
        ] {
            if here {
                typed(theme, label, text, cursor, row(n), buf);
            } else {
                Line::from(vec![
                    Span::styled(format!("{label} "), theme.tone(Tone::Faint)),
                    Span::styled(text.to_owned(), theme.tone(Tone::Calm)),
                ])
                .render(row(n), buf);
            }
        }
        let mut note = 5;
        if let Some(group) = group {
            let sign = if self.whole_group { "■" } else { "□" };
            Line::styled(format!("{sign} for the whole group {group} (ctrl-g)"), theme.tone(Tone::Calm)).render(row(5), buf);
            note = 6;
        }
        let (sign, tone) = if self.readable { ("■", Tone::Bright) } else { ("□", Tone::Calm) };
        Line::styled(format!("{sign} let the password travel readable if it asks for that (ctrl-o)"), theme.tone(tone))
            .render(row(note), buf);
        note += 1;
        Line::styled("Kept apart from the site file, for you alone to read.", theme.tone(Tone::Faint)).render(row(note), buf);
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(if self.on_password { &mut self.password } else { &mut self.user })
    }
}
