//! Takes the pictures of the console for docs/screenshots from a running demo.
//!
//! Usage: screenshots ADDRESS PASSWORD FOLDER; a WebDriver must listen on port 9515.

#![allow(
    clippy::too_many_lines,
    reason = "a measurement is set up, made and told in one go"
)]

use std::{path::Path, time::Duration};

use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::json;

type Done = Result<(), Box<dyn std::error::Error>>;

#[tokio::main]
async fn main() -> Done {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [address, password, folder] = &arguments[..] else {
        return Err("usage: screenshots ADDRESS PASSWORD FOLDER".into());
    };
    let folder = Path::new(folder);
    let profile = tempfile::tempdir()?;
    let desk = browser(profile.path(), false).await?;
    let outcome = pictures(&desk, address, password, folder).await;
    desk.close().await?;
    outcome?;
    let phone = browser(tempfile::tempdir()?.path(), true).await?;
    let outcome = phone_pictures(&phone, address, password, folder).await;
    phone.close().await?;
    outcome
}

async fn sign_in(browser: &Client, address: &str, password: &str) -> Done {
    browser.goto(address).await?;
    browser
        .wait()
        .for_element(Locator::Css("input[name=name]"))
        .await?
        .send_keys("admin")
        .await?;
    browser
        .find(Locator::Css("input[name=password]"))
        .await?
        .send_keys(password)
        .await?;
    browser
        .find(Locator::Css("button[type=submit]"))
        .await?
        .click()
        .await?;
    browser.wait().for_element(Locator::Css(".verdict")).await?;
    Ok(())
}

async fn delivered_run(
    browser: &Client,
    address: &str,
) -> Result<String, Box<dyn std::error::Error>> {
    let runs = json_of(
        browser,
        &format!("{address}/api/v1/runs?report=ferry-operations-daily&state=delivered"),
    )
    .await?;
    Ok(runs["items"][0]["id"]
        .as_str()
        .ok_or("no run was delivered yet")?
        .to_owned())
}

async fn phone_pictures(browser: &Client, address: &str, password: &str, folder: &Path) -> Done {
    sign_in(browser, address, password).await?;
    let run = delivered_run(browser, address).await?;
    let view = json_of(browser, &format!("{address}/api/v1/runs/{run}")).await?;
    let html = view["documents"]
        .as_array()
        .and_then(|all| all.iter().find(|document| document["format"] == "html"))
        .and_then(|document| document["id"].as_str())
        .ok_or("the run has no HTML")?
        .to_owned();
    browser
        .goto(&format!("{address}/api/v1/documents/{html}"))
        .await?;
    shot(browser, "h1", folder, "html-phone").await
}

