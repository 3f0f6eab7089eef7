use super::super::Role;
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
    let sub = Stream { role: Role::Sub, target: Target::Url("rtsp://127.77.0.11:8554/sub".parse().unwrap()), interval: None };
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
fn cameras_come_go_and_change_their_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/site.toml");
    let mut file = SiteFile::open(&path).unwrap();
    assert!(!file.exists() && file.site() == &Site::default());
    let still = Stream {
        role: Role::Main,
        target: Target::Url("http://192.0.2.9/still.jpg".parse().unwrap()),
        interval: Some(Duration::from_millis(2500)),
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
