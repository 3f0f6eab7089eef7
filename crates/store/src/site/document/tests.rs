use super::super::{Role, export_lattice, free_lattice_name, import_lattices};
use super::*;
use lattice_core::target::Target;
use std::time::Duration;

const SITE: &str = r#"# our port
name = "Tarnhithe"   # the ferry one

[[sign-in]]
name = "port"
user = "harbour"
password = "env:PORT_PW"

[[camera]]
# the one with the gull
name = "Slipway north"
group = "Slips"  # north side
address = "127.77.0.11"
sign-in = "port"

  [[camera.stream]]
  role = "main"
  url = "rtsp://127.77.0.11:8554/main" # heavy

[[camera]]
name = "Event feed"
enabled = false

  [[camera.stream]]
  role = "main"
  url = "udp://:5000"
"#;

fn file(text: &str) -> (tempfile::TempDir, SiteFile) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("site.toml");
    std::fs::write(&path, text).unwrap();
    let file = SiteFile::open(&path).unwrap();
    (folder, file)
}

fn complaint(text: &str) -> String {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("site.toml");
    std::fs::write(&path, text).unwrap();
    let error = SiteFile::open(&path).unwrap_err().to_string();
    assert_eq!(std::fs::read_to_string(&path).unwrap(), text, "a broken file is left as it is");
    error
}

#[test]
fn thresholds_go_from_the_site_by_the_group_to_the_camera_and_follow_its_name() {
    let more = "\n[[thresholds]]\nloss = 2\noff = [\"covered\"]\n\n[[thresholds]]\ngroup = \"Slips\"\nlate = 1500\nsent-below = 50\n\n[[thresholds]]\ncamera = \"Slipway north\"\nloss = 5\nstrained-after = 4\noff = []\n";
    let (_folder, mut file) = file(&format!("{SITE}{more}"));
    let of = |file: &SiteFile, name: &str| file.site().thresholds_of(name, Role::Sub);
    let own = of(&file, "Slipway north");
    assert!((own.loss - 0.05).abs() < 1e-9 && (own.slowed - 0.5).abs() < 1e-9, "{own:?}");
    assert_eq!((own.late, own.strain_after), (Duration::from_millis(1500), Duration::from_secs(4)));
    assert!(own.findings.iter().all(|on| *on), "what is off for all is on again for this one");
    let other = of(&file, "Event feed");
    assert!((other.loss - 0.02).abs() < 1e-9 && other.findings.iter().filter(|on| !**on).count() == 1, "{other:?}");
    file.change(|editor| editor.rename_camera("Slipway north", "Gull")).unwrap();
    assert!((of(&file, "Gull").loss - 0.05).abs() < 1e-9);
    for (line, told) in [
        ("loss = 200", "0 to 100 percent"),
        ("late = 1", "50 to 60000 ms"),
        ("off = [\"blurred\"]", "off takes frozen, dark, washed-out, covered, out-of-focus"),
        ("camera = \"a\"\ngroup = \"b\"", "make two of them"),
    ] {
        let error = complaint(&format!("[[thresholds]]\n{line}\n"));
        assert!(error.contains(told), "{error}");
    }
}

#[test]
fn rules_are_read_and_follow_their_camera_and_slips_in_them_are_told() {
    let more = "\n[[rule]]\n\n[[rule]]\ncamera = \"Slipway north\"\nreports = [\"motion\", \"digital-input\"]\nhours = \"22:00-06:00\"\nmark = false\nalarm = true\nbell = true\nrun = [\"call\", \"{camera}\"]\npost = \"http://127.0.0.1:8080/x\"\nrest = 60\n";
    let (_folder, mut file) = file(&format!("sound = false\n{SITE}{more}"));
    let [all, own] = &file.site().rules[..] else { panic!("two rules") };
    assert!(
        own.alarm && !all.alarm && all.ledger && all.mark && !all.bell && all.kinds.is_empty() && all.is_about("anybody", None)
    );
    assert_eq!((own.kinds.len(), own.hours.unwrap().to_string(), own.mark), (2, "22:00-06:00".to_owned(), false));
    assert_eq!((own.run.join(" "), own.rest), ("call {camera}".to_owned(), Duration::from_secs(60)));
    let camera = file.site().camera("Slipway north").unwrap().clone();
    assert!(!file.site().hears(&camera), "the sound of the whole site is off");
    file.change(|editor| editor.rename_camera("Slipway north", "Gull")).unwrap();
    assert_eq!(file.site().rules[1].camera.as_deref(), Some("Gull"));
    let gull = file.site().camera("Gull").unwrap().clone();
    file.change(|editor| editor.put_camera(&Camera { sound: Some(true), ..gull })).unwrap();
    assert!(file.site().hears(file.site().camera("Gull").unwrap()));
    for (line, told) in [
        ("reports = [\"movement\"]", "reports takes motion, crossing"),
        ("hours = \"night\"", "22:00-06:00"),
        ("post = \"rtsp://h/x\"", "http:// or https://"),
        ("post = \"http://u:s3cret@h/x\"", "no user, password or key"),
        ("rest = -1", "0 to 86400 seconds"),
        ("run = \"call\"", "run is a program and up to 31 arguments, like"),
        ("tile = 0", "from 1 to 64"),
        ("seconds = 0", "1 to 86400"),
        ("camera = \"a\"\ngroup = \"b\"", "make two of them"),
        ("sound = true", "unknown field"),
    ] {
        let error = complaint(&format!("[[rule]]\n{line}\n"));
        assert!(error.contains(told) && !error.contains("s3cret"), "{error}");
    }
}

