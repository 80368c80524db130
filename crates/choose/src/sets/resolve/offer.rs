//! Libraries as the resolver sees them.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use kladder_solve::{Alternative, ChoiceOf, Need, NeedOf, Provider, Rule, RuleOf};
use pep508_rs::pep440_rs::{Operator, Version, VersionSpecifiers};
use pep508_rs::{ExtraName, Requirement, VerbatimUrl, VersionOrUrl};

use super::{Catalogue, LibraryRelease, Offered, Spot};
use crate::sets::lock::{Lock, normalised};
use crate::sets::metadata::Metadata;
use crate::sets::wished::Libraries;

/// What has versions.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(super) enum Node {
    /// A library at a spot, or a piece of it.
    At { spot: usize, library: Arc<str>, piece: Option<Arc<str>> },
    /// What keeps spots of a group at one version.
    One { group: usize, library: Arc<str> },
}

/// Versions that would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Span {
    Of(VersionSpecifiers),
    Exactly(Version),
}

/// A release at a spot, with the wheel that fits best there.
pub(super) struct Candidate {
    pub(super) version: Version,
    pub(super) wheel: Offered,
    withdrawn: bool,
}

/// All that can be chosen of one library at one spot.
pub(super) struct Choice {
    /// Finished releases before previews, the newest first.
    pub(super) candidates: Vec<Candidate>,
    only_previews: bool,
}

/// By spot and library.
type Choices = HashMap<(usize, Arc<str>), Arc<Choice>>;

pub(super) struct Offer<'o, C> {
    pub(super) spots: &'o [Spot],
    catalogue: &'o C,
    /// By spot; those of one group get one version.
    groups: Vec<usize>,
    choices: RefCell<Choices>,
    kept: RefCell<HashSet<(String, Version)>>,
}

type Pieces<'r> = &'r [ExtraName];

impl<'o, C: Catalogue> Offer<'o, C> {
    /// With one version of each library for all spots where they are served together; else only for those that a lock file
    /// cannot tell apart.
    pub(super) fn new(spots: &'o [Spot], catalogue: &'o C, together: bool) -> Self {
        let group = |spot: &Spot| spots.iter().position(|one| one.marker == spot.marker).unwrap_or_default();
        let groups = spots.iter().map(|spot| if together { 0 } else { group(spot) }).collect();
        Self { spots, catalogue, groups, choices: RefCell::default(), kept: RefCell::default() }
    }

    /// The wish at position `n` is that of library `n / spots`.
    pub(super) fn wishes(&self, wanted: &Libraries) -> Vec<NeedOf<Self>> {
        let each = wanted.wishes.iter().flat_map(|wish| (0..self.spots.len()).map(move |spot| (wish, spot)));
        let pieces = wanted.wishes.iter().flat_map(|wish| {
            let spots = 0..self.spots.len();
            spots.flat_map(move |spot| wish.pieces.iter().map(move |piece| (wish, spot, piece)))
        });
        let of = |library: &str, spot, piece: Option<&String>, versions: &VersionSpecifiers| {
            let piece = piece.map(|piece| piece.as_str().into());
            Need::one(Node::At { spot, library: library.into(), piece }, Span::Of(versions.clone()))
        };
        let whole = each.map(|(wish, spot)| of(&wish.name, spot, None, &wish.versions));
        let pieces = pieces.map(|(wish, spot, piece)| of(&wish.name, spot, Some(piece), &wish.versions));
        whole.chain(pieces).collect()
    }

    /// What a lock file has, as what should stay.
    pub(super) fn hold(&self, old: &Lock, moving: &dyn Fn(&str) -> bool) -> Vec<ChoiceOf<Self>> {
        let mut held = Vec::new();
        for library in old.libraries.iter().filter(|library| !moving(&library.name)) {
            let Some(version) = library.version.as_deref().and_then(|text| text.parse::<Version>().ok()) else {
                continue;
            };
            self.kept.borrow_mut().insert((library.name.clone(), version.clone()));
            for (spot, there) in self.spots.iter().enumerate() {
                let marker = library.marker.as_deref();
                if marker.is_none_or(|marker| there.environment.holds(marker) == Ok(true)) {
                    let node = Node::At { spot, library: library.name.as_str().into(), piece: None };
                    held.push((node, version.clone()));
                }
            }
        }
        held
    }

    /// What there is of a library at a spot.
    pub(super) fn choice(&self, spot: usize, library: &Arc<str>) -> Result<Arc<Choice>, C::Error> {
        let key = (spot, Arc::clone(library));
        if let Some(known) = self.choices.borrow().get(&key) {
            return Ok(Arc::clone(known));
        }
        let releases = self.catalogue.releases(library)?;
        let choice = Arc::new(Choice::of(&releases, &self.spots[spot]));
        self.choices.borrow_mut().insert(key, Arc::clone(&choice));
        Ok(choice)
    }

