//! Programs that are asked over an open protocol: language servers and debug adapters, good ones and bad ones.

use kladder_pack::Entry;

use crate::sandbox::Sandbox;

/// Answers over standard input and output, as its first argument says.
const PLANK: &str = r##"#!/bin/sh
mode=$1
say() { printf 'Content-Length: %s\r\n\r\n%s' "$(printf %s "$1" | wc -c | tr -d ' ')" "$1"; }
hear() {
    size=0
    while IFS= read -r header; do
        header=$(printf %s "$header" | tr -d '\r')
        [ -z "$header" ] && break
        case $header in Content-Length:*) size=${header#*: } ;; esac
    done
    [ "$size" -gt 0 ] || exit 0
    message=$(dd bs=1 count="$size" 2>/dev/null)
}
field() { printf %s "$message" | sed -n "s/.*\"$1\":\"\([^\"]*\)\".*/\1/p"; }
number() { printf %s "$message" | sed -n "s/.*\"$1\":\([0-9]*\).*/\1/p"; }
result() { say "{\"jsonrpc\":\"2.0\",\"id\":$(number id),\"result\":$1}"; }
body() { say "{\"type\":\"response\",\"success\":${2-true},\"request_seq\":$(number seq),\"message\":\"no harbour\",\"body\":$1}"; }
event() { say "{\"type\":\"event\",\"event\":\"$1\",\"body\":{\"threadId\":7}}"; }
case $mode in mute) exec sleep 60 ;; babble) echo "it is high water, and this is no message at all" ; exec sleep 60 ;; esac
printf 'Content-Type: tides\r\n'
while :; do
    hear
    case $(field method)$(field command) in
        initialize)
            [ "$mode" = ends ] && exit 3
            [ "$mode" = refuses ] && say "{\"jsonrpc\":\"2.0\",\"id\":$(number id),\"error\":{\"code\":1,\"message\":\"no harbour\"}}"
            case $mode in
                adapter*) body '{}' ;;
                asked) result '{"capabilities":{"diagnosticProvider":{}}}' ;;
                *) result '{"capabilities":{}}' ;;
            esac ;;
        textDocument/didOpen)
            [ "$mode" = asked ] && continue
            # It asks before it tells, and tells of another file first.
            say '{"jsonrpc":"2.0","id":"own","method":"workspace/configuration","params":{"items":[{},{}]}}'
            hear
            case $message in *'"result":[null,null]'*) ;; *) exit 9 ;; esac
            say '{"jsonrpc":"2.0","method":"textDocument/publishDiagnostics","params":{"uri":"file:///other","diagnostics":[{"message":"all wrong"}]}}'
            say "{\"jsonrpc\":\"2.0\",\"method\":\"textDocument/publishDiagnostics\",\"params\":{\"uri\":\"$(field uri)$uri\",\"diagnostics\":[{\"message\":\"the tide is wrong\"}]}}" ;;
        textDocument/diagnostic) result '{"kind":"full","items":[{"message":"the tide is wrong"}]}' ;;
        textDocument/completion)
            case $message in *'"position":{"character":4,"line":1}'*) result '{"isIncomplete":false,"items":[{"label":" tidal "},{"label":"tidings"}]}' ;; *) result '[]' ;; esac ;;
        shutdown) result null ;;
        launch) [ "$mode" = adapter-refuses ] && body null false; launched=$message; event initialized ;;
        setBreakpoints) line=$(number line); body '{"breakpoints":[]}' ;;
        configurationDone)
            body null
            message=$launched
            body null
            event stopped ;;
        stackTrace)
            [ "$mode" = adapter-strays ] && line=99
            body "{\"stackFrames\":[{\"line\":$line,\"source\":{\"name\":\"gauge.skw\"}}]}" ;;
        disconnect) body null; exit 0 ;;
        exit) exit 0 ;;
    esac
done
"##;

/// The verdicts on a step, each with why it failed.
fn verdicts(sandbox: &Sandbox, mode: &str, asked: &str) -> Vec<(String, String)> {
    // Only what never comes is waited for to the end.
    let limit = if mode == "mute" || asked.contains("'right'") { 2 } else { 60 };
    let rehearsal = format!(
        "rehearsal = \"talk\"\nsummary = \"\"\ntools = [\"plank\"]\nfiles = {{ \"gauge.skw\" = \"low\\ntide\\n\" }}\n\
         [[steps]]\nname = \"it\"\nrun = [\"plank\", \"{mode}\"]\nlimit = {limit}\n{asked}\n"
    );
    sandbox.write("catalog/rehearsals/talk.toml", &rehearsal);
    let told = sandbox.run(&["verify", "--json"]).json();
    let of_step = told["verdicts"].as_array().unwrap().iter().filter(|one| one["subject"]["rehearsal"] == "talk");
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    of_step
        .filter(|one| one["subject"]["kind"] == "rehearsal")
        .map(|one| (text(&one["claim"]), text(&one["why"])))
        .collect()
}

