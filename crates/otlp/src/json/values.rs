//! Attributes and values of OTLP/JSON.

use base64::Engine;
use outcrop_core::telemetry::tidy::{MAX_DEPTH, MAX_ELEMENTS, TOO_DEEP};
use outcrop_core::telemetry::{Attributes, Value};
use serde::de::{IgnoredAny, MapAccess, SeqAccess};

use super::Context;
use super::read::{Elements, Fields, List, Object, Scalar};
use crate::bounds::{ATTRIBUTE_BYTES, Gathered};

/// An object with a name, a version and attributes: a scope, or a resource, which has the last alone.
pub(super) struct WithAttributes<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    attributes: Gathered,
    pub name: String,
    pub version: String,
}

impl<'c, 'r, 'm> WithAttributes<'c, 'r, 'm> {
    pub(super) fn new(context: &'c mut Context<'r, 'm>) -> Self {
        Self {
            context,
            attributes: Gathered::default(),
            name: String::new(),
            version: String::new(),
        }
    }

    pub(super) fn finish(self) -> Attributes {
        self.attributes.finish(&mut self.context.bounds.refused)
    }
}

impl Fields for WithAttributes<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "name" => self.name = self.context.text(map)?,
            "version" => self.version = self.context.text(map)?,
            "attributes" => attributes(map, &mut self.attributes, self.context)?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

/// Reads the list of attributes that is a field's value.
pub(super) fn attributes<'de, A: MapAccess<'de>>(
    map: &mut A,
    gathered: &mut Gathered,
    context: &mut Context<'_, '_>,
) -> Result<(), A::Error> {
    map.next_value_seed(List(&mut AttributeList { context, gathered }))
        .map(drop)
}

struct AttributeList<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    gathered: &'c mut Gathered,
}

impl Elements for AttributeList<'_, '_, '_> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        self.context.take(ATTRIBUTE_BYTES)?;
        let mut entry = Entry::new(self.context, 0);
        if list.next_element_seed(Object(&mut entry))?.is_none() {
            return Ok(false);
        }
        let Entry { name, value, .. } = entry;
        if self.gathered.wants(&name) {
            self.gathered.push(name, value);
        }
        Ok(true)
    }
}

/// One entry of a list of attributes or of a map.
struct Entry<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    depth: usize,
    name: String,
    value: Value,
}

impl<'c, 'r, 'm> Entry<'c, 'r, 'm> {
    fn new(context: &'c mut Context<'r, 'm>, depth: usize) -> Self {
        Self {
            context,
            depth,
            name: String::new(),
            value: Value::Empty,
        }
    }
}

impl Fields for Entry<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "key" => self.name = self.context.text(map)?,
            "value" => self.value = value(map, self.depth, self.context)?,
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

/// Reads the `AnyValue` that is a field's value. What is no value of its declared type is kept as the text it is.
pub(super) fn value<'de, A: MapAccess<'de>>(
    map: &mut A,
    depth: usize,
    context: &mut Context<'_, '_>,
) -> Result<Value, A::Error> {
    let mut read = AnyValue {
        context,
        depth,
        value: Value::Empty,
    };
    map.next_value_seed(Object(&mut read))?;
    Ok(read.value)
}

struct AnyValue<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    depth: usize,
    value: Value,
}

impl Fields for AnyValue<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        let is_list = matches!(name, "arrayValue" | "array_value");
        if is_list || matches!(name, "kvlistValue" | "kvlist_value") {
            let mut items = Items {
                context: self.context,
                depth: self.depth,
                is_list,
                values: vec![],
                entries: vec![],
            };
            map.next_value_seed(Object(&mut items))?;
            self.value = match (self.depth >= MAX_DEPTH, is_list) {
                (true, _) => Value::String(TOO_DEEP.to_owned()),
                (false, true) => Value::Array(items.values),
                (false, false) => Value::Map(items.entries),
            };
            return Ok(());
        }
        let of: fn(Scalar) -> Value = match name {
            "stringValue" | "string_value" => |sent| Value::String(sent.spelled()),
            "boolValue" | "bool_value" => {
                |sent| Value::Bool(sent == Scalar::Bool(true) || sent == Scalar::Text("true".to_owned()))
            }
            "intValue" | "int_value" => |sent| {
                let number = sent.whole().and_then(|number| i64::try_from(number).ok());
                number.map_or_else(|| Value::String(sent.spelled()), Value::Int)
            },
            "doubleValue" | "double_value" => |sent| {
                sent.float()
                    .map_or_else(|| Value::String(sent.spelled()), Value::Double)
            },
            "bytesValue" | "bytes_value" => |sent| {
                let text = sent.into_text();
                let decoded = base64::engine::general_purpose::STANDARD.decode(&text);
                decoded.map_or_else(|_not_base64| Value::String(text), Value::Bytes)
            },
            _ => return map.next_value::<IgnoredAny>().map(drop),
        };
        let sent = map.next_value::<Scalar>()?;
        if sent != Scalar::None {
            self.value = of(sent);
            self.context.take(self.value.weight())?;
        }
        Ok(())
    }

    fn text(&mut self, text: &str) {
        self.value = Value::String(text.to_owned());
    }
}

/// The object around the elements of a list or map.
struct Items<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    depth: usize,
    is_list: bool,
    values: Vec<Value>,
    entries: Vec<(String, Value)>,
}

impl Fields for Items<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        if name != "values" || self.depth >= MAX_DEPTH {
            return map.next_value::<IgnoredAny>().map(drop);
        }
        map.next_value_seed(List(self)).map(drop)
    }
}

impl Elements for Items<'_, '_, '_> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        if self.values.len().max(self.entries.len()) >= MAX_ELEMENTS {
            return Ok(list.next_element::<IgnoredAny>()?.is_some());
        }
        self.context.take(ATTRIBUTE_BYTES)?;
        if self.is_list {
            let mut read = AnyValue {
                context: self.context,
                depth: self.depth + 1,
                value: Value::Empty,
            };
            let stood = list.next_element_seed(Object(&mut read))?;
            let value = read.value;
            self.values.extend(stood.map(|_| value));
            return Ok(stood.is_some());
        }
        let mut entry = Entry::new(self.context, self.depth + 1);
        let stood = list.next_element_seed(Object(&mut entry))?;
        let Entry { name, value, .. } = entry;
        self.entries.extend(stood.map(|_| (name, value)));
        Ok(stood.is_some())
    }
}
