//! The report in a browser, at the width of a desk and of a phone, in light and dark: judged by axe-core, and by the
//! browser itself for what does not fit.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value;

use super::support::{has, lantern, not_compared, run, target};

/// Runs in the page: what axe-core finds, how much wider the page is than its window, and whether filter and order work.
const JUDGE: &str = r##"
axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"] }).then(function (found) {
  var input = document.querySelector("#inventory input[type=search]"), rows = document.querySelectorAll("#inventory tbody tr");
  var shown = function () { return Array.prototype.filter.call(rows, function (row) { return !row.hidden; }).length; };
  var all = shown();
  input.value = "chartdesk"; input.dispatchEvent(new Event("input"));
  var some = shown();
  input.value = ""; input.dispatchEvent(new Event("input"));
  var button = document.querySelector("#inventory thead button"), body = document.querySelector("#inventory tbody");
  button.click(); button.click();
  var told = {
    violations: found.violations.map(function (one) { return one.id + ": " + one.nodes.length + ": " + one.nodes[0].html + " " + one.nodes[0].failureSummary; }),
    passes: found.passes.map(function (one) { return one.id; }),
    overhang: document.documentElement.scrollWidth - document.documentElement.clientWidth,
    width: document.documentElement.clientWidth,
    all: all, some: some,
    last: body.rows[0].cells[0].textContent
  };
  parent.postMessage(JSON.stringify(told), "*");
});
"##;

/// A window of a given width around the page, which takes what the page says.
const WINDOW: &str = r#"<!doctype html><title>window</title><pre id="told"></pre>
<script>addEventListener("message", function (event) { document.getElementById("told").textContent = event.data; });</script>
<iframe src="page.html" width="WIDTH" height="844"></iframe>"#;

fn judge() -> PathBuf {
    target().join("tools/javascript/node_modules/axe-core/axe.min.js")
}

/// What is told of a page in a window of this width.
fn told(dir: &Path, page: &str, axe: &str, width: u32) -> Value {
    // The judge is let in, which the page's own policy would not do.
    let (start, rest) = page.split_once("<meta http-equiv=\"Content-Security-Policy\"").unwrap();
    let (_, rest) = rest.split_once('>').unwrap();
    let judged = rest.replace("</body>", &format!("<script>{axe}</script><script>{JUDGE}</script></body>"));
    fs::write(dir.join("page.html"), format!("{start}{judged}")).unwrap();
    let window = dir.join("window.html");
    fs::write(&window, WINDOW.replace("WIDTH", &width.to_string())).unwrap();
    let mut browser = Command::new("chromium");
    browser.args([
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--hide-scrollbars",
        "--allow-file-access-from-files",
    ]);
    browser.args(["--virtual-time-budget=60000", "--window-size=1400,1000", "--dump-dom"]);
    browser.arg(format!("--user-data-dir={}", dir.join("profile").display()));
    let ran = browser.arg(format!("file://{}", window.display())).output().unwrap();
    let dom = String::from_utf8_lossy(&ran.stdout).into_owned();
    let text = dom.split("<pre id=\"told\">").nth(1).and_then(|rest| rest.split("</pre>").next()).unwrap_or_default();
    let text = text.replace("&lt;", "<").replace("&gt;", ">").replace("&amp;", "&");
    serde_json::from_str(&text)
        .unwrap_or_else(|error| panic!("{error}: {text:?} {}", String::from_utf8_lossy(&ran.stderr)))
}

#[test]
fn the_report_can_be_read_by_everyone_at_a_desk_and_on_a_phone() {
    if !has(&["chromium"]) {
        return;
    }
    let Ok(axe) = fs::read_to_string(judge()) else {
        return not_compared("the report: axe-core is not installed (.ci/run installs it)");
    };
    let page = run(["report", "--root", lantern().to_str().unwrap()]).out;
    let dir = tempfile::tempdir().unwrap();
    let dark = page.replace("@media (prefers-color-scheme:dark)", "@media all");
    assert_ne!(page, dark);
    for (page, width) in [(&page, 1280), (&page, 390), (&dark, 1280)] {
        let told = told(dir.path(), page, &axe, width);
        assert_eq!(told["violations"], Value::Array(Vec::new()), "at {width}");
        for rule in ["color-contrast", "label", "scrollable-region-focusable", "heading-order", "region"] {
            assert!(told["passes"].as_array().unwrap().iter().any(|one| one == rule), "{rule} was not judged: {told}");
        }
        assert_eq!((&told["overhang"], &told["width"]), (&Value::from(0), &Value::from(width)), "{told}");
        // Its own script filters, and sorts the other way round.
        assert!(told["some"].as_u64() > Some(0) && told["some"].as_u64() < told["all"].as_u64(), "{told}");
        assert_eq!(told["last"], "zsh", "{told}");
    }
}
