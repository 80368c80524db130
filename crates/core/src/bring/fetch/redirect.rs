//! Following redirects (RFC 9110, section 15.4), each step looked at before it is taken.

use fluent_uri::{Uri, UriRef};

use super::Network;
use super::document::Final;
use super::server::{Answer, header, unanswered};
use super::sign_in::Authorization;
use super::yard::YardError;
use crate::settings::{OriginRules, authority_of, host_of};

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

/// What is asked of an address.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Question<'q> {
    /// Only what is there, not the bytes.
    pub(super) head: bool,
    /// From this byte on.
    pub(super) from: u64,
    /// Up to this byte; else to the end. It counts only together with `from`.
    pub(super) until: Option<u64>,
    /// Which kinds of content would do (RFC 9110, section 12.5.1).
    pub(super) accept: Option<&'q str>,
    /// Who asks, where the settings do not say so.
    pub(super) authorization: Option<&'q Authorization>,
}

impl Question<'_> {
    fn put(self, agent: &ureq::Agent, url: &str, who: Option<&Authorization>) -> Result<Answer, ureq::Error> {
        let mut request = if self.head { agent.head(url) } else { agent.get(url) };
        if self.from > 0 {
            let last = self.until.map(|until| until.saturating_sub(1).to_string()).unwrap_or_default();
            request = request.header("Range", format!("bytes={}-{last}", self.from));
        }
        if let Some(accept) = self.accept {
            request = request.header("Accept", accept);
        }
        if let Some(who) = who {
            request = request.header("Authorization", who.value());
        }
        request.call()
    }
}

/// Asks an address, and those that it sends on to. Where a host sends on to another one nobody signs in.
///
/// # Errors
/// [`YardError`]; a status that is an error is none.
pub(super) fn follow(
    url: &str,
    question: Question<'_>,
    network: &Network,
    bounds: Bounds<'_>,
) -> Result<Answer, YardError> {
    let failed = |source| YardError::SignIn { host: host_of(url).unwrap_or_default().to_owned(), source };
    let own = network.sign_ins.at(url).map_err(failed)?;
    let (place, mut url) = (authority_of(url), url.to_owned());
    for _ in 0..=MOST {
        let is_same = authority_of(&url) == place;
        let who = question.authorization.or(own.as_ref()).filter(|_| is_same);
        let answer = question.put(network.agent(&url), &url, who).map_err(|error| unanswered(error.into_io()))?;
        let sends_on = matches!(answer.status().as_u16(), 301 | 302 | 303 | 307 | 308);
        match header(&answer, "location").filter(|_| sends_on).and_then(|to| resolved(&url, to)) {
            // A connection that nobody can listen to does not become one that anybody can.
            Some(next) if who.is_some() && url.starts_with("https:") && next.starts_with("http:") => {
                return Err(YardError::Bares { host: host_of(&next).unwrap_or_default().to_owned() });
            }
            Some(next) => url = bounds.step(&url, next)?,
            None if answer.status() == 401 => {
                let host = host_of(&url).unwrap_or_default().to_owned();
                let how = header(&answer, "www-authenticate").map(str::to_owned);
                return Err(YardError::WhoAsks { host, told: who.is_some(), how });
            }
            None => {
                let mut answer = answer;
                answer.extensions_mut().insert(Final(url));
                return Ok(answer);
            }
        }
    }
    Err(YardError::Redirects)
}

/// A reference seen from an address (RFC 3986, section 5.2); `None` where it is none, or leads out of HTTP.
pub(in crate::bring) fn resolved(base: &str, reference: &str) -> Option<String> {
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
