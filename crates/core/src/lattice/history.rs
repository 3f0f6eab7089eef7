//! Undo and redo.

/// Most steps that can be undone.
const MOST: usize = 200;

/// States of before, and those that were undone.
#[derive(Debug, Clone)]
pub struct History<T> {
    done: Vec<T>,
    undone: Vec<T>,
}

impl<T> Default for History<T> {
    fn default() -> Self {
        Self { done: Vec::new(), undone: Vec::new() }
    }
}

impl<T: PartialEq> History<T> {
    /// Something was changed: this is how it was. What was undone before cannot be done again.
    pub fn record(&mut self, before: T) {
        if self.done.len() >= MOST {
            self.done.remove(0);
        }
        self.done.push(before);
        self.undone.clear();
    }

    /// How it was before the last change.
    pub fn undo(&mut self, now: T) -> Option<T> {
        let before = self.done.pop()?;
        self.undone.push(now);
        Some(before)
    }

    /// How it was before the last undo.
    pub fn redo(&mut self, now: T) -> Option<T> {
        let after = self.undone.pop()?;
        self.done.push(now);
        Some(after)
    }
}
