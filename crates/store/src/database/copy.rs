//! Rows in PostgreSQL's binary COPY form (documentation of COPY, "Binary Format").

use chrono::{DateTime, Utc};
use sqlx::postgres::PgConnection;
use uuid::Uuid;

/// Rows gathered for one COPY.
pub(crate) struct Rows {
    bytes: Vec<u8>,
    columns: i16,
    count: usize,
}

const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";
/// Bytes handed to the connection at once: it keeps a copy of what it has not sent yet.
const PIECE: usize = 1 << 20;
/// Microseconds from 1970-01-01 to PostgreSQL's epoch, 2000-01-01.
const EPOCH_MICROS: i64 = 946_684_800_000_000;

impl Rows {
    pub(crate) fn new(columns: i16) -> Self {
        Self {
            bytes: HEADER.to_vec(),
            columns,
            count: 0,
        }
    }

    pub(crate) const fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// Begins a row; exactly as many fields as columns must follow.
    pub(crate) fn row(&mut self) -> &mut Self {
        self.bytes.extend_from_slice(&self.columns.to_be_bytes());
        self.count += 1;
        self
    }

    fn field(&mut self, content: &[u8]) -> &mut Self {
        let length = i32::try_from(content.len()).expect("fields are bounded far below 2 GiB by the intake's limits");
        self.bytes.extend_from_slice(&length.to_be_bytes());
        self.bytes.extend_from_slice(content);
        self
    }

    pub(crate) fn null(&mut self) -> &mut Self {
        self.bytes.extend_from_slice(&(-1_i32).to_be_bytes());
        self
    }

    pub(crate) fn uuid(&mut self, value: Uuid) -> &mut Self {
        self.field(value.as_bytes())
    }

    pub(crate) fn int4(&mut self, value: i32) -> &mut Self {
        self.field(&value.to_be_bytes())
    }

    pub(crate) fn int8(&mut self, value: i64) -> &mut Self {
        self.field(&value.to_be_bytes())
    }

    pub(crate) fn float4(&mut self, value: f32) -> &mut Self {
        self.field(&value.to_be_bytes())
    }

    pub(crate) fn int2(&mut self, value: i16) -> &mut Self {
        self.field(&value.to_be_bytes())
    }

    pub(crate) fn bool(&mut self, value: bool) -> &mut Self {
        self.field(&[u8::from(value)])
    }

    pub(crate) fn text(&mut self, value: &str) -> &mut Self {
        self.field(value.as_bytes())
    }

    pub(crate) fn bytes(&mut self, value: &[u8]) -> &mut Self {
        self.field(value)
    }

    pub(crate) fn time(&mut self, value: DateTime<Utc>) -> &mut Self {
        self.int8(value.timestamp_micros() - EPOCH_MICROS)
    }

    /// jsonb in its wire form: a version byte, then the text.
    pub(crate) fn jsonb(&mut self, value: &[u8]) -> &mut Self {
        let length = i32::try_from(value.len() + 1).expect("fields are bounded far below 2 GiB by the intake's limits");
        self.bytes.extend_from_slice(&length.to_be_bytes());
        self.bytes.push(1);
        self.bytes.extend_from_slice(value);
        self
    }

    /// A value that may be missing.
    pub(crate) fn maybe<T>(&mut self, value: Option<T>, put: impl Fn(&mut Self, T) -> &mut Self) -> &mut Self {
        match value {
            Some(value) => put(self, value),
            None => self.null(),
        }
    }

    /// Sends the rows. `statement` is a `COPY … FROM STDIN (FORMAT binary)` that names its columns.
    pub(crate) async fn send(mut self, connection: &mut PgConnection, statement: &str) -> Result<(), sqlx::Error> {
        if self.count == 0 {
            return Ok(());
        }
        self.bytes.extend_from_slice(&(-1_i16).to_be_bytes());
        let mut copy = connection.copy_in_raw(statement).await?;
        for piece in self.bytes.chunks(PIECE) {
            if let Err(error) = copy.send(piece).await {
                copy.abort("sending failed").await?;
                return Err(error);
            }
        }
        copy.finish().await.map(drop)
    }
}
