//! The channels of a recorder, to be chosen before it is taken in.

use super::{Column, List, Said, column, form, table};
use crate::app::App;
use crate::desk::{Channel, ChannelChoice};
use crate::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::Line;
use ratatui::widgets::Widget as _;

const COLUMNS: [Column; 5] = [
    column("", Constraint::Length(1), 0),
    column("channel", Constraint::Length(7), 0),
    column("name", Constraint::Min(14), 0),
    column("streams", Constraint::Length(14), 56),
    column("state", Constraint::Length(26), 0),
];

/// Draws the list in front of the page.
pub fn draw(app: &App, choice: &ChannelChoice, theme: Theme, buf: &mut Buffer) {
    let height = (choice.channels.len() as u16).saturating_add(7).min(app.area.height);
    let inner = form(app, theme, 92, height, buf);
    let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
    let (ticked, all) = (choice.ticked.len(), choice.channels.len());
    let title = format!("{} is a recorder with {all} channels, {ticked} ticked", choice.newcomer.target);
    Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
    let area = Rect { y: inner.y + 2, height: inner.height.saturating_sub(2), ..inner };
    let list = List { area, columns: COLUMNS.to_vec(), rows: all, selected: choice.row };
    table(theme, &list, choice.channels.iter().map(|channel| line(choice, channel)).collect(), buf);
}

fn line(choice: &ChannelChoice, channel: &Channel) -> Vec<Said> {
    let tick = if choice.ticked.contains(&channel.number) { "■" } else { "□" };
    let state = channel.trouble.map_or_else(|| ("answers".into(), Tone::Calm), |cause| (cause.to_string(), Tone::Bright));
    let calm = |text: String| (text, Tone::Calm);
    vec![
        (tick.to_owned(), Tone::Here),
        calm(channel.number.to_string()),
        calm(channel.name.clone().unwrap_or_else(|| "–".into())),
        calm(channel.streams.join(" ")),
        state,
    ]
}
