//! What one claimed run goes through its steps with: made once, when it is claimed.

use std::{sync::Arc, time::Duration};

use maple_lark_data::digest::sha256;
use maple_lark_definition::{Dashboard, ParameterValue, Query, Report, Times};
use maple_lark_sources::Values;
use maple_lark_store::{bounds::Chosen, claims::Claim, runs::Run};
use maple_lark_time::{Window, window::Step};

use crate::engine::{definitions::Definitions, shared::WorkError};

/// A claimed run with its definitions as they were frozen, its report, its window and its limits.
pub struct RunContext {
    pub run: Run,
    /// What everything that is written about the run carries.
    pub claim: Claim,
    pub definitions: Arc<Definitions>,
    pub report: Report,
    pub window: Window,
    pub time_limit: Duration,
}

impl RunContext {
    /// # Errors
    /// If what the run has on record cannot be read.
    pub fn new(run: Run) -> Result<Self, WorkError> {
        let definitions = Definitions::frozen(&run.definitions)
            .map_err(|error| WorkError::Run(error.to_string()))?;
        let report = definitions
            .set
            .reports
            .get(&run.report)
            .cloned()
            .ok_or_else(|| {
                WorkError::Run(format!("the run holds no definition of \"{}\"", run.report))
            })?;
        Ok(Self {
            window: window_of(&run)?,
            time_limit: Duration::from_secs(report.time_limit_seconds),
            definitions: Arc::new(definitions),
            report,
            claim: run.claim(),
            run,
        })
    }

    /// The times that a query of a dashboard is asked with; without one, those of a question
    /// about the whole run.
    pub fn times(&self, query: Option<(&Dashboard, &Query)>) -> Times {
        times(&self.report, &self.window, query)
    }

    /// The values that hold for every audience.
    pub fn values(&self) -> Values {
        self.definitions.set.values(&self.report, None)
    }
}

/// The window that a run was made with.
fn window_of(run: &Run) -> Result<Window, WorkError> {
    let zone = run.time_zone.parse().map_err(|_| {
        WorkError::Run(format!(
            "the run's time zone \"{}\" is not known",
            run.time_zone
        ))
    })?;
    let within = run
        .within
        .clone()
        .map(serde_json::from_value)
        .transpose()
        .map_err(|error| WorkError::Run(format!("the run's window cannot be read: {error}")))?;
    Ok(Window {
        from: run.window_from,
        to: run.window_to,
        zone,
        within,
    })
}

/// The times that a query is asked with for a window of a report.
pub fn times(report: &Report, window: &Window, query: Option<(&Dashboard, &Query)>) -> Times {
    let step = query.map_or_else(
        || Step::fitting(window, 320),
        |(dashboard, query)| dashboard.step(query, window),
    );
    Times {
        comparison: report.window.comparison(window),
        window: window.clone(),
        step,
    }
}

/// What a set of values chooses, by parameter, as texts.
pub fn chosen(values: &Values) -> Chosen {
    let texts = |value: &ParameterValue| match value {
        ParameterValue::List(all) => all.clone(),
        one => vec![one.readable()],
    };
    let each = values.iter();
    each.map(|(name, value)| (name.clone(), texts(value)))
        .collect()
}

/// Names a set of values; equal sets have equal keys.
pub fn values_key(values: &Values) -> String {
    sha256(&serde_json::to_vec(values).unwrap_or_default())
}
