//! Gates: what the host must have or be before a rung can be climbed.
//!
//! A gate demands one thing; `advice` and `admin` say how it is opened, and `name` by what `--skip-gate` knows it.
//!
//! | key | like | holds where |
//! |---|---|---|
//! | `os` | `"linux"` | the system is this one |
//! | `release` | `"debian >=12"` | the distribution and its release fit |
//! | `c-library` | `"gnu >=2.31"` | the C library and its version fit |
//! | `feature` | `"avx2"` | the processor has it, by the kernel's name |
//! | `memory`, `disk` | `">= 2 GiB"` | there is so much; disk beyond what the route takes, where the shelf is |
//! | `virtualisation` | `"there"`, `"usable"` | the hardware has it; the caller may open its device |
//! | `driver` | `"nouveau >=1.3"` | a graphics device has this driver |
//! | `command` | `"git >=2.30"` | it is on PATH and says such a version |
//! | `group` | `"dialout"` | the caller is in it |
//! | `reach` | `"yard.example:443"`, `"yard"` | connections are taken there, or by any yard |
//! | `port` | `7380` | nothing listens there on the loopback |
//!
//! ```
//! use kladder_choose::catalog::{Demand, Gate};
//!
//! let gate: Gate = toml::from_str("memory = \">= 2 GiB\"\nadvice = \"close the simulator\"")?;
//! assert_eq!(gate.demand, Demand::Memory(2 << 30));
//! assert_eq!(gate.name, "memory");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::fmt;
use std::str::FromStr;

use serde::Deserialize;

use crate::version::Requirement;

/// Something the host must have or be.
#[derive(Clone, Debug, Deserialize)]
#[serde(try_from = "Form")]
pub struct Gate {
    /// What it is called, for messages and for skipping it.
    pub name: String,
    /// What is demanded.
    pub demand: Demand,
    /// What a person can do about it.
    pub advice: Option<String>,
    /// The commands with which an administrator opens it.
    pub admin: Vec<String>,
}

/// What is demanded of a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Demand {
    /// This operating system.
    Os(String),
    /// This distribution, at a release in the range.
    Release(Ranged),
    /// This C library, at a version in the range.
    CLibrary(Ranged),
    /// This feature of the processor.
    Feature(String),
    /// This many bytes of memory.
    Memory(u64),
    /// This many free bytes of disk at the shelf, besides what the route itself takes.
    Disk(u64),
    /// Hardware virtualisation: there, or usable by the caller.
    Virtualisation {
        /// The caller must be able to use it.
        usable: bool,
    },
    /// This graphics driver, at a version in the range.
    Driver(Ranged),
    /// This command, at a version in the range.
    Command(Ranged),
    /// Membership in this group.
    Group(String),
    /// That this address, `HOST:PORT`, takes connections; `yard` for any yard of the climb.
    Reach(String),
    /// That nothing listens on this port of the loopback.
    Port(u16),
}

/// A name and the versions that will do: `gnu >=2.31`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ranged {
    /// The name.
    pub name: String,
    /// The versions.
    pub range: Requirement,
}

impl FromStr for Ranged {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (name, range) = text.trim().split_once(char::is_whitespace).unwrap_or((text.trim(), "any"));
        let range = range.parse().map_err(|error| format!("in `{text}`: {error}"))?;
        Ok(Self { name: name.to_owned(), range })
    }
}

impl fmt::Display for Ranged {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.range == Requirement::any() {
            f.write_str(&self.name)
        } else {
            write!(f, "{} {}", self.name, self.range)
        }
    }
}

