//! The stand-in port from the command line.

use crate::cli::StandinOptions;
use anyhow::Context as _;
use lattice_sim::{Camera, Fault, Log, Pictures, Port, Role, all_around, control_desk, fleet, steerable, tarnhithe, whole_port};
use serde::{Deserialize, Serialize};
use std::io::{BufRead as _, Write as _};
use std::process::ExitCode;

/// A camera as `standin --json` prints it, and as the demo reads it.
#[derive(Debug, Serialize, Deserialize)]
pub struct Announcement {
    /// Its name.
    pub name: String,
    /// URL of the main stream.
    pub main: String,
    /// URL of the sub stream.
    pub sub: String,
    /// Host and port of the device service.
    #[serde(default)]
    pub service: String,
}

/// Runs until stopped.
pub fn run(options: &StandinOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("standin");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let log = match &options.log {
        Some(path) => Log::to_file(path).with_context(|| format!("cannot write the log {}", path.display()))?,
        None => Log::default(),
    };
    let mut cameras = match (options.all, options.fleet) {
        (true, _) => whole_port(options.port),
        (false, None) => tarnhithe(options.port),
        (false, Some(_)) => Vec::new(),
    };
    let pictures = if options.live { Pictures::Shared } else { Pictures::Clip };
    cameras.extend(fleet(options.fleet.unwrap_or(0) as usize, options.port, options.rate, pictures));
    if options.all {
        cameras.extend([control_desk(options.port), steerable(options.port)]);
        cameras.extend(all_around(options.port));
    }
    let port = runtime.block_on(Port::start(cameras, log))?;
    announce(port.cameras(), options.json)?;
    let _stderr = crate::logging::quiet_stderr();
    let (stop, stopped) = std::sync::mpsc::channel();
    let mut signals = signal_hook::iterator::Signals::new([signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT])?;
    let on_signal = stop.clone();
    std::thread::spawn(move || {
        if signals.forever().next().is_some() {
            let _ = on_signal.send(());
        }
    });
    let port = std::sync::Arc::new(port);
    let (ordered, tied) = (port.clone(), options.tied);
    std::thread::spawn(move || {
        take_orders(&ordered);
        if tied {
            let _ = stop.send(());
        }
    });
    let _ = stopped.recv();
    drop(port);
    runtime.shutdown_timeout(std::time::Duration::from_millis(300));
    Ok(ExitCode::SUCCESS)
}

fn announce(cameras: &[Camera], json: bool) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    for (number, camera) in (1..).zip(cameras) {
        if json {
            let (main, sub) = (camera.url(Role::Main), camera.url(Role::Sub));
            let line = Announcement { name: camera.name().to_owned(), main, sub, service: camera.service_address().to_string() };
            writeln!(out, "{}", serde_json::to_string(&line)?)?;
            continue;
        }
        for stream in &camera.spec().streams {
            let size = format!("{}x{}", stream.width, stream.height);
            let (name, word, url) = (camera.name(), stream.role.word(), camera.stream_url(stream));
            writeln!(out, "{number}  {name:<16} {word:<5} {size:>9} at {:<5} {url}", stream.fps)?;
        }
    }
    if !json {
        writeln!(out, "Running until stopped with Ctrl-C. Type a camera's number and a fault, like: 1 stall 3")?;
    }
    out.flush()?;
    Ok(())
}

/// Says something of an order; the stand-ins go on where nobody reads it.
fn tell(text: &str) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

/// Longest order read at once.
const MAX_ORDER: u64 = 1024;

fn take_orders(port: &Port) {
    let cameras = port.cameras();
    let mut input = std::io::stdin().lock();
    let mut bytes = Vec::new();
    loop {
        bytes.clear();
        // A line without end comes in pieces, each of which is no order.
        if !matches!(std::io::Read::take(&mut input, MAX_ORDER).read_until(b'\n', &mut bytes), Ok(1..)) {
            return;
        }
        let text = String::from_utf8_lossy(&bytes);
        let line = text.trim_matches(|c: char| c.is_whitespace() || c.is_control());
        if line.is_empty() {
            continue;
        }
        if let Some(lit) = line.strip_prefix("light ") {
            match lit {
                "on" => port.light(true),
                "off" => port.light(false),
                _ => tell("the light is either on or off: say `light on` or `light off`"),
            }
            continue;
        }
        let (number, order) = line.split_once(' ').unwrap_or((line, ""));
        let camera = number.parse::<usize>().ok().and_then(|number| cameras.get(number.checked_sub(1)?));
        match (camera, order.parse::<Fault>()) {
            (Some(camera), Ok(fault)) => camera.inject(fault),
            (None, _) => tell(&format!("there is no camera {number:?}: say a number from 1 to {}", cameras.len())),
            (_, Err(error)) => tell(&error.to_string()),
        }
    }
}
