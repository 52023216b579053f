//! All definitions together, by name, and what they mean together.

pub mod audiences;
pub mod content;
pub mod people;

use std::{borrow::Cow, collections::BTreeMap, sync::Arc};

use maple_lark_time::{
    Zone,
    named_days::NamedDays,
    schedule::{Plan, Schedule},
};

use crate::{
    model::{
        calendar::CalendarFile,
        channel::Channel,
        dashboard::Dashboard,
        dashboard_template::DashboardTemplate,
        definition::Definition,
        kind::Kind,
        message_template::MessageTemplate,
        parameter::{Parameter, ParameterValue, Values},
        people::{Group, Person},
        report::Report,
        sampler::Sampler,
        source::Source,
        theme::Theme,
    },
    problem::Placed,
    set::content::Missing,
};

/// All definitions by name. Names are unique within a kind.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DefinitionSet {
    /// The sources.
    pub sources: BTreeMap<String, Source>,
    /// The dashboards.
    pub dashboards: BTreeMap<String, Dashboard>,
    /// The reports.
    pub reports: BTreeMap<String, Report>,
    /// The calendars.
    pub calendars: BTreeMap<String, CalendarFile>,
    /// The samplers.
    pub samplers: BTreeMap<String, Sampler>,
    /// The themes.
    pub themes: BTreeMap<String, Theme>,
    /// The people.
    pub people: BTreeMap<String, Person>,
    /// The groups.
    pub groups: BTreeMap<String, Group>,
    /// The channels.
    pub channels: BTreeMap<String, Channel>,
    /// The message templates.
    pub message_templates: BTreeMap<String, MessageTemplate>,
    /// The templates of this place; those that come with the program are not among them.
    pub templates: BTreeMap<String, DashboardTemplate>,
}

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
                drop(self.calendars.insert(calendar.name.clone(), *calendar))
            }
            Definition::Sampler(sampler) => {
                drop(self.samplers.insert(sampler.name.clone(), *sampler))
            }
            Definition::Theme(theme) => {
                drop(self.themes.insert(theme.value.name.clone(), theme.value))
            }
            Definition::Person(person) => drop(self.people.insert(person.name.clone(), person)),
            Definition::Group(group) => drop(self.groups.insert(group.name.clone(), group)),
            Definition::Channel(channel) => {
                drop(self.channels.insert(channel.name.clone(), *channel))
            }
            Definition::MessageTemplate(message_template) => drop(
                self.message_templates
                    .insert(message_template.name.clone(), message_template),
            ),
            Definition::Template(template) => {
                drop(self.templates.insert(template.name.clone(), *template))
            }
        }
    }

    /// Takes the definition of this kind and name out, if there is one.
    pub fn remove(&mut self, kind: Kind, name: &str) {
        match kind {
            Kind::Source => drop(self.sources.remove(name)),
            Kind::Dashboard => drop(self.dashboards.remove(name)),
            Kind::Report => drop(self.reports.remove(name)),
            Kind::Calendar => drop(self.calendars.remove(name)),
            Kind::Sampler => drop(self.samplers.remove(name)),
            Kind::Theme => drop(self.themes.remove(name)),
            Kind::Person => drop(self.people.remove(name)),
            Kind::Group => drop(self.groups.remove(name)),
            Kind::Channel => drop(self.channels.remove(name)),
            Kind::MessageTemplate => drop(self.message_templates.remove(name)),
            Kind::Template => drop(self.templates.remove(name)),
        }
    }

    /// What whoever is in these teams sees: what belongs to one of them, and what belongs to all.
    #[must_use]
    pub fn seen_by(&self, teams: &[String]) -> Self {
        fn seen<T: Clone>(
            all: &BTreeMap<String, T>,
            own: impl Fn(&T) -> &[Placed<String>],
            teams: &[String],
        ) -> BTreeMap<String, T> {
            let sees = |one: &T| {
                own(one).is_empty() || own(one).iter().any(|team| teams.contains(&team.value))
            };
            let found = all.iter().filter(|(_, one)| sees(one));
            found
                .map(|(name, one)| (name.clone(), one.clone()))
                .collect()
        }
        Self {
            sources: seen(&self.sources, |one| &one.teams, teams),
            dashboards: seen(&self.dashboards, |one| &one.teams, teams),
            reports: seen(&self.reports, |one| &one.teams, teams),
            calendars: self.calendars.clone(),
            samplers: seen(&self.samplers, |one| &one.teams, teams),
            themes: seen(&self.themes, |one| &one.teams, teams),
            people: seen(&self.people, |one| &one.teams, teams),
            groups: seen(&self.groups, |one| &one.teams, teams),
            channels: seen(&self.channels, |one| &one.teams, teams),
            message_templates: seen(&self.message_templates, |one| &one.teams, teams),
            templates: seen(&self.templates, |one| &one.teams, teams),
        }
    }

    /// When a report runs, with the days that its calendars name; nothing if it runs only
    /// when asked.
    #[must_use]
    pub fn plan<'a>(&self, report: &'a Report) -> Option<Plan<'a>> {
        report
            .schedule
            .as_ref()
            .map(|schedule| self.plan_of(schedule, report.zone))
    }

    /// The same for a schedule that is not a report's.
    #[must_use]
    pub fn plan_of<'a>(&self, schedule: &'a Schedule, zone: Zone) -> Plan<'a> {
        let calendars = schedule
            .calendars
            .iter()
            .filter_map(|name| self.calendars.get(name));
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
    pub(crate) fn content_of<'a>(
        &'a self,
        report: &Report,
    ) -> (Vec<Cow<'a, Dashboard>>, Vec<Missing>) {
        let found = report
            .dashboards
            .iter()
            .filter_map(|name| self.dashboards.get(&name.value));
        let mut dashboards: Vec<Cow<'a, Dashboard>> = found
            .map(|dashboard| content::whole(dashboard, &self.dashboards, &mut Vec::new()))
            .collect();
        let missing = content::change(&mut dashboards, &report.changes);
        (dashboards, missing)
    }

    /// The same without what is missing, which [`DefinitionSet::check`] tells.
    #[must_use]
    pub fn dashboards_of<'a>(&'a self, report: &Report) -> Vec<Cow<'a, Dashboard>> {
        self.content_of(report).0
    }

    /// One dashboard as it shows itself.
    #[must_use]
    pub fn dashboard<'a>(&'a self, name: &str) -> Option<Cow<'a, Dashboard>> {
        self.dashboards
            .get(name)
            .map(|dashboard| content::whole(dashboard, &self.dashboards, &mut Vec::new()))
    }

    /// The names of the dashboards that a report takes anything from.
    #[must_use]
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
    #[must_use]
    pub fn parameters_of(&self, report: &Report) -> Vec<Parameter> {
        self.dashboards_of(report)
            .iter()
            .flat_map(|dashboard| dashboard.parameters.clone())
            .collect()
    }

    /// The values of a report's parameters for one audience: those given for it, else the
    /// report's, else the dashboard's default. A parameter without any is left out.
    #[must_use]
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
