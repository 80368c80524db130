//! What the pages say is so: commands, exit codes, samples of files.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use kladder_choose::catalog::{Definition, Preset, Rehearsal};
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_choose::pins::Pins;
use kladder_core::desk::start::Answers;
use kladder_core::host::survey::{Host, facts};
use kladder_core::settings::Home;

use crate::sandbox::Sandbox;

fn page(path: &str) -> String {
    fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").join(path)).unwrap()
}

/// The blocks of TOML on a page that have these words in them, with digests that are some.
fn samples(page: &str, having: &str) -> Vec<String> {
    let blocks = page.split("```toml\n").skip(1).filter_map(|rest| rest.split("```").next());
    let found: Vec<String> =
        blocks.filter(|block| block.contains(having)).map(|block| block.replace("DIGEST", &"0".repeat(64))).collect();
    assert!(!found.is_empty(), "no sample has `{having}`");
    found
}

fn source(text: &str) -> Source {
    Source::new("sample.toml", text)
}

#[test]
fn every_sample_of_a_file_is_one() {
    let files = page("docs/files.md");
    for text in samples(&files, "[ladder]").iter().chain(&samples(&page("README.md"), "[ladder]")) {
        let ladder = Ladder::parse(&source(text)).unwrap();
        assert!(ladder.wishes.len() >= 4 && ladder.machines.len() == 2);
    }
    let [pins] = &samples(&files, "[pinned]")[..] else { panic!("more than one sample of pins") };
    let more = samples(&files, "[rungs.foreshoal]").concat();
    let read = Pins::parse(&source(&[pins.as_str(), &more].concat())).unwrap();
    assert_eq!(read.rungs.len(), 5);
    // What is written down of them reads back as the same.
    assert_eq!(Pins::parse(&source(&read.to_toml())).unwrap(), read);
    let definitions = samples(&files, "tool = \"skerroc\"");
    let read =
        |text: &String| Definition::parse(&source(text), "skerroc").unwrap_or_else(|error| panic!("{error}\n{text}"));
    let definitions: Vec<Definition> = definitions.iter().map(read).collect();
    let counted =
        |definition: &Definition| (definition.releases.len(), definition.also.len(), definition.says.gates.len());
    assert_eq!(definitions.iter().map(counted).collect::<Vec<_>>(), [(1, 0, 0), (2, 2, 0), (1, 5, 0), (1, 0, 4)]);
    let whole = definitions.last().unwrap();
    assert_eq!((whole.says.lends.len(), whole.says.set_up.len(), whole.says.fit_outs.len()), (1, 1, 1));
    let needs = samples(&files, "needs.tidlow = [").concat();
    let with_needs = ["tool = \"skerroc\"\nsummary = \"\"\n[[releases]]\nversion = \"1\"\n", needs.as_str()].concat();
    assert_eq!(Definition::parse(&source(&with_needs), "skerroc").unwrap().releases[0].says.needs.len(), 2);
    Rehearsal::parse(&source(&samples(&files, "rehearsal = ").concat()), "first-reading").unwrap();
    Preset::parse(&source(&samples(&files, "preset = ").concat()), "gauge-firmware").unwrap();
    source(&samples(&page("docs/commands.md"), "[optional]").concat()).parse::<Answers>().unwrap();
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("host.toml"), samples(&files, "virtualisation_reachable").concat()).unwrap();
    let host = Host::new("".into(), folder.path()).described(folder.path().to_path_buf());
    assert_eq!(facts(&host, &[]).odd, []);
    let home = Home::within(folder.path());
    fs::create_dir_all(&home.config).unwrap();
    fs::write(home.config.join("config.toml"), samples(&files, "[network]").concat()).unwrap();
    assert_eq!(home.settings().unwrap().network.patience, 30);
}

/// The first words of the rows of a table under a heading.
fn rows<'p>(page: &'p str, heading: &str) -> Vec<&'p str> {
    let below = page.split(heading).nth(1).unwrap_or_else(|| panic!("there is no {heading}"));
    let table = below.lines().skip_while(|line| !line.starts_with("|---")).skip(1);
    table.take_while(|line| line.starts_with('|')).map(|line| line.split('|').nth(1).unwrap().trim()).collect()
}

#[test]
fn exit_codes_on_the_page_are_those_of_the_program() {
    let sandbox = Sandbox::new();
    let told = sandbox.run(&["help", "codes"]).passed().stdout;
    let codes = told.lines().filter_map(|line| line.split_whitespace().next()?.parse::<u16>().ok());
    let codes: Vec<u16> = codes.collect();
    assert!(codes.len() > 20, "{told}");
    let page = page("docs/commands.md");
    let on_page: Vec<u16> = rows(&page, "## Exit codes").iter().map(|code| code.parse().unwrap()).collect();
    assert_eq!(on_page, codes);
    let formats = sandbox.run(&["help", "formats"]).passed().stdout;
    for format in rows(&page, "## Shapes").iter().flat_map(|row| row.split(", ")) {
        assert!(formats.contains(format.trim_matches('`')), "{format} is not in `kladder help formats`:\n{formats}");
    }
}

