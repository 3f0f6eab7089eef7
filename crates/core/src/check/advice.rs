//! What a failed step most likely means, from what practitioners meet.

use super::Step;
use crate::Cause;
use crate::rtsp::FailureKind;

/// What is known around a failure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct Circumstances {
    /// The address is on one of this machine's own networks.
    pub same_subnet: bool,
    /// The address is on this machine.
    pub this_machine: bool,
    /// The address is one that is not routed on the internet.
    pub private_address: bool,
    /// A sign-in was given.
    pub sign_in_given: bool,
    /// The check was held to UDP.
    pub udp_only: bool,
    /// A web server answers on the port.
    pub web_server: bool,
    /// The device answers in other ways: its web or device service is up.
    pub device_answers: bool,
    /// It is pictures by HTTP that are asked for.
    pub pictures: bool,
    /// The path was not typed but found.
    pub path_found: bool,
    /// What the other end answered, where it failed by that.
    pub seen: Option<FailureKind>,
}

/// What an answer means, at whatever step it came; `None` where the step says it better.
const fn answered(seen: FailureKind) -> Option<&'static str> {
    Some(match seen {
        FailureKind::SignInNeeded => "The device wants a sign-in: give its user name and password.",
        FailureKind::SignInRefused => {
            "User name or password were refused. Check both, with capitals and the account's right to view streams; it is not tried again by itself, so that no account gets locked."
        }
        FailureKind::SignInReadable => {
            "The camera asks for the password itself, and the connection is not encrypted: anyone on the way could read it. Switch Digest or TLS on in the camera; or, where the network is yours alone, allow it for this camera (ctrl-o in the form for the sign-in, --password-readable on the command line)."
        }
        FailureKind::SignInWeaker => {
            "Somebody else may answer at this address, or the camera was set back: look at it first. If it is the camera, give its sign-in again (s): what was learned of it begins anew."
        }
        FailureKind::Forbidden => {
            "The account is right and may not see this stream: give it the right in the device, or take another account; it is not tried again by itself."
        }
        FailureKind::ViewerLimit => {
            "The device admits no more viewers: close one elsewhere (recorder, browser, another wall), or raise its limit. It is tried again by itself."
        }
        FailureKind::NoVideo => {
            "What stands at this path has no video (sound only, or data): choose another stream of the device, or give the path of its video."
        }
        FailureKind::TransportRefused => {
            "The device offers none of the transports that are allowed: let both UDP and TCP be used."
        }
        FailureKind::Refused => {
            "The device knows the stream and refuses to begin it: it may still hold an old session or be starting up. It is tried again by itself; if it stays so, restart the stream service in the device."
        }
        FailureKind::DeviceFailed => {
            "The device reports a failure of its own: it is tried again by itself; if it stays so, restart the device."
        }
        FailureKind::Redirects => {
            "The device sends to another address, and that one back or to nowhere: give the address of the stream itself."
        }
        FailureKind::NotAPicture => {
            "What stands at this address is a page or another file, not a picture: look the address of the still up in the device, or give the device's address alone."
        }
        FailureKind::NotFound | FailureKind::NotRtsp | FailureKind::NoAnswer | FailureKind::Closed => return None,
    })
}

/// What to do about a stream that does not come, by its cause and what was answered: the same on the wall, in a check and in a
/// measurement.
#[must_use]
pub fn advice_of(cause: Cause, seen: Option<FailureKind>) -> &'static str {
    seen.filter(|seen| seen.cause() == cause).and_then(answered).unwrap_or(cause.advice())
}

/// A cause in words, where the answer says it more exactly.
#[must_use]
pub fn phrase_of(cause: Cause, seen: Option<FailureKind>) -> &'static str {
    match seen.filter(|seen| seen.cause() == cause) {
        Some(FailureKind::SignInRefused) => "sign-in refused",
        Some(FailureKind::SignInReadable) => "password not sent",
        Some(FailureKind::SignInWeaker) => "weaker sign-in",
        Some(FailureKind::Forbidden) => "account may not see it",
        Some(FailureKind::NoVideo) => "no video there",
        Some(FailureKind::Refused) => "refused by the device",
        Some(FailureKind::DeviceFailed) => "device failed",
        Some(FailureKind::NotAPicture) => "not a picture",
        Some(FailureKind::TransportRefused) => "transport refused",
        _ => cause.phrase(),
    }
}

