//! A camera that pushes: its sub stream as MPEG-TS (ISO/IEC 13818-1), in UDP or in RTP, to an address on order.

use crate::video::{CodedFrame, VideoStream};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use tokio::net::UdpSocket;
use tokio::sync::broadcast::error::RecvError;

const PMT_PID: u16 = 0x20;
const VIDEO_PID: u16 = 0x41;
/// Transport packets in one datagram: what fits an Ethernet frame.
const A_DATAGRAM: usize = 7;

/// Makes transport packets of coded frames.
#[derive(Debug, Default)]
pub(crate) struct Muxer {
    tables: u8,
    video: u8,
}

impl Muxer {
    /// The packets of one frame, with the tables before each keyframe.
    pub fn frame(&mut self, bytes: &[u8], ticks: u32, keyframe: bool) -> Vec<u8> {
        let mut out = Vec::new();
        if keyframe {
            // Program 1 at its PID; its one stream, H.264, which also carries the clock.
            let pat = [0, 1, 0xe0 | (PMT_PID >> 8) as u8, PMT_PID as u8];
            let [high, low] = [0xe0 | (VIDEO_PID >> 8) as u8, VIDEO_PID as u8];
            let pmt = [high, low, 0xf0, 0, 0x1b, high, low, 0xf0, 0];
            out.extend(self.table(0, 0x00, &pat));
            out.extend(self.table(PMT_PID, 0x02, &pmt));
            self.tables = self.tables.wrapping_add(1) & 0x0f;
        }
        let time = u64::from(ticks) + 9_000;
        let stamp = [
            0x21 | (time >> 29) as u8 & 0x0e,
            (time >> 22) as u8,
            1 | (time >> 14) as u8 & 0xfe,
            (time >> 7) as u8,
            1 | (time << 1) as u8 & 0xfe,
        ];
        let mut pes = vec![0, 0, 1, 0xe0, 0, 0, 0x80, 0x80, 5];
        pes.extend(stamp);
        pes.extend([0, 0, 0, 1, 9, 0xf0]); // an access unit delimiter, as the standard asks for
        pes.extend_from_slice(bytes);
        let mut rest = pes.as_slice();
        let mut first = true;
        while !rest.is_empty() {
            let mut adaptation = Vec::new();
            if first {
                let base = u64::from(ticks);
                adaptation = vec![0x10 | if keyframe { 0x40 } else { 0 }];
                adaptation.extend([
                    (base >> 25) as u8,
                    (base >> 17) as u8,
                    (base >> 9) as u8,
                    (base >> 1) as u8,
                    (base << 7) as u8 | 0x7e,
                    0,
                ]);
            }
            let mut room = 184 - if adaptation.is_empty() { 0 } else { adaptation.len() + 1 };
            if rest.len() < room {
                // Stuffing, in the adaptation field.
                let missing = room - rest.len();
                if adaptation.is_empty() {
                    adaptation = if missing == 1 { Vec::new() } else { [vec![0], vec![0xff; missing - 2]].concat() };
                    out.extend(self.head(first, true));
                    out.push(adaptation.len() as u8);
                    out.extend(&adaptation);
                    out.extend(rest);
                    return out;
                }
                adaptation.extend(vec![0xff; missing]);
                room = rest.len();
            }
            out.extend(self.head(first, !adaptation.is_empty()));
            if !adaptation.is_empty() {
                out.push(adaptation.len() as u8);
                out.extend(&adaptation);
            }
            let (now, later) = rest.split_at(room);
            out.extend(now);
            rest = later;
            first = false;
        }
        out
    }

    fn head(&mut self, starts: bool, adaptation: bool) -> [u8; 4] {
        let start = if starts { 0x40 } else { 0 };
        let head = [0x47, start | (VIDEO_PID >> 8) as u8, VIDEO_PID as u8, if adaptation { 0x30 } else { 0x10 } | self.video];
        self.video = self.video.wrapping_add(1) & 0x0f;
        head
    }

