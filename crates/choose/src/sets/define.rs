//! A set as a tool: its definition, with a release for each minor version of its runtime.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use super::LibrarySet;
use super::kernel::KERNEL_LIBRARY;
use super::lock::{Library, Lock, Wheel, quoted};
use super::markers::Environment;
use super::tags::{Interpreter, Tag};
use crate::catalog::{Demand, Devices, Machine};
use crate::digest::Canonical;
use crate::platform::Platform;

/// A library that cannot be had for a runtime on a platform.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Without {
    /// Its name.
    pub library: String,
    /// The runtime's minor version, like `3.11`.
    pub runtime: String,
    /// The platform.
    pub platform: Platform,
    /// How it could be had that is not done here: from its sources, for instance.
    pub otherwise: Option<&'static str>,
}

/// Why there is no such set.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SetError {
    /// The runtime has no version that says so.
    #[error("no version of {0} is a runtime's")]
    NoRuntime(String),
    /// No library is wanted on one of its machines.
    #[error("it wants no library for {0}")]
    Empty(Platform),
    /// No version of the runtime goes with all libraries.
    #[error("its libraries are not to be had together")]
    Without(Vec<Without>),
    /// The lock file is for other versions of the runtime.
    #[error("it is made for {0}")]
    OtherRuntime(String),
    /// Notebooks should know it, and it has none of their kernels.
    #[error("notebooks should know it, and it has no library {KERNEL_LIBRARY}")]
    NoKernel,
    /// A library is wanted in two ways at once.
    #[error("{0} stands there twice for one machine")]
    Twice(String),
    /// A marker or a version that cannot be read.
    #[error("`{text}` cannot be read: {why}")]
    Unreadable {
        /// What stands there.
        text: String,
        /// What is wrong.
        why: String,
    },
}

/// The definition of a set's tool, whose runtime's command is `interpreter`, for some machines and minor versions of its runtime, in the order of the runtime's releases.
///
/// # Errors
/// [`SetError`] where no version of the runtime will do.
pub fn definition(
    set: &LibrarySet,
    interpreter: &str,
    lock: &Lock,
    minors: &[(u32, u32)],
    machines: &[Machine],
) -> Result<String, SetError> {
    if minors.is_empty() {
        return Err(SetError::NoRuntime(set.of.to_string()));
    }
    let mut releases = String::new();
    let (mut without, mut other_runtime, mut names) = (Vec::new(), true, BTreeSet::new());
    for minor in minors {
        let mut chosen: BTreeMap<Platform, Vec<(&Library, &Wheel)>> = BTreeMap::new();
        let mut lacks = Vec::new();
        for interpreter in interpreters(*minor, None, machines) {
            let Some(environment) = Environment::of(&interpreter) else { continue };
            if !is_for(lock, &environment)? {
                continue;
            }
            other_runtime = false;
            let wheels = wheels(lock, &interpreter, &environment, &mut lacks)?;
            if wheels.is_empty() && lacks.is_empty() {
                return Err(SetError::Empty(interpreter.platform));
            }
            names.extend(wheels.iter().map(|(library, _)| library.name.clone()));
            chosen.insert(interpreter.platform.clone(), wheels);
        }
        if !lacks.is_empty() {
            without.extend(lacks);
        } else if chosen.len() == platforms(machines).len() {
            release(&mut releases, set, (*minor, lock.least(*minor)), &chosen);
        }
    }
    if releases.is_empty() {
        return Err(match lock.requires_python.clone().filter(|_| other_runtime) {
            Some(wanted) => SetError::OtherRuntime(format!("{} {wanted}", set.of)),
            None if other_runtime => SetError::OtherRuntime("other machines".to_owned()),
            None => SetError::Without(without),
        });
    }
    if set.kernel.is_some() && !names.contains(KERNEL_LIBRARY) {
        return Err(SetError::NoKernel);
    }
    Ok(head(set, interpreter, lock, &names) + &releases)
}

/// A runtime's minor version, at a patch level where that is known, on the platforms of some machines.
pub fn interpreters(minor: (u32, u32), patch: Option<u32>, machines: &[Machine]) -> Vec<Interpreter> {
    platforms(machines).into_iter().map(|(platform, has)| Interpreter { minor, patch, platform, has }).collect()
}

