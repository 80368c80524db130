//! Chores: who does them, what is done, and the script for an administrator.
//!
//! The script is for any POSIX shell, and can be run again: whatever can be seen to be done is passed over, each part says what it
//! is for, and the first that fails ends it.

use std::fmt::Write;

use kladder_choose::catalog::{Demand, Gate, OfSystem, Who};
use kladder_core::climb::gates::{Fact, Needed, Standing};
use kladder_core::host::demands::of_system;
use kladder_core::host::survey::Survey;

use super::{demanded, found, needed};
use crate::text::{clean, count, shell_word as word};

/// Who does a chore.
pub fn who(who: Who) -> &'static str {
    match who {
        Who::Administrator => "an administrator",
        Who::Person => "you",
    }
}

/// What is to be done, in words.
pub fn chore(gate: &Standing) -> String {
    match (&gate.found, &gate.needed, &gate.person) {
        (Fact::After(anew), ..) => super::anew_do(*anew).to_owned(),
        (Fact::Lacking(packages), ..) => format!("install {}", packages.join(", ")),
        (_, _, Some(person)) => person.clone(),
        (_, Needed::Demand(Demand::Group(group)), _) => format!("put you into the group {group}"),
        (_, needed_, _) => format!("see to {}", needed(needed_)),
    }
}

/// How long a chore takes, with the restart that belongs to it.
pub fn lasts(gate: &Standing) -> String {
    let minutes = gate.minutes.map(|minutes| count(minutes as usize, "minute"));
    let anew = gate
        .after
        .filter(|_| !matches!(gate.found, Fact::After(_)))
        .map(|anew| format!("then {}", super::anew_do(anew)));
    minutes.into_iter().chain(anew).collect::<Vec<_>>().join(", ")
}

/// A program for the system's packages: the names of its systems, how it sees that one is there, and how it installs some.
const PACKAGERS: [(&[&str], &str, &str); 5] = [
    (
        &["debian", "ubuntu"],
        "dpkg-query -W -f='${db:Status-Status}\\n' %s 2>/dev/null | grep -qx installed",
        "DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=600 install -y --",
    ),
    (&["fedora", "rhel", "centos"], "rpm -q %s >/dev/null 2>&1", "dnf install -y --"),
    (&["alpine"], "apk info -e %s >/dev/null 2>&1", "apk --wait 600 add"),
    (&["arch"], "pacman -Q %s >/dev/null 2>&1", "pacman -S --needed --noconfirm --"),
    (&["suse", "opensuse"], "rpm -q %s >/dev/null 2>&1", "zypper --non-interactive install --"),
];

/// The script with what only an administrator can do about the gates that are closed; `None` where there is nothing.
pub fn admin_script(standings: &[Standing], besides: &[Gate], survey: &Survey) -> Option<String> {
    let is_theirs =
        |gate: &&Standing| !gate.open && gate.who == Some(Who::Administrator) && !matches!(gate.found, Fact::After(_));
    let parts = standings.iter().filter(is_theirs).map(|gate| part(gate, &gate.admin, survey));
    let parts: Vec<String> = parts.chain(parts_for(besides, survey)).collect();
    let later: Vec<String> = standings.iter().filter(is_theirs).filter_map(then).collect();
    script(&parts, &later, survey)
}

/// The script for gates that were not held against a route, since there is none without what they are about.
pub fn admin_script_for(gates: &[Gate], survey: &Survey) -> Option<String> {
    script(&parts_for(gates, survey), &[], survey)
}

fn parts_for(gates: &[Gate], survey: &Survey) -> Vec<String> {
    let theirs = gates.iter().filter(|gate| gate.who() == Some(Who::Administrator));
    let part = |gate: &Gate| {
        let head = format!("{}: {}", gate.name, demanded(&gate.demand));
        [remark(&head), guarded(&gate.demand, &gate.admin, survey)].concat()
    };
    theirs.map(part).collect()
}

fn script(parts: &[String], later: &[String], survey: &Survey) -> Option<String> {
    if parts.is_empty() {
        return None;
    }
    let user = survey.rights.user.as_deref().unwrap_or("root");
    let mut text = String::from(
        "#!/bin/sh\n# For an administrator of this machine: what must be done before the climb can go on.\n\
         # It can be run again: what is done already is passed over.\nset -eu\n",
    );
    let _ = write!(text, "\n# The person who works here.\nWHO={}\n", word(user));
    text.extend(parts.iter().map(|part| ["\n", part].concat()));
    for line in later {
        text.push_str(&["\n", &remark(line)].concat());
    }
    Some(text)
}

fn part(gate: &Standing, admin: &[String], survey: &Survey) -> String {
    let tool = gate.tool.as_deref().unwrap_or("the route");
    let head = format!("{}: {tool} needs {}; found: {}.", gate.gate, needed(&gate.needed), found(&gate.found));
    let Needed::Demand(demand) = &gate.needed else { return remark(&head) };
    [remark(&head), guarded(demand, admin, survey)].concat()
}

/// What must be started anew when all is done, and by whom.
fn then(gate: &Standing) -> Option<String> {
    let anew = gate.after?;
    Some(format!("After {}: {}.", gate.gate, super::anew_do(anew)))
}

/// A comment is one line, whatever stands in it.
fn remark(text: &str) -> String {
    ["# ", &clean(text), "\n"].concat()
}

/// Commands that run where what is demanded cannot be seen to be there.
fn guarded(demand: &Demand, admin: &[String], survey: &Survey) -> String {
    let (seen, commands) = match demand {
        Demand::Packages(all) => match of_system(all, survey).and_then(|of| packages(of, survey)) {
            Some(known) => known,
            None => return remark("How packages are installed on this system is not known."),
        },
        demand => (seen(demand), admin.to_vec()),
    };
    match seen {
        Some(seen) => {
            let body: String = commands.iter().map(|command| format!("    {command}\n")).collect();
            format!("if ! {{ {seen}; }}; then\n{body}fi\n")
        }
        None => commands.join("\n") + "\n",
    }
}

/// How a shell sees that something is there.
fn seen(demand: &Demand) -> Option<String> {
    Some(match demand {
        Demand::Group(group) => format!("id -nG \"$WHO\" | tr ' ' '\\n' | grep -qxF -e {}", word(group)),
        Demand::File(path) => format!("test -e {}", word(path)),
        Demand::Module(name) => format!("test -e {}", word(format!("/sys/module/{}", name.replace('-', "_")))),
        Demand::HostName(name) => {
            // The dots of a name stand for themselves.
            let name = name.replace('.', "\\.");
            format!("grep -Eq '^(127\\.|::1)[^#]*[[:space:]]{name}([[:space:]]|$)' /etc/hosts")
        }
        Demand::Command(wanted) => format!("command -v {} >/dev/null", word(&wanted.name)),
        _ => return None,
    })
}

/// How the packages of a system are seen, and how they are installed.
fn packages(of: &OfSystem, survey: &Survey) -> Option<(Option<String>, Vec<String>)> {
    let system = &survey.system;
    let names: Vec<&str> = system.id.iter().chain(&system.like).map(String::as_str).collect();
    let (_, sees, installs) = PACKAGERS.iter().find(|(of, ..)| names.iter().any(|name| of.contains(name)))?;
    let seen: Vec<String> = of.packages.iter().map(|package| sees.replace("%s", &word(package))).collect();
    let all: Vec<String> = of.packages.iter().map(word).collect();
    Some((Some(seen.join(" && ")), vec![format!("{installs} {}", all.join(" "))]))
}
