//! The terminal's side of drawing: what is on it, what should be, and as much of the difference as it takes.
//!
//! A terminal may take less than pictures come to, over ssh say. Writing then blocks, and a key would wait for a whole
//! screen of pictures. So a step writes no more than the terminal is known to take in a moment: text first, then pictures
//! one after the other; what is left stays a difference and goes out in the next steps. Nothing is queued.

mod handful;
mod images;

use self::images::{Failed, Images};
use crate::ability::PixelWay;
use crate::cells::is_picture;
use crate::image::{Image, UNDER};
use crate::painter::remove_images;
use ratatui::backend::{Backend as _, CrosstermBackend};
use ratatui::buffer::{Buffer, Cell};
use ratatui::layout::Rect;
use ratatui::style::Color;
use std::cell::Cell as Shared;
use std::io::{self, Write};
use std::rc::Rc;
use std::time::{Duration, Instant};
use unicode_width::UnicodeWidthStr as _;

const BEGIN_UPDATE: &[u8] = b"\x1b[?2026h";
const END_UPDATE: &[u8] = b"\x1b[?2026l";

/// Collects what belongs together and writes it at once, wrapped as one update (mode 2026).
struct Collector<W> {
    out: W,
    pending: Vec<u8>,
    /// Bytes that are collected, for whoever decides when it is enough.
    collected: Rc<Shared<usize>>,
}

impl<W: Write> Write for Collector<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.pending.is_empty() {
            self.pending.extend_from_slice(BEGIN_UPDATE);
        }
        self.pending.extend_from_slice(bytes);
        self.collected.set(self.pending.len());
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if !self.pending.is_empty() {
            self.pending.extend_from_slice(END_UPDATE);
            self.out.write_all(&self.pending)?;
            self.pending.clear();
            self.collected.set(0);
        }
        self.out.flush()
    }
}

/// How much the terminal takes, from how long it made us wait.
#[derive(Debug)]
struct Pace {
    /// Bytes that are written in one step.
    budget: usize,
    /// Bytes a second that it takes; `None` while it has taken all at once.
    rate: Option<f64>,
    /// The most that may be written, bytes a second, where the operator said so.
    limit: Option<f64>,
    /// When it will have taken what was written.
    free_at: Instant,
    /// When it made us wait last, or was tried with more.
    tried: Instant,
    /// It made us wait once: a busy machine does, now and then.
    warned: bool,
    /// A terminal that was slow is tried with more after this time; longer, the more often that failed.
    patience: Duration,
    /// When it was tried with more last.
    raised: Option<Instant>,
    /// By which factor it is tried with more; larger, the more often that did no harm.
    step: f64,
}

/// Pictures of a step are to be taken within this time, so that a key is answered soon after.
const STEP: Duration = Duration::from_millis(25);
/// So much of the rate is used: what buffers on the way hold drains meanwhile.
const USED: f64 = 0.75;
/// A terminal that makes us wait takes at least this share of what it took in that time.
const SEEMS: f64 = 0.6;
/// A terminal that was slow is tried with a quarter more, later with twice as much.
const LEAST_RAISE: f64 = 1.25;
const MOST_RAISE: f64 = 2.0;
/// It is tried so after this time.
const TRY_AFTER: Duration = Duration::from_secs(2);
const TRY_AT_MOST: Duration = Duration::from_secs(60);
/// More than this failed when the terminal makes us wait so soon after.
const FAILS_WITHIN: Duration = Duration::from_secs(3);
/// After it made us wait, pictures pause for so long: what buffers on the way hold drains, which a key would wait for.
const DRAINS: Duration = Duration::from_millis(200);
/// A terminal that takes so many bytes a second is not slow.
const QUICK: f64 = 20e6;
/// A write of fewer bytes says nothing.
const TELLS: usize = 1500;
/// A second time of waiting within this time is no accident.
const AGAIN: Duration = Duration::from_secs(2);
const FIRST: usize = 32 << 10;
const LEAST: usize = 512;
const MOST: usize = 16 << 20;

