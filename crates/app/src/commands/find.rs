//! `find`: what is on the network.

use crate::cli::FindOptions;
use lattice_core::Credentials;
use lattice_core::find::{AddressRange, Findings, FoundDevice, MANY_ADDRESSES};
use lattice_engine::kept::Kept;
use lattice_net::find::{FindConfig, FindProgress, Search, probe_addresses, sign_in_to};
use lattice_net::reach::interfaces;
use lattice_net::{Background, Trust};
use lattice_store::Site;
use serde::Serialize;
use std::io::{IsTerminal as _, Write as _};
use std::net::IpAddr;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;

/// Devices that are asked with a sign-in at a time.
const SIGN_INS_AT_ONCE: usize = 16;

#[derive(Serialize)]
struct Report {
    devices: Vec<DeviceReport>,
    asked: u64,
    seconds: f64,
}

#[derive(Serialize)]
struct DeviceReport {
    address: IpAddr,
    port: Option<u16>,
    service_port: Option<u16>,
    kind: &'static str,
    via: Vec<&'static str>,
    name: Option<String>,
    maker: Option<String>,
    model: Option<String>,
    serial: Option<String>,
    firmware: Option<String>,
    channels: Option<u32>,
    known: bool,
    locked: Option<bool>,
    refused: bool,
    exposed: Option<&'static str>,
    announces: Option<String>,
}

fn report(site: &Site, address: IpAddr, device: &FoundDevice) -> DeviceReport {
    let via = [(device.by_discovery, "discovery"), (device.by_scan, "scan")];
    DeviceReport {
        address,
        port: device.rtsp_port,
        service_port: device.service_port,
        kind: device.kind.word(),
        via: via.into_iter().filter_map(|(by, word)| by.then_some(word)).collect(),
        name: device.name.clone(),
        maker: device.maker.clone(),
        model: device.model.clone(),
        serial: device.serial.clone(),
        firmware: device.firmware.clone(),
        channels: device.channels,
        known: site.knows_address(&address.to_string()),
        locked: device.locked,
        refused: device.refused,
        exposed: device.exposed.map(lattice_core::find::Exposure::word),
        announces: device.announces.clone(),
    }
}

/// Whether a search of that many addresses is wanted.
fn confirmed(addresses: u64) -> anyhow::Result<bool> {
    let otherwise = format!(
        "these ranges hold {addresses} addresses, more than {MANY_ADDRESSES}: say --large to scan them all the same, or narrow them"
    );
    asked(&format!("These ranges hold {addresses} addresses. Scan them all? (y/n) "), &otherwise)
}

/// The devices that a sign-in is for, and whether the person who searches wants it sent to them.
fn wanted(findings: &Findings, user: &str, options: &FindOptions) -> anyhow::Result<Vec<(IpAddr, FoundDevice)>> {
    let locked = |(_, device): &(IpAddr, &FoundDevice)| device.locked == Some(true) && device.service_port.is_some();
    let locked: Vec<(IpAddr, FoundDevice)> =
        findings.devices().filter(locked).map(|(address, device)| (address, device.clone())).collect();
    if locked.is_empty() {
        return Ok(locked);
    }
    eprintln!("The sign-in of {user} is sent, once each, to whoever answers at:");
    for (address, device) in &locked {
        let said = [&device.name, &device.maker, &device.model];
        let said: Vec<&str> = said.into_iter().flatten().map(String::as_str).collect();
        eprintln!("  {address}  {}", if said.is_empty() { "says nothing of itself".to_owned() } else { said.join(", ") });
    }
    let number = if locked.len() == 1 { "it".to_owned() } else { format!("these {}", locked.len()) };
    let otherwise = format!("nothing was sent: say --yes to send the sign-in to {number} without being asked");
    let yes = options.yes || asked(&format!("Are they all yours? Send it to {number}? (y/n) "), &otherwise)?;
    Ok(if yes { locked } else { Vec::new() })
}

/// Asks the person; an error with the other way where there is none to be asked.
fn asked(question: &str, otherwise: &str) -> anyhow::Result<bool> {
    anyhow::ensure!(std::io::stdin().is_terminal() && std::io::stderr().is_terminal(), "{otherwise}");
    eprint!("{question}");
    let mut answer = String::new();
    std::io::stdin().read_line(&mut answer)?;
    Ok(answer.trim().eq_ignore_ascii_case("y") || answer.trim().eq_ignore_ascii_case("yes"))
}

