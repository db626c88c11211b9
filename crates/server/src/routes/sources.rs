//! What is known of an occurrence's frames beyond the stack text: links, lines of source, variables.

use outcrop_api::{Frame, OccurrenceDetail, SourceLines, Variable};
use outcrop_core::source_link::{filled, repository_path};
use outcrop_core::stack::Frame as CoreFrame;
use outcrop_core::telemetry::frame_data::frame_data;
use outcrop_store::people::settings::ServiceSetting;

use crate::Settings;
use crate::source::Checkout;

/// Own frames that lines of source are read for.
const MAX_WITH_SOURCE: usize = 20;

/// Adds links, lines and variables to an occurrence's frames.
pub(super) async fn with_sources(
    mut detail: OccurrenceDetail,
    setting: ServiceSetting,
    settings: &Settings,
) -> OccurrenceDetail {
    let checkout = settings.checkouts.get(&detail.occurrence.service).cloned();
    let work = move || {
        let revisions = revisions(&detail);
        let checkout = checkout.and_then(|folder| Checkout::open(&folder, &revisions));
        fill(&mut detail, &setting, checkout.as_ref(), &revisions);
        detail
    };
    // Reading a repository blocks. The work does not panic; were it to, the request ends with an error of its own.
    match tokio::task::spawn_blocking(work).await {
        Ok(detail) => detail,
        Err(error) => std::panic::resume_unwind(error.into_panic()),
    }
}

/// Names a repository may know the revision by, the surest first.
fn revisions(detail: &OccurrenceDetail) -> Vec<String> {
    let sent = ["vcs.ref.head.revision", "vcs.repository.ref.revision"]
        .iter()
        .find_map(|name| {
            detail
                .resource
                .get(name)
                .or_else(|| detail.attributes.get(name))?
                .as_str()
        });
    let version = detail.occurrence.version.as_str();
    let of_version =
        (version != outcrop_core::telemetry::names::NO_VERSION).then(|| [format!("v{version}"), version.to_owned()]);
    sent.map(str::to_owned)
        .into_iter()
        .chain(of_version.into_iter().flatten())
        .collect()
}

fn fill(detail: &mut OccurrenceDetail, setting: &ServiceSetting, checkout: Option<&Checkout>, revisions: &[String]) {
    let sent = detail.attributes.as_object().map(frame_data).unwrap_or_default();
    let root = setting.source_root.as_deref().unwrap_or_default();
    // A link needs no repository here: the commit where it was sent, else the version as it is called.
    let revision = match revisions {
        [version, plain] if version.strip_prefix('v') == Some(plain) => plain,
        [first, ..] => first,
        [] => "HEAD",
    };
    let service = detail.occurrence.service.clone();
    let mut with_source = 0;
    let frames = detail
        .stack
        .iter_mut()
        .flat_map(|stack| &mut stack.exceptions)
        .flat_map(|exception| &mut exception.frames);
    for frame in frames {
        let core = core_frame(frame);
        let data = sent.iter().find(|data| data.is_of(&core));
        if let Some(data) = data {
            frame.variables = data
                .variables
                .iter()
                .map(|(name, value)| Variable {
                    name: name.clone(),
                    value: value.clone(),
                })
                .collect();
            frame.source = data.source.clone().map(|source| SourceLines {
                first: source.first,
                lines: source.lines,
                from: "sender".to_owned(),
            });
        }
        let mut path = repository_path(&core, root);
        if frame.own && frame.source.is_none() && with_source < MAX_WITH_SOURCE {
            with_source += 1;
            if let Some((found, checkout)) =
                checkout.and_then(|checkout| Some((checkout.lines(&core, root)?, checkout)))
            {
                path = Some(found.path);
                frame.source = Some(SourceLines {
                    first: found.first,
                    lines: found.text,
                    from: checkout.named.clone(),
                });
            }
        }
        if frame.own
            && let Some((template, path)) = setting.source_url.as_deref().zip(path)
        {
            frame.link = Some(filled(template, &service, &path, frame.line, revision));
        }
    }
}

fn core_frame(frame: &Frame) -> CoreFrame<'static> {
    CoreFrame {
        function: frame.function.clone().into(),
        module: frame.module.clone().into(),
        file: frame.file.clone().into(),
        line: frame.line,
        own: frame.own,
        repeats: frame.repeats,
    }
}
