//! Questions and orders to the devices behind cameras, each through its device's queue.

use super::{Errands, JobNews, Outcome};
use crate::device::{DeviceKey, Doing, Line, Urgency};
use crate::steering::{Grip, Reached};
use crossbeam_channel::Sender;
use lattice_core::meter::Figures;
use lattice_core::onvif::{
    AddressPlan, DeviceInformation, Encoder, EncoderLimits, ImagingSettings, NetworkInterface, Profile, User, UserLevel,
};
use lattice_core::steer::Movement;
use lattice_core::target::Target;
use lattice_core::{ClockOffset, Credentials};
use lattice_net::{Device, DeviceError, Imaging, Offered};
use lattice_store::Camera;
use std::sync::{Arc, Mutex};

/// What a device said when it was asked.
#[derive(Debug, Clone)]
pub struct DeviceFacts {
    /// What it is.
    pub information: DeviceInformation,
    /// Its streams, each with what its encoder can be set to.
    pub streams: Vec<(Offered, EncoderLimits)>,
    /// Its accounts, or why they are not told.
    pub users: Result<Vec<User>, String>,
    /// Its network interfaces, or why they are not told.
    pub network: Result<Vec<NetworkInterface>, String>,
}

/// A part of it that was asked again, after an order that changed it.
#[derive(Debug, Clone)]
pub enum DevicePart {
    /// Its streams.
    Streams(Vec<(Offered, EncoderLimits)>),
    /// Its accounts, or why they are not told.
    Users(Result<Vec<User>, String>),
    /// Its network interfaces, or why they are not told.
    Network(Result<Vec<NetworkInterface>, String>),
}

impl DeviceFacts {
    /// A part of it is like this now.
    pub fn take(&mut self, part: DevicePart) {
        match part {
            DevicePart::Streams(streams) => self.streams = streams,
            DevicePart::Users(users) => self.users = users,
            DevicePart::Network(network) => self.network = network,
        }
    }
}

/// News of a device.
#[derive(Debug, Clone)]
pub enum DeviceNews {
    /// Everything that it says of itself, or why it says nothing.
    Facts(Result<Box<DeviceFacts>, String>),
    /// A part of it, after an order.
    Part(DevicePart),
    /// Its clock, or why it is not known.
    Clock(Result<ClockOffset, String>),
    /// What its imaging is set to and can be set to, `None` where it has no such service; or why it does not tell.
    Imaging(Result<Option<Box<Imaging>>, String>),
    /// One of its streams was measured for a moment, by its request URI.
    Probed(String, Result<Arc<Figures>, String>),
}

async fn streams(device: &Device, signed: bool) -> Result<Vec<(Offered, EncoderLimits)>, DeviceError> {
    let mut streams = Vec::new();
    for offered in device.streams(signed).await? {
        let limits = device.encoder_limits(&offered.profile).await.unwrap_or_default();
        streams.push((offered, limits));
    }
    Ok(streams)
}

async fn facts(line: &mut Line, signed: bool) -> Result<DeviceFacts, DeviceError> {
    let device = line.device();
    device.greet().await?;
    let information = device.information(signed).await?;
    let streams = streams(device, signed).await?;
    let users = device.users(signed).await.map_err(|error| error.to_string());
    let network = device.network().await.map_err(|error| error.to_string());
    Ok(DeviceFacts { information, streams, users, network })
}

/// Reads the clock of a device and tells it. That takes seconds, mostly of waiting: what is asked of the device meanwhile goes
/// between.
fn tell_clock(device: &Device, news: Sender<JobNews>, name: String) {
    let device = device.clone();
    tokio::spawn(async move {
        let read = match device.clock_offset().await {
            Ok(Some(offset)) => Ok(offset),
            Ok(None) => Err("it does not tell its time".to_owned()),
            Err(error) => Err(error.to_string()),
        };
        let _ = news.send(JobNews::Device(name, DeviceNews::Clock(read)));
    });
}

/// What is asked of a device again after an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Again {
    Nothing,
    Clock,
    Streams,
    Users,
    Network,
}

