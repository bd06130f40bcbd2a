//! Settings in the console: a preset made and changed with a look at whom it touches, files side
//! by side, a card out of date, and its drift.

use anyhow::Result;
use testbed::{Browser, Testbed};

#[tokio::test(flavor = "multi_thread")]
async fn a_preset_is_made_and_reaches_a_card() -> Result<()> {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.done(&[
        "device",
        "add",
        "tide-bench",
        "--board",
        "plover",
        "--appliance",
        "tidegauge",
        "--site",
        "workshop",
    ]);
    bed.done(&["device", "set", "tide-bench", "host_name=tide-bench"]);
    bed.make_card("mica", "4GB", &[]);
    bed.put("mica", 1);
    let browser = Browser::start().await?;
    let window = &browser.window;

    // An empty page says what to do; the preset is made and gets its network.
    window.goto(&format!("{}/presets", bed.url())).await?;
    browser.see("No preset yet").await?;
    browser.press("Make a preset").await?;
    browser.fill("Name", "hall").await?;
    browser.choose("For", "workshop").await?;
    browser.press("Make").await?;
    browser.see("No device takes a value from it").await?;
    browser.choose("Another field", "networks").await?;
    browser.press("Add a network").await?;
    let input = |label: &str| format!("//input[@aria-label='{label}']");
    browser
        .find(&input("Name of the network"))
        .await?
        .send_keys("Saltmarsh-Workshop")
        .await?;
    let passphrase = browser.find(&input("Passphrase")).await?;
    passphrase.send_keys("short").await?;
    browser.press("Save").await?;
    browser.see("8 to 63").await?;
    browser.press("remove").await?;
    browser.press("Add a network").await?;
    browser
        .find(&input("Name of the network"))
        .await?
        .send_keys("Saltmarsh-Workshop")
        .await?;
    browser
        .find(&input("Passphrase"))
        .await?
        .send_keys("plane the long edge")
        .await?;
    // First whom it touches, then the change.
    browser.press("Save").await?;
    browser.see("What the change touches").await?;
    browser.find("//td/a[.='tide-bench']").await?;
    browser.press("Change it").await?;
    browser.see("Devices that take values from it").await?;
    browser.find("//input[@placeholder='kept sealed']").await?;

    // The device says where its value comes from, and shows its files beside the release's own.
    window
        .goto(&format!("{}/devices/tide-bench", bed.url()))
        .await?;
    browser.see("from preset hall; kept sealed").await?;
    browser.press("Show what would land").await?;
    browser
        .see("/etc/wpa_supplicant/wpa_supplicant-wlan0.conf")
        .await?;
    browser.see("psk=••••••••").await?;
    browser.find("//td[contains(., '+ tide-bench')]").await?;
    browser.fill("Wired address", "192.0.2.0/24").await?;
    browser.press("Save").await?;
    browser.see("is the network itself").await?;
    browser.fill("Wired address", "192.0.2.9/24").await?;
    browser.press("Save").await?;
    browser.see("Saved.").await?;
    let text = browser.text().await?;
    assert!(!text.contains("plane the long edge"), "{text}");

    // A card is made; then the settings change, and the device says so.
    let plan = bed.json(&["write", "tide-bench", "--slot", "1", "--plan"]);
    bed.done(&[
        "write",
        "tide-bench",
        "--slot",
        "1",
        "--yes",
        plan["card"].as_str().unwrap(),
    ]);
    bed.done(&["device", "set", "tide-bench", "address=192.0.2.10/24"]);
    window
        .goto(&format!("{}/devices/tide-bench", bed.url()))
        .await?;
    browser.see("settings changed").await?;
    browser.see("192.0.2.10/24 now").await?;
    browser.press("Change").await?;
    browser
        .fill("Attached hardware", "level probe; lamp")
        .await?;
    browser.press_in("//section[h2='About it']", "Save").await?;
    browser.see("level probe; lamp").await?;
    browser.fill("What it is", "account").await?;
    browser
        .fill("Content", "bench@levels.saltmarsh.example")
        .await?;
    browser.press("Keep").await?;
    browser.press("Show").await?;
    browser.see("bench@levels.saltmarsh.example").await?;

    // The bench compares the card with what was written onto it.
    bed.standin(&["pull", "--slot", "1"]);
    let at = format!("{}?offset={}", bed.card_file("mica").display(), 52 << 20);
    let done = std::process::Command::new("debugfs")
        .env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin")
        .args(["-w", "-R", "rm /etc/hosts", &at])
        .output()?;
    assert!(done.status.success(), "{done:?}");
    bed.put("mica", 1);
    window.goto(&bed.url()).await?;
    browser.press("Compare").await?;
    browser.see("0 files new, 1 gone, 0 changed").await?;

    // Whose cards carry which network.
    window.goto(&format!("{}/presets", bed.url())).await?;
    browser
        .find("//tr[td[.='Saltmarsh-Workshop']]/td[3][.='tide-bench']")
        .await?;
    Ok(())
}
