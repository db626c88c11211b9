//! The number of the rules.

/// The number of this algorithm. Raised with every change of what goes into a key; causes carry it.
///
/// 2 gave frames without a name one of the three places, told sources of one module in two
/// languages apart, and knew no codes within terms, no statuses of RPCs and no ids of letters
/// alone.
pub const ALGORITHM: i16 = 3;

/// The one before it, whose keys are made beside its own.
pub(super) const PREVIOUS: i16 = ALGORITHM - 1;
