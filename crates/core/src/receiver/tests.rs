use super::*;
use crate::event::EventKind;
use crate::meter::{DropoutKind, Figures, LatencyBasis};
use crate::rtp::Seq16;
use crate::sdp::Description;
use crate::{Cause, ClockPair, NtpTime, Verdict, Wall};
use proptest::prelude::*;

const PAIR: ClockPair = ClockPair { mono: Mono::ZERO, wall: Wall::from_unix_micros(1_795_500_000_000_000) };

fn video() -> Video {
    Description::parse("m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\na=framerate:25").video().unwrap()
}

/// One packet of a made stream: 25 frames/s, a keyframe every 25, three packets a frame.
#[derive(Clone)]
struct Made {
    at: Mono,
    seq: u16,
    timestamp: u32,
    marker: bool,
    payload: Vec<u8>,
    ssrc: u32,
}

fn made(frames: std::ops::Range<u64>) -> Vec<Made> {
    frames
        .flat_map(|n| {
            let header = if n % 25 == 0 { 0x65 } else { 0x41 };
            (0..3u64).map(move |part| Made {
                at: Mono::from_millis(1000 + 40 * n + part),
                seq: (65_000 + 3 * n + part) as u16,
                timestamp: (3600 * n) as u32,
                marker: part == 2,
                payload: vec![header, if part == 0 { 0x88 } else { 0x08 }, part as u8, 1],
                ssrc: 7,
            })
        })
        .collect()
}

struct Rig {
    receiver: Receiver,
    units: Vec<Unit>,
}

impl Rig {
    fn new(transport: Transport) -> Self {
        let mut receiver = Receiver::new(Meter::new(Mono::ZERO, PAIR, false), Ssrc(1), true);
        receiver.begin(Mono::from_millis(900), &video(), transport);
        Self { receiver, units: vec![] }
    }

    fn feed(&mut self, packets: &[Made]) -> &mut Self {
        for made in packets {
            let mut bytes = Vec::new();
            RtpPacket {
                marker: made.marker,
                payload_type: PayloadType(96),
                seq: Seq16(made.seq),
                timestamp: made.timestamp,
                ssrc: Ssrc(made.ssrc),
                payload: &made.payload,
            }
            .emit(&mut bytes);
            let units = &mut self.units;
            self.receiver.on_rtp(made.at, made.at, &bytes, &mut |unit| units.push(unit));
            self.receiver.meter().tick(made.at);
        }
        self
    }

    fn read(&mut self, at: u64) -> Figures {
        let units = &mut self.units;
        self.receiver.tick(Mono::from_millis(at), &mut |unit| units.push(unit));
        self.receiver.meter().read(Mono::from_millis(at))
    }
}

#[test]
fn a_clean_stream_reads_clean() {
    let mut rig = Rig::new(Transport::Udp);
    let figures = rig.feed(&made(0..250)).read(11_000);
    assert_eq!((figures.verdict, figures.cause), (Verdict::Steady, None));
    assert_eq!((figures.frames.received, figures.frames.damaged), (250, 0));
    assert_eq!((figures.packets.received, figures.packets.lost), (750, 0));
    assert!((figures.sent.unwrap() - 25.0).abs() < 0.01 && (figures.arrived.unwrap() - 25.0).abs() < 0.25);
    assert_eq!(figures.keyframe_interval, Some(Duration::from_secs(1)));
    assert_eq!(figures.latency.unwrap().basis, LatencyBasis::Relative);
    assert!(rig.units.iter().all(|unit| unit.displayable));
    assert!(figures.dropouts.is_empty());
}

#[test]
fn loss_is_exact_and_hides_pictures_until_the_next_keyframe() {
    let mut rig = Rig::new(Transport::Udp);
    let mut packets = made(0..100);
    packets.retain(|packet| packet.seq != (65_000u32 + 3 * 30 + 1) as u16);
    let figures = rig.feed(&packets).read(5_000);
    assert_eq!((figures.packets.lost, figures.frames.damaged, figures.frames.received), (1, 1, 100));
    let hidden: Vec<u64> =
        rig.units.iter().filter(|unit| !unit.displayable).map(|unit| unit.unit.timestamp as u64 / 3600).collect();
    assert_eq!(hidden, (30..50).collect::<Vec<_>>());
    assert_eq!(figures.dropouts.len(), 1);
    let dropout = figures.dropouts[0];
    assert_eq!((dropout.cause, dropout.kind, dropout.frames_missed), (Some(Cause::PacketLoss), DropoutKind::Stutter, Some(20)));
    assert!(dropout.start.micros_since(Mono::from_millis(1000 + 1200)).abs() <= 40_000);
}

