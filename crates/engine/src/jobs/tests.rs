//! The site as the operator's orders change it, and what follows for the wall.

use super::*;
use crossbeam_channel::unbounded;
use lattice_core::clock::Told;
use lattice_core::onvif::DeviceInformation;
use lattice_core::target::understand;
use lattice_core::{ClockOffset, Role, Secret, Wall};
use lattice_net::{Origin, Trust};
use lattice_store::Stream;
use lattice_store::site::CertificateTrust;

const KEY: &str = "MTIzNDU2Nzg5MDEyMzQ1Njc4OTAxMjM0NTY3ODkw";

struct Rig {
    errands: Errands,
    folder: tempfile::TempDir,
}

fn stream(role: Role, address: &str) -> Stream {
    Stream { role, target: understand(address).unwrap().target, interval: None, buffer: None }
}

fn camera(name: &str, host: &str) -> Camera {
    Camera {
        name: name.into(),
        address: Some(host.into()),
        streams: vec![stream(Role::Main, &format!("rtsp://{host}/main")), stream(Role::Sub, &format!("rtsp://{host}/sub"))],
        ..Camera::default()
    }
}

/// A site with two cameras of a group, and one alone.
fn rig() -> Rig {
    let folder = tempfile::tempdir().unwrap();
    let mut kept =
        Kept::at(&folder.path().join("site.toml"), &folder.path().join("sign-ins.toml"), &folder.path().join("sign-ins.json"))
            .unwrap();
    let group = Some("Slipways".to_owned());
    let cameras = [
        Camera { group: group.clone(), ..camera("North", "192.0.2.1") },
        Camera { group, ..camera("South", "192.0.2.2") },
        camera("Quay", "192.0.2.3"),
    ];
    kept.file.change(|editor| cameras.iter().try_for_each(|camera| editor.put_camera(camera))).unwrap();
    let (news, _) = unbounded();
    Rig { errands: Errands::new(kept, news, true, Decode::Inside).unwrap(), folder }
}

impl Rig {
    fn carry_out(&mut self, errand: Errand) -> Outcome {
        self.errands.carry_out(errand).unwrap()
    }

    fn site(&self) -> &lattice_store::Site {
        self.errands.kept.file.site()
    }

    fn streams(&self, name: &str) -> Vec<String> {
        let streams = &self.site().camera(name).unwrap().streams;
        streams.iter().map(|stream| format!("{} {}", stream.role.word(), stream.target)).collect()
    }

    fn written(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("site.toml")).unwrap()
    }
}

#[test]
fn streams_change_places_and_new_ones_take_them() {
    let mut rig = rig();
    let outcome = rig.carry_out(Errand::Assign("Quay".into(), "rtsp://192.0.2.3/sub".parse().unwrap(), Role::Main));
    assert_eq!(rig.streams("Quay"), ["main rtsp://192.0.2.3/sub", "sub rtsp://192.0.2.3/main"]);
    assert_eq!(outcome.renewed[0].streams[0].role, Role::Main);
    rig.carry_out(Errand::Assign("Quay".into(), "rtsp://192.0.2.3/tiny".parse().unwrap(), Role::Third));
    assert_eq!(rig.streams("Quay").len(), 3);
    // One that had no place takes that of another, which is offered still but stands nowhere.
    rig.carry_out(Errand::Assign("Quay".into(), "rtsp://192.0.2.3/wide".parse().unwrap(), Role::Sub));
    assert_eq!(rig.streams("Quay"), ["main rtsp://192.0.2.3/sub", "sub rtsp://192.0.2.3/wide", "third rtsp://192.0.2.3/tiny"]);
    let channel = Camera { recorder: Some("Quay".into()), ..camera("Channel 1", "192.0.2.3") };
    rig.errands.change(|editor| editor.put_camera(&channel)).unwrap();
    let refused = rig.errands.carry_out(Errand::Assign("Quay".into(), "rtsp://192.0.2.3/x".parse().unwrap(), Role::Sub));
    assert!(refused.err().unwrap().contains("choose the streams of its channels"));
}

