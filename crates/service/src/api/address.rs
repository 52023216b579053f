//! What stands behind the question mark of an address: a name that the call does not have is refused,
//! lest somebody believes that it was understood.

use std::collections::{BTreeSet, HashMap};

use maple_lark_time::nearest::suggestion;
use rocket::{Request, http::Method};

use super::problem::Problem;

/// The names that each call takes, by its method and the pattern of its path.
pub struct Names(pub HashMap<(String, String), BTreeSet<String>>);

/// The problem with an address, if it has a name that its call does not know.
pub fn unknown_name(request: &Request<'_>) -> Option<Problem> {
    let path = request.route()?.uri.path().strip_prefix("/api/v1")?;
    let path = path.replace('<', "{").replace('>', "}");
    let method = match request.method() {
        Method::Head => "get".to_owned(),
        other => other.as_str().to_lowercase(),
    };
    let names = request.rocket().state::<Names>()?;
    let known = names.0.get(&(method, path))?;
    let fields = request.uri().query()?.segments();
    let mut given = fields.map(|(name, _)| name);
    let name = given.find(|name| !known.contains(*name))?;
    let shown: String = name.chars().take(100).collect();
    let list: Vec<&str> = known.iter().map(String::as_str).collect();
    let words = if list.is_empty() {
        format!("this call takes no \"{shown}\", nor anything else behind the \"?\"")
    } else {
        format!(
            "this call takes no \"{shown}\"; it takes {}.{}",
            list.join(", "),
            suggestion(&shown, list.iter().copied())
        )
    };
    Some(Problem::new(400, "Not understood", words))
}

#[cfg(test)]
mod tests {
    use crate::api::{of_the_api, openapi::query_names};

    /// What a call takes and its description does not have would be refused.
    #[test]
    fn every_name_that_a_call_takes_is_described() {
        let mut count = 0;
        let all = query_names();
        for route in of_the_api() {
            let pattern = route.uri.path().replace('<', "{").replace('>', "}");
            let method = route.method.as_str().to_lowercase();
            let Some(known) = all.get(&(method, pattern.clone())) else {
                continue;
            };
            let names = route.uri.query().unwrap_or_default().to_string();
            let own = names.split('&').filter_map(|name| {
                // A form has its names in its type, and the description has them from there.
                name.strip_prefix('<')?.strip_suffix('>')
            });
            for name in own.filter(|name| !name.ends_with("..")) {
                assert!(known.contains(name), "{pattern} takes {name}");
                count += 1;
            }
        }
        assert!(count > 20, "{count} names");
    }
}