#[test]
fn a_keyframe_is_asked_for_after_a_loss_and_not_more_often_than_every_two_seconds() {
    let described = "m=video 0 RTP/AVPF 96\na=rtpmap:96 H264/90000\na=framerate:25\na=rtcp-fb:96 nack pli";
    let mut rig = Rig::new(Transport::Udp);
    rig.receiver.begin(Mono::from_millis(900), &Description::parse(described).video().unwrap(), Transport::Udp);
    let asks = |rig: &mut Rig, at: u64| {
        let compound = rig.receiver.poll_keyframe_request(Mono::from_millis(at))?;
        rtcp::parse(&compound).unwrap().into_iter().find(|packet| matches!(packet, RtcpPacket::KeyframeRequest(_)))
    };
    // Joined in the middle: nothing to begin with.
    let packets = made(10..100);
    rig.feed(&packets[..9]);
    assert_eq!(asks(&mut rig, 1_500), Some(RtcpPacket::KeyframeRequest(Ssrc(7))));
    rig.feed(&packets[9..15]);
    assert_eq!(asks(&mut rig, 1_700), None, "too soon");
    // The keyframe comes with frame 25.
    rig.feed(&packets[15..60]);
    assert_eq!(asks(&mut rig, 2_200), None);
    let told = rig.read(2_210).keyframes_asked.unwrap();
    assert_eq!((told.asked, told.obeyed, told.way.pli), (1, 1, true));
    // A loss; what is missing is known when it is given up.
    rig.feed(&packets[61..75]);
    rig.read(3_500);
    assert!(asks(&mut rig, 3_520).is_some() && asks(&mut rig, 5_000).is_none() && asks(&mut rig, 5_600).is_some());
    // Nobody offers to be asked: it is told that another way is wanted.
    let mut rig = Rig::new(Transport::Udp);
    rig.feed(&packets[..9]);
    assert_eq!(asks(&mut rig, 1_500), None);
    let figures = rig.read(1_510);
    assert!(figures.keyframes_asked.is_none() && figures.wants_keyframe);
}

#[test]
fn a_rate_that_is_declared_and_not_seen_judges_nothing() {
    for (declared, limit) in [("0.01", 1_000), ("1e-20", 3_500), ("1000", 1_000), ("25", 1_000)] {
        let text = format!("m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\na=framerate:{declared}");
        let mut rig = Rig::new(Transport::Tcp);
        rig.receiver.begin(Mono::from_millis(900), &Description::parse(&text).video().unwrap(), Transport::Tcp);
        rig.feed(&made(0..100));
        // The last frame came at five seconds.
        let figures = rig.read(5_000 + limit);
        assert!(figures.dropout_now.is_some(), "{declared}: {:?}", figures.dropouts);
    }
}

#[test]
fn a_sender_that_says_that_it_leaves_has_left_when_nothing_more_comes() {
    let mut rig = Rig::new(Transport::Udp);
    rig.feed(&made(0..25));
    let mut bye = Vec::new();
    rtcp::emit_bye(Ssrc(9), &mut bye);
    rig.receiver.on_rtcp(Mono::from_millis(2_000), &bye);
    assert!(!rig.receiver.has_left(Mono::from_millis(4_000)), "another one left");
    bye.clear();
    rtcp::emit_bye(Ssrc(7), &mut bye);
    rig.receiver.on_rtcp(Mono::from_millis(2_000), &bye);
    assert!(!rig.receiver.has_left(Mono::from_millis(2_500)));
    assert!(rig.receiver.has_left(Mono::from_millis(3_100)));
    // It goes on all the same.
    rig.feed(&made(25..75));
    assert!(!rig.receiver.has_left(Mono::from_millis(6_000)));
}

#[test]
fn who_else_sends_is_told_while_it_does_and_stays_counted() {
    let mut rig = Rig::new(Transport::Udp);
    rig.feed(&made(0..25));
    rig.receiver.on_other_sender(Mono::from_millis(2_000), "192.0.2.9:5000".parse().unwrap());
    assert!(rig.read(2_100).text.unwrap().contains("192.0.2.9"));
    let figures = rig.read(33_000);
    assert_eq!((figures.dropped.other_sender, rig.receiver.other_sender()), (1, None));
    assert!(figures.text.is_none_or(|text| !text.contains("192.0.2.9")));
}

