//! The requirement language: comma-separated clauses that must all hold.
//!
//! `1.4` (1.4 and everything that starts with 1.4.), `=1.4.2`, `>=1.2`, `>1.2`, `<2`, `<=2`, `!=1.4.1`, `any`.
//!
//! The grammar, in the notation of RFC 5234; blanks may stand around a comma and behind an operator:
//!
//! ```text
//! requirement = "any" / clause *( "," clause )
//! clause      = [ ">=" / "<=" / "!=" / ">" / "<" / "=" ] version
//! ```
//!
//! How two versions compare is the matter of the tool's scheme; forms of other habits are refused with ours in the message.
//!
//! ```
//! use kladder_choose::version::Requirement;
//!
//! let wanted: Requirement = ">=1.2, <2, !=1.4.1".parse()?;
//! assert!(wanted.allows(&"1.4.2".parse()?) && !wanted.allows(&"1.4.1".parse()?));
//! // A bare version is a family: dots count, and digits do not run on.
//! let family: Requirement = "1.4".parse()?;
//! assert!(family.allows(&"1.4.9".parse()?) && !family.allows(&"1.40".parse()?));
//! // What people bring along from elsewhere is told with its column.
//! let wrong = "~1.4".parse::<Requirement>().unwrap_err();
//! assert!(wrong.to_string().ends_with("write `>=1.4, <1.5`"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::fmt;
use std::str::FromStr;

use super::{Scheme, Version};

/// A set of versions.
#[derive(Clone, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Requirement {
    clauses: Vec<Clause>,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct Clause {
    operator: Operator,
    version: Version,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Operator {
    StartsWith,
    Exactly,
    AtLeast,
    Above,
    AtMost,
    Below,
    Not,
}

/// Longest first, so that `>=` is not read as `>`.
const OPERATORS: [(&str, Operator); 6] = [
    (">=", Operator::AtLeast),
    ("<=", Operator::AtMost),
    ("!=", Operator::Not),
    (">", Operator::Above),
    ("<", Operator::Below),
    ("=", Operator::Exactly),
];

/// A text that is no requirement.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{clause}` is no requirement{}", hint.as_ref().map(|h| format!(": {h}")).unwrap_or_default())]
pub struct RequirementError {
    /// Where the mistake begins, in characters from 1.
    pub column: usize,
    /// The clause with the mistake.
    pub clause: String,
    /// Our form of what was probably meant.
    pub hint: Option<String>,
}

impl Requirement {
    /// Every version.
    pub fn any() -> Self {
        Self { clauses: Vec::new() }
    }

    /// Whether `version` is in the set, by the common scheme.
    pub fn allows(&self, version: &Version) -> bool {
        self.allows_by(Scheme::Common, version)
    }

    /// Whether `version` is in the set, by the scheme of its tool.
    pub fn allows_by(&self, scheme: Scheme, version: &Version) -> bool {
        self.clauses.iter().all(|clause| clause.allows(scheme, version))
    }

    /// Whether some clause names a preview, so that previews are asked for.
    pub fn names_preview(&self) -> bool {
        self.clauses.iter().any(|clause| clause.operator != Operator::Not && clause.version.is_preview())
    }

    /// The versions that the clauses name.
    pub fn named(&self) -> impl Iterator<Item = &Version> {
        self.clauses.iter().map(|clause| &clause.version)
    }
}

impl Clause {
    fn allows(&self, scheme: Scheme, version: &Version) -> bool {
        let named = &self.version;
        let compared = || scheme.compare(version, named);
        match self.operator {
            Operator::StartsWith => scheme.starts_with(version, named),
            Operator::Exactly => version == named,
            Operator::AtLeast => compared().is_ge(),
            Operator::Above => compared().is_gt(),
            Operator::AtMost => compared().is_le(),
            Operator::Below => compared().is_lt(),
            Operator::Not => version != named,
        }
    }
}

impl Requirement {
    /// The requirement in the one form in which it is written to files and digested; reads back as the same.
    pub fn as_written(&self) -> String {
        if self.clauses.is_empty() {
            return "any".to_owned();
        }
        let sign = |o: Operator| OPERATORS.iter().find(|(_, other)| *other == o).map_or("", |(sign, _)| sign);
        let clause = |clause: &Clause| [sign(clause.operator), clause.version.as_str()].concat();
        self.clauses.iter().map(clause).collect::<Vec<_>>().join(", ")
    }
}

impl fmt::Display for Requirement {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.as_written())
    }
}

