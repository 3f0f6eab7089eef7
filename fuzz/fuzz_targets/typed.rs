//! What people type and paste, against what is hidden.
#![no_main]

use lattice_core::SourceUrl;
use lattice_core::target::{Target, understand, understand_description, understand_listing};
use lattice_core::veil::{veiled, without_passwords};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = (veiled(text), without_passwords(text), understand_description(text), understand_listing(text));
    let _ = text.parse::<SourceUrl>();
    let Ok(reading) = understand(text) else { return };
    let shown = format!("{} {}", reading.target, reading.target.intent());
    let Some(given) = reading.target.credentials() else { return };
    let password = given.password.reveal();
    // What stands elsewhere in the address, too, is no secret of it.
    let elsewhere = match &reading.target {
        Target::Url(url) => format!("{}{}{}{}", url.host(), url.path(), given.user, url.port()),
        Target::Device { host, .. } => format!("{host}{}", given.user),
        Target::Listen { .. } => String::new(),
    };
    let fixed = "ask the device for its streams, then try common paths on port open the stream fetch pictures from rtsp://rtsps://http://https://";
    if password.chars().count() >= 4 && !elsewhere.contains(password.as_str()) && !fixed.contains(password.as_str()) {
        assert!(!shown.contains(password.as_str()), "{shown:?} shows {password:?}");
    }
});