#[test]
fn a_report_is_of_one_source_and_of_this_session_alone() {
    let mut rig = Rig::new(Transport::Udp);
    let mut packets = made(0..50);
    packets.drain(60..70);
    rig.feed(&packets).read(3_400);
    let block = |rig: &mut Rig, at: u64| {
        let parsed = rtcp::parse(&rig.receiver.poll_report(Mono::from_millis(at)).unwrap()).unwrap();
        let RtcpPacket::ReceiverReport(_, blocks) = &parsed[0] else { panic!("a report") };
        blocks[0]
    };
    assert_eq!(block(&mut rig, 6_000).cumulative_lost, 10);
    // The camera begins anew under another source: nothing of it is lost.
    let anew: Vec<Made> = made(200..250).into_iter().map(|made| Made { ssrc: 8, ..made }).collect();
    rig.feed(&anew).read(11_500);
    let second = block(&mut rig, 12_000);
    assert_eq!((second.ssrc, second.cumulative_lost, second.fraction_lost, second.last_sender_report), (Ssrc(8), 0, 0, 0));
}

#[test]
fn with_a_key_given_nothing_readable_is_shown() {
    let key = MasterKey::entered("000102030405060708090a0b0c0d0e0f101112131415161718191a1b1c1d").unwrap();
    let mut receiver = Receiver::new(Meter::new(Mono::ZERO, PAIR, false), Ssrc(1), true);
    receiver.set_key(Some(key));
    receiver.begin(Mono::from_millis(900), &video(), Transport::Udp);
    let mut rig = Rig { receiver, units: vec![] };
    rig.feed(&made(0..50));
    let figures = rig.read(3_000);
    assert!(rig.units.is_empty(), "the description says that it is not encrypted");
    assert_eq!((figures.cause, figures.dropped.not_authentic), (Some(Cause::KeyNeeded), 150));
}

#[test]
fn a_packet_that_may_still_come_is_not_lost_yet() {
    let mut rig = Rig::new(Transport::Udp);
    let mut packets = made(0..20);
    let late = packets.remove(50);
    rig.feed(&packets[..52]);
    let lost = |rig: &mut Rig, at: Mono| rig.receiver.meter().read(at).packets.lost;
    assert_eq!(lost(&mut rig, packets[51].at), 0, "its successors wait for it");
    rig.feed(&[Made { at: packets[51].at, ..late.clone() }]);
    assert_eq!(rig.read(3_000).packets.lost, 0, "it came");
    let mut rig = Rig::new(Transport::Udp);
    assert_eq!(rig.feed(&packets).read(3_000).packets.lost, 1, "it did not");
}

#[test]
fn a_stall_is_silence_and_measured_to_a_frame() {
    let mut rig = Rig::new(Transport::Tcp);
    let mut packets = made(0..200);
    packets.retain(|packet| !(2_500..3_700).contains(&(packet.at.as_micros() / 1000)));
    // The camera made no frames: its sequence goes on without a gap.
    for (n, packet) in packets.iter_mut().enumerate() {
        packet.seq = n as u16;
        packet.payload[0] =
            if packet.at >= Mono::from_millis(3_700) && packet.at < Mono::from_millis(3_743) { 0x65 } else { packet.payload[0] };
    }
    let split = packets.iter().position(|packet| packet.at >= Mono::from_millis(3_700)).unwrap();
    rig.feed(&packets[..split]);
    let during = rig.read(3_500);
    assert_eq!((during.verdict, during.cause), (Verdict::Stalled, Some(Cause::Silence)));
    let figures = rig.feed(&packets[split..]).read(9_000);
    assert_eq!(figures.packets.lost, 0);
    let dropout = figures.dropouts[0];
    assert_eq!((dropout.kind, dropout.cause), (DropoutKind::Freeze, Some(Cause::Silence)));
    assert!(dropout.length.as_millis().abs_diff(1200) <= 40, "{dropout:?}");
}

