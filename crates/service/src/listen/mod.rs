//! Step 1, listening: every way in has its socket, bound before anything else is done, so that an address in use does not
//! cost a database start to find out.

mod http;

use crate::config::settings::Settings;
use crate::error::{Result, ServiceError};
use crate::intake::{grpc_router, serve_lines, serve_syslog_tcp, serve_syslog_tls, serve_syslog_udp};
use crate::state::Parts;
use calvex_wire::api::WayIn;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::net::SocketAddr;
use std::sync::Arc;
use tokio::net::{TcpListener, UdpSocket};
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;

/// Sockets, bound and not yet served.
pub(crate) struct Listeners {
    http: TcpListener,
    otlp: Option<TcpListener>,
    grpc: Option<TcpListener>,
    lines: Option<TcpListener>,
    syslog_udp: Option<UdpSocket>,
    syslog_tcp: Option<TcpListener>,
    syslog_tls: Option<(TcpListener, TlsAcceptor)>,
}

/// Where the ways in are.
#[derive(Debug, Clone, Copy)]
pub struct Addresses {
    /// Console, interface and intake over HTTP.
    pub http: SocketAddr,
    /// OTLP over HTTP on a port of its own.
    pub otlp: Option<SocketAddr>,
    /// OTLP over gRPC.
    pub grpc: Option<SocketAddr>,
    /// JSON lines over TCP.
    pub lines: Option<SocketAddr>,
    /// Syslog in datagrams.
    pub syslog_udp: Option<SocketAddr>,
    /// Syslog in streams.
    pub syslog_tcp: Option<SocketAddr>,
    /// Syslog in encrypted streams.
    pub syslog_tls: Option<SocketAddr>,
}

impl Addresses {
    /// Every way in, as shown to those who send.
    pub fn ways_in(&self) -> Vec<WayIn> {
        let own = WayIn { name: "NDJSON over HTTP".to_owned(), address: String::new() };
        let others = [
            ("OTLP over HTTP", self.otlp),
            ("OTLP over gRPC", self.grpc),
            ("JSON lines over TCP", self.lines),
            ("syslog over UDP", self.syslog_udp),
            ("syslog over TCP", self.syslog_tcp),
            ("syslog over TLS", self.syslog_tls),
        ];
        let reported = |(name, at): (&str, Option<SocketAddr>)| {
            // OTLP over HTTP is taken on the main port in any case.
            let address = at.map(|at| at.to_string()).or((name == "OTLP over HTTP").then(String::new))?;
            Some(WayIn { name: name.to_owned(), address })
        };
        std::iter::once(own).chain(others.into_iter().filter_map(reported)).collect()
    }
}

fn is_off(address: &str) -> bool {
    address == "off" || address.is_empty()
}

fn cannot_listen(address: &str) -> impl Fn(std::io::Error) -> ServiceError + '_ {
    |e| ServiceError::Listen(address.to_owned(), e.to_string())
}

async fn bind(settings: &Settings, name: &str) -> Result<Option<TcpListener>> {
    let address = settings.text(name);
    if is_off(address) {
        return Ok(None);
    }
    Ok(Some(TcpListener::bind(address).await.map_err(cannot_listen(address))?))
}

/// As [`bind`] for a standard port: a default that is taken is no reason not to start; a chosen one is.
async fn bind_standard(settings: &Settings, name: &str) -> Result<Option<TcpListener>> {
    match bind(settings, name).await {
        Err(e) if !settings.is_set(name) => {
            tracing::warn!("{e}; OTLP is still taken on http.listen");
            Ok(None)
        }
        done => done,
    }
}

/// The settings of TCP ports. The first two defaults of standard ports give way, see [`bind_standard`].
const TCP: [&str; 6] =
    ["http.listen", "http.otlp_listen", "grpc.listen", "lines.listen", "syslog.tcp_listen", "syslog.tls_listen"];

