//! Who is asking: rights, shells, session, proxies.

use std::path::{Path, PathBuf};

use super::root::{Root, below};
use super::{Host, Identity, Proxy, Rights, Shells};

/// Variables that name proxies, in either case.
const PROXIES: [&str; 4] = ["HTTP_PROXY", "HTTPS_PROXY", "ALL_PROXY", "NO_PROXY"];

/// Variables in which login managers tell of the session: systemd's, and that of macOS.
const SESSIONS: [&str; 2] = ["XDG_SESSION_ID", "SECURITYSESSIONID"];

/// A line of /etc/passwd (passwd(5)): name, user number, group number, login shell.
struct Account<'t> {
    name: &'t str,
    user: &'t str,
    group: &'t str,
    shell: &'t str,
}

fn accounts(text: &str) -> impl Iterator<Item = Account<'_>> {
    text.lines().filter_map(|line| {
        let fields: Vec<&str> = line.split(':').collect();
        Some(Account { name: fields.first()?, user: fields.get(2)?, group: fields.get(3)?, shell: fields.get(6)? })
    })
}

/// Whether an account is the caller's.
fn is_caller(root: &Root, account: &Account<'_>) -> bool {
    match &root.described {
        Some(described) => described.user.as_deref() == Some(account.name),
        None => account.user == rustix::process::geteuid().as_raw().to_string(),
    }
}

pub(super) fn rights(root: &Root) -> Rights {
    let passwd = root.text("/etc/passwd").unwrap_or_default();
    let caller = accounts(&passwd).find(|account| is_caller(root, account));
    let name = caller.as_ref().map(|account| account.name);
    let own = caller.as_ref().map(|account| account.group);
    let also: Vec<String> = match &root.described {
        Some(_) => Vec::new(),
        // The process may be in groups that /etc/group does not list it in, and not yet in some that it does.
        None => rustix::process::getgroups().unwrap_or_default().iter().map(|gid| gid.as_raw().to_string()).collect(),
    };
    let text = root.text("/etc/group").unwrap_or_default();
    let in_group = |fields: &[&str]| {
        let number = fields.get(2).copied();
        let listed = || fields.get(3).is_some_and(|members| members.split(',').any(|member| Some(member) == name));
        number == own || also.iter().any(|gid| Some(gid.as_str()) == number) || (root.described.is_some() && listed())
    };
    let rows = text.lines().map(|line| line.split(':').collect::<Vec<&str>>());
    let mut groups: Vec<String> = rows.filter(|row| in_group(row)).map(|row| row[0].to_owned()).collect();
    groups.sort();
    let root_user = caller.as_ref().is_some_and(|account| account.user == "0");
    Rights { user: name.map(str::to_owned), root: root_user, groups }
}

pub(super) fn shells(root: &Root) -> Shells {
    let listed = root.text("/etc/shells").unwrap_or_default();
    let mut installed: Vec<PathBuf> = listed
        .lines()
        .map(str::trim)
        .filter(|line| line.starts_with('/') && root.has(line))
        .map(|line| Path::new("/").join(below(&root.at(line), root)))
        .collect();
    installed.sort();
    installed.dedup();
    let passwd = root.text("/etc/passwd").unwrap_or_default();
    let login = accounts(&passwd).find(|account| is_caller(root, account)).map(|account| account.shell.into());
    Shells { installed, login }
}

pub(super) fn identity(root: &Root, host: &Host) -> Identity {
    let boot = root.line("/proc/sys/kernel/random/boot_id");
    if let Some(described) = &root.described {
        return described.identity(boot);
    }
    // The login manager's session, or else the kernel's audit session, which cron and remote logins have too.
    let is_session = |name: &str| SESSIONS.contains(&name);
    let variable = host.variables.iter().find(|(name, _)| is_session(name)).map(|(_, value)| value.clone());
    let unset = u32::MAX.to_string();
    let audit = root.line("/proc/self/sessionid").filter(|number| *number != unset);
    Identity { boot, session: variable.or(audit) }
}

pub(super) fn proxies(host: &Host) -> Vec<Proxy> {
    let is_proxy = |name: &str| PROXIES.contains(&name.to_uppercase().as_str());
    let found = host.variables.iter().filter(|(name, value)| is_proxy(name) && !value.is_empty());
    found.map(|(name, value)| Proxy { variable: name.clone(), address: without_password(value) }).collect()
}

/// An address without the part before `@`.
fn without_password(address: &str) -> String {
    match (address.split_once("://"), address.rsplit_once('@')) {
        (Some((scheme, _)), Some((_, host))) => format!("{scheme}://{host}"),
        (None, Some((_, host))) => host.to_owned(),
        _ => address.to_owned(),
    }
}
