//! The demo's first steps: one line says which key to press next. A step is over once it was done, or left out.

use crate::tui::app::App;

/// Which key to press, and when that is done.
struct Step {
    says: &'static str,
    done: fn(&App) -> bool,
}

const STEPS: [Step; 5] = [
    Step { says: "enter: enlarge the selected tile; enter again: back", done: |app| app.enlarged },
    Step { says: "G: what happened, to which camera, and why", done: |app| app.page_name() == "Ledger" },
    Step { says: "esc, then !: only the cameras that are in trouble", done: App::is_on_trouble },
    Step { says: "J: all figures of the selected camera, with charts", done: |app| app.page_name() == "Stream" },
    Step { says: "esc, then o: why each tile has main or sub", done: |app| app.fronts().any(|front| front.name() == "Plan") },
];

/// How far somebody has come.
#[derive(Debug, Clone, Copy, Default)]
pub struct Guide {
    step: usize,
}

impl Guide {
    /// What it says now; nothing after the last step.
    pub fn line(self) -> Option<String> {
        let step = STEPS.get(self.step)?;
        Some(format!("step {} of {}: {}  (space: next)", self.step + 1, STEPS.len(), step.says))
    }

    /// Leaves a step out.
    pub const fn skip(&mut self) {
        self.step += 1;
    }

    /// The same after what was just done.
    pub fn after(mut self, app: &App) -> Self {
        if STEPS.get(self.step).is_some_and(|step| (step.done)(app)) {
            self.step += 1;
        }
        self
    }
}
