//! Mail by SMTP.

use crate::error::{Result, ServiceError};
use calvex_language::domain::rule::{AlertMove, Notification};
use lettre::message::Mailbox;
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use serde_json::Value;
use std::time::Duration;

/// Checks the form of an address.
///
/// # Errors
/// Where it is none.
pub fn check_mail_address(address: &str) -> Result<()> {
    let reported =
        |_| ServiceError::BadRequest(format!("`{address}` is no mail address; one looks like oncall@fennmark.test"));
    address.parse::<Mailbox>().map(|_| ()).map_err(reported)
}

/// Delivers one notification.
pub async fn send(message: &Notification, server: &str, from: &str) -> std::result::Result<(), String> {
    let (host, port) = server.rsplit_once(':').ok_or("notify.mail_server is not set as host:port")?;
    let port: u16 = port.parse().map_err(|_| format!("notify.mail_server `{server}` has no port"))?;
    let (subject, text) = words(message);
    let mail = Message::builder()
        .from(from.parse::<Mailbox>().map_err(|e| format!("notify.mail_from `{from}`: {e}"))?)
        .to(message.target.parse::<Mailbox>().map_err(|e| e.to_string())?)
        .message_id(Some(format!("<calvex-{}@calvex>", message.id)))
        .subject(subject)
        .body(text)
        .map_err(|e| e.to_string())?;
    let transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(host)
        .port(port)
        .timeout(Some(Duration::from_secs(10)))
        .build();
    transport.send(mail).await.map(|_| ()).map_err(|e| e.to_string())
}

/// Subject and text of a notification.
fn words(message: &Notification) -> (String, String) {
    let payload: Value = serde_json::from_str(&message.payload).unwrap_or_default();
    let data = &payload["data"];
    let text = |name: &str| data[name].as_str().unwrap_or("").to_owned();
    let late = if data["late"] == Value::Bool(true) { " (seen late)" } else { "" };
    let subject = format!("{}: {}{late}", message.what.name(), text("rule"));
    let mut lines = vec![
        format!(
            "{} {} at {}{late}",
            text("rule"),
            message.what.name(),
            if message.what == AlertMove::Ended { text("ended") } else { text("raised") }
        ),
        String::new(),
        format!("count    {} in {} s (above {})", data["count"], data["window_s"], data["above"]),
        format!("query    {}", text("query")),
        format!("window   {} to {}", text("evidence_from"), text("raised")),
    ];
    if !text("console").is_empty() {
        lines.push(format!("console  {}/alerts", text("console").trim_end_matches('/')));
    }
    (subject, lines.join("\r\n") + "\r\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use calvex_language::domain::rule::NotifyBy;

    #[test]
    fn subject_and_text_say_what_and_when() {
        let payload = r#"{"data":{"rule":"lease errors","query":"severity>=error","window_s":300,"above":20,"count":31,"raised":"R","ended":null,"late":true,"evidence_from":"F","console":"http://c"}}"#;
        let row = Notification {
            id: 1,
            alert_id: 1,
            by: NotifyBy::Mail,
            what: AlertMove::Raised,
            target: String::new(),
            secret: None,
            payload: payload.into(),
            tries: 0,
            done_ns: None,
            error: String::new(),
        };
        let (subject, text) = words(&row);
        assert_eq!(subject, "raised: lease errors (seen late)");
        assert!(text.contains("count    31 in 300 s (above 20)") && text.contains("http://c/alerts"), "{text}");
        assert!(check_mail_address("no address").is_err());
    }
}
