//! Amber Lattice: a wall of live camera streams in the terminal, each one measured.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod add;
mod app;
mod check;
mod cli;
mod demo;
mod desk;
mod device_page;
mod doctor;
mod engine;
mod entries;
mod errands;
mod find;
mod intake;
mod keep;
mod kept;
mod keymap;
mod lattice;
mod launcher;
mod listen;
mod logging;
mod measure;
mod outward;
mod places;
mod private_args;
mod report;
mod roster;
mod run;
mod standin;
mod stills;
mod survey;
mod theme;
mod view;

use clap::{CommandFactory as _, Parser as _};
use cli::{Cli, Command, WallOptions};
use std::process::ExitCode;

fn main() -> ExitCode {
    let args = match private_args::take() {
        Ok(args) => args,
        Err(error) => {
            eprintln!("amber-lattice: {error:#}");
            return ExitCode::from(2);
        }
    };
    let cli = match Cli::try_parse_from(args) {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return ExitCode::from(if error.use_stderr() { 2 } else { 0 });
        }
    };
    match dispatch(cli) {
        Ok(code) => code,
        // Whoever read the output has enough of it, as `head` has.
        Err(error)
            if error.downcast_ref::<std::io::Error>().is_some_and(|error| error.kind() == std::io::ErrorKind::BrokenPipe) =>
        {
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("amber-lattice: {error:#}");
            ExitCode::from(2)
        }
    }
}

fn dispatch(cli: Cli) -> anyhow::Result<ExitCode> {
    let site = cli.site.as_deref();
    let command = cli.command.unwrap_or_else(|| Command::Wall(WallOptions::default()));
    match command {
        Command::Wall(options) => run::site(&options, site),
        Command::Demo(options) => demo::run(&options),
        Command::Open(options) => run::open(&options, site),
        Command::Corner(options) => run::corner(&options, site),
        Command::Lattice { command } => lattice::run(&command, site),
        Command::Launcher { name, corner } => launcher::run(&name, corner, site),
        Command::Measure(options) => measure::run(&options),
        Command::Report(options) => report::run(&options, site),
        Command::Doctor(options) => doctor::run(&options),
        Command::Ledger(options) => entries::run(&options, site),
        Command::Find(options) => find::run(&options, site),
        Command::Check(options) => check::run(&options, site),
        Command::Add(options) => add::run(&options, site),
        Command::Listen(options) => listen::run(&options),
        Command::Roster(options) => roster::run(&options, site),
        Command::Standin(options) => standin::run(&options),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "amber-lattice", &mut std::io::stdout());
            Ok(ExitCode::SUCCESS)
        }
    }
}
