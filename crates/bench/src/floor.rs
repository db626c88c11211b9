//! The floor: the same rows by COPY, and nothing else.

use std::time::{Duration, Instant};

use outcrop_testkit::Postgres;
use prost::Message as _;
use sqlx::{AssertSqlSafe, Connection as _, PgConnection};

use crate::measured::Measured;
use crate::processor;
use crate::requests::{Load, Shape, lines, request, spans};

/// Rows per transaction of the floor.
pub(super) const FLOOR_BATCH: usize = 5_000;

/// One connection, binary COPY, the reference row: 660 bytes of jsonb, a time-ordered key, two indexes more.
pub(super) struct Floor {
    pub(super) connection: PgConnection,
    pub(super) next: u64,
    pub(super) json: Vec<u8>,
}

pub(super) const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

impl Floor {
    pub(super) async fn new(url: &str, load: Load) -> Self {
        let mut connection = PgConnection::connect(url).await.expect("the database answers");
        // Of spans and lines: a row each of 260 bytes of jsonb, found by its trace alone.
        let statements: &[&str] = if load == Load::Failures {
            &[
                "CREATE TABLE reference (id uuid PRIMARY KEY, cause_id bigint NOT NULL, trace_id uuid NOT NULL, \
                 attributes jsonb NOT NULL)",
                "CREATE INDEX ON reference (cause_id, id)",
                "CREATE INDEX ON reference USING hash (trace_id)",
            ]
        } else {
            &[
                "CREATE TABLE reference (id uuid NOT NULL, cause_id bigint NOT NULL, trace_id uuid NOT NULL, \
                 attributes jsonb NOT NULL)",
                "CREATE INDEX ON reference USING hash (trace_id)",
            ]
        };
        for statement in statements.iter().copied() {
            sqlx::query(statement)
                .execute(&mut connection)
                .await
                .expect("the reference table can be made");
        }
        let attributes: serde_json::Map<String, serde_json::Value> = (0..if load == Load::Failures { 16 } else { 6 })
            .map(|at| (format!("skerry.attribute.{at:02}"), format!("value {at:016}").into()))
            .collect();
        // jsonb's wire form is a version byte and the text.
        let json = [vec![1], serde_json::to_vec(&attributes).expect("a map encodes")].concat();
        Self {
            connection,
            next: 0,
            json,
        }
    }

    pub(super) async fn batch(&mut self) {
        let mut bytes = HEADER.to_vec();
        let field = |bytes: &mut Vec<u8>, content: &[u8]| {
            bytes.extend(i32::try_from(content.len()).expect("small").to_be_bytes());
            bytes.extend_from_slice(content);
        };
        for _ in 0..FLOOR_BATCH {
            self.next += 1;
            let mixed = self.next.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            bytes.extend(4_i16.to_be_bytes());
            field(
                &mut bytes,
                &(u128::from(self.next) << 64 | u128::from(mixed)).to_be_bytes(),
            );
            field(&mut bytes, &(mixed % 500).to_be_bytes());
            field(
                &mut bytes,
                &(u128::from(mixed) << 64 | u128::from(self.next)).to_be_bytes(),
            );
            let json = std::mem::take(&mut self.json);
            field(&mut bytes, &json);
            self.json = json;
        }
        bytes.extend((-1_i16).to_be_bytes());
        let mut copy = self
            .connection
            .copy_in_raw("COPY reference FROM STDIN (FORMAT binary)")
            .await
            .expect("COPY begins");
        copy.send(bytes).await.expect("COPY takes rows");
        copy.finish().await.expect("COPY commits");
    }

    pub(super) async fn fill(&mut self, rows: u64) {
        while self.next < rows {
            self.batch().await;
        }
        sqlx::query("CHECKPOINT")
            .execute(&mut self.connection)
            .await
            .expect("a checkpoint");
    }

    /// What one commit of one row costs: the disk's answer.
    pub(super) async fn commit_millis(&mut self) -> f64 {
        sqlx::query("CREATE TABLE one (n int)")
            .execute(&mut self.connection)
            .await
            .expect("a table");
        let start = Instant::now();
        for _ in 0..50 {
            sqlx::query(AssertSqlSafe("INSERT INTO one VALUES (1)"))
                .execute(&mut self.connection)
                .await
                .expect("a row");
        }
        start.elapsed().as_secs_f64() * 1_000.0 / 50.0
    }

    pub(super) async fn measure(&mut self, postgres: &Postgres, seconds: u64) -> Measured {
        let before = (
            self.next,
            processor::micros(postgres.pid()),
            processor::micros(std::process::id()),
        );
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(seconds) {
            self.batch().await;
        }
        let rows = (self.next - before.0) as f64;
        Measured {
            rate: rows / start.elapsed().as_secs_f64(),
            server_micros: (processor::micros(postgres.pid()) - before.1) / rows,
            client_micros: (processor::micros(std::process::id()) - before.2) / rows,
        }
    }
}

/// How and where it is sent.
#[derive(Clone)]
pub(super) struct Way {
    pub(super) load: Load,
    pub(super) grpc: bool,
    pub(super) url: String,
}

impl Way {
    pub(super) fn path(&self) -> &'static str {
        match (self.grpc, self.load) {
            (false, Load::Logs) => "/v1/logs",
            (false, _) => "/v1/traces",
            (true, Load::Logs) => "/opentelemetry.proto.collector.logs.v1.LogsService/Export",
            (true, _) => "/opentelemetry.proto.collector.trace.v1.TraceService/Export",
        }
    }

    pub(super) fn body(&self, number: u64) -> Vec<u8> {
        let message = match self.load {
            Load::Failures => request(number, &Shape::NOW).encode_to_vec(),
            Load::Spans => spans(number).encode_to_vec(),
            Load::Logs => lines(number).encode_to_vec(),
        };
        if !self.grpc {
            return message;
        }
        // A message of gRPC: not compressed, its length, the message.
        let length = u32::try_from(message.len()).expect("small").to_be_bytes();
        [&[0], length.as_slice(), &message].concat()
    }
}
