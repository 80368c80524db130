//! A machine of its own for each test: the demo's catalog, desk and yard, an empty home, a clean environment.

use std::ffi::OsString;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;

use kladder_choose::platform::Platform;
use kladder_core::base::{digest, files};
use kladder_pack::{Entry, Format, pack};
use kladder_synth::Made;
use kladder_yard::{Rule, Settings, Yard};

/// The line of a definition that asks for the demo's licence.
pub const LICENCE: &str = "licence = \"neapstone-terms\"\n";

pub struct Sandbox {
    pub folder: PathBuf,
    pub yard: Yard,
}

impl Drop for Sandbox {
    fn drop(&mut self) {
        let _ = files::remove_tree(&self.folder);
    }
}

/// What came of a run, with the sandbox's own paths and port replaced.
#[must_use]
pub struct Ran {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Ran {
    pub fn passed(self) -> Self {
        assert_eq!(self.code, 0, "stdout:\n{}\nstderr:\n{}", self.stdout, self.stderr);
        self
    }

    /// Exit code and error text, as one text to compare.
    pub fn complaint(&self) -> String {
        format!("exit {}\n{}", self.code, self.stderr)
    }

    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}: {}", self.stdout))
    }
}

impl Sandbox {
    pub fn new() -> Self {
        Self::with_rules(Vec::new())
    }

    /// A sandbox whose yard misbehaves.
    pub fn with_rules(rules: Vec<Rule>) -> Self {
        let made = tempfile::Builder::new().prefix("kladder test ").tempdir().unwrap();
        let folder = made.keep().canonicalize().unwrap();
        for part in ["catalog", "desk", "yard"] {
            copy(&demo().join(part), &folder.join(part));
        }
        let licensed = folder.join("catalog/tools/neapstone.toml");
        // Licences have tests of their own; elsewhere they would only be in the way.
        let text = fs::read_to_string(&licensed).unwrap();
        fs::write(&licensed, text.replace(LICENCE, "")).unwrap();
        let yard = Yard::with(
            Settings { folder: folder.join("yard"), rules, ..Settings::default() },
            ([127, 0, 0, 1], 0).into(),
        )
        .unwrap();
        let sandbox = Self { folder, yard };
        sandbox.write(
            "home/config/config.toml",
            &format!("yards = [\"{}\"]\nnetwork = {{ retries = 0, patience = 5 }}\n", sandbox.yard.url()),
        );
        sandbox
    }

    /// A sandbox whose catalog is read from lines, as `Made::from_lines` has them.
    pub fn of_lines(lines: &str) -> Self {
        let sandbox = Self::new();
        fs::remove_dir_all(sandbox.path("catalog")).unwrap();
        Made::from_lines(lines).write(&sandbox.path("catalog")).unwrap();
        fs::remove_file(sandbox.path("desk/ladder.toml")).unwrap();
        sandbox
    }

    pub fn path(&self, relative: &str) -> PathBuf {
        self.folder.join(relative)
    }

    pub fn read(&self, relative: &str) -> String {
        fs::read_to_string(self.path(relative)).unwrap()
    }

