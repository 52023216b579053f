//! The colours of documents. Series colours differ in lightness as well as in hue, so that
//! they stay apart for colour-blind readers and on a grey print.

use maple_lark_data::status::Status;

pub const INK: &str = "#17232d";
pub const MUTED: &str = "#566573";
pub const RULE: &str = "#d5dde3";
pub const SHADE: &str = "#f2f5f7";
pub const PAPER: &str = "#ffffff";

/// No two look alike. Red is left to what is critical.
const SERIES: [&str; 16] = [
    "#0b4f6c", "#e08a00", "#2a9d78", "#8f2d56", "#5aa9e6", "#6b5b95", "#a68a2d", "#d3739b",
    "#2433c4", "#a21cc4", "#1c6b1c", "#5a2f14", "#161a1d", "#1f74d0", "#c9408f", "#4a1040",
];

/// The same as letters on paper, at 4.5:1 or more (WCAG 2.2, 1.4.3).
const SERIES_INK: [&str; 16] = [
    "#0b4f6c", "#a16300", "#238465", "#8f2d56", "#417aa6", "#6b5b95", "#8b7426", "#a95c7c",
    "#2433c4", "#a21cc4", "#1c6b1c", "#5a2f14", "#161a1d", "#1f74d0", "#c9408f", "#4a1040",
];

/// The same on a dark page, for lines and letters alike.
const SERIES_DARK: [&str; 16] = [
    "#5f9fba", "#e18f0a", "#4bac8d", "#d0688f", "#7cc4fa", "#9c8fc0", "#b3a82f", "#f0a9c6",
    "#8a84ff", "#d775f0", "#8fe07a", "#e0c3a0", "#e4e9ec", "#2f8ae6", "#ff5cb8", "#9c7796",
];

/// The lines of a figure from this one on are dashed as well, for eyes that tell fewer colours
/// apart.
const DASHED_FROM: usize = 8;

pub fn series(index: usize) -> &'static str {
    SERIES[index % SERIES.len()]
}

/// The colour of a series' name.
pub fn series_ink(index: usize) -> &'static str {
    SERIES_INK[index % SERIES_INK.len()]
}

/// Whether the line in this place of a figure is dashed.
pub fn is_dashed(place: usize) -> bool {
    place % SERIES.len() >= DASHED_FROM
}

/// The colours of series, light enough to be drawn on.
const TINTS: [&str; 16] = [
    "#bdd3dc", "#f7dfb8", "#c3e4d9", "#e1c4d1", "#d0e6f8", "#d6d1e1", "#e7dfc4", "#f2d7e2",
    "#c2c6ef", "#e5c0ef", "#c0d7c0", "#d2c5be", "#bebfc0", "#c1d8f2", "#efc9df", "#cdbdcb",
];

pub fn tint(index: usize) -> &'static str {
    TINTS[index % TINTS.len()]
}

/// From light to dark, so that more is more on a grey print too.
const HEAT: [&str; 9] = [
    "#eef5f8", "#d8e8ee", "#b9d6e1", "#93bfd0", "#6ba6bd", "#4f95b0", "#2a7291", "#155a79",
    "#0b4460",
];
/// The same on a dark page, where more is lighter: what is high stands out there, too.
const HEAT_DARK: [&str; 9] = [
    "#17262e", "#1b323d", "#20404f", "#265165", "#2b6079", "#31688a", "#74aeca", "#92c5de",
    "#b8dff0",
];

/// The colour of a share from 0 to 1, and that of letters on it.
pub fn heat(share: f64) -> (&'static str, &'static str) {
    let step = (share.clamp(0.0, 1.0) * 8.0).round() as usize;
    (HEAT[step], if step > 5 { PAPER } else { INK })
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
        SHADE => SHADE_DARK,
        PAPER => PAPER_DARK,
        SPAN => "#2a2440",
        BAND_WARNING => "#282315",
        BAND_CRITICAL => "#2c191d",
        BEHIND => "#45535e",
        SPAN_EDGE => "#b9a6e8",
        colour => {
            if let Some(at) = HEAT.iter().position(|one| *one == colour) {
                return HEAT_DARK[at].to_owned();
            }
            let of = |all: &[&str]| all.iter().position(|one| *one == colour);
            if let Some(at) = of(&SERIES).or_else(|| of(&SERIES_INK)) {
                return SERIES_DARK[at].to_owned();
            }
            let light = lightness(colour);
            return if colour == BAR || TINTS.contains(&colour) {
                mixed(colour, PAPER_DARK, 0.55)
            } else {
                let lighter = mixed(colour, "#ffffff", (0.62 - light).clamp(0.0, 0.5));
                readable(&lighter, SHADE_DARK)
            };
        }
    };
    fixed.to_owned()
}