#[test]
fn keys_and_certificates_reach_the_streams_and_no_key_the_site_file() {
    let mut rig = rig();
    let error = rig.errands.carry_out(Errand::Key("Quay".into(), Secret::new("hunter2".into()))).err().unwrap();
    assert!(error.contains("this is no key") && !error.contains("hunter2"), "{error}");
    let outcome = rig.carry_out(Errand::Key("Quay".into(), Secret::new(KEY.into())));
    assert!(outcome.renewed[0].streams.iter().all(|stream| stream.key.is_some()));
    assert!(!rig.written().contains("MTIz"));
    // The next start has it, too.
    let again = Kept::at(
        &rig.folder.path().join("site.toml"),
        &rig.folder.path().join("sign-ins.toml"),
        &rig.folder.path().join("sign-ins.json"),
    )
    .unwrap();
    let (news, _) = unbounded();
    let next = Errands::new(again, news, true, Decode::Inside).unwrap();
    let quay = next.definitions().into_iter().find(|camera| camera.name == "Quay").unwrap();
    assert!(quay.streams[0].key.is_some());

    let digits = "5c".repeat(32);
    let outcome = rig.carry_out(Errand::Trust("Quay".into(), CertificateTrust::Pinned(digits.clone())));
    assert!(matches!(outcome.renewed[0].trust, Trust::Pinned(_)));
    assert!(rig.written().contains(&format!("trust = \"sha256:{digits}\"")));
    let outcome = rig.carry_out(Errand::Trust("Quay".into(), CertificateTrust::Off));
    assert!(outcome.say.unwrap().contains("anyone could answer in its place"));
}

#[test]
fn a_still_gets_the_live_streams_of_its_device_or_says_why_not() {
    let mut rig = rig();
    let still = Camera {
        address: Some("192.0.2.9".into()),
        streams: vec![Stream { interval: Some(Duration::from_secs(5)), ..stream(Role::Main, "http://192.0.2.9/still.jpg") }],
        ..camera("Ice", "192.0.2.9")
    };
    rig.errands.change(|editor| editor.put_camera(&still)).unwrap();
    let refused = |rig: &mut Rig, cameras: Vec<Camera>| {
        rig.errands.on_live("Ice", Ok(Intake { cameras, ..Intake::default() })).err().unwrap()
    };
    assert!(refused(&mut rig, vec![]).contains("offers no stream"));
    let channels = vec![camera("a", "192.0.2.9"), camera("b", "192.0.2.9")];
    assert!(refused(&mut rig, channels).contains("a recorder with 2 channels"));
    let trouble = Trouble { cause: Cause::Unreachable, text: "no answer".into() };
    assert!(rig.errands.on_live("Ice", Err(trouble)).err().unwrap().contains("stays a still: no answer"));
    let device = Camera { service_port: Some(8000), maker: Some("Ostrel".into()), ..camera("other name", "192.0.2.9") };
    let outcome = rig.errands.on_live("Ice", Ok(Intake { cameras: vec![device], ..Intake::default() })).unwrap();
    assert_eq!(
        rig.streams("Ice"),
        ["main rtsp://192.0.2.9/main", "sub rtsp://192.0.2.9/sub", "third http://192.0.2.9/still.jpg"]
    );
    let ice = &outcome.renewed[0];
    assert_eq!((ice.name.as_str(), rig.site().camera("Ice").unwrap().service_port), ("Ice", Some(8000)));
    let every = ice.streams.iter().find_map(|stream| match &stream.origin {
        Origin::Pictures { every, .. } => Some(*every),
        _ => None,
    });
    assert_eq!(every, Some(Duration::from_secs(5)), "the still keeps its interval");
}

