//! Debian's Chromium, headless, driven from tests.

use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use serde_json::Value;
use thirtyfour::{By, ChromiumLikeCapabilities, DesiredCapabilities, WebDriver, WebElement};

use crate::postgres::free_port;

/// Debian's Chromium, headless, driven through its own driver.
pub struct Browser {
    /// The driver, for what is not here.
    pub driver: WebDriver,
    process: Child,
    _profile: tempfile::TempDir,
}

/// How long a page may take to show something.
const PATIENCE: Duration = Duration::from_secs(15);

/// The repository.
fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// Builds the console where it is out of date: the service of a debug build reads its assets from there.
fn build_console() {
    static BUILT: OnceLock<()> = OnceLock::new();
    BUILT.get_or_init(|| {
        let status = Command::new(root().join("script/console"))
            .status()
            .expect("script/console runs");
        assert!(status.success(), "the console cannot be built");
    });
}

impl Browser {
    /// Starts a browser with a window of this size; `scheme` is `light` or `dark`.
    ///
    /// # Panics
    /// When Debian's packages `chromium` and `chromium-driver` are not installed.
    pub async fn start(width: u32, height: u32, scheme: &str) -> Self {
        build_console();
        let profile = tempfile::tempdir().expect("a temporary folder");
        let port = free_port();
        let process = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .expect(
                "chromedriver is installed (Debian: apt-get install chromium chromium-driver; script/test does it)",
            );
        let mut capabilities = DesiredCapabilities::chrome();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            &format!("--window-size={width},{height}"),
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            capabilities.add_arg(argument).expect("an argument is text");
        }
        let until = Instant::now() + PATIENCE;
        let driver = loop {
            match WebDriver::new(format!("http://127.0.0.1:{port}"), capabilities.clone()).await {
                Ok(driver) => break driver,
                Err(error) => assert!(Instant::now() < until, "Chromium does not start: {error}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let browser = Self {
            driver,
            process,
            _profile: profile,
        };
        let tools = browser.driver.cdp();
        let metrics = serde_json::json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        tools
            .send_raw("Emulation.setDeviceMetricsOverride", metrics)
            .await
            .expect("the window can be sized");
        let media = serde_json::json!({"features": [{"name": "prefers-color-scheme", "value": scheme}]});
        tools
            .send_raw("Emulation.setEmulatedMedia", media)
            .await
            .expect("the scheme can be chosen");
        browser
    }

    /// Opens a page.
    ///
    /// # Panics
    /// When it cannot be opened.
    pub async fn open(&self, url: &str) {
        self.driver.goto(url).await.expect("the page opens");
    }

    /// Waits for the element of a CSS selector.
    ///
    /// # Panics
    /// When it does not appear.
    pub async fn find(&self, css: &str) -> WebElement {
        let until = Instant::now() + PATIENCE;
        loop {
            if let Ok(found) = self.driver.find(By::Css(css)).await {
                return found;
            }
            assert!(
                Instant::now() < until,
                "`{css}` does not appear; the page says:\n{}",
                self.text().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Waits for the button, link or checkbox of a name; a checkbox has that of its label.
    ///
    /// # Panics
    /// When it does not appear.
    pub async fn named(&self, role: &str, name: &str) -> WebElement {
        let path = match role {
            "checkbox" => format!("//label[normalize-space(.)='{name}']//input[@type='checkbox']"),
            "link" => format!("//a[normalize-space(.)='{name}' or @aria-label='{name}']"),
            _ => format!("//button[normalize-space(.)='{name}' or @aria-label='{name}']"),
        };
        let until = Instant::now() + PATIENCE;
        loop {
            if let Ok(found) = self.driver.find(By::XPath(path.as_str())).await {
                return found;
            }
            assert!(
                Instant::now() < until,
                "no {role} is named `{name}`; the page says:\n{}",
                self.text().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Chooses an option of a list, both by what they are called.
    ///
    /// # Panics
    /// When it does not appear.
    pub async fn choose(&self, list: &str, option: &str) {
        let path = format!("//select[@aria-label='{list}']/option[normalize-space(.)='{option}']");
        let until = Instant::now() + PATIENCE;
        loop {
            if let Ok(found) = self.driver.find(By::XPath(path.as_str())).await {
                found.click().await.expect("an option can be chosen");
                return;
            }
            assert!(
                Instant::now() < until,
                "{list} has no {option}; the page says:\n{}",
                self.text().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// The texts of all elements that a CSS selector finds now.
    ///
    /// # Panics
    /// When the browser does not answer.
    pub async fn texts(&self, css: &str) -> Vec<String> {
        let mut texts = vec![];
        for element in self.driver.find_all(By::Css(css)).await.expect("the browser answers") {
            texts.push(element.text().await.expect("the element is there"));
        }
        texts
    }

    /// All text of the page.
    ///
    /// # Panics
    /// When there is no page.
    pub async fn text(&self) -> String {
        let value = self
            .driver
            .execute("return document.body.innerText", vec![])
            .await
            .expect("the page has text");
        value.json().as_str().unwrap_or_default().to_owned()
    }

    /// Waits until the page says something.
    ///
    /// # Panics
    /// When it does not.
    pub async fn sees(&self, text: &str) {
        let until = Instant::now() + PATIENCE;
        loop {
            let shown = self.text().await;
            if shown.contains(text) {
                return;
            }
            assert!(
                Instant::now() < until,
                "`{text}` does not appear; the page says:\n{shown}"
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Presses keys, one after another, wherever the focus is.
    ///
    /// # Panics
    /// When there is no page.
    pub async fn press(&self, keys: &str) {
        self.driver
            .active_element()
            .await
            .expect("something has the focus")
            .send_keys(keys)
            .await
            .expect("keys can be pressed");
    }

    /// Signs in on the sign-in page.
    ///
    /// # Panics
    /// When the form is not there.
    pub async fn sign_in(&self, email: &str, password: &str) {
        for (field, text) in [("input[type=email]", email), ("input[type=password]", password)] {
            let field = self.find(field).await;
            field.clear().await.expect("a field can be cleared");
            field.send_keys(text).await.expect("a field takes text");
        }
        self.named("button", "Sign in")
            .await
            .click()
            .await
            .expect("a button can be pressed");
    }

    /// What axe-core finds wrong with the page: rule and element.
    ///
    /// # Panics
    /// When axe-core is not installed with the console.
    pub async fn violations(&self) -> Vec<String> {
        let axe = std::fs::read_to_string(root().join("console/node_modules/axe-core/axe.min.js"))
            .expect("axe-core is installed");
        self.driver.execute(axe, vec![]).await.expect("axe-core loads");
        let script = "const done = arguments[arguments.length - 1]; axe.run(document).then((found) => \
            done(found.violations.map((v) => v.id + ': ' + v.nodes.map((n) => n.html.slice(0, 160) + ' ' + \
            n.failureSummary).join(' | '))));";
        let found = self.driver.execute_async(script, vec![]).await.expect("axe-core runs");
        found
            .json()
            .as_array()
            .into_iter()
            .flatten()
            .filter_map(Value::as_str)
            .map(str::to_owned)
            .collect()
    }

    /// How far the page is wider than its window, in pixels.
    ///
    /// # Panics
    /// When there is no page.
    pub async fn overflow(&self) -> i64 {
        let script = "return document.documentElement.scrollWidth - window.innerWidth";
        self.driver
            .execute(script, vec![])
            .await
            .expect("the page has a width")
            .json()
            .as_i64()
            .unwrap_or_default()
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // Driver and browser are one process group; a driver that is killed alone leaves its Chromium behind.
        drop(
            Command::new("kill")
                .args(["-KILL", "--", &format!("-{}", self.process.id())])
                .stderr(Stdio::null())
                .status(),
        );
        drop(self.process.kill());
        drop(self.process.wait());
    }
}
