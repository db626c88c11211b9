//! JSON read as it comes, without a tree of it: each object hands its fields to whoever builds of them.

use std::borrow::Cow;
use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, Error, IgnoredAny, MapAccess, SeqAccess, Visitor};

/// What takes the fields of an object.
pub(super) trait Fields {
    /// Takes the value of a field from `map`: exactly one value must be read.
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error>;

    /// Takes a text that stands where an object should.
    fn text(&mut self, _text: &str) {}
}

/// What takes the elements of a list.
pub(super) trait Elements {
    /// Takes one element from `list`; false where there is none left.
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error>;
}

/// Methods of a visitor for all that is neither an object nor a list.
macro_rules! scalars {
    ($value:expr) => {
        fn visit_bool<E: Error>(self, _: bool) -> Result<Self::Value, E> {
            Ok($value)
        }
        fn visit_i64<E: Error>(self, _: i64) -> Result<Self::Value, E> {
            Ok($value)
        }
        fn visit_u64<E: Error>(self, _: u64) -> Result<Self::Value, E> {
            Ok($value)
        }
        fn visit_f64<E: Error>(self, _: f64) -> Result<Self::Value, E> {
            Ok($value)
        }
    };
}

/// What stood where an object or a list was looked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stood {
    /// It, and it was taken.
    There,
    /// `null`, which ProtoJSON takes for not set.
    Null,
    /// Something else.
    Else,
}

/// Reads an object into something that takes its fields.
pub(super) struct Object<'a, T>(pub &'a mut T);

impl<'de, T: Fields> DeserializeSeed<'de> for Object<'_, T> {
    type Value = Stood;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Stood, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, T: Fields> Visitor<'de> for Object<'_, T> {
    type Value = Stood;

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("an object")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Stood, A::Error> {
        while let Some(name) = map.next_key::<Name<'de>>()? {
            self.0.field(&name.0, &mut map)?;
        }
        Ok(Stood::There)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Stood, A::Error> {
        while list.next_element::<IgnoredAny>()?.is_some() {}
        Ok(Stood::Else)
    }

    fn visit_str<E: Error>(self, text: &str) -> Result<Stood, E> {
        self.0.text(text);
        Ok(Stood::Else)
    }

    fn visit_unit<E: Error>(self) -> Result<Stood, E> {
        Ok(Stood::Null)
    }

    scalars!(Stood::Else);
}

/// Reads a list into something that takes its elements.
pub(super) struct List<'a, T>(pub &'a mut T);

impl<'de, T: Elements> DeserializeSeed<'de> for List<'_, T> {
    type Value = Stood;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Stood, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de, T: Elements> Visitor<'de> for List<'_, T> {
    type Value = Stood;

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("a list")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Stood, A::Error> {
        while self.0.element(&mut list)? {}
        Ok(Stood::There)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Stood, A::Error> {
        while map.next_entry::<IgnoredAny, IgnoredAny>()?.is_some() {}
        Ok(Stood::Else)
    }

    fn visit_str<E: Error>(self, _: &str) -> Result<Stood, E> {
        Ok(Stood::Else)
    }

    fn visit_unit<E: Error>(self) -> Result<Stood, E> {
        Ok(Stood::Null)
    }

    scalars!(Stood::Else);
}

/// A field's name, borrowed where it can be.
struct Name<'de>(Cow<'de, str>);

impl<'de> serde::Deserialize<'de> for Name<'de> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Name<'de>;

            fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
                formatter.write_str("a name")
            }

            fn visit_borrowed_str<E: Error>(self, name: &'de str) -> Result<Name<'de>, E> {
                Ok(Name(Cow::Borrowed(name)))
            }

            fn visit_str<E: Error>(self, name: &str) -> Result<Name<'de>, E> {
                Ok(Name(Cow::Owned(name.to_owned())))
            }
        }
        deserializer.deserialize_str(Reader)
    }
}

/// A value that is no list or object: numbers also as text, `null` for what is not set.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Scalar {
    /// `null`, or an object or list, which no field read as a scalar has.
    None,
    Bool(bool),
    Whole(i128),
    Float(f64),
    Text(String),
}

impl Scalar {
    pub(super) fn into_text(self) -> String {
        if let Self::Text(text) = self {
            text
        } else {
            String::new()
        }
    }

    /// A whole number, also as text; ProtoJSON allows `1000.0` and `1e3` as well.
    pub(super) fn whole(&self) -> Option<i128> {
        match self {
            Self::Whole(number) => Some(*number),
            Self::Float(number) => whole(*number),
            Self::Text(text) => text
                .trim()
                .parse()
                .ok()
                .or_else(|| text.trim().parse().ok().and_then(whole)),
            Self::None | Self::Bool(_) => None,
        }
    }

    /// A number, also as text.
    pub(super) fn float(&self) -> Option<f64> {
        match self {
            #[expect(clippy::cast_precision_loss, reason = "what a double can hold is what was asked for")]
            Self::Whole(number) => Some(*number as f64),
            Self::Float(number) => Some(*number),
            Self::Text(text) => text.trim().parse().ok(),
            Self::None | Self::Bool(_) => None,
        }
    }

    /// The value as it would stand in JSON, without quotes.
    pub(super) fn spelled(self) -> String {
        match self {
            Self::None => "null".to_owned(),
            Self::Bool(flag) => flag.to_string(),
            Self::Whole(number) => number.to_string(),
            Self::Float(number) => number.to_string(),
            Self::Text(text) => text,
        }
    }
}

fn whole(number: f64) -> Option<i128> {
    #[expect(clippy::cast_possible_truncation, reason = "held to what fits first")]
    (number.fract() == 0.0 && number.abs() < 1e19).then_some(number as i128)
}

impl<'de> serde::Deserialize<'de> for Scalar {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Scalar;

            fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
                formatter.write_str("a value")
            }

            fn visit_bool<E: Error>(self, flag: bool) -> Result<Scalar, E> {
                Ok(Scalar::Bool(flag))
            }

            fn visit_i64<E: Error>(self, number: i64) -> Result<Scalar, E> {
                Ok(Scalar::Whole(number.into()))
            }

            fn visit_u64<E: Error>(self, number: u64) -> Result<Scalar, E> {
                Ok(Scalar::Whole(number.into()))
            }

            fn visit_f64<E: Error>(self, number: f64) -> Result<Scalar, E> {
                Ok(Scalar::Float(number))
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<Scalar, E> {
                Ok(Scalar::Text(text.to_owned()))
            }

            fn visit_unit<E: Error>(self) -> Result<Scalar, E> {
                Ok(Scalar::None)
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Scalar, A::Error> {
                while list.next_element::<IgnoredAny>()?.is_some() {}
                Ok(Scalar::None)
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Scalar, A::Error> {
                while map.next_entry::<IgnoredAny, IgnoredAny>()?.is_some() {}
                Ok(Scalar::None)
            }
        }
        deserializer.deserialize_any(Reader)
    }
}