    pub fn write(&self, relative: &str, text: &str) {
        let path = self.path(relative);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// A ladder with these wishes, for the host's platform.
    pub fn wish(&self, rungs: &str) {
        self.write("desk/ladder.toml", &format!("[ladder]\ncatalog = \"../catalog\"\n\n[rungs]\n{rungs}\n"));
    }

    /// Replaces `old` by `new` in a file.
    pub fn edit(&self, relative: &str, old: &str, new: &str) {
        let text = self.read(relative);
        assert!(text.contains(old), "`{old}` is not in {relative}");
        self.write(relative, &text.replacen(old, new, 1));
    }

    /// A tool `plank` with one release that is this archive, its digest written down truly.
    pub fn plank(&self, file: &str, entries: &[Entry], definition: &str) {
        let path = self.path("yard").join(file);
        pack(Format::of_name(file).unwrap(), entries, &path).unwrap();
        let (sha256, size) = digest::of_file(&path).unwrap();
        let artifact = format!("file = \"{file}\", size = {size}, sha256 = \"{sha256}\"");
        let head = "tool = \"plank\"\nsummary = \"A tool made by a test\"\n";
        let release = format!("[[releases]]\nversion = \"1.0\"\nartifacts = [{{ {artifact} }}]\n");
        self.write("catalog/tools/plank.toml", &format!("{head}{definition}\n{release}"));
    }

    /// A command of the host's, first on PATH.
    pub fn host_command(&self, name: &str, script: &str) {
        let path = self.path("bin").join(name);
        self.write(&format!("bin/{name}"), &format!("#!/bin/sh\n{script}\n"));
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("kladder"));
        let path = std::env::var_os("PATH").unwrap_or_else(|| OsString::from("/usr/bin:/bin"));
        let own = std::iter::once(self.path("bin")).chain(std::env::split_paths(&path));
        let path = std::env::join_paths(own).unwrap();
        command.args(arguments).current_dir(self.path("desk")).env_clear().env("PATH", path);
        command.env("HOME", self.path("user")).env("KLADDER_HOME", self.path("home"));
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Ran {
        self.finished(self.command(arguments).stdin(Stdio::null()).output().unwrap())
    }

    pub fn start(&self, arguments: &[&str]) -> Child {
        self.command(arguments).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
    }

    pub fn finished(&self, output: Output) -> Ran {
        let platform = Platform::built_for().to_string();
        let text = |bytes: Vec<u8>| {
            let text = String::from_utf8(bytes).unwrap();
            let text = text.replace(&self.yard.url(), "http://YARD");
            let text = text.replace(&self.folder.display().to_string(), "SANDBOX");
            text.replace(&platform, "PLATFORM").replace(&platform.replace('/', "-"), "PLATFORM")
        };
        let code = output.status.code().unwrap_or(-1);
        let told = text(output.stderr.clone());
        let said: Vec<&str> = told.lines().map(|line| line.trim_start_matches("  why    ").trim()).collect();
        let again = said.iter().enumerate().find(|(at, line)| line.len() > 12 && said[..*at].contains(line));
        let may_repeat = ["cannot be met together", "rungs failed"].iter().any(|what| told.contains(what));
        assert!(again.is_none() || may_repeat, "said twice: {told}");
        Ran { code, stdout: text(output.stdout), stderr: text(output.stderr) }
    }

    /// Every file and link below the home's data and cache that a failed climb must not leave behind.
    pub fn leftovers(&self) -> Vec<String> {
        let parts = ["home/data/shelf", "home/data/staging", "home/data/ladders", "home/cache"];
        let below = parts.iter().flat_map(|part| walkdir(&self.path(part)));
        below.map(|path| path.strip_prefix(&self.folder).unwrap().display().to_string()).collect()
    }
}

/// Says loudly that a test could not be made on this machine; in continuous integration (where `CI` is set) it fails.
pub fn not_tested(why: &str) {
    assert!(std::env::var_os("CI").is_none(), "not tested: {why}");
    eprintln!("NOT TESTED: {why}");
}

/// The demo's data, packed once for all tests.
fn demo() -> &'static Path {
    static DEMO: OnceLock<tempfile::TempDir> = OnceLock::new();
    let packed = || {
        let folder = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
        kladder_demo::build(folder.path()).unwrap();
        folder
    };
    DEMO.get_or_init(packed).path()
}

pub fn copy(from: &Path, to: &Path) {
    for file in walkdir(from) {
        let new = to.join(file.strip_prefix(from).unwrap());
        fs::create_dir_all(new.parent().unwrap()).unwrap();
        fs::copy(&file, &new).unwrap();
    }
}

pub fn walkdir(folder: &Path) -> Vec<PathBuf> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let mut found = Vec::new();
    for path in entries.map(|entry| entry.unwrap().path()) {
        if path.is_dir() && !path.is_symlink() {
            found.extend(walkdir(&path));
        } else {
            found.push(path);
        }
    }
    found.sort();
    found
}
