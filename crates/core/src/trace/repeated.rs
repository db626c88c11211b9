//! The same query again and again within one request.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::critical::statement;
use super::tree::Trace;

/// A statement that one span of a service ran many times.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Repeated {
    /// The service.
    pub service: Arc<str>,
    /// The statement, its values left out.
    pub statement: String,
    /// The span it was run below, as a place in the trace.
    pub below: usize,
    /// How often.
    pub count: usize,
    /// How long all runs took together, in nanoseconds.
    pub total_ns: i64,
}

/// Runs of one statement below one span from which on it counts as repeated: fewer are often deliberate.
const REPEATED: usize = 5;

/// Finds statements that were run at least five times below one span, those that took longest first.
#[must_use]
pub fn repeated(trace: &Trace) -> Vec<Repeated> {
    let mut found: BTreeMap<(usize, String), (usize, i64)> = BTreeMap::new();
    for (below, children) in trace.children.iter().enumerate() {
        for child in children {
            if let Some(statement) = statement(&trace.spans[*child]) {
                let runs = found.entry((below, statement)).or_default();
                runs.0 += 1;
                runs.1 += trace.spans[*child].duration_ns;
            }
        }
    }
    let mut repeated: Vec<Repeated> = found
        .into_iter()
        .filter(|(_, (count, _))| *count >= REPEATED)
        .map(|((below, statement), (count, total_ns))| {
            let service = trace.children[below].first().map_or_else(
                || trace.spans[below].service.clone(),
                |child| trace.spans[*child].service.clone(),
            );
            Repeated {
                service,
                statement,
                below,
                count,
                total_ns,
            }
        })
        .collect();
    repeated.sort_by_key(|repeated| std::cmp::Reverse(repeated.total_ns));
    repeated
}
