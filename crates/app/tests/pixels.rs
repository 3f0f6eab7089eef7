//! The wall in terminals that take pixels, played by the test: it answers what is asked, fetches shared memory as a terminal
//! does, and sees what is left behind.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/memory.rs"]
mod memory;
#[path = "support/port.rs"]
mod port;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use memory::resident;
use port::{PROGRAM, StandIn};
use std::collections::HashMap;
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::path::Path;
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
    /// How large each of them came last, in pixels.
    sizes: HashMap<String, (usize, usize)>,
    sixels: usize,
    /// Width and height of a character.
    cell: (u16, u16),
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

const USUAL_CELL: (u16, u16) = (8, 16);

fn resize(user: &File, columns: u16, rows: u16, cell: (u16, u16)) {
    let size = rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: columns * cell.0, ws_ypixel: rows * cell.1 };
    rustix::termios::tcsetwinsize(user, size).unwrap();
}

fn key(keys: &str, name: &str) -> usize {
    keys.split(',').find_map(|key| key.strip_prefix(name)?.parse().ok()).unwrap_or(0)
}

/// A picture that came through shared memory: fetched and taken away, as a terminal does.
fn fetch(keys: &str, data: &str) -> Result<(), String> {
    let name = String::from_utf8(STANDARD.decode(data).map_err(|error| error.to_string())?).unwrap();
    let object = rustix::shm::open(name.as_str(), rustix::shm::OFlags::RDONLY, rustix::shm::Mode::empty());
    let mut bytes = Vec::new();
    File::from(object.map_err(|error| format!("{name}: {error}"))?).read_to_end(&mut bytes).unwrap();
    // Whoever leaves takes away what was not fetched.
    let _ = rustix::shm::unlink(name.as_str());
    let wanted = key(keys, "s=") * key(keys, "v=") * 3;
    if bytes.len() == wanted { Ok(()) } else { Err(format!("{keys}: {} bytes, not {wanted}", bytes.len())) }
}

impl Terminal {
    fn start(kind: Kind, arguments: &[String], state: &Path) -> Self {
        Self::run(kind, Command::new(PROGRAM).args(arguments), state)
    }

