//! The catalogue in headless Chromium: adding by drop, what is found, states, what is current,
//! notes from the bench, files, comparing two releases, news from a publisher.

use anyhow::Result;
use testbed::{Browser, Publisher, Testbed, demo_image, demo_sheet, workspace};

#[tokio::test(flavor = "multi_thread")]
async fn the_catalogue_answers_in_the_console() -> Result<()> {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    let publisher = Publisher::start(&workspace().join("demo/images/publisher"));
    let browser = Browser::start().await?;
    let window = &browser.window;

    // An image dropped on the page, with its sheet, is uploaded and imported before one's eyes. The
    // page makes both files itself, out of what the service exports.
    window.goto(&format!("{}/catalogue", bed.url())).await?;
    browser.press("Add a release").await?;
    browser.see("Drop the image here").await?;
    let sheet = std::fs::read_to_string(demo_sheet("quaylink-2.3.toml"))?;
    window
        .execute(
            "const [sheet] = arguments;
             return fetch('/api/v1/releases/quaylink%202.4/image').then((r) => r.blob()).then((image) => {
                 const files = new DataTransfer();
                 files.items.add(new File([image.slice(0, 209715200)], 'dropped.img'));
                 files.items.add(new File([sheet], 'dropped.toml'));
                 const event = new DragEvent('drop', { bubbles: true, cancelable: true, dataTransfer: files });
                 document.querySelector('[data-drop]').dispatchEvent(event);
             });",
            vec![sheet.into()],
        )
        .await?;
    browser.see("dropped.img, 209.7 MB").await?;
    browser.see(", with dropped.toml").await?;
    browser.press("Add").await?;
    browser.find("//*[@role='progressbar']").await?;
    browser.see("Its content is that of quaylink 2.4").await?;
    browser
        .find("//section[@aria-label='quaylink']//td/a[contains(., 'quaylink 2.3')]")
        .await?;

    // A file of the service's folder, wrong checksum first: refused with the reason.
    std::fs::copy(
        demo_image("tidegauge-1.6.img.bz2"),
        bed.import_dir().join("tidegauge-1.6.img.bz2"),
    )?;
    std::fs::copy(
        demo_sheet("tidegauge-1.6.toml"),
        bed.import_dir().join("tidegauge-1.6.toml"),
    )?;
    window.refresh().await?;
    browser.press("Add a release").await?;
    browser
        .choose("import folder", "tidegauge-1.6.img.bz2")
        .await?;
    browser
        .fill("SHA-256 as published", &"7".repeat(64))
        .await?;
    browser.press("Add").await?;
    browser.see("is not what was published").await?;
    browser.fill("SHA-256 as published", " ").await?;
    browser.press("Add").await?;
    browser
        .find("//section[@aria-label='tidegauge']//td/a[contains(., 'tidegauge 1.6')]")
        .await?
        .click()
        .await?;

    // The release: what was found, its files, its states.
    browser
        .see("The root file system is enlarged by /etc/init.d/use-whole-card")
        .await?;
    browser.press("etc/").await?;
    browser
        .find("//a[contains(@href, 'appliance-version')]")
        .await?;
    browser
        .press("Make it current on plover-field, plover")
        .await?;
    browser.see("current on").await?;
    let reason = browser
        .find("//input[@aria-label='Reason to withdraw it']")
        .await?;
    reason.send_keys("loses its clock").await?;
    browser.press("Withdraw").await?;
    browser
        .see("Withdrawn by operator: loses its clock")
        .await?;
    browser.see("current nowhere").await?;
    // The sheet gets another text; one that is none is refused with its line.
    browser.press("Revise").await?;
    let text = browser.find("//textarea").await?;
    text.send_keys("nots = 1\n").await?;
    browser.press("Save as a new text").await?;
    browser.see("release sheet, line").await?;
    browser.press("Leave it").await?;

    // What is noted at the bench decides what a device can get.
    window
        .goto(&format!("{}/catalogue/quaylink%202.3", bed.url()))
        .await?;
    browser
        .find("//select[@aria-label='Board model']/option[text()='curlew']")
        .await?
        .click()
        .await?;
    browser
        .find("//input[@aria-label='Note']")
        .await?
        .send_keys("two long lamps")
        .await?;
    browser.press("It does not boot").await?;
    browser.see("did not boot").await?;
    window
        .goto(&format!("{}/devices/quay-01", bed.url()))
        .await?;
    browser.see("two long lamps").await?;
    browser.press("Stay with it").await?;
    browser.see("It stays with quaylink 2.4").await?;
    assert_eq!(
        bed.json(&["device", "outdated", "--up-to-date-too"])["items"][0]["pinned"],
        "quaylink 2.4"
    );

    // News from a publisher, fetched with one press.
    window.goto(&format!("{}/catalogue", bed.url())).await?;
    browser.fill("Short name", "commons").await?;
    browser
        .fill("Address of the feed", &publisher.url("feed.json"))
        .await?;
    browser.press("Follow").await?;
    browser.see("For boards of 64 bits").await?;
    browser
        .press_in(
            "//tr[contains(., 'quaylink')][contains(., '2.5')]",
            "Fetch and add",
        )
        .await?;
    browser
        .find("//section[@aria-label='quaylink']//td/a[contains(., 'quaylink 2.5')]")
        .await?;

    // What changed between two.
    browser
        .follow_in("//section[@aria-label='quaylink']", "Compare two")
        .await?;
    browser.see("driver-2.5.bin").await?;
    browser.see("For boards of 64 bits").await?;
    Ok(())
}
