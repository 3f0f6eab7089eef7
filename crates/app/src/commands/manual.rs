//! The manual pages and shell completions, for packages.

use anyhow::Context as _;
use clap_complete::Shell;
use std::path::Path;
use std::process::ExitCode;

const NAME: &str = "amber-lattice";

/// Writes a page for the program and each command into `man` in the folder, and the completions beside it.
pub fn run(folder: &Path, mut command: clap::Command) -> anyhow::Result<ExitCode> {
    let pages = folder.join("man");
    std::fs::create_dir_all(&pages).with_context(|| format!("{} cannot be made", pages.display()))?;
    // Before the completions: they give every command a `help` beside it, which needs no page.
    let plain = command.clone().disable_help_subcommand(true).mut_subcommands(|one| one.disable_help_subcommand(true));
    clap_mangen::generate_to(plain, &pages)
        .with_context(|| format!("manual pages cannot be written into {}", pages.display()))?;
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish, Shell::Elvish, Shell::PowerShell] {
        clap_complete::generate_to(shell, &mut command, NAME, folder)
            .with_context(|| format!("the completions of {shell} cannot be written into {}", folder.display()))?;
    }
    Ok(ExitCode::SUCCESS)
}
