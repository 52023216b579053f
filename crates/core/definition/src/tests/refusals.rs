//! What is refused, each with the key that it is about and the words that mend it. What every key has
//! in common (its kind, its bounds, a mistyped name) is in `mistakes`.

use maple_lark_fixtures::{self as fixtures, Fixture};

use crate::{fill::Filling, model::definition::Definition, query_alone};

/// What is said of a text, key by key.
fn said(text: &str) -> Vec<String> {
    let read = Definition::parse("x.toml", text);
    let problems = read.err().unwrap_or_default();
    problems.iter().map(ToString::to_string).collect()
}

/// Each text is refused at the key and in the words that stand beside it.
fn all_refused(texts: impl IntoIterator<Item = (String, &'static str, &'static str)>) {
    for (text, key, words) in texts {
        let said = said(&text);
        let is_it = |one: &String| {
            let mut parts = one.splitn(3, ": ").skip(1);
            let about = parts.next().is_some_and(|about| about.contains(key));
            about && parts.next().is_some_and(|said| said.contains(words))
        };
        assert!(
            said.iter().any(is_it),
            "{key}: {words}\nin {said:#?}\nof\n{text}"
        );
    }
}

/// A report with a table of its own.
fn with(table: &str) -> String {
    fixtures::report("r", "d").table(table).to_string()
}

fn window(keys: &str) -> String {
    let report = fixtures::report("r", "d");
    report
        .instead_of("[window]", &format!("[window]\n{keys}"))
        .to_string()
}

fn board() -> Fixture {
    fixtures::dashboard("d").asked("q", "s", "sql = \"select 1 as n\"")
}

/// A dashboard with a query, and a step that follows it.
fn then(step: &str) -> String {
    let steps = format!("[[query.then]]\n{step}");
    fixtures::dashboard("d")
        .asked("q", "s", "sql = \"select 1 as n\"")
        .table(&steps)
        .block("show = \"table\"\ntitle = \"T\"\nquery = \"q\"")
        .to_string()
}

fn block(keys: &str) -> String {
    board()
        .block(&format!("title = \"B\"\nquery = \"q\"\n{keys}"))
        .to_string()
}

/// A dashboard whose query is asked as written.
fn asks(keys: &str) -> String {
    fixtures::dashboard("d").query("q", "s", keys).to_string()
}

fn page(keys: &str) -> String {
    asks(&format!("page = \"/board\"\n{keys}"))
}

#[test]
fn schedules() {
    let schedule = |keys: &str| with(&format!("[schedule]\n{keys}"));
    let at = "at = \"07:30\"";
    all_refused([
        (
            schedule(&format!("every = \"day\"\n{at}\nstarts = \"soon\"")),
            "schedule.starts",
            "\"soon\" is not a date",
        ),
        (
            schedule(&format!("every = \"day\"\n{at}\nends = \"12000-01-01\"")),
            "schedule.ends",
            "in a year from 1 to 9999",
        ),
        (
            schedule("every = \"day\"\nat = \"half past\""),
            "schedule.at",
            "is not a time of day",
        ),
        (
            schedule(&format!("every = \"day\"\n{at}\non = [\"monday\"]")),
            "schedule.on",
            "every = \"week\", \"month\" and \"year\" only",
        ),
        (
            schedule(&format!("every = \"week\"\n{at}\non = [\"mondy\"]")),
            "schedule.on",
            "Did you mean \"monday\"?",
        ),
        (
            schedule(&format!("every = \"month\"\n{at}\non = [\"32th\"]")),
            "schedule.on",
            "is no day of a month",
        ),
        (
            schedule(&format!("every = \"year\"\n{at}\non = [\"christmas\"]")),
            "schedule.on",
            "such as \"12-24\"",
        ),
        (
            schedule(&format!("every = \"P2D\"\n{at}")),
            "schedule.every",
            "needs starts = \"2026-12-01\"",
        ),
        (
            schedule(&format!(
                "every = \"P3D\"\n{at}\nstarts = \"2026-12-01\"\non = [\"monday\"]"
            )),
            "schedule.on",
            "on goes with whole weeks",
        ),
        (
            schedule(&format!("every = \"PT15M\"\n{at}")),
            "schedule.at",
            "at does not go with an interval",
        ),
        (
            schedule(&format!("every = \"fortnight\"\n{at}")),
            "schedule.every",
            "or a duration such as",
        ),
        (
            schedule(&format!("once = \"2026-12-01T07:30\"\n{at}")),
            "schedule.at",
            "at does not go with once",
        ),
        (
            schedule("once = \"tomorrow\""),
            "schedule.once",
            "in the report's own zone",
        ),
        (
            schedule("crontab = \"30 7 * * 1-5\"\non = [\"monday\"]"),
            "schedule.on",
            "does not go with crontab",
        ),
        (
            schedule("rule = \"FREQ=DAILY\""),
            "schedule.rule",
            "a rule needs its first date and time",
        ),
        (
            schedule("rule = \"FREQ=DAILY\"\nstarts = \"2026-12-01\"\nat = [\"07:30\", \"19:30\"]"),
            "schedule.at",
            "a rule has one first time",
        ),
        (
            schedule(&format!("every = \"day\"\ncrontab = \"* * * * *\"\n{at}")),
            "schedule",
            "a schedule has exactly one of",
        ),
        (
            schedule(&format!(
                "every = \"day\"\n{at}\non-calendar-day = \"skip\""
            )),
            "schedule.on-calendar-day",
            "there is no calendar to go by",
        ),
        (
            schedule(
                "every = \"PT1H\"\ncalendar = \"holidays\"\non-calendar-day = \"next-working-day\"",
            ),
            "schedule.on-calendar-day",
            "skipped, but not moved",
        ),
    ]);
}

