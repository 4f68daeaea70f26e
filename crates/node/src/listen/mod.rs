//! Step 1, listening: every way in has its socket, bound before anything else is done, so that an address in use does not
//! cost a database start to find out.

mod http;
mod tls;

pub use tls::Certificates;

use crate::config::settings::Settings;
use crate::error::{Result, ServiceError};
use crate::intake::{grpc_router, serve_lines, serve_syslog_tcp, serve_syslog_tls, serve_syslog_udp};
use crate::state::Parts;
use axum::Router;
use calvex_wire::api::WayIn;
use std::net::SocketAddr;
use std::sync::Arc;
use tls::Speaks;
use tokio::net::{TcpListener, UdpSocket};
use tokio::sync::watch;
use tokio::task::JoinSet;

/// Sockets, bound and not yet served.
pub struct Listeners {
    http: TcpListener,
    otlp: Option<TcpListener>,
    grpc: Option<TcpListener>,
    lines: Option<TcpListener>,
    syslog_udp: Option<UdpSocket>,
    syslog_tcp: Option<TcpListener>,
    syslog_tls: Option<TcpListener>,
    /// Of the ways in that are encrypted always.
    pub certificates: Option<Arc<Certificates>>,
    /// Of those that are plain without it.
    encrypted: Option<Arc<Certificates>>,
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
    /// Whether HTTP, gRPC and JSON lines speak TLS.
    pub encrypted: bool,
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

/// The settings of ways in that speak TLS wherever there is a certificate, and are plain without one.
const EITHER: [&str; 4] = ["http.listen", "http.otlp_listen", "grpc.listen", "lines.listen"];

/// A plain way in on an address that others reach, where no setting says that this is meant.
fn exposed(settings: &Settings, encrypted: bool) -> Option<(&'static str, String)> {
    if encrypted || settings.flag("tls.allow_plain") {
        return None;
    }
    let reaches = |name: &&str| match settings.text(name).parse::<SocketAddr>() {
        Ok(address) => !address.ip().to_canonical().is_loopback(),
        Err(_) => !is_off(settings.text(name)) && !settings.text(name).starts_with("localhost:"),
    };
    EITHER.into_iter().find(reaches).map(|name| (name, settings.text(name).to_owned()))
}

impl Listeners {
    /// Binds what the settings ask for.
    pub async fn bind(settings: &Settings) -> Result<Self> {
        if let Some((one, other, address)) = clash(settings) {
            let reported = format!("{one} and {other} both name {address}; give each a port of its own");
            return Err(ServiceError::Setting(reported));
        }
        let certificates = Certificates::of(settings)?;
        let encrypted = certificates.is_some() && settings.flag("tls.everywhere");
        if let Some((name, address)) = exposed(settings, encrypted) {
            return Err(ServiceError::Setting(format!(
                "{name} = `{address}` would send keys and passwords unencrypted; set tls.cert and tls.key, or tls.allow_plain where something in front encrypts"
            )));
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
                Some(_) if certificates.is_none() => {
                    let reported = "syslog.tls_listen needs tls.cert and tls.key; `calvex admin certificate` makes them for a trial";
                    return Err(ServiceError::Setting(reported.into()));
                }
                listener => listener,
            },
            encrypted: certificates.clone().filter(|_| encrypted),
            certificates,
        })
    }

    /// Where each is.
    ///
    /// # Errors
    /// Where the system does not return it.
    pub fn addresses(&self) -> Result<Addresses> {
        let of = |listener: &Option<TcpListener>| listener.as_ref().and_then(|l| l.local_addr().ok());
        Ok(Addresses {
            http: self.http.local_addr().map_err(cannot_listen("http.listen"))?,
            otlp: of(&self.otlp),
            grpc: of(&self.grpc),
            lines: of(&self.lines),
            syslog_udp: self.syslog_udp.as_ref().and_then(|s| s.local_addr().ok()),
            syslog_tcp: of(&self.syslog_tcp),
            syslog_tls: of(&self.syslog_tls),
            encrypted: self.encrypted.is_some(),
        })
    }

    /// Serves all of them until `stopping`: the main port by `main`, and OTLP's own by `otlp_router`.
    ///
    /// # Errors
    /// Where the library has no safe protocol.
    pub fn serve(
        self,
        parts: &Parts,
        main: Router,
        otlp_router: Router,
        stopping: &watch::Receiver<bool>,
    ) -> Result<JoinSet<()>> {
        let mut tasks = JoinSet::new();
        let tls = |speaks| self.encrypted.as_ref().map(|c| c.acceptor(speaks)).transpose();
        let (base, receiving) = (&parts.base, &parts.receiving);
        let mut http = |name, listener, speaks, router| {
            let door = http::Door { name, listener, tls: tls(speaks)?, router };
            tasks.spawn(http::serve(base.clone(), door, stopping.clone()));
            Ok::<_, ServiceError>(())
        };
        http("HTTP port", self.http, Speaks::Http, main)?;
        if let Some(listener) = self.otlp {
            http("OTLP port", listener, Speaks::Http, otlp_router)?;
        }
        if let Some(listener) = self.grpc {
            http("gRPC port", listener, Speaks::Grpc, grpc_router(receiving.clone()))?;
        }
        if let Some(listener) = self.lines {
            tasks.spawn(serve_lines(receiving.clone(), listener, tls(Speaks::Other)?, stopping.clone()));
        }
        if let Some(socket) = self.syslog_udp {
            tasks.spawn(serve_syslog_udp(receiving.clone(), socket, stopping.clone()));
        }
        if let Some(listener) = self.syslog_tcp {
            tasks.spawn(serve_syslog_tcp(receiving.clone(), listener, stopping.clone()));
        }
        if let (Some(listener), Some(certificates)) = (self.syslog_tls, &self.certificates) {
            let tls = certificates.acceptor(Speaks::Other)?;
            tasks.spawn(serve_syslog_tls(receiving.clone(), listener, tls, stopping.clone()));
        }
        Ok(tasks)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plain_port_is_for_this_machine_alone() {
        let exposed_of = |settings: &[(&'static str, &str)], encrypted| {
            let options: Vec<_> = settings.iter().map(|(name, value)| (*name, (*value).to_owned(), "--x")).collect();
            exposed(&Settings::read(None, &|_| None, &options).unwrap(), encrypted).map(|(name, _)| name)
        };
        assert_eq!(exposed_of(&[], false), None);
        for outside in ["0.0.0.0:1", "10.4.0.1:1", "[::]:1", "calvex.fennmark.example:1"] {
            assert_eq!(exposed_of(&[("lines.listen", outside)], false), Some("lines.listen"), "{outside}");
            assert_eq!(exposed_of(&[("lines.listen", outside)], true), None);
            assert_eq!(exposed_of(&[("lines.listen", outside), ("tls.allow_plain", "true")], false), None);
        }
        assert_eq!(exposed_of(&[("http.listen", "[::1]:1"), ("grpc.listen", "off")], false), None);
    }

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
