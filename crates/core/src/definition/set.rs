//! Definitions together: what one file says of another is checked here.

use std::{borrow::Cow, collections::BTreeMap, sync::Arc};

use super::{
    Ask, BlockKind, Channel, ChannelKind, Dashboard, Definition, Group, Kind, Look, Origin,
    Parameter, ParameterValue, Person, Placed, Problem, Query, Report, Sampler, SendWhen, Source,
    Wording,
    reuse::{self, Missing},
};
use crate::{
    calendar::{Calendar, NamedDays},
    message::{self, Template},
    nearest::suggestion,
    schedule::{Plan, Schedule},
    zone::Zone,
};

/// All definitions by name. Names are unique within a kind.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DefinitionSet {
    pub sources: BTreeMap<String, Source>,
    pub dashboards: BTreeMap<String, Dashboard>,
    pub reports: BTreeMap<String, Report>,
    pub calendars: BTreeMap<String, Calendar>,
    pub samplers: BTreeMap<String, Sampler>,
    pub looks: BTreeMap<String, Look>,
    pub people: BTreeMap<String, Person>,
    pub groups: BTreeMap<String, Group>,
    pub channels: BTreeMap<String, Channel>,
    pub wordings: BTreeMap<String, Wording>,
}

/// The values that a run's queries are asked with, by parameter name.
pub type Values = BTreeMap<String, ParameterValue>;

impl DefinitionSet {
    /// Adds a definition, replacing one of the same kind and name.
    pub fn put(&mut self, definition: Definition) {
        match definition {
            Definition::Source(source) => drop(self.sources.insert(source.name.clone(), *source)),
            Definition::Dashboard(dashboard) => {
                drop(self.dashboards.insert(dashboard.name.clone(), dashboard))
            }
            Definition::Report(report) => drop(self.reports.insert(report.name.clone(), *report)),
            Definition::Calendar(calendar) => {
                drop(self.calendars.insert(calendar.name.clone(), calendar))
            }
            Definition::Sampler(sampler) => {
                drop(self.samplers.insert(sampler.name.clone(), *sampler))
            }
            Definition::Look(look) => drop(self.looks.insert(look.value.name.clone(), look.value)),
            Definition::Person(person) => drop(self.people.insert(person.name.clone(), person)),
            Definition::Group(group) => drop(self.groups.insert(group.name.clone(), group)),
            Definition::Channel(channel) => {
                drop(self.channels.insert(channel.name.clone(), *channel))
            }
            Definition::Wording(wording) => {
                drop(self.wordings.insert(wording.name.clone(), wording))
            }
        }
    }

    pub fn remove(&mut self, kind: Kind, name: &str) {
        match kind {
            Kind::Source => drop(self.sources.remove(name)),
            Kind::Dashboard => drop(self.dashboards.remove(name)),
            Kind::Report => drop(self.reports.remove(name)),
            Kind::Calendar => drop(self.calendars.remove(name)),
            Kind::Sampler => drop(self.samplers.remove(name)),
            Kind::Look => drop(self.looks.remove(name)),
            Kind::Person => drop(self.people.remove(name)),
            Kind::Group => drop(self.groups.remove(name)),
            Kind::Channel => drop(self.channels.remove(name)),
            Kind::Wording => drop(self.wordings.remove(name)),
        }
    }