#[test]
fn a_site_is_read_whole() {
    let (_folder, file) = file(SITE);
    let site = file.site();
    assert_eq!(site.sign_in("port").unwrap().password, PasswordSource::Environment("PORT_PW".into()));
    let camera = site.camera("Slipway north").unwrap();
    assert_eq!((camera.group.as_deref(), camera.sign_in.as_deref(), camera.disabled), (Some("Slips"), Some("port"), false));
    assert_eq!(camera.stream(Role::Main).unwrap().target.to_string(), "rtsp://127.77.0.11:8554/main");
    let feed = site.camera("Event feed").unwrap();
    assert!(feed.disabled && matches!(feed.streams[0].target, Target::Listen { port: 5000, .. }));
    assert!(site.knows_address("127.77.0.11") && !site.knows_address("127.77.0.12"));
    assert_eq!(site.free_name("Event feed"), "Event feed 2");
}

/// A camera that is listened for, with a session description on line 6.
fn listening(url: &str, sdp: &str) -> String {
    format!(
        "[[camera]]\nname = \"a\"\n[[camera.stream]]\nrole = \"main\"\nurl = \"{url}\"\nsdp = \"v=0\\n{sdp}\\na=rtpmap:96 H264/90000\\n\"\n"
    )
}

#[test]
fn what_is_not_understood_is_told_by_line_and_column() {
    for (text, line, column, want) in [
        ("name = \"x\"\n[[camera]\n", 2, 10, ""),
        ("[[camera]]\nname = \"a\"\ncolour = 3\n", 3, 1, "unknown field"),
        ("[[camera]]\nname = \"a\"\nservice-port = 70000\n", 3, 16, ""),
        ("[[camera]]\nname = \"a\"\n[[camera]]\nname = \"a\"\n", 4, 8, "another camera has this name"),
        ("[[camera]]\nname = \"a\"\nsign-in = \"b\"\n", 3, 11, "there is no [[sign-in]]"),
        ("[[sign-in]]\nname = \"a\"\nuser = \"u\"\npassword = \"s3cret\"\n", 4, 12, "env:NAME"),
        ("[[camera]]\nname = \"a\"\n[[camera.stream]]\nrole = \"best\"\nurl = \"rtsp://c/x\"\n", 4, 8, "main, sub or third"),
        ("[[camera]]\nname = \"a\"\n[[camera.stream]]\nrole = \"main\"\nurl = \"rtsp://u:s3cret@c/x\"\n", 5, 7, "kept apart"),
        ("[[camera]]\nname = \"a\"\n[[camera.stream]]\nrole = \"main\"\nurl = \"c/x\"\n", 5, 7, "no rtsp://"),
        ("[[camera]]\nname = \"a\"\ntrust = \"sha256:12\"\n", 3, 9, "64 digits"),
        (
            "[[camera]]\nname = \"a\"\n[[camera.stream]]\nrole = \"main\"\nurl = \"rtsp://c/x\"\nbuffer = 5001\n",
            6,
            10,
            "0 to 5000 milliseconds",
        ),
        ("passwords = \"vault\"\n", 1, 13, "keyring (where there is one) or file"),
        ("clock-limit = 0\n", 1, 15, "0.01 to 86400 seconds"),
        (&listening("udp://:5004", "m=video 5004 RTP/AVP 96"), 6, 7, "rtp://:5004"),
        (&listening("rtp://:5004", "m=audio 5004 RTP/AVP 0"), 6, 7, "describes no video"),
        (
            &listening("rtp://:5004", "m=video 5004 RTP/SAVP 96\\na=crypto:1 AES_CM_128_HMAC_SHA1_80 inline:s3cret"),
            6,
            7,
            "a key stands",
        ),
    ] {
        let error = complaint(text);
        assert!(error.contains(&format!("line {line}, column {column}: ")) && error.contains(want), "{text}\n{error}");
        assert!(!error.contains("s3cret"), "a password is not repeated: {error}");
    }
}

