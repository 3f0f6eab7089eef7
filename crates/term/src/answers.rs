//! What a terminal answers, told apart from what the operator types.
//!
//! Answers come on the same line as keys, at any time and in any pieces. [`Sieve`] takes them out: application strings
//! (`ESC _ … ESC \`), device strings (`ESC P … ESC \`), and those control sequences that only a terminal sends (ECMA-48
//! §5.4: `CSI ? … c`, `CSI ? … S`, `CSI ? … $ y`, `CSI 0 n`, `CSI … t`). Everything else goes on as it came, to the byte, and
//! so does what stands inside of a paste.

/// An answer that is longer is none.
const LONGEST: usize = 4096;

/// What an answer says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Answer {
    /// Primary device attributes: the last question of all was answered. Whether it takes sixel.
    Attributes {
        /// Attribute 4.
        sixel: bool,
    },
    /// Kitty graphics: which image, and whether it was taken.
    Graphics {
        /// Its number.
        id: u32,
        /// `OK`, or what was wrong.
        taken: Result<(), String>,
    },
    /// Width and height of a cell in pixels.
    CellSize(u16, u16),
    /// Width and height of the window in pixels.
    WindowSize(u32, u32),
    /// Colour registers for sixel.
    Colours(u32),
    /// The largest sixel picture in pixels.
    Largest(u32, u32),
    /// Whether updates can be held together (mode 2026).
    Synchronized(bool),
    /// Its name and version.
    Name(String),
    /// It can tell when keys are let go (the keyboard protocol of kitty, progressive enhancement).
    Releases,
    /// It has done all that it was sent before it was asked.
    Done,
    /// Something that was not asked, or not understood.
    Other,
}

/// Numbers between semicolons.
fn numbers(text: &str) -> Vec<u32> {
    text.split(';').map(|part| part.parse().unwrap_or(0)).collect()
}

/// Understands a whole answer, with its escape.
fn understand(bytes: &[u8]) -> Answer {
    let text = String::from_utf8_lossy(bytes);
    let body = text.get(2..).unwrap_or("");
    let string = body.strip_suffix("\x1b\\").unwrap_or(body);
    match bytes.get(1) {
        Some(b'_') => {
            let Some((keys, told)) = string.strip_prefix('G').and_then(|rest| rest.split_once(';')) else { return Answer::Other };
            let id = keys.split(',').find_map(|key| key.strip_prefix("i=")?.parse().ok());
            let taken = if told == "OK" { Ok(()) } else { Err(told.chars().take(200).collect()) };
            id.map_or(Answer::Other, |id| Answer::Graphics { id, taken })
        }
        Some(b'P') => string
            .strip_prefix(">|")
            .map_or(Answer::Other, |name| Answer::Name(name.chars().filter(|letter| !letter.is_control()).take(100).collect())),
        Some(b'[') => sequence(body),
        _ => Answer::Other,
    }
}

fn sequence(body: &str) -> Answer {
    let Some(last) = body.chars().last() else { return Answer::Other };
    let inner = &body[..body.len() - last.len_utf8()];
    match (inner.strip_prefix('?'), last) {
        (Some(own), 'c') => Answer::Attributes { sixel: numbers(own).iter().skip(1).any(|attribute| *attribute == 4) },
        (Some(own), 'S') => match numbers(own).as_slice() {
            [1, 0, colours] => Answer::Colours(*colours),
            [2, 0, width, height] => Answer::Largest(*width, *height),
            _ => Answer::Other,
        },
        (Some(own), 'y') => match numbers(own.trim_end_matches('$')).as_slice() {
            // 1 and 2: set and reset; 3: always set. Else it is not known.
            [2026, state] => Answer::Synchronized((1..=3).contains(state)),
            _ => Answer::Other,
        },
        (Some(_), 'u') => Answer::Releases,
        (None, 'n') => Answer::Done,
        (None, 't') => match numbers(inner).as_slice() {
            [6, height, width] => match (u16::try_from(*width), u16::try_from(*height)) {
                (Ok(width), Ok(height)) if width > 0 && height > 0 => Answer::CellSize(width, height),
                _ => Answer::Other,
            },
            [4, height, width] => Answer::WindowSize(*width, *height),
            _ => Answer::Other,
        },
        _ => Answer::Other,
    }
}

