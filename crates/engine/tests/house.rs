//! What the crates of this tree may know of each other, and how large their files may be.
#![allow(clippy::unwrap_used, missing_docs)]

use std::path::{Path, PathBuf};
use std::process::Command;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Everything that a crate is built from, by name.
fn built_from(package: &str) -> Vec<String> {
    let cargo = std::env::var("CARGO").unwrap_or_else(|_| "cargo".into());
    let arguments = ["tree", "-e", "normal", "--prefix", "none", "--format", "{p}", "--offline", "--locked", "-p", package];
    let output = Command::new(cargo).current_dir(root()).args(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    let names: Vec<String> = text.lines().filter_map(|line| line.split(' ').next()).map(str::to_owned).collect();
    assert!(names.iter().any(|name| name == package), "{names:?}");
    names
}

#[test]
fn each_crate_knows_only_those_below_it() {
    let interface = ["ratatui", "ratatui-core", "crossterm", "clap", "tui-input", "lattice-term", "lattice-sim", "amber-lattice"];
    let io = ["tokio", "rusqlite", "hyper", "nix", "socket2"];
    let above_core = ["lattice-media", "lattice-net", "lattice-store", "lattice-report", "lattice-engine"];
    let siblings = |own: &str| above_core.into_iter().filter(|name| *name != own).collect::<Vec<_>>();
    let never = |own: &str| [interface.to_vec(), siblings(own)].concat();
    for (package, never) in [
        ("lattice-core", [interface.to_vec(), io.to_vec(), above_core.to_vec()].concat()),
        ("lattice-media", [never("lattice-media"), vec!["tokio"]].concat()),
        ("lattice-net", never("lattice-net")),
        ("lattice-store", never("lattice-store")),
        ("lattice-report", never("lattice-report")),
        ("lattice-engine", interface.to_vec()),
        ("lattice-term", vec!["clap", "tui-input", "tokio", "lattice-net", "lattice-store", "lattice-engine", "lattice-sim"]),
    ] {
        let from = built_from(package);
        let wrong: Vec<&str> = never.iter().copied().filter(|name| from.iter().any(|one| one == name)).collect();
        assert!(wrong.is_empty(), "{package} is built from {wrong:?}");
    }
}

/// Lines of code of a file, without its tests and comments.
fn lines_of_code(text: &str) -> usize {
    let code = text.lines().take_while(|line| !line.starts_with("#[cfg(test)]"));
    code.map(str::trim).filter(|line| !line.is_empty() && !line.starts_with("//")).count()
}

fn sources(folder: &Path, into: &mut Vec<PathBuf>) {
    for path in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        match path.is_dir() {
            true if name != "tests" => sources(&path, into),
            false if path.extension().is_some_and(|it| it == "rs") && name != "tests.rs" => into.push(path),
            _ => {}
        }
    }
}

#[test]
fn no_file_is_too_large_and_no_crate_more_than_a_third_of_the_house() {
    let mut of_crates = Vec::new();
    for folder in std::fs::read_dir(root().join("crates")).unwrap().map(|entry| entry.unwrap().path()) {
        let mut files = Vec::new();
        sources(&folder.join("src"), &mut files);
        let mut sum = 0;
        for file in files {
            let lines = lines_of_code(&std::fs::read_to_string(&file).unwrap());
            assert!(lines <= 600, "{} has {lines} lines of code: which second thing lives there?", file.display());
            sum += lines;
        }
        of_crates.push((folder, sum));
    }
    let all: usize = of_crates.iter().map(|(_, lines)| lines).sum();
    for (folder, lines) in of_crates {
        assert!(lines * 3 <= all, "{} has {lines} of {all} lines: more than a third", folder.display());
    }
}
