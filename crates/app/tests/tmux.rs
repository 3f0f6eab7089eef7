//! The real program in a real terminal, driven by keys.
#![allow(clippy::unwrap_used, missing_docs)]
#![allow(clippy::too_many_lines, reason = "a shift is told from begin to end")]

#[path = "support/port.rs"]
mod port;
#[path = "support/tmux.rs"]
mod terminal;

use port::{PROGRAM, StandIn};
use std::process::Command;
use std::time::Duration;
use terminal::Tmux;

/// The plate of a camera.
fn plate<'a>(screen: &'a str, name: &str) -> &'a str {
    let at = screen.find(&format!("{name} ")).unwrap_or(screen.len());
    screen.get(at..).and_then(|rest| rest.lines().next()).unwrap_or("")
}

fn the_help_scrolls(tmux: &Tmux) {
    tmux.keys(&["?"]);
    tmux.wait_for("select the tile to the left");
    let begun = std::time::Instant::now();
    while !tmux.screen().contains("hold the last clean picture") {
        assert!(begun.elapsed() < Duration::from_secs(120), "a page down, as many as it takes:\n{}", tmux.screen());
        tmux.keys(&["PageDown"]);
        std::thread::sleep(Duration::from_millis(100));
    }
    tmux.keys(&["Escape"]);
    tmux.wait("help gone", |screen| !screen.contains("hold the last clean picture"));
}

/// One picture at full size, and all of the wall, where it is said.
fn stills_are_kept(tmux: &Tmux, folder: &std::path::Path) {
    let kept = |count: usize| {
        let names = || std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()).collect::<Vec<_>>();
        tmux.wait("kept", |screen| screen.contains("kept: ") && names().len() == count);
        let mut names = names();
        names.sort();
        names.pop().unwrap()
    };
    tmux.keys(&["K"]);
    let still = kept(1);
    let size = |path: &std::path::Path| {
        let bytes = std::fs::read(path).unwrap();
        let side = |at: usize| u32::from_be_bytes(bytes[at..at + 4].try_into().unwrap());
        assert_eq!(&bytes[1..4], b"PNG");
        (side(16), side(20))
    };
    // The whole stream, and a strip of text under it.
    let (width, height) = size(&still);
    assert!(
        width == 640 && height > 400 && still.to_string_lossy().contains("Slipway-north-sub"),
        "{width}×{height} {}",
        still.display()
    );
    tmux.keys(&["C"]);
    let (width, height) = size(&kept(2));
    assert!(width > 960 && height > 540, "{width}×{height}");
}

/// The camera that looks at this screen.
fn flashes_measure_from_glass_to_glass(tmux: &Tmux) {
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "control desk"]);
    tmux.keys(&["Enter"]);
    tmux.wait("a picture of the desk", |screen| plate(screen, "Control desk").contains("1280×720"));
    tmux.keys(&["P"]);
    tmux.wait_for("Point the camera at this screen");
    tmux.keys(&["Enter"]);
    let measured = tmux.wait("measured by flashes", |screen| screen.contains("glass to glass"));
    let stamped = measured.split_once("are stamped ").and_then(|(_, rest)| rest.split_once(' ')?.0.parse::<f64>().ok());
    assert!(stamped.is_some_and(|millis| (60.0..=110.0).contains(&millis)), "80 ms:\n{measured}");
    tmux.keys(&["Escape"]);
    tmux.wait("on its plate", |screen| plate(screen, "Control desk").contains("ms f"));
}

/// Main, sub, and as the plan says.
fn streams_are_held_and_planned(tmux: &Tmux) {
    tmux.keys(&["m"]);
    tmux.wait("held on the main stream", |screen| plate(screen, "Slipway north").contains("[M]"));
    tmux.keys(&["m"]);
    tmux.wait("held on the sub stream", |screen| plate(screen, "Slipway north").contains("[S]"));
    tmux.keys(&["m"]);
    tmux.wait("automatic again", |screen| plays(screen, "Slipway north", "S", "640×360"));
    tmux.keys(&["o"]);
    tmux.wait("the plan", |plan| {
        let whole = ["which stream each tile shows", "of main's pixels", "MP/s", "23 streams of cameras"];
        whole.iter().all(|part| plan.contains(part))
    });
    tmux.keys(&["Escape"]);
}

