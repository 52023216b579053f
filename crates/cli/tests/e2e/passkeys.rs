//! Passkeys, with a device that the browser makes up (WebDriver, "Virtual Authenticators" of WebAuthn).

use fantoccini::{Client, wd::WebDriverCompatibleCommand};
use http::Method;
use serde_json::{Value, json};
use url::{ParseError, Url};

use crate::{
    console::{Driver, see},
    documents::barriers,
    forms::Hands,
    place::{PASSWORD, Place, text},
};

/// A device with a finger on it.
#[derive(Debug)]
struct PlugIn;

impl WebDriverCompatibleCommand for PlugIn {
    fn endpoint(&self, base: &Url, session: Option<&str>) -> Result<Url, ParseError> {
        base.join(&format!(
            "session/{}/webauthn/authenticator",
            session.unwrap_or_default()
        ))
    }

    fn method_and_body(&self, _: &Url) -> (Method, Option<String>) {
        let device = json!({
            "protocol": "ctap2",
            "transport": "internal",
            "hasResidentKey": true,
            "hasUserVerification": true,
            "isUserVerified": true,
        });
        (Method::POST, Some(device.to_string()))
    }
}

/// Does something within the page, as a page of anybody could.
async fn within(browser: &Client, script: &str, arguments: Vec<Value>) -> Value {
    let call = "const call = async (method, path, body) => { const answer = await fetch('/api/v1' + path, { method, headers: { 'Content-Type': 'application/json' }, body: body === undefined ? undefined : JSON.stringify(body) }); const said = answer.status === 204 ? null : await answer.json(); return { status: answer.status, said } };";
    let script = format!("{call} {script}");
    browser.execute(&script, arguments).await.unwrap()
}

/// Signs a challenge, but does not hand it in.
const SIGN: &str = "const asked = (await call('POST', '/sign-in/passkey/challenge')).said; const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(asked.options.publicKey); const answer = (await navigator.credentials.get({ publicKey })).toJSON();";

