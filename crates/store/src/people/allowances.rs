//! What keys with a limit may still send, over all instances.

use crate::{Database, StoreError, boxed};

/// Takes what was sent here by keys with a limit from what they may still send, over all instances. Returns by key how many
/// bytes are left, from none to a minute's worth.
///
/// What is left grows evenly, a minute's worth in a minute of the database's clock. What instances took at once beyond it
/// is made up for: a minute's worth at most.
///
/// # Errors
/// [`StoreError`] when the database does not answer; nothing is taken then.
#[boxed]
pub async fn share(database: &Database, spent: &[(i32, i64)]) -> Result<Vec<(i32, i64)>, StoreError> {
    let (keys, bytes): (Vec<i32>, Vec<i64>) = spent.iter().copied().unzip();
    Ok(sqlx::query_as(
        "UPDATE sender_key k SET left_at = clock_timestamp(), left_bytes = greatest(-bytes_per_minute, \
             least(bytes_per_minute, coalesce(left_bytes, bytes_per_minute) + (bytes_per_minute * \
             greatest(extract(epoch FROM clock_timestamp() - coalesce(left_at, clock_timestamp())), 0) / 60)::bigint) \
             - spent.bytes) \
         FROM UNNEST($1::int[], $2::bigint[]) AS spent (key, bytes) \
         WHERE k.id = spent.key AND bytes_per_minute IS NOT NULL RETURNING k.id, greatest(left_bytes, 0)",
    )
    .bind(keys)
    .bind(bytes)
    .fetch_all(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use outcrop_core::Digest;

    use super::*;
    use crate::people::keys::{self, Bounds};
    use crate::testing::database;

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    #[tokio::test]
    async fn what_a_key_may_still_send_is_shared_made_up_for_and_grows_again() {
        let database = database().await;
        let bounds = Bounds {
            bytes_per_minute: Some(6_000),
            ..Bounds::default()
        };
        keys::add(&database, "pier-3", &bounds, secret("limited"))
            .await
            .unwrap();
        keys::add(&database, "pier-4", &Bounds::default(), secret("free"))
            .await
            .unwrap();
        let key = |text| {
            let database = database.clone();
            async move { keys::of_secret(&database, secret(text)).await.unwrap().unwrap().id }
        };
        let (limited, free) = (key("limited").await, key("free").await);
        let left = |spent: i64| {
            let database = database.clone();
            async move { share(&database, &[(limited, spent), (free, 9_000)]).await.unwrap() }
        };
        assert_eq!(
            left(2_000).await,
            [(limited, 4_000)],
            "one without a limit has nothing left to count"
        );
        // Of two instances each took what was left.
        assert!(left(4_000).await[0].1 < 100);
        assert_eq!(left(4_000).await, [(limited, 0)]);
        let back = |seconds: i32| {
            let database = database.clone();
            async move {
                sqlx::query("UPDATE sender_key SET left_at = left_at - make_interval(secs => $1)")
                    .bind(f64::from(seconds))
                    .execute(&database.pool)
                    .await
                    .unwrap();
            }
        };
        back(30).await;
        assert_eq!(left(0).await, [(limited, 0)], "what was taken beyond is made up for");
        back(30).await;
        assert!((1_900..=2_100).contains(&left(0).await[0].1));
        back(600).await;
        assert_eq!(left(0).await, [(limited, 6_000)], "a minute's worth at most");
    }
}
