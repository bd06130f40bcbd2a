//! Lets requests in: who asks, whether they may, and that it stands in the history before it is done.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use api::{Access, Role};
use axum::body::Body;
use axum::extract::{MatchedPath, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use operations::history::Asking;
use operations::people::{Caller, Changed};
use operations::refusal::{Refusal, Why};
use percent_encoding::percent_decode_str;

use crate::app::App;
use crate::error::ApiError;
use crate::guard;
use crate::peers::Forwarded;
use crate::request;

/// The other end of a connection.
#[derive(Clone, Copy)]
pub struct Peer(pub IpAddr);

/// Where a request comes from: through proxies that are known, whoever they name.
pub struct From {
    pub origin: String,
    /// Whether it comes from this computer, under one of its own names.
    pub here: bool,
}

impl From {
    pub fn of(app: &App, headers: &HeaderMap, peer: Option<Peer>) -> Self {
        let Some(peer) = peer else {
            return Self {
                origin: "?".into(),
                here: false,
            };
        };
        if !app.net.proxies.contains(&peer.0) {
            let here = peer.0.is_loopback() && guard::is_loopback_name(headers);
            return Self {
                origin: peer.0.to_string(),
                here,
            };
        }
        // The last one is what the proxy itself saw; those before it anybody may have written.
        let told = headers
            .get_all("x-forwarded-for")
            .iter()
            .next_back()
            .and_then(|value| {
                value
                    .to_str()
                    .ok()?
                    .rsplit(',')
                    .next()?
                    .trim()
                    .parse::<IpAddr>()
                    .ok()
            });
        let origin = told.map_or_else(|| format!("? behind {}", peer.0), |told| told.to_string());
        Self {
            origin,
            here: false,
        }
    }
}

/// How long a browser keeps a cookie; whether it opens anything the records say.
const COOKIE_SECONDS: u32 = 90 * 86_400;
/// Longest body that is looked into for what it names, in bytes.
const NAMING: usize = 64 << 10;
/// How long what must be possible at once waits for the history.
const PATIENCE: Duration = Duration::from_millis(500);
/// Names of what a request is about; nothing of them is ever a secret.
const NAMING_FIELDS: [&str; 16] = [
    "name",
    "label",
    "card",
    "device",
    "slot",
    "number",
    "release",
    "backup",
    "appliance",
    "site",
    "state",
    "role",
    "days",
    "reason",
    "note",
    "words",
];

/// The cookie that makes a browser show a pass. Scripts never see it, and no page of others makes it be sent.
pub fn cookie(app: &App, secret: &str) -> HeaderValue {
    let age = if secret.is_empty() { 0 } else { COOKIE_SECONDS };
    let secure = if app.net.secure { "; Secure" } else { "" };
    let text = format!(
        "{}={secret}; Path=/; HttpOnly; SameSite=Strict; Max-Age={age}{secure}",
        api::COOKIE
    );
    // It has plain letters only.
    HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static(""))
}

/// How long a browser keeps what says that it is no stranger.
const DEVICE_SECONDS: u32 = 400 * 86_400;

/// The cookie by which a browser is known when somebody signs in with it again; it is sent nowhere else.
pub fn device_cookie(app: &App, device: &str) -> HeaderValue {
    let secure = if app.net.secure { "; Secure" } else { "" };
    let text = format!(
        "{}={device}; Path=/api/v1/sign-in; HttpOnly; SameSite=Strict; Max-Age={DEVICE_SECONDS}{secure}",
        api::DEVICE_COOKIE
    );
    HeaderValue::from_str(&text).unwrap_or(HeaderValue::from_static(""))
}

/// A cookie of a request.
pub fn cookie_of<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    let cookies = headers.get_all(header::COOKIE).iter();
    cookies
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(';'))
        .find_map(|one| one.trim().strip_prefix(name)?.strip_prefix('='))
}

/// What a request shows: a token, or the cookie of a browser.
fn secret(headers: &HeaderMap) -> Option<&str> {
    let bearer = headers
        .get(header::AUTHORIZATION)
        .and_then(|value| value.to_str().ok()?.strip_prefix("Bearer "));
    bearer
        .map(str::trim)
        .or_else(|| cookie_of(headers, api::COOKIE))
}

/// The name that whoever sits at the service's computer goes by, where nobody belongs to the team yet.
fn named(headers: &HeaderMap) -> Result<String, ApiError> {
    // Percent-encoded, because a header takes no other letters than plain ones.
    let given = headers
        .get(api::OPERATOR)
        .map_or("operator", |value| value.to_str().unwrap_or(""));
    let name = percent_decode_str(given).decode_utf8().unwrap_or_default();
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 64 || name.chars().any(char::is_control) {
        let detail = "the operator's name takes 1 to 64 characters, percent-encoded in the header";
        return Err(ApiError::invalid("bad-operator", detail));
    }
    Ok(name.into())
}

