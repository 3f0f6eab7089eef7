//! The device service (`ver10/device/wsdl`).

use super::soap::days_from_civil;
use super::xml::{Element, escape};
use crate::{Credentials, Wall};
use std::net::IpAddr;

/// Asks for the clock; allowed without a sign-in.
#[must_use]
pub fn get_system_date_and_time() -> String {
    "<tds:GetSystemDateAndTime/>".into()
}

/// Asks for maker, model, firmware and serial number.
#[must_use]
pub fn get_device_information() -> String {
    "<tds:GetDeviceInformation/>".into()
}

/// Asks for the services' addresses; allowed without a sign-in.
#[must_use]
pub fn get_services() -> String {
    "<tds:GetServices><tds:IncludeCapability>false</tds:IncludeCapability></tds:GetServices>".into()
}

/// Asks for the services' addresses in the older way; allowed without a sign-in.
#[must_use]
pub fn get_capabilities() -> String {
    "<tds:GetCapabilities><tds:Category>All</tds:Category></tds:GetCapabilities>".into()
}

/// Asks for the scopes that discovery shows.
#[must_use]
pub fn get_scopes() -> String {
    "<tds:GetScopes/>".into()
}

/// Asks for its lasting name, the one that it has in discovery: to be had without a sign-in.
#[must_use]
pub fn get_endpoint_reference() -> String {
    "<tds:GetEndpointReference/>".into()
}

/// Asks for the accounts.
#[must_use]
pub fn get_users() -> String {
    "<tds:GetUsers/>".into()
}

/// Asks for the network interfaces.
#[must_use]
pub fn get_network_interfaces() -> String {
    "<tds:GetNetworkInterfaces/>".into()
}

/// What an account may do (§8.4 of the core specification).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UserLevel {
    /// Everything.
    Administrator,
    /// Settings that do not concern accounts.
    Operator,
    /// Viewing.
    User,
    /// No sign-in.
    Anonymous,
    /// Something of the device's own.
    Extended,
}

impl UserLevel {
    /// Its name in the standard.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Administrator => "Administrator",
            Self::Operator => "Operator",
            Self::User => "User",
            Self::Anonymous => "Anonymous",
            Self::Extended => "Extended",
        }
    }

    fn of(word: &str) -> Self {
        let all = [Self::Administrator, Self::Operator, Self::User, Self::Anonymous];
        all.into_iter().find(|level| level.word() == word).unwrap_or(Self::Extended)
    }
}

/// Makes an account: how a device fresh from its box gets its first password.
#[must_use]
pub fn create_user(account: &Credentials, level: UserLevel) -> String {
    format!("<tds:CreateUsers>{}</tds:CreateUsers>", user(account, level))
}

/// Gives an account another password.
#[must_use]
pub fn set_user_password(account: &Credentials, level: UserLevel) -> String {
    format!("<tds:SetUser>{}</tds:SetUser>", user(account, level))
}

fn user(account: &Credentials, level: UserLevel) -> String {
    let (name, password) = (escape(&account.user), escape(account.password.reveal()));
    let level = level.word();
    format!(
        "<tds:User><tt:Username>{name}</tt:Username><tt:Password>{password}</tt:Password><tt:UserLevel>{level}</tt:UserLevel></tds:User>"
    )
}

/// Sets the clock to a moment, by hand rather than by a time server.
#[must_use]
pub fn set_system_date_and_time(to: Wall) -> String {
    let text = super::soap::rfc3339(to);
    let number = |from: usize, length: usize| text.get(from..from + length).unwrap_or("0").trim_start_matches('0').to_owned();
    let part = |from: usize, length: usize| {
        let digits = number(from, length);
        if digits.is_empty() { "0".to_owned() } else { digits }
    };
    format!(
        "<tds:SetSystemDateAndTime><tds:DateTimeType>Manual</tds:DateTimeType><tds:DaylightSavings>false</tds:DaylightSavings>\
         <tds:UTCDateTime><tt:Time><tt:Hour>{}</tt:Hour><tt:Minute>{}</tt:Minute><tt:Second>{}</tt:Second></tt:Time>\
         <tt:Date><tt:Year>{}</tt:Year><tt:Month>{}</tt:Month><tt:Day>{}</tt:Day></tt:Date></tds:UTCDateTime></tds:SetSystemDateAndTime>",
        part(11, 2),
        part(14, 2),
        part(17, 2),
        part(0, 4),
        part(5, 2),
        part(8, 2)
    )
}

