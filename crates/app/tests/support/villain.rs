//! A camera that does what it should not, in one of many ways at a time.

use std::io::{BufRead as _, BufReader, Read as _, Write};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// What it does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Deed {
    /// A camera like others: 640 × 360, 25 frames a second.
    Nothing,
    /// Line ends without end between its packets.
    LineEnds,
    /// Many tiny packets of a channel that nobody asked for.
    Dollars,
    /// Media from another sender beside its own, by UDP.
    Forged,
    /// A picture of 16384 × 16384 among its stills.
    Bomb,
    /// Pictures at fifty times the rate that it says.
    Heavy,
    /// A frame rate of next to nothing.
    Rates,
    /// Sequences that steer a terminal, in every text.
    Escapes,
    /// A byte of its answer in a third of a second.
    Drip,
    /// A connection, and no answer.
    HalfOpen,
    /// A session that breaks off in the middle of a packet.
    Reset,
    /// A session in which nothing comes any more.
    Silent,
}

/// The camera, and its stills by HTTP.
pub struct Villain {
    pub rtsp: String,
    pub stills: String,
    deed: Arc<Mutex<Deed>>,
    /// Connections made before the last change end.
    turn: Arc<AtomicU64>,
}

impl Villain {
    /// Does nothing yet. `units` are the access units of a stream, over and over; `still` is a JPEG.
    pub fn start(units: Vec<Vec<u8>>, still: Vec<u8>) -> Self {
        let (deed, turn) = (Arc::new(Mutex::new(Deed::Nothing)), Arc::new(AtomicU64::new(0)));
        let bind = || TcpListener::bind("127.77.9.1:0").unwrap();
        let (rtsp, http) = (bind(), bind());
        let at = |listener: &TcpListener| listener.local_addr().unwrap();
        let (url, stills) = (format!("rtsp://{}/main", at(&rtsp)), format!("http://{}/still.jpg", at(&http)));
        let shared = Shared { units: Arc::new(units), deed: deed.clone(), turn: turn.clone() };
        std::thread::spawn(move || {
            for stream in rtsp.incoming().flatten() {
                let shared = shared.clone();
                std::thread::spawn(move || drop(shared.converse(stream)));
            }
        });
        let of_stills = deed.clone();
        std::thread::spawn(move || {
            for mut stream in http.incoming().flatten() {
                let body = if *of_stills.lock().unwrap() == Deed::Bomb { bomb() } else { still.clone() };
                std::thread::spawn(move || {
                    let _ = stream.read(&mut [0; 2048]);
                    let head = "HTTP/1.1 200 OK\r\nContent-Type: image/jpeg\r\nConnection: close\r\n";
                    let _ = write!(stream, "{head}Content-Length: {}\r\n\r\n", body.len());
                    let _ = stream.write_all(&body);
                });
            }
        });
        Self { rtsp: url, stills, deed, turn }
    }

    /// From now on; sessions begin anew.
    pub fn does(&self, deed: Deed) {
        *self.deed.lock().unwrap() = deed;
        self.turn.fetch_add(1, Ordering::SeqCst);
    }
}

/// A JPEG that says that it has 16384 × 16384 pixels.
fn bomb() -> Vec<u8> {
    let mut file = vec![0xff, 0xd8, 0xff, 0xc0, 0, 17, 8, 0x40, 0, 0x40, 0, 3, 1, 0x22, 0, 2, 0x11, 1, 3, 0x11, 1];
    file.extend([0xff, 0xda, 0, 12, 3, 1, 0, 2, 0x11, 3, 0x11, 0, 63, 0]);
    file.extend(vec![0x55; 4096]);
    file.extend([0xff, 0xd9]);
    file
}

#[derive(Clone)]
struct Shared {
    units: Arc<Vec<Vec<u8>>>,
    deed: Arc<Mutex<Deed>>,
    turn: Arc<AtomicU64>,
}

impl Shared {
    fn converse(&self, mut stream: TcpStream) -> std::io::Result<()> {
        let (deed, turn) = (*self.deed.lock().unwrap(), self.turn.load(Ordering::SeqCst));
        stream.set_read_timeout(Some(Duration::from_secs(60)))?;
        stream.set_write_timeout(Some(Duration::from_secs(5)))?;
        stream.set_nodelay(true)?;
        let here = || self.turn.load(Ordering::SeqCst) == turn;
        if deed == Deed::HalfOpen {
            while here() {
                std::thread::sleep(Duration::from_millis(50));
            }
            return Ok(());
        }
        let mut reader = BufReader::new(stream.try_clone()?);
        let mut udp: Option<(UdpSocket, u16)> = None;
        loop {
            let mut head = Vec::new();
            loop {
                let mut line = String::new();
                if reader.read_line(&mut line)? == 0 {
                    return Ok(());
                }
                if line.trim().is_empty() {
                    break;
                }
                head.push(line.trim().to_owned());
            }
            let Some(first) = head.first() else { continue };
            let field = |name: &str| head.iter().find_map(|line| line.strip_prefix(name)).unwrap_or("").trim().to_owned();
            let sequence = field("CSeq:");
            let method = first.split(' ').next().unwrap_or("");
            let (mut more, mut body) = (String::new(), String::new());
            let mut status = "200 OK";
            match method {
                "DESCRIBE" => {
                    body = description(deed);
                    more = format!("Content-Type: application/sdp\r\nContent-Length: {}\r\n", body.len());
                }
                "SETUP" => {
                    let transport = field("Transport:");
                    let client = transport.split("client_port=").nth(1).and_then(|rest| rest.split('-').next()?.parse().ok());
                    match (client, deed) {
                        (Some(port), Deed::Forged) => {
                            let own = UdpSocket::bind("127.77.9.1:0")?;
                            let server = own.local_addr()?.port();
                            more = format!(
                                "Transport: RTP/AVP;unicast;client_port={port}-{};server_port={server}-{}\r\n",
                                port + 1,
                                server + 1
                            );
                            udp = Some((own, port));
                        }
                        (Some(_), _) => status = "461 Unsupported Transport",
                        (None, _) => more = "Transport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n".into(),
                    }
                    more += "Session: 77\r\n";
                }
                _ => more = "Public: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN, GET_PARAMETER\r\nSession: 77\r\n".into(),
            }
            let server = if deed == Deed::Escapes { "\x1b]0;taken\x07\x1b[2Jcamera" } else { "camera" };
            let text = format!("RTSP/1.0 {status}\r\nCSeq: {sequence}\r\nServer: {server}\r\n{more}\r\n{body}");
            if deed == Deed::Drip {
                for byte in text.as_bytes() {
                    stream.write_all(&[*byte])?;
                    std::thread::sleep(Duration::from_millis(300));
                    if !here() {
                        return Ok(());
                    }
                }
            }
            stream.write_all(text.as_bytes())?;
            match method {
                "PLAY" => return self.play(deed, &here, stream, udp.as_ref()),
                "TEARDOWN" => return Ok(()),
                _ => {}
            }
        }
    }

