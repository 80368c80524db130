//! Gates: what the host must have or be before a rung can be climbed.
//!
//! A gate demands one thing, and `name` is by what `--skip-gate` knows it. One that somebody can open is a *chore*: `admin` has the
//! commands of an administrator (`packages` come with theirs), `person` says what a person does; `minutes` says how long that
//! takes, `after` that a restart or new session is needed for it to count, and `advice` whatever else there is to say.
//!
//! | key | like | holds where |
//! |---|---|---|
//! | `os` | `"linux"` | the system is this one |
//! | `kernel` | `">=5.10"` | the kernel's version fits |
//! | `release` | `"debian >=12"` | the distribution and its release fit |
//! | `c-library` | `"gnu >=2.31"` | the C library and its version fit |
//! | `feature` | `"avx2"` | the processor has it, by the kernel's name |
//! | `memory`, `disk` | `">= 2 GiB"` | there is so much; disk beyond what the route takes, where the shelf is |
//! | `virtualisation` | `"there"`, `"usable"` | the hardware has it; the caller may open its device |
//! | `driver` | `"nouveau >=1.3"` | a graphics device has this driver |
//! | `command` | `"git >=2.30"` | it is on PATH and says such a version |
//! | `library` | `"libusb-1.0.so.0 >=0.3"` | the loader finds this shared object, at such a version of its file |
//! | `package` | `"gcc >=12"` | the system's package database has it |
//! | `file` | `"/usr/include/zlib.h"` | there is such a file or folder |
//! | `module` | `"cdc_acm"` | the kernel has it, loaded or built in |
//! | `locale` | `"C.UTF-8"` | the system has it |
//! | `font` | `"Tidemark Mono"` | the system or the person has this family of fonts |
//! | `limit` | `"open-files >=4096"` | the caller may have so many |
//! | `desktop` | `"there"` | a graphical session is there |
//! | `group` | `"dialout"` | the caller is in it |
//! | `reach` | `"yard.example:443"`, `"yard"` | connections are taken there, or by any yard |
//! | `port` | `7380` | nothing listens there on the loopback |
//! | `host-name` | `"gauge.example"` | the system's table of hosts has it for the loopback |
//! | `packages` | `{ debian = ["libtide-dev"] }` | the package database has all that are named for this system, or one like it |
//! | `device` | `"1209:2c01"` | it is plugged in: vendor and product as USB has them |
//! | none, but `person` | | the person says that it is done |
//!
//! ```
//! use kladder_choose::catalog::{Demand, Gate};
//!
//! let gate: Gate = toml::from_str("memory = \">= 2 GiB\"\nadvice = \"close the simulator\"")?;
//! assert_eq!(gate.demand, Demand::Memory(2 << 30));
//! assert_eq!(gate.name, "memory");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod demand;

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer, Serialize};

pub(super) use self::demand::amount;
use self::demand::packages;
pub use self::demand::{Demand, LIMITS, OfSystem, Ranged};
use super::Anew;
use super::table::table;

/// Something the host must have or be.
#[derive(Clone, Debug)]
pub struct Gate {
    /// What it is called, for messages and for skipping it.
    pub name: String,
    /// What is demanded.
    pub demand: Demand,
    /// What a person can do about it.
    pub advice: Option<String>,
    /// The commands with which an administrator opens it, for a POSIX shell; `$WHO` is the person's account.
    pub admin: Vec<String>,
    /// What a person does to open it.
    pub person: Option<String>,
    /// What must be started anew before it counts as opened.
    pub after: Option<Anew>,
    /// How long opening it takes, in minutes.
    pub minutes: Option<u32>,
}

/// Who can open a gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Who {
    /// Somebody who may change the system.
    Administrator,
    /// Whoever works here.
    Person,
}

impl Gate {
    /// That a host name leads to this machine, with what an administrator does for it; `None` for what is no host name.
    pub fn of_host_name(name: &str) -> Option<Self> {
        let demand = Demand::of("host-name", name).ok()?;
        // A name has no character that a shell knows.
        let admin = vec![format!("printf '127.0.0.1\\t%s\\n' {demand} >> /etc/hosts")];
        let (advice, person, after) = (None, None, None);
        Some(Self { name: demand.to_string(), demand, advice, admin, person, after, minutes: None })
    }

