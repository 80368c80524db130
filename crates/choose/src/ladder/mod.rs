//! The ladder: what is wanted, as people write it. Reading one does no I/O.
//!
//! ```
//! use kladder_choose::document::Source;
//! use kladder_choose::ladder::{HostPolicy, Ladder};
//!
//! let text = r#"
//! [ladder]
//! title = "Tide-gauge desk"
//! catalog = "../catalog"
//! [machines]
//! desk = "linux/x86_64"
//! [rungs]
//! skerroc = "1.4"                          # a requirement
//! tidlow = "long-term"                     # a series
//! c-compiler = { host = "prefer" }         # a capability; the host's own will do
//! whimbrow = { version = "any", optional = true }
//! [answers]
//! cc = "skerroc"                           # whose command `cc` is, where two rungs have one
//! "#;
//! let ladder = Ladder::parse(&Source::new("ladder.toml", text))?;
//! assert_eq!(ladder.wishes.len(), 4);
//! assert_eq!(ladder.wishes[1].range.series.as_deref(), Some("long-term"));
//! assert_eq!(ladder.wishes[2].host, HostPolicy::Prefer);
//! assert_eq!((ladder.wishes[0].place.line, ladder.wishes[0].range_place.column), (8, 11));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod code;
mod edit;
mod machines;

pub use code::{Code, CodeSource, Revision};
pub use edit::{Terms, with_wish, without_wish};

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use serde::{Deserialize, Deserializer};
use toml::Spanned;

use crate::catalog::{CommandName, Machine, Rehearsal, Variable, VariableName, Way};
use crate::digest::{Canonical, Digest};
use crate::document::{DocumentError, Place, Source};
use crate::names::{NotAName, ToolName};
use crate::sets::{LibrarySet, SetForm};
use crate::setting::{Setting, SettingForm};
use crate::version::{Requirement, RequirementError, asks_for_newest};

/// What the catalog is called that the program carries in itself.
pub const STARTER: &str = "starter";

/// What a catalog begins with that is an archive in a yard: its path there follows.
pub const YARD: &str = "yard:";

/// Where a catalog is that a file in `folder` names: a folder; [`STARTER`] and addresses as they are.
pub fn catalog_at(folder: &Path, named: &Path) -> PathBuf {
    if named == Path::new(STARTER) || address_of(named).is_some() { named.to_path_buf() } else { folder.join(named) }
}

/// The address of a catalog that is not on this machine: an archive, a folder of a server (with a slash at its end), a repository
/// with `#BRANCH-TAG-OR-COMMIT` behind it, or an archive in a yard ([`YARD`]).
pub fn address_of(catalog: &Path) -> Option<&str> {
    let text = catalog.to_str()?;
    let is_secure_copy = || text.split_once('@').is_some_and(|(user, rest)| !user.contains('/') && rest.contains(':'));
    (text.contains("://") || text.starts_with(YARD) || is_secure_copy()).then_some(text)
}

/// What a person wants of a service.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceWish {
    /// The port where it listens.
    pub port: Option<std::num::NonZeroU16>,
    /// Whether other machines may reach it.
    #[serde(default)]
    pub reachable: bool,
    /// When it starts by itself.
    pub start: Option<StartsWith>,
    /// A host name that is to lead to this machine, for the service's sake.
    pub host: Option<HostName>,
}

/// When a service starts by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StartsWith {
    /// With the person's session.
    Session,
}

/// A host name.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct HostName(String);

impl HostName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for HostName {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        crate::catalog::Gate::of_host_name(&text).map(|_| Self(text.clone())).ok_or(format!("`{text}` is no host name"))
    }
}