    /// Every reference that leads nowhere and every parameter that is missing or does not
    /// fit. An empty list means that every report can run.
    pub fn check(&self) -> Vec<Problem> {
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
        reuse::whole(dashboard, &self.dashboards, &mut missing);
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
            Some(source) if source.kind.name() != ask.source_kind() => {
                let words = format!(
                    "the source \"{}\" is of kind \"{}\", but this asks one of kind \"{}\"",
                    name.value,
                    source.kind.name(),
                    ask.source_kind()
                );
                problems.push(name.place.problem(words));
            }
            Some(_) => {}
        }
    }

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
        if let Some(look) = report
            .look
            .as_ref()
            .filter(|look| !self.looks.contains_key(&look.value))
        {
            let near = suggestion(&look.value, self.looks.keys().map(String::as_str));
            problems.push(
                look.place
                    .problem(format!("there is no look \"{}\".{near}", look.value)),
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
        for name in report
            .schedule
            .iter()
            .flat_map(|schedule| &schedule.calendars)
        {
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
        let wording = report
            .wording
            .as_ref()
            .map(|name| (name, self.wordings.get(&name.value)));
        if let Some((name, None)) = wording {
            let near = suggestion(&name.value, self.wordings.keys().map(String::as_str));
            problems.push(
                name.place
                    .problem(format!("there is no wording \"{}\".{near}", name.value)),
            );
        }
        let Some(known) = figure_names(dashboards) else {
            return;
        };
        let shared = wording
            .and_then(|(_, wording)| wording)
            .into_iter()
            .flat_map(|wording| [&wording.subject, &wording.message]);
        for template in [&report.subject, &report.message]
            .into_iter()
            .chain(shared)
            .flatten()
        {
            for name in message::figures_named(template)
                .iter()
                .filter(|name| !known.contains(*name))
            {
                let near = suggestion(name, known.iter().map(String::as_str));
                problems.push(report.place.problem(format!("the message names figures.{name}, but no key figure of this report is called that.{near}")));
            }
        }
        for text in dashboards.iter().flat_map(|dashboard| dashboard.texts()) {
            for name in message::figures_named(&Template::new(text.to_owned()))
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

    /// When a report runs, with the days that its calendars name; nothing if it runs only
    /// when asked.
    pub fn plan<'a>(&self, report: &'a Report) -> Option<Plan<'a>> {
        report
            .schedule
            .as_ref()
            .map(|schedule| self.plan_of(schedule, report.zone))
    }

    /// The same for a schedule that is not a report's.
    pub fn plan_of<'a>(&self, schedule: &'a Schedule, zone: Zone) -> Plan<'a> {
        let calendars = schedule
            .calendars
            .iter()
            .filter_map(|name| self.calendars.get(&name.value));
        let named = calendars.fold(NamedDays::default(), |days, calendar| {
            days.join(calendar.days(zone))
        });
        Plan {
            schedule,
            zone,
            named: Arc::new(named),
        }
    }

    /// The dashboards of a report as it shows them: with blocks taken from others in their
    /// places, and the report's own changes made; and what could not be found for that.
    fn content_of<'a>(&'a self, report: &Report) -> (Vec<Cow<'a, Dashboard>>, Vec<Missing>) {
        let found = report
            .dashboards
            .iter()
            .filter_map(|name| self.dashboards.get(&name.value));
        let mut dashboards: Vec<Cow<'a, Dashboard>> = found
            .map(|dashboard| reuse::whole(dashboard, &self.dashboards, &mut Vec::new()))
            .collect();
        let missing = reuse::change(&mut dashboards, &report.changes);
        (dashboards, missing)
    }

    /// The same without what is missing, which [`DefinitionSet::check`] tells.
    pub fn dashboards_of<'a>(&'a self, report: &Report) -> Vec<Cow<'a, Dashboard>> {
        self.content_of(report).0
    }

    /// One dashboard as it shows itself.
    pub fn dashboard<'a>(&'a self, name: &str) -> Option<Cow<'a, Dashboard>> {
        self.dashboards
            .get(name)
            .map(|dashboard| reuse::whole(dashboard, &self.dashboards, &mut Vec::new()))
    }

    /// The names of the dashboards that a report takes anything from.
    pub fn dashboard_names(&self, report: &Report) -> Vec<String> {
        let mut names: Vec<String> = report
            .dashboards
            .iter()
            .map(|name| name.value.clone())
            .collect();
        let mut next = 0;
        while let Some(name) = names.get(next) {
            let blocks = self
                .dashboards
                .get(name)
                .into_iter()
                .flat_map(|dashboard| &dashboard.sections)
                .flat_map(|section| &section.blocks);
            let taken = blocks
                .filter_map(|block| block.borrowed.as_ref())
                .map(|borrowed| borrowed.dashboard.value.clone());
            let new: Vec<String> = taken.filter(|taken| !names.contains(taken)).collect();
            names.extend(new);
            next += 1;
        }
        names
    }

    /// The parameters of all dashboards of a report, in their order.
    pub fn parameters_of(&self, report: &Report) -> Vec<Parameter> {
        self.dashboards_of(report)
            .iter()
            .flat_map(|dashboard| dashboard.parameters.clone())
            .collect()
    }

    /// The values of a report's parameters for one audience: those given for it, else the
    /// report's, else the dashboard's default. A parameter without any is left out.
    pub fn values(
        &self,
        report: &Report,
        audience: Option<&BTreeMap<String, Placed<ParameterValue>>>,
    ) -> Values {
        let mut values = Values::new();
        for parameter in self.parameters_of(report) {
            let own = audience.and_then(|given| given.get(&parameter.name));
            let value = own
                .or_else(|| report.parameters.get(&parameter.name))
                .map(|placed| &placed.value)
                .or(parameter.default.as_ref());
            if let Some(value) = value {
                values.insert(parameter.name.clone(), value.clone());
            }
        }
        values
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
