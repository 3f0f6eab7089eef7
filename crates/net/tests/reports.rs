//! What stand-in devices report, by pull points, also where their event service misbehaves.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::Credentials;
use lattice_core::onvif::{Operation, ReportKind};
use lattice_net::{Device, ReportNews, follow_reports};
use lattice_sim::{Camera, Fault, Log, Port, ReportFault, SignIn, tarnhithe};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio::time::timeout;

struct Rig {
    _port: Port,
    camera: Camera,
    news: mpsc::Receiver<ReportNews>,
    task: JoinHandle<()>,
}

/// A camera whose device wants a sign-in and has it, or another one.
async fn rig(password: &str) -> Rig {
    let credentials = Credentials::new("harbour", "ebb-and-flow");
    let mut spec = tarnhithe(0).remove(0);
    spec.sign_in = Some(SignIn { credentials, digest: None });
    let port = Port::start(vec![spec], Log::in_memory()).await.unwrap();
    let camera = port.cameras()[0].clone();
    let (sender, news) = mpsc::channel(16);
    let at = camera.service_address();
    let device = Device::new(&at.ip().to_string(), at.port(), Some(Credentials::new("harbour", password)), None);
    let task = tokio::spawn(follow_reports(device, sender));
    Rig { _port: port, camera, news, task }
}

impl Rig {
    async fn next(&mut self) -> ReportNews {
        timeout(Duration::from_secs(60), self.news.recv()).await.unwrap().unwrap()
    }

    /// The next reports, as kinds and states, until one is of this kind and state.
    async fn until(&mut self, kind: ReportKind, active: Option<bool>) -> Vec<(ReportKind, Option<bool>, Operation)> {
        let mut all = Vec::new();
        loop {
            match self.next().await {
                ReportNews::Reports(reports) => {
                    all.extend(reports.iter().map(|report| (report.kind, report.active, report.operation)));
                    if all.iter().any(|(have, state, _)| (*have, *state) == (kind, active)) {
                        return all;
                    }
                }
                other => panic!("{other:?}"),
            }
        }
    }

    fn order(&self, kind: ReportKind, millis: u64) {
        self.camera.inject(Fault::Report { kind, lasting: Duration::from_millis(millis) });
    }
}

#[tokio::test]
async fn states_and_moments_come_in_order_and_what_was_there_is_told_first() {
    let mut rig = rig("ebb-and-flow").await;
    assert_eq!(rig.next().await, ReportNews::Subscribed);
    rig.order(ReportKind::Motion, 300);
    let all = rig.until(ReportKind::Motion, Some(false)).await;
    assert_eq!(all[0], (ReportKind::Motion, Some(true), Operation::Changed));
    rig.order(ReportKind::Crossing, 0);
    rig.until(ReportKind::Crossing, None).await;
    rig.order(ReportKind::Input, 60_000);
    rig.until(ReportKind::Input, Some(true)).await;
    // One that forgets its pull points is asked for another, and tells what is there.
    rig.camera.report_fault(ReportFault::Forgets);
    assert!(matches!(rig.next().await, ReportNews::Lost(why) if why.contains("no such pull point")));
    assert_eq!(rig.next().await, ReportNews::Subscribed);
    let all = rig.until(ReportKind::Input, Some(true)).await;
    assert_eq!(all, [(ReportKind::Input, Some(true), Operation::Initialized)]);
    // Nobody takes them any more: it takes leave.
    drop(rig.news);
    timeout(Duration::from_secs(10), rig.task).await.unwrap().unwrap();
}

#[tokio::test]
async fn a_flood_and_repeats_come_whole_and_a_silent_service_is_said() {
    let mut rig = rig("ebb-and-flow").await;
    assert_eq!(rig.next().await, ReportNews::Subscribed);
    rig.camera.report_fault(ReportFault::Repeats);
    rig.order(ReportKind::Tampering, 100);
    let all = rig.until(ReportKind::Tampering, Some(false)).await;
    assert!(all.len() >= 4, "{all:?}");
    rig.camera.report_fault(ReportFault::None);
    rig.camera.inject(Fault::Flood { rate: 500.0, lasting: Duration::from_secs(2) });
    let mut count = 0;
    while count < 600 {
        let ReportNews::Reports(reports) = rig.next().await else { panic!("it was lost") };
        count += reports.len();
    }
    rig.camera.report_fault(ReportFault::Silent);
    loop {
        match rig.next().await {
            ReportNews::Reports(_) => {}
            ReportNews::Lost(why) => break assert!(why.contains("no whole answer"), "{why}"),
            other => panic!("{other:?}"),
        }
    }
}

#[tokio::test]
async fn a_refusal_is_said_and_a_wrong_sign_in_is_not_tried_again() {
    let mut wrong = rig("neap").await;
    assert!(matches!(wrong.next().await, ReportNews::Never(why) if why.contains("refused the user name or password")));
    assert!(timeout(Duration::from_secs(10), wrong.news.recv()).await.unwrap().is_none());
    let mut rig = rig("ebb-and-flow").await;
    assert_eq!(rig.next().await, ReportNews::Subscribed);
    rig.camera.report_fault(ReportFault::Forgets);
    rig.camera.report_fault(ReportFault::Refuses);
    assert!(matches!(rig.next().await, ReportNews::Lost(_)));
    assert!(matches!(rig.next().await, ReportNews::Lost(why) if why.contains("no more pull points")));
}
