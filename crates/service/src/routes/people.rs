//! People, what they sign in with, and stations.

use std::sync::Arc;

use api::Role;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use operations::people::{Caller, How, Proof};
use records::people::Person;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::Given;
use crate::admit::{cookie, cookie_of, device_cookie};
use crate::app::App;
use crate::drawer::cells;
use crate::error::ApiError;

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(me))
        .routes(routes!(sign_in))
        .routes(routes!(welcome))
        .routes(routes!(sign_out))
        .routes(routes!(password))
        .routes(routes!(pin))
        .routes(routes!(new_factor, take_factor, drop_factor))
        .routes(routes!(act, stop_acting))
        .routes(routes!(passes, add_token))
        .routes(routes!(end_pass))
        .routes(routes!(station))
        .routes(routes!(people, add))
        .routes(routes!(change, part_with))
        .routes(routes!(invite))
}

fn role(word: &str) -> Role {
    Role::named(word).unwrap_or(Role::Looker)
}

fn shown(person: Person) -> api::Person {
    api::Person {
        role: role(&person.role),
        welcomed: person.password.is_some(),
        pin: person.pin.is_some(),
        second_factor: person.second_factor.is_some(),
        name: person.name,
        made_by: person.made_by,
        made_at: person.made_at,
        seen_at: person.seen_at,
    }
}

/// Who asks, as the service knows them.
#[utoipa::path(get, path = "/api/v1/me", responses((status = 200, body = api::Me)))]
async fn me(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<api::Me>, ApiError> {
    Ok(Json(app.people.me(&caller).await?))
}

/// Gives somebody who has proven who they are a session, or the token that they want.
async fn let_in(
    app: &App,
    person: &Person,
    token: Option<&str>,
    origin: &str,
) -> Result<Response, ApiError> {
    let (secret, how) = match token {
        Some(name) => (
            app.people.signed_in(person, name, origin).await?,
            How::Token,
        ),
        None => (app.people.session(person, origin).await?, How::Session),
    };
    let caller = Caller {
        name: person.name.clone(),
        role: Some(role(&person.role)),
        how,
        person: Some(person.id),
        ..Caller::nobody(origin)
    };
    let me = app.people.me(&caller).await?;
    let mut headers = HeaderMap::new();
    let device = app.people.device(person)?;
    if how == How::Session {
        headers.append(header::SET_COOKIE, cookie(app, &secret));
        headers.append(header::SET_COOKIE, device_cookie(app, &device));
        let signed_in = api::SignedIn {
            me,
            token: None,
            device: None,
        };
        return Ok((headers, Json(signed_in)).into_response());
    }
    let signed_in = api::SignedIn {
        me,
        token: Some(secret),
        device: Some(device),
    };
    Ok((headers, Json(signed_in)).into_response())
}

/// Signs somebody in: the answer sets a cookie, or has the token that was wanted.
#[utoipa::path(post, path = "/api/v1/sign-in", request_body = api::SignIn,
    responses((status = 200, body = api::SignedIn)))]
async fn sign_in(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    headers: HeaderMap,
    Given(given): Given<api::SignIn>,
) -> Result<Response, ApiError> {
    let shown = cookie_of(&headers, api::DEVICE_COOKIE);
    let proof = Proof {
        name: &given.name,
        password: &given.password,
        code: given.code.as_deref(),
        device: given.device.as_deref().or(shown),
        origin: &caller.origin,
    };
    let person = app.people.prove(proof).await?;
    let_in(&app, &person, given.token.as_deref(), &caller.origin).await
}

/// Takes a one-time code up: makes the first owner, lets somebody new choose a password, or somebody who forgot it.
#[utoipa::path(post, path = "/api/v1/welcome", request_body = api::Welcome,
    responses((status = 200, body = api::SignedIn)))]
async fn welcome(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::Welcome>,
) -> Result<Response, ApiError> {
    let person = app.people.welcome(&given, &caller.origin).await?;
    app.events.bus.tell(operations::news::News::Events);
    let_in(&app, &person, given.token.as_deref(), &caller.origin).await
}

