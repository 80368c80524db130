//! What was seen where something else was expected: facts, which become sentences elsewhere.

use std::path::PathBuf;

use kladder_choose::catalog::Anew;
use kladder_choose::names::RungKey;
use serde::{Deserialize, Serialize};

use super::Cause;

/// How a file differs from what is written down of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It is gone.
    Missing,
    /// Its bytes, its target or its kind are others.
    Changed,
    /// It may be run and should not, or the other way round; or it has set-user or set-group bits.
    Mode,
    /// It is another user's, who could change it.
    Owner,
    /// It is there although nothing says so.
    Extra,
}

/// A file that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Difference {
    /// Which one, below the folder that is looked at, or in whole.
    #[serde(with = "crate::base::record::path")]
    #[schemars(with = "String")]
    pub path: PathBuf,
    /// In what way.
    pub how: How,
}

/// What a claim was looked for in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "in", rename_all = "kebab-case")]
pub enum Looked {
    /// Standard output.
    Output,
    /// Standard error.
    Error,
    /// Both.
    Outputs,
    /// The screen of its terminal.
    Screen,
    /// A file.
    File {
        /// As the claim names it.
        file: String,
    },
}

/// A file that could not be loaded.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Unloadable {
    /// Below the rung's folder.
    #[serde(with = "crate::base::record::path")]
    #[schemars(with = "String")]
    pub path: PathBuf,
    /// Why.
    pub causes: Vec<Cause>,
}

/// A command to which something else answers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Shadow {
    /// As it is typed.
    pub command: String,
    /// A file, or what else the shell says; `None` where nothing does.
    pub by: Option<String>,
}

/// A program of the host that was started although nothing says that it is needed.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Undeclared {
    /// The program.
    #[serde(with = "crate::base::record::path")]
    #[schemars(with = "String")]
    pub program: PathBuf,
    /// The rung that started it, where it was one.
    pub by: Option<RungKey>,
}

/// What a command can take too much of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Much {
    /// Processes at one time.
    Processes,
    /// Memory.
    Memory,
}