fn desk() -> Sandbox {
    let sandbox = Sandbox::new();
    // The file's name is what an editor would say.
    let script = PLANK.replace("$(field uri)$uri", "$own");
    let script =
        script.replace("            # It asks before", "            own=$(field uri)\n            # It asks before");
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", script)], "commands.plank = \"plank\"");
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    sandbox
}

const SERVER: &str = "[steps.language-server]\nfile = \"gauge.skw\"\nlanguage = \"skerrow\"\nfinds = 'wrong'\n\
                      completes = { after = \"tide\", like = '^tidal$' }";
const ADAPTER: &str =
    "[steps.debug-adapter]\nfile = \"gauge.skw\"\nstops-at = \"tide\"\nlaunch = { program = \"@folder@/x\" }";

#[test]
fn a_language_server_is_asked_as_an_editor_asks_and_each_answer_is_a_verdict() {
    let sandbox = desk();
    let good = ["it: answers its editor", "it: finds the mistake", "it: completes"]
        .map(|claim| (claim.to_owned(), String::new()));
    assert_eq!(verdicts(&sandbox, "tells", SERVER), good);
    assert_eq!(verdicts(&sandbox, "asked", SERVER), good);
    let fails = |mode: &str, asked: &str, at: usize, why: &str| {
        let told = verdicts(&sandbox, mode, asked);
        assert!(told[at].1.contains(why), "{mode}: {told:?}");
    };
    fails("mute", SERVER, 0, "no answer to `initialize` within 2 s");
    fails("babble", SERVER, 0, "no message of its protocol: it is high water");
    fails("ends", SERVER, 0, "ended with status 3");
    fails("refuses", SERVER, 0, "it refused `initialize`: no harbour");
    fails("tells", &SERVER.replace("'wrong'", "'right'"), 1, "nothing like `right`, but `the tide is wrong`");
    fails("tells", &SERVER.replace("^tidal$", "^ebb$"), 2, "nothing like `^ebb$`, but `tidal` or `tidings`");
    fails("tells", &SERVER.replace("\"tide\"", "\"sea\""), 2, "nothing like `sea`");
    let text = "expect = { stdout = \"x\" }\nstays = \"x\"\n".to_owned() + SERVER;
    sandbox.write(
        "catalog/rehearsals/talk.toml",
        &format!("rehearsal = \"talk\"\nsummary = \"\"\ntools = []\n[[steps]]\nrun = [\"x\"]\n{text}"),
    );
    let wrong = sandbox.run(&["verify"]);
    assert!(wrong.stderr.contains("not judged as other steps are"), "{}", wrong.complaint());
}

#[test]
fn a_debug_adapter_stops_a_program_at_a_line() {
    let sandbox = desk();
    let good =
        ["it: answers its editor", "it: stops where it is told to"].map(|claim| (claim.to_owned(), String::new()));
    assert_eq!(verdicts(&sandbox, "adapter", ADAPTER), good);
    let fails = |mode: &str, asked: &str, why: &str| {
        let told = verdicts(&sandbox, mode, asked);
        assert!(told[1].1.contains(why), "{mode}: {told:?}");
    };
    fails("adapter-strays", ADAPTER, "nothing like `line 2`, but `gauge.skw line 99`");
    fails("adapter-refuses", ADAPTER, "it refused `");
    fails("adapter", &ADAPTER.replace("\"tide\"", "\"sea\""), "nothing like `sea`");
}

/// Draws, reads lines and ends, as its first argument says.
const SCREEN: &str = r##"#!/bin/bash
printf '\033[2J\033[1;1Hgauge at %s\n' "$(stty size </dev/tty)"
case $1 in
    nags) printf '\033[5;1HWould you like to hear of the tides?\n' ;;
    leaves) exit 3 ;;
    floods) exec yes "$(printf '\033[65535L\033[2;1Hhigh water')" ;;
    deaf) sleep 60 ;;
    reaches) (exec 3<>/dev/tcp/192.0.2.7/80) 2>/dev/null ;;
    whispers) (exec 3<>/dev/tcp/127.0.0.1/9) 2>/dev/null ;;
    where) stty raw -echo; printf '\033[3;5H\033[6n'; IFS= read -r -d R at; stty sane; printf '\r\nat %q\n' "$at" ;;
