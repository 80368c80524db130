//! What can be typed. Reading it does no I/O.

mod sharing;

use std::ffi::OsString;
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use kladder_choose::ladder::HostPolicy;
use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_core::wire::Shell;

pub(crate) use self::sharing::{BaleOptions, CompareOptions, ReportForm, ReportOptions, YardCommand};

/// One file says what a workstation must have; one command brings the machine there, bottom rung first.
#[derive(Debug, Parser)]
#[command(name = "kladder", version, help_template = HELP, disable_help_subcommand = true)]
pub(crate) struct Arguments {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
}

const HELP: &str = "\
{about-with-newline}
Usage: kladder [OPTIONS] [COMMAND]
       kladder   where this machine stands, and what to do next

First day:
  demo      The whole story on made-up data, in a throw-away home
  survey    What this machine is and has
  start     A few questions, and a commented ladder.toml
  search    The catalog's tools that have these words
  about     One tool of the catalog: releases, pieces, needs, licence
  pin       Resolve the ladder's wishes to exact versions with digests
  route     What a climb would do, in order
  climb     Fetch, verify, unpack, wire and check every rung, then land
  wire      Put the ladders' commands into your shells
  verify    Run every check and rehearsal
  rehearse  A rehearsal as a first project, in a folder to keep

Every day:
  add       Wish for a tool, and pin
  drop      Take a wish back, and pin
  run       Run one command with the ladder's tools
  vars      The ladder's variables, for a shell
  services  The ladder's services: which run, where; start and stop them
  why       Why a rung is there, and who answers to a command
  newer     What has come out since the pins, and take it
  landings  The states there have been, and what changed
  back      Return to an earlier landing, its pins too
  log       What the last climb did, step by step
  clear     What nothing uses any more, and remove it
  terms     Licences that were accepted
  unwire    Take what `wire` put into your shells out again

Sharing:
  bale      Ladder, pins, catalog and artifacts in one file, for machines with no network
  report    This workstation as a table, a list of materials (CycloneDX, SPDX), or a file to compare
  compare   Two workstations side by side, or a room of them: who is otherwise, and whether it matters
  yard      A folder of artifacts for other machines: fill it, check it, serve it

Keeping catalogs:
  catalog   Which catalogs there are; check one, see what makers have published, enter and try releases

Options of every command:
  --ladder FILE    The ladder to go by; otherwise the nearest ladder.toml upwards, else the workstation's own
  --catalog WHERE  A catalog's folder or address, instead of those of ladder and settings; may be repeated
  --yard YARD      A folder or address to fetch from, instead of those in the settings; may be repeated
  --offline        Use only what is in the cache and in yards that are folders
  --wait SECONDS   How long to wait for another kladder that works on the same home; otherwise without an end
  --root FOLDER    Take the facts about the host from a folder laid out like /, instead of from this machine
  --json           Print JSON with a versioned shape instead of text
  --quiet, -q      Print errors only
  --color WHEN     auto, always or never; NO_COLOR is respected
  --help, -h       This, or what a command does; --version, -V tells which kladder this is

`kladder COMMAND --help` tells more; `kladder help codes` the exit codes, `kladder help formats` the shapes of JSON.
";

/// What stands below the help of each command.
pub(crate) const MORE: &str = "Options of every command, like --json and --offline: `kladder --help`";

