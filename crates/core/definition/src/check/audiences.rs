//! Checks of audiences and their channels.

use maple_lark_time::nearest::suggestion;

use crate::{
    model::{channel::ChannelKind, report::Report},
    problem::{Placed, Problem},
    set::DefinitionSet,
};

impl DefinitionSet {
    pub(crate) fn check_audiences(&self, report: &Report, problems: &mut Vec<Problem>) {
        for audience in &report.audiences {
            for list in [&audience.to, &audience.cc, &audience.bcc] {
                self.check_addressees(list, problems);
            }
            self.check_channels(&audience.options.channels, problems);
        }
        for query in &report.audience_queries {
            self.check_channels(&query.options.channels, problems);
        }
    }

    fn check_channels(&self, channels: &[Placed<String>], problems: &mut Vec<Problem>) {
        for name in channels {
            match self.channels.get(&name.value) {
                None => {
                    let near = suggestion(&name.value, self.channels.keys().map(String::as_str));
                    problems.push(
                        name.place
                            .problem(format!("there is no channel \"{}\".{near}", name.value)),
                    );
                }
                Some(channel) if matches!(channel.kind, ChannelKind::MailServer(_)) => {
                    problems.push(name.place.problem(format!(
                        "\"{}\" is a mail server; name it as mail-server under [deliver]",
                        name.value
                    )));
                }
                Some(_) => {}
            }
        }
    }
}
