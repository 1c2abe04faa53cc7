//! From merged values to typed definitions, by serde.
//!
//! A serde deserializer stops at the first error. To report them all, the value that was wrong is taken out and
//! the rest is tried again, until it is right or nothing more can be taken out.

use crate::source::suggestion;
use crate::{Key, Node, Place, Problem, Value};
use serde::de::value::{MapAccessDeserializer, StrDeserializer};
use serde::de::{self, DeserializeOwned, DeserializeSeed, IntoDeserializer, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};
use std::collections::btree_map;
use std::fmt;
use std::path::PathBuf;

/// Where a value was written, in a form that travels with typed definitions.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct At {
    /// The file as shown to people; empty when it was not written in a file.
    pub file: String,
    /// Line, from 1.
    pub line: usize,
    /// The directory relative paths start from.
    pub base: PathBuf,
}

impl fmt::Display for At {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.file.is_empty() { f.write_str("command line") } else { write!(f, "{}:{}", self.file, self.line) }
    }
}

/// A value and where it was written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Where.
    pub at: At,
}

impl<T> std::ops::Deref for Located<T> {
    type Target = T;
    fn deref(&self) -> &T {
        &self.value
    }
}

impl<T: schemars::JsonSchema> schemars::JsonSchema for Located<T> {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> std::borrow::Cow<'static, str> {
        T::schema_name()
    }
    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        generator.subschema_for::<T>()
    }
}

const LOCATED: &str = "$embrak::Located";

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Located<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visit<T>(std::marker::PhantomData<T>);
        impl<'de, T: Deserialize<'de>> Visitor<'de> for Visit<T> {
            type Value = Located<T>;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a value")
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Located<T>, A::Error> {
                let missing = || de::Error::custom("a located value lost its place");
                let value = seq.next_element()?.ok_or_else(missing)?;
                let (file, line, base): (String, usize, PathBuf) = seq.next_element()?.ok_or_else(missing)?;
                Ok(Located { value, at: At { file, line, base } })
            }
        }
        deserializer.deserialize_newtype_struct(LOCATED, Visit(std::marker::PhantomData))
    }
}

/// Decodes a value, reporting every problem. When there are any, the value lacks what was wrong, and is only good for
/// finding further problems; none when too much is wrong to make one.
pub fn decode<T: DeserializeOwned>(node: &Node, problems: &mut Vec<Problem>) -> Option<T> {
    let mut rest = node.clone();
    let mut taken: Vec<Vec<String>> = Vec::new();
    loop {
        let error = match T::deserialize(NodeDeserializer(&rest)) {
            Ok(value) => return Some(value),
            Err(error) => error,
        };
        let path: Vec<String> = error.path.into_iter().rev().collect();
        if let What::Missing(field) = error.what {
            let missing = [path.as_slice(), &[field.to_string()]].concat();
            // What was wrong before and taken out is not missing too.
            if taken.contains(&missing) {
                if path.is_empty() || !take_out(&mut rest, &path) {
                    return None;
                }
                taken.push(path);
                continue;
            }
        }
        problems.push(error.problem);
        if path.is_empty() || !take_out(&mut rest, &path) {
            return None;
        }
        // An element of a list leaves a gap, so later indices would lie; only its existence matters here.
        taken.push(path);
    }
}

fn take_out(node: &mut Node, path: &[String]) -> bool {
    let Some((last, parents)) = path.split_last() else { return false };
    match node.get_mut(parents).map(|n| &mut n.value) {
        Some(Value::Table(table)) => table.remove(last).is_some(),
        Some(Value::List(items)) => match last.parse::<usize>() {
            Ok(index) if index < items.len() => {
                items.remove(index);
                true
            }
            _ => false,
        },
        _ => false,
    }
}

#[derive(Debug)]
enum What {
    Other,
    Missing(&'static str),
}

/// An error with the path to the value, innermost part first.
#[derive(Debug)]
struct DecodeError {
    problem: Problem,
    path: Vec<String>,
    what: What,
}

impl DecodeError {
    fn within(mut self, part: &str, place: Option<&Place>) -> Self {
        self.path.push(part.to_string());
        if self.problem.place.is_none() {
            self.problem.place = place.cloned();
        }
        self
    }
}

impl fmt::Display for DecodeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.problem)
    }
}
impl std::error::Error for DecodeError {}

