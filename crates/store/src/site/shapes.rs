//! Areas and lines that are watched in a camera's pictures, as the site file has them.

use super::lattices::put_value;
use super::read::{Complaint, Text, at};
use lattice_core::motion::{MOST_SHAPES, Outline, Place, Shape, Way};
use serde::Deserialize;
use toml::Spanned;
use toml_edit::{Array, InlineTable, Table, Value};

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawShape {
    name: Text,
    area: Option<Vec<[f64; 2]>>,
    line: Option<Vec<[f64; 2]>>,
    way: Option<Text>,
    least: Option<f64>,
}

/// Reads the shapes of a camera.
pub(super) fn shapes(raw: Option<Spanned<Vec<Spanned<RawShape>>>>) -> Result<Vec<Shape>, Complaint> {
    let Some(raw) = raw else { return Ok(Vec::new()) };
    if raw.get_ref().len() > MOST_SHAPES {
        return Err(at(&raw, format!("a camera has up to {MOST_SHAPES} areas and lines")));
    }
    let mut shapes: Vec<Shape> = Vec::new();
    for raw in raw.get_ref() {
        let shape = shape(raw)?;
        if shapes.iter().any(|other| other.name == shape.name) {
            return Err(at(raw, format!("there are two named \"{}\"", shape.name)));
        }
        shapes.push(shape);
    }
    Ok(shapes)
}

fn shape(raw: &Spanned<RawShape>) -> Result<Shape, Complaint> {
    let RawShape { name, area, line, way, least } = raw.get_ref();
    let places = |places: &[[f64; 2]]| -> Vec<Place> { places.iter().map(|[x, y]| (*x, *y)).collect() };
    let outline = match (area, line, way) {
        (Some(corners), None, None) => Outline::Area(places(corners)),
        (Some(_), None, Some(way)) => return Err(at(way, "an area has no way: only lines are crossed one way or the other")),
        (None, Some(bends), way) => {
            let way = match way {
                None => Way::Both,
                Some(word) => Way::from_word(word.get_ref())
                    .ok_or_else(|| at(word, "the way over a line is both, to-the-right or to-the-left"))?,
            };
            Outline::Line(places(bends), way)
        }
        _ => {
            return Err(at(
                raw,
                "what is watched is an area or a line, like { name = \"gate\", line = [[0.2, 0.5], [0.8, 0.5]] }",
            ));
        }
    };
    let shape = Shape { name: name.get_ref().trim().to_owned(), outline, least: least.unwrap_or_default() };
    shape.check().map_err(|error| at(raw, error.to_string()))?;
    Ok(shape)
}

/// Writes them; nothing where there are none.
pub(super) fn write_shapes(table: &mut Table, shapes: &[Shape]) {
    let all: Array = shapes.iter().map(written).collect();
    put_value(table, "watch", (!all.is_empty()).then_some(Value::Array(all)));
}

fn written(shape: &Shape) -> InlineTable {
    let share = |share: f64| (share * 10_000.0).round() / 10_000.0;
    let places: Array = shape.outline.places().iter().map(|(x, y)| Array::from_iter([share(*x), share(*y)])).collect();
    let mut table = InlineTable::new();
    table.insert("name", shape.name.as_str().into());
    match &shape.outline {
        Outline::Area(_) => table.insert("area", places.into()),
        Outline::Line(_, way) => {
            if *way != Way::Both {
                table.insert("way", way.word().into());
            }
            table.insert("line", places.into())
        }
    };
    if shape.least > 0.0 {
        table.insert("least", share(shape.least).into());
    }
    table
}
