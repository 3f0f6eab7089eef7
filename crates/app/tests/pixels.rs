//! The wall in terminals that take pixels, played by the test: it answers what is asked, fetches shared memory as a terminal
//! does, and sees what is left behind.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use port::{PROGRAM, StandIn};
use std::collections::HashMap;
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How a terminal answers.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Kitty,
    Sixel,
    /// It takes nothing, says so late, and says what nobody asked.
    Odd,
}

/// What the terminal saw.
#[derive(Default)]
struct Seen {
    /// Everything that was written since the last look.
    bytes: Vec<u8>,
    /// Pictures of kitty by their number: how many came whole.
    pictures: HashMap<String, usize>,
    sixels: usize,
    /// A picture that is not as large as it says.
    wrong: Vec<String>,
}

struct Terminal {
    child: Child,
    keys: File,
    user: File,
    seen: Arc<Mutex<Seen>>,
    screen: vt100::Parser,
}

fn resize(user: &File, columns: u16, rows: u16) {
    let size = rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: columns * 8, ws_ypixel: rows * 16 };
    rustix::termios::tcsetwinsize(user, size).unwrap();
}

/// A picture that came through shared memory: fetched and taken away, as a terminal does.
fn fetch(keys: &str, data: &str) -> Result<(), String> {
    let key = |name: &str| keys.split(',').find_map(|key| key.strip_prefix(name)?.parse::<usize>().ok()).unwrap_or(0);
    let name = String::from_utf8(STANDARD.decode(data).map_err(|error| error.to_string())?).unwrap();
    let object = rustix::shm::open(name.as_str(), rustix::shm::OFlags::RDONLY, rustix::shm::Mode::empty());
    let mut bytes = Vec::new();
    File::from(object.map_err(|error| format!("{name}: {error}"))?).read_to_end(&mut bytes).unwrap();
    // Whoever leaves takes away what was not fetched.
    let _ = rustix::shm::unlink(name.as_str());
    let wanted = key("s=") * key("v=") * 3;
    if bytes.len() == wanted { Ok(()) } else { Err(format!("{keys}: {} bytes, not {wanted}", bytes.len())) }
}

