//! A stream of pictures in one HTTP answer: `multipart/x-mixed-replace` (RFC 2046 §5.1), as devices send it.

/// Longest part kept: a JPEG of the largest sensors at the highest quality.
const MAX_PART: usize = 16 << 20;
/// Longest head of a part.
const MAX_HEAD: usize = 4096;

/// Why a stream of parts cannot be read on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MultipartError {
    /// A part is longer than any picture.
    #[error("a part is longer than any picture")]
    TooLong,
    /// What comes is not divided into parts.
    #[error("what comes is not divided into parts")]
    NoParts,
}

/// Cuts a stream into its parts.
///
/// ```
/// use lattice_core::multipart::Parts;
/// let mut parts = Parts::new("multipart/x-mixed-replace; boundary=--frame").unwrap();
/// parts.push(b"--frame\r\nContent-Type: image/jpeg\r\nContent-Length: 3\r\n\r\nabc\r\n--fra");
/// assert_eq!(parts.next()?, Some(b"abc".to_vec()));
/// assert_eq!(parts.next()?, None);
/// # Ok::<(), lattice_core::multipart::MultipartError>(())
/// ```
#[derive(Debug)]
pub struct Parts {
    boundary: Vec<u8>,
    bytes: Vec<u8>,
    /// How far the body of the part that is being read was searched for the next boundary.
    searched: usize,
}

impl Parts {
    /// A reader for a content type; `None` when it is no multipart type or names no boundary.
    #[must_use]
    pub fn new(content_type: &str) -> Option<Self> {
        if !content_type.trim_start().to_ascii_lowercase().starts_with("multipart/") {
            return None;
        }
        let boundary = content_type.split(';').find_map(|part| {
            let (key, value) = part.split_once('=')?;
            key.trim().eq_ignore_ascii_case("boundary").then(|| value.trim().trim_matches('"').to_owned())
        })?;
        // Devices name it with the leading hyphens of its lines, or without.
        let boundary = boundary.trim_start_matches('-').as_bytes().to_vec();
        (!boundary.is_empty()).then_some(Self { boundary, bytes: Vec::new(), searched: 0 })
    }

    /// Takes more bytes.
    pub fn push(&mut self, bytes: &[u8]) {
        self.bytes.extend_from_slice(bytes);
    }

    /// The next whole part, without its head; `None` when more bytes are needed.
    ///
    /// # Errors
    /// [`MultipartError`] when the stream cannot be read on.
    #[allow(clippy::should_implement_trait, reason = "an iterator would have to end")]
    pub fn next(&mut self) -> Result<Option<Vec<u8>>, MultipartError> {
        let Some(begin) = find(&self.bytes, &self.boundary) else {
            return if self.bytes.len() > MAX_HEAD + self.boundary.len() { Err(MultipartError::NoParts) } else { Ok(None) };
        };
        let head_from = begin + self.boundary.len();
        let rest = self.bytes.get(head_from..).unwrap_or_default();
        let ends = [&b"\r\n\r\n"[..], b"\n\n"].into_iter().filter_map(|end| Some((find(rest, end)?, end.len())));
        let Some((head_length, end)) = ends.min() else {
            return if rest.len() > MAX_HEAD { Err(MultipartError::NoParts) } else { Ok(None) };
        };
        let head = String::from_utf8_lossy(rest.get(..head_length).unwrap_or_default()).into_owned();
        let body = rest.get(head_length + end..).unwrap_or_default();
        let announced = head.lines().find_map(|line| {
            let (key, value) = line.split_once(':')?;
            key.trim().eq_ignore_ascii_case("content-length").then(|| value.trim().parse::<usize>().ok())?
        });
        let length = match announced {
            Some(length) if length > MAX_PART => return Err(MultipartError::TooLong),
            Some(length) => (body.len() >= length).then_some(length),
            // Without a length the part ends where the next boundary begins, with the hyphens and line end before it.
            // What was searched before is not searched again.
            None => find(body.get(self.searched..).unwrap_or_default(), &self.boundary).map(|at| at + self.searched).map(|at| {
                let part = body.get(..at).unwrap_or_default();
                let trimmed = part.iter().rposition(|byte| !matches!(byte, b'-' | b'\r' | b'\n'));
                trimmed.map_or(0, |last| last + 1)
            }),
        };
        let Some(length) = length else {
            self.searched = body.len().saturating_sub(self.boundary.len());
            return if body.len() > MAX_PART { Err(MultipartError::TooLong) } else { Ok(None) };
        };
        let part = body.get(..length).unwrap_or_default().to_vec();
        self.searched = 0;
        self.bytes.drain(..head_from + head_length + end + length);
        Ok(Some(part))
    }
}

fn find(bytes: &[u8], what: &[u8]) -> Option<usize> {
    memchr::memmem::find(bytes, what)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(content_type: &str, stream: &[u8], chunk: usize) -> Vec<Vec<u8>> {
        let (mut parts, mut out) = (Parts::new(content_type).unwrap(), Vec::new());
        for bytes in stream.chunks(chunk) {
            parts.push(bytes);
            while let Some(part) = parts.next().unwrap() {
                out.push(part);
            }
        }
        out
    }

    #[test]
    fn parts_come_out_in_every_form_that_devices_send() {
        for (content_type, stream) in [
            (
                "multipart/x-mixed-replace;boundary=b1",
                &b"--b1\r\nContent-Length: 2\r\n\r\nxy\r\n--b1\r\nContent-length:1\r\n\r\nz\r\n--b1"[..],
            ),
            ("multipart/x-mixed-replace; boundary=\"--b1\"", b"\r\n--b1\nContent-Type: image/jpeg\n\nxy\r\n--b1\n\nz\r\n--b1--"),
        ] {
            for chunk in [1, 7, 1000] {
                assert_eq!(read(content_type, stream, chunk), [b"xy".to_vec(), b"z".to_vec()], "{content_type} by {chunk}");
            }
        }
        assert!(Parts::new("image/jpeg").is_none() && Parts::new("multipart/mixed").is_none());
    }

    #[test]
    fn what_has_no_end_is_refused() {
        let mut parts = Parts::new("multipart/x; boundary=b").unwrap();
        parts.push(&vec![b'a'; MAX_HEAD * 2]);
        assert_eq!(parts.next(), Err(MultipartError::NoParts));
        let mut parts = Parts::new("multipart/x; boundary=b").unwrap();
        parts.push(b"--b\r\nContent-Length: 999999999999\r\n\r\n");
        assert_eq!(parts.next(), Err(MultipartError::TooLong));
    }

    #[test]
    fn a_part_without_a_length_is_searched_once() {
        let mut parts = Parts::new("multipart/x; boundary=bb").unwrap();
        parts.push(b"--bb\n\n");
        for n in 1..200 {
            parts.push(&[b'a'; 1000]);
            assert_eq!(parts.next(), Ok(None));
            assert_eq!(parts.searched, n * 1000 - 2);
        }
        // The boundary lies across the border of what was searched.
        parts.push(b"\n--b");
        assert_eq!(parts.next(), Ok(None));
        parts.push(b"b\n");
        assert_eq!(parts.next().unwrap().map(|part| part.len()), Some(199_000));
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let mut parts = Parts::new("multipart/x; boundary=a").unwrap();
            parts.push(&bytes);
            while let Ok(Some(_)) = parts.next() {}
        }
    }
}
