//! A headless Chromium: what tests of the console do in it.

use std::process::{Command, Stdio};
use std::time::Duration;

use thirtyfour::prelude::*;

use crate::harness::{Node, Running, free_ports, until};

pub(crate) struct Browser {
    pub(crate) driver: WebDriver,
    _process: Running,
    _profile: tempfile::TempDir,
}

impl Browser {
    pub(crate) async fn start() -> Browser {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let [port] = free_ports();
        let process = Command::new("chromedriver").arg(format!("--port={port}")).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        let process = Running(process.expect("chromedriver is installed (`make tools`)"));
        let profile = tempfile::tempdir().unwrap();
        let mut caps = DesiredCapabilities::chrome();
        caps.set_binary("/usr/bin/chromium").unwrap();
        for arg in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--window-size=1280,800",
        ] {
            caps.add_arg(arg).unwrap();
        }
        caps.add_arg(&format!("--user-data-dir={}", profile.path().display())).unwrap();
        let driver = until("the browser starts", async || WebDriver::new(format!("http://127.0.0.1:{port}"), caps.clone()).await.ok()).await;
        Browser { driver, _process: process, _profile: profile }
    }

    pub(crate) async fn text(&self) -> String {
        match self.driver.find(By::Tag("body")).await {
            Ok(body) => body.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }

    pub(crate) async fn sees(&self, what: &str) {
        let mut last = String::new();
        let begun = std::time::Instant::now();
        while begun.elapsed() < Duration::from_secs(30) {
            last = self.text().await;
            if last.contains(what) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("the page does not show {what:?}, but:\n{last}");
    }

    pub(crate) async fn find(&self, css: &str) -> WebElement {
        until(css, async || self.driver.find(By::Css(css)).await.ok()).await
    }

    /// Presses the button that says just this.
    pub(crate) async fn click(&self, says: &str) {
        self.press("button", says).await;
    }

    /// Follows the link that says just this.
    pub(crate) async fn follow(&self, says: &str) {
        self.press("a", says).await;
    }

    async fn press(&self, what: &str, says: &str) {
        let path = format!("//{what}[normalize-space()='{says}']");
        until(says, async || self.driver.find(By::XPath(&path)).await.ok()).await.click().await.unwrap();
    }

    /// Signs in by a link, which a click confirms.
    pub(crate) async fn sign_in(&self, node: &Node) {
        let link = node.json(&["link"])["url"].as_str().unwrap().to_owned();
        self.driver.goto(&link).await.unwrap();
        self.click("Sign in to this console").await;
    }

    pub(crate) async fn script(&self, code: &str) -> serde_json::Value {
        self.driver.execute(code, Vec::new()).await.unwrap().json().clone()
    }

    /// Types keys, wherever the focus is.
    pub(crate) async fn keys(&self, keys: impl Into<TypingData>) {
        self.driver.action_chain().send_keys(keys).perform().await.unwrap();
    }

    /// Holds one key while others are typed.
    pub(crate) async fn chord(&self, held: Key, keys: impl Into<TypingData>) {
        self.driver.action_chain().key_down(held.clone()).send_keys(keys).key_up(held).perform().await.unwrap();
    }

    /// What is focused, by the name that a screen reader says.
    async fn focus(&self) -> String {
        let name = "const e = document.activeElement; const label = e.labels?.[0]?.innerText; return (e.getAttribute('aria-label') || label || e.innerText || '').replace(/\\s+/g, ' ').trim()";
        self.script(name).await.as_str().unwrap_or_default().to_owned()
    }

    async fn by_tab(&self, back: bool, wanted: impl Fn(&str) -> bool, what: &str) {
        let mut passed = Vec::new();
        let begun = std::time::Instant::now();
        // What is wanted may not stand there yet: then the keyboard goes round once more.
        while begun.elapsed() < Duration::from_secs(30) {
            if back {
                self.chord(Key::Shift, Key::Tab + "").await;
            } else {
                self.keys(Key::Tab + "").await;
            }
            let focus = self.focus().await;
            if wanted(&focus) {
                return;
            }
            passed.push(focus);
        }
        panic!("by Tab one does not come to {what:?}, but to {passed:?}");
    }

    /// Goes by Tab alone to what is called so.
    pub(crate) async fn tab_to(&self, name: &str) {
        self.by_tab(false, |focus| focus == name, name).await;
    }

    /// The same, by the beginning of the name.
    pub(crate) async fn tab_to_start(&self, name: &str) {
        self.by_tab(false, |focus| focus.starts_with(name), name).await;
    }

    /// The same, backwards.
    pub(crate) async fn back_to(&self, name: &str) {
        self.by_tab(true, |focus| focus == name, name).await;
    }

    /// The same, backwards, by the beginning of the name.
    pub(crate) async fn back_to_start(&self, name: &str) {
        self.by_tab(true, |focus| focus.starts_with(name), name).await;
    }

    /// Waits until what is called so has the focus.
    pub(crate) async fn focused(&self, name: &str) {
        until(name, async || (self.focus().await == name).then_some(())).await;
    }

    /// Waits until something has the focus whose name begins so.
    pub(crate) async fn focused_start(&self, name: &str) {
        until(name, async || self.focus().await.starts_with(name).then_some(())).await;
    }

    /// Waits until this is offered where a sentence is written.
    pub(crate) async fn offered(&self, text: &str) {
        let path = format!("//*[@role='listbox' and not(@hidden)]//code[normalize-space()='{text}']");
        until(text, async || self.driver.find(By::XPath(&path)).await.ok()).await;
    }

    /// Waits until a field holds this.
    pub(crate) async fn value_of(&self, label: &str, value: &str) {
        let field = self.find(&format!("[aria-label='{label}']")).await;
        until(value, async || (field.prop("value").await.ok()??.trim() == value).then_some(())).await;
    }

    /// Shows the page on a screen of this size, in CSS pixels.
    pub(crate) async fn screen(&self, width: u32, height: u32) {
        let size = serde_json::json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500 });
        self.driver.cdp().send_raw("Emulation.setDeviceMetricsOverride", size).await.unwrap();
    }

    /// The page does not have to be scrolled sideways.
    pub(crate) async fn fits(&self, page: &str) {
        let wide = "const e = document.scrollingElement; if (e.scrollWidth <= e.clientWidth) return []; \
                    return [...document.querySelectorAll('body *')].filter((o) => o.getBoundingClientRect().right > e.clientWidth + 1 && !o.closest('.overflow-x-auto')) \
                    .map((o) => `${o.tagName} ${o.className}: ${(o.innerText ?? '').slice(0, 40)}`).slice(0, 5)";
        let over = self.script(wide).await;
        assert_eq!(over, serde_json::json!([]), "{page} is wider than the screen");
        let spilt = "const scrolls = (e) => e !== null && (getComputedStyle(e).overflowX !== 'visible' || scrolls(e.parentElement)); \
                     return [...document.querySelectorAll('main *')].filter((e) => e.scrollWidth > e.clientWidth + 2 && e.clientWidth > 0 && e.checkVisibility() && getComputedStyle(e).display !== 'inline' && !e.closest('svg') && !scrolls(e)) \
                     .map((e) => `${e.tagName} ${e.className}: ${e.scrollWidth} in ${e.clientWidth}: ${(e.innerText ?? '').slice(0, 40)}`).slice(0, 5)";
        assert_eq!(self.script(spilt).await, serde_json::json!([]), "{page} has parts that run over what is beside them");
    }

    /// Nothing on the page is against the rules of accessibility, in light and in dark.
    pub(crate) async fn without_violations(&self, page: &str) {
        let rules = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js")).unwrap();
        self.script(&format!("if (!window.axe) {{ {rules} }} return null")).await;
        for theme in ["light", "dark"] {
            self.script(&format!("document.documentElement.dataset.theme = '{theme}'; return null")).await;
            let ask = "const done = arguments[arguments.length - 1]; window.axe.run(document, { resultTypes: ['violations'] }).then(r => done(r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ') + ' – ' + n.failureSummary).join('; '))), e => done([String(e)]))";
            let found = self.driver.execute_async(ask, Vec::new()).await.unwrap().json().clone();
            assert_eq!(found, serde_json::json!([]), "{page}, {theme}");
        }
        self.script("delete document.documentElement.dataset.theme; return null").await;
    }
}
