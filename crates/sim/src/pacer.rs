//! A viewer's packets on their way out: numbered, dropped or delayed as ordered.

use crate::camera::Trouble;
use crate::video::CodedFrame;
use lattice_core::rtp::{PayloadType, RtpPacket, Seq16, Ssrc};
use rand::rngs::SmallRng;
use rand::{RngExt as _, SeedableRng as _};
use std::collections::BTreeMap;
use std::time::Duration;
use tokio::time::Instant;

/// Payload type that the stand-ins use.
pub const PAYLOAD_TYPE: u8 = 96;

/// One viewer's packets.
pub struct Pacer {
    pub ssrc: Ssrc,
    pub packets: u32,
    pub octets: u32,
    pub payload_type: u8,
    timestamp_base: u32,
    seq: u16,
    keeps_order: bool,
    random: SmallRng,
    waiting: BTreeMap<(Instant, u64), Vec<u8>>,
    pushed: u64,
    last_due: Instant,
    /// When a throttled link has carried what was given to it.
    link_free: Instant,
}

/// A throttled link drops what would wait for longer, where nothing keeps it.
const QUEUE: Duration = Duration::from_millis(500);
/// A camera that still has so much to send to a viewer makes no more frames for it.
const BACKLOG: Duration = Duration::from_secs(3);

impl Pacer {
    /// `keeps_order` for TCP, where a delayed packet delays those behind it.
    pub fn new(seed: u64, keeps_order: bool) -> Self {
        let mut random = SmallRng::seed_from_u64(seed);
        Self {
            ssrc: Ssrc(random.random()),
            packets: 0,
            octets: 0,
            payload_type: PAYLOAD_TYPE,
            timestamp_base: random.random(),
            seq: random.random(),
            keeps_order,
            random,
            waiting: BTreeMap::new(),
            pushed: 0,
            last_due: Instant::now(),
            link_free: Instant::now(),
        }
    }

    /// The RTP timestamp after so many ticks.
    pub fn timestamp(&self, ticks: u32) -> u32 {
        self.timestamp_base.wrapping_add(ticks)
    }

    /// The sequence number of the next packet.
    pub const fn next_seq(&self) -> u16 {
        self.seq
    }

    /// Queues a frame's packets; gives how many were sent and how many dropped on order.
    pub fn push(&mut self, now: Instant, frame: &CodedFrame, trouble: &Trouble) -> (u32, u32) {
        let (mut sent, mut dropped) = (0, 0);
        for (index, payload) in frame.payloads.iter().enumerate() {
            let packet = RtpPacket {
                marker: index + 1 == frame.payloads.len(),
                payload_type: PayloadType(self.payload_type),
                seq: Seq16(self.seq),
                timestamp: self.timestamp(frame.ticks),
                ssrc: self.ssrc,
                payload,
            };
            self.seq = self.seq.wrapping_add(1);
            self.packets = self.packets.wrapping_add(1);
            self.octets = self.octets.wrapping_add(payload.len() as u32);
            if trouble.loss > 0.0 && self.random.random_bool(trouble.loss) {
                dropped += 1;
                continue;
            }
            let mut bytes = Vec::with_capacity(payload.len() + 12);
            packet.emit(&mut bytes);
            let mut due = now + self.lateness(trouble);
            if let Some(bits) = trouble.throttle {
                let from = self.link_free.max(now);
                if !self.keeps_order && from - now > QUEUE {
                    dropped += 1;
                    continue;
                }
                self.link_free = from + Duration::from_secs_f64(bytes.len() as f64 * 8.0 / bits);
                due = due.max(self.link_free);
            }
            let due = if self.keeps_order { due.max(self.last_due) } else { due };
            self.last_due = due;
            self.pushed += 1;
            self.waiting.insert((due, self.pushed), bytes);
            sent += 1;
        }
        (sent, dropped)
    }

    fn lateness(&mut self, trouble: &Trouble) -> Duration {
        trouble.delay.map_or(Duration::ZERO, |(base, jitter)| base + jitter.mul_f64(self.random.random::<f64>()))
    }

    /// The next packet that is due.
    pub fn pop(&mut self, now: Instant) -> Option<Vec<u8>> {
        let entry = self.waiting.first_entry()?;
        (entry.key().0 <= now).then(|| entry.remove())
    }

    /// There is so much still to be sent that another frame makes no sense.
    pub fn is_choked(&self, now: Instant) -> bool {
        self.link_free > now + BACKLOG
    }

    /// When the next packet is due.
    pub fn due(&self) -> Option<Instant> {
        self.waiting.keys().next().map(|(due, _)| *due)
    }
}
