//! `make screenshots`: one current picture of each main page and command, made from the demo
//! data, into docs/screenshots/.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result};
use testbed::{Browser, Publisher, Testbed, binary, workspace};

#[tokio::main]
async fn main() -> Result<()> {
    let out = workspace().join("docs/screenshots");
    std::fs::create_dir_all(&out)?;
    let bed = Testbed::start_with(&["--private-addresses", "--loopback-person", "Marit"]);
    let images = workspace().join("demo/images");
    for entry in std::fs::read_dir(images.join("import"))?.flatten() {
        std::fs::copy(entry.path(), bed.import_dir().join(entry.file_name()))?;
    }
    let publisher = Publisher::start(&images.join("publisher"));
    let loaded = with_path(
        Command::new(workspace().join("demo/load"))
            .arg(&images)
            .arg(publisher.url("feed.json")),
        &bed,
    )
    .stdout(Stdio::null())
    .status()?;
    anyhow::ensure!(loaded.success(), "the scenario could not be loaded");
    let people = with_path(
        Command::new(workspace().join("demo/people"))
            .arg(bed.data_dir())
            .arg(bed.dir().join("config")),
        &bed,
    )
    .status()?;
    anyhow::ensure!(people.success(), "the people could not be let in");
    bed.done(&["write", "quay-02", "--slot", "2", "--yes", "C-0001"]);
    let reason = "before changing the antenna";
    let taken = bed.json(&["backup", "take", "--slot", "2", "--reason", reason]);
    let taken = taken["name"].as_str().unwrap_or_default();
    bed.done(&["backup", "prove", taken]);
    bed.done(&["backup", "take", "--slot", "2", "--unverified"]);
    bed.done(&[
        "backup",
        "keep",
        "--newest",
        "3",
        "--daily",
        "7",
        "--monthly",
        "12",
    ]);
    bed.put("chalk", 4);
    bed.done(&["write", "tide-north", "--slot", "4", "--yes", "C-0002"]);

    // A card with a history: checked, seen to fail in the field, its device down.
    bed.put("pumice", 3);
    let _ = bed.cli(&["card", "check", "--slot", "3", "--yes", "C-0003"]);
    bed.done(&[
        "card", "origin", "C-0002", "--brand", "Gull", "--batch", "2026-07", "--price", "9 EUR",
    ]);
    // One that is slow enough to be seen at work.
    bed.make_card("marram", "4GB", &["--rate", "14MB"]);
    bed.put("marram", 1);
    bed.done(&[
        "device",
        "out",
        "tide-north",
        "--reason",
        "reads the same level all day",
    ]);

    let browser = Browser::start().await?;
    let go = async |page: &str, text: &str| -> Result<()> {
        browser
            .window
            .goto(&format!("{}/{page}", bed.url()))
            .await?;
        browser.see(text).await?;
        Ok(())
    };
    let shot = |name: &str| -> PathBuf { out.join(format!("{name}.png")) };

    go("", "tide-north").await?;
    browser
        .press_in("//section[@aria-label='Slot 2']", "Write…")
        .await?;
    browser.find_out("Device", "quay-03").await?;
    browser.press("Show the plan").await?;
    browser.see("Lost:").await?;
    browser.picture(&shot("console-plan")).await?;
    browser.press("Close").await?;
    browser
        .press_in("//section[@aria-label='Slot 1']", "Write…")
        .await?;
    browser.find_out("Device", "quay-01").await?;
    browser.press("Show the plan").await?;
    browser.fill("sticker", "C-0004").await?;
    browser.press("Overwrite this card").await?;
    browser
        .find("//*[@role='dialog']//*[@role='progressbar'][number(@aria-valuenow) > 35]")
        .await?;
    browser.press("Close").await?;
    browser.picture(&shot("console-bench")).await?;
    browser
        .find("//section[@aria-label='Slot 1']//*[text()='ours']")
        .await?;
    for (name, page, text) in [
        ("console-device", "devices/quay-01", "verified"),
        ("console-card", "cards/C-0003", "forged"),
        ("console-devices", "devices", "tide-south"),
        ("console-catalogue", "catalogue", "in the catalogue"),
        (
            "console-release",
            "catalogue/toolpost%202026-06-01",
            "lost+found",
        ),
        (
            "console-compare",
            "compare/quaylink%202.3/quaylink%202.4",
            "driver-2.4",
        ),
        ("console-team", "team", "Let somebody in"),
        ("console-backups", "backups", "Nothing goes by it"),
        ("console-activity", "activity", "Backup of"),
    ] {
        go(page, text).await?;
        browser.picture(&shot(name)).await?;
    }
    for words in [
        &["vault", "inspect"][..],
        &["vault", "keep-records"],
        &["vault", "tidy"],
    ] {
        bed.done(words);
    }
    go("vault", "everything that is kept is whole").await?;
    browser.picture(&shot("console-vault")).await?;
    go("presets/workshop", "takes").await?;
    browser.picture(&shot("console-preset")).await?;
    go("devices/tool-saws", "Show what would land").await?;
    browser.press("Show what would land").await?;
    browser.see("/etc/toolpost/kiosk.conf").await?;
    browser.bring_up("Files on its card").await?;
    browser.picture(&shot("console-preview")).await?;
    let screen = Screen::start()?;
    bed.make_card("strand", "16GB", &["--rate", "14MB"]);
    bed.put("strand", 4);
    while bed.json(&["slot", "list"])[3]["card"]["occupant"] != "blank" {
        std::thread::sleep(Duration::from_millis(100));
    }
    screen.picture(
        &bed,
        "duplicarium slot list; duplicarium write quay-04 --slot 4 --yes C-0005; sleep 60",
        Duration::from_millis(4500),
        &shot("terminal-write"),
    )?;
    screen.picture(
        &bed,
        "duplicarium card show C-0003; duplicarium device show quay-01; sleep 60",
        Duration::from_millis(2500),
        &shot("terminal-records"),
    )?;
    screen.picture(
        &bed,
        "duplicarium release show 'toolpost 2026-06-01'; duplicarium device behind --level-too; sleep 60",
        Duration::from_millis(2500),
        &shot("terminal-release"),
    )?;
    // A board that arrives, as somebody sees it who stands before it.
    bed.standin(&["pull", "--slot", "2"]);
    bed.done(&["arrival", "expect", "quay-02", "--waits", "Ingrid"]);
    go("arrivals/1", "since the card went in").await?;
    bed.standin(&["boot", "flint", "--model", "curlew", "--seconds", "3"]);
    browser.see("known by its stamp").await?;
    browser.picture(&shot("console-arrival")).await?;

    // A round under way: a card to pull, one at work, one that does not count, a slot to fill.
    for (card, rate) in [("reed", "60MB"), ("rush", "3MB")] {
        bed.make_card(card, "4GB", &["--rate", rate]);
    }
    for slot in ["1", "4"] {
        bed.standin(&["pull", "--slot", slot]);
    }
    let round = bed.json(&[
        "round",
        "plan",
        "--title",
        "The quay again",
        "quay-03",
        "quay-04",
        "quay-05",
        "tide-south",
    ]);
    let id = round["round"]["id"].to_string();
    bed.done(&[
        "round",
        "begin",
        &id,
        "--cards",
        "4",
        "--accept",
        "second-card",
    ]);
    bed.put("reed", 1);
    go("large", "Pull it, with").await?;
    bed.put("rush", 4);
    browser
        .find("//*[@role='progressbar'][number(@aria-valuenow) > 45][ancestor::section]")
        .await?;
    browser.picture(&shot("console-large")).await
}

