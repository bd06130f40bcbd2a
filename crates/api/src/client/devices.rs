//! Devices, and what counts on them: boards, sites, presets.

use reqwest::Method;

use super::{Answer, Client, part};
use crate::{
    BoardModel, CarriedNetwork, Device, DeviceChange, DeviceDetail, DeviceQuery, DeviceTableReport,
    FactValue, Health, NameQuery, NewDevice, NewPreset, Page, Paging, Preset, PresetChange,
    PresetDetail, Preview, SettingsChange, Site, SiteChange, Touched,
};

impl Client {
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
    pub async fn devices(&self, wanted: &DeviceQuery, page: &Paging) -> Answer<Page<Device>> {
        self.get_page("devices", wanted, page).await
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
        self.get_text("device-table").await
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
    pub async fn presets(&self, wanted: &NameQuery, page: &Paging) -> Answer<Page<Preset>> {
        self.get_page("presets", wanted, page).await
    }

    /// One page of the devices that a preset touches.
    pub async fn touched(
        &self,
        preset: &str,
        wanted: &NameQuery,
        page: &Paging,
    ) -> Answer<Page<Touched>> {
        self.get_page(&format!("presets/{}/touches", part(preset)), wanted, page)
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
}
