//! Lattices, tours and screens in the site file.

use super::document::put;
use super::looks::{self, RawAround, RawZoom};
use super::read::{Complaint, Text, at, complain, parser_complaint};
use super::{Site, SiteError};
use lattice_core::Role;
use lattice_core::lattice::{Aspect, Lattice, Placed};
use lattice_core::layout::{Layout, MAX_PLACES, Place, Places};
use serde::Deserialize;
use std::path::Path;
use std::time::Duration;
use toml::Spanned;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Table, Value};

/// Most tiles that a lattice may have through all its pages.
pub const MAX_TILES: usize = 4096;
/// Most stops of a tour.
const MAX_STOPS: usize = 1000;

/// Where a tour stops.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stop {
    /// The lattice shown.
    pub lattice: String,
    /// Its page, from 0; every page one after the other for `None`.
    pub page: Option<usize>,
    /// For how long.
    pub dwell: Duration,
}

/// Lattices shown one after the other.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tour {
    /// Its name.
    pub name: String,
    /// Where it stops; one at least.
    pub stops: Vec<Stop>,
    /// Cameras in trouble come to the front while it runs.
    pub trouble_first: bool,
}

/// A monitor, a terminal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Screen {
    /// Its name.
    pub name: String,
    /// The lattice or tour that it begins with; all cameras for `None`.
    pub shows: Option<String>,
}

/// How long a tour stays at a stop, unless it says otherwise.
pub const DWELL: Duration = Duration::from_secs(20);

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawLattice {
    pub(super) name: Text,
    layout: Option<Text>,
    places: Option<Spanned<Vec<[u8; 4]>>>,
    tiles: Option<Spanned<Vec<RawTile>>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawTile {
    camera: Option<Text>,
    aspect: Option<Text>,
    hold: Option<Text>,
    #[serde(default)]
    marked: bool,
    zoom: Option<Spanned<RawZoom>>,
    view: Option<Spanned<RawAround>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawTour {
    name: Text,
    #[serde(default)]
    trouble_first: bool,
    stops: Spanned<Vec<RawStop>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct RawStop {
    lattice: Text,
    page: Option<Spanned<usize>>,
    seconds: Option<Spanned<f64>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawScreen {
    name: Text,
    shows: Option<Text>,
}

pub(super) fn lattice(raw: RawLattice) -> Result<Lattice, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a lattice needs a name"));
    }
    let layout = match (&raw.layout, &raw.places) {
        (Some(text), None) => Layout::from_word(text.get_ref()).ok_or_else(|| {
            at(text, format!("the layout is like \"even 9\" (1 to {MAX_PLACES} places) or one of {}", Layout::preset_words()))
        })?,
        (None, Some(places)) => {
            let list = places.get_ref().iter().map(|[x, y, width, height]| Place::new(*x, *y, *width, *height)).collect();
            Layout::Hand(Places::new(list).map_err(|error| at(places, error.to_string()))?)
        }
        (Some(text), Some(_)) => return Err(at(text, "a lattice has a layout or places, not both")),
        (None, None) => Layout::even(raw.tiles.as_ref().map_or(1, |tiles| tiles.get_ref().len())),
    };
    if let Some(tiles) = raw.tiles.as_ref().filter(|tiles| tiles.get_ref().len() > MAX_TILES) {
        return Err(at(tiles, format!("a lattice has at most {MAX_TILES} tiles: make two of it")));
    }
    let tiles = raw.tiles.map(Spanned::into_inner).unwrap_or_default();
    let tiles = tiles.into_iter().map(tile).collect::<Result<Vec<_>, _>>()?;
    Ok(Lattice::new(raw.name.into_inner(), layout).with_tiles(tiles))
}

fn tile(raw: RawTile) -> Result<Option<Placed>, Complaint> {
    let Some(camera) = raw.camera else { return Ok(None) };
    let aspect = match &raw.aspect {
        None => Aspect::default(),
        Some(text) => Aspect::from_word(text.get_ref()).ok_or_else(|| at(text, "the aspect is fit, fill or stretch"))?,
    };
    let hold = match &raw.hold {
        None => None,
        Some(text) => {
            let role = Role::from_word(text.get_ref()).ok_or_else(|| at(text, "a tile is held on main, sub or third"))?;
            Some(role)
        }
    };
    let zoom = looks::zoom(raw.zoom.as_ref())?;
    let around = looks::around(raw.view.as_ref())?;
    Ok(Some(Placed { camera: camera.into_inner(), aspect, hold, marked: raw.marked, zoom, around }))
}

/// A name for another lattice of a site: the wanted one, with a number where that is taken.
#[must_use]
pub fn free_lattice_name(site: &Site, wanted: &str) -> String {
    let numbered = (2..).map(|n| format!("{wanted} {n}"));
    std::iter::once(wanted.to_owned()).chain(numbered).find(|name| site.lattice(name).is_none()).unwrap_or_default()
}

/// Lattices in a file of their own.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    #[serde(default, rename = "lattice")]
    lattices: Vec<RawLattice>,
}

/// A lattice as the text of a file of its own: a `[[lattice]]` as it stands in a site.
#[must_use]
pub fn export_lattice(lattice: &Lattice) -> String {
    let mut table = Table::new();
    table.insert("name", toml_edit::value(lattice.name.as_str()));
    write(&mut table, lattice);
    let mut tables = ArrayOfTables::new();
    tables.push(table);
    let mut document = DocumentMut::new();
    document.insert("lattice", toml_edit::Item::ArrayOfTables(tables));
    format!("# A lattice of amber-lattice. The schema is in docs/SITE.md.\n\n{document}")
}

/// Reads what [`export_lattice`] wrote, or any file with `[[lattice]]` tables and nothing else; at least one.
///
/// # Errors
/// When the file cannot be read, or is not understood: by line and column.
pub fn import_lattices(path: &Path) -> Result<Vec<Lattice>, SiteError> {
    let text = std::fs::read_to_string(path)
        .map_err(|error| SiteError::Refused(format!("{} cannot be read: {error}", path.display())))?;
    let raw: RawFile = toml::from_str(&text).map_err(|error| parser_complaint(path, &text, &error))?;
    let lattices = raw.lattices.into_iter().map(lattice).collect::<Result<Vec<_>, _>>();
    let lattices = lattices.map_err(|complaint| complain(path, &text, &complaint))?;
    if lattices.is_empty() {
        return Err(SiteError::Refused(format!("{} holds no [[lattice]]", path.display())));
    }
    Ok(lattices)
}

pub(super) fn tour(site: &Site, raw: RawTour) -> Result<Tour, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a tour needs a name"));
    }
    if raw.stops.get_ref().is_empty() || raw.stops.get_ref().len() > MAX_STOPS {
        return Err(at(&raw.stops, format!("a tour has 1 to {MAX_STOPS} stops")));
    }
    let stop = |raw: RawStop| {
        let name = raw.lattice.get_ref();
        if site.lattice(name).is_none() {
            return Err(at(&raw.lattice, format!("there is no [[lattice]] with the name {name:?}")));
        }
        let page = match &raw.page {
            None => None,
            Some(page) if *page.get_ref() == 0 => return Err(at(page, "pages are counted from 1")),
            Some(page) => Some(page.get_ref() - 1),
        };
        let dwell = match &raw.seconds {
            None => DWELL,
            Some(seconds) if (2.0..=86_400.0).contains(seconds.get_ref()) => Duration::from_secs_f64(*seconds.get_ref()),
            Some(seconds) => return Err(at(seconds, "a tour stays 2 to 86400 seconds at a stop")),
        };
        Ok(Stop { lattice: name.clone(), page, dwell })
    };
    let stops = raw.stops.into_inner().into_iter().map(stop).collect::<Result<Vec<_>, _>>()?;
    Ok(Tour { name: raw.name.into_inner(), stops, trouble_first: raw.trouble_first })
}