/// Gives the device a name, as the answer to [`get_scopes`] told its scopes: `SetScopes` replaces all those that can be set, so
/// the others of them are kept.
#[must_use]
pub fn set_name(told: &Element, name: &str) -> String {
    let prefix = "onvif://www.onvif.org/name/";
    let can_be_set = |scope: &&Element| scope.text_at(&["ScopeDef"]).is_none_or(|kind| !kind.eq_ignore_ascii_case("Fixed"));
    let others = told.all("Scopes").filter(can_be_set).filter_map(|scope| scope.text_at(&["ScopeItem"]));
    let others = others.filter(|scope| !scope.to_ascii_lowercase().starts_with(prefix)).map(escape);
    let name = percent_encoding::utf8_percent_encode(name, percent_encoding::NON_ALPHANUMERIC);
    let all = others.chain([format!("{prefix}{name}")]);
    let items: Vec<String> = all.map(|scope| format!("<tds:Scopes>{scope}</tds:Scopes>")).collect();
    format!("<tds:SetScopes>{}</tds:SetScopes>", items.concat())
}

/// How an interface gets its address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddressPlan {
    /// By DHCP.
    Dhcp,
    /// This one, with this many leading bits of network.
    Fixed(IpAddr, u8),
}

/// Switches an interface between DHCP and a fixed address (IPv4).
#[must_use]
pub fn set_address(interface: &str, plan: AddressPlan) -> String {
    let how = match plan {
        AddressPlan::Dhcp => "<tt:DHCP>true</tt:DHCP>".to_owned(),
        AddressPlan::Fixed(address, prefix) => format!(
            "<tt:Manual><tt:Address>{address}</tt:Address><tt:PrefixLength>{prefix}</tt:PrefixLength></tt:Manual><tt:DHCP>false</tt:DHCP>"
        ),
    };
    format!(
        "<tds:SetNetworkInterfaces><tds:InterfaceToken>{}</tds:InterfaceToken><tds:NetworkInterface><tt:Enabled>true</tt:Enabled>\
         <tt:IPv4><tt:Enabled>true</tt:Enabled>{how}</tt:IPv4></tds:NetworkInterface></tds:SetNetworkInterfaces>",
        escape(interface)
    )
}

/// What the device's clock says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DeviceTime {
    /// UTC, to the second; `None` where the device does not say.
    pub utc: Option<Wall>,
    /// It is set by a time server rather than by hand.
    pub by_time_server: bool,
}

impl DeviceTime {
    /// Reads `GetSystemDateAndTimeResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Option<Self> {
        let all = answer.child("SystemDateAndTime")?;
        let utc = all.child("UTCDateTime").and_then(|at| {
            let part = |path: &[&str]| at.text_at(path).and_then(|text| text.parse::<i64>().ok());
            let (year, month, day) = (part(&["Date", "Year"])?, part(&["Date", "Month"])?, part(&["Date", "Day"])?);
            let (hour, minute, second) = (part(&["Time", "Hour"])?, part(&["Time", "Minute"])?, part(&["Time", "Second"])?);
            let sane = (1970..=9999).contains(&year) && (1..=12).contains(&month) && (1..=31).contains(&day);
            let sane = sane && (0..=24).contains(&hour) && (0..=60).contains(&minute) && (0..=61).contains(&second);
            let seconds = days_from_civil(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second;
            sane.then(|| Wall::from_unix_micros(seconds * 1_000_000))
        });
        Some(Self { utc, by_time_server: all.text_at(&["DateTimeType"]) == Some("NTP") })
    }
}

