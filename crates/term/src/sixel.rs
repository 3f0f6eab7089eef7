//! Pictures as sixel (DEC STD 070, chapter 9), with colours chosen for each picture.
//!
//! Colours are the boxes of a median cut over the picture's own; they are kept for a second or two, as long as the scene is
//! the same. A part of a picture is encoded by itself, so that only what changed is sent.

use std::io::{self, Write};

type Rgb = [u8; 3];

/// Bits of a channel that colours are told apart by.
const BITS: usize = 5;
const BINS: usize = 1 << (3 * BITS);
/// No colour was looked up yet.
const UNKNOWN: u8 = u8::MAX;
/// Most colours.
pub const MOST: usize = 250;

fn bin(rgb: Rgb) -> usize {
    let part = |value: u8| (value >> (8 - BITS)) as usize;
    part(rgb[0]) << (2 * BITS) | part(rgb[1]) << BITS | part(rgb[2])
}

/// The middle of a bin.
fn middle(bin: usize) -> Rgb {
    let part = |shift: usize| (((bin >> shift) & ((1 << BITS) - 1)) << (8 - BITS)) as u8 + (1 << (7 - BITS));
    [part(2 * BITS), part(BITS), part(0)]
}

/// The colours of a picture.
#[derive(Debug, Clone)]
pub struct Palette {
    colours: Vec<Rgb>,
    /// For each bin the nearest colour, as soon as it was asked for.
    nearest: Vec<u8>,
}

/// Bins with how often they came.
type Box = Vec<(usize, u32)>;

fn widest(of: &Box) -> (usize, u8) {
    let range = |channel: usize| {
        let values = of.iter().map(|(bin, _)| middle(*bin)[channel]);
        values.clone().max().unwrap_or(0) - values.min().unwrap_or(0)
    };
    (0..3).map(|channel| (channel, range(channel))).max_by_key(|(_, range)| *range).unwrap_or((0, 0))
}

fn mean(of: &Box) -> Rgb {
    let count: u64 = of.iter().map(|(_, count)| u64::from(*count)).sum();
    std::array::from_fn(|channel| {
        let sum: u64 = of.iter().map(|(bin, count)| u64::from(middle(*bin)[channel]) * u64::from(*count)).sum();
        (sum / count.max(1)) as u8
    })
}

impl Palette {
    /// So many colours, at most, of a picture of red, green and blue bytes.
    #[must_use]
    pub fn of(rgb: &[u8], most: usize) -> Self {
        let mut counts = vec![0u32; BINS];
        // Of a large picture one pixel of seven tells enough, and no row or column of any usual width.
        let pixels = rgb.as_chunks::<3>().0;
        for pixel in pixels.iter().step_by(if pixels.len() > 10_000 { 7 } else { 1 }) {
            counts[bin(*pixel)] += 1;
        }
        let all: Box = counts.into_iter().enumerate().filter(|(_, count)| *count > 0).collect();
        let mut boxes = vec![all];
        while boxes.len() < most.clamp(2, MOST) {
            // The box that holds most, by how far apart its colours are.
            let weight = |of: &Box| u64::from(widest(of).1) * of.iter().map(|(_, count)| u64::from(*count)).sum::<u64>();
            let Some(at) = (0..boxes.len()).filter(|at| boxes[*at].len() > 1).max_by_key(|at| weight(&boxes[*at])) else { break };
            let mut whole = boxes.swap_remove(at);
            let (channel, _) = widest(&whole);
            whole.sort_by_key(|(bin, _)| middle(*bin)[channel]);
            let half: u64 = whole.iter().map(|(_, count)| u64::from(*count)).sum::<u64>() / 2;
            let mut sum = 0u64;
            let cut = whole.iter().position(|(_, count)| {
                sum += u64::from(*count);
                sum > half
            });
            let cut = cut.unwrap_or(whole.len() / 2).clamp(1, whole.len() - 1);
            let rest = whole.split_off(cut);
            boxes.extend([whole, rest]);
        }
        let colours = boxes.iter().filter(|of| !of.is_empty()).map(mean).collect();
        Self { colours, nearest: vec![UNKNOWN; BINS] }
    }

