//! Fit-outs and first starts: what a rung gets once for each ladder, in its corners.

use std::fs;

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

/// A simulator of buoys: a shell script that keeps them as files in its own folder `devices`.
const PLANK: &str = r#"#!/bin/sh
here=$(dirname "$0")/devices
case $1 in
    list) ls "$here" ;;
    has) [ -e "$here/$2" ] ;;
    make) [ ! -e "$here/broken" ] || exit 3; echo "$2" > "$here/$2"; echo made >> "$here/.count" ;;
    half) echo half > "$here/broken"; exit 1 ;;
    remove) rm -f "$here/broken" ;;
    out) echo x > "$2" ;;
    start) cat "$here/start" ;;
esac
"#;

const HEAD: &str = "corners = [\"devices\"]\ncommands = { plank = \"plank\" }\n";
const BUOY: &str = "[[fit-outs]]\nname = \"a buoy\"\ndone = { run = [\"plank\", \"list\"], expect = { stdout = '^buoy$' } }\n\
    do = { run = [\"plank\", \"make\", \"buoy\"] }\nundo = { run = [\"plank\", \"remove\"] }\n";

fn desk(more: &str) -> Sandbox {
    let sandbox = Sandbox::new();
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", PLANK)], &[HEAD, more].concat());
    sandbox.wish("plank = \"any\"");
    sandbox
}

fn device(sandbox: &Sandbox, name: &str) -> Option<String> {
    let ladders = crate::sandbox::walkdir(&sandbox.path("home/data/ladders"));
    let file = ladders.into_iter().find(|path| path.ends_with(format!("corners/plank/devices/{name}")))?;
    fs::read_to_string(file).ok()
}

#[test]
fn a_fit_out_is_made_once_for_a_ladder_seen_to_be_there_and_told() {
    let sandbox = desk(BUOY);
    let route = sandbox.run(&["route"]).passed().stdout;
    assert!(route.contains("plank is fitted out for this ladder: a buoy (plank make buoy)."), "{route}");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(device(&sandbox, "buoy").as_deref(), Some("buoy\n"));
    let log = sandbox.run(&["log"]).passed().stdout;
    assert!(log.contains("fit-out of plank: "), "{log}");
    assert!(sandbox.run(&["climb"]).passed().stdout.contains("All rungs stand"));
    // A new release of the tool finds it there.
    let other = [PLANK, "# newer\n"].concat();
    sandbox.plank("plank-2.tar.gz", &[Entry::program("plank", other)], &[HEAD, BUOY].concat());
    let _ = sandbox.run(&["pin", "--move", "plank"]).passed();
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(device(&sandbox, ".count").as_deref(), Some("made\n"), "it was made once");
    // Gone from its corner, `verify` misses it, and the command that it names makes it anew.
    let _ = sandbox.run(&["verify"]).passed();
    let ladders = crate::sandbox::walkdir(&sandbox.path("home/data/ladders"));
    fs::remove_file(ladders.iter().find(|path| path.ends_with("devices/buoy")).unwrap()).unwrap();
    let missed = sandbox.run(&["verify"]);
    assert!(missed.code == 30 && missed.stdout.contains("a buoy"), "{}{}", missed.stdout, missed.stderr);
    assert!(missed.stdout.contains("kladder verify --mend"), "{}", missed.stdout);
    let _ = sandbox.run(&["verify", "--mend"]).passed();
    assert_eq!(device(&sandbox, ".count").as_deref(), Some("made\nmade\n"));
    fs::remove_file(ladders.iter().find(|path| path.ends_with("devices/buoy")).unwrap()).unwrap();
    let record = ladders.iter().find(|path| path.ends_with("fitted/plank.json")).unwrap();
    fs::write(record, "{ damaged").unwrap();
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["verify"]).passed();
    assert_eq!(device(&sandbox, "buoy").as_deref(), Some("buoy\n"));
}

#[test]
fn what_a_rung_wrote_stays_for_the_way_back_and_goes_with_the_last_landing_that_has_it() {
    let sandbox = desk(BUOY);
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["clear", "--yes"]).passed();
    let _ = sandbox.run(&["back", "--with-ladder"]).passed();
    let _ = sandbox.run(&["verify"]).passed();
    assert_eq!(device(&sandbox, ".count").as_deref(), Some("made\n"));
    sandbox.wish("tombolet = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let told = sandbox.run(&["clear", "--keep", "1"]).passed().stdout;
    assert!(told.contains("what plank wrote in its corners"), "{told}");
    let _ = sandbox.run(&["clear", "--keep", "1", "--yes"]).passed();
    assert_eq!(device(&sandbox, "buoy"), None);
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!(device(&sandbox, ".count").as_deref(), Some("made\n"), "made anew, in a corner that was empty");
}

