//! What is put into shells: a launcher for each command of any ladder, the table that says which ladder counts where, and
//! what shells read when they start.
//!
//! ```text
//! wired/commands/...      a launcher for each command that some current landing has
//! wired/ladders.table     the ladders that were climbed
//! wired/start.sh          read by sh, bash, zsh, ksh and their like: PATH, and the variables of the workstation's ladder
//! wired/start.fish        the same for fish
//! wired/share/...         manual pages and completions, laid out as /usr/share is
//! wired/before/...        start-up files as they were before they were wired
//! wired/offered           there once the person was asked
//! ```
//!
//! What shells read can fail nowhere, whatever options they were started with: it asks before it sets, and sets nothing twice.
//!
//! | in the file | for whom |
//! |---|---|
//! | the folder of commands first on PATH | every shell; one that has it first already stays as it is |
//! | where completions are (`XDG_DATA_DIRS`, `FPATH`) | every shell; manual pages are found beside the commands |
//! | the variables of the workstation's ladder | every shell |
//! | since when it is wired (`KLADDER_WIRED`) | bare `kladder`, which tells a terminal that is older |
//! | lines of the workstation's rungs | interactive shells |
//! | who would bring a command that is not there | interactive shells, where the settings want it |
//! | short names | interactive shells, where the name means nothing there yet |
//!
//! It follows from the landings alone, so whoever may write makes it anew after each switch, and whoever finds it at odds with
//! them mends it. A shell finds new commands without starting anew, since the folder stays the same.

mod share;

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::fs;
use std::path::{Path, PathBuf};

use kladder_choose::catalog::LinesFor;
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_launch::ladders::{Ladders, Project};
use kladder_launch::{COMMANDS, ENTERED, LADDERS, TABLE, WIRED, table};

use super::landing::{LandedRung, Landings};
use super::launchers::{self, launcher_differs};
use super::whose::Whose;
use crate::base::dialect::Dialect;
use crate::base::event::RungName;
use crate::base::files::{self, FileError};
use crate::settings::Home;

/// The variable by which a shell shows that it was wired, and since when.
pub const SINCE: &str = "KLADDER_WIRED";

/// What stands in the folder of a home.
#[derive(Clone, Debug)]
pub struct Wired {
    folder: PathBuf,
    data: PathBuf,
    ladders: PathBuf,
    own: PathBuf,
    /// Whether shells tell who would bring a command that is not there.
    tells: bool,
}

/// The file of a landing that an interactive shell reads, relative to the landing's folder.
pub fn lines_file(shell: LinesFor) -> PathBuf {
    ["lines.", shell.as_str()].concat().into()
}

/// What a wired command starts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Behind {
    /// The project whose ladder has it; `None` for the workstation's own.
    pub project: Option<PathBuf>,
    /// The rung.
    pub rung: Option<RungName>,
    /// The file.
    pub program: PathBuf,
}

/// What should stand there.
struct Wanted {
    commands: BTreeSet<OsString>,
    files: Vec<(PathBuf, Vec<u8>)>,
    share: share::Links,
}

/// What an interactive shell does with a command that is not there: after its own words, those of the catalog. A person's own
/// way of doing that stays.
fn told(dialect: Dialect) -> &'static str {
    match dialect {
        Dialect::Fish => {
            "if status is-interactive; and string match -qr -- '/share/fish/|^n/a$' (functions --details fish_command_not_found)
    function fish_command_not_found
        __fish_default_command_not_found_handler $argv[1]
        command -q kladder; and kladder search --command $argv[1] 2>/dev/null
    end
end
"
        }
        _ => {
            "case \"${BASH_VERSION:+$-}${ZSH_VERSION:+$-}\" in *i*)
    command -v command_not_found_handle >/dev/null 2>&1 || command_not_found_handle() {
        printf '%s: command not found\\n' \"$1\" >&2
        command -v kladder >/dev/null 2>&1 && kladder search --command \"$1\" 2>/dev/null
        return 127
    }
    command -v command_not_found_handler >/dev/null 2>&1 || command_not_found_handler() { command_not_found_handle \"$@\"; } ;;
esac
"
        }
    }
}

