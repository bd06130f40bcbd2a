//! People of the team: how they prove who they are, and what they may do.
//!
//! A request shows a *pass*: the cookie of a browser, the token of a program, or what makes a computer a station. A
//! pass says the most that may be done with it; a person's role, as it is now, says what of that they may do.

mod caller;
pub(crate) mod code;
mod device;
mod own;
pub(crate) mod password;
mod queue;
mod second_factor;
mod station;
mod tries;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use api::Role;
pub use caller::{Caller, How};
use records::passes::{NewPass, Shown};
use records::people::Person;
use records::{RecordError, Records};
use time::OffsetDateTime;
use vault::Keys;

use crate::refusal::{Refusal, Why};
use code::Code;
use queue::Queue;
use tries::{Count, Place};

/// How long a session is good without being used.
const SESSION: time::Duration = time::Duration::days(7);
/// How long the token that a command line signs in with is good.
const SIGNED_IN: time::Duration = time::Duration::days(90);
/// How long an invitation is good.
const INVITATION: time::Duration = time::Duration::days(7);
/// How long the code for making an owner is good.
const FIRST_OWNER: time::Duration = time::Duration::hours(24);
/// After how long what a session shows is changed.
const CHANGED: time::Duration = time::Duration::hours(12);
/// How often it is noted that a pass is used.
const NOTED: time::Duration = time::Duration::minutes(1);
/// Days that tokens and stations are good at most.
const MOST_DAYS: u32 = 730;
/// How long a question about passes waits for the records before what was known before counts.
const PATIENCE: Duration = Duration::from_millis(800);
/// Length of names, in characters.
const NAME: std::ops::RangeInclusive<usize> = 1..=64;

/// What is called a pass in a form that nobody guesses: 256 bits.
fn new_secret() -> Result<String, Refusal> {
    Ok(hex::encode(password::chance::<32>()?))
}

/// Refuses what is no name.
fn name_of(name: &str) -> Result<&str, Refusal> {
    let name = name.trim();
    match NAME.contains(&name.chars().count()) && !name.chars().any(char::is_control) {
        true => Ok(name),
        false => Err(Refusal::invalid(
            "bad-name",
            "a name has 1 to 64 characters",
        )),
    }
}

fn role_of(word: &str) -> Role {
    // What is not known may do the least.
    Role::named(word).unwrap_or(Role::Looker)
}

/// What somebody is refused who gave something wrong: the same words, whatever was wrong of it.
fn wrong() -> Refusal {
    Refusal::new(
        Why::NotSignedIn,
        "wrong-password",
        "the name, the password or the code is wrong",
    )
}

/// A code that makes an owner of whoever has it: for the first one, and where all have forgotten their passwords.
pub async fn owner_code(records: &Records) -> Result<String, Refusal> {
    let code = Code::good_for(FIRST_OWNER)?;
    records
        .invite(None, &code.digest, code.until, "service")
        .await?;
    Ok(code.text)
}

/// What was shown and is changed, to be shown from now on.
pub struct Changed(pub String);

/// People of the team.
pub struct People {
    records: Records,
    keys: Arc<Keys>,
    /// Whether anybody can sign in: once so, always so, since the last owner stays.
    any: AtomicBool,
    digests: Queue,
}

/// What somebody gives to prove who they are.
#[derive(Clone, Copy)]
pub struct Proof<'a> {
    /// Name.
    pub name: &'a str,
    /// Password.
    pub password: &'a str,
    /// Code of the second factor, or a recovery code.
    pub code: Option<&'a str>,
    /// What the browser or program was given when this person was signed in with it before.
    pub device: Option<&'a str>,
    /// Address that it comes from.
    pub origin: &'a str,
}

/// A try that was counted.
struct Try {
    counts: Vec<Count>,
}

impl People {
    /// The people in these records.
    pub fn new(records: Records, keys: Arc<Keys>) -> Self {
        Self {
            records,
            keys,
            any: AtomicBool::new(false),
            digests: Queue::new(),
        }
    }

    /// Whether anybody belongs to the team. Until then whoever sits at the service's computer may do everything.
    ///
    /// # Errors
    /// Where the records do not answer and it was not known before: that is no "nobody".
    pub async fn any(&self) -> Result<bool, Refusal> {
        if self.any.load(Ordering::Relaxed) {
            return Ok(true);
        }
        let asked = tokio::time::timeout(PATIENCE, self.records.has_people()).await;
        let any = asked
            .map_err(|_| Refusal::busy("the records do not answer; nothing was changed"))??;
        if any {
            self.any.store(true, Ordering::Relaxed);
        }
        Ok(any)
    }

