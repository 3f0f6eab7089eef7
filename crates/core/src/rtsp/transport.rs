//! The `Transport` header (RFC 2326 §12.39).

/// What a `Transport` header says; absent parts are `None`.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TransportHeader {
    /// `RTP/AVP/TCP` rather than `RTP/AVP` or `RTP/AVP/UDP`.
    pub tcp: bool,
    /// `multicast` was said.
    pub multicast: bool,
    /// The client's RTP and RTCP ports.
    pub client_port: Option<(u16, u16)>,
    /// The server's RTP and RTCP ports.
    pub server_port: Option<(u16, u16)>,
    /// Channels of RTP and RTCP in the RTSP connection.
    pub interleaved: Option<(u8, u8)>,
    /// The address that media comes from, where it is not the server's own.
    pub source: Option<String>,
    /// The sender's SSRC.
    pub ssrc: Option<u32>,
}

impl TransportHeader {
    /// Reads a header value; what is not understood is skipped. Of several alternatives the first counts.
    #[must_use]
    pub fn parse(value: &str) -> Self {
        let mut out = Self::default();
        for (index, part) in value.split(',').next().unwrap_or("").split(';').map(str::trim).enumerate() {
            let (key, value) =
                part.split_once('=').map_or((part, ""), |(key, value)| (key.trim(), value.trim().trim_matches('"')));
            match key.to_ascii_lowercase().as_str() {
                "multicast" => out.multicast = true,
                "client_port" => out.client_port = pair(value),
                "server_port" => out.server_port = pair(value),
                "interleaved" => out.interleaved = pair(value),
                "source" if !value.is_empty() => out.source = Some(value.to_owned()),
                "ssrc" => out.ssrc = u32::from_str_radix(value.trim_start_matches("0x").trim(), 16).ok(),
                name if index == 0 => out.tcp = name.ends_with("/tcp"),
                _ => {}
            }
        }
        out
    }
}

/// `a-b`, or `a` alone for `a` and the next.
fn pair<T: std::str::FromStr + Copy + Step>(text: &str) -> Option<(T, T)> {
    let (first, second) = text.split_once('-').unwrap_or((text, ""));
    let first: T = first.trim().parse().ok()?;
    Some((first, second.trim().parse().unwrap_or_else(|_| first.next())))
}

trait Step {
    fn next(self) -> Self;
}

impl Step for u8 {
    fn next(self) -> Self {
        self.wrapping_add(1)
    }
}

impl Step for u16 {
    fn next(self) -> Self {
        self.wrapping_add(1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_forms_that_servers_send_are_read() {
        let udp =
            TransportHeader::parse("RTP/AVP;unicast;client_port=5000-5001;server_port=6970-6971;ssrc=A1B2C3D4;mode=\"PLAY\"");
        assert_eq!(
            (udp.tcp, udp.client_port, udp.server_port, udp.ssrc),
            (false, Some((5000, 5001)), Some((6970, 6971)), Some(0xa1b2_c3d4))
        );
        let tcp = TransportHeader::parse("RTP/AVP/TCP;unicast;interleaved=2;source=192.0.2.9");
        assert_eq!((tcp.tcp, tcp.interleaved, tcp.source.as_deref()), (true, Some((2, 3)), Some("192.0.2.9")));
        let odd = TransportHeader::parse(";;=;client_port=x-y;ssrc=zz,RTP/AVP/TCP");
        assert_eq!(odd, TransportHeader::default());
    }
}
