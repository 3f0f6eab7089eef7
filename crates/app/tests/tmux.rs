//! The real program in a real terminal, driven by keys.
#![allow(clippy::unwrap_used, missing_docs)]

use std::process::{Command, Output};
use std::time::{Duration, Instant};

const PROGRAM: &str = env!("CARGO_BIN_EXE_amber-lattice");

/// A tmux server of its own; ended when dropped.
struct Tmux {
    socket: String,
}

impl Tmux {
    fn start(name: &str, command: &str) -> Self {
        let this = Self { socket: format!("amber-lattice-{name}-{}", std::process::id()) };
        let out = this.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", "160", "-y", "50", "sh"]);
        assert!(out.status.success(), "tmux is needed: {}", String::from_utf8_lossy(&out.stderr));
        this.tmux(&["set", "-g", "window-size", "manual"]);
        this.keys(&["-l", command]);
        this.keys(&["Enter"]);
        this
    }

    fn tmux(&self, args: &[&str]) -> Output {
        Command::new("tmux").args(["-L", &self.socket]).args(args).output().expect("tmux is installed")
    }

    fn keys(&self, keys: &[&str]) {
        self.tmux(&[&["send-keys"], keys].concat());
    }

    fn screen(&self) -> String {
        String::from_utf8_lossy(&self.tmux(&["capture-pane", "-p"]).stdout).into_owned()
    }

