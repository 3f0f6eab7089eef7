//! Questions and orders to the devices behind cameras.

use super::{DeskNews, Errands, Outcome};
use crate::device_page::DeviceFacts;
use crate::kept::trust_of;
use lattice_core::Credentials;
use lattice_core::onvif::{AddressPlan, DeviceInformation, Profile, UserLevel};
use lattice_core::target::Target;
use lattice_net::{Device, DeviceError, Offered};
use lattice_store::Camera;

/// Everything that a device says of itself.
async fn device_facts(device: &mut Device, signed: bool) -> Result<DeviceFacts, String> {
    let text = |error: DeviceError| error.to_string();
    device.greet().await.map_err(text)?;
    let information = device.information(signed).await.map_err(text)?;
    let mut streams = Vec::new();
    for offered in device.streams(signed).await.map_err(text)? {
        let limits = device.encoder_limits(&offered.profile).await.unwrap_or_default();
        streams.push((offered, limits));
    }
    let users = device.users(signed).await.map_err(text);
    let network = device.network().await.map_err(text);
    Ok(DeviceFacts { information, streams, users, network })
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
            ptz: false,
        };
        (Offered { profile, url, still: None, named_host: None }, lattice_core::onvif::EncoderLimits::default())
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

impl Errands {
    /// The device of a camera, as it is reached.
    pub(crate) fn device(&self, name: &str) -> Result<(Device, bool), String> {
        let camera = self.camera(name)?;
        let host = camera.address.clone().ok_or_else(|| format!("{name} has no device: it is a pushed stream"))?;
        let port = camera
            .service_port
            .ok_or_else(|| format!("the device service of {name} is not known: add it by its address alone"))?;
        let credentials = self.kept.credentials(&camera)?;
        let signed = credentials.is_some();
        Ok((Device::new(&host, port, credentials, None).trusting(trust_of(&camera)), signed))
    }

    pub(super) fn ask_device(&self, name: &str) -> Result<(), String> {
        let camera = self.camera(name)?;
        if camera.service_port.is_none() && !camera.streams.is_empty() {
            let _ = self.news.send(DeskNews::Device(name.to_owned(), Ok(without_service(&camera))));
            return Ok(());
        }
        let (mut device, signed) = self.device(name)?;
        let (news, name) = (self.news.clone(), name.to_owned());
        self.runtime.spawn(async move {
            let facts = device_facts(&mut device, signed).await;
            let reached = facts.is_ok();
            let _ = news.send(DeskNews::Device(name.clone(), facts));
            if reached {
                let clock = match device.clock_offset().await {
                    Ok(Some(offset)) => Ok(offset),
                    Ok(None) => Err("it does not tell its time".to_owned()),
                    Err(error) => Err(error.to_string()),
                };
                let _ = news.send(DeskNews::Clock(name, clock));
            }
        });
        Ok(())
    }

    /// Gives a device an order; what came of it follows as news.
    pub(super) fn order<F>(&self, name: &str, done: &str, order: impl FnOnce(Device) -> F + Send + 'static) -> Result<(), String>
    where
        F: Future<Output = Result<(), DeviceError>> + Send,
    {
        let (mut device, _) = self.device(name)?;
        let (news, name, done) = (self.news.clone(), name.to_owned(), done.to_owned());
        self.runtime.spawn(async move {
            let greeted = device.greet().await;
            let result = match greeted {
                Ok(_) | Err(DeviceError::SignInNeeded) => order(device).await,
                Err(error) => Err(error),
            };
            let _ = news.send(DeskNews::Ordered(name, result.map(|()| done).map_err(|error| error.to_string())));
        });
        Ok(())
    }

    pub(super) fn switch_dhcp(&self, name: &str, dhcp: bool) -> Result<(), String> {
        let order = move |device: Device| async move {
            let Some(interface) = device.network().await?.into_iter().next() else { return Ok(()) };
            let fixed = interface.address.map(|(address, bits)| AddressPlan::Fixed(address, bits));
            let plan = if dhcp { Some(AddressPlan::Dhcp) } else { fixed };
            match plan {
                Some(plan) => device.set_address(&interface.token, plan).await,
                None => Ok(()),
            }
        };
        let done = if dhcp { "it takes its address by DHCP from now on" } else { "it keeps the address that it has from now on" };
        self.order(name, done, order)
    }

    pub(super) fn set_passwords(&self, names: &[String], account: &Credentials, first: bool) -> Result<(), String> {
        let devices: Vec<(String, Device)> =
            names.iter().map(|name| Ok((name.clone(), self.device(name)?.0))).collect::<Result<_, String>>()?;
        let (news, account) = (self.news.clone(), account.clone());
        self.runtime.spawn(async move {
            let (mut done, mut failed) = (Vec::new(), Vec::new());
            for (name, mut device) in devices {
                let _ = device.greet().await; // what the clock does not say the order itself will
                let result = if first {
                    device.create_first_user(&account).await
                } else {
                    // An account keeps the rights that it has.
                    let users = device.users(true).await.unwrap_or_default();
                    let level =
                        users.iter().find(|user| user.name == account.user).map_or(UserLevel::Administrator, |user| user.level);
                    device.set_password(&account, level).await
                };
                match result {
                    Ok(()) => done.push(name),
                    // The answer was lost, not necessarily the order: the device knows whether it signs this account in.
                    Err(DeviceError::Http(_)) if device.signing_in(Some(account.clone())).users(true).await.is_ok() => {
                        done.push(name);
                    }
                    Err(error) => failed.push(format!("{name}: {error}")),
                }
            }
            let _ = news.send(DeskNews::PasswordSet(done, account, failed));
        });
        Ok(())
    }

    /// Cameras' devices took a password: it is kept, and their streams begin anew with it.
    pub fn on_password_set(&mut self, names: &[String], account: &Credentials, failed: &[String]) -> Result<Outcome, String> {
        let mut outcome = if names.is_empty() { Outcome::default() } else { self.sign_in(names, account)? };
        let done = if names.is_empty() { String::new() } else { format!("the password was set on {}", names.join(", ")) };
        let not = if failed.is_empty() { String::new() } else { format!(" not set on {}", failed.join("; ")) };
        outcome.say = Some(format!("{done}{not}").trim().to_owned());
        Ok(outcome)
    }
}
