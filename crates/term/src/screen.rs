//! The terminal: taken, given back, read. Nothing else knows it.

use crate::ability::Ability;
use crate::answers::Answer;
use crate::display::Display;
use crate::painter::remove_images;
use crate::tmux::Tmux;
use crate::{kitty, line};
use crossbeam_channel::Sender;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture, Event,
};
use ratatui::crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode, size, window_size,
};
use ratatui::crossterm::{cursor, execute};
use ratatui::layout::Rect;
use rustix::process::{Pid, Signal, getpid, kill_process};
use rustix::stdio::stdin;
use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};
use std::io::{self, IsTerminal as _, Stdout, Write as _};
use std::sync::Once;
use std::sync::atomic::{AtomicBool, Ordering};

/// Why the terminal could not be taken.
#[derive(Debug, thiserror::Error)]
pub enum ScreenError {
    /// Standard input and output are no terminal.
    #[error("the wall needs a terminal; for scripts there is `amber-lattice measure`")]
    NoTerminal,
    /// Its modes could not be set.
    #[error("the terminal cannot be set up")]
    SetUp(#[source] io::Error),
    /// Its line could not be taken.
    #[error("the terminal's answers cannot be read")]
    Line(#[source] io::Error),
}

/// The terminal in the wall's mode; restored when dropped, and on a panic of this thread.
pub struct Screen {
    /// What is on it.
    pub display: Display<Stdout>,
    /// Its answers can be told from keys.
    answers: bool,
}

static HOOK: Once = Once::new();

fn restore() {
    if line::is_given_away() {
        return; // it is the shell's already
    }
    tell_releases(false);
    kitty::forget_shared();
    let _ = remove_images(&mut io::stdout());
    let _ = disable_raw_mode();
    line::give_back();
    let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
}

/// The terminal was asked to tell when keys are let go.
static RELEASES: AtomicBool = AtomicBool::new(false);

/// Whether the terminal is to tell when keys are let go, from now on. Only for one that says that it can.
pub fn tell_releases(wanted: bool) {
    if RELEASES.swap(wanted, Ordering::AcqRel) != wanted {
        // Flags 1 and 2: keys are told apart, and that they are held and let go.
        let order: &[u8] = if wanted { b"\x1b[>3u" } else { b"\x1b[<u" };
        let mut out = io::stdout();
        let _ = out.write_all(order).and_then(|()| out.flush());
    }
}

impl Screen {
    /// Takes the terminal; at most `limit` bytes a second are written to it. What it answers goes to `sender`.
    ///
    /// # Errors
    /// [`ScreenError`].
    pub fn enter(limit: Option<f64>, sender: &Sender<Input>) -> Result<Self, ScreenError> {
        if !(io::stdout().is_terminal() && io::stdin().is_terminal()) {
            return Err(ScreenError::NoTerminal);
        }
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
        kitty::sweep();
        let (answers, gone) = (sender.clone(), sender.clone());
        let tapped = line::tap(move |answer| drop(answers.send(Input::Answer(answer))), move || drop(gone.send(Input::Signal)));
        if let Err(error) = &tapped {
            tracing::warn!(%error, "the terminal's answers cannot be told from keys: nothing is asked, pictures are painted in cells");
        }
        let answers = tapped.is_ok();
        enable_raw_mode().map_err(ScreenError::SetUp)?;
        execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, EnableBracketedPaste, cursor::Hide)
            .map_err(ScreenError::SetUp)?;
        Ok(Self { display: Display::new(io::stdout(), limit), answers })
    }

    /// Asks the terminal something, where answers can be told from keys.
    pub fn ask(&self, questions: &str) {
        if self.answers {
            let mut out = io::stdout();
            let _ = out.write_all(questions.as_bytes()).and_then(|()| out.flush());
        }
    }

    /// Gives the terminal back, to the shell. `front` is the process that the shell waits for: it alone stops, and this one
    /// goes on without a screen until [`Self::resume`]. Without a front this process stops, and the terminal is taken again
    /// when it goes on; true then.
    pub fn suspend(&mut self, front: Option<Pid>) -> bool {
        restore();
        let Some(front) = front else {
            // Stopping oneself cannot fail; the program goes on here when it is continued.
            let _ = kill_process(getpid(), Signal::STOP);
            self.take_again();
            return true;
        };
        line::give_away();
        if kill_process(front, Signal::STOP).is_err() {
            self.take_again(); // it is gone, and this process will be told so
            return true;
        }
        false
    }

    /// Takes the terminal again, once the shell has brought this process to the foreground; whether it has.
    pub fn resume(&mut self) -> bool {
        let there = line::is_foreground();
        if there {
            self.take_again();
        }
        there
    }

    fn take_again(&mut self) {
        line::take_again();
        let _ = enable_raw_mode();
        let _ = execute!(io::stdout(), EnterAlternateScreen, EnableMouseCapture, EnableBracketedPaste, cursor::Hide);
        self.display.begin_anew();
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        restore();
    }
}

/// A terminal as it was before another process takes it.
#[derive(Debug)]
pub struct Before(Option<Termios>);

impl Before {
    /// The terminal as it is now.
    #[must_use]
    pub fn now() -> Self {
        Self(tcgetattr(stdin()).ok())
    }

    /// The terminal as it was, whatever the process left that had it and was killed.
    pub fn put_back(&self) {
        kitty::sweep();
        tell_releases(false);
        let _ = remove_images(&mut io::stdout());
        if let Some(before) = &self.0 {
            let _ = tcsetattr(stdin(), OptionalActions::Now, before);
        }
        let _ = execute!(io::stdout(), DisableBracketedPaste, DisableMouseCapture, LeaveAlternateScreen, cursor::Show);
    }
}

/// The line while questions are asked outside of a wall; given back when dropped.
pub struct Asking;

impl Drop for Asking {
    fn drop(&mut self) {
        line::give_back();
    }
}

/// Asks all questions; answers go to `sender`.
///
/// # Errors
/// [`ScreenError::Line`].
pub fn questions(ability: &Ability, sender: Sender<Input>) -> Result<Asking, ScreenError> {
    let gone = sender.clone();
    line::tap(move |answer| drop(sender.send(Input::Answer(answer))), move || drop(gone.send(Input::Signal)))
        .map_err(ScreenError::Line)?;
    let asking = Asking;
    let mut out = io::stdout();
    out.write_all(ability.questions().as_bytes()).and_then(|()| out.flush()).map_err(ScreenError::Line)?;
    Ok(asking)
}

/// What comes from the operator, the terminal or the system.
pub enum Input {
    /// The terminal answered.
    Answer(Answer),
    /// tmux shows this program on another terminal.
    Tmux(Tmux),
    /// A key, the mouse, something pasted.
    Event(Event),
    /// The program is to end.
    Signal,
    /// The shell brought the program back.
    Continued,
}

/// Reads input on a thread of its own until the terminal is gone.
///
/// # Errors
/// When the system gives no thread.
pub fn read_input(sender: Sender<Input>) -> io::Result<()> {
    let mut signals = signal_hook::iterator::Signals::new([
        signal_hook::consts::SIGTERM,
        signal_hook::consts::SIGHUP,
        signal_hook::consts::SIGINT,
        signal_hook::consts::SIGCONT,
    ])?;
    let on_signal = sender.clone();
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        for signal in signals.forever() {
            let input = if signal == signal_hook::consts::SIGCONT { Input::Continued } else { Input::Signal };
            let ends = matches!(input, Input::Signal);
            if on_signal.send(input).is_err() || ends {
                return;
            }
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