const PAPER_DARK: &str = "#121a20";
const SHADE_DARK: &str = "#1d2932";

/// How much letters differ from their ground, from 1 to 21 (WCAG 2.2).
pub fn contrast(one: &str, other: &str) -> f64 {
    let luminance = |colour: &str| {
        let [red, green, blue] = parts(colour).map(|part| {
            let part = f64::from(part) / 255.0;
            if part <= 0.04045 {
                part / 12.92
            } else {
                ((part + 0.055) / 1.055).powf(2.4)
            }
        });
        0.2126 * red + 0.7152 * green + 0.0722 * blue
    };
    let (one, other) = (luminance(one), luminance(other));
    (one.max(other) + 0.05) / (one.min(other) + 0.05)
}

/// A theme's colour as it can be read, on paper or on a dark page.
pub fn accent(colour: &str, on_dark: bool) -> String {
    if on_dark {
        readable(&dark(colour), PAPER_DARK)
    } else {
        readable(colour, PAPER)
    }
}

/// The colour, as much darker or lighter as letters on this ground need it: 4.5:1.
pub fn readable(colour: &str, ground: &str) -> String {
    let towards = if lightness(ground) > 0.5 {
        "#000000"
    } else {
        "#ffffff"
    };
    (0..=50)
        .map(|step| mixed(colour, towards, f64::from(step) / 50.0))
        .find(|found| contrast(found, ground) >= 4.5)
        .unwrap_or_else(|| towards.to_owned())
}

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

#[cfg(test)]
mod tests {
    use super::*;

    /// Lightness, and two axes of hue, in which equal steps look equal (Oklab).
    fn seen(colour: &str) -> [f64; 3] {
        let [red, green, blue] = parts(colour).map(|part| (f64::from(part) / 255.0).powf(2.2));
        let cone = |r: f64, g: f64, b: f64| (r * red + g * green + b * blue).cbrt();
        let (l, m, s) = (
            cone(0.412_221, 0.536_333, 0.051_446),
            cone(0.211_903, 0.680_700, 0.107_397),
            cone(0.088_302, 0.281_719, 0.629_979),
        );
        [
            0.210_454 * l + 0.793_618 * m - 0.004_072 * s,
            1.977_998 * l - 2.428_592 * m + 0.450_594 * s,
            0.025_904 * l + 0.782_772 * m - 0.808_676 * s,
        ]
    }

    fn closest(colours: &[String]) -> f64 {
        let mut least = f64::INFINITY;
        for (at, one) in colours.iter().enumerate() {
            for other in &colours[..at] {
                let (one, other) = (seen(one), seen(other));
                let far = (0..3)
                    .map(|axis| (one[axis] - other[axis]).powi(2))
                    .sum::<f64>();
                least = least.min(far.sqrt());
            }
        }
        least
    }

    #[test]
    fn no_two_of_sixteen_series_look_alike() {
        let light: Vec<String> = SERIES.iter().map(|colour| (*colour).to_owned()).collect();
        let dark: Vec<String> = SERIES.iter().map(|colour| dark(colour)).collect();
        // Two hundredths are just about seen; four times that is seen at a glance.
        assert!(closest(&light) > 0.08, "{}", closest(&light));
        assert!(closest(&dark) > 0.07, "{}", closest(&dark));
        assert!((0..8).all(|one| !is_dashed(one)) && (8..16).all(is_dashed));
    }

    #[test]
    fn letters_can_be_read_on_paper_and_on_a_dark_page() {
        for index in 0..16 {
            let ink = series_ink(index);
            assert!(contrast(ink, PAPER) >= 4.5, "{ink}");
            assert!(contrast(&dark(ink), PAPER_DARK) >= 4.5, "{ink} when dark");
        }
        for step in 0..=8 {
            let (cell, ink) = heat(f64::from(step) / 8.0);
            assert!(contrast(cell, ink) >= 4.5, "{cell}");
            assert!(contrast(&dark(cell), &dark(ink)) >= 4.5, "{cell} when dark");
        }
        for word in [
            Status::Ok,
            Status::Unknown,
            Status::Warning,
            Status::Critical,
        ] {
            assert!(contrast(status(word), PAPER) >= 4.5, "{word:?}");
            for ground in [PAPER_DARK, SHADE_DARK] {
                assert!(
                    contrast(&dark(status(word)), ground) >= 4.5,
                    "{word:?} when dark"
                );
            }
        }
    }

    #[test]
    fn a_pale_colour_is_made_as_much_darker_as_it_must_be() {
        assert_eq!(readable("#0b4f6c", PAPER), "#0b4f6c");
        let darker = readable("#ffd500", PAPER);
        assert!((4.5..5.2).contains(&contrast(&darker, PAPER)), "{darker}");
        assert!((contrast("#000000", "#ffffff") - 21.0).abs() < 1e-9);
    }
}
