//! Programs of the administrator's that carry documents further.

use maple_lark_fixtures::Fixture;
use serde_json::Value;

use crate::{
    channels::by,
    place::{Place, applied, ran, text, wait_for},
};

/// Copies what it is handed beside itself, unless the drive is full.
const SHIP: &str = r#"
import json, os, pathlib, shutil, sys
here = pathlib.Path(__file__).parent
facts = json.load(sys.stdin)
if (here / "full").exists():
    print("the drive is full")
    sys.exit(75)
for document in facts["documents"]:
    shutil.copy(document["path"], here / document["file_name"])
(here / "facts.json").write_text(json.dumps(facts))
print("on its way as", os.environ.get("SECRET_KEY", "nobody"))
"#;

/// A program of the administrator's gets documents by path and facts as JSON; its exit code
/// decides, and its words are on record.
#[tokio::test(flavor = "multi_thread")]
async fn a_program_is_handed_documents_and_its_exit_code_decides() {
    let place = Place::new().await;
    let folder = place.folder.path().join("shipped");
    std::fs::create_dir(&folder).unwrap();
    std::fs::write(folder.join("ship.py"), SHIP).unwrap();
    let script = folder.join("ship.py").display().to_string();
    place.add_to_configuration(&format!(
        "[programs]\nship = [\"/usr/bin/python3\", \"{script}\"]\nrefuse = [\"/bin/sh\", \"-c\", \"echo no such customer >&2; exit 3\"]\n"
    ));
    let _service = place.serve();
    place.sign_in();
    let channel = |name: &str| {
        Fixture::new("channel", name)
            .key("kind", "program")
            .key("program", name)
    };
    for name in ["ship", "refuse", "unknown"] {
        applied(&place, &[(&format!("{name}.toml"), &channel(name))]);
    }
    let tested = place.lark(&["channels", "test", "ship"]);
    assert!(tested.status.success(), "{}", text(&tested.stderr));
    assert!(
        text(&tested.stdout).contains("on its way as nobody"),
        "{}",
        text(&tested.stdout)
    );
    let tested = place.lark(&["channels", "test", "unknown"]);
    let said = text(&tested.stdout) + &text(&tested.stderr);
    assert!(
        !tested.status.success() && said.contains("there is no program \"unknown\""),
        "{said}"
    );
    // Full at first, then tried again: the files are whole, and gone from where they were.
    std::fs::write(folder.join("full"), "").unwrap();
    place.apply_small(&by("[\"ship\"]").list("formats", &["csv", "html"]));
    let id = place.json(&["run", "small", "--detach"])["id"]
        .as_str()
        .unwrap()
        .to_owned();
    wait_for(&place, &id, "a drive that is full", |run| {
        run["deliveries"][0]["attempts"][0]["answer"]
            .as_str()
            .is_some_and(|words| words.contains("the drive is full"))
    });
    std::fs::remove_file(folder.join("full")).unwrap();
    let run = wait_for(&place, &id, "the end of it", |run| run["settled"] == true);
    assert_eq!(run["state"], "delivered", "{run:#}");
    let facts: Value =
        serde_json::from_slice(&std::fs::read(folder.join("facts.json")).unwrap()).unwrap();
    assert_eq!(facts["report"], "small");
    assert_eq!(facts["audience"], "everyone");
    assert_eq!(facts["documents"].as_array().unwrap().len(), 2, "{facts:#}");
    for document in facts["documents"].as_array().unwrap() {
        let name = document["file_name"].as_str().unwrap();
        let bytes = std::fs::read(folder.join(name)).unwrap();
        assert_eq!(document["size"], bytes.len());
        assert!(!std::path::Path::new(document["path"].as_str().unwrap()).exists());
    }
    place.apply_small(&by("[\"refuse\"]"));
    let run = ran(&place, "small");
    assert_eq!(run["state"], "failed", "{run:#}");
    assert!(run.to_string().contains("no such customer"), "{run:#}");
}