    fn play(
        &self,
        deed: Deed,
        here: &dyn Fn() -> bool,
        mut stream: TcpStream,
        udp: Option<&(UdpSocket, u16)>,
    ) -> std::io::Result<()> {
        let peer = stream.peer_addr()?.ip();
        let forger = UdpSocket::bind("127.77.9.2:0")?;
        let begun = Instant::now();
        let times = if deed == Deed::Heavy { 50 } else { 1 };
        let (mut sequence, mut number) = (7u16, 0u32);
        while here() {
            let unit = &self.units[number as usize % self.units.len()];
            for packet in packets(unit, &mut sequence, number * 3600 / times, 0x51) {
                if let Some((socket, port)) = udp {
                    let _ = socket.send_to(&packet, (peer, *port));
                } else {
                    let length = u16::try_from(packet.len()).unwrap().to_be_bytes();
                    if deed == Deed::Reset && number == 10 {
                        stream.write_all(&[b'$', 0, length[0], length[1]])?;
                        stream.write_all(&packet[..packet.len() / 2])?;
                        // What came and was not read makes the system answer with a reset.
                        socket2::SockRef::from(&stream).set_linger(Some(Duration::ZERO))?;
                        return Ok(());
                    }
                    stream.write_all(&[&[b'$', 0], &length[..], &packet].concat())?;
                }
            }
            if deed == Deed::Silent && number == 10 {
                while here() {
                    std::thread::sleep(Duration::from_millis(50));
                }
                return Ok(());
            }
            number += 1;
            let due = begun + Duration::from_millis(40) * number / times;
            match deed {
                Deed::LineEnds => stream.write_all(&b"\r\n".repeat(200_000))?,
                Deed::Dollars => stream.write_all(&[b'$', 9, 0, 0].repeat(50_000))?,
                Deed::Forged => {
                    if let Some((_, port)) = udp {
                        let mut strange = sequence.wrapping_add(300);
                        for packet in packets(unit, &mut strange, number * 3600, 0x51) {
                            let _ = forger.send_to(&packet, (peer, *port));
                        }
                        let _ = forger.send_to(&[0x81, 203, 0, 1, 0, 0, 0, 0x51], (peer, port + 1));
                    }
                }
                _ => {}
            }
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
        }
        Ok(())
    }
}

fn description(deed: Deed) -> String {
    let rate = match deed {
        Deed::Rates => "a=framerate:1e-20\r\n",
        Deed::Heavy => "a=framerate:25\r\n",
        _ => "",
    };
    let (name, codec) = if deed == Deed::Escapes { ("\x1b[2J\x1b]52;c;AAAA\x07", "H264\x1b[31m") } else { ("main", "H264") };
    format!(
        "v=0\r\no=- 1 1 IN IP4 127.0.0.1\r\ns={name}\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 {codec}/90000\r\n{rate}\
         a=control:track1\r\n"
    )
}

/// The RTP packets of an access unit in Annex B: NAL units whole or in fragments (RFC 6184 §5.8).
fn packets(unit: &[u8], sequence: &mut u16, timestamp: u32, ssrc: u32) -> Vec<Vec<u8>> {
    let nals: Vec<&[u8]> = lattice_core::video::annex_b(unit).collect();
    let mut payloads = Vec::new();
    for nal in nals {
        if nal.len() <= 1400 {
            payloads.push(nal.to_vec());
            continue;
        }
        let pieces = nal[1..].chunks(1400);
        let last = pieces.len() - 1;
        for (index, piece) in pieces.enumerate() {
            let ends = u8::from(index == 0) << 7 | u8::from(index == last) << 6;
            payloads.push([&[nal[0] & 0xe0 | 0x1c, ends | nal[0] & 0x1f], piece].concat());
        }
    }
    let last = payloads.len().saturating_sub(1);
    let packet = |(index, payload): (usize, Vec<u8>)| {
        *sequence = sequence.wrapping_add(1);
        let mut packet = vec![0x80, 0x60 | u8::from(index == last) << 7];
        packet.extend(sequence.to_be_bytes());
        packet.extend(timestamp.to_be_bytes());
        packet.extend(ssrc.to_be_bytes());
        packet.extend(payload);
        packet
    };
    payloads.into_iter().enumerate().map(packet).collect()
}