impl Pace {
    fn new(limit: Option<f64>, now: Instant) -> Self {
        let mut pace = Self {
            budget: FIRST,
            rate: None,
            limit,
            free_at: now,
            tried: now,
            warned: false,
            patience: TRY_AFTER,
            raised: None,
            step: LEAST_RAISE,
        };
        pace.set_rate(None);
        pace
    }

    fn set_rate(&mut self, rate: Option<f64>) {
        self.rate = rate.into_iter().chain(self.limit).reduce(f64::min);
        if let Some(rate) = self.rate {
            self.budget = ((rate * USED * STEP.as_secs_f64()) as usize).clamp(LEAST, MOST);
        }
    }

    /// Bytes were given to the terminal, which made us wait for so long before it took them all.
    fn on_written(&mut self, bytes: usize, waited: Duration, ended: Instant) {
        let again = self.warned && ended.saturating_duration_since(self.tried) < AGAIN + waited;
        let sample = bytes as f64 / waited.as_secs_f64().max(1e-6);
        // A few bytes that take long tell of a busy machine, not of the terminal.
        let tells = bytes >= TELLS && waited > STEP / 4;
        if (waited > STEP && again) || (self.rate.is_some() && tells) {
            let before = self.rate;
            // One slow moment is not the terminal's rate; several in a row are. It is lower than it seems, for what buffers
            // on the way took came quickly, but not lower by any factor: a busy machine makes us wait as well.
            let lower = |rate: f64| sample.clamp(rate * 0.7, rate * 0.85).max(sample * SEEMS).min(rate);
            self.set_rate(Some(before.map_or(sample, lower)));
            self.tried = ended;
            if self.rate < before || before.is_none() {
                if self.raised.take().is_some_and(|raised| ended.saturating_duration_since(raised) < FAILS_WITHIN) {
                    self.patience = (self.patience * 2).min(TRY_AT_MOST);
                }
                (self.step, self.free_at) = (LEAST_RAISE, self.free_at.max(ended + DRAINS));
            }
        } else if waited > STEP && self.rate.is_none() {
            (self.warned, self.tried) = (true, ended);
            self.budget = ((bytes as f64 * STEP.as_secs_f64() / waited.as_secs_f64()) as usize).clamp(LEAST, self.budget);
        } else if let Some(rate) = self.rate {
            if ended.saturating_duration_since(self.tried) > self.patience {
                let before = self.raised.replace(ended);
                if before.is_some_and(|before| ended.saturating_duration_since(before) > FAILS_WITHIN) {
                    // The last time did no harm.
                    self.patience = (self.patience / 2).max(TRY_AFTER);
                    self.step = (self.step * LEAST_RAISE).min(MOST_RAISE);
                }
                self.tried = ended;
                // More than any screen needs: it is not slow any more.
                self.set_rate(Some(rate * self.step).filter(|rate| *rate < QUICK));
            }
        } else if bytes * 2 > self.budget {
            self.budget = (self.budget * 4).min(MOST);
        }
        if let Some(rate) = self.rate {
            let began = ended.checked_sub(waited).unwrap_or(ended);
            let drains = Duration::from_secs_f64((bytes as f64 / (rate * USED)).min(5.0));
            self.free_at = self.free_at.max(began) + drains;
        }
    }

    fn takes_pictures(&self, now: Instant) -> bool {
        self.rate.is_none() || now >= self.free_at
    }
}

/// How long this thread was ready to run and had no core, from the system's scheduler: waiting for that is not waiting for
/// the terminal. Where the system does not tell it, it is none.
#[derive(Debug, Default)]
struct CoreDelay {
    before: u64,
}

impl CoreDelay {
    /// The delay since it was asked last.
    fn since_last(&mut self) -> Duration {
        // "time on a core, time waiting for one, turns", in ns.
        let text = std::fs::read_to_string("/proc/thread-self/schedstat").unwrap_or_default();
        let total: u64 = text.split_ascii_whitespace().nth(1).and_then(|word| word.parse().ok()).unwrap_or(0);
        Duration::from_nanos(total.saturating_sub(std::mem::replace(&mut self.before, total)))
    }
}

