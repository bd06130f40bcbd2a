//! Releases in the catalogue: added, shown, revised, put into states, made current, noted on.

use std::path::PathBuf;
use std::sync::Arc;

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use imagecraft::container::Published;
use records::jobs::NewJob;
use records::releases::NewSheet;
use settings::{Sheet, split_file_name};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use super::extract::{Given, Operator, RequestKey, asked};
use crate::app::App;
use crate::error::ApiError;
use operations::feeds::Item;
use operations::shown;
use operations::work::fetch::{Fetch, check_url};
use operations::work::{Expected, ImportOrder, Named, Place, TakenFile, declared_card, import};

pub fn routes() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::new()
        .routes(routes!(list, add))
        .routes(routes!(show, remove))
        .routes(routes!(carriers))
        .routes(routes!(revise))
        .routes(routes!(set_state))
        .routes(routes!(make_current))
        .routes(routes!(note_evidence))
}

/// Releases, newest first.
#[utoipa::path(get, path = "/api/v1/releases", responses((status = 200, body = Vec<api::Release>)))]
async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<api::Release>>, ApiError> {
    let shelf = app.catalogue.shelf().await?;
    let carried = app.records.carried_counts(None).await?;
    let mut rows: Vec<_> = shelf.releases.iter().collect();
    rows.sort_by_key(|release| std::cmp::Reverse(release.id));
    let shown = rows.into_iter().map(|row| {
        let carried = carried.get(&row.id).copied().unwrap_or_default();
        shelf.release(row, carried)
    });
    Ok(Json(shown.collect()))
}

/// One release.
#[utoipa::path(get, path = "/api/v1/releases/{name}", responses((status = 200, body = api::ReleaseDetail)))]
async fn show(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
) -> Result<Json<api::ReleaseDetail>, ApiError> {
    Ok(Json(app.catalogue.detail(&name).await?))
}

/// Takes a release away that nobody ever carried.
#[utoipa::path(delete, path = "/api/v1/releases/{name}", responses((status = 204)))]
async fn remove(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
) -> Result<StatusCode, ApiError> {
    let release = app.records.release(&name).await?;
    app.records.remove_release(&release).await?;
    let summary = format!(
        "Release {} taken away; nobody ever carried it",
        release.name
    );
    app.events
        .note(&operator, "release.removed", &release.name, &summary)
        .await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The cards that carry a release, by device: a page of them.
#[utoipa::path(get, path = "/api/v1/releases/{name}/carriers", params(api::Paging),
    responses((status = 200, body = api::Page<api::Carrier>)))]
async fn carriers(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(page): Query<api::Paging>,
) -> Result<Json<api::Page<api::Carrier>>, ApiError> {
    let release = app.records.release(&name).await?;
    let page = app.records.carriers(release.id, &asked(page)).await?;
    Ok(Json(shown::page(page, shown::carrier)))
}

/// Reads a sheet that somebody sent, on a thread of its own: it is bounded, and still takes its time.
async fn parse_sheet(text: &str) -> Result<Sheet, ApiError> {
    let text = text.to_owned();
    let read = tokio::task::spawn_blocking(move || Sheet::parse(&text)).await;
    let sheet =
        read.map_err(|e| ApiError::invalid("bad-sheet", format!("the release sheet: {e}")))?;
    sheet.map_err(|e| ApiError::invalid("bad-sheet", format!("release sheet, {e}")))
}

/// A name that is not in the catalogue yet.
async fn check_new(app: &App, name: &str) -> Result<(), ApiError> {
    if app.records.release(name).await.is_ok() {
        let detail =
            format!("the catalogue has a release {name:?} already; give the sheet another version");
        return Err(ApiError::conflict("taken", detail));
    }
    Ok(())
}

async fn check_boards(app: &App, boards: &[String]) -> Result<(), ApiError> {
    let known: Vec<_> = app
        .records
        .boards()
        .await?
        .into_iter()
        .map(|board| board.name)
        .collect();
    if let Some(board) = boards.iter().find(|board| !known.contains(board)) {
        let detail = format!(
            "the sheet names board model {board:?}, which is not known here; known are {}",
            known.join(", ")
        );
        return Err(ApiError::invalid("unknown-board", detail));
    }
    Ok(())
}

/// A sheet that can become a release now: valid, of a new name, for board models that are known.
pub async fn check_sheet(app: &App, text: &str) -> Result<Sheet, ApiError> {
    let sheet = parse_sheet(text).await?;
    check_new(app, &sheet.name()).await?;
    check_boards(app, &sheet.boards).await?;
    Ok(sheet)
}