/// `>= 2 GiB`, `500 MB`: bytes. Powers of 1024 with an `i`, of 1000 without (IEC 80000-13).
fn amount(text: &str) -> Result<u64, String> {
    let wrong = || format!("`{text}` is no amount: write one like `>= 2 GiB`");
    let bare = text.trim().trim_start_matches(">=").trim();
    let split = bare.find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?;
    let number: u64 = bare[..split].parse().map_err(|_| wrong())?;
    let unit = match bare[split..].trim() {
        "MB" => 1000 * 1000,
        "GB" => 1000 * 1000 * 1000,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return Err(wrong()),
    };
    number.checked_mul(unit).ok_or_else(wrong)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Form {
    name: Option<String>,
    advice: Option<String>,
    #[serde(default)]
    admin: Vec<String>,
    os: Option<String>,
    release: Option<String>,
    c_library: Option<String>,
    feature: Option<String>,
    memory: Option<String>,
    disk: Option<String>,
    virtualisation: Option<String>,
    driver: Option<String>,
    command: Option<String>,
    group: Option<String>,
    reach: Option<String>,
    port: Option<u16>,
}

impl TryFrom<Form> for Gate {
    type Error = String;

    fn try_from(form: Form) -> Result<Self, String> {
        let mut demands = demands(&form)?;
        if demands.len() > 1 {
            return Err("a gate demands one thing; write a gate for each".into());
        }
        let Some((fact, demand)) = demands.pop() else {
            return Err(
                "a gate demands something: os, release, c-library, feature, memory, disk, virtualisation, driver, \
                        command, group, reach or port"
                    .into(),
            );
        };
        Ok(Self { name: form.name.unwrap_or_else(|| fact.to_owned()), demand, advice: form.advice, admin: form.admin })
    }
}

fn demands(form: &Form) -> Result<Vec<(&'static str, Demand)>, String> {
    let mut found = Vec::new();
    let texts = [
        ("os", &form.os),
        ("release", &form.release),
        ("c-library", &form.c_library),
        ("feature", &form.feature),
        ("memory", &form.memory),
        ("disk", &form.disk),
        ("virtualisation", &form.virtualisation),
        ("driver", &form.driver),
        ("command", &form.command),
        ("group", &form.group),
        ("reach", &form.reach),
    ];
    for (fact, text) in texts {
        if let Some(text) = text {
            found.push((fact, demand(fact, text)?));
        }
    }
    found.extend(form.port.map(|port| ("port", Demand::Port(port))));
    Ok(found)
}

fn demand(fact: &str, text: &str) -> Result<Demand, String> {
    Ok(match fact {
        "os" => Demand::Os(text.to_owned()),
        "release" => Demand::Release(text.parse()?),
        "c-library" => Demand::CLibrary(text.parse()?),
        "feature" => Demand::Feature(text.to_owned()),
        "memory" => Demand::Memory(amount(text)?),
        "disk" => Demand::Disk(amount(text)?),
        "driver" => Demand::Driver(text.parse()?),
        "command" => Demand::Command(text.parse()?),
        "group" => Demand::Group(text.to_owned()),
        "reach" => Demand::Reach(text.to_owned()),
        _ => match text {
            "there" => Demand::Virtualisation { usable: false },
            "usable" => Demand::Virtualisation { usable: true },
            other => return Err(format!("`{other}`: virtualisation is `there` or `usable`")),
        },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, Deserialize)]
    struct Gates {
        gates: Vec<Gate>,
    }

    fn gate(line: &str) -> Result<Gate, String> {
        let read: Result<Gates, _> = toml::from_str(&format!("[[gates]]\n{line}\n"));
        read.map(|mut gates| gates.gates.remove(0)).map_err(|error| error.message().to_owned())
    }

    #[test]
    fn every_demand_is_read_and_mistakes_are_named() {
        assert_eq!(gate("memory = \">= 2 GiB\"").unwrap().demand, Demand::Memory(2 << 30));
        assert_eq!(gate("disk = \"500 MB\"").unwrap().demand, Demand::Disk(500_000_000));
        let Demand::CLibrary(libc) = gate("c-library = \"gnu >=2.31, <3\"").unwrap().demand else {
            panic!("no C library")
        };
        assert_eq!((libc.name.as_str(), libc.to_string().as_str()), ("gnu", "gnu >=2.31, <3"));
        assert_eq!(gate("virtualisation = \"usable\"").unwrap().demand, Demand::Virtualisation { usable: true });
        assert_eq!(gate("name = \"serial\"\ngroup = \"dialout\"").unwrap().name, "serial");
        let mistakes = [
            ("memory = \"lots\"", "`lots` is no amount"),
            ("name = \"empty\"", "a gate demands something"),
            ("os = \"linux\"\nport = 1", "a gate demands one thing"),
            ("virtualisation = \"on\"", "`there` or `usable`"),
            ("colour = \"blue\"", "unknown field `colour`"),
            ("c-library = \"gnu ^2\"", "`^2` is no requirement: write `>=2, <3`"),
        ];
        for (line, told) in mistakes {
            let error = gate(line).unwrap_err();
            assert!(error.contains(told), "{line}: {error}");
        }
    }
}
