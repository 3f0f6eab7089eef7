//! One device: its streams as it declares them beside what is measured, encoders, clock, accounts, address.

use super::{Column, Said, column, table, typed};
use crate::app::App;
use crate::device_page::{DeviceFacts, DevicePage, PasswordForm, Setting};
use crate::theme::{Theme, Tone};
use crate::view::overlay::panel;
use lattice_core::clock::off_text;
use lattice_core::find::Strength;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

const COLUMNS: [Column; 7] = [
    column("stream", Constraint::Min(14), 0),
    column("codec", Constraint::Length(14), 90),
    column("size", Constraint::Length(11), 0),
    column("frame rate", Constraint::Length(11), 0),
    column("bitrate", Constraint::Length(13), 0),
    column("keyframes", Constraint::Length(11), 76),
    column("measured", Constraint::Length(38), 110),
];
/// A clock that is off by more is told in bright.
const CLOCK_LIMIT_MICROS: i64 = 2_000_000;

/// Draws the page.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let Some(page) = &app.desk.device else { return };
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
    let about = about(theme, page, facts);
    let above = about.len() as u16;
    Paragraph::new(about).render(Rect { height: above.min(area.height), ..area }, buf);
    let rows: Vec<Vec<Said>> = facts.streams.iter().enumerate().map(|(index, _)| row(app, page, facts, index)).collect();
    let list = Rect { y: area.y + above + 1, height: (rows.len() as u16 + 1).min(area.height.saturating_sub(above + 1)), ..area };
    table(theme, &COLUMNS, rows, page.stream, list, buf);
    let below = Rect { y: list.bottom() + 1, height: area.bottom().saturating_sub(list.bottom() + 1), ..area };
    Paragraph::new(settings(theme, page)).wrap(Wrap { trim: false }).render(below, buf);
}

