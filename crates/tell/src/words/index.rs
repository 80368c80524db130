//! How an index is named in the settings.

use kladder_core::climb::UnnamedIndex;

/// The line that names it, and the one that leaves it to what is configured for a client of this machine.
pub fn to_name(index: &UnnamedIndex) -> String {
    let UnnamedIndex { name, speaks } = index;
    let client = match speaks.as_deref() {
        Some("python") => Some("pip"),
        Some("npm") => Some("npm"),
        Some("debian") => Some("apt"),
        _ => None,
    };
    let kind = speaks.as_deref().unwrap_or("KIND");
    let more = if kind == "debian" { ", suites = [\"SUITE\"], components = [\"main\"]" } else { "" };
    let own = format!("{name} = {{ kind = \"{kind}\", address = \"https://…\"{more} }}");
    let as_configured = client.map(|client| {
        format!("; or {name} = {{ kind = \"{kind}\", as-configured = true }}, as {client} has it on this machine")
    });
    format!("write under `[indexes]` in config.toml: {own}{}", as_configured.unwrap_or_default())
}
