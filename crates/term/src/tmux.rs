//! Kitty graphics through tmux, which knows nothing of pictures: commands go through it in an envelope, and a picture stands
//! where the text has placeholders for it, so that tmux moves, covers and wipes it out as it does with any text.
//!
//! Of the protocol this uses virtual placements (`U=1`), edits of their pixels (`a=f`), and Unicode placeholders: a letter of private use, with one mark each
//! for the row and the column of the picture and for the highest byte of its number; the lowest byte is the letter's colour.

use crate::kitty::{self, Sent, Turn};
use ratatui::layout::Rect;
use std::collections::BTreeSet;
use std::io::{self, Write};
use std::process::{Command, Stdio};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// tmux answers within this time, or not at all.
const WAITS: Duration = Duration::from_secs(1);
/// Another terminal is noticed after this time.
const LOOKS: Duration = Duration::from_secs(3);
/// The letter that a picture stands in for.
const PLACEHOLDER: char = '\u{10eeee}';
/// Marks for numbers from 0 on, first and last of each run, as the protocol lists them.
#[rustfmt::skip]
const MARKS: [(u32, u32); 86] = [
    (0x0305, 0x0305), (0x030d, 0x030e), (0x0310, 0x0310), (0x0312, 0x0312), (0x033d, 0x033f), (0x0346, 0x0346),
    (0x034a, 0x034c), (0x0350, 0x0352), (0x0357, 0x0357), (0x035b, 0x035b), (0x0363, 0x036f), (0x0483, 0x0487),
    (0x0592, 0x0595), (0x0597, 0x0599), (0x059c, 0x05a1), (0x05a8, 0x05a9), (0x05ab, 0x05ac), (0x05af, 0x05af),
    (0x05c4, 0x05c4), (0x0610, 0x0617), (0x0657, 0x065b), (0x065d, 0x065e), (0x06d6, 0x06dc), (0x06df, 0x06e2),
    (0x06e4, 0x06e4), (0x06e7, 0x06e8), (0x06eb, 0x06ec), (0x0730, 0x0730), (0x0732, 0x0733), (0x0735, 0x0736),
    (0x073a, 0x073a), (0x073d, 0x073d), (0x073f, 0x0741), (0x0743, 0x0743), (0x0745, 0x0745), (0x0747, 0x0747),
    (0x0749, 0x074a), (0x07eb, 0x07f1), (0x07f3, 0x07f3), (0x0816, 0x0819), (0x081b, 0x0823), (0x0825, 0x0827),
    (0x0829, 0x082d), (0x0951, 0x0951), (0x0953, 0x0954), (0x0f82, 0x0f83), (0x0f86, 0x0f87), (0x135d, 0x135f),
    (0x17dd, 0x17dd), (0x193a, 0x193a), (0x1a17, 0x1a17), (0x1a75, 0x1a7c), (0x1b6b, 0x1b6b), (0x1b6d, 0x1b73),
    (0x1cd0, 0x1cd2), (0x1cda, 0x1cdb), (0x1ce0, 0x1ce0), (0x1dc0, 0x1dc1), (0x1dc3, 0x1dc9), (0x1dcb, 0x1dcc),
    (0x1dd1, 0x1de6), (0x1dfe, 0x1dfe), (0x20d0, 0x20d1), (0x20d4, 0x20d7), (0x20db, 0x20dc), (0x20e1, 0x20e1),
    (0x20e7, 0x20e7), (0x20e9, 0x20e9), (0x20f0, 0x20f0), (0x2cef, 0x2cf1), (0x2de0, 0x2dff), (0xa66f, 0xa66f),
    (0xa67c, 0xa67d), (0xa6f0, 0xa6f1), (0xa8e0, 0xa8f1), (0xaab0, 0xaab0), (0xaab2, 0xaab3), (0xaab7, 0xaab8),
    (0xaabe, 0xaabf), (0xaac1, 0xaac1), (0xfe20, 0xfe26), (0x10a0f, 0x10a0f), (0x10a38, 0x10a38), (0x1d185, 0x1d189),
    (0x1d1aa, 0x1d1ad), (0x1d242, 0x1d244),
];

/// Pictures that the terminal behind tmux holds.
static HELD: Mutex<BTreeSet<u32>> = Mutex::new(BTreeSet::new());

/// What tmux tells of itself and of the terminal that it shows this program on.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Tmux {
    /// It lets sequences through (`allow-passthrough`).
    pub passes: bool,
    /// The process that shows it on a terminal.
    pub client: String,
    /// Name and version of that terminal, as it told them.
    pub terminal: String,
}

