//! `kladder demo`: the whole story on made-up data, in a throw-away home.

mod trouble;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use kladder_core::base::files;
use kladder_core::keep::landing::Landings;
use kladder_core::settings::Home;
use kladder_demo::Layout;
use kladder_yard::Yard;

use super::{climb, pin, route, services, standing, verify, wire};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::count;

use crate::args::{ClimbOptions, PinOptions, ServicesOptions, ShellName, VerifyOptions, WireOptions};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{FAINT, GOOD, STRONG, TOLD, styled};

/// The folder of the demo; removed when dropped unless it is to be kept.
struct Place {
    folder: PathBuf,
    keep: bool,
}

impl Drop for Place {
    fn drop(&mut self) {
        if !self.keep {
            // What cannot be removed lies in the system's own folder for such things.
            let _ = files::remove_tree(&self.folder);
        }
    }
}

pub(super) fn run(context: &Context, out: &Out, keep: Option<&Path>, large: bool) -> Result<ExitCode, Problem> {
    let place = place(context, keep)?;
    let demo = Demo::lay_out(context, out, &place, large)?;
    if large {
        demo.tell_large()?;
        demo.farewell(&place)?;
        return Ok(ExitCode::SUCCESS);
    }
    demo.tell()?;
    demo.farewell(&place)?;
    Ok(ExitCode::SUCCESS)
}

fn place(context: &Context, keep: Option<&Path>) -> Result<Place, Problem> {
    let Some(folder) = keep else {
        let made = tempfile::Builder::new().prefix("kladder-demo-").tempdir_in(&context.around.host.temporary);
        let made = made.map_err(|error| {
            Problem::new(Code::Failed, "no folder can be made for the demo")
                .at(&context.around.host.temporary)
                .why(error.to_string())
        })?;
        return Ok(Place { folder: made.keep(), keep: false });
    };
    let occupied = fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
    if occupied || folder.is_file() {
        return Err(Problem::new(Code::Failed, "the demo wants a folder of its own")
            .at(folder)
            .why("there is something in it already")
            .next("name a folder that is empty or not there yet"));
    }
    files::create_folder(folder)?;
    let folder = folder.canonicalize().map_err(|error| Problem::new(Code::Failed, error.to_string()).at(folder))?;
    Ok(Place { folder, keep: true })
}

struct Demo<'d> {
    out: &'d Out,
    inner: Context,
    layout: Layout,
    yard: Yard,
}

impl<'d> Demo<'d> {
    fn lay_out(context: &Context, out: &'d Out, place: &Place, large: bool) -> Result<Self, Problem> {
        let build = if large { kladder_demo::build_large } else { kladder_demo::build };
        let layout = build(&place.folder).map_err(|error| {
            Problem::new(Code::Failed, "the demo data cannot be laid out").at(&place.folder).why(error.to_string())
        })?;
        let yard = Yard::serve(&layout.yard, ([127, 0, 0, 1], 0).into())
            .map_err(|error| Problem::new(Code::Failed, "no yard can be served on 127.0.0.1").why(error.to_string()))?;
        let home = Home::within(&place.folder.join("home"));
        files::create_folder(&home.config)?;
        let settings = format!("yards = [\"{}\"]\n", yard.url());
        files::replace(&home.config.join("config.toml"), settings.as_bytes())?;
        let inner = context.elsewhere(home, layout.desk.join("ladder.toml"));
        Ok(Self { out, inner, layout, yard })
    }

    /// Forty rungs: only the route and the climb.
    fn tell_large(&self) -> Result<(), Problem> {
        let (out, inner) = (self.out, &self.inner);
        out.say(styled(STRONG, "A workstation of forty rungs, from nothing"))?;
        out.say(styled(FAINT, "Everything here is made up."))?;
        self.step("What a climb would do", "kladder route")?;
        route::run(inner, out, false)?;
        self.step("The climb", "kladder climb")?;
        climb::run(inner, out, &ClimbOptions { yes: true, ..ClimbOptions::default() })?;
        self.step("Where it stands", "kladder")?;
        standing::run(inner, out).map(drop)
    }

