//! What cameras report themselves, and their sound, as a wall and scripts see it.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;
#[path = "support/tmux.rs"]
mod terminal;

use port::{Home, PROGRAM, StandIn};
use serde_json::Value;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::{Duration, Instant};
use terminal::Tmux;

/// A site of the first three cameras of the port with their devices, and what stands behind them in its file.
fn site_of(standin: &StandIn, home: &Home, more: &str) -> PathBuf {
    let camera = |device: &Value| {
        let (name, url) = (device["name"].as_str().unwrap(), device["sub"].as_str().unwrap());
        let (host, port) = device["service"].as_str().unwrap().rsplit_once(':').unwrap();
        format!(
            "[[camera]]\nname = \"{name}\"\ngroup = \"Quay\"\naddress = \"{host}\"\nservice-port = {port}\n[[camera.stream]]\nrole = \"sub\"\nurl = \"{url}\"\n"
        )
    };
    let cameras: String = standin.devices.iter().take(3).map(camera).collect();
    let path = home.0.path().join("site.toml");
    std::fs::write(&path, format!("name = \"Tarnhithe ferry port\"\n{cameras}\n{more}")).unwrap();
    path
}

#[test]
fn reports_of_a_camera_are_printed_as_they_come() {
    let (mut standin, home) = (StandIn::four(), Home::new());
    let site = site_of(&standin, &home, "");
    standin.order("1 digital-input 600");
    let deadline = Instant::now() + Duration::from_secs(60);
    while !standin.logged().iter().any(|record| record["kind"] == "digital-input") {
        assert!(Instant::now() < deadline, "the order was not taken");
        std::thread::sleep(Duration::from_millis(50));
    }
    let now = home.run(&["events", "Slipway", "--json", "--site", site.to_str().unwrap()]);
    let first: Value = serde_json::from_slice(now.stdout.split(|byte| *byte == b'\n').next().unwrap()).unwrap();
    assert_eq!(
        (&first["camera"], &first["kind"], &first["active"], &first["from_before"]),
        (&"Slipway north".into(), &"digital-input".into(), &true.into(), &true.into())
    );
    let mut child = home
        .program()
        .args(["events", "Slipway north", "--follow", "--for", "90s", "--json", "--site", site.to_str().unwrap()])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let mut next = || serde_json::from_str::<Value>(&lines.next().unwrap().unwrap()).unwrap();
    assert_eq!(next()["from_before"], true);
    standin.order("1 motion 1");
    let told = [next(), next()];
    assert_eq!(
        told.map(|one| (one["kind"].clone(), one["active"].clone())),
        [true, false].map(|on| ("motion".into(), on.into()))
    );
    child.kill().unwrap();
    child.wait().unwrap();
    let none = home.run(&["events", "No such", "--site", site.to_str().unwrap()]);
    assert_eq!(none.status.code(), Some(2), "{none:?}");
}

