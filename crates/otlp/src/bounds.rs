//! How much a request may hold: counted while it is read, before anything is built of it.

use outcrop_core::failure::Refused;
use outcrop_core::telemetry::tidy::MAX_ATTRIBUTES;
use outcrop_core::telemetry::{Attributes, Value, tidy};

use crate::DecodeError;

/// Records taken of one request: ten times what a collector sends at once.
pub const MAX_RECORDS: usize = 100_000;
/// Resources taken of one request: a collector in front of the largest fleets names some thousand.
pub const MAX_RESOURCES: usize = 20_000;
/// What a record, a resource or an event takes in memory beside its texts and attributes, in bytes.
pub(crate) const RECORD_BYTES: usize = 400;
/// What an attribute or an element of a list takes beside its texts.
pub(crate) const ATTRIBUTE_BYTES: usize = 80;
/// How much more room is asked for at once, in bytes.
const STEP: usize = 64 << 10;

/// The memory that what is read of a body may take. A body of a few megabytes may stand for gigabytes of records.
pub struct Room<'a> {
    left: usize,
    more: &'a mut dyn FnMut(usize) -> bool,
}

impl<'a> Room<'a> {
    /// Room of no bytes yet; `more` is asked for each further part and says whether there is one.
    pub fn new(more: &'a mut dyn FnMut(usize) -> bool) -> Self {
        Self { left: 0, more }
    }

    fn take(&mut self, bytes: usize) -> Result<(), DecodeError> {
        if bytes > self.left {
            let wanted = (bytes - self.left).max(STEP);
            if !(self.more)(wanted) {
                return Err(DecodeError::NoRoom);
            }
            self.left += wanted;
        }
        self.left -= bytes;
        Ok(())
    }
}

/// What is counted over one request.
pub(crate) struct Bounds<'r, 'm> {
    room: &'r mut Room<'m>,
    records: usize,
    resources: usize,
    /// Records refused, and what was cut of others.
    pub refused: Refused,
}

impl<'r, 'm> Bounds<'r, 'm> {
    pub(crate) fn new(room: &'r mut Room<'m>) -> Self {
        Self {
            room,
            records: 0,
            resources: 0,
            refused: Refused::default(),
        }
    }

    /// Takes memory.
    pub(crate) fn take(&mut self, bytes: usize) -> Result<(), DecodeError> {
        self.room.take(bytes)
    }

    /// Whether one more resource is taken.
    pub(crate) fn takes_resource(&mut self) -> Result<bool, DecodeError> {
        self.resources += 1;
        self.take(RECORD_BYTES)?;
        Ok(self.resources <= MAX_RESOURCES)
    }

    /// Whether one more record is taken; one that is not is counted as refused.
    pub(crate) fn takes_record(&mut self) -> Result<bool, DecodeError> {
        self.records += 1;
        if self.resources > MAX_RESOURCES {
            self.refused.add(1, || {
                format!("records of resources past {MAX_RESOURCES} of a request are not taken; send smaller batches")
            });
            return Ok(false);
        }
        if self.records > MAX_RECORDS {
            self.refused.add(1, || {
                format!("records past {MAX_RECORDS} of a request are not taken; send smaller batches")
            });
            return Ok(false);
        }
        self.take(RECORD_BYTES)?;
        Ok(true)
    }
}

/// Attributes as they are read: those past the limit are counted, not built, save for those that tell of the failure.
#[derive(Default)]
pub(crate) struct Gathered {
    kept: Vec<(String, Value)>,
    left_out: i64,
}

impl Gathered {
    /// Whether an attribute of this name is to be read.
    pub(crate) fn wants(&mut self, name: &str) -> bool {
        let room = if tidy::matters(name) {
            2 * MAX_ATTRIBUTES
        } else {
            MAX_ATTRIBUTES
        };
        let is_wanted = self.kept.len() < room;
        self.left_out += i64::from(!is_wanted);
        is_wanted
    }

    pub(crate) fn push(&mut self, name: String, value: Value) {
        // Neither a name nor a value: it says nothing.
        if !(name.is_empty() && matches!(value, Value::Empty)) {
            self.kept.push((name, value));
        }
    }

    pub(crate) fn finish(mut self, refused: &mut Refused) -> Attributes {
        if self.left_out > 0 {
            refused.warn("attributes past 256 of a record are left out");
            self.kept.push((tidy::LEFT_OUT.to_owned(), Value::Int(self.left_out)));
        }
        Attributes(self.kept)
    }
}