async fn ask_again(device: &Device, what: Again, signed: bool, news: Sender<JobNews>, name: String) {
    let text = |error: DeviceError| error.to_string();
    let part = match what {
        Again::Nothing => return,
        Again::Clock => return tell_clock(device, news, name),
        Again::Streams => match streams(device, signed).await {
            Ok(streams) => DevicePart::Streams(streams),
            Err(_) => return, // as it was before, which the order's own answer tells
        },
        Again::Users => DevicePart::Users(device.users(signed).await.map_err(text)),
        Again::Network => DevicePart::Network(device.network().await.map_err(text)),
    };
    let _ = news.send(JobNews::Device(name, DeviceNews::Part(part)));
}

/// What is known of a camera whose device service is not: its streams, which are asked themselves.
fn without_service(camera: &Camera) -> DeviceFacts {
    let stream = |stream: &lattice_store::Stream| {
        let url = match &stream.target {
            Target::Url(url) => Some(url.clone()),
            Target::Device { .. } | Target::Listen { .. } => None,
        };
        let profile = Profile {
            token: String::new(),
            name: stream.role.word().into(),
            source: None,
            encoder: None,
            audio: None,
            ptz: None,
        };
        (Offered { profile, url, still: None, named_host: None }, EncoderLimits::default())
    };
    let unknown = || "not known: this camera was added by its stream, and no device service of it is known".to_owned();
    let information = DeviceInformation {
        maker: camera.maker.clone(),
        model: camera.model.clone(),
        firmware: camera.firmware.clone(),
        serial: camera.serial.clone(),
    };
    DeviceFacts {
        information,
        streams: camera.streams.iter().map(stream).collect(),
        users: Err(unknown()),
        network: Err(unknown()),
    }
}

/// What an order does to a device.
type OrderWork = Box<dyn for<'a> FnOnce(&'a mut Device) -> Ordering<'a> + Send>;
type Ordering<'a> = std::pin::Pin<Box<dyn Future<Output = Result<(), DeviceError>> + Send + 'a>>;

impl Errands {
    /// The device of a camera, as it is reached, and whose queue it has.
    pub(crate) fn device(&self, name: &str) -> Result<(Device, DeviceKey, bool), String> {
        let camera = self.camera(name)?;
        let device = self.kept.device(&camera)?;
        let (host, port, signed) = (camera.address.clone().unwrap_or_default(), device.port(), device.is_signed());
        Ok((device, (host, port, camera.sign_in), signed))
    }

    /// Puts a hand on the head of a camera; `movement` watches its picture.
    pub(crate) fn grip(&self, name: &str, movement: Option<Arc<Mutex<Movement>>>) -> Result<Grip, String> {
        let (device, key, _) = self.device(name)?;
        let (queues, news) = (self.queues.clone(), self.news.clone());
        Ok(Grip::take(self.runtime.handle(), Reached { name: name.to_owned(), device, key, queues, news }, movement))
    }