#[test]
fn a_change_keeps_remarks_order_and_everything_else() {
    let (_folder, mut file) = file(SITE);
    let mut camera = file.site().camera("Slipway north").unwrap().clone();
    camera.group = Some("Slipways".into());
    let sub = Stream {
        role: Role::Sub,
        target: Target::Url("rtsp://127.77.0.11:8554/sub".parse().unwrap()),
        interval: None,
        buffer: None,
    };
    camera.streams.push(sub);
    file.change(|editor| editor.put_camera(&camera)).unwrap();
    let text = std::fs::read_to_string(file.path()).unwrap();
    let kept = SITE.replace("\"Slips\"", "\"Slipways\"");
    let without_new: String = text.lines().filter(|line| !line.contains("/sub") && !line.contains("role = \"sub\"")).collect();
    for line in kept.lines().filter(|line| !line.trim().is_empty()) {
        assert!(without_new.contains(line), "{line:?} is gone from\n{text}");
    }
    assert_eq!(SiteFile::open(file.path()).unwrap().site(), file.site());
    assert_eq!(file.site().camera("Slipway north"), Some(&camera));
}

#[test]
fn a_session_description_and_the_sites_own_settings_are_kept() {
    let (_folder, mut file) = file("passwords = \"file\"\nclock-limit = 0.5\n");
    assert!(file.site().passwords_in_file && file.site().clock_limit() == Duration::from_millis(500));
    let sdp = "v=0\nc=IN IP4 239.7.7.7\nm=video 5004 RTP/AVP 96\na=rtpmap:96 H264/90000\n";
    let target = lattice_core::target::understand_description(sdp).unwrap();
    let stream = Stream { role: Role::Main, target: target.clone(), interval: None, buffer: None };
    let camera = Camera { name: "Regatta".into(), streams: vec![stream], ..Camera::default() };
    file.change(|editor| editor.put_camera(&camera)).unwrap();
    let again = SiteFile::open(file.path()).unwrap();
    assert_eq!(again.site().camera("Regatta").unwrap().streams[0].target, target);
    assert!(again.site().passwords_in_file, "what stood there still does");
}

#[test]
fn cameras_come_go_and_change_their_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/site.toml");
    let mut file = SiteFile::open(&path).unwrap();
    assert!(!file.exists() && file.site() == &Site::default());
    let still = Stream {
        role: Role::Main,
        target: Target::Url("http://192.0.2.9/still.jpg".parse().unwrap()),
        interval: Some(Duration::from_millis(2500)),
        buffer: Some(Duration::from_millis(40)),
    };
    let recorder = Camera { name: "Quay recorder".into(), address: Some("192.0.2.9".into()), ..Camera::default() };
    let channel = Camera {
        name: "Quay \"one\"".into(),
        recorder: Some("Quay recorder".into()),
        channel: Some(1),
        trust: CertificateTrust::Pinned("ab".repeat(32)),
        transport: TransportChoice::Tcp,
        streams: vec![still],
        ..Camera::default()
    };
    let sign_in = SignIn { name: "port".into(), user: "harbour".into(), password: PasswordSource::Kept };
    file.change(|editor| {
        editor.name_site("Port");
        editor.put_sign_in(&sign_in)?;
        editor.put_camera(&recorder)?;
        editor.put_camera(&channel)
    })
    .unwrap();
    assert_eq!(SiteFile::open(&path).unwrap().site(), file.site());
    assert_eq!(file.site().cameras, [recorder, channel.clone()]);
    file.change(|editor| editor.rename_camera("Quay recorder", "Old recorder")).unwrap();
    assert_eq!(file.site().camera("Quay \"one\"").unwrap().recorder.as_deref(), Some("Old recorder"));
    let taken = file.change(|editor| editor.rename_camera("Old recorder", "Quay \"one\"")).unwrap_err().to_string();
    assert!(taken.contains("already"), "{taken}");
    file.change(|editor| editor.remove_camera("Old recorder")).unwrap();
    assert_eq!(file.site().cameras.len(), 1);
    assert!(file.change(|editor| editor.remove_camera("Old recorder")).is_err());
}

