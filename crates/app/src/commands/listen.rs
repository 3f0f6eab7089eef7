//! `listen`: a pushed stream measured.

use crate::cli::ListenOptions;
use crate::commands::measure::{How, Subject, measure};
use anyhow::Context as _;
use lattice_core::TransportChoice;
use lattice_core::srtp::MasterKey;
use lattice_core::target::{Target, understand_description};
use lattice_net::{ListenConfig, Origin, own_addresses};
use std::path::Path;
use std::process::ExitCode;

/// Longest session description read.
const MAX_SDP: u64 = 64 * 1024;

/// The listening port that a file's session description names.
pub fn described(path: &Path) -> anyhow::Result<Target> {
    let length = std::fs::metadata(path).with_context(|| format!("{} cannot be read", path.display()))?.len();
    anyhow::ensure!(length <= MAX_SDP, "{} is too long for a session description", path.display());
    let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
    understand_description(&text).with_context(|| path.display().to_string())
}

/// The addresses that a sender can be given for a port, in words.
pub fn to_give(port: u16) -> String {
    let own: Vec<String> = own_addresses().iter().map(|address| format!("{address}:{port}")).collect();
    if own.is_empty() { format!("127.0.0.1:{port}, as this machine has no other address") } else { own.join(" or ") }
}

/// Listens, measures, prints.
pub fn run(options: &ListenOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("listen");
    let (description, key) = match &options.sdp {
        None => (None, None),
        Some(path) => match described(path)? {
            Target::Listen { description, key, .. } => (description, key),
            Target::Device { .. } | Target::Url(_) => (None, None),
        },
    };
    let key = key.map(|key| MasterKey::entered(key.reveal())).transpose().context("the key of the description")?;
    if !options.json {
        let to = to_give(options.port);
        eprintln!("listening on port {}; a sender can be given {to}", options.port);
    }
    let origin = Origin::Listen(ListenConfig { address: options.address, port: options.port, description });
    let subject = Subject { name: origin.to_string(), origin };
    let how = How {
        span: options.span,
        json: options.json,
        decode: (!options.no_decode).then(|| options.decode.into()),
        transport: TransportChoice::Udp,
        key,
        sound: true,
    };
    measure(vec![subject], &how)
}
