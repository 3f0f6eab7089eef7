//! Devices that speak RTSP and RTP nearly as the standards say, each in its own way: the stream is received all the same, or
//! what is wrong is said. All of them at once, each a server of plain sockets that replays a clip.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::meter::Figures;
use lattice_core::video::{NalKind, annex_b, packetize};
use lattice_core::{Cause, TransportChoice, Verdict};
use lattice_net::{Runtime, Source, SourceConfig};
use std::io::{ErrorKind, Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream, UdpSocket};
use std::sync::{Arc, LazyLock};
use std::time::{Duration, Instant};

/// Whatever is awaited happens within this time, on a starved machine as well.
const WITHIN: Duration = Duration::from_secs(90);
const PERIOD: Duration = Duration::from_millis(40);

/// The access units of a clip of 640x360 at 25/s, as NAL units.
static CLIP: LazyLock<Vec<Vec<Vec<u8>>>> = LazyLock::new(|| {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../fixtures/streams/h264_cbaseline_640x360_25.h264");
    let bytes = std::fs::read(path).unwrap();
    let mut units: Vec<Vec<Vec<u8>>> = Vec::new();
    for nal in annex_b(&bytes) {
        if NalKind::of(nal[0]) == NalKind::Delimiter {
            units.push(Vec::new());
        } else {
            units.last_mut().unwrap().push(nal.to_vec());
        }
    }
    units
});

fn base64(bytes: &[u8]) -> String {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let group = |group: &[u8]| {
        let bits = group.iter().chain([0, 0].iter()).take(3).fold(0u32, |bits, byte| bits << 8 | u32::from(*byte));
        let letter = |n: usize| if n <= group.len() { LETTERS[(bits >> (18 - 6 * n) & 63) as usize] as char } else { '=' };
        (0..4).map(letter).collect::<String>()
    };
    bytes.chunks(3).map(group).collect()
}

/// The parameter sets of the clip as a description gives them (RFC 6184, 8.1).
fn sprop() -> String {
    let sets = CLIP[0].iter().filter(|nal| matches!(nal[0] & 31, 7 | 8));
    sets.map(|nal| base64(nal)).collect::<Vec<_>>().join(",")
}

/// One RTP packet on its way out.
struct Packet {
    channel: u8,
    bytes: Vec<u8>,
}

/// How a device differs from one that does everything right.
#[derive(Clone, Copy)]
struct Quirks {
    name: &'static str,
    /// What of its answers is changed before they go out.
    answer: fn(&str) -> String,
    /// Of its description.
    sdp: fn(&str) -> String,
    /// `Content-Base` as it is said.
    base: fn(&str) -> String,
    /// The status of its answer to a method, where that is not 200.
    status: fn(&str) -> u16,
    /// What it answers for the transport that was asked for.
    transport: fn(&str) -> String,
    /// Channel of its RTP packets.
    channel: u8,
    session: &'static str,
    /// Answers go out in pieces of so many bytes.
    pieces: usize,
    /// The parameter sets are in the stream.
    in_band: bool,
    /// Packets go out before the answer to PLAY does.
    hasty: bool,
    /// Packets of a frame, changed: number of the frame, packets.
    packets: fn(u64, &mut Vec<Packet>),
    /// NAL units of a frame, changed.
    nals: fn(&mut Vec<Vec<u8>>),
    /// Requests that must come at least this often, or it forgets the session.
    forgets: Option<Duration>,
}

const RIGHT: Quirks = Quirks {
    name: "everything right",
    answer: str::to_owned,
    sdp: str::to_owned,
    base: |url| format!("Content-Base: {url}/\r\n"),
    status: |_| 200,
    transport: |_| "RTP/AVP/TCP;unicast;interleaved=0-1;ssrc=0000002A".into(),
    channel: 0,
    session: "1234567;timeout=60",
    pieces: usize::MAX,
    in_band: true,
    hasty: false,
    packets: |_, _| {},
    nals: |_| {},
    forgets: None,
};

