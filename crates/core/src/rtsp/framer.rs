//! Cutting one TCP stream into messages and interleaved packets (RFC 2326 §10.12).

use super::message::{Message, MessageError};

/// Longest message head or body accepted: a description of 32 streams is some 20 kB.
pub const MAX_MESSAGE: usize = 256 * 1024;
/// Most bytes skipped in search of the next frame before the connection is given up.
const MAX_SKIPPED: usize = 256 * 1024;

/// One piece of the stream.
#[derive(Debug, PartialEq, Eq)]
pub enum Frame<'a> {
    /// A request or response, with its body.
    Message(Message),
    /// A packet on an interleaved channel; borrows the input.
    Packet {
        /// The channel number.
        channel: u8,
        /// The RTP or RTCP packet.
        data: &'a [u8],
    },
    /// Line ends and other bytes that are no frame: of no use, and used up.
    Filler,
}

/// Why the stream cannot be read on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum FramerError {
    /// What came first was not RTSP at all.
    #[error("what answered does not speak RTSP")]
    NotRtsp,
    /// A head or body is longer than [`MAX_MESSAGE`].
    #[error("a message is longer than {MAX_MESSAGE} bytes")]
    TooLong,
    /// Too much was skipped without finding a frame.
    #[error("the stream lost its framing")]
    Lost,
    /// A message could not be understood.
    #[error("{0}")]
    Message(MessageError),
}

/// Cuts frames off the front of a buffer that the caller fills.
///
/// ```
/// use lattice_core::rtsp::{Frame, Framer};
/// let mut framer = Framer::default();
/// let bytes = b"$\x00\x00\x02ab$\x01\x00";
/// let (frame, used) = framer.next(bytes).unwrap().unwrap();
/// assert_eq!(frame, Frame::Packet { channel: 0, data: b"ab" });
/// assert_eq!(framer.next(&bytes[used..]), Ok(None)); // the second packet is not whole yet
/// ```
#[derive(Debug, Default)]
pub struct Framer {
    understood: bool,
    skipped: usize,
    /// Of the message that the bytes begin with: how far its head was searched for its end.
    searched: usize,
    /// Its head, once it is whole: where the body begins, and how long it is.
    head: Option<(Message, usize, usize)>,
}

impl Framer {
    /// The next frame and how many bytes of `bytes` it used up; `None` when more bytes are needed. What was used up must be
    /// taken off before the next call; what was not must stand where it stood, so that nothing is looked at twice.
    ///
    /// Bytes that are no frame are skipped once the other side has spoken RTSP: real devices lose
    /// their framing under load and find it again.
    ///
    /// # Errors
    /// [`FramerError`]; the connection is then of no more use.
    pub fn next<'a>(&mut self, bytes: &'a [u8]) -> Result<Option<(Frame<'a>, usize)>, FramerError> {
        let mut at = 0;
        loop {
            let rest = bytes.get(at..).unwrap_or_default();
            let begins = rest.first().is_some_and(|first| *first == b'$' || begins_message(rest));
            if at > 0 && (begins || rest.is_empty()) {
                return Ok(Some((Frame::Filler, at)));
            }
            if !begins {
                (self.searched, self.head) = (0, None); // what looked like a message is none
            }
            match rest.first() {
                None => return Ok(None),
                Some(b'$') => return Ok(self.packet(rest)),
                Some(_) if begins => return self.message(rest),
                // Stray line ends between messages, all at once: somebody may send nothing else.
                Some(b'\r' | b'\n') => at += rest.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count(),
                Some(_) if !self.understood => return Err(FramerError::NotRtsp),
                Some(_) => {
                    at += 1;
                    self.skipped += 1;
                    if self.skipped > MAX_SKIPPED {
                        return Err(FramerError::Lost);
                    }
                }
            }
        }
    }

    fn packet<'a>(&mut self, rest: &'a [u8]) -> Option<(Frame<'a>, usize)> {
        let (&[_, channel, high, low], body) = rest.split_first_chunk::<4>()?;
        let length = usize::from(u16::from_be_bytes([high, low]));
        let data = body.get(..length)?;
        self.skipped = 0;
        Some((Frame::Packet { channel, data }, 4 + length))
    }

    fn message<'a>(&mut self, rest: &'a [u8]) -> Result<Option<(Frame<'a>, usize)>, FramerError> {
        if self.head.is_none() {
            let Some((head_end, body_start)) = find_blank_line(rest, self.searched) else {
                // The empty line may have begun.
                self.searched = rest.len().saturating_sub(3);
                return if rest.len() > MAX_MESSAGE { Err(FramerError::TooLong) } else { Ok(None) };
            };
            let head = rest.get(..head_end).unwrap_or_default();
            let (message, length) = Message::parse_head(head).map_err(|error| match error {
                MessageError::StartLine if !self.understood => FramerError::NotRtsp,
                other => FramerError::Message(other),
            })?;
            if head_end > MAX_MESSAGE || length > MAX_MESSAGE {
                return Err(FramerError::TooLong);
            }
            self.head = Some((message, body_start, length));
        }
        let whole = self.head.take_if(|(_, start, length)| rest.len() >= *start + *length);
        let Some((message, start, length)) = whole else { return Ok(None) };
        let body = rest.get(start..start + length).unwrap_or_default();
        self.understood = true;
        (self.skipped, self.searched) = (0, 0);
        Ok(Some((Frame::Message(message.with_body(body.to_vec())), start + length)))
    }
}

