use super::*;
use crate::sound::Limits;
use crate::{NtpTime, Secret};
use proptest::prelude::*;
use std::f64::consts::TAU;

const NOON: i64 = 1_795_500_000_000_000;

fn at(millis: u64) -> Mono {
    Mono::from_millis(millis)
}

fn pair(now: Mono) -> ClockPair {
    ClockPair { mono: now, wall: Wall::from_unix_micros(NOON + now.as_micros() as i64) }
}

fn sound(coding: Coding, hz: u32, channels: u8) -> Sound {
    let clock_rate = ClockRate::new(hz).unwrap();
    Sound {
        payload_type: 97,
        coding,
        clock_rate,
        channels,
        control: None,
        secure: false,
        early_feedback: false,
        crypto: Vec::new(),
    }
}

fn packet(seq: u16, timestamp: u32, ssrc: u32, payload: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let payload_type = PayloadType(97);
    RtpPacket { marker: true, payload_type, seq: crate::rtp::Seq16(seq), timestamp, ssrc: Ssrc(ssrc), payload }.emit(&mut out);
    out
}

fn report(ssrc: u32, millis: u64, timestamp: u32) -> Vec<u8> {
    let ntp = NtpTime::from_wall(Wall::from_unix_micros(NOON + millis as i64 * 1000));
    let mut out = Vec::new();
    let report = SenderReport { ssrc: Ssrc(ssrc), ntp, rtp_timestamp: timestamp, packets: 0, octets: 0 };
    rtcp::emit_sender_report(&report, &mut out);
    out
}

/// 20 ms of a tone at 8 kHz in L16.
fn tone(n: u64, peak: f64) -> Vec<u8> {
    let sample = |at: u64| (peak * 32_767.0 * (TAU * 1000.0 * at as f64 / 8000.0).sin()) as i16;
    (n * 160..n * 160 + 160).flat_map(|at| sample(at).to_be_bytes()).collect()
}

fn l16() -> Track {
    Track::new(at(0), sound(Coding::L16, 8000, 1), None, None)
}

/// Packets from `from` to `to`, one in 20 ms, which take `path` ms.
fn play(track: &mut Track, from: u64, to: u64, path: u64) {
    for n in from..to {
        let now = at(n * 20 + path);
        track.on_rtp(pair(now), now, &packet(n as u16, (n * 160) as u32, 7, &tone(n, 0.1)));
    }
}

#[test]
fn a_tone_is_measured_for_level_loss_and_jitter() {
    let mut track = l16();
    play(&mut track, 0, 60, 5);
    play(&mut track, 63, 120, 5);
    let reading = track.read(at(2405), &Lag::default());
    let level = reading.level().unwrap();
    assert!((level.rms + 20.0).abs() < 0.1 && (level.peak + 20.0).abs() < 0.1, "{level:?}");
    assert_eq!((reading.packets.received, reading.packets.lost, &reading.state), (117, 3, &SoundState::On));
    assert_eq!((reading.jitter, reading.coding.as_deref(), reading.offset_micros), (Some(Duration::ZERO), Some("L16"), None));
    // Reports speak of it.
    let compound = track.poll_report(at(6000), Ssrc(1)).unwrap();
    let [RtcpPacket::ReceiverReport(Ssrc(1), blocks), ..] = &rtcp::parse(&compound).unwrap()[..] else { panic!("{compound:?}") };
    assert_eq!((blocks[0].ssrc, blocks[0].cumulative_lost, track.poll_report(at(6001), Ssrc(1))), (Ssrc(7), 3, None));
}

#[test]
fn its_offset_to_the_picture_is_told_by_the_reports_of_both() {
    // Pictures take 40 ms and sound 160 ms; the sender's clock is an hour ahead, which takes no part.
    let mut track = l16();
    let mut picture = Lag::default();
    let claims = |millis: u64| Wall::from_unix_micros(NOON + 3_600_000_000 + millis as i64 * 1000);
    track.on_rtcp(pair(at(1)), at(1), &report(7, 3_600_000, 0));
    play(&mut track, 0, 200, 160);
    for n in 0..100 {
        let arrival = at(n * 40 + 40);
        picture.on_arrival(arrival, pair(arrival).wall_at(arrival), Some(claims(n * 40)));
    }
    assert_eq!(track.read(at(4100), &picture).offset_micros, Some(120_000));
    assert_eq!(track.read(at(9000), &picture).offset_micros, None, "nothing came lately");
}

#[test]
fn a_clock_that_lies_is_said_and_nothing_is_told_by_it() {
    let mut track = Track::new(at(0), sound(Coding::L16, 16_000, 1), None, None);
    track.on_rtcp(pair(at(1)), at(1), &report(7, 0, 0));
    play(&mut track, 0, 450, 5);
    let reading = track.read(at(9005), &Lag::default());
    assert_eq!(
        reading.remark.as_deref(),
        Some("its clock runs at 8000 Hz where its description says 16000 Hz: jitter and offset are not known")
    );
    assert_eq!((reading.jitter, reading.offset_micros), (None, None));
    assert!(reading.level().is_some());
}

#[test]
fn others_that_send_do_not_get_in_and_a_successor_does() {
    let mut track = l16();
    play(&mut track, 0, 20, 5);
    for n in 0..7 {
        track.on_rtp(pair(at(400)), at(400), &packet(900 + n, 0, 9, &tone(0, 0.9)));
    }
    play(&mut track, 20, 30, 5);
    assert_eq!(track.read(at(700), &Lag::default()).packets.received, 30);
    for n in 0..20 {
        track.on_rtp(pair(at(610 + u64::from(n))), at(610), &packet(n, 0, 9, &tone(0, 0.1)));
    }
    let counts = track.read(at(700), &Lag::default()).packets;
    assert_eq!((counts.received, counts.lost), (30 + 13, 0));
}