#[test]
fn a_stream_that_never_shows_a_picture_is_a_dropout_that_says_what_is_missing() {
    // A link of 60 % under a stream without a whole frame in it; and a stream that begins between two keyframes.
    for (lossy, cause, said) in
        [(true, Cause::TooHeavy, "of the declared bitrate arrive"), (false, Cause::AwaitingKeyframe, "before the next keyframe")]
    {
        let mut rig = Rig::new(Transport::Udp);
        let mut packets = made(1..125);
        for (n, packet) in packets.iter_mut().enumerate() {
            packet.payload[0] = 0x41;
            packet.payload.resize(400 + n % 7, 1);
        }
        if lossy {
            rig.receiver.begin(
                Mono::from_millis(900),
                &Video { bandwidth: Some(crate::BitsPerSecond(250_000.0)), ..video() },
                Transport::Udp,
            );
            packets.retain(|packet| packet.seq % 5 < 3);
        }
        rig.feed(&packets[..10]);
        assert_eq!(rig.read(1_500).verdict, Verdict::Waiting);
        for chunk in packets[10..].chunks(20) {
            rig.feed(chunk).read(chunk.last().unwrap().at.as_micros() / 1000 + 1);
        }
        let figures = rig.read(5_990);
        assert_eq!((figures.verdict, figures.cause), (Verdict::Stalled, Some(cause)));
        let dropout = figures.dropout_now.unwrap();
        assert_eq!((dropout.kind, dropout.start, dropout.cause), (DropoutKind::NoPicture, Mono::from_millis(3_900), Some(cause)));
        let events = figures.events;
        assert_eq!((events.len(), events[0].kind, events[0].start), (1, EventKind::NoPicture, Mono::from_millis(3_900)));
        assert!(events[0].evidence.contains(said), "{}", events[0].evidence);
    }
}

#[test]
fn timestamps_that_leap_are_one_event_and_no_strain() {
    let mut rig = Rig::new(Transport::Udp);
    let mut packets = made(0..500);
    for packet in packets.iter_mut().filter(|packet| (5_000_000..9_000_000).contains(&packet.at.as_micros())) {
        packet.timestamp = packet.timestamp.wrapping_add(9_000_000);
    }
    let mut worst = Verdict::Steady;
    for chunk in packets.chunks(30) {
        let at = chunk[29].at.as_micros() / 1000 + 1;
        let figures = rig.feed(chunk).read(at);
        worst = if at > 2_000 { worst.worse(figures.verdict) } else { worst };
        assert!(figures.jitter.is_none_or(|jitter| jitter < Duration::from_millis(5)), "{:?}", figures.jitter);
        assert!(figures.latency.is_none_or(|latency| latency.total.p95 < Duration::from_millis(50)), "{:?}", figures.latency);
    }
    let figures = rig.read(21_000);
    let kinds: Vec<_> = figures.events.iter().map(|event| (event.kind, event.evidence.as_str())).collect();
    let (ahead, back) =
        ("its timestamps leap 100.0 s ahead while pictures come", "its timestamps leap 100.0 s back while pictures come");
    assert_eq!(kinds, [(EventKind::TimestampsLeap, ahead), (EventKind::TimestampsLeap, back)]);
    assert_eq!((worst, figures.dropouts.len()), (Verdict::Steady, 0));
}

/// A report whose clock is ahead of ours, and that takes so long to come.
fn report_ahead(rig: &mut Rig, at: u64, ahead_ms: i64, path_ms: u64) {
    let sent = Mono::from_millis(at - path_ms);
    let report = rtcp::SenderReport {
        ssrc: Ssrc(7),
        ntp: NtpTime::from_wall(PAIR.wall_at(sent).offset(ahead_ms * 1000)),
        rtp_timestamp: ((at as i64 - 1000 - path_ms as i64) * 90) as u32,
        packets: 1,
        octets: 1,
    };
    let mut bytes = Vec::new();
    rtcp::emit_sender_report(&report, &mut bytes);
    rig.receiver.on_rtcp(Mono::from_millis(at), &bytes);
}

