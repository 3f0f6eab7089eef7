//! The engine without a screen: `serve`, a wall beside it, and a wall whose terminal is the shell's for a while.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;
#[path = "support/tmux.rs"]
mod terminal;

use port::{Home, PROGRAM, StandIn};
use serde_json::Value;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};
use terminal::Tmux;

/// Whatever is awaited happens within this time, on a starved machine as well.
const WITHIN: Duration = Duration::from_secs(120);

/// A site of the first two stand-ins, by their sub streams.
fn site_of(standin: &StandIn, home: &Home) -> PathBuf {
    let camera = |device: &Value| {
        let (name, url) = (device["name"].as_str().unwrap(), device["sub"].as_str().unwrap());
        format!("[[camera]]\nname = \"{name}\"\n[[camera.stream]]\nrole = \"sub\"\nurl = \"{url}\"\n")
    };
    let path = home.0.path().join("site.toml");
    let cameras: String = standin.devices.iter().take(2).map(camera).collect();
    std::fs::write(&path, format!("name = \"Tarnhithe ferry port\"\n{cameras}")).unwrap();
    path
}

fn folders(home: &Home) -> String {
    let folder = home.0.path().display();
    format!(
        "XDG_CONFIG_HOME={folder}/config XDG_DATA_HOME={folder}/data XDG_STATE_HOME={folder}/state DBUS_SESSION_BUS_ADDRESS=disabled:"
    )
}

fn metrics(address: std::net::SocketAddr) -> String {
    let Ok(mut stream) = std::net::TcpStream::connect(address) else { return String::new() };
    let mut answer = String::new();
    let _ = write!(stream, "GET /metrics HTTP/1.1\r\nhost: localhost\r\n\r\n")
        .and_then(|()| stream.read_to_string(&mut answer).map(drop));
    answer
}

