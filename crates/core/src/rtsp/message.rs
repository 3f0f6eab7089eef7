//! Requests and responses (RFC 2326 §4 to §7), read leniently and written exactly.

use crate::text::plain_lines;
use std::fmt::Write as _;

/// Header fields in order; names compare without case.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Headers(Vec<(String, String)>);

impl Headers {
    /// The first value under a name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(have, _)| have.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// Every value under a name, in order.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0.iter().filter(move |(have, _)| have.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    /// Adds a field. Line ends in the value are replaced by spaces, so that a value from outside
    /// can't add fields of its own.
    pub fn push(&mut self, name: &str, value: impl Into<String>) {
        let value = value.into().replace(['\r', '\n'], " ");
        self.0.push((name.to_owned(), value));
    }

    fn write(&self, out: &mut String) {
        for (name, value) in &self.0 {
            let _ = write!(out, "{name}: {value}\r\n");
        }
        out.push_str("\r\n");
    }
}

/// A request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    /// The method, in upper case as sent.
    pub method: String,
    /// The request URI.
    pub uri: String,
    /// Header fields.
    pub headers: Headers,
    /// Message body, by Content-Length.
    pub body: Vec<u8>,
}

/// A response.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Response {
    /// Status code, 100 to 999.
    pub status: u16,
    /// The reason phrase.
    pub reason: String,
    /// Header fields.
    pub headers: Headers,
    /// Message body, by Content-Length.
    pub body: Vec<u8>,
}

/// Either kind of message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Message {
    /// From client to server, or a server's own request.
    Request(Request),
    /// The answer to one.
    Response(Response),
}

/// Why a message head is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MessageError {
    /// The first line is neither a request line nor a status line of RTSP.
    #[error("the first line is not RTSP")]
    StartLine,
    /// The status is not a number of three digits.
    #[error("the status code is not a number")]
    Status,
    /// Content-Length is not a number.
    #[error("the content length is not a number")]
    ContentLength,
}

impl Message {
    /// Reads a head (start line and fields, without the empty line) and says how long the body is.
    /// The body is left empty.
    ///
    /// # Errors
    /// [`MessageError`] when the start line or the content length cannot be understood; odd header
    /// lines are skipped, folded ones (§4.2) joined.
    pub fn parse_head(head: &[u8]) -> Result<(Self, usize), MessageError> {
        let text = plain_lines(&String::from_utf8_lossy(head));
        let mut lines = text.lines().map(|line| line.trim_end_matches('\r'));
        let start = lines.next().unwrap_or("").trim();
        let headers = parse_headers(lines);
        let length = match headers.get("Content-Length") {
            None => 0,
            Some(text) => text.trim().parse().map_err(|_| MessageError::ContentLength)?,
        };
        let message = match start.strip_prefix("RTSP/") {
            Some(rest) => parse_status(rest, headers)?,
            None => parse_request(start, headers)?,
        };
        Ok((message, length))
    }

    /// The headers of either kind.
    #[must_use]
    pub const fn headers(&self) -> &Headers {
        match self {
            Self::Request(request) => &request.headers,
            Self::Response(response) => &response.headers,
        }
    }

    /// The same message with a body.
    #[must_use]
    pub fn with_body(mut self, bytes: Vec<u8>) -> Self {
        match &mut self {
            Self::Request(request) => request.body = bytes,
            Self::Response(response) => response.body = bytes,
        }
        self
    }
}

fn parse_status(rest: &str, headers: Headers) -> Result<Message, MessageError> {
    let mut words = rest.splitn(3, ' ');
    words.next(); // the version: 1.0, and whatever else real devices write
    let status = words.next().and_then(|word| word.parse().ok()).filter(|code| (100..1000).contains(code));
    let reason = words.next().unwrap_or("").to_owned();
    Ok(Message::Response(Response { status: status.ok_or(MessageError::Status)?, reason, headers, body: Vec::new() }))
}

