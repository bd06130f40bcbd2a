//! The typed client.

mod benches;
mod catalogue;
mod devices;
mod field;
mod notices;
mod people;
mod trust;
mod vault;
mod work;

pub use catalogue::Content;
pub use trust::{
    fingerprint, http_client, in_the_clear, is_in_the_clear, is_this_computer, pinned,
    shown_fingerprint,
};

use std::time::Duration;

use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::{OPERATOR, Paging, Problem, REQUEST_KEY};

/// Why a call failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    /// The service refused.
    #[error("{}", .0.whole())]
    Refused(Problem),
    /// No service answers.
    #[error(
        "no service answers at {address}; start duplicariumd, or say where it is with --service ({source})"
    )]
    NoAnswer {
        /// Where it was expected.
        address: String,
        /// Why.
        source: reqwest::Error,
    },
    /// The answer could not be understood.
    #[error("the service at {address} gave an answer that cannot be understood: {why}")]
    Answer {
        /// Where it is.
        address: String,
        /// Why.
        why: String,
    },
    /// The file to upload could not be read.
    #[error("{0}")]
    File(#[from] std::io::Error),
}

impl ClientError {
    /// For how long the same question is worth asking again: records come back, and so does a service that is started
    /// again.
    pub(crate) fn may_pass_within(&self) -> Duration {
        match self {
            Self::Refused(problem)
                if matches!(
                    problem.code.as_str(),
                    "records-away" | "records-full" | "busy"
                ) =>
            {
                Duration::from_secs(600)
            }
            Self::NoAnswer { .. } => Duration::from_secs(10),
            _ => Duration::ZERO,
        }
    }
}

/// A client of one service, acting as one operator.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: String,
    operator: String,
    /// What it shows instead of a password, if it is signed in.
    token: Option<String>,
    /// Whether answers are shown to people, so that foreign text must not reach a terminal as it is.
    for_people: bool,
}

/// Whether a character turns the text behind it around, as far as its line goes.
fn turns_around(c: char) -> bool {
    matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// Puts a sign in place of characters that would steer a terminal, or turn its lines around: names, findings and logs
/// are foreign text.
fn calm(value: &mut serde_json::Value) {
    match value {
        serde_json::Value::String(text) => {
            let wild = |c: char| (c.is_control() && !matches!(c, '\n' | '\t')) || turns_around(c);
            if text.contains(wild) {
                *text = text.replace(wild, "\u{fffd}");
            }
        }
        serde_json::Value::Array(items) => items.iter_mut().for_each(calm),
        serde_json::Value::Object(fields) => fields.values_mut().for_each(calm),
        _ => {}
    }
}

type Answer<T> = Result<T, ClientError>;

/// A name as one part of a path or as a header: percent-encoded.
fn part(name: &str) -> String {
    name.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                char::from(byte).to_string()
            }
            _ => format!("%{byte:02X}"),
        })
        .collect()
}

impl Client {
    /// A client for the service at an address such as `http://127.0.0.1:7640`.
    pub fn new(address: &str, operator: &str) -> Self {
        Self {
            http: trust::http_client(|builder| builder).unwrap_or_default(),
            base: address.trim_end_matches('/').into(),
            operator: part(operator),
            token: None,
            for_people: false,
        }
    }

    /// The same client, whose answers are shown to people.
    pub fn for_people(self) -> Self {
        Self {
            for_people: true,
            ..self
        }
    }

    /// The same client, for which the certificate with this fingerprint is the service's, and no other.
    ///
    /// # Errors
    /// Where the system does not give what TLS needs.
    pub fn known_by(self, fingerprint: &str) -> Result<Self, reqwest::Error> {
        let http = trust::pinned(fingerprint)?;
        Ok(Self { http, ..self })
    }

    /// The same client, signed in with a token.
    pub fn with_token(self, token: Option<String>) -> Self {
        Self { token, ..self }
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self
            .http
            .request(method, format!("{}/api/v1/{path}", self.base))
            .header(OPERATOR, &self.operator);
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    async fn send(&self, request: RequestBuilder) -> Answer<Response> {
        let response = request
            .send()
            .await
            .map_err(|source| ClientError::NoAnswer {
                address: self.base.clone(),
                source,
            })?;
        if response.status().is_success() {
            return Ok(response);
        }
        Err(ClientError::Refused(self.read(response).await?))
    }

    async fn read<T: DeserializeOwned>(&self, response: Response) -> Answer<T> {
        let answer = |why: String| ClientError::Answer {
            address: self.base.clone(),
            why,
        };
        let body = response.bytes().await.map_err(|e| answer(e.to_string()))?;
        let read = |body: &[u8]| serde_json::from_slice(body);
        if !self.for_people {
            return read(&body).map_err(|e| answer(e.to_string()));
        }
        let mut value: serde_json::Value =
            serde_json::from_slice(&body).map_err(|e| answer(e.to_string()))?;
        calm(&mut value);
        serde_json::from_value(value).map_err(|e| answer(e.to_string()))
    }

    async fn get_with<T: DeserializeOwned>(&self, path: &str, query: &impl Serialize) -> Answer<T> {
        let response = self
            .send(self.request(Method::GET, path).query(query))
            .await?;
        self.read(response).await
    }

    /// A page of what is wanted of a list.
    async fn get_page<T: DeserializeOwned>(
        &self,
        path: &str,
        wanted: &impl Serialize,
        page: &Paging,
    ) -> Answer<T> {
        let request = self.request(Method::GET, path).query(wanted).query(page);
        self.read(self.send(request).await?).await
    }

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Answer<T> {
        let response = self.send(self.request(Method::GET, path)).await?;
        self.read(response).await
    }

    async fn get_text(&self, path: &str) -> Answer<String> {
        let response = self.send(self.request(Method::GET, path)).await?;
        response.text().await.map_err(|e| ClientError::Answer {
            address: self.base.clone(),
            why: e.to_string(),
        })
    }

    async fn take_away(&self, path: &str) -> Answer<()> {
        self.send(self.request(Method::DELETE, path)).await?;
        Ok(())
    }

    async fn give<T: DeserializeOwned>(
        &self,
        method: Method,
        path: &str,
        body: &impl Serialize,
    ) -> Answer<T> {
        let response = self.send(self.request(method, path).json(body)).await?;
        self.read(response).await
    }

    /// Starts work; `key` makes a repetition give the same job.
    async fn start<T: DeserializeOwned>(
        &self,
        path: &str,
        key: Option<&str>,
        body: &impl Serialize,
    ) -> Answer<T> {
        let mut request = self.request(Method::POST, path).json(body);
        if let Some(key) = key {
            request = request.header(REQUEST_KEY, key);
        }
        let response = self.send(request).await?;
        self.read(response).await
    }
}
