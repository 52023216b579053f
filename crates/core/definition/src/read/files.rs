//! Reads the table `[files]` from their tables.

use crate::{
    model::{
        files::{Files, NameValues, Zip},
        template,
        template::Template,
    },
    read::node::Node,
};

pub(crate) fn read(node: Node<'_>) -> Files {
    let mut files = Files::default();
    if let Some(text) = node.text("name") {
        let pattern = Template::new(text.value);
        if let Err(error) = template::merge(&pattern, &NameValues::sample()) {
            node.report(
                "name",
                format!("{error} Known: report, title, window, from, to, run, values"),
            );
        }
        files.name = Some(pattern);
    }
    if let Some(text) = node.text("zip") {
        files.packing.zip = match (text.value.as_str(), size(&text.value)) {
            ("never", _) => Zip::Never,
            ("always", _) => Zip::Always,
            (_, Some(bytes)) => Zip::Over(bytes),
            (other, None) => {
                node.report("zip", format!("\"{other}\" is not \"never\", \"always\" or a size such as \"10 MB\" past which a file is packed"));
                Zip::default()
            }
        };
    }
    files.packing.csv.byte_order_mark = node.truth("csv-byte-order-mark").unwrap_or(false);
    files.packing.csv.formulas_as_they_are =
        node.choice("csv-formulas", &["made-safe", "as-they-are"]) == Some("as-they-are");
    node.close();
    files
}

/// A size with its unit, `10 MB` or `512 KiB`, in bytes; nothing if it is none.
#[must_use]
pub fn size(text: &str) -> Option<u64> {
    let (number, unit) = text
        .trim()
        .split_at(text.trim().find(|c: char| c.is_ascii_alphabetic())?);
    let factor: f64 = match unit {
        "B" => 1.0,
        "kB" => 1e3,
        "KiB" => 1024.0,
        "MB" => 1e6,
        "MiB" => 1_048_576.0,
        "GB" => 1e9,
        "GiB" => 1_073_741_824.0,
        _ => return None,
    };
    let number: f64 = number.trim().parse().ok()?;
    (number.is_finite() && number >= 0.0).then_some((number * factor) as u64)
}

/// A size in bytes.
pub(crate) fn read_size(node: &Node<'_>, key: &'static str) -> Option<u64> {
    let text = node.text(key)?;
    let found = size(&text.value);
    if found.is_none() {
        node.report(
            key,
            format!("\"{}\" is not a size such as \"10 MB\"", text.value),
        );
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_a_unit() {
        assert_eq!(
            [size("10 MB"), size("1.5KiB"), size("0 B")],
            [Some(10_000_000), Some(1536), Some(0)]
        );
        assert_eq!(
            [size("10"), size("ten MB"), size("1 mb"), size("-1 MB")],
            [None; 4]
        );
    }
}
