//! One device: its streams as it declares them beside what is measured, encoders, clock, accounts, address.

use super::measured as of_open;
use super::state::{DevicePage, Setting};
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{Column, List, Said, column, table};
use lattice_core::clock::off_text;
use lattice_core::meter::Figures;
use lattice_core::target::Target;
use lattice_engine::jobs::DeviceFacts;
use lattice_net::Offered;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};
use std::time::Duration;

const COLUMNS: [Column; 8] = [
    column("role", Constraint::Length(5), 66),
    column("profile", Constraint::Length(24), 0),
    column("codec", Constraint::Length(14), 90),
    column("resolution", Constraint::Length(11), 0),
    column("frame rate", Constraint::Length(11), 0),
    column("bitrate", Constraint::Length(13), 0),
    column("GOP", Constraint::Length(11), 76),
    column("measured", Constraint::Fill(1), 118),
];
/// Lines that tell of the device, above its streams.
const ABOUT_LINES: u16 = 4;

/// Draws the page.
pub fn draw(app: &App, page: &DevicePage, theme: Theme, area: Rect, buf: &mut Buffer) {
    Line::styled(format!("Device of {}", page.camera), theme.tone(Tone::Bright)).render(Rect { height: 1, ..area }, buf);
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    match &page.facts {
        None => Line::styled("asking the device …", theme.tone(Tone::Waiting)).render(Rect { height: 1, ..area }, buf),
        Some(Err(why)) => {
            let text = vec![
                Line::styled(why.clone(), theme.tone(Tone::Alarm)),
                Line::styled(
                    "s signs in; p sets the first password of a device that has no account yet; r asks again",
                    theme.tone(Tone::Text),
                ),
            ];
            Paragraph::new(text).wrap(Wrap { trim: true }).render(area, buf);
        }
        Some(Ok(facts)) => told(app, theme, page, facts, area, buf),
    }
}

fn told(app: &App, theme: Theme, page: &DevicePage, facts: &DeviceFacts, area: Rect, buf: &mut Buffer) {
    let about = about(theme, page, facts, app.site.clock_limit());
    let above = ABOUT_LINES;
    Paragraph::new(about).render(Rect { height: above.min(area.height), ..area }, buf);
    let rows: Vec<Vec<Said>> = facts.streams.iter().enumerate().map(|(index, _)| row(app, page, facts, index)).collect();
    let list = list_below(page, rows.len(), above, area);
    table(theme, &list.fitting(&rows), rows, buf);
    let below = Rect { y: list.area.bottom() + 1, height: area.bottom().saturating_sub(list.area.bottom() + 1), ..area };
    Paragraph::new(settings(theme, page)).wrap(Wrap { trim: false }).render(below, buf);
}

fn list_below(page: &DevicePage, rows: usize, above: u16, area: Rect) -> List {
    let height = (rows as u16 + 1).min(area.height.saturating_sub(above + 1));
    let place = Rect { y: area.y + above + 1, height, ..area };
    List { area: place, columns: COLUMNS.to_vec(), rows, selected: page.stream }
}

/// Where the table of streams stands, once the device has answered.
pub fn list(page: &DevicePage, area: Rect) -> Option<List> {
    let facts = page.facts.as_ref()?.as_ref().ok()?;
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    Some(list_below(page, facts.streams.len(), ABOUT_LINES, area))
}

