use std::{fs, path::Path};

use super::*;
use crate::{Definition, DefinitionSet, Purpose};

/// The templates that come with the program.
fn shipped() -> Vec<DashboardTemplate> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../../templates");
    let mut all: Vec<DashboardTemplate> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            let text = fs::read_to_string(&path).unwrap();
            match Definition::parse(&name, &text) {
                Ok(Definition::Template(template)) => *template,
                Ok(other) => panic!("{name} is a {}", other.kind().name()),
                Err(problems) => {
                    let told: Vec<String> = problems.iter().map(ToString::to_string).collect();
                    panic!("{name}:\n{}", told.join("\n"))
                }
            }
        })
        .collect();
    all.sort_by(|one, other| one.name.cmp(&other.name));
    all
}

#[test]
fn the_templates_that_come_with_the_program_are_whole() {
    let all = shipped();
    assert!(all.len() >= 24, "{}", all.len());
    for purpose in Purpose::ALL {
        let count = all.iter().filter(|one| one.purpose == purpose).count();
        assert!(count >= 2, "{}: {count}", purpose.title());
    }
    for template in &all {
        let about = &template.name;
        assert!(template.question.ends_with('?'), "{about}");
        assert!(!template.sketch.is_empty(), "{about}");
    }
}

fn template(more: &str) -> DashboardTemplate {
    let text = format!(
        r#"# how to keep it
[template]
name = "disks"
title = "Disks"
question = "How full?"
purpose = "capacity"
version = 3
source = "local-checks"

[[input]]
name = "folders"
title = "Folders"
kind = "list"
example = "/"

[[input]]
name = "days"
title = "Warning"
kind = "number"
default = "30"

[[input]]
name = "word"
title = "Word"
kind = "choice"
choices = ["a", "b"]
default = "a"

[dashboard]
name = "${{dashboard}}" # stays
title = "Disks of ${{source}}"

[[sampler]]
name = "${{dashboard}}-disks"
every = "PT15M"

[sampler.query]
source = "${{source}}"
check = "disk"
targets = "${{folders}}"

[[query]]
name = "q"
sampler = "${{dashboard}}-disks"
{more}

[[query.column]]
name = "used_percent"
unit = "percent"
warning = "${{days}}"

[[section]]
title = "S"
[[section.block]]
show = "table"
title = "${{word}} b_c ${{source}}"
query = "q"
"#
    );
    match Definition::parse("t.toml", &text).unwrap() {
        Definition::Template(template) => *template,
        other => panic!("{other:?}"),
    }
}

fn filled(template: &DashboardTemplate, values: &[(&str, &str)]) -> Result<Filled, CannotFill> {
    let values = values
        .iter()
        .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
        .collect();
    template.fill(&Filling {
        name: "my-disks",
        title: None,
        source: "here",
        values: &values,
    })
}

#[test]
fn a_filled_template_is_a_dashboard_with_its_samplers_that_knows_where_it_is_from() {
    let made = filled(
        &template(""),
        &[("folders", "/\n /var, /tmp"), ("days", "12.5")],
    )
    .unwrap();
    let text = &made.dashboard.text;
    assert!(
        text.starts_with("[dashboard]\nname = \"my-disks\"") && text.contains("# stays"),
        "{text}"
    );
    assert!(
        !text.contains("[template]") && !text.contains("[[input]]"),
        "{text}"
    );
    assert!(
        text.contains("warning = 12.5") && text.contains("\"A b_c here\""),
        "{text}"
    );
    let Ok(Definition::Dashboard(dashboard)) = Definition::parse("d.toml", text) else {
        panic!("{text}")
    };
    assert_eq!(dashboard.title, "Disks of here");
    let from = dashboard.made_from.clone().unwrap();
    assert_eq!(
        (from.template.as_str(), from.version, from.source.as_str()),
        ("disks", 3, "here")
    );
    let values: Vec<(&str, &str)> = from
        .values
        .iter()
        .map(|(name, value)| (name.as_str(), value.as_str()))
        .collect();
    assert_eq!(
        values,
        [
            ("days", "12.5"),
            ("folders", "/, /var, /tmp"),
            ("word", "a")
        ]
    );

    assert_eq!(made.samplers.len(), 1);
    let sampler = &made.samplers[0];
    assert_eq!(
        sampler.text,
        "[sampler]\nname = \"my-disks-disks\"\nevery = \"PT15M\"\n\n[query]\nsource = \"here\"\ncheck = \"disk\"\ntargets = [\"/\", \"/var\", \"/tmp\"]\n"
    );
    let mut set = DefinitionSet::default();
    let source = "[source]\nname = \"here\"\nkind = \"local-checks\"\n";
    for text in [source, &sampler.text, text] {
        set.put(Definition::parse("f.toml", text).unwrap());
    }
    assert_eq!(set.check(), []);
    // The same again is the same text, so that a difference is one of the template.
    let again = template("").fill(&Filling {
        name: "my-disks",
        title: None,
        source: &from.source,
        values: &from.values,
    });
    assert_eq!(again.unwrap(), made);
}

#[test]
fn values_that_are_missing_or_do_not_fit_are_named() {
    let told = |values: &[(&str, &str)]| filled(&template(""), values).unwrap_err().to_string();
    assert_eq!(
        told(&[]),
        "Folders (\"folders\") needs a value, such as \"/\""
    );
    assert_eq!(told(&[("folders", "  ")]), told(&[]));
    assert_eq!(
        told(&[("folders", ",\n")]),
        "Folders (\"folders\"): give at least one, each on a line of its own"
    );
    assert_eq!(
        told(&[("folders", "/"), ("days", "soon")]),
        "Warning (\"days\"): \"soon\" is not a number"
    );
    assert!(told(&[("folders", "/"), ("word", "c")]).contains("is not one of a, b"));
    assert_eq!(
        told(&[("folder", "/")]),
        "the template \"disks\" has no input \"folder\". Did you mean \"folders\"?"
    );
}