/// Puts the workspace's binaries on a command's path and points them at the testbed.
fn with_path<'a>(command: &'a mut Command, bed: &Testbed) -> &'a mut Command {
    let programs = binary("duplicarium");
    let programs = programs.parent().unwrap_or(Path::new("."));
    let path = std::env::var("PATH").unwrap_or_default();
    command
        .env("PATH", format!("{}:{path}", programs.display()))
        .env("DUPLICARIUM_SERVICE", bed.url())
        .env("DUPLICARIUM_STANDIN", bed.standin_address())
        .env("DUPLICARIUM_OPERATOR", "marit")
}

/// A screen of 1280 by 800 without a monitor.
struct Screen {
    server: Child,
    name: String,
}

impl Screen {
    fn start() -> Result<Self> {
        let name = format!(":{}", 90 + std::process::id() % 800);
        let server = Command::new("Xvfb")
            .args([&name, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
            .stderr(Stdio::null())
            .spawn()
            .context("Xvfb must be installed (Debian's package xvfb)")?;
        std::thread::sleep(Duration::from_secs(1));
        Ok(Self { server, name })
    }

    /// Runs a line of shell in a terminal that fills the screen, and keeps a picture of it.
    fn picture(&self, bed: &Testbed, line: &str, after: Duration, file: &Path) -> Result<()> {
        let mut terminal = Command::new("xterm");
        terminal
            .args([
                "-geometry",
                "127x42+0+0",
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                "12",
                "-bg",
                "#fffdf8",
                "-fg",
                "#24211c",
            ])
            .args(["-e", "sh", "-c", line])
            .env("DISPLAY", &self.name)
            .env("LC_ALL", "C.UTF-8");
        let mut terminal = with_path(&mut terminal, bed)
            .spawn()
            .context("xterm must be installed")?;
        std::thread::sleep(after);
        let taken = Command::new("import")
            .args(["-window", "root", "-display", &self.name])
            .arg(file)
            .status();
        terminal.kill()?;
        terminal.wait()?;
        anyhow::ensure!(
            taken.context("ImageMagick must be installed")?.success(),
            "no picture was taken"
        );
        Ok(())
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}
