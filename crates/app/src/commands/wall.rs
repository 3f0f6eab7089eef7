//! `wall`, `open` and `corner`: an engine with a screen.

use crate::cli::{CornerOptions, OpenOptions, WallOptions};
use crate::commands::demo::{StandIn, slow};
use crate::tui::app::App;
use crate::tui::guide::Guide;
use crate::tui::own::Own;
use crate::tui::page::WELCOME;
use crate::tui::theme::Tone;
use crate::tui::{pages, run};
use anyhow::Context as _;
use lattice_core::names::one_meant;
use lattice_core::sound::OpenSpeaker;
use lattice_core::{Role, TransportChoice};
use lattice_engine::jobs::{StillOptions, operator};
use lattice_engine::kept::Kept;
use lattice_engine::{CameraDef, Config, Engine, OutwardOptions, StreamDef, places};
use lattice_net::Origin;
use std::ffi::OsString;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

/// What opens the loudspeaker, where this program was built with listening.
#[cfg(feature = "sound")]
const SPEAKER: Option<OpenSpeaker> = Some(lattice_media::speaker::open);
#[cfg(not(feature = "sound"))]
const SPEAKER: Option<OpenSpeaker> = None;

/// What a wall begins with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Begin {
    /// The screen that was named, or the first lattice, or all cameras.
    Usual,
    /// This camera or lattice of the site, without header and footer where that is said.
    Named(String, bool),
    /// These cameras of the site, in a small window.
    Corner(Vec<String>),
}

/// What a wall shows, and how.
pub struct Wall<'a> {
    /// Its name, where the site has none.
    pub name: String,
    /// Cameras that belong to no site.
    pub cameras: Vec<CameraDef>,
    /// The stream that tiles begin with.
    pub prefer: Role,
    /// The options of the command line.
    pub options: &'a WallOptions,
    /// The stand-in cameras, in the demo.
    pub standin: Option<StandIn>,
    /// The site.
    pub site: Option<Kept>,
    /// What it begins with.
    pub begin: Begin,
}

/// A wall of any sources, or of something of the site.
pub fn open(options: &OpenOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    if let [name] = options.sources.as_slice()
        && let Ok(kept) = Kept::open_at_once(named)
    {
        let site = kept.file.site();
        let lattices = site.lattices.iter().map(|lattice| lattice.name.as_str());
        let names = lattices.chain(site.cameras.iter().map(|camera| camera.name.as_str()));
        let is_address = name.contains([':', '/', '.']);
        match one_meant(name, "camera or lattice", names) {
            Ok(found) => {
                let found = found.to_owned();
                return of_site(kept, &options.wall, Begin::Named(found, options.full));
            }
            Err(why) if !is_address => anyhow::bail!(why),
            Err(_) => {}
        }
    }
    let transport: TransportChoice = options.wall.transport.into();
    let camera = |text: &String| -> anyhow::Result<CameraDef> {
        let origin = crate::cli::origin(text).map_err(|error| anyhow::anyhow!("{}: {error}", shown(text)))?;
        let origin = origin.allowing_readable(options.password_readable);
        Ok(CameraDef {
            name: camera_name(&origin),
            streams: vec![StreamDef { role: Role::Main, origin, key: None }],
            transport,
            trust: lattice_net::Trust::Verify,
            viewers: None,
            link: None,
            sound: true,
        })
    };
    let mut cameras: Vec<CameraDef> = options.sources.iter().map(camera).collect::<anyhow::Result<_>>()?;
    // Each its own name, also where a source is given twice.
    for index in 1..cameras.len() {
        let (before, rest) = cameras.split_at_mut(index);
        let same = before.iter().filter(|other| other.name == rest[0].name).count();
        if same > 0 {
            rest[0].name = format!("{} ({})", rest[0].name, same + 1);
        }
    }
    let begin = if options.full { Begin::Named(String::new(), true) } else { Begin::Usual };
    let name = "Sources".into();
    run(Wall { name, cameras, prefer: Role::Main, options: &options.wall, standin: None, site: None, begin })
}

/// What was typed for a source, without a password that may stand in it.
fn shown(text: &str) -> String {
    lattice_core::target::understand(text).map_or_else(|_| "this source".into(), |reading| reading.target.to_string())
}

/// The wall of a site.
pub fn site(options: &WallOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    of_site(Kept::open_at_once(named)?, options, Begin::Usual)
}

/// A few cameras in a small window.
pub fn corner(options: &CornerOptions, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    let kept = Kept::open_at_once(named)?;
    let cameras = || kept.file.site().cameras.iter().map(|camera| camera.name.as_str());
    let names: Result<Vec<String>, String> =
        options.names.iter().map(|name| one_meant(name, "camera", cameras()).map(str::to_owned)).collect();
    let names = names.map_err(anyhow::Error::msg)?;
    of_site(kept, &options.wall, Begin::Corner(names))
}

fn of_site(kept: Kept, options: &WallOptions, begin: Begin) -> anyhow::Result<ExitCode> {
    if let Some(name) = options.screen.as_deref().filter(|name| kept.file.site().screen(name).is_none()) {
        let names: Vec<&str> = kept.file.site().screens.iter().map(|screen| screen.name.as_str()).collect();
        let has = if names.is_empty() { "none; name one by [[screen]] in the site file".into() } else { names.join(", ") };
        anyhow::bail!("the site has no screen {name:?}: it has {has}");
    }
    let name = kept.file.site().name.clone().unwrap_or_else(|| "Amber Lattice".into());
    run(Wall { name, cameras: Vec::new(), prefer: Role::Sub, options, standin: None, site: Some(kept), begin })
}