/// A ladder as read from its file.
#[derive(Clone, Debug)]
pub struct Ladder {
    /// The file.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// What it is called among people.
    pub title: String,
    /// The machines it is pinned for, sorted by name; none for the one at hand alone.
    pub machines: Vec<Machine>,
    /// The catalogs it is made from, the most important first: folders, from the ladder's own where they are relative. None
    /// where the settings say.
    pub catalogs: Vec<PathBuf>,
    /// What is wanted, in the order of the file.
    pub wishes: Vec<Wish>,
    /// The sets of libraries that it wants; each has a wish of its name, too.
    pub sets: Vec<LibrarySet>,
    /// What the person wants of services otherwise than their tools say, by name.
    pub services: BTreeMap<String, ServiceWish>,
    /// Which tool answers to a command, or sets a variable, that several bring.
    pub answers: BTreeMap<String, ToolName>,
    /// The command that the person wants to log in with; of the workstation's ladder only.
    pub login_shell: Option<CommandName>,
    /// How the desktop should look.
    pub look: Option<Look>,
    /// The SSH key that the person should have.
    pub ssh_key: Option<SshKey>,
    /// Further names under which commands of its rungs answer, by the name.
    pub names: BTreeMap<CommandName, CommandName>,
    /// The code that it wants beside its tools.
    pub code: Option<Code>,
    /// What it makes of a person's files.
    pub settings: Vec<Setting>,
    /// Rehearsals of its own, beside the catalog's; sorted by name.
    pub rehearsals: Vec<Rehearsal>,
    /// Environment variables of its own, after those of its rungs; `{folder}` is the ladder's.
    pub variables: BTreeMap<VariableName, Variable>,
    /// What a person chose for the first start of tools, by tool and by the name of the choice.
    pub choices: BTreeMap<ToolName, BTreeMap<String, String>>,
    /// Short names in interactive shells, and what they stand for; of the workstation's ladder only.
    pub aliases: BTreeMap<String, String>,
    /// A digest of everything in its file that decides about pins.
    pub own_digest: Digest,
    /// The same, with what lies beside the file and decides, too.
    pub digest: Digest,
}

/// How a desktop looks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Look {
    /// Light letters on dark ground.
    Dark,
    /// Dark letters on light ground.
    Light,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct DesktopForm {
    look: Look,
}

/// An SSH key that the person should have.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SshKey {
    /// Where its public half is to be given, in words or as an address.
    pub at: Option<String>,
}

/// One line of what is wanted.
#[derive(Clone, Debug)]
pub struct Wish {
    /// What is wished for.
    pub tool: ToolName,
    /// Which versions will do.
    pub range: Range,
    /// Whether what the host has will do.
    pub host: HostPolicy,
    /// It is left out where it cannot be had.
    pub optional: bool,
    /// For a capability: the tools that are tried before others, in this order.
    pub prefer: Vec<ToolName>,
    /// Where its name stands.
    pub place: Place,
    /// Where it says which versions will do.
    pub range_place: Place,
}

/// Whether what the host has will do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HostPolicy {
    /// It is taken before anything else.
    Prefer,
    /// It is taken where nothing else fits.
    #[default]
    Allow,
    /// It is not looked at.
    Never,
    /// Nothing else is taken.
    Only,
}

impl HostPolicy {
    /// As a ladder has it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Prefer => "prefer",
            Self::Allow => "allow",
            Self::Never => "never",
            Self::Only => "only",
        }
    }
}

impl std::fmt::Display for HostPolicy {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}

/// Which versions will do: a requirement, a series, or both.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Range {
    /// The versions.
    pub requirement: Requirement,
    /// The series that the release must belong to.
    pub series: Option<String>,
    /// The pieces that the release must have.
    pub pieces: Vec<String>,
}

impl Range {
    /// Every release that is no preview.
    pub fn any() -> Self {
        Self { requirement: Requirement::any(), series: None, pieces: Vec::new() }
    }
}

/// A requirement, or the name of a series.
impl FromStr for Range {
    type Err = RequirementError;

    fn from_str(text: &str) -> Result<Self, RequirementError> {
        match text.parse() {
            Ok(requirement) => Ok(Self { requirement, ..Self::any() }),
            Err(_) if is_series(text) => Ok(Self { series: Some(text.to_owned()), ..Self::any() }),
            Err(error) => Err(error),
        }
    }
}

impl From<&Way> for Range {
    fn from(way: &Way) -> Self {
        Self { requirement: way.version.clone(), series: None, pieces: way.pieces.clone() }
    }
}

