//! What a report would show now, without a run.

use futures::future::join_all;
use maple_lark_definition::{Dashboard, Report};
use maple_lark_document::{Snapshot, capture::Blobs, snapshot::ZoneRules};
use maple_lark_sources::Values;
use maple_lark_time::Window;

use super::{
    answer::{Asking, answer, source_of},
    earlier::add_earlier_runs,
};
use crate::engine::{definitions::Definitions, limits::Purpose, shared::Shared};

/// What a report would show of a window to those with these values, were it made now. Nothing
/// is kept, and no owner is told of what fails: somebody is looking.
pub async fn preview(
    shared: &Shared,
    definitions: &Definitions,
    report: &Report,
    window: Window,
    values: Values,
) -> Snapshot {
    let dashboards = definitions.set.dashboards_of(report);
    let questions = dashboards.iter().flat_map(|dashboard| {
        dashboard
            .asked(&[])
            .into_iter()
            .map(move |query| (&**dashboard, query))
    });
    let asking = Asking {
        definitions,
        report,
        window: &window,
        values: &values,
        purpose: Purpose::Looking,
    };
    let answers = join_all(questions.map(async |(dashboard, query)| {
        let source = source_of(definitions, query);
        let _permit = shared
            .source_limits
            .of_source_if_any(source, Purpose::Looking)
            .await;
        answer(shared, &asking, dashboard, query).await
    }))
    .await;
    let (mut queries, mut blobs) = (Vec::new(), Blobs::new());
    for answered in answers {
        queries.push(answered.record);
        blobs.extend(answered.blobs);
    }
    let shown: Vec<&Dashboard> = dashboards.iter().map(|dashboard| &**dashboard).collect();
    let now = (shared.now(), shared.now());
    let added = add_earlier_runs(shared, &asking, &shown, now, &mut queries);
    if let Err(error) = added.await {
        tracing::warn!(%error, "a preview is compared with nothing");
    }
    let zone_rules = ZoneRules::in_use(window.zone);
    Snapshot {
        layout: Snapshot::LAYOUT,
        run_id: "preview (not kept)".to_owned(),
        report: report.name.clone(),
        scheduled_for: shared.now(),
        made_at: shared.now(),
        window,
        zone_rules,
        incomplete: None,
        archive_head: None,
        values,
        definitions: definitions.composed_from(),
        queries,
        blobs,
    }
}
