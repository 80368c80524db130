//! Histories of placing, a person's changes, and taking back.

use super::*;
use proptest::prelude::*;
use serde_json::json;
use std::fs;

struct Home(tempfile::TempDir);

impl Home {
    fn new() -> Self {
        Self(tempfile::tempdir().unwrap())
    }

    fn file(&self) -> PathBuf {
        self.0.path().join("home/settings.toml")
    }

    fn text(&self) -> Option<String> {
        fs::read_to_string(self.file()).ok()
    }

    fn write(&self, text: &str) {
        fs::create_dir_all(self.file().parent().unwrap()).unwrap();
        fs::write(self.file(), text).unwrap();
    }

    /// Places what is wanted; a person who is asked agrees or not. Tells how the file stood.
    fn place(&self, want: impl Into<Option<Want>>, agrees: bool) -> State {
        let mut placed = Placed::read(&self.0.path().join("record")).unwrap();
        let wanted: Vec<Wanted> = want.into().into_iter().map(|want| Wanted { path: self.file(), want }).collect();
        let Some(placing) = plan(&wanted, &placed).pop() else { return State::Stands };
        if placing.state != State::Differs || agrees {
            apply(&placing, &mut placed, &self.0.path().join("backups")).unwrap();
        }
        placing.state
    }
}

fn whole(text: &str) -> Want {
    Want::Whole(text.into())
}

fn theme(theme: &str) -> Want {
    let keys = [("look/theme".to_owned(), json!(theme))].into_iter().collect();
    Want::Keys { form: Form::Toml, keys }
}

#[test]
fn a_file_of_a_person_is_replaced_only_where_they_agree_and_comes_back() {
    let home = Home::new();
    home.write("mine\n");
    assert_eq!((home.place(whole("a\n"), false), home.text().as_deref()), (State::Differs, Some("mine\n")));
    assert_eq!((home.place(whole("a\n"), true), home.text().as_deref()), (State::Differs, Some("a\n")));
    assert_eq!(home.place(whole("a\n"), false), State::Stands);
    assert_eq!((home.place(whole("b\n"), false), home.text().as_deref()), (State::ToWrite, Some("b\n")));
    assert_eq!((home.place(None::<Want>, false), home.text().as_deref()), (State::ToUndo, Some("mine\n")));
    assert_eq!(home.place(None::<Want>, false), State::Stands, "there is nothing more to undo");
}

#[test]
fn changes_of_both_are_merged_and_where_they_clash_the_persons_stays() {
    let home = Home::new();
    assert_eq!(home.place(whole("one\ntwo\nthree\nfour\nfive\n"), false), State::ToWrite);
    home.write("one\ntwo\nthree\nfour\nfive\nmine\n");
    assert_eq!(home.place(whole("one\ntwo\nthree\nfour\nfive\n"), false), State::Yours);
    assert_eq!(home.place(whole("1\ntwo\nthree\nfour\nfive\n"), false), State::ToWrite);
    assert_eq!(home.text().as_deref(), Some("1\ntwo\nthree\nfour\nfive\nmine\n"));
    home.write("one of mine\ntwo\nthree\nfour\nfive\nmine\n");
    assert_eq!(home.place(whole("one of theirs\ntwo\nthree\nfour\nfive\n"), false), State::Clash);
    assert!(home.text().unwrap().starts_with("one of mine\n"));
}