fn each(packets: &mut [Packet], change: impl Fn(&mut Vec<u8>)) {
    for packet in packets {
        change(&mut packet.bytes);
    }
}

/// A sender report whose clock says nothing (RFC 3550, 6.4.1: NTP time of zero).
fn report_without_time(n: u64) -> Packet {
    let mut bytes = vec![0x80, 200, 0, 6];
    bytes.extend(42u32.to_be_bytes());
    bytes.extend([0; 8]);
    bytes.extend(((n * 3600) as u32).to_be_bytes());
    bytes.extend([0; 8]);
    Packet { channel: 1, bytes }
}

const QUIRKS: [Quirks; 30] = [
    RIGHT,
    Quirks { name: "lower-case header names", answer: lower_case_names, ..RIGHT },
    Quirks { name: "lines that end in LF alone", answer: |text| text.replace("\r\n", "\n"), ..RIGHT },
    Quirks { name: "spaces about the colons of headers", answer: |text| text.replace(": ", "  :   "), ..RIGHT },
    Quirks { name: "answers without CSeq", answer: without_cseq, ..RIGHT },
    Quirks { name: "a status line without a reason", answer: |text| text.replacen(" OK\r\n", "\r\n", 1), ..RIGHT },
    Quirks { name: "empty lines between answers", answer: |text| format!("\r\n\r\n{text}"), ..RIGHT },
    Quirks { name: "answers byte by byte", pieces: 1, ..RIGHT },
    Quirks {
        name: "no content base, the control an absolute URL of an address that it does not have",
        base: |_| String::new(),
        sdp: elsewhere,
        ..RIGHT
    },
    Quirks { name: "a content base without its last slash", base: |url| format!("Content-Base: {url}\r\n"), ..RIGHT },
    Quirks { name: "a content base that is no URL", base: |_| "Content-Base: /live/\r\n".into(), ..RIGHT },
    Quirks { name: "audio and metadata before the video", sdp: more_media, ..RIGHT },
    Quirks { name: "a session description with LF alone, blanks at line ends and an empty line", sdp: untidy, ..RIGHT },
    Quirks { name: "the codec's name in lower case, no control, a frame rate of zero", sdp: sparse, ..RIGHT },
    Quirks { name: "parameter sets in the description only", in_band: false, sdp: with_sets, ..RIGHT },
    Quirks { name: "parameter sets in the stream only, broken ones in the description", sdp: broken_sets, ..RIGHT },
    Quirks {
        name: "other channels than were asked for",
        transport: |_| "RTP/AVP/TCP;unicast;interleaved=6-7".into(),
        channel: 6,
        ..RIGHT
    },
    Quirks { name: "a transport without channels", transport: |_| "RTP/AVP/TCP".into(), ..RIGHT },
    Quirks {
        name: "a transport in other words: mode, quotes, blanks",
        transport: |_| "RTP/AVP/TCP; unicast; interleaved=0-1; mode=\"PLAY\"; ssrc= 2a".into(),
        ..RIGHT
    },
    Quirks { name: "a session with blanks about its parts", session: " 77 ; timeout = 60 ", ..RIGHT },
    Quirks { name: "packets before the answer to PLAY", hasty: true, ..RIGHT },
    Quirks { name: "no marker bits", packets: |_, packets| each(packets, |bytes| bytes[1] &= 0x7f), ..RIGHT },
    Quirks { name: "header extensions, contributing sources and padding", packets: |_, packets| each(packets, dressed), ..RIGHT },
    Quirks {
        name: "start codes within its packets",
        nals: |nals| nals.iter_mut().for_each(|nal| drop(nal.splice(0..0, [0, 0, 0, 1]))),
        ..RIGHT
    },
    Quirks {
        name: "foreign channels, empty frames, nonsense among its packets",
        packets: |_, packets| nonsense(packets),
        ..RIGHT
    },
    Quirks { name: "sender reports without a time", packets: |n, packets| packets.push(report_without_time(n)), ..RIGHT },
    Quirks { name: "another source identifier and sequence every 40 frames", packets: begins_anew, ..RIGHT },
    Quirks { name: "no OPTIONS", status: |method| if method == "OPTIONS" { 501 } else { 200 }, ..RIGHT },
    Quirks {
        name: "forgets who does not ask within four seconds, and knows no GET_PARAMETER",
        session: "9;timeout=4",
        forgets: Some(Duration::from_secs(4)),
        status: |method| if method == "GET_PARAMETER" { 405 } else { 200 },
        ..RIGHT
    },
    Quirks {
        name: "asks questions of its own",
        packets: |n, packets| {
            if n == 3 {
                packets
                    .insert(0, Packet { channel: b'O', bytes: b"OPTIONS rtsp://viewer/ RTSP/1.0\r\nCSeq: 1\r\n\r\n".to_vec() });
            }
        },
        ..RIGHT
    },
];

