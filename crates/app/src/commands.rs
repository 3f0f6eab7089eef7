//! The commands, a file each.

pub mod add;
pub mod check;
pub mod demo;
pub mod doctor;
pub mod events;
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

use anyhow::{Context as _, bail};
use lattice_core::names::{Meant, meant};
use lattice_engine::kept::Kept;
use lattice_store::Camera;

/// The camera of a site that is meant by its name, or by a beginning that no other has.
pub fn camera_named<'a>(kept: &'a Kept, text: &str) -> anyhow::Result<&'a Camera> {
    let site = kept.file.site();
    match meant(text, site.cameras.iter().map(|camera| camera.name.as_str())) {
        Meant::One(name) => site.camera(name).context("the camera is gone"),
        Meant::Several(names) => bail!("{text:?} may be {}: write more of it", names.join(", ")),
        Meant::Nothing => bail!("no camera {text:?} in the site: `amber-lattice roster` lists the cameras"),
    }
}
