//! What JSON Schemas say of values that are written as texts.

use std::borrow::Cow;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};

use super::digest::Digest;
use super::names::{RungKey, ToolName};
use super::platform::Platform;
use crate::version::Version;

macro_rules! text {
    ($type:ty, $name:literal, $what:literal) => {
        impl JsonSchema for $type {
            fn inline_schema() -> bool {
                true
            }

            fn schema_name() -> Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "description": $what })
            }
        }
    };
}

text!(ToolName, "ToolName", "The name of a tool or capability");
text!(RungKey, "RungKey", "A rung: its tool, behind those that keep it to themselves, as owner/tool");
text!(Platform, "Platform", "An operating system and a processor, as linux/x86_64");
text!(Version, "Version", "A version as its makers write it");
text!(Digest, "Digest", "A SHA-256 digest, 64 hexadecimal digits");