fn lower_case_names(text: &str) -> String {
    let line = |line: &str| match line.split_once(": ") {
        Some((name, value)) if !name.contains('=') => format!("{}: {value}", name.to_ascii_lowercase()),
        _ => line.to_owned(),
    };
    text.split("\r\n").map(line).collect::<Vec<_>>().join("\r\n")
}

fn without_cseq(text: &str) -> String {
    text.split("\r\n").filter(|line| !line.starts_with("CSeq")).collect::<Vec<_>>().join("\r\n")
}

fn elsewhere(sdp: &str) -> String {
    sdp.replace("a=control:track1", "a=control:rtsp://192.0.2.200:554/live/track1")
}

fn more_media(sdp: &str) -> String {
    let before = "m=audio 0 RTP/AVP 0\r\na=rtpmap:0 PCMU/8000\r\na=control:track2\r\nm=application 0 RTP/AVP 107\r\n\
                  a=rtpmap:107 vnd.onvif.metadata/90000\r\na=control:track3\r\nm=video";
    sdp.replace("m=video", before)
}

fn untidy(sdp: &str) -> String {
    format!("\n{}\n\n", sdp.replace("\r\n", "  \n"))
}

fn sparse(sdp: &str) -> String {
    let kept = |line: &&str| !line.starts_with("a=control") && !line.starts_with("b=") && !line.starts_with("o=");
    let lines = sdp.split("\r\n").filter(kept).collect::<Vec<_>>().join("\r\n");
    lines.replace("H264", "h264").replace("a=framerate:25", "a=framerate:0")
}

fn with_sets(sdp: &str) -> String {
    sdp.replace("packetization-mode=1", &format!("packetization-mode=1; sprop-parameter-sets={}", sprop()))
}

fn broken_sets(sdp: &str) -> String {
    sdp.replace("packetization-mode=1", "packetization-mode=1;sprop-parameter-sets=Z0IAKeKQ!!,,=====;profile-level-id=zzz")
}

/// RFC 3550, 5.1 and 5.3.1: padding, a header extension of two words, two contributing sources.
fn dressed(bytes: &mut Vec<u8>) {
    bytes[0] |= 0x20 | 0x10 | 2;
    bytes.extend([0, 0, 3]);
    let more = [0u8, 0, 0, 9, 0, 0, 0, 8, 0xbe, 0xde, 0, 2, 1, 2, 3, 4, 5, 6, 7, 8];
    bytes.splice(12..12, more);
}

fn nonsense(packets: &mut Vec<Packet>) {
    packets.insert(0, Packet { channel: 9, bytes: vec![1, 2, 3] });
    packets.insert(0, Packet { channel: 0, bytes: Vec::new() });
    packets.insert(0, Packet { channel: 0, bytes: vec![0xff; 30] });
    packets.insert(0, Packet { channel: 1, bytes: vec![0x81, 202, 0] });
    packets.insert(0, Packet { channel: 1, bytes: vec![0; 3] });
}

fn begins_anew(n: u64, packets: &mut Vec<Packet>) {
    let life = (n / 40) as u32;
    for packet in packets {
        let sequence = u16::from_be_bytes([packet.bytes[2], packet.bytes[3]]).wrapping_add((life as u16).wrapping_mul(9_999));
        packet.bytes[2..4].copy_from_slice(&sequence.to_be_bytes());
        packet.bytes[8..12].copy_from_slice(&(42 + life).to_be_bytes());
    }
}