#[test]
fn windows() {
    all_refused([
        (
            window("last = \"PT24H\"\ncount = 2"),
            "window.count",
            "count goes with previous only",
        ),
        (
            window("previous = \"day\"\nweek-starts = \"sunday\""),
            "window.week-starts",
            "remove it",
        ),
        (
            window("interval = \"last summer\""),
            "window.interval",
            "is not an ISO 8601 interval",
        ),
        (
            window("interval = \"2026-02-01/2026-01-01\""),
            "window.interval",
            "ends before it begins",
        ),
        (
            window("previous = \"day\"\nlast = \"PT1H\""),
            "window",
            "a window has exactly one of",
        ),
        (
            window("previous = \"week\"\nonly-hours = []"),
            "window.only-hours",
            "names nothing; remove it",
        ),
        (
            window("previous = \"week\"\nonly-days = [\"holidays\"]"),
            "window.only-days",
            "nor \"weekday\" for Monday to Friday",
        ),
        (
            window("previous = \"week\"\nonly-hours = [\"08:00-12:00\", \"11:00-16:00\"]"),
            "window.only-hours",
            "overlap; join them or make them apart",
        ),
        (
            fixtures::report("r", "d")
                .instead_of("[window]", "")
                .to_string(),
            "window",
            "the table [window] is missing",
        ),
    ]);
}

#[test]
fn reports_and_whom_they_go_to() {
    let many: Vec<String> = (0..60).map(|n| format!("\"t{n}\"")).collect();
    let audience = |keys: &str| with(&format!("[[audience]]\nname = \"a\"\n{keys}"));
    let from =
        "[[audiences-from]]\nsource = \"s\"\nsql = \"select 1\"\nname = \"n\"\nto = \"mail\"\n";
    let address = "to = [\"a@orrin-sound.example\"]";
    let change = |keys: &str| with(&format!("[[change]]\nblock = \"B\"\n{keys}"));
    let files = |keys: &str| with(&format!("[files]\n{keys}"));
    all_refused([
        (
            fixtures::report("r", "d")
                .list("dashboards", &[])
                .to_string(),
            "report.dashboards",
            "a report needs at least one dashboard",
        ),
        (
            fixtures::report("r", "d")
                .lines(&format!("tags = [{}]", many.join(", ")))
                .to_string(),
            "report.tags",
            "tags",
        ),
        (
            fixtures::report("r", "d").list("tags", &[""]).to_string(),
            "report.tags",
            "a tag has 1 to",
        ),
        (audience(""), "audience[1]", "or name channels = [\"…\"]"),
        (
            with(&format!(
                "[[audience]]\nname = \"a\"\n{address}\n[[audience]]\nname = \"a\"\n{address}"
            )),
            "audience[2]",
            "two audiences are named \"a\"",
        ),
        (
            audience("to = [\"nobody at all\"]"),
            "audience[1].to[",
            "or the name of a person or a group",
        ),
        (
            audience("to = [\"a@orrin-sound.example\", \"A@orrin-sound.example\"]"),
            "audience[1].to[",
            "is named twice",
        ),
        (
            with(from),
            "audiences-from[1]",
            "say which column narrows what an audience sees",
        ),
        (
            with(&format!("{from}parameters = {{ port = 7 }}")),
            "port",
            "the name of the column that holds its value",
        ),
        (
            audience(&format!("{address}\nparameters = {{ port = true }}")),
            "port",
            "a text, a number or a list of texts",
        ),
        (change(""), "change[1]", "nothing is changed here"),
        (
            files("name = \"{{ reprot }}\""),
            "files.name",
            "Known: report, title, window, from, to, run, values",
        ),
        (
            files("zip = \"big\""),
            "files.zip",
            "is not \"never\", \"always\" or a size",
        ),
        (
            with("[send]\nwhen = \"figures\"\nfigures = [\"many failures\"]"),
            "send",
            "is no condition such as",
        ),
    ]);
}