impl std::fmt::Display for Range {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.series {
            None => self.requirement.fmt(f)?,
            Some(series) if self.requirement == Requirement::any() => write!(f, "the {series} series")?,
            Some(series) => write!(f, "{} in the {series} series", self.requirement)?,
        }
        if self.pieces.is_empty() { Ok(()) } else { write!(f, " with {}", self.pieces.join(", ")) }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    #[serde(default)]
    ladder: Head,
    #[serde(default)]
    machines: BTreeMap<Spanned<String>, Spanned<machines::MachineForm>>,
    #[serde(default)]
    answers: BTreeMap<String, ToolName>,
    #[serde(default)]
    names: BTreeMap<CommandName, CommandName>,
    desktop: Option<DesktopForm>,
    #[serde(rename = "ssh-key")]
    ssh_key: Option<SshKey>,
    code: Option<code::CodeForm>,
    #[serde(default)]
    settings: BTreeMap<Spanned<String>, Spanned<SettingForm>>,
    #[serde(default)]
    rehearsals: BTreeMap<Spanned<String>, Rehearsal>,
    #[serde(default)]
    services: BTreeMap<Spanned<String>, ServiceWish>,
    #[serde(default)]
    sets: BTreeMap<Spanned<String>, SetForm>,
    #[serde(default)]
    variables: BTreeMap<VariableName, Variable>,
    #[serde(default)]
    choices: BTreeMap<ToolName, BTreeMap<String, String>>,
    #[serde(default)]
    aliases: BTreeMap<Spanned<String>, String>,
    #[serde(default)]
    rungs: BTreeMap<Spanned<String>, Spanned<WishForm>>,
}

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Head {
    title: Option<String>,
    catalog: Option<OneOrSeveral>,
    #[serde(rename = "login-shell")]
    login_shell: Option<CommandName>,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands a folder, or a list of folders")]
enum OneOrSeveral {
    One(PathBuf),
    Several(Vec<PathBuf>),
}

struct WishForm {
    version: Option<Spanned<String>>,
    series: Option<String>,
    pieces: Vec<String>,
    host: HostPolicy,
    optional: bool,
    prefer: Vec<ToolName>,
    /// The whole value is one string.
    short: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct WishTable {
    version: Option<Spanned<String>>,
    series: Option<String>,
    #[serde(default)]
    pieces: Vec<String>,
    #[serde(default)]
    host: HostPolicy,
    #[serde(default)]
    optional: bool,
    #[serde(default)]
    prefer: Vec<ToolName>,
}

impl<'de> Deserialize<'de> for WishForm {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = WishForm;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a requirement like \"1.4\", a series, or a table with `version`, `series`, `pieces`, `host`, `prefer` and `optional`",
                )
            }
            fn visit_str<E>(self, text: &str) -> Result<WishForm, E> {
                let version = Some(Spanned::new(0..0, text.to_owned()));
                Ok(WishForm {
                    version,
                    series: None,
                    pieces: Vec::new(),
                    host: HostPolicy::Allow,
                    optional: false,
                    prefer: Vec::new(),
                    short: true,
                })
            }
            fn visit_i64<E: serde::de::Error>(self, number: i64) -> Result<WishForm, E> {
                Err(E::custom(in_quotes(number)))
            }
            fn visit_f64<E: serde::de::Error>(self, number: f64) -> Result<WishForm, E> {
                Err(E::custom(in_quotes(number)))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<WishForm, A::Error> {
                let table = WishTable::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let WishTable { version, series, pieces, host, optional, prefer } = table;
                Ok(WishForm { version, series, pieces, host, optional, prefer, short: false })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// Numbers lose the zeros at their end: 1.10 would be read as 1.1.
fn in_quotes(number: impl std::fmt::Display) -> String {
    format!("a version stands in quotes: \"{number}\"")
}

impl Ladder {
    /// Reads a ladder from a text, which need not stand in its file yet.
    ///
    /// # Errors
    /// [`DocumentError`] with line, column and a hint where the text is wrong.
    pub fn parse(source: &Source) -> Result<Self, DocumentError> {
        let path = &source.path;
        let file: File = source.parse()?;
        let machines = file
            .machines
            .into_iter()
            .map(|(name, form)| machines::machine(source, name, form))
            .collect::<Result<Vec<_>, _>>()?;
        let mut rungs: Vec<_> = file.rungs.into_iter().collect();
        rungs.sort_by_key(|(tool, _)| tool.span().start);
        let mut wishes: Vec<Wish> =
            rungs.into_iter().map(|(tool, form)| wish(source, &tool, form)).collect::<Result<_, _>>()?;
        let sets = file.sets.into_iter().map(|(name, form)| set(source, &name, form)).collect::<Result<Vec<_>, _>>()?;
        wishes.extend(sets.iter().map(of_set));
        let folder = path.parent().unwrap_or(Path::new("."));
        let name = || folder.file_name().map_or_else(|| "ladder".into(), |name| name.to_string_lossy().into_owned());
        let catalogs = match file.ladder.catalog {
            None => Vec::new(),
            Some(OneOrSeveral::One(catalog)) => vec![catalog],
            Some(OneOrSeveral::Several(catalogs)) => catalogs,
        };
        Ok(Self {
            own_digest: digest(&machines, &wishes),
            digest: digest(&machines, &wishes),
            sets,
            path: path.clone(),
            text: source.text.clone(),
            title: file.ladder.title.unwrap_or_else(name),
            machines,
            catalogs: catalogs.into_iter().map(|catalog| catalog_at(folder, &catalog)).collect(),
            wishes,
            answers: file.answers,
            names: file.names,
            look: file.desktop.map(|desktop| desktop.look),
            ssh_key: file.ssh_key,
            login_shell: file.ladder.login_shell,
            choices: file.choices,
            services: file.services.into_iter().map(|(name, wish)| (name.into_inner(), wish)).collect(),
            variables: file.variables,
            rehearsals: file
                .rehearsals
                .into_iter()
                .map(|(name, rehearsal)| own_rehearsal(source, name, rehearsal))
                .collect::<Result<_, _>>()?,
            settings: file
                .settings
                .into_iter()
                .map(|(file, form)| Setting::of(source, file, form))
                .collect::<Result<_, _>>()?,
            aliases: file
                .aliases
                .into_iter()
                .map(|(name, text)| alias(source, name, text))
                .collect::<Result<_, _>>()?,
            code: file.code.map(|form| Code::of(source, form)).transpose()?,
        })
    }

    /// The file of its pins, beside it.
    pub fn pins_path(&self) -> PathBuf {
        self.path.with_file_name("ladder.pinned.toml")
    }
}

/// A rehearsal in a ladder is called as its table.
fn own_rehearsal(source: &Source, name: Spanned<String>, rehearsal: Rehearsal) -> Result<Rehearsal, DocumentError> {
    let span = name.span();
    if !crate::names::is_plain(name.get_ref()) {
        return Err(source.invalid(span, format!("`{}` cannot be the name of a rehearsal", name.get_ref())));
    }
    let base = source.path.parent().map(Into::into).unwrap_or_default();
    let rehearsal = Rehearsal { rehearsal: name.into_inner(), base, ..rehearsal };
    let checked = rehearsal.check(&rehearsal.rehearsal);
    checked.map(|()| rehearsal).map_err(|message| source.invalid(span, message))
}

/// A short name is one word that every shell takes, and what it stands for is one line.
fn alias(source: &Source, name: Spanned<String>, text: String) -> Result<(String, String), DocumentError> {
    let is_word = name.get_ref().starts_with(|first: char| first.is_ascii_alphabetic())
        && name.get_ref().chars().all(|char| char.is_ascii_alphanumeric() || char == '-' || char == '_');
    if !is_word || text.trim().is_empty() || text.contains(char::is_control) {
        let message = "a short name is letters, digits, `-` and `_`, a letter first; it stands for one line".to_owned();
        return Err(source.invalid(name.span(), message));
    }
    Ok((name.into_inner(), text))
}

fn set(source: &Source, name: &Spanned<String>, form: SetForm) -> Result<LibrarySet, DocumentError> {
    let parsed = name.get_ref().parse().map_err(|error| named_wrongly(source, name, &error))?;
    form.named(parsed, source, name.span())
}

/// The wish for what a set becomes.
fn of_set(set: &LibrarySet) -> Wish {
    Wish {
        tool: set.name.clone(),
        range: Range::any(),
        host: HostPolicy::Never,
        optional: false,
        prefer: Vec::new(),
        place: set.place.clone(),
        range_place: set.place.clone(),
    }
}

fn wish(source: &Source, tool: &Spanned<String>, form: Spanned<WishForm>) -> Result<Wish, DocumentError> {
    let whole = form.span();
    let form = form.into_inner();
    let mut range = Range { series: form.series, pieces: form.pieces, ..Range::any() };
    if let Some(text) = form.version {
        let span = if form.short { whole.clone() } else { text.span() };
        let text = text.into_inner();
        match text.parse() {
            Ok(requirement) => range.requirement = requirement,
            Err(_) if form.short && is_series(&text) => range.series = Some(text),
            Err(error) => {
                let skip = text.char_indices().nth(error.column - 1).map_or(text.len(), |(at, _)| at);
                return Err(source.invalid(span.start + 1 + skip..span.end - 1, error.to_string()));
            }
        }
    }
    let (place, range_place) = (source.place(tool.span()), source.place(whole));
    let name = tool.get_ref().parse().map_err(|error| named_wrongly(source, tool, &error))?;
    Ok(Wish { tool: name, range, host: form.host, optional: form.optional, prefer: form.prefer, place, range_place })
}

/// `long-term`, `stable`, `lts24`: a word that is no version and no slip into another language.
fn is_series(text: &str) -> bool {
    !asks_for_newest(text)
        && text.starts_with(char::is_alphabetic)
        && text.chars().all(|c| c.is_alphanumeric() || c == '-')
}

/// A name that is none; where it holds a version, that is said.
fn named_wrongly(source: &Source, tool: &Spanned<String>, error: &NotAName) -> DocumentError {
    let parts = tool.get_ref().split_once(['@', '=', ' ', ':']);
    let parts = parts.map(|(name, version)| (name.trim(), version.trim_matches(['=', ' ', ':', '@'])));
    let hint = parts.filter(|(name, version)| name.parse::<ToolName>().is_ok() && !version.is_empty());
    let hint = hint.map(|(name, version)| format!("\nthe version stands behind it: {name} = \"{version}\""));
    source.invalid(tool.span(), format!("{error}{}", hint.unwrap_or_default()))
}

fn digest(machines: &[Machine], wishes: &[Wish]) -> Digest {
    let mut digest = Canonical::new("kladder ladder", 2);
    let mut platforms: Vec<&str> = machines.iter().map(|machine| machine.platform.as_str()).collect();
    platforms.sort_unstable();
    platforms.dedup();
    digest = digest.list("platforms", platforms);
    for machine in machines.iter().filter(|machine| !machine.described.is_empty()) {
        digest = digest.field("machine", &machine.name).field("is", machine.described.to_string());
    }
    for Wish { tool, range, host, optional, prefer, .. } in wishes {
        digest = digest.field("tool", tool).field("version", range.requirement.as_written());
        digest = digest.field("series", range.series.as_deref().unwrap_or_default());
        digest = digest.list("pieces", &range.pieces).field("host", host.as_str());
        if *optional {
            digest = digest.field("optional", "yes");
        }
        if !prefer.is_empty() {
            digest = digest.list("prefer", prefer);
        }
    }
    digest.finish()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Ladder, DocumentError> {
        Ladder::parse(&Source::new("/desk/ladder.toml", text))
    }

    #[test]
    fn a_digest_tells_every_wish_apart_and_no_comment() {
        let digest = |text: &str| read(text).unwrap().digest;
        let plain = digest("[rungs]\nskerroc = \"1.4\"\n");
        assert_eq!(plain, digest("# a note\n[ladder]\ntitle = \"x\"\n[rungs]\nskerroc = { version = \"1.4\" }\n"));
        let others = [
            "[rungs]\nskerroc = \"1.5\"\n",
            "[rungs]\nskerroc = { version = \"1.4\", series = \"stable\" }\n",
            "[rungs]\nskerroc = { version = \"1.4\", pieces = [\"lens\"] }\n",
            "[rungs]\nskerroc = { version = \"1.4\", host = \"never\" }\n",
            "[machines]\ndesk = \"linux/x86_64\"\n[rungs]\nskerroc = \"1.4\"\n",
        ];
        for other in others {
            assert_ne!(plain, digest(other), "{other}");
        }
    }

    #[test]
    fn a_version_in_a_name_is_told_where_it_belongs() {
        let error = read("[rungs]\n\"skerroc@1.4\" = \"any\"\n").unwrap_err();
        assert!(error.to_string().contains("skerroc = \"1.4\""), "{error}");
    }
}
