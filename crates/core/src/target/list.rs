//! Many addresses at once: lines, M3U playlists, CSV and what is pasted from a spreadsheet.

use super::{Reading, Refusal, Target, understand, understand_description};
use crate::{Credentials, Secret};

/// Most rows read from one list: more than any site has, and bounded.
const MAX_ROWS: usize = 10_000;

/// One row of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its line, from 1.
    pub line: usize,
    /// The name that stood beside it.
    pub name: Option<String>,
    /// The group that stood beside it.
    pub group: Option<String>,
    /// What was understood, or why nothing was.
    pub reading: Result<Reading, Refusal>,
}

/// Somebody who is to be taken in: where, and what stood beside it in a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Newcomer {
    /// Where.
    pub target: Target,
    /// The name that it shall have.
    pub name: Option<String>,
    /// The group that it shall be in.
    pub group: Option<String>,
}

impl Newcomer {
    /// The same with another sign-in.
    #[must_use]
    pub fn with_credentials(self, given: Option<Credentials>) -> Self {
        Self { target: self.target.with_credentials(given), ..self }
    }
}

impl From<Target> for Newcomer {
    fn from(target: Target) -> Self {
        Self { target, name: None, group: None }
    }
}

impl Row {
    /// Who is to be taken in by this row, where it was understood.
    #[must_use]
    pub fn newcomer(self) -> Option<Newcomer> {
        Some(Newcomer { target: self.reading.ok()?.target, name: self.name, group: self.group })
    }
}

/// Whether what was typed names a file with a list or a session description rather than an address: by its ending, or
/// because it begins like a path.
#[must_use]
pub fn names_file(text: &str) -> bool {
    let text = text.trim();
    let lower = text.to_lowercase();
    let ending = [".csv", ".tsv", ".txt", ".m3u", ".m3u8", ".sdp"].iter().any(|ending| lower.ends_with(ending));
    let begins = ["/", "./", "../", "~/"].iter().any(|begin| text.starts_with(begin));
    // What begins with a host and has a path is an address, whatever its ending.
    let host = text.split(['/', ':']).next().unwrap_or("");
    if !host.is_empty() && host.parse::<std::net::IpAddr>().is_ok() {
        return false;
    }
    let one_line = !text.is_empty() && !text.contains(['\n', '\r']);
    one_line && !text.contains("://") && (begins || ending) && !text.starts_with("//")
}

/// Understands a pasted list. One bad row does not spoil the others. Empty lines and lines that begin
/// with `#` are skipped.
#[must_use]
pub fn understand_list(text: &str) -> Vec<Row> {
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with("v=0") {
        let reading = understand_description(text).map(|target| Reading { target, slips: Vec::new() });
        return vec![Row { line: 1, name: None, group: None, reading }];
    }
    let lines: Vec<&str> = text.lines().collect();
    if lines.first().is_some_and(|line| line.trim_start().starts_with("#EXTM3U"))
        || lines.iter().any(|line| line.starts_with("#EXTINF"))
    {
        return playlist(&lines);
    }
    let separator = lines.iter().find(|line| is_content(line)).and_then(|line| separator(line));
    match separator {
        Some(separator) => table(text, separator),
        None => plain(&lines),
    }
}

fn is_content(line: &str) -> bool {
    !line.trim().is_empty() && !line.trim_start().starts_with('#')
}

fn plain(lines: &[&str]) -> Vec<Row> {
    let rows = lines.iter().enumerate().filter(|(_, line)| is_content(line)).take(MAX_ROWS);
    rows.map(|(index, line)| Row { line: index + 1, name: None, group: None, reading: understand(line) }).collect()
}

/// M3U: `#EXTINF:length attributes,name` before each address, `#EXTGRP:group` where there are groups.
fn playlist(lines: &[&str]) -> Vec<Row> {
    let (mut rows, mut name, mut group) = (Vec::new(), None, None);
    for (index, line) in lines.iter().enumerate() {
        let line = line.trim();
        if let Some(info) = line.strip_prefix("#EXTINF:") {
            name = info.split_once(',').map(|(_, name)| name.trim().to_owned()).filter(|name| !name.is_empty());
            group = attribute(info, "group-title");
        } else if let Some(title) = line.strip_prefix("#EXTGRP:") {
            group = Some(title.trim().to_owned()).filter(|title| !title.is_empty());
        } else if is_content(line) && rows.len() < MAX_ROWS {
            rows.push(Row { line: index + 1, name: name.take(), group: group.take(), reading: understand(line) });
        }
    }
    rows
}