#[test]
fn what_was_edited_elsewhere_is_read_again_and_never_overwritten() {
    let (_folder, mut file) = file(SITE);
    let elsewhere = SITE.replace("Slipway north", "Slipway south");
    std::fs::write(file.path(), &elsewhere).unwrap();
    let refused = file.change(|editor| editor.remove_camera("Event feed")).unwrap_err();
    assert!(matches!(refused, SiteError::ChangedElsewhere { .. }));
    assert_eq!(std::fs::read_to_string(file.path()).unwrap(), elsewhere);
    assert!(file.reload().unwrap() && !file.reload().unwrap());
    assert!(file.site().camera("Slipway south").is_some());
    std::fs::write(file.path(), "[[camera]]\nname =").unwrap();
    assert!(file.reload().is_err());
    assert!(file.site().camera("Slipway south").is_some(), "the site stays as it was");
    let broken = file.change(|editor| editor.remove_camera("Event feed")).unwrap_err().to_string();
    assert!(broken.contains("site.toml") && broken.contains("line 2"), "{broken}");
}

#[test]
fn programs_that_write_at_the_same_time_lose_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("site.toml");
    std::thread::scope(|scope| {
        for program in 0..3 {
            let path = path.clone();
            scope.spawn(move || {
                let mut file = SiteFile::open(&path).unwrap();
                for n in 0..20 {
                    let camera = Camera { name: format!("{program} {n}"), ..Camera::default() };
                    while let Err(error) = file.change(|editor| editor.put_camera(&camera)) {
                        assert!(matches!(error, SiteError::ChangedElsewhere { .. }), "{error}");
                        file.reload().unwrap();
                    }
                }
            });
        }
    });
    assert_eq!(SiteFile::open(&path).unwrap().site().cameras.len(), 60);
}

#[test]
fn a_change_that_the_site_cannot_take_changes_nothing() {
    let (_folder, mut file) = file(SITE);
    let bad = Camera { name: "New".into(), sign_in: Some("nobody".into()), ..Camera::default() };
    let error = file.change(|editor| editor.put_camera(&bad)).unwrap_err().to_string();
    assert!(error.contains("no [[sign-in]]"), "{error}");
    assert_eq!(std::fs::read_to_string(file.path()).unwrap(), SITE);
    assert_eq!(file.site().cameras.len(), 2);
}

const WALL: &str = r#"link = 40.0

[[camera]]
name = "Slipway north"
viewers = 2
link = 8

[[lattice]]   # before seven
name = "morning six"
layout = "1+5"
tiles = [
  { camera = "Slipway north", hold = "main", marked = true },
  {},
  { camera = "Gone", aspect = "fill" },
]

[[lattice]]
name = "halves"
places = [[0, 0, 6, 12], [6, 0, 6, 12]]

[[tour]]
name = "round"
trouble-first = true
stops = [{ lattice = "morning six", page = 1, seconds = 10 }, { lattice = "halves" }]

[[screen]]
name = "desk"
shows = "round"
"#;