fn about<'a>(theme: Theme, page: &DevicePage, facts: &DeviceFacts) -> Vec<Line<'a>> {
    let pair = |label: &str, text: String, tone: Tone| {
        Line::from(vec![Span::styled(format!("{label:<9}"), theme.tone(Tone::Faint)), Span::styled(text, theme.tone(tone))])
    };
    let said = |text: &Option<String>| text.clone().unwrap_or_else(|| "–".into());
    let made = &facts.information;
    let mut lines = vec![pair(
        "is",
        format!("{} {}, firmware {}, serial {}", said(&made.maker), said(&made.model), said(&made.firmware), said(&made.serial)),
        Tone::Calm,
    )];
    lines.push(match &page.clock {
        None => pair("clock", "being read …".into(), Tone::Waiting),
        Some(Err(why)) => pair("clock", why.clone(), Tone::Text),
        Some(Ok(offset)) => {
            let tone = if offset.micros.abs() > CLOCK_LIMIT_MICROS { Tone::Bright } else { Tone::Calm };
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
    let setting = |setting: Setting| {
        let changed = wanted.zip(encoder).is_some_and(|(wanted, encoder)| setting.value(wanted) != setting.value(encoder));
        let text = wanted.or(encoder).map_or_else(|| "–".to_owned(), |encoder| setting.value(encoder));
        (text, if changed { Tone::Bright } else { Tone::Calm })
    };
    let codec = encoder.and_then(|encoder| encoder.codec.clone()).unwrap_or_else(|| "–".into());
    let mut also: Vec<&str> = Vec::new();
    also.extend(profile.audio.as_ref().map(|_| "sound"));
    also.extend(profile.ptz.then_some("PTZ"));
    let name = if also.is_empty() { profile.name.clone() } else { format!("{} ({})", profile.name, also.join(", ")) };
    let [size, rate, bitrate, keyframes] = Setting::ALL.map(setting);
    vec![(name, Tone::Calm), (codec, Tone::Calm), size, rate, bitrate, keyframes, (measured(app, page, index), Tone::Calm)]
}

/// What is measured of a stream that is open on the wall: told beside what the device declares.
fn measured(app: &App, page: &DevicePage, index: usize) -> String {
    let facts = page.facts.as_ref().and_then(|facts| facts.as_ref().ok());
    let Some(url) = facts.and_then(|facts| facts.streams.get(index)?.0.url.clone()) else { return String::new() };
    let open = app.figures.iter().find(|(key, _)| match app.site.origin(**key) {
        Some(lattice_net::Origin::Url(open)) => open.request_uri() == url.request_uri(),
        _ => false,
    });
    let Some((_, figures)) = open else { return "not open".into() };
    let size = figures.size.map_or_else(|| "–".to_owned(), |(width, height)| format!("{width}×{height}"));
    let sent = figures.sent.map_or_else(|| "–".to_owned(), |rate| format!("{rate:.1} /s"));
    let bitrate = figures.bitrate_10s.map_or_else(|| "–".to_owned(), |bitrate| format!("{:.0} kbit/s", bitrate.kilo()));
    format!("{size}  {sent}  {bitrate}")
}

/// The settings of the selected encoder, with the device's limits and what a change does to the link.
fn settings<'a>(theme: Theme, page: &DevicePage) -> Vec<Line<'a>> {
    let (Some(encoder), Some((_, limits))) = (page.encoder(), page.selected()) else { return Vec::new() };
    let mut lines = vec![Line::styled("Encoder of the selected stream", theme.tone(Tone::Bright))];
    for (index, setting) in Setting::ALL.into_iter().enumerate() {
        let here = index == page.setting;
        let now = setting.value(encoder);
        let wanted = page.wanted.as_ref().map_or_else(|| now.clone(), |wanted| setting.value(wanted));
        let text = if wanted == now { now } else { format!("{now} → {wanted}") };
        let tone = if here { Tone::Text } else { Tone::Calm };
        lines.push(Line::from(vec![
            Span::styled(if here { "▌ " } else { "  " }, theme.tone(Tone::Here)),
            Span::styled(format!("{:<19}", setting.word()), theme.tone(tone)),
            Span::styled(format!("{text:<28}"), theme.tone(tone)),
            Span::styled(setting.limits(limits), theme.tone(Tone::Faint)),
        ]));
    }
    if let Some((now, then)) = page.load() {
        let text = if now == then {
            format!("its streams together take {now} kbit/s of the link, as declared")
        } else {
            format!("its streams together: {now} → {then} kbit/s of the link, as declared; enter sets it")
        };
        lines.extend([Line::default(), Line::styled(text, theme.tone(if now == then { Tone::Faint } else { Tone::Bright }))]);
    }
    if !page.before.is_empty() {
        lines.push(Line::styled("b sets back what was before", theme.tone(Tone::Faint)));
    }
    lines
}

/// The form for a device's password, in front of everything.
pub fn password(app: &App, page: &DevicePage, form: &PasswordForm, theme: Theme, buf: &mut Buffer) {
    let group = app.desk.site.camera(&page.camera).and_then(|camera| camera.group.clone());
    let inner = panel(theme, app.area, 66, 11, buf);
    for y in inner.y.saturating_sub(1)..=inner.bottom().min(app.area.bottom().saturating_sub(1)) {
        buf.set_string(inner.x.saturating_sub(2), y, "▌", theme.tone(Tone::Here));
    }
    let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
    let title = if form.first {
        format!("The first password of {}", page.camera)
    } else {
        format!("Another password for {}", page.camera)
    };
    Line::styled(title, theme.tone(Tone::Bright)).render(row(0), buf);
    for (n, label) in ["account ", "password", "again   "].into_iter().enumerate() {
        let Some(input) = form.fields.get(n) else { continue };
        let text = if n == 0 { input.value().to_owned() } else { "•".repeat(input.value().chars().count()) };
        if n == form.at {
            typed(theme, label, &text, input.cursor(), row(2 + n as u16), buf);
        } else {
            Line::from(vec![
                Span::styled(format!("{label} "), theme.tone(Tone::Faint)),
                Span::styled(text, theme.tone(Tone::Calm)),
            ])
            .render(row(2 + n as u16), buf);
        }
    }
    let (judged, tone) = match form.strength() {
        _ if form.fields[1].value().is_empty() => (String::new(), Tone::Faint),
        Strength::Weak(why) => (format!("too weak: {why}"), Tone::Alarm),
        Strength::Fair => ("fair; longer is better".to_owned(), Tone::Bright),
        Strength::Strong => ("strong".to_owned(), Tone::Calm),
    };
    Line::styled(judged, theme.tone(tone)).render(row(6), buf);
    if let Some(group) = group {
        let sign = if form.whole_group { "■" } else { "□" };
        Line::styled(format!("{sign} on every camera of the group {group} (ctrl-g)"), theme.tone(Tone::Calm)).render(row(7), buf);
    }
}