/// Options of every command.
#[derive(Debug, Clone, Args)]
pub(crate) struct Global {
    /// The ladder to go by; otherwise the nearest ladder.toml upwards, else the workstation's own
    #[arg(long, global = true, hide = true, value_name = "FILE")]
    pub(crate) ladder: Option<PathBuf>,
    /// A catalog to choose from, instead of those of the ladder and the settings; may be given several times
    #[arg(long = "catalog", global = true, hide = true, value_name = "CATALOG")]
    pub(crate) catalogs: Vec<PathBuf>,
    /// A folder or address to fetch artifacts from, instead of those in the settings; may be given several times
    #[arg(long = "yard", global = true, hide = true, value_name = "YARD")]
    pub(crate) yards: Vec<String>,
    /// Use only what is in the cache and in yards that are folders
    #[arg(long, global = true, hide = true)]
    pub(crate) offline: bool,
    /// How long to wait for another kladder that works on the same home, in seconds; otherwise without an end
    #[arg(long, global = true, hide = true, value_name = "SECONDS")]
    pub(crate) wait: Option<u64>,
    /// Take the facts about the host from a folder laid out like /, instead of from this machine
    #[arg(long, global = true, hide = true, value_name = "FOLDER")]
    pub(crate) root: Option<PathBuf>,
    /// Print JSON with a versioned shape instead of text
    #[arg(long, global = true, hide = true)]
    pub(crate) json: bool,
    /// Print errors only
    #[arg(long, short, global = true, hide = true)]
    pub(crate) quiet: bool,
    /// Whether to colour; `NO_COLOR` is respected
    #[arg(long, global = true, hide = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: When,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum When {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Exit codes (`codes`), the shapes of JSON (`formats`), one of these, or what a command does
    #[command(hide = true)]
    Help {
        /// What to tell of
        topic: Option<String>,
    },
    /// The whole story on made-up data, in a throw-away home
    Demo {
        /// Forty rungs instead: only the route and the climb
        #[arg(long)]
        large: bool,
        /// Lay it out in this new folder and leave it there to play with
        #[arg(long, value_name = "FOLDER")]
        keep: Option<PathBuf>,
    },
    /// What this machine is and has: system, processor, memory, disk, rights, graphics, tools that are there already
    Survey,
    /// A guided start: answer a few questions and get a commented ladder.toml
    ///
    /// Without a terminal, name a preset, and give what differs from its defaults in a file of answers.
    Start(StartOptions),
    /// One tool of the catalog: series, releases, pieces, needs, licence, sizes, platforms
    About {
        /// The tool
        tool: String,
    },
    /// The catalog's tools that have these words in their name, commands, capabilities or summary
    Search {
        /// Words that must all be found; without any, every tool is listed
        #[arg(value_name = "WORD")]
        words: Vec<String>,
        /// Only the tools that bring this command, in a sentence
        #[arg(long, value_name = "COMMAND", conflicts_with = "words")]
        command: Option<String>,
    },
    /// Wish for a tool in ladder.toml, or change the wish, and pin
    ///
    /// Comments and order of the file stay. Nothing is written when the wishes cannot be met together.
    Add(AddOptions),
    /// Take a wish out of ladder.toml, and pin
    Drop {
        /// The tool or capability
        tool: String,
    },
    /// Why a rung is there and why at that version; or who answers to a command, in which terminal, and why
    Why {
        /// The rung's tool, or a command
        #[arg(value_name = "TOOL or COMMAND")]
        tool: String,
        /// Take it for a command, also where a tool is called so
        #[arg(long)]
        command: bool,
    },
    /// What has come out since the pins: what fits the ladder, the newest in its series, and at all
    Newer(NewerOptions),
    /// Resolve the ladder's wishes to exact versions with digests, and write them beside it
    ///
    /// What is pinned stays put as long as the wishes allow it.
    Pin(PinOptions),
    /// What a climb would do, in order, bottom rung first; changes nothing
    Route {
        /// Print only the script with what an administrator must do first
        #[arg(long)]
        admin_script: bool,
    },
    /// Take this machine to what the pins say: fetch, verify, unpack, wire, check, land
    ///
    /// Pins first where the ladder has changed. Safe to repeat and to interrupt: the old landing stays current until
    /// the new one is complete.
    Climb(ClimbOptions),
    /// The landings of this ladder: when each was made, and what it changed
    Landings,
    /// Make an earlier landing current again, its pins too, so that the next climb does not undo it
    Back(BackOptions),
    /// What the last climb, verification or return did, step by step, with times and outputs
    Log {
        /// Another run than the last one
        #[arg(value_name = "RUN")]
        run: Option<i64>,
        /// List the runs that are remembered
        #[arg(long, conflicts_with = "run")]
        list: bool,
    },
    /// Show what no landing uses any more, and what has long been in the cache; remove it
    ///
    /// Asks first; without a terminal it only shows, unless `--yes` is given.
    Clear(ClearOptions),
    /// Run every check and rehearsal, compare every file, and see which file answers to each command
    Verify(VerifyOptions),
    /// A rehearsal as a first project, in a folder to keep: laid out, built and run; without a name, lists them
    ///
    /// In a folder that has the project already parts can be added, and what names a version of the ladder is written anew;
    /// files that you changed stay as they are.
    Rehearse(RehearseOptions),
    /// Run one command with the ladder's tools first on PATH and its variables set
    Run {
        /// With the libraries of this set, and its commands first on PATH
        #[arg(long, value_name = "NAME")]
        set: Option<ToolName>,
        /// The command and its arguments
        #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true, value_name = "CMD")]
        command: Vec<OsString>,
    },
    /// Put the ladders' commands into your shells, in every terminal and folder; shows the difference and asks first
    ///
    /// One block of lines goes into each file that your shells read when they start. From then on every command of a
    /// climbed ladder answers by its name: in a project that has a ladder its own version, elsewhere the workstation's.
    Wire(WireOptions),
    /// Take what `wire` put into your shells out again, byte for byte; shows the difference and asks first
    Unwire {
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
    /// The variables with which the ladder's commands start, and PATH with the commands in front
    Vars(VarsOptions),
    /// The services of the ladder, with state and ports; one of them: what it says and wrote
    Services(ServicesOptions),
    /// Licences that were accepted: which text, when, for which tools
    Terms {
        /// Without one: list them
        #[command(subcommand)]
        command: Option<TermsCommand>,
    },
    /// Everything that the ladder needs in one file, for `kladder climb --from FILE` on machines with no network
    Bale(BaleOptions),
    /// This workstation, told: its machine, its rungs, how they stand; as a table or a file
    Report(ReportOptions),
    /// Workstations side by side: what differs, what of it matters most, and who is the odd one out
    Compare(CompareOptions),
    /// A folder of artifacts: fill it with what the pins need, check it, serve it; take in files that you have fetched
    #[command(subcommand)]
    Yard(YardCommand),
    /// The catalogs: which ones, from where, how old; for keepers, to look after one
    Catalog {
        /// Without one: list them
        #[command(subcommand)]
        command: Option<CatalogCommand>,
    },
}

#[derive(Debug, Clone, Subcommand)]
pub(crate) enum CatalogCommand {
    /// Bring catalogs from elsewhere up to date
    Fetch,
    /// All that can be known of a catalog without running a tool, each with file, line and column
    Check {
        /// The catalog's folder; otherwise those of the ladder, or of the settings
        folder: Option<PathBuf>,
        /// Do not unpack the archives that are at hand, in the cache or in a folder, to see whether they have all commands
        #[arg(long)]
        without_archives: bool,
    },
    /// What makers have published that the definitions lack, as the indexes that they name tell
    Look {
        /// Only these tools; otherwise all whose files an index lists
        tools: Vec<ToolName>,
        /// Previews too
        #[arg(long)]
        previews: bool,
    },
    /// Write a first definition out of what a maker publishes: look into it, ask its programs for their versions, say what is guessed
    Draft {
        /// Files, addresses, or what an index calls them, as `index:NAME/PROJECT`
        #[arg(required = true, value_name = "FILE, ADDRESS or INDEX:NAME")]
        what: Vec<String>,
        /// Show it, and write nothing
        #[arg(long)]
        print: bool,
    },
    /// Write releases into a tool's definition: find their files, hash them, keep everything else as it is
    Enter {
        /// The tool
        tool: ToolName,
        /// The versions, as the tool says them
        #[arg(required = true)]
        versions: Vec<Version>,
        /// Take an index's word for digests that it lists, and fetch only what it lists none for
        #[arg(long)]
        as_listed: bool,
        /// Show what would be written, and write nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Climb and verify releases, each by itself in a home that is thrown away
    Try {
        /// Only these tools; otherwise all
        tools: Vec<ToolName>,
        /// Only the newest release of each
        #[arg(long)]
        newest: bool,
        /// How many to try at once; otherwise one for each core
        #[arg(long, value_name = "NUMBER")]
        at_once: Option<usize>,
    },
}

#[derive(Debug, Clone, Default, Args)]
pub(crate) struct PinOptions {
    /// Let a rung move to the newest that fits, or to this version; may be given several times
    #[arg(long = "move", value_name = "TOOL[=VERSION]")]
    pub(crate) moves: Vec<String>,
    /// Write nothing; fail when the pins are not what the ladder asks for
    #[arg(long, conflicts_with = "moves")]
    pub(crate) check: bool,
    /// How long to look for an answer before giving up, in seconds
    #[arg(long, value_name = "SECONDS")]
    pub(crate) within: Option<u64>,
}

#[derive(Debug, Clone, Default, Args)]
pub(crate) struct WireOptions {
    /// A shell to wire besides your own and those with files in your home; may be given several times
    #[arg(long = "shell", value_name = "SHELL")]
    pub(crate) shells: Vec<ShellName>,
    /// Print the lines for a shell, to put them somewhere by hand; write nothing
    #[arg(long, value_name = "SHELL", conflicts_with_all = ["shells", "yes"])]
    pub(crate) print: Option<ShellName>,
    /// Do not ask
    #[arg(long, short)]
    pub(crate) yes: bool,
}

/// Shells by their names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ShellName {
    Bash,
    Zsh,
    Fish,
    Sh,
    Powershell,
    Nushell,
}

impl ShellName {
    /// The shell, where its files are wired.
    pub(crate) fn wired(self) -> Option<Shell> {
        match self {
            Self::Bash => Some(Shell::Bash),
            Self::Zsh => Some(Shell::Zsh),
            Self::Fish => Some(Shell::Fish),
            Self::Sh => Some(Shell::Sh),
            Self::Powershell | Self::Nushell => None,
        }
    }
}

#[derive(Debug, Clone, Args)]
pub(crate) struct RehearseOptions {
    /// The rehearsal
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// The folder; otherwise one here, called as the rehearsal is
    #[arg(value_name = "FOLDER")]
    pub(crate) folder: Option<PathBuf>,
    /// An answer to what it asks; may be given several times
    #[arg(long = "answer", value_name = "NAME=VALUE", requires = "name")]
    pub(crate) answers: Vec<String>,
    /// A part to add; may be given several times
    #[arg(long = "part", value_name = "PART", requires = "name")]
    pub(crate) parts: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct VarsOptions {
    /// As lines that this shell takes, as JSON, or as a file of NAME=VALUE lines
    #[arg(long = "as", value_name = "FORM")]
    pub(crate) form: Option<Form>,
    /// With the libraries of this set, and its commands first on PATH
    #[arg(long, value_name = "NAME")]
    pub(crate) set: Option<ToolName>,
    /// Only a word for a prompt: the project whose ladder counts here, or `workstation`
    #[arg(long, conflicts_with_all = ["form", "set"])]
    pub(crate) badge: bool,
}

/// How variables are printed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Form {
    Sh,
    Bash,
    Zsh,
    Fish,
    Powershell,
    Nushell,
    Json,
    File,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct AddOptions {
    /// The tool or capability
    pub(crate) tool: String,
    /// A requirement like "1.4" or ">=2, <3", or a series
    #[arg(value_name = "WANTED")]
    pub(crate) wanted: Option<String>,
    /// An optional piece to take; may be given several times
    #[arg(long = "piece", value_name = "PIECE")]
    pub(crate) pieces: Vec<String>,
    /// Whether what the host has will do
    #[arg(long, value_name = "prefer|allow|never|only", value_parser = host_policy)]
    pub(crate) host: Option<HostPolicy>,
}

fn host_policy(text: &str) -> Result<HostPolicy, String> {
    let known = [HostPolicy::Prefer, HostPolicy::Allow, HostPolicy::Never, HostPolicy::Only];
    known.into_iter().find(|policy| policy.as_str() == text).ok_or_else(|| "prefer, allow, never or only".to_owned())
}

#[derive(Debug, Clone, Args)]
pub(crate) struct NewerOptions {
    /// These rungs only
    #[arg(value_name = "TOOL")]
    pub(crate) tools: Vec<String>,
    /// Move the rungs to what fits the ladder, and climb
    #[arg(long)]
    pub(crate) take: bool,
    #[command(flatten)]
    pub(crate) climb: ClimbOptions,
}

#[allow(clippy::struct_excessive_bools, reason = "each is an option of its own")]
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct ClimbOptions {
    /// Accept a licence by its name, for use in scripts; may be given several times
    #[arg(long = "accept-licence", value_name = "LICENCE")]
    pub(crate) accept: Vec<String>,
    /// Go on although this gate is closed; the landing records it; may be given several times
    #[arg(long = "skip-gate", value_name = "GATE")]
    pub(crate) skip_gates: Vec<String>,
    /// What only you can tell is done: a chore by the name of its gate; may be given several times
    #[arg(long = "chore-done", value_name = "GATE")]
    pub(crate) done: Vec<String>,
    /// Wait until administrators and others have done their chores, then go on
    #[arg(long)]
    pub(crate) wait_for_chores: bool,
    /// Climb what is in a bale: its ladder comes into this folder, its files need no network; may be given several times, the one
    /// with the ladder last
    #[arg(long, value_name = "BALE")]
    pub(crate) from: Vec<PathBuf>,
    /// Let a bale's ladder take the place of another one in this folder, which is kept under another name
    #[arg(long, requires = "from")]
    pub(crate) replace: bool,
    /// Ask machines of the room first, and give them what this one has
    #[arg(long)]
    pub(crate) neighbours: bool,
    /// Let the ladder's settings take the place of yours where they differ; yours are kept
    #[arg(long)]
    pub(crate) take_settings: bool,
    /// Run the rehearsals of its rungs afterwards
    #[arg(long)]
    pub(crate) rehearse: bool,
    /// Do not ask whether to go on
    #[arg(long, short)]
    pub(crate) yes: bool,
    /// Whoever climbs verifies afterwards, rehearsals too.
    #[arg(skip)]
    pub(crate) verified_afterwards: bool,
}

#[derive(Debug, Clone, Default, Args)]
pub(crate) struct VerifyOptions {
    /// Look at every program, library and script of each rung, and not only at what commands start
    #[arg(long)]
    pub(crate) deep: bool,
    /// Do what helps against what failed, and look again; asks before it changes what is yours
    #[arg(long)]
    pub(crate) mend: bool,
    /// With `--mend`: do not ask
    #[arg(long, short, requires = "mend")]
    pub(crate) yes: bool,
    /// Look at these rungs and rehearsals alone
    #[arg(long, value_name = "NAME", num_args = 1..)]
    pub(crate) only: Vec<String>,
    /// How much is looked at side by side; otherwise as much as there are cores
    #[arg(long, value_name = "NUMBER")]
    pub(crate) jobs: Option<std::num::NonZeroUsize>,
    /// Write what came of it to a file as JUnit XML, for build servers
    #[arg(long, value_name = "FILE")]
    pub(crate) junit: Option<PathBuf>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct BackOptions {
    /// The landing; otherwise the one before the current one
    #[arg(value_name = "LANDING")]
    pub(crate) number: Option<u32>,
    /// Make ladder.toml too what it was then; the present one is kept beside it
    #[arg(long)]
    pub(crate) with_ladder: bool,
}

fn size(text: &str) -> Result<u64, String> {
    kladder_core::settings::amount(text).ok_or_else(|| "a size is a number with kB, MB or GB".to_owned())
}

#[derive(Debug, Clone, Args)]
pub(crate) struct ClearOptions {
    /// Keep only so many landings of each ladder, the newest, and the current one; otherwise all
    #[arg(long, value_name = "NUMBER")]
    pub(crate) keep: Option<usize>,
    /// Keep artifacts in the cache that were used within so many days
    #[arg(long, value_name = "DAYS", default_value_t = 30)]
    pub(crate) idle: u64,
    /// Keep no more than this in the cache, like "5 GB"
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) cache: Option<u64>,
    /// Every trace of kladder on this machine: settings, shelf, landings, cache
    #[arg(long, conflicts_with_all = ["keep", "cache"])]
    pub(crate) all: bool,
    /// Do not ask
    #[arg(long, short)]
    pub(crate) yes: bool,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct StartOptions {
    /// The preset to start from; asked for on a terminal
    #[arg(long, value_name = "PRESET")]
    pub(crate) preset: Option<String>,
    /// A TOML file of answers; nothing is asked then
    #[arg(long, value_name = "FILE", requires = "preset")]
    pub(crate) answers: Option<PathBuf>,
    /// Take a colleague's ladder: a file, an http(s) address, or a version-control repository
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["preset", "answers", "catalogs"])]
    pub(crate) from: Option<String>,
    /// Make it this workstation's own ladder, instead of one in the current folder
    #[arg(long)]
    pub(crate) own: bool,
}

#[derive(Debug, Default, Clone, Args)]
pub(crate) struct ServicesOptions {
    /// One of them, otherwise all
    pub(crate) name: Option<String>,
    /// Start it, after those that it stands on
    #[arg(long)]
    pub(crate) start: bool,
    /// Stop it
    #[arg(long, conflicts_with = "start")]
    pub(crate) stop: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TermsCommand {
    /// Print a licence's text, as the catalog has it now
    Show {
        /// The licence's name
        licence: String,
    },
    /// Take an acceptance back; the next climb that needs it asks again
    Withdraw {
        /// The licence's name
        licence: String,
    },
}
