//! Pictures in pixels on the terminal: which stand there, what of them must be sent, and how fast the terminal takes them.
//!
//! After each handful of pictures the terminal is asked whether it has done them all (`CSI 5 n`); no more are sent before it
//! says so. A slow terminal gets fewer pictures, and a key never waits behind more than a handful.

use super::InPixels;
use super::handful::Handful;
use crate::ability::PixelWay;
use crate::image::{Image, UNDER};
use crate::kitty::{self, Sent, Turn};
use crate::painter::Look;
use crate::sixel::{self, Palette, Part};
use crate::tmux;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::collections::{BTreeMap, VecDeque};
use std::io::{self, Write};
use std::time::{Duration, Instant};

/// Levels of a channel that a cell of a sixel picture may be off before it is sent anew.
const HOLD: u8 = 6;
/// Colours are chosen anew after this time.
const PALETTE_STAYS: Duration = Duration::from_millis(1500);
/// An answer that does not come for so long is not waited for.
const NO_ANSWER: Duration = Duration::from_millis(1500);
/// A terminal that left so many questions in a row without an answer is not asked any more.
const GIVES_UP: u32 = 3;
/// Between two handfuls for a terminal that answers nothing.
const UNASKED: Duration = Duration::from_millis(120);
/// Behind tmux, which answers for itself, a terminal that has so many pictures to fetch gets no more, for so long.
const TO_FETCH: usize = 8;
const FETCHES: Duration = Duration::from_millis(10);
/// An image behind tmux is sent anew after this time: the last one may have got lost while another window was shown.
const WHOLE_AGAIN: Duration = Duration::from_secs(3);
/// When more percent of a picture changed than this, or it changed in more parts, all of it is sent.
const MUCH: u32 = 45;
const PARTS: usize = 6;
/// Cells that are sent although they have not changed, rather than a part more.
const GAP: u16 = 3;

/// What stands in a tile.
struct OnScreen {
    stream: u64,
    number: u64,
    rect: Rect,
    look: Look,
    brightness: u8,
    way: PixelWay,
    /// For kitty: which of its two images, how many pixels it has, and the parts that are placed, in cells of it.
    turn: Turn,
    size: (usize, usize),
    placed: Vec<Rect>,
    /// Behind tmux: since when that image stands there.
    whole: Option<Instant>,
    /// For sixel: the pixels as they were sent, the colours, and since when; for each cell whether it stands there.
    pixels: Vec<u8>,
    palette: Option<(Palette, Instant)>,
    stands: Vec<bool>,
}

impl OnScreen {
    fn is_place_of(&self, image: &Image) -> bool {
        self.rect == image.rect && self.way == image.way && self.stream == image.stream
    }

    fn is(&self, image: &Image) -> bool {
        let same = self.number == image.picture.number && self.look == image.look && self.brightness == image.brightness;
        same && self.is_place_of(image)
    }
}

/// A way that failed, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failed {
    /// Which.
    pub way: PixelWay,
    /// Why, in a sentence.
    pub why: String,
}

/// A picture of red, green and blue bytes as JPEG.
fn jpeg(width: usize, height: usize, rgb: &[u8]) -> io::Result<Vec<u8>> {
    let side = |side: usize| u16::try_from(side).map_err(io::Error::other);
    let mut bytes = Vec::new();
    let encoder = jpeg_encoder::Encoder::new(&mut bytes, 92);
    encoder.encode(rgb, side(width)?, side(height)?, jpeg_encoder::ColorType::Rgb).map_err(io::Error::other)?;
    Ok(bytes)
}

/// The pictures on the terminal.
#[derive(Default)]
pub struct Images {
    on: BTreeMap<u32, OnScreen>,
    /// Questions that have no answer yet: when they were asked, and after how many pictures.
    asked: VecDeque<(Instant, usize)>,
    unanswered: u32,
    /// When the last answer came, and how much the terminal takes.
    answered: Option<Instant>,
    handful: Handful,
    sent_at: Option<Instant>,
    /// Until when nothing is sent, so that the terminal behind tmux fetches what it has.
    fetches_until: Option<Instant>,
    /// The tile whose turn it is.
    next: u32,
    /// The last handful held the one that comes before others.
    was_first: bool,
    behind: bool,
    /// A way that failed, until it is asked for.
    pub failed: Option<Failed>,
}