    /// Who can open it; `None` where nobody is known to.
    pub fn who(&self) -> Option<Who> {
        if !self.admin.is_empty() || matches!(self.demand, Demand::Packages(_)) {
            Some(Who::Administrator)
        } else {
            self.person.as_ref().map(|_| Who::Person)
        }
    }
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Form {
    name: Option<String>,
    advice: Option<String>,
    #[serde(default)]
    admin: Vec<String>,
    person: Option<String>,
    after: Option<Anew>,
    minutes: Option<u32>,
    packages: Option<BTreeMap<String, Vec<String>>>,
    device: Option<String>,
    os: Option<String>,
    kernel: Option<String>,
    release: Option<String>,
    c_library: Option<String>,
    feature: Option<String>,
    memory: Option<String>,
    disk: Option<String>,
    virtualisation: Option<String>,
    driver: Option<String>,
    command: Option<String>,
    library: Option<String>,
    package: Option<String>,
    file: Option<String>,
    module: Option<String>,
    locale: Option<String>,
    font: Option<String>,
    limit: Option<String>,
    desktop: Option<String>,
    group: Option<String>,
    reach: Option<String>,
    port: Option<u16>,
    host_name: Option<String>,
}

impl<'de> Deserialize<'de> for Gate {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        table::<D, Form, Self>(deserializer)
    }
}

impl TryFrom<Form> for Gate {
    type Error = String;

    fn try_from(form: Form) -> Result<Self, String> {
        let port = form.port.map(|port| port.to_string());
        let told = [
            ("os", form.os),
            ("kernel", form.kernel),
            ("release", form.release),
            ("c-library", form.c_library),
            ("feature", form.feature),
            ("memory", form.memory),
            ("disk", form.disk),
            ("virtualisation", form.virtualisation),
            ("driver", form.driver),
            ("command", form.command),
            ("library", form.library),
            ("package", form.package),
            ("file", form.file),
            ("module", form.module),
            ("locale", form.locale),
            ("font", form.font),
            ("limit", form.limit),
            ("desktop", form.desktop),
            ("group", form.group),
            ("reach", form.reach),
            ("port", port),
            ("host-name", form.host_name),
            ("device", form.device),
        ];
        let packages = form.packages.map(packages).transpose()?;
        let mut told = told.into_iter().filter_map(|(fact, text)| Some((fact, text?)));
        let (demand, more) = match (told.next(), packages) {
            (Some((fact, text)), None) => (Demand::of(fact, &text)?, told.next().is_some()),
            (told, Some(packages)) => (packages, told.is_some()),
            (None, None) if form.person.is_some() && form.name.is_some() => (Demand::Word, false),
            (None, None) if form.person.is_some() => {
                return Err("what only a person can tell has a `name`, by which they say that it is done".to_owned());
            }
            (None, None) => return Err(format!("a gate demands something: {}", Demand::FACTS.join(", "))),
        };
        if more {
            return Err("a gate demands one thing; write a gate for each".into());
        }
        // An administrator reads the script before they run it: it must look like what it is.
        if form.admin.iter().any(|command| command.chars().any(|c| c.is_control() && c != '\n' && c != '\t')) {
            return Err("a command of `admin` holds characters that no terminal shows".into());
        }
        Ok(Self {
            name: form.name.unwrap_or_else(|| demand.fact().to_owned()),
            demand,
            advice: form.advice,
            admin: form.admin,
            person: form.person,
            after: form.after,
            minutes: form.minutes,
        })
    }
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
            ("file = \"/usr/../../etc\"", "named from `/` on, without `..`"),
            ("os = \"linux\"\nport = 1", "a gate demands one thing"),
            ("virtualisation = \"on\"", "`there` or `usable`"),
            ("host-name = \"-gauge\"", "is no host name"),
            ("colour = \"blue\"", "unknown field `colour`"),
            ("c-library = \"gnu ^2\"", "`^2` is no requirement: write `>=2, <3`"),
        ];
        for (line, told) in mistakes {
            let error = gate(line).unwrap_err();
            assert!(error.contains(told), "{line}: {error}");
        }
    }
}