#[test]
fn blocks() {
    let line = "time = \"t\"\nvalue = \"n\"";
    let from = |from: &str| board().block(&format!("from = \"{from}\"")).to_string();
    all_refused([
        (block("show = \"line\"\ntime = \"t\""), "section[1].block[1]", "names the column, or the columns, to draw"),
        (block("show = \"line\"\ntime = \"t\"\nvalue = [\"n\", \"m\"]\nseries = \"host\""), "block[1].value", "only one value column"),
        (block("show = \"figures\"\nbefore = \"q\"\nsince = \"run\""), "block[1].since", "does not go with \"before\""),
        (block("show = \"heat-map\"\nvalue = \"n\""), "section[1].block[1]", "a heat map has either time"),
        (block("show = \"polar\"\nvalue = \"n\""), "section[1].block[1]", "a polar chart has either time"),
        (block("show = \"polar\"\nvalue = \"n\"\ntime = \"t\"\nsectors = 8"), "block[1].sectors", "a sector for each hour"),
        (block("show = \"forecast\"\ntime = \"t\"\nwithout = [\"luck\"]"), "block[1].without", "knows no part \"luck\""),
        (block("show = \"table\"\ntrend = \"q\""), "section[1].block[1]", "needs all three: trend"),
        (block(&format!("show = \"line\"\n{line}\nwidth = 2")), "block[1].width", "at least a third of the page"),
        (block("show = \"table\"\ncsv = true"), "block[1].csv", "only a chart may say"),
        (block("show = \"page\""), "block[1].query", "asks no live page"),
        (page("table = \"#t\"").replace("show = \"table\"", "show = \"page\""), "block[1].query", "reads rows of the page"),
        (from("another"), "block[1].from", "must name a dashboard and the title of one of its blocks"),
        (fixtures::dashboard("d").asked("q", "s", "sql = \"select 1\"").to_string(), "section", "at least one [[section]] with a [[section.block]]"),
        (board().asked("q", "s", "sql = \"select 2\"").block("show = \"table\"\ntitle = \"T\"\nquery = \"q\"").to_string(), "query[2]", "two queries are named \"q\""),
        (board().block("show = \"image\"\ntitle = \"I\"\ndescription = \"a map\"\ndata = \"map.png\"").to_string(), "block[1].data", "must be a data URL"),
        (board().block("show = \"image\"\ntitle = \"I\"\ndescription = \"a map\"\ndata = \"data:image/png;base64,AAAA\"").to_string(), "block[1].data", "cannot be read as a PNG picture"),
    ]);
}

