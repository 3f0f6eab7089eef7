//! The terminal: taken, given back, read. Nothing else knows it.

use crate::display::Display;
use anyhow::Context as _;
use crossbeam_channel::Sender;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture, Event,
};
use ratatui::crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode, size, window_size,
};
use ratatui::crossterm::{cursor, execute};
use ratatui::layout::Rect;
use std::io::{self, IsTerminal as _, Stdout};
use std::sync::Once;

/// The terminal in the wall's mode; restored when dropped, and on a panic of this thread.
pub struct Screen {
    /// What is on it.
    pub display: Display<Stdout>,
    stderr: Option<rustix::fd::OwnedFd>,
}

static HOOK: Once = Once::new();

fn restore() {
    let _ = disable_raw_mode();
    let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
}

impl Screen {
    /// Takes the terminal; at most `limit` bytes a second are written to it.
    ///
    /// # Errors
    /// When there is none.
    pub fn enter(limit: Option<f64>) -> anyhow::Result<Self> {
        anyhow::ensure!(
            io::stdout().is_terminal() && io::stdin().is_terminal(),
            "the wall needs a terminal; for scripts there is `amber-lattice measure`"
        );
        HOOK.call_once(|| {
            let main = std::thread::current().id();
            let before = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |info| {
                tracing::error!("{info}");
                // A worker's panic is told to the log; the wall goes on without it.
                if std::thread::current().id() == main {
                    restore();
                    before(info);
                }
            }));
        });
        let stderr = crate::logging::quiet_stderr();
        enable_raw_mode().context("the terminal cannot be set up")?;
        execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, EnableBracketedPaste, cursor::Hide)?;
        Ok(Self { display: Display::new(io::stdout(), limit), stderr })
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        restore();
        if let Some(stderr) = self.stderr.take() {
            let _ = rustix::stdio::dup2_stderr(&stderr);
        }
    }
}

/// What comes from the operator or the system.
pub enum Input {
    /// A key, the mouse, something pasted.
    Event(Event),
    /// The program is to end.
    Signal,
}

/// Reads input on a thread of its own until the terminal is gone.
///
/// # Errors
/// When the system gives no thread.
pub fn read_input(sender: Sender<Input>) -> anyhow::Result<()> {
    let mut signals = signal_hook::iterator::Signals::new([
        signal_hook::consts::SIGTERM,
        signal_hook::consts::SIGHUP,
        signal_hook::consts::SIGINT,
    ])?;
    let on_signal = sender.clone();
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        if signals.forever().next().is_some() {
            let _ = on_signal.send(Input::Signal);
        }
    })?;
    std::thread::Builder::new().name("input".into()).spawn(move || {
        while let Ok(event) = event::read() {
            if sender.send(Input::Event(event)).is_err() {
                return;
            }
        }
        let _ = sender.send(Input::Signal); // the terminal is gone
    })?;
    Ok(())
}

/// Its size in cells.
///
/// # Errors
/// When it is gone.
pub fn area() -> io::Result<Rect> {
    let (width, height) = size()?;
    Ok(Rect::new(0, 0, width, height))
}

/// Width of a cell over its height, where the terminal says; half otherwise.
pub fn cell_aspect() -> f64 {
    let aspect = window_size()
        .ok()
        .filter(|size| size.width > 0 && size.height > 0 && size.columns > 0 && size.rows > 0)
        .map(|size| (f64::from(size.width) / f64::from(size.columns)) / (f64::from(size.height) / f64::from(size.rows)));
    aspect.filter(|aspect| (0.3..0.8).contains(aspect)).unwrap_or(0.5)
}
