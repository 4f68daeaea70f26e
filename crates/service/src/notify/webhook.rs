//! Webhooks signed as Standard Webhooks (v1) says: `webhook-id`, `webhook-timestamp`, and in `webhook-signature` the
//! base64 of HMAC-SHA256 over `id.timestamp.body`, under the secret behind `whsec_`.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use calvex_language::domain::contact::Notification;
use calvex_node::error::{Result, ServiceError};
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

/// How long a receiver may take.
const WAIT: Duration = Duration::from_secs(10);

/// Checks the form of a target.
///
/// # Errors
/// Where it is no http or https URL with a host.
pub fn check_webhook_url(url: &str) -> Result<()> {
    let parsed = reqwest::Url::parse(url).ok().filter(|u| ["http", "https"].contains(&u.scheme()) && u.has_host());
    match parsed {
        Some(_) if url.len() <= 512 => Ok(()),
        _ => Err(ServiceError::BadRequest(format!(
            "`{url}` is no webhook address; use http://host/path or https://host/path"
        ))),
    }
}

/// The signature header for a body.
///
/// # Errors
/// Where the secret is not base64 behind `whsec_`.
pub fn sign_webhook(secret: &str, id: &str, timestamp_s: i64, body: &str) -> std::result::Result<String, String> {
    let key =
        secret.strip_prefix("whsec_").and_then(|s| STANDARD.decode(s).ok()).ok_or("the webhook's secret is damaged")?;
    let mut mac = Hmac::<Sha256>::new_from_slice(&key).map_err(|e| e.to_string())?;
    mac.update(format!("{id}.{timestamp_s}.{body}").as_bytes());
    Ok(format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes())))
}

/// The host of a target, which alone is shown: the rest of an address may be a secret.
pub fn host_of(target: &str) -> String {
    let url = reqwest::Url::parse(target).ok();
    url.and_then(|u| u.host_str().map(str::to_owned)).unwrap_or_else(|| "no host".to_owned())
}

/// A client that connects to `addresses` and nowhere else, whatever the host's name resolves to by then, and follows no
/// redirects, so that a receiver cannot send us elsewhere.
fn client(host: &str, addresses: &[SocketAddr]) -> std::result::Result<reqwest::Client, String> {
    let built = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .timeout(WAIT)
        .resolve_to_addrs(host, addresses)
        .build();
    built.map_err(|e| e.to_string())
}

/// Where a message goes, and under which signatures.
pub struct Envelope<'a> {
    /// The address.
    pub target: &'a str,
    /// Each signs it; a receiver takes the signature of the secret that it knows.
    pub secrets: &'a [String],
    /// Whose message it is.
    pub installation: &'a str,
    /// When it is sent.
    pub now_ns: i64,
}

/// Delivers one notification.
pub async fn send(message: &Notification, envelope: Envelope<'_>, local: bool) -> std::result::Result<(), String> {
    let Envelope { target, secrets, installation, now_ns } = envelope;
    let url = reqwest::Url::parse(target).map_err(|e| e.to_string())?;
    let host = url.host_str().unwrap_or("").to_owned();
    let client = client(&host, &resolve(&url, local).await?)?;
    // A receiver may serve several installations, and recognises repeats by this id alone.
    let (id, timestamp_s) = (format!("msg_{installation}_{}", message.id), now_ns / 1_000_000_000);
    let signatures: Vec<String> = secrets
        .iter()
        .map(|secret| sign_webhook(secret, &id, timestamp_s, &message.payload))
        .collect::<std::result::Result<_, _>>()?;
    let request = client
        .post(url)
        .header("content-type", "application/json")
        .header("webhook-id", id)
        .header("webhook-timestamp", timestamp_s)
        .header("webhook-signature", signatures.join(" "))
        .body(message.payload.clone());
    let response = request.send().await.map_err(|e| e.without_url().to_string())?;
    let status = response.status();
    if status.is_success() { Ok(()) } else { Err(format!("the receiver answered {status}")) }
}

/// The addresses of a target, resolved once; none of them may lie in the service's own network unless `local`.
async fn resolve(url: &reqwest::Url, local: bool) -> std::result::Result<Vec<SocketAddr>, String> {
    let host = url.host_str().unwrap_or("").trim_matches(['[', ']']).to_owned();
    let port = url.port_or_known_default().unwrap_or(443);
    let found = tokio::net::lookup_host((host.as_str(), port)).await.map_err(|e| format!("{host}: {e}"))?;
    let found: Vec<SocketAddr> = found.collect();
    if !local && found.iter().any(|a| is_local(a.ip())) {
        return Err(format!("{host} is a local address; set notify.webhook_local to allow it"));
    }
    Ok(found)
}