#[test]
fn lattices_tours_and_screens_are_kept_and_follow_their_names() {
    use lattice_core::lattice::{Aspect, Lattice, Placed};
    use lattice_core::layout::Layout;
    let (_folder, mut file) = file(WALL);
    let site = file.site();
    assert_eq!((site.link.unwrap().0, site.cameras[0].link.unwrap().0, site.cameras[0].viewers), (40e6, 8e6, Some(2)));
    let six = site.lattice("morning six").unwrap().clone();
    assert_eq!((six.layout().word().as_str(), six.tiles().len(), six.at(0).unwrap().hold), ("1+5", 3, Some(Role::Main)));
    assert_eq!((six.at(1), six.at(2).unwrap().aspect), (None, Aspect::Fill), "a camera that is not there is kept");
    assert_eq!(site.tours[0].stops[0].dwell, Duration::from_secs(10));
    let halves = site.lattice("halves").unwrap().clone();
    file.change(|editor| {
        editor.put_lattice(&six)?;
        editor.put_lattice(&halves)
    })
    .unwrap();
    assert_eq!(file.site().lattice("morning six"), Some(&six));
    let mut changed = halves.clone();
    changed
        .put(1, Placed { camera: "Slipway north".into(), aspect: Aspect::Stretch, hold: Some(Role::Sub), ..Placed::default() });
    let new = Lattice::even("all of it", ["Slipway north".to_owned(), "Gone".to_owned()]);
    file.change(|editor| {
        editor.put_lattice(&changed)?;
        editor.put_lattice(&new)?;
        editor.rename_lattice("morning six", "evening six")?;
        editor.rename_camera("Slipway north", "Slipway")?;
        editor.order_lattices(&["all of it", "evening six"])
    })
    .unwrap();
    let site = SiteFile::open(file.path()).unwrap().site().clone();
    assert_eq!(&site, file.site(), "what is written is what is read");
    let names: Vec<&str> = site.lattices.iter().map(|lattice| lattice.name.as_str()).collect();
    assert_eq!(names, ["all of it", "evening six", "halves"]);
    assert_eq!((site.lattices[0].layout(), site.lattices[2].at(1).unwrap().camera.as_str()), (&Layout::Even(2), "Slipway"));
    assert_eq!(site.tours[0].stops[0].lattice, "evening six");
    let text = std::fs::read_to_string(file.path()).unwrap();
    assert!(text.contains("# before seven"), "{text}");
    file.change(|editor| editor.remove_lattice("evening six")).unwrap();
    assert_eq!((file.site().tours[0].stops.len(), file.site().screens[0].shows.as_deref()), (1, Some("round")));
    file.change(|editor| editor.remove_lattice("halves")).unwrap();
    assert_eq!((file.site().tours.len(), file.site().screens[0].shows.as_deref()), (0, None), "it shows all cameras");
}

