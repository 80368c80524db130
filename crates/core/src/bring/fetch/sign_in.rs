//! Signing in: what is sent along to a host that wants to know who asks.
//!
//! Threat model: servers, redirects and catalogs may try to learn what is secret. It goes to the host that the settings
//! name for it and nowhere else, over the connection alone: never into a message, a log or another process's arguments.

use std::collections::{BTreeMap, HashMap};
use std::ffi::OsStr;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Mutex, PoisonError};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::network::is_loopback;
use crate::base::files;
use crate::host::survey::Environment;
use crate::settings::{Secret, SignIn, authority_of};

/// Why one cannot sign in.
#[derive(Clone, Debug, thiserror::Error)]
pub enum SignInError {
    /// The variable is not set.
    #[error("the variable {0} is not set")]
    Variable(String),
    /// The file cannot be read.
    #[error("{} cannot be read: {why}", path.display())]
    File {
        /// The file.
        path: PathBuf,
        /// What the system said.
        why: String,
    },
    /// The netrc file says nothing of the host, or cannot be made out.
    #[error("{} does not say how", .0.display())]
    Netrc(PathBuf),
    /// The command failed.
    #[error("`{command}` {why}")]
    Command {
        /// Its name.
        command: String,
        /// What went wrong.
        why: String,
    },
    /// A token is there where a name and a secret are wanted.
    #[error("a bucket wants a name besides the secret: `user`")]
    NoUser,
    /// There is nothing where the secret should be, or what cannot be sent.
    #[error("what is there cannot be a secret")]
    NoSecret,
}

/// What is sent as `Authorization` (RFC 9110, section 11.6.2); it cannot be shown.
#[derive(Clone, PartialEq, Eq)]
pub(in crate::bring) struct Authorization(String);

impl fmt::Debug for Authorization {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Authorization(…)")
    }
}

impl Authorization {
    pub(in crate::bring) fn value(&self) -> &str {
        &self.0
    }

    fn basic(user: &str, password: &str) -> Self {
        Self(format!("Basic {}", STANDARD.encode(format!("{user}:{password}"))))
    }

    pub(in crate::bring) fn bearer(token: &str) -> Self {
        Self(format!("Bearer {token}"))
    }
}

/// Who asks a bucket; it cannot be shown.
pub(super) struct Named {
    user: Option<String>,
    secret: String,
}

impl Named {
    /// A name, and the key that goes with it.
    pub(super) fn pair(self) -> Result<(String, String), SignInError> {
        Ok((self.user.ok_or(SignInError::NoUser)?, first_line(&self.secret)?))
    }

    /// A document in which both stand.
    pub(super) fn document(self) -> String {
        self.secret
    }
}

/// What can be sent of a secret.
fn first_line(text: &str) -> Result<String, SignInError> {
    let line = text.lines().next().unwrap_or_default().trim();
    let can_be_sent = !line.is_empty() && line.chars().all(|c| !c.is_control());
    if can_be_sent { Ok(line.to_owned()) } else { Err(SignInError::NoSecret) }
}

/// Who signs in where.
#[derive(Debug, Default)]
pub(super) struct SignIns {
    rules: BTreeMap<String, SignIn>,
    environment: Environment,
    home: Option<PathBuf>,
    /// What was found out: each secret is looked for once.
    known: Mutex<HashMap<String, Result<Authorization, SignInError>>>,
}

impl SignIns {
    pub(super) fn new(rules: BTreeMap<String, SignIn>, environment: Environment, home: Option<PathBuf>) -> Self {
        Self { rules, environment, home, known: Mutex::default() }
    }

    /// What to send to the host of an address; `None` where one need not sign in there, or the address signs in itself.
    pub(super) fn at(&self, url: &str) -> Result<Option<Authorization>, SignInError> {
        let Some((host, whole)) = authority_of(url) else { return Ok(None) };
        // What anybody can listen to is told nothing, unless the settings say so or it does not leave this machine.
        let bare = is_bare(url);
        let by_name = |name: &str| {
            let named = self.rules.get_key_value(&format!("http://{name}")).filter(|_| url.starts_with("http:"));
            named.or_else(|| self.rules.get_key_value(name).filter(|_| !bare))
        };
        let Some((name, rule)) = by_name(&whole).or_else(|| by_name(&host)) else { return Ok(None) };
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        known.entry(name.clone()).or_insert_with(|| self.authorization(rule, &host)).clone().map(Some)
    }

    /// Who asks a bucket, as the settings have it; `None` where they say nothing of it.
    pub(super) fn named(&self, bucket: &str) -> Result<Option<Named>, SignInError> {
        let (user, secret) = match self.rules.get(&bucket.to_ascii_lowercase()) {
            Some(SignIn::Basic { user, secret }) => (Some(user.clone()), self.text(secret)?),
            Some(SignIn::Bearer(secret)) => (None, self.text(secret)?),
            Some(SignIn::Netrc) => {
                let (user, secret) = self.entry(bucket)?;
                (Some(user), secret)
            }
            None => return Ok(None),
        };
        Ok(Some(Named { user, secret }))
    }

