//! `roster`: the cameras of the site, as a table or as JSON.

use crate::cli::RosterOptions;
use lattice_core::TransportChoice;
use lattice_core::find::FirmwareFault;
use lattice_engine::jobs::last_seen;
use lattice_engine::kept::{Kept, known_firmware_faults, sightings};
use lattice_store::{Camera, Sightings};
use serde::Serialize;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

#[derive(Serialize)]
struct Report<'a> {
    site: Option<&'a str>,
    file: String,
    cameras: Vec<CameraReport<'a>>,
}

#[derive(Serialize)]
struct CameraReport<'a> {
    name: &'a str,
    group: Option<&'a str>,
    address: Option<&'a str>,
    sign_in: Option<&'a str>,
    recorder: Option<&'a str>,
    channel: Option<u32>,
    enabled: bool,
    device_name: Option<&'a str>,
    maker: Option<&'a str>,
    model: Option<&'a str>,
    firmware: Option<&'a str>,
    firmware_fault: Option<String>,
    serial: Option<&'a str>,
    transport: &'static str,
    /// UTC; null where nothing was ever received from it.
    last_seen: Option<String>,
    streams: Vec<StreamReport>,
}

#[derive(Serialize)]
struct StreamReport {
    role: &'static str,
    url: String,
    interval_s: Option<f64>,
}

fn report<'a>(camera: &'a Camera, faults: &[FirmwareFault], seen: &Sightings) -> CameraReport<'a> {
    let applies =
        |fault: &&FirmwareFault| fault.applies(camera.maker.as_deref(), camera.model.as_deref(), camera.firmware.as_deref());
    CameraReport {
        name: &camera.name,
        group: camera.group.as_deref(),
        address: camera.address.as_deref(),
        sign_in: camera.sign_in.as_deref(),
        recorder: camera.recorder.as_deref(),
        channel: camera.channel,
        enabled: !camera.disabled,
        device_name: camera.device_name.as_deref(),
        maker: camera.maker.as_deref(),
        model: camera.model.as_deref(),
        firmware: camera.firmware.as_deref(),
        firmware_fault: faults.iter().find(applies).map(|fault| fault.what.clone()),
        serial: camera.serial.as_deref(),
        transport: match camera.transport {
            TransportChoice::Auto => "auto",
            TransportChoice::Udp => "udp",
            TransportChoice::Tcp => "tcp",
        },
        last_seen: last_seen(camera, seen).and_then(|at| jiff::Timestamp::from_second(at).ok()).map(|at| at.to_string()),
        streams: camera
            .streams
            .iter()
            .map(|stream| StreamReport {
                role: stream.role.word(),
                url: stream.target.to_string(),
                interval_s: stream.interval.map(|interval| interval.as_secs_f64()),
            })
            .collect(),
    }
}

/// Prints the roster.
pub fn run(options: &RosterOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let kept = Kept::open(site)?;
    let site = kept.file.site();
    let mut out = std::io::stdout().lock();
    if options.json {
        let faults = known_firmware_faults()?;
        let seen = sightings()?;
        let cameras = site.cameras.iter().map(|camera| report(camera, &faults, &seen)).collect();
        let report = Report { site: site.name.as_deref(), file: kept.file.path().display().to_string(), cameras };
        writeln!(out, "{}", serde_json::to_string(&report)?)?;
        return Ok(ExitCode::SUCCESS);
    }
    if site.cameras.is_empty() {
        writeln!(out, "No camera yet in {}.", kept.file.path().display())?;
        writeln!(
            out,
            "`amber-lattice find` looks for some, `amber-lattice add ADDRESS` adds one, `amber-lattice demo` shows how it looks."
        )?;
        return Ok(ExitCode::SUCCESS);
    }
    let dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    let mut rows =
        vec![["group", "name", "address", "streams", "sign-in", "maker and model", "firmware"].map(str::to_owned).to_vec()];
    for camera in &site.cameras {
        let name = if camera.recorder.is_some() { format!("  {}", camera.name) } else { camera.name.clone() };
        let name = if camera.disabled { format!("{name} (off)") } else { name };
        let streams: Vec<&str> = camera.streams.iter().map(|stream| stream.role.word()).collect();
        let made = [camera.maker.as_deref(), camera.model.as_deref()].into_iter().flatten().collect::<Vec<_>>().join(" ");
        rows.push(vec![
            dash(&camera.group),
            name,
            dash(&camera.address),
            if streams.is_empty() { "-".into() } else { streams.join(" ") },
            dash(&camera.sign_in),
            if made.is_empty() { "-".into() } else { made },
            dash(&camera.firmware),
        ]);
    }
    write!(out, "{}", crate::commands::measure::aligned(&rows))?;
    Ok(ExitCode::SUCCESS)
}