#[test]
fn a_fit_out_that_is_seen_by_another_rung_is_made_anew_when_that_one_changes() {
    let fit_out = "[[fit-outs]]\nname = \"a buoy\"\ndone = { run = [\"plank\", \"has\", \"{tombolet.version}\"] }\n\
        do = { run = [\"plank\", \"make\", \"{tombolet.version}\"] }\n";
    let sandbox = desk(fit_out);
    for version in ["1.0.3", "1.1.0"] {
        sandbox.wish(&format!("plank = \"any\"\ntombolet = \"={version}\""));
        let _ = sandbox.run(&["climb"]).passed();
        assert_eq!(device(&sandbox, version), Some(format!("{version}\n")));
    }
}

#[test]
fn what_was_only_half_made_is_taken_away_and_made_whole() {
    let half = BUOY.replace("\"make\", \"buoy\"", "\"half\"");
    let sandbox = desk(&half);
    let failed = sandbox.run(&["climb"]);
    assert!(failed.code == 30 && failed.stderr.contains("a fit-out"), "{}", failed.complaint());
    assert!(device(&sandbox, "broken").is_some() && sandbox.run(&["landings"]).stdout.contains("no landing"));
    sandbox.edit("catalog/tools/plank.toml", "\"half\"", "\"make\", \"buoy\"");
    let _ = sandbox.run(&["climb"]).passed();
    assert_eq!((device(&sandbox, "broken"), device(&sandbox, "buoy").as_deref()), (None, Some("buoy\n")));
    assert!(sandbox.run(&["log"]).stdout.contains("undone for plank"));
}

#[test]
fn a_fit_out_writes_in_its_corners_only_and_has_no_network_unless_it_says_so() {
    let outside = Sandbox::new();
    let target = outside.path("outside");
    let port = outside.yard.url().replace("http://127.0.0.1:", "").trim_end_matches('/').to_owned();
    let fit_out = |run: &str, more: &str| {
        format!(
            "[[fit-outs]]\nname = \"x\"\ndone = {{ run = [\"plank\", \"list\"], expect = {{ stdout = 'never' }} }}\ndo = {{ run = {run} }}\n{more}"
        )
    };
    let sandbox = desk(&fit_out(&format!("[\"plank\", \"out\", '{}']", target.display()), ""));
    assert_eq!(sandbox.run(&["climb"]).code, 30);
    assert!(!target.exists());
    if fs::exists("/bin/bash").unwrap() {
        let connect = format!("[\"/bin/bash\", \"-c\", 'exec 3<>/dev/tcp/127.0.0.1/{port} && printf %s%s conn ected']");
        let told = |more: &str| {
            let sandbox = desk(&fit_out(&connect, more));
            let _ = sandbox.run(&["climb"]);
            sandbox.run(&["log"]).stdout
        };
        assert!(told("network = true\n").contains("connected"));
        assert!(!told("").contains("connected"));
    }
}

#[test]
fn the_first_start_finds_its_files_with_what_the_person_chose_and_later_changes_stay() {
    let first = "[first-start]\n\"devices/start\" = 'theme = \"@theme@\"'\n\
        [choices.theme]\nquestion = \"Dark or light?\"\ndefault = \"light\"\npattern = \"dark|light\"\nrule = \"`dark` or `light`\"\n";
    let sandbox = desk(first);
    let choose = |tool: &str, choice: &str| {
        let text =
            format!("[ladder]\ncatalog = \"../catalog\"\n[rungs]\nplank = \"any\"\n[choices.{tool}]\n{choice}\n");
        sandbox.write("desk/ladder.toml", &text);
        sandbox.run(&["climb"])
    };
    let refused = choose("plank", "theme = \"blue\"");
    assert!(refused.code == 10 && refused.stderr.contains("`dark` or `light`"), "{}", refused.complaint());
    let unknown = choose("plank", "them = \"dark\"");
    assert!(unknown.code == 10 && unknown.stderr.contains("theme"), "{}", unknown.complaint());
    assert_eq!(choose("tombolet", "theme = \"dark\"").code, 10);
    let _ = choose("plank", "theme = \"dark\"").passed();
    let told = sandbox.run(&["run", "--", "plank", "start"]).passed().stdout;
    assert_eq!(told, "theme = \"dark\"");
    // The tool's own file from then on.
    let file = crate::sandbox::walkdir(&sandbox.path("home/data/ladders"));
    let file = file.into_iter().find(|path| path.ends_with("devices/start")).unwrap();
    fs::write(&file, "mine").unwrap();
    let _ = choose("plank", "theme = \"light\"").passed();
    assert_eq!(fs::read_to_string(&file).unwrap(), "mine");
    // Where a link leads out of the corner nothing is written through it.
    fs::remove_file(&file).unwrap();
    std::os::unix::fs::symlink(sandbox.path("elsewhere"), &file).unwrap();
    let _ = choose("plank", "theme = \"dark\"").passed();
    assert!(!sandbox.path("elsewhere").exists());
}

#[test]
fn a_definition_that_has_no_corner_for_what_it_makes_is_told() {
    let sandbox = Sandbox::new();
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", PLANK)], BUOY);
    sandbox.wish("plank = \"any\"");
    let told = sandbox.run(&["pin"]);
    assert!(told.code == 10 && told.stderr.contains("the fit-out `a buoy` has no corner"), "{}", told.complaint());
}