/// Ends what this request shows.
#[utoipa::path(post, path = "/api/v1/sign-out", responses((status = 204)))]
async fn sign_out(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Response, ApiError> {
    app.people.sign_out(&caller).await?;
    Ok((
        StatusCode::NO_CONTENT,
        [(header::SET_COOKIE, cookie(&app, ""))],
    )
        .into_response())
}

/// Changes the own password. Everything else that was signed in with it is not any more.
#[utoipa::path(put, path = "/api/v1/me/password", request_body = api::NewPassword,
    responses((status = 200, body = api::Me)))]
async fn password(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::NewPassword>,
) -> Result<Json<api::Me>, ApiError> {
    app.people.change_password(&caller, &given).await?;
    Ok(Json(app.people.me(&caller).await?))
}

/// Changes the own PIN for stations, or takes it away.
#[utoipa::path(put, path = "/api/v1/me/pin", request_body = api::NewPin,
    responses((status = 200, body = api::Me)))]
async fn pin(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::NewPin>,
) -> Result<Json<api::Me>, ApiError> {
    app.people.change_pin(&caller, &given).await?;
    Ok(Json(app.people.me(&caller).await?))
}

/// Begins to set up a second factor: a secret for an authenticator. It counts once a code of it was given.
#[utoipa::path(post, path = "/api/v1/me/second-factor", responses((status = 200, body = api::SecondFactor)))]
async fn new_factor(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<api::SecondFactor>, ApiError> {
    let (secret, address) = app.people.new_factor(&caller).await?;
    let qr = cells(&address).map_err(|e| ApiError::invalid("bad-name", e.to_string()))?;
    Ok(Json(api::SecondFactor {
        secret,
        address,
        qr,
    }))
}

/// Takes a second factor, whose code proves that the authenticator has it.
#[utoipa::path(put, path = "/api/v1/me/second-factor", request_body = api::FactorCode,
    responses((status = 200, body = api::FactorTaken)))]
async fn take_factor(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::FactorCode>,
) -> Result<Json<api::FactorTaken>, ApiError> {
    let recovery_codes = app.people.take_factor(&caller, &given).await?;
    let me = app.people.me(&caller).await?;
    Ok(Json(api::FactorTaken { me, recovery_codes }))
}

/// Gives the second factor up.
#[utoipa::path(delete, path = "/api/v1/me/second-factor", request_body = api::FactorCode,
    responses((status = 200, body = api::Me)))]
async fn drop_factor(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::FactorCode>,
) -> Result<Json<api::Me>, ApiError> {
    app.people.drop_factor(&caller, &given).await?;
    Ok(Json(app.people.me(&caller).await?))
}

