//! Pictures by the kitty graphics protocol: through shared memory, or inline and compressed.
//!
//! Of the protocol this uses transmission of 24-bit pixels (`a=t`), placements of parts of them (`a=p`), and deletion. A
//! tile has two images by turns: the next picture is placed before the last one goes, so that there is one at any moment.
//! Pictures stand over the text; where something is said
//! over one, that part of it is not placed.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use flate2::Compression;
use flate2::write::ZlibEncoder;
use ratatui::layout::Rect;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Mutex, PoisonError};

/// Inline data goes out in pieces of this size.
const PIECE: usize = 4096;
/// Images are numbered from here, away from those of whoever used the terminal before. Only the highest and the lowest byte
/// tell them apart, as placeholders have room for no more.
const FIRST_IMAGE: u32 = 0xa300_0010;
/// Objects that were given and not fetched, at most: a terminal that fetches none gets no more.
const GIVEN: usize = 64;

/// Shared memory that was given to the terminal; it takes the name away when it has fetched it.
static OBJECTS: Mutex<BTreeSet<String>> = Mutex::new(BTreeSet::new());
static NEXT: AtomicU32 = AtomicU32::new(0);
/// Something was placed, so that there is something to be taken away.
static PLACED: AtomicBool = AtomicBool::new(false);
/// Tests that fill shared memory, or look what is in it, take turns.
#[cfg(test)]
pub static IN_TURN: Mutex<()> = Mutex::new(());

/// A picture to be sent.
#[derive(Debug, Clone, Copy)]
pub struct Sent<'a> {
    /// Red, green, blue.
    pub rgb: &'a [u8],
    /// Pixels across and down.
    pub size: (usize, usize),
    /// Where it belongs.
    pub turn: Turn,
    /// That image stands there already, with as many pixels: only these are replaced.
    pub again: bool,
}

/// One of the two images of a tile.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Turn {
    /// The tile's number.
    pub tile: u32,
    /// The second one.
    pub second: bool,
}

impl Turn {
    pub(super) const fn image(self) -> u32 {
        FIRST_IMAGE + (self.tile * 2 + self.second as u32) % 240
    }

    /// The other one.
    #[must_use]
    pub const fn other(self) -> Self {
        Self { second: !self.second, ..self }
    }
}

fn keys(sent: &Sent<'_>) -> String {
    let (width, height) = sent.size;
    // To replace pixels is to edit the first frame of an animation.
    let action = if sent.again { "a=f,r=1,X=1" } else { "a=t" };
    format!("{action},q=2,f=24,s={width},v={height},i={}", sent.turn.image())
}

/// Places parts of a tile's picture: each part in cells of the picture, which
/// is `cells` columns and rows large at `at`, and has so many pixels.
///
/// # Errors
/// When it cannot be written.
pub fn place(out: &mut impl Write, turn: Turn, parts: &[Rect], at: Rect, size: (usize, usize)) -> io::Result<()> {
    let image = turn.image();
    PLACED.store(true, Ordering::Relaxed);
    let across = |column: u16| usize::from(column) * size.0 / usize::from(at.width.max(1));
    let down = |row: u16| usize::from(row) * size.1 / usize::from(at.height.max(1));
    for (n, part) in (1..).zip(parts) {
        let (x, y) = (across(part.x), down(part.y));
        let (w, h) = ((across(part.right()) - x).max(1), (down(part.bottom()) - y).max(1));
        let (column, row) = (at.x + part.x + 1, at.y + part.y + 1);
        write!(out, "\x1b[{row};{column}H\x1b_Ga=p,q=2,i={image},p={n},x={x},y={y},w={w},h={h},")?;
        write!(out, "c={},r={},C=1;\x1b\\", part.width, part.height)?;
    }
    Ok(())
}

fn name_of(number: u32) -> String {
    let owner = match OWNER.load(Ordering::Relaxed) {
        0 => std::process::id(),
        owner => owner,
    };
    format!("/amber-lattice-{owner}-{number}")
}