/// Who asks.
async fn caller(
    app: &App,
    headers: &HeaderMap,
    from: From,
) -> Result<(Caller, Option<Changed>), ApiError> {
    let From { origin, here } = from;
    if let Some(secret) = secret(headers)
        && let Some(shown) = app.people.shown(secret, &origin).await?
    {
        return Ok(shown);
    }
    if here && !app.people.any().await? {
        let name = named(headers)?;
        return Ok((Caller::at_loopback(&name, Role::Owner, &origin), None));
    }
    if let Some(name) = app.loopback_person.as_deref().filter(|_| here)
        && let Ok(person) = app.records.person(name).await
    {
        let role = Role::named(&person.role).unwrap_or(Role::Looker);
        let caller = Caller {
            person: Some(person.id),
            ..Caller::at_loopback(&person.name, role, &origin)
        };
        return Ok((caller, None));
    }
    Ok((Caller::nobody(&origin), None))
}

/// Refuses who may not.
fn may(caller: &Caller, access: &Access) -> Result<(), Refusal> {
    let Some(wanted) = access.role else {
        return Ok(());
    };
    match caller.role {
        Some(role) if role >= wanted => Ok(()),
        Some(role) => {
            let who = match (&caller.station, caller.person) {
                (Some(station), None) => {
                    format!("nobody acts at {station} now; say who you are, with your PIN")
                }
                _ => format!("{} may do what {} may", caller.name, role.one()),
            };
            let detail = format!(
                "this takes {}, and {who}. Nothing was changed",
                wanted.one()
            );
            Err(Refusal::new(Why::NotAllowed, "not-allowed", detail))
        }
        None => Err(Refusal::new(
            Why::NotSignedIn,
            "not-signed-in",
            "sign in first: at the console, or with duplicarium sign-in",
        )),
    }
}

/// A method that a path does not have, with those that it has; or a path that nobody serves.
fn not_served(method: &str, path: &str) -> Response {
    let there: Vec<_> = api::ACCESS
        .iter()
        .filter(|one| one.path == path)
        .map(|one| one.method.to_uppercase())
        .collect();
    if there.is_empty() {
        let detail =
            format!("{method} {path} stands in no table of who may ask what, and is not served");
        return ApiError::new(StatusCode::FORBIDDEN, "not-allowed", detail).into_response();
    }
    let detail = "this address does not take requests of this kind";
    let mut response =
        ApiError::new(StatusCode::METHOD_NOT_ALLOWED, "bad-method", detail).into_response();
    if let Ok(allow) = HeaderValue::from_str(&there.join(",")) {
        response.headers_mut().insert(header::ALLOW, allow);
    }
    response
}

/// What a request names in its body, for the history; the body goes on as it came.
async fn naming(request: Request) -> Result<(Request, String), ApiError> {
    let headers = request.headers();
    let json = headers
        .get(header::CONTENT_TYPE)
        .is_some_and(|kind| kind.as_bytes().starts_with(b"application/json"));
    let len = headers
        .get(header::CONTENT_LENGTH)
        .and_then(|len| len.to_str().ok()?.parse::<usize>().ok());
    if !json || len.is_none_or(|len| len > NAMING) {
        return Ok((request, String::new()));
    }
    let (parts, body) = request.into_parts();
    let body = axum::body::to_bytes(body, NAMING)
        .await
        .map_err(|_| ApiError::invalid("bad-request", "the request was cut off"))?;
    let about = match serde_json::from_slice(&body) {
        Ok(serde_json::Value::Object(fields)) => about(&fields),
        _ => String::new(),
    };
    Ok((Request::from_parts(parts, Body::from(body)), about))
}

/// Longest account of what was asked for in an address, in characters.
const ASKED: usize = 400;

/// What of something was asked for: the file, the partition, both sides of a comparison. No address has a secret in it.
fn asked_for(request: &Request) -> String {
    let pairs = request.uri().query().unwrap_or_default().split('&');
    let named = pairs.filter_map(|pair| {
        let (name, value) = pair.split_once('=')?;
        let value = value.replace('+', " ");
        let value = percent_decode_str(&value).decode_utf8_lossy().into_owned();
        (!value.is_empty()).then(|| format!("{name} {value}"))
    });
    let text = named.collect::<Vec<_>>().join(", ");
    text.chars()
        .filter(|letter| !letter.is_control())
        .take(ASKED)
        .collect()
}

fn about(fields: &serde_json::Map<String, serde_json::Value>) -> String {
    let named = NAMING_FIELDS.iter().filter_map(|name| {
        let value = match fields.get(*name)? {
            serde_json::Value::String(text) if !text.is_empty() => text.clone(),
            serde_json::Value::Number(number) => number.to_string(),
            _ => return None,
        };
        Some(format!("{name} {value}"))
    });
    named.collect::<Vec<_>>().join(", ")
}