#[test]
fn values_are_put_in_and_taken_back_one_by_one() {
    let home = Home::new();
    home.write("# mine\n[look]\nsize = 12\n");
    assert_eq!(home.place(theme("dark"), false), State::ToWrite);
    assert_eq!(home.text().as_deref(), Some("# mine\n[look]\nsize = 12\ntheme = \"dark\"\n"));
    // A person's value stays, the ladder's newer one does not take its place.
    home.write("# mine\n[look]\nsize = 14\ntheme = \"mine\"\n");
    assert_eq!(home.place(theme("dark"), false), State::Yours);
    assert_eq!(home.place(theme("light"), false), State::Clash);
    assert!(home.text().unwrap().contains("\"mine\""));
    home.write("# mine\n[look]\nsize = 14\ntheme = \"dark\"\n");
    assert_eq!(home.place(None::<Want>, false), State::ToUndo);
    assert_eq!(home.text().as_deref(), Some("# mine\n[look]\nsize = 14\n"));
    // One that was there and is another's is asked about, and comes back.
    home.write("look.theme = \"old\"\n");
    assert_eq!(home.place(theme("dark"), false), State::Differs);
    assert_eq!(home.text().as_deref(), Some("look.theme = \"old\"\n"));
    assert_eq!(home.place(theme("dark"), true), State::Differs);
    assert_eq!(home.text().as_deref(), Some("look.theme = \"dark\"\n"));
    assert_eq!(
        (home.place(None::<Want>, false), home.text().as_deref()),
        (State::ToUndo, Some("look.theme = \"old\"\n"))
    );
    fs::remove_file(home.file()).unwrap();
    assert_eq!(home.place(theme("dark"), false), State::ToWrite);
    assert_eq!(
        (home.place(None::<Want>, false), home.text()),
        (State::ToUndo, None),
        "a file that was made goes again"
    );
}

#[test]
fn whoever_is_killed_on_the_way_leaves_nothing_that_is_taken_for_a_persons() {
    for written in [false, true] {
        let home = Home::new();
        home.write("mine\n");
        let _ = home.place(whole("a\n"), true);
        // Killed after the record was made ready, before or after the file was written.
        let mut placed = Placed::read(&home.0.path().join("record")).unwrap();
        let wanted = [Wanted { path: home.file(), want: whole("b\n") }];
        let placing = plan(&wanted, &placed).pop().unwrap();
        placed.remember(&home.file(), placing.entry.clone().unwrap(), Some(b"a\n"), Some(b"b\n")).unwrap();
        if written {
            home.write("b\n");
        }
        let next = home.place(whole("c\n"), false);
        assert_eq!((next, home.text().as_deref()), (State::ToWrite, Some("c\n")), "written: {written}");
        assert_eq!((home.place(None::<Want>, false), home.text().as_deref()), (State::ToUndo, Some("mine\n")));
    }
}

#[derive(Clone, Debug)]
enum Step {
    Place(u8, bool),
    Edit(u8),
    Undo,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        (0..3u8, any::<bool>()).prop_map(|(version, agrees)| Step::Place(version, agrees)),
        (0..2u8).prop_map(Step::Edit),
        Just(Step::Undo),
    ];
    proptest::collection::vec(step, 1..12)
}

proptest! {
    /// Whatever the history, no line of the person's is lost, and after undoing nothing of the ladder's is left
    /// where nothing clashed.
    #[test]
    fn no_line_of_a_person_is_ever_lost(before in proptest::option::of(Just("first of mine\n")), steps in steps()) {
        let home = Home::new();
        if let Some(text) = before {
            home.write(text);
        }
        let (mut mine, mut clashed): (Vec<String>, bool) = (before.iter().map(|line| line.trim().to_owned()).collect(), false);
        let mut given_up = false;
        let version = |version: u8| whole(&format!("theirs {version}\na\nb\nc\nd\ne\nend of theirs\n"));
        for (at, step) in steps.iter().chain([&Step::Undo]).enumerate() {
            match step {
                Step::Place(number, agrees) => {
                    let state = home.place(version(*number), *agrees);
                    clashed |= state == State::Clash;
                    // Who agrees that another file takes the place of theirs has it back when that goes.
                    if state == State::Differs && *agrees {
                        given_up = true;
                    }
                }
                Step::Edit(place) => {
                    let (line, text) = (format!("mine {at}"), home.text().unwrap_or_default());
                    home.write(&if *place == 0 { format!("{line}\n{text}") } else { format!("{text}{line}\n") });
                    mine.push(line);
                }
                Step::Undo => clashed |= home.place(None::<Want>, false) == State::Clash,
            }
            let text = home.text().unwrap_or_default();
            let missing: Vec<&String> = mine.iter().filter(|line| !text.contains(line.as_str())).collect();
            prop_assert!(missing.is_empty() || given_up, "{missing:?} after {step:?} of {steps:?} in\n{text}");
            if matches!(step, Step::Undo) && !clashed {
                prop_assert!(missing.is_empty(), "{missing:?} after {steps:?} in\n{text}");
                prop_assert!(!text.contains("theirs"), "{steps:?}:\n{text}");
                given_up = false;
            }
        }
    }
}