#[test]
fn a_clock_that_disagrees_is_told_and_no_latency_is_made_of_it() {
    // Frames are captured 103 ms before they come; the camera's clock is off.
    for (ahead, basis, wrong) in [
        (18_000_000, LatencyBasis::Relative, true),
        (400, LatencyBasis::Relative, false),
        (-1_000, LatencyBasis::Clock, false),
        (0, LatencyBasis::Clock, false),
    ] {
        let mut rig = Rig::new(Transport::Udp);
        rig.receiver.meter().set_round_trip(Some(Duration::from_millis(2)));
        let packets = made(0..250);
        for (n, chunk) in packets.chunks(75).enumerate() {
            rig.feed(chunk);
            report_ahead(&mut rig, 2_000 + 1_000 * n as u64, ahead, 103);
        }
        let figures = rig.read(11_000);
        let latency = figures.latency.unwrap();
        assert_eq!((latency.basis, figures.wrong_clock().is_some()), (basis, wrong), "{ahead}");
        assert_eq!((figures.verdict, figures.cause), (Verdict::Steady, None), "{ahead}: {latency:?}");
        let error = latency.error.unwrap_or_default();
        if basis == LatencyBasis::Clock {
            let truth = Duration::from_millis(105);
            assert!(latency.path.p50.abs_diff(truth) <= error + Duration::from_millis(5), "{ahead}: {latency:?}");
        }
        let told: Vec<_> = figures.events.iter().map(|event| (event.kind, event.cause, event.evidence.clone())).collect();
        if wrong {
            let said = "its clock is 5 h 0 min ahead ±2 s".to_owned();
            assert_eq!(told, [(EventKind::ClockWrong, Some(Cause::ClockWrong), said)]);
        } else {
            assert!(told.is_empty(), "{told:?}");
        }
    }
}

#[test]
fn a_strain_begins_and_ends_where_packets_were_lost() {
    let mut rig = Rig::new(Transport::Udp);
    let mut packets = made(0..750);
    // The last packet of one frame in ten, from 5 s to 17 s.
    let lossy = |packet: &Made| (5_000_000..17_000_000).contains(&packet.at.as_micros());
    packets.retain(|packet| !(lossy(packet) && packet.marker && (packet.timestamp / 3600) % 10 == 3));
    for chunk in packets.chunks(30) {
        let at = chunk.last().unwrap().at.as_micros() / 1000 + 1;
        rig.feed(chunk).read(at);
    }
    let figures = rig.read(31_000);
    let strained: Vec<_> = figures.events.iter().filter(|event| event.kind == EventKind::Strained).collect();
    assert_eq!((strained.len(), strained[0].cause), (1, Some(Cause::PacketLoss)), "{strained:?}");
    let (from, to) = (strained[0].start.as_micros() / 1000, strained[0].end.unwrap().as_micros() / 1000);
    assert!(from.abs_diff(5_120) <= 500 && to.abs_diff(16_720) <= 500, "{from} to {to}");
}

#[test]
fn sender_reports_give_the_clock_basis() {
    let mut rig = Rig::new(Transport::Udp);
    rig.feed(&made(0..50));
    let mut bytes = Vec::new();
    // Frame n is captured at 1000 + 40 n - 35 ms: the last packet arrives 37 ms after capture.
    let sent = Mono::from_millis(3000);
    let report = rtcp::SenderReport {
        ssrc: Ssrc(7),
        ntp: NtpTime::from_wall(PAIR.wall_at(sent)),
        rtp_timestamp: (2035 * 90) as u32,
        packets: 1,
        octets: 1,
    };
    rtcp::emit_sender_report(&report, &mut bytes);
    // The same before any packet, as from a server that begins with its report.
    let mut early = Rig::new(Transport::Udp);
    early.receiver.on_rtcp(sent, &bytes);
    let late_start: Vec<Made> = made(50..100).into_iter().map(|p| Made { at: p.at + Duration::from_millis(5), ..p }).collect();
    let latency = early.feed(&late_start).read(5_100).latency.unwrap();
    assert_eq!((latency.basis, latency.total.p50.as_millis()), (LatencyBasis::Clock, 42));
    rig.receiver.on_rtcp(sent + Duration::from_millis(1), &bytes);
    let latency = rig.read(3_100).latency.unwrap();
    assert_eq!((latency.basis, latency.total.p50.as_millis()), (LatencyBasis::Clock, 37));
    let report = rig.receiver.poll_report(Mono::from_millis(6_000)).unwrap();
    let Ok(parsed) = rtcp::parse(&report) else { panic!("our report is readable") };
    assert!(
        matches!(&parsed[0], RtcpPacket::ReceiverReport(_, blocks) if blocks[0].ssrc == Ssrc(7) && blocks[0].cumulative_lost == 0)
    );
    // Somebody sets this machine's clock by an hour, forth and back: how long frames take does not change, and the camera is
    // told to be off only while it is.
    rig.receiver.meter().set_round_trip(Some(Duration::from_millis(2)));
    for (at, hours, off) in [(3_200, 1, true), (3_300, 0, false)] {
        let mono = Mono::from_millis(at);
        rig.receiver.meter().set_clocks(ClockPair { mono, wall: PAIR.wall_at(mono).offset(hours * 3_600_000_000) });
        let figures = rig.read(at + 10);
        let latency = figures.latency.unwrap();
        assert!(latency.basis == LatencyBasis::Clock && latency.total.p50.as_millis().abs_diff(37) <= 2, "{latency:?}");
        assert_eq!(figures.wrong_clock().is_some(), off, "{:?}", figures.clock);
    }
}