#[test]
fn every_command_is_on_the_pages_and_every_one_on_the_pages_is_there() {
    let sandbox = Sandbox::new();
    let help = sandbox.run(&["--help"]).passed().stdout;
    let listed = help.lines().skip_while(|line| !line.starts_with("Looking") && !line.ends_with(':'));
    let names = listed.filter_map(|line| line.strip_prefix("  ")?.split_whitespace().next());
    let names: BTreeSet<&str> = names.filter(|name| name.bytes().all(|byte| byte.is_ascii_lowercase())).collect();
    assert!(names.len() > 15, "{names:?} in\n{help}");
    let readme = page("README.md");
    for name in &names {
        let is_there = [format!("kladder {name}"), format!("-- {name}")].iter().any(|typed| readme.contains(typed));
        assert!(is_there, "the README does not have `kladder {name}`");
        let _ = sandbox.run(&[*name, "--help"]).passed();
    }
    for page in [&readme, &page("docs/commands.md"), &page("docs/files.md")] {
        let typed = page.split("`kladder ").skip(1).filter_map(|rest| rest.split(['`', ' ', ',']).next());
        for word in typed.filter(|word| word.bytes().all(|byte| byte.is_ascii_lowercase()) && !word.is_empty()) {
            assert!(names.contains(word) || word == "help", "a page has `kladder {word}`, which there is not");
        }
    }
}

#[test]
fn shells_offer_what_the_ladder_and_the_catalogs_have() {
    let sandbox = Sandbox::new();
    let asked = |words: &[&str]| -> Vec<String> {
        let mut command = sandbox.command(&[&["--", "kladder"], words].concat());
        command.env("KLADDER_COMPLETE", "bash").env("_CLAP_COMPLETE_INDEX", words.len().to_string());
        let told = sandbox.finished(command.output().unwrap()).passed();
        told.stdout.lines().map(str::to_owned).collect()
    };
    let offers = |words: &[&str], expected: &[&str]| {
        let told = asked(words);
        for one in expected {
            assert!(told.iter().any(|word| word == one), "{words:?}: {one} is not in {told:?}");
        }
    };
    offers(&["v"], &["vars", "verify"]);
    offers(&["about", ""], &["skerroc", "tidlow", "godwisp"]);
    offers(&["add", "skerroc", ""], &["1.4.2", "long-term"]);
    offers(&["add", "tidlow", "--piece", ""], &["tracer"]);
    offers(&["drop", "sk"], &["skerroc"]);
    offers(&["rehearse", ""], &["first-reading"]);
    offers(&["terms", "show", ""], &["neapstone-terms"]);
    offers(&["bale", "x", "--for", ""], &["desk", "laptop"]);
    offers(&["services", ""], &["skerry-point"]);
    assert!(asked(&["about", "zz"]).is_empty());
    let _ = sandbox.run(&["climb"]).passed();
    offers(&["back", ""], &["1"]);
    // Where nothing can be told, nothing is: no ladder, a broken one.
    sandbox.write("desk/ladder.toml", "[ladder\n");
    assert!(!asked(&["drop", ""]).contains(&"skerroc".to_owned()));
    fs::remove_file(sandbox.path("desk/ladder.toml")).unwrap();
    offers(&["wi"], &["wire"]);
}

#[test]
fn shells_are_given_the_scripts_that_ask() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["climb"]).passed();
    let _ = sandbox.run(&["wire", "--yes"]).passed();
    let share = sandbox.path("home/data/wired/share");
    for file in
        ["zsh/site-functions/_kladder", "powershell/kladder.ps1", "nushell/kladder.nu", "man/man1/kladder-bale.1"]
    {
        assert!(share.join(file).is_file(), "{file}");
    }
    let kladder = assert_cmd::cargo::cargo_bin!("kladder");
    let path = format!("{}:/usr/bin:/bin", kladder.parent().unwrap().display());
    let told = |shell: &str, script: &str| {
        let mut command = std::process::Command::new(shell);
        command.args(["-c", script]).current_dir(sandbox.path("desk")).env_clear().env("PATH", &path);
        command.env("SHARE", &share).env("KLADDER_HOME", sandbox.path("home")).env("HOME", sandbox.path("user"));
        sandbox.finished(command.output().unwrap()).passed().stdout
    };
    let bash = "source \"$SHARE/bash-completion/completions/kladder\"; COMP_WORDS=(kladder drop sk); COMP_CWORD=2\n\
                _clap_complete_kladder kladder sk drop; echo \"${COMPREPLY[@]}\"";
    assert_eq!(told("bash", bash), "skerroc\n");
    if let Some(nu) = found("nu") {
        // What it would offer behind the words, as it tells editors.
        let words = format!("source '{}/nushell/kladder.nu'\nkladder about skerr", share.display());
        sandbox.write("desk/words.nu", &words);
        let told = told("bash", &format!("'{}' -n --ide-complete {} words.nu", nu.display(), words.len()));
        assert!(told.contains("\"skerroc\""), "{told}");
    }
    if which("fish") {
        let fish = "source $SHARE/fish/vendor_completions.d/kladder.fish; complete -C 'kladder about skerr'";
        assert!(told("fish", fish).starts_with("skerroc\tCompiler"), "{}", told("fish", fish));
    }
    if which("zsh") {
        // What zsh is told is told through functions of its own, which are taken down here.
        let zsh = "compdef() { :; }; _describe() { eval \"print -l \\${(P)@[-1]}\"; }; words=(kladder drop sk); CURRENT=3\n\
                   source $SHARE/zsh/site-functions/_kladder";
        assert!(told("zsh", zsh).contains("skerroc"), "{}", told("zsh", zsh));
    }
}

fn which(name: &str) -> bool {
    found(name).is_some()
}

fn found(name: &str) -> Option<std::path::PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    std::env::split_paths(&path).map(|folder| folder.join(name)).find(|file| file.is_file())
}
