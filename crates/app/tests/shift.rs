//! From a fault to the report of the shift: plate, ledger, taking note, a program that is killed, PDF and JSON.
#![allow(clippy::unwrap_used, missing_docs)]
#![allow(clippy::too_many_lines, reason = "a shift is told from begin to end")]

#[path = "support/port.rs"]
mod port;
#[path = "support/tmux.rs"]
mod terminal;

use port::{Home, PROGRAM, StandIn};
use serde_json::Value;
use std::io::{Read as _, Write as _};
use std::path::Path;
use std::time::{Duration, Instant};
use terminal::Tmux;

fn site_of(standin: &StandIn) -> String {
    let camera = |device: &Value| {
        let (name, url) = (device["name"].as_str().unwrap(), device["sub"].as_str().unwrap());
        format!("[[camera]]\nname = \"{name}\"\ngroup = \"Harbour\"\n[[camera.stream]]\nrole = \"sub\"\nurl = \"{url}\"\n")
    };
    // The fourth wants a sign-in that does not belong here.
    format!("name = \"Tarnhithe ferry port\"\n{}", standin.devices.iter().take(3).map(camera).collect::<String>())
}

/// What is at a path of an HTTP address.
fn get(address: std::net::SocketAddr, path: &str) -> String {
    let mut stream = std::net::TcpStream::connect(address).unwrap();
    write!(stream, "GET {path} HTTP/1.1\r\nhost: localhost\r\n\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

fn report(home: &Home, site: &Path, out: &Path) -> Value {
    let mut command = home.program();
    command.args(["report", "--from", "-1h", "--site"]).arg(site).arg("--out").arg(out);
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let json = out.extension().is_some_and(|ending| ending == "json");
    if json { serde_json::from_str(&std::fs::read_to_string(out).unwrap()).unwrap() } else { Value::Null }
}

/// The ledger on standard output, while the wall runs: each entry a line, until nobody reads any more.
fn follow_the_ledger(home: &Home, site: &Path) {
    let mut command = home.program();
    command.args(["ledger", "--follow", "--json", "--site"]).arg(site).stdout(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    let mut next = || serde_json::from_str::<Value>(&lines.next().unwrap().unwrap()).unwrap();
    let deadline = Instant::now() + Duration::from_secs(60);
    let mut until = |done: &dyn Fn(&Value) -> bool| {
        while !done(&next()) {
            assert!(Instant::now() < deadline);
        }
    };
    // Beside what a starved machine brings.
    until(&|entry| entry["cameras"] == "Lock gate upper" && entry["kind"] == "outage" && !entry["end"].is_null());
    until(&|entry| entry["cameras"] == "Car lane 2" && entry["id"].is_u64());
    drop(lines);
    let _ = child.kill();
    let _ = child.wait();
    let output = home.program().args(["ledger", "--site"]).arg(site).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let told = |line: &str| ["Lock gate upper", "outage", "acknowledged by kim"].iter().all(|word| line.contains(word));
    assert!(text.lines().any(told) && output.status.success(), "{text}");
}

#[test]
fn a_fault_is_on_the_plate_in_the_ledger_and_in_the_report_of_the_shift() {
    let mut standin = StandIn::four();
    let home = Home::new();
    let folder = home.0.path();
    let site = folder.join("site.toml");
    std::fs::write(&site, site_of(&standin)).unwrap();
    let folders = format!("XDG_CONFIG_HOME={0}/config XDG_DATA_HOME={0}/data XDG_STATE_HOME={0}/state", folder.display());
    let metrics = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let command = format!(
        "cd {} && env DBUS_SESSION_BUS_ADDRESS=disabled: {folders} {PROGRAM} wall --operator kim --site {} --metrics {metrics} --ledger-lines lines.jsonl; echo left with $?",
        folder.display(),
        site.display()
    );
    let tmux = Tmux::start("shift", &command);
    tmux.wait_for("• 3 steady");
    standin.order("2 cut 25");
    // The plate tells it, and after ten seconds it is an alarm.
    tmux.wait("lost on its plate", |screen| screen.lines().any(|line| line.contains("× Lock gate upper")));
    // Other systems read the same.
    let gate = "{camera=\"Lock gate upper\",stream=\"sub\",group=\"Harbour\"";
    let lost = format!("amber_lattice_stream_verdict{gate},amber_lattice_stream_verdict=\"lost\"}} 1");
    // Made anew once a second.
    let deadline = Instant::now() + Duration::from_secs(30);
    loop {
        let text = get(metrics, "/metrics");
        assert!(text.ends_with("# EOF\n") && Instant::now() < deadline, "{text}");
        if text.contains(&lost) {
            break;
        }
        std::thread::sleep(Duration::from_millis(200));
    }
    tmux.wait_for("1 alarm: G");
    tmux.keys(&["G"]);
    let said = ["outage", "Lock gate upper", "in alarm"];
    tmux.wait("the outage", |screen| screen.lines().any(|line| said.iter().all(|part| line.contains(part))));
    // A starved machine has more entries: this one is meant.
    tmux.keys(&["/"]);
    tmux.keys(&["-l", "upper outage"]);
    tmux.keys(&["Enter"]);
    tmux.wait("only that one", |screen| screen.contains("with upper outage") && screen.contains("outage  "));
    tmux.keys(&["a"]);
    tmux.wait("acknowledged by kim", |screen| screen.lines().any(|line| line.contains("outage") && line.contains("kim ")));
    tmux.keys(&["Escape"]);
    tmux.wait_for("• 3 steady");
    // A report by key, over the time of the lanes.
    tmux.keys(&["G"]);
    tmux.wait_for("record ");
    tmux.keys(&["w"]);
    tmux.wait_for("Report to a new file");
    tmux.keys(&["Enter"]);
    let said = tmux.wait_for("the report is written: ");
    let name = said.split("the report is written: ").nth(1).unwrap().split_whitespace().next().unwrap();
    let name = name.rsplit('/').next().unwrap();
    assert!(folder.join(name).exists(), "{name}: {said}");
    // A second outage runs while the program is killed: what it kept is whole, and the end of that one unknown.
    standin.order("3 cut 60");
    tmux.keys(&["Escape"]);
    tmux.wait("the second one", |screen| screen.lines().any(|line| line.contains("× Car lane 2")));
    // Readings are written every ten seconds.
    std::thread::sleep(Duration::from_secs(13));
    follow_the_ledger(&home, &site);
    tmux.kill(PROGRAM, "wall");
    tmux.wait_for("left with 137");

    let lines = std::fs::read_to_string(folder.join("lines.jsonl")).unwrap();
    let lines: Vec<Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let outage: Vec<&Value> =
        lines.iter().filter(|line| line["cameras"] == "Lock gate upper" && line["kind"] == "outage").collect();
    assert!(outage.len() >= 2 && outage[0]["end"].is_null() && !outage[outage.len() - 1]["end"].is_null(), "{lines:?}");

    let json = report(&home, &site, &folder.join("shift.json"));
    assert_eq!(json["site"], "Tarnhithe ferry port");
    let camera = |name: &str| json["cameras"].as_array().unwrap().iter().find(|camera| camera["camera"] == name).unwrap();
    let (gate, north) = (camera("Lock gate upper"), camera("Slipway north"));
    let missing = gate["missing_s"].as_f64().unwrap();
    assert!(missing > 15.0 && missing < 120.0 && gate["dropouts"].as_u64() >= Some(1), "{gate}");
    assert!(gate["availability"].as_f64().unwrap() < 0.95 && north["measured_s"].as_f64().unwrap() > 30.0, "{gate} {north}");
    let entries = json["ledger"].as_array().unwrap();
    let entry = entries.iter().find(|entry| entry["cameras"] == "Lock gate upper" && entry["kind"] == "outage").unwrap();
    assert_eq!(entry["acknowledged_by"], "kim", "{entry}");
    assert!(["closed-by-camera", "port-closed", "not-rtsp"].contains(&entry["cause"].as_str().unwrap()), "{entry}");
    assert!(entries.iter().any(|entry| entry["cameras"] == "Car lane 2"), "{entries:?}");
    let pdf = folder.join("shift.pdf");
    report(&home, &site, &pdf);
    let text = std::process::Command::new("pdftotext").arg("-layout").arg(&pdf).arg("-").output().unwrap();
    let text = String::from_utf8_lossy(&text.stdout).into_owned();
    for wanted in ["Shift report: Tarnhithe ferry port", "Lock gate upper sub", "outage", "kim", "Acknowledged"] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    // What cannot be is a sentence, and no file is written over.
    for (arguments, told) in [
        (vec!["report", "--out", "shift.doc"], "must end in .pdf"),
        (vec!["report", "--from", "soon", "--out", "x.pdf"], "is not a moment"),
        (vec!["report", "--from", "now", "--to", "-1h", "--out", "x.pdf"], "is not before"),
        (vec!["report", "--out", "shift.pdf"], "is there already"),
        (vec!["ledger", "--from", "soon"], "is not a moment"),
        (vec!["ledger", "--from", "now", "--to", "-1h"], "is not before"),
    ] {
        let output = home.program().current_dir(folder).args(["--site", "site.toml"]).args(arguments).output().unwrap();
        let error = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success() && error.contains(told), "{told}: {error}");
    }
}