/// On the page of a stream, and back to the wall.
fn main_and_sub_stand_beside_each_other(tmux: &Tmux) {
    tmux.keys(&["J"]);
    tmux.wait("its stream alone", |screen| screen.contains("declared   ") && screen.contains("rate /s, sent to drawn"));
    tmux.keys(&["b"]);
    tmux.wait("main and sub beside each other, both drawn", |screen| {
        let row = |name: &str| screen.lines().find_map(|line| line.split_once(name)).map(|(_, rest)| rest.to_owned());
        let both = |name: &str, unit: &str| row(name).is_some_and(|row| row.matches(unit).count() == 2);
        both("picture    ", "×") && both("drawn      ", "/s") && both("latency    ", "ms c")
    });
    tmux.keys(&["b"]);
    tmux.keys(&["Escape"]);
}

fn state_folder() -> tempfile::TempDir {
    tempfile::tempdir().unwrap()
}

/// Whether a camera's plate has this letter of a stream, and this size of its picture: its sound may stand between.
fn plays(screen: &str, camera: &str, letter: &str, size: &str) -> bool {
    plate(screen, camera).split_once(&format!(" {letter} ")).is_some_and(|(_, rest)| rest.contains(size))
}

#[test]
fn the_demo_is_a_live_wall_that_switches_enlarges_and_repairs_itself() {
    let _alone = port::alone();
    let state = state_folder();
    let tmux = Tmux::start(
        "demo",
        &format!(
            "env XDG_STATE_HOME={0} COLORTERM=truecolor {PROGRAM} demo --calm --stills-in {0}/stills; echo left with $?",
            state.path().display()
        ),
    );
    let names = ["Slipway north", "Lock gate upper", "Car lane 2", "Fuel quay"];
    tmux.wait("the six and the rest, steady", |screen| screen.contains("harbour six") && screen.contains("• 27 steady"));
    tmux.keys(&["2"]);
    tmux.wait("four cameras", |screen| names.iter().all(|name| screen.contains(name)) && !screen.contains("Ramp east"));
    let screen = tmux.wait("a clock basis", |screen| {
        screen.matches("ms c").count() == 4 && plate(screen, "Slipway north").contains("640×360")
    });
    assert!(
        screen.lines().take(20).any(|line| line.contains('▄') || line.contains('▟') || line.contains('▀')),
        "pictures:\n{screen}"
    );

    stills_are_kept(&tmux, &state.path().join("stills"));
    streams_are_held_and_planned(&tmux);

    tmux.keys(&["Right", "Enter"]);
    tmux.wait("enlarged, the others as a film strip, its main stream", |screen| {
        let strip = screen.lines().rev().nth(1).is_some_and(|line| line.contains("Fuel quay") && line.contains("Slipway north"));
        strip && screen.contains("enter return") && plays(screen, "Lock gate upper", "M", "1280×720")
    });
    tmux.keys(&["Tab"]);
    tmux.wait("the next one, without going back", |screen| plays(screen, "Car lane 2", "M", "1920×1080"));
    tmux.keys(&["BTab", "Escape"]);
    tmux.wait("back on the sub stream", |screen| plays(screen, "Lock gate upper", "S", "640×360"));

    tmux.keys(&["B"]);
    tmux.wait("main and sub on common axes", |screen| {
        plate(screen, "a Lock gate upper main").contains("1280×720") && screen.contains("bitrate kbit/s  a")
    });
    tmux.keys(&["A"]);
    tmux.wait("aligned to less than a frame", |screen| {
        let number = |before: &str| -> Option<f64> { screen.split_once(before)?.1.split(' ').next()?.parse().ok() };
        number("apart by ").zip(number("a frame is ")).is_some_and(|(apart, frame)| apart < frame)
    });
    tmux.keys(&["Escape"]);
    main_and_sub_stand_beside_each_other(&tmux);
    tmux.wait("the wall again", |screen| names.iter().all(|name| screen.contains(&format!("• {name}"))));

    tmux.keys(&["f"]);
    tmux.wait_for("Order a fault from Lock gate upper");
    tmux.keys(&["1"]);
    tmux.wait("lost while the others run on", |screen| {
        let told = screen.contains("LOST") && plate(screen, "Lock gate upper").contains("closed by the camera");
        let alone = names.iter().filter(|name| screen.contains(&format!("× {name}"))).count() == 1;
        told && alone && screen.contains("× 1 lost")
    });
    // A starved machine has more of them.
    tmux.wait("back by itself, measured", |screen| {
        let plate = plate(screen, "Lock gate upper");
        screen.contains("• 27 steady") && plate.contains("dropout") && !plate.contains("no dropouts")
    });
    tmux.keys(&["G"]);
    let entry = |screen: &str| {
        screen.lines().find(|line| line.contains("× outage") && line.contains("Lock gate upper")).map(str::to_owned)
    };
    tmux.wait("the outage in the ledger", |screen| entry(screen).is_some_and(|line| line.contains("closed by the camera")));
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "upper outage"]);
    tmux.keys(&["Enter"]);
    tmux.wait("only that one", |screen| screen.contains("with upper outage") && entry(screen).is_some());
    tmux.keys(&["a"]);
    // By the account of the system, whatever the environment says.
    let account = String::from_utf8(std::process::Command::new("id").arg("-un").output().unwrap().stdout).unwrap();
    tmux.wait("acknowledged", |screen| entry(screen).is_some_and(|line| line.contains(&format!("{} ", account.trim()))));
    tmux.keys(&["Escape"]);
    tmux.wait("the wall once more", |screen| names.iter().all(|name| screen.contains(&format!("• {name}"))));

    tmux.tmux(&["resize-window", "-x", "80", "-y", "24"]);
    tmux.wait("all four in a small terminal", |screen| {
        // There the four figures stand before the end of a name.
        names.iter().all(|name| screen.contains(&format!("• {}", &name[..4]))) && screen.lines().count() <= 24
    });
    tmux.tmux(&["resize-window", "-x", "50", "-y", "12"]);
    tmux.wait_for("The wall needs 60 × 16");
    // Ten times a second.
    for n in 0..20 {
        let (width, height) = (70 + 9 * (n % 7), 20 + 5 * (n % 5));
        tmux.tmux(&["resize-window", "-x", &width.to_string(), "-y", &height.to_string()]);
        std::thread::sleep(Duration::from_millis(100));
    }
    tmux.tmux(&["resize-window", "-x", "160", "-y", "50"]);
    tmux.wait_for("• 27 steady");
    the_help_scrolls(&tmux);
    flashes_measure_from_glass_to_glass(&tmux);
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
    tmux.wait("both lost", |screen| {
        ["× 2 lost", "refuses connections", "port closed", "next try in"].iter().all(|said| screen.contains(said))
    });
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
    let _alone = port::alone();
    let state = state_folder();
    let home = state.path().display();
    let command = format!(
        "env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} COLORTERM=truecolor {PROGRAM} demo --calm; echo left with $?"
    );
    let tmux = Tmux::start("way-in", &command);
    tmux.wait("the demo's wall", |screen| screen.contains("• 27 steady"));
    tmux.keys(&["c"]);
    tmux.wait_for("Roster: 27 cameras");
    tmux.keys(&["f"]);
    let each =
        ["Search: 2", " devices in ", "Ice house", "exposed: no password", "in the roster", "8 channels", "announces 192.0.2.44"];
    tmux.wait("the search", |screen| each.iter().all(|said| screen.contains(said)));
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
    tmux.wait_for("Roster: 30 cameras");
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "light"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("Roster: 1 of 30");
    tmux.keys(&["e"]);
    tmux.wait_for("new name of Breakwater light");
    tmux.keys(&["C-u"]);
    tmux.keys(&["-l", "Outer light"]);
    tmux.keys(&["Enter"]);
    tmux.wait("renamed in place, the device's own name kept", |screen| {
        screen.contains("Outer light") && screen.contains("device Breakwater light")
    });
    tmux.keys(&["x"]);
    tmux.wait_for("Roster: 0 of 29");
    tmux.keys(&["u"]);
    tmux.wait_for("Roster: 1 of 30");
    tmux.keys(&["i"]);
    let steps = ["Reach check of Outer light", "reached", "first-picture", "by Digest"];
    tmux.wait("a ladder to its end", |screen| steps.iter().all(|said| screen.contains(said)));
    tmux.keys(&["Escape"]);
    tmux.wait_for("Roster:");
    tmux.keys(&["Escape"]);
    tmux.wait_for("harbour six");
    tmux.keys(&["0"]);
    tmux.wait("all of them on the wall", |screen| {
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
    let _alone = port::alone();
    let state = state_folder();
    let home = state.path().display();
    let tmux = Tmux::start(
        "first",
        &format!("env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} {PROGRAM}; echo left with $?"),
    );
    let welcome = tmux.wait_for("Three ways in");
    assert!(welcome.contains("find the cameras") && welcome.contains("the demo: a made-up port"), "{welcome}");
    tmux.tmux(&["set-buffer", "rtsp://127.77.250.1:9/nothing"]);
    tmux.tmux(&["paste-buffer", "-p"]);
    tmux.wait_for("will open the stream rtsp://127.77.250.1:9/nothing");
    // Nothing answers there: that is said first, and it is added all the same by the same key.
    tmux.keys(&["Enter"]);
    tmux.wait_for("enter again adds it all the same");
    tmux.keys(&["Enter"]);
    tmux.wait_for("is in the roster as");
    tmux.keys(&["Escape"]);
    tmux.wait_for("Roster: 1 camera");
    tmux.keys(&["Escape"]);
    tmux.wait_for("port closed");
    let site = std::fs::read_to_string(state.path().join("amber-lattice/site.toml")).unwrap();
    assert!(site.contains("rtsp://127.77.250.1:9/nothing"), "{site}");
    // Edited elsewhere while it runs: read again, and only what changed is touched.
    std::fs::write(state.path().join("amber-lattice/site.toml"), site.replace("name = \"", "name = \"Edited ")).unwrap();
    tmux.wait_for("Edited");
    tmux.keys(&["q"]);
    tmux.wait_for("left with 0");
    // The demo is one key away, in the same terminal.
    std::fs::remove_file(state.path().join("amber-lattice/site.toml")).unwrap();
    tmux.keys(&[
        "-l",
        &format!("clear; env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} {PROGRAM}; echo over $?"),
    ]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("Three ways in");
    tmux.keys(&["d"]);
    tmux.wait_for("Tarnhithe ferry port");
    tmux.wait_for("27 steady");
    tmux.keys(&["q"]);
    tmux.wait_for("over 0");
}

/// The value of the selected setting of an encoder.
fn setting(screen: &str, name: &str) -> String {
    let value = screen.lines().find_map(|line| line.trim().strip_prefix("▌")?.trim().strip_prefix(name)).unwrap_or("");
    value.trim().split("  ").next().unwrap_or("").to_owned()
}

#[test]
fn a_device_is_set_from_the_screen_a_still_goes_live_and_a_port_is_listened_on() {
    let _alone = port::alone();
    let state = state_folder();
    let home = state.path().display();
    let command =
        format!("env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} {PROGRAM} demo --calm; echo left with $?");
    let tmux = Tmux::start("device", &command);
    tmux.wait("the demo's wall", |screen| screen.contains("• 27 steady"));
    tmux.keys(&["c"]);
    // The survey has asked the devices: their clocks stand in the roster.
    tmux.wait("what the devices say", |screen| screen.contains(" ms"));
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "gate"]);
    tmux.keys(&["Enter"]);
    tmux.wait("what is known of it", |screen| screen.contains("Roster: 1 of 27") && screen.contains("Corvane CV-20"));
    tmux.keys(&["d"]);
    tmux.wait_for("Device of Lock gate upper");
    tmux.wait("declared beside measured, also of the stream that is not open", |screen| {
        screen.matches("1280×720").count() >= 2 && screen.matches("kbit/s").count() >= 4 && !screen.contains("being measured")
    });
    // The bitrate one step down: previewed, set, and set back.
    tmux.keys(&["Right", "Right"]);
    tmux.keys(&["-"]);
    let preview = tmux.wait_for("of the link, as declared; enter applies it");
    let (from, to) = setting(&preview, "bitrate").split_once(" → ").map(|(from, to)| (from.to_owned(), to.to_owned())).unwrap();
    assert!(from.ends_with("kbit/s") && to.ends_with("kbit/s") && from != to, "{preview}");
    tmux.keys(&["Enter"]);
    tmux.wait("the device has it", |screen| screen.contains("its encoder is set") && setting(screen, "bitrate") == to);
    tmux.keys(&["b"]);
    tmux.wait("set back", |screen| setting(screen, "bitrate") == from);
    // Roles change places, and back.
    tmux.keys(&["Down"]);
    tmux.keys(&["1"]);
    tmux.wait_for("this is its main stream now");
    tmux.keys(&["2"]);
    tmux.wait_for("this is its sub stream now");
    tmux.keys(&["y"]);
    tmux.wait_for("it keeps the address that it has from now on");
    tmux.wait_for("127.77.0.12/24 fixed");

    // The first password: judged, repeated, set; the streams go on with it.
    tmux.keys(&["p"]);
    tmux.wait_for("The first password of Lock gate upper");
    for (text, seen) in [("keeper", "keeper"), ("abc", "too weak"), ("abc", "too weak")] {
        tmux.keys(&["-l", text]);
        tmux.wait_for(seen);
        tmux.keys(&["Enter"]);
    }
    tmux.wait("a weak one is not set", |screen| screen.matches("too weak").count() >= 2);
    tmux.keys(&["C-u"]);
    tmux.keys(&["-l", "flotsam-Weir-77"]);
    tmux.keys(&["Tab", "Tab", "C-u"]);
    tmux.keys(&["-l", "flotsam-Weir-77"]);
    let form = tmux.wait_for("strong");
    assert!(!form.contains("flotsam"), "{form}");
    // From the password the form goes to its repetition, and from there it is done.
    tmux.keys(&["Enter"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("the password was set on Lock gate upper");
    tmux.keys(&["Escape"]);
    tmux.wait("it signs in now", |screen| screen.contains("signs in as keeper"));

    // A still of a camera that has streams goes live by the key that switches streams.
    tmux.keys(&["a"]);
    tmux.keys(&["-l", "http://127.77.0.16:8000/still.jpg"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("is in the roster as");
    tmux.keys(&["Escape"]);
    tmux.keys(&["/", "C-u"]);
    tmux.keys(&["Enter"]);
    tmux.keys(&["PageDown", "PageDown", "PageDown"]);
    tmux.keys(&["Enter"]);
    tmux.wait("a still says so", |screen| screen.contains("old, every 5 s"));
    tmux.keys(&["m"]);
    tmux.wait("live", |screen| screen.contains("its still is kept as its third stream") && !screen.contains("old, every 5 s"));

    // A port, kept and waiting.
    tmux.keys(&["c"]);
    tmux.wait_for("Roster: 28 cameras");
    tmux.keys(&["l"]);
    tmux.wait_for("No port is listened on");
    tmux.keys(&["a"]);
    tmux.keys(&["-l", "47311"]);
    tmux.wait_for("listen on port 47311");
    tmux.keys(&["Enter"]);
    tmux.wait_for("is in the roster as Port 47311");
    tmux.keys(&["Escape"]);
    tmux.keys(&["l"]);
    tmux.wait("it waits", |screen| screen.contains("udp://:47311") && screen.contains("… waiting"));
    tmux.keys(&["C-c"]);
    tmux.wait_for("left with 0");
}

/// A site file of these stand-ins, without any lattice.
fn site_of(standin: &StandIn) -> String {
    let camera = |device: &serde_json::Value| {
        let text = |key: &str| device[key].as_str().unwrap().to_owned();
        let stream = |role: &str| format!("[[camera.stream]]\nrole = \"{role}\"\nurl = \"{}\"\n", text(role));
        format!("[[camera]]\nname = \"{}\"\ngroup = \"Load\"\n{}{}", text("name"), stream("main"), stream("sub"))
    };
    standin.devices.iter().map(camera).collect()
}

/// Names of cameras in the order of their plates: by rows, then by columns.
fn plates(screen: &str, names: &[&str]) -> Vec<String> {
    let mut found: Vec<(usize, usize, &str)> = Vec::new();
    for (row, line) in screen.lines().enumerate() {
        for name in names {
            found.extend(line.find(&format!("• {name} ")).map(|column| (row, column, *name)));
        }
    }
    found.sort_unstable();
    found.into_iter().map(|(.., name)| name.to_owned()).collect()
}

#[test]
fn a_wall_is_laid_out_filled_swapped_saved_and_the_same_after_a_restart() {
    let standin = StandIn::fleet(8);
    let state = state_folder();
    let home = state.path().display();
    let site = state.path().join("site.toml");
    std::fs::write(&site, site_of(&standin)).unwrap();
    let command = format!(
        "env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} COLORTERM=truecolor {PROGRAM} wall --site {}; echo left with $?",
        site.display()
    );
    let tmux = Tmux::start("wall", &command);
    tmux.wait_for("• 8 steady");
    // Of all cameras a lattice is made: the layout first, by its drawing.
    tmux.keys(&["v"]);
    tmux.wait("layouts with what they make of this screen", |screen| {
        screen.contains("of the screen unused") && screen.contains("1+5")
    });
    // From the first with six places to the right, one after the other, until it is the one with a large tile.
    tmux.keys(&["6"]);
    tmux.wait_for(": 6 places");
    let selected = |screen: &str| screen.lines().find(|line| line.trim_start().starts_with("Layout  ")).map(str::to_owned);
    for _ in 0..30 {
        let now = selected(&tmux.screen());
        if now.as_ref().is_some_and(|line| line.contains("Layout  1+5: 6 places")) {
            break;
        }
        tmux.keys(&["Right"]);
        tmux.wait("the next layout", |screen| selected(screen) != now);
    }
    assert!(tmux.screen().contains("Layout  1+5: 6 places"));
    tmux.keys(&["Enter"]);
    let names = ["Ramp east", "Lock house", "Car lane 4", "Fuel jetty", "Breakwater", "Slip yard", "Lorry park", "Check-in"];
    let screen = tmux.wait("six of eight, on two pages", |screen| {
        screen.contains("lattice 1/2, not saved") && plates(screen, &names).len() == 6
    });
    assert_eq!(
        plates(&screen, &names)[..3],
        ["Lock house", "Ramp east", "Car lane 4"],
        "around the large one, which is Ramp east: {screen}"
    );
    // Emptied, filled by typing, filled with the group.
    tmux.keys(&["BSpace"]);
    tmux.wait_for("p puts a camera here");
    tmux.keys(&["p"]);
    tmux.keys(&["-l", "chkn"]);
    tmux.wait("found by a few letters", |screen| screen.contains("▸ Check-in"));
    tmux.keys(&["Enter"]);
    tmux.wait("put in", |screen| plate(screen, "Check-in").contains("ms c"));
    tmux.keys(&["]"]);
    tmux.wait("the second page", |screen| screen.contains("lattice 2/2") && screen.contains("• Lorry park"));
    tmux.keys(&["g"]);
    tmux.wait_for("8 cameras, 1 not in this lattice yet");
    tmux.keys(&["Enter"]);
    tmux.wait("the one that was missing", |screen| screen.contains("• Ramp east") && screen.contains("1 camera put in"));
    tmux.keys(&["["]);
    tmux.wait_for("lattice 1/2");
    // Swapped by keys, and by the mouse back and forth.
    tmux.keys(&["x"]);
    tmux.wait_for("lifted");
    tmux.keys(&["Right", "x"]);
    let screen = tmux.wait("swapped", |screen| plates(screen, &names).first().is_some_and(|name| name == "Check-in"));
    tmux.keys(&["u"]);
    tmux.wait("undone", |screen| plates(screen, &names).first().is_some_and(|name| name == "Lock house"));
    tmux.keys(&["U"]);
    tmux.wait("done again", |again| plates(again, &names) == plates(&screen, &names));
    tmux.keys(&["E", "C-u"]);
    tmux.keys(&["-l", "morning six"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("morning six 1/2, not saved");
    tmux.keys(&["q"]);
    tmux.wait_for("not saved: w saves them, q again leaves without");
    tmux.keys(&["w"]);
    tmux.wait("saved", |screen| screen.contains("lattices saved in") && !screen.contains("not saved"));
    // Everything by a few letters.
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "plan each"]);
    tmux.wait_for("▸ the plan: each tile's stream");
    tmux.keys(&["Enter"]);
    tmux.wait_for("which stream each tile shows");
    tmux.keys(&["Escape"]);
    // By its number.
    tmux.keys(&["."]);
    tmux.keys(&["4"]);
    tmux.keys(&["Enter"]);
    tmux.keys(&["q"]);
    tmux.wait_for("left with 0");
    tmux.keys(&["-l", &format!("clear; {command}")]);
    tmux.keys(&["Enter"]);
    let again = tmux.wait("the same wall", |screen| screen.contains("morning six 1/2") && plates(screen, &names).len() == 6);
    assert_eq!(plates(&again, &names), plates(&screen, &names));
    tmux.keys(&["q"]);
    tmux.wait("left", |screen| screen.contains("left with 0"));
}

#[test]
fn a_corner_watch_a_name_and_a_launcher_start_what_they_say() {
    let standin = StandIn::fleet(4);
    let state = state_folder();
    let home = state.path().display();
    let site = state.path().join("site.toml");
    let tour = "[[lattice]]\nname = \"pair\"\nlayout = \"even 1\"\ntiles = [{ camera = \"Ramp east\" }, { camera = \"Fuel jetty\" }]\n\
                [[tour]]\nname = \"round\"\nstops = [{ lattice = \"pair\", seconds = 3 }]\n[[screen]]\nname = \"left desk\"\nshows = \"round\"\n";
    std::fs::write(&site, site_of(&standin) + tour).unwrap();
    let of_site =
        format!("env XDG_STATE_HOME={home} XDG_CONFIG_HOME={home} XDG_DATA_HOME={home} {PROGRAM} --site {}", site.display());
    let tmux = Tmux::start("corner", &format!("{of_site} corner 'Ramp east' Sluice"));
    tmux.wait_for("no camera \"Sluice\" in the site");
    tmux.keys(&["-l", &format!("clear; {of_site} corner 'Ramp east' 'Lock house'; echo left with $?")]);
    tmux.tmux(&["resize-window", "-x", "24", "-y", "8"]);
    tmux.keys(&["Enter"]);
    tmux.wait("two pictures with their plates in 24 x 8 cells", |screen| {
        let plates = screen.lines().filter(|line| line.contains("• Ramp") || line.contains("• Lock")).count();
        (1..=2).contains(&plates) && screen.contains("• Ramp") && screen.contains("• Lock") && !screen.contains("Amber Lattice")
    });
    tmux.keys(&["q"]);
    tmux.wait("left", |screen| screen.contains("left with 0"));
    tmux.tmux(&["resize-window", "-x", "160", "-y", "50"]);
    // A tour on a screen: it turns by itself, waits while somebody works, and goes on by a key.
    tmux.keys(&["-l", &format!("clear; {of_site} wall --screen 'left desk'; echo left again")]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("tour round 1/2");
    tmux.wait("it turned", |screen| screen.contains("tour round 2/2") && screen.contains("Fuel jetty"));
    tmux.keys(&["Right"]);
    let held = tmux.wait_for("held");
    std::thread::sleep(Duration::from_secs(4));
    assert_eq!(tmux.screen().contains("1/2, held"), held.contains("1/2, held"), "the page stays");
    tmux.keys(&["t", "t"]);
    tmux.wait("on", |screen| screen.contains("next in"));
    // Another wall of the site sees what the screen shows, and sends it something else.
    let control = Tmux::start("control", &format!("{of_site} wall"));
    control.wait_for("pair 1/2");
    control.keys(&["0"]);
    control.wait_for("• Lock house");
    control.keys(&["Enter", "Tab"]);
    control.wait("a camera enlarged", |screen| screen.contains("enter return") && plays(screen, "Lock house", "M", "1280×720"));
    control.keys(&["e"]);
    control.wait("what it shows", |screen| screen.contains("left desk") && screen.contains("shows pair"));
    control.keys(&["Enter"]);
    control.wait_for("Lock house sent to left desk");
    tmux.wait("sent", |screen| {
        screen.contains("sent from another screen: Lock house, enlarged") && screen.contains("enter return")
    });
    control.keys(&["q"]);
    tmux.keys(&["q"]);
    tmux.wait_for("left again");
    tmux.keys(&["-l", &format!("clear; {of_site} launcher 'left desk'; {of_site} launcher nobody; echo told")]);
    tmux.keys(&["Enter"]);
    let told = tmux.wait("told", |screen| screen.contains("told\n") && screen.contains("no screen, lattice or camera"));
    assert!(told.contains("amber-lattice-left-desk.desktop"), "{told}");
    let entry = std::fs::read_to_string(state.path().join("applications/amber-lattice-left-desk.desktop")).unwrap();
    assert!(entry.contains("\"wall\" \"--screen\" \"left desk\"") && entry.contains("Terminal=true"), "{entry}");
}

#[test]
fn the_demos_first_minute_tells_a_story() {
    let _alone = port::alone();
    let state = state_folder();
    let tmux =
        Tmux::start("story", &format!("env XDG_STATE_HOME={0} COLORTERM=truecolor {PROGRAM} demo", state.path().display()));
    // Only what is on the screen is looked at: the dark one stands on the wall.
    tmux.wait("the wall, and the dark one on it", |screen| screen.contains("harbour six") && screen.contains("dark"));
    // One loses packets, one is dark, one is lost for a while; each with its cause, whatever this machine falls short of besides.
    tmux.keys(&["G"]);
    tmux.wait("what happened", |screen| {
        let told = |camera: &str, cause: &str| screen.lines().any(|line| line.contains(camera) && line.contains(cause));
        told("Lock house", "picture dark")
            && told("Lock gate upper", "closed by the camera")
            && told("Car lane 2", "packets lost")
    });
    // The pictures before and after what was lost.
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "closed-by-camera upper"]);
    tmux.keys(&["Enter"]);
    let screen = tmux.wait("both pictures", |screen| screen.contains("before, ") && screen.contains("after, "));
    assert!(screen.contains("not arrived") && screen.contains("latency p95"), "its minute:\n{screen}");
    tmux.keys(&["Escape"]);
    tmux.keys(&["q"]);
}

#[test]
fn the_mast_camera_of_the_demo_is_steered() {
    let _alone = port::alone();
    let state = state_folder();
    let tmux = Tmux::start(
        "steer",
        &format!("env XDG_STATE_HOME={0} COLORTERM=truecolor {PROGRAM} demo --calm", state.path().display()),
    );
    tmux.wait_for("27 steady");
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "Mast camera"]);
    tmux.wait_for("Mast camera");
    tmux.keys(&["Enter"]);
    tmux.wait("it is shown", |screen| plate(screen, "Mast camera").contains(" ms "));
    tmux.keys(&["H"]);
    tmux.wait("its head", |screen| screen.contains("STEERING Mast camera") && screen.contains("Car lanes"));
    let pan = |screen: &str| screen.split("pan ").nth(1).and_then(|rest| rest.split(' ').next()?.parse::<f64>().ok());
    tmux.wait("straight on", |screen| pan(screen) == Some(0.0));
    // A key that is held is one that comes again and again.
    let begun = std::time::Instant::now();
    while pan(&tmux.screen()).is_none_or(|pan| pan < 5.0) {
        assert!(begun.elapsed() < Duration::from_secs(60), "it turns:\n{}", tmux.screen());
        tmux.keys(&["Right"]);
    }
    tmux.wait("it stands still", |screen| screen.contains("rests") && screen.contains("device answered in"));
    tmux.keys(&["Tab"]);
    tmux.wait_for("▸ Car lanes");
    tmux.keys(&["Enter"]);
    tmux.wait("at its second preset", |screen| pan(screen).is_some_and(|pan| (83.5..84.5).contains(&pan)));
    tmux.keys(&["Escape"]);
    tmux.wait("back", |screen| !screen.contains("STEERING"));
    tmux.keys(&["q"]);
}

#[test]
fn what_stands_on_the_wall_is_looked_at_more_closely() {
    let _alone = port::alone();
    let state = state_folder();
    let tmux = Tmux::start(
        "closer",
        &format!("env XDG_STATE_HOME={0} COLORTERM=truecolor {PROGRAM} demo --calm", state.path().display()),
    );
    tmux.wait_for("27 steady");
    // One of each within two keys, and views that come from one stream.
    tmux.keys(&["5"]);
    tmux.wait("views of all around", |screen| {
        screen.contains("looking closer")
            && screen.contains("+90°")
            && screen.contains("-180°")
            && !screen.contains("waiting for")
    });
    tmux.keys(&["1"]);
    tmux.wait_for("harbour six");
    tmux.keys(&["I"]);
    tmux.keys(&["I"]);
    tmux.wait("its scale", |screen| screen.contains("×1.6") && screen.contains(" px/px"));
    tmux.keys(&["\\\\"]);
    tmux.wait("the whole picture", |screen| !screen.contains("×1.6"));
    tmux.keys(&["Y"]);
    tmux.wait("how its levels are spread", |screen| screen.contains("shown as it comes") && screen.contains("levels: "));
    tmux.keys(&["Right"]);
    tmux.wait("it costs something", |screen| screen.contains("brightness +5") && screen.contains("ms a picture"));
    tmux.keys(&["Enter"]);
    tmux.wait_for("is shown brightness +5");
    tmux.keys(&["Escape"]);
    tmux.wait_for("harbour six");
    tmux.keys(&["q"]);
}