pub(super) fn screen(site: &Site, raw: RawScreen) -> Result<Screen, Complaint> {
    if raw.name.get_ref().trim().is_empty() {
        return Err(at(&raw.name, "a screen needs a name"));
    }
    if let Some(shows) =
        raw.shows.as_ref().filter(|shows| site.lattice(shows.get_ref()).is_none() && site.tour(shows.get_ref()).is_none())
    {
        return Err(at(shows, format!("there is no [[lattice]] or [[tour]] with the name {:?}", shows.get_ref())));
    }
    Ok(Screen { name: raw.name.into_inner(), shows: raw.shows.map(Spanned::into_inner) })
}

/// Writes a lattice; what is the same already is not touched.
pub(super) fn write(table: &mut Table, lattice: &Lattice) {
    let by_hand = match lattice.layout() {
        Layout::Hand(places) => Some(places),
        Layout::Even(_) | Layout::Preset(_) => None,
    };
    put(table, "layout", by_hand.is_none().then(|| lattice.layout().word().into()));
    let units = |place: &Place| Value::from(Array::from_iter([place.x, place.y, place.width, place.height].map(i64::from)));
    put(table, "places", by_hand.map(|places| places.as_slice().iter().map(units).collect::<Array>().into()));
    let mut tiles: Array = lattice.tiles().iter().map(|tile| Value::from(tile_table(tile.as_ref()))).collect();
    for tile in tiles.iter_mut() {
        tile.decor_mut().set_prefix("\n  ");
    }
    tiles.set_trailing(if tiles.is_empty() { "" } else { "\n" });
    tiles.set_trailing_comma(!tiles.is_empty());
    put(table, "tiles", Some(tiles.into()));
}

/// Sets, changes or takes away a table in one line.
pub(super) fn put_value(table: &mut Table, key: &str, wanted: Option<Value>) {
    put(table, key, wanted);
}

pub(super) fn put_inline(table: &mut Table, key: &str, wanted: Option<InlineTable>) {
    put(table, key, wanted.map(Value::InlineTable));
}

fn tile_table(placed: Option<&Placed>) -> InlineTable {
    let mut table = InlineTable::new();
    let Some(placed) = placed else { return table };
    table.insert("camera", placed.camera.as_str().into());
    if placed.aspect != Aspect::default() {
        table.insert("aspect", placed.aspect.word().into());
    }
    if let Some(role) = placed.hold {
        table.insert("hold", role.word().into());
    }
    if placed.marked {
        table.insert("marked", true.into());
    }
    looks::write_zoom(&mut table, placed.zoom);
    looks::write_around(&mut table, placed.around);
    table
}
