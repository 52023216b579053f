//! A real SNMP agent.

use maple_lark_demo::{
    SnmpAgent,
    snmp_agent::{COMMUNITY, OLD_USER, PASSWORD, PRIVACY_PASSWORD, USER},
};

use super::*;

/// A secret in a file, as definitions refer to it.
fn kept(text: &str) -> (tempfile::NamedTempFile, String) {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), text).unwrap();
    let reference = format!("file:{}", file.path().display());
    (file, reference)
}

fn version_2(address: &str, community: &str) -> Source {
    source(&format!(
        "kind = \"snmp\"\naddress = \"{address}\"\nversion = \"2c\"\ncommunity = \"{community}\""
    ))
}

fn text(value: &Value) -> &str {
    match value {
        Value::Text(text) => text,
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn objects_are_read_by_their_names() {
    let agent = SnmpAgent::start().unwrap();
    let (_file, community) = kept(COMMUNITY);
    let source = version_2(&agent.address(), &community);
    let asked = "objects = [\"sysName\", \"sysLocation.0\", \"sysUpTime\", \"1.3.6.1.2.1.1.4.0\", \"upsBatteryStatus\"]";
    let answer = ask(&source, asked).await.unwrap();
    let names: Vec<&str> = answer
        .table
        .columns
        .iter()
        .map(|column| column.name.as_str())
        .collect();
    assert_eq!(
        names,
        [
            "sysName",
            "sysLocation",
            "sysUpTime",
            "sysContact",
            "upsBatteryStatus"
        ]
    );
    let row = &answer.table.rows[0];
    assert_eq!(text(&row[0]), "kai-2.orrin-sound.example");
    assert_eq!(text(&row[1]), "Havnes, quay 2");
    assert!(
        matches!(row[2], Value::Number(seconds) if (0.0..600.0).contains(&seconds)),
        "{row:?}"
    );
    assert_eq!(text(&row[3]), "ops@orrin-sound.example");
    assert_eq!(row[4], Value::Missing, "it has no battery");
    assert_eq!(
        answer.sent,
        "get sysName, sysLocation.0, sysUpTime, 1.3.6.1.2.1.1.4.0, upsBatteryStatus"
    );
    let found = Reader::unguarded().test(&source).await.unwrap();
    assert!(
        found.found.starts_with("kai-2.orrin-sound.example: Linux"),
        "{found:?}"
    );
    assert!(found.warning.unwrap().contains("version 3 protects both"));
}

#[tokio::test]
async fn tables_have_a_row_for_each_index() {
    let agent = SnmpAgent::start().unwrap();
    let (_file, community) = kept(COMMUNITY);
    let source = version_2(&agent.address(), &community);
    let asked = "operation = \"table\"\nobjects = [\"ifDescr\", \"ifOperStatus\", \"ifHCInOctets\", \"ifPhysAddress\"]";
    let table = ask(&source, asked).await.unwrap().table;
    let place = column(&table, "ifDescr")
        .iter()
        .position(|name| *name == Value::Text("lo".into()))
        .expect("the loopback interface");
    let row = &table.rows[place];
    assert!(matches!(row[0], Value::Integer(1..)), "{row:?}");
    // Loopback is up, or knows nothing of up and down, as the kernel has it.
    assert!(["up", "unknown"].contains(&text(&row[2])), "{row:?}");
    assert!(matches!(row[3], Value::Integer(0..)), "{row:?}");

    // Each walk goes to its end, and no further; the agent's processes are more than one datagram.
    let walked = ask(
        &source,
        "operation = \"walk\"\nobjects = [\"system\", \"hrSWRunName\"]",
    )
    .await
    .unwrap()
    .table;
    let objects: Vec<String> = column(&walked, "object")
        .iter()
        .map(|object| text(object).to_owned())
        .collect();
    assert!(objects.iter().any(|object| object == "sysContact"));
    assert!(objects.iter().any(|object| object == "hrSWRunName"));
    assert!(
        !objects.iter().any(|object| object.starts_with("if")),
        "{objects:?}"
    );
    assert!(
        column(&walked, "value").contains(&Value::Text("snmpd".into())),
        "{walked:?}"
    );
    let few = version_2(
        &agent.address(),
        &format!("{community}\"\nrow-limit = 3\ntitle = \"x"),
    );
    let cut = ask(&few, "operation = \"walk\"\nobjects = [\"system\"]")
        .await
        .unwrap()
        .table;
    assert_eq!((cut.rows.len(), cut.truncated), (3, true));
}

#[tokio::test]
async fn version_three_proves_who_asks_and_encrypts() {
    let agent = SnmpAgent::start().unwrap();
    let (_one, password) = kept(PASSWORD);
    let (_two, privacy) = kept(PRIVACY_PASSWORD);
    let (_three, wrong) = kept("another-password");
    let user = |name: &str, hash: &str, cipher: &str, password: &str| {
        source(&format!(
            "kind = \"snmp\"\naddress = \"{}\"\nversion = \"3\"\nuser = \"{name}\"\nauthentication = \"{hash}\"\nauthentication-password = \"{password}\"\nprivacy = \"{cipher}\"\nprivacy-password = \"{privacy}\"",
            agent.address()
        ))
    };
    for source in [
        user(USER, "sha256", "aes128", &password),
        user(OLD_USER, "md5", "des", &password),
    ] {
        let answer = ask(&source, "objects = [\"sysName\"]").await.unwrap();
        assert_eq!(text(&answer.table.rows[0][0]), "kai-2.orrin-sound.example");
        let found = Reader::unguarded().test(&source).await.unwrap();
        assert!(found.warning.is_none());
    }
    let said = ask(
        &user(USER, "sha256", "aes128", &wrong),
        "objects = [\"sysName\"]",
    )
    .await
    .unwrap_err();
    assert!(said.contains("refused the sign-in"), "{said}");
    assert!(!said.contains("another-password"), "{said}");
}

#[tokio::test]
async fn what_goes_wrong_with_an_agent_is_said() {
    let agent = SnmpAgent::start().unwrap();
    let (_file, community) = kept("not-the-community");
    let unknown = version_2(&agent.address(), &community);
    let unknown = ask(&unknown, "objects = [\"sysName\"]");
    let nobody = version_2("127.0.0.1:9", &community);
    let nobody = ask(&nobody, "objects = [\"sysName\"]");
    let (unknown, nobody) = tokio::join!(unknown, nobody);
    let said = unknown.unwrap_err();
    assert!(
        said.contains(
            "no answer within 8 s; an agent that does not know who asks does not answer, either"
        ),
        "{said}"
    );
    assert!(!said.contains("not-the-community"), "{said}");
    let said = nobody.unwrap_err();
    assert!(said.contains("127.0.0.1:9 cannot be reached"), "{said}");

    let (_file, community) = kept(COMMUNITY);
    let source = version_2(&agent.address(), &community);
    let said = ask(&source, "objects = [\"sysNam\"]").await.unwrap_err();
    assert!(said.contains("Did you mean \"sysName\"?"), "{said}");
    let entries = Reader::unguarded()
        .catalogue(&source, "battery")
        .await
        .unwrap();
    assert_eq!(
        entries
            .iter()
            .map(|entry| entry.name.as_str())
            .collect::<Vec<_>>(),
        ["ups"]
    );
}
