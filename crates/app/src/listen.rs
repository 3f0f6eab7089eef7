//! `listen`: a pushed stream measured.

use crate::cli::ListenOptions;
use crate::measure::{How, Subject, measure};
use anyhow::Context as _;
use lattice_core::TransportChoice;
use lattice_core::sdp::Description;
use lattice_net::{ListenConfig, Origin, own_addresses};
use std::process::ExitCode;

/// Longest session description read.
const MAX_SDP: u64 = 64 * 1024;

/// Listens, measures, prints.
pub fn run(options: &ListenOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("listen");
    let description = match &options.sdp {
        None => None,
        Some(path) => {
            let length = std::fs::metadata(path).with_context(|| format!("{} cannot be read", path.display()))?.len();
            anyhow::ensure!(length <= MAX_SDP, "{} is too long for a session description", path.display());
            let text = std::fs::read_to_string(path).with_context(|| format!("{} cannot be read", path.display()))?;
            anyhow::ensure!(
                Description::parse(&text).video().is_some(),
                "{} describes no video: it needs a line like  m=video 5004 RTP/AVP 96",
                path.display()
            );
            Some(text)
        }
    };
    if !options.json {
        let own: Vec<String> = own_addresses().iter().map(|address| format!("{address}:{}", options.port)).collect();
        let to = if own.is_empty() {
            format!("127.0.0.1:{}, as this machine has no other address", options.port)
        } else {
            own.join(" or ")
        };
        eprintln!("listening on port {}; a sender can be given {to}", options.port);
    }
    let origin = Origin::Listen(ListenConfig { address: options.address, port: options.port, description });
    let subject = Subject { name: origin.to_string(), origin };
    let how =
        How { span: options.span, json: options.json, decodes: !options.no_decode, transport: TransportChoice::Udp, key: None };
    measure(vec![subject], &how)
}
