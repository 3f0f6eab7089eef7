//! Listening, as the operator has it.

use super::App;
use crate::tui::theme::Tone;
use crate::tui::widgets::sound::HEARD;
use lattice_engine::{CameraId, Command, Listen};

/// A volume in words: 0 is as it is sent.
pub fn decibels(volume: i8) -> String {
    if volume == 0 { "0 dB".to_owned() } else { format!("{volume:+} dB") }
}

impl App {
    /// Listens to the camera of a name, or not any more.
    pub fn listen_to(&mut self, name: &str) {
        self.with_camera(name, Listen::Toggle);
    }

    /// Listens to the camera of a name alone, or to all again.
    pub fn listen_alone(&mut self, name: &str) {
        self.with_camera(name, Listen::Solo);
    }

    fn with_camera(&mut self, name: &str, order: fn(CameraId) -> Listen) {
        if let Some(camera) = self.cameras.id(name) {
            self.tell(Command::Listen(order(camera)));
        }
    }

    /// Hears nothing, or again what is listened to.
    pub fn mute(&mut self) {
        if self.hearing.possible && self.hearing.cameras.is_empty() {
            return self.say(Tone::Text, "no camera is listened to".into());
        }
        self.tell(Command::Listen(Listen::Mute));
    }

    /// Louder or softer.
    pub fn change_volume(&mut self, by: i8) {
        self.tell(Command::Listen(Listen::Volume(by)));
        if !self.hearing.possible {
            return;
        }
        let volume = self.hearing.volume.saturating_add(by).clamp(*lattice_engine::VOLUME.start(), *lattice_engine::VOLUME.end());
        self.say(Tone::Text, format!("volume {}", decibels(volume)));
    }

    /// What is heard, for the header.
    pub fn heard_here(&self) -> Option<(String, Tone)> {
        let hearing = &self.hearing;
        let first = hearing.solo.or_else(|| hearing.cameras.keys().next().copied())?;
        let what = match hearing.cameras.len() {
            1 => self.cameras.name(first).to_owned(),
            _ if hearing.solo.is_some() => self.cameras.name(first).to_owned(),
            many => format!("{many} cameras"),
        };
        Some(if hearing.muted {
            (format!("{HEARD} muted"), Tone::Bright)
        } else {
            (format!("{HEARD} {what} {}", decibels(hearing.volume)), Tone::Here)
        })
    }
}
