//! Computers that are signed in for everyone, and who acts at them.

use records::passes::NewPass;
use time::OffsetDateTime;

use super::{Caller, How, People, days, name_of, password, tries, who};
use crate::refusal::{Refusal, Why};

/// How long somebody acts by a PIN.
const ACTING: time::Duration = time::Duration::minutes(10);

impl People {
    /// Makes the computer that asks a station; gives what its browser shows.
    pub async fn station(&self, caller: &Caller, new: &api::NewStation) -> Result<String, Refusal> {
        self.prove_again(caller, &new.password, new.code.as_deref())
            .await?;
        let until = OffsetDateTime::now_utc() + days(new.days)?;
        let name = name_of(&new.name)?;
        let made = NewPass {
            digest: &[],
            kind: "station",
            person: None,
            name,
            role: new.role.name(),
            by: &caller.name,
            from: &caller.origin,
            until,
            by_password: false,
        };
        self.add(made).await.map(|(_, secret)| secret)
    }

    /// Somebody acts at a station, by name and PIN, for some minutes.
    pub async fn act(&self, caller: &Caller, acting: &api::Acting) -> Result<(), Refusal> {
        let (Some(station), How::Station) = (caller.pass, caller.how) else {
            return Err(Refusal::conflict(
                "no-station",
                "this computer is no station; sign in with your password",
            ));
        };
        let name = name_of(&acting.name).unwrap_or_default();
        let person = self.find(name).await?;
        let who = match &person {
            Some(person) => who(person.id),
            None => format!("name {}", name.to_lowercase()),
        };
        let tried = self.begin_try(tries::of_pin(&who, station)).await?;
        let kept = person.as_ref().and_then(|person| person.pin.clone());
        let pin = acting.pin.clone();
        let right = self
            .digests
            .compute(&format!("station {station}"), true, move || {
                password::matches(&pin, kept.as_deref())
            })
            .await?;
        let Some(person) = person.filter(|_| right) else {
            return Err(Refusal::new(
                Why::NotSignedIn,
                "wrong-pin",
                "the name or the PIN is wrong; who has no PIN yet sets one on their own page",
            ));
        };
        self.was_right(&tried).await?;
        self.prove_factor(&person, acting.code.as_deref()).await?;
        let until = OffsetDateTime::now_utc() + ACTING;
        Ok(self.records.act_at(station, Some(person.id), until).await?)
    }

    /// Nobody acts at a station any more.
    pub async fn stop_acting(&self, caller: &Caller) -> Result<(), Refusal> {
        if let (Some(station), How::Station) = (caller.pass, caller.how) {
            let now = OffsetDateTime::now_utc();
            self.records.act_at(station, None, now).await?;
        }
        Ok(())
    }
}
