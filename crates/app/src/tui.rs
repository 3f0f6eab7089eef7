//! The interface: a loop over the terminal, the pages, and what they are drawn of.

pub mod aids;
pub mod app;
pub mod fronts;
pub mod guide;
pub mod keys;
pub mod lattices;
pub mod newcomers;
pub mod own;
pub mod page;
pub mod pages;
pub mod painting;
pub mod run;
pub mod theme;
pub mod tour;
pub mod view;
pub mod widgets;

#[cfg(test)]
mod tests;
