//! A definition of any kind.

use crate::{
    model::{
        calendar::CalendarFile,
        channel::Channel,
        dashboard::Dashboard,
        dashboard_template::DashboardTemplate,
        kind::Kind,
        message_template::MessageTemplate,
        name::in_name_space,
        people::{Group, Person},
        report::Report,
        sampler::Sampler,
        source::Source,
        theme::Theme,
    },
    problem::{Place, Placed, Problem},
};

/// A parsed definition.
#[derive(Debug, Clone, PartialEq)]
pub enum Definition {
    /// What can be asked.
    Source(Box<Source>),
    /// Queries, and the blocks that show them.
    Dashboard(Dashboard),
    /// What is made of dashboards, when, and for whom.
    Report(Box<Report>),
    /// Named days.
    Calendar(Box<CalendarFile>),
    /// A question asked again and again, so that its answers make a history.
    Sampler(Box<Sampler>),
    /// How documents look.
    Theme(Box<Placed<Theme>>),
    /// Somebody who gets documents.
    Person(Person),
    /// Several recipients under one name.
    Group(Group),
    /// A way in which documents are delivered.
    Channel(Box<Channel>),
    /// A subject and a text for messages.
    MessageTemplate(MessageTemplate),
    /// A dashboard with gaps.
    Template(Box<DashboardTemplate>),
}

impl Definition {
    /// What it defines.
    #[must_use]
    pub fn kind(&self) -> Kind {
        match self {
            Definition::Source(_) => Kind::Source,
            Definition::Dashboard(_) => Kind::Dashboard,
            Definition::Report(_) => Kind::Report,
            Definition::Calendar(_) => Kind::Calendar,
            Definition::Sampler(_) => Kind::Sampler,
            Definition::Theme(_) => Kind::Theme,
            Definition::Person(_) => Kind::Person,
            Definition::Group(_) => Kind::Group,
            Definition::Channel(_) => Kind::Channel,
            Definition::MessageTemplate(_) => Kind::MessageTemplate,
            Definition::Template(_) => Kind::Template,
        }
    }

    /// Its name, unique within its kind.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Definition::Source(source) => &source.name,
            Definition::Dashboard(dashboard) => &dashboard.name,
            Definition::Report(report) => &report.name,
            Definition::Calendar(calendar) => &calendar.name,
            Definition::Sampler(sampler) => &sampler.name,
            Definition::Theme(theme) => &theme.value.name,
            Definition::Person(person) => &person.name,
            Definition::Group(group) => &group.name,
            Definition::Channel(channel) => &channel.name,
            Definition::MessageTemplate(message_template) => &message_template.name,
            Definition::Template(template) => &template.name,
        }
    }

    /// Its title for people; its name, if it has none.
    #[must_use]
    pub fn title(&self) -> &str {
        match self {
            Definition::Source(source) => &source.title,
            Definition::Dashboard(dashboard) => &dashboard.title,
            Definition::Report(report) => &report.title,
            Definition::Calendar(calendar) => calendar.title(),
            Definition::Sampler(sampler) => &sampler.title,
            Definition::Theme(theme) => &theme.value.title,
            Definition::Person(person) => &person.title,
            Definition::Group(group) => &group.title,
            Definition::Channel(channel) => &channel.title,
            Definition::MessageTemplate(message_template) => &message_template.title,
            Definition::Template(template) => &template.title,
        }
    }

    /// The teams that see it; all if there are none.
    #[must_use]
    pub fn teams(&self) -> &[Placed<String>] {
        match self {
            Definition::Source(source) => &source.teams,
            Definition::Dashboard(dashboard) => &dashboard.teams,
            Definition::Report(report) => &report.teams,
            // Holidays are nobody's own.
            Definition::Calendar(_) => &[],
            Definition::Sampler(sampler) => &sampler.teams,
            Definition::Theme(theme) => &theme.value.teams,
            Definition::Person(person) => &person.teams,
            Definition::Group(group) => &group.teams,
            Definition::Channel(channel) => &channel.teams,
            Definition::MessageTemplate(message_template) => &message_template.teams,
            Definition::Template(template) => &template.teams,
        }
    }

    /// What is wrong with the name for those whom the definition belongs to: what belongs to teams is in the
    /// name space of one of them (`port.daily`), what belongs to all in none. So nobody can find out by
    /// choosing a name which names others use. What is there already (`is_there`) keeps its name; to give it to a
    /// team, it is copied into the team's name space.
    #[must_use]
    pub fn misnamed(&self, is_there: bool) -> Option<Problem> {
        let (name, teams) = (self.name(), self.teams());
        let words = match (name.split_once('.'), teams.first()) {
            (None, None) => return None,
            (Some((space, _)), _) if teams.iter().any(|team| team.value == space) => return None,
            (Some((space, own)), None) => format!(
                "the name \"{name}\" is for what belongs to a team \"{space}\": say that it does, or call it \"{own}\""
            ),
            (other, Some(team)) => {
                let own = other.map_or(name, |(_, own)| own);
                format!(
                    "what belongs to the team \"{}\" has a name that begins with it, such as \"{}\"",
                    team.value,
                    in_name_space(&team.value, own)
                )
            }
        };
        let mend = if is_there {
            "; copy it under that name"
        } else {
            ""
        };
        Some(self.place().problem(words + mend))
    }

    /// Where it was read.
    #[must_use]
    pub fn place(&self) -> &Place {
        match self {
            Definition::Source(source) => &source.place,
            Definition::Dashboard(dashboard) => &dashboard.place,
            Definition::Report(report) => &report.place,
            Definition::Calendar(calendar) => &calendar.place,
            Definition::Sampler(sampler) => &sampler.place,
            Definition::Theme(theme) => &theme.place,
            Definition::Person(person) => &person.place,
            Definition::Group(group) => &group.place,
            Definition::Channel(channel) => &channel.place,
            Definition::MessageTemplate(message_template) => &message_template.place,
            Definition::Template(template) => &template.place,
        }
    }
}