fn parse_request(start: &str, headers: Headers) -> Result<Message, MessageError> {
    let mut words = start.split(' ').filter(|word| !word.is_empty());
    let (Some(method), Some(uri), Some(version)) = (words.next(), words.next(), words.next()) else {
        return Err(MessageError::StartLine);
    };
    if !version.starts_with("RTSP/") || !method.bytes().all(|b| b.is_ascii_uppercase() || b == b'_') {
        return Err(MessageError::StartLine);
    }
    Ok(Message::Request(Request { method: method.to_owned(), uri: uri.to_owned(), headers, body: Vec::new() }))
}

fn parse_headers<'a>(lines: impl Iterator<Item = &'a str>) -> Headers {
    let mut headers = Headers::default();
    for line in lines {
        if line.starts_with([' ', '\t']) {
            if let Some((_, value)) = headers.0.last_mut() {
                value.push(' ');
                value.push_str(line.trim());
            }
        } else if let Some((name, value)) = line.split_once(':') {
            headers.push(name.trim(), value.trim());
        }
    }
    headers
}

impl Request {
    /// A request without fields or body.
    #[must_use]
    pub fn new(method: &str, uri: &str) -> Self {
        Self { method: method.to_owned(), uri: uri.to_owned(), headers: Headers::default(), body: Vec::new() }
    }

    /// The bytes on the wire.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut text = format!("{} {} RTSP/1.0\r\n", self.method, self.uri);
        emit_rest(&mut text, &self.headers, &self.body)
    }
}

impl Response {
    /// A response without body.
    #[must_use]
    pub fn new(status: u16, reason: &str) -> Self {
        Self { status, reason: reason.to_owned(), headers: Headers::default(), body: Vec::new() }
    }

    /// The bytes on the wire.
    #[must_use]
    pub fn emit(&self) -> Vec<u8> {
        let mut text = format!("RTSP/1.0 {} {}\r\n", self.status, self.reason);
        emit_rest(&mut text, &self.headers, &self.body)
    }
}

fn emit_rest(text: &mut String, headers: &Headers, body: &[u8]) -> Vec<u8> {
    if !body.is_empty() {
        let _ = write!(text, "Content-Length: {}\r\n", body.len());
    }
    headers.write(text);
    let mut bytes = std::mem::take(text).into_bytes();
    bytes.extend_from_slice(body);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn heads_are_read_as_real_servers_write_them() {
        let (message, length) = Message::parse_head(
            b"RTSP/1.0 200 OK\r\ncseq:3\r\nSession : 12;timeout=60\r\nX-Long: a\r\n b\r\ncontent-length: 5\r\nnonsense",
        )
        .unwrap();
        let Message::Response(response) = message else { panic!("a response") };
        assert_eq!((response.status, length), (200, 5));
        assert_eq!(response.headers.get("CSeq"), Some("3"));
        assert_eq!(response.headers.get("SESSION"), Some("12;timeout=60"));
        assert_eq!(response.headers.get("x-long"), Some("a b"));
    }

    #[test]
    fn nonsense_is_refused_with_a_reason() {
        assert_eq!(Message::parse_head(b"HTTP/1.1 200 OK"), Err(MessageError::StartLine));
        assert_eq!(Message::parse_head(b"RTSP/1.0 fine OK"), Err(MessageError::Status));
        assert_eq!(Message::parse_head(b"RTSP/1.0 200 OK\r\nContent-Length: many"), Err(MessageError::ContentLength));
    }

    #[test]
    fn nothing_in_a_head_steers_a_terminal() {
        let (message, _) = Message::parse_head(b"RTSP/1.0 404 No\x1b[31m\r\nServer: a\x1b]0;b\x07\xc2\x9b\r\n").unwrap();
        let Message::Response(response) = message else { panic!("a response") };
        assert_eq!((response.reason.as_str(), response.headers.get("Server")), ("No[31m", Some("a]0;b")));
    }

    #[test]
    fn a_value_cannot_add_fields() {
        let mut request = Request::new("PLAY", "rtsp://cam/");
        request.headers.push("Session", "1\r\nEvil: yes");
        assert!(!String::from_utf8(request.emit()).unwrap().contains("\nEvil"));
    }
}
