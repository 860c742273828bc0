//! How long it takes from a key to the redrawn curve, in Chromium: `reaction BINARY`. Prints rows of a table.

use antistasis_e2e::{Application, Page, Result};
use fantoccini::key::Key;
use std::path::PathBuf;

/// Key presses that count, and those before them, in which the program of the page is compiled.
const PRESSES: usize = 25;
const FIRST: usize = 4;

#[tokio::main]
async fn main() -> Result<()> {
    let binary = PathBuf::from(std::env::args().nth(1).ok_or("give the antistasis binary")?);
    let application = Application::start(&binary)?;
    let page = Page::open(1280, 800).await?;
    println!("| from key to curve, on loopback in Chromium | median | nine of ten |\n|---|---|---|");
    for (tag, duration, what) in [
        ("TIC-204", None, "first order with dead time, 25 minutes"),
        ("TIC-310", None, "exothermic stirred reactor with a cooling jacket"),
        ("TIC-501", Some("7 d"), "heated hall, a week"),
    ] {
        page.go(&application.address(&format!("/loops/{tag}/control"))).await?;
        page.drawn().await?;
        if tag == "TIC-501" {
            // The trial with a gain: the first one, a split range.
            let first = "[...document.querySelectorAll('tr')].find((row) => row.cells[0]?.textContent?.trim().startsWith('A')).click()";
            page.script(first).await?;
            page.shows("heats below").await?;
            page.drawn().await?;
        }
        if let Some(duration) = duration {
            page.click("Scenario").await?;
            page.enter("Duration", duration).await?;
            page.drawn().await?;
            page.click("Candidate").await?;
        }
        let marker = "performance.getEntriesByName('antistasis-change-to-curve')";
        let gain = page.entry("Gain").await?;
        page.script("performance.clearMeasures()").await?;
        for k in 0..FIRST + PRESSES {
            let key = if k % 2 == 0 { Key::Up } else { Key::Down };
            gain.send_keys(&key.to_string()).await?;
            page.until("the new curve", &format!("return {marker}.length > {k}")).await?;
        }
        let times = page.script(&format!("return {marker}.map((entry) => entry.duration)")).await?;
        let times = times.as_array().ok_or("no times")?;
        let mut times: Vec<f64> = times.iter().skip(FIRST).filter_map(serde_json::Value::as_f64).collect();
        times.sort_by(f64::total_cmp);
        let at = |share: f64| times[(share * (times.len() - 1) as f64).round() as usize];
        println!("| {tag}: {what} | {:.0} ms | {:.0} ms |", at(0.5), at(0.9));
    }
    page.close().await
}