/// Bytes in a new object of shared memory; gives its name.
///
/// # Errors
/// When there is no room, or no shared memory.
pub fn share(bytes: &[u8]) -> io::Result<String> {
    use rustix::shm::{Mode, OFlags, open, unlink};
    let given = unfetched();
    let mut objects = OBJECTS.lock().unwrap_or_else(PoisonError::into_inner);
    if given >= GIVEN {
        return Err(io::Error::other("the terminal fetches no shared memory"));
    }
    let name = name_of(NEXT.fetch_add(1, Ordering::Relaxed));
    let object = open(name.as_str(), OFlags::CREATE | OFlags::EXCL | OFlags::RDWR, Mode::RUSR | Mode::WUSR)?;
    objects.insert(name.clone());
    let written = File::from(object).write_all(bytes);
    if let Err(error) = written {
        let _ = unlink(name.as_str());
        objects.remove(&name);
        return Err(error);
    }
    Ok(name)
}

/// The process that objects of shared memory are named after, where that is not this one; 0 is this one.
static OWNER: AtomicU32 = AtomicU32::new(0);

/// Objects of shared memory are named after this process from now on: they are swept away when it is gone.
pub fn name_after(process: u32) {
    OWNER.store(process, Ordering::Relaxed);
}

/// Pictures that the terminal has not fetched yet.
pub fn unfetched() -> usize {
    use rustix::shm::{Mode, OFlags, open};
    let mut objects = OBJECTS.lock().unwrap_or_else(PoisonError::into_inner);
    objects.retain(|name| open(name.as_str(), OFlags::RDONLY, Mode::empty()).is_ok());
    objects.len()
}

/// Takes away what the terminal has not fetched.
pub fn forget_shared() {
    for name in std::mem::take(&mut *OBJECTS.lock().unwrap_or_else(PoisonError::into_inner)) {
        let _ = rustix::shm::unlink(name.as_str());
    }
}

/// Takes away what programs left behind that were killed.
pub fn sweep() {
    for entry in std::fs::read_dir("/dev/shm").into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let process = name.strip_prefix("amber-lattice-").and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if process.is_some_and(|process| !std::path::Path::new(&format!("/proc/{process}")).exists()) {
            let _ = rustix::shm::unlink(format!("/{name}"));
        }
    }
}

/// A picture through shared memory; it stands nowhere yet.
///
/// # Errors
/// When there is no room for it.
pub fn through_memory(out: &mut impl Write, sent: &Sent<'_>) -> io::Result<()> {
    let name = share(sent.rgb)?;
    write!(out, "\x1b_G{},t=s,S={};{}\x1b\\", keys(sent), sent.rgb.len(), STANDARD.encode(name))
}

/// A picture in the line itself, compressed; it stands nowhere yet.
///
/// # Errors
/// When it cannot be written.
pub fn inline(out: &mut impl Write, sent: &Sent<'_>) -> io::Result<()> {
    let mut encoder = ZlibEncoder::new(Vec::new(), Compression::fast());
    encoder.write_all(sent.rgb)?;
    let data = STANDARD.encode(encoder.finish()?);
    let pieces = data.len().div_ceil(PIECE).max(1);
    for (n, piece) in data.as_bytes().chunks(PIECE).enumerate() {
        let more = u8::from(n + 1 < pieces);
        if n == 0 {
            write!(out, "\x1b_G{},t=d,o=z,m={more};", keys(sent))?;
        } else {
            let action = if sent.again { "a=f," } else { "" };
            write!(out, "\x1b_G{action}m={more},q=2;")?;
        }
        out.write_all(piece)?;
        out.write_all(b"\x1b\\")?;
    }
    Ok(())
}

/// Takes a picture off the screen, and out of the terminal if `wholly`.
///
/// # Errors
/// When it cannot be written.
pub fn remove(out: &mut impl Write, turn: Turn, wholly: bool) -> io::Result<()> {
    out.write_all(removal(turn.image(), wholly).as_bytes())
}

pub(super) fn removal(image: u32, wholly: bool) -> String {
    let what = if wholly { 'I' } else { 'i' };
    format!("\x1b_Ga=d,d={what},i={image},q=2;\x1b\\")
}

/// Takes all pictures off the screen and out of the terminal, if there were any: others take the sequence for a title.
///
/// # Errors
/// When it cannot be written.
pub(super) fn remove_all(out: &mut impl Write) -> io::Result<()> {
    if PLACED.load(Ordering::Relaxed) { out.write_all(b"\x1b_Ga=d,d=A,q=2;\x1b\\") } else { Ok(()) }
}

