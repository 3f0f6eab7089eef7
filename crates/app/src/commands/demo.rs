//! The demo: the stand-in port in a process of its own, and a wall of it.

use crate::cli::DemoOptions;
use crate::commands::standin::Announcement;
use crate::commands::wall::{Begin, Wall};
use anyhow::Context as _;
use crossbeam_channel::{Sender, unbounded};
use lattice_core::Role;
use lattice_core::lattice::{Around, Lattice, Placed};
use lattice_core::layout::{Layout, Preset};
use lattice_core::lens::Gaze;
use lattice_core::motion::{Outline, Shape, Way};
use lattice_core::target::understand;
use lattice_engine::kept::Kept;
use lattice_store::{Camera, PasswordSource, Stream};
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, ChildStdin, ExitCode, Stdio};
use std::time::{Duration, Instant};

const SITE: &str = "Tarnhithe ferry port";
/// Cameras that are in the demo's roster from the start; the rest wait to be found.
const AT_FIRST: usize = 4;
/// Cameras that share encoders: in the roster from the start as well, and so are those of [`APART`].
const FLEET: usize = 19;
/// The one that looks at the screen, the one that can be steered, and two that see all around.
const APART: usize = 4;
/// The groups of the cameras, in the order of the roster.
const GROUPS: [&str; AT_FIRST + FLEET + APART] = [
    "Slipways",
    "Lock",
    "Lanes",
    "Fuel", // the four
    "Slipways",
    "Lock",
    "Lanes",
    "Fuel",
    "Slipways",
    "Slipways",
    "Lanes",
    "Halls",
    "Slipways",
    "Fuel",
    "Halls",
    "Halls",
    "Slipways",
    "Lock",
    "Lanes",
    "Fuel",
    "Slipways",
    "Lock",
    "Lanes", // the fleet
    "Control room",
    "Mast",
    "Mast",
    "Mast",
];
/// A fault of the story: after how many seconds, where, and what.
type Due = (u64, &'static str, &'static str);
/// What goes wrong in the first minute, so that there is something to see.
const STORY: [Due; 3] = [(10, "Car lane 2", "loss 8 16"), (16, "Lock house", "dark 45"), (24, "Lock gate upper", "cut 12")];

/// The stand-in port's process. It ends when this is dropped, and also when this process dies,
/// since its standard input ends then.
pub struct StandIn {
    child: Child,
    /// Lines for its standard input, written on a thread of their own: whoever orders does not wait for it.
    orders: Option<Sender<String>>,
    /// The cameras' names, by their numbers from 1.
    names: Vec<String>,
    /// What still goes wrong by itself, and since when.
    story: Option<(std::slice::Iter<'static, Due>, Instant)>,
}

impl StandIn {
    /// Starts the port and reads its cameras; `live`: the fleet draws what it sees now, rather than replay clips.
    pub fn start(live: bool) -> anyhow::Result<(Self, Vec<Announcement>)> {
        // The usual port, so that other programs find it; any other if that is taken.
        Self::start_on(8554, live).or_else(|_| Self::start_on(0, live))
    }