/// A source without a name is called by its host and path.
fn camera_name(origin: &Origin) -> String {
    let (Origin::Url(url) | Origin::Pictures { url, .. }) = origin else { return origin.to_string() };
    let port = if url.port() == url.scheme().default_port() { String::new() } else { format!(":{}", url.port()) };
    format!("{}{port}{}", url.host(), url.path().split('?').next().unwrap_or(""))
}

/// Runs a wall until the operator leaves.
pub fn run(wall: Wall<'_>) -> anyhow::Result<ExitCode> {
    let Wall { name, cameras, prefer, options, standin, site, begin } = wall;
    // The demo's site is gone with it, and so is its record.
    let record = site.as_ref().map(|kept| match &standin {
        Some(_) => Ok(kept.file.path().with_file_name("ledger.db")),
        None => places::ledger(kept.file.path()),
    });
    // The demo's site has no keys and colours of its own: those of the usual place are taken.
    let beside = site.as_ref().filter(|_| standin.is_none()).map(|kept| kept.file.path().to_owned());
    let beside = beside.or_else(|| places::site(None).ok());
    let of_site = site.is_some();
    let engine = Engine::start(Config {
        cameras,
        prefer,
        only: if let Begin::Corner(names) = &begin { Some(names.clone()) } else { None },
        loopback_only: standin.is_some(),
        transport: options.transport.into(),
        decode: options.decode.into(),
        record: record.transpose()?,
        who: "wall".into(),
        operator: operator(options.operator.as_deref()),
        outward: OutwardOptions { metrics: options.metrics, ledger_lines: options.ledger_lines.clone() },
        stills: StillOptions { form: options.still.into(), folder: options.stills_in.as_deref().map(PathBuf::from) },
        site,
        speaker: SPEAKER,
    })?;
    let screen = run::enter(options)?;
    let mut app = App::new(name, standin.is_some(), screen.area(), screen.aspect(), pages::all());
    app.available = of_site;
    app.aids.light = options.light;
    app.aids.brightness = options.brightness;
    app.aids.care = options.burn_in_care;
    app.screen.clone_from(&options.screen);
    app.bare = matches!(begin, Begin::Corner(_) | Begin::Named(_, true));
    app.begin(&engine.snapshot(), engine.beginning());
    if let Some(folder) = beside.as_deref().and_then(Path::parent) {
        app.take_own(Own::read(folder));
    }
    begin_with(&mut app, &begin);
    if let Some(why) = standin.as_ref().and_then(|_| slow()) {
        app.say(Tone::Bright, why.into());
    }
    app.guide = standin.as_ref().filter(|standin| standin.has_story()).map(|_| Guide::default());
    if screen.run(app, engine, standin)? {
        // In this process's place: the terminal has one reader.
        lattice_term::to_stdin().context("the terminal's line cannot be handed on")?;
        let demo = demo_arguments(std::env::args_os().skip(1));
        let error = std::process::Command::new(std::env::current_exe()?).args(demo).exec();
        return Err(error).context("cannot start the demo");
    }
    Ok(ExitCode::SUCCESS)
}

/// The arguments of a demo that is shown as this wall is: what stood behind `wall`, without the site.
fn demo_arguments(arguments: impl Iterator<Item = OsString>) -> Vec<OsString> {
    let mut demo = vec![OsString::from("demo")];
    let mut rest = arguments.skip_while(|argument| argument != "wall").skip(1);
    while let Some(argument) = rest.next() {
        if argument == "--site" {
            rest.next();
        } else if !argument.as_encoded_bytes().starts_with(b"--site=") {
            demo.push(argument);
        }
    }
    demo
}

/// What is shown first.
fn begin_with(app: &mut App, begin: &Begin) {
    if !app.available {
        return;
    }
    let first = app.site.lattices.first().map(|lattice| lattice.name.clone());
    let screen = app.screen.as_deref().and_then(|name| app.site.screen(name)).cloned();
    match (begin, screen) {
        (Begin::Named(name, _), _) if app.site.lattice(name).is_some() => app.show_lattice(Some(name)),
        (Begin::Named(name, _), _) => app.show_camera(name),
        (Begin::Corner(_), _) => {}
        (Begin::Usual, None) => app.show_lattice(first.as_deref()),
        (Begin::Usual, Some(screen)) => match screen.shows.as_deref() {
            Some(name) if app.site.tour(name).is_some() => app.begin_tour(name),
            shows => app.show_lattice(shows),
        },
    }
    if app.cameras.is_empty() {
        app.open(WELCOME);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_demo_is_shown_as_the_wall_was_and_has_its_own_site() {
        let demo = |line: &str| {
            let demo = demo_arguments(line.split(' ').map(OsString::from));
            demo.into_iter().map(|word| word.into_string().unwrap()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(demo("--site a wall --screen wall --site b --light --site=c"), "demo --screen wall --light");
        assert_eq!(demo("--site a"), "demo");
    }
}