/// The short names of a landing's ladder.
fn aliases(landings: &Landings) -> BTreeMap<String, String> {
    let text = landings.current_number().and_then(|number| landings.ladder(number).ok());
    // It was read when the landing was made; an older program's may be written in another way.
    let ladder = text.and_then(|text| Ladder::parse(&Source::new("ladder.toml", text)).ok());
    ladder.map(|ladder| ladder.aliases).unwrap_or_default()
}

/// What the tools of a landing bring along for shells and man.
fn shared(landings: &Landings, share: &mut share::Links) {
    for rung in landings.usable().map(|landing| landing.rungs).unwrap_or_default() {
        share::add(&rung.berth.unwrap_or_else(|| rung.folder.join("files")), share);
    }
}

impl Wired {
    /// That of a home.
    pub fn of(home: &Home) -> Self {
        let (folder, ladders) = (home.data.join(WIRED), home.ladders());
        // Settings that cannot be read are told of by whoever needs them.
        let tells = home.settings().is_ok_and(|settings| settings.tell_commands);
        Self { folder, data: home.data.clone(), ladders, own: home.ladder(), tells }
    }

    /// The folder of commands, for the front of PATH.
    pub fn commands(&self) -> PathBuf {
        self.folder.join(COMMANDS)
    }

    /// The folder of manual pages and completions, laid out as /usr/share is.
    pub fn share(&self) -> PathBuf {
        self.folder.join("share")
    }

    /// What a shell reads when it starts.
    pub fn start_file(&self, dialect: Dialect) -> PathBuf {
        self.folder.join(if dialect == Dialect::Fish { "start.fish" } else { "start.sh" })
    }

    /// What [`SINCE`] is in shells that start now: the number of the workstation's landing, 0 where it has none.
    pub fn since(&self) -> String {
        self.own_landings().and_then(|own| own.current_number()).unwrap_or(0).to_string()
    }

    fn own_landings(&self) -> Option<Landings> {
        self.own.exists().then(|| Landings::of(&self.ladders, &self.own))
    }

    /// What a wired command starts in a folder; `None` where no ladder that counts there has it.
    pub fn behind(&self, command: &OsStr, folder: &Path) -> Option<Behind> {
        let ladders = Ladders::of_bytes(&fs::read(self.folder.join(LADDERS)).ok()?)?;
        let project = ladders.project(folder).map(|project| (&project.landings, Some(project.folder.clone())));
        let own = ladders.own.as_ref().map(|own| (own, None));
        project.into_iter().chain(own).find_map(|(landings, project)| {
            let landings = Landings::at(landings);
            let found = table::find(&fs::read(landings.current_link().join(TABLE)).ok()?, command).ok()??;
            let program = found.entry.program;
            let rungs = landings.usable().map(|landing| landing.rungs).unwrap_or_default();
            let is_its = |rung: &LandedRung| {
                let folders = [Some(rung.folder.as_path()), rung.berth.as_deref()];
                folders.into_iter().flatten().any(|folder| program.starts_with(folder))
            };
            let rung = rungs.iter().find(|rung| is_its(rung)).map(LandedRung::name);
            Some(Behind { project, rung, program })
        })
    }

    /// Whether it was never offered to wire the shells; now it was.
    pub fn offer_once(&self) -> bool {
        let mark = self.folder.join("offered");
        // Where it cannot be written down, nothing is offered, and so not again and again.
        !mark.exists() && files::create_folder(&self.folder).is_ok() && fs::write(&mark, b"").is_ok()
    }

    /// A word for the ladder that counts in a folder: the name of the project's folder, or `workstation`; `None` where none does.
    pub fn badge(&self, folder: &Path) -> Option<String> {
        let ladders = Ladders::of_bytes(&fs::read(self.folder.join(LADDERS)).ok()?)?;
        let named = |project: &Project| project.folder.file_name().map(|name| name.to_string_lossy().into_owned());
        ladders.project(folder).and_then(named).or_else(|| ladders.own.map(|_| "workstation".to_owned()))
    }

