//! A shift of the made-up port on paper: pages compared by their structure, the PDF's text read back.
#![allow(clippy::unwrap_used, missing_docs)]

use jiff::tz::TimeZone;
use lattice_core::event::{Confidence, EventKind};
use lattice_core::ledger::{Acknowledged, Entry, Parts};
use lattice_core::meter::{Fig, Sample};
use lattice_core::shift::{Gap, Shift, StreamPast};
use lattice_core::{Cause, Verdict, Wall};
use lattice_report::{
    Chart, Curve, Lane, Page, Pair, Photo, Raster, Report, Table, charts_page, csv, flashes_page, json, lanes_page, pages, pdf,
    svg,
};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::process::Command;

const BEGIN: i64 = 1_795_500_000;
const HOURS: i64 = 8;

fn at(second: i64) -> Wall {
    Wall::from_unix_micros((BEGIN + second) * 1_000_000)
}

fn stream(camera: &str, group: Option<&str>, latency: f32) -> StreamPast {
    let sample = |minute: i64| {
        Sample { verdict: Some(Verdict::Steady), ..Sample::default() }
            .with_value(Fig::Sent, 12.5)
            .with_value(Fig::Latency, latency + (minute % 7) as f32)
            .with_value(Fig::LatencyP95, latency * 2.0 + (minute % 11) as f32)
            .with_value(Fig::ClockOffset, if camera == "Car lane 2" { -4810.0 } else { 2.0 })
            .with_value(Fig::ClockError, 12.0)
    };
    let readings = (0..HOURS * 60).map(|minute| (at(minute * 60), 60, sample(minute))).collect();
    StreamPast { camera: camera.into(), stream: "sub".into(), group: group.map(str::to_owned), readings }
}

fn gap(camera: &str, start: i64, length: i64, kind: EventKind, cause: Cause) -> Gap {
    let (camera, stream) = (camera.into(), "sub".into());
    Gap { camera, stream, start: at(start), end: at(start + length), goes_on: false, kind, cause: Some(cause) }
}

fn entry(id: u64, camera: &str, start: i64, length: i64, kind: EventKind, cause: Cause) -> Entry {
    Entry {
        id,
        cameras: vec![camera.into()],
        shared: None,
        kind,
        start: at(start),
        end: Some(at(start + length)),
        times: 1,
        cause: Some(cause),
        evidence: "no answer <for> 5 s & more".into(),
        confidence: Confidence::High,
        done: Vec::new(),
        acknowledged: None,
        shelved_until: None,
        note: String::new(),
        parts: Parts::default(),
        down_since: None,
    }
}

struct Sampled {
    shift: Shift,
    entries: Vec<Entry>,
    pictures: Vec<Pair>,
}

fn sampled() -> Sampled {
    let names = ["Slipway north", "Lock gate upper", "Car lane 2", "Fuel quay"];
    let mut streams: Vec<StreamPast> =
        names.iter().zip([40.0, 80.0, 120.0, 35.0]).map(|(name, latency)| stream(name, Some("Harbour"), latency)).collect();
    streams.extend((0..30).map(|n| stream(&format!("Quay {n}"), None, 50.0)));
    let gaps = vec![
        gap("Car lane 2", 3_000, 620, EventKind::Outage, Cause::PortClosed),
        gap("Fuel quay", 9_000, 42, EventKind::Freeze, Cause::Silence),
        gap("Fuel quay", 9_600, 75, EventKind::Frozen, Cause::FrozenPicture),
        gap("Slipway north", 20_000, 4, EventKind::Freeze, Cause::PacketLoss),
        gap("Quay 7", 28_700, 900, EventKind::Locked, Cause::SignIn),
    ];
    let mut entries = vec![
        entry(1, "Car lane 2", 3_000, 620, EventKind::Outage, Cause::PortClosed),
        entry(2, "Fuel quay", 9_000, 42, EventKind::Freeze, Cause::Silence),
        entry(3, "Lock gate upper", 11_000, 3_000, EventKind::Strained, Cause::PacketLoss),
    ];
    entries[0].acknowledged = Some(Acknowledged { by: "kim".into(), at: at(3_200) });
    entries[0].note = "breaker of the lane's cabinet".into();
    let hours: Vec<Wall> = (0..HOURS).map(|hour| at(hour * 3_600)).collect();
    let pair = |camera: &str, start: i64, before, after| Pair { camera: camera.into(), start: at(start), before, after };
    let pictures = vec![
        pair("Car lane 2", 3_000, photo(2_999), photo(3_621)),
        pair("Fuel quay", 9_000, photo(8_999), None),
        pair("Quay 7", 28_700, None, photo(28_800)),
        pair("Quay 9", 100, photo(99), photo(101)),
    ];
    Sampled { shift: Shift::new(at(0), at(HOURS * 3_600), &streams, gaps, &[], &hours), entries, pictures }
}

