//! Single values in TOML 1.0, whose other bytes stay as they are.

use kladder_choose::setting::Step;
use serde_json::Value;
use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike};

use super::no_keys::{NoKeys, no_table, unreadable};

pub(super) fn whole(text: &str) -> Result<Value, NoKeys> {
    let whole: toml::Table = read(text)?.to_string().parse().map_err(unreadable)?;
    serde_json::to_value(whole).map_err(unreadable)
}

pub(super) fn set(text: &str, above: &[Step<'_>], name: &str, value: &Value) -> Result<String, NoKeys> {
    let mut document = read(text)?;
    let mut table: &mut dyn TableLike = document.as_table_mut();
    for step in above {
        table = into(table, step)?;
    }
    let mut new = written(value).ok_or_else(|| unreadable("TOML has no null"))?;
    match table.get_mut(name) {
        Some(old) => {
            if let Some(old) = old.as_value() {
                *new.decor_mut() = old.decor().clone();
            }
            *old = Item::Value(new);
        }
        None => drop(table.insert(name, Item::Value(new))),
    }
    Ok(document.to_string())
}

fn into<'t>(table: &'t mut dyn TableLike, step: &Step<'_>) -> Result<&'t mut dyn TableLike, NoKeys> {
    if !table.contains_key(step.name) {
        let mut inner = Table::new();
        inner.set_implicit(true);
        let list = || Item::ArrayOfTables(ArrayOfTables::new());
        // Within braces this becomes what can stand there.
        table.insert(step.name, if step.member.is_some() { list() } else { Item::Table(inner) });
    }
    let there = table.get_mut(step.name);
    let inner = match (there, step.member) {
        (Some(item), None) => item.as_table_like_mut(),
        (Some(Item::ArrayOfTables(list)), Some((key, wanted))) => {
            let at = list.iter().position(|member| is(member, key, wanted));
            let at = at.unwrap_or_else(|| {
                list.push(Table::from_iter([(key, wanted)]));
                list.len() - 1
            });
            list.get_mut(at).map(|member| member as &mut dyn TableLike)
        }
        (Some(Item::Value(toml_edit::Value::Array(list))), Some((key, wanted))) => {
            let at = in_line(list, key, wanted).unwrap_or_else(|| {
                list.push(InlineTable::from_iter([(key, wanted)]));
                list.len() - 1
            });
            list.get_mut(at).and_then(toml_edit::Value::as_inline_table_mut).map(|member| member as &mut dyn TableLike)
        }
        _ => None,
    };
    inner.ok_or_else(|| no_table(step.name))
}

fn in_line(list: &Array, key: &str, wanted: &str) -> Option<usize> {
    list.iter().position(|member| member.as_inline_table().is_some_and(|member| is(member, key, wanted)))
}

fn is(member: &dyn TableLike, key: &str, wanted: &str) -> bool {
    member.get(key).and_then(Item::as_value).is_some_and(|value| match value {
        toml_edit::Value::String(text) => text.value() == wanted,
        other => other.to_string().trim() == wanted,
    })
}

pub(super) fn remove(text: &str, above: &[Step<'_>], name: &str) -> Result<String, NoKeys> {
    let mut document = read(text)?;
    remove_in(document.as_table_mut(), above, name, false);
    Ok(document.to_string())
}

/// What was made for a member's sake goes with it.
fn remove_in(table: &mut dyn TableLike, above: &[Step<'_>], name: &str, is_in_member: bool) -> Option<()> {
    let Some((step, rest)) = above.split_first() else { return table.remove(name).map(drop) };
    let there = table.get_mut(step.name)?;
    let is_empty = match (there, step.member) {
        (item, None) => {
            let inner = item.as_table_like_mut()?;
            remove_in(inner, rest, name, is_in_member)?;
            is_in_member && inner.is_empty()
        }
        (Item::ArrayOfTables(list), Some((key, wanted))) => {
            let at = list.iter().position(|member| is(member, key, wanted))?;
            let member = list.get_mut(at)?;
            remove_in(member, rest, name, true)?;
            if member.len() == 1 {
                list.remove(at);
            }
            list.is_empty()
        }
        (Item::Value(toml_edit::Value::Array(list)), Some((key, wanted))) => {
            let at = in_line(list, key, wanted)?;
            let member = list.get_mut(at)?.as_inline_table_mut()?;
            remove_in(member, rest, name, true)?;
            if member.len() == 1 {
                list.remove(at);
            }
            false
        }
        _ => false,
    };
    if is_empty {
        table.remove(step.name);
    }
    Some(())
}

fn read(text: &str) -> Result<DocumentMut, NoKeys> {
    text.parse().map_err(|error: toml_edit::TomlError| unreadable(error.message()))
}

fn written(value: &Value) -> Option<toml_edit::Value> {
    Some(match value {
        Value::Null => return None,
        Value::Bool(is) => (*is).into(),
        Value::Number(number) => match number.as_i64() {
            Some(whole) => whole.into(),
            None => number.as_f64()?.into(),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(all) => all.iter().map(written).collect::<Option<Array>>()?.into(),
        Value::Object(all) => {
            let mut table = InlineTable::new();
            for (name, value) in all {
                table.insert(name, written(value)?);
            }
            table.into()
        }
    })
}