/// Cells that are given to the terminal before it is looked at how many bytes they came to.
const HANDFUL: usize = 64;
/// No picture stands here.
const TEXT: u16 = u16::MAX;
/// What stands in a cell is not known: it is written in any case.
const UNKNOWN: &str = "\u{fffd}";

/// A terminal and what is on it.
pub struct Display<W: Write> {
    backend: CrosstermBackend<Collector<W>>,
    collected: Rc<Shared<usize>>,
    pace: Pace,
    delay: CoreDelay,
    shown: Buffer,
    wanted: Buffer,
    pictures: Vec<Rect>,
    /// For each cell the picture that it belongs to.
    owner: Vec<u16>,
    /// The picture whose turn it is.
    next: usize,
    /// Pictures of which a part is still to be written.
    left: Vec<Rect>,
    /// Pictures in pixels, and by which way they went last.
    images: Images,
    way: Option<PixelWay>,
}

/// What is to be shown beside cells.
#[derive(Debug, Default)]
pub struct InPixels {
    /// The pictures.
    pub images: Vec<Image>,
    /// The tile that comes first.
    pub first: Option<u32>,
}

/// What came of a step.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Shown {
    /// For each place of pictures whether all of its cells are on the terminal.
    pub whole: Vec<bool>,
    /// For each picture in pixels whether it is on the terminal.
    pub sent: Vec<bool>,
    /// A way of painting that failed.
    pub failed: Option<Failed>,
}

impl<W: Write> Display<W> {
    /// A display that is empty; at most `limit` bytes a second are to be written to it.
    pub fn new(out: W, limit: Option<f64>) -> Self {
        let collected = Rc::new(Shared::new(0));
        let collector = Collector { out, pending: Vec::with_capacity(1 << 20), collected: collected.clone() };
        Self {
            backend: CrosstermBackend::new(collector),
            collected,
            pace: Pace::new(limit, Instant::now()),
            delay: CoreDelay::default(),
            shown: Buffer::default(),
            wanted: Buffer::default(),
            pictures: Vec::new(),
            owner: Vec::new(),
            next: 0,
            left: Vec::new(),
            images: Images::default(),
            way: None,
        }
    }

    /// A blank screen of this size to draw into; another size than before begins anew.
    ///
    /// # Errors
    /// When the terminal cannot be written to.
    pub fn blank(&mut self, area: Rect) -> io::Result<&mut Buffer> {
        if self.shown.area == area {
            self.wanted.reset();
        } else {
            self.wipe()?;
            (self.shown, self.wanted) = (Buffer::empty(area), Buffer::empty(area));
            self.pictures.clear();
        }
        Ok(&mut self.wanted)
    }

    /// The screen as it was drawn last, to draw a part of it anew; `None` where it must be drawn from blank.
    pub fn again(&mut self, area: Rect) -> Option<&mut Buffer> {
        (self.shown.area == area).then_some(&mut self.wanted)
    }

    /// Nothing is on the terminal any more.
    fn wipe(&mut self) -> io::Result<()> {
        if self.images.any_kitty() {
            remove_images(&mut self.backend)?;
        }
        self.images.forget();
        self.backend.clear()
    }

    /// Everything is drawn anew with the next step: somebody else used the terminal.
    pub fn begin_anew(&mut self) {
        self.shown = Buffer::default();
    }

    /// The terminal's bell rings with the next step.
    ///
    /// # Errors
    /// When the terminal cannot be written to.
    pub fn ring(&mut self) -> io::Result<()> {
        self.backend.write_all(b"\x07")
    }

    /// The terminal shows a notification with the next step; the sequence is [`crate::Ability::notification`]'s.
    ///
    /// # Errors
    /// When the terminal cannot be written to.
    pub fn notify(&mut self, sequence: &str) -> io::Result<()> {
        self.backend.write_all(sequence.as_bytes())
    }

