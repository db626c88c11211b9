//! What readers of JSON share: bounds, and what is left out.

use serde::de::{Error, MapAccess, SeqAccess};

use crate::DecodeError;
use crate::bounds::Bounds;
use crate::json::read::Scalar;

/// What is counted while a body is read, and what ended the reading.
pub(super) struct Context<'r, 'm> {
    pub(super) bounds: Bounds<'r, 'm>,
    pub(super) failure: Option<DecodeError>,
}

impl Context<'_, '_> {
    /// Takes memory.
    pub(super) fn take<E: Error>(&mut self, bytes: usize) -> Result<(), E> {
        let taken = self.bounds.take(bytes);
        taken.map_err(|error| self.fail(error))
    }

    pub(super) fn fail<E: Error>(&mut self, failure: DecodeError) -> E {
        let error = E::custom(&failure);
        self.failure = Some(failure);
        error
    }

    pub(super) fn wrong_shape<E: Error>(&mut self, reason: String) -> E {
        self.fail(DecodeError::Shape(reason))
    }

    /// Whether one more record is taken.
    pub(super) fn takes_record<E: Error>(&mut self) -> Result<bool, E> {
        let taken = self.bounds.takes_record();
        taken.map_err(|error| self.fail(error))
    }

    /// Reads a text and takes its memory.
    pub(super) fn text<'de, A: MapAccess<'de>>(&mut self, map: &mut A) -> Result<String, A::Error> {
        let text = map.next_value::<Scalar>()?.into_text();
        self.take(text.len())?;
        Ok(text)
    }
}

/// Records of one signal.
pub(super) trait Records: Sized {
    /// The names of a request's, a resource's and a scope's lists.
    const BY_RESOURCE: [&'static str; 2];
    const BY_SCOPE: [&'static str; 2];
    const NAMES: [&'static str; 2];

    /// Reads the next element of the list; false where there is none left. What is no record is counted as refused.
    fn read<'de, A: SeqAccess<'de>>(
        list: &mut A,
        records: &mut Vec<Self>,
        context: &mut Context<'_, '_>,
    ) -> Result<bool, A::Error>;
}
