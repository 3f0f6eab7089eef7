//! WS-Discovery (April 2005): the probe that asks who is there, and its answers.

use super::xml::{Element, escape};

/// Longest answer read; a UDP datagram is no longer.
pub const MAX_DATAGRAM: usize = 65_535;
/// Most devices taken from one answer: a proxy may answer for several.
const MAX_MATCHES: usize = 64;
/// Most addresses and scopes kept of one device.
const MAX_LISTED: usize = 32;

/// A probe for video devices. `id` is unpredictable; answers refer to it.
#[must_use]
pub fn probe(id: u128) -> String {
    let discovery = "http://schemas.xmlsoap.org/ws/2005/04/discovery";
    let addressing = "http://schemas.xmlsoap.org/ws/2004/08/addressing";
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><e:Envelope xmlns:e=\"http://www.w3.org/2003/05/soap-envelope\" xmlns:w=\"{addressing}\" \
         xmlns:d=\"{discovery}\" xmlns:dn=\"http://www.onvif.org/ver10/network/wsdl\"><e:Header><w:MessageID>uuid:{}</w:MessageID>\
         <w:To e:mustUnderstand=\"true\">urn:schemas-xmlsoap-org:ws:2005:04:discovery</w:To>\
         <w:Action e:mustUnderstand=\"true\">{discovery}/Probe</w:Action></e:Header><e:Body><d:Probe>\
         <d:Types>dn:NetworkVideoTransmitter</d:Types></d:Probe></e:Body></e:Envelope>",
        uuid(id)
    )
}

/// The usual form of a UUID.
fn uuid(id: u128) -> String {
    let hex = format!("{id:032x}");
    let part = |from, to| hex.get(from..to).unwrap_or("");
    format!("{}-{}-{}-{}-{}", part(0, 8), part(8, 12), part(12, 16), part(16, 20), part(20, 32))
}

/// A device that answered a probe.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Match {
    /// Its lasting name (a UUID as a rule), the same at every answer.
    pub endpoint: String,
    /// What it says it is.
    pub types: Vec<String>,
    /// What it says of itself, percent-decoded: `onvif://www.onvif.org/name/...`.
    pub scopes: Vec<String>,
    /// Addresses of its device service, as it gives them.
    pub addresses: Vec<String>,
}

/// Reads an answer; empty when it is none.
#[must_use]
pub fn probe_matches(datagram: &[u8]) -> Vec<Match> {
    let Ok(document) = Element::parse(datagram) else { return Vec::new() };
    let Some(matches) = document.child("Body").and_then(|body| body.child("ProbeMatches")) else { return Vec::new() };
    let words = |element: &Element, name: &str| -> Vec<String> {
        element.text_at(&[name]).unwrap_or("").split_whitespace().take(MAX_LISTED).map(str::to_owned).collect()
    };
    let one = |element: &Element| Match {
        endpoint: element.text_at(&["EndpointReference", "Address"]).unwrap_or("").chars().take(200).collect(),
        types: words(element, "Types").iter().map(|word| word.rsplit(':').next().unwrap_or("").to_owned()).collect(),
        scopes: words(element, "Scopes").iter().map(|scope| scope_text(scope)).collect(),
        addresses: words(element, "XAddrs"),
    };
    matches.all("ProbeMatch").take(MAX_MATCHES).map(one).collect()
}

/// A scope as it is meant: percent-decoded.
#[must_use]
pub fn scope_text(scope: &str) -> String {
    crate::target::decoded(scope)
}

/// The value of a scope by its category: `name`, `hardware`, `location`, `type`; without control
/// characters, at most 80.
#[must_use]
pub fn scope_value(scopes: &[String], category: &str) -> Option<String> {
    let prefix = format!("onvif://www.onvif.org/{category}/");
    let found = scopes.iter().find_map(|scope| {
        scope.get(..prefix.len()).filter(|head| head.eq_ignore_ascii_case(&prefix)).and(scope.get(prefix.len()..))
    })?;
    Some(found.chars().filter(|c| !c.is_control()).take(80).collect()).filter(|value: &String| !value.is_empty())
}

/// An answer as a device gives it; for stand-ins.
#[must_use]
pub fn emit_match(relates_to: &str, device: &Match) -> String {
    let scopes: Vec<String> = device.scopes.iter().map(|scope| escape(&scope.replace(' ', "%20"))).collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?><SOAP-ENV:Envelope xmlns:SOAP-ENV=\"http://www.w3.org/2003/05/soap-envelope\" \
         xmlns:wsa=\"http://schemas.xmlsoap.org/ws/2004/08/addressing\" xmlns:d=\"http://schemas.xmlsoap.org/ws/2005/04/discovery\" \
         xmlns:dn=\"http://www.onvif.org/ver10/network/wsdl\"><SOAP-ENV:Header><wsa:RelatesTo>{}</wsa:RelatesTo></SOAP-ENV:Header>\
         <SOAP-ENV:Body><d:ProbeMatches><d:ProbeMatch><wsa:EndpointReference><wsa:Address>{}</wsa:Address></wsa:EndpointReference>\
         <d:Types>{}</d:Types><d:Scopes>{}</d:Scopes><d:XAddrs>{}</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch>\
         </d:ProbeMatches></SOAP-ENV:Body></SOAP-ENV:Envelope>",
        escape(relates_to),
        escape(&device.endpoint),
        device.types.iter().map(|kind| format!("dn:{kind}")).collect::<Vec<_>>().join(" "),
        scopes.join(" "),
        escape(&device.addresses.join(" ")),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_read_as_it_was_given() {
        let device = Match {
            endpoint: "urn:uuid:00000000-0000-1000-8000-020000000007".into(),
            types: vec!["NetworkVideoTransmitter".into()],
            scopes: vec!["onvif://www.onvif.org/name/Fuel quay".into(), "onvif://www.onvif.org/hardware/CV-2".into()],
            addresses: vec![
                "http://127.77.0.14:8000/onvif/device_service".into(),
                "http://[fe80::7]/onvif/device_service".into(),
            ],
        };
        let read = probe_matches(emit_match("uuid:1", &device).as_bytes());
        assert_eq!(read, std::slice::from_ref(&device));
        assert_eq!(scope_value(&device.scopes, "name").as_deref(), Some("Fuel quay"));
        assert_eq!(scope_value(&device.scopes, "location"), None);
    }

    #[test]
    fn what_is_no_answer_is_passed_over() {
        assert_eq!(probe_matches(probe(7).as_bytes()), []);
        assert_eq!(probe_matches(b"<Envelope><Body><ProbeMatches/></Body></Envelope>"), []);
        assert_eq!(probe_matches(b"\x00\xff<<<"), []);
        assert!(probe(1).contains("uuid:00000000-0000-0000-0000-000000000001"));
    }
}