/// Whether the bytes are, or may become, the start of a message. A method is upper case letters
/// and underscores; a lone letter in lost framing would match, so a few more must follow.
fn begins_message(rest: &[u8]) -> bool {
    const STARTS: [&[u8]; 9] =
        [b"RTSP/", b"OPTIONS ", b"DESCRIBE ", b"ANNOUNCE ", b"SETUP ", b"PLAY ", b"PAUSE ", b"TEARDOWN ", b"GET_PARAMETER "];
    const MORE: [&[u8]; 3] = [b"SET_PARAMETER ", b"REDIRECT ", b"RECORD "];
    rest.first().is_some_and(u8::is_ascii_uppercase)
        && STARTS.iter().chain(&MORE).any(|start| {
            let n = start.len().min(rest.len());
            rest.get(..n) == start.get(..n)
        })
}

/// Where the head ends and the body starts, searched from `from` on; bare line feeds are accepted.
fn find_blank_line(bytes: &[u8], from: usize) -> Option<(usize, usize)> {
    let window = bytes.get(from..bytes.len().min(MAX_MESSAGE + 4)).unwrap_or_default();
    let crlf = memchr::memmem::find(window, b"\r\n\r\n").map(|at| (from + at, from + at + 4));
    let lf = memchr::memmem::find(window, b"\n\n").map(|at| (from + at, from + at + 2));
    match (crlf, lf) {
        (Some(a), Some(b)) => Some(if a.0 < b.0 { a } else { b }),
        (a, b) => a.or(b),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn collect(bytes: &[u8], chunk: usize) -> Result<Vec<String>, FramerError> {
        let (mut framer, mut buffer, mut out) = (Framer::default(), Vec::new(), Vec::new());
        for piece in bytes.chunks(chunk) {
            buffer.extend_from_slice(piece);
            let mut used = 0;
            while let Some((frame, n)) = framer.next(&buffer[used..])? {
                out.extend(match frame {
                    Frame::Filler => None,
                    Frame::Message(Message::Response(r)) => Some(format!("{} {}", r.status, r.body.len())),
                    Frame::Message(Message::Request(r)) => Some(r.method),
                    Frame::Packet { channel, data } => Some(format!("${channel}:{}", data.len())),
                });
                used += n;
            }
            buffer.drain(..used);
        }
        Ok(out)
    }

    const MIXED: &[u8] = b"RTSP/1.0 200 OK\r\nContent-Length: 3\r\n\r\nabc$\x00\x00\x02xyRTSP/1.0 404 No\r\n\r\n\r\n$\x01\x00\x00junk$\x02\x00\x01zOPTIONS * RTSP/1.0\nCSeq: 1\n\n";

    #[test]
    fn messages_packets_and_junk_are_told_apart_in_any_pieces() {
        for chunk in 1..MIXED.len() {
            let got = collect(MIXED, chunk).unwrap();
            assert_eq!(got, ["200 3", "$0:2", "404 0", "$1:0", "$2:1", "OPTIONS"], "{chunk}");
        }
    }

    #[test]
    fn another_protocol_is_named_at_once() {
        assert_eq!(collect(b"HTTP/1.1 400 Bad Request\r\n\r\n", 64), Err(FramerError::NotRtsp));
        assert_eq!(collect(b"SSH-2.0-x\r\n", 64), Err(FramerError::NotRtsp));
    }

    #[test]
    fn an_endless_head_is_given_up() {
        let mut bytes = b"RTSP/1.0 200 OK\r\n".to_vec();
        bytes.resize(MAX_MESSAGE + 100, b'x');
        assert_eq!(Framer::default().next(&bytes), Err(FramerError::TooLong));
    }

    #[test]
    fn line_ends_between_messages_are_used_up() {
        let mut framer = Framer::default();
        for _ in 0..1000 {
            assert_eq!(framer.next(&[b'\r', b'\n'].repeat(512)), Ok(Some((Frame::Filler, 1024))));
        }
    }

    #[test]
    fn a_message_that_drips_in_is_looked_at_once() {
        let head = [b"RTSP/1.0 200 OK\r\nX: ".as_slice(), &[b'x'; 4096], b"\r\nContent-Length: 4096\r\n\r\n"].concat();
        let bytes = [head.as_slice(), &[b'y'; 4096]].concat();
        let mut framer = Framer::default();
        for end in 8..head.len() {
            assert_eq!(framer.next(&bytes[..end]), Ok(None));
            assert!(framer.searched >= end - 3, "{end}: searched to {}", framer.searched);
        }
        for end in head.len()..bytes.len() {
            assert_eq!(framer.next(&bytes[..end]), Ok(None));
            assert!(framer.head.is_some(), "the head is not read again");
        }
        assert!(matches!(framer.next(&bytes), Ok(Some((Frame::Message(_), used))) if used == bytes.len()));
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>, chunk in 1usize..50) {
            let _ = collect(&bytes, chunk);
            let mut after = b"RTSP/1.0 200 OK\r\n\r\n".to_vec();
            after.extend(&bytes);
            let _ = collect(&after, chunk);
        }
    }
}
