//! The file itself: read, changed in place, written at once or not at all.

use super::read::read;
use super::{Camera, CertificateTrust, PasswordSource, SignIn, Site, SiteError, Stream};
use super::{lattices, looks, shapes};
use crate::atomic;
use lattice_core::TransportChoice;
use lattice_core::adjust::Preset;
use lattice_core::lattice::Lattice;
use lattice_core::target::Target;
use std::io;
use std::path::{Path, PathBuf};
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, value};

/// A site file, with what it means.
#[derive(Debug, Clone)]
pub struct SiteFile {
    path: PathBuf,
    /// The text as it was last read or written; `None` while there is no file.
    on_disk: Option<String>,
    document: DocumentMut,
    site: Site,
}

const HEAD: &str = "# The site of amber-lattice: cameras, and how they are reached. The schema is in docs/SITE.md.\n\
                    # You may edit this file while the program runs; comments and order stay as they are.\n\n";

impl SiteFile {
    /// Reads a file; one that is not there is an empty site, and is made at the first change.
    ///
    /// # Errors
    /// [`SiteError`]; a file that is not understood is never written over.
    pub fn open(path: &Path) -> Result<Self, SiteError> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => Some(text),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(source) => return Err(SiteError::Io { path: path.to_owned(), attempted: "read", source }),
        };
        Self::from_text(path, text)
    }

    fn from_text(path: &Path, text: Option<String>) -> Result<Self, SiteError> {
        let content = text.clone().unwrap_or_default();
        let site = read(path, &content)?;
        let document = content.parse().map_err(|error: toml_edit::TomlError| SiteError::Content {
            path: path.to_owned(),
            line: 1,
            column: 1,
            what: error.message().to_owned(),
        })?;
        Ok(Self { path: path.to_owned(), on_disk: text, document, site })
    }

    /// What it means.
    #[must_use]
    pub const fn site(&self) -> &Site {
        &self.site
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether there is a file.
    #[must_use]
    pub const fn exists(&self) -> bool {
        self.on_disk.is_some()
    }

    /// Reads the file again if somebody changed it; true when the site is another now.
    ///
    /// # Errors
    /// [`SiteError`] when it is not understood; the site stays as it was.
    pub fn reload(&mut self) -> Result<bool, SiteError> {
        let now = Self::open(&self.path)?;
        if now.on_disk == self.on_disk {
            return Ok(false);
        }
        let changed = now.site != self.site;
        *self = now;
        Ok(changed)
    }

    /// Makes one or more changes and writes the file. Either all of them are made and written, or none.
    ///
    /// # Errors
    /// [`SiteError::ChangedElsewhere`] when the file is not the one that was read, [`SiteError::Content`] when it cannot be
    /// read any more, [`SiteError::Refused`] for a change
    /// that the site cannot take.
    pub fn change(&mut self, changes: impl FnOnce(&mut Editor<'_>) -> Result<(), SiteError>) -> Result<(), SiteError> {
        // From reading to writing nobody else writes.
        let _lock = atomic::alone(&self.path);
        let on_disk = match std::fs::read_to_string(&self.path) {
            Ok(text) => Some(text),
            Err(error) if error.kind() == io::ErrorKind::NotFound => None,
            Err(source) => return Err(SiteError::Io { path: self.path.clone(), attempted: "read", source }),
        };
        if on_disk != self.on_disk {
            // What is wrong with it is what its editor must know.
            read(&self.path, on_disk.as_deref().unwrap_or_default())?;
            return Err(SiteError::ChangedElsewhere { path: self.path.clone() });
        }
        let mut document = self.document.clone();
        changes(&mut Editor { document: &mut document })?;
        let mut text = document.to_string();
        if self.on_disk.is_none() {
            text.insert_str(0, HEAD);
            document = text.parse().unwrap_or(document);
        }
        let site = read(&self.path, &text).map_err(|error| match error {
            SiteError::Content { what, .. } => SiteError::Refused(what),
            other => other,
        })?;
        let io = |source| SiteError::Io { path: self.path.clone(), attempted: "written", source };
        atomic::replace(&self.path, text.as_bytes(), 0o644).map_err(io)?;
        (self.document, self.site, self.on_disk) = (document, site, Some(text));
        Ok(())
    }
}

/// Changes to a site file that is open for them.
pub struct Editor<'a> {
    document: &'a mut DocumentMut,
}

