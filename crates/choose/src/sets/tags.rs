//! Which wheel fits an interpreter on a platform: names of wheels (PEP 427), compatibility tags (PEP 425), Linux platforms by C
//! library (PEP 600, PEP 656).

use crate::platform::Platform;

/// A runtime on a platform.
#[derive(Clone, Debug)]
pub struct Interpreter {
    /// Its minor version: 3 and 11.
    pub minor: (u32, u32),
    /// Its patch level, where that is known.
    pub patch: Option<u32>,
    /// What it runs on.
    pub platform: Platform,
    /// The C library that it has, or the release of macOS; where nobody knows, what wants least is taken.
    pub has: Option<(u32, u32)>,
}

/// What a wheel is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tag {
    /// Interpreters: `cp311`, `py3`.
    pub interpreters: Vec<String>,
    /// Interfaces: `cp311`, `abi3`, `none`.
    pub interfaces: Vec<String>,
    /// Platforms: `manylinux_2_17_x86_64`, `any`.
    pub platforms: Vec<String>,
}

impl Tag {
    /// Reads the name of a wheel; `None` for one that is none.
    pub fn of(file: &str) -> Option<Self> {
        let is_plain = file.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"._+!-".contains(&byte));
        let name = file.strip_suffix(".whl").filter(|_| is_plain)?;
        let parts: Vec<&str> = name.split('-').collect();
        let [.., interpreters, interfaces, platforms] = parts.as_slice() else { return None };
        if !(5..=6).contains(&parts.len()) {
            return None;
        }
        let several = |text: &str| text.split('.').map(str::to_owned).collect();
        Some(Self {
            interpreters: several(interpreters),
            interfaces: several(interfaces),
            platforms: several(platforms),
        })
    }
}

impl Interpreter {
    /// How well a wheel fits: the smaller the better; `None` where it does not.
    pub fn fit(&self, tag: &Tag) -> Option<(u32, u32)> {
        let interface = self.interface(tag)?;
        let platform = tag.platforms.iter().filter_map(|platform| self.platform(platform)).min()?;
        Some((interface, platform))
    }

    /// Made for this very version, for this and later ones, for the language.
    fn interface(&self, tag: &Tag) -> Option<u32> {
        let (major, minor) = self.minor;
        let own = format!("cp{major}{minor}");
        let has = |all: &[String], wanted: &str| all.iter().any(|one| one == wanted);
        if has(&tag.interpreters, &own) && has(&tag.interfaces, &own) {
            return Some(0);
        }
        if has(&tag.interfaces, "abi3") {
            let since = tag.interpreters.iter().filter_map(|one| one.strip_prefix(&format!("cp{major}"))?.parse().ok());
            return since.filter(|since: &u32| *since <= minor).max().map(|since| 1 + minor - since);
        }
        if !has(&tag.interfaces, "none") {
            return None;
        }
        let language = |one: &String| {
            let rest = one.strip_prefix("cp").or_else(|| one.strip_prefix("py"))?;
            let version = rest.strip_prefix(&major.to_string())?;
            if version.is_empty() {
                Some(200)
            } else {
                version.parse().ok().filter(|v| *v <= minor).map(|v: u32| 100 + minor - v)
            }
        };
        tag.interpreters.iter().filter_map(language).min()
    }

    /// The newer the C library that a wheel may count on the better.
    fn platform(&self, text: &str) -> Option<u32> {
        const WORST: u32 = 1_000_000;
        /// One for several processors comes after one for this.
        const SEVERAL: u32 = 400_000;
        const NEWEST: u32 = 200_000;
        if text == "any" {
            return Some(WORST);
        }
        let (system, own, is_musl) = self.parts();
        let (wanted, processor) = parted(text, system, is_musl)?;
        let fits = processor == own || (processor == "universal2" && ["x86_64", "aarch64"].contains(&own));
        let (major, minor) = wanted;
        let newness = major.saturating_mul(1000).saturating_add(minor).min(NEWEST);
        let is_old_enough = self.has.is_none_or(|has| wanted <= has);
        let rank = if self.has.is_some() { NEWEST - newness } else { newness };
        let rank = if processor == own { rank } else { rank + SEVERAL };
        (fits && is_old_enough).then_some(rank)
    }

