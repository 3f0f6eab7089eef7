//! What people type and paste, against what is hidden.
#![no_main]

use lattice_core::{Credentials, SourceUrl};
use lattice_core::target::{Target, understand, understand_description, understand_listing};
use lattice_core::veil::{veiled, without_passwords};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let _ = (veiled(text), without_passwords(text), understand_description(text), understand_listing(text));
    let _ = text.parse::<SourceUrl>();
    let Ok(reading) = understand(text) else { return };
    // What is shown is the same whatever the password is.
    let shown = |target: &Target| format!("{target} {}", target.intent());
    let Some(given) = reading.target.credentials() else { return };
    let other = Credentials::new(given.user.clone(), format!("{}x", given.password.reveal()));
    let with_other = reading.target.clone().with_credentials(Some(other));
    assert_eq!(shown(&reading.target), shown(&with_other));
});