#[test]
fn cameras_are_renamed_moved_switched_removed_and_brought_back() {
    let mut rig = rig();
    let outcome = rig.carry_out(Errand::Rename("North".into(), " Slipway north ".into()));
    assert_eq!(outcome.renamed, [("North".to_owned(), "Slipway north".to_owned())]);
    assert!(rig.errands.carry_out(Errand::Rename("South".into(), "Quay".into())).is_err(), "a name is given once");
    rig.carry_out(Errand::Regroup("Quay".into(), "Quays".into()));
    rig.carry_out(Errand::Regroup("South".into(), "  ".into()));
    assert_eq!(
        (rig.site().camera("Quay").unwrap().group.as_deref(), &rig.site().camera("South").unwrap().group),
        (Some("Quays"), &None)
    );
    assert_eq!(rig.carry_out(Errand::Toggle("Quay".into())).removed, ["Quay"]);
    assert!(rig.site().camera("Quay").unwrap().disabled && rig.errands.definitions().len() == 2);
    assert_eq!(rig.carry_out(Errand::Toggle("Quay".into())).added[0].name, "Quay");
    let names = |rig: &Rig| rig.site().cameras.iter().map(|camera| camera.name.clone()).collect::<Vec<_>>();
    let before = names(&rig);
    for name in &before {
        rig.carry_out(Errand::Remove(name.clone()));
        assert!(rig.site().camera(name).is_none());
        assert_eq!(rig.carry_out(Errand::Undo).added[0].name, *name);
        assert_eq!(names(&rig), before, "where it was");
    }
    rig.carry_out(Errand::Transport("Quay".into(), TransportChoice::Tcp));
    assert_eq!(rig.site().camera("Quay").unwrap().transport, TransportChoice::Tcp);
    assert_eq!(rig.site().camera("Quay").unwrap().group.as_deref(), Some("Quays"), "as it was");
    assert!(rig.errands.carry_out(Errand::Undo).err().unwrap().contains("nothing to bring back"));
    assert!(rig.errands.carry_out(Errand::Remove("Nobody".into())).is_err());
}

#[test]
fn an_edit_elsewhere_touches_only_what_it_changes() {
    let mut rig = rig();
    let path = rig.folder.path().join("site.toml");
    let text = rig.written().replace("rtsp://192.0.2.2/sub", "rtsp://192.0.2.2/small");
    std::fs::write(&path, text.replacen("name = \"Quay\"", "name = \"Quay\"\nenabled = false", 1)).unwrap();
    let outcome = rig.errands.reload().unwrap().unwrap();
    assert_eq!((outcome.removed, outcome.renewed.len()), (vec!["Quay".to_owned()], 1));
    assert_eq!(outcome.renewed[0].name, "South");
    assert!(rig.errands.reload().unwrap().is_none(), "nothing new");
    std::fs::write(&path, "[[camera]\n").unwrap();
    let error = rig.errands.reload().err().unwrap();
    assert!(error.contains("line 1"), "{error}");
    assert_eq!(rig.site().cameras.len(), 3, "the site stays as it was");
    assert!(rig.errands.carry_out(Errand::Toggle("South".into())).is_err(), "a broken file is not written over");
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "[[camera]\n");
}

