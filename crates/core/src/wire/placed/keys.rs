//! Single values in a file of settings, whose other bytes stay as they are; only a JSON object on one line that gets a new
//! member is laid out on several.

use kladder_choose::setting::{Form, Step};
use serde_json::Value;

use super::no_keys::{NoKeys, plain};
use super::{ini, json, toml, yaml};

type Way<'w, 'k> = &'w [Step<'k>];

/// A byte order mark, which some editors put in front of a file.
const MARK: char = '\u{feff}';

/// The value at the end of a way; `None` where there is none.
pub(super) fn get(form: Form, text: &str, way: Way<'_, '_>) -> Result<Option<Value>, NoKeys> {
    let text = text.strip_prefix(MARK).unwrap_or(text);
    let whole = match form {
        Form::Json => json::whole(text)?,
        Form::Toml => toml::whole(text)?,
        Form::Yaml => yaml::whole(text)?,
        Form::Ini => {
            return Ok(section(way).and_then(|(section, name)| ini::get(text, section, name)).map(Value::String));
        }
    };
    Ok(way.iter().try_fold(whole, into).filter(|value| !value.is_null()))
}

fn into(mut table: Value, step: &Step<'_>) -> Option<Value> {
    let mut there = table.get_mut(step.name)?.take();
    let Some((key, wanted)) = step.member else { return Some(there) };
    let is = |member: &&mut Value| member.get(key).is_some_and(|value| plain(value) == wanted);
    there.as_array_mut()?.iter_mut().find(is).map(Value::take)
}

/// The text with a value at the end of a way.
pub(super) fn set(form: Form, text: &str, way: Way<'_, '_>, value: &Value) -> Result<String, NoKeys> {
    let Some((last, above)) = way.split_last() else { return Ok(text.to_owned()) };
    inside(form, text, |text| match form {
        Form::Json => json::set(text, above, last.name, value),
        Form::Toml => toml::set(text, above, last.name, value),
        Form::Yaml => yaml::set(text, above, last.name, value),
        Form::Ini => Ok(match section(way) {
            Some((section, name)) => ini::set(text, section, name, &plain(value)),
            None => text.to_owned(),
        }),
    })
}

/// The text without the value at the end of a way. A member of a list that has nothing left but what tells it goes with it.
pub(super) fn remove(form: Form, text: &str, way: Way<'_, '_>) -> Result<String, NoKeys> {
    let Some((last, above)) = way.split_last() else { return Ok(text.to_owned()) };
    inside(form, text, |text| match form {
        Form::Json => json::remove(text, above, last.name),
        Form::Toml => toml::remove(text, above, last.name),
        Form::Yaml => yaml::remove(text, above, last.name),
        Form::Ini => Ok(match section(way) {
            Some((section, name)) => ini::remove(text, section, name),
            None => text.to_owned(),
        }),
    })
}

/// Works on what a file says, and leaves how it begins and how its lines end.
fn inside(form: Form, text: &str, work: impl FnOnce(&str) -> Result<String, NoKeys>) -> Result<String, NoKeys> {
    let (mark, plain) = text.strip_prefix(MARK).map_or(("", text), |plain| (&text[..MARK.len_utf8()], plain));
    let (lines, returns) = (plain.matches('\n').count(), plain.matches("\r\n").count());
    // The others keep the ends of lines themselves.
    let is_of_returns = matches!(form, Form::Toml | Form::Ini) && returns > 0 && returns == lines;
    let done = if is_of_returns { work(&plain.replace("\r\n", "\n"))?.replace('\n', "\r\n") } else { work(plain)? };
    Ok([mark, &done].concat())
}