/// What the device is; `None` where it does not say.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DeviceInformation {
    /// Its maker.
    pub maker: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// Version of its firmware.
    pub firmware: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
}

/// Text from a device as it can be shown: no control characters, at most 80.
fn shown(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(80).collect()
}

impl DeviceInformation {
    /// Reads `GetDeviceInformationResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Self {
        let text = |name: &str| answer.text_at(&[name]).map(shown);
        Self {
            maker: text("Manufacturer"),
            model: text("Model"),
            firmware: text("FirmwareVersion"),
            serial: text("SerialNumber"),
        }
    }
}

/// A service of the device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Service {
    /// Its namespace, which names its kind and version.
    pub namespace: String,
    /// Its address.
    pub address: String,
}

impl Service {
    /// Reads `GetServicesResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Vec<Self> {
        let one = |service: &Element| {
            let text = |name: &str| service.text_at(&[name]).map(str::to_owned);
            Some(Self { namespace: text("Namespace")?, address: text("XAddr")? })
        };
        answer.all("Service").take(64).filter_map(one).collect()
    }
}

/// What the device can do.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Capabilities {
    /// Address of the media service.
    pub media: Option<String>,
    /// Address of the PTZ service, where it can be steered.
    pub ptz: Option<String>,
    /// Address of the event service, where it reports what happens.
    pub events: Option<String>,
    /// How many video sources it has, where it says so: several make it a recorder.
    pub video_sources: Option<u32>,
    /// It records.
    pub records: bool,
}

impl Capabilities {
    /// Reads `GetCapabilitiesResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Self {
        let Some(all) = answer.child("Capabilities") else { return Self::default() };
        let extension = all.child("Extension");
        Self {
            media: all.text_at(&["Media", "XAddr"]).map(str::to_owned),
            ptz: all.text_at(&["PTZ", "XAddr"]).map(str::to_owned),
            events: all.text_at(&["Events", "XAddr"]).map(str::to_owned),
            video_sources: extension
                .and_then(|extension| extension.text_at(&["DeviceIO", "VideoSources"]))
                .and_then(|text| text.parse().ok()),
            records: extension.is_some_and(|extension| extension.child("Recording").is_some()),
        }
    }
}

/// An account of the device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Its name.
    pub name: String,
    /// What it may do.
    pub level: UserLevel,
}

impl User {
    /// Reads `GetUsersResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Vec<Self> {
        let one = |user: &Element| {
            let name = user.text_at(&["Username"]).map(shown)?;
            Some(Self { name, level: UserLevel::of(user.text_at(&["UserLevel"]).unwrap_or("")) })
        };
        answer.all("User").take(256).filter_map(one).collect()
    }
}

/// A network interface of the device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NetworkInterface {
    /// What it is called in orders.
    pub token: String,
    /// Its network card.
    pub hardware: Option<String>,
    /// Its IPv4 address with leading bits of network.
    pub address: Option<(IpAddr, u8)>,
    /// The address comes by DHCP; `None` where the device does not say.
    pub dhcp: Option<bool>,
}

