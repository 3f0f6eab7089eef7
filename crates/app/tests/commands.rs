//! `measure` and `standin` as scripts use them.
#![allow(clippy::unwrap_used, missing_docs)]

use serde_json::Value;
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, Command, Output, Stdio};

const PROGRAM: &str = env!("CARGO_BIN_EXE_amber-lattice");

struct StandIn {
    child: Child,
    cameras: Vec<Value>,
}

impl StandIn {
    fn start(log: &std::path::Path) -> Self {
        let mut child = Command::new(PROGRAM)
            .args(["standin", "--port", "0", "--json", "--tied", "--log"])
            .arg(log)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let cameras = lines.take(4).map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
        Self { child, cameras }
    }

    fn order(&mut self, order: &str) {
        writeln!(self.child.stdin.as_mut().unwrap(), "{order}").unwrap();
    }

    fn sub(&self, camera: usize) -> String {
        self.cameras[camera]["sub"].as_str().unwrap().to_owned()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

fn measure(args: &[&str]) -> Output {
    Command::new(PROGRAM).arg("measure").args(args).output().unwrap()
}

fn streams(output: &Output) -> Vec<Value> {
    let report: Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
    report["streams"].as_array().unwrap().clone()
}

/// Frames of the log: (sent packets, dropped packets) for a camera.
fn logged(path: &std::path::Path, camera: &str) -> (u64, u64) {
    let text = std::fs::read_to_string(path).unwrap();
    let records = text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    let frames = records.filter(|record| record["event"] == "frame" && record["camera"] == camera);
    frames.fold((0, 0), |(sent, dropped), record| {
        (sent + record["packets"].as_u64().unwrap(), dropped + record["dropped"].as_u64().unwrap())
    })
}

/// Frames that a camera did not make in time, by its log.
fn skipped(path: &std::path::Path, camera: &str, fps: f64) -> u64 {
    let text = std::fs::read_to_string(path).unwrap();
    let records = text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    let captured: Vec<i64> = records
        .filter(|record| record["event"] == "frame" && record["camera"] == camera)
        .map(|record| record["captured"].as_i64().unwrap())
        .collect();
    captured.windows(2).map(|pair| ((pair[1] - pair[0]) as f64 * fps / 1e6).round() as u64 - 1).sum()
}

#[test]
fn measure_agrees_with_the_stand_ins_own_log() {
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("sent.jsonl");
    let standin = StandIn::start(&log);
    let output = measure(&["--for", "8s", "--json", &standin.sub(0), &standin.sub(1), &standin.sub(3)]);
    assert_eq!(output.status.code(), Some(0), "{output:?}");
    for (stream, (camera, fps)) in
        streams(&output).iter().zip([("Slipway north", 12.5), ("Lock gate upper", 5.0), ("Fuel quay", 12.5)])
    {
        assert_eq!((&stream["verdict"], &stream["cause"]), (&"steady".into(), &Value::Null), "{stream}");
        assert_eq!((&stream["codec"], &stream["width"], &stream["height"]), (&"H264".into(), &640.into(), &360.into()));
        assert_eq!(stream["fps"]["declared"], fps);
        let sent = stream["fps"]["sent"].as_f64().unwrap();
        // A busy machine makes the stand-in skip a frame now and then; the log knows, and a skipped
        // frame is one of the 5 s that the rate is taken over.
        let skipped = skipped(&log, camera, fps);
        assert!((sent - fps).abs() <= fps * 0.01 + 0.2 * skipped as f64, "{skipped} skipped: {stream}");
        assert_eq!(stream["latency_ms"]["basis"], "clock");
        assert_eq!(stream["packets"]["lost"], 0);
        let (packets, _) = logged(&log, camera);
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
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("sent.jsonl");
    let mut standin = StandIn::start(&log);
    let child = Command::new(PROGRAM)
        .args(["measure", "--for", "10s", "--json", "--no-decode", "--transport", "tcp", &standin.sub(0), &standin.sub(2)])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(std::time::Duration::from_secs(3));
    standin.order("1 stall 1.5");
    standin.order("3 loss 20 1");
    let output = child.wait_with_output().unwrap();
    let streams = streams(&output);
    let frozen = &streams[0]["dropouts"][0];
    assert_eq!((&frozen["kind"], &frozen["cause"]), (&"freeze".into(), &"silence".into()), "{}", streams[0]);
    let length = frozen["length_ms"].as_u64().unwrap();
    assert!(length.abs_diff(1500) <= 80, "within a frame period: {length}");
    assert!(frozen["start"].as_str().unwrap().ends_with('Z'));
    let (_, dropped) = logged(&log, "Car lane 2");
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
    assert!(Command::new(PROGRAM).args(["completions", "bash"]).output().unwrap().stdout.len() > 500);
}
