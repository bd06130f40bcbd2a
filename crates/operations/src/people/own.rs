//! What people change about how they prove who they are: password, PIN, second factor.

use records::people::Person;
use time::OffsetDateTime;

use super::{Caller, People, password, second_factor};
use crate::refusal::Refusal;

/// What the secret of somebody's second factor is sealed under.
pub(super) fn sealed_under(person: i64) -> String {
    format!("second-factor/{person}")
}

impl People {
    /// Another password for oneself. Everything else that was signed in is not any more.
    pub async fn change_password(
        &self,
        caller: &Caller,
        new: &api::NewPassword,
    ) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &new.old, &caller.origin).await?;
        password::check(&new.new, &person.name)?;
        let given = new.new.clone();
        let kept = self.hash(move || password::kept(&given)).await??;
        Ok(self
            .records
            .set_password(person.id, &kept, caller.pass)
            .await?)
    }

    /// Whoever changes what proves them says their password again, since pages are left open.
    async fn confirm(&self, person: &Person, secret: &str, origin: &str) -> Result<(), Refusal> {
        self.in_turn(&person.name, origin).await?;
        let (given, kept) = (secret.to_owned(), person.password.clone());
        let right = self
            .hash(move || password::matches(&given, kept.as_deref()))
            .await?;
        match right {
            true => Ok(()),
            false => {
                self.was_wrong(&person.name, origin).await?;
                Err(Refusal::invalid(
                    "wrong-password",
                    "that is not your password",
                ))
            }
        }
    }

    /// Another PIN for oneself.
    pub async fn change_pin(&self, caller: &Caller, new: &api::NewPin) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &new.password, &caller.origin).await?;
        let kept = match &new.pin {
            Some(pin) => {
                password::check_pin(pin)?;
                let pin = pin.clone();
                Some(self.hash(move || password::kept(&pin)).await??)
            }
            None => None,
        };
        Ok(self.records.set_pin(person.id, kept.as_deref()).await?)
    }

    /// A new secret for a second factor: nothing is changed until a code of it was given.
    pub async fn new_factor(&self, caller: &Caller) -> Result<(String, String), Refusal> {
        let person = self.own(caller).await?;
        let spoken = second_factor::spoken(&password::chance::<20>()?);
        let name: String =
            percent_encoding::utf8_percent_encode(&person.name, percent_encoding::NON_ALPHANUMERIC)
                .collect();
        let address =
            format!("otpauth://totp/Duplicarium:{name}?secret={spoken}&issuer=Duplicarium");
        Ok((spoken, address))
    }

    /// Takes a second factor whose code was given.
    pub async fn take_factor(
        &self,
        caller: &Caller,
        given: &api::FactorCode,
    ) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &given.password, &caller.origin)
            .await?;
        let secret = second_factor::read(&given.secret).filter(|secret| secret.len() == 20);
        let secret = secret.ok_or_else(|| {
            Refusal::invalid(
                "bad-value",
                "that is not the secret that was shown; begin again",
            )
        })?;
        let now = OffsetDateTime::now_utc().unix_timestamp();
        let step = second_factor::step_of(&secret, &given.code, now).ok_or_else(|| {
            Refusal::invalid(
                "wrong-code",
                "the code does not belong to this secret; is the clock of the authenticator right?",
            )
        })?;
        let sealed = self
            .keys
            .seal_secret(&sealed_under(person.id), &hex::encode(secret))?;
        Ok(self
            .records
            .set_second_factor(person.id, Some(&sealed), step)
            .await?)
    }

    /// Gives the second factor up.
    pub async fn drop_factor(
        &self,
        caller: &Caller,
        given: &api::FactorCode,
    ) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &given.password, &caller.origin)
            .await?;
        Ok(self.records.set_second_factor(person.id, None, 0).await?)
    }
}
