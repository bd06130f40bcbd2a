//! What people change about how they prove who they are: password, PIN, second factor.

use records::people::Person;
use time::OffsetDateTime;

use super::code::Code;
use super::tries::{self, Place};
use super::{Caller, How, People, password, second_factor, who};
use crate::refusal::{Refusal, Why};

/// How many recovery codes a second factor has.
const RECOVERY_CODES: usize = 8;

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
        self.confirm(&person, &new.old, caller).await?;
        password::check(&new.new, &person.name)?;
        let given = new.new.clone();
        let kept = self
            .digest(caller, move || password::kept(&given))
            .await??;
        Ok(self
            .records
            .set_password(person.id, &kept, caller.pass)
            .await?)
    }

    /// Whoever changes what proves them says their password again, since pages are left open.
    async fn confirm(&self, person: &Person, secret: &str, caller: &Caller) -> Result<(), Refusal> {
        let place = Place::Device(format!("pass {}", caller.pass.unwrap_or(0)));
        let tried = self
            .begin_try(tries::of_password(&who(person.id), &place))
            .await?;
        let (given, kept) = (secret.to_owned(), person.password.clone());
        let right = self
            .digest(caller, move || password::matches(&given, kept.as_deref()))
            .await?;
        match right {
            true => self.was_right(&tried).await,
            false => Err(Refusal::invalid(
                "wrong-password",
                "that is not your password",
            )),
        }
    }

    /// Computes a digest for somebody who is signed in.
    async fn digest<T: Send + 'static>(
        &self,
        caller: &Caller,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Refusal> {
        let place = format!("pass {}", caller.pass.unwrap_or(0));
        self.digests.compute(&place, true, work).await
    }

    /// Whoever makes what opens the service says again who they are: a session or command line that was opened with the
    /// password, the password, and the code of the second factor.
    ///
    /// # Errors
    /// For stations and tokens, which make no further ones; for a wrong password or code.
    pub(super) async fn prove_again(
        &self,
        caller: &Caller,
        secret: &str,
        code: Option<&str>,
    ) -> Result<Person, Refusal> {
        let person = self.own(caller).await?;
        if !caller.by_password && caller.how != How::Loopback {
            let detail = "only who is signed in with the password makes tokens and stations: not at a station, and not with a \
                          token (duplicarium sign-in)";
            return Err(Refusal::new(Why::NotAllowed, "not-allowed", detail));
        }
        self.confirm(&person, secret, caller).await?;
        self.prove_factor(&person, code).await?;
        Ok(person)
    }

    /// Another PIN for oneself.
    pub async fn change_pin(&self, caller: &Caller, new: &api::NewPin) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &new.password, caller).await?;
        let kept = match &new.pin {
            Some(pin) => {
                password::check_pin(pin)?;
                let pin = pin.clone();
                Some(self.digest(caller, move || password::kept(&pin)).await??)
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

    /// Takes a second factor whose code was given; gives its recovery codes, which are shown this once.
    pub async fn take_factor(
        &self,
        caller: &Caller,
        given: &api::FactorCode,
    ) -> Result<Vec<String>, Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &given.password, caller).await?;
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
        let made: Result<Vec<_>, _> = (0..RECOVERY_CODES)
            .map(|_| Code::good_for(time::Duration::ZERO))
            .collect();
        let made = made?;
        let digests: Vec<_> = made.iter().map(|code| code.digest.clone()).collect();
        self.records
            .set_second_factor(person.id, Some(&sealed), step, &digests)
            .await?;
        Ok(made.into_iter().map(|code| code.text).collect())
    }

    /// Gives the second factor up.
    pub async fn drop_factor(
        &self,
        caller: &Caller,
        given: &api::FactorCode,
    ) -> Result<(), Refusal> {
        let person = self.own(caller).await?;
        self.confirm(&person, &given.password, caller).await?;
        self.prove_factor(&person, Some(&given.code)).await?;
        Ok(self
            .records
            .set_second_factor(person.id, None, 0, &[])
            .await?)
    }
}
