//! What the crates of this tree may know of each other, and how large their files may be.
#![allow(clippy::unwrap_used, missing_docs)]

use std::collections::{BTreeMap, BTreeSet};
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

/// The paths of a `use` tree, one after the other.
fn paths(tree: &str) -> Vec<String> {
    let (mut paths, mut depth, mut item) = (Vec::new(), 0, String::new());
    for c in tree.chars().chain([',']) {
        depth += i32::from(c == '{') - i32::from(c == '}');
        if c != ',' || depth > 0 {
            item.push(c);
            continue;
        }
        let one = std::mem::take(&mut item);
        match one.trim().split_once('{') {
            Some((before, inner)) => {
                let inner = inner.rsplit_once('}').map_or(inner, |(inner, _)| inner);
                paths.extend(self::paths(inner).into_iter().map(|path| format!("{before}{path}")));
            }
            None if one.trim().is_empty() => {}
            None => paths.push(one.trim().to_owned()),
        }
    }
    paths
}

/// Which modules of the application a file imports, by its own path within `src` and the paths of all.
fn imports(own: &str, text: &str, all: &[String]) -> BTreeSet<String> {
    let code = text.split("#[cfg(test)]\nmod tests {").next().unwrap();
    let uses = code.replace('\n', " ");
    let trees = uses.split(" use ").chain(code.strip_prefix("use ")).skip(1).filter_map(|rest| rest.split(';').next());
    let whole = |path: String| {
        if let Some(path) = path.strip_prefix("crate::") {
            return path.to_owned();
        }
        let (mut base, mut rest): (Vec<&str>, &str) = (own.split("::").collect(), &path);
        while let Some(next) = rest.strip_prefix("super::") {
            base.pop();
            rest = next;
        }
        base.push(rest);
        base.join("::")
    };
    let module = |path: String| {
        let parts: Vec<&str> = path.split("::").collect();
        (1..=parts.len()).rev().map(|n| parts[..n].join("::")).find(|path| all.contains(path))
    };
    trees.flat_map(paths).map(whole).filter_map(module).filter(|path| path != own).collect()
}

#[test]
fn pages_do_not_know_each_other_and_no_more_than_four_files_import_each_other_in_a_circle() {
    let src = root().join("crates/app/src");
    let mut files = Vec::new();
    sources(&src, &mut files);
    files.retain(|path| !path.ends_with("rig.rs"));
    let name = |path: &PathBuf| {
        let path = path.strip_prefix(&src).unwrap().with_extension("");
        path.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect::<Vec<_>>().join("::")
    };
    let all: Vec<String> = files.iter().map(name).collect();
    let texts = files.iter().map(|path| std::fs::read_to_string(path).unwrap());
    let arrows: BTreeMap<String, BTreeSet<String>> =
        all.iter().zip(texts).map(|(own, text)| (own.clone(), imports(own, &text, &all))).collect();
    assert!(arrows["tui::pages::roster"].contains("tui::app") && arrows["tui::app"].contains("tui::page"), "{arrows:#?}");

    let page = |path: &str| path.strip_prefix("tui::pages::").and_then(|rest| rest.split("::").next()).map(str::to_owned);
    for (own, imported) in &arrows {
        let Some(own_page) = page(own) else { continue };
        let others: Vec<&String> = imported.iter().filter(|path| page(path).is_some_and(|other| other != own_page)).collect();
        assert!(others.is_empty() && !imported.contains("tui::pages"), "{own} imports {others:?}");
    }
    let reached = |from: &String| {
        let (mut reached, mut next) = (BTreeSet::new(), vec![from]);
        while let Some(at) = next.pop() {
            next.extend(arrows[at].iter().filter(|path| reached.insert((*path).clone())));
        }
        reached
    };
    let reached: BTreeMap<&String, BTreeSet<String>> = all.iter().map(|own| (own, reached(own))).collect();
    for own in &all {
        let circle: Vec<&String> =
            all.iter().filter(|other| reached[own].contains(*other) && reached[*other].contains(own)).collect();
        assert!(circle.len() <= 4, "these files import each other in a circle: {circle:?}");
    }
}

/// What is named by a word that follows each place of another one in a text.
fn named<'a>(text: &'a str, after: &'a str) -> impl Iterator<Item = &'a str> {
    let end = |rest: &'a str| rest.find(|letter: char| !(letter.is_ascii_alphanumeric() || "_-".contains(letter)));
    text.match_indices(after).map(move |(at, _)| {
        let rest = &text[at + after.len()..];
        &rest[..end(rest).unwrap_or(rest.len())]
    })
}

#[test]
fn what_scripts_and_docs_start_is_there() {
    let in_folder = |folder: &str| std::fs::read_dir(root().join(folder)).unwrap().map(|entry| entry.unwrap().path());
    let crates: Vec<PathBuf> = in_folder("crates").collect();
    let (mut count, mut gone) = (0, Vec::new());
    for file in in_folder("scripts").chain(in_folder("docs")).chain([root().join("README.md")]).filter(|path| path.is_file()) {
        let text = std::fs::read_to_string(&file).unwrap();
        let targets = [("--example ", "examples"), ("--bench ", "benches")];
        let started = targets.into_iter().flat_map(|(option, folder)| named(&text, option).map(move |name| (folder, name)));
        for (folder, name) in started {
            count += 1;
            if !crates.iter().any(|own| own.join(folder).join(format!("{name}.rs")).exists()) {
                gone.push(format!("{}: {folder}/{name}.rs", file.display()));
            }
        }
        for name in named(&text, "scripts/").filter(|name| !name.is_empty()) {
            count += 1;
            if !root().join("scripts").join(name).exists() {
                gone.push(format!("{}: scripts/{name}", file.display()));
            }
        }
    }
    assert!(count > 20 && gone.is_empty(), "{count} are named; not there: {gone:?}");
}