    /// All releases of a library, whether they can be used here or not.
    pub(super) fn releases(&self, library: &str) -> Result<Arc<Vec<LibraryRelease>>, C::Error> {
        self.catalogue.releases(library)
    }

    /// What the wheel of a version at a spot says of itself; what is wrong with it, where nobody can read it.
    pub(super) fn metadata(
        &self,
        spot: usize,
        library: &Arc<str>,
        version: &Version,
    ) -> Result<Result<Arc<Metadata>, String>, C::Error> {
        let choice = self.choice(spot, library)?;
        match choice.candidates.iter().find(|one| one.version == *version) {
            None => Ok(Err("it has no wheel".to_owned())),
            Some(candidate) => self.catalogue.metadata(library, &candidate.wheel),
        }
    }

    /// What a version, or a piece of it, needs at a spot.
    pub(super) fn needs<'m>(
        &self,
        metadata: &'m Metadata,
        spot: usize,
        piece: Option<&str>,
    ) -> Vec<&'m Requirement<VerbatimUrl>> {
        let environment = &self.spots[spot].environment;
        let extra = piece.and_then(|piece| ExtraName::new(piece.to_owned()).ok());
        let wanted = |need: &&Requirement<VerbatimUrl>| match &extra {
            None => environment.wants(&need.marker, None),
            Some(extra) => environment.wants(&need.marker, Some(extra)) && !environment.wants(&need.marker, None),
        };
        metadata.needs.iter().filter(wanted).collect()
    }

    /// What will be taken of some libraries, most likely: the first that would do.
    fn expect<'n>(
        &self,
        spot: usize,
        needs: impl Iterator<Item = (&'n str, VersionSpecifiers)>,
    ) -> Result<(), C::Error> {
        let mut choices = Vec::new();
        for (name, versions) in needs {
            choices.push((name, versions, self.choice(spot, &name.into())?));
        }
        let likely = choices.iter().filter_map(|(name, versions, choice)| {
            let would_do = |one: &&Candidate| choice.allows(versions, &one.version, false);
            Some((*name, &choice.candidates.iter().find(would_do)?.wheel))
        });
        self.catalogue.likely(&likely.collect::<Vec<_>>());
        Ok(())
    }

    fn rules_at(
        &self,
        spot: usize,
        library: &Arc<str>,
        piece: Option<&Arc<str>>,
        version: &Version,
    ) -> Result<Vec<RuleOf<Self>>, C::Error> {
        let cannot = || Rule::Needs(Need { alternatives: Vec::new() });
        let Ok(metadata) = self.metadata(spot, library, version)? else { return Ok(vec![cannot()]) };
        let mut rules = Vec::new();
        let exactly = |node| Rule::Needs(Need::one(node, Span::Exactly(version.clone())));
        if piece.is_some() {
            rules.push(exactly(Node::At { spot, library: Arc::clone(library), piece: None }));
        } else {
            let group = self.groups[spot];
            if self.groups.iter().filter(|other| **other == group).count() > 1 {
                rules.push(exactly(Node::One { group, library: Arc::clone(library) }));
            }
            let wants = metadata.requires_python.as_deref();
            if wants.is_some_and(|wants| self.spots[spot].environment.is_one_of(wants) == Ok(false)) {
                rules.push(cannot());
            }
        }
        let needs = self.needs(&metadata, spot, piece.map(AsRef::as_ref));
        let names: Vec<String> = needs.iter().map(|need| normalised(need.name.as_ref())).collect();
        self.catalogue.soon(&names.iter().map(String::as_str).collect::<Vec<_>>());
        self.expect(spot, needs.iter().zip(&names).map(|(need, name)| (name.as_str(), versions_of(need))))?;
        for (need, name) in needs.into_iter().zip(names) {
            match &need.version_or_url {
                // A file that only one address has is no release of a library.
                Some(VersionOrUrl::Url(_)) => rules.push(cannot()),
                _ => rules.extend(of_need(spot, &name, &need.extras, &versions_of(need))),
            }
        }
        Ok(rules)
    }
}

fn versions_of(need: &Requirement<VerbatimUrl>) -> VersionSpecifiers {
    match &need.version_or_url {
        Some(VersionOrUrl::VersionSpecifier(versions)) => versions.clone(),
        _ => VersionSpecifiers::empty(),
    }
}

