//! Paths that are commonly used for streams, for devices that cannot be asked.

use std::str::FromStr;

/// Most paths that are tried on a device. Each costs one question without a sign-in, and the first refusal of
/// a sign-in ends the trying.
pub const MAX_PATH_TRIES: usize = 24;

/// A path with placeholders: `{channel}` and `{stream}` count from 1, `{role}` is `main` or `sub`.
///
/// ```
/// use lattice_core::find::PathPattern;
/// let pattern: PathPattern = "/ch{channel}/{role}".parse()?;
/// assert_eq!(pattern.path(3, 2), "/ch3/sub");
/// # Ok::<(), lattice_core::find::PathPatternError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PathPattern(String);

/// Why a pattern cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is not a path pattern: {why}")]
pub struct PathPatternError {
    text: String,
    why: &'static str,
}

impl PathPattern {
    /// The path for a channel and a stream, both from 1; stream 1 is the main one.
    #[must_use]
    pub fn path(&self, channel: u32, stream: u32) -> String {
        let role = if stream <= 1 { "main" } else { "sub" };
        self.0.replace("{channel}", &channel.to_string()).replace("{stream}", &stream.to_string()).replace("{role}", role)
    }

    /// Whether another stream than the first has another path.
    #[must_use]
    pub fn tells_streams_apart(&self) -> bool {
        self.0.contains("{stream}") || self.0.contains("{role}")
    }
}

impl FromStr for PathPattern {
    type Err = PathPatternError;

    fn from_str(text: &str) -> Result<Self, PathPatternError> {
        let error = |why| PathPatternError { text: text.to_owned(), why };
        let text_only = text.replace("{channel}", "1").replace("{stream}", "1").replace("{role}", "main");
        if !text.starts_with('/') {
            return Err(error("it begins with a slash"));
        }
        if text_only.contains(['{', '}']) {
            return Err(error("the placeholders are {channel}, {stream} and {role}"));
        }
        if text_only.chars().any(|c| c.is_whitespace() || c.is_control()) {
            return Err(error("it has no spaces"));
        }
        Ok(Self(text.to_owned()))
    }
}

/// The list that comes with the program.
const COMMON: &str = include_str!("paths.txt");

/// The patterns to try, those of `own` first: a line each, empty lines and `#` remarks skipped.
///
/// # Errors
/// [`PathPatternError`] for the first line that is no pattern, with its number.
pub fn common_paths(own: &str) -> Result<Vec<PathPattern>, (usize, PathPatternError)> {
    let mut out: Vec<PathPattern> = Vec::new();
    for text in [own, COMMON] {
        for (index, line) in text.lines().enumerate() {
            let line = line.trim();
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let pattern: PathPattern = line.parse().map_err(|error| (index + 1, error))?;
            if !out.contains(&pattern) {
                out.push(pattern);
            }
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ones_own_paths_come_first_and_slips_are_named_by_line() {
        let all = common_paths("# ours\n\n/quay/{channel}\n/main\n").unwrap();
        assert_eq!(all[0].path(4, 1), "/quay/4");
        assert_eq!(all.iter().filter(|pattern| pattern.path(1, 1) == "/main").count(), 2, "ours, and the one with {{role}}");
        assert!(all.len() <= MAX_PATH_TRIES);
        let (line, error) = common_paths("/x\nno-slash\n").unwrap_err();
        assert_eq!((line, error.to_string().contains("begins with a slash")), (2, true));
        assert!("/a{b}".parse::<PathPattern>().is_err() && "/a b".parse::<PathPattern>().is_err());
    }
}