/// How far a sequence has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum At {
    #[default]
    Outside,
    Escape,
    Control,
    /// In an application or device string; whether its end has begun.
    Text(bool),
}

const PASTE: &[u8] = b"\x1b[200~";
const PASTE_END: &[u8] = b"\x1b[201~";

/// Tells answers from input.
#[derive(Debug, Default)]
pub struct Sieve {
    at: At,
    /// What came of a sequence that has not ended.
    held: Vec<u8>,
    /// Inside of a paste; its last bytes.
    paste: Option<Vec<u8>>,
}

impl Sieve {
    /// Takes what came: input goes to `input`, answers are given.
    pub fn take(&mut self, bytes: &[u8], input: &mut Vec<u8>) -> Vec<Answer> {
        let mut answers = Vec::new();
        for byte in bytes {
            answers.extend(self.take_one(*byte, input));
        }
        answers
    }

    /// Something is held that may become an answer.
    pub fn is_waiting(&self) -> bool {
        !self.held.is_empty()
    }

    /// Nothing came for a while: what is held was input, an escape alone say.
    pub fn give_up(&mut self, input: &mut Vec<u8>) {
        self.at = At::Outside;
        input.append(&mut self.held);
    }

    fn take_one(&mut self, byte: u8, input: &mut Vec<u8>) -> Option<Answer> {
        if let Some(last) = &mut self.paste {
            input.push(byte);
            last.push(byte);
            if last.len() > PASTE_END.len() {
                last.remove(0);
            }
            if last == PASTE_END {
                self.paste = None;
            }
            return None;
        }
        if self.at != At::Outside {
            self.held.push(byte);
        }
        match (self.at, byte) {
            (At::Outside, 0x1b) => {
                self.held.push(byte);
                self.at = At::Escape;
            }
            (At::Outside, _) => input.push(byte),
            (At::Escape, b'[') => self.at = At::Control,
            (At::Escape, b'_' | b'P') => self.at = At::Text(false),
            // An escape and another one: the first was a key.
            (At::Escape, 0x1b) => {
                input.push(0x1b);
                self.held.pop();
            }
            (At::Escape, _) => self.give_up(input),
            (At::Control, 0x40..=0x7e) => return self.control_ended(byte, input),
            (At::Control, 0x20..=0x3f) => {}
            (At::Text(_), 0x1b) => self.at = At::Text(true),
            (At::Text(true), b'\\') => {
                self.at = At::Outside;
                return Some(understand(&std::mem::take(&mut self.held)));
            }
            (At::Text(_), _) => self.at = At::Text(false),
            (At::Control, _) => self.give_up(input),
        }
        if self.held.len() > LONGEST {
            self.give_up(input);
        }
        None
    }