fn about<'a>(theme: Theme, page: &DevicePage, facts: &DeviceFacts, limit: Duration) -> Vec<Line<'a>> {
    let pair = |label: &str, text: String, tone: Tone| {
        Line::from(vec![Span::styled(format!("{label:<9}"), theme.tone(Tone::Faint)), Span::styled(text, theme.tone(tone))])
    };
    let said = |text: &Option<String>| text.clone().unwrap_or_else(|| "–".into());
    let made = &facts.information;
    let nothing = [&made.maker, &made.model, &made.firmware, &made.serial].iter().all(|one| one.is_none());
    let device = if nothing {
        "not known".to_owned()
    } else {
        format!("{} {}, firmware {}, serial {}", said(&made.maker), said(&made.model), said(&made.firmware), said(&made.serial))
    };
    let mut lines = vec![pair("device", device, Tone::Calm)];
    lines.push(match &page.clock {
        None => pair("clock", "being read …".into(), Tone::Waiting),
        Some(Err(why)) => pair("clock", why.clone(), Tone::Text),
        Some(Ok(offset)) => {
            let beyond = u128::from(offset.micros.unsigned_abs()) > limit.as_micros();
            let tone = if beyond { Tone::Bright } else { Tone::Calm };
            pair("clock", format!("{}, ± {} ms", off_text(offset.micros), offset.error.as_millis().max(1)), tone)
        }
    });
    lines.push(match &facts.users {
        Ok(users) if users.is_empty() => {
            pair("accounts", "none yet: whoever comes first sets its password (p)".into(), Tone::Bright)
        }
        Ok(users) => pair(
            "accounts",
            users.iter().map(|user| format!("{} ({})", user.name, user.level.word())).collect::<Vec<_>>().join(", "),
            Tone::Calm,
        ),
        Err(why) => pair("accounts", why.clone(), Tone::Text),
    });
    lines.push(match &facts.network {
        Ok(interfaces) => {
            let one = |interface: &lattice_core::onvif::NetworkInterface| {
                let address = interface.address.map_or_else(|| "–".to_owned(), |(address, bits)| format!("{address}/{bits}"));
                let how = interface.dhcp.map_or("", |dhcp| if dhcp { " by DHCP" } else { " fixed" });
                format!("{address}{how}, card {}", interface.hardware.as_deref().unwrap_or("–"))
            };
            pair("address", interfaces.iter().map(one).collect::<Vec<_>>().join("; "), Tone::Calm)
        }
        Err(why) => pair("address", why.clone(), Tone::Text),
    });
    lines
}

fn row(app: &App, page: &DevicePage, facts: &DeviceFacts, index: usize) -> Vec<Said> {
    let Some((offered, _)) = facts.streams.get(index) else { return Vec::new() };
    let profile = &offered.profile;
    let encoder = profile.encoder.as_ref();
    let wanted = page.wanted.as_ref().filter(|_| index == page.stream);
    let figures = figures(app, page, offered);
    let seen = figures.and_then(Result::ok);
    let setting = |setting: Setting| {
        let changed = wanted.zip(encoder).is_some_and(|(wanted, encoder)| setting.value(wanted) != setting.value(encoder));
        let described = || described(setting, seen).unwrap_or_else(|| "–".to_owned());
        let text = wanted.or(encoder).map_or_else(described, |encoder| setting.value(encoder));
        (text, if changed { Tone::Bright } else { Tone::Calm })
    };
    let codec = encoder.and_then(|encoder| encoder.codec.clone()).or_else(|| seen.and_then(|seen| seen.codec.clone()));
    let codec = codec.unwrap_or_else(|| "–".into());
    let mut also: Vec<&str> = Vec::new();
    also.extend((profile.audio.is_some() || seen.is_some_and(|seen| !seen.audio.is_empty())).then_some("sound"));
    also.extend(profile.ptz.as_ref().map(|_| "PTZ"));
    let name = if also.is_empty() { profile.name.clone() } else { format!("{} ({})", profile.name, also.join(", ")) };
    let [size, rate, bitrate, keyframes] = Setting::ALL.map(setting);
    let role = (role(app, page, offered), Tone::Calm);
    vec![role, (name, Tone::Calm), (codec, Tone::Calm), size, rate, bitrate, keyframes, measured(figures)]
}

/// What is measured of a stream: on the wall where it is open there, else for a moment.
fn figures<'a>(app: &'a App, page: &'a DevicePage, offered: &Offered) -> Option<Result<&'a Figures, &'a str>> {
    let uri = offered.url.as_ref()?.request_uri();
    if let Some(open) = of_open(app, &uri) {
        return Some(Ok(open));
    }
    page.probed.get(&uri).map(|probed| probed.as_ref().map(AsRef::as_ref).map_err(String::as_str))
}