#[test]
fn a_template_that_would_make_nothing_good_is_refused_when_it_is_read() {
    let told = |from: &str, to: &str| {
        let text = template("").text.replace(from, to);
        let problems = Definition::parse("t.toml", &text).unwrap_err();
        problems
            .iter()
            .map(|problem| problem.message.clone())
            .collect::<Vec<_>>()
            .join("; ")
    };
    assert!(told("${word}", "${wort}").contains("\"${wort}\" is no input"));
    assert!(
        told(
            "sampler = \"${dashboard}-disks\"\n",
            "source = \"x\"\nsql = \"select '${word}'\"\n"
        )
        .contains("SQL has no placeholders")
    );
    assert!(told("show = \"table\"", "show = \"tabel\"").contains("filled with examples"));
    assert!(told("example = \"/\"\n", "").contains("needs a default, or an example"));
    assert!(told("default = \"30\"", "default = \"x\"").contains("is not a number"));
    assert!(told("name = \"days\"", "name = \"source\"").contains("is taken"));
    assert!(
        told("kind = \"number\"", "kind = \"column\"\nof = \"word\"")
            .contains("an earlier input of kind \"table\"")
    );
    assert!(
        told("purpose = \"capacity\"", "purpose = \"capacities\"")
            .contains("Did you mean \"capacity\"?")
    );
}

#[test]
fn a_new_report_says_when_and_to_whom() {
    let schedule = serde_json::json!({ "every": "weekday", "at": "07:45" });
    let window = serde_json::json!({ "previous": "day" });
    let mut report = NewReport {
        name: "daily",
        title: "Daily \"disks\"",
        owner: None,
        time_zone: "Atlantic/Faroe",
        dashboards: &["my-disks".to_owned()],
        formats: &["pdf".to_owned(), "csv".to_owned()],
        window: &window,
        schedule: Some(&schedule),
        to: &["ann@orrin-sound.example".to_owned()],
    };
    let text = report.text().unwrap();
    let Ok(Definition::Report(read)) = Definition::parse("r.toml", &text) else {
        panic!("{text}")
    };
    assert_eq!(
        (read.title.as_str(), read.formats.len()),
        ("Daily \"disks\"", 2)
    );
    assert!(
        read.schedule.is_some() && read.audiences.len() == 1,
        "{text}"
    );
    (report.schedule, report.to) = (None, &[]);
    let text = report.text().unwrap();
    assert!(
        !text.contains("audience") && !text.contains("schedule"),
        "{text}"
    );
    assert!(Definition::parse("r.toml", &text).is_ok());
}

#[test]
fn a_dashboard_becomes_a_template_that_makes_it_again() {
    let dashboard = "# ours\n[dashboard]\nname = \"kiosks\" # stays\ntitle = \"Kiosks\"\n\n[[query]]\nname = \"q\"\nsource = \"operations\"\n[query.pick]\ntable = \"kiosk_sales\"\ngroup = [\"kiosk\"]\nmeasure = [{ column = \"sold\", with = \"sum\", name = \"amount\" }]\n\n[[section]]\ntitle = \"S\"\n[[section.block]]\nshow = \"bar\"\ntitle = \"T\"\nquery = \"q\"\nlabel = \"kiosk\"\nvalue = \"amount\"\n";
    let made_of = |inputs: &[(&str, &str)]| {
        let inputs = inputs
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect();
        NewTemplate {
            name: "kiosks-of",
            title: "Kiosks of a port",
            question: "Which sell most?",
            purpose: "performance",
            source_kind: "postgresql",
            inputs: &inputs,
        }
        .of(dashboard)
    };
    let text = made_of(&[("label", "kiosk"), ("table", "kiosk_sales")]).unwrap();
    let template = match Definition::parse("t.toml", &text) {
        Ok(Definition::Template(template)) => *template,
        other => panic!("{other:?}\n{text}"),
    };
    assert!(text.contains("name = \"${dashboard}\" # stays"), "{text}");
    assert_eq!(text.matches("${label}").count(), 2, "{text}");
    let values = [("label", "kiosk"), ("table", "kiosk_sales")]
        .map(|(name, value)| (name.to_owned(), value.to_owned()))
        .into();
    let again = template.fill(&Filling {
        name: "kiosks",
        title: None,
        source: "operations",
        values: &values,
    });
    let again = again.unwrap().dashboard.text;
    let remembered = again
        .lines()
        .find(|line| line.starts_with("template = "))
        .unwrap();
    assert_eq!(
        again.replace(&format!("{remembered}\n"), ""),
        dashboard.strip_prefix("# ours\n").unwrap()
    );
    let refused = made_of(&[("port", "havnes")]).unwrap_err().to_string();
    assert!(
        refused.contains("\"havnes\", the value for \"port\", stands nowhere"),
        "{refused}"
    );
}

/// What the documentation shows can be used as it stands, and lists what there is.
#[test]
fn the_documentation_has_a_template_that_works_and_names_all() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../../docs/templates.md");
    let docs = fs::read_to_string(docs).unwrap();
    let example = docs.split("```toml\n").nth(1).unwrap();
    let example = example.split("```").next().unwrap();
    let read = Definition::parse("t.toml", example);
    assert!(matches!(read, Ok(Definition::Template(_))), "{read:?}");
    for template in shipped() {
        let line = format!("| `{}` | {} |", template.name, template.question);
        assert!(docs.contains(&line), "{line}");
    }
}
