//! Computers that are signed in for everyone, and who acts at them.

use records::RecordError;
use records::passes::NewPass;
use time::OffsetDateTime;

use super::{Caller, How, People, days, name_of, password, tries};
use crate::refusal::{Refusal, Why};

/// How long somebody acts by a PIN.
const ACTING: time::Duration = time::Duration::minutes(10);

impl People {
    /// Makes the computer that asks a station; gives what its browser shows.
    pub async fn station(&self, caller: &Caller, new: &api::NewStation) -> Result<String, Refusal> {
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
        self.in_turn(&acting.name, &caller.origin).await?;
        let person = match self.records.person(acting.name.trim()).await {
            Ok(person) => Some(person),
            Err(RecordError::Unknown { .. } | RecordError::Text) => None,
            Err(e) => return Err(e.into()),
        };
        let kept = person.as_ref().and_then(|person| person.pin.clone());
        let pin = acting.pin.clone();
        let right = self
            .hash(move || password::matches(&pin, kept.as_deref()))
            .await?;
        let Some(person) = person.filter(|_| right) else {
            self.was_wrong(&acting.name, &caller.origin).await?;
            return Err(Refusal::new(
                Why::NotSignedIn,
                "wrong-pin",
                "the name or the PIN is wrong; who has no PIN yet sets one on their own page",
            ));
        };
        self.records
            .tried_rightly(&tries::of_account(&person.name))
            .await?;
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
