//! What one definition says of another is checked here.

mod audiences;
mod leaks;
mod people;
mod teams;

use std::borrow::Cow;

use maple_lark_time::nearest::suggestion;

use crate::{
    model::{
        block::BlockKind,
        channel::ChannelKind,
        dashboard::Dashboard,
        parameter::{Parameter, Values},
        query::{Origin, Query, ask::Ask},
        report::Report,
        send_when::SendWhen,
        template,
        template::Template,
    },
    problem::{Placed, Problem},
    set::{DefinitionSet, content, content::Missing},
};

impl DefinitionSet {
    /// Every reference that leads nowhere, every parameter that is missing or does not fit, and
    /// everything that shows what belongs to another team. An empty list means that every report
    /// can run.
    #[must_use]
    pub fn check(&self) -> Vec<Problem> {
        let mut problems = self.check_content();
        self.check_teams(&mut problems);
        problems
    }

    /// The same but for teams: for what is looked at and not kept.
    #[must_use]
    pub fn check_content(&self) -> Vec<Problem> {
        let mut problems = Vec::new();
        for dashboard in self.dashboards.values() {
            self.check_dashboard(dashboard, &mut problems);
        }
        for sampler in self.samplers.values() {
            self.check_query(&sampler.query, &[], "sampler", &mut problems);
        }
        self.check_people(&mut problems);
        for report in self.reports.values() {
            self.check_report(report, &mut problems);
        }
        problems
    }

    fn check_dashboard(&self, dashboard: &Dashboard, problems: &mut Vec<Problem>) {
        let parameters: Vec<&Parameter> = dashboard.parameters.iter().collect();
        for query in &dashboard.queries {
            self.check_query(query, &parameters, "dashboard", problems);
        }
        let mut missing = Vec::new();
        content::whole(dashboard, &self.dashboards, &mut missing);
        problems.extend(
            missing
                .into_iter()
                .map(|Missing { place, reason }| place.problem(reason)),
        );
    }

    fn check_query(
        &self,
        query: &Query,
        parameters: &[&Parameter],
        owner: &str,
        problems: &mut Vec<Problem>,
    ) {
        match &query.origin {
            Origin::Source { name, ask } => {
                self.check_source(name, ask, problems);
                for (name, near) in unknown_names(ask, parameters) {
                    let words = format!(
                        "the query \"{}\" uses :{name}, but this {owner} has no [[parameter]] of that name.{near}",
                        query.name
                    );
                    problems.push(query.place.problem(words));
                }
            }
            Origin::Sampler(name) if !self.samplers.contains_key(&name.value) => {
                let near = suggestion(&name.value, self.samplers.keys().map(String::as_str));
                problems.push(
                    name.place
                        .problem(format!("there is no sampler \"{}\".{near}", name.value)),
                );
            }
            Origin::Sampler(_) | Origin::Query(_) => {}
        }
    }

    /// Whether the source is there and understands what it is asked.
    fn check_source(&self, name: &Placed<String>, ask: &Ask, problems: &mut Vec<Problem>) {
        match self.sources.get(&name.value) {
            None => {
                let near = suggestion(&name.value, self.sources.keys().map(String::as_str));
                problems.push(
                    name.place
                        .problem(format!("there is no source \"{}\".{near}", name.value)),
                );
            }
            Some(source) if !ask.source_kinds().contains(&source.kind.name()) => {
                let words = format!(
                    "the source \"{}\" is of kind \"{}\", but this asks one of kind \"{}\"",
                    name.value,
                    source.kind.name(),
                    ask.source_kinds().join("\" or \"")
                );
                problems.push(name.place.problem(words));
            }
            Some(source) => {
                if let (Some(dialect), Ask::Sql(sql)) = (source.kind.dialect(), ask)
                    && let Err(error) = sql.statement(dialect)
                {
                    let words = format!("the source \"{}\": {error}", name.value);
                    problems.push(name.place.problem(words));
                }
            }
        }
    }

