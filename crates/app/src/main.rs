//! Amber Lattice: a wall of live camera streams in the terminal, each one measured.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod cli;
mod commands;
mod front;
mod logging;
mod private_args;
mod tui;

use clap::{CommandFactory as _, Parser as _};
use cli::{Cli, Command, WallOptions};
use std::process::ExitCode;

/// Nobody reads this program's memory, which holds the passwords of all cameras: no core files, and no other program of the same
/// user may attach to it.
fn shut_memory() {
    let none = rustix::process::Rlimit { current: Some(0), maximum: Some(0) };
    let _ = rustix::process::setrlimit(rustix::process::Resource::Core, none);
    #[cfg(target_os = "linux")]
    {
        let _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
    }
}

fn main() -> ExitCode {
    // Before anything else: a decoder needs nothing of what follows.
    #[cfg(target_os = "linux")]
    if std::env::args_os().nth(1).is_some_and(|word| word == cli::DECODER) {
        return lattice_media::decoder_main();
    }
    shut_memory();
    let args = match private_args::take() {
        Ok(args) => args,
        Err(error) => {
            eprintln!("amber-lattice: {error:#}");
            return ExitCode::from(2);
        }
    };
    let cli = match Cli::try_parse_from(&args) {
        Ok(cli) => cli,
        Err(error) => return refuse(&args, &error),
    };
    let shows = matches!(cli.command, None | Some(Command::Wall(_) | Command::Demo(_) | Command::Open(_) | Command::Corner(_)));
    match if shows { front::become_front(&args) } else { Ok(None) } {
        Ok(None) => {}
        Ok(Some(code)) => return code,
        Err(error) => {
            eprintln!("amber-lattice: {error:#}");
            return ExitCode::from(2);
        }
    }
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

/// Says what is wrong with the arguments, without the passwords that stand in them: the library's sentences quote what was typed.
fn refuse(args: &[String], error: &clap::Error) -> ExitCode {
    let shown: Vec<String> = args.iter().map(|arg| private_args::without_password(arg)).collect();
    if shown == args {
        let _ = error.print();
    } else if let Err(error) = Cli::try_parse_from(&shown) {
        let _ = error.print();
    } else {
        eprintln!(
            "amber-lattice: {} is not understood: write signs in its password as %40 (for @) and the like",
            shown.join(" ")
        );
    }
    ExitCode::from(if error.use_stderr() { 2 } else { 0 })
}

fn dispatch(cli: Cli) -> anyhow::Result<ExitCode> {
    let site = cli.site.as_deref();
    let command = cli.command.unwrap_or_else(|| Command::Wall(WallOptions::default()));
    match command {
        Command::Wall(options) => commands::wall::site(&options, site),
        Command::Demo(_) if site.is_some() => anyhow::bail!("the demo has a site of its own: leave --site out"),
        Command::Demo(options) => commands::demo::run(&options),
        Command::Open(options) => commands::wall::open(&options, site),
        Command::Corner(options) => commands::wall::corner(&options, site),
        Command::Serve(options) => commands::serve::run(&options, site),
        Command::Lattice { command } => commands::lattice::run(&command, site),
        Command::Launcher { name, corner } => commands::launcher::run(&name, corner, site),
        Command::Measure(options) => commands::measure::run(&options),
        Command::Report(options) => commands::report::run(&options, site),
        Command::Doctor(options) => commands::doctor::run(&options),
        Command::Ledger(options) => commands::ledger::run(&options, site),
        Command::Find(options) => commands::find::run(&options, site),
        Command::Check(options) => commands::check::run(&options, site),
        Command::Add(options) => commands::add::run(&options, site),
        Command::Listen(options) => commands::listen::run(&options),
        Command::Roster(options) => commands::roster::run(&options, site),
        Command::Steer(options) => commands::steer::run(&options, site),
        Command::Still(options) => commands::still::run(&options, site),
        Command::Events(options) => commands::events::run(&options, site),
        Command::Standin(options) => commands::standin::run(&options),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut Cli::command(), "amber-lattice", &mut std::io::stdout());
            Ok(ExitCode::SUCCESS)
        }
        Command::Manual { folder } => commands::manual::run(&folder, Cli::command()),
    }
}