impl Images {
    /// Nothing stands there any more.
    pub fn forget(&mut self) {
        self.on.clear();
    }

    /// Whether pictures stand on the terminal that it holds itself.
    pub fn any_kitty(&self) -> bool {
        self.on.values().any(|on| on.way.is_kitty())
    }

    /// The terminal has done what was sent before it was asked.
    pub fn on_done(&mut self, now: Instant) {
        let Some((asked, count)) = self.asked.pop_front() else { return };
        self.unanswered = 0;
        // What waited behind another handful was not worked on yet.
        let began = self.answered.replace(now).map_or(asked, |answered| answered.max(asked));
        self.handful.on_done(count, now.saturating_duration_since(began));
    }

    /// Some were not sent because the terminal has not done the last ones.
    pub const fn is_behind(&self) -> bool {
        self.behind
    }

    const fn asks(&self) -> bool {
        self.unanswered < GIVES_UP
    }

    /// When more may be sent, at the latest; `None` at once.
    pub fn goes_on_at(&self, way: PixelWay) -> Option<Instant> {
        if !self.asks() {
            return self.sent_at.map(|at| at + UNASKED);
        }
        if self.fetches_until.is_some() {
            return self.fetches_until;
        }
        // What goes through memory is taken quickly, and two handfuls keep it busy.
        let most = if way.is_shared() { 2 } else { 1 };
        (self.asked.len() >= most).then(|| self.asked.front().map(|(asked, _)| *asked + NO_ANSWER)).flatten()
    }

    fn may_send(&mut self, way: PixelWay, now: Instant) -> bool {
        if self.asks() && self.asked.front().is_some_and(|(asked, _)| now.saturating_duration_since(*asked) > NO_ANSWER) {
            self.asked.clear();
            self.unanswered += 1;
        }
        self.fetches_until = None;
        if way == (PixelWay::KittyTmux { shared: true }) && kitty::unfetched() > TO_FETCH {
            if self.sent_at.is_some_and(|at| now.saturating_duration_since(at) <= NO_ANSWER) {
                self.fetches_until = Some(now + FETCHES);
            } else {
                kitty::forget_shared(); // tmux shows another window, say
            }
        }
        self.goes_on_at(way).is_none_or(|at| now >= at)
    }

    /// Takes away what does not belong there any more, before anything else is drawn. Gives the cells that must be blanked,
    /// because what stands in them is of another stream.
    pub fn clear_up(&mut self, out: &mut impl Write, images: &[Image]) -> io::Result<Vec<Rect>> {
        let mut blank = Vec::new();
        let gone: Vec<u32> = self
            .on
            .iter()
            .filter(|(tile, on)| !images.iter().any(|image| image.tile == **tile && on.is_place_of(image)))
            .map(|(tile, _)| *tile)
            .collect();
        for tile in gone {
            let Some(on) = self.on.remove(&tile) else { continue };
            match on.way {
                PixelWay::KittyShared | PixelWay::KittyInline => kitty::remove(out, on.turn, true)?,
                PixelWay::KittyTmux { .. } => {
                    tmux::remove(out, on.turn)?;
                    tmux::remove(out, on.turn.other())?;
                    blank.push(on.rect);
                }
                PixelWay::Sixel | PixelWay::Iterm => blank.push(on.rect),
            }
        }
        Ok(blank)
    }

