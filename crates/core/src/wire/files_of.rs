//! Which files a person's shells read when they start, by each shell's own documentation: bash(1) INVOCATION, zsh(1) STARTUP
//! FILES, fish(1), and sh in POSIX.1-2017 (`.profile` by custom, `ENV`); environment.d(5) for what starts outside shells.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use crate::base::dialect::Dialect;
use crate::host::survey::{Host, Shells};

/// A kind of shell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Shell {
    /// bash.
    Bash,
    /// zsh.
    Zsh,
    /// fish.
    Fish,
    /// The system's sh, and others that read what it reads: dash, ksh.
    Sh,
    /// No shell: programs that the session starts.
    Session,
}

impl Shell {
    /// All that are wired.
    pub const ALL: [Self; 4] = [Self::Bash, Self::Zsh, Self::Fish, Self::Sh];

    /// The kind of a program of this name.
    pub fn of(program: &Path) -> Option<Self> {
        match program.file_name()?.to_str()?.trim_start_matches('-') {
            "bash" | "rbash" => Some(Self::Bash),
            "zsh" => Some(Self::Zsh),
            "fish" => Some(Self::Fish),
            "sh" | "dash" | "ash" | "ksh" | "ksh93" | "mksh" => Some(Self::Sh),
            _ => None,
        }
    }

    /// Its name.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Bash => "bash",
            Self::Zsh => "zsh",
            Self::Fish => "fish",
            Self::Sh => "sh",
            Self::Session => "session",
        }
    }

    /// The language it speaks.
    pub fn dialect(self) -> Dialect {
        if self == Self::Fish { Dialect::Fish } else { Dialect::Posix }
    }

    /// The lines of its block: they read another file, and whatever that holds, the shell starts.
    pub fn lines(self, start_file: &Path) -> Vec<u8> {
        let word = self.dialect().word(start_file.as_os_str());
        let [before, between, after]: [&[u8]; 3] = match self {
            Self::Fish => [b"test -r ", b"; and source ", b"\n"],
            Self::Zsh => [b"if [[ -r ", b" ]]; then source ", b"; fi\n"],
            // By way of `command`, a mistake in the file does not end the shell (POSIX.1-2017, 2.14 and `command`).
            _ => [b"if [ -r ", b" ]; then command . ", b"; fi\n"],
        };
        [before, &word, between, &word, after].concat()
    }
}

/// What decides which files are read.
#[derive(Clone, Debug, Default)]
pub struct Surroundings {
    /// The person's home.
    pub home: PathBuf,
    /// The shell that the session names (`SHELL`).
    pub shell: Option<PathBuf>,
    /// Where zsh looks, where that is not the home (`ZDOTDIR`).
    pub zsh: Option<PathBuf>,
    /// Where settings are (`XDG_CONFIG_HOME`), where that is not `.config`.
    pub settings: Option<PathBuf>,
    /// What sh reads when it is interactive (`ENV`).
    pub interactive: Option<PathBuf>,
}

/// A file that some shells read when they start.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StartFile {
    /// Where it is.
    pub path: PathBuf,
    /// In whose language.
    pub shell: Shell,
}

impl Surroundings {
    fn settings(&self) -> PathBuf {
        self.settings.clone().unwrap_or_else(|| self.home.join(".config"))
    }

    /// The files that a kind of shell reads here, those that need not be there only where they are.
    pub(super) fn files(&self, shell: Shell) -> Vec<PathBuf> {
        let zsh = self.zsh.as_ref().unwrap_or(&self.home);
        let there = |path: PathBuf| std::fs::symlink_metadata(&path).is_ok().then_some(path);
        let profile = self.home.join(".profile");
        match shell {
            Shell::Bash => {
                // A login shell reads the first of these that is there, and no other.
                let logins = [".bash_profile", ".bash_login"].map(|name| self.home.join(name));
                vec![self.home.join(".bashrc"), logins.into_iter().find_map(there).unwrap_or(profile)]
            }
            Shell::Zsh => {
                let all = [Some(zsh.join(".zshenv")), there(zsh.join(".zprofile")), Some(zsh.join(".zshrc"))];
                all.into_iter().flatten().collect()
            }
            Shell::Fish => vec![self.settings().join("fish/config.fish")],
            Shell::Sh => {
                let own = self.interactive.clone().filter(|file| file.starts_with(&self.home)).and_then(there);
                let all = [Some(profile), there(self.home.join(".kshrc")), own];
                all.into_iter().flatten().collect()
            }
            Shell::Session => vec![self.settings().join("environment.d/60-kite-ladder.conf")],
        }
    }

    /// The files that a new shell of a kind reads here, as a terminal or a login starts it.
    pub fn read_by(&self, shell: Shell, is_login: bool) -> Vec<StartFile> {
        // What sh reads without a login stands in a variable.
        let is_nothing = shell == Shell::Sh && !is_login && self.interactive.is_none();
        let files = if is_nothing { Vec::new() } else { self.files(shell) };
        files.into_iter().map(|path| StartFile { path, shell }).collect()
    }

    /// Every file that could hold a block.
    pub fn all(&self) -> Vec<StartFile> {
        let further = [".bash_profile", ".bash_login", ".profile", ".zprofile"].map(|name| self.home.join(name));
        let shells = [Shell::Bash, Shell::Zsh, Shell::Fish, Shell::Sh, Shell::Session];
        let named = shells.into_iter().flat_map(|shell| self.files(shell).into_iter().map(move |path| (path, shell)));
        each_once(named.chain(further.map(|path| (path, Shell::Sh))))
    }

    /// The files to wire: of the person's own shell, of those that were asked for, and of each installed one that has
    /// something in the home already; and of the session, where this system has a place for it.
    pub fn to_wire(&self, shells: &Shells, asked: &[Shell], host: &Host) -> Vec<StartFile> {
        let own = [self.shell.as_deref(), shells.login.as_deref()].into_iter().flatten().filter_map(Shell::of);
        let own: Vec<Shell> = own.collect();
        let installed: Vec<Shell> = shells.installed.iter().filter_map(|shell| Shell::of(shell)).collect();
        let is_used = |shell: Shell| self.files(shell).iter().any(|path| std::fs::symlink_metadata(path).is_ok());
        let counts = |shell: Shell| {
            own.contains(&shell) || asked.contains(&shell) || (installed.contains(&shell) && is_used(shell))
        };
        let mut wired: Vec<Shell> = Shell::ALL.into_iter().filter(|&shell| counts(shell)).collect();
        // Where systemd runs, it starts what no shell starts.
        if host.root.join("run/systemd/system").is_dir() {
            wired.push(Shell::Session);
        }
        each_once(wired.into_iter().flat_map(|shell| self.files(shell).into_iter().map(move |path| (path, shell))))
    }
}

/// Files without those that are the same behind their links.
fn each_once(named: impl Iterator<Item = (PathBuf, Shell)>) -> Vec<StartFile> {
    let mut seen = BTreeSet::new();
    let is_new = |(path, _): &(PathBuf, Shell)| seen.insert(path.canonicalize().unwrap_or_else(|_| path.clone()));
    named.filter(is_new).map(|(path, shell)| StartFile { path, shell }).collect()
}
