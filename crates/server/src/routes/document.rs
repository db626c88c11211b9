//! The OpenAPI document: what every operation may answer beside its own, and which methods an address takes.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::http::header::{ALLOW, HeaderValue};
use actix_web::http::{Method, StatusCode};
use utoipa::openapi::path::{Operation, Parameter, ParameterIn};
use utoipa::openapi::schema::{Schema, SchemaType, Type};
use utoipa::openapi::{Content, OpenApi, PathItem, Ref, RefOr, Response};

use crate::api_error::problem;

/// Adds to each operation the failures that the extractors, the guard and the database give, whatever the handler does.
pub(super) fn complete(document: &mut OpenApi) {
    for item in document.paths.paths.values_mut() {
        for operation in operations(item)
            .into_iter()
            .filter_map(|(_, operation)| operation.as_mut())
        {
            for parameter in operation.parameters.iter_mut().flatten() {
                if let RefOr::T(parameter) = parameter {
                    bound(parameter);
                }
            }
            for (status, description) in failures(operation) {
                let entry = operation.responses.responses.entry(status.to_string());
                entry.or_insert_with(|| RefOr::T(failure(description)));
            }
        }
    }
}

/// How references are spelled ([`outcrop_core::Reference`]); capitals are read too.
const REFERENCE: &str = "^[bdfghjklmnprstvz][aiou][bdfghjklmnprstvz][aiou][bdfghjklmnprstvz]-[bdfghjklmnprstvz][aiou][bdfghjklmnprstvz][aiou][bdfghjklmnprstvz]$";

/// Adds the limits that are checked for parameters of a name wherever they stand.
fn bound(parameter: &mut Parameter) {
    let Some(RefOr::T(Schema::Object(schema))) = &mut parameter.schema else {
        return;
    };
    match parameter.name.as_str() {
        "limit" => (schema.minimum, schema.maximum) = (Some(1.into()), Some(super::query::PAGE.1.into())),
        "ref" => schema.pattern = Some(REFERENCE.to_owned()),
        // PostgreSQL stores no NUL.
        _ if matches!(&schema.schema_type, SchemaType::Type(Type::String)) => {
            schema.pattern = Some("^[^\\u0000]*$".to_owned());
        }
        _ => {}
    }
}

fn failures(operation: &Operation) -> Vec<(u16, &'static str)> {
    let given: Vec<&Parameter> = (operation.parameters.iter().flatten())
        .filter_map(|parameter| {
            if let RefOr::T(parameter) = parameter {
                Some(parameter)
            } else {
                None
            }
        })
        .collect();
    let mut all = vec![
        (
            400,
            "What was sent cannot be read, or lies outside its limits; `detail` says which",
        ),
        (401, "Nobody is signed in, or the token is not known"),
        (403, "The member's role, or the token's scope, does not allow it"),
        (
            500,
            "A fault of the service; its log has the cause under the number in `detail`",
        ),
        (503, "The database does not answer; see Retry-After"),
    ];
    if given
        .iter()
        .any(|parameter| parameter.parameter_in == ParameterIn::Path)
    {
        all.push((404, "There is none"));
    }
    if given.iter().any(|parameter| parameter.name == "service") || operation.request_body.is_some() {
        all.push((
            409,
            "Another stands in the way, or a service's name alone says too little: `detail` names them",
        ));
    }
    if operation.request_body.is_some() {
        all.extend([
            (413, "The body is larger than what is taken"),
            (415, "The body is not JSON"),
        ]);
    }
    all
}

fn failure(description: &str) -> Response {
    let schema = RefOr::<Schema>::Ref(Ref::from_schema_name("Problem"));
    Response::builder()
        .description(description)
        .content("application/problem+json", Content::new(Some(schema)))
        .build()
}

fn operations(item: &mut PathItem) -> [(&'static str, &mut Option<Operation>); 5] {
    [
        ("GET", &mut item.get),
        ("POST", &mut item.post),
        ("PUT", &mut item.put),
        ("PATCH", &mut item.patch),
        ("DELETE", &mut item.delete),
    ]
}

/// The methods of each address of the API, by its segments; `None` stands for any text.
pub(super) struct Methods(Vec<(Vec<Option<String>>, Vec<&'static str>)>);

impl Methods {
    pub(super) fn of(document: &OpenApi) -> Self {
        let mut found = BTreeMap::new();
        for (path, item) in &document.paths.paths {
            let segments: Vec<Option<String>> = path
                .split('/')
                .map(|segment| {
                    if segment.starts_with('{') {
                        None
                    } else {
                        Some(segment.to_owned())
                    }
                })
                .collect();
            let mut item = item.clone();
            let methods = operations(&mut item)
                .into_iter()
                .filter_map(|(method, operation)| operation.as_ref().map(|_| method))
                .collect();
            found.insert(segments, methods);
        }
        // Segments that are written out go before those that stand for any text.
        Self(found.into_iter().rev().collect())
    }

    /// What an address takes, where the API has it.
    pub(super) fn at(&self, path: &str) -> Option<&[&'static str]> {
        let asked: Vec<&str> = path.split('/').collect();
        let fits = |segments: &[Option<String>]| {
            segments.len() == asked.len()
                && segments
                    .iter()
                    .zip(&asked)
                    .all(|(segment, asked)| segment.as_deref().map_or(!asked.is_empty(), |own| own == *asked))
        };
        self.0
            .iter()
            .find(|(segments, _)| fits(segments))
            .map(|(_, methods)| methods.as_slice())
    }
}

/// The answer to a method that an address does not take.
pub(super) fn not_allowed(method: &Method, allowed: &[&str]) -> HttpResponse {
    let allowed = allowed.join(", ");
    let detail = format!("{method} is not taken at this address; it takes {allowed}");
    let mut answer = problem(StatusCode::METHOD_NOT_ALLOWED, "method_not_allowed", detail);
    if let Ok(allowed) = HeaderValue::from_str(&allowed) {
        answer.headers_mut().insert(ALLOW, allowed);
    }
    answer
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_operation_names_the_failures_that_any_may_have() {
        let document = serde_json::to_value(crate::openapi()).unwrap();
        let paths = document["paths"].as_object().unwrap();
        assert!(paths.len() > 40);
        for (path, item) in paths {
            for (method, operation) in item.as_object().unwrap() {
                let has = |status: &str| operation["responses"].get(status).is_some();
                assert!(
                    ["400", "401", "403", "500", "503"].into_iter().all(has),
                    "{method} {path}"
                );
                assert!(!path.contains('{') || has("404"), "{method} {path}");
                assert!(
                    operation.get("requestBody").is_none() || has("413") && has("415"),
                    "{method} {path}"
                );
            }
        }
    }

    #[test]
    fn an_address_of_the_api_says_what_it_takes() {
        let methods = Methods::of(&crate::openapi());
        assert_eq!(methods.at("/api/v1/errors"), Some(&["GET"][..]));
        assert_eq!(methods.at("/api/v1/keys/pier-3"), Some(&["DELETE"][..]));
        assert_eq!(methods.at("/api/v1/keys"), Some(&["GET", "POST"][..]));
        assert_eq!(
            methods.at("/api/v1/scrubbing/try"),
            Some(&["POST"][..]),
            "not those of /scrubbing/{{id}}"
        );
        assert_eq!(methods.at("/api/v1/keys/"), None);
        assert_eq!(methods.at("/errors"), None, "an address of the console");
    }
}
