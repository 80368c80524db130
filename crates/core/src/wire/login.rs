//! The login shell, where a ladder brings it: who may log in with it (shells(5)), and who does (passwd(5)).
//!
//! Both are the system's files. What has to be done to them is told, and left to an administrator and the person; a shell that
//! somebody logs in with is never taken away under them.

use std::path::PathBuf;

use kladder_choose::ladder::Ladder;

use crate::host::survey::{Host, Root, facts};
use crate::keep::wired::Wired;
use crate::settings::Home;

/// How the login shell stands that a ladder wants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LoginShell {
    /// The launcher of its command, which stays the same from landing to landing.
    pub path: PathBuf,
    /// The login shell as it is.
    pub now: Option<PathBuf>,
    /// The system takes it for a shell that one may log in with.
    pub is_listed: bool,
}

impl LoginShell {
    /// That of the workstation's ladder, where it wants one; those of projects do not count.
    pub fn of(ladder: &Ladder, home: &Home, host: &Host) -> Option<Self> {
        let command = ladder.login_shell.as_ref().filter(|_| ladder.path == home.ladder())?;
        let path = Wired::of(home).commands().join(command.as_str());
        let listed = Root::open(host).text("/etc/shells").unwrap_or_default();
        let is_listed = listed.lines().any(|line| std::path::Path::new(line.trim()) == path);
        Some(Self { is_listed, now: facts(host, &[]).shells.login, path })
    }

    /// Whether the person logs in with it.
    pub fn is_done(&self) -> bool {
        self.now.as_ref() == Some(&self.path)
    }
}

/// The command of a home's ladders that the person logs in with.
pub fn logged_in_with(home: &Home, host: &Host) -> Option<String> {
    let login = facts(host, &[]).shells.login?;
    let command = login.strip_prefix(Wired::of(home).commands()).ok()?;
    Some(command.to_str()?.to_owned())
}
