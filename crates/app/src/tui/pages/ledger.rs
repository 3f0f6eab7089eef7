//! The ledger on the screen: what is shown of it, and what its keys do.

mod view;

use crate::tui::app::App;
use crate::tui::fronts::help;
use crate::tui::fronts::picker::Picker;
use crate::tui::page::{Key, Keyed, Mouse, Page, Share, WALL, Watched, Way, back, key, leave, moves, way};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::around;
use crate::tui::widgets::list::inner;
use lattice_core::ledger::Entry;
use lattice_engine::{Command, FeedKey, News};
use lattice_store::EntryOrder;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::time::Duration;

/// Times that the lanes look back on.
pub const LANE_SPANS: [(Duration, &str); 4] = [
    (Duration::from_secs(600), "10 minutes"),
    (Duration::from_secs(3600), "1 hour"),
    (Duration::from_secs(8 * 3600), "8 hours"),
    (Duration::from_secs(24 * 3600), "24 hours"),
];

/// Which entries are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Only {
    /// All.
    #[default]
    All,
    /// Those that go on.
    Running,
    /// Those in alarm.
    Alarms,
}

/// The ledger and how it is looked at.
#[derive(Debug, Default)]
pub struct LedgerPage {
    /// The selected entry; the newest where it is not among those shown.
    pub chosen: Option<u64>,
    /// Words that entries must hold.
    pub filter: String,
    /// Which are shown.
    pub only: Only,
    /// As lanes over time.
    pub lanes: bool,
    /// Index of the time that the lanes look back on.
    pub span: usize,
    /// What lies around the selected entry.
    pub known: around::Known,
}

impl Keyed for LedgerPage {
    const NAME: &'static str = "Ledger";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "the next entry", |page: &mut Self, app| page.select(app, 1)),
        moves("up k", "the entry before", |page: &mut Self, app| page.select(app, -1)),
        moves("pgdn", "a page down", |page: &mut Self, app| page.select(app, 15)),
        moves("pgup", "a page up", |page: &mut Self, app| page.select(app, -15)),
        key("a", "acknowledge it, or take that back", |page: &mut Self, app| page.order(app, EntryOrder::Acknowledge))
            .hint("acknowledge"),
        key("z", "shelve it for an hour, or unshelve it", |page: &mut Self, app| page.order(app, EntryOrder::Shelve))
            .hint("shelve"),
        key("n", "write a note to it", Self::note).hint("note"),
        key("/", "only entries with these words: camera, group, kind, cause; >5 longer than 5 s", Self::type_filter)
            .hint("filter"),
        key("o", "all, only what goes on, only alarms", |page: &mut Self, _| page.only = page.only.next()).hint("only"),
        key("v", "all cameras as lanes over time, or the entries", |page: &mut Self, _| page.lanes = !page.lanes).hint("lanes"),
        key("W", "write the lanes to an SVG file", |page: &mut Self, app| {
            let lanes = view::lanes_on_paper(app, page);
            app.write(Some(lanes));
        }),
        key("s", "the lanes over 10 minutes, 1, 8, 24 hours", |page: &mut Self, _| {
            page.span = (page.span + 1) % LANE_SPANS.len();
        })
        .hint("span"),
        key("enter", "show its camera on the wall, enlarged", Self::show).hint("show"),
        key("w", "write a report of the time of the lanes: PDF, SVG, CSV or JSON", Self::report).hint("report"),
        help::everything(),
        help::key(),
        back("esc q G", "back", Some("back")),
        leave(),
    ];
    const WAYS: &'static [Way<Self>] =
        &[way(WALL, "G", "the ledger: what happened, why, and what is in alarm", |_, app| app.open(Self::NAME)).hint("ledger")];
}

impl Page for LedgerPage {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        view::draw(app, self, theme, inner(body), painters, buf)
    }

    fn watched(&self, app: &App, body: Rect) -> Vec<Watched> {
        let live = self.live(app).zip(view::places(app, self, inner(body)));
        let watched = |(key, places): (FeedKey, around::Places)| {
            let area = around::pictured(places.after);
            Watched::whole(key, 1, area)
        };
        live.map(watched).into_iter().collect()
    }

    fn painters(&self) -> usize {
        2
    }

    fn share(&self, _: &App, _: usize) -> Option<Share> {
        Some(Share::Few)
    }

    fn keeps_open(&self, app: &App) -> Vec<FeedKey> {
        self.live(app).into_iter().collect()
    }

    fn on_snapshot(&mut self, app: &mut App) {
        let rows = self.rows(app);
        let entry = rows.get(self.row(&rows)).copied().cloned();
        if let Some(entry) = entry.filter(|entry| self.known.is_due(app, entry)) {
            app.tell(Command::Around(entry.id));
        }
    }

    fn on_news(&mut self, _: &mut App, news: &News) {
        if let News::Around(around) = news {
            self.known.take(around);
        }
    }

    fn camera(&self, app: &App) -> Option<String> {
        let rows = self.rows(app);
        rows.get(self.row(&rows))?.cameras.first().cloned()
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Press(at) => {
                let row = view::list(app, self, inner(app.body())).and_then(|list| list.row_at(at));
                let Some(row) = row else { return };
                self.chosen = self.rows(app).get(row).map(|entry| entry.id);
                if app.is_double_click(row) {
                    self.show(app);
                }
            }
            Mouse::Drag(_) | Mouse::Release(_) => {}
        }
    }
}

