//! Every answer of a device, and of discovery.
#![no_main]

use lattice_core::onvif::{
    Capabilities, DeviceInformation, DeviceTime, Element, EncoderLimits, NetworkInterface, Profile, PullPoint, RENEW_ACTION, Report,
    Service, User, answer, probe_matches, scope_text,
};
use lattice_core::text::is_unsafe;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    for one in probe_matches(bytes) {
        for text in one.scopes.iter().chain(&one.types).chain([&one.endpoint]) {
            assert!(!text.chars().any(is_unsafe), "{text:?}");
            let _ = scope_text(text);
        }
    }
    let Ok(document) = Element::parse(bytes) else { return };
    let element = match answer(&document) {
        Some(Ok(element)) => element.clone(),
        Some(Err(fault)) => {
            assert!(!fault.reason.chars().any(is_unsafe));
            return;
        }
        None => document,
    };
    let _ = (DeviceTime::read(&element), Capabilities::read(&element), Service::read(&element), User::read(&element));
    let information = DeviceInformation::read(&element);
    for text in [information.maker, information.model, information.firmware, information.serial].into_iter().flatten() {
        assert!(!text.chars().any(is_unsafe), "{text:?}");
    }
    for report in Report::read_all(&element) {
        let items = report.data.iter().flat_map(|(name, value)| [name, value]);
        for text in items.chain([&report.topic, &report.source]) {
            assert!(!text.chars().any(is_unsafe), "{text:?}");
        }
    }
    if let Some(point) = PullPoint::read(&element) {
        let head = format!("<h>{}</h>", point.head(RENEW_ACTION));
        assert!(Element::parse(head.as_bytes()).is_ok(), "{head}");
    }
    let _ = (Profile::read(&element), NetworkInterface::read(&element), EncoderLimits::read(&element, "H264"));
});
