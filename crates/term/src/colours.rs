//! Colours, and 24-bit ones on terminals with fewer.

use ratatui::style::Color;

/// How many colours the terminal shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ColourDepth {
    /// None: `NO_COLOR`, or a terminal without.
    Mono,
    /// The sixteen.
    Sixteen,
    /// The 256 of the usual palette.
    Palette,
    /// 24 bits.
    True,
}

impl ColourDepth {
    /// What the environment says.
    pub fn from_environment(get: impl Fn(&str) -> Option<String>) -> Self {
        let term = get("TERM").unwrap_or_default();
        let colour_term = get("COLORTERM").unwrap_or_default();
        if get("NO_COLOR").is_some_and(|value| !value.is_empty()) || term == "dumb" || term.ends_with("-m") || term == "vt100" {
            Self::Mono
        } else if colour_term == "truecolor" || colour_term == "24bit" || term.ends_with("-direct") {
            Self::True
        } else if term.contains("256") || term.contains("kitty") {
            Self::Palette
        } else {
            Self::Sixteen
        }
    }
}

/// Red, green, blue.
pub type Rgb = [u8; 3];

/// The terminal's colour for a colour; `Reset` without colours.
pub fn reduce(depth: ColourDepth, rgb: Rgb) -> Color {
    match depth {
        ColourDepth::True => Color::Rgb(rgb[0], rgb[1], rgb[2]),
        ColourDepth::Palette => Color::Indexed(palette(rgb)),
        ColourDepth::Sixteen => sixteen(rgb),
        ColourDepth::Mono => Color::Reset,
    }
}

/// What a colour of the cube, the grey ramp or of 24 bits looks like; `None` for the terminal's own.
pub fn rgb_of(colour: Color) -> Option<Rgb> {
    match colour {
        Color::Rgb(r, g, b) => Some([r, g, b]),
        Color::Indexed(index @ 232..) => Some([8 + (index - 232) * 10; 3]),
        Color::Indexed(index @ 16..) => {
            let n = index - 16;
            Some([n / 36, n / 6 % 6, n % 6].map(|n| STEPS[usize::from(n)]))
        }
        _ => None,
    }
}

const STEPS: [u8; 6] = [0, 95, 135, 175, 215, 255];

fn distance(a: Rgb, b: Rgb) -> i32 {
    a.iter().zip(b).map(|(a, b)| (i32::from(*a) - i32::from(b)).pow(2)).sum()
}

/// The nearest of the colour cube and the grey ramp.
fn palette(rgb: Rgb) -> u8 {
    let step = |value: u8| {
        if value < 48 {
            0u8
        } else if value < 115 {
            1
        } else {
            (value - 35) / 40
        }
    };
    let [r, g, b] = rgb.map(step);
    let cube = [r, g, b].map(|n| STEPS[usize::from(n)]);
    let mean = rgb.iter().map(|value| u32::from(*value)).sum::<u32>() / 3;
    let ramp = (mean.saturating_sub(3) / 10).min(23) as u8;
    let grey = [8 + ramp * 10; 3];
    if distance(grey, rgb) < distance(cube, rgb) { 232 + ramp } else { 16 + 36 * r + 6 * g + b }
}

fn sixteen(rgb: Rgb) -> Color {
    const TABLE: [(Rgb, Color); 16] = [
        ([0, 0, 0], Color::Black),
        ([205, 0, 0], Color::Red),
        ([0, 205, 0], Color::Green),
        ([205, 205, 0], Color::Yellow),
        ([0, 0, 238], Color::Blue),
        ([205, 0, 205], Color::Magenta),
        ([0, 205, 205], Color::Cyan),
        ([229, 229, 229], Color::Gray),
        ([127, 127, 127], Color::DarkGray),
        ([255, 0, 0], Color::LightRed),
        ([0, 255, 0], Color::LightGreen),
        ([255, 255, 0], Color::LightYellow),
        ([92, 92, 255], Color::LightBlue),
        ([255, 0, 255], Color::LightMagenta),
        ([0, 255, 255], Color::LightCyan),
        ([255, 255, 255], Color::White),
    ];
    TABLE.iter().min_by_key(|(colour, _)| distance(*colour, rgb)).map_or(Color::Reset, |(_, colour)| *colour)
}

/// Perceived brightness, 0 to 255.
pub fn brightness([r, g, b]: Rgb) -> u8 {
    ((u32::from(r) * 54 + u32::from(g) * 183 + u32::from(b) * 19) >> 8) as u8
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_environment_decides_the_depth() {
        let depth = |pairs: &[(&str, &str)]| {
            ColourDepth::from_environment(|name| pairs.iter().find(|(key, _)| *key == name).map(|(_, value)| (*value).to_owned()))
        };
        assert_eq!(depth(&[("TERM", "xterm-256color"), ("COLORTERM", "truecolor")]), ColourDepth::True);
        assert_eq!(depth(&[("TERM", "xterm-256color")]), ColourDepth::Palette);
        assert_eq!(depth(&[("TERM", "linux")]), ColourDepth::Sixteen);
        assert_eq!(depth(&[("TERM", "xterm"), ("COLORTERM", "truecolor"), ("NO_COLOR", "1")]), ColourDepth::Mono);
    }

    #[test]
    fn palette_entries_are_near_what_was_asked() {
        for rgb in [[0, 0, 0], [255, 255, 255], [128, 128, 128], [200, 30, 30], [17, 90, 200]] {
            let index = palette(rgb);
            let got = rgb_of(Color::Indexed(index)).unwrap();
            assert!(distance(got, rgb) < 3 * 40 * 40, "{rgb:?} as {got:?}");
        }
        assert_eq!(sixteen([250, 250, 250]), Color::White);
    }
}
