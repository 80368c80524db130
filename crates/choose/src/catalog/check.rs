//! What can be known of a catalog without running any of its tools.
//!
//! A *fault* makes something fail for whoever meets it: a need that nothing meets, a licence without a text. A *doubt* may be meant:
//! a platform that other releases have, a claim that cannot fail, a circle.

use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};

use petgraph::algo::kosaraju_scc;
use petgraph::graphmap::DiGraphMap;

use super::{
    Command, CommandName, Definition, Expect, FitOut, Is, Need, Pattern, Preset, Rehearsal, Release, Says, Trial, Way,
};
use crate::document::{Place, Source};
use crate::names::ToolName;
use crate::near::near;
use crate::platform::Scope;
use crate::template::Template;

/// Something to tell a keeper.
#[derive(Clone, Debug)]
pub struct Remark {
    /// Where.
    pub place: Place,
    /// What.
    pub fault: Fault,
}

/// What is wrong, or may be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Nothing in the catalog meets a need.
    NothingMeets {
        /// The release.
        release: String,
        /// What it needs.
        need: String,
        /// Tools that are called like it.
        near: Vec<String>,
    },
    /// There is no text for a licence.
    NoText {
        /// The licence.
        licence: String,
    },
    /// A tool is named that the catalog does not have.
    NoSuchTool {
        /// Its name.
        name: String,
        /// Tools that are called like it.
        near: Vec<String>,
    },
    /// A series is named that no release has.
    NoSuchSeries {
        /// The tool.
        tool: String,
        /// The series.
        series: String,
    },
    /// A command is run by another one, which no tool has.
    NoRunner {
        /// That command.
        by: String,
    },
    /// The folder or version of another tool is named, and no need brings it.
    NotNeeded {
        /// The tool.
        tool: String,
    },
    /// A claim holds whatever comes.
    CannotFail {
        /// The claim.
        claim: String,
    },
    /// A release has no artifact for a platform that others of its tool have.
    Lacks {
        /// The release.
        release: String,
        /// The platform.
        platform: String,
    },
    /// Two tools lend the same file to one.
    LoansMeet {
        /// The other lender.
        other: String,
        /// Who borrows.
        to: String,
        /// Where both would be seen.
        at: String,
    },
    /// Something extends a tool that takes no extensions, and lends it nothing.
    TakesNone {
        /// That tool.
        tool: String,
    },
    /// A tool is preferred for what it does not provide.
    NotAProvider {
        /// The tool.
        tool: String,
        /// The capability.
        capability: String,
    },
    /// What an archive unpacks to has no file for a command, or one that may not be run.
    NoFile {
        /// Those archives.
        archives: Vec<String>,
        /// The command.
        command: String,
        /// The file that it should be.
        file: String,
        /// Files that may be meant.
        near: Vec<String>,
        /// It is there, and may not be run.
        not_executable: bool,
    },
    /// An archive cannot be unpacked.
    NotUnpacked {
        /// The release.
        release: String,
        /// The archive.
        file: String,
        /// Why not.
        why: String,
    },
    /// A file that is at hand is not the one that is meant.
    OtherBytes {
        /// Its path in a yard.
        file: String,
        /// Where it is.
        at: String,
    },
    /// A file that a rehearsal names is not beside it.
    NoProjectFile {
        /// As it is named.
        file: String,
    },
    /// No rehearsal has a tool together with what it needs, in a catalog that has rehearsals.
    NotProved {
        /// What it needs.
        need: String,
    },
    /// Tools need each other in circles: they are climbed together, by name.
    Circle {
        /// Those tools.
        tools: Vec<String>,
    },
}

impl Fault {
    /// Whether something fails for whoever meets it; otherwise it may be meant.
    pub fn is_wrong(&self) -> bool {
        let may_be_meant = matches!(
            self,
            Self::CannotFail { .. }
                | Self::Lacks { .. }
                | Self::Circle { .. }
                | Self::LoansMeet { .. }
                | Self::NotProved { .. }
        );
        !may_be_meant
    }
}

