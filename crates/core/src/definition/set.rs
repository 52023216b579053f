//! Definitions together: what one file says of another is checked here.

use std::collections::BTreeMap;

use super::{Audience, Dashboard, Definition, Kind, Parameter, ParameterValue, Problem, Report, Source};
use crate::nearest::suggestion;

/// All definitions by name. Names are unique within a kind.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DefinitionSet {
    pub sources: BTreeMap<String, Source>,
    pub dashboards: BTreeMap<String, Dashboard>,
    pub reports: BTreeMap<String, Report>,
}

/// The values that a run's queries are asked with, by parameter name.
pub type Values = BTreeMap<String, ParameterValue>;

impl DefinitionSet {
    /// Adds a definition, replacing one of the same kind and name.
    pub fn put(&mut self, definition: Definition) {
        match definition {
            Definition::Source(source) => drop(self.sources.insert(source.name.clone(), source)),
            Definition::Dashboard(dashboard) => drop(self.dashboards.insert(dashboard.name.clone(), dashboard)),
            Definition::Report(report) => drop(self.reports.insert(report.name.clone(), report)),
        }
    }

    pub fn remove(&mut self, kind: Kind, name: &str) {
        match kind {
            Kind::Source => drop(self.sources.remove(name)),
            Kind::Dashboard => drop(self.dashboards.remove(name)),
            Kind::Report => drop(self.reports.remove(name)),
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
            for name in &query.text.names {
                if name != "from" && name != "to" && !dashboard.parameters.iter().any(|parameter| &parameter.name == name) {
                    let known = ["from", "to"].into_iter().chain(dashboard.parameters.iter().map(|parameter| parameter.name.as_str()));
                    let near = suggestion(name, known);
                    problems.push(
                        query.place.problem(format!("the SQL of \"{}\" uses :{name}, but this dashboard has no [[parameter]] of that name.{near}", query.name)),
                    );
                }
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
