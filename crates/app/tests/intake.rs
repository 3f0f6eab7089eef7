//! `find`, `check`, `add` and `roster` as scripts use them, against the whole stand-in port.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;

use port::{Home, PASSWORD, StandIn, program};
use serde_json::Value;
use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

fn check(home: &Home, args: &[&str]) -> (Option<i32>, Value) {
    let began = Instant::now();
    let (code, json) = home.json(&[&["check", "--json"], args].concat());
    assert!(began.elapsed() < Duration::from_secs(30), "a check has an end");
    (code, json["targets"][0].clone())
}

/// Viewers that began to play a device's streams.
fn plays(port: &StandIn, name: &str) -> usize {
    port.logged().iter().filter(|record| record["event"] == "play" && record["camera"] == name).count()
}

/// Frames a second that a device sent to its latest viewer, by its own log, and the longest time between two in s.
fn sent(port: &StandIn, name: &str) -> (f64, f64) {
    let frames: Vec<Value> =
        port.logged().into_iter().filter(|record| record["event"] == "frame" && record["camera"] == name).collect();
    let viewer = &frames.last().unwrap()["viewer"];
    let at = frames.iter().filter(|record| record["viewer"] == *viewer).map(|record| record["at"].as_f64().unwrap() / 1e6);
    let at: Vec<f64> = at.collect();
    let gap = at.windows(2).map(|pair| pair[1] - pair[0]).fold(0.0, f64::max);
    ((at.len() - 1) as f64 / (at[at.len() - 1] - at[0]), gap)
}

/// A check went well, with this cause at most. A stand-in on a starved machine sends less than it declares: then that is told,
/// as its own log has it.
#[track_caller]
fn went_well(port: &StandIn, name: &str, checked: &(Option<i32>, Value), cause: &Value) {
    let (code, target) = checked;
    let (rate, gap) = sent(port, name);
    if rate > 12.0 && gap < 0.25 {
        assert_eq!((code, &target["ok"], &target["cause"]), (&Some(0), &true.into(), cause), "{target}");
    } else {
        let saw = step(target, "steady")["saw"].as_str().unwrap().to_owned();
        let told: f64 = saw.split_whitespace().next().unwrap().parse().unwrap();
        assert!((told - rate).abs() < 2.5, "{rate} frames/s sent, {gap} s apart at most: {target}");
    }
}

fn step<'a>(target: &'a Value, name: &str) -> &'a Value {
    target["steps"].as_array().unwrap().iter().find(|step| step["step"] == name).unwrap()
}

#[track_caller]
fn stopped(checked: &(Option<i32>, Value), at: &str, cause: &str, advice: &str) {
    let (code, target) = checked;
    assert_eq!((code, &target["ok"], &target["cause"]), (&Some(1), &Value::Bool(false), &Value::from(cause)), "{target}");
    assert_eq!(step(target, at)["state"], "failed", "{target}");
    assert!(target["advice"].as_str().unwrap().contains(advice), "{target}");
    let steps = target["steps"].as_array().unwrap();
    assert_eq!(steps.len(), 13);
    let failed = steps.iter().position(|step| step["state"] == "failed").unwrap();
    assert!(steps.iter().skip(failed + 1).all(|step| step["state"] == "skipped" && step["ms"].is_null()), "{target}");
}

#[test]
fn the_network_is_searched_and_each_device_told_for_what_it_is() {
    let (port, home) = (StandIn::all(), Home::new());
    let ports: Vec<String> = port
        .devices
        .iter()
        .flat_map(|device| {
            [port.sub(device["name"].as_str().unwrap()), port.service(device["name"].as_str().unwrap()).to_owned()]
        })
        .map(|address| address.trim_start_matches("rtsp://").split(['/', ':']).nth(1).unwrap().to_owned())
        .collect();
    let ports = ports.join(",");
    let find = |more: &[&str]| {
        home.json(
            &[&["find", "--no-discovery", "--range", "127.77.0.10-127.77.0.41", "--ports", &ports, "--json"], more].concat(),
        )
    };
    let (code, report) = find(&[]);
    assert_eq!(
        (code, &report["asked"], report["devices"].as_array().unwrap().len()),
        (Some(0), &Value::from(32), 21),
        "{report}"
    );
    let of =
        |report: &Value, host: &str| report["devices"].as_array().unwrap().iter().find(|d| d["address"] == host).unwrap().clone();
    let open = of(&report, "127.77.0.16");
    assert_eq!((&open["kind"], &open["locked"], &open["exposed"]), (&"camera".into(), &false.into(), &"no-password".into()));
    assert_eq!((&open["serial"], &open["via"]), (&"TH-0016".into(), &serde_json::json!(["scan"])));
    assert_eq!(of(&report, "127.77.0.22")["exposed"], "first-use");
    let locked = of(&report, "127.77.0.14");
    assert_eq!((&locked["locked"], &locked["serial"], &locked["exposed"]), (&true.into(), &Value::Null, &Value::Null));
    let (_, signed) = find(&["--sign-in", "harbour", "--password-env", "PORT_PW", "--yes"]);
    assert_eq!(
        (&of(&signed, "127.77.0.14")["locked"], &of(&signed, "127.77.0.14")["serial"]),
        (&false.into(), &"TH-0014".into())
    );
    let recorder = of(&signed, "127.77.0.40");
    assert_eq!((&recorder["kind"], &recorder["channels"]), (&"recorder".into(), &8.into()));
    assert_eq!(of(&signed, "127.77.0.15")["locked"], true, "another sign-in");
    let (_, admin) = find(&["--sign-in", "admin", "--password-env", "ADMIN_PW", "--yes"]);
    assert_eq!(of(&admin, "127.77.0.15")["exposed"], "default-password");
    assert!(!signed.to_string().contains(PASSWORD));
    let many = home.run(&["find", "--range", "10.0.0.0/8", "--no-discovery"]);
    assert_eq!(many.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&many.stderr).contains("--large"), "{many:?}");
}

