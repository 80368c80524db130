//! Sets of packages as definitions of tools.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use nodejs_semver::Range;

use super::sums::{Sum, Sums};
use super::wanted::runtime;
use super::{MODULES, PACKAGES, Package, Packages, PackagesError};
use crate::catalog::Machine;
use crate::digest::Canonical;
use crate::platform::Platform;
use crate::sets::LibrarySet;
use crate::sets::lock::quoted;

impl Packages {
    /// The definition of a set's tool, whose runtime's command is `interpreter`. Packages that were chosen here are for those of the
    /// `runtimes` only that all of them say they are for.
    ///
    /// # Errors
    /// [`PackagesError`] where a package is not for a machine, or its digest is not known.
    pub fn definition(
        &self,
        set: &LibrarySet,
        interpreter: &str,
        runtimes: &[&str],
        sums: &Sums,
        machines: &[Machine],
    ) -> Result<String, PackagesError> {
        let (mut artifacts, mut digest) = (String::new(), Canonical::new("kladder packages", 1));
        let platforms: BTreeSet<&Platform> = machines.iter().map(|machine| &machine.platform).collect();
        let mut top: BTreeMap<&str, &str> = BTreeMap::new();
        for platform in platforms {
            digest = digest.field("platform", platform.as_str());
            for (at, package) in self.on(platform)?.into_iter().enumerate() {
                let sum = sums.get(&package.integrity).ok_or_else(|| PackagesError::NoSum(package.at.to_string()))?;
                digest = digest.field("at", package.at.as_str()).field("sha256", sum.sha256.to_string());
                if package.is_top() {
                    top.insert(&package.at.as_str()[MODULES.len() + 1..], &package.version);
                }
                artifact(&mut artifacts, (at == 0).then_some(platform), package, *sum);
            }
        }
        let digest = digest.finish().to_string();
        let number = u32::from_str_radix(&digest[..8], 16).unwrap_or_default();
        let release = format!(
            "[[releases]]\nversion = \"1.{number}\"\nneeds = {{ {} = {} }}\n{artifacts}",
            quoted(set.of.as_str()),
            quoted(&self.on_runtimes(runtimes))
        );
        Ok(head(set, interpreter, &top, self.all.len()) + &release)
    }

    /// The versions of a runtime that all of them are for; of those that were taken although they say that they are not for the one
    /// that they were chosen for, nothing is asked.
    fn on_runtimes(&self, runtimes: &[&str]) -> String {
        let wanted: BTreeSet<&str> =
            self.all.iter().filter(|one| !one.optional).filter_map(|one| one.engines.as_deref()).collect();
        let chosen = self.runtime.as_deref().and_then(runtime);
        let is_for = |range: &Range| chosen.as_ref().is_none_or(|chosen| range.satisfies(chosen));
        let wanted: Vec<Range> = wanted.into_iter().filter_map(|text| text.parse().ok()).filter(is_for).collect();
        let is_refused =
            |text: &&&str| runtime(text).is_some_and(|version| !wanted.iter().all(|range| range.satisfies(&version)));
        let not: Vec<String> = runtimes.iter().filter(is_refused).map(|version| format!("!={version}")).collect();
        if not.is_empty() { "any".to_owned() } else { not.join(", ") }
    }
}

fn artifact(out: &mut String, first_of: Option<&Platform>, package: &Package, sum: Sum) {
    match first_of {
        Some(platform) => _ = writeln!(out, "[[releases.artifacts]]\nfor = [\"{platform}\"]"),
        None => _ = writeln!(out, "[[releases.artifacts.also]]"),
    }
    let file = package.file();
    let _ = writeln!(out, "file = {}\nsize = {}\nsha256 = \"{}\"", quoted(&file), sum.size, sum.sha256);
    // Archives of packages have one folder around all, whatever it is called.
    let into = quoted(package.at.as_str());
    let _ = writeln!(out, "unpack = {{ layout = \"as-it-is\", strip = 1, into = {into} }}");
    let folder = package.url.as_deref().and_then(|url| url.split(['#', '?']).next()?.strip_suffix(&file));
    let index = format!("index:{PACKAGES}/{}", package.name);
    let origins: Vec<String> = [Some(index.as_str()), folder].into_iter().flatten().map(quoted).collect();
    let _ = writeln!(out, "origins = [{}]", origins.join(", "));
}

/// Puts links to the commands of the packages beside them, as their projects' scripts expect them.
const LINKS: &str = "const fs = require('fs'), path = require('path'), root = path.join(process.argv[1], 'node_modules')
const named = at => fs.readdirSync(at).filter(name => !name.startsWith('.'))
const all = named(root).flatMap(name => name[0] === '@' ? named(path.join(root, name)).map(one => name + '/' + one) : [name])
for (const name of all) {
    const folder = path.join(root, name), file = path.join(folder, 'package.json')
    const bin = fs.existsSync(file) && JSON.parse(fs.readFileSync(file, 'utf8')).bin
    const commands = typeof bin === 'string' ? { [name.split('/').pop()]: bin } : bin || {}
    for (const [command, to] of Object.entries(commands)) {
        const target = path.join(folder, to), link = path.join(root, '.bin', command)
        if (/[\\/\\\\]/.test(command) || path.relative(folder, target).startsWith('..') || !fs.existsSync(target)) continue
        fs.mkdirSync(path.dirname(link), { recursive: true })
        // What came from another set's place may be run already, and is everybody's.
        if (!(fs.statSync(target).mode & 0o100)) fs.chmodSync(target, 0o755)
        if (!fs.existsSync(link)) fs.symlinkSync(path.relative(path.dirname(link), target), link)
    }
}
";

/// Tells each package and its version.
const SEEN: &str = "const fs = require('fs'), root = process.argv[1] + '/node_modules/'
for (const name of process.argv.slice(2)) console.log(name, JSON.parse(fs.readFileSync(root + name + '/package.json', 'utf8')).version)";

/// What holds for all machines. The check has the runtime read what each package in the project's own folder says it is.
fn head(set: &LibrarySet, interpreter: &str, top: &BTreeMap<&str, &str>, many: usize) -> String {
    let runtime = quoted(interpreter);
    let names: Vec<String> = top.keys().map(|name| quoted(name)).collect();
    let claims: String = top
        .iter()
        .map(|(name, version)| {
            let like = quoted(&format!("(?m)^{} {}$", regex::escape(name), regex::escape(version)));
            format!("[[checks.claims]]\nname = {}\nstdout = {like}\n", quoted(&format!("has {name} {version}")))
        })
        .collect();
    format!(
        "tool = {name}\nsummary = {summary}\n\
         [[set-up]]\nname = \"links to its commands\"\nrun = [{runtime}, \"-e\", {links}, \"{{folder}}\"]\n\
         [[checks]]\nname = \"the runtime finds its packages\"\nrun = [{runtime}, \"-e\", {seen}, \"{{folder}}\", {names}]\n{claims}",
        name = quoted(set.name.as_str()),
        summary = quoted(&format!("The packages of {}, {many} of them", set.name)),
        links = quoted(LINKS),
        seen = quoted(SEEN),
        names = names.join(", "),
    )
}