/// Two settings that name one TCP port, and the address that the second has for it.
fn clash(settings: &Settings) -> Option<(&'static str, &'static str, String)> {
    let gives_way = |name: &str| matches!(name, "http.otlp_listen" | "grpc.listen") && !settings.is_set(name);
    let mut named: Vec<(&'static str, SocketAddr)> = Vec::new();
    for name in TCP.into_iter().filter(|name| !gives_way(name)) {
        // A host name, or an address that is none, is reported when it is bound.
        let Ok(address) = settings.text(name).parse::<SocketAddr>() else { continue };
        let meets = |other: &SocketAddr| {
            let ip = other.ip() == address.ip() || other.ip().is_unspecified() || address.ip().is_unspecified();
            ip && other.port() == address.port() && address.port() != 0
        };
        if let Some((other, _)) = named.iter().find(|(_, other)| meets(other)) {
            return Some((other, name, address.to_string()));
        }
        named.push((name, address));
    }
    None
}

/// The certificate and key that the settings name.
fn tls(settings: &Settings) -> Result<TlsAcceptor> {
    let (cert, key) = (settings.text("tls.cert"), settings.text("tls.key"));
    let bad = |name: &str, path: &str, why: String| {
        ServiceError::Setting(format!("{name} = `{path}`: {why}; give a PEM file, or set syslog.tls_listen to off"))
    };
    let chain = CertificateDer::pem_file_iter(cert).and_then(|list| list.collect::<Result<Vec<_>, _>>());
    let chain = chain.map_err(|e| bad("tls.cert", cert, e.to_string()))?;
    let secret = PrivateKeyDer::from_pem_file(key).map_err(|e| bad("tls.key", key, e.to_string()))?;
    let config = rustls::ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .and_then(|builder| builder.with_no_client_auth().with_single_cert(chain, secret))
        .map_err(|e| bad("tls.cert", cert, e.to_string()))?;
    Ok(TlsAcceptor::from(Arc::new(config)))
}

impl Listeners {
    /// Binds what the settings ask for.
    pub(crate) async fn bind(settings: &Settings) -> Result<Self> {
        if let Some((one, other, address)) = clash(settings) {
            let reported = format!("{one} and {other} both name {address}; give each a port of its own");
            return Err(ServiceError::Setting(reported));
        }
        let http = settings.text("http.listen");
        let udp = settings.text("syslog.udp_listen");
        Ok(Listeners {
            http: TcpListener::bind(http).await.map_err(cannot_listen(http))?,
            otlp: bind_standard(settings, "http.otlp_listen").await?,
            grpc: bind_standard(settings, "grpc.listen").await?,
            lines: bind(settings, "lines.listen").await?,
            syslog_udp: match is_off(udp) {
                true => None,
                false => Some(UdpSocket::bind(udp).await.map_err(cannot_listen(udp))?),
            },
            syslog_tcp: bind(settings, "syslog.tcp_listen").await?,
            syslog_tls: match bind(settings, "syslog.tls_listen").await? {
                Some(listener) => Some((listener, tls(settings)?)),
                None => None,
            },
        })
    }

    /// Where each is.
    ///
    /// # Errors
    /// Where the system does not return it.
    pub(crate) fn addresses(&self) -> Result<Addresses> {
        let of = |listener: &Option<TcpListener>| listener.as_ref().and_then(|l| l.local_addr().ok());
        Ok(Addresses {
            http: self.http.local_addr().map_err(cannot_listen("http.listen"))?,
            otlp: of(&self.otlp),
            grpc: of(&self.grpc),
            lines: of(&self.lines),
            syslog_udp: self.syslog_udp.as_ref().and_then(|s| s.local_addr().ok()),
            syslog_tcp: of(&self.syslog_tcp),
            syslog_tls: self.syslog_tls.as_ref().and_then(|(l, _)| l.local_addr().ok()),
        })
    }

    /// Serves all of them until `stopping`.
    pub(crate) fn serve(self, parts: &Parts, stopping: &watch::Receiver<bool>) -> JoinSet<()> {
        let mut tasks = JoinSet::new();
        let router = crate::http::router(parts.clone());
        tasks.spawn(http::serve(parts.base.clone(), "HTTP port", self.http, router, stopping.clone()));
        if let Some(listener) = self.otlp {
            let router = crate::http::otlp_router(parts.clone());
            tasks.spawn(http::serve(parts.base.clone(), "OTLP port", listener, router, stopping.clone()));
        }
        if let Some(listener) = self.grpc {
            let router = grpc_router(parts.receiving.clone());
            tasks.spawn(http::serve(parts.base.clone(), "gRPC port", listener, router, stopping.clone()));
        }
        if let Some(listener) = self.lines {
            tasks.spawn(serve_lines(parts.receiving.clone(), listener, stopping.clone()));
        }
        if let Some(socket) = self.syslog_udp {
            tasks.spawn(serve_syslog_udp(parts.receiving.clone(), socket, stopping.clone()));
        }
        if let Some(listener) = self.syslog_tcp {
            tasks.spawn(serve_syslog_tcp(parts.receiving.clone(), listener, stopping.clone()));
        }
        if let Some((listener, tls)) = self.syslog_tls {
            tasks.spawn(serve_syslog_tls(parts.receiving.clone(), listener, tls, stopping.clone()));
        }
        tasks
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_settings_of_one_port_are_named() {
        let clash_of = |settings: &[(&'static str, &str)]| {
            let options: Vec<_> = settings.iter().map(|(name, value)| (*name, (*value).to_owned(), "--x")).collect();
            clash(&Settings::read(None, &|_| None, &options).unwrap()).map(|(one, other, _)| (one, other))
        };
        let (http, grpc, lines) = ("http.listen", "grpc.listen", "lines.listen");
        assert_eq!(clash_of(&[(http, "127.0.0.1:9"), (grpc, "127.0.0.1:9")]), Some((http, grpc)));
        assert_eq!(clash_of(&[(http, "0.0.0.0:9"), (lines, "127.0.0.1:9")]), Some((http, lines)));
        assert_eq!(clash_of(&[(http, "127.0.0.1:9"), (grpc, "127.0.0.2:9")]), None);
        assert_eq!(clash_of(&[(http, "127.0.0.1:0"), (grpc, "127.0.0.1:0")]), None);
        assert_eq!(clash_of(&[(http, "127.0.0.1:4317")]), None, "a default gives way");
    }
}