impl Terminal {
    fn start(kind: Kind, arguments: &[String], state: &std::path::Path) -> Self {
        let master = rustix::pty::openpt(rustix::pty::OpenptFlags::RDWR | rustix::pty::OpenptFlags::NOCTTY).unwrap();
        rustix::pty::grantpt(&master).unwrap();
        rustix::pty::unlockpt(&master).unwrap();
        let name = rustix::pty::ptsname(&master, Vec::new()).unwrap();
        let user = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        resize(&user, 160, 50);
        let own = || Stdio::from(user.try_clone().unwrap());
        let child = Command::new(PROGRAM)
            .args(arguments)
            .env("TERM", "xterm-256color")
            .env("COLORTERM", "truecolor")
            .env_remove("SSH_CONNECTION")
            .env_remove("SSH_TTY")
            .env("XDG_STATE_HOME", state)
            .env("DBUS_SESSION_BUS_ADDRESS", "disabled:")
            .stdin(own())
            .stdout(own())
            .stderr(own())
            .spawn()
            .unwrap();
        let keys = File::from(master);
        let (mut reader, mut answers) = (keys.try_clone().unwrap(), keys.try_clone().unwrap());
        let seen = Arc::new(Mutex::new(Seen::default()));
        let into = seen.clone();
        std::thread::spawn(move || {
            let (mut bytes, mut held) = (vec![0; 65536], Vec::new());
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                held.extend_from_slice(&bytes[..count]);
                let mut seen = into.lock().unwrap();
                seen.bytes.extend_from_slice(&bytes[..count]);
                let told = answer(kind, &mut held, &mut seen);
                drop(seen);
                let _ = answers.write_all(&told);
            }
        });
        Self { child, keys, user, seen, screen: vt100::Parser::new(50, 160, 0) }
    }

    fn look(&mut self) -> String {
        let bytes = std::mem::take(&mut self.seen.lock().unwrap().bytes);
        self.screen.process(&bytes);
        self.screen.screen().contents()
    }

    #[track_caller]
    fn wait(&mut self, what: &str, done: impl Fn(&str, &Seen) -> bool) {
        let deadline = Instant::now() + Duration::from_secs(60);
        loop {
            let screen = self.look();
            if done(&screen, &self.seen.lock().unwrap()) {
                return;
            }
            let seen = self.seen.lock().unwrap();
            assert!(Instant::now() < deadline, "{what}: {:?} {} {:?}\n{screen}", seen.pictures, seen.sixels, seen.wrong);
            drop(seen);
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    fn press(&mut self, keys: &[u8]) {
        self.keys.write_all(keys).unwrap();
    }

    fn memory(&self) -> usize {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id())).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
        line.trim().trim_end_matches(" kB").parse().unwrap()
    }

    /// Leaves by a key; the last bytes that were written.
    fn leave(mut self) -> (Option<i32>, String) {
        self.press(b"q");
        let deadline = Instant::now() + Duration::from_secs(20);
        let status = loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                break status.code();
            }
            assert!(Instant::now() < deadline, "it leaves");
            std::thread::sleep(Duration::from_millis(20));
        };
        std::thread::sleep(Duration::from_millis(200));
        let seen = self.seen.lock().unwrap();
        (status, String::from_utf8_lossy(&seen.bytes).into_owned())
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Takes whole questions and pictures off what came; what is answered.
fn answer(kind: Kind, held: &mut Vec<u8>, seen: &mut Seen) -> Vec<u8> {
    let mut told = Vec::new();
    while let Some(at) = held.iter().position(|byte| *byte == 0x1b) {
        let rest = &held[at..];
        let string = matches!(rest.get(1), Some(b'_' | b'P'));
        let end = if string {
            rest.windows(2).skip(2).position(|pair| pair == b"\x1b\\").map(|end| end + 4)
        } else if rest.get(1) == Some(&b'[') {
            rest.iter().skip(2).position(|byte| (0x40..=0x7e).contains(byte)).map(|end| end + 3)
        } else {
            (rest.len() > 1).then_some(2)
        };
        let Some(end) = end else {
            held.drain(..at);
            return told;
        };
        let sequence = String::from_utf8_lossy(&rest[..end]).into_owned();
        held.drain(..at + end);
        told.extend(one(kind, &sequence, seen).into_bytes());
    }
    held.clear();
    told
}

fn one(kind: Kind, sequence: &str, seen: &mut Seen) -> String {
    if let Some(graphics) = sequence.strip_prefix("\x1b_G") {
        let Some((keys, data)) = graphics.trim_end_matches("\x1b\\").split_once(';') else { return String::new() };
        let shared = keys.contains("t=s");
        let taken = if shared && kind == Kind::Kitty { fetch(keys, data) } else { Ok(()) };
        let id = keys.split(',').find(|key| key.starts_with("i=")).unwrap_or("i=0").to_owned();
        return match (keys.contains("a=q"), kind, taken) {
            (true, Kind::Kitty, Ok(())) => format!("\x1b_G{id};OK\x1b\\"),
            (false, Kind::Kitty, Ok(())) if keys.contains("a=t") => {
                *seen.pictures.entry(id).or_default() += 1;
                String::new()
            }
            (_, _, Err(wrong)) => {
                seen.wrong.push(wrong);
                String::new()
            }
            _ => String::new(),
        };
    }
    if sequence.starts_with("\x1bP") {
        seen.sixels += 1;
        return String::new();
    }
    match (sequence, kind) {
        ("\x1b[5n", _) => "\x1b[0n".into(),
        ("\x1b[16t", _) => "\x1b[6;16;8t".into(),
        ("\x1b[?1;1;0S", Kind::Sixel) => "\x1b[?1;0;256S".into(),
        ("\x1b[c", Kind::Sixel) => "\x1b[?62;4c".into(),
        ("\x1b[c", Kind::Kitty) => "\x1b[?62c".into(),
        // Much that was not asked, and an end that is answered twice.
        ("\x1b[c", Kind::Odd) => "\x1b_Gi=99;ENOENT:what?\x1b\\\x1b[?2;3;0S\x1b[?62c\x1b[?62c\x1bP>|Odd\x1b\\\x1b[0n".into(),
        _ => String::new(),
    }
}