/// One sentence or two: what it means, and what to do.
#[must_use]
#[allow(clippy::too_many_lines, reason = "a table of rules, one row a rule")]
pub fn advice(step: Step, cause: Cause, around: Circumstances) -> String {
    let seen = around.seen.filter(|seen| seen.cause() == cause && step >= Step::Protocol);
    if let Some(known) = seen.and_then(answered) {
        return known.to_owned();
    }
    match (step, cause) {
        (Step::Resolve, _) => "The name is not known to this machine's name service: check it for a slip, or use the camera's address.",
        (Step::Route, _) => {
            "This machine has no way to that network: give it an address there, or a route; a camera fresh from its box often has an address of another subnet."
        }
        (Step::Host, _) if around.same_subnet => {
            "Nothing answers there though it is this machine's own subnet: check power and cable, and whether the camera got another address; `amber-lattice find` looks for it."
        }
        (Step::Host, _) if around.private_address => {
            "The address is on another subnet and nothing answers: most likely camera and viewer are on different subnets without a way between them, or the camera has no power."
        }
        (Step::Host, _) => {
            "Nothing answers from outside: check the address, that the site's router forwards to the camera, and that the camera has power."
        }
        (Step::Port, _) if around.device_answers => {
            "The device is there, but its stream port is closed: switch RTSP on in the device, or give the port it uses; if it worked before, its stream service may hang: restart it."
        }
        (Step::Port, Cause::Unreachable) if around.same_subnet || around.this_machine => {
            "The host is there but swallows what is sent to this port: a firewall on the device, or another port is meant (RTSP is 554 on most devices)."
        }
        (Step::Port, Cause::Unreachable) => {
            "The port gives no answer: from outside it is most likely not forwarded by the router, or a firewall stands between."
        }
        (Step::Port, _) => {
            "The host is there and refuses this port: check the port (RTSP is 554 on most devices), that RTSP is switched on, and that the address is the camera's own and not its recorder's."
        }
        (Step::Protocol, Cause::Silence) => {
            "The port is open but nobody answers: the camera is up and its stream service hangs. Restart the camera's stream service, or the camera."
        }
        (Step::Protocol, Cause::ClosedByCamera) => {
            "The device closes the connection at once: it is starting up, has no room for another viewer, or admits only certain addresses."
        }
        (Step::Protocol, _) if around.web_server => {
            "A web server answers here, not RTSP: this is the port of the device's web page. RTSP is 554 on most devices."
        }
        (Step::Protocol, _) => "Another service answers on this port: check the port, RTSP is 554 on most devices.",
        (_, Cause::ViewerLimit) => {
            "The device admits no more viewers: close one elsewhere (recorder, browser, another wall), or raise its limit."
        }
        (Step::SignIn, _) if around.sign_in_given => {
            "User name or password were refused. Check both, with capitals and the account's right to view streams; it is not tried again by itself, so that no account gets locked."
        }
        (Step::SignIn, _) => "The device wants a sign-in: give its user name and password.",
        (Step::Path, Cause::NoSuchStream) if around.path_found => {
            "The device answers but has no stream at the paths that are commonly used: look the path up in the device, and give it after the host."
        }
        (Step::Path, Cause::NoSuchStream) => {
            "The device is there and does not know this path: check it letter by letter, or give the address alone and let the device be asked. A stream that is switched off answers so too."
        }
        (_, Cause::KeyNeeded) => "The stream is encrypted (SRTP) and no key is known: enter its key, or switch the encryption off in the device.",
        (Step::Transport, Cause::NoSuchStream) if around.udp_only => "The device does not offer UDP: let TCP be used.",
        (Step::Transport, _) => "The device does not agree to this transport: try the other one.",
        (_, Cause::NoSuchStream) if around.pictures => {
            "What stands at this address is no picture: look the address of the still up in the device, or give the device's address alone."
        }
        (Step::FirstPacket, _) if around.udp_only => {
            "The session stands and no packet comes: UDP is most likely blocked on the way. Let TCP be used (--transport tcp)."
        }
        (Step::FirstPacket, _) => {
            "The session stands and no packet comes, by UDP or TCP: the camera's encoder does not run. Restart the camera, or look whether this stream is switched on."
        }
        (_, Cause::TooHeavy) => {
            "The stream needs more than its link carries: packets come slower than they are made. Take the sub stream, or lower this stream's bitrate in the camera."
        }
        (_, Cause::PacketLoss) => "Packets are lost on the way: try TCP, the lighter stream, and look at the link.",
        (Step::Parameters | Step::FirstPicture, Cause::AwaitingKeyframe) => {
            "Packets come, but no keyframe in ten seconds: shorten the keyframe interval of this stream in the camera."
        }
        (Step::Steady, Cause::CameraSlowed) => {
            "The camera makes fewer frames than it declares: night mode with long exposure, its load, or a setting."
        }
        (Step::Clock, _) => "Set the camera's clock, or give it a time server; recordings and latency go by it.",
        (_, cause) => cause.advice(),
    }
    .to_owned()
}
