//! People of the team, and the codes that let somebody in.

use time::OffsetDateTime;

use crate::{RecordError, Records, events};

/// Somebody with an account.
#[derive(Clone, Debug)]
pub struct Person {
    /// Number.
    pub id: i64,
    /// Name, unique among those who are there, whatever its capitals.
    pub name: String,
    /// `looker`, `bench hand`, `keeper` or `owner`.
    pub role: String,
    /// Argon2id as a PHC string; `None` until an invitation was taken up.
    pub password: Option<String>,
    /// The PIN for stations, likewise.
    pub pin: Option<String>,
    /// Sealed secret of time-based codes.
    pub second_factor: Option<Vec<u8>>,
    /// The newest time step that a code was used of.
    pub second_factor_step: i64,
    /// Who let them in.
    pub made_by: String,
    /// When.
    pub made_at: OffsetDateTime,
    /// When they were last heard of.
    pub seen_at: Option<OffsetDateTime>,
}

/// What an invitation is for.
#[derive(Clone, Debug)]
pub struct Invitation {
    /// The person; `None`: whoever has it becomes an owner.
    pub person: Option<i64>,
}

/// Keeps the last owner: who would take it away is refused. Held locks make two who do so at once wait for each other.
async fn keep_an_owner(tx: &mut sqlx::PgConnection) -> Result<(), RecordError> {
    let owners = sqlx::query_scalar!(
        r#"select count(*) as "count!" from people where role = 'owner' and left_at is null and password is not null"#
    );
    match owners.fetch_one(tx).await? {
        0 => Err(RecordError::Conflict(
            "this is the last owner; make somebody else an owner first".into(),
        )),
        _ => Ok(()),
    }
}

impl Records {
    /// Whether anybody can sign in.
    pub async fn has_people(&self) -> Result<bool, RecordError> {
        let row = sqlx::query_scalar!(
            r#"select exists (select from people where password is not null and left_at is null) as "any!""#
        );
        Ok(row.fetch_one(&self.pool).await?)
    }

