//! The line from the terminal: answers are taken out of it before keys are read.
//!
//! Keys are read by a library that reads the standard input and knows no answers; one that comes late, or unasked, would be
//! typed letters to it. So the real line is read here, and what the operator does goes on through a pseudo-terminal, which
//! takes the place of the standard input.

use crate::answers::{Answer, Sieve};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::{AsFd as _, OwnedFd};
use rustix::fs::{Mode, OFlags};
use rustix::io::{dup, read, write};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, Termios, tcgetattr, tcsetattr};
use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// An escape that nothing follows for so long is a key.
const ESCAPE_WAITS: Timespec = Timespec { tv_sec: 0, tv_nsec: 20_000_000 };

/// The real line and how it was set, while it is taken.
static TAKEN: Mutex<Option<(OwnedFd, Termios)>> = Mutex::new(None);

/// Takes the line; answers go to `on_answer`, and `on_gone` is called when the terminal is gone.
///
/// # Errors
/// When the system has no pseudo-terminal, or the standard input is no terminal: nothing is changed then.
pub fn tap(on_answer: impl Fn(Answer) + Send + 'static, on_gone: impl FnOnce() + Send + 'static) -> io::Result<()> {
    let real = dup(rustix::stdio::stdin())?;
    let before = tcgetattr(&real)?;
    let ours = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    grantpt(&ours)?;
    unlockpt(&ours)?;
    let name = ptsname(&ours, Vec::new())?;
    let theirs = rustix::fs::open(name, OFlags::RDWR | OFlags::NOCTTY, Mode::empty())?;
    let mut raw = before.clone();
    raw.make_raw();
    tcsetattr(&theirs, OptionalActions::Now, &raw)?;
    tcsetattr(&real, OptionalActions::Now, &raw)?;
    let (kept, reads) = (dup(&real)?, real);
    *TAKEN.lock().unwrap_or_else(PoisonError::into_inner) = Some((kept, before));
    rustix::stdio::dup2_stdin(&theirs)?;
    drop(theirs);
    std::thread::Builder::new().name("line".into()).spawn(move || {
        pump(&reads, &ours, &on_answer);
        on_gone();
    })?;
    Ok(())
}

/// The shell has the line: it is not read, not set, and not written to.
static GIVEN_AWAY: AtomicBool = AtomicBool::new(false);
/// So often it is looked whether it came back.
const AWAY_WAITS: Duration = Duration::from_millis(50);

/// The shell has the line from now on.
pub fn give_away() {
    GIVEN_AWAY.store(true, Ordering::Release);
}

/// Whether the shell has the line.
pub fn is_given_away() -> bool {
    GIVEN_AWAY.load(Ordering::Acquire)
}

/// Whether this process may read the line: the shell has put it in the foreground.
pub fn is_foreground() -> bool {
    let taken = TAKEN.lock().unwrap_or_else(PoisonError::into_inner);
    let group = taken.as_ref().and_then(|(real, _)| rustix::termios::tcgetpgrp(real).ok());
    group.is_none_or(|group| group == rustix::process::getpgrp())
}

/// The real line is the standard input again, for a program that takes this one's place.
///
/// # Errors
/// When the system refuses.
pub fn to_stdin() -> io::Result<()> {
    let taken = TAKEN.lock().unwrap_or_else(PoisonError::into_inner);
    match taken.as_ref() {
        Some((real, _)) => Ok(rustix::stdio::dup2_stdin(real)?),
        None => Ok(()),
    }
}

/// The real line as it was before.
pub fn give_back() {
    let taken = TAKEN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((real, before)) = taken.as_ref() {
        let _ = tcsetattr(real, OptionalActions::Now, before);
    }
}

/// Takes it again after it was given back.
pub fn take_again() {
    GIVEN_AWAY.store(false, Ordering::Release);
    let taken = TAKEN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((real, before)) = taken.as_ref() {
        let mut raw = before.clone();
        raw.make_raw();
        let _ = tcsetattr(real, OptionalActions::Now, &raw);
    }
}

fn pump(real: &OwnedFd, ours: &OwnedFd, on_answer: &dyn Fn(Answer)) {
    let (mut sieve, mut bytes, mut input) = (Sieve::default(), [0u8; 4096], Vec::new());
    loop {
        if is_given_away() {
            std::thread::sleep(AWAY_WAITS);
            continue;
        }
        let wait = sieve.is_waiting().then_some(&ESCAPE_WAITS);
        match poll(&mut [PollFd::new(real, PollFlags::IN)], wait) {
            Ok(0) => sieve.give_up(&mut input),
            // What is typed now is for the shell; whoever reads it in the background is stopped.
            Ok(_) if is_given_away() || !is_foreground() => {
                std::thread::sleep(AWAY_WAITS);
                continue;
            }
            Ok(_) => match read(real.as_fd(), &mut bytes) {
                Ok(0) => return,
                Ok(count) => sieve.take(&bytes[..count], &mut input).into_iter().for_each(on_answer),
                Err(rustix::io::Errno::INTR | rustix::io::Errno::AGAIN) => continue,
                Err(_) => return,
            },
            Err(rustix::io::Errno::INTR) => continue,
            Err(_) => return,
        }
        let mut rest = input.as_slice();
        while !rest.is_empty() {
            match write(ours, rest) {
                Ok(count) => rest = &rest[count..],
                Err(rustix::io::Errno::INTR | rustix::io::Errno::AGAIN) => {}
                Err(_) => return,
            }
        }
        input.clear();
    }
}
