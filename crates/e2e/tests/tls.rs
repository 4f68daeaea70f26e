//! Every way in by TLS: with the client, curl, openssl, exporters, syslog; old protocols are refused; the certificate
//! changes under load without a failed request.

#![allow(clippy::indexing_slicing, reason = "JSON is asked by place; what is missing is null and fails its assertion")]

use anyhow::{Context, Result, ensure};
use calvex_e2e::service::{Service, binary, wait_for};
use std::io::{Read, Write};
use std::net::TcpListener;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

fn make_certificate(dir: &Path) -> Result<()> {
    let made = Command::new(binary()).args(["admin", "certificate", "--to"]).arg(dir).output()?;
    ensure!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    Ok(())
}

struct Encrypted {
    service: Service,
    folder: tempfile::TempDir,
    ca: String,
}

fn start() -> Result<Encrypted> {
    let folder = tempfile::tempdir()?;
    make_certificate(folder.path())?;
    let file = |name: &str| folder.path().join(name).to_string_lossy().into_owned();
    let service = Service::start(&[
        ("CALVEX_TLS_CERT", &file("cert.pem")),
        ("CALVEX_TLS_KEY", &file("key.pem")),
        ("CALVEX_CA", &file("ca.pem")),
        ("CALVEX_LINES_LISTEN", "127.0.0.1:0"),
        ("CALVEX_SYSLOG_TLS_LISTEN", "127.0.0.1:0"),
    ])?;
    let ca = file("ca.pem");
    Ok(Encrypted { service, folder, ca })
}

fn curl(args: &[&str]) -> Result<String> {
    let done = Command::new("curl").args(["--silent", "--show-error", "--noproxy", "*"]).args(args).output()?;
    ensure!(done.status.success(), "curl: {}", String::from_utf8_lossy(&done.stderr));
    Ok(String::from_utf8(done.stdout)?)
}

/// A handshake by openssl, with what is sent after it.
fn openssl(address: &str, args: &[&str], input: &[u8]) -> Result<Output> {
    let mut child = Command::new("openssl")
        .args(["s_client", "-connect", address, "-servername", "localhost"])
        .args(args)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .context("openssl")?;
    child.stdin.take().context("no input")?.write_all(input)?;
    Ok(child.wait_with_output()?)
}

fn exporter(language: &str, way: &str, address: &str, key: &str, name: &str, ca: &str) -> Result<String> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut command = match language {
        "python" => Command::new(root.join("target/clients/python/bin/python")),
        _ => Command::new("node"),
    };
    let script = if language == "python" { "exporters.py" } else { "exporters.mjs" };
    command.arg(script).args([way, address, key, name, ca]).current_dir(root.join("crates/e2e/clients"));
    let done = command
        .envs([("NODE_EXTRA_CA_CERTS", ca), ("REQUESTS_CA_BUNDLE", ca)])
        .output()
        .with_context(|| format!("{command:?}; run ./run test"))?;
    let reported = String::from_utf8_lossy(&done.stderr).into_owned();
    ensure!(done.status.success(), "{name}: {reported}");
    Ok(reported)
}

