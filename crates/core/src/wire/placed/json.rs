//! Single values in JSON (RFC 8259) with comments, whose other bytes stay as they are.

use jsonc_parser::ParseOptions;
use jsonc_parser::cst::{CstArray, CstInputValue, CstObject, CstRootNode};
use kladder_choose::setting::Step;
use serde_json::Value;

use super::no_keys::{NoKeys, no_table, plain, unreadable};

pub(super) fn whole(text: &str) -> Result<Value, NoKeys> {
    Ok(read(text)?.to_serde_value().unwrap_or(Value::Null))
}

pub(super) fn set(text: &str, above: &[Step<'_>], name: &str, value: &Value) -> Result<String, NoKeys> {
    let root = read(text)?;
    let whole = root.object_value_or_create().ok_or_else(|| no_table("the file"))?;
    let table = above.iter().try_fold(whole, |table, step| into(&table, step))?;
    match table.get(name) {
        Some(there) => there.set_value(input(value)),
        None => drop(table.append(name, input(value))),
    }
    let text = root.to_string();
    Ok(if text.ends_with('\n') { text } else { text + "\n" })
}

fn into(table: &CstObject, step: &Step<'_>) -> Result<CstObject, NoKeys> {
    let inner = match step.member {
        None => table.object_value_or_create(step.name),
        Some((key, wanted)) => table.array_value_or_create(step.name).and_then(|list| {
            let new = || CstInputValue::Object(vec![(key.to_owned(), CstInputValue::String(wanted.to_owned()))]);
            member(&list, key, wanted).or_else(|| list.append(new()).as_object())
        }),
    };
    inner.ok_or_else(|| no_table(step.name))
}

fn member(list: &CstArray, key: &str, wanted: &str) -> Option<CstObject> {
    let is = |table: &CstObject| {
        let value = table.get(key).and_then(|property| property.value()).and_then(|value| value.to_serde_value());
        value.is_some_and(|value| plain(&value) == wanted)
    };
    list.elements().into_iter().filter_map(|element| element.as_object()).find(is)
}

pub(super) fn remove(text: &str, above: &[Step<'_>], name: &str) -> Result<String, NoKeys> {
    let root = read(text)?;
    if let Some(whole) = root.object_value() {
        remove_in(&whole, above, name, false);
    }
    Ok(root.to_string())
}

/// What was made for a member's sake goes with it.
fn remove_in(table: &CstObject, above: &[Step<'_>], name: &str, is_in_member: bool) {
    match above.split_first() {
        None => {
            if let Some(property) = table.get(name) {
                property.remove();
            }
        }
        Some((Step { name: inner, member: None }, rest)) => {
            let Some(inside) = table.object_value(inner) else { return };
            remove_in(&inside, rest, name, is_in_member);
            if is_in_member && inside.properties().is_empty() {
                table.get(inner).into_iter().for_each(jsonc_parser::cst::CstObjectProp::remove);
            }
        }
        Some((Step { name: inner, member: Some((key, wanted)) }, rest)) => {
            let Some(list) = table.array_value(inner) else { return };
            let Some(inside) = member(&list, key, wanted) else { return };
            remove_in(&inside, rest, name, true);
            if inside.properties().len() == 1 {
                inside.remove();
            }
        }
    }
}

fn read(text: &str) -> Result<CstRootNode, NoKeys> {
    CstRootNode::parse(text, &ParseOptions::default()).map_err(unreadable)
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
