//! Tables that are checked as a whole once they are read.

use std::fmt::Display;
use std::marker::PhantomData;

use serde::de::value::MapAccessDeserializer;
use serde::de::{Error, MapAccess, Visitor};
use serde::{Deserialize, Deserializer};

/// Reads a table in its form, and makes of it what it stands for. What is wrong with it is told where this table stands; told any
/// later it would be where the first one of its kind does.
pub(super) fn table<'de, D, Form, Value>(deserializer: D) -> Result<Value, D::Error>
where
    D: Deserializer<'de>,
    Form: Deserialize<'de>,
    Value: TryFrom<Form>,
    Value::Error: Display,
{
    struct Table<Form, Value>(PhantomData<(Form, Value)>);
    impl<'de, Form: Deserialize<'de>, Value: TryFrom<Form>> Visitor<'de> for Table<Form, Value>
    where
        Value::Error: Display,
    {
        type Value = Value;
        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("a table")
        }
        fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Value, A::Error> {
            let form = Form::deserialize(MapAccessDeserializer::new(map))?;
            Value::try_from(form).map_err(Error::custom)
        }
    }
    deserializer.deserialize_map(Table(PhantomData::<(Form, Value)>))
}
