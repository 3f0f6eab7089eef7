//! A real terminal, driven by keys.
#![allow(dead_code, reason = "each test file uses what it needs")]

use std::process::{Command, Output};
use std::time::{Duration, Instant};

/// Whatever a screen is awaited for happens within this time, on a starved machine as well.
const WITHIN: Duration = Duration::from_secs(120);

/// A tmux server of its own; ended when dropped.
pub struct Tmux {
    socket: String,
}

impl Tmux {
    /// A terminal of 160x50 in which this command runs.
    pub fn start(name: &str, command: &str) -> Self {
        let this = Self { socket: format!("amber-lattice-{name}-{}", std::process::id()) };
        let out = this.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", "160", "-y", "50", "sh"]);
        assert!(out.status.success(), "tmux is needed: {}", String::from_utf8_lossy(&out.stderr));
        this.tmux(&["set", "-g", "window-size", "manual"]);
        this.keys(&["-l", command]);
        this.keys(&["Enter"]);
        this
    }

    /// A command of tmux itself.
    pub fn tmux(&self, args: &[&str]) -> Output {
        Command::new("tmux")
            .env("DBUS_SESSION_BUS_ADDRESS", "disabled:")
            .args(["-L", &self.socket])
            .args(args)
            .output()
            .expect("tmux is installed")
    }

    /// Presses keys.
    pub fn keys(&self, keys: &[&str]) {
        self.tmux(&[&["send-keys"], keys].concat());
        if keys.last() == Some(&"Escape") {
            // With another key right behind it, it would be read as that key with Alt.
            std::thread::sleep(Duration::from_millis(300));
        }
    }

    /// What is on the screen.
    pub fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p"]).stdout).into_owned()
    }

    /// Waits until the screen is as it should be.
    #[track_caller]
    pub fn wait(&self, what: &str, done: impl Fn(&str) -> bool) -> String {
        let deadline = Instant::now() + WITHIN;
        // What stood at the foot meanwhile: an answer that was another one than the awaited is gone by the end.
        let mut said: Vec<String> = Vec::new();
        loop {
            let screen = self.screen();
            if done(&screen) {
                // The rest of that step may still be on its way to the terminal.
                std::thread::sleep(Duration::from_millis(200));
                let whole = self.screen();
                return if done(&whole) { whole } else { screen };
            }
            let foot = screen.lines().rev().map(str::trim).find(|line| !line.is_empty()).unwrap_or_default();
            if said.last().is_none_or(|last| last != foot) {
                said.push(foot.to_owned());
            }
            let last = &said[said.len().saturating_sub(12)..];
            assert!(Instant::now() < deadline, "{what}: not within {WITHIN:?}; at the foot {last:#?}:\n{screen}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Waits until this stands on the screen.
    #[track_caller]
    pub fn wait_for(&self, text: &str) -> String {
        self.wait(text, |screen| screen.contains(text))
    }

    /// Kills the program that runs in it: the process of this file whose arguments begin with that word, and where that one
    /// has another work for it, the other.
    #[track_caller]
    pub fn kill(&self, program: &str, word: &str) {
        let shell = String::from_utf8_lossy(&self.tmux(&["display-message", "-p", "#{pane_pid}"]).stdout).trim().to_owned();
        let children = |of: &str| std::fs::read_to_string(format!("/proc/{of}/task/{of}/children")).unwrap();
        let is_it = |pid: &&str| {
            let line = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
            let line = String::from_utf8_lossy(&line).into_owned();
            line.starts_with(program) && line.split('\0').nth(1) == Some(word)
        };
        let find = |of: &str| children(of).split_whitespace().find(is_it).map(str::to_owned);
        let front = find(&shell).unwrap_or_else(|| panic!("{program} {word} is not among {}", children(&shell)));
        let pid = find(&front).unwrap_or(front);
        let pid = rustix::process::Pid::from_raw(pid.parse().unwrap()).unwrap();
        rustix::process::kill_process(pid, rustix::process::Signal::KILL).unwrap();
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}