    #[expect(
        clippy::too_many_lines,
        reason = "checks that need nothing of one another, one after the other"
    )]
    fn check_report(&self, report: &Report, problems: &mut Vec<Problem>) {
        for name in &report.dashboards {
            if !self.dashboards.contains_key(&name.value) {
                let near = suggestion(&name.value, self.dashboards.keys().map(String::as_str));
                problems.push(
                    name.place
                        .problem(format!("there is no dashboard \"{}\".{near}", name.value)),
                );
            }
        }
        if let Some(theme) = report
            .theme
            .as_ref()
            .filter(|theme| !self.themes.contains_key(&theme.value))
        {
            let near = suggestion(&theme.value, self.themes.keys().map(String::as_str));
            problems.push(
                theme
                    .place
                    .problem(format!("there is no theme \"{}\".{near}", theme.value)),
            );
        }
        let (dashboards, missing) = self.content_of(report);
        problems.extend(
            missing
                .into_iter()
                .map(|Missing { place, reason }| place.problem(reason)),
        );
        let parameters: Vec<&Parameter> = dashboards
            .iter()
            .flat_map(|dashboard| &dashboard.parameters)
            .collect();
        for name in &report.calendars {
            if !self.calendars.contains_key(&name.value) {
                let near = suggestion(&name.value, self.calendars.keys().map(String::as_str));
                problems.push(name.place.problem(format!(
                    "there is no calendar \"{0}\"; it would be a file \"{0}.ics\".{near}",
                    name.value
                )));
            }
        }
        self.check_readiness(report, &parameters, problems);
        check_wanted_queries(report, &dashboards, problems);
        self.check_delivery(report, &dashboards, problems);
        self.check_audience_queries(report, &parameters, problems);
        self.check_leaks(report, &dashboards, problems);
        let given = report.parameters.iter().chain(
            report
                .audiences
                .iter()
                .flat_map(|audience| &audience.parameters),
        );
        for (name, value) in given {
            let mut fitting = parameters
                .iter()
                .filter(|parameter| &parameter.name == name)
                .peekable();
            if fitting.peek().is_none() {
                let near = suggestion(
                    name,
                    parameters.iter().map(|parameter| parameter.name.as_str()),
                );
                problems.push(value.place.problem(format!(
                    "no dashboard of this report has a parameter \"{name}\".{near}"
                )));
            }
            problems.extend(
                fitting
                    .filter_map(|parameter| parameter.refusal(&value.value))
                    .map(|refusal| value.place.problem(refusal)),
            );
        }
        let missing = |values: &Values| -> Vec<String> {
            parameters
                .iter()
                .filter(|p| !values.contains_key(&p.name))
                .map(|p| format!("\"{}\"", p.name))
                .collect()
        };
        for audience in &report.audiences {
            let missing = missing(&self.values(report, Some(&audience.parameters)));
            if !missing.is_empty() {
                problems.push(audience.place.problem(format!(
                    "audience \"{}\" has no value for the parameter {}",
                    audience.name,
                    missing.join(", ")
                )));
            }
        }
        if report.audiences.is_empty() && report.audience_queries.is_empty() {
            let missing = missing(&self.values(report, None));
            if !missing.is_empty() {
                problems.push(report.place.problem(format!(
                    "there is no value for the parameter {}; set it under [parameters]",
                    missing.join(", ")
                )));
            }
        }
    }

    #[expect(
        clippy::too_many_lines,
        reason = "checks that need nothing of one another, one after the other"
    )]
    fn check_delivery(
        &self,
        report: &Report,
        dashboards: &[Cow<'_, Dashboard>],
        problems: &mut Vec<Problem>,
    ) {
        self.check_audiences(report, problems);
        if let Some(name) = &report.deliver.mail_server {
            match self.channels.get(&name.value) {
                None => {
                    let near = suggestion(&name.value, self.channels.keys().map(String::as_str));
                    problems.push(
                        name.place
                            .problem(format!("there is no channel \"{}\".{near}", name.value)),
                    );
                }
                Some(channel) if !matches!(channel.kind, ChannelKind::MailServer(_)) => {
                    problems.push(name.place.problem(format!(
                        "the channel \"{}\" is no mail server but of kind \"{}\"",
                        name.value,
                        channel.kind.name()
                    )));
                }
                Some(_) => {}
            }
        }
        let message_template = report
            .message_template
            .as_ref()
            .map(|name| (name, self.message_templates.get(&name.value)));
        if let Some((name, None)) = message_template {
            let near = suggestion(
                &name.value,
                self.message_templates.keys().map(String::as_str),
            );
            problems.push(name.place.problem(format!(
                "there is no message template \"{}\".{near}",
                name.value
            )));
        }
        let Some(known) = figure_names(dashboards) else {
            return;
        };
        let shared = message_template
            .and_then(|(_, message_template)| message_template)
            .into_iter()
            .flat_map(|message_template| [&message_template.subject, &message_template.message]);
        for template in [&report.subject, &report.message]
            .into_iter()
            .chain(shared)
            .flatten()
        {
            for name in template::figures_named(template)
                .iter()
                .filter(|name| !known.contains(*name))
            {
                let near = suggestion(name, known.iter().map(String::as_str));
                problems.push(report.place.problem(format!("the message names figures.{name}, but no key figure of this report is called that.{near}")));
            }
        }
        for text in dashboards.iter().flat_map(|dashboard| dashboard.texts()) {
            for name in template::figures_named(&Template::new(text.to_owned()))
                .iter()
                .filter(|name| !known.contains(*name))
            {
                let near = suggestion(name, known.iter().map(String::as_str));
                problems
                    .push(report.place.problem(format!("a text in a dashboard of this report names figures.{name}, but no key figure is called that.{near}")));
            }
        }
        if let SendWhen::Figures { conditions, .. } = &report.send_when {
            for condition in conditions
                .iter()
                .filter(|condition| !known.contains(&condition.value.figure))
            {
                let near = suggestion(&condition.value.figure, known.iter().map(String::as_str));
                problems.push(condition.place.problem(format!(
                    "no key figure of this report is called \"{}\".{near}",
                    condition.value.figure
                )));
            }
        }
    }

    fn check_audience_queries(
        &self,
        report: &Report,
        parameters: &[&Parameter],
        problems: &mut Vec<Problem>,
    ) {
        for query in &report.audience_queries {
            self.check_source(&query.source, &query.ask, problems);
            for (name, near) in unknown_names(&query.ask, parameters) {
                problems
                    .push(query.place.problem(format!("the audience query uses :{name}, but no dashboard of this report has a parameter of that name.{near}")));
            }
            for (name, column) in query
                .parameters
                .iter()
                .filter(|(name, _)| !parameters.iter().any(|parameter| &parameter.name == *name))
            {
                let near = suggestion(
                    name,
                    parameters.iter().map(|parameter| parameter.name.as_str()),
                );
                problems.push(column.place.problem(format!(
                    "no dashboard of this report has a parameter \"{name}\".{near}"
                )));
            }
            let values = self.values(report, None);
            for parameter in parameters.iter().filter(|p| {
                !values.contains_key(&p.name) && !query.parameters.contains_key(&p.name)
            }) {
                problems.push(query.place.problem(format!(
                    "the audiences of this query have no value for the parameter \"{}\"",
                    parameter.name
                )));
            }
        }
    }

    fn check_readiness(
        &self,
        report: &Report,
        parameters: &[&Parameter],
        problems: &mut Vec<Problem>,
    ) {
        let Some(readiness) = &report.readiness else {
            return;
        };
        self.check_source(&readiness.source, &readiness.ask, problems);
        for (name, near) in unknown_names(&readiness.ask, parameters) {
            problems.push(readiness.place.problem(format!("the question uses :{name}, but no dashboard of this report has a parameter of that name.{near}")));
        }
        // It is asked once for the whole run, with the values that hold for all audiences.
        let values = self.values(report, None);
        for name in readiness
            .ask
            .names()
            .iter()
            .filter(|name| parameters.iter().any(|parameter| &parameter.name == *name))
        {
            if !values.contains_key(name) {
                problems.push(
                    readiness.place.problem(format!("the question uses :{name}, which has no value that holds for all audiences; set it under [parameters]")),
                );
            }
        }
    }
}

