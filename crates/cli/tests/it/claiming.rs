//! What definitions can say of commands: claims with a verdict each, other rungs by name, commands that another one runs, versions
//! as packagers have them.

use std::cmp::Ordering;

use kladder_choose::version::Scheme;
use kladder_pack::Entry;
use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

const INSPECTED: &str = r#"#!/bin/sh
case $1 in
    --version) echo "plank ${2-1.0}" ;;
    inspect)
        echo "note: no camera"
        echo "boards: 2"
        echo "licence: none" >&2
        printf '{"theme": "dark", "boards": ["neap-1", "neap-2"], "count": 2}' > found.json
        [ "${2-}" != worse ] || { echo "FATAL: no keel"; }
        exit 0 ;;
    where) echo "$1 in $(cd "$(dirname "$0")" && pwd)" ;;
esac
"#;

fn desk(definition: &str) -> Sandbox {
    let sandbox = Sandbox::new();
    let entries = [Entry::program("plank", INSPECTED), Entry::file("tide.txt", "up\n")];
    sandbox.plank("plank.tar.gz", &entries, &["commands = { plank = \"plank\" }\n", definition].concat());
    sandbox.wish("plank = \"any\"");
    sandbox
}

const CLAIMS: &str = r#"[[checks]]
name = "the inspection is content"
run = ["plank", "inspect"]
expect = { status = [0, 4], never = 'FATAL|note' }
harmless = { '^note: no camera$' = "a gauge has none" }
claims = [
    { name = "two boards", stdout = '^boards: 2$' },
    { name = "nothing about cameras", never = 'camera' },
    { name = "the look", file = "found.json", json = "/theme", equals = "dark" },
    { name = "a count", file = "found.json", json = "/count", equals = 2 },
    { name = "the second board", file = "found.json", json = "/boards/1", holds = '^neap-\d$' },
    { name = "a keel", file = "found.json", json = "/keel" },
    { name = "a licence", stderr = 'licence: ok', passed-over = "none is needed for tides" },
    { name = "its own place", file = "{folder}/tide.txt", holds = '^up$' },
    { name = "no file", file = "lost", holds = 'x' },
    { name = "no JSON", json = "/x" },
]
"#;

