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