#[test]
fn what_devices_say_is_kept_told_once_and_never_overwrites_another_device() {
    let mut rig = rig();
    let text = |text: &str| Some(text.to_owned());
    let said = |serial: &str, firmware: &str| DeviceInformation {
        maker: text("Corvane"),
        model: text("CV-20"),
        firmware: text(firmware),
        serial: text(serial),
    };
    let told = |seconds: i64| {
        let offset = ClockOffset { micros: seconds * 1_000_000, error: Duration::from_millis(2) };
        Some(Told { offset, at: Wall::from_unix_micros(0) })
    };
    let mut survey = |information: DeviceInformation, clock| {
        let surveyed = Surveyed::of("192.0.2.3", &["Quay"], Some(information), clock);
        rig.errands.on_surveyed(&surveyed).say
    };
    assert_eq!(survey(said("TH-1", "1.0"), told(0)), None, "what was not known is filled in silently");
    assert!(survey(said("TH-1", "1.1"), None).unwrap().contains("firmware is 1.1 now, it was 1.0"));
    let stranger = survey(said("TH-9", "1.1"), None).unwrap();
    assert!(stranger.contains("another device answers at 192.0.2.3") && stranger.contains("TH-9"), "{stranger}");
    assert_eq!(survey(said("TH-9", "1.1"), None), None, "told once");
    assert!(survey(said("TH-1", "1.1"), told(420)).unwrap().contains("7 min 0 s ahead"));
    assert_eq!(survey(said("TH-1", "1.1"), told(421)), None, "a clock is warned of once");
    assert_eq!(survey(said("TH-1", "1.1"), told(0)), None);
    assert!(survey(said("TH-1", "1.1"), told(-9)).is_some(), "and again when it went wrong again");
    let quay = rig.site().camera("Quay").unwrap();
    assert_eq!(
        (quay.serial.as_deref(), quay.firmware.as_deref(), quay.maker.as_deref()),
        (Some("TH-1"), Some("1.1"), Some("Corvane"))
    );
}

#[test]
fn one_sign_in_serves_a_whole_group_and_is_kept_once() {
    let mut rig = rig();
    let credentials = Credentials::new("harbour", "ebb-and-flow");
    let both = vec!["North".to_owned(), "South".to_owned()];
    let outcome = rig.carry_out(Errand::SignIn(both, credentials.clone()));
    assert_eq!(outcome.renewed.len(), 2);
    assert_eq!((rig.site().sign_ins.len(), rig.written().contains("ebb-and-flow")), (1, false));
    rig.carry_out(Errand::SignIn(vec!["Quay".into()], credentials));
    assert_eq!(rig.site().sign_ins.len(), 1, "the same account is not kept twice");
    let other = Credentials::new("harbour", "another");
    rig.carry_out(Errand::SignIn(vec!["Quay".into()], other));
    assert_eq!(rig.site().sign_ins.iter().map(|sign_in| sign_in.name.as_str()).collect::<Vec<_>>(), ["harbour", "harbour 2"]);
    // That one was refused; the next that is typed takes its place.
    let third = Credentials::new("night", "slack water");
    rig.carry_out(Errand::SignIn(vec!["Quay".into()], third));
    assert_eq!(rig.site().sign_ins.iter().map(|sign_in| sign_in.name.as_str()).collect::<Vec<_>>(), ["harbour", "night"]);
    let all = rig.errands.definitions();
    assert!(!format!("{all:?}").contains("ebb-and-flow"), "a password shows in no debug print");
    let sub = all[0].streams.iter().find(|stream| stream.role == Role::Sub).unwrap();
    let Origin::Url(url) = &sub.origin else { panic!("{all:?}") };
    assert_eq!(url.credentials().unwrap().password.reveal(), "ebb-and-flow");
}

/// A recorder at an address, with so many channels.
fn recorder(host: &str, channels: u32) -> Intake {
    let head = Camera { address: Some(host.into()), device_name: Some("Quay recorder".into()), ..Camera::default() };
    let channel = |n: u32| Camera { device_name: Some(format!("Berth {n}")), channel: Some(n), ..camera("", host) };
    let cameras = [head].into_iter().chain((1..=channels).map(channel)).collect();
    Intake { cameras, channel_troubles: vec![(2, Cause::NoSuchStream)], ..Intake::default() }
}

