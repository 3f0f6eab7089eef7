//! The commands, a file each.

pub mod add;
pub mod check;
pub mod demo;
pub mod doctor;
pub mod find;
pub mod lattice;
pub mod launcher;
pub mod ledger;
pub mod listen;
pub mod manual;
pub mod measure;
pub mod report;
pub mod roster;
pub mod serve;
pub mod standin;
pub mod steer;
pub mod still;
pub mod wall;
