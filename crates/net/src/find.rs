//! The search of a network: discovery, a scan of ranges, and questions that tell a camera from a printer.

use crate::clock;
use crate::connection::Trust;
use crate::describe::describe;
use crate::device::{Device, DeviceError};
use crate::discovery::discover;
use crate::reach::{Interface, Knock, knock, neighbour};
use lattice_core::find::{
    AddressRange, DeviceKind, Exposure, FoundDevice, MAX_PATH_TRIES, PathPattern, common_paths, is_well_known,
};
use lattice_core::{Credentials, Mono, Scheme, SourceUrl};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::sync::{Semaphore, mpsc, watch};
use tokio::task::{JoinHandle, JoinSet};

/// Ports that cameras use for streams and for their device service, in the order in which they are tried.
pub const USUAL_PORTS: &[u16] = &[554, 8554, 80, 8080, 8000, 8899, 2020, 443, 322, 10554];
/// Connections at a time.
pub const AT_ONCE: usize = 64;
/// Connections begun a second at most.
const A_SECOND: u32 = 2_000;
/// A port that does not answer in this time is closed to a scan.
const KNOCK_WITHIN: Duration = Duration::from_millis(900);
/// A question to a device in a search.
const QUESTION_WITHIN: Duration = Duration::from_secs(3);
/// Everything that is asked of one device.
const DEVICE_WITHIN: Duration = Duration::from_secs(12);
/// How long answers to a probe are waited for: devices wait up to half a second, three probes go out.
const DISCOVERY_WINDOW: Duration = Duration::from_millis(1_800);

/// What to search.
#[derive(Debug, Clone)]
pub struct FindConfig {
    /// Ranges to scan.
    pub ranges: Vec<AddressRange>,
    /// Ports to knock on.
    pub ports: Vec<u16>,
    /// Connections at a time.
    pub at_once: usize,
    /// This machine's addresses to send probes from; none for no discovery by multicast.
    pub probe_from: Vec<Ipv4Addr>,
    /// Hosts to probe one by one.
    pub probe_hosts: Vec<Ipv4Addr>,
    /// Paths that are asked, without a sign-in, where the root of a stream port tells nothing.
    pub paths: Vec<PathPattern>,
}

impl FindConfig {
    /// A search of these ranges, and by discovery where these interfaces lead.
    #[must_use]
    pub fn new(ranges: Vec<AddressRange>, probe_from: Vec<Ipv4Addr>) -> Self {
        let paths = common_paths("").unwrap_or_default();
        let (ports, probe_hosts) = (USUAL_PORTS.to_vec(), Vec::new());
        Self { ranges, ports, at_once: AT_ONCE, probe_from, probe_hosts, paths }
    }

    /// Knocks on these ports rather than the usual ones, if there are any.
    pub fn use_ports(&mut self, ports: &[u16]) {
        if !ports.is_empty() {
            ports.clone_into(&mut self.ports);
        }
    }

    /// Addresses that will be scanned.
    #[must_use]
    pub fn addresses(&self) -> u64 {
        self.ranges.iter().map(AddressRange::len).sum()
    }
}

/// The addresses to send probes from when these ranges are searched: those of the interfaces that lead there, so
/// that a search of loopback stays on loopback. Without ranges, every interface that takes multicast.
#[must_use]
pub fn probe_addresses(interfaces: &[Interface], ranges: &[AddressRange]) -> Vec<Ipv4Addr> {
    let v4 = |interface: &Interface| match interface.address {
        IpAddr::V4(address) => Some(address),
        IpAddr::V6(_) => None,
    };
    let leads = |interface: &Interface| {
        ranges.is_empty()
            || ranges
                .iter()
                .any(|range| interface.contains(IpAddr::V4(range.first())) || (interface.loopback && range.is_loopback()))
    };
    interfaces.iter().filter(|interface| interface.multicast && leads(interface)).filter_map(v4).collect()
}

/// The networks of this machine that a scan is proposed for: not its loopback, none larger than `most` addresses.
#[must_use]
pub fn proposed_ranges(interfaces: &[Interface], most: u64) -> Vec<AddressRange> {
    let range = |interface: &Interface| match interface.address {
        IpAddr::V4(address) if !interface.loopback => Some(AddressRange::network(address, interface.prefix)),
        _ => None,
    };
    let mut ranges: Vec<AddressRange> =
        interfaces.iter().filter_map(range).filter(|range| range.len() <= most && range.len() > 1).collect();
    ranges.dedup();
    ranges
}