    /// System, processor, and whether its C library is musl.
    pub(super) fn parts(&self) -> (&str, &str, bool) {
        let mut parts = self.platform.as_str().split('/');
        let (system, processor) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
        (system, processor, parts.next() == Some("musl"))
    }
}

/// The version that a platform's tag wants of its system, and its processor; `None` for another system's.
fn parted<'t>(text: &'t str, os: &str, is_musl: bool) -> Option<((u32, u32), &'t str)> {
    let numbered = |rest: &'t str| {
        let (major, rest) = rest.split_once('_')?;
        let (minor, processor) = rest.split_once('_')?;
        Some(((major.parse().ok()?, minor.parse().ok()?), processor))
    };
    let old = [("manylinux1_", (2, 5)), ("manylinux2010_", (2, 12)), ("manylinux2014_", (2, 17)), ("linux_", (2, 0))];
    let found = match os {
        "linux" if is_musl => numbered(text.strip_prefix("musllinux_")?),
        "linux" => {
            let named = old.iter().find_map(|(prefix, version)| Some((*version, text.strip_prefix(prefix)?)));
            named.or_else(|| numbered(text.strip_prefix("manylinux_")?))
        }
        "macos" => numbered(text.strip_prefix("macosx_")?),
        _ => None,
    };
    // Apple calls it otherwise.
    found.map(|(version, processor)| (version, if processor == "arm64" { "aarch64" } else { processor }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn on(platform: &str, minor: u32, has: Option<(u32, u32)>) -> Interpreter {
        Interpreter { minor: (3, minor), patch: None, platform: platform.parse().unwrap(), has }
    }

    fn best<'f>(interpreter: &Interpreter, files: &[&'f str]) -> Option<&'f str> {
        let fit = |file: &&'f str| Some((interpreter.fit(&Tag::of(file)?)?, *file));
        files.iter().filter_map(fit).min().map(|(_, file)| file)
    }

    #[test]
    fn the_nearest_wheel_that_the_system_can_load_is_taken() {
        let all = [
            "tide-1.0-py3-none-any.whl",
            "tide-1.0-cp311-cp311-manylinux_2_28_x86_64.whl",
            "tide-1.0-cp311-cp311-manylinux_2_17_x86_64.manylinux2014_x86_64.whl",
            "tide-1.0-cp38-abi3-manylinux_2_17_x86_64.whl",
            "tide-1.0-cp311-cp311-musllinux_1_2_x86_64.whl",
            "tide-1.0-cp311-cp311-macosx_11_0_arm64.whl",
            "tide-1.0-cp311-cp311-macosx_10_9_universal2.whl",
            "tide-1.0-cp312-cp312-win_amd64.whl",
        ];
        assert_eq!(best(&on("linux/x86_64", 11, Some((2, 36))), &all), Some(all[1]));
        assert_eq!(best(&on("linux/x86_64", 11, Some((2, 17))), &all), Some(all[2]));
        assert_eq!(best(&on("linux/x86_64", 12, Some((2, 36))), &all), Some(all[3]), "its interface is stable");
        assert_eq!(best(&on("linux/x86_64", 7, Some((2, 36))), &all), Some(all[0]));
        assert_eq!(best(&on("linux/x86_64/musl", 11, Some((1, 2))), &all), Some(all[4]));
        assert_eq!(best(&on("macos/aarch64", 11, None), &all), Some(all[5]));
        assert_eq!(best(&on("macos/x86_64", 11, None), &all), Some(all[6]));
        assert_eq!(best(&on("linux/x86_64", 11, None), &all), Some(all[2]), "what wants least");
        assert_eq!(best(&on("linux/aarch64", 11, Some((2, 36))), &all[1..]), None);
        // Made for the language, and nearer ones before.
        let pure = ["tide-1.0-py2.py3-none-any.whl", "tide-1.0-py310-none-any.whl", "tide-1.0-1-py39-none-any.whl"];
        assert_eq!(best(&on("linux/x86_64", 11, None), &pure), Some(pure[1]));
        for wrong in ["tide.whl", "tide-1.0.tar.gz", "tide-1.0-py3-none.whl", "a-b-c-d-e-f-g-py3-none-any.whl", ""] {
            assert_eq!(Tag::of(wrong), None, "{wrong}");
        }
    }
}
