//! What operators meet.

use rand::Rng;
use rand_chacha::ChaCha8Rng;

/// Something that operators meet, as a kind of simulated fleet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Nothing out of the ordinary.
    Calm,
    /// An exporter is down: no requests are reported while errors go on.
    CountsMissing,
    /// The counts of a minute are reported with a later one.
    CountsLate,
    /// Some instances do not report their requests.
    CountsPartial,
    /// Requests are reported every five minutes, for all of them.
    CountsInLumps,
    /// A second source counts the same requests.
    CountsDoubled,
    /// Requests are sampled, and nobody says so.
    CountsThinned,
    /// Each deploy may change how requests are sampled, for good.
    SamplingAtDeploy,
    /// Errors are reported a minute or two late.
    ErrorsLate,
    /// No errors are reported while requests go on.
    ErrorsMissing,
    /// Traffic drops to a part at once, or becomes a multiple.
    TrafficJumps,
    /// Ten days with a weekend and a holiday.
    Week,
    /// The rates of errors drift by a third and more within a day.
    Drift,
    /// Deploys while a dependency is out, and one shortly after another.
    DeploysInOutages,
    /// Errors that come and go by themselves every hour or so.
    Flapping,
    /// A deploy makes the errors of another service rise.
    HarmElsewhere,
    /// Canaries of one percent.
    SmallCanaries,
    /// Services with three hundred errors, of which a hundred rise together.
    Hundreds,
    /// Nightly jobs that move by hours from night to night.
    JobsMove,
    /// No requests are reported at all.
    NoRequests,
    /// Each deploy is announced twice.
    AnnouncedTwice,
}

impl Condition {
    /// All of them.
    pub const ALL: [Self; 21] = [
        Self::Calm,
        Self::CountsMissing,
        Self::CountsLate,
        Self::CountsPartial,
        Self::CountsInLumps,
        Self::CountsDoubled,
        Self::CountsThinned,
        Self::SamplingAtDeploy,
        Self::ErrorsLate,
        Self::ErrorsMissing,
        Self::TrafficJumps,
        Self::Week,
        Self::Drift,
        Self::DeploysInOutages,
        Self::Flapping,
        Self::HarmElsewhere,
        Self::SmallCanaries,
        Self::Hundreds,
        Self::JobsMove,
        Self::NoRequests,
        Self::AnnouncedTwice,
    ];

    /// Its name in words.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Calm => "calm",
            Self::CountsMissing => "request counts missing",
            Self::CountsLate => "request counts late",
            Self::CountsPartial => "request counts partial",
            Self::CountsInLumps => "request counts in lumps of five minutes",
            Self::CountsDoubled => "request counts doubled",
            Self::CountsThinned => "request counts thinned",
            Self::SamplingAtDeploy => "sampling changed by deploys",
            Self::ErrorsLate => "errors late",
            Self::ErrorsMissing => "errors missing",
            Self::TrafficJumps => "traffic drops and spikes",
            Self::Week => "weekend and holiday",
            Self::Drift => "slow drift",
            Self::DeploysInOutages => "deploys in outages, and one after another",
            Self::Flapping => "flapping",
            Self::HarmElsewhere => "harm in another service",
            Self::SmallCanaries => "canaries of 1 %",
            Self::Hundreds => "a hundred errors rise together",
            Self::JobsMove => "nightly jobs move",
            Self::NoRequests => "no requests reported",
            Self::AnnouncedTwice => "deploys announced twice",
        }
    }

    /// Days that are simulated; the first is learnt from.
    pub(crate) const fn days(self) -> i64 {
        if matches!(self, Self::Week) { 10 } else { 5 }
    }

    /// The least and the most errors of a service.
    pub(crate) const fn errors(self) -> (usize, usize) {
        if matches!(self, Self::Hundreds) {
            (250, 350)
        } else {
            (10, 40)
        }
    }

    /// The share of services that report no requests.
    pub(crate) const fn silent_services(self) -> f64 {
        match self {
            Self::NoRequests => 1.0,
            Self::Calm | Self::AnnouncedTwice | Self::Flapping | Self::JobsMove | Self::Drift | Self::Week => 0.15,
            _ => 0.0,
        }
    }

    /// How likely a deploy is rolling, and a canary.
    pub(crate) const fn deploy_kinds(self) -> (f64, f64) {
        if matches!(self, Self::SmallCanaries) {
            (0.1, 0.7)
        } else {
            (0.25, 0.15)
        }
    }

    /// The share of a canary, and its length.
    pub(crate) fn canary(self, chance: &mut ChaCha8Rng) -> (f64, i64) {
        if self == Self::SmallCanaries {
            (0.01, chance.random_range(60..240))
        } else {
            (chance.random_range(0.05..0.2), chance.random_range(45..120))
        }
    }

    /// Whether reports are disturbed for stretches of 20 to 240 minutes.
    pub(crate) const fn has_stretches(self) -> bool {
        matches!(
            self,
            Self::CountsMissing
                | Self::CountsLate
                | Self::CountsPartial
                | Self::CountsInLumps
                | Self::CountsDoubled
                | Self::CountsThinned
                | Self::ErrorsLate
                | Self::ErrorsMissing
        )
    }
}
