//! A stand-in's PTZ service, and the focus of its imaging service.

use super::fault;
use crate::camera::{Shared, unix_micros};
use crate::head::{Aim, Head, HeadFault, PAN, PRESETS, TILT, ZOOM};
use crate::log::{Event, Record};
use lattice_core::onvif::{Element, duration, escape};
use std::fmt::Write as _;
use std::sync::MutexGuard;
use std::time::{Duration, Instant};

/// The shortest time-out of a move that it takes.
const SHORTEST: Duration = Duration::from_millis(100);
/// The longest one.
const LONGEST: Duration = Duration::from_secs(10);
/// What its outputs are switched by.
const OUTPUTS: [&str; 4] = ["tt:Wiper|On", "tt:Wiper|Off", "tt:IRLamp|On", "tt:IRLamp|Off"];

/// The questions and orders that are answered here.
pub(super) const QUESTIONS: [&str; 14] = [
    "GetNodes",
    "GetConfigurationOptions",
    "GetStatus",
    "GetPresets",
    "ContinuousMove",
    "RelativeMove",
    "AbsoluteMove",
    "Stop",
    "GotoPreset",
    "SetPreset",
    "RemovePreset",
    "GotoHomePosition",
    "SetHomePosition",
    "SendAuxiliaryCommand",
];

/// What the head was told, to be held against what was pressed.
pub(super) fn note(camera: &Shared, order: &str, way: [f64; 2], lasts: Duration) {
    let at = unix_micros();
    let event = Event::Head { order: order.to_owned(), way, until: at + lasts.as_micros() as i64 };
    let name = camera.spec.name.clone();
    camera.log.write(Record { at, camera: name, stream: String::new(), viewer: 0, event });
}

/// The answer to one of [`QUESTIONS`], or the fault.
pub(super) fn reply(camera: &Shared, question: &Element) -> Result<String, String> {
    let mut head = camera.head().ok_or_else(|| fault("ActionNotSupported", "it has no head"))?;
    let (now, name) = (Instant::now(), question.name.as_str());
    let asks = name.starts_with("Get");
    if head.fault == HeadFault::Refuses && !asks {
        return Err(fault("Action", "the head does not answer"));
    }
    let done = || Ok(format!("<tptz:{name}Response/>"));
    let number = || question.text_at(&["PresetToken"]).and_then(|token| token.parse::<u32>().ok());
    let no_token = || fault("NoToken", "no such preset");
    match name {
        "GetNodes" => Ok(nodes(head.fault)),
        "GetConfigurationOptions" => Ok(format!(
            "<tptz:GetConfigurationOptionsResponse><tptz:PTZConfigurationOptions><tt:PTZTimeout><tt:Min>PT{}S</tt:Min><tt:Max>PT{}S</tt:Max>\
             </tt:PTZTimeout></tptz:PTZConfigurationOptions></tptz:GetConfigurationOptionsResponse>",
            SHORTEST.as_secs_f64(),
            LONGEST.as_secs_f64()
        )),
        "GetStatus" => Ok(status(&mut head, now)),
        "GetPresets" => {
            let mut out = String::new();
            for (number, name) in head.presets() {
                let _ = write!(out, "<tptz:Preset token=\"{number}\"><tt:Name>{}</tt:Name></tptz:Preset>", escape(name));
            }
            Ok(format!("<tptz:GetPresetsResponse>{out}</tptz:GetPresetsResponse>"))
        }
        "ContinuousMove" => {
            let velocity = question.child("Velocity").ok_or_else(|| fault("InvalidVelocity", "no velocity"))?;
            let timeout = question.text_at(&["Timeout"]).and_then(duration).unwrap_or(LONGEST);
            if !(SHORTEST..=LONGEST).contains(&timeout) {
                return Err(fault("TimeoutNotSupported", "beyond its limits"));
            }
            let [pan, tilt, zoom] = axes(velocity).map(Option::unwrap_or_default);
            head.go(now, [pan, tilt, zoom], timeout);
            note(camera, "move", [pan, tilt], timeout);
            done()
        }
        "RelativeMove" => {
            let by = question.child("Translation").ok_or_else(|| fault("InvalidTranslation", "no translation"))?;
            let [x, y, zoom] = axes(by).map(Option::unwrap_or_default);
            head.go_by_view(now, (x, y), zoom);
            done()
        }
        "AbsoluteMove" => {
            let to = question.child("Position").ok_or_else(|| fault("InvalidPosition", "no position"))?;
            let aim = head.aim(now);
            let [pan, tilt, zoom] = axes(to);
            head.go_to(
                now,
                Aim { pan: pan.unwrap_or(aim.pan), tilt: tilt.unwrap_or(aim.tilt), zoom: zoom.map_or(aim.zoom, zoomed) },
            );
            done()
        }
        // The imaging service's own order of this name is about a video source.
        "Stop" if question.child("VideoSourceToken").is_some() => {
            camera.faults.imaging().move_focus(now, 0.0);
            note(camera, "focus", [0.0; 2], Duration::ZERO);
            Ok("<timg:StopResponse/>".into())
        }
        "Stop" => {
            head.stop(now);
            note(camera, "stop", [0.0; 2], Duration::ZERO);
            done()
        }
        "GotoPreset" => head.go_to_preset(now, number().ok_or_else(no_token)?).then(done).ok_or_else(no_token)?,
        "RemovePreset" => head.forget(number().ok_or_else(no_token)?).then(done).ok_or_else(no_token)?,
        "SetPreset" => {
            let name = question.text_at(&["PresetName"]).unwrap_or("");
            let asked = question.child("PresetToken").map(|_| number().ok_or_else(no_token)).transpose()?;
            let kept = head.keep(now, name, asked).ok_or_else(|| fault("TooManyPresets", "no room for another preset"))?;
            Ok(format!("<tptz:SetPresetResponse><tptz:PresetToken>{kept}</tptz:PresetToken></tptz:SetPresetResponse>"))
        }
        "GotoHomePosition" => {
            head.go_home(now);
            done()
        }
        "SetHomePosition" => {
            head.set_home(now);
            done()
        }
        "SendAuxiliaryCommand" => {
            let word = question.text_at(&["AuxiliaryData"]).filter(|word| OUTPUTS.contains(word));
            let word = word.ok_or_else(|| fault("NoSuchCommand", "no such output"))?;
            let output = word.split('|').next().unwrap_or("").to_owned();
            head.outputs.retain(|on| *on != output);
            if word.ends_with("|On") {
                head.outputs.push(output);
            }
            Ok(format!(
                "<tptz:SendAuxiliaryCommandResponse><tptz:AuxiliaryResponse>{word}</tptz:AuxiliaryResponse></tptz:SendAuxiliaryCommandResponse>"
            ))
        }
        _ => Err(fault("ActionNotSupported", "not supported")),
    }
}