/// What the key figures of these dashboards are called: their columns' names. Nothing if a
/// block shows whatever columns its query has, so that they are known only with the data.
fn figure_names(dashboards: &[Cow<'_, Dashboard>]) -> Option<Vec<String>> {
    let mut names = Vec::new();
    for block in dashboards
        .iter()
        .flat_map(|dashboard| &dashboard.sections)
        .flat_map(|section| &section.blocks)
    {
        match &block.kind {
            BlockKind::Figures { columns, .. } if columns.is_empty() => return None,
            BlockKind::Figures { columns, .. } => names.extend(columns.iter().cloned()),
            _ => {}
        }
    }
    Some(names)
}

/// What a report wants of the queries of its dashboards.
fn check_wanted_queries(
    report: &Report,
    dashboards: &[Cow<'_, Dashboard>],
    problems: &mut Vec<Problem>,
) {
    let queries = || dashboards.iter().flat_map(|dashboard| &dashboard.queries);
    if let SendWhen::Rows(names) = &report.send_when {
        for name in names
            .iter()
            .filter(|name| !queries().any(|query| query.name == name.value))
        {
            let near = suggestion(&name.value, queries().map(|query| query.name.as_str()));
            problems.push(name.place.problem(format!(
                "no dashboard of this report has a query \"{}\".{near}",
                name.value
            )));
        }
    }
    let compares = |query: &&Query| {
        query
            .ask()
            .is_some_and(|ask| ask.names().iter().any(|name| name.starts_with("compare_")))
    };
    if report.window.compare.is_none()
        && let Some(query) = queries().find(compares)
    {
        let words = format!(
            "the query \"{}\" uses the comparison window, so [window] needs for instance compare = \"window-before\"",
            query.name
        );
        problems.push(report.place.problem(words));
    }
}

/// The names of values in a question that are neither a time nor a parameter, each with what
/// it may have been meant to be.
fn unknown_names(ask: &Ask, parameters: &[&Parameter]) -> Vec<(String, String)> {
    let known = || {
        ask.time_names()
            .iter()
            .copied()
            .chain(parameters.iter().map(|parameter| parameter.name.as_str()))
    };
    let unknown = ask
        .names()
        .into_iter()
        .filter(|name| !known().any(|known| known == name));
    unknown
        .map(|name| (name.clone(), suggestion(&name, known())))
        .collect()
}
