//! Rules of the site file: what is done when a camera reports something.

use super::read::{Complaint, Text, at};
use lattice_core::SourceUrl;
use lattice_core::onvif::ReportKind;
use lattice_core::rule::{Hours, Rule};
use serde::Deserialize;
use std::time::Duration;
use toml::Spanned;

/// Most words of a program that a rule runs.
const MOST_WORDS: usize = 32;
/// It does so again after this, where nothing is said.
const REST: f64 = 10.0;

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct RawRule {
    camera: Option<Text>,
    group: Option<Text>,
    #[serde(default)]
    reports: Vec<Text>,
    hours: Option<Text>,
    ledger: Option<bool>,
    alarm: Option<bool>,
    mark: Option<bool>,
    still: Option<bool>,
    tile: Option<Spanned<usize>>,
    seconds: Option<Spanned<f64>>,
    bell: Option<bool>,
    notify: Option<bool>,
    run: Option<Spanned<toml::Value>>,
    post: Option<Text>,
    rest: Option<Spanned<f64>>,
}

/// Reads one. A camera or group that is not there is no mistake: they come and go.
pub(super) fn rule(raw: RawRule) -> Result<Rule, Complaint> {
    if let (Some(_), Some(group)) = (&raw.camera, &raw.group) {
        return Err(at(group, "a rule is for a camera or for a group: make two of them"));
    }
    let kind = |word: &Text| {
        let all: Vec<&str> = ReportKind::ALL.iter().map(|kind| kind.word()).collect();
        ReportKind::from_word(word.get_ref()).ok_or_else(|| at(word, format!("reports takes {}", all.join(", "))))
    };
    let hours = |text: &Text| Hours::parse(text.get_ref()).ok_or_else(|| at(text, "hours are like \"22:00-06:00\""));
    let run = match &raw.run {
        None => Vec::new(),
        Some(run) => words(run.get_ref()).ok_or_else(|| {
            at(run, format!("run is a program and up to {} arguments, like [\"call\", \"{{camera}}\"]", MOST_WORDS - 1))
        })?,
    };
    if let Some(post) = &raw.post {
        let url: SourceUrl =
            post.get_ref().parse().map_err(|_| at(post, "post is an address, like \"http://127.0.0.1:8080/reports\""))?;
        if url.scheme().is_rtsp() {
            return Err(at(post, "post is an http:// or https:// address"));
        }
        if url.credentials().is_some() || url.hidden().is_some() {
            return Err(at(
                post,
                "no user, password or key stands in the site file: let the address take what is sent without one",
            ));
        }
    }
    let tile = match &raw.tile {
        None => None,
        Some(tile) if (1..=64).contains(tile.get_ref()) => Some(*tile.get_ref() - 1),
        Some(tile) => return Err(at(tile, "tile is the number of a tile, from 1 to 64")),
    };
    let seconds = match &raw.seconds {
        None => 20.0,
        Some(seconds) if (1.0..=86_400.0).contains(seconds.get_ref()) => *seconds.get_ref(),
        Some(seconds) => return Err(at(seconds, "seconds is 1 to 86400")),
    };
    let rest = match &raw.rest {
        None => REST,
        Some(seconds) if (0.0..=86_400.0).contains(seconds.get_ref()) => *seconds.get_ref(),
        Some(seconds) => return Err(at(seconds, "rest is 0 to 86400 seconds")),
    };
    Ok(Rule {
        camera: raw.camera.map(Spanned::into_inner),
        group: raw.group.map(Spanned::into_inner),
        kinds: raw.reports.iter().map(kind).collect::<Result<_, _>>()?,
        hours: raw.hours.as_ref().map(hours).transpose()?,
        ledger: raw.ledger.unwrap_or(true),
        alarm: raw.alarm == Some(true),
        mark: raw.mark.unwrap_or(true),
        still: raw.still == Some(true),
        tile,
        seconds: Duration::from_secs_f64(seconds),
        bell: raw.bell == Some(true),
        notify: raw.notify == Some(true),
        run,
        post: raw.post.map(Spanned::into_inner),
        rest: Duration::from_secs_f64(rest),
    })
}

/// A program and its arguments; `None` for anything else.
fn words(value: &toml::Value) -> Option<Vec<String>> {
    let all = value.as_array().filter(|all| (1..=MOST_WORDS).contains(&all.len()))?;
    all.iter().map(|word| word.as_str().map(str::to_owned)).collect()
}