#[test]
fn each_mistake_is_told_by_the_step_at_which_it_shows() {
    let (mut port, home) = (StandIn::all(), Home::new());
    let good = check(&home, &[&port.sub("Slipway north")]);
    went_well(&port, "Slipway north", &good, &Value::Null);
    assert_eq!((&step(&good.1, "sign-in")["state"], &step(&good.1, "clock")["state"]), (&"warn".into(), &"ok".into()));
    assert!(step(&good.1, "parameters")["saw"].as_str().unwrap().contains("640x360"));
    assert!(step(&good.1, "steady")["ms"].as_f64().unwrap() >= 4500.0);

    let fuel = port.sub("Fuel quay");
    stopped(&check(&home, &["rtsp://no-such-name.invalid/x"]), "resolve", "unresolved", "name service");
    stopped(&check(&home, &["rtsp://127.77.9.9:8554/x"]), "port", "port-closed", "refuses this port");
    let page = format!("rtsp://{}/main", port.service("Slipway north"));
    stopped(&check(&home, &[&page]), "protocol", "not-rtsp", "web server");
    stopped(&check(&home, &[&fuel]), "sign-in", "sign-in", "give its user name");
    let wrong = check(&home, &[&fuel, "--sign-in", "harbour", "--password-env", "WRONG_PW"]);
    stopped(&wrong, "sign-in", "sign-in", "were refused");
    assert!(!wrong.1.to_string().contains("not this one"));
    stopped(&check(&home, &[&port.sub("Slipway north").replace("/sub", "/subs")]), "path", "no-such-stream", "letter by letter");
    let harbour = ["--sign-in", "harbour", "--password-env", "PORT_PW"];
    let gangway = port.sub("Foot gangway");
    stopped(&check(&home, &[&[gangway.as_str()], &harbour[..]].concat()), "path", "no-such-stream", "switched off");
    let checked = check(&home, &[&[port.sub("Mast head").as_str()], &harbour[..]].concat());
    went_well(&port, "Mast head", &checked, &"clock-wrong".into());
    let mast = &checked.1;
    assert_eq!(step(mast, "clock")["state"], "warn", "{mast}");
    assert!(step(mast, "clock")["saw"].as_str().unwrap().contains("min"), "{mast}");

    // Pictures by HTTP are checked too.
    let still = format!("http://{}/still.jpg", port.service("Fuel quay"));
    stopped(&check(&home, &[&still]), "sign-in", "sign-in", "give its user name");
    let (code, seen) = check(&home, &[&[still.as_str()], &harbour[..]].concat());
    assert_eq!(
        (code, &step(&seen, "first-picture")["state"], &step(&seen, "steady")["state"]),
        (Some(0), &"ok".into(), &"skipped".into()),
        "{seen}"
    );
    assert_eq!((&step(&seen, "protocol")["saw"], &step(&seen, "clock")["state"]), (&"HTTP".into(), &"skipped".into()), "{seen}");
    stopped(
        &check(&home, &[&still.replace("still", "nothing"), "--sign-in", "harbour", "--password-env", "PORT_PW"]),
        "path",
        "no-such-stream",
        "letter by letter",
    );

    // A device by its address alone is asked for its streams.
    let boatyard = port.service("Boatyard").to_owned();
    let (code, asked) = check(&home, &[&[boatyard.as_str()], &harbour[..]].concat());
    assert_eq!((code, &asked["ok"]), (Some(0), &true.into()), "{asked}");
    stopped(&check(&home, &[&boatyard]), "sign-in", "sign-in", "give its user name");

    // Two viewers are admitted, a third is not.
    let light = port.device("Breakwater light")["sub"].as_str().unwrap().to_owned();
    let watch = |_| program().args(["measure", "--for", "25s", "--json", &light]).stdout(Stdio::null()).spawn().unwrap();
    let mut viewers: Vec<Child> = (0..2).map(watch).collect();
    let deadline = Instant::now() + Duration::from_secs(20);
    while plays(&port, "Breakwater light") < 2 {
        assert!(Instant::now() < deadline, "two viewers come in");
        std::thread::sleep(Duration::from_millis(50));
    }
    stopped(&check(&home, &[&light]), "transport", "viewer-limit", "no more viewers");
    for viewer in &mut viewers {
        let _ = viewer.kill();
        let _ = viewer.wait();
    }

    // An address that moved.
    let lane = port.sub("Car lane 3");
    // It is known by what it tells without a sign-in, once it was checked.
    assert_eq!(check(&home, &[&[lane.as_str()], &harbour[..]].concat()).0, Some(0));
    port.order("10 move 127.77.1.20");
    let moved_to = lane.replace("127.77.0.20", "127.77.1.20");
    let deadline = Instant::now() + Duration::from_secs(10);
    while std::net::TcpStream::connect(moved_to.trim_start_matches("rtsp://").split('/').next().unwrap()).is_err() {
        assert!(Instant::now() < deadline, "the stand-in moves");
        std::thread::sleep(Duration::from_millis(50));
    }
    let site = home.0.path().join("config/amber-lattice");
    std::fs::create_dir_all(&site).unwrap();
    let known = "[[camera]]\nname = \"Lane\"\naddress = \"127.77.0.20\"\nserial = \"TH-0020\"\n";
    stopped(&check(&Home::new(), &[&lane]), "port", "port-closed", "port"); // nobody knows it there
    std::fs::write(site.join("site.toml"), known).unwrap();
    let moved = check(&home, &[&[lane.as_str()], &harbour[..]].concat());
    stopped(&moved, "port", "port-closed", "answers at 127.77.1.20");
    assert_eq!(check(&home, &[&[moved_to.as_str()], &harbour[..]].concat()).0, Some(0));
}

