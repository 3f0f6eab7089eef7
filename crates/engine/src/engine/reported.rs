//! What is done when a camera reports something, by the rules of the site.

use super::machine::Machine;
use crate::camera::FeedKey;
use crate::command::{Loudness, News};
use crate::jobs::JobNews;
use crate::motion::TOPIC;
use crate::reporting::{Begun, DEVICE, PICTURES};
use lattice_core::SourceUrl;
use lattice_core::onvif::date_time;
use lattice_net::{ReportNews, post_json};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

/// A program of a rule that runs longer is ended.
const RUNS_FOR: Duration = Duration::from_secs(10);
/// Most programs of rules at a time.
const MOST_RUNNING: usize = 4;
/// What could not be sent is sent once more after this.
const AGAIN_AFTER: Duration = Duration::from_secs(2);
/// What programs of rules get of our environment: no variable that may hold a password.
const ENVIRONMENT: [&str; 9] =
    ["PATH", "HOME", "USER", "LANG", "TZ", "DISPLAY", "WAYLAND_DISPLAY", "XDG_RUNTIME_DIR", "DBUS_SESSION_BUS_ADDRESS"];

static RUNNING: AtomicUsize = AtomicUsize::new(0);

impl Machine {
    /// The devices that are listened to are those that the site's rules are about.
    pub(super) fn follow_reports(&mut self) {
        let Some(errands) = &self.errands else { return };
        for name in self.reporting.follow(errands, &self.site) {
            self.watch.on_reports_closed(self.now, &name, DEVICE);
        }
    }

    /// What the site says is watched in pictures, by the streams that are decoded; where none of a camera is, its lightest is decoded
    /// for it, as far as there is room.
    pub(super) fn follow_motion(&mut self) {
        let (changed, gone) = self.motions.follow(&self.cameras, &self.site);
        for camera in changed {
            self.reporting.end_seen(self.now.mono, self.cameras.name(camera));
        }
        for camera in gone {
            let name = self.cameras.name(camera).to_owned();
            self.reporting.forget_seen(&name);
            self.watch.on_reports_closed(self.now, &name, PICTURES);
        }
        self.apply_wanted();
    }

    /// What was seen in pictures since.
    pub(super) fn take_motion(&mut self) {
        for (camera, report) in self.motions.take(self.now.mono) {
            let name = self.cameras.name(camera).to_owned();
            let now = (self.now.mono, self.minute());
            if let Some(begun) = self.reporting.on_seen(now, &self.site, &name, report) {
                self.urgent = true;
                self.act(&name, &begun);
            }
        }
        if self.motion_told.is_due() {
            let states = self.motions.states(self.now.mono, &self.cameras);
            if self.known.motion != states {
                Arc::make_mut(&mut self.known).motion = states;
            }
        }
    }

    /// The minute of the day.
    fn minute(&self) -> u16 {
        let at = jiff::Timestamp::from_microsecond(self.now.utc.as_unix_micros()).unwrap_or_default();
        let local = at.to_zoned_datetime(jiff::tz::TimeZone::system());
        u16::from(local.hour().unsigned_abs()) * 60 + u16::from(local.minute().unsigned_abs())
    }

    /// News of what a camera's device reports.
    pub(super) fn on_reported(&mut self, name: &str, news: ReportNews) {
        let (begun, said) = self.reporting.on_news((self.now.mono, self.minute()), &self.site, name, news);
        if let Some(text) = said {
            self.say(Loudness::Bright, text);
        }
        if !begun.is_empty() {
            self.urgent = true;
        }
        for begun in &begun {
            self.act(name, begun);
        }
        self.enter_reports();
    }

    /// What began, changed or ended goes into the ledger and onto the tiles.
    pub(super) fn enter_reports(&mut self) {
        for (name, stream, events) in self.reporting.tick(self.now.mono) {
            self.watch.on_reported(self.now, &self.site, (&name, stream), &events);
        }
        let marks = self.reporting.marks();
        if self.known.reports != marks {
            Arc::make_mut(&mut self.known).reports = marks;
            self.urgent = true;
        }
    }

