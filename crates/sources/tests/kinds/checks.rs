//! Checks that this machine makes of others.

use super::*;

#[tokio::test]
async fn checks_say_what_is_well_and_what_is_not() {
    let services = WebServices::start().await.unwrap();
    let checks = source("kind = \"local-checks\"");
    let tcp = ask(
        &checks,
        &format!(
            "check = \"tcp\"\ntargets = [\"{}\", \"127.0.0.1:9\"]",
            services.address
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(
        column(&tcp, "ok"),
        [Value::Boolean(true), Value::Boolean(false)]
    );
    assert!(matches!(&column(&tcp, "problem")[1], Value::Text(words) if words.contains("refused")));
    let http = ask(
        &checks,
        &format!(
            "check = \"http\"\nseconds = 1\ntargets = [\"{}\", \"{}\", \"{}\"]",
            services.url("/garbage"),
            services.url("/nowhere"),
            services.url("/slow")
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(
        column(&http, "ok"),
        [
            Value::Boolean(true),
            Value::Boolean(false),
            Value::Boolean(false)
        ]
    );
    assert_eq!(
        column(&http, "status")[..2],
        [Value::Integer(200), Value::Integer(404)]
    );
    let disk = ask(
        &checks,
        "check = \"disk\"\ntargets = [\"/\", \"/no/such/folder\"]",
    )
    .await
    .unwrap()
    .table;
    assert!(
        matches!(column(&disk, "used_percent")[0], Value::Number(percent) if (0.0..=100.0).contains(&percent))
    );
    assert_eq!(column(&disk, "ok")[1], Value::Boolean(false));
    let names = ask(&checks, "check = \"dns\"\ntargets = [\"localhost\"]")
        .await
        .unwrap()
        .table;
    assert!(
        matches!(&column(&names, "addresses")[0], Value::Text(found) if found.contains("127.0.0.1"))
    );
    let plain = ask(
        &checks,
        &format!(
            "check = \"certificate\"\ntargets = [\"{}\"]",
            services.address
        ),
    )
    .await
    .unwrap()
    .table;
    assert_eq!(column(&plain, "ok"), [Value::Boolean(false)]);
    assert_eq!(
        Reader::unguarded()
            .catalogue(&checks, "certif")
            .await
            .unwrap()
            .len(),
        1
    );
}

/// A certificate made by openssl, shown by its own server.
#[tokio::test]
async fn the_days_of_a_certificate_are_counted() {
    let folder = TempDir::new().unwrap();
    let (key, certificate) = (
        folder.path().join("key.pem"),
        folder.path().join("certificate.pem"),
    );
    let made = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "20",
            "-subj",
            "/CN=Orrin Sound Internal CA",
            "-addext",
            "subjectAltName=DNS:localhost",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
        ])
        .arg("-keyout")
        .arg(&key)
        .arg("-out")
        .arg(&certificate)
        .output()
        .expect("openssl of Debian's package openssl");
    assert!(made.status.success());
    let port = maple_lark_demo::free_port().unwrap();
    let mut server = std::process::Command::new("openssl")
        .args([
            "s_server",
            "-quiet",
            "-www",
            "-accept",
            &format!("127.0.0.1:{port}"),
        ])
        .arg("-key")
        .arg(&key)
        .arg("-cert")
        .arg(&certificate)
        .stdin(std::process::Stdio::null())
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    for _ in 0..100 {
        if std::net::TcpStream::connect(("127.0.0.1", port)).is_ok() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let found = ask(
        &source("kind = \"local-checks\""),
        &format!("check = \"certificate\"\ntargets = [\"localhost:{port}\"]"),
    )
    .await;
    let trusting = source(&format!(
        "kind = \"http-json\"\nurl = \"https://localhost:{port}\"\nca-file = \"{}\"",
        certificate.display()
    ));
    let greeting = Reader::unguarded().test(&trusting).await;
    let distrusting = Reader::unguarded()
        .test(&source(&format!(
            "kind = \"http-json\"\nurl = \"https://localhost:{port}\""
        )))
        .await;
    server.kill().unwrap();
    server.wait().unwrap();
    let table = found.unwrap().table;
    assert_eq!(column(&table, "ok"), [Value::Boolean(true)], "{table:?}");
    assert!(
        matches!(column(&table, "days_left")[0], Value::Number(days) if (19.0..=20.0).contains(&days))
    );
    assert_eq!(
        column(&table, "issuer"),
        [Value::Text("Orrin Sound Internal CA".into())]
    );
    assert_eq!(column(&table, "trusted"), [Value::Boolean(false)]);
    assert!(greeting.unwrap().found.ends_with("answered 200"));
    assert!(distrusting.unwrap_err().to_string().contains("certificate"));
}