/// Where an image comes from, before anything is fetched or read.
struct Whence {
    place: Place,
    way: &'static str,
    from: String,
    file_name: String,
    sheet: Option<String>,
    sha256: Option<String>,
    member: Option<String>,
    feed: Option<(String, String)>,
}

impl Whence {
    fn new(place: Place, way: &'static str, from: String) -> Self {
        let path = from.split(['?', '#']).next().unwrap_or("");
        let file_name = path.rsplit(['/', '\\']).next().unwrap_or("").to_owned();
        Self {
            place,
            way,
            file_name: if file_name.is_empty() {
                from.clone()
            } else {
                file_name
            },
            from,
            sheet: None,
            sha256: None,
            member: None,
            feed: None,
        }
    }
}

impl App {
    /// A new file among the uploads, for what is fetched.
    fn new_scratch(&self) -> Result<TakenFile, ApiError> {
        let mut id = [0; 12];
        getrandom::fill(&mut id).map_err(|e| ApiError::invalid("no-chance", e.to_string()))?;
        Ok(TakenFile(
            self.store
                .uploads
                .join(format!("fetch-{}", hex::encode(id))),
        ))
    }

    /// A file in the import folder; nothing outside of it can be named.
    pub fn folder_file(&self, name: &str) -> Result<PathBuf, ApiError> {
        let folder = self.import_dir.as_ref().ok_or_else(|| {
            ApiError::conflict(
                "no-folder",
                "the service has no import folder; name one with the setting import_dir",
            )
        })?;
        let plain = !name.is_empty() && !name.starts_with('.') && !name.contains(['/', '\\', '\0']);
        let path = folder.join(name);
        let file =
            plain && std::fs::symlink_metadata(&path).is_ok_and(|meta| meta.file_type().is_file());
        if !file {
            let detail = format!(
                "there is no file {name:?} in the import folder {}",
                folder.display()
            );
            return Err(ApiError::missing(detail));
        }
        Ok(path)
    }

    async fn whence(self: &Arc<Self>, new: &api::NewRelease) -> Result<Whence, ApiError> {
        let feed = new.feed.as_ref().zip(new.feed_item.as_ref());
        match (&new.upload, &new.folder_file, &new.url, feed) {
            (Some(upload), None, None, None) => self.whence_upload(upload),
            (None, Some(name), None, None) => {
                let path = self.folder_file(name)?;
                let beside = match api::sheet_beside(&path) {
                    Some(sheet) => Some(api::read_sheet(&sheet).map_err(|e| {
                        let detail = format!("the sheet {} cannot be read: {e}", sheet.display());
                        ApiError::invalid("bad-sheet", detail)
                    })?),
                    None => None,
                };
                let from = path.display().to_string();
                Ok(Whence {
                    sheet: beside,
                    ..Whence::new(Place::Theirs(path), "folder", from)
                })
            }
            (None, None, Some(url), None) => {
                check_url(url, self.rules.private_addresses)?;
                let fetch = Fetch {
                    url: url.clone(),
                    user: new.url_user.clone(),
                    password: new.url_password.clone(),
                };
                let place = Place::Web(Box::new(fetch), self.new_scratch()?);
                Ok(Whence::new(place, "url", url.clone()))
            }
            (None, None, None, Some((feed, item))) => self.whence_feed(feed, item).await,
            _ => Err(ApiError::invalid(
                "bad-request",
                "say where the image is: an upload, a file of the import folder, an address, or an item of a feed; exactly one",
            )),
        }
    }

    fn whence_upload(self: &Arc<Self>, upload: &str) -> Result<Whence, ApiError> {
        let (claim, kept) = self.uploads.claim(upload)?;
        Ok(Whence::new(Place::Taken(claim), "upload", kept.file_name))
    }

    async fn whence_feed(self: &Arc<Self>, feed: &str, item: &str) -> Result<Whence, ApiError> {
        let row = self.records.feed(feed).await?;
        let items = self.records.feed_items(feed).await?;
        let found = items
            .into_iter()
            .find(|one| one.item == item)
            .ok_or_else(|| {
                ApiError::missing(format!(
                    "feed {feed} has no release {item:?} (any more); look at it again"
                ))
            })?;
        if let Some(release) = found.release {
            let detail = format!("{item} of feed {feed} is {release} here already");
            return Err(ApiError::conflict("taken", detail));
        }
        let described: Item = serde_json::from_value(found.described)
            .map_err(|e| ApiError::invalid("bad-feed", format!("{item} of feed {feed}: {e}")))?;
        let fetch = self.feeds.fetch(&row, &described.file)?;
        let sheet = match &described.sheet {
            Some(sheet) => Some(
                self.feeds
                    .fetch(&row, sheet)?
                    .text(self.rules.private_addresses)
                    .await?,
            ),
            None => None,
        };
        let from = fetch.url.clone();
        let place = Place::Web(Box::new(fetch), self.new_scratch()?);
        Ok(Whence {
            sheet,
            sha256: described.sha256,
            member: described.member,
            feed: Some((feed.into(), item.into())),
            ..Whence::new(place, "feed", from)
        })
    }
}