/// How far a search is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct FindProgress {
    /// Addresses asked so far.
    pub asked: u64,
    /// Addresses to ask in all.
    pub total: u64,
    /// Devices that answered.
    pub found: u64,
    /// Devices that are still being asked what they are.
    pub asking: u64,
    /// The search is over.
    pub done: bool,
    /// When it began.
    pub began: Mono,
    /// How long it took, or has taken.
    pub took: Duration,
}

impl FindProgress {
    /// Share done, 0 to 1.
    #[must_use]
    pub fn share(&self) -> f64 {
        if self.done { 1.0 } else { self.asked as f64 / self.total.max(1) as f64 }
    }

    /// How much longer it will take, by what it took so far; `None` while that says nothing.
    #[must_use]
    pub fn left(&self) -> Option<Duration> {
        (self.asked >= 16 && !self.done)
            .then(|| self.took.mul_f64((self.total - self.asked.min(self.total)) as f64 / self.asked as f64))
    }
}

/// News of a search.
#[derive(Debug, Clone)]
pub struct Found {
    /// Whose.
    pub address: IpAddr,
    /// What was learnt; joined to what is known by [`lattice_core::find::Findings::learn`].
    pub learnt: FoundDevice,
}

/// A search that runs; dropping it cancels it.
pub struct Search {
    /// News, as it comes.
    pub news: mpsc::Receiver<Found>,
    progress: watch::Receiver<FindProgress>,
    task: JoinHandle<()>,
}

impl Search {
    /// Begins a search.
    #[must_use]
    pub fn begin(runtime: &Handle, config: FindConfig) -> Self {
        let (news, news_out) = mpsc::channel(1024);
        let (progress, progress_out) =
            watch::channel(FindProgress { began: clock::now(), total: config.addresses(), ..FindProgress::default() });
        let task = runtime.spawn(run(config, news, progress));
        Self { news: news_out, progress: progress_out, task }
    }

    /// How far it is.
    #[must_use]
    pub fn progress(&self) -> FindProgress {
        let progress = *self.progress.borrow();
        if progress.done { progress } else { FindProgress { took: clock::now().since(progress.began), ..progress } }
    }
}

impl Drop for Search {
    fn drop(&mut self) {
        self.task.abort();
    }
}

struct Counters {
    asked: AtomicU64,
    progress: watch::Sender<FindProgress>,
}

impl Counters {
    fn one_asked(&self) {
        let asked = self.asked.fetch_add(1, Ordering::Relaxed) + 1;
        self.progress.send_modify(|progress| progress.asked = asked);
    }
}

/// What is known of the ports of a device that is to be asked.
#[derive(Debug, Clone, Default)]
struct Candidate {
    open: BTreeSet<u16>,
    learnt: FoundDevice,
}

/// A device to be asked, or asked again since more ports are known.
enum Clue {
    Heard(IpAddr, FoundDevice),
    Open(IpAddr, Vec<u16>),
}

