//! Headless Chromium from Debian's packages, driven over WebDriver.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result};
use fantoccini::elements::Element;
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;

const PATIENCE: Duration = Duration::from_secs(40);

/// A browser window of 1280 by 800, gone when this is dropped.
pub struct Browser {
    /// The WebDriver client.
    pub window: Client,
    driver: Child,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Starts driver and browser with a fresh profile.
    pub async fn start() -> Result<Self> {
        let profile = tempfile::tempdir()?;
        let port = super::free_port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("chromedriver must be installed (Debian's package chromium-driver)")?;
        let args = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--window-size=1280,800",
            &format!("--user-data-dir={}", profile.path().display()),
        ];
        let capabilities = serde_json::json!({ "goog:chromeOptions": { "args": args, "binary": "/usr/bin/chromium" } });
        let capabilities = capabilities.as_object().cloned().unwrap_or_default();
        let mut tries = 0;
        let window = loop {
            let mut builder = ClientBuilder::new(HttpConnector::new());
            builder.capabilities(capabilities.clone());
            match builder.connect(&format!("http://127.0.0.1:{port}")).await {
                Ok(window) => break window,
                Err(e) if tries > 100 => return Err(e).context("the browser did not start"),
                Err(_) => {
                    tries += 1;
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
            }
        };
        // The window's frame counts too: the page itself shall have 1280 by 800.
        window.set_window_size(1280, 800).await?;
        let inner = window
            .execute("return [window.innerWidth, window.innerHeight]", Vec::new())
            .await?;
        let missing = |at: usize, wanted: i64| wanted - inner[at].as_i64().unwrap_or(wanted);
        window
            .set_window_size(
                (1280 + missing(0, 1280)) as u32,
                (800 + missing(1, 800)) as u32,
            )
            .await?;
        Ok(Self {
            window,
            driver,
            _profile: profile,
        })
    }

    /// Waits for an element by XPath.
    pub async fn find(&self, xpath: &str) -> Result<Element> {
        let wait = self.window.wait().at_most(PATIENCE);
        let found = wait.for_element(Locator::XPath(xpath)).await;
        if found.is_err() {
            let page = super::workspace().join("target/failed-page.png");
            self.picture(&page).await?;
            eprintln!("the page as it was: {}", page.display());
        }
        found.with_context(|| format!("the page never showed {xpath}"))
    }

    /// Waits for a text anywhere on the page; gives the innermost element that holds all of it.
    pub async fn see(&self, text: &str) -> Result<Element> {
        let holds = format!("contains(normalize-space(.), {})", quoted(text.trim()));
        self.find(&format!("//body//*[{holds}][not(.//*[{holds}])]"))
            .await
    }

    /// Presses the button with this text, once it can be pressed.
    pub async fn press(&self, text: &str) -> Result<()> {
        self.press_in("", text).await
    }

    /// Clicks on what an XPath names; where the page was drawn anew in between, on what is there now.
    async fn click(&self, xpath: &str) -> Result<()> {
        for _ in 0..4 {
            match self.find(xpath).await?.click().await {
                Err(e) if e.is_stale_element_reference() => continue,
                done => return done.with_context(|| format!("{xpath} could not be clicked on")),
            }
        }
        Ok(self.find(xpath).await?.click().await?)
    }

    /// Presses a button inside the part of the page that an XPath names.
    pub async fn press_in(&self, within: &str, text: &str) -> Result<()> {
        let button = format!(
            "{within}//button[not(@disabled)][normalize-space()={}]",
            quoted(text)
        );
        self.click(&button).await
    }

    /// Follows a link with this text inside the part of the page that an XPath names.
    pub async fn follow_in(&self, within: &str, text: &str) -> Result<()> {
        let link = format!("{within}//a[normalize-space()={}]", quoted(text));
        self.click(&link).await
    }

    /// Types into the field with this label, in place of what stands there.
    pub async fn fill(&self, label: &str, text: &str) -> Result<()> {
        let field = self
            .find(&format!(
                "//label[contains(., {0})]//input | //*[@id=//label[contains(., {0})]/@for]",
                quoted(label)
            ))
            .await?;
        field.click().await?;
        // Control and A select what stands there, so that it is replaced.
        Ok(field.send_keys(&format!("\u{e009}a\u{e000}{text}")).await?)
    }

    /// Accepts a caution by its name.
    pub async fn accept(&self, name: &str) -> Result<()> {
        let boxed = format!("//label[.//*[normalize-space()='{name}']]/input[@type='checkbox']");
        Ok(self.find(&boxed).await?.click().await?)
    }

    /// Chooses in the list with this label, by value.
    pub async fn choose(&self, label: &str, value: &str) -> Result<()> {
        let option = format!(
            "(//label[contains(., {0})]//select | //select[@id=//label[contains(., {0})]/@for])\
             /option[@value={1} or .={1}]",
            quoted(label),
            quoted(value)
        );
        self.click(&option).await
    }

    /// Types into the field with this label that finds things, and takes the one of this name.
    pub async fn find_out(&self, label: &str, name: &str) -> Result<()> {
        self.fill(label, name).await?;
        let option = format!("//ul[@role='listbox']/li[span[text()={}]]", quoted(name));
        self.click(&option).await
    }

    /// Gives a file to the file field of this name.
    pub async fn choose_file(&self, name: &str, file: &Path) -> Result<()> {
        let field = self.find(&format!("//input[@name='{name}']")).await?;
        Ok(field.send_keys(&file.to_string_lossy()).await?)
    }

    /// Scrolls a text to the top of the window.
    pub async fn bring_up(&self, text: &str) -> Result<()> {
        let element = self.see(text).await?;
        let argument = serde_json::to_value(&element)?;
        let script = "arguments[0].scrollIntoView({ block: 'start' })";
        self.window.execute(script, vec![argument]).await?;
        Ok(())
    }

    /// Keeps a picture of the page.
    pub async fn picture(&self, file: &Path) -> Result<()> {
        std::fs::write(file, self.window.screenshot().await?)?;
        Ok(())
    }

    /// All text of the page.
    pub async fn text(&self) -> Result<String> {
        Ok(self.find("//body").await?.text().await?)
    }
}

fn quoted(text: &str) -> String {
    format!("\"{text}\"")
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
