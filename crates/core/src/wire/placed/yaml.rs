//! Single values in YAML (1.2), whose other bytes stay as they are.

use std::str::FromStr;

use serde_json::{Map, Number, Value};
use yaml_edit::{Document, Mapping, ScalarValue, YamlNode, YamlValue};

use super::keys::NoKeys;

pub(super) fn get(text: &str, path: &[&str]) -> Result<Option<Value>, NoKeys> {
    let Some(document) = read(text)? else { return Ok(None) };
    let Some((first, rest)) = path.split_first() else { return Ok(None) };
    let mut here = document.as_mapping().and_then(|whole| whole.get(*first));
    for part in rest {
        here = here.and_then(|node| node.as_mapping()?.get(*part));
    }
    Ok(here.map(|node| value(&node)).filter(|value| !value.is_null()))
}

pub(super) fn set(text: &str, above: &[&str], name: &str, new: &Value) -> Result<String, NoKeys> {
    let new = yaml(new);
    let Some(document) = read(text)? else {
        // Nothing but remarks, which stay in front.
        let inner = (name.to_owned(), new);
        let (name, new) = above.iter().rev().fold(inner, |(name, new), part| {
            ((*part).to_owned(), YamlValue::Mapping([(name, new)].into_iter().collect()))
        });
        let document = Document::new_mapping();
        document.set(name, new);
        let between = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        return Ok(ended([text, between, &document.to_string()].concat()));
    };
    let whole = document.as_mapping().ok_or_else(|| NoKeys::NotATable("the file".to_owned()))?;
    match missing(&whole, above)? {
        (table, []) => table.set(name, new),
        (table, [first, rest @ ..]) => {
            let inner = YamlValue::Mapping([(name.to_owned(), new)].into_iter().collect());
            let inner = rest
                .iter()
                .rev()
                .fold(inner, |inner, part| YamlValue::Mapping([((*part).to_owned(), inner)].into_iter().collect()));
            table.set(*first, inner);
        }
    }
    Ok(ended(document.to_string()))
}

pub(super) fn remove(text: &str, above: &[&str], name: &str) -> Result<String, NoKeys> {
    let Some(document) = read(text)? else { return Ok(text.to_owned()) };
    let mut table = document.as_mapping();
    for part in above {
        table = table.and_then(|table| table.get_mapping(*part));
    }
    Ok(match table {
        Some(table) if table.contains_key(name) => {
            table.remove(name);
            document.to_string()
        }
        _ => text.to_owned(),
    })
}

/// The file as one document; `None` where there is nothing but remarks in it.
fn read(text: &str) -> Result<Option<Document>, NoKeys> {
    if text.lines().all(|line| line.trim().is_empty() || line.trim_start().starts_with('#')) {
        return Ok(None);
    }
    // Remarks in front of a document belong to it as far as a person is concerned.
    Document::from_str(text).map(Some).map_err(|error| NoKeys::Unreadable(error.to_string()))
}

/// The innermost table on the way that is there, and the names of those that are not.
fn missing<'a, 'p>(whole: &Mapping, above: &'a [&'p str]) -> Result<(Mapping, &'a [&'p str]), NoKeys> {
    let mut table = whole.clone();
    for (at, part) in above.iter().enumerate() {
        match table.get(*part) {
            None => return Ok((table, &above[at..])),
            Some(node) => {
                let inner = node.as_mapping().cloned();
                table = inner.ok_or_else(|| NoKeys::NotATable((*part).to_owned()))?;
            }
        }
    }
    Ok((table, &[]))
}

fn ended(text: String) -> String {
    if text.ends_with('\n') { text } else { text + "\n" }
}

fn value(node: &YamlNode) -> Value {
    if let Some(table) = node.as_mapping() {
        let keys =
            table.keys().map(|key| key.as_scalar().map_or_else(|| key.to_string(), yaml_edit::Scalar::as_string));
        let pairs = keys.filter_map(|key| Some((key.clone(), value(&table.get(key.as_str())?))));
        return Value::Object(pairs.collect::<Map<_, _>>());
    }
    if let Some(list) = node.as_sequence() {
        return Value::Array(list.values().map(|item| value(&item)).collect());
    }
    let Some(scalar) = node.as_scalar() else { return Value::String(node.to_string()) };
    let text = || Value::String(scalar.as_string());
    if scalar.is_quoted() || scalar.is_block() {
        return text();
    }
    if scalar.is_null() {
        return Value::Null;
    }
    let number = scalar.as_i64().map(Number::from).or_else(|| Number::from_f64(scalar.as_f64()?));
    scalar.as_bool().map(Value::Bool).or_else(|| number.map(Value::Number)).unwrap_or_else(text)
}

fn yaml(value: &Value) -> YamlValue {
    match value {
        Value::Null => YamlValue::Scalar(ScalarValue::null()),
        Value::Bool(is) => YamlValue::Scalar((*is).into()),
        Value::Number(number) => match number.as_i64() {
            Some(whole) => YamlValue::Scalar(whole.into()),
            None => YamlValue::Scalar(number.as_f64().unwrap_or_default().into()),
        },
        Value::String(text) => YamlValue::Scalar(ScalarValue::string(text.as_str())),
        Value::Array(all) => YamlValue::Sequence(all.iter().map(yaml).collect()),
        Value::Object(all) => YamlValue::Mapping(all.iter().map(|(name, value)| (name.clone(), yaml(value))).collect()),
    }
}
