//! The code that a ladder wants beside its tools: repositories and archives in one folder.
//!
//! ```toml
//! [code]
//! folder = "~/code"                                     # from the ladder's folder where it is relative
//! [code.sources]
//! gauge-tools = { repository = "https://harbour.example/gauge-tools", branch = "main" }
//! charts = { archive = "charts-2.tar.gz", sha256 = "…", strip = 1 }
//! ```

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

use crate::digest::Digest;
use crate::document::{DocumentError, Source};
use crate::names::is_plain;
use crate::path::InnerPath;

/// The code of a ladder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Code {
    /// The folder, as it is written.
    pub folder: String,
    /// What is to be there, by the name of its folder.
    pub sources: BTreeMap<String, CodeSource>,
}

/// Where code comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CodeSource {
    /// A repository.
    Repository {
        /// Its address, or a folder.
        address: String,
        /// What of it.
        at: Revision,
    },
    /// An archive in a yard.
    Archive {
        /// Its path in a yard.
        file: InnerPath,
        /// Of the file.
        sha256: Digest,
        /// Bytes; a yard is asked where it is `None`.
        size: Option<u64>,
        /// Leading folders to leave out.
        strip: usize,
    },
}

/// What of a repository is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Revision {
    /// What it shows by itself.
    Head,
    /// A branch or a tag.
    Named(String),
    /// A commit, by its number in hexadecimal digits.
    Commit(String),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct CodeForm {
    folder: String,
    #[serde(default)]
    sources: BTreeMap<String, Spanned<SourceForm>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct SourceForm {
    repository: Option<String>,
    branch: Option<String>,
    tag: Option<String>,
    commit: Option<String>,
    archive: Option<InnerPath>,
    sha256: Option<Digest>,
    size: Option<u64>,
    #[serde(default)]
    strip: usize,
}

impl Code {
    /// Whether any of it needs version control.
    pub fn wants_version_control(&self) -> bool {
        self.sources.values().any(|source| matches!(source, CodeSource::Repository { .. }))
    }

    pub(super) fn of(source: &Source, form: CodeForm) -> Result<Self, DocumentError> {
        let one = |(name, form): (String, Spanned<SourceForm>)| {
            let span = form.span();
            let read = if is_plain(&name) { read(form.into_inner()) } else { Err("its name cannot be a folder's") };
            read.map(|read| (name, read)).map_err(|why| source.invalid(span, why.to_owned()))
        };
        let sources = form.sources.into_iter().map(one).collect::<Result<_, _>>()?;
        Ok(Self { folder: form.folder, sources })
    }
}

fn read(form: SourceForm) -> Result<CodeSource, &'static str> {
    let SourceForm { repository, branch, tag, commit, archive, sha256, size, strip } = form;
    let is_odd = |name: &String| name.is_empty() || name.starts_with('-') || name.contains(char::is_whitespace);
    match (repository, archive) {
        (Some(address), None) if sha256.is_none() && size.is_none() && strip == 0 => {
            if address.trim().is_empty() || address.contains(char::is_control) {
                return Err("here stands no address of a repository");
            }
            let at = match (branch, tag, commit) {
                (None, None, None) => Revision::Head,
                (Some(name), None, None) | (None, Some(name), None) if !is_odd(&name) => Revision::Named(name),
                (None, None, Some(commit)) if is_commit(&commit) => Revision::Commit(commit),
                (None, None, Some(_)) => return Err("a commit is 7 to 64 hexadecimal digits"),
                (Some(_), None, None) | (None, Some(_), None) => {
                    return Err("this cannot be the name of a branch or tag");
                }
                _ => return Err("of `branch`, `tag` and `commit` there is one at most"),
            };
            Ok(CodeSource::Repository { address, at })
        }
        (None, Some(file)) if branch.is_none() && tag.is_none() && commit.is_none() => match sha256 {
            Some(sha256) if !file.is_empty() => Ok(CodeSource::Archive { file, sha256, size, strip }),
            _ => Err("an archive has its path in a yard and its `sha256`"),
        },
        _ => Err("a source has a `repository`, with `branch`, `tag` or `commit`, or an `archive` with its `sha256`"),
    }
}

fn is_commit(text: &str) -> bool {
    (7..=64).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

#[cfg(test)]
mod tests {
    use crate::document::Source;
    use crate::ladder::{CodeSource, Ladder, Revision};

    fn told(sources: &str) -> String {
        let text = format!("[rungs]\n[code]\nfolder = \"code\"\n[code.sources]\n{sources}\n");
        match Ladder::parse(&Source::new("ladder.toml", text)) {
            Ok(ladder) => format!("{:?}", ladder.code.unwrap().sources["one"]),
            Err(error) => error.to_string(),
        }
    }

    #[test]
    fn a_source_is_a_repository_or_an_archive_and_nothing_between() {
        let repository = |at| format!("{:?}", CodeSource::Repository { address: "a".into(), at });
        assert_eq!(told("one = { repository = \"a\" }"), repository(Revision::Head));
        assert_eq!(told("one = { repository = \"a\", tag = \"v2\" }"), repository(Revision::Named("v2".into())));
        let commit = Revision::Commit("0123abc".into());
        assert_eq!(told("one = { repository = \"a\", commit = \"0123abc\" }"), repository(commit));
        let wrong = [
            ("one = { }", "a source has a `repository`"),
            ("one = { repository = \"a\", sha256 = \"SHA\" }", "a source has a `repository`"),
            ("one = { repository = \"a\", tag = \"v2\", branch = \"main\" }", "one at most"),
            ("one = { repository = \"a\", tag = \"--upload-pack=x\" }", "name of a branch or tag"),
            ("one = { repository = \"a\", commit = \"main\" }", "hexadecimal"),
            ("one = { archive = \"a.zip\" }", "its `sha256`"),
            ("\"../one\" = { repository = \"a\" }", "cannot be a folder's"),
        ];
        for (text, wanted) in wrong {
            let told = told(&text.replace("SHA", &"0".repeat(64)));
            assert!(told.contains(wanted), "{text}: {told}");
        }
    }
}
