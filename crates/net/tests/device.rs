//! The device service of a stand-in, asked and ordered by our own client.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::onvif::{AddressPlan, UserLevel};
use lattice_core::{Credentials, FrameRate};
use lattice_net::{Device, DeviceError, HeadOrder};
use lattice_sim::{Camera, CameraSpec, Event, Log, Port, whole_port};
use std::time::Duration;

struct Rig {
    _port: Port,
    camera: Camera,
    runtime: tokio::runtime::Runtime,
}

fn rig(name: &str, change: impl FnOnce(&mut CameraSpec)) -> Rig {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let mut spec = whole_port(0).into_iter().find(|spec| spec.name == name).unwrap();
    change(&mut spec);
    let port = runtime.block_on(Port::start(vec![spec], Log::default())).unwrap();
    let camera = port.cameras()[0].clone();
    Rig { _port: port, camera, runtime }
}

fn sign_in(user: &str, password: &str) -> Credentials {
    Credentials::new(user, password)
}

impl Rig {
    fn device(&self, credentials: Option<Credentials>) -> Device {
        let at = self.camera.service_address();
        let mut device = Device::new(&at.ip().to_string(), at.port(), credentials, None);
        self.runtime.block_on(device.greet()).unwrap();
        device
    }

    fn keeper(&self) -> Device {
        self.device(Some(sign_in("harbour", "ebb-and-flow")))
    }
}

#[test]
fn a_device_tells_what_it_is_and_offers_by_either_media_service() {
    for (name, second_media) in [("Boatyard", false), ("Boatyard", true)] {
        let rig = rig(name, |spec| spec.device.as_mut().unwrap().second_media = second_media);
        assert!(matches!(rig.runtime.block_on(rig.device(None).information(false)), Err(DeviceError::SignInNeeded)));
        let wrong = rig.device(Some(sign_in("harbour", "no")));
        assert!(matches!(rig.runtime.block_on(wrong.information(true)), Err(DeviceError::SignInRefused)));
        let device = rig.keeper();
        let information = rig.runtime.block_on(device.information(true)).unwrap();
        assert_eq!((information.maker.as_deref(), information.serial.as_deref()), (Some("Corvane"), Some("TH-0024")));
        let streams = rig.runtime.block_on(device.streams(true)).unwrap();
        let seen: Vec<_> = streams
            .iter()
            .map(|offered| {
                let encoder = offered.profile.encoder.as_ref().unwrap();
                (
                    encoder.size.unwrap(),
                    encoder.kbps.unwrap(),
                    offered.url.as_ref().unwrap().path().to_owned(),
                    offered.named_host.clone(),
                )
            })
            .collect();
        assert_eq!(seen, [((1280, 720), 2000, "/main".into(), None), ((640, 360), 400, "/sub".into(), None)], "{second_media}");
        assert!(streams[0].still.as_ref().unwrap().path().ends_with("still.jpg"));
    }
}

#[test]
fn a_clock_is_read_within_its_bound_and_set() {
    for ahead_ms in [420_000i64, -3_617] {
        let rig = rig("Boatyard", |spec| spec.clock_ahead_ms = ahead_ms);
        let device = rig.keeper();
        let offset = rig.runtime.block_on(device.clock_offset()).unwrap().unwrap();
        let off = offset.micros - ahead_ms * 1000;
        assert!(off.unsigned_abs() <= offset.error.as_micros() as u64, "{offset:?} for {ahead_ms} ms");
        rig.runtime.block_on(device.set_clock()).unwrap();
        let after = rig.runtime.block_on(rig.keeper().clock_offset()).unwrap().unwrap();
        assert!(after.micros.abs() < 1_500_000, "{after:?}");
    }
}

#[test]
fn a_device_takes_a_name_and_keeps_its_other_scopes() {
    let rig = rig("Boatyard", |_| {});
    let device = rig.keeper();
    rig.runtime.block_on(device.set_name("Slip 2: 50 % & more")).unwrap();
    assert_eq!(rig.runtime.block_on(rig.device(None).own_name()).as_deref(), Some("Slip 2: 50 % & more"));
    assert!(matches!(rig.runtime.block_on(rig.device(None).set_name("x")), Err(DeviceError::SignInNeeded)));
}

#[test]
fn the_first_password_is_set_and_the_door_is_shut() {
    let rig = rig("Slipway south", |_| {});
    let device = rig.device(None);
    assert_eq!(rig.runtime.block_on(device.users(false)).unwrap(), []);
    let weak = sign_in("keeper", "short");
    assert!(matches!(rig.runtime.block_on(device.create_first_user(&weak)), Err(DeviceError::Refused(_))));
    let account = sign_in("keeper", "slack water at noon");
    rig.runtime.block_on(device.create_first_user(&account)).unwrap();
    assert!(matches!(rig.runtime.block_on(device.users(false)), Err(DeviceError::SignInNeeded)));
    let signed = rig.device(Some(account));
    let users = rig.runtime.block_on(signed.users(true)).unwrap();
    assert_eq!((users.len(), users[0].name.as_str(), users[0].level), (1, "keeper", UserLevel::Administrator));
    let next = sign_in("keeper", "spring tide again");
    rig.runtime.block_on(signed.set_password(&next, UserLevel::Administrator)).unwrap();
    assert!(matches!(rig.runtime.block_on(signed.users(true)), Err(DeviceError::SignInRefused)));
    assert!(rig.runtime.block_on(rig.device(Some(next)).users(true)).is_ok());
}