/// What is checked of a catalog: with the texts, so that places can be told.
pub struct Texts<'c> {
    /// Which tools come first for a capability, and where that stands.
    pub prefer: (&'c BTreeMap<ToolName, Vec<ToolName>>, &'c Source),
    /// The definitions that can be read.
    pub definitions: &'c BTreeMap<ToolName, (Definition, Source)>,
    /// The tools whose definitions cannot be read: whatever is said of them may be so.
    pub unreadable: &'c BTreeSet<ToolName>,
    /// The licences that have a text.
    pub licences: &'c BTreeSet<String>,
    /// The presets that can be read.
    pub presets: &'c [(Preset, Source)],
    /// The rehearsals that can be read.
    pub rehearsals: &'c [(Rehearsal, Source)],
}

impl Texts<'_> {
    /// All that is to be told, in the order of the tools.
    pub fn remarks(&self) -> Vec<Remark> {
        Checked { texts: self, answering: OnceCell::new(), commands: OnceCell::new() }.remarks()
    }
}

/// A catalog as it is checked.
struct Checked<'c> {
    texts: &'c Texts<'c>,
    /// By name and capability: the tools; once it was asked for.
    answering: OnceCell<BTreeMap<ToolName, Vec<ToolName>>>,
    /// All commands that are programs of their own; once one was asked for.
    commands: OnceCell<BTreeSet<String>>,
}

impl<'c> std::ops::Deref for Checked<'c> {
    type Target = Texts<'c>;

    fn deref(&self) -> &Texts<'c> {
        self.texts
    }
}

