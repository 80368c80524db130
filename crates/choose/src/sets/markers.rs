//! Where a library is wanted: environment markers (PEP 508) and versions of the runtime (PEP 440).

use std::str::FromStr;

use pep508_rs::pep440_rs::{Version, VersionSpecifiers};
use pep508_rs::{ExtraName, MarkerEnvironment, MarkerEnvironmentBuilder, MarkerTree, VerbatimUrl};

use super::tags::Interpreter;

/// Bytes of a marker.
const LONGEST: usize = 8 << 10;
/// Comparisons of a marker that are joined.
const MOST_JOINS: usize = 120;
/// Parentheses of a marker.
const MOST_PARENTHESES: usize = 200;

/// Where libraries are asked for.
pub(super) struct Environment {
    markers: MarkerEnvironment,
    version: Version,
    has_patch: bool,
}

impl Environment {
    /// Of an interpreter; `None` for one whose version is no version.
    pub(super) fn of(interpreter: &Interpreter) -> Option<Self> {
        let (major, minor) = interpreter.minor;
        let (short, full) = (format!("{major}.{minor}"), format!("{major}.{minor}.{}", interpreter.patch.unwrap_or(0)));
        let (system, name, processor) = match interpreter.parts() {
            ("macos", "aarch64", _) => ("darwin", "Darwin", "arm64"),
            ("macos", processor, _) => ("darwin", "Darwin", processor),
            (_, processor, _) => ("linux", "Linux", processor),
        };
        let markers = MarkerEnvironment::try_from(MarkerEnvironmentBuilder {
            implementation_name: "cpython",
            implementation_version: &full,
            os_name: "posix",
            platform_machine: processor,
            platform_python_implementation: "CPython",
            platform_release: "",
            platform_system: name,
            platform_version: "",
            python_full_version: &full,
            python_version: &short,
            sys_platform: system,
        });
        let (markers, version) = (markers.ok()?, Version::from_str(&full).ok()?);
        Some(Self { markers, version, has_patch: interpreter.patch.is_some() })
    }

    /// Whether a marker holds; what nobody can read is the error.
    pub(super) fn holds(&self, marker: &str) -> Result<bool, String> {
        if is_too_long(marker) {
            return Err("it is longer than a marker that people write".to_owned());
        }
        let tree = MarkerTree::from_str(marker);
        let tree = tree.map_err(|error: pep508_rs::Pep508Error<VerbatimUrl>| first_line(&error.to_string()))?;
        Ok(tree.evaluate(&self.markers, &[]))
    }

    /// Whether a marker holds there for a piece of the library that has it, or for the library itself.
    pub(super) fn wants(&self, marker: &MarkerTree, piece: Option<&ExtraName>) -> bool {
        marker.evaluate(&self.markers, piece.map(std::slice::from_ref).unwrap_or_default())
    }

    /// A marker that holds for what runs on the same system and processor.
    pub(super) fn marker(&self) -> String {
        let (system, processor) = (self.markers.sys_platform(), self.markers.platform_machine());
        format!("sys_platform == '{system}' and platform_machine == '{processor}'")
    }

    /// Whether the runtime is one of these versions. Where its patch level is not known, what counts is its minor version.
    pub(super) fn is_one_of(&self, versions: &str) -> Result<bool, String> {
        if versions.len() > LONGEST {
            return Err("it is longer than a range that people write".to_owned());
        }
        let specifiers = VersionSpecifiers::from_str(versions).map_err(|error| first_line(&error.to_string()))?;
        // The highest patch level meets every lower bound within its minor version.
        let [major, minor] = [0, 1].map(|at| self.version.release().get(at).copied().unwrap_or(0));
        let last = Version::new([major, minor, 999]);
        Ok(specifiers.contains(&self.version) || (!self.has_patch && specifiers.contains(&last)))
    }
}

/// Whether nobody should read it: whoever does goes one level down for each parenthesis, and weighs comparisons against one
/// another, which takes seconds for some hundreds of them.
pub(super) fn is_too_long(text: &str) -> bool {
    let joins = || text.split([' ', '\t', '(', ')', '\'', '"']).filter(|word| ["and", "or"].contains(word)).count();
    let parentheses = || text.bytes().filter(|byte| *byte == b'(').count();
    text.len() > LONGEST || parentheses() > MOST_PARENTHESES || joins() > MOST_JOINS
}

pub(super) fn first_line(text: &str) -> String {
    text.lines().next().unwrap_or_default().to_owned()
}