fn measured(figures: Option<Result<&Figures, &str>>) -> Said {
    let figures = match figures {
        None => return ("being measured …".into(), Tone::Waiting),
        Some(Err(why)) => return (why.to_owned(), Tone::Alarm),
        Some(Ok(figures)) => figures,
    };
    let size = figures.size.map_or_else(|| "–".to_owned(), |(width, height)| format!("{width}×{height}"));
    let sent = figures.sent.map_or_else(|| "–".to_owned(), |rate| format!("{rate:.1} /s"));
    // A stream that was measured for a moment has not run for ten seconds.
    let bitrate = figures.bitrate_10s.or(figures.bitrate_1s);
    let bitrate = bitrate.map_or_else(|| "–".to_owned(), |bitrate| format!("{:.0} kbit/s", bitrate.kilo()));
    // A viewer that comes is given a keyframe out of turn: the interval shows only in a longer look.
    let keyframes = figures.keyframe_frames.filter(|_| figures.bitrate_10s.is_some());
    let keyframes = keyframes.map_or(String::new(), |frames| format!("  {frames} frames"));
    (format!("{size}  {sent}  {bitrate}{keyframes}"), Tone::Calm)
}

/// What the stream's own description declares, where the device does not.
fn described(setting: Setting, figures: Option<&Figures>) -> Option<String> {
    let figures = figures?;
    match setting {
        Setting::Rate => figures.declared.map(|rate| format!("{} /s", rate.per_second())),
        Setting::Bitrate => figures.declared_bitrate.map(|bitrate| format!("{:.0} kbit/s", bitrate.kilo())),
        Setting::Size | Setting::KeyframeInterval => None,
    }
}

/// What the stream is for the camera that was opened.
fn role(app: &App, page: &DevicePage, offered: &Offered) -> String {
    let streams = app.site.camera(&page.camera).map(|camera| camera.streams.as_slice()).unwrap_or_default();
    let is = |stream: &&lattice_store::Stream| match (&stream.target, &offered.url) {
        (Target::Url(one), Some(other)) => one.request_uri() == other.request_uri(),
        _ => false,
    };
    streams.iter().find(is).map_or_else(String::new, |stream| stream.role.word().to_owned())
}

/// The settings of the selected encoder, with the device's limits and what a change does to the link.
fn settings<'a>(theme: Theme, page: &DevicePage) -> Vec<Line<'a>> {
    let (Some(encoder), Some((_, limits))) = (page.encoder(), page.selected()) else { return Vec::new() };
    let mut lines = vec![Line::styled("Encoder settings of the selected stream", theme.tone(Tone::Bright))];
    for (index, setting) in Setting::ALL.into_iter().enumerate() {
        let here = index == page.setting;
        let now = setting.value(encoder);
        let wanted = page.wanted.as_ref().map_or_else(|| now.clone(), |wanted| setting.value(wanted));
        let text = if wanted == now { now } else { format!("{now} → {wanted}") };
        let tone = if here { Tone::Text } else { Tone::Calm };
        lines.push(Line::from(vec![
            Span::styled(if here { "▌ " } else { "  " }, theme.tone(Tone::Here)),
            Span::styled(format!("{:<24}", setting.word()), theme.tone(tone)),
            Span::styled(format!("{text:<28}"), theme.tone(tone)),
            Span::styled(setting.limits(limits), theme.tone(Tone::Faint)),
        ]));
    }
    if let Some((offered, _)) = page.selected() {
        let told = |url: &Option<lattice_core::SourceUrl>| url.as_ref().map_or_else(|| "–".to_owned(), ToString::to_string);
        lines.push(Line::styled(format!("  {:<24}{}", "stream", told(&offered.url)), theme.tone(Tone::Faint)));
        lines.push(Line::styled(format!("  {:<24}{}", "still", told(&offered.still)), theme.tone(Tone::Faint)));
    }
    if let Some((now, then)) = page.load() {
        let text = if now == then {
            format!("its streams together take {now} kbit/s of the link, as declared")
        } else {
            format!("its streams together: {now} → {then} kbit/s of the link, as declared; enter applies it")
        };
        lines.extend([Line::default(), Line::styled(text, theme.tone(if now == then { Tone::Faint } else { Tone::Bright }))]);
    }
    if !page.before.is_empty() {
        lines.push(Line::styled("b reverts to what was before", theme.tone(Tone::Faint)));
    }
    lines
}
