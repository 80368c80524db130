//! What a person allows of the places where makers publish.

/// Which origins may be asked, and where they are looked for instead.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OriginRules {
    /// The hosts that may be asked; any where it is `None`.
    pub hosts: Option<Vec<String>>,
    /// What addresses begin with, and with what they begin instead.
    pub mirrors: Vec<(String, String)>,
}

impl OriginRules {
    /// None may be asked.
    pub fn none() -> Self {
        Self { hosts: Some(Vec::new()), mirrors: Vec::new() }
    }

    /// Whether none may be asked at all, whatever their address.
    pub(crate) fn is_none(&self) -> bool {
        self.hosts.as_ref().is_some_and(Vec::is_empty)
    }

    /// The address to ask in the place of one that the settings name, so that it is allowed.
    pub(crate) fn mirrored(&self, url: &str) -> String {
        let mirrors = Self { hosts: None, mirrors: self.mirrors.clone() };
        mirrors.address(url).unwrap_or_else(|| url.to_owned())
    }

    /// The address to ask in the place of one; `None` where that is not allowed. A mirror is allowed because it is named.
    pub(crate) fn address(&self, url: &str) -> Option<String> {
        // The longest is the one that is meant.
        let fitting = self.mirrors.iter().filter(|(from, _)| url.starts_with(from.as_str()));
        if let Some((from, to)) = fitting.max_by_key(|(from, _)| from.len()) {
            return Some([to.as_str(), &url[from.len()..]].concat());
        }
        let host = host_of(url)?;
        let allowed =
            self.hosts.as_ref().is_none_or(|hosts| hosts.iter().any(|known| known.eq_ignore_ascii_case(host)));
        allowed.then(|| url.to_owned())
    }
}

/// The host of an address, without user and port (RFC 3986, section 3.2).
pub(crate) fn host_of(url: &str) -> Option<&str> {
    let rest = url.split_once("://")?.1;
    let host = rest.split(['/', '?', '#']).next()?.rsplit('@').next()?;
    match host.strip_prefix('[') {
        Some(number) => number.split(']').next(),
        None => host.split(':').next(),
    }
}

/// The host of an address, and the host with the port where that is not the scheme's own; both in lower case.
pub(crate) fn authority_of(url: &str) -> Option<(String, String)> {
    let host = host_of(url)?.to_ascii_lowercase();
    let (scheme, rest) = url.split_once("://")?;
    let authority = rest.split(['/', '?', '#']).next()?.rsplit('@').next()?;
    let port = authority.rsplit(']').next()?.rsplit_once(':').map(|(_, port)| port);
    let usual = if scheme == "https" { "443" } else { "80" };
    let whole = match port.filter(|port| !port.is_empty() && *port != usual) {
        Some(port) => format!("{host}:{port}"),
        None => host.clone(),
    };
    Some((host, whole))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_listed_hosts_and_named_mirrors_are_asked() {
        let rules = OriginRules {
            hosts: Some(vec!["dist.skerrow.example".to_owned()]),
            mirrors: vec![("https://old.example/".to_owned(), "http://mirror.example/old/".to_owned())],
        };
        let asked = |url: &str| rules.address(url);
        assert_eq!(
            asked("https://DIST.skerrow.example:8443/a").as_deref(),
            Some("https://DIST.skerrow.example:8443/a")
        );
        assert_eq!(asked("https://old.example/x/y").as_deref(), Some("http://mirror.example/old/x/y"));
        assert_eq!(asked("https://dist.skerrow.example@evil.example/a"), None);
        assert_eq!(asked("https://evil.example/?dist.skerrow.example"), None);
        assert_eq!(OriginRules::none().address("https://dist.skerrow.example/"), None);
        assert!(OriginRules::default().address("https://[::1]:80/a").is_some());
        let whole = |url: &str| authority_of(url).unwrap().1;
        assert_eq!(whole("https://u:p@DIST.example:443/a:1"), "dist.example");
        assert_eq!(
            (whole("http://dist.example:443"), whole("http://[::1]:80/")),
            ("dist.example:443".to_owned(), "::1".to_owned())
        );
    }
}
