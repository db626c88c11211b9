//! Deploys as pipelines announce them by CDEvents (<https://cdevents.dev>, specification 0.4,
//! "Continuous Deployment events"): `service.deployed`, `service.upgraded` and
//! `service.rolledback`.

use serde_json::Value;

/// What a CDEvent says of a deploy.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Announced {
    /// The service: the subject's id without what stands before its last `/`.
    pub service: String,
    /// The environment's id, in the same way.
    pub environment: String,
    /// The version, of the artifact's package URL.
    pub version: String,
}

/// Why a CDEvent cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadCdEvent {
    /// It is about something else; nothing is wrong with it.
    #[error("`{0}` tells of no deploy")]
    NoDeploy(String),
    /// A part is missing.
    #[error("{0} is missing in the event")]
    Missing(&'static str),
    /// The artifact has no version.
    #[error("the artifact `{0}` names no version: a package URL such as pkg:oci/fares@sha256:1f…?tag=2.4.0 does")]
    NoVersion(String),
}

/// Reads the body of a CDEvent.
///
/// # Errors
/// [`BadCdEvent::NoDeploy`] for other events, the others where the event says too little.
///
/// # Example: a service that was upgraded
/// ```
/// use outcrop_core::deploy::announced;
/// let event = serde_json::json!({
///     "context": {"type": "dev.cdevents.service.upgraded.0.2.0"},
///     "subject": {"id": "/skerry/fares", "content": {"environment": {"id": "production"}, "artifactId": "pkg:oci/fares@sha256%3A1f2e?tag=2.4.0"}}});
/// let read = announced(&event).unwrap();
/// assert_eq!((read.service.as_str(), read.environment.as_str(), read.version.as_str()), ("fares", "production", "2.4.0"));
/// ```
pub fn announced(event: &Value) -> Result<Announced, BadCdEvent> {
    // An id is a path: what stands behind its last `/`, where anything does, is the name.
    let text = |path: &str| {
        event
            .pointer(path)
            .and_then(Value::as_str)
            .map(|text| text.trim().trim_end_matches('/'))
            .filter(|text| !text.is_empty())
    };
    let kind = text("/context/type").ok_or(BadCdEvent::Missing("context.type"))?;
    let told = kind
        .strip_prefix("dev.cdevents.service.")
        .and_then(|rest| rest.split('.').next());
    if !matches!(told, Some("deployed" | "upgraded" | "rolledback")) {
        return Err(BadCdEvent::NoDeploy(kind.to_owned()));
    }
    let service = text("/subject/id").ok_or(BadCdEvent::Missing("subject.id"))?;
    let environment =
        text("/subject/content/environment/id").ok_or(BadCdEvent::Missing("subject.content.environment.id"))?;
    let artifact = text("/subject/content/artifactId").ok_or(BadCdEvent::Missing("subject.content.artifactId"))?;
    let version = version_of(artifact).ok_or_else(|| BadCdEvent::NoVersion(artifact.to_owned()))?;
    let name = |id: &str| id.rsplit('/').next().unwrap_or(id).to_owned();
    Ok(Announced {
        service: name(service),
        environment: name(environment),
        version,
    })
}

/// The version of a package URL (`pkg:type/namespace/name@version?qualifiers#subpath`,
/// percent-encoded): of an image, whose version is a digest, its tag.
fn version_of(artifact: &str) -> Option<String> {
    let whole = artifact.split('#').next().unwrap_or_default();
    let (path, qualifiers) = whole.split_once('?').unwrap_or((whole, ""));
    let tag = form_urlencoded::parse(qualifiers.as_bytes())
        .find(|(name, _)| name == "tag")
        .map(|(_, value)| value.into_owned());
    let decoded = |text: &str| {
        // A `+` of a version is itself here, not a blank.
        form_urlencoded::parse(
            text.replace('+', "%2B")
                .replace('&', "%26")
                .replace('=', "%3D")
                .as_bytes(),
        )
        .next()
        .map(|(name, _)| name.into_owned())
    };
    let of_path = path.rsplit_once('@').and_then(|(_, version)| decoded(version));
    let plain = (!path.starts_with("pkg:"))
        .then(|| path.rsplit_once(':'))
        .flatten()
        .map(|(_, version)| version.to_owned());
    tag.or(of_path).or(plain).filter(|version| !version.is_empty())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::tag_of_an_image(
        "pkg:oci/fares@sha256%3A1f2e?repository_url=registry.skerry.example&tag=2.4.0",
        Some("2.4.0")
    )]
    #[case::version_of_a_package("pkg:maven/example.skerry/sailings@3.4.0", Some("3.4.0"))]
    #[case::escaped("pkg:npm/%40skerry/gangway@5.12.1%2Bhotfix", Some("5.12.1+hotfix"))]
    #[case::plain_plus("pkg:cargo/berths@1.2.0+4", Some("1.2.0+4"))]
    #[case::an_image_as_people_write_it("registry.skerry.example/fares:2.4.0", Some("2.4.0"))]
    #[case::no_version("pkg:oci/fares", None)]
    fn versions_of_artifacts(#[case] artifact: &str, #[case] version: Option<&str>) {
        assert_eq!(version_of(artifact).as_deref(), version);
    }

    #[test]
    fn what_is_missing_is_named_and_other_events_are_told_apart() {
        let event = |kind: &str, subject: Value| serde_json::json!({"context": {"type": kind}, "subject": subject});
        let deployed = "dev.cdevents.service.deployed.0.1.1";
        assert_eq!(
            announced(&serde_json::json!({})),
            Err(BadCdEvent::Missing("context.type"))
        );
        assert_eq!(
            announced(&event(deployed, serde_json::json!({}))),
            Err(BadCdEvent::Missing("subject.id"))
        );
        assert_eq!(
            announced(&event(deployed, serde_json::json!({"id": " // "}))),
            Err(BadCdEvent::Missing("subject.id"))
        );
        let content = serde_json::json!({"environment": {"id": "production/"}, "artifactId": "fares:2.4.0"});
        let named = announced(&event(
            deployed,
            serde_json::json!({"id": "/skerry/fares/", "content": content}),
        ));
        assert_eq!(
            named.map(|read| (read.service, read.environment)),
            Ok(("fares".to_owned(), "production".to_owned()))
        );
        let removed = "dev.cdevents.service.removed.0.1.1";
        assert_eq!(
            announced(&event(removed, serde_json::json!({"id": "fares"}))),
            Err(BadCdEvent::NoDeploy(removed.to_owned()))
        );
    }
}
