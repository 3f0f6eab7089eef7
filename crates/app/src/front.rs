//! A wall is two processes: the front, which the shell knows, and the one that works.
//!
//! A shell goes on when the process that it started is stopped, and a process that is stopped receives nothing. So Ctrl-Z
//! stops the front alone: the shell has the terminal, and the other process goes on receiving, judging and recording
//! without a screen. It draws again when the shell brings the front back.

use crate::private_args;
use anyhow::Context as _;
use rustix::process::{Pid, Signal, kill_process};
use signal_hook::consts::{SIGCONT, SIGHUP, SIGINT, SIGTERM, SIGWINCH};
use std::io::IsTerminal as _;
use std::os::unix::process::ExitStatusExt as _;
use std::process::ExitCode;

/// Names the front to the process that works.
const VARIABLE: &str = "AMBER_LATTICE_FRONT";

/// Becomes the front where there is a terminal and none is there yet; gives the exit status of the process that works then.
///
/// # Errors
/// When that process cannot be started.
pub fn become_front(args: &[String]) -> anyhow::Result<Option<ExitCode>> {
    let terminal = std::io::stdin().is_terminal() && std::io::stdout().is_terminal();
    if std::env::var_os(VARIABLE).is_some() || !terminal {
        return Ok(None);
    }
    let mut signals = signal_hook::iterator::Signals::new([SIGTERM, SIGHUP, SIGINT, SIGWINCH, SIGCONT])?;
    let before = lattice_term::Before::now();
    let mut command = private_args::command(args)?;
    command.env(VARIABLE, std::process::id().to_string());
    let mut child = command.spawn().context("the process that works cannot be started")?;
    let works = Pid::from_child(&child);
    std::thread::Builder::new().name("signals".into()).spawn(move || {
        for signal in signals.forever() {
            let signal = match signal {
                SIGTERM => Signal::TERM,
                SIGHUP => Signal::HUP,
                SIGINT => Signal::INT,
                SIGWINCH => Signal::WINCH,
                _ => Signal::CONT,
            };
            let _ = kill_process(works, signal); // it may have ended meanwhile
        }
    })?;
    let status = child.wait().context("the process that works is lost")?;
    if status.signal().is_some() {
        before.put_back(); // it was killed and could not
    }
    let code = status.code().or(status.signal().map(|signal| 128 + signal)).unwrap_or(1);
    Ok(Some(ExitCode::from(u8::try_from(code).unwrap_or(1))))
}

/// The front of this process. When the front is gone, this process is told to end.
pub fn of_this_process() -> Option<Pid> {
    let front = Pid::from_raw(std::env::var(VARIABLE).ok()?.parse().ok()?)?;
    #[cfg(target_os = "linux")]
    let _ = rustix::process::set_parent_process_death_signal(Some(Signal::HUP));
    (rustix::process::getppid() == Some(front)).then_some(front)
}

/// Whether the front is stopped: the shell has the terminal then, whoever it says that has it.
pub fn is_stopped(front: Pid) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", front.as_raw_nonzero()));
    // Behind the name in parentheses; where there is no such file the foreground alone decides.
    stat.is_ok_and(|stat| stat.rsplit(')').next().is_some_and(|rest| rest.trim_start().starts_with('T')))
}
