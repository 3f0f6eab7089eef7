//! Devices and networks that misbehave: bounded time and memory, and a sentence.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::find::{DeviceKind, Exposure, Findings, MAX_FOUND};
use lattice_core::onvif::{Match, emit_match};
use lattice_net::find::{FindConfig, Search};
use lattice_net::{Device, DeviceError};
use std::io::{Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

/// An HTTP server that answers every request so.
fn serve(answer: impl Fn(&mut TcpStream) + Send + Sync + 'static) -> SocketAddr {
    let listener = TcpListener::bind("127.77.7.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let answer = std::sync::Arc::new(answer);
    std::thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            let answer = answer.clone();
            std::thread::spawn(move || {
                let _ = stream.read(&mut [0; 4096]);
                answer(&mut stream);
            });
        }
    });
    address
}

fn whole(body: &str) -> String {
    format!("HTTP/1.1 200 OK\r\nContent-Type: application/soap+xml\r\nContent-Length: {}\r\n\r\n{body}", body.len())
}

#[track_caller]
fn ask(address: SocketAddr) -> (DeviceError, Duration) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let mut device = Device::new(&address.ip().to_string(), address.port(), None, None);
    let began = Instant::now();
    let error = runtime.block_on(device.greet()).unwrap_err();
    (error, began.elapsed())
}

