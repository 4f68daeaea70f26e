//! Webhooks signed as Standard Webhooks (v1) says: `webhook-id`, `webhook-timestamp`, and in `webhook-signature` the
//! base64 of HMAC-SHA256 over `id.timestamp.body`, under the secret behind `whsec_`.

use crate::error::{Result, ServiceError};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use calvex_store::records::alerts::OutboxRow;
use hmac::{Hmac, KeyInit, Mac};
use sha2::Sha256;
use std::net::IpAddr;
use std::time::Duration;

/// How long a receiver may take.
const WAIT: Duration = Duration::from_secs(10);

/// A client that follows no redirects, so that a receiver cannot send us elsewhere.
pub fn client() -> std::result::Result<reqwest::Client, String> {
    let built = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().timeout(WAIT).build();
    built.map_err(|e| e.to_string())
}

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

/// Delivers one notification.
pub async fn send(
    client: &reqwest::Client,
    message: &OutboxRow,
    now_ns: i64,
    local: bool,
) -> std::result::Result<(), String> {
    let url = reqwest::Url::parse(&message.target).map_err(|e| e.to_string())?;
    if !local {
        refuse_local(&url).await?;
    }
    let (id, timestamp_s) = (format!("msg_{}", message.id), now_ns / 1_000_000_000);
    let signature = sign_webhook(message.secret.as_deref().unwrap_or(""), &id, timestamp_s, &message.payload)?;
    let request = client
        .post(url)
        .header("content-type", "application/json")
        .header("webhook-id", id)
        .header("webhook-timestamp", timestamp_s)
        .header("webhook-signature", signature)
        .body(message.payload.clone());
    let response = request.send().await.map_err(|e| e.without_url().to_string())?;
    let status = response.status();
    if status.is_success() { Ok(()) } else { Err(format!("the receiver answered {status}")) }
}

/// Keeps webhooks from reaching into the service's own network.
async fn refuse_local(url: &reqwest::Url) -> std::result::Result<(), String> {
    let host = url.host_str().unwrap_or("").trim_matches(['[', ']']).to_owned();
    let port = url.port_or_known_default().unwrap_or(443);
    let found = tokio::net::lookup_host((host.as_str(), port)).await.map_err(|e| format!("{host}: {e}"))?;
    for address in found {
        if is_local(address.ip()) {
            return Err(format!("{host} is a local address; set notify.webhook_local to allow it"));
        }
    }
    Ok(())
}

fn is_local(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(v4) => {
            let [a, b, ..] = v4.octets();
            v4.is_loopback()
                || v4.is_private()
                || v4.is_link_local()
                || v4.is_unspecified()
                || v4.is_broadcast()
                || (a == 100 && (64..128).contains(&b))
        }
        IpAddr::V6(v6) => match v6.to_ipv4_mapped() {
            Some(v4) => is_local(IpAddr::V4(v4)),
            None => v6.is_loopback() || v6.is_unspecified() || v6.is_unique_local() || v6.is_unicast_link_local(),
        },
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

    #[test]
    fn local_addresses_are_told() {
        for local in
            ["127.0.0.1", "10.1.2.3", "192.168.0.1", "169.254.1.1", "::1", "fd00::1", "::ffff:127.0.0.1", "100.64.0.1"]
        {
            assert!(is_local(local.parse().unwrap()), "{local}");
        }
        for far in ["203.0.113.9", "2001:db8::1"] {
            assert!(!is_local(far.parse().unwrap()), "{far}");
        }
        assert!(check_webhook_url("ftp://x/").is_err() && check_webhook_url("http://hook.test/x").is_ok());
    }
}