    /// Sends what the terminal takes now, if it `takes` anything. Gives for each image whether it stands there. `cells` is
    /// what is drawn over the pictures.
    pub fn send(
        &mut self,
        out: &mut impl Write,
        InPixels { images, first }: &InPixels,
        cells: &Buffer,
        now: Instant,
        takes: bool,
    ) -> io::Result<Vec<bool>> {
        let first = *first;
        self.uncover(out, images, cells)?;
        let stands = |on: Option<&OnScreen>, image: &Image| on.is_some_and(|on| on.is(image) && on.stands_whole(image, cells));
        let mut done: Vec<bool> = images.iter().map(|image| stands(self.on.get(&image.tile), image)).collect();
        self.behind = false;
        let Some(way) = images.first().map(|image| image.way).filter(|_| done.contains(&false)) else { return Ok(done) };
        if !self.may_send(way, now) || !takes {
            self.behind = true;
            return Ok(done);
        }
        let room = self.handful.room();
        let mut order: Vec<usize> = (0..images.len()).filter(|index| !done[*index]).collect();
        // The first one comes before the others, but not twice in a row while they wait.
        let (turn, again) = (self.next, self.was_first && room == 1);
        order.sort_by_key(|index| {
            let tile = images[*index].tile;
            let rank = match (Some(tile) == first, again) {
                (true, false) => 0,
                (false, _) => 1,
                (true, true) => 2,
            };
            (rank, tile < turn, tile)
        });
        self.was_first = false;
        let mut sent = 0;
        for index in order {
            if sent >= room {
                self.behind = true;
                break;
            }
            let image = &images[index];
            match self.send_one(out, image, cells, now) {
                Ok(()) => (done[index], sent) = (true, sent + 1),
                Err(error) => {
                    // What stands there is of an older picture, and nobody keeps it up any more.
                    for second in [false, true] {
                        let turn = Turn { tile: image.tile, second };
                        match image.way {
                            PixelWay::KittyTmux { .. } => tmux::remove(out, turn)?,
                            _ => kitty::remove(out, turn, true)?,
                        }
                    }
                    self.failed = Some(Failed { way: image.way, why: error.to_string() });
                    return Ok(done);
                }
            }
            if Some(image.tile) == first {
                self.was_first = true;
            } else {
                self.next = image.tile + 1;
            }
        }
        if images.iter().all(|image| image.tile < self.next) {
            self.next = 0;
        }
        self.sent_at = Some(now);
        if sent > 0 && self.asks() {
            out.write_all(b"\x1b[5n")?;
            self.asked.push_back((now, sent));
        }
        Ok(done)
    }

