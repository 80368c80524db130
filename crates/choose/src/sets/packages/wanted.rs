//! Which releases of a package are wanted: what a ladder says, and what packages say of each other (npm's "package.json,
//! dependencies").

use nodejs_semver::{Range, Version};
use toml::Spanned;

use super::listed::{ListedPackage, PackageRelease, PackageSays};
use super::{PackageWish, is_name};
use crate::document::{DocumentError, Source};

/// Bytes of a range.
const LONGEST: usize = 1 << 10;

pub(in crate::sets) type PackageForms = std::collections::BTreeMap<Spanned<String>, Spanned<String>>;

/// The packages that a ladder wants, in the order of their names.
pub(in crate::sets) fn wishes(source: &Source, forms: PackageForms) -> Result<Vec<PackageWish>, DocumentError> {
    let wish = |(name, text): (Spanned<String>, Spanned<String>)| {
        if !is_name(name.get_ref()) {
            let message = format!("`{}` cannot be the name of a package", name.get_ref());
            return Err(source.invalid(name.span(), message));
        }
        let versions = range(text.get_ref()).map_err(|message| source.invalid(text.span(), message))?;
        Ok(PackageWish { name: name.into_inner(), written: text.into_inner(), versions })
    };
    let mut all: Vec<PackageWish> = forms.into_iter().map(wish).collect::<Result<_, _>>()?;
    all.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(all)
}

/// Versions as a ladder wishes for them, in the terms that packages use: `1.4`, `=1.4.2`, `>=1.2, <2`, `any`. What projects of Node
/// write themselves is understood, too.
fn range(text: &str) -> Result<String, String> {
    let clause = |clause: &str| match clause.trim() {
        "any" => Ok("*".to_owned()),
        "latest" | "newest" => Err(format!("`{clause}`: the newest is taken by itself: write `any`")),
        other if other.starts_with("!=") => Err(format!("`{clause}`: packages have no range that leaves one out")),
        other if other.starts_with("==") => Ok(other[1..].to_owned()),
        other => Ok(other.to_owned()),
    };
    let clauses: Vec<String> = text.split(',').map(clause).collect::<Result<_, _>>()?;
    let range = clauses.join(" ");
    let is_one = text.len() <= LONGEST && !range.trim().is_empty() && range.parse::<Range>().is_ok();
    is_one
        .then_some(range)
        .ok_or_else(|| format!("`{text}` says no versions: `1.4`, `=1.4.2`, `>=1.2, <2` and `any` do"))
}

/// Releases of a package that would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Wanted {
    /// Those in a range.
    Range(Range),
    /// The one that is called so.
    Tag(String),
    /// What no registry lists: a repository, a file, an address.
    Elsewhere(String),
}

impl Wanted {
    /// What a dependency says; the second is the package that it means, where it is called otherwise.
    fn parse(text: &str) -> (Self, Option<String>) {
        let text = text.trim();
        if let Some(rest) = text.strip_prefix("npm:") {
            let (name, versions) = match rest.rfind('@').filter(|at| *at > 0) {
                Some(at) => (&rest[..at], &rest[at + 1..]),
                None => (rest, "*"),
            };
            if !is_name(name) || versions.starts_with("npm:") {
                return (Self::Elsewhere(text.to_owned()), None);
            }
            return (Self::parse(versions).0, Some(name.to_owned()));
        }
        let wanted = match text {
            "" => Self::Range(Range::any()),
            _ if text.len() > LONGEST || text.contains([':', '/']) => Self::Elsewhere(text.to_owned()),
            _ => text.parse().map_or_else(|_| Self::Tag(text.to_owned()), Self::Range),
        };
        (wanted, None)
    }

    pub(super) fn allows(&self, listed: &ListedPackage, release: &PackageRelease) -> bool {
        match self {
            // `*` is also what its registry calls the latest, be it a preview.
            Self::Range(range) => {
                range.satisfies(&release.version)
                    || *range == Range::any() && listed.tags.get("latest") == Some(&release.written)
            }
            Self::Tag(tag) => listed.tags.get(tag) == Some(&release.written),
            Self::Elsewhere(_) => false,
        }
    }
}

