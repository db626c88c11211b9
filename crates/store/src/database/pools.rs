//! Connections to the database: how many there are.

use sqlx::PgPool;

use crate::Database;

impl Database {
    /// The pools of connections: what each is for, how many are open, and how many of these nobody uses.
    #[must_use]
    pub fn pools(&self) -> [(&'static str, u32, u32); 3] {
        let of = |name, pool: &PgPool| (name, pool.size(), u32::try_from(pool.num_idle()).unwrap_or(u32::MAX));
        [
            of("reading", &self.pool),
            of("checking", &self.checking),
            of("writing", &self.writing),
        ]
    }
}
