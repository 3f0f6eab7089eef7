//! The lattices of the wall: those that are saved, what was changed since, and the one that is shown.

use lattice_core::lattice::{History, Lattice};

/// The name of the lattice of all cameras, which is always there.
pub const ALL: &str = "all cameras";
/// The name of the one that arranges itself.
pub const TROUBLE: &str = "in trouble";

/// What undo brings back.
#[derive(Debug, Clone, PartialEq)]
struct State {
    own: Vec<Lattice>,
    all: Lattice,
    shown: Option<String>,
    page: usize,
}

/// All lattices.
#[derive(Debug)]
pub struct Lattices {
    /// As they are now, in the order of their quick keys.
    own: Vec<Lattice>,
    /// As they are in the site file.
    saved: Vec<Lattice>,
    /// Every camera in an even grid.
    all: Lattice,
    /// The one that is shown; all cameras for `None`.
    shown: Option<String>,
    /// The page that is shown.
    page: usize,
    /// What is in trouble, while that is shown instead, and the page to go back to.
    trouble: Option<(Lattice, usize)>,
    history: History<State>,
}

impl Default for Lattices {
    fn default() -> Self {
        let all = Lattice::even(ALL, []);
        Self { own: Vec::new(), saved: Vec::new(), all, shown: None, page: 0, trouble: None, history: History::default() }
    }
}

impl Lattices {
    /// The one that is shown.
    pub fn shown(&self) -> &Lattice {
        if let Some((trouble, _)) = &self.trouble {
            return trouble;
        }
        self.shown.as_deref().and_then(|name| self.named(name)).unwrap_or(&self.all)
    }

    /// Shows what is in trouble instead; holds, aspects and marks stay with their cameras.
    pub fn show_trouble(&mut self, mut lattice: Lattice) {
        let page = self.trouble.as_ref().map_or(self.page, |(_, page)| *page);
        keep_placed(self.trouble.as_ref().map_or(&self.all, |(before, _)| before), &mut lattice);
        self.trouble = Some((lattice, page));
        self.turn(self.page);
    }

    /// Shows what was shown before; false where the trouble wall was not.
    pub fn leave_trouble(&mut self) -> bool {
        let Some((_, page)) = self.trouble.take() else { return false };
        self.turn(page);
        true
    }

    /// The page that is shown, from 0.
    pub const fn page(&self) -> usize {
        self.page
    }

    /// The lattices as they are now, without the one of all cameras.
    pub fn own(&self) -> &[Lattice] {
        &self.own
    }

    /// The lattice with this name.
    pub fn named(&self, name: &str) -> Option<&Lattice> {
        if name == ALL {
            return Some(&self.all);
        }
        self.own.iter().find(|lattice| lattice.name == name)
    }

    /// Whether a lattice is not as it was saved.
    pub fn is_changed(&self, lattice: &Lattice) -> bool {
        lattice.name != ALL
            && lattice.name != TROUBLE
            && self.saved.iter().find(|saved| saved.name == lattice.name) != Some(lattice)
    }

    /// Whether anything is not as it was saved.
    pub fn has_changes(&self) -> bool {
        self.own != self.saved
    }

    /// The site's cameras, for the lattice of all.
    pub fn set_cameras(&mut self, cameras: impl IntoIterator<Item = String>) {
        self.set_all(Lattice::even(ALL, cameras));
        self.keep_page();
    }

    /// The lattice of all is this one; holds, aspects and marks stay with their cameras.
    fn set_all(&mut self, mut all: Lattice) {
        keep_placed(&self.all, &mut all);
        self.all = all;
    }

    /// The lattices as the site file has them now. What was changed here and not saved stays.
    pub fn on_saved(&mut self, saved: &[Lattice]) {
        let kept: Vec<Lattice> = self.own.iter().filter(|lattice| self.is_changed(lattice)).cloned().collect();
        let removed: Vec<String> =
            self.saved.iter().filter(|before| self.named(&before.name).is_none()).map(|before| before.name.clone()).collect();
        saved.clone_into(&mut self.saved);
        self.own = saved.iter().filter(|lattice| !removed.contains(&lattice.name)).cloned().collect();
        for lattice in kept {
            match self.own.iter_mut().find(|own| own.name == lattice.name) {
                Some(own) => *own = lattice,
                None => self.own.push(lattice),
            }
        }
        self.keep_page();
    }

    /// They are in the site file now as they are here.
    pub fn are_saved(&mut self) {
        self.saved.clone_from(&self.own);
    }

    /// Shows another lattice, all cameras for `None`, from its first page; false when it is not there.
    pub fn show(&mut self, name: Option<&str>) -> bool {
        if name.is_some_and(|name| name != ALL && self.named(name).is_none()) {
            return false;
        }
        self.shown = name.filter(|name| *name != ALL).map(str::to_owned);
        (self.trouble, self.page) = (None, 0);
        true
    }

    /// Shows another page.
    pub fn turn(&mut self, page: usize) {
        self.page = page.min(self.shown().pages().saturating_sub(1));
    }

    /// Takes what arranges itself for a lattice of its own, which is shown from then on.
    fn settle_trouble(&mut self) {
        let Some((trouble, _)) = self.trouble.take() else { return };
        let name = self.free_name("lattice");
        self.own.push(trouble.called(name.as_str()));
        self.shown = Some(name);
    }

    fn keep_page(&mut self) {
        if self.shown.as_deref().is_some_and(|name| self.named(name).is_none()) {
            (self.shown, self.page) = (None, 0);
        }
        self.turn(self.page);
    }