/// Acts at a station for some minutes, by name and PIN.
#[utoipa::path(post, path = "/api/v1/acting", request_body = api::Acting, responses((status = 204)))]
async fn act(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(given): Given<api::Acting>,
) -> Result<StatusCode, ApiError> {
    app.people.act(&caller, &given).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Stops acting at a station.
#[utoipa::path(delete, path = "/api/v1/acting", responses((status = 204)))]
async fn stop_acting(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<StatusCode, ApiError> {
    app.people.stop_acting(&caller).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What people are signed in with: one's own, or as an owner everybody's.
#[utoipa::path(get, path = "/api/v1/passes", responses((status = 200, body = Vec<api::Pass>)))]
async fn passes(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
) -> Result<Json<Vec<api::Pass>>, ApiError> {
    let whose = match caller.role {
        Some(Role::Owner) => None,
        _ => Some(caller.person.unwrap_or(0)),
    };
    let rows = app.records.passes(whose).await?.into_iter();
    let rows = rows.map(|row| api::Pass {
        own: caller.pass == Some(row.id),
        // No more than the person may; a station that nobody acts at may what it was made for.
        role: row
            .person_role
            .as_deref()
            .map_or(role(&row.role), |person| role(person).min(role(&row.role))),
        id: row.id,
        kind: row.kind,
        person: row.person,
        name: row.name,
        made_at: row.made_at,
        used_at: row.used_at,
        used_from: row.used_from,
        expires_at: row.expires_at,
        acting: row.acting,
    });
    Ok(Json(rows.collect()))
}

/// Makes a token for a program, with a role not above one's own. It is shown this once.
#[utoipa::path(post, path = "/api/v1/passes", request_body = api::NewToken,
    responses((status = 201, body = api::Token)))]
async fn add_token(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(new): Given<api::NewToken>,
) -> Result<(StatusCode, Json<api::Token>), ApiError> {
    let token = app.people.token(&caller, &new).await?;
    Ok((StatusCode::CREATED, Json(token)))
}

/// Ends a session, token or station: one's own, or as an owner anybody's.
#[utoipa::path(delete, path = "/api/v1/passes/{id}", responses((status = 204)))]
async fn end_pass(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Path(id): Path<i64>,
) -> Result<StatusCode, ApiError> {
    app.people.end_pass(&caller, id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Makes the computer that asks a station, at which people act by name and PIN. Who asks is signed out there.
#[utoipa::path(post, path = "/api/v1/stations", request_body = api::NewStation,
    responses((status = 201, body = api::Me)))]
async fn station(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(new): Given<api::NewStation>,
) -> Result<Response, ApiError> {
    let secret = app.people.station(&caller, &new).await?;
    if caller.how == How::Session {
        app.people.sign_out(&caller).await?;
    }
    let made = app.people.shown(&secret, &caller.origin).await?;
    let (made, _) =
        made.ok_or_else(|| ApiError::missing("the station is gone already".to_owned()))?;
    let me = app.people.me(&made).await?;
    let headers = [(header::SET_COOKIE, cookie(&app, &secret))];
    Ok((StatusCode::CREATED, headers, Json(me)).into_response())
}

async fn all(app: &App) -> Result<Vec<api::Person>, ApiError> {
    Ok(app.records.people().await?.into_iter().map(shown).collect())
}

/// Everybody of the team.
#[utoipa::path(get, path = "/api/v1/people", responses((status = 200, body = Vec<api::Person>)))]
async fn people(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Person>>, ApiError> {
    Ok(Json(all(&app).await?))
}

/// Lets somebody in: the code is for them, who choose a password with it.
#[utoipa::path(post, path = "/api/v1/people", request_body = api::NewPerson,
    responses((status = 201, body = api::Invitation)))]
async fn add(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Given(new): Given<api::NewPerson>,
) -> Result<(StatusCode, Json<api::Invitation>), ApiError> {
    let made = app.people.add_person(&caller, &new).await?;
    Ok((StatusCode::CREATED, Json(made)))
}

/// Changes what somebody may do. It counts at once, also where they are signed in.
#[utoipa::path(patch, path = "/api/v1/people/{name}", request_body = api::PersonChange,
    responses((status = 200, body = Vec<api::Person>)))]
async fn change(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
    Given(given): Given<api::PersonChange>,
) -> Result<Json<Vec<api::Person>>, ApiError> {
    let person = app.records.person(&name).await?;
    app.records
        .set_role(person.id, given.role.name(), &caller.name)
        .await?;
    Ok(Json(all(&app).await?))
}

/// Parts with somebody: what they are signed in with ends, their name stays in the records.
#[utoipa::path(delete, path = "/api/v1/people/{name}", responses((status = 204)))]
async fn part_with(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let person = app.records.person(&name).await?;
    app.records.part_with(person.id, &caller.name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a further one-time code for somebody, who forgot their password or lost the first code.
#[utoipa::path(post, path = "/api/v1/people/{name}/invitation",
    responses((status = 201, body = api::Invitation)))]
async fn invite(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Caller>,
    Path(name): Path<String>,
) -> Result<(StatusCode, Json<api::Invitation>), ApiError> {
    let made = app.people.invite(&caller, &name).await?;
    Ok((StatusCode::CREATED, Json(made)))
}
