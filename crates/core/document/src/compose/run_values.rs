//! The values of one run that its subject and message may name.

use maple_lark_definition::{
    BadTemplate, MessageValues, ReportValues, RunValues, Template, WindowValues, render,
};

use crate::{document::Document, markdown, snapshot::Snapshot};

/// `audience` is nothing for what is a part of the document, which several may see.
pub fn message_values(
    snapshot: &Snapshot,
    document: &Document,
    audience: Option<&str>,
) -> MessageValues {
    let dates = document.number_format.date_form();
    let figures = document
        .figures()
        .map(|figure| (figure.name.clone(), figure.value.clone()))
        .rev()
        .collect();
    MessageValues {
        status: document.summary.status.word().to_lowercase(),
        summary: document.summary.headline.clone(),
        worst: document.summary.worst.clone().unwrap_or_default(),
        figures,
        report: ReportValues {
            name: snapshot.report.clone(),
            title: document.title.clone(),
        },
        window: WindowValues {
            label: snapshot.window.label_in(dates),
            exact: snapshot.window.exact(),
            zone: snapshot.window.zone.to_string(),
            duration: snapshot.window.duration(),
        },
        run: RunValues {
            id: snapshot.run_id.clone(),
            scheduled_for: snapshot
                .window
                .zone
                .readable_in(snapshot.scheduled_for, dates),
        },
        audience: audience.map(str::to_owned),
    }
}

/// A CommonMark text with its values merged in. They are shown as they are, whatever signs are
/// in them: nothing in a value becomes a link, a list or an emphasis.
pub fn render_text(template: &Template, values: MessageValues) -> Result<String, BadTemplate> {
    render(template, &values.each(markdown::escaped))
}
