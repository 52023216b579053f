//! Definitions together: what one file says of another is checked here.

use std::{collections::BTreeMap, sync::Arc};

use super::{Audience, Dashboard, Definition, Kind, Parameter, ParameterValue, Problem, Query, Report, SendWhen, Source};
use crate::{
    calendar::{Calendar, NamedDays},
    nearest::suggestion,
    query_text::QueryText,
    schedule::{Plan, Schedule},
    window::Times,
    zone::Zone,
};

/// All definitions by name. Names are unique within a kind.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DefinitionSet {
    pub sources: BTreeMap<String, Source>,
    pub dashboards: BTreeMap<String, Dashboard>,
    pub reports: BTreeMap<String, Report>,
    pub calendars: BTreeMap<String, Calendar>,
}

/// The values that a run's queries are asked with, by parameter name.
pub type Values = BTreeMap<String, ParameterValue>;

impl DefinitionSet {
    /// Adds a definition, replacing one of the same kind and name.
    pub fn put(&mut self, definition: Definition) {
        match definition {
            Definition::Source(source) => drop(self.sources.insert(source.name.clone(), source)),
            Definition::Dashboard(dashboard) => drop(self.dashboards.insert(dashboard.name.clone(), dashboard)),
            Definition::Report(report) => drop(self.reports.insert(report.name.clone(), *report)),
            Definition::Calendar(calendar) => drop(self.calendars.insert(calendar.name.clone(), calendar)),
        }
    }

    pub fn remove(&mut self, kind: Kind, name: &str) {
        match kind {
            Kind::Source => drop(self.sources.remove(name)),
            Kind::Dashboard => drop(self.dashboards.remove(name)),
            Kind::Report => drop(self.reports.remove(name)),
            Kind::Calendar => drop(self.calendars.remove(name)),
        }
    }

    /// Every reference that leads nowhere and every parameter that is missing or does not
    /// fit. An empty list means that every report can run.
    pub fn check(&self) -> Vec<Problem> {
        let mut problems = Vec::new();
        for dashboard in self.dashboards.values() {
            self.check_dashboard(dashboard, &mut problems);
        }
        for report in self.reports.values() {
            self.check_report(report, &mut problems);
        }
        problems
    }

    fn check_dashboard(&self, dashboard: &Dashboard, problems: &mut Vec<Problem>) {
        for query in &dashboard.queries {
            if !self.sources.contains_key(&query.source.value) {
                let near = suggestion(&query.source.value, self.sources.keys().map(String::as_str));
                problems.push(query.source.place.problem(format!("there is no source \"{}\".{near}", query.source.value)));
            }
            for (name, near) in unknown_names(&query.text, &dashboard.parameters.iter().collect::<Vec<_>>()) {
                problems.push(
                    query.place.problem(format!("the SQL of \"{}\" uses :{name}, but this dashboard has no [[parameter]] of that name.{near}", query.name)),
                );
            }
        }
    }

    fn check_report(&self, report: &Report, problems: &mut Vec<Problem>) {
        for name in &report.dashboards {
            if !self.dashboards.contains_key(&name.value) {
                let near = suggestion(&name.value, self.dashboards.keys().map(String::as_str));
                problems.push(name.place.problem(format!("there is no dashboard \"{}\".{near}", name.value)));
            }
        }
        let parameters = self.parameters_of(report);
        for name in report.schedule.iter().flat_map(|schedule| &schedule.calendars) {
            if !self.calendars.contains_key(&name.value) {
                let near = suggestion(&name.value, self.calendars.keys().map(String::as_str));
                problems.push(name.place.problem(format!("there is no calendar \"{0}\"; it would be a file \"{0}.ics\".{near}", name.value)));
            }
        }
        self.check_readiness(report, &parameters, problems);
        self.check_queries(report, problems);
        let given = report.parameters.iter().chain(report.audiences.iter().flat_map(|audience| &audience.parameters));
        for (name, value) in given {
            let mut fitting = parameters.iter().filter(|parameter| &parameter.name == name).peekable();
            if fitting.peek().is_none() {
                let near = suggestion(name, parameters.iter().map(|parameter| parameter.name.as_str()));
                problems.push(value.place.problem(format!("no dashboard of this report has a parameter \"{name}\".{near}")));
            }
            problems.extend(fitting.filter_map(|parameter| parameter.refusal(&value.value)).map(|refusal| value.place.problem(refusal)));
        }
        let missing =
            |values: &Values| -> Vec<String> { parameters.iter().filter(|p| !values.contains_key(&p.name)).map(|p| format!("\"{}\"", p.name)).collect() };
        for audience in &report.audiences {
            let missing = missing(&self.values(report, Some(audience)));
            if !missing.is_empty() {
                problems.push(audience.place.problem(format!("audience \"{}\" has no value for the parameter {}", audience.name, missing.join(", "))));
            }
        }
        if report.audiences.is_empty() {
            let missing = missing(&self.values(report, None));
            if !missing.is_empty() {
                problems.push(report.place.problem(format!("there is no value for the parameter {}; set it under [parameters]", missing.join(", "))));
            }
        }
    }

