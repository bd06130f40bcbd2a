//! The console for a team with several computers: benches elsewhere, who is told, which services there are. What the pages
//! say is held against the command line's records, and what is sent against what arrives.

use std::path::Path;

use anyhow::Result;
use testbed::{Browser, FarBench, Services, Testbed};

use crate::benches::{CARD, until_seen};
use crate::notices::Told;
use crate::services::owner_code;

const PASSWORD: &str = "ebb and flow 1907";

/// Types into a field by its name, in place of what stands there.
async fn fill(browser: &Browser, name: &str, text: &str) -> Result<()> {
    let field = browser.find(&format!("//input[@name='{name}']")).await?;
    field.clear().await?;
    Ok(field.send_keys(text).await?)
}

/// Makes the first owner, who is signed in then.
async fn become_owner(browser: &Browser, bed: &Testbed, log: &Path) -> Result<()> {
    let code = owner_code(log);
    browser.window.goto(&format!("{}/team", bed.url())).await?;
    browser.see("Nobody belongs to the team yet").await?;
    fill(browser, "code", &code).await?;
    fill(browser, "name", "Maren").await?;
    fill(browser, "password", PASSWORD).await?;
    browser.press("Take it").await?;
    browser.see("Let somebody in").await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bench_elsewhere_is_worked_at_and_removed_in_the_console() -> Result<()> {
    let bed = Testbed::start();
    bed.load_catalogue();
    bed.add_device("quay-01");
    let loft = FarBench::start(&bed, "loft");
    loft.drawer.make_card("mica", CARD, &["--rate", "60MB"]);
    loft.drawer.put("mica", 1);
    until_seen(&bed, "loft:1", "blank");
    let browser = Browser::start().await?;
    browser.window.goto(&bed.url()).await?;
    let slot = "//section[@aria-label='Slot 1 of loft']";
    browser.press_in(slot, "Write…").await?;
    browser.find_out("Device", "quay-01").await?;
    browser.press("Show the plan").await?;
    browser.see("slot 1 of loft").await?;
    browser.fill("sticker", "C-0001").await?;
    browser.press("Overwrite this card").await?;
    browser.see("safe to pull").await?;
    let card = bed.json(&["card", "show", "C-0001"]);
    assert_eq!(card["imprints"][0]["slot"], "loft:1", "{card}");
    assert_eq!(card["imprints"][0]["state"], "verified", "{card}");

    become_owner(&browser, &bed, &bed.log()).await?;
    browser.window.goto(&bed.url()).await?;
    let summary = browser
        .find("//summary[normalize-space()='Benches on other computers']")
        .await?;
    summary.click().await?;
    let row = "//tr[td[text()='loft']]";
    browser
        .find(&format!("{row}[contains(., 'connected')]"))
        .await?;
    // A name that does not do is not sent, one that is taken is refused in words.
    fill(&browser, "name", "loft").await?;
    browser.press("Make a code for it").await?;
    browser
        .see("there is a bench of the name loft already")
        .await?;
    fill(&browser, "name", "attic").await?;
    browser.press("Make a code for it").await?;
    browser.see("duplicarium-bench enrol").await?;
    browser
        .find("//tr[td[text()='attic']][contains(., 'new')]")
        .await?;
    let shown = browser.text().await?;
    let code = shown.split("--code ").nth(1).expect("a code");
    let code = code.split_whitespace().next().expect("a code");
    let attic = bed.dir().join("attic");
    let enrol = std::process::Command::new(testbed::binary("duplicarium-bench"))
        .args([
            "--data-dir",
            testbed::path(&attic),
            "enrol",
            "--service",
            &bed.url(),
        ])
        .args(["--code", code])
        .status()?;
    assert!(enrol.success(), "the code that the page shows is good");
    browser
        .find("//tr[td[text()='attic']][contains(., 'away')]")
        .await?;
    // Removed on the second press only.
    browser.press_in(row, "Remove…").await?;
    let there = bed.sql("select count(*) from benches where name = 'loft' and removed_at is null");
    assert_eq!(there.trim(), "1");
    browser.press_in(row, "Remove loft for good").await?;
    browser
        .find("//body[not(.//section[@aria-label='Slot 1 of loft'])]")
        .await?;
    let gone = bed.sql("select count(*) from benches where name = 'loft' and removed_at is null");
    assert_eq!(gone.trim(), "0");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_told_and_which_services_there_are_stands_on_the_page_of_the_team() -> Result<()> {
    let team = Services::start(&[]);
    let program = Told::start("program", &team.dir().join("calls"), 0);
    let browser = Browser::start().await?;
    // Each start makes a new code: that of the last one counts.
    become_owner(&browser, &team.one, &team.two.log()).await?;
    let page = |bed: &Testbed| format!("{}/team", bed.url());
    for (bed, other) in [(&team.one, &team.two), (&team.two, &team.one)] {
        browser.window.goto(&page(bed)).await?;
        let of = |bed: &Testbed| format!("//tr[td[text()='{}']]", bed.url());
        browser
            .find(&format!("{}[contains(., 'answers this page')]", of(bed)))
            .await?;
        browser
            .find(&format!("{}[contains(., 'heard')]", of(other)))
            .await?;
        browser.find("//tr[contains(., 'leads')]").await?;
    }
    fill(&browser, "to", "nowhere").await?;
    let names = "//form[.//input[@name='to']]//input[@name='name']";
    browser.find(names).await?.send_keys("alarm").await?;
    browser
        .press_in("//form[.//input[@name='to']]", "Add")
        .await?;
    browser.see("this service has no server for mail").await?;
    fill(&browser, "to", &program.url()).await?;
    let some = "//summary[text()='Only about some matters']";
    browser.find(some).await?.click().await?;
    for kind in ["job-failed", "space"] {
        let kind = format!("//input[@name='about'][@value='{kind}']");
        browser.find(&kind).await?.click().await?;
    }
    browser
        .press_in("//form[.//input[@name='to']]", "Add")
        .await?;
    let row = "//tr[td[text()='alarm']]";
    browser.see("job-failed, space").await?;
    browser.press_in(row, "Try").await?;
    browser.see("was told that this is a trial").await?;
    let got = program.until(1);
    assert!(got[0].contains("Maren tries whether"), "{got:?}");
    browser.press_in(row, "Remove").await?;
    browser
        .find("//body[not(.//tr[td[text()='alarm']])]")
        .await?;
    let left = team
        .one
        .sql("select count(*) from notice_ways where removed_at is null");
    assert_eq!(left.trim(), "0");
    Ok(())
}
