//! Reach checks: one as its ladder, many as a table with the ladder of the selected one below.

use crate::tui::app::App;
use crate::tui::fronts::{help, sign_in};
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::closeup;
use crate::tui::widgets::list::{Column, List, Said, column, inner, table};
use lattice_core::check::{Ladder, Step, StepState};
use lattice_engine::jobs::Errand;
use lattice_engine::{FeedKey, News};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// A reach check on the screen.
#[derive(Debug, Clone)]
pub struct Checked {
    /// What is checked.
    pub shown: String,
    /// How far it is.
    pub ladder: Ladder,
    /// It is over.
    pub done: bool,
}

/// The checks.
#[derive(Debug, Default)]
pub struct Check {
    /// All of the last round.
    pub checks: Vec<Checked>,
    /// The selected one.
    pub row: usize,
}

impl Keyed for Check {
    const NAME: &'static str = "Reach check";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next check", |page: &mut Self, _| page.select(1)),
        moves("up k", "the check before", |page: &mut Self, _| page.select(-1)),
        key("i", "check again", |page: &mut Self, app| {
            if let Some(name) = page.name() {
                page.begin(app, vec![name]);
            }
        })
        .hint("again"),
        key("m", "too heavy: show its sub stream on the wall instead", |page: &mut Self, app| {
            if let Some(name) = page.name() {
                app.show_lighter(&name);
            }
        })
        .hint("sub stream"),
        key("n", "take the address at which a device was found that has moved", Self::readdress),
        key("s", "sign in", |page: &mut Self, app| {
            if let Some(name) = page.name() {
                sign_in::of_camera(app, name);
            }
        })
        .hint("sign in"),
        help::everything(),
        help::key(),
        back("esc q", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] = &[
        way(WALL, "i", "reach check of the selected camera", Self::begin_one).of_site(),
        way("Roster", "i", "reach check of it", Self::begin_one).hint("check").of_site(),
        way("Roster", "I", "reach check of all cameras", |page: &mut Self, app| page.begin(app, Vec::new())).of_site(),
    ];
}

impl Page for Check {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let (area, near) = closeup::divide(app, inner(body), self.near(app));
        draw(self, theme, area, buf);
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
        self.name()
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(by),
            Mouse::Press(at) => {
                let area = closeup::divide(app, inner(app.body()), self.near(app)).0;
                let row = list(self, area).and_then(|list| list.row_at(at));
                self.row = row.unwrap_or(self.row);
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }

    fn on_news(&mut self, _: &mut App, news: &News) {
        let News::Checked(shown, ladder, done) = news else { return };
        match self.checks.iter_mut().find(|checked| checked.shown == *shown) {
            Some(checked) => (checked.ladder, checked.done) = (ladder.clone(), *done),
            None => self.checks.push(Checked { shown: shown.clone(), ladder: ladder.clone(), done: *done }),
        }
    }
}

impl Check {
    /// Checks of these cameras, of all for none.
    fn begin(&mut self, app: &mut App, names: Vec<String>) {
        *self = Self::default();
        app.open(Self::NAME);
        app.order(Errand::Check(names));
    }

    fn begin_one(&mut self, app: &mut App) {
        if let Some(name) = app.camera_meant() {
            self.begin(app, vec![name]);
        }
    }

    /// The stream of the selected camera, where one is open.
    fn near(&self, app: &App) -> Option<FeedKey> {
        app.telling(app.camera_index(&self.name()?)?)
    }

    fn name(&self) -> Option<String> {
        self.checks.get(self.row).map(|checked| checked.shown.clone())
    }

    fn select(&mut self, rows: i32) {
        self.row = self.row.saturating_add_signed(rows as isize).min(self.checks.len().saturating_sub(1));
    }

    /// The checked camera moves to where its device was found.
    fn readdress(&mut self, app: &mut App) {
        let Some(checked) = self.checks.get(self.row) else { return };
        match checked.ladder.moved_to() {
            Some(to) => app.order(Errand::Readdress(checked.shown.clone(), to.to_owned())),
            None => app.say(Tone::Text, "the check found no other address of this device".into()),
        }
    }
}

const COLUMNS: [Column; 4] = [
    column("camera", Constraint::Length(20), 0),
    column("steps", Constraint::Length(15), 0),
    column("at", Constraint::Length(14), 0),
    column("what was seen", Constraint::Min(20), 70),
];

/// The sign and tone of a step.
const fn sign(state: StepState) -> (&'static str, Tone) {
    match state {
        StepState::Ok => ("•", Tone::Calm),
        StepState::Warn => ("≈", Tone::Bright),
        StepState::Failed => ("×", Tone::Alarm),
        StepState::Skipped => ("·", Tone::Faint),
    }
}

