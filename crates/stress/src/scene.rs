//! A yard, a catalog and a home in a temporary folder, and what must hold of them at any time.

use std::fmt::Write;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};

use kladder_core::base::digest::of_file;
use kladder_core::bring::shelf::Place;
use kladder_core::keep::landing::Landings;
use kladder_core::keep::state::{Journal, Kind};
use kladder_pack::{Entry, Format, pack};
use kladder_yard::{Rule, Settings, Yard};

/// What went wrong, in words.
pub type Checked<T = ()> = Result<T, String>;

/// Tools, each in another format; one needs the next, one has a set-up command, one a fit-out.
const TOOLS: [(&str, &str); 6] = [
    ("skerroc", "tar.xz"),
    ("oarweld", "tar.gz"),
    ("tidlow", "tar.zst"),
    ("wrackle", "zip"),
    ("neapstone", "tar.bz2"),
    ("tombolet", "deb"),
];
/// Versions of each tool.
pub const VERSIONS: u64 = 6;
/// Files of each tool besides its command.
const FILES: usize = 60;

/// Made once for each ladder and, since what is sought holds the rung's version, once for each version; what is half made has to
/// be taken away first.
const FIT_OUT: &str = r#"corners = ["state"]
[[fit-outs]]
name = "state"
done = { run = ["/bin/sh", "-c", "test -e {folder}/state/{version} && test ! -e {folder}/state/half"] }
do = { run = ["/bin/sh", "-c", "test ! -e {folder}/state/half && : > {folder}/state/half && : > {folder}/state/{version} && rm {folder}/state/half"] }
undo = { run = ["/bin/sh", "-c", "rm -f {folder}/state/half"] }
"#;

/// Attaches what was attempted to an error of the system.
pub trait Told<T> {
    fn told(self, what: &str) -> Checked<T>;
}

impl<T, E: std::fmt::Display> Told<T> for Result<T, E> {
    fn told(self, what: &str) -> Checked<T> {
        self.map_err(|error| format!("{what}: {error}"))
    }
}

/// A home with all that it needs.
pub struct Scene {
    folder: tempfile::TempDir,
    kladder: PathBuf,
    pub yard: Yard,
}

