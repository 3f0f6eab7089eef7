//! How the pictures of a camera are shown, as the site file has it: adjustments, its lens, and what a tile shows of it.

use super::lattices::put_inline;
use super::read::{Complaint, Text, at};
use lattice_core::adjust::{Adjust, Preset, Setting};
use lattice_core::lattice::Around;
use lattice_core::lens::{Gaze, Lens, Mount, Projection};
use lattice_core::view::{MOST_TIMES, Zoom};
use serde::Deserialize;
use std::collections::BTreeMap;
use toml::Spanned;
use toml_edit::{Array, InlineTable, Table, Value};

/// A number, or on and off.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum Number {
    Whole(i64),
    Switch(bool),
}

/// Values by the words of their settings.
pub(super) type RawAdjust = Spanned<BTreeMap<Text, Spanned<Number>>>;

pub(super) fn adjust(raw: Option<RawAdjust>) -> Result<Adjust, Complaint> {
    let mut adjust = Adjust::OFF;
    for (word, value) in raw.map(Spanned::into_inner).unwrap_or_default() {
        set(&mut adjust, &word, &value)?;
    }
    Ok(adjust)
}

fn set(adjust: &mut Adjust, word: &Text, value: &Spanned<Number>) -> Result<(), Complaint> {
    let Some(setting) = Setting::from_word(word.get_ref()) else {
        let words: Vec<&str> = Setting::ALL.iter().map(|setting| setting.word()).collect();
        return Err(at(word, format!("an adjustment is one of {}", words.join(", "))));
    };
    let (least, most) = setting.range();
    let number = match (value.get_ref(), setting.is_switch()) {
        (Number::Switch(on), true) => i64::from(*on),
        (Number::Whole(number), false) if (i64::from(least)..=i64::from(most)).contains(number) => *number,
        (_, true) => return Err(at(value, format!("{} is true or false", setting.word()))),
        _ => return Err(at(value, format!("{} is {least} to {most}", setting.word()))),
    };
    adjust.set(setting, i16::try_from(number).unwrap_or_default());
    Ok(())
}

pub(super) fn write_adjust(table: &mut Table, adjust: &Adjust) {
    put_inline(table, "adjust", (!adjust.is_off()).then(|| values(adjust)));
}

fn values(adjust: &Adjust) -> InlineTable {
    let value = |(setting, value): (Setting, i16)| {
        (setting.word(), if setting.is_switch() { Value::from(value != 0) } else { Value::from(i64::from(value)) })
    };
    adjust.in_use().map(value).collect()
}

/// Adjustments with a name of the site's own.
#[derive(Deserialize)]
pub(super) struct RawPreset {
    name: Text,
    #[serde(flatten)]
    values: BTreeMap<String, toml::Value>,
}

pub(super) fn preset(raw: &RawPreset) -> Result<Preset, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a preset of adjustments needs a name"));
    }
    let mut adjust = Adjust::OFF;
    for (word, value) in &raw.values {
        let number = match value {
            toml::Value::Integer(number) => Number::Whole(*number),
            toml::Value::Boolean(on) => Number::Switch(*on),
            _ => return Err(at(&raw.name, format!("{word} of this preset is a whole number, or true or false"))),
        };
        let place = raw.name.span();
        set(&mut adjust, &Spanned::new(place.clone(), word.clone()), &Spanned::new(place, number))?;
    }
    Ok(Preset { name: raw.name.get_ref().clone(), adjust })
}

/// Another preset has this name.
pub(super) fn taken(raw: &RawPreset) -> Complaint {
    at(&raw.name, "another preset has this name already: give each its own")
}