#[test]
fn every_claim_on_one_output_has_a_verdict_of_its_own() {
    let sandbox = desk(CLAIMS);
    let climb = sandbox.run(&["climb"]);
    assert_data_eq!(
        climb.complaint(),
        str![[r#"
exit 30
kladder: a check of plank failed: the inspection is content: a keel
  why    found.json has nothing at `/keel`, and a value was expected
         a check of plank failed: the inspection is content: no file
         lost cannot be read: No such file or directory (os error 2)
         a check of plank failed: the inspection is content: no JSON
         its output is no JSON: expected value at line 1 column 1
           note: no camera
           boards: 2
           licence: none
         the landing that was current still is; nothing on PATH has changed
  next   pin another version of it, or mend its definition

"#]]
    );
    // What does not hold is taken out; what is passed over is told in every summary, with why.
    let mut text = sandbox.read("catalog/tools/plank.toml");
    for name in ["a keel", "no file", "no JSON"] {
        let line = text.lines().find(|line| line.contains(&format!("name = \"{name}\""))).unwrap().to_owned();
        text = text.replace(&line, "");
    }
    sandbox.write("catalog/tools/plank.toml", &text);
    let climb = sandbox.run(&["climb"]).passed().stdout;
    assert!(climb.contains("7 checks passed, 1 passed over: none is needed for tides"), "{climb}");
    let verify = sandbox.run(&["verify"]).passed().stdout;
    assert!(verify.contains("it is passed over: none is needed for tides"), "{verify}");
    assert!(verify.contains("plank  1.0      passed  passed    8 passed"), "{verify}");
    // It ends with 0 although it failed.
    sandbox.edit("catalog/tools/plank.toml", "\"plank\", \"inspect\"", "\"plank\", \"inspect\", \"worse\"");
    let worse = sandbox.run(&["verify"]);
    assert!(worse.code == 30 && worse.stdout.contains("what it wrote has `FATAL`"), "{}", worse.stdout);
}

#[test]
fn patterns_and_words_may_name_folders_and_versions_of_other_rungs() {
    let sandbox = desk(
        "needs = { tombolet = \"any\" }\nvariables = { TIDE = \"{tombolet.folder}:{tombolet.version}\" }\n[[checks]]\n\
         run = [\"sh\", \"-c\", \"echo {tombolet.folder} $TIDE\"]\n\
         expect = { stdout = '^{tombolet.folder} {tombolet.folder}:{tombolet.version}$' }\n",
    );
    let _ = sandbox.run(&["climb"]).passed();
    let variables = sandbox.run(&["vars", "--as", "file"]).passed().stdout;
    assert!(variables.contains("shelf/tombolet/1.1.0-") && variables.contains(":1.1.0"), "{variables}");
    sandbox.edit("catalog/tools/plank.toml", "{tombolet.folder} $TIDE", "{tombolet.foldr} $TIDE");
    let told = sandbox.run(&["pin"]);
    assert!(told.code == 10 && told.stderr.contains("`{tombolet.folder}` can"), "{}", told.complaint());
}

#[test]
fn a_claim_on_a_file_waits_for_no_pipe() {
    let claim = "[[checks]]\nname = \"piped\"\nrun = [\"mkfifo\", \"pipe\"]\n\
        claims = [{ name = \"written\", file = \"pipe\", holds = 'x' }]\n";
    let failed = desk(claim).run(&["climb"]);
    assert!(failed.code == 30 && failed.stderr.contains("it is not a plain file"), "{}", failed.complaint());
}

#[test]
fn a_command_may_be_run_by_another_rungs_with_arguments_and_variables_of_its_own() {
    let sandbox = Sandbox::new();
    let script = "echo \"$TIDE is $1, $2\"\n";
    let definition = "commands.tide = { file = \"lib/tide\", by = \"runner\", arguments = [\"high\"], variables = { TIDE = \"{version}\" } }\n\
        needs = { runner = \"any\" }\n[[checks]]\nrun = [\"tide\", \"now\"]\nexpect = { stdout = '^1.0 is high, now$' }\n";
    sandbox.plank("plank.tar.gz", &[Entry::file("lib/tide", script)], definition);
    sandbox.write(
        "catalog/tools/runner.toml",
        &sandbox
            .read("catalog/tools/plank.toml")
            .replace("tool = \"plank\"", "tool = \"runner\"")
            .replace(definition, ""),
    );
    let path = sandbox.path("yard/runner.tar.gz");
    let entries = [Entry::program("run", "#!/bin/sh\nexec sh \"$@\"\n")];
    kladder_pack::pack(kladder_pack::Format::of_name("runner.tar.gz").unwrap(), &entries, &path).unwrap();
    let (sha256, _) = kladder_core::base::digest::of_file(&path).unwrap();
    sandbox.write(
        "catalog/tools/runner.toml",
        &format!(
            "tool = \"runner\"\nsummary = \"Runs scripts\"\ncommands.runner = \"run\"\n[[releases]]\nversion = \"2\"\n\
             artifacts = [{{ file = \"runner.tar.gz\", sha256 = \"{sha256}\" }}]\n"
        ),
    );
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(sandbox.run(&["run", "--", "tide", "soon"]).passed().stdout, "1.0 is high, soon\n");
    let _ = sandbox.run(&["verify"]).passed();
    // What runs it may be run by a third one in turn.
    let text = sandbox.read("catalog/tools/plank.toml");
    let third = text.replace("tool = \"plank\"", "tool = \"third\"").replace("\"runner\"", "\"tide\"");
    let third = third.replace("commands.tide", "commands.third").replace("runner = \"any\"", "plank = \"any\"");
    let (head, rest) = third.split_once("[[checks]]").unwrap();
    let release = &rest[rest.find("[[releases]]").unwrap()..];
    sandbox.write("catalog/tools/third.toml", &[&head.replace("high", "low"), release].concat());
    let checked = sandbox.run(&["catalog", "check", "../catalog"]).stdout;
    // That no rehearsal has them is told, and nothing else.
    let doubts = |line: &&str| !line.contains("no rehearsal has it");
    assert!(!checked.lines().filter(doubts).any(|line| line.contains("third.toml")), "{checked}");
    sandbox.wish("third = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let told = sandbox.run(&["run", "--", "third"]).passed().stdout;
    assert!(told.starts_with("1.0 is high, SANDBOX/") && told.ends_with("/lib/tide\n"), "{told}");
    std::fs::remove_file(sandbox.path("catalog/tools/third.toml")).unwrap();
    sandbox.wish("plank = \"any\"");
    sandbox.edit("catalog/tools/plank.toml", "by = \"runner\"", "by = \"walker\"");
    let told = sandbox.run(&["climb"]);
    assert!(told.stderr.contains("is run by `walker`, and no other rung has that program"), "{}", told.complaint());
    sandbox.edit("catalog/tools/plank.toml", "by = \"walker\"", "by = \"tide\"");
    let told = sandbox.run(&["catalog", "check", "../catalog"]);
    assert!(told.stdout.contains("no tool here has the program `tide`"), "{}", told.stdout);
}

#[test]
fn a_version_of_packagers_is_ordered_as_they_do_and_the_tool_says_its_own() {
    let check = "scheme = \"packaged\"\n[[checks]]\nrun = [\"plank\", \"--version\", \"2.1\"]\n\
        expect = { stdout = 'plank (?<version>\\S+)' }\n";
    let sandbox = desk(check);
    let text = sandbox.read("catalog/tools/plank.toml");
    let (head, release) = text.split_once("[[releases]]").unwrap();
    let release = |version: &str, more: &str| {
        format!("[[releases]]{}{more}\n", release.replace("\"1.0\"", &format!("\"{version}\"")))
    };
    let releases = ["1:2.1-3~bpo1", "1:2.1-3", "9.0-1", "1:2.1~rc1-1"].map(|version| release(version, ""));
    sandbox.write("catalog/tools/plank.toml", &[head, &releases.concat()].concat());
    let pin = sandbox.run(&["pin"]).passed().stdout;
    assert!(pin.contains("1:2.1-3 "), "{pin}");
    let _ = sandbox.run(&["climb"]).passed();
    let shelf = std::fs::read_dir(sandbox.path("home/data/shelf/plank")).unwrap();
    let names: Vec<String> = shelf.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!(names.iter().all(|name| !name.contains(':')), "PATH is divided by colons: {names:?}");
    sandbox.write("catalog/tools/plank.toml", &[head, &release("9.0-1", "said = \"2.1\"")].concat());
    std::fs::remove_file(sandbox.path("desk/ladder.pinned.toml")).unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.edit("catalog/tools/plank.toml", "said = \"2.1\"", "said = \"2.2\"");
    let other = sandbox.run(&["verify"]);
    assert!(other.stdout.contains("it says that it is 2.1, and 2.2 is pinned"), "{}", other.stdout);
}

#[test]
fn variables_are_set_or_added_to_for_whom_they_are_meant_in_every_shell() {
    let odd = "it's $5 \"x\" *";
    let definition = format!(
        "[variables]\nLIBS = {{ front = \"{{folder}}/lib\" }}\nMANY = {{ behind = '''{odd}''' }}\nEDITOR = {{ unless-set = \"plank\" }}\n\
         OWN = {{ set = \"mine\", of = \"tool\" }}\nTHEIRS = {{ set = \"users\", of = \"users\" }}\n"
    );
    let sandbox = desk(&definition);
    let shows = "#!/bin/sh\nenv | grep -E '^(LIBS|MANY|EDITOR|OWN|THEIRS|OFFICE)=' | sort\n";
    let user = |name: &str, needs: &str| {
        let path = sandbox.path(&format!("yard/{name}.tar.gz"));
        let entries = [Entry::program("show", shows)];
        kladder_pack::pack(kladder_pack::Format::of_name("x.tar.gz").unwrap(), &entries, &path).unwrap();
        let (sha256, _) = kladder_core::base::digest::of_file(&path).unwrap();
        let text = format!(
            "tool = \"{name}\"\nsummary = \"\"\n{needs}commands.{name} = \"show\"\n[[releases]]\nversion = \"1\"\n\
             artifacts = [{{ file = \"{name}.tar.gz\", sha256 = \"{sha256}\" }}]\n"
        );
        sandbox.write(&format!("catalog/tools/{name}.toml"), &text);
    };
    user("user", "needs = { plank = \"any\" }\n");
    user("other", "");
    sandbox.write(
        "desk/ladder.toml",
        "[ladder]\ncatalog = \"../catalog\"\n[rungs]\nuser = \"any\"\nother = \"any\"\n\
         [variables]\nOFFICE = \"{folder}/{plank.version}\"\nLIBS = { behind = \"/last\" }\n",
    );
    let _ = sandbox.run(&["climb"]).passed();
    let shown = |command: &str| {
        let mut run = sandbox.command(&["run", "--", command]);
        run.env("LIBS", "/theirs").env("EDITOR", "ed");
        sandbox.finished(run.output().unwrap()).passed().stdout
    };
    let told = shown("user");
    let lib = told.lines().find_map(|line| line.strip_prefix("LIBS=")).unwrap().split(':').next().unwrap().to_owned();
    assert!(lib.starts_with("SANDBOX/home/data/shelf/plank/1.0-") && lib.ends_with("/files/lib"), "{told}");
    let of_all = format!("EDITOR=ed\nLIBS={lib}:/theirs:/last\nMANY={odd}\nOFFICE=SANDBOX/desk/1.0\n");
    assert_eq!(told, of_all.clone() + "THEIRS=users\n");
    assert_eq!(shown("other"), of_all);
    // A shell that reads the lines twice adds nothing twice.
    for (shell, form) in [("dash", "sh"), ("bash", "bash"), ("zsh", "zsh"), ("fish", "fish")] {
        let lines = sandbox
            .run(&["vars", "--as", form])
            .passed()
            .stdout
            .replace("SANDBOX", &sandbox.folder.display().to_string());
        sandbox.write("lines", &lines);
        let file = sandbox.path("lines").display().to_string();
        let script = format!(". '{file}'; . '{file}'; env | grep -E '^(LIBS|MANY|EDITOR|OFFICE)=' | sort");
        let mut run = std::process::Command::new(shell);
        run.args(["-c", &script]).env_clear().env("PATH", "/usr/bin:/bin").env("HOME", sandbox.path("user"));
        run.env("LIBS", "/theirs").env("EDITOR", "ed");
        let Ok(output) = run.output() else {
            crate::sandbox::not_tested(&format!("there is no {shell}"));
            continue;
        };
        assert_eq!(sandbox.finished(output).stdout, of_all, "{shell}\n{lines}");
    }
}

#[test]
fn packaged_versions_are_ordered_as_the_systems_own_program_orders_them() {
    let compares = |one: &str, how: &str, other: &str| {
        let program = std::process::Command::new("dpkg").args(["--compare-versions", one, how, other]).status();
        program.ok().map(|status| status.success())
    };
    if compares("1", "lt", "2").is_none() {
        eprintln!("NOT TESTED: there is no dpkg here");
        return;
    }
    let parts = ["1", "0", "09", "10", "a", "b", "~", "~~", "rc", "+", ".", "-", "git", "bpo"];
    let mut seed = 412_u64;
    let mut next = |most: usize| {
        // Knuth's linear congruential generator (MMIX).
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(seed >> 33).unwrap() % most
    };
    let mut made = || {
        let epoch = ["", "", "", "0:", "1:"][next(5)];
        let middle: String = (0..next(6)).map(|_| parts[next(parts.len())]).collect();
        format!("{epoch}{}{middle}{}", next(12), next(12))
    };
    for _ in 0..400 {
        let (one, other) = (made(), made());
        let ours = Scheme::Packaged.compare(&one.parse().unwrap(), &other.parse().unwrap());
        let wrong = if ours == Ordering::Less { "gt" } else { "lt" };
        assert_eq!(compares(&one, wrong, &other), Some(false), "{one} and {other} are {ours:?}");
    }
}

#[test]
fn a_ladder_gives_commands_names_of_its_own() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"=1.4.2\"\n[names]\nsk = \"skerroc\"");
    let _ = sandbox.run(&["climb"]).passed();
    let both = ["sk", "skerroc"].map(|name| sandbox.run(&["run", "--", name, "--version"]).passed().stdout);
    assert_eq!(both[0], both[1]);
    assert_eq!(sandbox.run(&["climb"]).passed().stdout, "All rungs stand: landing 1 is what the pins say.\n");
    let _ = sandbox.run(&["verify"]).passed();
    sandbox.wish("skerroc = \"=1.4.2\"\n[names]\nbosun = \"skerroc\"");
    assert!(sandbox.run(&["climb"]).passed().stdout.contains("landing 2"));
    assert_eq!(sandbox.run(&["run", "--", "sk"]).code, 127);
    let _ = sandbox.run(&["run", "--", "bosun", "--version"]).passed();
    let refused = |names: &str| {
        sandbox.wish(&format!("skerroc = \"=1.4.2\"\n[names]\n{names}"));
        sandbox.run(&["climb"]).complaint()
    };
    assert_data_eq!(
        [refused("sk = \"skeroc\""), refused("oarweld = \"skerroc\""), refused("\"a/b\" = \"skerroc\"")].concat(),
        str![[r#"
exit 10
kladder: `sk` in the ladder names the command `skeroc`, which no rung brings
  why    it stands under `[names]`
  next   did you mean `skerroc`?
exit 10
kladder: `oarweld` in the ladder is a command that a rung brings already
  why    it stands under `[names]`
  next   take another name
exit 10
kladder: `a/b` cannot be the name of a command
  where  ladder.toml, line 7, column 1
         7 | "a/b" = "skerroc"
           | ^^^^^

"#]]
    );
}
