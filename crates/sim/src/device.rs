//! A stand-in's device service: the ONVIF questions that a viewer asks, with digest tokens.

mod imaging;
mod ptz;
mod reports;

pub(crate) use imaging::Imaging;
pub use reports::ReportFault;
pub(crate) use reports::Reports;

use crate::camera::{Role, Shared, SignIn, unix_micros};
use crate::head::HeadFault;
use crate::scene::Scene;
use http_body_util::combinators::BoxBody;
use http_body_util::{BodyExt, Full, Limited, StreamBody};
use hyper::body::{Bytes, Frame, Incoming};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode, header};
use hyper_util::rt::TokioIo;
use lattice_core::onvif::{Element, Match, Security, User, UserLevel, envelope, escape};
use lattice_core::rtsp::{DigestAlgorithm, auth_parameters, digest_response};
use lattice_core::{Credentials, Wall};
use std::convert::Infallible;
use std::fmt::Write as _;
use std::sync::Arc;
use tokio::net::TcpListener;
use tokio::task::JoinSet;
use tokio_stream::wrappers::ReceiverStream;

/// Longest request read.
const MAX_REQUEST: usize = 256 * 1024;
/// A token older or younger than this by the device's own clock is refused.
const TOKEN_SPAN: i64 = 300_000_000;

/// What a device says of itself.
#[derive(Debug, Clone)]
pub struct DeviceSpec {
    /// Port of its device service; 0 for any that is free.
    pub port: u16,
    /// Its maker.
    pub maker: String,
    /// Its model.
    pub model: String,
    /// Version of its firmware.
    pub firmware: String,
    /// Its serial number.
    pub serial: String,
    /// The address it announces in discovery, where that is not its own.
    pub announced: Option<String>,
    /// It answers probes.
    pub discoverable: bool,
    /// It has the second media service.
    pub second_media: bool,
    /// It has no account yet.
    pub first_use: bool,
}

/// Answers questions until its task is dropped.
pub(crate) async fn serve(listener: TcpListener, camera: Arc<Shared>) {
    let mut moves = camera.address.subscribe();
    let mut listener = listener;
    loop {
        let mut tasks = JoinSet::new();
        loop {
            tokio::select! {
                accepted = listener.accept() => {
                    let Ok((stream, _)) = accepted else { continue };
                    let camera = camera.clone();
                    tasks.spawn(async move {
                        let service = service_fn(move |request| answer(camera.clone(), request));
                        let _ = hyper::server::conn::http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
                    });
                }
                Some(_) = tasks.join_next() => {}
                moved = moves.changed() => {
                    if moved.is_err() { return }
                    break;
                }
            }
        }
        drop(tasks);
        let (ip, port) = (moves.borrow_and_update().ip(), camera.service_port());
        drop(listener);
        match TcpListener::bind((ip, port)).await {
            Ok(bound) => listener = bound,
            Err(error) => return tracing::error!(%error, "the stand-in's device service cannot move"),
        }
    }
}

type Body = BoxBody<Bytes, Infallible>;