impl FromStr for Requirement {
    type Err = RequirementError;

    fn from_str(text: &str) -> Result<Self, RequirementError> {
        if text.trim() == "any" {
            return Ok(Self::any());
        }
        let are_numbers = |text: &str| text.split(',').all(|part| part.trim().bytes().all(|b| b.is_ascii_digit()));
        if text.contains(',') && !text.contains(",,") && are_numbers(text) {
            let hint =
                Some(format!("write `{}`: a comma stands between clauses", text.replace(',', ".").replace(' ', "")));
            return Err(RequirementError { column: 1, clause: text.to_owned(), hint });
        }
        let mut column = 1;
        let mut clauses = Vec::new();
        for part in text.split(',') {
            let start = column + part.chars().take_while(|c| c.is_whitespace()).count();
            clauses.push(clause(part.trim(), start)?);
            column += part.chars().count() + 1;
        }
        Ok(Self { clauses })
    }
}

fn clause(text: &str, column: usize) -> Result<Clause, RequirementError> {
    let operator = OPERATORS.iter().find(|(sign, _)| text.starts_with(sign));
    let (sign, operator) = operator.map_or(("", Operator::StartsWith), |&(sign, operator)| (sign, operator));
    let rest = text[sign.len()..].trim_start();
    let skipped = text.chars().count() - rest.chars().count();
    // Elsewhere `1.4.x` stands for a family; as a version of ours it would never match anything.
    let is_family = rest.rsplit('.').next().is_some_and(|last| last.eq_ignore_ascii_case("x"));
    let version = rest.parse().ok().filter(|_| !is_family && !rest.contains(" - "));
    version.map(|version| Clause { operator, version }).ok_or_else(|| RequirementError {
        column: column + skipped,
        clause: text.to_owned(),
        hint: hint(text),
    })
}

/// Whether a word is another habit's for the newest version.
pub fn asks_for_newest(text: &str) -> bool {
    text.eq_ignore_ascii_case("latest") || text.eq_ignore_ascii_case("newest")
}

/// Forms from other habits, and how we write what they mean.
fn hint(text: &str) -> Option<String> {
    let fits = |v: &str| v.parse::<Version>().is_ok();
    let after = |prefix: &str| text.strip_prefix(prefix).map(str::trim).filter(|v| fits(v));
    let before = |suffix: &str| text.strip_suffix(suffix).map(str::trim).filter(|v| fits(v));
    if text.is_empty() {
        return Some("a clause is missing; `any` allows every version".into());
    }
    if text == "*" || asks_for_newest(text) {
        return Some("write `any`; the newest that fits is taken".into());
    }
    if text.contains('|') {
        return Some("one range holds for a wish; the clauses of it must all hold".into());
    }
    if let Some((ours, v)) = [("<=", "=<"), (">=", "=>")].iter().find_map(|(ours, sign)| Some((ours, after(sign)?))) {
        return Some(format!("write `{ours}{v}`"));
    }
    if let Some(v) = text.rsplit_once('@').map(|(_, v)| v).filter(|v| fits(v)) {
        return Some(format!("write `{v}`"));
    }
    if let Some(v) = after("==") {
        return Some(format!("one `=` is enough: `={v}`"));
    }
    if let Some((v, next)) = after("^").and_then(|v| Some((v, following(v, 0)?))) {
        return Some(format!("write `>={v}, <{next}`"));
    }
    if let Some(v) = after("~>").or_else(|| after("~=")).or_else(|| after("~")) {
        return Some(format!("write `>={v}, <{}`", following(v, 1).unwrap_or_else(|| "…".into())));
    }
    if let Some((from, to)) = text.split_once(" - ").filter(|(from, to)| fits(from.trim()) && fits(to.trim())) {
        return Some(format!("write `>={}, <={}`", from.trim(), to.trim()));
    }
    if let Some(v) = before("+") {
        return Some(format!("write `>={v}`"));
    }
    let bounds = [("[", ">="), ("(", ">")].iter().find_map(|(sign, ours)| Some(format!("{ours}{}", after(sign)?)));
    let bounds =
        bounds.or_else(|| [("]", "<="), (")", "<")].iter().find_map(|(s, o)| Some(format!("{o}{}", before(s)?))));
    if let Some(ours) = bounds {
        return Some(format!("write `{ours}`"));
    }
    let bare = text.trim_start_matches('=').trim_end_matches(['*', 'x', 'X']).trim_end_matches('.');
    if bare.len() < text.len() && fits(bare) {
        return Some(format!("write `{bare}`, it means {bare} and everything that starts with {bare}."));
    }
    text.contains(' ').then(|| "clauses are separated by commas".into())
}