    /// The terminal has done what it was sent before it was asked.
    pub fn on_done(&mut self) {
        self.images.on_done(Instant::now());
    }

    /// Writes what differs, as far as the terminal takes it now; `pictures` stand at these places, and what is said over
    /// them stands on `ground`, where it has a colour. Pictures in pixels go out as the terminal answers.
    ///
    /// # Errors
    /// When the terminal cannot be written to.
    pub fn show(&mut self, pictures: &[Rect], ground: Option<Color>, pixels: &InPixels) -> io::Result<Shown> {
        self.show_parts(None, pictures, ground, pixels)
    }

    /// The same where only these parts were drawn since the last step.
    ///
    /// # Errors
    /// When the terminal cannot be written to.
    pub fn show_again(&mut self, drawn: &[Rect], pictures: &[Rect], ground: Option<Color>) -> io::Result<Shown> {
        let left = std::mem::take(&mut self.left).into_iter().filter(|left| drawn.iter().all(|area| area.union(*left) != *area));
        let parts: Vec<Rect> = drawn.iter().copied().chain(left).collect();
        self.show_parts(Some(&parts), pictures, ground, &InPixels::default())
    }

    fn show_parts(
        &mut self,
        parts: Option<&[Rect]>,
        pictures: &[Rect],
        ground: Option<Color>,
        pixels: &InPixels,
    ) -> io::Result<Shown> {
        self.learn_places(pictures);
        for wiped in self.images.clear_up(&mut self.backend, &pixels.images)? {
            // A picture that is not of this stream: its cells are written, which wipes it out.
            for position in wiped.intersection(self.shown.area).positions() {
                self.shown[position].set_symbol(UNKNOWN);
            }
        }
        let count = pictures.len();
        let width = usize::from(self.wanted.area.width);
        let mut text: Vec<(u16, u16, &Cell)> = Vec::new();
        let mut of: Vec<Vec<(u16, u16, &Cell)>> = vec![Vec::new(); count];
        let mut sort = |x: u16, y: u16, cell| {
            // What is said over a picture is text.
            let owner = self.owner.get(usize::from(y) * width + usize::from(x));
            let owner = owner.filter(|_| is_picture(cell) && ground.is_none_or(|ground| cell.bg != ground));
            match owner.and_then(|owner| of.get_mut(usize::from(*owner))) {
                Some(picture) => picture.push((x, y, cell)),
                None => text.push((x, y, cell)),
            }
        };
        match parts {
            None => self.shown.diff_iter(&self.wanted).for_each(|(x, y, cell)| sort(x, y, cell)),
            Some(parts) => parts.iter().for_each(|part| differing(&self.shown, &self.wanted, *part, &mut sort)),
        }
        // Text is never put off: it is little, and it is what was asked for.
        let mut written: Vec<(u16, u16, Cell)> = Vec::new();
        let blank = Cell::default();
        let mut give = |backend: &mut CrosstermBackend<Collector<W>>, cells: &[(u16, u16, &Cell)]| {
            written.extend(cells.iter().map(|(x, y, cell)| (*x, *y, (*cell).clone())));
            // Under a picture of pixels there is a blank without a ground.
            backend.draw(cells.iter().map(|(x, y, cell)| (*x, *y, if cell.symbol() == UNDER { &blank } else { *cell })))
        };
        give(&mut self.backend, &text)?;
        let mut whole = vec![true; count];
        let now = Instant::now();
        // Pictures of pixels are paced by the terminal's answers, unless the operator set a limit.
        let takes = self.pace.takes_pictures(now);
        let takes_images = takes || self.pace.limit.is_none();
        let before = self.collected.get();
        let sent = self.images.send(&mut self.backend, pixels, &self.wanted, now, takes_images)?;
        let of_images = self.collected.get() - before;
        self.way = pixels.images.first().map(|image| image.way);
        let mut first_left = None;
        for turn in 0..count {
            let index = (self.next + turn) % count;
            for handful in of[index].chunks(if self.pace.budget == MOST { usize::MAX } else { HANDFUL }) {
                if !takes || self.collected.get() - of_images >= self.pace.budget {
                    whole[index] = false;
                    first_left.get_or_insert(index);
                    break;
                }
                give(&mut self.backend, handful)?;
            }
        }
        self.next = first_left.unwrap_or(self.next);
        self.left = pictures.iter().zip(&whole).filter(|(_, whole)| !**whole).map(|(area, _)| *area).collect();
        self.delay.since_last();
        let (bytes, began) = (self.collected.get(), Instant::now());
        ratatui::backend::Backend::flush(&mut self.backend)?;
        let tells = of_images == 0 || self.pace.limit.is_some();
        if bytes > 0 && tells {
            let (ended, delay) = (Instant::now(), self.delay.since_last());
            self.pace.on_written(bytes, ended.saturating_duration_since(began).saturating_sub(delay), ended);
        }
        self.keep(written);
        Ok(Shown { whole, sent, failed: self.images.failed.take() })
    }

