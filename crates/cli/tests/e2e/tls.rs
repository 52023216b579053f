//! The service ends TLS itself.

use std::{
    io::{Read, Write},
    net::{IpAddr, Ipv4Addr},
    path::PathBuf,
    process::{Command, Stdio},
};

use reqwest::{Certificate, Client, StatusCode, header};
use serde_json::json;

use crate::place::{PASSWORD, Place, operations, small_dashboard, small_report, text, until};

/// A place whose service shows a certificate, and the certificate.
struct Secured {
    place: Place,
    certificate: PathBuf,
    key: PathBuf,
}

impl Secured {
    async fn new() -> Self {
        let place = Place::new().await;
        let (certificate, key) = (
            place.folder.path().join("tls.pem"),
            place.folder.path().join("tls.key"),
        );
        place.add_to_configuration(&format!(
            "[tls]\ncertificate = \"{}\"\nkey = \"{}\"\n",
            certificate.display(),
            key.display()
        ));
        let secured = Self {
            place,
            certificate,
            key,
        };
        secured.renew(90);
        secured
    }

    /// Puts a new certificate there, for so many days.
    fn renew(&self, days: u32) {
        let made = Command::new("openssl")
            .args([
                "req",
                "-x509",
                "-newkey",
                "ec",
                "-pkeyopt",
                "ec_paramgen_curve:prime256v1",
                "-noenc",
            ])
            .args([
                "-subj",
                "/CN=reports.host.example",
                "-addext",
                "subjectAltName=IP:127.0.0.1",
            ])
            .args(["-addext", "basicConstraints=critical,CA:FALSE"])
            .args(["-days", &days.to_string(), "-keyout"])
            .arg(&self.key)
            .arg("-out")
            .arg(&self.certificate)
            .output()
            .unwrap();
        assert!(made.status.success(), "{}", text(&made.stderr));
    }

    fn url(&self, path: &str) -> String {
        format!("https://{}{path}", self.place.address)
    }

    /// Somebody at another address of this machine, who trusts the certificate that is there now.
    fn client(&self) -> Client {
        let pem = std::fs::read(&self.certificate).unwrap();
        Client::builder()
            .tls_built_in_root_certs(false)
            .add_root_certificate(Certificate::from_pem(&pem).unwrap())
            .local_address(IpAddr::V4(Ipv4Addr::new(127, 0, 0, 9)))
            .build()
            .unwrap()
    }

    /// The command line, which trusts what its environment names.
    fn lark(&self, arguments: &[&str]) -> std::process::Output {
        Command::new(env!("CARGO_BIN_EXE_maple-lark"))
            .args(arguments)
            .envs(&self.place.environment)
            .env("MAPLE_LARK_PASSWORD", PASSWORD)
            .env("MAPLE_LARK_ADDRESS", self.url(""))
            .env("SSL_CERT_FILE", &self.certificate)
            .stdin(Stdio::null())
            .output()
            .unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_speaks_tls_and_knows_who_asks() {
    let secured = Secured::new().await;
    let service = secured.place.serve();
    assert!(service.log().contains("https"), "{}", service.log());
    // Plain HTTP is told what to do.
    let mut plain = std::net::TcpStream::connect(&secured.place.address).unwrap();
    write!(plain, "GET / HTTP/1.1\r\nHost: here\r\n\r\n").unwrap();
    let mut said = String::new();
    plain.read_to_string(&mut said).unwrap();
    assert!(
        said.starts_with("HTTP/1.1 400") && said.ends_with("begin it with https://\n"),
        "{said}"
    );
    // The whole way by the command line, with what it follows as it happens.
    let signed_in = secured.lark(&["sign-in"]);
    assert!(signed_in.status.success(), "{}", text(&signed_in.stderr));
    let folder = secured.place.folder.path().join("definitions");
    std::fs::create_dir(&folder).unwrap();
    for (name, definition) in [
        ("source.toml", operations()),
        ("dashboard.toml", small_dashboard("select 1 as one")),
        ("report.toml", small_report()),
    ] {
        std::fs::write(folder.join(name), &*definition).unwrap();
    }
    let put = secured.lark(&["apply", folder.to_str().unwrap(), "--yes"]);
    assert!(put.status.success(), "{}", text(&put.stderr));
    let run = secured.lark(&["run", "small"]);
    assert!(run.status.success(), "{}", text(&run.stderr));
    // In a browser: a cookie for TLS alone, and whoever asked is on record as who they are.
    let client = secured.client();
    let answer = client
        .post(secured.url("/api/v1/session"))
        .json(&json!({ "name": "admin", "password": PASSWORD }))
        .send()
        .await
        .unwrap();
    assert!(answer.status().is_success(), "{answer:?}");
    let cookie = answer.headers()[header::SET_COOKIE]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(cookie.contains("; Secure"), "{cookie}");
    let trail = secured.lark(&["audit", "-o", "json"]);
    assert!(
        text(&trail.stdout).contains("\"127.0.0.9\""),
        "{}",
        text(&trail.stdout)
    );
    let condition = secured.lark(&["condition", "-o", "json"]);
    assert!(
        text(&condition.stdout).contains("tls.pem holds until"),
        "{}{}",
        text(&condition.stdout),
        text(&condition.stderr)
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_new_certificate_is_used_and_a_wrong_one_leaves_the_one_before() {
    let secured = Secured::new().await;
    let service = secured.place.serve();
    let before = secured.client();
    let ready = async |client: &Client| {
        let answer = client.get(secured.url("/ready")).send().await;
        answer.is_ok_and(|answer| answer.status() == StatusCode::OK)
    };
    assert!(ready(&before).await);
    // Two days are little: a check says so.
    secured.renew(2);
    let renewed = secured.client();
    let mut used = false;
    for _ in 0..600 {
        // A connection that is open keeps what it began with.
        assert!(ready(&before).await);
        used = ready(&renewed).await;
        if used {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(used, "{}", service.log());
    let config = secured.place.config.display().to_string();
    let checked = secured.lark(&["check", "--config", &config]);
    let said = text(&checked.stdout);
    assert!(
        said.contains("certificate") && said.contains("Renew it"),
        "{said}"
    );
    // A key that is another's.
    let told = service.log().len();
    let other = std::fs::read(&secured.key).unwrap();
    secured.renew(90);
    std::fs::write(&secured.key, other).unwrap();
    until("the log says that it cannot be used", || {
        let log = service.log();
        log[told..].contains("the one before stays").then_some(())
    });
    assert!(ready(&renewed).await);
    let checked = secured.lark(&["check", "--config", &config]);
    let said = text(&checked.stdout);
    assert!(
        said.contains("the key does not fit the certificate"),
        "{said}"
    );
}
