//! Rehearsals as first projects.

use std::fs;

use snapbox::{assert_data_eq, str};

use crate::sandbox::Sandbox;

const LINKED: &str = r#"
rehearsal = "linked"
summary = "A project that names the compiler"
tools = ["skerroc"]
runs-on = "nothing but this machine"
files = { "@name@/sdk.path" = "@skerroc.folder@ @skerroc.version@ @nobody.folder@ a@b\n", "main.skw" = "module main\n\nstart\n    say \"@name@\"\nend\n" }
steps = [{ name = "compiles", run = ["skerroc", "main.skw"] }]
[asks.name]
question = "What is it called?"
default = "gauge"
pattern = '[a-z]+'
rule = "lower-case letters"
[parts.more]
summary = "More of it"
files = { "more.txt" = "@name@ and more\n" }
"#;

#[test]
fn a_first_project_is_asked_for_built_added_to_and_linked_anew() {
    let sandbox = Sandbox::new();
    sandbox.write("catalog/rehearsals/linked.toml", LINKED);
    sandbox.wish("skerroc = \"=1.4.2\"");
    let _ = sandbox.run(&["climb"]).passed();
    // Rules are checked before anything is written.
    assert_data_eq!(
        sandbox.run(&["rehearse", "linked", "kept", "--answer", "name=Gauge 7"]).complaint(),
        str![[r#"
exit 2
kladder: `Gauge 7` cannot be the name: lower-case letters

"#]]
    );
    assert!(!sandbox.path("desk/kept").exists());
    let ran = sandbox.run(&["rehearse", "linked", "kept", "--answer", "name=buoy"]).passed();
    assert_data_eq!(
        ran.stdout,
        str![[r#"
linked: A project that names the compiler

  file
  buoy/sdk.path  new
  main.skw       new

  passed  compiles  [..]

It runs on nothing but this machine.

By hand, with the ladder's commands in your shell:

    cd kept
    skerroc main.skw

Parts to add with `--part`: more.

"#]]
    );
    let link = sandbox.read("desk/kept/buoy/sdk.path");
    assert!(link.contains("1.4.2 @nobody.folder@ a@b") && link.starts_with('/'), "{link}");
    // What is typed by hand does the same.
    fs::remove_file(sandbox.path("desk/kept/main.sko")).unwrap();
    let by_hand =
        sandbox.command(&["run", "--", "skerroc", "main.skw"]).current_dir(sandbox.path("desk/kept")).output();
    let _ = sandbox.finished(by_hand.unwrap()).passed();
    assert!(sandbox.path("desk/kept/main.sko").exists());
    // Another version of the rung, a part, and a file that a person changed.
    sandbox.wish("skerroc = \"=1.4.3\"");
    let _ = sandbox.run(&["climb"]).passed();
    fs::write(sandbox.path("desk/kept/main.skw"), "module main\n\nstart\n    say \"mine\"\nend\n").unwrap();
    let again = sandbox.run(&["rehearse", "linked", "kept", "--part", "more", "--json"]).passed().json();
    let files: Vec<_> = ["buoy/sdk.path", "main.skw", "more.txt"].map(|file| again["files"][file].clone()).to_vec();
    assert_eq!(files, ["anew", "kept", "new"]);
    assert!(sandbox.read("desk/kept/buoy/sdk.path").contains("1.4.3"));
    assert!(sandbox.read("desk/kept/main.skw").contains("mine"));
    assert_eq!(sandbox.read("desk/kept/more.txt"), "buoy and more\n");
    // A file that the steps of it may not write is none of theirs: the landing is as it was.
    let _ = sandbox.run(&["verify"]).passed();
}

#[test]
fn what_is_no_project_is_not_written_into() {
    let sandbox = Sandbox::new();
    sandbox.wish("skerroc = \"1.4\"");
    assert_eq!(sandbox.run(&["rehearse", "first-reading"]).code, 31, "it is not climbed");
    let _ = sandbox.run(&["climb"]).passed();
    assert!(sandbox.run(&["rehearse", "first-reading"]).stderr.contains("kladder add tidlow"));
    sandbox.wish("skerroc = \"1.4\"\ntidlow = \"4\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.write("desk/full/mine.txt", "mine");
    let refused = sandbox.run(&["rehearse", "first-reading", "full"]);
    assert!(refused.code == 1 && refused.stderr.contains("full is not empty"), "{}", refused.stderr);
    let _ = sandbox.run(&["rehearse", "first-reading"]).passed();
    assert!(sandbox.path("desk/first-reading/main.skw").exists());
    // A damaged record is told with what helps, and nothing is written.
    sandbox.write("desk/first-reading/.rehearsed.json", "{ \"format\":");
    let damaged = sandbox.run(&["rehearse", "first-reading"]);
    assert!(
        damaged.code == 43 && damaged.stderr.contains(".rehearsed.json") && !damaged.stderr.contains("licences"),
        "{} {}",
        damaged.code,
        damaged.stderr
    );
    let unknown = sandbox.run(&["rehearse", "first-reading", "new", "--part", "highest", "--answer", "plaice=x"]);
    assert!(unknown.code == 2 && unknown.stderr.contains("it asks for `place`"), "{}", unknown.stderr);
    assert!(!sandbox.path("desk/new").exists());
}

#[test]
fn a_ladder_has_rehearsals_of_its_own_whose_steps_run_in_folders_with_variables() {
    let sandbox = Sandbox::new();
    sandbox.write(
        "desk/ladder.toml",
        "[ladder]\ncatalog = \"../catalog\"\n[rungs]\ntombolet = \"any\"\n[rehearsals.our-way]\nsummary = \"As we do it\"\n\
         tools = [\"tombolet\"]\nfiles = { \"north/a\" = \"tide\" }\n[rehearsals.our-way.asks.name]\nquestion = \"Whose?\"\n\
         default = \"ours\"\n[[rehearsals.our-way.steps]]\nrun = [\"sh\", \"-c\", \"cat a; echo $WHOSE; read line; echo $line\"]\n\
         folder = \"north\"\ninput = \"in\"\nvariables = { WHOSE = \"@name@ @tombolet.version@\" }\n\
         expect = { stdout = '^tideours 1.1.0$', never = 'storm' }\nclaims = [{ name = \"hears\", stdout = '^in$' }]\n",
    );
    let _ = sandbox.run(&["climb"]).passed();
    let verify = sandbox.run(&["verify"]).passed().stdout;
    assert!(verify.contains("our-way    passed  2 steps"), "{verify}");
    let listed = sandbox.run(&["rehearse"]).passed().stdout;
    assert!(listed.contains("our-way") && listed.contains("As we do it"), "{listed}");
    let _ = sandbox.run(&["rehearse", "our-way", "kept"]).passed();
    assert_eq!(sandbox.read("desk/kept/north/a"), "tide");
    let text = sandbox.read("desk/ladder.toml").replace("rehearsals.our-way", "rehearsals.\"our way/\"");
    sandbox.write("desk/ladder.toml", &text);
    let told = sandbox.run(&["verify"]);
    assert!(told.code == 10 && told.stderr.contains("cannot be the name of a rehearsal"), "{}", told.complaint());
}

/// A program that watches a file and answers with what is in it, steps that ask it, and a file that is no text.
const WATCHED: &str = r##"
rehearsal = "watched"
summary = "A reader that sees changes"
tools = ["tombolet"]
files."gauge.bin" = { from = "gauges/gauge.bin" }
files."watch" = { text = "#!/bin/sh\necho up\nwhile sleep 0.05; do cat sea.txt >answer.new; mv answer.new answer; done\n", executable = true }
files."sea.txt" = "calm\n"
[[steps]]
name = "is the gauge it should be"
run = ["sh", "-c", "od -An -tx1 gauge.bin"]
expect = { stdout = '00 ff 0a' }
[[steps]]
name = "watches"
run = ["./watch"]
stays = '^up$'
[[steps]]
name = "sees the sea"
run = ["cat", "answer"]
expect = { stdout = "calm" }
patience = 3
[[steps]]
name = "sees a change"
write = { "sea.txt" = "rough\n", "new.txt" = "new\n" }
run = ["cat", "answer"]
expect = { stdout = "rough" }
patience = 3
[[steps]]
name = "does not see what is not"
run = ["cat", "answer"]
expect = { stdout = "calm" }
must-not-hold = true
"##;

#[test]
fn steps_run_beside_others_that_stay_and_change_files_under_them() {
    let sandbox = Sandbox::new();
    sandbox.write("catalog/rehearsals/watched.toml", WATCHED);
    sandbox.write("catalog/rehearsals/gauges/x", "");
    fs::write(sandbox.path("catalog/rehearsals/gauges/gauge.bin"), [0, 0xff, b'\n']).unwrap();
    assert!(!sandbox.run(&["catalog", "check", "../catalog"]).stdout.contains("gauge.bin"));
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let ran = sandbox.run(&["rehearse", "watched", "kept"]).passed();
    assert_data_eq!(
        ran.stdout,
        str![[r#"
watched: A reader that sees changes

  file
  gauge.bin  new
  sea.txt    new
  watch      new

  passed  is the gauge it should be  [..]
  passed  watches  [..]
  passed  sees the sea  [..]
  passed  sees a change  [..]
  passed  does not see what is not  [..]

By hand, with the ladder's commands in your shell:

    cd kept
    sh -c 'od -An -tx1 gauge.bin'
    ./watch &
    cat answer
    # new.txt is written
    # sea.txt is written
    cat answer
    cat answer

"#]]
    );
    assert_eq!(
        (sandbox.read("desk/kept/sea.txt").as_str(), sandbox.path("desk/kept/new.txt").exists()),
        ("calm\n", false)
    );
    let answer = fs::metadata(sandbox.path("desk/kept/answer")).unwrap().modified().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(200));
    assert_eq!(
        fs::metadata(sandbox.path("desk/kept/answer")).unwrap().modified().unwrap(),
        answer,
        "nobody watches any more"
    );
    // What a person changed is theirs, and the step that would write it is passed over.
    sandbox.write("desk/kept/sea.txt", "mine: calm\n");
    let kept = sandbox.run(&["rehearse", "watched", "kept"]).passed().stdout;
    assert!(kept.contains("sea.txt is yours, and left as it is"), "{kept}");
    assert_eq!(sandbox.read("desk/kept/sea.txt"), "mine: calm\n");
    assert_eq!(sandbox.run(&["verify"]).code, 0);

    fs::remove_file(sandbox.path("catalog/rehearsals/gauges/gauge.bin")).unwrap();
    let checked = sandbox.run(&["catalog", "check", "../catalog"]).stdout;
    assert!(
        checked.contains(
            "rehearsals/watched.toml:5:31: mistake: there is no file `gauges/gauge.bin` beside the rehearsal"
        ),
        "{checked}"
    );
    let verified = sandbox.run(&["verify"]);
    assert!(verified.code != 0 && verified.stdout.contains("gauges/gauge.bin: No such file"), "{}", verified.stdout);
    sandbox.edit(
        "catalog/rehearsals/watched.toml",
        "files.\"gauge.bin\" = { from = \"gauges/gauge.bin\" }",
        "files.\"gauge.bin\" = \"\"",
    );
    let says = |old: &str, new: &str, told: &str| {
        sandbox.write(
            "catalog/rehearsals/watched.toml",
            &WATCHED.replace("{ from = \"gauges/gauge.bin\" }", "\"\"").replace("'00 ff 0a'", "''").replace(old, new),
        );
        let told_now = sandbox.run(&["verify"]).stdout;
        assert!(told_now.contains(told), "{told}: {told_now}");
    };
    says("echo up", "echo up; exit 3", "it should have run on, and ended with status 3");
    says("echo up", "exit 4", "it should have run on, and ended with status 4");
    says("stays = '^up$'", "stays = '^down$'\nlimit = 1", "it said nothing like `^down$` within 1 s");
    says("must-not-hold = true", "", "its output has nothing like `calm`");
    says("stdout = \"calm\" }\nmust", "stdout = \"rough\" }\nmust", "it holds, and must not");
    says(
        "run = [\"cat\", \"answer\"]\nexpect = { stdout = \"calm\" }\nmust",
        "run = [\"no-cat\"]\nmust",
        "there is no command `no-cat`",
    );
}

/// What runs on ends with whoever is killed, and where that cannot be had, with the next one.
#[cfg(target_os = "linux")]
#[test]
fn what_a_killed_rehearsal_left_running_is_ended() {
    let sandbox = Sandbox::new();
    let steps = "files = {}\n[[steps]]\nrun = [\"sh\", \"-c\", \"echo up; while :; do date >beat; sleep 0.05; done\"]\nstays = 'up'\n\
                 [[steps]]\nrun = [\"sleep\", \"30\"]\n";
    let rehearsal = format!("rehearsal = \"beating\"\nsummary = \"\"\ntools = [\"tombolet\"]\n{steps}");
    sandbox.write("catalog/rehearsals/beating.toml", &rehearsal);
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let mut killed = sandbox.start(&["rehearse", "beating", "kept"]);
    let beat = sandbox.path("desk/kept/beat");
    let beats = || fs::metadata(&beat).and_then(|meta| meta.modified()).ok();
    let until = |holds: &dyn Fn() -> bool| {
        (0..500).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(20));
            holds()
        })
    };
    assert!(until(&|| beats().is_some()));
    killed.kill().unwrap();
    killed.wait().unwrap();
    sandbox.write("catalog/rehearsals/beating.toml", &rehearsal.replace("30", "0"));
    let _ = sandbox.run(&["verify"]).passed();
    let last = beats();
    std::thread::sleep(std::time::Duration::from_millis(300));
    assert_eq!(beats(), last);
}