    /// Counts a try, before anything is looked at.
    ///
    /// # Errors
    /// For who must wait after wrong ones.
    async fn begin_try(&self, counts: Vec<Count>) -> Result<Try, Refusal> {
        let keys: Vec<_> = counts
            .iter()
            .map(|count| (count.key.clone(), count.kept.as_secs_f64()))
            .collect();
        let wait = |place: usize, wrong, ago| counts[place].wait(wrong, ago);
        match self.records.begin_try(&keys, wait).await? {
            Ok(()) => Ok(Try { counts }),
            Err(left) => Err(tries::too_often(left)),
        }
    }

    /// A try was right.
    async fn was_right(&self, tried: &Try) -> Result<(), Refusal> {
        let keys = |anew| {
            let some = tried.counts.iter().filter(move |count| count.anew == anew);
            some.map(|count| count.key.clone()).collect::<Vec<_>>()
        };
        Ok(self
            .records
            .tried_rightly(&keys(false), &keys(true))
            .await?)
    }

    /// A person by name, where there is one.
    async fn find(&self, name: &str) -> Result<Option<Person>, Refusal> {
        match self.records.person(name).await {
            Ok(person) => Ok(Some(person)),
            Err(RecordError::Unknown { .. } | RecordError::Text) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }

    /// Where a try of somebody's password comes from.
    async fn place(&self, person: Option<&Person>, proof: &Proof<'_>) -> Result<Place, Refusal> {
        let address = tries::address(proof.origin);
        let Some(person) = person else {
            return Ok(Place::Strange(address));
        };
        let device = proof
            .device
            .and_then(|shown| device::read(&self.keys, person, shown));
        if let Some(device) = device {
            return Ok(Place::Device(device));
        }
        let places = self.records.places_of(person.id).await?;
        match places.iter().any(|place| tries::address(place) == address) {
            true => Ok(Place::Familiar(address)),
            false => Ok(Place::Strange(address)),
        }
    }

    /// Somebody by name, password and, where they have one, the code of their second factor.
    ///
    /// # Errors
    /// The same for a name that nobody has as for a wrong password, after as long; and for who must wait.
    pub async fn prove(&self, proof: Proof<'_>) -> Result<Person, Refusal> {
        // What is no name is nobody's, and is counted as one.
        let name = name_of(proof.name).unwrap_or_default();
        let person = self.find(name).await?;
        let who = match &person {
            Some(person) => who(person.id),
            None => format!("name {}", name.to_lowercase()),
        };
        let place = self.place(person.as_ref(), &proof).await?;
        let tried = self.begin_try(tries::of_password(&who, &place)).await?;
        let kept = person.as_ref().and_then(|person| person.password.clone());
        let given = proof.password.to_owned();
        let familiar = !matches!(place, Place::Strange(_));
        let address = tries::address(proof.origin);
        let right = self
            .digests
            .compute(&address, familiar, move || {
                password::matches(&given, kept.as_deref())
            })
            .await?;
        let Some(person) = person.filter(|_| right) else {
            return Err(wrong());
        };
        self.was_right(&tried).await?;
        self.prove_factor(&person, proof.code).await?;
        self.records
            .tried_rightly(&[], &[tries::pins_of(&who)])
            .await?;
        Ok(person)
    }

    /// The second factor of somebody whose password was right: nothing where they have none.
    ///
    /// # Errors
    /// For a code that is missing or wrong, and for who must wait.
    async fn prove_factor(&self, person: &Person, code: Option<&str>) -> Result<(), Refusal> {
        let Some(sealed) = &person.second_factor else {
            return Ok(());
        };
        let Some(code) = code.filter(|code| !code.trim().is_empty()) else {
            return Err(Refusal::new(
                Why::NotSignedIn,
                "code-wanted",
                "the code of the second factor is wanted too, or one of its recovery codes",
            ));
        };
        let tried = self.begin_try(tries::of_factor(person.id)).await?;
        let factor = self
            .keys
            .open_secret(&own::sealed_under(person.id), sealed)?;
        let factor = hex::decode(factor).unwrap_or_default();
        let now = OffsetDateTime::now_utc().unix_timestamp();
        // A code counts once, also within its half minute.
        let good = match second_factor::step_of(&factor, code, now) {
            Some(step) => self.records.use_step(person.id, step).await?,
            None => {
                let digest = code::digest_of(code);
                self.records.use_recovery_code(person.id, &digest).await?
            }
        };
        match good {
            true => self.was_right(&tried).await,
            false => Err(wrong()),
        }
    }

    /// A session of somebody who has proven who they are; gives what the browser shows.
    pub async fn session(&self, person: &Person, origin: &str) -> Result<String, Refusal> {
        let until = OffsetDateTime::now_utc() + SESSION;
        self.pass(
            "session",
            Some(person),
            "browser",
            Role::Owner,
            origin,
            until,
            true,
        )
        .await
        .map(|(_, secret)| secret)
    }

    /// What a command line signs in with.
    pub async fn signed_in(
        &self,
        person: &Person,
        name: &str,
        origin: &str,
    ) -> Result<String, Refusal> {
        let until = OffsetDateTime::now_utc() + SIGNED_IN;
        self.pass(
            "token",
            Some(person),
            name_of(name)?,
            Role::Owner,
            origin,
            until,
            true,
        )
        .await
        .map(|(_, secret)| secret)
    }

    /// A token for a program, with a role not above its owner's.
    pub async fn token(&self, caller: &Caller, new: &api::NewToken) -> Result<api::Token, Refusal> {
        let person = self
            .prove_again(caller, &new.password, new.code.as_deref())
            .await?;
        if Some(new.role) > caller.role {
            let own = caller.role.map_or("nobody", Role::name);
            let detail = format!("a token may do no more than you, and you are {own}");
            return Err(Refusal::new(Why::NotAllowed, "not-allowed", detail));
        }
        let until = OffsetDateTime::now_utc() + days(new.days)?;
        let name = name_of(&new.name)?;
        let (id, token) = self
            .pass(
                "token",
                Some(&person),
                name,
                new.role,
                &caller.origin,
                until,
                false,
            )
            .await?;
        Ok(api::Token { id, token, until })
    }

    #[allow(clippy::too_many_arguments, reason = "what a pass is")]
    async fn pass(
        &self,
        kind: &str,
        person: Option<&Person>,
        name: &str,
        role: Role,
        origin: &str,
        until: OffsetDateTime,
        by_password: bool,
    ) -> Result<(i64, String), Refusal> {
        let made = NewPass {
            digest: &[],
            kind,
            person: person.map(|person| person.id),
            name,
            role: role.name(),
            by: person.map_or("service", |person| &person.name),
            from: origin,
            until,
            by_password,
        };
        self.add(made).await
    }

    async fn add(&self, new: NewPass<'_>) -> Result<(i64, String), Refusal> {
        let secret = new_secret()?;
        let digest = password::digest_of_pass(&secret);
        let new = NewPass {
            digest: &digest,
            ..new
        };
        Ok((self.records.add_pass(new).await?, secret))
    }

    /// What a browser or program shows when this person signs in with it again; it opens nothing.
    pub fn device(&self, person: &Person) -> Result<String, Refusal> {
        device::new(&self.keys, person)
    }

    /// Who shows a pass; `None` where it is not good any more. What a session shows is changed from time to time.
    pub async fn shown(
        &self,
        secret: &str,
        origin: &str,
    ) -> Result<Option<(Caller, Option<Changed>)>, Refusal> {
        let found = self.records.pass(&password::digest_of_pass(secret)).await?;
        let Some(shown) = found else {
            return Ok(None);
        };
        let now = OffsetDateTime::now_utc();
        let how = How::of_pass(&shown.kind);
        let changed = match how == How::Session && now - shown.changed_at > CHANGED {
            true => self.change(&shown).await?,
            false => None,
        };
        if now - shown.used_at > NOTED {
            let until = (how == How::Session).then(|| now + SESSION);
            self.records.pass_used(shown.id, origin, until).await?;
        }
        Ok(Some((caller_of(shown, how, origin), changed)))
    }

    async fn change(&self, shown: &Shown) -> Result<Option<Changed>, Refusal> {
        let secret = new_secret()?;
        let digest = password::digest_of_pass(&secret);
        let changed = self
            .records
            .change_pass(shown.id, &digest, shown.changed_at)
            .await?;
        Ok(changed.then_some(Changed(secret)))
    }

    /// The person who asks.
    async fn own(&self, caller: &Caller) -> Result<Person, Refusal> {
        if caller.person.is_none() {
            return Err(Refusal::conflict(
                "nobody-yet",
                "sign in as yourself first: this is somebody's own",
            ));
        }
        Ok(self.records.person(&caller.name).await?)
    }

    /// Who asks, as it is told to them.
    pub async fn me(&self, caller: &Caller) -> Result<api::Me, Refusal> {
        let person = match caller.person {
            Some(_) => Some(self.records.person(&caller.name).await?),
            None => None,
        };
        let known = caller.role.is_some() && !caller.name.is_empty();
        Ok(api::Me {
            name: known.then(|| caller.name.clone()),
            role: caller.role,
            how: caller.how.name().into(),
            open: !self.any().await?,
            station: caller.station.clone(),
            second_factor: person
                .as_ref()
                .is_some_and(|person| person.second_factor.is_some()),
            pin: person.is_some_and(|person| person.pin.is_some()),
        })
    }

    /// Takes a one-time code up: somebody has a password from now on. Who has a second factor gives a code of it too.
    ///
    /// # Errors
    /// For a code that is not good, for who must wait, and for a password that is no hurdle.
    pub async fn welcome(&self, welcome: &api::Welcome, origin: &str) -> Result<Person, Refusal> {
        let tried = self.begin_try(tries::of_code(origin)).await?;
        let name = name_of(&welcome.name)?;
        password::check(&welcome.password, name)?;
        let digest = code::digest_of(&welcome.code);
        let bad = || {
            Refusal::new(
                Why::NotSignedIn,
                "bad-code",
                "this code is not good, or not any more; an owner makes a new one (duplicarium person invite), \
                 or whoever runs the service (duplicariumd --first-owner)",
            )
        };
        let Some(invitation) = self.records.invitation(&digest).await? else {
            return Err(bad());
        };
        self.was_right(&tried).await?;
        if let (Some(invited), Some(person)) = (invitation.person, self.find(name).await?)
            && person.id == invited
        {
            self.prove_factor(&person, welcome.factor.as_deref())
                .await?;
        }
        let given = welcome.password.clone();
        let kept = self
            .digests
            .compute(&tries::address(origin), true, move || {
                password::kept(&given)
            })
            .await??;
        let Some(person) = self.records.take_up(&digest, name, &kept).await? else {
            return Err(bad());
        };
        self.any.store(true, Ordering::Relaxed);
        self.records
            .tried_rightly(&[], &[tries::pins_of(&who(person))])
            .await?;
        Ok(self.records.person(name).await?)
    }

    /// Tries a one-time code that is good for something else; who is wrong too often waits.
    ///
    /// # Errors
    /// [`Refusal`] for those, for a code that is not good, and from `take_up`.
    pub async fn try_code<T>(
        &self,
        origin: &str,
        take_up: impl Future<Output = Result<Option<T>, Refusal>>,
    ) -> Result<T, Refusal> {
        let tried = self.begin_try(tries::of_code(origin)).await?;
        if let Some(taken) = take_up.await? {
            self.was_right(&tried).await?;
            return Ok(taken);
        }
        Err(Refusal::new(
            Why::NotSignedIn,
            "bad-code",
            "this code is not good, or not any more; an owner makes a new one",
        ))
    }

    /// Lets somebody in, with a code that they choose a password with.
    pub async fn add_person(
        &self,
        caller: &Caller,
        new: &api::NewPerson,
    ) -> Result<api::Invitation, Refusal> {
        let name = name_of(&new.name)?;
        let code = Code::good_for(INVITATION)?;
        if !self.any().await? {
            return Err(Refusal::conflict(
                "no-owner",
                "make the first owner first: duplicariumd --first-owner shows the code for it",
            ));
        }
        self.records
            .add_person(
                name,
                new.role.name(),
                &code.digest,
                code.until,
                &caller.name,
            )
            .await?;
        Ok(api::Invitation {
            name: name.into(),
            code: code.text,
            until: code.until,
        })
    }

    /// A further code for somebody, who chooses another password with it.
    pub async fn invite(&self, caller: &Caller, name: &str) -> Result<api::Invitation, Refusal> {
        let person = self.records.person(name).await?;
        let code = Code::good_for(INVITATION)?;
        self.records
            .invite(Some(person.id), &code.digest, code.until, &caller.name)
            .await?;
        Ok(api::Invitation {
            name: person.name,
            code: code.text,
            until: code.until,
        })
    }

    /// Ends a pass: one's own, or as an owner anybody's.
    pub async fn end_pass(&self, caller: &Caller, id: i64) -> Result<(), Refusal> {
        let own = match caller.role {
            Some(Role::Owner) => None,
            _ => Some(caller.person.unwrap_or(0)),
        };
        self.records.end_pass(id, own).await?;
        Ok(())
    }

    /// Ends what is shown.
    ///
    /// # Errors
    /// For a station: it is everyone's, and an owner ends it.
    pub async fn sign_out(&self, caller: &Caller) -> Result<(), Refusal> {
        if caller.how == How::Station {
            let detail = "this computer is a station, which everyone uses; an owner ends it on the page Team of their own \
                          computer (duplicarium pass end)";
            return Err(Refusal::new(Why::NotAllowed, "not-allowed", detail));
        }
        if let Some(pass) = caller.pass {
            self.records.end_pass(pass, None).await?;
        }
        Ok(())
    }
}

/// How somebody is called in counts of tries.
fn who(person: i64) -> String {
    format!("person {person}")
}

fn days(days: u32) -> Result<time::Duration, Refusal> {
    match (1..=MOST_DAYS).contains(&days) {
        true => Ok(time::Duration::days(days.into())),
        false => Err(Refusal::invalid(
            "bad-value",
            format!("it is good for 1 to {MOST_DAYS} days"),
        )),
    }
}

/// What may be done with a pass: no more than it says, and no more than its person may now. At a station where nobody
/// acts one may look.
fn caller_of(shown: Shown, how: How, origin: &str) -> Caller {
    // Whom a PIN of few digits lets in cannot let in others.
    let most = match how {
        How::Station => role_of(&shown.role).min(Role::Keeper),
        _ => role_of(&shown.role),
    };
    let station = (how == How::Station).then(|| shown.name.clone());
    let of = |role: Option<String>| role.map(|role| role_of(&role).min(most));
    let (name, person, role) = match (how, shown.person, shown.acting) {
        (How::Station, _, Some(acting)) => (acting, shown.acting_id, of(shown.acting_role)),
        (How::Station, ..) => (shown.name, None, Some(Role::Looker)),
        (_, Some(person), _) => (person, shown.person_id, of(shown.person_role)),
        (_, None, _) => (String::new(), None, None),
    };
    Caller {
        name,
        role,
        how,
        person,
        pass: Some(shown.id),
        by_password: shown.by_password,
        station,
        origin: origin.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(kind: &str, role: &str) -> Shown {
        let now = OffsetDateTime::now_utc();
        Shown {
            id: 7,
            kind: kind.into(),
            name: "loft".into(),
            role: role.into(),
            changed_at: now,
            used_at: now,
            by_password: false,
            person_id: None,
            person: None,
            person_role: None,
            acting_id: None,
            acting: None,
            acting_role: None,
        }
    }

    #[test]
    fn nobody_may_more_than_their_pass_and_their_role() {
        for (pass, person, may) in [
            ("owner", "looker", Role::Looker),
            ("looker", "owner", Role::Looker),
            ("keeper", "bench hand", Role::BenchHand),
            ("owner", "a word from later", Role::Looker),
        ] {
            let token = Shown {
                person_id: Some(3),
                person: Some("Ilse".into()),
                person_role: Some(person.into()),
                ..shown("token", pass)
            };
            let caller = caller_of(token, How::Token, "10.0.0.7");
            assert_eq!(
                (caller.role, caller.name.as_str()),
                (Some(may), "Ilse"),
                "{pass} {person}"
            );
        }
    }

    #[test]
    fn at_a_station_one_looks_until_somebody_acts() {
        let caller = caller_of(shown("station", "keeper"), How::Station, "10.0.0.7");
        assert_eq!((caller.role, caller.person), (Some(Role::Looker), None));
        let acting = Shown {
            acting_id: Some(3),
            acting: Some("Ilse".into()),
            acting_role: Some("owner".into()),
            ..shown("station", "bench hand")
        };
        let caller = caller_of(acting, How::Station, "10.0.0.7");
        assert_eq!(
            (caller.role, caller.person),
            (Some(Role::BenchHand), Some(3))
        );
        assert_eq!(
            (caller.name.as_str(), caller.station.as_deref()),
            ("Ilse", Some("loft"))
        );
    }

    #[test]
    fn names_are_bounded() {
        assert_eq!(name_of("  Åse Østby ").unwrap(), "Åse Østby");
        for bad in ["", "   ", "a\nb", &"x".repeat(65)] {
            assert_eq!(name_of(bad).unwrap_err().code, "bad-name", "{bad:?}");
        }
    }
}
