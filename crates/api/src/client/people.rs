//! People, passes and the history.

use reqwest::Method;

use super::{Answer, Client, part};
use crate::{
    Acts, ActsAsked, HistoryCheck, Invitation, Me, NewPassword, NewPerson, NewPin, NewToken, Pass,
    Person, PersonChange, SignIn, SignedIn, Token, Welcome,
};

impl Client {
    /// Who asks, as the service knows them.
    pub async fn me(&self) -> Answer<Me> {
        self.get("me").await
    }

    /// Signs somebody in; the answer has a token, if one was wanted.
    pub async fn sign_in(&self, sign_in: &SignIn) -> Answer<SignedIn> {
        self.give(Method::POST, "sign-in", sign_in).await
    }

    /// Takes a one-time code up.
    pub async fn welcome(&self, welcome: &Welcome) -> Answer<SignedIn> {
        self.give(Method::POST, "welcome", welcome).await
    }

    /// Ends what this client is signed in with.
    pub async fn sign_out(&self) -> Answer<()> {
        self.send(self.request(Method::POST, "sign-out")).await?;
        Ok(())
    }

    /// Another password for oneself.
    pub async fn change_password(&self, new: &NewPassword) -> Answer<Me> {
        self.give(Method::PUT, "me/password", new).await
    }

    /// Another PIN for oneself.
    pub async fn change_pin(&self, new: &NewPin) -> Answer<Me> {
        self.give(Method::PUT, "me/pin", new).await
    }

    /// Everybody of the team.
    pub async fn people(&self) -> Answer<Vec<Person>> {
        self.get("people").await
    }

    /// Lets somebody in.
    pub async fn add_person(&self, new: &NewPerson) -> Answer<Invitation> {
        self.give(Method::POST, "people", new).await
    }

    /// A further one-time code for somebody.
    pub async fn invite(&self, name: &str) -> Answer<Invitation> {
        let path = format!("people/{}/invitation", part(name));
        self.give(Method::POST, &path, &serde_json::json!({})).await
    }

    /// Changes what somebody may do.
    pub async fn change_person(&self, name: &str, change: &PersonChange) -> Answer<Vec<Person>> {
        self.give(Method::PATCH, &format!("people/{}", part(name)), change)
            .await
    }

    /// Parts with somebody.
    pub async fn remove_person(&self, name: &str) -> Answer<()> {
        self.take_away(&format!("people/{}", part(name))).await
    }

    /// Passes that are good now: an owner sees all.
    pub async fn passes(&self) -> Answer<Vec<Pass>> {
        self.get("passes").await
    }

    /// A token for a program.
    pub async fn add_token(&self, new: &NewToken) -> Answer<Token> {
        self.give(Method::POST, "passes", new).await
    }

    /// Ends a pass.
    pub async fn end_pass(&self, id: i64) -> Answer<()> {
        self.take_away(&format!("passes/{id}")).await
    }

    /// A page of the history.
    pub async fn history(&self, asked: &ActsAsked) -> Answer<Acts> {
        self.get_with("history", asked).await
    }

    /// The history in a form for programs: `csv` or `jsonl`.
    pub async fn history_rows(&self, form: &str, asked: &ActsAsked) -> Answer<String> {
        let query = behind(asked);
        self.get_text(&format!("history/rows?form={form}{query}"))
            .await
    }

    /// Goes through the whole history and says where it is not as it was written.
    pub async fn check_history(&self) -> Answer<HistoryCheck> {
        self.give(Method::POST, "history/check", &serde_json::json!({}))
            .await
    }
}

/// What is asked for, behind a question that has begun.
fn behind(asked: &ActsAsked) -> String {
    [
        ("who", asked.who.as_deref()),
        ("since", asked.since.as_deref()),
        ("until", asked.until.as_deref()),
        ("search", asked.search.as_deref()),
    ]
    .into_iter()
    .filter_map(|(name, value)| Some(format!("&{name}={}", part(value?))))
    .collect()
}
