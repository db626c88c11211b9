//! Applies people's rules of grouping to a report, after it was found.

use std::sync::Arc;

use crate::Digest;
use crate::failure::Report;
use crate::grouping::rules::Rules;
use crate::grouping::{Described, Grouping};
use crate::query::Case;
use crate::stack::Stack;

impl Rules {
    /// Groups a report as its service's rules say, then says which rule drops it, if any. Without
    /// rules nothing changes.
    pub fn apply(&self, report: &mut Report) {
        self.group(report);
        if !self.drops.is_empty() {
            let resource = report.resource.attributes.to_json();
            let trace = trace_text(report);
            let case = case(report, &resource, &trace);
            report.dropped_by = self
                .drops
                .iter()
                .find(|drop| drop.holds(&case, &report.grouping))
                .map(|drop| drop.id);
        }
    }

    fn group(&self, report: &mut Report) {
        let identity = &report.identity;
        let Some(rules) = self
            .by_service
            .get(&identity.namespace)
            .and_then(|services| services.get(&identity.service))
        else {
            return;
        };
        if let Some(mut stack) = report.stack.as_deref().cloned()
            && rules.mark(&mut stack)
        {
            report.facts.has_own_frame = stack.own_frame().is_some();
            report.grouping = regrouped(report, &stack);
            report.stack = Some(Arc::new(stack));
        }
        if rules.joins.is_empty() && rules.splits.is_empty() {
            return;
        }
        let resource = report.resource.attributes.to_json();
        let trace = trace_text(report);
        let grouping = rules.moved(&report.grouping, &case(report, &resource, &trace));
        if let Some(grouping) = grouping {
            report.grouping = grouping;
        }
    }
}

fn trace_text(report: &Report) -> String {
    report.trace_id.map(|id| Digest(id.0).to_string()).unwrap_or_default()
}

fn case<'a>(report: &'a Report, resource: &'a serde_json::Map<String, serde_json::Value>, trace: &'a str) -> Case<'a> {
    let identity = &report.identity;
    Case {
        namespace: &identity.namespace,
        service: &identity.service,
        environment: &identity.environment,
        version: &identity.version,
        type_name: &report.type_name,
        message: &report.message,
        title: &report.grouping.title,
        severity: report.facts.severity,
        trace,
        stack: report.stack.as_deref(),
        attributes: &report.attributes,
        resource,
        known: None,
    }
}

fn regrouped(report: &Report, stack: &Stack<'_>) -> Grouping {
    let sent_type = report
        .attributes
        .get(crate::telemetry::names::EXCEPTION_TYPE)
        .and_then(|sent| sent.as_str());
    Described::again(&report.type_name, sent_type, &report.message, Some(stack.clone())).group()
}