/// The section and the name in a file that has nothing else.
fn section<'k>(way: Way<'_, 'k>) -> Option<(&'k str, &'k str)> {
    let [section, name] = way else { return None };
    Some((section.name, name.name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde_json::{Map, json};

    #[test]
    fn the_rest_of_a_file_keeps_its_bytes() {
        let cases = [
            (
                Form::Json,
                "{\n  // mine\n  \"font.size\": 12, /* why */\n  \"tools\": { \"b\": [1, 2] },\n}\n",
                "tools/compiler",
                "{\n  // mine\n  \"font.size\": 12, /* why */\n  \"tools\": {\n    \"b\": [1, 2],\n    \"compiler\": \"dark\"\n  },\n}\n",
            ),
            (Form::Json, "", "a/b", "{\n  \"a\": {\n    \"b\": \"dark\"\n  }\n}\n"),
            (
                Form::Toml,
                "# mine\na = 1 # one\n\n[tools]\nb = 2\n",
                "tools/b",
                "# mine\na = 1 # one\n\n[tools]\nb = \"dark\"\n",
            ),
            (Form::Toml, "a = 1\n", "x", "a = 1\nx = \"dark\"\n"),
            (
                Form::Ini,
                "; mine\n[user]\n\tname = A\n[core]\n\tx=1\n",
                "user/editor",
                "; mine\n[user]\n\tname = A\n\teditor = dark\n[core]\n\tx=1\n",
            ),
            (
                Form::Yaml,
                "# mine\ntheme: light   # why\nfonts: [a, b]\ntools:\n    b: 2 # two\nlast: 1\n",
                "tools/compiler",
                "# mine\ntheme: light   # why\nfonts: [a, b]\ntools:\n    b: 2 # two\n    compiler: dark\nlast: 1\n",
            ),
            (Form::Yaml, "theme: light   # why\n", "theme", "theme: dark   # why\n"),
            (Form::Yaml, "# only a remark", "a/b.c", "# only a remark\na:\n  b.c: dark\n"),
            (Form::Toml, "a = { b = 1 }\n", "a/c", "a = { b = 1 , c = \"dark\" }\n"),
            (Form::Yaml, "---\n# mine\na: {b: 1}\n", "a/c", "---\n# mine\na: {b: 1, c: dark}\n"),
        ];
        for (form, before, key, after) in cases {
            let path = Step::all_of(key);
            assert_eq!(get(form, before, &path).unwrap().filter(|value| *value == "dark"), None);
            let set_to = set(form, before, &path, &json!("dark")).unwrap();
            assert_eq!(set_to, after, "{form:?}");
            assert_eq!(get(form, &set_to, &path).unwrap(), Some(json!("dark")));
            assert_eq!(set(form, &set_to, &path, &json!("dark")).unwrap(), after, "a second time");
            assert_eq!(get(form, &remove(form, &set_to, &path).unwrap(), &path).unwrap(), None);
        }
    }

    #[test]
    fn a_member_of_a_list_is_found_by_what_it_has_and_the_others_keep_their_bytes() {
        let cases = [
            (Form::Toml, ""),
            (Form::Toml, "# mine\n[[languages]]\nname = \"low\" # why\nindent = 3\n\n[other]\nx = 1\n"),
            (Form::Toml, "languages = [{ name = \"low\", indent = 3 }] # mine\n"),
            (Form::Json, ""),
            (
                Form::Json,
                "{\n  // mine\n  \"languages\": [\n    { \"name\": \"low\", \"indent\": 3 }, // why\n  ],\n  \"other\": 1\n}\n",
            ),
            (Form::Yaml, ""),
            (Form::Yaml, "# mine\nlanguages:\n  - name: low # why\n    indent: 3\nother: 1\n"),
            (Form::Yaml, "languages: [{name: low, indent: 3}] # mine\n"),
        ];
        for (form, before) in cases {
            let told = format!("{form:?} {before:?}");
            let (run, shown) =
                (Step::all_of("languages[name=skerrow]/run/file"), Step::all_of("languages[name=skerrow]/shown"));
            let all = set(form, before, &run, &json!("skerroc")).unwrap();
            let all = set(form, &all, &shown, &json!(true)).unwrap();
            assert_eq!(get(form, &all, &run).unwrap(), Some(json!("skerroc")), "{told}: {all}");
            assert_eq!(get(form, &all, &shown).unwrap(), Some(json!(true)), "{told}: {all}");
            assert_eq!(set(form, &all, &run, &json!("skerroc")).unwrap(), all, "{told}: a second time");
            for remark in ["# mine", "// mine", "# why", "// why"] {
                assert_eq!(all.contains(remark), before.contains(remark), "{told}: {all}");
            }
            let low = Step::all_of("languages[name=low]/indent");
            assert_eq!(get(form, &all, &low).unwrap(), get(form, before, &low).unwrap(), "{told}: {all}");
            // Without the values the member is gone, unless a person put something into it.
            let none = remove(form, &remove(form, &all, &run).unwrap(), &shown).unwrap();
            assert!(!none.contains("skerrow"), "{told}: {none}");
            let theirs = set(form, &all, &Step::all_of("languages[name=skerrow]/wide"), &json!(4)).unwrap();
            let left = remove(form, &remove(form, &theirs, &run).unwrap(), &shown).unwrap();
            assert_eq!(
                get(form, &left, &Step::all_of("languages[name=skerrow]/wide")).unwrap(),
                Some(json!(4)),
                "{told}: {left}"
            );
            if !before.is_empty() {
                let changed = set(form, before, &low, &json!(4)).unwrap();
                assert_eq!(changed, before.replace('3', "4"), "{told}: only that value");
            }
        }
    }

    #[test]
    fn how_a_file_begins_and_how_its_lines_end_stays() {
        let way = Step::all_of("a/b");
        let files = [
            (Form::Json, "{\r\n  \"a\": { \"c\": 1 }\r\n}\r\n"),
            (Form::Toml, "# mine\r\n[a]\r\nc = 1\r\n"),
            (Form::Yaml, "a:\r\n  c: 1\r\n"),
            (Form::Ini, "[a]\r\nc = 1\r\n"),
        ];
        for (form, text) in files {
            for text in [text.to_owned(), [MARK.to_string().as_str(), text].concat()] {
                let all = set(form, &text, &way, &json!("dark")).unwrap();
                assert_eq!(get(form, &all, &way).unwrap(), Some(json!("dark")), "{all:?}");
                assert_eq!(all.contains(MARK), text.contains(MARK), "{all:?}");
                assert_eq!(all.matches('\n').count(), all.matches("\r\n").count(), "{form:?}: {all:?}");
            }
        }
    }

    #[test]
    fn what_is_no_such_file_or_no_table_is_told() {
        assert!(matches!(set(Form::Json, "{ \"a\": ", &Step::all_of("a"), &json!(1)), Err(NoKeys::Unreadable(_))));
        assert!(matches!(set(Form::Yaml, "a: [1", &Step::all_of("a"), &json!(1)), Err(NoKeys::Unreadable(_))));
        assert!(matches!(
            set(Form::Yaml, "a: 1\n---\nb: 2\n", &Step::all_of("a"), &json!(1)),
            Err(NoKeys::Unreadable(_))
        ));
        assert!(matches!(set(Form::Toml, "a = = 1", &Step::all_of("a"), &json!(1)), Err(NoKeys::Unreadable(_))));
        let not = |form, text| set(form, text, &Step::all_of("a/b"), &json!(1)).unwrap_err();
        assert_eq!(not(Form::Json, "{ \"a\": 1 }"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Toml, "a = 1\n"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Yaml, "a: 1\n"), NoKeys::NotATable("a".to_owned()));
        let list = |form, text| set(form, text, &Step::all_of("a[b=c]/d"), &json!(1)).unwrap_err();
        assert_eq!(list(Form::Json, "{ \"a\": {} }"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(list(Form::Toml, "a.b = 1\n"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(list(Form::Yaml, "a: 1\n"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Yaml, "- a\n"), NoKeys::NotATable("the file".to_owned()));
    }

    /// A table of few names, with lists of tables that have a name, as a file of settings has them.
    fn tables() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            any::<bool>().prop_map(Value::from),
            (-9i64..99).prop_map(Value::from),
            "[a-z #:'\"\\\\-]{0,6}".prop_map(Value::from),
            prop::collection::vec((0i64..9).prop_map(Value::from), 0..3).prop_map(Value::from),
        ];
        let table = |inner: BoxedStrategy<Value>| {
            prop::collection::btree_map(name(), inner, 0..4).prop_map(|all| all.into_iter().collect::<Map<_, _>>())
        };
        let inner = leaf.prop_recursive(2, 24, 4, move |inner| {
            let member = (prop_oneof!["low", "skerrow"], table(inner.clone())).prop_map(|(name, mut all)| {
                all.insert("name".to_owned(), name.into());
                Value::Object(all)
            });
            prop_oneof![table(inner).prop_map(Value::Object), prop::collection::vec(member, 1..3).prop_map(Value::from)]
        });
        table(inner.boxed()).prop_map(Value::Object)
    }

    fn name() -> impl Strategy<Value = String> {
        prop_oneof!["a", "b", "c d"]
    }

    /// The ways into all tables of a table, and of lists.
    fn ways(value: &Value, here: &str, found: &mut Vec<String>) {
        let Some(all) = value.as_object() else { return };
        found.push(here.to_owned());
        for (name, value) in all {
            ways(value, &format!("{here}{name}/"), found);
            for member in value.as_array().into_iter().flatten().filter(|member| member.is_object()) {
                ways(member, &format!("{here}{name}[name={}]/", plain(&member["name"])), found);
            }
        }
    }

    fn in_blocks(value: &Value, deep: usize, out: &mut String) {
        match value {
            Value::Object(all) if !all.is_empty() => {
                for (name, value) in all {
                    out.push_str(&["\n", &" ".repeat(deep * 2), &json!(name).to_string(), ":"].concat());
                    in_blocks(value, deep + 1, out);
                }
            }
            Value::Array(all) if !all.is_empty() => {
                for value in all {
                    out.push_str(&["\n", &" ".repeat(deep * 2), "-"].concat());
                    in_blocks(value, deep + 1, out);
                }
            }
            other => out.push_str(&[" ", &other.to_string()].concat()),
        }
    }

    fn written(form: Form, value: &Value) -> String {
        let mut text = String::new();
        match form {
            Form::Toml => text = ::toml::to_string(value).unwrap(),
            Form::Yaml if value.as_object().is_some_and(|all| !all.is_empty()) => {
                in_blocks(value, 0, &mut text);
                text = text.trim_start().to_owned() + "\n";
            }
            _ => text = serde_json::to_string_pretty(value).unwrap() + "\n",
        }
        text
    }

    fn whole(form: Form, text: &str) -> Value {
        match form {
            Form::Json => json::whole(text),
            Form::Toml => toml::whole(text),
            _ => yaml::whole(text),
        }
        .unwrap_or_else(|error| panic!("{error}: {text}"))
    }

    proptest! {
        #[test]
        fn a_value_goes_in_and_out_and_nothing_else_changes(
            table in tables(),
            form in prop_oneof![Just(Form::Json), Just(Form::Toml), Just(Form::Yaml)],
            at in any::<prop::sample::Index>(),
            member in prop_oneof![Just(""), Just("[name=low]/b"), Just("[name=skerrow]/a"), Just("/c d[name=low]/b")],
            name in name(),
            value in prop_oneof![Just(json!("dark")), Just(json!(7)), Just(json!(["x", "y"])), Just(json!({ "x": true }))],
        ) {
            let before = written(form, &table);
            prop_assert_eq!(&whole(form, &before), &table, "{}", before);
            let mut tables = Vec::new();
            ways(&table, "", &mut tables);
            let key = [at.get(&tables), &name, member].concat();
            let way = Step::all_of(&key);
            let old = get(form, &before, &way).unwrap();
            let Ok(after) = set(form, &before, &way, &value) else { return Ok(()) };
            prop_assert_eq!(get(form, &after, &way).unwrap(), Some(value.clone()), "{}", after);
            let again = match &old {
                Some(old) => set(form, &after, &way, old).unwrap(),
                None => remove(form, &after, &way).unwrap(),
            };
            let (mut left, mut table) = (whole(form, &again), table);
            // What led there may stay, and be empty.
            bare(&mut left);
            bare(&mut table);
            prop_assert_eq!(left, table, "{}\n{}", before, again);
        }
    }

    /// Without tables and lists that have nothing in them.
    fn bare(value: &mut Value) -> bool {
        match value {
            Value::Object(all) => {
                all.retain(|_, value| bare(value));
                !all.is_empty()
            }
            Value::Array(all) => {
                // A member that has nothing but its name is told by nobody.
                all.retain_mut(|value| bare(value) && value.as_object().is_none_or(|all| all.len() > 1));
                !all.is_empty()
            }
            _ => true,
        }
    }
}
