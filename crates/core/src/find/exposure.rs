//! Devices that lie open to anyone who can reach them.

use crate::Credentials;

/// Why a device is exposed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Exposure {
    /// It has no account yet: whoever comes first sets its password.
    FirstUse,
    /// It gives its streams without any sign-in.
    NoPassword,
    /// Its password is one that everybody knows.
    DefaultPassword,
}

impl Exposure {
    /// The stable word for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::FirstUse => "first-use",
            Self::NoPassword => "no-password",
            Self::DefaultPassword => "default-password",
        }
    }

    /// The reason in words.
    #[must_use]
    pub const fn reason(self) -> &'static str {
        match self {
            Self::FirstUse => "it has no account yet: whoever comes first sets its password",
            Self::NoPassword => "it gives its streams to anyone, without a sign-in",
            Self::DefaultPassword => "its password is one that everybody knows",
        }
    }
}

/// Sign-ins that devices are delivered with or that are tried first by anyone: user, password.
const WELL_KNOWN: &[(&str, &[&str])] = &[
    (
        "admin",
        &[
            "",
            "admin",
            "password",
            "1234",
            "12345",
            "123456",
            "12345678",
            "123456789",
            "1111",
            "9999",
            "0000",
            "pass",
            "admin123",
            "admin1234",
            "camera",
        ],
    ),
    ("administrator", &["", "admin", "administrator", "password"]),
    ("root", &["", "root", "pass", "password", "admin", "12345", "camera"]),
    ("user", &["", "user", "password", "1234", "12345"]),
    ("guest", &["", "guest", "12345"]),
    ("operator", &["", "operator", "12345"]),
    ("service", &["", "service"]),
    ("supervisor", &["", "supervisor"]),
    ("viewer", &["", "viewer"]),
];

/// Whether a sign-in is one that everybody knows. Nothing is ever tried with these: only a sign-in that the
/// operator gave is held against them.
#[must_use]
pub fn is_well_known(sign_in: &Credentials) -> bool {
    let (user, password) = (sign_in.user.to_ascii_lowercase(), sign_in.password.reveal());
    password.is_empty()
        || password.eq_ignore_ascii_case(&user)
        || WELL_KNOWN
            .iter()
            .any(|(name, passwords)| *name == user && passwords.iter().any(|known| known.eq_ignore_ascii_case(password)))
}

/// How well a password withstands guessing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strength {
    /// It does not, for this reason.
    Weak(&'static str),
    /// It does for a while.
    Fair,
    /// It does.
    Strong,
}

/// Judges a new password as it is typed. Length counts most; kinds of characters count where it is short.
#[must_use]
pub fn strength(account: &Credentials) -> Strength {
    let (password, user) = (account.password.reveal(), account.user.to_lowercase());
    let length = password.chars().count();
    if length < 8 {
        return Strength::Weak("shorter than eight characters");
    }
    if is_well_known(account) {
        return Strength::Weak("one that everybody knows");
    }
    if !user.is_empty() && password.to_lowercase().contains(&user) {
        return Strength::Weak("it contains the user name");
    }
    let mut distinct: Vec<char> = password.chars().collect();
    distinct.sort_unstable();
    distinct.dedup();
    if distinct.len() < 5 {
        return Strength::Weak("the same few characters again and again");
    }
    let tests: [fn(char) -> bool; 4] = [|c| c.is_lowercase(), |c| c.is_uppercase(), |c| c.is_numeric(), |c| !c.is_alphanumeric()];
    let kinds = tests.iter().filter(|test| password.chars().any(*test)).count();
    if length >= 14 || (length >= 10 && kinds >= 3) { Strength::Strong } else { Strength::Fair }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_everybody_knows_is_told() {
        let known = |user: &str, password: &str| is_well_known(&Credentials::new(user, password));
        assert!(known("admin", "12345") && known("Admin", "ADMIN") && known("keeper", "keeper") && known("harbour", ""));
        assert!(!known("harbour", "ebb-and-flow") && !known("admin", "a good one"));
    }

    #[test]
    fn new_passwords_are_judged() {
        let judge = |password: &str| strength(&Credentials::new("keeper", password));
        for (password, why) in [("short", "shorter"), ("Keeper2026", "user name"), ("aaaaaaaaaa", "again and again")] {
            assert!(
                matches!(judge(password), Strength::Weak(reason) if reason.contains(why)),
                "{password}: {:?}",
                judge(password)
            );
        }
        assert_eq!(
            (judge("springtide"), judge("Spring-tide 7"), judge("slack water at noon")),
            (Strength::Fair, Strength::Strong, Strength::Strong)
        );
    }
}