    fn start_on(port: u16, live: bool) -> anyhow::Result<(Self, Vec<Announcement>)> {
        let program = std::env::current_exe().context("cannot find this program to start the stand-in cameras")?;
        let mut child = std::process::Command::new(program)
            .args(["standin", "--all", "--fleet", &FLEET.to_string(), "--json", "--tied", "--port", &port.to_string()])
            .args(live.then_some("--live"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .context("cannot start the stand-in cameras")?;
        let orders = child.stdin.take().map(writer).transpose()?;
        let stdout = child.stdout.take().context("the stand-in cameras have no output")?;
        let mut this = Self { child, orders, names: Vec::new(), story: None };
        let devices = lattice_sim::whole_port(port).len() + FLEET + APART;
        let cameras: Vec<Announcement> = BufReader::new(stdout)
            .lines()
            .take(devices)
            .map(|line| serde_json::from_str(&line?).context("the stand-in cameras announced something odd"))
            .collect::<anyhow::Result<_>>()?;
        anyhow::ensure!(cameras.len() == devices, "the stand-in cameras did not start on port {port}");
        this.names = cameras.iter().map(|camera| camera.name.clone()).collect();
        Ok((this, cameras))
    }

    /// The operator's screen turned light or dark: the camera that looks at it sees that.
    pub fn light(&self, lit: bool) {
        if let Some(orders) = &self.orders {
            let _ = orders.send(format!("light {}", if lit { "on" } else { "off" }));
        }
    }

    /// From now on the first minute's faults come by themselves.
    pub fn begin_story(&mut self) {
        self.story = Some((STORY.iter(), Instant::now()));
    }

    /// Whether faults come by themselves.
    pub const fn has_story(&self) -> bool {
        self.story.is_some()
    }

    /// Orders what is due of the story.
    pub fn go_on(&mut self) {
        let Some((story, begin)) = &mut self.story else { return };
        let due = story.as_slice().first().filter(|(after, ..)| begin.elapsed() >= Duration::from_secs(*after));
        if let Some((_, camera, fault)) = due {
            story.next();
            self.order(camera, fault);
        }
    }

    /// Orders a fault: `cut 3` and the like, for the camera of this name; whether there is such a camera.
    pub fn order(&self, camera: &str, fault: &str) -> bool {
        let Some(index) = self.names.iter().position(|name| name == camera) else { return false };
        self.orders.as_ref().is_some_and(|orders| orders.send(format!("{} {fault}", index + 1)).is_ok())
    }
}

fn writer(mut input: ChildStdin) -> anyhow::Result<Sender<String>> {
    let (orders, lines) = unbounded::<String>();
    let write = move || {
        for line in lines {
            if let Err(error) = writeln!(input, "{line}").and_then(|()| input.flush()) {
                tracing::warn!(%error, "the stand-in cameras did not get an order");
            }
        }
    };
    std::thread::Builder::new().name("stand-in orders".into()).spawn(write)?;
    Ok(orders)
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.orders = None; // its input ends, and so does it
        let deadline = Instant::now() + Duration::from_secs(2);
        while Instant::now() < deadline {
            if matches!(self.child.try_wait(), Ok(Some(_)) | Err(_)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// What makes this build slow, if anything does.
pub fn slow() -> Option<&'static str> {
    if cfg!(debug_assertions) {
        return Some("this is a build for debugging: everything is slow; ./scripts/demo builds and starts a fast one");
    }
    let fast = lattice_media::has_assembly();
    (!fast).then_some("built without nasm: decoding takes twice the time; ./scripts/demo installs it, builds and starts again")
}

/// Runs the demo.
pub fn run(options: &DemoOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    if let Some(why) = slow() {
        // Before the screen is taken: it is there again afterwards.
        let _ = writeln!(std::io::stderr(), "{why}");
    }
    let (mut standin, announced) = StandIn::start(!options.calm)?;
    if !options.calm {
        standin.begin_story();
    }
    // The demo's site is its own, and gone with it.
    let folder = tempfile::tempdir().context("no folder for the demo's site")?;
    let mut kept =
        Kept::at(&folder.path().join("site.toml"), &folder.path().join("sign-ins.toml"), &folder.path().join("sign-ins.json"))?;
    kept.file.change(|editor| {
        editor.name_site(SITE);
        Ok(())
    })?;
    let mut cameras = Vec::new();
    let replaying = announced.iter().skip(announced.len() - FLEET - APART);
    for (index, camera) in announced.iter().take(AT_FIRST).chain(replaying).enumerate() {
        let main = understand(&camera.main)?.target;
        let sub = understand(&camera.sub)?.target;
        let sign_in = main.credentials().cloned();
        let streams = [(Role::Main, main), (Role::Sub, sub)]
            .map(|(role, target)| Stream { role, target: target.with_credentials(None), interval: None, buffer: None })
            .to_vec();
        let sign_in = sign_in.map(|sign_in| kept.keep_sign_in(&sign_in, &PasswordSource::Kept)).transpose()?;
        let address = camera.service.split(':').next().map(str::to_owned);
        let service_port = camera.service.rsplit(':').next().and_then(|port| port.parse().ok()).filter(|port| *port > 0);
        let group = Some(GROUPS[index].to_owned());
        let lens = match camera.name.as_str() {
            "Mast around" => Some(lattice_sim::MAST),
            "Mast platform" => Some(lattice_sim::PLATFORM),
            _ => None,
        };
        let name = camera.name.clone();
        let watch = if name == "Fuel quay" { vec![pump_side()] } else { Vec::new() };
        cameras.push(Camera { name, group, address, service_port, sign_in, streams, lens, watch, ..Camera::default() });
    }
    let lattices = lattices(&cameras);
    kept.file.change(|editor| {
        cameras.iter().try_for_each(|camera| editor.put_camera(camera))?;
        lattices.iter().try_for_each(|lattice| editor.put_lattice(lattice))
    })?;
    let mut text = std::fs::read_to_string(kept.file.path())?;
    text.push_str(ROUND);
    std::fs::write(kept.file.path(), text)?;
    kept.file.reload()?;
    crate::commands::wall::run(Wall {
        name: SITE.into(),
        cameras: Vec::new(),
        prefer: Role::Sub,
        options: &options.wall,
        standin: Some(standin),
        site: Some(kept),
        begin: Begin::Usual,
    })
}

/// Its tour, its screens, and the rule by which what its devices report is shown.
const ROUND: &str = r#"
[[tour]]
name = "night round"
stops = [{ lattice = "harbour six", seconds = 15 }, { lattice = "all lanes", seconds = 10 }, { lattice = "sixteen", seconds = 15 }]

[[rule]]
reports = ["motion", "tampering", "signal-loss", "digital-input", "storage-failure", "heard", "other"]

[[rule]]
camera = "Fuel quay"
reports = ["crossing"]
ledger = false

[[screen]]
name = "desk"
shows = "harbour six"

[[screen]]
name = "wall"
shows = "night round"
"#;

/// A line on the fuel quay: who goes over it towards the pumps is told on the tile.
fn pump_side() -> Shape {
    let outline = Outline::Line(vec![(0.55, 0.95), (0.55, 0.72)], Way::ToTheRight);
    Shape { name: "pump side".into(), outline, least: 0.0 }
}

/// What can be looked at more closely: a head, and views into two cameras of all around.
fn closer() -> Lattice {
    let seen = |camera: &str, around: Option<Around>| Some(Placed { around, ..Placed::new(camera) });
    let window = |pan: f64, tilt: f64| Some(Around::Window(Gaze::degrees(pan, tilt, 0.0, 80.0)));
    let tiles = vec![
        seen("Mast camera", None),
        seen("Mast around", None),
        seen("Mast around", window(0.0, -8.0)),
        seen("Mast around", window(90.0, -8.0)),
        seen("Mast platform", None),
        seen("Mast platform", window(180.0, -25.0)),
    ];
    Lattice::new("looking closer", Layout::even(tiles.len())).with_tiles(tiles)
}

/// Its lattices.
fn lattices(cameras: &[Camera]) -> Vec<Lattice> {
    let names: Vec<&str> = cameras.iter().map(|camera| camera.name.as_str()).collect();
    let filled = |name: &str, layout: Layout, names: &mut dyn Iterator<Item = &str>| {
        let mut lattice = Lattice::new(name, layout);
        lattice.fill(0, names);
        lattice
    };
    let of_group = |group: &'static str| {
        let own = cameras.iter().filter(move |camera| camera.group.as_deref() == Some(group));
        own.map(|camera| camera.name.as_str())
    };
    let mut six = filled("harbour six", Layout::Preset(Preset::One5), &mut names.iter().copied().take(6));
    // One is on the wrong stream for its size: the plan says what that costs.
    if let Some(placed) = six.at_mut(AT_FIRST) {
        placed.hold = Some(Role::Main);
    }
    vec![
        six,
        filled("the four", Layout::even(4), &mut names.iter().copied().take(4)),
        filled("all lanes", Layout::Preset(Preset::Strip4), &mut of_group("Lanes").take(5)),
        filled("sixteen", Layout::even(16), &mut names.iter().copied().skip(AT_FIRST).take(16)),
        closer(),
    ]
}
