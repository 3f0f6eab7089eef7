//! `measure` and `standin` as scripts use them.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;

use port::{StandIn, program};
use serde_json::Value;
use std::process::{Output, Stdio};

fn measure(args: &[&str]) -> Output {
    program().arg("measure").args(args).output().unwrap()
}

fn streams(output: &Output) -> Vec<Value> {
    let report: Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
    report["streams"].as_array().unwrap().clone()
}

/// Frames of the log: (sent packets, dropped packets) for a camera.
fn logged(standin: &StandIn, camera: &str) -> (u64, u64) {
    let records = standin.logged();
    let frames = records.iter().filter(|record| record["event"] == "frame" && record["camera"] == camera);
    frames.fold((0, 0), |(sent, dropped), record| {
        (sent + record["packets"].as_u64().unwrap(), dropped + record["dropped"].as_u64().unwrap())
    })
}

/// Time between one sent frame of a camera and the next by its log, in microseconds: when they were `captured`, or `at` what
/// time they were sent.
fn gaps(standin: &StandIn, camera: &str, when: &str) -> Vec<i64> {
    let records = standin.logged();
    let sent = records.iter().filter(|record| record["event"] == "frame" && record["camera"] == camera);
    let times: Vec<i64> = sent.map(|record| record[when].as_i64().unwrap()).collect();
    times.windows(2).map(|pair| pair[1] - pair[0]).collect()
}

/// Frames that a camera did not make in time, by its log.
fn skipped(standin: &StandIn, camera: &str, fps: f64) -> u64 {
    gaps(standin, camera, "captured").iter().map(|gap| (*gap as f64 * fps / 1e6).round() as u64 - 1).sum()
}

#[test]
fn measure_agrees_with_the_stand_ins_own_log() {
    let standin = StandIn::four();
    let output = measure(&[
        "--for",
        "8s",
        "--json",
        &standin.sub("Slipway north"),
        &standin.sub("Lock gate upper"),
        standin.device("Fuel quay")["sub"].as_str().unwrap(),
    ]);
    assert_eq!(output.status.code(), Some(0), "{output:?}");
    for (stream, (camera, fps)) in
        streams(&output).iter().zip([("Slipway north", 12.5), ("Lock gate upper", 5.0), ("Fuel quay", 12.5)])
    {
        assert_eq!((&stream["codec"], &stream["width"], &stream["height"]), (&"H264".into(), &640.into(), &360.into()));
        assert_eq!(stream["fps"]["declared"], fps);
        let sent = stream["fps"]["sent"].as_f64().unwrap();
        // A busy machine makes the stand-in skip a frame now and then; the log knows, and a skipped
        // frame is one of the 5 s that the rate is taken over.
        let skipped = skipped(&standin, camera, fps);
        if skipped < 3 {
            assert_eq!((&stream["verdict"], &stream["cause"]), (&"steady".into(), &Value::Null), "{stream}");
        }
        let off = if skipped == 0 { 0.0 } else { 0.2 * (skipped + 1) as f64 };
        assert!((sent - fps).abs() <= fps * 0.01 + off, "{skipped} skipped: {stream}");
        assert_eq!(stream["latency_ms"]["basis"], "clock");
        assert_eq!(stream["packets"]["lost"], 0);
        let (packets, _) = logged(&standin, camera);
        let received = stream["packets"]["received"].as_u64().unwrap();
        // The session ends while frames are on their way.
        assert!(packets >= received && packets - received < 60, "{packets} sent, {received} received");
        assert_eq!(stream["frames"]["damaged"], 0);
        let frames = &stream["frames"];
        assert!(frames["decoded"].as_u64().unwrap() + 2 >= frames["received"].as_u64().unwrap(), "{stream}");
        assert!(!output.stdout.windows(12).any(|w| w == b"ebb-and-flow"), "the password is not printed");
    }
}

