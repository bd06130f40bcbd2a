//! Notices by a call: JSON to an address of the team's own, signed as RFC 9421 has it, with `hmac-sha256` over method,
//! address and digest of the body (RFC 9530).

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use arrival::locate::is_elsewhere;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use records::notices::{Notice, Way};
use reqwest::Url;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use ring::{digest, hmac};
use time::OffsetDateTime;

use crate::refusal::Refusal;

/// How long the other side may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// Gives only addresses of a name at which somebody else can be.
struct OthersOnly;

impl Resolve for OthersOnly {
    fn resolve(&self, name: Name) -> Resolving {
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((name.as_str(), 0))
                .await?
                .filter(|address| is_elsewhere(address.ip()))
                .collect();
            if found.is_empty() {
                return Err("the name leads to this computer, which is not called".into());
            }
            Ok(Box::new(found.into_iter()) as Addrs)
        })
    }
}

/// A client that follows nobody elsewhere, and calls this computer only where that is allowed.
pub(super) fn client(own_addresses: bool) -> reqwest::Client {
    let built = api::http_client(|builder| {
        let builder = builder
            .timeout(PATIENCE)
            .redirect(reqwest::redirect::Policy::none());
        match own_addresses {
            true => builder,
            false => builder.dns_resolver(Arc::new(OthersOnly)),
        }
    });
    built.unwrap_or_default()
}

/// Refuses what cannot be called.
pub(super) fn check(url: &str, own_addresses: bool) -> Result<(), Refusal> {
    let parsed = Url::parse(url.trim()).ok();
    let host = parsed.as_ref().and_then(Url::host_str).unwrap_or_default();
    let literal = host.trim_matches(['[', ']']).parse::<IpAddr>();
    let here = host.trim_end_matches('.').eq_ignore_ascii_case("localhost")
        || literal.is_ok_and(|address| !is_elsewhere(address));
    if here && !own_addresses {
        let detail = format!(
            "{host} is this computer, or where a cloud answers, which is not called (the setting private_addresses allows it)"
        );
        return Err(Refusal::invalid("bad-address", detail));
    }
    let fine = parsed.is_some_and(|url| matches!(url.scheme(), "http" | "https") && url.has_host());
    match fine {
        true => Ok(()),
        false => {
            let detail =
                format!("\"{url}\" cannot be called: an address begins with https:// or http://");
            Err(Refusal::invalid("bad-address", detail))
        }
    }
}

/// What is signed, and the two headers that say so.
fn signature(url: &str, way: &str, secret: &str, created: i64, content: &str) -> (String, String) {
    let keyid: String = way
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || *c == '-')
        .collect();
    let parts = format!(
        "(\"@method\" \"@target-uri\" \"content-digest\");created={created};keyid=\"{keyid}\";alg=\"hmac-sha256\""
    );
    let base = format!(
        "\"@method\": POST\n\"@target-uri\": {url}\n\"content-digest\": {content}\n\"@signature-params\": {parts}"
    );
    let key = hmac::Key::new(hmac::HMAC_SHA256, secret.as_bytes());
    let tag = STANDARD.encode(hmac::sign(&key, base.as_bytes()));
    (format!("notice={parts}"), format!("notice=:{tag}:"))
}

/// Calls with matters.
pub(super) async fn call(
    http: &reqwest::Client,
    way: &Way,
    secret: Option<&str>,
    matters: &[&Notice],
) -> Result<(), String> {
    let notices = matters.iter().map(|notice| api::NoticeCallItem {
        kind: notice.kind.clone(),
        about: notice.about.clone(),
        words: notice.words.clone(),
        since: notice.since,
    });
    let body = api::NoticeCall {
        from: "duplicarium".into(),
        notices: notices.collect(),
    };
    let body = serde_json::to_vec(&body).map_err(|e| e.to_string())?;
    let url = Url::parse(&way.target).map_err(|e| e.to_string())?;
    let content = STANDARD.encode(digest::digest(&digest::SHA256, &body));
    let content = format!("sha-256=:{content}:");
    let mut request = http
        .post(url.clone())
        .header("content-type", "application/json")
        .header("content-digest", &content);
    if let Some(secret) = secret {
        let created = OffsetDateTime::now_utc().unix_timestamp();
        let (input, signed) = signature(url.as_str(), &way.name, secret, created, &content);
        request = request
            .header("signature-input", input)
            .header("signature", signed);
    }
    let answer = request
        .body(body)
        .send()
        .await
        .map_err(|e| e.without_url().to_string())?;
    match answer.status() {
        status if status.is_success() => Ok(()),
        status => Err(format!("it answered {status}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signature_covers_method_address_and_body() {
        let sign =
            |url, secret, content| signature(url, "team call", secret, 1_618_884_475, content);
        let (input, signed) = sign("https://example.org/in", "ebb and flow 1907", "sha-256=:X:");
        assert_eq!(
            input,
            "notice=(\"@method\" \"@target-uri\" \"content-digest\");created=1618884475;keyid=\"teamcall\";alg=\"hmac-sha256\""
        );
        for other in [
            sign("https://example.org/on", "ebb and flow 1907", "sha-256=:X:"),
            sign("https://example.org/in", "ebb and flow 1908", "sha-256=:X:"),
            sign("https://example.org/in", "ebb and flow 1907", "sha-256=:Y:"),
        ] {
            assert_ne!(other.1, signed);
        }
        assert!(check("https://example.org/in", false).is_ok());
        for bad in ["example.org", "file:///etc/passwd", "https://", ""] {
            assert!(check(bad, true).is_err(), "{bad}");
        }
        for here in [
            "http://127.0.0.1:5432/",
            "http://localhost/",
            "http://LOCALHOST./",
            "http://[::1]/",
            "http://[::ffff:7f00:1]/",
            "http://2130706433/",
            "http://169.254.169.254/latest/",
        ] {
            assert!(check(here, false).is_err(), "{here}");
            assert!(check(here, true).is_ok(), "{here}");
        }
    }
}
