//! `steer`: moves the head of a camera of the site, for scripts.

use anyhow::{Context as _, bail};
use clap::{Args, ValueEnum};
use lattice_core::names::{Meant, meant};
use lattice_core::onvif::{Axes, Preset, PtzStatus};
use lattice_engine::kept::Kept;
use lattice_net::{Device, Head, HeadOrder};
use serde::Serialize;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// A move, or what else is ordered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Order {
    /// Pan to the left
    Left,
    /// Pan to the right
    Right,
    /// Tilt up
    Up,
    /// Tilt down
    Down,
    /// Zoom in
    In,
    /// Zoom out
    Out,
    /// Go to the preset that is named
    Preset,
    /// Go home
    Home,
    /// Stop
    Stop,
    /// Only tell where it looks, and its presets
    Where,
}

/// The options.
#[derive(Debug, Args)]
pub struct SteerOptions {
    /// The camera, by its name or a beginning that no other has
    pub camera: String,
    /// What to do
    #[arg(value_enum)]
    pub order: Order,
    /// The preset's name, or a beginning that no other has
    pub preset: Option<String>,
    /// How long it moves, like 500ms or 2s
    #[arg(long = "for", value_name = "TIME", default_value = "500ms", value_parser = crate::cli::span)]
    pub span: Duration,
    /// How fast, in percent of the fastest
    #[arg(long, value_name = "PERCENT", default_value_t = 50, value_parser = clap::value_parser!(u8).range(1..=100))]
    pub speed: u8,
    /// Print one JSON object
    #[arg(long)]
    pub json: bool,
}

#[derive(Serialize)]
struct Report<'a> {
    camera: &'a str,
    order: String,
    /// From the order to the device's answer.
    answered_ms: Option<f64>,
    pan: Option<f64>,
    tilt: Option<f64>,
    zoom: Option<f64>,
    moving: Option<bool>,
    presets: Vec<String>,
}

/// Steers, and says what came of it.
pub fn run(options: &SteerOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("steer");
    let kept = Kept::open(site)?;
    let camera = super::camera_named(&kept, &options.camera)?;
    let name = camera.name.clone();
    let device = kept.device(camera).map_err(anyhow::Error::msg)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    runtime.block_on(steer(options, &name, device))
}

async fn steer(options: &SteerOptions, name: &str, mut device: Device) -> anyhow::Result<ExitCode> {
    let refused = |error: lattice_net::DeviceError| anyhow::anyhow!("{name}: {error}");
    let failed = |text: String| {
        let _ = writeln!(std::io::stderr(), "{text}");
        Ok(ExitCode::from(1))
    };
    device.greet().await.map_err(refused)?;
    let head = match device.head().await {
        Ok(Some(head)) => head,
        Ok(None) => return failed(format!("{name} cannot be steered: its device names no PTZ service, or none that moves")),
        Err(error) => return failed(format!("{name}: {error}")),
    };
    let presets = device.presets(&head).await.unwrap_or_default();
    let begun = Instant::now();
    let answered = match order(options, &presets)? {
        Some(order @ HeadOrder::Move(_)) => go(&device, &head, &order, options.span).await,
        Some(order) => device.steer(&head, &order).await.map(|()| begun.elapsed()),
        None => device.head_status(&head).await.map(|_| begun.elapsed()),
    };
    let answered = match answered {
        Ok(answered) => answered,
        Err(error) => return failed(format!("{name}: {error}")),
    };
    let status = device.head_status(&head).await.unwrap_or_default();
    report(options, name, answered, &status, &presets)?;
    Ok(ExitCode::SUCCESS)
}

/// What is to be ordered; nothing where only a look is wanted.
fn order(options: &SteerOptions, presets: &[Preset]) -> anyhow::Result<Option<HeadOrder>> {
    let share = f64::from(options.speed) / 100.0;
    let moves = |pan: f64, tilt: f64, zoom: f64| Some(HeadOrder::Move(Axes { pan, tilt, zoom }.map(|way| way * share)));
    if options.preset.is_some() && options.order != Order::Preset {
        bail!("{:?} is no part of this order: to go to a preset write  preset NAME", options.preset.as_deref().unwrap_or(""));
    }
    Ok(match options.order {
        Order::Left => moves(-1.0, 0.0, 0.0),
        Order::Right => moves(1.0, 0.0, 0.0),
        Order::Up => moves(0.0, 1.0, 0.0),
        Order::Down => moves(0.0, -1.0, 0.0),
        Order::In => moves(0.0, 0.0, 1.0),
        Order::Out => moves(0.0, 0.0, -1.0),
        Order::Home => Some(HeadOrder::Home),
        Order::Stop => Some(HeadOrder::Stop),
        Order::Where => None,
        Order::Preset => {
            let names = || presets.iter().map(|preset| preset.name.as_str());
            let listed = names().collect::<Vec<_>>().join(", ");
            let wanted = options.preset.as_deref().with_context(|| format!("which preset? There are {listed}"))?;
            let name = match meant(wanted, names()) {
                Meant::One(name) => name,
                Meant::Several(several) => bail!("{wanted:?} may be {}: write more of it", several.join(", ")),
                Meant::Nothing => bail!("no preset {wanted:?}: there are {listed}"),
            };
            presets.iter().find(|preset| preset.name == name).map(|preset| HeadOrder::GoTo(preset.token.clone()))
        }
    })
}

/// Moves for a time: the order is given anew before its time-out, and ends with a stop. Gives how long the first answer took.
async fn go(device: &Device, head: &Head, order: &HeadOrder, span: Duration) -> Result<Duration, lattice_net::DeviceError> {
    let begun = Instant::now();
    device.steer(head, order).await?;
    let answered = begun.elapsed();
    while begun.elapsed() < span {
        tokio::time::sleep((span.saturating_sub(begun.elapsed())).min(head.timeout / 2)).await;
        if begun.elapsed() < span {
            device.steer(head, order).await?;
        }
    }
    device.steer(head, &HeadOrder::Stop).await?;
    Ok(answered)
}

fn report(
    options: &SteerOptions,
    camera: &str,
    answered: Duration,
    status: &PtzStatus,
    presets: &[Preset],
) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    let order = options.order.to_possible_value().map_or_else(String::new, |value| value.get_name().to_owned());
    if options.json {
        let report = Report {
            camera,
            order,
            answered_ms: Some((answered.as_secs_f64() * 1e4).round() / 10.0),
            pan: status.position.pan,
            tilt: status.position.tilt,
            zoom: status.position.zoom,
            moving: status.moving,
            presets: presets.iter().map(|preset| preset.name.clone()).collect(),
        };
        writeln!(out, "{}", serde_json::to_string(&report)?)?;
        return Ok(());
    }
    let number = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |value| format!("{value:.2}"));
    let Axes { pan, tilt, zoom } = status.position;
    let moving = if status.moving == Some(true) { ", on its way" } else { "" };
    writeln!(out, "{camera}: pan {}, tilt {}, zoom {}{moving}", number(pan), number(tilt), number(zoom))?;
    if options.order == Order::Where {
        for preset in presets {
            writeln!(out, "  {}", preset.name)?;
        }
    }
    Ok(())
}