/// What a release without a sheet is called: as said, or as its file name says.
fn named(new: &api::NewRelease, file_name: &str) -> Result<Named, ApiError> {
    let guess = split_file_name(file_name);
    let appliance = new
        .appliance
        .clone()
        .or(guess.as_ref().map(|(name, _)| name.clone()));
    let version = new.version.clone().or(guess.map(|(_, version)| version));
    match (appliance, version) {
        (Some(appliance), Some(version)) => Ok(Named {
            appliance,
            variant: new.variant.clone(),
            version,
            boards: new.boards.clone(),
        }),
        _ => Err(ApiError::invalid(
            "no-name",
            format!(
                "{file_name} comes without a release sheet, and its name does not say appliance and version; give a sheet, or both of them"
            ),
        )),
    }
}

/// Adds a release: a job.
#[utoipa::path(post, path = "/api/v1/releases", request_body = api::NewRelease,
    responses((status = 202, body = api::Job)))]
async fn add(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    RequestKey(request_key): RequestKey,
    Given(new): Given<api::NewRelease>,
) -> Result<(StatusCode, Json<api::Job>), ApiError> {
    // What can be refused without the file is refused first, so that an upload stays for the next try.
    if let Some(text) = &new.sheet {
        check_sheet(&app, text).await?;
    }
    let parse = |text: &str| {
        Published::parse(text)
            .map_err(|e| ApiError::invalid("bad-checksum", format!("the published checksum: {e}")))
    };
    if let Some(text) = &new.sha256 {
        parse(text)?;
    }
    let whence = app.whence(&new).await?;
    let sheet = match new.sheet.as_ref().or(whence.sheet.as_ref()) {
        Some(text) => Some((check_sheet(&app, text).await?, text.clone())),
        None => None,
    };
    let called = match &sheet {
        Some(_) => Named::default(),
        None => named(&new, &whence.file_name)?,
    };
    let subject = match &sheet {
        Some((sheet, _)) => sheet.name(),
        None => {
            check_boards(&app, &called.boards).await?;
            // The sheet that will be made must be one; boards are known only later.
            let text = Sheet::minimal(
                &called.appliance,
                called.variant.as_deref(),
                &called.version,
                &["any".to_owned()],
                "",
            );
            let name = parse_sheet(&text).await?.name();
            check_new(&app, &name).await?;
            name
        }
    };
    let expected = match new.sha256.as_ref().or(whence.sha256.as_ref()) {
        Some(text) => Some(Expected {
            published: parse(text)?,
        }),
        None => None,
    };
    let order = ImportOrder {
        place: whence.place,
        way: whence.way,
        from: whence.from,
        file_name: whence.file_name,
        sheet,
        named: called,
        expected,
        member: new.member.or(whence.member),
        keep_file: new.keep_file,
        draft: new.draft,
        feed: whence.feed,
    };
    let job = NewJob {
        kind: "import",
        subject,
        at: None,
        card: None,
        operator,
        request_key,
    };
    let (store, rules) = (app.store.clone(), app.rules);
    let job = app
        .jobs
        .start(job, None, move |work| import(work, &store, rules, &order))
        .await?;
    Ok((StatusCode::ACCEPTED, Json(job)))
}

/// Gives a release another sheet text; former ones stay.
#[utoipa::path(put, path = "/api/v1/releases/{name}/sheet", request_body = api::NewSheet,
    responses((status = 200, body = api::ReleaseDetail)))]
async fn revise(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(new): Given<api::NewSheet>,
) -> Result<Json<api::ReleaseDetail>, ApiError> {
    let release = app.records.release(&name).await?;
    let sheet = parse_sheet(&new.sheet).await?;
    if sheet.name() != release.name {
        let detail = format!(
            "this sheet is that of {}; a sheet of {} keeps its appliance, variant and version",
            sheet.name(),
            release.name
        );
        return Err(ApiError::conflict("other-release", detail));
    }
    check_boards(&app, &sheet.boards).await?;
    if new.sheet == release.sheet {
        return Ok(Json(app.catalogue.detail(&release.name).await?));
    }
    let row = NewSheet {
        smallest_card: release.computed_card.max(declared_card(&sheet) as i64),
        dated: sheet.date,
        boards: sheet.boards,
        sheet: new.sheet,
    };
    let revision = app
        .records
        .revise_sheet(release.id, &row, &operator)
        .await?;
    let summary = format!(
        "The sheet of {} was revised; this is text {revision}",
        release.name
    );
    app.events
        .note(&operator, "release.revised", &release.name, &summary)
        .await?;
    Ok(Json(app.catalogue.detail(&release.name).await?))
}

