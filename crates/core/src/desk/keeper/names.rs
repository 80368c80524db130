//! What the name of a file tells: for which platform it is. Pure.

use kladder_choose::version::Version;

/// For whom a file is, and how far it is what is looked for: of several for one platform the lowest rank is taken.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Fit {
    /// As `for` in a definition has it.
    pub(super) scope: String,
    pub(super) rank: u32,
}

/// The rank from which on a file is for one version of an interpreter.
pub(super) const OF_ONE_INTERPRETER: u32 = 200;

/// What a file's name says of it; `None` for what cannot be taken: a source archive, a file for another system, a signature.
pub(super) fn fit(file: &str) -> Option<Fit> {
    let lower = file.to_ascii_lowercase();
    if let Some(stem) = lower.strip_suffix(".whl") {
        return wheel(stem);
    }
    if let Some(stem) = lower.strip_suffix(".deb") {
        let scope = match stem.rsplit('_').next()? {
            "amd64" => "linux/x86_64",
            "arm64" => "linux/aarch64",
            "all" => "linux",
            _ => return None,
        };
        return Some(Fit { scope: scope.to_owned(), rank: 0 });
    }
    let no_file = [".asc", ".sig", ".sha256", ".txt", ".json", ".pem", ".exe", ".msi", ".dmg", ".pkg", ".rpm"];
    if no_file.iter().any(|ending| lower.ends_with(ending)) || lower.contains("source") || lower.contains("windows") {
        return None;
    }
    Some(Fit { scope: by_words(&lower), rank: 0 })
}

/// `NAME-VERSION(-BUILD)?-PYTHON-ABI-PLATFORM` (Python packaging specifications, "Binary distribution format", "Platform
/// compatibility tags").
fn wheel(stem: &str) -> Option<Fit> {
    let mut parts = stem.rsplitn(4, '-');
    let (platforms, abi, python) = (parts.next()?, parts.next()?, parts.next()?);
    let independent = python.split('.').any(|tag| tag == "py3" || tag == "py2.py3") && abi == "none";
    let abi_rank = if independent {
        0
    } else if abi == "abi3" {
        100
    } else {
        OF_ONE_INTERPRETER
    };
    let each = platforms.split('.').filter_map(|tag| {
        let processor = if tag.ends_with("x86_64") || tag.ends_with("intel") {
            "x86_64"
        } else if tag.ends_with("aarch64") || tag.ends_with("arm64") {
            "aarch64"
        } else if tag.ends_with("universal2") || tag == "any" {
            ""
        } else {
            return None;
        };
        let (system, rank) = match tag.split('_').next()? {
            "any" => return Some(Fit { scope: "any".to_owned(), rank: abi_rank + 50 }),
            // The lower the library that is asked for, the more machines can have it.
            linux if linux.starts_with("manylinux") => ("linux", glibc(tag)),
            "linux" => ("linux", 60),
            "musllinux" => ("linux/musl", 70),
            "macosx" => ("macos", u32::from(processor.is_empty())),
            _ => return None,
        };
        let scope = match (system, processor) {
            ("linux/musl", processor) => format!("linux/{processor}/musl"),
            (system, "") => system.to_owned(),
            (system, processor) => format!("{system}/{processor}"),
        };
        Some(Fit { scope, rank: abi_rank + rank })
    });
    each.min_by_key(|fit| fit.rank)
}

/// The second number of the C library that a tag asks for (PEP 600, and the names before it).
fn glibc(tag: &str) -> u32 {
    match tag {
        tag if tag.starts_with("manylinux1_") => 5,
        tag if tag.starts_with("manylinux2010_") => 12,
        tag if tag.starts_with("manylinux2014_") => 17,
        tag => tag.split('_').nth(2).and_then(|number| number.parse().ok()).unwrap_or(59).min(59),
    }
}

fn by_words(lower: &str) -> String {
    let has = |words: &[&str]| words.iter().any(|word| lower.contains(word));
    let system = if has(&["darwin", "macos", "apple", "osx"]) {
        "macos"
    } else if has(&["linux"]) {
        "linux"
    } else {
        return "any".to_owned();
    };
    let processor = if has(&["x86_64", "amd64", "x64"]) {
        "x86_64"
    } else if has(&["aarch64", "arm64"]) {
        "aarch64"
    } else {
        return system.to_owned();
    };
    let library = if system == "linux" && lower.contains("musl") { "/musl" } else { "" };
    format!("{system}/{processor}{library}")
}