#[test]
fn a_lattice_that_is_not_understood_is_told_by_line_and_column() {
    for (from, to, line, told) in [
        (r#""1+5""#, r#""1+6""#, 10, "even 9"),
        (r#""1+5""#, r#""even 300""#, 10, "1 to 256 places"),
        ("[6, 0, 6, 12]", "[5, 0, 7, 12]", 19, "places 1 and 2 overlap"),
        ("[6, 0, 6, 12]", "[6, 0, 7, 12]", 19, "place 2 leaves the grid"),
        (r#"hold = "main""#, r#"hold = "fourth""#, 12, "main, sub or third"),
        (r#"aspect = "fill""#, r#"aspect = "crop""#, 14, "fit, fill or stretch"),
        (r#"name = "halves""#, r#"name = "morning six""#, 18, "another lattice"),
        ("page = 1", "page = 0", 24, "counted from 1"),
        ("seconds = 10", "seconds = 1", 24, "2 to 86400"),
        (r#"{ lattice = "halves" }"#, r#"{ lattice = "thirds" }"#, 24, "no [[lattice]]"),
        (r#"shows = "round""#, r#"shows = "square""#, 28, "no [[lattice]] or [[tour]]"),
        ("link = 40.0", "link = 0", 1, "Mbit/s"),
        ("viewers = 2", "viewers = 0", 5, "1 or more"),
        ("layout = ", "layot = ", 10, "unknown field"),
    ] {
        let told_is = complaint(&WALL.replacen(from, to, 1));
        assert!(told_is.contains(&format!("line {line},")) && told_is.contains(told), "{told_is}");
    }
}

#[test]
fn a_lattice_goes_through_a_file_of_its_own() {
    let (folder, mut file) = file(WALL);
    let path = folder.path().join("one.toml");
    for lattice in file.site().lattices.clone() {
        std::fs::write(&path, export_lattice(&lattice)).unwrap();
        assert_eq!(import_lattices(&path).unwrap(), std::slice::from_ref(&lattice));
        let name = free_lattice_name(file.site(), &lattice.name);
        assert_eq!(name, format!("{} 2", lattice.name));
        file.change(|editor| editor.put_lattice(&lattice.called(name))).unwrap();
    }
    assert_eq!(file.site().lattices.len(), 4);
    for (text, told) in [
        ("", "holds no [[lattice]]"),
        ("[[lattice]]\nname = \"a\"\nlayout = \"even 999\"\n", "line 3, column 10"),
        ("[[camera]]\nname = \"a\"\n", "unknown field"),
        ("[[lattice]]\nname = \"a\"\nplaces = [[0, 0, 6, 12]]\n", "line 3"),
        ("\u{0}", "line 1"),
    ] {
        std::fs::write(&path, text).unwrap();
        let error = import_lattices(&path).unwrap_err().to_string();
        assert!(error.contains(told) && error.contains("one.toml"), "{error}");
    }
    assert!(import_lattices(&folder.path().join("none.toml")).unwrap_err().to_string().contains("cannot be read"));
}

#[test]
fn cameras_put_into_any_order_keep_their_streams() {
    let camera = |name: &str| {
        format!(
            "# of {name}\n[[camera]]\nname = \"{name}\"\n[[camera.stream]]\nrole = \"main\"\nurl = \"rtsp://192.0.2.1/{name}\"\n[[camera.stream]]\nrole = \"sub\"\nurl = \"rtsp://192.0.2.1/{name}/sub\"\n\n"
        )
    };
    let text = format!("{}[[sign-in]]\nname = \"keeper\"\nuser = \"keeper\"\n\n{}{}", camera("a"), camera("b"), camera("c"));
    for order in [["a", "b", "c"], ["c", "b", "a"], ["b", "c", "a"], ["c", "a", "b"], ["b", "a", "c"], ["a", "c", "b"]] {
        // As it was read, and with one that was taken out and came back.
        for gone in [None, Some("a"), Some("b"), Some("c")] {
            let (_folder, mut file) = file(&text);
            let cameras = file.site().cameras.clone();
            if let Some(gone) = gone {
                file.change(|editor| editor.remove_camera(gone)).unwrap();
                let camera = cameras.iter().find(|camera| camera.name == gone).unwrap();
                file.change(|editor| editor.put_camera(camera).and_then(|()| editor.order_cameras(&order))).unwrap();
            } else {
                file.change(|editor| editor.order_cameras(&order)).unwrap();
            }
            let wanted: Vec<Camera> =
                order.iter().map(|name| cameras.iter().find(|one| one.name == *name).unwrap().clone()).collect();
            assert_eq!(file.site().cameras, wanted, "{order:?} {gone:?}\n{}", std::fs::read_to_string(file.path()).unwrap());
            assert_eq!(file.site().sign_ins.len(), 1);
        }
    }
}

#[test]
fn adjustments_lenses_and_what_tiles_show_are_kept_as_they_were_set() {
    use lattice_core::adjust::{Adjust, Preset, Setting};
    use lattice_core::lattice::{Around, Lattice, Placed};
    use lattice_core::layout::Layout;
    use lattice_core::lens::{Gaze, Lens, Mount, Projection};
    use lattice_core::view::Zoom;
    let (_folder, mut file) =
        file("[[camera]]\nname = \"Mast\" # turns\nadjust = { contrast = 30, auto-levels = true } # by hand\n");
    let camera = file.site().cameras[0].clone();
    assert_eq!(camera.adjust.to_string(), "contrast +30, auto-levels");
    let lens = Lens { centre: (5_050, 4_980), radius: 4_900, field: 185, ..Lens::new(Projection::Fisheye, Mount::Ceiling) };
    let adjust = camera.adjust.with(Setting::Dehaze, 80).with(Setting::Levels, 0);
    let seen = |zoom, around| Some(Placed { zoom, around, ..Placed::new("Mast") });
    let window = Around::Window(Gaze::degrees(-90.0, 12.5, 3.0, 70.0));
    let strip = Around::Strip(Gaze::degrees(10.0, 0.0, 0.0, 90.0));
    let tiles = vec![seen(Zoom::new(2.5, 0.4, 0.6), None), seen(Zoom::WHOLE, Some(window)), seen(Zoom::WHOLE, Some(strip))];
    let lattice = Lattice::new("closer", Layout::even(3)).with_tiles(tiles);
    let own = Preset { name: "tank gauge".into(), adjust: Adjust::OFF.with(Setting::Sharpness, 70).with(Setting::OneColour, 1) };
    file.change(|editor| {
        editor.put_camera(&Camera { adjust, lens: Some(lens), ..camera.clone() })?;
        editor.put_lattice(&lattice)?;
        editor.put_preset(&own)
    })
    .unwrap();
    let site = SiteFile::open(file.path()).unwrap().site().clone();
    assert_eq!((site.cameras[0].adjust, site.cameras[0].lens), (adjust, Some(lens)));
    assert_eq!((site.lattices[0].tiles(), &site.presets[..]), (lattice.tiles(), &[own][..]));
    let text = std::fs::read_to_string(file.path()).unwrap();
    assert!(text.contains("# turns") && text.contains("# by hand"), "{text}");
    file.change(|editor| {
        editor.put_camera(&camera)?;
        editor.remove_preset("tank gauge")
    })
    .unwrap();
    assert_eq!((file.site().cameras[0].lens, file.site().presets.len()), (None, 0));
    // What cannot be is told with what can.
    for (text, what) in [
        ("adjust = { glow = 3 }", "brightness, contrast"),
        ("adjust = { contrast = 300 }", "contrast is -100 to 100"),
        ("adjust = { auto-levels = 1 }", "auto-levels is true or false"),
        ("lens = { projection = \"mirror\" }", "equirectangular, fisheye or dual-fisheye"),
        ("lens = { projection = \"fisheye\", radius = 0.0 }", "radius is 0.05 to 2"),
        ("lens = { projection = \"fisheye\", mount = \"floor\" }", "ceiling, a wall or a desk"),
    ] {
        let said = read(Path::new("site.toml"), &format!("[[camera]]\nname = \"x\"\n{text}\n")).unwrap_err().to_string();
        assert!(said.contains(what), "{text}: {said}");
    }
    for (tile, what) in [
        ("zoom = { times = 99.0, x = 0.5, y = 0.5 }", "1 to 32 times"),
        ("view = { pan = 0.0, tilt = 120.0, across = 90.0 }", "tilt from -90 to 90"),
    ] {
        let text = format!("[[lattice]]\nname = \"x\"\ntiles = [{{ camera = \"a\", {tile} }}]\n");
        let said = read(Path::new("site.toml"), &text).unwrap_err().to_string();
        assert!(said.contains(what), "{tile}: {said}");
    }
}

#[test]
fn areas_and_lines_that_are_watched_are_kept_as_they_were_drawn() {
    use lattice_core::motion::{Outline, Shape, Way};
    let (_folder, mut file) = file("[[camera]]\nname = \"Quay\" # east\n");
    let camera = file.site().cameras[0].clone();
    let watch = vec![
        Shape { name: "kerb".into(), outline: Outline::Line(vec![(0.25, 0.5), (0.75, 1.0)], Way::ToTheLeft), least: 0.1 },
        Shape { name: "yard".into(), outline: Outline::Area(vec![(0.0, 0.0), (0.5, 0.0), (0.5, 0.123)]), least: 0.0 },
    ];
    file.change(|editor| editor.put_camera(&Camera { watch: watch.clone(), ..camera.clone() })).unwrap();
    let text = std::fs::read_to_string(file.path()).unwrap();
    assert_eq!(SiteFile::open(file.path()).unwrap().site().cameras[0].watch, watch, "{text}");
    assert!(text.contains("# east"), "{text}");
    file.change(|editor| editor.put_camera(&camera)).unwrap();
    assert!(file.site().cameras[0].watch.is_empty());
    let line = "line = [[0.1, 0.1], [0.9, 0.9]]";
    for (text, what) in [
        (format!("{{ {line} }}"), "missing field `name`"),
        ("{ name = \"a\" }".into(), "an area or a line"),
        (format!("{{ name = \"a\", {line}, area = [[0.1, 0.1], [0.9, 0.9], [0.1, 0.9]] }}"), "an area or a line"),
        (format!("{{ name = \"a\", {line}, way = \"up\" }}"), "both, to-the-right or to-the-left"),
        ("{ name = \"a\", area = [[0.1, 0.1], [0.9, 0.9], [0.1, 0.9]], way = \"both\" }".into(), "an area has no way"),
        ("{ name = \"a\", line = [[0.1, 0.1], [1.9, 0.9]] }".into(), "shares of its width and height"),
        ("{ name = \"a\", line = [[0.1, 0.1]] }".into(), "a line 2 to 16 points"),
        (format!("{{ name = \"a\", {line}, least = 2.0 }}"), "least is a share"),
        (format!("{{ name = \"a\", {line} }}, {{ name = \"a\", {line} }}"), "two named"),
    ] {
        let said =
            read(Path::new("site.toml"), &format!("[[camera]]\nname = \"x\"\nwatch = [{text}]\n")).unwrap_err().to_string();
        assert!(said.contains(what), "{text}: {said}");
    }
}
