//! `kladder catalog try`: each release, climbed and verified by itself, in a home that is thrown away.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::names::ToolName;
use kladder_choose::version::Version;
use kladder_core::base::event::Observer;
use kladder_core::base::files::{self, Attach, FileError};
use kladder_core::desk::catalogs::Folder;
use kladder_core::desk::keeper::OnFile;
use kladder_core::host::survey::scratch;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes::{CatalogTried, CatalogTry};
use kladder_tell::text::{bytes, clean, count, time};
use serde_json::Value;

use super::{kept, on_file};
use crate::context::Context;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, styled};
use crate::render::{Out, Progress};

/// What is tried.
pub(super) struct Trying<'t> {
    pub(super) tools: &'t [ToolName],
    /// Only the newest release of each.
    pub(super) newest: bool,
    /// How many at once.
    pub(super) at_once: Option<usize>,
}

pub(super) fn run(context: &Context, trying: &Trying<'_>, out: &Out) -> Result<ExitCode, Problem> {
    let root = kept(context)?;
    let root = root.canonicalize().unwrap_or(root);
    let folder = Folder::open(&root, None)?;
    let names = if trying.tools.is_empty() { kladder_choose::catalog::Catalog::names(&folder) } else { trying.tools };
    let all = names.iter().map(|tool| on_file(&folder, tool)).collect::<Result<Vec<_>, _>>()?;
    let machine = context.around.host.machine();
    let mut releases = Vec::new();
    for OnFile { definition, .. } in &all {
        let here = definition.releases.iter().filter(|release| release.artifact(&machine).is_some());
        let most = if trying.newest { 1 } else { usize::MAX };
        releases.extend(here.take(most).map(|release| (definition.tool.clone(), release.version.clone())));
    }
    let progress = Progress::new(out)?;
    let bench = Bench { context, catalog: &root, progress: &progress, out };
    let tried = CatalogTry::of(bench.all(&releases, trying.at_once)?);
    progress.finish();
    out.value(&tried)?;
    let failed = tried.releases.iter().filter(|one| one.failed.is_some()).count();
    let told = if failed == 0 { styled(GOOD, "all of them stand") } else { styled(BAD, format!("{failed} failed")) };
    out.say(format!("{} tried: {told}.", count(tried.releases.len(), "release")))?;
    Ok(if failed > 0 { Code::CheckFailed.into() } else { ExitCode::SUCCESS })
}

struct Bench<'b> {
    context: &'b Context,
    catalog: &'b Path,
    progress: &'b Progress,
    out: &'b Out,
}

