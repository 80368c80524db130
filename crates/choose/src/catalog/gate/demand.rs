//! What a gate demands of a host, and how it is written.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::version::Requirement;

/// Packages that a system must have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OfSystem {
    /// The distribution, by its short name, and its releases.
    pub system: Ranged,
    /// The packages, as it calls them.
    pub packages: Vec<String>,
}

/// What is demanded of a host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Demand {
    /// This operating system.
    Os(String),
    /// This kernel.
    Kernel(Requirement),
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
    /// This shared object by its soname, at a version in the range.
    Library(Ranged),
    /// This package of the system, at a version in the range.
    Package(Ranged),
    /// This file or folder.
    File(String),
    /// This module of the kernel.
    Module(String),
    /// This locale.
    Locale(String),
    /// This family of fonts.
    Font(String),
    /// At least so many of a thing that the system counts for each user.
    Limit {
        /// What is counted, as [`LIMITS`] names it.
        what: String,
        /// How many.
        least: u64,
    },
    /// A graphical session.
    Desktop,
    /// Membership in this group.
    Group(String),
    /// That this address, `HOST:PORT`, takes connections; `yard` for any yard of the climb.
    Reach(String),
    /// That nothing listens on this port of the loopback.
    Port(u16),
    /// That this host name leads to this machine.
    HostName(String),
    /// The packages that are named for this system, or for one that it is like.
    Packages(Vec<OfSystem>),
    /// A device that is plugged in: `VENDOR:PRODUCT` as USB has them.
    Device(String),
    /// That the person says so.
    Word,
}

/// What a limit can be of, with the name that the kernel has for it (`proc_pid_limits(5)`).
pub const LIMITS: [(&str, &str); 4] = [
    ("open-files", "Max open files"),
    ("processes", "Max processes"),
    ("locked-memory", "Max locked memory"),
    ("file-size", "Max file size"),
];

/// A name and the versions that will do: `gnu >=2.31`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
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

impl Demand {
    /// The facts that can be demanded, by the keys of a gate.
    pub const FACTS: [&'static str; 24] = [
        "os",
        "kernel",
        "release",
        "c-library",
        "feature",
        "memory",
        "disk",
        "virtualisation",
        "driver",
        "command",
        "library",
        "package",
        "file",
        "module",
        "locale",
        "font",
        "limit",
        "desktop",
        "group",
        "reach",
        "port",
        "host-name",
        "packages",
        "device",
    ];

    /// Those that a machine keeps, so that a release can be chosen by them.
    pub const LASTING: [&'static str; 12] = [
        "os",
        "kernel",
        "release",
        "c-library",
        "feature",
        "memory",
        "driver",
        "command",
        "library",
        "package",
        "file",
        "module",
    ];

    /// What is demanded of a fact.
    ///
    /// # Errors
    /// What is wrong with the text.
    pub fn of(fact: &str, text: &str) -> Result<Self, String> {
        let there = |text: &str| match text {
            "there" => Ok(()),
            other => Err(format!("`{other}`: a desktop is `there`")),
        };
        Ok(match fact {
            "os" => Self::Os(text.to_owned()),
            "kernel" => Self::Kernel(text.parse().map_err(|error| format!("in `{text}`: {error}"))?),
            "release" => Self::Release(text.parse()?),
            "c-library" => Self::CLibrary(text.parse()?),
            "feature" => Self::Feature(text.to_owned()),
            "memory" => Self::Memory(amount(text)?),
            "disk" => Self::Disk(amount(text)?),
            "driver" => Self::Driver(text.parse()?),
            "command" => Self::Command(text.parse()?),
            "library" => Self::Library(text.parse()?),
            "package" => Self::Package(text.parse()?),
            "file" if text.starts_with('/') && !text.split('/').any(|part| part == "..") => Self::File(text.to_owned()),
            "file" => return Err(format!("`{text}`: a file of the system is named from `/` on, without `..`")),
            "module" => Self::Module(text.to_owned()),
            "locale" => Self::Locale(text.to_owned()),
            "font" => Self::Font(text.to_owned()),
            "limit" => limit(text)?,
            "desktop" => there(text).map(|()| Self::Desktop)?,
            "device" if is_device(text) => Self::Device(text.to_lowercase()),
            "device" => return Err(format!("`{text}`: a device is VENDOR:PRODUCT, four hexadecimal digits each")),
            "group" => Self::Group(text.to_owned()),
            "reach" => Self::Reach(text.to_owned()),
            "host-name" if is_host_name(text) => Self::HostName(text.to_lowercase()),
            "host-name" => return Err(format!("`{text}` is no host name: letters, digits and `-`, with dots between")),
            "port" => Self::Port(text.parse().map_err(|_| format!("`{text}` is no port"))?),
            _ => match text {
                "there" => Self::Virtualisation { usable: false },
                "usable" => Self::Virtualisation { usable: true },
                other => return Err(format!("`{other}`: virtualisation is `there` or `usable`")),
            },
        })
    }

