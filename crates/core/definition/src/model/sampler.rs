//! What a sampler definition holds: a query, how often it is asked, how long answers are kept.

use maple_lark_time::window::Step;

use crate::{
    model::query::Query,
    problem::{Place, Placed},
};

/// In a sampler's lengths of time a day is 24 hours.
pub(crate) const DAY: i64 = 86_400;

/// A question asked again and again, so that its answers make a history.
#[derive(Debug, Clone, PartialEq)]
pub struct Sampler {
    /// Its name, unique among samplers.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// Asked at whole multiples of this since 1970-01-01T00:00:00Z.
    pub every_seconds: i64,
    /// What is older than this is removed.
    pub keep_seconds: i64,
    /// What becomes of old samples, if they do not stay as they are.
    pub downsample: Option<Downsample>,
    /// The question.
    pub query: Query,
    /// Where it was read.
    pub place: Place,
}

/// What becomes of samples that have grown old.
#[derive(Debug, Clone, PartialEq)]
pub struct Downsample {
    /// The age from which they are put together, in seconds.
    pub after_seconds: i64,
    /// One answer stays in each step.
    pub to: Step,
    /// Numbers become their mean; else the step's last answer stays, as counters need.
    pub mean: bool,
}