async fn run(config: FindConfig, news: mpsc::Sender<Found>, progress: watch::Sender<FindProgress>) {
    let began = clock::now();
    let counters = Arc::new(Counters { asked: AtomicU64::new(0), progress });
    let (clues, mut clues_out) = mpsc::channel(256);
    let limit = Arc::new(Semaphore::new(config.at_once.max(1)));
    let config = Arc::new(config);
    let mut sources = JoinSet::new();
    sources.spawn(listen(config.clone(), clues.clone()));
    sources.spawn(scan(config.clone(), clues, limit.clone(), counters.clone()));
    let mut asking: JoinSet<(IpAddr, FoundDevice)> = JoinSet::new();
    let mut known: HashMap<IpAddr, Candidate> = HashMap::new();
    let mut busy: HashSet<IpAddr> = HashSet::new();
    let mut again: HashSet<IpAddr> = HashSet::new();
    let mut listening = true;
    loop {
        let clue = tokio::select! {
            clue = clues_out.recv(), if listening => {
                let Some(clue) = clue else { listening = false; continue };
                clue
            }
            Some(asked) = asking.join_next() => {
                let Ok((address, learnt)) = asked else { continue };
                busy.remove(&address);
                if (learnt.by_discovery || learnt.rtsp_port.is_some() || learnt.service_port.is_some())
                    && news.send(Found { address, learnt: learnt.clone() }).await.is_err()
                {
                    return;
                }
                if let Some(candidate) = known.get_mut(&address) {
                    candidate.learnt.merge(learnt);
                }
                if again.remove(&address) {
                    start(&config, &limit, &mut asking, &mut busy, address, &known);
                }
                tell(&counters, &known, busy.len());
                continue;
            }
            else => break,
        };
        let (address, ports) = match clue {
            Clue::Heard(address, learnt) => {
                // Shown at once; what it is follows.
                if news.send(Found { address, learnt: learnt.clone() }).await.is_err() {
                    return;
                }
                let ports: Vec<u16> = learnt.service_port.into_iter().collect();
                let candidate = known.entry(address).or_default();
                let first = !candidate.learnt.by_discovery;
                candidate.learnt.merge(learnt);
                if !first {
                    continue;
                }
                (address, ports)
            }
            Clue::Open(address, ports) => {
                known.entry(address).or_default().learnt.by_scan = true;
                (address, ports)
            }
        };
        let candidate = known.entry(address).or_default();
        candidate.open.extend(ports);
        if busy.contains(&address) {
            again.insert(address);
        } else {
            start(&config, &limit, &mut asking, &mut busy, address, &known);
        }
        tell(&counters, &known, busy.len());
    }
    counters.progress.send_modify(|progress| {
        progress.done = true;
        progress.asking = 0;
        progress.took = clock::now().since(began);
    });
}

fn tell(counters: &Counters, known: &HashMap<IpAddr, Candidate>, asking: usize) {
    let found = known
        .values()
        .filter(|one| one.learnt.by_discovery || one.learnt.rtsp_port.is_some() || one.learnt.service_port.is_some())
        .count();
    counters.progress.send_modify(|progress| (progress.found, progress.asking) = (found as u64, asking as u64));
}

fn start(
    config: &Arc<FindConfig>,
    limit: &Arc<Semaphore>,
    asking: &mut JoinSet<(IpAddr, FoundDevice)>,
    busy: &mut HashSet<IpAddr>,
    address: IpAddr,
    known: &HashMap<IpAddr, Candidate>,
) {
    let Some(candidate) = known.get(&address).cloned() else { return };
    busy.insert(address);
    let (config, limit) = (config.clone(), limit.clone());
    asking.spawn(async move {
        let before = candidate.learnt.clone();
        let learnt = tokio::time::timeout(DEVICE_WITHIN, identify(&config, &limit, address, candidate)).await;
        (address, learnt.unwrap_or(before))
    });
}

/// Probes, and passes on who answers.
async fn listen(config: Arc<FindConfig>, clues: mpsc::Sender<Clue>) {
    if config.probe_from.is_empty() && config.probe_hosts.is_empty() {
        return;
    }
    let Ok(mut heard) = discover(&config.probe_from, &config.probe_hosts, DISCOVERY_WINDOW) else {
        tracing::warn!("no socket for discovery");
        return;
    };
    let mut told: BTreeMap<IpAddr, FoundDevice> = BTreeMap::new();
    while let Some(one) = heard.recv().await {
        if told.len() >= lattice_core::find::MAX_FOUND && !told.contains_key(&one.from.ip()) {
            continue;
        }
        let mut device = told.get(&one.from.ip()).cloned().unwrap_or_default();
        device.on_match(one.from.ip(), &one.answer);
        if told.get(&one.from.ip()) != Some(&device) {
            told.insert(one.from.ip(), device.clone());
            if clues.send(Clue::Heard(one.from.ip(), device)).await.is_err() {
                return;
            }
        }
    }
}