/// What was seen where something else was expected.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(tag = "finding", rename_all = "kebab-case")]
pub enum Finding {
    /// Files are not as they should be.
    Differs {
        /// The first of them.
        differences: Vec<Difference>,
        /// How many there are in all.
        all: usize,
    },
    /// A place has no manifest that could be read, or none at all.
    NoManifest,
    /// It ended with another status.
    Status {
        /// The one it ended with; 128 and a signal's number where that ended it.
        status: i32,
        /// Those that would have done.
        expected: Vec<i32>,
    },
    /// It was still running after so many seconds.
    TooLong {
        /// Seconds.
        limit: u64,
    },
    /// It took too much of the machine, and was ended.
    TooMuch {
        /// Of what.
        of: Much,
        /// How much it might have taken: processes, or bytes.
        limit: u64,
    },
    /// Files could not be loaded.
    CannotLoad {
        /// The first of them.
        files: Vec<Unloadable>,
        /// How many there are in all.
        all: usize,
    },
    /// Something else answers to commands.
    Shadowed {
        /// To which, and what it is.
        commands: Vec<Shadow>,
    },
    /// It did not come to an end.
    Unasked,
    /// Other files that this shell reads have the lines that put the ladder into it, and this one lost them.
    NotWired {
        /// Which one.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        file: PathBuf,
    },
    /// What is demanded of the host is not so any more.
    Closed,
    /// Its text was not accepted, or not any more.
    NotAccepted,
    /// It was not started anew yet.
    Due {
        /// What must be.
        anew: Anew,
    },
    /// It is not as the ladder wants it, and nobody else has changed it.
    NotPlaced,
    /// A notebook kernel of its name starts something else.
    OtherKernel,
    /// It does not hold what follows from the landings.
    Stale,
    /// It cannot be read or changed.
    Unusable {
        /// Why.
        error: String,
    },
    /// It is earlier than when the landing was made.
    Behind {
        /// When that was.
        #[schemars(with = "String")]
        landing: jiff::Timestamp,
    },
    /// There is less left than what is needed to go on.
    Little {
        /// Bytes that are free.
        free: u64,
        /// Where.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        at: PathBuf,
    },
    /// Variables make programs do something else than they would.
    Misled {
        /// Which ones, and the rung whose programs; `None` where it is all of them.
        variables: Vec<(String, Option<RungKey>)>,
    },
    /// Programs of the host were started that nothing declares.
    Undeclared {
        /// Which ones.
        programs: Vec<Undeclared>,
    },
    /// What was expected is not there.
    NoMatch {
        /// Where it was looked for.
        looked: Looked,
        /// The pattern.
        pattern: String,
    },
    /// What must not be there is.
    Unwanted {
        /// Where it was found.
        looked: Looked,
        /// The pattern.
        pattern: String,
        /// What is like it.
        found: String,
    },
    /// A file that a claim is about cannot be read.
    NoFile {
        /// As the claim names it.
        file: String,
        /// What the system said.
        error: String,
    },
    /// It is no JSON.
    NoJson {
        /// What should be.
        looked: Looked,
        /// What its reader said.
        error: String,
    },
    /// A value in JSON is another one, or not there.
    OtherValue {
        /// Where it was looked for.
        looked: Looked,
        /// At which pointer (RFC 6901).
        pointer: String,
        /// What stands there.
        found: Option<String>,
        /// What was expected, in words.
        wanted: String,
    },
    /// It should have run on and ended.
    EndedEarly {
        /// The status it ended with.
        status: i32,
    },
    /// It runs, and has not said that it is up.
    NotUp {
        /// Seconds that it was given.
        limit: u64,
        /// What it should have said.
        pattern: String,
    },
    /// It runs, and is not ready.
    NotReady {
        /// Seconds that it was given.
        limit: u64,
    },
    /// It did not answer over its protocol.
    Silent {
        /// To what.
        to: String,
        /// Seconds that the talk might take.
        limit: u64,
    },
    /// It refused what it was asked over its protocol.
    Refused {
        /// What that was.
        to: String,
        /// What it said.
        said: String,
    },
    /// What it told has nothing that was looked for.
    NoneLike {
        /// The pattern.
        pattern: String,
        /// What it told, or some of it.
        seen: Vec<String>,
    },
    /// What it wrote is no message of its protocol.
    OutOfForm {
        /// The beginning of that.
        said: String,
    },
    /// Other machines can reach it, and are not to.
    Open,
    /// It tried to reach other machines, and is not to.
    Reached {
        /// Whom, as address and port.
        whom: Vec<String>,
    },
    /// It ends by itself, and is started again and again.
    Fails,
    /// It runs, and whoever kept it running was killed.
    NobodyKeeps,
    /// The system does not know a font.
    UnknownFont {
        /// Its file.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        file: PathBuf,
    },
    /// No window came up whose title is like that.
    NoWindow {
        /// The pattern.
        pattern: String,
        /// The titles of those that did.
        seen: Vec<String>,
    },
    /// It tells of other devices than the system does.
    OtherDevices {
        /// Those that it tells of.
        seen: Vec<String>,
        /// Those that the system does.
        there: Vec<String>,
    },
    /// All that must not come of it did.
    Holds,
    /// It says that it is another version.
    OtherVersion {
        /// What it says.
        said: String,
        /// What is pinned.
        pinned: String,
    },
    /// There is no such command.
    NoCommand {
        /// As it would be typed.
        command: String,
    },
    /// It could not be started.
    NotStarted {
        /// The command.
        command: String,
        /// What the system said.
        error: String,
    },
    /// The system would refuse to start it.
    CannotStart {
        /// The file behind the command.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        file: PathBuf,
    },
    /// No file answers to the command.
    NobodyAnswers,
    /// Another file answers to the command.
    OtherAnswers {
        /// That file.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        file: PathBuf,
    },
    /// It chooses another file than the ladder's.
    OtherChosen {
        /// What it said.
        file: String,
    },
    /// It runs, and has read its settings before they were changed.
    Outdated {
        /// The number of its process.
        process: i32,
    },
    /// The launcher is not the one that was put there.
    OtherLauncher,
    /// The launch table cannot be read, or does not have the command.
    NoEntry,
    /// The launch table starts another file, or with other arguments and variables.
    OtherEntry {
        /// The file that it starts.
        #[serde(with = "crate::base::record::path")]
        #[schemars(with = "String")]
        program: PathBuf,
    },
}