    fn run(kind: Kind, command: &mut Command, state: &Path) -> Self {
        let master = rustix::pty::openpt(rustix::pty::OpenptFlags::RDWR | rustix::pty::OpenptFlags::NOCTTY).unwrap();
        rustix::pty::grantpt(&master).unwrap();
        rustix::pty::unlockpt(&master).unwrap();
        let name = rustix::pty::ptsname(&master, Vec::new()).unwrap();
        let user = File::options().read(true).write(true).open(name.to_str().unwrap()).unwrap();
        resize(&user, 160, 50, USUAL_CELL);
        let own = || Stdio::from(user.try_clone().unwrap());
        let child = command
            .env("TERM", "xterm-256color")
            .env("COLORTERM", "truecolor")
            .env_remove("SSH_CONNECTION")
            .env_remove("SSH_TTY")
            .env_remove("TMUX")
            .env("XDG_STATE_HOME", state)
            .env("DBUS_SESSION_BUS_ADDRESS", "disabled:")
            .stdin(own())
            .stdout(own())
            .stderr(own())
            .spawn()
            .unwrap();
        let keys = File::from(master);
        let (mut reader, mut answers) = (keys.try_clone().unwrap(), keys.try_clone().unwrap());
        let seen = Arc::new(Mutex::new(Seen { cell: USUAL_CELL, ..Seen::default() }));
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
            let Seen { pictures, sizes, sixels, wrong, .. } = &*seen;
            assert!(Instant::now() < deadline, "{what}: {pictures:?} {sizes:?} {sixels} {wrong:?}\n{screen}");
            drop(seen);
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Another size in cells, or another font.
    fn resize(&self, columns: u16, rows: u16, cell: (u16, u16)) {
        let mut seen = self.seen.lock().unwrap();
        seen.cell = cell;
        seen.sizes.clear(); // those of tiles that are not shown any more
        drop(seen);
        resize(&self.user, columns, rows, cell);
        self.signal(rustix::process::Signal::WINCH);
    }

    fn signal(&self, signal: rustix::process::Signal) {
        let process = rustix::process::Pid::from_raw(self.child.id().cast_signed()).unwrap();
        rustix::process::kill_process(process, signal).unwrap();
    }

    fn press(&mut self, keys: &[u8]) {
        self.keys.write_all(keys).unwrap();
    }

    fn memory(&self) -> usize {
        resident(self.child.id())
    }

    /// Sizes, what stands in front, layouts, enlarging, selecting, one after the other.
    fn disturb(&mut self, turn: u16) {
        self.resize(100 + 7 * (turn % 5), 30 + 3 * (turn % 4), USUAL_CELL);
        let keys: [&[u8]; 8] = [b"?", b"\x1b", b"\r", b"\r", b"\t", b"/", b"v", b"V"];
        let (before, after): (&[u8], &[u8]) = match keys[usize::from(turn % 8)] {
            b"/" => (b"/", b"\x1b"),
            b"v" => (b"v", b"\x1b[C"), // to another layout, which is taken
            b"V" => (b"\r", b""),
            key => (key, b""),
        };
        self.press(before);
        std::thread::sleep(Duration::from_millis(250));
        self.press(after);
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
            (false, Kind::Kitty, Ok(())) if keys.contains("a=t") || keys.contains("a=f") => {
                *seen.pictures.entry(id.clone()).or_default() += 1;
                seen.sizes.insert(id, (key(keys, "s="), key(keys, "v=")));
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
        ("\x1b[16t", _) => format!("\x1b[6;{};{}t", seen.cell.1, seen.cell.0),
        ("\x1b[?1;1;0S", Kind::Sixel) => "\x1b[?1;0;256S".into(),
        ("\x1b[>q", Kind::Kitty) => "\x1bP>|kitty(0.41.1)\x1b\\".into(),
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
    (0..12).for_each(|turn| kitty.disturb(turn));
    kitty.resize(160, 50, USUAL_CELL);
    let come = kitty.seen.lock().unwrap().pictures.values().sum::<usize>();
    kitty.wait("pictures go on", |_, seen| seen.pictures.values().sum::<usize>() > come + 30);
    assert!(kitty.seen.lock().unwrap().wrong.is_empty(), "{:?}", kitty.seen.lock().unwrap().wrong);
    assert!(kitty.memory() < before + 40_000, "{before} kB before, {} kB after", kitty.memory());
    // Stopped by Ctrl-Z it leaves nothing on the screen or in memory; going on, it has its pictures again.
    kitty.seen.lock().unwrap().bytes.clear();
    kitty.press(b"\x1a");
    let run_state =
        || std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap().rsplit(')').next().unwrap().trim()[..1].to_owned();
    let deadline = Instant::now() + Duration::from_secs(30);
    while run_state() != "T" {
        assert!(Instant::now() < deadline, "it is not stopped but {}", run_state());
        std::thread::sleep(Duration::from_millis(20));
    }
    std::thread::sleep(Duration::from_millis(200)); // what it wrote is read
    let last = String::from_utf8_lossy(&kitty.seen.lock().unwrap().bytes).into_owned();
    assert!(last.contains("\x1b_Ga=d,d=A") && last.contains("\x1b[?1049l"), "{last:?}");
    assert_eq!(left_by(process), Vec::<String>::new());
    kitty.signal(rustix::process::Signal::CONT);
    let come = kitty.seen.lock().unwrap().pictures.values().sum::<usize>();
    kitty.wait("pictures after it went on", |_, seen| seen.pictures.values().sum::<usize>() > come + 30);
    // Characters a quarter as large, at the same number of them: no picture is wider than all of them, in any layout.
    let widest = |seen: &Seen| seen.sizes.values().map(|(width, _)| *width).max().unwrap_or(0);
    kitty.wait("as large as its tile", |_, seen| widest(seen) > 320);
    kitty.resize(160, 50, (2, 4));
    kitty.wait("a smaller font", |_, seen| (1..=320).contains(&widest(seen)));
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

/// A tmux server of a test's own.
struct Tmux {
    socket: std::path::PathBuf,
}

impl Tmux {
    fn command(&self) -> Command {
        let mut command = Command::new("tmux");
        command.arg("-S").arg(&self.socket).env_remove("TMUX");
        command
    }

    fn does(&self, arguments: &[&str]) -> String {
        let done = self.command().args(arguments).output().unwrap();
        assert!(done.status.success(), "{arguments:?}: {done:?}");
        String::from_utf8(done.stdout).unwrap().trim().to_owned()
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        let _ = self.command().arg("kill-server").output();
    }
}

#[test]
fn through_tmux_pictures_stand_in_the_text_come_back_with_their_window_and_are_taken_out_again() {
    let port = StandIn::four();
    let urls = ["Slipway north", "Lock gate upper", "Car lane 2"].map(|name| port.sub(name));
    let state = tempfile::tempdir().unwrap();
    let tmux = Tmux { socket: state.path().join("tmux") };
    let version = tmux.does(&["-V"]);
    let numbers: Vec<u32> = version.split(|sign: char| !sign.is_ascii_digit()).filter_map(|part| part.parse().ok()).collect();
    if !numbers.is_empty() && numbers < vec![3, 3] {
        println!("{version} lets nothing through: not tried");
        return;
    }
    let settings = state.path().join("tmux.conf");
    std::fs::write(&settings, "set -g allow-passthrough on\nset -g escape-time 10\n").unwrap();
    let mut command = tmux.command();
    command.arg("-f").arg(&settings).args(["new-session", PROGRAM, "open"]).args(&urls);
    let mut terminal = Terminal::run(Kind::Kitty, &mut command, state.path());
    let whole = |seen: &Seen| seen.pictures.len() >= 3 && seen.pictures.values().sum::<usize>() > 30;
    terminal.wait("pictures of all three", |screen, seen| whole(seen) && screen.contains("3 steady"));
    let process = tmux.does(&["display-message", "-p", "#{pane_pid}"]).parse().unwrap();
    assert!(terminal.look().contains('\u{10eeee}'), "they stand in the text");
    // What is said stands in front of them, and gives them back.
    terminal.press(b"?");
    terminal.wait("the help", |screen, _| screen.contains("select the tile to the left"));
    terminal.press(b"q");
    terminal.wait("the wall again", |screen, _| !screen.contains("select the tile to the left"));
    // Another window: nothing of the wall stands there, and what it gives into memory meanwhile is bounded.
    tmux.does(&["new-window", "cat"]);
    terminal.wait("another window", |screen, _| !screen.contains('\u{10eeee}') && !screen.contains("steady"));
    std::thread::sleep(Duration::from_secs(2));
    assert!(left_by(process).len() < 20, "{:?}", left_by(process));
    tmux.does(&["kill-window"]);
    let come = terminal.seen.lock().unwrap().pictures.values().sum::<usize>();
    terminal.wait("pictures again", |screen, seen| {
        // However busy the machine is, and what is said of that.
        seen.pictures.values().sum::<usize>() > come + 30 && screen.contains('\u{10eeee}') && screen.contains("127.77.0.11")
    });
    assert!(terminal.seen.lock().unwrap().wrong.is_empty(), "{:?}", terminal.seen.lock().unwrap().wrong);
    let pictures: Vec<String> = terminal.seen.lock().unwrap().pictures.keys().cloned().collect();
    terminal.seen.lock().unwrap().bytes.clear();
    let (status, last) = terminal.leave();
    assert_eq!((status, left_by(process)), (Some(0), Vec::<String>::new()));
    assert!(pictures.iter().all(|picture| last.contains(&format!("a=d,d=I,{picture},"))), "{pictures:?} {last:?}");
}

/// For `scripts/soak-pixels`: as many minutes as `SOAK_MINUTES` says.
#[test]
#[ignore = "takes minutes: scripts/soak-pixels"]
fn memory_stays_over_many_sizes_layouts_and_overlays() {
    let minutes: u64 = std::env::var("SOAK_MINUTES").map_or(5, |minutes| minutes.parse().unwrap());
    let port = StandIn::fleet(9);
    let urls = port.devices.iter().map(|device| device["sub"].as_str().unwrap().to_owned());
    let arguments: Vec<String> = std::iter::once("open".to_owned()).chain(urls).collect();
    let state = tempfile::tempdir().unwrap();
    let mut kitty = Terminal::start(Kind::Kitty, &arguments, state.path());
    kitty.wait("pictures of all", |screen, seen| seen.pictures.len() >= 18 && screen.contains("9 steady"));
    let (began, mut turns, mut by_minute) = (Instant::now(), 0u16, Vec::new());
    while by_minute.len() as u64 <= minutes {
        kitty.disturb(turns);
        turns = turns.wrapping_add(1);
        kitty.look();
        if began.elapsed().as_secs() / 60 >= by_minute.len() as u64 {
            let pictures = kitty.seen.lock().unwrap().pictures.values().sum::<usize>();
            by_minute.push(kitty.memory());
            println!(
                "after {} min: {:.1} MB resident, {} objects of shared memory, {pictures} pictures, {turns} changes",
                by_minute.len() - 1,
                *by_minute.last().unwrap() as f64 / 1024.0,
                left_by(kitty.child.id()).len()
            );
        }
    }
    assert!(kitty.seen.lock().unwrap().wrong.is_empty(), "{:?}", kitty.seen.lock().unwrap().wrong);
    let settled = by_minute[by_minute.len() / 5];
    assert!(*by_minute.last().unwrap() < settled + 20_000, "{by_minute:?}");
    let process = kitty.child.id();
    // Whatever stands in front goes first.
    for _ in 0..4 {
        kitty.press(b"\x1b");
        std::thread::sleep(Duration::from_millis(300));
    }
    assert_eq!((kitty.leave().0, left_by(process)), (Some(0), Vec::new()));
}
