//! One stream on the whole screen.

use super::{App, FeedKey};
use crate::desk::Page;
use crate::theme::Tone;
use lattice_core::Role;
use lattice_core::meter::Span;

/// A step on the page of a stream.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StreamStep {
    /// The stream of the selected tile.
    Open,
    /// Its camera's other stream.
    SwitchStream,
    /// Its camera's other stream beside it, or not any more.
    Beside,
    /// Look back on another span.
    Span,
    /// Show other charts first, where there is no room for all.
    Charts(i32),
    /// Read all charts at another moment, by percents of the span; further back with a positive one.
    Cursor(i32),
}

/// What is looked at.
#[derive(Debug, Default)]
pub struct StreamPage {
    /// The stream.
    pub key: Option<FeedKey>,
    /// Its camera's other stream stands beside it.
    pub beside: bool,
    /// What the charts look back on.
    pub span: Span,
    /// The chart that is shown first.
    pub first_chart: usize,
    /// Where all charts are read, in percents of the span before now; at the newest for `None`.
    pub cursor: Option<u8>,
}

impl App {
    /// The stream of the same camera that comes after this one, in a round.
    fn other_stream(&self, key: FeedKey) -> Option<FeedKey> {
        let streams = &self.cameras.get(key.camera)?.streams;
        let roles: Vec<Role> = streams.iter().map(|stream| stream.role).collect();
        let at = roles.iter().position(|role| *role == key.role)?;
        let role = roles.get((at + 1) % roles.len()).filter(|role| **role != key.role)?;
        Some(FeedKey { role: *role, ..key })
    }

    /// The streams on the page of a stream: the one that is looked at, and the one beside it.
    pub fn looked_at(&self) -> Vec<FeedKey> {
        let beside = self.stream_page.key.filter(|_| self.stream_page.beside).and_then(|key| self.other_stream(key));
        self.stream_page.key.into_iter().chain(beside).collect()
    }

    pub(super) fn stream_step(&mut self, step: StreamStep) {
        match step {
            StreamStep::Open => match self.selected_tile().map(super::Tile::key) {
                Some(key) => {
                    self.stream_page.key = Some(key);
                    self.page = Page::Stream;
                    self.same_tiles_since = self.now;
                }
                None => self.say(Tone::Text, "this tile is empty: p puts a camera here".into()),
            },
            StreamStep::SwitchStream => {
                let Some(key) = self.stream_page.key else { return };
                match self.other_stream(key) {
                    Some(other) => {
                        self.stream_page.key = Some(other);
                        self.same_tiles_since = self.now;
                    }
                    None => self.say(Tone::Text, "this camera has one stream".into()),
                }
            }
            StreamStep::Beside => {
                let other = self.stream_page.key.and_then(|key| self.other_stream(key));
                self.stream_page.beside = !self.stream_page.beside && other.is_some();
                if other.is_none() {
                    self.say(Tone::Text, "this camera has one stream: nothing stands beside it".into());
                }
                self.same_tiles_since = self.now;
            }
            StreamStep::Span => {
                let at = Span::ALL.iter().position(|span| *span == self.stream_page.span).unwrap_or(0);
                self.stream_page.span = Span::ALL[(at + 1) % Span::ALL.len()];
            }
            StreamStep::Charts(by) => {
                let count = crate::view::STREAM_CHARTS as i32;
                self.stream_page.first_chart = (self.stream_page.first_chart as i32 + by).rem_euclid(count) as usize;
            }
            StreamStep::Cursor(by) => {
                let now = self.stream_page.cursor.map_or(0, i32::from);
                let next = (now + by).clamp(0, 100);
                self.stream_page.cursor = (next > 0).then_some(next as u8);
            }
        }
    }
}
