//! Single values in a file of settings, whose other bytes stay as they are; only a JSON object on one line that gets a new
//! member is laid out on several.

use jsonc_parser::ParseOptions;
use jsonc_parser::cst::{CstInputValue, CstObject, CstRootNode};
use kladder_choose::setting::Form;
use serde_json::Value;
use toml_edit::{DocumentMut, Item, Table};

use super::{ini, yaml};

/// Why a file cannot be changed key by key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoKeys {
    /// It is not what its form says.
    #[error("{0}")]
    Unreadable(String),
    /// Something on the way to the key is no table.
    #[error("`{0}` is a value there, and not a table of others")]
    NotATable(String),
}

type Path<'p> = &'p [&'p str];

/// The value at a path; `None` where there is none.
pub(super) fn get(form: Form, text: &str, path: Path<'_>) -> Result<Option<Value>, NoKeys> {
    match form {
        Form::Json => {
            let mut here = json(text)?.to_serde_value().unwrap_or(Value::Null);
            for part in path {
                here = here.get_mut(part).map_or(Value::Null, Value::take);
            }
            Ok(Some(here).filter(|value| !value.is_null()))
        }
        Form::Toml => {
            let document: toml::Table = toml(text)?.to_string().parse().map_err(unreadable)?;
            let mut here = toml::Value::Table(document);
            for part in path {
                let Some(next) = here.get(*part).cloned() else { return Ok(None) };
                here = next;
            }
            serde_json::to_value(here).map(Some).map_err(unreadable)
        }
        Form::Ini => Ok(ini::get(text, path[0], path[1]).map(Value::String)),
        Form::Yaml => yaml::get(text, path),
    }
}

/// The text with a value at a path.
pub(super) fn set(form: Form, text: &str, path: Path<'_>, value: &Value) -> Result<String, NoKeys> {
    let Some((name, above)) = path.split_last() else { return Ok(text.to_owned()) };
    match form {
        Form::Json => {
            let root = json(text)?;
            let table = root.object_value_or_create().ok_or_else(|| NoKeys::NotATable("the file".to_owned()))?;
            let mut table = table;
            for part in above {
                table = table.object_value_or_create(part).ok_or_else(|| NoKeys::NotATable((*part).to_owned()))?;
            }
            match table.get(name) {
                Some(there) => there.set_value(input(value)),
                None => drop(table.append(name, input(value))),
            }
            let text = root.to_string();
            Ok(if text.ends_with('\n') { text } else { text + "\n" })
        }
        Form::Toml => {
            let mut document = toml(text)?;
            let mut table: &mut Table = document.as_table_mut();
            for part in above {
                let item = table.entry(part).or_insert_with(|| Item::Table(Table::new()));
                table = item.as_table_mut().ok_or_else(|| NoKeys::NotATable((*part).to_owned()))?;
            }
            let mut new = toml_value(value).ok_or_else(|| NoKeys::Unreadable("TOML has no null".to_owned()))?;
            if let Some(old) = table.get(name).and_then(Item::as_value) {
                *new.decor_mut() = old.decor().clone();
            }
            table[name] = Item::Value(new);
            Ok(document.to_string())
        }
        Form::Ini => Ok(ini::set(text, path[0], path[1], &plain(value))),
        Form::Yaml => yaml::set(text, above, name, value),
    }
}

/// The text without the value at a path.
pub(super) fn remove(form: Form, text: &str, path: Path<'_>) -> Result<String, NoKeys> {
    let Some((name, above)) = path.split_last() else { return Ok(text.to_owned()) };
    match form {
        Form::Json => {
            let root = json(text)?;
            let found = above.iter().try_fold(root.object_value(), |table: Option<CstObject>, part| {
                table.map(|table| table.object_value(part))
            });
            if let Some(property) = found.flatten().and_then(|table| table.get(name)) {
                property.remove();
            }
            Ok(root.to_string())
        }
        Form::Toml => {
            let mut document = toml(text)?;
            let mut table: Option<&mut Table> = Some(document.as_table_mut());
            for part in above {
                table = table.and_then(|table| table.get_mut(part)?.as_table_mut());
            }
            let _ = table.and_then(|table| table.remove(name));
            Ok(document.to_string())
        }
        Form::Ini => Ok(ini::remove(text, path[0], path[1])),
        Form::Yaml => yaml::remove(text, above, name),
    }
}

fn unreadable(error: impl std::fmt::Display) -> NoKeys {
    NoKeys::Unreadable(error.to_string())
}

fn json(text: &str) -> Result<CstRootNode, NoKeys> {
    CstRootNode::parse(text, &ParseOptions::default()).map_err(unreadable)
}

fn toml(text: &str) -> Result<DocumentMut, NoKeys> {
    text.parse().map_err(|error: toml_edit::TomlError| NoKeys::Unreadable(error.message().to_owned()))
}

fn input(value: &Value) -> CstInputValue {
    match value {
        Value::Null => CstInputValue::Null,
        Value::Bool(is) => CstInputValue::Bool(*is),
        Value::Number(number) => CstInputValue::Number(number.to_string()),
        Value::String(text) => CstInputValue::String(text.clone()),
        Value::Array(all) => CstInputValue::Array(all.iter().map(input).collect()),
        Value::Object(all) => {
            CstInputValue::Object(all.iter().map(|(name, value)| (name.clone(), input(value))).collect())
        }
    }
}

fn toml_value(value: &Value) -> Option<toml_edit::Value> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(is) => (*is).into(),
        Value::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64()?.into(),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(all) => all.iter().map(toml_value).collect::<Option<toml_edit::Array>>()?.into(),
        Value::Object(all) => {
            let mut table = toml_edit::InlineTable::new();
            for (name, value) in all {
                table.insert(name, toml_value(value)?);
            }
            table.into()
        }
    })
}

