//! What a device reports, followed by a pull point for as long as somebody wants it.

use crate::device::{Device, DeviceError};
use lattice_core::backoff::Backoff;
use lattice_core::onvif::{
    self, CREATE_ACTION, EVENT_NAMESPACE, PULL_ACTION, PullPoint, RENEW_ACTION, Report, UNSUBSCRIBE_ACTION,
};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep, timeout};

/// A pull point is made for so long, and renewed at half of it,
const LASTS: Duration = Duration::from_secs(60);
/// but no more often than this, whatever the device says.
const LEAST: Duration = Duration::from_secs(5);
/// The device may wait so long for news,
const WAIT: Duration = Duration::from_secs(4);
/// and has so much longer to answer.
const ANSWER_WITHIN: Duration = Duration::from_secs(6);
/// A device that answers at once with nothing is asked again after this.
const IDLE: Duration = Duration::from_millis(250);
/// One that always has news is asked no more often than this: a flood comes in handfuls.
const SPACING: Duration = Duration::from_millis(40);
/// Taking leave takes no longer.
const LEAVE_WITHIN: Duration = Duration::from_secs(1);

/// News of a device's reports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReportNews {
    /// It is asked for news from now on.
    Subscribed,
    /// What it reported, in order.
    Reports(Vec<Report>),
    /// It is asked no longer, for this reason; tried again by itself after a while.
    Lost(String),
    /// It cannot be asked, and is not tried again: one sentence.
    Never(String),
}

/// Follows what a device reports until nobody takes it any more; then it takes leave of the device. A taker that is slow holds up the
/// questions, and nothing else.
pub async fn follow_reports(device: Device, out: mpsc::Sender<ReportNews>) {
    let device = device.apart();
    let mut backoff = Backoff::default();
    while !out.is_closed() {
        let lost = match subscribe(&device).await {
            Ok(point) => {
                if out.send(ReportNews::Subscribed).await.is_err() {
                    return leave(&device, &point).await;
                }
                match pull(&device, &point, &out, &mut backoff).await {
                    Ok(()) => return leave(&device, &point).await,
                    Err(error) => {
                        leave(&device, &point).await;
                        error
                    }
                }
            }
            Err(error) => error,
        };
        // A sign-in that was refused is not tried again, so that no account gets locked.
        let never = lost.is_sign_in() || matches!(&lost, DeviceError::Refused(fault) if fault.is_not_supported());
        let news = if never { ReportNews::Never(lost.to_string()) } else { ReportNews::Lost(lost.to_string()) };
        if out.send(news).await.is_err() || never {
            return;
        }
        tokio::select! {
            () = sleep(backoff.next(rand::random())) => {}
            () = out.closed() => {}
        }
    }
}

async fn subscribe(device: &Device) -> Result<Subscription, DeviceError> {
    let services = device.services().await;
    let named = services.iter().find(|service| service.namespace == EVENT_NAMESPACE).map(|service| service.address.clone());
    let address = match named {
        Some(address) => address,
        None => device.capabilities().await?.events.ok_or_else(|| DeviceError::Unreadable("it has no event service".into()))?,
    };
    let service = device.on_this_host(&address);
    let head = onvif::addressing(&address, CREATE_ACTION);
    let answer =
        device.ask_within(&service, (&head, &onvif::create_pull_point(LASTS)), device.is_signed(), ANSWER_WITHIN).await?;
    let point =
        PullPoint::read(&answer).ok_or_else(|| DeviceError::Unreadable("its event service names no pull point".into()))?;
    let renew_after = (point.lasts.unwrap_or(LASTS) / 2).max(LEAST);
    Ok(Subscription { service: device.on_this_host(&point.address), point, renew_after })
}

struct Subscription {
    point: PullPoint,
    service: lattice_core::SourceUrl,
    renew_after: Duration,
}

impl Subscription {
    async fn ask(&self, device: &Device, action: &str, body: &str, within: Duration) -> Result<onvif::Element, DeviceError> {
        device.ask_within(&self.service, (&self.point.head(action), body), device.is_signed(), within).await
    }
}

/// Asks for news until nobody takes them.
async fn pull(
    device: &Device,
    subscription: &Subscription,
    out: &mpsc::Sender<ReportNews>,
    backoff: &mut Backoff,
) -> Result<(), DeviceError> {
    let mut renew_at = Instant::now() + subscription.renew_after;
    let mut renews = true;
    while !out.is_closed() {
        let asked = Instant::now();
        let pull = onvif::pull_messages(WAIT);
        let answer = tokio::select! {
            answer = subscription.ask(device, PULL_ACTION, &pull, WAIT + ANSWER_WITHIN) => answer?,
            () = out.closed() => return Ok(()),
        };
        backoff.succeeded();
        let reports = Report::read_all(&answer);
        if reports.is_empty() {
            if asked.elapsed() < IDLE {
                sleep(IDLE).await;
            }
        } else {
            if out.send(ReportNews::Reports(reports)).await.is_err() {
                return Ok(());
            }
            sleep(SPACING.saturating_sub(asked.elapsed())).await;
        }
        if renews && Instant::now() >= renew_at {
            match subscription.ask(device, RENEW_ACTION, &onvif::renew(LASTS), ANSWER_WITHIN).await {
                Ok(_) => renew_at = Instant::now() + subscription.renew_after,
                // Some devices renew by being asked for news, and know no other way.
                Err(DeviceError::Refused(_)) => renews = false,
                Err(error) => return Err(error),
            }
        }
    }
    Ok(())
}

async fn leave(device: &Device, subscription: &Subscription) {
    // A question that was cut off has taken the connection with it: leave is taken on another one.
    let device = device.apart();
    let _ = timeout(LEAVE_WITHIN, subscription.ask(&device, UNSUBSCRIBE_ACTION, &onvif::unsubscribe(), LEAVE_WITHIN)).await;
}
