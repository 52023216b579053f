//! Programs of the administrator's.

use maple_lark_sources::Commands;

use super::{Answer, *};

fn reader(script: &str) -> Reader {
    let command = ["/bin/sh", "-c", script, "backups"].map(str::to_owned);
    Reader::unguarded().with_programs(Commands::from([("backups".to_owned(), command.to_vec())]))
}

fn backups(more: &str) -> Source {
    source(&format!(
        "kind = \"program\"\nprogram = \"backups\"\n{more}"
    ))
}

async fn ask_by(reader: &Reader, source: &Source, query: &str) -> Result<Answer, String> {
    ask_with(reader, source, query, &Values::new()).await
}

async fn printed(script: &str, asked: &str) -> Result<Answer, String> {
    ask_by(&reader(script), &backups(""), asked).await
}

#[tokio::test]
async fn what_a_program_prints_are_rows() {
    let script = "echo host,size,from; echo \"$1,$2,$3\"";
    let asked = "output = \"csv\"\narguments = [\"db 1; rm -rf /\", \"12.5\", \"--at={{ from }}\"]";
    let answer = printed(script, asked).await.unwrap();
    let row = &answer.table.rows[0];
    assert_eq!(
        row[0],
        Value::Text("db 1; rm -rf /".into()),
        "no shell reads it"
    );
    assert_eq!(row[1], Value::Number(12.5));
    assert!(
        matches!(&row[2], Value::Text(text) if text.starts_with("--at=2026-10-")),
        "{row:?}"
    );
    assert!(
        answer
            .sent
            .starts_with("backups db 1; rm -rf / 12.5 --at=2026-10-"),
        "{}",
        answer.sent
    );
    // A program that says much beside it, and one that prints another form.
    let noisy = "yes | head -c 3000000 >&2; echo '[{\"host\": \"h1\"}]'";
    let answer = printed(noisy, "output = \"json\"").await.unwrap();
    assert_eq!(answer.table.rows, [[Value::Text("h1".into())]]);
    let found = reader("").test(&backups("")).await.unwrap();
    assert_eq!(found.found, "/bin/sh is there");
}

#[tokio::test]
async fn what_goes_wrong_with_a_program_is_said() {
    let csv = "output = \"csv\"";
    for (script, words) in [
        (
            "echo the index is locked >&2; exit 4",
            "the program ended with code 4: the index is locked",
        ),
        ("exit 3", "the program ended with code 3, without a word"),
        ("kill -TERM $$", "the program was ended from outside"),
        ("echo a,b; echo 1", "output, line 2: it has 1 columns"),
    ] {
        let error = printed(script, csv).await.unwrap_err();
        assert!(error.contains(words), "{script}: {error}");
    }
    let unknown = Reader::unguarded();
    let error = ask_by(&unknown, &backups(""), csv).await.unwrap_err();
    assert!(
        error.contains("there is no program \"backups\" under [source-programs]"),
        "{error}"
    );
    let gone = Commands::from([("backups".to_owned(), vec!["/no/such/program".to_owned()])]);
    let gone = Reader::unguarded().with_programs(gone);
    let error = ask_by(&gone, &backups(""), csv).await.unwrap_err();
    assert!(error.contains("cannot be run: No such file"), "{error}");
    assert!(gone.test(&backups("")).await.is_err());
}

#[tokio::test]
async fn a_program_is_held_to_its_limits() {
    let csv = "output = \"csv\"";
    let small = backups("max-size = \"100 kB\"\ntimeout = \"PT1S\"");
    let error = ask_by(&reader("yes"), &small, csv).await.unwrap_err();
    assert!(error.contains("is larger than 1 MB"), "{error}");
    let folder = TempDir::new().unwrap();
    let file = folder.path().join("child");
    let endless = format!("sleep 1000 & echo $! > {}; wait", file.display());
    let error = ask_by(&reader(&endless), &small, csv).await.unwrap_err();
    assert!(error.contains("1 s"), "{error}");
    let child = std::fs::read_to_string(&file).unwrap();
    let running = format!("/proc/{}/cmdline", child.trim());
    // Its body may wait to be collected; it has no command any more.
    while std::fs::read(&running).is_ok_and(|command| !command.is_empty()) {
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
}

#[tokio::test]
async fn a_value_becomes_no_option() {
    let script = "echo site; echo \"$1\"";
    let values = |site: &str| {
        let site = ParameterValue::Text(site.to_owned());
        Values::from([("site".to_owned(), site)])
    };
    for (argument, site, fine) in [
        ("{{ site }}", "havnes", true),
        ("{{ site }}", "--delete-all", false),
        ("--site={{ site }}", "--delete-all", false),
        ("--site={{ site }}", "havnes", true),
    ] {
        let asked = format!("output = \"csv\"\narguments = [\"{argument}\"]");
        let answer = ask_with(&reader(script), &backups(""), &asked, &values(site)).await;
        let fine_now = match &answer {
            Ok(answer) => answer.table.rows.len() == 1,
            Err(_) => false,
        };
        // Joined to its option a value may begin as it likes.
        let joined = argument.starts_with("--");
        assert_eq!(fine_now, fine || joined, "{argument} {site}: {answer:?}");
    }
}