    fn table(&self, pid: u16, id: u8, body: &[u8]) -> Vec<u8> {
        let length = (5 + body.len() + 4) as u8;
        let mut section = vec![id, 0xb0, length, 0, 1, 0xc1, 0, 0];
        section.extend_from_slice(body);
        section.extend(crc(&section).to_be_bytes());
        let mut packet = vec![0x47, 0x40 | (pid >> 8) as u8, pid as u8, 0x10 | self.tables, 0];
        packet.extend(section);
        packet.resize(188, 0xff);
        packet
    }
}

/// The checksum of annex A.
fn crc(bytes: &[u8]) -> u32 {
    bytes.iter().fold(u32::MAX, |crc, byte| {
        (0..8).fold(crc ^ u32::from(*byte) << 24, |crc, _| if crc & 0x8000_0000 == 0 { crc << 1 } else { crc << 1 ^ 0x04c1_1db7 })
    })
}

/// Pushes until the time is over.
pub(crate) async fn push(stream: Arc<VideoStream>, from: IpAddr, to: SocketAddr, rtp: bool, lasting: Duration) {
    let from = if from.is_loopback() { from } else { IpAddr::V4(Ipv4Addr::LOCALHOST) };
    let Ok(socket) = UdpSocket::bind((from, 0)).await else { return };
    let (mut frames, mut muxer, mut sequence) = (stream.subscribe(), Muxer::default(), rand::random::<u16>());
    let ssrc: u32 = rand::random();
    let end = tokio::time::Instant::now() + lasting;
    let mut begun = false;
    loop {
        let frame = tokio::select! {
            () = tokio::time::sleep_until(end) => return,
            frame = frames.recv() => frame,
        };
        let frame: Arc<CodedFrame> = match frame {
            Ok(frame) => frame,
            Err(RecvError::Lagged(_)) => continue,
            Err(RecvError::Closed) => return,
        };
        begun |= frame.keyframe;
        if !begun || frame.stalled {
            continue;
        }
        for packets in muxer.frame(&frame.bytes, frame.ticks, frame.keyframe).chunks(188 * A_DATAGRAM) {
            let datagram = if rtp {
                sequence = sequence.wrapping_add(1);
                let mut datagram = vec![0x80, 33];
                datagram.extend(sequence.to_be_bytes());
                datagram.extend(frame.ticks.to_be_bytes());
                datagram.extend(ssrc.to_be_bytes());
                datagram.extend_from_slice(packets);
                datagram
            } else {
                packets.to_vec()
            };
            let _ = socket.send_to(&datagram, to).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::Mono;
    use lattice_core::ts::{Demux, VideoUnit};

    #[test]
    fn what_is_muxed_is_demuxed_again() {
        let (mut muxer, mut demux, mut units) = (Muxer::default(), Demux::default(), Vec::<VideoUnit>::new());
        let frames: Vec<Vec<u8>> = (0..40usize).map(|n| (0..150 + n * 37).map(|i| (i * 7 + n) as u8).collect()).collect();
        for (n, bytes) in frames.iter().enumerate() {
            let packets = muxer.frame(bytes, n as u32 * 3600, n == 0);
            assert!(packets.len().is_multiple_of(188) && Demux::recognises(&packets));
            demux.push(Mono::ZERO, &packets, &mut |unit| units.push(unit));
        }
        assert_eq!((units.len(), demux.counts().lost, demux.counts().noise), (39, 0, 0), "the last has no successor");
        for (n, (unit, bytes)) in units.iter().zip(&frames).enumerate() {
            assert_eq!((unit.timestamp, unit.bytes.get(6..)), (n as i64 * 3600 + 9_000, Some(bytes.as_slice())), "{n}");
        }
        assert_eq!(demux.clock(), Some(39 * 3600 * 300));
    }
}
