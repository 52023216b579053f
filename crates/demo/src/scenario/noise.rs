//! Repeatable noise: a number for a name and a moment, by SplitMix64 over a fixed seed.

const SEED: u64 = 0x4f72_7269_6e53_6e64;

fn mix(mut z: u64) -> u64 {
    z = z.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

/// A number in `[0, 1)`.
pub fn even(name: &str, moment: i64) -> f64 {
    let name = name
        .bytes()
        .fold(SEED, |hash, byte| mix(hash ^ u64::from(byte)));
    (mix(name ^ moment as u64) >> 11) as f64 / (1u64 << 53) as f64
}

/// A number around 0, mostly within ±1: the sum of four even ones.
pub fn bell(name: &str, moment: i64) -> f64 {
    (0..4)
        .map(|i| even(name, moment.wrapping_mul(4).wrapping_add(i)))
        .sum::<f64>()
        - 2.0
}

/// Like [`bell`], but smooth over `steps` moments.
pub fn drift(name: &str, moment: i64, steps: i64) -> f64 {
    let (before, along) = (
        moment.div_euclid(steps),
        moment.rem_euclid(steps) as f64 / steps as f64,
    );
    let ease = along * along * (3.0 - 2.0 * along);
    bell(name, before) * (1.0 - ease) + bell(name, before + 1) * ease
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn noise_is_repeatable_and_differs_by_name_and_moment() {
        assert_eq!(
            even("wind havnes", 7).to_bits(),
            even("wind havnes", 7).to_bits()
        );
        assert!(even("wind havnes", 7).to_bits() != even("wind ostrey", 7).to_bits());
        assert!(even("wind havnes", 7).to_bits() != even("wind havnes", 8).to_bits());
    }

    #[test]
    fn even_noise_fills_its_range_and_bells_sit_around_nought() {
        let all: Vec<f64> = (0..10_000).map(|moment| even("any", moment)).collect();
        assert!(all.iter().all(|value| (0.0..1.0).contains(value)));
        let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
        assert!((mean(&all) - 0.5).abs() < 0.02);
        let bells: Vec<f64> = (0..10_000).map(|moment| bell("any", moment)).collect();
        assert!(mean(&bells).abs() < 0.03);
        let near = bells.iter().filter(|value| value.abs() < 1.0).count();
        assert!(near > 8_000, "{near}");
    }

    /// A curve has no steps: from one moment to the next it moves a little, and it meets the bell's
    /// value where a stretch begins.
    #[test]
    fn drift_is_smooth() {
        let all: Vec<f64> = (-500..500).map(|moment| drift("any", moment, 50)).collect();
        let largest = all
            .windows(2)
            .map(|pair| (pair[1] - pair[0]).abs())
            .fold(0.0, f64::max);
        assert!(largest < 0.15, "{largest}");
        assert!((drift("any", 150, 50) - bell("any", 3)).abs() < 1e-12);
    }
}