#[test]
fn an_encoder_is_set_within_its_limits_and_set_back() {
    for second_media in [false, true] {
        let rig = rig("Boatyard", |spec| spec.device.as_mut().unwrap().second_media = second_media);
        let device = rig.keeper();
        let sub = |rig: &Rig| rig.runtime.block_on(device.streams(true)).unwrap().remove(1).profile;
        let before = sub(&rig);
        let limits = rig.runtime.block_on(device.encoder_limits(&before)).unwrap();
        assert!(limits.kbps.unwrap().contains(250.0) && limits.sizes.contains(&(320, 180)), "{limits:?}");
        let old = before.encoder.clone().unwrap();
        let mut wanted = old.clone();
        (wanted.kbps, wanted.size, wanted.rate, wanted.keyframe_interval) =
            (Some(250), Some((320, 180)), FrameRate::new(5.0), Some(10));
        rig.runtime.block_on(device.set_encoder(&wanted)).unwrap();
        let changed = sub(&rig).encoder.unwrap();
        assert_eq!(
            (changed.kbps, changed.size, changed.keyframe_interval),
            (Some(250), Some((320, 180)), Some(10)),
            "{second_media}"
        );
        let mut beyond = wanted.clone();
        beyond.kbps = Some(90_000);
        assert!(matches!(rig.runtime.block_on(device.set_encoder(&beyond)), Err(DeviceError::Refused(_))));
        rig.runtime.block_on(device.set_encoder(&old)).unwrap();
        assert_eq!(sub(&rig).encoder.unwrap().size, Some((640, 360)));
    }
}

#[test]
fn addresses_are_listed_and_switched() {
    let rig = rig("Boatyard", |_| {});
    let device = rig.keeper();
    let interface = rig.runtime.block_on(device.network()).unwrap().remove(0);
    assert_eq!((interface.dhcp, interface.address), (Some(true), Some((rig.camera.address().ip(), 24))));
    let fixed = AddressPlan::Fixed("127.77.0.24".parse().unwrap(), 24);
    rig.runtime.block_on(device.set_address(&interface.token, fixed)).unwrap();
    assert!(
        rig.runtime.block_on(async { tokio::time::timeout(Duration::from_secs(10), device.hardware()).await }).unwrap().is_some()
    );
}

#[test]
fn what_the_imaging_of_a_camera_is_set_to_is_read_set_and_set_back() {
    use lattice_core::onvif::{ImagingChoice, ImagingItem, ImagingSettings, ImagingValue};
    let rig = rig("Boatyard", |_| {});
    let device = rig.keeper();
    let before = rig.runtime.block_on(device.imaging()).unwrap().unwrap();
    assert_eq!(before.settings[&ImagingItem::Brightness], ImagingValue::Number(50.0));
    assert!(matches!(before.options[&ImagingItem::ExposureTime], ImagingChoice::Range(scale) if scale.most > 1_000.0));
    let word = |word: &str| ImagingValue::Word(word.into());
    let wanted = ImagingSettings::from([
        (ImagingItem::Brightness, ImagingValue::Number(70.0)),
        (ImagingItem::ExposureMode, word("MANUAL")),
        (ImagingItem::IrCut, word("OFF")),
    ]);
    let now = rig.runtime.block_on(device.set_imaging(&before, &wanted)).unwrap();
    assert!(wanted.iter().all(|(item, value)| now.get(item) == Some(value)), "{now:?}");
    assert_eq!(now[&ImagingItem::Contrast], before.settings[&ImagingItem::Contrast]);
    // Beyond its limits it refuses, and says so.
    let beyond = ImagingSettings::from([(ImagingItem::Brightness, ImagingValue::Number(900.0))]);
    let refused = rig.runtime.block_on(device.set_imaging(&before, &beyond)).unwrap_err().to_string();
    assert!(refused.contains("beyond its limits"), "{refused}");
    let again = rig.runtime.block_on(device.imaging()).unwrap().unwrap();
    let back = rig.runtime.block_on(device.set_imaging(&again, &before.settings)).unwrap();
    assert_eq!(back, before.settings);
    // One that has no imaging service is none.
    let shared = rig_without_imaging();
    assert_eq!(shared.runtime.block_on(shared.keeper().imaging()).unwrap(), None);
}

fn rig_without_imaging() -> Rig {
    rig("Boatyard", |spec| spec.pictures = lattice_sim::Pictures::Shared)
}

#[tokio::test]
async fn the_focus_is_driven_and_stopped() {
    let log = Log::in_memory();
    let port = Port::start(vec![lattice_sim::steerable(0)], log.clone()).await.unwrap();
    let at = port.cameras()[0].service_address();
    let keeper = Credentials::new("harbour", "ebb-and-flow");
    let device = Device::new(&at.ip().to_string(), at.port(), Some(keeper), None);
    let head = device.head().await.unwrap().unwrap();
    assert!(head.focuses());
    for speed in [-1.0, 0.5, 0.0] {
        device.steer(&head, &HeadOrder::Focus(speed)).await.unwrap();
    }
    let told: Vec<f64> = log
        .records()
        .iter()
        .filter_map(|record| match &record.event {
            Event::Head { order, way, .. } if order == "focus" => Some(way[0]),
            _ => None,
        })
        .collect();
    assert_eq!(told, [-1.0, 0.5, 0.0]);
}