#[test]
fn a_stream_that_no_decoder_takes_is_not_steady() {
    let mut rig = Rig::new(Transport::Tcp);
    rig.feed(&made(0..50));
    rig.receiver.meter().on_refused(Mono::from_millis(1_500));
    rig.receiver.meter().on_refused(Mono::from_millis(2_900));
    let figures = rig.read(3_000);
    assert_eq!((figures.verdict, figures.cause), (Verdict::Stalled, Some(Cause::Damaged)));
    assert!(figures.text.unwrap().contains("refuses"));
    rig.receiver.meter().on_decoded(49, Mono::from_millis(3_000), false);
    assert_ne!(rig.read(3_050).verdict, Verdict::Stalled, "a picture came");
}

#[test]
fn a_restarted_camera_is_followed_and_a_stranger_is_not() {
    let mut rig = Rig::new(Transport::Udp);
    let mut first = made(0..50);
    for n in 0..5 {
        first.insert(20 * n + 10, Made { ssrc: 99, ..first[20 * n + 10].clone() });
    }
    rig.feed(&first);
    assert_eq!(rig.read(3_000).dropped.stranger, 5);
    let mut second = made(0..50);
    for packet in &mut second {
        packet.ssrc = 8;
        packet.seq = packet.seq.wrapping_add(30_000);
        packet.at = packet.at + Duration::from_secs(4);
    }
    let figures = rig.feed(&second).read(7_000);
    assert_eq!((figures.packets.lost, figures.packets.restarts, figures.frames.received), (0, 1, 100));
}

#[test]
fn a_camera_that_begins_anew_without_a_pause_loses_no_packet() {
    // Another SSRC; and the same one with a far sequence and timestamp.
    for (ssrc, restarts) in [(8, 1), (7, 1)] {
        let mut rig = Rig::new(Transport::Udp);
        let mut packets = made(0..50);
        packets.extend(made(0..50).into_iter().map(|packet| Made {
            at: packet.at + Duration::from_secs(2),
            ssrc,
            seq: packet.seq.wrapping_add(30_000),
            timestamp: packet.timestamp.wrapping_add(900_000_000),
            ..packet
        }));
        let figures = rig.feed(&packets).read(6_000);
        assert_eq!((figures.packets.received, figures.packets.lost, figures.packets.restarts), (300, 0, restarts), "{ssrc}");
        assert_eq!((figures.frames.received, figures.frames.damaged), (100, 0), "{ssrc}");
        assert!(figures.dropouts.is_empty() && rig.units.iter().all(|unit| unit.displayable), "{ssrc}");
        assert_eq!((figures.dropped.stranger, figures.dropped.jump), (0, 0), "{ssrc}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn neighbours_that_change_places_make_no_difference(swaps in proptest::collection::vec(any::<bool>(), 149)) {
        let mut in_order = Rig::new(Transport::Udp);
        in_order.feed(&made(0..100)).read(6_000);
        let times: Vec<Mono> = made(0..100).iter().map(|packet| packet.at).collect();
        let mut packets = made(0..100);
        for (pair, _) in swaps.iter().enumerate().filter(|(_, swap)| **swap) {
            packets.swap(2 * pair + 1, 2 * pair + 2);
        }
        packets.iter_mut().zip(times).for_each(|(packet, at)| packet.at = at);
        let mut shuffled = Rig::new(Transport::Udp);
        let figures = shuffled.feed(&packets).read(6_000);
        let data = |rig: &Rig| rig.units.iter().map(|unit| unit.unit.data.clone()).collect::<Vec<_>>();
        prop_assert!(data(&in_order) == data(&shuffled));
        prop_assert_eq!(figures.packets.lost, 0);
    }
}