impl Checked<'_> {
    fn remarks(&self) -> Vec<Remark> {
        let mut all = self.preferences();
        for (definition, source) in self.definitions.values() {
            let mut of = OfTool { checked: self, definition, source, remarks: Vec::new() };
            of.look();
            all.append(&mut of.remarks);
        }
        all.extend(self.loans());
        all.extend(self.circles());
        all.extend(self.not_proved());
        for (preset, source) in self.presets {
            for rung in &preset.rungs {
                all.extend(self.known(&rung.tool).map(|fault| remark(source, 0, &rung.tool, fault)));
                let series = rung.series.as_ref().filter(|series| !self.has_series(&rung.tool, series));
                let fault = series.filter(|_| self.answers(&rung.tool));
                all.extend(fault.map(|series| {
                    let fault = Fault::NoSuchSeries { tool: rung.tool.to_string(), series: series.clone() };
                    remark(source, 0, series, fault)
                }));
            }
        }
        for (rehearsal, source) in self.rehearsals {
            let unknown = rehearsal.tools.iter().filter_map(|tool| Some((tool, self.known(tool)?)));
            all.extend(unknown.map(|(tool, fault)| remark(source, 0, tool, fault)));
        }
        all
    }

    /// What is preferred for something that it does not provide.
    fn preferences(&self) -> Vec<Remark> {
        let (prefer, source) = self.prefer;
        let each = prefer.iter().flat_map(|(capability, tools)| tools.iter().map(move |tool| (capability, tool)));
        let fault = |(capability, tool): (&ToolName, &ToolName)| {
            let is_one =
                || self.unreadable.contains(tool) || self.answering(capability).any(|known| known.tool == *tool);
            let wrong = || Fault::NotAProvider { tool: tool.to_string(), capability: capability.to_string() };
            let fault = self.known(tool).or_else(|| (!is_one()).then(wrong))?;
            let table = source.text.find("prefer").unwrap_or(0);
            let line = source.text[table..].find(capability.as_str()).map_or(table, |at| table + at);
            Some(remark(source, line, tool, fault))
        };
        each.filter_map(fault).collect()
    }

    fn answering<'s>(&'s self, name: &str) -> impl Iterator<Item = &'s Definition> {
        let answering = self.answering.get_or_init(|| {
            let mut answering: BTreeMap<ToolName, Vec<ToolName>> = BTreeMap::new();
            for (tool, (definition, _)) in self.definitions {
                for name in std::iter::once(tool).chain(&definition.provides()) {
                    answering.entry(name.clone()).or_default().push(tool.clone());
                }
            }
            answering
        });
        answering.get(name).into_iter().flatten().map(|tool| &self.definitions[tool].0)
    }

    /// Whether some tool has a command that is a program, or is run by others down to one that is.
    fn has_command(&self, command: &str) -> bool {
        let commands = self.commands.get_or_init(|| {
            let all = || self.definitions.values().map(|(definition, _)| definition);
            let commands = all().flat_map(Definition::all).flat_map(|says| &says.commands);
            let (run, own): (Vec<_>, Vec<_>) = commands.partition(|(_, command)| command.by.is_some());
            let on_host = all().filter_map(|definition| definition.host.as_ref()?.command.as_ref());
            let own = own.into_iter().map(|(name, _)| name).chain(on_host);
            let mut programs: BTreeSet<String> = own.map(ToString::to_string).collect();
            loop {
                let follows = |(name, command): &&(&CommandName, &Command)| {
                    let by = command.by.as_ref().is_some_and(|by| programs.contains(by.as_str()));
                    by && !programs.contains(name.as_str())
                };
                let next: Vec<String> = run.iter().filter(follows).map(|(name, _)| name.to_string()).collect();
                if next.is_empty() {
                    return programs;
                }
                programs.extend(next);
            }
        });
        commands.contains(command)
    }

    fn answers(&self, name: &str) -> bool {
        self.unreadable.contains(name) || self.answering(name).next().is_some()
    }

    /// That there is no tool of this name.
    fn known(&self, name: &str) -> Option<Fault> {
        let near = || near(name, self.definitions.keys().map(ToolName::as_str));
        (!self.answers(name)).then(|| Fault::NoSuchTool { name: name.to_owned(), near: near() })
    }

    /// That there is no tool of this name, or none of those that answer to it takes extensions.
    fn takes_extensions(&self, name: &str) -> Option<Fault> {
        let takes = |definition: &Definition| definition.all().iter().any(|says| says.extensions.is_some());
        let is_fine = self.unreadable.contains(name) || self.answering(name).any(takes);
        self.known(name).or_else(|| (!is_fine).then(|| Fault::TakesNone { tool: name.to_owned() }))
    }

    fn has_series(&self, tool: &str, series: &str) -> bool {
        let mut releases = self.answering(tool).flat_map(|definition| &definition.releases);
        self.unreadable.contains(tool) || releases.any(|release| release.series.iter().any(|known| known == series))
    }

    fn meets(&self, way: &Way) -> bool {
        self.unreadable.contains(&way.name)
            || self.answering(&way.name).any(|definition| {
                let pieces = |release: &Release| way.pieces.iter().all(|piece| release.pieces.contains_key(piece));
                let fits =
                    |release: &Release| definition.meets(&way.name, &way.version, &release.version) && pieces(release);
                // What the host has is not known here.
                definition.host.is_some() || definition.releases.iter().any(fits)
            })
    }

    /// Files that two tools lend to the same place.
    fn loans(&self) -> Vec<Remark> {
        let mut seen: BTreeMap<(String, String), &ToolName> = BTreeMap::new();
        let mut all = Vec::new();
        for (tool, (definition, source)) in self.definitions {
            for lends in &definition.says.lends {
                let at = lends.at.as_written();
                let names = if lends.only.is_empty() { vec![String::new()] } else { lends.only.clone() };
                for name in names {
                    let at = [at.trim_end_matches('/'), "/", &name].concat().trim_end_matches('/').to_owned();
                    if let Some(other) =
                        seen.insert((lends.to.to_string(), at.clone()), tool).filter(|one| *one != tool)
                    {
                        let fault = Fault::LoansMeet { other: other.to_string(), to: lends.to.to_string(), at };
                        all.push(remark(source, 0, &lends.at.as_written(), fault));
                    }
                }
            }
        }
        all
    }

    /// Needs of one tool for another that no rehearsal has at work together: what runs there says later whether they were.
    fn not_proved(&self) -> Vec<Remark> {
        let mut all = Vec::new();
        if self.rehearsals.is_empty() {
            return all;
        }
        let together = |one: &Definition, other: &Definition| {
            let has = |rehearsal: &Rehearsal, of: &Definition| rehearsal.tools.iter().any(|tool| of.answers_to(tool));
            self.rehearsals.iter().any(|(rehearsal, _)| has(rehearsal, one) && has(rehearsal, other))
        };
        for (definition, source) in self.definitions.values() {
            let of_releases = definition.releases.iter().flat_map(|release| &release.says.needs);
            let mut seen = BTreeSet::new();
            for need in of_releases.filter(|need| seen.insert(need.names().cloned().collect::<Vec<_>>())) {
                let mut providers = need.names().flat_map(|name| self.answering(name)).peekable();
                if providers.peek().is_some() && !providers.any(|provider| together(definition, provider)) {
                    let names: Vec<String> = need.names().map(ToString::to_string).collect();
                    let fault = Fault::NotProved { need: names.join(" or ") };
                    all.push(remark(source, 0, &names[0], fault));
                }
            }
        }
        all
    }

    /// Circles of needs, each once: strongly connected components (Sharir, "A strong-connectivity algorithm and its applications in
    /// data flow analysis", 1981), since a catalog may be deep.
    fn circles(&self) -> Vec<Remark> {
        let mut graph = DiGraphMap::<&ToolName, ()>::new();
        for (tool, (definition, _)) in self.definitions {
            let needs = definition.releases.iter().flat_map(|release| &release.says.needs);
            for way in needs.filter(|need| !need.private).flat_map(|need| &need.ways) {
                let other = self.definitions.get_key_value(&way.name);
                other.filter(|(other, _)| *other != tool).map(|(other, _)| graph.add_edge(tool, other, ()));
            }
        }
        let mut circles: Vec<Vec<&ToolName>> =
            kosaraju_scc(&graph).into_iter().filter(|tools| tools.len() > 1).collect();
        for tools in &mut circles {
            tools.sort();
        }
        circles.sort();
        let told = |tools: Vec<&ToolName>| {
            let (_, source) = &self.definitions[tools[0]];
            let next = tools.iter().skip(1).find(|tool| source.text.contains(tool.as_str())).unwrap_or(&tools[0]);
            remark(source, 0, next, Fault::Circle { tools: tools.iter().map(ToString::to_string).collect() })
        };
        circles.into_iter().map(told).collect()
    }
}