/// A value as a file without types has it.
pub(super) fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_rest_of_a_file_keeps_its_bytes() {
        let cases = [
            (
                Form::Json,
                "{\n  // mine\n  \"font.size\": 12, /* why */\n  \"tools\": { \"b\": [1, 2] },\n}\n",
                vec!["tools", "compiler"],
                "{\n  // mine\n  \"font.size\": 12, /* why */\n  \"tools\": {\n    \"b\": [1, 2],\n    \"compiler\": \"dark\"\n  },\n}\n",
            ),
            (Form::Json, "", vec!["a", "b"], "{\n  \"a\": {\n    \"b\": \"dark\"\n  }\n}\n"),
            (
                Form::Toml,
                "# mine\na = 1 # one\n\n[tools]\nb = 2\n",
                vec!["tools", "b"],
                "# mine\na = 1 # one\n\n[tools]\nb = \"dark\"\n",
            ),
            (Form::Toml, "a = 1\n", vec!["x"], "a = 1\nx = \"dark\"\n"),
            (
                Form::Ini,
                "; mine\n[user]\n\tname = A\n[core]\n\tx=1\n",
                vec!["user", "editor"],
                "; mine\n[user]\n\tname = A\n\teditor = dark\n[core]\n\tx=1\n",
            ),
            (
                Form::Yaml,
                "# mine\ntheme: light   # why\nfonts: [a, b]\ntools:\n    b: 2 # two\nlast: 1\n",
                vec!["tools", "compiler"],
                "# mine\ntheme: light   # why\nfonts: [a, b]\ntools:\n    b: 2 # two\n    compiler: dark\nlast: 1\n",
            ),
            (Form::Yaml, "theme: light   # why\n", vec!["theme"], "theme: dark   # why\n"),
            (Form::Yaml, "# only a remark", vec!["a", "b.c"], "# only a remark\na:\n  b.c: dark\n"),
            (Form::Yaml, "---\n# mine\na: {b: 1}\n", vec!["a", "c"], "---\n# mine\na: {b: 1, c: dark}\n"),
        ];
        for (form, before, path, after) in cases {
            assert_eq!(get(form, before, &path).unwrap().filter(|value| *value == "dark"), None);
            let set_to = set(form, before, &path, &json!("dark")).unwrap();
            assert_eq!(set_to, after, "{form:?}");
            assert_eq!(get(form, &set_to, &path).unwrap(), Some(json!("dark")));
            assert_eq!(set(form, &set_to, &path, &json!("dark")).unwrap(), after, "a second time");
            assert_eq!(get(form, &remove(form, &set_to, &path).unwrap(), &path).unwrap(), None);
        }
    }

    #[test]
    fn what_is_no_such_file_or_no_table_is_told() {
        assert!(matches!(set(Form::Json, "{ \"a\": ", &["a"], &json!(1)), Err(NoKeys::Unreadable(_))));
        assert!(matches!(set(Form::Yaml, "a: [1", &["a"], &json!(1)), Err(NoKeys::Unreadable(_))));
        assert!(matches!(set(Form::Yaml, "a: 1\n---\nb: 2\n", &["a"], &json!(1)), Err(NoKeys::Unreadable(_))));
        assert!(matches!(set(Form::Toml, "a = = 1", &["a"], &json!(1)), Err(NoKeys::Unreadable(_))));
        let not = |form, text| set(form, text, &["a", "b"], &json!(1)).unwrap_err();
        assert_eq!(not(Form::Json, "{ \"a\": 1 }"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Toml, "a = 1\n"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Yaml, "a: 1\n"), NoKeys::NotATable("a".to_owned()));
        assert_eq!(not(Form::Yaml, "- a\n"), NoKeys::NotATable("the file".to_owned()));
    }
}
