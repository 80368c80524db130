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

use serde::{Deserialize, Deserializer};

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
    places: Vec<Spot>,
    library: Option<String>,
    package: Option<PackageForm>,
    #[serde(default = "ask_version")]
    ask: Vec<String>,
    read: Option<InnerPath>,
    #[serde(default = "Pattern::version")]
    version: Pattern,
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
        if form.command.is_none() && form.places.is_empty() && form.library.is_none() && package.is_empty() {
            return Err("`host` says where to look: `command`, `places`, `library` or `package`".to_owned());
        }
        let Form { command, places, library, ask, read, version, .. } = form;
        Ok(Self { command, places, library, package, ask, read, version })
    }
}

/// Written by hand so that a mistake in it keeps its own message.
impl<'de> Deserialize<'de> for Spot {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Spot;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a path, or a table with `in` and `like`")
            }
            fn visit_str<E: serde::de::Error>(self, path: &str) -> Result<Spot, E> {
                place(path).map_err(E::custom)?;
                Ok(Spot::Path(path.to_owned()))
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Spot, A::Error> {
                let told = ToldForm::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                place(&told.r#in).map_err(serde::de::Error::custom)?;
                Ok(Spot::Told { file: told.r#in, like: told.like })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

/// What is wrong with a place.
fn place(path: &str) -> Result<(), String> {
    let begins = path.starts_with('/') || path.starts_with("~/") || (path.len() > 1 && path.starts_with('$'));
    if !begins {
        return Err(format!("`{path}`: a place on the host begins with `/`, `~/` or a `$VARIABLE`"));
    }
    if path.split('/').any(|part| part == ".." || part.contains("**")) {
        return Err(format!("`{path}`: a place on the host has no `..` and no `**`"));
    }
    Ok(())
}