    /// What is said over a picture in the text has wiped it out there; one of kitty's gives way to it, and comes back after it.
    fn uncover(&mut self, out: &mut impl Write, images: &[Image], cells: &Buffer) -> io::Result<()> {
        for image in images {
            let Some(on) = self.on.get_mut(&image.tile) else { continue };
            match image.way {
                PixelWay::Sixel | PixelWay::Iterm => {
                    for (position, stands) in image.rect.positions().zip(&mut on.stands) {
                        *stands &= !is_covered(cells, position);
                    }
                }
                PixelWay::KittyShared | PixelWay::KittyInline if on.size != (0, 0) => {
                    let parts = uncovered(image.rect, cells);
                    if parts != on.placed {
                        kitty::remove(out, on.turn, false)?;
                        kitty::place(out, on.turn, &parts, image.rect, on.size)?;
                        on.placed = parts;
                    }
                }
                PixelWay::KittyTmux { .. } if on.size != (0, 0) => {
                    let parts = uncovered(image.rect, cells);
                    if parts != on.placed {
                        tmux::place(out, on.turn, &parts, image.rect)?;
                        on.placed = parts;
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn send_one(&mut self, out: &mut impl Write, image: &Image, cells: &Buffer, now: Instant) -> io::Result<()> {
        let cursor = |out: &mut dyn Write, x: u16, y: u16| write!(out, "\x1b[{};{}H", y + 1, x + 1);
        let mut on = self.on.remove(&image.tile).filter(|on| on.is_place_of(image)).unwrap_or_else(|| OnScreen::empty(image));
        match image.way {
            PixelWay::KittyShared | PixelWay::KittyInline => {
                let (rgb, size) = image.rgb(None);
                let turn = on.turn.other();
                let sent = Sent { rgb: &rgb, size, turn, again: false };
                match image.way {
                    PixelWay::KittyShared => kitty::through_memory(out, &sent)?,
                    _ => kitty::inline(out, &sent)?,
                }
                let parts = uncovered(image.rect, cells);
                kitty::place(out, turn, &parts, image.rect, size)?;
                if on.size != (0, 0) {
                    kitty::remove(out, on.turn, true)?;
                }
                (on.turn, on.size, on.placed) = (turn, size, parts);
            }
            PixelWay::KittyTmux { shared } => {
                let (rgb, size) = image.rgb(None);
                let again = on.size == size && on.whole.is_some_and(|since| now.saturating_duration_since(since) < WHOLE_AGAIN);
                if !again {
                    (on.turn, on.size, on.whole) = (on.turn.other(), size, Some(now));
                }
                tmux::send(out, &Sent { rgb: &rgb, size, turn: on.turn, again }, image.rect, shared)?;
                if !again {
                    on.placed = uncovered(image.rect, cells);
                    tmux::place(out, on.turn, &on.placed, image.rect)?;
                }
            }
            PixelWay::Iterm => {
                let (rgb, size) = image.rgb(None);
                let parts = uncovered(image.rect, cells);
                for part in &parts {
                    let (width, height, pixels) = cut(&rgb, size, *part, image.rect);
                    let jpeg = jpeg(width, height, &pixels)?;
                    cursor(out, image.rect.x + part.x, image.rect.y + part.y)?;
                    let keys = format!(
                        "inline=1;width={};height={};preserveAspectRatio=0;doNotMoveCursor=1;size={}",
                        part.width,
                        part.height,
                        jpeg.len()
                    );
                    write!(out, "\x1b]1337;File={keys}:{}\x07", STANDARD.encode(&jpeg))?;
                }
                on.stand_in(&parts);
            }
            PixelWay::Sixel => {
                let room = image.room();
                let (rgb, _) = image.rgb(Some(room));
                if on.palette.as_ref().is_none_or(|(_, since)| now.saturating_duration_since(*since) > PALETTE_STAYS) {
                    on.palette = Some((Palette::of(&rgb, image.colours), now));
                }
                let parts = on.parts(image, &rgb, cells);
                if let Some((palette, _)) = &mut on.palette {
                    for part in parts {
                        let (cell_width, cell_height) = (usize::from(image.cell.0), usize::from(image.cell.1));
                        let pixels = Part {
                            x: usize::from(part.x) * cell_width,
                            y: usize::from(part.y) * cell_height,
                            width: usize::from(part.width) * cell_width,
                            height: usize::from(part.height) * cell_height,
                        };
                        cursor(out, image.rect.x + part.x, image.rect.y + part.y)?;
                        sixel::encode(out, &rgb, room.0, pixels, palette)?;
                        copy_part(&rgb, &mut on.pixels, room.0, pixels);
                    }
                }
            }
        }
        (on.number, on.look, on.brightness) = (image.picture.number, image.look, image.brightness);
        self.on.insert(image.tile, on);
        Ok(())
    }
}

fn is_covered(cells: &Buffer, position: ratatui::layout::Position) -> bool {
    cells.cell(position).is_none_or(|cell| cell.symbol() != UNDER)
}

/// The pixels of a part of a picture of this size, which fills `whole`: width, height, red, green and blue.
fn cut(rgb: &[u8], (width, height): (usize, usize), part: Rect, whole: Rect) -> (usize, usize, Vec<u8>) {
    let across = |column: u16| usize::from(column) * width / usize::from(whole.width.max(1));
    let down = |row: u16| usize::from(row) * height / usize::from(whole.height.max(1));
    let (left, top) = (across(part.x).min(width.saturating_sub(1)), down(part.y).min(height.saturating_sub(1)));
    let (right, bottom) = (across(part.right()).clamp(left + 1, width), down(part.bottom()).clamp(top + 1, height));
    let lines = (top..bottom).filter_map(|y| rgb.get((y * width + left) * 3..(y * width + right) * 3));
    (right - left, bottom - top, lines.flatten().copied().collect())
}

fn copy_part(from: &[u8], to: &mut Vec<u8>, width: usize, part: Part) {
    to.resize(from.len(), 0);
    for y in part.y..part.y + part.height {
        let range = (y * width + part.x) * 3..(y * width + part.x + part.width) * 3;
        if let (Some(from), Some(to)) = (from.get(range.clone()), to.get_mut(range)) {
            to.copy_from_slice(from);
        }
    }
}

impl OnScreen {
    fn empty(image: &Image) -> Self {
        Self {
            stream: image.stream,
            number: 0,
            rect: image.rect,
            look: image.look,
            brightness: image.brightness,
            way: image.way,
            turn: Turn { tile: image.tile, second: false },
            size: (0, 0),
            placed: Vec::new(),
            whole: None,
            pixels: Vec::new(),
            palette: None,
            stands: vec![false; image.rect.area() as usize],
        }
    }

    /// Nothing of it was wiped out where nothing covers it.
    fn stands_whole(&self, image: &Image, cells: &Buffer) -> bool {
        image.way.is_kitty()
            || image.rect.positions().zip(&self.stands).all(|(position, stands)| *stands || is_covered(cells, position))
    }

    /// The parts of a picture that must be sent, in cells of it: those that changed or were wiped out, and nothing that is
    /// covered. They are taken to stand there from now on.
    fn parts(&mut self, image: &Image, rgb: &[u8], cells: &Buffer) -> Vec<Rect> {
        let columns = image.rect.width;
        let (cell_width, cell_height) = (usize::from(image.cell.0), usize::from(image.cell.1));
        let width = usize::from(columns) * cell_width;
        let known = self.pixels.len() == rgb.len();
        let changed = |x: u16, y: u16| {
            (0..cell_height).any(|line| {
                let begin = ((usize::from(y) * cell_height + line) * width + usize::from(x) * cell_width) * 3;
                let range = begin..begin + cell_width * 3;
                match (self.pixels.get(range.clone()), rgb.get(range)) {
                    (Some(before), Some(now)) => before.iter().zip(now).any(|(a, b)| a.abs_diff(*b) > HOLD),
                    _ => true,
                }
            })
        };
        let index = |x: u16, y: u16| usize::from(y) * usize::from(columns) + usize::from(x);
        let wanted = |x: u16, y: u16| !known || !self.stands[index(x, y)] || changed(x, y);
        let changed = joined(image.rect, cells, &wanted);
        // Where most of it changed all of it is one part: terminals are slow with many.
        let area = |parts: &[Rect]| parts.iter().map(|part| part.area()).sum::<u32>();
        let whole = uncovered(image.rect, cells);
        let much = area(&changed) * 100 > area(&whole) * MUCH || changed.len() > PARTS;
        let parts = if much { whole } else { changed };
        self.stand_in(&parts);
        parts
    }

    /// These parts of it stand there from now on.
    fn stand_in(&mut self, parts: &[Rect]) {
        let columns = usize::from(self.rect.width);
        for position in parts.iter().flat_map(|part| part.positions()) {
            self.stands[usize::from(position.y) * columns + usize::from(position.x)] = true;
        }
    }
}

/// All of a picture that nothing covers, in cells of it.
fn uncovered(rect: Rect, cells: &Buffer) -> Vec<Rect> {
    joined(rect, cells, &|_, _| true)
}

/// Cells of a picture that are wanted, joined to few rectangles which cover nothing that is said over it.
fn joined(rect: Rect, cells: &Buffer, wanted: &dyn Fn(u16, u16) -> bool) -> Vec<Rect> {
    let covered = |x: u16, y: u16| is_covered(cells, (rect.x + x, rect.y + y).into());
    let mut parts: Vec<Rect> = Vec::new();
    for y in 0..rect.height {
        // Runs of cells in this row, over small gaps.
        let mut runs: Vec<(u16, u16)> = Vec::new();
        for x in (0..rect.width).filter(|x| !covered(*x, y) && wanted(*x, y)) {
            match runs.last_mut() {
                Some((_, end)) if x <= *end + GAP && !(*end..x).any(|between| covered(between, y)) => *end = x + 1,
                _ => runs.push((x, x + 1)),
            }
        }
        for (begin, end) in runs {
            // On to a part that ended in the row above, where both together cover nothing else.
            let joins = parts.iter_mut().find(|part| {
                let (left, right) = (part.x.min(begin), part.right().max(end));
                let near = part.bottom() == y && part.x < end + GAP && begin < part.right() + GAP;
                // The rows above are free as far as the part goes.
                let first = if (left, right) == (part.x, part.right()) { y } else { part.y };
                near && !(first..=y).any(|row| (left..right).any(|x| covered(x, row)))
            });
            match joins {
                Some(part) => {
                    let right = part.right().max(end);
                    part.x = part.x.min(begin);
                    (part.width, part.height) = (right - part.x, part.height + 1);
                }
                None => parts.push(Rect::new(begin, y, end - begin, 1)),
            }
        }
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::painter::Freshness;
    use lattice_core::Mono;
    use lattice_core::lattice::Aspect;
    use lattice_media::{Condition, TilePicture};
    use std::sync::Arc;

    const AREA: Rect = Rect { x: 0, y: 0, width: 40, height: 12 };

    fn image(tile: u32, stream: u64, number: u64, way: PixelWay) -> Image {
        let (width, height) = (64, 64);
        let rgb = (0..width * height).flat_map(|n| [(n + number as usize * 40) as u8, (n / 64) as u8 * 3, 90]).collect();
        let source = (width, height);
        let (view, adjust) = Default::default();
        let (condition, ready) = (Condition::Clean, Mono::ZERO);
        let picture = TilePicture { number, width, height, rgb, source, condition, ready, view, adjust };
        let rect = Rect { x: 1 + tile as u16 * 10, y: 1, width: 8, height: 4 };
        let look = Look::whole(Freshness::Live, Aspect::Stretch);
        let picture = Arc::new(picture);
        Image { tile, stream, rect, picture, look, brightness: 100, way, cell: (8, 16), colours: 64 }
    }

    /// Cells with pictures under them, and something said at some.
    fn cells(images: &[Image], said: &[(u16, u16)]) -> Buffer {
        let mut buffer = Buffer::empty(AREA);
        for position in images.iter().flat_map(|image| image.rect.positions()) {
            buffer[position].set_symbol(UNDER);
        }
        for at in said {
            buffer[*at].set_symbol("x");
        }
        buffer
    }

    struct Terminal {
        images: Images,
        now: Instant,
    }

    impl Terminal {
        fn new() -> Self {
            Self { images: Images::default(), now: Instant::now() }
        }

        /// What is written, and which pictures stand there.
        fn step(&mut self, shown: &[Image], first: Option<u32>, said: &[(u16, u16)]) -> (String, Vec<bool>) {
            let mut out = Vec::new();
            let blank = self.images.clear_up(&mut out, shown).unwrap();
            let pixels = InPixels { images: shown.to_vec(), first };
            let sent = self.images.send(&mut out, &pixels, &cells(shown, said), self.now, true).unwrap();
            self.now += Duration::from_millis(40);
            let text = String::from_utf8_lossy(&out).into_owned();
            (format!("{}{text}", "wiped ".repeat(blank.len())), sent)
        }

        fn answers(&mut self) {
            self.images.on_done(self.now);
        }
    }

    #[test]
    fn a_terminal_gets_no_more_before_it_answers_and_tiles_take_turns() {
        let mut terminal = Terminal::new();
        let mut counts = [0; 4];
        for number in 1..=40 {
            let images: Vec<Image> = (0..4).map(|tile| image(tile, tile.into(), number, PixelWay::Sixel)).collect();
            let (text, sent) = terminal.step(&images, Some(2), &[]);
            assert!(text.ends_with("\x1b[5n") && sent.iter().filter(|sent| **sent).count() == 1, "{sent:?}");
            counts[sent.iter().position(|sent| *sent).unwrap()] += 1;
            // A new picture has to wait for the answer.
            let next: Vec<Image> = (0..4).map(|tile| image(tile, tile.into(), number + 1, PixelWay::Sixel)).collect();
            assert_eq!(terminal.step(&next, Some(2), &[]), (String::new(), vec![false; 4]));
            assert!(terminal.images.is_behind());
            terminal.now += Duration::from_millis(40);
            terminal.answers();
        }
        // The selected one twice as often at least, the others alike.
        assert!(counts[2] >= 18 && counts.iter().all(|count| *count >= 6), "{counts:?}");
        // A quick one gets all at once.
        for number in 50..60 {
            let images: Vec<Image> = (0..4).map(|tile| image(tile, tile.into(), number, PixelWay::Sixel)).collect();
            terminal.step(&images, None, &[]);
            // It answers after a millisecond.
            let (images, asked) = (&mut terminal.images, terminal.now);
            let asked = asked.checked_sub(Duration::from_millis(39)).unwrap();
            images.on_done(asked);
        }
        let images: Vec<Image> = (0..4).map(|tile| image(tile, tile.into(), 70, PixelWay::Sixel)).collect();
        assert_eq!(terminal.step(&images, None, &[]).1, [true; 4]);
    }

    #[test]
    fn a_terminal_that_never_answers_is_not_waited_for() {
        let mut terminal = Terminal::new();
        let mut sent = 0;
        for number in 1..=400 {
            let (_, done) = terminal.step(&[image(0, 0, number, PixelWay::KittyInline)], None, &[]);
            sent += usize::from(done[0]);
        }
        // Sixteen seconds: some at first, each after a while, then eight a second.
        assert!(sent > 60, "{sent}");
        assert!(
            !terminal.step(&[image(0, 0, 500, PixelWay::KittyInline)], None, &[]).0.contains("\x1b[5n"),
            "not asked any more"
        );
    }

    #[test]
    fn what_is_said_stands_in_front_and_pictures_come_back_whole() {
        let mut terminal = Terminal::new();
        let shown = [image(0, 0, 1, PixelWay::Sixel)];
        terminal.step(&shown, None, &[]);
        terminal.answers();
        assert_eq!(terminal.step(&shown, None, &[]), (String::new(), vec![true]), "the same again is nothing");
        // Covered in its middle: no part of it goes there.
        let said = [(4, 2), (5, 2)];
        let (text, sent) = terminal.step(&[image(0, 0, 2, PixelWay::Sixel)], None, &said);
        assert!(sent[0] && text.matches("\x1bP").count() >= 3, "{}", text.matches("\x1bP").count());
        terminal.answers();
        // Uncovered: what was wiped out is sent, and nothing else.
        let (text, sent) = terminal.step(&[image(0, 0, 2, PixelWay::Sixel)], None, &[]);
        assert!(sent[0] && text.matches("\x1bP").count() == 1 && text.contains("\"1;1;16;16"), "{text:?}");
        terminal.answers();
        // The same in the line of a terminal that takes files.
        let mut files = Terminal::new();
        files.step(&[image(0, 0, 1, PixelWay::Iterm)], None, &[]);
        files.answers();
        let (text, sent) = files.step(&[image(0, 0, 2, PixelWay::Iterm)], None, &said);
        assert!(sent[0] && text.matches("1337;File=").count() >= 3 && !text.contains("width=8;height=4"), "{text:?}");
        files.answers();
        let (text, sent) = files.step(&[image(0, 0, 2, PixelWay::Iterm)], None, &[]);
        assert!(sent[0] && text.matches("1337;File=").count() == 1 && text.contains("width=8;height=4"), "{text:?}");
        files.answers();
        assert_eq!(files.step(&[image(0, 0, 2, PixelWay::Iterm)], None, &[]).0, "");
        // By kitty the same picture is only placed otherwise.
        let shown = [image(1, 1, 1, PixelWay::KittyInline)];
        terminal.step(&shown, None, &[]);
        terminal.answers();
        let (text, _) = terminal.step(&shown, None, &[(12, 2)]);
        assert!(text.contains("a=p") && !text.contains("a=t") && text.matches("a=p").count() >= 3, "{text:?}");
        let (text, _) = terminal.step(&shown, None, &[]);
        assert!(text.matches("a=p").count() == 1 && text.contains("c=8,r=4"), "{text:?}");
    }

    #[test]
    fn behind_tmux_pictures_are_text_and_wait_until_the_last_ones_are_fetched() {
        let _turn = kitty::IN_TURN.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let placeholders = |text: &str| text.matches('\u{10eeee}').count();
        let mut terminal = Terminal::new();
        let way = PixelWay::KittyTmux { shared: true };
        let (text, _) = terminal.step(&[image(0, 0, 1, way)], None, &[]);
        assert!(placeholders(&text) == 32 && text.contains("\x1bPtmux;\x1b\x1b_Ga=t") && text.contains("U=1"), "{text:?}");
        // Said over it: placeholders around it; gone again: all of them, and the picture is not sent anew.
        let (text, sent) = terminal.step(&[image(0, 0, 1, way)], None, &[(4, 2), (5, 2)]);
        assert!(placeholders(&text) == 30 && sent[0] && !text.contains("a=t"), "{text:?}");
        let (text, _) = terminal.step(&[image(0, 0, 1, way)], None, &[]);
        assert!(placeholders(&text) == 32 && !text.contains("a=t"), "{text:?}");
        // Nobody fetches: after some nothing is sent, and a while later there is another try.
        let (mut sent, mut wholly) = (Vec::new(), 0);
        for number in 2..200 {
            terminal.answers();
            let (text, stands) = terminal.step(&[image(0, 0, number, way)], None, &[]);
            let whole = placeholders(&text) == 32 && text.contains("a=t");
            let replaced = placeholders(&text) == 0 && text.contains("a=f");
            assert!(if stands[0] { whole || replaced } else { text.is_empty() }, "{text:?}");
            wholly += usize::from(whole);
            sent.push(stands[0]);
            assert!(kitty::unfetched() <= TO_FETCH + 1 && terminal.images.failed.is_none());
        }
        let stopped = sent.iter().position(|sent| !sent).unwrap();
        let tries = sent[stopped..].iter().filter(|sent| **sent).count();
        assert!((1..4).contains(&wholly), "every three seconds: {wholly}");
        assert!(stopped >= TO_FETCH - 1 && (20..100).contains(&tries) && terminal.images.is_behind(), "{stopped} {tries}");
        let (text, _) = terminal.step(&[], None, &[]);
        assert!(text.contains("a=d,d=I") && text.contains("wiped "), "{text:?}");
        kitty::forget_shared();
    }

    #[test]
    fn a_terminal_that_fetches_no_shared_memory_is_told_and_keeps_no_old_picture() {
        let _turn = kitty::IN_TURN.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let mut terminal = Terminal::new();
        let mut last = String::new();
        for number in 1..=200 {
            last = terminal.step(&[image(0, 0, number, PixelWay::KittyShared)], None, &[]).0;
            terminal.answers();
            if terminal.images.failed.is_some() {
                break;
            }
        }
        kitty::forget_shared();
        let failed = terminal.images.failed.take().unwrap();
        assert!(failed.way == PixelWay::KittyShared && failed.why.contains("fetches no shared memory"), "{failed:?}");
        assert_eq!(last.matches("a=d,d=I").count(), 2, "{last:?}");
    }

    #[test]
    fn a_picture_of_another_stream_goes_at_once() {
        for (way, gone) in [(PixelWay::KittyInline, "a=d,d=I"), (PixelWay::Sixel, "wiped ")] {
            let mut terminal = Terminal::new();
            terminal.step(&[image(0, 0, 1, way)], None, &[]);
            // The terminal has not answered: the new one has to wait, the old one goes all the same.
            let (text, sent) = terminal.step(&[image(0, 9, 1, way)], None, &[]);
            assert!(text.contains(gone) && !sent[0], "{text:?}");
            terminal.answers();
            assert_eq!(terminal.step(&[image(0, 9, 1, way)], None, &[]).1, [true]);
            let (text, _) = terminal.step(&[], None, &[]);
            assert!(text.contains(gone), "none is left: {text:?}");
        }
    }
}
