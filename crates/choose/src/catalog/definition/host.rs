//! How a tool is found on the host.
//!
//! ```toml
//! [host]
//! command = "skerroc"                      # on PATH
//! places = [                               # and there: a folder laid out like ours, or the program itself
//!   "/opt/skerrow-*",
//!   "~/skerrow",
//!   "$SKERROW_HOME",
//!   { in = "/etc/skerrow/installs", like = '(?m)^root=(?<place>.+)$' },   # where a file says that it is
//! ]
//! library = "libskerrow.so.1"              # for something without a command: a shared object by its soname
//! package = { debian = "libskerrow-dev" }  # or a package of the system
//! ask = ["--version"]                      # what makes its program say the version
//! read = "share/VERSION"                   # or a file of it that has it
//! version = 'skerroc (?<version>\S+)'
//! ```

use std::collections::BTreeMap;

use serde::Deserialize;

use super::CommandName;
use crate::catalog::{OfSystem, Pattern, Ranged};
use crate::path::InnerPath;
use crate::version::Requirement;

/// How to find a tool on the host: every way is gone, and each copy that is found can be taken.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "Form")]
pub struct HostProbe {
    /// The command to look for on PATH.
    pub command: Option<CommandName>,
    /// Where else it may be, besides PATH.
    pub places: Vec<Spot>,
    /// The soname of a shared object, as the loader would look for it.
    pub library: Option<String>,
    /// A package, by system; for any system under no name.
    pub package: Vec<OfSystem>,
    /// The arguments that make its program say the version.
    pub ask: Vec<String>,
    /// The file that has the version, from the folder that was found; its program is not asked then.
    pub read: Option<InnerPath>,
    /// Where the version stands: a group `version`, or the whole match.
    pub version: Pattern,
}

/// Where a copy may be.
#[derive(Clone, Debug)]
pub enum Spot {
    /// At these paths: `*` and `?` stand for parts of a name; it begins with `/`, `~/` for the person's home, or a `$VARIABLE`.
    Path(String),
    /// Where a file says.
    Told {
        /// The file, named like a path.
        file: String,
        /// Where the path stands in it: a group `place`, or the whole match; as often as it is found.
        like: Pattern,
    },
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Form {
    command: Option<CommandName>,
    #[serde(default)]
    places: Vec<SpotForm>,
    library: Option<String>,
    package: Option<PackageForm>,
    #[serde(default = "ask_version")]
    ask: Vec<String>,
    read: Option<InnerPath>,
    #[serde(default = "Pattern::version")]
    version: Pattern,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands a path, or a table with `in` and `like`")]
enum SpotForm {
    Path(String),
    Told(ToldForm),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ToldForm {
    r#in: String,
    like: Pattern,
}

#[derive(Deserialize)]
#[serde(untagged, expecting = "here stands the name of a package, or a table with one for each system")]
enum PackageForm {
    Any(String),
    BySystem(BTreeMap<String, String>),
}

fn ask_version() -> Vec<String> {
    vec!["--version".into()]
}

impl TryFrom<Form> for HostProbe {
    type Error = String;

    fn try_from(form: Form) -> Result<Self, String> {
        let package = match form.package {
            None => Vec::new(),
            Some(PackageForm::Any(name)) => {
                let system = Ranged { name: String::new(), range: Requirement::any() };
                vec![OfSystem { system, packages: vec![name] }]
            }
            Some(PackageForm::BySystem(all)) => {
                let one =
                    |(system, name): (String, String)| Ok(OfSystem { system: system.parse()?, packages: vec![name] });
                all.into_iter().map(one).collect::<Result<_, String>>()?
            }
        };
        let places: Vec<Spot> = form.places.into_iter().map(Spot::try_from).collect::<Result<_, _>>()?;
        if form.command.is_none() && places.is_empty() && form.library.is_none() && package.is_empty() {
            return Err("`host` says where to look: `command`, `places`, `library` or `package`".to_owned());
        }
        let Form { command, library, ask, read, version, .. } = form;
        Ok(Self { command, places, library, package, ask, read, version })
    }
}

impl TryFrom<SpotForm> for Spot {
    type Error = String;

    fn try_from(form: SpotForm) -> Result<Self, String> {
        let (path, like) = match form {
            SpotForm::Path(path) => (path, None),
            SpotForm::Told(ToldForm { r#in, like }) => (r#in, Some(like)),
        };
        let begins = path.starts_with('/') || path.starts_with("~/") || (path.len() > 1 && path.starts_with('$'));
        if !begins {
            return Err(format!("`{path}`: a place on the host begins with `/`, `~/` or a `$VARIABLE`"));
        }
        if path.split('/').any(|part| part == ".." || part.contains("**")) {
            return Err(format!("`{path}`: a place on the host has no `..` and no `**`"));
        }
        Ok(match like {
            None => Self::Path(path),
            Some(like) => Self::Told { file: path, like },
        })
    }
}
