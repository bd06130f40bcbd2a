//! The console in headless Chromium: the same story, from an empty catalogue to a verified card.

use anyhow::Result;
use testbed::{Browser, Testbed, demo_image, demo_sheet, path};

const SLOT_1: &str = "//section[@aria-label='Slot 1']";
const SLOT_2: &str = "//section[@aria-label='Slot 2']";

#[tokio::test(flavor = "multi_thread")]
async fn a_card_is_planned_confirmed_and_watched() -> Result<()> {
    let bed = Testbed::start();
    for (name, architecture) in [("plover", "arm64"), ("curlew", "armhf")] {
        bed.done(&[
            "board",
            "add",
            name,
            "--title",
            name,
            "--architecture",
            architecture,
        ]);
    }
    bed.done(&["site", "add", "quay", "--title", "Along the quay"]);
    bed.standin(&["air", path(&testbed::workspace().join("demo/air.json"))]);
    bed.make_card("mica", "3965190144", &["--rate", "80MB"]);
    bed.make_card("flint", "3980394496", &[]);

    let browser = Browser::start().await?;
    let window = &browser.window;

    // Catalogue: an empty page says what to do; the release is added from its files.
    window.goto(&format!("{}/catalogue", bed.url())).await?;
    browser.see("No release yet").await?;
    browser.press("Add a release").await?;
    for (name, file) in [
        ("image", demo_image("quaylink-2.4.img.xz")),
        ("sheet", demo_sheet("quaylink-2.4.toml")),
    ] {
        browser.choose_file(name, &file).await?;
    }
    browser.press("Add").await?;
    browser.see("is in the catalogue").await?;
    browser
        .find("//td/a[contains(., 'quaylink 2.4')]")
        .await?
        .click()
        .await?;
    browser.see("packed SHA-256").await?;
    browser.see("ext4").await?;

    // Devices: registered and set; the secret is typed and not shown again.
    window.goto(&format!("{}/devices", bed.url())).await?;
    browser.press("Register a device").await?;
    browser.fill("Name", "quay-01").await?;
    browser.choose("Board model", "curlew").await?;
    browser.choose("Appliance", "quaylink").await?;
    browser.choose("Site", "quay").await?;
    browser
        .find("//form//button[@type='submit']")
        .await?
        .click()
        .await?;
    browser
        .find("//td/a[contains(., 'quay-01')]")
        .await?
        .click()
        .await?;
    browser.see("Host name: must be set").await?;
    browser.fill("Host name", "quay-01").await?;
    browser.fill("Wi-Fi network", "Saltmarsh-Quay").await?;
    browser.fill("Wi-Fi passphrase", "short").await?;
    browser.press("Save").await?;
    browser
        .see("has 5 characters; a passphrase has 8 to 63")
        .await?;
    browser
        .fill("Wi-Fi passphrase", "ebb and flow 1907")
        .await?;
    browser.press("Save").await?;
    browser.see("Saved.").await?;
    assert!(
        !window.source().await?.contains("ebb and flow"),
        "a saved secret is not on the page"
    );

    // Bench: a card that is put in appears by itself.
    window.goto(&bed.url()).await?;
    browser
        .find(&format!("{SLOT_1}//*[text()='empty']"))
        .await?;
    bed.put("mica", 1);
    browser
        .find(&format!("{SLOT_1}//*[contains(text(), '3.97 GB')]"))
        .await?;
    browser.press_in(SLOT_1, "Write…").await?;
    browser.find_out("Device", "quay-01").await?;
    browser.press("Show the plan").await?;
    browser.see("Nothing is lost.").await?;
    browser.find("//pre[contains(., 'Saltmarsh-Quay')]").await?;

    // A wrong label is refused and voids the plan.
    browser.fill("sticker", "C-0042").await?;
    browser.press("Overwrite this card").await?;
    browser.see("nothing was touched").await?;
    browser.press("Show the plan").await?;
    browser.fill("sticker", "C-0001").await?;
    browser.press("Overwrite this card").await?;
    browser
        .find("//*[@role='dialog']//*[@role='progressbar'][number(@aria-valuenow) > 0]")
        .await?;
    browser
        .find("//*[@role='dialog']//*[contains(text(), '/s')]")
        .await?;
    browser
        .find("//*[@role='dialog']//*[text()[contains(., 'is safe to pull')]]")
        .await?;
    browser.press("Close").await?;
    browser.find(&format!("{SLOT_1}//*[text()='ours']")).await?;
    browser
        .find(&format!("{SLOT_1}//*[text()='quay-01']"))
        .await?;
    let board = bed.boot("mica", "curlew");
    assert_eq!(board["joined"], "Saltmarsh-Quay", "{board}");

    // Backup from the slot, restore onto another card.
    bed.standin(&["halt", "mica"]);
    bed.put("mica", 1);
    bed.put("flint", 2);
    browser.press_in(SLOT_1, "Take a backup").await?;
    browser
        .find(&format!("{SLOT_1}//*[contains(., 'is in the vault')]"))
        .await?;
    let backup = bed.json(&["backup", "list"])["items"][0]["name"]
        .as_str()
        .unwrap_or_default()
        .to_owned();
    browser.press_in(SLOT_2, "Write…").await?;
    browser
        .find("//label[contains(., 'Restore a backup')]/input")
        .await?
        .click()
        .await?;
    browser.find_out("Backup", &backup).await?;
    browser.press("Show the plan").await?;
    browser.see("has card C-0001 already").await?;
    browser.fill("sticker", "C-0002").await?;
    browser.accept("second-card").await?;
    browser.press("Overwrite this card").await?;
    browser
        .find("//*[@role='dialog']//*[text()[contains(., 'is safe to pull')]]")
        .await?;
    assert_eq!(bed.boot("flint", "curlew")["host_name"], "quay-01");

    // A round of what a list shows: a blank card that goes into any slot is the next one's.
    window
        .goto(&format!("{}/devices?site=quay", bed.url()))
        .await?;
    browser
        .find("//a[.='Make a round of these']")
        .await?
        .click()
        .await?;
    browser.find("//textarea[contains(., 'quay-01')]").await?;
    browser.press("Show the plan").await?;
    browser.accept("second-card").await?;
    browser.fill("How many cards", "1").await?;
    browser.press("Begin the round").await?;
    browser.see("becomes the card of quay-01").await?;
    window.goto(&format!("{}/large", bed.url())).await?;
    bed.make_card("jade", "3965190144", &[]);
    bed.put("jade", 3);
    browser
        .find("//section[@aria-label='Slot 3'][contains(., 'quay-01')]")
        .await?;
    window.goto(&format!("{}/rounds/1", bed.url())).await?;
    browser.see("1 of 1 made").await?;
    assert_eq!(bed.boot("jade", "curlew")["host_name"], "quay-01");

    for (page, text) in [
        ("backups", backup.as_str()),
        ("cards/C-0001", "quaylink 2.4"),
        ("activity", "Restore of"),
    ] {
        window.goto(&format!("{}/{page}", bed.url())).await?;
        browser.see(text).await?;
    }
    let log = window
        .execute(
            "return performance.getEntriesByType('resource').map(e => e.name)",
            Vec::new(),
        )
        .await?;
    let foreign: Vec<_> = log
        .as_array()
        .into_iter()
        .flatten()
        .filter(|name| {
            let name = name.as_str().unwrap_or("");
            !name.starts_with(&bed.url()) && !name.starts_with("data:")
        })
        .collect();
    assert!(
        foreign.is_empty(),
        "nothing is loaded from elsewhere: {foreign:?}"
    );
    Ok(())
}
