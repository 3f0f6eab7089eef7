//! What a server asks for a sign-in with: never answered readable, nor more weakly than before.
#![no_main]

use lattice_core::rtsp::{Challenge, auth_parameters, authorization};
use lattice_core::{Credentials, SignInStrength};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|offers: Vec<&str>| {
    let credentials = Credentials::new("harbour", "QXJZKQX");
    let mut least = SignInStrength::Readable;
    for offer in &offers {
        let _ = auth_parameters(offer);
        if let Ok(challenge) = Challenge::choose([*offer].into_iter(), &credentials, "cam", false) {
            assert!(challenge.strength() > SignInStrength::Readable && challenge.strength() >= least);
            least = challenge.strength();
            let said = authorization(&challenge, &credentials, "DESCRIBE", "rtsp://cam/x", 1, "c");
            assert!(!said.contains("QXJZKQX") || offer.contains("QXJZKQX"));
            assert!(!said.contains(['\r', '\n']), "{said:?}");
        }
    }
});