    /// The fact that is demanded, by its key.
    pub fn fact(&self) -> &'static str {
        match self {
            Self::Os(_) => "os",
            Self::Kernel(_) => "kernel",
            Self::Release(_) => "release",
            Self::CLibrary(_) => "c-library",
            Self::Feature(_) => "feature",
            Self::Memory(_) => "memory",
            Self::Disk(_) => "disk",
            Self::Virtualisation { .. } => "virtualisation",
            Self::Driver(_) => "driver",
            Self::Command(_) => "command",
            Self::Library(_) => "library",
            Self::Package(_) => "package",
            Self::File(_) => "file",
            Self::Module(_) => "module",
            Self::Locale(_) => "locale",
            Self::Font(_) => "font",
            Self::Limit { .. } => "limit",
            Self::Desktop => "desktop",
            Self::Group(_) => "group",
            Self::Reach(_) => "reach",
            Self::Port(_) => "port",
            Self::HostName(_) => "host-name",
            Self::Packages(_) => "packages",
            Self::Device(_) => "device",
            Self::Word => "person",
        }
    }

    /// Whether a machine keeps what is demanded, so that a release can be chosen by it.
    pub fn is_lasting(&self) -> bool {
        Self::LASTING.contains(&self.fact())
    }
}

/// As a gate has it.
impl fmt::Display for Demand {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Os(text)
            | Self::Feature(text)
            | Self::File(text)
            | Self::Module(text)
            | Self::Locale(text)
            | Self::Font(text)
            | Self::Group(text)
            | Self::Reach(text)
            | Self::HostName(text) => f.write_str(text),
            Self::Kernel(range) => range.fmt(f),
            Self::Release(ranged)
            | Self::CLibrary(ranged)
            | Self::Driver(ranged)
            | Self::Command(ranged)
            | Self::Library(ranged)
            | Self::Package(ranged) => ranged.fmt(f),
            Self::Memory(bytes) | Self::Disk(bytes) => write!(f, ">={} MiB", bytes >> 20),
            Self::Virtualisation { usable } => f.write_str(if *usable { "usable" } else { "there" }),
            Self::Limit { what, least } => write!(f, "{what} >={least}"),
            Self::Desktop => f.write_str("there"),
            Self::Port(port) => write!(f, "{port}"),
            Self::Device(device) => f.write_str(device),
            Self::Packages(all) => {
                let one = |of: &OfSystem| format!("{}: {}", of.system, of.packages.join(", "));
                f.write_str(&all.iter().map(one).collect::<Vec<_>>().join("; "))
            }
            Self::Word => f.write_str("done"),
        }
    }
}

/// `{ debian = ["libtide-dev"], "fedora >=40" = ["libtide-devel"] }`
pub(super) fn packages(form: BTreeMap<String, Vec<String>>) -> Result<Demand, String> {
    let one = |(system, packages): (String, Vec<String>)| {
        // They stand in a script that an administrator runs.
        let is_name = |name: &String| {
            name.starts_with(|c: char| c.is_ascii_alphanumeric())
                && name.chars().all(|c| c.is_ascii_alphanumeric() || ".+-_:".contains(c))
        };
        match packages.iter().find(|name| !is_name(name)) {
            Some(odd) => Err(format!("`{odd}` is no name of a package")),
            None if packages.is_empty() => Err(format!("no package is named for {system}")),
            None => Ok(OfSystem { system: system.parse()?, packages }),
        }
    };
    let all: Vec<OfSystem> = form.into_iter().map(one).collect::<Result<_, _>>()?;
    if all.is_empty() { Err("no package is named".to_owned()) } else { Ok(Demand::Packages(all)) }
}

/// A name as hosts have them (RFC 1123, section 2.1).
pub(crate) fn is_host_name(text: &str) -> bool {
    let is_label = |label: &str| {
        (1..=63).contains(&label.len())
            && label.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-')
            && !label.starts_with('-')
            && !label.ends_with('-')
    };
    text.len() <= 253 && text.split('.').all(is_label)
}

/// `1209:2c01`
fn is_device(text: &str) -> bool {
    let is_number = |part: &str| part.len() == 4 && part.bytes().all(|byte| byte.is_ascii_hexdigit());
    text.split_once(':').is_some_and(|(vendor, product)| is_number(vendor) && is_number(product))
}

/// `open-files >=4096`
fn limit(text: &str) -> Result<Demand, String> {
    let names = || LIMITS.map(|(name, _)| name);
    let (what, least) =
        text.split_once(">=").ok_or_else(|| format!("`{text}`: write a limit like `open-files >=4096`"))?;
    let what = what.trim();
    if !names().contains(&what) {
        return Err(format!("`{what}` is no limit; {} are", names().join(", ")));
    }
    let least = least.trim().parse().map_err(|_| format!("`{}` is no number", least.trim()))?;
    Ok(Demand::Limit { what: what.to_owned(), least })
}

/// `>= 2 GiB`, `500 MB`: bytes. Powers of 1024 with an `i`, of 1000 without (IEC 80000-13).
pub(in crate::catalog) fn amount(text: &str) -> Result<u64, String> {
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