#[test]
fn every_way_in_by_tls() -> Result<()> {
    let Encrypted { service, folder: _folder, ca } = start()?;
    assert!(service.url.starts_with("https://"), "{}", service.url);
    let at = service.url.trim_start_matches("https://").to_owned();
    // The client, with its authority and without.
    let sent = service.calvex_with(&["send", "--quiet"], b"{\"service\":\"slots\",\"msg\":\"door 1\"}\n")?;
    ensure!(sent.status.success(), "{}", String::from_utf8_lossy(&sent.stderr));
    wait_for("the event", || Ok((service.search("door", &[])?.len() == 1).then_some(())))?;
    let file = service.dir.join("shipped.ndjson");
    std::fs::write(&file, "{\"service\":\"shipped\",\"msg\":\"by ship\"}\n")?;
    service.ok(&["ship", &file.to_string_lossy(), "--once"])?;
    wait_for("what was shipped", || Ok((service.search("service=shipped", &[])?.len() == 1).then_some(())))?;
    let environment = [("CALVEX_URL", &service.url), ("CALVEX_TOKEN", &service.token)];
    let unproven = Command::new(binary()).args(["lane", "list"]).envs(environment).output()?;
    let reported = String::from_utf8_lossy(&unproven.stderr).into_owned();
    assert_eq!(unproven.status.code(), Some(2), "{reported}");
    assert!(reported.contains("--ca") && reported.lines().count() == 1, "{reported}");

    // curl: HTTP/2, what browsers are made to remember, a cookie that stays encrypted; plain HTTP learns what to do.
    let url = |path: &str| format!("{}{path}", service.url);
    let version =
        curl(&["--cacert", &ca, "--output", "/dev/null", "--write-out", "%{http_version}", &url("/healthz")])?;
    assert_eq!(version, "2");
    let heads = curl(&["--cacert", &ca, "--head", &url("/healthz")])?.to_lowercase();
    assert!(heads.contains("strict-transport-security: max-age=31536000"), "{heads}");
    let ask = format!("{{\"name\":\"admin\",\"password\":\"{}\"}}", calvex_e2e::service::PASSWORD);
    let login = curl(&[
        "--cacert",
        &ca,
        "--include",
        "--header",
        "content-type: application/json",
        "--data",
        &ask,
        &url("/api/login"),
    ])?;
    let cookie = login.lines().find(|line| line.to_lowercase().starts_with("set-cookie")).context("no cookie")?;
    assert!(cookie.contains("Secure") && cookie.contains("HttpOnly"), "{cookie}");
    let plain = curl(&["--include", &format!("http://{at}/")])?;
    assert!(plain.starts_with("HTTP/1.1 400") && plain.contains("https://"), "{plain}");

    // What is weak is refused, on each port; what is not, is taken.
    let grpc = service.other("OTLP over gRPC", "https://")?.trim_start_matches("https://").to_owned();
    let lines = service.other("JSON lines", "tls://")?.trim_start_matches("tls://").to_owned();
    let syslog = service.other("syslog", "tls://")?.trim_start_matches("tls://").to_owned();
    for port in [&at, &grpc, &lines, &syslog] {
        for weak in [
            ["-tls1", "-cipher", "DEFAULT@SECLEVEL=0"],
            ["-tls1_1", "-cipher", "DEFAULT@SECLEVEL=0"],
            ["-tls1_2", "-cipher", "AES128-SHA:AES256-SHA:DES-CBC3-SHA:NULL-SHA@SECLEVEL=0"],
        ] {
            assert!(!openssl(port, &weak, b"")?.status.success(), "{weak:?} is taken on {port}");
        }
        for good in ["-tls1_2", "-tls1_3"] {
            let done =
                openssl(port, &[good, "-CAfile", &ca, "-verify_return_error", "-verify_hostname", "localhost"], b"")?;
            assert!(done.status.success(), "{good} on {port}: {}", String::from_utf8_lossy(&done.stderr));
        }
    }

    // Lines and syslog through openssl, messages as `logger` makes them.
    let input = format!("{{\"key\":\"{}\"}}\n{{\"service\":\"lined\",\"msg\":\"door 2\"}}\n", service.key);
    openssl(&lines, &["-quiet", "-no_ign_eof", "-CAfile", &ca, "-verify_return_error"], input.as_bytes())?;
    let relay = TcpListener::bind("127.0.0.1:0")?;
    let port = relay.local_addr()?.port().to_string();
    let mut logger = Command::new("logger")
        .args(["--server", "127.0.0.1", "--tcp", "--port", &port, "--rfc5424", "--octet-count"])
        .args(["--tag", "locker-agent", "door 3 by logger"])
        .spawn()?;
    let mut message = Vec::new();
    relay.accept()?.0.read_to_end(&mut message)?;
    ensure!(logger.wait()?.success());
    openssl(&syslog, &["-quiet", "-no_ign_eof", "-CAfile", &ca, "-verify_return_error"], &message)?;
    for query in ["service=lined", "service=locker-agent"] {
        wait_for(query, || Ok((service.search(query, &[])?.len() == 1).then_some(())))?;
    }

    // The exporters of two SDKs.
    let otlp = service.other("OTLP also", "https://")?.to_owned();
    for (language, way) in [("python", "protobuf"), ("python", "grpc"), ("node", "protobuf"), ("node", "grpc")] {
        let (name, address) =
            (format!("{language}-{way}-tls"), if way == "grpc" { format!("https://{grpc}") } else { otlp.clone() });
        let reported = exporter(language, way, &address, &service.key, &name, &ca)?;
        let query = format!("service={name}");
        wait_for(&format!("four events of {name} ({reported})"), || {
            Ok((service.search(&query, &["--from", "now-1h"])?.len() == 4).then_some(()))
        })?;
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn another_certificate_under_load_fails_nobody() -> Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let Encrypted { service, folder, ca } = start()?;
    let authority = reqwest::Certificate::from_pem_bundle(&std::fs::read(&ca)?)?;
    let at = service.url.trim_start_matches("https://").to_owned();
    let shown = || -> Result<String> {
        let done = openssl(&at, &["-CAfile", &ca], b"")?;
        let text = String::from_utf8_lossy(&done.stdout).into_owned();
        let begin = text.find("-----BEGIN").context("no certificate")?;
        Ok(text[begin..].lines().take(5).collect())
    };
    let first = shown()?;
    let (stop, asked) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
    let askers = (0..4).map(|_| {
        let (stop, asked, authority) = (stop.clone(), asked.clone(), authority.clone());
        let url = format!("{}/healthz", service.url);
        tokio::spawn(async move {
            let kept = reqwest::Client::builder().no_proxy().tls_certs_only(authority.clone()).build()?;
            while !stop.load(Ordering::SeqCst) {
                // A connection of its own for each, beside one that goes on.
                let fresh = reqwest::Client::builder().no_proxy().tls_certs_only(authority.clone()).build()?;
                for http in [&kept, &fresh] {
                    let answer = http.get(&url).send().await?;
                    ensure!(answer.status().is_success());
                    asked.fetch_add(1, Ordering::SeqCst);
                }
            }
            Ok(())
        })
    });
    let askers: Vec<_> = askers.collect();
    // A pair that does not fit is not taken: the old one goes on.
    let cert = std::fs::read(folder.path().join("cert.pem"))?;
    std::fs::write(folder.path().join("cert.pem"), "no certificate")?;
    wait_for("the log to say so", || {
        let log = std::fs::read_to_string(service.dir.join("service.log"))?;
        Ok(log.contains("the certificate was not read again").then_some(()))
    })?;
    assert_eq!(shown()?, first);
    std::fs::write(folder.path().join("cert.pem"), cert)?;
    for _ in 0..2 {
        let before = shown()?;
        make_certificate(folder.path())?;
        wait_for("another certificate", || Ok((shown()? != before).then_some(())))?;
    }
    let until = asked.load(Ordering::SeqCst) + 100;
    wait_for("more requests", || Ok((asked.load(Ordering::SeqCst) > until).then_some(())))?;
    stop.store(true, Ordering::SeqCst);
    for asker in askers {
        asker.await?.context("a request failed")?;
    }
    Ok(())
}

/// Keys are their owner's alone, and no plain port is opened to others unasked.
#[test]
fn what_is_plain_stays_on_this_machine() -> Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir()?;
    make_certificate(folder.path())?;
    for key in ["ca-key.pem", "key.pem"] {
        assert_eq!(std::fs::metadata(folder.path().join(key))?.permissions().mode() & 0o777, 0o600, "{key}");
    }
    let data = folder.path().join("data");
    let refused = Command::new(binary())
        .args(["serve", "--data-dir", &data.to_string_lossy(), "--listen", "0.0.0.0:0"])
        .env("CALVEX_GRPC_LISTEN", "off")
        .output()?;
    let reported = String::from_utf8_lossy(&refused.stderr);
    assert_eq!(refused.status.code(), Some(2), "{reported}");
    assert!(reported.contains("http.listen") && reported.contains("tls.allow_plain"), "{reported}");
    Ok(())
}
