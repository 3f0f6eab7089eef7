//! Access units out of one input: each begins with a delimiter, as in a file of the codec.

/// The pieces between delimiters, which stay at their beginnings; 32 at most.
pub fn units<'a>(input: &'a [u8], delimiter: &[u8]) -> Vec<&'a [u8]> {
    let starts: Vec<usize> = (0..input.len()).filter(|at| input[*at..].starts_with(delimiter)).collect();
    let ends = starts.iter().skip(1).copied().chain([input.len()]);
    let first = starts.first().copied().unwrap_or(input.len());
    let mut units = vec![&input[..first]];
    units.extend(starts.iter().zip(ends).map(|(from, to)| &input[*from..to]));
    units.retain(|unit| !unit.is_empty());
    units.truncate(32);
    units
}
