//! `still`: one picture of a camera of the site, for scripts.

use anyhow::{Context as _, bail};
use clap::Args;
use crossbeam_channel::{RecvTimeoutError, bounded};
use lattice_core::Role;
use lattice_core::adjust::Adjust;
use lattice_core::check::phrase_of;
use lattice_engine::jobs::adjusted;
use lattice_engine::kept::Kept;
use lattice_engine::{Feed, Pictures, SMALL_TILE, places, pool, wait_until_closed};
use lattice_media::{Print, TilePicture};
use lattice_net::{Runtime, SourceConfig};
use lattice_report::{Raster, captioned};
use serde::Serialize;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// JPEG quality, in percent.
const QUALITY: u8 = 92;
/// No picture is larger.
const MOST: (usize, usize) = (16_384, 16_384);

/// The options.
#[derive(Debug, Args)]
pub struct StillOptions {
    /// The camera, by its name or a beginning that no other has
    pub camera: String,
    /// The file, .png or .jpg; none is written over
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
    /// Which of its streams: main, sub or third; the largest when left out
    #[arg(long, value_name = "STREAM", value_parser = role)]
    pub stream: Option<Role>,
    /// Without the adjustments that the site has for the camera
    #[arg(long)]
    pub as_it_comes: bool,
    /// Without the strip of text under it
    #[arg(long)]
    pub bare: bool,
    /// How long to wait for a clean picture
    #[arg(long, value_name = "TIME", default_value = "10s", value_parser = crate::cli::span)]
    pub within: Duration,
    /// Where pictures are decoded
    #[arg(long, value_enum, default_value_t)]
    pub decode: crate::cli::DecodeArg,
    /// Print one JSON object
    #[arg(long)]
    pub json: bool,
}

fn role(text: &str) -> Result<Role, String> {
    Role::from_word(text).ok_or_else(|| format!("{text:?} is no stream: main, sub or third"))
}

#[derive(Serialize)]
struct Report {
    camera: String,
    stream: &'static str,
    file: PathBuf,
    width: usize,
    height: usize,
    adjusted: Option<String>,
    first_picture_ms: u64,
}

/// Opens the stream, waits for a clean picture and writes it.
pub fn run(options: &StillOptions, site: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("still");
    let ending = options.out.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
    let jpeg = match ending.as_deref() {
        Some("png") => false,
        Some("jpg" | "jpeg") => true,
        _ => bail!("{} is neither .png nor .jpg: a still is one of them", options.out.display()),
    };
    if options.out.exists() {
        bail!("{} is there already: no file is written over", options.out.display());
    }
    let kept = Kept::open(site)?;
    let camera = super::camera_named(&kept, &options.camera)?;
    let name = camera.name.clone();
    let definition = kept.definition(camera).with_context(|| format!("{name} is switched off, or has no stream"))?;
    let stream = match options.stream {
        None => definition.streams.first(),
        Some(role) => definition.streams.iter().find(|stream| stream.role == role),
    };
    let stream = stream.with_context(|| format!("{name} has no such stream"))?;
    let adjust = if options.as_it_comes { Adjust::OFF } else { camera.adjust };
    let (runtime, pool, begun) = (Runtime::start()?, pool(&options.decode.into()), Instant::now());
    let (sender, came) = bounded(1);
    let on_still = Box::new(move |picture| drop(sender.try_send(picture)));
    let config = SourceConfig {
        trust: definition.trust,
        key: stream.key.clone(),
        ..SourceConfig::from_origin(stream.origin.clone(), definition.transport)
    };
    let mut feed = Feed::open(runtime.handle(), Some(&pool), config, Pictures { on_still, ..Pictures::default() });
    feed.want_prints(vec![Print { adjust, ..Print::whole(SMALL_TILE) }]);
    feed.ask_still(MOST);
    let picture = came.recv_timeout(options.within);
    let figures = feed.figures();
    feed.close();
    wait_until_closed(std::slice::from_ref(&feed), Duration::from_millis(700));
    let picture = match picture {
        Ok(picture) => picture,
        Err(RecvTimeoutError::Timeout | RecvTimeoutError::Disconnected) => {
            let why = figures
                .cause
                .map_or_else(|| "no clean picture came".to_owned(), |cause| phrase_of(cause, figures.seen).to_owned());
            let seconds = options.within.as_secs_f64();
            let _ = writeln!(std::io::stderr(), "{name}: no picture within {seconds} s: {why}");
            return Ok(ExitCode::from(1));
        }
    };
    write(options, &name, stream.role, &picture, jpeg)?;
    let report = Report {
        camera: name,
        stream: stream.role.word(),
        file: options.out.clone(),
        width: picture.width,
        height: picture.height,
        adjusted: adjusted(&picture.adjust),
        first_picture_ms: begun.elapsed().as_millis() as u64,
    };
    let mut out = std::io::stdout().lock();
    if options.json {
        writeln!(out, "{}", serde_json::to_string(&report)?)?;
    } else {
        let adjusted = report.adjusted.map_or_else(String::new, |adjusted| format!(", {adjusted}"));
        writeln!(
            out,
            "{}: {}x{} of {} {}{adjusted}",
            report.file.display(),
            report.width,
            report.height,
            report.camera,
            report.stream
        )?;
    }
    Ok(ExitCode::SUCCESS)
}

fn write(options: &StillOptions, name: &str, role: Role, picture: &TilePicture, jpeg: bool) -> anyhow::Result<()> {
    let raster = Raster::new(picture.width, picture.height, picture.rgb.to_vec())?;
    let mut lines = vec![
        format!("{name} {}", role.word()),
        format!("{} by this machine's clock", jiff::ZonedDateTime::now().strftime("%Y-%m-%d %H:%M:%S %Z")),
        format!("{}×{}", picture.source.0, picture.source.1),
    ];
    lines.extend(adjusted(&picture.adjust));
    let raster = if options.bare { raster } else { captioned(&raster, &lines)? };
    let bytes = if jpeg { raster.jpeg(QUALITY)? } else { raster.png()? };
    places::write_new(&options.out, &bytes).with_context(|| format!("{} cannot be written", options.out.display()))
}