    fn state(&self) -> State {
        State { own: self.own.clone(), all: self.all.clone(), shown: self.shown.clone(), page: self.page }
    }

    /// Changes the lattice that is shown; can be undone. The lattice of all cameras stays: a new one is made of it.
    pub fn edit<T>(&mut self, change: impl FnOnce(&mut Lattice) -> T) -> T {
        let before = self.state();
        self.settle_trouble();
        let at = self.shown.as_deref().and_then(|name| self.own.iter().position(|lattice| lattice.name == name));
        let at = at.unwrap_or_else(|| {
            let name = self.free_name("lattice");
            self.own.push(self.all.called(name.as_str()));
            self.shown = Some(name);
            self.own.len() - 1
        });
        let done = change(&mut self.own[at]);
        if self.own != before.own {
            if before.shown.is_none() && self.own[at].layout() == self.all.layout() && self.own[at].tiles() == self.all.tiles() {
                // Nothing came of it: no new lattice either.
                (self.own, self.shown) = (before.own, before.shown);
            } else {
                self.history.record(before);
            }
        }
        self.keep_page();
        done
    }

    /// Changes how a tile shows its camera: what it is held on, its aspect, its mark. Can be undone. In the lattice of all
    /// cameras it lasts as long as the program.
    pub fn adjust<T>(&mut self, change: impl FnOnce(&mut Lattice) -> T) -> T {
        if let Some((trouble, _)) = &mut self.trouble {
            return change(trouble);
        }
        if self.shown.is_some() {
            return self.edit(change);
        }
        let before = self.state();
        let done = change(&mut self.all);
        if self.all != before.all {
            self.history.record(before);
        }
        done
    }

    /// Changes what a tile shows of its picture: looking closer is nothing that is undone.
    pub fn look<T>(&mut self, change: impl FnOnce(&mut Lattice) -> T) -> T {
        if let Some((trouble, _)) = &mut self.trouble {
            return change(trouble);
        }
        let shown = self.shown.as_deref();
        let own = self.own.iter_mut().find(|lattice| Some(lattice.name.as_str()) == shown);
        change(own.unwrap_or(&mut self.all))
    }

    /// Adds a lattice and shows it; can be undone.
    pub fn add(&mut self, lattice: Lattice) {
        self.trouble = None;
        let before = self.state();
        self.history.record(before);
        self.shown = Some(lattice.name.clone());
        self.own.push(lattice);
        self.page = 0;
    }

    /// Takes the shown lattice out; can be undone. Gives its name.
    pub fn remove(&mut self) -> Option<String> {
        if self.leave_trouble() {
            return None;
        }
        let name = self.shown.clone()?;
        let before = self.state();
        self.history.record(before);
        self.own.retain(|lattice| lattice.name != name);
        self.keep_page();
        Some(name)
    }

    /// Gives the shown lattice another name; can be undone.
    ///
    /// # Errors
    /// A sentence when that cannot be.
    pub fn rename(&mut self, to: &str) -> Result<(), String> {
        let to = to.trim();
        if self.trouble.is_some() {
            return Err("what is in trouble keeps its name: W makes a lattice of it".into());
        }
        let Some(from) = self.shown.clone() else { return Err("the lattice of all cameras keeps its name".into()) };
        if to.is_empty() || to == from {
            return Ok(());
        }
        if to == ALL || self.named(to).is_some() {
            return Err(format!("another lattice is called {to:?} already"));
        }
        let before = self.state();
        self.history.record(before);
        if let Some(lattice) = self.own.iter_mut().find(|lattice| lattice.name == from) {
            to.clone_into(&mut lattice.name);
        }
        self.shown = Some(to.to_owned());
        Ok(())
    }

    /// A name that no lattice has yet: with a number behind it where it is taken.
    pub fn free_name(&self, wanted: &str) -> String {
        if wanted != ALL && wanted != TROUBLE && self.named(wanted).is_none() {
            return wanted.to_owned();
        }
        (2..=self.own.len() + 2).map(|n| format!("{wanted} {n}")).find(|name| self.named(name).is_none()).unwrap_or_default()
    }

    /// A camera has another name now, also in what can be undone.
    pub fn rename_camera(&mut self, from: &str, to: &str) {
        self.own.iter_mut().chain(&mut self.saved).chain([&mut self.all]).for_each(|lattice| lattice.rename_camera(from, to));
        self.history = History::default(); // of before the name
    }

    /// As it was before the last change; false when there was none.
    pub fn undo(&mut self) -> bool {
        let now = self.state();
        let before = self.history.undo(now);
        self.restore(before)
    }

    /// As it was before the last undo; false when there was none.
    pub fn redo(&mut self) -> bool {
        let now = self.state();
        let after = self.history.redo(now);
        self.restore(after)
    }

    fn restore(&mut self, state: Option<State>) -> bool {
        let Some(State { own, all, shown, page }) = state else { return false };
        self.trouble = None;
        (self.own, self.shown, self.page) = (own, shown, page);
        if all.cameras() == self.all.cameras() {
            self.all = all; // else cameras came or went meanwhile
        }
        self.keep_page();
        true
    }
}

/// What is held, how pictures stand and what is marked goes over to another lattice with the same cameras.
fn keep_placed(from: &Lattice, to: &mut Lattice) {
    for placed in from.tiles().iter().flatten() {
        if let Some(own) = to.find(&placed.camera).and_then(|tile| to.at_mut(tile)) {
            own.clone_from(placed);
        }
    }
}
