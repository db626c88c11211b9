//! Makes the role and the database of an installation.

use std::str::FromStr;

use sqlx::postgres::PgConnectOptions;
use sqlx::{AssertSqlSafe, Connection, PgConnection};

use crate::boxed;

/// Why role and database could not be made. Then neither is there.
#[derive(Debug, thiserror::Error)]
pub enum MakeError {
    /// The URL is none.
    #[error("the server's URL cannot be read: {0}; it looks like postgres://postgres@host:5432/postgres")]
    Url(#[source] sqlx::Error),
    /// The name is none that needs no quotes.
    #[error("`{0}` cannot be the name of a role: it takes 1 to 40 of a to z, 0 to 9 and _, a letter first")]
    Name(String),
    /// The server does not answer, or does not let this role in.
    #[error("the PostgreSQL server cannot be reached as a role that may make others: {0}")]
    Connect(#[source] sqlx::Error),
    /// One of that name is there.
    #[error("a {what} `{name}` is there already")]
    Exists {
        /// `role` or `database`.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The server refused.
    #[error("the PostgreSQL server refused: {0}")]
    Refused(#[source] sqlx::Error),
}

/// Whether a name needs no quotes in SQL, so that it is the same wherever it is written.
fn is_plain(name: &str) -> bool {
    name.len() <= 40
        && name.starts_with(|first: char| first.is_ascii_lowercase())
        && name
            .bytes()
            .all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_')
}

/// Makes a role that may sign in with a password of letters and digits, and a database of the same name that it owns, as
/// the role of `server`. Returns the URL by which the new role reaches its database: over TCP, on this machine where
/// `server` is a socket.
///
/// # Errors
/// [`MakeError`]; nothing is left behind then.
///
/// # Panics
/// Never with a password of letters and digits.
#[boxed]
pub async fn make_database(server: &str, name: &str, password: &str) -> Result<String, MakeError> {
    assert!(password.bytes().all(|byte| byte.is_ascii_alphanumeric()));
    if !is_plain(name) {
        return Err(MakeError::Name(name.to_owned()));
    }
    let options = PgConnectOptions::from_str(server).map_err(MakeError::Url)?;
    let mut connection = PgConnection::connect_with(&options).await.map_err(MakeError::Connect)?;
    let there: (bool, bool) = sqlx::query_as(
        "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1), EXISTS (SELECT FROM pg_database WHERE datname = $1)",
    )
    .bind(name)
    .fetch_one(&mut connection)
    .await
    .map_err(MakeError::Refused)?;
    for (what, is_there) in [("role", there.0), ("database", there.1)] {
        if is_there {
            let name = name.to_owned();
            return Err(MakeError::Exists { what, name });
        }
    }
    let mut run = async |statement: String| {
        sqlx::raw_sql(AssertSqlSafe(statement))
            .execute(&mut connection)
            .await
            .map(|_| ())
            .map_err(MakeError::Refused)
    };
    run(format!("CREATE ROLE {name} LOGIN PASSWORD '{password}'")).await?;
    // Whoever is no superuser makes a database for a role only as a member of it.
    let made = async {
        run(format!("GRANT {name} TO CURRENT_USER")).await?;
        run(format!(
            "CREATE DATABASE {name} OWNER {name} ENCODING 'UTF8' TEMPLATE template0"
        ))
        .await
    }
    .await;
    if let Err(error) = made {
        run(format!("DROP ROLE {name}")).await?;
        return Err(error);
    }
    let host = options.get_host();
    let host = if options.get_socket().is_some() || host.starts_with('/') {
        "127.0.0.1".to_owned()
    } else if host.contains(':') {
        format!("[{host}]")
    } else {
        host.to_owned()
    };
    Ok(format!(
        "postgres://{name}:{password}@{host}:{}/{name}",
        options.get_port()
    ))
}

/// Takes away what [`make_database`] made.
///
/// # Errors
/// [`MakeError`].
#[boxed]
pub async fn unmake_database(server: &str, name: &str) -> Result<(), MakeError> {
    if !is_plain(name) {
        return Err(MakeError::Name(name.to_owned()));
    }
    let options = PgConnectOptions::from_str(server).map_err(MakeError::Url)?;
    let mut connection = PgConnection::connect_with(&options).await.map_err(MakeError::Connect)?;
    for statement in [
        format!("DROP DATABASE {name} WITH (FORCE)"),
        format!("DROP ROLE {name}"),
    ] {
        sqlx::raw_sql(AssertSqlSafe(statement))
            .execute(&mut connection)
            .await
            .map_err(MakeError::Refused)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use outcrop_testkit::Postgres;
    use rstest::rstest;

    use super::*;
    use crate::Database;

    #[tokio::test]
    async fn a_role_and_its_database_are_made_once_and_taken_away_whole() {
        let server = Postgres::shared().database();
        let name = format!("skerry_{}", std::process::id());
        let url = make_database(&server, &name, "lowtideatnoon1").await.unwrap();
        assert!(Database::migrate(&url).await.unwrap() > 0, "it may make tables");
        let again = make_database(&server, &name, "lowtideatnoon1").await.unwrap_err();
        assert_eq!(again.to_string(), format!("a role `{name}` is there already"));
        unmake_database(&server, &name).await.unwrap();
        assert!(Database::migrate(&url).await.is_err());
        make_database(&server, &name, "another2").await.unwrap();
        unmake_database(&server, &name).await.unwrap();
    }

    #[rstest]
    #[case("outcrop", true)]
    #[case("outcrop_2", true)]
    #[case("2outcrop", false)]
    #[case("Outcrop", false)]
    #[case("out crop", false)]
    #[case("x; DROP DATABASE skerry", false)]
    #[case("", false)]
    fn names_need_no_quotes(#[case] name: &str, #[case] expected: bool) {
        assert_eq!(is_plain(name), expected);
        assert!(!is_plain(&"a".repeat(41)));
    }
}