/// Lets a request in, or refuses it.
pub async fn admit(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    let path = request.extensions().get::<MatchedPath>();
    let path = path.map(|path| path.as_str().to_owned());
    // The console's files are nobody's secret, and what is not there is not there for all.
    let Some(path) = path.filter(|path| !path.contains("{*") && path != "/api" && path != "/")
    else {
        return next.run(request).await;
    };
    let method = match request.method().as_str() {
        "HEAD" => "GET",
        method => method,
    };
    let Some(access) = api::access(method, &path) else {
        return not_served(method, &path);
    };
    let peer = request.extensions().get::<Peer>().copied();
    let headers = guard::headers_of(&request);
    let from = match request.extensions().get::<Forwarded>() {
        Some(Forwarded { origin, here }) => From {
            origin: origin.clone(),
            here: *here,
        },
        None => From::of(&app, &headers, peer),
    };
    let (caller, changed) = match caller(&app, &headers, from).await {
        Ok(known) => known,
        Err(e) => return e.into_response(),
    };
    if let Err(refusal) = may(&caller, access) {
        // What somebody of the team tried is worth knowing; what strangers try fills no table.
        if let (Some(act), Some(_)) = (access.act, caller.role) {
            let (target, id) = (target_of(&request), request::current().unwrap_or_default());
            let asking = Asking {
                act,
                target: &target,
                about: "",
                request: &id,
            };
            // It is refused anyway.
            let _ = note(&app, &caller, asking, StatusCode::FORBIDDEN).await;
        }
        return ApiError::from(refusal).into_response();
    }
    request.extensions_mut().insert(caller.clone());
    let mut response = match access.act {
        Some(act) => told(&app, &caller, access, act, request, next).await,
        None => next.run(request).await,
    };
    if let Some(Changed(secret)) = changed {
        response
            .headers_mut()
            .append(header::SET_COOKIE, cookie(&app, &secret));
    }
    response
}

fn target_of(request: &Request) -> String {
    percent_decode_str(request.uri().path())
        .decode_utf8_lossy()
        .trim_start_matches("/api/v1")
        .to_owned()
}

async fn note(
    app: &App,
    caller: &Caller,
    asking: Asking<'_>,
    status: StatusCode,
) -> Result<(), Refusal> {
    let noted = async {
        let id = app.history.begin(caller, asking).await?;
        app.history.end(id, status.as_u16()).await
    };
    let noted = noted.await;
    if let Err(e) = &noted {
        tracing::warn!("the history misses what was answered to somebody: {e}");
    }
    noted
}

/// Serves what the history tells of: it stands there first.
async fn told(
    app: &App,
    caller: &Caller,
    access: &Access,
    act: &str,
    request: Request,
    next: Next,
) -> Response {
    let target = target_of(&request);
    let id = request::current().unwrap_or_default();
    let asked = asked_for(&request);
    let (request, about) = match naming(request).await {
        Ok(named) => named,
        Err(e) => return e.into_response(),
    };
    let about = match asked.is_empty() {
        true => about,
        false => asked,
    };
    let asking = Asking {
        act,
        target: &target,
        about: &about,
        request: &id,
    };
    // Who signs in is known by name only when it succeeded; until then it is who they say, and nobody. Those who are made
    // to wait fill no table.
    if access.role.is_none() {
        let said = about.split(", ").find_map(|one| one.strip_prefix("name "));
        let said = match (&caller.station, said) {
            (None, Some(said)) => Caller {
                name: said.to_owned(),
                ..Caller::nobody(&caller.origin)
            },
            _ => caller.clone(),
        };
        let response = next.run(request).await;
        let status = response.status();
        if status == StatusCode::TOO_MANY_REQUESTS {
            return response;
        }
        // What opened the service stands in the history, or is given to nobody.
        return match note(app, &said, asking, status).await {
            Err(refusal) if status.is_success() => ApiError::from(refusal).into_response(),
            _ => response,
        };
    }
    let begun = match access.at_once {
        false => app.history.begin(caller, asking).await.map(Some),
        true => match tokio::time::timeout(PATIENCE, app.history.begin(caller, asking)).await {
            Ok(Ok(begun)) => Ok(Some(begun)),
            _ => {
                tracing::warn!(
                    who = caller.name,
                    act,
                    target,
                    "the history misses this: the records are away"
                );
                Ok(None)
            }
        },
    };
    let begun = match begun {
        Ok(begun) => begun,
        Err(refusal) => return ApiError::from(refusal).into_response(),
    };
    let response = next.run(request).await;
    if let Some(begun) = begun
        && let Ok(Err(e)) = tokio::time::timeout(
            PATIENCE * 4,
            app.history.end(begun, response.status().as_u16()),
        )
        .await
    {
        tracing::warn!("the history misses how row {begun} was answered: {e}");
    }
    response
}
