//! Settings that a ladder or a tool brings along: files of a person, whole or key by key.
//!
//! ```toml
//! [settings."~/.config/whimbrow/keys.toml"]
//! from = "settings/keys.toml"                            # beside the ladder; or `text`
//! fill = true                                            # @skerroc.folder@ and @skerroc.version@ are filled in
//! [settings."~/.whimbrow.json"]
//! keys = { "theme" = "dark", "tools/compiler" = "@skerroc.folder@/bin/skerroc" }   # the rest keeps its bytes
//! ```

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};
use toml::Spanned;

use crate::document::{DocumentError, Source};

/// What becomes of one file of a person.
#[derive(Clone, Debug, PartialEq)]
pub struct Setting {
    /// The file as it is written: below the home where it begins with `~/`.
    pub file: String,
    /// What it should be.
    pub content: Content,
}

/// What a file should be.
#[derive(Clone, Debug, PartialEq)]
pub enum Content {
    /// This file beside the ladder.
    From {
        /// Its path, from the ladder's folder where it is relative.
        path: String,
        /// Whether words between `@` are filled in.
        fill: bool,
    },
    /// This text.
    Text {
        /// The text.
        text: String,
        /// Whether words between `@` are filled in.
        fill: bool,
    },
    /// Whatever it is, with these values.
    Keys {
        /// How it is written.
        form: Form,
        /// By path, whose parts have a `/` between them.
        keys: BTreeMap<String, serde_json::Value>,
    },
}

/// How a file of settings is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Form {
    /// JSON (RFC 8259), with comments and commas at the end where somebody wrote them.
    Json,
    /// TOML 1.0.
    Toml,
    /// Sections in brackets, and lines with an equals sign.
    Ini,
    /// YAML 1.2, one document.
    Yaml,
}

impl Form {
    /// By the ending of a file's name; those of version control are known by theirs.
    pub fn of_name(name: &str) -> Option<Self> {
        let name = name.rsplit('/').next().unwrap_or(name);
        let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
        match ending {
            "json" | "jsonc" | "json5" => Some(Self::Json),
            "toml" => Some(Self::Toml),
            "yaml" | "yml" => Some(Self::Yaml),
            "ini" | "cfg" | "conf" | "gitconfig" | "desktop" => Some(Self::Ini),
            _ => None,
        }
    }
}

/// One step on the way to a value: a name in a table, and, where a list stands there, which member of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Step<'k> {
    /// The name.
    pub name: &'k str,
    /// What the member has at which key.
    pub member: Option<(&'k str, &'k str)>,
}

impl<'k> Step<'k> {
    fn of(part: &'k str) -> Self {
        let member = part.strip_suffix(']').and_then(|part| {
            let (name, within) = part.split_once('[').filter(|(name, _)| !name.is_empty())?;
            Some((name, within.split_once('=').filter(|(key, _)| !key.is_empty())?))
        });
        match member {
            Some((name, member)) => Self { name, member: Some(member) },
            None => Self { name: part, member: None },
        }
    }

    /// The way that a key of `keys` tells: `tools/compiler` leads into a table, `language[name=skerrow]/indent` to the member
    /// of a list whose `name` is that.
    pub fn all_of(key: &'k str) -> Vec<Self> {
        key.split('/').map(Self::of).collect()
    }
}

/// A setting as it is written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct SettingForm {
    from: Option<String>,
    text: Option<String>,
    #[serde(default)]
    fill: bool,
    keys: Option<BTreeMap<String, toml::Value>>,
    form: Option<Form>,
}

impl Setting {
    /// One of a ladder.
    pub(crate) fn of(
        source: &Source,
        file: Spanned<String>,
        form: Spanned<SettingForm>,
    ) -> Result<Self, DocumentError> {
        let (name, whole) = (file.span(), form.span());
        let file = file.into_inner();
        in_home(&file).map_err(|why| source.invalid(name, why.to_owned()))?;
        let content = content(&file, form.into_inner()).map_err(|why| source.invalid(whole, why.to_owned()))?;
        Ok(Self { file, content })
    }

    /// One of a tool, which has no files beside it; its words are filled in.
    pub(crate) fn of_tool(file: String, form: SettingForm) -> Result<Self, &'static str> {
        may_be_a_tools(&file)?;
        match content(&file, form)? {
            Content::From { .. } => Err("a tool's setting has `text` or `keys`"),
            Content::Text { text, .. } => Ok(Self { file, content: Content::Text { text, fill: true } }),
            keys @ Content::Keys { .. } => Ok(Self { file, content: keys }),
        }
    }
}

/// What no tool may say anything of: what shells and sessions read when they start or log in, keys, and what version control runs.
/// A file, or all that is below a folder.
const NO_TOOLS: [&str; 29] = [
    ".bash_aliases",
    ".bash_login",
    ".bash_logout",
    ".bash_profile",
    ".bashrc",
    ".config/autostart",
    ".config/environment.d",
    ".config/fish",
    ".config/git",
    ".config/systemd",
    ".gitconfig",
    ".gnupg",
    ".kshrc",
    ".local/bin",
    ".local/share/applications",
    ".local/share/systemd",
    ".netrc",
    ".pam_environment",
    ".profile",
    ".ssh",
    ".xinitrc",
    ".xprofile",
    ".xsession",
    ".xsessionrc",
    ".zlogin",
    ".zlogout",
    ".zprofile",
    ".zshenv",
    ".zshrc",
];