    /// The index of the colour that comes nearest.
    fn nearest(&mut self, rgb: Rgb) -> u8 {
        let bin = bin(rgb);
        if self.nearest[bin] == UNKNOWN {
            let off = |colour: &Rgb| -> i32 {
                let middle = middle(bin);
                let channel = |c: usize| (i32::from(colour[c]) - i32::from(middle[c])).pow(2);
                channel(0) * 2 + channel(1) * 4 + channel(2) * 3
            };
            let best = self.colours.iter().enumerate().min_by_key(|(_, colour)| off(colour));
            self.nearest[bin] = best.map_or(0, |(index, _)| index as u8);
        }
        self.nearest[bin]
    }

    /// The colour that a pixel is shown in.
    #[cfg(test)]
    fn shown(&mut self, rgb: Rgb) -> Rgb {
        let index = self.nearest(rgb);
        self.colours.get(usize::from(index)).copied().unwrap_or(rgb)
    }
}

/// A part of a picture, in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// Its left edge.
    pub x: usize,
    /// Its top.
    pub y: usize,
    /// Its width.
    pub width: usize,
    /// Its height.
    pub height: usize,
}

fn run(out: &mut Vec<u8>, sixel: u8, count: usize) {
    let sign = 63 + sixel;
    if count > 3 {
        out.push(b'!');
        out.extend_from_slice(count.to_string().as_bytes());
        out.push(sign);
    } else {
        out.extend(std::iter::repeat_n(sign, count));
    }
}

