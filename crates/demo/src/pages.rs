//! Pages of the stand-ins that say something of what they are asked.

use minijinja::{AutoEscape, Environment, value::Serde};
use rocket::response::content::RawHtml;
use serde_json::Value;

/// The page that a template makes of these values.
///
/// # Panics
/// If the template is none: they are part of the program.
pub fn page(template: &'static str, values: &Value) -> RawHtml<String> {
    let mut pages = Environment::new();
    pages.set_auto_escape_callback(|_| AutoEscape::Html);
    let page = pages.render_str(template, Serde(values));
    RawHtml(page.expect("a template of the stand-ins"))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_is_said_on_a_page_is_no_part_of_it() {
        let RawHtml(page) = page(
            include_str!("../live/account.html"),
            &json!({ "carried": [["state", "\"><script>"]] }),
        );
        assert!(
            page.contains("name=\"state\" value=\"&quot;&gt;&lt;script&gt;\""),
            "{page}"
        );
    }
}
