//! The wall in a terminal that takes 1 Mbit/s, as over a thin ssh: pictures come slower, keys do not.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/memory.rs"]
mod memory;
#[path = "support/port.rs"]
mod port;

use memory::resident;
use port::{PROGRAM, StandIn};
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

const BYTES_PER_SECOND: usize = 125_000;

/// What came out of the terminal's other end.
#[derive(Default)]
struct Came {
    total: usize,
    new: Vec<u8>,
}

/// A pseudo-terminal whose other end is read at a bounded rate.
struct Thin {
    child: Child,
    keys: File,
    came: Arc<Mutex<Came>>,
    screen: vt100::Parser,
}

impl Thin {
    fn start(arguments: &[String], state: &std::path::Path) -> Self {
        let master = rustix::pty::openpt(rustix::pty::OpenptFlags::RDWR | rustix::pty::OpenptFlags::NOCTTY).unwrap();
        rustix::pty::grantpt(&master).unwrap();
        rustix::pty::unlockpt(&master).unwrap();
        let name = rustix::pty::ptsname(&master, Vec::new()).unwrap();
        let slave = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        let size = rustix::termios::Winsize { ws_row: 50, ws_col: 160, ws_xpixel: 0, ws_ypixel: 0 };
        rustix::termios::tcsetwinsize(&slave, size).unwrap();
        let child = Command::new(PROGRAM)
            .args(arguments)
            .env("TERM", "xterm-256color")
            .env("COLORTERM", "truecolor")
            .env("XDG_STATE_HOME", state)
            .env("DBUS_SESSION_BUS_ADDRESS", "disabled:")
            .stdin(Stdio::from(slave.try_clone().unwrap()))
            .stdout(Stdio::from(slave.try_clone().unwrap()))
            .stderr(Stdio::from(slave))
            .spawn()
            .unwrap();
        let keys = File::from(master);
        let (mut reader, came) = (keys.try_clone().unwrap(), Arc::new(Mutex::new(Came::default())));
        let into = came.clone();
        std::thread::spawn(move || {
            let mut bytes = [0; BYTES_PER_SECOND / 200];
            let mut free_at = Instant::now();
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                let mut came = into.lock().unwrap();
                came.total += count;
                came.new.extend_from_slice(&bytes[..count]);
                drop(came);
                free_at = free_at.max(Instant::now()) + Duration::from_secs_f64(count as f64 / BYTES_PER_SECOND as f64);
                std::thread::sleep(free_at.saturating_duration_since(Instant::now()));
            }
        });
        Self { child, keys, came, screen: vt100::Parser::new(50, 160, 0) }
    }

    /// Bytes so far, and the screen that they make.
    fn look(&mut self) -> (usize, String) {
        let mut came = self.came.lock().unwrap();
        self.screen.process(&std::mem::take(&mut came.new));
        (came.total, self.screen.screen().contents())
    }

    #[track_caller]
    fn wait_for(&mut self, text: &str) -> (usize, String) {
        let deadline = Instant::now() + Duration::from_secs(90);
        loop {
            let (total, screen) = self.look();
            if screen.contains(text) {
                return (total, screen);
            }
            assert!(Instant::now() < deadline, "{text}: not within 90 s:\n{screen}");
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    fn press(&mut self, key: &str) {
        self.keys.write_all(key.as_bytes()).unwrap();
    }

    /// Resident memory in kB.
    fn memory(&self) -> usize {
        resident(self.child.id())
    }
}

impl Drop for Thin {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn keys_stay_quick_and_memory_bounded_where_the_terminal_is_slower_than_the_pictures() {
    let port = StandIn::four();
    let urls = ["Slipway north", "Lock gate upper", "Car lane 2"].map(|name| port.sub(name));
    let state = tempfile::tempdir().unwrap();
    let mut terminal = Thin::start(&[&["open".to_owned()], urls.as_slice()].concat(), state.path());
    // It is told, with the rate that is really shown.
    terminal.wait_for("slow, shown ");
    let before = terminal.memory();
    let mut before_answer = Vec::new();
    for turn in 0..12 {
        let (pressed, _) = terminal.look();
        terminal.press("b");
        let said = if turn % 2 == 0 { "is marked" } else { "is not marked any more" };
        let (seen, _) = terminal.wait_for(said);
        before_answer.push(seen - pressed);
        std::thread::sleep(Duration::from_millis(700));
    }
    // At 125 kB/s these bytes are 100 ms: what counts is what stands before the answer. A busy machine may look at a key
    // late, now and then; a queue of pictures would be there each time, and of hundreds of kilobytes.
    before_answer.sort_unstable();
    assert!(before_answer[8] < BYTES_PER_SECOND / 10 && before_answer[11] < BYTES_PER_SECOND, "{before_answer:?}");
    assert!(terminal.memory() < before + 16 * 1024, "{before} kB, now {} kB", terminal.memory());
    terminal.press("q");
    let deadline = Instant::now() + Duration::from_secs(30);
    while terminal.child.try_wait().unwrap().is_none() {
        assert!(Instant::now() < deadline, "it did not leave");
        std::thread::sleep(Duration::from_millis(50));
    }
}
