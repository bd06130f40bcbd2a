//! Notices.

use reqwest::Method;

use super::{Answer, Client, part};
use crate::{Matter, NewNoticeWay, Notice, NoticeWay};

impl Client {
    /// The kinds of matters that are told.
    pub async fn notice_matters(&self) -> Answer<Vec<Matter>> {
        self.get("notice-matters").await
    }

    /// The ways in which somebody is told.
    pub async fn notice_ways(&self) -> Answer<Vec<NoticeWay>> {
        self.get("notice-ways").await
    }

    /// Adds one.
    pub async fn add_notice_way(&self, new: &NewNoticeWay) -> Answer<Vec<NoticeWay>> {
        self.give(Method::POST, "notice-ways", new).await
    }

    /// Removes one.
    pub async fn remove_notice_way(&self, name: &str) -> Answer<()> {
        self.take_away(&format!("notice-ways/{}", part(name))).await
    }

    /// Tells something by one at once, to see whether it arrives.
    pub async fn try_notice_way(&self, name: &str) -> Answer<()> {
        let path = format!("notice-ways/{}/try", part(name));
        let request = self
            .request(Method::POST, &path)
            .json(&serde_json::json!({}));
        self.send(request).await.map(drop)
    }

    /// What was told lately, or is to be.
    pub async fn notices(&self) -> Answer<Vec<Notice>> {
        self.get("notices").await
    }
}
