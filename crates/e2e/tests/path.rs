//! The path through the whole job in a real browser: load a record, model it, tune it, and find it all again.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_e2e::{Application, Page, Result, binary, project};
use fantoccini::Locator;
use fantoccini::key::Key;

#[tokio::test(flavor = "multi_thread")]
async fn from_a_file_to_a_loop_that_holds() -> Result<()> {
    let mut application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // Home: loops by area, each with its trend.
    page.go(&application.address("/")).await?;
    page.shows("Brine heating").await?;
    page.until("the trends", "return document.querySelectorAll('main a svg[role=img]').length === 7").await?;
    page.click("TIC-310").await?;

    // The loop has a record and a physical model, A, that nobody chose; Control has a trial on the simulated plant.
    page.drawn().await?;
    page.go(&application.address("/loops/TIC-310/control")).await?;
    page.shows("more feed, then fouling").await?;

    // Measure: a CSV file with byte-order mark, semicolons, decimal commas and local time stamps.
    page.go(&application.address("/loops/TIC-310/measure")).await?;
    page.drawn().await?;
    let file = project().join("demo/records/TIC-204-doublet.csv").canonicalize()?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal comma").await?;
    page.click("Import").await?;
    page.shows("2026-03-05 14:30:00").await?;
    page.drawn().await?;

    // Model: fitted, with standard errors; the plant, a heater with valve and pipe, comes nearest to 0.88 °C/%, 97 s and 36 s.
    page.click("Model it").await?;
    page.drawn().await?;
    page.click("Fit").await?;
    page.shows("Model B").await?;
    page.drawn().await?;
    let cell = |row: u8, column: u8| {
        format!(
            "return parseFloat(document.querySelector('table[aria-label=Parameters] tbody tr:nth-child({row}) td:nth-child({column})').innerText)"
        )
    };
    for (row, truth) in [(1, 0.88), (2, 97.0), (3, 36.0)] {
        let value = page.script(&cell(row, 2)).await?.as_f64().ok_or("no value")?;
        let error = page.script(&cell(row, 3)).await?.as_f64().ok_or("no standard error")?;
        assert!(error > 0.0 && (value / truth - 1.0).abs() < 0.06, "row {row}: {value} ± {error}");
    }

    // Control: SIMC settings to begin with; a change redraws at once and goes to the trail.
    page.click("Control with it").await?;
    page.shows("model B, SIMC, τc").await?;
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
    page.shows("showing G").await?;
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
    page.shows("Model B").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_record_in_other_units_is_read_in_those_of_the_loop() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    // A lag of 20 samples and gain 1 °C/% about 70 °C, written down in °F: 1.8 T + 32.
    let directory = tempfile::TempDir::new()?;
    let file = directory.path().join("fahrenheit.csv");
    let mut lag = 0.0;
    let rows = (0..400).map(|k| {
        let op = if k < 100 { 40.0 } else { 46.0 };
        let row = format!("{k},{:.5},{op}\n", 32.0 + 1.8 * (70.0 + lag));
        lag += (op - 40.0 - lag) / 20.0;
        row
    });
    std::fs::write(&file, format!("t [s],TIC-204.PV [°F],TIC-204.OP [%]\n{}", rows.collect::<String>()))?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&file.to_string_lossy()).await?;
    page.shows("decimal point").await?;
    page.click("Import").await?;
    page.shows("fahrenheit.csv").await?;
    page.drawn().await?;
    // Findings and hand reading are in °C: 70 to 76 °C for 6 %.
    page.shows("The PV moves by 6 °C").await?;
    page.click("Read by hand").await?;
    page.shows("PV from").await?;
    page.shows("70 °C").await?;
    let gain =
        "return parseFloat(document.querySelector('table[aria-label=Readings] tbody td:nth-child(2)').innerText)";
    page.until("the gain", &format!("{gain} > 0")).await?;
    let read = page.script(gain).await?.as_f64().ok_or("no gain")?;
    assert!((read - 1.0).abs() < 0.02, "{read}");
    page.shows("No first-order model is fitted to this record").await?;
    // Only where it is prepared it stands in its own unit; a filter is laid over all channels alike unless told.
    page.click("Prepare").await?;
    page.shows("°F").await?;
    page.select("Add a step", "low_pass").await?;
    page.click("Apply").await?;
    page.shows("All channels filtered alike").await?;
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
    page.click("New model").await?;
    drop(application);
    page.click("Fit").await?;
    page.shows("The server does not answer").await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_is_planned_run_judged_prepared_read_and_modelled_in_several_ways() -> Result<()> {
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;

    // Plan: a PRBS on the simulated plant, with what expected of a fit of it; an amplitude that is too bold is warned of.
    page.go(&application.address("/loops/TIC-204/measure?view=plan")).await?;
    page.shows("expected of a fit").await?;
    page.select("Signal", "prbs").await?;
    page.shows("Clock").await?;
    page.click("Proposed: PV").await?;
    page.enter("Amplitude", "40").await?;
    page.shows("leaves the proposed range").await?;
    page.enter("Amplitude", "5").await?;
    // Nobody has said yet what is safe; once it is typed, the verdict may say so.
    page.shows("is only proposed. Type the safe range").await?;
    page.enter("PV no lower than", "60").await?;
    page.shows("stays within the range that is set as safe").await?;
    page.click("Run on the simulated plant").await?;
    page.shows("Test: prbs").await?;
    page.drawn().await?;
    // Judged at once.
    page.shows("times its noise").await?;
    page.shows("moves; 90 % of its power").await?;

    // Prepare: a step is laid over the record, switched off, taken away and brought back.
    page.click("Prepare").await?;
    page.select("Add a step", "low_pass").await?;
    page.click("Apply").await?;
    page.shows("forth and back").await?;
    let enabled = "document.querySelector('[aria-label=\"Step 1 is applied\"]')";
    page.until("the step", &format!("return {enabled} !== null && !{enabled}.disabled")).await?;
    page.script(&format!("{enabled}.click()")).await?;
    page.until("the step off", &format!("return {enabled}?.checked === false && !{enabled}.disabled")).await?;
    page.click("Undo").await?;
    page.until("the step on", &format!("return {enabled}?.checked === true && !{enabled}.disabled")).await?;
    page.client.find(Locator::Css("[aria-label='Take step 1 away']")).await?.click().await?;
    page.until("no step", &format!("return {enabled} === null")).await?;
    // What was done can be undone after a reload, too.
    page.client.refresh().await?;
    page.drawn().await?;
    page.click("Undo").await?;
    page.until("the step again", &format!("return {enabled}?.checked === true && !{enabled}.disabled")).await?;
    page.click("Redo").await?;
    page.until("no step once more", &format!("return {enabled} === null")).await?;

    // Read by hand on the step test: marks that can be dragged, and numbers near the plant's own (97 s, 36 s).
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.shows("Step test").await?;
    let rows = "document.querySelectorAll('table[aria-label=Records] tbody tr')";
    page.script(&format!("[...{rows}].find((row) => row.textContent.includes('Step test')).click()")).await?;
    page.click("Read by hand").await?;
    page.shows("Smith 1972").await?;
    page.drawn().await?;
    let cell = |row: u8, column: u8| {
        format!(
            "return parseFloat(document.querySelector('table[aria-label=Readings] tbody tr:nth-child({row}) td:nth-child({column})').innerText)"
        )
    };
    let dead_time = page.script(&cell(1, 3)).await?.as_f64().ok_or("no dead time")?;
    let time_constant = page.script(&cell(1, 4)).await?.as_f64().ok_or("no time constant")?;
    assert!((dead_time - 36.0).abs() < 8.0 && (time_constant - 97.0).abs() < 12.0, "{dead_time} {time_constant}");
    let gain = page.script(&cell(1, 2)).await?.as_f64().ok_or("no gain")?;
    // The level of the final value is a slider: nudged, the gain follows.
    let level = page.client.find(Locator::Css("[role=slider][aria-label='final value']")).await?;
    for _ in 0..8 {
        level.send_keys(&Key::Down.to_string()).await?;
    }
    page.until("another gain", &format!("{} !== {gain}", cell(1, 2))).await?;

    // Model: other structures, validated on the second half, all in the trail.
    page.go(&application.address("/loops/TIC-204/model")).await?;
    page.drawn().await?;
    // One model for the step test and the PRBS of before together; the curves of either are shown.
    page.click("New model").await?;
    page.select("Structure", "fopdt").await?;
    let record = "return [...document.querySelectorAll('select[aria-label=\"Fit to a further record\"] option')]
        .find((option) => option.text.startsWith('Test: prbs')).value";
    let record = page.script(record).await?.as_str().ok_or("no second record")?.to_owned();
    page.select("Fit to a further record", &record).await?;
    page.shows("the second half of the first").await?;
    page.key("f").await?;
    page.shows("fitted together").await?;
    page.shows("Step test + 1").await?;
    let shown =
        "document.querySelector('table[aria-label=\"Stretches of the fit\"] button[aria-pressed=true]').innerText";
    let other = "[...document.querySelectorAll('table[aria-label=\"Stretches of the fit\"] button')].at(-1)";
    page.script(&format!("{other}.click()")).await?;
    page.until("the other record", &format!("return {shown}.startsWith('Test: prbs')")).await?;
    page.drawn().await?;
    page.click("New model").await?;
    page.client.find(Locator::Css("button[aria-label^='Leave out stretch 2']")).await?.click().await?;
    page.click("Result").await?;
    for (kind, name) in [("output_error", "OE 2,2,1"), ("state_space", "SS"), ("two_lags", "two lags")] {
        page.click("New model").await?;
        page.select("Structure", kind).await?;
        page.key("f").await?;
        page.shows(name).await?;
        page.shows("one sample ahead").await?;
        page.drawn().await?;
    }
    // With a model of the noise, and steps that nothing measured explains sought: what was found stands in the result.
    page.click("New model").await?;
    page.select("Structure", "fopdt").await?;
    page.select("Noise", "autoregression").await?;
    page.click("find steps of the PV").await?;
    page.key("f").await?;
    page.shows("maximum likelihood with autoregressive noise").await?;
    page.shows("FOPDT + noise").await?;
    page.drawn().await?;
    page.click("New model").await?;
    page.select("Noise", "white").await?;
    page.click("find steps of the PV").await?;
    page.select("Structure", "two_lags").await?;
    // The same fit once more shows the model that is there.
    page.key("f").await?;
    page.shows("is this fit already").await?;
    page.shows("On data that the fit has not seen").await?;
    for (view, text) in [
        ("Residuals", "Autocorrelation of the residuals"),
        ("Step", "Step response"),
        ("Frequency", "Phase"),
        ("Poles", "Poles × and zeros"),
        ("Uncertainty", "Joint 95 % region"),
        ("Without a structure", "Step response from the data"),
        ("Orders", "BIC, less is better"),
        ("Over time", "PV and prediction"),
    ] {
        page.click(view).await?;
        page.shows(text).await?;
    }
    // A model is chosen for a reason, which a reload still shows.
    page.click("Curves").await?;
    let reason = page.client.find(Locator::Css("textarea")).await?;
    reason.clear().await?;
    reason.send_keys("the lag of the sensor is seen").await?;
    page.click("Choose it").await?;
    page.until(
        "the reason kept",
        "return document.querySelector('td strong[title=\"the lag of the sensor is seen\"]') !== null",
    )
    .await?;
    page.click("Try").await?;
    page.shows("half rule: τ").await?;
    page.click("Keep it in the trail").await?;
    page.shows("Reduced from model").await?;
    // Two are laid over each other.
    page.key("p").await?;
    page.key("j").await?;
    page.shows("pinned").await?;
    page.drawn().await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_long_import_shows_its_progress_and_can_be_cancelled() -> Result<()> {
    use std::io::Write;
    const ROWS: usize = 400_000;
    let application = Application::start(&binary()?)?;
    let page = Page::open(1280, 800).await?;
    page.go(&application.address("/loops/TIC-204/measure")).await?;
    page.drawn().await?;
    let directory = tempfile::TempDir::new()?;
    let path = directory.path().join("long.csv");
    let mut file = std::io::BufWriter::new(std::fs::File::create(&path)?);
    writeln!(file, "t,PV,OP,SP,FEED,X,Y")?;
    for k in 0..ROWS {
        writeln!(file, "{k},{},{},75,{},{},{}", 70 + k % 7, 40 + k / 1000 % 5, k % 11, k % 13, k % 17)?;
    }
    file.flush()?;
    page.client.find(Locator::Css("input[type=file]")).await?.send_keys(&path.to_string_lossy()).await?;
    page.shows("decimal point").await?;
    page.click("Import").await?;
    page.until("progress", "return document.querySelector('progress')?.value > 0").await?;
    page.click("Cancel the import").await?;
    page.shows("nothing was stored").await?;
    // Once more, to the end; it opens at once.
    page.click("Import").await?;
    page.shows(&ROWS.to_string()).await?;
    page.drawn().await?;
    page.close().await
}

#[tokio::test(flavor = "multi_thread")]
async fn fits_small_and_large_windows_without_scrolling() -> Result<()> {
    let application = Application::start(&binary()?)?;
    for (width, height) in [(1280, 800), (1024, 700), (1920, 1080)] {
        let page = Page::open(width, height).await?;
        for view in [
            "TIC-204/measure",
            "TIC-204/measure?view=plan",
            "TIC-204/model",
            "TIC-204/model?view=residuals",
            "TIC-204/model?view=time",
            "TIC-204/control",
            "TIC-310/control?view=balances",
            "TIC-310/control?view=operating",
            "TIC-204/control?view=frequency",
            "TIC-204/control?view=robustness",
        ] {
            page.go(&application.address(&format!("/loops/{view}"))).await?;
            page.drawn().await?;
            let root = "document.documentElement";
            let script = format!("return [{root}.scrollWidth - innerWidth, {root}.scrollHeight - innerHeight]");
            assert_eq!(page.script(&script).await?, serde_json::json!([0, 0]), "{view} at {width}×{height}");
            // Nor is a plot squeezed to nothing.
            let flat =
                "return [...document.querySelectorAll('.xy-plot')].filter((plot) => plot.clientHeight < 80).length";
            assert_eq!(page.script(flat).await?, 0, "{view} at {width}×{height}");
        }
        page.close().await?;
    }
    Ok(())
}