/// Searches, and prints what was found.
pub fn run(options: &FindOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("find");
    let kept = Kept::open(site)?;
    let addresses: u64 = options.ranges.iter().map(AddressRange::len).sum();
    if addresses > MANY_ADDRESSES && !options.large && !confirmed(addresses)? {
        return Ok(ExitCode::from(1));
    }
    anyhow::ensure!(
        !options.no_discovery || !options.ranges.is_empty(),
        "without discovery there is nothing to search: give a --range like 192.0.2.0/24"
    );
    let all = interfaces();
    let probe_from = match (options.no_discovery, options.interface) {
        (true, _) => Vec::new(),
        (false, Some(address)) => {
            let ours = all.iter().any(|interface| {
                interface.contains(IpAddr::V4(address)) && (interface.address == IpAddr::V4(address) || interface.loopback)
            });
            anyhow::ensure!(ours, "{address} is not an address of this machine: it has {}", addresses_of(&all));
            vec![address]
        }
        (false, None) => probe_addresses(&all, &options.ranges),
    };
    let mut config = FindConfig::new(options.ranges.clone(), probe_from);
    config.probe_hosts = if options.no_discovery { Vec::new() } else { options.probes.clone() };
    config.at_once = usize::from(options.at_once);
    config.use_ports(&kept.file.site().scan_ports);
    config.use_ports(&options.ports);
    let sign_in = crate::commands::add::sign_in(&options.sign_in)?.map(|(credentials, _)| credentials);
    let runtime = Background::new(tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?);
    let search = Search::begin(runtime.handle(), config);
    let (mut findings, progress) = runtime.block_on(watch(search, !options.json && std::io::stderr().is_terminal()));
    if let Some(sign_in) = sign_in {
        let devices = wanted(&findings, &sign_in.user, options)?;
        for (address, device) in runtime.block_on(signed_in(devices, &sign_in, usize::from(options.at_once))) {
            findings.learn(address, device);
        }
    }
    let devices: Vec<DeviceReport> =
        findings.devices().map(|(address, device)| report(kept.file.site(), address, device)).collect();
    let found = !devices.is_empty();
    let mut out = std::io::stdout().lock();
    if options.json {
        let seconds = (progress.took.as_secs_f64() * 1e3).round() / 1e3;
        writeln!(out, "{}", serde_json::to_string(&Report { devices, asked: progress.asked, seconds })?)?;
    } else {
        write!(out, "{}", table(&devices))?;
        let asked = if progress.asked > 0 { format!("{} addresses asked", progress.asked) } else { "discovery alone".into() };
        writeln!(out, "{} found in {:.1} s, {asked}", devices.len(), progress.took.as_secs_f64())?;
        if findings.left_out() > 0 {
            writeln!(out, "{} more answered and are not listed: narrow the search", findings.left_out())?;
        }
    }
    Ok(if found { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// What these devices say when they are asked with a sign-in.
async fn signed_in(devices: Vec<(IpAddr, FoundDevice)>, sign_in: &Credentials, at_once: usize) -> Vec<(IpAddr, FoundDevice)> {
    let limit = Arc::new(Semaphore::new(at_once.clamp(1, SIGN_INS_AT_ONCE)));
    let mut asked = JoinSet::new();
    for (address, device) in devices {
        let (limit, sign_in) = (limit.clone(), sign_in.clone());
        asked.spawn(async move {
            let _permit = limit.acquire().await;
            (address, sign_in_to(address, &device, &sign_in, Trust::Verify).await)
        });
    }
    asked.join_all().await
}

fn addresses_of(all: &[lattice_net::reach::Interface]) -> String {
    all.iter()
        .filter(|interface| interface.address.is_ipv4())
        .map(|interface| interface.address.to_string())
        .collect::<Vec<_>>()
        .join(", ")
}

/// Takes the news of a search until it is over, or a signal ends it: what was found by then is kept.
async fn watch(mut search: Search, progress: bool) -> (Findings, FindProgress) {
    let mut findings = Findings::default();
    findings.begin(|_, _| true);
    let mut tick = tokio::time::interval(Duration::from_millis(200));
    let interrupted = tokio::signal::ctrl_c();
    tokio::pin!(interrupted);
    loop {
        tokio::select! {
            news = search.news.recv() => match news {
                Some(news) => { findings.learn(news.address, news.learnt); }
                None => break,
            },
            _ = tick.tick(), if progress => eprint!("\r{} ", line(&search.progress(), findings.devices().count())),
            _ = &mut interrupted => break,
        }
    }
    if progress {
        eprint!("\r{:60}\r", "");
    }
    (findings, search.progress())
}

/// One line about a search that runs.
fn line(progress: &FindProgress, found: usize) -> String {
    let left = progress.left().map_or(String::new(), |left| format!(", {:.0} s left", left.as_secs_f64().ceil()));
    if progress.total == 0 {
        return format!("listening, {found} found");
    }
    format!("{:3.0} %, {found} found{left}   ", progress.share() * 100.0)
}

fn table(devices: &[DeviceReport]) -> String {
    let dash = |text: Option<String>| text.unwrap_or_else(|| "-".into());
    let mut rows =
        vec![["address", "port", "kind", "via", "name", "maker", "model", "serial", "state"].map(str::to_owned).to_vec()];
    for device in devices {
        let mut state = Vec::new();
        state.extend(device.known.then(|| "in the site".to_owned()));
        state.extend(
            (device.locked == Some(true)).then(|| if device.refused { "refused the sign-in" } else { "locked" }.to_owned()),
        );
        state.extend(device.exposed.map(|exposed| format!("exposed: {exposed}")));
        state.extend(device.announces.as_ref().map(|other| format!("announces {other}: another subnet?")));
        rows.push(vec![
            device.address.to_string(),
            dash(device.port.map(|port| port.to_string())),
            device.kind.to_owned(),
            device.via.join("+"),
            dash(device.name.clone()),
            dash(device.maker.clone()),
            dash(device.model.clone()),
            dash(device.serial.clone()),
            state.join(", "),
        ]);
    }
    crate::commands::measure::aligned(&rows)
}
