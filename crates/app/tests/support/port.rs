//! The program as tests start it, and stand-ins on ports of their own, so that tests and other programs do not meet.
#![allow(dead_code, reason = "each test file uses what it needs")]

use serde_json::Value;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::process::{Child, ChildStdout, Command, Output, Stdio};
use std::sync::{Mutex, MutexGuard, PoisonError};

/// The program.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_amber-lattice");
/// The password of the stand-in port.
pub const PASSWORD: &str = "ebb-and-flow";

/// The program without the keyring of whoever runs the tests.
pub fn program() -> Command {
    let mut command = Command::new(PROGRAM);
    command.env("DBUS_SESSION_BUS_ADDRESS", "disabled:").stdin(Stdio::null());
    command
}

/// One port at a time: two beside each other starve on a small machine, and skip frames.
static ALONE: Mutex<()> = Mutex::new(());

/// No other stand-ins meanwhile.
pub fn alone() -> MutexGuard<'static, ()> {
    ALONE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Stand-ins that end with the test.
pub struct StandIn {
    _alone: MutexGuard<'static, ()>,
    child: Child,
    /// Held open: a stand-in that cannot write any more ends.
    _said: BufReader<ChildStdout>,
    /// What each said of itself.
    pub devices: Vec<Value>,
    /// What they log.
    pub log: tempfile::NamedTempFile,
}

impl StandIn {
    /// The four cameras of the first wall.
    pub fn four() -> Self {
        Self::start(&[], 4)
    }

    /// The whole port, and the camera that looks at the screen.
    pub fn all() -> Self {
        Self::start(&["--all"], 25)
    }

    /// Cameras for load.
    pub fn fleet(count: usize) -> Self {
        Self::start(&["--fleet", &count.to_string()], count)
    }

    fn start(more: &[&str], count: usize) -> Self {
        let alone = alone();
        let log = tempfile::NamedTempFile::new().unwrap();
        let mut command = program();
        command.args(["standin", "--port", "0", "--json", "--tied"]).args(more).arg("--log").arg(log.path());
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut said = BufReader::new(child.stdout.take().unwrap());
        let lines = said.by_ref().lines().take(count);
        let devices = lines.map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
        Self { _alone: alone, child, _said: said, devices, log }
    }

    /// Orders a fault.
    pub fn order(&mut self, order: &str) {
        writeln!(self.child.stdin.as_mut().unwrap(), "{order}").unwrap();
    }

    /// A device by its name.
    pub fn device(&self, name: &str) -> &Value {
        self.devices.iter().find(|device| device["name"] == name).unwrap()
    }

    /// Address of a device's sub stream without its sign-in.
    pub fn sub(&self, name: &str) -> String {
        let url = self.device(name)["sub"].as_str().unwrap();
        let (_, rest) = url.split_once('@').unwrap_or(("", url.trim_start_matches("rtsp://")));
        format!("rtsp://{rest}")
    }

    /// Address of a device's service, with its port.
    pub fn service(&self, name: &str) -> &str {
        self.device(name)["service"].as_str().unwrap()
    }

    /// Everything logged so far.
    pub fn logged(&self) -> Vec<Value> {
        let text = std::fs::read_to_string(self.log.path()).unwrap();
        text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect()
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

/// The program with folders of its own.
pub struct Home(pub tempfile::TempDir);

impl Home {
    /// Nothing kept yet.
    pub fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    /// The program in these folders, with passwords in its environment.
    pub fn program(&self) -> Command {
        let mut command = program();
        for (variable, folder) in [("XDG_CONFIG_HOME", "config"), ("XDG_DATA_HOME", "data"), ("XDG_STATE_HOME", "state")] {
            command.env(variable, self.0.path().join(folder));
        }
        command.env("PORT_PW", PASSWORD).env("ADMIN_PW", "admin").env("WRONG_PW", "not this one");
        command
    }

    /// Runs it.
    pub fn run(&self, args: &[&str]) -> Output {
        self.program().args(args).output().unwrap()
    }

    /// Runs it; its exit status and what it printed.
    pub fn json(&self, args: &[&str]) -> (Option<i32>, Value) {
        let output = self.run(args);
        let json = serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"));
        (output.status.code(), json)
    }

    /// A file of its folders.
    pub fn file(&self, path: &str) -> String {
        std::fs::read_to_string(self.0.path().join(path)).unwrap_or_default()
    }
}
