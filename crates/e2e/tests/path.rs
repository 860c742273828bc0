//! The path through the whole job in a real browser: load a record, model it, tune it, and find it all again.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_e2e::{Application, Page, Result, project};
use fantoccini::Locator;
use fantoccini::key::Key;
use std::path::PathBuf;

/// The `antistasis` binary beside this test.
fn binary() -> Result<PathBuf> {
    let test = std::env::current_exe()?;
    let directory = test.ancestors().nth(2).ok_or("no target directory")?;
    let binary = directory.join("antistasis");
    if binary.exists() { Ok(binary) } else { Err("build it first: cargo build -p antistasis".into()) }
}

#[tokio::test(flavor = "multi_thread")]
async fn from_a_file_to_a_loop_that_holds() -> Result<()> {
    let mut application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // Home: loops by area, each with its trend.
    page.go(&application.address("/")).await?;
    page.shows("Brine heating").await?;
    let trends = page.script("return document.querySelectorAll('main svg[role=img] path').length").await?;
    assert_eq!(trends, 7);
    page.click("TIC-310").await?;

    // The loop has a record and no model yet, so Model is next; without one, Control says what is missing.
    page.drawn().await?;
    page.go(&application.address("/loops/TIC-310/control")).await?;
    page.shows("A trial needs a model").await?;

    // Measure: a CSV file with byte-order mark, semicolons, decimal commas and local time stamps.
    page.go(&application.address("/loops/TIC-310/measure")).await?;
    page.drawn().await?;
    let file = project().join("demo/records/TIC-204-doublet.csv").canonicalize()?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal comma").await?;
    page.click("Import").await?;
    page.shows("2026-03-05 14:30:00").await?;
    page.drawn().await?;

    // Model: fitted, with standard errors; the demo plant's own parameters are 0.85 °C/%, 95 s and 34.6 s.
    page.click("Model it").await?;
    page.drawn().await?;
    page.click("Fit").await?;
    page.shows("Model A").await?;
    page.drawn().await?;
    let cell = |row: u8, column: u8| {
        format!(
            "return parseFloat(document.querySelector('table[aria-label=Parameters] tbody tr:nth-child({row}) td:nth-child({column})').innerText)"
        )
    };
    for (row, truth) in [(1, 0.85), (2, 95.0), (3, 34.6)] {
        let value = page.script(&cell(row, 2)).await?.as_f64().ok_or("no value")?;
        let error = page.script(&cell(row, 3)).await?.as_f64().ok_or("no standard error")?;
        assert!(error > 0.0 && (value - truth).abs() < 5.0 * error, "row {row}: {value} ± {error}");
    }

    // Control: SIMC settings to begin with; a change redraws at once and goes to the trail.
    page.click("Control with it").await?;
    page.shows("SIMC, τc").await?;
    page.drawn().await?;
    page.shows("Stays stable until").await?;
    let gain = page.entry("Gain").await?;
    let before = gain.prop("value").await?.ok_or("no gain")?.parse::<f64>()?;
    let marker = "performance.getEntriesByName('antistasis-change-to-curve').length";
    for _ in 0..5 {
        let drawn = page.script(&format!("return {marker}")).await?;
        gain.send_keys(&Key::Up.to_string()).await?;
        page.until("the new curve", &format!("return {marker} > {drawn}")).await?;
    }
    let after = gain.prop("value").await?.ok_or("no gain")?.parse::<f64>()?;
    assert!(after > before, "{before} {after}");
    let times = page
        .script("return performance.getEntriesByName('antistasis-change-to-curve').map((entry) => entry.duration)")
        .await?;
    let mut times: Vec<f64> = times.as_array().ok_or("no times")?.iter().filter_map(|time| time.as_f64()).collect();
    times.sort_by(f64::total_cmp);
    println!("from key to curve: median {:.0} ms of {times:.0?}", times[times.len() / 2]);
    gain.send_keys(&Key::Enter.to_string()).await?;
    page.shows(&format!("gain {before} → {after}")).await?;

    // Laid over each other, compared with a pinned one, flipped.
    page.key("p").await?;
    page.shows("pinned").await?;
    page.key("j").await?;
    page.shows("flips").await?;
    page.key(" ").await?;
    page.shows("showing B").await?;
    page.key(" ").await?;

    // A value that cannot be is refused at the field, and the trial before it stays.
    page.enter("Integral time", "-5").await?;
    page.shows("allowed: above 0").await?;
    page.key(&Key::Escape.to_string()).await?;

    // A reload shows the same, and so does a restart of the server.
    let trail = "return document.querySelector('table[aria-label=Trials]').innerText";
    page.client.refresh().await?;
    page.shows("flips").await?;
    let kept = page.script(trail).await?;
    application.restart()?;
    page.client.refresh().await?;
    page.shows("flips").await?;
    assert_eq!(page.script(trail).await?, kept);

    // Keys: help, and another step.
    page.key("?").await?;
    page.shows("nudge the number").await?;
    page.key(&Key::Escape.to_string()).await?;
    page.key("2").await?;
    page.shows("Model A").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_cannot_be_taken_says_why() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    let directory = tempfile::TempDir::new()?;
    let file = directory.path().join("backwards.csv");
    std::fs::write(&file, "t,PV,OP\n0,1,2\n2,1,2\n1,1,2\n")?;
    let chooser = page.client.find(Locator::Css("input[type=file]")).await?;
    chooser.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal point").await?;
    page.click("Import").await?;
    page.shows("line 4: time runs backwards").await?;
    page.click("Cancel").await?;

    // The same by drop, with a fixed sample time in place of the column.
    let drop_file = r#"
        const data = new DataTransfer();
        const rows = Array.from({ length: 40 }, (_, k) => `${k % 7},${k < 20 ? 40 : 45}`);
        data.items.add(new File(["PV,OP\n" + rows.join("\n")], "dropped.csv", { type: "text/csv" }));
        const target = document.querySelector("[aria-label=Strip]");
        target.dispatchEvent(new DragEvent("drop", { dataTransfer: data, bubbles: true, cancelable: true }));
    "#;
    page.script(drop_file).await?;
    page.shows("dropped.csv").await?;
    page.shows("a row every").await?;
    let seconds = page.client.find(Locator::Css("[aria-label='Sample time in s']")).await?;
    seconds.clear().await?;
    seconds.send_keys("0,5").await?;
    page.click("Import").await?;
    page.shows("19.5 s").await?;

    // A loop that is not there.
    page.go(&application.address("/loops/XIC-9/measure")).await?;
    page.shows("there is no loop “XIC-9”").await?;

    // The server goes away: the page says so.
    page.go(&application.address("/loops/TIC-204/model")).await?;
    page.drawn().await?;
    drop(application);
    page.click("Fit").await?;
    page.shows("The server does not answer").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn fits_small_and_large_windows_without_scrolling() -> Result<()> {
    let application = Application::start(&binary()?)?;
    for (width, height) in [(1280, 800), (1024, 700), (1920, 1080)] {
        let page = Page::open(width, height).await?;
        for step in ["measure", "model", "control"] {
            page.go(&application.address(&format!("/loops/TIC-204/{step}"))).await?;
            page.drawn().await?;
            let root = "document.documentElement";
            let script = format!("return [{root}.scrollWidth - innerWidth, {root}.scrollHeight - innerHeight]");
            assert_eq!(page.script(&script).await?, serde_json::json!([0, 0]), "{step} at {width}×{height}");
        }
        page.close().await?;
    }
    Ok(())
}
