//! Reach checks: one as its ladder, many as a table with the ladder of the selected one below.

use super::{Column, List, Said, column, table};
use crate::app::App;
use crate::desk::Checked;
use crate::theme::{Theme, Tone};
use lattice_core::check::{Ladder, Step, StepState};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

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
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let checks = &app.desk.checks;
    let Some(selected) = checks.get(app.desk.check_row) else { return };
    if checks.len() == 1 {
        return ladder(theme, selected, area, buf);
    }
    let done = checks.iter().filter(|checked| checked.done).count();
    let failed = checks.iter().filter(|checked| checked.ladder.failed()).count();
    let title = format!("Reach check: {done} of {} done, {failed} not reached", checks.len());
    Line::styled(title, theme.tone(Tone::Bright)).render(Rect { height: 1, ..area }, buf);
    let Some(list) = list(app, area) else { return };
    table(theme, &list, checks.iter().map(row).collect(), buf);
    let below = Rect { y: list.area.bottom() + 1, height: area.bottom().saturating_sub(list.area.bottom() + 1), ..area };
    if below.height > 0 {
        ladder(theme, selected, below, buf);
    }
}

/// Where the table stands, when there is one.
pub fn list(app: &App, area: Rect) -> Option<List> {
    let below = if area.height >= 30 { 20 } else { 0 };
    let place = Rect { y: area.y + 2, height: area.height.saturating_sub(2 + below), ..area };
    let rows = app.desk.checks.len();
    (rows > 1).then(|| List { area: place, columns: COLUMNS.to_vec(), rows, selected: app.desk.check_row })
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