impl Editor<'_> {
    /// Names the site.
    pub fn name_site(&mut self, name: &str) {
        put(self.document.as_table_mut(), "name", Some(name.into()));
    }

    /// Adds a camera at the end, or replaces the one of the same name.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn put_camera(&mut self, camera: &Camera) -> Result<(), SiteError> {
        let table = self.entry("camera", &camera.name)?;
        write_camera(table, camera);
        Ok(())
    }

    /// Adds a sign-in, or replaces the one of the same name.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn put_sign_in(&mut self, sign_in: &SignIn) -> Result<(), SiteError> {
        let table = self.entry("sign-in", &sign_in.name)?;
        put(table, "user", Some(sign_in.user.as_str().into()));
        let password = match &sign_in.password {
            PasswordSource::Kept => None,
            PasswordSource::Environment(name) => Some(format!("env:{name}").into()),
        };
        put(table, "password", password);
        Ok(())
    }

    /// Adds a lattice at the end, or replaces the one of the same name.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn put_lattice(&mut self, lattice: &Lattice) -> Result<(), SiteError> {
        let table = self.entry("lattice", &lattice.name)?;
        lattices::write(table, lattice);
        Ok(())
    }

    /// Adds a preset of adjustments, or replaces the one of the same name.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn put_preset(&mut self, preset: &Preset) -> Result<(), SiteError> {
        let table = self.entry("preset", &preset.name)?;
        looks::write_preset(table, preset);
        Ok(())
    }

    /// Takes a preset of adjustments out; where there is none of this name, nothing is changed.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn remove_preset(&mut self, name: &str) -> Result<(), SiteError> {
        if let Some(index) = self.index("preset", name)
            && let Some(tables) = self.tables("preset")?
        {
            tables.remove(index);
        }
        Ok(())
    }

    /// Takes a sign-in out; where there is none of this name, nothing is changed.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn remove_sign_in(&mut self, name: &str) -> Result<(), SiteError> {
        if let Some(index) = self.index("sign-in", name)
            && let Some(tables) = self.tables("sign-in")?
        {
            tables.remove(index);
        }
        Ok(())
    }

    /// Takes a lattice out, and the stops of tours that show it. A tour without a stop is taken out as well, and a
    /// screen that showed what is gone shows all cameras.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn remove_lattice(&mut self, name: &str) -> Result<(), SiteError> {
        if let Some(index) = self.index("lattice", name)
            && let Some(tables) = self.tables("lattice")?
        {
            tables.remove(index);
        }
        let mut gone = vec![name.to_owned()];
        if let Some(tours) = self.tables("tour")? {
            for tour in tours.iter_mut() {
                if let Some(stops) = tour.get_mut("stops").and_then(Item::as_array_mut) {
                    stops.retain(|stop| stop_of(stop) != Some(name));
                    if stops.is_empty() {
                        gone.extend(tour.get("name").and_then(Item::as_str).map(str::to_owned));
                    }
                }
            }
            tours.retain(|tour| tour.get("stops").and_then(Item::as_array).is_none_or(|stops| !stops.is_empty()));
        }
        if let Some(screens) = self.tables("screen")? {
            for screen in screens.iter_mut() {
                if screen.get("shows").and_then(Item::as_str).is_some_and(|shows| gone.iter().any(|name| name == shows)) {
                    put(screen, "shows", None);
                }
            }
        }
        Ok(())
    }

    /// Gives a lattice another name, and tells the tours and screens that show it.
    ///
    /// # Errors
    /// [`SiteError::Refused`] when the name is taken.
    pub fn rename_lattice(&mut self, from: &str, to: &str) -> Result<(), SiteError> {
        if from != to && self.index("lattice", to).is_some() {
            return Err(SiteError::Refused(format!("another lattice is called {to:?} already")));
        }
        for (key, field) in [("lattice", "name"), ("screen", "shows")] {
            for table in self.tables(key)?.into_iter().flat_map(ArrayOfTables::iter_mut) {
                if table.get(field).and_then(Item::as_str) == Some(from) {
                    put(table, field, Some(to.into()));
                }
            }
        }
        for tour in self.tables("tour")?.into_iter().flat_map(ArrayOfTables::iter_mut) {
            for stop in tour.get_mut("stops").and_then(Item::as_array_mut).into_iter().flat_map(toml_edit::Array::iter_mut) {
                if stop_of(stop) == Some(from)
                    && let Some(stop) = stop.as_inline_table_mut()
                {
                    stop.insert("lattice", to.into());
                }
            }
        }
        Ok(())
    }

    /// Puts the lattices into this order; those that are not named stay behind them.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn order_lattices(&mut self, names: &[&str]) -> Result<(), SiteError> {
        self.order("lattice", names)
    }

    /// Puts the cameras into this order; those that are not named stay behind them.
    ///
    /// # Errors
    /// [`SiteError::Refused`].
    pub fn order_cameras(&mut self, names: &[&str]) -> Result<(), SiteError> {
        self.order("camera", names)
    }

    fn order(&mut self, key: &str, names: &[&str]) -> Result<(), SiteError> {
        let place = |table: &Table| {
            let name = table.get("name").and_then(Item::as_str).unwrap_or_default();
            names.iter().position(|one| *one == name).unwrap_or(names.len())
        };
        let Some(tables) = self.tables(key)? else { return Ok(()) };
        let mut sorted: Vec<Table> = tables.iter().cloned().collect();
        if sorted.is_sorted_by_key(&place) {
            return Ok(());
        }
        sorted.sort_by_key(&place);
        // A table is written where its position says, those within it as well: they are given out anew in the new order.
        let mut positions = Vec::new();
        for table in &mut sorted {
            each_position(table, &mut |position| positions.extend(*position));
        }
        positions.sort_unstable();
        let last = positions.last().copied();
        let mut next = positions.into_iter();
        for table in &mut sorted {
            each_position(table, &mut |position| *position = next.next().or(last));
        }
        tables.clear();
        for table in sorted {
            tables.push(table);
        }
        Ok(())
    }

    /// Takes a camera out; what hangs under it as a recorder hangs under nothing then.
    ///
    /// # Errors
    /// [`SiteError::Refused`] when it is not there.
    pub fn remove_camera(&mut self, name: &str) -> Result<(), SiteError> {
        let index = self.index("camera", name).ok_or_else(|| missing(name))?;
        if let Some(tables) = self.tables("camera")? {
            tables.remove(index);
        }
        Ok(())
    }

    /// Gives a camera another name, and tells those that refer to it.
    ///
    /// # Errors
    /// [`SiteError::Refused`] when it is not there or the name is taken.
    pub fn rename_camera(&mut self, from: &str, to: &str) -> Result<(), SiteError> {
        if from != to && self.index("camera", to).is_some() {
            return Err(SiteError::Refused(format!("another camera is called {to:?} already")));
        }
        let index = self.index("camera", from).ok_or_else(|| missing(from))?;
        let Some(tables) = self.tables("camera")? else { return Err(missing(from)) };
        for (n, table) in tables.iter_mut().enumerate() {
            if n == index {
                put(table, "name", Some(to.into()));
            }
            if table.get("recorder").and_then(Item::as_str) == Some(from) {
                put(table, "recorder", Some(to.into()));
            }
        }
        for which in ["thresholds", "rule"] {
            for table in self.tables(which)?.into_iter().flat_map(ArrayOfTables::iter_mut) {
                if table.get("camera").and_then(Item::as_str) == Some(from) {
                    put(table, "camera", Some(to.into()));
                }
            }
        }
        for lattice in self.tables("lattice")?.into_iter().flat_map(ArrayOfTables::iter_mut) {
            for tile in lattice.get_mut("tiles").and_then(Item::as_array_mut).into_iter().flat_map(toml_edit::Array::iter_mut) {
                if let Some(camera) = tile.as_inline_table_mut().and_then(|tile| tile.get_mut("camera"))
                    && camera.as_str() == Some(from)
                {
                    *camera = to.into();
                }
            }
        }
        Ok(())
    }

    fn tables(&mut self, key: &str) -> Result<Option<&mut ArrayOfTables>, SiteError> {
        match self.document.get_mut(key) {
            None => Ok(None),
            Some(Item::ArrayOfTables(tables)) => Ok(Some(tables)),
            Some(_) => Err(SiteError::Refused(format!(
                "the {key} entries are written in one line: write them as [[{key}]] to let the program change them"
            ))),
        }
    }

    fn index(&self, key: &str, name: &str) -> Option<usize> {
        let tables = self.document.get(key)?.as_array_of_tables()?;
        tables.iter().position(|table| table.get("name").and_then(Item::as_str) == Some(name))
    }

    fn entry(&mut self, key: &str, name: &str) -> Result<&mut Table, SiteError> {
        let index = self.index(key, name);
        if self.tables(key)?.is_none() {
            self.document.insert(key, Item::ArrayOfTables(ArrayOfTables::new()));
        }
        let refused = || SiteError::Refused(format!("no place for {name:?} in the file"));
        let tables = self.tables(key)?.ok_or_else(refused)?;
        let index = index.unwrap_or_else(|| {
            let mut table = Table::new();
            table.insert("name", value(name));
            tables.push(table);
            tables.len() - 1
        });
        tables.get_mut(index).ok_or_else(refused)
    }
}