impl de::Error for DecodeError {
    fn custom<T: fmt::Display>(message: T) -> Self {
        DecodeError { problem: Problem::new(message.to_string()), path: Vec::new(), what: What::Other }
    }
    fn unknown_field(field: &str, expected: &'static [&'static str]) -> Self {
        let mut error = Self::custom(format!("unknown key `{field}`"));
        error.problem.help = Some(match suggestion(field, expected.iter().copied()) {
            Some(close) => format!("did you mean `{close}`?"),
            None => format!("known here: {}", expected.join(", ")),
        });
        error
    }
    fn unknown_variant(variant: &str, expected: &'static [&'static str]) -> Self {
        let mut error = Self::custom(format!("`{variant}` is not one of the choices"));
        let list = expected.join(", ");
        error.problem.help = Some(match suggestion(variant, expected.iter().copied()) {
            Some(close) => format!("did you mean `{close}`? there are {list}"),
            None => format!("there are {list}"),
        });
        error
    }
    fn missing_field(field: &'static str) -> Self {
        let mut error = Self::custom(format!("`{field}` is missing"));
        error.what = What::Missing(field);
        error
    }
    fn invalid_type(found: de::Unexpected<'_>, expected: &dyn de::Expected) -> Self {
        let found = match found {
            de::Unexpected::Str(text) => format!("the string {text:?}"),
            de::Unexpected::Signed(n) => format!("the number {n}"),
            de::Unexpected::Bool(value) => value.to_string(),
            de::Unexpected::Seq => "a list".to_string(),
            de::Unexpected::Map => "a table".to_string(),
            other => other.to_string(),
        };
        Self::custom(format!("expected {expected}, found {found}"))
    }
}

struct NodeDeserializer<'a>(&'a Node);

impl<'de> Deserializer<'de> for NodeDeserializer<'_> {
    type Error = DecodeError;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, DecodeError> {
        match &self.0.value {
            Value::String(text) | Value::Datetime(text) => visitor.visit_str(text),
            Value::Integer(number) => visitor.visit_i64(*number),
            Value::Float(text) => match text.parse() {
                Ok(number) => visitor.visit_f64(number),
                Err(_) => visitor.visit_str(text),
            },
            Value::Boolean(value) => visitor.visit_bool(*value),
            Value::List(items) => visitor.visit_seq(Items { items, next: 0 }),
            Value::Table(table) => visitor.visit_map(Keys { keys: table.iter(), current: None }).map_err(|mut e| {
                if e.problem.place.is_none() {
                    e.problem.place = self.0.place().cloned();
                }
                e
            }),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, DecodeError> {
        visitor.visit_some(self)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        name: &'static str,
        visitor: V,
    ) -> Result<V::Value, DecodeError> {
        if name == LOCATED {
            visitor.visit_seq(WithPlace { node: self.0, step: 0 })
        } else {
            visitor.visit_newtype_struct(self)
        }
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        name: &'static str,
        variants: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, DecodeError> {
        match &self.0.value {
            Value::String(text) => visitor.visit_enum(StrDeserializer::<DecodeError>::new(text)),
            Value::Table(table) => MapAccessDeserializer::new(Keys { keys: table.iter(), current: None })
                .deserialize_enum(name, variants, visitor),
            other => Err(de::Error::custom(format!("expected one of {}, found {}", variants.join(", "), other.kind()))),
        }
    }

    serde::forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple
        tuple_struct map struct identifier ignored_any
    }
}

struct Items<'a> {
    items: &'a [Node],
    next: usize,
}

impl<'de> SeqAccess<'de> for Items<'_> {
    type Error = DecodeError;
    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, DecodeError> {
        let Some(item) = self.items.get(self.next) else { return Ok(None) };
        let index = self.next.to_string();
        self.next += 1;
        seed.deserialize(NodeDeserializer(item)).map(Some).map_err(|e| e.within(&index, item.place()))
    }
}

struct Keys<'a> {
    keys: btree_map::Iter<'a, String, Key>,
    current: Option<(&'a String, &'a Key)>,
}

