//! What an OTLP request that was not taken is answered with over HTTP: a `Status` message, in the request's encoding.
//!
//! ```text
//! google.rpc.Status   1 code (int32)   2 message (string)
//! ```
//!
//! The codes are those of gRPC; an exporter decides by the HTTP status whether it tries again.

use super::Encoding;

/// A `Status` message.
#[derive(Clone, PartialEq, prost::Message, serde::Serialize)]
pub struct OtlpStatus {
    /// A code of gRPC.
    #[prost(int32, tag = "1")]
    pub code: i32,
    /// What went wrong, where, and the cure.
    #[prost(string, tag = "2")]
    pub message: String,
}

impl OtlpStatus {
    /// Of an HTTP status.
    pub fn of_http(status: u16, message: impl Into<String>) -> Self {
        let code = match status {
            401 => 16,
            403 => 7,
            404 => 12,
            408 => 4,
            413 | 429 => 8,
            503 => 14,
            500..=599 => 13,
            _ => 3,
        };
        OtlpStatus { code, message: message.into() }
    }

    /// The bytes of the answer.
    pub fn encode_as(&self, encoding: Encoding) -> Vec<u8> {
        super::encode(self, encoding)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_encodings() {
        let status = OtlpStatus::of_http(401, "no key");
        assert_eq!(status.encode_as(Encoding::Protobuf), b"\x08\x10\x12\x06no key");
        assert_eq!(status.encode_as(Encoding::Json), br#"{"code":16,"message":"no key"}"#);
    }
}
