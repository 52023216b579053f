//! Reads templates from their tables.

use maple_lark_time::english::quoted_list;

use crate::{
    fill::{DASHBOARD, Filling, SOURCE},
    model::{
        dashboard_template::{DashboardTemplate, Input, InputKind, Purpose, SketchBlock},
        definition::Definition,
        source::SourceKind,
        width::Width,
    },
    read::{
        name::{read_identifier, read_name, read_team},
        node::Node,
    },
};

/// The keys of a dashboard, which stand beside `[template]`.
const OF_DASHBOARD: [&str; 5] = ["dashboard", "parameter", "query", "section", "sampler"];
const INPUT_KINDS: [&str; 9] = [
    "text", "number", "list", "choice", "table", "column", "metric", "label", "file",
];

pub(crate) fn read(root: &Node<'_>, text: &str) -> Option<DashboardTemplate> {
    let node = root.table("template")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node.required("title").value;
    let question = node.required("question").value;
    let purpose = node
        .required_choice("purpose", &Purpose::NAMES)
        .and_then(|word| {
            Purpose::ALL
                .into_iter()
                .find(|purpose| purpose.name() == word)
        });
    let version = node.whole("version", 1..=1_000_000).unwrap_or(1) as u32;
    let source_kind = node.required_choice("source", &SourceKind::NAMES);
    let needs = node.text("needs").map(|text| text.value);
    let instructions = node.text("instructions").map(|text| text.value);
    let place = node.place();
    node.close();
    let mut inputs: Vec<Input> = Vec::new();
    for node in root.tables("input") {
        if let Some(input) = read_input(&node, &inputs) {
            inputs.push(input);
        }
        node.close();
    }
    for key in OF_DASHBOARD {
        root.known_key(key);
    }
    if !root.has("dashboard") {
        root.report(
            "dashboard",
            "a template is of a [dashboard] with its queries and sections",
        );
        return None;
    }
    let mut template = DashboardTemplate {
        name,
        teams,
        title,
        question,
        purpose: purpose?,
        version,
        source_kind: source_kind?,
        needs,
        instructions,
        inputs,
        sketch: Vec::new(),
        samplers: 0,
        text: text.to_owned(),
        place,
    };
    look_at_what_it_makes(&mut template, root);
    Some(template)
}

fn read_kind(node: &Node<'_>, earlier: &[Input]) -> Option<InputKind> {
    let choices: Vec<String> = node
        .texts("choices")
        .into_iter()
        .map(|choice| choice.value)
        .collect();
    let of = node.text("of").map(|of| of.value);
    let of_kind = |wanted: &str| {
        let found = of.as_ref().filter(|of| {
            earlier
                .iter()
                .any(|input| input.name == **of && input.kind.name() == wanted)
        });
        if found.is_none() {
            node.report(
                "of",
                format!("must name an earlier input of kind \"{wanted}\""),
            );
        }
        found.cloned()
    };
    Some(match node.choice("kind", &INPUT_KINDS).unwrap_or("text") {
        "number" => InputKind::Number,
        "list" => InputKind::List,
        "choice" => {
            if choices.is_empty() {
                node.report_self("an input of kind \"choice\" needs choices = [\"…\"]");
            }
            InputKind::Choice(choices)
        }
        "table" => InputKind::Table,
        "column" => InputKind::Column(of_kind("table")?),
        "metric" => InputKind::Metric,
        "label" => InputKind::Label(of_kind("metric")?),
        "file" => InputKind::File,
        _ => InputKind::Text,
    })
}

fn read_input(node: &Node<'_>, earlier: &[Input]) -> Option<Input> {
    let name = read_identifier(node, "name");
    if [SOURCE, DASHBOARD].contains(&name.as_str())
        || earlier.iter().any(|input| input.name == name)
    {
        node.report("name", format!("\"{name}\" is taken; choose another name"));
    }
    let title = node.required("title").value;
    let kind = read_kind(node, earlier)?;
    let default = node.text("default").map(|text| text.value);
    let example = node.text("example").map(|text| text.value);
    let note = node.text("note").map(|text| text.value);
    let Some(example) = example.or_else(|| default.clone()) else {
        node.report_self("an input needs a default, or an example of what to enter");
        return None;
    };
    let input = Input {
        name,
        title,
        kind,
        default,
        example,
        note,
    };
    for value in input.default.iter().chain([&input.example]) {
        if let Some(why) = input.refusal(value) {
            node.report_self(why);
        }
    }
    Some(input)
}

/// Fills the gaps with examples: what comes must be a dashboard, and samplers.
fn look_at_what_it_makes(template: &mut DashboardTemplate, root: &Node<'_>) {
    let place = template.place.clone();
    let values = template.examples();
    let filled = match template.fill(&Filling {
        name: &template.name,
        title: None,
        source: "example",
        values: &values,
    }) {
        Ok(filled) => filled,
        Err(error) => return root.report_at(&place, error),
    };
    template.samplers = filled.samplers.len();
    for made in filled.samplers.iter().chain([&filled.dashboard]) {
        match Definition::parse("what-it-makes.toml", &made.text) {
            Ok(Definition::Dashboard(dashboard)) => {
                let blocks = dashboard
                    .sections
                    .iter()
                    .flat_map(|section| &section.blocks);
                template.sketch = blocks
                    .map(|block| SketchBlock {
                        show: block.kind.show(),
                        title: block.title.clone(),
                        twelfths: block.width.unwrap_or(Width::FULL).twelfths(),
                    })
                    .collect();
            }
            Ok(_) => {}
            Err(problems) => {
                for problem in problems {
                    let words = format!(
                        "filled with examples, {} is wrong: {}",
                        problem.key, problem.message
                    );
                    root.report_at(&place, words);
                }
            }
        }
    }
    if template.sketch.is_empty() && !root.is_wrong() {
        let shows = quoted_list(&["figures", "table"]);
        root.report_at(
            &place,
            format!("it shows nothing; add blocks, such as {shows}"),
        );
    }
}