impl Scene {
    /// Makes a scene whose yard follows some rules.
    pub fn new(kladder: &Path, rules: Vec<Rule>) -> Checked<Self> {
        let folder = tempfile::Builder::new().prefix("kladder-stress-").tempdir().told("a temporary folder")?;
        let kladder = kladder.canonicalize().told("the program")?;
        for sub in ["yard", "catalog/tools", "desk", "home/config", "empty"] {
            fs::create_dir_all(folder.path().join(sub)).told(sub)?;
        }
        stock(folder.path()).told("the yard and the catalog")?;
        let settings = Settings { folder: folder.path().join("yard"), rules, ..Settings::default() };
        let yard = Yard::with(settings, ([127, 0, 0, 1], 0).into()).told("the yard")?;
        let scene = Self { folder, kladder, yard };
        scene.configure(&[&scene.yard.url()])?;
        scene.want(1)?;
        Ok(scene)
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    /// Names the yards, best first, and a short patience.
    pub fn configure(&self, yards: &[&str]) -> Checked {
        let text = format!("yards = {yards:?}\nnetwork = {{ retries = 2, patience = 2 }}\n");
        fs::write(self.path("home/config/config.toml"), text).told("the settings")
    }

    /// Wishes for this version of every tool.
    pub fn want(&self, version: u64) -> Checked {
        let wishes: String = TOOLS.iter().map(|(tool, _)| format!("{tool} = \"=1.{version}\"\n")).collect();
        fs::write(self.path("desk/ladder.toml"), format!("[ladder]\ncatalog = \"../catalog\"\n[rungs]\n{wishes}"))
            .told("the ladder")
    }

    /// The program, with an environment of its own.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.kladder);
        command.args(arguments).current_dir(self.path("desk")).env_clear();
        command.env("KLADDER_HOME", self.path("home")).env("HOME", self.path("empty")).env("PATH", "/usr/bin:/bin");
        command.stdin(Stdio::null());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Checked<Output> {
        self.command(arguments).output().told("starting the program")
    }

    pub fn start(&self, arguments: &[&str]) -> Checked<Child> {
        self.command(arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().told("starting the program")
    }

    /// Runs the program, which must succeed.
    pub fn succeed(&self, arguments: &[&str]) -> Checked<String> {
        let output = self.run(arguments)?;
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        Err(format!("{arguments:?} ended with {}: {said}", output.status))
    }

    fn landings(&self) -> Landings {
        Landings::of(&self.path("home/data/ladders"), &self.path("desk/ladder.toml"))
    }

    /// Whatever happened, the landing that is current is a whole one: its commands all answer, with one version among them,
    /// which is returned. `None` before the first.
    pub fn current(&self) -> Checked<Option<u64>> {
        let Some(landing) = self.landings().current().told("the current landing")? else { return Ok(None) };
        let mut said = Vec::new();
        for (tool, _) in TOOLS {
            let command = self.landings().current_link().join("commands").join(tool);
            let output = Command::new(&command).env_clear().env("PATH", "/usr/bin:/bin").output();
            let output = output.told(&format!("{tool} of landing {}", landing.number))?;
            said.push(String::from_utf8_lossy(&output.stdout).trim().to_owned());
        }
        let version = said[0].strip_prefix("1.").and_then(|text| text.parse().ok());
        if said.iter().any(|other| *other != said[0]) {
            return Err(format!("landing {} is mixed: {said:?}", landing.number));
        }
        version.map(Some).ok_or_else(|| format!("landing {} says {said:?}", landing.number))
    }

    /// After a climb that ended well: it is at `version`, the shelf is what its manifests say, and nothing is left over.
    pub fn whole(&self, version: u64) -> Checked {
        match self.current()? {
            Some(there) if there == version => {}
            other => return Err(format!("{version} was climbed, and {other:?} is current")),
        }
        let pins = fs::read_to_string(self.path("desk/ladder.pinned.toml")).told("the pins")?;
        if pins.matches(&format!("version = \"1.{version}\"")).count() != TOOLS.len() {
            return Err(format!("the pins are not those of {version}"));
        }
        self.shelf_is_sound()?;
        self.nothing_is_left()?;
        let journal = Journal::read(&self.path("home/data")).told("the journal")?.ok_or("there is no journal")?;
        match journal
            .runs(None)
            .told("the runs")?
            .into_iter()
            .find(|run| run.ended.is_none() && run.kind != Kind::Verify)
        {
            Some(run) => Err(format!("run {} has no end", run.id)),
            None => Ok(()),
        }
    }

    fn shelf_is_sound(&self) -> Checked {
        for tool in names(&self.path("home/data/shelf"))? {
            for folder in names(&tool)? {
                let place = Place { folder };
                let manifest = place.manifest().told("a manifest")?;
                let differences = manifest.compare(&place.files()).told("comparing")?;
                if !differences.is_empty() {
                    return Err(format!("{} differs: {differences:?}", place.folder.display()));
                }
            }
        }
        Ok(())
    }

    fn nothing_is_left(&self) -> Checked {
        let landings = self.landings().folder().to_path_buf();
        let half = |path: &PathBuf| path.extension().is_some();
        let mut left = names(&self.path("home/data/staging"))?;
        left.extend(names(&landings.join("landings"))?.into_iter().filter(half));
        left.extend(names(&landings)?.into_iter().filter(|path| path.ends_with(".current-new")));
        for sub in names(&self.path("home/cache/artifacts"))? {
            left.extend(names(&sub)?.into_iter().filter(half));
        }
        if left.is_empty() { Ok(()) } else { Err(format!("left over: {left:?}")) }
    }
}

/// The paths in a folder; none where it is not there.
fn names(folder: &Path) -> Checked<Vec<PathBuf>> {
    match fs::read_dir(folder) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        entries => entries.told("listing")?.map(|entry| Ok(entry.told("listing")?.path())).collect(),
    }
}

/// Fills the yard and the catalog.
fn stock(folder: &Path) -> io::Result<()> {
    fs::write(folder.join("catalog/catalog.toml"), "[catalog]\nformat = 2\nname = \"stress\"\ntitle = \"made up\"\n")?;
    for (at, (tool, ending)) in TOOLS.iter().enumerate() {
        let mut text = format!("tool = \"{tool}\"\nsummary = \"made up\"\ncommands = {{ {tool} = \"bin/{tool}\" }}\n");
        if at == 1 {
            text +=
                "[[set-up]]\nname = \"writes its settings\"\nrun = [\"/bin/sh\", \"-c\", \"echo made > settings\"]\n";
        }
        if at == 2 {
            text += FIT_OUT;
        }
        text += "[[checks]]\nname = \"says its version\"\n";
        let _ = write!(text, "run = [\"{tool}\"]\nexpect = {{ stdout = '(?<version>\\S+)' }}\n");
        for version in (1..=VERSIONS).rev() {
            let file = format!("{tool}-1.{version}.{ending}");
            let path = folder.join("yard").join(&file);
            pack(Format::of_name(&file).ok_or(io::ErrorKind::InvalidInput)?, &entries(tool, version), &path)?;
            let (sha256, size) = of_file(&path)?;
            let needs = TOOLS.get(at + 1).map(|(next, _)| format!("{next} = \"any\"")).unwrap_or_default();
            let _ = write!(text, "[[releases]]\nversion = \"1.{version}\"\nneeds = {{ {needs} }}\n");
            let _ = writeln!(text, "artifacts = [{{ file = \"{file}\", size = {size}, sha256 = \"{sha256}\" }}]");
        }
        fs::write(folder.join("catalog/tools").join(format!("{tool}.toml")), text)?;
    }
    Ok(())
}

/// A command that says its version, and files, half of which are the same in every version.
fn entries(tool: &str, version: u64) -> Vec<Entry> {
    let mut entries = vec![Entry::program(&format!("bin/{tool}"), format!("#!/bin/sh\necho 1.{version}\n"))];
    for file in 0..FILES {
        let version = if file % 2 == 0 { 0 } else { version };
        let line = format!("{tool} {version} {file}\n");
        entries.push(Entry::file(&format!("share/{}/file-{file}", file % 7), line.repeat(200)));
    }
    entries
}
