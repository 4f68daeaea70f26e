//! The id token (OpenID Connect Core 1.0, 2 and 3.1.3.7): a JWT in the compact form of RFC 7515, signed by a key that the
//! provider publishes.
//!
//! ```text
//! base64url({"alg","kid"}) . base64url({"iss","sub","aud","exp","nonce",…}) . base64url(signature)
//! ```
//!
//! The library reads the token and checks the times, issuer and audience that it names; signatures are checked by the
//! cryptography that everything else here uses. No key is a shared secret: what signs with one is refused.

use jsonwebtoken::crypto::{CryptoProvider, JwtVerifier, KeyUtils};
use jsonwebtoken::errors::{Error, ErrorKind};
use jsonwebtoken::jwk::{Jwk, PublicKeyUse};
use jsonwebtoken::signature::{self, Verifier};
use jsonwebtoken::{Algorithm, AlgorithmFamily, DecodingKey, DecodingKeyKind, Validation, decode, decode_header};
use ring::signature::{self as signed, RsaPublicKeyComponents, UnparsedPublicKey};
use serde_json::{Map, Value};
use std::sync::Once;

/// Letters of whom a token is about (OpenID Connect Core 1.0, 2).
const MAX_SUBJECT: usize = 255;
/// Keys of a provider that are looked at.
const MAX_KEYS: usize = 100;

/// Everything that an id token says.
pub type Claims = Map<String, Value>;

/// What must hold of an id token.
pub struct Wanted<'a> {
    /// Whose token it is.
    pub issuer: &'a str,
    /// For whom it was made: for nobody else.
    pub client_id: &'a str,
    /// Said when the sign-on was begun.
    pub nonce: &'a str,
    /// How the provider signs, by its own word.
    pub algorithms: &'a [Algorithm],
}