/// Whether an entry holds a word: in its cameras, groups, kind, cause or note; `>5` and `<5` compare its length in seconds.
fn holds(app: &App, entry: &Entry, word: &str) -> bool {
    let length = entry.length(app.utc).as_secs_f64();
    let seconds = |rest: &str| rest.trim_end_matches('s').parse::<f64>().ok();
    if let Some(least) = word.strip_prefix('>').and_then(seconds) {
        return length > least;
    }
    if let Some(most) = word.strip_prefix('<').and_then(seconds) {
        return length < most;
    }
    let groups = entry.cameras.iter().filter_map(|name| app.site.camera(name)?.group.as_deref());
    let cause = entry.cause.map_or_else(String::new, |cause| format!("{} {cause}", cause.word()));
    let shared = entry.shared.as_ref().map_or_else(String::new, ToString::to_string);
    let own = [entry.kind.word(), &cause, &shared, &entry.note];
    let mut texts = own.into_iter().chain(entry.cameras.iter().map(String::as_str)).chain(groups);
    texts.any(|text| text.to_lowercase().contains(word))
}

impl Only {
    const fn next(self) -> Self {
        match self {
            Self::All => Self::Running,
            Self::Running => Self::Alarms,
            Self::Alarms => Self::All,
        }
    }
}

impl LedgerPage {
    /// The entries that are shown, newest first.
    pub fn rows<'a>(&self, app: &'a App) -> Vec<&'a Entry> {
        let words: Vec<String> = self.filter.split_whitespace().map(str::to_lowercase).collect();
        let wanted = |entry: &&'a Entry| match self.only {
            Only::All => true,
            Only::Running => entry.end.is_none(),
            Only::Alarms => entry.is_alarm(app.utc),
        };
        let entries = app.ledger.entries().iter().filter(wanted);
        let mut rows: Vec<&Entry> = entries.filter(|entry| words.iter().all(|word| holds(app, entry, word))).collect();
        rows.sort_by_key(|entry| std::cmp::Reverse((entry.start, entry.id)));
        rows
    }

    /// The open stream of the selected entry's first camera, while the entry goes on.
    fn live(&self, app: &App) -> Option<FeedKey> {
        let rows = self.rows(app);
        let entry = rows.get(self.row(&rows)).filter(|entry| entry.end.is_none() && !entry.kind.is_change())?;
        app.telling(app.camera_index(entry.cameras.first()?)?)
    }

    /// Where the selected entry stands among those shown.
    pub fn row(&self, rows: &[&Entry]) -> usize {
        rows.iter().position(|entry| Some(entry.id) == self.chosen).unwrap_or(0)
    }

    /// The selected entry, which stays the selected one; said where there is none.
    fn entry(&mut self, app: &mut App) -> Option<Entry> {
        let rows = self.rows(app);
        let entry = rows.get(self.row(&rows)).map(|entry| (*entry).clone());
        match &entry {
            Some(entry) => self.chosen = Some(entry.id),
            None => app.say(Tone::Text, "no entry is selected".into()),
        }
        entry
    }

    fn select(&mut self, app: &App, by: i32) {
        let rows = self.rows(app);
        let to = self.row(&rows).saturating_add_signed(by as isize).min(rows.len().saturating_sub(1));
        self.chosen = rows.get(to).map(|entry| entry.id);
    }

    fn order(&mut self, app: &mut App, order: EntryOrder) {
        if let Some(entry) = self.entry(app) {
            app.tell(Command::Entry(entry.id, order));
        }
    }

    fn show(&mut self, app: &mut App) {
        if let Some(entry) = self.entry(app) {
            app.show_camera(entry.cameras.first().map_or("", String::as_str));
        }
    }

    fn note(&mut self, app: &mut App) {
        let Some(Entry { id, note, .. }) = self.entry(app) else { return };
        app.put_in_front(Picker::line("Note to this entry", note, move |app, text| {
            app.tell(Command::Entry(id, EntryOrder::Note(text.trim().to_owned())));
        }));
    }

    fn type_filter(&mut self, app: &mut App) {
        let title = "Only entries with these words; >5 longer than 5 s";
        app.put_in_front(Picker::line(title, self.filter.clone(), |app, text| {
            app.on_page(|page: &mut Self, _| text.trim().clone_into(&mut page.filter));
        }));
    }

    fn report(&mut self, app: &mut App) {
        let span = LANE_SPANS[self.span % LANE_SPANS.len()].0;
        let name = format!("report-{}.pdf", app.file_time());
        app.put_in_front(Picker::line("Report to a new file: .pdf .svg .csv .json", name, move |app, text| {
            app.tell(Command::Report(text.to_owned(), span));
        }));
    }
}