impl NetworkInterface {
    /// Reads `GetNetworkInterfacesResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Vec<Self> {
        let one = |interface: &Element| {
            let config = interface.at(&["IPv4", "Config"]);
            let address = config.and_then(|config| {
                let dhcp = config.text_at(&["DHCP"]) == Some("true");
                let order = if dhcp { ["FromDHCP", "Manual"] } else { ["Manual", "FromDHCP"] };
                order.iter().find_map(|name| {
                    let one = config.child(name)?;
                    let bits = one.text_at(&["PrefixLength"]).and_then(|text| text.parse().ok()).unwrap_or(24);
                    Some((one.text_at(&["Address"])?.parse().ok()?, bits))
                })
            });
            let flag = config.and_then(|config| config.text_at(&["DHCP"]));
            Some(Self {
                token: interface.attribute("token")?.to_owned(),
                hardware: interface.text_at(&["Info", "HwAddress"]).map(shown),
                address,
                dhcp: flag.map(|flag| flag == "true" || flag == "1"),
            })
        };
        answer.all("NetworkInterfaces").take(32).filter_map(one).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Element {
        Element::parse(text.as_bytes()).unwrap()
    }

    #[test]
    fn the_clock_is_read_to_the_second_or_not_at_all() {
        let answer = |year: &str, hour: &str| {
            parse(&format!(
                "<a><SystemDateAndTime><DateTimeType>NTP</DateTimeType><UTCDateTime><Time><Hour>{hour}</Hour><Minute>3</Minute>\
                 <Second>4</Second></Time><Date><Year>{year}</Year><Month>11</Month><Day>25</Day></Date></UTCDateTime></SystemDateAndTime></a>"
            ))
        };
        let time = DeviceTime::read(&answer("2025", "2")).unwrap();
        assert_eq!(time.utc, Some(Wall::from_unix_micros((20_417 * 86_400 + 2 * 3600 + 184) * 1_000_000)));
        assert!(time.by_time_server);
        assert_eq!(DeviceTime::read(&answer("99999", "2")).unwrap().utc, None);
        assert_eq!(DeviceTime::read(&answer("x", "2")).unwrap().utc, None);
        // Setting it writes the same moment.
        let order = parse(&format!("<a xmlns:tds='d' xmlns:tt='t'>{}</a>", set_system_date_and_time(time.utc.unwrap())));
        let at = order.at(&["SetSystemDateAndTime", "UTCDateTime"]).unwrap().clone();
        let again = Element {
            name: "a".into(),
            children: vec![Element { name: "SystemDateAndTime".into(), children: vec![at], ..Element::default() }],
            ..Element::default()
        };
        assert_eq!(DeviceTime::read(&again).unwrap().utc, time.utc);
    }

    #[test]
    fn what_a_device_says_of_itself_is_bounded() {
        let long = "x".repeat(500);
        let answer =
            parse(&format!("<r><Manufacturer>{long}</Manufacturer><Model>a&#7;b</Model><SerialNumber></SerialNumber></r>"));
        let information = DeviceInformation::read(&answer);
        assert_eq!(information.maker.unwrap().len(), 80);
        assert_eq!((information.model.as_deref(), information.serial), (Some("ab"), None));
    }

    #[test]
    fn addresses_and_accounts_are_read_and_ordered() {
        let answer = parse(
            "<r><NetworkInterfaces token='eth0'><Info><HwAddress>02:00:00:00:00:07</HwAddress></Info><IPv4><Config><Manual>\
             <Address>192.0.2.5</Address><PrefixLength>16</PrefixLength></Manual><DHCP>false</DHCP></Config></IPv4></NetworkInterfaces></r>",
        );
        let interface = NetworkInterface::read(&answer).remove(0);
        assert_eq!((interface.address, interface.dhcp), (Some(("192.0.2.5".parse().unwrap(), 16)), Some(false)));
        assert!(set_address("eth0", AddressPlan::Dhcp).contains("<tt:DHCP>true</tt:DHCP>"));
        let account = Credentials::new("a<b", "p&w");
        let order = create_user(&account, UserLevel::User);
        assert!(order.contains("a&lt;b") && order.contains("p&amp;w") && order.contains("<tt:UserLevel>User<"));
        let users = User::read(&parse("<r><User><Username>keeper</Username><UserLevel>Operator</UserLevel></User></r>"));
        assert_eq!(users, [User { name: "keeper".into(), level: UserLevel::Operator }]);
    }
}
