//! Many addresses at once: lines, M3U playlists, CSV and what is pasted from a spreadsheet.

use super::{Reading, Refusal, Target, understand, understand_description};
use crate::Credentials;

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
    /// It is wanted as it was typed, whatever it answers.
    pub as_typed: bool,
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
        Self { target, name: None, group: None, as_typed: false }
    }
}

impl Row {
    /// Who is to be taken in by this row, where it was understood.
    #[must_use]
    pub fn newcomer(self) -> Option<Newcomer> {
        Some(Newcomer { name: self.name, group: self.group, ..Newcomer::from(self.reading.ok()?.target) })
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

/// A list as it was understood.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Listing {
    /// Its rows.
    pub rows: Vec<Row>,
    /// How the columns of a table were read: `name, address, user, password`; `None` where it is none.
    pub columns: Option<String>,
}

/// Understands a pasted list. One bad row does not spoil the others. Empty lines and lines that begin
/// with `#` are skipped.
#[must_use]
pub fn understand_list(text: &str) -> Vec<Row> {
    understand_listing(text).rows
}

/// The same, with how its columns were read.
#[must_use]
pub fn understand_listing(text: &str) -> Listing {
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with("v=0") {
        let reading = understand_description(text).map(|target| Reading { target, slips: Vec::new() });
        return Listing { rows: vec![Row { line: 1, name: None, group: None, reading }], columns: None };
    }
    let lines: Vec<&str> = text.lines().collect();
    if lines.first().is_some_and(|line| line.trim_start().starts_with("#EXTM3U"))
        || lines.iter().any(|line| line.starts_with("#EXTINF"))
    {
        return Listing { rows: playlist(&lines), columns: None };
    }
    let separator = lines.iter().find(|line| is_content(line)).and_then(|line| separator(line));
    match separator {
        Some(separator) => table(text, separator),
        None => Listing { rows: plain(&lines), columns: None },
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

/// Words over columns, in the languages that lists come in.
const NAMES: &[&str] = &[
    "name",
    "camera",
    "title",
    "label",
    "bezeichnung",
    "kamera",
    "nom",
    "caméra",
    "nombre",
    "cámara",
    "nome",
    "telecamera",
    "câmera",
    "naam",
    "nazwa",
    "имя",
    "название",
    "камера",
    "名称",
    "名前",
    "摄像机",
    "カメラ",
];
const GROUPS: &[&str] = &[
    "group",
    "site",
    "zone",
    "area",
    "location",
    "gruppe",
    "bereich",
    "standort",
    "groupe",
    "lieu",
    "grupo",
    "zona",
    "gruppo",
    "groep",
    "grupa",
    "группа",
    "место",
    "组",
    "グループ",
    "場所",
];
const ADDRESSES: &[&str] = &[
    "address",
    "url",
    "uri",
    "ip",
    "ip address",
    "host",
    "hostname",
    "stream",
    "rtsp",
    "adresse",
    "ip-adresse",
    "adresse ip",
    "dirección",
    "direccion",
    "dirección ip",
    "indirizzo",
    "indirizzo ip",
    "endereço",
    "endereço ip",
    "adres",
    "ip-adres",
    "adres ip",
    "адрес",
    "ip-адрес",
    "地址",
    "ip地址",
    "アドレス",
    "ipアドレス",
];
const PATHS: &[&str] = &["path", "pfad", "chemin", "ruta", "percorso", "caminho", "pad", "путь", "路径", "パス"];
const USERS: &[&str] = &[
    "user",
    "username",
    "user name",
    "login",
    "account",
    "benutzer",
    "benutzername",
    "utilisateur",
    "usuario",
    "usuário",
    "utente",
    "gebruiker",
    "użytkownik",
    "пользователь",
    "логин",
    "用户",
    "用户名",
    "ユーザー",
    "ユーザー名",
];
const PASSWORDS: &[&str] = &[
    "password",
    "pass",
    "pwd",
    "passwort",
    "kennwort",
    "mot de passe",
    "contraseña",
    "clave",
    "senha",
    "wachtwoord",
    "hasło",
    "пароль",
    "密码",
    "パスワード",
];

impl Header {
    /// The header that a line is, if it names an address column.
    fn of<'a>(cells: impl Iterator<Item = &'a str>) -> Option<Self> {
        let mut out = Self::default();
        for (index, cell) in cells.enumerate() {
            let cell = cell.trim().trim_matches('"').to_lowercase();
            let is = |words: &[&str]| words.contains(&cell.as_str());
            let slot = match cell.as_str() {
                "port" => &mut out.port,
                _ if is(NAMES) => &mut out.name,
                _ if is(GROUPS) => &mut out.group,
                _ if is(ADDRESSES) => &mut out.address,
                _ if is(PATHS) => &mut out.path,
                _ if is(USERS) => &mut out.user,
                _ if is(PASSWORDS) => &mut out.password,
                _ => continue,
            };
            slot.get_or_insert(index);
        }
        out.address.map(|_| out)
    }

    /// By what stands in the columns: addresses, ports and paths show; names stand before the address, or right behind it; two
    /// columns further are a sign-in.
    fn guess(rows: &[Vec<String>]) -> Self {
        let width = rows.iter().map(Vec::len).max().unwrap_or(0);
        let filled = |column: usize| rows.iter().filter_map(move |row| row.get(column)).filter(|cell| !cell.trim().is_empty());
        let share = |column: usize, is: &dyn Fn(&str) -> bool| {
            let count = filled(column).count();
            if count == 0 { 0.0 } else { filled(column).filter(|cell| is(cell.trim())).count() as f64 / count as f64 }
        };
        let mut address = 0;
        for column in 1..width {
            if share(column, &looks_like_address) > share(address, &looks_like_address) {
                address = column;
            }
        }
        let is_port = |column: &usize| share(*column, &|cell| cell.parse::<u16>().is_ok_and(|port| port > 0)) >= 1.0;
        let is_path = |column: &usize| share(*column, &|cell| cell.starts_with('/')) >= 1.0;
        let others: Vec<usize> = (0..width).filter(|column| *column != address && filled(*column).next().is_some()).collect();
        let port = others.iter().copied().find(|column| *column == address + 1).filter(is_port);
        let path = others.iter().copied().filter(|column| Some(*column) != port).find(is_path);
        let texts: Vec<usize> = others.into_iter().filter(|column| Some(*column) != port && Some(*column) != path).collect();
        let (mut before, behind): (Vec<usize>, Vec<usize>) = texts.into_iter().partition(|column| *column < address);
        // Numbers of rows are no names.
        before.retain(|column| share(*column, &|cell| cell.parse::<u64>().is_ok()) < 1.0);
        let mut behind = behind.into_iter();
        let left = behind.len();
        let name = before.first().copied().or_else(|| if left == 1 || left == 3 { behind.next() } else { None });
        let group = before.get(1).copied();
        let (user, password) = if behind.len() >= 2 { (behind.next(), behind.next()) } else { (None, None) };
        let group = group.or_else(|| behind.next());
        Self { name, group, address: Some(address), port, path, user, password }
    }

    /// The columns in words, in their order.
    fn told(self, width: usize) -> String {
        let known = [
            (self.name, "name"),
            (self.group, "group"),
            (self.address, "address"),
            (self.port, "port"),
            (self.path, "path"),
            (self.user, "user"),
            (self.password, "password"),
        ];
        let word = |column: usize| known.iter().find(|(at, _)| *at == Some(column)).map_or("not used", |(_, word)| word);
        (0..width).map(word).collect::<Vec<_>>().join(", ")
    }
}

fn looks_like_address(cell: &str) -> bool {
    let cell = cell.trim();
    let like_a_name = cell.contains(['.', ':']) && !cell.contains(' ') && cell.parse::<f64>().is_err();
    cell.contains("://") || (like_a_name && understand(cell).is_ok())
}

fn table(text: &str, separator: u8) -> Listing {
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator)
        .has_headers(false)
        .flexible(true)
        .comment(Some(b'#'))
        .from_reader(text.as_bytes());
    let mut records: Vec<(usize, Vec<String>)> = reader
        .records()
        .take(MAX_ROWS)
        .filter_map(Result::ok)
        .map(|record| {
            let line = record.position().map_or(0, |position| position.line() as usize);
            (line, record.iter().map(str::to_owned).collect::<Vec<String>>())
        })
        .filter(|(_, cells)| cells.iter().any(|cell| !cell.trim().is_empty()))
        .collect();
    let named = records.first().and_then(|(_, cells)| Header::of(cells.iter().map(String::as_str)));
    // Words over a column of addresses are a header, in whatever language.
    let is_header = |records: &[(usize, Vec<String>)]| {
        let has_address = |cells: &Vec<String>| cells.iter().any(|cell| looks_like_address(cell));
        let (first, rest) = records.split_first()?;
        (!has_address(&first.1) && !rest.is_empty() && rest.iter().all(|(_, cells)| has_address(cells))).then_some(())
    };
    if named.is_some() || is_header(&records).is_some() {
        records.remove(0);
    }
    let all: Vec<Vec<String>> = records.iter().map(|(_, cells)| cells.clone()).collect();
    let header = named.unwrap_or_else(|| Header::guess(&all));
    let width = all.iter().map(Vec::len).max().unwrap_or(0);
    let rows = records.iter().map(|(line, cells)| row(*line, cells, header)).collect();
    Listing { rows, columns: Some(header.told(width)) }
}

fn row(line: usize, cells: &[String], header: Header) -> Row {
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
    let given = cell(header.user).map(|user| Credentials::new(user, cell(header.password).unwrap_or("")));
    let reading = understand(&address).map(|reading| match given {
        Some(given) if reading.target.credentials().is_none() && !matches!(reading.target, Target::Listen { .. }) => {
            Reading { target: reading.target.with_credentials(Some(given)), ..reading }
        }
        _ => reading,
    });
    let text = |column| cell(column).map(str::to_owned);
    Row { line, name: text(header.name), group: text(header.group), reading }
}