#[test]
fn queries_and_what_follows_them() {
    let pick = |keys: &str| asks(&format!("pick.table = \"t\"\n{keys}"));
    let measure = "pick.measure = [{ column = \"n\" }]";
    let page_part = "part = [{ selector = \"#a\" }]";
    all_refused([
        (pick(""), "query[1].pick", "a pick needs measures"),
        (
            pick(&format!("{measure}\npick.over-time = true")),
            "pick.over-time",
            "the column that holds the time",
        ),
        (
            pick(&format!(
                "{measure}\npick.time = \"t\"\npick.over-time = true\npick.top = 3"
            )),
            "pick.top",
            "narrow the groups with a filter",
        ),
        (
            pick("pick.measure = [{ column = \"n\", with = \"last\" }]"),
            "with",
            "for others resample under [[query.then]]",
        ),
        (
            pick(&format!("{measure}\npick.filter = [{{ column = \"n\" }}]")),
            "filter[1]",
            "a filter needs one of",
        ),
        (
            asks("file = \"a.csv\"\ndelimiter = \"tab\""),
            "query[1].delimiter",
            "must be one sign",
        ),
        (
            asks("file = \"a.ics\"\nformat = \"icalendar\"\nhas-header = true"),
            "query[1].has-header",
            "does not go with format = \"icalendar\"",
        ),
        (
            asks("file = \"a.parquet\"\nformat = \"parquet\"\nhas-header = false"),
            "has-header",
            "does not go with format = \"parquet\"",
        ),
        (
            asks("file = \"a.xlsx\"\nformat = \"workbook\"\nencoding = \"utf-8\""),
            "query[1].encoding",
            "does not go with format = \"workbook\"",
        ),
        (
            asks("file = \"a.csv\"\nsheet = \"Hosts\""),
            "query[1].sheet",
            "goes with \"workbook\" only",
        ),
        (
            asks("file = \"a.json\"\nformat = \"json\"\nrows = \"hosts\""),
            "query[1].rows",
            "is not a JSONPath",
        ),
        (
            asks("file = \"a.json\"\nformat = \"json\"\ndelimiter = \";\""),
            "query[1].delimiter",
            "goes with \"csv\" only",
        ),
        (
            asks("output = \"lines\"\npattern = \"(\""),
            "query[1].pattern",
            "is no regular expression",
        ),
        (
            asks("output = \"lines\"\npattern = \"^x\""),
            "query[1].pattern",
            "has no named group",
        ),
        (
            asks("output = \"xml\""),
            "query[1].output",
            "\"xml\" is not one of",
        ),
        (
            asks("output = \"csv\"\narguments = [\"{{ from\"]"),
            "query[1].arguments",
            "",
        ),
        (
            asks("file = \"../a.csv\""),
            "query[1].file",
            "must lie below the source's folder",
        ),
        (
            asks("metric = \"up\"\nlabels = { job = 7 }"),
            "job",
            "must be a text or a list of texts",
        ),
        (asks("check = \"tcp\""), "query[1]", "a check needs targets"),
        (
            asks("check = \"load\"\ntargets = [\"/\"]"),
            "query[1].targets",
            "does not go with check = \"load\"",
        ),
        (
            asks("search = \"uid=x\""),
            "query[1].search",
            "must be a search filter (RFC 4515)",
        ),
        (
            asks("search = \"(uid=x)\"\nscope = \"all\""),
            "query[1].scope",
            "\"all\" is not one of",
        ),
        (
            asks("objects = [\"ifDesc\"]\noperation = \"table\""),
            "query[1].objects",
            "Did you mean \"ifDescr\"?",
        ),
        (
            asks("objects = []"),
            "query[1].objects",
            "must be 1 to 60 objects",
        ),
        (
            asks("check = \"tcp\"\ntargets = [\"db-1\"]"),
            "query[1].targets",
            "is not host:port",
        ),
        (
            asks("check = \"disk\"\ntargets = [\"var\"]"),
            "query[1].targets",
            "is not an absolute path",
        ),
        (
            asks("check = \"http\"\ntargets = [\"office\"]"),
            "query[1].targets",
            "is not a URL",
        ),
        (
            page(&format!("{page_part}\ntable = \"#t\"")),
            "query[1]",
            "a page is kept as it looks",
        ),
        (
            page(&format!("part = [{}]", "{ selector = \"#a\" },".repeat(60))),
            "query[1].part",
            "there can be at most",
        ),
        (
            page("view = { locale = \"norsk!\" }"),
            "locale",
            "is not a language (BCP 47)",
        ),
        (
            page("finished = { quiet-seconds = 90 }"),
            "quiet-seconds",
            "a number of seconds from 0 to 60",
        ),
        (
            page("do = [{ open = \"board\" }]"),
            "do[1].open",
            "must begin with a slash",
        ),
        (
            page("do = [{ press = \"A\", open = \"/b\" }]"),
            "do[1]",
            "a step is one of",
        ),
        (
            page(&format!("do = [{}]", "{ press = \"A\" },".repeat(60))),
            "query[1].do",
            "there can be at most",
        ),
        (
            then("do = \"select\""),
            "then[1]",
            "names one or more columns",
        ),
        (
            then("do = \"top\"\nof = \"n\"\nothers = \"Others\""),
            "then[1]",
            "of which columns the rest is added up",
        ),
        (
            then("do = \"compute\"\nhow = \"percent\"\ncolumn = \"p\"\nof = [\"n\"]"),
            "then[1].of",
            "the part, then the whole",
        ),
        (
            then("do = \"rate\"\ntime = \"t\"\nper = \"P1M\""),
            "then[1].per",
            "must be a fixed length of time",
        ),
        (
            then("do = \"histogram-percentile\"\npercentile = 101"),
            "then[1].percentile",
            "between 0 and 100",
        ),
        (
            then("do = \"statistics\"\npercentiles = [50, -1]"),
            "then[1].percentiles",
            "between 0 and 100",
        ),
        (
            then("do = \"filter\"\ncolumn = \"n\""),
            "then[1]",
            "\"filter\" needs one condition",
        ),
    ]);
    let alone = query_alone("q.toml", "").unwrap_err();
    assert!(
        alone[0]
            .to_string()
            .contains("the table [query] is missing"),
        "{alone:?}"
    );
}

