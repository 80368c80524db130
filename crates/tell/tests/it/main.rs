//! Facts in words: each sentence as a person reads it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::needless_raw_string_hashes, reason = "snapbox writes its snapshots with them")]

use std::path::PathBuf;
use std::time::Duration;

use kladder_core::base::event::{Cause, Difference, Finding, How, Looked, Output, Skipped, Subject};
use kladder_core::bring::unpack::{Refusal, UnpackError};
use kladder_core::host::survey::{Odd, Untold};
use kladder_tell::text::{both, bytes, clean, count, either, shell_word, shortened, time};
use kladder_tell::words;
use snapbox::{assert_data_eq, str};

/// One a line; none of them may look as if a program had printed a value for itself.
fn lines(texts: impl IntoIterator<Item = String>) -> String {
    let texts: Vec<String> = texts.into_iter().collect();
    for text in &texts {
        let foreign = ["Some(", "None", "\\\"", "PathBuf", "  ", ": \"", " ,", "{ ", "::"];
        assert!(!foreign.iter().any(|part| text.contains(part)), "{text}");
        assert!(!text.ends_with('.') && !text.is_empty(), "{text}");
    }
    texts.join("\n") + "\n"
}

#[test]
fn causes_say_what_helps() {
    let text = str::to_owned;
    let causes = [
        Cause::OldCLibrary { wanted: text("2.38"), found: Some(text("2.36")) },
        Cause::OldCLibrary { wanted: text("2.38"), found: None },
        Cause::OldLibrary { library: text("libstdc++.so.6"), wanted: text("GLIBCXX_3.4.32") },
        Cause::NoLibrary { library: text("libtide.so.2"), by: Vec::new() },
        Cause::NoLibrary { library: text("libtide.so.2"), by: vec!["tidewater".parse().unwrap()] },
        Cause::LostLink { file: text("/shelf/bin/sk"), target: text("../lib/sk") },
        Cause::NoInterpreter { interpreter: text("/opt/skerrow") },
        Cause::NoCompanion { module: text("tide-table") },
        Cause::NotExecutable { file: Some(text("/shelf/bin/sk")) },
        Cause::NotExecutable { file: None },
        Cause::OtherProcessor,
        Cause::WantsNetwork,
        Cause::WantsToWrite { path: text("/shelf/state") },
        Cause::WantsToWrite { path: String::new() },
    ];
    assert_data_eq!(
        lines(causes.iter().map(words::cause)),
        str![[r#"
it wants a C library of 2.38 or newer; this host has 2.36: pin an older release, or have the definition say `c-library = "gnu >=2.38"` under [[gates]]
it wants a C library of 2.38 or newer: pin an older release, or have the definition say `c-library = "gnu >=2.38"` under [[gates]]
it wants GLIBCXX_3.4.32 of libstdc++.so.6, and the one that is there is older: pin an older release of it
nobody provides the library libtide.so.2: install the system's package that has it, or add a need for it
nobody here provides the library libtide.so.2; in the catalog tidewater does: need it
/shelf/bin/sk should be a link to ../lib/sk, and the archive's format lost it: have the command name the target, or pack it as one that keeps links
its interpreter /opt/skerrow is not there: the definition should need a tool that brings it
it needs the module tide-table, which did not come with it: the definition should bring it as a piece
/shelf/bin/sk may not be run: name it in `executable` under `unpack` in the definition
a file of it may not be run: name it in `executable` under `unpack` in the definition
it is made for another processor or system: see `for` of the artifact
it wanted the network, which it does not have here
it wanted to write /shelf/state, which it may not: name the folder in `corners` of the definition
it wanted to write where it may not: name the folder in `corners` of the definition

"#]]
    );
}

#[test]
fn findings_say_what_was_seen() {
    let file = || PathBuf::from("/usr/bin/sk");
    let command = || "sk".to_owned();
    let findings = [
        Finding::Differs { differences: Vec::new(), all: 1 },
        Finding::Differs { differences: Vec::new(), all: 7 },
        Finding::NoManifest,
        Finding::Status { status: 3, expected: vec![0] },
        Finding::TooLong { limit: 60 },
        Finding::NoMatch { looked: Looked::Error, pattern: "tide".into() },
        Finding::OtherVersion { said: "1.4.1".into(), pinned: "1.4.2".parse().unwrap() },
        Finding::NoCommand { command: command() },
        Finding::NotStarted { command: command(), error: "exec format error".into() },
        Finding::CannotStart { file: file() },
        Finding::NobodyAnswers,
        Finding::OtherAnswers { file: file() },
        Finding::OtherLauncher,
        Finding::NoEntry,
        Finding::OtherEntry { program: file() },
    ];
    let differences =
        [How::Missing, How::Changed, How::Mode, How::Extra].map(|how| Difference { path: "bin/sk".into(), how });
    let skipped = [Skipped::EarlierFailed, Skipped::NotOnLadder { tools: vec!["skerroc".parse().unwrap()] }];
    let rung = || kladder_choose::names::RungKey::shared(&"skerroc".parse().unwrap());
    let subjects = [
        Subject::Files { rung: rung() },
        Subject::Answer { rung: rung(), command: command() },
        Subject::Start { rung: rung(), command: command() },
        Subject::Check { rung: rung(), name: "says its version".into() },
        Subject::Rehearsal { rehearsal: "first-light".into(), step: None },
        Subject::Commands,
    ];
    let all = findings.iter().map(words::finding).chain(differences.iter().map(words::difference));
    let all = all.chain(skipped.iter().map(words::skipped)).chain(subjects.iter().map(words::claim));
    assert_data_eq!(
        lines(all),
        str![[r#"
1 of its files is not as it was
7 of its files are not as they were
there is no record of its files, or it cannot be read
it ended with status 3, and 0 was expected
it was still running after 60 s
its error output has nothing like `tide`
it says that it is 1.4.1, and 1.4.2 is pinned
there is no command `sk`
`sk` could not be started: exec format error
this system would refuse to start /usr/bin/sk
no file answers
/usr/bin/sk answers
its launcher is another program than the one that was put there
the launch table cannot be used, or does not have it
it starts /usr/bin/sk
bin/sk is gone
bin/sk was changed
bin/sk has other rights
bin/sk does not belong there
the step before it failed
skerroc is not on the ladder
its files are as they were unpacked
`sk` answers from the shelf
`sk` can be started
says its version
its tools are there
its commands are what was put there, and nothing else

"#]]
    );
    let long = Output { first: "one\n\u{1b}[2Jtwo".into(), left_out: 3, last: "end".into() };
    assert_eq!(words::output(&long), ["one", "\\u{1b}[2Jtwo", "(3 lines left out; `kladder log` has all)", "end"]);
}

#[test]
fn refusals_say_what_is_wrong_with_an_archive() {
    let name = || "../escaped".to_owned();
    let refusals = [
        Refusal::Absolute,
        Refusal::Climbs,
        Refusal::NoPath,
        Refusal::NotAFolder,
        Refusal::Twice,
        Refusal::Case("readme".into()),
        Refusal::LinkAbsolute("/etc".into()),
        Refusal::LinkOut(name()),
        Refusal::HardLink(name()),
        Refusal::Special,
        Refusal::Stripped { strip: 1, top: vec!["README".into()], fits: 0 },
        Refusal::Stripped { strip: 2, top: vec!["skerroc-1.4".into()], fits: 1 },
        Refusal::EndRecord { counted: 1 },
        Refusal::Encrypted,
        Refusal::Unknown("method 97".into()),
        Refusal::Overlaps,
        Refusal::Sparse,
        Refusal::Limit("4000000 entries".into()),
    ];
    let whole = UnpackError::Refused { archive: "s.zip".into(), entry: String::new(), reason: Refusal::Overlaps };
    let entry = UnpackError::Refused { archive: "s.zip".into(), entry: name(), reason: Refusal::Climbs };
    let texts = refusals.iter().map(ToString::to_string).chain([whole.to_string(), entry.to_string()]);
    assert_data_eq!(
        lines(texts),
        str![[r#"
its path is absolute
its path climbs out with `..`
its path is empty or not a path
its path goes through something that is not a folder
there is something at its path already
only upper and lower case tell it from `readme`, which some file systems take for the same
it is a link to the absolute path `/etc`
it is a link to `../escaped`, which leads out of the folder
it is a hard link to `../escaped`, which is no file of this archive
it is neither a file, a folder nor a link
it has fewer folders above it than `strip` leaves out, which is 1
it has fewer folders above it than `strip` leaves out, which is 2
its end record counts 1 entries, and its directory goes on behind them
it is encrypted
it is compressed with method 97, which is not known here
entries of the archive overlap
what the archive says of its holes does not fit
it goes beyond the limit of 4000000 entries
the archive s.zip was refused
the archive s.zip was refused at `../escaped`

"#]]
    );
}

#[test]
fn what_is_odd_about_a_host() {
    let odd = [
        Odd::TwoCLibraries,
        Odd::MemoryUntold,
        Odd::OtherFeatures { kind: "aarch64".into() },
        Odd::MoreMemory { available: 99, total: 10 },
        Odd::Description { file: "/root/host.toml".into(), error: "the key `usr` means nothing here".into() },
    ];
    let untold = [
        Untold::Described,
        Untold::NotRun { error: "permission denied".into() },
        Untold::TooSlow { limit: 5 },
        Untold::Interrupted,
        Untold::Status { status: 139 },
        Untold::Unsaid,
    ];
    assert_data_eq!(
        lines(odd.iter().map(words::host::odd).chain(untold.iter().map(words::host::untold))),
        str![[r#"
two C libraries are there, gnu and musl; gnu is taken for the system's own
the kernel does not tell how much memory there is
the processor is said to be aarch64, and its features are another kind's
99 bytes of memory are available of 10
/root/host.toml: the key `usr` means nothing here
nothing is run in a described root
permission denied
it did not answer within 5 s
interrupted
it ended with status 139
it says no version

"#]]
    );
}

#[test]
fn numbers_and_lists_are_told_as_people_do() {
    let sizes = [0, 999, 1000, 999_949, 999_950, 1_234_567, 5_000_000_000, u64::MAX];
    assert_eq!(sizes.map(bytes), ["0 B", "999 B", "1.0 kB", "999.9 kB", "1.0 MB", "1.2 MB", "5.0 GB", "18446744.1 TB"]);
    let times = [0, 40, 999, 1000, 59_940, 60_000, 3_725_000];
    let told = times.map(|millis| time(Duration::from_millis(millis)));
    assert_eq!(told, ["0 ms", "40 ms", "999 ms", "1.0 s", "59.9 s", "1 min 0 s", "62 min 5 s"]);
    assert_eq!(
        (count(1, "wish"), count(2, "wish"), count(0, "rung")),
        ("1 wish".into(), "2 wishes".into(), "0 rungs".into())
    );
    assert_eq!(either::<&str>(&[]), "");
    assert_eq!(
        (either(&["a"]), either(&["a", "b"]), both(&["a", "b", "c"])),
        ("a".into(), "a or b".into(), "a, b and c".into())
    );
    assert_eq!((shortened("short", 5), shortened("1234567890", 5)), ("short".into(), "123…0".into()));
    // Nothing that a file says drives the terminal: escapes, returns, C1 controls, marks that turn text round.
    for foreign in ["\u{1b}[31m", "a\rb", "\u{9b}2J", "\u{202e}", "\u{7}", "\0"] {
        let shown = clean(foreign);
        assert!(!shown.chars().any(|c| c.is_control() || c == '\u{202e}'), "{shown:?}");
    }
}

#[test]
fn a_path_is_one_word_of_a_shell() {
    let word = |text: &str| shell_word(text);
    assert_eq!(word("/srv/yard-1.0_a,b@c%d:e+f"), "/srv/yard-1.0_a,b@c%d:e+f");
    for text in ["/a b", "/it's", "/$HOME", "", "/a;b", "/über"] {
        let out = std::process::Command::new("sh").args(["-c", &format!("printf %s {}", word(text))]).output().unwrap();
        assert_eq!(String::from_utf8(out.stdout).unwrap(), text);
    }
    // What would end a line does not end the word.
    assert_eq!(word("/a\nb"), "'/a\nb'");
}
