//! The demo: the stand-in port in a process of its own, and a wall of it.

use crate::app::{CameraDef, Site, StreamDef, StreamRole};
use crate::cli::DemoOptions;
use crate::standin::Announcement;
use anyhow::Context as _;
use std::io::{BufRead as _, BufReader, Write as _};
use std::process::{Child, ChildStdin, ExitCode, Stdio};
use std::time::{Duration, Instant};

/// The stand-in port's process. It ends when this is dropped, and also when this process dies,
/// since its standard input ends then.
pub struct StandIn {
    child: Child,
    orders: Option<ChildStdin>,
}

impl StandIn {
    /// Starts the port and reads its cameras.
    pub fn start() -> anyhow::Result<(Self, Vec<Announcement>)> {
        // The usual port, so that other programs find it; any other if that is taken.
        Self::start_on(8554).or_else(|_| Self::start_on(0))
    }

    fn start_on(port: u16) -> anyhow::Result<(Self, Vec<Announcement>)> {
        let program = std::env::current_exe().context("cannot find this program to start the stand-in cameras")?;
        let mut child = std::process::Command::new(program)
            .args(["standin", "--json", "--tied", "--port", &port.to_string()])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .context("cannot start the stand-in cameras")?;
        let orders = child.stdin.take();
        let stdout = child.stdout.take().context("the stand-in cameras have no output")?;
        let this = Self { child, orders };
        let cameras: Vec<Announcement> = BufReader::new(stdout)
            .lines()
            .take(4)
            .map(|line| serde_json::from_str(&line?).context("the stand-in cameras announced something odd"))
            .collect::<anyhow::Result<_>>()?;
        anyhow::ensure!(cameras.len() == 4, "the stand-in cameras did not start on port {port}");
        Ok((this, cameras))
    }

    /// Orders a fault: `cut 3` and the like, for the camera with this index.
    pub fn order(&mut self, camera: usize, fault: &str) -> bool {
        self.orders
            .as_mut()
            .is_some_and(|orders| writeln!(orders, "{} {fault}", camera + 1).and_then(|()| orders.flush()).is_ok())
    }
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

/// Runs the demo.
pub fn run(options: &DemoOptions) -> anyhow::Result<ExitCode> {
    let _guard = crate::logging::start("amber-lattice");
    let (standin, announced) = StandIn::start()?;
    let stream = |role, url: &str| anyhow::Ok(StreamDef { role, origin: lattice_net::Origin::Url(url.parse()?) });
    let cameras = announced
        .iter()
        .map(|camera| {
            // Four tiles are small: they begin with the stream that fits.
            let streams = vec![stream(StreamRole::Main, &camera.main)?, stream(StreamRole::Sub, &camera.sub)?];
            Ok(CameraDef { name: camera.name.clone(), streams })
        })
        .collect::<anyhow::Result<_>>()?;
    let site = Site { name: "Tarnhithe ferry port".into(), cameras, prefer: StreamRole::Sub };
    crate::run::wall(site, &options.wall, Some(standin))
}