#[test]
fn what_goes_over_time() {
    let availability = |keys: &str| then(&format!("do = \"availability\"\n{keys}"));
    let samples = "time = \"t\"\nstate = \"s\"";
    let promise = "objective = 99.9";
    let forecast = "do = \"forecast\"\ntime = \"t\"\nvalue = \"n\"";
    let run = "01a21fb9-8341-7649-b7f3-5749fb00368c";
    let compared = |n: &str, run: &str| {
        format!(
            "[[query]]\nname = \"{n}\"\nsource = \"s\"\nsql = \"select 1 as n\"\n[[query.then]]\ndo = \"changes\"\nkey = \"n\"\nrun = \"{run}\""
        )
    };
    let two_runs = fixtures::dashboard("d")
        .table(&compared("a", run))
        .table(&compared("b", &run.replace("01a2", "01a3")))
        .block("show = \"table\"\ntitle = \"T\"\nquery = \"a\"");
    all_refused([
        (
            availability(samples),
            "then[1]",
            "\"objective-column\" names the column that has it",
        ),
        (
            availability(&format!("{samples}\n{promise}\nobjective-column = \"o\"")),
            "then[1].objective-column",
            "does not go with \"objective\"",
        ),
        (
            availability(&format!("{samples}\nobjective = 101")),
            "then[1].objective",
            "above 0 and at most 100",
        ),
        (
            availability(&format!(
                "{promise}\nfrom = \"a\"\nto = \"b\"\ntime = \"t\""
            )),
            "then[1].time",
            "which say stretches of time",
        ),
        (
            availability(&format!(
                "{samples}\n{promise}\nevents = true\nlongest-gap = \"PT5M\""
            )),
            "then[1].longest-gap",
            "which say only changes",
        ),
        (
            availability(&format!("{samples}\n{promise}\nlongest-gap = \"PT0S\"")),
            "then[1].longest-gap",
            "it has no length",
        ),
        (
            availability(&format!(
                "{samples}\n{promise}\nneeds = \"any\"\nneeds-at-least = 2"
            )),
            "then[1].needs-at-least",
            "does not go with \"needs\"",
        ),
        (
            availability(&format!("{samples}\n{promise}\nperiods = 3")),
            "then[1].periods",
            "goes only with give = \"history\"",
        ),
        (
            then(&format!("{forecast}\nevery = \"P0D\"")),
            "then[1].every",
            "it has no length",
        ),
        (
            then("do = \"stand-out\"\ntime = \"t\"\nvalue = \"n\"\nthreshold = 1"),
            "then[1].threshold",
            "must be 2 or more",
        ),
        (
            then("do = \"changes\""),
            "then[1]",
            "by which rows belong together",
        ),
        (
            then("do = \"changes\"\nkey = \"n\"\ntolerance = -1"),
            "then[1].tolerance",
            "cannot be below 0",
        ),
        (
            then("do = \"changes\"\nkey = \"n\"\nrun = \"yesterday\""),
            "then[1].run",
            "is not the identifier of a run",
        ),
        (
            then("do = \"changes\"\nkey = \"n\"\nsince = \"run\"\nwith = \"q\""),
            "then[1]",
            "give one of \"since\", \"run\" and \"with\"",
        ),
        (
            two_runs.to_string(),
            "query[2]",
            "name the same run, or make a dashboard for each",
        ),
    ]);
}