    fn tell(&self) -> Result<(), Problem> {
        let (out, inner) = (self.out, &self.inner);
        out.say(styled(STRONG, "A workstation for the tide-gauge desk, from nothing"))?;
        out.say(styled(FAINT, "Everything here is made up: the tools are small programs that really do their work."))?;
        let archives = count(self.layout.archives, "archive");
        out.say(format!("{archives} packed and served at {}.", self.yard.url()))?;

        self.step("What is wanted", "ladder.toml")?;
        self.print(&inner.around.ladder_path().unwrap_or_default())?;
        self.step("Wishes become exact versions, with digests for every platform", "kladder pin")?;
        pin::run(inner, out, &PinOptions::default())?;
        self.step("What a climb would do", "kladder route")?;
        route::run(inner, out, false)?;
        self.step("The climb", "kladder climb --accept-licence neapstone-terms")?;
        climb::run(inner, out, &Self::consent())?;
        self.step("Its commands in every new terminal of a home of its own", "kladder wire --shell bash --yes")?;
        let shells = vec![ShellName::Bash];
        wire::run(inner, out, &WireOptions { shells, yes: true, ..WireOptions::default() })?;
        self.step("Does it all work, and together?", "kladder verify")?;
        if verify::run(inner, out, &VerifyOptions::default())? != ExitCode::SUCCESS {
            return Err(Problem::new(Code::CheckFailed, "a check of the demo failed; see above"));
        }
        self.afloat()?;
        self.first_program()?;
        self.step("What the pins hold, for one rung", "ladder.pinned.toml")?;
        self.pins_of("skerroc")?;
        self.step("A second climb", "kladder climb")?;
        let before = self.yard.requests();
        climb::run(inner, out, &Self::consent())?;
        if self.yard.requests() != before {
            return Err(Problem::new(Code::Failed, "the second climb fetched something"));
        }
        self.trouble()?;
        self.step("Where this machine stands", "kladder")?;
        standing::run(inner, out).map(drop)?;
        self.classroom()
    }

    /// A service of the ladder, as long as one works with it.
    fn afloat(&self) -> Result<(), Problem> {
        let (out, inner) = (self.out, &self.inner);
        let done = |options: ServicesOptions| services::run(inner, out, &options).map(drop);
        self.step("The simulated buoy is set afloat", "kladder services --start")?;
        let looked = done(ServicesOptions { start: true, ..ServicesOptions::default() }).and_then(|()| {
            self.step("What runs", "kladder services")?;
            done(ServicesOptions::default())
        });
        // Nothing of the demo outlives it, whatever became of it.
        self.step("And taken in again", "kladder services --stop")?;
        done(ServicesOptions { stop: true, ..ServicesOptions::default() })?;
        looked
    }

    /// Another machine, described by a folder: its system lacks something, and somebody else brings it.
    fn classroom(&self) -> Result<(), Problem> {
        let (out, root) = (self.out, &self.layout.classroom);
        let there = self.inner.on_machine(root, self.layout.desk.join("classroom/ladder.toml"));
        self.step("Another machine, whose system lacks a library", "kladder route --root classroom")?;
        let Err(problem) = route::run(&there, out, false) else {
            return Err(Problem::new(Code::Failed, "the classroom's machine has what it should lack"));
        };
        out.tell_problem(&problem)?;
        self.step("What its administrator is handed", "kladder route --root classroom --admin-script")?;
        route::run(&there, out, true)?;
        let database = root.join("var/lib/dpkg/status");
        let package = "Package: libforeshoal2\nStatus: install ok installed\nVersion: 2.3.1-4\n";
        let installed = files::text_of_at_most(&database, 1 << 20).unwrap_or_default() + package;
        files::replace(&database, installed.as_bytes())?;
        self.step("Once that is done", "kladder route --root classroom")?;
        route::run(&there, out, false).map(drop)
    }

    /// Nobody is asked anything in the demo.
    fn consent() -> ClimbOptions {
        ClimbOptions { accept: vec!["neapstone-terms".into()], yes: true, ..ClimbOptions::default() }
    }

