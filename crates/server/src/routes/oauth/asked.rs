//! What a program asks a member for, read and checked.

use std::collections::BTreeMap;

use outcrop_store::people::grants::{self, Client};

use super::own::RESOURCE;
use super::redirects;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;
use crate::state::State;

/// Longest authorization request.
const LONGEST: usize = 4_000;

/// A request that a member can answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::routes) struct Asked {
    /// Who asks.
    pub client: Client,
    /// Where it is sent back to.
    pub redirect: String,
    /// Its proof key.
    pub challenge: String,
    /// What it wants back as it is.
    state: Option<String>,
    issuer: String,
}

/// Why there is nothing to answer.
#[derive(Debug)]
pub(in crate::routes) enum Refused {
    /// Whoever asks cannot be trusted with an answer: the person is told.
    Here(ApiError),
    /// The program is told, at this address.
    There(String),
}

impl Asked {
    /// Where the program is sent with a code (RFC 6749, 4.1.2; RFC 9207).
    pub(in crate::routes) fn with_code(&self, code: &str) -> String {
        self.back(&[("code", code)])
    }

    /// Where it is sent with a mistake.
    pub(in crate::routes) fn with_error(&self, error: &str, why: &str) -> String {
        self.back(&[("error", error), ("error_description", why)])
    }

    /// What of its address tells a person where it is sent.
    pub(in crate::routes) fn place(&self) -> String {
        redirects::place(&self.redirect)
    }

    fn back(&self, said: &[(&str, &str)]) -> String {
        let mut all = said.to_vec();
        all.extend(self.state.as_deref().map(|state| ("state", state)));
        all.push(("iss", &self.issuer));
        redirects::with(&self.redirect, &all)
    }
}

/// Parameters of a query or a form, each once (RFC 6749, 3.1).
pub(super) fn parameters(text: &[u8]) -> Result<BTreeMap<String, String>, String> {
    let mut found = BTreeMap::new();
    for (name, value) in form_urlencoded::parse(text) {
        if value.contains('\0') || name.contains('\0') {
            return Err(format!(
                "{} holds the character NUL, which no text here may hold",
                name.replace('\0', "")
            ));
        }
        if found.insert(name.clone().into_owned(), value.into_owned()).is_some() {
            return Err(format!("{name} stands there twice"));
        }
    }
    Ok(found)
}

/// Reads an authorization request, whose parameters are as a query string; the issuer is the installation's own address.
pub(in crate::routes) async fn read(state: &State, query: &str, issuer: &str) -> Result<Asked, Refused> {
    if query.len() > LONGEST {
        return Err(Refused::Here(bad(format!(
            "the request is longer than {LONGEST} bytes"
        ))));
    }
    let parameters = parameters(query.as_bytes()).map_err(|why| Refused::Here(bad(why)))?;
    let client_id = parameters.get("client_id").cloned().unwrap_or_default();
    let database = state.database.clone();
    let client = state
        .on_main(async move { grants::client(&database, &client_id).await })
        .await
        .map_err(|error| Refused::Here(error.into()))?;
    let client = client.ok_or_else(|| {
        Refused::Here(bad(
            "the program that sent you is not known here: have it sign in anew, so that it registers itself",
        ))
    })?;
    check(client, &parameters, issuer)
}

fn check(client: Client, parameters: &BTreeMap<String, String>, issuer: &str) -> Result<Asked, Refused> {
    let presented = parameters.get("redirect_uri");
    let redirect = match (presented, client.redirects.as_slice()) {
        (Some(presented), known) if known.iter().any(|known| redirects::is_same(known, presented)) => presented,
        (None, [only]) => only,
        _ => {
            return Err(Refused::Here(bad(
                "the program that sent you wants you sent on to an address that it did not register: go no further",
            )));
        }
    };
    let given = |name: &str| parameters.get(name).map(String::as_str);
    let mut asked = Asked {
        redirect: redirect.clone(),
        challenge: String::new(),
        state: given("state").map(str::to_owned),
        issuer: issuer.to_owned(),
        client,
    };
    let refused = |error: &str, why: &str| Err(Refused::There(asked.with_error(error, why)));
    if given("response_type") != Some("code") {
        return refused("unsupported_response_type", "response_type must be code");
    }
    let challenge = given("code_challenge").filter(|challenge| is_digest(challenge));
    let (Some(challenge), Some("S256")) = (challenge, given("code_challenge_method")) else {
        return refused(
            "invalid_request",
            "code_challenge must be 43 characters, and code_challenge_method S256",
        );
    };
    if !is_ours(given("resource"), issuer) {
        return refused("invalid_target", "resource is another one than this installation's");
    }
    challenge.clone_into(&mut asked.challenge);
    Ok(asked)
}

/// Whether a resource that is named is the one that tokens are given for (RFC 8707).
pub(super) fn is_ours(named: Option<&str>, issuer: &str) -> bool {
    named.is_none_or(|named| {
        let named = named.trim_end_matches('/');
        named == format!("{issuer}{RESOURCE}") || named == issuer
    })
}

/// Whether a text is a SHA-256 digest as base64url without padding.
fn is_digest(text: &str) -> bool {
    text.len() == 43
        && text
            .bytes()
            .all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("client_id=a&state=b%26c", Ok(("a", "b&c")))]
    #[case("client_id=a&client_id=b", Err("client_id stands there twice"))]
    #[case(
        "client_id=a%00&state=x",
        Err("client_id holds the character NUL, which no text here may hold")
    )]
    fn each_parameter_stands_once(#[case] query: &str, #[case] expected: Result<(&str, &str), &str>) {
        let found = parameters(query.as_bytes());
        let said = found
            .as_ref()
            .map(|found| (found["client_id"].as_str(), found["state"].as_str()));
        assert_eq!(said.map_err(String::as_str), expected);
    }

    #[rstest]
    #[case(None, true)]
    #[case(Some("https://outcrop.skerry.example/mcp"), true)]
    #[case(Some("https://outcrop.skerry.example/mcp/"), true)]
    #[case(Some("https://outcrop.skerry.example"), true)]
    #[case(Some("https://outcrop.skerry.example/api/v1"), false)]
    #[case(Some("https://outcrop.skerry.example.evil.example/mcp"), false)]
    fn a_token_is_for_this_installations_tools(#[case] resource: Option<&str>, #[case] expected: bool) {
        assert_eq!(is_ours(resource, "https://outcrop.skerry.example"), expected);
    }
}