    /// Everybody, by name.
    pub async fn people(&self) -> Result<Vec<Person>, RecordError> {
        let rows = sqlx::query_as!(
            Person,
            r#"select id, name, role, password, pin, second_factor, second_factor_step, made_by, made_at,
                 (select max(used_at) from passes where person_id = people.id) as seen_at
               from people where left_at is null order by lower(name)"#
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Somebody by name, whatever its capitals.
    ///
    /// # Errors
    /// [`RecordError::Unknown`].
    pub async fn person(&self, name: &str) -> Result<Person, RecordError> {
        let row = sqlx::query_as!(
            Person,
            r#"select id, name, role, password, pin, second_factor, second_factor_step, made_by, made_at,
                 (select max(used_at) from passes where person_id = people.id) as seen_at
               from people where left_at is null and lower(name) = lower($1)"#,
            name
        );
        let row = row.fetch_optional(&self.pool).await?;
        row.ok_or_else(|| RecordError::unknown("person", name))
    }

    /// Somebody new, who has no password yet, with the digest of an invitation.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where the name is taken.
    pub async fn add_person(
        &self,
        name: &str,
        role: &str,
        invitation: &[u8],
        until: OffsetDateTime,
        by: &str,
    ) -> Result<i64, RecordError> {
        let taken = format!("there is a person of the name {name:?} already");
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query_scalar!(
            "insert into people (name, role, made_by) values ($1, $2, $3) returning id",
            name,
            role,
            by
        );
        let id = id.fetch_one(&mut *tx).await;
        let id = id.map_err(|e| RecordError::explain(e, &[("people_names", taken)]))?;
        invite(&mut tx, Some(id), invitation, until, by).await?;
        let summary = format!("{name} belongs to the team as {role}");
        events::add(&mut tx, by, "person.added", name, &summary).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// A further invitation: of a person, who chooses a new password with it, or of whoever becomes an owner. Those
    /// for the same that were made before count no more.
    pub async fn invite(
        &self,
        person: Option<i64>,
        digest: &[u8],
        until: OffsetDateTime,
        by: &str,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "delete from invitations where person_id is not distinct from $1 and used_at is null",
            person
        )
        .execute(&mut *tx)
        .await?;
        invite(&mut tx, person, digest, until, by).await?;
        Ok(tx.commit().await?)
    }

    /// What a code is good for now.
    pub async fn invitation(&self, digest: &[u8]) -> Result<Option<Invitation>, RecordError> {
        let row = sqlx::query_as!(
            Invitation,
            "select person_id as person from invitations where digest = $1 and used_at is null and expires_at > now()",
            digest
        );
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Takes an invitation up: the person has a password from now on, and all that was signed in before is not any
    /// more. An invitation of nobody in particular makes an owner of this name. Gives the person's number, or `None`
    /// where the code is not good any more.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] where the name is another person's.
    pub async fn take_up(
        &self,
        digest: &[u8],
        name: &str,
        password: &str,
    ) -> Result<Option<i64>, RecordError> {
        let taken = format!("there is a person of the name {name:?} already");
        let mut tx = self.pool.begin().await?;
        let used = sqlx::query!(
            "update invitations set used_at = now() where digest = $1 and used_at is null and expires_at > now()
             returning person_id",
            digest
        );
        let Some(used) = used.fetch_optional(&mut *tx).await? else {
            return Ok(None);
        };
        let id = match used.person_id {
            Some(id) => {
                let given = sqlx::query!(
                    "update people set password = $2 where id = $1 and left_at is null and lower(name) = lower($3)",
                    id,
                    password,
                    name
                );
                if given.execute(&mut *tx).await?.rows_affected() == 0 {
                    let detail = "this code is somebody else's; give the name that it was made for";
                    return Err(RecordError::Conflict(detail.into()));
                }
                id
            }
            None => {
                let made = sqlx::query_scalar!(
                    "insert into people (name, role, password, made_by) values ($1, 'owner', $2, $1) returning id",
                    name,
                    password
                );
                let made = made.fetch_one(&mut *tx).await;
                made.map_err(|e| RecordError::explain(e, &[("people_names", taken)]))?
            }
        };
        sqlx::query!(
            "update passes set ended_at = now() where person_id = $1 and ended_at is null",
            id
        )
        .execute(&mut *tx)
        .await?;
        let summary = format!("{name} has chosen a password");
        events::add(&mut tx, name, "person.welcomed", name, &summary).await?;
        tx.commit().await?;
        Ok(Some(id))
    }

    /// Gives somebody another role.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] for the last owner.
    pub async fn set_role(&self, id: i64, role: &str, by: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!("lock table people in share row exclusive mode")
            .execute(&mut *tx)
            .await?;
        let name = sqlx::query_scalar!(
            "update people set role = $2 where id = $1 and left_at is null returning name",
            id,
            role
        );
        let name = name.fetch_optional(&mut *tx).await?;
        let name = name.ok_or_else(|| RecordError::unknown("person", id.to_string()))?;
        keep_an_owner(&mut tx).await?;
        let summary = format!("{name} is {role} from now on");
        events::add(&mut tx, by, "person.role", &name, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Somebody leaves the team: the name stays in the records, and nothing of theirs opens anything any more.
    ///
    /// # Errors
    /// [`RecordError::Conflict`] for the last owner.
    pub async fn part_with(&self, id: i64, by: &str) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!("lock table people in share row exclusive mode")
            .execute(&mut *tx)
            .await?;
        let name = sqlx::query_scalar!(
            "update people set left_at = now(), password = null, pin = null, second_factor = null
             where id = $1 and left_at is null returning name",
            id
        );
        let name = name.fetch_optional(&mut *tx).await?;
        let name = name.ok_or_else(|| RecordError::unknown("person", id.to_string()))?;
        keep_an_owner(&mut tx).await?;
        sqlx::query!("delete from invitations where person_id = $1", id)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("delete from recovery_codes where person_id = $1", id)
            .execute(&mut *tx)
            .await?;
        sqlx::query!(
            "update passes set ended_at = now() where person_id = $1 and ended_at is null",
            id
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "update passes set acting_id = null, acting_until = null where acting_id = $1",
            id
        )
        .execute(&mut *tx)
        .await?;
        let summary = format!("{name} has left the team");
        events::add(&mut tx, by, "person.left", &name, &summary).await?;
        Ok(tx.commit().await?)
    }

    /// Gives somebody another password; all that was signed in before, but for one pass, is not any more.
    pub async fn set_password(
        &self,
        id: i64,
        password: &str,
        but_for: Option<i64>,
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update people set password = $2 where id = $1 and left_at is null",
            id,
            password
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!(
            "update passes set ended_at = now()
             where person_id = $1 and ended_at is null and id is distinct from $2",
            id,
            but_for
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Gives somebody a PIN, or takes it away.
    pub async fn set_pin(&self, id: i64, pin: Option<&str>) -> Result<(), RecordError> {
        sqlx::query!("update people set pin = $2 where id = $1", id, pin)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Gives somebody a second factor with the digests of its recovery codes, or takes both away.
    pub async fn set_second_factor(
        &self,
        id: i64,
        sealed: Option<&[u8]>,
        step: i64,
        recovery: &[Vec<u8>],
    ) -> Result<(), RecordError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!(
            "update people set second_factor = $2, second_factor_step = $3 where id = $1",
            id,
            sealed,
            step
        )
        .execute(&mut *tx)
        .await?;
        sqlx::query!("delete from recovery_codes where person_id = $1", id)
            .execute(&mut *tx)
            .await?;
        sqlx::query!(
            "insert into recovery_codes (digest, person_id) select digest, $1 from unnest($2::bytea[]) digest",
            id,
            recovery
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Uses a recovery code up; `false` where it is none of theirs, or was used.
    pub async fn use_recovery_code(&self, id: i64, digest: &[u8]) -> Result<bool, RecordError> {
        let used = sqlx::query!(
            "update recovery_codes set used_at = now() where person_id = $1 and digest = $2 and used_at is null",
            id,
            digest
        );
        Ok(used.execute(&self.pool).await?.rows_affected() == 1)
    }

    /// Uses a code of a time step up; `false` where it, or a later one, was used before.
    pub async fn use_step(&self, id: i64, step: i64) -> Result<bool, RecordError> {
        let used = sqlx::query!(
            "update people set second_factor_step = $2 where id = $1 and second_factor_step < $2",
            id,
            step
        );
        Ok(used.execute(&self.pool).await?.rows_affected() == 1)
    }
}

async fn invite(
    tx: &mut sqlx::PgConnection,
    person: Option<i64>,
    digest: &[u8],
    until: OffsetDateTime,
    by: &str,
) -> Result<(), RecordError> {
    sqlx::query!(
        "insert into invitations (digest, person_id, made_by, expires_at) values ($1, $2, $3, $4)",
        digest,
        person,
        by,
        until
    )
    .execute(tx)
    .await?;
    Ok(())
}
