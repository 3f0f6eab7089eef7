//! What is written to files where somebody asks for it: reports and charts.

use super::machine::Machine;
use crate::command::Loudness;
use crate::jobs::{JobNews, gather, groups, write, write_pages};
use crate::keeper::KeeperNews;
use crate::places;
use lattice_report::Report;
use std::time::Duration;

impl Machine {
    /// Lets the record's keeper write a report, once it has all readings.
    pub(super) fn report(&mut self, path: &str, span: Duration) {
        let (readings, missing) = self.watch.take_unkept();
        let Some(keeper) = &self.keeper else {
            return self.say(Loudness::Text, "there is no record to report from: it belongs to a site");
        };
        keeper.keep_history(readings, missing);
        let (path, now) = (places::typed_path(path), self.now.utc);
        let site = self.site.name.clone().unwrap_or_else(|| "this site".into());
        let groups = groups(&self.site);
        let by = self.operator.clone();
        keeper.ask(Box::new(move |record| {
            let (zone, from) = (jiff::tz::TimeZone::system(), now.offset(-(span.as_micros() as i64)));
            let gathered = gather(record, &groups, (from, now, now), &zone)?;
            let (shift, entries, pictures) = (&gathered.shift, gathered.entries.as_slice(), gathered.pictures.as_slice());
            let report = Report { site: &site, from, to: now, made_at: now, by: &by, zone, shift, entries, pictures };
            write(&path, &report, lattice_report::Table::default())?;
            let told = format!("the report is written: {}", std::path::absolute(&path)?.display());
            Ok(KeeperNews::Said(Ok(told)))
        }));
    }

    /// Draws charts and writes them into the folder that the program was started in, on a thread of their own.
    pub(super) fn write_charts(&mut self, title: String, drawing: crate::command::Drawing) {
        let subject: String =
            title.split(':').next().unwrap_or("charts").chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
        let at = jiff::Timestamp::from_microsecond(self.now.utc.as_unix_micros()).unwrap_or_default();
        let at = at.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%Y%m%d-%H%M%S").to_string();
        let path = std::path::PathBuf::from(format!("{subject}-{at}.svg"));
        let news = self.job_news();
        let work = move || {
            let written = write_pages(&path, &(drawing.0)(), &title).and_then(|()| Ok(std::path::absolute(&path)?));
            let told = written.map(|path| format!("the charts are written: {}", path.display()));
            let _ = news.send(JobNews::Written(told.map_err(|error| format!("{error:#}"))));
        };
        if let Err(error) = std::thread::Builder::new().name("charts".into()).spawn(work) {
            self.say(Loudness::Alarm, format!("the charts were not written: {error}"));
        }
    }
}