/// Asks whether pictures are taken inline (by image `id`), and if `shared` says so through shared memory (by the one after
/// it); the object of that stays until it is fetched or forgotten.
pub fn question(id: u32, shared: bool) -> String {
    let inline = format!("\x1b_Gi={id},s=1,v=1,a=q,t=d,f=24;AAAA\x1b\\");
    let name = if shared { share(&[0; 3]).ok() } else { None };
    let shared = name.map(|name| format!("\x1b_Gi={},s=1,v=1,a=q,t=s,f=24,S=3;{}\x1b\\", id + 1, STANDARD.encode(name)));
    inline + &shared.unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use flate2::read::ZlibDecoder;
    use std::io::Read as _;

    fn keys_and_data(bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
        let text = String::from_utf8(bytes.to_vec()).unwrap();
        let commands = text.split("\x1b_G").skip(1).map(|command| command.strip_suffix("\x1b\\").unwrap());
        let split = |command: &str| {
            let (keys, data) = command.split_once(';').unwrap();
            (keys.to_owned(), data.as_bytes().to_vec())
        };
        commands.map(split).collect()
    }

    #[test]
    fn inline_pictures_come_in_pieces_and_are_the_picture() {
        // Noise, which is more than a piece.
        let noise = |n: u64| ((n.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (n * n * 0x2545_f491)) >> 29) as u8;
        let rgb: Vec<u8> = (0..64 * 48 * 3).map(noise).collect();
        let sent = Sent { rgb: &rgb, size: (64, 48), turn: Turn { tile: 5, second: false }, again: false };
        let mut out = Vec::new();
        inline(&mut out, &sent).unwrap();
        let commands = keys_and_data(&out);
        assert!(commands.len() > 1 && commands[0].0.contains("a=t") && commands[0].0.contains("s=64,v=48"));
        assert!(commands[..commands.len() - 1].iter().all(|(keys, data)| keys.contains("m=1") && data.len() == PIECE));
        assert!(commands.last().unwrap().0.contains("m=0"));
        let data: Vec<u8> = commands.into_iter().flat_map(|(_, data)| data).collect();
        let mut back = Vec::new();
        ZlibDecoder::new(STANDARD.decode(data).unwrap().as_slice()).read_to_end(&mut back).unwrap();
        assert_eq!(back, rgb);
    }

    #[test]
    fn parts_are_placed_where_they_belong_in_pixels_of_the_picture() {
        let mut out = Vec::new();
        let parts = [Rect::new(0, 0, 8, 1), Rect::new(2, 1, 6, 3)];
        place(&mut out, Turn { tile: 1, second: false }, &parts, Rect::new(10, 20, 8, 4), (640, 360)).unwrap();
        let text = String::from_utf8(out).unwrap();
        assert!(text.contains("\x1b[21;11H") && text.contains("p=1,x=0,y=0,w=640,h=90,c=8,r=1,C=1"), "{text:?}");
        assert!(text.contains("\x1b[22;13H") && text.contains("p=2,x=160,y=90,w=480,h=270,c=6,r=3,C=1"), "{text:?}");
    }

    #[test]
    fn shared_pictures_are_there_until_they_are_fetched_or_forgotten() {
        let _turn = IN_TURN.lock().unwrap_or_else(PoisonError::into_inner);
        let rgb = [7u8; 12];
        let mut out = Vec::new();
        through_memory(&mut out, &Sent { rgb: &rgb, size: (2, 2), turn: Turn { tile: 0, second: true }, again: false }).unwrap();
        let (keys, data) = keys_and_data(&out).remove(0);
        assert!(keys.contains("t=s") && keys.contains("S=12"), "{keys}");
        let name = String::from_utf8(STANDARD.decode(data).unwrap()).unwrap();
        let open = || rustix::shm::open(name.as_str(), rustix::shm::OFlags::RDONLY, rustix::shm::Mode::empty());
        let mut back = Vec::new();
        File::from(open().unwrap()).read_to_end(&mut back).unwrap();
        assert_eq!(back, rgb);
        forget_shared();
        assert!(open().is_err());
    }
}