    fn check_readiness(&self, report: &Report, parameters: &[&Parameter], problems: &mut Vec<Problem>) {
        let Some(readiness) = &report.readiness else { return };
        if !self.sources.contains_key(&readiness.source.value) {
            let near = suggestion(&readiness.source.value, self.sources.keys().map(String::as_str));
            problems.push(readiness.source.place.problem(format!("there is no source \"{}\".{near}", readiness.source.value)));
        }
        for (name, near) in unknown_names(&readiness.text, parameters) {
            problems.push(readiness.place.problem(format!("the SQL uses :{name}, but no dashboard of this report has a parameter of that name.{near}")));
        }
        // It is asked once for the whole run, with the values that hold for all audiences.
        let values = self.values(report, None);
        for name in readiness.text.names.iter().filter(|name| parameters.iter().any(|parameter| &parameter.name == *name)) {
            if !values.contains_key(name) {
                problems
                    .push(readiness.place.problem(format!("the SQL uses :{name}, which has no value that holds for all audiences; set it under [parameters]")));
            }
        }
    }

    /// What a report wants of the queries of its dashboards.
    fn check_queries(&self, report: &Report, problems: &mut Vec<Problem>) {
        let queries = || self.dashboards_of(report).flat_map(|dashboard| &dashboard.queries);
        if let SendWhen::Rows(names) = &report.send_when {
            for name in names.iter().filter(|name| !queries().any(|query| query.name == name.value)) {
                let near = suggestion(&name.value, queries().map(|query| query.name.as_str()));
                problems.push(name.place.problem(format!("no dashboard of this report has a query \"{}\".{near}", name.value)));
            }
        }
        let compares = |query: &&Query| query.text.names.iter().any(|name| name.starts_with("compare_"));
        if report.window.compare.is_none()
            && let Some(query) = queries().find(compares)
        {
            let words = format!("the query \"{}\" uses the comparison window, so [window] needs for instance compare = \"window-before\"", query.name);
            problems.push(report.place.problem(words));
        }
    }

    /// When a report runs, with the days that its calendars name; nothing if it runs only
    /// when asked.
    pub fn plan<'a>(&self, report: &'a Report) -> Option<Plan<'a>> {
        report.schedule.as_ref().map(|schedule| self.plan_of(schedule, report.zone))
    }

    /// The same for a schedule that is not a report's.
    pub fn plan_of<'a>(&self, schedule: &'a Schedule, zone: Zone) -> Plan<'a> {
        let calendars = schedule.calendars.iter().filter_map(|name| self.calendars.get(&name.value));
        let named = calendars.fold(NamedDays::default(), |days, calendar| days.join(calendar.days(zone)));
        Plan { schedule, zone, named: Arc::new(named) }
    }

    /// The parameters of all dashboards of a report, in their order.
    pub fn parameters_of<'a>(&'a self, report: &'a Report) -> Vec<&'a Parameter> {
        self.dashboards_of(report).flat_map(|dashboard| &dashboard.parameters).collect()
    }

    pub fn dashboards_of<'a>(&'a self, report: &'a Report) -> impl Iterator<Item = &'a Dashboard> {
        report.dashboards.iter().filter_map(|name| self.dashboards.get(&name.value))
    }

    /// The values of a report's parameters for one audience: the audience's own, else the
    /// report's, else the dashboard's default. A parameter without any is left out.
    pub fn values(&self, report: &Report, audience: Option<&Audience>) -> Values {
        let mut values = Values::new();
        for parameter in self.parameters_of(report) {
            let own = audience.and_then(|audience| audience.parameters.get(&parameter.name));
            let value = own.or_else(|| report.parameters.get(&parameter.name)).map(|placed| &placed.value).or(parameter.default.as_ref());
            if let Some(value) = value {
                values.insert(parameter.name.clone(), value.clone());
            }
        }
        values
    }
}

/// The names in a query's text that are neither a time nor a parameter, each with what it
/// may have been meant to be.
fn unknown_names(text: &QueryText, parameters: &[&Parameter]) -> Vec<(String, String)> {
    let known = || Times::NAMES.into_iter().chain(parameters.iter().map(|parameter| parameter.name.as_str()));
    let unknown = text.names.iter().filter(|name| !known().any(|known| known == *name));
    unknown.map(|name| (name.clone(), suggestion(name, known()))).collect()
}