/// A server that does with each connection what it is told.
fn serve(what: impl Fn(std::net::TcpStream) + Send + 'static) -> String {
    let listener = TcpListener::bind("127.77.8.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || listener.incoming().map_while(Result::ok).for_each(what));
    format!("rtsp://{address}/x")
}

#[test]
fn servers_that_misbehave_are_told_apart_and_never_hang_a_check() {
    let home = Home::new();
    let hung = serve(std::mem::forget);
    stopped(&check(&home, &[&hung]), "protocol", "silence", "hangs");
    let closing = serve(drop);
    stopped(&check(&home, &[&closing]), "protocol", "closed-by-camera", "closes the connection at once");
    let noise = serve(|mut stream| {
        let _ = stream.write_all(&[0x16; 4096]);
        let _ = stream.read(&mut [0; 1024]);
    });
    stopped(&check(&home, &[&noise]), "protocol", "not-rtsp", "Another service");
    let drip = serve(|mut stream| {
        for byte in b"RTSP/1.0 200 OK\r\n".iter().cycle() {
            if stream.write_all(&[*byte]).is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(400));
        }
    });
    let (code, target) = check(&home, &[&drip]);
    assert_eq!((code, &target["ok"]), (Some(1), &false.into()), "{target}");
}

#[test]
fn a_list_in_a_file_is_added_with_its_names_and_of_a_recorder_what_is_wanted() {
    let (port, home) = (StandIn::all(), Home::new());
    let list = home.0.path().join("port.csv");
    let text = format!(
        "name,group,address\nNorth,Slipways,{}\nbad,,rtsp://192.0.2.1:99999/x\nUpper,Lock,{}\n",
        port.sub("Slipway north"),
        port.service("Lock gate upper")
    );
    std::fs::write(&list, text).unwrap();
    let added = home.run(&["add", list.to_str().unwrap()]);
    assert!(added.status.success(), "{added:?}");
    assert!(String::from_utf8_lossy(&added.stderr).contains("line 3: "), "a bad row is told and spoils no other: {added:?}");
    let channels =
        ["add", port.service("Quay recorder"), "--channels", "2,5", "--sign-in", "harbour", "--password-env", "PORT_PW"];
    let recorder = home.run(&channels);
    assert!(recorder.status.success(), "{recorder:?}");
    let (_, roster) = home.json(&["roster", "--json"]);
    let cameras = roster["cameras"].as_array().unwrap();
    let told: Vec<String> =
        cameras.iter().map(|camera| format!("{} {} {}", camera["name"], camera["group"], camera["channel"])).collect();
    assert_eq!(told.len(), 5, "{told:?}");
    assert_eq!(told[..2], ["\"North\" \"Slipways\" null", "\"Upper\" \"Lock\" null"]);
    assert!(told[3].ends_with(" 2") && told[4].ends_with(" 5"), "{told:?}");
    let missing = home.run(&["add", "no-such-list.csv"]);
    assert!(
        missing.status.code() == Some(2) && String::from_utf8_lossy(&missing.stderr).contains("cannot be read"),
        "{missing:?}"
    );
}

