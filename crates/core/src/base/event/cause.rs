//! Likely causes of a failure: facts, which become sentences elsewhere.

use kladder_choose::names::{RungKey, ToolName};
use serde::{Deserialize, Serialize};

/// What a failure probably comes from.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "cause", rename_all = "kebab-case")]
pub enum Cause {
    /// The program wants a newer C library than the host has.
    OldCLibrary {
        /// The version it wants, like `2.38`.
        wanted: String,
        /// The version of the host's, where it is known.
        found: Option<String>,
    },
    /// The program wants a newer version of a library than the one that is there.
    OldLibrary {
        /// The library's file name.
        library: String,
        /// The version it wants, as the library names it.
        wanted: String,
    },
    /// Nobody provides a shared library.
    NoLibrary {
        /// Its file name, like `libfoo.so.1`.
        library: String,
        /// Tools of the catalog that provide it under this name.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        by: Vec<ToolName>,
    },
    /// A file holds the target of a link, which its archive's format could not hold.
    LostLink {
        /// That file.
        file: String,
        /// What it holds.
        target: String,
    },
    /// The interpreter that a script names is not there.
    NoInterpreter {
        /// The interpreter.
        interpreter: String,
    },
    /// The host has a command that was not found, since nothing declares it.
    UndeclaredCommand {
        /// As it is typed.
        command: String,
        /// Where the host has it.
        file: String,
    },
    /// A module or package that the program needs is not there.
    NoCompanion {
        /// As the program names it.
        module: String,
    },
    /// A file may not be run.
    NotExecutable {
        /// Which one, where that was said.
        file: Option<String>,
    },
    /// The program is for another processor or system.
    OtherProcessor,
    /// Files of rungs that it uses are not as they were.
    Damaged {
        /// Which rungs.
        rungs: Vec<RungKey>,
    },
    /// There was no room left on the disk.
    DiskFull,
    /// The port was taken.
    PortTaken,
    /// Nobody listened, and services of the ladder do not run.
    Stopped {
        /// Which ones.
        services: Vec<String>,
    },
    /// It wanted the network, from which it is kept.
    WantsNetwork,
    /// It wanted to write where it may not.
    WantsToWrite {
        /// Where.
        path: String,
    },
}
