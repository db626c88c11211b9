//! All that a change is likely to make slower, each at a size that takes seconds: ratios to floors of the same run.

use std::path::Path;

use crate::fill::Size;
use crate::intake::Options;
use crate::requests::Load;
use crate::{core, intake, lists, notices, results};

/// A tenth of a fleet: what is linear shows, and it is filled within a minute.
const FLEET: Size = Size {
    services: 30,
    errors: 2_000,
    occurrences: 300_000,
};

pub async fn run(binary: &str, file: Option<&Path>) {
    core::run(1);
    notices::run(1_000, 300, 60);
    for load in [Load::Failures, Load::Spans, Load::Logs] {
        let options = Options {
            load,
            grpc: false,
            prefill: 200_000,
            rounds: 3,
            seconds: 4,
        };
        intake::run(binary, options).await;
    }
    lists::run(binary, FLEET, 0.0, (0, 0)).await;
    results::finish(file);
}