    /// Whether it is what follows from the landings, as far as a glance tells.
    pub fn is_true(&self) -> bool {
        let Ok(wanted) = self.wanted() else { return true };
        let is_folder = |path: &Path| fs::symlink_metadata(path).is_ok_and(|meta| meta.is_dir());
        if !is_folder(&self.folder) || !is_folder(&self.commands()) {
            return false;
        }
        let names: BTreeSet<OsString> = files::names(&self.commands()).unwrap_or_default().into_iter().collect();
        names == wanted.commands
            && names.iter().all(|name| launcher_differs(&self.commands().join(name), false).is_none())
            && share::are_there(&self.share(), &wanted.share)
            && wanted.files.iter().all(|(path, bytes)| files::read(path).is_ok_and(|there| there == *bytes))
    }

    /// Makes it what follows from the landings. Whoever calls this is the only one who writes.
    ///
    /// # Errors
    /// [`FileError`] where something cannot be read or written; what could be done is done.
    pub fn refresh(&self) -> Result<(), FileError> {
        if self.is_true() {
            return Ok(());
        }
        let wanted = self.wanted()?;
        let commands = self.commands();
        // A link would lead into a folder of somebody else's, whose names are none of these.
        for folder in [&self.folder, &commands] {
            if fs::symlink_metadata(folder).is_ok_and(|meta| !meta.is_dir()) {
                files::remove_tree(folder)?;
            }
        }
        files::create_folder(&commands)?;
        // The table first: a launcher never finds less than what its landing has.
        for (path, bytes) in &wanted.files {
            if fs::symlink_metadata(path).is_ok_and(|meta| !meta.is_file()) {
                files::remove_tree(path)?;
            }
            files::replace(path, bytes)?;
        }
        for name in files::names(&commands)?.iter().filter(|name| !wanted.commands.contains(*name)) {
            files::remove_tree(&commands.join(name))?;
        }
        share::put(&self.share(), &wanted.share)?;
        let program = launchers::at(&self.data)?;
        for name in wanted.commands {
            let link = commands.join(name);
            if launcher_differs(&link, false).is_some() {
                files::remove_tree(&link)?;
                launchers::put(&program, &link)?;
            }
        }
        Ok(())
    }

    fn wanted(&self) -> Result<Wanted, FileError> {
        let own = self.own_landings().filter(|own| own.current_number().is_some());
        let mut ladders = Ladders { own: own.as_ref().map(|own| own.folder().to_path_buf()), projects: Vec::new() };
        let mut commands = BTreeSet::new();
        let mut share = share::Links::new();
        if let Some(own) = &own {
            shared(own, &mut share);
        }
        for landings in Landings::everywhere(&self.ladders)? {
            let (table, entered) = (landings.current_link().join(TABLE), landings.current_link().join(ENTERED));
            // A landing that cannot be read is told by whoever uses it; its ladder still counts.
            let names = |table: &Path| fs::read(table).ok().and_then(|bytes| table::commands(&bytes).ok());
            let names = names(&table).into_iter().chain(names(&entered)).flatten();
            if landings.current_number().is_none() {
                continue;
            }
            if ladders.own.as_deref() == Some(landings.folder()) {
                commands.extend(names);
                continue;
            }
            let Some(whose) = Whose::read(landings.folder()).filter(|whose| whose.ladder.ends_with("ladder.toml"))
            else {
                continue;
            };
            commands.extend(names);
            shared(&landings, &mut share);
            let folder = whose.ladder.parent().unwrap_or(Path::new("/")).to_path_buf();
            ladders.projects.push(Project { folder, identity: whose.identity(), landings: landings.folder().into() });
        }
        let files = vec![
            (self.folder.join(LADDERS), ladders.to_bytes()),
            (self.start_file(Dialect::Posix), self.start(Dialect::Posix, own.as_ref())),
            (self.start_file(Dialect::Fish), self.start(Dialect::Fish, own.as_ref())),
        ];
        Ok(Wanted { commands, files, share })
    }