    fn authorization(&self, rule: &SignIn, host: &str) -> Result<Authorization, SignInError> {
        match rule {
            SignIn::Netrc => self.entry(host).map(|(user, password)| Authorization::basic(&user, &password)),
            SignIn::Basic { user, secret } => Ok(Authorization::basic(user, &self.reveal(secret)?)),
            SignIn::Bearer(secret) => Ok(Authorization::bearer(&self.reveal(secret)?)),
        }
    }

    fn reveal(&self, secret: &Secret) -> Result<String, SignInError> {
        first_line(&self.text(secret)?)
    }

    fn text(&self, secret: &Secret) -> Result<String, SignInError> {
        match secret {
            Secret::Variable(name) => {
                let value = self.environment.get(name).ok_or_else(|| SignInError::Variable(name.clone()))?;
                value.to_str().map(str::to_owned).ok_or(SignInError::NoSecret)
            }
            Secret::File(path) => read(path),
            Secret::Command(command) => self.told_by(command),
        }
    }

    /// What a command prints; it may ask the person at the terminal.
    fn told_by(&self, command: &[String]) -> Result<String, SignInError> {
        let failed = |why: String| SignInError::Command { command: command[0].clone(), why };
        let mut call = Command::new(&command[0]);
        call.args(&command[1..]).env_clear().envs(self.environment.all()).stdout(Stdio::piped());
        let output = call.output().map_err(|error| failed(format!("could not be started: {error}")))?;
        if !output.status.success() {
            return Err(failed("failed".to_owned()));
        }
        String::from_utf8(output.stdout).map_err(|_| SignInError::NoSecret)
    }

    /// The name and password that the netrc file has for a host.
    fn entry(&self, host: &str) -> Result<(String, String), SignInError> {
        let named = self.environment.get("NETRC").filter(|path| !path.is_empty()).map(PathBuf::from);
        let usual = || self.home.as_ref().map(|home| home.join(".netrc"));
        let path = named.or_else(usual).unwrap_or_else(|| PathBuf::from(OsStr::new(".netrc")));
        let silent = || SignInError::Netrc(path.clone());
        let all: netrc::Netrc = read(&path)?.parse().map_err(|_| silent())?;
        let entry = all.hosts.get(host).or_else(|| all.hosts.get("default")).ok_or_else(silent)?;
        Ok((entry.login.clone(), entry.password.clone()))
    }
}

/// Whether anybody on the way can listen to a connection.
pub(in crate::bring) fn is_bare(url: &str) -> bool {
    url.starts_with("http:") && !is_loopback(url)
}

fn read(path: &Path) -> Result<String, SignInError> {
    let told = |why: &io::Error| SignInError::File { path: path.to_path_buf(), why: why.to_string() };
    let bytes = files::read(path).map_err(|error| told(&error.source))?;
    String::from_utf8(bytes).map_err(|_| told(&io::Error::other("it is no text")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sign_ins(hosts: &[&str]) -> SignIns {
        let rule = |host: &&str| ((*host).to_owned(), SignIn::Bearer(Secret::Variable("TIDE".to_owned())));
        let environment = [("TIDE".into(), "gannet\nand more".into())].into_iter().collect();
        SignIns::new(hosts.iter().map(rule).collect(), environment, None)
    }

    #[test]
    fn only_the_host_that_is_named_hears_it_and_only_where_nobody_listens() {
        let sign_ins = sign_ins(&["dist.example", "dist.example:8443", "http://old.example", "localhost"]);
        let hears = |url: &str| sign_ins.at(url).unwrap().is_some();
        for url in [
            "https://dist.example/a",
            "https://DIST.example:443/",
            "https://dist.example:8443/x",
            "http://localhost:7380/",
        ] {
            assert!(hears(url), "{url}");
        }
        for url in [
            "http://dist.example/a",
            "https://dist.example.evil.example/",
            "https://evil.example/dist.example",
            "https://dist.example@evil.example/",
            "https://old.example/",
            "no address",
        ] {
            assert!(!hears(url), "{url}");
        }
        assert!(hears("http://old.example/"));
        let heard = sign_ins.at("https://dist.example/").unwrap().unwrap();
        assert_eq!((heard.value(), format!("{heard:?}").as_str()), ("Bearer gannet", "Authorization(…)"));
    }

    #[test]
    fn what_cannot_be_sent_is_no_secret() {
        let of = |value: &str| {
            let environment = [("TIDE".into(), value.into())].into_iter().collect();
            let rule = SignIn::Basic { user: "skua".to_owned(), secret: Secret::Variable("TIDE".to_owned()) };
            SignIns::new([("dist.example".to_owned(), rule)].into(), environment, None).at("https://dist.example/")
        };
        assert!(matches!(of(""), Err(SignInError::NoSecret)) && matches!(of("a\tb"), Err(SignInError::NoSecret)));
        assert!(of("puffin\r\n").is_ok());
    }
}