/// A still, or stills without end, for whoever signs in by HTTP Digest where the camera wants that.
fn picture(camera: &Arc<Shared>, request: &Request<Incoming>) -> Response<Body> {
    let state = camera.state();
    let sign_in = state.sign_in.clone();
    let closed = camera.is_first_use_locked(&state);
    drop(state);
    let given = request.headers().get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).unwrap_or("");
    let accepted = sign_in.as_ref().map_or(!closed, |sign_in| {
        let parameters = given.strip_prefix("Digest ").map(auth_parameters).unwrap_or_default();
        let get = |name: &str| parameters.iter().find(|(key, _)| key == name).map_or("", |(_, value)| value.as_str());
        let want =
            digest_response(DigestAlgorithm::Md5, &sign_in.credentials, "Tarnhithe", STILL_NONCE, "GET", request.uri().path());
        get("username") == sign_in.credentials.user && get("response") == want
    });
    if !accepted {
        let mut refusal = page("sign in", "text/plain", StatusCode::UNAUTHORIZED);
        if let Ok(value) = format!("Digest realm=\"Tarnhithe\", nonce=\"{STILL_NONCE}\"").parse() {
            refusal.headers_mut().insert(header::WWW_AUTHENTICATE, value);
        }
        return refusal;
    }
    if request.uri().path() == "/still.jpg" {
        return typed(Full::new(Bytes::from(still(camera, 0))).boxed(), "image/jpeg");
    }
    let (sender, parts) = tokio::sync::mpsc::channel::<Result<Frame<Bytes>, Infallible>>(2);
    let camera = camera.clone();
    tokio::spawn(async move {
        for number in 0.. {
            let jpeg = still(&camera, number);
            let head = format!("--picture\r\nContent-Type: image/jpeg\r\nContent-Length: {}\r\n\r\n", jpeg.len());
            let part = [head.as_bytes(), &jpeg, b"\r\n"].concat();
            if sender.send(Ok(Frame::data(Bytes::from(part)))).await.is_err() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(200)).await;
        }
    });
    let body = StreamBody::new(ReceiverStream::new(parts));
    typed(BodyExt::boxed(body), "multipart/x-mixed-replace; boundary=picture")
}

const STILL_NONCE: &str = "74617261";

/// What the camera sees now.
fn still(camera: &Shared, number: u32) -> Vec<u8> {
    let spec = camera.spec.streams.iter().find(|stream| stream.role == Role::Sub).or(camera.spec.streams.first());
    let (width, height) = spec.map_or((320, 180), |spec| (spec.width, spec.height));
    let mut scene = Scene::new(camera.spec.view, &camera.spec.name, width, height, camera.spec.screen.clone());
    let canvas = scene.draw(unix_micros(), number);
    let (y, (u, v)) = (canvas.luma(), canvas.chroma());
    let mut pixels = Vec::with_capacity(width * height * 3);
    for row in 0..height {
        for column in 0..width {
            let chroma = row / 2 * (width / 2) + column / 2;
            // The canvas has levels of video; a JPEG runs from 0 to 255.
            let level = |plane: &[u8], at: usize| f32::from(plane.get(at).copied().unwrap_or(128));
            let luma = ((level(y, row * width + column) - 16.0) * 255.0 / 219.0).clamp(0.0, 255.0) as u8;
            let colour = |plane: &[u8]| ((level(plane, chroma) - 128.0) * 255.0 / 224.0 + 128.0).clamp(0.0, 255.0) as u8;
            pixels.extend([luma, colour(u), colour(v)]);
        }
    }
    let mut out = Vec::new();
    let encoder = jpeg_encoder::Encoder::new(&mut out, 70);
    if let Err(error) = encoder.encode(&pixels, width as u16, height as u16, jpeg_encoder::ColorType::Ycbcr) {
        tracing::error!(%error, "the stand-in's still failed");
    }
    out
}

fn typed(body: Body, kind: &str) -> Response<Body> {
    let mut response = Response::new(body);
    if let Ok(value) = kind.parse() {
        response.headers_mut().insert(header::CONTENT_TYPE, value);
    }
    response
}

async fn answer(camera: Arc<Shared>, request: Request<Incoming>) -> Result<Response<Body>, Infallible> {
    let path = request.uri().path().to_owned();
    if request.method() == Method::GET && path == "/" {
        return Ok(page("<html><title>Tarnhithe stand-in</title>A camera's web page.</html>", "text/html", StatusCode::OK));
    }
    if request.method() == Method::GET && matches!(path.as_str(), "/still.jpg" | "/pictures.mjpg") {
        return Ok(picture(&camera, &request));
    }
    if request.method() != Method::POST || !path.starts_with("/onvif/") {
        return Ok(page("not here", "text/plain", StatusCode::NOT_FOUND));
    }
    let Ok(body) = Limited::new(request.into_body(), MAX_REQUEST).collect().await else {
        return Ok(page("too long", "text/plain", StatusCode::PAYLOAD_TOO_LARGE));
    };
    let Ok(document) = Element::parse(&body.to_bytes()) else {
        return Ok(soap(&fault("Sender", "malformed"), StatusCode::BAD_REQUEST));
    };
    let slow = path.ends_with("ptz_service") && camera.head().is_some_and(|head| head.fault == HeadFault::Slow);
    if slow {
        tokio::time::sleep(std::time::Duration::from_secs(5)).await;
    }
    let question = document.child("Body").and_then(|body| body.children.first());
    let answer = match question.filter(|question| reports::QUESTIONS.contains(&question.name.as_str())) {
        Some(question) => reports::reply(&camera, &document, question).await,
        None => reply(&camera, &document),
    };
    Ok(match answer {
        Ok(body) => soap(&body, StatusCode::OK),
        Err(refusal) => soap(&refusal, StatusCode::BAD_REQUEST),
    })
}