#[test]
fn of_a_recorder_only_the_ticked_channels_are_taken_in() {
    let mut rig = rig();
    let newcomer = Newcomer {
        target: understand("192.0.2.40").unwrap().target,
        name: Some("Recorder".into()),
        group: Some("Quays".into()),
        as_typed: false,
    };
    let outcome = rig.errands.on_asked(&newcomer, Ok(recorder("192.0.2.40", 4)));
    assert!(outcome.taken.is_none() && rig.site().cameras.len() == 3, "nothing before they are chosen");
    let (whom, intake) = outcome.choose.unwrap();
    assert_eq!((&whom, intake.channel_troubles[0]), (&newcomer, (2, Cause::NoSuchStream)));
    let chosen = || Errand::Channels(newcomer.clone(), BTreeSet::from([1, 4]));
    let outcome = rig.errands.carry_out(chosen()).unwrap();
    assert_eq!(outcome.taken.unwrap().result.unwrap(), ["Recorder", "Berth 1", "Berth 4"]);
    let berth = rig.site().camera("Berth 4").unwrap();
    assert_eq!((berth.recorder.as_deref(), berth.channel, berth.group.as_deref()), (Some("Recorder"), Some(4), Some("Quays")));
    // Chosen once; and one of which nothing is wanted leaves nothing behind.
    assert!(rig.errands.carry_out(chosen()).unwrap().taken.is_none());
    rig.errands.on_asked(&newcomer, Ok(recorder("192.0.2.41", 2))).choose.unwrap();
    let nothing = Errand::Channels(newcomer.clone(), BTreeSet::new());
    assert!(rig.errands.carry_out(nothing).unwrap().say.unwrap().contains("nothing of 192.0.2.40"));
    assert_eq!(rig.site().cameras.len(), 6);
    // All of a recorder move together.
    let outcome = rig.carry_out(Errand::Readdress("Berth 1".into(), "192.0.2.77".into()));
    assert_eq!(outcome.renewed.len(), 2, "those with streams begin anew");
    assert_eq!(rig.streams("Berth 4"), ["main rtsp://192.0.2.77/main", "sub rtsp://192.0.2.77/sub"]);
    assert_eq!(rig.site().camera("Recorder").unwrap().address.as_deref(), Some("192.0.2.77"));
}

#[test]
fn one_that_could_not_be_reached_is_asked_again_and_keeps_what_it_was_given() {
    let mut rig = rig();
    let newcomer = Newcomer {
        target: understand("192.0.2.9").unwrap().target,
        name: Some("Ice".into()),
        group: Some("North".into()),
        as_typed: false,
    };
    let trouble = || Trouble { cause: Cause::Unreachable, text: "no answer".into() };
    assert_eq!(rig.errands.on_asked(&newcomer, Err(trouble())).taken.unwrap().result.unwrap(), ["Ice"]);
    assert!(rig.errands.on_later("Ice", Err(trouble())).say.is_none(), "it is asked again at the next survey");
    let device = Camera { service_port: Some(8000), group: None, ..camera("own name", "192.0.2.9") };
    let outcome = rig.errands.on_later("Ice", Ok(Intake { cameras: vec![device], ..Intake::default() }));
    assert_eq!((outcome.added[0].name.as_str(), outcome.say.as_deref()), ("Ice", Some("Ice answers now")));
    let ice = rig.site().camera("Ice").unwrap();
    assert_eq!((ice.group.as_deref(), ice.service_port, ice.streams.len()), (Some("North"), Some(8000), 2));
    let refused = Trouble { cause: Cause::SignIn, text: "it wants a sign-in".into() };
    assert!(rig.errands.on_later("Ice", Err(refused)).say.unwrap().contains("s signs in"));
}

#[test]
fn many_addresses_are_asked_about_before_they_are_scanned() {
    let mut rig = rig();
    let search = |rig: &mut Rig, ranges: &str| rig.errands.carry_out(Errand::Search(ranges.into()));
    let asked = search(&mut rig, "127.0.0.0/16").err().unwrap();
    assert!(asked.contains("65534 addresses") && asked.contains("r scans them all"), "{asked}");
    assert!(search(&mut rig, "127.1.0.0/16").is_err(), "other ranges are asked about anew");
    assert!(search(&mut rig, "127.1.0.0/16").is_ok());
    rig.carry_out(Errand::EndSearch);
    assert!(search(&mut rig, "127.1.0.0/16").is_err(), "and each time");
    assert!(search(&mut rig, "192.0.2.0/24").err().unwrap().contains("stays on this machine"));
}