    /// What was written stands there now. Of a wide letter that was overwritten in part, the other part is gone.
    fn keep(&mut self, written: Vec<(u16, u16, Cell)>) {
        let right = self.shown.area.right();
        for (x, y, cell) in &written {
            let (next, after) = (x + 1, x + 2);
            if is_wide(&self.shown[(*x, *y)]) && next < right {
                self.shown[(next, *y)].set_symbol(UNKNOWN);
            }
            if is_wide(cell) && next < right {
                if is_wide(&self.shown[(next, *y)]) && after < right {
                    self.shown[(after, *y)].set_symbol(UNKNOWN);
                }
                self.shown[(next, *y)] = self.wanted[(next, *y)].clone();
            }
        }
        for (x, y, cell) in written {
            self.shown[(x, y)] = cell;
        }
    }

    /// When the next step can go on with what was left; `None` when nothing was.
    pub fn goes_on_at(&self) -> Option<Instant> {
        let images =
            self.way.filter(|_| self.images.is_behind()).map(|way| self.images.goes_on_at(way).unwrap_or_else(Instant::now));
        (!self.left.is_empty()).then_some(self.pace.free_at).into_iter().chain(images).min()
    }

    fn learn_places(&mut self, pictures: &[Rect]) {
        let area = self.wanted.area;
        if self.pictures == pictures && self.owner.len() == area.area() as usize {
            return;
        }
        self.pictures = pictures.to_vec();
        self.owner = vec![TEXT; area.area() as usize];
        for (index, picture) in pictures.iter().enumerate() {
            let picture = picture.intersection(area);
            for row in picture.y..picture.bottom() {
                let begin = usize::from(row) * usize::from(area.width) + usize::from(picture.x);
                self.owner[begin..begin + usize::from(picture.width)].fill(index as u16);
            }
        }
    }
}

/// Whether a letter takes two cells.
fn is_wide(cell: &Cell) -> bool {
    !cell.symbol().is_ascii() && !is_picture(cell) && cell.symbol().width() > 1
}