#[test]
fn answers_without_end_or_sense_are_refused_with_a_sentence() {
    let bomb = format!("<!DOCTYPE x [<!ENTITY a \"{}\">]><Envelope><Body><a>&a;</a></Body></Envelope>", "z".repeat(1000));
    let deep = format!("{}{}", "<a>".repeat(5000), "</a>".repeat(5000));
    for (name, body, want) in [
        ("an entity bomb", bomb, "document type"),
        ("deep nesting", deep, "nested too deeply"),
        ("cut off", "<Envelope><Body><GetSys".to_owned(), "malformed"),
        ("a web page", "<html><body>hello</body></html>".to_owned(), "no ONVIF device service"),
        ("no XML", "hello".to_owned(), "no ONVIF device service"),
    ] {
        let (error, _) = ask(serve(move |stream| drop(stream.write_all(whole(&body).as_bytes()))));
        assert!(error.to_string().contains(want), "{name}: {error}");
    }
    let gigabyte = serve(|stream| {
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 1073741824\r\n\r\n<a>");
        let blank = vec![b' '; 65_536];
        while stream.write_all(&blank).is_ok() {}
    });
    let (error, _) = ask(gigabyte);
    assert!(error.to_string().contains("longer than"), "{error}");
    let headers = serve(|stream| {
        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\n");
        while stream.write_all(b"X-More: and more\r\n").is_ok() {}
    });
    let (error, _) = ask(headers);
    assert!(error.to_string().contains("does not speak HTTP"), "{error}");
    let drip = serve(|stream| {
        for byte in b"HTTP/1.1 200 OK\r\nContent-Length: 5000\r\n\r\n".iter().chain([b' '; 5000].iter()) {
            if stream.write_all(&[*byte]).is_err() {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    });
    let (error, took) = ask(drip);
    assert!(error.to_string().contains("within 5 s") && took < Duration::from_secs(20), "{error} after {took:?}");
}

/// Runs a search to its end.
fn search(config: FindConfig) -> Findings {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let mut search = Search::begin(runtime.handle(), config);
    let mut findings = Findings::default();
    findings.begin(|_, _| true);
    runtime.block_on(async {
        while let Some(found) = search.news.recv().await {
            findings.learn(found.address, found.learnt);
        }
    });
    runtime.shutdown_background();
    findings
}

/// Answers each probe that comes to an address with what it is told to.
fn responder(address: Ipv4Addr, answer: impl Fn(&UdpSocket, SocketAddr) + Send + 'static) {
    let socket = UdpSocket::bind((address, 3702)).unwrap();
    std::thread::spawn(move || {
        let mut buffer = [0; 4096];
        let mut answered = std::collections::HashSet::new();
        while let Ok((_, from)) = socket.recv_from(&mut buffer) {
            if answered.insert(from) {
                answer(&socket, from);
            }
        }
    });
}

#[test]
fn ten_thousand_answers_and_other_peoples_addresses_do_no_harm() {
    let asked_elsewhere = TcpListener::bind("127.77.7.9:0").unwrap();
    asked_elsewhere.set_nonblocking(true).unwrap();
    let stranger = asked_elsewhere.local_addr().unwrap();
    let (liar, flood) = (Ipv4Addr::new(127, 77, 7, 21), Ipv4Addr::new(127, 77, 7, 22));
    responder(liar, move |socket, from| {
        let device = Match {
            endpoint: "urn:uuid:liar".into(),
            types: vec!["NetworkVideoTransmitter".into()],
            scopes: vec![],
            addresses: vec![format!("http://{stranger}/onvif/device_service")],
        };
        let _ = socket.send_to(emit_match("x", &device).as_bytes(), from);
        let _ = socket.send_to(b"\x00\xff not xml <<<", from);
    });
    responder(flood, |socket, from| {
        for n in 0..10_000 {
            let device = Match { endpoint: format!("urn:uuid:{n}"), ..Match::default() };
            let _ = socket.send_to(emit_match("x", &device).as_bytes(), from);
        }
    });
    let mut config = FindConfig::new(Vec::new(), Vec::new());
    config.probe_hosts = vec![liar, flood];
    config.ports = vec![9];
    let began = Instant::now();
    let findings = search(config);
    assert!(began.elapsed() < Duration::from_secs(30));
    assert!(findings.devices().count() <= 2 && findings.devices().count() < MAX_FOUND, "one device an address");
    let found = findings.get(IpAddr::V4(liar)).unwrap();
    assert_eq!((found.announces.as_deref(), found.service_port, found.kind), (Some("127.77.7.9"), None, DeviceKind::Camera));
    assert!(asked_elsewhere.accept().is_err(), "an address that somebody else announces is never asked");
}

#[test]
fn a_camera_that_lies_open_at_its_own_path_only_is_marked() {
    let server = |host: u8, open: &'static str| {
        let listener = TcpListener::bind((Ipv4Addr::new(127, 77, 7, host), 8554)).unwrap();
        let answer = move |stream: &mut TcpStream| {
            let (mut asked, mut chunk) = (String::new(), [0; 2048]);
            while let Ok(count @ 1..) = stream.read(&mut chunk) {
                asked.push_str(&String::from_utf8_lossy(&chunk[..count]));
                while let Some((request, rest)) = asked.clone().split_once("\r\n\r\n") {
                    let cseq = request.split("CSeq: ").nth(1).and_then(|rest| rest.lines().next()).unwrap_or("0").to_owned();
                    let line = request.lines().next().unwrap_or_default();
                    let status = match () {
                        () if line.starts_with("OPTIONS") => "200 OK\r\nPublic: OPTIONS, DESCRIBE",
                        () if !line.contains("/stream1 ") => "404 Not Found",
                        () => open,
                    };
                    let sdp = "v=0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n";
                    let body = if status == "200 OK" { sdp } else { "" };
                    let head = format!("RTSP/1.0 {status}\r\nCSeq: {cseq}\r\nContent-Length: {}\r\n\r\n{body}", body.len());
                    let _ = stream.write_all(head.as_bytes());
                    rest.clone_into(&mut asked);
                }
            }
        };
        std::thread::spawn(move || {
            for mut stream in listener.incoming().map_while(Result::ok) {
                std::thread::spawn(move || answer(&mut stream));
            }
        });
    };
    server(41, "200 OK");
    server(42, "401 Unauthorized\r\nWWW-Authenticate: Digest realm=\"quay\", nonce=\"1\"");
    let mut config = FindConfig::new(vec!["127.77.7.41-127.77.7.42".parse().unwrap()], Vec::new());
    config.ports = vec![8554];
    let findings = search(config);
    let of = |host: u8| findings.get(IpAddr::V4(Ipv4Addr::new(127, 77, 7, host))).map(|found| (found.locked, found.exposed));
    assert_eq!(of(41), Some((Some(false), Some(Exposure::NoPassword))));
    assert_eq!(of(42), Some((Some(true), None)));
}