impl<'de> MapAccess<'de> for Keys<'_> {
    type Error = DecodeError;
    fn next_key_seed<K: DeserializeSeed<'de>>(&mut self, seed: K) -> Result<Option<K::Value>, DecodeError> {
        self.current = self.keys.next();
        let Some((name, key)) = self.current else { return Ok(None) };
        let deserializer: StrDeserializer<'_, DecodeError> = name.as_str().into_deserializer();
        seed.deserialize(deserializer).map(Some).map_err(|e| e.within(name, key.place.as_ref()))
    }
    fn next_value_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<T::Value, DecodeError> {
        let Some((name, key)) = self.current else { return Err(de::Error::custom("a value without key")) };
        let place = key.node.place().or(key.place.as_ref());
        seed.deserialize(NodeDeserializer(&key.node)).map_err(|e| e.within(name, place))
    }
}

/// Gives a node's value, then its place.
struct WithPlace<'a> {
    node: &'a Node,
    step: u8,
}

impl<'de> SeqAccess<'de> for WithPlace<'_> {
    type Error = DecodeError;
    fn next_element_seed<T: DeserializeSeed<'de>>(&mut self, seed: T) -> Result<Option<T::Value>, DecodeError> {
        self.step += 1;
        match self.step {
            1 => seed.deserialize(NodeDeserializer(self.node)).map(Some),
            2 => {
                let place = self.node.place();
                let text = |t: String| Node::written(Value::String(t), None);
                let file = place.map_or(String::new(), |p| p.file.name.clone());
                let base = place.map_or(String::new(), |p| p.file.base.to_string_lossy().into_owned());
                let line = Node::written(Value::Integer(place.map_or(0, |p| p.line() as i64)), None);
                let items = [text(file), line, text(base)];
                seed.deserialize(de::value::SeqAccessDeserializer::new(Items { items: &items, next: 0 })).map(Some)
            }
            _ => Ok(None),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::node::parsed;
    use std::collections::BTreeMap;

    #[derive(Debug, Deserialize, PartialEq)]
    #[serde(deny_unknown_fields, rename_all = "kebab-case")]
    struct Sample {
        name: Located<String>,
        #[serde(default)]
        services: Vec<Located<String>>,
        #[serde(default)]
        table: BTreeMap<String, Inner>,
        choice: Option<Choice>,
    }
    #[derive(Debug, Deserialize, PartialEq)]
    #[serde(deny_unknown_fields)]
    struct Inner {
        size: u32,
    }
    #[derive(Debug, Deserialize, PartialEq)]
    #[serde(rename_all = "kebab-case")]
    enum Choice {
        Uki,
        EfiApp,
    }

    fn problems(text: &str) -> Vec<String> {
        let mut problems = Vec::new();
        decode::<Sample>(&parsed(text), &mut problems);
        assert!(!problems.is_empty());
        problems.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn values_arrive_with_their_places() {
        let text = "name = 'x'\nservices = [\n 'a',\n 'b']\nchoice = 'efi-app'\n[table.t]\nsize = 3";
        let sample: Sample = decode(&parsed(text), &mut Vec::new()).unwrap();
        assert_eq!(sample.services[1].at.to_string(), "t.toml:4");
        assert_eq!((sample.table["t"].size, sample.choice), (3, Some(Choice::EfiApp)));
    }

    #[test]
    fn all_problems_are_reported_at_once_with_suggestions() {
        let found = problems("name = 3\nsevices = []\nchoice = 'efiapp'\n[table.t]\nsize = -1\nsiz = 2\n[table.u]\n");
        assert_eq!(
            found,
            [
                "t.toml:3: `efiapp` is not one of the choices (did you mean `efi-app`? there are uki, efi-app)",
                "t.toml:1: expected a string, found the number 3",
                "t.toml:2: unknown key `sevices` (did you mean `services`?)",
                "t.toml:6: unknown key `siz` (did you mean `size`?)",
                "t.toml:5: invalid value: integer `-1`, expected u32",
                "t.toml:7: `size` is missing",
            ]
        );
    }

    #[test]
    fn a_value_taken_out_is_not_reported_as_missing() {
        assert_eq!(problems("name = []").len(), 1);
        assert_eq!(problems(""), ["t.toml:1: `name` is missing"]);
    }
}
