//! Reads what is asked of live pages, and how somebody signs in there, from their tables.

use crate::{
    model::{
        page::{Finished, Keep, PageAsk, PageStep, PageView, PartAsk, SignInSteps},
        setting::Setting,
    },
    read::{node::Node, placeholder::template},
};

/// A page may have so many parts, steps and conditions.
const MOST: usize = 50;

/// What a query asks of a live page.
pub(crate) fn read(node: &Node<'_>) -> Option<PageAsk> {
    let path = node.required("page").value;
    if !path.is_empty() && !path.starts_with('/') {
        node.report(
            "page",
            format!("\"{path}\" must begin with a slash; it stands behind the source's address"),
        );
    }
    let path = template(node, "page", &path);
    let view = node
        .table("view")
        .map(|view| read_view(&view).inspect(|_| view.close()))
        .unwrap_or_else(|| Some(PageView::default()));
    let finished = node.table("finished").map_or_else(Finished::default, |it| {
        let finished = read_finished(&it);
        it.close();
        finished
    });
    let steps = read_steps(node, |step, key| {
        let text = step.required(key).value;
        template(step, key, &text)
    });
    Some(PageAsk {
        path: path?,
        view: view?,
        steps,
        finished,
        hide: texts(node, "hide"),
        keep: read_keep(node)?,
    })
}

fn texts(node: &Node<'_>, key: &'static str) -> Vec<String> {
    let texts: Vec<String> = node
        .texts(key)
        .into_iter()
        .map(|text| text.value)
        .filter(|text| !text.trim().is_empty())
        .collect();
    if texts.len() > MOST {
        node.report(key, format!("has more than {MOST} entries"));
    }
    texts
}

fn read_keep(node: &Node<'_>) -> Option<Keep> {
    let parts: Vec<PartAsk> = node
        .tables("part")
        .into_iter()
        .map(|part| {
            let ask = PartAsk {
                selector: part.required("selector").value,
                title: part.text("title").map(|text| text.value),
                description: part.text("description").map(|text| text.value),
            };
            part.close();
            ask
        })
        .collect();
    if parts.len() > MOST {
        node.report("part", format!("there can be at most {MOST} parts"));
    }
    let printed = node.truth("printed");
    let table = node.text("table").map(|text| text.value);
    let download = node.truth("download").unwrap_or(false);
    match (table, download) {
        (None, false) => Some(Keep::Look {
            parts,
            printed: printed.unwrap_or(false),
        }),
        (table, _) if !parts.is_empty() || printed.is_some() || (table.is_some() && download) => {
            node.report_self(
                "a page is kept as it looks (part, printed), or one table of it is read (table), or the file that it offers (download): choose one",
            );
            None
        }
        (Some(table), _) => Some(Keep::Table(table)),
        (None, true) => Some(Keep::Download),
    }
}

fn read_view(node: &Node<'_>) -> Option<PageView> {
    let usual = PageView::default();
    let locale = node
        .text("locale")
        .map_or_else(|| usual.locale.clone(), |text| text.value);
    let fits = locale.len() <= 35
        && locale
            .split('-')
            .all(|part| !part.is_empty() && part.chars().all(|c| c.is_ascii_alphanumeric()));
    if !fits {
        node.report(
            "locale",
            format!("\"{locale}\" is not a language (BCP 47), such as \"en-GB\" or \"nb-NO\""),
        );
        return None;
    }
    Some(PageView {
        width: node
            .whole("width", 200..=4_000)
            .map_or(usual.width, |n| n as u32),
        height: node
            .whole("height", 200..=4_000)
            .map_or(usual.height, |n| n as u32),
        scale: node.whole("scale", 1..=3).map_or(usual.scale, |n| n as u32),
        dark: node
            .choice("colours", &["light", "dark"])
            .map(|colours| colours == "dark"),
        print_style: node.choice("style", &["screen", "print"]) == Some("print"),
        locale,
    })
}

fn read_finished(node: &Node<'_>) -> Finished {
    let usual = Finished::default();
    let milliseconds = |key: &'static str, usual: u64| match node.number(key) {
        None => usual,
        Some(seconds) if (0.0..=60.0).contains(&seconds) => (seconds * 1000.0).round() as u64,
        Some(_) => {
            node.report(key, "must be a number of seconds from 0 to 60");
            usual
        }
    };
    Finished {
        there: texts(node, "there"),
        gone: texts(node, "gone"),
        text: texts(node, "text"),
        when: node.text("when").map(|text| text.value),
        quiet_milliseconds: milliseconds("quiet-seconds", usual.quiet_milliseconds),
        after_milliseconds: milliseconds("after-seconds", usual.after_milliseconds),
        limit_seconds: node
            .whole("limit-seconds", 1..=300)
            .map_or(usual.limit_seconds, |n| n as u64),
    }
}

/// The steps of a sign-in. What is typed where a secret belongs must be a reference.
pub(crate) fn read_sign_in(node: &Node<'_>) -> Option<SignInSteps> {
    let steps = read_steps(node, |step, key| {
        step.required(key);
        let value = step.parsed::<Setting>(key)?;
        let field = step.text("fill").map(|text| text.value.to_lowercase());
        let secret = field.is_some_and(|field| {
            ["pass", "secret", "token", "code", "pin"]
                .iter()
                .any(|word| field.contains(word))
        });
        if secret && matches!(value, Setting::Plain(_)) {
            step.report(key, "a password must not stand in a definition; refer to it as \"env:NAME\", \"file:/path\" or \"secret:name\"");
        }
        Some(value)
    });
    let typed = steps.iter().any(
        |step| matches!(step, PageStep::Fill { with, .. } if !matches!(with, Setting::Plain(_))),
    );
    if !typed {
        node.report_self("a sign-in by form needs [[source.sign-in.do]] steps, among them one that fills a field with a secret: fill = \"Password\" with = \"secret:name\"");
        return None;
    }
    Some(steps)
}

fn read_steps<T>(
    node: &Node<'_>,
    value: impl Fn(&Node<'_>, &'static str) -> Option<T>,
) -> Vec<PageStep<T>> {
    let steps = node.tables("do");
    if steps.len() > MOST {
        node.report("do", format!("there can be at most {MOST} steps"));
    }
    steps
        .into_iter()
        .filter_map(|step| {
            let read = read_step(&step, &value);
            step.close();
            read
        })
        .collect()
}

fn read_step<T>(
    step: &Node<'_>,
    value: &impl Fn(&Node<'_>, &'static str) -> Option<T>,
) -> Option<PageStep<T>> {
    const KINDS: [&str; 4] = ["open", "fill", "press", "wait-for"];
    let given: Vec<&str> = KINDS.into_iter().filter(|key| step.has(key)).collect();
    match given[..] {
        ["open"] => {
            let path = step.required("open").value;
            if !path.starts_with('/') {
                step.report(
                    "open",
                    "must begin with a slash; it stands behind the source's address",
                );
            }
            Some(PageStep::Open(path))
        }
        ["fill"] => Some(PageStep::Fill {
            field: step.required("fill").value,
            with: value(step, "with")?,
        }),
        ["press"] => Some(PageStep::Press(step.required("press").value)),
        ["wait-for"] => Some(PageStep::WaitFor(step.required("wait-for").value)),
        _ => {
            KINDS.iter().for_each(|key| step.known_key(key));
            step.known_key("with");
            step.report_self("a step is one of: open (an address), fill (a field, and with what), press (a button or link), wait-for (a selector)");
            None
        }
    }
}