/// Addresses that are not out in the internet: by the registries of special addresses (RFC 6890 and its updates), and
/// IPv6 addresses that carry such an IPv4 address within.
fn is_local(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(v4) => {
            let [a, b, c, _] = v4.octets();
            v4.is_loopback()
                || v4.is_private()
                || v4.is_link_local()
                || v4.is_multicast()
                || a == 0
                || a >= 240
                || (a == 100 && (64..128).contains(&b))
                || (a == 192 && b == 0 && c == 0)
                || (a == 198 && (b == 18 || b == 19))
        }
        IpAddr::V6(v6) => {
            v6.is_loopback()
                || v6.is_unspecified()
                || v6.is_unique_local()
                || v6.is_unicast_link_local()
                || v6.is_multicast()
                || carried(&v6).is_some_and(|v4| is_local(IpAddr::V4(v4)))
                // Translation within a network of one's own (RFC 8215).
                || v6.segments()[..3] == [0x64, 0xff9b, 1]
        }
    }
}

/// The IPv4 address that an IPv6 address carries: mapped `::ffff:a.b.c.d`, compatible `::a.b.c.d`, translated
/// `64:ff9b::a.b.c.d` (RFC 6052), tunnelled `2002:aabb:ccdd::` (RFC 3056).
fn carried(v6: &Ipv6Addr) -> Option<Ipv4Addr> {
    let [s0, s1, s2, s3, s4, s5, high, low] = v6.segments();
    let v4 = |high: u16, low: u16| Ipv4Addr::from(u32::from(high) << 16 | u32::from(low));
    match [s0, s1, s2, s3, s4, s5] {
        [0, 0, 0, 0, 0, 0 | 0xffff] | [0x64, 0xff9b, 0, 0, 0, 0] => Some(v4(high, low)),
        [0x2002, high, low, ..] => Some(v4(high, low)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signatures_fit_the_standards_own_example() {
        let signature = sign_webhook(
            "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw",
            "msg_p5jXN8AQM9LWM0D4loKWxJek",
            1_614_265_330,
            r#"{"test": 2432232314}"#,
        );
        assert_eq!(signature.unwrap(), "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
        assert!(sign_webhook("x", "a", 1, "").is_err());
    }

    #[tokio::test]
    async fn the_address_that_was_checked_is_the_one_connected_to() {
        // The client wants a TLS provider chosen, also for plain HTTP.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let at = listener.local_addr().unwrap();
        // The name resolves to nothing; the client goes to the address it was given all the same.
        let client = client("hook.test", &[at]).unwrap();
        let asking = tokio::spawn(async move { client.get(format!("http://hook.test:{}/x", at.port())).send().await });
        assert!(listener.accept().await.is_ok());
        asking.abort();
        let url = |text: &str| reqwest::Url::parse(text).unwrap();
        assert!(resolve(&url("http://127.0.0.1/x"), false).await.is_err());
        assert!(resolve(&url("http://[::1]:99/x"), false).await.is_err());
        assert_eq!(resolve(&url("http://127.0.0.1:81/x"), true).await.unwrap()[0].port(), 81);
        assert_eq!(host_of("https://hook.test/secret?token=1"), "hook.test");
    }

    #[test]
    fn local_addresses_are_told() {
        for local in [
            "127.0.0.1",
            "10.1.2.3",
            "192.168.0.1",
            "169.254.1.1",
            "::1",
            "fd00::1",
            "::ffff:127.0.0.1",
            "100.64.0.1",
            "0.0.0.0",
            "0.1.2.3",
            "64:ff9b::7f00:1",
            "64:ff9b::10.1.2.3",
            "64:ff9b:1::1",
            "::127.0.0.1",
            "::10.0.0.1",
            "2002:7f00:1::",
            "224.0.0.1",
            "ff02::1",
            "240.0.0.1",
            "255.255.255.255",
            "192.0.0.8",
            "198.18.0.1",
        ] {
            assert!(is_local(local.parse().unwrap()), "{local}");
        }
        for far in ["203.0.113.9", "2001:db8::1", "64:ff9b::203.0.113.9", "2002:cb00:7109::1"] {
            assert!(!is_local(far.parse().unwrap()), "{far}");
        }
        assert!(check_webhook_url("ftp://x/").is_err() && check_webhook_url("http://hook.test/x").is_ok());
    }
}
