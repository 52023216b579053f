//! The colours of documents. Series colours differ in lightness as well as in hue, so that
//! they stay apart for colour-blind readers and on a grey print.

use maple_lark_data::status::Status;

pub const INK: &str = "#17232d";
pub const MUTED: &str = "#566573";
pub const RULE: &str = "#d5dde3";
pub const SHADE: &str = "#f2f5f7";
pub const PAPER: &str = "#ffffff";

const SERIES: [&str; 8] = [
    "#0b4f6c", "#e08a00", "#2a9d78", "#8f2d56", "#5aa9e6", "#6b5b95", "#a68a2d", "#3f4750",
];

pub fn series(index: usize) -> &'static str {
    SERIES[index % SERIES.len()]
}

/// The colours of series, light enough to be drawn on.
const TINTS: [&str; 8] = [
    "#bdd3dc", "#f7dfb8", "#c3e4d9", "#e1c4d1", "#d0e6f8", "#d6d1e1", "#e7dfc4", "#cbcdd0",
];

pub fn tint(index: usize) -> &'static str {
    TINTS[index % TINTS.len()]
}

/// From light to dark, so that more is more on a grey print too.
const HEAT: [&str; 9] = [
    "#eef5f8", "#d8e8ee", "#b9d6e1", "#93bfd0", "#6ba6bd", "#468ca8", "#2a7291", "#155a79",
    "#0b4460",
];

/// The colour of a share from 0 to 1, and that of letters on it.
pub fn heat(share: f64) -> (&'static str, &'static str) {
    let step = (share.clamp(0.0, 1.0) * 8.0).round() as usize;
    (HEAT[step], if step > 4 { PAPER } else { INK })
}

/// Bars behind the texts of cells.
pub const BAR: &str = "#d3e3ea";

/// What is marked on a time axis, such as maintenance.
pub const SPAN: &str = "#ece5f4";
pub const SPAN_EDGE: &str = "#6b4fa0";
/// What goes away and what comes in a breakdown.
pub const LESS: &str = "#2a9d78";
pub const MORE: &str = "#e08a00";

pub fn status(status: Status) -> &'static str {
    match status {
        Status::Ok => "#23704a",
        Status::Unknown => "#566573",
        Status::Warning => "#8f5100",
        Status::Critical => "#b01e2e",
    }
}

/// The ground behind what is past a threshold.
pub fn band(status: Status) -> &'static str {
    if status == Status::Critical {
        BAND_CRITICAL
    } else {
        BAND_WARNING
    }
}

const BAND_WARNING: &str = "#fdf6e9";
const BAND_CRITICAL: &str = "#fbecee";

/// Lines that are too many to be told apart.
pub const BEHIND: &str = "#c3ccd3";

/// The shape that carries a status where colour does not: all are in the bundled font.
pub fn mark(status: Status) -> &'static str {
    match status {
        Status::Ok => "●",
        Status::Unknown => "○",
        Status::Warning => "▲",
        Status::Critical => "◆",
    }
}

/// The same colour for a dark page.
pub fn dark(colour: &str) -> String {
    let fixed = match colour {
        INK => "#e8eef2",
        MUTED => "#a3b3bf",
        RULE => "#34434f",
        SHADE => "#1d2932",
        PAPER => "#121a20",
        SPAN => "#2a2440",
        BAND_WARNING => "#282315",
        BAND_CRITICAL => "#2c191d",
        BEHIND => "#45535e",
        SPAN_EDGE => "#b9a6e8",
        colour => {
            let light = lightness(colour);
            return if colour == BAR || TINTS.contains(&colour) || HEAT.contains(&colour) {
                mixed(colour, PAPER_DARK, 0.55)
            } else {
                mixed(colour, "#ffffff", (0.62 - light).clamp(0.0, 0.5))
            };
        }
    };
    fixed.to_owned()
}

const PAPER_DARK: &str = "#121a20";

fn lightness(colour: &str) -> f64 {
    let [red, green, blue] = parts(colour).map(|part| f64::from(part) / 255.0);
    0.299 * red + 0.587 * green + 0.114 * blue
}

/// A colour with a share of another one in it.
pub fn mixed(colour: &str, other: &str, share: f64) -> String {
    let (one, other) = (parts(colour), parts(other));
    let part = |index: usize| {
        (f64::from(one[index]) * (1.0 - share) + f64::from(other[index]) * share).round() as u8
    };
    format!("#{:02x}{:02x}{:02x}", part(0), part(1), part(2))
}

/// The red, green and blue of a colour like `#0b4f6c`.
pub fn parts(hex: &str) -> [u8; 3] {
    [1, 3, 5].map(|at| {
        hex.get(at..at + 2)
            .and_then(|text| u8::from_str_radix(text, 16).ok())
            .unwrap_or(0)
    })
}
