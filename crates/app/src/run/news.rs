//! What the engine tells this screen, and what follows for its pages.

use super::Show;
use crate::app::Effect;
use crate::desk::ChannelChoice;
use crate::theme::Tone;
use lattice_core::target::Target;
use lattice_engine::jobs::{DeviceNews, Errand};
use lattice_engine::{Command, Loudness, News};
use tui_input::Input;

impl From<Loudness> for Tone {
    fn from(loudness: Loudness) -> Self {
        match loudness {
            Loudness::Text => Self::Text,
            Loudness::Bright => Self::Bright,
            Loudness::Alarm => Self::Alarm,
        }
    }
}

impl Show {
    pub(super) fn on_news(&mut self, news: News) {
        let app = &mut self.app;
        match news {
            News::Say(loudness, text) => app.say(loudness.into(), text),
            News::SearchBegins => {
                app.desk.findings.begin();
                app.desk.ticked.clear();
            }
            News::Found(found) => {
                app.desk.findings.learn(found.address, found.learnt);
            }
            News::Searching(progress) => app.desk.progress = Some(progress),
            News::Asking(targets) => {
                app.desk.asking = targets;
                app.desk.taken.clear();
                app.desk.locked.clear();
            }
            News::Taken(taken) => app.desk.taken.push(taken),
            News::Asked(newcomer, locked) => {
                let shown = newcomer.target.to_string();
                app.desk.asking.retain(|asking| *asking != shown);
                if locked {
                    app.desk.locked.push(newcomer);
                } else if let Target::Device { host, .. } = &newcomer.target
                    && let Ok(address) = host.parse()
                {
                    app.desk.ticked.remove(&address);
                }
                let desk = &mut app.desk;
                if desk.asking.is_empty() && desk.locked.is_empty() && desk.taken.iter().all(|taken| taken.result.is_ok()) {
                    desk.input = Input::default(); // room for the next
                }
            }
            News::Choose(newcomer, intake) => app.desk.choosing.push(ChannelChoice::new(newcomer, &intake)),
            News::Checked(shown, ladder, done) => app.desk.on_check(&shown, ladder, done),
            News::Device(name, news) => self.on_device(&name, news),
            News::Added(name) => app.camera_added(&name),
            News::Renamed(from, to) => app.lattices.rename_camera(&from, &to),
            News::LatticesSaved => app.lattices.are_saved(),
            News::Imported(lattices) => app.take_lattices(lattices),
            News::List(text) => app.desk.input = Input::new(text),
            News::Order(order) => app.take_order(order),
            News::Screens(shows) => app.other_screens = shows,
        }
    }

    fn on_device(&mut self, name: &str, news: DeviceNews) {
        let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) else { return };
        match news {
            DeviceNews::Facts(facts) => {
                page.facts = Some(facts.map(|facts| *facts));
            }
            DeviceNews::Part(part) => {
                match &mut page.facts {
                    Some(Ok(facts)) => facts.take(part),
                    // It did not answer before, and does now.
                    _ => self.carry_out(vec![Effect::Tell(Command::Errand(Errand::AskDevice(name.to_owned())))]),
                }
            }
            DeviceNews::Clock(read) => page.clock = Some(read),
            DeviceNews::Probed(uri, measured) => drop(page.probed.insert(uri, measured)),
        }
    }
}
