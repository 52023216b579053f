//! The service below a path of an address that others share.

use crate::{
    console::{Driver, click, see, signed_in_at},
    place::{Place, small_report, text},
};

#[tokio::test(flavor = "multi_thread")]
async fn everything_is_found_below_a_path() {
    let place = Place::new().await;
    let public = format!("http://{}/ops/reports", place.address);
    place.add_to_configuration_head(&format!("public-url = \"{public}\"\n"));
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report());
    let run = place.json(&["run", "small"]);
    let run = run["id"].as_str().unwrap();
    // The command line goes by the address that people use.
    let output = std::process::Command::new(env!("CARGO_BIN_EXE_maple-lark"))
        .args(["runs", "-o", "json"])
        .env("MAPLE_LARK_ADDRESS", &public)
        .env("MAPLE_LARK_TOKEN", place.token())
        .output()
        .unwrap();
    assert!(
        text(&output.stdout).contains(run),
        "{}",
        text(&output.stderr)
    );

    let driver = Driver::start();
    let profile = tempfile::tempdir().unwrap();
    let browser = driver.browser(profile.path()).await;
    signed_in_at(&browser, &place, "/ops/reports/reports").await;
    see(&browser, "//main//a[normalize-space()='Small report']").await;
    // A page that is opened by its address, files that are fetched when they are needed, and links.
    browser.goto(&format!("{public}/runs/{run}")).await.unwrap();
    let file = see(&browser, "//a[contains(@href, '/api/v1/documents/')]").await;
    let at = file.attr("href").await.unwrap().unwrap();
    assert!(at.starts_with("/ops/reports/api/v1/"), "{at}");
    click(&browser, "//nav//a[normalize-space()='Dashboards']").await;
    see(
        &browser,
        "//main//a[contains(@href, '/ops/reports/dashboards')]",
    )
    .await;
    let asked = browser
        .execute(
            "return performance.getEntriesByType('resource').map(one => new URL(one.name).pathname)",
            Vec::new(),
        )
        .await
        .unwrap();
    let asked: Vec<String> = serde_json::from_value(asked).unwrap();
    assert!(asked.len() > 5, "{asked:?}");
    for path in asked {
        assert!(path.starts_with("/ops/reports/"), "{path}");
    }
    // The cookie goes nowhere else on that host.
    let cookie = browser
        .get_named_cookie("maple_lark_session")
        .await
        .unwrap();
    assert_eq!(cookie.path(), Some("/ops/reports/"));
    browser.close().await.unwrap();

    // A proxy that takes the path off is answered, too; what is beside it is not it.
    let client = reqwest::Client::new();
    for (path, status) in [
        ("/ready", 200),
        ("/ops/reports/ready", 200),
        ("/ops/reports/api/v1/about", 200),
        ("/ops/reports/api/v1/nothing", 404),
    ] {
        let answer = client
            .get(format!("http://{}{path}", place.address))
            .bearer_auth(place.token())
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status().as_u16(), status, "{path}");
    }
    let page = client
        .get(format!("http://{}/ops/reportsXX", place.address))
        .send()
        .await
        .unwrap();
    assert!(
        page.text()
            .await
            .unwrap()
            .contains("src=\"/ops/reports/assets/")
    );
}