#[test]
fn cameras_are_added_with_all_their_streams_and_no_password_in_the_file() {
    let (port, home) = (StandIn::all(), Home::new());
    let add = |args: &[&str]| home.run(&[&["add"], args].concat());
    let north = add(&[port.service("Slipway north"), "--name", "North", "--group", "Slipways"]);
    assert!(north.status.success(), "{north:?}");
    let again = add(&[port.service("Slipway north")]);
    assert_eq!(again.status.code(), Some(1), "{again:?}");
    let recorder = add(&[port.service("Quay recorder"), "--sign-in", "harbour", "--password-env", "PORT_PW"]);
    assert!(
        recorder.status.success() && String::from_utf8_lossy(&recorder.stderr).contains("a recorder with 8 channels"),
        "{recorder:?}"
    );
    let lane = add(&[port.service("Car lane 1"), "--sign-in", "harbour", "--password-env", "PORT_PW"]);
    assert!(lane.status.success(), "{lane:?}");
    let typed = add(&[port.device("Fuel quay")["main"].as_str().unwrap(), "--name", "Fuel"]);
    assert!(typed.status.success(), "{typed:?}");
    let slip = add(&["“udp://:5000”", "--name", "Regatta"]);
    assert!(slip.status.success() && String::from_utf8_lossy(&slip.stderr).contains("quotation marks"), "{slip:?}");
    let refused = add(&[port.service("Boatyard"), "--sign-in", "harbour", "--password-env", "WRONG_PW"]);
    assert_eq!(refused.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("not tried again by itself"), "{refused:?}");
    assert_eq!(add(&["rtsp://cam:99999/x"]).status.code(), Some(2));

    let (_, roster) = home.json(&["roster", "--json"]);
    let cameras = roster["cameras"].as_array().unwrap();
    assert_eq!(cameras.len(), 1 + 9 + 1 + 1 + 1, "{roster}");
    let by_name = |name: &str| cameras.iter().find(|camera| camera["name"] == name).unwrap_or_else(|| panic!("{name}: {roster}"));
    let north = by_name("North");
    assert_eq!(
        (&north["group"], &north["device_name"], &north["serial"]),
        (&"Slipways".into(), &"Slipway north".into(), &"TH-0011".into())
    );
    assert!(
        by_name("Car lane 1")["firmware_fault"].as_str().unwrap().contains("test version") && north["firmware_fault"].is_null()
    );
    let roles: Vec<&Value> = north["streams"].as_array().unwrap().iter().map(|stream| &stream["role"]).collect();
    assert_eq!(roles, ["main", "sub"]);
    assert_eq!((&by_name("Quay 3")["recorder"], &by_name("Quay 3")["channel"]), (&"Quay recorder".into(), &3.into()));
    let site = home.file("config/amber-lattice/site.toml");
    assert!(site.contains("env:PORT_PW") && !site.contains(PASSWORD) && !roster.to_string().contains(PASSWORD), "{site}");
    assert!(home.file("data/amber-lattice/sign-ins.toml").contains(PASSWORD), "kept apart from the site");
    assert!(home.run(&["roster"]).status.success());

    // A camera by its name, with the sign-in that is kept for it.
    let (code, checked) = check(&home, &["Fuel"]);
    assert_eq!((code, &checked["ok"]), (Some(0), &true.into()), "{checked}");

    // A password file that others can read is refused, a broken site is told by its line, and neither is touched.
    let file = home.0.path().join("data/amber-lattice/sign-ins.toml");
    std::fs::set_permissions(&file, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let refused = home.run(&["roster"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("chmod 600"), "{refused:?}");
    let broken = home.0.path().join("broken.toml");
    std::fs::write(&broken, "[[camera]]\nname = \"A\"\nport = 3\n").unwrap();
    let told = home.run(&["--site", broken.to_str().unwrap(), "add", "192.0.2.1"]);
    assert_eq!(told.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&told.stderr).contains("line 3, column 1"), "{told:?}");
    assert_eq!(std::fs::read_to_string(&broken).unwrap(), "[[camera]]\nname = \"A\"\nport = 3\n");
}