fn attribute(info: &str, key: &str) -> Option<String> {
    let (_, rest) = info.split_once(&format!("{key}=\""))?;
    rest.split_once('"').map(|(value, _)| value.to_owned()).filter(|value| !value.is_empty())
}

/// The separator of a table, where the line is one: a tab always, comma or semicolon where the line
/// does not read as an address by itself.
fn separator(line: &str) -> Option<u8> {
    if line.trim().contains('\t') {
        return Some(b'\t');
    }
    let trimmed = line.trim().trim_end_matches([',', ';']);
    [b';', b','].into_iter().find(|separator| {
        let parts: Vec<&str> = trimmed.split(char::from(*separator)).collect();
        // A password or query may hold a separator: an address that goes on past it is no table.
        parts.len() > 1
            && (Header::of(trimmed.split(char::from(*separator))).is_some()
                || !parts.first().is_some_and(|p| p.contains("://") && trimmed.contains('@') && !p.contains('@')))
    })
}

/// Which column holds what.
#[derive(Debug, Clone, Copy, Default)]
struct Header {
    name: Option<usize>,
    group: Option<usize>,
    address: Option<usize>,
    port: Option<usize>,
    path: Option<usize>,
    user: Option<usize>,
    password: Option<usize>,
}

impl Header {
    /// The header that a line is, if it names an address column.
    fn of<'a>(cells: impl Iterator<Item = &'a str>) -> Option<Self> {
        let mut out = Self::default();
        for (index, cell) in cells.enumerate() {
            let cell = cell.trim().trim_matches('"').to_lowercase();
            let slot = match cell.as_str() {
                "name" | "camera" | "title" | "label" => &mut out.name,
                "group" | "site" | "zone" | "area" | "location" => &mut out.group,
                "address" | "url" | "uri" | "ip" | "ip address" | "host" | "hostname" | "stream" | "rtsp" => &mut out.address,
                "port" => &mut out.port,
                "path" => &mut out.path,
                "user" | "username" | "user name" | "login" | "account" => &mut out.user,
                "password" | "pass" | "pwd" => &mut out.password,
                _ => continue,
            };
            slot.get_or_insert(index);
        }
        out.address.map(|_| out)
    }

    /// Without a header: the column that reads like an address, and the first other one as the name.
    fn guess(cells: &[&str]) -> Self {
        let address = cells.iter().position(|cell| looks_like_address(cell)).unwrap_or(0);
        let name =
            (0..cells.len()).find(|index| *index != address && !cells.get(*index).is_none_or(|cell| cell.trim().is_empty()));
        Self { address: Some(address), name, ..Self::default() }
    }
}

fn looks_like_address(cell: &str) -> bool {
    cell.contains("://") || (cell.contains(['.', ':']) && !cell.trim().contains(' ') && understand(cell).is_ok())
}

fn table(text: &str, separator: u8) -> Vec<Row> {
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator)
        .has_headers(false)
        .flexible(true)
        .comment(Some(b'#'))
        .from_reader(text.as_bytes());
    let mut header: Option<Header> = None;
    let mut rows = Vec::new();
    for record in reader.records().take(MAX_ROWS) {
        let Ok(record) = record else { continue };
        let line = record.position().map_or(0, |position| position.line() as usize);
        let cells: Vec<&str> = record.iter().collect();
        if cells.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        if rows.is_empty()
            && header.is_none()
            && let Some(found) = Header::of(cells.iter().copied())
        {
            header = Some(found);
            continue;
        }
        rows.push(row(line, &cells, header.unwrap_or_else(|| Header::guess(&cells))));
    }
    rows
}

fn row(line: usize, cells: &[&str], header: Header) -> Row {
    let cell = |column: Option<usize>| {
        column.and_then(|column| cells.get(column)).map(|cell| cell.trim()).filter(|cell| !cell.is_empty())
    };
    let mut address = cell(header.address).unwrap_or("").to_owned();
    if let Some(port) = cell(header.port).filter(|_| !address.contains("://")) {
        address = format!("{address}:{port}");
    }
    if let Some(path) = cell(header.path) {
        address = format!("{}/{}", address.trim_end_matches('/'), path.trim_start_matches('/'));
    }
    let given = cell(header.user)
        .map(|user| Credentials { user: user.to_owned(), password: Secret::new(cell(header.password).unwrap_or("").to_owned()) });
    let reading = understand(&address).map(|reading| match given {
        Some(given) if reading.target.credentials().is_none() && !matches!(reading.target, Target::Listen { .. }) => {
            Reading { target: reading.target.with_credentials(Some(given)), ..reading }
        }
        _ => reading,
    });
    let text = |column| cell(column).map(str::to_owned);
    Row { line, name: text(header.name), group: text(header.group), reading }
}
