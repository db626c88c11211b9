//! Replaces invalid UTF-8 in a protobuf message, walking its wire form (protobuf's encoding specification).

/// What the length-delimited fields of a message hold; fields not named are left as they are.
pub(crate) struct Shape(&'static [(u64, Field)]);

enum Field {
    Text,
    Message(&'static Shape),
}

use Field::{Message, Text};

pub(crate) static TRACES: Shape = Shape(&[(1, Message(&RESOURCE_SPANS))]);
pub(crate) static LOGS: Shape = Shape(&[(1, Message(&RESOURCE_LOGS))]);
static RESOURCE_SPANS: Shape = Shape(&[(1, Message(&RESOURCE)), (2, Message(&SCOPE_SPANS)), (3, Text)]);
static RESOURCE_LOGS: Shape = Shape(&[(1, Message(&RESOURCE)), (2, Message(&SCOPE_LOGS)), (3, Text)]);
static RESOURCE: Shape = Shape(&[(1, Message(&KEY_VALUE))]);
static SCOPE_SPANS: Shape = Shape(&[(1, Message(&SCOPE)), (2, Message(&SPAN)), (3, Text)]);
static SCOPE_LOGS: Shape = Shape(&[(1, Message(&SCOPE)), (2, Message(&LOG_RECORD)), (3, Text)]);
static SCOPE: Shape = Shape(&[(1, Text), (2, Text), (3, Message(&KEY_VALUE))]);
static SPAN: Shape =
    Shape(&[(3, Text), (5, Text), (9, Message(&KEY_VALUE)), (11, Message(&EVENT)), (13, Message(&LINK)), (15, Message(&STATUS))]);
static EVENT: Shape = Shape(&[(2, Text), (3, Message(&KEY_VALUE))]);
static LINK: Shape = Shape(&[(3, Text), (4, Message(&KEY_VALUE))]);
static STATUS: Shape = Shape(&[(2, Text)]);
static LOG_RECORD: Shape = Shape(&[(3, Text), (5, Message(&ANY_VALUE)), (6, Message(&KEY_VALUE)), (12, Text)]);
static KEY_VALUE: Shape = Shape(&[(1, Text), (2, Message(&ANY_VALUE))]);
static ANY_VALUE: Shape = Shape(&[(1, Text), (5, Message(&ARRAY)), (6, Message(&KEY_VALUES))]);
static ARRAY: Shape = Shape(&[(1, Message(&ANY_VALUE))]);
static KEY_VALUES: Shape = Shape(&[(1, Message(&KEY_VALUE))]);

/// Deepest nesting walked, as deep as prost decodes.
const MAX_DEPTH: usize = 100;

/// Returns the message with invalid UTF-8 replaced by U+FFFD; `None` where there was none, or where the bytes are no
/// protobuf.
pub(crate) fn invalid_utf8(body: &[u8], shape: &Shape) -> Option<Vec<u8>> {
    let mut changed = false;
    let repaired = walk(body, shape, 0, &mut changed)?;
    changed.then_some(repaired)
}

fn walk(mut rest: &[u8], shape: &Shape, depth: usize, changed: &mut bool) -> Option<Vec<u8>> {
    if depth > MAX_DEPTH {
        return None;
    }
    let mut out = Vec::with_capacity(rest.len());
    while !rest.is_empty() {
        let tag = take_varint(&mut rest)?;
        put_varint(&mut out, tag);
        match tag & 7 {
            0 => {
                let number = take_varint(&mut rest)?;
                put_varint(&mut out, number);
            }
            1 => out.extend_from_slice(take(&mut rest, 8)?),
            5 => out.extend_from_slice(take(&mut rest, 4)?),
            2 => {
                let length = usize::try_from(take_varint(&mut rest)?).ok()?;
                let content = take(&mut rest, length)?;
                let field = shape.0.iter().find(|(number, _)| *number == tag >> 3).map(|(_, field)| field);
                let repaired = match field {
                    Some(Message(inner)) => walk(content, inner, depth + 1, changed)?,
                    Some(Text) => {
                        let text = String::from_utf8_lossy(content);
                        *changed |= text.as_bytes() != content;
                        text.into_owned().into_bytes()
                    }
                    None => content.to_vec(),
                };
                put_varint(&mut out, repaired.len() as u64);
                out.extend_from_slice(&repaired);
            }
            _ => return None,
        }
    }
    Some(out)
}

fn take<'a>(rest: &mut &'a [u8], count: usize) -> Option<&'a [u8]> {
    let (head, tail) = rest.split_at_checked(count)?;
    *rest = tail;
    Some(head)
}

fn take_varint(rest: &mut &[u8]) -> Option<u64> {
    prost::encoding::decode_varint(rest).ok()
}

fn put_varint(out: &mut Vec<u8>, number: u64) {
    prost::encoding::encode_varint(number, out);
}
