//! Teams: who is in them, which services they own, and which only they may read.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use super::AccessError;
use super::service_names::named;
use crate::boxed;
use crate::{Database, StoreError};

/// A team.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Team {
    /// Its name.
    pub name: String,
    /// Addresses of its members, sorted.
    pub members: Vec<String>,
    /// The services it owns, sorted.
    pub services: Vec<String>,
}

/// All teams, by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<Team>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT name, ARRAY(SELECT email FROM team_member JOIN member ON member.id = member_id WHERE team_id = team.id \
         ORDER BY lower(email)) AS members, ARRAY(SELECT display_name FROM team_service JOIN service ON service.id = \
         service_id WHERE team_id = team.id ORDER BY display_name) AS services FROM team ORDER BY lower(name)",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// Makes a team, where there is none of that name.
///
/// # Errors
/// [`AccessError::Exists`] where there is; [`AccessError::Store`].
#[boxed]
pub async fn make(database: &Database, name: &str, by: &str, at: DateTime<Utc>) -> Result<(), AccessError> {
    let done = sqlx::query("INSERT INTO team (name, made_by, made_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING")
        .bind(name)
        .bind(by)
        .bind(at)
        .execute(&database.pool)
        .await?;
    if done.rows_affected() == 0 {
        return Err(AccessError::Exists(name.to_owned()));
    }
    Ok(())
}

/// Removes a team. Services that were limited to it alone stay limited: admins read them until another team owns them.
///
/// # Errors
/// [`AccessError::Missing`] where there is none; [`AccessError::Store`].
#[boxed]
pub async fn remove(database: &Database, name: &str) -> Result<(), AccessError> {
    let done = sqlx::query("DELETE FROM team WHERE lower(name) = lower($1)")
        .bind(name)
        .execute(&database.pool)
        .await?;
    if done.rows_affected() == 0 {
        return Err(AccessError::Missing(name.to_owned()));
    }
    Ok(())
}

/// Who is in a team and what it owns, said anew. Names that stand there already stay.
///
/// # Errors
/// [`AccessError::Missing`] with the first name that nobody, or no service, has; [`AccessError::Store`].
#[boxed]
pub async fn set(
    database: &Database,
    name: &str,
    members: Option<&[String]>,
    services: Option<&[String]>,
) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let found: Option<i32> = sqlx::query_scalar("SELECT id FROM team WHERE lower(name) = lower($1) FOR UPDATE")
        .bind(name)
        .fetch_optional(&mut *transaction)
        .await?;
    let team = found.ok_or_else(|| AccessError::Missing(name.to_owned()))?;
    if let Some(members) = members {
        let mut ids = vec![];
        for email in members {
            let id: Option<i32> = sqlx::query_scalar("SELECT id FROM member WHERE lower(email) = lower($1)")
                .bind(email)
                .fetch_optional(&mut *transaction)
                .await?;
            ids.push(id.ok_or_else(|| AccessError::Missing(email.clone()))?);
        }
        replace(&mut transaction, ("team_member", "member_id"), team, &ids).await?;
    }
    if let Some(services) = services {
        let mut ids = vec![];
        for service in services {
            let found = named(database, service).await?;
            ids.push(found.ok_or_else(|| AccessError::Missing(service.clone()))?.id);
        }
        replace(&mut transaction, ("team_service", "service_id"), team, &ids).await?;
    }
    transaction.commit().await?;
    Ok(())
}

async fn replace(
    connection: &mut sqlx::PgConnection,
    (table, column): (&str, &str),
    team: i32,
    ids: &[i32],
) -> Result<(), StoreError> {
    for statement in [
        format!("DELETE FROM {table} WHERE team_id = $1 AND {column} <> ALL($2)"),
        format!("INSERT INTO {table} (team_id, {column}) SELECT $1, unnest($2::int[]) ON CONFLICT DO NOTHING"),
    ] {
        sqlx::query(sqlx::AssertSqlSafe(statement))
            .bind(team)
            .bind(ids)
            .execute(&mut *connection)
            .await?;
    }
    Ok(())
}

