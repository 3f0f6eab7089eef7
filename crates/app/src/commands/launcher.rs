//! Desktop entries that start the program with something of the site (Desktop Entry Specification).

use anyhow::Context as _;
use lattice_engine::kept::Kept;
use lattice_engine::places;
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

/// Writes an entry for a screen, a lattice or a camera, and prints where.
pub fn run(name: &str, corner: bool, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let kept = Kept::open(named)?;
    let site = kept.file.site();
    let start: Vec<&str> = if corner && site.camera(name).is_some() {
        vec!["corner", name]
    } else if site.screen(name).is_some() {
        vec!["wall", "--screen", name]
    } else if site.lattice(name).is_some() || site.camera(name).is_some() {
        vec!["open", name]
    } else {
        anyhow::bail!("the site has no screen, lattice or camera {name:?}: `amber-lattice roster` lists the cameras");
    };
    let program = std::env::current_exe().context("cannot find this program")?;
    let whole = named.map(std::path::absolute).transpose().context("the site file has no place")?;
    let mut words = vec![quoted(&program.display().to_string())];
    if let Some(site) = &whole {
        words.extend(["--site".to_owned(), quoted(&site.display().to_string())]);
    }
    words.extend(start.iter().map(|word| quoted(word)));
    let title: String = name.chars().filter(|c| !c.is_control()).collect();
    let text = format!(
        "[Desktop Entry]\nType=Application\nName={}\nComment=Live camera streams\nExec={}\nTerminal=true\nCategories=AudioVideo;\n",
        title.replace('\\', "\\\\"),
        words.join(" ").replace('\\', "\\\\")
    );
    let folder = places::desktop_entries()?;
    std::fs::create_dir_all(&folder).with_context(|| format!("{} cannot be made", folder.display()))?;
    let plain: String = name.chars().map(|c| if c.is_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    let path = folder.join(format!("amber-lattice-{plain}.desktop"));
    std::fs::write(&path, text).with_context(|| format!("{} cannot be written", path.display()))?;
    writeln!(std::io::stdout(), "{}", path.display())?;
    Ok(ExitCode::SUCCESS)
}

/// A word of `Exec`: quoted, with what is special in quotes escaped, and `%` doubled (section "The Exec key").
fn quoted(word: &str) -> String {
    let mut out = String::from("\"");
    for c in word.chars().filter(|c| !c.is_control()) {
        match c {
            '"' | '`' | '$' | '\\' => out.extend(['\\', c]),
            '%' => out.push_str("%%"),
            other => out.push(other),
        }
    }
    out.push('"');
    out
}