/// The platforms of machines, with what all of one platform have at least.
fn platforms(machines: &[Machine]) -> BTreeMap<Platform, Option<(u32, u32)>> {
    let mut all: BTreeMap<Platform, Option<(u32, u32)>> = BTreeMap::new();
    for machine in machines {
        let has = c_library(machine);
        let least = all.entry(machine.platform.clone()).or_insert(has);
        *least = (*least).zip(has).map(|(one, other)| one.min(other));
    }
    all
}

/// The newest C library that a machine is known to have.
fn c_library(machine: &Machine) -> Option<(u32, u32)> {
    let is_musl = machine.platform.as_str().ends_with("/musl");
    let (kind, major) = if is_musl { ("musl", 1) } else { ("gnu", 2) };
    let holds = |minor: &u32| {
        let wanted = format!("{kind} >={major}.{minor}").parse();
        wanted.is_ok_and(|wanted| machine.facts.holds(&Demand::CLibrary(wanted)) == Some(true))
    };
    (0..100).rev().find(holds).map(|minor| (major, minor))
}

/// Whether a lock file is made for an environment.
fn is_for(lock: &Lock, environment: &Environment) -> Result<bool, SetError> {
    let unreadable = |text: &str| {
        let text = text.to_owned();
        move |why| SetError::Unreadable { text, why }
    };
    if let Some(versions) = &lock.requires_python
        && !environment.is_one_of(versions).map_err(unreadable(versions))?
    {
        return Ok(false);
    }
    let mut any = lock.environments.is_empty();
    for marker in &lock.environments {
        any |= environment.holds(marker).map_err(unreadable(marker))?;
    }
    Ok(any)
}

/// The wheel of each library that is wanted there.
fn wheels<'l>(
    lock: &'l Lock,
    interpreter: &Interpreter,
    environment: &Environment,
    lacks: &mut Vec<Without>,
) -> Result<Vec<(&'l Library, &'l Wheel)>, SetError> {
    let mut chosen: Vec<(&Library, &Wheel)> = Vec::new();
    let mut seen = BTreeSet::new();
    for library in &lock.libraries {
        if let Some(marker) = &library.marker {
            let unreadable = |why| SetError::Unreadable { text: marker.clone(), why };
            if !environment.holds(marker).map_err(unreadable)? {
                continue;
            }
        }
        if !seen.insert(&library.name) {
            return Err(SetError::Twice(library.name.clone()));
        }
        let fit = |wheel: &'l Wheel| Some((interpreter.fit(&Tag::of(&wheel.file)?)?, wheel));
        match library.wheels.iter().filter_map(fit).min_by_key(|(fit, _)| *fit) {
            Some((_, wheel)) => chosen.push((library, wheel)),
            None => lacks.push(Without {
                library: library.name.clone(),
                runtime: runtime(interpreter.minor),
                platform: interpreter.platform.clone(),
                otherwise: library.otherwise,
            }),
        }
    }
    Ok(chosen)
}

fn runtime((major, minor): (u32, u32)) -> String {
    format!("{major}.{minor}")
}

/// Compiles what is not compiled yet, some files at once. Byte code is taken as it is (PEP 552, unchecked), since nobody writes on
/// the shelf; what cannot be compiled is left to whoever runs it.
const COMPILE: &str = "import os, sys, py_compile
root = sys.argv[1]
files = sorted(os.path.join(at, name) for at, _, names in os.walk(root) for name in names if name.endswith('.py'))
several = os.cpu_count() or 1
for part in range(several):
    if os.fork():
        continue
    for path in files[part::several]:
        if not os.path.exists(py_compile.importlib.util.cache_from_source(path)):
            try:
                py_compile.compile(path, dfile=path[len(root) + 1:], doraise=True, quiet=2, invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH)
            except Exception:
                pass
    os._exit(0)
while True:
    try:
        os.wait()
    except ChildProcessError:
        break
";

