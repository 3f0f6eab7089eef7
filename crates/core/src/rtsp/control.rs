//! Where to send SETUP: `a=control` against its base (RFC 2326 §C.1.1).

/// The URI that a control attribute means.
///
/// Absolute ones stand as they are, `*` and a missing one mean the base itself, and relative ones
/// are appended to the base with one slash between. Appending, also behind a query, is what servers
/// expect; resolving by the rules for hyperlinks would drop the last part of a base without a slash.
#[must_use]
pub fn join(base: &str, control: Option<&str>) -> String {
    match control.map(str::trim) {
        None | Some("" | "*") => base.to_owned(),
        Some(absolute) if absolute.to_ascii_lowercase().starts_with("rtsp://") => absolute.to_owned(),
        Some(relative) => format!("{}/{}", base.trim_end_matches('/'), relative.trim_start_matches('/')),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_of_control_is_joined() {
        for (base, control, want) in [
            ("rtsp://c/a/", Some("stream=0"), "rtsp://c/a/stream=0"),
            ("rtsp://c/a", Some("trackID=1"), "rtsp://c/a/trackID=1"),
            ("rtsp://c/a?x=1", Some("trackID=1"), "rtsp://c/a?x=1/trackID=1"),
            ("rtsp://c/a/", Some("/video"), "rtsp://c/a/video"),
            ("rtsp://c/a/", Some("*"), "rtsp://c/a/"),
            ("rtsp://c/a", None, "rtsp://c/a"),
            ("rtsp://c/a", Some("RTSP://d/b"), "RTSP://d/b"),
        ] {
            assert_eq!(join(base, control), want);
        }
    }
}
