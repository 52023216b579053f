//! How headless Chromium is started to look at the product: offline, as any account.

pub const ARGUMENTS: [&str; 8] = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
];

/// The arguments with a profile of its own, and any others.
pub fn arguments(profile: &std::path::Path, more: &[&str]) -> Vec<String> {
    let profile = format!("--user-data-dir={}", profile.display());
    ARGUMENTS
        .iter()
        .chain(more)
        .map(ToString::to_string)
        .chain([profile])
        .collect()
}