/// The version whose number at position `at` is one higher than that of `text`, and that ends there: 1.5 after 1.4.2.
fn following(text: &str, at: usize) -> Option<String> {
    let numbers: Option<Vec<u64>> = text.split('.').take(at + 1).map(|number| number.parse().ok()).collect();
    let mut numbers = numbers.filter(|numbers| numbers.len() == at + 1)?;
    *numbers.last_mut()? += 1;
    Some(numbers.iter().map(u64::to_string).collect::<Vec<_>>().join("."))
}

impl TryFrom<String> for Requirement {
    type Error = RequirementError;

    fn try_from(text: String) -> Result<Self, RequirementError> {
        text.parse()
    }
}

impl From<Requirement> for String {
    fn from(requirement: Requirement) -> Self {
        requirement.as_written()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clauses_hold_together_and_a_bare_version_means_its_family() {
        let cases = [
            ("1.4", "1.4 1.4.0 1.4.9", "1.40 1.5 1"),
            (">=1.2, <2, !=1.4.1", "1.2 1.4.2 1.99", "1.1 2 2.0 1.4.1"),
            ("=1.4.2", "1.4.2", "1.4.2.1 1.4"),
            (">1.2,<=1.4", "1.2.1 1.4", "1.2 1.4.1"),
            ("any", "0 9 r27c", ""),
        ];
        for (text, inside, outside) in cases {
            let requirement: Requirement = text.parse().unwrap();
            let allows = |v: &str| requirement.allows(&v.parse().unwrap());
            assert!(inside.split_whitespace().all(allows), "{text} allows {inside}");
            assert!(!outside.split_whitespace().any(allows), "{text} allows none of {outside}");
            assert_eq!(requirement.to_string().parse::<Requirement>().unwrap(), requirement);
        }
    }

    #[test]
    fn other_habits_get_our_form_and_the_column() {
        let cases = [
            ("==1.4.2", 2, "`=1.4.2`"),
            (">=1, ^1.4.2", 6, "`>=1.4.2, <2`"),
            ("~1.4.2", 1, "`>=1.4.2, <1.5`"),
            ("latest", 1, "`any`"),
            ("Newest", 1, "`any`"),
            ("1,4", 1, "`1.4`"),
            ("1, 4, 2", 1, "`1.4.2`"),
            ("=<2", 2, "`<=2`"),
            ("=>1", 2, "`>=1`"),
            ("@1.4", 1, "write `1.4`"),
            ("skerroc@1.4", 1, "write `1.4`"),
            ("1.4.*", 1, "`1.4`"),
            ("1.4.x", 1, "`1.4`"),
            ("1.2 - 1.4", 1, "`>=1.2, <=1.4`"),
            ("1 || 2", 1, "must all hold"),
            ("[1.2,2.0)", 1, "`>=1.2`"),
            (">=1.2,2.0)", 7, "`<2.0`"),
            ("1.4+", 1, "`>=1.4`"),
            (">=1,,<2", 5, "a clause is missing"),
            (">=1 <2", 3, "commas"),
        ];
        for (text, column, hint) in cases {
            let error = text.parse::<Requirement>().unwrap_err();
            assert_eq!(error.column, column, "{text}");
            assert!(error.to_string().contains(hint), "{text}: {error}");
        }
    }
}