/// Encodes a part of a picture that is `width` pixels wide; it is drawn at the cursor.
///
/// # Errors
/// When it cannot be written.
pub fn encode(out: &mut impl Write, rgb: &[u8], width: usize, part: Part, palette: &mut Palette) -> io::Result<()> {
    let pixels = rgb.as_chunks::<3>().0;
    // Pixels that are not set stay as they are (second parameter 1).
    let mut text = format!("\x1bP0;1;0q\"1;1;{};{}", part.width, part.height).into_bytes();
    let mut bits: Vec<Vec<u8>> = vec![Vec::new(); palette.colours.len()];
    let mut defined = vec![false; palette.colours.len()];
    for top in (0..part.height).step_by(6) {
        let mut present: Vec<u8> = Vec::new();
        for row in top..part.height.min(top + 6) {
            let begin = (part.y + row) * width + part.x;
            let Some(line) = pixels.get(begin..begin + part.width) else { continue };
            for (x, pixel) in line.iter().enumerate() {
                let colour = palette.nearest(*pixel);
                let Some(bits) = bits.get_mut(usize::from(colour)) else { continue };
                if bits.is_empty() {
                    bits.resize(part.width, 0);
                    present.push(colour);
                }
                bits[x] |= 1 << (row - top);
            }
        }
        for (n, colour) in present.iter().enumerate() {
            if n > 0 {
                text.push(b'$');
            }
            let index = usize::from(*colour);
            text.extend_from_slice(format!("#{index}").as_bytes());
            if !std::mem::replace(&mut defined[index], true) {
                let [red, green, blue] = palette.colours[index].map(|value| (u32::from(value) * 100 + 127) / 255);
                text.extend_from_slice(format!(";2;{red};{green};{blue}#{index}").as_bytes());
            }
            let mut line = std::mem::take(&mut bits[index]);
            let end = line.iter().rposition(|sixel| *sixel != 0).map_or(0, |last| last + 1);
            let mut at = 0;
            while at < end {
                let count = line[at..end].iter().take_while(|sixel| **sixel == line[at]).count();
                run(&mut text, line[at], count);
                at += count;
            }
            line.clear();
            bits[index] = line;
        }
        text.push(b'-');
    }
    text.extend_from_slice(b"\x1b\\");
    out.write_all(&text)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Decodes a sixel picture: its size and pixels; black where none was set.
    fn decode(bytes: &[u8]) -> ((usize, usize), Vec<Rgb>) {
        let text = std::str::from_utf8(bytes).unwrap();
        let body = text.strip_prefix("\x1bP0;1;0q\"1;1;").unwrap().strip_suffix("\x1b\\").unwrap();
        let number = |text: &str| {
            let digits = text.chars().take_while(char::is_ascii_digit).count();
            (text[..digits].parse::<usize>().unwrap(), digits)
        };
        let (width, digits) = number(body);
        let body = &body[digits + 1..];
        let (height, digits) = number(body);
        let mut rest = &body[digits..];
        let (mut colours, mut pixels) = (vec![[0u8; 3]; 256], vec![[0u8; 3]; width * height]);
        let (mut x, mut top, mut colour) = (0, 0, 0);
        while let Some(sign) = rest.chars().next() {
            rest = &rest[1..];
            let mut count = 1;
            let mut sign = sign;
            match sign {
                '$' => x = 0,
                '-' => (x, top) = (0, top + 6),
                '#' => {
                    let (index, digits) = number(rest);
                    (colour, rest) = (index, &rest[digits..]);
                    if let Some(defined) = rest.strip_prefix(";2;") {
                        rest = defined;
                        for channel in 0..3 {
                            let (percent, digits) = number(rest);
                            colours[index][channel] = (percent * 255 / 100) as u8;
                            rest = &rest[digits + usize::from(channel < 2)..];
                        }
                    }
                }
                '!' => {
                    let (times, digits) = number(rest);
                    count = times;
                    sign = rest.as_bytes()[digits] as char;
                    rest = &rest[digits + 1..];
                }
                _ => {}
            }
            if ('?'..='~').contains(&sign) {
                for row in (0..6).filter(|row| (sign as u8 - 63) >> row & 1 == 1) {
                    for x in x..x + count {
                        pixels[(top + row) * width + x] = colours[colour];
                    }
                }
                x += count;
            }
        }
        ((width, height), pixels)
    }

    fn scene(width: usize, height: usize) -> Vec<u8> {
        let pixel = |n: usize| {
            let (x, y) = (n % width, n / width);
            [(x * 255 / width) as u8, (y * 255 / height) as u8, if (x / 9 + y / 7) % 2 == 0 { 40 } else { 200 }]
        };
        (0..width * height).flat_map(pixel).collect()
    }

    #[test]
    fn what_is_decoded_is_the_picture_in_its_colours() {
        for (width, height, colours, worst) in [(64, 36, 64, 60), (121, 47, 250, 36), (7, 5, 16, 80)] {
            let rgb = scene(width, height);
            let mut palette = Palette::of(&rgb, colours);
            assert!(palette.colours.len() <= colours);
            let mut out = Vec::new();
            encode(&mut out, &rgb, width, Part { x: 0, y: 0, width, height }, &mut palette).unwrap();
            let (size, pixels) = decode(&out);
            assert_eq!(size, (width, height));
            let off = |(a, b): (&Rgb, &Rgb)| a.iter().zip(b).map(|(a, b)| u32::from(a.abs_diff(*b))).max().unwrap();
            let wanted = rgb.as_chunks::<3>().0;
            let most = pixels.iter().zip(wanted).map(off).max().unwrap();
            let mean: u32 = pixels.iter().zip(wanted).map(off).sum::<u32>() / pixels.len() as u32;
            assert!(most <= worst && mean <= worst / 3, "{width}x{height}: {most} at most, {mean} in the mean");
        }
    }

    #[test]
    fn a_part_is_that_part() {
        let rgb = scene(40, 30);
        let mut palette = Palette::of(&rgb, 128);
        let mut out = Vec::new();
        encode(&mut out, &rgb, 40, Part { x: 16, y: 8, width: 8, height: 16 }, &mut palette).unwrap();
        let (size, pixels) = decode(&out);
        assert_eq!(size, (8, 16));
        let pixel = rgb.as_chunks::<3>().0[(8 + 15) * 40 + 16 + 7];
        let shown = palette.shown(pixel);
        assert!(pixels[15 * 8 + 7].iter().zip(shown).all(|(a, b)| a.abs_diff(b) <= 3), "{:?} {shown:?}", pixels[15 * 8 + 7]);
    }

    #[test]
    fn few_colours_are_kept_exactly_and_nothing_at_all_does_no_harm() {
        let rgb: Vec<u8> = (0..900).flat_map(|n| if n % 30 < 15 { [250, 10, 10] } else { [10, 10, 250] }).collect();
        let mut palette = Palette::of(&rgb, 64);
        assert_eq!(palette.colours.len(), 2);
        assert!(palette.shown([250, 10, 10])[0] > 240);
        let mut out = Vec::new();
        encode(&mut out, &[], 0, Part { x: 0, y: 0, width: 0, height: 0 }, &mut Palette::of(&[], 64)).unwrap();
        assert!(out.ends_with(b"\x1b\\"));
    }
}
