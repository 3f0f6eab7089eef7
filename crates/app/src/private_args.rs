//! Passwords out of the process list.
//!
//! What is typed on a command line can be read by every user of the machine for as long as the
//! process lives. If an argument is an address with a password in it, the program starts itself
//! again with the passwords cut out, and hands the full arguments over through a pipe.

use anyhow::Context as _;
use lattice_core::veil::without_passwords;
use rustix::fd::{AsRawFd as _, FromRawFd as _, OwnedFd};
use std::io::{Read as _, Write as _};
use std::os::unix::process::CommandExt as _;

/// Names the pipe's descriptor to the second start.
const VARIABLE: &str = "AMBER_LATTICE_ARGS_FD";
/// A pipe holds at least this much without a reader.
const PIPE_ROOM: usize = 60_000;

/// The arguments to work with. Comes back only in a process whose own list shows no password.
///
/// # Errors
/// When the arguments are no text, or the second start fails.
pub fn take() -> anyhow::Result<Vec<String>> {
    if let Some(fd) = std::env::var(VARIABLE).ok().and_then(|text| text.parse::<i32>().ok()).filter(|fd| *fd > 2) {
        return received(fd);
    }
    let args: Vec<String> = std::env::args_os()
        .map(|arg| arg.into_string().map_err(|arg| anyhow::anyhow!("the argument {} is not valid text", arg.display())))
        .collect::<Result<_, _>>()?;
    let shown: Vec<String> = args.iter().map(|arg| without_password(arg)).collect();
    if shown == args {
        return Ok(args);
    }
    start_again(&args, &shown)
}

fn start_again(args: &[String], shown: &[String]) -> anyhow::Result<Vec<String>> {
    Err(showing(args, shown)?.exec()).context("cannot start again without passwords in the arguments")
}

/// This program again with these arguments: passwords in them go through a pipe.
///
/// # Errors
/// When there is no pipe, or the program is gone.
pub fn command(args: &[String]) -> anyhow::Result<std::process::Command> {
    let shown: Vec<String> = args.iter().map(|arg| without_password(arg)).collect();
    showing(args, &shown)
}

fn showing(args: &[String], shown: &[String]) -> anyhow::Result<std::process::Command> {
    let program = std::env::current_exe().context("cannot find this program to start it again")?;
    let mut command = std::process::Command::new(program);
    if let Some(name) = shown.first() {
        command.arg0(name);
    }
    command.args(shown.iter().skip(1));
    if args != shown {
        let text = serde_json::to_vec(args)?;
        anyhow::ensure!(text.len() < PIPE_ROOM, "the addresses are too long for one command");
        // No close-on-exec: the descriptor is meant to be inherited.
        let (read, write) = rustix::pipe::pipe().context("no pipe for the addresses")?;
        std::fs::File::from(write).write_all(&text)?;
        command.env(VARIABLE, read.as_raw_fd().to_string());
        std::mem::forget(read); // it is the other one's, which reads it to its end
    }
    Ok(command)
}

fn received(fd: i32) -> anyhow::Result<Vec<String>> {
    // SAFETY: the variable is set by `start_again` alone, which left this descriptor open for us.
    let file = unsafe { OwnedFd::from_raw_fd(fd) };
    let mut text = Vec::new();
    std::fs::File::from(file).read_to_end(&mut text).context("the addresses did not come over")?;
    // SAFETY: no other thread runs yet.
    unsafe { std::env::remove_var(VARIABLE) };
    serde_json::from_slice(&text).context("the addresses did not come over whole")
}

/// An argument as everybody may read it: each password in it replaced.
pub fn without_password(arg: &str) -> String {
    match arg.split_once('=').filter(|(option, _)| option.starts_with("--")) {
        Some((option, value)) => format!("{option}={}", without_passwords(value)),
        None => without_passwords(arg),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_passwords_are_cut_out() {
        for (arg, want) in [
            ("rtsp://u:p@cam/x", "rtsp://u@cam/x"),
            ("rtsp://u:p@w@cam:8554/x?a=b", "rtsp://u@cam:8554/x?a=b"),
            ("u:p/q?@192.0.2.1", "u@192.0.2.1"),
            ("--target=rtsp://cam/x?pwd=p", "--target=rtsp://cam/x?pwd=***"),
            ("rtsp://u@cam/x", "rtsp://u@cam/x"),
            ("--for", "--for"),
        ] {
            assert_eq!(without_password(arg), want);
        }
    }
}
