//! What is watched of a version: itself, and each of its endpoints.

use outcrop_core::deploy as judged;
use outcrop_core::deploy::{Harm, Watched, judge_endpoint};
use outcrop_store::deploys::comparison::Compared;
use outcrop_store::deploys::facts::Facts;

use crate::answers::sentences::ratio;

/// What was judged of a version and its endpoints, of the kinds of harm that count.
pub(super) struct Watch {
    pub(super) whole: judged::Judged,
    /// Each with its share of the version's requests.
    pub(super) endpoints: Vec<(f64, judged::Judged)>,
    /// Endpoints that fail more, and that are slower, whether these count or not.
    pub(super) failing: Vec<String>,
    pub(super) slower: Vec<String>,
}

impl Watch {
    pub(super) fn over(facts: &Facts, minutes: i64, counts: &dyn Fn(&str) -> bool) -> Self {
        // Twice each endpoint, by its failures and latency, and the failures of all.
        let tests = 2 * facts.endpoints.len() + 1;
        let judged = |compared: &Compared| {
            let Compared { before, after, beside } = compared;
            judge_endpoint(
                &Watched {
                    before,
                    after,
                    beside: *beside,
                    minutes,
                },
                tests,
            )
        };
        let counted = |mut judged: judged::Judged| {
            judged
                .harm
                .retain(|harm| counts(if *harm == Harm::FailsMore { "failing" } else { "slower" }));
            judged
        };
        let all = facts.whole.after.requests.max(1);
        let mut this = Self {
            whole: counted(judged(&facts.whole)),
            endpoints: vec![],
            failing: vec![],
            slower: vec![],
        };
        for (name, compared) in &facts.endpoints {
            let judged = judged(compared);
            if judged.harm.contains(&Harm::FailsMore) {
                this.failing.push(name.clone());
            }
            if judged.harm.contains(&Harm::Slower) {
                this.slower.push(name.clone());
            }
            let requests = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
            this.endpoints
                .push((ratio(requests(compared.after.requests), requests(all)), counted(judged)));
        }
        this
    }
}