/// What the maker calls a version that packagers have added to: `2:1.19~2-3+b1` is `1.19`.
pub(super) fn upstream(version: &str) -> &str {
    let bare = version.split_once(':').map_or(version, |(_, rest)| rest);
    let bare = bare.rsplit_once('-').map_or(bare, |(front, _)| front);
    // A version that was too new, taken back without counting down: `4.8+really4.7.5`.
    let bare = bare.split_once("+really").map_or(bare, |(_, real)| real);
    bare.split(['+', '~']).next().unwrap_or(bare)
}

/// Whether a version comes before the one that it prepares.
pub(super) fn is_preview(version: &Version) -> bool {
    const PREVIEWS: [&str; 9] = ["rc", "alpha", "beta", "dev", "pre", "preview", "nightly", "canary", "next"];
    let lower = version.as_str().to_ascii_lowercase();
    let mut words = lower.split(|c: char| !c.is_ascii_alphabetic()).filter(|word| !word.is_empty());
    // `1.2a1` prepares 1.2, and `3.3a` comes after 3.3.
    let is_before_number = |word: &str| {
        let after = lower.find(word).map(|at| &lower[at + word.len()..]).unwrap_or_default();
        after.starts_with(|c: char| c.is_ascii_digit())
    };
    words.any(|word| PREVIEWS.contains(&word) || (["a", "b", "c"].contains(&word) && is_before_number(word)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_their_platforms() {
        for (file, scope) in [
            ("tide-1.2-py3-none-manylinux2014_x86_64.manylinux_2_17_x86_64.whl", Some("linux/x86_64")),
            ("tide-1.2-py3-none-manylinux_2_12_x86_64.musllinux_1_1_x86_64.whl", Some("linux/x86_64")),
            ("tide-1.2-py3-none-musllinux_1_1_aarch64.whl", Some("linux/aarch64/musl")),
            ("tide-1.2-1-py2.py3-none-macosx_11_0_arm64.whl", Some("macos/aarch64")),
            ("tide-1.2-py3-none-macosx_10_9_universal2.whl", Some("macos")),
            ("tide-1.2-py3-none-any.whl", Some("any")),
            ("tide-1.2-py3-none-win_amd64.whl", None),
            ("tide_1.2-3_arm64.deb", Some("linux/aarch64")),
            ("tide_1.2-3_all.deb", Some("linux")),
            ("tide_1.2-3_riscv64.deb", None),
            ("tide-v1.2-x86_64-unknown-linux-musl.tar.gz", Some("linux/x86_64/musl")),
            ("tide-darwin-arm64.tar.gz", Some("macos/aarch64")),
            ("tide-1.2.tgz", Some("any")),
            ("tide-1.2.tar.gz.asc", None),
        ] {
            assert_eq!(fit(file).map(|fit| fit.scope).as_deref(), scope, "{file}");
        }
        let rank = |file| fit(file).unwrap().rank;
        assert!(rank("t-1-py3-none-manylinux2014_x86_64.whl") < rank("t-1-py3-none-manylinux_2_28_x86_64.whl"));
        assert!(rank("t-1-cp39-abi3-manylinux2014_x86_64.whl") < rank("t-1-cp312-cp312-manylinux1_x86_64.whl"));
    }

    #[test]
    fn versions_are_told_as_their_makers_do() {
        let version = |text: &str| text.parse::<Version>().unwrap();
        assert_eq!(upstream("4.8+really4.7.5-1"), "4.7.5");
        assert_eq!(["2:1.19~2-3+b1", "1.6-2.1+deb12u3", "2.0"].map(upstream), ["1.19", "1.6", "2.0"]);
        assert!(["1.2rc1", "1.2.0-beta.3", "2.0a1"].map(version).iter().all(is_preview));
        assert!(!["1.2", "1.2.post1", "3.2.0q", "3.3a"].map(version).iter().any(is_preview));
    }
}