    #[track_caller]
    fn wait(&self, what: &str, done: impl Fn(&str) -> bool) -> String {
        let deadline = Instant::now() + Duration::from_secs(60);
        loop {
            let screen = self.screen();
            if done(&screen) {
                return screen;
            }
            assert!(Instant::now() < deadline, "{what}: not within 60 s:\n{screen}");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    #[track_caller]
    fn wait_for(&self, text: &str) -> String {
        self.wait(text, |screen| screen.contains(text))
    }
}

impl Drop for Tmux {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// The plate of a camera.
fn plate<'a>(screen: &'a str, name: &str) -> &'a str {
    let at = screen.find(&format!("{name} ")).unwrap_or(screen.len());
    screen.get(at..).and_then(|rest| rest.lines().next()).unwrap_or("")
}

/// Demos share their addresses and the usual port: one at a time.
fn one_demo_at_a_time() -> std::sync::MutexGuard<'static, ()> {
    static DEMO: std::sync::Mutex<()> = std::sync::Mutex::new(());
    DEMO.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn state_folder() -> tempfile::TempDir {
    tempfile::tempdir().unwrap()
}

#[test]
fn the_demo_is_a_live_wall_that_switches_enlarges_and_repairs_itself() {
    let _alone = one_demo_at_a_time();
    let state = state_folder();
    let tmux = Tmux::start(
        "demo",
        &format!("env XDG_STATE_HOME={} COLORTERM=truecolor {PROGRAM} demo; echo left with $?", state.path().display()),
    );
    let names = ["Slipway north", "Lock gate upper", "Car lane 2", "Fuel quay"];
    tmux.wait("four cameras, steady", |screen| names.iter().all(|name| screen.contains(name)) && screen.contains("• 4 steady"));
    let screen = tmux.wait("a clock basis", |screen| screen.matches("ms c").count() == 4);
    assert!(plate(&screen, "Slipway north").contains("640×360"), "{screen}");
    assert!(
        screen.lines().take(20).any(|line| line.contains('▄') || line.contains('▟') || line.contains('▀')),
        "pictures:\n{screen}"
    );

    tmux.keys(&["m"]);
    tmux.wait("the main stream", |screen| plate(screen, "Slipway north").contains("M  1280×720"));
    tmux.keys(&["m"]);
    tmux.wait("the sub stream again", |screen| plate(screen, "Slipway north").contains("S  640×360"));

    tmux.keys(&["Right"]);
    tmux.keys(&["Enter"]);
    tmux.wait("one tile", |screen| {
        screen.contains("Lock gate upper") && !screen.contains("Fuel quay") && screen.contains("enter return")
    });
    tmux.keys(&["Escape"]);
    tmux.wait_for("Fuel quay");

    tmux.keys(&["f"]);
    tmux.wait_for("Order a fault from Lock gate upper");
    tmux.keys(&["1"]);
    tmux.wait("lost while the others run on", |screen| {
        let told = screen.contains("LOST") && plate(screen, "Lock gate upper").contains("closed by the camera");
        told && screen.contains("× 1 lost") && screen.contains("• 3 steady")
    });
    tmux.wait("back by itself, measured", |screen| screen.contains("• 4 steady") && screen.contains("1 dropout"));

    tmux.tmux(&["resize-window", "-x", "80", "-y", "24"]);
    tmux.wait("all four in a small terminal", |screen| {
        names.iter().all(|name| screen.contains(&format!("• {name}"))) && screen.lines().count() <= 24
    });
    tmux.tmux(&["resize-window", "-x", "50", "-y", "12"]);
    tmux.wait_for("The wall needs 60 × 16");
    tmux.tmux(&["resize-window", "-x", "160", "-y", "50"]);
    tmux.wait_for("• 4 steady");
    tmux.keys(&["?"]);
    tmux.wait_for("hold the last clean picture");
    tmux.keys(&["Escape"]);
    tmux.wait("help gone", |screen| !screen.contains("hold the last clean picture"));

    tmux.keys(&["q"]);
    let after = tmux.wait_for("left with 0");
    assert!(!after.contains("Fuel quay"), "the terminal is as it was:\n{after}");
    let flags = tmux.tmux(&["display-message", "-p", "#{alternate_on} #{mouse_any_flag} #{cursor_flag}"]);
    assert_eq!(String::from_utf8_lossy(&flags.stdout).trim(), "0 0 1");
    for entry in std::fs::read_dir(state.path().join("amber-lattice")).unwrap().flatten() {
        let text = std::fs::read_to_string(entry.path()).unwrap();
        assert!(!text.contains("ebb-and-flow"), "no password in {}", entry.path().display());
    }
}

#[test]
fn bad_sources_are_told_in_their_tiles_and_sigterm_restores_the_terminal() {
    let state = state_folder();
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let command = format!(
        "env XDG_STATE_HOME={} {PROGRAM} open rtsp://harbour:lantern@{free}/a rtsp://127.0.0.1:{}/b; echo left with $?",
        state.path().display(),
        free.port()
    );
    let tmux = Tmux::start("bad", &command);
    let screen = tmux.wait("both lost", |screen| screen.contains("× 2 lost") && screen.contains("refuses connections"));
    assert!(screen.contains("port closed") && screen.contains("next try in"), "{screen}");
    let pid = pid_of(&free.port().to_string());
    let shown = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap();
    let shown = String::from_utf8_lossy(&shown).replace('\0', " ");
    assert!(shown.contains("rtsp://harbour@") && !shown.contains("lantern"), "no password in the process list: {shown}");
    Command::new("kill").args(["-TERM", &pid.to_string()]).status().unwrap();
    let after = tmux.wait_for("left with 0");
    assert!(!after.contains("2 lost"), "{after}");
    let flags = tmux.tmux(&["display-message", "-p", "#{alternate_on} #{mouse_any_flag} #{cursor_flag}"]);
    assert_eq!(String::from_utf8_lossy(&flags.stdout).trim(), "0 0 1");
}

/// The program that was started with this text in its arguments.
fn pid_of(text: &str) -> u32 {
    let processes = std::fs::read_dir("/proc").unwrap().flatten();
    let is_it = |pid: &u32| {
        let cmdline = std::fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&cmdline).into_owned();
        line.starts_with(PROGRAM) && line.contains(text)
    };
    processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).find(is_it).unwrap()
}