#[test]
fn measure_reports_loss_and_a_freeze_with_their_causes() {
    let mut standin = StandIn::four();
    let child = program()
        .args([
            "measure",
            "--for",
            "10s",
            "--json",
            "--no-decode",
            "--transport",
            "tcp",
            &standin.sub("Slipway north"),
            &standin.sub("Car lane 2"),
        ])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(std::time::Duration::from_secs(3));
    standin.order("1 stall 1.5");
    standin.order("3 loss 20 1");
    let output = child.wait_with_output().unwrap();
    let streams = streams(&output);
    // A busy machine makes stutters of its own: the freeze is the longest, in the log as in the figures.
    let dropouts = streams[0]["dropouts"].as_array().unwrap();
    let frozen = dropouts.iter().max_by_key(|dropout| dropout["length_ms"].as_u64()).unwrap();
    assert_eq!((&frozen["kind"], &frozen["cause"]), (&"freeze".into(), &"silence".into()), "{}", streams[0]);
    let length = frozen["length_ms"].as_f64().unwrap();
    // A busy machine sends a frame some time after it was captured.
    let silent = *gaps(&standin, "Slipway north", "at").iter().max().unwrap() as f64 / 1e3 - 80.0;
    assert!(silent > 1300.0, "the order was followed: {silent} ms");
    let late = streams[0]["latency_ms"]["p95"].as_f64().unwrap();
    assert!((length - silent).abs() <= 80.0 + late, "within a frame period: {length} of {silent} ms, {late} ms late");
    assert!(frozen["start"].as_str().unwrap().ends_with('Z'));
    // The same as an event, with what speaks for its cause.
    let event = |stream: &Value, cause: &str, confidence: &str| {
        let events = stream["events"].as_array().unwrap().clone();
        events.into_iter().find(|event| event["cause"] == cause && event["confidence"] == confidence)
    };
    let freeze = event(&streams[0], "silence", "high").unwrap_or_else(|| panic!("{}", streams[0]));
    assert_eq!(
        (&freeze["at"], &freeze["length_ms"], &freeze["running"]),
        (&frozen["start"], &frozen["length_ms"], &false.into())
    );
    assert!(freeze["evidence"].as_str().unwrap().contains("the camera sent nothing"), "{freeze}");
    assert!(event(&streams[1], "packet-loss", "high").is_some(), "{}", streams[1]);
    let (_, dropped) = logged(&standin, "Car lane 2");
    assert!(dropped > 0);
    assert_eq!(streams[1]["packets"]["lost"].as_u64().unwrap(), dropped, "{}", streams[1]);
    assert!(streams[1]["frames"]["damaged"].as_u64().unwrap() > 0);
    assert_eq!(streams[1]["frames"]["decoded"], Value::Null);
}

#[test]
fn bad_arguments_and_dead_sources_have_their_exit_status() {
    for (args, code, text) in [
        (vec!["--for", "1s", "http://127.0.0.1/"], 2, "web page"),
        (vec!["--for", "soon", "rtsp://127.0.0.1/x"], 2, "write it like 10s"),
        (vec![], 2, "URL"),
    ] {
        let output = measure(&args);
        assert_eq!(output.status.code(), Some(code), "{args:?}");
        assert!(String::from_utf8_lossy(&output.stderr).contains(text), "{output:?}");
    }
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let url = format!("rtsp://{free}/x");
    let output = measure(&["--for", "1s", "--json", &url]);
    assert_eq!(output.status.code(), Some(1));
    let stream = &streams(&output)[0];
    assert_eq!(
        (&stream["verdict"], &stream["cause"], &stream["fps"]["sent"]),
        (&"lost".into(), &"port-closed".into(), &Value::Null)
    );
    let table = measure(&["--for", "1s", &url]);
    let text = String::from_utf8_lossy(&table.stdout).into_owned();
    assert!(text.contains("lost") && text.contains("check the port"), "{text}");
    assert!(program().args(["completions", "bash"]).output().unwrap().stdout.len() > 500);
    // What packages take: a page for the program and for each command, completions for five shells.
    let folder = tempfile::tempdir().unwrap();
    assert!(program().arg("manual").arg(folder.path().join("new")).status().unwrap().success());
    let page = |name: &str| std::fs::read_to_string(folder.path().join("new/man").join(name)).unwrap_or_default();
    assert!(
        page("amber-lattice.1").contains(".TH amber-lattice 1") && page("amber-lattice-report.1").contains("Report a time back")
    );
    let count = |folder: std::path::PathBuf| std::fs::read_dir(folder).unwrap().count();
    assert!(count(folder.path().join("new/man")) > 15 && count(folder.path().join("new")) == 6);
    std::fs::write(folder.path().join("file"), "").unwrap();
    let output = program().arg("manual").arg(folder.path().join("file")).output().unwrap();
    assert!(!output.status.success() && String::from_utf8_lossy(&output.stderr).contains("cannot be made"));
}