    /// Asks something of the device of a camera, in its turn.
    fn enqueue(
        &self,
        name: &str,
        work: impl for<'a> FnOnce(&'a mut Line, bool) -> Doing<'a> + Send + 'static,
    ) -> Result<(), String> {
        let (device, key, signed) = self.device(name)?;
        let asked = self.queues.ask(&key, device, Urgency::Usual, move |line| work(line, signed));
        asked.map_err(|busy| format!("{name}: {busy}"))
    }

    pub(super) fn ask_device(&self, name: &str) -> Result<(), String> {
        let camera = self.camera(name)?;
        if camera.service_port.is_none() && !camera.streams.is_empty() {
            let facts = Ok(Box::new(without_service(&camera)));
            let _ = self.news.send(JobNews::Device(name.to_owned(), DeviceNews::Facts(facts)));
            let clock = DeviceNews::Clock(Err("not known: no device service tells it".into()));
            let _ = self.news.send(JobNews::Device(name.to_owned(), clock));
            return Ok(());
        }
        let (news, asked) = (self.news.clone(), name.to_owned());
        self.enqueue(name, move |line, signed| {
            Box::pin(async move {
                let facts = facts(line, signed).await.map(Box::new).map_err(|error| error.to_string());
                let reached = facts.is_ok();
                let _ = news.send(JobNews::Device(asked.clone(), DeviceNews::Facts(facts)));
                if reached {
                    tell_clock(line.device(), news, asked);
                }
            })
        })
    }

    /// Gives a device an order; what came of it follows as news, and what it changed is asked again.
    fn order(&self, name: &str, done: &str, again: Again, order: OrderWork) -> Result<(), String> {
        let (news, asked, done) = (self.news.clone(), name.to_owned(), done.to_owned());
        self.enqueue(name, move |line, signed| {
            Box::pin(async move {
                let ordered = match line.greeted().await {
                    Ok(device) => order(device).await,
                    Err(error) => Err(error),
                };
                let ordered = ordered.map(|()| done).map_err(|error| error.to_string());
                let _ = news.send(JobNews::Ordered(asked.clone(), ordered));
                ask_again(line.device(), again, signed, news, asked).await;
            })
        })
    }

    pub(super) fn set_clock(&self, name: &str) -> Result<(), String> {
        let order: OrderWork = Box::new(|device| Box::pin(async move { device.set_clock().await }));
        self.order(name, "its clock is set to this machine's", Again::Clock, order)
    }

    pub(super) fn tell_name(&self, name: &str) -> Result<(), String> {
        let told = name.to_owned();
        let order: OrderWork = Box::new(move |device| Box::pin(async move { device.set_name(&told).await }));
        self.order(name, "it tells this name to whoever searches for devices", Again::Nothing, order)
    }

    pub(super) fn set_encoder(&self, name: &str, encoder: Box<Encoder>) -> Result<(), String> {
        let order: OrderWork = Box::new(move |device| Box::pin(async move { device.set_encoder(&encoder).await }));
        self.order(name, "its encoder is set; b sets it back", Again::Streams, order)
    }

    /// Asks what the imaging of a camera is set to.
    pub(super) fn ask_imaging(&self, name: &str) -> Result<(), String> {
        let (news, asked) = (self.news.clone(), name.to_owned());
        self.enqueue(name, move |line, _| {
            Box::pin(async move {
                let told = match line.greeted().await {
                    Ok(device) => device.imaging().await.map(|imaging| imaging.map(Box::new)),
                    Err(error) => Err(error),
                };
                let told = told.map_err(|error| error.to_string());
                let _ = news.send(JobNews::Device(asked, DeviceNews::Imaging(told)));
            })
        })
    }

    /// Sets the imaging of a camera, and tells what it is set to then.
    pub(super) fn set_imaging(&self, name: &str, mut now: Box<Imaging>, wanted: ImagingSettings) -> Result<(), String> {
        let (news, asked) = (self.news.clone(), name.to_owned());
        self.enqueue(name, move |line, _| {
            Box::pin(async move {
                let set = match line.greeted().await {
                    Ok(device) => device.set_imaging(&now, &wanted).await,
                    Err(error) => Err(error),
                };
                let (ordered, told) = match set {
                    Ok(settings) => {
                        let as_wanted = wanted.iter().all(|(item, value)| settings.get(item) == Some(value));
                        let done = if as_wanted {
                            "its picture is set; b sets it back"
                        } else {
                            "it took a part of that: see what it is set to"
                        };
                        now.settings = settings;
                        (Ok(done.to_owned()), Ok(Some(now)))
                    }
                    // What it took before it refused is asked again.
                    Err(error) => {
                        let again = match line.greeted().await {
                            Ok(device) => device.imaging().await.map(|imaging| imaging.map(Box::new)),
                            Err(error) => Err(error),
                        };
                        (Err(error.to_string()), again.map_err(|error| error.to_string()))
                    }
                };
                let _ = news.send(JobNews::Ordered(asked.clone(), ordered));
                let _ = news.send(JobNews::Device(asked, DeviceNews::Imaging(told)));
            })
        })
    }

    pub(super) fn switch_dhcp(&self, name: &str, dhcp: bool) -> Result<(), String> {
        let switch = move |device: &Device, interface: &NetworkInterface| {
            let fixed = interface.address.map(|(address, bits)| AddressPlan::Fixed(address, bits));
            let plan = if dhcp { Some(AddressPlan::Dhcp) } else { fixed };
            let (device, token) = (device.clone(), interface.token.clone());
            async move {
                match plan {
                    Some(plan) => device.set_address(&token, plan).await,
                    None => Ok(()),
                }
            }
        };
        let order: OrderWork = Box::new(move |device| {
            Box::pin(async move {
                match device.network().await?.first() {
                    Some(interface) => switch(device, interface).await,
                    None => Ok(()),
                }
            })
        });
        let done = if dhcp { "it takes its address by DHCP from now on" } else { "it keeps the address that it has from now on" };
        self.order(name, done, Again::Network, order)
    }

    /// The devices one after the other, each in its own queue: where one is busy, the next waits with it.
    pub(super) fn set_passwords(&self, names: &[String], account: &Credentials, first: bool) -> Result<(), String> {
        let devices: Vec<_> = names.iter().map(|name| self.device(name)).collect::<Result<_, String>>()?;
        let (tell, mut told) = tokio::sync::mpsc::unbounded_channel();
        for (name, (device, key, _)) in names.iter().zip(devices) {
            let (tell, of, account) = (tell.clone(), name.clone(), account.clone());
            let asked = self.queues.ask(&key, device, Urgency::Usual, move |line| {
                Box::pin(async move {
                    let result = set_password(line, &account, first).await.map_err(|error| format!("{of}: {error}"));
                    let _ = tell.send((of, result));
                })
            });
            asked.map_err(|busy| format!("{name}: {busy}"))?;
        }
        drop(tell);
        let (news, account, asked) = (self.news.clone(), account.clone(), names.to_vec());
        self.runtime.spawn(async move {
            let (mut done, mut failed) = (Vec::new(), Vec::new());
            while let Some((name, result)) = told.recv().await {
                match result {
                    Ok(()) => done.push(name),
                    Err(why) => failed.push(why),
                }
            }
            done.sort_by_key(|name| asked.iter().position(|one| one == name));
            let _ = news.send(JobNews::PasswordSet(done, account, failed));
        });
        Ok(())
    }

    /// Cameras' devices took a password: it is kept, and their streams begin anew with it.
    pub fn on_password_set(&mut self, names: &[String], account: &Credentials, failed: &[String]) -> Result<Outcome, String> {
        let mut outcome = if names.is_empty() { Outcome::default() } else { self.sign_in(names, account)? };
        let done = if names.is_empty() { String::new() } else { format!("the password was set on {}", names.join(", ")) };
        let not = if failed.is_empty() { String::new() } else { format!(" not set on {}", failed.join("; ")) };
        outcome.say = Some(format!("{done}{not}").trim().to_owned());
        // With the account that it has now, a device says who else has one.
        for name in names {
            let news = self.news.clone();
            let of = name.clone();
            let asked = self.enqueue(name, move |line, signed| {
                Box::pin(async move { ask_again(line.device(), Again::Users, signed, news, of).await })
            });
            if let Err(error) = asked {
                tracing::debug!(error, "the accounts are not asked again");
            }
        }
        Ok(outcome)
    }
}

async fn set_password(line: &mut Line, account: &Credentials, first: bool) -> Result<(), DeviceError> {
    let _ = line.greeted().await; // what the clock does not say the order itself will
    let device = line.device();
    let result = if first {
        device.create_first_user(account).await
    } else {
        // An account keeps the rights that it has.
        let users = device.users(true).await.unwrap_or_default();
        let level = users.iter().find(|user| user.name == account.user).map_or(UserLevel::Administrator, |user| user.level);
        device.set_password(account, level).await
    };
    match result {
        // The answer was lost, not necessarily the order: the device knows whether it signs this account in.
        Err(DeviceError::Http(_)) if device.clone().signing_in(Some(account.clone())).users(true).await.is_ok() => Ok(()),
        other => other,
    }
}
