//! What becomes of cards in the field: arrivals, sightings, what needs a hand.

use reqwest::Method;

use super::{Answer, Client, ClientError, part};
use crate::{
    ArrivalChange, ArrivalDetail, ArrivalEnd, Arrivals, Attention, Export, ExportChange, FirstJoin,
    HandOver, Hello, NewArrival, NewSerial, Photo, SerialLog, SerialPort, StepChange, Watched,
};

impl Client {
    /// The arrivals that go on and a page of those that are over.
    pub async fn arrivals(&self, before: Option<i64>) -> Answer<Arrivals> {
        match before {
            Some(before) => self.get(&format!("arrivals?before={before}")).await,
            None => self.get("arrivals").await,
        }
    }

    /// Says that a card is in its device now.
    pub async fn expect(&self, new: &NewArrival) -> Answer<ArrivalDetail> {
        self.give(Method::POST, "arrivals", new).await
    }

    /// One arrival.
    pub async fn arrival(&self, id: i64) -> Answer<ArrivalDetail> {
        self.get(&format!("arrivals/{id}")).await
    }

    /// The newest arrival of a device.
    pub async fn arrival_of(&self, device: &str) -> Answer<ArrivalDetail> {
        self.get(&format!("devices/{}/arrival", part(device))).await
    }

    /// Says what somebody sees of a board that is waited for.
    pub async fn tell_arrival(&self, id: i64, change: &ArrivalChange) -> Answer<ArrivalDetail> {
        self.give(Method::PATCH, &format!("arrivals/{id}"), change)
            .await
    }

    /// Says that a step was done, or takes that back.
    pub async fn tell_step(
        &self,
        id: i64,
        place: i32,
        change: &StepChange,
    ) -> Answer<ArrivalDetail> {
        self.give(Method::PUT, &format!("arrivals/{id}/steps/{place}"), change)
            .await
    }

    /// Ends an arrival.
    pub async fn end_arrival(&self, id: i64, end: &ArrivalEnd) -> Answer<ArrivalDetail> {
        self.give(Method::POST, &format!("arrivals/{id}/end"), end)
            .await
    }

    /// What was seen of a device since it was accepted.
    pub async fn sighting(&self, device: &str) -> Answer<Watched> {
        self.get(&format!("devices/{}/sighting", part(device)))
            .await
    }

    /// How a board gets its settings on the network that it opens itself.
    pub async fn first_join(&self, arrival: i64) -> Answer<FirstJoin> {
        self.get(&format!("arrivals/{arrival}/first-join")).await
    }

    /// Hands a board its settings from the service's computer.
    pub async fn hand_over(&self, arrival: i64, given: &HandOver) -> Answer<ArrivalDetail> {
        self.give(
            Method::POST,
            &format!("arrivals/{arrival}/first-join"),
            given,
        )
        .await
    }

    /// The serial ports that may be listened at.
    pub async fn serial_ports(&self) -> Answer<Vec<SerialPort>> {
        self.get("serial-ports").await
    }

    /// What a board said on its serial line.
    pub async fn serial_log(&self, arrival: i64) -> Answer<SerialLog> {
        self.get(&format!("arrivals/{arrival}/serial")).await
    }

    /// Listens to a board on a serial line.
    pub async fn listen(&self, arrival: i64, new: &NewSerial) -> Answer<SerialLog> {
        self.give(Method::PUT, &format!("arrivals/{arrival}/serial"), new)
            .await
    }

    /// Listens no more.
    pub async fn hang_up(&self, arrival: i64) -> Answer<()> {
        self.take_away(&format!("arrivals/{arrival}/serial")).await
    }

    /// The settings that a device exported of itself.
    pub async fn exports(&self, device: &str) -> Answer<Vec<Export>> {
        self.get(&format!("devices/{}/exports", part(device))).await
    }

    /// Takes what a device exports of itself.
    pub async fn take_export(&self, device: &str) -> Answer<Export> {
        self.give(
            Method::POST,
            &format!("devices/{}/exports", part(device)),
            &(),
        )
        .await
    }

    /// What an export holds, secrets and all.
    pub async fn read_export(&self, device: &str, id: i64) -> Answer<String> {
        self.get_text(&format!("devices/{}/exports/{id}", part(device)))
            .await
    }

    /// Gives a device an export back.
    pub async fn give_export(&self, device: &str, id: i64) -> Answer<()> {
        let path = format!("devices/{}/exports/{id}/give", part(device));
        self.send(self.request(Method::POST, &path)).await?;
        Ok(())
    }

    /// What is another thing in an export than in the one before it, or in another one.
    pub async fn export_changes(
        &self,
        device: &str,
        id: i64,
        with: Option<i64>,
    ) -> Answer<Vec<ExportChange>> {
        let with = with.map_or(String::new(), |with| format!("?with={with}"));
        let path = format!("devices/{}/exports/{id}/changes{with}", part(device));
        self.get(&path).await
    }

    /// What there is to say of the picture of a device.
    pub async fn photo(&self, device: &str) -> Answer<Option<Photo>> {
        self.get(&format!("devices/{}/photo", part(device))).await
    }

    /// Keeps a picture of a device in place of the one before.
    pub async fn put_photo(&self, device: &str, bytes: Vec<u8>) -> Answer<()> {
        let path = format!("devices/{}/photo", part(device));
        let request = self.request(Method::PUT, &path);
        let request = request.header("content-type", "application/octet-stream");
        self.send(request.body(bytes)).await?;
        Ok(())
    }

    /// The picture of a device.
    pub async fn read_photo(&self, device: &str) -> Answer<Vec<u8>> {
        let path = format!("devices/{}/photo/content", part(device));
        let answer = self.send(self.request(Method::GET, &path)).await?;
        let bytes = answer.bytes().await.map_err(|e| ClientError::Answer {
            address: self.base.clone(),
            why: e.to_string(),
        })?;
        Ok(bytes.to_vec())
    }

    /// Takes the picture of a device away.
    pub async fn remove_photo(&self, device: &str) -> Answer<()> {
        self.take_away(&format!("devices/{}/photo", part(device)))
            .await
    }

    /// Says hello as a board does.
    pub async fn hello(&self, hello: &Hello) -> Answer<()> {
        self.send(self.request(Method::POST, "hello").json(hello))
            .await?;
        Ok(())
    }

    /// What needs a hand because of a device in the field.
    pub async fn attention(&self) -> Answer<Vec<Attention>> {
        self.get("attention").await
    }
}