/// The packets of the frame with this number; `sequence` goes on.
fn frame(quirks: &Quirks, n: u64, sequence: &mut u16) -> Vec<Packet> {
    let unit = &CLIP[n as usize % CLIP.len()];
    let kept = |nal: &&Vec<u8>| quirks.in_band || !matches!(nal[0] & 31, 7 | 8);
    let mut nals: Vec<Vec<u8>> = unit.iter().filter(kept).cloned().collect();
    (quirks.nals)(&mut nals);
    let parts: Vec<&[u8]> = nals.iter().map(Vec::as_slice).collect();
    let payloads = if parts.iter().all(|nal| nal.starts_with(&[0])) {
        nals.clone() // with start codes there is nothing that could be put together
    } else {
        packetize(&parts, 1200)
    };
    let last = payloads.len() - 1;
    let packet = |(index, payload): (usize, Vec<u8>)| {
        let mut bytes = vec![0x80, 0x60 | if index == last { 0x80 } else { 0 }];
        bytes.extend(sequence.to_be_bytes());
        *sequence = sequence.wrapping_add(1);
        bytes.extend(((n * 3600) as u32).to_be_bytes());
        bytes.extend(42u32.to_be_bytes());
        bytes.extend(payload);
        Packet { channel: quirks.channel, bytes }
    };
    let mut packets: Vec<Packet> = payloads.into_iter().enumerate().map(packet).collect();
    (quirks.packets)(n, &mut packets);
    packets
}

fn interleaved(packets: &[Packet]) -> Vec<u8> {
    let mut out = Vec::new();
    for packet in packets {
        if packet.channel == b'O' {
            out.extend_from_slice(&packet.bytes); // a request of its own
            continue;
        }
        out.extend([b'$', packet.channel]);
        out.extend((packet.bytes.len() as u16).to_be_bytes());
        out.extend_from_slice(&packet.bytes);
    }
    out
}

fn header<'a>(request: &'a str, name: &str) -> &'a str {
    request.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(": ")).unwrap_or("")
}

/// What is answered to a request.
fn answer(quirks: &Quirks, url: &str, request: &str) -> String {
    let method = request.split(' ').next().unwrap_or("");
    let status = (quirks.status)(method);
    let reason = if status == 200 { "OK" } else { "No" };
    let base = "v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns=x\r\nt=0 0\r\na=control:*\r\nm=video 0 RTP/AVP 96\r\nb=AS:500\r\n\
                a=rtpmap:96 H264/90000\r\na=fmtp:96 packetization-mode=1\r\na=framerate:25\r\na=control:track1\r\n";
    let body = if method == "DESCRIBE" && status == 200 { (quirks.sdp)(base) } else { String::new() };
    let more = match method {
        _ if status != 200 => String::new(),
        "OPTIONS" => "Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER\r\n".into(),
        "DESCRIBE" => {
            format!("Content-Type: application/sdp\r\n{}Content-Length: {}\r\n", (quirks.base)(url), body.len())
        }
        "SETUP" => {
            format!("Transport: {}\r\nSession: {}\r\n", (quirks.transport)(header(request, "Transport")), quirks.session)
        }
        _ => format!("Session: {}\r\n", quirks.session.split(';').next().unwrap().trim()),
    };
    let text = format!("RTSP/1.0 {status} {reason}\r\nCSeq: {}\r\n{more}", header(request, "CSeq"));
    (quirks.answer)(&(text + "\r\n")) + &body
}

