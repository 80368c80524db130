//! Tokens of registries: one that wants a token says where it is had (RFC 6750, section 3).

use std::collections::BTreeMap;

use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde::Deserialize;

use super::document::Reading;
use super::network::Network;
use super::sign_in::{Authorization, is_bare};
use super::yard::YardError;
use crate::settings::authority_of;

/// An answer with a token is no longer than this, in bytes.
const MOST: u64 = 1 << 20;

/// A token, as what was asked at an address says that there is one; `None` where it wants something else, or where a token would go
/// over a connection that anybody can listen to.
///
/// # Errors
/// [`YardError`] where whoever gives tokens gives none.
pub(in crate::bring) fn token(how: &str, at: &str, network: &Network) -> Result<Option<Authorization>, YardError> {
    #[derive(Deserialize)]
    struct Answer {
        #[serde(alias = "access_token")]
        token: String,
    }
    let Some(said) = how.trim().strip_prefix("Bearer ").map(parameters) else { return Ok(None) };
    let Some(realm) = said.get("realm").filter(|_| !is_bare(at)) else { return Ok(None) };
    let asked = ["service", "scope"]
        .into_iter()
        .filter_map(|name| Some(format!("{name}={}", utf8_percent_encode(said.get(name)?, NON_ALPHANUMERIC))));
    let url = format!("{realm}?{}", asked.collect::<Vec<_>>().join("&"));
    // It may be another host's, which the settings must allow as any other.
    let is_own = authority_of(realm) == authority_of(at);
    let Some(url) = network.origins.address(&url).or_else(|| is_own.then(|| url.clone())) else { return Ok(None) };
    let document = network.read_of_index(&url, Reading::of(MOST))?;
    let answer: Option<Answer> = serde_json::from_slice(&document.bytes).ok();
    Ok(answer.map(|answer| Authorization::bearer(&answer.token)))
}

/// `NAME="VALUE", …` (RFC 9110, section 11.2).
fn parameters(text: &str) -> BTreeMap<&str, &str> {
    let mut found = BTreeMap::new();
    let mut rest = text;
    while let Some((name, value)) = rest.split_once("=\"") {
        let Some((value, after)) = value.split_once('"') else { break };
        found.insert(name.trim_start_matches([',', ' ']), value);
        rest = after;
    }
    found
}