#[test]
fn a_lattice_goes_out_of_one_site_and_into_another() {
    let home = port::Home::new();
    let (site, other, file) = (home.0.path().join("site.toml"), home.0.path().join("other.toml"), home.0.path().join("six.toml"));
    let text = "[[lattice]] # before seven\nname = \"morning six\"\nlayout = \"1+5\"\ntiles = [{ camera = \"Slipway north\" }]\n";
    std::fs::write(&site, text).unwrap();
    let lattice = |site: &std::path::Path, arguments: &[&str]| {
        let output = home.program().arg("--site").arg(site).arg("lattice").args(arguments).output().unwrap();
        let said = [output.stdout, output.stderr].concat();
        (output.status.code(), String::from_utf8(said).unwrap())
    };
    let path = file.to_str().unwrap();
    assert_eq!(lattice(&site, &["list"]), (Some(0), "morning six\t1+5\t1 camera\n".into()));
    assert_eq!(lattice(&site, &["export", "morning six", path]), (Some(0), String::new()));
    let (code, told) = lattice(&site, &["export", "morning six", path]);
    assert!(code == Some(2) && told.contains("six.toml"), "a file that is there is not written over: {told}");
    let (code, told) = lattice(&site, &["export", "evening", path]);
    assert!(code == Some(2) && told.contains("lattice list"), "{told}");
    assert_eq!(lattice(&other, &["import", path]), (Some(0), "morning six\n".into()));
    assert_eq!(lattice(&other, &["import", path]), (Some(0), "morning six 2\n".into()));
    assert_eq!(lattice(&other, &["list"]).1.lines().count(), 2);
    std::fs::write(&file, "[[lattice]]\nname = \"x\"\nlayout = \"7\"\n").unwrap();
    let (code, told) = lattice(&other, &["import", path]);
    assert!(code == Some(2) && told.contains("line 3, column 10"), "{told}");
    assert_eq!(std::fs::read_to_string(&site).unwrap(), text);
}

#[test]
fn a_still_of_a_camera_of_the_site_is_written_once_and_says_what_was_adjusted() {
    let standin = StandIn::four();
    let folder = tempfile::tempdir().unwrap();
    let site = folder.path().join("site.toml");
    let text = format!(
        "[[camera]]\nname = \"Slipway north\"\nadjust = {{ one-colour = true }}\n[[camera.stream]]\nrole = \"sub\"\nurl = \"{}\"\n\
         [[camera]]\nname = \"Nobody\"\n[[camera.stream]]\nrole = \"sub\"\nurl = \"rtsp://127.77.0.200:9/x\"\n",
        standin.sub("Slipway north")
    );
    std::fs::write(&site, text).unwrap();
    let still = |args: &[&str]| program().arg("--site").arg(&site).arg("still").args(args).output().unwrap();
    let (one, other) = (folder.path().join("one.png"), folder.path().join("two.jpg"));
    let said = still(&["slip", "--out", one.to_str().unwrap(), "--bare", "--json"]);
    assert_eq!(said.status.code(), Some(0), "{said:?}");
    let report: Value = serde_json::from_slice(&said.stdout).unwrap();
    assert_eq!((&report["width"], &report["height"], &report["stream"]), (&640.into(), &360.into(), &"sub".into()));
    assert!(report["adjusted"].as_str().unwrap().contains("one colour"), "{report}");
    assert!(std::fs::read(&one).unwrap().starts_with(b"\x89PNG"));
    // In one warm colour red is never less than blue; as it comes, the sea is blue.
    let blue = |path: &std::path::Path| {
        let mut reader = png::Decoder::new(std::io::BufReader::new(std::fs::File::open(path).unwrap())).read_info().unwrap();
        let mut bytes = vec![0; reader.output_buffer_size()];
        reader.next_frame(&mut bytes).unwrap();
        bytes.as_chunks::<3>().0.iter().filter(|[r, _, b]| b > r).count()
    };
    assert_eq!(blue(&one), 0);
    let plain = folder.path().join("plain.png");
    assert_eq!(still(&["slip", "--out", plain.to_str().unwrap(), "--bare", "--as-it-comes"]).status.code(), Some(0));
    assert!(blue(&plain) > 640 * 360 / 10);
    let said = still(&["slip", "--out", other.to_str().unwrap()]);
    assert!(said.status.success() && String::from_utf8_lossy(&said.stdout).contains("640x360 of Slipway north sub, adjusted"));
    assert!(std::fs::read(&other).unwrap().starts_with(&[0xff, 0xd8]));
    for (args, code, what) in [
        (&["slip", "--out", other.to_str().unwrap()][..], 2, "no file is written over"),
        (&["slip", "--out", "x.bmp"], 2, "neither .png nor .jpg"),
        (&["slip", "--stream", "main", "--out", "x.png"], 2, "has no such stream"),
        (&["crane", "--out", "x.png"], 2, "no camera"),
        (&["nobody", "--out", "x.png", "--within", "2s"], 1, "no picture within 2 s"),
    ] {
        let said = still(args);
        let text = String::from_utf8_lossy(&said.stderr).into_owned();
        assert!(said.status.code() == Some(code) && text.contains(what), "{args:?}: {:?} {text}", said.status);
    }
}