/// The cells of a part that differ. A wide letter takes two cells, and what stood under it is gone.
fn differing<'a>(shown: &Buffer, wanted: &'a Buffer, part: Rect, found: &mut impl FnMut(u16, u16, &'a Cell)) {
    let part = part.intersection(wanted.area);
    for y in part.top()..part.bottom() {
        // What the cell before does to this one: covers it, covers it anew, leaves it bare.
        let (mut covered, mut written, mut bared) = (false, false, false);
        for x in part.left()..part.right() {
            let index = wanted.index_of(x, y);
            let (was, is) = (&shown.content[index], &wanted.content[index]);
            // Colours differ more often than letters, and are compared more quickly.
            let same = was.fg == is.fg && was.bg == is.bg && was == is;
            let differs = !covered && (!same || bared);
            if differs {
                found(x, y, is);
            }
            let overwritten = differs || (covered && written);
            (covered, written, bared) = (!covered && is_wide(is), differs, overwritten && is_wide(was));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Writes for a while to a terminal that takes so many bytes a second and has a buffer; gives what was in the buffer at
    /// most in the last second, and the bytes that were written in it.
    fn write_to(pace: &mut Pace, now: &mut Instant, rate: f64, buffer: f64, seconds: u64) -> (f64, usize) {
        let (mut fill, end) = (0.0f64, *now + Duration::from_secs(seconds));
        let (mut most, mut written) = (0.0f64, 0);
        while *now < end {
            *now = (*now + Duration::from_millis(1)).max(pace.free_at);
            let bytes = pace.budget.min(100_000); // all there is to be written
            let began = *now;
            fill += bytes as f64;
            let waits = ((fill - buffer) / rate).max(0.0);
            *now += Duration::from_secs_f64(waits);
            fill -= waits * rate;
            pace.on_written(bytes, *now - began, *now);
            if *now > end.checked_sub(Duration::from_secs(1)).unwrap() {
                (most, written) = (most.max(fill), written + bytes);
            }
            let until = pace.free_at.saturating_duration_since(*now).max(Duration::from_millis(1));
            fill = (fill - rate * until.as_secs_f64()).max(0.0);
        }
        (most, written)
    }

    #[test]
    fn a_slow_terminal_gets_small_steps_and_a_quick_one_everything() {
        let mut now = Instant::now();
        let mut pace = Pace::new(None, now);
        // 1 Mbit/s behind a buffer: what waits in it is what a key waits for.
        let (waits, written) = write_to(&mut pace, &mut now, 125e3, 12e3, 60);
        assert!(waits < 6_000.0 && written > 80_000, "{waits} {written} {pace:?}");
        // It is quick again: that is found out, slowly.
        let (_, written) = write_to(&mut pace, &mut now, 1e9, 12e3, 300);
        assert!(written > 1_000_000, "{written} {pace:?}");
        let mut quick = Pace::new(None, now);
        write_to(&mut quick, &mut now, 1e9, 12e3, 1);
        assert_eq!((quick.rate, quick.takes_pictures(now)), (None, true));
        // A machine that was busy for a moment is no slow terminal.
        quick.on_written(30_000, Duration::from_millis(90), now);
        assert_eq!((quick.rate, quick.takes_pictures(now)), (None, true));
        // As the operator said, whatever it seems to take.
        let mut limited = Pace::new(Some(50e3), now);
        let (_, written) = write_to(&mut limited, &mut now, 1e9, 1e9, 20);
        assert!((30_000..=50_000).contains(&written), "{written}");
    }

    /// Keeps what is written.
    #[derive(Clone, Default)]
    struct Tape(Rc<std::cell::RefCell<Vec<u8>>>);

    impl Write for Tape {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.borrow_mut().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    /// What a terminal of this size shows after these bytes.
    fn terminal(bytes: &[u8]) -> vt100::Parser {
        let mut parser = vt100::Parser::new(20, 60, 0);
        parser.process(bytes);
        parser
    }

    #[test]
    fn text_goes_first_pictures_take_turns_and_nothing_is_lost() {
        let (area, left, right) = (Rect::new(0, 0, 60, 20), Rect::new(0, 1, 30, 18), Rect::new(30, 1, 30, 18));
        let tape = Tape::default();
        let mut display = Display::new(tape.clone(), None);
        display.pace.budget = 3_000;
        let draw = |display: &mut Display<Tape>, foot: &str, shade: u8| {
            let buf = display.blank(area).unwrap();
            for place in [left, right] {
                for (x, y) in place.positions().map(|at| (at.x, at.y)) {
                    buf[(x, y)].set_symbol("▚").set_bg(Color::Rgb(shade, x as u8, y as u8));
                }
            }
            buf.set_string(0, 19, foot, ratatui::style::Style::new());
            display.show(&[left, right], None, &InPixels::default()).unwrap().whole
        };
        let mut steps = vec![draw(&mut display, "first", 1)];
        let bytes = tape.0.borrow().clone();
        assert!(terminal(&bytes).screen().contents().contains("first"), "text is there after the first step");
        assert!(bytes.len() < 8_000, "{}", bytes.len());
        assert_eq!(steps[0], [false, false]);
        display.pace.budget = 3_000;
        // The same picture until it is whole; a key's text comes at once meanwhile.
        for step in 0..40 {
            display.pace.budget = 3_000;
            steps.push(draw(&mut display, &format!("step {step}"), 1));
            assert!(terminal(&tape.0.borrow().clone()).screen().contents().contains(&format!("step {step}")));
            if display.goes_on_at().is_none() {
                break;
            }
        }
        let done = |picture: usize| steps.iter().position(|whole| whole[picture]).unwrap();
        assert!(done(0) < done(1) && done(1) + 1 == steps.len(), "{steps:?}");
        let parser = terminal(&tape.0.borrow().clone());
        for (x, y) in left.positions().chain(right.positions()).map(|at| (at.x, at.y)) {
            let cell = parser.screen().cell(y, x).unwrap();
            assert_eq!((cell.contents(), cell.bgcolor()), ("▚", vt100::Color::Rgb(1, x as u8, y as u8)));
        }
        let before = tape.0.borrow().clone().len();
        assert_eq!(draw(&mut display, "step 7", 1).len(), 2);
        assert!(tape.0.borrow().clone().len() - before < 60, "what is there already is not written again");
    }

    #[test]
    fn what_is_drawn_in_parts_stands_there_as_if_all_had_been_drawn() {
        let area = Rect::new(0, 0, 60, 20);
        let parts = [Rect::new(0, 1, 20, 6), Rect::new(20, 1, 21, 6), Rect::new(0, 8, 60, 3)];
        let texts = ["無信号 無信号", "a longer line of plain letters", "x無x無x無", "", "▚▚▚▚▚▚▚▚", "é無"];
        let tape = Tape::default();
        let mut display = Display::new(tape.clone(), None);
        display.blank(area).unwrap().set_string(0, 0, "a header", ratatui::style::Style::new());
        display.show(&parts, None, &InPixels::default()).unwrap();
        let mut seed = 1u64;
        let mut random = move |below: usize| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) as usize % below
        };
        for step in 0..300 {
            // A terminal that takes little now and then.
            display.pace.budget = [MOST, 600][random(2)];
            let drawn: Vec<Rect> = parts.into_iter().filter(|_| random(2) == 0).collect();
            let buf = display.again(area).unwrap();
            for part in &drawn {
                part.positions().for_each(|at| buf[at].reset());
                for y in part.top()..part.bottom() {
                    let (x, text) = (part.x + random(6) as u16, texts[random(texts.len())]);
                    let room = usize::from(part.right() - x);
                    let style = ratatui::style::Style::new().bg(Color::Rgb(random(3) as u8, 0, 0));
                    buf.set_stringn(x, y, text, room, style);
                }
            }
            display.show_again(&drawn, &parts, None).unwrap();
            if step % 10 != 9 {
                continue;
            }
            for _ in 0..50 {
                display.pace.budget = MOST;
                display.show_again(&[], &parts, None).unwrap();
            }
            // All of it written to another terminal at once.
            let whole = Tape::default();
            let mut other = Display::new(whole.clone(), None);
            other.blank(area).unwrap().clone_from(&display.wanted);
            other.pace.budget = MOST;
            other.show(&parts, None, &InPixels::default()).unwrap();
            let (shown, wanted) = (terminal(&tape.0.borrow()), terminal(&whole.0.borrow()));
            let rows =
                |parser: &vt100::Parser| parser.screen().rows(0, 60).map(|row| row.trim_end().to_owned()).collect::<Vec<_>>();
            assert_eq!(rows(&shown), rows(&wanted), "step {step}");
            for (x, y) in area.positions().map(|at| (at.x, at.y)) {
                let grounds = [&shown, &wanted].map(|parser| parser.screen().cell(y, x).map(vt100::Cell::bgcolor));
                assert_eq!(grounds[0], grounds[1], "step {step} at {x}, {y}");
            }
        }
    }
}
