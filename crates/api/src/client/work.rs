//! What is done at the bench: slots, plans, rounds, cards, backups, jobs.

use std::time::{Duration, Instant};

use reqwest::Method;

use super::{Answer, Client, part};
use crate::{
    AtBench, Backup, BackupOutlook, BackupQuery, Bench, Card, CardChange, CardDetail, CardLot,
    CardPlan, CardQuery, Confirmation, Fault, FreedCard, Job, Jobs, NewBackup, NewCardPlan,
    NewDrift, NewFault, NewOutage, NewPlan, NewRound, Outage, OutageEnd, Page, Paging, Plan,
    RoundChange, RoundConfirmation, RoundDetail, RoundEntryChange, Rounds, Slot, SlotBinding,
    SlotName, Sticker,
};

impl Client {
    /// The slots of the bench.
    pub async fn slots(&self) -> Answer<Vec<Slot>> {
        self.get("slots").await
    }

    /// Lets go of the card in a slot where the bench's computer uses it.
    pub async fn release_slot(&self, slot: SlotName) -> Answer<Vec<Slot>> {
        self.give(
            Method::POST,
            &format!("slots/{}/release", part(&slot.typed())),
            &(),
        )
        .await
    }

    /// Says which card it is that is in a slot and does not say it itself; no label: one that has none yet.
    pub async fn attach_label(&self, slot: SlotName, sticker: &Sticker) -> Answer<Vec<Slot>> {
        self.give(
            Method::PUT,
            &format!("slots/{}/label", part(&slot.typed())),
            sticker,
        )
        .await
    }

    /// The disks of a bench's computer and which places are slots.
    pub async fn bench(&self, at: &AtBench) -> Answer<Bench> {
        self.get_with("bench", at).await
    }

    /// Says which places are slots, all of them.
    pub async fn bind_slots(&self, at: &AtBench, slots: &[SlotBinding]) -> Answer<Bench> {
        let request = self.request(Method::PUT, "bench/slots").query(at);
        self.read(self.send(request.json(&slots)).await?).await
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

    /// Confirms a plan with the card's label and the cautions that are accepted; the work begins.
    pub async fn confirm(
        &self,
        plan: &str,
        given: impl Into<Confirmation>,
        key: Option<&str>,
    ) -> Answer<Job> {
        self.start(&format!("plans/{plan}/confirm"), key, &given.into())
            .await
    }

    /// Plans a round.
    pub async fn plan_round(&self, round: &NewRound) -> Answer<RoundDetail> {
        self.give(Method::POST, "rounds", round).await
    }

    /// Rounds, newest first.
    pub async fn rounds(&self, before: Option<i64>) -> Answer<Rounds> {
        let query: Vec<_> = before.map(|id| ("before", id)).into_iter().collect();
        self.get_with("rounds", &query).await
    }

    /// One round.
    pub async fn round(&self, id: i64) -> Answer<RoundDetail> {
        self.get(&format!("rounds/{id}")).await
    }

    /// Confirms a round: cards are made in it from now on.
    pub async fn confirm_round(&self, id: i64, given: &RoundConfirmation) -> Answer<RoundDetail> {
        self.give(Method::POST, &format!("rounds/{id}/confirm"), given)
            .await
    }

    /// Pauses a round, lets it go on, accepts its first card, or ends it.
    pub async fn turn_round(&self, id: i64, turn: &str) -> Answer<RoundDetail> {
        let change = RoundChange { turn: turn.into() };
        self.give(Method::POST, &format!("rounds/{id}/turn"), &change)
            .await
    }

    /// Leaves one card of a round out (`skip`), or takes it in again (`again`).
    pub async fn turn_round_entry(&self, id: i64, place: i32, turn: &str) -> Answer<RoundDetail> {
        let change = RoundEntryChange { turn: turn.into() };
        let path = format!("rounds/{id}/entries/{place}/turn");
        self.give(Method::POST, &path, &change).await
    }

    /// Frees a card for a round although it is not blank; gives what would be lost with it.
    pub async fn free_for_round(&self, id: i64, card: &str) -> Answer<Vec<String>> {
        let freed = FreedCard { card: card.into() };
        self.give(Method::POST, &format!("rounds/{id}/cards"), &freed)
            .await
    }

    /// What came of a round, as comma-separated values.
    pub async fn round_report(&self, id: i64) -> Answer<String> {
        self.get_text(&format!("rounds/{id}/report")).await
    }

    /// Takes a backup of the card in a slot.
    pub async fn take_backup(&self, new: &NewBackup, key: Option<&str>) -> Answer<Job> {
        self.start("backups", key, new).await
    }

    /// What a backup of the card in a slot would come to.
    pub async fn backup_outlook(&self, slot: SlotName) -> Answer<BackupOutlook> {
        self.get(&format!("slots/{}/outlook", part(&slot.typed())))
            .await
    }

    /// Compares the card in a slot with what was written onto it.
    pub async fn compare_card(&self, slot: SlotName, key: Option<&str>) -> Answer<Job> {
        self.start("drift", key, &NewDrift { slot }).await
    }

    /// Backups, newest first.
    pub async fn backups(&self, wanted: &BackupQuery, page: &Paging) -> Answer<Page<Backup>> {
        self.get_page("backups", wanted, page).await
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
    pub async fn cards(&self, wanted: &CardQuery, page: &Paging) -> Answer<Page<Card>> {
        self.get_page("cards", wanted, page).await
    }

    /// How cards did by brand and batch.
    pub async fn card_lots(&self) -> Answer<Vec<CardLot>> {
        self.get("card-lots").await
    }

    /// One card.
    pub async fn card(&self, label: &str) -> Answer<CardDetail> {
        self.get(&format!("cards/{}", part(label))).await
    }

    /// Jobs, newest first; those before a number, to go on.
    pub async fn jobs(&self, before: Option<i64>) -> Answer<Jobs> {
        let query: Vec<_> = before.map(|id| ("before", id)).into_iter().collect();
        self.get_with("jobs", &query).await
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
        let mut away: Option<Instant> = None;
        loop {
            let job = match self.job(id).await {
                Ok(job) => job,
                // The job goes on while the records, or the way to the service, are away.
                Err(e)
                    if away.map_or(Duration::ZERO, |since| since.elapsed())
                        < e.may_pass_within() =>
                {
                    away.get_or_insert_with(Instant::now);
                    tokio::time::sleep(Duration::from_secs(1)).await;
                    continue;
                }
                Err(e) => return Err(e),
            };
            away = None;
            see(&job);
            if job.is_over() {
                return Ok(job);
            }
            tokio::time::sleep(Duration::from_millis(250)).await;
        }
    }
}