#[test]
fn parameters_templates_and_themes() {
    let parameter = |keys: &str| {
        board()
            .table(&format!("[[parameter]]\n{keys}"))
            .block("show = \"table\"\ntitle = \"T\"\nquery = \"q\"")
            .to_string()
    };
    let template = |more: &str| {
        format!(
            "[template]\nname = \"t\"\ntitle = \"T\"\nquestion = \"Which?\"\npurpose = \"capacity\"\nsource = \"postgresql\"\n{more}"
        )
    };
    let theme = Fixture::new("theme", "house").key("title", "House");
    all_refused([
        (
            parameter("name = \"by-port\""),
            "parameter[1].name",
            "small letters, digits and underscores",
        ),
        (
            parameter("name = \"port\"\nkind = \"choice\""),
            "parameter[1]",
            "needs either choices",
        ),
        (
            parameter("name = \"port\"\ndefault = true"),
            "parameter[1].default",
            "a text, a number or a list of texts",
        ),
        (
            parameter("name = \"port\"\nkind = \"list\"\ndefault = \"a\""),
            "parameter[1].default",
            "must be a list of texts",
        ),
        (template(""), "dashboard", "a template is of a [dashboard]"),
        (
            template(
                "[[input]]\nname = \"kind\"\ntitle = \"Kind\"\nkind = \"choice\"\n[dashboard]\nname = \"d\"\ntitle = \"D\"\n",
            ),
            "input[1]",
            "needs choices",
        ),
        (
            theme.key("accent", "blue").to_string(),
            "theme.accent",
            "is not a colour such as",
        ),
        (
            "[group]\nname = \"crew\"\nmembers = []\n".to_owned(),
            "group.members",
            "a group needs members",
        ),
        (
            "[message-template]\nname = \"m\"\ntitle = \"M\"\n".to_owned(),
            "message-template",
            "a subject, a text or both",
        ),
    ]);
}

#[test]
fn a_file_defines_one_thing() {
    let said = said(
        "[person]\nname = \"a\"\naddress = \"a@orrin-sound.example\"\n[group]\nname = \"b\"\nmembers = [\"a\"]\n",
    );
    assert!(
        said[0].contains("the file defines several things"),
        "{said:?}"
    );
}

#[test]
fn a_template_is_not_filled_with_what_does_not_fit() {
    let text = "[template]\nname = \"t\"\ntitle = \"T\"\nquestion = \"Which?\"\npurpose = \"capacity\"\nsource = \"postgresql\"\n[[input]]\nname = \"table\"\ntitle = \"Table\"\nexample = \"disks\"\n[dashboard]\nname = \"d\"\ntitle = \"D\"\n[[query]]\nname = \"q\"\nsource = \"s\"\npick = { table = \"${table}\", measure = [{ column = \"n\" }] }\n[[section]]\ntitle = \"S\"\n[[section.block]]\nshow = \"table\"\ntitle = \"T\"\nquery = \"q\"\n";
    let Definition::Template(template) = Definition::parse("t.toml", text).unwrap() else {
        panic!("it is a template");
    };
    let fill = |values: &[(&str, &str)]| {
        let values = values
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
        let filled = template.fill(&Filling {
            name: "mine",
            title: None,
            source: "own",
            values: &values.collect(),
        });
        filled.map_err(|error| error.to_string())
    };
    let filled = fill(&[("table", "volumes")]).unwrap();
    assert!(
        filled.dashboard.text.contains("\"volumes\""),
        "{}",
        filled.dashboard.text
    );
    let long = "x".repeat(4_001);
    for (values, words) in [
        (&[][..], "needs a value, such as \"disks\""),
        (&[("table", &*long)], "is longer than 4,000 characters"),
        (
            &[("table", "a"), ("tabel", "b")],
            "has no input \"tabel\". Did you mean \"table\"?",
        ),
    ] {
        let said = fill(values).unwrap_err();
        assert!(said.contains(words), "{said}");
    }
}

