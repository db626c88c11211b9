//! How much there is, and the numbers that the database gives to it.

/// How much there is.
#[derive(Clone, Copy, Debug, clap::Args)]
pub struct Size {
    /// Services, each with ten endpoints and a version a day.
    #[arg(long, default_value_t = 300)]
    pub services: u32,
    /// Errors over all services; few occur often, most seldom.
    #[arg(long, default_value_t = 20_000)]
    pub errors: u32,
    /// Occurrences of all errors.
    #[arg(long, default_value_t = 5_000_000)]
    pub occurrences: u32,
}

impl Size {
    /// A part of such a fleet.
    pub fn part(self, part: f64) -> Self {
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a part of a number"
        )]
        let of = |number: u32| ((f64::from(number) * part) as u32).max(1);
        Self {
            services: of(self.services),
            errors: of(self.errors),
            occurrences: of(self.occurrences),
        }
    }
}

/// The days over which all of it lies.
pub(super) const DAYS: u32 = 7;
/// Endpoints of each service.
pub(super) const ENDPOINTS: u32 = 10;
/// Rows of a transaction.
pub(super) const AT_ONCE: usize = 50_000;

/// Numbers that the database gave to names: services, versions by service and day, endpoints by service, causes by error.
pub(super) struct Names {
    pub(super) services: Vec<i32>,
    pub(super) versions: Vec<Vec<i32>>,
    pub(super) endpoints: Vec<Vec<i32>>,
    pub(super) environments: Vec<i32>,
    pub(super) causes: Vec<i64>,
}
