//! OTLP/JSON, read leniently: fields in camel or snake case, numbers as numbers or text, `null` for what is not set,
//! unknown fields ignored. A record of the wrong shape is left out; a request of the wrong shape is refused.

mod context;
mod metrics;
mod read;
mod records;
mod values;

use std::sync::Arc;

use context::{Context, Records};
use outcrop_core::telemetry::{LogRecord, Reading, Resource, Scope, ScopeRecords, Span};
use read::{Elements, Fields, List, Object, Stood};
use serde::de::{DeserializeSeed, Error, IgnoredAny, MapAccess, SeqAccess};
use values::WithAttributes;

use crate::bounds::{Bounds, RECORD_BYTES, Room};
use crate::{DecodeError, Decoded};

pub(crate) fn traces(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<Span>, DecodeError> {
    read(body, room)
}

pub(crate) fn logs(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<LogRecord>, DecodeError> {
    read(body, room)
}

pub(crate) fn metrics(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<Reading>, DecodeError> {
    read(body, room)
}

fn read<T: Records>(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<T>, DecodeError> {
    // Invalid UTF-8 is replaced, not refused.
    let text = String::from_utf8_lossy(body);
    let mut request = Request::<T> {
        context: Context {
            bounds: Bounds::new(room),
            failure: None,
        },
        groups: vec![],
    };
    let mut json = serde_json::Deserializer::from_str(text.trim_start_matches('\u{feff}'));
    let stood = Object(&mut request)
        .deserialize(&mut json)
        .and_then(|stood| json.end().map(|()| stood));
    match (stood, request.context.failure) {
        (_, Some(failure)) => Err(failure),
        (Err(error), None) => Err(error.into()),
        (Ok(Stood::There), None) => Ok(Decoded {
            groups: request.groups,
            refused: request.context.bounds.refused,
        }),
        (Ok(_), None) => Err(DecodeError::Shape("the request is no object".to_owned())),
    }
}

struct Request<'r, 'm, T> {
    context: Context<'r, 'm>,
    groups: Vec<ScopeRecords<T>>,
}

impl<T: Records> Fields for Request<'_, '_, T> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        if !T::BY_RESOURCE.contains(&name) {
            return map.next_value::<IgnoredAny>().map(drop);
        }
        match map.next_value_seed(List(self))? {
            Stood::Else => Err(self.context.wrong_shape(format!("{} is no list", T::BY_RESOURCE[0]))),
            Stood::There | Stood::Null => Ok(()),
        }
    }
}

impl<T: Records> Elements for Request<'_, '_, T> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        let mut of_resource = OfResource::<T> {
            context: &mut self.context,
            resource: Resource::default(),
            scopes: vec![],
            is_taken: None,
        };
        let Some(stood) = list.next_element_seed(Object(&mut of_resource))? else {
            return Ok(false);
        };
        let is_taken = of_resource.is_taken.unwrap_or_default();
        let (resource, scopes) = (Arc::new(of_resource.resource), of_resource.scopes);
        if stood != Stood::There {
            return Err(self
                .context
                .wrong_shape(format!("an element of {} is no object", T::BY_RESOURCE[0])));
        }
        let groups = scopes.into_iter().map(|(scope, records)| ScopeRecords {
            resource: resource.clone(),
            scope: Arc::new(scope),
            records,
        });
        self.groups.extend(groups.filter(|_| is_taken));
        Ok(true)
    }
}

/// What a request says of one resource. The resource may stand behind its records.
struct OfResource<'c, 'r, 'm, T> {
    context: &'c mut Context<'r, 'm>,
    resource: Resource,
    scopes: Vec<(Scope, Vec<T>)>,
    is_taken: Option<bool>,
}

impl<T: Records> OfResource<'_, '_, '_, T> {
    fn is_taken<E: Error>(&mut self) -> Result<bool, E> {
        if let Some(is_taken) = self.is_taken {
            return Ok(is_taken);
        }
        let is_taken = self
            .context
            .bounds
            .takes_resource()
            .map_err(|error| self.context.fail(error))?;
        self.is_taken = Some(is_taken);
        Ok(is_taken)
    }
}

impl<T: Records> Fields for OfResource<'_, '_, '_, T> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        let is_taken = self.is_taken()?;
        if name == "resource" && is_taken {
            let mut read = WithAttributes::new(self.context);
            map.next_value_seed(Object(&mut read))?;
            self.resource.attributes = read.finish();
            return Ok(());
        }
        if !T::BY_SCOPE.contains(&name) {
            return map.next_value::<IgnoredAny>().map(drop);
        }
        match map.next_value_seed(List(self))? {
            Stood::Else => Err(self.context.wrong_shape(format!("{} is no list", T::BY_SCOPE[0]))),
            Stood::There | Stood::Null => Ok(()),
        }
    }
}

impl<T: Records> Elements for OfResource<'_, '_, '_, T> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        self.context.take(RECORD_BYTES)?;
        let mut of_scope = OfScope::<T> {
            context: self.context,
            scope: Scope::default(),
            records: vec![],
        };
        let Some(stood) = list.next_element_seed(Object(&mut of_scope))? else {
            return Ok(false);
        };
        let (scope, records) = (of_scope.scope, of_scope.records);
        if stood != Stood::There {
            return Err(self
                .context
                .wrong_shape(format!("an element of {} is no object", T::BY_SCOPE[0])));
        }
        self.scopes.push((scope, records));
        Ok(true)
    }
}

/// What a request says of one scope of a resource.
struct OfScope<'c, 'r, 'm, T> {
    context: &'c mut Context<'r, 'm>,
    scope: Scope,
    records: Vec<T>,
}

impl<T: Records> Fields for OfScope<'_, '_, '_, T> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        if name == "scope" {
            let mut read = WithAttributes::new(self.context);
            map.next_value_seed(Object(&mut read))?;
            (self.scope.name, self.scope.version) = (std::mem::take(&mut read.name), std::mem::take(&mut read.version));
            self.scope.attributes = read.finish();
            return Ok(());
        }
        if !T::NAMES.contains(&name) {
            return map.next_value::<IgnoredAny>().map(drop);
        }
        match map.next_value_seed(List(self))? {
            Stood::Else => Err(self.context.wrong_shape(format!("{} is no list", T::NAMES[0]))),
            Stood::There | Stood::Null => Ok(()),
        }
    }
}

impl<T: Records> Elements for OfScope<'_, '_, '_, T> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        T::read(list, &mut self.records, self.context)
    }
}
