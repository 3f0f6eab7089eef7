//! Pushed streams, stills and pictures by HTTP, measured as scripts do it.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "support/port.rs"]
mod port;

use port::{StandIn, program};
use serde_json::Value;
use std::net::UdpSocket;
use std::process::{Child, Output, Stdio};
use std::time::Duration;

fn start(args: &[&str]) -> Child {
    program().args(args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

fn stream(output: &Output) -> Value {
    let report: Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
    report["streams"][0].clone()
}

fn free_port() -> u16 {
    UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

#[test]
fn two_pushed_streams_are_measured_at_once_and_a_second_sender_is_named() {
    let mut standin = StandIn::four();
    let (plain, rtp) = (free_port(), free_port());
    let listen = |port: u16| start(&["listen", &port.to_string(), "--for", "9s", "--json"]);
    let (first, second) = (listen(plain), listen(rtp));
    standin.order(&format!("1 push 127.0.0.1:{plain} 60"));
    standin.order(&format!("2 push-rtp 127.0.0.1:{rtp} 60"));
    std::thread::sleep(Duration::from_secs(3)); // the first sender is heard before the second begins
    standin.order(&format!("3 push 127.0.0.1:{plain} 60"));
    let (first, second) = (first.wait_with_output().unwrap(), second.wait_with_output().unwrap());
    let (a, b) = (stream(&first), stream(&second));
    assert_eq!((first.status.code(), second.status.code()), (Some(0), Some(0)), "{a} {b}");
    for (name, stream) in [("udp", &a), ("rtp", &b)] {
        assert_eq!(
            (&stream["codec"], &stream["width"], &stream["height"]),
            (&"H264".into(), &640.into(), &360.into()),
            "{name} {stream}"
        );
        assert!(stream["packets"]["received"].as_u64().unwrap() > 50, "{name} {stream}");
        assert_eq!(stream["packets"]["lost"], 0, "{name} {stream}");
        assert!(stream["frames"]["decoded"].as_u64().unwrap() > 10, "{name} {stream}");
        assert_eq!(stream["frames"]["damaged"], 0, "{name} {stream}");
    }
    assert!(a["detail"].as_str().unwrap().contains("is not mixed in"), "{a}");
    assert!(b["detail"].is_null(), "{b}");
}

#[test]
fn a_port_that_is_taken_silent_or_sent_noise_is_told() {
    let taken = UdpSocket::bind("0.0.0.0:0").unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let held = start(&["listen", &port, "--for", "1s", "--json"]).wait_with_output().unwrap();
    assert_eq!(held.status.code(), Some(1));
    assert!(stream(&held)["detail"].as_str().unwrap().contains("another program listens"), "{held:?}");
    let port = free_port();
    let silent = start(&["listen", &port.to_string(), "--for", "1s", "--json"]).wait_with_output().unwrap();
    let silent = stream(&silent);
    assert_eq!(
        (&silent["verdict"], &silent["cause"], &silent["fps"]["arrived"]),
        (&"waiting".into(), &Value::Null, &Value::Null)
    );
    let port = free_port();
    let noisy = start(&["listen", &port.to_string(), "--for", "4s", "--json"]);
    let sender = UdpSocket::bind("127.0.0.1:0").unwrap();
    for n in 0..60u8 {
        let _ = sender.send_to(&[n; 700], ("127.0.0.1", port));
        std::thread::sleep(Duration::from_millis(50));
    }
    let noisy = stream(&noisy.wait_with_output().unwrap());
    let detail = noisy["detail"].as_str().unwrap();
    assert!(detail.contains("not MPEG-TS") && detail.contains(&sender.local_addr().unwrap().to_string()), "{noisy}");
}

#[test]
fn rtp_is_received_by_its_session_description() {
    let folder = tempfile::tempdir().unwrap();
    let sdp = folder.path().join("feed.sdp");
    let port = free_port();
    std::fs::write(
        &sdp,
        "v=0\r\nm=audio 5006 RTP/AVP 0\r\nm=video 5004 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=framerate:20\r\n",
    )
    .unwrap();
    let listen = start(&["listen", &port.to_string(), "--sdp", sdp.to_str().unwrap(), "--for", "5s", "--json", "--no-decode"]);
    let sender = UdpSocket::bind("127.0.0.1:0").unwrap();
    for n in 0..90u32 {
        let nal: &[u8] = if n.is_multiple_of(10) { &[0x65, 0x88, 1, 2] } else { &[0x41, 0x9a, 3] };
        let mut packet = vec![0x80, 0xe0];
        packet.extend((n as u16).to_be_bytes());
        packet.extend((n * 4500).to_be_bytes());
        packet.extend([0, 0, 0, 9]);
        packet.extend_from_slice(nal);
        let _ = sender.send_to(&packet, ("127.0.0.1", port));
        std::thread::sleep(Duration::from_millis(50));
    }
    let stream = stream(&listen.wait_with_output().unwrap());
    assert_eq!((&stream["codec"], &stream["fps"]["declared"]), (&"H264".into(), &20.0.into()), "{stream}");
    assert!(stream["frames"]["received"].as_u64().unwrap() > 30, "{stream}");
    assert_eq!(stream["audio"], serde_json::json!(["PCMU"]));
    std::fs::write(&sdp, "not a description").unwrap();
    let refused = start(&["listen", "5999", "--sdp", sdp.to_str().unwrap()]).wait_with_output().unwrap();
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("describes no video"), "{refused:?}");
}

#[test]
fn stills_and_multipart_pictures_come_by_http() {
    let standin = StandIn::four();
    let measure = |url: &str, span: &str| start(&["measure", "--json", "--for", span, url]).wait_with_output().unwrap();
    let still = measure(&format!("http://{}/still.jpg", standin.service("Slipway north")), "2s");
    assert_eq!(still.status.code(), Some(0), "{still:?}");
    let still = stream(&still);
    assert_eq!((&still["codec"], &still["width"], &still["transport"]), (&"JPEG".into(), &640.into(), &"http".into()), "{still}");
    assert_eq!((&still["still_every_s"], &still["fps"]["sent"]), (&5.0.into(), &Value::Null), "a still is no stream: {still}");
    let live = stream(&measure(&format!("http://{}/pictures.mjpg", standin.service("Lock gate upper")), "4s"));
    assert_eq!((&live["codec"], &live["still_every_s"]), (&"JPEG".into(), &Value::Null), "{live}");
    assert!(live["frames"]["decoded"].as_u64().unwrap() >= 4, "{live}");
    // A sign-in, wanted and given, by Digest.
    let locked = stream(&measure(&format!("http://{}/still.jpg", standin.service("Fuel quay")), "1s"));
    assert_eq!((&locked["verdict"], &locked["cause"]), (&"locked".into(), &"sign-in".into()), "{locked}");
    let opened = measure(&format!("http://harbour:ebb-and-flow@{}/still.jpg", standin.service("Fuel quay")), "2s");
    assert_eq!(opened.status.code(), Some(0), "{opened:?}");
    let missing = stream(&measure(&format!("http://{}/nothing.jpg", standin.service("Slipway north")), "1s"));
    assert_eq!((&missing["verdict"], &missing["cause"]), (&"lost".into(), &"no-such-stream".into()), "{missing}");
}