esac
while read -r line; do
    case $line in
        quit) printf '\033[2J'; exit 0 ;;
        *) printf 'you said %s\n' "$line" ;;
    esac
done
"##;

#[test]
fn a_program_in_a_terminal_is_used_as_by_a_person_and_its_screen_is_read() {
    let sandbox = Sandbox::new();
    sandbox.plank("plank.tar.gz", &[Entry::program("plank", SCREEN)], "commands.plank = \"plank\"\ncalls = [\"bash\"]");
    sandbox.wish("plank = \"any\"");
    let _ = sandbox.run(&["climb"]).passed();
    let terminal = "reaches-nobody = true\n[steps.terminal]\nsize = [60, 10]\nnever = 'Would you like'\ndoes = [\n\
         { shows = '^gauge at 10 60$' }, { types = \"low\" }, { presses = [\"Enter\"] }, { name = \"it answers\", shows = '^you said low$' },\n\
         { types = \"quit\" }, { presses = [\"Enter\"], ends = true }]";
    let told = verdicts(&sandbox, "calm", terminal);
    let claims: Vec<&str> = told.iter().map(|(claim, _)| claim.as_str()).collect();
    let wanted = [
        "it: its screen has something like `^gauge at 10 60$`",
        "it: it answers",
        "it: it ends when it is told to",
        "it: its screen never has anything like `Would you like`",
        "it: it tries to reach no other machine",
    ];
    assert_eq!(claims, wanted);
    assert!(told.iter().all(|(_, why)| why.is_empty()), "{told:?}");
    let failed = |mode: &str, terminal: &str| {
        let told = verdicts(&sandbox, mode, terminal);
        told.into_iter().map(|(_, why)| why).filter(|why| !why.is_empty()).collect::<Vec<_>>()
    };
    assert_eq!(failed("whispers", terminal), [""; 0]);
    assert_eq!(failed("reaches", terminal), ["it tried to reach 192.0.2.7:80"]);
    let nags = "its screen has `Would you like`, and nothing like `Would you like` may be there";
    assert_eq!(failed("nags", terminal), [nags]);
    assert_eq!(failed("leaves", terminal), ["it should have run on, and ended with status 3"]);
    assert_eq!(failed("where", "[steps.terminal]\ndoes = [{ shows = '3;5' }]"), [""; 0]);
    let late = terminal.replace("'^you said low$'", "\"^you said 'right'$\"");
    assert_eq!(failed("calm", &late), ["its screen has nothing like `^you said 'right'$`"]);
    // The screen is told with what it lacks.
    let told = sandbox.run(&["verify"]);
    assert!(told.stdout.contains("you said low"), "{}", told.complaint());
    // One that never stops drawing, and one that takes no keys, end when their time is over.
    let many = "x".repeat(100_000);
    let flood = "[steps.terminal]\ndoes = [{ shows = 'high water' }, { shows = \"'right'\" }]";
    assert_eq!(failed("floods", flood), ["its screen has nothing like `'right'`"]);
    let deaf = format!("[steps.terminal]\ndoes = [{{ types = \"{many}\" }}, {{ shows = \"'right'\" }}]");
    assert_eq!(failed("deaf", &deaf), ["its screen has nothing like `'right'`"]);
    let wrong = [
        ("does = [{ types = \"x\" }]", "something is looked for"),
        ("does = [{ shows = 'x', types = \"x\" }]", "one of `shows`, `types`, `presses`"),
        ("does = [{ presses = [\"Hyper+x\"] }]", "`Hyper+x` is no key"),
        ("size = [9, 9]\ndoes = [{ shows = 'x' }]", "20 to 500 columns"),
    ];
    for (text, why) in wrong {
        let rehearsal = format!(
            "rehearsal = \"talk\"\nsummary = \"\"\ntools = []\n[[steps]]\nrun = [\"x\"]\n[steps.terminal]\n{text}"
        );
        sandbox.write("catalog/rehearsals/talk.toml", &rehearsal);
        let told = sandbox.run(&["verify"]);
        assert!(told.stderr.contains(why), "{}", told.complaint());
    }
}