#[test]
fn a_rule_marks_the_tile_enters_the_ledger_runs_a_program_and_sends_json() {
    let (mut standin, home) = (StandIn::four(), Home::new());
    let (listener, flag) = (TcpListener::bind("127.0.0.1:0").unwrap(), home.0.path().join("flag"));
    let rule = format!(
        "[[rule]]\ngroup = \"Quay\"\nreports = [\"tampering\"]\nalarm = true\nbell = true\nrun = [\"cp\", \"--no-clobber\", \"{}\", \"{}-{{kind}}\"]\npost = \"http://{}/reports\"\n",
        home.0.path().join("site.toml").display(),
        flag.display(),
        listener.local_addr().unwrap()
    );
    let site = site_of(&standin, &home, &rule);
    let folder = home.0.path().display();
    let wall = Tmux::start(
        "events",
        &format!(
            "XDG_DATA_HOME={folder}/data XDG_STATE_HOME={folder}/state DBUS_SESSION_BUS_ADDRESS=disabled: {PROGRAM} wall --site {}",
            site.display()
        ),
    );
    wall.wait_for("3 steady");
    // What no rule is about is nothing to the wall.
    standin.order("2 motion 600");
    standin.order("2 tampering 600");
    wall.wait_for("tampering");
    listener.set_nonblocking(false).unwrap();
    let (mut stream, _) = listener.accept().unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    let mut sent = Vec::new();
    let mut piece = [0; 4096];
    while !sent.ends_with(b"}") {
        let count = stream.read(&mut piece).unwrap();
        assert!(count > 0, "{}", String::from_utf8_lossy(&sent));
        sent.extend_from_slice(&piece[..count]);
    }
    write!(stream, "HTTP/1.1 204 No Content\r\nContent-Length: 0\r\n\r\n").unwrap();
    let text = String::from_utf8_lossy(&sent).into_owned();
    let json: Value = serde_json::from_str(text.split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(
        (&json["camera"], &json["group"], &json["kind"]),
        (&"Lock gate upper".into(), &"Quay".into(), &"tampering".into())
    );
    let copied = PathBuf::from(format!("{}-tampering", flag.display()));
    let deadline = Instant::now() + Duration::from_secs(60);
    while !copied.exists() {
        assert!(Instant::now() < deadline, "the program of the rule did not run");
        std::thread::sleep(Duration::from_millis(50));
    }
    wall.keys(&["G"]);
    let ledger = wall.wait("its entry", |screen| screen.contains("tampering reported"));
    assert!(!ledger.contains("motion") && ledger.contains("1 alarm"), "{ledger}");
    wall.keys(&["a"]);
    wall.wait("that somebody has taken note", |screen| screen.contains("no alarm"));
    // Without the rule nothing is known of it any more: its entry ends.
    let text = std::fs::read_to_string(&site).unwrap();
    std::fs::write(&site, text.split("[[rule]]").next().unwrap()).unwrap();
    let entry = |screen: &str| {
        screen.lines().find(|line| line.contains("reported") && line.contains("Lock gate upper")).map(str::to_owned)
    };
    wall.wait("its end", |screen| entry(screen).is_some_and(|line| !line.contains('…')));
    // The sound of these cameras: a voice, a tone, engines.
    wall.keys(&["Escape"]);
    wall.wait("the wall", |screen| !screen.contains("acknowledge"));
    wall.keys(&["'"]);
    wall.wait("the tone's level", |screen| screen.contains("Lock gate upper sub") && screen.contains("-20.0"));
    wall.keys(&["o"]);
    wall.wait_for("is off");
    // Back on the wall, two seconds of the selected tile become one still.
    wall.keys(&["Escape"]);
    wall.wait("the wall", |screen| screen.contains("enlarge"));
    wall.keys(&["*"]);
    wall.wait_for("-averaged.png");
    wall.keys(&["q", "q"]);
    assert!(std::fs::read_to_string(&site).unwrap().contains("sound = false"));
}

#[test]
fn a_line_in_a_picture_is_watched_by_the_wall_itself_and_drawn_by_hand() {
    let (standin, home) = (StandIn::four(), Home::new());
    let flag = home.0.path().join("crossed");
    let rule = format!(
        "[[rule]]\ncamera = \"Car lane 2\"\nreports = [\"crossing\"]\nrun = [\"cp\", \"--no-clobber\", \"{}\", \"{}\"]\n",
        home.0.path().join("site.toml").display(),
        flag.display()
    );
    let site = site_of(&standin, &home, &rule);
    let text = std::fs::read_to_string(&site).unwrap();
    let line = "watch = [{ name = \"stop line\", line = [[0.0, 0.68], [1.0, 0.68]], way = \"to-the-right\" }]";
    let text = text.replace("name = \"Car lane 2\"\n", &format!("name = \"Car lane 2\"\n{line}\n"));
    assert!(text.contains("stop line"), "{text}");
    std::fs::write(&site, text).unwrap();
    let folder = home.0.path().display();
    let command = format!("XDG_DATA_HOME={folder}/data XDG_STATE_HOME={folder}/state {PROGRAM} wall --site {}", site.display());
    let wall = Tmux::start("motion", &command);
    wall.wait_for("3 steady");
    // By hand: an area in the picture of the first camera, another name for it, a corner that is taken back.
    wall.keys(&["#"]);
    wall.wait_for("nothing is watched in its picture yet");
    wall.keys(&["a"]);
    wall.wait_for("an area has 3 to 16 corners");
    for keys in
        [&["Space"][..], &["Right", "Right", "Right", "Space"], &["Down", "Down", "Down", "Space"], &["Up", "Space", "BSpace"]]
    {
        wall.keys(keys);
    }
    wall.wait_for("a makes an area of these corners");
    wall.keys(&["a"]);
    wall.wait_for("learns what is usual");
    wall.keys(&["r"]);
    wall.wait_for("new name of area 1");
    wall.keys(&["C-u", "r", "a", "m", "p", "Enter"]);
    wall.wait("its name", |screen| screen.contains("▸ ramp"));
    let kept = std::fs::read_to_string(&site).unwrap();
    assert!(kept.contains("watch = [{ name = \"ramp\", area = [[0.5, 0.5], [0.56, 0.5], [0.56, 0.56]] }]"), "{kept}");
    wall.keys(&["u", "Escape"]);
    // The other one is watched meanwhile, and cars go over its line.
    let deadline = Instant::now() + Duration::from_secs(150);
    while !flag.exists() {
        assert!(Instant::now() < deadline, "no crossing was seen:\n{}", wall.screen());
        std::thread::sleep(Duration::from_millis(100));
    }
    wall.keys(&["G"]);
    let seen = |screen: &str| screen.lines().any(|line| line.contains("crossing reported") && line.contains("Car lane 2"));
    wall.wait("its entry", seen);
    wall.keys(&["q", "q"]);
}