#[test]
fn who_asks_a_directory_or_an_agent_is_whole_and_no_secret_stands_there() {
    let source = |keys: &str| format!("[source]\nname = \"s\"\n{keys}");
    let ldap = |keys: &str| source(&format!("kind = \"ldap\"\naddress = \"d:636\"\n{keys}"));
    let snmp = |keys: &str| source(&format!("kind = \"snmp\"\naddress = \"d:161\"\n{keys}"));
    all_refused([
        (ldap(""), "source", "the key \"base\" is missing here"),
        (
            ldap("base = \"dc=x\"\nuser = \"cn=reader\""),
            "source",
            "a user needs a password",
        ),
        (
            ldap("base = \"dc=x\"\nuser = \"cn=reader\"\npassword = \"hunter2\""),
            "source.password",
            "must not stand in a definition",
        ),
        (
            source("kind = \"ldap\"\naddress = \"d\"\nbase = \"dc=x\""),
            "source.address",
            "is not host:port, such as \"127.0.0.1:636\"",
        ),
        (snmp(""), "source", "the key \"version\" is missing here"),
        (
            snmp("version = \"2c\"\ncommunity = \"public\""),
            "source.community",
            "must not stand in a definition",
        ),
        (
            snmp("version = \"2c\"\ncommunity = \"env:C\"\nuser = \"u\""),
            "source.user",
            "goes with version = \"3\" only",
        ),
        (
            snmp("version = \"3\"\nuser = \"u\"\ncommunity = \"env:C\""),
            "source.community",
            "goes with version = \"2c\" only",
        ),
        (
            snmp(
                "version = \"3\"\nuser = \"u\"\nprivacy = \"aes128\"\nprivacy-password = \"env:P\"",
            ),
            "source.privacy",
            "needs authentication",
        ),
        (
            snmp("version = \"3\"\nuser = \"u\"\nauthentication = \"sha256\""),
            "source",
            "the key \"authentication-password\" is missing here",
        ),
    ]);
}

#[test]
fn a_server_of_files_is_known_by_its_key_and_signed_in_to_in_one_way() {
    let sftp = |keys: &str| {
        format!(
            "[source]\nname = \"s\"\nkind = \"sftp\"\naddress = \"share.example:22\"\nuser = \"reports\"\nfolder = \"in\"\n{keys}"
        )
    };
    let key = format!("host-key = \"SHA256:{}\"\n", "A".repeat(43));
    let signed = |keys: &str| sftp(&format!("{key}{keys}"));
    all_refused([
        (
            sftp("password = \"env:P\""),
            "source",
            "the key \"host-key\" is missing here",
        ),
        (
            sftp("host-key = [\"AAAA\"]\npassword = \"env:P\""),
            "source.host-key",
            "is not the fingerprint of a key",
        ),
        (signed(""), "source", "needs a password or a private-key"),
        (
            signed("password = \"hunter2\""),
            "source.password",
            "must not stand in a definition",
        ),
        (
            signed("password = \"env:P\"\nprivate-key = \"secret:k\""),
            "source.password",
            "either a password or a private-key",
        ),
        (
            signed("password = \"env:P\"\npassphrase = \"env:Q\""),
            "source.passphrase",
            "goes with private-key only",
        ),
    ]);
    let whole = signed("private-key = \"secret:k\"\npassphrase = \"secret:p\"");
    let Ok(Definition::Source(source)) = Definition::parse("x.toml", &whole) else {
        panic!("{:?}", said(&whole))
    };
    assert_eq!(source.kind.place(), "in at share.example:22");
}