    fn step(&self, title: &str, command: &str) -> Result<(), Problem> {
        self.out.say(format!("\n{}", styled(STRONG, title)))?;
        self.out.say(format!("{}\n", styled(TOLD, format!("  {command}"))))
    }

    fn print(&self, file: &Path) -> Result<(), Problem> {
        let text = fs::read_to_string(file).map_err(|error| Problem::output(&error))?;
        text.lines().try_for_each(|line| self.out.say(format!("  {line}")))
    }

    fn pins_of(&self, tool: &str) -> Result<(), Problem> {
        let path = self.layout.desk.join("ladder.pinned.toml");
        let text = fs::read_to_string(path).map_err(|error| Problem::output(&error))?;
        let from = text.lines().skip_while(|line| *line != format!("[rungs.{tool}]"));
        from.take_while(|line| !line.is_empty()).try_for_each(|line| self.out.say(format!("  {line}")))
    }

    fn first_program(&self) -> Result<(), Problem> {
        self.step("A first program: a package, a build, a run", "cd first-program")?;
        self.start(&["wrackle", "install", "marrambit"], "installed marrambit")?;
        self.start(&["brinwright"], "link first.img")?;
        self.start(&["tidlow", "first.img"], "376")
    }

    /// Runs a climbed command in the folder of the first program, as `kladder run` would, and looks for `wanted`.
    fn start(&self, command: &[&str], wanted: &str) -> Result<(), Problem> {
        self.out.say(styled(TOLD, format!("  kladder run -- {}", command.join(" "))))?;
        let landings = Landings::of(&self.inner.around.home.ladders(), &self.layout.desk.join("ladder.toml"));
        let output = Command::new(landings.current_link().join("commands").join(command[0]))
            .args(&command[1..])
            .current_dir(self.layout.desk.join("first-program"))
            .envs(landings.environment(&self.inner.around.host.path, &|name| std::env::var_os(name))?)
            .output();
        let failed = |why: String| Problem::new(Code::CheckFailed, format!("`{}` failed", command.join(" "))).why(why);
        let output = output.map_err(|error| failed(error.to_string()))?;
        let text = String::from_utf8_lossy(&output.stdout);
        if !output.status.success() || !text.contains(wanted) {
            return Err(failed(format!("{text}{}", String::from_utf8_lossy(&output.stderr))));
        }
        text.lines().try_for_each(|line| self.out.say(format!("  {line}")))
    }

    fn farewell(&self, place: &Place) -> Result<(), Problem> {
        let out = self.out;
        out.value(&serde_json::json!({ "format": "kladder.demo/1", "passed": true, "folder": place.keep.then_some(&place.folder) }))?;
        out.say(format!("\n{}", styled(GOOD, "All of it worked.")))?;
        if !place.keep {
            out.say("Nothing is left of it. `kladder demo --keep FOLDER` leaves it there to play with.")?;
            return Ok(());
        }
        // The yard ends with this program; the catalog names the folder itself.
        let settings = self.inner.around.home.config.join("config.toml");
        fs::remove_file(&settings).map_err(|error| Problem::output(&error))?;
        self.tour(&place.folder)
    }

    fn tour(&self, folder: &Path) -> Result<(), Problem> {
        let at = |name: &str| folder.join(name).display().to_string();
        let program = std::env::current_exe().unwrap_or_else(|_| "kladder".into());
        let lines = [
            format!("Left in {}:", folder.display()),
            "  desk/      the ladder, its pins, a first program".into(),
            "  catalog/   the tools' definitions and rehearsals".into(),
            "  yard/      their archives".into(),
            "  home/      what was climbed: shelf, landings, cache".into(),
            "  classroom/ another machine, as files: `kladder survey --root`".into(),
            String::new(),
            "To look around, paste this:".into(),
            styled(TOLD, format!("  export KLADDER_HOME=\"{}\"", at("home"))),
            styled(TOLD, format!("  alias kladder=\"{}\"", program.display())),
            styled(TOLD, format!("  cd \"{}\"", at("desk"))),
            format!(
                "then try {} or change a wish in ladder.toml and climb again.",
                styled(TOLD, "kladder run -- skerroc --version,")
            ),
        ];
        lines.iter().try_for_each(|line| self.out.say(line))
    }
}
