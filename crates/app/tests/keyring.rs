//! Passwords in a real keyring: a Secret Service on a session bus of the test's own.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;
#[path = "support/tmux.rs"]
mod tmux;

use port::{Home, PASSWORD, StandIn};
use serde_json::Value;
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, Command, Stdio};

/// A session bus with an unlocked keyring on it.
struct Session {
    bus: Child,
    keyring: Child,
    address: String,
    _home: tempfile::TempDir,
}

impl Session {
    fn start() -> Self {
        let home = tempfile::tempdir().unwrap();
        let mut bus = Command::new("dbus-daemon")
            .args(["--session", "--print-address", "--nofork", "--nopidfile"])
            .arg(format!("--address=unix:path={}/bus", home.path().display()))
            .stdout(Stdio::piped())
            .spawn()
            .expect("dbus-daemon is installed");
        let mut address = String::new();
        BufReader::new(bus.stdout.take().unwrap()).read_line(&mut address).unwrap();
        let address = address.trim().to_owned();
        let mut keyring = Command::new("gnome-keyring-daemon")
            .args(["--foreground", "--unlock", "--components=secrets"])
            .env("DBUS_SESSION_BUS_ADDRESS", &address)
            .env("HOME", home.path())
            .env("XDG_DATA_HOME", home.path())
            .env("XDG_RUNTIME_DIR", home.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("gnome-keyring-daemon is installed");
        writeln!(keyring.stdin.take().unwrap(), "of the test").unwrap();
        // It says its control folder once it is there.
        BufReader::new(keyring.stdout.take().unwrap()).read_line(&mut String::new()).unwrap();
        Self { bus, keyring, address, _home: home }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        for child in [&mut self.keyring, &mut self.bus] {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// Every file below a folder, one after the other.
fn everything(folder: &std::path::Path) -> String {
    let mut all = String::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        if entry.path().is_dir() {
            all += &everything(&entry.path());
        } else {
            all += &String::from_utf8_lossy(&std::fs::read(entry.path()).unwrap());
        }
    }
    all
}

#[test]
fn passwords_are_kept_in_the_sessions_keyring_where_there_is_one() {
    let (session, port, home) = (Session::start(), StandIn::four(), Home::new());
    let run = |args: &[&str], bus: &str| home.program().env("DBUS_SESSION_BUS_ADDRESS", bus).args(args).output().unwrap();
    let url = port.sub("Fuel quay");
    let added = run(
        &["add", &url.replace("/sub", "/main"), "--name", "Quay", "--sign-in", "harbour", "--password-env", "PORT_PW"],
        &session.address,
    );
    // A password out of the environment stays there; one in the address is kept.
    assert!(added.status.success() && home.file("config/amber-lattice/site.toml").contains("env:PORT_PW"), "{added:?}");
    let with = url.replace("rtsp://", &format!("rtsp://harbour:{PASSWORD}@"));
    let added = run(&["add", &with, "--name", "Quay again"], &session.address);
    assert!(added.status.success(), "{added:?}");
    let kept = everything(home.0.path());
    assert!(kept.contains("Quay again") && !kept.contains(PASSWORD), "the password is in no file:\n{kept}");

    let ok = |bus: &str| -> (Option<i32>, Value) {
        let checked = run(&["check", "Quay again", "--json"], bus);
        let report = serde_json::from_slice(&checked.stdout).unwrap_or_else(|error| panic!("{error}: {checked:?}"));
        (checked.status.code(), report)
    };
    let (code, report) = ok(&session.address);
    assert_eq!((code, &report["targets"][0]["ok"]), (Some(0), &true.into()), "{report}");
    // Without the keyring the camera says what it misses.
    let checked = run(&["check", "Quay again"], "disabled:");
    let text = String::from_utf8_lossy(&[checked.stdout, checked.stderr].concat()).into_owned();
    assert!(text.contains("no password is kept for the sign-in"), "{text}");

    // A site that keeps them in the file does so beside a keyring, too.
    let site = home.0.path().join("config/amber-lattice/site.toml");
    let written = std::fs::read_to_string(&site).unwrap();
    std::fs::write(&site, format!("passwords = \"file\"\n{written}")).unwrap();
    let other = port.sub("Lock gate upper").replace("rtsp://", "rtsp://lockkeeper:flotsam-7@");
    let added = run(&["add", &other, "--name", "Gate"], &session.address);
    assert!(added.status.success(), "{added:?}");
    assert!(everything(home.0.path()).contains("flotsam-7"));
}

#[test]
fn a_keyring_that_never_answers_stops_no_wall() {
    let (port, home) = (StandIn::four(), Home::new());
    let folder = home.0.path();
    // A session bus that takes connections and says nothing.
    let bus = std::os::unix::net::UnixListener::bind(folder.join("bus")).unwrap();
    std::thread::spawn(move || bus.incoming().flatten().collect::<Vec<_>>());
    let (open, locked) = (port.sub("Slipway north"), port.sub("Fuel quay"));
    let camera = |name: &str, url: &str, more: &str| {
        format!("[[camera]]\nname = \"{name}\"\n{more}[[camera.stream]]\nrole = \"sub\"\nurl = \"{url}\"\n")
    };
    let site = folder.join("site.toml");
    let cameras = camera("Slipway north", &open, "") + &camera("Fuel quay", &locked, "sign-in = \"port\"\n");
    std::fs::write(&site, format!("[[sign-in]]\nname = \"port\"\nuser = \"harbour\"\n{cameras}")).unwrap();
    let folders = ["CONFIG", "DATA", "STATE"].map(|name| format!("XDG_{name}_HOME={}/{name}", folder.display())).join(" ");
    let wall = format!(
        "env {folders} DBUS_SESSION_BUS_ADDRESS=unix:path={}/bus {} wall --site {}",
        folder.display(),
        port::PROGRAM,
        site.display()
    );
    let tmux = tmux::Tmux::start("keyring", &wall);
    tmux.wait("pictures of what needs no password, and what the other one waits for", |screen| {
        screen.contains("1 steady") && screen.contains("waits for its owner: 1 camera waits for its password")
    });
}