impl Tmux {
    /// Asks the tmux that this program runs in; one that says nothing lets nothing through.
    pub fn ask() -> Self {
        let Ok(pane) = std::env::var("TMUX_PANE") else { return Self::default() };
        let until = Instant::now() + WAITS;
        loop {
            let told = Self::ask_until(&pane, until).unwrap_or_default();
            // It may have begun only just, and have asked the terminal itself.
            if !told.passes || !told.terminal.is_empty() || Instant::now() > until {
                return told;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Asks on a thread of its own, and tells what is new, until nobody listens: tmux is brought to other terminals while the
    /// program runs.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn watch(tell: impl Fn(Self) -> bool + Send + 'static) -> io::Result<()> {
        let watching = move || {
            let mut last = Self::default();
            loop {
                let told = Self::ask();
                if !told.passes && last == Self::default() {
                    return;
                }
                if told != last && !tell(told.clone()) {
                    return;
                }
                last = told;
                std::thread::sleep(LOOKS);
            }
        };
        std::thread::Builder::new().name("tmux".into()).spawn(watching).map(drop)
    }

    fn ask_until(pane: &str, until: Instant) -> Option<Self> {
        let mut asked = Command::new("tmux")
            .args(["display-message", "-p", "-t", pane, "#{allow-passthrough} #{client_pid} #{client_termtype}"])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .ok()?;
        while asked.try_wait().ok()?.is_none() {
            if Instant::now() > until {
                let _ = asked.kill();
                let _ = asked.wait();
                return None;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        Some(Self::told(&io::read_to_string(asked.stdout.take()?).ok()?))
    }

    fn told(answer: &str) -> Self {
        let mut told = answer.trim_end().splitn(3, ' ').map(|part| part.chars().filter(|letter| !letter.is_control()).take(100));
        let mut next = || told.next().map(String::from_iter).unwrap_or_default();
        Self { passes: matches!(next().as_str(), "1" | "2" | "on" | "all"), client: next(), terminal: next() }
    }

    /// Whether pictures can stand in its text.
    pub fn takes_pictures(&self) -> bool {
        // Kitty knows placeholders from 0.28 on, and cannot be asked about them.
        let known = self.terminal.strip_prefix("kitty(").is_some_and(|version| {
            let mut numbers = version.trim_end_matches(')').split('.').map_while(|number| number.parse::<u32>().ok());
            (numbers.next(), numbers.next()) >= (Some(0), Some(28))
        });
        self.passes && known
    }
}

/// Commands for the terminal behind tmux: each in an envelope of its own, since tmux takes no long ones.
///
/// # Errors
/// When it cannot be written.
pub fn through(out: &mut impl Write, commands: &[u8]) -> io::Result<()> {
    for command in commands.split_inclusive(|byte| *byte == b'\\') {
        out.write_all(b"\x1bPtmux;")?;
        for piece in command.split_inclusive(|byte| *byte == 0x1b) {
            out.write_all(piece)?;
            if piece.ends_with(b"\x1b") {
                out.write_all(b"\x1b")?;
            }
        }
        out.write_all(b"\x1b\\")?;
    }
    Ok(())
}

/// The same for what is asked.
pub fn enveloped(commands: &str) -> String {
    let mut out = Vec::new();
    // Nothing fails that is written to memory.
    let _ = through(&mut out, commands.as_bytes());
    String::from_utf8_lossy(&out).into_owned()
}

/// A picture goes to the terminal; it stands where its placeholders are, `at` large in cells. The next one of as many pixels
/// takes its place there, and the text stays as it is.
///
/// # Errors
/// When there is no shared memory for it, or it cannot be written.
pub fn send(out: &mut impl Write, sent: &Sent<'_>, at: Rect, shared: bool) -> io::Result<()> {
    let mut commands = Vec::new();
    if shared {
        kitty::through_memory(&mut commands, sent)?;
    } else {
        kitty::inline(&mut commands, sent)?;
    }
    let image = sent.turn.image();
    if sent.again {
        return through(out, &commands);
    }
    write!(commands, "\x1b_Ga=p,U=1,q=2,i={image},c={},r={}\x1b\\", at.width, at.height)?;
    HELD.lock().unwrap_or_else(PoisonError::into_inner).insert(image);
    through(out, &commands)
}

/// Placeholders for parts of a picture which is `at` large in cells. Columns for which there is no mark go on from those to
/// their left; rows for which there is none have no picture.
///
/// # Errors
/// When it cannot be written.
pub fn place(out: &mut impl Write, turn: Turn, parts: &[Rect], at: Rect) -> io::Result<()> {
    let [highest, .., lowest] = turn.image().to_be_bytes();
    let marks = marks();
    let mark = |number: u16| marks.get(usize::from(number));
    let Some(highest) = mark(highest.into()) else { return Ok(()) };
    write!(out, "\x1b[0;38;5;{lowest}m")?;
    for part in parts {
        for row in part.y..part.bottom() {
            let Some(row_mark) = mark(row) else { break };
            write!(out, "\x1b[{};{}H", at.y + row + 1, at.x + part.x + 1)?;
            for column in part.x..part.right() {
                match mark(column) {
                    Some(column) => write!(out, "{PLACEHOLDER}{row_mark}{column}{highest}")?,
                    None => write!(out, "{PLACEHOLDER}")?,
                }
            }
        }
    }
    write!(out, "\x1b[0m")
}

fn marks() -> Vec<char> {
    MARKS.iter().flat_map(|(first, last)| *first..=*last).filter_map(char::from_u32).collect()
}

/// Takes a picture out of the terminal.
///
/// # Errors
/// When it cannot be written.
pub fn remove(out: &mut impl Write, turn: Turn) -> io::Result<()> {
    HELD.lock().unwrap_or_else(PoisonError::into_inner).remove(&turn.image());
    let mut command = Vec::new();
    kitty::remove(&mut command, turn, true)?;
    through(out, &command)
}

/// Takes out of the terminal what it still holds.
///
/// # Errors
/// When it cannot be written.
pub fn remove_all(out: &mut impl Write) -> io::Result<()> {
    for image in std::mem::take(&mut *HELD.lock().unwrap_or_else(PoisonError::into_inner)) {
        through(out, kitty::removal(image, true).as_bytes())?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tmux_is_believed_where_it_passes_to_a_terminal_that_knows_placeholders() {
        for (answer, takes) in [
            ("1 77 kitty(0.41.1)\n", true),
            ("all 77 kitty(1.0.0)\n", true),
            ("0 77 kitty(0.41.1)\n", false),
            ("1 77 kitty(0.26.5)\n", false),
            ("1 77 XTerm(379)\n", false),
            ("1 \n", false),
            ("", false),
            ("unknown format kitty(", false),
            ("1 77 kitty(9999999999999.1)", false),
        ] {
            assert_eq!(Tmux::told(answer).takes_pictures(), takes, "{answer:?}");
        }
    }

    #[test]
    fn commands_go_in_envelopes_and_placeholders_tell_row_column_and_picture() {
        let marks = marks();
        assert_eq!((marks.len(), marks[0], marks[296]), (297, '\u{305}', '\u{1d244}'));
        let (turn, at) = (Turn { tile: 3, second: true }, Rect::new(10, 5, 4, 2));
        let mut out = Vec::new();
        send(&mut out, &Sent { rgb: &[9; 24], size: (4, 2), turn, again: false }, at, false).unwrap();
        let text = String::from_utf8(std::mem::take(&mut out)).unwrap();
        send(&mut out, &Sent { rgb: &[8; 24], size: (4, 2), turn, again: true }, at, false).unwrap();
        let again = String::from_utf8(std::mem::take(&mut out)).unwrap();
        assert!(again.contains("_Ga=f,r=1,X=1,q=2") && !again.contains("a=p"), "{again:?}");
        let envelopes: Vec<&str> = text.split_inclusive("\x1b\x1b\\\x1b\\").collect();
        assert_eq!(envelopes.len(), 2, "{text:?}");
        assert!(envelopes.iter().all(|envelope| envelope.starts_with("\x1bPtmux;\x1b\x1b_G")), "{text:?}");
        assert!(envelopes[1].contains("a=p,U=1,q=2") && envelopes[1].contains("c=4,r=2"), "{text:?}");
        place(&mut out, turn, &[Rect::new(1, 1, 2, 1)], at).unwrap();
        let text = String::from_utf8(std::mem::take(&mut out)).unwrap();
        let [highest, 0, 0, lowest] = turn.image().to_be_bytes() else { panic!("{}", turn.image()) };
        let cell = |column: usize| format!("{PLACEHOLDER}{}{}{}", marks[1], marks[column], marks[usize::from(highest)]);
        assert_eq!(text, format!("\x1b[0;38;5;{lowest}m\x1b[7;12H{}{}\x1b[0m", cell(1), cell(2)));
        let wide = Rect::new(0, 0, 400, 400);
        place(&mut out, turn, &[wide], wide).unwrap();
        let text = String::from_utf8(std::mem::take(&mut out)).unwrap();
        assert_eq!(text.matches(PLACEHOLDER).count(), 400 * 297, "what has no mark is no picture, and no harm");
        remove_all(&mut out).unwrap();
        assert!(String::from_utf8(out).unwrap().contains(&format!("a=d,d=I,i={}", turn.image())));
    }
}