#[track_caller]
fn awaited<T>(what: &str, look: impl Fn() -> Option<T>) -> T {
    let deadline = Instant::now() + WITHIN;
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(Instant::now() < deadline, "{what}: not within {WITHIN:?}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

/// The outages of a camera in the ledger of a site, oldest first.
fn outages(home: &Home, site: &Path, camera: &str) -> Vec<Value> {
    let output = home.program().args(["ledger", "--json", "--site"]).arg(site).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let entries = text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    entries.filter(|entry| entry["cameras"] == camera && entry["kind"] == "outage").collect()
}

struct Serving(Child);

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn serve_keeps_the_record_without_a_screen_and_a_wall_beside_it_takes_over() {
    let mut standin = StandIn::four();
    let home = Home::new();
    let site = site_of(&standin, &home);
    let address = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let mut command = home.program();
    command.args(["serve", "--metrics", &address.to_string(), "--site"]).arg(&site).stdout(Stdio::piped());
    let mut serve = Serving(command.spawn().unwrap());
    let mut said = BufReader::new(serve.0.stdout.take().unwrap()).lines().map_while(Result::ok);
    assert!(said.next().unwrap().starts_with("serving 2 cameras of "));
    let steady =
        "amber_lattice_stream_verdict{camera=\"Slipway north\",stream=\"sub\",amber_lattice_stream_verdict=\"steady\"} 1";
    awaited("figures without a screen", || metrics(address).contains(steady).then_some(()));
    standin.order("1 cut 4");
    let outage = awaited("the cut in the ledger", || {
        outages(&home, &site, "Slipway north").into_iter().find(|entry| !entry["end"].is_null())
    });
    assert!(outage["cause"].is_string(), "{outage}");

    // A wall beside it shows what serve keeps, says so, and its orders reach it.
    let tmux = Tmux::start("beside", &format!("env {} {PROGRAM} wall --operator kim --site {}", folders(&home), site.display()));
    tmux.wait_for("• 2 steady");
    tmux.keys(&["G"]);
    let kept_by = format!("kept by another program (serve, process {})", serve.0.id());
    tmux.wait("whose ledger it is", |screen| screen.contains(&kept_by) && screen.contains("outage"));
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "north outage"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("with north outage");
    tmux.keys(&["a"]);
    tmux.wait("acknowledged, by way of serve", |screen| {
        screen.lines().any(|line| line.contains("outage") && line.contains("kim "))
    });

    // It ends cleanly when it is told to, and the wall goes on keeping.
    let pid = rustix::process::Pid::from_child(&serve.0);
    rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
    assert_eq!(said.last().as_deref(), Some("ended"));
    assert_eq!(serve.0.wait().unwrap().code(), Some(0));
    tmux.wait("it is not said any more", |screen| screen.contains("Ledger") && !screen.contains("kept by another program"));
    standin.order("2 cut 4");
    awaited("the next cut, kept by the wall", || {
        outages(&home, &site, "Lock gate upper").into_iter().find(|entry| !entry["end"].is_null())
    });
    let noted = outages(&home, &site, "Slipway north");
    assert!(noted.iter().any(|entry| entry["acknowledged_by"] == "kim"), "{noted:?}");
    tmux.keys(&["C-c"]);
}

/// Microseconds UTC of an RFC 3339 moment.
fn micros(moment: &Value) -> i64 {
    let moment: jiff::Timestamp = moment.as_str().unwrap().parse().unwrap();
    moment.as_microsecond()
}

#[test]
fn a_stopped_terminal_stops_the_drawing_only() {
    let mut standin = StandIn::four();
    let home = Home::new();
    let site = site_of(&standin, &home);
    let tmux = Tmux::start("stopped", "bash --norc");
    tmux.keys(&["-l", &format!("PS1='shell> '; env {} {PROGRAM} wall --site {}", folders(&home), site.display())]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("• 2 steady");
    tmux.keys(&["C-z"]);
    tmux.wait("the shell has the terminal", |screen| screen.contains("Stopped") && screen.contains("shell> "));
    // What is typed is the shell's, while the wall receives on: a cut and its end fall into these 20 s.
    let stopped = Instant::now();
    standin.order("1 cut 5");
    tmux.keys(&["-l", "echo typed to the $((1 + 1))nd"]);
    tmux.keys(&["Enter"]);
    tmux.wait_for("typed to the 2nd");
    std::thread::sleep(Duration::from_secs(20).saturating_sub(stopped.elapsed()));
    let outage = awaited("the cut, kept while it was stopped", || {
        outages(&home, &site, "Slipway north").into_iter().find(|entry| !entry["end"].is_null())
    });
    assert!(tmux.screen().contains("shell> "), "nothing is drawn over the shell:\n{}", tmux.screen());
    tmux.keys(&["-l", "fg"]);
    tmux.keys(&["Enter"]);
    tmux.wait("the wall again, with its pictures", |screen| screen.contains("• 2 steady") && screen.contains("1 dropout"));
    tmux.keys(&["q"]);
    tmux.wait("left", |screen| screen.trim_end().ends_with("shell>"));

    // To the frame: from the first that did not come to the first that came again, as the stand-in logged them.
    let log = standin.logged();
    let frames: Vec<(i64, bool)> = log
        .iter()
        .filter(|record| record["event"] == "frame" && record["camera"] == "Slipway north" && record["stream"] == "sub")
        .map(|record| (record["at"].as_i64().unwrap(), record["keyframe"] == true))
        .collect();
    let (start, end) = (micros(&outage["start"]), micros(&outage["end"]));
    let frame = 80_000;
    // The first that can be shown after a cut is a keyframe.
    let before = frames.iter().map(|(at, _)| *at).filter(|at| *at <= start).max().unwrap();
    let after = frames.iter().filter(|(at, keyframe)| *at > start + frame && *keyframe).map(|(at, _)| *at).min().unwrap();
    assert!(start - before < 2 * frame, "begins {} ms after the last frame", (start - before) / 1000);
    assert!((end - after).abs() < 2 * frame, "ends {} ms after the next keyframe", (end - after) / 1000);
}

#[test]
fn what_cannot_be_served_is_told_at_once() {
    let home = Home::new();
    let told = |site: &str, more: &[&str]| {
        let path = home.0.path().join("told.toml");
        std::fs::write(&path, site).unwrap();
        let output = home.program().args(["serve", "--site"]).arg(&path).args(more).output().unwrap();
        (output.status.code(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    let one = "[[camera]]\nname = \"Mast\"\n[[camera.stream]]\nrole = \"sub\"\nurl = \"rtsp://127.0.0.1:9/x\"\n";
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let taken = listener.local_addr().unwrap().to_string();
    let switched_off = one.replacen('\n', "\nenabled = false\n", 1);
    let lines = home.0.path().join("nowhere/lines.jsonl").display().to_string();
    for (site, more, says) in [
        ("", &[][..], "has no camera to receive"),
        (&switched_off, &[], "has no camera to receive"),
        ("name = [", &[], "line 1"),
        (one, &["--metrics", &taken], "choose another address or port"),
        (one, &["--ledger-lines", &lines], "cannot be written"),
    ] {
        let (code, text) = told(site, more);
        assert!(code == Some(2) && text.contains(says), "{code:?} {text}");
    }
}
