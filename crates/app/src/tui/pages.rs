//! All pages. A new one is a file beside the others and a line in the list.

pub mod add;
pub mod adjust;
pub mod bench;
pub mod check;
pub mod clocks;
pub mod device;
pub mod field;
pub mod find;
pub mod flash;
pub mod imaging;
pub mod ledger;
pub mod lens;
pub mod listen;
pub mod motion;
pub mod roster;
pub mod sound;
pub mod steer;
pub mod stream;
pub mod wall;
pub mod welcome;

use super::fronts::certificate::Certificate;
use super::fronts::channels::ChannelChoice;
use super::fronts::help::Help;
use super::fronts::line::TypedLine;
use super::fronts::picker::Picker;
use super::fronts::sign_in::SignIn;
use super::fronts::stream_key::StreamKey;
use super::page::{AnyPage, Keyed, Section, section};

fn page<P: Keyed + Default>() -> Box<dyn AnyPage> {
    Box::new(P::default())
}

/// All pages in the order of the help, and what stands in front of them.
pub fn all() -> (Vec<Box<dyn AnyPage>>, Vec<Section>) {
    let pages = vec![
        page::<wall::Wall>(),
        page::<welcome::Welcome>(),
        page::<roster::Roster>(),
        page::<find::Find>(),
        page::<add::Add>(),
        page::<check::Check>(),
        page::<device::Device>(),
        page::<clocks::Clocks>(),
        page::<listen::Listen>(),
        page::<bench::Bench>(),
        page::<field::Field>(),
        page::<ledger::LedgerPage>(),
        page::<stream::StreamPage>(),
        page::<sound::SoundPage>(),
        page::<flash::FlashPage>(),
        page::<steer::SteerPage>(),
        page::<adjust::AdjustPage>(),
        page::<imaging::ImagingPage>(),
        page::<lens::LensPage>(),
        page::<motion::MotionPage>(),
    ];
    let fronts = vec![
        section::<wall::Layouts>(),
        section::<wall::Edit>(),
        section::<wall::Plan>(),
        section::<wall::Numbers>(),
        section::<wall::Faults>(),
        section::<Picker>(),
        section::<TypedLine>(),
        section::<SignIn>(),
        section::<StreamKey>(),
        section::<Certificate>(),
        section::<ChannelChoice>(),
        device::password_section(),
        section::<Help>(),
    ];
    (pages, fronts)
}
