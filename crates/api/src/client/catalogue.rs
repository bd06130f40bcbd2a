//! The catalogue: releases, feeds, uploads.

use reqwest::Method;
use serde::Serialize;

use super::{Answer, Client, ClientError, part};
use crate::{
    Carrier, Choice, Comparison, Device, Feed, FileComparison, FileNode, FileVersions, Folder,
    Following, Job, Line, NewComparison, NewCurrent, NewEvidence, NewFeed, NewRelease, NewSheet,
    NewState, NewUpload, PART, Page, Paging, Release, ReleaseDetail, Shared, SlotName, Upload,
};

/// A content that can be looked into and taken out.
#[derive(Clone, Copy, Debug)]
pub enum Content<'a> {
    /// Of a release, by its name.
    Release(&'a str),
    /// Of a backup, by its name.
    Backup(&'a str),
    /// Of the card in a slot, whose files can be looked at.
    Card(SlotName),
}

impl Content<'_> {
    fn path(self) -> String {
        match self {
            Self::Release(name) => format!("releases/{}", part(name)),
            Self::Backup(name) => format!("backups/{}", part(name)),
            Self::Card(slot) => format!("slots/{}", part(&slot.typed())),
        }
    }
}

impl Client {
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

    /// Starts to compare two releases or backups.
    pub async fn start_comparison(&self, a: &str, b: &str) -> Answer<Job> {
        let (a, b) = (a.to_owned(), b.to_owned());
        self.start("comparison", None, &NewComparison { a, b })
            .await
    }

    /// What two releases or backups differ in, `None` if they were not compared yet.
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
    pub async fn carriers(&self, name: &str, page: &Paging) -> Answer<Page<Carrier>> {
        self.get_with(&format!("releases/{}/carriers", part(name)), page)
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

    /// The names in a folder of a partition of a content.
    pub async fn folder_of(
        &self,
        of: Content<'_>,
        partition: u32,
        path: &str,
    ) -> Answer<Vec<FileNode>> {
        let (of, path) = (of.path(), part(path));
        self.get(&format!("{of}/folder?partition={partition}&path={path}"))
            .await
    }

    /// Gives the bytes of one file of a content to `take`; answers its length.
    pub async fn file_of(
        &self,
        of: Content<'_>,
        partition: u32,
        path: &str,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let (of, path) = (of.path(), part(path));
        let path = format!("{of}/file?partition={partition}&path={path}");
        self.download(&path, take).await
    }

    /// Gives the raw image of a content to `take`, packed as `gz`, `xz`, `zst`, `zip` or not; answers how many bytes there
    /// were.
    pub async fn image_of(
        &self,
        of: Content<'_>,
        pack: Option<&str>,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let pack = pack.map_or(String::new(), |pack| format!("?pack={pack}"));
        self.download(&format!("{}/image{pack}", of.path()), take)
            .await
    }

    /// Gives the files below a folder of a partition to `take` as a tar archive, packed or not; answers how many bytes
    /// there were.
    pub async fn archive_of(
        &self,
        of: Content<'_>,
        partition: u32,
        path: &str,
        pack: Option<&str>,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let pack = pack.map_or(String::new(), |pack| format!("&pack={pack}"));
        let (of, path) = (of.path(), part(path));
        let path = format!("{of}/archive?partition={partition}&path={path}{pack}");
        self.download(&path, take).await
    }

    /// What would be taken out of a backup before somebody else gets it.
    pub async fn sharing(&self, backup: &str) -> Answer<Shared> {
        self.get(&format!("backups/{}/sharing", part(backup))).await
    }

    /// Gives the image of a backup without the secrets and keys of its device to `take`; answers how many bytes there
    /// were.
    pub async fn shared_image(
        &self,
        backup: &str,
        pack: Option<&str>,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        let pack = pack.map_or(String::new(), |pack| format!("?pack={pack}"));
        let path = format!("backups/{}/sharing/image{pack}", part(backup));
        self.download(&path, take).await
    }

    /// The versions of a file in some backups of a device, newest first; `after` says where those before ended.
    pub async fn versions(
        &self,
        device: &str,
        partition: u32,
        path: &str,
        after: Option<&str>,
    ) -> Answer<FileVersions> {
        let (device, path) = (part(device), part(path));
        let after = after.map_or_else(String::new, |after| format!("&after={}", part(after)));
        self.get(&format!(
            "devices/{device}/versions?partition={partition}&path={path}{after}"
        ))
        .await
    }

    /// One file of two releases or backups, line by line.
    pub async fn compared_file(
        &self,
        a: &str,
        b: &str,
        partition: u32,
        path: &str,
    ) -> Answer<FileComparison> {
        let (a, b, path) = (part(a), part(b), part(path));
        self.get(&format!(
            "comparison/file?a={a}&b={b}&partition={partition}&path={path}"
        ))
        .await
    }

    /// Gives the packed file of a release as it came to `take`; answers how many bytes there were.
    pub async fn original(
        &self,
        name: &str,
        take: impl FnMut(&[u8]) -> std::io::Result<()>,
    ) -> Answer<u64> {
        self.download(&format!("releases/{}/original", part(name)), take)
            .await
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
}
