//! The fields of a protobuf message, read where they stand (protobuf's encoding specification).
//!
//! Messages are read field by field instead of being built whole by prost: what is past a limit is
//! then never built, and text that is no UTF-8, which some SDKs send and protobuf forbids, is
//! replaced instead of failing the request.

use prost::encoding::{DecodeContext, WireType, decode_key, decode_varint, skip_field};

use crate::DecodeError;

/// Numbers that are read of one packed field: more than any histogram has.
const MAX_PACKED: usize = 100_000;

/// A field's content.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Wire<'a> {
    Varint(u64),
    Fixed64(u64),
    Fixed32(u32),
    Bytes(&'a [u8]),
}

impl<'a> Wire<'a> {
    /// The content of a text, message or list of bytes.
    pub(crate) fn bytes(self) -> Result<&'a [u8], DecodeError> {
        if let Self::Bytes(bytes) = self {
            Ok(bytes)
        } else {
            Err(wrong_type())
        }
    }

    /// Text, with U+FFFD where it is no UTF-8.
    pub(crate) fn text(self) -> Result<std::borrow::Cow<'a, str>, DecodeError> {
        Ok(String::from_utf8_lossy(self.bytes()?))
    }

    pub(crate) fn varint(self) -> Result<u64, DecodeError> {
        if let Self::Varint(number) = self {
            Ok(number)
        } else {
            Err(wrong_type())
        }
    }

    pub(crate) fn fixed64(self) -> Result<u64, DecodeError> {
        if let Self::Fixed64(number) = self {
            Ok(number)
        } else {
            Err(wrong_type())
        }
    }

    /// Numbers of 64 bits, one by one or packed into one field.
    pub(crate) fn fixed64s(self) -> Result<impl Iterator<Item = u64> + 'a, DecodeError> {
        let (one, packed): (Option<u64>, &[u8]) = match self {
            Self::Fixed64(number) => (Some(number), &[]),
            other => (None, other.bytes()?),
        };
        let (chunks, rest) = packed.as_chunks::<8>();
        if !rest.is_empty() {
            return Err(wrong_type());
        }
        Ok(one
            .into_iter()
            .chain(chunks.iter().map(|bytes| u64::from_le_bytes(*bytes))))
    }

    /// Numbers of variable length, one by one or packed into one field.
    pub(crate) fn varints(self) -> Result<Vec<u64>, DecodeError> {
        if let Self::Varint(number) = self {
            return Ok(vec![number]);
        }
        let mut packed = self.bytes()?;
        let mut numbers = vec![];
        while !packed.is_empty() {
            let number = decode_varint(&mut packed);
            numbers.push(number.map_err(|error| DecodeError::Protobuf(error.to_string()))?);
            if numbers.len() > MAX_PACKED {
                return Err(DecodeError::Protobuf(format!(
                    "a point has more than {MAX_PACKED} buckets"
                )));
            }
        }
        Ok(numbers)
    }

    pub(crate) fn fixed32(self) -> Result<u32, DecodeError> {
        if let Self::Fixed32(number) = self {
            Ok(number)
        } else {
            Err(wrong_type())
        }
    }
}

fn wrong_type() -> DecodeError {
    DecodeError::Protobuf("a field has another type than OTLP gives it".to_owned())
}

/// The fields of a message, in their order: number and content.
pub(crate) struct Fields<'a>(pub &'a [u8]);

impl<'a> Fields<'a> {
    /// The next field that is none of a group, which no message of OTLP has.
    fn read(&mut self) -> Result<Option<(u32, Wire<'a>)>, DecodeError> {
        let broken = |error: prost::DecodeError| DecodeError::Protobuf(error.to_string());
        while !self.0.is_empty() {
            let (number, wire_type) = decode_key(&mut self.0).map_err(broken)?;
            let content = match wire_type {
                WireType::Varint => Wire::Varint(decode_varint(&mut self.0).map_err(broken)?),
                WireType::SixtyFourBit => Wire::Fixed64(u64::from_le_bytes(self.array()?)),
                WireType::ThirtyTwoBit => Wire::Fixed32(u32::from_le_bytes(self.array()?)),
                WireType::LengthDelimited => {
                    let length = decode_varint(&mut self.0).map_err(broken)?;
                    Wire::Bytes(self.take(usize::try_from(length).unwrap_or(usize::MAX))?)
                }
                WireType::StartGroup | WireType::EndGroup => {
                    skip_field(wire_type, number, &mut self.0, DecodeContext::default()).map_err(broken)?;
                    continue;
                }
            };
            return Ok(Some((number, content)));
        }
        Ok(None)
    }

    fn take(&mut self, count: usize) -> Result<&'a [u8], DecodeError> {
        let split = self.0.split_at_checked(count);
        let (head, tail) = split.ok_or_else(|| DecodeError::Protobuf("it ends in the middle of a field".to_owned()))?;
        self.0 = tail;
        Ok(head)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], DecodeError> {
        let bytes = self.take(N)?;
        Ok(<[u8; N]>::try_from(bytes).unwrap_or([0; N]))
    }
}

impl<'a> Iterator for Fields<'a> {
    type Item = Result<(u32, Wire<'a>), DecodeError>;

    fn next(&mut self) -> Option<Self::Item> {
        let read = self.read().transpose();
        if matches!(read, Some(Err(_))) {
            self.0 = &[];
        }
        read
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_stand_alone_or_packed() {
        let fixed = |wire: Wire<'_>| wire.fixed64s().map(Iterator::collect::<Vec<_>>);
        assert_eq!(fixed(Wire::Fixed64(7)).unwrap(), [7]);
        assert_eq!(
            fixed(Wire::Bytes(b"\x01\0\0\0\0\0\0\0\x02\0\0\0\0\0\0\0")).unwrap(),
            [1, 2]
        );
        assert!(fixed(Wire::Bytes(b"\x01\0\0")).is_err());
        assert!(fixed(Wire::Varint(7)).is_err());
        assert_eq!(Wire::Varint(7).varints().unwrap(), [7]);
        assert_eq!(Wire::Bytes(b"\x07\x96\x01").varints().unwrap(), [7, 150]);
        assert!(Wire::Bytes(b"\x96").varints().is_err());
        assert!(Wire::Bytes(&vec![0; MAX_PACKED + 1]).varints().is_err());
    }

    #[test]
    fn fields_are_read_in_their_order_and_what_is_cut_off_is_an_error() {
        // 1: varint 150; 2: "testing"; 3: fixed32 1; 4: fixed64 1.
        let message = b"\x08\x96\x01\x12\x07testing\x1d\x01\0\0\0\x21\x01\0\0\0\0\0\0\0";
        let fields: Vec<_> = Fields(message).collect::<Result<_, _>>().unwrap();
        let expected = [
            (1, Wire::Varint(150)),
            (2, Wire::Bytes(b"testing")),
            (3, Wire::Fixed32(1)),
            (4, Wire::Fixed64(1)),
        ];
        assert_eq!(fields, expected);
        for cut in 1..message.len() {
            let whole = [3, 12, 17].contains(&cut);
            assert_eq!(Fields(&message[..cut]).all(|field| field.is_ok()), whole, "{cut}");
        }
    }
}