async fn pictures(browser: &Client, address: &str, password: &str, folder: &Path) -> Done {
    sized(browser, 1280, 800).await?;
    sign_in(browser, address, password).await?;
    shot(browser, ".verdict", folder, "console-overview").await?;
    browser.goto(&format!("{address}/reports")).await?;
    shot(browser, "table.list", folder, "console-reports").await?;
    browser
        .goto(&format!("{address}/reports/ferry-operations-daily"))
        .await?;
    shot(browser, "#history", folder, "console-report").await?;
    browser
        .goto(&format!("{address}/dashboards/ferry-operations/edit"))
        .await?;
    browser
        .wait()
        .for_element(Locator::XPath("(//article)[2]//iframe"))
        .await?;
    let select = "const block = document.querySelectorAll('article')[1]; block.click(); block.scrollIntoView({ block: 'start' })";
    browser.execute(select, Vec::new()).await?;
    browser
        .wait()
        .for_element(Locator::XPath("//button[.='Change …']"))
        .await?
        .click()
        .await?;
    tokio::time::sleep(Duration::from_secs(3)).await;
    shot(browser, ".kinds iframe", folder, "console-dashboard").await?;
    browser.goto(&format!("{address}/templates")).await?;
    shot(browser, ".cards svg", folder, "console-templates").await?;
    live_page(browser, address, folder).await?;
    browser.goto(&format!("{address}/condition")).await?;
    shot(browser, ".folds tbody tr", folder, "console-condition").await?;
    browser
        .goto(&format!(
            "{address}/archive?words=havnes-kiosk-3&format=pdf"
        ))
        .await?;
    shot(browser, ".results mark", folder, "console-archive").await?;
    browser.goto(&format!("{address}/agenda")).await?;
    shot(browser, ".month .mark", folder, "console-agenda").await?;
    let run = delivered_run(browser, address).await?;
    browser.goto(&format!("{address}/runs/{run}")).await?;
    // The browser's own view of the PDF says nothing when it is drawn.
    tokio::time::sleep(Duration::from_secs(5)).await;
    shot(browser, "iframe.document", folder, "console-run").await?;
    browser.goto(&format!("{address}/sources")).await?;
    browser
        .wait()
        .for_element(Locator::Css(".card button"))
        .await?
        .click()
        .await?;
    shot(browser, ".answer", folder, "console-sources").await?;
    browser
        .goto(&format!("{address}/sources/operations/query"))
        .await?;
    browser
        .wait()
        .for_element(Locator::XPath(
            "//button[contains(@class, 'entry')][contains(., 'host_samples')]",
        ))
        .await?
        .click()
        .await?;
    browser
        .wait()
        .for_element(Locator::XPath("//button[contains(., 'Pick from it')]"))
        .await?
        .click()
        .await?;
    browser
        .find(Locator::XPath("//button[.='Run the query']"))
        .await?
        .click()
        .await?;
    shot(browser, ".answer table", folder, "console-query").await?;
    browser.goto(&format!("{address}/delivery")).await?;
    browser
        .wait()
        .for_element(Locator::XPath(
            "//button[contains(@aria-label, 'Test The service')]",
        ))
        .await?
        .click()
        .await?;
    browser
        .wait()
        .for_element(Locator::Css(".el-message-box__input input"))
        .await?
        .send_keys("runa.holm@orrin-sound.example")
        .await?;
    browser
        .find(Locator::Css(".el-message-box__btns .el-button--primary"))
        .await?
        .click()
        .await?;
    shot(browser, "ol.steps li", folder, "console-delivery").await?;
    let messages = json_of(browser, &format!("{address}/api/v1/demo/mailbox")).await?;
    let daily = messages.as_array().and_then(|all| {
        all.iter().find(|one| {
            one["subject"]
                .as_str()
                .is_some_and(|s| s.starts_with("Ferry"))
                && one["to"].as_str().is_some_and(|to| to.starts_with("Runa"))
        })
    });
    let message = daily
        .and_then(|one| one["id"].as_str())
        .ok_or("no message of the daily report has come")?
        .to_owned();
    sized(browser, 760, 1000).await?;
    browser
        .goto(&format!("{address}/api/v1/demo/mailbox/{message}/html"))
        .await?;
    shot(browser, "table", folder, "mail").await
}

/// A live page in the editor, with the parts of it that are kept.
async fn live_page(browser: &Client, address: &str, folder: &Path) -> Done {
    browser
        .goto(&format!("{address}/dashboards/harbours.mondays/edit"))
        .await?;
    for pressed in [
        "(//article)[1]",
        "//button[@role='tab'][.='The data']",
        "//button[normalize-space()='Look at the page']",
    ] {
        let wanted = browser.wait().for_element(Locator::XPath(pressed));
        wanted.await?.click().await?;
    }
    browser
        .wait()
        .for_element(Locator::Css(".frame img"))
        .await?;
    browser
        .wait()
        .for_element(Locator::XPath("(//article)[1]//iframe"))
        .await?;
    browser
        .execute("window.scrollTo(0, 100)", Vec::new())
        .await?;
    shot(browser, ".frame .kept", folder, "console-page").await
}

async fn browser(profile: &Path, phone: bool) -> Result<Client, Box<dyn std::error::Error>> {
    let arguments = maple_lark_demo::chromium::arguments(profile, &["--hide-scrollbars"]);
    let mut options = json!({ "args": arguments });
    if phone {
        options["mobileEmulation"] =
            json!({ "deviceMetrics": { "width": 390, "height": 844, "pixelRatio": 2.0 } });
    }
    let capabilities = json!({ "goog:chromeOptions": options });
    Ok(ClientBuilder::new(HttpConnector::new())
        .capabilities(capabilities.as_object().cloned().unwrap_or_default())
        .connect("http://127.0.0.1:9515")
        .await?)
}

async fn sized(browser: &Client, width: u32, height: u32) -> Done {
    Ok(browser.set_window_size(width, height + 139).await?)
}

async fn json_of(
    browser: &Client,
    url: &str,
) -> Result<serde_json::Value, Box<dyn std::error::Error>> {
    let found = browser
        .execute_async(
            "fetch(arguments[0]).then(a => a.json()).then(arguments[1])",
            vec![json!(url)],
        )
        .await?;
    Ok(found)
}

async fn shot(browser: &Client, wanted: &str, folder: &Path, name: &str) -> Done {
    browser.wait().for_element(Locator::Css(wanted)).await?;
    tokio::time::sleep(Duration::from_millis(900)).await;
    std::fs::write(
        folder.join(format!("{name}.png")),
        browser.screenshot().await?,
    )?;
    println!("{name}.png");
    Ok(())
}