/// What holds for all releases. The check asks the runtime itself which libraries it sees.
fn head(set: &LibrarySet, interpreter: &str, lock: &Lock, names: &BTreeSet<String>) -> String {
    let versions: Vec<String> = lock
        .libraries
        .iter()
        .filter(|library| names.contains(&library.name))
        .filter_map(|library| Some(format!("{} {}", library.name, library.version.as_deref()?)))
        .collect();
    let seen = "import importlib.metadata as m, re; [print(re.sub(r'[-_.]+', '-', d.metadata['Name']).lower(), d.version) for d in m.distributions()]";
    let claims: String = versions
        .iter()
        .map(|library| {
            let like = quoted(&format!("(?m)^{}$", regex::escape(library)));
            format!("[[checks.claims]]\nname = {}\nstdout = {like}\n", quoted(&format!("has {library}")))
        })
        .collect();
    let devices: String = set.devices.iter().map(|(kind, program)| devices(interpreter, kind, program)).collect();
    format!(
        "tool = {name}\nsummary = {summary}\n\
         [[set-up]]\nname = \"its byte code\"\nrun = [{runtime}, \"-c\", {compile}, \"{{folder}}/site\"]\n\
         [[checks]]\nname = \"the runtime sees its libraries\"\nrun = [{runtime}, \"-c\", {seen}]\n\
         variables = {{ PYTHONPATH = \"{{folder}}/site\" }}\n{claims}{devices}",
        name = quoted(set.name.as_str()),
        summary = quoted(&format!("The libraries of {}, {} of them", set.name, names.len())),
        runtime = quoted(interpreter),
        seen = quoted(seen),
        compile = quoted(COMPILE),
    )
}

/// A check that a framework among the libraries sees the devices that the system does.
fn devices(interpreter: &str, kind: &Devices, program: &str) -> String {
    let (kind, program) = (quoted(&kind.to_string()), quoted(program));
    let name = quoted(&format!("its libraries see the devices of this machine: {}", kind.trim_matches('"')));
    format!(
        "[[checks]]\nname = {name}\nrun = [{}, \"-c\", {program}]\nvariables = {{ PYTHONPATH = \"{{folder}}/site\" }}\n\
         [[checks.claims]]\nname = {kind}\nstdout = '(?m)^\\S.*$'\ndevices = {kind}\n",
        quoted(interpreter)
    )
}

fn release(
    out: &mut String,
    set: &LibrarySet,
    (minor, least): ((u32, u32), Option<String>),
    chosen: &BTreeMap<Platform, Vec<(&Library, &Wheel)>>,
) {
    let runtime = runtime(minor);
    // The same libraries are the same version, and others are another.
    let mut digest = Canonical::new("kladder set", 2);
    for (platform, wheels) in chosen {
        digest = digest.field("platform", platform.as_str());
        digest = digest.list("wheels", wheels.iter().map(|(_, wheel)| wheel.sha256.to_string()));
    }
    let digest = digest.finish().to_string();
    // Numbers alone: letters could be taken for a preview's.
    let number = u32::from_str_radix(&digest[..8], 16).unwrap_or_default();
    let _ = writeln!(out, "[[releases]]\nversion = \"{runtime}.{number}\"");
    let least = least.map(|least| format!(", >={least}")).unwrap_or_default();
    let _ = writeln!(out, "needs = {{ {} = \"{runtime}{least}\" }}", quoted(set.of.as_str()));
    for (platform, wheels) in chosen {
        for (at, (library, wheel)) in wheels.iter().enumerate() {
            if at == 0 {
                let _ = writeln!(out, "[[releases.artifacts]]\nfor = [\"{platform}\"]");
            } else {
                let _ = writeln!(out, "[[releases.artifacts.also]]");
            }
            let _ = writeln!(out, "file = {}\nsha256 = \"{}\"", quoted(&wheel.file), wheel.sha256);
            if let Some(size) = wheel.size {
                let _ = writeln!(out, "size = {size}");
            }
            // The index as this machine's settings have it comes before the address that the lock file was made with.
            let index = library
                .index
                .as_ref()
                .filter(|_| !library.is_in_catalogs())
                .map(|index| format!("index:{index}/{}", library.name));
            let origins: Vec<String> = index.iter().chain(&wheel.origin).map(|origin| quoted(origin)).collect();
            if !origins.is_empty() {
                let _ = writeln!(out, "origins = [{}]", origins.join(", "));
            }
        }
    }
}
