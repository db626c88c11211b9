//! How much evidence is asked of a rise for it to be a surge.

use super::event::Minute;
use super::series::span;

/// Minutes within which most of what a deploy changed shows.
const SOON: Minute = 90;
const HOUR: Minute = 60;
/// The share of a service's flags that may be false: α of [`Asked::of_many`].
const FALSE_SHARE: f64 = 0.05;

/// How much evidence is asked of a rise, in nats. What changing each costs is printed by
/// `outcrop-bench thresholds`, on simulated fleets.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Asked {
    /// Of a rise that begins with a deploy: what a deploy changes shows soon.
    pub after_deploy: f64,
    /// For each hour past the first and a half, besides.
    pub later: f64,
    /// Of a rise that begins with a deploy and has one minute, besides, and so much less of longer
    /// ones: single minutes are wild.
    pub brief: f64,
    /// Of a rise that begins anywhere: there are many of them.
    pub anywhere: f64,
    /// Of one that is longer than an hour, besides: rates drift by themselves.
    pub drift: f64,
    /// Of one of a single minute, besides, and so much less of longer ones: in one minute several
    /// may be reported at once.
    pub brief_anywhere: f64,
    /// Less where no requests are reported: the doubt of how busy the service is is part of the evidence already.
    pub unreported: f64,
    /// By itself, however much others tell of one that began with it: after a deploy.
    pub alone_after_deploy: f64,
    /// The same anywhere.
    pub alone_anywhere: f64,
    /// What chance often tells of one that begins with another: so much of what another tells does not count.
    pub hint: f64,
    /// The part of what others tell above that which is asked less, 0 to 1.
    pub joined: f64,
}

impl Default for Asked {
    fn default() -> Self {
        Self {
            after_deploy: 7.3,
            later: 1.0,
            brief: 2.0,
            anywhere: 12.8,
            drift: 2.5,
            brief_anywhere: 8.0,
            unreported: 1.2,
            alone_after_deploy: 5.5,
            alone_anywhere: 8.5,
            hint: 3.5,
            joined: 0.7,
        }
    }
}

impl Asked {
    /// Each by its name, to be changed.
    pub fn each(&mut self) -> [(&'static str, &mut f64); 11] {
        [
            ("after_deploy", &mut self.after_deploy),
            ("later", &mut self.later),
            ("brief", &mut self.brief),
            ("anywhere", &mut self.anywhere),
            ("drift", &mut self.drift),
            ("brief_anywhere", &mut self.brief_anywhere),
            ("unreported", &mut self.unreported),
            ("alone_after_deploy", &mut self.alone_after_deploy),
            ("alone_anywhere", &mut self.alone_anywhere),
            ("hint", &mut self.hint),
            ("joined", &mut self.joined),
        ]
    }

    /// What is asked of a rise of a length, by a deploy or anywhere; others that rise with it may make it less.
    pub(super) fn of(&self, length: Minute, is_by_deploy: bool) -> f64 {
        if is_by_deploy {
            self.after_deploy + span(SOON, length) / span(0, HOUR) * self.later
        } else {
            self.anywhere + if length > HOUR { self.drift } else { 0.0 }
        }
    }

    /// What is asked besides, whatever others do: of short rises more, and less where no requests are reported.
    pub(super) fn besides(&self, length: Minute, is_by_deploy: bool, is_reported: bool) -> f64 {
        let brief = if is_by_deploy { self.brief } else { self.brief_anywhere };
        brief / span(0, length.max(1)) - if is_reported { 0.0 } else { self.unreported }
    }

    /// How many nats more are asked of each of many errors, so that of the flags of a service the
    /// same share is false however many errors it has: the e-BH procedure (Wang and Ramdas, "False
    /// discovery rate control with e-values", 2022) takes the k-th strongest of K hypotheses where
    /// its e-value is K / (α k) or more. What is asked after a deploy is that of 73 errors: fewer
    /// ask for no more. `watched`: K; `strong`: k, this one among them.
    pub(super) fn of_many(&self, watched: usize, strong: usize) -> f64 {
        #[expect(clippy::cast_precision_loss, reason = "errors of a service")]
        let share = watched as f64 / strong as f64;
        ((share / FALSE_SHARE).ln() - self.after_deploy).max(0.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_errors_are_asked_for_as_much_more_as_there_are_more_of_them() {
        let asked = Asked::default();
        assert!(
            asked.of_many(1, 1) < f64::EPSILON && asked.of_many(73, 1) < f64::EPSILON,
            "few ask for no more"
        );
        // Ten times as many: ln 10 more. Ten strong ones among them: no more than one among a tenth.
        assert!((asked.of_many(7_300, 1) - asked.of_many(730, 1) - 10.0_f64.ln()).abs() < 1e-9);
        assert!((asked.of_many(7_300, 10) - asked.of_many(730, 1)).abs() < 1e-9);
        // The e-value that is asked for of the k-th of K is K / (α k).
        let e_value = (asked.after_deploy + asked.of_many(1_000, 4)).exp();
        assert!(
            (e_value / (1_000.0 / (FALSE_SHARE * 4.0)) - 1.0).abs() < 1e-9,
            "{e_value}"
        );
    }

    #[test]
    fn single_minutes_and_long_rises_are_asked_for_more() {
        let asked = Asked::default();
        assert!(
            (asked.of(90, true) - 7.3).abs() < 1e-9 && (asked.of(150, true) - 8.3).abs() < 1e-9,
            "an hour past the first and a half"
        );
        assert!((asked.of(60, false) - 12.8).abs() < 1e-9 && (asked.of(61, false) - 15.3).abs() < 1e-9);
        assert!(
            (asked.besides(1, true, true) - 2.0).abs() < 1e-9 && (asked.besides(4, false, true) - 2.0).abs() < 1e-9
        );
        assert!((asked.besides(60, false, true) - asked.besides(60, false, false) - 1.2).abs() < 1e-9);
    }

    #[test]
    fn each_name_stands_for_another_number() {
        let mut asked = Asked::default();
        for (_, number) in asked.each() {
            *number += 1.0;
        }
        let mut before = Asked::default();
        let changed = asked
            .each()
            .into_iter()
            .zip(before.each())
            .filter(|((name, now), (same, then))| name == same && **now > **then);
        assert_eq!(changed.count(), 11);
    }
}
