//! The typed client.

use std::time::Duration;

use reqwest::{Method, RequestBuilder, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::{
    Backup, BackupQuery, Bench, BoardModel, Card, CardChange, CardDetail, CardPlan, CardQuery,
    CarriedNetwork, Carrier, Choice, Comparison, Confirmation, Device, DeviceChange, DeviceDetail,
    DeviceQuery, DeviceTableReport, FactValue, Fault, Feed, FileNode, Folder, Following, Health,
    Job, Jobs, Line, NewBackup, NewCardPlan, NewComparison, NewCurrent, NewDevice, NewDrift,
    NewEvidence, NewFault, NewFeed, NewOutage, NewPlan, NewPreset, NewRelease, NewSheet, NewState,
    NewUpload, OPERATOR, Outage, OutageEnd, PART, Page, PageQuery, Plan, Preset, PresetChange,
    PresetDetail, Preview, Problem, REQUEST_KEY, Release, ReleaseDetail, SettingsChange, Site,
    SiteChange, Slot, SlotBinding, Sticker, Touched, Upload,
};

/// Why a call failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    /// The service refused.
    #[error("{}", .0.detail)]
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

/// A client of one service, acting as one operator.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    base: String,
    operator: String,
    /// Whether answers are shown to people, so that foreign text must not reach a terminal as it is.
    for_people: bool,
}