fn report(sampled: &Sampled) -> Report<'_> {
    Report {
        site: "Tarnhithe ferry port",
        from: at(0),
        to: at(HOURS * 3_600),
        made_at: at(HOURS * 3_600 + 60),
        by: "kim",
        zone: TimeZone::UTC,
        shift: &sampled.shift,
        entries: &sampled.entries,
        pictures: &sampled.pictures,
    }
}

fn photo(second: i64) -> Option<Photo> {
    let shade = |n: usize| (n / 3 % 160) as u8;
    let raster = Raster::new(160, 90, (0..160 * 90 * 3).map(shade).collect()).unwrap();
    Photo::new(at(second), raster.jpeg(80).unwrap())
}

/// What a drawing holds: how many elements of each name, and its texts in order.
fn structure(svg: &str) -> (BTreeMap<String, usize>, Vec<String>) {
    use quick_xml::events::Event;
    let mut reader = quick_xml::Reader::from_str(svg);
    let (mut elements, mut texts, mut text) = (BTreeMap::new(), Vec::new(), None::<String>);
    loop {
        match reader.read_event().unwrap() {
            Event::Start(tag) => {
                let name = tag.name().as_ref().to_owned();
                text = (name == "text").then(String::new);
                *elements.entry(name).or_default() += 1;
            }
            Event::Empty(tag) => {
                *elements.entry(tag.name().as_ref().to_owned()).or_default() += 1;
            }
            Event::Text(part) => {
                if let Some(text) = &mut text {
                    text.push_str(&part);
                }
            }
            Event::GeneralRef(name) => {
                if let Some(text) = &mut text {
                    text.push_str(match &*name {
                        "amp" => "&",
                        "lt" => "<",
                        "gt" => ">",
                        _ => "\"",
                    });
                }
            }
            Event::End(tag) if tag.name().as_ref() == "text" => texts.extend(text.take()),
            Event::Eof => return (elements, texts),
            _ => {}
        }
    }
}

#[test]
fn the_pages_are_as_they_were_by_their_structure() {
    let sampled = sampled();
    let (pages, title) = pages(&report(&sampled));
    assert_eq!(title, "Shift report: Tarnhithe ferry port, 2026-11-24 06:00 to 14:00");
    let drawn = svg(&pages);
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/golden/shift.svg");
    if std::env::var_os("NEW_GOLDEN").is_some() {
        std::fs::write(&path, &drawn).unwrap();
    }
    assert_eq!(structure(&drawn), structure(&std::fs::read_to_string(&path).unwrap()));
    let (_, texts) = structure(&drawn);
    for wanted in ["Car lane 2", "no answer <for> 5 s & more", "breaker of the lane", "port closed", "page 1 of 3"] {
        assert!(texts.iter().any(|text| text.contains(wanted)), "{wanted}: {texts:?}");
    }
    // Nothing lies outside of its page.
    for page in &pages {
        let svg = page.svg();
        for y in svg.split(" y=\"").skip(1).filter_map(|rest| rest.split('"').next()?.parse::<f64>().ok()) {
            assert!((0.0..=842.0).contains(&y), "{y}");
        }
    }
}

