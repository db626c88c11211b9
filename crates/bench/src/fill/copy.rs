//! Rows for a table, as COPY's text.

use std::fmt::{Display, Write};

use sqlx::PgConnection;

/// Rows that wait to be sent. Fields must hold no tab, line break or backslash but `\N`: what is drawn here has none.
pub(super) struct Copy {
    statement: String,
    text: String,
    rows: usize,
}

impl Copy {
    /// For a table with its columns.
    pub(super) fn new(table: &str) -> Self {
        Self {
            statement: format!("COPY {table} FROM STDIN"),
            text: String::new(),
            rows: 0,
        }
    }

    pub(super) const fn rows(&self) -> usize {
        self.rows
    }

    pub(super) fn field(&mut self, value: impl Display) {
        write!(self.text, "{value}\t").expect("text can be written");
    }

    /// Bytes, as hexadecimal digits.
    pub(super) fn bytes(&mut self, value: &[u8]) {
        self.text.push_str("\\\\x");
        for byte in value {
            write!(self.text, "{byte:02x}").expect("text can be written");
        }
        self.text.push('\t');
    }

    pub(super) fn last(&mut self, value: impl Display) {
        writeln!(self.text, "{value}").expect("text can be written");
        self.rows += 1;
    }

    pub(super) async fn send(&mut self, connection: &mut PgConnection) {
        if self.rows == 0 {
            return;
        }
        let mut copy = connection.copy_in_raw(&self.statement).await.expect("COPY begins");
        copy.send(self.text.as_bytes()).await.expect("rows are sent");
        copy.finish()
            .await
            .unwrap_or_else(|error| panic!("{}: {error}", self.statement));
        self.text.clear();
        self.rows = 0;
    }
}
