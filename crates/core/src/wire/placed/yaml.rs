//! Single values in YAML (1.2), whose other bytes stay as they are.

use std::str::FromStr;

use kladder_choose::setting::Step;
use serde_json::{Map, Number, Value};
use yaml_edit::{Document, Mapping, ScalarValue, Sequence, YamlNode, YamlValue};

use super::no_keys::{NoKeys, no_table, plain};

pub(super) fn whole(text: &str) -> Result<Value, NoKeys> {
    let table = read(text)?.and_then(|document| document.as_mapping());
    Ok(table.map_or(Value::Null, |table| of_table(&table)))
}

pub(super) fn set(text: &str, above: &[Step<'_>], name: &str, new: &Value) -> Result<String, NoKeys> {
    let new = yaml(new);
    let Some(document) = read(text)? else {
        // Nothing but remarks, which stay in front.
        let (name, new) = match above.split_first() {
            Some((step, rest)) => (step.name, below(step, made(rest, name, new))),
            None => (name, new),
        };
        let document = Document::new_mapping();
        document.set(name, new);
        let between = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        return Ok(ended([text, between, &document.to_string()].concat()));
    };
    let whole = document.as_mapping().ok_or_else(|| no_table("the file"))?;
    set_in(&whole, above, name, new)?;
    Ok(ended(document.to_string()))
}

fn set_in(table: &Mapping, above: &[Step<'_>], name: &str, new: YamlValue) -> Result<(), NoKeys> {
    let Some((step, rest)) = above.split_first() else {
        table.set(name, new);
        return Ok(());
    };
    let Some(there) = table.get(step.name) else {
        table.set(step.name, below(step, made(rest, name, new)));
        return Ok(());
    };
    let Some((key, wanted)) = step.member else {
        let inner = there.as_mapping().ok_or_else(|| no_table(step.name))?;
        return set_in(inner, rest, name, new);
    };
    let list = there.as_sequence().ok_or_else(|| no_table(step.name))?;
    if let Some((_, inner)) = member(list, key, wanted) {
        return set_in(&inner, rest, name, new);
    }
    list.push(of_member(key, wanted, made(rest, name, new)));
    Ok(())
}

type Pairs = Vec<(String, YamlValue)>;

/// What stands below the last table that is there.
fn made(above: &[Step<'_>], name: &str, new: YamlValue) -> Pairs {
    match above.split_first() {
        Some((step, rest)) => vec![(step.name.to_owned(), below(step, made(rest, name, new)))],
        None => vec![(name.to_owned(), new)],
    }
}

fn below(step: &Step<'_>, inner: Pairs) -> YamlValue {
    match step.member {
        Some((key, wanted)) => YamlValue::Sequence(vec![of_member(key, wanted, inner)]),
        None => YamlValue::Mapping(inner.into_iter().collect()),
    }
}

fn of_member(key: &str, wanted: &str, inner: Pairs) -> YamlValue {
    let told = (key.to_owned(), YamlValue::Scalar(ScalarValue::string(wanted)));
    YamlValue::Mapping([told].into_iter().chain(inner).collect())
}

fn member(list: &Sequence, key: &str, wanted: &str) -> Option<(usize, Mapping)> {
    let mut tables = list.values().enumerate().filter_map(|(at, node)| Some((at, node.as_mapping()?.clone())));
    tables.find(|(_, table)| table.get(key).is_some_and(|node| plain(&value(&node)) == wanted))
}

pub(super) fn remove(text: &str, above: &[Step<'_>], name: &str) -> Result<String, NoKeys> {
    let Some(document) = read(text)? else { return Ok(text.to_owned()) };
    let removed = document.as_mapping().and_then(|whole| remove_in(&whole, above, name, false));
    Ok(removed.map_or_else(|| text.to_owned(), |()| document.to_string()))
}

/// What was made for a member's sake goes with it.
fn remove_in(table: &Mapping, above: &[Step<'_>], name: &str, is_in_member: bool) -> Option<()> {
    let Some((step, rest)) = above.split_first() else {
        return table.contains_key(name).then(|| drop(table.remove(name)));
    };
    let there = table.get(step.name)?;
    match step.member {
        None => {
            let inner = there.as_mapping()?;
            remove_in(inner, rest, name, is_in_member)?;
            if is_in_member && inner.is_empty() {
                table.remove(step.name);
            }
        }
        Some((key, wanted)) => {
            let list = there.as_sequence()?;
            let (at, inner) = member(list, key, wanted)?;
            remove_in(&inner, rest, name, true)?;
            if inner.len() == 1 {
                list.remove(at);
            }
            if list.is_empty() {
                table.remove(step.name);
            }
        }
    }
    Some(())
}

/// The file as one document; `None` where there is nothing but remarks in it.
fn read(text: &str) -> Result<Option<Document>, NoKeys> {
    if text.lines().all(|line| line.trim().is_empty() || line.trim_start().starts_with('#')) {
        return Ok(None);
    }
    // Remarks in front of a document belong to it as far as a person is concerned.
    Document::from_str(text).map(Some).map_err(|error| NoKeys::Unreadable(error.to_string()))
}

fn ended(text: String) -> String {
    if text.ends_with('\n') { text } else { text + "\n" }
}

fn value(node: &YamlNode) -> Value {
    if let Some(table) = node.as_mapping() {
        return of_table(table);
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

fn of_table(table: &Mapping) -> Value {
    let keys = table.keys().map(|key| key.as_scalar().map_or_else(|| key.to_string(), yaml_edit::Scalar::as_string));
    let pairs = keys.filter_map(|key| Some((key.clone(), value(&table.get(key.as_str())?))));
    Value::Object(pairs.collect::<Map<_, _>>())
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