impl Bench<'_> {
    /// Tries all of them, some at once; what came of each is told as it comes, and returned in the order of the releases.
    fn all(&self, releases: &[(ToolName, Version)], at_once: Option<usize>) -> Result<Vec<CatalogTried>, Problem> {
        let cores = thread::available_parallelism().map_or(2, usize::from);
        let next = AtomicUsize::new(0);
        let done = Mutex::new(Vec::new());
        let work = || {
            while let Some((at, (tool, version))) =
                Some(next.fetch_add(1, Ordering::Relaxed)).and_then(|at| Some((at, releases.get(at)?)))
            {
                if self.progress.cancelled() {
                    return Ok(());
                }
                let tried = self.one(tool, version)?;
                self.tell(&tried)?;
                done.lock().unwrap_or_else(PoisonError::into_inner).push((at, tried));
            }
            Ok(())
        };
        thread::scope(|scope| {
            let workers: Vec<_> = (0..at_once.unwrap_or(cores).max(1)).map(|_| scope.spawn(work)).collect();
            let join = |worker: thread::ScopedJoinHandle<'_, Result<(), Problem>>| {
                worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
            };
            workers.into_iter().map(join).collect::<Result<Vec<()>, Problem>>()
        })?;
        if self.progress.cancelled() {
            return Err(Problem::interrupted());
        }
        let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
        done.sort_by_key(|(at, _)| *at);
        Ok(done.into_iter().map(|(_, tried)| tried).collect())
    }

    fn one(&self, tool: &ToolName, version: &Version) -> Result<CatalogTried, Problem> {
        let home = tempfile::Builder::new()
            .prefix(&scratch())
            .tempdir_in(&self.context.around.host.temporary)
            .on("make a folder in", &self.context.around.host.temporary)?;
        self.lay(home.path(), tool, version)?;
        let begun = Instant::now();
        let mut told = self.call(home.path(), "route")?.map(|route| size(&route));
        for command in ["climb", "verify"] {
            if let Ok(size) = told {
                told = self.call(home.path(), command)?.map(|_| size);
            }
        }
        let took = begun.elapsed();
        // What stands on a shelf is read-only.
        files::remove_tree(home.path())?;
        Ok(CatalogTried::of(tool, version, took, told))
    }

    /// A home with the person's own settings and cache, and a ladder of one rung.
    fn lay(&self, home: &Path, tool: &ToolName, version: &Version) -> Result<(), FileError> {
        let link = |from: &Path, name: &str| -> Result<(), FileError> {
            files::create_folder(from)?;
            let to = home.join(name);
            std::os::unix::fs::symlink(from, &to).on("make the link", &to)
        };
        link(&self.context.around.home.config, "config")?;
        link(&self.context.around.home.cache, "cache")?;
        files::create_folder(&home.join("person"))?;
        let catalog = toml_string(&self.catalog.display().to_string());
        let (tool, version) = (toml_string(tool.as_str()), toml_string(&format!("={version}")));
        let text = format!("[ladder]\ntitle = \"one\"\ncatalog = {catalog}\n[rungs]\n{tool} = {version}\n");
        let path = home.join("ladder.toml");
        fs::write(&path, text).on("write", &path)
    }

    /// What a command says there, or why it failed.
    fn call(&self, home: &Path, command: &str) -> Result<Result<Value, String>, Problem> {
        let program: PathBuf = self.context.around.host.kladder.clone().unwrap_or_else(|| "kladder".into());
        let mut call = Command::new(program);
        call.args([command, "--json"])
            .args((command == "climb").then_some("--yes"))
            .arg("--ladder")
            .arg(home.join("ladder.toml"));
        call.args(self.context.around.yards.iter().flat_map(|yard| ["--yard", yard]));
        call.args(self.context.around.offline.then_some("--offline"));
        call.current_dir(home).env("KLADDER_HOME", home).env("HOME", home.join("person")).stdin(Stdio::null());
        let output = call
            .output()
            .map_err(|error| Problem::new(Code::Failed, format!("kladder itself cannot be started: {error}")))?;
        let value = |bytes: &[u8]| serde_json::from_slice::<Value>(bytes).unwrap_or_default();
        if output.status.success() {
            return Ok(Ok(value(&output.stdout)));
        }
        Ok(Err(why(&value(&output.stderr), &String::from_utf8_lossy(&output.stderr))))
    }

    fn tell(&self, tried: &CatalogTried) -> Result<(), Problem> {
        let name = format!("{} {}", styled(STRONG, &tried.tool), clean(&tried.version));
        let took = time(Duration::from_secs_f64(tried.seconds));
        self.out.say(match &tried.failed {
            None => format!(
                "  {}  {name}  {}",
                styled(GOOD, "stands"),
                styled(FAINT, format!("{took}, {}", bytes(tried.bytes)))
            ),
            Some(why) => format!("  {}  {name}  {}", styled(BAD, "failed"), clean(why)),
        })
    }
}

fn toml_string(text: &str) -> String {
    Value::String(text.to_owned()).to_string()
}

/// Bytes of all archives of a route.
fn size(route: &Value) -> u64 {
    let list = |value: &Value, name: &str| value[name].as_array().cloned().unwrap_or_default();
    let files = list(route, "rungs").into_iter().flat_map(|rung| list(&rung, "files"));
    files.filter_map(|file| file["size"].as_u64()).sum()
}

/// Why a command failed, on one line: what its problem says, or the checks that failed.
fn why(value: &Value, stderr: &str) -> String {
    let texts = |value: &Value| -> Vec<String> {
        value.as_array().into_iter().flatten().filter_map(Value::as_str).map(|text| text.trim().to_owned()).collect()
    };
    if let Some(what) = value["what"].as_str() {
        return std::iter::once(what.to_owned())
            .chain(texts(&value["why"]).into_iter().take(2))
            .collect::<Vec<_>>()
            .join("; ");
    }
    let last = stderr.lines().find(|line| !line.trim().is_empty()).unwrap_or("it ended with an error");
    last.trim_start_matches("kladder: ").to_owned()
}
