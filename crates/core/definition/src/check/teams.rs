//! Who sees a definition sees what it shows: it may use what belongs to its own team or to all, and
//! nothing else.

use crate::{
    model::{kind::Kind, people::Addressee, query::Origin, query::Query, report::Report},
    problem::{Placed, Problem},
    set::DefinitionSet,
};

/// What one definition uses of another.
struct Use<'a> {
    kind: Kind,
    name: &'a Placed<String>,
}

impl DefinitionSet {
    pub(crate) fn check_teams(&self, problems: &mut Vec<Problem>) {
        let mut check = |teams: &[Placed<String>], uses: Vec<Use<'_>>| {
            for used in uses {
                problems.extend(self.refusal(teams, &used));
            }
        };
        for report in self.reports.values() {
            check(&report.teams, used_by_report(report));
            let lists = report.audiences.iter();
            let listed = lists.flat_map(|one| [&one.to, &one.cc, &one.bcc]).flatten();
            for named in listed.filter_map(|one| self.named(one)) {
                check(
                    &report.teams,
                    vec![Use {
                        kind: named.0,
                        name: &named.1,
                    }],
                );
            }
        }
        for dashboard in self.dashboards.values() {
            let mut uses: Vec<Use<'_>> = dashboard.queries.iter().filter_map(origin).collect();
            let blocks = dashboard.sections.iter().flat_map(|one| &one.blocks);
            let borrowed = blocks.filter_map(|block| block.borrowed.as_ref());
            uses.extend(borrowed.map(|borrowed| Use {
                kind: Kind::Dashboard,
                name: &borrowed.dashboard,
            }));
            check(&dashboard.teams, uses);
        }
        for sampler in self.samplers.values() {
            check(&sampler.teams, origin(&sampler.query).into_iter().collect());
        }
        for group in self.groups.values() {
            for named in group.members.iter().filter_map(|one| self.named(one)) {
                check(
                    &group.teams,
                    vec![Use {
                        kind: named.0,
                        name: &named.1,
                    }],
                );
            }
        }
    }

    /// A person or a group behind a name.
    fn named(&self, listed: &Placed<Addressee>) -> Option<(Kind, Placed<String>)> {
        let Addressee::Named(name) = &listed.value else {
            return None;
        };
        let kind = if self.people.contains_key(name) {
            Kind::Person
        } else {
            Kind::Group
        };
        let place = listed.place.clone();
        Some((
            kind,
            Placed {
                value: name.clone(),
                place,
            },
        ))
    }

    /// The teams that see a definition; all if there are none, nothing if there is no such definition.
    #[must_use]
    pub fn teams_of(&self, kind: Kind, name: &str) -> Option<&[Placed<String>]> {
        match kind {
            Kind::Source => self.sources.get(name).map(|one| one.teams.as_slice()),
            Kind::Dashboard => self.dashboards.get(name).map(|one| one.teams.as_slice()),
            Kind::Report => self.reports.get(name).map(|one| one.teams.as_slice()),
            Kind::Calendar => self.calendars.get(name).map(|_| &[] as &[_]),
            Kind::Sampler => self.samplers.get(name).map(|one| one.teams.as_slice()),
            Kind::Theme => self.themes.get(name).map(|one| one.teams.as_slice()),
            Kind::Person => self.people.get(name).map(|one| one.teams.as_slice()),
            Kind::Group => self.groups.get(name).map(|one| one.teams.as_slice()),
            Kind::Channel => self.channels.get(name).map(|one| one.teams.as_slice()),
            Kind::MessageTemplate => {
                let found = self.message_templates.get(name);
                found.map(|one| one.teams.as_slice())
            }
            Kind::Template => self.templates.get(name).map(|one| one.teams.as_slice()),
        }
    }

    fn refusal(&self, own: &[Placed<String>], used: &Use<'_>) -> Option<Problem> {
        // What is not there is told by the other checks.
        let theirs = self.teams_of(used.kind, &used.name.value)?;
        let may = |team: &Placed<String>| theirs.iter().any(|other| other.value == team.value);
        if theirs.is_empty() || (!own.is_empty() && own.iter().all(may)) {
            return None;
        }
        let teams: Vec<String> = theirs
            .iter()
            .map(|team| format!("\"{}\"", team.value))
            .collect();
        let mend = match theirs {
            [one] if own.is_empty() => format!("write team = \"{}\" here, too", one.value),
            _ => "use another, or let an administrator share it".to_owned(),
        };
        Some(used.name.place.problem(format!(
            "the {} \"{}\" is for {} alone; {mend}",
            used.kind.name(),
            used.name.value,
            teams.join(" and ")
        )))
    }
}

fn origin(query: &Query) -> Option<Use<'_>> {
    match &query.origin {
        Origin::Source { name, .. } => Some(Use {
            kind: Kind::Source,
            name,
        }),
        Origin::Sampler(name) => Some(Use {
            kind: Kind::Sampler,
            name,
        }),
        Origin::Query(_) => None,
    }
}

fn used_by_report(report: &Report) -> Vec<Use<'_>> {
    let of = |kind: Kind| move |name| Use { kind, name };
    let dashboards = report.dashboards.iter().map(of(Kind::Dashboard));
    let theme = report.theme.iter().map(of(Kind::Theme));
    let message = report
        .message_template
        .iter()
        .map(of(Kind::MessageTemplate));
    let options = report.audiences.iter().map(|one| &one.options);
    let asked = report.audience_queries.iter().map(|one| &one.options);
    let channels = options.chain(asked).flat_map(|one| &one.channels);
    let channels = channels.chain(&report.deliver.mail_server);
    let sources = report.audience_queries.iter().map(|one| &one.source);
    let sources = sources.chain(report.readiness.iter().map(|one| &one.source));
    dashboards
        .chain(theme)
        .chain(message)
        .chain(channels.map(of(Kind::Channel)))
        .chain(sources.map(of(Kind::Source)))
        .collect()
}
