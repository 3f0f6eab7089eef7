//! The first password of a device, or another one.

use super::state::DevicePage;
use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, back, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{form as form_area, typed};
use lattice_core::Credentials;
use lattice_core::find::{Strength, strength};
use lattice_engine::FeedKey;
use lattice_engine::jobs::{DeviceFacts, Errand};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use tui_input::Input;

/// The form for a device's password.
#[derive(Debug)]
pub struct PasswordForm {
    /// The camera's name in the site.
    camera: String,
    /// The device has no account yet.
    first: bool,
    /// The account, the new password, the same again.
    fields: [Input; 3],
    /// Which is being typed.
    at: usize,
    /// Change it on every camera of the group.
    whole_group: bool,
}

impl PasswordForm {
    /// What was typed.
    fn account(&self) -> Credentials {
        Credentials::new(self.fields[0].value().trim(), self.fields[1].value())
    }

    /// How good the password is.
    fn strength(&self) -> Strength {
        strength(&self.account())
    }

    /// Why it cannot be set yet.
    fn objection(&self) -> Option<String> {
        let [user, first, again] = &self.fields;
        match self.strength() {
            _ if user.value().trim().is_empty() => Some("name the account".into()),
            Strength::Weak(why) => Some(format!("too weak: {why}")),
            _ if first.value() != again.value() => Some("the two are not the same".into()),
            _ => None,
        }
    }
}

/// Puts the form for the password of a device in front.
pub fn open(app: &mut App, page: &DevicePage) {
    let sign_in = app.site.camera(&page.camera).and_then(|camera| camera.sign_in.clone());
    let user = sign_in.and_then(|name| app.site.sign_in(&name)).map(|sign_in| sign_in.user.clone());
    let no_account = |facts: &DeviceFacts| facts.users.as_ref().is_ok_and(Vec::is_empty);
    let first = match &page.facts {
        Some(Ok(facts)) => no_account(facts),
        // One that wants a sign-in for everything may still have no account: it says so when it is tried.
        _ => user.is_none(),
    };
    let at = usize::from(user.is_some());
    let fields = [Input::new(user.unwrap_or_default()), Input::default(), Input::default()];
    app.put_in_front(PasswordForm { camera: page.camera.clone(), first, fields, at, whole_group: false });
}

impl Keyed for PasswordForm {
    const NAME: &'static str = "Password of a device";
    const KEYS: &'static [Key<Self>] = &[
        key("enter", "to the next field; at the last, set it", Self::end).hint("set"),
        key("tab", "to the next field", |form: &mut Self, _| form.at = (form.at + 1) % 3).hint("next field"),
        key("ctrl-g", "on the whole group, or this one only", |form: &mut Self, _| form.whole_group = !form.whole_group)
            .hint("whole group"),
        back("esc", "not now", Some("cancel")),
        leave(),
    ];
}

impl PasswordForm {
    /// To the next field, or it is set.
    fn end(&mut self, app: &mut App) {
        if self.at < 2 {
            self.at += 1;
            return;
        }
        if let Some(objection) = self.objection() {
            app.say(Tone::Alarm, objection);
            return;
        }
        app.back();
        let group = app.site.camera(&self.camera).and_then(|camera| camera.group.clone()).filter(|_| self.whole_group);
        let names = group.map_or_else(|| vec![self.camera.clone()], |group| app.cameras_of_group(&group));
        app.order(Errand::SetPassword(names, self.account(), self.first));
    }
}

impl Page for PasswordForm {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let form = self;
        let group = app.site.camera(&form.camera).and_then(|camera| camera.group.clone());
        let inner = form_area(app, theme, 66, 11, buf);
        let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
        let title = if form.first {
            format!("The first password of {}", form.camera)
        } else {
            format!("Another password for {}", form.camera)
        };
        Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
        for (n, label) in ["account ", "password", "again   "].into_iter().enumerate() {
            let Some(input) = form.fields.get(n) else { continue };
            let text = if n == 0 { input.value().to_owned() } else { "•".repeat(input.value().chars().count()) };
            if n == form.at {
                typed(theme, label, &text, input.cursor(), row(2 + n as u16), buf);
            } else {
                Line::from(vec![
                    Span::styled(format!("{label} "), theme.tone(Tone::Faint)),
                    Span::styled(text, theme.tone(Tone::Calm)),
                ])
                .render(row(2 + n as u16), buf);
            }
        }
        let (judged, tone) = match form.strength() {
            _ if form.fields[1].value().is_empty() => (String::new(), Tone::Faint),
            Strength::Weak(why) => (format!("too weak: {why}"), Tone::Alarm),
            Strength::Fair => ("fair; longer is better".to_owned(), Tone::Bright),
            Strength::Strong => ("strong".to_owned(), Tone::Calm),
        };
        Line::styled(judged, theme.tone(tone)).render(row(6), buf);
        if let Some(group) = group {
            let sign = if form.whole_group { "■" } else { "□" };
            Line::styled(format!("{sign} on every camera of the group {group} (ctrl-g)"), theme.tone(Tone::Calm))
                .render(row(7), buf);
        }
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        self.fields.get_mut(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_judged_and_repeated() {
        let form = |user: &str, one: &str, two: &str| PasswordForm {
            camera: "c".into(),
            first: true,
            fields: [Input::new(user.into()), Input::new(one.into()), Input::new(two.into())],
            at: 0,
            whole_group: false,
        };
        assert!(form("", "slack water", "slack water").objection().unwrap().contains("name the account"));
        assert!(form("keeper", "short", "short").objection().unwrap().contains("too weak"));
        assert!(form("keeper", "slack water", "slack tide").objection().unwrap().contains("not the same"));
        assert_eq!(form("keeper", "slack water", "slack water").objection(), None);
    }
}
