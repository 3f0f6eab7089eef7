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
}

impl Framer {
    /// The next frame and how many bytes of `bytes` it used up; `None` when more bytes are needed.
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
            match rest.first() {
                None => return Ok(None),
                Some(b'$') => return Ok(self.packet(rest).map(|(frame, used)| (frame, at + used))),
                Some(b'\r' | b'\n') => at += 1, // stray line ends between messages
                Some(_) if begins_message(rest) => {
                    return Ok(self.message(rest)?.map(|(frame, used)| (frame, at + used)));
                }
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
        let Some((head_end, body_start)) = find_blank_line(rest) else {
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
        let Some(body) = rest.get(body_start..body_start + length) else { return Ok(None) };
        self.understood = true;
        self.skipped = 0;
        Ok(Some((Frame::Message(message.with_body(body.to_vec())), body_start + length)))
    }
}

/// Whether the bytes are, or may become, the start of a message. A method is upper case letters
/// and underscores; a lone letter in lost framing would match, so a few more must follow.
fn begins_message(rest: &[u8]) -> bool {
    const STARTS: [&[u8]; 9] =
        [b"RTSP/", b"OPTIONS ", b"DESCRIBE ", b"ANNOUNCE ", b"SETUP ", b"PLAY ", b"PAUSE ", b"TEARDOWN ", b"GET_PARAMETER "];
    const MORE: [&[u8]; 3] = [b"SET_PARAMETER ", b"REDIRECT ", b"RECORD "];
    STARTS.iter().chain(&MORE).any(|start| {
        let n = start.len().min(rest.len());
        rest.get(..n) == start.get(..n)
    })
}

/// Where the head ends and the body starts; bare line feeds are accepted.
fn find_blank_line(bytes: &[u8]) -> Option<(usize, usize)> {
    let window = bytes.get(..bytes.len().min(MAX_MESSAGE + 4)).unwrap_or_default();
    let crlf = window.windows(4).position(|w| w == b"\r\n\r\n").map(|at| (at, at + 4));
    let lf = window.windows(2).position(|w| w == b"\n\n").map(|at| (at, at + 2));
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
                out.push(match frame {
                    Frame::Message(Message::Response(r)) => format!("{} {}", r.status, r.body.len()),
                    Frame::Message(Message::Request(r)) => r.method,
                    Frame::Packet { channel, data } => format!("${channel}:{}", data.len()),
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