fn converse(quirks: &Quirks, mut stream: TcpStream, url: &str) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(Duration::from_millis(5)))?;
    let (mut held, mut bytes) = (Vec::new(), [0; 8192]);
    let (mut began, mut sent, mut sequence) = (None, 0u64, 65_500u16);
    let mut last_request = Instant::now();
    loop {
        match stream.read(&mut bytes) {
            Ok(0) => return Ok(()),
            Ok(count) => held.extend_from_slice(&bytes[..count]),
            Err(error) if matches!(error.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
            Err(error) => return Err(error),
        }
        // Receiver reports of the viewer are passed over.
        while held.first() == Some(&b'$') && held.len() >= 4 {
            let length = 4 + usize::from(u16::from_be_bytes([held[2], held[3]]));
            if held.len() < length {
                break;
            }
            held.drain(..length);
        }
        if held.first().is_some_and(|first| *first != b'$')
            && let Some(end) = held.windows(4).position(|bytes| bytes == b"\r\n\r\n")
        {
            let request = String::from_utf8_lossy(&held.drain(..end + 4).collect::<Vec<u8>>()).into_owned();
            if request.starts_with("RTSP/1.0 ") {
                continue; // an answer to a question of its own
            }
            last_request = Instant::now();
            if request.starts_with("PLAY") {
                began = Some(Instant::now());
                if quirks.hasty {
                    for n in 0..3 {
                        stream.write_all(&interleaved(&frame(quirks, n, &mut sequence)))?;
                        sent = n + 1;
                    }
                }
            }
            for piece in answer(quirks, url, &request).as_bytes().chunks(quirks.pieces) {
                stream.write_all(piece)?;
            }
        }
        if quirks.forgets.is_some_and(|time| last_request.elapsed() > time) {
            return stream.shutdown(Shutdown::Both);
        }
        while began.is_some_and(|began: Instant| began.elapsed() >= PERIOD * sent as u32) {
            stream.write_all(&interleaved(&frame(quirks, sent, &mut sequence)))?;
            sent += 1;
        }
    }
}

/// A device of this kind; its address. It lives as long as the test.
fn device(quirks: Quirks) -> String {
    let listener = TcpListener::bind("127.77.6.1:0").unwrap();
    let url = format!("rtsp://{}/live", listener.local_addr().unwrap());
    let said = url.clone();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let said = said.clone();
            std::thread::spawn(move || converse(&quirks, stream, &said));
        }
    });
    url
}

fn open(runtime: &Runtime, url: &str, transport: TransportChoice) -> Source {
    let config = SourceConfig { decodes: false, ..SourceConfig::new(url.parse().unwrap(), transport) };
    Source::open(runtime.handle(), config, None)
}

