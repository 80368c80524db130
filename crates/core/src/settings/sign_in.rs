//! How to sign in where files are not for everybody. What is secret never stands in the settings: they say where it is.
//!
//! ```toml
//! [sign-in]
//! "dist.harbour.example" = { netrc = true }                                              # NETRC, or ~/.netrc
//! "wheels.harbour.example" = { user = "skua", secret = { variable = "WHEELS_PASSWORD" } }  # basic (RFC 7617)
//! "files.harbour.example:8443" = { secret = { file = "files.token" } }                   # bearer (RFC 6750)
//! "http://old.harbour.example" = { netrc = true }          # over a connection that anybody can listen to: only if said so
//! "images.harbour.example" = { secret = { command = ["show-secret", "images"] } }
//! ```

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use kladder_choose::document::{DocumentError, Source};
use serde::Deserialize;
use toml::Spanned;

/// How to sign in at one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SignIn {
    /// As the netrc file has it.
    Netrc,
    /// With a name and a password.
    Basic {
        /// The name.
        user: String,
        /// The password.
        secret: Secret,
    },
    /// With a token.
    Bearer(Secret),
}

/// Where something secret is.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case", expecting = "here stands where it is: `variable`, `file` or `command`")]
pub enum Secret {
    /// In a variable of the environment.
    Variable(String),
    /// In a file, whose first line it is.
    File(PathBuf),
    /// On the first line that a command prints.
    Command(Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SignInForm {
    #[serde(default)]
    netrc: bool,
    user: Option<String>,
    secret: Option<Secret>,
}

/// The table `[sign-in]`, by `HOST` or `HOST:PORT` in lower case, `http://` before it where that will do; paths in it begin at `folder`.
pub(super) fn sign_ins(
    source: &Source,
    forms: BTreeMap<Spanned<String>, Spanned<SignInForm>>,
    folder: &Path,
) -> Result<BTreeMap<String, SignIn>, DocumentError> {
    let each = forms.into_iter().map(|(host, form)| {
        let name = host.get_ref();
        let bare = name.strip_prefix("http://").unwrap_or(name);
        if bare.is_empty() || bare.contains(['/', '@', ' ']) {
            return Err(source.invalid(host.span(), format!("`{name}` is no host: write it as HOST or HOST:PORT")));
        }
        let span = form.span();
        let sign_in = form.into_inner().checked(folder).map_err(|message| source.invalid(span, message.to_owned()))?;
        Ok((name.to_ascii_lowercase(), sign_in))
    });
    each.collect()
}

impl SignInForm {
    fn checked(self, folder: &Path) -> Result<SignIn, &'static str> {
        let secret = match self.secret {
            Some(Secret::File(file)) => Some(Secret::File(folder.join(file))),
            Some(Secret::Command(command)) if command.is_empty() => return Err("the command is empty"),
            other => other,
        };
        match (self.netrc, self.user, secret) {
            (true, None, None) => Ok(SignIn::Netrc),
            (false, Some(user), Some(_)) if user.contains(':') => Err("no colon can stand in `user` (RFC 7617)"),
            (false, Some(user), Some(secret)) => Ok(SignIn::Basic { user, secret }),
            (false, None, Some(secret)) => Ok(SignIn::Bearer(secret)),
            _ => Err("here stands `netrc = true`, or `secret`, with `user` for a password and without it for a token"),
        }
    }
}