/// Puts a release into another state.
#[utoipa::path(put, path = "/api/v1/releases/{name}/state", request_body = api::NewState,
    responses((status = 200, body = api::ReleaseDetail)))]
async fn set_state(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(new): Given<api::NewState>,
) -> Result<Json<api::ReleaseDetail>, ApiError> {
    let release = app.records.release(&name).await?;
    if !matches!(new.state.as_str(), "draft" | "released" | "withdrawn") {
        let detail = format!(
            "{:?} is no state of a release; those are draft, released, withdrawn",
            new.state
        );
        return Err(ApiError::invalid("bad-state", detail));
    }
    let reason = new.reason.trim();
    if new.state == "withdrawn" && reason.is_empty() {
        let detail = format!(
            "say why {} is withdrawn: whoever meets a card with it will want to know",
            release.name
        );
        return Err(ApiError::invalid("no-reason", detail));
    }
    let serious = shown::inspection_of(&release)
        .findings
        .into_iter()
        .find(|finding| finding.severity == "serious");
    if new.state == "released"
        && reason.is_empty()
        && let Some(finding) = serious
    {
        let detail = format!(
            "{} has a serious finding: {} Say why it is released all the same",
            release.name, finding.text
        );
        return Err(ApiError::invalid("no-reason", detail));
    }
    if new.state != release.state {
        app.records
            .set_release_state(release.id, &new.state, reason, &operator)
            .await?;
        let why = if reason.is_empty() {
            String::new()
        } else {
            format!(": {reason}")
        };
        let summary = format!("{} is {} now{why}", release.name, new.state);
        app.events
            .note(&operator, "release.state", &release.name, &summary)
            .await?;
    }
    Ok(Json(app.catalogue.detail(&release.name).await?))
}

/// Makes a release the current one on board models.
#[utoipa::path(put, path = "/api/v1/releases/{name}/current", request_body = api::NewCurrent,
    responses((status = 200, body = api::ReleaseDetail)))]
async fn make_current(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(new): Given<api::NewCurrent>,
) -> Result<Json<api::ReleaseDetail>, ApiError> {
    let release = app.records.release(&name).await?;
    if release.state != "released" {
        let detail = format!(
            "{} is {}; only a released one can be current",
            release.name, release.state
        );
        return Err(ApiError::conflict("not-released", detail));
    }
    let boards = match new.boards.is_empty() {
        true => release.boards.clone(),
        false => new.boards,
    };
    if let Some(board) = boards.iter().find(|board| !release.boards.contains(board)) {
        let detail = format!(
            "the sheet of {} names {}, not {board}; revise the sheet first if it suits that board too",
            release.name,
            release.boards.join(", ")
        );
        return Err(ApiError::conflict("wrong-board", detail));
    }
    for board in &boards {
        app.records.set_current(&release, board, &operator).await?;
    }
    let summary = format!("{} is current on {} now", release.name, boards.join(", "));
    app.events
        .note(&operator, "release.current", &release.name, &summary)
        .await?;
    Ok(Json(app.catalogue.detail(&release.name).await?))
}

/// Notes what was seen at the bench: whether a release boots on a board model.
#[utoipa::path(post, path = "/api/v1/releases/{name}/evidence", request_body = api::NewEvidence,
    responses((status = 201, body = api::ReleaseDetail)))]
async fn note_evidence(
    State(app): State<Arc<App>>,
    Operator(operator): Operator,
    Path(name): Path<String>,
    Given(new): Given<api::NewEvidence>,
) -> Result<(StatusCode, Json<api::ReleaseDetail>), ApiError> {
    let release = app.records.release(&name).await?;
    let note = new.note.trim();
    app.records
        .add_evidence(release.id, &new.board, new.boots, note, &operator)
        .await?;
    let words = if new.boots { "boots" } else { "did not boot" };
    let more = if note.is_empty() {
        String::new()
    } else {
        format!(": {note}")
    };
    let summary = format!("{} {words} on {}{more}", release.name, new.board);
    app.events
        .note(&operator, "release.evidence", &release.name, &summary)
        .await?;
    let detail = app.catalogue.detail(&release.name).await?;
    Ok((StatusCode::CREATED, Json(detail)))
}