/// Whether a path in a home is one that a tool may say something of.
pub(crate) fn may_be_a_tools(path: &str) -> Result<(), &'static str> {
    in_home(path)?;
    // The parts as they count, so that `~/./.ssh` is no way around; nor is the other case where that makes no difference.
    let parts = path.split('/').skip(1).filter(|part| !part.is_empty() && *part != ".").map(str::to_lowercase);
    let plain = parts.collect::<Vec<_>>().join("/");
    let is_below = |taken: &&str| Path::new(&plain).starts_with(taken);
    match NO_TOOLS.iter().copied().find(is_below) {
        Some(_) => {
            Err("no tool may write there: shells, sessions or version control run what it says, or keys are there")
        }
        None => Ok(()),
    }
}

/// Whether a path is that of a file, or of a folder, in a home.
pub(crate) fn in_home(path: &str) -> Result<(), &'static str> {
    let is_path = path.starts_with("~/") && path.len() > 2;
    if !is_path || path.ends_with('/') || path.split('/').any(|part| part == "..") || path.contains('\0') {
        return Err("a setting is of a file in your home: its path begins with `~/`");
    }
    Ok(())
}

fn content(file: &str, form: SettingForm) -> Result<Content, &'static str> {
    let SettingForm { from, text, fill, keys, form } = form;
    match (from, text, keys) {
        (Some(path), None, None) if form.is_none() => Ok(Content::From { path, fill }),
        (None, Some(text), None) if form.is_none() => Ok(Content::Text { text, fill }),
        (None, None, Some(keys)) if !fill => {
            let form = form.or_else(|| Form::of_name(file));
            let form = form.ok_or(
                "how the file is written is not known: add `form = \"json\"`, `\"toml\"`, `\"yaml\"` or `\"ini\"`",
            )?;
            if keys.is_empty() || keys.keys().any(|key| key.split('/').any(str::is_empty)) {
                return Err("`keys` has paths like \"theme\" or \"tools/compiler\", without empty parts");
            }
            let is_of_a_member = |key: &String| Step::all_of(key).last().is_some_and(|step| step.member.is_some());
            if form != Form::Ini && keys.keys().any(is_of_a_member) {
                return Err(
                    "a key ends in the name of a value: \"language[name=skerrow]/indent\", and not in `[name=skerrow]`",
                );
            }
            let is_odd = |key: &String| form == Form::Ini && key.split('/').count() != 2;
            if keys.keys().any(is_odd) {
                return Err("in such a file a key has a section and a name: \"user/name\"");
            }
            let value = |(key, value)| serde_json::to_value::<toml::Value>(value).map(|value| (key, value));
            let keys = keys.into_iter().map(value).collect::<Result<_, _>>();
            Ok(Content::Keys { form, keys: keys.map_err(|_| "a value cannot be written there")? })
        }
        _ => Err("a setting has `from`, `text` or `keys`, and only one of them"),
    }
}

#[cfg(test)]
mod tests {
    use super::{Content, Form, Step};
    use crate::document::Source;
    use crate::ladder::Ladder;

    fn told(text: &str) -> String {
        match Ladder::parse(&Source::new("ladder.toml", format!("[rungs]\n{text}\n"))) {
            Ok(ladder) => format!("{:?}", ladder.settings[0].content),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn only_what_names_a_member_is_one() {
        let steps = |key| Step::all_of(key).into_iter().map(|step| (step.name, step.member)).collect::<Vec<_>>();
        assert_eq!(steps("a/l[name=c++]/b"), [("a", None), ("l", Some(("name", "c++"))), ("b", None)]);
        let plain = ["[skerrow]", "a[0]", "[a=b]", "a[=b]", "a[b", "a]"];
        assert!(plain.iter().all(|key| steps(key) == [(*key, None)]));
    }

    #[test]
    fn a_setting_says_one_thing_of_one_file() {
        let text = format!("{:?}", Content::Text { text: "a".into(), fill: false });
        assert_eq!(told("[settings.\"~/.a\"]\ntext = \"a\""), text);
        let keys = [("theme".to_owned(), "dark".into())].into_iter().collect();
        let keys = format!("{:?}", Content::Keys { form: Form::Json, keys });
        assert_eq!(told("[settings.\"~/a.json\"]\nkeys = { theme = \"dark\" }"), keys);
        let wrong = [
            ("[settings.\"a\"]\ntext = \"a\"", "begins with `~/`"),
            ("[settings.\"~/../a\"]\ntext = \"a\"", "begins with `~/`"),
            ("[settings.\"~/a\"]\ntext = \"a\"\nfrom = \"b\"", "only one of them"),
            ("[settings.\"~/a\"]\nkeys = { a = 1 }", "how the file is written"),
            ("[settings.\"~/a.json\"]\nkeys = { \"a//b\" = 1 }", "without empty parts"),
            ("[settings.\"~/a.json\"]\nkeys = { \"a[b=c]\" = 1 }", "ends in the name of a value"),
            ("[settings.\"~/.gitconfig\"]\nkeys = { name = \"x\" }", "a section and a name"),
        ];
        for (text, wanted) in wrong {
            assert!(told(text).contains(wanted), "{text}: {}", told(text));
        }
    }
}