/// The lattice that a stop of a tour shows.
fn stop_of(stop: &toml_edit::Value) -> Option<&str> {
    stop.as_inline_table()?.get("lattice")?.as_str()
}

/// The positions of a table and of the tables within it, in the order in which they are written.
fn each_position(table: &mut Table, see: &mut impl FnMut(&mut Option<isize>)) {
    let mut position = table.position();
    see(&mut position);
    table.set_position(position);
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(within) if !within.is_dotted() => each_position(within, see),
            Item::ArrayOfTables(within) => within.iter_mut().for_each(|table| each_position(table, see)),
            _ => {}
        }
    }
}

fn missing(name: &str) -> SiteError {
    SiteError::Refused(format!("there is no camera called {name:?}"))
}

/// Sets, changes or takes away a value; its remarks stay, and one that is the same already is not touched.
pub(super) fn put(table: &mut Table, key: &str, wanted: Option<toml_edit::Value>) {
    let Some(wanted) = wanted else {
        table.remove(key);
        return;
    };
    match table.get_mut(key).and_then(Item::as_value_mut) {
        Some(have) if have.clone().decorated("", "").to_string() == wanted.clone().decorated("", "").to_string() => {}
        Some(have) => {
            let decor = have.decor().clone();
            *have = wanted;
            *have.decor_mut() = decor;
        }
        None => {
            table.insert(key, Item::Value(wanted));
        }
    }
}