/// Why an id token does not hold.
#[derive(Debug, thiserror::Error)]
pub enum Unproven {
    /// The signature, a time, the issuer or the audience.
    #[error("the id token does not hold: {0}")]
    Token(#[from] Error),
    /// None of the keys can have signed it.
    #[error("the provider has no key `{0}` for its id token")]
    Key(String),
    /// Another rule of OpenID Connect.
    #[error("the id token does not hold: {0}")]
    Claim(&'static str),
}

/// The keys of a key set (RFC 7517) that may have signed; one that is of a form not known here is passed over.
pub fn keys_of(set: &Value) -> Vec<Jwk> {
    let keys = set.get("keys").and_then(Value::as_array).into_iter().flatten().take(MAX_KEYS);
    let keys = keys.filter_map(|key| serde_json::from_value::<Jwk>(key.clone()).ok());
    keys.filter(|key| !matches!(key.common.public_key_use, Some(PublicKeyUse::Encryption))).collect()
}

/// What a token says, where it holds.
///
/// # Errors
/// What does not hold.
pub fn proven(token: &str, keys: &[Jwk], wanted: &Wanted) -> Result<Claims, Unproven> {
    static VERIFYING: Once = Once::new();
    VERIFYING.call_once(|| {
        let _ = VERIFIERS.install_default();
    });
    let header = decode_header(token)?;
    if !wanted.algorithms.contains(&header.alg) {
        return Err(Unproven::Claim("it is signed as its provider does not sign"));
    }
    let named = |key: &&Jwk| header.kid.is_none() || key.common.key_id == header.kid;
    let fits = |key: &&Jwk| key.common.key_algorithm.is_none_or(|a| a.to_string().parse() == Ok(header.alg));
    let mut validation = Validation::new(header.alg);
    validation.set_issuer(&[wanted.issuer]);
    validation.set_audience(&[wanted.client_id]);
    validation.set_required_spec_claims(&["exp", "iss", "aud", "sub"]);
    validation.validate_nbf = true;
    let mut why = Unproven::Key(header.kid.clone().unwrap_or_default());
    for key in keys.iter().filter(named).filter(fits) {
        let read = DecodingKey::from_jwk(key).and_then(|key| decode::<Claims>(token, &key, &validation));
        match read {
            Ok(read) => return checked(read.claims, wanted),
            Err(e) => why = e.into(),
        }
    }
    Err(why)
}

/// What the library leaves to its user.
fn checked(claims: Claims, wanted: &Wanted) -> Result<Claims, Unproven> {
    let is = |name: &str, value: &str| claims.get(name).and_then(Value::as_str) == Some(value);
    let for_others = match claims.get("aud") {
        Some(Value::Array(all)) => all.iter().any(|one| one.as_str() != Some(wanted.client_id)),
        _ => !is("aud", wanted.client_id),
    };
    if !is("iss", wanted.issuer) {
        return Err(Unproven::Claim("it names several issuers"));
    }
    if for_others || claims.contains_key("azp") && !is("azp", wanted.client_id) {
        return Err(Unproven::Claim("it was made for others too"));
    }
    let subject = claims.get("sub").and_then(Value::as_str).unwrap_or_default();
    if subject.is_empty() || subject.len() > MAX_SUBJECT {
        return Err(Unproven::Claim("it is about nobody, or about a name of more than 255 letters"));
    }
    if !is("nonce", wanted.nonce) {
        return Err(Unproven::Claim("it belongs to another sign-on"));
    }
    Ok(claims)
}

static VERIFIERS: CryptoProvider = CryptoProvider {
    signer_factory: |_, _| Err(ErrorKind::UnsupportedAlgorithm.into()),
    verifier_factory: verifier,
    key_utils: KeyUtils::new_unimplemented(),
};

/// A key with the way its signatures are made.
enum Way {
    Rsa(&'static signed::RsaParameters),
    Curve(&'static dyn signed::VerificationAlgorithm),
}

struct Key {
    algorithm: Algorithm,
    way: Way,
    key: DecodingKey,
}

fn verifier(algorithm: &Algorithm, key: &DecodingKey) -> Result<Box<dyn JwtVerifier>, Error> {
    let (family, way) = match algorithm {
        Algorithm::RS256 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PKCS1_2048_8192_SHA256)),
        Algorithm::RS384 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PKCS1_2048_8192_SHA384)),
        Algorithm::RS512 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PKCS1_2048_8192_SHA512)),
        Algorithm::PS256 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PSS_2048_8192_SHA256)),
        Algorithm::PS384 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PSS_2048_8192_SHA384)),
        Algorithm::PS512 => (AlgorithmFamily::Rsa, Way::Rsa(&signed::RSA_PSS_2048_8192_SHA512)),
        Algorithm::ES256 => (AlgorithmFamily::Ec, Way::Curve(&signed::ECDSA_P256_SHA256_FIXED)),
        Algorithm::ES384 => (AlgorithmFamily::Ec, Way::Curve(&signed::ECDSA_P384_SHA384_FIXED)),
        Algorithm::EdDSA => (AlgorithmFamily::Ed, Way::Curve(&signed::ED25519)),
        _ => return Err(ErrorKind::UnsupportedAlgorithm.into()),
    };
    if key.family() != family {
        return Err(ErrorKind::InvalidKeyFormat.into());
    }
    Ok(Box::new(Key { algorithm: *algorithm, way, key: key.clone() }))
}

impl Verifier<Vec<u8>> for Key {
    fn verify(&self, message: &[u8], given: &Vec<u8>) -> Result<(), signature::Error> {
        let holds = match (&self.way, self.key.kind()) {
            (Way::Rsa(way), DecodingKeyKind::RsaModulusExponent { n, e }) => {
                RsaPublicKeyComponents { n: without_zeros(n), e: without_zeros(e) }.verify(way, message, given)
            }
            (Way::Curve(way), DecodingKeyKind::SecretOrDer(key)) => {
                UnparsedPublicKey::new(*way, key).verify(message, given)
            }
            _ => return Err(signature::Error::new()),
        };
        holds.map_err(|_| signature::Error::new())
    }
}

impl JwtVerifier for Key {
    fn algorithm(&self) -> Algorithm {
        self.algorithm
    }
}

