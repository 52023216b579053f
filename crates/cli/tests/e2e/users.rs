//! Users: invited by mail, who choose a password in the browser, and are let go again.

use std::time::Duration;

use fantoccini::Locator;
use mail_parser::MessageParser;
use maple_lark_demo::{
    DirectoryServer, OpenIdProvider,
    directory_server::{ORGANISATION, READER, READER_PASSWORD},
    openid_provider::{CLIENT, SECRET},
};
use maple_lark_fixtures::{self as fixtures, Fixture};
use serde_json::json;

use crate::{
    console::{Driver, see, signed_in_at},
    documents::barriers,
    forms::Hands,
    place::{PASSWORD, Place, applied, mails, operations, ran, ready, text, until},
};

const CHOSEN: &str = "ferry tide lantern crow";

#[tokio::test(flavor = "multi_thread")]
async fn somebody_who_is_invited_by_mail_signs_in_and_is_let_go_again() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let says = |arguments: &[&str]| {
        let output = place.lark(arguments);
        assert!(output.status.success(), "{}", text(&output.stderr));
        text(&output.stdout)
    };
    let address = "runa@orrin-sound.example";
    let invite = ["users", "invite", "runa.holm", "--role", "author"];
    let said = says(&[&invite[..], &["--email", address]].concat());
    assert!(said.contains(&format!("was mailed to {address}")), "{said}");
    let listed = says(&["users"]);
    assert!(
        listed.contains("○ invited") && listed.contains("● active"),
        "{listed}"
    );

    let mail = &mails(&place, 1)[address][0];
    let mail = MessageParser::default().parse(mail).unwrap();
    let words = mail.body_text(0).unwrap();
    assert!(words.contains("You sign in as \"runa.holm\""), "{words}");
    let link = words.lines().find(|line| line.contains("/invitation#"));
    let driver = Driver::start();
    let profile = place.folder.path().join("profile");
    let browser = driver.browser(&profile).await;
    browser.goto(link.unwrap().trim()).await.unwrap();
    see(&browser, "//*[contains(., 'You sign in as')]").await;
    assert!(!browser.current_url().await.unwrap().as_str().contains('#'));
    assert_eq!(barriers(&browser).await, json!([]));
    let hands = Hands::at(&browser);
    hands.fill("New password", "1234567890").await;
    hands.fill("The same again", "1234567890").await;
    let set = "//button[contains(., 'Set the password')]";
    hands.press(set).await;
    see(&browser, "//*[@role='alert'][contains(., 'tried first')]").await;
    // What stands there already is the beginning of it.
    hands.fill("New password", CHOSEN).await;
    hands.fill("The same again", CHOSEN).await;
    hands.press(set).await;
    see(
        &browser,
        "//h1[contains(., 'Overview')] | //a[@aria-current='page'][contains(., 'Overview')]",
    )
    .await;

    hands.press("//a[contains(@title, 'Your sign-in')]").await;
    see(
        &browser,
        "//td[contains(., 'Chromium on Linux') and contains(., '(this one)')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    assert!(says(&["users"]).contains("runa.holm"));
    says(&["users", "role", "runa.holm", "administrator"]);
    browser.refresh().await.unwrap();
    hands.press("//nav//a[contains(., 'Users')]").await;
    see(
        &browser,
        "//td[contains(., 'runa.holm') and contains(., '(you)')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    // Somebody without an address is handed the link.
    hands
        .press("//button[contains(., 'Invite somebody')]")
        .await;
    hands.fill("Name to sign in with", "old.mate").await;
    hands.press("//footer//button[contains(., 'Invite')]").await;
    see(
        &browser,
        "//strong[contains(., 'Hand this link to old.mate')]",
    )
    .await;

    says(&["users", "disable", "runa.holm"]);
    browser.refresh().await.unwrap();
    see(&browser, "//button[contains(., 'Sign in')]").await;
    browser.close().await.unwrap();

    // Who has forgotten a password asks for a link at the door.
    says(&["users", "enable", "runa.holm"]);
    let browser = driver.browser(&place.folder.path().join("forgotten")).await;
    let door = format!("http://{}/sign-in", place.address);
    browser.goto(&door).await.unwrap();
    let hands = Hands::at(&browser);
    hands
        .press("//button[contains(., 'Forgotten the password?')]")
        .await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.fill("Name", "runa.holm").await;
    hands.press("//button[contains(., 'Mail me a link')]").await;
    see(&browser, "//*[@role='status'][contains(., 'on its way')]").await;
    let mail = &mails(&place, 2)[address][1];
    let mail = MessageParser::default().parse(mail).unwrap();
    let words = mail.body_text(0).unwrap();
    let link = words.lines().find(|line| line.contains("/invitation#"));
    let own = place.folder.path().join("runa");
    let accepted = place.lark_as(&own, &["accept", link.unwrap().trim()]);
    assert!(accepted.status.success(), "{}", text(&accepted.stderr));
    browser.close().await.unwrap();
    says(&["users", "disable", "runa.holm"]);

    // The command line changes a password, too, and says why not.
    let change = |input: String| place.lark_with_input(&["password"], &input);
    let refused = change(format!("wrong\n{CHOSEN}\n"));
    assert!(
        text(&refused.stderr).contains("nothing was changed"),
        "{}",
        text(&refused.stderr)
    );
    let changed = change(format!("{PASSWORD}\n{CHOSEN}\n"));
    assert!(changed.status.success(), "{}", text(&changed.stderr));
    let last = place.lark(&["users", "remove", "admin", "--yes"]);
    let why = text(&last.stderr);
    assert!(why.contains("the last administrator"), "{why}");
}

/// What a device shows that has this key, so many steps of 30 seconds from now.
fn shown(key: &str, steps: i64) -> String {
    let secret = totp_rs::Secret::try_from_base32(key).unwrap();
    let device = totp_rs::Builder::new().with_secret(secret).build().unwrap();
    let at = chrono::Utc::now().timestamp() + steps * 30;
    device.generate(at.unsigned_abs()).to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_begun_in_the_console_and_asked_for_everywhere() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    signed_in_at(&browser, &place, "/account").await;
    let hands = Hands::at(&browser);
    hands.fill("Your password", PASSWORD).await;
    hands.press("//button[contains(., 'Begin')]").await;
    see(&browser, "//img[@alt='The key as a QR code']").await;
    assert_eq!(barriers(&browser).await, json!([]));
    let key = see(
        &browser,
        "//section[@aria-labelledby='second-factor']//code",
    )
    .await;
    let key = key.text().await.unwrap().replace(' ', "");
    hands.fill("Code", "000000").await;
    hands.press("//button[contains(., 'Confirm')]").await;
    see(
        &browser,
        "//*[@role='alert'][contains(., 'not the one that is shown')]",
    )
    .await;
    // The code of the moment before is nearly over, so that those of now and of next are left for later:
    // where this machine is slow it may be over when it comes, and is refused.
    let list = Locator::XPath("//ul[contains(@class, 'codes')]");
    let mut codes = None;
    for _ in 0..5 {
        hands.fill("Code", &shown(&key, -1)).await;
        hands.press("//button[contains(., 'Confirm')]").await;
        let looked = browser.wait().at_most(Duration::from_secs(10));
        codes = looked.for_element(list).await.ok();
        if codes.is_some() {
            break;
        }
    }
    let codes = codes.expect("the codes are shown").text().await.unwrap();
    assert_eq!(codes.lines().count(), 10, "{codes}");
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press("//button[@aria-label='Sign out']").await;

    // At the door the code is asked for after the password, and a wrong one is told.
    hands.fill("Name", "admin").await;
    hands.fill("Password", PASSWORD).await;
    hands.press("//button[contains(., 'Sign in')]").await;
    let field = "Code of your device, or a recovery code";
    see(&browser, &format!("//input[@aria-label='{field}']")).await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.fill(field, "000000").await;
    hands.press("//button[contains(., 'Sign in')]").await;
    see(
        &browser,
        "//*[@role='alert'][contains(., 'try the next one')]",
    )
    .await;
    hands.fill(field, codes.lines().next().unwrap()).await;
    hands.press("//button[contains(., 'Sign in')]").await;
    see(&browser, "//nav//a[contains(., 'Overview')]").await;

    // So does the command line; the token that is there stays good.
    let said = place.lark(&["second-factor"]);
    assert!(text(&said.stdout).contains("9 recovery codes are left"));
    let refused = place.lark(&["sign-in"]);
    assert!(text(&refused.stderr).contains("set MAPLE_LARK_CODE"));
    let typed = format!("{}\n", shown(&key, 0));
    let said = place.lark_at_a_terminal("sign-in", &typed);
    assert!(said.contains("Signed in at"), "{said}");
    assert!(text(&place.lark(&["users"]).stdout).contains("● active, second factor"));
    let off = place.lark(&["second-factor", "off"]);
    assert!(off.status.success(), "{}", text(&off.stderr));
    place.sign_in();
}

fn of_the_harbours() -> [Fixture; 3] {
    [
        operations()
            .key("name", "harbours.operations")
            .list("teams", &["harbours"]),
        fixtures::dashboard("harbours.disks")
            .key("title", "Disks")
            .key("team", "harbours")
            .asked(
                "q",
                "harbours.operations",
                "sql = \"select 'db-2' as host, 93 as used\"",
            )
            .block("show = \"table\"\ntitle = \"Fullest disks\"\nquery = \"q\""),
        fixtures::report("harbours.disks-daily", "harbours.disks")
            .key("title", "Disks of the harbours")
            .key("team", "harbours")
            .list("formats", &["pdf", "csv"])
            .to("Office", &["Office <office@orrin-sound.example>"]),
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn a_team_has_its_own_and_everything_that_was_done_and_made_is_found() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    let says = |arguments: &[&str]| {
        let output = place.lark(arguments);
        assert!(
            output.status.success(),
            "{arguments:?}: {}",
            text(&output.stderr)
        );
        text(&output.stdout)
    };
    assert!(says(&["roles"]).contains("invite, change and remove users"));
    assert!(says(&["teams"]).contains("No teams"));
    let pattern = [
        "--title",
        "Harbours",
        "--addresses",
        "*@orrin-sound.example",
    ];
    says(&[&["teams", "new", "harbours"][..], &pattern].concat());
    let folder = place.folder.path().join("definitions");
    std::fs::create_dir(&folder).unwrap();
    for (n, content) in of_the_harbours().iter().enumerate() {
        std::fs::write(folder.join(format!("{n}.toml")), &**content).unwrap();
    }
    says(&["apply", folder.to_str().unwrap(), "--yes"]);
    let run = ran(&place, "harbours.disks-daily");
    assert_eq!(run["state"], "delivered", "{run:#}");

    // Two colleagues, one of whom is in the team; each with a command line of their own.
    let colleague = |name: &str, role: &str| {
        let invited = place.json(&["users", "invite", name, "--role", role]);
        let own = place.folder.path().join(name);
        let link = invited["link"].as_str().unwrap().to_owned();
        let accepted = place.lark_as(&own, &["accept", &link]);
        assert!(accepted.status.success(), "{}", text(&accepted.stderr));
        let again = place.lark_as(&own, &["accept", &link]);
        assert!(text(&again.stderr).contains("not good any more"));
        own
    };
    let (runa, ada) = (
        colleague("runa.holm", "author"),
        colleague("ada.berg", "viewer"),
    );
    says(&["teams", "add", "harbours", "runa.holm", "--owner"]);
    let teams = says(&["teams"]);
    assert!(
        teams.contains("runa.holm (owner)") && teams.contains("*@orrin-sound.example"),
        "{teams}"
    );
    let seen = |own: &std::path::Path, arguments: &[&str]| {
        let output = place.lark_as(own, arguments);
        text(&output.stdout) + &text(&output.stderr)
    };
    assert!(seen(&runa, &["reports"]).contains("harbours.disks-daily"));
    // Nobody is left signed in by having chosen a password here.
    assert!(seen(&runa, &["sessions"]).contains("No browser is signed in"));
    let id = run["id"].as_str().unwrap();
    for arguments in [
        &["reports"][..],
        &["runs"],
        &["archive", "search"],
        &["show", id],
    ] {
        let said = seen(&ada, arguments);
        assert!(
            !said.contains("disks") && !said.contains("Disks"),
            "{arguments:?}: {said}"
        );
    }
    // What is shared with her she uses, and does not have.
    let exported = runa.join("exported");
    seen(&runa, &["export", exported.to_str().unwrap()]);
    let mut files: Vec<String> = std::fs::read_dir(&exported)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    files.sort();
    assert_eq!(files, ["1.toml", "2.toml"]);
    let elsewhere = [
        "send",
        "harbours.disks-daily",
        "--to",
        "a@elsewhere.example",
    ];
    assert!(seen(&runa, &elsewhere).contains("not to a@elsewhere.example"));

    // Several at once, from a file; who is there already is passed over.
    let file = place.folder.path().join("colleagues.csv");
    let several = "name,role,email,teams\nada.berg,author,,\nold.mate,viewer,,harbours\n";
    std::fs::write(&file, several).unwrap();
    let import =
        |more: &[&str]| says(&[&["users", "import", file.to_str().unwrap()][..], more].concat());
    assert!(import(&["--check"]).contains("would be invited"));
    assert!(!says(&["users"]).contains("old.mate"));
    let said = import(&[]);
    assert!(
        said.contains("is there already") && said.contains("/invitation#"),
        "{said}"
    );
    assert!(says(&["teams"]).contains("old.mate"));
    std::fs::write(&file, several.replace("harbours", "none")).unwrap();
    let refused = place.lark(&["users", "import", file.to_str().unwrap()]);
    assert!(
        text(&refused.stderr)
            .contains("there is no team \"none\" for old.mate; nobody was invited")
    );

    // What was made is found by its words and by who got it.
    let search = [
        "archive",
        "search",
        "db-2",
        "--recipient",
        "office@orrin-sound.example",
    ];
    until("it is read", || {
        seen(&runa, &search)
            .contains("harbours.disks-daily")
            .then_some(())
    });
    let found = seen(&runa, &search);
    assert!(
        found.contains("db-2") && found.contains("1 mail "),
        "{found}"
    );
    let zip = place.folder.path().join("archive.zip");
    says(&[
        "archive",
        "search",
        "--report",
        "harbours.disks-daily",
        "--zip",
        zip.to_str().unwrap(),
    ]);
    assert_eq!(&std::fs::read(&zip).unwrap()[..2], b"PK");

    // A token does what it is for.
    let token = says(&["tokens", "new", "job", "--scope", "read", "--days", "1"]);
    let with_token = |arguments: &[&str]| {
        let own = place.folder.path().join("nobody");
        let output = place.lark_with_token(&own, token.trim(), arguments);
        (output.status.success(), text(&output.stderr))
    };
    assert!(with_token(&["reports"]).0);
    let (ok, why) = with_token(&["run", "harbours.disks-daily", "--detach"]);
    assert!(
        !ok && why.contains("needs a token with the scope run"),
        "{why}"
    );

    // All of it is on record, for the administrator.
    let trail = says(&["audit", "--user", "runa.holm"]);
    assert!(trail.contains("chose a password by a link"), "{trail}");
    let written = place.folder.path().join("audit.csv");
    says(&["audit", "--csv", written.to_str().unwrap()]);
    let written = std::fs::read_to_string(written).unwrap();
    assert!(
        written.contains(
            "runa.holm,127.0.0.1,run_report,harbours.disks-daily,to a@elsewhere.example,refused"
        ),
        "{written}"
    );
    assert!(says(&["audit", "--verify"]).contains("are what was kept"));
    assert!(seen(&runa, &["audit"]).contains("needs the role administrator"));

    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    signed_in_at(&browser, &place, "/users").await;
    see(
        &browser,
        "//article[@aria-label='Harbours'][contains(., 'runa.holm')]",
    )
    .await;
    let hands = Hands::at(&browser);
    let list = "//input[@aria-label='Add somebody to Harbours']/ancestor::div[contains(@class, 'el-select__wrapper')]";
    hands.press(list).await;
    hands
        .press("//ul[@aria-label='Add somebody to Harbours']//li[contains(., 'ada.berg')]")
        .await;
    see(
        &browser,
        "//article[@aria-label='Harbours']//li[contains(., 'ada.berg')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    assert!(
        seen(&ada, &["reports"]).contains("harbours.disks-daily"),
        "at once"
    );
    hands
        .press("//button[@aria-label='Take ada.berg out of Harbours']")
        .await;
    see(
        &browser,
        "//article[@aria-label='Harbours'][not(contains(., 'ada.berg'))]",
    )
    .await;
    hands.press("//a[contains(., 'Audit trail')]").await;
    see(&browser, "//td[contains(., 'took somebody out of a team')]").await;
    hands.press("//button[contains(., 'Verify')]").await;
    see(&browser, "//*[contains(., 'entries are what was kept')]").await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press("//nav//a[contains(., 'Archive')]").await;
    hands.fill("Words in the document", "db-2").await;
    see(&browser, "//h1").await.click().await.unwrap();
    see(&browser, "//li//mark[contains(., 'db-2')]").await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press("//label[contains(., 'Front pages')] | //*[contains(@class, 'el-switch')][contains(., 'Front pages')]").await;
    see(
        &browser,
        "//img[contains(@alt, 'First page of Disks of the harbours')]",
    )
    .await;
    assert_eq!(barriers(&browser).await, json!([]));
    browser.close().await.unwrap();
}

/// What somebody owned who has gone gets another owner, and nothing else of it changes.
#[tokio::test(flavor = "multi_thread")]
async fn reports_of_somebody_who_has_gone_are_handed_over() {
    let (place, _service) = ready().await;
    let report = |name: &str, owner: &str| {
        let text = fixtures::report(name, "small")
            .key("owner", owner)
            .lines("# Kept as it is.");
        (format!("{name}.toml"), text.to_string())
    };
    place.apply_small(&fixtures::report("small", "small"));
    let (mine, hers) = (
        "Desk <desk@orrin-sound.example>",
        "Runa Holm <Runa@orrin-sound.example>",
    );
    let files = [
        report("one", hers),
        report("two", "runa@orrin-sound.example"),
        report("three", mine),
    ];
    let files: Vec<(&str, &str)> = files
        .iter()
        .map(|(file, text)| (&**file, &**text))
        .collect();
    applied(&place, &files);
    let says = |arguments: &[&str]| {
        let output = place.lark(arguments);
        assert!(output.status.success(), "{}", text(&output.stderr));
        text(&output.stdout)
    };
    says(&[
        "users",
        "invite",
        "runa",
        "--email",
        "runa@orrin-sound.example",
    ]);
    says(&[
        "users",
        "invite",
        "ada",
        "--email",
        "ada@orrin-sound.example",
    ]);
    says(&["users", "remove", "runa", "--yes"]);
    let hand = ["users", "hand-over"];
    let gone = place.lark(&[&hand[..], &["runa", "ada", "--yes"]].concat());
    assert!(
        text(&gone.stderr).contains("give the mail address"),
        "{}",
        text(&gone.stderr)
    );
    let over = [&hand[..], &["runa@orrin-sound.example", "ada"]].concat();
    let checked = says(&[&over[..], &["--check"]].concat());
    assert!(
        checked.contains("one") && checked.contains("two") && !checked.contains("three"),
        "{checked}"
    );
    let declined = place.lark_with_input(&over, "n\n");
    assert!(
        text(&declined.stderr).contains("nothing was changed"),
        "{}",
        text(&declined.stderr)
    );
    assert!(says(&[&over[..], &["--yes"]].concat()).contains("Handed over"));
    let exported = place.folder.path().join("exported");
    says(&["export", exported.to_str().unwrap()]);
    let read = |name: &str| std::fs::read_to_string(exported.join(format!("{name}.toml"))).unwrap();
    for name in ["one", "two"] {
        assert!(
            read(name).contains("owner = \"ada@orrin-sound.example\""),
            "{}",
            read(name)
        );
        assert!(read(name).contains("# Kept as it is."), "{}", read(name));
    }
    assert!(read("three").contains(mine));
    assert!(
        says(&["history", "report", "one"]).contains("handed over from runa@orrin-sound.example")
    );
    assert!(says(&over).contains("owns no report"));
}

/// By the sign-in of the console, which asks a directory about names that are nobody's here.
#[tokio::test(flavor = "multi_thread")]
async fn somebody_of_the_directory_signs_in_in_the_browser_until_they_leave_it() {
    let directory = DirectoryServer::start().await.unwrap();
    for name in ["runa", "bui"] {
        directory.add_person(name, "gulls-at-dawn").await.unwrap();
    }
    directory.add_group("crew", "bui").await.unwrap();
    directory.put_into("crew", "runa").await.unwrap();
    let place = Place::new().await;
    place.add_to_configuration(&format!(
        "[directory]\nhost = \"127.0.0.1:{}\"\ntls = \"tls\"\nca-file = \"{}\"\nuser = \"{READER}\"\npassword = \"{READER_PASSWORD}\"\n\
         base = \"ou=people,{ORGANISATION}\"\ngroups = \"ou=groups,{ORGANISATION}\"\ncheck-every = \"PT1S\"\n[directory.roles]\nviewer = [\"cn=crew,ou=groups,{ORGANISATION}\"]\n",
        directory.tls_port,
        directory.certificate().display()
    ));
    let _service = place.serve();
    place.sign_in();
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    let hands = Hands::at(&browser);
    let runs = format!("http://{}/runs", place.address);
    browser.goto(&runs).await.unwrap();
    for (password, then) in [
        (
            "wrong",
            "//*[@role='alert'][contains(., 'password is wrong')]",
        ),
        ("gulls-at-dawn", "//h1[contains(., 'Runs')]"),
    ] {
        hands.fill("Password", password).await;
        if password == "wrong" {
            hands.fill("Name", "runa").await;
        }
        hands.press("//button[@type='submit']").await;
        see(&browser, then).await;
    }
    browser
        .goto(&format!("http://{}/account", place.address))
        .await
        .unwrap();
    see(&browser, "//p[contains(., 'changed there')]").await;
    let passkeys = Locator::XPath("//h2[.='Passkeys']");
    assert!(browser.find(passkeys).await.is_err());
    directory.take_out_of("crew", "runa").await.unwrap();
    until("the directory to be looked at", || {
        let listed = text(&place.lark(&["users"]).stdout);
        listed.contains("left the directory").then_some(())
    });
    browser.goto(&runs).await.unwrap();
    see(&browser, "//input[@name='name']").await;
    browser.close().await.unwrap();
}

/// By the browser from the console to the provider and back, and out of both.
#[tokio::test(flavor = "multi_thread")]
async fn somebody_signs_in_by_the_identity_provider_and_signs_out_of_both() {
    let provider = OpenIdProvider::start().await.unwrap();
    provider.member("runa", "gulls-at-dawn", &["crew"]);
    let place = Place::new().await;
    place.add_to_configuration(&format!(
        "[identity-provider]\nissuer = \"{}\"\nclient = \"{CLIENT}\"\nsecret = \"{SECRET}\"\ntitle = \"Orrin Sound account\"\n[identity-provider.roles]\nviewer = [\"crew\"]\n",
        provider.issuer()
    ));
    let _service = place.serve();
    place.sign_in();
    let driver = Driver::start();
    let browser = driver.browser(&place.folder.path().join("profile")).await;
    let hands = Hands::at(&browser);
    let runs = format!("http://{}/runs", place.address);
    browser.goto(&runs).await.unwrap();
    let way = "//a[contains(., 'Sign in with Orrin Sound account')]";
    see(&browser, way).await;
    assert_eq!(barriers(&browser).await, json!([]));
    hands.press(way).await;
    see(&browser, "//h1[contains(., 'Orrin Sound account')]").await;
    for (name, words) in [("name", "runa"), ("password", "gulls-at-dawn")] {
        let field = see(&browser, &format!("//input[@name='{name}']")).await;
        field.send_keys(words).await.unwrap();
    }
    hands.press("//button[contains(., 'Sign in')]").await;
    // She is where she wanted to go.
    see(&browser, "//h1[contains(., 'Runs')]").await;
    hands.press("//a[contains(@title, 'Your sign-in')]").await;
    see(&browser, "//p[contains(., 'identity provider')]").await;
    assert!(
        browser
            .find(Locator::XPath("//input[@name='current-password']"))
            .await
            .is_err()
    );
    assert_eq!(barriers(&browser).await, json!([]));
    let listed = text(&place.lark(&["users"]).stdout);
    assert!(
        listed.contains("active, by the identity provider"),
        "{listed}"
    );

    // A token of hers signs the command line in.
    let make = "const answer = await fetch('/api/v1/session/tokens', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({ label: 'mine' }) }); return (await answer.json()).token";
    let token = browser.execute(make, Vec::new()).await.unwrap();
    let own = place.folder.path().join("runa");
    let remembered =
        place.lark_with_token(&own, token.as_str().unwrap(), &["sign-in", "--with-token"]);
    assert!(
        text(&remembered.stdout).contains("as runa (viewer)"),
        "{}",
        text(&remembered.stderr)
    );
    assert!(place.lark_as(&own, &["runs"]).status.success());
    let out = place.lark_as(&own, &["sign-out"]);
    assert!(
        text(&out.stdout).contains("stays good"),
        "{}",
        text(&out.stdout)
    );

    hands.press("//button[@aria-label='Sign out']").await;
    see(&browser, way).await;
    assert_eq!(provider.signed_out(), 1);
    browser.goto(&runs).await.unwrap();
    see(&browser, way).await;
    browser.close().await.unwrap();
}
