//! Following redirects (RFC 9110, section 15.4), each step looked at before it is taken.

use fluent_uri::{Uri, UriRef};

use super::Network;
use super::server::{Answer, header, unanswered};
use super::yard::YardError;
use crate::settings::{OriginRules, host_of};

/// How many are followed.
const MOST: usize = 5;

/// Where a redirect may lead.
#[derive(Clone, Copy, Debug)]
pub(super) enum Bounds<'b> {
    /// Anywhere: who is asked was named by the person, or by the catalog as a yard.
    Anywhere,
    /// To the host that was asked, and as the rules have it for an origin.
    As(&'b OriginRules),
}

impl Bounds<'_> {
    /// The address to ask next.
    fn step(self, from: &str, to: String) -> Result<String, YardError> {
        match self {
            Self::As(rules) if host_of(from) != host_of(&to) => rules
                .address(&to)
                .ok_or_else(|| YardError::SendsOn { host: host_of(&to).unwrap_or_default().to_owned() }),
            _ => Ok(to),
        }
    }
}

/// Asks an address, and those that it sends on to.
///
/// # Errors
/// [`YardError`]; a status that is an error is none.
pub(super) fn follow(
    url: &str,
    network: &Network,
    bounds: Bounds<'_>,
    ask: impl Fn(&ureq::Agent, &str) -> Result<Answer, ureq::Error>,
) -> Result<Answer, YardError> {
    let mut url = url.to_owned();
    for _ in 0..=MOST {
        let answer = ask(network.agent(&url), &url).map_err(|error| unanswered(error.into_io()))?;
        let sends_on = matches!(answer.status().as_u16(), 301 | 302 | 303 | 307 | 308);
        match header(&answer, "location").filter(|_| sends_on).and_then(|to| resolved(&url, to)) {
            Some(next) => url = bounds.step(&url, next)?,
            None => return Ok(answer),
        }
    }
    Err(YardError::Redirects)
}

/// A reference seen from an address (RFC 3986, section 5.2); `None` where it is none, or leads out of HTTP.
fn resolved(base: &str, reference: &str) -> Option<String> {
    let base = Uri::parse(base).ok()?;
    let next = UriRef::parse(reference).ok()?.resolve_against(&base.strip_fragment()).ok()?;
    matches!(next.scheme().as_str(), "http" | "https").then(|| next.strip_fragment().as_str().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_are_resolved_and_kept_within_bounds() {
        let from = "https://dist.skerrow.example:8443/a/b?c";
        let to = |reference: &str| resolved(from, reference);
        assert_eq!(to("/d").as_deref(), Some("https://dist.skerrow.example:8443/d"));
        assert_eq!(to("d#e").as_deref(), Some("https://dist.skerrow.example:8443/a/d"));
        assert_eq!(to("//other.example/d").as_deref(), Some("https://other.example/d"));
        assert_eq!((to("file:///etc/passwd"), to("a b")), (None, None));

        let rules = OriginRules { hosts: Some(vec!["files.skerrow.example".to_owned()]), mirrors: Vec::new() };
        let step = |next: &str| Bounds::As(&rules).step(from, next.to_owned()).ok();
        assert_eq!(step("https://dist.skerrow.example/x").as_deref(), Some("https://dist.skerrow.example/x"));
        assert!(step("https://files.skerrow.example/x").is_some());
        assert_eq!(step("https://evil.example/x"), None);
        assert!(Bounds::Anywhere.step(from, "https://evil.example/x".to_owned()).is_ok());
    }
}