/// A number without the zeros that some providers write before it.
fn without_zeros(number: &[u8]) -> &[u8] {
    let zeros = number.iter().take_while(|byte| **byte == 0).count();
    number.get(zeros..).unwrap_or(number)
}

#[cfg(test)]
#[allow(clippy::unwrap_used, clippy::indexing_slicing, reason = "a test may end where it stands")]
mod tests {
    use super::*;
    use base64::Engine;
    use base64::engine::general_purpose::URL_SAFE_NO_PAD;
    use ring::rand::SystemRandom;
    use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair};
    use serde_json::json;

    const WANTED: Wanted<'static> = Wanted {
        issuer: "https://sign-on.fennmark.example",
        client_id: "calvex",
        nonce: "n-1",
        algorithms: &[Algorithm::EdDSA, Algorithm::ES256, Algorithm::RS256, Algorithm::PS256],
    };

    fn curve25519() -> Ed25519KeyPair {
        Ed25519KeyPair::from_pkcs8(Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).unwrap().as_ref()).unwrap()
    }

    fn published(key: &Ed25519KeyPair, kid: &str) -> Value {
        let x = URL_SAFE_NO_PAD.encode(key.public_key().as_ref());
        json!({ "kty": "OKP", "crv": "Ed25519", "alg": "EdDSA", "use": "sig", "kid": kid, "x": x })
    }

    /// What a good token says, with `change` over it; null takes a claim away.
    fn claims(change: Value) -> Value {
        let soon = jiff::Timestamp::now().as_second() + 300;
        let mut claims = json!({
            "iss": WANTED.issuer, "sub": "p-17", "aud": "calvex", "exp": soon, "nonce": "n-1", "preferred_username": "olle",
        });
        for (name, value) in change.as_object().unwrap() {
            claims[name] = value.clone();
        }
        claims.as_object_mut().unwrap().retain(|_, value| !value.is_null());
        claims
    }

    fn token(header: Value, claims: &Value, sign: impl FnOnce(&[u8]) -> Vec<u8>) -> String {
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let signed = format!("{}.{}", part(&header), part(claims));
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(sign(signed.as_bytes())))
    }

    #[test]
    fn what_holds_is_read_and_nothing_else() {
        let key = curve25519();
        let keys = keys_of(&json!({ "keys": [
            { "kty": "a form that nobody knows", "kid": "0" },
            { "kty": "RSA", "n": 7, "kid": "0" },
            published(&curve25519(), "old"),
            published(&key, "new"),
        ] }));
        let made = |claims: &Value| {
            token(json!({ "alg": "EdDSA", "kid": "new" }), claims, |text| key.sign(text).as_ref().to_vec())
        };
        let read = proven(&made(&claims(json!({}))), &keys, &WANTED).unwrap();
        assert_eq!((read["sub"].as_str(), read["preferred_username"].as_str()), (Some("p-17"), Some("olle")));
        assert!(proven(&made(&claims(json!({ "aud": ["calvex"], "azp": "calvex" }))), &keys, &WANTED).is_ok());

        let past = jiff::Timestamp::now().as_second() - 300;
        let later = jiff::Timestamp::now().as_second() + 3_000;
        for change in [
            json!({ "iss": "https://elsewhere.example" }),
            json!({ "iss": [WANTED.issuer, "https://elsewhere.example"] }),
            json!({ "iss": null }),
            json!({ "aud": "another" }),
            json!({ "aud": ["calvex", "another"] }),
            json!({ "aud": [] }),
            json!({ "aud": null }),
            json!({ "azp": "another" }),
            json!({ "exp": past }),
            json!({ "exp": null }),
            json!({ "exp": "soon" }),
            json!({ "nbf": later }),
            json!({ "nonce": "n-2" }),
            json!({ "nonce": null }),
            json!({ "sub": null }),
            json!({ "sub": "" }),
            json!({ "sub": 17 }),
            json!({ "sub": "x".repeat(MAX_SUBJECT + 1) }),
        ] {
            assert!(proven(&made(&claims(change.clone())), &keys, &WANTED).is_err(), "{change} is taken");
        }
    }

    #[test]
    fn only_a_key_of_the_provider_signs() {
        let (key, other) = (curve25519(), curve25519());
        let keys = keys_of(&json!({ "keys": [published(&key, "1")] }));
        let good = claims(json!({}));
        let by = |key: &Ed25519KeyPair, header: Value| token(header, &good, |text| key.sign(text).as_ref().to_vec());
        assert!(proven(&by(&key, json!({ "alg": "EdDSA" })), &keys, &WANTED).is_ok());
        assert!(proven(&by(&other, json!({ "alg": "EdDSA" })), &keys, &WANTED).is_err());
        let unknown = proven(&by(&key, json!({ "alg": "EdDSA", "kid": "2" })), &keys, &WANTED).unwrap_err();
        assert!(unknown.to_string().contains("no key `2`"), "{unknown}");
        // Unsigned, signed with what everybody knows, or in a way that the provider does not sign.
        for alg in ["none", "HS256", "RS256", "ES256", "ES384"] {
            assert!(proven(&by(&key, json!({ "alg": alg })), &keys, &WANTED).is_err(), "{alg} is taken");
        }
        let public = key.public_key().as_ref().to_vec();
        let shared = |text: &[u8]| {
            ring::hmac::sign(&ring::hmac::Key::new(ring::hmac::HMAC_SHA256, &public), text).as_ref().to_vec()
        };
        assert!(proven(&token(json!({ "alg": "HS256" }), &good, shared), &keys, &WANTED).is_err());
        assert!(proven(&token(json!({ "alg": "EdDSA" }), &good, |_| Vec::new()), &keys, &WANTED).is_err());
        // A claim changed behind the signature.
        let signed = by(&key, json!({ "alg": "EdDSA" }));
        let parts: Vec<&str> = signed.split('.').collect();
        let changed = URL_SAFE_NO_PAD.encode(claims(json!({ "sub": "p-18" })).to_string());
        assert!(proven(&format!("{}.{changed}.{}", parts[0], parts[2]), &keys, &WANTED).is_err());
        for garbled in ["", ".", "..", "a.b.c", &signed[1..], "ä.ö.ü"] {
            assert!(proven(garbled, &keys, &WANTED).is_err(), "{garbled} is taken");
        }
        // A key that encrypts signs nothing.
        let mut encrypting = published(&key, "1");
        encrypting["use"] = json!("enc");
        assert!(proven(&signed, &keys_of(&json!({ "keys": [encrypting] })), &WANTED).is_err());
        assert!(keys_of(&json!({ "keys": "none" })).is_empty() && keys_of(&json!([])).is_empty());
    }

    #[test]
    fn a_curve_of_the_older_kind_signs_too() {
        let random = SystemRandom::new();
        let way = &ECDSA_P256_SHA256_FIXED_SIGNING;
        let made = EcdsaKeyPair::generate_pkcs8(way, &random).unwrap();
        let key = EcdsaKeyPair::from_pkcs8(way, made.as_ref(), &random).unwrap();
        let point = key.public_key().as_ref();
        let [x, y] = [&point[1..33], &point[33..]].map(|half| URL_SAFE_NO_PAD.encode(half));
        let keys = keys_of(&json!({ "keys": [{ "kty": "EC", "crv": "P-256", "x": x, "y": y }] }));
        let sign = |text: &[u8]| key.sign(&random, text).unwrap().as_ref().to_vec();
        let good = claims(json!({}));
        assert!(proven(&token(json!({ "alg": "ES256" }), &good, sign), &keys, &WANTED).is_ok());
        assert!(proven(&token(json!({ "alg": "ES384" }), &good, sign), &keys, &WANTED).is_err());
        let unlisted = Wanted { algorithms: &[Algorithm::EdDSA], ..WANTED };
        assert!(proven(&token(json!({ "alg": "ES256" }), &good, sign), &keys, &unlisted).is_err());
    }

    // `openssl genrsa 2048`; `openssl dgst -sha256 -sign` over SIGNED, then the same with `-sigopt rsa_padding_mode:pss`.
    const SIGNED: &str = "eyJhbGciOiJSUzI1NiJ9.eyJzdWIiOiJwLTE3In0";
    const MODULUS: &str = "yQwgaD162JFIpbKRowtx6XdaJXp75wH8HQqop3rgNHz8rhSoJBt0O5lGYMmKfBbMgiqdrqlIqxDdKwkiFG9Ho-FnCIuEbEtnJKTo\
        WNBGtPXDxhFWGkAdYbGi_Z2Y10Y9ru145mHF7Be1QljB-MgRgWFL82cN5ui_SwCGH7SdW7HbJXMcWqNpCPGwyEe98DV2dYJNzdwo\
        yNdX3Nbd68eb4raebCX53pNrttTu2Bz9k4h2pzTgiiM-UERjwFSrOmGPSN4QZ14MY3DOJ-UdoQs9f2wdb4eI2A8xCIPfbhc--mFN\
        YqE28aWFRiFp5cGtHUl-pVwmQJwwacKR8vXqqlnWWQ";
    const PKCS1: &str = "oB8UAVr4aC9mlItzOAE1y1jLpJQ5kq82jxRM-PaURtZl7kfasQgNFhmhgnNikibiooRIFWTgttMoAlrATDfuE-rmm93xnMi_DWaJ\
        WknYRr3arenxSwSX5r1I2YBm7QfeL--8ckKdX3HCvoQvZQzddNEa-lrdMJOBcNR77jFdff4Y44mgz_GxD_nudGXYdIm3w0ceGX9m\
        uy20PjP48oRqjIDTNXc0gvxiZDHOAQnaL-8bilsM-e1OdiqkGM2l7y9r9HN2F20AIm8NoY2grHjUEWtIK7skT63qlPn5w1ftm-1i\
        yOz8e7a_DYPUYtDORU7Tl0Wp_r0cSR-M7SgEC8M6rA";
    const PSS: &str = "sAGgw1lrZa0Mplgox5jtVEWzfRUVPE0EpDDiSGnsNTAYOheLcu5Y_XtXYe4wFfm-q0wZ5gK_-tr4TQY_et0MNcfslY2sUxl1zr41\
        Ab3AvhKXuFdsHYQIC67fDQ5zFIbbQqYE4Bm4YSuiWC4gya5XH0v9aigf9ayAs8GsP4dlEmCOGID9Vk1NWYxOPwYJMFWfHLERwKHo\
        9TcJpUtthKnqbNoPJi6BDZW2JOYTgXehC9Q0mS3446mzqN9hca-kvuzpVMq_YxAqw8Q2fOBYfgHkiQrc6RUhLb4pZzesmSWuDI4d\
        jiu_clGk73xWflgePe8hakkO_kNUDlK28tmQFQjMIw";

    #[test]
    fn signatures_made_elsewhere_hold() {
        let zeros = URL_SAFE_NO_PAD.encode([&[0, 0], &URL_SAFE_NO_PAD.decode(MODULUS).unwrap()[..]].concat());
        for modulus in [MODULUS, &zeros] {
            let key = DecodingKey::from_rsa_components(modulus, "AQAB").unwrap();
            let holds = |algorithm, text: &str, given: &str| {
                let given = URL_SAFE_NO_PAD.decode(given).unwrap();
                verifier(&algorithm, &key).unwrap().verify(text.as_bytes(), &given).is_ok()
            };
            assert!(holds(Algorithm::RS256, SIGNED, PKCS1) && holds(Algorithm::PS256, SIGNED, PSS));
            assert!(!holds(Algorithm::PS256, SIGNED, PKCS1) && !holds(Algorithm::RS512, SIGNED, PKCS1));
            assert!(!holds(Algorithm::RS256, "another text", PKCS1) && !holds(Algorithm::RS256, SIGNED, ""));
        }
        assert!(verifier(&Algorithm::EdDSA, &DecodingKey::from_rsa_components(MODULUS, "AQAB").unwrap()).is_err());
    }
}