/// What one package wants of others.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PackageNeed {
    /// What it calls the other one.
    pub(super) called: String,
    /// The package.
    pub(super) name: String,
    pub(super) wanted: Wanted,
    pub(super) written: String,
    /// It does without.
    pub(super) optional: bool,
}

impl PackageNeed {
    pub(super) fn new(called: &str, written: &str, optional: bool) -> Self {
        let (wanted, name) = Wanted::parse(written);
        let name = name.unwrap_or_else(|| called.to_owned());
        Self { called: called.to_owned(), name, wanted, written: written.to_owned(), optional }
    }

    /// As a person would say it.
    pub(super) fn shown(&self) -> String {
        [self.called.as_str(), " ", &self.written].concat()
    }
}

impl PackageSays {
    /// What it needs for itself; what comes inside it is left out.
    pub(super) fn needs(&self) -> Vec<PackageNeed> {
        let needed = self.dependencies.iter().filter(|(name, _)| !self.optional_dependencies.contains_key(*name));
        let needed = needed.map(|(name, text)| PackageNeed::new(name, text, false));
        let optional = self.optional_dependencies.iter().map(|(name, text)| PackageNeed::new(name, text, true));
        needed.chain(optional).filter(|need| is_name(&need.called) && !self.bundles(&need.called)).collect()
    }

    /// What must be beside it for who uses it; what is optional of that must fit where it is there.
    pub(super) fn peers(&self) -> Vec<PackageNeed> {
        let is_optional = |name: &String| self.peer_dependencies_meta.get(name).is_some_and(|meta| meta.optional);
        let peer = |(name, text): (&String, &String)| PackageNeed::new(name, text, is_optional(name));
        let is_own = |need: &PackageNeed| self.dependencies.contains_key(&need.called);
        self.peer_dependencies.iter().map(peer).filter(|need| is_name(&need.called) && !is_own(need)).collect()
    }
}

/// The version of a runtime, where it has three numbers.
pub(super) fn runtime(text: &str) -> Option<Version> {
    Version::parse(text.split(['-', '+']).next()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_mean_for_packages_what_they_mean_for_tools() {
        let fits = |text: &str, version: &str| {
            let wanted = Wanted::parse(&range(text).unwrap()).0;
            let release = PackageRelease {
                version: Version::parse(version).unwrap(),
                written: version.to_owned(),
                says: PackageSays::default(),
            };
            wanted.allows(&ListedPackage::default(), &release)
        };
        for (text, yes, no) in [
            ("1.4", "1.4.9", "1.5.0"),
            ("=1.4.2", "1.4.2", "1.4.3"),
            ("==1.4.2", "1.4.2", "1.4.3"),
            (">=1.2, <2", "1.9.0", "2.0.0"),
            ("any", "7.0.0", "7.0.0-rc.1"),
            ("^1.4", "1.9.0", "2.0.0"),
            ("1 || 3", "3.2.0", "2.0.0"),
        ] {
            assert!(fits(text, yes) && !fits(text, no), "{text}");
        }
        for wrong in ["latest", "", " , ", "!=1.4", "tide pool", "file:../x", "^", &"1".repeat(2000)] {
            assert!(range(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn needs_may_call_a_package_otherwise_or_mean_what_no_registry_has() {
        let need = |text| PackageNeed::new("gauge", text, false);
        let other = need("npm:@tide/gauge@^2.0.0");
        assert_eq!((other.called.as_str(), other.name.as_str()), ("gauge", "@tide/gauge"));
        assert_eq!(other.wanted, Wanted::Range("^2.0.0".parse().unwrap()));
        assert_eq!(need("npm:plain").name, "plain");
        assert_eq!(need("next").wanted, Wanted::Tag("next".into()));
        for text in ["git+ssh://host.example/x", "file:../x", "https://host.example/x.tgz", "someone/x", "npm:../x@1"] {
            assert!(matches!(need(text).wanted, Wanted::Elsewhere(_)), "{text}");
        }
    }
}
