//! Commits of a deploy, and the errors whose code they touch.

use chrono::{DateTime, Utc};
use ignore::gitignore::GitignoreBuilder;
use outcrop_api::{CommitItem, TouchItem};
use outcrop_core::Reference;
use outcrop_core::touching::{Commit, Touch, touching};
use outcrop_store::deploys::changes::{Changes, Owned};
use outcrop_store::people::settings;
use outcrop_store::{Database, StoreError, occurrences};

pub(crate) async fn commits(
    database: &Database,
    service: &str,
    brought: &Changes,
    flagged: &[Reference],
) -> Result<Vec<CommitItem>, StoreError> {
    let mut items: Vec<CommitItem> = brought
        .commits
        .iter()
        .map(|commit| CommitItem {
            id: commit.id.clone(),
            author: commit.author.clone(),
            at: made_at(commit),
            summary: commit.summary.clone(),
            files: commit.files.len(),
            touches: vec![],
        })
        .collect();
    for reference in flagged {
        for touch in touches(database, service, *reference, brought).await? {
            if let Some(item) = items.iter_mut().find(|item| item.id == touch.commit) {
                item.touches.push(touch);
            }
        }
    }
    items.sort_by_key(|item| {
        let nearest = item
            .touches
            .iter()
            .map(|touch| touch.distance.unwrap_or(u32::MAX))
            .min();
        (nearest.is_none(), nearest, std::cmp::Reverse(item.at))
    });
    Ok(items)
}

pub(crate) fn made_at(commit: &Commit) -> DateTime<Utc> {
    DateTime::from_timestamp(commit.at, 0).unwrap_or_default()
}

/// Commits near an error's frames, as its latest occurrence has them; the nearest first.
pub(crate) async fn touches(
    database: &Database,
    service: &str,
    error: Reference,
    brought: &Changes,
) -> Result<Vec<TouchItem>, StoreError> {
    let Some(stack) = occurrences::latest_stack(database, error).await? else {
        return Ok(vec![]);
    };
    let root = settings::of_service(database, service)
        .await?
        .source_root
        .unwrap_or_default();
    Ok(touching(&brought.commits, &stack, &root)
        .into_iter()
        .map(|touch| touch_item(error, touch, &brought.owners))
        .collect())
}

pub(crate) fn touch_item(error: Reference, touch: Touch<'_>, rules: &[Owned]) -> TouchItem {
    TouchItem {
        reference: error.to_string(),
        commit: touch.commit.id.clone(),
        author: touch.commit.author.clone(),
        summary: touch.commit.summary.clone(),
        at: made_at(touch.commit),
        owners: owners(rules, &touch.path),
        path: touch.path,
        line: touch.line,
        distance: touch.distance,
    }
}

/// Whether a pattern, as .gitignore has them, fits a path.
pub(crate) fn fits(pattern: &str, path: &str) -> bool {
    let mut builder = GitignoreBuilder::new("");
    builder.add_line(None, pattern).is_ok()
        && builder
            .build()
            .is_ok_and(|rule| rule.matched_path_or_any_parents(path, false).is_ignore())
}

/// Who owns a file: the last rule that fits counts, with patterns as in .gitignore.
pub(crate) fn owners(rules: &[Owned], path: &str) -> Vec<String> {
    rules
        .iter()
        .rev()
        .find(|(pattern, _)| fits(pattern, path))
        .map(|(_, owners)| owners.clone())
        .unwrap_or_default()
}