    /// What a shell reads: nothing that stands there can fail, whatever options the shell has.
    fn start(&self, dialect: Dialect, own: Option<&Landings>) -> Vec<u8> {
        let commands = self.commands();
        let word = dialect.word(commands.as_os_str());
        let mut text = b"# Written by kladder whenever a landing becomes current.\n".to_vec();
        let lines: [&[u8]; 5] = match dialect {
            Dialect::Fish => [b"if test \"$PATH[1]\" != ", &word, b"\n    set -gx PATH ", &word, b" $PATH\nend\n"],
            _ => [
                b"case \"${PATH-}\" in\n    ",
                &word,
                b":*) ;;\n    *) export PATH=",
                &word,
                b"\"${PATH:+:$PATH}\" ;;\nesac\n",
            ],
        };
        text.extend(lines.concat());
        text.extend(self.share_lines(dialect));
        let bytes = own.and_then(|own| fs::read(own.current_link().join(TABLE)).ok());
        let variables = bytes.and_then(|bytes| table::variables(&bytes).ok()).unwrap_or_default();
        text.extend(dialect.set_all(&variables));
        text.extend(dialect.set(OsStr::new(SINCE), OsStr::new(&self.since())));
        text.extend(own.map(|own| Self::lines(dialect, own)).unwrap_or_default());
        if self.tells {
            text.extend(told(dialect).as_bytes());
        }
        let aliases = own.map(aliases).unwrap_or_default();
        text.extend(aliases.iter().flat_map(|(name, stands_for)| dialect.alias(name, stands_for)));
        text
    }

    /// Reads the lines of the workstation's landing, in interactive shells that have some.
    fn lines(dialect: Dialect, own: &Landings) -> Vec<u8> {
        let mut text = Vec::new();
        for shell in LinesFor::ALL.into_iter().filter(|shell| (*shell == LinesFor::Fish) == (dialect == Dialect::Fish))
        {
            let file = own.current_link().join(lines_file(shell));
            if !file.is_file() {
                continue;
            }
            let word = dialect.word(file.as_os_str());
            let [is_this, read]: [&[u8]; 2] = match shell {
                LinesFor::Fish => [b"status is-interactive; and test -r ", b"; and source "],
                LinesFor::Bash => [b"case \"${BASH_VERSION:+$-}\" in *i*) [ -r ", b" ] && command . "],
                LinesFor::Zsh => [b"case \"${ZSH_VERSION:+$-}\" in *i*) [ -r ", b" ] && . "],
            };
            let end: &[u8] = if shell == LinesFor::Fish { b"\n" } else { b" ;; esac\n" };
            text.extend([is_this, &word, read, &word, end].concat());
        }
        text
    }

    /// Where manual pages and completions are found. man looks beside the commands by itself.
    fn share_lines(&self, dialect: Dialect) -> Vec<u8> {
        let share = self.share();
        if dialect == Dialect::Fish {
            let folder = dialect.word(share.join("fish/vendor_completions.d").as_os_str());
            let lines: [&[u8]; 5] = [
                b"contains -- ",
                &folder,
                b" $fish_complete_path; or set -g fish_complete_path ",
                &folder,
                b" $fish_complete_path\n",
            ];
            return lines.concat();
        }
        let (data, functions) =
            (dialect.word(share.as_os_str()), dialect.word(share.join("zsh/site-functions").as_os_str()));
        let lines: [&[u8]; 7] = [
            b"case \"${XDG_DATA_DIRS-}\" in\n    ",
            &data,
            b":*) ;;\n    *) export XDG_DATA_DIRS=",
            &data,
            b":\"${XDG_DATA_DIRS:-/usr/local/share:/usr/share}\" ;;\nesac\nif [ -n \"${ZSH_VERSION-}\" ]; then FPATH=",
            &functions,
            b"\"${FPATH:+:$FPATH}\"; fi\n",
        ];
        lines.concat()
    }
}
