//! A description and the packets of a session, pictures and sound, into figures.
#![no_main]

use arbitrary::Arbitrary;
use lattice_core::meter::Meter;
use lattice_core::receiver::Receiver;
use lattice_core::rtp::Ssrc;
use lattice_core::sdp::Description;
use lattice_core::sound::SoundState;
use lattice_core::{ClockPair, Mono, Transport, Wall};
use libfuzzer_sys::fuzz_target;
use std::time::Duration;

#[derive(Arbitrary, Debug)]
struct Session<'a> {
    /// One of the usual descriptions, or the text.
    usual: u8,
    text: &'a str,
    udp: bool,
    packets: Vec<(u8, u16, &'a [u8])>,
}

const USUAL: [&str; 8] = [
    "m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\na=framerate:25",
    "m=video 0 RTP/AVPF 96\na=rtpmap:96 H265/90000\na=rtcp-fb:* nack pli",
    "m=video 0 RTP/AVP 26",
    "m=video 0 RTP/AVP 33",
    "m=video 0 RTP/SAVP 96\na=rtpmap:96 H264/90000\na=crypto:1 AES_CM_128_HMAC_SHA1_80 inline:AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwd",
    "m=video 0 RTP/AVP 97\na=rtpmap:97 VP9/90000",
    "m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\nm=audio 0 RTP/AVP 0",
    "m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\nm=audio 0 RTP/AVP 97\na=rtpmap:97 L16/48000/2",
];

fuzz_target!(|session: Session<'_>| {
    let text = USUAL.get(usize::from(session.usual)).copied().unwrap_or(session.text);
    let Some(video) = Description::parse(text).video() else { return };
    let pair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };
    let mut receiver = Receiver::new(Meter::new(Mono::ZERO, pair, true), Ssrc(1), true);
    let mut now = Mono::from_millis(1000);
    receiver.begin(now, &video, if session.udp { Transport::Udp } else { Transport::Tcp });
    let sound = Description::parse(text).sound();
    receiver.begin_sound(now, sound.as_ref(), SoundState::None, sound.as_ref());
    let (mut units, mut bytes) = (0u64, 0);
    for (kind, wait, packet) in session.packets.iter().take(2000) {
        now = now + Duration::from_micros(u64::from(*wait) * 20);
        bytes += packet.len();
        let clocks = ClockPair { mono: now, ..pair };
        match kind % 6 {
            0 => receiver.on_rtcp(now, packet),
            1 => receiver.on_transport_stream(now, now, packet, &mut |_| units += 1),
            2 => receiver.on_sound_rtp(clocks, now, packet),
            3 => receiver.on_sound_rtcp(clocks, now, packet),
            _ => receiver.on_rtp(now, now, packet, &mut |_| units += 1),
        }
        receiver.tick(now, &mut |_| units += 1);
        let _ = (receiver.poll_report(now), receiver.poll_sound_report(now));
        let _ = receiver.poll_keyframe_request(now);
    }
    let figures = receiver.read(now + Duration::from_secs(1));
    assert!(figures.sound.levels.iter().all(|level| level.rms.is_finite() && level.peak.is_finite()));
    assert!(units <= session.packets.len() as u64 * 200 + bytes as u64);
    assert!(figures.dropouts.len() <= 10_000);
});