fn of_need(spot: usize, name: &str, pieces: Pieces<'_>, versions: &VersionSpecifiers) -> Vec<Rule<Node, Span>> {
    let rule = |piece: Option<&ExtraName>| {
        let piece = piece.map(|piece| piece.as_ref().into());
        Rule::Needs(Need {
            alternatives: vec![Alternative {
                package: Node::At { spot, library: name.into(), piece },
                range: Span::Of(versions.clone()),
            }],
        })
    };
    std::iter::once(rule(None)).chain(pieces.iter().map(|piece| rule(Some(piece)))).collect()
}

impl Choice {
    fn of(releases: &[LibraryRelease], spot: &Spot) -> Self {
        // Few ranges stand beside many files.
        let mut ranges: BTreeMap<&str, bool> = BTreeMap::new();
        let mut candidates: Vec<Candidate> = Vec::new();
        for release in releases {
            let mut wheels = Vec::new();
            for wheel in &release.wheels {
                let fits = match wheel.requires_python.as_deref() {
                    None => true,
                    // A range that nobody can read says nothing, as it is with those who install.
                    Some(text) => {
                        *ranges.entry(text).or_insert_with(|| spot.environment.is_one_of(text).unwrap_or(true))
                    }
                };
                wheels.extend(fits.then_some(wheel));
            }
            let best = wheels.into_iter().filter_map(|wheel| Some((spot.interpreter.fit(&wheel.tag)?, wheel)));
            if let Some((_, wheel)) =
                best.min_by(|(one, a), (other, b)| (one, &a.wheel.file).cmp(&(other, &b.wheel.file)))
            {
                let (version, withdrawn) = (release.version.clone(), release.withdrawn);
                candidates.push(Candidate { version, wheel: wheel.clone(), withdrawn });
            }
        }
        candidates.sort_by(|one, other| {
            let is_preview = |candidate: &Candidate| candidate.version.any_prerelease();
            is_preview(one).cmp(&is_preview(other)).then_with(|| other.version.cmp(&one.version))
        });
        let only_previews = candidates.iter().all(|one| one.version.any_prerelease());
        Self { candidates, only_previews }
    }

    /// Previews only where somebody names one, or where there is nothing else (PEP 440); what was taken back only where
    /// somebody wants exactly it (PEP 592).
    pub(super) fn allows(&self, versions: &VersionSpecifiers, version: &Version, is_kept: bool) -> bool {
        let named =
            || self.only_previews || versions.iter().any(pep508_rs::pep440_rs::VersionSpecifier::any_prerelease);
        let exactly = || versions.iter().any(|one| matches!(one.operator(), Operator::Equal | Operator::ExactEqual));
        let withdrawn = || self.candidates.iter().any(|one| one.version == *version && one.withdrawn);
        versions.contains(version) && (!version.any_prerelease() || named()) && (is_kept || exactly() || !withdrawn())
    }
}

impl<C: Catalogue> Provider for Offer<'_, C> {
    type Package = Node;
    type Version = Version;
    type Range = Span;
    type Error = C::Error;

    fn versions(&self, node: &Node) -> Result<Vec<Version>, C::Error> {
        match node {
            Node::At { spot, library, .. } => {
                let choice = self.choice(*spot, library)?;
                Ok(choice.candidates.iter().map(|candidate| candidate.version.clone()).collect())
            }
            Node::One { group, library } => {
                let mut all: Vec<Version> = Vec::new();
                for spot in (0..self.spots.len()).filter(|spot| self.groups[*spot] == *group) {
                    let choice = self.choice(spot, library)?;
                    all.extend(choice.candidates.iter().map(|candidate| candidate.version.clone()));
                }
                all.sort_by(|one, other| other.cmp(one));
                all.dedup();
                Ok(all)
            }
        }
    }

    fn rules(&self, node: &Node, version: &Version) -> Result<Vec<RuleOf<Self>>, C::Error> {
        match node {
            Node::At { spot, library, piece } => self.rules_at(*spot, library, piece.as_ref(), version),
            Node::One { .. } => Ok(Vec::new()),
        }
    }

    fn allows(&self, span: &Span, node: &Node, version: &Version) -> bool {
        match (span, node) {
            (Span::Exactly(wanted), _) => wanted == version,
            (Span::Of(versions), Node::One { .. }) => versions.contains(version),
            (Span::Of(versions), Node::At { spot, library, .. }) => {
                let is_kept = self.kept.borrow().contains(&(library.to_string(), version.clone()));
                // What was not asked for yet has no versions that anybody could ask about.
                self.choice(*spot, library).is_ok_and(|choice| choice.allows(versions, version, is_kept))
            }
        }
    }

    fn go_on(&self) -> bool {
        self.catalogue.go_on()
    }
}