/// Knocks on every port of every address: first on two ports everywhere, then on the rest of those hosts that are
/// there or may be.
async fn scan(config: Arc<FindConfig>, clues: mpsc::Sender<Clue>, limit: Arc<Semaphore>, counters: Arc<Counters>) {
    let between = Duration::from_secs(1) / A_SECOND;
    let mut pace = tokio::time::interval(between.max(Duration::from_micros(100)));
    pace.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Burst);
    let mut hosts = JoinSet::new();
    let mut seen: HashSet<Ipv4Addr> = HashSet::new();
    for address in config.ranges.iter().flat_map(AddressRange::addresses) {
        if config.ranges.len() > 1 && !seen.insert(address) {
            counters.one_asked();
            continue;
        }
        // One permit a host bounds the hosts in the works; its knocks go one after the other.
        let Ok(permit) = limit.clone().acquire_owned().await else { return };
        for _ in 0..config.ports.len().min(2) {
            pace.tick().await;
        }
        let (config, clues, counters) = (config.clone(), clues.clone(), counters.clone());
        hosts.spawn(async move {
            let open = scan_host(IpAddr::V4(address), &config.ports).await;
            drop(permit);
            counters.one_asked();
            if !open.is_empty() {
                let _ = clues.send(Clue::Open(IpAddr::V4(address), open)).await;
            }
        });
        while hosts.try_join_next().is_some() {}
    }
    while hosts.join_next().await.is_some() {}
}

async fn scan_host(address: IpAddr, ports: &[u16]) -> Vec<u16> {
    let mut open = Vec::new();
    let (mut answered, mut silent) = (false, 0);
    for port in ports {
        match knock(SocketAddr::new(address, *port), KNOCK_WITHIN).await {
            Knock::Open(_) => {
                open.push(*port);
                answered = true;
            }
            Knock::Refused(_) => answered = true,
            Knock::Silent(_) => silent += 1,
            Knock::Unreachable(..) => return open,
        }
        // Two silent ports and no network card that answers: nobody is there.
        if silent >= 2 && !answered && neighbour(address).is_none() {
            return open;
        }
    }
    open
}

/// Finds out what a device is, by what its open ports answer.
async fn identify(config: &FindConfig, limit: &Semaphore, address: IpAddr, candidate: Candidate) -> FoundDevice {
    let Candidate { mut open, mut learnt } = candidate;
    let Ok(_permit) = limit.acquire().await else { return learnt };
    if learnt.by_discovery && !learnt.by_scan {
        // Its service port is known; where its streams are must be knocked for.
        for port in &config.ports {
            if !open.contains(port) && matches!(knock(SocketAddr::new(address, *port), KNOCK_WITHIN).await, Knock::Open(_)) {
                open.insert(*port);
            }
        }
    }
    let mut ports: Vec<u16> = open.iter().copied().collect();
    // The port that it named itself first.
    ports.sort_by_key(|port| Some(*port) != learnt.service_port);
    let mut device = None;
    for port in &ports {
        if is_stream_port(*port) && learnt.service_port != Some(*port) {
            continue;
        }
        if let Some(found) = greet(address, *port).await {
            device = Some(found);
            learnt.service_port = Some(*port);
            break;
        }
    }
    for port in &ports {
        if learnt.rtsp_port.is_some() || device.as_ref().is_some_and(|device| device.port() == *port) {
            continue;
        }
        ask_stream(config, address, *port, &mut learnt).await;
    }
    if let Some(device) = device {
        ask_device(&device, address, &mut learnt).await;
    }
    if learnt.kind == DeviceKind::Unknown && learnt.rtsp_port.is_some() {
        learnt.kind = DeviceKind::Camera;
    }
    learnt
}

const fn is_stream_port(port: u16) -> bool {
    matches!(port, 322 | 554 | 8554 | 10554)
}

async fn greet(address: IpAddr, port: u16) -> Option<Device> {
    let mut device = Device::new(&address.to_string(), port, None, Some(address)).trusting(Trust::Off);
    let greeted = tokio::time::timeout(QUESTION_WITHIN, device.greet()).await;
    match greeted {
        // A device that wants a sign-in even for its clock is one all the same.
        Ok(Ok(_) | Err(DeviceError::SignInNeeded | DeviceError::Refused(_))) => Some(device),
        _ => None,
    }
}

