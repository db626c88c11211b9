//! Pages of the console that members saved under a name: with their scope, predicate and order.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::{Database, StoreError, boxed};

/// Most saved views of an installation: more than people find their way in.
pub const MAX_VIEWS: i64 = 500;

/// A page saved under a name.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct View {
    /// Its name.
    pub name: String,
    /// The page's path and what stands after it, such as `/errors?where=uncaught`.
    pub address: String,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// When it was saved.
    pub saved_at: DateTime<Utc>,
}

/// What became of a view to save.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Saving {
    /// It is saved.
    Done,
    /// The name is taken, by whom.
    Taken(String),
    /// There are [`MAX_VIEWS`] already.
    Full,
}

/// All saved views, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<View>, StoreError> {
    let statement = "SELECT name, address, owner, saved_at FROM saved_view ORDER BY lower(name), name";
    Ok(sqlx::query_as(statement).fetch_all(&database.pool).await?)
}

/// Saves a view, in place of the member's own of that name; never in place of somebody else's.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn save(database: &Database, view: &View) -> Result<Saving, StoreError> {
    let saved = sqlx::query(
        "INSERT INTO saved_view AS known (name, address, owner, saved_at) SELECT $1, $2, $3, $4 WHERE (SELECT count(*) \
         FROM saved_view WHERE name <> $1) < $5 ON CONFLICT (name) DO UPDATE SET address = excluded.address, saved_at = \
         excluded.saved_at WHERE known.owner = excluded.owner",
    )
    .bind(&view.name)
    .bind(&view.address)
    .bind(&view.owner)
    .bind(view.saved_at)
    .bind(MAX_VIEWS)
    .execute(&database.pool)
    .await?;
    if saved.rows_affected() > 0 {
        return Ok(Saving::Done);
    }
    let owner: Option<String> = sqlx::query_scalar("SELECT owner FROM saved_view WHERE name = $1")
        .bind(&view.name)
        .fetch_optional(&database.pool)
        .await?;
    Ok(owner.map_or(Saving::Full, Saving::Taken))
}

/// Removes a view; one's own, or any where `of` is `None`. Returns whether there was such a one.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, name: &str, of: Option<&str>) -> Result<bool, StoreError> {
    let removed = sqlx::query("DELETE FROM saved_view WHERE name = $1 AND ($2::text IS NULL OR owner = $2)")
        .bind(name)
        .bind(of)
        .execute(&database.pool)
        .await?;
    Ok(removed.rows_affected() > 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::database;

    fn view(name: &str, address: &str, owner: &str) -> View {
        View {
            name: name.to_owned(),
            address: address.to_owned(),
            owner: owner.to_owned(),
            saved_at: DateTime::UNIX_EPOCH,
        }
    }

    #[tokio::test]
    async fn a_view_is_changed_and_removed_by_its_owner_alone() {
        let database = database().await;
        let mut ours = view("night watch", "/errors?where=uncaught", "purser@skerry.example");
        assert_eq!(save(&database, &ours).await.unwrap(), Saving::Done);
        ours.address = "/errors?where=mine".to_owned();
        assert_eq!(save(&database, &ours).await.unwrap(), Saving::Done);
        let theirs = view("night watch", "/now", "mate@skerry.example");
        let taken = Saving::Taken("purser@skerry.example".to_owned());
        assert_eq!(save(&database, &theirs).await.unwrap(), taken);
        assert_eq!(list(&database).await.unwrap(), [ours]);
        assert!(
            !remove(&database, "night watch", Some("mate@skerry.example"))
                .await
                .unwrap()
        );
        assert!(remove(&database, "night watch", None).await.unwrap());
        assert!(list(&database).await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn no_more_are_saved_than_people_find_their_way_in() {
        let database = database().await;
        sqlx::query("INSERT INTO saved_view SELECT 'view ' || n, '/now', 'mate@skerry.example', now() FROM generate_series(1, $1) n")
            .bind(MAX_VIEWS)
            .execute(&database.pool)
            .await
            .unwrap();
        let more = view("one more", "/now", "mate@skerry.example");
        assert_eq!(save(&database, &more).await.unwrap(), Saving::Full);
        let known = view("view 7", "/errors", "mate@skerry.example");
        assert_eq!(save(&database, &known).await.unwrap(), Saving::Done);
    }
}
