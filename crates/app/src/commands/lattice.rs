//! `lattice`: the saved lattices of the site, in and out of files of their own.

use crate::cli::LatticeCommand;
use anyhow::Context as _;
use lattice_engine::kept::Kept;
use lattice_engine::places::write_new;
use lattice_store::{export_lattice, import_lattices};
use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

/// Lists, writes or takes in.
///
/// # Errors
/// When the site or the file cannot be used.
pub fn run(command: &LatticeCommand, named: Option<&Path>) -> anyhow::Result<ExitCode> {
    let mut kept = Kept::open(named)?;
    let mut out = std::io::stdout().lock();
    match command {
        LatticeCommand::List => {
            for lattice in &kept.file.site().lattices {
                let cameras = lattice.cameras().len();
                let cameras = if cameras == 1 { "1 camera".to_owned() } else { format!("{cameras} cameras") };
                writeln!(out, "{}\t{}\t{cameras}", lattice.name, lattice.layout().word())?;
            }
        }
        LatticeCommand::Export { name, file } => {
            let lattice = kept
                .file
                .site()
                .lattice(name)
                .with_context(|| format!("the site has no lattice {name:?}: `amber-lattice lattice list` lists them"))?;
            let text = export_lattice(lattice);
            match file {
                Some(file) => {
                    write_new(file, text.as_bytes()).with_context(|| format!("{} cannot be written", file.display()))?;
                }
                None => out.write_all(text.as_bytes())?,
            }
        }
        LatticeCommand::Import { file } => {
            for lattice in import_lattices(file)? {
                let name = lattice_store::site::free_lattice_name(kept.file.site(), &lattice.name);
                kept.file.change(|editor| editor.put_lattice(&lattice.called(name.clone())))?;
                let _ = writeln!(out, "{name}"); // it is in, also where nobody reads on
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}
