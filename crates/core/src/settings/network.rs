//! Manners towards the network: how patient, how fast, through which proxy, with whose certificates.
//!
//! ```toml
//! [network]
//! proxy = "http://proxy.harbour.example:3128"   # for every server but this machine; else HTTP_PROXY and the like
//! certificates = "/etc/harbour/roots.pem"       # trusted besides the platform's
//! retries = 3                                   # rounds after the first one
//! patience = 30                                 # seconds without progress, at most a day
//! at-once = 4                                   # rungs that are brought in at once
//! rate = "2 MB/s"                               # all downloads together
//! ```

use std::path::PathBuf;

use serde::Deserialize;

/// The table `[network]` of the settings.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case", default)]
pub struct Manners {
    /// The proxy for every server but those on this machine, as `http://HOST:PORT`; otherwise the environment's.
    pub proxy: Option<String>,
    /// A PEM file of certificates to trust besides the platform's.
    pub certificates: Option<PathBuf>,
    /// How often a yard that broke is tried again.
    pub retries: u32,
    /// Seconds without progress after which a yard counts as broken.
    #[serde(deserialize_with = "seconds")]
    pub patience: u64,
    /// How many rungs are brought in at once.
    pub at_once: Option<usize>,
    /// Most bytes a second, all downloads together.
    pub rate: Option<Rate>,
}

/// Most seconds that anything is waited for: a day.
const LONGEST: u64 = 24 * 60 * 60;

fn seconds<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<u64, D::Error> {
    let seconds = u64::deserialize(deserializer)?;
    if seconds > LONGEST {
        return Err(serde::de::Error::custom(format!("these are more seconds than a day has, {LONGEST}")));
    }
    Ok(seconds)
}

impl Default for Manners {
    fn default() -> Self {
        Self { proxy: None, certificates: None, retries: 3, patience: 30, at_once: None, rate: None }
    }
}

/// Bytes in a second; written `2 MB/s`, `500 kB/s` or as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "RateForm")]
pub struct Rate(pub u64);

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands a rate like \"2 MB/s\", or bytes a second")]
enum RateForm {
    Number(u64),
    Text(String),
}

impl TryFrom<RateForm> for Rate {
    type Error = String;

    fn try_from(form: RateForm) -> Result<Self, String> {
        let bytes = match form {
            RateForm::Number(bytes) => Some(bytes),
            RateForm::Text(text) => amount(text.trim().strip_suffix("/s").unwrap_or(&text)),
        };
        bytes.filter(|bytes| *bytes > 0).map(Self).ok_or_else(|| "this is no rate like \"2 MB/s\"".to_owned())
    }
}

/// An amount of bytes, as `5 GB`, `500 kB` or a bare number; `None` for anything else.
pub fn amount(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let unit = match text[digits..].trim() {
        "" | "B" => 1,
        "kB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        _ => return None,
    };
    text[..digits].parse::<u64>().ok()?.checked_mul(unit)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_read_with_their_units_and_anything_else_is_refused() {
        let rate = |text: &str| {
            toml::from_str::<Manners>(&format!("rate = {text}")).map(|manners| manners.rate.map(|rate| rate.0))
        };
        for (text, bytes) in [("2000", 2000), ("'2 MB/s'", 2_000_000), ("'500kB/s'", 500_000), ("'7'", 7)] {
            assert_eq!(rate(text).unwrap(), Some(bytes), "{text}");
        }
        for bad in ["0", "-1", "'fast'", "'2 MiB/s'", "'MB/s'", "'99999999999 GB/s'"] {
            assert!(rate(bad).is_err(), "{bad}");
        }
    }
}
