//! Keeping a process to its own folders, by the kernel's Landlock where there is one (Linux 5.13 and later).
//!
//! What may be read is the system's own folders and what is named; what may be written is what is named, and nothing may
//! be connected to or listened on by TCP (Linux 6.7 and later). A restriction belongs to the thread that takes it on and
//! to what that thread starts, so it is taken on by a thread made for this.

use std::fmt;
use std::io;
use std::path::PathBuf;
use std::process::{Child, Command};
use std::thread;

/// What a process was kept from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Confined {
    /// From all files but its own and the system's, and from TCP.
    FilesAndNetwork,
    /// From all files but its own and the system's.
    Files,
    /// From nothing: this kernel cannot.
    Nothing,
}

impl fmt::Display for Confined {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::FilesAndNetwork => "kept to its folder, without network",
            Self::Files => "kept to its folder; this kernel cannot keep it from the network",
            Self::Nothing => "not confined: this kernel cannot",
        })
    }
}

impl Confined {
    /// What a process can be kept from on this machine; found out by a thread that confines itself and ends.
    pub fn here() -> Self {
        let tried = thread::spawn(|| Cell::default().enter()).join();
        tried.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    }
}

/// The folders that a process has.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    /// What it may read and run, besides the system's own.
    pub reads: Vec<PathBuf>,
    /// What it may write.
    pub writes: Vec<PathBuf>,
}

impl Cell {
    /// Starts a command within.
    ///
    /// # Errors
    /// Those of starting a process. That it could not be confined is no error, and is told.
    pub fn spawn(&self, command: &mut Command) -> io::Result<(Child, Confined)> {
        thread::scope(|scope| {
            let started = scope.spawn(|| {
                let confined = self.enter();
                command.spawn().map(|child| (child, confined))
            });
            started.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        })
    }

    /// Confines this thread, and whatever it starts.
    #[cfg(target_os = "linux")]
    fn enter(&self) -> Confined {
        // Best effort is the library's own rule: what this kernel does not know is left out, and told.
        linux::restrict(self).unwrap_or(Confined::Nothing)
    }

    #[cfg(not(target_os = "linux"))]
    fn enter(&self) -> Confined {
        Confined::Nothing
    }
}

#[cfg(target_os = "linux")]
mod linux {
    use std::fs;
    use std::path::PathBuf;

    use landlock::{
        ABI, Access, AccessFs, AccessNet, LandlockStatus, Ruleset, RulesetAttr, RulesetCreatedAttr, RulesetError,
        RulesetStatus, path_beneath_rules,
    };

    use super::{Cell, Confined};

    /// The newest rules that are asked for.
    const NEWEST: ABI = ABI::V5;
    /// Where people's own files are, or other programs' state: not the system's.
    const NOT_THE_SYSTEMS: [&str; 8] = ["home", "root", "tmp", "mnt", "media", "srv", "run", "var"];
    /// Devices that every program may use.
    const DEVICES: [&str; 6] = ["/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom", "/dev/tty"];

    pub(super) fn restrict(cell: &Cell) -> Result<Confined, RulesetError> {
        let devices = AccessFs::ReadFile | AccessFs::WriteFile;
        let status = Ruleset::default()
            .handle_access(AccessFs::from_all(NEWEST))?
            .handle_access(AccessNet::from_all(NEWEST))?
            .create()?
            .add_rules(path_beneath_rules(systems(), AccessFs::from_read(NEWEST)))?
            .add_rules(path_beneath_rules(&cell.reads, AccessFs::from_read(NEWEST)))?
            .add_rules(path_beneath_rules(DEVICES, devices))?
            .add_rules(path_beneath_rules(&cell.writes, AccessFs::from_all(NEWEST)))?
            .restrict_self()?;
        let network =
            matches!(status.landlock, LandlockStatus::Available { effective_abi, .. } if effective_abi >= ABI::V4);
        Ok(match status.ruleset {
            RulesetStatus::NotEnforced => Confined::Nothing,
            _ if network => Confined::FilesAndNetwork,
            _ => Confined::Files,
        })
    }

    fn systems() -> Vec<PathBuf> {
        let top = fs::read_dir("/").into_iter().flatten().filter_map(Result::ok);
        let is_systems = |entry: &fs::DirEntry| !NOT_THE_SYSTEMS.iter().any(|name| entry.file_name() == *name);
        top.filter(is_systems).map(|entry| entry.path()).collect()
    }
}
