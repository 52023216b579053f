//! Sizes for people.

/// A number of bytes in powers of 1024 (IEC 80000-13): `740 B`, `2.0 KiB`, `3.1 MiB`, `12.4 GiB`.
pub fn readable_size(bytes: u64) -> String {
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} KiB", bytes as f64 / 1024.0),
        1_048_576..1_073_741_824 => format!("{:.1} MiB", bytes as f64 / 1_048_576.0),
        _ => format!("{:.1} GiB", bytes as f64 / 1_073_741_824.0),
    }
}

#[cfg(test)]
mod tests {
    use super::readable_size;

    #[test]
    fn sizes_are_readable() {
        assert_eq!(
            [0, 1023, 1024, 2048, 1_048_575, 3_145_728, 13_314_398_617].map(readable_size),
            [
                "0 B",
                "1023 B",
                "1.0 KiB",
                "2.0 KiB",
                "1024.0 KiB",
                "3.0 MiB",
                "12.4 GiB"
            ]
        );
    }
}
