//! Benches on other computers, and what they do themselves.

use reqwest::{Method, Upgraded, header};

use super::{Answer, Client, ClientError, part};
use crate::benches::*;

impl Client {
    /// The benches on other computers.
    pub async fn benches(&self) -> Answer<Vec<FarBench>> {
        self.get("benches").await
    }

    /// The services that live now.
    pub async fn services(&self) -> Answer<Vec<crate::Service>> {
        self.get("services").await
    }

    /// Adds one; gives the code that enrols it.
    pub async fn add_bench(&self, name: &str) -> Answer<BenchCode> {
        let new = NewBench { name: name.into() };
        self.give(Method::POST, "benches", &new).await
    }

    /// A new code for one, whose computer is another one from now on.
    pub async fn renew_bench(&self, name: &str) -> Answer<BenchCode> {
        let path = format!("benches/{}/code", part(name));
        self.give(Method::POST, &path, &serde_json::json!({})).await
    }

    /// Removes one.
    pub async fn remove_bench(&self, name: &str) -> Answer<()> {
        let path = format!("benches/{}", part(name));
        self.take_away(&path).await
    }

    /// Makes this computer a bench.
    pub async fn enrol(&self, code: &str) -> Answer<Enrolled> {
        let enrolment = Enrolment { code: code.into() };
        self.give(Method::POST, "enrol", &enrolment).await
    }

    /// Calls as a bench; the connection is spoken over from then on.
    pub async fn call_as_bench(
        &self,
        credential: &str,
        call: &BenchCall,
    ) -> Answer<(BenchAnswer, Upgraded)> {
        let request = self
            .request(Method::GET, "bench-line")
            .bearer_auth(credential)
            .header(header::CONNECTION, "upgrade")
            .header(header::UPGRADE, BENCH_LINE)
            .header(LINE_PROTOCOL, call.protocol)
            .header(LINE_VERSION, &call.version)
            .header(LINE_SESSION, &call.session)
            .header(LINE_SEEN, call.seen)
            .header(LINE_START, &call.start)
            .header(LINE_ATTEMPT, call.attempt);
        let no_answer = |source| ClientError::NoAnswer {
            address: self.base.clone(),
            source,
        };
        let response = request.send().await.map_err(no_answer)?;
        if response.status() != reqwest::StatusCode::SWITCHING_PROTOCOLS {
            return match response.status().is_success() {
                true => Err(ClientError::Answer {
                    address: self.base.clone(),
                    why: "it does not keep the connection open for a bench".into(),
                }),
                false => Err(ClientError::Refused(self.read(response).await?)),
            };
        }
        let told = |name: &str| {
            let value = response
                .headers()
                .get(name)
                .and_then(|value| value.to_str().ok());
            value.unwrap_or_default().to_owned()
        };
        let answer = BenchAnswer {
            session: told(LINE_SESSION),
            seen: told(LINE_SEEN).parse().unwrap_or(0),
        };
        let line = response.upgrade().await.map_err(no_answer)?;
        Ok((answer, line))
    }
}
