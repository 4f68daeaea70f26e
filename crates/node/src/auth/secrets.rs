//! Secrets: 256 random bits, shown once, kept as a hash; passwords by argon2id.

use crate::error::{Result, ServiceError};
use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use sha2::{Digest, Sha256};

/// Shortest password taken.
pub const MIN_PASSWORD: usize = 10;

/// A well-formed hash that fits no password, so that an unknown name, or a person without one, takes as long as a wrong password.
pub const NO_PASSWORD: &str =
    "$argon2id$v=19$m=19456,t=2,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";

/// A new secret of a sort ("key", "token"), from 32 random bytes: the text, what is kept of it, and how it begins.
pub fn new_secret(sort: &str, random: [u8; 32]) -> (String, [u8; 32], String) {
    let secret = format!("calvex-{sort}-{}", URL_SAFE_NO_PAD.encode(random));
    let prefix = secret.chars().take("calvex--".len() + sort.len() + 5).collect();
    let hash = hash_secret(&secret);
    (secret, hash, prefix)
}

/// What is kept of a secret. It has 256 random bits, so a fast hash is as good as a slow one.
pub fn hash_secret(secret: &str) -> [u8; 32] {
    Sha256::digest(secret.as_bytes()).into()
}

/// The argon2id hash of a password, in PHC form.
///
/// # Errors
/// Where it is too short.
pub fn hash_password(password: &str) -> Result<String> {
    if password.chars().count() < MIN_PASSWORD {
        return Err(ServiceError::BadRequest(format!(
            "the password has fewer than {MIN_PASSWORD} characters; choose a longer one"
        )));
    }
    let hash = Argon2::default().hash_password(password.as_bytes());
    hash.map(|h| h.to_string()).map_err(|e| ServiceError::BadRequest(format!("the password cannot be hashed: {e}")))
}

/// Whether a password is the one of a hash.
pub fn verify_password(password: &str, hash: &str) -> bool {
    argon2::PasswordHash::new(hash).is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_and_secrets() {
        let hash = hash_password("correct horse bank").unwrap();
        assert!(hash.starts_with("$argon2id$"));
        assert!(verify_password("correct horse bank", &hash));
        assert!(!verify_password("correct horse", &hash) && !verify_password("x", "not a hash"));
        assert!(hash_password("short").is_err());
        let (secret, kept, prefix) = new_secret("key", [7; 32]);
        assert!(secret.starts_with(&prefix) && prefix.len() < 20 && secret.len() > 50);
        assert_eq!(kept, hash_secret(&secret));
    }
}