    fn act(&mut self, name: &str, begun: &Begun) {
        let site = self.site.clone();
        // What is shelved calls nobody; what is kept, run and sent is for others.
        let shelved = self.watch.ledger().shelf(name, Some(begun.report.kind.cause()), self.now.utc).is_some();
        for rule in begun.rules.iter().filter_map(|index| site.rules.get(*index)) {
            if rule.still
                && let Some(key) = self.stream_of(name)
            {
                self.keep_still(key);
            }
            if rule.bell && !shelved {
                self.tell(News::Bell);
            }
            if let Some(tile) = rule.tile.filter(|_| !shelved) {
                self.tell(News::Front(name.to_owned(), tile, rule.seconds));
            }
            if rule.notify && !shelved {
                let what = begun.report.kind.word().replace('-', " ");
                let by = if begun.report.topic == TOPIC { TOPIC } else { "by its device" };
                self.tell(News::Notify(name.to_owned(), format!("{what}, {by}")));
            }
            if let Some((program, arguments)) = rule.run.split_first() {
                let place = |text: &String| text.replace("{camera}", name).replace("{kind}", begun.report.kind.word());
                self.run_program(name, program, &arguments.iter().map(place).collect::<Vec<_>>());
            }
            if let Some(url) = rule.post.as_ref().and_then(|url| url.parse::<SourceUrl>().ok()) {
                self.post(name, url, json(self, name, begun));
            }
        }
    }

    /// The stream of a camera that is received.
    fn stream_of(&self, name: &str) -> Option<FeedKey> {
        self.figures.keys().filter(|key| key.by.is_none()).find(|key| self.cameras.name(key.camera) == name).copied()
    }

    fn run_program(&mut self, name: &str, program: &str, arguments: &[String]) {
        if RUNNING.fetch_add(1, Ordering::Relaxed) >= MOST_RUNNING {
            RUNNING.fetch_sub(1, Ordering::Relaxed);
            return self
                .say(Loudness::Bright, format!("{name}: {program} was not run: {MOST_RUNNING} programs of rules run already"));
        }
        let mut command = Command::new(program);
        command.args(arguments).env_clear().stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command.envs(ENVIRONMENT.iter().filter_map(|variable| Some((variable, std::env::var_os(variable)?))));
        let (news, name, program) = (self.job_news(), name.to_owned(), program.to_owned());
        std::thread::spawn(move || {
            let done = command.spawn().map_err(|error| error.to_string()).and_then(|child| ended(child, RUNS_FOR));
            RUNNING.fetch_sub(1, Ordering::Relaxed);
            if let Err(why) = done {
                let _ = news.send(JobNews::Ordered(name, Err(format!("{program}, run by a rule: {why}"))));
            }
        });
    }

    fn post(&self, name: &str, url: SourceUrl, json: String) {
        let Some(errands) = &self.errands else { return };
        let (news, name) = (self.job_news(), name.to_owned());
        errands.runtime.handle().spawn(async move {
            if post_json(&url, json.clone()).await.is_ok() {
                return;
            }
            tokio::time::sleep(AGAIN_AFTER).await;
            if let Err(error) = post_json(&url, json).await {
                let _ = news.send(JobNews::Ordered(name, Err(format!("a report could not be sent to {url}: {error}"))));
            }
        });
    }
}

/// Waits for the end of a program, and ends it where that takes too long.
fn ended(mut child: Child, within: Duration) -> Result<(), String> {
    let until = Instant::now() + within;
    loop {
        match child.try_wait() {
            Ok(Some(status)) if status.success() => return Ok(()),
            Ok(Some(status)) => return Err(format!("it ended with {status}")),
            Ok(None) if Instant::now() >= until => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(format!("it was ended after {} s", within.as_secs()));
            }
            Ok(None) => std::thread::sleep(Duration::from_millis(50)),
            Err(error) => return Err(error.to_string()),
        }
    }
}

/// What is sent of a report.
fn json(machine: &Machine, name: &str, begun: &Begun) -> String {
    let report = &begun.report;
    let group = machine.site.camera(name).and_then(|camera| camera.group.clone());
    serde_json::json!({
        "camera": name,
        "group": group,
        "by": if report.topic == TOPIC { PICTURES } else { DEVICE },
        "kind": report.kind.word(),
        "topic": report.topic,
        "source": report.source,
        "at": date_time(machine.now.utc),
        "device_time": report.at.map(date_time),
    })
    .to_string()
}
