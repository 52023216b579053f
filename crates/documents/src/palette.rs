//! The colours of documents. Series colours differ in lightness as well as in hue, so that
//! they stay apart for colour-blind readers and on a grey print.

use maple_lark_core::status::Status;

pub const INK: &str = "#17232d";
pub const MUTED: &str = "#566573";
pub const RULE: &str = "#d5dde3";
pub const SHADE: &str = "#f2f5f7";
pub const PAPER: &str = "#ffffff";

const SERIES: [&str; 8] = ["#0b4f6c", "#e08a00", "#2a9d78", "#8f2d56", "#5aa9e6", "#6b5b95", "#a68a2d", "#3f4750"];

pub fn series(index: usize) -> &'static str {
    SERIES[index % SERIES.len()]
}

pub fn status(status: Status) -> &'static str {
    match status {
        Status::Ok => "#23704a",
        Status::Unknown => "#566573",
        Status::Warning => "#a85f00",
        Status::Critical => "#b01e2e",
    }
}

/// The shape that carries a status where colour does not: all are in the bundled font.
pub fn mark(status: Status) -> &'static str {
    match status {
        Status::Ok => "●",
        Status::Unknown => "○",
        Status::Warning => "▲",
        Status::Critical => "◆",
    }
}

/// The red, green and blue of a colour like `#0b4f6c`.
pub fn parts(hex: &str) -> [u8; 3] {
    [1, 3, 5].map(|at| hex.get(at..at + 2).and_then(|text| u8::from_str_radix(text, 16).ok()).unwrap_or(0))
}