#[test]
fn the_pdf_has_the_text_with_its_own_font() {
    let sampled = sampled();
    let (pages, title) = pages(&report(&sampled));
    let bytes = pdf(&pages, &title).unwrap();
    assert!(bytes.starts_with(b"%PDF-"));
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("shift.pdf");
    std::fs::write(&path, &bytes).unwrap();
    let run = |tool: &str, arguments: &[&str]| {
        let out = Command::new(tool).args(arguments).arg(&path).arg("-").output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    let text = run("pdftotext", &["-layout"]);
    for wanted in ["Shift report: Tarnhithe ferry port", "Slipway north", "frozen at the source", "kim", "page 3 of 3"] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    let fonts = Command::new("pdffonts").arg(&path).output().unwrap();
    let fonts = String::from_utf8_lossy(&fonts.stdout).into_owned();
    // The pictures around the longest dropouts are in it; a pair of what is no dropout is not.
    let images = Command::new("pdfimages").arg("-list").arg(&path).output().unwrap();
    let images = String::from_utf8_lossy(&images.stdout).into_owned();
    assert_eq!(images.matches("jpeg").count(), 4, "{images}");
    assert!(text.contains("before, 06:49:59") && text.contains("no picture of after it is kept"), "{text}");
    assert!(fonts.contains("DejaVuSans") && !fonts.contains(" no  no "), "embedded: {fonts}");
}

#[test]
fn tables_hold_what_the_pages_show_and_no_formula() {
    let sampled = sampled();
    let mut entries = sampled.entries.clone();
    entries[2].note = "=HYPERLINK(1), \"x\"".into();
    let sampled = Sampled { entries, ..sampled };
    let report = report(&sampled);
    let whole: serde_json::Value = serde_json::from_str(&json(&report)).unwrap();
    assert_eq!(whole["cameras"].as_array().unwrap().len(), 34);
    assert_eq!(whole["cameras"][0]["camera"], "Car lane 2");
    assert_eq!((&whole["dropouts"][0]["cause"], &whole["dropouts"][0]["length_s"]), (&"port-closed".into(), &620.0.into()));
    assert_eq!(whole["hours"].as_array().unwrap().len(), 8);
    assert_eq!(whole["ledger"][0]["acknowledged_by"], "kim");
    for (table, rows) in [(Table::Cameras, 34), (Table::Groups, 1), (Table::Hours, 8), (Table::Dropouts, 5), (Table::Ledger, 3)] {
        let text = csv(&report, table);
        let mut reader = csv::Reader::from_reader(text.as_bytes());
        let columns = reader.headers().unwrap().len();
        let records: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
        assert!(records.len() == rows && records.iter().all(|record| record.len() == columns), "{table:?}: {text}");
        assert!(!records.iter().flatten().any(|cell| cell.starts_with('=')));
    }
}

#[test]
fn a_shift_without_anything_says_so_and_charts_have_axes_and_gaps() {
    let shift = Shift::new(at(0), at(60), &[], Vec::new(), &[], &[]);
    let nothing = Sampled { shift, entries: Vec::new(), pictures: Vec::new() };
    let (empty, _) = pages(&report(&nothing));
    assert!(empty.len() == 1 && empty[0].svg().contains("Nothing was measured"));
    let points = (0..60).map(|second| (at(second), (!(20..30).contains(&second)).then_some(12.5))).collect();
    let chart = Chart {
        title: "rate /s".into(),
        digits: 1,
        least_top: 5.0,
        fitted: false,
        curves: vec![Curve { name: "sent".into(), points }, Curve { name: "arrived".into(), points: Vec::new() }],
    };
    let close = |name: &str, value| Curve { name: name.into(), points: vec![(at(1), Some(value)), (at(59), Some(value + 1.0))] };
    let curves = vec![close("a", 334.0), close("b", 336.0)];
    let fitted = Chart { title: "latency ms".into(), digits: 0, fitted: true, curves, ..chart.clone() };
    let behind = Chart { curves: vec![close("clock", -1110.0)], fitted: false, ..fitted.clone() };
    let (_, texts) = structure(&svg(&charts_page("", "", (at(0), at(60)), &TimeZone::UTC, &[fitted, behind], &[])));
    let labels = |wanted: &[&str]| wanted.iter().all(|wanted| texts.iter().any(|text| text == wanted));
    assert!(labels(&["334", "335", "337", "-1500", "-500"]), "{texts:?}");
    let drawn = charts_page("Slipway north sub", "", (at(0), at(60)), &TimeZone::UTC, &[chart], &[(at(20), at(30))]);
    let (elements, texts) = structure(&svg(&drawn));
    assert_eq!(elements["polyline"], 4, "two runs and two samples of the legend");
    for wanted in ["rate /s", "sent", "arrived", "no new pictures", "06:00:10", "15"] {
        assert!(texts.iter().any(|text| text == wanted), "{wanted}: {texts:?}");
    }
    let all: Vec<Page> = drawn;
    assert!(pdf(&all, "charts").unwrap().len() > 1000);
}

#[test]
fn lanes_and_flashes_have_pages_of_their_own() {
    let lane = |name: &str, bars| Lane { name: name.into(), bars };
    let lanes = [
        lane("Slipway north", vec![(at(5), at(20), EventKind::Outage), (at(40), at(41), EventKind::Stutter)]),
        lane("Fuel quay", vec![(at(5), at(20), EventKind::Outage)]),
    ];
    let (elements, texts) = structure(&svg(&lanes_page("Lanes", "", (at(0), at(60)), &TimeZone::UTC, &lanes)));
    let (less, _) = structure(&svg(&lanes_page("Lanes", "", (at(0), at(60)), &TimeZone::UTC, &lanes[..1])));
    assert_eq!(elements["rect"] - less["rect"], 1, "a bar an event");
    assert!(["Slipway north", "Fuel quay", "outage: no session"].iter().all(|wanted| texts.iter().any(|text| text == wanted)));
    let (_, texts) = structure(&svg(&lanes_page("Lanes", "", (at(0), at(60)), &TimeZone::UTC, &[])));
    assert!(texts.iter().any(|text| text.contains("Nothing happened")), "{texts:?}");
    let points: Vec<(f64, f64)> = (-2..12).map(|n| (f64::from(n) * 20.0, if n > 6 { 210.0 } else { 40.0 })).collect();
    let (elements, texts) = structure(&svg(&flashes_page("Flash probe", "", &points, 140.0, &["latency 88 ms".into()])));
    assert!(elements["rect"] >= points.len(), "{elements:?}");
    assert!(texts.iter().any(|text| text == "seen, the median: 140 ms") && texts.iter().any(|text| text == "latency 88 ms"));
}