/// Pan, tilt and zoom of an order, where they are given.
fn axes(vector: &Element) -> [Option<f64>; 3] {
    let of =
        |part: &str, axis: &str| vector.child(part)?.attribute(axis)?.parse::<f64>().ok().filter(|number| number.is_finite());
    [of("PanTilt", "x"), of("PanTilt", "y"), of("Zoom", "x")]
}

/// Times nearer, of a position from 0 to 1.
fn zoomed(share: f64) -> f64 {
    (share.clamp(0.0, 1.0) * (ZOOM.1 / ZOOM.0).log2()).exp2() * ZOOM.0
}

fn nodes(how: HeadFault) -> String {
    let wider = if how == HeadFault::Lies { 2.0 } else { 1.0 };
    let range =
        |name: &str, (least, most): (f64, f64)| format!("<tt:{name}><tt:Min>{least}</tt:Min><tt:Max>{most}</tt:Max></tt:{name}>");
    let two = |name: &str, uri: &str, x: (f64, f64), y: (f64, f64)| {
        format!(
            "<tt:{name}><tt:URI>http://www.onvif.org/ver10/tptz/{uri}</tt:URI>{}{}</tt:{name}>",
            range("XRange", x),
            range("YRange", y)
        )
    };
    let one = |name: &str, uri: &str, x: (f64, f64)| {
        format!("<tt:{name}><tt:URI>http://www.onvif.org/ver10/tptz/{uri}</tt:URI>{}</tt:{name}>", range("XRange", x))
    };
    let wide = |(least, most): (f64, f64)| (least * wider, most * wider);
    let spaces = [
        two("AbsolutePanTiltPositionSpace", "PanTiltSpaces/SphericalPositionSpaceDegrees", wide(PAN), wide(TILT)),
        one("AbsoluteZoomPositionSpace", "ZoomSpaces/PositionGenericSpace", (0.0, 1.0)),
        two("RelativePanTiltTranslationSpace", "PanTiltSpaces/TranslationSpaceFov", (-1.0, 1.0), (-1.0, 1.0)),
        one("RelativeZoomTranslationSpace", "ZoomSpaces/TranslationGenericSpace", (-1.0, 1.0)),
        two("ContinuousPanTiltVelocitySpace", "PanTiltSpaces/VelocityGenericSpace", (-1.0, 1.0), (-1.0, 1.0)),
        one("ContinuousZoomVelocitySpace", "ZoomSpaces/VelocityGenericSpace", (-1.0, 1.0)),
    ]
    .concat();
    let outputs = OUTPUTS.iter().fold(String::new(), |mut out, word| {
        let _ = write!(out, "<tt:AuxiliaryCommands>{word}</tt:AuxiliaryCommands>");
        out
    });
    format!(
        "<tptz:GetNodesResponse><tptz:PTZNode token=\"head\"><tt:Name>head</tt:Name><tt:SupportedPTZSpaces>{spaces}</tt:SupportedPTZSpaces>\
         <tt:MaximumNumberOfPresets>{PRESETS}</tt:MaximumNumberOfPresets><tt:HomeSupported>true</tt:HomeSupported>{outputs}</tptz:PTZNode>\
         </tptz:GetNodesResponse>"
    )
}

fn status(head: &mut MutexGuard<'_, Head>, now: Instant) -> String {
    let aim = head.aim(now);
    let zoom = (aim.zoom / ZOOM.0).log2() / (ZOOM.1 / ZOOM.0).log2();
    let moving = if head.moves() { "MOVING" } else { "IDLE" };
    format!(
        "<tptz:GetStatusResponse><tptz:PTZStatus><tt:Position><tt:PanTilt x=\"{:.3}\" y=\"{:.3}\"/><tt:Zoom x=\"{zoom:.4}\"/></tt:Position>\
         <tt:MoveStatus><tt:PanTilt>{moving}</tt:PanTilt><tt:Zoom>{moving}</tt:Zoom></tt:MoveStatus></tptz:PTZStatus></tptz:GetStatusResponse>",
        aim.pan, aim.tilt
    )
}