/// Objects of shared memory that a program left.
fn left_by(process: u32) -> Vec<String> {
    let objects = std::fs::read_dir("/dev/shm").into_iter().flatten().flatten();
    let names = objects.map(|entry| entry.file_name().to_string_lossy().into_owned());
    names.filter(|name| name.contains(&format!("amber-lattice-{process}-"))).collect()
}

#[test]
fn pictures_in_pixels_are_whole_give_way_to_what_is_said_and_leave_nothing_behind() {
    let port = StandIn::four();
    let urls = ["Slipway north", "Lock gate upper", "Car lane 2"].map(|name| port.sub(name));
    let arguments = [&["open".to_owned()], urls.as_slice()].concat();
    let state = tempfile::tempdir().unwrap();

    let mut kitty = Terminal::start(Kind::Kitty, &arguments, state.path());
    let process = kitty.child.id();
    // Two images a tile, by turns.
    kitty.wait("pictures of all three", |_, seen| seen.pictures.len() >= 6 && seen.pictures.values().all(|count| *count >= 5));
    let before = kitty.memory();
    for turn in 0..12u16 {
        // Sizes, overlays, enlarging, selecting, one after the other.
        resize(&kitty.user, 100 + 7 * (turn % 5), 30 + 3 * (turn % 4));
        let _ = rustix::process::kill_process(
            rustix::process::Pid::from_raw(process.cast_signed()).unwrap(),
            rustix::process::Signal::WINCH,
        );
        kitty.press([b"?".as_slice(), b"\x1b", b"\r", b"\r", b"\t", b"/"][usize::from(turn % 6)]);
        std::thread::sleep(Duration::from_millis(250));
        kitty.press(if turn % 6 == 5 { b"\x1b" } else { b"" });
    }
    resize(&kitty.user, 160, 50);
    let come = kitty.seen.lock().unwrap().pictures.values().sum::<usize>();
    kitty.wait("pictures go on", |_, seen| seen.pictures.values().sum::<usize>() > come + 30);
    assert!(kitty.seen.lock().unwrap().wrong.is_empty(), "{:?}", kitty.seen.lock().unwrap().wrong);
    assert!(kitty.memory() < before + 40_000, "{before} kB before, {} kB after", kitty.memory());
    let (status, last) = kitty.leave();
    assert_eq!((status, left_by(process)), (Some(0), Vec::<String>::new()));
    assert!(last.contains("\x1b_Ga=d,d=A"), "all pictures are taken off the screen");

    let mut sixel = Terminal::start(Kind::Sixel, &arguments, state.path());
    sixel.wait("sixel pictures", |screen, seen| seen.sixels > 20 && screen.contains("3 steady"));
    sixel.press(b"Z");
    sixel.wait("another way by a key", |screen, _| screen.contains("pictures by kitty graphics, inline, though"));
    assert_eq!(sixel.leave().0, Some(0));

    // What it says is no key: G would open the ledger, and so on.
    let mut odd = Terminal::start(Kind::Odd, &arguments, state.path());
    odd.wait("cells", |screen, _| screen.contains("3 steady") && screen.contains('▀'));
    odd.press(b"\x1b_Gi=1;OK\x1b\\\x1b[?2026;2$y\x1b[4;800;1280t");
    std::thread::sleep(Duration::from_millis(500));
    let screen = odd.look();
    assert!(screen.contains("enter enlarge") && !screen.contains("Ledger"), "{screen}");
    assert_eq!(odd.seen.lock().unwrap().sixels, 0);
    assert_eq!(odd.leave().0, Some(0));
}
