//! Which passwords are taken: long enough, and not among those that are tried first. What is tried first is a common word
//! or a name with figures around it, a row of the keyboard or the alphabet, or a few signs again and again (NIST SP 800-63B,
//! 5.1.1.2).

use crate::error::{Result, ServiceError};

/// Longest password taken, in bytes.
const MAX_PASSWORD: usize = 1024;

/// Words that many take, with figures before or behind them.
const WORDS: [&str; 39] = [
    "password",
    "passwort",
    "passphrase",
    "passwd",
    "welcome",
    "welcomeback",
    "willkommen",
    "letmein",
    "iloveyou",
    "administrator",
    "admin",
    "administer",
    "monkey",
    "dragon",
    "football",
    "baseball",
    "basketball",
    "princess",
    "sunshine",
    "trustno",
    "changeme",
    "changethis",
    "secret",
    "topsecret",
    "default",
    "master",
    "login",
    "internet",
    "computer",
    "whatever",
    "summer",
    "winter",
    "spring",
    "autumn",
    "logging",
    "logs",
    "calvex",
    "fennmark",
    "locker",
];

/// Rows that fingers run along, and back.
const ROWS: [&str; 5] = [
    "01234567890123456789",
    "abcdefghijklmnopqrstuvwxyz",
    "qwertyuiopasdfghjklzxcvbnm",
    "qwertzuiopasdfghjklyxcvbnm",
    "1qaz2wsx3edc4rfv5tgb6yhn7ujm",
];

/// Whether a password may be set for a person of this name.
///
/// # Errors
/// Where it is too long, or among those that are tried first; that it is long enough, hashing sees to.
pub fn check(password: &str, name: &str) -> Result<()> {
    if password.len() > MAX_PASSWORD {
        return Err(ServiceError::BadRequest(format!("the password has more than {MAX_PASSWORD} bytes; shorten it")));
    }
    match is_common(password, name) {
        true => Err(ServiceError::BadRequest(
            "this password is among those that are tried first; take some words that do not belong together".into(),
        )),
        false => Ok(()),
    }
}

fn is_common(password: &str, name: &str) -> bool {
    let plain: String = password.to_lowercase().chars().filter(|c| c.is_alphanumeric()).collect();
    let signs: Vec<char> = plain.chars().collect();
    // A few signs again and again.
    let is_repeated =
        |period: usize| signs.len() >= period * 2 && signs.iter().zip(&signs[period..]).all(|(a, b)| a == b);
    if (1..=4).any(is_repeated) {
        return true;
    }
    let back: String = plain.chars().rev().collect();
    if plain.len() >= 6 && ROWS.iter().any(|row| row.contains(&plain) || row.contains(&back)) {
        return true;
    }
    let core = plain.trim_matches(|c: char| c.is_ascii_digit());
    let name: String = name.to_lowercase().chars().filter(|c| c.is_alphanumeric()).collect();
    let known = WORDS.iter().copied().chain([name.as_str()]).filter(|word| !word.is_empty());
    core.is_empty() || known.into_iter().any(|word| core.replace(word, "").is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_tried_first_is_not_taken() {
        for common in [
            "password123",
            "Password-2026!",
            "12345678901",
            "1029384756",
            "qwertyuiop",
            "Poiuytrewq",
            "aaaaaaaaaaaa",
            "abcabcabcabc",
            "welcomewelcome",
            "123admin123",
            "anna.lind1990",
            "anna.lindanna.lind",
            "1qaz2wsx3edc",
        ] {
            assert!(check(common, "anna.lind").is_err(), "{common}");
        }
        for good in
            ["locker bank seventeen", "fennmark-night", "correct horse bank", "belt 4 stands still", "x9!kk_2#bb"]
        {
            assert!(check(good, "anna.lind").is_ok(), "{good}");
        }
    }
}