/// The services that only the members of their teams, and admins, may read.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn limited(database: &Database) -> Result<Vec<String>, StoreError> {
    Ok(sqlx::query_scalar(
        "SELECT display_name FROM limited_service JOIN service ON service.id = service_id ORDER BY display_name",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// The names of services by their numbers, as senders and as pages say them.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn names_of(database: &Database, services: &[i32]) -> Result<Vec<String>, StoreError> {
    Ok(sqlx::query_scalar(
        "SELECT name FROM service WHERE id = ANY($1) UNION SELECT display_name FROM service WHERE id = ANY($1)",
    )
    .bind(services)
    .fetch_all(&database.pool)
    .await?)
}

/// Limits a service to its teams, or opens it to all members.
///
/// # Errors
/// [`AccessError::Missing`] where there is no such service; [`AccessError::Store`].
#[boxed]
pub async fn limit(
    database: &Database,
    service: &str,
    is_limited: bool,
    (by, at): (&str, DateTime<Utc>),
) -> Result<(), AccessError> {
    let found = named(database, service).await?;
    let id = found.ok_or_else(|| AccessError::Missing(service.to_owned()))?.id;
    if is_limited {
        sqlx::query(
            "INSERT INTO limited_service (service_id, made_by, made_at) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING",
        )
        .bind(id)
        .bind(by)
        .bind(at)
        .execute(&database.pool)
        .await?;
    } else {
        sqlx::query("DELETE FROM limited_service WHERE service_id = $1")
            .bind(id)
            .execute(&database.pool)
            .await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::people::add_member;
    use crate::testing::{database, now, of, resource, span, spans, store, trace, writer};

    fn names(names: &[&str]) -> Vec<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    #[tokio::test]
    async fn a_team_is_made_once_set_whole_or_not_at_all_and_removed() {
        let database = database().await;
        let sent = ["fares", "ledger"].map(|name| of(resource(name), vec![span(trace(1), 1, None, now())]));
        store(&writer(&database), &[spans(sent.into(), now())]).await;
        for email in ["purser@skerry.example", "mate@skerry.example"] {
            add_member(&database, email, "engineer", "x").await.unwrap();
        }
        let at = Utc::now();
        make(&database, "deck team", "purser", at).await.unwrap();
        let again = make(&database, "Deck Team", "purser", at).await;
        assert!(matches!(again, Err(AccessError::Exists(_))), "{again:?}");

        let (members, services) = (names(&["Purser@skerry.example"]), names(&["ledger", "fares"]));
        set(&database, "deck team", Some(&members), Some(&services))
            .await
            .unwrap();
        let team = Team {
            name: "deck team".to_owned(),
            members: names(&["purser@skerry.example"]),
            services: names(&["fares", "ledger"]),
        };
        assert_eq!(list(&database).await.unwrap(), std::slice::from_ref(&team));
        let nobody = names(&["mate@skerry.example", "nobody@skerry.example"]);
        let refused = set(&database, "deck team", Some(&nobody), Some(&[])).await;
        assert!(matches!(refused, Err(AccessError::Missing(name)) if name == "nobody@skerry.example"));
        assert_eq!(list(&database).await.unwrap(), [team], "nothing of it was done");
        set(&database, "deck team", None, Some(&names(&["ledger"])))
            .await
            .unwrap();
        assert_eq!(list(&database).await.unwrap()[0].services, ["ledger"]);

        remove(&database, "deck team").await.unwrap();
        assert!(list(&database).await.unwrap().is_empty());
        assert!(matches!(
            remove(&database, "deck team").await,
            Err(AccessError::Missing(_))
        ));
    }

    #[tokio::test]
    async fn a_limited_service_is_closed_to_all_but_its_teams_and_admins() {
        let database = database().await;
        let sent = ["fares", "ledger"].map(|name| of(resource(name), vec![span(trace(1), 1, None, now())]));
        store(&writer(&database), &[spans(sent.into(), now())]).await;
        for (email, role) in [("purser", "engineer"), ("mate", "engineer"), ("master", "admin")] {
            add_member(&database, email, role, "x").await.unwrap();
        }
        let at = Utc::now();
        make(&database, "settlement", "master", at).await.unwrap();
        set(
            &database,
            "settlement",
            Some(&names(&["mate"])),
            Some(&names(&["ledger"])),
        )
        .await
        .unwrap();
        let closed_to = async |email: &str| -> Vec<String> {
            sqlx::query_scalar(
                "SELECT display_name FROM service WHERE id = ANY(closed_to((SELECT id FROM member WHERE email = $1)))",
            )
            .bind(email)
            .fetch_all(&database.pool)
            .await
            .unwrap()
        };
        assert!(closed_to("purser").await.is_empty());
        limit(&database, "ledger", true, ("master", at)).await.unwrap();
        limit(&database, "ledger", true, ("master", at)).await.unwrap();
        assert_eq!(limited(&database).await.unwrap(), ["ledger"]);
        assert_eq!(closed_to("purser").await, ["ledger"]);
        assert!(closed_to("mate").await.is_empty() && closed_to("master").await.is_empty());
        let unknown = limit(&database, "galley", true, ("master", at)).await;
        assert!(matches!(unknown, Err(AccessError::Missing(_))));
        limit(&database, "ledger", false, ("master", at)).await.unwrap();
        assert!(closed_to("purser").await.is_empty());
    }
}