    fn control_ended(&mut self, last: u8, input: &mut Vec<u8>) -> Option<Answer> {
        let held = std::mem::take(&mut self.held);
        self.at = At::Outside;
        let own = held.get(2) == Some(&b'?');
        let is_answer = match last {
            b'c' | b'S' | b'u' => own,
            b'y' => own && held.contains(&b'$'),
            b'n' => held == b"\x1b[0n" || held == b"\x1b[3n",
            b't' => held.len() > 3 && !own,
            _ => false,
        };
        if is_answer {
            return Some(understand(&held));
        }
        if held == PASTE {
            self.paste = Some(Vec::new());
        }
        input.extend_from_slice(&held);
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ANSWERS: [(&[u8], Answer); 12] = [
        (b"\x1b[?62;4;22c", Answer::Attributes { sixel: true }),
        (b"\x1b[?64;1;2;18c", Answer::Attributes { sixel: false }),
        (b"\x1b[6;16;8t", Answer::CellSize(8, 16)),
        (b"\x1b[4;800;1280t", Answer::WindowSize(1280, 800)),
        (b"\x1b[?1;0;1024S", Answer::Colours(1024)),
        (b"\x1b[?2;0;4096;2048S", Answer::Largest(4096, 2048)),
        (b"\x1b[?1;3;0S", Answer::Other),
        (b"\x1b[?2026;2$y", Answer::Synchronized(true)),
        (b"\x1b[?2026;0$y", Answer::Synchronized(false)),
        (b"\x1b[?0u", Answer::Releases),
        (b"\x1b[0n", Answer::Done),
        (b"\x1b_Gi=31;OK\x1b\\", Answer::Graphics { id: 31, taken: Ok(()) }),
    ];

    #[test]
    fn each_answer_is_understood_in_any_pieces_and_keys_go_on() {
        for (bytes, wanted) in &ANSWERS {
            for cut in 0..=bytes.len() {
                let (mut sieve, mut input) = (Sieve::default(), Vec::new());
                let mut got = sieve.take(b"j", &mut input);
                got.extend(sieve.take(&bytes[..cut], &mut input));
                got.extend(sieve.take(&bytes[cut..], &mut input));
                got.extend(sieve.take(b"\x1b[A\x1b[<0;3;4Mq", &mut input));
                assert_eq!((got.as_slice(), input.as_slice()), ([wanted.clone()].as_slice(), b"j\x1b[A\x1b[<0;3;4Mq".as_slice()));
            }
        }
        let (mut sieve, mut input) = (Sieve::default(), Vec::new());
        let refused = sieve.take(b"\x1b_Gi=7;EBADF:no such object\x1b\\\x1bP>|some term 1.2\x1b\\", &mut input);
        let no = Answer::Graphics { id: 7, taken: Err("EBADF:no such object".into()) };
        assert_eq!(refused, [no, Answer::Name("some term 1.2".into())]);
        assert!(input.is_empty());
    }

    #[test]
    fn an_escape_alone_is_a_key_and_a_paste_is_left_alone() {
        let (mut sieve, mut input) = (Sieve::default(), Vec::new());
        assert!(sieve.take(b"\x1b", &mut input).is_empty() && input.is_empty() && sieve.is_waiting());
        sieve.give_up(&mut input);
        assert_eq!((input.as_slice(), sieve.is_waiting()), (b"\x1b".as_slice(), false));
        input.clear();
        let paste = b"\x1b[200~one\x1b[0n\x1b_Gi=1;OK\x1b\\two\x1b[201~\x1b[0n";
        assert_eq!(sieve.take(paste, &mut input), [Answer::Done]);
        assert_eq!(input, &paste[..paste.len() - 4]);
        // One that never ends is given up, not kept for ever.
        input.clear();
        sieve.take(&[b"\x1b_".as_slice(), &[b'x'; LONGEST * 2]].concat(), &mut input);
        assert_eq!((input.len(), sieve.is_waiting()), (LONGEST * 2 + 2, false));
    }

    proptest! {
        #[test]
        fn nothing_is_lost_or_made_up(keys in proptest::collection::vec(any::<u8>(), 0..200), cut in 0usize..200) {
            let (mut sieve, mut input) = (Sieve::default(), Vec::new());
            let cut = cut.min(keys.len());
            let mut answers = sieve.take(&keys[..cut], &mut input);
            answers.extend(sieve.take(&keys[cut..], &mut input));
            sieve.give_up(&mut input);
            if answers.is_empty() {
                prop_assert_eq!(&input, &keys);
            }
            prop_assert!(input.len() <= keys.len());
        }
    }
}