#[test]
fn the_whole_way_in_find_tick_three_sign_in_and_see_them_on_the_wall() {
    let _alone = one_demo_at_a_time();
    let state = state_folder();
    let home = state.path().display();
    let command = format!(
        "env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} COLORTERM=truecolor {PROGRAM} demo; echo left with $?"
    );
    let tmux = Tmux::start("way-in", &command);
    tmux.wait("the demo's wall", |screen| screen.contains("• 4 steady"));
    tmux.keys(&["c"]);
    tmux.wait_for("Roster: 4 cameras");
    tmux.keys(&["f"]);
    let found = tmux.wait("the search", |screen| screen.contains("Search: 21 devices") || screen.contains("Search: 2"));
    assert!(found.contains("Ice house") && found.contains("exposed: no password") && found.contains("in the roster"), "{found}");
    assert!(found.contains("8 channels") && found.contains("announces 192.0.2.44"), "{found}");
    tmux.keys(&["Down", "Down", "Down", "Down", "Down", "Space", "Space", "Space"]);
    tmux.wait_for("3 ticked");
    tmux.keys(&["Enter"]);
    tmux.wait_for("Sign in to 3 devices");
    // The account that is known already stands there: its password alone is asked for.
    tmux.keys(&["-l", "ebb-and-flow"]);
    let form = tmux.wait("dots", |screen| screen.contains("••••••••••••"));
    assert!(form.contains("harbour") && !form.contains("ebb-and-flow"), "{form}");
    tmux.keys(&["Enter"]);
    for name in ["Ice house", "Breakwater light", "Mast head"] {
        tmux.wait_for(&format!("is in the roster as {name}"));
    }
    tmux.keys(&["Escape"]);
    tmux.wait_for("Roster: 7 cameras");
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "light"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("Roster: 1 of 7");
    tmux.keys(&["e"]);
    tmux.wait_for("new name of Breakwater light");
    tmux.keys(&["C-u"]);
    tmux.keys(&["-l", "Outer light"]);
    tmux.keys(&["Enter"]);
    tmux.wait("renamed in place, the device's own name kept", |screen| {
        screen.contains("Outer light") && screen.contains("device Breakwater light")
    });
    tmux.keys(&["x"]);
    tmux.wait_for("Roster: 0 of 6");
    tmux.keys(&["u"]);
    tmux.wait_for("Roster: 1 of 7");
    tmux.keys(&["i"]);
    let checked =
        tmux.wait("a ladder to its end", |screen| screen.contains("Reach check of Outer light") && screen.contains("reached"));
    assert!(checked.contains("first-picture") && checked.contains("by Digest"), "{checked}");
    tmux.keys(&["Escape"]);
    tmux.wait_for("Roster:");
    tmux.keys(&["Escape"]);
    tmux.wait("seven on the wall", |screen| {
        screen.contains("Outer light") && screen.contains("Mast head") && screen.contains("Slipway north")
    });

    tmux.keys(&["a"]);
    tmux.wait_for("Add cameras");
    tmux.keys(&["-l", "rtsp:/harbour:wr@ng&127.77.0.20:8554\\main"]);
    let slip = tmux.wait_for("an & stood between");
    assert!(slip.contains("a backslash stood") && slip.contains("a slash was missing") && !slip.contains("wr@ng"), "{slip}");
    tmux.keys(&["C-c"]);
    tmux.wait_for("left with 0");
}

#[test]
fn a_first_start_shows_the_three_ways_in_and_a_pasted_address_is_taken() {
    let state = state_folder();
    let home = state.path().display();
    let tmux = Tmux::start(
        "first",
        &format!("env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} {PROGRAM}; echo left with $?"),
    );
    let welcome = tmux.wait_for("Three ways in");
    assert!(welcome.contains("find the cameras") && welcome.contains("amber-lattice demo"), "{welcome}");
    tmux.tmux(&["set-buffer", "rtsp://127.77.250.1:9/nothing"]);
    tmux.tmux(&["paste-buffer", "-p"]);
    tmux.wait_for("will open the stream rtsp://127.77.250.1:9/nothing");
    tmux.keys(&["Enter"]);
    tmux.wait_for("is in the roster as");
    tmux.keys(&["Escape"]);
    tmux.wait_for("Roster: 1 cameras");
    tmux.keys(&["Escape"]);
    tmux.wait_for("port closed");
    let site = std::fs::read_to_string(state.path().join("amber-lattice/site.toml")).unwrap();
    assert!(site.contains("rtsp://127.77.250.1:9/nothing"), "{site}");
    // Edited elsewhere while it runs: read again, and only what changed is touched.
    std::fs::write(state.path().join("amber-lattice/site.toml"), site.replace("name = \"", "name = \"Edited ")).unwrap();
    tmux.wait_for("Edited");
    tmux.keys(&["q"]);
    tmux.wait_for("left with 0");
}