async fn ask_stream(config: &FindConfig, address: IpAddr, port: u16, learnt: &mut FoundDevice) {
    let scheme = if port == 322 { Scheme::Rtsps } else { Scheme::Rtsp };
    let ask = async |path: &str| {
        let url = SourceUrl::new(scheme, &address.to_string(), Some(port), path);
        describe(&url, Some(address), Trust::Off, QUESTION_WITHIN).await
    };
    let mut seen = ask("/").await;
    if !seen.speaks_rtsp {
        return;
    }
    // Many lie open, or locked, at their streams' own paths only.
    for pattern in config.paths.iter().take(MAX_PATH_TRIES) {
        if seen.is_open() || seen.is_locked() || !seen.speaks_rtsp {
            break;
        }
        seen = ask(&pattern.path(1, 1)).await;
    }
    learnt.rtsp_port = Some(port);
    learnt.by_scan |= config.ranges.iter().any(|range| matches!(address, IpAddr::V4(v4) if range.contains(v4)));
    if seen.is_locked() {
        learnt.locked = Some(true);
    } else if seen.is_open() {
        learnt.locked = Some(false);
        learnt.exposed = Some(Exposure::NoPassword);
    }
}

/// Asks the device service, without any sign-in: whoever answers is a stranger.
async fn ask_device(device: &Device, address: IpAddr, learnt: &mut FoundDevice) {
    if let Ok(capabilities) = device.capabilities().await {
        learnt.channels = capabilities.video_sources;
        if capabilities.video_sources.is_some_and(|sources| sources > 1) {
            learnt.kind = DeviceKind::Recorder;
        }
    }
    if learnt.kind == DeviceKind::Unknown {
        learnt.kind = DeviceKind::Camera;
    }
    if learnt.name.is_none() {
        learnt.name = device.own_name().await;
    }
    learnt.endpoint = device.endpoint().await.or_else(|| learnt.endpoint.take());
    match device.information(false).await {
        Ok(information) => {
            take(learnt, information);
            ask_streams(device, address, false, learnt).await;
        }
        Err(DeviceError::SignInNeeded) => {
            // Only a device without accounts tells them to anyone.
            if device.users(false).await.is_ok_and(|users| users.is_empty()) {
                learnt.exposed = Some(Exposure::FirstUse);
            }
            learnt.locked = Some(true);
        }
        Err(_) => ask_streams(device, address, false, learnt).await,
    }
}

async fn ask_streams(device: &Device, address: IpAddr, signed: bool, learnt: &mut FoundDevice) {
    let Ok(streams) = device.streams(signed).await else { return };
    let sources: BTreeSet<_> = streams.iter().filter_map(|offered| offered.profile.source.clone()).collect();
    if sources.len() > 1 {
        learnt.kind = DeviceKind::Recorder;
        learnt.channels = Some(sources.len() as u32);
    }
    let Some(url) = streams.into_iter().find_map(|offered| offered.url) else { return };
    learnt.rtsp_port = Some(url.port());
    let seen = describe(&url, Some(address), Trust::Off, QUESTION_WITHIN).await;
    if seen.is_open() {
        learnt.exposed = Some(Exposure::NoPassword);
        learnt.locked = Some(false);
    } else if seen.is_locked() && !signed {
        learnt.locked = Some(true);
    }
}

/// Asks a device that a search found with a sign-in, once: only where the operator has said that this is the device. What it
/// says is added to what is known of it; a refusal ends it.
pub async fn sign_in_to(address: IpAddr, found: &FoundDevice, sign_in: &Credentials, trust: Trust) -> FoundDevice {
    let mut learnt = found.clone();
    let Some(port) = found.service_port else { return learnt };
    let mut device = Device::new(&address.to_string(), port, Some(sign_in.clone()), Some(address)).trusting(trust);
    let asked = async {
        // Its time first: what is signed carries it.
        if device.greet().await.is_err_and(|error| !matches!(error, DeviceError::SignInNeeded | DeviceError::Refused(_))) {
            return;
        }
        match device.information(true).await {
            Ok(information) => {
                take(&mut learnt, information);
                learnt.locked = Some(false);
                if is_well_known(sign_in) {
                    learnt.exposed = Some(Exposure::DefaultPassword);
                }
                ask_streams(&device, address, true, &mut learnt).await;
            }
            Err(error) => learnt.refused = error.is_sign_in(),
        }
    };
    let _ = tokio::time::timeout(DEVICE_WITHIN, asked).await;
    learnt
}

fn take(learnt: &mut FoundDevice, information: lattice_core::onvif::DeviceInformation) {
    let keep = |mine: &mut Option<String>, theirs: Option<String>| *mine = theirs.or_else(|| mine.take());
    keep(&mut learnt.maker, information.maker);
    keep(&mut learnt.model, information.model);
    keep(&mut learnt.firmware, information.firmware);
    keep(&mut learnt.serial, information.serial);
}
