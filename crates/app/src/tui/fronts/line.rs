//! One line of text above a page: a filter, another name, ranges.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Page, common, key, leave};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{inner, typed};
use lattice_engine::FeedKey;
use lattice_engine::jobs::Errand;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use tui_input::Input;

/// What is done with the text.
type With = Box<dyn Fn(&mut App, &str)>;

/// A line that is typed.
pub struct TypedLine {
    label: String,
    before: String,
    input: Input,
    /// With each letter.
    live: Option<With>,
    /// At the end.
    done: Option<With>,
    /// What is wrong with the text: the line stays then.
    check: Option<Check>,
}

type Check = Box<dyn Fn(&str) -> Result<(), String>>;

impl TypedLine {
    /// A line, with what stands there to begin with, and what is done with it at the end.
    pub fn new(label: String, text: String, done: impl Fn(&mut App, &str) + 'static) -> Self {
        Self { label, before: text.clone(), input: Input::new(text), live: None, done: Some(Box::new(done)), check: None }
    }

    /// A line that acts with each letter; left, it is as it was before.
    pub fn live(label: &str, text: String, live: impl Fn(&mut App, &str) + 'static) -> Self {
        Self {
            label: label.into(),
            before: text.clone(),
            input: Input::new(text),
            live: Some(Box::new(live)),
            done: None,
            check: None,
        }
    }

    /// The same, as long as there is nothing wrong with the text: else that is said, and the line stays.
    pub fn checked(self, check: impl Fn(&str) -> Result<(), String> + 'static) -> Self {
        Self { check: Some(Box::new(check)), ..self }
    }

    /// Another name for a camera.
    pub fn rename(name: String) -> Self {
        Self::new(format!("new name of {name}"), name.clone(), move |app, text| {
            if !text.trim().is_empty() {
                app.order(Errand::Rename(name.clone(), text.to_owned()));
            }
        })
    }

    fn end(&mut self, app: &mut App) {
        if let Some(Err(why)) = self.check.as_ref().map(|check| check(self.input.value())) {
            return app.say(Tone::Alarm, why);
        }
        app.unsay();
        app.back();
        if let Some(done) = &self.done {
            done(app, self.input.value());
        }
    }

    fn cancel(&mut self, app: &mut App) {
        app.back();
        if let Some(live) = &self.live {
            live(app, &self.before);
        }
    }
}

impl Keyed for TypedLine {
    const NAME: &'static str = "Line of text";
    const KEYS: &'static [Key<Self>] = &[
        key("enter", "done", Self::end).hint("done"),
        common("esc", "leave it as it was", Some("cancel"), Self::cancel),
        leave(),
    ];
}

impl Page for TypedLine {
    fn draw(&self, _: &App, theme: Theme, body: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let area = inner(body);
        typed(theme, &self.label, self.input.value(), self.input.cursor(), Rect { height: area.height.min(1), ..area }, buf);
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.input)
    }

    fn typed(&mut self, app: &mut App) {
        if let Some(live) = &self.live {
            live(app, self.input.value());
        }
    }

    fn is_line(&self) -> bool {
        true
    }
}