pub(super) fn write_preset(table: &mut Table, preset: &Preset) {
    for setting in Setting::ALL {
        let value = values(&preset.adjust).get(setting.word()).cloned();
        super::document::put(table, setting.word(), value);
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawLens {
    projection: Text,
    mount: Option<Text>,
    centre: Option<[f64; 2]>,
    radius: Option<f64>,
    field: Option<u16>,
}

pub(super) fn lens(raw: Option<&Spanned<RawLens>>) -> Result<Option<Lens>, Complaint> {
    let Some(raw) = raw else { return Ok(None) };
    let RawLens { projection, mount, centre, radius, field } = raw.get_ref();
    let projection = Projection::from_word(projection.get_ref())
        .ok_or_else(|| at(projection, "the projection of a lens is equirectangular, fisheye or dual-fisheye"))?;
    let mount = match mount {
        None => Mount::default(),
        Some(word) => {
            Mount::from_word(word.get_ref()).ok_or_else(|| at(word, "a camera is mounted on a ceiling, a wall or a desk"))?
        }
    };
    let share = |share: f64| (share * 10_000.0).round().clamp(0.0, 65_535.0) as u16;
    let usual = Lens::new(projection, mount);
    let lens = Lens {
        centre: centre.map_or(usual.centre, |[x, y]| (share(x), share(y))),
        radius: radius.map_or(usual.radius, share),
        field: field.unwrap_or(usual.field),
        ..usual
    };
    lens.check().map_err(|error| at(raw, error.to_string()))?;
    Ok(Some(lens))
}

pub(super) fn write_lens(table: &mut Table, lens: Option<Lens>) {
    put_inline(
        table,
        "lens",
        lens.map(|lens| {
            let share = |share: u16| f64::from(share) / 10_000.0;
            let usual = Lens::new(lens.projection, lens.mount);
            let mut table = InlineTable::new();
            table.insert("projection", lens.projection.word().into());
            table.insert("mount", lens.mount.word().into());
            if lens != usual {
                table.insert("centre", Value::from(Array::from_iter([share(lens.centre.0), share(lens.centre.1)])));
                table.insert("radius", share(lens.radius).into());
                table.insert("field", i64::from(lens.field).into());
            }
            table
        }),
    );
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawZoom {
    times: f64,
    x: f64,
    y: f64,
}

pub(super) fn zoom(raw: Option<&Spanned<RawZoom>>) -> Result<Zoom, Complaint> {
    let Some(raw) = raw else { return Ok(Zoom::WHOLE) };
    let RawZoom { times, x, y } = raw.get_ref();
    if !((1.0..=MOST_TIMES).contains(times) && (0.0..=1.0).contains(x) && (0.0..=1.0).contains(y)) {
        return Err(at(raw, format!("a zoom is 1 to {MOST_TIMES} times, with x and y from 0 to 1 in the middle")));
    }
    Ok(Zoom::new(*times, *x, *y))
}

pub(super) fn write_zoom(table: &mut InlineTable, zoom: Zoom) {
    if !zoom.is_whole() {
        let (x, y) = zoom.middle();
        let values = [("times", zoom.times()), ("x", x), ("y", y)];
        table.insert("zoom", Value::InlineTable(values.into_iter().map(|(key, value)| (key, Value::from(value))).collect()));
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawAround {
    pan: f64,
    tilt: f64,
    #[serde(default)]
    roll: f64,
    across: f64,
    #[serde(default)]
    strip: bool,
}

pub(super) fn around(raw: Option<&Spanned<RawAround>>) -> Result<Option<Around>, Complaint> {
    let Some(raw) = raw else { return Ok(None) };
    let RawAround { pan, tilt, roll, across, strip } = raw.get_ref();
    let fits = (-180.0..=180.0).contains(pan)
        && (-90.0..=90.0).contains(tilt)
        && (-180.0..=180.0).contains(roll)
        && (10.0..=140.0).contains(across);
    if !fits {
        return Err(at(raw, "a view has pan and roll from -180 to 180, tilt from -90 to 90, and 10 to 140 degrees across"));
    }
    let gaze = Gaze::degrees(*pan, *tilt, *roll, *across);
    Ok(Some(if *strip { Around::Strip(gaze) } else { Around::Window(gaze) }))
}

pub(super) fn write_around(table: &mut InlineTable, around: Option<Around>) {
    let Some(around) = around else { return };
    let (gaze, strip) = match around {
        Around::Window(gaze) => (gaze, false),
        Around::Strip(gaze) => (gaze, true),
    };
    let [pan, tilt, roll, across] = gaze.in_degrees();
    let values = [("pan", pan), ("tilt", tilt), ("roll", roll), ("across", across)];
    let mut view: InlineTable = values.into_iter().map(|(key, value)| (key, Value::from(value))).collect();
    if strip {
        view.insert("strip", true.into());
    }
    table.insert("view", Value::InlineTable(view));
}