#[tokio::test(flavor = "multi_thread")]
async fn a_passkey_signs_in_without_a_password_once_for_each_challenge() {
    let place = Place::new().await;
    let port = place.address.rsplit_once(':').unwrap().1.to_owned();
    let site = format!("http://localhost:{port}");
    place.add_to_configuration_head(&format!("public-url = \"{site}\"\n"));
    let _service = place.serve();
    place.sign_in();
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    browser.issue_cmd(PlugIn).await.unwrap();

    let hands = Hands::at(&browser);
    browser.goto(&format!("{site}/account")).await.unwrap();
    hands.fill("Name", "admin").await;
    hands.fill("Password", PASSWORD).await;
    hands.press("//button[@type='submit']").await;

    let again = "Your password, to add a passkey";
    hands.fill(again, "wrong").await;
    hands.press("//button[contains(., 'Add a passkey')]").await;
    see(
        &browser,
        "//*[@role='alert'][contains(., 'nothing was changed')]",
    )
    .await;
    browser.refresh().await.unwrap();
    hands.fill(again, PASSWORD).await;
    hands.press("//button[contains(., 'Add a passkey')]").await;
    see(
        &browser,
        "//section[@aria-labelledby='passkeys']//td[contains(., 'Chrom')]",
    )
    .await;
    // The message that says so comes and goes by degrees.
    browser.refresh().await.unwrap();
    let kept = "//section[@aria-labelledby='passkeys']//td[contains(., 'Chrom')]";
    see(&browser, kept).await;
    assert_eq!(barriers(&browser).await, json!([]));
    // The same device is not given another.
    hands.fill(again, PASSWORD).await;
    hands.press("//button[contains(., 'Add a passkey')]").await;
    see(
        &browser,
        "//*[@role='alert'][contains(., 'has a passkey of yours already')]",
    )
    .await;
    let listed = text(&place.lark(&["users"]).stdout);
    assert!(listed.contains("● active, a passkey"), "{listed}");

    hands.press("//button[@aria-label='Sign out']").await;
    see(&browser, "//button[.='Sign in with a passkey']").await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press("//button[.='Sign in with a passkey']").await;
    see(&browser, "//nav//a[contains(., 'Overview')]").await;
    let trail = text(&place.lark(&["audit"]).stdout);
    assert!(
        trail.contains("added a passkey") && trail.contains("with a passkey"),
        "{trail}"
    );

    // What was signed is good once, for its challenge, and as it was signed.
    hands.press("//button[@aria-label='Sign out']").await;
    see(&browser, "//button[.='Sign in with a passkey']").await;
    let tried = within(
        &browser,
        &format!("{SIGN} const other = (await call('POST', '/sign-in/passkey/challenge')).said; const body = {{ challenge: asked.challenge, answer }}; \
          const wrong = await call('POST', '/sign-in/passkey', {{ challenge: other.challenge, answer }}); \
          const first = await call('POST', '/sign-in/passkey', body); const second = await call('POST', '/sign-in/passkey', body); return [wrong.status, first.status, first.said.name, second.status]"),
        Vec::new(),
    )
    .await;
    assert_eq!(tried, json!([422, 200, "admin", 409]));
    let bent = within(
        &browser,
        &format!("{SIGN} const signature = answer.response.signature; const bent = (signature[20] === 'A' ? 'B' : 'A'); answer.response.signature = signature.slice(0, 20) + bent + signature.slice(21); \
          return (await call('POST', '/sign-in/passkey', {{ challenge: asked.challenge, answer }})).status"),
        Vec::new(),
    )
    .await;
    assert_eq!(bent, 422);
    let nonsense = within(
        &browser,
        "const asked = (await call('POST', '/sign-in/passkey/challenge')).said; return (await call('POST', '/sign-in/passkey', { challenge: asked.challenge, answer: { id: 1 } })).said.detail",
        Vec::new(),
    )
    .await;
    assert!(
        nonsense
            .as_str()
            .unwrap()
            .contains("nothing that a device answers"),
        "{nonsense}"
    );

    // Whoever is disabled does not get in; a passkey that was removed is nobody's.
    let invited = place.lark(&["users", "invite", "second", "--role", "administrator"]);
    assert!(invited.status.success());
    let mut records = place.records().await;
    let status = format!(
        "{SIGN} return (await call('POST', '/sign-in/passkey', {{ challenge: asked.challenge, answer }})).status"
    );
    for (change, back) in [
        (
            "update users set disabled_at = now() where name = 'admin'",
            "update users set disabled_at = null",
        ),
        (
            "update passkeys set user_id = (select id from users where name = 'second')",
            "update passkeys set user_id = (select id from users where name = 'admin')",
        ),
        (
            "update users set disabled_at = null",
            "update users set disabled_at = null",
        ),
    ] {
        sqlx::query(change).execute(&mut records).await.unwrap();
        let expected = if change == back { 200 } else { 401 };
        assert_eq!(
            within(&browser, &status, Vec::new()).await,
            expected,
            "{change}"
        );
        sqlx::query(back).execute(&mut records).await.unwrap();
    }
    // On the command line they are seen and removed, and so are browsers.
    let sessions = place.json(&["sessions"]);
    let ended = place.lark(&["sessions", "end", sessions[0]["id"].as_str().unwrap()]);
    assert!(ended.status.success(), "{}", text(&ended.stderr));
    let fewer = place.json(&["sessions"]);
    let count = |all: &Value| all.as_array().unwrap().len();
    assert_eq!(count(&fewer) + 1, count(&sessions));
    assert!(text(&place.lark(&["sessions"]).stdout).contains("Mozilla"));
    let keys = place.json(&["passkeys"]);
    assert_eq!(count(&keys), 1);
    assert!(text(&place.lark(&["passkeys"]).stdout).contains("Chrom"));
    let other = place.lark(&["passkeys", "remove", "01a20778-04ba-70ff-853b-f952290418d2"]);
    assert!(
        text(&other.stderr).contains("no such passkey"),
        "{}",
        text(&other.stderr)
    );
    let reset = place.lark(&["users", "reset-second-factor", "admin"]);
    assert!(reset.status.success(), "{}", text(&reset.stderr));
    assert_eq!(within(&browser, &status, Vec::new()).await, 401);
    let again = place.lark(&["users", "reset-second-factor", "admin"]);
    assert!(
        text(&again.stderr).contains("no passkey"),
        "{}",
        text(&again.stderr)
    );
    browser.close().await.unwrap();
}
