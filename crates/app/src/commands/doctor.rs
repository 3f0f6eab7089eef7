//! `doctor`: what this terminal was asked, what it answered, how pictures are painted on it, and what holds its decoders.

use crate::cli::DoctorOptions;
use crate::tui::painting::Painting;
use crossbeam_channel::unbounded;
use lattice_term::ColourDepth;
use lattice_term::{Ability, kitty};
use lattice_term::{Answer, Input, questions};
use std::io::{IsTerminal as _, Write as _};
use std::process::ExitCode;
use std::time::{Duration, Instant};

/// The last answer is waited for so long.
const WAITS: Duration = Duration::from_secs(2);

/// Asks and prints.
pub fn run(options: &DoctorOptions) -> anyhow::Result<ExitCode> {
    let mut painting = Painting {
        arg: options.paint.into(),
        ability: Ability::here(),
        mono: ColourDepth::from_environment(|name| std::env::var(name).ok()) == ColourDepth::Mono,
        ..Painting::default()
    };
    let asked = Instant::now();
    let terminal = std::io::stdout().is_terminal() && std::io::stdin().is_terminal();
    let mut took = None;
    if terminal {
        let (sender, answers) = unbounded();
        let asks = questions(&painting.ability, sender)?;
        while let Ok(input) = answers.recv_deadline(asked + WAITS) {
            let Input::Answer(answer) = input else { break };
            let last = matches!(answer, Answer::Attributes { .. });
            painting.ability.take(answer);
            if last {
                took = Some(asked.elapsed());
                break;
            }
        }
        drop(asks);
    }
    kitty::forget_shared();
    let mut out = std::io::stdout().lock();
    for (what, told) in lines(&painting, terminal, took) {
        if writeln!(out, "{what:<30} {told}").is_err() {
            break; // nobody reads any more
        }
    }
    Ok(if took.is_some() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn lines(painting: &Painting, terminal: bool, took: Option<Duration>) -> Vec<(&'static str, String)> {
    let ability = &painting.ability;
    let variable =
        |name: &str| std::env::var(name).map_or_else(|_| format!("{name} is not set"), |value| format!("{name}={value}"));
    let unknown = || "no answer".to_owned();
    let answered = |answer: &Option<Result<(), String>>| match answer {
        Some(Ok(())) => "takes pictures".into(),
        Some(Err(why)) => format!("refused: {why}"),
        None => "no answer".to_owned(),
    };
    let asked = ability.asks_for_pictures();
    let mut lines = vec![
        ("environment", ["TERM", "COLORTERM", "NO_COLOR"].map(variable).join(", ")),
        ("remote", if ability.remote { "by ssh: shared memory is not tried".into() } else { "no".into() }),
    ];
    if let Some(tmux) = &ability.tmux {
        let behind = if tmux.terminal.is_empty() { "a terminal that does not tell its name" } else { &tmux.terminal };
        let placed = if tmux.takes_pictures() { "" } else { ", which is not known to take them: none are sent" };
        let told = if tmux.passes {
            format!("lets pictures through, to {behind}{placed}")
        } else {
            "lets no pictures through: allow-passthrough is off".into()
        };
        lines.push(("tmux", told));
    }
    if terminal {
        let last = match took {
            Some(took) => {
                format!("after {} ms, {}", took.as_millis(), if ability.sixel { "with sixel" } else { "without sixel" })
            }
            None => format!("not within {} s: pictures are painted in cells until it comes", WAITS.as_secs()),
        };
        let size =
            lattice_term::area().map_or_else(|error| error.to_string(), |area| format!("{} × {} cells", area.width, area.height));
        let pair = |pair: Option<(u32, u32)>| pair.map_or_else(unknown, |(width, height)| format!("{width} × {height} pixels"));
        lines.extend([
            ("size", size),
            ("its name (XTVERSION)", ability.name.clone().unwrap_or_else(unknown)),
            ("attributes (DA1)", last),
            ("kitty graphics, inline", if asked { answered(&ability.kitty) } else { "not asked".into() }),
            (
                "kitty graphics, shared memory",
                if ability.remote || !asked { "not asked".into() } else { answered(&ability.shared) },
            ),
            ("cell (CSI 16 t)", pair(ability.cell.map(|(width, height)| (width.into(), height.into())))),
            ("window (CSI 14 t)", pair(ability.window)),
            ("sixel colours (XTSMGRAPHICS)", ability.colours.map_or_else(unknown, |colours| colours.to_string())),
            ("largest sixel picture", pair(ability.largest)),
            (
                "updates together (mode 2026)",
                ability.synchronized.map_or_else(unknown, |can| if can { "yes".into() } else { "no".into() }),
            ),
            (
                "tells when keys are let go",
                if ability.releases { "yes".into() } else { "no: moves of a head end by time".into() },
            ),
        ]);
    } else {
        lines.push(("terminal", "none: standard input and output must be one to be asked".into()));
    }
    lines.push(("chosen", painting.told()));
    lines.extend(decoders());
    lines
}

/// What confines the processes that decode: one is started, and tells what it could not do.
#[cfg(target_os = "linux")]
fn decoders() -> Vec<(&'static str, String)> {
    let holds = match lattice_media::confinement(&lattice_media::Program::itself(&[crate::cli::DECODER])) {
        Ok(holds) => holds,
        Err(error) => {
            return vec![("decoders", format!("none can be started ({error}): --decode inside decodes in this process"))];
        }
    };
    let tried = |refused: bool| if refused { "refused" } else { "NOT refused: this kernel has no means for it" };
    let mut by = vec![if holds.few_calls { "seccomp" } else { "no seccomp" }];
    by.push(if holds.landlock { "Landlock" } else { "no Landlock" });
    let memory = holds.memory.map_or_else(|| "any".into(), |bytes| format!("at most {} MiB each", bytes >> 20));
    vec![
        ("decoders", format!("in processes of their own, held by {}", by.join(" and "))),
        ("opening a file there", tried(holds.no_files).into()),
        ("opening a socket there", tried(holds.no_network).into()),
        ("memory there", memory),
    ]
}

#[cfg(not(target_os = "linux"))]
fn decoders() -> Vec<(&'static str, String)> {
    vec![("decoders", "in this process: confinement is there on Linux only".into())]
}