fn wait(source: &Source, done: impl Fn(&Figures) -> bool) -> Result<Arc<Figures>, Arc<Figures>> {
    let deadline = Instant::now() + WITHIN;
    loop {
        let figures = source.figures();
        if done(&figures) {
            return Ok(figures);
        }
        if Instant::now() > deadline {
            return Err(figures);
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn devices_that_are_nearly_right_are_received() {
    let runtime = Runtime::start().unwrap();
    let sources: Vec<(Quirks, Source)> =
        QUIRKS.iter().map(|quirks| (*quirks, open(&runtime, &device(*quirks), TransportChoice::Tcp))).collect();
    let mut failed = Vec::new();
    for (quirks, source) in &sources {
        // Long enough for sessions to be forgotten and identifiers to change.
        let done = |figures: &Figures| figures.frames.received >= 150 && figures.size == Some((640, 360));
        let figures = match wait(source, done) {
            Ok(figures) => figures,
            Err(figures) => {
                failed.push(format!(
                    "{}: {:?} {:?} {:?} {:?}",
                    quirks.name, figures.verdict, figures.size, figures.frames, figures.text
                ));
                continue;
            }
        };
        let what =
            |what: &str| format!("{}: {what}: {:?} {:?} {:?}", quirks.name, figures.verdict, figures.packets, figures.events);
        if figures.packets.lost > 0 {
            failed.push(what("loss where there is none"));
        }
        if figures.events.iter().any(|event| event.cause == Some(Cause::ClosedByCamera)) {
            failed.push(what("the session was forgotten"));
        }
        let awaits = figures.events.iter().any(|event| event.cause == Some(Cause::AwaitingKeyframe));
        if quirks.name.contains("another source") && !awaits {
            failed.push(what("after a new beginning its keyframe is awaited"));
        }
        if figures.declared.is_none_or(|rate| (rate.per_second() - 25.0).abs() > 0.1)
            && !quirks.name.contains("frame rate of zero")
        {
            failed.push(what("the declared rate"));
        }
    }
    assert!(failed.is_empty(), "{}", failed.join("\n"));
}

#[test]
fn what_cannot_be_received_or_is_odd_is_said() {
    let runtime = Runtime::start().unwrap();
    let cases: [(Quirks, Verdict, &str); 6] = [
        (
            Quirks { sdp: |sdp| sdp.replace("m=video", "m=audio").replace("H264/90000", "PCMU/8000"), ..RIGHT },
            Verdict::Lost,
            "no video",
        ),
        (Quirks { sdp: |_| String::new(), ..RIGHT }, Verdict::Lost, "no video"),
        (Quirks { sdp: |sdp| sdp.replace("H264/90000", "AV1/90000"), ..RIGHT }, Verdict::Stalled, "AV1"),
        (Quirks { status: |method| if method == "DESCRIBE" { 404 } else { 200 }, ..RIGHT }, Verdict::Lost, "404"),
        (Quirks { status: |method| if method == "SETUP" { 453 } else { 200 }, ..RIGHT }, Verdict::Lost, "453"),
        (
            // Received, with what is odd said.
            Quirks { packets: |_, packets| each(packets, |bytes| bytes[1] = bytes[1] & 0x80 | 0x61), ..RIGHT },
            Verdict::Steady,
            "it sends payload type 97 where its description says 96",
        ),
    ];
    let sources: Vec<Source> = cases.iter().map(|(quirks, ..)| open(&runtime, &device(*quirks), TransportChoice::Tcp)).collect();
    for ((_, verdict, text), source) in cases.iter().zip(&sources) {
        let said =
            |figures: &Figures| figures.verdict == *verdict && figures.text.as_ref().is_some_and(|said| said.contains(text));
        let figures = wait(source, said);
        assert!(
            figures.is_ok(),
            "{text}: {:?}",
            figures.map_err(|figures| (figures.verdict, figures.cause, figures.text.clone()))
        );
    }
}

/// Over UDP: a device that does not say its ports, and sends from others than one would think.
#[test]
fn packets_from_ports_that_were_not_said_are_received() {
    let quirks = Quirks { transport: |asked| asked.to_owned(), ..RIGHT };
    let listener = TcpListener::bind("127.77.6.2:0").unwrap();
    let url = format!("rtsp://{}/live", listener.local_addr().unwrap());
    let said = url.clone();
    std::thread::spawn(move || {
        let (mut stream, peer) = listener.accept().unwrap();
        let mut bytes = [0; 8192];
        let mut to = peer;
        while let Ok(count @ 1..) = stream.read(&mut bytes) {
            let request = String::from_utf8_lossy(&bytes[..count]).into_owned();
            if request.starts_with("SETUP") {
                let port = request.split("client_port=").nth(1).unwrap().split('-').next().unwrap();
                to.set_port(port.parse().unwrap());
            }
            stream.write_all(answer(&quirks, &said, &request).as_bytes()).unwrap();
            if request.starts_with("PLAY") {
                break;
            }
        }
        let socket = UdpSocket::bind("127.77.6.2:0").unwrap();
        let (began, mut sequence) = (Instant::now(), 7u16);
        for n in 0..3000 {
            std::thread::sleep((PERIOD * n).saturating_sub(began.elapsed()));
            for packet in frame(&quirks, u64::from(n), &mut sequence) {
                let _ = socket.send_to(&packet.bytes, to);
            }
        }
    });
    let runtime = Runtime::start().unwrap();
    let source = open(&runtime, &url, TransportChoice::Udp);
    let figures = wait(&source, |figures| figures.frames.received >= 50 && figures.size == Some((640, 360)));
    assert!(figures.is_ok(), "{:?}", figures.map_err(|figures| (figures.verdict, figures.text.clone(), figures.packets)));
}