fn page(text: &str, kind: &str, status: StatusCode) -> Response<Body> {
    let mut response = typed(Full::new(Bytes::from(text.to_owned())).boxed(), kind);
    *response.status_mut() = status;
    response
}

fn soap(body: &str, status: StatusCode) -> Response<Body> {
    page(&envelope(body, None::<&Security<'_>>), "application/soap+xml; charset=utf-8", status)
}

fn fault(code: &str, reason: &str) -> String {
    format!(
        "<s:Fault><s:Code><s:Value>s:Sender</s:Value><s:Subcode><s:Value>ter:{code}</s:Value></s:Subcode></s:Code>\
         <s:Reason><s:Text xml:lang=\"en\">{reason}</s:Text></s:Reason></s:Fault>"
    )
}

/// The body of the answer, or of the fault.
fn reply(camera: &Shared, document: &Element) -> Result<String, String> {
    let question = document.child("Body").and_then(|body| body.children.first()).ok_or_else(|| fault("InvalidArgs", "empty"))?;
    let name = question.name.as_str();
    let before_sign_in =
        ["GetSystemDateAndTime", "GetServices", "GetCapabilities", "GetScopes", "GetHostname", "GetEndpointReference"];
    if !before_sign_in.contains(&name) {
        let first_account = camera.is_first_use() && matches!(name, "GetUsers" | "CreateUsers");
        if !first_account && !signed_in(camera, document) {
            return Err(fault("NotAuthorized", "Sender not authorized"));
        }
    }
    match name {
        "GetSystemDateAndTime" => Ok(time(camera)),
        "GetServices" => Ok(services(camera)),
        "GetCapabilities" => Ok(capabilities(camera)),
        "GetScopes" => Ok(format!(
            "<tds:GetScopesResponse>{}</tds:GetScopesResponse>",
            camera.announcement().scopes.iter().fold(String::new(), |mut out, scope| {
                let _ = write!(out, "<tds:Scopes><tt:ScopeItem>{}</tt:ScopeItem></tds:Scopes>", escape(scope));
                out
            })
        )),
        "GetEndpointReference" => Ok(format!(
            "<tds:GetEndpointReferenceResponse><tds:GUID>{}</tds:GUID></tds:GetEndpointReferenceResponse>",
            camera.announcement().endpoint
        )),
        "SetScopes" => set_scopes(camera, question),
        "GetDeviceInformation" => Ok(information(camera)),
        "GetUsers" => Ok(users(camera)),
        "CreateUsers" | "SetUser" => set_user(camera, question),
        "SetSystemDateAndTime" => set_time(camera, question),
        "GetNetworkInterfaces" => Ok(network(camera)),
        "SetNetworkInterfaces" => set_network(camera, question),
        "GetProfiles" => Ok(profiles(camera, question)),
        "GetStreamUri" | "GetSnapshotUri" => uri(camera, question),
        "SetSynchronizationPoint" => synchronize(camera, question),
        "GetVideoEncoderConfigurationOptions" => Ok(options(camera)),
        "SetVideoEncoderConfiguration" => set_encoder(camera, question),
        _ if camera.has_imaging() && imaging::QUESTIONS.contains(&name) => imaging::reply(camera, question),
        _ if ptz::QUESTIONS.contains(&name) => ptz::reply(camera, question),
        _ => Err(fault("ActionNotSupported", "not supported")),
    }
}

/// Whether the message carries a token that the account's password made.
fn signed_in(camera: &Shared, document: &Element) -> bool {
    let state = camera.state();
    let Some(sign_in) = &state.sign_in else { return !camera.is_first_use_locked(&state) };
    let Some(token) = document.child("Header").and_then(|header| header.find("UsernameToken")) else { return false };
    let text = |name: &str| token.child(name).map_or("", |element| element.text.as_str());
    let now = unix_micros() + state.clock_ahead;
    let fresh = created(text("Created")).is_some_and(|created| (created - now).abs() < TOKEN_SPAN);
    text("Username") == sign_in.credentials.user
        && fresh
        && text("Password") == digest(text("Nonce"), text("Created"), &sign_in.credentials)
}

fn digest(nonce: &str, created: &str, credentials: &Credentials) -> String {
    use base64::Engine as _;
    use base64::engine::general_purpose::STANDARD;
    use sha1::Digest as _;
    let mut hash = sha1::Sha1::new();
    hash.update(STANDARD.decode(nonce).unwrap_or_default());
    hash.update(created);
    hash.update(credentials.password.reveal());
    STANDARD.encode(hash.finalize())
}

/// Microseconds of `2026-11-25T02:03:04.005Z`.
fn created(text: &str) -> Option<i64> {
    let part = |from: usize, to: usize| text.get(from..to).and_then(|part| part.parse::<i64>().ok());
    let (year, month, day) = (part(0, 4)?, part(5, 7)?, part(8, 10)?);
    // Days since 1970-03-01 by counting whole years: enough for a stand-in of this century.
    let months = [306, 337, 0, 31, 61, 92, 122, 153, 184, 214, 245, 275];
    let from_march = if month <= 2 { year - 1 } else { year };
    let leap = from_march / 4 - from_march / 100 + from_march / 400;
    let days = from_march * 365 + leap + months.get(usize::try_from(month - 1).ok()?)? + day - 1 - 719_468;
    Some((days * 86_400 + part(11, 13)? * 3600 + part(14, 16)? * 60 + part(17, 19)?) * 1_000_000)
}

fn time(camera: &Shared) -> String {
    let now = Wall::from_unix_micros(unix_micros() + camera.state().clock_ahead);
    // The order to set a clock has the same parts as the answer that tells it.
    let order = lattice_core::onvif::set_system_date_and_time(now);
    let utc = order
        .split_once("<tds:UTCDateTime>")
        .and_then(|(_, rest)| rest.split_once("</tds:UTCDateTime>"))
        .map_or("", |(utc, _)| utc);
    format!(
        "<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:DateTimeType>Manual</tt:DateTimeType><tt:DaylightSavings>false</tt:DaylightSavings>\
         <tt:TimeZone><tt:TZ>UTC0</tt:TZ></tt:TimeZone><tt:UTCDateTime>{utc}</tt:UTCDateTime></tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>"
    )
}

fn set_time(camera: &Shared, question: &Element) -> Result<String, String> {
    let asked = Element {
        name: "a".into(),
        children: vec![Element { name: "SystemDateAndTime".into(), ..question.clone() }],
        ..Element::default()
    };
    let told = lattice_core::onvif::DeviceTime::read(&asked)
        .and_then(|time| time.utc)
        .ok_or_else(|| fault("InvalidArgVal", "no date"))?;
    camera.state().clock_ahead = told.as_unix_micros() - unix_micros();
    Ok("<tds:SetSystemDateAndTimeResponse/>".into())
}

/// Only its name can be set; what is left out of the others is a slip.
fn set_scopes(camera: &Shared, question: &Element) -> Result<String, String> {
    let asked: Vec<String> = question.all("Scopes").map(|scope| lattice_core::onvif::scope_text(&scope.text)).collect();
    let name = lattice_core::onvif::scope_value(&asked, "name").ok_or_else(|| fault("InvalidArgVal", "no name"))?;
    let others = camera.announcement().scopes;
    let is_other = |scope: &&String| !scope.contains("/name/");
    if !others.iter().filter(is_other).all(|scope| asked.contains(scope)) {
        return Err(fault("InvalidArgVal", "a scope is missing"));
    }
    camera.state().told_name = name;
    Ok("<tds:SetScopesResponse/>".into())
}

fn services(camera: &Shared) -> String {
    let base = camera.service_base();
    let mut all = vec![
        ("http://www.onvif.org/ver10/device/wsdl", "device_service"),
        ("http://www.onvif.org/ver10/media/wsdl", "media_service"),
        (lattice_core::onvif::EVENT_NAMESPACE, "events_service"),
    ];
    if camera.spec.head {
        all.push((lattice_core::onvif::PTZ_NAMESPACE, "ptz_service"));
    }
    if camera.has_imaging() {
        all.push((lattice_core::onvif::IMAGING_NAMESPACE, "imaging_service"));
    }
    if camera.spec.device.as_ref().is_some_and(|device| device.second_media) {
        all.push(("http://www.onvif.org/ver20/media/wsdl", "media2_service"));
    }
    let services = all.iter().fold(String::new(), |mut out, (namespace, path)| {
        let _ = write!(
            out,
            "<tds:Service><tds:Namespace>{namespace}</tds:Namespace><tds:XAddr>{base}/onvif/{path}</tds:XAddr>\
             <tds:Version><tt:Major>2</tt:Major><tt:Minor>40</tt:Minor></tds:Version></tds:Service>"
        );
        out
    });
    format!("<tds:GetServicesResponse>{services}</tds:GetServicesResponse>")
}

fn capabilities(camera: &Shared) -> String {
    let (base, sources) = (camera.service_base(), camera.channels().len());
    let recording = if sources > 1 {
        format!("<tt:Recording><tt:XAddr>{base}/onvif/recording</tt:XAddr></tt:Recording>")
    } else {
        String::new()
    };
    format!(
        "<tds:GetCapabilitiesResponse><tds:Capabilities><tt:Device><tt:XAddr>{base}/onvif/device_service</tt:XAddr></tt:Device>\
         <tt:Media><tt:XAddr>{base}/onvif/media_service</tt:XAddr></tt:Media><tt:Extension><tt:DeviceIO><tt:XAddr>{base}/onvif/io</tt:XAddr>\
         <tt:VideoSources>{sources}</tt:VideoSources></tt:DeviceIO>{recording}</tt:Extension></tds:Capabilities></tds:GetCapabilitiesResponse>"
    )
}

fn information(camera: &Shared) -> String {
    let Some(device) = &camera.spec.device else { return String::new() };
    format!(
        "<tds:GetDeviceInformationResponse><tds:Manufacturer>{}</tds:Manufacturer><tds:Model>{}</tds:Model><tds:FirmwareVersion>{}</tds:FirmwareVersion>\
         <tds:SerialNumber>{}</tds:SerialNumber><tds:HardwareId>1</tds:HardwareId></tds:GetDeviceInformationResponse>",
        escape(&device.maker),
        escape(&device.model),
        escape(&device.firmware),
        escape(&device.serial)
    )
}

fn users(camera: &Shared) -> String {
    let user = camera
        .state()
        .sign_in
        .as_ref()
        .map(|sign_in| User { name: sign_in.credentials.user.clone(), level: UserLevel::Administrator });
    let listed = user.map_or(String::new(), |user| {
        format!(
            "<tds:User><tt:Username>{}</tt:Username><tt:UserLevel>{}</tt:UserLevel></tds:User>",
            escape(&user.name),
            user.level.word()
        )
    });
    format!("<tds:GetUsersResponse>{listed}</tds:GetUsersResponse>")
}

fn set_user(camera: &Shared, question: &Element) -> Result<String, String> {
    let user = question.child("User").ok_or_else(|| fault("InvalidArgVal", "no user"))?;
    let (name, password) = (user.text_at(&["Username"]).unwrap_or(""), user.text_at(&["Password"]).unwrap_or(""));
    if password.chars().count() < 8 {
        return Err(fault("PasswordTooWeak", "eight characters at least"));
    }
    let credentials = Credentials::new(name, password);
    let mut state = camera.state();
    match &mut state.sign_in {
        Some(sign_in) if sign_in.credentials.user == name => sign_in.credentials = credentials,
        Some(_) => return Err(fault("UsernameMissing", "no such user")),
        empty => *empty = Some(SignIn { credentials, digest: Some(DigestAlgorithm::Md5) }),
    }
    Ok(format!("<tds:{0}Response/>", question.name))
}

fn network(camera: &Shared) -> String {
    let ip = camera.address.borrow().ip();
    let last = match ip {
        std::net::IpAddr::V4(v4) => v4.octets()[3],
        std::net::IpAddr::V6(_) => 0,
    };
    let fixed = camera.state().fixed_address;
    let how = if fixed { "Manual" } else { "FromDHCP" };
    format!(
        "<tds:GetNetworkInterfacesResponse><tds:NetworkInterfaces token=\"eth0\"><tt:Enabled>true</tt:Enabled><tt:Info><tt:Name>eth0</tt:Name>\
         <tt:HwAddress>02:74:61:72:6e:{last:02x}</tt:HwAddress></tt:Info><tt:IPv4><tt:Enabled>true</tt:Enabled><tt:Config><tt:{how}>\
         <tt:Address>{ip}</tt:Address><tt:PrefixLength>24</tt:PrefixLength></tt:{how}><tt:DHCP>{}</tt:DHCP></tt:Config></tt:IPv4>\
         </tds:NetworkInterfaces></tds:GetNetworkInterfacesResponse>",
        !fixed
    )
}

/// Takes DHCP, or the address that the stand-in has: it moves by an order of its own.
fn set_network(camera: &Shared, question: &Element) -> Result<String, String> {
    let config = question.child("NetworkInterface").and_then(|interface| interface.child("IPv4"));
    let config = config.ok_or_else(|| fault("InvalidArgVal", "no IPv4 configuration"))?;
    let by_dhcp = config.text_at(&["DHCP"]) == Some("true");
    let own = camera.address.borrow().ip().to_string();
    if !by_dhcp && config.text_at(&["Manual", "Address"]) != Some(own.as_str()) {
        return Err(fault("InvalidArgVal", "this device stays at its address"));
    }
    camera.state().fixed_address = !by_dhcp;
    Ok("<tds:SetNetworkInterfacesResponse><tds:RebootNeeded>false</tds:RebootNeeded></tds:SetNetworkInterfacesResponse>".into())
}

fn token(channel: u32, role: Role) -> String {
    format!("ch{channel}-{}", role.word())
}

fn profiles(camera: &Shared, question: &Element) -> String {
    let ptz = if camera.spec.head { ["<tr2:PTZ token=\"head\"/>", "<tt:PTZConfiguration token=\"head\"/>"] } else { [""; 2] };
    // Version 2 asks for types, version 1 does not.
    let second = question.child("Type").is_some();
    let mut out = String::new();
    for stream in &camera.streams {
        let spec = stream.spec();
        let (token, gov) = (token(spec.channel, spec.role), (spec.keyframe_interval.as_secs_f64() * spec.fps).round() as u32);
        let source =
            format!("<tt:Name>v</tt:Name><tt:UseCount>1</tt:UseCount><tt:SourceToken>source{}</tt:SourceToken>", spec.channel);
        let size =
            format!("<tt:Resolution><tt:Width>{}</tt:Width><tt:Height>{}</tt:Height></tt:Resolution>", spec.width, spec.height);
        let name = escape(&format!("{} {}", camera.channel_name(spec.channel), spec.role.word()));
        let _ = if second {
            write!(
                out,
                "<tr2:Profiles token=\"{token}\" fixed=\"true\"><tr2:Name>{name}</tr2:Name><tr2:Configurations><tr2:VideoSource token=\"v{0}\">{source}\
                 </tr2:VideoSource><tr2:VideoEncoder token=\"e-{token}\" GovLength=\"{gov}\" Profile=\"Baseline\"><tt:Name>e</tt:Name><tt:Encoding>H264\
                 </tt:Encoding>{size}<tt:RateControl ConstantBitRate=\"false\"><tt:FrameRateLimit>{1}</tt:FrameRateLimit><tt:BitrateLimit>{2}\
                 </tt:BitrateLimit></tt:RateControl></tr2:VideoEncoder>{3}</tr2:Configurations></tr2:Profiles>",
                spec.channel, spec.fps, spec.kbps, ptz[0]
            )
        } else {
            write!(
                out,
                "<trt:Profiles token=\"{token}\" fixed=\"true\"><tt:Name>{name}</tt:Name><tt:VideoSourceConfiguration token=\"v{0}\">{source}\
                 </tt:VideoSourceConfiguration><tt:VideoEncoderConfiguration token=\"e-{token}\"><tt:Name>e</tt:Name><tt:UseCount>1</tt:UseCount>\
                 <tt:Encoding>H264</tt:Encoding>{size}<tt:Quality>4</tt:Quality><tt:RateControl><tt:FrameRateLimit>{1}</tt:FrameRateLimit>\
                 <tt:EncodingInterval>1</tt:EncodingInterval><tt:BitrateLimit>{2}</tt:BitrateLimit></tt:RateControl><tt:H264><tt:GovLength>{gov}\
                 </tt:GovLength><tt:H264Profile>Baseline</tt:H264Profile></tt:H264><tt:SessionTimeout>PT60S</tt:SessionTimeout>\
                 </tt:VideoEncoderConfiguration>{3}</trt:Profiles>",
                spec.channel,
                spec.fps.round(),
                spec.kbps,
                ptz[1]
            )
        };
    }
    let prefix = if second { "tr2" } else { "trt" };
    format!("<{prefix}:GetProfilesResponse>{out}</{prefix}:GetProfilesResponse>")
}

fn uri(camera: &Shared, question: &Element) -> Result<String, String> {
    let asked = question.text_at(&["ProfileToken"]).unwrap_or("");
    let stream = camera.streams.iter().map(|stream| stream.spec()).find(|spec| token(spec.channel, spec.role) == asked);
    let spec = stream.ok_or_else(|| fault("NoProfile", "no such profile"))?;
    let uri = if question.name == "GetStreamUri" {
        format!("rtsp://{}{}", *camera.address.borrow(), spec.path())
    } else {
        format!("{}/still.jpg", camera.service_base())
    };
    Ok(match question.child("Protocol") {
        Some(_) => format!("<tr2:{0}Response><tr2:Uri>{uri}</tr2:Uri></tr2:{0}Response>", question.name),
        None => format!("<trt:{0}Response><trt:MediaUri><tt:Uri>{uri}</tt:Uri></trt:MediaUri></trt:{0}Response>", question.name),
    })
}

/// The next frame of the stream is a keyframe.
fn synchronize(camera: &Shared, question: &Element) -> Result<String, String> {
    let asked = question.text_at(&["ProfileToken"]).unwrap_or("");
    let stream = camera.streams.iter().find(|stream| token(stream.spec().channel, stream.spec().role) == asked);
    stream.ok_or_else(|| fault("NoProfile", "no such profile"))?.begin_anew();
    Ok("<trt:SetSynchronizationPointResponse/>".into())
}

fn options(camera: &Shared) -> String {
    let mut sizes: Vec<(usize, usize)> =
        camera.streams.iter().map(|stream| (stream.spec().width, stream.spec().height)).collect();
    sizes.push((320, 180));
    sizes.sort_unstable();
    sizes.dedup();
    let sizes = sizes.iter().fold(String::new(), |mut out, (width, height)| {
        let _ = write!(
            out,
            "<tt:ResolutionsAvailable><tt:Width>{width}</tt:Width><tt:Height>{height}</tt:Height></tt:ResolutionsAvailable>"
        );
        out
    });
    let range =
        |name: &str, least: u32, most: u32| format!("<tt:{name}><tt:Min>{least}</tt:Min><tt:Max>{most}</tt:Max></tt:{name}>");
    format!(
        "<trt:GetVideoEncoderConfigurationOptionsResponse><trt:Options><tt:QualityRange><tt:Min>1</tt:Min><tt:Max>6</tt:Max></tt:QualityRange>\
         <tt:H264>{sizes}{}{}{}</tt:H264><tt:Extension><tt:H264>{}</tt:H264></tt:Extension></trt:Options>\
         </trt:GetVideoEncoderConfigurationOptionsResponse>",
        range("GovLengthRange", 1, 250),
        range("FrameRateRange", 1, 30),
        range("EncodingIntervalRange", 1, 1),
        range("BitrateRange", 64, 8192)
    )
}

fn set_encoder(camera: &Shared, question: &Element) -> Result<String, String> {
    let wanted = question.child("Configuration").ok_or_else(|| fault("InvalidArgVal", "no configuration"))?;
    let asked = wanted.attribute("token").unwrap_or("");
    let stream = camera.streams.iter().find(|stream| format!("e-{}", token(stream.spec().channel, stream.spec().role)) == asked);
    let stream = stream.ok_or_else(|| fault("NoConfig", "no such configuration"))?;
    let number = |path: &[&str]| wanted.text_at(path).and_then(|text| text.parse::<f64>().ok());
    let mut spec = stream.spec();
    let bad = || fault("ConfigModify", "beyond the limits");
    if let Some(kbps) = number(&["RateControl", "BitrateLimit"]) {
        spec.kbps = if (64.0..=8192.0).contains(&kbps) { kbps as u32 } else { return Err(bad()) };
    }
    if let Some(fps) = number(&["RateControl", "FrameRateLimit"]) {
        let kept = (fps - spec.fps).abs() < 0.6; // version 1 has whole numbers only
        spec.fps = if kept {
            spec.fps
        } else if (1.0..=30.0).contains(&fps) {
            fps
        } else {
            return Err(bad());
        };
    }
    if let (Some(width), Some(height)) = (number(&["Resolution", "Width"]), number(&["Resolution", "Height"])) {
        (spec.width, spec.height) = (width as usize, height as usize);
    }
    let gov = wanted.attribute("GovLength").and_then(|text| text.parse::<f64>().ok()).or_else(|| number(&["H264", "GovLength"]));
    if let Some(gov) = gov.filter(|gov| (1.0..=250.0).contains(gov)) {
        spec.keyframe_interval = std::time::Duration::from_secs_f64(gov / spec.fps);
    }
    stream.change(spec);
    let prefix = if wanted.child("H264").is_some() { "trt" } else { "tr2" };
    Ok(format!("<{prefix}:SetVideoEncoderConfigurationResponse/>"))
}

impl Shared {
    /// Port of the device service.
    pub(crate) fn service_port(&self) -> u16 {
        self.service_port.load(std::sync::atomic::Ordering::Relaxed)
    }

    fn service_base(&self) -> String {
        format!("http://{}:{}", self.address.borrow().ip(), self.service_port())
    }

    /// What it says in discovery.
    pub(crate) fn announcement(&self) -> Match {
        let Some(device) = &self.spec.device else { return Match::default() };
        let recorder = self.channels().len() > 1;
        let host = device.announced.clone().unwrap_or_else(|| self.address.borrow().ip().to_string());
        let kind = if recorder { "type/Network_Video_Recorder" } else { "type/video_encoder" };
        Match {
            endpoint: format!("urn:uuid:00000000-0000-1000-8000-{:0>12}", device.serial.replace('-', "").to_lowercase()),
            types: vec!["NetworkVideoTransmitter".into()],
            scopes: vec![
                format!("onvif://www.onvif.org/{kind}"),
                format!("onvif://www.onvif.org/name/{}", self.state().told_name),
                format!("onvif://www.onvif.org/hardware/{}", device.model),
                format!("onvif://www.onvif.org/manufacturer/{}", device.maker),
                "onvif://www.onvif.org/Profile/Streaming".into(),
            ],
            addresses: vec![format!("http://{host}:{}/onvif/device_service", self.service_port())],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_carry_a_time_that_can_be_read() {
        assert_eq!(created("1970-01-01T00:00:01.500Z"), Some(1_000_000));
        assert_eq!(created("2025-11-25T02:03:04.005Z"), Some((20_417 * 86_400 + 2 * 3600 + 184) * 1_000_000));
        assert_eq!(created("yesterday"), None);
    }
}