fn write_camera(table: &mut Table, camera: &Camera) {
    let text = |text: &Option<String>| text.as_deref().map(Into::into);
    put(table, "group", text(&camera.group));
    put(table, "address", text(&camera.address));
    put(table, "service-port", camera.service_port.map(|port| i64::from(port).into()));
    put(table, "sign-in", text(&camera.sign_in));
    put(table, "recorder", text(&camera.recorder));
    put(table, "channel", camera.channel.map(|channel| i64::from(channel).into()));
    put(table, "enabled", camera.disabled.then(|| false.into()));
    let transport = match camera.transport {
        TransportChoice::Auto => None,
        TransportChoice::Udp => Some("udp".into()),
        TransportChoice::Tcp => Some("tcp".into()),
    };
    put(table, "transport", transport);
    let trust = match &camera.trust {
        CertificateTrust::Verify => None,
        CertificateTrust::Off => Some("off".into()),
        CertificateTrust::Pinned(hex) => Some(format!("sha256:{hex}").into()),
    };
    put(table, "trust", trust);
    put(table, "encrypted", camera.encrypted.then(|| true.into()));
    put(table, "password-readable", camera.password_readable.then(|| true.into()));
    put(table, "sound", camera.sound.map(Into::into));
    put(table, "viewers", camera.viewers.map(|viewers| i64::from(viewers).into()));
    put(table, "link", camera.link.map(|link| (link.0 / 1e6).into()));
    put(table, "device-name", text(&camera.device_name));
    put(table, "maker", text(&camera.maker));
    put(table, "model", text(&camera.model));
    put(table, "firmware", text(&camera.firmware));
    put(table, "serial", text(&camera.serial));
    looks::write_adjust(table, &camera.adjust);
    looks::write_lens(table, camera.lens);
    shapes::write_shapes(table, &camera.watch);
    write_streams(table, &camera.streams);
}

/// Streams are told apart by their role, so that a remark beside one stays beside it.
fn write_streams(table: &mut Table, streams: &[Stream]) {
    if streams.is_empty() {
        table.remove("stream");
        return;
    }
    if table.get("stream").and_then(Item::as_array_of_tables).is_none() {
        table.insert("stream", Item::ArrayOfTables(ArrayOfTables::new()));
    }
    let Some(tables) = table.get_mut("stream").and_then(Item::as_array_of_tables_mut) else { return };
    let role = |table: &Table| table.get("role").and_then(Item::as_str).map(str::to_owned);
    tables.retain(|table| streams.iter().any(|stream| role(table).as_deref() == Some(stream.role.word())));
    for stream in streams {
        let index = tables.iter().position(|table| role(table).as_deref() == Some(stream.role.word()));
        let index = index.unwrap_or_else(|| {
            let mut table = Table::new();
            table.insert("role", value(stream.role.word()));
            tables.push(table);
            tables.len() - 1
        });
        if let Some(table) = tables.get_mut(index) {
            let target = stream.target.clone().with_credentials(None);
            put(table, "url", Some(target.to_string().into()));
            let description = match &stream.target {
                Target::Listen { description, .. } => description.as_deref(),
                Target::Device { .. } | Target::Url(_) => None,
            };
            put(table, "sdp", description.map(Into::into));
            put(table, "interval", stream.interval.map(|interval| interval.as_secs_f64().into()));
            put(table, "buffer", stream.buffer.map(|buffer| (buffer.as_millis() as i64).into()));
        }
    }
}

#[cfg(test)]
mod tests;
