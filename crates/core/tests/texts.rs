//! docs/TEXTS.md: every text that the program can show, by the file that it stands in, so that all of them can be read as a whole. It is
//! made from the sources; after a change `NEW_KEYS=1 cargo test -p lattice-core --test texts` writes it anew.
#![allow(clippy::unwrap_used, clippy::case_sensitive_file_extension_comparisons, missing_docs)]

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Words that the vocabulary has another word for, with that word.
const RULED_OUT: [(&str, &str); 14] = [
    ("take note of", "acknowledge"),
    ("taken note of", "acknowledged"),
    ("needs a hand", "in alarm"),
    ("i-frame", "keyframe"),
    ("kbps", "kbit/s"),
    ("mbps", "Mbit/s"),
    ("substream", "sub stream"),
    ("mainstream", "main stream"),
    ("login", "sign-in"),
    ("log in", "sign in"),
    ("failed to", "cannot"),
    ("unable to", "cannot"),
    ("an error occurred", "what happened"),
    ("invalid", "what is wrong with it"),
];
/// The longest text of one piece; help pages of commands and the definitions of a report are longer.
const LONGEST: usize = 300;

/// The string literals of a source without its tests and comments, each with what stands before it in its line.
fn literals(source: &str) -> Vec<(String, String)> {
    let source = source.split("#[cfg(test)]\nmod tests").next().unwrap_or(source);
    let letters: Vec<char> = source.chars().collect();
    let (mut out, mut at, mut line) = (Vec::new(), 0, String::new());
    while let Some(letter) = letters.get(at).copied() {
        let next = letters.get(at + 1).copied();
        match letter {
            '\n' => line.clear(),
            '/' if next == Some('/') => {
                while letters.get(at).is_some_and(|letter| *letter != '\n') {
                    at += 1;
                }
                line.clear();
            }
            // A letter in quotes may be a quote itself.
            '\'' if letters.get(at + 2) == Some(&'\'') => at += 2,
            '\'' if next == Some('\\') && letters.get(at + 3) == Some(&'\'') => at += 3,
            '"' => {
                let mut text = String::new();
                at += 1;
                while let Some(letter) = letters.get(at).copied().filter(|letter| *letter != '"') {
                    let escaped = letters.get(at + 1).copied();
                    match (letter, escaped) {
                        ('\\', Some('\n')) => {
                            at += 1;
                            while letters.get(at + 1).is_some_and(|letter| letter.is_whitespace()) {
                                at += 1;
                            }
                        }
                        ('\\', Some('n')) => (at, text) = (at + 1, text + " / "),
                        ('\\', Some(escaped)) => {
                            text.push(escaped);
                            at += 1;
                        }
                        ('\n', _) => text.push_str(" / "),
                        _ => text.push(letter),
                    }
                    at += 1;
                }
                out.push((line.clone(), text));
            }
            _ => {}
        }
        line.push(letter);
        at += 1;
    }
    out
}

/// Whether a literal is words for people: not a key, a query, a format of another program, or a line of the log.
fn is_shown(before: &str, text: &str) -> bool {
    let foreign = ["SELECT", "INSERT", "CREATE ", "DELETE FROM", "UPDATE ", "PRAGMA", "xmlns", "<s:", "</", "HTTP/1", "RTSP/1"];
    let words = text.split_whitespace().filter(|word| word.chars().filter(|letter| letter.is_alphabetic()).count() > 1).count();
    let logged = before.contains("tracing::") || before.contains("expect(") || before.contains("reason =");
    words > 1 && !logged && !foreign.iter().any(|part| text.contains(part))
}

fn sources(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        let name = entry.file_name().into_string().unwrap();
        if path.is_dir() && name != "tests" {
            sources(&path, out);
        } else if name.ends_with(".rs") && !name.starts_with("tests") {
            out.push(path);
        }
    }
}

#[test]
fn the_table_of_texts_is_what_the_sources_say_and_keeps_to_the_vocabulary() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap();
    let mut files = Vec::new();
    for part in ["app", "core", "engine", "media", "net", "report", "store", "term"] {
        sources(&root.join("crates").join(part).join("src"), &mut files);
    }
    let mut table: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for file in files {
        let name = file.strip_prefix(&root).unwrap().display().to_string();
        let shown =
            literals(&std::fs::read_to_string(&file).unwrap()).into_iter().filter(|(before, text)| is_shown(before, text));
        for (_, text) in shown {
            // Names of what is filled in are no words.
            let lower: String =
                text.to_lowercase().split('{').map(|part| part.split_once('}').map_or(part, |(_, after)| after)).collect();
            for (word, instead) in RULED_OUT {
                assert!(!lower.contains(word), "{name}: {text:?} says {word:?}: say {instead:?}");
            }
            let long = name.ends_with("cli.rs") || name.starts_with("crates/report/src/s") || name.ends_with("document.rs");
            assert!(long || text.chars().count() <= LONGEST, "{name}: {} letters: {text:?}", text.chars().count());
            let texts = table.entry(name.clone()).or_default();
            if !texts.contains(&text) {
                texts.push(text);
            }
        }
    }
    let mut page = String::from(
        "# Texts\n\nEvery text that the program can show, by the file that it stands in; braces stand for what is filled in, and `/` for the end of a\n\
         line. Made from the sources: after a change `NEW_KEYS=1 cargo test -p lattice-core --test texts` writes it anew.\n",
    );
    for (file, texts) in &table {
        page.extend(["\n## ", file.as_str(), "\n\n"]);
        for text in texts {
            page.extend(["- ", &text.replace('<', "\\<").replace('*', "\\*"), "\n"]);
        }
    }
    let path = root.join("docs/TEXTS.md");
    if std::env::var_os("NEW_KEYS").is_some() {
        std::fs::write(&path, &page).unwrap();
    }
    assert!(table.len() > 60 && page.lines().count() > 1000, "{} files, {} lines", table.len(), page.lines().count());
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    let differs = kept.lines().zip(page.lines()).find(|(kept, said)| kept != said);
    assert!(kept == page, "docs/TEXTS.md: {differs:?}; NEW_KEYS=1 cargo test -p lattice-core --test texts");
}
