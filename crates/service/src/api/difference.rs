//! What is different in two texts, and what somebody is told whose text is not the latest.

use std::time::Duration;

use maple_lark_store::definitions::StoredDefinition;
use similar::TextDiff;

use super::problem::Problem;

/// After so long a difference is told more coarsely.
const LONGEST_DIFFERENCE: Duration = Duration::from_millis(500);

/// What is different in two texts, as a unified diff.
pub fn difference(before: &str, after: &str) -> String {
    TextDiff::configure()
        .timeout(LONGEST_DIFFERENCE)
        .diff_lines(before, after)
        .unified_diff()
        .context_radius(2)
        .to_string()
}

/// Somebody has saved another text meanwhile: who, when, and what differs from `mine`.
pub fn changed_meanwhile(now: &StoredDefinition, mine: Option<&str>) -> Problem {
    let mut words = format!(
        "{} was changed by {} at {} since you read it; nothing was saved.",
        now.file,
        now.updated_by,
        now.updated_at.format("%Y-%m-%d %H:%M:%S UTC"),
    );
    if let Some(mine) = mine {
        let lines = difference(mine, &now.text);
        let lines: Vec<&str> = lines.lines().take(MOST_DIFFERENCE).collect();
        words.push_str(" The stored text differs from yours:\n");
        words.push_str(&lines.join("\n"));
    }
    Problem::new(412, "Changed meanwhile", words)
}

/// More lines of a difference are not shown.
const MOST_DIFFERENCE: usize = 60;
