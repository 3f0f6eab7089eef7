//! Which of several names is meant by what was typed.

use std::cmp::Ordering;

/// What was meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Meant<'a> {
    /// This one.
    One(&'a str),
    /// It is the beginning of each of these.
    Several(Vec<&'a str>),
    /// None of them.
    Nothing,
}

/// The name that is meant: as it is written, else in any case, else the only one that begins so.
///
/// ```
/// use lattice_core::names::{Meant, meant};
/// let names = ["Slipway north", "Slipway south", "Mast"];
/// assert_eq!(meant("MAST", names), Meant::One("Mast"));
/// assert_eq!(meant("slipway n", names), Meant::One("Slipway north"));
/// assert_eq!(meant("slip", names), Meant::Several(vec!["Slipway north", "Slipway south"]));
/// assert_eq!(meant("", names), Meant::Nothing);
/// ```
pub fn meant<'a>(typed: &str, names: impl IntoIterator<Item = &'a str>) -> Meant<'a> {
    let names: Vec<&str> = names.into_iter().collect();
    if let Some(name) = names.iter().find(|name| **name == typed) {
        return Meant::One(name);
    }
    let typed = typed.trim().to_lowercase();
    if typed.is_empty() {
        return Meant::Nothing;
    }
    let same: Vec<&str> = names.iter().copied().filter(|name| name.to_lowercase() == typed).collect();
    let begins = || names.iter().copied().filter(|name| name.to_lowercase().starts_with(&typed)).collect::<Vec<_>>();
    let found = if same.is_empty() { begins() } else { same };
    match found.as_slice() {
        [] => Meant::Nothing,
        [one] => Meant::One(one),
        _ => Meant::Several(found),
    }
}

/// The name that is meant, or a sentence; `what` says what the names are of.
///
/// # Errors
/// Where none or several are meant.
pub fn one_meant<'a>(typed: &str, what: &str, names: impl IntoIterator<Item = &'a str>) -> Result<&'a str, String> {
    match meant(typed, names) {
        Meant::One(name) => Ok(name),
        Meant::Several(names) => Err(format!("{typed:?} may be {}: write more of it", names.join(", "))),
        Meant::Nothing => Err(format!("no {what} {typed:?} in the site: `amber-lattice roster` lists the cameras")),
    }
}

/// Texts in the order in which people count: "Lane 2" before "Lane 10", 127.0.0.9 before 127.0.0.10; capitals count as small.
#[must_use]
pub fn natural(a: &str, b: &str) -> Ordering {
    // Thousands of names are sorted twice a second: most are plain letters.
    if a.is_ascii() && b.is_ascii() {
        let plain = |byte: u8| char::from(byte.to_ascii_lowercase());
        return by_count(a.bytes().map(plain), b.bytes().map(plain));
    }
    by_count(a.chars().flat_map(char::to_lowercase), b.chars().flat_map(char::to_lowercase))
}

fn by_count(a: impl Iterator<Item = char>, b: impl Iterator<Item = char>) -> Ordering {
    let (mut a, mut b) = (a.peekable(), b.peekable());
    loop {
        let order = match (a.peek().copied(), b.peek().copied()) {
            (None, None) => return Ordering::Equal,
            (Some(one), Some(two)) if one.is_ascii_digit() && two.is_ascii_digit() => number(&mut a).cmp(&number(&mut b)),
            (one, two) => {
                a.next();
                b.next();
                one.cmp(&two)
            }
        };
        if order.is_ne() {
            return order;
        }
    }
}

/// The digits at the begin as a number; one that is too large counts as the largest.
fn number(text: &mut std::iter::Peekable<impl Iterator<Item = char>>) -> u64 {
    let mut number = 0u64;
    while let Some(digit) = text.peek().and_then(|c| c.to_digit(10)) {
        number = number.saturating_mul(10).saturating_add(u64::from(digit));
        text.next();
    }
    number
}

#[cfg(test)]
mod tests {
    use super::natural;
    use std::cmp::Ordering::{Equal, Greater, Less};

    #[test]
    fn names_stand_as_people_count() {
        for (a, b, order) in [
            ("Lane 2", "Lane 10", Less),
            ("lane 2", "LANE 2", Equal),
            ("127.0.0.9", "127.0.0.10", Less),
            ("Lane", "Lane 2", Less),
            ("Kai Ö 3", "Kai ö 12", Less),
            ("99999999999999999999999", "99999999999999999999998", Equal),
            ("b", "a", Greater),
            ("", "", Equal),
        ] {
            assert_eq!(natural(a, b), order, "{a:?} {b:?}");
            assert_eq!(natural(b, a), order.reverse(), "{b:?} {a:?}");
        }
    }
}