#[test]
fn another_law_than_described_is_taken_and_said() {
    let mut track = Track::new(at(0), sound(Coding::Pcma, 8000, 1), None, None);
    for n in 0..100u16 {
        let mut bytes = packet(n, u32::from(n) * 160, 7, &[0x80; 160]);
        bytes[1] = 0x80; // µ-law at full scale
        track.on_rtp(pair(at(u64::from(n) * 20)), at(u64::from(n) * 20), &bytes);
    }
    let reading = track.read(at(2000), &Lag::default());
    assert_eq!(
        (reading.coding.as_deref(), reading.remark.as_deref()),
        (Some("G.711 µ-law"), Some("it sends payload type 0 where its description says 97"))
    );
    assert!((reading.level().unwrap().peak + 0.17).abs() < 0.01 && reading.clipped > 7000, "{reading:?}");
}

#[derive(Debug)]
struct Whole;

impl Decode for Whole {
    fn decode(&mut self, unit: &[u8], out: &mut Vec<f32>) -> Result<(), String> {
        if unit.first() == Some(&0xff) {
            return Err("its units are damaged".into());
        }
        // A unit of n bytes is 160 samples of n / 1000.
        out.extend(std::iter::repeat_n(unit.len() as f32 / 1000.0, 160));
        Ok(())
    }
}

fn aac() -> Track {
    let aac = Aac { config: vec![0x14, 0x08], size_length: 13, index_length: 3, index_delta_length: 3 };
    Track::new(at(0), sound(Coding::Aac(aac), 8000, 1), None, Some(|_| Some(Box::new(Whole))))
}

/// A packet's payload with headers that promise these sizes.
fn payload(sizes: &[u16], data: &[u8]) -> Vec<u8> {
    let mut out = ((sizes.len() * 16) as u16).to_be_bytes().to_vec();
    out.extend(sizes.iter().flat_map(|size| (size << 3).to_be_bytes()));
    out.extend_from_slice(data);
    out
}

#[test]
fn access_units_come_several_in_a_packet_and_one_in_several() {
    let mut track = aac();
    for n in 0..10u16 {
        let now = at(u64::from(n) * 60);
        track.on_rtp(pair(now), now, &packet(3 * n, u32::from(n) * 480, 7, &payload(&[100, 100], &[1; 200])));
        for (part, size) in [(1, 40), (2, 60)] {
            let mut bytes = packet(3 * n + part, u32::from(n) * 480 + 320, 7, &payload(&[100], &vec![1; size]));
            bytes[1] = if part == 2 { 0xe1 } else { 0x61 };
            track.on_rtp(pair(now), now, &bytes);
        }
    }
    let reading = track.read(at(600), &Lag::default());
    assert_eq!((reading.packets.lost, &reading.state), (0, &SoundState::On));
    assert!((reading.level().unwrap().peak + 20.0).abs() < 0.01, "{reading:?}");
}

#[test]
fn what_cannot_be_read_is_said_and_still_counted() {
    let mut track = aac();
    for n in 0..30u16 {
        track.on_rtp(pair(at(20)), at(20), &packet(n, u32::from(n) * 160, 7, &payload(&[10], &[0xff; 10])));
    }
    let reading = track.read(at(30), &Lag::default());
    assert_eq!((reading.state.text(), reading.packets.received), (Some("AAC does not decode: its units are damaged"), 30));
    let opus = Track::new(at(0), sound(Coding::Other("OPUS".into()), 48_000, 2), None, None).read(at(0), &Lag::default());
    assert_eq!(opus.state.text(), Some("OPUS is received and measured, but its level is not read here"));
    let secured = Sound { secure: true, crypto: vec![Secret::new("no key".into())], ..sound(Coding::Pcmu, 8000, 1) };
    let mut track = Track::new(at(0), secured, None, None);
    play(&mut track, 0, 10, 0);
    let reading = track.read(at(200), &Lag::default());
    assert_eq!((reading.state.word(), reading.packets.received, reading.level()), ("no-level", 10, None));
}

#[test]
fn silence_is_noticed_in_it() {
    let mut track = l16();
    track.set_limits(Limits { silent_after: Duration::from_secs(2), ..Limits::default() });
    for n in 0..300u64 {
        let now = at(n * 20);
        track.on_rtp(pair(now), now, &packet(n as u16, (n * 160) as u32, 7, &[0; 320]));
        if n % 25 == 24 {
            track.read(now, &Lag::default());
        }
    }
    assert!(track.read(at(6000), &Lag::default()).noticed.silent.is_some());
}

proptest! {
    #[test]
    fn any_packets_are_taken(packets in prop::collection::vec((prop::collection::vec(any::<u8>(), 0..200), any::<bool>()), 0..40), size_length in 0_u8..33, index in 0_u8..33) {
        let aac = Aac { config: vec![0x14], size_length, index_length: index, index_delta_length: index };
        let mut track = Track::new(at(0), sound(Coding::Aac(aac), 8000, 2), None, Some(|_| Some(Box::new(Whole))));
        for (n, (bytes, whole)) in packets.iter().enumerate() {
            let now = at(n as u64 * 20);
            let bytes = if *whole { packet(n as u16, n as u32 * 160, 7, bytes) } else { bytes.clone() };
            track.on_rtp(pair(now), now, &bytes);
            track.on_rtcp(pair(now), now, &bytes);
            let reading = track.read(now, &Lag::default());
            prop_assert!(reading.levels.iter().all(|level| level.rms.is_finite() && level.peak.is_finite()));
        }
    }
}