/// Draws the checks.
fn draw(page: &Check, theme: Theme, area: Rect, buf: &mut Buffer) {
    let checks = &page.checks;
    let Some(selected) = checks.get(page.row) else {
        return Line::styled("the check begins …", theme.tone(Tone::Waiting))
            .render(Rect { height: 1.min(area.height), ..area }, buf);
    };
    if checks.len() == 1 {
        return ladder(theme, selected, area, buf);
    }
    let done = checks.iter().filter(|checked| checked.done).count();
    let failed = checks.iter().filter(|checked| checked.ladder.failed()).count();
    let title = format!("Reach check: {done} of {} done, {failed} not reached", checks.len());
    Line::styled(title, theme.tone(Tone::Bright)).render(Rect { height: 1, ..area }, buf);
    let Some(list) = list(page, area) else { return };
    table(theme, &list, checks.iter().map(row).collect(), buf);
    let below = Rect { y: list.area.bottom() + 1, height: area.bottom().saturating_sub(list.area.bottom() + 1), ..area };
    if below.height > 0 {
        ladder(theme, selected, below, buf);
    }
}

/// Where the table stands, when there is one.
fn list(page: &Check, area: Rect) -> Option<List> {
    let below = if area.height >= 30 { 20 } else { 0 };
    let place = Rect { y: area.y + 2, height: area.height.saturating_sub(2 + below), ..area };
    let rows = page.checks.len();
    (rows > 1).then(|| List { area: place, columns: COLUMNS.to_vec(), rows, selected: page.row })
}

fn row(checked: &Checked) -> Vec<Said> {
    let steps = checked.ladder.steps();
    let signs: String =
        Step::ALL.iter().map(|step| steps.iter().find(|one| one.step == *step).map_or(" ", |one| sign(one.state).0)).collect();
    let failed = steps.iter().find(|step| step.state == StepState::Failed);
    let warned = steps.iter().rfind(|step| step.state == StepState::Warn);
    let (at, saw, tone) = match (failed, checked.ladder.pending(), warned) {
        (Some(step), ..) => (step.step.word(), step.saw.clone(), Tone::Alarm),
        (None, Some(step), _) if !checked.done => (step.word(), "…".to_owned(), Tone::Waiting),
        (None, _, Some(step)) => (step.step.word(), step.saw.clone(), Tone::Bright),
        _ => ("reached", String::new(), Tone::Calm),
    };
    vec![(checked.shown.clone(), Tone::Calm), (signs, tone), (at.to_owned(), tone), (saw, tone)]
}

fn ladder(theme: Theme, checked: &Checked, area: Rect, buf: &mut Buffer) {
    let mut lines = vec![Line::styled(format!("Reach check of {}", checked.shown), theme.tone(Tone::Bright)), Line::default()];
    lines.extend(checked.ladder.steps().iter().map(|step| {
        let (sign, tone) = sign(step.state);
        let took = step.took.map_or_else(String::new, |took| format!("{:.1} ms", took.as_secs_f64() * 1e3));
        let saw_tone = if matches!(step.state, StepState::Warn | StepState::Failed) { tone } else { Tone::Text };
        let saw_tone = if step.state == StepState::Skipped { Tone::Faint } else { saw_tone };
        Line::from(vec![
            Span::styled(format!("{sign} {:<14}", step.step.word()), theme.tone(tone)),
            Span::styled(format!("{took:>11}  "), theme.tone(Tone::Faint)),
            Span::styled(step.saw.clone(), theme.tone(saw_tone)),
        ])
    }));
    if let (Some(step), false) = (checked.ladder.pending(), checked.done) {
        lines.push(Line::styled(format!("… {}", step.word()), theme.tone(Tone::Waiting)));
    }
    lines.push(Line::default());
    lines.extend(verdict(theme, &checked.ladder, checked.done));
    Paragraph::new(lines).wrap(Wrap { trim: false }).render(area, buf);
}

fn verdict<'a>(theme: Theme, ladder: &Ladder, done: bool) -> Vec<Line<'a>> {
    match (ladder.cause(), ladder.advice()) {
        (Some(cause), Some(advice)) => {
            let tone = if ladder.failed() { Tone::Alarm } else { Tone::Bright };
            let headline = if ladder.failed() { format!("NOT REACHED: {cause}") } else { format!("reached, but: {cause}") };
            vec![Line::styled(headline, theme.tone(tone)), Line::styled(advice.to_owned(), theme.tone(Tone::Text))]
        }
        _ if done => vec![Line::styled("reached", theme.tone(Tone::Calm))],
        _ => Vec::new(),
    }
}