struct OfTool<'c> {
    checked: &'c Checked<'c>,
    definition: &'c Definition,
    source: &'c Source,
    remarks: Vec<Remark>,
}

impl OfTool<'_> {
    fn look(&mut self) {
        let definition = self.definition;
        for release in &definition.releases {
            self.needs(release);
        }
        for says in definition.all() {
            self.said(says);
        }
        self.platforms();
        for also in &definition.also {
            for tool in also.when.with.keys() {
                let fault = self.checked.known(tool);
                self.tell(0, tool, fault);
            }
        }
    }

    fn tell(&mut self, from: usize, word: &str, fault: Option<Fault>) {
        self.remarks.extend(fault.map(|fault| remark(self.source, from, word, fault)));
    }

    fn needs(&mut self, release: &Release) {
        let from = start_of(self.source, release);
        let pieces = release.pieces.values().flat_map(|piece| &piece.says.needs);
        let needs: Vec<&Need> = release.says.needs.iter().chain(pieces).collect();
        for need in needs {
            if need.ways.iter().any(|way| self.checked.meets(way)) {
                continue;
            }
            let name = need.ways.first().map_or("", |way| way.name.as_str());
            let near = match self.checked.known(name) {
                Some(Fault::NoSuchTool { near, .. }) => near,
                _ => Vec::new(),
            };
            let (release, need) = (release.version.to_string(), need.to_string());
            let one = remark(self.source, from, name, Fault::NothingMeets { release, need: need.clone(), near });
            // What is said once for all releases is told once, of the first.
            let is_it =
                |known: &Remark| matches!(&known.fault, Fault::NothingMeets { need: other, .. } if *other == need);
            if !self.remarks.iter().any(|known| known.place == one.place && is_it(known)) {
                self.remarks.push(one);
            }
        }
    }

    fn said(&mut self, says: &Says) {
        for licence in says.licences.iter().filter(|licence| !self.checked.licences.contains(*licence)) {
            let from = self.source.text.find("licence").unwrap_or(0);
            self.tell(from, licence, Some(Fault::NoText { licence: licence.clone() }));
        }
        for lends in &says.lends {
            let fault = self.checked.known(&lends.to);
            self.tell(0, &lends.to, fault);
        }
        for way in &says.extends {
            let lends = says.lends.iter().any(|lends| lends.to == way.name);
            let fault = self.checked.takes_extensions(&way.name).filter(|_| !lends);
            self.tell(0, &way.name, fault);
        }
        let by = says.commands.values().filter_map(|command| command.by.as_ref());
        let by = by.filter(|by| !self.checked.has_command(by.as_str()));
        let missing: Vec<String> = by.map(ToString::to_string).collect();
        for by in missing {
            self.tell(0, &by, Some(Fault::NoRunner { by: by.clone() }));
        }
        let commands = says.commands.values();
        let templates = commands.flat_map(|command| command.arguments.iter().chain(command.variables.values()));
        let trials = says.checks.iter().chain(&says.set_up).chain(says.fit_outs.iter().flat_map(FitOut::trials));
        let runs = trials.flat_map(|trial| &trial.run);
        self.named(
            templates
                .chain(says.variables.values().map(|variable| &variable.value))
                .chain(says.lines.values())
                .chain(runs),
        );
        says.checks.iter().for_each(|trial| self.can_fail(trial));
    }

    /// Other tools that texts name must come with a need.
    fn named<'t>(&mut self, templates: impl Iterator<Item = &'t Template>) {
        let needs = self.definition.releases.iter().flat_map(|release| &release.says.needs);
        let needed: BTreeSet<&ToolName> = needs.flat_map(Need::names).collect();
        let others: BTreeSet<&ToolName> = templates.flat_map(Template::others).collect();
        for tool in others.into_iter().filter(|tool| !needed.contains(tool)) {
            let word = ["{", tool.as_str(), "."].concat();
            self.tell(0, &word, Some(Fault::NotNeeded { tool: tool.to_string() }));
        }
    }

    fn can_fail(&mut self, trial: &Trial) {
        let holds_always = |pattern: &Pattern| pattern.regex_with(&|_| None).is_match("");
        let Expect { stdout, stderr, .. } = &trial.expect;
        let patterns = stdout.iter().chain(stderr).filter(|pattern| holds_always(pattern));
        let claims = trial.claims.iter().filter_map(|claim| match &claim.is {
            Is::Like(pattern) => Some(pattern).filter(|pattern| holds_always(pattern)),
            _ => None,
        });
        let always: Vec<String> = patterns.chain(claims).map(|pattern| pattern.as_str().to_owned()).collect();
        for pattern in always {
            self.tell(0, &pattern, Some(Fault::CannotFail { claim: trial.name() }));
        }
    }

    /// The platforms that most releases have, and one does not.
    fn platforms(&mut self) {
        let scopes = |release: &Release| -> BTreeSet<Scope> {
            release.artifacts.iter().flat_map(|artifact| artifact.scopes.clone()).collect()
        };
        let all: BTreeSet<Scope> = self.definition.releases.iter().flat_map(scopes).collect();
        for release in &self.definition.releases {
            let own = scopes(release);
            let lacks = |scope: &&Scope| !own.iter().any(|own| scope.lies_in(own) || own.lies_in(scope));
            let lacking: Vec<String> = all.iter().filter(lacks).map(ToString::to_string).collect();
            for platform in lacking {
                let from = start_of(self.source, release);
                let version = release.version.to_string();
                self.tell(from, &version, Some(Fault::Lacks { release: version.clone(), platform }));
            }
        }
    }
}

/// Where a release begins in the text of its definition.
fn start_of(source: &Source, release: &Release) -> usize {
    let version = format!("version = \"{}\"", release.version);
    source.text.find(&version).unwrap_or(0)
}

/// A remark at the first place of a word, from somewhere on; at the beginning where it is not found.
fn remark(source: &Source, from: usize, word: &str, fault: Fault) -> Remark {
    let found = source.text[from..].find(word).map(|at| from + at).or_else(|| source.text.find(word));
    let span = found.map_or(from..from, |at| at..at + word.len());
    Remark { place: source.place(span), fault }
}