/// Puts a sign in place of characters that would steer a terminal: names, findings and logs are
/// foreign text.
fn calm(value: &mut serde_json::Value) {
    match value {
        serde_json::Value::String(text) => {
            let wild = |c: char| c.is_control() && !matches!(c, '\n' | '\t');
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
        // The HTTP library wants to know whose cryptography to use, also where none is used; only
        // the first call counts.
        let _ = rustls::crypto::ring::default_provider().install_default();
        Self {
            http: reqwest::Client::new(),
            base: address.trim_end_matches('/').into(),
            operator: part(operator),
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

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.http
            .request(method, format!("{}/api/v1/{path}", self.base))
            .header(OPERATOR, &self.operator)
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

    async fn get<T: DeserializeOwned>(&self, path: &str) -> Answer<T> {
        let response = self.send(self.request(Method::GET, path)).await?;
        self.read(response).await
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

    /// Whether the service is ready.
    pub async fn health(&self) -> Answer<Health> {
        self.get("health").await
    }

    /// Board models.
    pub async fn boards(&self) -> Answer<Vec<BoardModel>> {
        self.get("boards").await
    }

    /// Adds or changes a board model.
    pub async fn put_board(&self, board: &BoardModel) -> Answer<BoardModel> {
        self.give(Method::PUT, &format!("boards/{}", part(&board.name)), board)
            .await
    }

    /// Sites.
    pub async fn sites(&self) -> Answer<Vec<Site>> {
        self.get("sites").await
    }

    /// Adds or changes a site.
    pub async fn put_site(&self, site: &Site) -> Answer<Site> {
        self.give(Method::PUT, &format!("sites/{}", part(&site.name)), site)
            .await
    }

    /// Gives a site another name; devices and presets go along.
    pub async fn rename_site(&self, name: &str, change: &SiteChange) -> Answer<Site> {
        self.give(Method::PATCH, &format!("sites/{}", part(name)), change)
            .await
    }

    /// Devices.
    pub async fn devices(&self, wanted: &DeviceQuery) -> Answer<Page<Device>> {
        self.get_with("devices", wanted).await
    }

    /// One device.
    pub async fn device(&self, name: &str) -> Answer<DeviceDetail> {
        self.get(&format!("devices/{}", part(name))).await
    }

    /// Takes a device away for which nothing was ever written.
    pub async fn remove_device(&self, name: &str) -> Answer<()> {
        self.take_away(&format!("devices/{}", part(name))).await
    }

    /// Registers a device.
    pub async fn add_device(&self, device: &NewDevice) -> Answer<DeviceDetail> {
        self.give(Method::POST, "devices", device).await
    }

    /// Changes settings of a device, all or none.
    pub async fn change_settings(
        &self,
        device: &str,
        change: &SettingsChange,
    ) -> Answer<DeviceDetail> {
        self.give(
            Method::PATCH,
            &format!("devices/{}/settings", part(device)),
            change,
        )
        .await
    }

    /// Changes what is told about a device.
    pub async fn describe_device(
        &self,
        device: &str,
        change: &DeviceChange,
    ) -> Answer<DeviceDetail> {
        self.give(Method::PATCH, &format!("devices/{}", part(device)), change)
            .await
    }

    /// The files of a device as they would land on its card.
    pub async fn preview(&self, device: &str, release: Option<&str>) -> Answer<Preview> {
        let taken = release.map_or(String::new(), |name| format!("?release={}", part(name)));
        self.get(&format!("devices/{}/preview{taken}", part(device)))
            .await
    }

    /// The content of a sealed fact.
    pub async fn fact(&self, device: &str, fact: &str) -> Answer<FactValue> {
        self.get(&format!("devices/{}/facts/{}", part(device), part(fact)))
            .await
    }

    /// Keeps a sealed fact, or takes it away.
    pub async fn put_fact(
        &self,
        device: &str,
        fact: &str,
        value: &FactValue,
    ) -> Answer<DeviceDetail> {
        let path = format!("devices/{}/facts/{}", part(device), part(fact));
        self.give(Method::PUT, &path, value).await
    }

    /// The table of all devices, as CSV.
    pub async fn device_table(&self) -> Answer<String> {
        let response = self.send(self.request(Method::GET, "device-table")).await?;
        response.text().await.map_err(|e| ClientError::Answer {
            address: self.base.clone(),
            why: e.to_string(),
        })
    }

    /// Takes a table of devices over, or with `dry_run` only says what is wrong with it.
    pub async fn put_device_table(&self, csv: String, dry_run: bool) -> Answer<DeviceTableReport> {
        let path = format!("device-table?dry_run={dry_run}");
        let request = self.request(Method::POST, &path);
        let request = request.header("content-type", "text/csv").body(csv);
        let response = self.send(request).await?;
        self.read(response).await
    }

    /// Presets.
    pub async fn presets(&self, wanted: &PageQuery) -> Answer<Page<Preset>> {
        self.get_with("presets", wanted).await
    }

    /// One page of the devices that a preset touches.
    pub async fn touched(&self, preset: &str, wanted: &PageQuery) -> Answer<Page<Touched>> {
        self.get_with(&format!("presets/{}/touches", part(preset)), wanted)
            .await
    }

    /// Gives a preset another name or title.
    pub async fn rename_preset(&self, name: &str, change: &PresetChange) -> Answer<PresetDetail> {
        self.give(Method::PATCH, &format!("presets/{}", part(name)), change)
            .await
    }

    /// One preset.
    pub async fn preset(&self, name: &str) -> Answer<PresetDetail> {
        self.get(&format!("presets/{}", part(name))).await
    }

    /// Makes a preset.
    pub async fn add_preset(&self, preset: &NewPreset) -> Answer<PresetDetail> {
        self.give(Method::POST, "presets", preset).await
    }

    /// Takes a preset away.
    pub async fn remove_preset(&self, name: &str) -> Answer<()> {
        self.take_away(&format!("presets/{}", part(name))).await
    }

    /// Changes values of a preset, all or none; with `dry_run` only says what that touches.
    pub async fn change_preset(
        &self,
        name: &str,
        change: &SettingsChange,
        dry_run: bool,
    ) -> Answer<PresetDetail> {
        let path = format!("presets/{}/settings?dry_run={dry_run}", part(name));
        self.give(Method::PATCH, &path, change).await
    }

    /// Wi-Fi networks, whose cards carry them and on whom they are set.
    pub async fn networks(&self) -> Answer<Vec<CarriedNetwork>> {
        self.get("networks").await
    }

    /// Releases, newest first.
    pub async fn releases(&self) -> Answer<Vec<Release>> {
        self.get("releases").await
    }

    /// One release.
    pub async fn release(&self, name: &str) -> Answer<ReleaseDetail> {
        self.get(&format!("releases/{}", part(name))).await
    }

    /// The catalogue by appliance and variant.
    pub async fn catalogue(&self) -> Answer<Vec<Line>> {
        self.get("catalogue").await
    }

    /// The releases that a device could get, with reasons.
    pub async fn choices(&self, device: &str) -> Answer<Vec<Choice>> {
        self.get(&format!("devices/{}/choices", part(device))).await
    }

    /// Lets a device follow what is current, or stay with a release.
    pub async fn follow_release(&self, device: &str, following: &Following) -> Answer<Device> {
        let path = format!("devices/{}/following", part(device));
        self.give(Method::PUT, &path, following).await
    }

    /// Starts to compare two releases.
    pub async fn start_comparison(&self, a: &str, b: &str) -> Answer<Job> {
        let (a, b) = (a.to_owned(), b.to_owned());
        self.start("comparison", None, &NewComparison { a, b })
            .await
    }

    /// What changed between two releases, `None` if they were not compared yet.
    pub async fn comparison(&self, a: &str, b: &str) -> Answer<Option<Comparison>> {
        match self.known_comparison(a, b).await {
            Ok(found) => Ok(Some(found)),
            Err(ClientError::Refused(problem)) if problem.code == "not-compared" => Ok(None),
            Err(e) => Err(e),
        }
    }

    async fn known_comparison(&self, a: &str, b: &str) -> Answer<Comparison> {
        self.get(&format!("comparison?a={}&b={}", part(a), part(b)))
            .await
    }

    /// The import folder of the service.
    pub async fn folder(&self) -> Answer<Folder> {
        self.get("folder").await
    }

    async fn change_release<T: Serialize>(
        &self,
        method: Method,
        name: &str,
        what: &str,
        change: &T,
    ) -> Answer<ReleaseDetail> {
        let path = format!("releases/{}/{what}", part(name));
        self.give(method, &path, change).await
    }

    /// Takes a release away that nobody ever carried.
    pub async fn remove_release(&self, name: &str) -> Answer<()> {
        self.take_away(&format!("releases/{}", part(name))).await
    }

    /// One page of the cards that carry a release.
    pub async fn carriers(&self, name: &str, wanted: &PageQuery) -> Answer<Page<Carrier>> {
        self.get_with(&format!("releases/{}/carriers", part(name)), wanted)
            .await
    }

    /// Gives a release another sheet text.
    pub async fn revise_sheet(&self, name: &str, sheet: &NewSheet) -> Answer<ReleaseDetail> {
        self.change_release(Method::PUT, name, "sheet", sheet).await
    }

    /// Puts a release into another state.
    pub async fn set_state(&self, name: &str, state: &NewState) -> Answer<ReleaseDetail> {
        self.change_release(Method::PUT, name, "state", state).await
    }

    /// Makes a release the current one.
    pub async fn make_current(&self, name: &str, current: &NewCurrent) -> Answer<ReleaseDetail> {
        self.change_release(Method::PUT, name, "current", current)
            .await
    }

    /// Notes what was seen at the bench.
    pub async fn note_evidence(&self, name: &str, seen: &NewEvidence) -> Answer<ReleaseDetail> {
        self.change_release(Method::POST, name, "evidence", seen)
            .await
    }

    /// The names in a folder of a partition of a release.
    pub async fn release_folder(
        &self,
        name: &str,
        partition: u32,
        path: &str,
    ) -> Answer<Vec<FileNode>> {
        let (name, path) = (part(name), part(path));
        self.get(&format!(
            "releases/{name}/folder?partition={partition}&path={path}"
        ))
        .await
    }

    /// Gives the bytes of one file of a release to `take`; answers its length.
    pub async fn release_file(
        &self,
        name: &str,
        partition: u32,
        path: &str,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let (name, path) = (part(name), part(path));
        let path = format!("releases/{name}/file?partition={partition}&path={path}");
        self.download(&path, take).await
    }

    /// Gives the raw image of a release, or the packed file as it came, to `take`; answers how many
    /// bytes there were.
    pub async fn release_image(
        &self,
        name: &str,
        original: bool,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let what = if original { "original" } else { "image" };
        let path = format!("releases/{}/{what}", part(name));
        self.download(&path, take).await
    }

    async fn download(
        &self,
        path: &str,
        mut take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let mut response = self.send(self.request(Method::GET, path)).await?;
        let mut len = 0;
        loop {
            let piece = response.chunk().await.map_err(|e| ClientError::Answer {
                address: self.base.clone(),
                why: e.to_string(),
            })?;
            let Some(piece) = piece else {
                return Ok(len);
            };
            take(&piece)?;
            len += piece.len() as u64;
        }
    }

    /// Feeds with what is in them.
    pub async fn feeds(&self) -> Answer<Vec<Feed>> {
        self.get("feeds").await
    }

    /// Follows a feed.
    pub async fn put_feed(&self, name: &str, feed: &NewFeed) -> Answer<Feed> {
        self.give(Method::PUT, &format!("feeds/{}", part(name)), feed)
            .await
    }

    /// Gives a feed up.
    pub async fn remove_feed(&self, name: &str) -> Answer<Vec<Feed>> {
        let request = self.request(Method::DELETE, &format!("feeds/{}", part(name)));
        let response = self.send(request).await?;
        self.read(response).await
    }

    /// Looks at a feed now.
    pub async fn look_at_feed(&self, name: &str) -> Answer<Feed> {
        self.give(Method::POST, &format!("feeds/{}/look", part(name)), &())
            .await
    }

    /// Begins an upload.
    pub async fn begin_upload(&self, upload: &NewUpload) -> Answer<Upload> {
        self.give(Method::POST, "uploads", upload).await
    }

    /// How far an upload is.
    pub async fn upload(&self, id: &str) -> Answer<Upload> {
        self.get(&format!("uploads/{id}")).await
    }

    /// Sends the next part of an upload, at most [`PART`] bytes.
    pub async fn send_part(&self, id: &str, offset: u64, bytes: Vec<u8>) -> Answer<Upload> {
        debug_assert!(bytes.len() <= PART);
        let request = self
            .request(Method::PATCH, &format!("uploads/{id}"))
            .query(&[("offset", offset)])
            .body(bytes);
        let response = self.send(request).await?;
        self.read(response).await
    }

    /// Adds a release.
    pub async fn add_release(&self, release: &NewRelease, key: Option<&str>) -> Answer<Job> {
        self.start("releases", key, release).await
    }

    /// The slots of the bench.
    pub async fn slots(&self) -> Answer<Vec<Slot>> {
        self.get("slots").await
    }

    /// Lets go of the card in a slot where the bench's computer uses it.
    pub async fn release_slot(&self, slot: u32) -> Answer<Vec<Slot>> {
        self.give(Method::POST, &format!("slots/{slot}/release"), &())
            .await
    }

    /// Says which card it is that is in a slot and does not say it itself.
    pub async fn attach_label(&self, slot: u32, label: &str) -> Answer<Vec<Slot>> {
        let sticker = Sticker { card: label.into() };
        self.give(Method::PUT, &format!("slots/{slot}/label"), &sticker)
            .await
    }

    /// The disks of the bench's computer and which places are slots.
    pub async fn bench(&self) -> Answer<Bench> {
        self.get("bench").await
    }

    /// Says which places are slots, all of them.
    pub async fn bind_slots(&self, slots: &[SlotBinding]) -> Answer<Bench> {
        self.give(Method::PUT, "bench/slots", &slots).await
    }

    /// Makes a plan for work on a card itself.
    pub async fn card_plan(&self, plan: &NewCardPlan) -> Answer<CardPlan> {
        self.give(Method::POST, "card-plans", plan).await
    }

    /// Devices that are down.
    pub async fn outages(&self) -> Answer<Vec<Outage>> {
        self.get("outages").await
    }

    /// Says that the card of a device was taken out.
    pub async fn take_out(&self, outage: &NewOutage) -> Answer<Vec<Outage>> {
        self.give(Method::POST, "outages", outage).await
    }

    /// Says that a device works again.
    pub async fn bring_back(&self, end: &OutageEnd) -> Answer<Vec<Outage>> {
        self.give(Method::POST, "outages/end", end).await
    }

    /// Keeps what was seen of a card or device.
    pub async fn add_fault(&self, fault: &NewFault) -> Answer<Fault> {
        self.give(Method::POST, "faults", fault).await
    }

    /// Makes a plan.
    pub async fn plan(&self, plan: &NewPlan) -> Answer<Plan> {
        self.give(Method::POST, "plans", plan).await
    }

    /// Confirms a plan with the card's label; the work begins.
    pub async fn confirm(&self, plan: &str, card: &str, key: Option<&str>) -> Answer<Job> {
        let confirmation = Confirmation { card: card.into() };
        self.start(&format!("plans/{plan}/confirm"), key, &confirmation)
            .await
    }

    /// Takes a backup of the card in a slot.
    pub async fn take_backup(&self, slot: u32, key: Option<&str>) -> Answer<Job> {
        self.start("backups", key, &NewBackup { slot }).await
    }

    /// Compares the card in a slot with what was written onto it.
    pub async fn compare_card(&self, slot: u32, key: Option<&str>) -> Answer<Job> {
        self.start("drift", key, &NewDrift { slot }).await
    }

    /// Backups, newest first.
    pub async fn backups(&self, wanted: &BackupQuery) -> Answer<Page<Backup>> {
        self.get_with("backups", wanted).await
    }

    /// One backup.
    pub async fn backup(&self, name: &str) -> Answer<Backup> {
        self.get(&format!("backups/{}", part(name))).await
    }

    /// Keeps what people say of a card: notes, lost, retired, found.
    pub async fn tell_card(&self, label: &str, change: &CardChange) -> Answer<CardDetail> {
        self.give(Method::PATCH, &format!("cards/{}", part(label)), change)
            .await
    }

    /// Cards.
    pub async fn cards(&self, wanted: &CardQuery) -> Answer<Page<Card>> {
        self.get_with("cards", wanted).await
    }

    /// One card.
    pub async fn card(&self, label: &str) -> Answer<CardDetail> {
        self.get(&format!("cards/{}", part(label))).await
    }

    /// The newest jobs.
    pub async fn jobs(&self) -> Answer<Jobs> {
        self.get("jobs").await
    }

    /// One job.
    pub async fn job(&self, id: i64) -> Answer<Job> {
        self.get(&format!("jobs/{id}")).await
    }

    /// Says that somebody has seen how a job ended: its slot does not say so any more.
    pub async fn see_job(&self, id: i64) -> Answer<Job> {
        let path = format!("jobs/{id}/seen");
        self.give(Method::POST, &path, &serde_json::json!({})).await
    }

    /// Asks a job to stop at the next safe place.
    pub async fn cancel(&self, id: i64) -> Answer<Job> {
        self.give(
            Method::POST,
            &format!("jobs/{id}/cancel"),
            &serde_json::json!({}),
        )
        .await
    }

    /// Follows a job to its end, telling `see` how it stands four times a second.
    pub async fn follow(&self, id: i64, mut see: impl FnMut(&Job)) -> Answer<Job> {
        loop {
            let job = self.job(id).await?;
            see(&job);
            if job.is_over() {
                return Ok(job);
            }
            tokio::time::sleep(Duration::from_millis(250)).await;
        }
    }
}
